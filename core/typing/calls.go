package typing

import (
	"fmt"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// Builtins are the functions of the language that take values.
var Builtins = map[string]bool{
	"vec": true, "distance": true, "length": true, "unit": true, "angle": true, "dot": true, "line": true,
	"path": true, "inside": true, "crosses": true, "turned": true,
	"turn": true, "clip": true, "roll": true, "shuffled": true, "since": true, "exists": true, "reveal": true,
	"abs": true, "floor": true, "round": true, "root": true, "now": true,
}

// Aggregates are those that go over many things.
var Aggregates = map[string]bool{
	"count": true,
	"sum":   true,
	"one":   true,
	"min":   true,
	"max":   true,
	"most":  true,
	"least": true,
	"first": true,
	"best":  true,
	"any":   true,
	"all":   true,
}

// takes describes the arguments of a function for a hint.
var takes = map[string]string{
	"vec": "vec(x, y) or vec(x, y, z)", "distance": "distance(a, b)", "length": "length(v)", "unit": "unit(v)",
	"angle": "angle(v)", "dot": "dot(a, b)", "line": "line(a, b)",
	"path": "path(pos)", "inside": "inside(point, corners)", "crosses": "crosses(line(a, b), walls)",
	"turned": "turned(v, angle) or turned(v, rotation)",
	"turn":   "turn(axis, angle)", "clip": "clip(n, 0..9)", "roll": "roll(1..6)", "shuffled": "shuffled(list)",
	"since": "since(phase)", "exists": "exists(thrower)",
	"reveal": "reveal(value), or reveal(value) to owner", "abs": "abs(n)", "floor": "floor(x)", "round": "round(x)",
	"root": "root(x)", "now": "now()",
}

// builtin reads a call of a function that the language has.
//
//revive:disable-next-line:function-length It is one switch.
func (e *Scope) builtin(x *syntax.Call, r *syntax.Ref, want *contract.Type) *contract.Expr {
	name := r.Text
	wrong := func() *contract.Expr {
		e.Fail(
			x.At, "arguments", fmt.Sprintf("`%s` is called with other values than it takes", name),
			"as in `"+takes[name]+"`",
		)
		return nil
	}
	if e.Constant && name != "vec" && name != "reveal" {
		e.Fail(x.At, "not-constant", "this is computed", "a constant is written out")
		return nil
	}
	least := 1
	most := 1
	switch name {
	case "vec":
		least = 2
		most = 3
	case "distance", "dot", "line", "inside", "crosses", "turned", "turn", "clip":
		least = 2
		most = 2
	case "now":
		least = 0
		most = 0
	}
	if len(x.Args) < least || len(x.Args) > most {
		return wrong()
	}
	var err bool
	num := func(i int) *contract.Expr {
		v := e.Value(x.Args[i], &contract.Type{Form: contract.FormReal}, fmt.Sprintf("value %d of `%s`", i+1, name))
		err = err || v == nil
		return v
	}
	any := func(i int, forms ...contract.Form) *contract.Expr {
		v := e.Expr(x.Args[i], nil)
		if v == nil || v.Type.Form == "" {
			err = true
			return nil
		}
		if !slices.Contains(forms, v.Type.Form) {
			e.Fail(
				x.Args[i].Span(), "wrong-type", fmt.Sprintf("value %d of `%s` is %s", i+1, name, describe(v.Type)),
				"as in `"+takes[name]+"`",
			)
			err = true
		}
		return v
	}
	math := func(form contract.Form, args ...*contract.Expr) *contract.Expr {
		if err {
			return nil
		}
		return &contract.Expr{
			Op:   contract.OpMath,
			Name: name,
			Type: &contract.Type{Form: form},
			Args: args,
		}
	}
	// prop reads an argument that names a property.
	prop := func() *contract.Expr {
		v := counted(e.Expr(x.Args[0], nil))
		if v == nil || v.Type.Form == "" {
			return nil
		}
		if v.Op != contract.OpGet || v.Prop == nil {
			e.Fail(
				x.Args[0].Span(), "wrong-type", fmt.Sprintf("`%s` is asked of something that is no property", name),
				"as in `"+takes[name]+"`",
			)
			return nil
		}
		return v
	}
	switch name {
	case "vec":
		out := &contract.Expr{
			Op:   contract.OpVec,
			Type: &contract.Type{Form: map[int]contract.Form{2: contract.FormVec2, 3: contract.FormVec3}[len(x.Args)]},
		}
		constant := true
		for i := range x.Args {
			v := num(i)
			out.Args = append(out.Args, v)
			constant = constant && v != nil && v.Op == contract.OpConst
		}
		if err {
			return nil
		}
		if constant {
			nums := []int64{}
			for _, a := range out.Args {
				nums = append(nums, a.Num)
			}
			return &contract.Expr{Op: contract.OpConst, Type: out.Type, Nums: nums}
		}
		return out
	case "distance", "dot":
		a := any(0, contract.FormVec2, contract.FormVec3)
		b := any(1, contract.FormVec2, contract.FormVec3, contract.FormLine)
		if !err &&
			(b.Type.Form != contract.FormLine && a.Type.Form != b.Type.Form ||
				b.Type.Form == contract.FormLine && (name == "dot" || b.Type.Of.Form != a.Type.Form)) {
			e.Fail(
				x.At, "wrong-type", fmt.Sprintf("`%s` is asked of %s and %s", name, describe(a.Type), describe(b.Type)),
				"both have to lie in a plane, or both in space",
			)
			return nil
		}
		return math(contract.FormReal, a, b)
	case "length":
		return math(contract.FormReal, any(0, contract.FormVec2, contract.FormVec3))
	case "unit":
		v := any(0, contract.FormVec2, contract.FormVec3)
		if err {
			return nil
		}
		return math(v.Type.Form, v)
	case "angle":
		return math(contract.FormReal, any(0, contract.FormVec2))
	case "turned":
		v := any(0, contract.FormVec2, contract.FormVec3)
		if err {
			return nil
		}
		if v.Type.Form == contract.FormVec3 {
			return math(contract.FormVec3, v, any(1, contract.FormRotation))
		}
		return math(contract.FormVec2, v, num(1))
	case "turn":
		return math(contract.FormRotation, any(0, contract.FormVec3), num(1))
	case "line":
		a := any(0, contract.FormVec2, contract.FormVec3)
		b := any(1, contract.FormVec2, contract.FormVec3)
		if err || a.Type.Form != b.Type.Form {
			if !err {
				return wrong()
			}
			return nil
		}
		return &contract.Expr{
			Op:   contract.OpLine,
			Type: &contract.Type{Form: contract.FormLine, Of: &contract.Type{Form: a.Type.Form}},
			Args: []*contract.Expr{a, b},
		}
	case "path":
		v := prop()
		if v == nil {
			return nil
		}
		if v.Type.Form != contract.FormVec2 && v.Type.Form != contract.FormVec3 {
			e.Fail(
				x.Args[0].Span(), "wrong-type", "`path` is asked of something that is no place",
				"of a vector: path(pos)",
			)
			return nil
		}
		if v.Prop.Path < 0 {
			k := v.Args[0].Type.Kinds[0]
			v.Prop.Path = k.Slots
			k.Slots += v.Type.Width()
		}
		return &contract.Expr{
			Op:   contract.OpPath,
			Type: &contract.Type{Form: contract.FormLine, Of: &contract.Type{Form: v.Type.Form}},
			Prop: v.Prop,
			Args: v.Args,
		}
	case "inside":
		p := any(0, contract.FormVec2)
		l := any(1, contract.FormList)
		if !err && l.Type.Of.Form != contract.FormVec2 {
			return wrong()
		}
		return math(contract.FormBool, p, l)
	case "crosses":
		p := any(0, contract.FormLine)
		l := any(1, contract.FormList)
		if !err && (p.Type.Of.Form != contract.FormVec2 || !isListOfSegments(l.Type)) {
			e.Fail(
				x.At, "wrong-type",
				"`crosses` is asked of a line in a plane against a list of records that begin with two ends",
				"as in `type Segment { a: Place, b: Place }`",
			)
			return nil
		}
		return math(contract.FormBool, p, l)
	case "clip":
		return e.clip(x)
	case "roll":
		r, ok := x.Args[0].(*syntax.Range)
		if !ok {
			return wrong()
		}
		if !e.mayRoll(x.At, name) {
			return nil
		}
		a := e.Value(r.Low, &contract.Type{Form: contract.FormInt}, "the least of the roll")
		b := e.Value(r.High, &contract.Type{Form: contract.FormInt}, "the greatest of the roll")
		if a == nil || b == nil {
			return nil
		}
		if a.Op == contract.OpConst && b.Op == contract.OpConst && a.Num > b.Num {
			e.Fail(
				x.At, "out-of-range", fmt.Sprintf("the range %d..%d is empty", a.Num, b.Num),
				"the least value stands first",
			)
			return nil
		}
		return &contract.Expr{
			Op:   contract.OpRoll,
			Type: &contract.Type{Form: contract.FormInt},
			Args: []*contract.Expr{a, b},
		}
	case "shuffled":
		if !e.mayRoll(x.At, name) {
			return nil
		}
		var v *contract.Expr
		if l, ok := x.Args[0].(*syntax.List); ok && want != nil && want.Form == contract.FormList {
			v = e.list(l, want, "this list")
		} else {
			v = any(0, contract.FormList)
		}
		if v == nil || err {
			return nil
		}
		return &contract.Expr{
			Op:   contract.OpCopy,
			Type: v.Type,
			Num:  e.room(x.At, v.Type),
			Args: []*contract.Expr{v},
		}
	case "since":
		if v := prop(); v != nil {
			return &contract.Expr{
				Op:   contract.OpSince,
				Type: &contract.Type{Form: contract.FormTime},
				Prop: v.Prop,
				Args: v.Args,
			}
		}
		return nil
	case "exists":
		if v := any(0, contract.FormEntity, contract.FormClient); !err {
			return &contract.Expr{
				Op:   contract.OpExists,
				Type: &contract.Type{Form: contract.FormBool},
				Args: []*contract.Expr{v},
			}
		}
		return nil
	case "reveal":
		v := e.Expr(x.Args[0], want)
		if v == nil || v.Type.Holder() {
			if v != nil {
				return wrong()
			}
			return nil
		}
		if v.Op == contract.OpConst {
			return v
		}
		at := x.Args[0].Span()
		out := &contract.Expr{
			Op:   contract.OpReveal,
			Type: v.Type,
			Args: []*contract.Expr{v},
			Name: strings.Join(strings.Fields(e.Source.Text[at.Start:at.End]), " "),
		}
		if x.To != nil {
			out.Who = e.Who(x.To, "may learn something")
			if out.Who == nil {
				return nil
			}
		}
		return out
	case "abs":
		v := any(0, contract.FormInt, contract.FormReal)
		if err {
			return nil
		}
		return math(v.Type.Form, v)
	case "floor", "round":
		return math(contract.FormInt, num(0))
	case "root":
		return math(contract.FormReal, num(0))
	}
	return &contract.Expr{Op: contract.OpNow, Type: &contract.Type{Form: contract.FormInstant}}
}

// mayRoll reports whether dice may be rolled here, and tells a mistake when not.
func (e *Scope) mayRoll(at syntax.Span, name string) bool {
	if e.Still {
		e.Fail(at, "impure", fmt.Sprintf("`%s` rolls, and a check or condition may not", name), "roll in the body")
		return false
	}
	e.Rolled = true
	return true
}

// clip reads `clip(VALUE, LOW..HIGH)`.
func (e *Scope) clip(x *syntax.Call) *contract.Expr {
	r, ok := x.Args[1].(*syntax.Range)
	if !ok {
		e.Fail(x.At, "arguments", "`clip` is called with other values than it takes", "as in `"+takes["clip"]+"`")
		return nil
	}
	v := e.Expr(x.Args[0], nil)
	a := e.Expr(r.Low, nil)
	b := e.Expr(r.High, nil)
	if v == nil || a == nil || b == nil {
		return nil
	}
	form := contract.FormInt
	for i, part := range []*contract.Expr{v, a, b} {
		switch part.Type.Form {
		case contract.FormInt:
		case contract.FormReal:
			form = contract.FormReal
		default:
			if part.Type.Form != "" {
				e.Fail(
					[]syntax.Expr{x.Args[0], r.Low, r.High}[i].Span(), "wrong-type",
					fmt.Sprintf("value %d of `clip` is %s", i+1, describe(part.Type)), "it has to be a number",
				)
			}
			return nil
		}
	}
	if form == contract.FormReal {
		v = real(v)
		a = real(a)
		b = real(b)
	}
	return &contract.Expr{Op: contract.OpClip, Type: &contract.Type{Form: form}, Args: []*contract.Expr{v, a, b}}
}

// method of something that holds many: what it takes and does.
type method struct {
	op      contract.Op
	changes bool
	args    []string // item, count, key, value, index, other; one in brackets may be left out
	result  contract.Form
}

var methods = map[contract.Form]map[string]method{
	contract.FormStacks: {
		"has": {
			contract.OpHas, false, []string{"item", "[count]"}, contract.FormBool,
		}, "count": {
			contract.OpCount, false, []string{"item"}, contract.FormInt,
		}, "room": {contract.OpRoom, false, []string{"item"}, contract.FormInt},
		"put": {
			contract.OpPut, true, []string{"item", "[count]"}, "",
		}, "take": {
			contract.OpTake, true, []string{"item", "[count]"}, "",
		}, "move": {contract.OpMove, true, []string{"other", "item", "[count]"}, ""},
		"split": {contract.OpSplit, true, []string{"item", "count"}, ""}, "clear": {contract.OpClear, true, nil, ""},
	},
	contract.FormList: {
		"has": {
			contract.OpHas, false, []string{"value"}, contract.FormBool,
		}, "count": {
			contract.OpCount, false, nil, contract.FormInt,
		}, "room": {
			contract.OpRoom, false, nil, contract.FormInt,
		}, "find": {contract.OpFind, false, []string{"value"}, contract.FormInt},
		"put": {
			contract.OpPut, true, []string{"value"}, "",
		}, "take": {
			contract.OpTake, true, []string{"value"}, "",
		}, "cut": {
			contract.OpCut, true, []string{"index"}, "",
		}, "move": {contract.OpMove, true, []string{"other", "value"}, ""},
		"clear": {contract.OpClear, true, nil, ""},
	},
	contract.FormMap: {
		"has": {
			contract.OpHas, false, []string{"key"}, contract.FormBool,
		}, "count": {
			contract.OpCount, false, nil, contract.FormInt,
		}, "room": {
			contract.OpRoom, false, nil, contract.FormInt,
		}, "take": {contract.OpTake, true, []string{"key"}, ""},
		"clear": {contract.OpClear, true, nil, ""},
	},
}

// method reads `path.name(item, count)`; ok is false when it is no method, or has a mistake that has been told. What
// changes nothing is the Value of the statement.
func (e *Scope) method(call *syntax.Call, m *syntax.Member) (s contract.Stmt, changes, ok bool) {
	if e.Constant {
		e.Fail(call.At, "not-constant", "this is computed", "a constant is written out")
		return s, false, false
	}
	on := e.Expr(m.X, nil)
	if on == nil || on.Type.Form == "" {
		return s, false, false
	}
	known := methods[on.Type.Form]
	if known == nil {
		e.Fail(
			m.Name.At, "unknown-name",
			fmt.Sprintf("%s has no `%s` that could be called", describe(on.Type), m.Name.Text),
			"stacks, lists and maps have has, count, room, put and take",
		)
		return s, false, false
	}
	how, found := known[m.Name.Text]
	what := map[contract.Form]string{
		contract.FormStacks: "stacks have",
		contract.FormList:   "a list has",
		contract.FormMap:    "a map has",
	}[on.Type.Form]
	if !found {
		e.Fail(
			m.Name.At, "unknown-name", fmt.Sprintf("%s no `%s`", what, m.Name.Text),
			Suggest(m.Name.Text, Names(known), what+" "+strings.Join(Names(known), ", ")),
		)
		return s, false, false
	}
	if how.changes {
		if e.Pure {
			e.Fail(
				call.At, "impure",
				fmt.Sprintf("`%s` changes something, and a head, a function or a condition may not", m.Name.Text),
				"move it into the body; a check may ask has, count and room",
			)
			return s, false, false
		}
		if on.Op != contract.OpGet || on.Property().Once && !e.Spawning {
			e.Fail(
				m.X.Span(), "not-writable", "this cannot be changed",
				"only what a property holds can; and not if it is sent `once`",
			)
			return s, false, false
		}
	}
	least := 0
	for _, a := range how.args {
		if a[0] != '[' {
			least++
		}
	}
	if len(call.Args) < least || len(call.Args) > len(how.args) {
		e.Fail(
			call.At, "arguments", fmt.Sprintf("`%s` has %d arguments", m.Name.Text, len(call.Args)),
			fmt.Sprintf("as in `%s(%s)`", m.Name.Text, strings.Join(how.args, ", ")),
		)
		return s, false, false
	}
	s.Op = how.op
	s.X = on
	ok = true
	args := []*contract.Expr{on}
	for i, a := range how.args {
		var v *contract.Expr
		switch a {
		case "item":
			v = e.Value(call.Args[i], &contract.Type{Form: contract.FormEnum, Enum: on.Type.Enum}, "the item")
		case "count", "[count]":
			v = &contract.Expr{Op: contract.OpConst, Type: &contract.Type{Form: contract.FormInt}, Num: 1}
			if i < len(call.Args) {
				v = e.Value(
					call.Args[i],
					&contract.Type{Form: contract.FormInt, Low: 0, High: contract.MaxStackCount * contract.MaxStacks},
					"the count",
				)
			}
		case "value":
			v = e.Value(call.Args[i], on.Type.Of, "the value")
		case "key":
			v = e.Value(call.Args[i], on.Type.Key, "the key")
		case "index":
			v = e.Value(call.Args[i], &contract.Type{Form: contract.FormInt}, "the place in the list")
		case "other":
			s.To = e.Expr(call.Args[i], nil)
			same := s.To != nil && s.To.Op == contract.OpGet && s.To.Type.Form == on.Type.Form &&
				(on.Type.Enum == s.To.Type.Enum && on.Type.Form == contract.FormStacks ||
					on.Type.Form == contract.FormList && on.Type.Of.String() == s.To.Type.Of.String())
			if s.To != nil && !same {
				e.Fail(
					call.Args[i].Span(), "wrong-type", "things cannot be moved there",
					"to another property that holds the same",
				)
			}
			ok = ok && same
			continue
		}
		ok = ok && v != nil
		args = append(args, v)
	}
	if how.changes {
		s.Args = args[1:]
		switch how.op {
		case contract.OpPut:
			e.mayChange(on, nil, nil)
		case contract.OpMove:
			if ok {
				e.mayChange(s.To, nil, nil)
			}
		}
		e.mayShrink(on)
		return s, true, ok
	}
	s.Value = &contract.Expr{Op: how.op, Type: &contract.Type{Form: how.result}, Args: args}
	return s, false, ok
}

// query reads what a loop or query goes over, and declares the name of each.
func (e *Scope) query(in *syntax.From, name syntax.Ident) (*contract.Query, bool) {
	q := &contract.Query{}
	each, ok := e.source(q, in.X)
	if !ok {
		e.Scopes[len(e.Scopes)-1][name.Text] = &contract.Expr{Type: &contract.Type{}}
		return q, false
	}
	if in.Within != nil {
		q.Within = e.Value(in.Within, &contract.Type{Form: contract.FormReal}, "how near")
		q.Of = e.Expr(in.Of, nil)
		ok = q.Within != nil && q.Of != nil
		if q.Kinds == nil {
			e.Fail(in.X.Span(), "wrong-type", "`within` measures the `pos` of entities", "go over a kind or part")
			ok = false
		} else if ok {
			ok = e.within(q, in)
		}
	}
	q.Var = e.Declare(name, each)
	e.Used[q.Var] = true
	if in.Where != nil {
		q.Where = e.Value(in.Where, &contract.Type{Form: contract.FormBool}, "the condition after `where`")
		ok = ok && q.Where != nil
	}
	return q, ok
}

// source reads a kind, a part, clients, or a list or map, and gives the type of each.
func (e *Scope) source(q *contract.Query, x syntax.Expr) (*contract.Type, bool) {
	if e.Constant {
		e.Fail(x.Span(), "not-constant", "this is computed", "a constant is written out")
		return nil, false
	}
	if r, isRef := x.(*syntax.Ref); isRef && e.local(r.Text) == nil {
		if k := e.Kinds[r.Text]; k != nil {
			q.Kinds = []*contract.Kind{k}
			return k.Ref(), true
		}
		if p := e.Parts[r.Text]; p != nil {
			e.Used[p] = true
			t := e.refPart(p)
			q.Kinds = t.Kinds
			return t, true
		}
		if r.Text == "clients" && e.property(r.Text) == nil {
			q.Clients = true
			return &contract.Type{Form: contract.FormClient}, true
		}
		if en := e.Enums[r.Text]; en != nil {
			e.Fail(
				r.At, "wrong-type", fmt.Sprintf("`%s` is an enum, and nothing to go over", r.Text),
				fmt.Sprintf("name its values: [%s.%s]", en.Name, strings.Join(en.Values, ", "+en.Name+".")),
			)
			return nil, false
		}
		if r.Text != "" && r.Text[0] >= 'A' && r.Text[0] <= 'Z' {
			e.Fail(
				r.At, "unknown-name", fmt.Sprintf("the kind `%s` is not declared", r.Text),
				Suggest(
					r.Text, append(Names(e.Kinds), Names(e.Parts)...),
					"name a kind, a part, `clients`, a list or a map",
				),
			)
			return nil, false
		}
	}
	q.List = e.Expr(x, nil)
	if q.List == nil || q.List.Type.Form == "" {
		return nil, false
	}
	switch q.List.Type.Form {
	case contract.FormList:
		return q.List.Type.Of, true
	case contract.FormMap:
		return q.List.Type.Key, true
	}
	e.Fail(
		x.Span(), "wrong-type", fmt.Sprintf("%s is nothing to go over", describe(q.List.Type)),
		"a kind, a part, `clients`, a list or a map (its keys)",
	)
	return nil, false
}

// within reads `within RADIUS of PLACE` of a query.
func (e *Scope) within(q *contract.Query, in *syntax.From) bool {
	q.Pos = make([]*contract.Property, len(e.Contract.Kinds)+1)
	flat := q.Of.Type
	if flat.Form == contract.FormLine {
		flat = flat.Of
	}
	for _, k := range q.Kinds {
		p := k.Property("pos")
		if p == nil || p.Type.Form != contract.FormVec2 && p.Type.Form != contract.FormVec3 {
			e.Fail(
				in.X.Span(), "wrong-type",
				fmt.Sprintf("%s has no place: `within` measures the property `pos`, a vector", k.Name),
				"add `pos: vec2 -200..200 step 0.01`",
			)
			return false
		}
		if p.Type.Form != flat.Form {
			e.Fail(
				in.Of.Span(), "wrong-type", fmt.Sprintf("nearness of %s is asked to %s", k.Name, describe(q.Of.Type)),
				fmt.Sprintf("a place or line of the type %s", p.Type.Form),
			)
			return false
		}
		e.Used[p.Offset] = true
		q.Pos[k.Index] = p
	}
	return true
}

// aggregate reads `fn(name in SOURCE where …: VALUE else OTHER)`.
func (e *Scope) aggregate(x *syntax.Query) *contract.Expr {
	do := x.Fn.Text
	if !Aggregates[do] {
		e.Fail(
			x.Fn.At, "unknown-name", fmt.Sprintf("there is no query `%s`", do),
			Suggest(do, Names(Aggregates), "one of "+strings.Join(Names(Aggregates), ", ")),
		)
		return nil
	}
	e.Enter()
	defer e.leave()
	q, ok := e.query(&x.In, x.Name)
	q.Do = do
	if q.Var == nil {
		return nil
	}
	needs := do == "sum" || do == "min" || do == "max" || do == "most" || do == "least" || do == "best" || do == "all"
	if x.Value == nil && needs && do != "all" {
		e.Fail(
			x.At, "arguments", fmt.Sprintf("`%s` does not say of what", do),
			fmt.Sprintf("as in `%s(d in Diver: d.score)`", do),
		)
		return nil
	}
	if x.Value != nil && !needs {
		e.Fail(x.Value.Span(), "arguments", fmt.Sprintf("`%s` takes no value", do), "a condition stands after `where`")
		return nil
	}
	if x.Value != nil {
		if do == "all" {
			q.Value = e.Value(x.Value, &contract.Type{Form: contract.FormBool}, "what holds for all")
		} else {
			q.Value = e.Expr(x.Value, nil)
		}
		ok = ok && q.Value != nil
	}
	if do == "all" && x.Value == nil {
		e.Fail(x.At, "arguments", "`all` does not say what holds", "as in `all(d in Diver: d.ready)`")
		return nil
	}
	if !ok {
		return nil
	}
	return e.result(q, x.Else, x.At)
}

// aggregateCall reads a query without a name: `count(Diver)`, `sum(scores)`, `min(a, b)`.
func (e *Scope) aggregateCall(x *syntax.Call, r *syntax.Ref) *contract.Expr {
	do := r.Text
	if len(x.Args) > 1 && (do == "min" || do == "max") {
		out := &contract.Expr{Op: contract.OpMath, Name: do, Type: &contract.Type{Form: contract.FormInt}}
		for i, a := range x.Args {
			v := e.Expr(a, nil)
			if v == nil || v.Type.Form == "" {
				return nil
			}
			if v.Type.Form != contract.FormInt && v.Type.Form != contract.FormReal {
				e.Fail(
					a.Span(), "wrong-type", fmt.Sprintf("value %d of `%s` is %s", i+1, do, describe(v.Type)),
					"it has to be a number",
				)
				return nil
			}
			if v.Type.Form == contract.FormReal {
				out.Type = looseType(v.Type)
			}
			out.Args = append(out.Args, v)
		}
		if out.Type.Form == contract.FormReal {
			for i, a := range out.Args {
				out.Args[i] = real(a)
			}
		}
		return out
	}
	if len(x.Args) != 1 || do == "most" || do == "least" || do == "best" || do == "all" {
		e.Fail(
			x.At, "arguments", fmt.Sprintf("`%s` does not say what it goes over", do),
			fmt.Sprintf("as in `%s(d in Diver where d.ready)`", do),
		)
		return nil
	}
	e.Enter()
	defer e.leave()
	q, ok := e.query(&syntax.From{X: x.Args[0]}, syntax.Ident{Text: fmt.Sprintf("each at %d", x.At.Start), At: x.At})
	q.Do = do
	if !ok {
		return nil
	}
	if do == "sum" || do == "min" || do == "max" {
		q.Value = Widened(q.Var)
	}
	return e.result(q, nil, x.At)
}

// result returns the type of a query and reads what it is when there is none.
func (e *Scope) result(q *contract.Query, other syntax.Expr, at syntax.Span) *contract.Expr {
	out := &contract.Expr{Op: contract.OpQuery, Query: q}
	switch q.Do {
	case "count":
		out.Type = &contract.Type{Form: contract.FormInt}
	case "any", "all":
		out.Type = &contract.Type{Form: contract.FormBool}
	case "sum", "min", "max", "most", "least", "best":
		form := q.Value.Type.Form
		if form != contract.FormInt && form != contract.FormReal && !(form == contract.FormTime && q.Do != "sum") &&
			!(q.Do == "sum" && (form == contract.FormVec2 || form == contract.FormVec3)) {
			e.Fail(
				at, "wrong-type", fmt.Sprintf("`%s` goes over %s", q.Do, describe(q.Value.Type)),
				"it has to be a number",
			)
			return nil
		}
		out.Type = looseType(q.Value.Type)
	}
	if out.Type == nil || q.Do == "most" || q.Do == "least" || q.Do == "best" {
		out.Type = q.Var.Type
	}
	if other != nil {
		if q.Do == "count" || q.Do == "sum" || q.Do == "any" || q.Do == "all" {
			e.Fail(
				other.Span(), "arguments", fmt.Sprintf("`%s` has no `else`: over nothing it is 0, false or true", q.Do),
				"remove it",
			)
			return nil
		}
		if q.Do == "min" || q.Do == "max" {
			v := e.Expr(other, nil)
			if v != nil && v.Type.Form == contract.FormReal && out.Type.Form == contract.FormInt {
				q.Value, out.Type = real(q.Value), looseType(v.Type)
			}
		}
		q.Else = e.Value(other, out.Type, "what stands after `else`")
		if q.Else == nil {
			return nil
		}
	}
	return Widened(out)
}

// isListOfSegments reports whether a list holds records that begin with two places in a plane.
func isListOfSegments(t *contract.Type) bool {
	parts := t.Of.Parts
	return t.Of.Form == contract.FormRecord && len(parts) >= 2 &&
		parts[0].Type.Form == contract.FormVec2 && parts[1].Type.Form == contract.FormVec2
}
