package contract

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"kamerad/core/syntax"
)

// guards looks at each request by itself: who may send it, what it checks, and how often it may come.
func (c *checker) guards() {
	quiet := c.quiet()
	for _, r := range c.out.Requests {
		open, anyone := r.open(c.out)
		if open && len(r.Checks) == 0 && len(r.Body) > 0 {
			c.find(
				"unguarded", r.decl.Start, r.name,
				fmt.Sprintf("`%s` may come from %s and checks nothing", r.FullName(), c.out.WhoText(r.From)),
				"say what has to hold: check phase == dive else deny \"no dive is on\"",
			)
		}
		if !open && r.Kind.Per >= 0 && r.Limit == nil && r.Pause == nil && r.floods() && !r.shutsItself() {
			c.find(
				"unlimited", r.decl.Start, r.name,
				fmt.Sprintf("`%s` may come as often as its owner likes, and reaches everyone each time", r.FullName()),
				"bound it: limit 4 per second",
			)
		}
		if anyone && r.Limit == nil && r.Pause == nil {
			c.find(
				"unlimited", r.decl.Start, r.name,
				fmt.Sprintf("`%s` may come from %s, as often as a client likes", r.FullName(), c.out.WhoText(r.From)),
				"bound it: limit 4 per second",
			)
		}
		if anyone {
			c.impersonated(r)
		}
		f := quiet.atRequest(r)
		c.unfair(f, r)
		c.hopeless(f, r)
		c.known(f, r)
	}
	for _, k := range c.out.Kinds {
		for _, p := range k.Properties {
			if p.Set != nil {
				c.unruled(k, p)
			}
		}
	}
}

// quiet is an analysis that reports nothing: it only tells what values are and what they depend on.
func (c *checker) quiet() *flows {
	return &flows{checker: c, report: func(string, int, syntax.Span, string, string) {}, atoms: map[string]*atom{}}
}

// open tells whether a request may come from more than its owner, and whether any client can come to send it: one with
// the role that a client without a wish gets.
func (r *Request) open(c *Contract) (open, anyone bool) {
	for _, w := range r.From {
		switch {
		case w.But:
		case w.Sort == ToEveryone:
			open = true
			anyone = true
		case w.Sort == ToRole:
			open = true
			anyone = anyone || w.Role == 0
		}
	}
	return open, anyone
}

// shutsItself reports whether a request that was accepted is refused from then on: a check asks for a value that its
// body surely takes away.
func (r *Request) shutsItself() bool {
	same := func(a, b *Expr) bool {
		if a.Op != OpGet || b.Op != OpGet || a.Prop == nil || a.Prop != b.Prop {
			return false
		}
		one := func(x *Expr) bool { return x.Type.Kinds[0].Shared }
		return a.Args[0].Op == OpSelf && b.Args[0].Op == OpSelf || one(a.Args[0]) && one(b.Args[0])
	}
	var wants []*Expr // comparisons of a property with a constant, and properties that have to be true or false
	var gather func(x *Expr)
	gather = func(x *Expr) {
		switch {
		case x.Op == OpAnd:
			gather(x.Args[0])
			gather(x.Args[1])
		case x.Op == OpEq && x.Args[0].Op == OpGet &&
			x.Args[1].Op == OpConst, x.Op == OpGet, x.Op == OpNot && x.Args[0].Op == OpGet:
			wants = append(wants, x)
		}
	}
	for _, s := range r.Head {
		if s.Op == OpCheck {
			gather(s.Value)
		}
	}
	against := func(want *Expr, s *Stmt) bool {
		if s.Op != OpSet || s.Value.Op != OpConst || s.Value.Nums != nil {
			return false
		}
		switch want.Op {
		case OpEq:
			return same(want.Args[0], s.X) && want.Args[1].Num != s.Value.Num
		case OpNot:
			return same(want.Args[0], s.X) && s.Value.Num != 0
		}
		return same(want, s.X) && s.Value.Num == 0
	}
	surely := slices.Clone(r.Body) // what its body surely runs, those of its own actions included
	for _, s := range r.Body {
		if s.Op == OpRun && s.Num == 0 && s.Act.Body != nil && (s.X.Op == OpSelf || s.X.Op == OpShared) {
			surely = append(surely, s.Act.Body.Stmts...)
		}
	}
	return slices.ContainsFunc(wants, func(want *Expr) bool {
		of := want
		if want.Op != OpGet {
			of = want.Args[0]
		}
		shut := false
		back := false
		for i := range surely {
			shut = shut || against(want, &surely[i])
			eachIn(&surely[i], func(s *Stmt) { back = back || s.Op == OpSet && same(of, s.X) && !against(want, s) })
		}
		return shut && !back
	})
}

