package eval

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
)

// What a value in a drill is: int64, float64, bool, string, vector, member, entity, seat, role, nothing, or held for
// what the contract holds as a whole (lists, stacks, maps, records).
type (
	vector []float64
	member struct { // of an enumeration
		enum *contract.Enum
		at   int64
	}
	// Entity is the number of an entity; 0 is none.
	Entity uint32
	// Seat is the number of a client; 0 is the server.
	Seat    int
	role    string
	nothing struct{}
	held    struct {
		t *contract.Type
		v contract.Value
	}
)

// Absent says that a copy does not have what is asked for.
type Absent string

// Error says what the copy does not have.
func (e Absent) Error() string { return string(e) }

// Read turns what a contract holds into a value.
//
// Steps become doubles, and references their own types, so that an expectation compares what a player
// would see. Containers and records stay as they are, with their type beside them.
func Read(t *contract.Type, v contract.Value) any {
	switch t.Form {
	case contract.FormBool:
		return v.Num != 0
	case contract.FormInt, contract.FormInstant, contract.FormTime:
		return v.Num
	case contract.FormReal:
		return t.Real(v.Num)
	case contract.FormText:
		return v.Text
	case contract.FormEnum:
		return member{t.Enum, v.Num}
	case contract.FormKind:
		return t.Names[v.Num]
	case contract.FormVec2, contract.FormVec3, contract.FormRotation:
		out := vector{}
		for _, p := range v.Parts {
			out = append(out, t.Real(p.Num))
		}
		return out
	case contract.FormDirection:
		x, y := t.Vector(v.Num)
		return vector{x, y}
	case contract.FormEntity:
		if v.Num == 0 {
			return nothing{}
		}
		return Entity(v.Num)
	case contract.FormClient:
		if v.Num == contract.Nothing {
			return nothing{}
		}
		return Seat(v.Num)
	}
	return held{t, v}
}

// Write turns a value into what a contract holds. The error says what does not fit.
//
// It converts and rounds to steps; it does not check ranges, because a drill may well send what is out
// of range to see it denied.
//
//revive:disable-next-line:function-length It is one switch.
func Write(t *contract.Type, x any) (v contract.Value, err error) {
	wrong := func() (contract.Value, error) {
		return v, fmt.Errorf("%s is no %s", Show(x), t)
	}
	number := func(x any) (float64, bool) {
		switch n := x.(type) {
		case int64:
			return float64(n), true
		case float64:
			return n, true
		}
		return 0, false
	}
	switch t.Form {
	case contract.FormBool:
		b, ok := x.(bool)
		if !ok {
			return wrong()
		}
		if b {
			v.Num = 1
		}
		return v, nil
	case contract.FormInt, contract.FormInstant, contract.FormTime:
		n, ok := x.(int64)
		if !ok {
			return wrong()
		}
		return contract.Value{Num: n}, nil
	case contract.FormReal:
		n, ok := number(x)
		if !ok {
			return wrong()
		}
		count, _ := t.Steps(n)
		return contract.Value{Num: count}, nil
	case contract.FormText:
		s, ok := x.(string)
		if !ok {
			return wrong()
		}
		return contract.Value{Text: s}, nil
	case contract.FormEnum:
		m, ok := x.(member)
		if !ok || m.enum.Name != t.Enum.Name {
			return wrong()
		}
		return contract.Value{Num: m.at}, nil
	case contract.FormKind:
		s, ok := x.(string)
		at := slices.Index(t.Names, s)
		if !ok || at < 0 {
			return wrong()
		}
		return contract.Value{Num: int64(at)}, nil
	case contract.FormVec2, contract.FormVec3, contract.FormRotation:
		p, ok := x.(vector)
		if !ok || len(p) != t.Reals() {
			return wrong()
		}
		for _, n := range p {
			count, _ := t.Steps(n)
			v.Parts = append(v.Parts, contract.Value{Num: count})
		}
		return v, nil
	case contract.FormDirection:
		p, ok := x.(vector)
		if !ok || len(p) != 2 {
			return wrong()
		}
		count, ok := t.Angle(p[0], p[1])
		if !ok {
			return v, fmt.Errorf("%s has no direction", Show(x))
		}
		return contract.Value{Num: count}, nil
	case contract.FormEntity:
		switch e := x.(type) {
		case Entity:
			return contract.Value{Num: int64(e)}, nil
		case nothing:
			return v, nil
		}
		return wrong()
	case contract.FormClient:
		switch c := x.(type) {
		case Seat:
			return contract.Value{Num: int64(c)}, nil
		case nothing:
			return contract.Value{Num: contract.Nothing}, nil
		}
		return wrong()
	}
	switch h := x.(type) {
	case held:
		return h.v, nil
	case made:
		if t.Form != contract.FormRecord || t.Name != h.name {
			return wrong()
		}
		for _, p := range t.Parts {
			i := slices.IndexFunc(h.fields, func(f field) bool { return f.name == p.Name })
			if i < 0 {
				return v, fmt.Errorf("%s has no `%s`", Show(x), p.Name)
			}
			one, err := Write(p.Type, h.fields[i].value)
			if err != nil {
				return v, fmt.Errorf("`%s`: %w", p.Name, err)
			}
			v.Parts = append(v.Parts, one)
		}
		return v, nil
	case []any:
		if t.Form == contract.FormStacks || t.Form == contract.FormMap { // pairs
			return pairs(t, h)
		}
		if t.Form != contract.FormList {
			return wrong()
		}
		for _, item := range h {
			one, err := Write(t.Of, item)
			if err != nil {
				return v, err
			}
			v.Parts = append(v.Parts, one)
		}
		return v, nil
	}
	return wrong()
}

