// Package typing gives the expressions and statements of a contract their types: it resolves names, reads types, and
// turns trees of bodies into the model's. A Unit holds what is known of the whole contract, a Scope what holds at one
// place of a body. The package reads no declarations: those are up to package check, which makes the Unit.
//
// # How it works
//
// Expr types an expression from its tree: it looks the names up, types the parts, and returns a contract.Expr with a
// type, or nil when it has reported a mistake. Value does the same where a certain type is wanted, and converts where
// that loses nothing. Statements are typed by Block (body.go), calls by calls.go, and the functions of the language by
// the table in builtins.go: one entry for each, with its usage and a method that types it.
//
// Numbers with steps become reals where something is computed with them (Widened), and are rounded to steps again where
// they are stored. A Scope hands out the registers of locals as it comes to their declarations: what it returns is
// ready for package codegen.
//
// A mistake is told once: what could not be typed is declared without a form, and whatever uses it says nothing more of
// it.
package typing

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"github.com/agnivade/levenshtein"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// Checked is a contract that was built from its tree, with what was found out on the way. It is for whatever looks for
// dangers in the contract; whoever runs it needs the Contract alone.
type Checked struct {
	Contract *contract.Contract
	File     *syntax.File

	// What is declared, by name.
	Enums     map[string]*contract.Enum
	Kinds     map[string]*contract.Kind
	Parts     map[string]*Part
	Consts    map[string]*contract.Expr // values, or places of lists and records; without a form if it has a mistake
	Settings  map[string]*contract.Setting
	Fns       map[string]*contract.Fn
	Audiences map[string]*contract.Named

	// Trees has the trees of the contract's kinds and of its parts, with all that their parts bring.
	Trees  map[*contract.Kind]*syntax.Entity
	Locals []Local                 // the names that bodies declare
	Sent   map[*contract.Enum]bool // enums that are arguments of requests
	Spawns map[*contract.Kind]bool // kinds that some body spawns

	// Used holds what is used: a constant by its name, an enum, alias, setting, function, audience or part by its
	// declaration, a role as a RoleUse, a value of an enum as a ValueUse, a property, event or action by the offset of
	// its declaration, a local by its expression.
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

// Call is a place where an action runs another, or a function calls another.
type Call struct {
	To any
	At syntax.Span
}

// MaxProblems is how many mistakes are told in one run.
const MaxProblems = 200

// Unit is what is known of a contract while it is read, with the mistakes that keep it from being built. Package check
// owns it and fills it, declaration by declaration.
type Unit struct {
	Checked
	Source   *syntax.Source
	Files    syntax.Open                 // opens what the contract includes
	Problems syntax.Problems             // the mistakes so far, at most MaxProblems
	Aliases  map[string]*syntax.TypeDecl // `type` declarations by name
	Types    map[string]*contract.Type   // of the aliases that were read; nil for one with a mistake
	Reading  map[string]bool             // aliases that are being read
	InPart   *Part                       // that is being read
	Varying  map[*contract.Expr]bool     // names that may be assigned to
	Texts    map[string]int64            // index of each text among the contract's
	Calls    map[any][]Call              // which actions and functions run which, to find circles
	Events   []*contract.Event           // the contract's own
	Changes  map[int]bool                // properties, by offset of their declaration, that may come to another value
	Later    []func()                    // what can be told only when all bodies are read
	Unread   bool                        // the text has mistakes: what is missing may only not have been understood
}

// Text returns the place of a text among the contract's.
//
// Equal texts have one place, so that texts of a contract can be compared by their places.
func (c *Unit) Text(s string) int64 {
	n, known := c.Texts[s]
	if !known {
		n = int64(len(c.Contract.Texts))
		c.Texts[s] = n
		c.Contract.Texts = append(c.Contract.Texts, s)
	}
	return n
}

// Fail reports a mistake: its place, a code for programs, what is wrong, and what would be right.
//
// Beyond MaxProblems nothing is added: a broken contract of a megabyte would otherwise be answered with
// many times its length.
func (c *Unit) Fail(at syntax.Span, code, message, hint string) {
	if len(c.Problems) >= MaxProblems {
		return
	}
	c.Problems = append(c.Problems, c.Source.Problem(at, code, message, hint))
}

// Bounded reports whether a count is within its bound, and says so if not.
func (c *Unit) Bounded(at syntax.Span, what string, n, low, high int64) bool {
	if n < low || n > high {
		c.Fail(at, "out-of-range", fmt.Sprintf("%s is %d", what, n), fmt.Sprintf("from %d to %d", low, high))
		return false
	}
	return true
}

// LineOf returns the line in which a part of the contract begins.
func (c *Unit) LineOf(at syntax.Span) int {
	line, _ := c.Source.Position(at.Start)
	return line
}

// PropertyNames returns the names of a kind's properties, in the order of declaration.
func PropertyNames(k *contract.Kind) []string {
	var out []string
	for _, p := range k.Properties {
		out = append(out, p.Name)
	}
	return out
}

// Suggest returns a hint: the nearest of some names, or else what would be right in general.
//
// Near is what differs in at most a third of the letters and one more, upper and lower case counted as
// the same. Among names that are equally near the first wins, so known has to be in an order that does
// not change from run to run.
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

// Params reads the arguments of a request, event, action or function. at says what types these may have.
//
// The result has as many arguments as params, up to contract.MaxParams, also where an argument has a
// mistake: calls are counted against it.
func (c *Unit) Params(params []syntax.Param, at Place) []contract.Param {
	var out []contract.Param
	for i, p := range params {
		if i >= contract.MaxParams {
			c.Fail(
				p.Name.At, "out-of-range", fmt.Sprintf("this is argument %d", i+1),
				fmt.Sprintf("at most %d are allowed", contract.MaxParams),
			)
			break
		}
		if slices.ContainsFunc(out, func(o contract.Param) bool { return o.Name == p.Name.Text }) {
			c.Fail(
				p.Name.At, "repeated", fmt.Sprintf("there is an argument `%s` already", p.Name.Text),
				"choose another name",
			)
		}
		t := c.Type(p.Type, at)
		if t == nil {
			t = &contract.Type{Form: ""} // its uses are not told again
		}
		out = append(out, contract.Param{Name: p.Name.Text, Type: t})
	}
	return out
}

// Names returns the keys of a map, sorted.
//
// It is what keeps messages the same from run to run, since Go's maps have no order.
func Names[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for n := range m {
		out = append(out, n)
	}
	sort.Strings(out)
	return out
}

// Ticks turns milliseconds into ticks; a time that is not whole ticks is a mistake that names the two nearest.
//
// The result is at least 1. After a mistake it is 1 as well, so that what is built from it stays within
// every bound.
func (c *Unit) Ticks(at syntax.Span, ms int64) int64 {
	rate := int64(c.Contract.TickRate)
	if ms*rate%1000 != 0 || ms <= 0 {
		n := ms * rate / 1000
		// No time of zero ticks is suggested: below one tick there is only the one above.
		near := fmt.Sprintf("%gms", float64((n+1)*1000)/float64(rate))
		if n > 0 {
			near = fmt.Sprintf("%gms and %s", float64(n*1000)/float64(rate), near)
		}
		c.Fail(
			at, "no-ticks", fmt.Sprintf("%dms is not a whole number of ticks at %d per second", ms, rate),
			"nearest: "+near,
		)
		return 1
	}
	return ms * rate / 1000
}

// Time reads a time that something lasts or waits for. One that is written out has to be a whole number of ticks; any
// other constant is rounded up to ticks. computed is nil for a constant, else the milliseconds as an expression.
//
// After a mistake the time is one tick.
func (e *Scope) Time(x syntax.Expr, what string) (ticks, ms int64, computed *contract.Expr) {
	if t, ok := x.(*syntax.Time); ok {
		return e.Ticks(t.At, t.Ms), t.Ms, nil
	}
	if !e.NeedsLanguage2(x.Span(), "a time that is not written out") {
		return 1, 0, nil
	}
	v := e.Value(x, &contract.Type{Form: contract.FormTime}, what)
	switch {
	case v == nil:
		return 1, 0, nil
	case v.Op != contract.OpConst:
		return 0, 0, v
	case v.Num <= 0:
		e.Fail(x.Span(), "out-of-range", what+" is "+contract.TimeText(v.Num), "it has to be longer than 0s")
		return 1, 0, nil
	}
	return contract.TicksOf(v.Num, e.Contract.TickRate), v.Num, nil
}

// Part is a declared part. Its kind, which is in no contract, has what the part itself declares and needs.
type Part struct {
	Tree *syntax.Entity
	Kind *contract.Kind
}

// Memory puts slots into the contract's memory.
//
// It is read-only: constant lists and records are made once for a contract, not once for each session.
// The caller must not change slots afterwards.
func (c *Unit) Memory(t *contract.Type, slots []int64) *contract.Expr {
	x := &contract.Expr{Op: contract.OpTable, Type: t, Num: int64(len(c.Contract.Memory))}
	c.Contract.Memory = append(c.Contract.Memory, slots...)
	return x
}

// Slots returns the slots of a constant expression; ok is false when it is computed.
//
// A list begins with its length and is filled up with zeros to the width of its type, as in a row. The
// result may share its memory with v.
func (c *Unit) Slots(v *contract.Expr) (out []int64, ok bool) {
	switch v.Op {
	case contract.OpConst:
		if v.Nums != nil {
			return v.Nums, true
		}
		return []int64{v.Num}, true
	case contract.OpTable:
		return c.Contract.Memory[v.Num : int(v.Num)+v.Type.Width()], true
	case contract.OpRecord, contract.OpList:
		if v.Op == contract.OpList {
			out = append(out, int64(len(v.Args)))
		}
		for _, a := range v.Args {
			part, ok := c.Slots(a)
			if !ok {
				return nil, false
			}
			out = append(out, part...)
		}
		return append(out, make([]int64, v.Type.Width()-len(out))...), true
	// Steps that were widened: the constant below holds the steps already.
	case contract.OpReal:
		if _, ok := c.Slots(v.Args[0]); ok && v.Args[0].Op == contract.OpConst {
			return c.Slots(v.Args[0])
		}
	}
	return nil, false
}

// Arguments declares the arguments of what is being read.
//
// It opens a scope of its own, which nobody leaves: the names hold to the end of the body. params may
// be shorter than trees, after a mistake.
func (e *Scope) Arguments(trees []syntax.Param, params []contract.Param) {
	e.Enter()
	for i, p := range trees {
		if i < len(params) {
			e.Declare(p.Name, params[i].Type)
		}
	}
}

// Computed reads a body that is one value.
//
// Its Value is nil after a mistake, which has been reported.
func (e *Scope) Computed(x syntax.Expr, want *contract.Type, what string, at syntax.Span) *contract.Body {
	b := &contract.Body{
		Value: e.Value(x, want, what),
		File:  e.Source.File(at.Start),
		Line:  e.LineOf(at),
		At:    x.Span(),
	}
	b.Locals = e.Nums
	b.Memory = e.Mem
	return b
}

// Condition returns where an expression stands that is about an entity of a kind and changes nothing: a condition, an
// audience or who writes.
func (c *Unit) Condition(k *contract.Kind) *Scope {
	e := &Scope{
		Unit:  c,
		Kind:  k,
		Pure:  true,
		Still: true,
	}
	e.Enter()
	return e
}
