// Package check builds the model of a contract from its tree, or words every mistake that keeps it from being built: a
// name that nothing declares, a value of another type than is wanted, a bound that is passed.
//
// It looks for mistakes alone. What a right contract may be warned of is up to package findings, which is given what
// was found out on the way, the Checked.
//
// Build is all there is to call. The model that it returns is new and the caller's; package compile hands it out as
// immutable.
//
// # How it works
//
// Build reads declarations in the order in which they need each other, not in that of the text: first the names of
// enums, types and kinds, then constants and settings, then the members of kinds without what they compute, then
// functions, audiences and bodies, which may name any of these. What can be told only once all bodies are read, such as
// circles of actions, waits in the Unit until the end.
//
// There is a file for each part of the language; clauses.go has the rules that a clause of a property has to keep, one
// entry for each.
package check

import (
	"fmt"
	"maps"
	"slices"
	"unicode/utf8"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
	"kamerad.example/core/typing"
)

// builder reads the declarations of a contract.
type builder struct {
	*typing.Unit
	kindTrees map[*contract.Kind]*syntax.Entity // as they were written: without what is brought from elsewhere
}

// Build builds a contract from its tree. parsed are the mistakes that the text itself has. The problems hold these and
// every mistake of its meaning; the result is nil when there is one.
//
// The builder reads on after a mistake, so that one run reports as many as possible; nothing that it
// made is handed out then. open gives it the files of tables, and may be called for any name that the
// contract writes.
func Build(
	src *syntax.Source, file *syntax.File, parsed syntax.Problems, open syntax.Open,
) (*typing.Checked, syntax.Problems) {
	c := &builder{Unit: &typing.Unit{
		Checked: typing.Checked{
			Contract: &contract.Contract{
				TickRate: 20,
				Seats:    64,
				Source:   src,
				Accepts:  file.Accepts,
				// The empty text has the place 0, so that a row of zeros is a row of empty texts.
				Texts: []string{""},
			},
			File:      file,
			Enums:     map[string]*contract.Enum{},
			Kinds:     map[string]*contract.Kind{},
			Parts:     map[string]*typing.Part{},
			Consts:    map[string]*contract.Expr{},
			Settings:  map[string]*contract.Setting{},
			Fns:       map[string]*contract.Fn{},
			Audiences: map[string]*contract.Named{},
			Trees:     map[*contract.Kind]*syntax.Entity{},
			Sent:      map[*contract.Enum]bool{},
			Spawns:    map[*contract.Kind]bool{},
			Used:      map[any]bool{},
		},
		Source:   src,
		Files:    open,
		Problems: parsed,
		Aliases:  map[string]*syntax.TypeDecl{},
		Types:    map[string]*contract.Type{},
		Reading:  map[string]bool{},
		Texts:    map[string]int64{"": 0},
		Calls:    map[any][]typing.Call{},
		Changes:  map[int]bool{},
		Unread:   len(parsed) > 0,
	}}
	c.readFile(file)
	if len(c.Problems) > 0 {
		return nil, c.Problems
	}
	return &c.Checked, nil
}

// declarations are those of a contract, by what they declare, each in the order in which they stand.
type declarations struct {
	consts    []*syntax.Const
	entities  []*syntax.Entity
	events    []*syntax.Event
	exits     []*syntax.Exit
	fns       []*syntax.Fn
	audiences []*syntax.AudienceDecl
	handlers  map[string]*syntax.Handler // those of the contract itself, by what they are for
}

