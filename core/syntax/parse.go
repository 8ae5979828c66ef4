package syntax

import (
	"fmt"
	"strings"
)

const (
	maxDepth    = 20  // of nested expressions and blocks; the machine that runs them counts on it
	maxProblems = 100 // told in one run
	maxGathered = 500 // gathered before they are put in order; wording one takes time
	maxChain    = 500 // operators, or points and brackets, in one row
)

// Parse reads a contract. The tree holds everything that could be read, also when there are problems: a mistake in one
// statement or member does not hide those after it.
func Parse(src *Source) (*File, Problems) {
	s := scan(src)
	p := &parser{src: src, tokens: s.tokens, problems: s.problems, file: &File{Source: src, Comments: s.comments}}
	p.top()
	problems := p.problems.Sort()
	if len(problems) > maxProblems {
		problems = problems[:maxProblems]
	}
	return p.file, problems
}

type parser struct {
	src      *Source
	tokens   []Token
	at       int
	nest     int // > 0 where a line end does not end a statement
	depth    int
	began    int // where the construct begins that is being read
	problems Problems
	file     *File
}

// skip is what the parser throws to itself to leave a construct that it cannot read.
type skip struct{}

func (p *parser) tok() Token  { return p.tokens[p.at] }
func (p *parser) peek() Token { return p.tokens[min(p.at+1, len(p.tokens)-1)] }
func (p *parser) take() Token {
	t := p.tokens[p.at]
	if t.Kind != End {
		p.at++
	}
	return t
}
func (p *parser) last() int { // end of the token just taken
	if p.at == 0 {
		return 0
	}
	return p.tokens[p.at-1].Span.End
}
func (p *parser) is(text string) bool {
	t := p.tok()
	return (t.Kind == Sign || t.Kind == Word || t.Kind == Name) && t.Text == text
}
func (p *parser) accept(text string) bool {
	if p.is(text) {
		p.take()
		return true
	}
	return false
}

func (p *parser) fail(at Span, code, message, hint string) {
	if len(p.problems) >= maxGathered {
		return
	}
	p.problems = append(p.problems, p.src.Problem(at, code, message, hint))
}

// abort tells a mistake at the present token and leaves the construct.
func (p *parser) abort(code, wanted, hint string) {
	t := p.tok()
	at, found := t.Span, t.describe()
	if t.Newline && t.Kind != End && p.at > p.began {
		at, found = Span{p.last(), p.last()}, "the end of the line"
	}
	p.fail(at, code, fmt.Sprintf("expected %s, found %s", wanted, found), hint)
	panic(skip{})
}

func (t Token) describe() string {
	switch t.Kind {
	case End:
		return "the end of the file"
	case Text:
		return fmt.Sprintf("the text %q", t.Text)
	case Word:
		return "the word `" + t.Text + "`"
	default:
		return "`" + t.Text + "`"
	}
}

func (p *parser) expect(text, where string) Token {
	if !p.is(text) {
		p.abort("expected", "`"+text+"` "+where, "")
	}
	return p.take()
}

// attempt runs one construct; when it gives up, it goes on at the next line, at a brace of the enclosing block, or where
// one of the words in stop begins.
func (p *parser) attempt(construct func(), stop ...string) {
	start, nest, depth := p.at, p.nest, p.depth
	p.began = start
	defer func() {
		if r := recover(); r != nil {
			if _, ours := r.(skip); !ours {
				panic(r)
			}
			p.nest, p.depth = nest, depth
			p.sync(start, stop)
		}
	}()
	construct()
}

func (p *parser) sync(start int, stop []string) {
	if p.at == start {
		t := p.tok()
		if t.Kind == End || t.Text == "}" && t.Kind == Sign {
			return
		}
		for _, w := range stop {
			if p.is(w) {
				return
			}
		}
		if p.is("{") {
			p.block()
		} else {
			p.take()
		}
	}
	for p.tok().Kind != End {
		t := p.tok()
		if t.Kind == Sign && t.Text == "}" {
			return
		}
		for _, w := range stop {
			if p.is(w) {
				return
			}
		}
		if t.Newline {
			return
		}
		if t.Kind == Sign && t.Text == "{" {
			p.block()
			continue
		}
		p.take()
	}
}

