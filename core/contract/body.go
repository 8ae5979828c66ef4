package contract

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"kamerad/core/syntax"
)

// body reads the statements of a handler, timer or action whose arguments are declared.
func (e *env) body(stmts []syntax.Stmt, at syntax.Span) *Body {
	b := &Body{
		Stmts: e.block(stmts),
		File:  e.src.File(at.Start),
		Line:  e.lineOf(at),
		at:    at,
	}
	b.Locals = e.nums
	b.Memory = e.mem
	return b
}

// replies tells whether every way through some statements gives a reply or a denial.
func replies(stmts []Stmt) bool {
	for _, s := range stmts {
		if s.Op == OpReply || s.Op == OpDeny || s.Op == OpIf && replies(s.Then) && (replies(s.Else) || s.always()) {
			return true
		}
	}
	return false
}

// always tells whether an `if` is one that a match was turned into, whose condition holds.
func (s *Stmt) always() bool { return s.Value != nil && s.Value.Op == OpConst && s.Value.Num == 1 }

func (c *checker) reason(r *syntax.Literal) {
	if n := utf8.RuneCountInString(r.Value); n == 0 || n > 200 {
		c.fail(r.At, "out-of-range", fmt.Sprintf("this reason has %d characters", n), "from 1 to 200")
	}
}

// env is where an expression or statement stands.
type env struct {
	*checker
	kind     *Kind       // of self; nil in a handler of the contract, in functions and audiences
	request  *Request    // nil elsewhere
	action   *Action     // that is being read, or nil
	fn       *Fn         // that is being read, or nil
	written  syntax.Expr // the target of the present assignment, which is not read
	viewer   bool        // there is one
	pure     bool        // nothing may change
	still    bool        // nothing may roll
	rolled   bool        // something did
	constant bool        // nothing may be read
	spawning bool        // in `on spawn`, which may set what is `once`
	losing   bool        // in `on owner lost` or `on owner leave`
	scopes   []map[string]*Expr
	nums     int
	mem      int
}

func (e *env) enter() { e.scopes = append(e.scopes, map[string]*Expr{}) }
func (e *env) leave() { e.scopes = e.scopes[:len(e.scopes)-1] }

// declare gives a name to a new local. What has no type yet takes one number.
func (e *env) declare(n syntax.Ident, t *Type) *Expr {
	for _, s := range e.scopes {
		if s[n.Text] != nil {
			e.fail(n.At, "repeated", fmt.Sprintf("the name `%s` is in use here already", n.Text), "choose another name")
		}
	}
	x := &Expr{Op: OpLocal, Type: t}
	before := e.nums
	if t.Holder() {
		x.Num = int64(e.mem)
		e.room(n.At, t)
	} else {
		x.Num = int64(e.nums)
		e.nums += t.Width()
	}
	if before <= MaxLocals && e.nums > MaxLocals {
		e.fail(
			n.At, "out-of-range", "this is one name too many",
			fmt.Sprintf("the arguments and names of one body may take %d numbers; a vector takes 2 or 3", MaxLocals),
		)
	}
	e.scopes[len(e.scopes)-1][n.Text] = x
	e.locals = append(e.locals, local{n, x})
	return x
}

// room sets memory aside for a list or map, and gives its place.
func (e *env) room(at syntax.Span, t *Type) int64 {
	from := e.mem
	e.mem += t.Width()
	if from <= MaxMemory && e.mem > MaxMemory {
		e.fail(
			at, "out-of-range", "the lists of this body are too long together",
			fmt.Sprintf("at most %d numbers", MaxMemory),
		)
	}
	return int64(from)
}

func (e *env) block(stmts []syntax.Stmt) []Stmt {
	if !e.pure {
		e.enter()
		defer e.leave()
	}
	var out []Stmt
	for i, s := range stmts {
		if t, ok := e.stmt(s); ok {
			t.Line, t.at = e.lineOf(s.Span()), s.Span()
			out = append(out, t)
		}
		switch s.(type) {
		case *syntax.Return, *syntax.Deny, *syntax.Reply:
			if _, reply := s.(*syntax.Reply); i+1 < len(stmts) && !reply {
				e.fail(stmts[i+1].Span(), "never", "this statement never runs", "the one before it ends the body")
			}
		}
	}
	return out
}

