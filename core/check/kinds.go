package check

import (
	"fmt"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
	"kamerad.example/core/typing"
)

// kind reads the head of a kind or part. Its members are read once all heads are known.
//
// Per is −1 for a kind that is not `per` a role. After an unknown role it is the first one, so that the
// kind is read as what it was meant to be.
func (c *builder) kind(d *syntax.Entity) {
	if !c.freeTypeName(d.Name) {
		return
	}
	if d.Sort == syntax.SortPart {
		c.Parts[d.Name.Text] = &typing.Part{Tree: d}
		return
	}
	k := &contract.Kind{
		Index:  len(c.Contract.Kinds),
		Name:   d.Name.Text,
		Shared: d.Sort == syntax.SortShared,
		Per:    -1,
		To:     contract.Everyone,
		At:     d.At,
	}
	if d.Per.Text != "" {
		k.Per = slices.Index(c.Contract.Roles, d.Per.Text)
		if k.Per < 0 {
			c.Fail(
				d.Per.At, "unknown-name", fmt.Sprintf("the role `%s` is not declared", d.Per.Text),
				typing.Suggest(
					d.Per.Text, c.Contract.Roles, "roles are listed in a line such as `roles player, referee`",
				),
			)
		}
		k.Per = max(k.Per, 0)
		c.Used[typing.RoleUse(d.Per.Text)] = true
	}
	c.Kinds[k.Name] = k
	c.Trees[k] = d
	c.Contract.Kinds = append(c.Contract.Kinds, k)
}

// audienceOf reads who gets a kind, its properties and its holds.
//
// A property reaches nobody whom its kind does not reach: of the two audiences the narrower counts.
// Where one of them is computed (Some) they stay apart, and the engine asks for both.
func (c *builder) audienceOf(k *contract.Kind, d *syntax.Entity) {
	if d.To != nil {
		k.To, k.Who = c.to(k, d.To)
	}
	// Held inputs are properties of the model, with a tree of their own.
	audiences := map[string]*syntax.Audience{}
	for _, p := range d.Properties {
		audiences[p.Name.Text] = p.To
	}
	for _, h := range d.Holds {
		audiences[h.Name.Text] = h.To
	}
	for _, p := range k.Properties {
		if a := audiences[p.Name]; a != nil {
			p.To, p.Who = c.to(k, a)
		}
		if p.To == contract.Nobody || k.To == contract.Nobody {
			p.To = contract.Nobody
		} else if p.To != contract.Some && k.To != contract.Some {
			p.To = min(p.To, k.To)
		}
	}
}

// to reads the audience of a property or kind.
//
// The three audiences that have a name of their own need no computing; all others are Some, with their
// terms. After a mistake it is Everyone, which raises no further ones.
func (c *builder) to(k *contract.Kind, a *syntax.Audience) (contract.Audience, []contract.Who) {
	if len(a.Terms) == 1 {
		if r, ok := a.Terms[0].Who.(*syntax.Ref); ok {
			switch r.Text {
			case "everyone":
				return contract.Everyone, nil
			case "owner":
				return contract.Owner, nil
			case "nobody":
				return contract.Nobody, nil
			}
		}
	}
	who := c.Condition(k).Who(a, "gets a value")
	if who == nil {
		return contract.Everyone, nil
	}
	return contract.Some, who
}

