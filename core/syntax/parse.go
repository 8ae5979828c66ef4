package syntax

import "fmt"

const (
	maxDepth    = 20  // of nested expressions and blocks; the machine that runs them counts on it
	maxProblems = 100 // told in one run
	maxGathered = 500 // gathered before they are put in order; wording one takes time
	maxChain    = 500 // operators, or points and brackets, in one row
	maxFiles    = 64  // of one contract
)

// Parse reads a contract, and with open what it includes. The tree holds everything that could be read, also when there
// are problems: a mistake in one statement or member does not hide those after it. open may be nil: then includes are
// not followed.
//
// Included texts are added to src, and their declarations stand in the tree where the `include` does.
// At most maxProblems problems are returned, in the order of the text.
func Parse(src *Source, open Open) (*File, Problems) {
	s := scan(src, src.whole())
	p := &parser{
		src:      src,
		open:     open,
		tokens:   s.tokens,
		problems: s.problems,
		file:     &File{Source: src, Comments: s.comments},
	}
	p.top()
	problems := p.problems.Sort()
	if len(problems) > maxProblems {
		problems = problems[:maxProblems]
	}
	return p.file, problems
}

// parser reads the tokens of a text from left to right, without going back. A mistake is noted, and what it stands in
// is skipped.
//
// It is a recursive descent: one method for each rule of the grammar, named after it. A method that
// cannot go on throws a skip, which attempt catches at the nearest statement, member or declaration.
type parser struct {
	src      *Source
	open     Open // opens what is included
	tokens   []Token
	at       int  // the token that is next
	nest     int  // > 0 where a line end does not end a statement
	clause   bool // a `to` after a value belongs to what the value stands in, not to a `reveal`
	depth    int  // of what is nested, which is bounded: a text cannot exhaust the stack
	began    int  // where the construct begins that is being read
	problems Problems
	file     *File
}

// skip is what the parser throws to itself to leave a construct that it cannot read.
type skip struct{}

// tok returns the present token.
func (p *parser) tok() Token  { return p.tokens[p.at] }
func (p *parser) peek() Token { return p.tokens[min(p.at+1, len(p.tokens)-1)] }

// take returns the present token and goes to the next one. The end of the text is never passed.
func (p *parser) take() Token {
	t := p.tokens[p.at]
	if t.Kind != End {
		p.at++
	}
	return t
}

// last returns where the token ends that was taken last.
func (p *parser) last() int { // end of the token just taken
	if p.at == 0 {
		return 0
	}
	return p.tokens[p.at-1].Span.End
}

// is reports whether the present token is this sign, word or name.
//
// Texts in quotes are never equal to a word or sign.
func (p *parser) is(text string) bool {
	t := p.tok()
	return (t.Kind == Sign || t.Kind == Word || t.Kind == Name) && t.Text == text
}

// accept takes the present token if it is this sign, word or name, and reports whether it did.
func (p *parser) accept(text string) bool {
	if p.is(text) {
		p.take()
		return true
	}
	return false
}

// fail adds a problem; parsing goes on.
//
// Beyond maxGathered nothing is added, which bounds what a broken text can make of itself.
func (p *parser) fail(at Span, code, message, hint string) {
	if len(p.problems) >= maxGathered {
		return
	}
	p.problems = append(p.problems, p.src.Problem(at, code, message, hint))
}

// abort reports a mistake at the present token and leaves the construct.
//
// It does not return. At the end of a line the message points behind the last word, where what is
// wanted would have to stand, and not at the next line.
func (p *parser) abort(wanted, hint string) {
	t := p.tok()
	at := t.Span
	found := t.describe()
	if t.Newline && t.Kind != End && p.at > p.began {
		at = Span{p.last(), p.last()}
		found = "the end of the line"
	}
	p.fail(at, "expected", fmt.Sprintf("expected %s, found %s", wanted, found), hint)
	panic(skip{})
}

// describe returns a token as a message names it.
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

// expect takes the present token, which has to be this sign, word or name; where says in the message what follows it.
func (p *parser) expect(text, where string) Token {
	if !p.is(text) {
		p.abort("`"+text+"` "+where, "")
	}
	return p.take()
}

// attempt runs one construct; when it gives up, it goes on at the next line, at a brace of the enclosing block, or
// where one of the words in stop begins.
//
// The counters of the parser are put back to what they were, since a construct that was left may have
// raised them.
func (p *parser) attempt(construct func(), stop ...string) {
	start := p.at
	nest := p.nest
	depth := p.depth
	clause := p.clause
	p.began = start
	defer func() {
		if r := recover(); r != nil {
			if _, ours := r.(skip); !ours {
				panic(r)
			}
			p.nest = nest
			p.depth = depth
			p.clause = clause
			p.sync(start, stop)
		}
	}()
	construct()
}