func (e *env) stmt(s syntax.Stmt) (Stmt, bool) {
	switch s := s.(type) {
	case *syntax.Let:
		return e.let(s)
	case *syntax.Check:
		return e.check(s)
	case *syntax.Assign:
		return e.assign(s)
	case *syntax.Do:
		return e.do(s)
	case *syntax.If:
		cond := e.value(s.Cond, &Type{Form: FormBool}, "the condition of an `if`")
		t := Stmt{
			Op:    OpIf,
			Value: cond,
			Then:  e.block(s.Then),
			Else:  e.block(s.Else),
		}
		return t, cond != nil
	case *syntax.For:
		e.enter()
		defer e.leave()
		q, ok := e.query(&s.In, s.Name)
		t := Stmt{Op: OpFor, Query: q, Then: e.block(s.Body)}
		return t, ok
	case *syntax.Tell:
		return e.tell(s)
	case *syntax.Run:
		return e.run(s)
	case *syntax.Match:
		return e.match(s)
	case *syntax.Spawn:
		return e.spawn(s)
	case *syntax.Despawn:
		x := e.entity(s.X, "what is despawned")
		if x == nil {
			return Stmt{}, false
		}
		for _, k := range x.Type.Kinds {
			if !k.Free() && e.inPart == nil {
				e.fail(
					s.X.Span(), "wrong-type",
					fmt.Sprintf(
						"%s cannot be despawned: %s", k.Name,
						map[bool]string{
							true:  "it is there as long as the session",
							false: "it comes and goes with its client",
						}[k.Shared],
					),
					"only kinds that are spawned by the contract can be",
				)
				return Stmt{}, false
			}
		}
		return Stmt{Op: OpDespawn, X: x}, true
	case *syntax.Give:
		x := e.entity(s.X, "what is given")
		to := e.value(s.To, &Type{Form: FormClient}, "who gets it")
		if x == nil || to == nil {
			return Stmt{}, false
		}
		for _, k := range x.Type.Kinds {
			if to.Op != OpConst {
				k.given = true
			} else if !e.losing {
				k.returns = true
			}
			if k.Per >= 0 {
				e.fail(
					s.X.Span(), "wrong-type", fmt.Sprintf("%s cannot be given away: each client has its own", k.Name),
					"what changes hands is shared or spawned",
				)
				return Stmt{}, false
			}
		}
		return Stmt{Op: OpGive, X: x, Value: to}, true
	case *syntax.Return:
		if e.request != nil && e.request.Reply != nil {
			e.fail(s.At, "no-reply", "this ends the body without a reply", "`reply` or `deny` before it")
		}
		return Stmt{Op: OpReturn}, true
	case *syntax.Reply:
		if e.request == nil || e.request.Reply == nil {
			e.fail(
				s.At, "no-reply", "nobody waits for a reply here",
				"a request that gives one says so: request guess(pick: int 0..4) -> bool",
			)
			return Stmt{}, false
		}
		v := e.value(s.Value, e.request.Reply, "the reply")
		// a wrong one has been told, and is a reply all the same
		return Stmt{Op: OpReply, Value: v, Type: e.request.Reply}, true
	case *syntax.Deny:
		if e.request == nil {
			e.fail(
				s.At, "no-request", "there is no request here that could be denied",
				"`deny` stands in the body of a request",
			)
			return Stmt{}, false
		}
		e.reason(s.Reason)
		return Stmt{Op: OpDeny, Text: s.Reason.Value}, true
	case *syntax.Expel:
		who := e.value(s.Who, &Type{Form: FormClient}, "who is expelled")
		e.reason(s.Reason)
		return Stmt{Op: OpExpel, X: who, Text: s.Reason.Value}, who != nil
	case *syntax.Close:
		e.reason(s.Reason)
		return Stmt{Op: OpClose, Text: s.Reason.Value}, true
	case *syntax.Log:
		t := Stmt{Op: OpLog, Who: e.who(s.To, "is told"), Words: s.Words}
		ok := t.Who != nil
		for _, x := range s.Values {
			v := e.expr(x, nil)
			if v != nil && (v.Type.Holder() || v.Type.Form == FormLine || v.Type.Form == FormNothing) {
				e.fail(
					x.Span(), "wrong-type", describe(v.Type)+" cannot stand in the words of a log", "name a part of it",
				)
				v = nil
			}
			ok = ok && v != nil
			t.Args = append(t.Args, v)
		}
		return t, ok
	}
	return Stmt{}, false
}

