package contract

import (
	"fmt"
	"math/big"

	"kamerad/core/syntax"
)

func (c *checker) typ(d *syntax.Type) *Type {
	t := c.plainType(d)
	if t != nil && (d.Low != nil && t.Form != FormInt && t.Form != FormReal || d.Step != nil && t.Form != FormReal || d.Max != nil && t.Form != FormText && t.Form != FormStacks || d.Each != nil && t.Form != FormStacks) {
		c.fail(d.At, "no-bound", fmt.Sprintf("a value of the type %s has no such bound", d.Name.Text), "int and real have a range, real has a step, text has max, stacks have max and each")
		return nil
	}
	return t
}

func (c *checker) plainType(d *syntax.Type) *Type {
	switch d.Name.Text {
	case "bool":
		return &Type{Form: FormBool}
	case "int":
		low, ok1 := d.Low.(*syntax.Number)
		high, ok2 := d.High.(*syntax.Number)
		if !ok1 || !ok2 {
			c.fail(d.At, "no-range", "this int has no range", "say the least and the greatest value: int 0..100")
			return nil
		}
		if low.Value > high.Value {
			c.fail(d.At, "out-of-range", fmt.Sprintf("the range %d..%d is empty", low.Value, high.Value), "the least value stands first")
			return nil
		}
		return &Type{Form: FormInt, Low: low.Value, High: high.Value}
	case "real":
		return c.real(d)
	case "text":
		if d.Max == nil {
			c.fail(d.At, "no-range", "this text has no greatest length", "say how many characters it may have: text max 40")
			return nil
		}
		if !c.bounded(d.Max.At, "the greatest length", d.Max.Value, 1, MaxText) {
			return nil
		}
		return &Type{Form: FormText, Max: int(d.Max.Value)}
	case "stacks":
		if d.Of.Text == "" || d.Max == nil || d.Each == nil {
			c.fail(d.At, "no-range", "these stacks are not bounded", "say of what, how many, and how many in each: stacks<Item> max 6 each 5")
			return nil
		}
		e := c.enums[d.Of.Text]
		if e == nil {
			c.fail(d.Of.At, "unknown-name", fmt.Sprintf("the enum `%s` is not declared", d.Of.Text), c.suggest(d.Of.Text, names(c.enums), "declare it: enum "+d.Of.Text+" { … }"))
			return nil
		}
		c.used[e] = true
		if !c.bounded(d.Max.At, "the number of stacks", d.Max.Value, 1, MaxStacks) || !c.bounded(d.Each.At, "the greatest count of a stack", d.Each.Value, 1, MaxStackCount) {
			return nil
		}
		return &Type{Form: FormStacks, Enum: e, Max: int(d.Max.Value), Each: d.Each.Value}
	}
	if e := c.enums[d.Name.Text]; e != nil {
		c.used[e] = true
		return &Type{Form: FormEnum, Enum: e}
	}
	known := append(names(c.enums), "bool", "int", "real", "text", "stacks")
	c.fail(d.Name.At, "unknown-type", fmt.Sprintf("the type `%s` is not known", d.Name.Text), c.suggest(d.Name.Text, known, "one of bool, int 0..100, real 0..1 step 0.01, text max 40, stacks<Item> max 6 each 5, or an enum"))
	return nil
}

// real reads `real A..B step S`.
func (c *checker) real(d *syntax.Type) *Type {
	if d.Low == nil || d.High == nil || d.Step == nil {
		c.fail(d.At, "no-range", "this real has no range or no step", "say the least and the greatest value and the step: real 0..100 step 0.5")
		return nil
	}
	low, high, step := rational(d.Low), rational(d.High), rational(d.Step)
	t := &Type{Form: FormReal, Per: 1, Unit: 1}
	switch {
	case step.Sign() > 0 && step.IsInt() && step.Num().IsInt64():
		t.Unit = step.Num().Int64()
	case step.Sign() > 0 && step.Num().Cmp(big.NewInt(1)) == 0 && step.Denom().IsInt64():
		t.Per = step.Denom().Int64()
	default:
		c.fail(d.Step.Span(), "out-of-range", "this is no step", "a step is a whole number, or 1 over one: 5, 1, 0.5, 0.01, 0.001")
		return nil
	}
	if low.Cmp(high) > 0 {
		c.fail(d.At, "out-of-range", "the range of this real is empty", "the least value stands first")
		return nil
	}
	counts := [2]int64{}
	for i, end := range []*big.Rat{low, high} {
		n := new(big.Rat).Quo(end, step)
		// Up to 2^53 a count and the number that it stands for are exact.
		if !n.IsInt() || new(big.Rat).Abs(end).Cmp(limit) > 0 || new(big.Rat).Abs(n).Cmp(limit) > 0 {
			c.fail([]syntax.Expr{d.Low, d.High}[i].Span(), "out-of-range", "this end of the range is not a whole number of steps, or too far away", "at most 2^53 steps")
			return nil
		}
		counts[i] = n.Num().Int64()
	}
	t.Low, t.High = counts[0], counts[1]
	return t
}

var limit = new(big.Rat).SetInt64(1 << 53)

// rational gives the exact value of a number as it was written.
func rational(x syntax.Expr) *big.Rat {
	switch x := x.(type) {
	case *syntax.Number:
		return new(big.Rat).SetInt64(x.Value)
	case *syntax.Decimal:
		if r, ok := new(big.Rat).SetString(x.Text); ok {
			return r
		}
	}
	return new(big.Rat)
}