// sync passes over the rest of a construct that could not be read and began at token start: up to the next line, the
// brace that closes the block around it, or one of the words in stop. It passes over at least one token unless it
// stands at one of these.
//
// That token is what keeps the parser from reading the same one for ever.
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
//
// A brace that is never closed takes the rest of the text along; that was reported where it opened.
func (p *parser) block() {
	depth := 0
	for p.tok().Kind != End {
		t := p.take()
		if t.Kind == Sign && t.Text == "{" {
			depth++
		}
		if t.Kind == Sign && t.Text == "}" {
			depth--
			if depth <= 0 {
				return
			}
		}
	}
}

// top reads the declarations of a file.
//
// A brace too many is reported once and passed over.
func (p *parser) top() {
	for p.tok().Kind != End {
		p.attempt(func() {
			p.file.Decls = append(p.file.Decls, p.decl())
			p.endOfStatement("a declaration")
		})
		if p.is("}") {
			p.fail(
				p.tok().Span, "unbalanced", "this `}` closes nothing",
				"remove it, or look for a `{` that is missing above",
			)
			p.take()
		}
	}
}

// endOfStatement makes sure that nothing stands behind a statement or declaration in its line.
//
// The scanner counts a `;` as the end of a line.
func (p *parser) endOfStatement(what string) {
	t := p.tok()
	if t.Kind == End || t.Newline || t.Kind == Sign && t.Text == "}" {
		return
	}
	p.abort("the end of "+what, "a line end or `;` stands between two")
}

// decl reads a declaration.
//
// Words such as `tick` and `roles` are names anywhere else, so their kind of token is looked at.
//
//revive:disable-next-line:function-length It is one switch.
func (p *parser) decl() Decl {
	t := p.tok()
	start := t.Span.Start
	at := func() Span { return Span{start, p.last()} }
	switch {
	case p.accept("contract"):
		d := &Contract{Name: p.name("the contract's name")}
		p.expect("language", "and its number, as in `contract tidewreck language 2`")
		d.Language = p.number("the language's number")
		d.At = at()
		return d
	case p.accepts():
		return p.decl()
	case p.is("tick") && t.Kind == Name:
		p.take()
		d := &Tick{Rate: p.number("the ticks per second")}
		p.expect("per", "second, as in `tick 20 per second`")
		p.expect("second", "as in `tick 20 per second`")
		d.At = at()
		return d
	case p.is("seats") && t.Kind == Name:
		p.take()
		d := &Seats{Count: p.number("the number of seats")}
		if p.is("grace") && !p.tok().Newline {
			p.take()
			d.Grace = p.duration()
		}
		d.At = at()
		return d
	case p.is("strikes") && t.Kind == Name:
		p.take()
		d := &Strikes{Count: p.number("how many strikes expel")}
		p.expect("in", "and a time, as in `strikes 5 in 10s`")
		d.Window = p.duration()
		d.At = at()
		return d
	case p.is("each") && t.Kind == Name:
		return p.byteLimit(start)
	case p.is("result") && t.Kind == Name:
		p.take()
		d := &Result{Type: p.typ()}
		d.At = at()
		return d
	case p.is("roles") && t.Kind == Name:
		p.take()
		d := &Roles{List: []Role{p.role()}}
		for p.accept(",") {
			d.List = append(d.List, p.role())
		}
		d.At = at()
		return d
	case p.is("logic") && t.Kind == Name:
		p.take()
		p.expect("silent", "as in `logic silent after 500ms`")
		p.expect("after", "as in `logic silent after 500ms`")
		d := &Logic{Silent: p.duration()}
		d.At = at()
		return d
	case p.accept("enum"):
		d := &Enum{Name: p.typeName("the enum's name")}
		p.expect("{", "and the enum's values")
		p.row("}", "or `,` and another value", func() { d.Members = append(d.Members, p.name("a value of the enum")) })
		d.At = at()
		return d
	case p.accept("type"):
		d := &TypeDecl{Name: p.typeName("the type's name")}
		if p.is("{") {
			d.Fields = p.fields()
		} else {
			p.expect("=", "and a type, or `{` and the fields of a record")
			d.Type = p.typ()
		}
		d.At = at()
		return d
	case p.is("const") || p.is("setting") ||
		p.is("public") && (p.peek().Text == "const" || p.peek().Text == "setting"):
		return p.constant(start)
	case p.is("audience") || p.is("secret") && p.peek().Text == "audience":
		return p.audienceDecl(start)
	case p.accept("fn"):
		return p.function(start)
	case p.accept("include"):
		d := &Include{File: p.text("the name of a file")}
		d.At = at()
		p.include(d)
		return d
	case p.is("entity") || p.is("shared") || p.is("part"):
		return p.entity()
	case p.accept("event"):
		return p.event(start)
	case p.is("exit") && t.Kind == Name:
		p.take()
		return p.exit(start)
	case p.accept("on"):
		return p.contractHandler(start)
	}
	p.abort("a declaration",
		"one of contract, tick, seats, strikes, roles, logic, result, each, enum, type, const, setting, public, "+
			"audience, exit, shared, part, entity, event, on, fn, include",
	)
	return nil
}

