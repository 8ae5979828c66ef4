package contract

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"kamerad/core/syntax"
)

func describe(t *Type) string {
	switch t.Form {
	case FormEntity:
		return "an entity of the kind " + t.Kind.Name
	case FormClient:
		return "a client"
	case FormStacks:
		return "a property of stacks"
	}
	return "a value of the type " + t.String()
}

// widened gives the real that a counted one stands for; other expressions stay as they are.
func widened(x *Expr) *Expr {
	if x == nil || x.Type.Form != FormReal || x.Type.Per == 0 {
		return x
	}
	return &Expr{Op: OpReal, Type: &Type{Form: FormReal}, Args: []*Expr{x}}
}

// counted takes back what widened did.
func counted(x *Expr) *Expr {
	if x != nil && x.Op == OpReal {
		return x.Args[0]
	}
	return x
}

// real makes a real of a whole number.
func real(x *Expr) *Expr {
	if x.Type.Form != FormInt {
		return x
	}
	if x.Op == OpConst {
		return &Expr{Op: OpConst, Type: &Type{Form: FormReal}, Num: int64(math.Float64bits(float64(x.Num)))}
	}
	return &Expr{Op: OpFromInt, Type: &Type{Form: FormReal}, Args: []*Expr{x}}
}

func same(a, b *Type) bool {
	return a.Form == b.Form && a.Kind == b.Kind && (a.Enum == b.Enum || a.Form != FormEnum)
}

// value reads an expression that has to be of a type.
func (e *env) value(x syntax.Expr, want *Type, what string) *Expr {
	v := e.expr(x, want)
	if v == nil {
		return nil
	}
	if v.Type.Form == "" {
		return nil // its mistake has been told
	}
	if want.Form == FormReal && (v.Type.Form == FormInt || v.Type.Form == FormReal) {
		return e.realValue(x, real(v), want, what)
	}
	if !same(v.Type, want) {
		e.fail(x.Span(), "wrong-type", fmt.Sprintf("%s is %s", what, describe(v.Type)), "it has to be "+describe(want))
		return nil
	}
	if v.Op == OpConst {
		if want.Form == FormInt && want.Low < want.High && (v.Num < want.Low || v.Num > want.High) {
			e.fail(x.Span(), "out-of-range", fmt.Sprintf("%s is %d", what, v.Num), fmt.Sprintf("from %d to %d", want.Low, want.High))
			return nil
		}
		if want.Form == FormText && want.Max > 0 && utf8.RuneCountInString(v.Text) > want.Max {
			e.fail(x.Span(), "out-of-range", fmt.Sprintf("%s has %d characters", what, utf8.RuneCountInString(v.Text)), fmt.Sprintf("at most %d", want.Max))
			return nil
		}
	}
	return v
}

// realValue fits a real to what is wanted: a double, or a count of steps.
func (e *env) realValue(x syntax.Expr, v *Expr, want *Type, what string) *Expr {
	if want.Per == 0 {
		return v
	}
	if from := counted(v); from != v && *from.Type == *want {
		return from // the same steps: nothing to round
	}
	if v.Op != OpConst {
		return &Expr{Op: OpSteps, Type: want, Args: []*Expr{v}}
	}
	n, _ := want.Steps(math.Float64frombits(uint64(v.Num)))
	if n < want.Low || n > want.High {
		e.fail(x.Span(), "out-of-range", fmt.Sprintf("%s is %s", what, want.decimal(n)), fmt.Sprintf("from %s to %s", want.decimal(want.Low), want.decimal(want.High)))
		return nil
	}
	return &Expr{Op: OpConst, Type: want, Num: n}
}

