// Package flow follows information through a contract: what each cause reads, changes and tells, and where something
// that only some may know comes to others (Denning and Denning, 1977, with the audiences of properties and kinds in
// place of levels). It says where that happens, and nothing of other dangers.
//
// Leaks calls back for each leak that it finds; Causes has the facts of every cause for who wants to show them. Both
// compute anew at each call, and what they return is the caller's own.
//
// # How it works
//
// Each value that a body computes has a label: the audiences that somebody has to be in to learn it. What is read adds
// its audience to the label. The condition of an if adds to the label of the place (pc), and so to all that is done
// under it. Whatever becomes known to clients, such as a property that is written, an event or a denial, is held
// against the audience that it becomes known to: when the label has an audience that is not part of that one, there is
// a leak. For
//
//	score: int to everyone
//	answer: int to nobody
//	request guess(n: int) { if n == answer { score += 1 } }
//
// the label of the place of score += 1 has the audience nobody, and score goes to everyone: a leak, unless the contract
// reveals that.
//
// Bodies are followed one by one (leak.go), as the machine would run them, with what surely holds at each place
// (facts.go). Entities and clients are told apart by symbols (crowd.go), which is what makes an audience of self and an
// audience of another entity different ones. A Point (point.go) answers what other findings ask of a place.
package flow

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// A label says in which audiences somebody has to be to learn a value; what is read adds to it, what decides whether a
// statement runs adds to all that the statement does, and whatever reaches clients is held against it. Causes are read
// one by one: what a property holds was held against its audience when it was written.

// atom is an audience that whoever learns something has to be in, and what the audience is of.
type atom struct {
	id    int
	crowd crowd
	also  []crowd // to whom it was revealed besides, in this cause
	of    string  // as a message names it: "`Strongbox.answer`"
	to    string  // its audience, as in "goes only to owner"
	whole bool    // of whole entities of a kind: who may not have it does not know that there is one
}

// label is a set of atoms, by id; nil is what everyone may know.
type label []*atom

// with returns the union of two labels. It changes neither of them.
//
// The result may be one of the two, so nobody may write to a label.
func (a label) with(b label) label {
	if len(b) == 0 {
		return a
	}
	if len(a) == 0 {
		return b
	}
	out := slices.Clone(a)
	for _, x := range b {
		if i, has := slices.BinarySearchFunc(out, x.id, func(y *atom, id int) int { return y.id - id }); !has {
			out = slices.Insert(out, i, x)
		}
	}
	return out
}

// key returns a text that two labels share exactly when they have the same atoms.
//
// It is what tells whether a function or action was followed with the same knowledge before.
func (a label) key() string {
	var b strings.Builder
	for _, x := range a {
		fmt.Fprint(&b, x.id, ".")
	}
	return b.String()
}

// val is what is known of a value.
type val struct {
	label     label   // what it tells of
	sym       sym     // which entity or client it is; empty when that is not known
	low, high float64 // the range of a number, both ends in it
	ranged    bool    // low and high are known
	varies    bool    // it is that of a name which may be assigned to
}

// dest is where something becomes known: to those who are in all of its crowds.
type dest struct {
	crowds []crowd
	what   string // as a message names it: "`Diver.score`, which goes to everyone"
	later  bool   // it becomes known in a cause of its own, by `after … do`
}

// fault is something that a cause may fail of: then all that it did is undone.
type fault struct {
	label label
	at    syntax.Span
	decl  int
	later bool   // it is a cause of its own that fails, by `after … do`
	mend  string // how not to fail
}

// Cause is what was found out about one request, handler or timer, and all that it runs.
//
// A cause is one transaction of the session: all of it happens or nothing. That is why what it may fail
// of counts as told to whoever sees anything that it does.
type Cause struct {
	Request  *contract.Request  // nil for a handler or timer
	Name     string             // "Diver.use", "on join", "a timer of Diver"
	line     int                // that it begins in
	Watch    *contract.Property // of an `on change`
	runs     fault              // what decides whether it runs at all
	Kind     *contract.Kind     // of self
	Spawning bool               // it is an `on spawn`
	Ending   bool               // it is an `on despawn`
	decider  *dest              // who is told whether it failed; nil for nobody
	faults   []fault            // where it may fail, and what that would tell of
	dests    []dest             // where something that it does is told

	// What it may do.
	Changes   map[*contract.Property]bool
	Makes     map[*contract.Property]bool // that a spawn gives
	Spawns    map[*contract.Kind]bool
	Despawns  map[*contract.Kind]bool
	GivesAway map[*contract.Kind]bool
	Events    map[*contract.Event][][]contract.Who // to whom, at each place
	Others    map[string]bool                      // expels, closes, changes roles
	Reveals   []Reveal

	actions  map[string]bool     // that were read in some way already
	fns      map[string]val      // what functions gave, by the way that they were called in
	steps    int                 // actions and functions that were read, at most maxFlow
	asked    map[int]syntax.Span // by atom: where a condition that depends on it stands
	reported map[string]bool     // leaks, so that each is told once
}

// Report is called for each danger that is found: in the declaration at the offset decl, at the place at; finding is
// its name, what says what is wrong, and hint what would be right.
type Report func(finding string, decl int, at syntax.Span, what, hint string)

// flows is the analysis of a contract.
type flows struct {
	contract *contract.Contract
	report   Report
	atoms    map[string]*atom
	causes   []*Cause
	given    map[*contract.Property]bool // that some spawn gives a value
	plain    map[*contract.Kind]bool     // that one is there tells nothing
	varying  map[*contract.Kind]bool     // kinds that are not so after all
	idle     map[*contract.Expr]fault    // what reveals nothing, as far as it was met
	telling  map[*contract.Expr]bool     // what reveals something

	unique int
}

// flow is the analysis of one body. It follows the statements in their order, as the machine would, with labels in
// place of values.
//
// It is copied for each function and action that is followed. What is added to the cause, or to the
// analysis, is shared; what holds at one place is not.
type flow struct {
	*flows
	cause     *Cause
	kind      *contract.Kind // of self; nil where there is none
	self      sym
	mine      bool                   // the caller is the owner of self
	caller    int                    // the caller's role, or -1
	viewer    sym                    // of an audience's condition
	decl      int                    // of the declaration that the code stands in
	at        syntax.Span            // of the present statement
	locals    map[int64]val          // by register
	lists     map[int64]val          // by place in memory
	pc        label                  // what decides whether the present statement runs
	exit      label                  // what decided whether the body ended earlier
	facts     []fact                 // that hold at the present statement
	begun     map[sym]*contract.Kind // entities whose properties have their defaults until they are written
	free      map[operand]int        // of stacks and lists that are as they began: how much room there surely is
	slotsUsed map[operand][]int64    // of such stacks: slots that were put into by their numbers
	took      operand                // what takes has just used up room of
	loops     int                    // that the present statement stands in
	later     bool                   // it is run in a cause of its own, by `after … do`
	entry     label                  // what decided whether that runs at all
	dead      bool                   // it always fails before it comes to this place
	maybe     int                    // what is read now may not be read at all
}

