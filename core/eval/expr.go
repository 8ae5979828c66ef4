// Package eval checks and evaluates the expressions of drills over what a client's copy or the server holds. It knows
// no lines of drills and no sessions.
//
// A Scope has what a drill's line may name and turns an expression into a Node; a Node is evaluated in an Env, any
// number of times. Values are those that JSON has, an Entity, a Seat or an Absent; they are never changed once they are
// made.
//
// # How it works
//
// Compile turns a tree into closures, once; evaluating a Node calls them. There are no types beforehand: what a line
// compares shows when it runs, and values that have nothing in common are an error then, which fails the line. What
// does not exist on a sheet is Absent, which is neither true nor false and ends the expression that reads it.
// arithmetic.go computes and compares, exactly or not at all; value.go turns values into what the contract holds, by
// the type that it declares; record.go makes records.
package eval

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/syntax"
)

// Scope is what the names in an expression mean.
//
// A Scope belongs to the checker of one drill. It only grows while the drill is read; what it knows of
// names and roles is what holds for all runs of the drill, whatever the dice.
type Scope struct {
	Contract *contract.Contract
	Clients  map[string]bool           // names of clients, while checking
	Roles    map[string]string         // of clients that have one role all the time; empty for others
	Names    map[string]bool           // given by let, for or a query
	Kinds    map[string]*contract.Kind // of what `let` named, as far as that is known before it runs
	Source   *syntax.Source
	Problems *syntax.Problems
}

// Fail adds a problem.
//
// hint may be empty, when nothing better than the message can be said.
func (s *Scope) Fail(at syntax.Span, code, message, hint string) {
	*s.Problems = append(*s.Problems, s.Source.Problem(at, code, message, hint))
}

// with returns a scope with another name.
//
// The new name hides an outer one of the same spelling, its kind included. The outer scope stays as it
// is.
func (s *Scope) with(name string) *Scope {
	inner := *s
	inner.Names, inner.Kinds = map[string]bool{name: true}, maps.Clone(s.Kinds)
	for n := range s.Names {
		inner.Names[n] = true
	}
	delete(inner.Kinds, name)
	return &inner
}