// block passes over a balanced { … }.
func (p *parser) block() {
	depth := 0
	for p.tok().Kind != End {
		t := p.take()
		if t.Kind == Sign && t.Text == "{" {
			depth++
		}
		if t.Kind == Sign && t.Text == "}" {
			if depth--; depth <= 0 {
				return
			}
		}
	}
}

func (p *parser) top() {
	for p.tok().Kind != End {
		p.attempt(func() {
			p.file.Decls = append(p.file.Decls, p.decl())
			p.endOfStatement("a declaration")
		})
		if p.is("}") {
			p.fail(p.tok().Span, "unbalanced", "this `}` closes nothing", "remove it, or look for a `{` that is missing above")
			p.take()
		}
	}
}

func (p *parser) endOfStatement(what string) {
	t := p.tok()
	if t.Kind == End || t.Newline || t.Kind == Sign && t.Text == "}" {
		return
	}
	p.abort("expected", "the end of "+what, "a line end or `;` stands between two")
}

func (p *parser) decl() Decl {
	t := p.tok()
	start := t.Span.Start
	switch {
	case p.accept("contract"):
		d := &Contract{Name: p.name("the contract's name")}
		p.expect("language", "and its number, as in `contract tidewreck language 1`")
		d.Language = p.number("the language's number")
		d.At = Span{start, p.last()}
		return d
	case p.accepts():
		return p.decl()
	case p.is("tick") && t.Kind == Name:
		p.take()
		d := &Tick{Rate: p.number("the ticks per second")}
		p.expect("per", "second, as in `tick 20 per second`")
		p.expect("second", "as in `tick 20 per second`")
		d.At = Span{start, p.last()}
		return d
	case p.is("seats") && t.Kind == Name:
		p.take()
		d := &Seats{Count: p.number("the number of seats")}
		d.At = Span{start, p.last()}
		return d
	case p.is("roles") && t.Kind == Name:
		p.take()
		d := &Roles{Names: []Ident{p.name("a role")}}
		for p.accept(",") {
			d.Names = append(d.Names, p.name("a role"))
		}
		d.At = Span{start, p.last()}
		return d
	case p.accept("enum"):
		d := &Enum{Name: p.typeName("the enum's name")}
		p.expect("{", "and the enum's values")
		p.nest++
		for !p.is("}") {
			d.Members = append(d.Members, p.name("a value of the enum"))
			if !p.accept(",") {
				break
			}
		}
		p.expect("}", "or `,` and another value")
		p.nest--
		d.At = Span{start, p.last()}
		return d
	case p.accept("const"):
		d := &Const{Name: p.name("the constant's name")}
		p.expect("=", "and a value, as in `const patch_mends = 25`")
		d.Value = p.expr()
		d.At = Span{start, p.last()}
		return d
	case p.is("entity") || p.is("shared"):
		return p.entity()
	case p.accept("event"):
		return p.event(start)
	case p.accept("on"):
		d := &Handler{On: p.name("what the handler is for, as in `on join(c)`")}
		p.expect("(", "and the name of the client")
		d.Param = p.name("the name of the client")
		p.expect(")", "after the name of the client")
		d.Body = p.body("the handler")
		d.At = Span{start, p.last()}
		return d
	}
	p.abort("expected", "a declaration", "one of contract, tick, seats, roles, enum, const, entity, shared, event, on join")
	return nil
}

// accepts reads `accept FINDING "reason"`, if it stands here.
func (p *parser) accepts() bool {
	t := p.tok()
	if t.Kind != Name || t.Text != "accept" || p.peek().Text == ":" {
		return false
	}
	p.take()
	a := Accept{Finding: p.name("a finding, as in `accept unused \"why\"`"), Reason: p.reason().Value}
	a.At = Span{t.Span.Start, p.last()}
	a.For = p.tok().Span.Start
	p.file.Accepts = append(p.file.Accepts, a)
	if !p.tok().Newline || p.tok().Kind == End {
		p.abort("expected", "the end of the line, and below it the declaration that this is for", "")
	}
	return true
}