// maxFlow bounds how many actions and functions are followed in one cause. What lies beyond counts as secret.
const maxFlow = 3000

// silentFlows returns an analysis that reports nothing: it only finds out what values are and what they depend on.
//
// Its labels are of no use outside of it: atoms are numbered by the analysis that made them.
func silentFlows(c *contract.Contract) *flows {
	return &flows{contract: c, report: func(string, int, syntax.Span, string, string) {}, atoms: map[string]*atom{}}
}

// lineOf returns the line in which a part of the contract begins.
func (l *flows) lineOf(at syntax.Span) int {
	line, _ := l.contract.Source.Position(at.Start)
	return line
}

// newFlow returns the analysis of a body of kind k, which is nil for a body outside of kinds. Findings stand at the
// declaration at offset decl.
//
// The entity of a shared kind has the same name in all bodies; any other self is only known to be of
// its kind.
func (l *flows) newFlow(c *Cause, k *contract.Kind, decl int) *flow {
	f := &flow{
		flows:  l,
		cause:  c,
		kind:   k,
		caller: -1,
		decl:   decl,
		locals: map[int64]val{},
		lists:  map[int64]val{},
	}
	if k != nil {
		f.self = "self:" + k.Name
		if k.Shared {
			f.self = "the " + k.Name
		}
	}
	return f
}

// newCause adds a cause about which nothing was found yet.
func (l *flows) newCause(name string, line int, k *contract.Kind) *Cause {
	c := &Cause{
		Name:      name,
		line:      line,
		Kind:      k,
		Changes:   map[*contract.Property]bool{},
		Makes:     map[*contract.Property]bool{},
		Spawns:    map[*contract.Kind]bool{},
		Despawns:  map[*contract.Kind]bool{},
		GivesAway: map[*contract.Kind]bool{},
		Events:    map[*contract.Event][][]contract.Who{},
		Others:    map[string]bool{},
		actions:   map[string]bool{},
		fns:       map[string]val{},
		asked:     map[int]syntax.Span{},
		reported:  map[string]bool{},
	}
	l.causes = append(l.causes, c)
	return c
}

// fresh returns a name that no other entity or client of this analysis has.
func (l *flows) fresh(what string) sym {
	l.unique++
	return fmt.Sprintf("%s#%d", what, l.unique)
}

// atom returns the one atom of a crowd and of what it is the audience; to is the audience as the contract writes it.
func (l *flows) atom(c crowd, of, to string) *atom {
	// Two values with the same name and the same audience tell the same: they share an atom.
	key := of + " " + c.key()
	to = "goes only to " + to
	if to == "goes only to nobody" {
		to = "goes to nobody"
	}
	a := l.atoms[key]
	if a == nil {
		a = &atom{
			id:    len(l.atoms) + 1,
			crowd: c,
			of:    of,
			to:    to,
		}
		l.atoms[key] = a
	}
	return a
}

// audience returns the crowd of a kind's or property's audience, for an entity.
//
// It says who may learn what is sent to that audience, as far as the contract alone tells.
func (l *flows) audience(k *contract.Kind, to contract.Audience, who []contract.Who, on sym) crowd {
	switch to {
	case contract.Everyone:
		return crowd{{sort: contract.ToEveryone}}
	case contract.Nobody:
		return crowd{{sort: contract.ToNobody}}
	case contract.Owner:
		who = []contract.Who{{Sort: contract.ToOwner}}
	}
	// The audience may name self and the viewer: it is read as a body of its own, with self being the entity.
	f := &flow{
		flows:  l,
		cause:  &Cause{fns: map[string]val{}},
		kind:   k,
		self:   on,
		caller: -1,
	}
	return f.crowd(who)
}

// crowd puts the entities and clients of the present body into a list of clients.
//
// What cannot be followed becomes a client with a name of its own, who is in no other crowd: as a place
// where something becomes known it lets nothing pass, and as an audience it lets nobody in.
func (f *flow) crowd(who []contract.Who) crowd {
	var out crowd
	for _, w := range who {
		t := term{but: w.But, sort: w.Sort, role: w.Role}
		switch w.Sort {
		case contract.ToOwner:
			t.sort = contract.ToClient
			t.sym = f.ownerOf(f.self)
			t.role = -1
			if f.kind.Per >= 0 {
				t.role = f.kind.Per
			} else if !f.kind.GivenAway {
				t = term{but: w.But, sort: contract.ToNobody} // it always belongs to the server
			}
		case contract.ToCaller:
			t.sort = contract.ToClient
			t.sym = "caller"
			t.role = f.caller
		case contract.ToClient:
			t.sym = f.fresh("clients")
			t.role = -1
			if w.X.Type.Form == contract.FormClient {
				t.sym, t.role = f.symOf(w.X), f.roleOf(w.X)
			}
		case contract.ToNamed:
			// Who is near learns that by seeing the entity anyway: such an audience keeps nothing secret, unless the
			// contract says so.
			if w.Aud.OnlyNearness() {
				t = term{but: w.But, sort: contract.ToEveryone}
				if w.But {
					t.sort = contract.ToNobody // who is left out for being near learns it another way
				}
				break
			}
			// Only what the condition asks of its arguments tells two audiences apart; a value of several slots has one
			// name.
			t.aud = w.Aud
			for i, p := range w.Aud.Params {
				s := sym("")
				if w.Aud.AsksArgument(i) {
					s = f.symOf(w.Args[i])
				}
				t.args = append(t.args, s)
				for range p.Type.Width() - 1 {
					t.args = append(t.args, "")
				}
			}
		}
		out = append(out, t)
	}
	return out
}

// ownerOf names the owner of an entity: the caller itself, where a check has shown it to own self and nothing was
// given away since.
func (f *flow) ownerOf(e sym) sym {
	if f.mine && e == f.self && len(f.cause.GivesAway) == 0 {
		return "caller"
	}
	return ownerOf(e)
}

// symOf names the entity or client that an expression stands for. Two expressions that surely mean the same one get the
// same name; one that cannot be followed gets a name of its own, so that nothing is taken for the same by mistake.
func (f *flow) symOf(x *contract.Expr) sym {
	switch x.Op {
	case contract.OpSelf:
		return f.self
	case contract.OpCaller:
		return "caller"
	case contract.OpViewer:
		return f.viewer
	case contract.OpLogic:
		return contract.LogicRole
	case contract.OpShared:
		return "the " + x.Kind.Name
	case contract.OpReveal:
		return f.symOf(x.Args[0])
	case contract.OpLocal:
		if v, known := f.locals[x.Num]; known && v.sym != "" {
			return v.sym
		}
	case contract.OpEntityOf:
		return entityOf(x.Kind, f.symOf(x.Args[0]))
	case contract.OpOwner:
		return f.ownerOf(f.symOf(x.Args[0]))
	case contract.OpGet:
		if x.Type.Form == contract.FormEntity && x.Prop != nil && x.Prop.Default[0] == 0 && f.fixed(x.Prop) &&
			f.open(x) {
			return "nothing" // a ref that nothing ever sets
		}
		// Until this cause changes the property, each read of it means the same one.
		if x.Prop != nil && !f.cause.Changes[x.Prop] {
			return f.symOf(x.Args[0]) + "." + x.Prop.Name
		}
	case contract.OpConst:
		if x.Type.Form == contract.FormClient && x.Num == 0 {
			return "server"
		}
		return "nothing"
	}
	return f.fresh("some")
}

