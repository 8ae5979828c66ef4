package contract

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"github.com/agnivade/levenshtein"

	"kamerad/core/syntax"
)

// Load reads and checks a contract text. The problems hold every mistake, of the text and of its meaning, in the order of the
// lines; the contract is nil exactly when one of them is more than a warning.
func Load(name, text string) (*Contract, syntax.Problems) {
	src := syntax.NewSource(name, text)
	file, problems := syntax.Parse(src)
	c := &checker{
		src: src, problems: problems, enums: map[string]*Enum{}, kinds: map[string]*Kind{}, consts: map[string]*Expr{}, calls: map[*Action][]call{}, used: map[any]bool{}, sent: map[*Enum]bool{},
		trees: map[*Kind]*syntax.Entity{}, unread: len(problems) > 0,
		out: &Contract{TickRate: 20, Seats: 64, Source: src},
	}
	c.file(file)
	if len(c.problems) > 0 {
		return nil, c.problems.Sort() // what is unused may only not have been understood
	}
	c.unused(file)
	return c.out, c.problems.Sort()
}

type (
	role  string // a role, as a key of what is used
	value struct {
		enum  *Enum
		index int64
	}
	local struct {
		name syntax.Ident
		x    *Expr
	}
)

// call is a place where an action runs another.
type call struct {
	to *Action
	at syntax.Span
}

// maxProblems is how many mistakes are told in one run.
const maxProblems = 200

type checker struct {
	src      *syntax.Source
	problems syntax.Problems
	out      *Contract
	enums    map[string]*Enum
	kinds    map[string]*Kind
	consts   map[string]*Expr
	used     map[any]bool // constants by name; enums, roles (as role), values (as value), properties that are read, events, actions, locals
	locals   []local
	sent     map[*Enum]bool     // enums that are arguments of requests
	calls    map[*Action][]call // which actions run which, to find circles
	trees    map[*Kind]*syntax.Entity
	unread   bool // the text itself has mistakes: what is missing may only not have been understood
}

func (c *checker) fail(at syntax.Span, code, message, hint string) {
	if len(c.problems) >= maxProblems {
		return
	}
	c.problems = append(c.problems, c.src.Problem(at, code, message, hint))
}

// bounded tells whether a count is within its bound, and says so if not.
func (c *checker) bounded(at syntax.Span, what string, n, low, high int64) bool {
	if n < low || n > high {
		c.fail(at, "out-of-range", fmt.Sprintf("%s is %d", what, n), fmt.Sprintf("from %d to %d", low, high))
		return false
	}
	return true
}

