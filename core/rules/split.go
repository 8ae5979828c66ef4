package rules

import (
	"kamerad.example/core/contract"
	"kamerad.example/core/world"
)

// Side is one side of an audience that was taken apart: the viewer's or the entity's. Two sides belong together when
// their keys are equal, and near enough when the audience asks for nearness.
type Side struct {
	Keys [4]int64
	At   [3]float64
}

// splitCode is an audience that was taken apart.
type splitCode struct {
	conditions [2][]*code // the viewer's, the entity's
	keys       [2][]*code
	at         [2]*code
	radius     *code
	direct     [2]*direct // a side that is a property as it stands: it is read without being run
}

// direct is a property of the viewer's own entity, or of the entity that an audience is of.
type direct struct {
	kind *contract.Kind
	prop *contract.Property
	near bool // it is the place, else the only key
}

// directly returns the test on the entity alone that an expression comes down to, or nil when it is of another form.
func directly(x *contract.Expr, near bool) *direct {
	if near && x.Op == contract.OpReal { // the place as reals
		x = x.Args[0]
	}
	if x.Op != contract.OpGet || len(x.Args[0].Type.Kinds) != 1 || x.Prop == nil || x.Prop.Follows != nil {
		return nil
	}
	switch from := x.Args[0]; {
	case from.Op == contract.OpLocal, from.Op == contract.OpEntityOf && from.Args[0].Op == contract.OpViewer:
	default:
		return nil
	}
	switch form := x.Prop.Type.Form; {
	case near && (form == contract.FormVec2 || form == contract.FormVec3):
	case !near && (form == contract.FormInt || form == contract.FormEnum || form == contract.FormBool):
	default:
		return nil
	}
	return &direct{x.Args[0].Type.Kinds[0], x.Prop, near}
}

// read returns the side of an entity; there is none without one.
func (d *direct) read(e *world.Entity, out *Side) bool {
	if e == nil || e.Gone || e.Kind != d.kind {
		return false
	}
	row := e.Nums[d.prop.Slot:]
	if !d.near {
		out.Keys[0] = row[0]
		return true
	}
	for i := range d.prop.Type.Width() {
		out.At[i] = d.prop.Type.Real(row[i])
	}
	return true
}

// split takes the condition of a named audience apart into what it asks of the entity and what it asks of the client,
// so that the two are computed once each instead of once for every pair. It returns nil for a condition that cannot be
// taken apart.
func split(a *contract.Named, body func(b *contract.Body) *code) *splitCode {
	s := a.Split()
	if s == nil {
		return nil
	}
	out := &splitCode{}
	for _, b := range s.Viewer {
		out.conditions[0] = append(out.conditions[0], body(b))
	}
	for _, b := range s.Entity {
		out.conditions[1] = append(out.conditions[1], body(b))
	}
	for _, pair := range s.Keys {
		out.keys[0], out.keys[1] = append(out.keys[0], body(pair[0])), append(out.keys[1], body(pair[1]))
	}
	if s.Radius != nil {
		out.at, out.radius = [2]*code{body(s.At[0]), body(s.At[1])}, body(s.Radius)
	}
	for side := range out.direct {
		switch {
		case len(out.conditions[side]) > 0:
		case s.Radius != nil && len(s.Keys) == 0:
			out.direct[side] = directly(s.At[side].Value, true)
		case s.Radius == nil && len(s.Keys) == 1:
			out.direct[side] = directly(s.Keys[0][side].Value, false)
		}
	}
	return out
}

// Splits reports whether the members of an audience are found by keys, and whether by nearness as well; else each pair
// of client and entity has to be asked.
func (m *Machine) Splits(a *contract.Named) (keys, near bool) {
	s := m.program.splits[a.Index]
	return s != nil, s != nil && s.radius != nil
}

// Radius returns how near the members of an audience are; ok is false when that cannot be computed, so that it has
// none.
func (m *Machine) Radius(a *contract.Named) (radius float64, ok bool) {
	m.begin(0)
	if m.run(m.program.splits[a.Index].radius, 0, nil) != nil {
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
func (m *Machine) side(a *contract.Named, which int, e *world.Entity, client int, out *Side) bool {
	s := m.program.splits[a.Index]
	*out = Side{}
	if d := s.direct[which]; d != nil {
		if which == 0 {
			e = m.World.OfClient(d.kind.Index, client)
		}
		return d.read(e, out)
	}
	compute := func(c *code) bool {
		m.begin(0)
		m.viewer = int64(client)
		if e != nil {
			m.frames[0].nums[0] = int64(e.ID)
		}
		return m.run(c, 0, nil) == nil
	}
	for _, c := range s.conditions[which] {
		if !compute(c) || m.frames[0].nums[0] == 0 {
			return false
		}
	}
	at := 0
	for _, c := range s.keys[which] {
		if !compute(c) {
			return false
		}
		for i := range c.width {
			n := m.frames[0].nums[i]
			if c.real && n == -1<<63 { // the two zeros are equal
				n = 0
			}
			out.Keys[at] = n
			at++
		}
	}
	if c := s.at[which]; c != nil {
		if !compute(c) {
			return false
		}
		for i := range c.width {
			out.At[i] = fromBits(m.frames[0].nums[i])
		}
	}
	return true
}
