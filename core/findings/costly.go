package findings

import (
	"fmt"
	"slices"

	"kamerad.example/core/contract"
)

// Class says how an audience finds its clients.
type Class string

// The classes: by equal keys, by nearness, the same for all clients of an entity, or by asking each pair.
const (
	ByKeys     Class = "keys"
	ByNearness Class = "nearness"
	ByEntity   Class = "entity"
	ByAsking   Class = "asking"
)

// heavy is how many bits a value that many get and that keeps changing may take before it is told of.
const heavy = 8 * 1000

// costly looks for audiences that have to be asked of each pair, and for great values that keep changing.
//
// A value that changes when somebody asks is bounded by the request's limit; what changes by itself is
// sent again and again, which is why only that is looked at.
func (c *finder) costly() {
	moving := Moving(c.Contract)
	for _, a := range c.Contract.Audiences {
		used := false
		for _, k := range c.Contract.Kinds {
			of := func(who []contract.Who) bool {
				return slices.ContainsFunc(who, func(w contract.Who) bool { return w.Aud == a })
			}
			used = used || of(k.Who) ||
				slices.ContainsFunc(k.Properties, func(p *contract.Property) bool { return of(p.Who) })
		}
		if used && ClassOf(a) == ByAsking {
			c.find(
				"costly", a.At.Start, a.Cond.At,
				fmt.Sprintf("`%s` has to be asked of each client and entity, in each tick", a.Name),
				"compare one value of the viewer with one of the entity by `==`, or ask how near they are: those "+
					"are found without asking",
			)
		}
	}
	for _, k := range c.Contract.Kinds {
		for _, p := range k.Properties {
			most, _ := p.Type.Bits()
			if most > heavy && p.To != contract.Nobody && moving[p] && p.AtMost == 0 {
				c.find(
					"costly", p.Offset, p.NameAt,
					fmt.Sprintf(
						"`%s.%s` keeps changing and takes up to %d bytes each time, for each client that gets it",
						k.Name, p.Name, most/8,
					),
					"send it less often: `at most 2 per second`; or keep what changes in a property of its own",
				)
			}
		}
	}
}

// Moving finds the properties that change without anybody asking: by timers, on ticks, by writes of clients and by
// holds.
//
// What only runs once, such as `on start`, does not count. Nor does motion: a follower is computed by
// the copies and not sent.
func Moving(c *contract.Contract) map[*contract.Property]bool {
	out := map[*contract.Property]bool{}
	for _, p := range c.Pieces() {
		if p.Request != nil || p.Once {
			continue
		}
		contract.EachStmt(p.Stmts, func(s *contract.Stmt) {
			if !s.Writes() {
				return
			}
			root := s.X.Root()
			if root.Prop != nil {
				out[root.Prop] = true
			}
			for _, q := range root.Props {
				if q != nil {
					out[q] = true
				}
			}
		})
	}
	for _, k := range c.Kinds {
		for _, p := range k.Properties {
			if p.Set != nil || p.Hold != nil {
				out[p] = true
			}
		}
	}
	return out
}

// ClassOf returns how the clients of an audience can be found.
//
// By equal keys and by nearness the engine finds the few that belong together; by asking costs clients
// times entities in each tick.
func ClassOf(a *contract.Named) Class {
	viewer := func(x *contract.Expr) bool { return x.Op == contract.OpViewer }
	if a.Cond == nil || a.Cond.Value == nil {
		return ByAsking
	}
	switch s := a.Split(); {
	case s == nil:
		return ByAsking
	case s.Radius != nil:
		return ByNearness
	case !contract.Mentions(a.Cond.Value, viewer):
		return ByEntity
	}
	return ByKeys
}
