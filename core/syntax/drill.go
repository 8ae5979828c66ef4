package syntax

import (
	"fmt"
	"slices"
	"strings"
)

// maxDrillLines is how many lines all drills of a file may have.
const maxDrillLines = 20_000

// DrillFile is one file of drills.
type DrillFile struct {
	Source *Source
	Drills []*Drill
}

// Drill is `drill "NAME"`, `use "FILE" seed N` or `use "FILE" from "RECORDING" at N`, and its lines.
type Drill struct {
	At        Span
	Name      *Literal
	Contract  *Literal
	Seed      *Number  // nil when absent
	Recording *Literal // the file of the recording from which it begins; nil for none
	Tick      *Number  // of the recording; nil for its end
	Settings  []Set
	Lines     []DrillLine
}

// DrillLine is a line of a drill: *Let, *DrillJoin, *DrillLink, *DrillSet, *DrillAct, *DrillMove, *DrillSkip,
// *DrillWait, *DrillKeep, *DrillRestart, *DrillNext, *DrillArrivals, *DrillExpect or *DrillLoop.
type DrillLine interface{ Span() Span }

// DrillJoin is `clients a, b as ROLE`, `host a` or `join a`, each with or without `meanwhile`.
type DrillJoin struct {
	At        Span
	Names     []Ident
	Role      Ident // empty for the first role
	Host      bool
	Meanwhile bool // nothing waits for it
}

// DrillLink is `link NAME delay TIME jitter TIME loss N% reorder N% bandwidth N steady`. The shares are in percent.
type DrillLink struct {
	At        Span
	Who       Ident
	Delay     *Number // milliseconds, as Jitter; nil when absent, as all
	Jitter    *Number
	Loss      *Number
	Reorder   *Number
	Bandwidth *Number // bytes a second
	Steady    bool    // it is not shaken
}

// DrillSet is `set PLACE = VALUE`, or `give ENTITY to CLIENT`.
type DrillSet struct {
	At     Span
	Give   bool
	Target Expr // the place, or the entity
	Value  Expr // the new value, or the client
}

// DrillVerb says what a client sends.
type DrillVerb string

// The verbs of what a client sends.
const (
	VerbAsks     DrillVerb = "asks"     // a request
	VerbForges   DrillVerb = "forges"   // a request that an honest client could not send
	VerbHolds    DrillVerb = "holds"    // a press that is renewed until it is released
	VerbPresses  DrillVerb = "presses"  // a press that is not renewed
	VerbRenews   DrillVerb = "renews"   // a press again, with its number
	VerbReleases DrillVerb = "releases" // the end of a press
	VerbWrites   DrillVerb = "writes"   // a value of a property that it may set
)

// drillVerbs are all verbs of what a client sends.
var drillVerbs = []DrillVerb{VerbAsks, VerbForges, VerbHolds, VerbPresses, VerbRenews, VerbReleases, VerbWrites}

// DrillAct is what a client sends.
type DrillAct struct {
	At     Span
	Who    Ident
	Verb   DrillVerb
	Target Expr   // of a request, hold or property
	Args   []Expr // of a request
	Value  Expr   // of a write
	Want   *DrillWant
}

// DrillWant is `-> OUTCOME "reason"`, or `-> accepted VALUE`.
type DrillWant struct {
	At      Span
	Outcome Ident
	Reason  *Literal // nil for any
	Value   Expr     // nil for any
}

// DrillMoveVerb says what becomes of a client's connection.
type DrillMoveVerb string

// The verbs of what becomes of a connection.
const (
	MoveLeave DrillMoveVerb = "leave" // the client gives its seat back
	MoveCut   DrillMoveVerb = "cut"   // its connection breaks
	MoveBack  DrillMoveVerb = "back"  // it takes its seat over another connection
)

// DrillMove is `leave NAME`, `cut NAME` or `back NAME`.
type DrillMove struct {
	At   Span
	Verb DrillMoveVerb
	Who  Ident
}