func (e *env) let(s *syntax.Let) (Stmt, bool) {
	if sp, ok := s.Value.(*syntax.Spawn); ok {
		if e.pure {
			e.fail(
				sp.At, "impure", "`spawn` changes something, and a head, a function or a condition may not",
				"move it into the body",
			)
			return Stmt{}, false
		}
		t, ok := e.spawn(sp)
		if !ok {
			e.scopes[len(e.scopes)-1][s.Name.Text] = &Expr{Type: &Type{}}
			return Stmt{}, false
		}
		of := &Type{Form: FormEntity, Kinds: t.Kinds}
		for _, k := range t.Kinds {
			of.Names = append(of.Names, k.Name)
		}
		t.Num = e.declare(s.Name, of).Num
		return t, true
	}
	v := e.expr(s.Value, nil)
	if v == nil || v.Type.Form == "" {
		e.scopes[len(e.scopes)-1][s.Name.Text] = &Expr{Type: &Type{}} // so that its uses are not told as unknown
		return Stmt{}, false
	}
	switch v.Type.Form {
	case FormStacks, FormMap:
		e.fail(
			s.Value.Span(), "wrong-type", "a name cannot stand for whole stacks or a whole map",
			"ask for a count: satchel.count(flare)",
		)
		return Stmt{}, false
	case FormNothing:
		e.fail(s.Value.Span(), "wrong-type", "a name for nothing has no type", "use `nothing` where it is wanted")
		return Stmt{}, false
	case FormList:
		if v.Op == OpList && len(v.Args) == 0 {
			e.fail(s.Value.Span(), "wrong-type", "a name for an empty list has no type", "list at least one value")
			return Stmt{}, false
		}
		if v.Op == OpList || v.Op == OpCopy { // it is in memory already
			x := e.declare(s.Name, &Type{Form: FormInt})
			*x = Expr{Op: OpLocal, Type: v.Type, Num: v.Num}
			return Stmt{Op: OpLet, Num: v.Num, Value: v}, true
		}
	}
	return Stmt{Op: OpLet, Num: e.declare(s.Name, v.Type).Num, Value: v}, true
}

func (e *env) check(s *syntax.Check) (Stmt, bool) {
	cond := e.value(s.Cond, &Type{Form: FormBool}, "the condition of a check")
	// With the brackets around it, which are no part of the tree.
	end := s.Cond.Span().End
	for end < s.At.End && strings.ContainsRune(" \t\n)", rune(e.src.Text[end])) {
		end++
	}
	text := strings.Join(strings.Fields(e.src.Text[s.At.Start+len("check"):end]), " ")
	check := Check{Text: text, Then: Then(s.Then), Line: e.lineOf(s.At)}
	if s.Reason != nil {
		check.Reason = s.Reason.Value
		e.reason(s.Reason)
	}
	if check.Then == ThenStrike && e.out.Strikes == 0 {
		e.fail(
			s.At, "no-strikes", "this check strikes, and the contract does not say how many strikes expel",
			"add a line such as `strikes 5 in 10s` at the top",
		)
	}
	e.request.Checks = append(e.request.Checks, check)
	return Stmt{Op: OpCheck, Num: int64(len(e.request.Checks) - 1), Value: cond}, cond != nil
}

// entity reads an expression that has to be an entity.
func (e *env) entity(x syntax.Expr, what string) *Expr {
	v := e.expr(x, nil)
	if v == nil || v.Type.Form == "" {
		return nil
	}
	if v.Type.Form != FormEntity {
		e.fail(x.Span(), "wrong-type", fmt.Sprintf("%s is %s", what, describe(v.Type)), "it has to be an entity")
		return nil
	}
	return v
}

