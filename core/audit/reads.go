package audit

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/play"
	"kamerad.example/core/rules"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// Why a value was not varied behind a client's back. Those that are for everyone hide nothing, those that are computed
// no more than what they are computed from: they are no cells. The others count as not filled, and the report names
// each.
const (
	forEveryone  = "everyone may have it"
	isComputed   = "it is computed, and what it is computed from is varied"
	movesItself  = "it moves by itself, or is an input: nothing sets it from outside"
	refersTo     = "what it refers to cannot be varied alone"
	nobodyThere  = "no client was there that may not have it, while something had it"
	soonRevealed = "each time it was revealed, or decided what somebody else did, before much could be compared"
)

// reads looks for what a client can learn of values that it may not have: two sessions that differ in nothing but such
// a value, in which one client tries everything, have to tell it the same, byte for byte, for as long as what was
// revealed to it on purpose is the same.
//
// Each property is varied in four states that play led to. What the flow analysis proves for all states
// this only tries in some, but with the bytes that are really sent.
func reads(ctx context.Context, c *contract.Contract, o Options, list []*target, report *Report) error {
	for _, t := range list {
		if t.prop == nil {
			continue
		}
		cell := t.cells[Reads]
		switch p := t.prop; {
		case p.To == contract.Everyone && t.kind.To == contract.Everyone:
			cell.Why = forEveryone
			continue
		case p.Computed:
			cell.Why = isComputed
			continue
		case p.Follows != nil || p.Hold != nil:
			cell.Why = movesItself
			continue
		case p.Type.Has(contract.FormEntity) || p.Type.Has(contract.FormClient):
			cell.Why = refersTo
			continue
		}
		for round := range 4 {
			if err := ctx.Err(); err != nil {
				return err
			}
			done, err := read(c, o, t, uint64(round))
			if err != nil {
				return err
			}
			if done {
				report.Tried++
			}
		}
		switch {
		case cell.Tried > 0:
			cell.Why = ""
		case cell.Why == "":
			cell.Why = nobodyThere
		}
	}
	return nil
}

// twins are two sessions in which the same is done, until a value is changed in the second one. The first of the people
// is the spy.
//
// They have the same key, so their dice fall alike.
type twins struct {
	contract *contract.Contract
	outline  *contract.Outline
	pair     [2]*session.Session // the second one gets the other value
	people   []*someone
	spy      *someone
	r        *rand.Rand
	parted   bool // something else was revealed to the spy in one of the two, or somebody else was answered otherwise
}

// least is how many ticks have to be compared after a value has been varied, so that it counts as tried.
const least = 10

// read varies one property once. done reports whether there was anything to vary, and enough to compare.
//
// It ends early when the spy is told something on purpose, or somebody else is answered differently:
// from then on a difference proves nothing.
func read(c *contract.Contract, o Options, t *target, round uint64) (done bool, err error) {
	w, err := newTwins(c, o, t, round)
	if w == nil {
		return false, err
	}
	ready, err := w.prepare(20 + int(round)*15)
	if err != nil || !ready {
		return false, err
	}
	cell := t.cells[Reads]
	if !w.vary(t) {
		return false, nil
	}
	ways := slices.DeleteFunc(targets(c, w.outline), func(x *target) bool { return x.sort == OfValue })
	for i := range 60 {
		if i%4 == 3 {
			w.play(w.people[1:]) // what they may know of it tells the spy no more
		}
		last := w.attack(ways, []string{Checks, NotOwner, WrongType, TooFast}[i%4])
		same, err := w.step()
		if err != nil {
			return true, err
		}
		if !same {
			cell.Tried++
			cell.note("a %s learns of it, after %s", w.spy.me.Role, last)
			return true, nil
		}
		if w.parted {
			if i < least {
				cell.Why = soonRevealed
				return false, nil
			}
			cell.Tried++
			cell.Outcomes["told nothing, until it was revealed or decided what somebody else does"]++
			return true, nil
		}
	}
	cell.Tried++
	cell.Outcomes["told nothing"]++
	return true, nil
}

