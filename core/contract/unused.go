package contract

import (
	"fmt"

	"kamerad/core/syntax"
)

// unused warns of what is declared and then never used.
func (c *checker) unused(f *syntax.File) {
	taken := map[int]bool{} // accepts, by what they are for
	accepted := map[int]bool{}
	for _, a := range f.Accepts {
		if a.Finding.Text != "unused" {
			c.fail(a.Finding.At, "unknown-name", fmt.Sprintf("there is no finding `%s`", a.Finding.Text), "there is `unused`")
		}
		accepted[a.For] = true
	}
	warn := func(decl syntax.Span, at syntax.Ident, what, hint string) {
		if accepted[decl.Start] {
			taken[decl.Start] = true
			return
		}
		p := c.src.Problem(at.At, "unused", what, hint)
		p.Warning = true
		c.problems = append(c.problems, p)
	}
	for _, d := range f.Decls {
		switch d := d.(type) {
		case *syntax.Roles:
			for _, r := range d.Names[1:] {
				if !c.used[role(r.Text)] {
					warn(d.At, r, fmt.Sprintf("the role `%s` is never used", r.Text), "use it after `per`, `from` or `tell`, or remove it")
				}
			}
		case *syntax.Const:
			if !c.used["const "+d.Name.Text] {
				warn(d.At, d.Name, fmt.Sprintf("the constant `%s` is never used", d.Name.Text), "use it or remove it")
			}
		case *syntax.Enum:
			e := c.enums[d.Name.Text]
			if !c.used[e] {
				warn(d.At, d.Name, fmt.Sprintf("the enum `%s` is never used", e.Name), "use it as a type or remove it")
				continue
			}
			for i, m := range d.Members {
				// What clients may send is used, named or not.
				if !c.sent[e] && !c.used[value{e, int64(i)}] {
					warn(d.At, m, fmt.Sprintf("the value `%s` of %s is never used", m.Text, e.Name), "use it or remove it")
				}
			}
		case *syntax.Event:
			c.unusedEvents(nil, []*syntax.Event{d}, warn)
		case *syntax.Entity:
			k := c.kinds[d.Name.Text]
			for _, p := range d.Properties {
				if q := k.Property(p.Name.Text); q != nil && q.To == Nobody && !c.used[q] {
					warn(p.At, p.Name, fmt.Sprintf("nobody ever reads `%s.%s`", k.Name, q.Name), "it is sent to nobody; read it somewhere, say who gets it, or remove it")
				}
			}
			c.unusedEvents(k, d.Events, warn)
			for i, a := range d.Actions {
				if !c.used[k.Actions[i]] {
					warn(a.At, a.Name, fmt.Sprintf("the action `%s` is never run", a.Name.Text), "run it with `do "+a.Name.Text+"(…)` or remove it")
				}
			}
		}
	}
	for _, l := range c.locals {
		if !c.used[l.x] {
			warn(l.name.At, l.name, fmt.Sprintf("the name `%s` is never used", l.name.Text), "use it or remove it")
		}
	}
	for _, a := range f.Accepts {
		if !taken[a.For] && a.Finding.Text == "unused" {
			p := c.src.Problem(a.At, "needless-accept", "nothing below this line is unused", "remove the line")
			p.Warning = true
			c.problems = append(c.problems, p)
		}
	}
}

func (c *checker) unusedEvents(k *Kind, events []*syntax.Event, warn func(syntax.Span, syntax.Ident, string, string)) {
	for _, d := range events {
		for _, e := range c.out.Events {
			if e.Kind == k && e.Name == d.Name.Text && !c.used[e] {
				warn(d.At, d.Name, fmt.Sprintf("the event `%s` is never told", e.FullName()), "tell it: `tell everyone "+e.Name+"(…)`, or remove it")
			}
		}
	}
}
