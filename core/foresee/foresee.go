// Package foresee evaluates, on what a client holds, the checks of its requests that it can know: so that an honest
// client does not send what will be denied.
//
// It makes a small contract of the outline, with nothing but the properties and those checks, and runs them as the
// server does.
//
// # How it works
//
// New writes a contract of its own from an outline: each check that a client can know becomes a request that asks for
// nothing else. Denies lays what the copy holds into a world of that contract and runs the checks there, by the same
// machine as the server. A check that cannot be computed from what the client holds denies nothing.
package foresee

import (
	"fmt"
	"slices"
	"strings"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/codegen"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// Foresight is what can be known of an outline's checks. It may be used by one goroutine at a time.
type Foresight struct {
	contract *contract.Contract
	program  *bytecode.Program
	requests map[string]*contract.Request
}

// New reads the checks of an outline that a client can evaluate. The error says why none of them can be.
func New(o *contract.Outline) (*Foresight, error) {
	text := word(o)
	c, problems := compile.Load("outline.kam", text)
	if c == nil {
		return nil, fmt.Errorf("read the checks of the outline of %s: %w", o.Contract, problems)
	}
	program, err := codegen.Generate(c)
	if err != nil {
		return nil, fmt.Errorf("read the checks of the outline of %s: %w", o.Contract, err)
	}
	f := &Foresight{contract: c, program: program, requests: map[string]*contract.Request{}}
	for _, r := range c.Requests {
		f.requests[r.FullName()] = r
	}
	return f, nil
}

// Denies returns which check of a request fails on a copy, by its place among the request's reasons; -1 when none does
// as far as the client can know. The entity is that which the request is for, args are its arguments, of the declared
// types.
func (f *Foresight) Denies(
	held *replicate.Copy, me int, o *contract.Outline, request string, entity uint32, args []contract.Value,
) int {
	kindName, name, _ := strings.Cut(request, ".")
	k := o.Kind(kindName)
	if k == nil || k.Request(name) == nil {
		return -1
	}
	var m *rules.Machine
	var self *world.Entity
	var slots []int64
	for i, known := range k.Request(name).Known {
		asks := f.requests[fmt.Sprintf("%s.%s_is%d", kindName, name, i)]
		fails := f.requests[fmt.Sprintf("%s.%s_of%d", kindName, name, i)]
		if known == "" || asks == nil || fails == nil {
			continue
		}
		if m == nil {
			m, self, slots = f.set(held, me, asks, entity, args)
			if self == nil {
				return -1 // there is nothing to ask on a copy without the entity
			}
		}
		// What fails by itself, for lack of something in the copy, is not known.
		if m.Ask(fails, self, me, slots) == nil && m.Ask(asks, self, me, slots) != nil {
			return i
		}
	}
	return -1
}

// set makes a world of a copy.
func (f *Foresight) set(
	held *replicate.Copy, me int, r *contract.Request, entity uint32, args []contract.Value,
) (*rules.Machine, *world.Entity, []int64) {
	w := world.New(f.contract, nil)
	clients := slices.Clone(held.Clients)
	slices.SortFunc(clients, func(a, b wire.Client) int { return a.Number - b.Number })
	for _, c := range clients {
		w.AddClient(world.Client{Number: c.Number, Name: c.Name, Role: slices.Index(f.contract.Roles, c.Role)})
	}
	entities := map[int64]*world.Entity{}
	kind := func(name string) *contract.Kind {
		i := slices.IndexFunc(f.contract.Kinds, func(k *contract.Kind) bool { return k.Name == name })
		if i < 0 {
			return nil
		}
		return f.contract.Kinds[i]
	}
	for _, t := range held.Entities() {
		switch k := kind(t.Kind); {
		case k == nil:
		case k.Shared:
			e := w.Shared(k.Index)
			w.SetOwner(e, t.Owner)
			entities[int64(t.Number)] = e
		default:
			entities[int64(t.Number)] = w.Spawn(k, t.Owner)
		}
	}
	number := func(n int64) int64 {
		if e := entities[n]; e != nil {
			return int64(e.ID)
		}
		return 0
	}
	for _, t := range held.Entities() {
		e := entities[int64(t.Number)]
		for _, x := range t.Fields {
			if e == nil {
				continue
			}
			if p := e.Kind.Property(x.Name); p != nil {
				w.Set(e, p, p.Type.AppendSlots(nil, p.Type.Refs(x.Value, number), w.Intern))
			}
		}
	}
	w.Commit()
	w.Events(func(world.Event) {})
	var slots []int64
	for i, p := range r.Params {
		slots = p.Type.AppendSlots(slots, p.Type.Refs(args[i], number), w.Intern)
	}
	self := entities[int64(entity)]
	if entity == 0 && r.Kind.Shared {
		self = w.Shared(r.Kind.Index)
	} else if entity == 0 {
		self = w.OfClient(r.Kind.Index, me)
	}
	return rules.NewMachine(f.program, w, [32]byte{}), self, slots
}

// word writes an outline as a contract.
func word(o *contract.Outline) string {
	w := &writer{outline: o, declared: map[string]bool{}}
	w.line(
		"contract outline language %d\ntick %d per second\nroles %s",
		contract.Language, o.Tick, strings.Join(o.Roles, ", "),
	)
	parts := map[string]bool{}
	for _, k := range o.Kinds {
		for _, p := range k.Parts {
			if !parts[p] {
				parts[p] = true
				w.line("part %s { }", p)
			}
		}
		for _, p := range k.Properties {
			w.typeOf(p.Type)
		}
		for _, r := range k.Requests {
			for _, p := range r.Params {
				w.typeOf(p.Type)
			}
		}
	}
	for _, c := range o.Constants {
		w.constant(&c)
	}
	for i := range o.Kinds {
		w.kind(&o.Kinds[i])
	}
	return w.text.String()
}

// writer writes the contract of an outline.
type writer struct {
	outline  *contract.Outline
	text     strings.Builder
	declared map[string]bool // the names of types that are written already
}

// line writes a line.
func (w *writer) line(format string, args ...any) { fmt.Fprintf(&w.text, format+"\n", args...) }

// typeOf writes the declarations that a type needs, each once, those that it is made of first.
func (w *writer) typeOf(t *contract.Type) {
	if t == nil {
		return
	}
	w.typeOf(t.Key)
	w.typeOf(t.Of)
	for _, p := range t.Parts {
		w.typeOf(p.Type)
	}
	if t.Enum != nil && !w.declared[t.Enum.Name] {
		w.declared[t.Enum.Name] = true
		w.line("enum %s { %s }", t.Enum.Name, strings.Join(t.Enum.Values, ", "))
	}
	if t.Form == contract.FormRecord && !w.declared[t.Name] {
		w.declared[t.Name] = true
		w.line("type %s { %s }", t.Name, params(t.Parts))
	}
}

// constant writes a public constant that checks may name.
func (w *writer) constant(c *contract.ConstantOutline) {
	v, err := c.Type.ParseJSON(c.Value)
	if err != nil || !c.Type.HasLiterals() {
		return
	}
	w.typeOf(c.Type)
	w.line("public const %s: %s = %s", c.Name, c.Type, c.Type.Literal(v))
}

// kind writes a kind with its properties. Each check that a client can compute becomes two requests: NAME_isN passes
// when the check holds, NAME_ofN whenever the check can be computed.
func (w *writer) kind(k *contract.KindOutline) {
	head := "entity " + k.Name
	if k.Shared {
		head = "shared " + k.Name
	} else if k.Per != "" {
		head += " per " + k.Per
	}
	if len(k.Parts) > 0 {
		head += " with " + strings.Join(k.Parts, ", ")
	}
	w.line("%s {", head)
	for _, p := range k.Properties {
		if has(w.outline, p.Type) {
			w.line("  %s: %s", p.Name, p.Type)
		}
	}
	for _, r := range k.Requests {
		if slices.ContainsFunc(r.Params, func(p contract.Param) bool { return !has(w.outline, p.Type) }) {
			continue
		}
		for i, known := range r.Known {
			if known == "" {
				continue
			}
			w.line(
				"  request %s_is%d(%s) from everyone check %s else deny \"no\" { }", r.Name, i,
				params(r.Params), known,
			)
			w.line(
				"  request %s_of%d(%s) from everyone check (%s) or true else deny \"no\" { }", r.Name, i,
				params(r.Params), known,
			)
		}
	}
	w.line("}")
}

// params writes arguments as a contract does.
func params(list []contract.Param) string {
	var out []string
	for _, p := range list {
		out = append(out, p.Name+": "+p.Type.String())
	}
	return strings.Join(out, ", ")
}

// has reports whether all that a type names is in an outline.
func has(o *contract.Outline, t *contract.Type) bool {
	if t == nil {
		return true
	}
	if t.Form == contract.FormEntity || t.Form == contract.FormKind {
		return !slices.ContainsFunc(t.Names, func(name string) bool { return o.Kind(name) == nil })
	}
	return has(o, t.Key) && has(o, t.Of) &&
		!slices.ContainsFunc(t.Parts, func(p contract.Param) bool { return !has(o, p.Type) })
}
