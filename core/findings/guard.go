package findings

import (
	"fmt"
	"regexp"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/flow"
)

// guards looks at each request by itself: who may send it, what it checks, and how often it may come.
//
// Each request is looked at from the point of what its caller can know (flow.AtRequest). Several
// findings may be about one request.
func (c *finder) guards() {
	for _, r := range c.Contract.Requests {
		open, anyone := openTo(r)
		if open && len(r.Checks) == 0 && len(r.Body) > 0 {
			c.find(
				"unguarded", r.At.Start, r.NameAt,
				fmt.Sprintf("`%s` may come from %s and checks nothing", r.FullName(), c.Contract.WhoText(r.From)),
				"say what has to hold: check phase == dive else deny \"no dive is on\"",
			)
		}
		if !open && r.Kind.Per >= 0 && r.Limit == nil && r.Pause == nil && floods(r) && !shutsItself(r) {
			c.find(
				"unlimited", r.At.Start, r.NameAt,
				fmt.Sprintf("`%s` may come as often as its owner likes, and reaches everyone each time", r.FullName()),
				"bound it: limit 4 per second",
			)
		}
		if anyone && r.Limit == nil && r.Pause == nil {
			c.find(
				"unlimited", r.At.Start, r.NameAt,
				fmt.Sprintf(
					"`%s` may come from %s, as often as a client likes", r.FullName(), c.Contract.WhoText(r.From),
				),
				"bound it: limit 4 per second",
			)
		}
		if anyone {
			c.impersonated(r)
		}
		at := flow.AtRequest(c.Contract, r)
		c.unfair(at, r)
		c.hopeless(at, r)
		c.known(at, r)
	}
	for _, k := range c.Contract.Kinds {
		for _, p := range k.Properties {
			if p.Set != nil {
				c.unruled(k, p)
			}
		}
	}
}

// openTo reports whether a request may come from more than its owner, and whether any client can come to send it: one
// with the role that a client without a wish gets.
//
// Terms with `but` take away and open nothing.
func openTo(r *contract.Request) (open, anyone bool) {
	for _, w := range r.From {
		switch {
		case w.But:
		case w.Sort == contract.ToEveryone:
			open = true
			anyone = true
		case w.Sort == contract.ToRole:
			open = true
			anyone = anyone || w.Role == 0
		}
	}
	return open, anyone
}

// shutsItself reports whether a request that was accepted is refused from then on: a check asks for a value that its
// body surely takes away, and nothing in the body gives back.
//
// Such a request needs no limit: it can be accepted once until something else opens it again. Only
// constants and statements that run in any case are considered, so it never says so of a request that
// could go on.
func shutsItself(r *contract.Request) bool {
	var wants []*contract.Expr
	for _, s := range r.Head {
		if s.Op == contract.OpCheck {
			wants = appendWants(wants, s.Value)
		}
	}
	surely := slices.Clone(r.Body) // what its body surely runs, those of its own actions included
	for _, s := range r.Body {
		if s.Op == contract.OpRun && s.Num == 0 && s.Act.Body != nil &&
			(s.X.Op == contract.OpSelf || s.X.Op == contract.OpShared) {
			surely = append(surely, s.Act.Body.Stmts...)
		}
	}
	return slices.ContainsFunc(wants, func(want *contract.Expr) bool {
		property := want
		if want.Op != contract.OpGet {
			property = want.Args[0]
		}
		shut := false
		back := false
		for i := range surely {
			shut = shut || setsAgainst(want, &surely[i])
			contract.EachInside(&surely[i], func(s *contract.Stmt) {
				back = back ||
					s.Op == contract.OpSet && sameProperty(property, s.X) && !setsAgainst(want, s)
			})
		}
		return shut && !back
	})
}

