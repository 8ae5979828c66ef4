package typing

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// describe returns a type as messages name it.
//
// It comes with its article, to stand behind "is".
func describe(t *contract.Type) string {
	switch t.Form {
	case contract.FormEntity:
		if t.Name != "" {
			return "an entity with the part " + t.Name
		}
		return "an entity of the kind " + strings.Join(t.Names, " or ")
	case contract.FormClient:
		return "a client"
	case contract.FormStacks:
		return "a property of stacks"
	case contract.FormNothing:
		return "nothing"
	}
	return "a value of the type " + t.String()
}

// looseType returns the type that a counted one has in an expression: doubles.
//
// "Loose" is a type without range and step. A direction is an angle where it is stored and a unit
// vector where it is used.
func looseType(t *contract.Type) *contract.Type {
	if t.Form == contract.FormDirection {
		return &contract.Type{Form: contract.FormVec2}
	}
	return &contract.Type{Form: t.Form}
}

// Widened returns the reals that a counted expression stands for; others stay as they are.
//
// Constants are converted at once. For all else an OpReal stands around the expression; counted takes
// it off where the steps themselves are wanted.
func Widened(x *contract.Expr) *contract.Expr {
	if x == nil || !x.Type.Counted() {
		return x
	}
	if x.Op == contract.OpConst {
		slots := x.Nums
		if slots == nil {
			slots = []int64{x.Num}
		}
		out := &contract.Expr{Op: contract.OpConst, Type: looseType(x.Type)}
		if x.Type.Form == contract.FormDirection {
			a, b := x.Type.Vector(x.Num)
			out.Nums = []int64{bits(a), bits(b)}
			return out
		}
		for _, n := range slots {
			out.Nums = append(out.Nums, bits(x.Type.Real(n)))
		}
		if len(out.Nums) == 1 {
			out.Num = out.Nums[0]
			out.Nums = nil
		}
		return out
	}
	return &contract.Expr{Op: contract.OpReal, Type: looseType(x.Type), Args: []*contract.Expr{x}}
}

// bits returns a double as the number that stands for it in a row.
//
// Rows have slots of one size, for whole numbers and doubles alike.
func bits(f float64) int64 { return int64(math.Float64bits(f)) }

// float returns the double that a number of a row stands for.
func float(n int64) float64 { return math.Float64frombits(uint64(n)) }

// counted takes back what widened did.
func counted(x *contract.Expr) *contract.Expr {
	if x != nil && x.Op == contract.OpReal {
		return x.Args[0]
	}
	return x
}

// real makes a real of a whole number.
//
// Whole numbers beyond 2^53 lose their last digits, as everywhere in the language where a whole number
// meets a real. What is no whole number is returned as it is.
func real(x *contract.Expr) *contract.Expr {
	if x.Type.Form != contract.FormInt {
		return x
	}
	if x.Op == contract.OpConst {
		return &contract.Expr{
			Op:   contract.OpConst,
			Type: &contract.Type{Form: contract.FormReal},
			Num:  bits(float64(x.Num)),
		}
	}
	return &contract.Expr{
		Op:   contract.OpFromInt,
		Type: &contract.Type{Form: contract.FormReal},
		Args: []*contract.Expr{x},
	}
}

// same reports whether a value of the type a may stand where one of the type b is wanted.
//
// Ranges do not count: an int 0..9 may stand where an int 0..5 is wanted, and is checked when it is
// stored. The types of containers and records have to agree to the letter, since they are copied slot
// by slot. A ref fits where each of its kinds is wanted.
func same(a, b *contract.Type) bool {
	if a.Form != b.Form {
		return false
	}
	switch a.Form {
	case contract.FormEnum:
		return a.Enum == b.Enum
	case contract.FormEntity:
		for _, k := range a.Kinds {
			if !slices.Contains(b.Kinds, k) {
				return false
			}
		}
		return true
	case contract.FormRecord, contract.FormKind, contract.FormList, contract.FormMap, contract.FormStacks:
		return a.String() == b.String()
	}
	return true
}

// Value reads an expression that has to be of a type.
//
// what begins the messages, as in "the condition of an `if` is …". The result is nil after a mistake,
// which has been reported.
func (e *Scope) Value(x syntax.Expr, want *contract.Type, what string) *contract.Expr {
	if want.Form == "" { // its mistake has been told
		e.Expr(x, nil)
		return nil
	}
	if l, ok := x.(*syntax.List); ok &&
		(want.Form == contract.FormList || want.Form == contract.FormMap && len(l.Items) == 0) {
		return e.list(l, want, what)
	}
	v := e.Expr(x, want)
	if v == nil || v.Type.Form == "" {
		return nil
	}
	return e.fit(x, v, want, what)
}

