package typing

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// Body reads the statements of a handler, timer or action whose arguments are declared.
//
// Locals and Memory of the result are known only after the last statement was read, which is why they
// are set at the end.
func (e *Scope) Body(stmts []syntax.Stmt, at syntax.Span) *contract.Body {
	b := &contract.Body{
		Stmts: e.Block(stmts),
		File:  e.Source.File(at.Start),
		Line:  e.LineOf(at),
		At:    at,
	}
	b.Locals = e.Nums
	b.Memory = e.Mem
	return b
}

// Replies reports whether every way through some statements gives a reply or a denial.
//
// It errs on the safe side: a loop that always replies does not count, since it may go over nothing.
func Replies(stmts []contract.Stmt) bool {
	for _, s := range stmts {
		if s.Op == contract.OpReply || s.Op == contract.OpDeny ||
			s.Op == contract.OpIf && Replies(s.Then) && (Replies(s.Else) || s.AlwaysTrue()) {
			return true
		}
	}
	return false
}

// Reason checks the length of the reason that a denial gives.
func (c *Unit) Reason(r *syntax.Literal) {
	if n := utf8.RuneCountInString(r.Value); n == 0 || n > 200 {
		c.Fail(r.At, "out-of-range", fmt.Sprintf("this reason has %d characters", n), "from 1 to 200")
	}
}

// Scope is where an expression or statement stands, and what holds there. There is one for each body; reading it hands
// out the registers and the memory of the body's locals.
type Scope struct {
	*Unit
	Kind     *contract.Kind              // of self; nil in a handler of the contract, in functions and audiences
	Request  *contract.Request           // nil elsewhere
	Action   *contract.Action            // that is being read, or nil
	Fn       *contract.Fn                // that is being read, or nil
	written  syntax.Expr                 // the target of the present assignment, which is not read
	Viewer   bool                        // there is one
	Pure     bool                        // nothing may change
	Still    bool                        // nothing may roll
	Rolled   bool                        // something did
	Constant bool                        // nothing may be read
	Spawning bool                        // in `on spawn`, which may set what is `once`
	Ending   bool                        // in `on despawn`
	Losing   bool                        // in `on owner lost` or `on owner leave`
	Scopes   []map[string]*contract.Expr // names that are known, by block; the innermost block is the last
	Nums     int                         // registers that locals have so far
	Mem      int                         // slots of memory that lists, maps and stacks among them have so far
}

// Enter opens a scope: names that are declared from now on hold until leave.
//
// Registers are not given back when the scope is left, so that no two locals of a body share one.
func (e *Scope) Enter() { e.Scopes = append(e.Scopes, map[string]*contract.Expr{}) }

// leave closes the innermost scope.
func (e *Scope) leave() { e.Scopes = e.Scopes[:len(e.Scopes)-1] }

// Declare makes a new local with a name. What has no type yet takes one number.
//
// No name may hide another one of the same body. After that mistake the new meaning holds, so that what
// follows is typed as it was most likely meant.
//
// The result is also the key under which Used learns whether the local is read.
func (e *Scope) Declare(n syntax.Ident, t *contract.Type) *contract.Expr {
	for _, s := range e.Scopes {
		if s[n.Text] != nil {
			e.Fail(n.At, "repeated", fmt.Sprintf("the name `%s` is in use here already", n.Text), "choose another name")
		}
	}
	x := &contract.Expr{Op: contract.OpLocal, Type: t}
	before := e.Nums
	if t.Holder() {
		x.Num = int64(e.Mem)
		e.room(n.At, t)
	} else {
		x.Num = int64(e.Nums)
		e.Nums += t.Width()
	}
	// Reported once a body: at the name that goes over the bound, not at every one after it.
	if before <= contract.MaxLocals && e.Nums > contract.MaxLocals {
		e.Fail(
			n.At, "out-of-range", "this is one name too many",
			fmt.Sprintf(
				"the arguments and names of one body may take %d numbers; a vector takes 2 or 3", contract.MaxLocals,
			),
		)
	}
	e.Scopes[len(e.Scopes)-1][n.Text] = x
	e.Locals = append(e.Locals, Local{n, x})
	return x
}

// room sets memory aside for a list or map, and gives its place.
//
// Each place in the text has memory of its own, which a loop uses again in each round. The bound is
// reported once a body.
func (e *Scope) room(at syntax.Span, t *contract.Type) int64 {
	from := e.Mem
	e.Mem += t.Width()
	if from <= contract.MaxMemory && e.Mem > contract.MaxMemory {
		e.Fail(
			at, "out-of-range", "the lists of this body are too long together",
			fmt.Sprintf("at most %d numbers", contract.MaxMemory),
		)
	}
	return int64(from)
}

// Block reads the statements of a block, in a scope of its own. What could not be read is left out; its mistake was
// told.
//
// In a head (Pure) no scope is opened: what its `let`s declare is for the body too.
func (e *Scope) Block(stmts []syntax.Stmt) []contract.Stmt {
	if !e.Pure {
		e.Enter()
		defer e.leave()
	}
	var out []contract.Stmt
	for i, s := range stmts {
		if taken, ok := e.taken(s); ok {
			out = append(out, taken...)
			continue
		}
		if t, ok := e.stmt(s); ok {
			t.Line, t.At = e.LineOf(s.Span()), s.Span()
			out = append(out, t)
		}
		switch s.(type) {
		case *syntax.Return, *syntax.Deny, *syntax.Reply:
			// A reply does not end the body: what follows may still change things.
			if _, reply := s.(*syntax.Reply); i+1 < len(stmts) && !reply {
				e.Fail(stmts[i+1].Span(), "never", "this statement never runs", "the one before it ends the body")
			}
		}
	}
	return out
}

// taken reads `let NAME = LIST.take_first()`, or `take_last`: the name for the value, and what takes it out. ok is
// false for any other statement; after a mistake there are no statements.
func (e *Scope) taken(s syntax.Stmt) (out []contract.Stmt, ok bool) {
	let, isLet := s.(*syntax.Let)
	if !isLet {
		return nil, false
	}
	call, isCall := let.Value.(*syntax.Call)
	if !isCall || len(call.Args) > 0 {
		return nil, false
	}
	m, isMember := call.Fn.(*syntax.Member)
	if !isMember || m.Name.Text != "take_first" && m.Name.Text != "take_last" {
		return nil, false
	}
	cut, changes, found := e.method(call, m)
	if !found || !changes {
		e.Scopes[len(e.Scopes)-1][let.Name.Text] = &contract.Expr{Type: &contract.Type{}}
		return nil, true
	}
	value := Widened(&contract.Expr{
		Op:   contract.OpAt,
		Type: cut.X.Type.Of,
		Args: []*contract.Expr{cut.X, cut.Args[0]},
	})
	name := contract.Stmt{Op: contract.OpLet, Value: value}
	name.Num = e.Declare(let.Name, value.Type).Num
	for _, t := range []contract.Stmt{name, cut} {
		t.Line = e.LineOf(let.At)
		t.At = let.At
		out = append(out, t)
	}
	return out, true
}

