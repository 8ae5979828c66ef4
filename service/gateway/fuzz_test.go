package gateway

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
)

// Whatever a client of the JSON sub-protocol sends, it is carried out, refused or cuts who sent it; the session goes
// on, and the frames that come of it can be read.
func FuzzJSONProtocol(f *testing.F) {
	for _, message := range []string{
		`{"type":"ready"}`, `{"type":"ask","seq":1,"request":"Diver.tap","args":[]}`,
		`{"type":"ask","seq":2,"entity":7,"request":"Diver.none","args":["\ud800",1e400]}`,
		`{"type":"write","seq":3,"property":"Diver.n","value":3,"seen":9}`,
		`{"type":"press","press":1,"property":"Diver.n"}`, `{"type":"seen","seen":12}`, `{"type":"differs","seen":1}`,
	} {
		f.Add(message, `{"type":"ready"}`)
	}
	x := newTestSession(f, contracts.Knock, true)
	n := 0
	f.Fuzz(func(t *testing.T, first, second string) {
		require.NoError(t, x.do(t.Context(), func() {
			n++
			c, err := x.join(seatOf(wire.Join{Name: fmt.Sprint("Eve ", n)}, true, true))
			require.NoError(t, err)
			x.tick()
			for _, message := range []string{first, second} {
				var l inboundMessage
				if err := x.readMessage(&l, c, []byte(message), time.Now()); err == nil {
					x.handle(&l)
				}
				x.tick()
			}
			raw, marks := c.outbox.take()
			from := 0
			for _, m := range marks {
				if m.tick > 0 {
					_, bye, err := wire.ParseFrame(raw[from:m.end], x.runner.Outline())
					require.NoError(t, err, "%s", raw[from:m.end])
					require.Empty(t, bye)
				}
				from = m.end
			}
			x.runner.Leave(c.client, "enough")
			x.tick()
		}))
	})
}
