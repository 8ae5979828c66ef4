package gateway

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
)

// Requests that are refused are all counted, and stored only as many as one client may have; long arguments are stored
// as their length. What others do is stored as ever.
func TestAFloodIsCountedAndNotStored(t *testing.T) {
	x := newTestSession(t, contracts.Knock, true)
	long := json.RawMessage(`"` + strings.Repeat("x", 10_000) + `"`)
	require.NoError(t, x.do(t.Context(), func() {
		clock := time.Now()
		x.now = func() time.Time { return clock }
		eve, err := x.join(seatOf(wire.Join{Name: "Eve"}, true, false))
		require.NoError(t, err)
		ana, err := x.join(seatOf(wire.Join{Name: "Ana"}, true, false))
		require.NoError(t, err)
		x.tick()
		seq := uint64(0)
		for range 400 { // twenty seconds
			clock = clock.Add(50 * time.Millisecond)
			for range 20 {
				seq++
				x.session().Ask(
					eve.client,
					x.session().ReadRequest(wire.Ask{Seq: seq, Request: "Diver.none", Args: []json.RawMessage{long}}),
				)
			}
			x.session().Ask(
				ana.client,
				x.session().ReadRequest(wire.Ask{Seq: seq, Request: "Diver.tap", Args: []json.RawMessage{}}),
			)
			x.tick()
			for _, c := range []*connection{eve, ana} {
				if raw, marks := c.outbox.take(); raw != nil {
					c.outbox.done(raw, marks, clock)
				}
				x.session().Confirm(c.client, x.session().Now())
				x.handle(saidSeen(c, x.session().Now(), clock))
			}
		}
	}))
	list, err := x.records.Decisions(t.Context(), 1, 100_000)
	require.NoError(t, err)
	counts := map[string]int{}
	bytes := 0
	for _, d := range list {
		counts[d.Name]++
		bytes += len(d.Args)
	}
	assert.Equal(t, 400, counts["Ana"])
	assert.InDelta(t, 250, counts["Eve"], 15, "ten a second and fifty at once")
	assert.Less(t, bytes, 40_000)
	assert.InDelta(t, 8000-250, x.metric(t, "kamerad_decisions_unstored_total"), 15, "all are counted")
}

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
	x := newTestSession(t, safe, true)
	var err error
	r := rand.New(rand.NewPCG(1, 2))
	cut := 0
	decided := map[string]int{}
	frames := 0
	seq := uint64(0)
	valid := func() []byte {
		seq++
		m := wire.FromClient{Type: wire.MessageAsk, Ask: wire.Ask{
			Seq:     seq,
			Request: "Safe.turn",
			Seen:    3,
			Args: []json.RawMessage{
				json.RawMessage("77"), json.RawMessage(`"open up"`), json.RawMessage("[1,2.5]"),
				json.RawMessage("null"),
				json.RawMessage(`"patch"`), json.RawMessage("[1,2,3]"),
			},
		}}
		switch r.IntN(6) {
		case 0:
			m = wire.FromClient{
				Type:     wire.MessageWrite,
				Ask:      wire.Ask{Seq: seq, Entity: 12345, Seen: 3},
				Property: "Diver.pos",
				Value:    json.RawMessage("[1,1]"),
			}
		case 1:
			m = wire.FromClient{Type: wire.MessagePress, Property: "Diver.kick", Press: seq}
		case 2:
			m = wire.FromClient{
				Type: []wire.MessageType{wire.MessageSeen, wire.MessageDiffers, wire.MessageReady}[r.IntN(3)],
				Ask:  wire.Ask{Seen: int64(r.IntN(99))},
			}
		case 3:
			return m.JSON()
		}
		return m.Pack(x.runner.Outline())
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
		ana, err = x.join(seatOf(wire.Join{Name: "Ana"}, true, false))
		x.tick()
		x.tick()
		before = string(x.session().ServerState().JSON())
	}))
	require.NoError(t, err)
	reader := x.session().Reader(0)
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
					seatOf(wire.Join{Name: fmt.Sprint("Eve ", i), Role: "spectator"}, true, false),
				)
			}))
			require.NoError(t, err)
		}
		var m inboundMessage
		bad := x.readMessage(&m, attacker, mutated(), x.now())
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
					x.runner.Leave(attacker.client, bad.Error())
				}
				x.tick()
				drain(attacker, nil)
				if x.byClient[attacker.client] == nil { // it said that it leaves
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
				x.session().Confirm(ana.client, x.session().Now())
			}))
		}
	}
	require.NoError(t, x.do(t.Context(), func() {
		if attacker != nil {
			x.runner.Leave(attacker.client, "enough")
		}
		x.tick()
		assert.JSONEq(t, before, string(x.session().ServerState().JSON()), "the world is what it was")
	}))
	stored, err := x.records.Decisions(t.Context(), 1, 100_000)
	require.NoError(t, err)
	for _, d := range stored {
		decided[d.Outcome]++
	}
	assert.Zero(t, decided["accepted"])
	assert.Greater(t, cut, count/3)
	t.Logf(
		"%d messages, %d of which cut who sent them; %d frames for the other client, who saw nothing; the stored "+
			"decisions: %v",
		count, cut, frames, decided,
	)
}