// expr reads an expression. want, which may be nil, is the type that a bare name of an enum's value is looked up in. The
// result is nil when there was a mistake; it has been told.
func (e *env) expr(x syntax.Expr, want *Type) *Expr {
	switch x := x.(type) {
	case *syntax.Number:
		return &Expr{Op: OpConst, Type: &Type{Form: FormInt}, Num: x.Value}
	case *syntax.Decimal:
		f, err := strconv.ParseFloat(x.Text, 64)
		if err != nil {
			e.fail(x.At, "bad-number", "the number "+x.Text+" is too large", "reals are doubles")
			return nil
		}
		return &Expr{Op: OpConst, Type: &Type{Form: FormReal}, Num: int64(math.Float64bits(f))}
	case *syntax.Literal:
		return &Expr{Op: OpConst, Type: &Type{Form: FormText}, Text: x.Value}
	case *syntax.Truth:
		v := &Expr{Op: OpConst, Type: &Type{Form: FormBool}}
		if x.Value {
			v.Num = 1
		}
		return v
	case *syntax.Ref:
		return e.ref(x, want)
	case *syntax.Member:
		return e.member(x)
	case *syntax.Call:
		v, changes, ok := e.method(x)
		if !ok {
			return nil
		}
		if changes {
			e.fail(x.At, "no-value", "this changes stacks and gives no value", "let it stand as a statement of its own")
			return nil
		}
		return v
	case *syntax.Unary:
		t := &Type{Form: FormInt}
		op := OpNeg
		if x.Op == "not" {
			t, op = &Type{Form: FormBool}, OpNot
		}
		if op == OpNeg {
			if v := e.expr(x.X, nil); v != nil && v.Type.Form == FormReal {
				if v.Op == OpConst {
					return &Expr{Op: OpConst, Type: v.Type, Num: int64(math.Float64bits(-math.Float64frombits(uint64(v.Num))))}
				}
				return &Expr{Op: OpNeg, Type: v.Type, Args: []*Expr{v}}
			} else if v == nil {
				return nil
			}
		}
		v := e.value(x.X, t, "what `"+x.Op+"` stands before")
		if v == nil {
			return nil
		}
		if op == OpNeg && v.Op == OpConst {
			return &Expr{Op: OpConst, Type: t, Num: -v.Num}
		}
		return &Expr{Op: op, Type: t, Args: []*Expr{v}}
	case *syntax.Binary:
		return e.binary(x)
	}
	return nil
}

var numeric = map[string]Op{"+": OpAdd, "-": OpSub, "*": OpMul, "/": OpDiv, "%": OpMod, "<": OpLt, "<=": OpLe, ">": OpGt, ">=": OpGe}

func (e *env) binary(x *syntax.Binary) *Expr {
	boolean, whole := &Type{Form: FormBool}, &Type{Form: FormInt}
	both := func(op Op, operand, result *Type) *Expr {
		a := e.value(x.A, operand, "the left side of `"+x.Op+"`")
		b := e.value(x.B, operand, "the right side of `"+x.Op+"`")
		if a == nil || b == nil {
			return nil
		}
		return &Expr{Op: op, Type: result, Args: []*Expr{a, b}}
	}
	switch x.Op {
	case "and":
		return both(OpAnd, boolean, boolean)
	case "or":
		return both(OpOr, boolean, boolean)
	case "==", "!=":
		op := OpEq
		if x.Op == "!=" {
			op = OpNe
		}
		// A bare enum value takes its type from the other side.
		first, second := x.A, x.B
		if r, ok := x.A.(*syntax.Ref); ok && !e.known(r) {
			first, second = x.B, x.A
		}
		a := e.expr(first, nil)
		if a == nil || a.Type.Form == "" {
			return nil
		}
		if a.Type.Form == FormStacks {
			e.fail(first.Span(), "wrong-type", "stacks cannot be compared as a whole", "compare a count: satchel.count(flare) == 2")
			return nil
		}
		if a.Type.Form == FormInt {
			if b := e.expr(second, nil); b != nil && b.Type.Form == FormReal {
				return &Expr{Op: op, Type: boolean, Args: []*Expr{real(a), b}}
			} else if b == nil {
				return nil
			}
		}
		b := e.value(second, a.Type, "the other side of `"+x.Op+"`")
		if b == nil {
			return nil
		}
		return &Expr{Op: op, Type: boolean, Args: []*Expr{a, b}}
	}
	a, b := e.expr(x.A, nil), e.expr(x.B, nil)
	if a == nil || b == nil || a.Type.Form == "" || b.Type.Form == "" {
		return nil
	}
	operand, result := whole, whole
	if a.Type.Form == FormReal || b.Type.Form == FormReal {
		if x.Op == "%" {
			e.fail(x.OpAt, "wrong-type", "`%` works on whole numbers only", "reals have + - * /")
			return nil
		}
		operand, result = &Type{Form: FormReal}, &Type{Form: FormReal}
	}
	switch x.Op {
	case "<", "<=", ">", ">=":
		result = boolean
	}
	for i, side := range []*Expr{a, b} {
		if side.Type.Form != FormInt && side.Type.Form != FormReal {
			e.fail([]syntax.Expr{x.A, x.B}[i].Span(), "wrong-type", fmt.Sprintf("the %s side of `%s` is %s", []string{"left", "right"}[i], x.Op, describe(side.Type)), "it has to be a number")
			return nil
		}
	}
	if operand.Form == FormReal {
		a, b = real(a), real(b)
	}
	return &Expr{Op: numeric[x.Op], Type: result, Args: []*Expr{a, b}}
}

