package flow

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// Reveal is a place where a contract says that clients may learn something.
type Reveal struct {
	In   string   `json:"in"`   // the request, handler or timer, such as "Strongbox.guess"
	Text string   `json:"text"` // what stands in `reveal(…)`
	Line int      `json:"line"`
	Of   []string `json:"of"` // the properties and kinds that it tells of, that not everyone may know
	To   string   `json:"to"` // who may learn it
}

// String returns a reveal as a contract writes it.
func (r Reveal) String() string {
	if r.To == "everyone" {
		return r.Text
	}
	return r.Text + " to " + r.To
}

// block reads statements one after the other.
//
// It stops at a statement that always fails: what follows never runs.
func (f *flow) block(stmts []contract.Stmt) {
	facts := len(f.facts)
	for i := range stmts {
		if f.dead {
			break
		}
		before := f.at
		if stmts[i].At.End > 0 {
			f.at = stmts[i].At
		}
		f.stmt(&stmts[i])
		f.at = before
	}
	f.facts = f.facts[:facts]
}

// stmt reads one statement: it notes what becomes known to whom, what the cause does and of what it may fail.
func (f *flow) stmt(s *contract.Stmt) {
	switch s.Op {
	case contract.OpLet:
		f.let(s)
	case contract.OpVar:
		f.locals[s.Num] = val{label: f.observed(s.Value, f.value(s.Value)), varies: true}
	case contract.OpAssign:
		f.assign(s)
	case contract.OpSet:
		f.set(s)
	case contract.OpPut, contract.OpTake, contract.OpCut, contract.OpClear, contract.OpMove, contract.OpSplit,
		contract.OpPutAt, contract.OpTakeAt, contract.OpMoveAt:
		f.change(s)
	case contract.OpSort:
		f.sort(s)
	case contract.OpIf:
		f.branch(s)
	case contract.OpFor:
		f.loop(s)
	case contract.OpTell, contract.OpLog:
		f.tell(s)
	case contract.OpRun:
		f.run(s)
	case contract.OpSpawn:
		f.spawn(s)
	case contract.OpDespawn:
		e := f.value(s.X)
		if !certain(s.X) {
			f.there(e.sym, f.observed(s.X, e))
		}
		for _, k := range s.X.Type.Kinds {
			f.cause.Despawns[k] = true
			f.varies(k, f.observed(s.X, e))
			f.sink(f.observed(s.X, e), f.toKind(k, e.sym, "the end of"))
		}
		f.forget(nil)
	case contract.OpGive:
		f.giveAway(s)
	case contract.OpReturn:
		f.exit = f.exit.with(f.pc)
	case contract.OpReply:
		v := f.value(s.Value)
		f.handed(v, s.Value, s.Type)
		f.sink(f.observed(s.Value, v), f.toCaller("the reply, which goes to the caller"))
		f.exit = f.exit.with(f.pc)
	case contract.OpDeny:
		f.decision(f.pc.with(f.exit), "this denial")
	case contract.OpSetRole:
		f.setRole(s)
	case contract.OpExpel:
		f.cause.Others["expels"] = true
		f.sink(f.value(s.X).label, dest{crowds: everyone, what: "who is expelled, which everyone sees"})
	case contract.OpSend:
		f.send(s)
	case contract.OpClose: // its result goes to who runs the session
		f.cause.Others["ends the session"] = true
		f.sink(nil, dest{crowds: everyone, what: "the end of the session, which everyone sees"})
	}
}

// setRole reads a statement that gives a client another role.
func (f *flow) setRole(s *contract.Stmt) {
	f.cause.Others["gives a role"] = true
	f.sink(
		f.value(s.X).label.with(f.value(s.Value).label),
		dest{crowds: everyone, what: "the client's role, which everyone knows"},
	)
}

// send reads a statement that sends a client elsewhere. That it goes, everyone sees; and what it takes along, another
// contract may show to anybody.
func (f *flow) send(s *contract.Stmt) {
	f.cause.Others["sends a client elsewhere"] = true
	l := f.value(s.X).label
	if s.Value != nil {
		l = l.with(f.value(s.Value).label)
	}
	f.sink(l, dest{crowds: everyone, what: "who is sent where, which everyone sees"})
	for i, a := range s.Args {
		v := f.value(a)
		f.handed(v, a, s.Exit.Params[i].Type)
		what := fmt.Sprintf("`%s`, which the contract %s may show to anybody", s.Exit.Params[i].Name, s.Exit.To)
		f.sink(f.observed(a, v), dest{crowds: everyone, what: what})
	}
}

// let keeps what a name stands for. A query that found nothing without an `else` has failed, so that what it found is
// there.
//
// A name for an entity or client means the same one for the rest of the body, whatever is written
// meanwhile.
func (f *flow) let(s *contract.Stmt) {
	v := f.value(s.Value)
	query := s.Value
	for query.Op == contract.OpReveal {
		query = query.Args[0]
	}
	switch form := s.Value.Type.Form; {
	case form == contract.FormEntity && query.Op == contract.OpQuery:
		if query.Query.Else == nil && query.Query.Kinds != nil { // else it has failed
			f.learn(thereIs(v.sym))
		}
	case form == contract.FormEntity, form == contract.FormClient:
		v.sym = f.symOf(s.Value)
	}
	if s.Value.Type.Holder() {
		f.lists[s.Num] = v
	} else {
		f.locals[s.Num] = v
	}
}

// assign follows an assignment to a name that may change. The name keeps what it told before: a later statement may
// read either value, as the branch is taken or not, and a round of a loop reads what the one before it left.
func (f *flow) assign(s *contract.Stmt) {
	v := f.value(s.Value)
	x := f.locals[s.Num]
	x.label = x.label.with(f.observed(s.Value, v)).with(f.pc).with(f.exit)
	f.locals[s.Num] = x
	f.forgetLocal(s.Num)
}

// assigned returns the names that statements assign to, and how much they tell, which only grows from one reading to
// the next.
func (f *flow) assigned(stmts []contract.Stmt) (names []int64, told int) {
	for i := range stmts {
		contract.EachInside(&stmts[i], func(s *contract.Stmt) {
			if s.Op == contract.OpAssign {
				names = append(names, s.Num)
				told += len(f.locals[s.Num].label)
			}
		})
	}
	return names, told
}