// roleOf returns the role of a client, if the contract says it; else -1.
//
// It is certain only as long as roles are not given; a contract that gives them has no caller of a
// known role.
func (f *flow) roleOf(x *contract.Expr) int {
	switch x.Op {
	case contract.OpCaller:
		return f.caller
	case contract.OpLogic:
		return f.contract.Logic.Role
	case contract.OpOwner:
		if k := x.Args[0].Type.Kind(); k != nil {
			return k.Per
		}
	}
	return -1
}

// existence is what knowing of an entity of some kinds tells.
//
// plain holds the kinds that come and go by what everyone knows, as long as the analysis has not found
// otherwise.
func (f *flow) existence(kinds []*contract.Kind, on sym) label {
	var out label
	for _, k := range kinds {
		// Shared entities are always there, and those that each client has one of come with it, which everyone knows.
		if !k.Shared && k.Per < 0 && !f.plain[k] {
			out = out.with(f.kindLabel(k, on))
		}
	}
	return out
}

// kindLabel returns what knowing that there is an entity of the kind tells: nothing, when everyone sees the kind.
func (f *flow) kindLabel(k *contract.Kind, on sym) label {
	if k.To == contract.Everyone {
		return nil
	}
	c := f.audience(k, k.To, k.Who, on)
	if c.public() {
		return nil
	}
	a := f.atom(c, "`"+k.Name+"`", f.contract.ToText(k.To, k.Who))
	a.whole = true
	return label{a}
}

// property is what a property of an entity tells.
//
// It is what its reader has to be allowed to know: in the audience of the property and in that of its
// entity.
func (f *flow) property(k *contract.Kind, p *contract.Property, on sym) label {
	var out label
	if p.Computed {
		v, _ := f.computed(k, p, on)
		return v.label
	}
	if p.To != contract.Everyone {
		if c := f.audience(k, p.To, p.Who, on); !c.public() {
			out = label{f.atom(c, "`"+k.Name+"."+p.Name+"`", f.contract.ToText(p.To, p.Who))}
		}
	}
	// A client that has a property knows of its entity too. What goes to nobody is secret by itself.
	if p.To != contract.Nobody {
		out = out.with(f.kindLabel(k, on))
	}
	return out
}

// toProperty is where a value goes that is written to a property.
func (f *flow) toProperty(k *contract.Kind, p *contract.Property, on sym) dest {
	crowds := []crowd{f.audience(k, p.To, p.Who, on)}
	if k.To != contract.Everyone {
		crowds = append(crowds, f.audience(k, k.To, k.Who, on))
	}
	return dest{
		crowds: crowds,
		what:   fmt.Sprintf("`%s.%s`, which goes to %s", k.Name, p.Name, f.contract.ToText(p.To, p.Who)),
	}
}

// toKind is where it becomes known that an entity is spawned or despawned; what names the occasion.
func (f *flow) toKind(k *contract.Kind, on sym, what string) dest {
	return dest{
		crowds: []crowd{f.audience(k, k.To, k.Who, on)},
		what: fmt.Sprintf(
			"%s `%s`, which %s", what, k.Name,
			map[bool]string{
				true:  "everyone sees",
				false: f.contract.ToText(k.To, k.Who) + " can see",
			}[k.To == contract.Everyone],
		),
	}
}

var everyone = []crowd{{{sort: contract.ToEveryone}}}

// leaks returns the first atom of a label that does not cover a place where it becomes known.
//
// It is nil when all of the label may become known there.
func (l *flows) leaks(a label, d dest) *atom {
	for _, x := range a {
		// Whoever learns it is in all crowds of the place at once: it is enough that everyone in one of them may know.
		if !slices.ContainsFunc(d.crowds, func(c crowd) bool { return l.knows(x, c) }) {
			return x
		}
	}
	return nil
}

// knows reports whether everyone in a crowd may know what an atom is of, as far as that can be told from the contract.
func (l *flows) knows(x *atom, c crowd) bool {
	for i, t := range c {
		// The terms behind this one may take clients away again, so that they count.
		may := func(of crowd) bool { return l.coversTerm(of, t, c[i+1:]) }
		if !t.but && t.sort != contract.ToNobody && !may(x.crowd) && !slices.ContainsFunc(x.also, may) {
			return false
		}
	}
	return true
}

// revealedTo returns a label whose values those in a crowd may know as well.
func (f *flow) revealedTo(l label, who []contract.Who) label {
	to := f.crowd(who)
	var out label
	for _, a := range l {
		if f.knows(a, to) {
			out = out.with(label{a})
			continue
		}
		// The atom itself is shared with values that were not revealed: a wider one takes its place in this label.
		key := a.of + " " + a.crowd.key()
		for _, c := range append(a.also, to) {
			key += " also " + c.key()
		}
		wide := f.atoms[key]
		if wide == nil {
			wide = &atom{
				id:    len(f.atoms) + 1,
				crowd: a.crowd,
				also:  append(slices.Clone(a.also), to),
				of:    a.of,
				to:    a.to + " and is revealed to " + f.contract.WhoText(who),
			}
			f.atoms[key] = wide
		}
		out = out.with(label{wide})
	}
	return out
}

// sink checks a value, and what decides whether the statement runs, against a place where it becomes known.
//
// Each finding is reported at the statement. The place is also noted in the cause, since a failure of
// the cause shows there.
func (f *flow) sink(l label, d dest) {
	d.later = f.later
	f.cause.dests = append(f.cause.dests, d)
	if a := f.leaks(l, d); a != nil {
		f.report("leak", f.decl, f.at, fmt.Sprintf("%s %s, and shows in %s", a.of, a.to, d.what),
			"if they may learn it, say so where it is read: reveal(…); "+
				"else keep it in something with the same audience")
		return
	}
	// The value itself may be known; that it is written at all tells of what decided that this statement runs.
	if a := f.leaks(f.pc.with(f.exit), d); a != nil {
		// One condition is told of once, whatever depends on it.
		key := fmt.Sprint(a.id, f.cause.asked[a.id])
		if f.cause.reported[key] {
			return
		}
		f.cause.reported[key] = true
		f.report(
			"leak", f.decl, f.at,
			fmt.Sprintf("whether this happens depends on %s, which %s, and shows in %s", a.of, a.to, d.what),
			"if they may learn it, say so where it is asked: reveal(…); else let it decide only what the same "+
				"clients see",
		)
	}
}

// decision checks what decides something against the caller, who learns of it by what is decided.
//
// The caller learns of it whatever the answer says: that it is another one is enough.
func (f *flow) decision(l label, how string) {
	if a := f.leaks(l, f.toCaller("")); a != nil {
		f.report(
			"leak", f.decl, f.at,
			fmt.Sprintf("%s depends on %s, which %s: the caller learns of it by asking", how, a.of, a.to),
			"if the caller may learn it, say so: reveal(…); else ask what the caller can see",
		)
	}
}