// spawn reads `spawn Kind { … }`.
func (e *env) spawn(s *syntax.Spawn) (Stmt, bool) {
	out := Stmt{Op: OpSpawn, Num: -1}
	if k := e.kinds[s.Kind.Text]; k != nil {
		if !k.Free() {
			e.fail(
				s.Kind.At, "wrong-type",
				fmt.Sprintf(
					"%s cannot be spawned: %s", k.Name,
					map[bool]string{
						true:  "there is exactly one, from the start",
						false: "each client gets one when it joins",
					}[k.Shared],
				),
				"only a kind that is neither shared nor `per` a role can be",
			)
			return out, false
		}
		out.Kinds = []*Kind{k}
		e.spawns[k] = true
	} else if x := e.local(s.Kind.Text); x != nil && x.Type.Form == FormKind {
		e.used[x] = true
		out.Value = x
		out.Kinds = x.Type.Kinds
		for _, k := range out.Kinds {
			e.spawns[k] = true
		}
	} else if p := e.property(s.Kind.Text); p != nil && p.Type.Form == FormKind {
		e.used[p.decl] = true
		out.Value = &Expr{
			Op:   OpGet,
			Type: p.Type,
			Prop: p,
			Args: []*Expr{e.self()},
		}
		out.Kinds = p.Type.Kinds
		for _, k := range out.Kinds {
			e.spawns[k] = true
		}
	} else {
		e.fail(
			s.Kind.At, "unknown-name", fmt.Sprintf("the kind `%s` is not declared", s.Kind.Text),
			e.suggest(s.Kind.Text, names(e.kinds), "declare it: entity "+s.Kind.Text+" { … }"),
		)
		return out, false
	}
	ok := true
	given := map[string]bool{}
	for _, set := range s.Sets {
		name := set.Name.Text
		if given[name] {
			e.fail(set.Name.At, "repeated", fmt.Sprintf("`%s` is given twice", name), "remove one of the two")
		}
		given[name] = true
		props := e.common(set.Name, out.Kinds)
		if props == nil {
			e.expr(set.Value, nil)
			ok = false
			continue
		}
		p := props[out.Kinds[0].Index]
		v := e.value(set.Value, p.Type, "the value of `"+name+"`")
		ok = ok && v != nil
		if v != nil {
			x := &Expr{Op: OpGet, Props: props}
			e.mayChange(x, x, v)
		}
		out.Sets = append(out.Sets, SetValue{props, v})
	}
	for _, k := range out.Kinds {
		for _, p := range k.Properties {
			if !p.Given && !given[p.Name] && !p.Type.Holder() {
				e.fail(
					s.At, "not-given", fmt.Sprintf("`%s` of %s has no default and gets no value here", p.Name, k.Name),
					"give it one, as in `spawn "+k.Name+" { "+p.Name+" = … }`",
				)
				ok = false
			}
		}
	}
	return out, ok
}

// common finds a property that all of some kinds have, with one type, by the kinds' index. It is nil after a mistake.
func (e *env) common(n syntax.Ident, kinds []*Kind) []*Property {
	out := make([]*Property, len(e.out.Kinds)+1)
	var first *Property
	for _, k := range kinds {
		p := k.Property(n.Text)
		if p == nil {
			known := k.names()
			if len(kinds) == 1 {
				known = append(known, "owner")
			}
			e.fail(
				n.At, "unknown-name", fmt.Sprintf("%s has no property `%s`", k.Name, n.Text),
				e.suggest(n.Text, known, "it has "+strings.Join(known, ", ")),
			)
			return nil
		}
		if first == nil {
			first = p
		}
		if p.Type.String() != first.Type.String() {
			e.fail(
				n.At, "wrong-type",
				fmt.Sprintf(
					"`%s` is of the type %s in %s and of the type %s in %s", n.Text, first.Type, kinds[0].Name, p.Type,
					k.Name,
				),
				"only what has one type in all of them can be named",
			)
			return nil
		}
		out[k.Index] = p
	}
	if first == nil {
		e.fail(n.At, "empty", "no kind has this part", "include it: entity Eel with …")
		return nil
	}
	return out
}

// called resolves what `do` and `tell` name: NAME of self, or X.NAME.
func (e *env) called(x syntax.Expr, what, verb string) (on *Expr, name syntax.Ident, ok bool) {
	switch f := x.(type) {
	case *syntax.Ref:
		return nil, f.Ident, true
	case *syntax.Member:
		on := e.entity(f.X, "what "+verb)
		return on, f.Name, on != nil
	}
	e.fail(
		x.Span(), "expected", "this is no "+what,
		map[string]string{"action": "as in `do surface()`", "event": "as in `tell everyone used(item)`"}[what],
	)
	return nil, syntax.Ident{}, false
}

// arguments reads the values that an action, event, function or audience is given.
func (e *env) arguments(at syntax.Span, args []syntax.Expr, params []Param, of, verb string) ([]*Expr, bool) {
	if len(args) != len(params) {
		e.fail(
			at, "arguments", fmt.Sprintf("`%s` is %s with %d values", of, verb, len(args)),
			fmt.Sprintf("it is declared with %d", len(params)),
		)
		return nil, false
	}
	ok := true
	var out []*Expr
	for i, a := range args {
		v := e.value(a, params[i].Type, "`"+params[i].Name+"` of `"+of+"`")
		out = append(out, v)
		ok = ok && v != nil
	}
	return out, ok
}

