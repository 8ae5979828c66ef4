package check

import (
	"fmt"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
	"kamerad.example/core/typing"
)

// onePart reads a part by itself: it may use only what it declares and needs.
//
// What this adds to the contract's lists is cut off again: the part's members count once for each kind
// that includes it, and only there. The kind made for the part has the index behind the last, which
// tables by kind leave room for.
func (c *builder) onePart(p *typing.Part) {
	requests := len(c.Contract.Requests)
	events := len(c.Contract.Events)
	actions := len(c.Contract.Actions)
	c.InPart = p
	k := p.Kind
	k.Index = len(c.Contract.Kinds)
	tree := c.Trees[k]
	own := *tree
	for _, n := range tree.Needs {
		// What the part needs is declared here without a body, so that the part can call it.
		own.Actions = append(slices.Clip(own.Actions), n)
	}
	c.Trees[k] = &own
	c.members(k, &own)
	c.wholeKind(k)
	c.InPart = nil
	c.Contract.Requests = c.Contract.Requests[:requests]
	c.Contract.Events = c.Contract.Events[:events]
	c.Contract.Actions = c.Contract.Actions[:actions]
}

// merged returns the tree of a kind with all that its parts bring, and the kind that it is like.
//
// What is brought stands before what brings it, and a part that is reached in two ways is brought
// once. k.Parts gets the names of all parts in the order in which they are first named. The trees of
// parts and kinds are shared, not copied: whoever reads them must not change them.
func (c *builder) merged(k *contract.Kind, tree *syntax.Entity) *syntax.Entity {
	m := &merger{
		builder: c,
		kind:    k,
		out:     &syntax.Entity{At: tree.At, Sort: tree.Sort, Name: tree.Name, Per: tree.Per, To: tree.To},
		open:    map[*syntax.Entity]bool{},
		done:    map[*syntax.Entity]bool{},
	}
	m.add(tree)
	return m.out
}

// merger puts the members of a kind together.
type merger struct {
	*builder
	kind *contract.Kind
	out  *syntax.Entity
	open map[*syntax.Entity]bool // that are being added
	done map[*syntax.Entity]bool
}

// add adds what a kind or part is made of, then its own members.
func (m *merger) add(d *syntax.Entity) {
	before := *m.out
	parts := len(m.kind.Parts)
	m.open[d] = true
	if d.Like.Text != "" {
		m.addLike(d.Like)
	}
	for _, n := range d.With {
		m.addPart(n)
	}
	delete(m.open, d)
	m.done[d] = true
	m.leaveOut(d, &before, parts)
	m.giveDefaults(d, &before)
	out := m.out
	out.Properties = append(out.Properties, d.Properties...)
	out.Requests = append(out.Requests, d.Requests...)
	out.Events = append(out.Events, d.Events...)
	out.Actions = append(out.Actions, d.Actions...)
	out.Needs = append(out.Needs, d.Needs...)
	out.Handlers = append(out.Handlers, d.Handlers...)
	out.Timers = append(out.Timers, d.Timers...)
	out.Holds = append(out.Holds, d.Holds...)
}

// addLike adds the members of a kind that another one is like. Its audience is that of the other one, too, when that
// says none.
func (m *merger) addLike(n syntax.Ident) {
	if !m.NeedsLanguage2(n.At, "a kind that is like another") {
		return
	}
	base := m.Kinds[n.Text]
	switch tree := m.kindTrees[base]; {
	case base == nil:
		m.Fail(
			n.At, "unknown-name", fmt.Sprintf("the kind `%s` is not declared", n.Text),
			typing.Suggest(n.Text, typing.Names(m.Kinds), "declare it: entity "+n.Text+" { … }"),
		)
	case m.open[tree]:
		m.Fail(
			n.At, "circle", fmt.Sprintf("`%s` comes to be like itself here", n.Text), "kinds cannot be like each other",
		)
	default:
		if m.out.To == nil {
			m.out.To = tree.To
		}
		m.add(tree)
	}
}

