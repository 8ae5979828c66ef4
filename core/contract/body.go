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
	b := &Body{Stmts: e.block(stmts), Line: e.lineOf(at)}
	b.Nums, b.Texts = e.nums, e.texts
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
	kind     *Kind       // of self; nil in a handler of the contract
	request  *Request    // nil in a handler
	action   *Action     // that is being read, or nil
	written  syntax.Expr // the target of the present assignment, which is not read
	head     bool        // nothing may change
	constant bool        // nothing may be read
	scopes   []map[string]*Expr
	nums     int
	texts    int
}

func (e *env) enter() { e.scopes = append(e.scopes, map[string]*Expr{}) }
func (e *env) leave() { e.scopes = e.scopes[:len(e.scopes)-1] }

func (e *env) declare(n syntax.Ident, t *Type) *Expr {
	for _, s := range e.scopes {
		if s[n.Text] != nil {
			e.fail(n.At, "repeated", fmt.Sprintf("the name `%s` is in use here already", n.Text), "choose another name")
		}
	}
	x := &Expr{Op: OpLocal, Type: t}
	if t.IsText() {
		x.Num = int64(e.texts)
		e.texts++
	} else {
		x.Num = int64(e.nums)
		e.nums++
	}
	if x.Num == MaxLocals {
		e.fail(n.At, "out-of-range", "this is one name too many", fmt.Sprintf("at most %d arguments and names in one request or handler", MaxLocals))
	}
	e.scopes[len(e.scopes)-1][n.Text] = x
	e.locals = append(e.locals, local{n, x})
	return x
}

func (e *env) block(stmts []syntax.Stmt) []Stmt {
	if !e.head {
		e.enter()
		defer e.leave()
	}
	var out []Stmt
	for _, s := range stmts {
		if t, ok := e.stmt(s); ok {
			t.Line, _ = e.src.Position(s.Span().Start)
			out = append(out, t)
		}
	}
	return out
}

func (e *env) stmt(s syntax.Stmt) (Stmt, bool) {
	switch s := s.(type) {
	case *syntax.Let:
		v := e.expr(s.Value, nil)
		if v == nil {
			e.scopes[len(e.scopes)-1][s.Name.Text] = &Expr{Type: &Type{}} // so that its uses are not told as unknown
			return Stmt{}, false
		}
		if v.Type.Form == FormStacks {
			e.fail(s.Value.Span(), "wrong-type", "a name cannot stand for whole stacks", "ask for a count: satchel.count(flare)")
			return Stmt{}, false
		}
		return Stmt{Op: OpLet, Num: e.declare(s.Name, v.Type).Num, Value: v}, true
	case *syntax.Check:
		cond := e.value(s.Cond, &Type{Form: FormBool}, "the condition of a check")
		span := s.Cond.Span()
		line, _ := e.src.Position(s.At.Start)
		text := strings.Join(strings.Fields(e.src.Text[span.Start:span.End]), " ")
		check := Check{Text: text, Drop: s.Reason == nil, Line: line}
		if s.Reason != nil {
			check.Reason = s.Reason.Value
			e.reason(s.Reason)
		}
		e.request.Checks = append(e.request.Checks, check)
		return Stmt{Op: OpCheck, Num: int64(len(e.request.Checks) - 1), Value: cond}, cond != nil
	case *syntax.Assign:
		return e.assign(s)
	case *syntax.Do:
		return e.do(s)
	case *syntax.If:
		cond := e.value(s.Cond, &Type{Form: FormBool}, "the condition of an `if`")
		t := Stmt{Op: OpIf, Value: cond, Then: e.block(s.Then), Else: e.block(s.Else)}
		return t, cond != nil
	case *syntax.Tell:
		return e.tell(s)
	case *syntax.Run:
		return e.run(s)
	case *syntax.Match:
		return e.match(s)
	case *syntax.Reply:
		if e.request == nil || e.request.Reply == nil {
			e.fail(s.At, "no-reply", "nobody waits for a reply here", "a request that gives one says so: request guess(pick: int 0..4) -> bool")
			return Stmt{}, false
		}
		v := e.value(s.Value, e.request.Reply, "the reply")
		return Stmt{Op: OpReply, Value: v, Type: e.request.Reply}, true // a wrong one has been told, and is a reply all the same
	case *syntax.Deny:
		if e.request == nil {
			e.fail(s.At, "no-request", "there is no request here that could be denied", "`deny` stands in the body of a request")
			return Stmt{}, false
		}
		return Stmt{Op: OpDeny, Text: s.Reason.Value}, true
	}
	return Stmt{}, false
}

