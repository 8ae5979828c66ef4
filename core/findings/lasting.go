package findings

import (
	"fmt"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/flow"
	"kamerad.example/core/syntax"
)

// things looks for what lasts: what grows without end, and what nobody who joins later would learn.
//
// A Piece is a body with what stands before it, as a request's head or a timer's condition: both count
// as asked.
func (c *finder) things() {
	pieces := c.Contract.Pieces()
	for i := range pieces {
		p := &pieces[i]
		c.grows(p, pieces)
		c.fleeting(p)
		if p.Request == nil {
			at := flow.AtPiece(c.Contract, p)
			for _, x := range p.Before {
				if at.Decided(x) < 0 {
					c.find(
						"impossible", p.Offset, syntax.Span{Start: p.Offset, End: p.Offset + 5},
						"the condition of this timer never holds", "compare with a value that can be; or remove it",
					)
				}
			}
			contract.EachStmt(p.Stmts, func(s *contract.Stmt) { c.neverIf(at, p.Offset, s) })
		}
	}
	c.costly()
}

// isShortLived reports whether each entity of a kind ends by itself after a while.
//
// Only an `after` timer with `despawn self` at its top level is certain to end it.
func isShortLived(k *contract.Kind) bool {
	return slices.ContainsFunc(k.Timers, func(t *contract.Timer) bool {
		return t.After &&
			slices.ContainsFunc(t.Body.Stmts, func(s contract.Stmt) bool {
				return s.Op == contract.OpDespawn &&
					s.X.Op == contract.OpSelf
			})
	})
}

// takesAway reports whether a piece takes something away that it needs: what it spends bounds how often it can run.
//
// It does not ask whether the piece needs what it takes: taking what is not there is a fault, which
// undoes the spawn.
func takesAway(p *contract.Piece) bool {
	found := false
	contract.EachStmt(p.Stmts, func(s *contract.Stmt) {
		found = found || s.Op == contract.OpTake ||
			s.Op == contract.OpMove
	})
	return found
}

// grows looks for what a piece spawns or lengthens, with nothing that ever holds it.
//
// What runs once cannot grow.
func (c *finder) grows(p *contract.Piece, all []contract.Piece) {
	if p.Once {
		return
	}
	for i := range p.Stmts {
		contract.EachInside(&p.Stmts[i], func(s *contract.Stmt) {
			switch s.Op {
			case contract.OpSpawn:
				c.spawnsWithoutBound(p, s)
			case contract.OpPut, contract.OpSet, contract.OpMove:
				c.lengthensWithoutBound(p, s, all)
			}
		})
	}
}

// spawnsWithoutBound looks at a `spawn`: something has to count what there is, take away, or let each end by itself.
//
// Entities that end by themselves still need a limit on how fast they come.
func (c *finder) spawnsWithoutBound(p *contract.Piece, s *contract.Stmt) {
	for _, k := range s.Kinds {
		counted := p.Asks(func(x *contract.Expr) bool {
			return x.Op == contract.OpQuery && slices.Contains(x.Query.Kinds, k)
		})
		slow := p.Request == nil || p.Request.Limit != nil || p.Request.Pause != nil
		if counted || takesAway(p) || isShortLived(k) && slow {
			continue
		}
		c.find(
			"unbounded", p.Offset, s.At, fmt.Sprintf("nothing bounds how many `%s` there come to be", k.Name),
			fmt.Sprintf(
				"ask first: `count(%s) < 20`; or let each end by itself, `after 6s { despawn self }`, "+
					"and say a `limit`",
				k.Name,
			),
		)
	}
}