// appendWants appends what a check asks for: comparisons of a property with a constant, and properties that have to be
// true or false. All parts of an `and` are asked for.
//
// Anything else in a check is passed over: it may only be harder to meet.
func appendWants(wants []*contract.Expr, x *contract.Expr) []*contract.Expr {
	switch x.Op {
	case contract.OpAnd:
		return appendWants(appendWants(wants, x.Args[0]), x.Args[1])
	case contract.OpGet:
		return append(wants, x)
	case contract.OpNot:
		if x.Args[0].Op == contract.OpGet {
			return append(wants, x)
		}
	case contract.OpEq:
		if x.Args[0].Op == contract.OpGet && x.Args[1].Op == contract.OpConst {
			return append(wants, x)
		}
	}
	return wants
}

// sameProperty reports whether two expressions surely read the same property of the same entity: of self, or of the
// only entity of a shared kind.
//
// Two entities that are reached in other ways may differ, even when they look alike.
func sameProperty(a, b *contract.Expr) bool {
	if a.Op != contract.OpGet || b.Op != contract.OpGet || a.Prop == nil || a.Prop != b.Prop {
		return false
	}
	shared := func(x *contract.Expr) bool { return x.Type.Kinds[0].Shared }
	return a.Args[0].Op == contract.OpSelf && b.Args[0].Op == contract.OpSelf ||
		shared(a.Args[0]) && shared(b.Args[0])
}

// setsAgainst reports whether a statement sets the property that want asks for to a constant with which want is false.
func setsAgainst(want *contract.Expr, s *contract.Stmt) bool {
	if s.Op != contract.OpSet || s.Value.Op != contract.OpConst || s.Value.Nums != nil {
		return false
	}
	switch want.Op {
	case contract.OpEq:
		return sameProperty(want.Args[0], s.X) && want.Args[1].Num != s.Value.Num
	case contract.OpNot:
		return sameProperty(want.Args[0], s.X) && s.Value.Num != 0
	}
	return sameProperty(want, s.X) && s.Value.Num == 0
}

// floods reports whether each run of a request sends something to many: an event, or what is spawned.
func floods(r *contract.Request) bool {
	found := false
	contract.EachStmt(r.Body, func(s *contract.Stmt) {
		found = found || s.Op == contract.OpSpawn || s.Op == contract.OpTell && many(s.Who)
	})
	return found
}

// impersonated looks for a client, or somebody's own entity, that comes as an argument and is then used as who is
// acting.
//
// A request that looks at its caller anywhere is trusted: it may compare the two, or need both.
func (c *finder) impersonated(r *contract.Request) {
	caller := func(x *contract.Expr) bool { return x.Op == contract.OpCaller }
	if contract.AnyExpr(r.Head, caller) || contract.AnyExpr(r.Body, caller) ||
		slices.ContainsFunc(append(r.Head, r.Body...), func(s contract.Stmt) bool {
			return slices.ContainsFunc(s.Who, func(w contract.Who) bool { return w.Sort == contract.ToCaller })
		}) {
		return
	}
	// Arguments are the body's first locals: the register says which argument an expression reads.
	slot := int64(0)
	for _, p := range r.Params {
		k := p.Type.Kind()
		if p.Type.Form == contract.FormClient || k != nil && k.Per >= 0 {
			argument := func(x *contract.Expr) bool {
				return x.Op == contract.OpLocal && !x.Type.Holder() &&
					x.Num == slot
			}
			if what := c.actsFor(r, argument); what != "" {
				c.find(
					"impersonation", r.At.Start, r.NameAt,
					fmt.Sprintf(
						"`%s` takes who is acting from its argument `%s`: any client can name another one, and %s",
						r.FullName(), p.Name, what,
					),
					"who asked is `caller`: use caller"+map[bool]string{
						true:  "",
						false: "." + kindName(k),
					}[p.Type.Form == contract.FormClient]+" in its place, or check that the two are the same",
				)
				return
			}
		}
		if !p.Type.Holder() {
			slot += int64(p.Type.Width())
		}
	}
}