// branch follows an `if`: both branches, unless its condition is decided, each under what the condition tells of.
//
// A body that ends in one branch has its rest decided by the condition, which exit keeps.
func (f *flow) branch(s *contract.Stmt) {
	l := f.observed(s.Value, f.value(s.Value))
	facts := len(f.facts)
	decided := f.decided(s.Value)
	for _, a := range l {
		f.cause.asked[a.id] = f.at
	}
	if f.dead {
		return
	}
	f.under(l, func() {
		dead := true // in each branch that may be taken
		if decided >= 0 {
			f.assume(s.Value, true)
			f.block(s.Then)
			f.facts = f.facts[:facts]
			dead, f.dead = f.dead, false
		}
		if decided <= 0 {
			f.assume(s.Value, false)
			f.block(s.Else)
			f.facts = f.facts[:facts]
			dead = dead && f.dead
		}
		f.dead = dead
	})
}

// giveAway follows a `give`, which ends what the entity's owner holds.
//
// It fails when the entity or the client is not there any more.
func (f *flow) giveAway(s *contract.Stmt) {
	e := f.value(s.X)
	to := f.value(s.Value)
	if !certain(s.X) {
		f.there(e.sym, f.observed(s.X, e))
	}
	if !f.isThere(s.Value, to) {
		f.mayFail(to.label, mendGone)
	}
	for _, k := range s.X.Type.Kinds {
		f.cause.GivesAway[k] = true
		f.sink(f.observed(s.X, e).with(to.label), f.toKind(k, e.sym, "the owner of"))
		for _, p := range k.Properties {
			if p.Hold != nil { // it ends
				f.sink(f.observed(s.X, e).with(to.label), f.toProperty(k, p, e.sym))
				f.changed(k, p, e.sym)
			}
		}
	}
}

// isThere reports whether a client surely is in the session, or is the server: who asks, who owns something, and whom
// something before this place has asked for.
func (f *flow) isThere(x *contract.Expr, v val) bool {
	return x.Op == contract.OpCaller || x.Op == contract.OpOwner || x.Op == contract.OpConst && x.Num == 0 ||
		f.known(thereIs(v.sym))
}

// target returns the entity and the property that are written, and what the place within the property tells.
//
// Which place is written shows to whoever sees the property, so the index or key counts like the value. isThere is
// set for what is changed where it is: it has to be there, while an assignment may put a key in.
func (f *flow) target(x *contract.Expr, isThere bool) (get *contract.Expr, place label) {
	for whole := x; x.Container() != nil; x = x.Container() {
		if x.Op == contract.OpAt {
			key := f.value(x.Args[1])
			if (isThere || x != whole) && !f.fits(x, key) { // a part is written only of what is there
				f.mayFail(f.value(x.Args[0]).label.with(f.observed(x.Args[1], key)), mendMissing)
			}
			place = place.with(f.observed(x.Args[1], key))
			if of := x.Args[0].Type; of.Form == contract.FormMap && x == whole && !isThere { // it may be put in
				f.handed(key, x.Args[1], of.Key)
			}
		}
	}
	return x, place
}

// written checks what is written to a property against the audience of it, and notes that it changes.
func (f *flow) written(get *contract.Expr, l label) {
	e := f.value(get.Args[0])
	l = l.with(f.observed(get.Args[0], e))
	if !certain(get.Args[0]) {
		f.there(e.sym, f.observed(get.Args[0], e))
	}
	for _, k := range get.Args[0].Type.Kinds {
		p := get.Prop
		if get.Props != nil {
			p = get.Props[k.Index]
		}
		if p != nil {
			f.sink(l, f.toProperty(k, p, e.sym))
			f.changed(k, p, e.sym)
		}
	}
}

// set reads an assignment.
func (f *flow) set(s *contract.Stmt) {
	get, place := f.target(s.X, false)
	v := f.value(s.Value)
	p := get.HeldProperty()
	if p == nil {
		return
	}
	if !clamped(get) {
		f.handedTo(v, s.Value, s.X.Type, mendClamped)
	}
	if s.X.Op == contract.OpAt && !f.hasRoomFor(s.X) {
		on := s.X.Args[0]
		f.mayFail(
			f.value(on).label.with(place),
			map[bool]string{true: mendRoom, false: mendMissing}[on.Type.Form == contract.FormMap],
		)
	}
	l := v.label
	if s.Value.Type.Form != contract.FormEntity {
		l = f.observed(s.Value, v)
	}
	f.written(get, l.with(place))
}

// clamped reports whether a property is `clamped`, in each of the kinds that the entity may be of.
func clamped(get *contract.Expr) bool {
	return !slices.ContainsFunc(get.PropertiesOf(), func(p *contract.Property) bool { return !p.TakesAll() })
}

// hasRoomFor reports whether writing an item of a list or map cannot fail.
func (f *flow) hasRoomFor(x *contract.Expr) bool {
	holder := f.same(x.Args[0])
	if x.Args[0].Type.Form == contract.FormMap {
		return f.known(subject{sort: factRoom, of: holder}) ||
			f.known(subject{factHas, holder, f.same(x.Args[1])})
	}
	return f.inList(x.Args[0], x.Args[1], f.quietly(x.Args[1]))
}

// change reads what puts something into stacks, a list or a map, or takes it out.
//
// Whether it fails depends on what is held, and so tells of it, unless that was asked before (safe).
func (f *flow) change(s *contract.Stmt) {
	defer func() { f.took = operand{} }()
	get, place := f.target(s.X, true)
	l := place
	for i, a := range s.Args {
		v := f.value(a)
		switch t := s.X.Type; {
		case i == countOf(s):
			if !v.ranged || v.low < 0 {
				f.mayFail(v.label, "keep the count at 0 or above: clip(…)")
			}
		case i == 0 && isAtSlot(s.Op):
			f.slot(t, v)
		case i == 1 && s.Op == contract.OpMoveAt:
			f.slot(s.To.Type, v)
		case t.Form == contract.FormList && s.Op == contract.OpPut && i == 1:
			if a.Op != contract.OpConst || a.Num != 0 {
				if !f.inList(s.X, a, v) {
					f.mayFail(v.label.with(f.value(s.X).label), mendMissing)
				}
			}
		case t.Form == contract.FormList && s.Op != contract.OpCut:
			f.handed(v, a, t.Of)
		}
		if a.Type.Form == contract.FormEntity {
			l = l.with(v.label)
		} else {
			l = l.with(f.observed(a, v))
		}
	}
	held := f.heldIn(get)
	isPut := s.Op == contract.OpPut || s.Op == contract.OpPutAt
	if !f.safe(s.Op, s.X, s.Args) && !shifts(s) {
		f.mayFail(held.with(l), map[bool]string{true: mendRoom, false: mendTaken}[isPut])
	}
	if s.To != nil { // what is moved tells the other of what was here
		to, otherPlace := f.target(s.To, true)
		l = l.with(otherPlace)
		other := f.value(to.Args[0])
		if !shifts(s) && (isAtSlot(s.Op) || !f.safe(contract.OpPut, s.To, s.Args)) {
			for _, k := range to.Args[0].Type.Kinds {
				if to.Prop != nil {
					f.mayFail(f.property(k, to.Prop, other.sym).with(l), mendRoom)
				}
			}
		}
		there := f.heldIn(to)
		if s.Op != contract.OpMoveAt { // what goes is named, and not whatever is in a slot
			held, there = nil, nil
		}
		f.written(to, l.with(held))
		l = l.with(there) // in exchange, and no more than fits
	}
	f.written(get, l)
}

