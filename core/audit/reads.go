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
	"kamerad/core/session"
	"kamerad/core/wire"
)

// reads looks for what a client can learn of values that it may not have: two sessions that differ in nothing but such a value, in which
// one client tries everything, have to tell it the same, byte for byte.
func reads(ctx context.Context, c *contract.Contract, o Options, list []*target, report *Report) error {
	asked := map[string]bool{}
	for _, t := range list {
		if t.sort != OfValue {
			asked[t.name()] = true
		}
	}
	revealed := map[string]map[string]bool{} // by value: the requests and holds that reveal something of it
	for _, r := range c.Matrix().Reveals {
		for _, name := range r.Of {
			if revealed[name] == nil {
				revealed[name] = map[string]bool{}
			}
			revealed[name][r.In] = true
		}
	}
	for _, t := range list {
		if t.prop == nil {
			continue
		}
		cell := t.cells[Reads]
		switch p := t.prop; {
		case p.To == contract.Everyone && t.kind.To == contract.Everyone:
			cell.Why = "everyone may have it"
			continue
		case !all(revealed[t.name()], asked) || !all(revealed[t.kind.Name], asked):
			cell.Why = "a timer or handler reveals something of it"
			continue
		case p.Follows != nil || p.Hold != nil || p.Once:
			cell.Why = "it cannot be changed from outside"
			continue
		case p.Type.Has(contract.FormEntity) || p.Type.Holder() && p.Type.Form != contract.FormStacks:
			cell.Why = "what it names cannot be varied alone"
			continue
		}
		for round := range 4 {
			if err := ctx.Err(); err != nil {
				return err
			}
			done, err := read(c, o, t, uint64(round), revealed[t.name()])
			if err != nil {
				return err
			}
			if done {
				report.Tried++
			}
		}
		if cell.Tried == 0 {
			cell.Why = "no client was there that may not have it, while something had it"
		}
	}
	return nil
}

// all tells whether all of some names are among others.
func all(names, among map[string]bool) bool {
	for name := range names {
		if !among[name] {
			return false
		}
	}
	return true
}

// read varies one property once; what reveals it on purpose is not used then. done tells whether there was anything to vary.
func read(c *contract.Contract, o Options, t *target, round uint64, reveals map[string]bool) (done bool, err error) {
	key := sha256.Sum256(fmt.Appendf(nil, "reads %d %d %s", o.Seed, round, t.name()))
	var pair [2]*session.Session
	for i := range pair {
		if pair[i], err = session.New(c, session.Options{Key: key, Strict: true, Settings: o.With}); err != nil {
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
	// step lets both go on and tells what the spy got.
	step := func() (same bool, err error) {
		var got [2][]byte
		for i, s := range pair {
			for _, cf := range s.Tick().Frames {
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
		return bytes.Equal(got[0], got[1]), nil
	}
	send := func(p *someone, m wire.FromClient) {
		for _, s := range pair {
			give(s, given{from: p, m: m})
		}
	}
	for range 20 + int(round)*15 {
		for _, p := range people {
			if entity, request, args := p.actor.Pick(); request != "" && r.IntN(2) == 0 {
				m := wire.FromClient{Type: "ask"}
				m.Request, m.Entity, m.Args = request, entity, args
				send(p, p.number(m, pair[0].Now()))
			}
		}
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
	ways := slices.DeleteFunc(targets(c, outline), func(x *target) bool { return x.sort == OfValue || reveals[x.name()] })
	for i := range 60 {
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
	}
	return v
}
