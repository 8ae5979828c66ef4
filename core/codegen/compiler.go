package codegen

import (
	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
)

// firstFreeEntity is the last register of entities that stands beside a local; the registers above it are for what is
// in between.
const firstFreeEntity = contract.MaxLocals + 4

// compiler writes one piece of code. The locals have the first registers; what is in between gets registers above them,
// given back at the end of each statement.
//
// Registers are never moved: a value that is computed stays where it is until its statement ends. A
// statement that needs more than there are fails the whole translation.
type compiler struct {
	bytecode.Code
	program  *bytecode.Program
	line     int   // of the statement that is translated
	check    int   // that the present part of a head belongs to, or -1
	usedNums int   // registers in between that are taken
	usedEnts int   // the same of entities
	traced   bool  // what is revealed is to be told
	rolls    int64 // so far: a roll's place is its number, whatever else stands around it

	// Failed checks are translated last, so that one that holds runs straight on.
	failures    [][]int                  // by failed check: the jumps that lead to its failure
	checkOfFail []int                    // which check that is
	reads       map[int][]*contract.Expr // by check that strikes: what it reads
}

// arguments says where the arguments go, and finds the entities among them.
//
// A register of entities is filled at once for each entity among them, since most bodies read through
// their arguments. It is the one after the register of the number, as for every local.
func (g *compiler) arguments(params []contract.Param) {
	// The places are those that package typing has handed out: the order of the arguments, lists and
	// maps in memory and all else in registers.
	nums := 0
	memory := 0
	for _, p := range params {
		if p.Type.Holder() {
			g.Params = append(g.Params, bytecode.Param{Type: p.Type, Offset: memory, InMemory: true})
			memory += p.Type.Width()
			continue
		}
		g.Params = append(g.Params, bytecode.Param{Type: p.Type, Offset: nums})
		if p.Type.Form == contract.FormEntity {
			g.emit(bytecode.OpEntityID, operands{a: nums + 1, b: nums})
		}
		nums += p.Type.Width()
	}
}

// finish translates a body and returns the code of all that was translated so far.
//
// The compiler must not be used afterwards. Every piece of code ends with OpEnd or OpFail.
func (g *compiler) finish(body []contract.Stmt) bytecode.Code {
	g.check = -1
	g.block(body)
	g.emit(bytecode.OpEnd, operands{})
	// Failed checks end here, so that one that holds runs straight on.
	for i, jumps := range g.failures {
		g.check = g.checkOfFail[i]
		g.land(jumps)
		for _, x := range g.reads[g.check] {
			// What a check reads is noted after it has failed: none of its registers are needed any
			// more.
			g.usedNums = 0
			g.usedEnts = 0
			g.noteRead(x)
		}
		g.emit(bytecode.OpFail, operands{k: int64(g.check)})
	}
	return g.Code
}

// operands are what an instruction works on: registers, slots, tables' indexes and constants, as its op says.
type operands struct {
	a, b, c int
	k       int64
}

// emit appends an instruction and returns its index, for the patching of jumps.
//
// The line and the check that the instruction belongs to are kept beside it, for messages of faults and
// denials.
func (g *compiler) emit(op bytecode.Op, on operands) int {
	g.Instructions = append(g.Instructions, bytecode.Instruction{
		Op: op,
		A:  uint16(on.a),
		B:  uint8(on.b),
		C:  uint32(on.c),
		K:  on.k,
	})
	g.Lines = append(g.Lines, int32(g.line))
	g.Checks = append(g.Checks, int32(g.check))
	return len(g.Instructions) - 1
}

// land makes jumps lead here.
//
// It is called when the place that they lead to is reached.
func (g *compiler) land(jumps []int) {
	g.jumpTo(jumps, len(g.Instructions))
}

// jumpTo makes jumps lead to an instruction that stands already.
func (g *compiler) jumpTo(jumps []int, to int) {
	for _, j := range jumps {
		g.Instructions[j].C = uint32(to)
	}
}

// nextNums hands out registers for numbers that stand side by side.
//
// It returns the first of them. They are free again after spend's function was called or when the next
// statement begins.
func (g *compiler) nextNums(n int) int {
	g.usedNums += n
	return g.within(g.Nums+g.usedNums) - n
}

// nextEntity takes an entity register.
func (g *compiler) nextEntity() int {
	g.usedEnts++
	return g.within(firstFreeEntity + g.usedEnts)
}

// tooLong is what the compiler throws at a body that needs more registers than there are.
type tooLong struct{ line int }

