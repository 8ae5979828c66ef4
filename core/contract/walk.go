package contract

// What follows walks expressions and statements, for whatever asks what a contract reads, writes or decides.

import "slices"

// Mentions reports whether f holds for an expression or a part of it. The functions that it calls are looked into;
// their arguments, which have their own local numbers there, are not taken for locals of x.
func Mentions(x *Expr, f func(x *Expr) bool) bool {
	seen := map[*Fn]bool{}
	var look func(x *Expr, inside bool) bool
	look = func(x *Expr, inside bool) bool {
		if x == nil {
			return false
		}
		if !(inside && x.Op == OpLocal) && f(x) ||
			slices.ContainsFunc(x.Args, func(a *Expr) bool { return look(a, inside) }) {
			return true
		}
		if q := x.Query; q != nil &&
			slices.ContainsFunc(
				[]*Expr{q.List, q.Low, q.High, q.Within, q.Of, q.Where, q.Value, q.Else},
				func(a *Expr) bool { return look(a, inside) },
			) {
			return true
		}
		if x.Fn == nil || x.Fn.Body == nil || seen[x.Fn] {
			return false
		}
		seen[x.Fn] = true
		return look(x.Fn.Body.Value, true)
	}
	return look(x, false)
}

// Container returns what an expression is a part of: the record of a field, the list of an item. It returns nil for
// what is no part of anything.
func (x *Expr) Container() *Expr {
	if x.Op == OpField || x.Op == OpAt || x.Op == OpReal {
		return x.Args[0]
	}
	return nil
}

// Root returns the outermost container of a target of an assignment: the property that is written.
func (x *Expr) Root() *Expr {
	for x.Container() != nil {
		x = x.Container()
	}
	return x
}

// Property returns the property that an OpGet or OpComputed reads. When the entity may be of several kinds, it is the
// first kind's.
func (x *Expr) Property() *Property {
	if x.Prop != nil {
		return x.Prop
	}
	i := slices.IndexFunc(x.Props, func(p *Property) bool { return p != nil })
	return x.Props[i]
}

// PropertiesOf returns the properties that an OpGet may read: one, or that of each kind that the entity may be of.
func (x *Expr) PropertiesOf() []*Property {
	if x.Prop != nil {
		return []*Property{x.Prop}
	}
	return slices.DeleteFunc(slices.Clone(x.Props), func(p *Property) bool { return p == nil })
}

// HeldProperty returns what Property does, and nil for what is no OpGet.
func (x *Expr) HeldProperty() *Property {
	if x.Op != OpGet {
		return nil
	}
	return x.Property()
}

// EachStmt calls f for statements, for those inside of them, and for those of the actions that they run. Each action is
// looked into once.
func EachStmt(stmts []Stmt, f func(s *Stmt)) {
	seen := map[*Action]bool{}
	var walk func(list []Stmt)
	walk = func(list []Stmt) {
		for i := range list {
			s := &list[i]
			f(s)
			walk(s.Then)
			walk(s.Else)
			if s.Act != nil && s.Act.Body != nil && !seen[s.Act] {
				seen[s.Act] = true
				walk(s.Act.Body.Stmts)
			}
		}
	}
	walk(stmts)
}

// EachInside calls f for a statement and those inside of it.
func EachInside(s *Stmt, f func(s *Stmt)) {
	f(s)
	for i := range s.Then {
		EachInside(&s.Then[i], f)
	}
	for i := range s.Else {
		EachInside(&s.Else[i], f)
	}
}

// Exprs returns the expressions that a statement itself holds.
func (s *Stmt) Exprs() []*Expr {
	out := []*Expr{s.X, s.To, s.Value}
	out = append(out, s.Args...)
	for _, w := range s.Who {
		out = append(append(out, w.X), w.Args...)
	}
	for _, set := range s.Sets {
		out = append(out, set.Value)
	}
	if q := s.Query; q != nil {
		out = append(out, q.List, q.Low, q.High, q.Within, q.Of, q.Where)
	}
	return slices.DeleteFunc(out, func(x *Expr) bool { return x == nil })
}

// AnyExpr reports whether f holds for an expression anywhere in statements and in the actions that they run.
func AnyExpr(stmts []Stmt, f func(x *Expr) bool) bool {
	found := false
	EachStmt(stmts, func(s *Stmt) {
		found = found || slices.ContainsFunc(s.Exprs(), func(x *Expr) bool { return Mentions(x, f) })
	})
	return found
}

// AlwaysTrue reports whether a statement is an `if` whose condition is constant: the last branch of a match is one.
func (s *Stmt) AlwaysTrue() bool { return s.Value != nil && s.Value.Op == OpConst && s.Value.Num == 1 }

