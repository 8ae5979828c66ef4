package session

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/world"
)

// Kept is what a player has from earlier sessions.
type Kept struct {
	// Fence says which lease of the player's values this is; each one has a greater number than those before.
	Fence int64
	// Values are those of properties by their full names, such as Diver.tint; the others have their defaults.
	Values map[string]json.RawMessage
}

// KeptChange is a change of a property that is kept.
type KeptChange struct {
	Player   string // the client's name
	Fence    int64  // of the lease with which its values were loaded; 0 when they were not
	Property string // its full name
	Value    json.RawMessage
}

// KeptMisfit is a kept value that the contract's version does not take as it is.
type KeptMisfit struct {
	Client   int
	Property string
	Detail   string // what became of it
}

// LoadKept gives a client what it has from earlier sessions, after Join and before the next tick: the entities that it
// has one each of begin with it. A number that is out of its range by now is brought to the nearest one that is within;
// any other value that does not fit is left out, so that the property has its default. Step.Misfits tells both.
func (s *Session) LoadKept(client int, kept Kept) {
	t := s.seats[client]
	if t == nil || t.joined {
		return
	}
	s.record(Call{Type: CallLoadKept, Client: client, Kept: &kept})
	t.fence = kept.Fence
	t.kept = maps.Clone(kept.Values)
	if t.kept == nil {
		t.kept = map[string]json.RawMessage{}
	}
}

// initKept gives an entity that a client has come to have what the client has from before. It is called as the entity
// is spawned, before anything of the contract runs.
func (s *Session) initKept(e *world.Entity) {
	t := s.seats[e.Owner]
	mask := s.keptProperties[e.Kind.Index]
	if t == nil || mask == 0 {
		return
	}
	if t.kept == nil {
		t.kept = map[string]json.RawMessage{}
	}
	for _, p := range e.Kind.Properties {
		if mask&(1<<p.Index) == 0 {
			continue
		}
		name := e.Kind.Name + "." + p.Name
		if raw, has := t.kept[name]; has {
			if v, ok := s.fitKept(t, name, p, raw); ok {
				s.world.SetInitial(e, p, p.Type.AppendSlots(nil, v, s.world.Intern))
			}
		}
		t.kept[name] = s.keptValue(e, p) // a default is none until it changes
	}
}

// fitKept reads a kept value; what does not fit is told.
func (s *Session) fitKept(t *seat, name string, p *contract.Property, raw json.RawMessage) (contract.Value, bool) {
	v, err := p.Type.ParseJSON(raw)
	if err == nil {
		return v, true
	}
	detail := fmt.Sprintf("the kept value %s; it has its default now", strings.ToValidUTF8(err.Error(), "\uFFFD"))
	var n float64
	isNumber := p.Type.Form == contract.FormInt || p.Type.Form == contract.FormReal
	if isNumber && json.Unmarshal(raw, &n) == nil {
		if steps, ok := p.Type.Steps(n); ok {
			v = contract.Value{Num: p.Type.Bring(steps)}
			detail = fmt.Sprintf("the kept value %s; it is %s now", err, p.Type.Format(v))
			s.misfits = append(s.misfits, KeptMisfit{t.client.Number, name, detail})
			return v, true
		}
	}
	s.misfits = append(s.misfits, KeptMisfit{t.client.Number, name, detail})
	return v, false
}

// keptValue returns a property's value as it is kept.
func (s *Session) keptValue(e *world.Entity, p *contract.Property) json.RawMessage {
	return p.Type.AppendJSON(nil, s.world.Value(e, p))
}

// noteKept notes those of some properties of an entity that are kept and have another value than before.
func (s *Session) noteKept(t *seat, e *world.Entity, properties uint64) {
	properties &= s.keptProperties[e.Kind.Index]
	if t == nil || properties == 0 || t.kept == nil {
		return
	}
	for _, p := range e.Kind.Properties {
		if properties&(1<<p.Index) == 0 {
			continue
		}
		name := e.Kind.Name + "." + p.Name
		value := s.keptValue(e, p)
		if bytes.Equal(t.kept[name], value) {
			continue
		}
		t.kept[name] = value
		t.keptTick = s.tick
		s.keptChanges = append(s.keptChanges, KeptChange{t.client.Name, t.fence, name, value})
	}
}

// noteKeptOf notes all that is kept of the entities that a client has one each of, before they go.
func (s *Session) noteKeptOf(t *seat) {
	for _, k := range s.contract.Kinds {
		if s.keptProperties[k.Index] == 0 {
			continue
		}
		if e := s.world.OfClient(k.Index, t.client.Number); e != nil {
			s.noteKept(t, e, s.keptProperties[k.Index])
		}
	}
}

// KeptFence returns the player that a client is, and the lease with which its values were loaded; 0 when they were not.
func (s *Session) KeptFence(client int) (player string, fence int64) {
	if t := s.seats[client]; t != nil {
		return t.client.Name, t.fence
	}
	return "", 0
}

// Keeps reports whether the contract has anything that players keep.
func (s *Session) Keeps() bool {
	for _, mask := range s.keptProperties {
		if mask != 0 {
			return true
		}
	}
	return false
}

// CheckJoin returns the name as Join would take it, or why it would refuse the client now. The error is a *Refusal.
func (s *Session) CheckJoin(name, role string) (clean string, err error) {
	clean, _, err = s.readJoin(name, role)
	return clean, err
}
