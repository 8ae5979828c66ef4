package journal

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/record"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/store"
)

const wellText = `contract well language 2
entity Diver per player {
  depth: int 0..1000000 = 0 keep
  request sink(words: text max 1000) from owner { depth += 1 }
}
`

// shelf is a store in memory, which can be away.
type shelf struct {
	mu     sync.Mutex
	away   bool
	shaky  bool // what it has committed does not survive a crash
	stored store.Entries
	kept   map[string]json.RawMessage
}

func (s *shelf) Append(_ context.Context, e store.Entries) (store.Result, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away {
		return store.Result{}, errors.New("away")
	}
	s.stored.Batches = append(s.stored.Batches, e.Batches...)
	s.stored.Checkpoints = append(s.stored.Checkpoints, e.Checkpoints...)
	s.stored.Gaps = append(s.stored.Gaps, e.Gaps...)
	for _, k := range e.Kept {
		for name, value := range k.Values {
			s.kept[name] = value
		}
	}
	return store.Result{}, nil
}

func (s *shelf) IsDurable(context.Context) (bool, string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away {
		return false, "", errors.New("away")
	}
	if s.shaky {
		return false, "fsync is off", nil
	}
	return true, "", nil
}

func (s *shelf) set(away bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.away = away
}

// NewestCheckpoint and Batches make it a Reader of what was stored.
func (s *shelf) NewestCheckpoint(_ context.Context, _, tick int64, _ uint64) (*store.Checkpoint, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var newest *store.Checkpoint
	for i := range s.stored.Checkpoints {
		if c := &s.stored.Checkpoints[i]; c.Tick <= tick {
			newest = c
		}
	}
	return newest, nil
}

func (s *shelf) Batches(_ context.Context, _, from int64, _ int) (out []store.Batch, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, b := range s.stored.Batches {
		if b.Number >= from {
			out = append(out, b)
		}
	}
	return out, nil
}

// dive is a session with a log, that a test plays.
type dive struct {
	*session.Session
	t   *testing.T
	log *Log
	seq uint64
}

func newDive(t *testing.T, on *shelf) (*dive, *Journal) {
	on.kept = map[string]json.RawMessage{}
	c, problems := compile.Load("well.kam", wellText)
	require.NotNil(t, c, problems.Error())
	s, err := session.New(c, session.Options{Trace: true})
	require.NoError(t, err)
	j := New(on)
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = j.Close(ctx)
	})
	d := &dive{Session: s, t: t, log: j.Open(s, Options{Session: 1, Contract: "well", NextBatch: 1})}
	n, err := s.Join("ana", "")
	require.NoError(t, err)
	s.LoadKept(n, session.Kept{Fence: 1})
	s.Ready(n)
	return d, j
}

// tick plays a tick in which a client asks for something.
func (d *dive) tick(words string) {
	for range 10 {
		d.seq++
		args := []json.RawMessage{json.RawMessage(`"` + words + `"`)}
		d.Ask(1, d.ReadRequest(wire.Ask{Seq: d.seq, Request: "Diver.sink", Args: args}))
	}
	d.log.BeginTick(d.Session)
	step := d.Tick()
	for _, f := range step.Frames {
		d.Confirm(f.Client, step.Tick)
	}
	d.log.Ticked(d.Session, step, time.Now())
}

// stored waits until all is stored.
func (d *dive) stored() {
	ctx, cancel := context.WithTimeout(d.t.Context(), 10*time.Second)
	defer cancel()
	require.NoError(d.t, d.log.Flush()(ctx))
}

// While the database is away for long, calls are given up and what players keep is not; the recording goes on behind
// the gap, with a checkpoint, to the byte.
func TestARecordingGoesOnBehindAGap(t *testing.T) {
	on := &shelf{}
	d, j := newDive(t, on)
	for range 5 {
		d.tick("deeper")
	}
	d.stored()
	on.set(true)
	words := strings.Repeat("x", 1000)
	for n := 0; j.State().Gaps == 0; n++ {
		require.Less(t, n, 5000)
		d.tick(words)
		require.LessOrEqual(t, j.State().Waiting, maxPending+1<<20)
	}
	for range 50 {
		d.tick(words)
	}
	assert.Less(t, j.State().Waiting, 1<<20, "nothing is gathered for a recording that has a gap")
	on.set(false)
	require.Eventually(t, func() bool {
		d.tick("up")
		on.mu.Lock()
		defer on.mu.Unlock()
		return len(on.stored.Gaps) == 1
	}, 10*time.Second, 5*time.Millisecond)
	for range 5 {
		d.tick("up")
	}
	d.stored()
	assert.EqualValues(t, 5, on.stored.Gaps[0].After)
	p := record.NewPlayer(d.Contract(), session.Options{Trace: true}, NewSource(on, 1))
	require.NoError(t, p.Seek(t.Context(), 1<<40))
	assert.Equal(t, d.Now(), p.Session().Now())
	assert.Equal(t, string(d.State().JSON()), string(p.Session().State().JSON()))
	var depth int
	require.NoError(t, json.Unmarshal(on.kept["Diver.depth"], &depth))
	assert.EqualValues(t, d.seq, depth, "what players keep is not given up")
}

// What is kept is settled once it is stored, and never by a database that may lose it.
func TestWhatIsSettled(t *testing.T) {
	for _, shaky := range []bool{false, true} {
		on := &shelf{shaky: shaky}
		d, j := newDive(t, on)
		require.Eventually(t, func() bool {
			j.mu.Lock()
			defer j.mu.Unlock()
			return j.asked
		}, time.Second, time.Millisecond)
		var settled []int64
		record := func(c *session.Call) {
			if c.Type == session.CallConfirmStored {
				settled = append(settled, c.Tick)
			}
			d.log.writer.Record(c)
		}
		d.RecordCalls(record)
		d.tick("deeper")
		assert.Empty(t, settled)
		d.stored()
		d.tick("deeper")
		if shaky {
			assert.Empty(t, settled)
			assert.Equal(t, "fsync is off", j.State().Unstable)
			continue
		}
		assert.Equal(t, []int64{1}, settled)
	}
}
