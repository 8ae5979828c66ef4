package rules

import (
	"math"

	"kamerad/core/contract"
)

// Program is the compiled form of a contract. It is immutable and may be shared.
type Program struct {
	requests []code
	actions  []code
	join     *code
	kinds    []kindCode
	watches  bool // some kind has an `on change`
}

type kindCode struct {
	spawn  *code
	change []*code // by property
	timers []timerCode
}

type timerCode struct {
	while *code
	body  *code
}

// Compile turns all heads and bodies of a contract into code.
func Compile(c *contract.Contract) *Program {
	p := &Program{join: body(c.OnJoin)}
	for _, r := range c.Requests {
		g := newCompiler(r.Nums, r.Texts)
		for _, check := range r.Checks {
			g.reasons = append(g.reasons, check.Reason)
			g.checkLines = append(g.checkLines, int32(check.Line))
			g.drops = append(g.drops, check.Drop)
		}
		g.head(r.Head)
		p.requests = append(p.requests, g.finish(r.Body))
	}
	for _, a := range c.Actions {
		p.actions = append(p.actions, *body(a.Body))
	}
	for _, k := range c.Kinds {
		kind := kindCode{spawn: body(k.OnSpawn)}
		for _, b := range k.OnChange {
			kind.change = append(kind.change, body(b))
			p.watches = p.watches || b != nil
		}
		for _, t := range k.Timers {
			timer := timerCode{body: body(t.Body)}
			if t.While != nil {
				g := newCompiler(0, 0)
				g.reasons, g.checkLines, g.drops = []string{""}, []int32{int32(t.While.Line)}, []bool{false}
				g.head(t.While.Stmts)
				while := g.finish(nil)
				timer.while = &while
			}
			kind.timers = append(kind.timers, timer)
		}
		p.kinds = append(p.kinds, kind)
	}
	return p
}

// body compiles a body without a head; nil gives nil.
func body(b *contract.Body) *code {
	if b == nil {
		return nil
	}
	out := newCompiler(b.Nums, b.Texts).finish(b.Stmts)
	return &out
}

// compiler writes one piece of code. The locals have the first registers; what is in between gets registers above them, given
// back at the end of each statement.
type compiler struct {
	code
	line        int
	check       int // that the present part of a head belongs to, or -1
	usedNums    int
	usedTexts   int
	usedEnts    int
	failures    [][]int // by check: the jumps that lead to its failure
	checkOfFail []int
}

func newCompiler(nums, texts int) *compiler {
	return &compiler{code: code{nums: nums, texts: texts}, check: -1}
}

func (g *compiler) finish(body []contract.Stmt) code {
	g.check = -1
	g.block(body)
	g.emit(ins{op: opEnd})
	// Failed checks end here, so that one that holds runs straight on.
	for i, jumps := range g.failures {
		g.check = g.checkOfFail[i]
		g.land(jumps)
		g.emit(ins{op: opFail, k: int64(g.check)})
	}
	return g.code
}

func (g *compiler) emit(i ins) int {
	g.ins = append(g.ins, i)
	g.lines = append(g.lines, int32(g.line))
	g.checks = append(g.checks, int32(g.check))
	return len(g.ins) - 1
}

// land makes jumps lead here.
func (g *compiler) land(jumps []int) {
	here := uint32(len(g.ins))
	for _, j := range jumps {
		g.ins[j].c = here
	}
}

// nextNums hands out registers for numbers that stand side by side.
func (g *compiler) nextNums(n int) int {
	g.usedNums += n
	return within(g.nums + g.usedNums - n)
}

func (g *compiler) nextText() int {
	g.usedTexts++
	return within(g.texts + g.usedTexts - 1)
}

func (g *compiler) nextEntity() int {
	g.usedEnts++
	return within(g.usedEnts)
}

// within holds a register against the machine's. The checker bounds names and nesting so that this never fails.
func within(register int) int {
	if register >= registers-1 {
		panic("rules: a body needs more registers than the checker allows")
	}
	return register
}

// spend gives back the registers that were handed out since it was called.
func (g *compiler) spend() func() {
	nums, texts, ents := g.usedNums, g.usedTexts, g.usedEnts
	return func() { g.usedNums, g.usedTexts, g.usedEnts = nums, texts, ents }
}