// role reads `NAME` or `NAME by ticket`.
func (p *parser) role() Role {
	r := Role{Name: p.name("a role")}
	if p.is("by") && !p.tok().Newline {
		p.take()
		p.expect("ticket", "as in `roles player, referee by ticket`")
		r.ByTicket = true
	}
	return r
}

// byteLimit reads `each client at most N bytes per second nearest NAME`.
func (p *parser) byteLimit(start int) Decl {
	p.take()
	d := &ByteLimit{Of: p.name("`client` or a role")}
	p.expect("at", "as in `each client at most 4000 bytes per second`")
	p.expect("most", "as in `at most 4000 bytes per second`")
	d.Bytes = p.number("how many bytes a second")
	p.expect("bytes", "as in `at most 4000 bytes per second`")
	p.expect("per", "second")
	p.expect("second", "as in `at most 4000 bytes per second`")
	if p.is("nearest") && !p.tok().Newline {
		p.take()
		d.Nearest = p.name("the property that says where an entity is")
	}
	d.At = Span{start, p.last()}
	return d
}

// constant reads a `const` or a `setting`, with `public` before it or not. start is where the declaration begins.
func (p *parser) constant(start int) *Const {
	d := &Const{Public: p.accept("public")}
	d.Setting = p.take().Text == "setting"
	d.Name = p.name("its name")
	if p.accept(":") {
		d.Type = p.typ()
	} else if d.Setting {
		p.abort("`:` and a type", "as in `setting tide: int 0..9 = 3`")
	}
	if !d.Setting && p.is("from") {
		p.take()
		d.From = p.text("the name of a JSON file")
	} else {
		p.expect("=", "and a value, as in `const patch_mends = 25`")
		d.Value = p.expr()
	}
	d.At = Span{start, p.last()}
	return d
}

// audienceDecl reads an `audience`.
func (p *parser) audienceDecl(start int) *AudienceDecl {
	d := &AudienceDecl{Secret: p.accept("secret")}
	p.take()
	d.Name = p.name("the audience's name")
	d.Params = p.params()
	p.expect("=", "and a condition, as in `audience mates(d: Diver) = viewer.Diver.crew == d.crew`")
	d.Cond = p.expr()
	d.At = Span{start, p.last()}
	return d
}

// function reads what stands after `fn`.
func (p *parser) function(start int) *Fn {
	d := &Fn{Name: p.name("the function's name")}
	d.Params = p.params()
	p.expect("->", "and the type of the result, as in `fn double(n: int) -> int = 2 * n`")
	d.Result = p.typ()
	p.expect("=", "and a value")
	d.Value = p.expr()
	d.At = Span{start, p.last()}
	return d
}

// exit reads what stands after `exit`.
func (p *parser) exit(start int) *Exit {
	d := &Exit{Name: p.name("the exit's name")}
	d.Params = p.params()
	p.expect("to", "and the name of a contract, as in `exit dive(depth: int 0..9) to \"wreck\"`")
	d.To = p.text("the name of the other contract")
	d.At = Span{start, p.last()}
	return d
}

// contractHandler reads what stands after `on` outside of a kind.
func (p *parser) contractHandler(start int) *Handler {
	d := &Handler{On: p.name("what the handler is for, as in `on join(c)`")}
	if d.On.Text == "silent" || d.On.Text == "heard" { // of the logic process, of which there is one
		d.Body = p.body("the handler")
		d.At = Span{start, p.last()}
		return d
	}
	p.expect("(", "and the name of the client")
	d.Param = p.name("the name of the client")
	p.expect(")", "after the name of the client")
	d.Body = p.body("the handler")
	d.At = Span{start, p.last()}
	return d
}

// include reads another file into the same tree, once.
//
// A file that is included twice, or includes itself, is read once. Its problems come with its own name
// and lines.
func (p *parser) include(d *Include) {
	name := d.File.Value
	switch {
	case p.open == nil || p.src.has(name):
		return
	case len(p.src.files) >= maxFiles:
		p.fail(d.At, "out-of-range", "this is one file too many", fmt.Sprintf("at most %d", maxFiles))
		return
	}
	text, err := p.open(name)
	if err != nil {
		p.fail(d.File.At, "no-file", err.Error(), "name a file beside the contract")
		return
	}
	s := scan(p.src, p.src.add(name, text))
	inner := &parser{
		src:      p.src,
		open:     p.open,
		tokens:   s.tokens,
		problems: s.problems,
		file:     p.file,
	}
	inner.top()
	p.problems = append(p.problems, inner.problems...)
	p.file.Comments = append(p.file.Comments, s.comments...)
}