// fit brings a value to the type that is wanted.
//
// It converts where nothing is lost or where the type says how to round: whole numbers to reals, reals
// to steps, `nothing` to the ref or client that stands for it. Constants are checked against the range
// here, so that no session has to find out; computed values are checked when they are stored.
func (e *Scope) fit(x syntax.Expr, v *contract.Expr, want *contract.Type, what string) *contract.Expr {
	switch {
	case v.Type.Form == contract.FormNothing && want.Form == contract.FormEntity:
		return &contract.Expr{Op: contract.OpConst, Type: want}
	case v.Type.Form == contract.FormNothing && want.Form == contract.FormClient:
		return &contract.Expr{Op: contract.OpConst, Type: want, Num: contract.Nothing}
	case want.Form == contract.FormReal && v.Type.Form == contract.FormInt:
		v = real(v)
	}
	if want.Counted() && looseType(want).Form == v.Type.Form ||
		want.Form == contract.FormReal && v.Type.Form == contract.FormReal {
		return e.steps(x, v, want, what)
	}
	if !same(v.Type, want) {
		e.Fail(x.Span(), "wrong-type", fmt.Sprintf("%s is %s", what, describe(v.Type)), "it has to be "+describe(want))
		return nil
	}
	if v.Op == contract.OpWords && want.Max > 0 && v.Type.Max > want.Max {
		e.Fail(
			x.Span(), "out-of-range", fmt.Sprintf("%s may have %d characters", what, v.Type.Max),
			fmt.Sprintf("at most %d; what stands in braces counts as long as it can be", want.Max),
		)
		return nil
	}
	if v.Op == contract.OpConst {
		// Both ends zero stand for an int without a range, as in arguments of bodies.
		if want.Whole() && (want.Low != 0 || want.High != 0) &&
			(v.Num < want.Low || v.Num > want.High) {
			text := func(n int64) string { return want.Format(contract.Value{Num: n}) }
			e.Fail(
				x.Span(), "out-of-range", fmt.Sprintf("%s is %s", what, text(v.Num)),
				fmt.Sprintf("from %s to %s", text(want.Low), text(want.High)),
			)
			return nil
		}
		if want.Form == contract.FormText && want.Max > 0 {
			if err := want.Allows(e.Contract.Texts[v.Num]); err != nil {
				e.Fail(x.Span(), "out-of-range", fmt.Sprintf("%s %s", what, err), "it has to be "+describe(want))
				return nil
			}
		}
	}
	return v
}

// steps fits reals to what is wanted: doubles, or counts of steps.
//
// Rounding is to the nearest step. A value that comes from a property of the very same type is copied
// without going through a double.
func (e *Scope) steps(x syntax.Expr, v *contract.Expr, want *contract.Type, what string) *contract.Expr {
	if !want.Counted() {
		return v
	}
	if from := counted(v); from != v && from.Type.String() == want.String() {
		return from // the same steps: nothing to round
	}
	if v.Op != contract.OpConst {
		return &contract.Expr{Op: contract.OpSteps, Type: want, Args: []*contract.Expr{v}}
	}
	reals := v.Nums
	if reals == nil {
		reals = []int64{v.Num}
	}
	out := &contract.Expr{Op: contract.OpConst, Type: want}
	if want.Form == contract.FormDirection {
		n, ok := want.Angle(float(reals[0]), float(reals[1]))
		if !ok {
			e.Fail(x.Span(), "out-of-range", what+" has no direction", "any vector but vec(0, 0)")
			return nil
		}
		out.Num = n
		return out
	}
	for _, r := range reals {
		n, _ := want.Steps(float(r))
		if n < want.Low || n > want.High {
			e.Fail(
				x.Span(), "out-of-range", fmt.Sprintf("%s is %s", what, want.Decimal(n)),
				fmt.Sprintf("from %s to %s", want.Decimal(want.Low), want.Decimal(want.High)),
			)
			return nil
		}
		out.Nums = append(out.Nums, n)
	}
	if len(out.Nums) == 1 {
		out.Num = out.Nums[0]
		out.Nums = nil
	}
	return out
}

// list reads `[a, b]` as a list of a type; with a want of nil its first value says of what.
//
// An empty list that nothing says the type of is taken for one of ints: nothing can be done with it but
// ask whether it is empty.
//
// A list in a body gets memory of its own; one in a constant goes into the contract's memory, which the
// caller sees to.
func (e *Scope) list(x *syntax.List, want *contract.Type, what string) *contract.Expr {
	var of *contract.Type
	limit := contract.MaxItems
	if want != nil {
		of = want.Of
		limit = want.Max
	}
	if len(x.Items) > limit {
		e.Fail(
			x.At, "out-of-range", fmt.Sprintf("%s has %d values", what, len(x.Items)), fmt.Sprintf("at most %d", limit),
		)
		return nil
	}
	out := &contract.Expr{Op: contract.OpList, Type: want}
	for i, item := range x.Items {
		if of == nil {
			v := e.Expr(item, nil)
			if v == nil || v.Type.Form == "" {
				return nil
			}
			if v.Type.Holder() || v.Type.Form == contract.FormNothing || v.Type.Form == contract.FormLine {
				e.Fail(
					item.Span(), "wrong-type", describe(v.Type)+" cannot stand in a list",
					"a list holds single values or records",
				)
				return nil
			}
			of = v.Type
			out.Args = append(out.Args, v)
			continue
		}
		v := e.Value(item, of, fmt.Sprintf("value %d of the list", i+1))
		if v == nil {
			return nil
		}
		out.Args = append(out.Args, v)
	}
	if out.Type == nil {
		if of == nil {
			of = &contract.Type{Form: contract.FormInt}
		}
		out.Type = &contract.Type{Form: contract.FormList, Of: of, Max: max(len(x.Items), 1)}
	}
	if !e.Constant {
		out.Num = e.room(x.At, out.Type)
	}
	return out
}