// heldIn returns what is to be told of the property that is read, in any of the kinds that its entity may be of.
func (f *flow) heldIn(get *contract.Expr) (held label) {
	e := f.value(get.Args[0])
	for _, k := range get.Args[0].Type.Kinds {
		p := get.Prop
		if get.Props != nil {
			p = get.Props[k.Index]
		}
		if p != nil {
			held = held.with(f.property(k, p, e.sym))
		}
	}
	return held
}

// countOf returns which argument of a statement says how many items of stacks there are to be; -1 for none.
func countOf(s *contract.Stmt) int {
	switch {
	case s.X.Type.Form != contract.FormStacks:
		return -1
	case s.Op == contract.OpPutAt || s.Op == contract.OpMoveAt:
		return 2
	}
	return 1
}

// isAtSlot reports whether a statement names a slot of stacks.
func isAtSlot(op contract.Op) bool {
	return op == contract.OpPutAt || op == contract.OpTakeAt || op == contract.OpMoveAt
}

// shifts reports whether a statement moves what is in a slot as far as it fits, or exchanges it: both slots take the
// same, so that it cannot fail.
func shifts(s *contract.Stmt) bool {
	return s.Op == contract.OpMoveAt && len(s.Args) == 2 && s.X.Type.Each == s.To.Type.Each
}

// slot reads the number of a slot of stacks, which may be one that they do not have.
func (f *flow) slot(t *contract.Type, v val) {
	if !v.ranged || v.low < 0 || v.high >= float64(t.Max) {
		f.mayFail(v.label, "keep the slot within those that there are: clip(…)")
	}
}

// sort reads what puts a list in order. Its order tells what decided it from then on.
func (f *flow) sort(s *contract.Stmt) {
	facts := len(f.facts)
	l := f.over(s.Query)
	f.under(l, func() { l = l.with(f.observed(s.Value, f.value(s.Value))) })
	f.facts = f.facts[:facts]
	get, place := f.target(s.X, true)
	f.written(get, l.with(place))
}

// safe reports whether a change of stacks, a list or a map cannot fail: its room was asked for, or what it takes.
func (f *flow) safe(op contract.Op, on *contract.Expr, args []*contract.Expr) bool {
	holder := f.same(on)
	var item operand
	if len(args) > 0 && (on.Type.Form == contract.FormStacks || op == contract.OpTake || op == contract.OpMove) {
		item = f.same(args[0])
	}
	var count *contract.Expr // how many; nil for one
	if on.Type.Form == contract.FormStacks && len(args) > 1 {
		count = args[1]
	}
	asked := func(sort factSort) bool {
		of := subject{sort, holder, item}
		if count == nil {
			return f.known(of)
		}
		return f.enough(of, count)
	}
	switch op {
	case contract.OpClear:
		return true
	case contract.OpCut:
		return f.inList(on, args[0], f.quietly(args[0]))
	case contract.OpPut:
		if (count != nil || on.Type.Form == contract.FormList) && f.takes(on.Type, holder, count) {
			return true
		}
		if asked(factRoom) {
			return true
		}
		// A free stack takes as much of an item as one holds.
		fits := count == nil || count.Op == contract.OpConst && count.Num <= on.Type.Each
		if on.Type.Form == contract.FormStacks && fits &&
			f.known(subject{sort: factRoom, of: holder}) {
			return true
		}
		// put(item, clip(n, 0..room(item)))
		if count != nil && count.Op == contract.OpClip {
			low := count.Args[1]
			high := count.Args[2]
			return low.Op == contract.OpConst && low.Num >= 0 && high.Op == contract.OpRoom &&
				f.same(high.Args[0]) == holder &&
				f.same(high.Args[1]) == item
		}
	case contract.OpPutAt:
		n := args[2]
		return f.takesAt(on.Type, holder, args) || n.Op == contract.OpConst && n.Num >= 0 && n.Num <= on.Type.Each &&
			f.known(subject{factEmpty, holder, f.same(args[0])})
	case contract.OpTakeAt:
		return f.enough(subject{factAt, holder, f.same(args[0])}, args[1])
	case contract.OpTake, contract.OpMove:
		return asked(factHas)
	}
	return false
}

// loop reads a loop. Its body is read twice when the first reading found something that a later round depends on.
//
// How often it goes round tells of what it goes over, which over returns and every statement of the
// body is under.
func (f *flow) loop(s *contract.Stmt) {
	facts := f.facts
	f.facts = nil // a later round may have made them wrong
	exit := len(f.exit)
	given := len(f.cause.GivesAway)
	changes := len(f.cause.Changes)
	names, told := f.assigned(s.Then)
	round := func() {
		var l label
		before := len(f.facts)
		l = f.over(s.Query)
		if w := s.Query.Where; w == nil || f.decided(w) >= 0 {
			f.under(l, func() { f.block(s.Then) })
		}
		f.dead = false // there may have been no round
		f.facts = f.facts[:before]
	}
	f.loops++
	round()
	f.loops--
	// What a round does may decide about the next one; the outermost loop is read once more.
	if f.loops == 0 && (len(f.exit) != exit || len(f.cause.GivesAway) != given || len(f.cause.Changes) != changes) {
		f.loops++
		round()
		f.loops--
	}
	// What a name tells comes to the next one in the next round, and so on.
	for range names {
		before := told
		_, told = f.assigned(s.Then)
		if f.loops > 0 || told == before {
			break
		}
		f.loops++
		round()
		f.loops--
	}
	f.facts = facts
	for _, name := range names {
		f.forgetLocal(name)
	}
	for p := range f.cause.Changes {
		f.forget(p)
	}
}

