package contract

import (
	"fmt"
	"slices"

	"kamerad/core/syntax"
)

// piece is a body together with what stands before it and where it belongs.
type piece struct {
	name    string
	decl    int
	request *Request
	kind    *Kind
	before  []*Expr // checks and conditions that have to hold before it runs
	stmts   []Stmt
	once    bool // it runs once in a session, or once for each client
	start   bool // it runs when the session starts
}

// pieces lists the bodies of a contract.
func (c *Contract) pieces() []piece {
	var out []piece
	add := func(p piece, b *Body) {
		if b != nil {
			p.decl = b.at.Start
			p.stmts = b.Stmts
			out = append(out, p)
		}
	}
	for _, k := range c.Kinds {
		for _, r := range k.Requests {
			p := piece{
				name:    r.FullName(),
				decl:    r.decl.Start,
				request: r,
				kind:    k,
				stmts:   r.Body,
			}
			for i := range r.Head {
				p.before = append(p.before, r.Head[i].Value)
			}
			out = append(out, p)
		}
		add(piece{
			name:  "on start of " + k.Name,
			kind:  k,
			once:  true,
			start: true,
		}, k.OnStart)
		add(piece{name: "on spawn of " + k.Name, kind: k, once: k.Per >= 0}, k.OnSpawn)
		add(piece{name: "on tick of " + k.Name, kind: k}, k.OnTick)
		add(piece{name: "on owner lost of " + k.Name, kind: k}, k.OnOwnerLost)
		add(piece{name: "on owner leave of " + k.Name, kind: k}, k.OnOwnerLeave)
		for i, b := range k.OnChange {
			add(piece{name: "on change " + k.Properties[i].Name + " of " + k.Name, kind: k}, b)
		}
		for _, t := range k.Timers {
			p := piece{
				name:  "a timer of " + k.Name,
				kind:  k,
				decl:  t.decl.Start,
				stmts: t.Body.Stmts,
				once:  t.After,
			}
			if t.While != nil {
				p.before = []*Expr{t.While.Value}
			}
			out = append(out, p)
		}
	}
	add(piece{name: "on join"}, c.OnJoin)
	add(piece{name: "on lost"}, c.OnLost)
	add(piece{name: "on back"}, c.OnBack)
	add(piece{name: "on leave"}, c.OnLeave)
	return out
}

// asks tells whether a piece asks something before or while it runs.
func (p *piece) asks(such func(x *Expr) bool) bool {
	return slices.ContainsFunc(p.before, func(x *Expr) bool { return mentions(x, such) }) || says(p.stmts, such)
}

// things looks for what lasts: what grows without end, and what nobody who joins later would learn.
func (c *checker) things() {
	pieces := c.out.pieces()
	for i := range pieces {
		p := &pieces[i]
		c.grows(p, pieces)
		c.fleeting(p)
		if p.request == nil {
			f := c.quiet()
			at := f.newFlow(f.newCause("", 0, p.kind), p.kind, p.decl)
			for _, x := range p.before {
				if at.decided(x) < 0 {
					c.find(
						"impossible", p.decl, syntax.Span{Start: p.decl, End: p.decl + 5},
						"the condition of this timer never holds", "compare with a value that can be; or remove it",
					)
				}
			}
			eachStmt(p.stmts, func(s *Stmt) { c.neverIf(at, p.decl, s) })
		}
	}
	c.costly()
}

// short tells whether each entity of a kind ends by itself after a while.
func (k *Kind) short() bool {
	return slices.ContainsFunc(k.Timers, func(t *Timer) bool {
		return t.After &&
			slices.ContainsFunc(t.Body.Stmts, func(s Stmt) bool { return s.Op == OpDespawn && s.X.Op == OpSelf })
	})
}

// takes tells whether a piece takes something away that it needs: what it spends bounds how often it can run.
func (p *piece) takes() bool {
	found := false
	eachStmt(p.stmts, func(s *Stmt) { found = found || s.Op == OpTake || s.Op == OpMove })
	return found
}

// grows looks for what a piece spawns or lengthens, with nothing that ever holds it.
func (c *checker) grows(p *piece, all []piece) {
	if p.once {
		return
	}
	for i := range p.stmts {
		eachIn(&p.stmts[i], func(s *Stmt) {
			switch s.Op {
			case OpSpawn:
				for _, k := range s.Kinds {
					counted := p.asks(func(x *Expr) bool {
						return x.Op == OpQuery &&
							slices.Contains(x.Query.Kinds, k)
					})
					slow := p.request == nil || p.request.Limit != nil || p.request.Pause != nil
					if counted || p.takes() || k.short() && slow {
						continue
					}
					c.find(
						"unbounded", p.decl, s.at, fmt.Sprintf("nothing bounds how many `%s` there come to be", k.Name),
						fmt.Sprintf(
							"ask first: `count(%s) < 20`; or let each end by itself, `after 6s { despawn self }`, and say a `limit`",
							k.Name,
						),
					)
				}
			case OpPut, OpSet, OpMove:
				get := s.X
				if s.Op == OpMove {
					get = s.To
				}
				at := get
				if s.Op == OpSet {
					if at.Op != OpAt || at.Args[0].Type.Form != FormMap {
						return
					}
					get = at.Args[0]
					if at.Args[1].Op == OpConst {
						return // always the same key
					}
				}
				if get.Op != OpGet || get.Type.Form == FormStacks {
					return
				}
				prop := get.property()
				room := func(x *Expr) bool {
					return (x.Op == OpRoom || x.Op == OpCount || x.Op == OpHas) && x.Args[0].Op == OpGet &&
						x.Args[0].property().decl == prop.decl
				}
				if p.asks(room) || c.emptied(prop, all) ||
					get.Type.Form == FormMap && small(get.Type.Key) <= get.Type.Max {
					return
				}
				c.find(
					"unbounded", p.decl, s.at,
					fmt.Sprintf(
						"`%s` only ever grows, and has room for %d: from then on this fails", prop.Name, get.Type.Max,
					),
					fmt.Sprintf(
						"ask `%s.room() > 0` first, or take out what is old: `%s.%s`", prop.Name, prop.Name,
						map[bool]string{true: "take(key)", false: "cut(0)"}[get.Type.Form == FormMap],
					),
				)
			}
		})
	}
}