// DrillSkip is `NAME skips N`.
type DrillSkip struct {
	At    Span
	Who   Ident
	Count *Number
}

// DrillWait is `settle`, `wait TIME`, `wait N ticks`, or `wait at most … until EXPECTATION`.
type DrillWait struct {
	At     Span
	Settle bool
	Ms     *Number // one of the two, unless it settles
	Ticks  *Number
	Until  *DrillExpect // nil for a plain wait
}

// DrillKeep is `NAME keeps KIND.PROPERTY = VALUE`: what a player has from an earlier session.
type DrillKeep struct {
	At     Span
	Who    Ident
	Target Expr
	Value  Expr
}

// DrillRestart is `restart`, `restart losing N ticks` or `restart at N`: the session's process is killed, and the
// session recovered.
type DrillRestart struct {
	At     Span
	Losing *Number // how many of the last ticks were not kept; nil for none
	Tick   *Number // with which it goes on; nil for five seconds later
}

// DrillNext is `next session`: everyone leaves, the session is closed, and another one is opened.
type DrillNext struct{ At Span }

// DrillArrivals is `arrivals fail` or `arrivals work`: what becomes of clients that are sent elsewhere from now on.
type DrillArrivals struct {
	At   Span
	Fail bool
}

// DrillExpectation says what is expected of a client, of the server or of everyone.
type DrillExpectation string

// What can be expected.
const (
	ExpectSees     DrillExpectation = "sees"     // a condition over what it sees
	ExpectMisses   DrillExpectation = "misses"   // it does not see something
	ExpectHeard    DrillExpectation = "heard"    // an event
	ExpectNoticed  DrillExpectation = "noticed"  // a change of a property
	ExpectStrikes  DrillExpectation = "strikes"  // how many strikes it has
	ExpectExpelled DrillExpectation = "expelled" // it has been put out
	ExpectSent     DrillExpectation = "sent"     // it has been sent elsewhere
	ExpectLogged   DrillExpectation = "logged"   // a line of the log
	ExpectGot      DrillExpectation = "got"      // how many bytes of a kind it got
	ExpectInStep   DrillExpectation = "step"     // its copy is what it should be
	ExpectFaults   DrillExpectation = "faults"   // what failed inside the contract
)

// DrillExpect is `expect WHO …`.
type DrillExpect struct {
	At     Span
	Who    Ident // a client, server or everyone
	What   DrillExpectation
	Not    bool     // of heard, expelled, sent and logged
	Value  Expr     // what is seen or missed, the event that is heard, the property that is noticed
	Args   []Expr   // of the event; nil for any
	Count  *Number  // how often it is heard, how many strikes, how many bytes at most; nil when absent
	From   Expr     // of noticed: the old value
	To     Expr     // of noticed: the new value
	Text   *Literal // of logged
	Exit   Ident    // of sent; without text for any
	Kind   Ident    // of got
	Window *Number  // of got, in milliseconds

	Handler Ident // faults: what failed, such as `on spawn of Diver`
}

// DrillLoop is `repeat N { … }` or `for NAME in A, B { … }`.
type DrillLoop struct {
	At    Span
	Count *Number // nil for `for`
	Name  Ident
	Over  []Ident // clients
	Body  []DrillLine
}

//revive:disable:exported The lines have this one method, which is documented once.

// Span returns the place of a node in its source.
func (n *Drill) Span() Span         { return n.At }
func (n *DrillJoin) Span() Span     { return n.At }
func (n *DrillLink) Span() Span     { return n.At }
func (n *DrillSet) Span() Span      { return n.At }
func (n *DrillAct) Span() Span      { return n.At }
func (n *DrillMove) Span() Span     { return n.At }
func (n *DrillSkip) Span() Span     { return n.At }
func (n *DrillWait) Span() Span     { return n.At }
func (n *DrillKeep) Span() Span     { return n.At }
func (n *DrillRestart) Span() Span  { return n.At }
func (n *DrillNext) Span() Span     { return n.At }
func (n *DrillArrivals) Span() Span { return n.At }
func (n *DrillExpect) Span() Span   { return n.At }
func (n *DrillLoop) Span() Span     { return n.At }

