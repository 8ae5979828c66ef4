package findings

import (
	"fmt"
	"slices"

	"kamerad.example/core/check"
	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// unused warns of what is declared and then never used.
func (c *finder) unused(f *syntax.File) {
	find := func(finding string, decl syntax.Span, at syntax.Ident, what, hint string) {
		c.find(finding, decl.Start, at.At, what, hint)
	}
	warn := func(decl syntax.Span, at syntax.Ident, what, hint string) { find("unused", decl, at, what, hint) }
	for _, d := range f.Decls {
		switch d := d.(type) {
		case *syntax.Roles:
			watching := c.watchable()
			for _, r := range d.Names[1:] {
				switch {
				case c.Used[check.RoleUse(r.Text)]:
				case watching: // nothing would tell a second one that only watches from this one
					watching = false
				default:
					warn(
						d.At, r, fmt.Sprintf("the role `%s` is never used", r.Text),
						"use it after `per`, `from` or `tell`, or remove it",
					)
				}
			}
		case *syntax.Const:
			if d.Setting && !c.Used[c.Settings[d.Name.Text]] {
				warn(d.At, d.Name, fmt.Sprintf("the setting `%s` is never used", d.Name.Text), "use it or remove it")
			} else if !d.Setting && !c.Used["const "+d.Name.Text] {
				warn(d.At, d.Name, fmt.Sprintf("the constant `%s` is never used", d.Name.Text), "use it or remove it")
			}
		case *syntax.TypeDecl:
			if !c.Used[d] {
				warn(d.At, d.Name, fmt.Sprintf("the type `%s` is never used", d.Name.Text), "use it or remove it")
			}
		case *syntax.Fn:
			if !c.Used[c.Fns[d.Name.Text]] {
				warn(
					d.At, d.Name, fmt.Sprintf("the function `%s` is never called", d.Name.Text), "call it or remove it",
				)
			}
		case *syntax.AudienceDecl:
			if !c.Used[c.Audiences[d.Name.Text]] {
				warn(
					d.At, d.Name, fmt.Sprintf("the audience `%s` is never used", d.Name.Text),
					"use it after `to`, `from` or `tell`, or remove it",
				)
			}
		case *syntax.Enum:
			e := c.Enums[d.Name.Text]
			if !c.Used[e] {
				warn(d.At, d.Name, fmt.Sprintf("the enum `%s` is never used", e.Name), "use it as a type or remove it")
				continue
			}
			for i, m := range d.Members {
				if c.Used[check.ValueUse{Enum: e, Index: int64(i)}] {
					continue
				}
				// What clients may send is used, named or not.
				if c.Sent[e] {
					key := acceptKey{d.At.Start, "unused"}
					c.taken[key] = c.taken[key] || c.accepted[key]
				} else {
					warn(
						d.At, m, fmt.Sprintf("the value `%s` of %s is never used", m.Text, e.Name),
						"use it or remove it",
					)
				}
			}
		case *syntax.Event:
			c.unusedEvents(nil, []*syntax.Event{d}, warn)
		case *syntax.Entity:
			k := c.Kinds[d.Name.Text]
			if p := c.Parts[d.Name.Text]; p != nil {
				k = p.Kind
				if !c.Used[p] {
					warn(
						d.At, d.Name, fmt.Sprintf("the part `%s` is included by no kind", d.Name.Text),
						"include it, as in `entity Eel with "+d.Name.Text+"`, or remove it",
					)
				}
			}
			for _, p := range d.Properties {
				if q := k.Property(p.Name.Text); q != nil && q.Keep {
					warn(
						p.At, p.Name,
						fmt.Sprintf(
							"`%s.%s` is to be kept, and nothing stores it between sessions yet", k.Name, q.Name,
						),
						"leave `keep` out until sessions store what they keep",
					)
				}
				if q := k.Property(p.Name.Text); q != nil && !q.Written && !q.Once && q.Set == nil &&
					q.Follows == nil {
					warn(
						p.At, p.Name,
						fmt.Sprintf("no request, handler, timer or action ever changes `%s.%s`", k.Name, q.Name),
						"write what changes it; or say `once` if it is meant to stay as it is",
					)
				}
				if q := k.Property(p.Name.Text); q != nil && q.To == contract.Nobody && !c.Used[q.Offset] {
					warn(
						p.At, p.Name, fmt.Sprintf("nobody ever reads `%s.%s`", k.Name, q.Name),
						"it is sent to nobody; read it somewhere, say who gets it, or remove it",
					)
				}
			}
			c.unusedEvents(k, d.Events, warn)
			if d.Sort != syntax.SortPart && k.To != contract.Nobody && len(k.Requests)+len(k.Events) == 0 &&
				!slices.ContainsFunc(k.Properties, func(p *contract.Property) bool { return p.To != contract.Nobody }) {
				warn(
					d.At, d.Name,
					fmt.Sprintf("clients are told of `%s`, and it has nothing that they could see or ask", k.Name),
					"keep it on the server: `to nobody`",
				)
			}
			if d.Sort == syntax.SortEntity && k.Free() && !c.Spawns[k] {
				warn(
					d.At, d.Name, fmt.Sprintf("no request, handler, timer or action ever spawns `%s`", k.Name),
					"spawn it in a body, or remove it; what each client has one of is `per` a role",
				)
			}
			if k.GivenAway {
				switch {
				case k.OnOwnerLost == nil:
					find(
						"abandoned", d.At, d.Name,
						fmt.Sprintf(
							"nothing gives `%s` back when its owner's connection is lost: it stays with a client that is not there",
							k.Name,
						),
						"add `on owner lost { give self to server }`",
					)
				case !k.ReturnsToServer:
					find(
						"abandoned", d.At, d.Name,
						fmt.Sprintf(
							"nothing gives `%s` back when its owner is done with it: nobody else can ever have it",
							k.Name,
						),
						"add a request that says `give self to server`",
					)
				}
			}
			for _, n := range d.Needs {
				for _, a := range k.Actions {
					if a.Name == n.Name.Text && !c.Used[a.Offset] {
						warn(
							n.At, n.Name, fmt.Sprintf("the action `%s`, which %s needs, is never run", a.Name, k.Name),
							"run it with `do "+a.Name+"(…)` or remove the line",
						)
					}
				}
			}
			for _, a := range d.Actions {
				i := slices.IndexFunc(k.Actions, func(b *contract.Action) bool { return b.Name == a.Name.Text })
				if !c.Used[k.Actions[i].Offset] && a.Body != nil && !c.needed(k, a.Name.Text) {
					warn(
						a.At, a.Name, fmt.Sprintf("the action `%s` is never run", a.Name.Text),
						"run it with `do "+a.Name.Text+"(…)` or remove it",
					)
				}
			}
		}
	}
	for _, l := range c.Locals {
		if !c.Used[l.Expr] {
			warn(l.Name.At, l.Name, fmt.Sprintf("the name `%s` is never used", l.Name.Text), "use it or remove it")
		}
	}
}

// watchable reports whether there is anything that everyone sees: a role that has nothing of its own watches it.
func (c *finder) watchable() bool {
	return slices.ContainsFunc(c.Contract.Kinds, func(k *contract.Kind) bool {
		return k.To == contract.Everyone &&
			slices.ContainsFunc(k.Properties, func(p *contract.Property) bool { return p.To == contract.Everyone })
	})
}

// needed reports whether a part of a kind needs an action.
func (c *finder) needed(k *contract.Kind, action string) bool {
	return slices.ContainsFunc(c.Trees[k].Needs, func(n *syntax.Action) bool { return n.Name.Text == action })
}

func (c *finder) unusedEvents(
	k *contract.Kind, events []*syntax.Event, warn func(syntax.Span, syntax.Ident, string, string),
) {
	for _, d := range events {
		all := c.Contract.Events
		if k != nil {
			all = k.Events
		}
		for _, e := range all {
			if e.Kind == k && e.Name == d.Name.Text && !c.Used[e.Offset] {
				warn(
					d.At, d.Name, fmt.Sprintf("the event `%s` is never told", e.FullName()),
					"tell it: `tell everyone "+e.Name+"(…)`, or remove it",
				)
			}
		}
	}
}
