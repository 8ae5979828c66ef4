package replicate

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// BenchmarkEncode is what a tick's blocks cost when all clients are in one audience: it should not grow with them.
func BenchmarkEncode(b *testing.B) {
	for _, clients := range []int{100, 1000} {
		b.Run(fmt.Sprint(clients), func(b *testing.B) {
			c, problems := compile.Load(
				"rocks.kam",
				"contract rocks language 1\nentity Rock { n: int 0..1000000 = 0 }\n"+
					"shared Sea { on start { spawn Rock } }\n",
			)
			require.NotNil(b, c, problems.Error())
			w := world.New(c, nil)
			v := NewView([32]byte{7}, w, owners{})
			for _, e := range w.Entities() {
				v.AddEntity(e)
			}
			var rocks []*world.Entity
			for range 1000 {
				e := w.Spawn(c.Kinds[0], 0)
				v.AddEntity(e)
				rocks = append(rocks, e)
			}
			for n := range clients {
				v.AddClient(wire.Client{Number: n + 1, Name: fmt.Sprint("c", n), Role: "player"})
			}
			w.Commit()
			n := c.Kinds[0].Property("n")
			var parts wire.Parts
			for i := range b.N {
				w.Tick++
				for j, e := range rocks {
					w.Write(e, n.Index, n.Slot, int64((i*7919+j*104729)%1000000))
				}
				w.Commit()
				w.VisitWritten(v.MarkWritten)
				if i > 0 {
					b.StartTimer()
				}
				v.EndTick()
				b.StopTimer()
				for n := range clients {
					v.FrameParts(n+1, &parts)
				}
				v.AcceptFrames()
			}
		})
	}
}