// floods tells whether each run of a request sends something to many: an event, or what is spawned.
func (r *Request) floods() bool {
	found := false
	eachStmt(r.Body, func(s *Stmt) { found = found || s.Op == OpSpawn || s.Op == OpTell && many(s.Who) })
	return found
}

// eachStmt calls f for statements, those inside of them and those of the actions that they run; actions are looked into
// once.
func eachStmt(stmts []Stmt, f func(s *Stmt)) {
	seen := map[*Action]bool{}
	var walk func(list []Stmt)
	walk = func(list []Stmt) {
		for i := range list {
			s := &list[i]
			f(s)
			walk(s.Then)
			walk(s.Else)
			if s.Act != nil && s.Act.Body != nil && !seen[s.Act] {
				seen[s.Act] = true
				walk(s.Act.Body.Stmts)
			}
		}
	}
	walk(stmts)
}

// exprs lists the expressions that a statement itself holds.
func (s *Stmt) exprs() []*Expr {
	out := []*Expr{s.X, s.To, s.Value}
	out = append(out, s.Args...)
	for _, w := range s.Who {
		out = append(append(out, w.X), w.Args...)
	}
	for _, set := range s.Sets {
		out = append(out, set.Value)
	}
	if q := s.Query; q != nil {
		out = append(out, q.List, q.Within, q.Of, q.Where)
	}
	return slices.DeleteFunc(out, func(x *Expr) bool { return x == nil })
}

// says tells whether such an expression stands anywhere in statements and in what they run.
func says(stmts []Stmt, such func(x *Expr) bool) bool {
	found := false
	eachStmt(stmts, func(s *Stmt) {
		found = found || slices.ContainsFunc(s.exprs(), func(x *Expr) bool { return mentions(x, such) })
	})
	return found
}

// impersonated looks for a client, or somebody's own entity, that comes as an argument and is then used as who is
// acting.
func (c *checker) impersonated(r *Request) {
	caller := func(x *Expr) bool { return x.Op == OpCaller }
	if says(r.Head, caller) || says(r.Body, caller) ||
		slices.ContainsFunc(append(r.Head, r.Body...), func(s Stmt) bool {
			return slices.ContainsFunc(s.Who, func(w Who) bool { return w.Sort == ToCaller })
		}) {
		return
	}
	slot := int64(0)
	for _, p := range r.Params {
		k := p.Type.Kind()
		if p.Type.Form == FormClient || k != nil && k.Per >= 0 {
			argument := func(x *Expr) bool { return x.Op == OpLocal && !x.Type.Holder() && x.Num == slot }
			if what := c.actsFor(r, argument); what != "" {
				c.find(
					"impersonation", r.decl.Start, r.name,
					fmt.Sprintf(
						"`%s` takes who is acting from its argument `%s`: any client can name another one, and %s",
						r.FullName(), p.Name, what,
					),
					"who asked is `caller`: use caller"+map[bool]string{
						true:  "",
						false: "." + kindName(k),
					}[p.Type.Form == FormClient]+" in its place, or check that the two are the same",
				)
				return
			}
		}
		if !p.Type.Holder() {
			slot += int64(p.Type.Width())
		}
	}
}

func kindName(k *Kind) string {
	if k == nil {
		return ""
	}
	return k.Name
}

