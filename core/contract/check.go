package contract

import (
	"fmt"
	"math"
	"math/big"
	"slices"
	"sort"
	"strconv"
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

// unused warns of what is declared and then never used.
func (c *checker) unused(f *syntax.File) {
	taken := map[int]bool{} // accepts, by what they are for
	accepted := map[int]bool{}
	for _, a := range f.Accepts {
		if a.Finding.Text != "unused" {
			c.fail(a.Finding.At, "unknown-name", fmt.Sprintf("there is no finding `%s`", a.Finding.Text), "there is `unused`")
		}
		accepted[a.For] = true
	}
	warn := func(decl syntax.Span, at syntax.Ident, what, hint string) {
		if accepted[decl.Start] {
			taken[decl.Start] = true
			return
		}
		p := c.src.Problem(at.At, "unused", what, hint)
		p.Warning = true
		c.problems = append(c.problems, p)
	}
	for _, d := range f.Decls {
		switch d := d.(type) {
		case *syntax.Roles:
			for _, r := range d.Names[1:] {
				if !c.used[role(r.Text)] {
					warn(d.At, r, fmt.Sprintf("the role `%s` is never used", r.Text), "use it after `per`, `from` or `tell`, or remove it")
				}
			}
		case *syntax.Const:
			if !c.used["const "+d.Name.Text] {
				warn(d.At, d.Name, fmt.Sprintf("the constant `%s` is never used", d.Name.Text), "use it or remove it")
			}
		case *syntax.Enum:
			e := c.enums[d.Name.Text]
			if !c.used[e] {
				warn(d.At, d.Name, fmt.Sprintf("the enum `%s` is never used", e.Name), "use it as a type or remove it")
				continue
			}
			for i, m := range d.Members {
				// What clients may send is used, named or not.
				if !c.sent[e] && !c.used[value{e, int64(i)}] {
					warn(d.At, m, fmt.Sprintf("the value `%s` of %s is never used", m.Text, e.Name), "use it or remove it")
				}
			}
		case *syntax.Event:
			c.unusedEvents(nil, []*syntax.Event{d}, warn)
		case *syntax.Entity:
			k := c.kinds[d.Name.Text]
			for _, p := range d.Properties {
				if q := k.Property(p.Name.Text); q != nil && q.To == Nobody && !c.used[q] {
					warn(p.At, p.Name, fmt.Sprintf("nobody ever reads `%s.%s`", k.Name, q.Name), "it is sent to nobody; read it somewhere, say who gets it, or remove it")
				}
			}
			c.unusedEvents(k, d.Events, warn)
			for i, a := range d.Actions {
				if !c.used[k.Actions[i]] {
					warn(a.At, a.Name, fmt.Sprintf("the action `%s` is never run", a.Name.Text), "run it with `do "+a.Name.Text+"(…)` or remove it")
				}
			}
		}
	}
	for _, l := range c.locals {
		if !c.used[l.x] {
			warn(l.name.At, l.name, fmt.Sprintf("the name `%s` is never used", l.name.Text), "use it or remove it")
		}
	}
	for _, a := range f.Accepts {
		if !taken[a.For] && a.Finding.Text == "unused" {
			p := c.src.Problem(a.At, "needless-accept", "nothing below this line is unused", "remove the line")
			p.Warning = true
			c.problems = append(c.problems, p)
		}
	}
}

func (c *checker) unusedEvents(k *Kind, events []*syntax.Event, warn func(syntax.Span, syntax.Ident, string, string)) {
	for _, d := range events {
		for _, e := range c.out.Events {
			if e.Kind == k && e.Name == d.Name.Text && !c.used[e] {
				warn(d.At, d.Name, fmt.Sprintf("the event `%s` is never told", e.FullName()), "tell it: `tell everyone "+e.Name+"(…)`, or remove it")
			}
		}
	}
}

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

// body reads the statements of a handler, timer or action whose arguments are declared.
func (e *env) body(stmts []syntax.Stmt, at syntax.Span) *Body {
	b := &Body{Stmts: e.block(stmts), Line: e.lineOf(at)}
	b.Nums, b.Texts = e.nums, e.texts
	return b
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

func (c *checker) typ(d *syntax.Type) *Type {
	t := c.plainType(d)
	if t != nil && (d.Low != nil && t.Form != FormInt && t.Form != FormReal || d.Step != nil && t.Form != FormReal || d.Max != nil && t.Form != FormText && t.Form != FormStacks || d.Each != nil && t.Form != FormStacks) {
		c.fail(d.At, "no-bound", fmt.Sprintf("a value of the type %s has no such bound", d.Name.Text), "int and real have a range, real has a step, text has max, stacks have max and each")
		return nil
	}
	return t
}

func (c *checker) plainType(d *syntax.Type) *Type {
	switch d.Name.Text {
	case "bool":
		return &Type{Form: FormBool}
	case "int":
		low, ok1 := d.Low.(*syntax.Number)
		high, ok2 := d.High.(*syntax.Number)
		if !ok1 || !ok2 {
			c.fail(d.At, "no-range", "this int has no range", "say the least and the greatest value: int 0..100")
			return nil
		}
		if low.Value > high.Value {
			c.fail(d.At, "out-of-range", fmt.Sprintf("the range %d..%d is empty", low.Value, high.Value), "the least value stands first")
			return nil
		}
		return &Type{Form: FormInt, Low: low.Value, High: high.Value}
	case "real":
		return c.real(d)
	case "text":
		if d.Max == nil {
			c.fail(d.At, "no-range", "this text has no greatest length", "say how many characters it may have: text max 40")
			return nil
		}
		if !c.bounded(d.Max.At, "the greatest length", d.Max.Value, 1, MaxText) {
			return nil
		}
		return &Type{Form: FormText, Max: int(d.Max.Value)}
	case "stacks":
		if d.Of.Text == "" || d.Max == nil || d.Each == nil {
			c.fail(d.At, "no-range", "these stacks are not bounded", "say of what, how many, and how many in each: stacks<Item> max 6 each 5")
			return nil
		}
		e := c.enums[d.Of.Text]
		if e == nil {
			c.fail(d.Of.At, "unknown-name", fmt.Sprintf("the enum `%s` is not declared", d.Of.Text), c.suggest(d.Of.Text, names(c.enums), "declare it: enum "+d.Of.Text+" { … }"))
			return nil
		}
		c.used[e] = true
		if !c.bounded(d.Max.At, "the number of stacks", d.Max.Value, 1, MaxStacks) || !c.bounded(d.Each.At, "the greatest count of a stack", d.Each.Value, 1, MaxStackCount) {
			return nil
		}
		return &Type{Form: FormStacks, Enum: e, Max: int(d.Max.Value), Each: d.Each.Value}
	}
	if e := c.enums[d.Name.Text]; e != nil {
		c.used[e] = true
		return &Type{Form: FormEnum, Enum: e}
	}
	known := append(names(c.enums), "bool", "int", "real", "text", "stacks")
	c.fail(d.Name.At, "unknown-type", fmt.Sprintf("the type `%s` is not known", d.Name.Text), c.suggest(d.Name.Text, known, "one of bool, int 0..100, real 0..1 step 0.01, text max 40, stacks<Item> max 6 each 5, or an enum"))
	return nil
}

// real reads `real A..B step S`.
func (c *checker) real(d *syntax.Type) *Type {
	if d.Low == nil || d.High == nil || d.Step == nil {
		c.fail(d.At, "no-range", "this real has no range or no step", "say the least and the greatest value and the step: real 0..100 step 0.5")
		return nil
	}
	low, high, step := rational(d.Low), rational(d.High), rational(d.Step)
	t := &Type{Form: FormReal, Per: 1, Unit: 1}
	switch {
	case step.Sign() > 0 && step.IsInt() && step.Num().IsInt64():
		t.Unit = step.Num().Int64()
	case step.Sign() > 0 && step.Num().Cmp(big.NewInt(1)) == 0 && step.Denom().IsInt64():
		t.Per = step.Denom().Int64()
	default:
		c.fail(d.Step.Span(), "out-of-range", "this is no step", "a step is a whole number, or 1 over one: 5, 1, 0.5, 0.01, 0.001")
		return nil
	}
	if low.Cmp(high) > 0 {
		c.fail(d.At, "out-of-range", "the range of this real is empty", "the least value stands first")
		return nil
	}
	counts := [2]int64{}
	for i, end := range []*big.Rat{low, high} {
		n := new(big.Rat).Quo(end, step)
		// Up to 2^53 a count and the number that it stands for are exact.
		if !n.IsInt() || new(big.Rat).Abs(end).Cmp(limit) > 0 || new(big.Rat).Abs(n).Cmp(limit) > 0 {
			c.fail([]syntax.Expr{d.Low, d.High}[i].Span(), "out-of-range", "this end of the range is not a whole number of steps, or too far away", "at most 2^53 steps")
			return nil
		}
		counts[i] = n.Num().Int64()
	}
	t.Low, t.High = counts[0], counts[1]
	return t
}

var limit = new(big.Rat).SetInt64(1 << 53)

// rational gives the exact value of a number as it was written.
func rational(x syntax.Expr) *big.Rat {
	switch x := x.(type) {
	case *syntax.Number:
		return new(big.Rat).SetInt64(x.Value)
	case *syntax.Decimal:
		if r, ok := new(big.Rat).SetString(x.Text); ok {
			return r
		}
	}
	return new(big.Rat)
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

// replies tells whether every way through some statements gives a reply or a denial.
func replies(stmts []Stmt) bool {
	for _, s := range stmts {
		if s.Op == OpReply || s.Op == OpDeny || s.Op == OpIf && replies(s.Then) && (replies(s.Else) || s.always()) {
			return true
		}
	}
	return false
}

// always tells whether an `if` is one that a match was turned into, whose condition holds.
func (s *Stmt) always() bool { return s.Value != nil && s.Value.Op == OpConst && s.Value.Num == 1 }

func (c *checker) reason(r *syntax.Literal) {
	if n := utf8.RuneCountInString(r.Value); n == 0 || n > 200 {
		c.fail(r.At, "out-of-range", fmt.Sprintf("this reason has %d characters", n), "from 1 to 200")
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

// env is where an expression or statement stands.
type env struct {
	*checker
	kind     *Kind       // of self; nil in a handler of the contract
	request  *Request    // nil in a handler
	action   *Action     // that is being read, or nil
	written  syntax.Expr // the target of the present assignment, which is not read
	head     bool        // nothing may change
	constant bool        // nothing may be read
	scopes   []map[string]*Expr
	nums     int
	texts    int
}

func (e *env) enter() { e.scopes = append(e.scopes, map[string]*Expr{}) }
func (e *env) leave() { e.scopes = e.scopes[:len(e.scopes)-1] }

func (e *env) declare(n syntax.Ident, t *Type) *Expr {
	for _, s := range e.scopes {
		if s[n.Text] != nil {
			e.fail(n.At, "repeated", fmt.Sprintf("the name `%s` is in use here already", n.Text), "choose another name")
		}
	}
	x := &Expr{Op: OpLocal, Type: t}
	if t.IsText() {
		x.Num = int64(e.texts)
		e.texts++
	} else {
		x.Num = int64(e.nums)
		e.nums++
	}
	if x.Num == MaxLocals {
		e.fail(n.At, "out-of-range", "this is one name too many", fmt.Sprintf("at most %d arguments and names in one request or handler", MaxLocals))
	}
	e.scopes[len(e.scopes)-1][n.Text] = x
	e.locals = append(e.locals, local{n, x})
	return x
}

func (e *env) block(stmts []syntax.Stmt) []Stmt {
	if !e.head {
		e.enter()
		defer e.leave()
	}
	var out []Stmt
	for _, s := range stmts {
		if t, ok := e.stmt(s); ok {
			t.Line, _ = e.src.Position(s.Span().Start)
			out = append(out, t)
		}
	}
	return out
}

func (e *env) stmt(s syntax.Stmt) (Stmt, bool) {
	switch s := s.(type) {
	case *syntax.Let:
		v := e.expr(s.Value, nil)
		if v == nil {
			e.scopes[len(e.scopes)-1][s.Name.Text] = &Expr{Type: &Type{}} // so that its uses are not told as unknown
			return Stmt{}, false
		}
		if v.Type.Form == FormStacks {
			e.fail(s.Value.Span(), "wrong-type", "a name cannot stand for whole stacks", "ask for a count: satchel.count(flare)")
			return Stmt{}, false
		}
		return Stmt{Op: OpLet, Num: e.declare(s.Name, v.Type).Num, Value: v}, true
	case *syntax.Check:
		cond := e.value(s.Cond, &Type{Form: FormBool}, "the condition of a check")
		span := s.Cond.Span()
		line, _ := e.src.Position(s.At.Start)
		text := strings.Join(strings.Fields(e.src.Text[span.Start:span.End]), " ")
		check := Check{Text: text, Drop: s.Reason == nil, Line: line}
		if s.Reason != nil {
			check.Reason = s.Reason.Value
			e.reason(s.Reason)
		}
		e.request.Checks = append(e.request.Checks, check)
		return Stmt{Op: OpCheck, Num: int64(len(e.request.Checks) - 1), Value: cond}, cond != nil
	case *syntax.Assign:
		return e.assign(s)
	case *syntax.Do:
		return e.do(s)
	case *syntax.If:
		cond := e.value(s.Cond, &Type{Form: FormBool}, "the condition of an `if`")
		t := Stmt{Op: OpIf, Value: cond, Then: e.block(s.Then), Else: e.block(s.Else)}
		return t, cond != nil
	case *syntax.Tell:
		return e.tell(s)
	case *syntax.Run:
		return e.run(s)
	case *syntax.Match:
		return e.match(s)
	case *syntax.Reply:
		if e.request == nil || e.request.Reply == nil {
			e.fail(s.At, "no-reply", "nobody waits for a reply here", "a request that gives one says so: request guess(pick: int 0..4) -> bool")
			return Stmt{}, false
		}
		v := e.value(s.Value, e.request.Reply, "the reply")
		return Stmt{Op: OpReply, Value: v, Type: e.request.Reply}, true // a wrong one has been told, and is a reply all the same
	case *syntax.Deny:
		if e.request == nil {
			e.fail(s.At, "no-request", "there is no request here that could be denied", "`deny` stands in the body of a request")
			return Stmt{}, false
		}
		return Stmt{Op: OpDeny, Text: s.Reason.Value}, true
	}
	return Stmt{}, false
}

func (e *env) run(s *syntax.Run) (Stmt, bool) {
	out := Stmt{Op: OpRun}
	kind, name := e.kind, syntax.Ident{}
	switch f := s.Action.(type) {
	case *syntax.Ref:
		if name = f.Ident; e.kind == nil {
			e.fail(f.At, "no-self", "there is no entity here whose action could be run", "name the entity: do c.Diver."+f.Text+"(…)")
			return out, false
		}
		out.X = e.self()
	case *syntax.Member:
		name = f.Name
		if out.X = e.expr(f.X, nil); out.X == nil {
			return out, false
		}
		if out.X.Type.Form != FormEntity {
			e.fail(f.Span(), "wrong-type", fmt.Sprintf("%s has no actions", describe(out.X.Type)), "an action belongs to an entity")
			return out, false
		}
		kind = out.X.Type.Kind
	default:
		e.fail(s.Action.Span(), "expected", "this is no action", "as in `do surface()`")
		return out, false
	}
	var known []string
	for _, a := range kind.Actions {
		known = append(known, a.Name)
		if a.Name == name.Text && out.Act == nil {
			out.Act = a
		}
	}
	if out.Act == nil {
		e.fail(name.At, "unknown-name", fmt.Sprintf("%s has no action `%s`", kind.Name, name.Text), e.suggest(name.Text, known, "declare it: action "+name.Text+"() { … }"))
		return out, false
	}
	e.used[out.Act] = true
	if len(s.Args) != len(out.Act.Params) {
		e.fail(s.At, "arguments", fmt.Sprintf("`%s` is run with %d values", name.Text, len(s.Args)), fmt.Sprintf("it is declared with %d", len(out.Act.Params)))
		return out, false
	}
	if e.action != nil {
		e.calls[e.action] = append(e.calls[e.action], call{out.Act, s.At})
	}
	ok := true
	for i, a := range s.Args {
		p := out.Act.Params[i]
		v := e.value(a, p.Type, "`"+p.Name+"` of the action `"+name.Text+"`")
		out.Args = append(out.Args, v)
		ok = ok && v != nil
	}
	return out, ok
}

// match becomes a row of ifs over a name of its own.
func (e *env) match(s *syntax.Match) (Stmt, bool) {
	x := e.expr(s.X, nil)
	if x == nil || x.Type.Form == "" {
		return Stmt{}, false
	}
	switch x.Type.Form {
	case FormStacks, FormEntity, FormClient, FormReal:
		e.fail(s.X.Span(), "wrong-type", describe(x.Type)+" cannot be matched", "a bool, an int, a text, an enum or a role can")
		return Stmt{}, false
	}
	e.enter()
	defer e.leave()
	line := e.lineOf(s.At)
	held := e.declare(syntax.Ident{Text: fmt.Sprintf("match at %d", s.At.Start), At: s.X.Span()}, x.Type)
	e.used[held] = true
	ok := true
	seen := map[string]bool{}
	var arms []Stmt
	for _, a := range s.Arms {
		var cond *Expr
		for _, value := range a.Values {
			v := e.value(value, x.Type, "this value of the match")
			if v == nil {
				ok = false
				continue
			}
			if v.Op != OpConst {
				e.fail(value.Span(), "not-constant", "this value of the match is computed", "name a constant value, or use `if`")
				ok = false
				continue
			}
			key := fmt.Sprint(v.Num, v.Text)
			if seen[key] {
				e.fail(value.Span(), "repeated", "this value stands in the match already", "remove one of the two")
			}
			seen[key] = true
			eq := &Expr{Op: OpEq, Type: &Type{Form: FormBool}, Args: []*Expr{held, v}}
			if cond == nil {
				cond = eq
			} else {
				cond = &Expr{Op: OpOr, Type: &Type{Form: FormBool}, Args: []*Expr{cond, eq}}
			}
		}
		arms = append(arms, Stmt{Op: OpIf, Value: cond, Then: e.block(a.Body), Line: line})
	}
	var rest []Stmt
	if s.Else != nil {
		rest = e.block(s.Else)
	} else if x.Type.Form == FormEnum {
		var missing []string
		for i, name := range x.Type.Enum.Values {
			if !seen[fmt.Sprint(i, "")] {
				missing = append(missing, name)
			}
		}
		if len(missing) > 0 && ok {
			e.fail(s.At, "not-all", "this match has nothing for "+strings.Join(missing, ", "), "add them, or `else { }`")
		}
		// The last value of all needs no question: it is what is left.
		if n := len(arms); n > 0 {
			rest, arms = arms[n-1].Then, arms[:n-1]
		}
	}
	for i := len(arms) - 1; i >= 0; i-- {
		arms[i].Else = rest
		rest = []Stmt{arms[i]}
	}
	let := Stmt{Op: OpLet, Num: held.Num, Value: x, Line: line}
	always := &Expr{Op: OpConst, Type: &Type{Form: FormBool}, Num: 1}
	return Stmt{Op: OpIf, Value: always, Then: append([]Stmt{let}, rest...)}, ok
}

func (e *env) assign(s *syntax.Assign) (Stmt, bool) {
	if s.Op == "=" {
		e.written = s.Target
	}
	target := counted(e.expr(s.Target, nil))
	if target == nil {
		e.expr(s.Value, nil)
		return Stmt{}, false
	}
	if target.Op != OpGet {
		e.fail(s.Target.Span(), "not-writable", "this cannot be assigned to", "a property can: `hull = 100` or `caller.Diver.hull = 100`")
		return Stmt{}, false
	}
	p := target.Prop
	if p.Type.Form == FormStacks {
		e.fail(s.Target.Span(), "not-writable", fmt.Sprintf("the stacks `%s` cannot be assigned as a whole", p.Name), fmt.Sprintf("use %s.put(item, count) and %s.take(item, count)", p.Name, p.Name))
		return Stmt{}, false
	}
	what := "the new value of `" + p.Name + "`"
	if s.Op == "=" {
		v := e.value(s.Value, p.Type, what)
		return Stmt{Op: OpSet, X: target.Args[0], Prop: p, Value: v}, v != nil
	}
	if p.Type.Form != FormInt && p.Type.Form != FormReal {
		e.fail(s.At, "wrong-type", fmt.Sprintf("`%s` is of the type %s and cannot be counted up or down", p.Name, p.Type), "assign with `=`")
		return Stmt{}, false
	}
	op := OpAdd
	if s.Op == "-=" {
		op = OpSub
	}
	if p.Type.Form == FormReal {
		v := e.value(s.Value, &Type{Form: FormReal}, what)
		if v == nil {
			return Stmt{}, false
		}
		sum := &Expr{Op: op, Type: &Type{Form: FormReal}, Args: []*Expr{widened(target), v}}
		return Stmt{Op: OpSet, X: target.Args[0], Prop: p, Value: &Expr{Op: OpSteps, Type: p.Type, Args: []*Expr{sum}}}, true
	}
	v := e.value(s.Value, &Type{Form: FormInt}, what)
	return Stmt{Op: OpSet, X: target.Args[0], Prop: p, Value: &Expr{Op: op, Type: &Type{Form: FormInt}, Args: []*Expr{target, v}}}, v != nil
}

// methods of stacks: the operation, and whether it changes something.
var methods = map[string]struct {
	op      Op
	changes bool
	count   bool // takes a count after the item
}{"has": {OpHas, false, true}, "count": {OpCount, false, false}, "room": {OpRoom, false, false}, "put": {OpPut, true, true}, "take": {OpTake, true, true}}

// method reads `path.name(item, count)`; ok is false when it is no method of stacks, or has a mistake that has been told.
func (e *env) method(call *syntax.Call) (x *Expr, changes, ok bool) {
	m, isMember := call.Fn.(*syntax.Member)
	if !isMember {
		name := e.src.Text[call.Fn.Span().Start:call.Fn.Span().End]
		hint := "stacks have has, count, room, put and take, as in `satchel.has(flare)`"
		for _, ev := range e.out.Events {
			if ev.Name == name {
				hint = "an event is told: `tell everyone " + name + "(…)`"
			}
		}
		e.fail(call.Fn.Span(), "unknown-name", fmt.Sprintf("there is no function `%s`", name), hint)
		return nil, false, false
	}
	on := e.expr(m.X, nil)
	if on == nil {
		return nil, false, false
	}
	if on.Op != OpGet || on.Type.Form != FormStacks {
		e.fail(m.Name.At, "unknown-name", fmt.Sprintf("%s has no `%s` that could be called", describe(on.Type), m.Name.Text), "stacks have has, count, room, put and take")
		return nil, false, false
	}
	method, known := methods[m.Name.Text]
	if !known {
		e.fail(m.Name.At, "unknown-name", fmt.Sprintf("stacks have no `%s`", m.Name.Text), e.suggest(m.Name.Text, names(methods), "they have has, count, room, put and take"))
		return nil, false, false
	}
	if method.changes && e.head {
		e.fail(call.At, "impure", fmt.Sprintf("`%s` changes something, and the head of a request may not", m.Name.Text), "move it into the body; a check may ask has, count and room")
		return nil, false, false
	}
	most := 1
	if method.count {
		most = 2
	}
	if len(call.Args) < 1 || len(call.Args) > most {
		e.fail(call.At, "arguments", fmt.Sprintf("`%s` has %d arguments", m.Name.Text, len(call.Args)), fmt.Sprintf("it takes an item%s", map[bool]string{true: ", and a count unless it is 1", false: ""}[method.count]))
		return nil, false, false
	}
	item := e.value(call.Args[0], &Type{Form: FormEnum, Enum: on.Type.Enum}, "the item")
	count := &Expr{Op: OpConst, Type: &Type{Form: FormInt}, Num: 1}
	if len(call.Args) == 2 {
		count = e.value(call.Args[1], &Type{Form: FormInt, Low: 0, High: MaxStackCount * MaxStacks}, "the count")
	}
	if item == nil || count == nil {
		return nil, false, false
	}
	t := &Type{Form: FormInt}
	if method.op == OpHas {
		t = &Type{Form: FormBool}
	}
	return &Expr{Op: method.op, Type: t, Prop: on.Prop, Args: []*Expr{on.Args[0], item, count}}, method.changes, true
}

func (e *env) do(s *syntax.Do) (Stmt, bool) {
	call, ok := s.X.(*syntax.Call)
	if !ok {
		return Stmt{}, false
	}
	x, changes, ok := e.method(call)
	if !ok {
		return Stmt{}, false
	}
	if !changes {
		e.fail(s.At, "no-effect", "this value is computed and then thrown away", "use it in a condition or assign it")
		return Stmt{}, false
	}
	return Stmt{Op: x.Op, X: x.Args[0], Prop: x.Prop, Args: x.Args[1:]}, true
}

func (e *env) tell(s *syntax.Tell) (Stmt, bool) {
	out := Stmt{Op: OpTell, Who: e.who(s.To)}
	var kind *Kind
	var name syntax.Ident
	switch f := s.Event.(type) {
	case *syntax.Ref:
		name, kind = f.Ident, e.kind
		if kind != nil && slices.ContainsFunc(kind.Events, func(ev *Event) bool { return ev.Name == name.Text }) {
			out.X = &Expr{Op: OpSelf, Type: &Type{Form: FormEntity, Kind: kind}}
		} else {
			kind = nil
		}
	case *syntax.Member:
		name = f.Name
		out.X = e.expr(f.X, nil)
		if out.X == nil {
			return out, false
		}
		if out.X.Type.Form != FormEntity {
			e.fail(f.Span(), "wrong-type", fmt.Sprintf("%s has no events", describe(out.X.Type)), "an event belongs to an entity or to the contract")
			return out, false
		}
		kind = out.X.Type.Kind
	default:
		e.fail(s.Event.Span(), "expected", "this is no event", "as in `tell everyone used(item)`")
		return out, false
	}
	var known []string
	for _, ev := range e.out.Events {
		if ev.Kind == kind || out.X == nil && ev.Kind == e.kind {
			known = append(known, ev.Name)
		}
		if ev.Kind == kind && ev.Name == name.Text {
			out.Event = ev
		}
	}
	if out.Event == nil {
		e.fail(name.At, "unknown-name", fmt.Sprintf("the event `%s` is not declared", name.Text), e.suggest(name.Text, known, "declare it: event "+name.Text+"(…)"))
		return out, false
	}
	e.used[out.Event] = true
	if len(s.Args) != len(out.Event.Params) {
		e.fail(s.At, "arguments", fmt.Sprintf("`%s` is told with %d values", name.Text, len(s.Args)), fmt.Sprintf("it is declared with %d", len(out.Event.Params)))
		return out, false
	}
	ok := out.Who != nil
	for i, a := range s.Args {
		p := out.Event.Params[i]
		v := e.value(a, p.Type, "`"+p.Name+"` of the event `"+name.Text+"`")
		out.Args = append(out.Args, v)
		ok = ok && v != nil
	}
	return out, ok
}

// who reads the clients that something is told to.
func (e *env) who(a *syntax.Audience) []Who {
	var out []Who
	for _, t := range a.Terms {
		w := Who{But: t.But}
		r, isRef := t.Who.(*syntax.Ref)
		switch {
		case isRef && r.Text == "everyone":
			w.Sort = ToEveryone
		case isRef && r.Text == "nobody":
			w.Sort = ToNobody
		case isRef && r.Text == "owner" && e.kind != nil:
			w.Sort = ToOwner
		case isRef && r.Text == "caller" && e.request != nil:
			w.Sort = ToCaller
		case isRef && e.local(r.Text) == nil && slices.Contains(e.out.Roles, r.Text):
			w.Sort, w.Role = ToRole, slices.Index(e.out.Roles, r.Text)
			e.used[role(r.Text)] = true
		default:
			w.Sort = ToClient
			if w.X = e.expr(t.Who, nil); w.X == nil {
				return nil
			}
			if w.X.Type.Form != FormClient {
				e.fail(t.Who.Span(), "wrong-type", fmt.Sprintf("%s is nobody who could be told", describe(w.X.Type)), "tell everyone, owner, caller, a role or a client")
				return nil
			}
		}
		out = append(out, w)
	}
	return out
}

func (e *env) local(name string) *Expr {
	for i := len(e.scopes) - 1; i >= 0; i-- {
		if x := e.scopes[i][name]; x != nil {
			return x
		}
	}
	return nil
}

func describe(t *Type) string {
	switch t.Form {
	case FormEntity:
		return "an entity of the kind " + t.Kind.Name
	case FormClient:
		return "a client"
	case FormStacks:
		return "a property of stacks"
	}
	return "a value of the type " + t.String()
}

// widened gives the real that a counted one stands for; other expressions stay as they are.
func widened(x *Expr) *Expr {
	if x == nil || x.Type.Form != FormReal || x.Type.Per == 0 {
		return x
	}
	return &Expr{Op: OpReal, Type: &Type{Form: FormReal}, Args: []*Expr{x}}
}

// counted takes back what widened did.
func counted(x *Expr) *Expr {
	if x != nil && x.Op == OpReal {
		return x.Args[0]
	}
	return x
}

// real makes a real of a whole number.
func real(x *Expr) *Expr {
	if x.Type.Form != FormInt {
		return x
	}
	if x.Op == OpConst {
		return &Expr{Op: OpConst, Type: &Type{Form: FormReal}, Num: int64(math.Float64bits(float64(x.Num)))}
	}
	return &Expr{Op: OpFromInt, Type: &Type{Form: FormReal}, Args: []*Expr{x}}
}

func same(a, b *Type) bool {
	return a.Form == b.Form && a.Kind == b.Kind && (a.Enum == b.Enum || a.Form != FormEnum)
}

// value reads an expression that has to be of a type.
func (e *env) value(x syntax.Expr, want *Type, what string) *Expr {
	v := e.expr(x, want)
	if v == nil {
		return nil
	}
	if v.Type.Form == "" {
		return nil // its mistake has been told
	}
	if want.Form == FormReal && (v.Type.Form == FormInt || v.Type.Form == FormReal) {
		return e.realValue(x, real(v), want, what)
	}
	if !same(v.Type, want) {
		e.fail(x.Span(), "wrong-type", fmt.Sprintf("%s is %s", what, describe(v.Type)), "it has to be "+describe(want))
		return nil
	}
	if v.Op == OpConst {
		if want.Form == FormInt && want.Low < want.High && (v.Num < want.Low || v.Num > want.High) {
			e.fail(x.Span(), "out-of-range", fmt.Sprintf("%s is %d", what, v.Num), fmt.Sprintf("from %d to %d", want.Low, want.High))
			return nil
		}
		if want.Form == FormText && want.Max > 0 && utf8.RuneCountInString(v.Text) > want.Max {
			e.fail(x.Span(), "out-of-range", fmt.Sprintf("%s has %d characters", what, utf8.RuneCountInString(v.Text)), fmt.Sprintf("at most %d", want.Max))
			return nil
		}
	}
	return v
}

// realValue fits a real to what is wanted: a double, or a count of steps.
func (e *env) realValue(x syntax.Expr, v *Expr, want *Type, what string) *Expr {
	if want.Per == 0 {
		return v
	}
	if from := counted(v); from != v && *from.Type == *want {
		return from // the same steps: nothing to round
	}
	if v.Op != OpConst {
		return &Expr{Op: OpSteps, Type: want, Args: []*Expr{v}}
	}
	n, _ := want.Steps(math.Float64frombits(uint64(v.Num)))
	if n < want.Low || n > want.High {
		e.fail(x.Span(), "out-of-range", fmt.Sprintf("%s is %s", what, want.decimal(n)), fmt.Sprintf("from %s to %s", want.decimal(want.Low), want.decimal(want.High)))
		return nil
	}
	return &Expr{Op: OpConst, Type: want, Num: n}
}

// expr reads an expression. want, which may be nil, is the type that a bare name of an enum's value is looked up in. The
// result is nil when there was a mistake; it has been told.
func (e *env) expr(x syntax.Expr, want *Type) *Expr {
	switch x := x.(type) {
	case *syntax.Number:
		return &Expr{Op: OpConst, Type: &Type{Form: FormInt}, Num: x.Value}
	case *syntax.Decimal:
		f, err := strconv.ParseFloat(x.Text, 64)
		if err != nil {
			e.fail(x.At, "bad-number", "the number "+x.Text+" is too large", "reals are doubles")
			return nil
		}
		return &Expr{Op: OpConst, Type: &Type{Form: FormReal}, Num: int64(math.Float64bits(f))}
	case *syntax.Literal:
		return &Expr{Op: OpConst, Type: &Type{Form: FormText}, Text: x.Value}
	case *syntax.Truth:
		v := &Expr{Op: OpConst, Type: &Type{Form: FormBool}}
		if x.Value {
			v.Num = 1
		}
		return v
	case *syntax.Ref:
		return e.ref(x, want)
	case *syntax.Member:
		return e.member(x)
	case *syntax.Call:
		v, changes, ok := e.method(x)
		if !ok {
			return nil
		}
		if changes {
			e.fail(x.At, "no-value", "this changes stacks and gives no value", "let it stand as a statement of its own")
			return nil
		}
		return v
	case *syntax.Unary:
		t := &Type{Form: FormInt}
		op := OpNeg
		if x.Op == "not" {
			t, op = &Type{Form: FormBool}, OpNot
		}
		if op == OpNeg {
			if v := e.expr(x.X, nil); v != nil && v.Type.Form == FormReal {
				if v.Op == OpConst {
					return &Expr{Op: OpConst, Type: v.Type, Num: int64(math.Float64bits(-math.Float64frombits(uint64(v.Num))))}
				}
				return &Expr{Op: OpNeg, Type: v.Type, Args: []*Expr{v}}
			} else if v == nil {
				return nil
			}
		}
		v := e.value(x.X, t, "what `"+x.Op+"` stands before")
		if v == nil {
			return nil
		}
		if op == OpNeg && v.Op == OpConst {
			return &Expr{Op: OpConst, Type: t, Num: -v.Num}
		}
		return &Expr{Op: op, Type: t, Args: []*Expr{v}}
	case *syntax.Binary:
		return e.binary(x)
	}
	return nil
}

var numeric = map[string]Op{"+": OpAdd, "-": OpSub, "*": OpMul, "/": OpDiv, "%": OpMod, "<": OpLt, "<=": OpLe, ">": OpGt, ">=": OpGe}

func (e *env) binary(x *syntax.Binary) *Expr {
	boolean, whole := &Type{Form: FormBool}, &Type{Form: FormInt}
	both := func(op Op, operand, result *Type) *Expr {
		a := e.value(x.A, operand, "the left side of `"+x.Op+"`")
		b := e.value(x.B, operand, "the right side of `"+x.Op+"`")
		if a == nil || b == nil {
			return nil
		}
		return &Expr{Op: op, Type: result, Args: []*Expr{a, b}}
	}
	switch x.Op {
	case "and":
		return both(OpAnd, boolean, boolean)
	case "or":
		return both(OpOr, boolean, boolean)
	case "==", "!=":
		op := OpEq
		if x.Op == "!=" {
			op = OpNe
		}
		// A bare enum value takes its type from the other side.
		first, second := x.A, x.B
		if r, ok := x.A.(*syntax.Ref); ok && !e.known(r) {
			first, second = x.B, x.A
		}
		a := e.expr(first, nil)
		if a == nil || a.Type.Form == "" {
			return nil
		}
		if a.Type.Form == FormStacks {
			e.fail(first.Span(), "wrong-type", "stacks cannot be compared as a whole", "compare a count: satchel.count(flare) == 2")
			return nil
		}
		if a.Type.Form == FormInt {
			if b := e.expr(second, nil); b != nil && b.Type.Form == FormReal {
				return &Expr{Op: op, Type: boolean, Args: []*Expr{real(a), b}}
			} else if b == nil {
				return nil
			}
		}
		b := e.value(second, a.Type, "the other side of `"+x.Op+"`")
		if b == nil {
			return nil
		}
		return &Expr{Op: op, Type: boolean, Args: []*Expr{a, b}}
	}
	a, b := e.expr(x.A, nil), e.expr(x.B, nil)
	if a == nil || b == nil || a.Type.Form == "" || b.Type.Form == "" {
		return nil
	}
	operand, result := whole, whole
	if a.Type.Form == FormReal || b.Type.Form == FormReal {
		if x.Op == "%" {
			e.fail(x.OpAt, "wrong-type", "`%` works on whole numbers only", "reals have + - * /")
			return nil
		}
		operand, result = &Type{Form: FormReal}, &Type{Form: FormReal}
	}
	switch x.Op {
	case "<", "<=", ">", ">=":
		result = boolean
	}
	for i, side := range []*Expr{a, b} {
		if side.Type.Form != FormInt && side.Type.Form != FormReal {
			e.fail([]syntax.Expr{x.A, x.B}[i].Span(), "wrong-type", fmt.Sprintf("the %s side of `%s` is %s", []string{"left", "right"}[i], x.Op, describe(side.Type)), "it has to be a number")
			return nil
		}
	}
	if operand.Form == FormReal {
		a, b = real(a), real(b)
	}
	return &Expr{Op: numeric[x.Op], Type: result, Args: []*Expr{a, b}}
}

// known tells whether a bare name means something without a type to look it up in.
func (e *env) known(r *syntax.Ref) bool {
	return syntax.Reserved(r.Text) || e.local(r.Text) != nil || e.kind != nil && e.kind.Property(r.Text) != nil || e.kinds[r.Text] != nil || e.consts[r.Text] != nil
}

func (e *env) ref(x *syntax.Ref, want *Type) *Expr {
	if e.constant {
		if v := e.consts[x.Text]; v != nil {
			e.used["const "+x.Text] = true
			return v
		}
		if want != nil && want.Form == FormEnum {
			if i := slices.Index(want.Enum.Values, x.Text); i >= 0 {
				e.used[value{want.Enum, int64(i)}] = true
				return &Expr{Op: OpConst, Type: want, Num: int64(i)}
			}
			e.fail(x.At, "unknown-name", fmt.Sprintf("`%s` is no %s", x.Text, want.Enum.Name), e.suggest(x.Text, want.Enum.Values, "one of "+strings.Join(want.Enum.Values, ", ")))
			return nil
		}
		e.fail(x.At, "not-constant", fmt.Sprintf("the default is computed from `%s`", x.Text), "a default is a number, a text, true, false or a value of an enum")
		return nil
	}
	switch x.Text {
	case "self":
		if e.kind == nil {
			e.fail(x.At, "no-self", "there is no `self` here", "`self` is the entity whose request runs")
			return nil
		}
		return e.self()
	case "owner":
		if e.kind == nil {
			e.fail(x.At, "no-self", "there is no `owner` here", "name the entity: c.Diver.owner")
			return nil
		}
		return &Expr{Op: OpOwner, Type: &Type{Form: FormClient}, Args: []*Expr{e.self()}}
	case "caller":
		if e.request == nil {
			e.fail(x.At, "no-request", "there is no `caller` here", "only a request has one; here the client is the argument of `on join`")
			return nil
		}
		return &Expr{Op: OpCaller, Type: &Type{Form: FormClient}}
	case "server":
		return &Expr{Op: OpConst, Type: &Type{Form: FormClient}}
	case "everyone", "nobody":
		e.fail(x.At, "audience", fmt.Sprintf("`%s` is an audience, not a value", x.Text), "it stands after `to`, `from` or `tell`")
		return nil
	}
	if v := e.local(x.Text); v != nil {
		if v.Type.Form == "" {
			return nil
		}
		e.used[v] = true
		return widened(v)
	}
	if e.kind != nil {
		if p := e.kind.Property(x.Text); p != nil {
			e.used[p] = e.used[p] || e.written != syntax.Expr(x)
			return widened(&Expr{Op: OpGet, Type: p.Type, Prop: p, Args: []*Expr{e.self()}})
		}
	}
	if v := e.consts[x.Text]; v != nil {
		e.used["const "+x.Text] = true
		return v
	}
	if k := e.kinds[x.Text]; k != nil {
		if !k.Shared {
			e.fail(x.At, "many", fmt.Sprintf("there is one %s for each %s; which is meant?", k.Name, e.out.Roles[k.Per]), "name whose: caller."+k.Name)
			return nil
		}
		return &Expr{Op: OpShared, Type: &Type{Form: FormEntity, Kind: k}, Kind: k}
	}
	if want != nil && want.Form == FormEnum {
		if i := slices.Index(want.Enum.Values, x.Text); i >= 0 {
			e.used[value{want.Enum, int64(i)}] = true
			return &Expr{Op: OpConst, Type: want, Num: int64(i)}
		}
	}
	if want != nil && want.Form == FormRole {
		if i := slices.Index(e.out.Roles, x.Text); i >= 0 {
			e.used[role(x.Text)] = true
			return &Expr{Op: OpConst, Type: want, Num: int64(i)}
		}
	}
	e.unknown(x, want)
	return nil
}

func (e *env) self() *Expr {
	return &Expr{Op: OpSelf, Type: &Type{Form: FormEntity, Kind: e.kind}}
}

func (e *env) unknown(x *syntax.Ref, want *Type) {
	if e.enums[x.Text] != nil {
		e.fail(x.At, "wrong-type", fmt.Sprintf("`%s` is an enum, not a value", x.Text), fmt.Sprintf("name one of its values: %s.%s", x.Text, e.enums[x.Text].Values[0]))
		return
	}
	for _, en := range e.out.Enums {
		if slices.Contains(en.Values, x.Text) {
			if want != nil && want.Form != "" {
				e.fail(x.At, "wrong-type", fmt.Sprintf("`%s` is a value of %s", x.Text, en.Name), "here stands "+describe(want))
			} else {
				e.fail(x.At, "unknown-name", fmt.Sprintf("it is not clear what `%s` means here", x.Text), fmt.Sprintf("write %s.%s", en.Name, x.Text))
			}
			return
		}
	}
	var known []string
	for _, s := range e.scopes {
		known = append(known, names(s)...)
	}
	if e.kind != nil {
		for _, p := range e.kind.Properties {
			known = append(known, p.Name)
		}
	}
	if want != nil && want.Form == FormEnum {
		known = append(known, want.Enum.Values...)
	}
	if want != nil && want.Form == FormRole {
		known = append(known, e.out.Roles...)
	}
	known = append(known, names(e.kinds)...)
	known = append(known, names(e.consts)...)
	hint := "a property, an argument or a name made with `let` can stand here"
	if e.kind == nil {
		hint = "name whose property it is: c.Diver.hull"
	}
	e.fail(x.At, "unknown-name", fmt.Sprintf("the name `%s` is not declared", x.Text), e.suggest(x.Text, known, hint))
}

func (e *env) member(x *syntax.Member) *Expr {
	if r, ok := x.X.(*syntax.Ref); ok && e.local(r.Text) == nil {
		if en := e.enums[r.Text]; en != nil {
			if i := slices.Index(en.Values, x.Name.Text); i >= 0 {
				e.used[en], e.used[value{en, int64(i)}] = true, true
				return &Expr{Op: OpConst, Type: &Type{Form: FormEnum, Enum: en}, Num: int64(i)}
			}
			e.fail(x.Name.At, "unknown-name", fmt.Sprintf("%s has no value `%s`", en.Name, x.Name.Text), e.suggest(x.Name.Text, en.Values, "it has "+strings.Join(en.Values, ", ")))
			return nil
		}
	}
	on := e.expr(x.X, nil)
	if on == nil || on.Type.Form == "" {
		return nil
	}
	name := x.Name.Text
	switch on.Type.Form {
	case FormEntity:
		if name == "owner" {
			return &Expr{Op: OpOwner, Type: &Type{Form: FormClient}, Args: []*Expr{on}}
		}
		k := on.Type.Kind
		if p := k.Property(name); p != nil {
			e.used[p] = e.used[p] || e.written != syntax.Expr(x)
			return widened(&Expr{Op: OpGet, Type: p.Type, Prop: p, Args: []*Expr{on}})
		}
		known := []string{"owner"}
		for _, p := range k.Properties {
			known = append(known, p.Name)
		}
		e.fail(x.Name.At, "unknown-name", fmt.Sprintf("%s has no property `%s`", k.Name, name), e.suggest(name, known, "it has "+strings.Join(known, ", ")))
		return nil
	case FormClient:
		switch name {
		case "name":
			return &Expr{Op: OpName, Type: &Type{Form: FormText}, Args: []*Expr{on}}
		case "role":
			return &Expr{Op: OpRole, Type: &Type{Form: FormRole}, Args: []*Expr{on}}
		case "number":
			return &Expr{Op: OpNumber, Type: &Type{Form: FormInt}, Args: []*Expr{on}}
		}
		if k := e.kinds[name]; k != nil && !k.Shared {
			return &Expr{Op: OpEntityOf, Type: &Type{Form: FormEntity, Kind: k}, Kind: k, Args: []*Expr{on}}
		}
		known := append([]string{"name", "role", "number"}, names(e.kinds)...)
		e.fail(x.Name.At, "unknown-name", fmt.Sprintf("a client has no `%s`", name), e.suggest(name, known, "it has name, role, number, and the kinds that each client has one of"))
		return nil
	}
	e.fail(x.Name.At, "unknown-name", fmt.Sprintf("%s has no `%s`", describe(on.Type), name), "only entities and clients have parts")
	return nil
}