// sort reads `sort NAME in LIST by VALUE`.
func (e *Scope) sort(s *syntax.SortList) (contract.Stmt, bool) {
	if !e.NeedsLanguage2(s.At, "`sort`") {
		return contract.Stmt{}, false
	}
	on := e.Expr(s.List, nil)
	if on == nil || on.Type.Form == "" {
		return contract.Stmt{}, false
	}
	once := func(p *contract.Property) bool { return p.Once }
	root := on.Root()
	if on.Type.Form != contract.FormList || root.Op != contract.OpGet ||
		slices.ContainsFunc(root.PropertiesOf(), once) && !e.Spawning {
		e.Fail(
			s.List.Span(), "not-writable", "this cannot be sorted",
			"a list that a property holds can; and not if it is sent `once`",
		)
		return contract.Stmt{}, false
	}
	e.Enter()
	defer e.leave()
	q, ok := e.query(&syntax.From{X: s.List}, s.Name, syntax.Ident{})
	by := e.Expr(s.By, nil)
	if !ok || by == nil || by.Type.Form == "" {
		return contract.Stmt{}, false
	}
	switch by.Type.Form {
	case contract.FormInt, contract.FormReal, contract.FormTime, contract.FormInstant, contract.FormEnum,
		contract.FormBool:
	default:
		e.Fail(
			s.By.Span(), "wrong-type", "the order is decided by "+describe(by.Type),
			"by a number, a time, an instant, an enum's value or a truth; the least comes first",
		)
		return contract.Stmt{}, false
	}
	e.mayShrink(on) // one that begins empty stays empty
	return contract.Stmt{Op: contract.OpSort, X: on, Query: q, Value: by}, true
}

// stmt reads one statement. ok is false when it could not be read; its mistake was told.
//
//revive:disable-next-line:function-length It is one switch.
func (e *Scope) stmt(s syntax.Stmt) (contract.Stmt, bool) {
	switch s := s.(type) {
	case *syntax.Let:
		return e.let(s)
	case *syntax.Var:
		return e.variable(s)
	case *syntax.Check:
		return e.check(s)
	case *syntax.Assign:
		return e.assign(s)
	case *syntax.Do:
		return e.do(s)
	// The branches are read even when the condition has a mistake: theirs should be told in the same
	// run.
	case *syntax.If:
		cond := e.Value(s.Cond, &contract.Type{Form: contract.FormBool}, "the condition of an `if`")
		t := contract.Stmt{
			Op:    contract.OpIf,
			Value: cond,
			Then:  e.Block(s.Then),
			Else:  e.Block(s.Else),
		}
		return t, cond != nil
	// The scope is for the loop's name. Block opens another one for the names of its body.
	case *syntax.For:
		e.Enter()
		defer e.leave()
		q, ok := e.query(&s.In, s.Name, s.Second)
		if ok {
			q.NoteIndexes()
		}
		t := contract.Stmt{Op: contract.OpFor, Query: q, Then: e.Block(s.Body)}
		return t, ok
	case *syntax.SortList:
		return e.sort(s)
	case *syntax.Tell:
		return e.tell(s)
	case *syntax.Run:
		return e.run(s)
	case *syntax.Match:
		return e.match(s)
	case *syntax.Spawn:
		return e.spawn(s)
	case *syntax.Despawn:
		return e.despawn(s)
	case *syntax.Give:
		return e.give(s)
	case *syntax.Return:
		if e.Request != nil && e.Request.Reply != nil {
			e.Fail(s.At, "no-reply", "this ends the body without a reply", "`reply` or `deny` before it")
		}
		return contract.Stmt{Op: contract.OpReturn}, true
	case *syntax.Reply:
		return e.reply(s)
	case *syntax.Deny:
		if e.Request == nil {
			e.Fail(
				s.At, "no-request", "there is no request here that could be denied",
				"`deny` stands in the body of a request",
			)
			return contract.Stmt{}, false
		}
		e.Reason(s.Reason)
		return contract.Stmt{Op: contract.OpDeny, Text: s.Reason.Value}, true
	case *syntax.Expel:
		who := e.Value(s.Who, &contract.Type{Form: contract.FormClient}, "who is expelled")
		e.Reason(s.Reason)
		return contract.Stmt{Op: contract.OpExpel, X: who, Text: s.Reason.Value}, who != nil
	case *syntax.Close:
		return e.close(s)
	case *syntax.Send:
		return e.send(s)
	case *syntax.Log:
		return e.log(s)
	}
	return contract.Stmt{}, false
}

// send reads `send CLIENT to EXIT(values) as KEY`.
func (e *Scope) send(s *syntax.Send) (contract.Stmt, bool) {
	out := contract.Stmt{Op: contract.OpSend}
	out.X = e.Value(s.Who, &contract.Type{Form: contract.FormClient}, "who is sent")
	name, isName := s.Exit.Fn.(*syntax.Ref)
	var known []string
	for _, x := range e.Contract.Exits {
		known = append(known, x.Name)
		if isName && x.Name == name.Text {
			out.Exit = x
		}
	}
	if out.Exit == nil {
		e.Fail(
			s.Exit.Fn.Span(),
			"unknown-name",
			"the contract has no such exit",
			Suggest(
				e.Source.Text[s.Exit.Fn.Span().Start:s.Exit.Fn.Span().End],
				known,
				"declare it: exit dive(depth: int 0..9) to \"wreck\"",
			),
		)
		return out, false
	}
	e.Used[out.Exit.Offset] = true
	if s.Key != nil {
		out.Value = e.Value(
			s.Key,
			&contract.Type{Form: contract.FormText, Max: contract.MaxKey},
			"which session it leads to",
		)
	}
	var ok bool
	out.Args, ok = e.arguments(s.At, s.Exit.Args, out.Exit.Params, out.Exit.Name, "given")
	return out, ok && out.X != nil && (s.Key == nil || out.Value != nil)
}

