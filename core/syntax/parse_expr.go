package syntax

import (
	"strings"
)

// expr reads an expression.
//
// Its depth is bounded like that of blocks: each bracket and each operator before an operand counts.
func (p *parser) expr() Expr {
	p.deeper()
	defer func() { p.depth-- }()
	return p.binary(0)
}

// levels lists the operators from the loosest to the tightest; `not` stands between `and` and the comparisons.
var levels = [][]string{{"or"}, {"and"}, nil, {"==", "!=", "<=", ">=", "<", ">"}, {"+", "-"}, {"*", "/", "%"}}

// binary reads an expression of operators of a level and of tighter ones: Operand {OP Operand}.
//
// Operators of one level go from left to right. A line end ends the expression, unless it stands in
// brackets or `and` or `or` follows.
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

// unary reads {"-"} Postfix.
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

// postfix reads Primary {"." NAME | "(" Arguments ")" | "[" Expr "]"}.
//
// A `[` at the beginning of a line is the beginning of a list, not a place in what stands before it.
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
				p.abort("a name after the point", "")
			}
			p.take()
			x = &Member{x, Ident{n.Text, n.Span}}
		case p.is("("):
			x = p.revealed(p.arguments(x))
		case p.is("[") && !t.Newline:
			p.take()
			leave := p.bracket()
			i := p.expr()
			p.expect("]", "after the place in the list")
			leave()
			x = &Index{Span{x.Span().Start, p.last()}, x, i}
		default:
			return x
		}
	}
}

// arguments reads what stands in the brackets after x: values, the fields of a record, or a query.
//
// What it is shows in the first tokens: `name in` and `key, value in` are queries, `name =` behind a type's name is a
// record.
func (p *parser) arguments(x Expr) Expr {
	p.take()
	defer p.bracket()()
	start := x.Span().Start
	r, _ := x.(*Ref)
	next := p.peek()
	isQuery := next.Kind == Name && next.Text == "in"
	if next.Text == "," && p.at+3 < len(p.tokens) {
		second := p.tokens[p.at+2]
		in := p.tokens[p.at+3]
		isQuery = second.Kind == Name && in.Kind == Name && in.Text == "in"
	}
	switch {
	case r != nil && p.tok().Kind == Name && isQuery:
		q := &Query{Fn: r.Ident, Name: p.name("a name for each")}
		if p.accept(",") {
			q.Second = p.name("a name for what stands beside it")
		}
		q.In = p.from()
		if p.accept(":") {
			q.Value = p.expr()
		}
		if p.accept("else") {
			q.Else = p.expr()
		}
		p.expect(")", "after the query; before it stand `where`, `:` and `else`, in this order")
		q.At = Span{start, p.last()}
		return q
	case r != nil && r.Text[0] >= 'A' && r.Text[0] <= 'Z' && next.Text == "=" && next.Kind == Sign:
		d := &Record{Type: r.Ident}
		p.row(")", "or `,` and another field", func() { d.Sets = append(d.Sets, p.set()) })
		d.At = Span{start, p.last()}
		return d
	}
	if r != nil && r.Text == "words" && p.tok().Kind == Text && next.Text == ")" {
		d := &Words{}
		d.Literal, d.Words, d.Values = p.template("the words")
		p.expect(")", "after the words")
		d.At = Span{start, p.last()}
		return d
	}
	args := p.values(")")
	return &Call{At: Span{start, p.last()}, Fn: x, Args: args}
}

// bracket begins what stands in brackets: line ends do not end a statement, and a `to` belongs to a `reveal`. leave
// ends it.
func (p *parser) bracket() (leave func()) {
	clause := p.clause
	p.clause = false
	p.nest++
	return func() {
		p.nest--
		p.clause = clause
	}
}

// within reads something in which a `to` after a value is not a `reveal`'s.
func within[T any](p *parser, read func() T) T {
	clause := p.clause
	p.clause = true
	out := read()
	p.clause = clause
	return out
}

// revealed reads the `to AUDIENCE` after `reveal(value)`. Several terms of the audience stand in brackets, since `or`
// goes on with the value.
func (p *parser) revealed(x Expr) Expr {
	c, isCall := x.(*Call)
	if !isCall || p.clause || !p.is("to") || p.tok().Newline && p.nest == 0 {
		return x
	}
	if r, named := c.Fn.(*Ref); !named || r.Text != "reveal" {
		return x
	}
	p.take()
	if p.is("(") {
		p.take()
		leave := p.bracket()
		c.To = p.audience()
		p.expect(")", "after the audience")
		leave()
	} else {
		start := p.tok().Span.Start
		c.To = &Audience{Terms: []AudienceTerm{{Who: p.postfix()}}}
		c.To.At = Span{start, p.last()}
	}
	c.At.End = p.last()
	return c
}

// values reads expressions up to a closing sign. One of them may be a range.
func (p *parser) values(end string) []Expr {
	var out []Expr
	p.row(end, "or `,` and another value", func() {
		x := p.expr()
		if p.accept("..") {
			x = &Range{x, p.expr()}
		}
		out = append(out, x)
	})
	return out
}

// primary reads a literal, a name, or an expression in brackets.
//
// Which of the language's words mean something here is for package typing to say: they all parse.
func (p *parser) primary() Expr {
	t := p.tok()
	switch t.Kind {
	case Int:
		p.take()
		return &Number{t.Span, t.Num}
	case Duration:
		p.take()
		return &Time{t.Span, t.Num}
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
		case "self", "caller", "viewer", "owner", "server", "everyone", "nobody", "nothing":
			p.take()
			return &Ref{Ident{t.Text, t.Span}}
		case "if":
			// Where a value is missing, the next line may begin with a statement.
			if !t.Newline || p.nest > 0 {
				return p.choice()
			}
		}
	case Sign:
		if t.Text == "(" {
			p.take()
			leave := p.bracket()
			x := p.expr()
			p.expect(")", "that closes this bracket")
			leave()
			return x
		}
		if t.Text == "[" {
			p.take()
			leave := p.bracket()
			items := p.values("]")
			leave()
			return &List{Span{t.Span.Start, p.last()}, items}
		}
	}
	hint := ""
	if t.Kind == Word && strings.Contains("deny tell let spawn for do", t.Text) {
		hint = "a statement cannot stand where a value is wanted"
	}
	p.abort("a value", hint)
	return nil
}

// choice reads `if CONDITION then VALUE else OTHER`. `then` is a word here alone, and a name anywhere else.
func (p *parser) choice() Expr {
	d := &Choice{}
	start := p.tok().Span.Start
	p.take()
	d.Cond = p.expr()
	if !p.is("then") {
		p.abort(
			"`then` and a value",
			"as in `if sprints then 1.8 else 1.0`; a statement cannot stand where a value is wanted",
		)
	}
	p.take()
	d.Then = p.expr()
	p.expect("else", "and another value, as in `if sprints then 1.8 else 1.0`")
	d.Other = p.expr()
	d.At = Span{start, p.last()}
	return d
}
