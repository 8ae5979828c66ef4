package syntax

import (
	"fmt"
	"strings"
)

// let reads "let" NAME "=" (Spawn | Expr).
func (p *parser) let() Stmt {
	start := p.take().Span.Start
	d := &Let{Name: p.name("a name")}
	p.expect("=", "and a value")
	if p.is("spawn") {
		d.Value = p.spawn()
	} else {
		d.Value = p.expr()
	}
	d.At = Span{start, p.last()}
	return d
}

// call reads `NAME(values)` as it stands after tell and do.
func (p *parser) call(what, hint string) *Call {
	x := p.postfix()
	call, ok := x.(*Call)
	if !ok {
		p.fail(x.Span(), "expected", what+" with its values in brackets", hint)
		panic(skip{})
	}
	return call
}

// leads reports whether the present name stands for a statement of this word, and is no property of that name.
//
// The word is a name anywhere else, so what follows it decides.
func (p *parser) leads(word string) bool {
	t := p.tok()
	next := p.peek()
	if t.Kind != Name || t.Text != word || next.Newline {
		return false
	}
	return next.Kind == Text || next.Kind == Name || next.Kind == Word || next.Kind == TypeName || next.Kind == Int ||
		next.Kind == Real || next.Kind == Duration ||
		next.Kind == Sign && (next.Text == "-" || next.Text == "(")
}

// stmt reads a statement.
//
// It returns nil for what is no statement, which has been reported.
//
//revive:disable-next-line:function-length It is one switch.
func (p *parser) stmt() Stmt {
	p.acceptsHere()
	t := p.tok()
	start := t.Span.Start
	at := func() Span { return Span{start, p.last()} }
	switch {
	case p.is("let"):
		return p.let()
	case t.Kind == Name && t.Text == "var" && p.peek().Kind == Name && !p.peek().Newline:
		p.take()
		d := &Var{Name: p.name("a name")}
		p.expect("=", "and the value that it begins with")
		d.Value = p.expr()
		d.At = at()
		return d
	case p.is("if"):
		return p.branch(0)
	case p.is("match"):
		return p.match()
	case p.accept("for"):
		d := &For{Name: p.name("a name for each")}
		if p.accept(",") {
			d.Second = p.name("a name for what stands beside it")
		}
		d.In = p.from()
		d.Body = p.body("this `for`")
		d.At = at()
		return d
	case p.accept("tell"):
		d := &Tell{To: p.audience()}
		call := p.call("an event is told", "as in `tell everyone used(item)`")
		d.Event, d.Args, d.At = call.Fn, call.Args, at()
		return d
	case p.is("do") || p.is("after"):
		d := &Run{}
		if p.accept("after") {
			d.After = p.time()
		}
		p.expect("do", "and an action, as in `after 2s do surface()`")
		call := p.call("an action is run", "as in `do surface()`")
		d.Action, d.Args, d.At = call.Fn, call.Args, at()
		return d
	case p.is("spawn"):
		return p.spawn()
	case p.accept("despawn"):
		d := &Despawn{X: p.postfix()}
		d.At = at()
		return d
	case p.accept("give"):
		d := &Give{X: within(p, p.postfix)}
		p.expect("to", "and who gets it, as in `give self to caller`")
		d.To = p.postfix()
		d.At = at()
		return d
	case p.accept("return"):
		return &Return{t.Span}
	case p.leads("reply"), p.is("reply") && t.Kind == Name && !p.peek().Newline && p.peek().Text == "[":
		p.take()
		d := &Reply{Value: p.expr()}
		d.At = at()
		return d
	case p.leads("expel"):
		p.take()
		d := &Expel{Who: p.postfix(), Reason: p.reason()}
		d.At = at()
		return d
	case p.leads("send"), t.Kind == Name && t.Text == "send" && p.peek().Kind == Word && !p.peek().Newline:
		p.take()
		d := &Send{Who: within(p, p.postfix)}
		p.expect("to", "and an exit, as in `send c to dive(3)`")
		d.Exit = p.call("an exit", "as in `send c to dive(3)`")
		if p.is("as") && !p.tok().Newline {
			p.take()
			d.Key = p.expr()
		}
		d.At = at()
		return d
	case p.leads("close"):
		p.take()
		d := &Close{Reason: p.reason()}
		if p.is("with") && !p.tok().Newline {
			p.take()
			d.Result = p.expr()
		}
		d.At = at()
		return d
	case t.Kind == Name && t.Text == "sort" && p.peek().Kind == Name && !p.peek().Newline:
		p.take()
		d := &SortList{Name: p.name("a name for each value")}
		p.expect("in", "and a list, as in `sort m in marks by m.worth`")
		d.List = p.postfix()
		p.expect("by", "and what decides the order, as in `sort m in marks by m.worth`")
		d.By = p.expr()
		d.At = at()
		return d
	case p.leads("log"):
		p.take()
		return p.log(start)
	case p.accept("deny"):
		d := &Deny{Reason: p.reason()}
		d.At = at()
		return d
	case p.is("check") || p.is("limit") || p.is("from"):
		p.fail(
			t.Span, "head-only", fmt.Sprintf("`%s` belongs in the head of a request, before its `{`", t.Text),
			"in a body, use `if … { deny \"reason\" }`",
		)
		panic(skip{})
	}
	x := p.expr()
	for _, op := range []string{"=", "+=", "-="} {
		if p.is(op) {
			p.take()
			d := &Assign{Target: x, Op: op, Value: p.expr()}
			d.At = at()
			return d
		}
	}
	if _, ok := x.(*Call); !ok {
		if _, bad := x.(*Bad); !bad {
			p.fail(
				x.Span(), "no-effect", "this value is computed and then thrown away",
				"a statement assigns (`hull = 100`), calls (`satchel.take(item)`) or tells",
			)
		}
		return nil
	}
	return &Do{at(), x}
}