func (e *env) run(s *syntax.Run) (Stmt, bool) {
	out := Stmt{Op: OpRun}
	kind, name := e.kind, syntax.Ident{}
	switch f := s.Action.(type) {
	case *syntax.Ref:
		if name = f.Ident; e.kind == nil {
			e.fail(f.At, "no-self", "there is no entity here whose action could be run", "name the entity: do c.Diver."+f.Text+"(…)")
			return out, false
		}
		out.X = e.self()
	case *syntax.Member:
		name = f.Name
		if out.X = e.expr(f.X, nil); out.X == nil {
			return out, false
		}
		if out.X.Type.Form != FormEntity {
			e.fail(f.Span(), "wrong-type", fmt.Sprintf("%s has no actions", describe(out.X.Type)), "an action belongs to an entity")
			return out, false
		}
		kind = out.X.Type.Kind
	default:
		e.fail(s.Action.Span(), "expected", "this is no action", "as in `do surface()`")
		return out, false
	}
	var known []string
	for _, a := range kind.Actions {
		known = append(known, a.Name)
		if a.Name == name.Text && out.Act == nil {
			out.Act = a
		}
	}
	if out.Act == nil {
		e.fail(name.At, "unknown-name", fmt.Sprintf("%s has no action `%s`", kind.Name, name.Text), e.suggest(name.Text, known, "declare it: action "+name.Text+"() { … }"))
		return out, false
	}
	e.used[out.Act] = true
	if len(s.Args) != len(out.Act.Params) {
		e.fail(s.At, "arguments", fmt.Sprintf("`%s` is run with %d values", name.Text, len(s.Args)), fmt.Sprintf("it is declared with %d", len(out.Act.Params)))
		return out, false
	}
	if e.action != nil {
		e.calls[e.action] = append(e.calls[e.action], call{out.Act, s.At})
	}
	ok := true
	for i, a := range s.Args {
		p := out.Act.Params[i]
		v := e.value(a, p.Type, "`"+p.Name+"` of the action `"+name.Text+"`")
		out.Args = append(out.Args, v)
		ok = ok && v != nil
	}
	return out, ok
}

// match becomes a row of ifs over a name of its own.
func (e *env) match(s *syntax.Match) (Stmt, bool) {
	x := e.expr(s.X, nil)
	if x == nil || x.Type.Form == "" {
		return Stmt{}, false
	}
	switch x.Type.Form {
	case FormStacks, FormEntity, FormClient, FormReal:
		e.fail(s.X.Span(), "wrong-type", describe(x.Type)+" cannot be matched", "a bool, an int, a text, an enum or a role can")
		return Stmt{}, false
	}
	e.enter()
	defer e.leave()
	line := e.lineOf(s.At)
	held := e.declare(syntax.Ident{Text: fmt.Sprintf("match at %d", s.At.Start), At: s.X.Span()}, x.Type)
	e.used[held] = true
	ok := true
	seen := map[string]bool{}
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
				e.fail(value.Span(), "not-constant", "this value of the match is computed", "name a constant value, or use `if`")
				ok = false
				continue
			}
			key := fmt.Sprint(v.Num, v.Text)
			if seen[key] {
				e.fail(value.Span(), "repeated", "this value stands in the match already", "remove one of the two")
			}
			seen[key] = true
			eq := &Expr{Op: OpEq, Type: &Type{Form: FormBool}, Args: []*Expr{held, v}}
			if cond == nil {
				cond = eq
			} else {
				cond = &Expr{Op: OpOr, Type: &Type{Form: FormBool}, Args: []*Expr{cond, eq}}
			}
		}
		arms = append(arms, Stmt{Op: OpIf, Value: cond, Then: e.block(a.Body), Line: line})
	}
	var rest []Stmt
	if s.Else != nil {
		rest = e.block(s.Else)
	} else if x.Type.Form == FormEnum {
		var missing []string
		for i, name := range x.Type.Enum.Values {
			if !seen[fmt.Sprint(i, "")] {
				missing = append(missing, name)
			}
		}
		if len(missing) > 0 && ok {
			e.fail(s.At, "not-all", "this match has nothing for "+strings.Join(missing, ", "), "add them, or `else { }`")
		}
		// The last value of all needs no question: it is what is left.
		if n := len(arms); n > 0 {
			rest, arms = arms[n-1].Then, arms[:n-1]
		}
	}
	for i := len(arms) - 1; i >= 0; i-- {
		arms[i].Else = rest
		rest = []Stmt{arms[i]}
	}
	let := Stmt{Op: OpLet, Num: held.Num, Value: x, Line: line}
	always := &Expr{Op: OpConst, Type: &Type{Form: FormBool}, Num: 1}
	return Stmt{Op: OpIf, Value: always, Then: append([]Stmt{let}, rest...)}, ok
}