// tell reads a statement that sends an event or a log line.
//
// Who gets it has to be allowed to know what it says, and everyone who might have got it what decided
// that.
func (f *flow) tell(s *contract.Stmt) {
	to := f.crowd(s.Who)
	words := f.contract.WhoText(s.Who)
	what := "a log line to " + words
	if s.Op == contract.OpTell {
		what = fmt.Sprintf("the event `%s`, told to %s", s.Event.FullName(), words)
		if !slices.ContainsFunc(
			f.cause.Events[s.Event], func(who []contract.Who) bool { return f.contract.WhoText(who) == words },
		) {
			f.cause.Events[s.Event] = append(f.cause.Events[s.Event], s.Who)
		}
	}
	d := dest{crowds: []crowd{to}, what: what}
	var l label
	for i, a := range s.Args {
		v := f.value(a)
		if s.Op == contract.OpTell {
			f.handed(v, a, s.Event.Params[i].Type)
			l = l.with(v.label) // a ref that somebody may not know of reaches it as nothing
		} else {
			l = l.with(f.observed(a, v))
		}
	}
	if s.X != nil {
		l = l.with(f.value(s.X).label)
		if !certain(s.X) {
			f.mayFail(f.observed(s.X, f.value(s.X)), mendGone)
		}
	}
	f.sink(l, d)
	f.names(s.Who, dest{crowds: everyone, what: "who gets " + what})
}

// names checks what decides who gets something against those who learn of it by getting it or not.
func (f *flow) names(who []contract.Who, d dest) {
	var l label
	for _, w := range who {
		if w.X != nil && !f.ownOwner(w.X) {
			v := f.value(w.X)
			l = l.with(v.label)
		}
		for i, a := range w.Args {
			if v := f.value(a); w.Aud != nil && w.Aud.AsksArgument(i) {
				l = l.with(v.label)
				if !certain(a) {
					l = l.with(f.observed(a, v))
				}
			}
		}
	}
	if a := f.leaks(l, d); a != nil {
		f.report(
			"leak", f.decl, f.at, fmt.Sprintf("%s %s, and shows in %s", a.of, a.to, d.what),
			"if everyone may learn it, say so: reveal(…)",
		)
	}
}

// ownOwner reports whether an expression is the owner of something that is at hand: who owns it, its owner knows.
func (f *flow) ownOwner(x *contract.Expr) bool {
	return x.Op == contract.OpOwner &&
		(certain(x.Args[0]) || x.Args[0].Op == contract.OpLocal && len(f.value(x.Args[0]).label) == 0)
}

// run reads the body of an action where it is run.
//
// An action sees nothing of the body that runs it but its arguments and what decided that it runs.
func (f *flow) run(s *contract.Stmt) {
	on := f.value(s.X)
	if !certain(s.X) {
		f.there(on.sym, f.observed(s.X, on))
	}
	// The action is followed as a body of its own, in the same cause: what it does, the request that runs it does.
	inner := *f
	inner.kind = s.Act.Kind
	inner.self = on.sym
	inner.mine = false
	inner.decl = s.Act.Offset
	inner.facts = nil
	inner.loops = 0
	if s.X.Op == contract.OpSelf {
		inner.mine = f.mine
	}
	inner.locals = map[int64]val{}
	inner.lists = map[int64]val{}
	inner.free = nil
	inner.begun = nil
	inner.pc = f.pc.with(f.exit).with(f.observed(s.X, on))
	if s.Value != nil { // when it runs shows in all that it does
		inner.pc = inner.pc.with(f.value(s.Value).label)
	}
	inner.exit = nil
	// With `after`, it runs in a transaction of its own: its failure undoes nothing here, but that it runs depends on
	// what decided about this statement.
	if s.Later() {
		inner.later = true
		inner.entry = inner.pc
	}
	key := fmt.Sprint("do ", s.Act.Index, " ", on.sym)
	for i, a := range s.Args {
		v := f.value(a)
		if a.Type.Form == contract.FormEntity || a.Type.Form == contract.FormClient {
			v.sym = f.symOf(a)
		}
		f.handed(v, a, s.Act.Params[i].Type)
		v = f.typed(v, s.Act.Params[i].Type)
		inner.give(s.Act.Params, i, v)
		key += " " + v.sym + "/" + v.label.key()
	}
	// An action that is run again with values that tell the same finds nothing new.
	key += fmt.Sprint("|", inner.later, inner.pc.key())
	defer f.forget(nil)
	if !s.Later() {
		f.free = nil // what is run may have put something in
	}
	if f.cause.actions[key] || s.Act.Body == nil {
		return
	}
	f.cause.actions[key] = true
	f.cause.steps++
	if f.cause.steps > maxFlow {
		f.report(
			"leak", f.decl, f.at, fmt.Sprintf("`%s` is run in too many ways here to be followed", s.Act.Name),
			"let fewer actions run each other",
		)
		return
	}
	inner.block(s.Act.Body.Stmts)
}

// spawn reads a spawn statement. Whoever may see the new entity learns what decided that it is spawned and what its
// properties are set to.
func (f *flow) spawn(s *contract.Stmt) {
	new := f.fresh("new")
	var l label
	if s.Value != nil {
		l = f.value(s.Value).label
	}
	if len(s.Kinds) == 1 {
		new += ":" + s.Kinds[0].Name
	}
	for _, k := range s.Kinds {
		f.cause.Spawns[k] = true
		f.varies(k, l)
		f.sink(l, f.toKind(k, new, "the spawning of"))
	}
	for _, set := range s.Sets {
		v := f.value(set.Value)
		for _, k := range s.Kinds {
			p := set.Props[k.Index]
			if p == nil {
				continue
			}
			f.cause.Makes[p] = true
			if !p.TakesAll() {
				f.handedTo(v, set.Value, p.Type, mendClamped)
			}
			vl := v.label
			// A ref to something that a client may not know of reaches it as nothing; any other value tells of all that
			// it was made from.
			if set.Value.Type.Form != contract.FormEntity {
				vl = f.observed(set.Value, v)
			}
			f.sink(vl.with(l), f.toProperty(k, p, new))
		}
	}
	for _, k := range s.Kinds {
		f.computesNew(k, new)
	}
	f.forget(nil)
	f.free = nil // so may what runs on the spawn
	if s.Num >= 0 {
		f.locals[s.Num] = val{sym: new}
		f.learn(thereIs(new))
	}
}

// Leaks follows information through the whole contract, and reports where it comes to those who may not have it.
func Leaks(c *contract.Contract, report Report) { analyse(c, report) }

// analyse is Leaks, and returns the analysis.
func analyse(c *contract.Contract, report Report) *flows {
	// That an entity is there tells nothing when its kind comes and goes by the clock and by what everyone knows. This
	// is taken to be so of all kinds, until something is found that speaks against it.
	plain := map[*contract.Kind]bool{}
	for _, k := range c.Kinds {
		plain[k] = k.Free()
	}
	// Each round takes back what the one before has found to be wrong; there are at most as many as kinds. Only what
	// the last one reports is so.
	for {
		var said []func()
		l := follow(c, plain, func(finding string, decl int, at syntax.Span, what, hint string) {
			said = append(said, func() { report(finding, decl, at, what, hint) })
		})
		if len(l.varying) == 0 {
			for _, say := range said {
				say()
			}
			return l
		}
		for k := range l.varying {
			plain[k] = false
		}
	}
}