// toCaller is what only the caller comes to know: a client that knows of the entity that it asks.
func (f *flow) toCaller(what string) dest {
	// The second crowd matters when the caller may ask an entity that it does not see: then the denial says no more
	// than that there is none.
	d := dest{crowds: []crowd{{{sort: contract.ToClient, sym: "caller", role: f.caller}}}, what: what}
	if r := f.cause.Request; r != nil {
		d.crowds = append(d.crowds, f.audience(r.Kind, r.Kind.To, r.Kind.Who, f.asked()))
	}
	return d
}

// asked names the entity that a request is for, also in the actions that it runs.
func (f *flow) asked() sym {
	if r := f.cause.Request; len(r.From) == 1 && r.From[0].Sort == contract.ToOwner && r.Kind.Per >= 0 {
		return entityOf(r.Kind, "caller")
	}
	return f.newFlow(f.cause, f.cause.Request.Kind, 0).self
}

// mayFail notes that the cause may fail here, what that depends on, and how it would not.
//
// What it depends on is checked when all causes were read (failures): who would notice depends on what
// the cause does after this place, too.
func (f *flow) mayFail(l label, mend string) {
	l = l.with(f.pc).with(f.exit)
	if f.later { // that it runs at all shows in what it does, and is told of there
		l = slices.DeleteFunc(slices.Clone(l), func(a *atom) bool { return slices.Contains(f.entry, a) })
	}
	if len(l) == 0 {
		return
	}
	f.cause.faults = append(f.cause.faults, fault{l, f.at, f.decl, f.later, f.mend(mend)})
}

// How not to fail.
const (
	mendRange   = "keep it in its range: clip(…)"
	mendClamped = "keep it in its range: say `clamped` where it is declared, or use clip(…)"
	mendGone    = "ask whether it is there first: exists(…)"
	mendMissing = "ask whether it has that first, with count() or has(…)"
	mendZero    = "ask first that what it is divided by is not 0"
	mendRoom    = "ask for room first: room() > 0"
	mendTaken   = "ask first whether there is so much of it: has(…), or count() > 0"
)

// mend describes how not to fail at this place: a name that is made in a head is made before the checks below it.
func (f *flow) mend(way string) string {
	r := f.cause.Request
	if r == nil {
		return way
	}
	for i, s := range r.Head {
		below := slices.ContainsFunc(r.Head[i+1:], func(s contract.Stmt) bool { return s.Op == contract.OpCheck })
		if s.Op == contract.OpLet && s.At == f.at && below {
			return "this `let` runs before the checks below it: " +
				"put it behind the one that asks for what it needs; or " + way
		}
	}
	return way
}

// under runs something that happens only when a value is such.
//
// It is for statements of a branch and for the second side of an `and`.
func (f *flow) under(l label, do func()) {
	before := f.pc
	f.pc = f.pc.with(l)
	do()
	f.pc = before
}

// observed is what a value tells when it is compared or asked for: of a ref, whether it is there.
func (f *flow) observed(x *contract.Expr, v val) label {
	if x.Type.Form == contract.FormEntity && v.sym != "" {
		return v.label.with(f.existence(x.Type.Kinds, v.sym))
	}
	return v.label
}

// certain reports whether an entity is there whatever happens.
func certain(x *contract.Expr) bool {
	return x.Op == contract.OpSelf || x.Op == contract.OpShared || x.Op == contract.OpReveal && certain(x.Args[0])
}

// values reads some expressions and returns what they tell together.
func (f *flow) values(list []*contract.Expr) label {
	var out label
	for _, x := range list {
		out = out.with(f.observed(x, f.value(x)))
	}
	return out
}

// value reads an expression.
func (f *flow) value(x *contract.Expr) val {
	if x == nil {
		return val{}
	}
	v := f.valueOf(x)
	if x.Type != nil && x.Type.Whole() && v.ranged {
		v.low, v.high = outward(v.low, v.high)
	}
	return v
}

// exact is the magnitude below which every whole number is a double of its own.
const exact = 1 << 53

// outward returns ends of a range of whole numbers that surely hold it. Ends that are far from zero were rounded when
// they became doubles, by at most one step to the next double: a range that is too narrow would prove what is not so.
func outward(low, high float64) (float64, float64) {
	if math.Abs(low) >= exact {
		low = math.Nextafter(low, math.Inf(-1))
	}
	if math.Abs(high) >= exact {
		high = math.Nextafter(high, math.Inf(1))
	}
	return low, high
}

// seen reads whether a client has confirmed something. That tells whether the client may have it: where not everyone
// may, the answer is for nobody.
func (f *flow) seen(x *contract.Expr) val {
	client := f.value(x.Args[0])
	e := f.value(x.Args[1])
	l := f.observed(x.Args[0], client).with(f.observed(x.Args[1], e))
	for _, k := range x.Args[1].Type.Kinds {
		if k.To != contract.Everyone || x.Prop != nil && x.Prop.To != contract.Everyone {
			of := k.Name
			if x.Prop != nil {
				of += "." + x.Prop.Name
			}
			l = l.with(label{f.atom(
				crowd{{sort: contract.ToNobody}}, "who has seen `"+of+"`", "nobody",
			)})
		}
	}
	return val{label: l}
}