func (e *env) assign(s *syntax.Assign) (Stmt, bool) {
	if s.Op == "=" {
		e.written = s.Target
	}
	target := counted(e.expr(s.Target, nil))
	if target == nil {
		e.expr(s.Value, nil)
		return Stmt{}, false
	}
	if target.Op != OpGet {
		e.fail(s.Target.Span(), "not-writable", "this cannot be assigned to", "a property can: `hull = 100` or `caller.Diver.hull = 100`")
		return Stmt{}, false
	}
	p := target.Prop
	if p.Type.Form == FormStacks {
		e.fail(s.Target.Span(), "not-writable", fmt.Sprintf("the stacks `%s` cannot be assigned as a whole", p.Name), fmt.Sprintf("use %s.put(item, count) and %s.take(item, count)", p.Name, p.Name))
		return Stmt{}, false
	}
	what := "the new value of `" + p.Name + "`"
	if s.Op == "=" {
		v := e.value(s.Value, p.Type, what)
		return Stmt{Op: OpSet, X: target.Args[0], Prop: p, Value: v}, v != nil
	}
	if p.Type.Form != FormInt && p.Type.Form != FormReal {
		e.fail(s.At, "wrong-type", fmt.Sprintf("`%s` is of the type %s and cannot be counted up or down", p.Name, p.Type), "assign with `=`")
		return Stmt{}, false
	}
	op := OpAdd
	if s.Op == "-=" {
		op = OpSub
	}
	if p.Type.Form == FormReal {
		v := e.value(s.Value, &Type{Form: FormReal}, what)
		if v == nil {
			return Stmt{}, false
		}
		sum := &Expr{Op: op, Type: &Type{Form: FormReal}, Args: []*Expr{widened(target), v}}
		return Stmt{Op: OpSet, X: target.Args[0], Prop: p, Value: &Expr{Op: OpSteps, Type: p.Type, Args: []*Expr{sum}}}, true
	}
	v := e.value(s.Value, &Type{Form: FormInt}, what)
	return Stmt{Op: OpSet, X: target.Args[0], Prop: p, Value: &Expr{Op: op, Type: &Type{Form: FormInt}, Args: []*Expr{target, v}}}, v != nil
}

// methods of stacks: the operation, and whether it changes something.
var methods = map[string]struct {
	op      Op
	changes bool
	count   bool // takes a count after the item
}{"has": {OpHas, false, true}, "count": {OpCount, false, false}, "room": {OpRoom, false, false}, "put": {OpPut, true, true}, "take": {OpTake, true, true}}

// method reads `path.name(item, count)`; ok is false when it is no method of stacks, or has a mistake that has been told.
func (e *env) method(call *syntax.Call) (x *Expr, changes, ok bool) {
	m, isMember := call.Fn.(*syntax.Member)
	if !isMember {
		name := e.src.Text[call.Fn.Span().Start:call.Fn.Span().End]
		hint := "stacks have has, count, room, put and take, as in `satchel.has(flare)`"
		for _, ev := range e.out.Events {
			if ev.Name == name {
				hint = "an event is told: `tell everyone " + name + "(…)`"
			}
		}
		e.fail(call.Fn.Span(), "unknown-name", fmt.Sprintf("there is no function `%s`", name), hint)
		return nil, false, false
	}
	on := e.expr(m.X, nil)
	if on == nil {
		return nil, false, false
	}
	if on.Op != OpGet || on.Type.Form != FormStacks {
		e.fail(m.Name.At, "unknown-name", fmt.Sprintf("%s has no `%s` that could be called", describe(on.Type), m.Name.Text), "stacks have has, count, room, put and take")
		return nil, false, false
	}
	method, known := methods[m.Name.Text]
	if !known {
		e.fail(m.Name.At, "unknown-name", fmt.Sprintf("stacks have no `%s`", m.Name.Text), e.suggest(m.Name.Text, names(methods), "they have has, count, room, put and take"))
		return nil, false, false
	}
	if method.changes && e.head {
		e.fail(call.At, "impure", fmt.Sprintf("`%s` changes something, and the head of a request may not", m.Name.Text), "move it into the body; a check may ask has, count and room")
		return nil, false, false
	}
	most := 1
	if method.count {
		most = 2
	}
	if len(call.Args) < 1 || len(call.Args) > most {
		e.fail(call.At, "arguments", fmt.Sprintf("`%s` has %d arguments", m.Name.Text, len(call.Args)), fmt.Sprintf("it takes an item%s", map[bool]string{true: ", and a count unless it is 1", false: ""}[method.count]))
		return nil, false, false
	}
	item := e.value(call.Args[0], &Type{Form: FormEnum, Enum: on.Type.Enum}, "the item")
	count := &Expr{Op: OpConst, Type: &Type{Form: FormInt}, Num: 1}
	if len(call.Args) == 2 {
		count = e.value(call.Args[1], &Type{Form: FormInt, Low: 0, High: MaxStackCount * MaxStacks}, "the count")
	}
	if item == nil || count == nil {
		return nil, false, false
	}
	t := &Type{Form: FormInt}
	if method.op == OpHas {
		t = &Type{Form: FormBool}
	}
	return &Expr{Op: method.op, Type: t, Prop: on.Prop, Args: []*Expr{on.Args[0], item, count}}, method.changes, true
}

