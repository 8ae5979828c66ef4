// Package codegen translates the checks and bodies of a contract into a Program for the machine of package rules.
//
// Generate does it for a whole contract, once; GenerateTraced makes code that also notes what is revealed, for proofs.
// The contract has to be a checked one: the package reports no mistake but that a line needs more registers than there
// are. It knows no world and runs nothing.
//
// # How it works
//
// Each head or body becomes one Code (generate.go). A compiler (compiler.go) writes it from front to back: statements
// by statements.go, values into registers by expressions.go, loops and queries by queries.go, and conditions by
// conditions.go as jumps, so that a comparison that decides an if is one instruction. Jumps ahead are patched when the
// place that they lead to is reached. What is in between gets registers above those of the locals, given back after
// each statement.
//
// A head of checks becomes one run of instructions in which a failed check jumps to the end; the code of the failures
// stands there, so that checks that hold run straight on.
//
// The order in which pieces, tables and rolls are numbered is part of what dice roll: a change of it changes the rolls
// of a session with the same key.
package codegen

import (
	"fmt"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
)

// Generate turns all heads and bodies of a contract into code. The error names a line that needs more than the machine
// has.
func Generate(c *contract.Contract) (*bytecode.Program, error) { return generate(c, false) }

// GenerateTraced is Generate for a machine that also tells what was revealed, and to whom, in its Reveals. The code is
// slower and takes more steps.
func GenerateTraced(c *contract.Contract) (*bytecode.Program, error) { return generate(c, true) }

// generate translates a contract into a program. With traced, the program notes what it reveals and to whom.
func generate(c *contract.Contract, traced bool) (p *bytecode.Program, err error) {
	defer func() {
		if r := recover(); r != nil {
			long, ours := r.(tooLong)
			// A fault of the compiler itself, which must not pass for one of the contract.
			if !ours {
				panic(r)
			}
			p = nil
			err = fmt.Errorf(
				"compile line %d of %s: what is computed here at once needs more than %d numbers; give parts of it "+
					"names with `let`",
				long.line, c.Name, bytecode.Registers,
			)
		}
	}()
	g := &generator{
		program: &bytecode.Program{Contract: c, Indexes: make([]bytecode.Index, len(c.Kinds))},
		traced:  traced,
	}
	g.requests()
	g.bodies()
	for _, k := range c.Kinds {
		g.kind(k)
	}
	for _, a := range c.Audiences { // the last: a piece's number is part of its rolls
		s := split(a, func(b *contract.Body) *bytecode.Code { return g.body("audience "+a.Name, b) })
		g.program.Splits = append(g.program.Splits, s)
	}
	for _, k := range c.Kinds {
		g.computed(k)
		g.waits(k)
		g.program.Kinds[k.Index].Despawn = g.body("on despawn of "+k.Name, k.OnDespawn)
	}
	for _, r := range c.Requests {
		var pause *bytecode.Code
		if r.Pause != nil {
			pause = g.body("pause of "+r.FullName(), r.Pause.Wait)
		}
		g.program.Pauses = append(g.program.Pauses, pause)
	}
	endIndexes(g.program.Indexes)
	return g.program, nil
}

// generator translates one contract, piece by piece. The order of the pieces is part of what dice roll: each piece has
// a number.
type generator struct {
	program *bytecode.Program
	traced  bool
	pieces  int // so far
}

// compiler returns a compiler of the next piece, whose first nums registers and memory words are taken.
//
// Pieces are numbered in the order in which they are begun, whether or not they roll.
func (g *generator) compiler(nums, memory int) *compiler {
	g.pieces++
	return &compiler{
		Code:    bytecode.Code{ID: g.pieces, Nums: nums, Memory: memory},
		program: g.program,
		check:   -1,
		reads:   map[int][]*contract.Expr{},
		traced:  g.traced,
	}
}

// body returns the code of a body: of its statements, or of the value that it gives. It returns nil for none.
//
// A value ends up in the first registers, in place of the arguments, which are not needed any more.
func (g *generator) body(name string, b *contract.Body) *bytecode.Code {
	if b == nil {
		return nil
	}
	c := g.compiler(b.Locals, b.Memory)
	c.Name = name
	c.File = b.File
	c.arguments(b.Params)
	var out bytecode.Code
	if b.Value == nil {
		out = c.finish(b.Stmts)
	} else {
		c.line = b.Line
		width := b.Value.Type.Width()
		at := c.nextNums(width)
		c.into(b.Value, at)
		c.move(0, at, width)
		out = c.finish(nil)
		out.Width = width
		out.Real = b.Value.Type.Reals() > 0 && !b.Value.Type.Counted()
	}
	g.program.Memory = max(g.program.Memory, out.Memory)
	return &out
}

