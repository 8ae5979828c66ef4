package syntax

import "fmt"

// entity reads the declaration of a kind or part: its head, then its members in braces.
func (p *parser) entity() Decl {
	start := p.tok().Span.Start
	d := &Entity{Sort: Sort(p.take().Text)}
	p.attempt(func() {
		d.Name = p.typeName("the kind's name")
		if d.Sort != SortPart && p.accept("like") {
			d.Like = p.typeName("a kind")
		}
		if d.Sort == SortEntity && p.accept("per") {
			d.Per = p.name("a role")
		}
		if p.is("with") {
			p.take()
			d.With = []Ident{p.typeName("a part")}
			for p.accept(",") {
				d.With = append(d.With, p.typeName("a part"))
			}
		}
		if p.accept("without") {
			d.Without = []Ident{p.name("a member")}
			for p.accept(",") {
				d.Without = append(d.Without, p.name("a member"))
			}
		}
		if p.accept("where") {
			d.Where = []Set{p.set()}
			for p.accept(",") {
				d.Where = append(d.Where, p.set())
			}
		}
		if d.Sort != SortPart && p.accept("to") {
			d.To = p.audience()
		}
		if !p.is("{") {
			p.abort("`{` and what "+d.Name.Text+" has", map[Sort]string{
				SortEntity: "before it stand `like KIND`, `per ROLE`, `with PART`, `without MEMBER`, " +
					"`where PROPERTY = VALUE` and `to AUDIENCE`, in this order",
				SortShared: "before it stand `like KIND`, `with PART`, `without MEMBER`, " +
					"`where PROPERTY = VALUE` and `to AUDIENCE`, in this order",
				SortPart: "before it stand `with PART`, `without MEMBER` and `where PROPERTY = VALUE`, in this order",
			}[d.Sort])
		}
	}, "{")
	p.expect("{", "and what "+d.Name.Text+" has")
	for !p.is("}") {
		// What can only stand outside of a kind tells that this one should have ended.
		outside := p.tok().Newline &&
			(p.is("entity") || p.is("shared") || p.is("part") || p.is("enum") || p.is("const") || p.is("public") ||
				p.is("type") || p.is("fn") || p.is("audience"))
		if p.tok().Kind == End || outside && p.peek().Text != ":" {
			p.fail(
				Span{start, d.Name.At.End}, "unbalanced", fmt.Sprintf("`%s` has no closing `}`", d.Name.Text),
				"add `}` after its last line",
			)
			break
		}
		p.attempt(func() { p.member(d) })
	}
	p.accept("}")
	d.At = Span{start, p.last()}
	return d
}

// member reads one member of a kind or part into d.
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
		d.Properties = append(d.Properties, within(p, p.property))
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
	case p.is("needs") && p.peek().Text == "action":
		p.take()
		p.take()
		a := &Action{Name: p.name("the action's name")}
		a.Params = p.params()
		a.At = Span{start, p.last()}
		d.Needs = append(d.Needs, a)
	case p.is("hold") && t.Kind == Name && p.peek().Kind == Name:
		p.take()
		h := &Hold{Name: p.name("the hold's name")}
		p.expect("lease", "and a time, as in `hold kick lease 1s`")
		h.Lease = p.time()
		for {
			if p.is("when") && h.When == nil {
				p.take()
				h.When = within(p, p.expr)
			} else if !p.tok().Newline && h.To == nil && p.accept("to") {
				h.To = p.audience()
			} else {
				break
			}
		}
		h.At = Span{start, p.last()}
		d.Holds = append(d.Holds, h)
	case p.accept("on"):
		d.Handlers = append(d.Handlers, p.handler(start))
	case p.is("every") || p.is("after"):
		d.Timers = append(d.Timers, p.timer())
	case t.Kind == Name || t.Kind == TypeName:
		d.Properties = append(d.Properties, within(p, p.property))
	default:
		p.abort("a property, a request, an event, an action, a handler, a timer or a hold",
			"a property reads `hull: int 0..100 = 100`",
		)
	}
	p.endOfStatement("this line")
}

