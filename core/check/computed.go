package check

import (
	"fmt"
	"math/bits"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// isComputed reads that a property is computed, and says so where it cannot be. What computes it is read by computed,
// once all properties are known.
func (c *builder) isComputed(_ *contract.Kind, p *contract.Property, d *syntax.Property) {
	p.Computed = d.Value != nil && c.mayBeComputed(p, d)
}

// mayBeComputed reports whether a property that is declared with `:=` may be, and says so when not.
func (c *builder) mayBeComputed(p *contract.Property, d *syntax.Property) bool {
	if !c.NeedsLanguage2(d.Value.Span(), "a computed property") {
		return false
	}
	for _, clause := range []struct {
		there bool
		name  string
	}{
		{d.Default != nil, "a default"},
		{d.Set != nil, "`set by`"},
		{d.Follows != nil, "`follows`"},
		{d.Keep != nil, "`keep`"},
		{d.Once != nil, "`once`"},
		{d.Was.Text != "", "`was`"},
	} {
		if clause.there {
			c.Fail(
				d.Name.At, "clash", fmt.Sprintf("`%s` is computed and has %s", p.Name, clause.name),
				"remove one of the two: what is computed has its value from others alone",
			)
			return false
		}
	}
	t := p.Type
	if t.Holder() || t.Has(contract.FormEntity) || t.Has(contract.FormClient) || t.Has(contract.FormKind) {
		c.Fail(
			d.Type.At, "wrong-type", fmt.Sprintf("`%s` cannot be computed: it is of the type %s", p.Name, t),
			"a truth, a number, a vector, a text, an enum, an instant or a record of such can",
		)
		return false
	}
	return true
}

// computed reads what a property is computed from. What it reads is noted once all properties of the kind are read.
func (c *builder) computed(k *contract.Kind, p *contract.Property, d *syntax.Property) {
	env := c.Condition(k)
	p.Value = env.Computed(d.Value, p.Type, "the value of `"+p.Name+"`", d.Value.Span())
	if p.Value.Value == nil {
		return
	}
	if why := readsBeside(p.Value.Value); why != "" {
		c.Fail(
			d.Value.Span(), "not-own", fmt.Sprintf("`%s` is computed from %s", p.Name, why),
			"it may read the properties of its own entity that are no refs or clients, constants and settings: "+
				"what else changes would change it without a write",
		)
		p.Value.Value = nil
	}
}

// readsOfComputed finds out which stored properties the computed ones of a kind read, and tells of circles.
func (c *builder) readsOfComputed(k *contract.Kind, d *syntax.Entity) {
	const (
		fresh = iota
		open
		done
	)
	state := map[*contract.Property]int{}
	var visit func(p *contract.Property) (circle bool)
	visit = func(p *contract.Property) (circle bool) {
		state[p] = open
		contract.Mentions(p.Value.Value, func(x *contract.Expr) bool {
			switch {
			case x.Op == contract.OpGet:
				p.Reads |= 1 << x.Prop.Index
			case x.Op != contract.OpComputed:
			case state[x.Prop] == open:
				circle = true
			default:
				circle = state[x.Prop] == fresh && visit(x.Prop) || circle
				p.Reads |= x.Prop.Reads
			}
			return circle
		})
		state[p] = done
		return circle
	}
	for _, tree := range d.Properties {
		p := k.Property(tree.Name.Text)
		if p != nil && p.Computed && state[p] == fresh && visit(p) {
			c.Fail(
				tree.Value.Span(), "circle", fmt.Sprintf("`%s` comes to be computed from itself", p.Name),
				"computed properties cannot stand in a circle",
			)
			return
		}
	}
}

// readsBeside returns what an expression reads that is no property of self whose value changes by writes alone, in
// words; "" for one that reads nothing else.
func readsBeside(x *contract.Expr) (why string) {
	own := map[*contract.Expr]bool{} // self, where a property of it is read
	counted := map[*contract.Expr]bool{}
	contract.Mentions(x, func(x *contract.Expr) bool {
		switch x.Op {
		case contract.OpGet, contract.OpComputed:
			if x.Prop == nil || x.Args[0].Op != contract.OpSelf {
				why = "another entity"
				break
			}
			own[x.Args[0]] = true
			if !counted[x] && (x.Type.Has(contract.FormEntity) || x.Type.Has(contract.FormClient)) {
				why = "a ref or client, which may go without a write"
			}
		case contract.OpCount, contract.OpRoom:
			counted[x.Args[0]] = true
		case contract.OpSelf:
			if !own[x] {
				why = "the entity as a whole"
			}
		case contract.OpQuery:
			if x.Query.Kinds != nil || x.Query.Clients {
				why = "other entities or clients"
			}
		case contract.OpOwner, contract.OpEntityOf, contract.OpShared, contract.OpExists, contract.OpName,
			contract.OpRole, contract.OpNumber, contract.OpLogic:
			why = "another entity or a client"
		case contract.OpSeen:
			why = "what clients have confirmed"
		case contract.OpNow, contract.OpSince, contract.OpPath:
			why = "the clock"
		}
		return why != ""
	})
	return why
}

// noteComputed says of the computed properties of a kind whether anything ever changes them.
func noteComputed(k *contract.Kind) {
	for _, p := range k.Properties {
		if !p.Computed {
			continue
		}
		for rest := p.Reads; rest != 0; rest &= rest - 1 {
			q := k.Properties[bits.TrailingZeros64(rest)]
			p.Written = p.Written || q.Written || q.Set != nil || q.Follows != nil || q.Hold != nil
		}
	}
}