func (p *parser) name(what string) Ident { return p.ident(Name, what, "a small letter") }
func (p *parser) typeName(what string) Ident {
	return p.ident(TypeName, what, "a capital")
}

func (p *parser) ident(kind Kind, what, begins string) Ident {
	t := p.tok()
	switch {
	case t.Kind == kind:
		p.take()
		return Ident{t.Text, t.Span}
	case t.Kind == Word:
		p.fail(t.Span, "reserved", fmt.Sprintf("`%s` is a word of the language and cannot be %s", t.Text, what), "choose another name")
		panic(skip{})
	case t.Kind == Name || t.Kind == TypeName:
		p.fail(t.Span, "letter-case", fmt.Sprintf("%s begins with %s, not as in `%s`", what, begins, t.Text), "kinds, enums and types begin with a capital, everything else with a small letter")
		p.take()
		return Ident{t.Text, t.Span}
	}
	p.abort("expected", what, "")
	return Ident{}
}

func (p *parser) number(what string) *Number {
	t := p.tok()
	start := t.Span.Start
	minus := p.accept("-")
	if t = p.tok(); t.Kind != Int {
		p.abort("expected", what, "a whole number")
	}
	p.take()
	if minus {
		t.Num = -t.Num
	}
	return &Number{Span{start, t.Span.End}, t.Num}
}

func (p *parser) entity() Decl {
	start := p.tok().Span.Start
	d := &Entity{Shared: p.take().Text == "shared"}
	p.attempt(func() {
		d.Name = p.typeName("the kind's name")
		if !d.Shared {
			p.expect("per", "and a role, as in `entity Diver per player`")
			d.Per = p.name("a role")
		}
		if p.accept("to") {
			d.To = p.audience()
		}
		if !p.is("{") {
			p.abort("expected", "`{` and what "+d.Name.Text+" has", "")
		}
	}, "{")
	p.expect("{", "and what "+d.Name.Text+" has")
	for !p.is("}") {
		// What can only stand outside of a kind tells that this one should have ended.
		outside := p.tok().Newline && (p.is("entity") || p.is("shared") || p.is("enum") || p.is("const"))
		if p.tok().Kind == End || outside && p.peek().Text != ":" {
			p.fail(Span{start, d.Name.At.End}, "unbalanced", fmt.Sprintf("`%s` has no closing `}`", d.Name.Text), "add `}` after its last line")
			break
		}
		p.attempt(func() { p.member(d) })
	}
	p.accept("}")
	d.At = Span{start, p.last()}
	return d
}

func (p *parser) member(d *Entity) {
	t := p.tok()
	start := t.Span.Start
	if p.accepts() {
		p.member(d)
		return
	}
	named := t.Kind == Name || t.Kind == TypeName || t.Kind == Word
	switch {
	case named && p.peek().Text == ":":
		d.Properties = append(d.Properties, p.property())
	case p.accept("request"):
		d.Requests = append(d.Requests, p.request(start))
	case p.accept("event"):
		d.Events = append(d.Events, p.event(start))
	case p.accept("action"):
		a := &Action{Name: p.name("the action's name")}
		a.Params = p.params()
		a.Body = p.body("the action")
		a.At = Span{start, p.last()}
		d.Actions = append(d.Actions, a)
	case p.accept("on"):
		h := &Handler{On: Ident{"spawn", p.tok().Span}}
		if !p.accept("spawn") {
			h.On = p.name("what the handler is for, `on spawn` or `on change hull`")
		}
		if h.On.Text == "change" {
			h.Param = p.name("the property whose changes are meant")
		}
		h.Body = p.body("the handler")
		h.At = Span{start, p.last()}
		d.Handlers = append(d.Handlers, h)
	case p.is("every") || p.is("after"):
		d.Timers = append(d.Timers, p.timer())
	case t.Kind == Name || t.Kind == TypeName:
		d.Properties = append(d.Properties, p.property())
	default:
		p.abort("expected", "a property, a request, an event, an action, a handler or a timer", "a property reads `hull: int 0..100 = 100`")
	}
	p.endOfStatement("this line")
}