// newTwins opens two sessions and lets three clients join them; nil when the contract lets nobody in.
//
// The spy has another role in each round, as far as there are several.
func newTwins(c *contract.Contract, o Options, t *target, round uint64) (*twins, error) {
	w := &twins{contract: c, outline: c.Outline(), r: rand.New(rand.NewPCG(o.Seed, round))}
	key := sha256.Sum256(fmt.Appendf(nil, "reads %d %d %s", o.Seed, round, t.name()))
	for i := range w.pair {
		s, err := session.New(c, session.Options{
			Key:      key,
			Strict:   true,
			Reveals:  true,
			Settings: o.With,
		})
		if err != nil {
			return nil, err
		}
		w.pair[i] = s
	}
	for i, role := range []string{c.Roles[int(round)%len(c.Roles)], c.Roles[0], c.Roles[0]} {
		n := 0
		for _, s := range w.pair {
			number, err := s.Join(fmt.Sprint("r", i), role)
			if err != nil {
				return nil, nil
			}
			n = number
			s.Ready(n)
		}
		p := &someone{me: wire.Client{Number: n, Role: role}, outline: w.outline, reader: w.pair[0].Reader(n)}
		p.copy.Me = n
		p.actor = play.NewActor(p, rand.New(rand.NewPCG(round, uint64(n))))
		w.people = append(w.people, p)
	}
	w.spy = w.people[0]
	w.spy.forger = &forger{
		contract: c,
		outline:  w.outline,
		actor:    w.spy.actor,
		copy:     &w.spy.copy,
		me:       w.spy.me,
		kinds:    map[uint32]string{},
		r:        w.r,
		hidden:   func(string) uint32 { return 0 },
	}
	return w, nil
}

// prepare plays some ticks, and waits until nothing of what was done in them is left.
//
// A few ticks without play let everything arrive, so that the value is varied in a state that both have
// told in full.
func (w *twins) prepare(ticks int) (ready bool, err error) {
	for i := range ticks + 3 {
		if i < ticks {
			w.play(w.people)
		}
		same, err := w.step()
		if err != nil || !same {
			return false, err
		}
	}
	return true, nil
}

// step lets both go on for a tick, and reports whether the spy got the same, or they have parted.
func (w *twins) step() (same bool, err error) {
	var got [2][]byte
	var told [2][]rules.Reveal
	var others [2][]session.Decision
	spy := w.spy.me.Number
	for i, s := range w.pair {
		x := s.Tick()
		others[i] = slices.DeleteFunc(
			slices.Clone(x.Decisions), func(d session.Decision) bool { return d.Client.Number == spy },
		)
		for _, r := range x.Reveals {
			if r.Clients == nil || slices.Contains(r.Clients, spy) {
				told[i] = append(told[i], r)
			}
		}
		for _, cf := range x.Frames {
			if cf.Client == spy {
				got[i] = slices.Clone(cf.Bytes)
			}
			if i == 0 {
				err := w.hear(cf)
				if err != nil {
					return false, err
				}
			}
			s.Confirm(cf.Client, s.Now())
		}
	}
	alike := func(a, b rules.Reveal) bool { return a.Place == b.Place && a.Value == b.Value }
	answered := func(a, b session.Decision) bool { return a.Outcome == b.Outcome && a.Reason == b.Reason }
	if !slices.EqualFunc(told[0], told[1], alike) || !slices.EqualFunc(others[0], others[1], answered) {
		w.parted = true
	}
	return w.parted || bytes.Equal(got[0], got[1]), nil
}

// hear hands a frame of the first session to whom it is for.
func (w *twins) hear(cf session.ClientFrame) error {
	for _, p := range w.people {
		if p.me.Number != cf.Client {
			continue
		}
		f, err := p.reader.Read(cf.Bytes)
		if err != nil {
			return err
		}
		p.copy.Apply(f)
	}
	return nil
}

