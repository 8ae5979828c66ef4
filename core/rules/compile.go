package rules

import (
	"math"
	"math/bits"
	"unicode/utf8"

	"kamerad/core/contract"
	"kamerad/core/world"
)

// A compiled expression gives a number (which all values but texts and entities are), a text, or an entity that may be nil.
type (
	number func(*Machine) int64
	words  func(*Machine) string
	entity func(*Machine) *world.Entity
)

type compiler struct {
	request *contract.Request // nil in a handler
}

// head compiles a head. A read through nothing does not fault there: it fails the check that reads it, or the next one after
// a `let` that did.
func (g *compiler) head(stmts []contract.Stmt) run {
	var out run
	for _, s := range stmts {
		if s.Op == contract.OpLet {
			let := g.stmt(s)
			out = append(out, func(m *Machine) {
				if let(m); m.nothing {
					m.halt, m.fault = false, ""
				}
			})
			continue
		}
		cond, reason, index, line := g.num(s.Value), g.request.Checks[s.Num].Reason, int(s.Num), s.Line
		out = append(out, func(m *Machine) {
			m.line = line
			lost := m.nothing
			if cond(m) != 0 && !lost && !m.halt {
				return
			}
			if m.fault != "" && !m.nothing {
				return
			}
			m.halt, m.fault, m.reason, m.check = true, "", reason, index
		})
	}
	// Nothing that a `let` met may reach the body unseen.
	return append(out, func(m *Machine) {
		if m.nothing {
			m.fail("a name of the head stands for nothing")
		}
	})
}

func (g *compiler) run(stmts []contract.Stmt) run {
	out := make(run, len(stmts))
	for i, s := range stmts {
		do, line := g.stmt(s), s.Line
		out[i] = func(m *Machine) {
			m.line = line
			do(m)
		}
	}
	return out
}

func (g *compiler) stmt(s contract.Stmt) step {
	switch s.Op {
	case contract.OpLet:
		i := s.Num
		if s.Value.Type.IsText() {
			v := g.text(s.Value)
			return func(m *Machine) { m.texts[i] = v(m) }
		}
		if s.Value.Type.Form == contract.FormEntity {
			v := g.entity(s.Value)
			return func(m *Machine) {
				m.nums[i] = 0
				if e := v(m); e != nil {
					m.nums[i] = int64(e.ID)
				}
			}
		}
		v := g.num(s.Value)
		return func(m *Machine) { m.nums[i] = v(m) }
	case contract.OpSet:
		on, p := g.entity(s.X), s.Prop
		if p.Type.IsText() {
			v := g.text(s.Value)
			return func(m *Machine) {
				value := v(m)
				if e := there(m, on, p); e != nil && !m.halt {
					if err := m.World.SetText(e, p, value); err != nil {
						m.fail("%s", err)
					}
				}
			}
		}
		v := g.num(s.Value)
		return func(m *Machine) {
			value := v(m)
			if e := there(m, on, p); e != nil && !m.halt {
				if err := m.World.SetNum(e, p, value); err != nil {
					m.fail("%s", err)
				}
			}
		}
	case contract.OpPut, contract.OpTake:
		on, p, item, count := g.entity(s.X), s.Prop, g.num(s.Args[0]), g.num(s.Args[1])
		change := (*world.World).Put
		if s.Op == contract.OpTake {
			change = (*world.World).Take
		}
		return func(m *Machine) {
			i, n := item(m), count(m)
			if e := there(m, on, p); e != nil && !m.halt {
				if err := change(m.World, e, p, i, n); err != nil {
					m.fail("%s", err)
				}
			}
		}
	case contract.OpIf:
		cond, then, otherwise := g.num(s.Value), g.run(s.Then), g.run(s.Else)
		return func(m *Machine) {
			yes := cond(m) != 0
			switch {
			case m.halt:
			case yes:
				then.do(m)
			default:
				otherwise.do(m)
			}
		}
	case contract.OpDeny:
		reason := s.Text
		return func(m *Machine) { m.halt, m.reason = true, reason }
	case contract.OpTell:
		return g.tell(s)
	}
	panic("rules: a statement that the checker never makes")
}

// there evaluates the entity that a property is reached through; nil is a fault.
func there(m *Machine, on entity, p *contract.Property) *world.Entity {
	e := on(m)
	if e == nil && !m.halt {
		m.nothing = true
		m.fail("`%s` is reached through nothing: the client has no such entity", p.Name)
	}
	return e
}

