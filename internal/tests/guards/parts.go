package guards

import (
	"strings"

	"kamerad.example/core/syntax"
)

// Parts returns what a contract of one file declares, and every clause that may be left out of that: one deleted at a
// time shows what is told to whoever forgets it.
func Parts(text string) []Guard {
	file, _ := syntax.Parse(syntax.NewSource("tidewreck.kam", text), nil)
	p := &parts{text: text}
	for _, d := range file.Decls {
		p.declaration(d)
	}
	return p.all
}

type parts struct {
	text string
	all  []Guard
}

// add adds a part that can be deleted.
func (p *parts) add(what, of string, at syntax.Span) {
	p.all = append(p.all, Guard{what, of, at.Start, at.End})
}

// from adds a clause that begins with a word before the part of it that is known.
func (p *parts) from(word, of string, at syntax.Span) {
	start := strings.LastIndex(p.text[:at.Start+len(word)], word)
	p.all = append(p.all, Guard{strings.TrimSpace(word), of, start, at.End})
}

// declaration adds a declaration, and what in it can be deleted by itself.
func (p *parts) declaration(d syntax.Decl) {
	switch d := d.(type) {
	case *syntax.Tick:
		p.add("tick", "tick", d.At)
	case *syntax.Seats:
		p.add("seats", "seats", d.At)
	case *syntax.Strikes:
		p.add("strikes", "strikes", d.At)
	case *syntax.ByteLimit:
		p.add("byte limit", d.Of.Text, d.At)
	case *syntax.Roles:
		p.add("roles", "roles", d.At)
	case *syntax.Enum:
		p.add("enum", d.Name.Text, d.At)
	case *syntax.TypeDecl:
		p.add("type", d.Name.Text, d.At)
	case *syntax.Const:
		p.add("const", d.Name.Text, d.At)
	case *syntax.AudienceDecl:
		p.add("audience", d.Name.Text, d.At)
	case *syntax.Fn:
		p.add("function", d.Name.Text, d.At)
	case *syntax.Event:
		p.event("", d)
	case *syntax.Handler:
		p.add("handler", "on "+d.On.Text, d.At)
	case *syntax.Entity:
		p.add("kind", d.Name.Text, d.At)
		p.entity(d)
	}
}

// event adds an event.
func (p *parts) event(of string, e *syntax.Event) { p.add("event", of+e.Name.Text, e.At) }

// entity adds the clauses and members of a kind or part.
func (p *parts) entity(d *syntax.Entity) {
	of := d.Name.Text + "."
	if d.Per.Text != "" {
		p.from("per ", d.Name.Text, d.Per.At)
	}
	if d.To != nil {
		p.from("to ", d.Name.Text, d.To.At)
	}
	for _, x := range d.Properties {
		p.property(of+x.Name.Text, x)
	}
	for _, x := range d.Holds {
		p.add("hold", of+x.Name.Text, x.At)
		if x.When != nil {
			p.from("when ", of+x.Name.Text, x.When.Span())
		}
		if x.To != nil {
			p.from("to ", of+x.Name.Text, x.To.At)
		}
	}
	for _, x := range d.Events {
		p.event(of, x)
	}
	for _, x := range d.Actions {
		p.add("action", of+x.Name.Text, x.At)
	}
	for _, x := range d.Needs {
		p.add("need", of+x.Name.Text, x.At)
	}
	for _, x := range d.Requests {
		p.request(of+x.Name.Text, x)
	}
	for _, x := range d.Handlers {
		p.add("handler", of+strings.TrimSpace("on "+x.On.Text+" "+x.Param.Text), x.At)
	}
	for _, x := range d.Timers {
		name := of + "every " + p.text[x.Window.Span().Start:x.Window.Span().End]
		p.add("timer", name, x.At)
		if x.While != nil {
			p.from("while ", name, x.While.Span())
		}
	}
}

// property adds a property and its clauses.
func (p *parts) property(name string, x *syntax.Property) {
	p.add("property", name, x.At)
	if x.Default != nil {
		p.from("= ", name, x.Default.Span())
	}
	words := []string{"clamped", "keep", "once", "loose"}
	for i, at := range []*syntax.Span{x.Clamped, x.Keep, x.Once, x.Loose} {
		if at != nil {
			p.add(words[i], name, *at)
		}
	}
	if x.To != nil {
		p.from("to ", name, x.To.At)
	}
	if x.Follows != nil {
		at := x.Follows.What.Span()
		if x.Follows.By != nil {
			at.End = x.Follows.By.Span().End
		}
		p.from("follows ", name, at)
	}
	if x.Set == nil {
		return
	}
	p.add("set by", name, x.Set.At)
	end := x.Set.At.End
	if x.Set.When != nil {
		p.from("when ", name, x.Set.When.Span())
		end = strings.LastIndex(p.text[:x.Set.When.Span().Start], "when ")
	}
	if x.Set.Pace != nil {
		start := strings.LastIndex(p.text[:x.Set.Pace.Span().Start], "pace ")
		p.all = append(p.all, Guard{"pace", name, start, end})
	}
	if x.Set.Burst != nil {
		p.from("burst ", name, x.Set.Burst.Span())
	}
}

// request adds a request, its clauses and its checks.
func (p *parts) request(name string, x *syntax.Request) {
	p.add("request", name, x.At)
	if x.From != nil {
		p.from("from ", name, x.From.At)
	}
	if x.Limit != nil {
		p.from("limit ", name, x.Limit.At)
	}
	if x.Pause != nil {
		p.from("pause ", name, x.Pause.At)
	}
	for _, s := range x.Head {
		p.add("check or let", name, s.Span())
	}
}
