package drill

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/link"
	"kamerad.example/core/play"
	"kamerad.example/core/record"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// hour is a recorded session of Tidewreck with clients on bad links, in virtual time.
type hour struct {
	record.Recording
	contract *contract.Contract
	options  session.Options
	bytes    int // of batches, compressed
	whole    int // of checkpoints, compressed
	requests int
	end      int64
}

const hourClients = 20

// playHour plays for some ticks.
func playHour(t *testing.T, ticks int) *hour {
	raw, err := os.ReadFile(demo + "/tidewreck.kam")
	require.NoError(t, err)
	text := strings.Replace(string(raw), "seats 16", fmt.Sprint("seats ", hourClients), 1)
	c, problems := compile.LoadWith("tidewreck.kam", text, beside(nil))
	require.NotNil(t, c, problems)
	h := &hour{contract: c, options: session.Options{Key: Key(5)}}
	s, err := session.New(c, h.options)
	require.NoError(t, err)
	writer := record.NewWriter(0, 1)
	s.RecordCalls(writer.Record)
	w := newStage(&Drill{}, s)
	r := rand.New(rand.NewPCG(5, 11))
	var all []*honest
	for i := range hourClients {
		conditions := link.Conditions{
			Delay:  time.Duration(20+r.IntN(300)) * time.Millisecond,
			Jitter: 50 * time.Millisecond,
			Loss:   0.05,
		}
		p, err := w.join(fmt.Sprint("h", i), c.Roles[0], conditions, &Shaking{Seed: 5}, false)
		require.NoError(t, err)
		a := &honest{player: p, outline: w.outline, role: c.Roles[0]}
		a.actor = play.NewActor(a, rand.New(rand.NewPCG(5, uint64(i))))
		all = append(all, a)
	}
	for i := range ticks {
		for _, a := range all {
			if a.out == "" && len(a.open) < wire.MaxUndone && r.IntN(10) == 0 {
				h.requests += a.askSomething(w)
			}
		}
		require.NoError(t, w.step())
		w.faults = nil
		if i%5 == 4 {
			if batch, ok := writer.Take(); ok {
				batch.Data = record.Compress(batch.Data)
				h.bytes += len(batch.Data)
				h.Batches = append(h.Batches, batch)
			}
		}
		if i%600 == 599 {
			data, _, err := s.Checkpoint()
			require.NoError(t, err)
			data = record.Compress(data)
			h.whole += len(data)
			h.Checkpoints = append(h.Checkpoints, record.Checkpoint{Tick: s.Now(), Next: writer.Next(), Data: data})
		}
	}
	h.end = h.Batches[len(h.Batches)-1].Last
	return h
}

// askSomething has an honest player ask for something, and returns for how much.
func (h *honest) askSomething(w *stage) int {
	entity, request, args := h.actor.Pick()
	if request == "" {
		return 0
	}
	if args == nil {
		args = []json.RawMessage{}
	}
	m := wire.FromClient{Type: wire.MessageAsk}
	m.Request = request
	m.Entity = entity
	m.Args = args
	w.ask(h.player, m, nil)
	return 1
}

// hourChange is a change that the hour had.
type hourChange struct {
	tick     int64
	entity   uint32
	property string
	value    string
}

// changes returns every change of the recording, as causes have told it.
func (h *hour) changes(t *testing.T) (out []hourChange) {
	p := record.NewPlayer(h.contract, h.options, &h.Recording)
	p.FromStart = true
	require.NoError(t, p.Seek(t.Context(), 0))
	s := p.Session()
	var tick []hourChange
	s.TraceCauses(func(c *session.Caused) {
		for _, x := range c.Changes {
			if x.Property.Follows == nil { // what moves by itself would be nearly all
				value := x.Property.Type.Format(x.New)
				tick = append(tick, hourChange{c.Tick, s.EntityNumber(x.Entity), x.Property.Name, value})
			}
		}
	})
	for {
		step, err := p.Next(t.Context())
		require.NoError(t, err)
		if step == nil {
			return out
		}
		for _, x := range tick {
			if s.FindEntity(x.entity) != nil { // else it is gone at the end of the tick, and nobody asks
				out = append(out, x)
			}
		}
		tick = tick[:0]
	}
}

