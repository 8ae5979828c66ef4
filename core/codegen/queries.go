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
func (g *compiler) loop(q *contract.Query) (start, next int) { return g.loopFor(q, 0) }

// loopFor is loop for a query that may end before it has gone over all: found is the register that tells whether it has
// found something.
func (g *compiler) loopFor(q *contract.Query, found int) (start, next int) {
	it := bytecode.Loop{Kinds: q.Kinds, Clients: q.Clients, Within: -1, Range: -1}
	entities := int64(0)
	width := 1
	switch {
	case q.List != nil:
		g.overValues(&it, q)
		width = it.Width
	case q.Low != nil:
		it.Range = g.nextNums(2)
		g.into(q.Low, it.Range)
		g.into(q.High, it.Range+1)
		it.Most = mostNumbers(q)
	case q.Kinds != nil:
		entities = 1
	}
	g.access(&it, q, found)
	g.emit(bytecode.OpIter, operands{k: add(&g.Loops, it)})
	first := int(q.Var.Num)
	isListBeside := q.Second != nil && q.Second.Type.Holder()
	if isListBeside { // its local is in memory
		first = g.nextNums(width)
	}
	next = g.emit(bytecode.OpNext, operands{a: first, b: width, k: entities})
	if isListBeside {
		g.move(int(q.Var.Num), first, 1)
		list := q.Second.Type.Width()
		g.emit(bytecode.OpMemory, operands{a: first + 1, c: int(q.Second.Num), k: int64(list)})
	}
	for _, local := range []*contract.Expr{q.Var, q.Second} {
		if local != nil && local.Type.Form == contract.FormEntity && entities == 0 {
			g.emit(bytecode.OpEntityID, operands{a: int(local.Num) + 1, b: int(local.Num)})
		}
	}
	start = next
	if q.Where != nil {
		g.jumpTo(g.jump(q.Where, false), start)
	}
	return start, next
}

// access has a loop find what it goes over by an index, where there is one.
func (g *compiler) access(it *bytecode.Loop, q *contract.Query, found int) {
	switch q.Access() {
	case contract.AccessPlace:
		g.indexPlaces(q.Kinds, q.Within)
		it.Within = g.num(q.Within)
		g.origin(it, q.Of)
	case contract.AccessNearest:
		g.indexPlaces(q.Kinds, nil)
		it.Nearest = true
		it.Found = found
		g.origin(it, q.Origin())
	case contract.AccessValue:
		properties, value := q.Key()
		g.indexValues(q.Kinds, properties)
		it.Properties = properties
		it.IsRef = value.Type.Form == contract.FormEntity
		if it.IsRef {
			it.Key = g.nextNums(1)
			g.emit(bytecode.OpID, operands{a: it.Key, b: g.entity(value)})
		} else {
			it.Key = g.num(value)
		}
	}
}

// overValues lets a loop go over a list, a map or stacks.
func (g *compiler) overValues(it *bytecode.Loop, q *contract.Query) {
	t := q.List.Type
	it.List = g.place(q.List)
	it.Most = t.Max
	it.Width = 1
	switch t.Form {
	case contract.FormStacks:
		it.Stacks = true
		it.Skip = 1 // the counts
	case contract.FormMap:
		it.Skip = t.Of.Width() // the values
	default:
		it.Width = t.Of.Width()
	}
	if q.Second != nil {
		it.Width += it.Skip
		it.Skip = 0
		it.Places = t.Form == contract.FormList
	}
}

// mostNumbers returns how many numbers a query over a range goes over at most.
func mostNumbers(q *contract.Query) int {
	low := q.Low.Type.Low
	if q.Low.Op == contract.OpConst {
		low = q.Low.Num
	}
	high := q.High.Type.High
	if q.High.Op == contract.OpConst {
		high = q.High.Num
	}
	isKnown := func(x *contract.Expr) bool { return x.Op == contract.OpConst || x.Type.Low != 0 || x.Type.High != 0 }
	if !isKnown(q.Low) || !isKnown(q.High) || uint64(high)-uint64(low) >= bytecode.MaxSteps && high >= low {
		return bytecode.MaxSteps
	}
	return int(max(high-low+1, 0))
}

// origin computes the place or line from which a loop measures.
func (g *compiler) origin(it *bytecode.Loop, of *contract.Expr) {
	it.Origin = g.wide(of)
	it.Line = of.Type.Form == contract.FormLine
	it.Dimensions = of.Type.Width()
	if it.Line {
		it.Dimensions /= 2
	}
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
	if q.Access() == contract.AccessNumber {
		it := bytecode.Loop{Kinds: q.Kinds, Clients: q.Clients, Within: -1, Range: -1}
		g.emit(bytecode.OpHowMany, operands{a: n, k: add(&g.Loops, it)})
		return n
	}
	if q.Access() == contract.AccessPlace && q.Where == nil {
		it := bytecode.Loop{Kinds: q.Kinds, Within: -1, Range: -1}
		g.access(&it, q, 0)
		g.emit(bytecode.OpCountNear, operands{a: n, k: add(&g.Loops, it)})
		return n
	}
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
	isNear := q.Access() == contract.AccessPlace && q.Where == nil && q.Value == nil
	if q.Access() == contract.AccessNumber || isNear && any {
		n := g.count(q)
		none := g.emit(bytecode.OpEqK, operands{a: n})
		g.emit(bytecode.OpConst, operands{a: n, k: 1})
		g.land([]int{none})
		return n
	}
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
	switch access := q.Access(); {
	case access == contract.AccessNearest && q.Where == nil:
		g.nearest(q, out)
		return out
	case access == contract.AccessNumber:
		g.emit(bytecode.OpFirst, operands{a: out, k: add(&g.Loops, bytecode.Loop{Kinds: q.Kinds, Range: -1})})
		some := g.emit(bytecode.OpNeK, operands{a: out})
		g.orElse(q, out)
		g.land([]int{some})
		return out
	}
	start, next := g.loopFor(q, found)
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
	g.orElse(q, out)
	g.land([]int{some})
	return out
}

// nearest compiles a query for the nearest of all entities, or for its distance.
func (g *compiler) nearest(q *contract.Query, out int) {
	it := bytecode.Loop{Kinds: q.Kinds, Within: -1, Range: -1, Nearest: true}
	g.indexPlaces(q.Kinds, nil)
	g.origin(&it, q.Origin())
	at := g.nextNums(2)
	g.emit(bytecode.OpNearest, operands{a: at, k: add(&g.Loops, it)})
	result := at
	if q.Do == "min" {
		result++
	}
	g.move(out, result, 1)
	some := g.emit(bytecode.OpNeK, operands{a: at})
	g.orElse(q, out)
	g.land([]int{some})
}

// orElse compiles what a query gives that has found nothing.
func (g *compiler) orElse(q *contract.Query, out int) {
	if q.Else != nil {
		g.into(q.Else, out)
	} else {
		g.emit(bytecode.OpNone, operands{})
	}
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