// index finds or adds something in one of the code's tables.
func index[T comparable](table *[]T, item T) int64 {
	for i, x := range *table {
		if x == item {
			return int64(i)
		}
	}
	*table = append(*table, item)
	return int64(len(*table) - 1)
}

// head compiles a head. A read through nothing fails the check that reads it, or the next one after a `let` that did.
func (g *compiler) head(stmts []contract.Stmt) {
	for i, s := range stmts {
		g.check = -1
		for _, later := range stmts[i:] {
			if later.Op == contract.OpCheck {
				g.check = int(later.Num)
				break
			}
		}
		if s.Op == contract.OpCheck {
			g.begin(s)
			g.failures = append(g.failures, g.jump(s.Value, false))
			g.checkOfFail = append(g.checkOfFail, g.check)
		} else {
			g.stmt(s)
		}
	}
}

func (g *compiler) block(stmts []contract.Stmt) {
	for _, s := range stmts {
		g.stmt(s)
	}
}

func (g *compiler) begin(s contract.Stmt) {
	g.line = s.Line
	g.usedNums, g.usedTexts, g.usedEnts = 0, 0, 0
}

func (g *compiler) stmt(s contract.Stmt) {
	g.begin(s)
	switch s.Op {
	case contract.OpLet:
		switch {
		case s.Value.Type.IsText():
			g.textInto(s.Value, int(s.Num))
		case s.Value.Type.Form == contract.FormEntity:
			g.emit(ins{op: opID, a: uint16(s.Num), b: uint8(g.entity(s.Value))})
		default:
			g.into(s.Value, int(s.Num))
		}
	case contract.OpSet:
		g.set(s)
	case contract.OpPut, contract.OpTake:
		op := opPut
		if s.Op == contract.OpTake {
			op = opTake
		}
		g.stacks(op, 0, s.Prop, s.X, s.Args)
	case contract.OpIf:
		no := g.jump(s.Value, false)
		g.block(s.Then)
		if s.Else != nil {
			over := g.emit(ins{op: opJump})
			g.land(no)
			g.block(s.Else)
			no = []int{over}
		}
		g.land(no)
	case contract.OpDeny:
		g.emit(ins{op: opDeny, k: index(&g.strings, s.Text)})
	case contract.OpTell:
		g.tell(s)
	case contract.OpRun:
		c := call{action: s.Act.Index}
		for i, a := range s.Args {
			if a.Type.IsText() {
				c.texts = append(c.texts, g.text(a))
			} else {
				c.nums = append(c.nums, g.num(a))
				c.types = append(c.types, s.Act.Params[i].Type)
			}
		}
		g.calls = append(g.calls, c)
		g.emit(ins{op: opRun, b: uint8(g.entity(s.X)), k: int64(len(g.calls) - 1)})
	case contract.OpReply:
		if s.Value.Type.IsText() {
			g.emit(ins{op: opTextReply, a: uint16(g.text(s.Value))})
		} else {
			g.emit(ins{op: opReply, a: uint16(g.num(s.Value)), k: index(&g.steps, s.Type)})
		}
	default:
		panic("rules: a statement that the checker never makes")
	}
}

func (g *compiler) set(s contract.Stmt) {
	p := s.Prop
	if p.Type.IsText() {
		value := g.text(s.Value)
		g.emit(ins{op: opTextStore, a: uint16(value), b: uint8(g.entity(s.X)), k: index(&g.props, p)})
		return
	}
	to := store{index: p.Index, slot: p.Slot, low: math.MinInt64, high: math.MaxInt64, clamped: p.Clamped, prop: p}
	if p.Type.Form == contract.FormInt || p.Type.Form == contract.FormReal {
		to.low, to.high = p.Type.Low, p.Type.High
	}
	at := uint32(index(&g.stores, to))
	v := s.Value
	if v.Op == contract.OpConst {
		g.emit(ins{op: opStoreK, b: uint8(g.entity(s.X)), c: at, k: v.Num})
		return
	}
	if by, ok := bump(s); ok {
		g.emit(ins{op: opBump, b: uint8(g.entity(s.X)), c: at, k: by})
		return
	}
	value := g.num(v)
	g.emit(ins{op: opStore, a: uint16(value), b: uint8(g.entity(s.X)), c: at})
}

