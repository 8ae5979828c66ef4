package typing

import (
	"fmt"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// Aggregates are the functions of the language that go over many things.
// Each can be called as `fn(name in SOURCE …)`, and some without a name, as `count(Diver)`.
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

// method of something that holds many: what it takes and does.
type method struct {
	op      contract.Op
	changes bool
	args    []string // item, count, key, value, index, slot, other; one in brackets may be left out
	result  contract.Form
	newer   bool // it needs language 2
	slotted bool // it is only for stacks whose slots keep their numbers
}

// The order of args is the order in a call. "other" is the property that things are moved to: it
// becomes the statement's To rather than one of its Args.
var methods = map[contract.Form]map[string]method{
	contract.FormStacks: {
		"has":   {op: contract.OpHas, args: []string{"item", "[count]"}, result: contract.FormBool},
		"count": {op: contract.OpCount, args: []string{"[item]"}, result: contract.FormInt},
		"room":  {op: contract.OpRoom, args: []string{"[item]"}, result: contract.FormInt},
		"put":   {op: contract.OpPut, changes: true, args: []string{"item", "[count]"}},
		"take":  {op: contract.OpTake, changes: true, args: []string{"item", "[count]"}},
		"move":  {op: contract.OpMove, changes: true, args: []string{"other", "item", "[count]"}},
		"split": {op: contract.OpSplit, changes: true, args: []string{"item", "count"}},
		"clear": {op: contract.OpClear, changes: true},

		"can_split": {
			op: contract.OpCanSplit, args: []string{"item", "count"}, result: contract.FormBool, newer: true,
		},
		"count_at": {
			op: contract.OpCountAt, args: []string{"slot"}, result: contract.FormInt, newer: true, slotted: true,
		},
		"item_at": {
			op: contract.OpItemAt, args: []string{"slot"}, result: contract.FormEnum, newer: true, slotted: true,
		},
		"put_at": {
			op: contract.OpPutAt, changes: true, args: []string{"slot", "item", "[count]"}, newer: true, slotted: true,
		},
		"take_at": {
			op: contract.OpTakeAt, changes: true, args: []string{"slot", "[count]"}, newer: true, slotted: true,
		},
		"move_at": {
			op: contract.OpMoveAt, changes: true, args: []string{"slot", "other", "slot", "[some]"}, newer: true,
			slotted: true,
		},
	},
	contract.FormList: {
		"has":   {op: contract.OpHas, args: []string{"value"}, result: contract.FormBool},
		"count": {op: contract.OpCount, result: contract.FormInt},
		"room":  {op: contract.OpRoom, result: contract.FormInt},
		"find":  {op: contract.OpFind, args: []string{"value"}, result: contract.FormInt},
		"put":   {op: contract.OpPut, changes: true, args: []string{"value", "[index]"}},
		"take":  {op: contract.OpTake, changes: true, args: []string{"value"}},
		"cut":   {op: contract.OpCut, changes: true, args: []string{"index"}},
		"move":  {op: contract.OpMove, changes: true, args: []string{"other", "value"}},
		"clear": {op: contract.OpClear, changes: true},
		// They stand for others: see endOfList and shuffleList.
		"take_first": {op: contract.OpCut, changes: true},
		"take_last":  {op: contract.OpCut, changes: true},
		"shuffle":    {op: contract.OpSet, changes: true},
	},
	contract.FormMap: {
		"has":   {op: contract.OpHas, args: []string{"key"}, result: contract.FormBool},
		"count": {op: contract.OpCount, result: contract.FormInt},
		"room":  {op: contract.OpRoom, result: contract.FormInt},
		"take":  {op: contract.OpTake, changes: true, args: []string{"key"}},
		"clear": {op: contract.OpClear, changes: true},
	},
}

// method reads `path.name(item, count)`; ok is false when it is no method, or has a mistake that has been told. What
// changes nothing is the Value of the statement.
//
// A change to a container is noted for the properties on both of its ends: a move shrinks the one and
// may fill the other.
func (e *Scope) method(call *syntax.Call, m *syntax.Member) (s contract.Stmt, changes, ok bool) {
	if e.Constant {
		e.Fail(call.At, "not-constant", "this is computed", "a constant is written out")
		return s, false, false
	}
	on := e.Expr(m.X, nil)
	if on == nil || on.Type.Form == "" {
		return s, false, false
	}
	how, found := e.methodOf(on, m.Name)
	if found && how.newer && !e.NeedsLanguage2(m.Name.At, "`"+m.Name.Text+"`") {
		return s, false, false
	}
	if !found || how.changes && !e.changeable(call, m, on) {
		return s, false, false
	}
	if !e.takesAsMany(call, m.Name.Text, how) {
		return s, false, false
	}
	s.Op = how.op
	s.X = on
	switch m.Name.Text {
	case "take_first", "take_last":
		s.Args = []*contract.Expr{e.endOfList(on, m.Name.Text == "take_last")}
		e.mayShrink(on)
		return s, true, e.NeedsLanguage2(call.At, "`"+m.Name.Text+"`")
	case "shuffle":
		s.Value, ok = e.shuffleList(call, on)
		e.mayChange(on.Root(), nil, nil)
		return s, true, ok
	}
	args, to, ok := e.methodArguments(call, how, on)
	s.To = to
	if how.changes {
		s.Args = args
		switch how.op {
		case contract.OpPut, contract.OpPutAt:
			e.mayChange(on.Root(), nil, nil)
		case contract.OpMove, contract.OpMoveAt:
			if ok {
				e.mayChange(s.To.Root(), nil, nil)
			}
		}
		e.mayShrink(on)
		return s, true, ok
	}
	s.Value = &contract.Expr{
		Op:   how.op,
		Type: resultOf(how, on.Type),
		Args: append([]*contract.Expr{on}, args...),
	}
	return s, false, ok
}

// takesAsMany reports whether a method can be called with as many arguments, and says so when it cannot.
//
// Only the last argument of a method may be left out, so that their number tells which are there.
func (e *Scope) takesAsMany(call *syntax.Call, name string, how method) bool {
	least := 0
	for _, a := range how.args {
		if a[0] != '[' {
			least++
		}
	}
	if len(call.Args) >= least && len(call.Args) <= len(how.args) {
		return true
	}
	e.Fail(
		call.At, "arguments", fmt.Sprintf("`%s` has %d arguments", name, len(call.Args)),
		fmt.Sprintf("as in `%s(%s)`", name, strings.Join(how.args, ", ")),
	)
	return false
}

// resultOf returns the type of what a method gives of stacks, a list or a map: of an item, their enum.
func resultOf(how method, on *contract.Type) *contract.Type {
	t := &contract.Type{Form: how.result}
	if how.result == contract.FormEnum {
		t.Enum = on.Enum
	}
	return t
}

// changeable reports whether a method that changes on may be called here, and says so when it may not.
//
// A list in a local is a copy, and a constant one is shared by all sessions: neither can be changed.
func (e *Scope) changeable(call *syntax.Call, m *syntax.Member, on *contract.Expr) bool {
	if e.Pure {
		e.Fail(
			call.At, "impure",
			fmt.Sprintf("`%s` changes something, and a head, a function or a condition may not", m.Name.Text),
			"move it into the body; a check may ask has, count and room",
		)
		return false
	}
	once := func(p *contract.Property) bool { return p.Once }
	root := on.Root()
	if root.Op != contract.OpGet || slices.ContainsFunc(root.PropertiesOf(), once) && !e.Spawning {
		e.Fail(
			m.X.Span(), "not-writable", "this cannot be changed",
			"only what a property holds can; and not if it is sent `once`",
		)
		return false
	}
	return true
}

// methodOf returns the method of a name that a value has, or reports that there is none.
func (e *Scope) methodOf(on *contract.Expr, name syntax.Ident) (method, bool) {
	known := methods[on.Type.Form]
	if known == nil {
		e.Fail(
			name.At, "unknown-name",
			fmt.Sprintf("%s has no `%s` that could be called", describe(on.Type), name.Text),
			"stacks, lists and maps have has, count, room, put and take",
		)
		return method{}, false
	}
	how, found := known[name.Text]
	if !found {
		what := map[contract.Form]string{
			contract.FormStacks: "stacks have",
			contract.FormList:   "a list has",
			contract.FormMap:    "a map has",
		}[on.Type.Form]
		e.Fail(
			name.At, "unknown-name", fmt.Sprintf("%s no `%s`", what, name.Text),
			Suggest(name.Text, Names(known), what+" "+strings.Join(Names(known), ", ")),
		)
	}
	if how.slotted && !on.Type.Slotted {
		e.Fail(
			name.At, "no-slots",
			fmt.Sprintf("`%s` names a slot, and the slots of these stacks have no numbers", name.Text),
			"declare them so: stacks<"+on.Type.Enum.Name+"> max 8 each 5 slotted",
		)
		return how, false
	}
	return how, found
}

// methodArguments types the arguments of a method of on. A count that is left out is 1; to is the property that things
// are moved to.
func (e *Scope) methodArguments(
	call *syntax.Call, how method, on *contract.Expr,
) (args []*contract.Expr, to *contract.Expr, ok bool) {
	ok = true
	for i, a := range how.args {
		var v *contract.Expr
		switch a {
		case "item", "[item]":
			if i >= len(call.Args) {
				if !e.NeedsLanguage2(call.At, "to ask for all items together") {
					return nil, nil, false
				}
				continue
			}
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
		case "index", "[index]":
			if i >= len(call.Args) {
				continue
			}
			if a == "[index]" && !e.NeedsLanguage2(call.At, "to put a value at a place") {
				return nil, nil, false
			}
			v = e.Value(call.Args[i], &contract.Type{Form: contract.FormInt}, "the place in the list")
		case "slot":
			v = e.Value(call.Args[i], &contract.Type{Form: contract.FormInt}, "the slot")
		case "[some]":
			if i >= len(call.Args) {
				continue
			}
			v = e.Value(call.Args[i], &contract.Type{Form: contract.FormInt}, "the count")
		case "other":
			to = e.Expr(call.Args[i], nil)
			same := to != nil && to.Root().Op == contract.OpGet && (to.Type.Slotted || !how.slotted) &&
				to.Type.Form == on.Type.Form && (on.Type.Enum == to.Type.Enum && on.Type.Form == contract.FormStacks ||
				on.Type.Form == contract.FormList && on.Type.Of.String() == to.Type.Of.String())
			if to != nil && !same {
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
	return args, to, ok
}

// query reads what a loop or query goes over, and declares the name of each.
//
// The name is declared after `within` was read and before `where`: the radius and the place are
// computed once for the whole query and cannot depend on the entity, the condition is computed for
// each.
//
// second is the name of what stands beside each, empty when there is none.
func (e *Scope) query(in *syntax.From, name, second syntax.Ident) (*contract.Query, bool) {
	q := &contract.Query{}
	each, ok := e.source(q, in.X)
	var beside *contract.Type
	if ok && second.Text != "" {
		each, beside, ok = e.pairs(q, second)
	}
	if !ok {
		for _, n := range []syntax.Ident{name, second} {
			e.Scopes[len(e.Scopes)-1][n.Text] = &contract.Expr{Type: &contract.Type{}}
		}
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
	// Counting things without looking at them is no mistake.
	e.Used[q.Var] = true
	if beside != nil {
		q.Second = e.Declare(second, beside)
		e.Used[q.Second] = true
	}
	if in.Where != nil {
		q.Where = e.Value(in.Where, &contract.Type{Form: contract.FormBool}, "the condition after `where`")
		ok = ok && q.Where != nil
	}
	return q, ok
}

// source reads a kind, a part, clients, a list or map, a range or an enum, and returns the type of each.
//
// Of a map each is a key. Exactly one of q's Kinds, Clients, List, and Low with High is set when ok is
// true.
func (e *Scope) source(q *contract.Query, x syntax.Expr) (*contract.Type, bool) {
	if e.Constant {
		e.Fail(x.Span(), "not-constant", "this is computed", "a constant is written out")
		return nil, false
	}
	if r, isRange := x.(*syntax.Range); isRange {
		return e.numbers(q, r)
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
			return e.valuesOf(q, r, en)
		}
		if r.Text != "" && r.Text[0] >= 'A' && r.Text[0] <= 'Z' {
			e.Fail(
				r.At, "unknown-name", fmt.Sprintf("the kind `%s` is not declared", r.Text),
				Suggest(
					r.Text, append(Names(e.Kinds), Names(e.Parts)...),
					"name a kind, a part, an enum, `clients`, a list or a map",
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
	case contract.FormStacks:
		of := &contract.Type{Form: contract.FormEnum, Enum: q.List.Type.Enum}
		return of, e.NeedsLanguage2(x.Span(), "to go over stacks")
	}
	e.Fail(
		x.Span(), "wrong-type", fmt.Sprintf("%s is nothing to go over", describe(q.List.Type)),
		"a kind, a part, `clients`, a list, a map, stacks, a range or an enum",
	)
	return nil, false
}

// pairs returns the types of both names of what a query goes over in pairs: a key and its value, an item and its count,
// a place and the value at it.
func (e *Scope) pairs(q *contract.Query, second syntax.Ident) (each, beside *contract.Type, ok bool) {
	if !e.NeedsLanguage2(second.At, "to go over pairs") {
		return nil, nil, false
	}
	if q.List == nil {
		e.Fail(
			second.At, "wrong-type", "what is gone over here has no pairs",
			"a map has keys and values, stacks have items and counts, a list has places and values",
		)
		return nil, nil, false
	}
	switch t := q.List.Type; t.Form {
	case contract.FormMap:
		return t.Key, t.Of, true
	case contract.FormStacks:
		of := &contract.Type{Form: contract.FormEnum, Enum: t.Enum}
		return of, &contract.Type{Form: contract.FormInt, Low: 1, High: t.Each}, true
	default:
		return &contract.Type{Form: contract.FormInt, Low: 0, High: int64(t.Max)}, t.Of, true
	}
}

// endOfList returns the place of the first or last value of a list.
func (e *Scope) endOfList(on *contract.Expr, last bool) *contract.Expr {
	whole := &contract.Type{Form: contract.FormInt}
	if !last {
		return &contract.Expr{Op: contract.OpConst, Type: whole}
	}
	count := &contract.Expr{Op: contract.OpCount, Type: whole, Args: []*contract.Expr{on}}
	one := &contract.Expr{Op: contract.OpConst, Type: whole, Num: 1}
	return &contract.Expr{Op: contract.OpSub, Type: whole, Args: []*contract.Expr{count, one}}
}

// shuffleList returns a list that is shuffled into memory of the body.
func (e *Scope) shuffleList(call *syntax.Call, on *contract.Expr) (*contract.Expr, bool) {
	b := &builtinCall{scope: e, call: call, name: "shuffle"}
	if !e.NeedsLanguage2(call.At, "`shuffle`") || !b.mayRoll() {
		return nil, false
	}
	return &contract.Expr{
		Op:   contract.OpCopy,
		Type: on.Type,
		Num:  e.room(call.At, on.Type),
		Args: []*contract.Expr{on},
	}, true
}

// within reads `within RADIUS of PLACE` of a query.
//
// Each kind that is gone over needs a vector `pos`, of the dimension of the place. q.Pos gets it by the
// kind's index.
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
		if p.Computed {
			e.Fail(
				in.X.Span(), "wrong-type",
				fmt.Sprintf("`pos` of %s is computed, and `within` measures what is stored", k.Name),
				"store the place; or compare a distance after `where`",
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
//
// sum, min, max, most, least, best and all need a value after the colon; count, one, first and any take
// none.
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
	q, ok := e.query(&x.In, x.Name, x.Second)
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
//
// `min` and `max` of two or more values are functions of numbers, not queries. The query's name is made
// of the place in the text, so that nested ones differ and nobody can write it.
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
	each := syntax.Ident{Text: fmt.Sprintf("each at %d", x.At.Start), At: x.At}
	q, ok := e.query(&syntax.From{X: x.Args[0]}, each, syntax.Ident{})
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
//
// count and sum are numbers, any and all are bools; min and max are of the type of the value, and the
// others one of what is gone over. Those that have no answer over nothing may have an `else`; without
// one, nothing to choose from is a fault when it runs.
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
				// A real after `else` makes reals of the values, as in any other calculation.
				q.Value, out.Type = real(q.Value), looseType(v.Type)
			}
		}
		q.Else = e.Value(other, out.Type, "what stands after `else`")
		if q.Else == nil {
			return nil
		}
	}
	q.NoteIndexes()
	return Widened(out)
}

// isListOfSegments reports whether a list holds records that begin with two places in a plane.
func isListOfSegments(t *contract.Type) bool {
	parts := t.Of.Parts
	return t.Of.Form == contract.FormRecord && len(parts) >= 2 &&
		parts[0].Type.Form == contract.FormVec2 && parts[1].Type.Form == contract.FormVec2
}