// An hour of Tidewreck with twenty clients on bad links is played again to the byte, and any tick of it is found at
// once; every change that is asked about has a reason that ends in an input, a timer or the start; and without the
// input that is named the change does not happen. KAMERAD_HOUR says how many seconds it has, a minute when it does not.
func TestAnHourIsPlayedAgain(t *testing.T) {
	seconds := 60
	if d, err := time.ParseDuration(os.Getenv("KAMERAD_HOUR")); err == nil {
		seconds = int(d.Seconds())
	}
	ctx := context.Background()
	h := playHour(t, seconds*20)
	p := record.NewPlayer(h.contract, h.options, &h.Recording)
	p.FromStart = true
	began := time.Now()
	require.NoError(t, p.Seek(ctx, h.end))
	took := time.Since(began)
	hours := float64(h.end) / 72000
	t.Logf(
		"%d ticks, %d requests: played again in %s (%.0f ticks a second); %.0f kB an hour and client, and %.0f kB of "+
			"checkpoints", h.end, h.requests, took, float64(h.end)/took.Seconds(),
		float64(h.bytes)/1000/hours/hourClients, float64(h.whole)/1000/hours/hourClients,
	)
	r := rand.New(rand.NewPCG(6, 7))
	longest := time.Duration(0)
	for range 20 {
		p = record.NewPlayer(h.contract, h.options, &h.Recording)
		began := time.Now()
		tick := r.Int64N(h.end) + 1
		require.NoError(t, p.Seek(ctx, tick))
		require.Equal(t, tick, p.Session().Now())
		longest = max(longest, time.Since(began))
	}
	t.Logf("any tick: at most %s", longest)
	assert.Less(t, longest, 5*time.Second)

	all := h.changes(t)
	require.NotEmpty(t, all)
	ends := map[record.End]int{}
	against := 0
	wanted := min(max(seconds/7, 12), 500) // inputs that are left out
	for range min(len(all), 20*wanted) {
		if against >= wanted {
			break
		}
		x := all[r.IntN(len(all))]
		why, err := record.Why(ctx, p, x.entity, x.property, x.tick)
		require.NoError(t, err, "%+v", x)
		last := why.Chain[len(why.Chain)-1]
		require.NotEmpty(t, last.End, "%+v: %+v", x, why.Chain)
		ends[last.End]++
		if last.End == record.EndInput && last.Seq > 0 {
			against++
			assert.False(t, h.happensWithout(t, x, why, last), "%+v happens also without %+v", x, last)
		}
	}
	assert.Equal(t, wanted, against)
	t.Logf("%d changes; asked about some: %v; without %d inputs none of what came of them happens", len(all), ends, against)

	moving := map[record.End]int{}
	for range max(seconds/36, 10) {
		require.NoError(t, p.Seek(ctx, r.Int64N(h.end-1)+1))
		x, ok := h.moves(p.Session(), r)
		if !ok {
			continue
		}
		why, err := record.Why(ctx, p, x.entity, x.property, x.tick)
		require.NoError(t, err, "%+v", x)
		last := why.Chain[len(why.Chain)-1]
		require.NotEmpty(t, last.End, "%+v: %+v", x, why.Chain)
		moving[last.End]++
	}
	t.Logf("where something moves: %v", moving)
	assert.NotEmpty(t, moving)
}

// moves returns something that moves by itself at the tick of a session; false when nothing does.
func (h *hour) moves(s *session.Session, r *rand.Rand) (hourChange, bool) {
	var all []hourChange
	for _, e := range s.World().Entities() {
		for _, p := range e.Kind.Properties {
			if p.Follows != nil && s.World().ChangedTick(e, p.Index) == s.Now() {
				all = append(all, hourChange{tick: s.Now(), entity: s.EntityNumber(e), property: p.Name})
			}
		}
	}
	if len(all) == 0 {
		return hourChange{}, false
	}
	return all[r.IntN(len(all))], true
}

// happensWithout reports whether a change happens also when the request that it is said to come from is left out.
func (h *hour) happensWithout(t *testing.T, x hourChange, why *record.Reason, input record.Link) bool {
	p := record.NewPlayer(h.contract, h.options, &h.Recording)
	p.Check = false
	p.Skip = func(c *session.Call) bool {
		return c.Type == session.CallAsk && c.Client == input.Client && c.Ask.Seq == input.Seq
	}
	require.NoError(t, p.Seek(t.Context(), max(input.Tick-2, 0)))
	s := p.Session()
	happens := false
	s.TraceCauses(func(c *session.Caused) {
		for _, change := range c.Changes {
			if c.Tick == why.Changed && c.Type == session.CauseType(why.Chain[0].Type) &&
				c.Client == why.Chain[0].Client && c.Seq == why.Chain[0].Seq &&
				s.EntityNumber(change.Entity) == x.entity && change.Property.Name == x.property {
				happens = true
			}
		}
	})
	for s.Now() < why.Changed {
		step, err := p.Next(t.Context())
		require.NoError(t, err)
		if step == nil {
			break
		}
	}
	return happens
}
