package contract

import (
	"fmt"
	"slices"

	"kamerad/core/syntax"
)

// functions reads the functions and named audiences.
func (c *checker) functions(fns []*syntax.Fn, audiences []*syntax.AudienceDecl) {
	c.bounded(syntax.Span{}, "the number of functions", int64(len(fns)), 0, MaxFns)
	c.bounded(syntax.Span{}, "the number of audiences", int64(len(audiences)), 0, MaxFns)
	read := map[*Fn]*syntax.Fn{}
	for _, d := range fns {
		if c.fns[d.Name.Text] != nil || builtin[d.Name.Text] || aggregates[d.Name.Text] {
			c.fail(
				d.Name.At, "repeated", fmt.Sprintf("there is a function `%s` already", d.Name.Text),
				"choose another name",
			)
			continue
		}
		f := &Fn{
			Index:  len(c.out.Fns),
			Name:   d.Name.Text,
			Params: c.params(d.Params, inside),
			Result: c.typ(d.Result, inside),
			decl:   d.At,
		}
		c.fns[f.Name] = f
		c.out.Fns = append(c.out.Fns, f)
		read[f] = d
	}
	conds := map[*Named]*syntax.AudienceDecl{}
	for _, d := range audiences {
		if c.audiences[d.Name.Text] != nil || slices.Contains(c.out.Roles, d.Name.Text) {
			c.fail(
				d.Name.At, "repeated", fmt.Sprintf("there is an audience or role `%s` already", d.Name.Text),
				"choose another name",
			)
			continue
		}
		a := &Named{
			Index:  len(c.out.Audiences),
			Name:   d.Name.Text,
			Params: c.params(d.Params, inside),
			Secret: d.Secret,
			decl:   d.At,
		}
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
			c.fail(
				d.Result.At, "wrong-type", "a function cannot give a list, a map or stacks",
				"give one value; or go over the list where it stands",
			)
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
		env := &env{
			checker: c,
			pure:    true,
			still:   true,
			viewer:  true,
		}
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
	b := &Body{
		Value: e.value(x, want, what),
		File:  e.src.File(at.Start),
		Line:  e.lineOf(at),
		at:    x.Span(),
	}
	b.Locals = e.nums
	b.Memory = e.mem
	return b
}