// Expr reads an expression. want, which may be nil, is the type that a bare name of an enum's value is looked up in.
// The result is nil when there was a mistake; it has been told.
//
// A result whose type has no form stands for something that was declared with a mistake: it is to be
// passed over in silence, like nil.
func (e *Scope) Expr(x syntax.Expr, want *contract.Type) *contract.Expr {
	switch x := x.(type) {
	case *syntax.Number:
		return &contract.Expr{Op: contract.OpConst, Type: &contract.Type{Form: contract.FormInt}, Num: x.Value}
	case *syntax.Time:
		return &contract.Expr{Op: contract.OpConst, Type: &contract.Type{Form: contract.FormTime}, Num: x.Ms}
	// The parser knows only decimal points and digits, so an error can only be one of size.
	case *syntax.Decimal:
		f, err := strconv.ParseFloat(x.Text, 64)
		if err != nil {
			e.Fail(x.At, "bad-number", "the number "+x.Text+" is too large", "reals are doubles")
			return nil
		}
		return &contract.Expr{Op: contract.OpConst, Type: &contract.Type{Form: contract.FormReal}, Num: bits(f)}
	case *syntax.Literal:
		return &contract.Expr{Op: contract.OpConst, Type: &contract.Type{Form: contract.FormText}, Num: e.Text(x.Value)}
	case *syntax.Words:
		return e.words(x)
	case *syntax.Truth:
		v := &contract.Expr{Op: contract.OpConst, Type: &contract.Type{Form: contract.FormBool}}
		if x.Value {
			v.Num = 1
		}
		return v
	case *syntax.Ref:
		return e.ref(x, want)
	case *syntax.Member:
		return e.member(x)
	case *syntax.Index:
		if en := e.enumOf(x.X); en != nil {
			return e.enumAt(en, x)
		}
		on := e.Expr(x.X, nil)
		if on == nil || on.Type.Form == "" {
			return nil
		}
		// Reading wants reals, not the steps that a list holds.
		return Widened(e.at(on, x))
	case *syntax.List:
		return e.list(x, nil, "this list")
	case *syntax.Record:
		return e.record(x)
	case *syntax.Query:
		return e.aggregate(x)
	case *syntax.Range:
		e.Fail(
			x.Span(), "wrong-place", "a range is no value",
			"it stands in `roll(1..6)`, `clip(n, 0..9)` and `for n in 1..6`",
		)
		return nil
	case *syntax.Call:
		return e.call(x, want)
	case *syntax.Unary:
		return e.unary(x)
	case *syntax.Choice:
		return e.choice(x, want)
	case *syntax.Binary:
		return e.binary(x)
	}
	return nil
}

// call reads a call: of a function that the language has, of one that the contract declares, or of a method.
//
// want is passed on to the functions of the language whose argument is an enum's value by its bare
// name.
func (e *Scope) call(x *syntax.Call, want *contract.Type) *contract.Expr {
	if m, ok := x.Fn.(*syntax.Member); ok {
		s, changes, ok := e.method(x, m)
		if !ok {
			return nil
		}
		if changes {
			e.Fail(
				x.At, "no-value", "this changes something and gives no value", "let it stand as a statement of its own",
			)
			return nil
		}
		return s.Value
	}
	r, ok := x.Fn.(*syntax.Ref)
	if !ok {
		e.Fail(
			x.Fn.Span(), "unknown-name", "this is nothing that could be called",
			"a function of the contract, or one of the language",
		)
		return nil
	}
	if f := e.Fns[r.Text]; f != nil {
		return e.declaredCall(x, f)
	}
	if e.IsBuiltin(r.Text) {
		return e.builtin(x, r.Text, want)
	}
	if Aggregates[r.Text] {
		return e.aggregateCall(x, r)
	}
	e.Fail(x.Fn.Span(), "unknown-name", fmt.Sprintf("there is no function `%s`", r.Text), e.notCallable(r.Text))
	return nil
}

// declaredCall types the call of a function that the contract declares.
//
// Whether a function rolls is known when all functions were read; they are read before any body. While
// one function is read only the call is noted, and package check follows the calls afterwards.
func (e *Scope) declaredCall(x *syntax.Call, f *contract.Fn) *contract.Expr {
	if e.Constant {
		e.Fail(x.At, "not-constant", "this is computed", "a constant is written out")
		return nil
	}
	e.Used[f] = true
	args, ok := e.arguments(x.At, x.Args, f.Params, f.Name, "called")
	if !ok || f.Result == nil {
		return nil
	}
	if e.Fn != nil {
		e.Calls[e.Fn] = append(e.Calls[e.Fn], Call{f, x.At})
	} else if e.Still && f.Rolls {
		e.Fail(
			x.At, "impure", fmt.Sprintf("`%s` rolls, and a check or condition may not", f.Name), "roll in the body",
		)
		return nil
	}
	return Widened(&contract.Expr{
		Op:   contract.OpCallFn,
		Type: f.Result,
		Fn:   f,
		Args: args,
	})
}

// notCallable returns the hint for a name that is called and is no function: how an event or action of that name is
// used, else the function that may have been meant.
func (e *Scope) notCallable(name string) string {
	if e.Kind != nil {
		for _, a := range e.Kind.Actions {
			if a.Name == name {
				return "an action is run: `do " + name + "(…)`"
			}
		}
	}
	for _, event := range e.Contract.Events {
		if event.Name == name {
			return "an event is told: `tell everyone " + name + "(…)`"
		}
	}
	return Suggest(
		name, slices.Concat(Names(e.Fns), Names(builtins), Names(Aggregates)),
		"declare it: fn "+name+"(…) -> … = …",
	)
}

// unary reads `-x` or `not x`.
//
// A minus before a constant makes another constant, so that `-5` may stand wherever a constant has to.
// The scanner knows no number below zero, so the least 64-bit number cannot be written and negating
// cannot overflow here.
func (e *Scope) unary(x *syntax.Unary) *contract.Expr {
	if x.Op == "not" {
		t := &contract.Type{Form: contract.FormBool}
		v := e.Value(x.X, t, "what `not` stands before")
		if v == nil {
			return nil
		}
		return &contract.Expr{Op: contract.OpNot, Type: t, Args: []*contract.Expr{v}}
	}
	v := e.Expr(x.X, nil)
	if v == nil || v.Type.Form == "" {
		return nil
	}
	switch v.Type.Form {
	case contract.FormInt, contract.FormReal, contract.FormVec2, contract.FormVec3, contract.FormTime:
	default:
		e.Fail(
			x.X.Span(), "wrong-type", fmt.Sprintf("what `-` stands before is %s", describe(v.Type)),
			"it has to be a number or a vector",
		)
		return nil
	}
	t := &contract.Type{Form: v.Type.Form}
	if v.Op != contract.OpConst {
		return &contract.Expr{Op: contract.OpNeg, Type: t, Args: []*contract.Expr{v}}
	}
	if t.Form == contract.FormInt || t.Form == contract.FormTime {
		return &contract.Expr{Op: contract.OpConst, Type: t, Num: -v.Num}
	}
	out := &contract.Expr{Op: contract.OpConst, Type: t, Num: bits(-float(v.Num))}
	for _, n := range v.Nums {
		out.Nums = append(out.Nums, bits(-float(n)))
	}
	return out
}

