package service

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/client"
	"kamerad.example/core/wire"
)

const safe = `contract safe language 1
seats 64 grace 10s
roles player, spectator
enum Item { flare, patch }
entity Diver per player { hull: int 0..100 = 100; pos: vec2 -9..9 step 0.5 set by owner pace length(new - old) 1 per second when false; hold kick lease 1s when false
  request hurt(by: int 0..100) limit 900 per second check by > 900 else deny "not so much" { hull -= by } }
shared Safe { opened: int 0..9 = 0
  request turn(code: int 0..1000000, word: text max 20, at: vec2 -9..9 step 0.5, who: ref Diver, what: Item, list: list<int 0..9> max 5) from everyone
    limit 900 per second
    check code == 424242 and word == "sesame" else deny "wrong"
  { opened += 1 } }
`

// Messages that are malformed, truncated, too long or have flipped bits: each is refused or cuts who sent it, nothing
// in the world changes, and nobody else notices. KAMERAD_BROKEN says how many there are.
func TestBrokenMessagesHarmNobody(t *testing.T) {
	count := 2000
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_BROKEN")); err == nil {
		count = n
	}
	v, api := start(t, page)
	_, err := api.Publish(t.Context(), "safe.kam", safe, nil)
	require.NoError(t, err)
	s, err := api.Open(t.Context(), client.OpenSession{Contract: "safe", Paused: true})
	require.NoError(t, err)
	x := v.runner(s.ID)
	r := rand.New(rand.NewPCG(1, 2))
	cut := 0
	decided := map[string]int{}
	frames := 0
	seq := uint64(0)
	valid := func() []byte {
		seq++
		m := wire.FromClient{Type: "ask", Ask: wire.Ask{
			Seq:     seq,
			Request: "Safe.turn",
			Seen:    3,
			Args: []json.RawMessage{
				json.RawMessage(
					"77",
				), json.RawMessage(
					`"open up"`,
				), json.RawMessage(
					"[1,2.5]",
				), json.RawMessage("null"), json.RawMessage(`"patch"`), json.RawMessage("[1,2,3]"),
			},
		}}
		switch r.IntN(6) {
		case 0:
			m = wire.FromClient{
				Type:     "write",
				Ask:      wire.Ask{Seq: seq, Entity: 12345, Seen: 3},
				Property: "Diver.pos",
				Value:    json.RawMessage("[1,1]"),
			}
		case 1:
			m = wire.FromClient{Type: "press", Property: "Diver.kick", Press: seq}
		case 2:
			m = wire.FromClient{
				Type: []string{"seen", "differs", "ready"}[r.IntN(3)],
				Ask:  wire.Ask{Seen: int64(r.IntN(99))},
			}
		case 3:
			return m.JSON()
		}
		return m.Pack(x.outline)
	}
	mutated := func() []byte {
		raw := valid()
		switch r.IntN(5) {
		case 0:
			return raw[:r.IntN(len(raw))]
		case 1:
			for range 1 + r.IntN(4) {
				raw[r.IntN(len(raw))] ^= 1 << r.IntN(8)
			}
		case 2:
			for range 1 + r.IntN(20) {
				raw = append(raw, byte(r.IntN(256)))
			}
		case 3:
			raw = make([]byte, r.IntN(60))
			for i := range raw {
				raw[i] = byte(r.IntN(256))
			}
		default:
			if r.IntN(20) > 0 {
				raw[r.IntN(len(raw))] = byte(r.IntN(256))
				break
			}
			return append(raw, make([]byte, wire.MaxMessage)...)
		}
		return raw
	}
	var ana, attacker *connection
	var before string
	require.NoError(t, x.do(t.Context(), func() {
		ana, err = x.join(joinRequest{Join: wire.Join{Name: "Ana"}, pipe: true})
		x.tick()
		x.tick()
		before = string(x.session.ServerState().JSON())
	}))
	require.NoError(t, err)
	reader := x.session.Reader(0)
	drain := func(c *connection, f func(*wire.Frame)) {
		raw, marks := c.outbox.take()
		from := 0
		for _, m := range marks {
			if m.tick > 0 && f != nil {
				frame, err := reader.Read(raw[from:m.end])
				require.NoError(t, err)
				f(frame)
			}
			from = m.end
		}
		if raw != nil {
			c.outbox.done(raw, marks, x.now())
		}
	}
	drain(ana, func(*wire.Frame) {})
	for i := range count {
		if attacker == nil {
			require.NoError(t, x.do(t.Context(), func() {
				attacker, err = x.join(
					joinRequest{Join: wire.Join{Name: fmt.Sprint("Eve ", i), Role: "spectator"}, pipe: true},
				)
			}))
			require.NoError(t, err)
		}
		m, bad := x.readMessage(attacker, mutated(), x.now())
		if bad == nil {
			x.deliver(m)
		}
		if bad != nil {
			assert.NotEmpty(t, bad.Error())
			cut++
		}
		if bad != nil || i%40 == 0 {
			require.NoError(t, x.do(t.Context(), func() {
				if bad != nil {
					x.dropSeat(attacker.client, bad.Error())
				}
				x.tick()
				drain(attacker, nil)
				if x.conns[attacker.client] == nil { // it said that it leaves
					attacker = nil
				}
				drain(ana, func(f *wire.Frame) {
					frames++
					assert.Empty(t, f.Events)
					for _, b := range f.Blocks {
						assert.Empty(t, b.Values, "nothing changes")
						assert.Empty(t, b.Spawned, "nothing comes")
						assert.Empty(t, b.Gone, "nothing goes")
					}
				})
				x.session.Confirm(ana.client, x.session.Now())
			}))
		}
	}
	require.NoError(t, x.do(t.Context(), func() {
		if attacker != nil {
			x.dropSeat(attacker.client, "enough")
		}
		x.tick()
		for _, d := range x.watchers.decisions {
			decided[string(d.Outcome)]++
		}
		assert.JSONEq(t, before, string(x.session.ServerState().JSON()), "the world is what it was")
	}))
	assert.Zero(t, decided["accepted"])
	assert.Greater(t, cut, count/3)
	t.Logf(
		"%d messages, %d of which cut who sent them; %d frames for the other client, who saw nothing; the last "+
			"decisions: %v",
		count, cut, frames, decided,
	)
}