// actsFor tells what a request does with an argument that it should do with its caller.
func (c *checker) actsFor(r *Request, argument func(x *Expr) bool) string {
	out := ""
	note := func(what string) {
		if out == "" {
			out = what
		}
	}
	for _, s := range r.Body {
		eachIn(&s, func(s *Stmt) {
			switch s.Op {
			case OpSet, OpPut, OpTake, OpCut, OpClear, OpMove, OpSplit:
				for x := s.X; x.within() != nil; x = x.within() {
					if x.Op == OpAt && mentions(x.Args[1], argument) {
						note("what is written is counted as that one's")
					}
				}
				root := s.X.root()
				if root.Op == OpGet && mentions(root.Args[0], argument) {
					note("`" + root.property().Name + "` of that one changes")
				} else if s.Value != nil && argument(s.Value) {
					note("that one is written down in `" + root.property().Name + "`")
				}
			case OpGive:
				if mentions(s.Value, argument) {
					note("that one becomes the owner")
				}
			case OpSpawn:
				for _, set := range s.Sets {
					if argument(set.Value) {
						note("what is spawned counts as that one's")
					}
				}
			case OpRun:
				if mentions(s.X, argument) {
					note("`" + s.Act.Name + "` of that one is run")
				}
			}
		})
	}
	return out
}

// eachIn calls f for a statement and those inside of it.
func eachIn(s *Stmt, f func(s *Stmt)) {
	f(s)
	for i := range s.Then {
		eachIn(&s.Then[i], f)
	}
	for i := range s.Else {
		eachIn(&s.Else[i], f)
	}
}

// eachCheck calls do for the checks of a head, in which flow f then stands, with what they ask once the head's names
// are put aside.
func (r *Request) eachCheck(f *flow, do func(s *Stmt, check *Check, asks *Expr, lets map[int64]*Expr)) {
	lets := map[int64]*Expr{}
	for i := range r.Head {
		s := &r.Head[i]
		if s.Op == OpCheck {
			do(s, &r.Checks[s.Num], unfolded(s.Value, lets, 0), lets)
			continue
		}
		if !s.Value.Type.Holder() {
			lets[s.Num] = s.Value
		}
		f.stmt(s)
	}
}