func (e *env) run(s *syntax.Run) (Stmt, bool) {
	out := Stmt{Op: OpRun}
	if s.After != nil {
		out.Num = e.ticks(s.After.At, s.After.Value)
	}
	on, name, ok := e.called(s.Action, "action", "an action is run on")
	if !ok {
		return out, false
	}
	if on == nil {
		if e.kind == nil {
			e.fail(
				name.At, "no-self", "there is no entity here whose action could be run",
				"name the entity: do c.Diver."+name.Text+"(…)",
			)
			return out, false
		}
		on = e.self()
	}
	out.X = on
	if len(on.Type.Kinds) != 1 {
		e.fail(
			s.Action.Span(), "wrong-type", "an action is run on an entity of one kind",
			"a part's own members can run what it needs; else go over the kinds one by one",
		)
		return out, false
	}
	kind := on.Type.Kinds[0]
	var known []string
	for _, a := range kind.Actions {
		known = append(known, a.Name)
		if a.Name == name.Text && out.Act == nil {
			out.Act = a
		}
	}
	if out.Act == nil {
		e.fail(
			name.At, "unknown-name", fmt.Sprintf("%s has no action `%s`", kind.Name, name.Text),
			e.suggest(name.Text, known, "declare it: action "+name.Text+"() { … }"),
		)
		return out, false
	}
	e.used[out.Act.decl] = true
	if e.action != nil && s.After == nil {
		e.calls[e.action] = append(e.calls[e.action], call{out.Act, s.At})
	}
	for i, p := range out.Act.Params {
		if s.After != nil && p.Type.Holder() {
			e.fail(
				s.At, "wrong-type",
				fmt.Sprintf("`%s` is a list, which cannot be kept until then", out.Act.Params[i].Name),
				"let a property hold it",
			)
			return out, false
		}
	}
	out.Args, ok = e.arguments(s.At, s.Args, out.Act.Params, name.Text, "run")
	return out, ok
}

func (e *env) tell(s *syntax.Tell) (Stmt, bool) {
	out := Stmt{Op: OpTell, Who: e.who(s.To, "is told")}
	on, name, ok := e.called(s.Event, "event", "an event is told of")
	if !ok {
		return out, false
	}
	kinds := []*Kind{nil}
	if on != nil {
		kinds = on.Type.Kinds
		if len(kinds) != 1 {
			e.fail(
				s.Event.Span(), "wrong-type", "an event is told of an entity of one kind",
				"tell an event of the contract itself",
			)
			return out, false
		}
	} else if e.kind != nil &&
		slices.ContainsFunc(e.kind.Events, func(ev *Event) bool { return ev.Name == name.Text }) {
		on = e.self()
		kinds = []*Kind{e.kind}
	}
	out.X = on
	var known []string
	all := e.events // the contract's own
	if kinds[0] != nil {
		all = kinds[0].Events
	}
	for _, ev := range all {
		known = append(known, ev.Name)
		if ev.Name == name.Text {
			out.Event = ev
		}
	}
	if on == nil && e.kind != nil {
		for _, ev := range e.kind.Events {
			known = append(known, ev.Name)
		}
	}
	if out.Event == nil {
		e.fail(
			name.At, "unknown-name", fmt.Sprintf("the event `%s` is not declared", name.Text),
			e.suggest(name.Text, known, "declare it: event "+name.Text+"(…)"),
		)
		return out, false
	}
	e.used[out.Event.decl] = true
	out.Args, ok = e.arguments(s.At, s.Args, out.Event.Params, name.Text, "told")
	return out, ok && out.Who != nil
}

