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

// Load reads and checks a contract of one file. The problems hold every mistake, of the text and of its meaning, in the
// order of the lines; the contract is nil exactly when one of them is more than a warning.
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
		src:       src,
		problems:  problems,
		files:     open,
		enums:     map[string]*Enum{},
		kinds:     map[string]*Kind{},
		consts:    map[string]*Expr{},
		calls:     map[any][]call{},
		used:      map[any]bool{},
		sent:      map[*Enum]bool{},
		trees:     map[*Kind]*syntax.Entity{},
		unread:    len(problems) > 0,
		parts:     map[string]*part{},
		aliases:   map[string]*syntax.TypeDecl{},
		types:     map[string]*Type{},
		open:      map[string]bool{},
		settings:  map[string]*Setting{},
		fns:       map[string]*Fn{},
		audiences: map[string]*Named{},
		texts:     map[string]int64{"": 0},
		changes:   map[int]bool{},
		spawns:    map[*Kind]bool{},
		out: &Contract{
			TickRate: 20,
			Seats:    64,
			Source:   src,
			Texts:    []string{""},
		},
	}
	c.file(file)
	if len(c.problems) > 0 {
		return nil, c.problems.Sort() // what is unused may only not have been understood
	}
	c.dangers(file)
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
	// constants by name; enums, roles (as role), values (as value), declarations of properties, events and actions (by
	// offset), locals, and so on
	used     map[any]bool
	locals   []local
	sent     map[*Enum]bool // enums that are arguments of requests
	calls    map[any][]call // which actions and functions run which, to find circles
	trees    map[*Kind]*syntax.Entity
	events   []*Event       // the contract's own
	changes  map[int]bool   // declarations of properties that something may give another value than their default
	spawns   map[*Kind]bool // kinds that some body spawns
	later    []func()       // what can be told only when all bodies are read
	accepted map[acceptKey]bool
	taken    map[acceptKey]bool // of those accepted: what was found
	unread   bool               // the text itself has mistakes: what is missing may only not have been understood
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
		if _, known := findings[a.Finding.Text]; !known {
			c.fail(
				a.Finding.At, "unknown-name", fmt.Sprintf("there is no finding `%s`", a.Finding.Text),
				c.suggest(a.Finding.Text, names(findings), "one of "+strings.Join(names(findings), ", ")),
			)
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
				c.out.Name = d.Name.Text
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
				c.bounded(d.Rate.At, "the number of ticks per second", d.Rate.Value, 1, MaxTickRate) {
				c.out.TickRate = int(d.Rate.Value)
			}
		case *syntax.Roles:
			if once(d, "a list of roles") {
				c.bounded(d.At, "the number of roles", int64(len(d.Names)), 1, MaxRoles)
				for _, n := range d.Names {
					if slices.Contains(c.out.Roles, n.Text) {
						c.fail(
							n.At, "repeated", fmt.Sprintf("the role `%s` is listed twice", n.Text),
							"remove one of the two",
						)
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
			if once(d, "a number of seats") &&
				c.bounded(d.Count.At, "the number of seats", d.Count.Value, 1, MaxSeats) {
				c.out.Seats = int(d.Count.Value)
				if d.Grace != nil {
					c.out.Grace = c.ticks(d.Grace.At, d.Grace.Value)
				}
			}
		case *syntax.Strikes:
			if once(d, "a number of strikes") &&
				c.bounded(d.Count.At, "the number of strikes", d.Count.Value, 1, MaxLimit) {
				c.out.Strikes, c.out.Window = int(d.Count.Value), c.ticks(d.Window.At, d.Window.Value)
			}
		}
	}
	if seen["a name"] == nil && !c.unread {
		c.fail(
			syntax.Span{}, "no-header", "the contract has no name",
			"begin with a line such as `contract tidewreck language 1`",
		)
	}
	if len(c.out.Roles) == 0 {
		c.out.Roles = []string{"player"}
	}
}

func (c *checker) lineOf(at syntax.Span) int {
	line, _ := c.src.Position(at.Start)
	return line
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
		c.fail(
			d.At, "empty", fmt.Sprintf("the enum %s has no value", e.Name),
			"list at least one, as in `enum Item { flare, patch }`",
		)
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
		c.fail(
			n.At, "repeated", fmt.Sprintf("the name `%s` is taken by another declaration", n.Text),
			"choose another name",
		)
		return false
	}
	return true
}

// suggest words a hint: the nearest of some names, or else what would be right in general.
func (c *checker) suggest(name string, known []string, otherwise string) string {
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

func (c *checker) params(params []syntax.Param, at place) []Param {
	var out []Param
	for i, p := range params {
		if i >= MaxParams {
			c.fail(
				p.Name.At, "out-of-range", fmt.Sprintf("this is argument %d", i+1),
				fmt.Sprintf("at most %d are allowed", MaxParams),
			)
			break
		}
		if slices.ContainsFunc(out, func(o Param) bool { return o.Name == p.Name.Text }) {
			c.fail(
				p.Name.At, "repeated", fmt.Sprintf("there is an argument `%s` already", p.Name.Text),
				"choose another name",
			)
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

// ticks turns milliseconds into ticks; a time that is not whole ticks is a mistake that names the two nearest.
func (c *checker) ticks(at syntax.Span, ms int64) int64 {
	rate := int64(c.out.TickRate)
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
