package contract

import (
	"fmt"
	"slices"
	"strings"

	"kamerad/core/syntax"
)

func (c *checker) kind(d *syntax.Entity) {
	if !c.freeTypeName(d.Name) {
		return
	}
	if d.Sort == syntax.SortPart {
		c.parts[d.Name.Text] = &part{tree: d}
		return
	}
	k := &Kind{
		Index:  len(c.out.Kinds),
		Name:   d.Name.Text,
		Shared: d.Sort == syntax.SortShared,
		Per:    -1,
		To:     Everyone,
		decl:   d.At,
	}
	if d.Per.Text != "" {
		k.Per = slices.Index(c.out.Roles, d.Per.Text)
		if k.Per < 0 {
			c.fail(
				d.Per.At, "unknown-name", fmt.Sprintf("the role `%s` is not declared", d.Per.Text),
				c.suggest(d.Per.Text, c.out.Roles, "roles are listed in a line such as `roles player, referee`"),
			)
		}
		k.Per = max(k.Per, 0)
		c.used[role(d.Per.Text)] = true
	}
	c.kinds[k.Name] = k
	c.trees[k] = d
	c.out.Kinds = append(c.out.Kinds, k)
}

// audienceOf reads who gets a kind, its properties and its holds.
func (c *checker) audienceOf(k *Kind, d *syntax.Entity) {
	if d.To != nil {
		k.To, k.Who = c.to(k, d.To)
	}
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
		if p.To == Nobody || k.To == Nobody {
			p.To = Nobody
		} else if p.To != Some && k.To != Some {
			p.To = min(p.To, k.To)
		}
	}
}

// to reads the audience of a property or kind.
func (c *checker) to(k *Kind, a *syntax.Audience) (Audience, []Who) {
	if len(a.Terms) == 1 {
		if r, ok := a.Terms[0].Who.(*syntax.Ref); ok {
			switch r.Text {
			case "everyone":
				return Everyone, nil
			case "owner":
				return Owner, nil
			case "nobody":
				return Nobody, nil
			}
		}
	}
	env := &env{
		checker: c,
		kind:    k,
		pure:    true,
		still:   true,
	}
	env.enter()
	who := env.who(a, "gets a value")
	if who == nil {
		return Everyone, nil
	}
	return Some, who
}

