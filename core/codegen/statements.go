package codegen

import (
	"math"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
)

// block translates statements one after the other.
func (g *compiler) block(stmts []contract.Stmt) {
	for _, s := range stmts {
		g.stmt(s)
	}
}

// begin notes where in the source the code that follows comes from.
//
// No register in between outlives its statement: all are free again.
func (g *compiler) begin(s contract.Stmt) {
	g.line = s.Line
	g.usedNums = 0
	g.usedEnts = 0
}

// stmt translates one statement.
//
// What stands in an inner block begins its own statements and takes the same registers again. Loops
// keep what they need in the machine, not in registers in between.
func (g *compiler) stmt(s contract.Stmt) {
	g.begin(s)
	switch s.Op {
	case contract.OpLet, contract.OpVar, contract.OpAssign:
		g.let(s)
	case contract.OpSet:
		g.set(s)
	case contract.OpPut, contract.OpTake, contract.OpCut, contract.OpClear, contract.OpMove, contract.OpSplit,
		contract.OpPutAt, contract.OpTakeAt, contract.OpMoveAt:
		h := bytecode.ContainerCall{Op: s.Op, Container: g.place(s.X)}
		if s.To != nil {
			h.Destination = g.place(s.To)
		}
		h.Args = g.values(s.Args)
		g.emit(bytecode.OpHolder, operands{k: add(&g.Containers, h)})
	case contract.OpIf:
		no := g.jump(s.Value, false)
		g.block(s.Then)
		if s.Else != nil {
			over := g.emit(bytecode.OpJump, operands{})
			g.land(no)
			g.block(s.Else)
			no = []int{over}
		}
		g.land(no)
	case contract.OpFor:
		start, next := g.loop(s.Query)
		g.block(s.Then)
		g.emit(bytecode.OpJump, operands{c: start})
		g.land([]int{next})
	case contract.OpSort:
		g.sort(s)
	case contract.OpDeny:
		g.emit(bytecode.OpDeny, operands{k: index(&g.Strings, s.Text)})
	case contract.OpReturn:
		g.emit(bytecode.OpEnd, operands{})
	case contract.OpTell:
		g.tell(s)
	case contract.OpLog:
		g.log(s)
	case contract.OpRun:
		g.runAction(s)
	case contract.OpSpawn:
		g.spawn(s)
	case contract.OpDespawn:
		g.emit(bytecode.OpDespawn, operands{b: g.entity(s.X)})
	case contract.OpGive:
		to := g.num(s.Value)
		g.emit(bytecode.OpGive, operands{a: to, b: g.entity(s.X)})
	case contract.OpSetRole:
		role := g.num(s.Value)
		g.emit(bytecode.OpSetRole, operands{a: role, b: g.num(s.X)})
	case contract.OpExpel, contract.OpClose, contract.OpSend:
		g.end(s)
	case contract.OpReply:
		g.emit(bytecode.OpReply, operands{a: g.wide(s.Value), k: index(&g.Types, s.Type)})
	default:
		panic("codegen: a statement that the checker never makes")
	}
}

// end translates what ends a client's seat, or all.
func (g *compiler) end(s contract.Stmt) {
	switch s.Op {
	case contract.OpExpel:
		g.emit(bytecode.OpExpel, operands{b: g.num(s.X), k: index(&g.Strings, s.Text)})
	case contract.OpClose:
		g.close(s)
	case contract.OpSend:
		g.send(s)
	}
}

// close translates a `close`, with the session's result if it has one.
func (g *compiler) close(s contract.Stmt) {
	if s.Value != nil {
		g.emit(bytecode.OpResult, operands{a: g.wide(s.Value), k: index(&g.Types, s.Type)})
	}
	g.emit(bytecode.OpClose, operands{k: index(&g.Strings, s.Text)})
}

// send translates a `send`.
func (g *compiler) send(s contract.Stmt) {
	x := bytecode.Send{Exit: s.Exit, Client: g.num(s.X), Key: -1}
	if s.Value != nil {
		x.Key = g.num(s.Value)
	}
	for i, a := range s.Args {
		x.Args = append(x.Args, g.operand(a, s.Exit.Params[i].Type))
	}
	g.emit(bytecode.OpSend, operands{k: add(&g.Sends, x)})
}