// addPart adds the members of a part, unless they are there already.
func (m *merger) addPart(n syntax.Ident) {
	p := m.Parts[n.Text]
	switch {
	case p == nil:
		m.Fail(
			n.At, "unknown-name", fmt.Sprintf("the part `%s` is not declared", n.Text),
			typing.Suggest(n.Text, typing.Names(m.Parts), "declare it: part "+n.Text+" { … }"),
		)
	case m.open[p.Tree]:
		m.Fail(
			n.At, "circle", fmt.Sprintf("the part `%s` comes to include itself here", n.Text),
			"parts cannot stand in a circle",
		)
	case !m.done[p.Tree]:
		m.Used[p] = true
		m.kind.Parts = append(m.kind.Parts, n.Text)
		m.add(p.Tree)
	}
}

// leaveOut takes out again what `without` names of what was brought: everything since before. A part that something is
// missing of then is none of the kind's any more: a ref to the part is never to the kind.
func (m *merger) leaveOut(d *syntax.Entity, before *syntax.Entity, parts int) {
	if len(d.Without) > 0 && !m.NeedsLanguage2(d.Without[0].At, "`without`") {
		return
	}
	out := m.out
	for _, n := range d.Without {
		found := false
		is := func(name syntax.Ident) bool {
			found = found || name.Text == n.Text
			return name.Text == n.Text
		}
		named := func(p *syntax.Property) bool { return is(p.Name) }
		out.Properties = without(out.Properties, len(before.Properties), named)
		out.Holds = without(out.Holds, len(before.Holds), func(h *syntax.Hold) bool { return is(h.Name) })
		out.Requests = without(out.Requests, len(before.Requests), func(r *syntax.Request) bool { return is(r.Name) })
		out.Events = without(out.Events, len(before.Events), func(e *syntax.Event) bool { return is(e.Name) })
		out.Actions = without(out.Actions, len(before.Actions), func(a *syntax.Action) bool { return is(a.Name) })
		if !found {
			m.Fail(
				n.At, "unknown-name", fmt.Sprintf("%s would not have `%s` anyway", d.Name.Text, n.Text),
				"name a property, a hold, a request, an event or an action of what it is like, or of its parts",
			)
		}
		out.Handlers = without(out.Handlers, len(before.Handlers), func(h *syntax.Handler) bool {
			return h.On.Text == "change" && h.Param.Text == n.Text
		})
		m.kind.Parts = without(m.kind.Parts, parts, func(part string) bool { return m.partHas(part, n.Text) })
	}
}

// without returns a list without those of its values, from a place on, for which drop holds.
func without[T any](list []T, from int, drop func(T) bool) []T {
	rest := slices.DeleteFunc(slices.Clone(list[from:]), drop)
	return append(slices.Clip(list[:from]), rest...)
}

// partHas reports whether a part, or one that it includes, declares a member of a name.
func (m *merger) partHas(part, name string) bool {
	p := m.Parts[part]
	if p == nil {
		return false
	}
	d := p.Tree
	return slices.ContainsFunc(d.Properties, func(p *syntax.Property) bool { return p.Name.Text == name }) ||
		slices.ContainsFunc(d.Holds, func(h *syntax.Hold) bool { return h.Name.Text == name }) ||
		slices.ContainsFunc(d.Requests, func(r *syntax.Request) bool { return r.Name.Text == name }) ||
		slices.ContainsFunc(d.Events, func(e *syntax.Event) bool { return e.Name.Text == name }) ||
		slices.ContainsFunc(d.Actions, func(a *syntax.Action) bool { return a.Name.Text == name }) ||
		slices.ContainsFunc(d.With, func(n syntax.Ident) bool { return n.Text != part && m.partHas(n.Text, name) })
}

// giveDefaults gives properties of what was brought the defaults that `where` names.
func (m *merger) giveDefaults(d *syntax.Entity, before *syntax.Entity) {
	if len(d.Where) > 0 && !m.NeedsLanguage2(d.Where[0].Name.At, "another default") {
		return
	}
	brought := m.out.Properties[len(before.Properties):]
	for _, set := range d.Where {
		i := slices.IndexFunc(brought, func(p *syntax.Property) bool { return p.Name.Text == set.Name.Text })
		if i < 0 {
			m.Fail(
				set.Name.At, "unknown-name",
				fmt.Sprintf("%s has no property `%s` from elsewhere", d.Name.Text, set.Name.Text),
				"name a property of what it is like, or of its parts; one of its own has its default there",
			)
			continue
		}
		with := *brought[i]
		with.Default = set.Value
		m.out.Properties = slices.Clone(m.out.Properties)
		brought = m.out.Properties[len(before.Properties):]
		brought[i] = &with
	}
}