// match becomes a row of ifs over a name of its own.
func (e *env) match(s *syntax.Match) (Stmt, bool) {
	x := e.expr(s.X, nil)
	if x == nil || x.Type.Form == "" {
		return Stmt{}, false
	}
	switch x.Type.Form {
	case FormBool, FormInt, FormText, FormEnum, FormRole, FormKind:
	default:
		e.fail(
			s.X.Span(), "wrong-type", describe(x.Type)+" cannot be matched",
			"a bool, an int, a text, an enum, a kind or a role can",
		)
		return Stmt{}, false
	}
	e.enter()
	defer e.leave()
	line := e.lineOf(s.At)
	held := e.declare(syntax.Ident{Text: fmt.Sprintf("match at %d", s.At.Start), At: s.X.Span()}, x.Type)
	e.used[held] = true
	ok := true
	seen := map[int64]bool{}
	var arms []Stmt
	for _, a := range s.Arms {
		var cond *Expr
		for _, value := range a.Values {
			v := e.value(value, x.Type, "this value of the match")
			if v == nil {
				ok = false
				continue
			}
			if v.Op != OpConst {
				e.fail(
					value.Span(), "not-constant", "this value of the match is computed",
					"name a constant value, or use `if`",
				)
				ok = false
				continue
			}
			if seen[v.Num] {
				e.fail(value.Span(), "repeated", "this value stands in the match already", "remove one of the two")
			}
			seen[v.Num] = true
			eq := &Expr{Op: OpEq, Type: &Type{Form: FormBool}, Args: []*Expr{held, v}}
			if cond == nil {
				cond = eq
			} else {
				cond = &Expr{Op: OpOr, Type: &Type{Form: FormBool}, Args: []*Expr{cond, eq}}
			}
		}
		arms = append(arms, Stmt{
			Op:    OpIf,
			Value: cond,
			Then:  e.block(a.Body),
			Line:  line,
		})
	}
	var rest []Stmt
	all := []string(nil)
	switch x.Type.Form {
	case FormEnum:
		all = x.Type.Enum.Values
	case FormKind:
		all = x.Type.Names
	}
	if s.Else != nil {
		rest = e.block(s.Else)
	} else if all != nil {
		var missing []string
		for i, name := range all {
			if !seen[int64(i)] {
				missing = append(missing, name)
			}
		}
		if len(missing) > 0 && ok {
			e.fail(
				s.At, "not-all", "this match has nothing for "+strings.Join(missing, ", "), "add them, or `else { }`",
			)
		}
		// The last value of all needs no question: it is what is left.
		if n := len(arms); n > 0 {
			rest = arms[n-1].Then
			arms = arms[:n-1]
		}
	}
	for i := len(arms) - 1; i >= 0; i-- {
		arms[i].Else = rest
		rest = []Stmt{arms[i]}
	}
	let := Stmt{
		Op:    OpLet,
		Num:   held.Num,
		Value: x,
		Line:  line,
	}
	always := &Expr{Op: OpConst, Type: &Type{Form: FormBool}, Num: 1}
	return Stmt{Op: OpIf, Value: always, Then: append([]Stmt{let}, rest...)}, ok
}

// target reads what is assigned to: a property, or a part of one that is a record, a vector, a list or a map. Its type
// is the one that it is held in.
func (e *env) target(x syntax.Expr) *Expr {
	switch x := x.(type) {
	case *syntax.Member:
		if on := e.targetPart(x.X); on != nil {
			return e.field(on, x.Name)
		}
	case *syntax.Index:
		on := e.target(x.X)
		if on == nil {
			return nil
		}
		return e.at(on, x)
	}
	return counted(e.expr(x, nil))
}

// targetPart gives what a part is written of, when x is a record or vector in a property.
func (e *env) targetPart(x syntax.Expr) *Expr {
	switch x := x.(type) {
	case *syntax.Ref:
		p := e.property(x.Text)
		if p == nil || e.local(x.Text) != nil || p.Type.Form != FormRecord && p.Type.Reals() < 2 {
			return nil
		}
	case *syntax.Member, *syntax.Index:
		if i, ok := x.(*syntax.Index); ok && e.targetList(i.X) == nil {
			return nil
		}
		problems := len(e.problems)
		t := e.target(x)
		if t == nil || t.Type.Form != FormRecord && t.Type.Reals() < 2 {
			e.problems = e.problems[:problems] // it is read again, and told then
			return nil
		}
		return t
	default:
		return nil
	}
	return counted(e.expr(x, nil))
}

func (e *env) targetList(x syntax.Expr) *Expr {
	problems := len(e.problems)
	v := e.expr(x, nil)
	if v == nil || !v.Type.Holder() {
		e.problems = e.problems[:problems]
		return nil
	}
	return v
}

