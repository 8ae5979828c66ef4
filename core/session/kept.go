package session

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
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
	Player   string // what the client's player goes by; of what a world keeps, the world's
	IsWorld  bool   // a world keeps it
	Fence    int64  // of the lease with which its values were loaded; 0 when they were not
	Property string // its full name
	Value    json.RawMessage
}

// KeptMisfit is a kept value that the contract's version does not take as it is.
type KeptMisfit struct {
	Client   int // 0 for what the session's world keeps
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
	if t == nil || mask == 0 || e.Kind.Shared {
		return
	}
	if t.kept == nil {
		t.kept = map[string]json.RawMessage{}
	}
	s.initFrom(e, t.kept, t.client.Number)
}

// loadWorld gives the shared entities what the world of the session has from before, when the session is made.
func (s *Session) loadWorld(w World) {
	if w.Name == "" {
		return
	}
	s.sharedWorld = World{Name: w.Name, Kept: Kept{Fence: w.Fence, Values: maps.Clone(w.Values)}}
	if s.sharedWorld.Values == nil {
		s.sharedWorld.Values = map[string]json.RawMessage{}
	}
	for _, e := range s.world.Entities() {
		s.initFrom(e, s.sharedWorld.Values, 0)
	}
}

// initFrom gives an entity what is kept of it, and notes what it begins with. client is who keeps it, 0 for the world.
func (s *Session) initFrom(e *world.Entity, kept map[string]json.RawMessage, client int) {
	for _, p := range e.Kind.Properties {
		if s.keptProperties[e.Kind.Index]&(1<<p.Index) == 0 {
			continue
		}
		name := e.Kind.Name + "." + p.Name
		if raw, has := kept[name]; has {
			if v, ok := s.fitKept(client, name, p, raw); ok {
				s.world.SetInitial(e, p, p.Type.AppendSlots(nil, v, s.world.Intern))
			}
		}
		kept[name] = s.keptValue(e, p) // a default is none until it changes
	}
}

// fitKept reads a kept value; what does not fit is told.
func (s *Session) fitKept(client int, name string, p *contract.Property, raw json.RawMessage) (contract.Value, bool) {
	v, err := p.Type.ParseJSON(raw)
	if err == nil {
		return v, true
	}
	detail := fmt.Sprintf("the kept value %s; it has its default now", strings.ToValidUTF8(err.Error(), "\uFFFD"))
	var n float64
	isNumber := p.Type.Form == contract.FormInt || p.Type.Form == contract.FormReal
	if isNumber && json.Unmarshal(raw, &n) == nil {
		steps, ok := int64(math.RoundToEven(min(max(n, -1<<62), 1<<62))), true
		if p.Type.Form == contract.FormReal {
			steps, ok = p.Type.Steps(n)
		}
		if ok {
			v = contract.Value{Num: p.Type.Bring(steps)}
			detail = fmt.Sprintf("the kept value %s; it is %s now", err, p.Type.Format(v))
			s.misfits = append(s.misfits, KeptMisfit{client, name, detail})
			return v, true
		}
	}
	s.misfits = append(s.misfits, KeptMisfit{client, name, detail})
	return v, false
}

// keptValue returns a property's value as it is kept.
func (s *Session) keptValue(e *world.Entity, p *contract.Property) json.RawMessage {
	return p.Type.AppendJSON(nil, s.world.Value(e, p))
}

// noteKept notes those of some properties of an entity that are kept, by the client of a seat or by the world, and have
// another value than before.
func (s *Session) noteKept(t *seat, e *world.Entity, properties uint64) {
	properties &= s.keptProperties[e.Kind.Index]
	change := KeptChange{Player: s.sharedWorld.Name, IsWorld: true, Fence: s.sharedWorld.Fence}
	kept := s.sharedWorld.Values
	if !e.Kind.Shared {
		if t == nil {
			return
		}
		change = KeptChange{Player: t.player(), Fence: t.fence}
		kept = t.kept
	}
	if properties == 0 || kept == nil {
		return
	}
	for _, p := range e.Kind.Properties {
		if properties&(1<<p.Index) == 0 {
			continue
		}
		change.Property = e.Kind.Name + "." + p.Name
		change.Value = s.keptValue(e, p)
		if bytes.Equal(kept[change.Property], change.Value) {
			continue
		}
		kept[change.Property] = change.Value
		if !change.IsWorld {
			t.keptTick = s.tick
		}
		s.keptChanges = append(s.keptChanges, change)
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
		return t.player(), t.fence
	}
	return "", 0
}

// LastClient returns the number of the newest client that has joined; 0 for none.
func (s *Session) LastClient() int { return s.lastClient }

// Identity returns the identity with which a client's player was seated; empty for a player that goes by its name.
func (s *Session) Identity(client int) string {
	if t := s.seats[client]; t != nil {
		return t.identity
	}
	return ""
}

// Keeps reports whether the contract has anything that players keep.
func (s *Session) Keeps() bool {
	return slices.ContainsFunc(s.contract.Kinds, func(k *contract.Kind) bool {
		return !k.Shared && s.keptProperties[k.Index] != 0
	})
}

// WorldKept returns the world of the session, with what it keeps now.
func (s *Session) WorldKept() World { return s.sharedWorld }

// CheckJoin returns what the player would go by that JoinPlayer would seat, or why it would refuse it now. The error is
// a *Refusal.
func (s *Session) CheckJoin(player, name, role string) (goesBy string, err error) {
	clean, _, err := s.readJoin(player, name, role)
	return playerOf(player, clean), err
}
