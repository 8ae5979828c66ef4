package contract

// Split says how the clients of an audience are found without asking for each client and entity: all of Viewer and
// Entity hold, the two sides of each of Keys are equal, and, with At, the two places of it are at most Radius from each
// other (less, when not Edge). A side that cannot be computed keeps out. The first side is about the viewer alone, the
// second about the argument alone.
type Split struct {
	Viewer []*Body
	Entity []*Body
	Keys   [][2]*Body
	At     [2]*Body // nil for an audience that does not ask for nearness
	Radius *Body
}

// maxKeys is how many slots the keys of an audience may take together to be found by them.
const maxKeys = 4

// Split divides the condition of an audience; nil when each pair has to be asked.
func (a *Named) Split() *Split {
	if a.Cond == nil || a.Cond.Value == nil || len(a.Cond.Stmts) > 0 || len(a.Params) > 1 ||
		len(a.Params) == 1 && a.Params[0].Type.Form != FormEntity {
		return nil
	}
	s := splitter{audience: a}
	if !s.term(a.Cond.Value) {
		return nil
	}
	return &s.out
}

// splitter splits one condition.
type splitter struct {
	audience *Named
	out      Split
	width    int // slots that the keys so far take
}

// body makes an expression of the condition a body of its own.
func (s *splitter) body(x *Expr) *Body {
	cond := s.audience.Cond
	return &Body{
		Value:  x,
		Params: s.audience.Params,
		Locals: cond.Locals,
		Memory: cond.Memory,
		File:   cond.File,
		Line:   cond.Line,
	}
}

// asksViewer reports whether an expression reads anything of the viewer.
func asksViewer(x *Expr) bool { return Mentions(x, func(x *Expr) bool { return x.Op == OpViewer }) }

// asksEntity reports whether an expression reads anything of what the audience is of, or what cannot be taken apart.
func asksEntity(x *Expr) bool {
	return Mentions(x, func(x *Expr) bool {
		return x.Op == OpLocal || x.Op == OpQuery || x.Op == OpSelf || x.Op == OpCaller
	})
}

// sides puts the viewer's side first; ok is false when one of the two is about both.
func (s *splitter) sides(x, y *Expr) (pair [2]*Body, ok bool) {
	if asksViewer(y) {
		x, y = y, x
	}
	return [2]*Body{s.body(x), s.body(y)}, !asksViewer(y) && !asksEntity(x)
}

// term takes a part of the condition: one that is about the viewer or the entity alone, an equality of the two, or a
// distance between them, at most one. It reports whether it could.
func (s *splitter) term(x *Expr) bool {
	switch {
	case x.Op == OpReveal:
		return s.term(x.Args[0])
	case x.Op == OpAnd:
		return s.term(x.Args[0]) && s.term(x.Args[1])
	case !asksViewer(x):
		s.out.Entity = append(s.out.Entity, s.body(x))
		return true
	case !asksEntity(x):
		s.out.Viewer = append(s.out.Viewer, s.body(x))
		return true
	case x.Op == OpEq && !x.Args[0].Type.Holder() && !x.Args[1].Type.Holder():
		pair, ok := s.sides(x.Args[0], x.Args[1])
		s.width += pair[0].Value.Type.Width()
		s.out.Keys = append(s.out.Keys, pair)
		return ok && pair[0].Value.Type.Width() == pair[1].Value.Type.Width() && s.width <= maxKeys
	case (x.Op == OpLe || x.Op == OpLt) && s.out.Radius == nil && isDistance(x.Args[0]) && len(x.Args[0].Args) == 2:
		var ok bool
		s.out.At, ok = s.sides(x.Args[0].Args[0], x.Args[0].Args[1])
		if !ok || Mentions(x.Args[1], func(x *Expr) bool {
			return x.Op == OpViewer || x.Op == OpLocal || x.Op == OpGet || x.Op == OpComputed || x.Op == OpQuery ||
				x.Op == OpSelf
		}) {
			return false
		}
		s.out.Radius = s.body(x.Args[1])
		return s.out.At[0].Value.Type.Width() <= 3
	}
	return false
}

// Reads is what a side of an audience reads: as long as nothing of it changes, the side is the same.
type Reads struct {
	Own    map[*Kind]uint64 // properties of the viewer's own entities, or of the entity that the audience is of
	Shared map[*Kind]uint64 // properties of shared entities
	All    bool             // it may read anything
}

// Reads returns what the sides of an audience read: that of the viewer first, then that of the entity.
func (s *Split) Reads() (out [2]Reads) {
	for side := range out {
		r := &out[side]
		r.Own = map[*Kind]uint64{}
		r.Shared = map[*Kind]uint64{}
		bodies := [][]*Body{s.Viewer, s.Entity}[side]
		for _, k := range s.Keys {
			bodies = append(bodies[:len(bodies):len(bodies)], k[side])
		}
		if s.Radius != nil {
			bodies = append(bodies[:len(bodies):len(bodies)], s.At[side])
		}
		for _, b := range bodies {
			r.add(b.Value)
		}
	}
	return out
}

// add takes what an expression reads into r.
func (r *Reads) add(x *Expr) {
	switch x.Op {
	case OpConst, OpViewer, OpSetting, OpTable:
	case OpLocal:
		r.All = r.All || x.Type.Holder()
	case OpGet, OpComputed:
		on := r.Own
		from := x.Args[0]
		switch {
		case from.Op == OpShared:
			on = r.Shared
		case from.Op == OpLocal, from.Op == OpEntityOf && from.Args[0].Op == OpViewer:
		default:
			r.All = true
			return
		}
		for _, k := range from.Type.Kinds {
			p := x.Prop
			if x.Props != nil {
				p = x.Props[k.Index]
			}
			if p != nil {
				on[k] |= 1 << p.Index
			}
		}
	case OpName, OpRole, OpNumber, OpReal, OpSteps, OpFromInt, OpNot, OpNeg, OpAdd, OpSub, OpMul, OpDiv, OpMod, OpAnd,
		OpOr, OpEq, OpNe, OpLt, OpLe, OpGt, OpGe, OpReveal, OpVec, OpMath, OpClip, OpField, OpChoose:
		for _, a := range x.Args {
			r.add(a)
		}
	default:
		r.All = true
	}
}