func (p *parser) timer() *Timer {
	start := p.tok().Span.Start
	d := &Timer{After: p.take().Text == "after"}
	d.Window = p.duration()
	if p.is("while") && !d.After {
		p.take()
		d.While = p.expr()
	}
	d.Body = p.body("the timer")
	d.At = Span{start, p.last()}
	return d
}

func (p *parser) duration() *Number {
	t := p.tok()
	if t.Kind != Duration {
		p.abort("expected", "a time", "a whole number with a unit: 400ms, 2s, 1min")
	}
	p.take()
	return &Number{t.Span, t.Num}
}

func (p *parser) property() *Property {
	start := p.tok().Span.Start
	d := &Property{Name: p.name("a property's name")}
	p.expect(":", "and a type after the property's name")
	d.Type = p.typ()
	for {
		t := p.tok()
		if t.Newline {
			break
		}
		if p.accept("=") {
			if d.Default != nil {
				p.fail(t.Span, "repeated", "this property has a default already", "remove one of the two")
			}
			d.Default = p.expr()
		} else if p.accept("clamped") {
			at := t.Span
			d.Clamped = &at
		} else if p.accept("to") {
			if d.To != nil {
				p.fail(t.Span, "repeated", "this property has an audience already", "join two with `or`: to owner or referee")
			}
			d.To = p.audience()
		} else {
			break
		}
	}
	d.At = Span{start, p.last()}
	return d
}

func (p *parser) typ() *Type {
	t := p.tok()
	d := &Type{}
	if t.Kind != Name && t.Kind != TypeName {
		p.abort("expected", "a type", "bool, int 0..100, text max 40, stacks<Item> max 6 each 5, or an enum's name")
	}
	p.take()
	d.Name = Ident{t.Text, t.Span}
	if p.is("<") && d.Name.Text == "stacks" {
		p.take()
		d.Of = p.typeName("an enum's name")
		p.expect(">", "after the enum's name")
	}
	// What does not belong to this type is read all the same; the checker says so.
	if p.rangeAhead() {
		d.Low = p.bound()
		p.expect("..", "and the greatest value, as in `int 0..100`")
		d.High = p.bound()
	}
	for !p.tok().Newline {
		if p.is("max") {
			p.take()
			d.Max = p.number("the greatest length")
		} else if p.is("step") && d.Step == nil {
			p.take()
			d.Step = p.bound()
		} else if p.is("each") {
			p.take()
			d.Each = p.number("the greatest count of one stack")
		} else {
			break
		}
	}
	d.At = Span{t.Span.Start, p.last()}
	return d
}

func (p *parser) rangeAhead() bool {
	t := p.tok()
	return !t.Newline && (t.Kind == Int || t.Kind == Real || t.Kind == Sign && t.Text == "-")
}

// bound reads a number of a type, with or without a point.
func (p *parser) bound() Expr {
	t := p.tok()
	minus := ""
	if t.Kind == Sign && t.Text == "-" && p.peek().Kind == Real {
		p.take()
		minus = "-"
	}
	if n := p.tok(); n.Kind == Real {
		p.take()
		return &Decimal{Span{t.Span.Start, n.Span.End}, minus + n.Text}
	}
	return p.number("a number")
}

func (p *parser) params() []Param {
	p.expect("(", "and the arguments")
	p.nest++
	var out []Param
	for !p.is(")") {
		d := Param{Name: p.name("an argument's name")}
		p.expect(":", "and a type after the argument's name")
		d.Type = p.typ()
		out = append(out, d)
		if !p.accept(",") {
			break
		}
	}
	p.expect(")", "or `,` and another argument")
	p.nest--
	return out
}

func (p *parser) event(start int) *Event {
	d := &Event{Name: p.name("the event's name")}
	d.Params = p.params()
	d.At = Span{start, p.last()}
	return d
}

var headWords = []string{"from", "limit", "pause", "let", "check", "{"}

