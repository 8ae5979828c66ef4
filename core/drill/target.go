package drill

import (
	"errors"
	"fmt"
	"slices"

	"kamerad.example/core/contract"
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
	index node
}

// target takes `ana.Diver.pile[0].heat` apart.
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
			k.fail(
				x.Span(), "expected", "this is no property",
				"as in ana.Diver.hull, Dive.phase, or ana.Diver.pile[0].heat",
			)
			return t, false
		}
	}
}

// isEntity reports whether an expression stands for an entity.
func (k *checker) isEntity(x syntax.Expr) bool {
	switch n := x.(type) {
	case *syntax.Ref:
		return k.names[n.Text] || k.kind(n.Text) != nil
	case *syntax.Member:
		refers := func(kind *contract.Kind) bool {
			p := kind.Property(n.Name.Text)
			return p != nil && p.Type.Form == contract.FormEntity
		}
		return k.kind(n.Name.Text) != nil || slices.ContainsFunc(k.contract.Kinds, refers)
	case *syntax.Index:
		return k.nth(n) != nil
	case *syntax.Query:
		return true
	}
	return false
}

// typ returns the type of what a target of a property's type stands for; nil when only running tells.
func (t target) typ(of *contract.Type) *contract.Type {
	for _, s := range t.path {
		of = inner(of, s.field)
		if of == nil {
			return nil
		}
	}
	return of
}

// inner returns the type of a field, or with an empty name that of the items; nil when there is none.
func inner(t *contract.Type, field string) *contract.Type {
	switch {
	case field == "" && (t.Form == contract.FormList || t.Form == contract.FormMap):
		return t.Of
	case field == "":
		return nil
	case t.Form == contract.FormRecord:
		for _, p := range t.Parts {
			if p.Name == field {
				return p.Type
			}
		}
	case slices.Contains([]string{"x", "y", "z"}[:min(t.Reals(), 3)], field) &&
		(t.Form == contract.FormVec2 || t.Form == contract.FormVec3):
		return &contract.Type{
			Form: contract.FormReal,
			Low:  t.Low,
			High: t.High,
			Per:  t.Per,
			Unit: t.Unit,
		}
	}
	return nil
}

// steps compiles the way from a property to a place within its value.
func (k *checker) steps(path []pathStep) (out []step) {
	for _, p := range path {
		s := step{field: p.field}
		if p.index != nil {
			s.index = k.compile(p.index, want{})
		}
		out = append(out, s)
	}
	return out
}