// kindName returns the name of a kind, and "" for none.
func kindName(k *contract.Kind) string {
	if k == nil {
		return ""
	}
	return k.Name
}

// actsFor returns what a request does with an argument that it should do with its caller.
//
// It is empty for none; of several the first one in the body is told.
func (c *finder) actsFor(r *contract.Request, argument func(x *contract.Expr) bool) string {
	out := ""
	note := func(what string) {
		if out == "" {
			out = what
		}
	}
	for _, s := range r.Body {
		contract.EachInside(&s, func(s *contract.Stmt) {
			switch s.Op {
			case contract.OpSet, contract.OpPut, contract.OpTake, contract.OpCut, contract.OpClear, contract.OpMove,
				contract.OpSplit, contract.OpPutAt, contract.OpTakeAt, contract.OpMoveAt:
				for x := s.X; x.Container() != nil; x = x.Container() {
					if x.Op == contract.OpAt && contract.Mentions(x.Args[1], argument) {
						note("what is written is counted as that one's")
					}
				}
				root := s.X.Root()
				if root.Op == contract.OpGet && contract.Mentions(root.Args[0], argument) {
					note("`" + root.Property().Name + "` of that one changes")
				} else if s.Value != nil && argument(s.Value) {
					note("that one is written down in `" + root.Property().Name + "`")
				}
			case contract.OpGive:
				if contract.Mentions(s.Value, argument) {
					note("that one becomes the owner")
				}
			case contract.OpSpawn:
				for _, set := range s.Sets {
					if argument(set.Value) {
						note("what is spawned counts as that one's")
					}
				}
			case contract.OpRun:
				if contract.Mentions(s.X, argument) {
					note("`" + s.Act.Name + "` of that one is run")
				}
			}
		})
	}
	return out
}

// eachCheck calls do for the checks of a head, at which the analysis then stands, with what they ask once the head's
// names are put aside.
//
// The analysis passes the `let`s of the head as it comes to them, because what a name holds may tell of
// what a check reads.
func eachCheck(
	r *contract.Request, at *flow.Point,
	do func(s *contract.Stmt, check *contract.Check, asks *contract.Expr, lets map[int64]*contract.Expr),
) {
	lets := map[int64]*contract.Expr{}
	for i := range r.Head {
		s := &r.Head[i]
		if s.Op == contract.OpCheck {
			do(s, &r.Checks[s.Num], unfolded(s.Value, lets, 0), lets)
			continue
		}
		if !s.Value.Type.Holder() {
			lets[s.Num] = s.Value
		}
		at.Pass(s)
	}
}

// unfair looks at the checks that strike or expel: what they read has to be known to the caller, and no clock may
// decide.
//
// A client decides by its copy, which is as old as its connection is slow. One that plays by the rules
// must not lose its seat for a value that it could not have.
func (c *finder) unfair(at *flow.Point, r *contract.Request) {
	eachCheck(r, at, func(s *contract.Stmt, check *contract.Check, asks *contract.Expr, _ map[int64]*contract.Expr) {
		if check.Then != contract.ThenStrike && check.Then != contract.ThenExpel {
			return
		}
		what := ""
		note := func(s string) {
			if what == "" {
				what = s
			}
		}
		contract.Mentions(asks, func(x *contract.Expr) bool {
			switch x.Op {
			case contract.OpSince:
				note("how long it is since `" + x.Prop.Name + "` changed, and the clock of a late client runs behind")
			case contract.OpSeen:
				note("what clients have confirmed, which only the server knows")
			case contract.OpNow:
				note("the clock, which a late client reads behind")
			case contract.OpLocal:
				if x.Type.Form == contract.FormInstant {
					note("an instant, which a late client reads behind")
				}
			case contract.OpGet, contract.OpComputed:
				for _, k := range x.Args[0].Type.Kinds {
					p := x.Prop
					if x.Props != nil {
						p = x.Props[k.Index]
					}
					name := "`" + k.Name + "." + p.Name + "`"
					switch {
					case p.To != contract.Everyone &&
						!at.CallerSees(k, p, x.Args[0]):
						note(name + ", which goes to " + c.Contract.ToText(p.To, p.Who) + ": its caller may not see it")
					case p.AtMost > 0:
						note(
							fmt.Sprintf(
								"%s, which is sent at most %d times a second: its caller may hold an older value", name,
								p.AtMost,
							),
						)
					case p.Loose:
						note(name + ", which may be lost on the way: its caller may hold an older value")
					}
				}
			}
			return false
		})
		if what != "" {
			then := map[contract.Then]string{contract.ThenStrike: "strikes", contract.ThenExpel: "expels"}[check.Then]
			c.find(
				"unfair", r.At.Start, s.At, fmt.Sprintf("this check %s by %s", then, what),
				"an honest client can fail it: use `deny`, and strike for what its caller surely knows",
			)
		}
	})
}

