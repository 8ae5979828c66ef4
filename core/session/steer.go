package session

import (
	"fmt"

	"kamerad/core/contract"
	"kamerad/core/replicate"
	"kamerad/core/rules"
	"kamerad/core/wire"
	"kamerad/core/world"
)

// State gives all that the server holds at this moment, with the numbers that entities have toward clients: also what
// changed since the last tick.
func (s *Session) State() *wire.Block {
	b := &wire.Block{Joined: s.Clients()}
	for _, e := range s.world.Entities() {
		b.Spawned = append(b.Spawned, s.teller.Spawn(e))
	}
	return b
}

// find gives the entity of a number that State tells, or nil.
func (s *Session) find(entity uint32) *world.Entity {
	for _, e := range s.world.Entities() {
		if s.teller.Number(e) == entity {
			return e
		}
	}
	return nil
}

// Named tells of an entity, by its number toward clients, what names it whatever the key is: its kind, and the how
// manyth of that kind it was to be spawned, from 1; and whom it belongs to.
func (s *Session) Named(entity uint32) (kind string, nth int64, owner int, ok bool) {
	if e := s.find(entity); e != nil {
		return e.Kind.Name, e.Serial, e.Owner, true
	}
	return "", 0, 0, false
}

// Nth gives the number toward clients of the entity that was the nth of its kind to be spawned, 0 when it is not there.
func (s *Session) Nth(kind string, nth int64) uint32 {
	for _, e := range s.world.Entities() {
		if e.Kind.Name == kind && e.Serial == nth {
			return s.teller.Number(e)
		}
	}
	return 0
}

// Set gives a property another value, as a body of the server would, and runs what that sets off. It counts at once;
// clients learn of it with the next tick. Refs in the value are by the numbers that State tells. The error says why
// nothing was changed.
func (s *Session) Set(entity uint32, property string, v contract.Value) error {
	e := s.find(entity)
	if e == nil {
		return fmt.Errorf("set %s of entity %d: there is no such entity", property, entity)
	}
	p := e.Kind.Property(property)
	if p == nil {
		return fmt.Errorf("set %s.%s: the kind has no such property", e.Kind.Name, property)
	}
	v, err := p.Type.ParseJSON(p.Type.AppendJSON(nil, v))
	if err != nil {
		return fmt.Errorf("set %s.%s: the value %w", e.Kind.Name, property, err)
	}
	v = p.Type.Refs(v, func(n int64) int64 {
		if e := s.find(uint32(n)); e != nil {
			return int64(e.ID)
		}
		return 0
	})
	s.world.Tick = s.tick + 1 // no client can have confirmed it
	s.world.Set(e, p, p.Type.AppendSlots(nil, v, s.world.Intern))
	s.cause('s', e.Key(), int64(p.Index))
	return s.concluded("set "+e.Kind.Name+"."+property, s.machine.Settle())
}

// Hand gives an entity to a client, or with 0 to the server, as a body of the server would.
func (s *Session) Hand(entity uint32, to int) error {
	e := s.find(entity)
	switch {
	case e == nil:
		return fmt.Errorf("give entity %d: there is no such entity", entity)
	case e.Kind.Per >= 0:
		return fmt.Errorf("give a %s: it always belongs to its client", e.Kind.Name)
	case to != 0 && s.world.Client(to) == nil:
		return fmt.Errorf("give a %s to client %d: there is no such client", e.Kind.Name, to)
	}
	s.world.Tick = s.tick + 1
	s.world.SetOwner(e, to)
	return s.concluded("give a "+e.Kind.Name, s.machine.Settle())
}

// concluded ends a change from outside.
func (s *Session) concluded(what string, o *rules.Outcome) error {
	s.touched = true
	s.settle(o)
	s.follow()
	if o != nil {
		return fmt.Errorf("%s: it sets off something that fails: %s (line %d)", what, o.Reason, o.Line)
	}
	return nil
}

// Strikes tells how many strikes count against a client now.
func (s *Session) Strikes(client int) int {
	t := s.seats[client]
	if t == nil {
		return 0
	}
	n := 0
	for _, at := range t.strikes.ticks {
		if at+s.contract.Window > s.tick {
			n++
		}
	}
	return n
}

// Difference is something that a client's copy lacks, has in excess, or has otherwise than it should.
type Difference struct {
	Entity   uint32
	Kind     string
	Owner    int
	Property string // empty for the entity itself
	Server   string // what the client should hold; empty for nothing
	Client   string // what it holds; empty for nothing
}

// Compare holds a client's copy against the rules: each entity and property is asked for anew, whatever was sent. The
// copy has to be as of the last tick. What is throttled may be older than the server's value and is left out.
func (s *Session) Compare(client int, held *replicate.Copy) (out []Difference) {
	t := s.seats[client]
	if t == nil || !t.joined {
		return nil
	}
	known := 0
	for _, e := range s.world.Entities() {
		number := s.teller.Number(e)
		thing := held.Entity(number)
		sees := s.machine.Sees(e, client)
		d := Difference{Entity: number, Kind: e.Kind.Name, Owner: e.Owner}
		if thing != nil {
			known++
		}
		if sees != (thing != nil) {
			d.Server, d.Client = presence(sees), presence(thing != nil)
			out = append(out, d)
			continue
		}
		if thing == nil {
			continue
		}
		if thing.Owner != e.Owner {
			d.Property, d.Server, d.Client = "owner", fmt.Sprint(e.Owner), fmt.Sprint(thing.Owner)
			out = append(out, d)
		}
		for _, p := range e.Kind.Properties {
			f, has := thing.Field(p.Name)
			gets := s.machine.Gets(e, p, client)
			d.Property = p.Name
			d.Server = ""
			d.Client = ""
			want := p.Type.Format(s.view.RefsFor(client, p.Type, s.world.Value(e, p)))
			switch {
			case !gets && !has:
				continue
			case !gets:
				d.Client = p.Type.Format(f.Value)
			case !has:
				d.Server = want
			default:
				got := p.Type.Format(p.Type.Refs(f.Value, func(n int64) int64 { // what is gone is nothing to both
					if held.Entity(uint32(n)) == nil {
						return 0
					}
					return n
				}))
				if got == want || p.AtMost > 0 {
					continue
				}
				d.Server = want
				d.Client = got
			}
			out = append(out, d)
		}
	}
	for _, x := range held.Entities() {
		if known < len(held.Entities()) && s.find(x.Number) == nil {
			out = append(out, Difference{
				Entity: x.Number,
				Kind:   x.Kind,
				Owner:  x.Owner,
				Client: "there",
			})
		}
	}
	return out
}

func presence(yes bool) string {
	if yes {
		return "there"
	}
	return ""
}