// handler reads what follows "on": the occasion and the body.
func (p *parser) handler(start int) *Handler {
	h := &Handler{On: Ident{p.tok().Text, p.tok().Span}}
	switch {
	case p.accept("spawn"), p.accept("despawn"):
	case p.accept("owner"):
		n := p.name("`lost` or `leave`")
		h.On = Ident{"owner " + n.Text, Span{h.On.At.Start, n.At.End}}
	default:
		h.On = p.name("what the handler is for: start, spawn, despawn, tick, change hull, owner lost or owner leave")
	}
	if h.On.Text == "change" {
		h.Param = p.name("the property whose changes are meant")
	}
	h.Body = p.body("the handler")
	h.At = Span{start, p.last()}
	return h
}

// timer reads ("every" | "after") TIME ["while" Expr] Body.
func (p *parser) timer() *Timer {
	start := p.tok().Span.Start
	d := &Timer{After: p.take().Text == "after"}
	d.Window = p.time()
	if p.is("while") && !d.After {
		p.take()
		d.While = p.expr()
	}
	d.Body = p.body("the timer")
	d.At = Span{start, p.last()}
	return d
}

// typ reads a type with its bounds.
func (p *parser) typ() *Type {
	p.deeper()
	defer func() { p.depth-- }()
	t := p.tok()
	d := &Type{}
	if t.Kind != Name && t.Kind != TypeName {
		p.abort("a type",
			"bool, int 0..100, real 0..1 step 0.01, text max 40, vec2 -9..9 step 0.1, list<T> max 8, stacks<Item> "+
				"max 6 each 5, ref Diver, client, or the name of an enum or type",
		)
	}
	p.take()
	d.Name = Ident{t.Text, t.Span}
	switch {
	case p.is("<") && (d.Name.Text == "stacks" || d.Name.Text == "list" || d.Name.Text == "map"):
		p.take()
		p.nest++
		d.Of = append(d.Of, p.typ())
		if d.Name.Text == "map" {
			p.expect(",", "and the type of the values")
			d.Of = append(d.Of, p.typ())
		}
		p.expect(">", "after the type")
		p.nest--
	case d.Name.Text == "ref" && p.tok().Kind == TypeName && !p.tok().Newline:
		d.Ref = p.typeName("a kind or part")
	case d.Name.Text == "kind" && p.is("of"):
		p.take()
		p.expect("[", "and kinds, as in `kind of [Crate, Sled]`")
		p.row("]", "or `,` and another kind", func() { d.Kinds = append(d.Kinds, p.typeName("a kind")) })
	}
	// What does not belong to this type is read all the same; the checker says so.
	if p.rangeAhead() {
		d.Low = p.bound()
		p.expect("..", "and the greatest value, as in `int 0..100`")
		d.High = p.bound()
	}
	p.typeBounds(d)
	d.At = Span{t.Span.Start, p.last()}
	return d
}

// typeBounds reads what stands behind the name or range of a type, in any order.
func (p *parser) typeBounds(d *Type) {
	for p.nest > 0 || !p.tok().Newline {
		if p.is("max") && d.Max == nil {
			p.take()
			d.Max = p.number("the greatest length")
		} else if p.is("step") && d.Step == nil {
			p.take()
			d.Step = p.bound()
		} else if p.is("each") && d.Each == nil {
			p.take()
			d.Each = p.number("the greatest count of one stack")
		} else if p.is("of") && d.Chars == nil {
			p.take()
			d.Chars = p.text("what a text may hold, such as \"a-z0-9 -\",")
		} else if p.is("wrapping") && d.Wraps == nil {
			at := p.take().Span
			d.Wraps = &at
		} else if p.is("small") && d.Small == nil {
			at := p.take().Span
			d.Small = &at
		} else if p.is("slotted") && d.Slotted == nil {
			at := p.take().Span
			d.Slotted = &at
		} else {
			return
		}
	}
}

