package findings

import (
	"fmt"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
	"kamerad.example/core/typing"
)

// unused warns of what is declared and then never used.
//
// It goes over the text rather than the model, where some declarations leave no trace.
func (c *finder) unused(f *syntax.File) {
	for _, d := range f.Decls {
		switch d := d.(type) {
		case *syntax.Roles:
			c.unusedRoles(d)
		case *syntax.Const:
			if d.Setting && !c.Used[c.Settings[d.Name.Text]] {
				c.warnUnused(d.At, d.Name, "the setting `%s` is never used", "use it or remove it")
			} else if !d.Setting && !c.Used["const "+d.Name.Text] {
				c.warnUnused(d.At, d.Name, "the constant `%s` is never used", "use it or remove it")
			}
		case *syntax.TypeDecl:
			if !c.Used[d] {
				c.warnUnused(d.At, d.Name, "the type `%s` is never used", "use it or remove it")
			}
		case *syntax.Fn:
			if !c.Used[c.Fns[d.Name.Text]] {
				c.warnUnused(d.At, d.Name, "the function `%s` is never called", "call it or remove it")
			}
		case *syntax.AudienceDecl:
			if !c.Used[c.Audiences[d.Name.Text]] {
				c.warnUnused(
					d.At, d.Name, "the audience `%s` is never used",
					"use it after `to`, `from` or `tell`, or remove it",
				)
			}
		case *syntax.Exit:
			if !c.Used[d.At.Start] {
				c.warnUnused(d.At, d.Name, "nobody is sent through the exit `%s`", "send somebody, or remove it")
			}
		case *syntax.Enum:
			c.unusedEnum(d)
		case *syntax.Event:
			c.unusedEvents(nil, []*syntax.Event{d})
		case *syntax.Entity:
			c.unusedOfKind(d)
		}
	}
	for _, l := range c.Locals {
		if !c.Used[l.Expr] {
			c.warnUnused(l.Name.At, l.Name, "the name `%s` is never used", "use it or remove it")
		}
	}
}

// warnUnused warns of a declaration that is not used. what words that, with %s for the name.
func (c *finder) warnUnused(decl syntax.Span, name syntax.Ident, what, hint string) {
	c.find("unused", decl.Start, name.At, fmt.Sprintf(what, name.Text), hint)
}

// unusedRoles warns of roles that nothing is for. One role may be there to watch what everyone sees: nothing would tell
// a second one from it.
//
// The first role is never reported: it is the one of clients that ask for none.
func (c *finder) unusedRoles(d *syntax.Roles) {
	mayWatch := c.watchable()
	for _, role := range d.List[1:] {
		r := role.Name
		switch {
		case c.Used[typing.RoleUse(r.Text)]:
		case mayWatch:
			mayWatch = false
		default:
			c.warnUnused(
				d.At, r, "the role `%s` is never used", "use it after `per`, `from` or `tell`, or remove it",
			)
		}
	}
}

// unusedEnum warns of an enum that is no type of anything, and of values that nothing names. What clients may send is
// used, named or not.
//
// An `accept` above an enum that clients may send counts as needed, so that adding a request does not
// make it a needless one.
func (c *finder) unusedEnum(d *syntax.Enum) {
	e := c.Enums[d.Name.Text]
	if !c.Used[e] {
		c.warnUnused(d.At, d.Name, "the enum `%s` is never used", "use it as a type or remove it")
		return
	}
	for i, m := range d.Members {
		if c.Used[typing.ValueUse{Enum: e, Index: int64(i)}] {
			continue
		}
		if c.Sent[e] {
			key := acceptKey{d.At.Start, "unused"}
			c.taken[key] = c.taken[key] || c.accepted[key]
			continue
		}
		c.find(
			"unused", d.At.Start, m.At, fmt.Sprintf("the value `%s` of %s is never used", m.Text, e.Name),
			"use it or remove it",
		)
	}
}

// unusedOfKind warns of what is not used of a kind or part, and of entities that nothing brings in or takes back.
//
// For a part its made-up kind is looked at, which has only what the part declares.
func (c *finder) unusedOfKind(d *syntax.Entity) {
	k := c.Kinds[d.Name.Text]
	if p := c.Parts[d.Name.Text]; p != nil {
		k = p.Kind
		if !c.Used[p] {
			c.warnUnused(
				d.At, d.Name, "the part `%s` is included by no kind",
				"include it, as in `entity Eel with "+d.Name.Text+"`, or remove it",
			)
		}
	}
	for _, p := range d.Properties {
		if q := k.Property(p.Name.Text); q != nil {
			c.unusedProperty(k, q, p)
		}
	}
	c.unusedEvents(k, d.Events)
	givesNothing := len(k.Requests)+len(k.Events) == 0 &&
		!slices.ContainsFunc(k.Properties, func(p *contract.Property) bool { return p.To != contract.Nobody })
	if d.Sort != syntax.SortPart && k.To != contract.Nobody && givesNothing {
		c.warnUnused(
			d.At, d.Name, "clients are told of `%s`, and it has nothing that they could see or ask",
			"keep it on the server: `to nobody`",
		)
	}
	if d.Sort == syntax.SortEntity && k.Free() && !c.Spawns[k] {
		c.warnUnused(
			d.At, d.Name, "no request, handler, timer or action ever spawns `%s`",
			"spawn it in a body, or remove it; what each client has one of is `per` a role",
		)
	}
	if k.GivenAway {
		c.abandoned(k, d)
	}
	c.unusedActions(k, d)
}