var identifier = regexp.MustCompile(`\.?[a-z_][A-Za-z0-9_]*`)

// known finds the checks that a client can evaluate itself: they read what the caller can see, name nothing that only
// the server has, and ask no clock.
//
// A check's Known lets the outline offer it to clients, as text: everything that the text names has to
// be in the outline as well.
func (c *finder) known(at *flow.Point, r *contract.Request) {
	eachCheck(r, at, func(s *contract.Stmt, check *contract.Check, asks *contract.Expr, lets map[int64]*contract.Expr) {
		server := contract.Mentions(asks, func(x *contract.Expr) bool {
			return x.Op == contract.OpReveal || x.Op == contract.OpNow || x.Op == contract.OpSince ||
				x.Op == contract.OpSeen || x.Op == contract.OpPublic ||
				x.Op == contract.OpCallFn || x.Op == contract.OpTable ||
				x.Op == contract.OpSetting || partial(x)
		})
		for _, w := range identifier.FindAllString(check.Text, -1) {
			server = server || c.Consts[w] != nil && !c.Contract.IsKnown(w)
			if server {
				break
			}
		}
		// its text speaks of what a `let` names
		named := contract.Mentions(s.Value, func(x *contract.Expr) bool {
			return x.Op == contract.OpLocal &&
				lets[x.Num] != nil
		})
		check.Known = !server && !named && at.CallerKnows(s.Value)
	})
}

// partial reports whether an expression reads what a client may see a part of only, or late: what is near, what is
// throttled or may be lost, or a query over a kind that it does not see all of. A client's own answer would be another
// one.
func partial(x *contract.Expr) bool {
	near := func(who []contract.Who) bool {
		return slices.ContainsFunc(who, func(w contract.Who) bool {
			return w.Aud != nil && w.Aud.Cond != nil &&
				contract.Nearness(w.Aud.Cond.Value)
		})
	}
	if x.Op == contract.OpGet || x.Op == contract.OpComputed {
		for _, k := range x.Args[0].Type.Kinds {
			p := x.Prop
			if x.Props != nil {
				p = x.Props[k.Index]
			}
			// what the outline lacks it does not name either
			if k.To == contract.Nobody || p.To == contract.Nobody || p.AtMost > 0 || p.Loose || near(k.Who) ||
				near(p.Who) {
				return true
			}
		}
	}
	return x.Query != nil &&
		slices.ContainsFunc(x.Query.Kinds, func(k *contract.Kind) bool { return k.To != contract.Everyone })
}

// unfolded puts the values of a head's names in place of the names.
//
// The depth is bounded, because names of names could make the expression grow without end; what lies
// deeper stays a name, which findings take for nothing in particular.
func unfolded(x *contract.Expr, lets map[int64]*contract.Expr, depth int) *contract.Expr {
	if x == nil || depth > 30 {
		return x
	}
	if v := lets[x.Num]; x.Op == contract.OpLocal && !x.Type.Holder() && v != nil {
		return unfolded(v, lets, depth+1)
	}
	if len(x.Args) == 0 {
		return x
	}
	out := *x
	out.Args = slices.Clone(x.Args)
	for i, a := range out.Args {
		out.Args[i] = unfolded(a, lets, depth+1)
	}
	return &out
}