// lengthensWithoutBound looks at a statement that puts something into a list or map: something has to ask for room, or
// take out what is old. A map that has room for every key it can get is bounded by that.
//
// The property's Offset stands for the property of all kinds that have it from one part.
func (c *finder) lengthensWithoutBound(p *contract.Piece, s *contract.Stmt, all []contract.Piece) {
	on := s.X
	switch s.Op {
	case contract.OpMove:
		on = s.To
	case contract.OpSet: // of a key of a map
		at := s.X
		if at.Op != contract.OpAt || at.Args[0].Type.Form != contract.FormMap || at.Args[1].Op == contract.OpConst {
			return
		}
		on = at.Args[0]
	}
	prop := on.Root().HeldProperty()
	if prop == nil || !on.Type.Holder() || on.Type.Form == contract.FormStacks {
		return
	}
	room := func(x *contract.Expr) bool {
		return (x.Op == contract.OpRoom || x.Op == contract.OpCount || x.Op == contract.OpHas) &&
			holdsLike(x.Args[0], on)
	}
	if p.Asks(room) || c.emptied(on, all) ||
		on.Type.Form == contract.FormMap && small(on.Type.Key) <= on.Type.Max {
		return
	}
	name := placeName(on)
	c.find(
		"unbounded", p.Offset, s.At,
		fmt.Sprintf("`%s` only ever grows, and has room for %d: from then on this fails", name, on.Type.Max),
		fmt.Sprintf(
			"ask `%s.room() > 0` first, or take out what is old: `%s.%s`", name, name,
			map[bool]string{true: "take(key)", false: "cut(0)"}[on.Type.Form == contract.FormMap],
		),
	)
}

// small returns how many keys there are of a type; of what has no end, very many.
func small(t *contract.Type) int {
	switch t.Form {
	case contract.FormBool:
		return 2
	case contract.FormEnum:
		return len(t.Enum.Values)
	case contract.FormKind:
		return len(t.Names)
	case contract.FormInt, contract.FormTime:
		// As a signed number the distance of ends that are far apart would come out small, or negative.
		if span := uint64(t.High) - uint64(t.Low); span < contract.MaxItems {
			return int(span) + 1
		}
	}
	return contract.MaxItems + 1
}

// emptied reports whether some body takes things out of a property.
//
// An assignment counts: it can only be of a whole list, in place of what was there.
func (c *finder) emptied(on *contract.Expr, all []contract.Piece) bool {
	found := false
	for i := range all {
		contract.EachStmt(all[i].Stmts, func(s *contract.Stmt) {
			x := s.X
			switch s.Op {
			case contract.OpTake, contract.OpCut, contract.OpClear, contract.OpMove, contract.OpSet:
				found = found || holdsLike(x, on) ||
					s.Op == contract.OpSet && x.Type.Form == contract.FormRecord && isWithin(x, on)
			}
		})
	}
	return found
}

// holdsLike reports whether x is the list or map on, or one like it within the same property.
func holdsLike(x, on *contract.Expr) bool {
	return x.Type.String() == on.Type.String() && isWithin(x, on)
}

// isWithin reports whether x is, or lies within, the property that on lies within.
func isWithin(x, on *contract.Expr) bool {
	p := x.Root().HeldProperty()
	return p != nil && p.Offset == on.Root().Property().Offset
}

// placeName returns how a contract would write a list or map of a property, with what its places are left out.
func placeName(on *contract.Expr) string {
	of := on.Container()
	if of == nil {
		return on.Property().Name
	}
	if on.Op == contract.OpAt {
		return placeName(of) + "[…]"
	}
	offset := 0
	for _, p := range of.Type.Parts {
		if int64(offset) == on.Num {
			return placeName(of) + "." + p.Name
		}
		offset += p.Type.Width()
	}
	return placeName(of)
}