// accepts reads `accept FINDING "reason"`, if it stands here.
//
// It is for the construct that begins behind it, however many `accept` lines stand in between.
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
		p.abort("the end of the line, and below it the declaration that this is for", "")
	}
	if i := len(p.file.Accepts) - 1; p.accepts() { // both are for what stands below
		p.file.Accepts[i].For = p.file.Accepts[len(p.file.Accepts)-1].For
	}
	return true
}

// acceptsHere reads `accept FINDING "reason"` above a statement or a line of a head, where `accept` may be a name as
// well.
func (p *parser) acceptsHere() {
	third := p.tokens[min(p.at+2, len(p.tokens)-1)]
	if p.peek().Kind == Name && !p.peek().Newline && third.Kind == Text {
		p.accepts()
	}
}

// name reads a name that begins with a small letter; what is what it names, for messages.
func (p *parser) name(what string) Ident { return p.ident(Name, what, "a small letter") }

// typeName reads a name that begins with a capital.
func (p *parser) typeName(what string) Ident {
	return p.ident(TypeName, what, "a capital")
}

// ident reads a name. One that begins with a letter of the wrong case is a problem and is used all the same.
//
// A word of the language gives up the construct: the name may have been left out altogether.
func (p *parser) ident(kind Kind, what, begins string) Ident {
	t := p.tok()
	switch {
	case t.Kind == kind:
		p.take()
		return Ident{t.Text, t.Span}
	case t.Kind == Word:
		p.fail(
			t.Span, "reserved", fmt.Sprintf("`%s` is a word of the language and cannot be %s", t.Text, what),
			"choose another name",
		)
		panic(skip{})
	case t.Kind == Name || t.Kind == TypeName:
		p.fail(
			t.Span, "letter-case", fmt.Sprintf("%s begins with %s, not as in `%s`", what, begins, t.Text),
			"kinds, enums and types begin with a capital, everything else with a small letter",
		)
		p.take()
		return Ident{t.Text, t.Span}
	}
	p.abort(what, "")
	return Ident{}
}

// number reads ["-"] INT.
//
// It is for numbers of declarations; in an expression the minus is an operator.
func (p *parser) number(what string) *Number {
	t := p.tok()
	start := t.Span.Start
	minus := p.accept("-")
	t = p.tok()
	if t.Kind != Int {
		p.abort(what, "a whole number")
	}
	p.take()
	if minus {
		t.Num = -t.Num
	}
	return &Number{Span{start, t.Span.End}, t.Num}
}

// row reads what stands with commas between up to a closing sign, which may follow a comma.
//
// more says in the message of a missing end what else could stand there.
func (p *parser) row(end, more string, one func()) {
	p.nest++
	for !p.is(end) {
		one()
		if !p.accept(",") {
			break
		}
	}
	p.expect(end, more)
	p.nest--
}

// duration reads a time; the number is in milliseconds.
func (p *parser) duration() *Number {
	t := p.tok()
	if t.Kind != Duration {
		p.abort("a time", "a whole number with a unit: 400ms, 2s, 1min")
	}
	p.take()
	return &Number{t.Span, t.Num}
}

// time reads a time: a literal, or what computes one.
func (p *parser) time() Expr {
	if p.tok().Kind == End || p.is("{") || p.is("while") || p.is("do") {
		p.abort("a time", "a whole number with a unit: 400ms, 2s, 1min; or a name for one")
	}
	return p.expr()
}

// text reads a text in quotes.
func (p *parser) text(what string) *Literal {
	t := p.tok()
	if t.Kind != Text {
		hint := ""
		if what == "a reason" {
			hint = `as in deny "not carried"`
		}
		p.abort(what+" in quotes", hint)
	}
	p.take()
	return &Literal{t.Span, t.Text}
}

// reason reads the reason of a denial, strike or expulsion.
func (p *parser) reason() *Literal { return p.text("a reason") }

// body reads "{" {Stmt} "}"; of is what it is the body of, for messages.
//
// Statements end at line ends here, also when the body stands within brackets.
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

// deeper counts one more level of nesting and gives up beyond maxDepth. The caller takes the level back.
func (p *parser) deeper() {
	p.depth++
	if p.depth > maxDepth {
		p.fail(p.tok().Span, "too-deep", "this is nested too deeply", fmt.Sprintf("at most %d levels", maxDepth))
		panic(skip{})
	}
}

// short gives up when a row of operators is longer than maxChain.
func (p *parser) short(chain int) {
	if chain > maxChain {
		p.fail(
			p.tok().Span, "too-deep", "this expression is too long",
			fmt.Sprintf("at most %d operators in a row; give a part of it a name with `let`", maxChain),
		)
		panic(skip{})
	}
}