func (e *env) assign(s *syntax.Assign) (Stmt, bool) {
	if s.Op == "=" {
		e.written = s.Target
	}
	if r, ok := s.Target.(*syntax.Member); ok && r.Name.Text == "role" {
		if on := e.expr(r.X, nil); on != nil && on.Type.Form == FormClient {
			v := e.value(s.Value, &Type{Form: FormRole}, "the new role")
			if s.Op != "=" {
				e.fail(s.At, "wrong-type", "a role cannot be counted up or down", "assign with `=`")
				return Stmt{}, false
			}
			e.out.givesRoles = true
			return Stmt{Op: OpSetRole, X: on, Value: v}, v != nil
		}
	}
	target := e.target(s.Target)
	if target == nil {
		e.expr(s.Value, nil)
		return Stmt{}, false
	}
	root := target.root()
	if root.Op != OpGet {
		e.fail(
			s.Target.Span(), "not-writable", "this cannot be assigned to",
			"a property can: `hull = 100` or `caller.Diver.hull = 100`",
		)
		return Stmt{}, false
	}
	p := root.property()
	switch {
	case p.Once && !e.spawning:
		e.fail(
			s.Target.Span(), "not-writable",
			fmt.Sprintf("`%s` is sent once, with the spawn, and cannot change later", p.Name),
			"only `spawn` and `on spawn` may set it; or remove `once`",
		)
		return Stmt{}, false
	case p.Hold != nil:
		e.fail(
			s.Target.Span(), "not-writable", fmt.Sprintf("`%s` is held by its owner", p.Name),
			"its `when` and its lease end it",
		)
		return Stmt{}, false
	case target.Type.Form == FormStacks || target.Type.Form == FormMap:
		e.fail(
			s.Target.Span(), "not-writable",
			fmt.Sprintf("the %s `%s` cannot be assigned as a whole", target.Type.Form, p.Name), map[Form]string{
				FormStacks: fmt.Sprintf(
					"use %s.put(item, count) and %s.take(item, count)", p.Name, p.Name,
				), FormMap: fmt.Sprintf("use %s[key] = value and %s.clear()", p.Name, p.Name),
			}[target.Type.Form],
		)
		return Stmt{}, false
	}
	what := "the new value of `" + p.Name + "`"
	if s.Op == "=" {
		v := e.value(s.Value, target.Type, what)
		e.mayChange(root, target, v)
		return Stmt{Op: OpSet, X: target, Value: v}, v != nil
	}
	e.mayChange(root, target, nil)
	op := OpAdd
	if s.Op == "-=" {
		op = OpSub
	}
	switch t := target.Type; {
	case t.Reals() > 0 && t.Form != FormRotation:
		loose := &Type{Form: t.Form}
		v := e.value(s.Value, loose, what)
		if v == nil {
			return Stmt{}, false
		}
		sum := &Expr{Op: op, Type: loose, Args: []*Expr{widened(target), v}}
		return Stmt{Op: OpSet, X: target, Value: &Expr{Op: OpSteps, Type: t, Args: []*Expr{sum}}}, true
	case t.Form == FormInt:
		v := e.value(s.Value, &Type{Form: FormInt}, what)
		return Stmt{
			Op:    OpSet,
			X:     target,
			Value: &Expr{Op: op, Type: &Type{Form: FormInt}, Args: []*Expr{target, v}},
		}, v != nil
	}
	e.fail(
		s.At, "wrong-type", fmt.Sprintf("`%s` is of the type %s and cannot be counted up or down", p.Name, target.Type),
		"assign with `=`",
	)
	return Stmt{}, false
}

// mayChange notes that a property may come to differ from its default, unless it is the default that it is given.
func (e *env) mayChange(root, target, v *Expr) {
	props := root.Props
	if root.Prop != nil {
		props = []*Property{root.Prop}
	}
	for _, p := range props {
		if p == nil {
			continue
		}
		if v != nil && target == root {
			if slots, constant := e.slots(v); constant && slices.Equal(slots, p.Default) {
				continue
			}
		}
		e.changes[p.decl] = true
	}
}

// mayShrink notes that something may be taken out of a list, map or stacks that do not begin empty.
func (e *env) mayShrink(on *Expr) {
	props := on.root().Props
	if p := on.root().Prop; p != nil {
		props = []*Property{p}
	}
	for _, p := range props {
		if p != nil && p.Type.Holder() && p.Default[0] > 0 {
			e.changes[p.decl] = true
		}
	}
}