func (c *checker) members(k *Kind, d *syntax.Entity) {
	c.bounded(d.Name.At, "the number of properties", int64(len(d.Properties)+len(d.Holds)), 0, MaxProperties)
	c.bounded(d.Name.At, "the number of requests", int64(len(d.Requests)), 0, MaxRequests)
	c.bounded(d.Name.At, "the number of events", int64(len(d.Events)), 0, MaxEvents)
	taken := map[string]bool{}
	free := func(n syntax.Ident) {
		if n.Text != "" && taken[n.Text] {
			c.fail(n.At, "repeated", fmt.Sprintf("%s has `%s` already", k.Name, n.Text), "choose another name")
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
		p := &Property{
			Index:   len(k.Properties),
			Name:    h.Name.Text,
			Type:    &Type{Form: FormBool},
			Default: []int64{0},
			Given:   true,
			To:      Everyone,
			Slot:    k.Slots,
			Path:    -1,
			decl:    h.At.Start,
			name:    h.Name.At,
			line:    c.lineOf(h.At),
		}
		p.Hold = &Hold{Lease: c.ticks(h.Lease.At, h.Lease.Value), Ms: h.Lease.Value, Slot: k.Slots + 1}
		k.Slots += 2
		k.Properties = append(k.Properties, p)
	}
	for _, e := range d.Events {
		free(e.Name)
		if e := c.event(e, k); e != nil {
			k.Events = append(k.Events, e)
			c.out.Events = append(c.out.Events, e)
		}
	}
	k.OnChange = make([]*Body, len(k.Properties))
	c.bounded(d.Name.At, "the number of actions", int64(len(d.Actions)), 0, MaxActions)
	for _, a := range d.Actions {
		free(a.Name)
		q := &Action{
			Index:  len(c.out.Actions),
			Kind:   k,
			Name:   a.Name.Text,
			Params: c.params(a.Params, inside),
			decl:   a.At.Start,
		}
		k.Actions = append(k.Actions, q)
		c.out.Actions = append(c.out.Actions, q)
	}
	for _, r := range d.Requests {
		free(r.Name)
		q := &Request{
			Index: len(c.out.Requests),
			Kind:  k,
			Name:  r.Name.Text,
			File:  c.src.File(r.At.Start),
			Line:  c.lineOf(r.At),
			decl:  r.At,
			name:  r.Name.At,
		}
		k.Requests = append(k.Requests, q)
		c.out.Requests = append(c.out.Requests, q)
	}
}

func (c *checker) property(k *Kind, d *syntax.Property) *Property {
	p := &Property{
		Index: len(k.Properties),
		Name:  d.Name.Text,
		Type:  c.typ(d.Type, inProperty),
		To:    Everyone,
		Given: d.Default != nil,
		Was:   d.Was.Text,
		Path:  -1,
		decl:  d.At.Start,
		name:  d.Name.At,
		line:  c.lineOf(d.At),
	}
	p.Keep = d.Keep != nil
	p.Once = d.Once != nil
	p.Loose = d.Loose != nil
	p.Clamped = d.Clamped != nil
	if p.Type == nil {
		return nil
	}
	p.Slot = k.Slots
	k.Slots += p.Type.Width()
	if d.Clamped != nil && p.Type.Form != FormInt && (p.Type.Reals() == 0 || p.Type.Form == FormRotation) {
		c.fail(
			*d.Clamped, "wrong-type",
			fmt.Sprintf("`%s` is of the type %s, which has no range to clamp to", p.Name, p.Type),
			"remove `clamped`; only int, real and vectors have it",
		)
	}
	if d.AtMost != nil &&
		c.bounded(d.AtMost.At, "the number of times a second", d.AtMost.Value, 1, int64(c.out.TickRate)) {
		p.AtMost = int(d.AtMost.Value)
	}
	if d.Keep != nil && k.Per < 0 && c.inPart == nil {
		c.fail(
			*d.Keep, "wrong-place", fmt.Sprintf("`%s` cannot be kept: %s belongs to no player", p.Name, k.Name),
			"`keep` stands in a kind that is `per` a role",
		)
	}
	if d.Keep != nil && (p.Type.Has(FormEntity) || p.Type.Has(FormClient) || p.Type.Has(FormInstant)) {
		c.fail(
			*d.Keep, "wrong-type",
			fmt.Sprintf("`%s` cannot be kept: a value of the type %s means nothing in another session", p.Name, p.Type),
			"keep what it stands for",
		)
	}
	if d.Once != nil && (d.Set != nil || d.AtMost != nil || d.Loose != nil || d.Follows != nil) {
		c.fail(
			*d.Once, "clash", fmt.Sprintf("`%s` is sent once and has a clause for later changes", p.Name),
			"remove one of the two",
		)
	}
	// What has no default starts nearest to zero, empty, or at an enum's first value.
	p.Default = make([]int64, p.Type.Width())
	p.Type.Slots(0, func(i int, t *Type) {
		switch {
		case t.Form == FormClient:
			p.Default[i] = Nothing
		case t.Form == FormRotation:
			p.Default[i+3] = t.High
		case t.Form == FormInt || t.Counted():
			for j := range t.Width() {
				p.Default[i+j] = min(max(0, t.Low), t.High)
			}
		}
	})
	if p.Type.Form == FormList || p.Type.Form == FormMap {
		clear(p.Default)
	}
	if d.Default != nil {
		env := &env{checker: c, constant: true}
		if v := env.value(d.Default, p.Type, "the default of `"+p.Name+"`"); v != nil {
			slots, ok := c.slots(v)
			if !ok {
				c.fail(
					d.Default.Span(), "not-constant", "this default is computed",
					"a default is constant; `on spawn` and `on start` can compute one",
				)
				return p
			}
			p.Default = slots
		}
	}
	return p
}

func (c *checker) event(d *syntax.Event, k *Kind) *Event {
	e := &Event{
		Index:  len(c.out.Events),
		Kind:   k,
		Name:   d.Name.Text,
		Params: c.params(d.Params, inMessage),
		Loose:  d.Loose,
		decl:   d.At.Start,
	}
	if k == nil {
		for _, other := range c.out.Events {
			if other.Kind == nil && other.Name == e.Name {
				c.fail(
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
func (c *checker) wholeKind(k *Kind) {
	d := c.trees[k]
	c.audienceOf(k, d)
	c.clauses(k, d)
	for i, r := range k.Requests {
		c.request(r, d.Requests[i])
	}
	c.bodies(k, d)
}

// bodies reads the handlers, timers and actions of a kind.
func (c *checker) bodies(k *Kind, d *syntax.Entity) {
	for i, a := range d.Actions {
		if a.Body == nil {
			continue // a part only needs it
		}
		env := &env{checker: c, kind: k, action: k.Actions[i]}
		env.params(a.Params, k.Actions[i].Params)
		k.Actions[i].Body = env.body(a.Body, a.At)
		k.Actions[i].Body.Params = k.Actions[i].Params
	}
	for _, n := range d.Needs {
		i := slices.IndexFunc(k.Actions, func(a *Action) bool { return a.Name == n.Name.Text })
		if i < 0 && c.inPart == nil {
			c.fail(
				d.Name.At, "unknown-name",
				fmt.Sprintf("%s has no action `%s`, which a part of it needs", k.Name, n.Name.Text),
				"declare it: action "+n.Name.Text+"(…) { … }",
			)
		} else if i >= 0 &&
			!slices.EqualFunc(
				k.Actions[i].Params, c.params(n.Params, inside),
				func(a, b Param) bool { return a.Type.String() == b.Type.String() },
			) {
			c.fail(
				d.Name.At, "arguments",
				fmt.Sprintf("the action `%s` of %s has other arguments than a part of it needs", n.Name.Text, k.Name),
				"give it the same types in the same order",
			)
		}
	}
	for _, h := range d.Handlers {
		c.handler(k, h)
	}
	c.bounded(d.Name.At, "the number of timers", int64(len(d.Timers)), 0, MaxTimers)
	for _, t := range d.Timers {
		timer := &Timer{
			decl:  t.At,
			After: t.After,
			Ticks: c.ticks(t.Window.At, t.Window.Value),
			Slot:  k.Slots,
		}
		k.Slots++
		if t.While != nil {
			env := &env{
				checker: c,
				kind:    k,
				pure:    true,
				still:   true,
			}
			env.enter()
			timer.While = env.computed(t.While, &Type{Form: FormBool}, "the condition of a timer", t.At)
		}
		env := &env{checker: c, kind: k}
		env.enter()
		timer.Body = env.body(t.Body, t.At)
		k.Timers = append(k.Timers, timer)
	}
}

func (c *checker) handler(k *Kind, h *syntax.Handler) {
	env := &env{
		checker:  c,
		kind:     k,
		spawning: h.On.Text == "spawn",
		losing:   strings.HasPrefix(h.On.Text, "owner"),
	}
	env.enter()
	body := env.body(h.Body, h.At)
	at := map[string]**Body{
		"start":       &k.OnStart,
		"spawn":       &k.OnSpawn,
		"tick":        &k.OnTick,
		"owner lost":  &k.OnOwnerLost,
		"owner leave": &k.OnOwnerLeave,
	}[h.On.Text]
	switch {
	case h.On.Text == "change":
		p := k.Property(h.Param.Text)
		if p == nil {
			c.fail(
				h.Param.At, "unknown-name", fmt.Sprintf("%s has no property `%s`", k.Name, h.Param.Text),
				c.suggest(h.Param.Text, k.names(), "name a property of "+k.Name),
			)
			return
		}
		c.used[p.decl] = true
		at = &k.OnChange[p.Index]
		if *at != nil {
			c.fail(h.At, "repeated", fmt.Sprintf("`%s` has an `on change` already", p.Name), "put both into one")
		}
	case at == nil:
		c.fail(
			h.On.At, "unknown-name", fmt.Sprintf("nothing is known that `on %s` could wait for", h.On.Text),
			"a kind can have on start (if shared), on spawn, on tick, on change hull, on owner lost and on owner leave",
		)
		return
	case h.On.Text == "start" && !k.Shared && c.inPart == nil:
		c.fail(
			h.On.At, "never",
			fmt.Sprintf("`on start` of %s never runs: only a shared kind is there when the session starts", k.Name),
			"write `on spawn`",
		)
	case h.On.Text == "spawn" && k.Shared:
		c.fail(
			h.On.At, "never", fmt.Sprintf("`on spawn` of %s never runs: a shared kind is there from the start", k.Name),
			"write `on start`",
		)
	case *at != nil:
		c.fail(h.At, "repeated", fmt.Sprintf("%s has an `on %s` already", k.Name, h.On.Text), "put both into one")
	}
	*at = body
}