func (c *checker) file(f *syntax.File) {
	var header, tick, seats, roles, join syntax.Decl
	once := func(seen *syntax.Decl, d syntax.Decl, what string) bool {
		if *seen != nil {
			line, _ := c.src.Position((*seen).Span().Start)
			c.fail(d.Span(), "repeated", fmt.Sprintf("the contract has %s already, in line %d", what, line), "remove one of the two")
			return false
		}
		*seen = d
		return true
	}
	var entities []*syntax.Entity
	var events []*syntax.Event
	var handler *syntax.Handler
	var consts []*syntax.Const
	for i, d := range f.Decls {
		switch d := d.(type) {
		case *syntax.Contract:
			if once(&header, d, "a name") {
				c.out.Name = d.Name.Text
				if utf8.RuneCountInString(d.Name.Text) > 60 {
					c.fail(d.Name.At, "out-of-range", "the contract's name is too long", "at most 60 characters")
				}
				if d.Language.Value != 1 {
					c.fail(d.Language.At, "language", fmt.Sprintf("language %d is not known here", d.Language.Value), "write language 1")
				}
				if i > 0 {
					c.fail(d.At, "order", "the contract's name does not stand first", "move this line to the top")
				}
			}
		case *syntax.Tick:
			if once(&tick, d, "a tick rate") && c.bounded(d.Rate.At, "the number of ticks per second", d.Rate.Value, 1, MaxTickRate) {
				c.out.TickRate = int(d.Rate.Value)
			}
		case *syntax.Seats:
			if once(&seats, d, "a number of seats") && c.bounded(d.Count.At, "the number of seats", d.Count.Value, 1, MaxSeats) {
				c.out.Seats = int(d.Count.Value)
			}
		case *syntax.Roles:
			if once(&roles, d, "a list of roles") {
				c.bounded(d.At, "the number of roles", int64(len(d.Names)), 1, MaxRoles)
				for _, n := range d.Names {
					if slices.Contains(c.out.Roles, n.Text) {
						c.fail(n.At, "repeated", fmt.Sprintf("the role `%s` is listed twice", n.Text), "remove one of the two")
						continue
					}
					c.out.Roles = append(c.out.Roles, n.Text)
				}
			}
		case *syntax.Enum:
			c.enum(d)
		case *syntax.Const:
			consts = append(consts, d)
		case *syntax.Entity:
			entities = append(entities, d)
		case *syntax.Event:
			events = append(events, d)
		case *syntax.Handler:
			if d.On.Text != "join" {
				c.fail(d.On.At, "unknown-name", fmt.Sprintf("nothing is known that `on %s` could wait for", d.On.Text), "a contract can have `on join(c)`")
			} else if once(&join, d, "an `on join`") {
				handler = d
			}
		}
	}
	if header == nil && !c.unread {
		c.fail(syntax.Span{}, "no-header", "the contract has no name", "begin with a line such as `contract tidewreck language 1`")
	}
	if len(c.out.Roles) == 0 {
		c.out.Roles = []string{"player"}
	}
	for _, d := range consts {
		c.constant(d)
	}
	c.bounded(syntax.Span{}, "the number of kinds", int64(len(entities)), 0, MaxKinds)
	for _, d := range entities {
		c.kind(d)
	}
	for _, k := range c.out.Kinds {
		c.members(k, c.trees[k])
	}
	for _, d := range events {
		if e := c.event(d, nil); e != nil {
			c.out.Events = append(c.out.Events, e)
		}
	}
	for _, k := range c.out.Kinds {
		for i, r := range k.Requests {
			c.request(r, c.trees[k].Requests[i])
		}
		c.bodies(k, c.trees[k])
	}
	c.circles()
	if handler != nil {
		env := &env{checker: c}
		env.enter()
		env.declare(handler.Param, &Type{Form: FormClient})
		c.out.OnJoin = env.body(handler.Body, handler.At)
	}
}

func (c *checker) lineOf(at syntax.Span) int {
	line, _ := c.src.Position(at.Start)
	return line
}

func (c *checker) constant(d *syntax.Const) {
	if c.consts[d.Name.Text] != nil {
		c.fail(d.Name.At, "repeated", fmt.Sprintf("the constant `%s` is declared already", d.Name.Text), "choose another name")
		return
	}
	env := &env{checker: c, constant: true}
	if v := env.expr(d.Value, nil); v != nil && v.Op == OpConst {
		c.consts[d.Name.Text] = v
	} else if v != nil {
		c.fail(d.Value.Span(), "not-constant", "this is computed", "a constant is a number, a text, true, false or a value of an enum, as in Item.flare")
	}
}

// bodies reads the handlers, timers and actions of a kind.
func (c *checker) bodies(k *Kind, d *syntax.Entity) {
	for i, a := range d.Actions {
		env := &env{checker: c, kind: k, action: k.Actions[i]}
		env.enter()
		for j, p := range a.Params {
			if j < len(k.Actions[i].Params) {
				env.declare(p.Name, k.Actions[i].Params[j].Type)
			}
		}
		k.Actions[i].Body = env.body(a.Body, a.At)
	}
	for _, h := range d.Handlers {
		env := &env{checker: c, kind: k}
		env.enter()
		body := env.body(h.Body, h.At)
		switch h.On.Text {
		case "spawn":
			if k.OnSpawn != nil {
				c.fail(h.At, "repeated", fmt.Sprintf("%s has an `on spawn` already", k.Name), "put both into one")
			}
			k.OnSpawn = body
		case "change":
			p := k.Property(h.Param.Text)
			if p == nil {
				c.fail(h.Param.At, "unknown-name", fmt.Sprintf("%s has no property `%s`", k.Name, h.Param.Text), c.suggest(h.Param.Text, k.names(), "name a property of "+k.Name))
				continue
			}
			if k.OnChange[p.Index] != nil {
				c.fail(h.At, "repeated", fmt.Sprintf("`%s` has an `on change` already", p.Name), "put both into one")
			}
			k.OnChange[p.Index] = body
		default:
			c.fail(h.On.At, "unknown-name", fmt.Sprintf("nothing is known that `on %s` could wait for", h.On.Text), "a kind can have `on spawn` and `on change hull`")
		}
	}
	c.bounded(d.Name.At, "the number of timers", int64(len(d.Timers)), 0, MaxTimers)
	for _, t := range d.Timers {
		timer := &Timer{After: t.After, Ticks: c.ticks(t.Window.At, t.Window.Value), Slot: k.Nums}
		k.Nums++
		if t.While != nil {
			env := &env{checker: c, kind: k, head: true}
			env.enter()
			if v := env.value(t.While, &Type{Form: FormBool}, "the condition of a timer"); v != nil {
				line := c.lineOf(t.At)
				timer.While = &Body{Stmts: []Stmt{{Op: OpCheck, Value: v, Line: line}}, Line: line}
			}
		}
		env := &env{checker: c, kind: k}
		env.enter()
		timer.Body = env.body(t.Body, t.At)
		k.Timers = append(k.Timers, timer)
	}
}

