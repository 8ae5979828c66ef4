// Package check builds the model of a contract from its tree, or words every mistake that keeps it from being built: a
// name that nothing declares, a value of another type than is wanted, a bound that is passed.
//
// It looks for mistakes alone. What a right contract may be warned of is up to package findings, which is given what
// was found out on the way, the Checked.
package check

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"github.com/agnivade/levenshtein"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// Checked is a contract that was built from its tree, with what was found out on the way. It is for whatever looks for
// dangers in the contract; whoever runs it needs the Contract alone.
type Checked struct {
	Contract  *contract.Contract
	File      *syntax.File
	Enums     map[string]*contract.Enum
	Kinds     map[string]*contract.Kind
	Parts     map[string]*Part
	Consts    map[string]*contract.Expr
	Settings  map[string]*contract.Setting
	Fns       map[string]*contract.Fn
	Audiences map[string]*contract.Named
	// Trees has the trees of the contract's kinds and of its parts, with all that their parts bring.
	Trees  map[*contract.Kind]*syntax.Entity
	Locals []Local                 // the names that bodies declare
	Sent   map[*contract.Enum]bool // enums that are arguments of requests
	Spawns map[*contract.Kind]bool // kinds that some body spawns

	// used holds what is used: a constant by its name, an enum, alias, setting, function, audience or part by its
	// declaration, a role as a role, a value of an enum as a value, a property, event or action by the offset of its
	// declaration, a local by its expression.
	Used map[any]bool
}

// RoleUse is a role as a key of what is used.
type RoleUse string

// ValueUse is a value of an enum as a key of what is used.
type ValueUse struct {
	Enum  *contract.Enum
	Index int64
}

// Local is a name that a body declares.
type Local struct {
	Name syntax.Ident
	Expr *contract.Expr
}

// call is a place where an action runs another, or a function calls another.
type call struct {
	to any
	at syntax.Span
}

// MaxProblems is how many mistakes are told in one run.
const MaxProblems = 200

// checker builds a contract from its tree, and gathers the mistakes that keep it from being built.
type checker struct {
	Checked
	src      *syntax.Source
	files    syntax.Open
	problems syntax.Problems
	aliases  map[string]*syntax.TypeDecl
	types    map[string]*contract.Type // of the aliases that were read
	open     map[string]bool           // aliases that are being read
	inPart   *Part                     // that is being read
	texts    map[string]int64          // index of each text among the contract's
	calls    map[any][]call            // which actions and functions run which, to find circles
	events   []*contract.Event         // the contract's own
	// declarations of properties that something may give another value than their default
	changes map[int]bool
	later   []func() // what can be told only when all bodies are read
	unread  bool     // the text itself has mistakes: what is missing may only not have been understood
}

// Build builds a contract from its tree. parsed are the mistakes that the text itself has. The problems hold these and
// every mistake of its meaning; the result is nil when there is one.
func Build(
	src *syntax.Source, file *syntax.File, parsed syntax.Problems, open syntax.Open,
) (*Checked, syntax.Problems) {
	c := &checker{
		Checked: Checked{
			Contract: &contract.Contract{
				TickRate: 20,
				Seats:    64,
				Source:   src,
				Texts:    []string{""},
			},
			File:      file,
			Enums:     map[string]*contract.Enum{},
			Kinds:     map[string]*contract.Kind{},
			Parts:     map[string]*Part{},
			Consts:    map[string]*contract.Expr{},
			Settings:  map[string]*contract.Setting{},
			Fns:       map[string]*contract.Fn{},
			Audiences: map[string]*contract.Named{},
			Trees:     map[*contract.Kind]*syntax.Entity{},
			Sent:      map[*contract.Enum]bool{},
			Spawns:    map[*contract.Kind]bool{},
			Used:      map[any]bool{},
		},
		src:      src,
		files:    open,
		problems: parsed,
		aliases:  map[string]*syntax.TypeDecl{},
		types:    map[string]*contract.Type{},
		open:     map[string]bool{},
		texts:    map[string]int64{"": 0},
		calls:    map[any][]call{},
		changes:  map[int]bool{},
		unread:   len(parsed) > 0,
	}
	c.readFile(file)
	if len(c.problems) > 0 {
		return nil, c.problems
	}
	return &c.Checked, nil
}

// text returns the place of a text among the contract's.
func (c *checker) text(s string) int64 {
	n, known := c.texts[s]
	if !known {
		n = int64(len(c.Contract.Texts))
		c.texts[s] = n
		c.Contract.Texts = append(c.Contract.Texts, s)
	}
	return n
}

// fail tells a mistake: its place, a code for programs, what is wrong, and what would be right.
func (c *checker) fail(at syntax.Span, code, message, hint string) {
	if len(c.problems) >= MaxProblems {
		return
	}
	c.problems = append(c.problems, c.src.Problem(at, code, message, hint))
}

