// Package play picks what a client does next from what it holds: an honest player that knows nothing of the game but
// its contract.
//
// An Actor looks at its Player at each choice and keeps nothing of what it saw. It sends nothing: what it picks is the
// caller's, to send or not.
package play

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// Player is what an Actor looks through: a client's seat with what it holds, such as a client.Client.
type Player interface {
	Outline() *contract.Outline
	Me() wire.Client
	Look(f func(*replicate.Copy))
}

// Actor picks what a client does next from what it holds.
type Actor struct {
	player Player
	random *rand.Rand
}

// NewActor makes an actor. The same dice give the same choices where the player holds the same.
func NewActor(p Player, r *rand.Rand) *Actor { return &Actor{p, r} }

// mine reports whether a role or an owner may send a request.
func mine(from, role string) bool {
	return from == "owner" || strings.Contains(from, "everyone") || strings.Contains(from, role)
}

// Pick chooses a request that the client may send, on an entity that it knows, with arguments of the right types.
func (a *Actor) Pick() (entity uint32, request string, args []json.RawMessage) {
	o := a.player.Outline()
	me := a.player.Me()
	a.player.Look(func(c *replicate.Copy) {
		for range 20 {
			k := &o.Kinds[a.random.IntN(len(o.Kinds))]
			if len(k.Requests) == 0 {
				continue
			}
			r := &k.Requests[a.random.IntN(len(k.Requests))]
			if !mine(r.From, me.Role) {
				continue
			}
			var of []*replicate.Entity
			for _, t := range c.Entities() {
				if t.Kind == k.Name && (r.From != "owner" || t.Owner == me.Number) {
					of = append(of, t)
				}
			}
			if len(of) == 0 {
				continue
			}
			entity = of[a.random.IntN(len(of))].Number
			request = k.Name + "." + r.Name
			args = nil
			for _, p := range r.Params {
				args = append(args, p.Type.AppendJSON(nil, a.Value(c, p.Type)))
			}
			return
		}
	})
	return entity, request, args
}

// Value picks a value of a type: what refers to something refers to what is there, and a place is mostly one that
// something has.
//
//revive:disable-next-line:function-length It is one switch.
func (a *Actor) Value(c *replicate.Copy, t *contract.Type) contract.Value {
	r := a.random
	switch t.Form {
	case contract.FormBool:
		return contract.Value{Num: r.Int64N(2)}
	case contract.FormInt, contract.FormTime, contract.FormReal, contract.FormDirection:
		if r.IntN(3) == 0 {
			if list := numbersLike(c, t); len(list) > 0 {
				return contract.Value{Num: list[r.IntN(len(list))]}
			}
		}
		return contract.Value{Num: a.number(t)}
	case contract.FormEnum:
		return contract.Value{Num: r.Int64N(int64(len(t.Enum.Values)))}
	case contract.FormKind:
		return contract.Value{Num: r.Int64N(int64(len(t.Names)))}
	case contract.FormClient:
		if len(c.Clients) == 0 { // no frame has come yet
			return contract.Value{}
		}
		return contract.Value{Num: int64(c.Clients[r.IntN(len(c.Clients))].Number)}
	case contract.FormEntity:
		var list []int64
		for _, x := range c.Entities() {
			if slices.Contains(t.Names, x.Kind) {
				list = append(list, int64(x.Number))
			}
		}
		if len(list) > 0 {
			return contract.Value{Num: list[r.IntN(len(list))]}
		}
		return contract.Value{}
	case contract.FormText:
		length := []int{0, min(1, t.Max), min(1, t.Max), t.Max}[r.IntN(4)]
		return contract.Value{Text: strings.Repeat(string(t.Character(true)), length)}
	case contract.FormVec2, contract.FormVec3:
		for _, x := range c.Entities() {
			for _, f := range x.Fields {
				if x.Owner == c.Me && f.Type.Form == t.Form && f.Type.Per == t.Per && f.Type.Unit == t.Unit &&
					r.IntN(4) > 0 {
					return f.Value
				}
			}
		}
		fallthrough
	case contract.FormRotation:
		var v contract.Value
		for i := range t.Reals() {
			n := a.number(t)
			if t.Form == contract.FormRotation { // none
				n = map[bool]int64{true: t.High, false: 0}[i == 3]
			}
			v.Parts = append(v.Parts, contract.Value{Num: n})
		}
		return v
	case contract.FormRecord:
		var v contract.Value
		for _, p := range t.Parts {
			v.Parts = append(v.Parts, a.Value(c, p.Type))
		}
		return v
	}
	return a.several(c, t)
}