func (k *Kind) names() []string {
	var out []string
	for _, p := range k.Properties {
		out = append(out, p.Name)
	}
	return out
}

// circles tells of actions that run themselves, straight or by way of others.
func (c *checker) circles() {
	const (
		fresh = iota
		open
		done
	)
	state := map[*Action]int{}
	var visit func(a *Action)
	visit = func(a *Action) {
		state[a] = open
		for _, call := range c.calls[a] {
			switch state[call.to] {
			case open:
				c.fail(call.at, "circle", fmt.Sprintf("the action `%s` comes to run itself here", call.to.Name), "actions cannot run in a circle")
			case fresh:
				visit(call.to)
			}
		}
		state[a] = done
	}
	for _, a := range c.out.Actions {
		if state[a] == fresh {
			visit(a)
		}
	}
}

func (c *checker) enum(d *syntax.Enum) {
	e := &Enum{Name: d.Name.Text}
	if !c.freeTypeName(d.Name) {
		return
	}
	for _, m := range d.Members {
		if slices.Contains(e.Values, m.Text) {
			c.fail(m.At, "repeated", fmt.Sprintf("`%s` stands twice in %s", m.Text, e.Name), "remove one of the two")
			continue
		}
		e.Values = append(e.Values, m.Text)
	}
	if len(e.Values) == 0 {
		c.fail(d.At, "empty", fmt.Sprintf("the enum %s has no value", e.Name), "list at least one, as in `enum Item { flare, patch }`")
		e.Values = []string{"none"}
	}
	c.bounded(d.At, "the number of values", int64(len(e.Values)), 1, MaxEnumValues)
	c.enums[e.Name] = e
	c.out.Enums = append(c.out.Enums, e)
}

func (c *checker) freeTypeName(n syntax.Ident) bool {
	if n.Text == "" {
		return false // its mistake has been told
	}
	if c.enums[n.Text] != nil || c.kinds[n.Text] != nil {
		c.fail(n.At, "repeated", fmt.Sprintf("the name `%s` is taken by another declaration", n.Text), "choose another name")
		return false
	}
	return true
}

func (c *checker) kind(d *syntax.Entity) {
	if !c.freeTypeName(d.Name) {
		return
	}
	k := &Kind{Index: len(c.out.Kinds), Name: d.Name.Text, Shared: d.Shared, Per: -1, To: Everyone}
	if !d.Shared {
		k.Per = slices.Index(c.out.Roles, d.Per.Text)
		if k.Per < 0 && d.Per.Text != "" {
			c.fail(d.Per.At, "unknown-name", fmt.Sprintf("the role `%s` is not declared", d.Per.Text), c.suggest(d.Per.Text, c.out.Roles, "roles are listed in a line such as `roles player, referee`"))
		}
		k.Per = max(k.Per, 0)
		c.used[role(d.Per.Text)] = true
	}
	if d.To != nil {
		k.To = c.to(d.To)
	}
	c.kinds[k.Name] = k
	c.trees[k] = d
	c.out.Kinds = append(c.out.Kinds, k)
}