// valueOf reads an expression; the ends of its range may be rounded.
//
//revive:disable-next-line:function-length It is one switch.
func (f *flow) valueOf(x *contract.Expr) val {
	switch x.Op {
	case contract.OpConst:
		return f.constant(x)
	case contract.OpSelf, contract.OpShared, contract.OpCaller, contract.OpViewer:
		return val{sym: f.symOf(x)}
	case contract.OpLogic: // everyone knows who has which role
		return val{sym: f.symOf(x), varies: true}
	case contract.OpNow:
		return val{high: longest, ranged: true}
	case contract.OpTable, contract.OpSetting:
		return f.typed(val{}, x.Type)
	case contract.OpLocal:
		if x.Type.Holder() {
			return f.lists[x.Num]
		}
		// A check before may have shown the local to be in a smaller range than its type.
		v := f.bounded(f.locals[x.Num], f.same(x))
		if v.varies && (x.Type.Form == contract.FormEntity || x.Type.Form == contract.FormClient) {
			v.sym = f.fresh("some") // whichever it is by now
		}
		return v
	case contract.OpOwner:
		e := f.value(x.Args[0])
		l := f.observed(x.Args[0], e)
		if !certain(x.Args[0]) {
			f.there(e.sym, l)
		}
		// Who owns an entity is known to those who know the entity.
		for _, k := range x.Args[0].Type.Kinds {
			l = l.with(f.kindLabel(k, e.sym))
		}
		return val{label: l, sym: f.symOf(x)}
	case contract.OpEntityOf:
		c := f.value(x.Args[0])
		return val{label: c.label, sym: f.symOf(x)}
	case contract.OpGet, contract.OpComputed, contract.OpPath, contract.OpSince:
		return f.get(x)
	case contract.OpSeen:
		return f.seen(x)
	case contract.OpReveal:
		return f.reveal(x)
	case contract.OpAnd, contract.OpOr:
		return f.either(x)
	case contract.OpEq, contract.OpNe, contract.OpLt, contract.OpLe, contract.OpGt, contract.OpGe:
		a := f.value(x.Args[0])
		b := f.value(x.Args[1])
		l := f.observed(x.Args[0], a).with(f.observed(x.Args[1], b))
		if len(l) > 0 && compared(x, a, b) != 0 {
			l = nil // it is always the same
		}
		return val{label: l}
	case contract.OpCallFn:
		return f.call(x)
	case contract.OpQuery:
		return f.query(x)
	case contract.OpAt:
		on := f.value(x.Args[0])
		key := f.value(x.Args[1])
		l := on.label.with(f.observed(x.Args[1], key))
		if !f.fits(x, key) {
			f.mayFail(l, mendMissing)
		}
		// Values of a list are not followed one by one: each read is taken for another one.
		return f.typed(val{label: l, sym: f.fresh("item")}, x.Type)
	case contract.OpDiv, contract.OpMod:
		return f.quotient(x)
	case contract.OpAdd, contract.OpSub, contract.OpMul, contract.OpNeg:
		return f.sum(x)
	case contract.OpClip:
		return f.clip(x)
	case contract.OpChoose:
		return f.choose(x)
	case contract.OpRoll:
		return f.roll(x)
	case contract.OpReal, contract.OpSteps, contract.OpFromInt:
		v := f.value(x.Args[0])
		if x.Op == contract.OpSteps {
			v.sym = ""
		}
		return v
	case contract.OpMath:
		return f.math(x)
	case contract.OpVec, contract.OpLine:
		return f.parts(x)
	case contract.OpField:
		v := val{label: f.values(x.Args)}
		if x.Type.Form == contract.FormReal {
			v = f.typed(v, x.Type)
		}
		return v
	case contract.OpName, contract.OpRole, contract.OpNumber:
		// A client that is gone has neither a name nor a role any more.
		l := f.values(x.Args)
		f.mayFail(l, mendGone)
		return val{label: l}
	case contract.OpPublic:
		e := f.value(x.Args[0])
		l := f.observed(x.Args[0], e)
		if !certain(x.Args[0]) {
			f.there(e.sym, l)
		}
		return val{label: l, low: 1, high: math.MaxUint32, ranged: true}
	case contract.OpOrder:
		return val{label: f.values(x.Args), low: -1, high: 1, ranged: true}
	case contract.OpLength:
		return val{label: f.values(x.Args), high: contract.MaxText, ranged: true}
	case contract.OpCountAt, contract.OpItemAt:
		f.slot(x.Args[0].Type, f.value(x.Args[1]))
		l := f.values(x.Args)
		if x.Op == contract.OpItemAt {
			if !f.known(subject{factAt, f.same(x.Args[0]), f.same(x.Args[1])}) {
				f.mayFail(l, mendMissing)
			}
			return val{label: l}
		}
		return val{label: l, high: float64(x.Args[0].Type.Each), ranged: true}
	case contract.OpCount, contract.OpRoom, contract.OpFind:
		v := val{
			label:  f.values(x.Args),
			low:    0,
			high:   mostOf(x.Args[0].Type, len(x.Args) == 1 && x.Op == contract.OpRoom),
			ranged: true,
		}
		if x.Op == contract.OpFind {
			v.low = -1
		}
		return v
	}
	return val{label: f.values(x.Args)}
}

// mostOf returns how much a list, a map or stacks hold at most: values, or items; with stacksAlone, how many stacks.
func mostOf(t *contract.Type, stacksAlone bool) float64 {
	if t.Form == contract.FormStacks && !stacksAlone {
		return float64(t.Max) * float64(t.Each)
	}
	return float64(t.Max)
}

// longest is how many milliseconds a session lasts at most: thirty thousand years.
const longest = 1e15

// parts follows a vector or line that is made of parts: its range holds those of all of them.
func (f *flow) parts(x *contract.Expr) val {
	out := val{ranged: true}
	for i, arg := range x.Args {
		v := f.value(arg)
		out.label = out.label.with(f.observed(arg, v))
		out.ranged = out.ranged && v.ranged
		if i == 0 {
			out.low, out.high = v.low, v.high
		}
		out.low, out.high = min(out.low, v.low), max(out.high, v.high)
	}
	return out
}

// constant follows a constant: it tells of nothing, and its range is its value.
func (f *flow) constant(x *contract.Expr) val {
	v := val{sym: "nothing"}
	switch x.Type.Form {
	case contract.FormInt, contract.FormTime:
		v.low = float64(x.Num)
		v.high = float64(x.Num)
		v.ranged = true
	case contract.FormReal:
		n := math.Float64frombits(uint64(x.Num))
		if x.Type.Counted() {
			n = x.Type.Real(x.Num)
		}
		v.low = n
		v.high = n
		v.ranged = true
	case contract.FormVec2, contract.FormVec3:
		for _, slot := range x.Nums {
			n := math.Float64frombits(uint64(slot))
			if x.Type.Counted() {
				n = x.Type.Real(slot)
			}
			v.low = min(v.low, n)
			v.high = max(v.high, n)
		}
		v.ranged = true
	case contract.FormClient:
		v.sym = f.symOf(x)
	}
	return v
}

// either follows `and` or `or`. The second side is computed only under the first, so that what it may fail for tells of
// the first.
func (f *flow) either(x *contract.Expr) val {
	a := f.value(x.Args[0])
	var b val
	// What the first side of an `and` asks holds while the second is computed; nothing is learnt of an `or`.
	facts := len(f.facts)
	if x.Op == contract.OpAnd {
		f.assume(x.Args[0], true)
	}
	f.maybe++
	f.under(a.label, func() { b = f.value(x.Args[1]) })
	f.maybe--
	f.facts = f.facts[:facts]
	return val{label: a.label.with(b.label)}
}

// choose follows a value that depends on a condition. What only one side may fail for tells of the condition.
func (f *flow) choose(x *contract.Expr) val {
	cond := f.value(x.Args[0])
	side := func(x, cond *contract.Expr, l label, holds bool) (v val) {
		facts := len(f.facts)
		f.assume(cond, holds)
		f.maybe++
		f.under(l, func() { v = f.value(x) })
		f.maybe--
		f.facts = f.facts[:facts]
		return v
	}
	l := f.observed(x.Args[0], cond)
	a := side(x.Args[1], x.Args[0], l, true)
	b := side(x.Args[2], x.Args[0], l, false)
	out := val{
		label:  l.with(f.observed(x.Args[1], a)).with(f.observed(x.Args[2], b)),
		low:    min(a.low, b.low),
		high:   max(a.high, b.high),
		ranged: a.ranged && b.ranged,
	}
	if a.sym == b.sym {
		out.sym = a.sym
	} else if x.Type.Form == contract.FormEntity || x.Type.Form == contract.FormClient {
		out.sym = f.fresh("one of two")
	}
	return out
}