// members reads what a kind declares, but for what its members compute or do: that may name any member of any kind.
//
// All members of a kind share one set of names. The places of requests, events and actions among those
// of the contract are their numbers on the wire and in records: they follow the order of the text.
func (c *builder) members(k *contract.Kind, d *syntax.Entity) {
	c.Bounded(d.Name.At, "the number of properties", int64(len(d.Properties)+len(d.Holds)), 0, contract.MaxProperties)
	c.Bounded(d.Name.At, "the number of requests", int64(len(d.Requests)), 0, contract.MaxRequests)
	c.Bounded(d.Name.At, "the number of events", int64(len(d.Events)), 0, contract.MaxEvents)
	taken := map[string]bool{}
	free := func(n syntax.Ident) {
		if n.Text != "" && taken[n.Text] {
			c.Fail(n.At, "repeated", fmt.Sprintf("%s has `%s` already", k.Name, n.Text), "choose another name")
		}
		taken[n.Text] = true
	}
	for _, p := range d.Properties {
		free(p.Name)
		if q := c.property(k, p); q != nil {
			k.Properties = append(k.Properties, q)
		}
	}
	for _, h := range d.Holds {
		free(h.Name)
		c.hold(k, h)
	}
	for _, e := range d.Events {
		free(e.Name)
		if e := c.event(e, k); e != nil {
			k.Events = append(k.Events, e)
			c.Contract.Events = append(c.Contract.Events, e)
		}
	}
	k.OnChange = make([]*contract.Body, len(k.Properties))
	c.Bounded(d.Name.At, "the number of actions", int64(len(d.Actions)), 0, contract.MaxActions)
	for _, a := range d.Actions {
		free(a.Name)
		q := &contract.Action{
			Index:  len(c.Contract.Actions),
			Kind:   k,
			Name:   a.Name.Text,
			Params: c.Params(a.Params, typing.InBody),
			Offset: a.At.Start,
		}
		k.Actions = append(k.Actions, q)
		c.Contract.Actions = append(c.Contract.Actions, q)
	}
	for _, r := range d.Requests {
		free(r.Name)
		q := &contract.Request{
			Index:  len(c.Contract.Requests),
			Kind:   k,
			Name:   r.Name.Text,
			File:   c.Source.File(r.At.Start),
			Line:   c.LineOf(r.At),
			At:     r.At,
			NameAt: r.Name.At,
		}
		k.Requests = append(k.Requests, q)
		c.Contract.Requests = append(c.Contract.Requests, q)
	}
}

// hold declares a held input: a property of the kind that is true while its owner holds it. It takes two slots of the
// row: whether it is held, and the tick at which its lease ends.
//
// The wire sends it like any other property, so that others may see who holds what.
func (c *builder) hold(k *contract.Kind, h *syntax.Hold) {
	p := &contract.Property{
		Index:   len(k.Properties),
		Name:    h.Name.Text,
		Type:    &contract.Type{Form: contract.FormBool},
		Default: []int64{0},
		Given:   true,
		To:      contract.Everyone,
		Slot:    k.Slots,
		Path:    -1,
		Offset:  h.At.Start,
		NameAt:  h.Name.At,
		Line:    c.LineOf(h.At),
	}
	env := &typing.Scope{Unit: c.Unit, Constant: true}
	ticks, ms, _ := env.Time(h.Lease, "the lease")
	p.Hold = &contract.Hold{Lease: ticks, Ms: ms, Slot: k.Slots + 1}
	k.Slots += 2
	k.Properties = append(k.Properties, p)
}

// property reads the declaration of a property, with its default. It returns nil when the type could not be read.
//
// Offset, the place of the declaration in the text, is the property's key in Used and Changes. It is
// the same for all kinds that have the property from one part, which makes a use in any of them count
// for all.
func (c *builder) property(k *contract.Kind, d *syntax.Property) *contract.Property {
	p := &contract.Property{
		Index:  len(k.Properties),
		Name:   d.Name.Text,
		Type:   c.Type(d.Type, typing.InProperty),
		To:     contract.Everyone,
		Given:  d.Default != nil,
		Was:    d.Was.Text,
		Path:   -1,
		Offset: d.At.Start,
		NameAt: d.Name.At,
		Line:   c.LineOf(d.At),
	}
	if p.Type == nil {
		return nil
	}
	p.Slot = k.Slots
	k.Slots += p.Type.Width()
	for _, rule := range clauseRules {
		rule(c, k, p, d)
	}
	c.defaultOf(p, d)
	return p
}