// to reads the audience of a property or kind.
func (c *checker) to(a *syntax.Audience) Audience {
	if len(a.Terms) == 1 {
		if r, ok := a.Terms[0].Who.(*syntax.Ref); ok {
			switch r.Text {
			case "everyone":
				return Everyone
			case "owner":
				return Owner
			case "nobody":
				return Nobody
			}
		}
	}
	c.fail(a.At, "audience", "this is no audience of a property or kind", "one of: to everyone, to owner, to nobody")
	return Everyone
}

// suggest words a hint: the nearest of some names, or else what would be right in general.
func (c *checker) suggest(name string, known []string, otherwise string) string {
	best, distance := "", len(name)/3+2
	for _, k := range known {
		if len(name) > 60 || len(k) > 60 {
			continue // nobody types that; and comparing takes time
		}
		if d := levenshtein.ComputeDistance(strings.ToLower(name), strings.ToLower(k)); d < distance {
			best, distance = k, d
		}
	}
	if best != "" {
		return fmt.Sprintf("did you mean `%s`?", best)
	}
	return otherwise
}

func (c *checker) members(k *Kind, d *syntax.Entity) {
	c.bounded(d.Name.At, "the number of properties", int64(len(d.Properties)), 0, MaxProperties)
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
		q := &Action{Index: len(c.out.Actions), Kind: k, Name: a.Name.Text, Params: c.params(a.Params)}
		k.Actions = append(k.Actions, q)
		c.out.Actions = append(c.out.Actions, q)
	}
	for _, r := range d.Requests {
		free(r.Name)
		line, _ := c.src.Position(r.At.Start)
		q := &Request{Index: len(c.out.Requests), Kind: k, Name: r.Name.Text, Line: line}
		k.Requests = append(k.Requests, q)
		c.out.Requests = append(c.out.Requests, q)
	}
}

func (c *checker) property(k *Kind, d *syntax.Property) *Property {
	p := &Property{Index: len(k.Properties), Name: d.Name.Text, Type: c.typ(d.Type), To: Everyone}
	if d.To != nil {
		p.To = c.to(d.To)
	}
	p.To = min(p.To, k.To)
	if p.Type == nil {
		return nil
	}
	switch p.Type.Form {
	case FormText:
		p.Slot = k.Texts
		k.Texts++
	case FormStacks:
		p.Slot = k.Nums
		k.Nums += 2 * p.Type.Max
	default:
		p.Slot = k.Nums
		k.Nums++
	}
	if d.Clamped != nil {
		p.Clamped = true
		if p.Type.Form != FormInt && p.Type.Form != FormReal {
			c.fail(*d.Clamped, "wrong-type", fmt.Sprintf("`%s` is of the type %s, which has no range to clamp to", p.Name, p.Type), "remove `clamped`; only int and real have it")
		}
	}
	// What has no default starts nearest to zero, empty, or at an enum's first value.
	if p.Type.Form == FormInt || p.Type.Form == FormReal {
		p.Default.Num = min(max(0, p.Type.Low), p.Type.High)
	}
	if d.Default != nil {
		env := &env{checker: c, constant: true}
		if v := env.value(d.Default, p.Type, "the default of `"+p.Name+"`"); v != nil {
			p.Default = Value{Num: v.Num, Text: v.Text}
		}
	}
	return p
}

func (c *checker) event(d *syntax.Event, k *Kind) *Event {
	e := &Event{Index: len(c.out.Events), Kind: k, Name: d.Name.Text, Params: c.params(d.Params)}
	if k == nil {
		for _, other := range c.out.Events {
			if other.Kind == nil && other.Name == e.Name {
				c.fail(d.Name.At, "repeated", fmt.Sprintf("the contract has the event `%s` already", e.Name), "choose another name")
				return nil
			}
		}
	}
	return e
}

func (c *checker) params(params []syntax.Param) []Param {
	var out []Param
	for i, p := range params {
		if i >= MaxParams {
			c.fail(p.Name.At, "out-of-range", fmt.Sprintf("this is argument %d", i+1), fmt.Sprintf("at most %d are allowed", MaxParams))
			break
		}
		if slices.ContainsFunc(out, func(o Param) bool { return o.Name == p.Name.Text }) {
			c.fail(p.Name.At, "repeated", fmt.Sprintf("there is an argument `%s` already", p.Name.Text), "choose another name")
		}
		t := c.typ(p.Type)
		if t != nil && t.Form == FormStacks {
			c.fail(p.Type.At, "wrong-type", "stacks cannot be an argument", "send an item and a count")
		}
		if t == nil {
			t = &Type{Form: FormInt}
		}
		out = append(out, Param{p.Name.Text, t})
	}
	return out
}

