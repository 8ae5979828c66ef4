package record_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/record"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

const benchText = `contract bench language 2
seats 200
audience near(d: Diver) = distance(viewer.Diver.pos, d.pos) <= 30
entity Diver per player {
  pos:  vec2 -100..100 step 0.01 to near(self) set by owner pace distance(old, new) 100 per second burst 100
  hull: int 0..100 = 100 clamped
  request patch() from owner check hull < 101 else deny "whole" { hull += 1; hull -= 1 }
}
`

// BenchmarkRecorded is a tick of 200 clients, each of which writes its place and confirms in every tick and asks for
// something in every tenth, with nobody who records, and with a recorder. What recording costs is the difference.
func BenchmarkRecorded(b *testing.B) {
	for _, recorded := range []bool{false, true} {
		b.Run(fmt.Sprint("recorded=", recorded), func(b *testing.B) {
			c, problems := compile.Load("bench.kam", benchText)
			require.NotNil(b, c, problems.Error())
			s, err := session.New(c, session.Options{})
			require.NoError(b, err)
			w := record.NewWriter(0, 1)
			if recorded {
				s.RecordCalls(w.Record)
			}
			for i := range 200 {
				n, err := s.Join(fmt.Sprint("c", i), "")
				require.NoError(b, err)
				s.Ready(n)
			}
			r := rand.New(rand.NewPCG(1, 2))
			places := make([][2]int64, 201)
			bytes := 0
			b.ResetTimer()
			for i := range b.N {
				for n := 1; n <= 200; n++ {
					s.Confirm(n, s.Now())
					at := &places[n]
					at[0] = min(max(at[0]+r.Int64N(200)-100, -10000), 10000)
					m := wire.Move{
						Seq:      uint64(i + 1),
						Property: "Diver.pos",
						Numbers:  [4]int64{at[0], at[1]},
						Wide:     2,
						Seen:     s.Now(),
					}
					s.Steer(n, s.ReadSteering(wire.MessageWrite, m))
					if (i+n)%10 == 0 {
						s.Ask(n, s.ReadRequest(wire.Ask{Seq: uint64(i+1) << 32, Request: "Diver.patch", Seen: s.Now()}))
					}
				}
				s.Tick()
				if batch, ok := w.Take(); ok {
					bytes += len(batch.Data)
				}
			}
			b.ReportMetric(float64(bytes)/float64(b.N), "bytes/tick")
		})
	}
}
