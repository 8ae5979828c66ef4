// Package demo holds Tidewreck, the scenario that Kamerad is shown with, and bots that play it.
//
// Contract is its text and Files what it includes; Play has a client act as a diver would until its context ends.
// Nothing in the product needs this package but the command that starts the demo.
package demo

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"time"

	"kamerad.example/client"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// Contract is the text of Tidewreck.
//
//go:embed tidewreck.kam
var Contract string

//go:embed wreck.json
var wreck string

// Files are what the contract takes tables from.
var Files = contract.Files{"wreck.json": wreck}

// Play lets a client that has joined as a diver play until ctx ends or the session closes, and then gives its seat up.
// The same seed gives the same choices where the dive is the same. pause is the time between two requests.
func Play(ctx context.Context, c *client.Client, seed uint64, pause time.Duration) error {
	defer c.Close()
	dice := rand.New(rand.NewPCG(seed, 7))
	ticker := time.NewTicker(pause)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-c.Ended():
			slog.Info("a bot is done", "name", c.Me().Name, "reason", c.Reason())
			return nil
		case <-ticker.C:
		}
		request, args := choose(c, dice)
		if request == "" {
			continue
		}
		if request == swim {
			if _, err := c.Write(0, request, args[0]); err != nil {
				return err
			}
			continue
		}
		limited, cancel := context.WithTimeout(ctx, 5*time.Second)
		d, err := c.Forge(limited, 0, request, args...)
		cancel()
		if err == nil && d.Outcome == wire.Denied {
			c.Log(fmt.Sprintf("%s: %s", request, d.Reason)) // as a game would put it into its log
		}
		if err != nil && ctx.Err() == nil && c.Reason() == "" {
			return err
		}
	}
}

// swim is the property that a diver writes itself.
const swim = "Diver.pos"

// choose picks what a diver does next from what it holds. Now and then it tries something that its copy tells it is
// vain, so that a denial is to be seen as well.
func choose(c *client.Client, dice *rand.Rand) (request string, args []json.RawMessage) {
	c.Look(func(held *replicate.Copy) {
		me := held.OwnedBy("Diver", c.Me().Number)
		if me != nil {
			request, args = chooseFor(held, me, dice)
		}
	})
	return request, args
}

// chooseFor picks what the diver me does next.
func chooseFor(held *replicate.Copy, me *replicate.Entity, dice *rand.Rand) (request string, args []json.RawMessage) {
	carried := map[string]int64{}
	for _, f := range me.Fields {
		if f.Type.Form == contract.FormStacks {
			for _, s := range f.Value.Parts {
				carried[f.Type.Enum.Values[s.Parts[0].Num]] += s.Parts[1].Num
			}
		}
	}
	var phase, seed int64
	for _, t := range held.Entities() {
		if t.Kind == "Dive" {
			p, _ := t.Value("phase")
			n, _ := t.Value("seed")
			phase = p.Num
			seed = n.Num
		}
	}
	pos, _ := me.Value("pos")
	x := pos.Parts[0].Num
	y := pos.Parts[1].Num
	place := func(x, y int64) json.RawMessage { // hundredths
		return json.RawMessage(fmt.Sprintf("[%g,%g]", float64(x)/100, float64(y)/100))
	}
	word := func(s string) []json.RawMessage { return []json.RawMessage{json.RawMessage(`"` + s + `"`)} }
	switch roll := dice.IntN(20); {
	case phase == 0 && number(me, "ready") == 0:
		return "Diver.get_ready", []json.RawMessage{json.RawMessage(fmt.Sprint(seed))}
	case phase == 0:
		return "", nil // it waits for the others
	case roll >= 17: // it swims a little
		return swim, []json.RawMessage{place(x+int64(dice.IntN(81)-40), min(y+int64(dice.IntN(81)-45), 0))}
	case roll == 16 && carried["flare"] > 0:
		angle := json.RawMessage(fmt.Sprintf("%.2f", dice.Float64()*6.2-3.1))
		return "Diver.launch", []json.RawMessage{angle, place(x, y)}
	case roll == 0: // from much too far away
		return "Diver.launch", []json.RawMessage{json.RawMessage("0"), place(x+900, y)}
	case roll == 1:
		return "Diver.paint", word([]string{"coral", "kelp", "sand", "slate", "foam", "rust"}[dice.IntN(6)])
	case number(me, "air") < 20 && carried["tank"] > 0:
		return "Diver.use", word("tank")
	case number(me, "hull") <= 70 && carried["patch"] > 0:
		return "Diver.use", word("patch")
	case carried["flare"] > 3:
		return "Diver.use", word("flare")
	}
	return "Diver.search", nil
}

// number returns a number that an entity has by name, as a real; 0 when it does not have it.
func number(of *replicate.Entity, name string) float64 {
	for _, f := range of.Fields {
		switch {
		case f.Name != name:
		case f.Type.Form == contract.FormReal:
			return f.Type.Real(f.Value.Num)
		default:
			return float64(f.Value.Num)
		}
	}
	return 0
}
