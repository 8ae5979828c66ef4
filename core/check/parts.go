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

// merged returns the tree of a kind with all that its parts bring.
//
// What a part brings stands before what includes it, and a part that is reached in two ways is brought
// once. k.Parts gets the names of all parts in the order in which they are first named. The trees of
// parts are shared, not copied: whoever reads them must not change them.
func (c *builder) merged(k *contract.Kind, tree *syntax.Entity) *syntax.Entity {
	out := *tree
	out.Properties = nil
	out.Requests = nil
	out.Events = nil
	out.Actions = nil
	out.Needs = nil
	out.Handlers = nil
	out.Timers = nil
	out.Holds = nil
	open := map[*syntax.Entity]bool{}
	done := map[*syntax.Entity]bool{}
	var add func(d *syntax.Entity)
	add = func(d *syntax.Entity) {
		open[d] = true
		for _, n := range d.With {
			p := c.Parts[n.Text]
			switch {
			case p == nil:
				c.Fail(
					n.At, "unknown-name", fmt.Sprintf("the part `%s` is not declared", n.Text),
					typing.Suggest(n.Text, typing.Names(c.Parts), "declare it: part "+n.Text+" { … }"),
				)
			case open[p.Tree]:
				c.Fail(
					n.At, "circle", fmt.Sprintf("the part `%s` comes to include itself here", n.Text),
					"parts cannot stand in a circle",
				)
			case !done[p.Tree]:
				c.Used[p] = true
				k.Parts = append(k.Parts, n.Text)
				add(p.Tree)
			}
		}
		delete(open, d)
		done[d] = true
		out.Properties = append(out.Properties, d.Properties...)
		out.Requests = append(out.Requests, d.Requests...)
		out.Events = append(out.Events, d.Events...)
		out.Actions = append(out.Actions, d.Actions...)
		out.Needs = append(out.Needs, d.Needs...)
		out.Handlers = append(out.Handlers, d.Handlers...)
		out.Timers = append(out.Timers, d.Timers...)
		out.Holds = append(out.Holds, d.Holds...)
	}
	add(tree)
	return &out
}