// Causes returns what each request, handler and timer of a contract does.
func Causes(c *contract.Contract) []*Cause {
	return analyse(c, func(string, int, syntax.Span, string, string) {}).causes
}

// varies notes that what a label tells of, and what decides whether this happens, decides how many there are of a kind.
// What a client asks for is nobody else's business.
func (f *flow) varies(k *contract.Kind, l label) {
	if f.plain[k] && (f.cause.Request != nil || len(l)+len(f.pc)+len(f.exit) > 0) {
		f.varying[k] = true
	}
}

// follow is analyse, with the kinds that are taken to be plain.
func follow(c *contract.Contract, plain map[*contract.Kind]bool, report Report) *flows {
	l := &flows{
		contract: c,
		report:   report,
		plain:    plain,
		varying:  map[*contract.Kind]bool{},
		atoms:    map[string]*atom{},
		given:    map[*contract.Property]bool{},
		idle:     map[*contract.Expr]fault{},
		telling:  map[*contract.Expr]bool{},
	}
	for _, a := range l.deciding() {
		l.named(a)
	}
	for _, k := range c.Kinds {
		l.kind(k)
	}
	// Joining is a cause even without a handler: it spawns what each client has one of.
	for _, h := range c.Handlers() {
		if h.Body != nil || h.Name == "on join" {
			l.contractHandler(h.Name, h.Body)
		}
	}
	l.failures()
	// A reveal in an action or function is met in several causes; one in which it reveals something is enough.
	for x, where := range l.idle {
		if !l.telling[x] {
			l.report(
				"unused", where.decl, where.at,
				fmt.Sprintf("`reveal(%s)` reveals nothing: everyone who learns it here has it anyway", x.Name),
				"remove the `reveal`; or say who gets what it reads: `to nobody`",
			)
		}
	}
	return l
}

// deciding returns the audiences that decide who gets something, and notes which properties some spawn gives a value.
func (l *flows) deciding() (out []*contract.Named) {
	decides := map[*contract.Named]bool{}
	note := func(who []contract.Who) {
		for _, w := range who {
			decides[w.Aud] = true
		}
	}
	for _, k := range l.contract.Kinds {
		note(k.Who)
		for _, p := range k.Properties {
			note(p.Who)
		}
	}
	for _, p := range l.contract.Pieces() {
		contract.EachStmt(p.Stmts, func(s *contract.Stmt) {
			note(s.Who)
			for _, set := range s.Sets {
				for _, p := range set.Props {
					l.given[p] = true
				}
			}
		})
	}
	for _, a := range l.contract.Audiences {
		if decides[a] {
			out = append(out, a)
		}
	}
	return out
}

// contractHandler reads a handler of the contract itself. What each client has one of comes with its joining, also when
// the contract does nothing then: body is nil.
func (l *flows) contractHandler(name string, body *contract.Body) {
	c := l.newCause(name, 0, nil)
	f := l.newFlow(c, nil, 0)
	if name == "on join" {
		for _, k := range l.contract.Kinds {
			if k.Per < 0 {
				continue
			}
			c.Spawns[k] = true
			if k.OnSpawn == nil {
				f.begins(k, entityOf(k, "client"))
			}
			c.dests = append(c.dests, f.toKind(k, f.fresh("new"), "the spawning of"))
		}
	}
	if body != nil {
		c.line = body.Line
		f.decl = body.At.Start
		f.locals[0] = val{sym: "client"}
		f.block(body.Stmts)
	}
}

// named asks of an audience what being in it tells its viewer.
func (l *flows) named(a *contract.Named) {
	if a.OnlyNearness() || a.Cond == nil || a.Cond.Value == nil {
		return
	}
	f := l.newFlow(l.newCause(a.Name, a.Cond.Line, nil), nil, a.At.Start)
	f.viewer = "viewer"
	f.at = a.Cond.At
	at := int64(0)
	for _, p := range a.Params {
		if !p.Type.Holder() {
			v := val{sym: fmt.Sprintf("arg%d", at)}
			if k := p.Type.Kind(); k != nil {
				v.sym += ":" + k.Name
			}
			f.locals[at] = f.typed(v, p.Type)
			at += int64(p.Type.Width())
		}
	}
	v := f.value(a.Cond.Value)
	// Whoever gets something by an audience, or does not, learns whether the condition holds for it.
	told := dest{crowds: []crowd{{{sort: contract.ToClient, sym: "viewer", role: -1}}}}
	var own []sym
	for _, p := range a.Params {
		if p.Type.Holder() {
			break
		}
		own = append(own, f.locals[int64(len(own))].sym)
		own = append(own, make([]sym, p.Type.Width()-1)...)
	}
	for _, x := range append(slices.Clone(f.cause.faults), fault{label: v.label}) {
		// Who is not in the audience of a kind knows of no entity that it is not in the audience of. One property that
		// does not come says that its value is another one.
		l := slices.DeleteFunc(slices.Clone(x.label), func(x *atom) bool { return x.whole && x.goesTo(a, own) })
		if at := f.leaks(l, told); at != nil {
			f.report(
				"leak", f.decl, f.at,
				fmt.Sprintf(
					"whether somebody is in `%s` depends on %s, which %s: who is in it learns of it, and who is not",
					a.Name, at.of, at.to,
				),
				"if they may learn it, say so: reveal(…); else ask what the viewer can see",
			)
			break
		}
	}
	f.cause.faults = nil
}

// goesTo reports whether what an atom is of goes to an audience itself, asked of some entities.
func (x *atom) goesTo(a *contract.Named, of []sym) bool {
	return slices.ContainsFunc(x.crowd, func(t term) bool {
		if t.but || t.aud != a || len(t.args) < len(of) {
			return false
		}
		for i, s := range of {
			if t.args[i] != s && t.args[i] != "" {
				return false
			}
		}
		return true
	})
}

