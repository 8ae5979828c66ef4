package record_test

import (
	"context"
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/contract"
	"kamerad.example/core/drill"
	"kamerad.example/core/record"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// Every seventh value at the end of all drills of the demo and the examples has a reason that ends in an input, a
// timer or the start.
func TestEveryValueHasItsReason(t *testing.T) {
	ctx := context.Background()
	again := allDrills(t)
	ends := map[record.End]int{}
	types := map[string]int{}
	asked := 0
	for i, d := range allDrills(t) {
		r := &recorder{calls: map[session.CallType]int{}}
		_, err := d.Run(ctx, drill.Options{Observer: r})
		require.NoError(t, err)
		if len(r.Batches) == 0 {
			continue
		}
		end := r.Batches[len(r.Batches)-1].Last
		options := session.Options{Key: drill.Key(d.Seed), Prove: true, Trace: true, Settings: d.Settings}
		p := record.NewPlayer(again[i].Contract, options, &r.Recording)
		require.NoError(t, p.Seek(ctx, end))
		state := p.Session().State()
		for n := range state.Spawned {
			x := &state.Spawned[n]
			for _, f := range x.Fields {
				if asked++; asked%7 != 0 {
					continue
				}
				why, err := record.Why(ctx, p, x.Entity, f.Name, end)
				require.NoError(t, err, "%s: %s.%s", d.Name, x.Kind, f.Name)
				require.NotEmpty(t, why.Chain)
				last := why.Chain[len(why.Chain)-1]
				require.NotEmpty(t, last.End, "%s: %s.%s: %+v", d.Name, x.Kind, f.Name, why.Chain)
				ends[last.End]++
				for _, l := range why.Chain {
					types[l.Type]++
				}
			}
		}
	}
	t.Logf("%d values asked for: %v, %v", asked/7, ends, types)
}

const storyText = `contract story language 2
tick 20 per second
seats 4 grace 30s
entity Diver per player {
  hull: int 0..100 = 100 clamped
  air:  int 0..100 = 100 clamped to owner
  spent: bool = false
  pos:  vec2 -100..100 step 0.1 = vec(0, 0) follows vel
  vel:  vec2 -9..9 step 0.1 = vec(0, 0)
  on change hull { if hull == 0 { spent = true } }
  every 1s { air -= 1 }
  request hit(by: int 0..100) from owner check hull > 0 else deny "spent" { hull -= by }
  request burn() from owner { after 1s do burnt() }
  request swim(at: vec2 -9..9 step 0.1) from owner { vel = at }
  action burnt() { hull = 0 }
}
`

// story is a recorded session that a test asks why.
type story struct {
	*recorder
	t       *testing.T
	c       *contract.Contract
	options session.Options
	seq     uint64
}

func newStory(t *testing.T, text string) *story {
	s := &story{recorder: &recorder{calls: map[session.CallType]int{}}, t: t, options: session.Options{Trace: true}}
	s.c = loaded(t, text)
	live, err := session.New(s.c, s.options)
	require.NoError(t, err)
	s.Began(live)
	return s
}

func (s *story) join(name string) int {
	n, err := s.session.Join(name, "")
	require.NoError(s.t, err)
	s.session.Ready(n)
	return n
}

func (s *story) ask(client int, request string, args ...string) {
	s.seq++
	ask := wire.Ask{Seq: s.seq, Request: request, Args: []json.RawMessage{}}
	for _, a := range args {
		ask.Args = append(ask.Args, json.RawMessage(a))
	}
	s.session.Ask(client, s.session.ReadRequest(ask))
}

func (s *story) ticks(n int) {
	for range n {
		step := s.session.Tick()
		s.Ticked(step)
		for _, f := range step.Frames {
			s.session.Confirm(f.Client, step.Tick)
		}
	}
}

// why asks why the property of the first diver is as it is.
func (s *story) why(property string) *record.Reason {
	if batch, ok := s.writer.Take(); ok {
		batch.Data = record.Compress(batch.Data)
		s.Batches = append(s.Batches, batch)
	}
	p := record.NewPlayer(s.c, s.options, &s.Recording)
	why, err := record.Why(s.t.Context(), p, s.session.Nth("Diver", 1), property, s.session.Now())
	require.NoError(s.t, err)
	return why
}

// told returns a reason as text.
func told(r *record.Reason) (out []string) {
	for _, l := range r.Chain {
		line := fmt.Sprintf("%d %s: %s", l.Tick, l.Type, l.Words)
		for _, c := range l.Changes {
			line += fmt.Sprintf(" [%s %s → %s]", c.Of, c.Old, c.New)
		}
		if len(l.Through) > 0 {
			line += fmt.Sprintf(" %q", l.Through)
		}
		for _, c := range l.Checks {
			line += fmt.Sprintf(" {%s %s %v}", c.Text, c.Result, c.Values)
		}
		if l.End != "" {
			line += " = " + string(l.End)
		}
		out = append(out, line)
	}
	return out
}

// asks returns a story in which ana asks for something after three ticks, and more of them follow.
func asks(request, arg string, ticks int) func(s *story) {
	return func(s *story) {
		s.ticks(3)
		if arg == "" {
			s.ask(1, request)
		} else {
			s.ask(1, request, arg)
		}
		s.ticks(ticks)
	}
}

// Values and their reasons, word for word.
func TestReasonsAreToldInWords(t *testing.T) {
	for _, x := range []struct {
		name string
		play func(s *story)
		of   string
		want []string
	}{
		{"never changed", func(s *story) { s.ticks(3) }, "hull", []string{
			`1 join: ana joined [Diver 1.hull  → 100] = input`,
		}},
		{"a request with its check", asks("Diver.hit", "30", 4), "hull", []string{
			`4 request: ana asked Diver.hit(30) [Diver 1.hull 100 → 70] ["request hit of Diver"] ` +
				`{hull > 0 passed map[hull:100]} = input`,
		}},
		{"through a handler", asks("Diver.hit", "100", 4), "spent", []string{
			`4 request: ana asked Diver.hit(100) [Diver 1.spent false → true] ["on change hull of Diver"] ` +
				`{hull > 0 passed map[hull:100]} = input`,
		}},
		{"a timer", func(s *story) { s.ticks(25) }, "air", []string{
			`20 timer: a timer of Diver 1 [Diver 1.air 100 → 99] ["timer of Diver"] = timer`,
		}},
		{"an action that has waited", asks("Diver.burn", "", 30), "hull", []string{
			`24 action: the action burnt of Diver 1, which has waited since tick 4 [Diver 1.hull 100 → 0] ` +
				`["action burnt of Diver"]`,
			`4 request: ana asked Diver.burn() = input`,
		}},
		{"motion", asks("Diver.swim", "[1,0]", 20), "pos", []string{
			`22 motion: Diver 1 moves by its ` + "`vel`" + ` [Diver 1.pos [0.9,0] → [1,0]]`,
			`4 request: ana asked Diver.swim([1,0]) [Diver 1.vel [0,0] → [1,0]] ["request swim of Diver"] = input`,
		}},
		{"from outside", func(s *story) {
			s.ticks(3)
			require.NoError(s.t, s.session.Set(s.session.Nth("Diver", 1), "air", contract.Value{Num: 7}))
			s.ticks(3)
		}, "air", []string{`4 set: it was set from outside [Diver 1.air 100 → 7] = input`}},
	} {
		t.Run(x.name, func(t *testing.T) {
			s := newStory(t, storyText)
			s.join("ana")
			s.join("bo")
			x.play(s)
			assert.Equal(t, x.want, told(s.why(x.of)))
		})
	}
}

// It is told when each client got a value, or why not.
func TestDeliveriesAreTold(t *testing.T) {
	s := newStory(t, storyText)
	s.join("ana")
	s.join("bo")
	s.ticks(3)
	s.ask(1, "Diver.hit", "30")
	s.ticks(1)
	s.session.Lost(2)
	s.ticks(20)
	assert.Equal(t, []record.Delivery{
		{Client: 1, Name: "ana", Sent: 4, Confirmed: 4},
		{Client: 2, Name: "bo", Sent: 4, Confirmed: 4},
	}, s.why("hull").Deliveries)
	deliveries := s.why("air").Deliveries
	require.Len(t, deliveries, 2)
	assert.EqualValues(t, 20, deliveries[0].Sent)
	assert.Equal(t, record.Delivery{Client: 2, Name: "bo", Why: "it is not in the audience"}, deliveries[1])
	s.ask(1, "Diver.hit", "5")
	s.ticks(9)
	assert.Equal(t, record.Delivery{Client: 2, Name: "bo", Why: "its connection was lost"}, s.why("hull").Deliveries[1])
}