var numeric = map[string]contract.Op{
	"+":  contract.OpAdd,
	"-":  contract.OpSub,
	"*":  contract.OpMul,
	"/":  contract.OpDiv,
	"%":  contract.OpMod,
	"<":  contract.OpLt,
	"<=": contract.OpLe,
	">":  contract.OpGt,
	">=": contract.OpGe,
}

// binary reads an operation of two sides. `and`, `or`, `==` and `!=` say what their sides have to be; the others take
// their meaning from the types of the sides.
//
// Nothing is calculated in advance, not even between two constants: the machine does that with the same
// code as for all else, faults included.
func (e *Scope) binary(x *syntax.Binary) *contract.Expr {
	boolean := &contract.Type{Form: contract.FormBool}
	switch x.Op {
	case "and", "or":
		a := e.Value(x.A, boolean, "the left side of `"+x.Op+"`")
		b := e.Value(x.B, boolean, "the right side of `"+x.Op+"`")
		if a == nil || b == nil {
			return nil
		}
		return &contract.Expr{
			Op:   map[string]contract.Op{"and": contract.OpAnd, "or": contract.OpOr}[x.Op],
			Type: boolean,
			Args: []*contract.Expr{a, b},
		}
	case "==", "!=":
		return e.equal(x)
	}
	a := e.Expr(x.A, nil)
	b := e.Expr(x.B, nil)
	if a == nil || b == nil || a.Type.Form == "" || b.Type.Form == "" {
		return nil
	}
	if t := vectorial(x.Op, a, b); t != nil {
		if t.Form == contract.FormVec2 || t.Form == contract.FormVec3 {
			return &contract.Expr{Op: numeric[x.Op], Type: t, Args: []*contract.Expr{real(a), real(b)}}
		}
		if x.Op == "/" && b.Type.Form == contract.FormTime || x.Op != "+" && x.Op != "-" && x.Op != "*" && x.Op != "/" {
			t = map[bool]*contract.Type{true: {Form: contract.FormInt}, false: boolean}[x.Op == "/"]
		}
		return &contract.Expr{Op: numeric[x.Op], Type: t, Args: []*contract.Expr{a, b}}
	}
	return e.ofNumbers(x, a, b)
}

// ofNumbers types an operation or comparison of two numbers. With a real on one side, the other side becomes real too.
// It reports a side that is no number, and returns nil then.
func (e *Scope) ofNumbers(x *syntax.Binary, a, b *contract.Expr) *contract.Expr {
	if a.Type.Form == contract.FormText && b.Type.Form == contract.FormText && (x.Op[0] == '<' || x.Op[0] == '>') {
		return e.ofTexts(x, a, b)
	}
	result := &contract.Type{Form: contract.FormInt}
	if a.Type.Form == contract.FormReal || b.Type.Form == contract.FormReal {
		if x.Op == "%" {
			e.Fail(x.OpAt, "wrong-type", "`%` works on whole numbers only", "reals have + - * /")
			return nil
		}
		result = &contract.Type{Form: contract.FormReal}
	}
	for i, side := range []*contract.Expr{a, b} {
		if side.Type.Form != contract.FormInt && side.Type.Form != contract.FormReal {
			hint := "it has to be a number"
			switch a, b := a.Type.Form, b.Type.Form; {
			case a == contract.FormTime || b == contract.FormTime:
				hint = timeHint(x.Op)
			case a == contract.FormVec2 || a == contract.FormVec3 || b == contract.FormVec2 || b == contract.FormVec3:
				hint = "vectors have + and - between them, and * and / with a number; compare a length or distance"
			}
			e.Fail(
				[]syntax.Expr{x.A, x.B}[i].Span(), "wrong-type",
				fmt.Sprintf("the %s side of `%s` is %s", []string{"left", "right"}[i], x.Op, describe(side.Type)), hint,
			)
			return nil
		}
	}
	if result.Form == contract.FormReal {
		a = real(a)
		b = real(b)
	}
	switch x.Op {
	case "<", "<=", ">", ">=":
		result = &contract.Type{Form: contract.FormBool}
	}
	return &contract.Expr{Op: numeric[x.Op], Type: result, Args: []*contract.Expr{a, b}}
}

// ofTexts types a comparison of two texts, which come in the order of their characters' numbers: as one of a number
// that says how they follow each other.
func (e *Scope) ofTexts(x *syntax.Binary, a, b *contract.Expr) *contract.Expr {
	if e.Constant || !e.NeedsLanguage2(x.OpAt, "the order of texts") {
		return nil
	}
	number := &contract.Type{Form: contract.FormInt}
	order := &contract.Expr{Op: contract.OpOrder, Type: number, Args: []*contract.Expr{a, b}}
	zero := &contract.Expr{Op: contract.OpConst, Type: number}
	return &contract.Expr{
		Op:   numeric[x.Op],
		Type: &contract.Type{Form: contract.FormBool},
		Args: []*contract.Expr{order, zero},
	}
}