// quotient follows a division or its rest, which fails for 0.
//
// Of a real the range is wide but certain where the divisor cannot come near 0.
func (f *flow) quotient(x *contract.Expr) val {
	a := f.value(x.Args[0])
	b := f.value(x.Args[1])
	if !b.ranged || b.low <= 0 && b.high >= 0 {
		f.mayFail(b.label, mendZero)
	}
	v := val{label: a.label.with(b.label)}
	least := smallest(x.Args[1], b)
	if x.Op == contract.OpDiv && x.Type.Form != contract.FormInt && a.ranged && least > 0 {
		v.high = a.magnitude() / least
		v.low = -v.high
		v.ranged = true
		if overflows(x, v) {
			f.mayFail(v.label, mendRange)
		}
	}
	if x.Op == contract.OpMod && b.ranged && b.low > 0 {
		// The rest has the sign of the dividend.
		v.low = 0
		v.high = b.high - 1
		v.ranged = true
		if !a.ranged || a.low < 0 {
			v.low = 1 - b.high
		}
	}
	return v
}

// smallest returns how near to 0 a divisor can be when it is not 0; 0 when that is not known.
func smallest(x *contract.Expr, v val) float64 {
	switch {
	case v.ranged && v.low > 0:
		return v.low
	case v.ranged && v.high < 0:
		return -v.high
	case x.Op == contract.OpReal && x.Args[0].Type.Form == contract.FormReal:
		return x.Args[0].Type.Real(1) // it is held as a count of steps
	case x.Op == contract.OpFromInt, x.Type.Form == contract.FormInt:
		return 1
	}
	return 0
}

// clip follows a number that is kept within a range.
//
// It is the usual way to keep a calculation from failing, so its range matters more than that of most.
func (f *flow) clip(x *contract.Expr) val {
	v := f.value(x.Args[0])
	low := f.value(x.Args[1])
	high := f.value(x.Args[2])
	// The upper end counts where the ends are exchanged.
	out := val{
		label:  v.label.with(low.label).with(high.label),
		low:    min(low.low, high.low),
		high:   high.high,
		ranged: low.ranged && high.ranged,
	}
	if v.ranged {
		// What the value itself may be narrows the range further.
		out.low = min(max(v.low, low.low), high.low)
		out.high = min(max(v.high, low.high), high.high)
	}
	return out
}

// roll follows a roll, which fails for an empty range.
func (f *flow) roll(x *contract.Expr) val {
	low := f.value(x.Args[0])
	high := f.value(x.Args[1])
	if !low.ranged || !high.ranged || low.high > high.low {
		f.mayFail(low.label.with(high.label), "let the lower end of the roll be no greater than the upper one")
	}
	return val{
		label:  low.label.with(high.label),
		low:    low.low,
		high:   high.high,
		ranged: low.ranged && high.ranged,
	}
}

// math follows a function of reals. Of some it is known that they fail for some values.
func (f *flow) math(x *contract.Expr) val {
	v := val{ranged: true}
	var args []val
	for i, arg := range x.Args {
		a := f.value(arg)
		args = append(args, a)
		v.label = v.label.with(a.label)
		v.ranged = v.ranged && a.ranged
		switch {
		case i == 0:
			v.low = a.low
			v.high = a.high
		case x.Name == "min":
			v.low = min(a.low, v.low)
			v.high = min(a.high, v.high)
		default:
			v.low = max(a.low, v.low)
			v.high = max(a.high, v.high)
		}
	}
	switch x.Name {
	case "min", "max":
		return v
	case "unit", "root", "turn", "angle":
		f.mayFail(
			v.label,
			"ask first that `"+x.Name+"` has a value there: that a vector has a length, or that a number is not "+
				"below 0",
		)
	case "sown":
		low := x.Args[2]
		high := x.Args[3]
		if low.Op != contract.OpConst || high.Op != contract.OpConst {
			f.mayFail(args[2].label.with(args[3].label), "ask first that the range has a number")
		}
	case "floor", "round":
		if !v.ranged || v.magnitude() > mostWhole {
			f.mayFail(v.label, mendRange)
		}
	}
	return mathRange(x, args, val{label: v.label})
}

// mathRange returns v with the range of what a function of reals gives for some arguments, where that is a real.
func mathRange(x *contract.Expr, args []val, v val) val {
	for _, a := range args {
		if !a.ranged && x.Name != "unit" && x.Name != "turn" && x.Name != "angle" {
			return v
		}
	}
	most := 0.0
	switch x.Name {
	case "unit", "turn":
		most = 1
	case "angle":
		most = math.Pi
	case "abs", "root": // a root is no further from 0 than the number itself, or than 1
		most = max(args[0].magnitude(), 1)
	case "length", "turned":
		most = 2 * args[0].magnitude() // a vector of three parts is less than twice as long as its longest part
	case "distance":
		most = 2 * (args[0].magnitude() + args[1].magnitude())
	case "dot":
		most = 3 * args[0].magnitude() * args[1].magnitude()
	default:
		return v
	}
	if x.Type.Form == contract.FormInt { // abs: that of the least whole number is none
		return v
	}
	v.low = -most
	v.high = most
	v.ranged = true
	return v
}

// fitsType reports whether a value surely is of a type that it is handed over as.
func (f *flow) fitsType(v val, x *contract.Expr, t *contract.Type) bool {
	switch t.Form {
	case contract.FormInt, contract.FormTime:
		of := x.Type
		narrower := of.Form == t.Form && (of.Low != 0 || of.High != 0) &&
			of.Low >= t.Low && of.High <= t.High
		return t.Low == 0 && t.High == 0 || narrower ||
			v.ranged && v.low >= float64(t.Low) && v.high <= float64(t.High)
	case contract.FormReal:
		return !t.Counted() || v.ranged && v.low >= t.Real(t.Low) && v.high <= t.Real(t.High)
	case contract.FormText:
		return t.Max == 0 || x.Op == contract.OpConst || x.Type.String() == t.String() ||
			x.Op == contract.OpWords && t.Chars == "" // the checker has held it against the bound
	case contract.FormVec2, contract.FormVec3, contract.FormRotation, contract.FormDirection, contract.FormList,
		contract.FormRecord, contract.FormMap:
		return t.Form != contract.FormDirection && !t.Counted() && t.Of == nil && t.Parts == nil ||
			x.Op == contract.OpConst ||
			x.Type.String() == t.String() && x.Op != contract.OpSteps
	}
	return true
}

// handed notes that a cause fails when a value is not of the type that it is handed over as.
//
// It covers arguments, replies, events, map keys and what is put into a list.
func (f *flow) handed(v val, x *contract.Expr, t *contract.Type) { f.handedTo(v, x, t, mendRange) }

// handedTo is handed with the advice that goes with the finding.
func (f *flow) handedTo(v val, x *contract.Expr, t *contract.Type, mend string) {
	if !f.fitsType(v, x, t) {
		f.mayFail(v.label, mend)
	}
}

// typed adds the range of a type.
//
// It is for values that are known to be of the type, and not for one that is about to be checked
// against it.
func (f *flow) typed(v val, t *contract.Type) val {
	switch {
	case t.Whole() && (t.Low != 0 || t.High != 0):
		v.low = float64(t.Low)
		v.high = float64(t.High)
		v.ranged = true
	case t.Counted() && t.Form != contract.FormDirection: // of a vector, that of each part
		v.low = t.Real(t.Low)
		v.high = t.Real(t.High)
		v.ranged = true
	case t.Form == contract.FormDirection:
		v.low = -1 // as a vector, which it is where something is computed with it
		v.high = 1
		v.ranged = true
	}
	return v
}

