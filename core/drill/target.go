package drill

import (
	"errors"
	"fmt"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/eval"
	"kamerad.example/core/syntax"
)

// target is a property of an entity, or a place within its value.
type target struct {
	of   syntax.Expr  // the entity
	name syntax.Ident // the property
	path []pathStep   // from the property's value inward
}

// pathStep is `.field` of a record or vector, or `[index]` of a list or map.
type pathStep struct {
	field string
	index syntax.Expr // nil for a field
}

// step is a pathStep that was compiled.
type step struct {
	field string
	index eval.Node
}

// target splits `ana.Diver.pile[0].heat`.
//
// It goes inward from the last step, until what is left stands for an entity.
func (k *checker) target(x syntax.Expr) (t target, ok bool) {
	for at := x; ; {
		switch n := at.(type) {
		case *syntax.Member:
			if k.isEntity(n.X) {
				t.of = n.X
				t.name = n.Name
				slices.Reverse(t.path)
				return t, true
			}
			t.path = append(t.path, pathStep{field: n.Name.Text})
			at = n.X
		case *syntax.Index:
			t.path = append(t.path, pathStep{index: n.I})
			at = n.X
		default:
			k.Fail(
				x.Span(), "expected", "this is no property",
				"as in ana.Diver.hull, Dive.phase, or ana.Diver.pile[0].heat",
			)
			return t, false
		}
	}
}

// isEntity reports whether an expression stands for an entity.
//
// `a.b` counts as one when some kind has a ref of the name b: which kind a is of may be known only when
// it runs.
func (k *checker) isEntity(x syntax.Expr) bool {
	switch n := x.(type) {
	case *syntax.Ref:
		return k.Names[n.Text] || k.Kind(n.Text) != nil
	case *syntax.Member:
		refers := func(kind *contract.Kind) bool {
			p := kind.Property(n.Name.Text)
			return p != nil && p.Type.Form == contract.FormEntity
		}
		return k.Kind(n.Name.Text) != nil || slices.ContainsFunc(k.Contract.Kinds, refers)
	case *syntax.Index:
		return k.Nth(n) != nil
	case *syntax.Query:
		return true
	}
	return false
}

// typ returns the type of what a target of a property's type stands for; nil when only running tells.
func (t target) typ(of *contract.Type) *contract.Type {
	for _, s := range t.path {
		of = eval.FieldType(of, s.field)
		if of == nil {
			return nil
		}
	}
	return of
}

// steps compiles the way from a property to a place within its value.
func (k *checker) steps(path []pathStep) (out []step) {
	for _, p := range path {
		s := step{field: p.field}
		if p.index != nil {
			s.index = k.Compile(p.index, eval.Want{})
		}
		out = append(out, s)
	}
	return out
}

// replaced returns a property's value with another one at a place within it.
//
// v itself is not changed: what is on the way to the place is copied. A map's key and a list's place
// have to be there already.
func replaced(e *eval.Env, t *contract.Type, v contract.Value, steps []step, to any) (contract.Value, error) {
	if len(steps) == 0 {
		return eval.Write(t, to)
	}
	s := steps[0]
	at := -1
	key := any(nil)
	if s.index != nil {
		var err error
		key, err = s.index(e)
		if err != nil {
			return v, err
		}
	}
	of := eval.FieldType(t, s.field)
	switch {
	case of == nil:
		return v, fmt.Errorf("%s has no such place", t.Format(v))
	case t.Form == contract.FormRecord:
		at = slices.IndexFunc(t.Parts, func(p contract.Param) bool { return p.Name == s.field })
	case t.Form == contract.FormList:
		if n, ok := key.(int64); ok && n >= 0 && n < int64(len(v.Parts)) {
			at = int(n)
		}
	case t.Form == contract.FormMap:
		k, err := eval.Write(t.Key, key)
		if err != nil {
			return v, err
		}
		at = slices.IndexFunc(v.Parts, func(p contract.Value) bool { return p.Parts[0].Equal(k) })
	default:
		at = slices.Index([]string{"x", "y", "z"}, s.field)
	}
	if at < 0 {
		return v, fmt.Errorf("%s has nothing at %s", t.Format(v), eval.Show(key))
	}
	out := contract.Value{Num: v.Num, Text: v.Text, Parts: slices.Clone(v.Parts)}
	if t.Form == contract.FormMap {
		one, err := replaced(e, of, v.Parts[at].Parts[1], steps[1:], to)
		out.Parts[at] = contract.Value{Parts: []contract.Value{v.Parts[at].Parts[0], one}}
		return out, err
	}
	one, err := replaced(e, of, v.Parts[at], steps[1:], to)
	out.Parts[at] = one
	return out, err
}

// fits reports the mistake of a value that is known before the drill runs and is none of a type.
//
// A value that depends on the session is checked when it is sent, by the session.
func (k *checker) fits(x syntax.Expr, t *contract.Type, value eval.Node) {
	if t == nil || !k.closed(x, t) {
		return
	}
	v, err := value(&eval.Env{Names: map[string]any{}})
	if err == nil {
		var c contract.Value
		c, err = eval.Write(t, v)
		if err == nil {
			if _, wrong := t.ParseJSON(t.AppendJSON(nil, c)); wrong != nil {
				err = fmt.Errorf("the value %w", wrong)
			}
		}
	}
	if err != nil && !errors.Is(err, eval.ErrBroken) {
		k.Fail(x.Span(), "type", err.Error(), "")
	}
}

// closed reports whether the value of an expression depends on nothing that happens in the drill. t is the type that it
// has to be of, nil when that is not known: where a kind is wanted, the name of one stands for itself.
func (k *checker) closed(x syntax.Expr, t *contract.Type) bool {
	all := func(of *contract.Type, list ...syntax.Expr) bool {
		return !slices.ContainsFunc(list, func(x syntax.Expr) bool { return !k.closed(x, of) })
	}
	switch n := x.(type) {
	case *syntax.Number, *syntax.Time, *syntax.Decimal, *syntax.Literal, *syntax.Truth:
		return true
	case *syntax.List:
		var of *contract.Type
		if t != nil {
			of = t.Of
		}
		return all(of, n.Items...)
	case *syntax.Record:
		return !slices.ContainsFunc(n.Sets, func(s syntax.Set) bool {
			var of *contract.Type
			if t != nil {
				of = eval.FieldType(t, s.Name.Text)
			}
			return !k.closed(s.Value, of)
		})
	case *syntax.Unary:
		return k.closed(n.X, nil)
	case *syntax.Binary:
		return all(nil, n.A, n.B)
	case *syntax.Choice:
		return all(t, n.Then, n.Other) && k.closed(n.Cond, nil)
	case *syntax.Ref:
		if k.Names[n.Text] || k.Clients[n.Text] {
			return false
		}
		return k.Kind(n.Text) == nil || t != nil && t.Form == contract.FormKind
	case *syntax.Member:
		r, ok := n.X.(*syntax.Ref)
		return ok && !k.Names[r.Text] && !k.Clients[r.Text] && k.Enum(r.Text) != nil
	case *syntax.Call:
		r, ok := n.Fn.(*syntax.Ref)
		return ok && r.Text == "vec" && all(nil, n.Args...)
	}
	return false
}
