package session

import (
	"encoding/json"
	"testing"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

const benchText = `contract bench language 1
seats 4
shared Dive { phase: int 0..3 = 1 }
entity Diver per player {
  hull: int 0..100 = 50 clamped
  x: int -1000..1000 = 3
  y: int -1000..1000 = 4
  ammo: int 0..1000000000 = 1000000000
  score: int 0..1000000000 = 0
  request launch(ax: int -1000..1000, ay: int -1000..1000)
    limit 1000 per 50ms
    check Dive.phase == 1 else deny "not in the water"
    check ammo > 0 else deny "no flare"
    check (ax - x) * (ax - x) + (ay - y) * (ay - y) <= 100 else deny "too far"
  { ammo -= 1; score += 1; hull = ax }
}`

func BenchmarkDecide(b *testing.B) {
	c, problems := compile.Load("bench.kam", benchText)
	if c == nil {
		b.Fatal(problems)
	}
	s, err := New(c, Options{})
	if err != nil {
		b.Fatal(err)
	}
	n, _ := s.Join("Ana", "")
	s.Tick()
	t := s.seats[n]
	step := &Step{}
	call := s.ReadRequest(
		wire.Ask{
			Entity:  s.view.Number(s.world.OfClient(1, n)),
			Request: "Diver.launch",
			Args:    []json.RawMessage{[]byte("5"), []byte("6")},
		},
	)
	b.ReportAllocs()
	for b.Loop() {
		call.ask.Seq++
		t.decidedNow = 0
		if call.ask.Seq%1000 == 0 {
			s.tick++
			t.queuedDecisions = t.queuedDecisions[:0]
			step.Decisions = step.Decisions[:0]
		}
		s.decide(t, &call, step)
		if d := t.queuedDecisions[len(t.queuedDecisions)-1]; d.Outcome != wire.Accepted {
			b.Fatal(d)
		}
	}
}

// byHand decides the same request with the same stages, written for this one contract: what somebody would write who
// keeps checks, limits, transactions and decisions by hand.
type byHand struct {
	w       *world.World
	view    *replicate.View
	dive    *world.Entity
	kind    *contract.Kind
	limits  map[limitKey]*limitWindow
	newest  uint64
	first   [rememberedDecisions]wire.Decision
	decided int
	tick    int64
	said    []wire.Decision
	log     []Decision
}

func (h *byHand) decide(client int, seq uint64, entity uint32, ax, ay int64, limit *contract.Limit) wire.Outcome {
	kept := &h.first[seq%rememberedDecisions]
	if seq <= h.newest && kept.Seq == seq {
		return kept.Outcome
	}
	out := wire.Decision{Seq: seq, Outcome: wire.Accepted, Check: -1}
	e := h.view.Entity(client, entity)
	switch h.decided++; {
	case seq <= h.newest || h.decided > maxPerTick:
		out.Outcome = wire.Dropped
		out.Stage = wire.StageBounds
	case ax < -1000 || ax > 1000 || ay < -1000 || ay > 1000:
		out.Outcome = wire.Malformed
		out.Stage = wire.StageTypes
	case e == nil || e.Kind != h.kind:
		out.Outcome = wire.Denied
		out.Stage = wire.StageTarget
	case e.Owner != client:
		out.Outcome = wire.Denied
		out.Stage = wire.StageFrom
	case !h.limits[limitKey{0, e.ID}].take(limit.Count, limit.Window, h.tick):
		out.Outcome = wire.Dropped
		out.Stage = wire.StageLimit
	default:
		row := e.Nums
		dx := ax - row[1]
		dy := ay - row[2] // both small, so nothing wraps
		switch {
		case h.dive.Nums[0] != 1:
			out.Outcome = wire.Denied
			out.Stage = wire.StageCheck
			out.Check = 0
		case row[3] <= 0:
			out.Outcome = wire.Denied
			out.Stage = wire.StageCheck
			out.Check = 1
		case dx*dx+dy*dy > 100:
			out.Outcome = wire.Denied
			out.Stage = wire.StageCheck
			out.Check = 2
		default:
			h.w.Write(e, 3, 3, row[3]-1)
			h.w.Write(e, 4, 4, row[4]+1)
			h.w.Write(e, 0, 0, min(max(ax, 0), 100))
			if row[4] > 1000000000 {
				h.w.Rollback()
				out.Outcome = wire.Faulted
				out.Stage = wire.StageBody
			} else {
				h.w.Commit()
			}
		}
	}
	h.newest = seq
	*kept = out
	h.said = append(h.said, out)
	h.log = append(h.log, Decision{
		Tick:    h.tick,
		Client:  wire.Client{Number: client, Name: "Ana", Role: "player"},
		Entity:  entity,
		Outcome: out.Outcome,
		Stage:   out.Stage,
	})
	return out.Outcome
}

func BenchmarkDecideByHand(b *testing.B) {
	c, _ := compile.Load("bench.kam", benchText)
	s, err := New(c, Options{})
	if err != nil {
		b.Fatal(err)
	}
	n, _ := s.Join("Ana", "")
	s.Tick()
	e := s.world.OfClient(1, n)
	h := &byHand{
		w:      s.world,
		view:   s.view,
		dive:   s.world.Shared(0),
		kind:   e.Kind,
		limits: map[limitKey]*limitWindow{{0, e.ID}: {}},
	}
	entity := s.view.Number(e)
	limit := c.Requests[0].Limit
	seq := uint64(0)
	b.ReportAllocs()
	for b.Loop() {
		seq++
		h.decided = 0
		if seq%1000 == 0 {
			h.tick++
			h.said = h.said[:0]
			h.log = h.log[:0]
		}
		if h.decide(n, seq, entity, 5, 6, limit) != wire.Accepted {
			b.Fatal("it was not accepted")
		}
	}
}