func (p *parser) request(start int) *Request {
	d := &Request{}
	p.attempt(func() {
		d.Name = p.name("the request's name")
		d.Params = p.params()
		if p.accept("->") {
			d.Reply = p.typ()
		}
	}, headWords...)
	p.nest++
	for !p.is("{") {
		t := p.tok()
		member := t.Newline && (p.is("request") || p.is("event") || p.peek().Text == ":")
		if t.Kind == End || t.Text == "}" && t.Kind == Sign || member {
			p.abort("expected", "`{` and the body of the request", "")
		}
		p.attempt(func() { p.head(d) }, headWords...)
	}
	p.nest--
	d.Body = p.body("the request")
	d.At = Span{start, p.last()}
	return d
}

func (p *parser) head(d *Request) {
	t := p.tok()
	switch {
	case p.accept("from"):
		if d.From != nil {
			p.fail(t.Span, "repeated", "this request says already who may send it", "join two with `or`: from owner or referee")
		}
		d.From = p.audience()
	case p.accept("limit"):
		if d.Limit != nil {
			p.fail(t.Span, "repeated", "this request has a limit already", "remove one of the two")
		}
		d.Limit = &Limit{Count: p.number("how many")}
		p.expect("per", "second, or a time, as in `limit 1 per 10s`")
		if w := p.tok(); w.Kind == Duration {
			p.take()
			d.Limit.Window = &Number{w.Span, w.Num}
		} else {
			p.expect("second", "or a time, as in `limit 1 per 10s`")
		}
		d.Limit.At = Span{t.Span.Start, p.last()}
	case p.accept("pause"):
		if d.Pause != nil {
			p.fail(t.Span, "repeated", "this request has a pause already", "remove one of the two")
		}
		pause := &Pause{Window: p.duration()}
		p.expect("else", "and a denial, as in `pause 400ms else deny \"still loading\"`")
		p.expect("deny", "and a reason")
		pause.Reason = p.reason()
		pause.At = Span{t.Span.Start, p.last()}
		d.Pause = pause
	case p.is("let"):
		d.Head = append(d.Head, p.let())
	case p.accept("check"):
		c := &Check{Cond: p.expr()}
		p.expect("else", "and what a failed check does, as in `else deny \"not now\"`")
		if !p.accept("drop") {
			p.expect("deny", "and a reason, or `drop`")
			c.Reason = p.reason()
		}
		c.At = Span{t.Span.Start, p.last()}
		d.Head = append(d.Head, c)
	default:
		p.abort("expected", "`{` and the body of the request, or a line of its head", "a head is made of from, limit, pause, let and check; changes belong in the body")
	}
}

func (p *parser) reason() *Literal {
	t := p.tok()
	if t.Kind != Text {
		p.abort("expected", "a reason in quotes", `as in deny "not carried"`)
	}
	p.take()
	return &Literal{t.Span, t.Text}
}

func (p *parser) audience() *Audience {
	d := &Audience{}
	start := p.tok().Span.Start
	d.Terms = append(d.Terms, AudienceTerm{Who: p.postfix()})
	for {
		if p.is("or") {
			p.take()
			d.Terms = append(d.Terms, AudienceTerm{Who: p.postfix()})
		} else if p.is("but") {
			p.take()
			d.Terms = append(d.Terms, AudienceTerm{But: true, Who: p.postfix()})
		} else {
			break
		}
	}
	d.At = Span{start, p.last()}
	return d
}

func (p *parser) body(of string) []Stmt {
	p.deeper()
	defer func() { p.depth-- }()
	nest := p.nest
	p.nest = 0
	defer func() { p.nest = nest }()
	open := p.expect("{", "and the body of "+of)
	out := []Stmt{}
	for !p.is("}") {
		if p.tok().Kind == End {
			p.fail(open.Span, "unbalanced", "this `{` is never closed", "add `}` after the last line of "+of)
			return out
		}
		p.attempt(func() {
			if s := p.stmt(); s != nil {
				out = append(out, s)
			}
			p.endOfStatement("this statement")
		})
	}
	p.take()
	return out
}

func (p *parser) deeper() {
	if p.depth++; p.depth > maxDepth {
		p.fail(p.tok().Span, "too-deep", "this is nested too deeply", fmt.Sprintf("at most %d levels", maxDepth))
		panic(skip{})
	}
}