// vectorial returns the type of an operation on vectors or times, or nil when it is none.
//
// The result stands for the family, vector or time, that the operation belongs to: for comparisons and
// for a time over a time, binary makes a bool or an int of it.
func vectorial(op string, a, b *contract.Expr) *contract.Type {
	number := func(t *contract.Type) bool { return t.Form == contract.FormInt || t.Form == contract.FormReal }
	vector := func(t *contract.Type) bool { return t.Form == contract.FormVec2 || t.Form == contract.FormVec3 }
	switch ta, tb := a.Type, b.Type; {
	case vector(ta) && ta.Form == tb.Form &&
		(op == "+" || op == "-"), vector(ta) && number(tb) && (op == "*" || op == "/"):
		return &contract.Type{Form: ta.Form}
	case number(ta) && vector(tb) && op == "*":
		return &contract.Type{Form: tb.Form}
	case ta.Form == contract.FormTime && tb.Form == contract.FormTime && op != "*" &&
		op != "%", ta.Form == contract.FormTime && tb.Form == contract.FormInt &&
		(op == "*" || op == "/"), ta.Form == contract.FormInt && tb.Form == contract.FormTime && op == "*":
		return &contract.Type{Form: contract.FormTime}
	case ta.Form == contract.FormInstant && tb.Form == contract.FormInstant && op == "-":
		return &contract.Type{Form: contract.FormTime}
	case ta.Form == contract.FormInstant && tb.Form == contract.FormInstant && op[0] != '*' && op[0] != '/' &&
		op[0] != '%' && op != "+":
		return &contract.Type{Form: contract.FormTime}
	case ta.Form == contract.FormInstant && tb.Form == contract.FormTime && (op == "+" || op == "-"):
		return &contract.Type{Form: contract.FormInstant}
	}
	return nil
}

// equal reads `==` or `!=`. One side may say what the other one has to be.
//
// Refs may be compared when at least one kind could be on both sides; with none in common the answer
// would always be the same, which is reported as a mistake in the types.
func (e *Scope) equal(x *syntax.Binary) *contract.Expr {
	op := contract.OpEq
	if x.Op == "!=" {
		op = contract.OpNe
	}
	out := func(a, b *contract.Expr) *contract.Expr {
		return &contract.Expr{Op: op, Type: &contract.Type{Form: contract.FormBool}, Args: []*contract.Expr{a, b}}
	}
	// A bare enum value takes its type from the other side.
	first := x.A
	second := x.B
	if r, ok := x.A.(*syntax.Ref); ok && !e.known(r) || ok && r.Text == "nothing" {
		first = x.B
		second = x.A
	}
	a := e.Expr(first, nil)
	if a == nil || a.Type.Form == "" {
		return nil
	}
	if e.incomparable(first, a.Type.Form) {
		return nil
	}
	var b *contract.Expr
	switch a.Type.Form {
	case contract.FormInt, contract.FormReal, contract.FormVec2, contract.FormVec3, contract.FormEntity:
		b = e.Expr(second, a.Type)
		if b == nil || b.Type.Form == "" {
			return nil
		}
		if a.Type.Form == contract.FormInt && b.Type.Form == contract.FormReal {
			return out(real(a), b)
		}
		if a.Type.Form == contract.FormEntity && b.Type.Form == contract.FormEntity &&
			slices.ContainsFunc(a.Type.Kinds, func(k *contract.Kind) bool { return slices.Contains(b.Type.Kinds, k) }) {
			return out(a, b)
		}
		b = e.fit(second, b, a.Type, "the other side of `"+x.Op+"`")
	default:
		b = e.Value(second, a.Type, "the other side of `"+x.Op+"`")
	}
	if b == nil {
		return nil
	}
	return out(a, b)
}

// incomparable reports whether values of a form cannot stand in a comparison, and says so of x.
func (e *Scope) incomparable(x syntax.Expr, form contract.Form) bool {
	switch form {
	case contract.FormStacks:
		e.Fail(
			x.Span(), "wrong-type", "stacks cannot be compared as a whole",
			"compare a count: satchel.count(flare) == 2",
		)
	case contract.FormList, contract.FormMap, contract.FormLine:
		e.Fail(
			x.Span(), "wrong-type", fmt.Sprintf("a %s cannot be compared as a whole", form),
			"compare what is in it",
		)
	case contract.FormNothing:
		e.Fail(
			x.Span(), "wrong-type", "nothing is compared with nothing",
			"one of the two sides has to be a ref or a client",
		)
	default:
		return false
	}
	return true
}

// known reports whether a bare name means something without a type to look it up in.
func (e *Scope) known(r *syntax.Ref) bool {
	return syntax.Reserved(r.Text) || e.local(r.Text) != nil || e.property(r.Text) != nil || e.Kinds[r.Text] != nil ||
		e.Consts[r.Text] != nil || e.Settings[r.Text] != nil
}

// named looks a bare name up in the type that is wanted.
//
// It returns nil, and reports nothing, when the type has no such value.
func (e *Scope) named(x *syntax.Ref, want *contract.Type) *contract.Expr {
	if want == nil {
		return nil
	}
	switch want.Form {
	case contract.FormEnum:
		if i := slices.Index(want.Enum.Values, x.Text); i >= 0 {
			e.Used[ValueUse{want.Enum, int64(i)}] = true
			return &contract.Expr{Op: contract.OpConst, Type: want, Num: int64(i)}
		}
	case contract.FormRole:
		if i := slices.Index(e.Contract.Roles, x.Text); i >= 0 {
			e.Used[RoleUse(x.Text)] = true
			return &contract.Expr{Op: contract.OpConst, Type: want, Num: int64(i)}
		}
	case contract.FormKind:
		if i := slices.Index(want.Names, x.Text); i >= 0 {
			return &contract.Expr{Op: contract.OpConst, Type: want, Num: int64(i)}
		}
	}
	return nil
}