// number picks a number of a type's range; the lowest one of a range with more than 63 bits.
func (a *Actor) number(t *contract.Type) int64 {
	if span := uint64(t.High) - uint64(t.Low); span < math.MaxInt64 {
		return t.Low + a.random.Int64N(int64(span)+1)
	}
	return t.Low
}

// numbersLike returns the numbers that something in the copy has of a type like t.
func numbersLike(c *replicate.Copy, t *contract.Type) []int64 {
	var list []int64
	for _, x := range c.Entities() {
		for _, f := range x.Fields {
			if f.Type.Form == t.Form && f.Type.Low == t.Low && f.Type.High == t.High && f.Type.Per == t.Per {
				list = append(list, f.Value.Num)
			}
		}
	}
	return list
}

// several picks a value of a list, a map or stacks: an empty one, or one with a few items.
func (a *Actor) several(c *replicate.Copy, t *contract.Type) (v contract.Value) {
	const most = 3
	n := a.random.IntN(min(t.Max, most) + 1)
	switch t.Form {
	case contract.FormList:
		for range n {
			v.Parts = append(v.Parts, a.Value(c, t.Of))
		}
	case contract.FormMap:
		if n > 0 { // of several, two might have the same key
			v.Parts = []contract.Value{{Parts: []contract.Value{a.Value(c, t.Key), a.Value(c, t.Of)}}}
		}
	case contract.FormStacks:
		for i := range min(n, len(t.Enum.Values)) {
			v.Parts = append(
				v.Parts, contract.Value{Parts: []contract.Value{{Num: int64(i)}, {Num: 1 + a.random.Int64N(t.Each)}}},
			)
		}
	}
	return v
}

// isCarried reports whether a property is attached to something now, so that a write of it would be denied.
func isCarried(c *replicate.Copy, e *replicate.Entity, p contract.PropertyOutline) bool {
	holder, _, attaches := strings.Cut(p.Follows, ".")
	if !attaches {
		return false
	}
	ref, has := e.Value(holder)
	return has && c.Entity(uint32(ref.Num)) != nil
}

// Step picks a property that the client sets itself, and a value not far from the one that it has.
func (a *Actor) Step() (property string, value json.RawMessage) {
	o := a.player.Outline()
	me := a.player.Me()
	a.player.Look(func(c *replicate.Copy) {
		for _, k := range o.Kinds {
			t := c.OwnedBy(k.Name, me.Number)
			if t == nil {
				continue
			}
			for _, p := range k.Properties {
				f, has := t.Field(p.Name)
				if p.SetBy != "owner" || !has || isCarried(c, t, p) {
					continue
				}
				v := contract.Value{Num: f.Value.Num, Text: f.Value.Text, Parts: slices.Clone(f.Value.Parts)}
				near := func(n int64) int64 { return min(max(n+a.random.Int64N(21)-10, p.Type.Low), p.Type.High) }
				switch {
				case len(v.Parts) > 0 && p.Type.Reals() > 0:
					for i := range v.Parts {
						v.Parts[i].Num = near(v.Parts[i].Num)
					}
				case p.Type.Whole() || p.Type.Form == contract.FormReal:
					v.Num = near(v.Num)
				}
				property = k.Name + "." + p.Name
				value = p.Type.AppendJSON(nil, v)
				return
			}
		}
	})
	return property, value
}
