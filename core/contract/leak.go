package contract

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"kamerad/core/syntax"
)

// Reveal is a place where a contract says that clients may learn something.
type Reveal struct {
	In   string   `json:"in"`   // the request, handler or timer, such as "Strongbox.guess"
	Text string   `json:"text"` // what stands in `reveal(…)`
	Line int      `json:"line"`
	Of   []string `json:"of"` // the properties and kinds that it tells of, that not everyone may know
	To   string   `json:"to"` // who may learn it
}

// String words a reveal as a contract does.
func (r Reveal) String() string {
	if r.To == "everyone" {
		return r.Text
	}
	return r.Text + " to " + r.To
}

// block reads statements one after the other.
func (f *flow) block(stmts []Stmt) {
	facts := len(f.facts)
	for i := range stmts {
		if f.dead {
			break
		}
		before := f.at
		if stmts[i].at.End > 0 {
			f.at = stmts[i].at
		}
		f.stmt(&stmts[i])
		f.at = before
	}
	f.facts = f.facts[:facts]
}

func (f *flow) stmt(s *Stmt) {
	switch s.Op {
	case OpLet:
		v := f.value(s.Value)
		query := s.Value
		for query.Op == OpReveal {
			query = query.Args[0]
		}
		switch form := s.Value.Type.Form; {
		case form == FormEntity && query.Op == OpQuery:
			if query.Query.Else == nil && query.Query.Kinds != nil { // else it has failed
				f.learn("some " + v.sym)
			}
		case form == FormEntity, form == FormClient:
			v.sym = f.symOf(s.Value)
		}
		if s.Value.Type.Holder() {
			f.lists[s.Num] = v
		} else {
			f.locals[s.Num] = v
		}
	case OpSet:
		f.set(s)
	case OpPut, OpTake, OpCut, OpClear, OpMove, OpSplit:
		f.change(s)
	case OpIf:
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
	case OpFor:
		f.loop(s)
	case OpTell, OpLog:
		f.tell(s)
	case OpRun:
		f.run(s)
	case OpSpawn:
		f.spawn(s)
	case OpDespawn:
		e := f.value(s.X)
		for _, k := range s.X.Type.Kinds {
			f.cause.gone[k] = true
			f.varies(k, f.observed(s.X, e))
			f.sink(f.observed(s.X, e), f.toKind(k, e.sym, "the end of"))
		}
		f.forget(nil)
	case OpGive:
		e := f.value(s.X)
		to := f.value(s.Value)
		for _, k := range s.X.Type.Kinds {
			f.cause.given[k] = true
			f.sink(f.observed(s.X, e).with(to.label), f.toKind(k, e.sym, "the owner of"))
			for _, p := range k.Properties {
				if p.Hold != nil { // it ends
					f.sink(f.observed(s.X, e).with(to.label), f.toProperty(k, p, e.sym))
					f.cause.changes[p] = true
					f.forget(p)
				}
			}
		}
	case OpReturn:
		f.exit = f.exit.with(f.pc)
	case OpReply:
		v := f.value(s.Value)
		f.handed(v, s.Value, s.Type)
		f.sink(f.observed(s.Value, v), f.toCaller("the reply, which goes to the caller"))
		f.exit = f.exit.with(f.pc)
	case OpDeny:
		f.decision(f.pc.with(f.exit), "this denial")
	case OpSetRole:
		f.cause.others["gives a role"] = true
		f.sink(
			f.value(s.X).label.with(f.value(s.Value).label),
			dest{crowds: everyone, what: "the client's role, which everyone knows"},
		)
	case OpExpel:
		f.cause.others["expels"] = true
		f.sink(f.value(s.X).label, dest{crowds: everyone, what: "who is expelled, which everyone sees"})
	case OpClose:
		f.cause.others["ends the session"] = true
		f.sink(nil, dest{crowds: everyone, what: "the end of the session, which everyone sees"})
	}
}