// spawn reads "spawn" KIND ["{" Set {("," | line end) Set} "}"].
func (p *parser) spawn() *Spawn {
	start := p.take().Span.Start
	d := &Spawn{}
	if t := p.tok(); t.Kind == Name {
		p.take()
		d.Kind = Ident{t.Text, t.Span} // a value of the type `kind of`
	} else {
		d.Kind = p.typeName("a kind")
	}
	if open := p.tok(); p.is("{") && !open.Newline {
		p.take()
		nest := p.nest
		p.nest = 0
		for !p.is("}") {
			if p.tok().Kind == End {
				p.fail(open.Span, "unbalanced", "this `{` is never closed", "add `}` after the last value")
				break
			}
			p.attempt(func() {
				d.Sets = append(d.Sets, p.set())
				if !p.accept(",") {
					p.endOfStatement("this value")
				}
			})
		}
		p.accept("}")
		p.nest = nest
	}
	d.At = Span{start, p.last()}
	return d
}

// set reads NAME "=" Expr.
func (p *parser) set() Set {
	s := Set{Name: p.name("a property")}
	p.expect("=", "and its value")
	s.Value = p.expr()
	return s
}

// from reads what a loop or query goes over.
//
// `within` and `where` come in this order, since the first is computed once and the second for each.
func (p *parser) from() From {
	p.expect("in", "and what to go over, as in `d in Diver`")
	f := From{X: p.expr()}
	if p.accept("..") {
		f.X = &Range{f.X, p.expr()}
	}
	if p.is("within") {
		p.take()
		f.Within = p.expr()
		p.expect("of", "and a place, as in `within 5 of pos`")
		f.Of = p.expr()
	}
	if p.is("where") {
		p.take()
		f.Where = p.expr()
	}
	return f
}

// log reads `AUDIENCE "words {value}"`.
func (p *parser) log(start int) Stmt {
	d := &Log{To: p.audience()}
	_, d.Words, d.Values = p.template("the words of the log")
	d.At = Span{start, p.last()}
	return d
}

// template reads `"words {value}"`: words[i] stands before values[i], and one more at the end. A brace of its own is
// written twice.
//
// Values are scanned and parsed in their place in the text, so that their problems have the right
// position. With an escape in the text, places in it and in the source would not agree; such a text has
// no values.
func (p *parser) template(what string) (lit *Literal, words []string, values []Expr) {
	t := p.tok()
	lit = p.text(what)
	end := t.Span.End - 1
	if strings.Contains(t.source, "\\") || !strings.HasSuffix(t.source, `"`) || len(t.source) < 2 {
		if strings.ContainsAny(lit.Value, "{}") {
			p.fail(t.Span, "bad-escape", "these words hold a value and an escape", "one of the two")
		}
		return lit, []string{lit.Value}, nil
	}
	var next strings.Builder
	for i := t.Span.Start + 1; i < end; i++ {
		c := p.src.Text[i]
		if c != '{' && c != '}' {
			next.WriteByte(c)
			continue
		}
		if i+1 < end && p.src.Text[i+1] == c {
			next.WriteByte(c)
			i++
			continue
		}
		stop := strings.IndexByte(p.src.Text[i:end], '}')
		if c == '}' || stop < 0 {
			p.fail(Span{i, i + 1}, "unbalanced", "this brace has no partner", "write {{ or }} for the brace itself")
			break
		}
		inner := scan(p.src, Span{i + 1, i + stop})
		p.problems = append(p.problems, inner.problems...)
		sub := &parser{
			src:    p.src,
			tokens: inner.tokens,
			file:   p.file,
			nest:   1,
			depth:  p.depth,
		}
		sub.attempt(func() {
			x := sub.expr()
			if sub.tok().Kind != End {
				sub.abort("`}` after the value", "")
			}
			words = append(words, next.String())
			values = append(values, x)
			next.Reset()
		})
		p.problems = append(p.problems, sub.problems...)
		i += stop
	}
	return lit, append(words, next.String()), values
}

// match reads "match" Expr "{" {Expr {"," Expr} Body} ["else" Body] "}".
func (p *parser) match() Stmt {
	p.deeper()
	defer func() { p.depth-- }()
	start := p.take().Span.Start
	d := &Match{X: p.expr()}
	p.expect("{", "and a part for each value")
	for !p.is("}") {
		if p.tok().Kind == End {
			p.abort("`}` that closes this `match`", "")
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

// branch reads "if" Expr Body ["else" (If | Body)]; chain counts the `else if` before it.
//
// A row of `else if` is nested in the tree, so its length is bounded as nesting is.
func (p *parser) branch(chain int) Stmt {
	start := p.take().Span.Start
	d := &If{Cond: p.expr()}
	if p.is("=") {
		p.abort("`{` and the body of this `if`", "write `==` to compare")
	}
	d.Then = p.body("this `if`")
	if p.accept("else") {
		if p.is("if") {
			chain++
			if chain > maxChain {
				p.fail(
					p.tok().Span, "too-deep", "this row of `else if` is too long", fmt.Sprintf("at most %d", maxChain),
				)
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