// sum returns what is known of a negation, a sum, a difference or a product, and notes that the cause fails where a
// whole number may overflow.
func (f *flow) sum(x *contract.Expr) val {
	a := f.value(x.Args[0])
	out := val{label: a.label, ranged: a.ranged}
	if x.Op == contract.OpNeg {
		out.low, out.high = -a.high, -a.low
	} else {
		b := f.value(x.Args[1])
		out.label = a.label.with(b.label)
		out.ranged = a.ranged && b.ranged
		switch x.Op {
		case contract.OpAdd:
			out.low = a.low + b.low
			out.high = a.high + b.high
		case contract.OpSub:
			out.low, out.high = a.low-b.high, a.high-b.low
			if out.ranged && f.same(x.Args[0]) == f.same(f.unclipped(x.Args[1], a)) {
				out.low = 0
				out.high = 0 // a number less itself
			}
		case contract.OpMul:
			// The extremes of a product are at the ends of its factors, whatever their signs.
			ends := []float64{a.low * b.low, a.low * b.high, a.high * b.low, a.high * b.high}
			out.low, out.high = slices.Min(ends), slices.Max(ends)
		}
	}
	if overflows(x, out) {
		f.mayFail(out.label, mendRange)
	}
	return out
}

// Beyond these magnitudes a whole number may have more than 64 bits, and a real may be infinite.
const (
	mostWhole = 9e18
	mostReal  = 1e300
)

// magnitude returns the greatest distance of a number from 0, or of each part of a vector.
func (v val) magnitude() float64 { return math.Max(math.Abs(v.low), math.Abs(v.high)) }

// overflows reports whether the result v of a calculation may be none. Of reals and times whose range
// is not known it is not taken to be so: it takes many factors to come from what a property, constant
// or clock can hold to one that is too great.
func overflows(x *contract.Expr, v val) bool {
	switch x.Type.Form {
	case contract.FormInt:
		return !v.ranged || v.magnitude() > mostWhole
	case contract.FormTime:
		return v.ranged && v.magnitude() > mostWhole || !v.ranged && x.Op == contract.OpMul
	case contract.FormReal, contract.FormVec2, contract.FormVec3:
		return v.ranged && v.magnitude() > mostReal
	}
	return false
}

// unclipped returns what a clip that changes nothing is of.
func (f *flow) unclipped(x *contract.Expr, v val) *contract.Expr {
	if x.Op != contract.OpClip || x.Args[1].Op != contract.OpConst || x.Args[2].Op != contract.OpConst ||
		x.Type.Form != contract.FormInt ||
		float64(x.Args[1].Num) > v.low || float64(x.Args[2].Num) < v.high {
		return x
	}
	return x.Args[0]
}

// get returns what is known of the property that an expression reads.
//
// For an entity of several kinds the label holds what each of their properties tells.
func (f *flow) get(x *contract.Expr) val {
	e := f.value(x.Args[0])
	l := f.observed(x.Args[0], e)
	if !certain(x.Args[0]) {
		f.there(e.sym, l)
	}
	var p *contract.Property
	for _, k := range x.Args[0].Type.Kinds {
		q := x.Prop
		if x.Props != nil {
			q = x.Props[k.Index]
		}
		if q != nil {
			p = q
			// A property that has had its default since the entity was made by this cause tells of nothing. In a loop
			// the entity may be another one each time.
			if f.loops > 0 || f.begun[e.sym] != k || f.cause.Changes[q] || q.Keep || f.given[q] {
				l = l.with(f.property(k, q, e.sym))
			}
			if x.Op == contract.OpComputed {
				f.computes(k, q, e.sym)
			}
		}
	}
	v := val{label: l}
	switch {
	case x.Op == contract.OpSince:
		v.high = longest
		v.ranged = true
	case x.Op == contract.OpPath && p != nil:
		v = f.typed(v, p.Type)
	}
	if x.Op == contract.OpComputed && p != nil {
		v = f.typed(v, p.Type)
	}
	if x.Op == contract.OpGet {
		v.sym = f.symOf(x)
		if p != nil {
			v = f.typed(v, p.Type)
			// It has its default for ever.
			number := p.Type.Whole() || p.Type.Form == contract.FormReal
			if v.ranged && number && len(l) == 0 && f.fixed(p) {
				v.low = float64(p.Default[0])
				if p.Type.Counted() {
					v.low = p.Type.Real(p.Default[0])
				}
				v.high = v.low
			}
			if x.Prop != nil {
				v = f.bounded(v, f.same(x))
			}
		}
	}
	return v
}

// there notes that something is read or run through an entity, which fails when it is not there; from then on it is.
func (f *flow) there(entity sym, l label) {
	if !f.known(thereIs(entity)) {
		// What goes through a ref that is surely nothing ends the body here.
		f.dead = f.dead || entity == "nothing" && f.maybe == 0
		f.mayFail(l, mendGone)
		f.learn(thereIs(entity))
	}
}

// open reports whether everyone may see what is read.
func (f *flow) open(x *contract.Expr) bool {
	return x.Prop.To == contract.Everyone &&
		!slices.ContainsFunc(x.Args[0].Type.Kinds, func(k *contract.Kind) bool { return k.To != contract.Everyone })
}

// fixed reports whether nothing ever gives a property another value than its default.
//
// What `keep` brings from another session need not be the default.
func (f *flow) fixed(p *contract.Property) bool {
	return !p.Written && p.Set == nil && p.Follows == nil && p.Hold == nil && !p.Keep && !p.Computed
}

// reveal makes a value public, and remembers of what.
func (f *flow) reveal(x *contract.Expr) val {
	// What the value is computed from is the contract's to reveal, with all that computing it may fail of: nothing is
	// reported meanwhile, and nothing of it remains.
	faults := len(f.cause.faults)
	exit := f.exit
	pc := f.pc
	report := f.flows.report
	f.flows.report = func(string, int, syntax.Span, string, string) {}
	v := f.value(x.Args[0])
	f.flows.report = report
	l := f.observed(x.Args[0], v)
	f.cause.faults = f.cause.faults[:faults]
	f.exit = exit
	f.pc = pc
	known := label(nil) // what of it is not for everyone, once it is revealed
	tells := len(l) > 0
	if x.Who != nil {
		known = f.revealedTo(l, x.Who)
		tells = !slices.Equal(known, l)
	}
	// A reveal that reveals nothing is a finding; whether it does is known when every cause that comes to it was
	// followed.
	if f.flows.telling != nil {
		if tells {
			f.flows.telling[x] = true
		} else {
			f.flows.idle[x] = fault{at: f.at, decl: f.decl}
		}
	}
	r := Reveal{
		In:   f.cause.Name,
		Text: x.Name,
		Line: f.cause.line,
		To:   "everyone",
	}
	if x.Who != nil {
		r.To = f.contract.WhoText(x.Who)
	}
	if f.at.End > 0 {
		r.Line = f.lineOf(f.at)
	}
	for _, a := range l {
		r.Of = append(r.Of, strings.Trim(a.of, "`"))
	}
	slices.Sort(r.Of)
	r.Of = slices.Compact(r.Of)
	if !slices.ContainsFunc(f.cause.Reveals, func(o Reveal) bool {
		return o.Text == r.Text && o.Line == r.Line &&
			o.In == r.In && o.To == r.To
	}) {
		f.cause.Reveals = append(f.cause.Reveals, r)
	}
	v.label = known
	return v
}

