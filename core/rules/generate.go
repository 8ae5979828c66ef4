package rules

import (
	"fmt"
	"math"

	"kamerad.example/core/contract"
)

// Program is the compiled form of a contract. It is immutable and may be shared.
type Program struct {
	contract  *contract.Contract
	requests  []code
	from      []*whoCode // by request; nil where who is asking says it all
	actions   []code
	fns       []code
	audiences []code
	splits    []*splitCode // by audience; nil for one that has to be asked
	join      *code
	lost      *code
	back      *code
	leave     *code
	kinds     []kindCode
	watches   bool // some kind has an `on change`
	memory    int  // the most that a body needs
}

type kindCode struct {
	start, spawn, tick, ownerLost, ownerLeave *code
	change                                    []*code // by property
	timers                                    []timerCode
	to                                        *whoCode   // nil unless the audience is Some
	props                                     []propCode // by property
}

type propCode struct {
	to               *whoCode
	setBy            *code
	pace, rule, when *code
}

type timerCode struct {
	while *code
	body  *code
}

// whoCode computes a list of clients: what its terms need, and the terms.
type whoCode struct {
	code
	who []who
}

// Generate turns all heads and bodies of a contract into code. The error names a line that needs more than the machine
// has.
func Generate(c *contract.Contract) (*Program, error) { return generate(c, false) }

// GenerateTraced is Compile for a machine that also tells what was revealed, and to whom: see Machine.Reveals. The code
// is slower and takes more steps.
func GenerateTraced(c *contract.Contract) (*Program, error) { return generate(c, true) }

// generate translates a contract into a program. With traced, the program notes what it read, for traces.
func generate(c *contract.Contract, traced bool) (p *Program, err error) {
	p = &Program{contract: c}
	defer func() {
		if r := recover(); r != nil {
			long, ours := r.(tooLong)
			if !ours {
				panic(r)
			}
			p = nil
			err = fmt.Errorf(
				"compile line %d of %s: what is computed here at once needs more than %d numbers; give parts of it "+
					"names with `let`",
				long.line, c.Name, registers,
			)
		}
	}()
	pieces := 0
	newCompiler := func(nums, memory int) *compiler {
		pieces++
		g := newCompiler(nums, memory)
		g.id = pieces
		g.traced = traced
		return g
	}
	body := func(name string, b *contract.Body) *code {
		if b == nil {
			return nil
		}
		g := newCompiler(b.Locals, b.Memory)
		g.name = name
		g.file = b.File
		g.arguments(b.Params)
		if b.Value == nil {
			out := g.finish(b.Stmts)
			p.memory = max(p.memory, out.memory)
			return &out
		}
		g.line = b.Line
		width := b.Value.Type.Width()
		at := g.nextNums(width)
		g.into(b.Value, at)
		g.emit(ins{op: opMoves, b: uint8(at), k: int64(width)})
		out := g.finish(nil)
		out.width, out.real = width, b.Value.Type.Reals() > 0 && !b.Value.Type.Counted()
		p.memory = max(p.memory, out.memory)
		return &out
	}
	clients := func(to contract.Audience, terms []contract.Who) *whoCode {
		if to != contract.Some || terms == nil {
			return nil
		}
		g := newCompiler(0, 0)
		w := &whoCode{who: g.who(terms)}
		w.code = g.finish(nil)
		return w
	}
	for _, r := range c.Requests {
		g := newCompiler(r.Locals, r.Memory)
		g.name = "request " + r.Name + " of " + r.Kind.Name
		g.file = r.File
		for _, check := range r.Checks {
			g.reasons = append(g.reasons, check.Reason)
			g.checkLines = append(g.checkLines, int32(check.Line))
			g.then = append(g.then, check.Then)
		}
		g.arguments(r.Params)
		g.head(r.Head)
		p.requests = append(p.requests, g.finish(r.Body))
		p.memory = max(p.memory, r.Memory)
		from := contract.Everyone
		for _, w := range r.From {
			if w.Sort == contract.ToNamed || w.Sort == contract.ToClient || w.Sort == contract.ToCaller {
				from = contract.Some
			}
		}
		p.from = append(p.from, clients(from, r.From))
	}
	for _, a := range c.Actions {
		p.actions = append(p.actions, *body("action "+a.Name+" of "+a.Kind.Name, a.Body))
	}
	for _, f := range c.Fns {
		p.fns = append(p.fns, *body("function "+f.Name, f.Body))
	}
	for _, a := range c.Audiences {
		p.audiences = append(p.audiences, *body("audience "+a.Name, a.Cond))
	}
	p.join, p.lost = body("on join", c.OnJoin), body("on lost", c.OnLost)
	p.back, p.leave = body("on back", c.OnBack), body("on leave", c.OnLeave)
	for _, k := range c.Kinds {
		of := " of " + k.Name
		kind := kindCode{
			start:      body("on start"+of, k.OnStart),
			spawn:      body("on spawn"+of, k.OnSpawn),
			tick:       body("on tick"+of, k.OnTick),
			ownerLost:  body("on owner lost"+of, k.OnOwnerLost),
			ownerLeave: body("on owner leave"+of, k.OnOwnerLeave),
			to:         clients(k.To, k.Who),
		}
		for i, b := range k.OnChange {
			kind.change = append(kind.change, body("on change "+k.Properties[i].Name+of, b))
			p.watches = p.watches || b != nil
		}
		for _, t := range k.Timers {
			kind.timers = append(
				kind.timers, timerCode{while: body("timer"+of, t.While), body: body("timer"+of, t.Body)},
			)
		}
		for _, q := range k.Properties {
			pc := propCode{to: clients(q.To, q.Who)}
			if q.Set != nil {
				write := "write " + q.Name + of
				pc.setBy, pc.pace, pc.rule = body(write, q.Set.By), body(write, q.Set.Pace), body(write, q.Set.Rule)
			}
			if q.Hold != nil {
				pc.when = body("hold "+q.Name+of, q.Hold.When)
			}
			kind.props = append(kind.props, pc)
		}
		p.kinds = append(p.kinds, kind)
	}
	for _, a := range c.Audiences { // the last: a piece's number is part of its rolls
		p.splits = append(p.splits, split(a, func(b *contract.Body) *code { return body("audience "+a.Name, b) }))
	}
	return p, nil
}

