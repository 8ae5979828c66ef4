package codegen

import (
	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
)

// loop begins a loop: start is where it comes round to, next the jump to behind it. Before it lies what is asked of
// each.
//
// The caller emits the body, a jump to start, and lets next land behind it. Leaving the loop in any
// other way takes an OpDone. Registers that were taken before the loop stay taken within it.
func (g *compiler) loop(q *contract.Query) (start, next int) {
	it := bytecode.Loop{
		Kinds:     q.Kinds,
		Clients:   q.Clients,
		Within:    -1,
		Positions: q.Pos,
	}
	entities := int64(0)
	width := 1
	switch {
	case q.List != nil:
		it.List = g.place(q.List)
		it.Width = q.List.Type.Of.Width()
		if q.List.Type.Form == contract.FormMap {
			it.Skip = it.Width
			it.Width = 1 // the keys
		}
		width = it.Width
	case q.Kinds != nil:
		entities = 1
	}
	if q.Within != nil {
		it.Within = g.num(q.Within)
		it.Origin = g.wide(q.Of)
		it.Line = q.Of.Type.Form == contract.FormLine
		it.Dimensions = q.Of.Type.Width()
		if it.Line {
			it.Dimensions /= 2
		}
	}
	g.emit(bytecode.OpIter, operands{k: add(&g.Loops, it)})
	next = g.emit(bytecode.OpNext, operands{a: int(q.Var.Num), b: width, k: entities})
	if q.Var.Type.Form == contract.FormEntity && entities == 0 {
		g.emit(bytecode.OpEntityID, operands{a: int(q.Var.Num) + 1, b: int(q.Var.Num)})
	}
	start = next
	if q.Where != nil {
		g.jumpTo(g.jump(q.Where, false), start)
	}
	return start, next
}

// query compiles a query into registers from dst. A result that is worked out bit by bit has registers of its own: a
// query may stand in the place of what it reads.
//
// Each function below returns the first register of its result.
func (g *compiler) query(x *contract.Expr, dst int) {
	var out int
	width := x.Type.Width()
	switch x.Query.Do {
	case "count":
		out = g.count(x.Query)
	case "any", "all":
		out = g.decides(x.Query, x.Query.Do == "any")
	case "sum":
		out = g.sum(x.Query, x.Type)
	default:
		out = g.find(x.Query, width)
	}
	g.move(dst, out, width)
}

// move copies registers that stand side by side.
func (g *compiler) move(to, from, width int) {
	g.emit(bytecode.OpMoves, operands{a: to, b: from, k: int64(width)})
}

// count compiles how many a query goes over, and returns the register of the number.
func (g *compiler) count(q *contract.Query) int {
	n := g.nextNums(1)
	g.emit(bytecode.OpConst, operands{a: n})
	start, next := g.loop(q)
	g.emit(bytecode.OpAddK, operands{a: n, b: n, k: 1})
	g.emit(bytecode.OpJump, operands{c: start})
	g.land([]int{next})
	return n
}

// decides compiles whether any of those that a query goes over is as asked, or all of them, and returns the register of
// the truth. The first one that decides ends the loop.
//
// The register holds the opposite from the start; one that decides turns it over.
func (g *compiler) decides(q *contract.Query, any bool) int {
	n := g.nextNums(1)
	decided := int64(0)
	if any {
		decided = 1
	}
	g.emit(bytecode.OpConst, operands{a: n, k: 1 - decided})
	start, next := g.loop(q)
	if q.Value != nil {
		g.jumpTo(g.jump(q.Value, !any), start)
	}
	g.emit(bytecode.OpConst, operands{a: n, k: decided})
	g.emit(bytecode.OpDone, operands{})
	g.land([]int{next})
	return n
}

// sum compiles the sum of a value of those that a query goes over, and returns its first register.
//
// It begins with zeros, whose bits are the same for whole numbers and doubles.
func (g *compiler) sum(q *contract.Query, t *contract.Type) int {
	width := t.Width()
	n := g.nextNums(width)
	for i := range width {
		g.emit(bytecode.OpConst, operands{a: n + i})
	}
	start, next := g.loop(q)
	spend := g.spend()
	v := g.wide(q.Value)
	switch {
	case width > 1:
		g.emit(bytecode.OpVec, operands{a: n, b: n, c: v, k: vectorOperation(contract.OpAdd, width)})
	case t.Form == contract.FormReal:
		g.emit(bytecode.OpRealAdd, operands{a: n, b: n, c: v})
	default:
		g.emit(bytecode.OpAdd, operands{a: n, b: n, c: v})
	}
	spend()
	g.emit(bytecode.OpJump, operands{c: start})
	g.land([]int{next})
	return n
}

// find compiles a query for one of those that it goes over, or for the least or greatest value of them, and returns the
// first register of the result.
//
// found tells after the loop whether there was one. `else` is computed only when there was none, since
// it may fault.
func (g *compiler) find(q *contract.Query, width int) int {
	found := g.nextNums(1)
	out := g.nextNums(width)
	g.emit(bytecode.OpConst, operands{a: found})
	var best int
	if q.Value != nil {
		best = g.nextNums(1)
	}
	start, next := g.loop(q)
	spend := g.spend()
	each := int(q.Var.Num)
	switch q.Do {
	case "first":
		g.move(out, each, width)
		g.emit(bytecode.OpConst, operands{a: found, k: 1})
		g.emit(bytecode.OpDone, operands{})
	case "one":
		second := g.emit(bytecode.OpEqK, operands{a: found, k: 0})
		g.emit(bytecode.OpMany, operands{})
		g.land([]int{second})
		g.move(out, each, width)
		g.emit(bytecode.OpConst, operands{a: found, k: 1})
		g.emit(bytecode.OpJump, operands{c: start})
	default:
		v := g.num(q.Value)
		better := g.emit(bytecode.OpEqK, operands{a: found, k: 0})
		greatest := q.Do == "max" || q.Do == "most" || q.Do == "best"
		g.jumpUnlessBetter(v, best, greatest, q.Value.Type.Form == contract.FormReal, start)
		g.land([]int{better})
		g.emit(bytecode.OpConst, operands{a: found, k: 1})
		g.emit(bytecode.OpMove, operands{a: best, b: v})
		if q.Do == "min" || q.Do == "max" {
			g.move(out, v, 1)
		} else {
			g.move(out, each, width)
		}
		g.emit(bytecode.OpJump, operands{c: start})
	}
	spend()
	g.land([]int{next})
	some := g.emit(bytecode.OpNeK, operands{a: found, k: 0})
	if q.Else != nil {
		g.into(q.Else, out)
	} else {
		g.emit(bytecode.OpNone, operands{})
	}
	g.land([]int{some})
	return out
}

// jumpUnlessBetter jumps when a value is no better than the best one before it; among equals the first one stays.
func (g *compiler) jumpUnlessBetter(value, best int, greatest, real bool, to int) {
	low := value
	high := best
	if greatest {
		low = best
		high = value
	}
	if real {
		less := g.nextNums(1)
		g.emit(bytecode.OpRealTest, operands{a: less, b: low, c: high, k: bytecode.RealLess})
		g.emit(bytecode.OpEqK, operands{a: less, c: to, k: 0})
		return
	}
	g.emit(bytecode.OpLe, operands{a: high, b: low, c: to})
}
