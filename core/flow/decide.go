package flow

import (
	"strings"

	"kamerad.example/core/contract"
)

// decided returns -1 for a condition that never holds, 1 for one that always does, and else 0. It goes by the ranges of
// what the condition compares.
func (f *flow) decided(x *contract.Expr) int {
	switch x.Op {
	case contract.OpConst:
		if x.Type.Form == contract.FormBool {
			return int(x.Num)*2 - 1
		}
	case contract.OpNot:
		return -f.decided(x.Args[0])
	case contract.OpGet:
		if x.Prop != nil && x.Type.Form == contract.FormBool && f.fixed(x.Prop) && len(f.value(x).label) == 0 {
			return int(x.Prop.Default[0])*2 - 1
		}
	case contract.OpReveal:
		return f.decided(x.Args[0])
	case contract.OpAnd:
		a := f.decided(x.Args[0])
		b := f.decided(x.Args[1])
		if f.clash(x) {
			return -1
		}
		return min(a, b)
	case contract.OpOr:
		return max(f.decided(x.Args[0]), f.decided(x.Args[1]))
	case contract.OpExists:
		if x.Args[0].Type.Form == contract.FormEntity && f.symOf(x.Args[0]) == "nothing" {
			return -1
		}
	case contract.OpLt, contract.OpLe, contract.OpGt, contract.OpGe, contract.OpEq, contract.OpNe:
		if x.Args[0].Type.Form == contract.FormEntity && (x.Op == contract.OpEq || x.Op == contract.OpNe) &&
			f.symOf(x.Args[0]) == "nothing" &&
			f.symOf(x.Args[1]) == "nothing" {
			return map[bool]int{true: 1, false: -1}[x.Op == contract.OpEq]
		}
		if t := x.Args[0].Type; t.Whole() || t.Form == contract.FormReal {
			return compared(x, f.value(x.Args[0]), f.value(x.Args[1]))
		}
	}
	return 0
}

// compared returns -1 for a comparison that never holds, 1 for one that always does, and else 0, by the ranges of its
// sides.
func compared(x *contract.Expr, p, q val) int {
	if t := x.Args[0].Type; !t.Whole() && t.Form != contract.FormReal || !p.ranged || !q.ranged ||
		counts(x.Args[0]) || counts(x.Args[1]) {
		return 0
	}
	if x.Op == contract.OpGt || x.Op == contract.OpGe {
		p, q = q, p
	}
	switch {
	case x.Op == contract.OpNe:
		return 0
	case x.Op == contract.OpEq && (p.high < q.low || p.low > q.high):
		return -1
	case x.Op == contract.OpEq:
		return 0
	case p.high < q.low || p.high == q.low && (x.Op == contract.OpLe || x.Op == contract.OpGe):
		return 1
	case p.low > q.high || p.low == q.high && (x.Op == contract.OpLt || x.Op == contract.OpGt):
		return -1
	}
	return 0
}

// counts reports whether a number is a count of something, whose greatest value is not known here.
func counts(x *contract.Expr) bool {
	return contract.Mentions(x, func(x *contract.Expr) bool {
		return x.Op == contract.OpCount || x.Op == contract.OpRoom || x.Op == contract.OpFind ||
			x.Op == contract.OpCountAt ||
			x.Op == contract.OpQuery && x.Query.Do != "min" && x.Query.Do != "max"
	})
}

// clash reports whether a condition wants one property to have two values at once.
func (f *flow) clash(x *contract.Expr) bool {
	wants := map[string]int64{}
	var look func(x *contract.Expr) bool
	look = func(x *contract.Expr) bool {
		switch {
		case x.Op == contract.OpAnd:
			return look(x.Args[0]) || look(x.Args[1])
		case x.Op == contract.OpEq && x.Args[0].Op == contract.OpGet && x.Args[1].Op == contract.OpConst:
			name := f.same(x.Args[0]).key
			before, known := wants[name]
			wants[name] = x.Args[1].Num
			return known && before != x.Args[1].Num && x.Args[1].Nums == nil && !strings.Contains(name, "#")
		}
		return false
	}
	return look(x)
}