// unruled looks for what a client may write as it likes.
//
// The registers of a rule are the old value's and then the new one's. It cannot tell whether a rule is
// a good one, only that it looks at the right things.
func (c *finder) unruled(k *contract.Kind, p *contract.Property) {
	rule := p.Set.Rule
	name := "`" + k.Name + "." + p.Name + "`"
	number := p.Type.Form == contract.FormReal || p.Type.Form == contract.FormVec2 ||
		p.Type.Form == contract.FormVec3 || p.Type.Form == contract.FormInt
	is := func(slot int) func(x *contract.Expr) bool {
		return func(x *contract.Expr) bool { return x.Op == contract.OpLocal && x.Num == int64(slot) }
	}
	old := is(0)
	new := is(p.Type.Width())
	switch {
	case p.Set.Pace == nil && rule == nil:
		c.find(
			"unruled", p.Offset, p.NameAt,
			fmt.Sprintf("%s is set by a client as it likes: any value of its type, as often as it likes", name),
			"bound each step: `pace distance(old, new) 8 per second`, or say what has to hold: `when new >= old`",
		)
	case rule != nil && p.Set.Pace == nil && !contract.Mentions(rule.Value, new):
		c.find(
			"unruled", p.Offset, p.NameAt,
			fmt.Sprintf("the rule of %s does not look at what is written: it lets any value pass", name),
			"ask something of `new`: `when distance(old, new) <= 1`",
		)
	case p.Set.Pace != nil && !contract.Mentions(p.Set.Pace.Value, new):
		c.find(
			"unruled", p.Offset, p.NameAt,
			fmt.Sprintf("the pace of %s does not look at what is written: a step of any length costs the same", name),
			"measure the step: `pace distance(old, new) 8 per second`",
		)
	case p.Set.Pace == nil && number && !contract.Mentions(rule.Value, func(x *contract.Expr) bool {
		return (x.Op >= contract.OpEq && x.Op <= contract.OpGe) && contract.Mentions(x, old) &&
			contract.Mentions(x, new)
	}):
		c.find(
			"unruled", p.Offset, p.NameAt,
			fmt.Sprintf("%s may jump: nothing compares what is written with what was there", name),
			"bound each step: `pace distance(old, new) 8 per second`",
		)
	}
}

// hopeless looks for what can never happen: a check that always fails or always holds, and callers that cannot pass.
//
// Decided goes by the ranges of types alone, so what it says is certain; what depends on the game's
// state is left open.
func (c *finder) hopeless(at *flow.Point, r *contract.Request) {
	c.unsendable(r)
	role := r.CallerRole()
	eachCheck(r, at, func(s *contract.Stmt, _ *contract.Check, _ *contract.Expr, _ map[int64]*contract.Expr) {
		switch at.Decided(s.Value) {
		case -1:
			c.find(
				"impossible", r.At.Start, s.At,
				fmt.Sprintf("this check never holds, so that nobody can ever send `%s` with success", r.FullName()),
				"compare with a value that can be; or remove the request",
			)
		case 1:
			c.find(
				"impossible", r.At.Start, s.At, "this check always holds: it keeps nobody out",
				"compare with a value that keeps somebody out; or remove it",
			)
		}
		// What only clients of another role have is nothing to this caller.
		if role >= 0 {
			contract.Mentions(s.Value, func(x *contract.Expr) bool {
				if x.Op == contract.OpGet && x.Args[0].Op == contract.OpEntityOf &&
					x.Args[0].Args[0].Op == contract.OpCaller &&
					x.Args[0].Kind.Per != role {
					k := x.Args[0].Kind
					c.find(
						"impossible", r.At.Start, s.At,
						fmt.Sprintf(
							"this check never holds: `%s` comes from %s, who have no %s", r.FullName(),
							c.Contract.Roles[role], k.Name,
						),
						"let it come from "+c.Contract.Roles[k.Per]+", or read something else",
					)
				}
				return false
			})
		}
	})
	contract.EachStmt(r.Body, func(s *contract.Stmt) { c.neverIf(at, r.At.Start, s) })
}