// pairs turns `[[flare, 3], [patch, 1]]` into stacks or a map; `[]` is an empty slot of slotted stacks.
//
// The order of pairs is that of the list, and two with one key are not put together.
func pairs(t *contract.Type, list []any) (v contract.Value, err error) {
	key := t.Key
	value := t.Of
	if t.Form == contract.FormStacks {
		key = &contract.Type{Form: contract.FormEnum, Enum: t.Enum}
		value = &contract.Type{Form: contract.FormInt, Low: 1, High: t.Each}
	}
	for _, x := range list {
		p, ok := x.([]any)
		if ok && len(p) == 0 && t.Slotted {
			v.Parts = append(v.Parts, contract.Value{Parts: []contract.Value{{}, {}}})
			continue
		}
		if !ok || len(p) != 2 {
			return v, fmt.Errorf("%s is no pair of a %s", Show(x), t)
		}
		one, err := Write(key, p[0])
		if err != nil {
			return v, err
		}
		two, err := Write(value, p[1])
		if err != nil {
			return v, err
		}
		v.Parts = append(v.Parts, contract.Value{Parts: []contract.Value{one, two}})
	}
	for t.Slotted && len(v.Parts) > 0 && v.Parts[len(v.Parts)-1].Parts[1].Num == 0 {
		v.Parts = v.Parts[:len(v.Parts)-1]
	}
	return v, nil
}

// AnyJSON writes a value as JSON without a type, for what is forged.
//
// What JSON has no form for, such as `nothing` or a number that is not finite, becomes null.
func AnyJSON(x any) json.RawMessage {
	switch n := x.(type) {
	case bool:
		return strconv.AppendBool(nil, n)
	case int64:
		return strconv.AppendInt(nil, n, 10)
	case float64:
		return fmt.Appendf(nil, "%g", n)
	case Entity:
		return strconv.AppendUint(nil, uint64(n), 10)
	case Seat:
		return strconv.AppendInt(nil, int64(n), 10)
	case member:
		return AnyJSON(n.enum.Values[n.at])
	case held:
		return n.t.AppendJSON(nil, n.v)
	case vector:
		raw, err := json.Marshal([]float64(n))
		if err == nil {
			return raw
		}
	case string:
		raw, _ := json.Marshal(n) // a text always marshals
		return raw
	case json.RawMessage:
		return n
	case made:
		out := []byte{'{'}
		for i, f := range n.fields {
			if i > 0 {
				out = append(out, ',')
			}
			out = append(append(append(out, AnyJSON(f.name)...), ':'), AnyJSON(f.value)...)
		}
		return append(out, '}')
	case []any:
		out := []byte{'['}
		for i, item := range n {
			if i > 0 {
				out = append(out, ',')
			}
			out = append(out, AnyJSON(item)...)
		}
		return append(out, ']')
	}
	return json.RawMessage("null")
}

// Show returns a value as text for people.
//
// It goes into messages only; nothing reads it back.
func Show(x any) string {
	switch n := x.(type) {
	case nil:
		return "–"
	case int64:
		return strconv.FormatInt(n, 10)
	case float64:
		return strconv.FormatFloat(n, 'f', -1, 64)
	case string:
		return strconv.Quote(n)
	case member:
		return n.enum.Values[n.at]
	case vector:
		parts := make([]string, len(n))
		for i, f := range n {
			parts[i] = strconv.FormatFloat(f, 'f', -1, 64)
		}
		return "(" + strings.Join(parts, ", ") + ")"
	case Entity:
		return fmt.Sprintf("#%d", uint32(n))
	case Seat:
		if n == 0 {
			return "server"
		}
		return fmt.Sprintf("client %d", int(n))
	case nothing:
		return "nothing"
	case held:
		return n.t.Format(n.v)
	case made:
		parts := make([]string, len(n.fields))
		for i, f := range n.fields {
			parts[i] = f.name + " = " + Show(f.value)
		}
		return n.name + "(" + strings.Join(parts, ", ") + ")"
	case []any:
		parts := make([]string, len(n))
		for i, item := range n {
			parts[i] = Show(item)
		}
		return "[" + strings.Join(parts, ", ") + "]"
	}
	return fmt.Sprint(x)
}