// known tells whether a bare name means something without a type to look it up in.
func (e *env) known(r *syntax.Ref) bool {
	return syntax.Reserved(r.Text) || e.local(r.Text) != nil || e.kind != nil && e.kind.Property(r.Text) != nil || e.kinds[r.Text] != nil || e.consts[r.Text] != nil
}

func (e *env) ref(x *syntax.Ref, want *Type) *Expr {
	if e.constant {
		if v := e.consts[x.Text]; v != nil {
			e.used["const "+x.Text] = true
			return v
		}
		if want != nil && want.Form == FormEnum {
			if i := slices.Index(want.Enum.Values, x.Text); i >= 0 {
				e.used[value{want.Enum, int64(i)}] = true
				return &Expr{Op: OpConst, Type: want, Num: int64(i)}
			}
			e.fail(x.At, "unknown-name", fmt.Sprintf("`%s` is no %s", x.Text, want.Enum.Name), e.suggest(x.Text, want.Enum.Values, "one of "+strings.Join(want.Enum.Values, ", ")))
			return nil
		}
		e.fail(x.At, "not-constant", fmt.Sprintf("the default is computed from `%s`", x.Text), "a default is a number, a text, true, false or a value of an enum")
		return nil
	}
	switch x.Text {
	case "self":
		if e.kind == nil {
			e.fail(x.At, "no-self", "there is no `self` here", "`self` is the entity whose request runs")
			return nil
		}
		return e.self()
	case "owner":
		if e.kind == nil {
			e.fail(x.At, "no-self", "there is no `owner` here", "name the entity: c.Diver.owner")
			return nil
		}
		return &Expr{Op: OpOwner, Type: &Type{Form: FormClient}, Args: []*Expr{e.self()}}
	case "caller":
		if e.request == nil {
			e.fail(x.At, "no-request", "there is no `caller` here", "only a request has one; here the client is the argument of `on join`")
			return nil
		}
		return &Expr{Op: OpCaller, Type: &Type{Form: FormClient}}
	case "server":
		return &Expr{Op: OpConst, Type: &Type{Form: FormClient}}
	case "everyone", "nobody":
		e.fail(x.At, "audience", fmt.Sprintf("`%s` is an audience, not a value", x.Text), "it stands after `to`, `from` or `tell`")
		return nil
	}
	if v := e.local(x.Text); v != nil {
		if v.Type.Form == "" {
			return nil
		}
		e.used[v] = true
		return widened(v)
	}
	if e.kind != nil {
		if p := e.kind.Property(x.Text); p != nil {
			e.used[p] = e.used[p] || e.written != syntax.Expr(x)
			return widened(&Expr{Op: OpGet, Type: p.Type, Prop: p, Args: []*Expr{e.self()}})
		}
	}
	if v := e.consts[x.Text]; v != nil {
		e.used["const "+x.Text] = true
		return v
	}
	if k := e.kinds[x.Text]; k != nil {
		if !k.Shared {
			e.fail(x.At, "many", fmt.Sprintf("there is one %s for each %s; which is meant?", k.Name, e.out.Roles[k.Per]), "name whose: caller."+k.Name)
			return nil
		}
		return &Expr{Op: OpShared, Type: &Type{Form: FormEntity, Kind: k}, Kind: k}
	}
	if want != nil && want.Form == FormEnum {
		if i := slices.Index(want.Enum.Values, x.Text); i >= 0 {
			e.used[value{want.Enum, int64(i)}] = true
			return &Expr{Op: OpConst, Type: want, Num: int64(i)}
		}
	}
	if want != nil && want.Form == FormRole {
		if i := slices.Index(e.out.Roles, x.Text); i >= 0 {
			e.used[role(x.Text)] = true
			return &Expr{Op: OpConst, Type: want, Num: int64(i)}
		}
	}
	e.unknown(x, want)
	return nil
}

func (e *env) self() *Expr {
	return &Expr{Op: OpSelf, Type: &Type{Form: FormEntity, Kind: e.kind}}
}

