package check

import (
	"fmt"
	"math"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
	"kamerad.example/core/typing"
)

// clauseRules check the clauses of a property that its tree holds as they are, and put them into the model: one rule
// for each of contract.Clauses. What the other clauses compute is read by clauses, once all properties are known.
var clauseRules = []func(c *builder, k *contract.Kind, p *contract.Property, d *syntax.Property){
	(*builder).isComputed,
	(*builder).clamped,
	(*builder).atMost,
	(*builder).keep,
	(*builder).once,
	(*builder).loose,
}

// clamped reads `clamped`: a value out of the type's range becomes the nearest in it.
//
// A rotation's components cannot be clipped one by one: the result would be no rotation.
func (c *builder) clamped(_ *contract.Kind, p *contract.Property, d *syntax.Property) {
	p.Clamped = d.Clamped != nil
	if p.Clamped && p.Type.Wraps {
		c.Fail(
			*d.Clamped, "wrong-type",
			fmt.Sprintf("`%s` wraps: nothing that is written to it is out of its range", p.Name),
			"remove `clamped`, or `wrapping`",
		)
	}
	ranged := p.Type.Whole() || p.Type.Reals() > 0 && p.Type.Form != contract.FormRotation
	if p.Clamped && !ranged {
		c.Fail(
			*d.Clamped, "wrong-type",
			fmt.Sprintf("`%s` is of the type %s, which has no range to clamp to", p.Name, p.Type),
			"remove `clamped`; only int, time, real and vectors have it",
		)
	}
}

// atMost reads `at most N per second`: how often the property is sent.
//
// More often than once a tick means nothing, since a client gets one frame a tick.
func (c *builder) atMost(_ *contract.Kind, p *contract.Property, d *syntax.Property) {
	if d.AtMost != nil &&
		c.Bounded(d.AtMost.At, "the number of times a second", d.AtMost.Value, 1, int64(c.Contract.TickRate)) {
		p.AtMost = int(d.AtMost.Value)
	}
}

// keep reads `keep`: the value is there again in the player's next session, or, of a shared kind, in the next one of
// the same world.
//
// The value is kept by the player's name and the property's, so it has to mean the same in a session
// that has other entities and clients, and another clock. Whether a part may keep something is checked
// in the kinds that include it.
func (c *builder) keep(k *contract.Kind, p *contract.Property, d *syntax.Property) {
	p.Keep = d.Keep != nil
	if p.Keep && k.Per < 0 && !k.Shared && c.InPart == nil {
		c.Fail(
			*d.Keep, "wrong-place", fmt.Sprintf("`%s` cannot be kept: %s belongs to no player", p.Name, k.Name),
			"`keep` stands in a kind that is `per` a role, or shared",
		)
	}
	if p.Keep &&
		(p.Type.Has(contract.FormEntity) || p.Type.Has(contract.FormClient) || p.Type.Has(contract.FormInstant)) {
		c.Fail(
			*d.Keep, "wrong-type",
			fmt.Sprintf("`%s` cannot be kept: a value of the type %s means nothing in another session", p.Name, p.Type),
			"keep what it stands for",
		)
	}
}

// once reads `once`: the value never changes after the entity came.
//
// Such a property travels with the spawn and needs no place in later frames.
func (c *builder) once(_ *contract.Kind, p *contract.Property, d *syntax.Property) {
	p.Once = d.Once != nil
	if p.Once && (d.Set != nil || d.AtMost != nil || d.Loose != nil || d.Follows != nil) {
		c.Fail(
			*d.Once, "clash", fmt.Sprintf("`%s` is sent once and has a clause for later changes", p.Name),
			"remove one of the two",
		)
	}
}

// loose reads `loose`: a value may be lost on the way when a newer one follows.
func (c *builder) loose(_ *contract.Kind, p *contract.Property, d *syntax.Property) {
	p.Loose = d.Loose != nil
}

// clauses reads what a property's clauses compute, and the conditions of holds.
//
// It runs after all kinds have their properties and audiences, because what a clause computes may read
// any of them.
func (c *builder) clauses(k *contract.Kind, d *syntax.Entity) {
	for _, h := range d.Holds {
		p := k.Property(h.Name.Text)
		if h.When != nil && p != nil && p.Hold != nil {
			env := c.Condition(k)
			p.Hold.When = env.Computed(h.When, &contract.Type{Form: contract.FormBool}, "the condition of a hold", h.At)
		}
	}
	for _, tree := range d.Properties {
		p := k.Property(tree.Name.Text)
		// A second declaration of the same name, which was reported: its clauses are not those of p.
		if p == nil || p.Offset != tree.At.Start {
			continue
		}
		if p.Computed {
			c.computed(k, p, tree)
		}
		if tree.Set != nil {
			c.setBy(k, p, tree.Set)
		}
		if tree.Follows != nil {
			c.follows(k, p, tree.Follows)
		}
	}
}

