package codegen

import (
	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
)

// exchanged is what a comparison is with its operands exchanged.
var exchanged = map[contract.Op]contract.Op{
	contract.OpEq: contract.OpEq,
	contract.OpNe: contract.OpNe,
	contract.OpLt: contract.OpGt,
	contract.OpLe: contract.OpGe,
	contract.OpGt: contract.OpLt,
	contract.OpGe: contract.OpLe,
}

// opposite is the comparison that holds when another one does not.
var opposite = map[contract.Op]contract.Op{
	contract.OpEq: contract.OpNe,
	contract.OpNe: contract.OpEq,
	contract.OpLt: contract.OpGe,
	contract.OpGe: contract.OpLt,
	contract.OpLe: contract.OpGt,
	contract.OpGt: contract.OpLe,
}

// withRegister is the jump for a comparison of two registers; those that are missing are made with exchanged operands.
var withRegister = map[contract.Op]bytecode.Op{
	contract.OpEq: bytecode.OpEq,
	contract.OpNe: bytecode.OpNe,
	contract.OpLt: bytecode.OpLt,
	contract.OpLe: bytecode.OpLe,
}

// withConst is the jump for a comparison of a register with a constant.
var withConst = map[contract.Op]bytecode.Op{
	contract.OpEq: bytecode.OpEqK,
	contract.OpNe: bytecode.OpNeK,
	contract.OpLt: bytecode.OpLtK,
	contract.OpLe: bytecode.OpLeK,
	contract.OpGt: bytecode.OpGtK,
	contract.OpGe: bytecode.OpGeK,
}

// realTest is the constant of opRealTest for a comparison; those that are missing are made with exchanged operands.
var realTest = map[contract.Op]int64{
	contract.OpEq: bytecode.RealEqual,
	contract.OpNe: bytecode.RealNotEqual,
	contract.OpLt: bytecode.RealLess,
	contract.OpLe: bytecode.RealLessOrEqual,
}

// jump compiles a condition to jumps that are taken when it is as sense says; otherwise the code runs on.
//
// It returns the jumps, whose targets the caller sets. Conditions are never computed as values here:
// each comparison is one instruction that compares and jumps.
func (g *compiler) jump(x *contract.Expr, sense bool) []int {
	defer g.spend()()
	switch x.Op {
	case contract.OpConst:
		if (x.Num != 0) == sense {
			return []int{g.emit(bytecode.OpJump, operands{})}
		}
		return nil
	case contract.OpNot:
		return g.jump(x.Args[0], !sense)
	case contract.OpReveal:
		if !g.traced {
			return g.jump(x.Args[0], sense)
		}
	case contract.OpAnd, contract.OpOr:
		// What decides alone jumps at once: the first false of an `and`, the first true of an `or`.
		if alone := x.Op == contract.OpOr; alone == sense {
			return append(g.jump(x.Args[0], sense), g.jump(x.Args[1], sense)...)
		}
		// The first part alone cannot decide for sense; where it decides against it, the second is not
		// asked.
		skip := g.jump(x.Args[0], !sense)
		out := g.jump(x.Args[1], sense)
		g.land(skip)
		return out
	case contract.OpEq, contract.OpNe, contract.OpLt, contract.OpLe, contract.OpGt, contract.OpGe:
		return g.compare(x, sense)
	}
	op := bytecode.OpNeK
	if !sense {
		op = bytecode.OpEqK
	}
	return []int{g.jumpOn(op, x, 0)}
}

// jumpOn emits a jump that compares a number with a constant; a property of self is compared where it stands.
//
// The instructions for self and for shared entities stand in the same order as those for registers,
// which the sums below rely on.
func (g *compiler) jumpOn(op bytecode.Op, x *contract.Expr, k int64) int {
	if x.Op == contract.OpGet && x.Args[0].Op == contract.OpSelf && x.Prop != nil {
		return g.emit(op+bytecode.OpSelfEqK-bytecode.OpEqK, operands{a: x.Prop.Slot, k: k})
	}
	equality := op == bytecode.OpEqK || op == bytecode.OpNeK
	if equality && x.Op == contract.OpGet && x.Args[0].Op == contract.OpShared && x.Prop != nil {
		return g.emit(op+bytecode.OpSharedEqK-bytecode.OpEqK, operands{a: x.Prop.Slot, b: x.Args[0].Kind.Index, k: k})
	}
	return g.emit(op, operands{a: g.num(x), k: k})
}

