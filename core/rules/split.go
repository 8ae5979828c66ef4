package rules

import (
	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
	"kamerad.example/core/world"
)

// Side is one side of an audience that was taken apart: the viewer's or the entity's. Two sides belong together when
// their keys are equal, and near enough when the audience asks for nearness.
//
// Places in it that the audience does not use are zero on both sides.
type Side struct {
	Keys [4]int64
	At   [3]float64
}

// readDirect writes the side that a property of an entity is, as it stands; there is none without the entity.
//
// It is what the compiled code would give, without running it: most audiences compare one property of
// each side.
func readDirect(d *bytecode.Direct, e *world.Entity, out *Side) bool {
	if e == nil || e.Gone || e.Kind != d.Kind {
		return false
	}
	row := e.Nums[d.Property.Slot:]
	if !d.Near {
		out.Keys[0] = row[0]
		return true
	}
	for i := range d.Property.Type.Width() {
		out.At[i] = d.Property.Type.Real(row[i])
	}
	return true
}

// Splits reports whether the members of an audience are found by keys, and whether by nearness as well; else each pair
// of client and entity has to be asked.
func (m *Machine) Splits(a *contract.Named) (keys, near bool) {
	s := m.program.Splits[a.Index]
	return s != nil, s != nil && s.Radius != nil
}

// Radius returns how near the members of an audience are; ok is false when that cannot be computed, so that it has
// none.
func (m *Machine) Radius(a *contract.Named) (radius float64, ok bool) {
	m.begin(0)
	if m.run(m.program.Splits[a.Index].Radius, 0, nil) != nil {
		return 0, false
	}
	return fromBits(m.frames[0].nums[0]), true
}

// Viewer computes a client's side of an audience; ok is false for one that cannot be in it, whatever the entity.
func (m *Machine) Viewer(a *contract.Named, client int, out *Side) (ok bool) {
	return m.side(a, 0, nil, client, out)
}

// Subject computes an entity's side of an audience; ok is false when nobody is in it.
func (m *Machine) Subject(a *contract.Named, e *world.Entity, out *Side) (ok bool) {
	return m.side(a, 1, e, 0, out)
}

// side computes one half of a condition for an entity or a client and writes the result to out.
//
// which is 0 for the viewer's half and 1 for the entity's. Conditions that only concern one half are
// asked here, once, and not for each pair.
func (m *Machine) side(a *contract.Named, which int, e *world.Entity, client int, out *Side) bool {
	s := m.program.Splits[a.Index]
	*out = Side{}
	if d := s.Direct[which]; d != nil {
		if which == 0 {
			e = m.World.OfClient(d.Kind.Index, client)
		}
		return readDirect(d, e, out)
	}
	compute := func(c *bytecode.Code) bool {
		m.begin(0)
		m.viewer = int64(client)
		if e != nil {
			m.frames[0].nums[0] = int64(e.ID)
		}
		return m.run(c, 0, nil) == nil
	}
	for _, c := range s.Conditions[which] {
		if !compute(c) || m.frames[0].nums[0] == 0 {
			return false
		}
	}
	at := 0
	for _, c := range s.Keys[which] {
		if !compute(c) {
			return false
		}
		for i := range c.Width {
			n := m.frames[0].nums[i]
			if c.Real && n == -1<<63 { // the two zeros are equal
				n = 0
			}
			out.Keys[at] = n
			at++
		}
	}
	if c := s.Positions[which]; c != nil {
		if !compute(c) {
			return false
		}
		for i := range c.Width {
			out.At[i] = fromBits(m.frames[0].nums[i])
		}
	}
	return true
}