// compiler writes one piece of code. The locals have the first registers; what is in between gets registers above them,
// given back at the end of each statement.
type compiler struct {
	code
	line        int
	check       int // that the present part of a head belongs to, or -1
	usedNums    int
	usedEnts    int
	failures    [][]int // by check: the jumps that lead to its failure
	checkOfFail []int
	reads       map[int][]*contract.Expr // by check that strikes: what it reads
	rolls       int64                    // so far: a roll's place is its number, whatever else stands around it
	traced      bool                     // what is revealed is to be told
}

// newCompiler returns a compiler of one body, whose first nums registers and memory words are taken.
func newCompiler(nums, memory int) *compiler {
	return &compiler{code: code{nums: nums, memory: memory}, check: -1, reads: map[int][]*contract.Expr{}}
}

// arguments says where the arguments go, and finds the entities among them.
func (g *compiler) arguments(params []contract.Param) {
	nums := 0
	memory := 0
	for _, p := range params {
		if p.Type.Holder() {
			g.params = append(g.params, param{p.Type, memory, true})
			memory += p.Type.Width()
			continue
		}
		g.params = append(g.params, param{p.Type, nums, false})
		if p.Type.Form == contract.FormEntity {
			g.emit(ins{op: opEntityID, a: uint16(nums + 1), b: uint8(nums)})
		}
		nums += p.Type.Width()
	}
}

// finish translates a body and returns the code of all that was translated so far.
func (g *compiler) finish(body []contract.Stmt) code {
	g.check = -1
	g.block(body)
	g.emit(ins{op: opEnd})
	// Failed checks end here, so that one that holds runs straight on.
	for i, jumps := range g.failures {
		g.check = g.checkOfFail[i]
		g.land(jumps)
		for _, x := range g.reads[g.check] {
			g.usedNums = 0
			g.usedEnts = 0
			g.noteRead(x)
		}
		g.emit(ins{op: opFail, k: int64(g.check)})
	}
	return g.code
}

// emit appends an instruction and returns its index, for the patching of jumps.
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
	return g.within(g.nums+g.usedNums) - n
}

// nextEntity takes an entity register.
func (g *compiler) nextEntity() int {
	g.usedEnts++
	return g.within(betweenOfKinds + g.usedEnts)
}

// tooLong is what the compiler throws at a body that needs more registers than there are.
type tooLong struct{ line int }

// within returns the register when the machine has it; else it throws tooLong.
func (g *compiler) within(register int) int {
	if register >= registers-1 {
		panic(tooLong{g.line})
	}
	return register
}