// setBy reads what lets a client write a property. The pace and the rule are over `old` and `new`.
//
// Text and ByText keep the clause as it was written, for refusals and reports. Owner marks the usual
// case for the outline and for reports, which have no use for the expression.
func (c *builder) setBy(k *contract.Kind, p *contract.Property, d *syntax.SetBy) {
	if p.Type.Holder() {
		c.Fail(
			d.At, "wrong-type", fmt.Sprintf("`%s` cannot be set by a client: it is of the type %s", p.Name, p.Type),
			"let requests change it",
		)
		return
	}
	p.Set = &contract.SetBy{
		Text: strings.TrimSpace(
			strings.TrimPrefix(strings.Join(strings.Fields(c.Source.Text[d.By.Span().End:d.At.End]), " "), ")"),
		),
	}
	p.Set.ByText = c.Source.Text[d.By.Span().Start:d.By.Span().End]
	who := c.Condition(k)
	if r, ok := d.By.(*syntax.Ref); ok && r.Text == "owner" {
		p.Set.Owner = true
	}
	p.Set.By = who.Computed(d.By, &contract.Type{Form: contract.FormClient}, "who sets `"+p.Name+"`", d.At)
	rule := func(x syntax.Expr, want *contract.Type, what string) *contract.Body {
		env := c.Condition(k)
		// A rule may read only one of the two.
		for _, name := range []string{"old", "new"} {
			env.Used[env.Declare(syntax.Ident{Text: name, At: d.At}, p.Type)] = true
		}
		b := env.Computed(x, want, what, d.At)
		b.Params = []contract.Param{{Name: "old", Type: p.Type}, {Name: "new", Type: p.Type}}
		return b
	}
	if d.Pace != nil {
		p.Set.Pace = rule(d.Pace, &contract.Type{Form: contract.FormReal}, "what a write costs")
		p.Set.Rate, p.Set.RateBy = c.rate(k, d)
		p.Set.Burst = p.Set.Rate
		if p.Set.RateBy != nil && d.Burst == nil {
			c.Fail(
				d.Rate.Span(), "no-range", "this pace is computed and says no burst",
				"say how much a client may save up: `burst 4`",
			)
		}
	}
	if d.Burst != nil {
		if d.Pace == nil {
			c.Fail(
				d.Burst.Span(), "clash", "a burst belongs to a pace",
				"as in `pace distance(old, new) 8 per second burst 2`",
			)
		}
		p.Set.Burst = c.pace(d.Burst)
	}
	if d.When != nil {
		p.Set.Rule = rule(d.When, &contract.Type{Form: contract.FormBool}, "the rule of a write")
	}
}

// rate reads the rate of a pace: a constant, or what computes it for each write.
func (c *builder) rate(k *contract.Kind, d *syntax.SetBy) (float64, *contract.Body) {
	switch d.Rate.(type) {
	case *syntax.Number, *syntax.Decimal:
		return c.pace(d.Rate), nil
	}
	if !c.NeedsLanguage2(d.Rate.Span(), "a rate that is not written out") {
		return 1, nil
	}
	env := c.Condition(k)
	b := env.Computed(d.Rate, &contract.Type{Form: contract.FormReal}, "the rate of a pace", d.Rate.Span())
	if b.Value != nil && b.Value.Op == contract.OpConst {
		rate := math.Float64frombits(uint64(b.Value.Num))
		if rate <= 0 || rate > maxPace {
			c.Fail(d.Rate.Span(), "out-of-range", "this is no pace", "a number over 0")
		}
		return rate, nil
	}
	return 1, b
}

// maxPace is the greatest rate and burst of a pace.
const maxPace = 1e9

// pace reads a rate or burst that is written out.
func (c *builder) pace(x syntax.Expr) float64 {
	f, _ := typing.Rational(x).Float64()
	if f <= 0 || f > maxPace {
		c.Fail(x.Span(), "out-of-range", "this is no pace", "a number over 0")
	}
	return f
}

// follows reads `follows RATE` or `follows REF.PROPERTY by OFFSET`.
//
// A follower is not sent while it moves: server and copies compute it alike, each tick, from what it
// follows.
func (c *builder) follows(k *contract.Kind, p *contract.Property, d *syntax.Follows) {
	if p.Type.Form != contract.FormReal && p.Type.Form != contract.FormVec2 && p.Type.Form != contract.FormVec3 {
		c.Fail(
			d.At, "wrong-type", fmt.Sprintf("`%s` cannot move by itself: it is of the type %s", p.Name, p.Type),
			"a real or a vector can",
		)
		return
	}
	f := &contract.Follows{}
	var of *contract.Property // that copies compute the motion from
	switch x := d.What.(type) {
	case *syntax.Ref:
		if !c.followsRate(k, p, d, x, f) {
			return
		}
		of = f.Rate
	case *syntax.Member:
		if !c.followsHolder(k, p, d, x, f) {
			return
		}
		of = f.Holder
	default:
		c.Fail(
			d.What.Span(), "expected", "this is nothing that could be followed",
			"`follows vel`, or `follows holder.pos by vec(0, 1)`",
		)
		return
	}
	// Copies compute the motion themselves: who gets the property needs what it follows.
	if of.To < p.To {
		c.Fail(
			d.What.Span(), "wrong-place",
			fmt.Sprintf("`%s` goes to %s, and what it follows only to %s", p.Name, p.To, of.To),
			fmt.Sprintf("who gets `%s` computes it from `%s`: give both the same audience", p.Name, of.Name),
		)
		return
	}
	p.Follows = f
	if f.Holder != nil {
		// What it is attached to may be in a kind whose clauses are read after these.
		c.Later = append(c.Later, func() { f.Open = everyoneCanCompute(f, k, p) })
	}
}