// tell translates a `tell`.
//
// The values are computed first and the terms last; neither can change anything.
func (g *compiler) tell(s contract.Stmt) {
	t := bytecode.Tell{Event: s.Event, Entity: -1, Everyone: len(s.Who) == 1 && s.Who[0].Sort == contract.ToEveryone}
	if s.X != nil {
		t.Entity = g.entity(s.X)
	}
	for i, a := range s.Args {
		t.Args = append(t.Args, g.operand(a, s.Event.Params[i].Type))
	}
	t.Terms = g.who(s.Who)
	g.emit(bytecode.OpTell, operands{k: add(&g.Tells, t)})
}

// log translates a `log`.
func (g *compiler) log(s contract.Stmt) {
	l := bytecode.Log{Words: s.Words}
	for _, a := range s.Args {
		l.Args = append(l.Args, g.operand(a, a.Type))
	}
	l.Terms = g.who(s.Who)
	g.emit(bytecode.OpLog, operands{k: add(&g.Logs, l)})
}

// runAction translates a `do`, which runs an action now or some ticks later.
//
// The entity is found after the arguments are computed, so that it is looked up as late as can be.
func (g *compiler) runAction(s contract.Stmt) {
	c := bytecode.Call{Action: s.Act}
	for i, a := range s.Args {
		c.Args = append(c.Args, g.operand(a, s.Act.Params[i].Type))
	}
	op := bytecode.OpRun
	wait := 0
	if s.Later() {
		op = bytecode.OpDelay
	}
	if s.Value != nil {
		wait = g.num(s.Value)
	}
	g.emit(op, operands{a: wait, b: g.entity(s.X), c: int(s.Num), k: add(&g.Calls, c)})
}

// sort translates a `sort`: a loop over the values of the list notes what decides the place of each, and the machine
// puts them in order.
func (g *compiler) sort(s contract.Stmt) {
	g.emit(bytecode.OpSortBegin, operands{})
	start, next := g.loop(s.Query)
	spend := g.spend()
	g.emit(bytecode.OpSortKey, operands{b: g.num(s.Value)})
	spend()
	g.emit(bytecode.OpJump, operands{c: start})
	g.land([]int{next})
	reals := 0
	if s.Value.Type.Form == contract.FormReal {
		reals = 1
	}
	list := bytecode.ContainerCall{Op: s.Op, Container: g.place(s.X)}
	g.emit(bytecode.OpSort, operands{c: reals, k: add(&g.Containers, list)})
}

// spawn translates a `spawn`.
//
// Where the kind is known only when it runs, the properties of all kinds that it may be have one type,
// which the first one stands for.
func (g *compiler) spawn(s contract.Stmt) {
	sp := bytecode.Spawn{Kinds: s.Kinds, Which: -1, Local: int(s.Num)}
	if s.Value != nil {
		sp.Which = g.num(s.Value)
	}
	for _, v := range s.Sets {
		value := g.operand(v.Value, v.Props[s.Kinds[0].Index].Type)
		sp.Sets = append(sp.Sets, bytecode.Assignment{Properties: v.Props, Value: value})
	}
	g.emit(bytecode.OpSpawn, operands{k: add(&g.Spawns, sp)})
}

// let translates a declaration into the registers of its local.
func (g *compiler) let(s contract.Stmt) {
	v := s.Value
	switch {
	case v.Type.Holder():
		from := g.place(v)
		if v.Op == contract.OpList || v.Op == contract.OpCopy || v.Op == contract.OpRoute {
			return // it stands where it is to stand
		}
		to := bytecode.Address{
			Space: bytecode.InMemory,
			Base:  int(s.Num),
			Index: -1,
			Type:  v.Type,
		}
		fetch := add(&g.Fetches, from)
		g.emit(bytecode.OpPutList, operands{c: int(fetch), k: add(&g.Puts, bytecode.Target{Address: to})})
	default:
		g.into(v, int(s.Num))
		if v.Type.Form == contract.FormEntity {
			g.emit(bytecode.OpEntityID, operands{a: int(s.Num) + 1, b: int(s.Num)})
		}
	}
}

