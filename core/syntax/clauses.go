package syntax

// clauseSyntax is one clause of a property: the word that it begins with, what is said when it comes twice, and how it
// is read. The word has been taken when read is called; start is where it stands.
type clauseSyntax struct {
	word  string
	what  string // as in "this property has … already"
	hint  string
	there func(d *Property) bool // the property has it already
	read  func(p *parser, d *Property, start Span)
}

// propertyClauses are all clauses of a property. They may come in any order, each once.
var propertyClauses = []clauseSyntax{
	{
		word:  "=",
		what:  "a default",
		there: func(d *Property) bool { return d.Default != nil },
		read:  func(p *parser, d *Property, _ Span) { d.Default = p.expr() },
	},
	{
		word:  ":=",
		what:  "a value that it is computed from",
		there: func(d *Property) bool { return d.Value != nil },
		read:  func(p *parser, d *Property, _ Span) { d.Value = p.expr() },
	},
	flag("clamped", func(d *Property) **Span { return &d.Clamped }),
	flag("keep", func(d *Property) **Span { return &d.Keep }),
	flag("once", func(d *Property) **Span { return &d.Once }),
	flag("loose", func(d *Property) **Span { return &d.Loose }),
	{
		word:  "at",
		what:  "an `at most`",
		there: func(d *Property) bool { return d.AtMost != nil },
		read: func(p *parser, d *Property, _ Span) {
			p.expect("most", "and a number, as in `at most 5 per second`")
			d.AtMost = p.number("how many times a second")
			p.expect("per", "second")
			p.expect("second", "as in `at most 5 per second`")
		},
	},
	{
		word:  "was",
		what:  "a `was`",
		there: func(d *Property) bool { return d.Was.Text != "" },
		read:  func(p *parser, d *Property, _ Span) { d.Was = p.name("the name that it had before") },
	},
	{
		word:  "set",
		what:  "a `set by`",
		there: func(d *Property) bool { return d.Set != nil },
		read:  func(p *parser, d *Property, start Span) { d.Set = p.setBy(start.Start) },
	},
	{
		word:  "follows",
		what:  "a `follows`",
		there: func(d *Property) bool { return d.Follows != nil },
		read:  func(p *parser, d *Property, start Span) { d.Follows = p.follows(start.Start) },
	},
	{
		word:  "to",
		what:  "an audience",
		hint:  "join two with `or`: to owner or referee",
		there: func(d *Property) bool { return d.To != nil },
		read:  func(p *parser, d *Property, _ Span) { d.To = p.audience() },
	},
}

// flag returns a clause that is its word alone; field is where the property has it.
func flag(word string, field func(d *Property) **Span) clauseSyntax {
	return clauseSyntax{
		word:  word,
		what:  "`" + word + "`",
		there: func(d *Property) bool { return *field(d) != nil },
		read:  func(_ *parser, d *Property, start Span) { *field(d) = &start },
	}
}

// property reads NAME ":" Type and the clauses of a property, in any order.
func (p *parser) property() *Property {
	start := p.tok().Span.Start
	d := &Property{Name: p.name("a property's name")}
	p.expect(":", "and a type after the property's name")
	d.Type = p.typ()
	for !p.tok().Newline && p.propertyClause(d) {
	}
	d.At = Span{start, p.last()}
	return d
}

// propertyClause reads the clause of a property that begins here, and reports whether one does.
func (p *parser) propertyClause(d *Property) bool {
	for i := range propertyClauses {
		c := &propertyClauses[i]
		if !p.is(c.word) {
			continue
		}
		t := p.take()
		if c.there(d) {
			hint := c.hint
			if hint == "" {
				hint = "remove one of the two"
			}
			p.fail(t.Span, "repeated", "this property has "+c.what+" already", hint)
		}
		c.read(p, d, t.Span)
		return true
	}
	return false
}

// follows reads what stands after `follows`.
func (p *parser) follows(start int) *Follows {
	d := &Follows{What: p.postfix()}
	if p.is("by") && !p.tok().Newline {
		p.take()
		d.By = p.expr()
	}
	d.At = Span{start, p.last()}
	return d
}

// setBy reads what stands after `set`.
func (p *parser) setBy(start int) *SetBy {
	p.expect("by", "and a client, as in `set by owner`")
	d := &SetBy{By: p.postfix()}
	for !p.tok().Newline {
		switch {
		case p.is("pace") && d.Pace == nil:
			p.take()
			d.Pace = p.expr()
			d.Rate = p.rate()
			p.expect("per", "second, as in `pace distance(old, new) 8 per second`")
			p.expect("second", "as in `pace distance(old, new) 8 per second`")
			continue
		case p.is("burst") && d.Burst == nil:
			p.take()
			d.Burst = p.bound()
			continue
		case p.is("when") && d.When == nil:
			p.take()
			d.When = p.expr()
			continue
		}
		break
	}
	d.At = Span{start, p.last()}
	return d
}

// rate reads the rate of a pace: a number, or what computes one. A number that something is asked of is for the
// checker.
func (p *parser) rate() Expr {
	next := p.peek()
	isAsked := p.tok().Kind != Sign && next.Kind == Sign && (next.Text == "." || next.Text == "[")
	if p.rangeAhead() && !isAsked {
		return p.bound()
	}
	return p.postfix()
}