// target gives the entity and the property that are written, and what the place within the property tells.
func (f *flow) target(x *Expr) (get *Expr, place label) {
	for ; x.within() != nil; x = x.within() {
		if x.Op == OpAt {
			key := f.value(x.Args[1])
			place = place.with(f.observed(x.Args[1], key))
		}
	}
	return x, place
}

// written holds what is written to a property against the audience of it, and notes that it changes.
func (f *flow) written(get *Expr, l label) {
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
			f.cause.changes[p] = true
			f.forget(p)
		}
	}
}

// held gives the property of some kind that an OpGet reads, for its clauses.
func (x *Expr) held() *Property {
	if x.Op != OpGet {
		return nil
	}
	return x.property()
}

func (f *flow) set(s *Stmt) {
	get, place := f.target(s.X)
	v := f.value(s.Value)
	p := get.held()
	if p == nil {
		return
	}
	if !p.Clamped {
		f.handedTo(v, s.Value, s.X.Type, mendClamped)
	}
	if s.X.Op == OpAt && !f.hasRoomFor(s.X) {
		on := s.X.Args[0]
		f.mayFail(
			f.value(on).label.with(place), map[bool]string{true: mendRoom, false: mendMissing}[on.Type.Form == FormMap],
		)
	}
	l := v.label
	if s.Value.Type.Form != FormEntity {
		l = f.observed(s.Value, v)
	}
	f.written(get, l.with(place))
}

// hasRoomFor tells whether writing an item of a list or map cannot fail.
func (f *flow) hasRoomFor(x *Expr) bool {
	holder := f.same(x.Args[0])
	if x.Args[0].Type.Form == FormMap {
		return f.known("room "+holder) || f.known("has "+holder+" "+f.same(x.Args[1]))
	}
	return f.inList(x.Args[0], x.Args[1], f.quietly(x.Args[1]))
}

// change reads what puts something into stacks, a list or a map, or takes it out.
func (f *flow) change(s *Stmt) {
	get, place := f.target(s.X)
	l := place
	for i, a := range s.Args {
		v := f.value(a)
		switch t := s.X.Type; {
		case t.Form == FormStacks && i == 1: // how many
			if !v.ranged || v.low < 0 {
				f.mayFail(v.label, "keep the count at 0 or above: clip(…)")
			}
		case t.Form == FormList && s.Op != OpCut:
			f.handed(v, a, t.Of)
		}
		if a.Type.Form == FormEntity {
			l = l.with(v.label)
		} else {
			l = l.with(f.observed(a, v))
		}
	}
	e := f.value(get.Args[0])
	held := label(nil)
	for _, k := range get.Args[0].Type.Kinds {
		p := get.Prop
		if get.Props != nil {
			p = get.Props[k.Index]
		}
		held = held.with(f.property(k, p, e.sym))
	}
	if !f.safe(s.Op, s.X, s.Args) {
		f.mayFail(held.with(l), map[bool]string{true: mendRoom, false: mendTaken}[s.Op == OpPut])
	}
	if s.To != nil { // what is moved tells the other of what was here
		other := f.value(s.To.Args[0])
		if !f.safe(OpPut, s.To, s.Args) {
			for _, k := range s.To.Args[0].Type.Kinds {
				if s.To.Prop != nil {
					f.mayFail(f.property(k, s.To.Prop, other.sym).with(l), mendRoom)
				}
			}
		}
		f.written(s.To, l)
	}
	f.written(get, l)
}

