package check

import (
	"fmt"
	"slices"
	"unicode/utf8"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
	"kamerad.example/core/typing"
)

// exit reads where clients can be sent. What its parameters hold goes to another contract, for which an entity and a
// client of this one are nothing.
func (c *builder) exit(d *syntax.Exit) {
	x := &contract.Exit{
		Name:   d.Name.Text,
		To:     d.To.Value,
		Params: c.Params(d.Params, typing.InMessage),
		Offset: d.At.Start,
	}
	if slices.ContainsFunc(c.Contract.Exits, func(other *contract.Exit) bool { return other.Name == x.Name }) {
		c.Fail(
			d.Name.At, "repeated", fmt.Sprintf("the contract has the exit `%s` already", x.Name), "choose another name",
		)
		return
	}
	if x.To == "" || utf8.RuneCountInString(x.To) > 60 {
		c.Fail(d.To.At, "out-of-range", "a contract's name has 1 to 60 characters", "it stands in its first line")
	}
	for i, p := range x.Params {
		if p.Type != nil && !travels(p.Type) {
			c.Fail(
				d.Params[i].Type.At, "wrong-type",
				fmt.Sprintf("`%s` cannot be given to another contract: it is of the type %s", p.Name, p.Type),
				"what is known in this session alone means nothing there",
			)
		}
	}
	c.Contract.Exits = append(c.Contract.Exits, x)
}

// travels reports whether a value of a type means the same in another session.
func travels(t *contract.Type) bool {
	switch t.Form {
	case contract.FormEntity, contract.FormClient, contract.FormKind, contract.FormInstant:
		return false
	}
	for _, within := range []*contract.Type{t.Key, t.Of} {
		if within != nil && !travels(within) {
			return false
		}
	}
	return !slices.ContainsFunc(t.Parts, func(p contract.Param) bool { return !travels(p.Type) })
}