// unsendable looks for a request that no client is ever able to send, whatever its checks say.
//
// A kind made of parts is spared the last question: the part may be meant for kinds that are seen more
// widely.
func (c *finder) unsendable(r *contract.Request) {
	nobody := len(r.From) > 0 &&
		!slices.ContainsFunc(r.From, func(w contract.Who) bool { return !w.But && w.Sort != contract.ToNobody })
	if nobody {
		c.find(
			"impossible", r.At.Start, r.NameAt,
			fmt.Sprintf("nobody can ever send `%s`: it is from nobody", r.FullName()),
			"say who may: `from "+c.Contract.Roles[0]+"`",
		)
	}
	onlyOwner := len(r.From) == 1 && r.From[0].Sort == contract.ToOwner
	if onlyOwner && r.Kind.Per < 0 && r.Kind.GivenAway && !c.comesToSomebody(r.Kind) {
		c.find(
			"impossible", r.At.Start, r.NameAt,
			fmt.Sprintf(
				"nobody can ever send `%s`: only its owner may, and only its owner could give `%s` away", r.FullName(),
				r.Kind.Name,
			),
			"let others ask for it: `from "+c.Contract.Roles[0]+"`",
		)
	}
	if !nobody && !r.Reachable() && len(r.Kind.Parts) == 0 {
		c.find(
			"impossible", r.At.Start, r.NameAt,
			fmt.Sprintf(
				"nobody can ever send `%s`: who may knows nothing of `%s`, which goes to %s", r.FullName(), r.Kind.Name,
				c.Contract.ToText(r.Kind.To, r.Kind.Who),
			),
			"let who may send it see the kind; or write an `action`",
		)
	}
}

// comesToSomebody reports whether anything but what only an owner can ask gives a kind to a client.
//
// Otherwise the first owner could only come from a request that needs an owner already.
func (c *finder) comesToSomebody(k *contract.Kind) bool {
	for _, p := range c.Contract.Pieces() {
		if r := p.Request; r != nil && r.Kind == k && len(r.From) == 1 && r.From[0].Sort == contract.ToOwner {
			continue
		}
		found := false
		contract.EachStmt(p.Stmts, func(s *contract.Stmt) {
			found = found ||
				s.Op == contract.OpGive && s.Value.Op != contract.OpConst && slices.Contains(s.X.Type.Kinds, k)
		})
		if found {
			return true
		}
	}
	return false
}

// neverIf looks for a branch that is never taken, and an event that nobody is told.
//
// The `if` that a `match` is made of has no place in the text, and is no one's mistake.
func (c *finder) neverIf(at *flow.Point, decl int, s *contract.Stmt) {
	switch {
	case s.Op == contract.OpIf && s.At.End > 0 && !s.AlwaysTrue() && at.Decided(s.Value) < 0:
		c.find(
			"impossible", decl, s.At, "the condition of this `if` never holds",
			"compare with a value that can be; or remove it",
		)
	case s.Op == contract.OpTell && len(s.Who) > 0 &&
		!slices.ContainsFunc(s.Who, func(w contract.Who) bool { return !w.But && w.Sort != contract.ToNobody }):
		c.find(
			"impossible", decl, s.At, fmt.Sprintf("nobody is ever told `%s` here", s.Event.FullName()),
			"say who is: `tell everyone "+s.Event.Name+"(…)`",
		)
	}
}