// kind reads all that a kind declares: audiences, clauses, requests, handlers and timers.
func (l *flows) kind(k *contract.Kind) {
	decl := k.At.Start
	l.terms(k, k.Who, decl, k.At, "`"+k.Name+"`")
	for _, p := range k.Properties {
		l.terms(k, p.Who, p.Offset, p.NameAt, "`"+k.Name+"."+p.Name+"`")
		l.clauses(k, p)
	}
	for _, r := range k.Requests {
		if r.Reachable() {
			l.request(r)
		}
	}
	// A handler of an entity runs because the entity is there.
	there := func(f *flow) label { return f.existence([]*contract.Kind{k}, f.self) }
	l.handler(k, k.OnStart, "on start of "+k.Name, there)
	if c := l.handler(k, k.OnSpawn, "on spawn of "+k.Name, there); c != nil {
		c.Spawning = true
	}
	if c := l.handler(k, k.OnDespawn, "on despawn of "+k.Name, there); c != nil {
		c.Ending = k.Free() // what each client has one of ends in a cause of its own
	}
	l.handler(k, k.OnTick, "on tick of "+k.Name, there)
	l.handler(k, k.OnOwnerLost, "on owner lost of "+k.Name, there)
	l.handler(k, k.OnOwnerLeave, "on owner leave of "+k.Name, there)
	for i, b := range k.OnChange {
		p := k.Properties[i]
		c := l.handler(k, b, "on change "+p.Name+" of "+k.Name, func(f *flow) label { return f.property(k, p, f.self) })
		if c != nil {
			c.Watch = p
		}
	}
	for _, t := range k.Timers {
		l.timer(k, t, there)
	}
}

// handler follows the body of a handler, as a cause of its own. pc is what learning that it ran tells of. It returns
// nil for a handler that the kind does not have.
func (l *flows) handler(k *contract.Kind, b *contract.Body, name string, pc func(f *flow) label) *Cause {
	if b == nil {
		return nil
	}
	c := l.newCause(name, b.Line, k)
	f := l.newFlow(c, k, b.At.Start)
	f.pc = pc(f)
	c.runs = fault{
		label: f.pc,
		at:    b.At,
		decl:  b.At.Start,
		mend:  "let no handler set off another eight times in a row",
	}
	if b == k.OnSpawn || b == k.OnStart && l.starts() == 1 {
		f.begins(k, f.self)
	}
	f.block(b.Stmts)
	return c
}

// timer follows the body of a timer, as a cause of its own, unless its condition can never hold.
func (l *flows) timer(k *contract.Kind, t *contract.Timer, there func(f *flow) label) {
	name := map[bool]string{true: "after", false: "every"}[t.After]
	time := ""
	if t.Wait == nil {
		time = l.timeText(t.Ticks)
	} else {
		time = l.contract.Source.Text[t.Wait.At.Start:t.Wait.At.End]
	}
	c := l.newCause(fmt.Sprintf("%s %s of %s", name, time, k.Name), t.Body.Line, k)
	f := l.newFlow(c, k, t.At.Start)
	f.pc = there(f)
	if t.Wait != nil {
		f.at = t.Wait.At
		f.pc = f.pc.with(f.withFaults(t.Wait.Value).label)
	}
	if t.While != nil {
		f.at = t.While.At
		f.pc = f.pc.with(f.value(t.While.Value).label)
		if f.dead || f.decided(t.While.Value) < 0 {
			return
		}
		f.assume(t.While.Value, true)
	}
	f.block(t.Body.Stmts)
}

// starts counts the handlers that run at the start of a session. When there are more, one may find what another has
// written.
func (l *flows) starts() (n int) {
	for _, k := range l.contract.Kinds {
		if k.OnStart != nil {
			n++
		}
	}
	return n
}

// timeText returns a time as a contract writes it.
func (l *flows) timeText(ticks int64) string {
	ms := ticks * 1000 / int64(l.contract.TickRate)
	if ms%1000 == 0 {
		return fmt.Sprintf("%ds", ms/1000)
	}
	return fmt.Sprintf("%dms", ms)
}

// terms asks of the audience of a kind or property what getting it tells.
func (l *flows) terms(k *contract.Kind, who []contract.Who, decl int, at syntax.Span, what string) {
	f := l.newFlow(&Cause{fns: map[string]val{}}, k, decl)
	f.at = at
	f.names(who, dest{crowds: everyone, what: "who gets " + what})
}

// clauses reads what a property's clauses compute.
func (l *flows) clauses(k *contract.Kind, p *contract.Property) {
	if p.Computed {
		l.computedValue(k, p)
	}
	if p.Follows != nil {
		l.motion(k, p)
	}
	if p.Hold != nil {
		l.hold(k, p)
	}
	if p.Set != nil {
		l.write(k, p)
	}
}

// clause begins a cause that stands in a property's declaration.
func (l *flows) clause(name string, k *contract.Kind, p *contract.Property) *flow {
	f := l.newFlow(l.newCause(name+" "+k.Name+"."+p.Name, l.lineOf(p.NameAt), k), k, p.Offset)
	f.at = p.NameAt
	f.changed(k, p, f.self)
	return f
}

// motion is what a property follows: a rate, or another entity's property.
//
// Whoever gets the property could compute what it follows.
func (l *flows) motion(k *contract.Kind, p *contract.Property) {
	g := p.Follows
	f := l.clause("the motion of", k, p)
	what := f.toProperty(k, p, f.self)
	if g.Rate != nil {
		f.sink(f.property(k, g.Rate, f.self), what)
		return
	}
	holder := f.self + "." + g.Holder.Name
	all := f.property(k, g.Holder, f.self).with(f.existence(g.Holder.Type.Kinds, holder))
	for _, of := range g.Holder.Type.Kinds {
		all = all.with(f.property(of, g.To[of.Index], holder))
	}
	f.sink(all, what)
}

// hold is a property that its owner presses.
func (l *flows) hold(k *contract.Kind, p *contract.Property) {
	f := l.clause("the hold", k, p)
	w := p.Hold.When
	if w == nil {
		return
	}
	f.at = w.At
	v := f.withFaults(w.Value)
	f.sink(v.label, f.toProperty(k, p, f.self))
	if a := f.leaks(v.label, dest{crowds: []crowd{f.crowd([]contract.Who{{Sort: contract.ToOwner}})}}); a != nil {
		f.report(
			"leak", f.decl, f.at,
			fmt.Sprintf(
				"the `when` of `%s` depends on %s, which %s: its owner learns of it by pressing", p.Name, a.of, a.to,
			),
			"if they may learn it, say so: reveal(…); else ask what the owner can see",
		)
	}
}

// withFaults is the value of an expression, with what is learnt when it fails.
func (f *flow) withFaults(x *contract.Expr) val {
	v := f.value(x)
	for _, fault := range f.cause.faults {
		v.label = v.label.with(fault.label)
	}
	f.cause.faults = nil
	return v
}