// unfair looks at the checks that strike or expel: what they read has to be known to the caller, and no clock may
// decide.
func (c *checker) unfair(f *flow, r *Request) {
	r.eachCheck(f, func(s *Stmt, check *Check, asks *Expr, _ map[int64]*Expr) {
		if check.Then != ThenStrike && check.Then != ThenExpel {
			return
		}
		what := ""
		note := func(s string) {
			if what == "" {
				what = s
			}
		}
		mentions(asks, func(x *Expr) bool {
			switch x.Op {
			case OpSince:
				note("how long it is since `" + x.Prop.Name + "` changed, and the clock of a late client runs behind")
			case OpNow:
				note("the clock, which a late client reads behind")
			case OpLocal:
				if x.Type.Form == FormInstant {
					note("an instant, which a late client reads behind")
				}
			case OpGet:
				for _, k := range x.Args[0].Type.Kinds {
					p := x.Prop
					if x.Props != nil {
						p = x.Props[k.Index]
					}
					name := "`" + k.Name + "." + p.Name + "`"
					switch {
					case p.To != Everyone && f.leaks(f.property(k, p, f.symOf(x.Args[0])), f.toCaller("")) != nil:
						note(name + ", which goes to " + c.out.ToText(p.To, p.Who) + ": its caller may not see it")
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
			then := map[Then]string{ThenStrike: "strikes", ThenExpel: "expels"}[check.Then]
			c.find(
				"unfair", r.decl.Start, s.at, fmt.Sprintf("this check %s by %s", then, what),
				"an honest client can fail it: use `deny`, and strike for what its caller surely knows",
			)
		}
	})
}

var identifier = regexp.MustCompile(`\.?[a-z_][A-Za-z0-9_]*`)

// known finds the checks that a client can evaluate itself: they read what the caller can see, name nothing that only
// the server has, and ask no clock.
func (c *checker) known(f *flow, r *Request) {
	r.eachCheck(f, func(s *Stmt, check *Check, asks *Expr, lets map[int64]*Expr) {
		server := mentions(asks, func(x *Expr) bool {
			return x.Op == OpReveal || x.Op == OpNow || x.Op == OpSince || x.Op == OpCallFn || x.Op == OpTable ||
				x.Op == OpSetting || partial(x)
		})
		for _, w := range identifier.FindAllString(check.Text, -1) {
			server = server || c.consts[w] != nil
			if server {
				break
			}
		}
		// its text speaks of what a `let` names
		named := mentions(s.Value, func(x *Expr) bool { return x.Op == OpLocal && lets[x.Num] != nil })
		check.known = !server && !named && f.leaks(f.observed(s.Value, f.value(s.Value)), f.toCaller("")) == nil
	})
}

// partial tells whether an expression reads what a client may see a part of only, or late: what is near, what is
// throttled or may be lost, or a query over a kind that it does not see all of. A client's own answer would be another
// one.
func partial(x *Expr) bool {
	near := func(who []Who) bool {
		return slices.ContainsFunc(who, func(w Who) bool {
			return w.Aud != nil && w.Aud.Cond != nil &&
				nearness(w.Aud.Cond.Value)
		})
	}
	if x.Op == OpGet {
		for _, k := range x.Args[0].Type.Kinds {
			p := x.Prop
			if x.Props != nil {
				p = x.Props[k.Index]
			}
			// what the outline lacks it does not name either
			if k.To == Nobody || p.To == Nobody || p.AtMost > 0 || p.Loose || near(k.Who) || near(p.Who) {
				return true
			}
		}
	}
	return x.Query != nil && slices.ContainsFunc(x.Query.Kinds, func(k *Kind) bool { return k.To != Everyone })
}

// unfolded puts the values of a head's names in place of the names.
func unfolded(x *Expr, lets map[int64]*Expr, depth int) *Expr {
	if x == nil || depth > 30 {
		return x
	}
	if v := lets[x.Num]; x.Op == OpLocal && !x.Type.Holder() && v != nil {
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
func (c *checker) unruled(k *Kind, p *Property) {
	rule := p.Set.Rule
	name := "`" + k.Name + "." + p.Name + "`"
	number := p.Type.Form == FormReal || p.Type.Form == FormVec2 || p.Type.Form == FormVec3 || p.Type.Form == FormInt
	is := func(slot int) func(x *Expr) bool {
		return func(x *Expr) bool { return x.Op == OpLocal && x.Num == int64(slot) }
	}
	old := is(0)
	new := is(p.Type.Width())
	switch {
	case p.Set.Pace == nil && rule == nil:
		c.find(
			"unruled", p.decl, p.name,
			fmt.Sprintf("%s is set by a client as it likes: any value of its type, as often as it likes", name),
			"bound each step: `pace distance(old, new) 8 per second`, or say what has to hold: `when new >= old`",
		)
	case rule != nil && p.Set.Pace == nil && !mentions(rule.Value, new):
		c.find(
			"unruled", p.decl, p.name,
			fmt.Sprintf("the rule of %s does not look at what is written: it lets any value pass", name),
			"ask something of `new`: `when distance(old, new) <= 1`",
		)
	case p.Set.Pace != nil && !mentions(p.Set.Pace.Value, new):
		c.find(
			"unruled", p.decl, p.name,
			fmt.Sprintf("the pace of %s does not look at what is written: a step of any length costs the same", name),
			"measure the step: `pace distance(old, new) 8 per second`",
		)
	case p.Set.Pace == nil && number && !mentions(rule.Value, func(x *Expr) bool {
		return (x.Op >= OpEq && x.Op <= OpGe) && mentions(x, old) && mentions(x, new)
	}):
		c.find(
			"unruled", p.decl, p.name,
			fmt.Sprintf("%s may jump: nothing compares what is written with what was there", name),
			"bound each step: `pace distance(old, new) 8 per second`",
		)
	}
}

// hopeless looks for what can never happen: a check that always fails or always holds, and callers that cannot pass.
func (c *checker) hopeless(f *flow, r *Request) {
	role := r.callerRole()
	nobody := len(r.From) > 0 && !slices.ContainsFunc(r.From, func(w Who) bool { return !w.But && w.Sort != ToNobody })
	if nobody {
		c.find(
			"impossible", r.decl.Start, r.name,
			fmt.Sprintf("nobody can ever send `%s`: it is from nobody", r.FullName()),
			"say who may: `from "+c.out.Roles[0]+"`",
		)
	}
	if mine := len(r.From) == 1 &&
		r.From[0].Sort == ToOwner; mine && r.Kind.Per < 0 && r.Kind.given && !c.comesToSomebody(r.Kind) {
		c.find(
			"impossible", r.decl.Start, r.name,
			fmt.Sprintf(
				"nobody can ever send `%s`: only its owner may, and only its owner could give `%s` away", r.FullName(),
				r.Kind.Name,
			),
			"let others ask for it: `from "+c.out.Roles[0]+"`",
		)
	}
	if !nobody && !r.reachable() && len(r.Kind.Parts) == 0 {
		c.find(
			"impossible", r.decl.Start, r.name,
			fmt.Sprintf(
				"nobody can ever send `%s`: who may knows nothing of `%s`, which goes to %s", r.FullName(), r.Kind.Name,
				c.out.ToText(r.Kind.To, r.Kind.Who),
			),
			"let who may send it see the kind; or write an `action`",
		)
	}
	r.eachCheck(f, func(s *Stmt, _ *Check, _ *Expr, _ map[int64]*Expr) {
		switch f.decided(s.Value) {
		case -1:
			c.find(
				"impossible", r.decl.Start, s.at,
				fmt.Sprintf("this check never holds, so that nobody can ever send `%s` with success", r.FullName()),
				"compare with a value that can be; or remove the request",
			)
		case 1:
			c.find(
				"impossible", r.decl.Start, s.at, "this check always holds: it keeps nobody out",
				"compare with a value that keeps somebody out; or remove it",
			)
		}
		// What only clients of another role have is nothing to this caller.
		if role >= 0 {
			mentions(s.Value, func(x *Expr) bool {
				if x.Op == OpGet && x.Args[0].Op == OpEntityOf && x.Args[0].Args[0].Op == OpCaller &&
					x.Args[0].Kind.Per != role {
					k := x.Args[0].Kind
					c.find(
						"impossible", r.decl.Start, s.at,
						fmt.Sprintf(
							"this check never holds: `%s` comes from %s, who have no %s", r.FullName(),
							c.out.Roles[role], k.Name,
						),
						"let it come from "+c.out.Roles[k.Per]+", or read something else",
					)
				}
				return false
			})
		}
	})
	eachStmt(r.Body, func(s *Stmt) { c.neverIf(f, r.decl.Start, s) })
}

// comesToSomebody tells whether anything but what only an owner can ask gives a kind to a client.
func (c *checker) comesToSomebody(k *Kind) bool {
	for _, p := range c.out.pieces() {
		if r := p.request; r != nil && r.Kind == k && len(r.From) == 1 && r.From[0].Sort == ToOwner {
			continue
		}
		found := false
		eachStmt(p.stmts, func(s *Stmt) {
			found = found || s.Op == OpGive && s.Value.Op != OpConst && slices.Contains(s.X.Type.Kinds, k)
		})
		if found {
			return true
		}
	}
	return false
}

// neverIf looks for a branch that is never taken, and an event that nobody is told.
func (c *checker) neverIf(f *flow, decl int, s *Stmt) {
	switch {
	case s.Op == OpIf && s.at.End > 0 && !s.always() && f.decided(s.Value) < 0:
		c.find(
			"impossible", decl, s.at, "the condition of this `if` never holds",
			"compare with a value that can be; or remove it",
		)
	case s.Op == OpTell && len(s.Who) > 0 &&
		!slices.ContainsFunc(s.Who, func(w Who) bool { return !w.But && w.Sort != ToNobody }):
		c.find(
			"impossible", decl, s.at, fmt.Sprintf("nobody is ever told `%s` here", s.Event.FullName()),
			"say who is: `tell everyone "+s.Event.Name+"(…)`",
		)
	}
}

// decided tells of a condition whether it never holds (-1) or always does (1), by the ranges of what it compares.
func (f *flow) decided(x *Expr) int {
	switch x.Op {
	case OpConst:
		if x.Type.Form == FormBool {
			return int(x.Num)*2 - 1
		}
	case OpNot:
		return -f.decided(x.Args[0])
	case OpGet:
		if x.Prop != nil && x.Type.Form == FormBool && f.fixed(x.Prop) && len(f.value(x).label) == 0 {
			return int(x.Prop.Default[0])*2 - 1
		}
	case OpReveal:
		return f.decided(x.Args[0])
	case OpAnd:
		a := f.decided(x.Args[0])
		b := f.decided(x.Args[1])
		if f.clash(x) {
			return -1
		}
		return min(a, b)
	case OpOr:
		return max(f.decided(x.Args[0]), f.decided(x.Args[1]))
	case OpExists:
		if x.Args[0].Type.Form == FormEntity && f.symOf(x.Args[0]) == "nothing" {
			return -1
		}
	case OpLt, OpLe, OpGt, OpGe, OpEq, OpNe:
		if x.Args[0].Type.Form == FormEntity && (x.Op == OpEq || x.Op == OpNe) && f.symOf(x.Args[0]) == "nothing" &&
			f.symOf(x.Args[1]) == "nothing" {
			return map[bool]int{true: 1, false: -1}[x.Op == OpEq]
		}
		if form := x.Args[0].Type.Form; form == FormInt || form == FormReal {
			return compared(x, f.value(x.Args[0]), f.value(x.Args[1]))
		}
	}
	return 0
}

// compared tells of a comparison whether it never holds (-1) or always does (1), by the ranges of its sides.
func compared(x *Expr, p, q val) int {
	if form := x.Args[0].Type.Form; form != FormInt && form != FormReal || !p.ranged || !q.ranged ||
		counts(x.Args[0]) || counts(x.Args[1]) {
		return 0
	}
	if x.Op == OpGt || x.Op == OpGe {
		p, q = q, p
	}
	switch {
	case x.Op == OpNe:
		return 0
	case x.Op == OpEq && (p.high < q.low || p.low > q.high):
		return -1
	case x.Op == OpEq:
		return 0
	case p.high < q.low || p.high == q.low && (x.Op == OpLe || x.Op == OpGe):
		return 1
	case p.low > q.high || p.low == q.high && (x.Op == OpLt || x.Op == OpGt):
		return -1
	}
	return 0
}

// counts tells whether a number is a count of something, whose greatest value is not known here.
func counts(x *Expr) bool {
	return mentions(x, func(x *Expr) bool {
		return x.Op == OpCount || x.Op == OpRoom || x.Op == OpFind ||
			x.Op == OpQuery && x.Query.Do != "min" && x.Query.Do != "max"
	})
}

// clash tells whether a condition wants one property to have two values at once.
func (f *flow) clash(x *Expr) bool {
	wants := map[string]int64{}
	var look func(x *Expr) bool
	look = func(x *Expr) bool {
		switch {
		case x.Op == OpAnd:
			return look(x.Args[0]) || look(x.Args[1])
		case x.Op == OpEq && x.Args[0].Op == OpGet && x.Args[1].Op == OpConst:
			name := f.same(x.Args[0])
			before, known := wants[name]
			wants[name] = x.Args[1].Num
			return known && before != x.Args[1].Num && x.Args[1].Nums == nil && !strings.Contains(name, "#")
		}
		return false
	}
	return look(x)
}