// ref reads a bare name. What is declared nearest comes first: a local, a property of self, a setting, a value of an
// enum, a kind; a constant only where none of the first two hides it. want is the type that is wanted, nil for any: a
// value of an enum can be named without it.
func (e *Scope) ref(x *syntax.Ref, want *contract.Type) *contract.Expr {
	if x.Text == "nothing" {
		return &contract.Expr{Op: contract.OpConst, Type: &contract.Type{Form: contract.FormNothing}}
	}
	if v := e.Consts[x.Text]; v != nil && e.local(x.Text) == nil && e.property(x.Text) == nil {
		if v.Type.Form == "" {
			return nil
		}
		// The prefix keeps constants apart from anything else that is keyed by a text.
		e.Used["const "+x.Text] = true
		return v
	}
	if e.Constant {
		return e.constantRef(x, want)
	}
	if v, is := e.keyword(x); is {
		return v
	}
	if v := e.local(x.Text); v != nil {
		if v.Type.Form == "" {
			return nil
		}
		e.Used[v] = true
		return Widened(v)
	}
	if p := e.property(x.Text); p != nil {
		e.Used[p.Offset] = e.Used[p.Offset] || e.written != syntax.Expr(x)
		return Widened(&contract.Expr{
			Op:   reading(p),
			Type: p.Type,
			Prop: p,
			Args: []*contract.Expr{e.self()},
		})
	}
	if s := e.Settings[x.Text]; s != nil {
		e.Used[s] = true
		return Widened(&contract.Expr{Op: contract.OpSetting, Type: s.Type, Num: int64(s.Slot)})
	}
	if v := e.named(x, want); v != nil {
		return v
	}
	if k := e.Kinds[x.Text]; k != nil {
		// Only of a shared kind there is exactly one entity, which its name can stand for.
		if !k.Shared {
			hint := "name whose: caller." + k.Name
			if k.Free() {
				hint = "go over them, as in `count(x in " + k.Name + " where …)`, or keep a ref to one"
			}
			e.Fail(x.At, "many", fmt.Sprintf("there may be many %s; which is meant?", k.Name), hint)
			return nil
		}
		return &contract.Expr{Op: contract.OpShared, Type: k.Ref(), Kind: k}
	}
	return e.lastRef(x, want)
}

// lastRef reads a bare name that nothing declares.
func (e *Scope) lastRef(x *syntax.Ref, want *contract.Type) *contract.Expr {
	switch {
	case x.Text == contract.LogicRole && e.Contract.Logic != nil:
		return &contract.Expr{Op: contract.OpLogic, Type: &contract.Type{Form: contract.FormClient}}
	case x.Text == "clients":
		e.Fail(x.At, "many", "`clients` are all of them, no value", "go over them: count(c in clients where …)")
	default:
		e.unknown(x, want)
	}
	return nil
}

// constantRef reads a bare name in a constant, where only values of enums stand beside other constants.
func (e *Scope) constantRef(x *syntax.Ref, want *contract.Type) *contract.Expr {
	if v := e.named(x, want); v != nil {
		return v
	}
	if want != nil && want.Form == contract.FormEnum {
		e.Fail(
			x.At, "unknown-name", fmt.Sprintf("`%s` is no %s", x.Text, want.Enum.Name),
			Suggest(x.Text, want.Enum.Values, "one of "+strings.Join(want.Enum.Values, ", ")),
		)
		return nil
	}
	e.Fail(
		x.At, "not-constant", fmt.Sprintf("this is computed from `%s`", x.Text),
		"what is constant is a number, a text, true, false, a vector, a list, a record, a value of an enum or "+
			"another constant",
	)
	return nil
}

// keyword reads a name that the language itself gives a meaning. is reports whether it is one; the value is nil when
// it has none here, which has been reported then.
//
// Each of them is bound to certain places: a request has a caller, an audience a viewer. No declaration
// may take one of these names, so the order among them means nothing.
func (e *Scope) keyword(x *syntax.Ref) (v *contract.Expr, is bool) {
	client := &contract.Type{Form: contract.FormClient}
	switch x.Text {
	case "self":
		if e.Kind == nil {
			e.Fail(
				x.At, "no-self", "there is no `self` here", "`self` is the entity whose request, handler or timer runs",
			)
			return nil, true
		}
		return e.self(), true
	case "owner":
		if e.Kind == nil {
			e.Fail(x.At, "no-self", "there is no `owner` here", "name the entity: c.Diver.owner")
			return nil, true
		}
		return &contract.Expr{Op: contract.OpOwner, Type: client, Args: []*contract.Expr{e.self()}}, true
	case "caller":
		if e.Request == nil {
			hint := "only a request has one"
			if e.Kind == nil {
				hint = "only a request has one; here the client is the argument of `on join`"
			}
			e.Fail(x.At, "no-request", "there is no `caller` here", hint)
			return nil, true
		}
		return &contract.Expr{Op: contract.OpCaller, Type: client}, true
	case "viewer":
		if !e.Viewer {
			e.Fail(
				x.At, "no-viewer", "there is no `viewer` here",
				"only an audience has one: the client of whom it is asked",
			)
			return nil, true
		}
		return &contract.Expr{Op: contract.OpViewer, Type: client}, true
	// The client with the number 0, whom no client can be.
	case "server":
		return &contract.Expr{Op: contract.OpConst, Type: client}, true
	case "everyone", "nobody":
		e.Fail(
			x.At, "audience", fmt.Sprintf("`%s` is an audience, not a value", x.Text),
			"it stands after `to`, `from` or `tell`",
		)
		return nil, true
	}
	return nil, false
}

// self returns the expression for the entity that a body belongs to.
func (e *Scope) self() *contract.Expr {
	return &contract.Expr{Op: contract.OpSelf, Type: e.Kind.Ref()}
}

// timeHint says what can be calculated with times, for an operator that was used otherwise.
func timeHint(op string) string {
	if op == "*" || op == "/" {
		return "a time is taken times a whole number, or divided by one: 3s / 2, not 3s * 0.5"
	}
	return "a time is compared with, added to and taken from a time: since(phase) > 60s"
}