// write is a property that a client sets.
//
// The rule reads the old value and the new one; the new one is the writer's own and tells nothing.
func (l *flows) write(k *contract.Kind, p *contract.Property) {
	f := l.clause("the write of", k, p)
	// Who may write is told to whoever tries.
	v := f.value(p.Set.By.Value)
	if a := f.leaks(v.label, f.toKind(k, f.self, "")); a != nil {
		f.report(
			"leak", f.decl, f.at,
			fmt.Sprintf("who sets `%s` depends on %s, which %s: whoever tries learns of it", p.Name, a.of, a.to),
			"if everyone may learn it, say so: reveal(…)",
		)
	}
	writer := crowd{{sort: contract.ToClient, sym: f.symOf(p.Set.By.Value), role: f.roleOf(p.Set.By.Value)}}
	if g := p.Follows; g != nil && g.Holder != nil {
		carried := f.property(k, g.Holder, f.self).with(f.existence(g.Holder.Type.Kinds, f.self+"."+g.Holder.Name))
		if a := f.leaks(carried, dest{crowds: []crowd{writer}}); a != nil {
			f.report(
				"leak", f.decl, f.at,
				fmt.Sprintf(
					"writes of `%s` are denied while it is carried, and that depends on %s, which %s",
					p.Name, a.of, a.to,
				),
				"show `"+g.Holder.Name+"` to whoever sets it",
			)
		}
	}
	old := f.property(k, p, f.self)
	for i, b := range []*contract.Body{p.Set.Pace, p.Set.Rule, p.Set.RateBy} {
		if b == nil {
			continue
		}
		f.at = b.At
		f.locals[0] = f.typed(val{label: old}, p.Type)
		f.locals[int64(p.Type.Width())] = f.typed(val{}, p.Type)
		if a := f.leaks(f.withFaults(b.Value).label, dest{crowds: []crowd{writer}}); a != nil {
			f.report(
				"leak", f.decl, f.at,
				fmt.Sprintf(
					"the %s of `%s` depends on %s, which %s: who sets it learns of it by trying",
					[]string{"pace", "rule", "pace"}[i], p.Name, a.of, a.to,
				),
				"if they may learn it, say so: reveal(…); else ask what the writer can see",
			)
		}
	}
	f.cause.decider = &dest{crowds: []crowd{writer}}
	f.cause.dests = append(f.cause.dests, f.toProperty(k, p, f.self))
}

// atRequest stands at the head of a request: its arguments are known, and who may ask is decided.
func (l *flows) atRequest(r *contract.Request) *flow {
	c := l.newCause(r.FullName(), r.Line, r.Kind)
	c.Request = r
	f := l.newFlow(c, r.Kind, r.At.Start)
	f.at = r.NameAt
	at := int64(0)
	mem := int64(0)
	for i, p := range r.Params {
		v := val{sym: fmt.Sprintf("argument%d", i)}
		if k := p.Type.Kind(); k != nil {
			v.sym += ":" + k.Name
		}
		if p.Type.Holder() {
			f.lists[mem] = v
			mem += int64(p.Type.Width())
			continue
		}
		f.locals[at] = f.typed(v, p.Type)
		at += int64(p.Type.Width())
	}
	// Whether somebody may ask is told to whoever asks.
	f.viewer = "caller"
	for i := range r.From {
		f.decision(f.mayAsk(&r.From[i]), "who may ask")
	}
	f.viewer = ""
	f.caller = r.CallerRole()
	f.mine = len(r.From) == 1 && r.From[0].Sort == contract.ToOwner
	if f.mine && r.Kind.Per >= 0 {
		f.caller = r.Kind.Per
		f.self = entityOf(r.Kind, "caller")
	}
	decider := f.toCaller("")
	c.decider = &decider
	return f
}

// mayAsk returns what the decision whether a client is meant by a term of `from` tells of.
func (f *flow) mayAsk(w *contract.Who) label {
	var l label
	if w.X != nil {
		l = f.value(w.X).label
		if f.ownOwner(w.X) {
			l = nil
		}
	}
	if w.Aud == nil {
		return l
	}
	inner := *f
	inner.kind = nil
	inner.self = ""
	inner.locals = map[int64]val{}
	inner.lists = map[int64]val{}
	for i, a := range w.Args {
		v := f.value(a)
		v.sym = f.symOf(a)
		inner.give(w.Aud.Params, i, v)
		if w.Aud.AsksArgument(i) {
			l = l.with(f.observed(a, v))
		}
	}
	if w.Aud.Cond == nil || w.Aud.Cond.Value == nil || w.Aud.OnlyNearness() {
		return l
	}
	var asked []sym
	for i, a := range w.Args {
		asked = append(asked, f.symOf(a))
		asked = append(asked, make([]sym, w.Aud.Params[i].Type.Width()-1)...)
	}
	// Who may not ask learns no more than by not getting what goes to the audience, which is told of there.
	cond := inner.value(w.Aud.Cond.Value).label
	return l.with(slices.DeleteFunc(slices.Clone(cond), func(x *atom) bool { return x.goesTo(w.Aud, asked) }))
}

// request reads a request: first its checks, each of which holds for all that follows it, then its body.
func (l *flows) request(r *contract.Request) {
	f := l.atRequest(r)
	if r.Pause != nil && r.Pause.Wait != nil {
		f.at = r.Pause.Wait.At
		f.decision(f.withFaults(r.Pause.Wait.Value).label, "this pause")
	}
	for i := range r.Head {
		s := &r.Head[i]
		f.at = s.At
		if s.Op == contract.OpLet {
			f.stmt(s)
			continue
		}
		v := f.value(s.Value)
		f.decision(f.observed(s.Value, v), "this check")
		if f.decided(s.Value) < 0 {
			return // it never gets farther
		}
		if f.dead {
			return
		}
		f.assume(s.Value, true)
	}
	for i := range r.Body {
		if f.dead {
			return
		}
		f.at = r.Body[i].At
		f.stmt(&r.Body[i])
	}
}

// failures checks what a cause may fail of against all that would be undone with it: what it does, what the handlers do
// that it sets off, and what is decided.
func (l *flows) failures() {
	h := l.handlers()
	for _, c := range l.causes {
		if c.Watch != nil && l.settles(c, h) {
			continue
		}
		if (c.Watch != nil || c.Spawning || c.Ending) && len(c.runs.label) > 0 {
			if _, again := h.setOffBy(c); again {
				c.faults = append(c.faults, c.runs) // it may come to a ninth round, which fails
			}
		}
	}
	for _, c := range l.causes {
		if c.Watch != nil || c.Spawning || c.Ending {
			continue // they are part of what sets them off
		}
		all, _ := h.setOffBy(c)
		slices.SortFunc(all[1:], func(a, b *Cause) int { return strings.Compare(a.Name, b.Name) })
		for _, failing := range all {
			for _, x := range failing.faults {
				l.failure(x, failing, c, all)
				if c.decider == nil { // nobody is told of it, but how many there are of a kind may tell
					l.varyAll(all)
				}
			}
		}
	}
}

// varyAll notes that how many there are of each kind that some causes spawn or despawn depends on what not everyone
// knows.
func (l *flows) varyAll(causes []*Cause) {
	for _, c := range causes {
		for _, kinds := range []map[*contract.Kind]bool{c.Spawns, c.Despawns} {
			for k := range kinds {
				if l.plain[k] {
					l.varying[k] = true
				}
			}
		}
	}
}

