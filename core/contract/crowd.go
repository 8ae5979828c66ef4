package contract

import (
	"fmt"
	"slices"
	"strings"
)

// sym names an entity or a client within one body, in such a way that two places with one name mean the same one. What
// cannot be followed gets a name that nothing else has.
type sym = string

// crowd is who gets something, read from left to right like the list of a contract, with the entities and clients of
// one body put in.
type crowd []term

// term adds clients to a crowd or takes them away.
type term struct {
	but  bool
	sort WhoSort // ToEveryone, ToNobody, ToRole, ToClient or ToNamed
	role int     // of ToRole; of ToClient when it is known, else -1
	sym  sym     // of ToClient
	aud  *Named
	args []sym // of ToNamed: what its condition is asked of
}

func (t term) key() string {
	switch t.sort {
	case ToRole:
		return fmt.Sprint("role ", t.role)
	case ToClient:
		return t.sym
	case ToNamed:
		return t.aud.Name + "(" + strings.Join(t.args, ",") + ")"
	}
	return [...]string{"everyone", "nobody"}[t.sort]
}

func (c crowd) key() string {
	var b strings.Builder
	for _, t := range c {
		b.WriteString(map[bool]string{true: " but ", false: " or "}[t.but])
		b.WriteString(t.key())
	}
	return b.String()
}

// public tells whether a crowd is everyone.
func (c crowd) public() bool {
	out := false
	for _, t := range c {
		if t.but {
			out = out && t.sort == ToNobody
		} else if t.sort == ToEveryone {
			out = true
		}
	}
	return out
}

// coversTerm tells whether a term lies within a crowd; rest are the terms that follow it in its own.
func (l *flows) coversTerm(c crowd, t term, rest crowd) bool {
	in := false
	for _, a := range c {
		switch {
		case !a.but:
			in = in || l.within(t, a)
		case in:
			apart := a.sort == ToRole && (t.sort == ToRole || t.sort == ToClient) && t.role >= 0 && t.role != a.role ||
				a.sort == ToNobody
			// What both leave out is no difference.
			also := slices.ContainsFunc(rest, func(b term) bool { return b.but && b.key() == a.key() }) &&
				!slices.ContainsFunc(rest, func(b term) bool { return !b.but })
			in = apart || also
		}
	}
	return in
}

// within tells whether the clients of t are among those of a.
func (l *flows) within(t, a term) bool {
	switch {
	case a.sort == ToEveryone, t.key() == a.key():
		return true
	case a.sort == ToRole:
		return t.sort == ToClient && t.role == a.role
	case a.sort == ToNamed:
		return t.sort == ToClient && l.holdsFor(a, t.sym)
	}
	return false
}

// holdsFor tells whether the condition of an audience holds for a client whatever the values are: both sides of each
// comparison in it are the same thing.
func (l *flows) holdsFor(a term, viewer sym) bool {
	names := func(x *Expr) string { return l.thing(x, viewer, a.args) }
	var holds func(x *Expr) bool
	holds = func(x *Expr) bool {
		switch x.Op {
		case OpAnd:
			return holds(x.Args[0]) && holds(x.Args[1])
		case OpOr:
			return holds(x.Args[0]) || holds(x.Args[1])
		case OpReveal:
			return holds(x.Args[0])
		case OpEq:
			one := names(x.Args[0])
			return one != "" && one == names(x.Args[1])
		}
		return false
	}
	return a.aud.Cond != nil && a.aud.Cond.Value != nil && holds(a.aud.Cond.Value)
}

// thing names what an expression of an audience's condition reads; empty when it cannot be told.
func (l *flows) thing(x *Expr, viewer sym, args []sym) string {
	switch x.Op {
	case OpViewer:
		return viewer
	case OpLocal:
		if int(x.Num) < len(args) {
			return args[x.Num]
		}
	case OpReveal, OpReal:
		return l.thing(x.Args[0], viewer, args)
	case OpEntityOf:
		if c := l.thing(x.Args[0], viewer, args); c != "" {
			return entityOf(x.Kind, c)
		}
	case OpOwner:
		if e := l.thing(x.Args[0], viewer, args); e != "" {
			return ownerOf(e)
		}
	case OpGet:
		if e := l.thing(x.Args[0], viewer, args); e != "" && x.Prop != nil {
			return e + "." + x.Prop.Name
		}
	case OpShared:
		return "the " + x.Kind.Name
	}
	return ""
}

// entityOf names the entity of a kind that each client of a role has.
func entityOf(k *Kind, client sym) sym {
	if e, owns := strings.CutPrefix(client, "owner("); owns && strings.HasSuffix(e, ":"+k.Name+")") {
		return strings.TrimSuffix(e, ")")
	}
	return k.Name + "(" + client + ")"
}

// ownerOf names the owner of an entity.
func ownerOf(entity sym) sym {
	kind, rest, _ := strings.Cut(entity, "(")
	open := 1
	for i := range len(rest) {
		switch rest[i] {
		case '(':
			open++
		case ')':
			open--
		}
		if open == 0 {
			if i == len(rest)-1 && kind != "owner" {
				return rest[:i]
			}
			break
		}
	}
	return "owner(" + entity + ")"
}

// near tells whether an audience only asks how near somebody is: that is relevance, not secrecy, unless it is declared
// secret.
func (a *Named) near() bool {
	return !a.Secret && a.Cond != nil && a.Cond.Value != nil && nearness(a.Cond.Value)
}

func nearness(x *Expr) bool {
	switch x.Op {
	case OpAnd:
		return nearness(x.Args[0]) && nearness(x.Args[1])
	case OpOr:
		return nearness(x.Args[0]) || nearness(x.Args[1])
	case OpReveal:
		return nearness(x.Args[0])
	case OpLt, OpLe:
		return isDistance(x.Args[0])
	case OpGt, OpGe:
		return isDistance(x.Args[1])
	}
	return false
}

func isDistance(x *Expr) bool {
	return x.Op == OpMath && (x.Name == "distance" || x.Name == "length")
}

// asks lists the arguments that the condition of an audience looks at.
func (a *Named) asks(arg int) bool {
	if a.Cond == nil || a.Cond.Value == nil {
		return true
	}
	at := int64(0)
	for i, p := range a.Params {
		if i == arg {
			return p.Type.Holder() ||
				mentions(a.Cond.Value, func(x *Expr) bool { return x.Op == OpLocal && !x.Type.Holder() && x.Num == at })
		}
		if !p.Type.Holder() {
			at += int64(p.Type.Width())
		}
	}
	return true
}

// mentions tells whether an expression or a part of it is such a one; functions are looked into.
func mentions(x *Expr, such func(x *Expr) bool) bool {
	seen := map[*Fn]bool{}
	var look func(x *Expr, inside bool) bool
	look = func(x *Expr, inside bool) bool {
		if x == nil {
			return false
		}
		if !(inside && x.Op == OpLocal) && such(x) ||
			slices.ContainsFunc(x.Args, func(a *Expr) bool { return look(a, inside) }) {
			return true
		}
		if q := x.Query; q != nil &&
			slices.ContainsFunc(
				[]*Expr{q.List, q.Within, q.Of, q.Where, q.Value, q.Else},
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

// within gives what an expression is a part of: the record of a field, the list of an item. Nothing else is within
// something.
func (x *Expr) within() *Expr {
	if x.Op == OpField || x.Op == OpAt || x.Op == OpReal {
		return x.Args[0]
	}
	return nil
}

// root gives the outermost of what a target is a part of: the property that is written.
func (x *Expr) root() *Expr {
	for x.within() != nil {
		x = x.within()
	}
	return x
}