// unknown reports that a name means nothing here, with the nearest that would.
//
// It goes from the most telling explanation to the least: a function without its arguments, an enum, a
// value of some enum, and at last the nearest of all names that could stand here.
func (e *Scope) unknown(x *syntax.Ref, want *contract.Type) {
	if e.IsBuiltin(x.Text) {
		e.Fail(
			x.At, "wrong-type", fmt.Sprintf("`%s` is a function, and is called here without its values", x.Text),
			"write "+builtins[x.Text].usage,
		)
		return
	}
	if e.Enums[x.Text] != nil {
		e.Fail(
			x.At, "wrong-type", fmt.Sprintf("`%s` is an enum, not a value", x.Text),
			fmt.Sprintf("name one of its values: %s.%s", x.Text, e.Enums[x.Text].Values[0]),
		)
		return
	}
	for _, en := range e.Contract.Enums {
		if slices.Contains(en.Values, x.Text) {
			if want != nil && want.Form != "" {
				e.Fail(
					x.At, "wrong-type", fmt.Sprintf("`%s` is a value of %s", x.Text, en.Name),
					"here stands "+describe(want),
				)
			} else {
				e.Fail(
					x.At, "unknown-name", fmt.Sprintf("it is not clear what `%s` means here", x.Text),
					fmt.Sprintf("write %s.%s", en.Name, x.Text),
				)
			}
			return
		}
	}
	var known []string
	for _, s := range e.Scopes {
		known = append(known, Names(s)...)
	}
	if e.Kind != nil {
		for _, p := range e.Kind.Properties {
			known = append(known, p.Name)
		}
	}
	if want != nil && want.Form == contract.FormEnum {
		known = append(known, want.Enum.Values...)
	}
	if want != nil && want.Form == contract.FormRole {
		known = append(known, e.Contract.Roles...)
	}
	known = append(known, Names(e.Kinds)...)
	known = append(append(known, Names(e.Consts)...), Names(e.Settings)...)
	hint := "a property, an argument or a name made with `let` can stand here"
	if e.Kind == nil {
		hint = "name whose property it is: c.Diver.hull"
	}
	e.Fail(x.At, "unknown-name", fmt.Sprintf("the name `%s` is not declared", x.Text), Suggest(x.Text, known, hint))
}

// member reads `X.name`: a value of an enum, a property or the owner of an entity, what a client has, or a part of a
// vector or record.
//
// An enum's name comes before a kind's entity or a property of the same name, but not before a local.
func (e *Scope) member(x *syntax.Member) *contract.Expr {
	if r, ok := x.X.(*syntax.Ref); ok && e.local(r.Text) == nil {
		if en := e.Enums[r.Text]; en != nil {
			return e.valueOf(en, x.Name)
		}
	}
	on := e.Expr(x.X, nil)
	if on == nil || on.Type.Form == "" {
		return nil
	}
	switch on.Type.Form {
	case contract.FormEntity:
		return e.memberOfEntity(x, on)
	case contract.FormClient:
		return e.memberOfClient(x.Name, on)
	case contract.FormVec2, contract.FormVec3, contract.FormRecord:
		// One component of what is stored is read and widened, rather than all of them widened and one
		// picked.
		if c := counted(on); c != on && c.Type.Form != contract.FormDirection {
			on = c
		}
		return Widened(e.field(on, x.Name))
	}
	e.Fail(
		x.Name.At, "unknown-name", fmt.Sprintf("%s has no `%s`", describe(on.Type), x.Name.Text),
		"only entities, clients, vectors and records have parts",
	)
	return nil
}

// valueOf returns the value of an enum that has the name, or reports that there is none.
func (e *Scope) valueOf(en *contract.Enum, name syntax.Ident) *contract.Expr {
	i := slices.Index(en.Values, name.Text)
	if i < 0 {
		e.Fail(
			name.At, "unknown-name", fmt.Sprintf("%s has no value `%s`", en.Name, name.Text),
			Suggest(name.Text, en.Values, "it has "+strings.Join(en.Values, ", ")),
		)
		return nil
	}
	e.Used[en] = true
	e.Used[ValueUse{en, int64(i)}] = true
	return &contract.Expr{
		Op:   contract.OpConst,
		Type: &contract.Type{Form: contract.FormEnum, Enum: en},
		Num:  int64(i),
	}
}

// reading returns the operation that reads a property: one that is computed is computed anew.
func reading(p *contract.Property) contract.Op {
	if p.Computed {
		return contract.OpComputed
	}
	return contract.OpGet
}

// memberOfEntity returns the owner or a property of an entity. Where the entity may be of several kinds, all of them
// have to have the property.
//
// For a single kind the access carries the property; for several it carries a table by kind (Props),
// which the machine looks the entity's own kind up in.
func (e *Scope) memberOfEntity(x *syntax.Member, on *contract.Expr) *contract.Expr {
	name := x.Name.Text
	if name == "owner" {
		return &contract.Expr{
			Op:   contract.OpOwner,
			Type: &contract.Type{Form: contract.FormClient},
			Args: []*contract.Expr{on},
		}
	}
	if k := on.Type.Kind(); k != nil {
		if p := k.Property(name); p != nil {
			e.Used[p.Offset] = e.Used[p.Offset] || e.written != syntax.Expr(x)
			return Widened(&contract.Expr{
				Op:   reading(p),
				Type: p.Type,
				Prop: p,
				Args: []*contract.Expr{on},
			})
		}
	}
	props := e.common(x.Name, on.Type.Kinds)
	if props == nil {
		return nil
	}
	get := &contract.Expr{Args: []*contract.Expr{on}}
	for _, k := range on.Type.Kinds {
		p := props[k.Index]
		e.Used[p.Offset] = e.Used[p.Offset] || e.written != syntax.Expr(x)
		get.Op = reading(p)
		get.Type = p.Type
		get.Prop = p
	}
	if len(on.Type.Kinds) > 1 {
		get.Prop = nil
		get.Props = props
	}
	return Widened(get)
}