func (g *compiler) tell(s contract.Stmt) step {
	var on entity
	if s.X != nil {
		on = g.entity(s.X)
	}
	var values []func(*Machine) contract.Value
	for i, a := range s.Args {
		p := s.Event.Params[i]
		t := p.Type
		if t.IsText() {
			v := g.text(a)
			values = append(values, func(m *Machine) contract.Value {
				text := v(m)
				if n := utf8.RuneCountInString(text); n > t.Max {
					m.fail("`%s` of the event `%s` has %d characters, at most %d are allowed", p.Name, s.Event.Name, n, t.Max)
				}
				return contract.Value{Text: text}
			})
			continue
		}
		v := g.num(a)
		values = append(values, func(m *Machine) contract.Value {
			n := v(m)
			if t.Form == contract.FormInt && (n < t.Low || n > t.High) {
				m.fail("`%s` of the event `%s` would be %d: its range is %d..%d", p.Name, s.Event.Name, n, t.Low, t.High)
			}
			return contract.Value{Num: n}
		})
	}
	type term struct {
		contract.Who
		x number
	}
	var who []term
	for _, w := range s.Who {
		t := term{Who: w}
		if w.X != nil {
			t.x = g.num(w.X)
		}
		who = append(who, t)
	}
	event := s.Event
	everyone := len(who) == 1 && who[0].Sort == contract.ToEveryone
	return func(m *Machine) {
		told := Told{Event: event, Everyone: everyone}
		if on != nil {
			if told.Entity = on(m); told.Entity == nil && !m.halt {
				m.nothing = true
				m.fail("the event `%s` is told of nothing: the client has no such entity", event.Name)
			}
		}
		for _, v := range values {
			told.Values = append(told.Values, v(m))
		}
		if !everyone {
			for _, c := range m.Clients {
				in := false
				for _, w := range who {
					hit := false
					switch w.Sort {
					case contract.ToEveryone:
						hit = true
					case contract.ToOwner:
						hit = m.self != nil && c.Number == m.self.Owner
					case contract.ToCaller:
						hit = c.Number == m.caller
					case contract.ToRole:
						hit = c.Role == w.Role
					case contract.ToClient:
						hit = int64(c.Number) == w.x(m)
					}
					if hit {
						in = !w.But
					}
				}
				if in {
					told.Clients = append(told.Clients, c.Number)
				}
			}
		}
		if !m.halt {
			m.Told = append(m.Told, told)
		}
	}
}

func (g *compiler) entity(x *contract.Expr) entity {
	switch x.Op {
	case contract.OpSelf:
		return func(m *Machine) *world.Entity { return m.self }
	case contract.OpShared:
		k := x.Kind
		return func(m *Machine) *world.Entity { return m.World.Shared(k) }
	case contract.OpEntityOf:
		k, client := x.Kind, g.num(x.Args[0])
		return func(m *Machine) *world.Entity { return m.World.Of(k, int(client(m))) }
	case contract.OpLocal:
		i := x.Num
		return func(m *Machine) *world.Entity { return m.World.Entity(world.ID(m.nums[i])) }
	}
	panic("rules: an entity that the checker never makes")
}

func (g *compiler) text(x *contract.Expr) words {
	switch x.Op {
	case contract.OpConst:
		v := x.Text
		return func(*Machine) string { return v }
	case contract.OpLocal:
		i := x.Num
		return func(m *Machine) string { return m.texts[i] }
	case contract.OpGet:
		on, p := g.entity(x.Args[0]), x.Prop
		return func(m *Machine) string {
			if e := there(m, on, p); e != nil {
				return e.Text(p)
			}
			return ""
		}
	case contract.OpName:
		client := g.num(x.Args[0])
		return func(m *Machine) string {
			if c := m.client(client(m)); c != nil {
				return c.Name
			}
			return ""
		}
	}
	panic("rules: a text that the checker never makes")
}