func (p *parser) short(chain int) {
	if chain > maxChain {
		p.fail(p.tok().Span, "too-deep", "this expression is too long", fmt.Sprintf("at most %d operators in a row; give a part of it a name with `let`", maxChain))
		panic(skip{})
	}
}

func (p *parser) let() Stmt {
	start := p.take().Span.Start
	d := &Let{Name: p.name("a name")}
	p.expect("=", "and a value")
	d.Value = p.expr()
	d.At = Span{start, p.last()}
	return d
}

func (p *parser) stmt() Stmt {
	t := p.tok()
	switch {
	case p.is("let"):
		return p.let()
	case p.is("if"):
		return p.branch(0)
	case p.accept("tell"):
		d := &Tell{To: p.audience()}
		x := p.postfix()
		call, ok := x.(*Call)
		if !ok {
			p.fail(x.Span(), "expected", "an event is told with its values in brackets", "as in `tell everyone used(item)`")
			panic(skip{})
		}
		d.Event, d.Args = call.Fn, call.Args
		d.At = Span{t.Span.Start, p.last()}
		return d
	case p.is("match"):
		return p.match()
	case p.accept("do"):
		x := p.postfix()
		call, ok := x.(*Call)
		if !ok {
			p.fail(x.Span(), "expected", "an action is run with its values in brackets", "as in `do surface()`")
			panic(skip{})
		}
		return &Run{Span{t.Span.Start, p.last()}, call.Fn, call.Args}
	case p.is("reply") && t.Kind == Name && p.peek().Text != "=" && p.peek().Text != ".":
		p.take()
		d := &Reply{Value: p.expr()}
		d.At = Span{t.Span.Start, p.last()}
		return d
	case p.accept("deny"):
		d := &Deny{Reason: p.reason()}
		d.At = Span{t.Span.Start, p.last()}
		return d
	case p.is("check") || p.is("limit") || p.is("from"):
		p.fail(t.Span, "head-only", fmt.Sprintf("`%s` belongs in the head of a request, before its `{`", t.Text), "in a body, use `if … { deny \"reason\" }`")
		panic(skip{})
	}
	x := p.expr()
	for _, op := range []string{"=", "+=", "-="} {
		if p.is(op) {
			p.take()
			d := &Assign{Target: x, Op: op, Value: p.expr()}
			d.At = Span{t.Span.Start, p.last()}
			return d
		}
	}
	if _, ok := x.(*Call); !ok {
		if _, bad := x.(*Bad); !bad {
			p.fail(x.Span(), "no-effect", "this value is computed and then thrown away", "a statement assigns (`hull = 100`), calls (`satchel.take(item)`) or tells")
		}
		return nil
	}
	return &Do{Span{t.Span.Start, p.last()}, x}
}

func (p *parser) match() Stmt {
	p.deeper()
	defer func() { p.depth-- }()
	start := p.take().Span.Start
	d := &Match{X: p.expr()}
	p.expect("{", "and a part for each value")
	for !p.is("}") {
		if p.tok().Kind == End {
			p.abort("expected", "`}` that closes this `match`", "")
		}
		if p.accept("else") {
			body := p.body("this `else`")
			if d.Else != nil {
				p.fail(p.tok().Span, "repeated", "this `match` has an `else` already", "remove one of the two")
			}
			d.Else = body
			continue
		}
		arm := Arm{Values: []Expr{p.expr()}}
		for p.accept(",") {
			arm.Values = append(arm.Values, p.expr())
		}
		arm.Body = p.body("this value")
		d.Arms = append(d.Arms, arm)
	}
	p.take()
	d.At = Span{start, p.last()}
	return d
}