// Same compares two values. on is the sheet that they were read from: a ref to something that it does not have is
// nothing. Without a sheet refs are compared by their numbers.
//
// A value that a drill wrote out, as a list or record, is compared part by part and never rounded to the steps of the
// other side. Values that have nothing in common are an error rather than unequal: `!=` would hold for any of them.
func Same(on *replicate.Copy, a, b any) (bool, error) {
	a = resolved(on, a)
	b = resolved(on, b)
	if order, ok := compare(a, b); ok {
		return order == 0, nil
	}
	apart := fmt.Errorf("%s and %s cannot be compared", Show(a), Show(b))
	switch x := a.(type) {
	case bool, string:
		if reflect.TypeOf(a) == reflect.TypeOf(b) {
			return a == b, nil
		}
	case member:
		if y, ok := b.(member); ok && x.enum.Name == y.enum.Name {
			return x.at == y.at, nil
		}
	case Entity, Seat, nothing:
		if b == any(nothing{}) || a == any(nothing{}) && refers(b) || reflect.TypeOf(a) == reflect.TypeOf(b) {
			return a == b, nil
		}
	case vector:
		if y, ok := b.(vector); ok && len(x) == len(y) {
			return slices.Equal(x, y), nil
		}
	case held:
		switch y := b.(type) {
		case held:
			if alike(x.t, y.t) {
				return sameParts(on, opened(x), opened(y))
			}
		case []any, made:
			if _, err := Write(x.t, y); err != nil { // asked first, since a list of another length ends it early
				return false, err
			}
			return sameParts(on, opened(x), y)
		}
	case []any, made:
		if _, ok := b.(held); ok {
			return Same(on, b, a)
		}
		if reflect.TypeOf(a) == reflect.TypeOf(b) {
			return sameParts(on, a, b)
		}
	}
	return false, apart
}

// resolved returns a value as it is compared: a ref to what the sheet does not have is nothing, a role its name.
func resolved(on *replicate.Copy, x any) any {
	switch v := x.(type) {
	case Entity:
		if v == 0 || on != nil && on.Entity(uint32(v)) == nil {
			return nothing{}
		}
	case role:
		return string(v)
	}
	return x
}

// refers reports whether a value is one that can be nothing.
func refers(x any) bool {
	switch x.(type) {
	case Entity, Seat, nothing:
		return true
	}
	return false
}

// sameParts compares two lists item by item, or two records field by field.
func sameParts(on *replicate.Copy, a, b any) (bool, error) {
	list, ok := a.([]any)
	other, both := b.([]any)
	if ok && both {
		same := len(list) == len(other)
		for i := range min(len(list), len(other)) {
			equal, err := Same(on, list[i], other[i])
			if err != nil {
				return false, err
			}
			same = same && equal
		}
		return same, nil
	}
	x, ok := a.(made)
	y, both := b.(made)
	if !ok || !both || x.name != y.name || len(x.fields) != len(y.fields) {
		return false, fmt.Errorf("%s and %s cannot be compared", Show(a), Show(b))
	}
	same := true
	for _, f := range x.fields {
		i := slices.IndexFunc(y.fields, func(g field) bool { return g.name == f.name })
		if i < 0 {
			return false, fmt.Errorf("%s has no `%s`", Show(b), f.name)
		}
		equal, err := Same(on, f.value, y.fields[i].value)
		if err != nil {
			return false, err
		}
		same = same && equal
	}
	return same, nil
}

// opened returns what the contract holds as a drill would write it: a record, or a list, of pairs for stacks and maps.
func opened(h held) any {
	if h.t.Form == contract.FormRecord {
		out := made{name: h.t.Name}
		for i, p := range h.t.Parts {
			out.fields = append(out.fields, field{p.Name, Read(p.Type, h.v.Parts[i])})
		}
		return out
	}
	out := []any{}
	for _, p := range h.v.Parts {
		switch h.t.Form {
		case contract.FormStacks:
			if p.Parts[1].Num == 0 {
				out = append(out, []any{})
				continue
			}
			out = append(out, []any{member{h.t.Enum, p.Parts[0].Num}, p.Parts[1].Num})
		case contract.FormMap:
			out = append(out, []any{Read(h.t.Key, p.Parts[0]), Read(h.t.Of, p.Parts[1])})
		default:
			out = append(out, Read(h.t.Of, p))
		}
	}
	return out
}

// alike reports whether values of two types can be compared. It matters for lists and maps that may be empty, whose
// items say nothing then.
func alike(t, u *contract.Type) bool {
	class := func(t *contract.Type) contract.Form {
		switch t.Form {
		case contract.FormInt, contract.FormInstant, contract.FormTime:
			return contract.FormReal
		case contract.FormDirection:
			return contract.FormVec2
		}
		return t.Form
	}
	if class(t) != class(u) {
		return false
	}
	switch t.Form {
	case contract.FormEnum, contract.FormStacks:
		return t.Enum.Name == u.Enum.Name
	case contract.FormRecord:
		return t.Name == u.Name
	case contract.FormList:
		return alike(t.Of, u.Of)
	case contract.FormMap:
		return alike(t.Key, u.Key) && alike(t.Of, u.Of)
	}
	return true
}