// memberOfClient returns the name, role or number of a client, or its entity of a kind that each client has one of.
//
// A client has exactly one entity of a kind that is `per` its role, and none when its role is another
// one: the result may be nothing when it runs.
func (e *Scope) memberOfClient(name syntax.Ident, on *contract.Expr) *contract.Expr {
	out := &contract.Expr{Args: []*contract.Expr{on}}
	switch name.Text {
	case "name":
		out.Op = contract.OpName
		out.Type = &contract.Type{Form: contract.FormText, Max: longestName}
		return out
	case "role":
		out.Op = contract.OpRole
		out.Type = &contract.Type{Form: contract.FormRole}
		return out
	case "number":
		out.Op = contract.OpNumber
		out.Type = &contract.Type{Form: contract.FormInt}
		return out
	}
	var known []string
	for _, k := range e.Contract.Kinds {
		if k.Per < 0 {
			continue
		}
		known = append(known, k.Name)
		if k.Name == name.Text {
			out.Op = contract.OpEntityOf
			out.Type = k.Ref()
			out.Kind = k
			return out
		}
	}
	e.Fail(
		name.At, "unknown-name", fmt.Sprintf("a client has no `%s`", name.Text),
		Suggest(
			name.Text, append(known, "name", "role", "number"),
			"it has name, role, number, and the kinds that each client has one of",
		),
	)
	return nil
}

// field reads a part of a record or vector. The result is in the form that it is held in.
//
// Num of the result is the part's offset in slots within on.
func (e *Scope) field(on *contract.Expr, n syntax.Ident) *contract.Expr {
	if on.Type.Form == contract.FormRecord {
		offset := 0
		for _, p := range on.Type.Parts {
			if p.Name == n.Text {
				return &contract.Expr{
					Op:   contract.OpField,
					Type: p.Type,
					Num:  int64(offset),
					Args: []*contract.Expr{on},
				}
			}
			offset += p.Type.Width()
		}
		known := on.Type.FieldNames()
		e.Fail(
			n.At, "unknown-name", fmt.Sprintf("%s has no field `%s`", on.Type.Name, n.Text),
			Suggest(n.Text, known, "it has "+strings.Join(known, ", ")),
		)
		return nil
	}
	i := slices.Index([]string{"x", "y", "z"}[:on.Type.Width()], n.Text)
	if i < 0 {
		e.Fail(
			n.At, "unknown-name", fmt.Sprintf("a %s has no `%s`", on.Type.Form, n.Text),
			"it has "+strings.Join([]string{"x", "y", "z"}[:on.Type.Width()], ", "),
		)
		return nil
	}
	// A component has the steps and the range of its vector.
	t := *on.Type
	t.Form = contract.FormReal
	return &contract.Expr{
		Op:   contract.OpField,
		Type: &t,
		Num:  int64(i),
		Args: []*contract.Expr{on},
	}
}

// at reads `list[index]` or `map[key]`. The result is in the form that it is held in.
//
// A place beyond the end of a list, or a key that is not in the map, is a fault when it runs: it cannot
// be known here.
func (e *Scope) at(on *contract.Expr, x *syntax.Index) *contract.Expr {
	var key *contract.Expr
	switch on.Type.Form {
	case contract.FormList:
		key = e.Value(x.I, &contract.Type{Form: contract.FormInt}, "the place in the list")
	case contract.FormMap:
		key = e.Value(x.I, on.Type.Key, "the key")
	default:
		e.Fail(
			x.X.Span(), "wrong-type", describe(on.Type)+" has no places",
			"a list has: buoys[0]; a map has keys: scores[caller]",
		)
	}
	if key == nil {
		return nil
	}
	return &contract.Expr{Op: contract.OpAt, Type: on.Type.Of, Args: []*contract.Expr{on, key}}
}

// record reads a record that is written out, `Mark { number: 1, at: pos }`.
//
// The fields may be given in any order; the result has them in the order of the type. No field may be
// left out, so that adding one to a type shows every place that makes such a record.
func (e *Scope) record(x *syntax.Record) *contract.Expr {
	tree := e.Aliases[x.Type.Text]
	if tree == nil || tree.Type != nil {
		var known []string
		for name, d := range e.Aliases {
			if d.Type == nil {
				known = append(known, name)
			}
		}
		e.Fail(
			x.Type.At, "unknown-name", fmt.Sprintf("there is no record `%s`", x.Type.Text),
			Suggest(x.Type.Text, known, "declare it: type "+x.Type.Text+" { … }"),
		)
		return nil
	}
	e.Used[tree] = true
	t := e.Alias(tree)
	if t == nil {
		return nil
	}
	out := &contract.Expr{Op: contract.OpRecord, Type: t, Args: make([]*contract.Expr, len(t.Parts))}
	ok := true
	for _, set := range x.Sets {
		i := slices.IndexFunc(t.Parts, func(p contract.Param) bool { return p.Name == set.Name.Text })
		if i < 0 {
			known := t.FieldNames()
			e.Fail(
				set.Name.At, "unknown-name", fmt.Sprintf("%s has no field `%s`", t.Name, set.Name.Text),
				Suggest(set.Name.Text, known, "it has "+strings.Join(known, ", ")),
			)
			ok = false
			continue
		}
		if out.Args[i] != nil {
			e.Fail(set.Name.At, "repeated", fmt.Sprintf("`%s` is given twice", set.Name.Text), "remove one of the two")
		}
		out.Args[i] = e.Value(set.Value, t.Parts[i].Type, "the field `"+set.Name.Text+"`")
		ok = ok && out.Args[i] != nil
	}
	for i, p := range t.Parts {
		if ok && out.Args[i] == nil {
			e.Fail(
				x.At, "not-given", fmt.Sprintf("the field `%s` of %s gets no value here", p.Name, t.Name),
				"a record is given with all of its fields",
			)
			ok = false
		}
	}
	if !ok {
		return nil
	}
	return out
}
