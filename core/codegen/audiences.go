package codegen

import (
	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
)

// split divides the condition of a named audience into what it asks of the entity and what it asks of the client,
// so that the two are computed once each instead of once for every pair. It returns nil for a condition that cannot be
// taken apart.
//
// Index 0 stands for the viewer's side and 1 for the entity's, in all tables of the result. body
// translates one piece, which gets a number; the order of the calls is part of the program.
func split(a *contract.Named, body func(b *contract.Body) *bytecode.Code) *bytecode.Split {
	s := a.Split()
	if s == nil {
		return nil
	}
	out := &bytecode.Split{}
	for _, b := range s.Viewer {
		out.Conditions[0] = append(out.Conditions[0], body(b))
	}
	for _, b := range s.Entity {
		out.Conditions[1] = append(out.Conditions[1], body(b))
	}
	for _, pair := range s.Keys {
		out.Keys[0], out.Keys[1] = append(out.Keys[0], body(pair[0])), append(out.Keys[1], body(pair[1]))
	}
	if s.Radius != nil {
		out.Positions, out.Radius = [2]*bytecode.Code{body(s.At[0]), body(s.At[1])}, body(s.Radius)
	}
	for side := range out.Direct {
		switch {
		// A condition on that side alone has to be run, so there is no short way.
		case len(out.Conditions[side]) > 0:
		case s.Radius != nil && len(s.Keys) == 0:
			out.Direct[side] = directly(s.At[side].Value, true)
		case s.Radius == nil && len(s.Keys) == 1:
			out.Direct[side] = directly(s.Keys[0][side].Value, false)
		}
	}
	return out
}

// directly returns the test on the entity alone that an expression comes down to, or nil when it is of another form.
//
// Only one property of one kind qualifies, read of the audience's argument or of the viewer's own
// entity: then the machine reads a slot in place of running code. What moves by itself is left out,
// because its slot is not its place of this tick.
func directly(x *contract.Expr, near bool) *bytecode.Direct {
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
	return &bytecode.Direct{Kind: x.Args[0].Type.Kinds[0], Property: x.Prop, Near: near}
}