// unusedProperty warns of a property that never changes, or is read by nobody.
//
// One property may earn several warnings, each with its own answer.
func (c *finder) unusedProperty(k *contract.Kind, p *contract.Property, d *syntax.Property) {
	warn := func(what, hint string) {
		c.find("unused", d.At.Start, d.Name.At, fmt.Sprintf(what, k.Name, p.Name), hint)
	}
	if !p.Written && !p.Once && p.Set == nil && p.Follows == nil {
		warn(
			"no request, handler, timer or action ever changes `%s.%s`",
			"write what changes it; or say `once` if it is meant to stay as it is",
		)
	}
	if p.To == contract.Nobody && !c.Used[p.Offset] {
		warn(
			"nobody ever reads `%s.%s`",
			"it is sent to nobody; read it somewhere, say who gets it, or remove it",
		)
	}
}

// abandoned warns of a kind that bodies give away and that does not come back.
//
// What its owner takes along is lost to the game: there are as many of it as were spawned.
func (c *finder) abandoned(k *contract.Kind, d *syntax.Entity) {
	warn := func(what, hint string) {
		c.find("abandoned", d.At.Start, d.Name.At, fmt.Sprintf(what, k.Name), hint)
	}
	switch {
	case k.OnOwnerLost == nil:
		warn(
			"nothing gives `%s` back when its owner's connection is lost: it stays with a client that is not there",
			"add `on owner lost { give self to server }`",
		)
	case !k.ReturnsToServer:
		warn(
			"nothing gives `%s` back when its owner is done with it: nobody else can ever have it",
			"add a request that says `give self to server`",
		)
	}
}

// unusedActions warns of actions that nothing runs: a kind's own, and those that a part needs.
//
// An action that a part needs is used when the part runs it, which was counted where the part was read.
func (c *finder) unusedActions(k *contract.Kind, d *syntax.Entity) {
	for _, n := range d.Needs {
		for _, a := range k.Actions {
			if a.Name == n.Name.Text && !c.Used[a.Offset] {
				c.find(
					"unused", n.At.Start, n.Name.At,
					fmt.Sprintf("the action `%s`, which %s needs, is never run", a.Name, k.Name),
					"run it with `do "+a.Name+"(…)` or remove the line",
				)
			}
		}
	}
	for _, a := range d.Actions {
		i := slices.IndexFunc(k.Actions, func(b *contract.Action) bool { return b.Name == a.Name.Text })
		if !c.Used[k.Actions[i].Offset] && a.Body != nil && !c.needed(k, a.Name.Text) {
			c.warnUnused(
				a.At, a.Name, "the action `%s` is never run",
				"run it with `do "+a.Name.Text+"(…)` or remove it",
			)
		}
	}
}

// needed reports whether a part of a kind needs an action.
func (c *finder) needed(k *contract.Kind, action string) bool {
	return slices.ContainsFunc(c.Trees[k].Needs, func(n *syntax.Action) bool { return n.Name.Text == action })
}

// unusedEvents warns of events that nothing tells. k is nil for those of the contract itself.
//
// A use in any kind counts for all that have the event from one part, since they share its Offset.
func (c *finder) unusedEvents(k *contract.Kind, events []*syntax.Event) {
	all := c.Contract.Events
	if k != nil {
		all = k.Events
	}
	for _, d := range events {
		for _, e := range all {
			if e.Kind == k && e.Name == d.Name.Text && !c.Used[e.Offset] {
				c.find(
					"unused", d.At.Start, d.Name.At, fmt.Sprintf("the event `%s` is never told", e.FullName()),
					"tell it: `tell everyone "+e.Name+"(…)`, or remove it",
				)
			}
		}
	}
}

// watchable reports whether there is anything that everyone sees: a role that has nothing of its own watches it.
func (c *finder) watchable() bool {
	isForEveryone := func(p *contract.Property) bool { return p.To == contract.Everyone }
	return slices.ContainsFunc(c.Contract.Kinds, func(k *contract.Kind) bool {
		return k.To == contract.Everyone && slices.ContainsFunc(k.Properties, isForEveryone)
	})
}