// fleeting looks for state that travels only as an event: what many are told, and what nobody who joins later can
// learn.
//
// A loose event is one that the contract can do without, and an event for one client is an answer:
// neither is state.
func (c *finder) fleeting(p *contract.Piece) {
	o := originsOf(p)
	for i := range p.Stmts {
		contract.EachInside(&p.Stmts[i], func(s *contract.Stmt) {
			if s.Op != contract.OpTell || s.Event.Loose || !many(s.Who) {
				return
			}
			for i, a := range s.Args {
				from := o.of(a)
				switch s.Event.Params[i].Type.Form {
				case contract.FormText, contract.FormClient, contract.FormEntity, contract.FormInstant:
					continue // words, names and moments pass
				}
				if from == "" {
					continue
				}
				c.find(
					"fleeting", p.Offset, s.At,
					fmt.Sprintf(
						"`%s` of the event `%s` tells %s, and no property holds it: a client that joins later "+
							"never learns it",
						s.Event.Params[i].Name, s.Event.FullName(), from,
					),
					"let a property hold it, that those who are told can see; its change tells them, and a late "+
						"client gets it at once",
				)
			}
		})
	}
}

// origins is what the values of a body's locals came from.
type origins struct {
	piece  *contract.Piece
	params int64                    // locals below it are the request's parameters
	lets   map[int64]*contract.Expr // by local
}

// originsOf finds where the locals of a piece come from.
//
// A local that is declared in two branches has two registers, so each has one origin.
func originsOf(p *contract.Piece) origins {
	o := origins{piece: p, lets: map[int64]*contract.Expr{}}
	all := p.Stmts
	if p.Request != nil {
		all = append(slices.Clone(p.Request.Head), p.Stmts...)
		for _, q := range p.Request.Params {
			if !q.Type.Holder() {
				o.params += int64(q.Type.Width())
			}
		}
	}
	contract.EachStmt(all, func(s *contract.Stmt) {
		if s.Op == contract.OpLet && s.Value != nil && !s.Value.Type.Holder() {
			o.lets[s.Num] = s.Value
		}
	})
	return o
}

// of describes where a value comes from that lasts nowhere; it is empty for one that does, and for one that can be
// computed again.
//
// The result completes "the event tells …".
func (o origins) of(x *contract.Expr) string {
	for x.Op == contract.OpReal || x.Op == contract.OpSteps || x.Op == contract.OpFromInt {
		x = x.Args[0]
	}
	rolls := func(x *contract.Expr) bool { return x.Op == contract.OpRoll }
	reveals := func(x *contract.Expr) bool { return x.Op == contract.OpReveal && hidden(x.Args[0]) }
	fleets := x.Op == contract.OpLocal && !o.lasts(x.Num)
	switch {
	case fleets && x.Num < o.params:
		return "what the caller sent"
	case rolls(x), fleets && o.lets[x.Num] != nil && contract.Mentions(o.lets[x.Num], rolls):
		return "what was rolled"
	case contract.Mentions(x, reveals):
		return "what was hidden"
	}
	return ""
}

// lasts reports whether a local comes into something that lasts, or decides over it.
//
// To decide over it counts as well: what a roll chose is then to be seen in what it led to.
func (o origins) lasts(local int64) bool {
	found := false
	uses := func(x *contract.Expr) bool { return x.Op == contract.OpLocal && x.Num == local && !x.Type.Holder() }
	contract.EachStmt(o.piece.Stmts, func(s *contract.Stmt) {
		used := func() bool {
			return slices.ContainsFunc(s.Exprs(), func(x *contract.Expr) bool { return contract.Mentions(x, uses) })
		}
		switch s.Op {
		case contract.OpSpawn, contract.OpRun, contract.OpGive, contract.OpVar, contract.OpAssign:
			found = found || used()
		case contract.OpIf, contract.OpFor:
			found = found || contract.ChangesState(s) && used()
		default:
			found = found || s.Writes() && used()
		}
	})
	return found
}

// hidden reports whether a value is of a property that not everyone gets.
func hidden(x *contract.Expr) bool {
	return contract.Mentions(x, func(x *contract.Expr) bool {
		return x.Op == contract.OpGet &&
			x.Property().To != contract.Everyone
	})
}

// many reports whether more are told than single clients.
func many(who []contract.Who) bool {
	return slices.ContainsFunc(who, func(w contract.Who) bool {
		return !w.But &&
			(w.Sort == contract.ToEveryone || w.Sort == contract.ToRole || w.Sort == contract.ToNamed)
	})
}