func names[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for n := range m {
		out = append(out, n)
	}
	sort.Strings(out)
	return out
}

func (c *checker) request(r *Request, d *syntax.Request) {
	r.Params = c.params(d.Params)
	for _, p := range r.Params {
		if p.Type.Form == FormEnum {
			c.sent[p.Type.Enum] = true
		}
	}
	r.From = []Who{{Sort: ToOwner}}
	if d.From != nil {
		r.From = c.from(d.From)
	} else if r.Kind.Shared {
		c.fail(d.Name.At, "never", fmt.Sprintf("nobody can ever send `%s`: a shared entity belongs to the server, and by default only the owner may ask", r.FullName()), "say who may: `from "+c.out.Roles[0]+"`")
	}
	if d.Limit != nil {
		window := int64(1000)
		if d.Limit.Window != nil {
			window = d.Limit.Window.Value
		}
		if c.bounded(d.Limit.Count.At, "the limit", d.Limit.Count.Value, 1, MaxLimit) {
			r.Limit = &Limit{Count: int(d.Limit.Count.Value), Window: c.ticks(d.Limit.At, window), Ms: window}
		}
	}
	if d.Pause != nil {
		r.Pause = &Pause{Ticks: c.ticks(d.Pause.At, d.Pause.Window.Value), Ms: d.Pause.Window.Value, Reason: d.Pause.Reason.Value}
		c.reason(d.Pause.Reason)
	}
	if d.Reply != nil {
		if r.Reply = c.typ(d.Reply); r.Reply != nil && r.Reply.Form == FormStacks {
			c.fail(d.Reply.At, "wrong-type", "stacks cannot be a reply", "reply with a count")
		}
	}
	env := &env{checker: c, kind: r.Kind, request: r, head: true}
	env.enter()
	for i, p := range d.Params {
		if i < len(r.Params) {
			env.declare(p.Name, r.Params[i].Type)
		}
	}
	r.Head = env.block(d.Head)
	env.head = false
	r.Body = env.block(d.Body)
	r.Nums, r.Texts = env.nums, env.texts
	if r.Reply != nil && !replies(r.Body) {
		c.fail(d.Name.At, "no-reply", fmt.Sprintf("`%s` can come to its end without a reply", r.FullName()), "every way through the body has to `reply` or `deny`")
	}
}

// ticks turns milliseconds into ticks; a time that is not whole ticks is a mistake that names the two nearest.
func (c *checker) ticks(at syntax.Span, ms int64) int64 {
	rate := int64(c.out.TickRate)
	if ms*rate%1000 != 0 || ms <= 0 {
		n := ms * rate / 1000
		near := fmt.Sprintf("%gms", float64((n+1)*1000)/float64(rate))
		if n > 0 {
			near = fmt.Sprintf("%gms and %s", float64(n*1000)/float64(rate), near)
		}
		c.fail(at, "no-ticks", fmt.Sprintf("%dms is not a whole number of ticks at %d per second", ms, rate), "nearest: "+near)
		return 1
	}
	return ms * rate / 1000
}

func (c *checker) from(a *syntax.Audience) []Who {
	var out []Who
	for _, t := range a.Terms {
		r, ok := t.Who.(*syntax.Ref)
		w := Who{But: t.But}
		switch {
		case ok && r.Text == "everyone":
			w.Sort = ToEveryone
		case ok && r.Text == "owner":
			w.Sort = ToOwner
		case ok && slices.Contains(c.out.Roles, r.Text):
			w.Sort, w.Role = ToRole, slices.Index(c.out.Roles, r.Text)
			c.used[role(r.Text)] = true
		default:
			name := c.src.Text[t.Who.Span().Start:t.Who.Span().End]
			c.fail(t.Who.Span(), "unknown-name", fmt.Sprintf("`%s` names nobody who could send a request", name), c.suggest(name, append([]string{"everyone", "owner"}, c.out.Roles...), "from owner, everyone or a role"))
			continue
		}
		out = append(out, w)
	}
	return out
}