// safe tells whether a change of stacks, a list or a map cannot fail: its room was asked for, or what it takes.
func (f *flow) safe(op Op, on *Expr, args []*Expr) bool {
	holder := f.same(on)
	item := ""
	if len(args) > 0 && (on.Type.Form == FormStacks || op == OpTake || op == OpMove) {
		item = " " + f.same(args[0])
	}
	var count *Expr // how many; nil for one
	if on.Type.Form == FormStacks && len(args) > 1 {
		count = args[1]
	}
	asked := func(text string) bool {
		if count == nil {
			return f.known(text)
		}
		return f.enough(text, count)
	}
	switch op {
	case OpClear:
		return true
	case OpCut:
		return f.inList(on, args[0], f.quietly(args[0]))
	case OpPut:
		if (count != nil || on.Type.Form == FormList) && f.takes(on.Type, holder, count) {
			return true
		}
		if asked("room " + holder + item) {
			return true
		}
		// put(item, clip(n, 0..room(item)))
		if count != nil && count.Op == OpClip {
			low := count.Args[1]
			high := count.Args[2]
			return low.Op == OpConst && low.Num >= 0 && high.Op == OpRoom && f.same(high.Args[0]) == holder &&
				" "+f.same(high.Args[1]) == item
		}
	case OpTake, OpMove:
		return asked("has " + holder + item)
	}
	return false
}

func (f *flow) loop(s *Stmt) {
	facts := f.facts
	f.facts = nil // a later round may have made them wrong
	exit := len(f.exit)
	given := len(f.cause.given)
	changes := len(f.cause.changes)
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
	if f.loops == 0 && (len(f.exit) != exit || len(f.cause.given) != given || len(f.cause.changes) != changes) {
		f.loops++
		round()
		f.loops--
	}
	f.facts = facts
	for p := range f.cause.changes {
		f.forget(p)
	}
}