// send hands a message to both sessions.
func (w *twins) send(p *someone, m wire.FromClient) {
	m = p.number(m, w.pair[0].Now())
	for _, s := range w.pair {
		give(s, given{from: p, m: m})
	}
}

// play lets some ask what they may.
func (w *twins) play(people []*someone) {
	for _, p := range people {
		entity, request, args := p.actor.Pick()
		if request == "" || w.r.IntN(2) > 0 {
			continue
		}
		m := wire.FromClient{Type: wire.MessageAsk}
		m.Request = request
		m.Entity = entity
		m.Args = args
		w.send(p, m)
	}
}

// attack lets the spy try some of the ways to make a request or a write, and tells which was the last.
//
// The result is for the message of an effect.
func (w *twins) attack(ways []*target, what string) (last string) {
	last = "watching"
	for range min(4, len(ways)) {
		way := ways[w.r.IntN(len(ways))]
		for _, a := range w.spy.forger.make(way, what) {
			w.send(w.spy, a.m)
			last = word(a.m)
		}
	}
	return last
}

// vary changes a property in the second session, of all that the spy may not have it of; false when there is nothing of
// the kind.
//
// It is varied in all entities whose value the spy does not hold, since one of them might be the one
// that matters.
func (w *twins) vary(t *target) (varied bool) {
	for _, x := range w.pair[1].State().Spawned {
		if x.Kind != t.kind.Name || x.Owner == w.spy.me.Number || w.spySees(x.Entity, t.prop.Name) {
			continue
		}
		for _, f := range x.Fields {
			if f.Name != t.prop.Name {
				continue
			}
			v := other(f.Type, f.Value)
			if !v.Equal(f.Value) && w.pair[1].Set(x.Entity, f.Name, v) == nil {
				varied = true
			}
		}
	}
	return varied
}

// spySees reports whether the spy holds a property of an entity.
func (w *twins) spySees(entity uint32, property string) bool {
	x := w.spy.copy.Entity(entity)
	if x == nil {
		return false
	}
	_, has := x.Field(property)
	return has
}

// other returns another value of a type.
//
// For a type with a single value it is the same one, and nothing is varied.
func other(t *contract.Type, v contract.Value) contract.Value {
	switch t.Form {
	case contract.FormBool:
		return contract.Value{Num: 1 - v.Num}
	case contract.FormInt, contract.FormTime, contract.FormReal, contract.FormDirection:
		if v.Num != t.Low {
			return contract.Value{Num: t.Low}
		}
		return contract.Value{Num: t.High}
	case contract.FormEnum:
		return contract.Value{Num: (v.Num + 1) % int64(len(t.Enum.Values))}
	case contract.FormVec2, contract.FormVec3:
		out := contract.Value{}
		for _, p := range v.Parts {
			out.Parts = append(out.Parts, contract.Value{Num: min(max(p.Num/2, t.Low), t.High)})
		}
		return out
	case contract.FormText:
		if v.Text == "" {
			return contract.Value{Text: "a"}
		}
		return contract.Value{}
	case contract.FormStacks:
		if len(v.Parts) > 0 {
			return contract.Value{}
		}
		return contract.Value{Parts: []contract.Value{{Parts: []contract.Value{{Num: 0}, {Num: 1}}}}}
	case contract.FormKind:
		return contract.Value{Num: (v.Num + 1) % int64(len(t.Names))}
	case contract.FormInstant:
		return contract.Value{Num: v.Num + 1}
	case contract.FormList: // the same, but for its first item
		if len(v.Parts) > 0 {
			out := contract.Value{Parts: slices.Clone(v.Parts)}
			out.Parts[0] = other(t.Of, v.Parts[0])
			return out
		}
	case contract.FormMap:
		if len(v.Parts) > 0 {
			return contract.Value{Parts: slices.Clone(v.Parts[1:])}
		}
	case contract.FormRecord:
		out := contract.Value{Parts: slices.Clone(v.Parts)}
		for i, p := range t.Parts {
			out.Parts[i] = other(p.Type, v.Parts[i])
		}
		return out
	}
	return v
}