// readFile reads all declarations, in such an order that what one names was read before: names of types first, then
// what kinds declare, and bodies, which may name everything, last.
//
// Parts are read last, each once by itself, with a made-up kind: a kind that includes one has read its
// members already. Circles are looked for when all calls are known, and what was put into Later runs at
// the very end.
func (c *builder) readFile(f *syntax.File) {
	c.header(f)
	d := c.sorted(f)
	c.Bounded(syntax.Span{}, "the number of kinds", int64(len(d.entities)), 0, contract.MaxKinds)
	for _, x := range d.entities {
		c.kind(x)
	}
	for _, x := range f.Decls {
		if x, ok := x.(*syntax.TypeDecl); ok && c.Aliases[x.Name.Text] == x {
			c.Alias(x)
		}
	}
	for _, x := range d.consts {
		c.constant(x)
	}
	c.result(f)
	c.kindTrees = maps.Clone(c.Trees)
	for _, k := range c.Contract.Kinds {
		// From here on a kind's tree has all that its parts bring.
		c.Trees[k] = c.merged(k, c.Trees[k])
	}
	for _, p := range c.Parts {
		p.Kind = &contract.Kind{Name: p.Tree.Name.Text, Per: -1, To: contract.Everyone}
		c.Trees[p.Kind] = c.merged(p.Kind, p.Tree)
	}
	for _, k := range c.Contract.Kinds {
		c.members(k, c.Trees[k])
	}
	c.byteLimits(f)
	for _, x := range d.events {
		if e := c.event(x, nil); e != nil {
			c.Contract.Events = append(c.Contract.Events, e)
			c.Events = append(c.Events, e)
		}
	}
	for _, x := range d.exits {
		c.exit(x)
	}
	c.functions(d.fns, d.audiences)
	for _, k := range c.Contract.Kinds {
		c.wholeKind(k)
	}
	for _, name := range typing.Names(c.Parts) {
		c.onePart(c.Parts[name])
	}
	c.circles()
	c.contractHandlers(d.handlers)
	for _, f := range c.Later {
		f()
	}
	// The order of the map does not matter: each property gets an answer of its own.
	for k := range c.Trees {
		for _, p := range k.Properties {
			p.Written = c.Changes[p.Offset]
		}
		noteComputed(k)
	}
}

// sorted returns the declarations of a file. Enums are read at once, and the names of types taken.
//
// A constant's type may be an enum, and a kind's property a type that stands further down: this is why
// their names are known before anything else is read.
func (c *builder) sorted(f *syntax.File) declarations {
	out := declarations{handlers: map[string]*syntax.Handler{}}
	for _, d := range f.Decls {
		switch d := d.(type) {
		case *syntax.Enum:
			c.enum(d)
		case *syntax.TypeDecl:
			if c.freeTypeName(d.Name) {
				c.Aliases[d.Name.Text] = d
				c.declared("type", d.Name, d.At)
			}
		case *syntax.Const:
			out.consts = append(out.consts, d)
		case *syntax.Fn:
			out.fns = append(out.fns, d)
		case *syntax.AudienceDecl:
			out.audiences = append(out.audiences, d)
		case *syntax.Entity:
			out.entities = append(out.entities, d)
		case *syntax.Event:
			out.events = append(out.events, d)
		case *syntax.Exit:
			out.exits = append(out.exits, d)
		case *syntax.Handler:
			c.contractHandler(d, out.handlers)
		}
	}
	return out
}

// declared notes a type or constant by its name, and returns what was noted.
func (c *builder) declared(what string, name syntax.Ident, at syntax.Span) *contract.Declared {
	d := &contract.Declared{What: what, Name: name.Text, At: at}
	c.Contract.Declared = append(c.Contract.Declared, d)
	return d
}

// contractHandler puts a handler of the contract itself among the others.
func (c *builder) contractHandler(d *syntax.Handler, handlers map[string]*syntax.Handler) {
	switch d.On.Text {
	case "join", "lost", "back", "leave", "stay", "silent", "heard":
		if d.Param.Text == "" && c.Contract.Logic == nil {
			c.Fail(
				d.On.At,
				"no-logic",
				fmt.Sprintf("`on %s` is about the logic process, and the contract has none", d.On.Text),
				"declare it: `logic silent after 500ms`",
			)
			return
		}
		if other := handlers[d.On.Text]; other != nil {
			c.Fail(
				d.At, "repeated",
				fmt.Sprintf("the contract has an `on %s` already, in line %d", d.On.Text, c.LineOf(other.At)),
				"put both into one",
			)
			return
		}
		handlers[d.On.Text] = d
	default:
		c.Fail(
			d.On.At,
			"unknown-name",
			fmt.Sprintf("nothing is known that `on %s` could wait for", d.On.Text),
			"a contract can have on join(c), on lost(c), on back(c), on leave(c), on stay(c), and of its logic "+
				"on silent, on heard",
		)
	}
}

// contractHandlers reads the bodies of the contract's own handlers. The client that they are about is their argument.
//
// They go through a fixed list and not the map, so that registers and mistakes come in the same order
// in each run.
func (c *builder) contractHandlers(handlers map[string]*syntax.Handler) {
	for _, h := range []struct {
		name string
		to   **contract.Body
	}{
		{"join", &c.Contract.OnJoin},
		{"lost", &c.Contract.OnLost},
		{"back", &c.Contract.OnBack},
		{"leave", &c.Contract.OnLeave},
		{"stay", &c.Contract.OnStay},
		{"silent", &c.Contract.OnSilent},
		{"heard", &c.Contract.OnHeard},
	} {
		if d := handlers[h.name]; d != nil {
			env := &typing.Scope{Unit: c.Unit}
			env.Enter()
			if d.Param.Text != "" {
				// A handler has to name its client, and need not do anything with it.
				env.Used[env.Declare(d.Param, &contract.Type{Form: contract.FormClient})] = true
			}
			*h.to = env.Body(d.Body, d.At)
		}
	}
}

