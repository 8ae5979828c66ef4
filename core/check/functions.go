package check

import (
	"fmt"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
	"kamerad.example/core/typing"
)

// functions reads the functions and named audiences: first the heads of all, since bodies may name any of them.
func (c *builder) functions(fns []*syntax.Fn, audiences []*syntax.AudienceDecl) {
	c.Bounded(syntax.Span{}, "the number of functions", int64(len(fns)), 0, contract.MaxFns)
	c.Bounded(syntax.Span{}, "the number of audiences", int64(len(audiences)), 0, contract.MaxFns)
	fnTrees := c.fnHeads(fns)
	audienceTrees := c.audienceHeads(audiences)
	for _, f := range c.Contract.Fns {
		c.fnBody(f, fnTrees[f])
	}
	// Each round carries the property one call further up, and no chain of calls without a circle is
	// longer than there are functions.
	for range c.Contract.Fns { // who calls one that rolls does so too
		for _, f := range c.Contract.Fns {
			for _, call := range c.Calls[f] {
				f.Rolls = f.Rolls || call.To.(*contract.Fn).Rolls
			}
		}
	}
	for _, a := range c.Contract.Audiences {
		c.audienceCondition(a, audienceTrees[a])
	}
}

// fnHeads reads the names, arguments and results of functions, and returns the tree of each.
//
// A function that is declared twice keeps its first meaning. Result is nil where its type has a
// mistake.
func (c *builder) fnHeads(fns []*syntax.Fn) map[*contract.Fn]*syntax.Fn {
	trees := map[*contract.Fn]*syntax.Fn{}
	for _, d := range fns {
		if c.Fns[d.Name.Text] != nil || c.IsBuiltin(d.Name.Text) || typing.Aggregates[d.Name.Text] {
			c.Fail(
				d.Name.At, "repeated", fmt.Sprintf("there is a function `%s` already", d.Name.Text),
				"choose another name",
			)
			continue
		}
		f := &contract.Fn{
			Index:  len(c.Contract.Fns),
			Name:   d.Name.Text,
			Params: c.Params(d.Params, typing.InBody),
			Result: c.Type(d.Result, typing.InBody),
			At:     d.At,
		}
		c.Fns[f.Name] = f
		c.Contract.Fns = append(c.Contract.Fns, f)
		trees[f] = d
	}
	return trees
}

// audienceHeads reads the names and arguments of audiences, and returns the tree of each.
//
// Audiences and roles stand in the same places, after `to` and `from`, and so share their names.
func (c *builder) audienceHeads(audiences []*syntax.AudienceDecl) map[*contract.Named]*syntax.AudienceDecl {
	trees := map[*contract.Named]*syntax.AudienceDecl{}
	for _, d := range audiences {
		if c.Audiences[d.Name.Text] != nil || slices.Contains(c.Contract.Roles, d.Name.Text) {
			c.Fail(
				d.Name.At, "repeated", fmt.Sprintf("there is an audience or role `%s` already", d.Name.Text),
				"choose another name",
			)
			continue
		}
		a := &contract.Named{
			Index:  len(c.Contract.Audiences),
			Name:   d.Name.Text,
			Params: c.Params(d.Params, typing.InBody),
			Secret: d.Secret,
			At:     d.At,
		}
		c.Audiences[a.Name] = a
		c.Contract.Audiences = append(c.Contract.Audiences, a)
		trees[a] = d
	}
	return trees
}

// fnBody reads what a function computes.
//
// A function has no self: it computes from its arguments and from what is shared. It may roll, in which
// case only bodies may call it.
func (c *builder) fnBody(f *contract.Fn, d *syntax.Fn) {
	env := &typing.Scope{Unit: c.Unit, Fn: f, Pure: true}
	env.Arguments(d.Params, f.Params)
	if f.Result == nil {
		return
	}
	want := f.Result
	if want.Holder() {
		c.Fail(
			d.Result.At, "wrong-type", "a function cannot give a list, a map or stacks",
			"give one value; or go over the list where it stands",
		)
		f.Result = nil
		return
	}
	f.Body = env.Computed(d.Value, want, "the value of `"+f.Name+"`", d.At)
	f.Body.Params = f.Params
	f.Rolls = f.Rolls || env.Rolled
}

// audienceCondition reads the condition of an audience, which is asked of a viewer.
//
// It is computed for each viewer and whenever something that it reads has changed, so it may neither
// change anything nor roll.
func (c *builder) audienceCondition(a *contract.Named, d *syntax.AudienceDecl) {
	env := &typing.Scope{
		Unit:   c.Unit,
		Pure:   true,
		Still:  true,
		Viewer: true,
	}
	env.Arguments(d.Params, a.Params)
	for _, x := range env.Scopes[0] {
		env.Used[x] = true // it may only say of what kind the audience is asked
	}
	a.Cond = env.Computed(d.Cond, &contract.Type{Form: contract.FormBool}, "the condition of an audience", d.At)
	a.Cond.Params = a.Params
}