// simple reports whether a property is one number that needs no more than a range.
//
// A text is one number as well, but its length and characters have to be checked.
func simple(x *contract.Expr) bool {
	return x.Op == contract.OpGet && x.Prop != nil && x.Type.Width() == 1 && x.Type.Form != contract.FormText &&
		!x.Type.Holder()
}

// set translates an assignment.
//
// The range travels with the instruction: without one it is that of all 64 bits. Adding a constant to a
// property is one instruction that reads, adds, checks and writes.
func (g *compiler) set(s contract.Stmt) {
	if !simple(s.X) {
		g.setWide(s)
		return
	}
	p := s.X.Prop
	on := s.X.Args[0]
	to := bytecode.Store{
		Index:    p.Index,
		Slot:     p.Slot,
		Low:      math.MinInt64,
		High:     math.MaxInt64,
		TakesAll: p.TakesAll(),
		Property: p,
	}
	if p.Type.Whole() || p.Type.Counted() {
		to.Low = p.Type.Low
		to.High = p.Type.High
	}
	at := int(index(&g.Stores, to))
	v := s.Value
	if v.Op == contract.OpConst {
		g.emit(bytecode.OpStoreK, operands{b: g.entity(on), c: at, k: v.Num})
		return
	}
	if by, ok := bump(s); ok {
		g.emit(bytecode.OpBump, operands{b: g.entity(on), c: at, k: by})
		return
	}
	value := g.num(v)
	g.emit(bytecode.OpStore, operands{a: value, b: g.entity(on), c: at})
}

// setWide translates an assignment of a value of several slots.
func (g *compiler) setWide(s contract.Stmt) {
	// A list within another value goes by way of registers: to make room for its key would move what stands in the map.
	if s.X.Type.Holder() && s.X.Op == contract.OpGet {
		from := g.place(s.Value)
		fetch := add(&g.Fetches, from) // before the place: the order of the tables is part of what dice roll
		to := bytecode.Target{Address: g.place(s.X)}
		g.emit(bytecode.OpPutList, operands{c: int(fetch), k: add(&g.Puts, to)})
		return
	}
	value := g.wide(s.Value)
	to := g.target(s.X)
	g.emit(bytecode.OpPutWide, operands{a: value, k: add(&g.Puts, bytecode.Target{Address: to})})
}

// target is place for what is written: a key of a map that is missing is put in. A part of a value is written only
// where the value is: a key that was put in for it would have nothing in its other parts.
//
// element has emitted a lookup that fails for a missing key; the last one for this address is turned into one that
// makes room.
func (g *compiler) target(x *contract.Expr) bytecode.Address {
	to := g.place(x)
	for on := x; ; on = on.Args[0] {
		if on.Op == contract.OpAt && on.Args[0].Type.Form == contract.FormMap {
			for i := len(g.Instructions) - 1; ; i-- {
				if g.Instructions[i].Op == bytecode.OpKey && int(g.Instructions[i].A) == to.Index {
					g.Instructions[i].Op = bytecode.OpKeyPut
					return to
				}
			}
		}
		if on.Op != contract.OpReal {
			return to
		}
	}
}

// bump reports whether an assignment adds a constant to what it assigns to.
func bump(s contract.Stmt) (by int64, ok bool) {
	v := s.Value
	if v.Op != contract.OpAdd && v.Op != contract.OpSub || !v.Type.Whole() {
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
//
// A list is handed on by its address and copied by the machine.
func (g *compiler) operand(x *contract.Expr, want *contract.Type) bytecode.Operand {
	if x.Type.Holder() {
		a := g.place(x)
		return bytecode.Operand{Type: want, List: &a}
	}
	return bytecode.Operand{Type: want, Register: g.wide(x)}
}

// who translates a list of clients.
//
// What terms compute is computed once, before any client is asked about.
func (g *compiler) who(terms []contract.Who) []bytecode.Term {
	var out []bytecode.Term
	for _, w := range terms {
		x := bytecode.Term{
			But:      w.But,
			Sort:     w.Sort,
			Role:     w.Role,
			Audience: w.Aud,
		}
		if w.X != nil && w.X.Type.Holder() {
			a := g.place(w.X)
			x.List = &a
		} else if w.X != nil {
			x.Register = g.num(w.X)
		}
		for i, a := range w.Args {
			x.Args = append(x.Args, g.operand(a, w.Aud.Params[i].Type))
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