func truth(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

func (g *compiler) num(x *contract.Expr) number {
	switch x.Op {
	case contract.OpConst:
		v := x.Num
		return func(*Machine) int64 { return v }
	case contract.OpLocal:
		i := x.Num
		return func(m *Machine) int64 { return m.nums[i] }
	case contract.OpCaller:
		return func(m *Machine) int64 { return int64(m.caller) }
	case contract.OpOwner:
		on := g.entity(x.Args[0])
		return func(m *Machine) int64 {
			if e := on(m); e != nil {
				return int64(e.Owner)
			}
			m.nothing = true
			m.fail("the owner of nothing was asked for: the client has no such entity")
			return 0
		}
	case contract.OpGet:
		p := x.Prop
		if x.Args[0].Op == contract.OpSelf { // the usual case, without a call in between
			return func(m *Machine) int64 { return m.self.Num(p) }
		}
		on := g.entity(x.Args[0])
		return func(m *Machine) int64 {
			if e := there(m, on, p); e != nil {
				return e.Num(p)
			}
			return 0
		}
	case contract.OpNumber:
		return g.num(x.Args[0])
	case contract.OpRole:
		client := g.num(x.Args[0])
		return func(m *Machine) int64 {
			if c := m.client(client(m)); c != nil {
				return int64(c.Role)
			}
			return -1
		}
	case contract.OpNot:
		a := g.num(x.Args[0])
		return func(m *Machine) int64 { return 1 - a(m) }
	case contract.OpNeg:
		a := g.num(x.Args[0])
		return func(m *Machine) int64 {
			v := a(m)
			if v == math.MinInt64 {
				m.fail("-(%d) is not a 64-bit whole number", v)
			}
			return -v
		}
	case contract.OpHas, contract.OpCount, contract.OpRoom:
		return g.stacks(x)
	case contract.OpAnd:
		a, b := g.num(x.Args[0]), g.num(x.Args[1])
		return func(m *Machine) int64 {
			if a(m) == 0 || m.halt {
				return 0
			}
			return b(m)
		}
	case contract.OpOr:
		a, b := g.num(x.Args[0]), g.num(x.Args[1])
		return func(m *Machine) int64 {
			if a(m) != 0 || m.halt {
				return 1
			}
			return b(m)
		}
	case contract.OpEq, contract.OpNe:
		return g.equality(x)
	}
	return g.arithmetic(x)
}

func (g *compiler) stacks(x *contract.Expr) number {
	on, p, item, count := g.entity(x.Args[0]), x.Prop, g.num(x.Args[1]), g.num(x.Args[2])
	op := x.Op
	return func(m *Machine) int64 {
		e := there(m, on, p)
		if e == nil {
			return 0
		}
		switch op {
		case contract.OpCount:
			return e.Count(p, item(m))
		case contract.OpRoom:
			return e.Room(p, item(m))
		}
		return truth(e.Count(p, item(m)) >= count(m))
	}
}

func (g *compiler) equality(x *contract.Expr) number {
	want := x.Op == contract.OpEq
	switch x.Args[0].Type.Form {
	case contract.FormText:
		a, b := g.text(x.Args[0]), g.text(x.Args[1])
		return func(m *Machine) int64 { return truth((a(m) == b(m)) == want) }
	case contract.FormEntity:
		a, b := g.entity(x.Args[0]), g.entity(x.Args[1])
		return func(m *Machine) int64 { return truth((a(m) == b(m)) == want) }
	}
	a, b := g.num(x.Args[0]), g.num(x.Args[1])
	if x.Args[1].Op == contract.OpConst {
		v := x.Args[1].Num
		return func(m *Machine) int64 { return truth((a(m) == v) == want) }
	}
	return func(m *Machine) int64 { return truth((a(m) == b(m)) == want) }
}

// arithmetic compiles what works on two whole numbers; what leaves 64 bits, or divides by zero, faults.
func (g *compiler) arithmetic(x *contract.Expr) number {
	a, b := g.num(x.Args[0]), g.num(x.Args[1])
	switch x.Op {
	case contract.OpLt:
		return func(m *Machine) int64 { return truth(a(m) < b(m)) }
	case contract.OpLe:
		return func(m *Machine) int64 { return truth(a(m) <= b(m)) }
	case contract.OpGt:
		return func(m *Machine) int64 { return truth(a(m) > b(m)) }
	case contract.OpGe:
		return func(m *Machine) int64 { return truth(a(m) >= b(m)) }
	case contract.OpAdd:
		return func(m *Machine) int64 {
			p, q := a(m), b(m)
			r := p + q
			if (p^r)&(q^r) < 0 {
				m.fail("%d + %d is not a 64-bit whole number", p, q)
			}
			return r
		}
	case contract.OpSub:
		return func(m *Machine) int64 {
			p, q := a(m), b(m)
			r := p - q
			if (p^q)&(p^r) < 0 {
				m.fail("%d - %d is not a 64-bit whole number", p, q)
			}
			return r
		}
	case contract.OpMul:
		return func(m *Machine) int64 {
			p, q := a(m), b(m)
			if !fits(p, q) {
				m.fail("%d * %d is not a 64-bit whole number", p, q)
			}
			return p * q
		}
	case contract.OpDiv, contract.OpMod:
		rest := x.Op == contract.OpMod
		return func(m *Machine) int64 {
			p, q := a(m), b(m)
			if q == 0 {
				m.fail("division by zero")
				return 0
			}
			if q == -1 {
				if p == math.MinInt64 && !rest {
					m.fail("%d / -1 is not a 64-bit whole number", p)
				}
				if rest {
					return 0
				}
				return -p
			}
			if rest {
				return p % q
			}
			return p / q
		}
	}
	panic("rules: an operation that the checker never makes")
}

// fits tells whether a product has 64 bits.
func fits(p, q int64) bool {
	high, low := bits.Mul64(magnitude(p), magnitude(q))
	if high != 0 {
		return false
	}
	if (p < 0) != (q < 0) {
		return low <= 1<<63
	}
	return low < 1<<63
}

func magnitude(v int64) uint64 {
	if v < 0 {
		return -uint64(v)
	}
	return uint64(v)
}