// defaultOf reads the default of a property, or makes one for a property that declares none.
//
// A property whose Given is false still has one, which counts for kinds that are there without a spawn.
func (c *builder) defaultOf(p *contract.Property, d *syntax.Property) {
	// What has no default starts nearest to zero, empty, or at an enum's first value.
	p.Default = implied(nil, p.Type)
	if d.Default == nil {
		return
	}
	env := &typing.Scope{Unit: c.Unit, Constant: true}
	v := env.Value(d.Default, p.Type, "the default of `"+p.Name+"`")
	if v == nil {
		return
	}
	slots, ok := c.Slots(v)
	if !ok {
		c.Fail(
			d.Default.Span(), "not-constant", "this default is computed",
			"a default is constant; `on spawn` and `on start` can compute one",
		)
		return
	}
	p.Default = slots
}

// event reads the declaration of an event; k is nil for one of the contract itself.
//
// Index is its place among all events of the contract, which the caller appends it to.
func (c *builder) event(d *syntax.Event, k *contract.Kind) *contract.Event {
	e := &contract.Event{
		Index:  len(c.Contract.Events),
		Kind:   k,
		Name:   d.Name.Text,
		Params: c.Params(d.Params, typing.InMessage),
		Loose:  d.Loose,
		Offset: d.At.Start,
	}
	if k == nil {
		for _, other := range c.Contract.Events {
			if other.Kind == nil && other.Name == e.Name {
				c.Fail(
					d.Name.At, "repeated", fmt.Sprintf("the contract has the event `%s` already", e.Name),
					"choose another name",
				)
				return nil
			}
		}
	}
	return e
}

// wholeKind reads what the members of a kind do, once all members of all kinds are known.
//
// Audiences come first, since clauses compare them; clauses come before bodies, because a body may not
// assign to what is held or sent once.
func (c *builder) wholeKind(k *contract.Kind) {
	d := c.Trees[k]
	c.audienceOf(k, d)
	c.clauses(k, d)
	c.readsOfComputed(k, d)
	for i, r := range k.Requests {
		c.request(r, d.Requests[i])
	}
	c.bodies(k, d)
}

// bodies reads the handlers, timers and actions of a kind.
//
// k.Actions has one entry for each tree in d.Actions, in the same order. A timer takes one slot of the
// row, for the tick at which it is due.
func (c *builder) bodies(k *contract.Kind, d *syntax.Entity) {
	for i, a := range d.Actions {
		if a.Body == nil {
			continue // a part only needs it
		}
		env := &typing.Scope{Unit: c.Unit, Kind: k, Action: k.Actions[i]}
		env.Arguments(a.Params, k.Actions[i].Params)
		k.Actions[i].Body = env.Body(a.Body, a.At)
		k.Actions[i].Body.Params = k.Actions[i].Params
	}
	for _, n := range d.Needs {
		i := slices.IndexFunc(k.Actions, func(a *contract.Action) bool { return a.Name == n.Name.Text })
		if i < 0 && c.InPart == nil {
			c.Fail(
				d.Name.At, "unknown-name",
				fmt.Sprintf("%s has no action `%s`, which a part of it needs", k.Name, n.Name.Text),
				"declare it: action "+n.Name.Text+"(…) { … }",
			)
		} else if i >= 0 &&
			// The names of arguments may differ; the calls in the part give values by place.
			!slices.EqualFunc(
				k.Actions[i].Params, c.Params(n.Params, typing.InBody),
				func(a, b contract.Param) bool { return a.Type.String() == b.Type.String() },
			) {
			c.Fail(
				d.Name.At, "arguments",
				fmt.Sprintf("the action `%s` of %s has other arguments than a part of it needs", n.Name.Text, k.Name),
				"give it the same types in the same order",
			)
		}
	}
	for _, h := range d.Handlers {
		c.handler(k, h)
	}
	c.Bounded(d.Name.At, "the number of timers", int64(len(d.Timers)), 0, contract.MaxTimers)
	for _, t := range d.Timers {
		timer := &contract.Timer{
			At:    t.At,
			After: t.After,
			Slot:  k.Slots,
		}
		timer.Ticks, _, timer.Wait = c.wait(c.Condition(k), t.Window, "how long it waits")
		k.Slots++
		if t.While != nil {
			timer.While = c.Condition(k).Computed(
				t.While, &contract.Type{Form: contract.FormBool}, "the condition of a timer", t.At,
			)
		}
		env := &typing.Scope{Unit: c.Unit, Kind: k}
		env.Enter()
		timer.Body = env.Body(t.Body, t.At)
		k.Timers = append(k.Timers, timer)
	}
}