func (f *flow) tell(s *Stmt) {
	to := f.crowd(s.Who)
	words := f.out.WhoText(s.Who)
	what := "a log line to " + words
	if s.Op == OpTell {
		what = fmt.Sprintf("the event `%s`, told to %s", s.Event.FullName(), words)
		if !slices.ContainsFunc(f.cause.told[s.Event], func(who []Who) bool { return f.out.WhoText(who) == words }) {
			f.cause.told[s.Event] = append(f.cause.told[s.Event], s.Who)
		}
	}
	d := dest{crowds: []crowd{to}, what: what}
	var l label
	for i, a := range s.Args {
		v := f.value(a)
		if s.Op == OpTell {
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

// names holds what decides who gets something against those who learn of it by getting it or not.
func (f *flow) names(who []Who, d dest) {
	var l label
	for _, w := range who {
		if w.X != nil && !f.ownOwner(w.X) {
			v := f.value(w.X)
			l = l.with(v.label)
		}
		for i, a := range w.Args {
			if v := f.value(a); w.Aud != nil && w.Aud.asks(i) {
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

// ownOwner tells whether an expression is the owner of something that is at hand: who owns it, its owner knows.
func (f *flow) ownOwner(x *Expr) bool {
	return x.Op == OpOwner && (certain(x.Args[0]) || x.Args[0].Op == OpLocal && len(f.value(x.Args[0]).label) == 0)
}

// run reads the body of an action where it is run.
func (f *flow) run(s *Stmt) {
	on := f.value(s.X)
	if !certain(s.X) {
		f.there(on.sym, f.observed(s.X, on))
	}
	inner := *f
	inner.kind = s.Act.Kind
	inner.self = on.sym
	inner.mine = false
	inner.decl = s.Act.decl
	inner.facts = nil
	inner.loops = 0
	if s.X.Op == OpSelf {
		inner.mine = f.mine
	}
	inner.locals = map[int64]val{}
	inner.lists = map[int64]val{}
	inner.free = nil
	inner.begun = nil
	inner.pc = f.pc.with(f.exit).with(f.observed(s.X, on))
	inner.exit = nil
	if s.Num > 0 {
		inner.later = true
		inner.entry = inner.pc
	}
	key := fmt.Sprint("do ", s.Act.Index, " ", on.sym)
	for i, a := range s.Args {
		v := f.value(a)
		if a.Type.Form == FormEntity || a.Type.Form == FormClient {
			v.sym = f.symOf(a)
		}
		f.handed(v, a, s.Act.Params[i].Type)
		v = f.typed(v, s.Act.Params[i].Type)
		inner.give(s.Act.Params, i, v)
		key += " " + v.sym + "/" + v.label.key()
	}
	key += fmt.Sprint("|", inner.later, inner.pc.key())
	defer f.forget(nil)
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

func (f *flow) spawn(s *Stmt) {
	new := f.fresh("new")
	var l label
	if s.Value != nil {
		l = f.value(s.Value).label
	}
	if len(s.Kinds) == 1 {
		new += ":" + s.Kinds[0].Name
	}
	for _, k := range s.Kinds {
		f.cause.spawns[k] = true
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
			f.cause.makes[p] = true
			if !p.Clamped {
				f.handedTo(v, set.Value, p.Type, mendClamped)
			}
			vl := v.label
			if set.Value.Type.Form != FormEntity {
				vl = f.observed(set.Value, v)
			}
			f.sink(vl.with(l), f.toProperty(k, p, new))
		}
	}
	f.forget(nil)
	if s.Num >= 0 {
		f.locals[s.Num] = val{sym: new}
		f.learn("some " + new)
	}
}

// leaks follows information through the whole contract, and reports where it comes to those who may not have it.
func (c *checker) leaks(report func(finding string, decl int, at syntax.Span, what, hint string)) *flows {
	// That an entity is there tells nothing when its kind comes and goes by the clock and by what everyone knows. This
	// is taken to be so of all kinds, until something is found that speaks against it.
	plain := map[*Kind]bool{}
	for _, k := range c.out.Kinds {
		plain[k] = k.Free()
	}
	for {
		var said []func()
		l := c.follow(plain, func(finding string, decl int, at syntax.Span, what, hint string) {
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

// varies notes that what a label tells of, and what decides whether this happens, decides how many there are of a kind.
// What a client asks for is nobody else's business.
func (f *flow) varies(k *Kind, l label) {
	if f.plain[k] && (f.cause.request != nil || len(l)+len(f.pc)+len(f.exit) > 0) {
		f.varying[k] = true
	}
}

// follow is leaks, with the kinds that are taken to be plain.
func (c *checker) follow(
	plain map[*Kind]bool, report func(finding string, decl int, at syntax.Span, what, hint string),
) *flows {
	l := &flows{
		checker: c,
		report:  report,
		plain:   plain,
		varying: map[*Kind]bool{},
		atoms:   map[string]*atom{},
		given:   map[*Property]bool{},
		idle:    map[*Expr]fault{},
		telling: map[*Expr]bool{},
	}
	given := map[*Named]bool{} // those that decide who gets something
	note := func(who []Who) {
		for _, w := range who {
			given[w.Aud] = true
		}
	}
	for _, k := range c.out.Kinds {
		note(k.Who)
		for _, p := range k.Properties {
			note(p.Who)
		}
	}
	for _, p := range c.out.pieces() {
		eachStmt(p.stmts, func(s *Stmt) {
			note(s.Who)
			for _, set := range s.Sets {
				for _, p := range set.Props {
					l.given[p] = true
				}
			}
		})
	}
	for _, a := range c.out.Audiences {
		if given[a] {
			l.named(a)
		}
	}
	for _, k := range c.out.Kinds {
		l.kind(k)
	}
	for _, h := range []struct {
		name string
		body *Body
	}{{"on join", c.out.OnJoin}, {"on lost", c.out.OnLost}, {"on back", c.out.OnBack}, {"on leave", c.out.OnLeave}} {
		if h.body == nil && h.name != "on join" {
			continue
		}
		c := l.newCause(h.name, 0, nil)
		f := l.newFlow(c, nil, 0)
		if h.name == "on join" { // what each client has one of comes with it
			for _, k := range l.out.Kinds {
				if k.Per >= 0 {
					c.spawns[k] = true
					if k.OnSpawn == nil {
						f.begins(k, entityOf(k, "client"))
					}
					c.dests = append(c.dests, f.toKind(k, f.fresh("new"), "the spawning of"))
				}
			}
		}
		if h.body != nil {
			c.line = h.body.Line
			f.decl = h.body.at.Start
			f.locals[0] = val{sym: "client"}
			f.block(h.body.Stmts)
		}
	}
	l.failures()
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

// named asks of an audience what being in it tells its viewer.
func (l *flows) named(a *Named) {
	if a.near() || a.Cond == nil || a.Cond.Value == nil {
		return
	}
	f := l.newFlow(l.newCause(a.Name, a.Cond.Line, nil), nil, a.decl.Start)
	f.viewer = "viewer"
	f.at = a.Cond.at
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
	told := dest{crowds: []crowd{{{sort: ToClient, sym: "viewer", role: -1}}}}
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
func (x *atom) goesTo(a *Named, of []sym) bool {
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

func (l *flows) kind(k *Kind) {
	decl := k.decl.Start
	l.terms(k, k.Who, decl, k.decl, "`"+k.Name+"`")
	for _, p := range k.Properties {
		l.terms(k, p.Who, p.decl, p.name, "`"+k.Name+"."+p.Name+"`")
		l.clauses(k, p)
	}
	for _, r := range k.Requests {
		if r.reachable() {
			l.request(r)
		}
	}
	handler := func(b *Body, name string, pc func(f *flow) label) *cause {
		if b == nil {
			return nil
		}
		c := l.newCause(name, b.Line, k)
		f := l.newFlow(c, k, b.at.Start)
		f.pc = pc(f)
		c.runs = fault{
			label: f.pc,
			at:    b.at,
			decl:  b.at.Start,
			mend:  "let no handler set off another eight times in a row",
		}
		if b == k.OnSpawn || b == k.OnStart && l.starts() == 1 {
			f.begins(k, f.self)
		}
		f.block(b.Stmts)
		return c
	}
	there := func(f *flow) label { return f.existence([]*Kind{k}, f.self) }
	handler(k.OnStart, "on start of "+k.Name, there)
	if c := handler(k.OnSpawn, "on spawn of "+k.Name, there); c != nil {
		c.spawning = true
	}
	handler(k.OnTick, "on tick of "+k.Name, there)
	handler(k.OnOwnerLost, "on owner lost of "+k.Name, there)
	handler(k.OnOwnerLeave, "on owner leave of "+k.Name, there)
	for i, b := range k.OnChange {
		p := (*Property)(nil)
		if b != nil {
			p = k.Properties[i]
		}
		if c := handler(
			b, "on change "+k.Properties[i].Name+" of "+k.Name, func(f *flow) label { return f.property(k, p, f.self) },
		); c != nil {
			c.watch = p
		}
	}
	for _, t := range k.Timers {
		name := map[bool]string{true: "after", false: "every"}[t.After]
		c := l.newCause(fmt.Sprintf("%s %s of %s", name, l.timeText(t.Ticks), k.Name), t.Body.Line, k)
		f := l.newFlow(c, k, t.decl.Start)
		f.pc = there(f)
		if t.While != nil {
			f.at = t.While.at
			f.pc = f.pc.with(f.value(t.While.Value).label)
			if f.dead || f.decided(t.While.Value) < 0 {
				continue // it never runs
			}
			f.assume(t.While.Value, true)
		}
		f.block(t.Body.Stmts)
	}
}

// starts counts the handlers that run at the start of a session. When there are more, one may find what another has
// written.
func (l *flows) starts() (n int) {
	for _, k := range l.out.Kinds {
		if k.OnStart != nil {
			n++
		}
	}
	return n
}

func (l *flows) timeText(ticks int64) string {
	ms := ticks * 1000 / int64(l.out.TickRate)
	if ms%1000 == 0 {
		return fmt.Sprintf("%ds", ms/1000)
	}
	return fmt.Sprintf("%dms", ms)
}

// terms asks of the audience of a kind or property what getting it tells.
func (l *flows) terms(k *Kind, who []Who, decl int, at syntax.Span, what string) {
	f := l.newFlow(&cause{fns: map[string]val{}}, k, decl)
	f.at = at
	f.names(who, dest{crowds: everyone, what: "who gets " + what})
}

// clauses reads what a property's clauses compute.
func (l *flows) clauses(k *Kind, p *Property) {
	flow := func(name string) *flow {
		f := l.newFlow(l.newCause(name, l.lineOf(p.name), k), k, p.decl)
		f.at = p.name
		return f
	}
	if g := p.Follows; g != nil {
		f := flow("the motion of " + k.Name + "." + p.Name)
		what := f.toProperty(k, p, f.self)
		if g.Rate != nil {
			f.sink(f.property(k, g.Rate, f.self), what)
		} else {
			holder := f.self + "." + g.Holder.Name
			all := f.property(k, g.Holder, f.self).with(f.existence(g.Holder.Type.Kinds, holder))
			for _, of := range g.Holder.Type.Kinds {
				all = all.with(f.property(of, g.To[of.Index], holder))
			}
			f.sink(all, what)
		}
		f.cause.changes[p] = true
	}
	if p.Hold != nil {
		f := flow("the hold " + k.Name + "." + p.Name)
		if w := p.Hold.When; w != nil {
			f.at = w.at
			v := f.value(w.Value)
			for _, x := range f.cause.faults {
				v.label = v.label.with(x.label)
			}
			f.cause.faults = nil
			f.sink(v.label, f.toProperty(k, p, f.self))
			if a := f.leaks(v.label, dest{crowds: []crowd{f.crowd([]Who{{Sort: ToOwner}})}}); a != nil {
				f.report(
					"leak", f.decl, f.at,
					fmt.Sprintf(
						"the `when` of `%s` depends on %s, which %s: its owner learns of it by pressing", p.Name, a.of,
						a.to,
					),
					"if they may learn it, say so: reveal(…); else ask what the owner can see",
				)
			}
		}
		f.cause.changes[p] = true
	}
	if p.Set == nil {
		return
	}
	f := flow("the write of " + k.Name + "." + p.Name)
	// Who may write is told to whoever tries.
	v := f.value(p.Set.By.Value)
	if a := f.leaks(v.label, f.toKind(k, f.self, "")); a != nil {
		f.report(
			"leak", f.decl, f.at,
			fmt.Sprintf("who sets `%s` depends on %s, which %s: whoever tries learns of it", p.Name, a.of, a.to),
			"if everyone may learn it, say so: reveal(…)",
		)
	}
	writer := crowd{{sort: ToClient, sym: f.symOf(p.Set.By.Value), role: f.roleOf(p.Set.By.Value)}}
	old := f.property(k, p, f.self)
	for i, b := range []*Body{p.Set.Pace, p.Set.Rule} {
		if b == nil {
			continue
		}
		f.at = b.at
		f.locals[0] = f.typed(val{label: old}, p.Type)
		f.locals[int64(p.Type.Width())] = f.typed(val{}, p.Type)
		v := f.value(b.Value)
		for _, x := range f.cause.faults {
			v.label = v.label.with(x.label)
		}
		f.cause.faults = nil
		if a := f.leaks(v.label, dest{crowds: []crowd{writer}}); a != nil {
			f.report(
				"leak", f.decl, f.at,
				fmt.Sprintf(
					"the %s of `%s` depends on %s, which %s: who sets it learns of it by trying",
					[]string{"pace", "rule"}[i], p.Name, a.of, a.to,
				),
				"if they may learn it, say so: reveal(…); else ask what the writer can see",
			)
		}
	}
	f.cause.changes[p] = true
	f.cause.decider = &dest{crowds: []crowd{writer}}
	f.cause.dests = append(f.cause.dests, f.toProperty(k, p, f.self))
}

// atRequest stands at the head of a request.
func (l *flows) atRequest(r *Request) *flow {
	c := l.newCause(r.FullName(), r.Line, r.Kind)
	c.request = r
	f := l.newFlow(c, r.Kind, r.decl.Start)
	f.at = r.name
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
	for _, w := range r.From {
		var l label
		if w.X != nil {
			l = f.value(w.X).label
			if f.ownOwner(w.X) {
				l = nil
			}
		}
		if w.Aud != nil {
			inner := *f
			inner.kind = nil
			inner.self = ""
			inner.locals = map[int64]val{}
			inner.lists = map[int64]val{}
			for i, a := range w.Args {
				v := f.value(a)
				v.sym = f.symOf(a)
				inner.give(w.Aud.Params, i, v)
				if w.Aud.asks(i) {
					l = l.with(f.observed(a, v))
				}
			}
			if w.Aud.Cond != nil && w.Aud.Cond.Value != nil && !w.Aud.near() {
				var asked []sym
				for i, a := range w.Args {
					asked = append(asked, f.symOf(a))
					asked = append(asked, make([]sym, w.Aud.Params[i].Type.Width()-1)...)
				}
				// Who may not ask learns no more than by not getting what goes to the audience, which is told of there.
				cond := inner.value(w.Aud.Cond.Value).label
				l = l.with(slices.DeleteFunc(slices.Clone(cond), func(x *atom) bool { return x.goesTo(w.Aud, asked) }))
			}
		}
		f.decision(l, "who may ask")
	}
	f.viewer = ""
	f.caller = r.callerRole()
	f.mine = len(r.From) == 1 && r.From[0].Sort == ToOwner
	if f.mine && r.Kind.Per >= 0 {
		f.caller = r.Kind.Per
		f.self = entityOf(r.Kind, "caller")
	}
	decider := f.toCaller("")
	c.decider = &decider
	return f
}

func (l *flows) request(r *Request) {
	f := l.atRequest(r)
	for i := range r.Head {
		s := &r.Head[i]
		f.at = s.at
		if s.Op == OpLet {
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
		f.at = r.Body[i].at
		f.stmt(&r.Body[i])
	}
}

// reachable tells whether anybody who may send a request may know of what it is for.
func (r *Request) reachable() bool {
	k := r.Kind
	if k.To == Nobody || k.To == Owner && k.Per < 0 && !k.given {
		return false
	}
	role := r.callerRole()
	return k.To != Some || role < 0 ||
		slices.ContainsFunc(k.Who, func(w Who) bool { return w.But || w.Sort != ToRole || w.Role == role })
}

// callerRole gives the role that every caller of a request has, or -1.
func (r *Request) callerRole() int {
	out := -1
	for i, w := range r.From {
		if w.Sort != ToRole || w.But || i > 0 && w.Role != out {
			return -1
		}
		out = w.Role
	}
	return out
}

// failures holds what a cause may fail of against all that would be undone with it: what it does, what the handlers do
// that it sets off, and what is decided.
func (l *flows) failures() {
	watchers := map[*Property][]*cause{}
	spawners := map[*Kind][]*cause{}
	for _, c := range l.causes {
		if c.watch != nil {
			watchers[c.watch] = append(watchers[c.watch], c)
		}
		if c.spawning {
			spawners[c.kind] = append(spawners[c.kind], c)
		}
	}
	// setsOff adds the handlers that a cause may set off, and those that they may set off.
	setsOff := func(c *cause) (all []*cause, again bool) {
		all = []*cause{c}
		add := func(list []*cause) {
			for _, w := range list {
				again = again || w == c
				if !slices.Contains(all, w) {
					all = append(all, w)
				}
			}
		}
		for i := 0; i < len(all); i++ {
			for p := range all[i].changes {
				add(watchers[p])
			}
			for p := range all[i].makes { // what a spawn gives differs from the default
				add(watchers[p])
			}
			for k := range all[i].spawns {
				add(spawners[k])
			}
		}
		return all, again || len(all) > 8
	}
	// settles tells whether a handler that sets what it waits for does so to the same value again and again.
	settles := func(c *cause) bool {
		for p := range c.changes {
			for _, w := range watchers[p] {
				if w != c {
					return false
				}
			}
		}
		b := c.kind.OnChange[c.watch.Index]
		sets := true
		times := 0
		eachStmt(b.Stmts, func(s *Stmt) {
			if s.X == nil || s.Op < OpSet || s.Op > OpSplit {
				sets = sets && s.Op != OpSpawn
				return
			}
			root := s.X.root()
			if root.Prop == c.watch || root.Props != nil {
				times++
				if root == s.X && s.Op == OpSet && l.soon(c, s) {
					return
				}
				self := root.Args[0].Op == OpSelf || root.Args[0].Op == OpShared && root.Args[0].Kind == c.kind
				sets = sets && root == s.X && self && s.Op == OpSet && !mentions(s.Value, func(x *Expr) bool {
					return x.Op == OpRoll || x.Op == OpCopy || x.Op == OpLocal ||
						x.Op == OpGet && x.Prop != nil && c.changes[x.Prop]
				})
			}
		})
		return sets && times < 2
	}
	for _, c := range l.causes {
		if c.watch != nil && settles(c) {
			continue
		}
		if (c.watch != nil || c.spawning) && len(c.runs.label) > 0 {
			if _, again := setsOff(c); again {
				c.faults = append(c.faults, c.runs) // it may come to a ninth round, which fails
			}
		}
	}
	for _, c := range l.causes {
		if c.watch != nil || c.spawning {
			continue // they are part of what sets them off
		}
		all, _ := setsOff(c)
		slices.SortFunc(all[1:], func(a, b *cause) int { return strings.Compare(a.name, b.name) })
		for _, failing := range all {
			for _, x := range failing.faults {
				l.failure(x, failing, c, all)
				if c.decider != nil {
					continue // it is told of, or the caller knows
				}
				for _, in := range all {
					for _, kinds := range []map[*Kind]bool{in.spawns, in.gone} {
						for k := range kinds {
							if l.plain[k] {
								l.varying[k] = true
							}
						}
					}
				}
			}
		}
	}
}

// soon tells whether a statement counts its property up or down by so much that it comes to the end of its range in a
// few rounds.
func (l *flows) soon(c *cause, s *Stmt) bool {
	self := s.X.Args[0].Op == OpSelf || s.X.Args[0].Op == OpShared && s.X.Args[0].Kind == c.kind
	p := s.X.Prop
	if !self || p == nil || !p.Clamped || p.Type.Form != FormInt || s.Value.Op != OpAdd && s.Value.Op != OpSub ||
		s.Value.Args[0].Op != OpGet || s.Value.Args[0].Prop != p {
		return false
	}
	by := s.Value.Args[1]
	if mentions(by, func(x *Expr) bool { return x.Op == OpLocal }) {
		return false
	}
	v := l.quiet().newFlow(&cause{fns: map[string]val{}, changes: map[*Property]bool{}}, c.kind, 0).value(by)
	step := min(math.Abs(v.low), math.Abs(v.high))
	return v.ranged &&
		(v.low == 0 && v.high == 0 || (v.low > 0 || v.high < 0) && float64(p.Type.High-p.Type.Low)/step <= 6)
}

func (l *flows) failure(x fault, failing, c *cause, all []*cause) {
	// may reports whether those in a crowd may know what an atom is of, seen from another body: self is another one
	// there.
	may := func(a *atom, in *cause, to crowd) bool {
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
				report(a, "what `"+c.name+"` did, and its caller is told")
				return
			}
			continue
		}
		for _, in := range all {
			for _, d := range in.dests {
				if (in != failing || d.later == x.later) &&
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
		if t.sort == ToClient {
			out[i].sym = "elsewhere " + t.sym
		}
		if len(t.args) > 0 {
			out[i].args = []sym{"elsewhere"}
		}
	}
	return out
}