//revive:enable:exported

// ParseDrills reads a file of drills. The tree holds everything that could be read, also when there are problems.
func ParseDrills(src *Source) (*DrillFile, Problems) {
	s := scan(src, src.whole())
	p := &parser{
		src:      src,
		tokens:   s.tokens,
		problems: s.problems,
		file:     &File{Source: src},
	}
	d := &drillParser{parser: p, file: &DrillFile{Source: src}}
	for p.tok().Kind != End {
		p.attempt(d.top)
		if p.is("}") {
			p.fail(
				p.tok().Span, "unbalanced", "this `}` closes nothing",
				"remove it, or look for a `{` that is missing above",
			)
			p.take()
		}
	}
	problems := p.problems.Sort()
	return d.file, problems[:min(len(problems), maxProblems)]
}

type drillParser struct {
	*parser
	file  *DrillFile
	lines int
}

const drillHint = "one of clients, host, join, leave, link, cut, back, set, give, let, settle, wait, restart, " +
	"arrivals, next session, repeat, for, expect, or a client with asks, writes, holds, presses, renews, releases, " +
	"forges, skips or keeps"

// top reads the head of a drill or one line of the last one.
func (p *drillParser) top() {
	t := p.tok()
	if !p.accept("drill") {
		if len(p.file.Drills) == 0 {
			p.abort("a drill", "as in: drill \"a patch mends\"")
		}
		d := p.file.Drills[len(p.file.Drills)-1]
		if line := p.line(); line != nil {
			d.Lines = append(d.Lines, line)
		}
		p.endOfStatement("this line")
		return
	}
	d := &Drill{Name: p.text("the drill's name")}
	d.At = Span{t.Span.Start, p.last()}
	p.file.Drills = append(p.file.Drills, d)
	p.expect("use", "and the contract, as in use \"tidewreck.kam\" seed 7")
	d.Contract = p.text("the name of a contract's file")
	switch {
	case p.accept("seed"):
		d.Seed = p.number("the seed")
	case p.accept("from"):
		d.Recording = p.text("the file of a recording")
		if p.accept("at") {
			d.Tick = p.number("the tick from which it goes on")
		}
	}
	if p.accept("with") {
		d.Settings = append(d.Settings, p.set())
		for p.accept(",") {
			d.Settings = append(d.Settings, p.set())
		}
	}
	d.At.End = p.last()
	p.endOfStatement("the drill's head")
}

// client reads the name of a client.
func (p *drillParser) client() Ident { return p.name("the name of a client") }