// bounded reports whether a count is within its bound, and says so if not.
func (c *checker) bounded(at syntax.Span, what string, n, low, high int64) bool {
	if n < low || n > high {
		c.fail(at, "out-of-range", fmt.Sprintf("%s is %d", what, n), fmt.Sprintf("from %d to %d", low, high))
		return false
	}
	return true
}

// readFile reads all declarations.
func (c *checker) readFile(f *syntax.File) {
	c.header(f)
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
					c.fail(
						d.At, "repeated",
						fmt.Sprintf("the contract has an `on %s` already, in line %d", d.On.Text, c.lineOf(other.At)),
						"put both into one",
					)
					continue
				}
				handlers[d.On.Text] = d
			default:
				c.fail(
					d.On.At, "unknown-name", fmt.Sprintf("nothing is known that `on %s` could wait for", d.On.Text),
					"a contract can have on join(c), on lost(c), on back(c) and on leave(c)",
				)
			}
		}
	}
	c.bounded(syntax.Span{}, "the number of kinds", int64(len(entities)), 0, contract.MaxKinds)
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
	for _, k := range c.Contract.Kinds {
		c.Trees[k] = c.merged(k, c.Trees[k])
	}
	for _, p := range c.Parts {
		p.Kind = &contract.Kind{Name: p.Tree.Name.Text, Per: -1, To: contract.Everyone}
		c.Trees[p.Kind] = c.merged(p.Kind, p.Tree)
	}
	for _, k := range c.Contract.Kinds {
		c.members(k, c.Trees[k])
	}
	for _, d := range events {
		if e := c.event(d, nil); e != nil {
			c.Contract.Events = append(c.Contract.Events, e)
			c.events = append(c.events, e)
		}
	}
	c.functions(fns, audiences)
	for _, k := range c.Contract.Kinds {
		c.wholeKind(k)
	}
	for _, name := range names(c.Parts) {
		c.onePart(c.Parts[name])
	}
	c.circles()
	for _, h := range []struct {
		name string
		to   **contract.Body
	}{
		{"join", &c.Contract.OnJoin},
		{"lost", &c.Contract.OnLost},
		{"back", &c.Contract.OnBack},
		{"leave", &c.Contract.OnLeave},
	} {
		if d := handlers[h.name]; d != nil {
			env := &env{checker: c}
			env.enter()
			env.Used[env.declare(d.Param, &contract.Type{Form: contract.FormClient})] = true
			*h.to = env.body(d.Body, d.At)
		}
	}
	for _, f := range c.later {
		f()
	}
	for k := range c.Trees {
		for _, p := range k.Properties {
			p.Written = c.changes[p.Offset]
		}
	}
}

// header reads the lines that stand once in a contract.
func (c *checker) header(f *syntax.File) {
	seen := map[string]syntax.Decl{}
	once := func(d syntax.Decl, what string) bool {
		if other := seen[what]; other != nil {
			c.fail(
				d.Span(), "repeated",
				fmt.Sprintf("the contract has %s already, in line %d", what, c.lineOf(other.Span())),
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
				c.Contract.Name = d.Name.Text
				if utf8.RuneCountInString(d.Name.Text) > 60 {
					c.fail(d.Name.At, "out-of-range", "the contract's name is too long", "at most 60 characters")
				}
				if d.Language.Value != 1 {
					c.fail(
						d.Language.At, "language", fmt.Sprintf("language %d is not known here", d.Language.Value),
						"write language 1",
					)
				}
				if i > 0 {
					c.fail(d.At, "order", "the contract's name does not stand first", "move this line to the top")
				}
			}
		case *syntax.Tick:
			if once(d, "a tick rate") &&
				c.bounded(d.Rate.At, "the number of ticks per second", d.Rate.Value, 1, contract.MaxTickRate) {
				c.Contract.TickRate = int(d.Rate.Value)
			}
		case *syntax.Roles:
			if once(d, "a list of roles") {
				c.bounded(d.At, "the number of roles", int64(len(d.Names)), 1, contract.MaxRoles)
				for _, n := range d.Names {
					if slices.Contains(c.Contract.Roles, n.Text) {
						c.fail(
							n.At, "repeated", fmt.Sprintf("the role `%s` is listed twice", n.Text),
							"remove one of the two",
						)
						continue
					}
					c.Contract.Roles = append(c.Contract.Roles, n.Text)
				}
			}
		}
	}
	// These count in ticks, whose rate may stand below them.
	for _, d := range f.Decls {
		switch d := d.(type) {
		case *syntax.Seats:
			if once(d, "a number of seats") &&
				c.bounded(d.Count.At, "the number of seats", d.Count.Value, 1, contract.MaxSeats) {
				c.Contract.Seats = int(d.Count.Value)
				if d.Grace != nil {
					c.Contract.Grace = c.ticks(d.Grace.At, d.Grace.Value)
				}
			}
		case *syntax.Strikes:
			if once(d, "a number of strikes") &&
				c.bounded(d.Count.At, "the number of strikes", d.Count.Value, 1, contract.MaxLimit) {
				c.Contract.Strikes, c.Contract.Window = int(d.Count.Value), c.ticks(d.Window.At, d.Window.Value)
			}
		}
	}
	if seen["a name"] == nil && !c.unread {
		c.fail(
			syntax.Span{}, "no-header", "the contract has no name",
			"begin with a line such as `contract tidewreck language 1`",
		)
	}
	if len(c.Contract.Roles) == 0 {
		c.Contract.Roles = []string{"player"}
	}
}

