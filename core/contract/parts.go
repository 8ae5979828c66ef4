package contract

import (
	"fmt"
	"slices"

	"kamerad/core/syntax"
)

// part is a declared part. Its kind, which is in no contract, has what the part itself declares and needs.
type part struct {
	tree *syntax.Entity
	kind *Kind
}

// onePart reads a part by itself: it may use only what it declares and needs.
func (c *checker) onePart(p *part) {
	requests := len(c.out.Requests)
	events := len(c.out.Events)
	actions := len(c.out.Actions)
	c.inPart = p
	k := p.kind
	k.Index = len(c.out.Kinds)
	tree := c.trees[k]
	own := *tree
	for _, n := range tree.Needs {
		own.Actions = append(slices.Clip(own.Actions), n)
	}
	c.trees[k] = &own
	c.members(k, &own)
	c.wholeKind(k)
	c.inPart = nil
	c.out.Requests = c.out.Requests[:requests]
	c.out.Events = c.out.Events[:events]
	c.out.Actions = c.out.Actions[:actions]
}

// merged gives the tree of a kind with all that its parts bring.
func (c *checker) merged(k *Kind, tree *syntax.Entity) *syntax.Entity {
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
			p := c.parts[n.Text]
			switch {
			case p == nil:
				c.fail(
					n.At, "unknown-name", fmt.Sprintf("the part `%s` is not declared", n.Text),
					c.suggest(n.Text, names(c.parts), "declare it: part "+n.Text+" { … }"),
				)
			case open[p.tree]:
				c.fail(
					n.At, "circle", fmt.Sprintf("the part `%s` comes to include itself here", n.Text),
					"parts cannot stand in a circle",
				)
			case !done[p.tree]:
				c.used[p] = true
				k.Parts = append(k.Parts, n.Text)
				add(p.tree)
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