// header reads the lines that stand once in a contract.
//
// What a line leaves out has a default: 20 ticks a second, 64 seats, the single role "player". Without
// a `strikes` line nobody is ever expelled for a check.
func (c *builder) header(f *syntax.File) {
	seen := map[string]syntax.Decl{}
	// Mistakes in the second line of a sort are not reported: it goes anyway.
	once := func(d syntax.Decl, what string) bool {
		if other := seen[what]; other != nil {
			c.Fail(
				d.Span(), "repeated",
				fmt.Sprintf("the contract has %s already, in line %d", what, c.LineOf(other.Span())),
				"remove one of the two",
			)
			return false
		}
		seen[what] = d
		return true
	}
	for i, d := range f.Decls {
		switch d := d.(type) {
		case *syntax.Contract:
			if once(d, "a name") {
				c.name(d, i == 0)
			}
		case *syntax.Tick:
			if once(d, "a tick rate") &&
				c.Bounded(d.Rate.At, "the number of ticks per second", d.Rate.Value, 1, contract.MaxTickRate) {
				c.Contract.TickRate = int(d.Rate.Value)
			}
		case *syntax.Roles:
			if once(d, "a list of roles") {
				c.roles(d)
			}
		}
	}
	if len(c.Contract.Roles) == 0 {
		c.Contract.Roles = []string{"player"}
	}
	c.headerTicks(f, once)
	// After a mistake in the text the name may be there and have been skipped.
	if seen["a name"] == nil && !c.Unread {
		c.Fail(
			syntax.Span{}, "no-header", "the contract has no name",
			"begin with a line such as `contract tidewreck language 2`",
		)
	}
}

// headerTicks reads those of the lines that count in ticks, whose rate may stand below them. once reports whether a
// line is the first of its sort.
func (c *builder) headerTicks(f *syntax.File, once func(d syntax.Decl, what string) bool) {
	for _, d := range f.Decls {
		switch d := d.(type) {
		case *syntax.Seats:
			if once(d, "a number of seats") &&
				c.Bounded(d.Count.At, "the number of seats", d.Count.Value, 1, contract.MaxSeats) {
				c.Contract.Seats = int(d.Count.Value)
				if d.Grace != nil {
					c.Contract.Grace = c.Ticks(d.Grace.At, d.Grace.Value)
				}
			}
		case *syntax.Strikes:
			if once(d, "a number of strikes") &&
				c.Bounded(d.Count.At, "the number of strikes", d.Count.Value, 1, contract.MaxLimit) {
				c.Contract.Strikes, c.Contract.Window = int(d.Count.Value), c.Ticks(d.Window.At, d.Window.Value)
			}
		case *syntax.Logic:
			if once(d, "a line about its logic") {
				c.logic(d)
			}
		}
	}
}

// Bounds of the time after which a logic process counts as silent, in ticks: a frame takes one to come, and its
// confirmation one to be heard.
const (
	minSilent = 3
	maxSilent = 60 * contract.MaxTickRate
)

// logic reads the line about the contract's logic, whose role is the last one.
func (c *builder) logic(d *syntax.Logic) {
	silent := c.Ticks(d.Silent.At, d.Silent.Value)
	if !c.Bounded(d.Silent.At, "the number of silent ticks", silent, minSilent, maxSilent) {
		return
	}
	if slices.Contains(c.Contract.Roles, contract.LogicRole) {
		c.Fail(
			d.At,
			"clash",
			"the contract has a role `logic` already",
			"take it from `roles`: this line makes it, by ticket",
		)
		return
	}
	if !c.Bounded(d.At, "the number of roles", int64(len(c.Contract.Roles)+1), 1, contract.MaxRoles) {
		return
	}
	c.Contract.Logic = &contract.Logic{Role: len(c.Contract.Roles), Silent: silent}
	c.Contract.TicketRoles |= 1 << len(c.Contract.Roles)
	c.Contract.Roles = append(c.Contract.Roles, contract.LogicRole)
}

