package client_test

import (
	"context"
	"encoding/json"
	"fmt"

	"kamerad.example/client"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

type text struct{}

func (text) Set(words string) { fmt.Println(words) }

// A client shows its own diver's hull and uses a patch. It needs a service that runs.
func Example() {
	ctx := context.Background()
	var label text
	c, err := client.Join(ctx, "http://127.0.0.1:7707", 1, "Ana", "", client.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	stop := c.Follow("hull",
		func(t *replicate.Entity) bool { return t.Kind == "Diver" && t.Owner == c.Me().Number },
		func(t *replicate.Entity, now wire.Field, old *contract.Value) { label.Set(now.Type.Format(now.Value)) })
	defer stop()
	d, err := c.Ask(ctx, 0, "Diver.use", json.RawMessage(`"patch"`))
	fmt.Println(d.Outcome, err)
}