func (e *env) unknown(x *syntax.Ref, want *Type) {
	if e.enums[x.Text] != nil {
		e.fail(x.At, "wrong-type", fmt.Sprintf("`%s` is an enum, not a value", x.Text), fmt.Sprintf("name one of its values: %s.%s", x.Text, e.enums[x.Text].Values[0]))
		return
	}
	for _, en := range e.out.Enums {
		if slices.Contains(en.Values, x.Text) {
			if want != nil && want.Form != "" {
				e.fail(x.At, "wrong-type", fmt.Sprintf("`%s` is a value of %s", x.Text, en.Name), "here stands "+describe(want))
			} else {
				e.fail(x.At, "unknown-name", fmt.Sprintf("it is not clear what `%s` means here", x.Text), fmt.Sprintf("write %s.%s", en.Name, x.Text))
			}
			return
		}
	}
	var known []string
	for _, s := range e.scopes {
		known = append(known, names(s)...)
	}
	if e.kind != nil {
		for _, p := range e.kind.Properties {
			known = append(known, p.Name)
		}
	}
	if want != nil && want.Form == FormEnum {
		known = append(known, want.Enum.Values...)
	}
	if want != nil && want.Form == FormRole {
		known = append(known, e.out.Roles...)
	}
	known = append(known, names(e.kinds)...)
	known = append(known, names(e.consts)...)
	hint := "a property, an argument or a name made with `let` can stand here"
	if e.kind == nil {
		hint = "name whose property it is: c.Diver.hull"
	}
	e.fail(x.At, "unknown-name", fmt.Sprintf("the name `%s` is not declared", x.Text), e.suggest(x.Text, known, hint))
}

func (e *env) member(x *syntax.Member) *Expr {
	if r, ok := x.X.(*syntax.Ref); ok && e.local(r.Text) == nil {
		if en := e.enums[r.Text]; en != nil {
			if i := slices.Index(en.Values, x.Name.Text); i >= 0 {
				e.used[en], e.used[value{en, int64(i)}] = true, true
				return &Expr{Op: OpConst, Type: &Type{Form: FormEnum, Enum: en}, Num: int64(i)}
			}
			e.fail(x.Name.At, "unknown-name", fmt.Sprintf("%s has no value `%s`", en.Name, x.Name.Text), e.suggest(x.Name.Text, en.Values, "it has "+strings.Join(en.Values, ", ")))
			return nil
		}
	}
	on := e.expr(x.X, nil)
	if on == nil || on.Type.Form == "" {
		return nil
	}
	name := x.Name.Text
	switch on.Type.Form {
	case FormEntity:
		if name == "owner" {
			return &Expr{Op: OpOwner, Type: &Type{Form: FormClient}, Args: []*Expr{on}}
		}
		k := on.Type.Kind
		if p := k.Property(name); p != nil {
			e.used[p] = e.used[p] || e.written != syntax.Expr(x)
			return widened(&Expr{Op: OpGet, Type: p.Type, Prop: p, Args: []*Expr{on}})
		}
		known := []string{"owner"}
		for _, p := range k.Properties {
			known = append(known, p.Name)
		}
		e.fail(x.Name.At, "unknown-name", fmt.Sprintf("%s has no property `%s`", k.Name, name), e.suggest(name, known, "it has "+strings.Join(known, ", ")))
		return nil
	case FormClient:
		switch name {
		case "name":
			return &Expr{Op: OpName, Type: &Type{Form: FormText}, Args: []*Expr{on}}
		case "role":
			return &Expr{Op: OpRole, Type: &Type{Form: FormRole}, Args: []*Expr{on}}
		case "number":
			return &Expr{Op: OpNumber, Type: &Type{Form: FormInt}, Args: []*Expr{on}}
		}
		if k := e.kinds[name]; k != nil && !k.Shared {
			return &Expr{Op: OpEntityOf, Type: &Type{Form: FormEntity, Kind: k}, Kind: k, Args: []*Expr{on}}
		}
		known := append([]string{"name", "role", "number"}, names(e.kinds)...)
		e.fail(x.Name.At, "unknown-name", fmt.Sprintf("a client has no `%s`", name), e.suggest(name, known, "it has name, role, number, and the kinds that each client has one of"))
		return nil
	}
	e.fail(x.Name.At, "unknown-name", fmt.Sprintf("%s has no `%s`", describe(on.Type), name), "only entities and clients have parts")
	return nil
}