// line reads one line of a drill; a loop has its lines in braces.
//
//revive:disable-next-line:function-length It is one switch.
func (p *drillParser) line() DrillLine {
	p.lines++
	if p.lines > maxDrillLines {
		p.fail(p.tok().Span, "out-of-range", "the file has too many lines", fmt.Sprintf("at most %d", maxDrillLines))
		panic(skip{})
	}
	t := p.tok()
	at := func() Span { return Span{t.Span.Start, p.last()} }
	next := p.peek()
	acts := next.Kind == Name && !next.Newline &&
		slices.Contains(drillVerbs, DrillVerb(next.Text))
	switch {
	case acts:
		return p.act()
	case next.Kind == Name && !next.Newline && next.Text == "skips":
		n := &DrillSkip{Who: p.client()}
		p.take()
		n.Count = p.number("how many numbers")
		n.At = at()
		return n
	case next.Kind == Name && !next.Newline && next.Text == "keeps":
		n := &DrillKeep{Who: p.client()}
		p.take()
		n.Target = p.postfix()
		p.expect("=", "and a value, as in ana keeps Diver.tint = teal")
		n.Value = p.expr()
		n.At = at()
		return n
	case p.accept("let"):
		n := &Let{Name: p.name("a name")}
		p.expect("=", "and a value")
		n.Value = p.expr()
		n.At = at()
		return n
	case p.is("clients") || p.is("join") || p.is("host"):
		n := &DrillJoin{Host: p.take().Text == "host"}
		n.Names = append(n.Names, p.client())
		for p.accept(",") {
			n.Names = append(n.Names, p.client())
		}
		if p.is("as") && !p.tok().Newline {
			p.take()
			n.Role = p.name("a role")
		}
		if p.is("meanwhile") && !p.tok().Newline {
			p.take()
			n.Meanwhile = true
		}
		n.At = at()
		return n
	case p.accept("link"):
		n := &DrillLink{Who: p.client()}
		p.conditions(n)
		n.At = at()
		return n
	case p.accept("set"):
		n := &DrillSet{Target: p.postfix()}
		p.expect("=", "and a value, as in set ana.Diver.hull = 40")
		n.Value = p.expr()
		n.At = at()
		return n
	case p.accept("give"):
		n := &DrillSet{Give: true, Target: p.postfix()}
		p.expect("to", "a client, or server")
		n.Value = p.expr()
		n.At = at()
		return n
	case p.is(string(MoveLeave)) || p.is(string(MoveCut)) || p.is(string(MoveBack)):
		n := &DrillMove{Verb: DrillMoveVerb(p.take().Text), Who: p.client()}
		n.At = at()
		return n
	case p.accept("arrivals"):
		n := &DrillArrivals{Fail: p.is("fail")}
		if !p.accept("fail") && !p.accept("work") {
			p.abort("`fail` or `work`", "as in: arrivals fail")
		}
		n.At = at()
		return n
	case p.accept("settle"):
		return &DrillWait{At: at(), Settle: true}
	case p.accept("restart"):
		n := &DrillRestart{}
		if p.accept("at") {
			n.Tick = p.number("the tick with which the session goes on")
		}
		if p.accept("losing") {
			n.Losing = p.number("how many of the last ticks were not kept")
			if !p.accept("tick") {
				p.expect("ticks", "as in restart losing 10 ticks")
			}
		}
		n.At = at()
		return n
	case p.accept("next"):
		p.expect("session", "as in next session")
		return &DrillNext{At: at()}
	case p.accept("wait"):
		n := &DrillWait{}
		if p.accept("at") {
			p.expect("most", "and a time, as in wait at most 2s until bo sees Dive.phase == dive")
			n.span(p)
			p.expect("until", "what is expected")
			n.Until = p.expectation()
		} else {
			n.span(p)
		}
		n.At = at()
		return n
	case p.accept("expect"):
		n := p.expectation()
		n.At.Start = t.Span.Start
		return n
	case p.accept("repeat"):
		n := &DrillLoop{Count: p.number("how often")}
		n.Body = p.lineup()
		n.At = at()
		return n
	case p.accept("for"):
		n := &DrillLoop{Name: p.name("a name for each")}
		p.expect("in", "and clients, as in for c in ana, bo { … }")
		n.Over = append(n.Over, p.client())
		for p.accept(",") {
			n.Over = append(n.Over, p.client())
		}
		n.Body = p.lineup()
		n.At = at()
		return n
	}
	p.abort("a line of a drill", drillHint)
	return nil
}

// span reads `2s` or `3 ticks`.
func (n *DrillWait) span(p *drillParser) {
	if p.tok().Kind == Duration {
		n.Ms = p.duration()
		return
	}
	n.Ticks = p.number("a time such as 2s, or a number of ticks")
	if !p.accept("ticks") {
		p.expect("tick", "or `ticks`, or a time such as 2s")
	}
}