// despawn reads `despawn X`. A part may say so of its own kinds, whatever they are.
//
// What a shared or `per` kind stands for is that an entity of it is there, so requests and queries on
// it need no check of existence. In a part that promise is checked where the part is included.
func (e *Scope) despawn(s *syntax.Despawn) (contract.Stmt, bool) {
	x := e.entity(s.X, "what is despawned")
	if x == nil {
		return contract.Stmt{}, false
	}
	if e.Ending && x.Op == contract.OpSelf {
		e.Fail(s.At, "never", "this entity is about to go already", "remove the `despawn`")
		return contract.Stmt{}, false
	}
	for _, k := range x.Type.Kinds {
		if !k.Free() && e.InPart == nil {
			e.Fail(
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
			return contract.Stmt{}, false
		}
	}
	return contract.Stmt{Op: contract.OpDespawn, X: x}, true
}

// give reads `give X to CLIENT`.
//
// GivenAway and ReturnsToServer tell whoever looks for dangers which kinds may lose their owner. A
// constant as receiver can only be the server.
func (e *Scope) give(s *syntax.Give) (contract.Stmt, bool) {
	x := e.entity(s.X, "what is given")
	to := e.Value(s.To, &contract.Type{Form: contract.FormClient}, "who gets it")
	if x == nil || to == nil {
		return contract.Stmt{}, false
	}
	for _, k := range x.Type.Kinds {
		// In `on owner lost` a return to the server is the usual answer, and no danger.
		if to.Op != contract.OpConst {
			k.GivenAway = true
		} else if !e.Losing {
			k.ReturnsToServer = true
		}
		if k.Per >= 0 {
			e.Fail(
				s.X.Span(), "wrong-type", fmt.Sprintf("%s cannot be given away: each client has its own", k.Name),
				"what changes hands is shared or spawned",
			)
			return contract.Stmt{}, false
		}
	}
	return contract.Stmt{Op: contract.OpGive, X: x, Value: to}, true
}

// close reads `close "reason"`, perhaps with the session's result.
func (e *Scope) close(s *syntax.Close) (contract.Stmt, bool) {
	e.Reason(s.Reason)
	out := contract.Stmt{Op: contract.OpClose, Text: s.Reason.Value}
	if s.Result == nil {
		return out, true
	}
	if e.Contract.Result == nil {
		e.Fail(
			s.At, "no-result", "the contract does not say what a session's result is",
			"declare its type beside the roles, as in `result Outcome`",
		)
		return out, false
	}
	out.Value = e.Value(s.Result, e.Contract.Result, "the result")
	out.Type = e.Contract.Result
	return out, out.Value != nil
}

// reply reads `reply VALUE`.
func (e *Scope) reply(s *syntax.Reply) (contract.Stmt, bool) {
	if e.Request == nil || e.Request.Reply == nil {
		e.Fail(
			s.At, "no-reply", "nobody waits for a reply here",
			"a request that gives one says so: request guess(pick: int 0..4) -> bool",
		)
		return contract.Stmt{}, false
	}
	v := e.Value(s.Value, e.Request.Reply, "the reply")
	// a wrong one has been told, and is a reply all the same
	return contract.Stmt{Op: contract.OpReply, Value: v, Type: e.Request.Reply}, true
}

// log reads `log WHO "words {value}"`.
//
// The scanner has split the words at their brackets: there is one value between each two of s.Words.
func (e *Scope) log(s *syntax.Log) (contract.Stmt, bool) {
	t := contract.Stmt{Op: contract.OpLog, Who: e.Who(s.To, "is told"), Words: s.Words}
	ok := t.Who != nil
	for _, x := range s.Values {
		v := e.Expr(x, nil)
		if v != nil &&
			(v.Type.Holder() || v.Type.Form == contract.FormLine || v.Type.Form == contract.FormNothing) {
			e.Fail(
				x.Span(), "wrong-type", describe(v.Type)+" cannot stand in the words of a log", "name a part of it",
			)
			v = nil
		}
		ok = ok && v != nil
		t.Args = append(t.Args, v)
	}
	return t, ok
}

// let reads `let NAME = VALUE`, and declares the name.
//
// `let x = spawn …` is a spawn whose statement says in which register the new entity goes. After a
// mistake the name is declared without a form, so that its uses are not reported as well.
func (e *Scope) let(s *syntax.Let) (contract.Stmt, bool) {
	if sp, ok := s.Value.(*syntax.Spawn); ok {
		if e.Pure {
			e.Fail(
				sp.At, "impure", "`spawn` changes something, and a head, a function or a condition may not",
				"move it into the body",
			)
			return contract.Stmt{}, false
		}
		t, ok := e.spawn(sp)
		if !ok {
			e.Scopes[len(e.Scopes)-1][s.Name.Text] = &contract.Expr{Type: &contract.Type{}}
			return contract.Stmt{}, false
		}
		of := &contract.Type{Form: contract.FormEntity, Kinds: t.Kinds}
		for _, k := range t.Kinds {
			of.Names = append(of.Names, k.Name)
		}
		t.Num = e.Declare(s.Name, of).Num
		return t, true
	}
	v := e.Expr(s.Value, nil)
	if v == nil || v.Type.Form == "" {
		// so that its uses are not told as unknown
		e.Scopes[len(e.Scopes)-1][s.Name.Text] = &contract.Expr{Type: &contract.Type{}}
		return contract.Stmt{}, false
	}
	switch v.Type.Form {
	// A copy of a container in a property would be out of date at its next change, and writing to it
	// would change nothing. Small values and lists, which cannot be written to through a name, may be
	// named.
	case contract.FormStacks, contract.FormMap:
		e.Fail(
			s.Value.Span(), "wrong-type", "a name cannot stand for whole stacks or a whole map",
			"ask for a count: satchel.count(flare)",
		)
		return contract.Stmt{}, false
	case contract.FormNothing:
		e.Fail(s.Value.Span(), "wrong-type", "a name for nothing has no type", "use `nothing` where it is wanted")
		return contract.Stmt{}, false
	case contract.FormList:
		if v.Op == contract.OpList && len(v.Args) == 0 {
			e.Fail(s.Value.Span(), "wrong-type", "a name for an empty list has no type", "list at least one value")
			return contract.Stmt{}, false
		}
		if v.Op == contract.OpList || v.Op == contract.OpCopy || v.Op == contract.OpRoute { // it is in memory already
			// Declared as a single number, which costs one register and no memory, and then turned into
			// the list that is there.
			x := e.Declare(s.Name, &contract.Type{Form: contract.FormInt})
			*x = contract.Expr{Op: contract.OpLocal, Type: v.Type, Num: v.Num}
			return contract.Stmt{Op: contract.OpLet, Num: v.Num, Value: v}, true
		}
	}
	t := v.Type
	if t.Form == contract.FormText && t.Max == 0 {
		t = &contract.Type{Form: contract.FormText, Max: max(e.longestText(v), 1)}
	}
	return contract.Stmt{Op: contract.OpLet, Num: e.Declare(s.Name, t).Num, Value: v}, true
}

// check reads a check of a request's head, and adds it to the request's list of checks.
//
// The check's text, with its white space folded, is its name wherever decisions are shown: clients and
// records get the number alone, and look the text up in the outline.
func (e *Scope) check(s *syntax.Check) (contract.Stmt, bool) {
	cond := e.Value(s.Cond, &contract.Type{Form: contract.FormBool}, "the condition of a check")
	// With the brackets around it, which are no part of the tree.
	end := s.Cond.Span().End
	for end < s.At.End && strings.ContainsRune(" \t\n)", rune(e.Source.Text[end])) {
		end++
	}
	text := strings.Join(strings.Fields(e.Source.Text[s.At.Start+len("check"):end]), " ")
	check := contract.Check{Text: text, Then: contract.Then(s.Then), Line: e.LineOf(s.At)}
	if s.Reason != nil {
		check.Reason = s.Reason.Value
		e.Reason(s.Reason)
	}
	if check.Then == contract.ThenStrike && e.Contract.Strikes == 0 {
		e.Fail(
			s.At, "no-strikes", "this check strikes, and the contract does not say how many strikes expel",
			"add a line such as `strikes 5 in 10s` at the top",
		)
	}
	e.Request.Checks = append(e.Request.Checks, check)
	return contract.Stmt{Op: contract.OpCheck, Num: int64(len(e.Request.Checks) - 1), Value: cond}, cond != nil
}

// entity reads an expression that has to be an entity.
func (e *Scope) entity(x syntax.Expr, what string) *contract.Expr {
	v := e.Expr(x, nil)
	if v == nil || v.Type.Form == "" {
		return nil
	}
	if v.Type.Form != contract.FormEntity {
		e.Fail(x.Span(), "wrong-type", fmt.Sprintf("%s is %s", what, describe(v.Type)), "it has to be an entity")
		return nil
	}
	return v
}

// spawn reads `spawn Kind { … }`. What stands in place of the kind is a kind's name, or a local or property that
// holds one.
//
// Num of the result is −1, for no register; let sets it. Every kind that may come out is noted in
// Spawns: a kind that nobody spawns is reported elsewhere.
func (e *Scope) spawn(s *syntax.Spawn) (contract.Stmt, bool) {
	out := contract.Stmt{Op: contract.OpSpawn, Num: -1}
	if k := e.Kinds[s.Kind.Text]; k != nil {
		if !k.Free() {
			e.Fail(
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
		out.Kinds = []*contract.Kind{k}
	} else if x := e.local(s.Kind.Text); x != nil && x.Type.Form == contract.FormKind {
		e.Used[x] = true
		out.Value = x
		out.Kinds = x.Type.Kinds
	} else if p := e.property(s.Kind.Text); p != nil && p.Type.Form == contract.FormKind {
		e.Used[p.Offset] = true
		out.Value = &contract.Expr{
			Op:   contract.OpGet,
			Type: p.Type,
			Prop: p,
			Args: []*contract.Expr{e.self()},
		}
		out.Kinds = p.Type.Kinds
	} else {
		e.Fail(
			s.Kind.At, "unknown-name", fmt.Sprintf("the kind `%s` is not declared", s.Kind.Text),
			Suggest(s.Kind.Text, Names(e.Kinds), "declare it: entity "+s.Kind.Text+" { … }"),
		)
		return out, false
	}
	for _, k := range out.Kinds {
		e.Spawns[k] = true
	}
	return out, e.spawnValues(s, &out)
}

// spawnValues reads the values that a spawned entity gets, and reports properties that have neither a default nor a
// value. ok is false when something is wrong.
//
// Where the kind is a value, out.Kinds has several, and each property that is set has to be one of all
// of them. Containers begin empty when nothing is given, so they need no default.
func (e *Scope) spawnValues(s *syntax.Spawn, out *contract.Stmt) (ok bool) {
	ok = true
	given := map[string]bool{}
	for _, set := range s.Sets {
		name := set.Name.Text
		if given[name] {
			e.Fail(set.Name.At, "repeated", fmt.Sprintf("`%s` is given twice", name), "remove one of the two")
		}
		given[name] = true
		props := e.common(set.Name, out.Kinds)
		if props == nil {
			// Typed all the same, for the mistakes within and for the names that it uses.
			e.Expr(set.Value, nil)
			ok = false
			continue
		}
		p := props[out.Kinds[0].Index]
		if p.Computed {
			e.Fail(
				set.Name.At, "not-writable", fmt.Sprintf("`%s` is computed, and is given no value", name),
				"give values to what it is computed from",
			)
			ok = false
		}
		v := e.Value(set.Value, p.Type, "the value of `"+name+"`")
		ok = ok && v != nil
		if v != nil {
			// A value that is not the default counts as a change: the property is not one that stays as
			// declared.
			x := &contract.Expr{Op: contract.OpGet, Props: props}
			e.mayChange(x, x, v)
		}
		out.Sets = append(out.Sets, contract.SetValue{Props: props, Value: v})
	}
	for _, k := range out.Kinds {
		for _, p := range k.Properties {
			if !p.Given && !given[p.Name] && !p.Type.Holder() && !p.Computed {
				e.Fail(
					s.At, "not-given", fmt.Sprintf("`%s` of %s has no default and gets no value here", p.Name, k.Name),
					"give it one, as in `spawn "+k.Name+" { "+p.Name+" = … }`",
				)
				ok = false
			}
		}
	}
	return ok
}

// common finds a property that all of some kinds have, with one type, by the kinds' index. It is nil after a mistake.
//
// The result has an entry for every kind of the contract and one more, since the kind of a part that is
// being read has the index behind the last.
func (e *Scope) common(n syntax.Ident, kinds []*contract.Kind) []*contract.Property {
	out := make([]*contract.Property, len(e.Contract.Kinds)+1)
	var first *contract.Property
	for _, k := range kinds {
		p := k.Property(n.Text)
		if p == nil {
			known := PropertyNames(k)
			if len(kinds) == 1 {
				known = append(known, "owner")
			}
			e.Fail(
				n.At, "unknown-name", fmt.Sprintf("%s has no property `%s`", k.Name, n.Text),
				Suggest(n.Text, known, "it has "+strings.Join(known, ", ")),
			)
			return nil
		}
		if first == nil {
			first = p
		}
		if p.Type.String() != first.Type.String() {
			e.Fail(
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
		e.Fail(n.At, "empty", "no kind has this part", "include it: entity Eel with …")
		return nil
	}
	return out
}

// called resolves what `do` and `tell` name: NAME of self, or X.NAME.
//
// on is nil when no entity is named: it is for the caller to know whether self is meant. verb ends the
// message about an X that is no entity.
func (e *Scope) called(x syntax.Expr, what, verb string) (on *contract.Expr, name syntax.Ident, ok bool) {
	switch f := x.(type) {
	case *syntax.Ref:
		return nil, f.Ident, true
	case *syntax.Member:
		on := e.entity(f.X, "what "+verb)
		return on, f.Name, on != nil
	}
	e.Fail(
		x.Span(), "expected", "this is no "+what,
		map[string]string{"action": "as in `do surface()`", "event": "as in `tell everyone used(item)`"}[what],
	)
	return nil, syntax.Ident{}, false
}

// arguments reads the values that an action, event, function or audience is given.
//
// of and verb are for messages: what is called, and how, as in "`hit` is told with 2 values". The
// result may hold nil where ok is false.
func (e *Scope) arguments(
	at syntax.Span, args []syntax.Expr, params []contract.Param, of, verb string,
) ([]*contract.Expr, bool) {
	if len(args) != len(params) {
		e.Fail(
			at, "arguments", fmt.Sprintf("`%s` is %s with %d values", of, verb, len(args)),
			fmt.Sprintf("it is declared with %d", len(params)),
		)
		return nil, false
	}
	ok := true
	var out []*contract.Expr
	for i, a := range args {
		v := e.Value(a, params[i].Type, "`"+params[i].Name+"` of `"+of+"`")
		out = append(out, v)
		ok = ok && v != nil
	}
	return out, ok
}

// run reads `do ACTION(…)`, also `after TIME do ACTION(…)`.
//
// A call without `after` is noted in Calls, where package check looks for circles: actions may not run
// each other without end within one tick. One with `after` may, since a tick lies in between. Its
// arguments wait in the session's timers, which have no place for containers.
func (e *Scope) run(s *syntax.Run) (contract.Stmt, bool) {
	out := contract.Stmt{Op: contract.OpRun}
	if s.After != nil {
		out.Num, _, out.Value = e.Time(s.After, "how much later it runs")
	}
	on, name, ok := e.called(s.Action, "action", "an action is run on")
	if !ok {
		return out, false
	}
	if on == nil {
		if e.Kind == nil {
			e.Fail(
				name.At, "no-self", "there is no entity here whose action could be run",
				"name the entity: do c.Diver."+name.Text+"(…)",
			)
			return out, false
		}
		on = e.self()
	}
	out.X = on
	if len(on.Type.Kinds) != 1 {
		e.Fail(
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
		e.Fail(
			name.At, "unknown-name", fmt.Sprintf("%s has no action `%s`", kind.Name, name.Text),
			Suggest(name.Text, known, "declare it: action "+name.Text+"() { … }"),
		)
		return out, false
	}
	e.Used[out.Act.Offset] = true
	if e.Action != nil && s.After == nil {
		e.Calls[e.Action] = append(e.Calls[e.Action], Call{out.Act, s.At})
	}
	for i, p := range out.Act.Params {
		if s.After != nil && p.Type.Holder() {
			e.Fail(
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

// tell reads `tell WHO EVENT(…)`.
//
// An event that is named alone is looked up in self first and in the contract then. X of the statement
// is nil for an event of the contract, else the entity that it is about: only clients who see that
// entity get it.
func (e *Scope) tell(s *syntax.Tell) (contract.Stmt, bool) {
	out := contract.Stmt{Op: contract.OpTell, Who: e.Who(s.To, "is told")}
	on, name, ok := e.called(s.Event, "event", "an event is told of")
	if !ok {
		return out, false
	}
	kinds := []*contract.Kind{nil}
	if on != nil {
		kinds = on.Type.Kinds
		if len(kinds) != 1 {
			e.Fail(
				s.Event.Span(), "wrong-type", "an event is told of an entity of one kind",
				"tell an event of the contract itself",
			)
			return out, false
		}
	} else if e.Kind != nil &&
		slices.ContainsFunc(e.Kind.Events, func(ev *contract.Event) bool { return ev.Name == name.Text }) {
		on = e.self()
		kinds = []*contract.Kind{e.Kind}
	}
	out.X = on
	var known []string
	all := e.Events // the contract's own
	if kinds[0] != nil {
		all = kinds[0].Events
	}
	for _, ev := range all {
		known = append(known, ev.Name)
		if ev.Name == name.Text {
			out.Event = ev
		}
	}
	if on == nil && e.Kind != nil {
		for _, ev := range e.Kind.Events {
			known = append(known, ev.Name)
		}
	}
	if out.Event == nil {
		e.Fail(
			name.At, "unknown-name", fmt.Sprintf("the event `%s` is not declared", name.Text),
			Suggest(name.Text, known, "declare it: event "+name.Text+"(…)"),
		)
		return out, false
	}
	e.Used[out.Event.Offset] = true
	out.Args, ok = e.arguments(s.At, s.Args, out.Event.Params, name.Text, "told")
	return out, ok && out.Who != nil
}

// match reads a `match` as a chain of `if`s over a local that holds the value.
//
// There is no statement of its own for it in the model: the value is computed once, into a local whose
// name nobody can write, and compared arm by arm. The chain is built from its end, so that each `else`
// is there when its `if` needs it. The whole is wrapped in an `if` that always holds, because one
// statement has to come out and the local's scope ends with it.
func (e *Scope) match(s *syntax.Match) (contract.Stmt, bool) {
	x := e.matched(s.X)
	if x == nil {
		return contract.Stmt{}, false
	}
	e.Enter()
	defer e.leave()
	line := e.LineOf(s.At)
	held := e.Declare(syntax.Ident{Text: fmt.Sprintf("match at %d", s.At.Start), At: s.X.Span()}, x.Type)
	e.Used[held] = true
	ok := true
	seen := map[int64]bool{}
	var arms []contract.Stmt
	for _, a := range s.Arms {
		cond, fine := e.matchValues(a.Values, held, seen)
		ok = ok && fine
		arms = append(arms, contract.Stmt{
			Op:    contract.OpIf,
			Value: cond,
			Then:  e.Block(a.Body),
			Line:  line,
		})
	}
	var rest []contract.Stmt
	if s.Else != nil {
		rest = e.Block(s.Else)
	} else if all := valuesOf(x.Type); all != nil {
		missing := slices.DeleteFunc(slices.Clone(all), func(name string) bool {
			return seen[int64(slices.Index(all, name))]
		})
		if len(missing) > 0 && ok {
			e.Fail(
				s.At, "not-all", "this match has nothing for "+strings.Join(missing, ", "), "add them, or `else { }`",
			)
		}
		// The last value of all needs no question: it is what is left.
		if n := len(arms); n > 0 {
			rest = arms[n-1].Then
			arms = arms[:n-1]
		}
	}
	for _, arm := range slices.Backward(arms) {
		arm.Else = rest
		rest = []contract.Stmt{arm}
	}
	let := contract.Stmt{
		Op:    contract.OpLet,
		Num:   held.Num,
		Value: x,
		Line:  line,
	}
	always := &contract.Expr{Op: contract.OpConst, Type: &contract.Type{Form: contract.FormBool}, Num: 1}
	return contract.Stmt{Op: contract.OpIf, Value: always, Then: append([]contract.Stmt{let}, rest...)}, ok
}

// matched types what is matched, which has to be of a type that can be. It returns nil when it is not.
func (e *Scope) matched(value syntax.Expr) *contract.Expr {
	x := e.Expr(value, nil)
	if x == nil || x.Type.Form == "" {
		return nil
	}
	switch x.Type.Form {
	case contract.FormBool, contract.FormInt, contract.FormText, contract.FormEnum, contract.FormRole,
		contract.FormKind:
		return x
	}
	e.Fail(
		value.Span(), "wrong-type", describe(x.Type)+" cannot be matched",
		"a bool, an int, a text, an enum, a kind or a role can",
	)
	return nil
}

// valuesOf returns the names of all values of a type that has a list of them, in their order, and else nil.
//
// A match on a type without such a list, a bool included, need not be complete.
func valuesOf(t *contract.Type) []string {
	switch t.Form {
	case contract.FormEnum:
		return t.Enum.Values
	case contract.FormKind:
		return t.Names
	}
	return nil
}

// matchValues returns the condition that what is matched is one of the values of an arm. seen gathers the values of all
// arms; one that is there already is reported.
//
// Values of arms have to be constants. Then no two arms can hold at once, and the order of arms means
// nothing.
func (e *Scope) matchValues(
	values []syntax.Expr, held *contract.Expr, seen map[int64]bool,
) (cond *contract.Expr, ok bool) {
	ok = true
	boolean := &contract.Type{Form: contract.FormBool}
	for _, value := range values {
		v := e.Value(value, held.Type, "this value of the match")
		if v == nil {
			ok = false
			continue
		}
		if v.Op != contract.OpConst {
			e.Fail(
				value.Span(), "not-constant", "this value of the match is computed",
				"name a constant value, or use `if`",
			)
			ok = false
			continue
		}
		if seen[v.Num] {
			e.Fail(value.Span(), "repeated", "this value stands in the match already", "remove one of the two")
		}
		seen[v.Num] = true
		equal := &contract.Expr{Op: contract.OpEq, Type: boolean, Args: []*contract.Expr{held, v}}
		if cond == nil {
			cond = equal
		} else {
			cond = &contract.Expr{Op: contract.OpOr, Type: boolean, Args: []*contract.Expr{cond, equal}}
		}
	}
	return cond, ok
}

// target reads what is assigned to: a property, or a part of one that is a record, a vector, a list or a map. Its type
// is the one that it is held in.
//
// Reading would widen steps to reals; a target has to stay what is stored, so every way out of here
// goes through counted.
func (e *Scope) target(x syntax.Expr) *contract.Expr {
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
	return counted(e.Expr(x, nil))
}

// targetPart returns what a part is written of, when x is a record or vector in a property.
//
// It returns nil without a word when x is something else, and takes back what was reported on the way:
// the caller reads x again as an ordinary expression.
func (e *Scope) targetPart(x syntax.Expr) *contract.Expr {
	switch x := x.(type) {
	case *syntax.Ref:
		p := e.property(x.Text)
		if p == nil || e.local(x.Text) != nil || p.Type.Form != contract.FormRecord && p.Type.Reals() < 2 {
			return nil
		}
	case *syntax.Member, *syntax.Index:
		if i, ok := x.(*syntax.Index); ok && e.targetList(i.X) == nil {
			return nil
		}
		problems := len(e.Problems)
		t := e.target(x)
		if t == nil || t.Type.Form != contract.FormRecord && t.Type.Reals() < 2 {
			e.Problems = e.Problems[:problems] // it is read again, and told then
			return nil
		}
		return t
	default:
		return nil
	}
	return counted(e.Expr(x, nil))
}

// targetList reads a list, map or stacks that a statement changes. It returns nil, and tells no mistake, when x is
// none.
func (e *Scope) targetList(x syntax.Expr) *contract.Expr {
	problems := len(e.Problems)
	v := e.Expr(x, nil)
	if v == nil || !v.Type.Holder() {
		e.Problems = e.Problems[:problems]
		return nil
	}
	return v
}

// assignRole reads `client.role = value`.
func (e *Scope) assignRole(s *syntax.Assign, client *contract.Expr) (contract.Stmt, bool) {
	v := e.Value(s.Value, &contract.Type{Form: contract.FormRole}, "the new role")
	if s.Op != "=" {
		e.Fail(s.At, "wrong-type", "a role cannot be counted up or down", "assign with `=`")
		return contract.Stmt{}, false
	}
	if l := e.Contract.Logic; l != nil && v != nil && v.Op == contract.OpConst && int(v.Num) == l.Role {
		e.Fail(
			s.At, "logic-role", "no body makes a client the logic process",
			"it joins by a ticket of its own that names the role",
		)
		return contract.Stmt{}, false
	}
	// Where no body does this, a drill may take the role that a client joined with for the one that it has.
	e.Contract.RolesChange = true
	return contract.Stmt{Op: contract.OpSetRole, X: client, Value: v}, v != nil
}

// assign reads `target = value`, `target += value` and `target -= value`.
//
// With `=` the target counts as written, not as read: a property that is only ever assigned to is
// reported as unused. With `+=` its old value is read.
func (e *Scope) assign(s *syntax.Assign) (contract.Stmt, bool) {
	if s.Op == "=" {
		e.written = s.Target
	}
	if r, ok := s.Target.(*syntax.Member); ok && r.Name.Text == "role" {
		if on := e.Expr(r.X, nil); on != nil && on.Type.Form == contract.FormClient {
			return e.assignRole(s, on)
		}
	}
	if r, isRef := s.Target.(*syntax.Ref); isRef && e.local(r.Text) != nil {
		return e.assignLocal(s, r, e.local(r.Text))
	}
	target := e.target(s.Target)
	if target == nil {
		// The value's own mistakes are told in the same run.
		e.Expr(s.Value, nil)
		return contract.Stmt{}, false
	}
	root := target.Root()
	if root.Op == contract.OpComputed {
		e.Fail(
			s.Target.Span(), "not-writable",
			fmt.Sprintf("`%s` is computed, and cannot be assigned to", root.Property().Name),
			"change what it is computed from",
		)
		return contract.Stmt{}, false
	}
	if root.Op != contract.OpGet {
		e.Fail(
			s.Target.Span(), "not-writable", "this cannot be assigned to",
			"a property can: `hull = 100` or `caller.Diver.hull = 100`",
		)
		return contract.Stmt{}, false
	}
	p := root.Property()
	for _, each := range root.PropertiesOf() { // one of several kinds may forbid what the others allow
		if !e.assignable(s.Target.Span(), each, target.Type.Form) {
			return contract.Stmt{}, false
		}
	}
	if s.Op == "=" {
		v := e.Value(s.Value, target.Type, "the new value of `"+p.Name+"`")
		e.mayChange(root, target, v)
		return contract.Stmt{Op: contract.OpSet, X: target, Value: v}, v != nil
	}
	e.mayChange(root, target, nil)
	return e.countUp(s, target, p)
}

// variable reads `var name = value`: a name that may be assigned to.
func (e *Scope) variable(s *syntax.Var) (contract.Stmt, bool) {
	v := e.Expr(s.Value, nil)
	ok := e.NeedsLanguage2(s.At, "a name that changes") && v != nil && v.Type.Form != ""
	if ok && (v.Type.Holder() || v.Type.Form == contract.FormNothing || v.Type.Form == contract.FormLine) {
		e.Fail(
			s.Value.Span(), "wrong-type", "a name that changes cannot stand for "+describe(v.Type),
			"single values and records can change; a list is changed where it is: in a property",
		)
		ok = false
	}
	if !ok {
		// so that its uses are not told as unknown
		e.Scopes[len(e.Scopes)-1][s.Name.Text] = &contract.Expr{Type: &contract.Type{}}
		return contract.Stmt{}, false
	}
	t := v.Type
	switch t.Form {
	case contract.FormInt, contract.FormTime, contract.FormReal, contract.FormText:
		t = looseType(t) // what it begins with is no bound
	}
	x := e.Declare(s.Name, t)
	if e.Varying == nil {
		e.Varying = map[*contract.Expr]bool{}
	}
	e.Varying[x] = true
	return contract.Stmt{Op: contract.OpVar, Num: x.Num, Value: v}, true
}

// assignLocal reads `name = value`, `name += value` or `name -= value` of a name that may change.
func (e *Scope) assignLocal(s *syntax.Assign, r *syntax.Ref, local *contract.Expr) (contract.Stmt, bool) {
	if local.Type.Form == "" { // its mistake has been told
		e.Expr(s.Value, nil)
		return contract.Stmt{}, false
	}
	if !e.Varying[local] {
		e.Fail(
			r.At, "not-writable", fmt.Sprintf("`%s` cannot be assigned to", r.Text),
			"a property can, and a name that is made with `var`",
		)
		e.Expr(s.Value, nil)
		return contract.Stmt{}, false
	}
	t := local.Type
	v := e.Value(s.Value, t, "the new value of `"+r.Text+"`")
	if v == nil {
		return contract.Stmt{}, false
	}
	if s.Op != "=" {
		if !t.Whole() && (t.Reals() == 0 || t.Form == contract.FormRotation) {
			e.Fail(
				s.At, "wrong-type", fmt.Sprintf("`%s` is of the type %s and cannot be counted up or down", r.Text, t),
				"assign with `=`",
			)
			return contract.Stmt{}, false
		}
		e.Used[local] = true
		op := contract.OpAdd
		if s.Op == "-=" {
			op = contract.OpSub
		}
		v = &contract.Expr{Op: op, Type: t, Args: []*contract.Expr{local, v}}
	}
	return contract.Stmt{Op: contract.OpAssign, Num: local.Num, Value: v}, true
}

// countUp reads `target += value` or `target -= value`, of a property p or a part of it.
//
// The sum is calculated without the bounds of the property's type, and checked against them when it is
// stored: what is out of range then is a fault of the body, not a wrapped number. Rotations have no
// sum.
func (e *Scope) countUp(s *syntax.Assign, target *contract.Expr, p *contract.Property) (contract.Stmt, bool) {
	op := contract.OpAdd
	if s.Op == "-=" {
		op = contract.OpSub
	}
	what := "the new value of `" + p.Name + "`"
	switch t := target.Type; {
	case t.Reals() > 0 && t.Form != contract.FormRotation:
		loose := &contract.Type{Form: t.Form}
		v := e.Value(s.Value, loose, what)
		if v == nil {
			return contract.Stmt{}, false
		}
		sum := &contract.Expr{Op: op, Type: loose, Args: []*contract.Expr{Widened(target), v}}
		return contract.Stmt{
			Op:    contract.OpSet,
			X:     target,
			Value: &contract.Expr{Op: contract.OpSteps, Type: t, Args: []*contract.Expr{sum}},
		}, true
	case t.Whole():
		whole := looseType(t)
		v := e.Value(s.Value, whole, what)
		sum := &contract.Expr{Op: op, Type: whole, Args: []*contract.Expr{target, v}}
		return contract.Stmt{Op: contract.OpSet, X: target, Value: sum}, v != nil
	}
	e.Fail(
		s.At, "wrong-type", fmt.Sprintf("`%s` is of the type %s and cannot be counted up or down", p.Name, target.Type),
		"assign with `=`",
	)
	return contract.Stmt{}, false
}

// assignable reports whether a statement may assign to a property, or to a part of it with the form, and says so when
// it may not.
func (e *Scope) assignable(at syntax.Span, p *contract.Property, form contract.Form) bool {
	switch {
	case p.Once && !e.Spawning:
		e.Fail(
			at, "not-writable", fmt.Sprintf("`%s` is sent once, with the spawn, and cannot change later", p.Name),
			"only `spawn` and `on spawn` may set it; or remove `once`",
		)
	case p.Hold != nil:
		e.Fail(
			at, "not-writable", fmt.Sprintf("`%s` is held by its owner", p.Name), "its `when` and its lease end it",
		)
	case form == contract.FormStacks:
		e.Fail(
			at, "not-writable", fmt.Sprintf("the stacks `%s` cannot be assigned as a whole", p.Name),
			fmt.Sprintf("use %s.put(item, count) and %s.take(item, count)", p.Name, p.Name),
		)
	case form == contract.FormMap:
		e.Fail(
			at, "not-writable", fmt.Sprintf("the map `%s` cannot be assigned as a whole", p.Name),
			fmt.Sprintf("use %s[key] = value and %s.clear()", p.Name, p.Name),
		)
	default:
		return true
	}
	return false
}

// mayChange notes that a property may come to differ from its default, unless it is the default that it is given.
//
// root is the access to the property, target what is written of it, and v the new value, nil when it is
// not known. A property that is noted nowhere stays as it is declared: the leak analysis takes it for
// known to all, and a finding says that nothing sets it.
func (e *Scope) mayChange(root, target, v *contract.Expr) {
	for _, p := range root.PropertiesOf() {
		if v != nil && target == root {
			if slots, constant := e.Slots(v); constant && slices.Equal(slots, p.Default) {
				continue
			}
		}
		e.Changes[p.Offset] = true
	}
}

// mayShrink notes that something may be taken out of a list, map or stacks that do not begin empty.
//
// What begins empty, and is never put into, stays empty whatever is taken out of it.
func (e *Scope) mayShrink(on *contract.Expr) {
	for _, p := range on.Root().PropertiesOf() {
		if !p.Type.Holder() || p.Default[0] > 0 { // a record's list may begin with something
			e.Changes[p.Offset] = true
		}
	}
}

// property returns a property of self, or nil.
func (e *Scope) property(name string) *contract.Property {
	if e.Kind == nil {
		return nil
	}
	return e.Kind.Property(name)
}

// do reads a call as a statement. Only a method that changes a list, map or stacks does something: any other value is
// computed and thrown away, which is a mistake.
//
// The parser makes such a statement of calls only, and leaves no other kind of expression to stand
// alone.
func (e *Scope) do(s *syntax.Do) (contract.Stmt, bool) {
	call, ok := s.X.(*syntax.Call)
	if !ok {
		return contract.Stmt{}, false
	}
	if m, ok := call.Fn.(*syntax.Member); ok {
		if t, changes, ok := e.method(call, m); !ok {
			return contract.Stmt{}, false
		} else if changes {
			return t, true
		}
	} else if e.Expr(call, nil) == nil {
		return contract.Stmt{}, false
	}
	e.Fail(s.At, "no-effect", "this value is computed and then thrown away", "use it in a condition or assign it")
	return contract.Stmt{}, false
}

// Who reads the clients that something is told to, that may ask, or that get a value. It returns nil, and reports why,
// when a term names nobody.
//
// The terms stay in their order, since `but` takes away from what stands before it. A name is looked up
// as a word of the language first, then as a role, then as an audience, and else as an expression of
// clients; a local hides a role or audience of its name.
//
// what completes "nobody who …" in messages.
func (e *Scope) Who(a *syntax.Audience, what string) []contract.Who {
	var out []contract.Who
	for _, t := range a.Terms {
		w := contract.Who{But: t.But}
		r, isRef := t.Who.(*syntax.Ref)
		call, isCall := t.Who.(*syntax.Call)
		var fn *syntax.Ref
		if isCall {
			fn, _ = call.Fn.(*syntax.Ref)
		}
		switch {
		case isRef && r.Text == "everyone":
			w.Sort = contract.ToEveryone
		case isRef && r.Text == "nobody":
			w.Sort = contract.ToNobody
		case isRef && r.Text == "owner" && e.Kind != nil:
			w.Sort = contract.ToOwner
		case isRef && r.Text == "caller" && e.Request != nil:
			w.Sort = contract.ToCaller
		case isRef && e.local(r.Text) == nil && slices.Contains(e.Contract.Roles, r.Text):
			w.Sort = contract.ToRole
			w.Role = slices.Index(e.Contract.Roles, r.Text)
			e.Used[RoleUse(r.Text)] = true
		case fn != nil && e.Audiences[fn.Text] != nil:
			w.Sort = contract.ToNamed
			w.Aud = e.Audiences[fn.Text]
			e.Used[w.Aud] = true
			var ok bool
			w.Args, ok = e.arguments(call.At, call.Args, w.Aud.Params, fn.Text, "asked")
			if !ok {
				return nil
			}
		case isRef && e.Audiences[r.Text] != nil && e.local(r.Text) == nil:
			e.Fail(
				r.At, "arguments", fmt.Sprintf("the audience `%s` is named without its arguments", r.Text),
				"as in `"+r.Text+"(self)`",
			)
			return nil
		case fn != nil && e.Fns[fn.Text] == nil && !e.IsBuiltin(fn.Text) && !Aggregates[fn.Text]:
			known := append(Names(e.Audiences), e.Contract.Roles...)
			e.Fail(
				fn.At, "unknown-name", fmt.Sprintf("the audience `%s` is not declared", fn.Text),
				Suggest(fn.Text, known, "declare it: audience "+fn.Text+"(…) = …"),
			)
			return nil
		default:
			w.Sort = contract.ToClient
			w.X = e.clients(t.Who, what)
			if w.X == nil {
				return nil
			}
		}
		out = append(out, w)
	}
	return out
}

// clients types a term that has to be a client or a list of clients.
//
// A name that means nothing is reported here rather than by Expr, which would suggest properties and
// locals: what is wanted is somebody.
func (e *Scope) clients(term syntax.Expr, what string) *contract.Expr {
	problems := len(e.Problems)
	x := e.Expr(term, nil)
	if x == nil {
		_, isRef := term.(*syntax.Ref)
		if name := e.Source.Text[term.Span().Start:term.Span().End]; isRef && !syntax.Reserved(name) {
			e.Problems = e.Problems[:problems]
			known := append(append([]string{"everyone", "owner"}, e.Contract.Roles...), Names(e.Audiences)...)
			e.Fail(
				term.Span(), "unknown-name", fmt.Sprintf("`%s` names nobody who %s", name, what),
				Suggest(name, known, "everyone, owner, a role, an audience or a client"),
			)
		}
		return nil
	}
	list := x.Type.Form == contract.FormList && x.Type.Of.Form == contract.FormClient
	if x.Type.Form != contract.FormClient && !list {
		e.Fail(
			term.Span(), "wrong-type", fmt.Sprintf("%s is nobody who %s", describe(x.Type), what),
			"everyone, owner, caller, a role, an audience, a client or a list of clients",
		)
		return nil
	}
	return x
}

// local returns what a name stands for that a body has declared, the innermost first, or nil.
func (e *Scope) local(name string) *contract.Expr {
	for i := len(e.Scopes) - 1; i >= 0; i-- {
		if x := e.Scopes[i][name]; x != nil {
			return x
		}
	}
	return nil
}
