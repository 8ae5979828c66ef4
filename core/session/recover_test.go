package session

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

const recoverText = `contract recover language 2
seats 4 grace 30s
entity Diver per player {
  luck: int 0..1000000 = 0
  pos:  vec2 -1000..1000 step 0.01 = vec(0, 0) follows vel
  vel:  vec2 -9..9 step 0.01 = vec(1, 0)
  rung: int 0..9 = 0
  request draw() from owner { luck = roll(0..1000000) }
  request ring() from owner { after 2s do ring_later() }
  action ring_later() { rung += 1 }
}
`

// recovery is a session of one client that a test ends and recovers.
type recovery struct {
	*Session
	t      *testing.T
	reader *wire.Reader
	held   replicate.Copy
	last   *wire.Frame // the newest one
}

func (r *recovery) ticks(n int) {
	for range n {
		for _, f := range r.Tick().Frames {
			frame, err := r.reader.Read(f.Bytes)
			require.NoError(r.t, err)
			r.held.Apply(frame)
			r.last = frame
		}
		r.held.Advance(r.Now())
	}
}

func (r *recovery) ask(seq uint64, request string) {
	ask := wire.Ask{Seq: seq, Request: request, Args: []json.RawMessage{}, Seen: r.held.Tick}
	r.Ask(1, r.ReadRequest(ask))
}

func (r *recovery) value(name string) string {
	for _, e := range r.held.Entities() {
		if f, ok := e.Field(name); ok {
			return f.Type.Format(f.Value)
		}
	}
	return "nothing"
}

// A session that is recovered goes on from what was kept: what came later is undone and rolls otherwise, what moves and
// what waits has stood still, and clients are told.
func TestARecoveredSessionGoesOn(t *testing.T) {
	c, problems := compile.Load("recover.kam", recoverText)
	require.NotNil(t, c, problems)
	options := Options{Key: [32]byte{5}}
	s, err := New(c, options)
	require.NoError(t, err)
	r := &recovery{Session: s, t: t, reader: wire.NewReader(s.Layout())}
	_, err = r.Join("ana", "")
	require.NoError(t, err)
	r.Ready(1)
	r.ticks(9)
	r.ask(1, "Diver.ring")
	r.ticks(1)
	kept, _, err := r.Checkpoint()
	require.NoError(t, err)
	require.EqualValues(t, 10, r.Now())
	r.ask(2, "Diver.draw")
	r.ticks(1)
	require.Equal(t, wire.Accepted, r.last.Decisions[0].Outcome)
	undone := r.value("luck")
	r.ticks(4)

	r.Session, err = Restore(c, options, kept)
	require.NoError(t, err)
	r.Recover(100)
	r.Back(1, 15) // which it was sent, and nobody has kept
	assert.EqualValues(t, 10, r.Seen(1), "nothing of the undone ticks counts")
	r.Ready(1)
	r.reader = wire.NewReader(r.Layout())
	r.ticks(1)
	require.EqualValues(t, 100, r.last.Tick)
	assert.Equal(t, &wire.Incarnation{Number: 1, Kept: 10}, r.last.Incarnation)
	again, _, err := wire.ParseFrame(r.last.AppendJSON(nil), c.Outline())
	require.NoError(t, err)
	assert.Equal(t, r.last.Incarnation, again.Incarnation)
	assert.Equal(t, "0", r.value("luck"))
	// Ten ticks have been kept, and one has come since: so long has it moved.
	assert.Equal(t, "(0.55, 0)", r.value("pos"), "20 ticks a second, at 1 a second")
	r.ticks(20)
	assert.Nil(t, r.last.Incarnation, "once")
	r.ask(2, "Diver.draw")
	r.ticks(1)
	require.Equal(t, wire.Accepted, r.last.Decisions[0].Outcome)
	assert.NotEqual(t, undone, r.value("luck"))
	assert.NotEqual(t, "0", r.value("luck"))
	r.ask(1, "Diver.ring")
	r.ticks(17)
	assert.Equal(t, "0", r.value("rung"))
	r.ticks(1)
	assert.Equal(t, "1", r.value("rung"), "two seconds of ticks after it was asked, and not asked twice")
	r.ticks(40)
	assert.Equal(t, "1", r.value("rung"))
}

// The same cause in the same tick rolls otherwise in each incarnation.
func TestEachIncarnationRollsOtherwise(t *testing.T) {
	c, problems := compile.Load("recover.kam", recoverText)
	require.NotNil(t, c, problems)
	seen := map[string]bool{}
	for incarnations := range 4 {
		s, err := New(c, Options{Key: [32]byte{5}})
		require.NoError(t, err)
		r := &recovery{Session: s, t: t, reader: wire.NewReader(s.Layout())}
		for range incarnations {
			r.Recover(r.Now() + 1)
		}
		_, err = r.Join("ana", "")
		require.NoError(t, err)
		r.ticks(1)
		r.ask(1, "Diver.draw")
		r.ticks(1)
		require.EqualValues(t, 2, r.Now())
		assert.False(t, seen[r.value("luck")])
		seen[r.value("luck")] = true
	}
}

// A client that has missed an incarnation, or the frame that told it of one, is told from where on all is undone for
// it.
func TestAClientMayMissAnIncarnation(t *testing.T) {
	c, problems := compile.Load("recover.kam", recoverText)
	require.NotNil(t, c, problems)
	options := Options{Key: [32]byte{5}}
	s, err := New(c, options)
	require.NoError(t, err)
	r := &recovery{Session: s, t: t, reader: wire.NewReader(s.Layout())}
	_, err = r.Join("ana", "")
	require.NoError(t, err)
	r.ticks(10)
	again := func(next int64) {
		kept, _, err := r.Checkpoint()
		require.NoError(t, err)
		r.Session, err = Restore(c, options, kept)
		require.NoError(t, err)
		r.Recover(next)
	}
	again(100) // the client has had frames up to tick 15, of which nothing was kept
	r.ticks(5)
	again(200)
	for range 2 { // the first frame is lost
		r.Back(1, 15)
		r.reader = wire.NewReader(r.Layout())
		r.ticks(1)
		assert.Equal(t, &wire.Incarnation{Number: 2, Kept: 10}, r.last.Incarnation)
		assert.EqualValues(t, 10, r.Seen(1))
	}
	r.Back(1, r.Now())
	r.reader = wire.NewReader(r.Layout())
	r.ticks(1)
	assert.Nil(t, r.last.Incarnation)
	again(300)
	r.Back(1, 250) // that came with the incarnation before
	r.reader = wire.NewReader(r.Layout())
	r.ticks(1)
	assert.Equal(t, &wire.Incarnation{Number: 3, Kept: 202}, r.last.Incarnation)
}