// Writes reports whether a statement writes X: assigns to it, or puts something into it, takes it out or orders it.
func (s *Stmt) Writes() bool { return s.Op >= OpSet && s.Op <= OpSplit }

// ChangesState reports whether a statement, or one inside of it, changes a property or which entities there are.
func ChangesState(s *Stmt) bool {
	found := false
	EachInside(s, func(s *Stmt) {
		found = found || s.Writes() || s.Op == OpSpawn || s.Op == OpGive || s.Op == OpRun ||
			s.Op == OpDespawn
	})
	return found
}

// Piece is a body with the conditions before it and where it belongs: a request, a handler or a timer.
type Piece struct {
	Name    string
	Offset  int
	Request *Request
	Kind    *Kind
	Before  []*Expr // checks and conditions that have to hold before it runs
	Stmts   []Stmt
	Once    bool // it runs once in a session, or once for each client
	AtStart bool // it runs when the session starts
}

// Pieces returns all bodies of a contract, but for actions and functions, which run as parts of these.
func (c *Contract) Pieces() []Piece {
	var out []Piece
	add := func(p Piece, b *Body) {
		if b != nil {
			p.Offset = b.At.Start
			p.Stmts = b.Stmts
			out = append(out, p)
		}
	}
	for _, k := range c.Kinds {
		for _, r := range k.Requests {
			p := Piece{
				Name:    r.FullName(),
				Offset:  r.At.Start,
				Request: r,
				Kind:    k,
				Stmts:   r.Body,
			}
			for i := range r.Head {
				p.Before = append(p.Before, r.Head[i].Value)
			}
			out = append(out, p)
		}
		add(Piece{
			Name:    "on start of " + k.Name,
			Kind:    k,
			Once:    true,
			AtStart: true,
		}, k.OnStart)
		add(Piece{Name: "on spawn of " + k.Name, Kind: k, Once: k.Per >= 0}, k.OnSpawn)
		add(Piece{Name: "on despawn of " + k.Name, Kind: k}, k.OnDespawn)
		add(Piece{Name: "on tick of " + k.Name, Kind: k}, k.OnTick)
		add(Piece{Name: "on owner lost of " + k.Name, Kind: k}, k.OnOwnerLost)
		add(Piece{Name: "on owner leave of " + k.Name, Kind: k}, k.OnOwnerLeave)
		for i, b := range k.OnChange {
			add(Piece{Name: "on change " + k.Properties[i].Name + " of " + k.Name, Kind: k}, b)
		}
		for _, t := range k.Timers {
			p := Piece{
				Name:   "a timer of " + k.Name,
				Kind:   k,
				Offset: t.At.Start,
				Stmts:  t.Body.Stmts,
				Once:   t.After,
			}
			if t.While != nil {
				p.Before = []*Expr{t.While.Value}
			}
			out = append(out, p)
		}
	}
	for _, h := range c.Handlers() {
		add(Piece{Name: h.Name}, h.Body)
	}
	return out
}

// Asks reports whether f holds for an expression that a piece computes, before it runs or while it does.
func (p *Piece) Asks(f func(x *Expr) bool) bool {
	return slices.ContainsFunc(p.Before, func(x *Expr) bool { return Mentions(x, f) }) || AnyExpr(p.Stmts, f)
}

// OnlyNearness reports whether an audience only asks how near somebody is: that is relevance, not secrecy, unless it is
// declared secret.
func (a *Named) OnlyNearness() bool {
	return !a.Secret && a.Cond != nil && a.Cond.Value != nil && Nearness(a.Cond.Value)
}

// Nearness reports whether a condition asks only how near somebody is.
func Nearness(x *Expr) bool {
	switch x.Op {
	case OpAnd:
		return Nearness(x.Args[0]) && Nearness(x.Args[1])
	case OpOr:
		return Nearness(x.Args[0]) || Nearness(x.Args[1])
	case OpReveal:
		return Nearness(x.Args[0])
	case OpLt, OpLe:
		return isDistance(x.Args[0])
	case OpGt, OpGe:
		return isDistance(x.Args[1])
	}
	return false
}

// isDistance reports whether an expression is a distance or a length.
func isDistance(x *Expr) bool {
	return x.Op == OpMath && (x.Name == "distance" || x.Name == "length")
}

// AsksArgument returns the arguments that the condition of an audience looks at.
func (a *Named) AsksArgument(arg int) bool {
	if a.Cond == nil || a.Cond.Value == nil {
		return true
	}
	at := int64(0)
	for i, p := range a.Params {
		if i == arg {
			return p.Type.Holder() ||
				Mentions(a.Cond.Value, func(x *Expr) bool { return x.Op == OpLocal && !x.Type.Holder() && x.Num == at })
		}
		if !p.Type.Holder() {
			at += int64(p.Type.Width())
		}
	}
	return true
}