// replaced returns a property's value with another one at a place within it.
func replaced(e *env, t *contract.Type, v contract.Value, steps []step, to any) (contract.Value, error) {
	if len(steps) == 0 {
		return write(t, to)
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
	of := inner(t, s.field)
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
		k, err := write(t.Key, key)
		if err != nil {
			return v, err
		}
		at = slices.IndexFunc(v.Parts, func(p contract.Value) bool { return p.Parts[0].Equal(k) })
	default:
		at = slices.Index([]string{"x", "y", "z"}, s.field)
	}
	if at < 0 {
		return v, fmt.Errorf("%s has nothing at %s", t.Format(v), show(key))
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

// fits tells the mistake of a value that is known before the drill runs and is none of a type.
func (k *checker) fits(x syntax.Expr, t *contract.Type, value node) {
	if t == nil {
		return
	}
	if r, bare := x.(*syntax.Ref); !k.closed(x) &&
		!(bare && t.Form == contract.FormKind && k.kind(r.Text) != nil && !k.names[r.Text]) {
		return
	}
	v, err := value(&env{names: map[string]any{}})
	if err == nil {
		var c contract.Value
		c, err = write(t, v)
		if err == nil {
			if _, wrong := t.ParseJSON(t.AppendJSON(nil, c)); wrong != nil {
				err = fmt.Errorf("the value %w", wrong)
			}
		}
	}
	if err != nil && !errors.Is(err, errBroken) {
		k.fail(x.Span(), "type", err.Error(), "")
	}
}

// closed reports whether the value of an expression depends on nothing that happens in the drill.
func (k *checker) closed(x syntax.Expr) bool {
	all := func(list ...syntax.Expr) bool {
		return !slices.ContainsFunc(list, func(x syntax.Expr) bool { return !k.closed(x) })
	}
	switch n := x.(type) {
	case *syntax.Number, *syntax.Time, *syntax.Decimal, *syntax.Literal, *syntax.Truth:
		return true
	case *syntax.List:
		return all(n.Items...)
	case *syntax.Record:
		return !slices.ContainsFunc(n.Sets, func(s syntax.Set) bool { return !k.closed(s.Value) })
	case *syntax.Unary:
		return k.closed(n.X)
	case *syntax.Binary:
		return all(n.A, n.B)
	case *syntax.Ref:
		return !k.names[n.Text] && !k.clients[n.Text] && k.kind(n.Text) == nil
	case *syntax.Member:
		r, ok := n.X.(*syntax.Ref)
		return ok && !k.names[r.Text] && !k.clients[r.Text] && k.enum(r.Text) != nil
	case *syntax.Call:
		r, ok := n.Fn.(*syntax.Ref)
		return ok && r.Text == "vec" && all(n.Args...)
	}
	return false
}

// made is a record that a drill makes.
type made struct {
	name   string
	fields []field
}

type field struct {
	name  string
	value any
}

// record checks `Mark(at = vec(1, 2), worth = 3)`.
func (s *scope) record(n *syntax.Record, w want) node {
	t := s.recordType(n.Type.Text)
	if t == nil && !w.forged {
		s.fail(n.Type.At, "unknown-name", fmt.Sprintf("the contract has no record `%s` that travels", n.Type.Text), "")
		return broken
	}
	given := map[string]bool{}
	var names []string
	var values []node
	for _, set := range n.Sets {
		inside := want{forged: w.forged}
		if t != nil {
			of := inner(t, set.Name.Text)
			if of == nil && !w.forged {
				s.fail(set.Name.At, "unknown-name", fmt.Sprintf("%s has no field `%s`", t.Name, set.Name.Text), "")
				return broken
			}
			inside = wanted(of)
			inside.forged = w.forged
		}
		given[set.Name.Text] = true
		names = append(names, set.Name.Text)
		values = append(values, s.compile(set.Value, inside))
	}
	if t != nil && !w.forged {
		for _, p := range t.Parts {
			if !given[p.Name] {
				s.fail(n.At, "missing", fmt.Sprintf("%s needs `%s`", t.Name, p.Name), "give each field a value")
				return broken
			}
		}
	}
	return func(e *env) (any, error) {
		out := made{name: n.Type.Text}
		for i, value := range values {
			v, err := value(e)
			if err != nil {
				return nil, err
			}
			out.fields = append(out.fields, field{names[i], v})
		}
		return out, nil
	}
}

// recordType finds a record by its name among the types of what travels, or nil.
func (s *scope) recordType(name string) *contract.Type {
	var find func(t *contract.Type) *contract.Type
	find = func(t *contract.Type) *contract.Type {
		if t == nil || t.Form == contract.FormRecord && t.Name == name {
			return t
		}
		for _, p := range t.Parts {
			if found := find(p.Type); found != nil {
				return found
			}
		}
		if found := find(t.Of); found != nil {
			return found
		}
		return find(t.Key)
	}
	in := func(params []contract.Param) *contract.Type {
		for _, p := range params {
			if found := find(p.Type); found != nil {
				return found
			}
		}
		return nil
	}
	for _, k := range s.contract.Kinds {
		for _, p := range k.Properties {
			if found := find(p.Type); found != nil {
				return found
			}
		}
		for _, r := range k.Requests {
			if found := in(r.Params); found != nil {
				return found
			}
			if found := find(r.Reply); found != nil {
				return found
			}
		}
	}
	for _, e := range s.contract.Events {
		if found := in(e.Params); found != nil {
			return found
		}
	}
	return nil
}