// bump tells whether an assignment adds a constant to what it assigns to.
func bump(s contract.Stmt) (by int64, ok bool) {
	v := s.Value
	if v.Op != contract.OpAdd && v.Op != contract.OpSub {
		return 0, false
	}
	a, b := v.Args[0], v.Args[1]
	if a.Op != contract.OpGet || a.Prop != s.Prop || a.Args[0] != s.X || b.Op != contract.OpConst {
		return 0, false
	}
	if v.Op == contract.OpSub {
		return -b.Num, b.Num != math.MinInt64
	}
	return b.Num, true
}

func (g *compiler) tell(s contract.Stmt) {
	t := tell{event: s.Event, entity: -1, everyone: len(s.Who) == 1 && s.Who[0].Sort == contract.ToEveryone}
	if s.X != nil {
		t.entity = g.entity(s.X)
	}
	for _, a := range s.Args {
		if a.Type.IsText() {
			t.args = append(t.args, g.text(a))
		} else {
			t.args = append(t.args, g.num(a))
		}
	}
	for _, w := range s.Who {
		x := who{but: w.But, sort: w.Sort, role: w.Role}
		if w.X != nil {
			x.reg = g.num(w.X)
		}
		t.who = append(t.who, x)
	}
	g.tells = append(g.tells, t)
	g.emit(ins{op: opTell, k: int64(len(g.tells) - 1)})
}

// stacks compiles a method of stacks; its item and count stand side by side.
func (g *compiler) stacks(op op, dst int, p *contract.Property, on *contract.Expr, args []*contract.Expr) {
	first := g.nextNums(2)
	g.into(args[0], first)
	g.into(args[1], first+1)
	g.emit(ins{op: op, a: uint16(dst), b: uint8(g.entity(on)), c: uint32(first), k: index(&g.props, p)})
}

// entity gives the register of an entity, which may hold nothing.
func (g *compiler) entity(x *contract.Expr) int {
	switch x.Op {
	case contract.OpSelf:
		return 0
	case contract.OpShared:
		e := g.nextEntity()
		g.emit(ins{op: opEntityShared, a: uint16(e), k: int64(x.Kind.Index)})
		return e
	case contract.OpEntityOf:
		client := g.num(x.Args[0])
		e := g.nextEntity()
		g.emit(ins{op: opEntityOf, a: uint16(e), b: uint8(client), k: int64(x.Kind.Index)})
		return e
	case contract.OpLocal:
		e := g.nextEntity()
		g.emit(ins{op: opEntityID, a: uint16(e), b: uint8(x.Num)})
		return e
	}
	panic("rules: an entity that the checker never makes")
}

// text gives a register that holds a text.
func (g *compiler) text(x *contract.Expr) int {
	if x.Op == contract.OpLocal {
		return int(x.Num)
	}
	t := g.nextText()
	g.textInto(x, t)
	return t
}

func (g *compiler) textInto(x *contract.Expr, dst int) {
	defer g.spend()()
	switch x.Op {
	case contract.OpConst:
		g.emit(ins{op: opText, a: uint16(dst), k: index(&g.strings, x.Text)})
	case contract.OpLocal:
		g.emit(ins{op: opTextMove, a: uint16(dst), b: uint8(x.Num)})
	case contract.OpGet:
		g.emit(ins{op: opTextLoad, a: uint16(dst), b: uint8(g.entity(x.Args[0])), c: uint32(x.Prop.Slot), k: index(&g.props, x.Prop)})
	case contract.OpName:
		g.emit(ins{op: opName, a: uint16(dst), b: uint8(g.num(x.Args[0]))})
	default:
		panic("rules: a text that the checker never makes")
	}
}

// num gives a register that holds a number.
func (g *compiler) num(x *contract.Expr) int {
	if x.Op == contract.OpLocal {
		return int(x.Num)
	}
	n := g.nextNums(1)
	g.into(x, n)
	return n
}

var arithmetic = map[contract.Op]op{contract.OpAdd: opAdd, contract.OpSub: opSub, contract.OpMul: opMul, contract.OpDiv: opDiv, contract.OpMod: opMod}