// handler reads an `on` of a kind.
//
// The body is read before its place is looked up, so that its own mistakes are told even where nothing
// can wait for it.
func (c *builder) handler(k *contract.Kind, h *syntax.Handler) {
	env := &typing.Scope{
		Unit:     c.Unit,
		Kind:     k,
		Spawning: h.On.Text == "spawn",
		Ending:   h.On.Text == "despawn",
		Losing:   strings.HasPrefix(h.On.Text, "owner"),
	}
	env.Enter()
	body := env.Body(h.Body, h.At)
	at := map[string]**contract.Body{
		"start":       &k.OnStart,
		"spawn":       &k.OnSpawn,
		"despawn":     &k.OnDespawn,
		"tick":        &k.OnTick,
		"owner lost":  &k.OnOwnerLost,
		"owner leave": &k.OnOwnerLeave,
	}[h.On.Text]
	switch {
	case h.On.Text == "change":
		p := k.Property(h.Param.Text)
		if p == nil {
			c.Fail(
				h.Param.At, "unknown-name", fmt.Sprintf("%s has no property `%s`", k.Name, h.Param.Text),
				typing.Suggest(h.Param.Text, typing.PropertyNames(k), "name a property of "+k.Name),
			)
			return
		}
		c.Used[p.Offset] = true
		at = &k.OnChange[p.Index]
		if *at != nil {
			c.Fail(h.At, "repeated", fmt.Sprintf("`%s` has an `on change` already", p.Name), "put both into one")
		}
	case at == nil:
		c.Fail(
			h.On.At, "unknown-name", fmt.Sprintf("nothing is known that `on %s` could wait for", h.On.Text),
			"a kind can have on start (if shared), on spawn, on despawn, on tick, on change hull, on owner lost and "+
				"on owner leave",
		)
		return
	case h.On.Text == "start" && !k.Shared && c.InPart == nil:
		c.Fail(
			h.On.At, "never",
			fmt.Sprintf("`on start` of %s never runs: only a shared kind is there when the session starts", k.Name),
			"write `on spawn`",
		)
	case h.On.Text == "despawn" && !c.mayEnd(k, h):
		return
	case h.On.Text == "spawn" && k.Shared:
		c.Fail(
			h.On.At, "never", fmt.Sprintf("`on spawn` of %s never runs: a shared kind is there from the start", k.Name),
			"write `on start`",
		)
	case *at != nil:
		c.Fail(h.At, "repeated", fmt.Sprintf("%s has an `on %s` already", k.Name, h.On.Text), "put both into one")
	}
	*at = body
}

// mayEnd reports whether a kind may have an `on despawn`, and says so when not.
func (c *builder) mayEnd(k *contract.Kind, h *syntax.Handler) bool {
	if !c.NeedsLanguage2(h.On.At, "`on despawn`") {
		return false
	}
	if k.Shared {
		c.Fail(
			h.On.At, "never", fmt.Sprintf("`on despawn` of %s never runs: a shared kind is there to the end", k.Name),
			"remove it",
		)
	}
	return !k.Shared
}

// implied appends the slots of the value that a property has without a default: what is nearest to 0, an empty list,
// nobody.
func implied(out []int64, t *contract.Type) []int64 {
	if t.Form == contract.FormRecord {
		for _, p := range t.Parts {
			out = implied(out, p.Type)
		}
		return out
	}
	slots := make([]int64, t.Width())
	switch {
	case t.Form == contract.FormClient:
		slots[0] = contract.Nothing
	case t.Form == contract.FormRotation: // the last component of one that turns nothing is 1, the others are 0
		slots[3] = t.High
	case t.Whole() || t.Counted():
		for i := range slots {
			slots[i] = min(max(0, t.Low), t.High)
		}
	}
	return append(out, slots...)
}