// clients returns the code that finds the clients of an audience that its terms say, or nil for any other audience.
//
// The code computes what the terms name, for one entity; the machine then asks the terms for each
// client.
func (g *generator) clients(to contract.Audience, terms []contract.Who) *bytecode.ClientList {
	if to != contract.Some || terms == nil {
		return nil
	}
	c := g.compiler(0, 0)
	w := &bytecode.ClientList{Terms: c.who(terms)}
	w.Code = c.finish(nil)
	return w
}

// requests translates the heads and bodies of requests.
//
// They come first and in the order of the contract: a request is found by its index.
func (g *generator) requests() {
	p := g.program
	for _, r := range p.Contract.Requests {
		c := g.compiler(r.Locals, r.Memory)
		c.Name = "request " + r.Name + " of " + r.Kind.Name
		c.File = r.File
		for _, check := range r.Checks {
			c.Reasons = append(c.Reasons, check.Reason)
			c.CheckLines = append(c.CheckLines, int32(check.Line))
			c.Then = append(c.Then, check.Then)
		}
		c.arguments(r.Params)
		c.head(r.Head)
		p.Requests = append(p.Requests, c.finish(r.Body))
		p.Memory = max(p.Memory, r.Memory)
		from := contract.Everyone
		for _, w := range r.From {
			if w.Sort == contract.ToNamed || w.Sort == contract.ToClient || w.Sort == contract.ToCaller {
				from = contract.Some
			}
		}
		p.From = append(p.From, g.clients(from, r.From))
	}
}

// bodies translates actions, functions, audiences and the handlers of the contract itself.
func (g *generator) bodies() {
	p := g.program
	c := p.Contract
	for _, a := range c.Actions {
		p.Actions = append(p.Actions, *g.body("action "+a.Name+" of "+a.Kind.Name, a.Body))
	}
	for _, f := range c.Fns {
		p.Functions = append(p.Functions, *g.body("function "+f.Name, f.Body))
	}
	for _, a := range c.Audiences {
		p.Audiences = append(p.Audiences, *g.body("audience "+a.Name, a.Cond))
	}
	p.OnJoin = g.body("on join", c.OnJoin)
	p.OnLost = g.body("on lost", c.OnLost)
	p.OnBack = g.body("on back", c.OnBack)
	p.OnStay = g.body("on stay", c.OnStay)
	p.OnSilent = g.body("on silent", c.OnSilent)
	p.OnHeard = g.body("on heard", c.OnHeard)
	p.OnLeave = g.body("on leave", c.OnLeave)
}

// computed translates what the computed properties of a kind are computed from.
func (g *generator) computed(k *contract.Kind) {
	kind := &g.program.Kinds[k.Index]
	for _, p := range k.Properties {
		if !p.Computed {
			continue
		}
		kind.Properties[p.Index].Value = g.body(p.Name+" of "+k.Name, p.Value)
		kind.Computed = append(kind.Computed, p)
		kind.Reads |= p.Reads
		g.program.HasComputed = true
	}
}

// waits translates the times and rates of a kind that are computed.
func (g *generator) waits(k *contract.Kind) {
	kind := &g.program.Kinds[k.Index]
	for i, t := range k.Timers {
		kind.Timers[i].Wait = g.body("timer of "+k.Name, t.Wait)
	}
	for _, p := range k.Properties {
		if p.Set != nil {
			kind.Properties[p.Index].Rate = g.body("write "+p.Name+" of "+k.Name, p.Set.RateBy)
		}
	}
}

// kind translates the handlers, timers and clauses of a kind.
//
// Every property has an entry, in the order of declaration, as the machine finds it by its index.
func (g *generator) kind(k *contract.Kind) {
	p := g.program
	of := " of " + k.Name
	kind := bytecode.KindCode{
		Start:      g.body("on start"+of, k.OnStart),
		Spawn:      g.body("on spawn"+of, k.OnSpawn),
		Tick:       g.body("on tick"+of, k.OnTick),
		OwnerLost:  g.body("on owner lost"+of, k.OnOwnerLost),
		OwnerLeave: g.body("on owner leave"+of, k.OnOwnerLeave),
		To:         g.clients(k.To, k.Who),
	}
	for i, b := range k.OnChange {
		kind.Change = append(kind.Change, g.body("on change "+k.Properties[i].Name+of, b))
		p.HasChangeHandlers = p.HasChangeHandlers || b != nil
	}
	for _, t := range k.Timers {
		while := g.body("timer"+of, t.While)
		kind.Timers = append(kind.Timers, bytecode.TimerCode{While: while, Body: g.body("timer"+of, t.Body)})
	}
	for _, q := range k.Properties {
		property := bytecode.PropertyCode{To: g.clients(q.To, q.Who)}
		if q.Set != nil {
			write := "write " + q.Name + of
			property.SetBy = g.body(write, q.Set.By)
			property.Pace = g.body(write, q.Set.Pace)
			property.Rule = g.body(write, q.Set.Rule)
		}
		if q.Hold != nil {
			property.When = g.body("hold "+q.Name+of, q.Hold.When)
		}
		kind.Properties = append(kind.Properties, property)
	}
	p.Kinds = append(p.Kinds, kind)
}
