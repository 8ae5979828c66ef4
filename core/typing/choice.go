package typing

import (
	"math"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// NeedsLanguage2 tells of what stands in language 2 alone, and reports whether it may stand in the contract.
func (c *Unit) NeedsLanguage2(at syntax.Span, what string) bool {
	if c.Contract.Language >= 2 {
		return true
	}
	c.Fail(at, "language", what+" needs language 2", "`kamerad fmt --to 2` brings the contract there")
	return false
}

// computes reports whether something that language 2 has may be computed here: not in a constant.
func (e *Scope) computes(at syntax.Span, what string) bool {
	if !e.NeedsLanguage2(at, what) {
		return false
	}
	if e.Constant {
		e.Fail(at, "not-constant", "this is computed", "a constant is written out")
		return false
	}
	return true
}

// choice reads `if CONDITION then VALUE else OTHER`.
//
// The two values are of one type, where a whole number becomes a real beside one. Which of them is
// computed shows in nothing but the result: the other one cannot fault.
func (e *Scope) choice(x *syntax.Choice, want *contract.Type) *contract.Expr {
	if !e.computes(x.At, "a value that depends on a condition") {
		return nil
	}
	cond := e.Value(x.Cond, &contract.Type{Form: contract.FormBool}, "the condition of a value")
	first := x.Then
	second := x.Other
	// A bare enum value, or nothing, takes its type from the other one.
	r, isRef := first.(*syntax.Ref)
	exchanged := isRef && (r.Text == "nothing" || want == nil && !e.known(r))
	if exchanged {
		first, second = second, first
	}
	a := e.Expr(first, want)
	if a == nil || a.Type.Form == "" || cond == nil {
		return nil
	}
	if a.Type.Holder() || a.Type.Form == contract.FormNothing || a.Type.Form == contract.FormLine {
		e.Fail(
			first.Span(), "wrong-type", "a condition cannot decide over "+describe(a.Type),
			"single values and records can be chosen; else write an `if` with a body",
		)
		return nil
	}
	b := e.Expr(second, a.Type)
	if b == nil || b.Type.Form == "" {
		return nil
	}
	switch {
	case a.Type.Form == contract.FormInt && b.Type.Form == contract.FormReal:
		a = real(a)
	case a.Type.Form == contract.FormEntity && b.Type.Form == contract.FormEntity && same(a.Type, b.Type):
		a, b = b, a // the type with more kinds
		exchanged = !exchanged
	}
	t := a.Type
	switch t.Form {
	case contract.FormInt, contract.FormTime, contract.FormReal, contract.FormText:
		t = looseType(t) // of either range
	}
	b = e.fit(second, b, t, "the other value")
	if b == nil {
		return nil
	}
	if exchanged {
		a, b = b, a
	}
	return &contract.Expr{Op: contract.OpChoose, Type: t, Args: []*contract.Expr{cond, a, b}}
}

// numbers reads `LOW..HIGH` as what a query goes over.
func (e *Scope) numbers(q *contract.Query, x *syntax.Range) (*contract.Type, bool) {
	if !e.NeedsLanguage2(x.Span(), "to go over a range") {
		return nil, false
	}
	t := &contract.Type{Form: contract.FormInt}
	q.Low = e.Value(x.Low, t, "the first number")
	q.High = e.Value(x.High, t, "the last number")
	return t, q.Low != nil && q.High != nil
}

// valuesOf reads an enum as what a query goes over: its values, in their order.
func (e *Scope) valuesOf(q *contract.Query, r *syntax.Ref, enum *contract.Enum) (*contract.Type, bool) {
	if !e.NeedsLanguage2(r.At, "to go over an enum") {
		return nil, false
	}
	of := &contract.Type{Form: contract.FormEnum, Enum: enum}
	list := &contract.Type{Form: contract.FormList, Of: of, Max: len(enum.Values)}
	q.List = &contract.Expr{Op: contract.OpList, Type: list, Num: e.room(r.At, list)}
	e.Used[enum] = true
	for i := range enum.Values {
		e.Used[ValueUse{enum, int64(i)}] = true
		q.List.Args = append(q.List.Args, &contract.Expr{Op: contract.OpConst, Type: of, Num: int64(i)})
	}
	return of, true
}

// enumOf returns the enum that an expression names, or nil.
func (e *Scope) enumOf(x syntax.Expr) *contract.Enum {
	if r, isRef := x.(*syntax.Ref); isRef && e.local(r.Text) == nil {
		return e.Enums[r.Text]
	}
	return nil
}

// enumAt reads `Enum[n]`: the value of an enum by its number.
func (e *Scope) enumAt(en *contract.Enum, x *syntax.Index) *contract.Expr {
	if !e.computes(x.At, "an enum's value by its number") {
		return nil
	}
	n := e.Value(x.I, &contract.Type{Form: contract.FormInt}, "the number of the value")
	if n == nil {
		return nil
	}
	all := e.allOf(en)
	return &contract.Expr{Op: contract.OpAt, Type: all.Type.Of, Args: []*contract.Expr{all, n}}
}

// allOf returns the constant list of an enum's values, in their order.
func (c *Unit) allOf(en *contract.Enum) *contract.Expr {
	of := &contract.Type{Form: contract.FormEnum, Enum: en}
	list := &contract.Type{Form: contract.FormList, Of: of, Max: len(en.Values)}
	c.Used[en] = true
	slots := []int64{int64(len(en.Values))}
	for i := range en.Values {
		c.Used[ValueUse{en, int64(i)}] = true
		slots = append(slots, int64(i))
	}
	return c.Memory(list, slots)
}

// numberOf is the place of an enum's value among all, from 0, or the number by which clients know an entity.
func (b *builtinCall) numberOf() *contract.Expr {
	v := b.argument(0, contract.FormEnum, contract.FormEntity)
	if b.failed || !b.scope.NeedsLanguage2(b.call.At, "the number of an enum's value or an entity") {
		return nil
	}
	if v.Type.Form == contract.FormEntity {
		number := &contract.Type{Form: contract.FormInt, Low: 1, High: math.MaxUint32}
		return &contract.Expr{Op: contract.OpPublic, Type: number, Args: []*contract.Expr{v}}
	}
	return &contract.Expr{
		Op:   contract.OpFind,
		Type: &contract.Type{Form: contract.FormInt},
		Args: []*contract.Expr{b.scope.allOf(v.Type.Enum), v},
	}
}