// property gives a property of self, or nil.
func (e *env) property(name string) *Property {
	if e.kind == nil {
		return nil
	}
	return e.kind.Property(name)
}

// property gives the property that an OpGet reads; of several kinds, the first one's.
func (x *Expr) property() *Property {
	if x.Prop != nil {
		return x.Prop
	}
	i := slices.IndexFunc(x.Props, func(p *Property) bool { return p != nil })
	return x.Props[i]
}

func (e *env) do(s *syntax.Do) (Stmt, bool) {
	call, ok := s.X.(*syntax.Call)
	if !ok {
		return Stmt{}, false
	}
	if m, ok := call.Fn.(*syntax.Member); ok {
		if t, changes, ok := e.method(call, m); !ok {
			return Stmt{}, false
		} else if changes {
			return t, true
		}
	} else if e.expr(call, nil) == nil {
		return Stmt{}, false
	}
	e.fail(s.At, "no-effect", "this value is computed and then thrown away", "use it in a condition or assign it")
	return Stmt{}, false
}

// who reads the clients that something is told to, that may ask, or that get a value.
func (e *env) who(a *syntax.Audience, what string) []Who {
	var out []Who
	for _, t := range a.Terms {
		w := Who{But: t.But}
		r, isRef := t.Who.(*syntax.Ref)
		call, isCall := t.Who.(*syntax.Call)
		var fn *syntax.Ref
		if isCall {
			fn, _ = call.Fn.(*syntax.Ref)
		}
		switch {
		case isRef && r.Text == "everyone":
			w.Sort = ToEveryone
		case isRef && r.Text == "nobody":
			w.Sort = ToNobody
		case isRef && r.Text == "owner" && e.kind != nil:
			w.Sort = ToOwner
		case isRef && r.Text == "caller" && e.request != nil:
			w.Sort = ToCaller
		case isRef && e.local(r.Text) == nil && slices.Contains(e.out.Roles, r.Text):
			w.Sort, w.Role = ToRole, slices.Index(e.out.Roles, r.Text)
			e.used[role(r.Text)] = true
		case fn != nil && e.audiences[fn.Text] != nil:
			w.Sort = ToNamed
			w.Aud = e.audiences[fn.Text]
			e.used[w.Aud] = true
			var ok bool
			w.Args, ok = e.arguments(call.At, call.Args, w.Aud.Params, fn.Text, "asked")
			if !ok {
				return nil
			}
		case isRef && e.audiences[r.Text] != nil && e.local(r.Text) == nil:
			e.fail(
				r.At, "arguments", fmt.Sprintf("the audience `%s` is named without its arguments", r.Text),
				"as in `"+r.Text+"(self)`",
			)
			return nil
		case fn != nil && e.fns[fn.Text] == nil && !builtin[fn.Text] && !aggregates[fn.Text]:
			known := append(names(e.audiences), e.out.Roles...)
			e.fail(
				fn.At, "unknown-name", fmt.Sprintf("the audience `%s` is not declared", fn.Text),
				e.suggest(fn.Text, known, "declare it: audience "+fn.Text+"(…) = …"),
			)
			return nil
		default:
			w.Sort = ToClient
			problems := len(e.problems)
			w.X = e.expr(t.Who, nil)
			if w.X == nil {
				if name := e.src.Text[t.Who.Span().Start:t.Who.Span().End]; isRef && !syntax.Reserved(name) {
					e.problems = e.problems[:problems]
					known := append(append([]string{"everyone", "owner"}, e.out.Roles...), names(e.audiences)...)
					e.fail(
						t.Who.Span(), "unknown-name", fmt.Sprintf("`%s` names nobody who %s", name, what),
						e.suggest(name, known, "everyone, owner, a role, an audience or a client"),
					)
				}
				return nil
			}
			list := w.X.Type.Form == FormList && w.X.Type.Of.Form == FormClient
			if w.X.Type.Form != FormClient && !list {
				e.fail(
					t.Who.Span(), "wrong-type", fmt.Sprintf("%s is nobody who %s", describe(w.X.Type), what),
					"everyone, owner, caller, a role, an audience, a client or a list of clients",
				)
				return nil
			}
		}
		out = append(out, w)
	}
	return out
}

func (e *env) local(name string) *Expr {
	for i := len(e.scopes) - 1; i >= 0; i-- {
		if x := e.scopes[i][name]; x != nil {
			return x
		}
	}
	return nil
}