// conditions reads what a line says of a link, in any order: delay, jitter, loss and so on.
func (p *drillParser) conditions(n *DrillLink) {
	share := func(what string) *Number {
		x := p.number(what + " in percent")
		p.expect("%", "after the number, as in `loss 5%`")
		return x
	}
	for !p.tok().Newline && p.tok().Kind != End {
		switch {
		case p.accept("delay"):
			n.Delay = p.duration()
		case p.accept("jitter"):
			n.Jitter = p.duration()
		case p.accept("loss"):
			n.Loss = share("the loss")
		case p.accept("reorder"):
			n.Reorder = share("the share")
		case p.accept("bandwidth"):
			n.Bandwidth = p.number("bytes a second")
		case p.accept("steady"):
			n.Steady = true
		default:
			p.abort("a condition of a link", "one of delay, jitter, loss, reorder, bandwidth, steady")
		}
	}
}

// lineup reads lines in braces.
func (p *drillParser) lineup() []DrillLine {
	p.deeper()
	defer func() { p.depth-- }()
	open := p.parser.expect("{", "and the lines")
	var out []DrillLine
	for !p.is("}") {
		if p.tok().Kind == End {
			p.fail(open.Span, "unbalanced", "this `{` is never closed", "add `}` after the last line")
			return out
		}
		p.attempt(func() {
			out = append(out, p.line())
			p.endOfStatement("this line")
		})
	}
	p.take()
	return out
}

// act reads what a client sends.
func (p *drillParser) act() DrillLine {
	n := &DrillAct{Who: p.client()}
	n.At.Start = n.Who.At.Start
	n.Verb = DrillVerb(p.take().Text)
	target := p.postfix()
	switch n.Verb {
	case VerbAsks, VerbForges:
		call, ok := target.(*Call)
		if !ok {
			p.fail(
				target.Span(), "expected", "a request has brackets after its name, also without arguments",
				"as in ana asks Diver.use(patch)",
			)
			panic(skip{})
		}
		n.Target = call.Fn
		n.Args = call.Args
	case VerbWrites:
		n.Target = target
		p.parser.expect("=", "and a value, as in ana writes Diver.pos = vec(1, 2)")
		n.Value = p.expr()
	default:
		n.Target = target
	}
	if p.is("->") {
		start := p.take().Span.Start
		w := &DrillWant{Outcome: p.name("a decision, such as accepted or denied")}
		switch {
		case p.tok().Newline || p.tok().Kind == End || p.is("}"):
		case p.tok().Kind == Text && w.Outcome.Text != "accepted":
			w.Reason = p.text("a reason")
		default:
			w.Value = p.expr()
		}
		w.At = Span{start, p.last()}
		n.Want = w
	}
	n.At.End = p.last()
	return n
}

