package eval

import (
	"fmt"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// made is a record that a drill makes.
//
// Its fields stand as the drill wrote them. Only Write, which knows the type, puts them in order and
// checks their values.
type made struct {
	name   string
	fields []field
}

type field struct {
	name  string
	value any
}

// record checks `Mark(at = vec(1, 2), worth = 3)`.
//
// What is forged may have any name and any fields, since it is sent to see how the server takes it.
func (s *Scope) record(n *syntax.Record, w Want) Node {
	t := s.recordType(n.Type.Text)
	if t == nil && !w.Forged {
		s.Fail(n.Type.At, "unknown-name", fmt.Sprintf("the contract has no record `%s` that travels", n.Type.Text), "")
		return broken
	}
	given := map[string]bool{}
	var names []string
	var values []Node
	for _, set := range n.Sets {
		inside := Want{Forged: w.Forged}
		if t != nil {
			of := FieldType(t, set.Name.Text)
			if of == nil && !w.Forged {
				s.Fail(set.Name.At, "unknown-name", fmt.Sprintf("%s has no field `%s`", t.Name, set.Name.Text), "")
				return broken
			}
			inside = WantOf(of)
			inside.Forged = w.Forged
		}
		given[set.Name.Text] = true
		names = append(names, set.Name.Text)
		values = append(values, s.Compile(set.Value, inside))
	}
	if t != nil && !w.Forged {
		for _, p := range t.Parts {
			if !given[p.Name] {
				s.Fail(n.At, "missing", fmt.Sprintf("%s needs `%s`", t.Name, p.Name), "give each field a value")
				return broken
			}
		}
	}
	return func(e *Env) (any, error) {
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
//
// A drill meets records only in properties, requests, replies and events. One that the contract uses in
// its bodies alone is not found.
func (s *Scope) recordType(name string) *contract.Type {
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
	for _, k := range s.Contract.Kinds {
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
	for _, e := range s.Contract.Events {
		if found := in(e.Params); found != nil {
			return found
		}
	}
	for _, x := range s.Contract.Settings {
		if found := find(x.Type); found != nil {
			return found
		}
	}
	return nil
}

// FieldType returns the type of a field, or with an empty name that of the items; nil when there is none.
//
// It serves expectations with paths, such as `marks[].at.x`. A component of a vector has the steps of
// the vector.
func FieldType(t *contract.Type, field string) *contract.Type {
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