// name reads the line with the contract's name, which has to be the first.
func (c *builder) name(d *syntax.Contract, first bool) {
	c.Contract.Name = d.Name.Text
	if utf8.RuneCountInString(d.Name.Text) > 60 {
		c.Fail(d.Name.At, "out-of-range", "the contract's name is too long", "at most 60 characters")
	}
	if d.Language.Value < 1 || d.Language.Value > contract.Language {
		c.Fail(
			d.Language.At, "language", fmt.Sprintf("language %d is not known here", d.Language.Value),
			fmt.Sprintf("from 1 to %d", contract.Language),
		)
	}
	c.Contract.Language = int(d.Language.Value)
	if !first {
		c.Fail(d.At, "order", "the contract's name does not stand first", "move this line to the top")
	}
}

// result reads the type of what a session comes to. What it holds goes to programs elsewhere, for which an entity is
// nothing.
func (c *builder) result(f *syntax.File) {
	var first *syntax.Result
	for _, d := range f.Decls {
		d, is := d.(*syntax.Result)
		switch {
		case !is:
		case first != nil:
			c.Fail(
				d.At, "repeated", fmt.Sprintf("the contract has a result already, in line %d", c.LineOf(first.At)),
				"remove one of the two",
			)
		default:
			first = d
			c.Contract.Result = c.Type(d.Type, typing.InMessage)
		}
	}
}

// roles reads the list of roles.
//
// The order counts: a client that names no role joins in the first one.
func (c *builder) roles(d *syntax.Roles) {
	c.Bounded(d.At, "the number of roles", int64(len(d.List)), 1, contract.MaxRoles)
	for _, r := range d.List {
		n := r.Name
		if slices.Contains(c.Contract.Roles, n.Text) {
			c.Fail(n.At, "repeated", fmt.Sprintf("the role `%s` is listed twice", n.Text), "remove one of the two")
			continue
		}
		if r.ByTicket {
			c.Contract.TicketRoles |= 1 << len(c.Contract.Roles)
		}
		c.Contract.Roles = append(c.Contract.Roles, n.Text)
	}
}

// circles reports actions and functions that run themselves, straight or by way of others.
//
// It is a depth-first walk over the calls: one that leads to an action or function whose own walk has
// not ended closes a circle. Calls do not run deep at run time either, since without circles their
// depth is bounded by the number of functions and actions.
func (c *builder) circles() {
	const (
		fresh = iota
		open
		done
	)
	state := map[any]int{}
	var visit func(a any)
	visit = func(a any) {
		state[a] = open
		for _, call := range c.Calls[a] {
			switch state[call.To] {
			case open:
				what := "the action `%s` comes to run itself here"
				name := ""
				switch to := call.To.(type) {
				case *contract.Action:
					name = to.Name
				case *contract.Fn:
					what = "the function `%s` comes to call itself here"
					name = to.Name
				}
				c.Fail(call.At, "circle", fmt.Sprintf(what, name), "actions and functions cannot run in a circle")
			case fresh:
				visit(call.To)
			}
		}
		state[a] = done
	}
	for _, f := range c.Contract.Fns {
		if state[f] == fresh {
			visit(f)
		}
	}
	for _, a := range c.Contract.Actions {
		if state[a] == fresh {
			visit(a)
		}
	}
}

// enum reads the declaration of an enum.
//
// An enum without values gets one, so that types made of it have a value to begin with.
func (c *builder) enum(d *syntax.Enum) {
	e := &contract.Enum{Name: d.Name.Text}
	if !c.freeTypeName(d.Name) {
		return
	}
	for _, m := range d.Members {
		if slices.Contains(e.Values, m.Text) {
			c.Fail(m.At, "repeated", fmt.Sprintf("`%s` stands twice in %s", m.Text, e.Name), "remove one of the two")
			continue
		}
		e.Values = append(e.Values, m.Text)
	}
	if len(e.Values) == 0 {
		c.Fail(
			d.At, "empty", fmt.Sprintf("the enum %s has no value", e.Name),
			"list at least one, as in `enum Item { flare, patch }`",
		)
		e.Values = []string{"none"}
	}
	c.Bounded(d.At, "the number of values", int64(len(e.Values)), 1, contract.MaxEnumValues)
	c.Enums[e.Name] = e
	c.Contract.Enums = append(c.Contract.Enums, e)
}

// freeTypeName reports whether no enum, kind, type or part has a name yet, and tells a mistake when one has.
func (c *builder) freeTypeName(n syntax.Ident) bool {
	if n.Text == "" {
		return false // its mistake has been told
	}
	if c.Enums[n.Text] != nil || c.Kinds[n.Text] != nil || c.Aliases[n.Text] != nil || c.Parts[n.Text] != nil {
		c.Fail(
			n.At, "repeated", fmt.Sprintf("the name `%s` is taken by another declaration", n.Text),
			"choose another name",
		)
		return false
	}
	return true
}
