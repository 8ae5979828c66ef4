package flow

import (
	"fmt"
	"slices"
	"strings"

	"kamerad.example/core/contract"
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
	sort contract.WhoSort // ToEveryone, ToNobody, ToRole, ToClient or ToNamed
	role int              // of ToRole; of ToClient when it is known, else -1
	sym  sym              // of ToClient
	aud  *contract.Named
	args []sym // of ToNamed: what its condition is asked of
}

// key returns a text that two terms share exactly when they add or take the same clients.
func (t term) key() string {
	switch t.sort {
	case contract.ToRole:
		return fmt.Sprint("role ", t.role)
	case contract.ToClient:
		return t.sym
	case contract.ToNamed:
		return t.aud.Name + "(" + strings.Join(t.args, ",") + ")"
	}
	return [...]string{"everyone", "nobody"}[t.sort]
}

// key returns a text that two crowds share exactly when their terms are the same, in the same order.
func (c crowd) key() string {
	var b strings.Builder
	for _, t := range c {
		b.WriteString(map[bool]string{true: " but ", false: " or "}[t.but])
		b.WriteString(t.key())
	}
	return b.String()
}

// public reports whether a crowd is everyone.
func (c crowd) public() bool {
	out := false
	for _, t := range c {
		if t.but {
			out = out && t.sort == contract.ToNobody
		} else if t.sort == contract.ToEveryone {
			out = true
		}
	}
	return out
}

// coversTerm reports whether a term lies within a crowd; rest are the terms that follow it in its own.
func (l *flows) coversTerm(c crowd, t term, rest crowd) bool {
	in := false
	for _, a := range c {
		switch {
		case !a.but:
			in = in || l.within(t, a)
		case in:
			hasRole := t.sort == contract.ToRole || t.sort == contract.ToClient
			apart := a.sort == contract.ToNobody ||
				a.sort == contract.ToRole && hasRole && t.role >= 0 && t.role != a.role
			// What both leave out is no difference.
			also := slices.ContainsFunc(rest, func(b term) bool { return b.but && b.key() == a.key() }) &&
				!slices.ContainsFunc(rest, func(b term) bool { return !b.but })
			in = apart || also
		}
	}
	return in
}

// within reports whether the clients of t are among those of a.
func (l *flows) within(t, a term) bool {
	switch {
	case a.sort == contract.ToEveryone, t.key() == a.key():
		return true
	case a.sort == contract.ToRole:
		return t.sort == contract.ToClient && t.role == a.role
	case a.sort == contract.ToNamed:
		return t.sort == contract.ToClient && l.holdsFor(a, t.sym)
	}
	return false
}

// holdsFor reports whether the condition of an audience holds for a client whatever the values are: both sides of each
// comparison in it are the same thing.
func (l *flows) holdsFor(a term, viewer sym) bool {
	names := func(x *contract.Expr) string { return l.thing(x, viewer, a.args) }
	var holds func(x *contract.Expr) bool
	holds = func(x *contract.Expr) bool {
		switch x.Op {
		case contract.OpAnd:
			return holds(x.Args[0]) && holds(x.Args[1])
		case contract.OpOr:
			return holds(x.Args[0]) || holds(x.Args[1])
		case contract.OpReveal:
			return holds(x.Args[0])
		case contract.OpEq:
			one := names(x.Args[0])
			return one != "" && one == names(x.Args[1])
		}
		return false
	}
	return a.aud.Cond != nil && a.aud.Cond.Value != nil && holds(a.aud.Cond.Value)
}

// thing names what an expression of an audience's condition reads; empty when it cannot be told.
func (l *flows) thing(x *contract.Expr, viewer sym, args []sym) string {
	switch x.Op {
	case contract.OpViewer:
		return viewer
	case contract.OpLocal:
		if int(x.Num) < len(args) {
			return args[x.Num]
		}
	case contract.OpReveal, contract.OpReal:
		return l.thing(x.Args[0], viewer, args)
	case contract.OpEntityOf:
		if c := l.thing(x.Args[0], viewer, args); c != "" {
			return entityOf(x.Kind, c)
		}
	case contract.OpOwner:
		if e := l.thing(x.Args[0], viewer, args); e != "" {
			return ownerOf(e)
		}
	case contract.OpGet, contract.OpComputed:
		if e := l.thing(x.Args[0], viewer, args); e != "" && x.Prop != nil {
			return e + "." + x.Prop.Name
		}
	case contract.OpShared:
		return "the " + x.Kind.Name
	}
	return ""
}

// entityOf names the entity of a kind that each client of a role has.
func entityOf(k *contract.Kind, client sym) sym {
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

// HoldsForOwner reports whether a term of an audience holds for the owner of an entity of a kind, whatever the values
// are.
func HoldsForOwner(c *contract.Contract, k *contract.Kind, w contract.Who) bool {
	l := &flows{contract: c}
	f := l.newFlow(&Cause{fns: map[string]val{}}, k, 0)
	t := f.crowd([]contract.Who{w})[0]
	return t.sort == contract.ToNamed && l.holdsFor(t, ownerOf(f.self))
}