// handlers are the causes that others set off.
type handlers struct {
	watchers map[*contract.Property][]*Cause // by what they wait for the change of
	spawners map[*contract.Kind][]*Cause     // by the kind that they are the `on spawn` of
	enders   map[*contract.Kind][]*Cause     // by the kind that they are the `on despawn` of
}

// handlers returns the causes that others set off.
func (l *flows) handlers() handlers {
	h := handlers{
		watchers: map[*contract.Property][]*Cause{},
		spawners: map[*contract.Kind][]*Cause{},
		enders:   map[*contract.Kind][]*Cause{},
	}
	for _, c := range l.causes {
		if c.Watch != nil {
			h.watchers[c.Watch] = append(h.watchers[c.Watch], c)
		}
		if c.Spawning {
			h.spawners[c.Kind] = append(h.spawners[c.Kind], c)
		}
		if c.Ending {
			h.enders[c.Kind] = append(h.enders[c.Kind], c)
		}
	}
	return h
}

// setOffBy returns a cause with the handlers that it may set off, and those that they may set off. again says that the
// cause may set itself off, or so many others that the rounds may not suffice.
func (h handlers) setOffBy(c *Cause) (all []*Cause, again bool) {
	all = []*Cause{c}
	add := func(list []*Cause) {
		for _, w := range list {
			again = again || w == c
			if !slices.Contains(all, w) {
				all = append(all, w)
			}
		}
	}
	for i := 0; i < len(all); i++ {
		for p := range all[i].Changes {
			add(h.watchers[p])
		}
		for p := range all[i].Makes { // what a spawn gives differs from the default
			add(h.watchers[p])
		}
		for k := range all[i].Spawns {
			add(h.spawners[k])
		}
		for k := range all[i].Despawns {
			add(h.enders[k])
		}
	}
	return all, again || len(all) > 8
}

// settles reports whether a handler that sets what it waits for does so to the same value again and again.
func (l *flows) settles(c *Cause, h handlers) bool {
	for p := range c.Changes {
		for _, w := range h.watchers[p] {
			if w != c {
				return false
			}
		}
	}
	sets := true
	times := 0
	contract.EachStmt(c.Kind.OnChange[c.Watch.Index].Stmts, func(s *contract.Stmt) {
		if s.X == nil || !s.Writes() {
			sets = sets && s.Op != contract.OpSpawn
			return
		}
		root := s.X.Root()
		if root.Prop != c.Watch && root.Props == nil {
			return
		}
		times++
		if root == s.X && s.Op == contract.OpSet && l.soon(c, s) {
			return
		}
		of := root.Args[0]
		self := of.Op == contract.OpSelf || of.Op == contract.OpShared && of.Kind == c.Kind
		sets = sets && root == s.X && self && s.Op == contract.OpSet && !l.dependsOnRound(c, s.Value)
	})
	return sets && times < 2
}

// dependsOnRound reports whether an expression may have another value in the next round of a cause.
func (l *flows) dependsOnRound(c *Cause, x *contract.Expr) bool {
	return contract.Mentions(x, func(x *contract.Expr) bool {
		return x.Op == contract.OpRoll || x.Op == contract.OpCopy || x.Op == contract.OpLocal ||
			(x.Op == contract.OpGet || x.Op == contract.OpComputed) && x.Prop != nil && c.Changes[x.Prop]
	})
}

// soon reports whether a statement counts its property up or down by so much that it comes to the end of its range in a
// few rounds.
func (l *flows) soon(c *Cause, s *contract.Stmt) bool {
	self := s.X.Args[0].Op == contract.OpSelf || s.X.Args[0].Op == contract.OpShared && s.X.Args[0].Kind == c.Kind
	p := s.X.Prop
	if !self || p == nil || !p.Clamped || p.Type.Form != contract.FormInt ||
		s.Value.Op != contract.OpAdd && s.Value.Op != contract.OpSub ||
		s.Value.Args[0].Op != contract.OpGet || s.Value.Args[0].Prop != p {
		return false
	}
	by := s.Value.Args[1]
	if contract.Mentions(by, func(x *contract.Expr) bool { return x.Op == contract.OpLocal }) {
		return false
	}
	v := silentFlows(l.contract).newFlow(
		&Cause{fns: map[string]val{}, Changes: map[*contract.Property]bool{}}, c.Kind, 0,
	).value(
		by,
	)
	step := min(math.Abs(v.low), math.Abs(v.high))
	return v.ranged &&
		(v.low == 0 && v.high == 0 || (v.low > 0 || v.high < 0) && (float64(p.Type.High)-float64(p.Type.Low))/step <= 6)
}

// failure reports what a failure tells those who may not know what it depends on. x is of what the cause failing may
// fail; failing is c itself or set off by c. A failure undoes what all of these causes did: all is c and whatever it
// sets off.
func (l *flows) failure(x fault, failing, c *Cause, all []*Cause) {
	// may reports whether those in a crowd may know what an atom is of, seen from another body: self is another one
	// there.
	may := func(a *atom, in *Cause, to crowd) bool {
		if in == failing {
			return l.knows(a, to)
		}
		other := &atom{crowd: elsewhere(a.crowd)}
		for _, c := range a.also {
			other.also = append(other.also, elsewhere(c))
		}
		return l.knows(other, to)
	}
	report := func(a *atom, what string) {
		l.report(
			"leak", x.decl, x.at,
			fmt.Sprintf("whether this fails depends on %s, which %s; a failure undoes %s", a.of, a.to, what), x.mend,
		)
	}
	for _, a := range x.label {
		if c.decider != nil && !x.later {
			if !slices.ContainsFunc(c.decider.crowds, func(to crowd) bool { return may(a, c, to) }) {
				report(a, "what `"+c.Name+"` did, and its caller is told")
				return
			}
			continue
		}
		for _, in := range all {
			for _, d := range in.dests {
				// What an action does later is undone by a fault now, since it never runs; not the other way round.
				if (in != failing || d.later || !x.later) &&
					!slices.ContainsFunc(d.crowds, func(to crowd) bool { return may(a, in, to) }) {
					report(a, d.what)
					return
				}
			}
		}
	}
}

// elsewhere returns a crowd as it is seen from another body.
func elsewhere(c crowd) crowd {
	out := slices.Clone(c)
	for i, t := range out {
		if t.sort == contract.ToClient {
			out[i].sym = "elsewhere " + t.sym
		}
		if len(t.args) > 0 {
			out[i].args = []sym{"elsewhere"}
		}
	}
	return out
}