// spend returns back the registers that were handed out since it was called.
func (g *compiler) spend() func() {
	nums := g.usedNums
	ents := g.usedEnts
	return func() {
		g.usedNums = nums
		g.usedEnts = ents
	}
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

// add puts something into one of the code's tables.
func add[T any](table *[]T, item T) int64 {
	*table = append(*table, item)
	return int64(len(*table) - 1)
}

// head compiles a head. A read through nothing fails the check that reads it, or the next one after a `let` that did.
func (g *compiler) head(stmts []contract.Stmt) {
	lets := map[int64]*contract.Expr{}
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
			if then := g.then[s.Num]; then == contract.ThenStrike || then == contract.ThenExpel {
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
func readsOf(x *contract.Expr, lets map[int64]*contract.Expr, out []*contract.Expr) []*contract.Expr {
	switch x.Op {
	case contract.OpLocal:
		if v := lets[x.Num]; v != nil && !x.Type.Holder() {
			return readsOf(v, lets, out)
		}
	case contract.OpGet, contract.OpSince, contract.OpPath, contract.OpQuery, contract.OpCallFn, contract.OpEntityOf,
		contract.OpOwner, contract.OpRole, contract.OpExists:
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
func (g *compiler) noteRead(x *contract.Expr) {
	switch x.Op {
	case contract.OpGet, contract.OpSince, contract.OpPath:
		if x.Prop != nil && plain(x.Args[0]) {
			g.emit(ins{op: opChanged, b: uint8(g.entity(x.Args[0])), k: index(&g.props, x.Prop)})
			return
		}
		g.emit(ins{op: opChangedAny, k: -2})
	case contract.OpOwner:
		if plain(x.Args[0]) {
			g.emit(ins{op: opChanged, b: uint8(g.entity(x.Args[0])), k: -1})
			return
		}
		g.emit(ins{op: opChangedAny, k: -2})
	case contract.OpEntityOf, contract.OpRole:
		g.emit(ins{op: opChangedAny, k: -1})
	default:
		// Queries, functions and whether something is there: anything may have changed it.
		g.emit(ins{op: opChangedAny, k: -2})
	}
}

// plain reports whether an entity is found without going over many.
func plain(x *contract.Expr) bool {
	switch x.Op {
	case contract.OpSelf, contract.OpShared, contract.OpLocal:
		return true
	case contract.OpEntityOf:
		return x.Args[0].Op == contract.OpCaller
	}
	return false
}

// block translates statements one after the other.
func (g *compiler) block(stmts []contract.Stmt) {
	for _, s := range stmts {
		g.stmt(s)
	}
}

// begin notes where in the source the code that follows comes from.
func (g *compiler) begin(s contract.Stmt) {
	g.line = s.Line
	g.usedNums = 0
	g.usedEnts = 0
}

// stmt translates one statement.
func (g *compiler) stmt(s contract.Stmt) {
	g.begin(s)
	switch s.Op {
	case contract.OpLet:
		g.let(s)
	case contract.OpSet:
		g.set(s)
	case contract.OpPut, contract.OpTake, contract.OpCut, contract.OpClear, contract.OpMove, contract.OpSplit:
		h := holder{op: s.Op, on: g.place(s.X)}
		if s.To != nil {
			h.to = g.place(s.To)
		}
		h.args = g.values(s.Args)
		g.emit(ins{op: opHolder, k: add(&g.holders, h)})
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
	case contract.OpFor:
		start, next := g.loop(s.Query)
		g.block(s.Then)
		g.emit(ins{op: opJump, c: uint32(start)})
		g.land([]int{next})
	case contract.OpDeny:
		g.emit(ins{op: opDeny, k: index(&g.strings, s.Text)})
	case contract.OpReturn:
		g.emit(ins{op: opEnd})
	case contract.OpTell:
		t := tell{event: s.Event, entity: -1, everyone: len(s.Who) == 1 && s.Who[0].Sort == contract.ToEveryone}
		if s.X != nil {
			t.entity = g.entity(s.X)
		}
		for i, a := range s.Args {
			t.args = append(t.args, g.operand(a, s.Event.Params[i].Type))
		}
		t.who = g.who(s.Who)
		g.emit(ins{op: opTell, k: add(&g.tells, t)})
	case contract.OpLog:
		l := logs{words: s.Words}
		for _, a := range s.Args {
			l.args = append(l.args, g.operand(a, a.Type))
		}
		l.who = g.who(s.Who)
		g.emit(ins{op: opLog, k: add(&g.logs, l)})
	case contract.OpRun:
		c := call{action: s.Act}
		for i, a := range s.Args {
			c.args = append(c.args, g.operand(a, s.Act.Params[i].Type))
		}
		op := opRun
		if s.Num > 0 {
			op = opDelay
		}
		g.emit(ins{
			op: op,
			b:  uint8(g.entity(s.X)),
			c:  uint32(s.Num),
			k:  add(&g.calls, c),
		})
	case contract.OpSpawn:
		sp := spawn{kinds: s.Kinds, which: -1, to: int(s.Num)}
		if s.Value != nil {
			sp.which = g.num(s.Value)
		}
		for _, v := range s.Sets {
			sp.sets = append(sp.sets, set{v.Props, g.operand(v.Value, v.Props[s.Kinds[0].Index].Type)})
		}
		g.emit(ins{op: opSpawn, k: add(&g.spawns, sp)})
	case contract.OpDespawn:
		g.emit(ins{op: opDespawn, b: uint8(g.entity(s.X))})
	case contract.OpGive:
		to := g.num(s.Value)
		g.emit(ins{op: opGive, a: uint16(to), b: uint8(g.entity(s.X))})
	case contract.OpSetRole:
		role := g.num(s.Value)
		g.emit(ins{op: opSetRole, a: uint16(role), b: uint8(g.num(s.X))})
	case contract.OpExpel:
		g.emit(ins{op: opExpel, b: uint8(g.num(s.X)), k: index(&g.strings, s.Text)})
	case contract.OpClose:
		g.emit(ins{op: opClose, k: index(&g.strings, s.Text)})
	case contract.OpReply:
		g.emit(ins{op: opReply, a: uint16(g.wide(s.Value)), k: index(&g.types, s.Type)})
	default:
		panic("rules: a statement that the checker never makes")
	}
}

// let translates a declaration into the registers of its local.
func (g *compiler) let(s contract.Stmt) {
	v := s.Value
	switch {
	case v.Type.Holder():
		from := g.place(v)
		if v.Op == contract.OpList || v.Op == contract.OpCopy {
			return // it stands where it is to stand
		}
		to := addr{
			space: inMemory,
			base:  int(s.Num),
			reg:   -1,
			typ:   v.Type,
		}
		g.emit(ins{op: opPutList, c: uint32(add(&g.fetches, from)), k: add(&g.puts, put{to: to})})
	default:
		g.into(v, int(s.Num))
		if v.Type.Form == contract.FormEntity {
			g.emit(ins{op: opEntityID, a: uint16(s.Num + 1), b: uint8(s.Num)})
		}
	}
}

// simple reports whether a property is one number that needs no more than a range.
func simple(x *contract.Expr) bool {
	return x.Op == contract.OpGet && x.Prop != nil && x.Type.Width() == 1 && x.Type.Form != contract.FormText &&
		!x.Type.Holder()
}

// set translates an assignment.
func (g *compiler) set(s contract.Stmt) {
	if !simple(s.X) {
		g.setWide(s)
		return
	}
	p := s.X.Prop
	on := s.X.Args[0]
	to := store{
		index:   p.Index,
		slot:    p.Slot,
		low:     math.MinInt64,
		high:    math.MaxInt64,
		clamped: p.Clamped,
		prop:    p,
	}
	if p.Type.Form == contract.FormInt || p.Type.Counted() {
		to.low = p.Type.Low
		to.high = p.Type.High
	}
	at := uint32(index(&g.stores, to))
	v := s.Value
	if v.Op == contract.OpConst {
		g.emit(ins{
			op: opStoreK,
			b:  uint8(g.entity(on)),
			c:  at,
			k:  v.Num,
		})
		return
	}
	if by, ok := bump(s); ok {
		g.emit(ins{
			op: opBump,
			b:  uint8(g.entity(on)),
			c:  at,
			k:  by,
		})
		return
	}
	value := g.num(v)
	g.emit(ins{
		op: opStore,
		a:  uint16(value),
		b:  uint8(g.entity(on)),
		c:  at,
	})
}

// setWide translates an assignment of a value of several slots.
func (g *compiler) setWide(s contract.Stmt) {
	clamped := s.X.Op == contract.OpGet && s.X.Prop != nil && s.X.Prop.Clamped
	if s.X.Type.Holder() {
		from := g.place(s.Value)
		g.emit(ins{op: opPutList, c: uint32(add(&g.fetches, from)), k: add(&g.puts, put{to: g.place(s.X)})})
		return
	}
	value := g.wide(s.Value)
	to := g.target(s.X)
	g.emit(ins{op: opPutWide, a: uint16(value), k: add(&g.puts, put{to, clamped})})
}

// target is place for what is written: a key of a map that is missing is put in.
func (g *compiler) target(x *contract.Expr) addr {
	to := g.place(x)
	for on := x; ; on = on.Args[0] {
		if on.Op == contract.OpAt && on.Args[0].Type.Form == contract.FormMap {
			for i := len(g.ins) - 1; ; i-- {
				if g.ins[i].op == opKey && int(g.ins[i].a) == to.reg {
					g.ins[i].op = opKeyPut
					return to
				}
			}
		}
		if on.Op != contract.OpField && on.Op != contract.OpReal {
			return to
		}
	}
}

// bump reports whether an assignment adds a constant to what it assigns to.
func bump(s contract.Stmt) (by int64, ok bool) {
	v := s.Value
	if v.Op != contract.OpAdd && v.Op != contract.OpSub || v.Type.Form != contract.FormInt {
		return 0, false
	}
	a := v.Args[0]
	b := v.Args[1]
	if a.Op != contract.OpGet || a.Prop != s.X.Prop || a.Args[0] != s.X.Args[0] || b.Op != contract.OpConst {
		return 0, false
	}
	if v.Op == contract.OpSub {
		return -b.Num, b.Num != math.MinInt64
	}
	return b.Num, true
}

// operand compiles a value that is handed on. want is the type that it is handed on as.
func (g *compiler) operand(x *contract.Expr, want *contract.Type) operand {
	if x.Type.Holder() {
		a := g.place(x)
		return operand{typ: want, list: &a}
	}
	return operand{typ: want, reg: g.wide(x)}
}

// who translates a list of clients.
func (g *compiler) who(terms []contract.Who) []who {
	var out []who
	for _, w := range terms {
		x := who{
			but:  w.But,
			sort: w.Sort,
			role: w.Role,
			aud:  w.Aud,
		}
		if w.X != nil && w.X.Type.Holder() {
			a := g.place(w.X)
			x.list = &a
		} else if w.X != nil {
			x.reg = g.num(w.X)
		}
		for i, a := range w.Args {
			x.args = append(x.args, g.operand(a, w.Aud.Params[i].Type))
		}
		out = append(out, x)
	}
	return out
}

// values computes values into registers of their own.
func (g *compiler) values(args []*contract.Expr) []int {
	var out []int
	for _, a := range args {
		out = append(out, g.wide(a))
	}
	return out
}

// loop begins a loop: start is where it comes round to, next the jump to behind it. Before it lies what is asked of
// each.
func (g *compiler) loop(q *contract.Query) (start, next int) {
	it := iter{
		kinds:   q.Kinds,
		clients: q.Clients,
		within:  -1,
		pos:     q.Pos,
	}
	entities := int64(0)
	width := 1
	switch {
	case q.List != nil:
		it.list = g.place(q.List)
		it.width = q.List.Type.Of.Width()
		if q.List.Type.Form == contract.FormMap {
			it.skip = it.width
			it.width = 1 // the keys
		}
		width = it.width
	case q.Kinds != nil:
		entities = 1
	}
	if q.Within != nil {
		it.within = g.num(q.Within)
		it.of = g.wide(q.Of)
		it.line = q.Of.Type.Form == contract.FormLine
		it.dims = q.Of.Type.Width()
		if it.line {
			it.dims /= 2
		}
	}
	g.emit(ins{op: opIter, k: add(&g.iters, it)})
	next = g.emit(ins{
		op: opNext,
		a:  uint16(q.Var.Num),
		b:  uint8(width),
		k:  entities,
	})
	if q.Var.Type.Form == contract.FormEntity && entities == 0 {
		g.emit(ins{op: opEntityID, a: uint16(q.Var.Num + 1), b: uint8(q.Var.Num)})
	}
	start = next
	if q.Where != nil {
		for _, j := range g.jump(q.Where, false) {
			g.ins[j].c = uint32(start)
		}
	}
	return start, next
}

// query compiles a query into registers from dst.
//
//revive:disable-next-line:function-length It is one switch.
func (g *compiler) query(x *contract.Expr, dst int) {
	q := x.Query
	width := x.Type.Width()
	move := func(to, from, n int) {
		g.emit(ins{
			op: opMoves,
			a:  uint16(to),
			b:  uint8(from),
			k:  int64(n),
		})
	}
	round := func(start int) { g.emit(ins{op: opJump, c: uint32(start)}) }
	// A result that is worked out bit by bit has registers of its own: a query may stand in the place of what it reads.
	switch q.Do {
	case "count":
		n := g.nextNums(1)
		g.emit(ins{op: opConst, a: uint16(n)})
		start, next := g.loop(q)
		g.emit(ins{
			op: opAddK,
			a:  uint16(n),
			b:  uint8(n),
			k:  1,
		})
		round(start)
		g.land([]int{next})
		move(dst, n, 1)
		return
	case "any", "all":
		n := g.nextNums(1)
		found := int64(1)
		if q.Do == "all" {
			found = 0
		}
		g.emit(ins{op: opConst, a: uint16(n), k: 1 - found})
		start, next := g.loop(q)
		if q.Value != nil {
			for _, j := range g.jump(q.Value, q.Do == "all") {
				g.ins[j].c = uint32(start)
			}
		}
		g.emit(ins{op: opConst, a: uint16(n), k: found})
		g.emit(ins{op: opDone})
		g.land([]int{next})
		move(dst, n, 1)
		return
	case "sum":
		n := g.nextNums(width)
		for i := range width {
			g.emit(ins{op: opConst, a: uint16(n + i)})
		}
		start, next := g.loop(q)
		spend := g.spend()
		v := g.wide(q.Value)
		switch {
		case width > 1:
			g.emit(ins{
				op: opVec,
				a:  uint16(n),
				b:  uint8(n),
				c:  uint32(v),
				k:  int64(contract.OpAdd)<<8 | int64(width),
			})
		case x.Type.Form == contract.FormReal:
			g.emit(ins{
				op: opRealAdd,
				a:  uint16(n),
				b:  uint8(n),
				c:  uint32(v),
			})
		default:
			g.emit(ins{
				op: opAdd,
				a:  uint16(n),
				b:  uint8(n),
				c:  uint32(v),
			})
		}
		spend()
		round(start)
		g.land([]int{next})
		move(dst, n, width)
		return
	}
	found := g.nextNums(1)
	out := g.nextNums(width)
	g.emit(ins{op: opConst, a: uint16(found)})
	var best int
	if q.Value != nil {
		best = g.nextNums(1)
	}
	start, next := g.loop(q)
	spend := g.spend()
	switch q.Do {
	case "first":
		move(out, int(q.Var.Num), width)
		g.emit(ins{op: opConst, a: uint16(found), k: 1})
		g.emit(ins{op: opDone})
	case "one":
		second := g.emit(ins{op: opEqK, a: uint16(found), k: 0})
		g.emit(ins{op: opMany})
		g.land([]int{second})
		move(out, int(q.Var.Num), width)
		g.emit(ins{op: opConst, a: uint16(found), k: 1})
		round(start)
	default:
		v := g.num(q.Value)
		better := g.emit(ins{op: opEqK, a: uint16(found), k: 0})
		// Among equals the first one stays.
		low := v
		high := best
		if q.Do == "max" || q.Do == "most" || q.Do == "best" {
			low = best
			high = v
		}
		if q.Value.Type.Form == contract.FormReal {
			t := g.nextNums(1)
			g.emit(ins{
				op: opRealTest,
				a:  uint16(t),
				b:  uint8(low),
				c:  uint32(high),
				k:  2,
			})
			g.emit(ins{
				op: opEqK,
				a:  uint16(t),
				k:  0,
				c:  uint32(start),
			})
		} else {
			g.emit(ins{
				op: opLe,
				a:  uint16(high),
				b:  uint8(low),
				c:  uint32(start),
			})
		}
		g.land([]int{better})
		g.emit(ins{op: opConst, a: uint16(found), k: 1})
		g.emit(ins{op: opMove, a: uint16(best), b: uint8(v)})
		if q.Do == "min" || q.Do == "max" {
			move(out, v, 1)
		} else {
			move(out, int(q.Var.Num), width)
		}
		round(start)
	}
	spend()
	g.land([]int{next})
	some := g.emit(ins{op: opNeK, a: uint16(found), k: 0})
	if q.Else != nil {
		g.into(q.Else, out)
	} else {
		g.emit(ins{op: opNone})
	}
	g.land([]int{some})
	move(dst, out, width)
}

// placed reports whether an expression stands somewhere, so that a part of it can be read alone.
func placed(x *contract.Expr) bool {
	switch x.Op {
	case contract.OpGet, contract.OpTable, contract.OpSetting:
		return true
	case contract.OpAt:
		return true
	case contract.OpField:
		return placed(x.Args[0])
	case contract.OpReal:
		return x.Type.Form == x.Args[0].Type.Form && placed(x.Args[0])
	}
	return false
}

// place returns where a value stands. A list that is written out is put into memory.
func (g *compiler) place(x *contract.Expr) addr {
	switch x.Op {
	case contract.OpGet:
		a := addr{
			entity: g.entity(x.Args[0]),
			prop:   x.Prop,
			props:  x.Props,
			reg:    -1,
			typ:    x.Type,
		}
		if x.Prop != nil {
			a.base = x.Prop.Slot
		}
		return a
	case contract.OpLocal:
		return addr{
			space: inMemory,
			base:  int(x.Num),
			reg:   -1,
			typ:   x.Type,
		}
	case contract.OpTable:
		return addr{
			space: inTable,
			base:  int(x.Num),
			reg:   -1,
			typ:   x.Type,
		}
	case contract.OpSetting:
		return addr{
			space: inSettings,
			base:  int(x.Num),
			reg:   -1,
			typ:   x.Type,
		}
	case contract.OpReveal:
		if g.traced {
			g.into(x, g.nextNums(x.Type.Width()))
		}
		return g.place(x.Args[0])
	case contract.OpReal:
		return g.place(x.Args[0])
	case contract.OpField:
		a := g.place(x.Args[0])
		a.base += int(x.Num)
		a.typ = x.Type
		return a
	case contract.OpAt:
		a := g.place(x.Args[0])
		of := add(&g.fetches, a)
		op := opIndex
		if a.typ.Form == contract.FormMap {
			op = opKey
		}
		key := g.num(x.Args[1])
		a.reg = g.nextNums(1)
		g.emit(ins{
			op: op,
			a:  uint16(a.reg),
			b:  uint8(key),
			k:  of,
		})
		a.typ = x.Type
		return a
	case contract.OpList:
		width := 1
		if x.Type.Of != nil {
			width = x.Type.Of.Width()
		}
		for i, item := range x.Args {
			spend := g.spend()
			g.emit(ins{
				op: opMemory,
				a:  uint16(g.wide(item)),
				c:  uint32(int(x.Num) + 1 + i*width),
				k:  int64(width),
			})
			spend()
		}
		n := g.nextNums(1)
		g.emit(ins{op: opConst, a: uint16(n), k: int64(len(x.Args))})
		g.emit(ins{
			op: opMemory,
			a:  uint16(n),
			c:  uint32(x.Num),
			k:  1,
		})
		return addr{
			space: inMemory,
			base:  int(x.Num),
			reg:   -1,
			typ:   x.Type,
		}
	case contract.OpCopy:
		from := g.place(x.Args[0])
		g.emit(ins{op: opShuffle, c: uint32(x.Num), k: add(&g.fetches, from)})
		return addr{
			space: inMemory,
			base:  int(x.Num),
			reg:   -1,
			typ:   x.Type,
		}
	}
	panic("rules: a place that the checker never makes")
}

// entity returns the register of an entity, which may hold nothing.
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
		g.emit(ins{
			op: opEntityOf,
			a:  uint16(e),
			b:  uint8(client),
			k:  int64(x.Kind.Index),
		})
		return e
	case contract.OpLocal:
		return int(x.Num) + 1
	}
	n := g.num(x)
	e := g.nextEntity()
	g.emit(ins{op: opEntityID, a: uint16(e), b: uint8(n)})
	return e
}

// num returns a register that holds a number.
func (g *compiler) num(x *contract.Expr) int {
	if x.Op == contract.OpLocal {
		return int(x.Num)
	}
	n := g.nextNums(1)
	g.into(x, n)
	return n
}

// wide returns the first of the registers that hold a value.
func (g *compiler) wide(x *contract.Expr) int {
	if x.Op == contract.OpLocal {
		return int(x.Num)
	}
	n := g.nextNums(x.Type.Width())
	g.into(x, n)
	return n
}

var arithmetic = map[contract.Op]op{
	contract.OpAdd: opAdd,
	contract.OpSub: opSub,
	contract.OpMul: opMul,
	contract.OpDiv: opDiv,
	contract.OpMod: opMod,
}

var realArithmetic = map[contract.Op]op{
	contract.OpAdd: opRealAdd,
	contract.OpSub: opRealSub,
	contract.OpMul: opRealMul,
	contract.OpDiv: opRealDiv,
}

// into computes a value into registers from dst.
//
//revive:disable-next-line:function-length It is one switch.
func (g *compiler) into(x *contract.Expr, dst int) {
	defer g.spend()()
	a := uint16(dst)
	width := x.Type.Width()
	switch x.Op {
	case contract.OpConst:
		if x.Nums == nil {
			g.emit(ins{op: opConst, a: a, k: x.Num})
		}
		for i, n := range x.Nums {
			g.emit(ins{op: opConst, a: a + uint16(i), k: n})
		}
	case contract.OpLocal:
		if width == 1 {
			g.emit(ins{op: opMove, a: a, b: uint8(x.Num)})
		} else {
			g.emit(ins{
				op: opMoves,
				a:  a,
				b:  uint8(x.Num),
				k:  int64(width),
			})
		}
	case contract.OpCaller:
		g.emit(ins{op: opCaller, a: a})
	case contract.OpViewer:
		g.emit(ins{op: opViewer, a: a})
	case contract.OpNow:
		g.emit(ins{op: opNow, a: a})
	case contract.OpOwner:
		g.emit(ins{op: opOwner, a: a, b: uint8(g.entity(x.Args[0]))})
	case contract.OpSelf, contract.OpShared, contract.OpEntityOf:
		g.emit(ins{op: opID, a: a, b: uint8(g.entity(x))})
	case contract.OpGet:
		if width > 1 || x.Prop == nil {
			g.emit(ins{op: opFetch, a: a, k: add(&g.fetches, g.place(x))})
			return
		}
		slot := uint32(x.Prop.Slot)
		switch on := x.Args[0]; on.Op {
		case contract.OpSelf:
			g.emit(ins{op: opSelf, a: a, c: slot})
		case contract.OpShared:
			g.emit(ins{
				op: opShared,
				a:  a,
				c:  slot,
				k:  int64(on.Kind.Index),
			})
		default:
			g.emit(ins{
				op: opLoad,
				a:  a,
				b:  uint8(g.entity(on)),
				c:  slot,
				k:  index(&g.props, x.Prop),
			})
		}
	case contract.OpTable, contract.OpSetting, contract.OpAt:
		g.emit(ins{op: opFetch, a: a, k: add(&g.fetches, g.place(x))})
	case contract.OpField:
		if placed(x) {
			g.emit(ins{op: opFetch, a: a, k: add(&g.fetches, g.place(x))})
			return
		}
		on := g.wide(x.Args[0])
		g.emit(ins{
			op: opMoves,
			a:  a,
			b:  uint8(on + int(x.Num)),
			k:  int64(width),
		})
	case contract.OpNumber:
		g.into(x.Args[0], dst)
	case contract.OpReveal:
		g.into(x.Args[0], dst)
		if g.traced {
			r := reveal{
				place:    fmt.Sprint(g.name, " ", g.line, " ", x.Name),
				typ:      x.Type,
				everyone: x.Who == nil,
				who:      g.who(x.Who),
			}
			g.emit(ins{op: opReveal, b: uint8(dst), k: add(&g.reveals, r)})
		}
	case contract.OpRole:
		g.emit(ins{op: opRole, a: a, b: uint8(g.num(x.Args[0]))})
	case contract.OpName:
		g.emit(ins{op: opName, a: a, b: uint8(g.num(x.Args[0]))})
	case contract.OpExists:
		if x.Args[0].Type.Form == contract.FormClient {
			n := g.nextNums(1)
			g.emit(ins{op: opKnown, a: uint16(n), b: uint8(g.num(x.Args[0]))})
			g.emit(ins{op: opConst, a: a, k: 1})
			over := g.emit(ins{op: opGtK, a: uint16(n), k: 0})
			g.emit(ins{op: opConst, a: a})
			g.land([]int{over})
			return
		}
		g.emit(ins{op: opExists, a: a, b: uint8(g.entity(x.Args[0]))})
	case contract.OpNeg:
		v := g.wide(x.Args[0])
		switch {
		case width > 1:
			g.emit(ins{
				op: opVec,
				a:  a,
				b:  uint8(v),
				k:  int64(contract.OpNeg)<<8 | int64(width),
			})
		case x.Type.Form == contract.FormReal:
			g.emit(ins{op: opRealNeg, a: a, b: uint8(v)})
		default:
			g.emit(ins{op: opNeg, a: a, b: uint8(v)})
		}
	case contract.OpReal:
		of := x.Args[0].Type
		op := opWiden
		if of.Form == contract.FormReal {
			op = opReal
		}
		g.emit(ins{
			op: op,
			a:  a,
			b:  uint8(g.wide(x.Args[0])),
			k:  index(&g.types, of),
		})
	case contract.OpSteps:
		op := opNarrow
		if x.Type.Form == contract.FormReal {
			op = opSteps
		}
		g.emit(ins{
			op: op,
			a:  a,
			b:  uint8(g.wide(x.Args[0])),
			k:  index(&g.types, x.Type),
		})
	case contract.OpFromInt:
		g.emit(ins{op: opFromInt, a: a, b: uint8(g.num(x.Args[0]))})
	case contract.OpVec, contract.OpLine, contract.OpRecord:
		// The parts are computed beside it first: one of them may read what stands in dst.
		at := g.nextNums(width)
		to := at
		for _, part := range x.Args {
			g.into(part, to)
			to += part.Type.Width()
		}
		g.emit(ins{
			op: opMoves,
			a:  a,
			b:  uint8(at),
			k:  int64(width),
		})
	case contract.OpPath:
		g.emit(ins{
			op: opPath,
			a:  a,
			b:  uint8(g.entity(x.Args[0])),
			k:  index(&g.props, x.Prop),
		})
	case contract.OpSince:
		g.emit(ins{
			op: opSince,
			a:  a,
			b:  uint8(g.entity(x.Args[0])),
			k:  index(&g.props, x.Prop),
		})
	case contract.OpMath:
		m := maths{name: x.Name}
		for _, arg := range x.Args {
			m.types = append(m.types, arg.Type)
			if arg.Type.Holder() {
				m.list = g.place(arg)
				m.args = append(m.args, 0)
			} else {
				m.args = append(m.args, g.wide(arg))
			}
		}
		g.emit(ins{op: opMath, a: a, k: add(&g.maths, m)})
	case contract.OpClip:
		v := g.num(x.Args[0])
		low := g.nextNums(2)
		g.into(x.Args[1], low)
		g.into(x.Args[2], low+1)
		k := int64(0)
		if x.Type.Form == contract.FormReal {
			k = 1
		}
		g.emit(ins{
			op: opClip,
			a:  a,
			b:  uint8(v),
			c:  uint32(low),
			k:  k,
		})
	case contract.OpRoll:
		low := g.num(x.Args[0])
		high := g.num(x.Args[1])
		g.emit(ins{
			op: opRoll,
			a:  a,
			b:  uint8(low),
			c:  uint32(high),
			k:  g.rolls,
		})
		g.rolls++
	case contract.OpCallFn:
		c := call{fn: x.Fn}
		for i, arg := range x.Args {
			c.args = append(c.args, g.operand(arg, x.Fn.Params[i].Type))
		}
		g.emit(ins{op: opCall, a: a, k: add(&g.calls, c)})
	case contract.OpQuery:
		g.query(x, dst)
	case contract.OpHas, contract.OpCount, contract.OpRoom, contract.OpFind:
		h := holder{op: x.Op, on: g.place(x.Args[0])}
		h.args = g.values(x.Args[1:])
		g.emit(ins{op: opHolder, a: a, k: add(&g.holders, h)})
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

// arithmetic translates an operation on numbers, with its check for overflow or an undefined result, into register
// dst.
func (g *compiler) arithmetic(x *contract.Expr, dst uint16) {
	left := x.Args[0]
	right := x.Args[1]
	if width := x.Type.Width(); width > 1 {
		if left.Type.Width() == 1 { // a number times a vector
			left, right = right, left
		}
		a := g.wide(left)
		g.emit(ins{
			op: opVec,
			a:  dst,
			b:  uint8(a),
			c:  uint32(g.wide(right)),
			k:  int64(x.Op)<<8 | int64(width),
		})
		return
	}
	a := uint8(g.num(left))
	if x.Op == contract.OpMul && alike(left, right) {
		op := opMul
		if x.Type.Form == contract.FormReal {
			op = opRealMul
		}
		g.emit(ins{
			op: op,
			a:  dst,
			b:  a,
			c:  uint32(a),
		})
		return
	}
	if x.Type.Form == contract.FormReal {
		g.emit(ins{
			op: realArithmetic[x.Op],
			a:  dst,
			b:  a,
			c:  uint32(g.num(right)),
		})
		return
	}
	switch {
	case x.Op == contract.OpAdd && right.Op == contract.OpConst:
		g.emit(ins{
			op: opAddK,
			a:  dst,
			b:  a,
			k:  right.Num,
		})
	case x.Op == contract.OpSub && right.Op == contract.OpGet && right.Args[0].Op == contract.OpSelf &&
		right.Prop != nil:
		g.emit(ins{
			op: opSubSelf,
			a:  dst,
			b:  a,
			c:  uint32(right.Prop.Slot),
		})
	default:
		g.emit(ins{
			op: arithmetic[x.Op],
			a:  dst,
			b:  a,
			c:  uint32(g.num(right)),
		})
	}
}

// comparison is a comparison in the machine's forms; the one with the operands exchanged, and the opposite.
var (
	exchanged = map[contract.Op]contract.Op{
		contract.OpEq: contract.OpEq, contract.OpNe: contract.OpNe, contract.OpLt: contract.OpGt,
		contract.OpLe: contract.OpGe,
		contract.OpGt: contract.OpLt, contract.OpGe: contract.OpLe,
	}
	opposite = map[contract.Op]contract.Op{
		contract.OpEq: contract.OpNe, contract.OpNe: contract.OpEq, contract.OpLt: contract.OpGe,
		contract.OpGe: contract.OpLt,
		contract.OpLe: contract.OpGt, contract.OpGt: contract.OpLe,
	}
	withRegister = map[contract.Op]op{
		contract.OpEq: opEq,
		contract.OpNe: opNe,
		contract.OpLt: opLt,
		contract.OpLe: opLe,
	}
	withConst = map[contract.Op]op{
		contract.OpEq: opEqK, contract.OpNe: opNeK, contract.OpLt: opLtK, contract.OpLe: opLeK, contract.OpGt: opGtK,
		contract.OpGe: opGeK,
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
	case contract.OpReveal:
		if !g.traced {
			return g.jump(x.Args[0], sense)
		}
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
	if x.Op == contract.OpGet && x.Args[0].Op == contract.OpSelf && x.Prop != nil {
		return ins{op: op + opSelfEqK - opEqK, a: uint16(x.Prop.Slot), k: k}
	}
	if x.Op == contract.OpGet && x.Args[0].Op == contract.OpShared && x.Prop != nil && (op == opEqK || op == opNeK) {
		return ins{
			op: op + opSharedEqK - opEqK,
			a:  uint16(x.Prop.Slot),
			b:  uint8(x.Args[0].Kind.Index),
			k:  k,
		}
	}
	return ins{op: op, a: uint16(g.num(x)), k: k}
}

// alike reports whether two expressions surely give the same number, so that a square is computed from one of them.
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
func (g *compiler) compare(x *contract.Expr, sense bool) []int {
	op := x.Op
	if !sense {
		op = opposite[op]
	}
	a := x.Args[0]
	b := x.Args[1]
	// test jumps when what was computed is as op says of equality.
	test := func(n int) []int {
		jump := opNeK
		if op == contract.OpNe {
			jump = opEqK
		}
		return []int{g.emit(ins{op: jump, a: uint16(n)})}
	}
	switch form := a.Type.Form; {
	case a.Type.Width() > 1:
		same := opSame
		if a.Type.Reals() > 0 && !a.Type.Counted() {
			same = opSameReal
		}
		n := g.nextNums(1)
		left := g.wide(a)
		g.emit(ins{
			op: same,
			a:  uint16(n),
			b:  uint8(left),
			c:  uint32(g.wide(b)),
			k:  int64(a.Type.Width()),
		})
		return test(n)
	case form == contract.FormReal:
		if op == contract.OpGt || op == contract.OpGe {
			a, b, op = b, a, exchanged[op]
		}
		test := map[contract.Op]int64{contract.OpEq: 0, contract.OpNe: 1, contract.OpLt: 2, contract.OpLe: 3}[op]
		n := g.nextNums(1)
		left := g.num(a)
		g.emit(ins{
			op: opRealTest,
			a:  uint16(n),
			b:  uint8(left),
			c:  uint32(g.num(b)),
			k:  test,
		})
		return []int{g.emit(ins{op: opNeK, a: uint16(n)})}
	case form == contract.FormEntity && b.Op == contract.OpConst:
		n := g.nextNums(1)
		g.emit(ins{op: opExists, a: uint16(n), b: uint8(g.entity(a))})
		jump := opEqK
		if op == contract.OpNe {
			jump = opNeK
		}
		return []int{g.emit(ins{op: jump, a: uint16(n)})}
	case form == contract.FormEntity:
		n := g.nextNums(2)
		g.emit(ins{op: opID, a: uint16(n), b: uint8(g.entity(a))})
		g.emit(ins{op: opID, a: uint16(n + 1), b: uint8(g.entity(b))})
		return []int{g.emit(ins{op: withRegister[op], a: uint16(n), b: uint8(n + 1)})}
	case form == contract.FormClient && b.Op == contract.OpConst && b.Num == contract.Nothing:
		n := g.nextNums(1)
		g.emit(ins{op: opKnown, a: uint16(n), b: uint8(g.num(a))})
		return []int{g.emit(ins{op: withConst[op], a: uint16(n), k: contract.Nothing})}
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