// small gives how many keys there are of a type; of what has no end, very many.
func small(t *Type) int {
	switch t.Form {
	case FormBool:
		return 2
	case FormEnum:
		return len(t.Enum.Values)
	case FormKind:
		return len(t.Names)
	case FormInt:
		if t.High-t.Low < MaxItems {
			return int(t.High-t.Low) + 1
		}
	}
	return MaxItems + 1
}

// emptied tells whether some body takes things out of a property.
func (c *checker) emptied(prop *Property, all []piece) bool {
	found := false
	for i := range all {
		eachStmt(all[i].stmts, func(s *Stmt) {
			x := s.X
			switch s.Op {
			case OpTake, OpCut, OpClear, OpMove, OpSet:
				found = found || x.Op == OpGet && x.property().decl == prop.decl
			}
		})
	}
	return found
}

// fleeting looks for state that travels only as an event: what many are told, and what nobody who joins later can
// learn.
func (c *checker) fleeting(p *piece) {
	written := func(local int64) bool {
		found := false
		uses := func(x *Expr) bool { return x.Op == OpLocal && x.Num == local && !x.Type.Holder() }
		eachStmt(p.stmts, func(s *Stmt) {
			switch s.Op {
			case OpSet, OpPut, OpTake, OpCut, OpMove, OpSplit, OpSpawn, OpRun, OpGive:
				found = found || slices.ContainsFunc(s.exprs(), func(x *Expr) bool { return mentions(x, uses) })
			case OpIf, OpFor:
				// It decides over something that lasts.
				if slices.ContainsFunc(s.exprs(), func(x *Expr) bool { return mentions(x, uses) }) && changes(s) {
					found = true
				}
			}
		})
		return found
	}
	lets := map[int64]*Expr{}
	all := p.stmts
	if p.request != nil {
		all = append(slices.Clone(p.request.Head), p.stmts...)
	}
	eachStmt(all, func(s *Stmt) {
		if s.Op == OpLet && s.Value != nil && !s.Value.Type.Holder() {
			lets[s.Num] = s.Value
		}
	})
	params := int64(0)
	if p.request != nil {
		for _, q := range p.request.Params {
			if !q.Type.Holder() {
				params += int64(q.Type.Width())
			}
		}
	}
	for i := range p.stmts {
		eachIn(&p.stmts[i], func(s *Stmt) {
			if s.Op != OpTell || s.Event.Loose || !many(s.Who) {
				return
			}
			for i, a := range s.Args {
				t := s.Event.Params[i].Type
				if t.Form == FormText || t.Form == FormClient || t.Form == FormEntity || t.Form == FormInstant {
					continue // words, names and moments pass
				}
				x := a
				for x.Op == OpReal || x.Op == OpSteps || x.Op == OpFromInt {
					x = x.Args[0]
				}
				from := ""
				switch {
				case x.Op == OpLocal && x.Num < params && !written(x.Num):
					from = "what the caller sent"
				case x.Op == OpLocal && lets[x.Num] != nil && !written(x.Num) &&
					mentions(lets[x.Num], func(x *Expr) bool { return x.Op == OpRoll }), x.Op == OpRoll:
					from = "what was rolled"
				case mentions(x, func(x *Expr) bool { return x.Op == OpReveal && hidden(x.Args[0]) }):
					from = "what was hidden"
				}
				if from != "" {
					c.find(
						"fleeting", p.decl, s.at,
						fmt.Sprintf(
							"`%s` of the event `%s` tells %s, and no property holds it: a client that joins later never learns it",
							s.Event.Params[i].Name, s.Event.FullName(), from,
						),
						"let a property hold it, that those who are told can see; its change tells them, and a late client gets it at once",
					)
				}
			}
		})
	}
}

// changes tells whether a statement has one inside that changes something that lasts.
func changes(s *Stmt) bool {
	found := false
	eachIn(s, func(s *Stmt) {
		found = found || s.Op >= OpSet && s.Op <= OpSplit || s.Op == OpSpawn || s.Op == OpGive || s.Op == OpRun ||
			s.Op == OpDespawn
	})
	return found
}

// hidden tells whether a value is of a property that not everyone gets.
func hidden(x *Expr) bool {
	return mentions(x, func(x *Expr) bool { return x.Op == OpGet && x.property().To != Everyone })
}

// many tells whether more are told than single clients.
func many(who []Who) bool {
	return slices.ContainsFunc(who, func(w Who) bool {
		return !w.But &&
			(w.Sort == ToEveryone || w.Sort == ToRole || w.Sort == ToNamed)
	})
}