// followsRate reads a property that moves by a rate, another property of its kind. It reports whether that is right.
//
// The rate is in units a second. The slots that the motion needs stand behind those of the kind's
// properties, and are no property of their own.
func (c *builder) followsRate(
	k *contract.Kind, p *contract.Property, d *syntax.Follows, x *syntax.Ref, f *contract.Follows,
) bool {
	f.Rate = k.Property(x.Text)
	if f.Rate == nil {
		c.Fail(
			x.At, "unknown-name", fmt.Sprintf("%s has no property `%s`", k.Name, x.Text),
			typing.Suggest(
				x.Text, typing.PropertyNames(k),
				"name the property that holds its rate, as in `pos: Place follows vel`",
			),
		)
		return false
	}
	c.Used[f.Rate.Offset] = true
	if f.Rate.Type.Form != p.Type.Form || f.Rate == p {
		c.Fail(
			x.At, "wrong-type", fmt.Sprintf("the rate of `%s` is of the type %s", p.Name, f.Rate.Type),
			"it has to be "+string(p.Type.Form)+" too, in units a second",
		)
		return false
	}
	if d.By != nil {
		c.Fail(d.By.Span(), "clash", "what follows a rate has no offset", "`by` belongs to `follows holder.pos`")
	}
	// where it began to move as it does, at which rate, where it was last, and since which tick
	f.Slot = k.Slots
	k.Slots += 3*p.Type.Width() + 1
	return true
}

// followsHolder reads a property that is attached to one of another entity, which a ref names. It reports whether that
// is right: every kind that the ref may name has to have such a property.
//
// To is a table by the kind's index, since each kind has the property in another place. By stays nil
// for an offset of zero.
func (c *builder) followsHolder(
	k *contract.Kind, p *contract.Property, d *syntax.Follows, x *syntax.Member, f *contract.Follows,
) bool {
	if r, ok := x.X.(*syntax.Ref); ok {
		f.Holder = k.Property(r.Text)
	}
	if f.Holder == nil || f.Holder.Type.Form != contract.FormEntity {
		c.Fail(
			x.X.Span(), "unknown-name", "this is no ref that something could be attached to",
			"as in `pos: Place follows holder.pos`, where `holder: ref Diver`",
		)
		return false
	}
	c.Used[f.Holder.Offset] = true
	f.To = make([]*contract.Property, len(c.Contract.Kinds)+1)
	for _, kind := range f.Holder.Type.Kinds {
		to := kind.Property(x.Name.Text)
		if to == nil || to.Type.Form != p.Type.Form {
			c.Fail(
				x.Name.At, "unknown-name",
				fmt.Sprintf("%s has no property `%s` of the type %s", kind.Name, x.Name.Text, p.Type.Form),
				typing.Suggest(x.Name.Text, typing.PropertyNames(kind), "name what it is attached to"),
			)
			return false
		}
		c.Used[to.Offset] = true
		f.To[kind.Index] = to
	}
	if d.By != nil {
		env := &typing.Scope{Unit: c.Unit, Constant: true}
		if v := env.Value(d.By, &contract.Type{Form: p.Type.Form}, "the offset"); v != nil {
			f.By, _ = c.Slots(v)
		}
	}
	return true
}

// everyoneCanCompute reports whether everyone has what an attached property is computed from.
//
// Then no client ever needs the property itself while it is attached. It is not so when a part of the
// chain may be missing in some copy or be older there: by its audience, by `at most`, by `loose`, or
// because it is attached to something itself.
func everyoneCanCompute(f *contract.Follows, k *contract.Kind, p *contract.Property) bool {
	whole := func(k *contract.Kind, p *contract.Property) bool {
		return k.To == contract.Everyone && p.To == contract.Everyone && p.AtMost == 0 && !p.Loose
	}
	if !whole(k, p) || !whole(k, f.Holder) {
		return false
	}
	for _, of := range f.Holder.Type.Kinds {
		to := f.To[of.Index]
		if to == nil || !whole(of, to) || to.Follows != nil && (to.Follows.Rate == nil || to.Follows.Rate.AtMost > 0) {
			return false
		}
	}
	return true
}