// alike reports whether two expressions surely give the same number, so that a square is computed from one of them.
//
// It errs on the safe side: it looks only at operations that it knows, none of which rolls or changes
// anything.
func alike(a, b *contract.Expr) bool {
	if a.Op != b.Op || a.Num != b.Num || a.Prop != b.Prop || a.Kind != b.Kind || len(a.Args) != len(b.Args) ||
		a.Nums != nil || a.Props != nil {
		return false
	}
	switch a.Op {
	case contract.OpConst, contract.OpLocal, contract.OpSelf, contract.OpShared, contract.OpGet, contract.OpAdd,
		contract.OpSub, contract.OpMul, contract.OpReal, contract.OpFromInt, contract.OpNeg, contract.OpCaller,
		contract.OpEntityOf:
	default:
		return false
	}
	for i := range a.Args {
		if !alike(a.Args[i], b.Args[i]) {
			return false
		}
	}
	return true
}

// compare translates a comparison into a jump that is taken when it does not come out as sense, and returns the jumps
// to patch.
//
// A comparison that has to fail is turned into its opposite. For reals that is safe because none of
// them is NaN: operations that would give one are faults.
func (g *compiler) compare(x *contract.Expr, sense bool) []int {
	op := x.Op
	if !sense {
		op = opposite[op]
	}
	a := x.Args[0]
	b := x.Args[1]
	switch form := a.Type.Form; {
	case a.Type.Width() > 1:
		return []int{g.compareWide(op, a, b)}
	case form == contract.FormReal:
		return []int{g.compareReals(op, a, b)}
	case form == contract.FormEntity:
		return []int{g.compareEntities(op, a, b)}
	case form == contract.FormClient && b.Op == contract.OpConst && b.Num == contract.Nothing:
		n := g.nextNums(1)
		g.emit(bytecode.OpKnown, operands{a: n, b: g.num(a)})
		return []int{g.emit(withConst[op], operands{a: n, k: contract.Nothing})}
	}
	if a.Op == contract.OpConst {
		a, b = b, a
		op = exchanged[op]
	}
	if b.Op == contract.OpConst {
		return []int{g.jumpOn(withConst[op], a, b.Num)}
	}
	if op == contract.OpGt || op == contract.OpGe {
		a, b = b, a
		op = exchanged[op]
	}
	first := g.num(a)
	return []int{g.emit(withRegister[op], operands{a: first, b: g.num(b)})}
}

// compareWide compares values of several slots; op is == or !=.
//
// Doubles are compared as such, since the two zeros are equal and differ in their bits.
func (g *compiler) compareWide(op contract.Op, a, b *contract.Expr) int {
	same := bytecode.OpSame
	if a.Type.Reals() > 0 && !a.Type.Counted() {
		same = bytecode.OpSameReal
	}
	n := g.nextNums(1)
	left := g.wide(a)
	g.emit(same, operands{a: n, b: left, c: g.wide(b), k: int64(a.Type.Width())})
	if op == contract.OpNe {
		return g.emit(bytecode.OpEqK, operands{a: n})
	}
	return g.emit(bytecode.OpNeK, operands{a: n})
}

// compareReals compares two reals.
//
// It takes two instructions: there is no jump that compares reals.
func (g *compiler) compareReals(op contract.Op, a, b *contract.Expr) int {
	if op == contract.OpGt || op == contract.OpGe {
		a, b = b, a
		op = exchanged[op]
	}
	n := g.nextNums(1)
	left := g.num(a)
	g.emit(bytecode.OpRealTest, operands{a: n, b: left, c: g.num(b), k: realTest[op]})
	return g.emit(bytecode.OpNeK, operands{a: n})
}

// compareEntities compares an entity with another one or with nothing; op is == or !=.
//
// A ref to what is gone is nothing, and two such are equal: OpID gives 0 for both.
func (g *compiler) compareEntities(op contract.Op, a, b *contract.Expr) int {
	if b.Op == contract.OpConst {
		n := g.nextNums(1)
		g.emit(bytecode.OpExists, operands{a: n, b: g.entity(a)})
		if op == contract.OpNe {
			return g.emit(bytecode.OpNeK, operands{a: n})
		}
		return g.emit(bytecode.OpEqK, operands{a: n})
	}
	n := g.nextNums(2)
	g.emit(bytecode.OpID, operands{a: n, b: g.entity(a)})
	g.emit(bytecode.OpID, operands{a: n + 1, b: g.entity(b)})
	return g.emit(withRegister[op], operands{a: n, b: n + 1})
}
