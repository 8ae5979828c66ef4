package typing

import (
	"fmt"
	"strconv"
	"unicode/utf8"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// words reads `words("text {value}")`. Its type says how long it can be at most.
func (e *Scope) words(x *syntax.Words) *contract.Expr {
	if f := e.Fns["words"]; f != nil { // of an earlier language
		return e.declaredCall(&syntax.Call{At: x.At, Args: []syntax.Expr{x.Literal}}, f)
	}
	if !e.NeedsLanguage2(x.At, "`words`") {
		return nil
	}
	if e.Constant {
		e.Fail(x.At, "not-constant", "this is computed", "a constant is written out")
		return nil
	}
	out := &contract.Expr{Op: contract.OpWords, Words: x.Words}
	most := 0
	for _, w := range x.Words {
		most += utf8.RuneCountInString(w)
	}
	for _, value := range x.Values {
		v := e.Expr(value, nil)
		if v == nil || v.Type.Form == "" {
			return nil
		}
		longest, ok := e.longestWords(v.Type)
		if v.Type.Form == contract.FormText {
			longest = e.longestText(v)
		}
		if !ok {
			e.Fail(
				value.Span(), "wrong-type", describe(v.Type)+" cannot stand in words",
				"a truth, a number, a time, a text, an enum's value, a role, a kind, a client or an entity can",
			)
			return nil
		}
		most += longest
		out.Args = append(out.Args, v)
	}
	if most > contract.MaxText {
		e.Fail(
			x.At, "out-of-range", fmt.Sprintf("these words may have %d characters", most),
			fmt.Sprintf("at most %d; what stands in braces counts as long as it can be", contract.MaxText),
		)
		return nil
	}
	out.Type = &contract.Type{Form: contract.FormText, Max: max(most, 1)}
	return out
}

// How long the words for values of types without a bound can be.
const (
	longestWhole = 20 // -9223372036854775808
	longestReal  = 24 // -2.2250738585072014e-308
	longestName  = 40 // of a client
)

// longestWords returns how many characters the words for a value of a type have at most; ok is false for one that
// cannot be put into words.
func (e *Scope) longestWords(t *contract.Type) (most int, ok bool) {
	longest := func(names []string) int {
		n := 0
		for _, name := range names {
			n = max(n, utf8.RuneCountInString(name))
		}
		return n
	}
	switch t.Form {
	case contract.FormBool:
		return len("false"), true
	case contract.FormInt:
		if t.Low == 0 && t.High == 0 {
			return longestWhole, true
		}
		return max(len(strconv.FormatInt(t.Low, 10)), len(strconv.FormatInt(t.High, 10))), true
	case contract.FormTime, contract.FormInstant:
		return longestWhole + len("min"), true
	case contract.FormReal:
		return longestReal, true
	case contract.FormText:
		return contract.MaxText, true
	case contract.FormEnum:
		return longest(t.Enum.Values), true
	case contract.FormKind, contract.FormEntity:
		return max(longest(t.Names), len("nothing")), true
	case contract.FormRole:
		return max(longest(e.Contract.Roles), len("nobody")), true
	case contract.FormClient:
		return longestName, true
	}
	return 0, false
}

// longestText returns how many characters a text has at most.
func (c *Unit) longestText(x *contract.Expr) int {
	switch {
	case x.Op == contract.OpConst:
		return utf8.RuneCountInString(c.Contract.Texts[x.Num])
	case x.Op == contract.OpChoose:
		return max(c.longestText(x.Args[1]), c.longestText(x.Args[2]))
	case x.Op == contract.OpReveal:
		return c.longestText(x.Args[0])
	case x.Type.Max > 0:
		return x.Type.Max
	}
	return contract.MaxText
}

// length is a real of a vector, and a whole number of a text.
func (b *builtinCall) length() *contract.Expr {
	v := b.argument(0, contract.FormVec2, contract.FormVec3, contract.FormText)
	if b.failed {
		return nil
	}
	if v.Type.Form != contract.FormText {
		return b.math(contract.FormReal, v)
	}
	if !b.scope.NeedsLanguage2(b.call.At, "the length of a text") {
		return nil
	}
	return &contract.Expr{
		Op:   contract.OpLength,
		Type: &contract.Type{Form: contract.FormInt},
		Args: []*contract.Expr{v},
	}
}

// madeOf is a truth: whether a text has no other characters than some.
func (b *builtinCall) madeOf() *contract.Expr {
	v := b.argument(0, contract.FormText)
	chars, ok := b.call.Args[1].(*syntax.Literal)
	if b.failed || !b.since2() {
		return nil
	}
	if !ok || chars.Value == "" || len(chars.Value) > maxChars {
		return b.wrong()
	}
	return &contract.Expr{
		Op:   contract.OpMade,
		Type: &contract.Type{Form: contract.FormBool},
		Args: []*contract.Expr{v},
		Name: chars.Value,
	}
}
