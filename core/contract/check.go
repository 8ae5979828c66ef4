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

// Load reads and checks a contract of one file. The problems hold every mistake, of the text and of its meaning, in the order
// of the lines; the contract is nil exactly when one of them is more than a warning.
func Load(name, text string) (*Contract, syntax.Problems) {
	return LoadWith(name, text, func(other string) (string, error) {
		return "", fmt.Errorf("the file %q is not part of this contract", other)
	})
}

// LoadWith is Load for a contract that includes other files or takes tables from them; open gives their texts.
func LoadWith(name, text string, open syntax.Open) (*Contract, syntax.Problems) {
	src := syntax.NewSource(name, text)
	file, problems := syntax.Parse(src, open)
	c := &checker{
		src: src, problems: problems, files: open, enums: map[string]*Enum{}, kinds: map[string]*Kind{}, consts: map[string]*Expr{}, calls: map[any][]call{}, used: map[any]bool{}, sent: map[*Enum]bool{},
		trees: map[*Kind]*syntax.Entity{}, unread: len(problems) > 0, parts: map[string]*part{}, aliases: map[string]*syntax.TypeDecl{}, types: map[string]*Type{}, open: map[string]bool{},
		settings: map[string]*Setting{}, fns: map[string]*Fn{}, audiences: map[string]*Named{}, texts: map[string]int64{"": 0}, changes: map[int]bool{}, spawns: map[*Kind]bool{},
		out: &Contract{TickRate: 20, Seats: 64, Source: src, Texts: []string{""}},
	}
	c.file(file)
	if len(c.problems) > 0 {
		return nil, c.problems.Sort() // what is unused may only not have been understood
	}
	c.unused(file)
	if slices.ContainsFunc(c.problems, func(p syntax.Problem) bool { return !p.Warning }) {
		return nil, c.problems.Sort()
	}
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

// call is a place where an action runs another, or a function calls another.
type call struct {
	to any
	at syntax.Span
}

// part is a declared part. Its kind, which is in no contract, has what the part itself declares and needs.
type part struct {
	tree *syntax.Entity
	kind *Kind
}

// maxProblems is how many mistakes are told in one run.
const maxProblems = 200

type checker struct {
	src       *syntax.Source
	files     syntax.Open
	problems  syntax.Problems
	out       *Contract
	enums     map[string]*Enum
	aliases   map[string]*syntax.TypeDecl
	types     map[string]*Type // of the aliases that were read
	open      map[string]bool  // aliases that are being read
	kinds     map[string]*Kind
	parts     map[string]*part
	inPart    *part // that is being read
	consts    map[string]*Expr
	settings  map[string]*Setting
	fns       map[string]*Fn
	audiences map[string]*Named
	texts     map[string]int64 // where a text stands among the contract's
	used      map[any]bool     // constants by name; enums, roles (as role), values (as value), declarations of properties, events and actions (by offset), locals, and so on
	locals    []local
	sent      map[*Enum]bool // enums that are arguments of requests
	calls     map[any][]call // which actions and functions run which, to find circles
	trees     map[*Kind]*syntax.Entity
	events    []*Event       // the contract's own
	changes   map[int]bool   // declarations of properties that something may give another value than their default
	spawns    map[*Kind]bool // kinds that some body spawns
	later     []func()       // what can be told only when all bodies are read
	unread    bool           // the text itself has mistakes: what is missing may only not have been understood
}

// text gives the place of a text among the contract's.
func (c *checker) text(s string) int64 {
	n, known := c.texts[s]
	if !known {
		n = int64(len(c.out.Texts))
		c.texts[s] = n
		c.out.Texts = append(c.out.Texts, s)
	}
	return n
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
	c.header(f)
	for _, a := range f.Accepts {
		if !findings[a.Finding.Text] {
			c.fail(a.Finding.At, "unknown-name", fmt.Sprintf("there is no finding `%s`", a.Finding.Text), c.suggest(a.Finding.Text, names(findings), "one of "+joined(names(findings))))
		}
	}
	var consts []*syntax.Const
	var entities []*syntax.Entity
	var events []*syntax.Event
	var fns []*syntax.Fn
	var audiences []*syntax.AudienceDecl
	handlers := map[string]*syntax.Handler{}
	for _, d := range f.Decls {
		switch d := d.(type) {
		case *syntax.Enum:
			c.enum(d)
		case *syntax.TypeDecl:
			if c.freeTypeName(d.Name) {
				c.aliases[d.Name.Text] = d
			}
		case *syntax.Const:
			consts = append(consts, d)
		case *syntax.Fn:
			fns = append(fns, d)
		case *syntax.AudienceDecl:
			audiences = append(audiences, d)
		case *syntax.Entity:
			entities = append(entities, d)
		case *syntax.Event:
			events = append(events, d)
		case *syntax.Handler:
			switch d.On.Text {
			case "join", "lost", "back", "leave":
				if other := handlers[d.On.Text]; other != nil {
					c.fail(d.At, "repeated", fmt.Sprintf("the contract has an `on %s` already, in line %d", d.On.Text, c.lineOf(other.At)), "put both into one")
					continue
				}
				handlers[d.On.Text] = d
			default:
				c.fail(d.On.At, "unknown-name", fmt.Sprintf("nothing is known that `on %s` could wait for", d.On.Text), "a contract can have on join(c), on lost(c), on back(c) and on leave(c)")
			}
		}
	}
	c.bounded(syntax.Span{}, "the number of kinds", int64(len(entities)), 0, MaxKinds)
	for _, d := range entities {
		c.kind(d)
	}
	for _, d := range f.Decls {
		if d, ok := d.(*syntax.TypeDecl); ok && c.aliases[d.Name.Text] == d {
			c.alias(d)
		}
	}
	for _, d := range consts {
		c.constant(d)
	}
	for _, k := range c.out.Kinds {
		c.trees[k] = c.merged(k, c.trees[k])
	}
	for _, p := range c.parts {
		p.kind = &Kind{Name: p.tree.Name.Text, Per: -1, To: Everyone}
		c.trees[p.kind] = c.merged(p.kind, p.tree)
	}
	for _, k := range c.out.Kinds {
		c.members(k, c.trees[k])
	}
	for _, d := range events {
		if e := c.event(d, nil); e != nil {
			c.out.Events = append(c.out.Events, e)
			c.events = append(c.events, e)
		}
	}
	c.functions(fns, audiences)
	for _, k := range c.out.Kinds {
		c.wholeKind(k)
	}
	for _, name := range names(c.parts) {
		c.onePart(c.parts[name])
	}
	c.circles()
	for _, h := range []struct {
		name string
		to   **Body
	}{{"join", &c.out.OnJoin}, {"lost", &c.out.OnLost}, {"back", &c.out.OnBack}, {"leave", &c.out.OnLeave}} {
		if d := handlers[h.name]; d != nil {
			env := &env{checker: c}
			env.enter()
			env.used[env.declare(d.Param, &Type{Form: FormClient})] = true
			*h.to = env.body(d.Body, d.At)
		}
	}
	for _, f := range c.later {
		f()
	}
}

// header reads the lines that stand once in a contract.
func (c *checker) header(f *syntax.File) {
	seen := map[string]syntax.Decl{}
	once := func(d syntax.Decl, what string) bool {
		if other := seen[what]; other != nil {
			c.fail(d.Span(), "repeated", fmt.Sprintf("the contract has %s already, in line %d", what, c.lineOf(other.Span())), "remove one of the two")
			return false
		}
		seen[what] = d
		return true
	}
	for i, d := range f.Decls {
		switch d := d.(type) {
		case *syntax.Contract:
			if once(d, "a name") {
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
			if once(d, "a tick rate") && c.bounded(d.Rate.At, "the number of ticks per second", d.Rate.Value, 1, MaxTickRate) {
				c.out.TickRate = int(d.Rate.Value)
			}
		case *syntax.Roles:
			if once(d, "a list of roles") {
				c.bounded(d.At, "the number of roles", int64(len(d.Names)), 1, MaxRoles)
				for _, n := range d.Names {
					if slices.Contains(c.out.Roles, n.Text) {
						c.fail(n.At, "repeated", fmt.Sprintf("the role `%s` is listed twice", n.Text), "remove one of the two")
						continue
					}
					c.out.Roles = append(c.out.Roles, n.Text)
				}
			}
		}
	}
	// These count in ticks, whose rate may stand below them.
	for _, d := range f.Decls {
		switch d := d.(type) {
		case *syntax.Seats:
			if once(d, "a number of seats") && c.bounded(d.Count.At, "the number of seats", d.Count.Value, 1, MaxSeats) {
				c.out.Seats = int(d.Count.Value)
				if d.Grace != nil {
					c.out.Grace = c.ticks(d.Grace.At, d.Grace.Value)
				}
			}
		case *syntax.Strikes:
			if once(d, "a number of strikes") && c.bounded(d.Count.At, "the number of strikes", d.Count.Value, 1, MaxLimit) {
				c.out.Strikes, c.out.Window = int(d.Count.Value), c.ticks(d.Window.At, d.Window.Value)
			}
		}
	}
	if seen["a name"] == nil && !c.unread {
		c.fail(syntax.Span{}, "no-header", "the contract has no name", "begin with a line such as `contract tidewreck language 1`")
	}
	if len(c.out.Roles) == 0 {
		c.out.Roles = []string{"player"}
	}
}

func (c *checker) lineOf(at syntax.Span) int {
	line, _ := c.src.Position(at.Start)
	return line
}

// constant reads a `const` or a `setting`.
func (c *checker) constant(d *syntax.Const) {
	name := d.Name.Text
	if c.consts[name] != nil || c.settings[name] != nil {
		c.fail(d.Name.At, "repeated", fmt.Sprintf("the constant `%s` is declared already", name), "choose another name")
		return
	}
	var t *Type
	if d.Type != nil {
		if t = c.typ(d.Type, inMessage); t == nil {
			c.consts[name] = &Expr{Type: &Type{}} // so that its uses are not told as unknown
			return
		}
	}
	if d.From != nil {
		c.table(d, t)
		return
	}
	env := &env{checker: c, constant: true}
	var v *Expr
	if t != nil {
		v = env.value(d.Value, t, "the value of `"+name+"`")
	} else {
		v = env.expr(d.Value, nil)
	}
	if v == nil {
		c.consts[name] = &Expr{Type: &Type{}}
		return
	}
	slots, ok := c.slots(v)
	if !ok {
		c.fail(d.Value.Span(), "not-constant", "this is computed", "a constant is a number, a text, true, false, a vector, a list, a record or a value of an enum, as in Item.flare")
		return
	}
	switch {
	case d.Setting:
		if t.Holder() || t.Has(FormEntity) || t.Has(FormClient) {
			c.fail(d.Type.At, "wrong-type", "a setting cannot be of this type", "a number, a text, a vector, an enum or a record of such")
			return
		}
		c.bounded(d.Name.At, "the number of settings", int64(len(c.out.Settings)+1), 0, MaxSettings)
		s := &Setting{Name: name, Type: t, Default: slots}
		for _, other := range c.out.Settings {
			s.Slot += other.Type.Width()
		}
		c.out.Settings = append(c.out.Settings, s)
		c.settings[name] = s
	case v.Type.Holder() || v.Type.Form == FormRecord:
		c.consts[name] = c.memory(v.Type, slots)
	case v.Type.Counted():
		c.consts[name] = widened(v)
	default:
		c.consts[name] = v
	}
}

// memory puts slots into the contract's memory.
func (c *checker) memory(t *Type, slots []int64) *Expr {
	x := &Expr{Op: OpTable, Type: t, Num: int64(len(c.out.Memory))}
	c.out.Memory = append(c.out.Memory, slots...)
	return x
}

// table reads a constant from a JSON file.
func (c *checker) table(d *syntax.Const, t *Type) {
	c.consts[d.Name.Text] = &Expr{Type: &Type{}}
	if t == nil {
		c.fail(d.Name.At, "no-type", "a table has to have a type", "as in `const walls: list<Segment> max 500 from \"walls.json\"`")
		return
	}
	text, err := c.files(d.From.Value)
	if err != nil {
		c.fail(d.From.At, "no-file", err.Error(), "name a file beside the contract")
		return
	}
	v, err := t.ParseJSON([]byte(text))
	if err != nil {
		c.fail(d.From.At, "bad-table", fmt.Sprintf("what %q holds %s", d.From.Value, err), "it has to be a value of the type "+t.String()+", as JSON")
		return
	}
	if t.Has(FormEntity) || t.Has(FormClient) {
		c.fail(d.Type.At, "wrong-type", "a table cannot hold refs or clients", "they come to be only in a session")
		return
	}
	x := c.memory(t, t.AppendSlots(nil, v, c.text))
	if !t.Holder() && t.Form != FormRecord {
		slots := c.out.Memory[x.Num:]
		x = widened(&Expr{Op: OpConst, Type: t, Num: slots[0], Nums: slots})
	}
	c.consts[d.Name.Text] = x
}

// slots gives the slots of a constant expression; ok is false when it is computed.
func (c *checker) slots(v *Expr) (out []int64, ok bool) {
	switch v.Op {
	case OpConst:
		if v.Nums != nil {
			return v.Nums, true
		}
		return []int64{v.Num}, true
	case OpTable:
		return c.out.Memory[v.Num : int(v.Num)+v.Type.Width()], true
	case OpRecord, OpList:
		if v.Op == OpList {
			out = append(out, int64(len(v.Args)))
		}
		for _, a := range v.Args {
			part, ok := c.slots(a)
			if !ok {
				return nil, false
			}
			out = append(out, part...)
		}
		return append(out, make([]int64, v.Type.Width()-len(out))...), true
	case OpReal:
		if _, ok := c.slots(v.Args[0]); ok && v.Args[0].Op == OpConst {
			return c.slots(v.Args[0])
		}
	}
	return nil, false
}

// functions reads the functions and named audiences.
func (c *checker) functions(fns []*syntax.Fn, audiences []*syntax.AudienceDecl) {
	c.bounded(syntax.Span{}, "the number of functions", int64(len(fns)), 0, MaxFns)
	c.bounded(syntax.Span{}, "the number of audiences", int64(len(audiences)), 0, MaxFns)
	read := map[*Fn]*syntax.Fn{}
	for _, d := range fns {
		if c.fns[d.Name.Text] != nil || builtin[d.Name.Text] || aggregates[d.Name.Text] {
			c.fail(d.Name.At, "repeated", fmt.Sprintf("there is a function `%s` already", d.Name.Text), "choose another name")
			continue
		}
		f := &Fn{Index: len(c.out.Fns), Name: d.Name.Text, Params: c.params(d.Params, inside), Result: c.typ(d.Result, inside)}
		c.fns[f.Name] = f
		c.out.Fns = append(c.out.Fns, f)
		read[f] = d
	}
	conds := map[*Named]*syntax.AudienceDecl{}
	for _, d := range audiences {
		if c.audiences[d.Name.Text] != nil || slices.Contains(c.out.Roles, d.Name.Text) {
			c.fail(d.Name.At, "repeated", fmt.Sprintf("there is an audience or role `%s` already", d.Name.Text), "choose another name")
			continue
		}
		a := &Named{Index: len(c.out.Audiences), Name: d.Name.Text, Params: c.params(d.Params, inside)}
		c.audiences[a.Name] = a
		c.out.Audiences = append(c.out.Audiences, a)
		conds[a] = d
	}
	for _, f := range c.out.Fns {
		d := read[f]
		env := &env{checker: c, fn: f, pure: true}
		env.params(d.Params, f.Params)
		if f.Result == nil {
			continue
		}
		want := f.Result
		if want.Holder() {
			c.fail(d.Result.At, "wrong-type", "a function cannot give a list, a map or stacks", "give one value; or go over the list where it stands")
			f.Result = nil
			continue
		}
		f.Body = env.computed(d.Value, want, "the value of `"+f.Name+"`", d.At)
		f.Body.Params = f.Params
		f.rolls = f.rolls || env.rolled
	}
	for range c.out.Fns { // who calls one that rolls does so too
		for _, f := range c.out.Fns {
			for _, call := range c.calls[f] {
				f.rolls = f.rolls || call.to.(*Fn).rolls
			}
		}
	}
	for _, a := range c.out.Audiences {
		d := conds[a]
		env := &env{checker: c, pure: true, still: true, viewer: true}
		env.params(d.Params, a.Params)
		for _, x := range env.scopes[0] {
			env.used[x] = true // it may only say of what kind the audience is asked
		}
		a.Cond = env.computed(d.Cond, &Type{Form: FormBool}, "the condition of an audience", d.At)
		a.Cond.Params = a.Params
	}
}

// params declares the arguments of what is being read.
func (e *env) params(trees []syntax.Param, params []Param) {
	e.enter()
	for i, p := range trees {
		if i < len(params) {
			e.declare(p.Name, params[i].Type)
		}
	}
}

// computed reads a body that is one value.
func (e *env) computed(x syntax.Expr, want *Type, what string, at syntax.Span) *Body {
	b := &Body{Value: e.value(x, want, what), Line: e.lineOf(at)}
	b.Locals, b.Memory = e.nums, e.mem
	return b
}

// onePart reads a part by itself: it may use only what it declares and needs.
func (c *checker) onePart(p *part) {
	requests, events, actions := len(c.out.Requests), len(c.out.Events), len(c.out.Actions)
	c.inPart = p
	k := p.kind
	k.Index = len(c.out.Kinds)
	tree := c.trees[k]
	own := *tree
	for _, n := range tree.Needs {
		own.Actions = append(slices.Clip(own.Actions), n)
	}
	c.trees[k] = &own
	c.members(k, &own)
	c.wholeKind(k)
	c.inPart = nil
	c.out.Requests, c.out.Events, c.out.Actions = c.out.Requests[:requests], c.out.Events[:events], c.out.Actions[:actions]
}

// merged gives the tree of a kind with all that its parts bring.
func (c *checker) merged(k *Kind, tree *syntax.Entity) *syntax.Entity {
	out := *tree
	out.Properties, out.Requests, out.Events, out.Actions, out.Needs, out.Handlers, out.Timers, out.Holds = nil, nil, nil, nil, nil, nil, nil, nil
	open := map[*syntax.Entity]bool{}
	done := map[*syntax.Entity]bool{}
	var add func(d *syntax.Entity)
	add = func(d *syntax.Entity) {
		open[d] = true
		for _, n := range d.With {
			p := c.parts[n.Text]
			switch {
			case p == nil:
				c.fail(n.At, "unknown-name", fmt.Sprintf("the part `%s` is not declared", n.Text), c.suggest(n.Text, names(c.parts), "declare it: part "+n.Text+" { … }"))
			case open[p.tree]:
				c.fail(n.At, "circle", fmt.Sprintf("the part `%s` comes to include itself here", n.Text), "parts cannot stand in a circle")
			case !done[p.tree]:
				c.used[p] = true
				k.Parts = append(k.Parts, n.Text)
				add(p.tree)
			}
		}
		delete(open, d)
		done[d] = true
		out.Properties = append(out.Properties, d.Properties...)
		out.Requests = append(out.Requests, d.Requests...)
		out.Events = append(out.Events, d.Events...)
		out.Actions = append(out.Actions, d.Actions...)
		out.Needs = append(out.Needs, d.Needs...)
		out.Handlers = append(out.Handlers, d.Handlers...)
		out.Timers = append(out.Timers, d.Timers...)
		out.Holds = append(out.Holds, d.Holds...)
	}
	add(tree)
	return &out
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
			c.fail(d.Name.At, "unknown-name", fmt.Sprintf("%s has no action `%s`, which a part of it needs", k.Name, n.Name.Text), "declare it: action "+n.Name.Text+"(…) { … }")
		} else if i >= 0 && !slices.EqualFunc(k.Actions[i].Params, c.params(n.Params, inside), func(a, b Param) bool { return a.Type.String() == b.Type.String() }) {
			c.fail(d.Name.At, "arguments", fmt.Sprintf("the action `%s` of %s has other arguments than a part of it needs", n.Name.Text, k.Name), "give it the same types in the same order")
		}
	}
	for _, h := range d.Handlers {
		c.handler(k, h)
	}
	c.bounded(d.Name.At, "the number of timers", int64(len(d.Timers)), 0, MaxTimers)
	for _, t := range d.Timers {
		timer := &Timer{After: t.After, Ticks: c.ticks(t.Window.At, t.Window.Value), Slot: k.Slots}
		k.Slots++
		if t.While != nil {
			env := &env{checker: c, kind: k, pure: true, still: true}
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
	env := &env{checker: c, kind: k, spawning: h.On.Text == "spawn", losing: strings.HasPrefix(h.On.Text, "owner")}
	env.enter()
	body := env.body(h.Body, h.At)
	at := map[string]**Body{"start": &k.OnStart, "spawn": &k.OnSpawn, "tick": &k.OnTick, "owner lost": &k.OnOwnerLost, "owner leave": &k.OnOwnerLeave}[h.On.Text]
	switch {
	case h.On.Text == "change":
		p := k.Property(h.Param.Text)
		if p == nil {
			c.fail(h.Param.At, "unknown-name", fmt.Sprintf("%s has no property `%s`", k.Name, h.Param.Text), c.suggest(h.Param.Text, k.names(), "name a property of "+k.Name))
			return
		}
		c.used[p.decl] = true
		at = &k.OnChange[p.Index]
		if *at != nil {
			c.fail(h.At, "repeated", fmt.Sprintf("`%s` has an `on change` already", p.Name), "put both into one")
		}
	case at == nil:
		c.fail(h.On.At, "unknown-name", fmt.Sprintf("nothing is known that `on %s` could wait for", h.On.Text), "a kind can have on start (if shared), on spawn, on tick, on change hull, on owner lost and on owner leave")
		return
	case h.On.Text == "start" && !k.Shared && c.inPart == nil:
		c.fail(h.On.At, "never", fmt.Sprintf("`on start` of %s never runs: only a shared kind is there when the session starts", k.Name), "write `on spawn`")
	case h.On.Text == "spawn" && k.Shared:
		c.fail(h.On.At, "never", fmt.Sprintf("`on spawn` of %s never runs: a shared kind is there from the start", k.Name), "write `on start`")
	case *at != nil:
		c.fail(h.At, "repeated", fmt.Sprintf("%s has an `on %s` already", k.Name, h.On.Text), "put both into one")
	}
	*at = body
}

func (k *Kind) names() []string {
	var out []string
	for _, p := range k.Properties {
		out = append(out, p.Name)
	}
	return out
}

// circles tells of actions and functions that run themselves, straight or by way of others.
func (c *checker) circles() {
	const (
		fresh = iota
		open
		done
	)
	state := map[any]int{}
	var visit func(a any)
	visit = func(a any) {
		state[a] = open
		for _, call := range c.calls[a] {
			switch state[call.to] {
			case open:
				what := "the action `%s` comes to run itself here"
				name := ""
				switch to := call.to.(type) {
				case *Action:
					name = to.Name
				case *Fn:
					what, name = "the function `%s` comes to call itself here", to.Name
				}
				c.fail(call.at, "circle", fmt.Sprintf(what, name), "actions and functions cannot run in a circle")
			case fresh:
				visit(call.to)
			}
		}
		state[a] = done
	}
	for _, f := range c.out.Fns {
		if state[f] == fresh {
			visit(f)
		}
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
	if c.enums[n.Text] != nil || c.kinds[n.Text] != nil || c.aliases[n.Text] != nil || c.parts[n.Text] != nil {
		c.fail(n.At, "repeated", fmt.Sprintf("the name `%s` is taken by another declaration", n.Text), "choose another name")
		return false
	}
	return true
}

func (c *checker) kind(d *syntax.Entity) {
	if !c.freeTypeName(d.Name) {
		return
	}
	if d.Sort == syntax.SortPart {
		c.parts[d.Name.Text] = &part{tree: d}
		return
	}
	k := &Kind{Index: len(c.out.Kinds), Name: d.Name.Text, Shared: d.Sort == syntax.SortShared, Per: -1, To: Everyone}
	if d.Per.Text != "" {
		if k.Per = slices.Index(c.out.Roles, d.Per.Text); k.Per < 0 {
			c.fail(d.Per.At, "unknown-name", fmt.Sprintf("the role `%s` is not declared", d.Per.Text), c.suggest(d.Per.Text, c.out.Roles, "roles are listed in a line such as `roles player, referee`"))
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
	env := &env{checker: c, kind: k, pure: true, still: true}
	env.enter()
	who := env.who(a, "gets a value")
	if who == nil {
		return Everyone, nil
	}
	return Some, who
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
		p := &Property{Index: len(k.Properties), Name: h.Name.Text, Type: &Type{Form: FormBool}, Default: []int64{0}, Given: true, To: Everyone, Slot: k.Slots, Path: -1, decl: h.At.Start}
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
		q := &Action{Index: len(c.out.Actions), Kind: k, Name: a.Name.Text, Params: c.params(a.Params, inside), decl: a.At.Start}
		k.Actions = append(k.Actions, q)
		c.out.Actions = append(c.out.Actions, q)
	}
	for _, r := range d.Requests {
		free(r.Name)
		q := &Request{Index: len(c.out.Requests), Kind: k, Name: r.Name.Text, Line: c.lineOf(r.At)}
		k.Requests = append(k.Requests, q)
		c.out.Requests = append(c.out.Requests, q)
	}
}

func (c *checker) property(k *Kind, d *syntax.Property) *Property {
	p := &Property{Index: len(k.Properties), Name: d.Name.Text, Type: c.typ(d.Type, inProperty), To: Everyone, Given: d.Default != nil, Was: d.Was.Text, Path: -1, decl: d.At.Start}
	p.Keep, p.Once, p.Loose, p.Clamped = d.Keep != nil, d.Once != nil, d.Loose != nil, d.Clamped != nil
	if p.Type == nil {
		return nil
	}
	p.Slot = k.Slots
	k.Slots += p.Type.Width()
	if d.Clamped != nil && p.Type.Form != FormInt && (p.Type.Reals() == 0 || p.Type.Form == FormRotation) {
		c.fail(*d.Clamped, "wrong-type", fmt.Sprintf("`%s` is of the type %s, which has no range to clamp to", p.Name, p.Type), "remove `clamped`; only int, real and vectors have it")
	}
	if d.AtMost != nil && c.bounded(d.AtMost.At, "the number of times a second", d.AtMost.Value, 1, int64(c.out.TickRate)) {
		p.AtMost = int(d.AtMost.Value)
	}
	if d.Keep != nil && k.Per < 0 && c.inPart == nil {
		c.fail(*d.Keep, "wrong-place", fmt.Sprintf("`%s` cannot be kept: %s belongs to no player", p.Name, k.Name), "`keep` stands in a kind that is `per` a role")
	}
	if d.Keep != nil && (p.Type.Has(FormEntity) || p.Type.Has(FormClient) || p.Type.Has(FormInstant)) {
		c.fail(*d.Keep, "wrong-type", fmt.Sprintf("`%s` cannot be kept: a value of the type %s means nothing in another session", p.Name, p.Type), "keep what it stands for")
	}
	if d.Once != nil && (d.Set != nil || d.AtMost != nil || d.Loose != nil || d.Follows != nil) {
		c.fail(*d.Once, "clash", fmt.Sprintf("`%s` is sent once and has a clause for later changes", p.Name), "remove one of the two")
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
				c.fail(d.Default.Span(), "not-constant", "this default is computed", "a default is constant; `on spawn` and `on start` can compute one")
				return p
			}
			p.Default = slots
		}
	}
	return p
}

// clauses reads what a property's clauses compute, and the conditions of holds.
func (c *checker) clauses(k *Kind, d *syntax.Entity) {
	for _, h := range d.Holds {
		p := k.Property(h.Name.Text)
		if h.When != nil && p != nil && p.Hold != nil {
			env := &env{checker: c, kind: k, pure: true, still: true}
			env.enter()
			p.Hold.When = env.computed(h.When, &Type{Form: FormBool}, "the condition of a hold", h.At)
		}
	}
	for _, tree := range d.Properties {
		p := k.Property(tree.Name.Text)
		if p == nil || p.decl != tree.At.Start {
			continue
		}
		if tree.Set != nil {
			c.setBy(k, p, tree.Set)
		}
		if tree.Follows != nil {
			c.follows(k, p, tree.Follows)
		}
	}
}

func (c *checker) setBy(k *Kind, p *Property, d *syntax.SetBy) {
	if p.Type.Holder() {
		c.fail(d.At, "wrong-type", fmt.Sprintf("`%s` cannot be set by a client: it is of the type %s", p.Name, p.Type), "let requests change it")
		return
	}
	p.Set = &SetBy{}
	client := &Type{Form: FormClient}
	env := &env{checker: c, kind: k, pure: true, still: true}
	env.enter()
	if r, ok := d.By.(*syntax.Ref); ok && r.Text == "owner" {
		p.Set.Owner = true
	}
	p.Set.By = env.computed(d.By, client, "who sets `"+p.Name+"`", d.At)
	rule := func(x syntax.Expr, want *Type, what string) *Body {
		env := &env2{checker: c, kind: k}
		return env.read(x, want, what, d.At, p.Type)
	}
	number := func(x syntax.Expr) float64 {
		f, _ := rational(x).Float64()
		if f <= 0 || f > 1e9 {
			c.fail(x.Span(), "out-of-range", "this is no pace", "a number over 0")
		}
		return f
	}
	if d.Pace != nil {
		p.Set.Pace = rule(d.Pace, &Type{Form: FormReal}, "what a write costs")
		p.Set.Rate = number(d.Rate)
		p.Set.Burst = p.Set.Rate
	}
	if d.Burst != nil {
		if d.Pace == nil {
			c.fail(d.Burst.Span(), "clash", "a burst belongs to a pace", "as in `pace distance(old, new) 8 per second burst 2`")
		}
		p.Set.Burst = number(d.Burst)
	}
	if d.When != nil {
		p.Set.Rule = rule(d.When, &Type{Form: FormBool}, "the rule of a write")
	}
}

// env2 reads the pace or rule of an owner's write, over `old` and `new`.
type env2 struct {
	*checker
	kind *Kind
}

func (e *env2) read(x syntax.Expr, want *Type, what string, at syntax.Span, t *Type) *Body {
	env := &env{checker: e.checker, kind: e.kind, pure: true, still: true}
	env.enter()
	for _, name := range []string{"old", "new"} {
		env.used[env.declare(syntax.Ident{Text: name, At: at}, t)] = true
	}
	b := env.computed(x, want, what, at)
	b.Params = []Param{{"old", t}, {"new", t}}
	return b
}

// follows reads `follows RATE` or `follows REF.PROPERTY by OFFSET`.
func (c *checker) follows(k *Kind, p *Property, d *syntax.Follows) {
	if p.Type.Form != FormReal && p.Type.Form != FormVec2 && p.Type.Form != FormVec3 {
		c.fail(d.At, "wrong-type", fmt.Sprintf("`%s` cannot move by itself: it is of the type %s", p.Name, p.Type), "a real or a vector can")
		return
	}
	f := &Follows{}
	switch x := d.What.(type) {
	case *syntax.Ref:
		f.Rate = k.Property(x.Text)
		if f.Rate == nil {
			c.fail(x.At, "unknown-name", fmt.Sprintf("%s has no property `%s`", k.Name, x.Text), c.suggest(x.Text, k.names(), "name the property that holds its rate, as in `pos: Place follows vel`"))
			return
		}
		c.used[f.Rate.decl] = true
		if f.Rate.Type.Form != p.Type.Form || f.Rate == p {
			c.fail(x.At, "wrong-type", fmt.Sprintf("the rate of `%s` is of the type %s", p.Name, f.Rate.Type), "it has to be "+string(p.Type.Form)+" too, in units a second")
			return
		}
		if d.By != nil {
			c.fail(d.By.Span(), "clash", "what follows a rate has no offset", "`by` belongs to `follows holder.pos`")
		}
		f.Slot = k.Slots
		k.Slots += 3*p.Type.Width() + 1
	case *syntax.Member:
		r, ok := x.X.(*syntax.Ref)
		if ok {
			f.Holder = k.Property(r.Text)
		}
		if f.Holder == nil || f.Holder.Type.Form != FormEntity {
			c.fail(x.X.Span(), "unknown-name", "this is no ref that something could be attached to", "as in `pos: Place follows holder.pos`, where `holder: ref Diver`")
			return
		}
		c.used[f.Holder.decl] = true
		f.To = make([]*Property, len(c.out.Kinds)+1)
		for _, kind := range f.Holder.Type.Kinds {
			to := kind.Property(x.Name.Text)
			if to == nil || to.Type.Form != p.Type.Form {
				c.fail(x.Name.At, "unknown-name", fmt.Sprintf("%s has no property `%s` of the type %s", kind.Name, x.Name.Text, p.Type.Form), c.suggest(x.Name.Text, kind.names(), "name what it is attached to"))
				return
			}
			c.used[to.decl] = true
			f.To[kind.Index] = to
		}
		if d.By != nil {
			env := &env{checker: c, constant: true}
			if v := env.value(d.By, &Type{Form: p.Type.Form}, "the offset"); v != nil {
				f.By, _ = c.slots(v)
			}
		}
	default:
		c.fail(d.What.Span(), "expected", "this is nothing that could be followed", "`follows vel`, or `follows holder.pos by vec(0, 1)`")
		return
	}
	p.Follows = f
}

func (c *checker) event(d *syntax.Event, k *Kind) *Event {
	e := &Event{Index: len(c.out.Events), Kind: k, Name: d.Name.Text, Params: c.params(d.Params, inMessage), Loose: d.Loose, decl: d.At.Start}
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

func (c *checker) params(params []syntax.Param, at place) []Param {
	var out []Param
	for i, p := range params {
		if i >= MaxParams {
			c.fail(p.Name.At, "out-of-range", fmt.Sprintf("this is argument %d", i+1), fmt.Sprintf("at most %d are allowed", MaxParams))
			break
		}
		if slices.ContainsFunc(out, func(o Param) bool { return o.Name == p.Name.Text }) {
			c.fail(p.Name.At, "repeated", fmt.Sprintf("there is an argument `%s` already", p.Name.Text), "choose another name")
		}
		t := c.typ(p.Type, at)
		if t == nil {
			t = &Type{Form: ""} // its uses are not told again
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
	r.Params = c.params(d.Params, inMessage)
	for _, p := range r.Params {
		c.isSent(p.Type)
	}
	env := &env{checker: c, kind: r.Kind, request: r, pure: true, still: true}
	env.params(d.Params, r.Params)
	r.From = []Who{{Sort: ToOwner}}
	if d.From != nil {
		// Who may send is decided before the arguments are looked at.
		scopes := env.scopes
		env.scopes = []map[string]*Expr{{}}
		if who := env.who(d.From, "may send a request"); who != nil {
			r.From = who
		}
		env.scopes = scopes
	} else if r.Kind.Per < 0 && c.inPart == nil {
		c.later = append(c.later, func() {
			if !r.Kind.given {
				c.fail(d.Name.At, "never", fmt.Sprintf("nobody can ever send `%s`: %s belongs to the server, and by default only the owner may ask", r.FullName(), r.Kind.Name), "say who may: `from "+c.out.Roles[0]+"`; or `give` it to somebody")
			}
		})
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
		if r.Reply = c.typ(d.Reply, inMessage); r.Reply != nil && r.Reply.Holder() {
			c.fail(d.Reply.At, "wrong-type", "a list or map cannot be a reply", "reply with one value, or let a property hold it")
			r.Reply = nil
		}
		if r.Reply == nil {
			r.Reply = &Type{} // what is replied is not told again
		}
	}
	r.Head = env.block(d.Head)
	env.pure, env.still = false, false
	r.Body = env.block(d.Body)
	r.Locals, r.Memory = env.nums, env.mem
	if r.Reply != nil && !replies(r.Body) {
		c.fail(d.Name.At, "no-reply", fmt.Sprintf("`%s` can come to its end without a reply", r.FullName()), "every way through the body has to `reply` or `deny`")
	}
}

// isSent notes that clients may send any value of an enum.
func (c *checker) isSent(t *Type) {
	if t == nil {
		return
	}
	if t.Enum != nil {
		c.sent[t.Enum] = true
	}
	c.isSent(t.Key)
	c.isSent(t.Of)
	for _, p := range t.Parts {
		c.isSent(p.Type)
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