// within returns the register when the machine has it; else it throws tooLong.
//
// The last register is left free, since entities take the one after their number's.
func (g *compiler) within(register int) int {
	if register >= bytecode.Registers-1 {
		panic(tooLong{g.line})
	}
	return register
}

// spend notes which registers are handed out; the function that it returns frees all that were handed out since.
func (g *compiler) spend() func() {
	nums := g.usedNums
	ents := g.usedEnts
	return func() {
		g.usedNums = nums
		g.usedEnts = ents
	}
}

// index finds or adds something in one of the code's tables.
//
// Tables are short: a search costs less than a map would.
func index[T comparable](table *[]T, item T) int64 {
	for i, x := range *table {
		if x == item {
			return int64(i)
		}
	}
	*table = append(*table, item)
	return int64(len(*table) - 1)
}

// add puts something into one of the code's tables.
//
// It is for items that cannot be compared, or that are hardly ever equal.
func add[T any](table *[]T, item T) int64 {
	*table = append(*table, item)
	return int64(len(*table) - 1)
}

// head compiles a head. A read through nothing fails the check that reads it, or the next one after a `let` that did.
//
// The values of `let`s are remembered for readsOf. They are not computed anew: their registers hold
// them for the rest of the request.
func (g *compiler) head(stmts []contract.Stmt) {
	lets := map[int64]*contract.Expr{}
	for i, s := range stmts {
		g.check = -1
		for _, later := range stmts[i:] {
			// A `let` belongs to the check that follows it.
			if later.Op == contract.OpCheck {
				g.check = int(later.Num)
				break
			}
		}
		if s.Op == contract.OpCheck {
			g.begin(s)
			g.failures = append(g.failures, g.jump(s.Value, false))
			g.checkOfFail = append(g.checkOfFail, g.check)
			if then := g.Then[s.Num]; then == contract.ThenStrike || then == contract.ThenExpel {
				g.reads[g.check] = readsOf(s.Value, lets, nil)
			}
		} else {
			if !s.Value.Type.Holder() {
				lets[s.Num] = s.Value
			}
			g.stmt(s)
		}
	}
}

// readsOf gathers what an expression reads, also by way of names.
//
// Parts of a query are not looked at: the query as a whole counts as having changed.
func readsOf(x *contract.Expr, lets map[int64]*contract.Expr, out []*contract.Expr) []*contract.Expr {
	switch x.Op {
	case contract.OpLocal:
		if v := lets[x.Num]; v != nil && !x.Type.Holder() {
			return readsOf(v, lets, out)
		}
	case contract.OpGet, contract.OpComputed, contract.OpSince, contract.OpPath, contract.OpQuery, contract.OpCallFn,
		contract.OpEntityOf, contract.OpOwner, contract.OpRole, contract.OpExists, contract.OpSeen, contract.OpLogic,
		contract.OpPublic:
		out = append(out, x)
		if x.Op == contract.OpQuery {
			return out
		}
	}
	for _, a := range x.Args {
		out = readsOf(a, lets, out)
	}
	return out
}

// noteRead notes when what an expression reads last changed. What it reads of an entity that is looked for counts as
// changed just now: when that was would tell of others.
//
// The machine uses it to spare honest clients a strike: what changed so recently that the caller cannot
// have known is no reason for one.
func (g *compiler) noteRead(x *contract.Expr) {
	switch x.Op {
	case contract.OpGet, contract.OpComputed, contract.OpSince, contract.OpPath:
		if x.Prop != nil && plain(x.Args[0]) {
			g.emit(bytecode.OpChanged, operands{b: g.entity(x.Args[0]), k: index(&g.Properties, x.Prop)})
			return
		}
		g.emit(bytecode.OpChangedAny, operands{k: -2})
	case contract.OpOwner:
		if plain(x.Args[0]) {
			g.emit(bytecode.OpChanged, operands{b: g.entity(x.Args[0]), k: -1})
			return
		}
		g.emit(bytecode.OpChangedAny, operands{k: -2})
	case contract.OpEntityOf, contract.OpRole, contract.OpLogic:
		g.emit(bytecode.OpChangedAny, operands{k: -1})
	default:
		// Queries, functions and whether something is there: anything may have changed it.
		g.emit(bytecode.OpChangedAny, operands{k: -2})
	}
}

// plain reports whether an entity is found without going over many.
//
// These are entities whom the caller knows without being told by the check: itself, its own, the only
// one, and what it named.
func plain(x *contract.Expr) bool {
	switch x.Op {
	case contract.OpSelf, contract.OpShared, contract.OpLocal:
		return true
	case contract.OpEntityOf:
		return x.Args[0].Op == contract.OpCaller
	}
	return false
}
