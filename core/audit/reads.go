package audit

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"slices"

	"kamerad/core/contract"
	"kamerad/core/play"
	"kamerad/core/rules"
	"kamerad/core/session"
	"kamerad/core/wire"
)

// Why a value was not varied behind a client's back. Those that are for everyone hide nothing and are no cells; the others count as not
// filled, and the report names each.
const (
	forEveryone = "everyone may have it"
	movesItself = "it moves by itself, or is an input: nothing sets it from outside"
	refersTo    = "what it refers to cannot be varied alone"
	nobodyThere = "no client was there that may not have it, while something had it"
	tooLong     = "the contract is too large to be followed"
)

// reads looks for what a client can learn of values that it may not have: two sessions that differ in nothing but such a value, in which
// one client tries everything, have to tell it the same, byte for byte, for as long as what was revealed to it on purpose is the same.
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
		if cell.Tried == 0 && cell.Why == "" {
			cell.Why = nobodyThere
		}
	}
	return nil
}

// read varies one property once. done tells whether there was anything to vary.
func read(c *contract.Contract, o Options, t *target, round uint64) (done bool, err error) {
	key := sha256.Sum256(fmt.Appendf(nil, "reads %d %d %s", o.Seed, round, t.name()))
	var pair [2]*session.Session
	for i := range pair {
		if pair[i], err = session.New(c, session.Options{Key: key, Strict: true, Reveals: true, Settings: o.With}); err != nil {
			return false, err
		}
	}
	outline := c.Outline()
	r := rand.New(rand.NewPCG(o.Seed, round))
	role := c.Roles[int(round)%len(c.Roles)]
	var people []*someone
	for i, as := range []string{role, c.Roles[0], c.Roles[0]} {
		n, err := pair[0].Join(fmt.Sprint("r", i), as)
		if err != nil {
			return false, nil
		}
		if _, err := pair[1].Join(fmt.Sprint("r", i), as); err != nil {
			return false, nil
		}
		p := &someone{me: wire.Client{Number: n, Role: as}, outline: outline, reader: pair[0].Reader(n)}
		p.copy.Me = n
		p.actor = play.NewActor(p, rand.New(rand.NewPCG(round, uint64(n))))
		people = append(people, p)
		for _, s := range pair {
			s.Ready(n)
		}
	}
	spy := people[0]
	spy.forger = &forger{contract: c, outline: outline, actor: spy.actor, copy: &spy.copy, me: spy.me, kinds: map[uint32]string{}, r: r, hidden: func(string) uint32 { return 0 }}
	revealed := false // something else was revealed to the spy in one of the two, or somebody else would have asked otherwise
	// step lets both go on, and tells whether the spy got the same, or was told something else on purpose.
	step := func() (same bool, err error) {
		var got [2][]byte
		var told [2][]rules.Reveal
		var others [2][]session.Decision
		for i, s := range pair {
			x := s.Tick()
			others[i] = slices.DeleteFunc(slices.Clone(x.Decisions), func(d session.Decision) bool { return d.Client.Number == spy.me.Number })
			for _, r := range x.Reveals {
				if r.Clients == nil || slices.Contains(r.Clients, spy.me.Number) {
					told[i] = append(told[i], r)
				}
			}
			for _, cf := range x.Frames {
				if i == 0 {
					for _, p := range people {
						if p.me.Number == cf.Client {
							f, err := p.reader.Read(cf.Bytes)
							if err != nil {
								return false, err
							}
							p.copy.Apply(f)
						}
					}
				}
				if cf.Client == spy.me.Number {
					got[i] = slices.Clone(cf.Bytes)
				}
				s.Confirm(cf.Client, s.Now())
			}
		}
		alike := func(a, b rules.Reveal) bool { return a.Place == b.Place && a.Value == b.Value }
		answered := func(a, b session.Decision) bool { return a.Outcome == b.Outcome && a.Reason == b.Reason }
		revealed = revealed || !slices.EqualFunc(told[0], told[1], alike) || !slices.EqualFunc(others[0], others[1], answered)
		return revealed || bytes.Equal(got[0], got[1]), nil
	}
	send := func(p *someone, m wire.FromClient) {
		for _, s := range pair {
			give(s, given{from: p, m: m})
		}
	}
	play := func(people []*someone) {
		for _, p := range people {
			if entity, request, args := p.actor.Pick(); request != "" && r.IntN(2) == 0 {
				m := wire.FromClient{Type: "ask"}
				m.Request, m.Entity, m.Args = request, entity, args
				send(p, p.number(m, pair[0].Now()))
			}
		}
	}
	for range 20 + int(round)*15 {
		play(people)
		if same, err := step(); err != nil || !same {
			return false, err
		}
	}
	for range 3 { // nothing of what the others did is left
		if same, err := step(); err != nil || !same {
			return false, err
		}
	}
	// The value is changed in one of them, of something that the spy may not have it of.
	varied := uint32(0)
	for _, s := range pair[1].State().Spawned {
		if s.Kind != t.kind.Name || s.Owner == spy.me.Number {
			continue
		}
		if x := spy.copy.Thing(s.Entity); x != nil {
			if _, has := x.Field(t.prop.Name); has {
				continue
			}
		}
		for _, f := range s.Fields {
			if f.Name != t.prop.Name {
				continue
			}
			v := other(f.Type, f.Value, r)
			if !v.Equal(f.Value) && pair[1].Set(s.Entity, f.Name, v) == nil {
				varied = s.Entity
			}
		}
	}
	if varied == 0 {
		return false, nil
	}
	cell := t.cells[Reads]
	cell.Tried++
	ways := slices.DeleteFunc(targets(c, outline), func(x *target) bool { return x.sort == OfValue })
	for i := range 60 {
		if revealed {
			cell.Outcomes["told nothing, until it was revealed or decided what somebody else does"]++
			return true, nil
		}
		if i%4 == 3 {
			play(people[1:]) // what they may know of it tells the spy no more
		}
		var last *attack
		for range min(4, len(ways)) {
			y := ways[r.IntN(len(ways))]
			for _, a := range spy.forger.make(y, []string{Checks, NotOwner, WrongType, TooFast}[i%4]) {
				last = &a
				send(spy, spy.number(a.m, pair[0].Now()))
			}
		}
		same, err := step()
		if err != nil {
			return true, err
		}
		if !same {
			tried := "watching"
			if last != nil {
				tried = word(last.m)
			}
			cell.note("a %s learns of it, after %s", role, tried)
			return true, nil
		}
	}
	cell.Outcomes["told nothing"]++
	return true, nil
}

// other gives another value of a type.
func other(t *contract.Type, v contract.Value, r *rand.Rand) contract.Value {
	switch t.Form {
	case contract.FormBool:
		return contract.Value{Num: 1 - v.Num}
	case contract.FormInt, contract.FormReal, contract.FormDirection:
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
			out.Parts[0] = other(t.Of, v.Parts[0], r)
			return out
		}
	case contract.FormMap:
		if len(v.Parts) > 0 {
			return contract.Value{Parts: slices.Clone(v.Parts[1:])}
		}
	case contract.FormRecord:
		out := contract.Value{Parts: slices.Clone(v.Parts)}
		for i, p := range t.Parts {
			out.Parts[i] = other(p.Type, v.Parts[i], r)
		}
		return out
	}
	return v
}