// call reads a function with the values that it is called with.
//
// Its arguments get the labels of their values; nothing else of the caller's is known in it.
func (f *flow) call(x *contract.Expr) val {
	inner := *f
	inner.kind = nil
	inner.self = ""
	inner.mine = false
	inner.facts = nil
	inner.free = nil
	inner.begun = nil
	// A function that was called with values that tell the same, at a place that depends on the same, gives the same:
	// it is followed once for each.
	key := fmt.Sprint("fn ", x.Fn.Index)
	inner.locals = map[int64]val{}
	inner.lists = map[int64]val{}
	var all label
	for i, a := range x.Args {
		v := f.value(a)
		all = all.with(f.observed(a, v))
		f.handed(v, a, x.Fn.Params[i].Type)
		v = f.typed(v, x.Fn.Params[i].Type)
		inner.give(x.Fn.Params, i, v)
		key += " " + v.sym + "/" + v.label.key()
	}
	key += "|" + f.pc.with(f.exit).key()
	if v, done := f.cause.fns[key]; done {
		return v
	}
	f.cause.steps++
	if f.cause.steps > maxFlow || x.Fn.Body == nil || x.Fn.Body.Value == nil {
		// What is not followed counts as secret, so that nothing is missed: the contract can reveal it.
		l := all.with(
			label{
				f.atom(
					crowd{
						{sort: contract.ToNobody},
					}, "what `"+x.Fn.Name+"` computes", "nobody, as far as it can be followed",
				),
			},
		)
		f.mayFail(l, "let the function call fewer others")
		return val{label: l, sym: f.fresh("some")}
	}
	v := inner.value(x.Fn.Body.Value)
	f.handed(v, x.Fn.Body.Value, x.Fn.Result)
	v = f.typed(v, x.Fn.Result)
	f.cause.fns[key] = v
	return v
}

// give puts the value of an argument where the body wants it.
func (f *flow) give(params []contract.Param, arg int, v val) {
	nums := int64(0)
	mem := int64(0)
	for i, p := range params {
		if p.Type.Holder() {
			if i == arg {
				f.lists[mem] = v
			}
			mem += int64(p.Type.Width())
			continue
		}
		if i == arg {
			f.locals[nums] = v
		}
		nums += int64(p.Type.Width())
	}
}

// over reads what a loop or query goes over: what each tells by being among them.
//
// The query's name gets a value of its own for "each of them". What `where` asks holds for it from then
// on.
func (f *flow) over(q *contract.Query) label {
	var l label
	each := val{}
	switch {
	case q.Kinds != nil:
		each.sym = f.fresh("each")
		if len(q.Kinds) == 1 {
			each.sym += ":" + q.Kinds[0].Name
		}
		l = f.existence(q.Kinds, each.sym)
		f.learn(thereIs(each.sym))
	case q.Clients:
		each.sym = f.fresh("client")
		f.learn(thereIs(each.sym))
	case q.Low != nil:
		low := f.value(q.Low)
		high := f.value(q.High)
		l = low.label.with(high.label)
		each = val{label: l, low: low.low, high: high.high, ranged: low.ranged && high.ranged}
	default:
		v := f.value(q.List)
		l = v.label
		each.label = v.label
		each.sym = f.fresh("each")
		each = f.typed(each, q.Var.Type)
		if q.List.Type.Form == contract.FormMap {
			f.learn(subject{factHas, f.same(q.List), f.same(q.Var)})
		}
	}
	f.locals[q.Var.Num] = each
	if q.Second != nil && q.Second.Type.Holder() {
		f.lists[q.Second.Num] = val{label: l}
	} else if q.Second != nil {
		f.locals[q.Second.Num] = f.typed(val{label: l, sym: f.fresh("beside")}, q.Second.Type)
		if q.List.Type.Form == contract.FormList {
			f.learn(subject{factBelow, f.same(q.List), f.same(q.Var)})
		}
	}
	if q.Within != nil {
		l = l.with(f.value(q.Within).label).with(f.value(q.Of).label)
		for _, k := range q.Kinds {
			l = l.with(f.property(k, q.Pos[k.Index], each.sym))
		}
	}
	if q.Where != nil {
		f.under(l, func() { l = l.with(f.observed(q.Where, f.value(q.Where))) })
		f.assume(q.Where, true)
	}
	return l
}

// mostItems is more than any query goes over.
const mostItems = 1e9

// sumRange returns v, the range of one value, as that of the sum of many; of whole numbers it is not kept.
func sumRange(x *contract.Expr, v val) val {
	v.ranged = v.ranged && x.Type.Form != contract.FormInt
	v.high = mostItems * v.magnitude()
	v.low = -v.high
	return v
}

// query returns what is known of the result of a query: it depends on every entity that the query looks at.
func (f *flow) query(x *contract.Expr) val {
	q := x.Query
	facts := len(f.facts)
	defer func() { f.facts = f.facts[:facts] }()
	f.maybe++
	defer func() { f.maybe-- }()
	l := f.over(q)
	out := val{label: l, sym: f.fresh("one")}
	if len(q.Kinds) == 1 {
		out.sym += ":" + q.Kinds[0].Name
	}
	f.under(l, func() {
		if q.Value != nil {
			v := f.value(q.Value)
			out.label = out.label.with(f.observed(q.Value, v))
			if q.Do == "min" || q.Do == "max" || q.Do == "sum" {
				out.low = v.low
				out.high = v.high
				out.ranged = v.ranged
			}
		}
		if q.Else != nil {
			v := f.value(q.Else)
			out.label = out.label.with(f.observed(q.Else, v))
			if v.ranged && out.ranged {
				out.low = min(out.low, v.low)
				out.high = max(out.high, v.high)
			} else {
				out.ranged = false
			}
		}
	})
	switch q.Do {
	case "count":
		out.low = 0
		out.high = mostItems
		out.ranged = true
	case "one", "first", "min", "max", "most", "least", "best":
		if q.Else == nil || q.Do == "one" { // which one it is decides nothing
			f.mayFail(
				l,
				map[bool]string{
					true:  "ask `count(…) == 1` first",
					false: "say `else` behind it, for when there is none",
				}[q.Do == "one"],
			)
		}
	case "sum":
		if x.Type.Form == contract.FormInt {
			f.mayFail(out.label, mendRange)
		}
		out = sumRange(x, out)
	}
	if q.Do == "first" || q.Do == "one" || q.Do == "most" || q.Do == "least" || q.Do == "best" {
		each := f.locals[q.Var.Num]
		out.label = out.label.with(each.label)
	}
	return out
}