// Kind returns the kind of a name, or nil.
func (s *Scope) Kind(name string) *contract.Kind {
	for _, k := range s.Contract.Kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// Enum returns the enumeration of a name, or nil.
func (s *Scope) Enum(name string) *contract.Enum {
	for _, e := range s.Contract.Enums {
		if e.Name == name {
			return e
		}
	}
	return nil
}

// values returns the enumerations that have a value of a name.
func (s *Scope) values(name string) (out []*contract.Enum) {
	for _, e := range s.Contract.Enums {
		if slices.Contains(e.Values, name) {
			out = append(out, e)
		}
	}
	return out
}

// Env is what an expression is evaluated on. It is for one evaluation at a time: queries set Names while they run.
//
// On is only read. Whoever evaluates may use the same Env again for the next expression on the same
// sheet.
type Env struct {
	On    *replicate.Copy // the server's own sheet, or a client's copy
	Names map[string]any  // values of names that statements gave
	Seats map[string]int  // numbers of clients that have joined, by name
	Dice  *rand.Rand      // of `roll`
	Who   string          // whose sheet it is, for messages
	// Nth returns the number of the nth entity of a kind that was spawned, from 1; 0 for none. It may be nil.
	Nth   func(kind string, nth int64) uint32
	Self  int // the client whose own entities a bare kind means; 0 for nobody
	steps int // that the evaluation has taken
}

// maxSteps bounds what one expression may look at.
const maxSteps = 200_000

// maxSpan bounds how far the ends of a roll may be from each other.
const maxSpan = 1 << 40

// step counts an item that an expression goes over, and fails when there were more than maxSteps.
//
// The count goes over the whole evaluation, nested queries included, so its time is bounded whatever a
// drill writes.
func (e *Env) step() error {
	e.steps++
	if e.steps > maxSteps {
		return errors.New("the expression goes over too much")
	}
	return nil
}

// Node is a checked expression.
//
// Its value is one of the types that value.go lists. An Absent error says that the sheet does not have
// what was asked for, which an expectation may accept; any other error fails the line.
type Node func(e *Env) (any, error)

// Want is what is known of the value that an expression has to give.
//
// It helps to read a bare name and to say early what cannot fit. A Want that knows nothing takes any
// value.
type Want struct {
	Enum   *contract.Enum // that a bare value is of
	Type   *contract.Type // nil when it is not known
	Forged bool           // it is sent as it stands: any JSON will do
}

// WantOf returns what is known of a value of a type; nil is any type.
func WantOf(t *contract.Type) Want {
	if t == nil {
		return Want{}
	}
	return Want{Enum: t.Enum, Type: t}
}

// item returns what is known of the items of a list.
//
// Where the type is not known to be a list, its items are taken to be of the same enumeration.
func (w Want) item() Want {
	if w.Type != nil && w.Type.Form == contract.FormList {
		return Want{Enum: w.Type.Of.Enum, Type: w.Type.Of, Forged: w.Forged}
	}
	return Want{Enum: w.Enum, Forged: w.Forged}
}

// broken stands for an expression with a mistake, which has been told.
var broken Node = func(*Env) (any, error) { return nil, ErrBroken }

// ErrBroken is the error of an expression that was found to be wrong when it was checked.
var ErrBroken = errors.New("it is not right")

// EnumOf finds the enumeration that an expression is of, as far as that can be known before it runs.
//
// For `x.name` it looks through the properties of that name in all kinds, since the kind of x is known
// only when the drill runs. Two kinds with different enumerations leave it open.
func (s *Scope) EnumOf(x syntax.Expr) Want {
	switch n := x.(type) {
	case *syntax.Member:
		if r, ok := n.X.(*syntax.Ref); ok {
			if e := s.Enum(r.Text); e != nil {
				return Want{Enum: e}
			}
		}
		var found Want
		for _, k := range s.Contract.Kinds {
			if p := k.Property(n.Name.Text); p != nil && p.Type.Enum != nil {
				if found.Enum != nil && found.Enum != p.Type.Enum {
					return Want{}
				}
				found = Want{Enum: p.Type.Enum}
			}
		}
		return found
	}
	return Want{}
}

// Compile checks an expression; its mistakes are told.
//
// The node may be evaluated any number of times, on any sheet. After a mistake it is one that always
// fails, so that the drill's other lines can be checked and none of them passes by accident.
func (s *Scope) Compile(x syntax.Expr, w Want) Node {
	switch n := x.(type) {
	case *syntax.Number:
		return constant(n.Value)
	case *syntax.Time:
		return constant(n.Ms)
	case *syntax.Decimal:
		var f float64
		if _, err := fmt.Sscan(n.Text, &f); err != nil {
			s.Fail(n.At, "number", "this is no number", "")
			return broken
		}
		return constant(f)
	case *syntax.Literal:
		return constant(n.Value)
	case *syntax.Truth:
		return constant(n.Value)
	case *syntax.Ref:
		return s.ref(n, w)
	case *syntax.Member:
		return s.member(n)
	case *syntax.List:
		return s.list(n, w)
	case *syntax.Index:
		return s.index(n)
	case *syntax.Unary:
		of := s.Compile(n.X, w)
		return func(e *Env) (any, error) {
			v, err := of(e)
			if err != nil {
				return nil, err
			}
			return operateOne(n.Op, v)
		}
	case *syntax.Binary:
		return s.binary(n)
	case *syntax.Choice:
		return s.choice(n, w)
	case *syntax.Call:
		return s.call(n, w)
	case *syntax.Query:
		return s.query(n)
	case *syntax.Record:
		return s.record(n, w)
	case *syntax.Bad:
		return broken
	}
	s.Fail(x.Span(), "not-here", "this does not stand in a drill", "values, properties, comparisons and queries do")
	return broken
}

// list compiles a list that is written out.
func (s *Scope) list(n *syntax.List, w Want) Node {
	var items []Node
	for _, item := range n.Items {
		items = append(items, s.Compile(item, w.item()))
	}
	return func(e *Env) (any, error) {
		out := []any{}
		for _, item := range items {
			v, err := item(e)
			if err != nil {
				return nil, err
			}
			out = append(out, v)
		}
		return out, nil
	}
}

// index compiles `KIND[n]`, the nth entity of a kind that was spawned, or `X[n]`, a value of a list or map.
//
// Counting goes by the order in which entities were spawned, those that are gone included: the number
// of an entity never changes.
func (s *Scope) index(n *syntax.Index) Node {
	if k := s.Nth(n); k != nil {
		which := s.Compile(n.I, Want{})
		return func(e *Env) (any, error) {
			v, err := which(e)
			if err != nil {
				return nil, err
			}
			i, ok := v.(int64)
			if !ok || i < 1 {
				return nil, fmt.Errorf(
					"%s is no place among those of %s that were spawned; they count from 1", Show(v), k.Name,
				)
			}
			number := uint32(0)
			if e.Nth != nil {
				number = e.Nth(k.Name, i)
			}
			if number == 0 || e.On.Entity(number) == nil {
				return nil, Absent(fmt.Sprintf("%s does not have %s[%d]", e.Who, k.Name, i))
			}
			return Entity(number), nil
		}
	}
	of := s.Compile(n.X, Want{})
	at := s.Compile(n.I, Want{})
	return func(e *Env) (any, error) {
		h, err := of(e)
		if err != nil {
			return nil, err
		}
		i, err := at(e)
		if err != nil {
			return nil, err
		}
		return index(e.On, h, i)
	}
}

// Nth returns the kind of `KIND[N]`, the Nth of its kind that was spawned; nil for any other index.
//
// A name of the drill hides the kind of the same name.
func (s *Scope) Nth(n *syntax.Index) *contract.Kind {
	r, ok := n.X.(*syntax.Ref)
	if !ok || s.Names[r.Text] || s.Clients[r.Text] {
		return nil
	}
	return s.Kind(r.Text)
}

// constant returns the node of a value that is always the same.
func constant(v any) Node { return func(*Env) (any, error) { return v, nil } }

// ref compiles a bare name: one that a statement gave, a client, a kind, a role or an enumeration's value. What the
// place of the name wants decides between an enumeration's value and a kind of the same name.
//
// Names of the drill come before those of the contract. A value that several enumerations have is
// reported, unless the place says which is wanted.
func (s *Scope) ref(n *syntax.Ref, w Want) Node {
	name := n.Text
	switch {
	case name == "nothing":
		return constant(nothing{})
	case name == "server":
		return constant(Seat(0))
	case s.Names[name]:
		return func(e *Env) (any, error) {
			if v, ok := e.Names[name]; ok {
				return v, nil
			}
			return nil, fmt.Errorf("`%s` has no value yet", name)
		}
	case s.Clients[name]:
		return func(e *Env) (any, error) {
			if c, ok := e.Seats[name]; ok {
				return Seat(c), nil
			}
			return nil, fmt.Errorf("%s has not joined", name)
		}
	case w.Enum != nil && slices.Contains(w.Enum.Values, name):
		return constant(member{w.Enum, int64(slices.Index(w.Enum.Values, name))})
	case w.Type != nil && w.Type.Form == contract.FormKind && s.Kind(name) != nil:
		return constant(name) // a kind by name
	}
	if k := s.Kind(name); k != nil {
		return ofKind(k)
	}
	if slices.Contains(s.Contract.Roles, name) {
		return constant(role(name))
	}
	switch list := s.values(name); len(list) {
	case 1:
		return constant(member{list[0], int64(slices.Index(list[0].Values, name))})
	case 0:
		s.Fail(
			n.At, "unknown-name", fmt.Sprintf("nothing is called `%s`", name),
			"a client of the drill, a name that `let` gave, a kind, or an enumeration's value",
		)
	default:
		s.Fail(
			n.At, "ambiguous", fmt.Sprintf("`%s` is a value of %s and of %s", name, list[0].Name, list[1].Name),
			fmt.Sprintf("write %s.%s", list[0].Name, name),
		)
	}
	return broken
}

// ofKind returns the node of a kind's bare name: its entity, where there is one that the name can mean (the only one of
// a shared kind, or that of the client whom the expression is about), and else the name itself.
//
// Which it is can only be told when it runs: the same expression is evaluated for one client after the
// other.
func ofKind(k *contract.Kind) Node {
	return func(e *Env) (any, error) {
		if !k.Shared && e.Self == 0 {
			return k.Name, nil
		}
		owner := 0
		if !k.Shared {
			owner = e.Self
		}
		for _, t := range e.On.Entities() {
			if t.Kind == k.Name && (k.Shared || t.Owner == owner) {
				return Entity(t.Number), nil
			}
		}
		return nil, Absent(fmt.Sprintf("%s does not have %s", e.Who, k.Name))
	}
}

// own finds an entity of a kind that belongs to a client.
//
// The error tells a client whose role has no such entity from one whose entity this sheet does not
// have.
func (s *Scope) own(e *Env, kind *contract.Kind, client int) (any, error) {
	for _, t := range e.On.Entities() {
		if t.Kind == kind.Name && t.Owner == client {
			return Entity(t.Number), nil
		}
	}
	for _, c := range e.On.Clients {
		if c.Number != client {
			continue
		}
		if kind.Per >= 0 && s.Contract.Roles[kind.Per] != c.Role {
			return nil, Absent(fmt.Sprintf("%s is a %s and has no %s", c.Name, c.Role, kind.Name))
		}
		return nil, Absent(fmt.Sprintf("%s does not have the %s of %s", e.Who, kind.Name, c.Name))
	}
	return nil, Absent(fmt.Sprintf("%s does not have a %s of client %d", e.Who, kind.Name, client))
}

// member is `x.name`.
//
// `client.Kind` is the client's own entity of the kind; `Enum.value` is a constant; all else is a part
// of a value. A client that always joins in one role is known to have no entity of another role's kind,
// which is reported when the drill is checked.
func (s *Scope) member(n *syntax.Member) Node {
	name := n.Name.Text
	if r, ok := n.X.(*syntax.Ref); ok && !s.Names[r.Text] && !s.Clients[r.Text] {
		if e := s.Enum(r.Text); e != nil {
			at := slices.Index(e.Values, name)
			if at < 0 {
				s.Fail(
					n.Name.At, "unknown-name", fmt.Sprintf("%s has no value `%s`", e.Name, name),
					fmt.Sprint("one of ", e.Values),
				)
				return broken
			}
			return constant(member{e, int64(at)})
		}
	}
	of := s.Compile(n.X, Want{})
	if k := s.Kind(name); k != nil {
		if r, ok := n.X.(*syntax.Ref); ok && s.Clients[r.Text] && !s.Names[r.Text] && k.Per >= 0 {
			if role := s.Roles[r.Text]; role != "" && role != s.Contract.Roles[k.Per] {
				s.Fail(
					n.Span(), "role", fmt.Sprintf("%s is a %s and has no %s", r.Text, role, k.Name),
					fmt.Sprintf("each %s has one", s.Contract.Roles[k.Per]),
				)
				return broken
			}
		}
		return func(e *Env) (any, error) {
			v, err := of(e)
			if err != nil {
				return nil, err
			}
			c, ok := v.(Seat)
			if !ok {
				return nil, fmt.Errorf("%s is no client that could have a %s", Show(v), name)
			}
			return s.own(e, k, int(c))
		}
	}
	if !s.known(name) {
		s.Fail(n.Name.At, "unknown-name", fmt.Sprintf("no kind has a property `%s`", name), "")
		return broken
	}
	return func(e *Env) (any, error) {
		v, err := of(e)
		if err != nil {
			return nil, err
		}
		if err := s.declares(e, v, name); err != nil {
			return nil, err
		}
		return Property(e, v, name)
	}
}

// declares returns an error when a value is an entity of a kind that has no property of a name.
//
// Without it the sheet would seem not to have the property, and a client would be right not to see it.
func (s *Scope) declares(e *Env, v any, name string) error {
	n, ok := v.(Entity)
	if !ok || name == "owner" {
		return nil
	}
	t := e.On.Entity(uint32(n))
	if t == nil {
		return nil
	}
	if k := s.Kind(t.Kind); k != nil && k.Property(name) == nil {
		return fmt.Errorf("%s has no property `%s`", k.Name, name)
	}
	return nil
}

// known reports whether something can have a part of a name.
//
// It knows what is in all kinds and records together: a name that passes here may still be missing from
// the value at hand.
func (s *Scope) known(name string) bool {
	if slices.Contains([]string{"owner", "name", "role", "number", "x", "y", "z"}, name) {
		return true
	}
	has := func(t *contract.Type) bool {
		// Lists and maps are looked into, as deep as they go.
		for ; t != nil; t = t.Of {
			if slices.ContainsFunc(t.Parts, func(p contract.Param) bool { return p.Name == name }) {
				return true
			}
		}
		return false
	}
	return slices.ContainsFunc(s.Contract.Kinds, func(k *contract.Kind) bool {
		return k.Property(name) != nil ||
			slices.ContainsFunc(k.Properties, func(p *contract.Property) bool { return has(p.Type) })
	})
}

// Property returns a part of a value.
//
// An entity's property comes before `owner`, which a kind cannot declare. What the sheet does not have
// is an Absent error, whether the entity is missing or only this property of it.
func Property(e *Env, v any, name string) (any, error) {
	if err := e.step(); err != nil {
		return nil, err
	}
	switch x := v.(type) {
	case Entity:
		t := e.On.Entity(uint32(x))
		if t == nil {
			return nil, Absent(fmt.Sprintf("%s does not have the entity", e.Who))
		}
		if f, ok := t.Field(name); ok {
			return Read(f.Type, f.Value), nil
		}
		if name == "owner" {
			return Seat(t.Owner), nil
		}
		return nil, Absent(fmt.Sprintf("%s does not have %s.%s", e.Who, t.Kind, name))
	case Seat:
		for _, c := range e.On.Clients {
			if c.Number == int(x) {
				switch name {
				case "name":
					return c.Name, nil
				case "role":
					return role(c.Role), nil
				case "number":
					return int64(c.Number), nil
				}
			}
		}
		return nil, Absent(fmt.Sprintf("%s does not know client %d", e.Who, int(x)))
	case vector:
		if i := slices.Index([]string{"x", "y", "z"}, name); i >= 0 && i < len(x) {
			return x[i], nil
		}
	case held:
		for i, p := range x.t.Parts {
			if p.Name == name {
				return Read(p.Type, x.v.Parts[i]), nil
			}
		}
	case nothing:
		return nil, Absent(fmt.Sprintf("`.%s` of nothing", name))
	}
	return nil, fmt.Errorf("%s has no `%s`", Show(v), name)
}

// index is `x[i]`.
//
// A place outside a list and a key that a map does not have are errors, and not Absent: the sheet has
// the whole list or nothing of it.
func index(on *replicate.Copy, h, i any) (any, error) {
	switch x := h.(type) {
	case []any:
		if n, ok := i.(int64); ok && n >= 0 && n < int64(len(x)) {
			return x[n], nil
		}
	case held:
		if x.t.Form == contract.FormList {
			if n, ok := i.(int64); ok && n >= 0 && n < int64(len(x.v.Parts)) {
				return Read(x.t.Of, x.v.Parts[n]), nil
			}
		}
		if x.t.Form == contract.FormMap {
			if _, err := Write(x.t.Key, i); err != nil {
				return nil, err
			}
			for _, pair := range x.v.Parts {
				if same, err := Same(on, Read(x.t.Key, pair.Parts[0]), i); err != nil {
					return nil, err
				} else if same {
					return Read(x.t.Of, pair.Parts[1]), nil
				}
			}
		}
	}
	return nil, fmt.Errorf("%s has nothing at %s", Show(h), Show(i))
}

// binary compiles an operation on two values. `and` and `or` compute the second one only when it matters.
//
// Each side tells the other which enumeration a bare name is of.
func (s *Scope) binary(n *syntax.Binary) Node {
	a := s.Compile(n.A, s.EnumOf(n.B))
	b := s.Compile(n.B, s.EnumOf(n.A))
	op := n.Op
	return func(e *Env) (any, error) {
		x, err := a(e)
		if err != nil {
			return nil, err
		}
		if op == "and" || op == "or" {
			l, ok := x.(bool)
			if !ok {
				return nil, fmt.Errorf("%s is neither true nor false", Show(x))
			}
			if l == (op == "or") {
				return l, nil
			}
			y, err := b(e)
			if _, ok := y.(bool); !ok && err == nil {
				return nil, fmt.Errorf("%s is neither true nor false", Show(y))
			}
			return y, err
		}
		y, err := b(e)
		if err != nil {
			return nil, err
		}
		return operate(e, op, x, y)
	}
}

// choice compiles `if CONDITION then VALUE else OTHER`. Only the value that is chosen is computed.
func (s *Scope) choice(n *syntax.Choice, w Want) Node {
	cond := s.Compile(n.Cond, Want{})
	then := s.Compile(n.Then, w)
	other := s.Compile(n.Other, w)
	return func(e *Env) (any, error) {
		x, err := cond(e)
		if err != nil {
			return nil, err
		}
		holds, ok := x.(bool)
		switch {
		case !ok:
			return nil, fmt.Errorf("%s is neither true nor false", Show(x))
		case holds:
			return then(e)
		}
		return other(e)
	}
}

// single returns the only one of some arguments, or nil.
func single(args []syntax.Expr) syntax.Expr {
	if len(args) != 1 {
		return nil
	}
	return args[0]
}

// call compiles the call of a function, or of a method of what holds many.
//
// A drill has only the functions that can be computed from a sheet: no place of a tick ago, no time
// since a change.
func (s *Scope) call(n *syntax.Call, w Want) Node {
	if r, ok := n.Fn.(*syntax.Ref); ok && r.Text == "count" && len(n.Args) == 1 {
		// Compiling the name of a kind would make one entity of it.
		if of, ok := n.Args[0].(*syntax.Ref); ok && (s.Kind(of.Text) != nil || of.Text == "clients") {
			return func(e *Env) (any, error) { return int64(len(e.all(of.Text))), nil }
		}
	}
	var args []Node
	var enum Want
	for _, a := range n.Args {
		if r, ok := a.(*syntax.Range); ok {
			args = append(args, s.Compile(r.Low, Want{}), s.Compile(r.High, Want{}))
			continue
		}
		if m, ok := n.Fn.(*syntax.Member); ok {
			// Of satchel.count(flare) the property says which enumeration `flare` is of.
			enum = s.EnumOf(m.X)
		}
		args = append(args, s.Compile(a, enum))
	}
	if m, ok := n.Fn.(*syntax.Member); ok {
		return s.method(m, args)
	}
	r, ok := n.Fn.(*syntax.Ref)
	if !ok {
		s.Fail(n.At, "not-here", "this cannot be called", "")
		return broken
	}
	switch {
	case r.Text == "now" && len(n.Args) == 0:
		rate := int64(s.Contract.TickRate)
		return func(e *Env) (any, error) { return e.On.Tick * 1000 / rate, nil }
	case r.Text == "json" && w.Forged:
		text, ok := single(n.Args).(*syntax.Literal)
		if !ok || !json.Valid([]byte(text.Value)) {
			s.Fail(n.At, "json", "`json` takes a text that is JSON", `as in json("{\"at\": [1, null]}")`)
			return broken
		}
		return constant(json.RawMessage(text.Value))
	}
	count := map[string]int{"distance": 2, "length": 1, "roll": 2, "sown": 4, "exists": 1, "abs": 1, "number": 1}
	if wanted, known := count[r.Text]; r.Text != "vec" && !known || known && wanted != len(args) ||
		r.Text == "vec" && (len(args) < 2 || len(args) > 3) {
		s.Fail(
			n.At, "unknown-name", fmt.Sprintf("a drill has no function `%s` with %d values", r.Text, len(args)),
			"vec(x, y), distance(a, b), length(v), roll(a..b), sown(seed, n, a..b), exists(e), abs(n), number(x), "+
				"now(), count(Kind), "+
				"count(clients); in what is forged also json(text)",
		)
		return broken
	}
	if r.Text == "exists" {
		return exists(args[0])
	}
	return func(e *Env) (any, error) {
		list, err := valuesOf(e, args)
		if err != nil {
			return nil, err
		}
		return function(e, r.Text, list)
	}
}

// valuesOf evaluates nodes one after the other, up to the first that fails.
func valuesOf(e *Env, nodes []Node) ([]any, error) {
	var out []any
	for _, n := range nodes {
		v, err := n(e)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// method compiles `X.name(values)`, which asks something of stacks, a list or a map.
func (s *Scope) method(m *syntax.Member, args []Node) Node {
	of := s.Compile(m.X, Want{})
	name := m.Name.Text
	if !slices.Contains([]string{"has", "count", "find", "count_at", "item_at"}, name) {
		s.Fail(
			m.Name.At, "unknown-name", fmt.Sprintf("a drill cannot ask `%s` of something", name),
			"one of has, count, find, count_at, item_at",
		)
		return broken
	}
	return func(e *Env) (any, error) {
		v, err := of(e)
		if err != nil {
			return nil, err
		}
		list, err := valuesOf(e, args)
		if err != nil {
			return nil, err
		}
		return method(e.On, v, name, list)
	}
}

// exists compiles whether an entity is there. One that the sheet does not have is not.
//
// It is the one place where an Absent error is an answer. Any other error is passed on.
func exists(of Node) Node {
	return func(e *Env) (any, error) {
		v, err := of(e)
		if _, gone := err.(Absent); gone {
			return false, nil
		}
		if err != nil {
			return nil, err
		}
		if !refers(v) {
			return nil, fmt.Errorf("%s is no entity or client that could exist", Show(v))
		}
		return resolved(e.On, v) != any(nothing{}), nil
	}
}

// function computes a function of values.
//
// The number of arguments was checked when the call was compiled; their types only show here.
func function(e *Env, name string, list []any) (any, error) {
	switch name {
	case "vec":
		out := vector{}
		for _, x := range list {
			f, ok := toFloat(x)
			if !ok {
				return nil, fmt.Errorf("%s is no number", Show(x))
			}
			out = append(out, f)
		}
		return out, nil
	case "distance":
		a, ok := list[0].(vector)
		b, both := list[1].(vector)
		if ok && both && len(a) == len(b) {
			return finite(distance(a, b))
		}
	case "length":
		if v, ok := list[0].(vector); ok {
			return finite(distance(v, make(vector, len(v))))
		}
	case "number":
		switch x := list[0].(type) {
		case member:
			return x.at, nil
		case Entity:
			return int64(x), nil
		}
	case "abs":
		switch x := list[0].(type) {
		case int64:
			if x < 0 {
				return operateOne("-", x)
			}
			return x, nil
		case float64:
			return math.Abs(x), nil
		}
	case "sown":
		var n [4]int64
		are := true
		for i, x := range list {
			whole, is := x.(int64)
			n[i] = whole
			are = are && is
		}
		if are && n[2] <= n[3] {
			return contract.Sown(n[0], n[1], n[2], n[3]), nil
		}
	case "roll":
		a, ok := list[0].(int64)
		b, both := list[1].(int64)
		// The distance of any two is right as an unsigned number; as a signed one it could come out negative.
		span := uint64(b) - uint64(a)
		if ok && both && a <= b && span < maxSpan {
			return a + e.Dice.Int64N(int64(span)+1), nil
		}
	}
	return nil, fmt.Errorf("%s does not take %s", name, Show(list))
}

// method is has, count or find of what holds things.
//
// In stacks `count` and `has` go by the counts of the stacks; in lists and maps every value counts
// once. `find` is the first place, from 0, or −1.
func method(on *replicate.Copy, v any, name string, args []any) (any, error) {
	h, ok := v.(held)
	most := 1
	if name == "has" {
		most = 2
	}
	if !ok || h.t.Form == contract.FormRecord || len(args) > most || len(args) == 0 && name != "count" {
		return nil, fmt.Errorf("%s has no `%s` with %d values", Show(v), name, len(args))
	}
	if name == "count_at" || name == "item_at" {
		return atSlot(h, name, args[0])
	}
	if len(args) == 0 {
		return countAll(h), nil
	}
	key := itemType(h.t)
	if _, err := Write(key, args[0]); err != nil { // told also when there is nothing to compare it with
		return nil, err
	}
	at := int64(-1)
	count := int64(0)
	for i, p := range h.v.Parts {
		one := p
		n := int64(1)
		if h.t.Form != contract.FormList {
			one = p.Parts[0]
		}
		if h.t.Form == contract.FormStacks {
			n = p.Parts[1].Num
		}
		same, err := Same(on, Read(key, one), args[0])
		if err != nil {
			return nil, err
		}
		if same && n > 0 { // an empty slot has no item
			count += n
			if at < 0 {
				at = int64(i)
			}
		}
	}
	switch name {
	case "find":
		return at, nil
	case "count":
		return count, nil
	}
	least := int64(1)
	if len(args) == 2 {
		least, ok = args[1].(int64)
		if !ok {
			return nil, fmt.Errorf("%s is no number", Show(args[1]))
		}
	}
	return count >= least, nil
}

// itemType returns the type of what a list holds, of the keys of a map, or of the items of stacks.
func itemType(t *contract.Type) *contract.Type {
	switch t.Form {
	case contract.FormList:
		return t.Of
	case contract.FormMap:
		return t.Key
	}
	return &contract.Type{Form: contract.FormEnum, Enum: t.Enum}
}

// countAll returns how many values a list or map holds, and how many items stacks do.
func countAll(h held) int64 {
	if h.t.Form != contract.FormStacks {
		return int64(len(h.v.Parts))
	}
	count := int64(0)
	for _, p := range h.v.Parts {
		count += p.Parts[1].Num
	}
	return count
}

// atSlot is count_at or item_at of slotted stacks. An empty slot has no item, which is an error.
func atSlot(h held, name string, slot any) (any, error) {
	n, ok := slot.(int64)
	if !h.t.Slotted || !ok || n < 0 || n >= int64(h.t.Max) {
		return nil, fmt.Errorf("%s has no slot %s", h.t, Show(slot))
	}
	item := contract.Value{Parts: []contract.Value{{}, {}}}
	if n < int64(len(h.v.Parts)) {
		item = h.v.Parts[n]
	}
	count := item.Parts[1].Num
	switch {
	case name == "count_at":
		return count, nil
	case count == 0:
		return nil, fmt.Errorf("slot %d of `%s` is empty", n, Show(h))
	}
	return member{h.t.Enum, item.Parts[0].Num}, nil
}

// query compiles a query over a kind or over all clients.
//
// `else` is compiled outside of the query's name, which it cannot read. While the query runs the name
// stands in Env.Names, and afterwards there is again what stood there before: queries may be nested and
// use the same name.
func (s *Scope) query(n *syntax.Query) Node {
	do := n.Fn.Text
	if do == "best" {
		do = "most" // of what is a mark
	}
	of, ok := s.queried(n, do)
	if !ok {
		return broken
	}
	inner := s.with(n.Name.Text)
	var where, value, other Node
	if n.In.Where != nil {
		where = inner.Compile(n.In.Where, Want{})
	}
	if n.Value != nil {
		value = inner.Compile(n.Value, Want{})
	}
	if n.Else != nil {
		other = s.Compile(n.Else, Want{})
	}
	if value == nil && slices.Contains([]string{"sum", "min", "max", "all", "any", "most", "least"}, do) &&
		!(do == "any" && where != nil) {
		s.Fail(
			n.At, "expected", fmt.Sprintf("`%s` has to be told of what", do),
			"after a colon, as in max(d in Diver: d.score)",
		)
		return broken
	}
	return func(e *Env) (any, error) {
		before, was := e.Names[n.Name.Text]
		defer func() {
			if was {
				e.Names[n.Name.Text] = before
			} else {
				delete(e.Names, n.Name.Text)
			}
		}()
		var found []any
		for _, item := range e.all(of) {
			if err := e.step(); err != nil {
				return nil, err
			}
			e.Names[n.Name.Text] = item
			yes, err := chosen(e, where)
			if err != nil {
				return nil, err
			}
			if yes {
				found = append(found, item)
			}
		}
		return choose(e, n, do, found, value, other)
	}
}

// chosen evaluates the condition of a query, which may be nil. One that reads what the sheet does not have is not met.
func chosen(e *Env, where Node) (bool, error) {
	if where == nil {
		return true, nil
	}
	v, err := where(e)
	if _, gone := err.(Absent); gone {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	yes, ok := v.(bool)
	if !ok {
		return false, fmt.Errorf("%s is neither true nor false", Show(v))
	}
	return yes, nil
}

// queried returns what a query goes over: the name of a kind, or `clients`. ok is false when the query is none, or goes
// over something else, which has been told then.
//
// Lists are asked with `has`, `count` and `find`, and `within` needs the server's own places.
func (s *Scope) queried(n *syntax.Query, do string) (of string, ok bool) {
	if !slices.Contains([]string{"count", "sum", "one", "first", "min", "max", "any", "all", "most", "least"}, do) {
		s.Fail(
			n.Fn.At, "unknown-name", fmt.Sprintf("a drill has no query `%s`", do),
			"one of count, sum, one, first, min, max, any, all, most, least, best",
		)
		return "", false
	}
	r, ok := n.In.X.(*syntax.Ref)
	if !ok || r.Text != "clients" && s.Kind(r.Text) == nil || n.In.Within != nil {
		s.Fail(
			n.In.X.Span(), "not-here", "a query of a drill goes over a kind or over clients",
			"as in one(e in Eel where e.hull < 60)",
		)
		return "", false
	}
	return r.Text, true
}

// all returns what a query goes over: all clients, or the entities of a kind that are there, by number.
//
// The order is the same on every sheet, so that `first` means the same entity to the server and to each
// client that has it.
func (e *Env) all(of string) []any {
	var items []any
	if of == "clients" {
		for _, c := range e.On.Clients {
			items = append(items, Seat(c.Number))
		}
		return items
	}
	var list []uint32
	for _, t := range e.On.Entities() {
		if t.Kind == of {
			list = append(list, t.Number)
		}
	}
	slices.Sort(list)
	for _, x := range list {
		items = append(items, Entity(x))
	}
	return items
}

// choose computes the result of a query from the items that it found.
//
// Over nothing, count and sum are 0, any is false and all is true; what has to pick one takes other, or
// is Absent.
func choose(e *Env, n *syntax.Query, do string, found []any, value, other Node) (any, error) {
	none := func() (any, error) {
		if other != nil {
			return other(e)
		}
		return nil, Absent(fmt.Sprintf("%s has none that this is true of", e.Who))
	}
	each := func(item any) (any, error) { // the value for an item
		e.Names[n.Name.Text] = item
		return value(e)
	}
	switch {
	case do == "count":
		return int64(len(found)), nil
	// `else` is not for this: with none or several the expectation that there is one is wrong.
	case do == "one":
		if len(found) != 1 {
			return nil, fmt.Errorf("%d are there, not one", len(found))
		}
		return found[0], nil
	case do == "any" && value == nil:
		return len(found) > 0, nil
	case do == "any" || do == "all":
		return decides(found, each, do == "any")
	case do == "sum":
		return sum(e, found, each)
	case len(found) == 0:
		return none()
	case do == "first":
		return found[0], nil
	}
	item, v, err := extreme(e, found, each, do == "max" || do == "most")
	if do == "most" || do == "least" {
		return item, err
	}
	return v, err
}

// decides returns by when each gives it for an item, and else the opposite: whether any is true, or with false for by
// whether all are.
func decides(found []any, each func(any) (any, error), by bool) (any, error) {
	for _, item := range found {
		v, err := each(item)
		if err != nil {
			return nil, err
		}
		yes, ok := v.(bool)
		if !ok {
			return nil, fmt.Errorf("%s is neither true nor false", Show(v))
		}
		if yes == by {
			return by, nil
		}
	}
	return !by, nil
}

// sum adds up what each gives for the items.
func sum(e *Env, found []any, each func(any) (any, error)) (any, error) {
	out := any(int64(0))
	for _, item := range found {
		v, err := each(item)
		if err != nil {
			return nil, err
		}
		out, err = operate(e, "+", out, v)
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// extreme returns the first item with the greatest or the least value, and that value.
//
// found must not be empty. Among equals the first one counts. A value that cannot be compared is an
// error even when it is the only one.
func extreme(e *Env, found []any, each func(any) (any, error), greatest bool) (item, best any, err error) {
	better := "<"
	if greatest {
		better = ">"
	}
	for i, x := range found {
		v, err := each(x)
		if err != nil {
			return nil, nil, err
		}
		if i == 0 {
			best = v // of the first one it is only asked whether it can be compared
		}
		yes, err := operate(e, better, v, best)
		if err != nil {
			return nil, nil, err
		}
		if i == 0 || yes == true {
			item = x
			best = v
		}
	}
	return item, best, nil
}