func (e *env) do(s *syntax.Do) (Stmt, bool) {
	call, ok := s.X.(*syntax.Call)
	if !ok {
		return Stmt{}, false
	}
	x, changes, ok := e.method(call)
	if !ok {
		return Stmt{}, false
	}
	if !changes {
		e.fail(s.At, "no-effect", "this value is computed and then thrown away", "use it in a condition or assign it")
		return Stmt{}, false
	}
	return Stmt{Op: x.Op, X: x.Args[0], Prop: x.Prop, Args: x.Args[1:]}, true
}

func (e *env) tell(s *syntax.Tell) (Stmt, bool) {
	out := Stmt{Op: OpTell, Who: e.who(s.To)}
	var kind *Kind
	var name syntax.Ident
	switch f := s.Event.(type) {
	case *syntax.Ref:
		name, kind = f.Ident, e.kind
		if kind != nil && slices.ContainsFunc(kind.Events, func(ev *Event) bool { return ev.Name == name.Text }) {
			out.X = &Expr{Op: OpSelf, Type: &Type{Form: FormEntity, Kind: kind}}
		} else {
			kind = nil
		}
	case *syntax.Member:
		name = f.Name
		out.X = e.expr(f.X, nil)
		if out.X == nil {
			return out, false
		}
		if out.X.Type.Form != FormEntity {
			e.fail(f.Span(), "wrong-type", fmt.Sprintf("%s has no events", describe(out.X.Type)), "an event belongs to an entity or to the contract")
			return out, false
		}
		kind = out.X.Type.Kind
	default:
		e.fail(s.Event.Span(), "expected", "this is no event", "as in `tell everyone used(item)`")
		return out, false
	}
	var known []string
	for _, ev := range e.out.Events {
		if ev.Kind == kind || out.X == nil && ev.Kind == e.kind {
			known = append(known, ev.Name)
		}
		if ev.Kind == kind && ev.Name == name.Text {
			out.Event = ev
		}
	}
	if out.Event == nil {
		e.fail(name.At, "unknown-name", fmt.Sprintf("the event `%s` is not declared", name.Text), e.suggest(name.Text, known, "declare it: event "+name.Text+"(…)"))
		return out, false
	}
	e.used[out.Event] = true
	if len(s.Args) != len(out.Event.Params) {
		e.fail(s.At, "arguments", fmt.Sprintf("`%s` is told with %d values", name.Text, len(s.Args)), fmt.Sprintf("it is declared with %d", len(out.Event.Params)))
		return out, false
	}
	ok := out.Who != nil
	for i, a := range s.Args {
		p := out.Event.Params[i]
		v := e.value(a, p.Type, "`"+p.Name+"` of the event `"+name.Text+"`")
		out.Args = append(out.Args, v)
		ok = ok && v != nil
	}
	return out, ok
}

// who reads the clients that something is told to.
func (e *env) who(a *syntax.Audience) []Who {
	var out []Who
	for _, t := range a.Terms {
		w := Who{But: t.But}
		r, isRef := t.Who.(*syntax.Ref)
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
		default:
			w.Sort = ToClient
			if w.X = e.expr(t.Who, nil); w.X == nil {
				return nil
			}
			if w.X.Type.Form != FormClient {
				e.fail(t.Who.Span(), "wrong-type", fmt.Sprintf("%s is nobody who could be told", describe(w.X.Type)), "tell everyone, owner, caller, a role or a client")
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