// lineOf returns the line in which a part of the contract begins.
func (c *checker) lineOf(at syntax.Span) int {
	line, _ := c.src.Position(at.Start)
	return line
}

// propertyNames returns the names of a kind's properties, in the order of declaration.
func propertyNames(k *contract.Kind) []string {
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
				case *contract.Action:
					name = to.Name
				case *contract.Fn:
					what = "the function `%s` comes to call itself here"
					name = to.Name
				}
				c.fail(call.at, "circle", fmt.Sprintf(what, name), "actions and functions cannot run in a circle")
			case fresh:
				visit(call.to)
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
func (c *checker) enum(d *syntax.Enum) {
	e := &contract.Enum{Name: d.Name.Text}
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
		c.fail(
			d.At, "empty", fmt.Sprintf("the enum %s has no value", e.Name),
			"list at least one, as in `enum Item { flare, patch }`",
		)
		e.Values = []string{"none"}
	}
	c.bounded(d.At, "the number of values", int64(len(e.Values)), 1, contract.MaxEnumValues)
	c.Enums[e.Name] = e
	c.Contract.Enums = append(c.Contract.Enums, e)
}

// freeTypeName reports whether no enum, kind, type or part has a name yet, and tells a mistake when one has.
func (c *checker) freeTypeName(n syntax.Ident) bool {
	if n.Text == "" {
		return false // its mistake has been told
	}
	if c.Enums[n.Text] != nil || c.Kinds[n.Text] != nil || c.aliases[n.Text] != nil || c.Parts[n.Text] != nil {
		c.fail(
			n.At, "repeated", fmt.Sprintf("the name `%s` is taken by another declaration", n.Text),
			"choose another name",
		)
		return false
	}
	return true
}

// Suggest words a hint: the nearest of some names, or else what would be right in general.
func Suggest(name string, known []string, otherwise string) string {
	best := ""
	distance := len(name)/3 + 2
	for _, k := range known {
		if len(name) > 60 || len(k) > 60 {
			continue // nobody types that; and comparing takes time
		}
		if d := levenshtein.ComputeDistance(strings.ToLower(name), strings.ToLower(k)); d < distance {
			best = k
			distance = d
		}
	}
	if best != "" {
		return fmt.Sprintf("did you mean `%s`?", best)
	}
	return otherwise
}

// params reads the arguments of a request, event, action or function. at says what types these may have.
func (c *checker) params(params []syntax.Param, at place) []contract.Param {
	var out []contract.Param
	for i, p := range params {
		if i >= contract.MaxParams {
			c.fail(
				p.Name.At, "out-of-range", fmt.Sprintf("this is argument %d", i+1),
				fmt.Sprintf("at most %d are allowed", contract.MaxParams),
			)
			break
		}
		if slices.ContainsFunc(out, func(o contract.Param) bool { return o.Name == p.Name.Text }) {
			c.fail(
				p.Name.At, "repeated", fmt.Sprintf("there is an argument `%s` already", p.Name.Text),
				"choose another name",
			)
		}
		t := c.typ(p.Type, at)
		if t == nil {
			t = &contract.Type{Form: ""} // its uses are not told again
		}
		out = append(out, contract.Param{Name: p.Name.Text, Type: t})
	}
	return out
}

// names returns the keys of a map, sorted.
func names[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for n := range m {
		out = append(out, n)
	}
	sort.Strings(out)
	return out
}

// ticks turns milliseconds into ticks; a time that is not whole ticks is a mistake that names the two nearest.
func (c *checker) ticks(at syntax.Span, ms int64) int64 {
	rate := int64(c.Contract.TickRate)
	if ms*rate%1000 != 0 || ms <= 0 {
		n := ms * rate / 1000
		near := fmt.Sprintf("%gms", float64((n+1)*1000)/float64(rate))
		if n > 0 {
			near = fmt.Sprintf("%gms and %s", float64(n*1000)/float64(rate), near)
		}
		c.fail(
			at, "no-ticks", fmt.Sprintf("%dms is not a whole number of ticks at %d per second", ms, rate),
			"nearest: "+near,
		)
		return 1
	}
	return ms * rate / 1000
}