var realArithmetic = map[contract.Op]op{contract.OpAdd: opRealAdd, contract.OpSub: opRealSub, contract.OpMul: opRealMul, contract.OpDiv: opRealDiv}

// into computes a number into a register.
func (g *compiler) into(x *contract.Expr, dst int) {
	defer g.spend()()
	a := uint16(dst)
	switch x.Op {
	case contract.OpConst:
		g.emit(ins{op: opConst, a: a, k: x.Num})
	case contract.OpLocal:
		g.emit(ins{op: opMove, a: a, b: uint8(x.Num)})
	case contract.OpCaller:
		g.emit(ins{op: opCaller, a: a})
	case contract.OpOwner:
		g.emit(ins{op: opOwner, a: a, b: uint8(g.entity(x.Args[0]))})
	case contract.OpGet:
		slot := uint32(x.Prop.Slot)
		switch on := x.Args[0]; on.Op {
		case contract.OpSelf:
			g.emit(ins{op: opSelf, a: a, c: slot})
		case contract.OpShared:
			g.emit(ins{op: opShared, a: a, c: slot, k: int64(on.Kind.Index)})
		default:
			g.emit(ins{op: opLoad, a: a, b: uint8(g.entity(on)), c: slot, k: index(&g.props, x.Prop)})
		}
	case contract.OpNumber:
		g.into(x.Args[0], dst)
	case contract.OpRole:
		g.emit(ins{op: opRole, a: a, b: uint8(g.num(x.Args[0]))})
	case contract.OpNeg:
		op := opNeg
		if x.Type.Form == contract.FormReal {
			op = opRealNeg
		}
		g.emit(ins{op: op, a: a, b: uint8(g.num(x.Args[0]))})
	case contract.OpReal:
		g.emit(ins{op: opReal, a: a, b: uint8(g.num(x.Args[0])), k: index(&g.steps, x.Args[0].Type)})
	case contract.OpSteps:
		g.emit(ins{op: opSteps, a: a, b: uint8(g.num(x.Args[0])), k: index(&g.steps, x.Type)})
	case contract.OpFromInt:
		g.emit(ins{op: opFromInt, a: a, b: uint8(g.num(x.Args[0]))})
	case contract.OpHas:
		g.stacks(opHas, dst, x.Prop, x.Args[0], x.Args[1:])
	case contract.OpCount:
		g.stacks(opCount, dst, x.Prop, x.Args[0], x.Args[1:])
	case contract.OpRoom:
		g.stacks(opRoom, dst, x.Prop, x.Args[0], x.Args[1:])
	case contract.OpAdd, contract.OpSub, contract.OpMul, contract.OpDiv, contract.OpMod:
		g.arithmetic(x, a)
	default: // a condition as a value
		yes := g.jump(x, true)
		g.emit(ins{op: opConst, a: a})
		over := g.emit(ins{op: opJump})
		g.land(yes)
		g.emit(ins{op: opConst, a: a, k: 1})
		g.land([]int{over})
	}
}

func (g *compiler) arithmetic(x *contract.Expr, dst uint16) {
	left, right := x.Args[0], x.Args[1]
	a := uint8(g.num(left))
	if x.Type.Form == contract.FormReal {
		g.emit(ins{op: realArithmetic[x.Op], a: dst, b: a, c: uint32(g.num(right))})
		return
	}
	switch {
	case x.Op == contract.OpAdd && right.Op == contract.OpConst:
		g.emit(ins{op: opAddK, a: dst, b: a, k: right.Num})
	case x.Op == contract.OpSub && right.Op == contract.OpGet && right.Args[0].Op == contract.OpSelf:
		g.emit(ins{op: opSubSelf, a: dst, b: a, c: uint32(right.Prop.Slot)})
	default:
		g.emit(ins{op: arithmetic[x.Op], a: dst, b: a, c: uint32(g.num(right))})
	}
}