// rangeAhead reports whether the range of a type begins here.
func (p *parser) rangeAhead() bool {
	t := p.tok()
	number := t.Kind == Int || t.Kind == Real || t.Kind == Duration || t.Kind == Sign && t.Text == "-"
	return number && (p.nest > 0 || !t.Newline)
}

// bound reads a number of a type, with or without a point, or a time.
func (p *parser) bound() Expr {
	t := p.tok()
	minus := ""
	if t.Kind == Sign && t.Text == "-" && (p.peek().Kind == Real || p.peek().Kind == Duration) {
		p.take()
		minus = "-"
	}
	n := p.tok()
	at := Span{t.Span.Start, n.Span.End}
	switch n.Kind {
	case Real:
		p.take()
		return &Decimal{at, minus + n.Text}
	case Duration:
		p.take()
		if minus != "" {
			return &Time{at, -n.Num}
		}
		return &Time{at, n.Num}
	}
	return p.number("a number")
}

// params reads "(" [Param {"," Param} [","]] ")".
func (p *parser) params() []Param {
	p.expect("(", "and the arguments")
	var out []Param
	p.row(")", "or `,` and another argument", func() { out = append(out, p.param("an argument's name")) })
	return out
}

// param reads NAME ":" Type.
func (p *parser) param(what string) Param {
	d := Param{Name: p.name(what)}
	p.expect(":", "and a type after "+what)
	d.Type = p.typ()
	return d
}

// fields reads the fields of a record, with commas or line ends between them.
func (p *parser) fields() []Param {
	open := p.expect("{", "and the fields of the record")
	out := []Param{}
	for !p.is("}") {
		if p.tok().Kind == End {
			p.fail(open.Span, "unbalanced", "this `{` is never closed", "add `}` after the last field")
			return out
		}
		p.attempt(func() {
			out = append(out, p.param("a field's name"))
			if !p.accept(",") {
				p.endOfStatement("this field")
			}
		})
	}
	p.take()
	return out
}

// event reads what follows "event": NAME Params ["loose"].
func (p *parser) event(start int) *Event {
	d := &Event{Name: p.name("the event's name")}
	d.Params = p.params()
	if p.is("loose") && !p.tok().Newline {
		p.take()
		d.Loose = true
	}
	d.At = Span{start, p.last()}
	return d
}

var headWords = []string{"from", "limit", "pause", "let", "check", "{"}

// request reads what follows "request": NAME Params ["->" Type], the lines of the head, and the body.
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
			p.abort("`{` and the body of the request", "")
		}
		p.attempt(func() { p.head(d) }, headWords...)
	}
	p.nest--
	d.Body = p.body("the request")
	d.At = Span{start, p.last()}
	return d
}

// head reads one line of the head of a request into d.
func (p *parser) head(d *Request) {
	p.acceptsHere()
	t := p.tok()
	switch {
	case p.accept("from"):
		if d.From != nil {
			p.fail(
				t.Span, "repeated", "this request says already who may send it",
				"join two with `or`: from owner or referee",
			)
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
		pause := &Pause{Window: p.time()}
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
		if !p.is("drop") && !p.is("deny") && !p.is("strike") && !p.is("expel") {
			p.abort("what a failed check does",
				"one of deny \"reason\", strike \"reason\", expel \"reason\" and drop",
			)
		}
		c.Then = p.take().Text
		if c.Then != "drop" {
			c.Reason = p.reason()
		}
		c.At = Span{t.Span.Start, p.last()}
		d.Head = append(d.Head, c)
	default:
		p.abort("`{` and the body of the request, or a line of its head",
			"a head is made of from, limit, pause, let and check; changes belong in the body",
		)
	}
}

// audience reads Postfix {("or" | "but") Postfix}.
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