// expectation reads what stands after `expect` or `until`.
//
//revive:disable-next-line:function-length It is one switch.
func (p *drillParser) expectation() *DrillExpect {
	t := p.tok()
	n := &DrillExpect{}
	defer func() { n.At = Span{t.Span.Start, p.last()} }()
	next := p.peek()
	many := t.Kind == Int && !next.Newline && (next.Text == "fault" || next.Text == "faults")
	if many || p.is("fault") && !next.Newline && next.Text == "in" {
		p.faults(n)
		return n
	}
	switch {
	case p.is("server") || p.is("everyone"):
		n.Who = Ident{t.Text, t.Span}
		p.take()
	default:
		n.Who = p.client()
	}
	switch {
	case p.accept("sees"):
		n.What = ExpectSees
		n.Value = p.expr()
	case p.accept("heard"):
		p.heard(n)
	case p.accept("noticed"):
		n.What = ExpectNoticed
		n.Value = p.postfix()
		p.parser.expect("from", "the old value, as in: expect bo noticed ana.Diver.hull from 100 to 40")
		n.From = p.expr()
		p.parser.expect("to", "the new value")
		n.To = p.expr()
	case p.accept("logged"):
		n.What = ExpectLogged
		n.Text = p.text("a line of the log")
	case p.accept("has"):
		n.What = ExpectStrikes
		n.Count = p.number("how many strikes")
		if !p.accept("strike") {
			p.parser.expect("strikes", "as in: expect bo has 1 strikes")
		}
	case p.accept("got"):
		n.What = ExpectGot
		n.Count = p.number("how many bytes, at most")
		p.parser.expect("bytes", "as in: expect bo got 0 bytes of Flare in 1s")
		p.parser.expect("of", "and a kind")
		n.Kind = p.typeName("a kind")
		p.parser.expect("in", "and a time")
		n.Window = p.duration()
	case p.accept("in"):
		n.What = ExpectInStep
		p.parser.expect("step", "as in: expect everyone in step")
	case p.accept("is"):
		n.Not = p.accept("not")
		if p.accept("sent") {
			n.What = ExpectSent
			if p.accept("to") {
				n.Exit = p.name("an exit")
			}
			break
		}
		n.What = ExpectExpelled
		p.parser.expect("expelled", "as in: expect bo is expelled, expect bo is sent to dive")
	case p.accept("does") || p.accept("did"):
		p.negated(n)
	default:
		p.abort("what is expected of it",
			"one of sees, does not see, heard, did not hear, noticed, logged, has N strikes, is expelled, is sent, "+
				"got N bytes, in step",
		)
	}
	return n
}

// negated reads what stands after `does` or `did`: `not` and what is not expected.
func (p *drillParser) negated(n *DrillExpect) {
	p.parser.expect("not", "as in: expect ana does not see bo.Diver.air")
	switch {
	case p.accept("see"):
		n.What = ExpectMisses
		n.Value = p.postfix()
	case p.accept("hear"):
		p.heard(n)
		n.Not = true
	case p.accept("log"):
		n.What = ExpectLogged
		n.Not = true
		n.Text = p.text("a line of the log")
	default:
		p.abort("see, hear or log", "")
	}
}

// faults reads `N faults in HANDLER of KIND "reason"`.
func (p *drillParser) faults(n *DrillExpect) {
	n.What = ExpectFaults
	if p.tok().Kind == Int {
		n.Count = p.number("how many faults")
	}
	p.take()
	p.parser.expect("in", "and what fails, as in: expect 1 fault in on spawn of Diver")
	start := p.tok().Span.Start
	var words []string
	word := func(what string) string { // words of the language are names here
		t := p.tok()
		if t.Kind != Name && t.Kind != Word || t.Newline {
			p.abort(what, "")
		}
		words = append(words, p.take().Text)
		return t.Text
	}
	what := Ident{p.tok().Text, p.tok().Span}
	switch word("what fails: on, timer, motion, action, request, hold, write or function") {
	case "on":
		word("what it is on, such as spawn, tick or change hull")
		if last := words[1]; last == "change" || last == "owner" {
			word("and of what")
		}
	case "timer", "motion":
	case "action", "request", "hold", "write", "function":
		word("its name")
	default:
		p.fail(
			what.At, "expected", fmt.Sprintf("`%s` cannot fail", what.Text),
			"one of on, timer, motion, action, request, hold, write, function",
		)
		panic(skip{})
	}
	if p.accept("of") {
		words = append(words, "of", p.typeName("a kind").Text)
	}
	n.Handler = Ident{strings.Join(words, " "), Span{start, p.last()}}
	if t := p.tok(); t.Kind == Text && !t.Newline {
		n.Text = p.text("the reason")
	}
}

// heard reads `N EVENT(values)`.
func (p *drillParser) heard(n *DrillExpect) {
	n.What = ExpectHeard
	if p.tok().Kind == Int {
		n.Count = p.number("how often")
	}
	switch x := p.postfix().(type) {
	case *Call:
		n.Value = x.Fn
		n.Args = x.Args
		if n.Args == nil {
			n.Args = []Expr{}
		}
	default:
		n.Value = x
	}
}