// comparison is a comparison in the machine's forms; the one with the operands exchanged, and the opposite.
var (
	exchanged = map[contract.Op]contract.Op{
		contract.OpEq: contract.OpEq, contract.OpNe: contract.OpNe, contract.OpLt: contract.OpGt, contract.OpLe: contract.OpGe,
		contract.OpGt: contract.OpLt, contract.OpGe: contract.OpLe,
	}
	opposite = map[contract.Op]contract.Op{
		contract.OpEq: contract.OpNe, contract.OpNe: contract.OpEq, contract.OpLt: contract.OpGe, contract.OpGe: contract.OpLt,
		contract.OpLe: contract.OpGt, contract.OpGt: contract.OpLe,
	}
	withRegister = map[contract.Op]op{contract.OpEq: opEq, contract.OpNe: opNe, contract.OpLt: opLt, contract.OpLe: opLe}
	withConst    = map[contract.Op]op{
		contract.OpEq: opEqK, contract.OpNe: opNeK, contract.OpLt: opLtK, contract.OpLe: opLeK, contract.OpGt: opGtK, contract.OpGe: opGeK,
	}
)

// jump compiles a condition to jumps that are taken when it is as sense says; otherwise the code runs on.
func (g *compiler) jump(x *contract.Expr, sense bool) []int {
	defer g.spend()()
	switch x.Op {
	case contract.OpConst:
		if (x.Num != 0) == sense {
			return []int{g.emit(ins{op: opJump})}
		}
		return nil
	case contract.OpNot:
		return g.jump(x.Args[0], !sense)
	case contract.OpAnd, contract.OpOr:
		// What decides alone jumps at once: the first false of an `and`, the first true of an `or`.
		if alone := x.Op == contract.OpOr; alone == sense {
			return append(g.jump(x.Args[0], sense), g.jump(x.Args[1], sense)...)
		}
		skip := g.jump(x.Args[0], !sense)
		out := g.jump(x.Args[1], sense)
		g.land(skip)
		return out
	case contract.OpEq, contract.OpNe, contract.OpLt, contract.OpLe, contract.OpGt, contract.OpGe:
		return g.compare(x, sense)
	}
	op := opNeK
	if !sense {
		op = opEqK
	}
	return []int{g.emit(g.fused(op, x, 0))}
}

// fused compares a number with a constant; a property of self is compared where it stands.
func (g *compiler) fused(op op, x *contract.Expr, k int64) ins {
	if x.Op == contract.OpGet && x.Args[0].Op == contract.OpSelf {
		return ins{op: op + opSelfEqK - opEqK, a: uint16(x.Prop.Slot), k: k}
	}
	return ins{op: op, a: uint16(g.num(x)), k: k}
}

func (g *compiler) compare(x *contract.Expr, sense bool) []int {
	op := x.Op
	if !sense {
		op = opposite[op]
	}
	a, b := x.Args[0], x.Args[1]
	switch a.Type.Form {
	case contract.FormText:
		n := g.nextNums(1)
		g.emit(ins{op: opTextEq, a: uint16(n), b: uint8(g.text(a)), c: uint32(g.text(b))})
		jump := opNeK
		if op == contract.OpNe {
			jump = opEqK
		}
		return []int{g.emit(ins{op: jump, a: uint16(n)})}
	case contract.FormReal:
		if op == contract.OpGt || op == contract.OpGe {
			a, b, op = b, a, exchanged[op]
		}
		test := map[contract.Op]int64{contract.OpEq: 0, contract.OpNe: 1, contract.OpLt: 2, contract.OpLe: 3}[op]
		n := g.nextNums(1)
		g.emit(ins{op: opRealTest, a: uint16(n), b: uint8(g.num(a)), c: uint32(g.num(b)), k: test})
		return []int{g.emit(ins{op: opNeK, a: uint16(n)})}
	case contract.FormEntity:
		n := g.nextNums(2)
		g.emit(ins{op: opID, a: uint16(n), b: uint8(g.entity(a))})
		g.emit(ins{op: opID, a: uint16(n + 1), b: uint8(g.entity(b))})
		return []int{g.emit(ins{op: withRegister[op], a: uint16(n), b: uint8(n + 1)})}
	}
	if a.Op == contract.OpConst {
		a, b, op = b, a, exchanged[op]
	}
	if b.Op == contract.OpConst {
		return []int{g.emit(g.fused(withConst[op], a, b.Num))}
	}
	if op == contract.OpGt || op == contract.OpGe {
		a, b, op = b, a, exchanged[op]
	}
	first := g.num(a)
	return []int{g.emit(ins{op: withRegister[op], a: uint16(first), b: uint8(g.num(b))})}
}