func (p *parser) branch(chain int) Stmt {
	start := p.take().Span.Start
	d := &If{Cond: p.expr()}
	if p.is("=") {
		p.abort("expected", "`{` and the body of this `if`", "write `==` to compare")
	}
	d.Then = p.body("this `if`")
	if p.accept("else") {
		if p.is("if") {
			if chain++; chain > maxChain {
				p.fail(p.tok().Span, "too-deep", "this row of `else if` is too long", fmt.Sprintf("at most %d", maxChain))
				panic(skip{})
			}
			d.Else = []Stmt{p.branch(chain)}
		} else {
			d.Else = p.body("this `else`")
		}
	}
	d.At = Span{start, p.last()}
	return d
}

func (p *parser) expr() Expr {
	p.deeper()
	defer func() { p.depth-- }()
	return p.binary(0)
}

// levels lists the operators from the loosest to the tightest; `not` stands between `and` and the comparisons.
var levels = [][]string{{"or"}, {"and"}, nil, {"==", "!=", "<=", ">=", "<", ">"}, {"+", "-"}, {"*", "/", "%"}}

func (p *parser) binary(level int) Expr {
	if level == len(levels) {
		return p.unary()
	}
	if levels[level] == nil {
		if t := p.tok(); p.is("not") {
			p.deeper()
			p.take()
			x := p.binary(level)
			p.depth--
			return &Unary{Span{t.Span.Start, x.Span().End}, "not", x}
		}
		return p.binary(level + 1)
	}
	x := p.binary(level + 1)
	compared := false
	for chain := 0; ; chain++ {
		t := p.tok()
		p.short(chain)
		if t.Kind == Word && (t.Text == "and" || t.Text == "or") {
			// these go on over a line end
		} else if t.Newline && p.nest == 0 {
			return x
		}
		op := ""
		for _, o := range levels[level] {
			if p.is(o) {
				op = o
			}
		}
		if op == "" {
			return x
		}
		if level == 3 && compared {
			p.fail(t.Span, "chained", "comparisons do not chain", "write `a < b and b < c`")
		}
		compared = true
		p.take()
		x = &Binary{op, t.Span, x, p.binary(level + 1)}
	}
}

func (p *parser) unary() Expr {
	if t := p.tok(); p.is("-") {
		p.deeper()
		p.take()
		x := p.unary()
		p.depth--
		return &Unary{Span{t.Span.Start, x.Span().End}, "-", x}
	}
	return p.postfix()
}

func (p *parser) postfix() Expr {
	x := p.primary()
	for chain := 0; ; chain++ {
		t := p.tok()
		p.short(chain)
		if t.Newline && p.nest == 0 {
			return x
		}
		switch {
		case p.accept("."):
			n := p.tok()
			if n.Kind != Name && n.Kind != TypeName && n.Kind != Word {
				p.abort("expected", "a name after the point", "")
			}
			p.take()
			x = &Member{x, Ident{n.Text, n.Span}}
		case p.is("("):
			p.take()
			p.nest++
			var args []Expr
			for !p.is(")") {
				args = append(args, p.expr())
				if !p.accept(",") {
					break
				}
			}
			p.expect(")", "or `,` and another value")
			p.nest--
			x = &Call{Span{x.Span().Start, p.last()}, x, args}
		default:
			return x
		}
	}
}

func (p *parser) primary() Expr {
	t := p.tok()
	switch t.Kind {
	case Int, Duration:
		p.take()
		return &Number{t.Span, t.Num}
	case Real:
		p.take()
		return &Decimal{t.Span, t.Text}
	case Text:
		p.take()
		return &Literal{t.Span, t.Text}
	case Name, TypeName:
		p.take()
		return &Ref{Ident{t.Text, t.Span}}
	case Word:
		switch t.Text {
		case "true", "false":
			p.take()
			return &Truth{t.Span, t.Text == "true"}
		case "self", "caller", "owner", "server", "everyone", "nobody":
			p.take()
			return &Ref{Ident{t.Text, t.Span}}
		}
	case Sign:
		if t.Text == "(" {
			p.take()
			p.nest++
			x := p.expr()
			p.expect(")", "that closes this bracket")
			p.nest--
			return x
		}
	}
	hint := ""
	if t.Kind == Word && strings.Contains("deny tell let if", t.Text) {
		hint = "a statement cannot stand where a value is wanted"
	}
	p.abort("expected", "a value", hint)
	return nil
}
