package session

import (
	"fmt"

	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// What follows is for those who look at a session from outside and try it: drills, audits, tests. They name entities by
// their public numbers, as State returns them.

// State returns all that the server holds at this moment, also what changed since the last tick.
func (s *Session) State() *wire.Block {
	out := &wire.Block{Joined: s.Clients()}
	for _, e := range s.world.Entities() {
		out.Spawned = append(out.Spawned, s.numbers.Spawn(e))
	}
	return out
}

// find returns the entity with a public number, or nil.
func (s *Session) find(entity uint32) *world.Entity {
	for _, e := range s.world.Entities() {
		if s.numbers.Number(e) == entity {
			return e
		}
	}
	return nil
}

// Named returns what names an entity whatever the session's key is: its kind, and which one of that kind it was to be
// spawned, from 1; and whom it belongs to. ok is false when there is no such entity.
func (s *Session) Named(entity uint32) (kind string, nth int64, owner int, ok bool) {
	if e := s.find(entity); e != nil {
		return e.Kind.Name, e.Serial, e.Owner, true
	}
	return "", 0, 0, false
}

// PropertyType returns the type of a property of an entity, or nil when there is no such entity or property.
func (s *Session) PropertyType(entity uint32, property string) *contract.Type {
	e := s.find(entity)
	if e == nil {
		return nil
	}
	p := e.Kind.Property(property)
	if p == nil {
		return nil
	}
	return p.Type
}

// Nth returns the public number of the entity that was the nth of its kind to be spawned, 0 when it is not there.
func (s *Session) Nth(kind string, nth int64) uint32 {
	for _, e := range s.world.Entities() {
		if e.Kind.Name == kind && e.Serial == nth {
			return s.numbers.Number(e)
		}
	}
	return 0
}

// Set gives a property another value, as a body of the server would, and runs what that sets off. It counts at once;
// clients learn of it with the next tick. Refs in the value are public numbers. The error says why nothing was changed.
func (s *Session) Set(entity uint32, property string, v contract.Value) error {
	e := s.find(entity)
	if e == nil {
		return fmt.Errorf("set %s of entity %d: there is no such entity", property, entity)
	}
	p := e.Kind.Property(property)
	if p == nil {
		return fmt.Errorf("set %s.%s: the kind has no such property", e.Kind.Name, property)
	}
	if p.Computed {
		return fmt.Errorf("set %s.%s: it is computed; set what it is computed from", e.Kind.Name, property)
	}
	v, err := p.Type.ParseJSON(p.Type.AppendJSON(nil, v))
	if err != nil {
		return fmt.Errorf("set %s.%s: the value %w", e.Kind.Name, property, err)
	}
	if s.recordCall != nil {
		s.record(Call{Type: CallSet, Entity: entity, Property: property, Value: p.Type.AppendJSON(nil, v)})
	}
	v = p.Type.Refs(v, func(number int64) int64 {
		if e := s.find(uint32(number)); e != nil {
			return int64(e.ID)
		}
		return 0
	})
	s.world.Tick = s.tick + 1 // no client can have confirmed it
	s.world.Set(e, p, p.Type.AppendSlots(nil, v, s.world.Intern))
	s.setCauseOf(e, causeOutside, int64(p.Index))
	return s.endOutside("set "+e.Kind.Name+"."+property, s.machine.Settle())
}

// Hand hands an entity to a client, or with 0 to the server, as a body of the server would. The error says why
// nothing was changed.
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
	s.record(Call{Type: CallHand, Entity: entity, Client: to})
	s.world.Tick = s.tick + 1
	s.world.SetOwner(e, to)
	return s.endOutside("give a "+e.Kind.Name, s.machine.Settle())
}

// endOutside ends the transaction of a change from outside.
func (s *Session) endOutside(what string, o *rules.Outcome) error {
	s.changedOutside = true
	s.endTransaction(o)
	s.runFollowUps()
	if o != nil {
		return fmt.Errorf("%s: it sets off something that fails: %s (line %d)", what, o.Reason, o.Line)
	}
	return nil
}

// Strikes returns how many strikes count against a client now.
func (s *Session) Strikes(client int) int {
	t := s.seats[client]
	if t == nil {
		return 0
	}
	n := 0
	for _, tick := range t.strikes.ticks {
		if tick+s.contract.Window > s.tick {
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

// Compare checks a client's copy against the rules: each entity and property is asked for anew, whatever was sent. The
// copy has to be as of the last tick. A property that is sent only so many times a second may be older than the
// server's value and is left out.
func (s *Session) Compare(client int, held *replicate.Copy) (out []Difference) {
	t := s.seats[client]
	if t == nil || !t.joined {
		return nil
	}
	known := 0
	for _, e := range s.world.Entities() {
		entity := held.Entity(s.numbers.Number(e))
		if entity != nil {
			known++
		}
		out = append(out, s.compareEntity(client, held, e, entity)...)
	}
	if known == len(held.Entities()) {
		return out
	}
	for _, x := range held.Entities() {
		if s.find(x.Number) == nil {
			out = append(out, Difference{
				Entity: x.Number,
				Kind:   x.Kind,
				Owner:  x.Owner,
				Client: presence(true),
			})
		}
	}
	return out
}

// compareEntity checks what a client has of one entity against the rules. entity is nil when the client does not know
// of it.
func (s *Session) compareEntity(
	client int, held *replicate.Copy, e *world.Entity, entity *replicate.Entity,
) (out []Difference) {
	difference := func(property, server, client string) {
		out = append(out, Difference{
			Entity:   s.numbers.Number(e),
			Kind:     e.Kind.Name,
			Owner:    e.Owner,
			Property: property,
			Server:   server,
			Client:   client,
		})
	}
	sees := s.machine.Sees(e, client)
	if sees != (entity != nil) {
		difference("", presence(sees), presence(entity != nil))
		return out
	}
	if entity == nil {
		return nil
	}
	if entity.Owner != e.Owner {
		difference("owner", fmt.Sprint(e.Owner), fmt.Sprint(entity.Owner))
	}
	for _, p := range e.Kind.Properties {
		f, has := entity.Field(p.Name)
		gets := s.machine.Gets(e, p, client)
		want := p.Type.Format(s.view.RefsFor(client, p.Type, s.world.Value(e, p)))
		switch {
		case !gets && !has:
		case !gets:
			difference(p.Name, "", p.Type.Format(f.Value))
		case !has:
			difference(p.Name, want, "")
		default:
			got := p.Type.Format(p.Type.Refs(f.Value, func(number int64) int64 { // a ref to what is gone is nothing
				if held.Entity(uint32(number)) == nil {
					return 0
				}
				return number
			}))
			if got != want && p.AtMost == 0 {
				difference(p.Name, want, got)
			}
		}
	}
	return out
}

// presence says as text whether an entity is there.
func presence(yes bool) string {
	if yes {
		return "there"
	}
	return ""
}
