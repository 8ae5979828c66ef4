package session

import (
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// CheckResult is what came of one check of a request that was decided.
type CheckResult struct {
	Check  *contract.Check
	Result CheckOutcome
	Values []SeenValue // that the check read, each once, in the order in which they stand in it
}

// CheckOutcome says what came of a check.
type CheckOutcome string

// What can come of a check. What follows a check that failed is not reached.
const (
	CheckPassed     CheckOutcome = "passed"
	CheckFailed     CheckOutcome = "failed"
	CheckNotReached CheckOutcome = "not reached"
)

// SeenValue is a value as a check saw it: before the body has changed anything. Refs in it are public numbers.
type SeenValue struct {
	Name  string // as it is written, such as `caller.Diver.hull`
	Type  *contract.Type
	Value contract.Value
}

// maxSeenValues is how many values of one check are told.
const maxSeenValues = 12

// checkReader finds the values that the checks of one decided request have read.
type checkReader struct {
	session  *Session
	request  *contract.Request
	self     *world.Entity
	caller   int
	args     []int64
	decision *Decision
	lets     map[letKey]*contract.Expr // what is named in the head
	// of those, the ones that this check was followed through: once each, however often it names them
	followed map[letKey]bool
	out      []SeenValue
}

// letKey is the local of a name: its register, or its place in memory.
type letKey struct {
	at       int64
	inMemory bool
}

// letOf returns the key of a local.
func letOf(at int64, t *contract.Type) letKey { return letKey{at, t.Holder()} }

// checkResults returns what came of the checks of a request that has been decided by its checks or its body. The open
// transaction has ended: what the decision changed is read as it was before.
func (s *Session) checkResults(
	t *seat, r *contract.Request, e *world.Entity, args []int64, d *Decision,
) []CheckResult {
	cameToChecks := d.Stage == "" || d.Stage == wire.StageCheck || d.Stage == wire.StageBody
	if len(r.Checks) == 0 || d.Outcome == wire.Faulted || !cameToChecks {
		return nil
	}
	read := &checkReader{
		session:  s,
		request:  r,
		self:     e,
		caller:   t.client.Number,
		args:     args,
		decision: d,
		lets:     map[letKey]*contract.Expr{},
		followed: map[letKey]bool{},
	}
	failed := len(r.Checks)
	if d.Stage == wire.StageCheck {
		failed = d.failedCheck
	}
	var out []CheckResult
	for i := range r.Head {
		statement := &r.Head[i]
		switch statement.Op {
		case contract.OpLet, contract.OpVar:
			read.lets[letOf(statement.Num, statement.Value.Type)] = statement.Value
		case contract.OpCheck:
			n := int(statement.Num)
			one := CheckResult{Check: &r.Checks[n], Result: CheckPassed}
			switch {
			case n > failed:
				one.Result = CheckNotReached
			case n == failed:
				one.Result = CheckFailed
			}
			if n <= failed {
				read.out = nil
				clear(read.followed)
				read.expression(statement.Value)
				one.Values = read.out
			}
			out = append(out, one)
		}
	}
	return out
}

// expression adds the values that an expression reads.
func (c *checkReader) expression(x *contract.Expr) {
	if x == nil || len(c.out) >= maxSeenValues {
		return
	}
	switch x.Op {
	case contract.OpLocal:
		c.local(x)
		return
	case contract.OpGet:
		if name, e := c.entity(x.Args[0]); e != nil {
			if p := propertyOf(x, e); p != nil {
				c.property(name, e, p)
				return
			}
		}
	}
	for _, a := range x.Args {
		c.expression(a)
	}
}

// propertyOf returns the property of an entity that an expression reads, or nil.
func propertyOf(x *contract.Expr, e *world.Entity) *contract.Property {
	if x.Prop != nil {
		return x.Prop
	}
	if e.Kind.Index < len(x.Props) {
		return x.Props[e.Kind.Index]
	}
	return nil
}

// local adds the value of an argument, or what a name of the head stands for reads.
func (c *checkReader) local(x *contract.Expr) {
	name, slots := c.argument(x)
	if slots == nil {
		key := letOf(x.Num, x.Type)
		if !c.followed[key] {
			c.followed[key] = true
			c.expression(c.lets[key])
		}
		return
	}
	t := x.Type
	c.add(name, t, c.session.view.PublicRefs(t, t.FromSlots(slots, c.session.world.Text)))
}

// argument returns the name and the slots of the argument that a local is; nil for one that is none.
func (c *checkReader) argument(x *contract.Expr) (name string, slots []int64) {
	at := 0
	register := int64(0)
	memory := int64(0)
	for _, p := range c.request.Params {
		n := p.Type.Width()
		place := &register
		if p.Type.Holder() {
			place = &memory
		}
		if p.Type.Holder() == x.Type.Holder() && *place == x.Num {
			return p.Name, c.args[at : at+n]
		}
		*place += int64(n)
		at += n
	}
	return "", nil
}

// entity returns the entity that an expression is, with how it is written before a property; nil for one that is not
// told.
func (c *checkReader) entity(x *contract.Expr) (prefix string, e *world.Entity) {
	switch x.Op {
	case contract.OpSelf:
		return "", c.self
	case contract.OpShared:
		return x.Kind.Name + ".", c.session.world.Shared(x.Kind.Index)
	case contract.OpEntityOf:
		switch x.Args[0].Op {
		case contract.OpCaller:
			return "caller." + x.Kind.Name + ".", c.session.world.OfClient(x.Kind.Index, c.caller)
		case contract.OpOwner:
			if prefix, of := c.entity(x.Args[0].Args[0]); of != nil {
				return prefix + "owner." + x.Kind.Name + ".", c.session.world.OfClient(x.Kind.Index, of.Owner)
			}
		}
	case contract.OpLocal:
		if name, slots := c.argument(x); slots != nil {
			return name + ".", c.session.world.Entity(world.ID(slots[0]))
		}
		if of := c.lets[letOf(x.Num, x.Type)]; of != nil {
			return c.entity(of)
		}
	}
	return "", nil
}

// property adds a property as it was before the decision.
func (c *checkReader) property(prefix string, e *world.Entity, p *contract.Property) {
	number := c.session.view.Number(e)
	for _, change := range c.decision.Changes {
		if change.Entity == number && change.Property == p.Name {
			c.add(prefix+p.Name, p.Type, change.Old)
			return
		}
	}
	c.add(prefix+p.Name, p.Type, c.session.view.PublicRefs(p.Type, c.session.world.Value(e, p)))
}

// add adds a value, unless it is there.
func (c *checkReader) add(name string, t *contract.Type, value contract.Value) {
	for _, v := range c.out {
		if v.Name == name {
			return
		}
	}
	c.out = append(c.out, SeenValue{name, t, value})
}
