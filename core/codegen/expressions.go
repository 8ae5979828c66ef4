package codegen

import (
	"fmt"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
)

// placed reports whether an expression stands somewhere, so that a part of it can be read alone.
//
// Else the whole value is computed into registers and the part is copied from there.
func placed(x *contract.Expr) bool {
	switch x.Op {
	case contract.OpGet, contract.OpTable, contract.OpSetting:
		return true
	case contract.OpAt:
		return true
	case contract.OpField:
		return placed(x.Args[0])
	case contract.OpReal:
		// A direction is one number where it stands and two in registers: it has no part to read alone.
		return x.Type.Form == x.Args[0].Type.Form && placed(x.Args[0])
	}
	return false
}

// place returns where a value stands. A list that is written out, or shuffled, is put into memory; what stands nowhere
// is computed into registers.
//
// It emits what it takes to get there: entities are found, places in lists and keys in maps are looked
// up. The address holds as long as the registers that it names, so it has to be used within the
// statement.
func (g *compiler) place(x *contract.Expr) bytecode.Address {
	switch x.Op {
	case contract.OpGet:
		a := bytecode.Address{
			Entity:   g.entity(x.Args[0]),
			Property: x.Prop,
			ByKind:   x.Props,
			Index:    -1,
			Type:     x.Type,
		}
		if x.Prop != nil {
			a.Base = x.Prop.Slot
		}
		return a
	case contract.OpLocal:
		if !x.Type.Holder() {
			return fixedPlace(bytecode.InRegisters, x)
		}
		return fixedPlace(bytecode.InMemory, x)
	case contract.OpTable:
		return fixedPlace(bytecode.InTable, x)
	case contract.OpSetting:
		return fixedPlace(bytecode.InSettings, x)
	case contract.OpReveal:
		if g.traced {
			g.into(x, g.nextNums(x.Type.Width()))
		}
		return g.place(x.Args[0])
	case contract.OpReal:
		return g.place(x.Args[0])
	case contract.OpField:
		a := g.place(x.Args[0])
		a.Base += int(x.Num)
		a.Type = x.Type
		return a
	case contract.OpAt:
		return g.element(x)
	case contract.OpList:
		g.listInMemory(x)
		return fixedPlace(bytecode.InMemory, x)
	case contract.OpCopy:
		from := g.place(x.Args[0])
		g.emit(bytecode.OpShuffle, operands{c: int(x.Num), k: add(&g.Fetches, from)})
		return fixedPlace(bytecode.InMemory, x)
	}
	if x.Op == contract.OpRoute {
		r := bytecode.Route{From: g.num(x.Args[0]), To: g.num(x.Args[1])}
		r.Places = g.place(x.Args[2])
		r.Links = g.place(x.Args[3])
		g.emit(bytecode.OpRoute, operands{c: int(x.Num), k: add(&g.Routes, r)})
		return fixedPlace(bytecode.InMemory, x)
	}
	if !x.Type.Holder() { // what a function or query gives, to read a list in it
		return bytecode.Address{
			Space: bytecode.InRegisters,
			Base:  g.wide(x),
			Index: -1,
			Type:  x.Type,
		}
	}
	panic("codegen: a place that the checker never makes")
}

// element returns where a value of a list or map stands: it looks up the place or the key.
func (g *compiler) element(x *contract.Expr) bytecode.Address {
	a := g.place(x.Args[0])
	of := add(&g.Fetches, a)
	op := bytecode.OpIndex
	if a.Type.Form == contract.FormMap {
		op = bytecode.OpKey
	}
	key := g.num(x.Args[1])
	// The offset within the list or map, which is known only when it runs.
	outer := a.Index
	a.Index = g.nextNums(1)
	g.emit(op, operands{a: a.Index, b: key, k: of})
	if outer >= 0 { // of a list within another value: from the start of that one
		g.emit(bytecode.OpAdd, operands{a: a.Index, b: a.Index, c: outer})
	}
	a.Type = x.Type
	return a
}

// fixedPlace returns the place of what stands at the same offset of a space each time.
func fixedPlace(in bytecode.Space, x *contract.Expr) bytecode.Address {
	return bytecode.Address{
		Space: in,
		Base:  int(x.Num),
		Index: -1,
		Type:  x.Type,
	}
}

// listInMemory writes a list that is written out into memory: how many values it has, then the values.
//
// The length is written last, when all values are in their places.
func (g *compiler) listInMemory(x *contract.Expr) {
	width := 1
	if x.Type.Of != nil {
		width = x.Type.Of.Width()
	}
	at := int(x.Num)
	for i, item := range x.Args {
		spend := g.spend()
		g.emit(bytecode.OpMemory, operands{a: g.wide(item), c: at + 1 + i*width, k: int64(width)})
		spend()
	}
	n := g.nextNums(1)
	g.emit(bytecode.OpConst, operands{a: n, k: int64(len(x.Args))})
	g.emit(bytecode.OpMemory, operands{a: n, c: at, k: 1})
}

// entity returns the register of an entity, which may hold nothing.
//
// Self is in register 0 and a local's entity beside its number: neither costs an instruction.
func (g *compiler) entity(x *contract.Expr) int {
	switch x.Op {
	case contract.OpSelf:
		return 0
	case contract.OpShared:
		e := g.nextEntity()
		g.emit(bytecode.OpEntityShared, operands{a: e, k: int64(x.Kind.Index)})
		return e
	case contract.OpEntityOf:
		client := g.num(x.Args[0])
		e := g.nextEntity()
		g.emit(bytecode.OpEntityOf, operands{a: e, b: client, k: int64(x.Kind.Index)})
		return e
	case contract.OpLocal:
		return int(x.Num) + 1
	}
	n := g.num(x)
	e := g.nextEntity()
	g.emit(bytecode.OpEntityID, operands{a: e, b: n})
	return e
}

// num returns a register that holds a number.
//
// It is the local's own register for a local, which must not be written to.
func (g *compiler) num(x *contract.Expr) int {
	if x.Op == contract.OpLocal {
		return int(x.Num)
	}
	n := g.nextNums(1)
	g.into(x, n)
	return n
}

// wide returns the first of the registers that hold a value. A list, which stands in memory, is copied to registers.
func (g *compiler) wide(x *contract.Expr) int {
	if x.Op == contract.OpLocal && !x.Type.Holder() {
		return int(x.Num)
	}
	n := g.nextNums(x.Type.Width())
	g.into(x, n)
	return n
}

var arithmetic = map[contract.Op]bytecode.Op{
	contract.OpAdd: bytecode.OpAdd,
	contract.OpSub: bytecode.OpSub,
	contract.OpMul: bytecode.OpMul,
	contract.OpDiv: bytecode.OpDiv,
	contract.OpMod: bytecode.OpMod,
}

var realArithmetic = map[contract.Op]bytecode.Op{
	contract.OpAdd: bytecode.OpRealAdd,
	contract.OpSub: bytecode.OpRealSub,
	contract.OpMul: bytecode.OpRealMul,
	contract.OpDiv: bytecode.OpRealDiv,
}

// into computes a value into registers from dst.
//
// dst may be the register of a local that x reads, so nothing is written there before all of x is
// computed, but for values that read nothing. All registers that were taken on the way are free again
// at the end.
//
//revive:disable-next-line:function-length It is one switch.
func (g *compiler) into(x *contract.Expr, dst int) {
	defer g.spend()()
	width := x.Type.Width()
	if x.Type.Holder() {
		fetch := add(&g.Fetches, g.place(x))
		to := bytecode.Address{Space: bytecode.InRegisters, Base: dst, Index: -1, Type: x.Type}
		g.emit(bytecode.OpPutList, operands{c: int(fetch), k: add(&g.Puts, bytecode.Target{Address: to})})
		return
	}
	switch x.Op {
	case contract.OpConst:
		if x.Nums == nil {
			g.emit(bytecode.OpConst, operands{a: dst, k: x.Num})
		}
		for i, n := range x.Nums {
			g.emit(bytecode.OpConst, operands{a: dst + i, k: n})
		}
	case contract.OpLocal:
		if width == 1 {
			g.emit(bytecode.OpMove, operands{a: dst, b: int(x.Num)})
		} else {
			g.move(dst, int(x.Num), width)
		}
	case contract.OpCaller:
		g.emit(bytecode.OpCaller, operands{a: dst})
	case contract.OpViewer:
		g.emit(bytecode.OpViewer, operands{a: dst})
	case contract.OpNow:
		g.emit(bytecode.OpNow, operands{a: dst})
	case contract.OpLogic:
		g.emit(bytecode.OpLogic, operands{a: dst})
	case contract.OpOwner:
		g.emit(bytecode.OpOwner, operands{a: dst, b: g.entity(x.Args[0])})
	case contract.OpSelf, contract.OpShared, contract.OpEntityOf:
		g.emit(bytecode.OpID, operands{a: dst, b: g.entity(x)})
	case contract.OpGet:
		g.property(x, dst)
	case contract.OpComputed:
		g.computed(x, dst)
	case contract.OpTable, contract.OpSetting, contract.OpAt:
		g.emit(bytecode.OpFetch, operands{a: dst, k: add(&g.Fetches, g.place(x))})
	case contract.OpField:
		if placed(x) {
			g.emit(bytecode.OpFetch, operands{a: dst, k: add(&g.Fetches, g.place(x))})
			return
		}
		on := g.wide(x.Args[0])
		g.move(dst, on+int(x.Num), width)
	case contract.OpNumber:
		g.into(x.Args[0], dst)
	case contract.OpReveal:
		g.reveal(x, dst)
	case contract.OpRole:
		g.emit(bytecode.OpRole, operands{a: dst, b: g.num(x.Args[0])})
	case contract.OpName:
		g.emit(bytecode.OpName, operands{a: dst, b: g.num(x.Args[0])})
	case contract.OpExists:
		g.exists(x.Args[0], dst)
	case contract.OpNeg:
		g.negate(x, dst)
	case contract.OpReal:
		of := x.Args[0].Type
		op := bytecode.OpWiden
		if of.Form == contract.FormReal {
			op = bytecode.OpReal
		}
		g.emit(op, operands{a: dst, b: g.wide(x.Args[0]), k: index(&g.Types, of)})
	case contract.OpSteps:
		op := bytecode.OpNarrow
		if x.Type.Form == contract.FormReal {
			op = bytecode.OpSteps
		}
		g.emit(op, operands{a: dst, b: g.wide(x.Args[0]), k: index(&g.Types, x.Type)})
	case contract.OpFromInt:
		g.emit(bytecode.OpFromInt, operands{a: dst, b: g.num(x.Args[0])})
	case contract.OpVec, contract.OpLine, contract.OpRecord:
		// The parts are computed beside it first: one of them may read what stands in dst.
		at := g.nextNums(width)
		to := at
		for _, part := range x.Args {
			g.into(part, to)
			to += part.Type.Width()
		}
		g.move(dst, at, width)
	case contract.OpPath:
		g.emit(bytecode.OpPath, operands{a: dst, b: g.entity(x.Args[0]), k: index(&g.Properties, x.Prop)})
	case contract.OpSeen:
		property := int64(-1)
		if x.Prop != nil {
			property = index(&g.Properties, x.Prop)
		}
		client := g.num(x.Args[0])
		g.emit(bytecode.OpSeen, operands{a: dst, b: g.entity(x.Args[1]), c: client, k: property})
	case contract.OpSince:
		g.emit(bytecode.OpSince, operands{a: dst, b: g.entity(x.Args[0]), k: index(&g.Properties, x.Prop)})
	case contract.OpWords:
		w := bytecode.Words{Words: x.Words}
		for _, a := range x.Args {
			w.Args = append(w.Args, bytecode.Operand{Type: a.Type, Register: g.wide(a)})
		}
		g.emit(bytecode.OpWords, operands{a: dst, k: add(&g.Texts, w)})
	case contract.OpOrder:
		first := g.num(x.Args[0])
		g.emit(bytecode.OpOrder, operands{a: dst, b: first, c: g.num(x.Args[1])})
	case contract.OpPublic:
		g.emit(bytecode.OpPublic, operands{a: dst, b: g.entity(x.Args[0])})
	case contract.OpLength:
		g.emit(bytecode.OpLength, operands{a: dst, b: g.num(x.Args[0])})
	case contract.OpMade:
		g.emit(bytecode.OpMade, operands{a: dst, b: g.num(x.Args[0]), k: index(&g.Strings, x.Name)})
	case contract.OpMath:
		g.math(x, dst)
	case contract.OpClip:
		g.clip(x, dst)
	case contract.OpRoll:
		low := g.num(x.Args[0])
		high := g.num(x.Args[1])
		g.emit(bytecode.OpRoll, operands{a: dst, b: low, c: high, k: g.rolls})
		g.rolls++
	case contract.OpCallFn:
		g.callFunction(x, dst)
	case contract.OpQuery:
		g.query(x, dst)
	case contract.OpChoose:
		g.choose(x, dst)
	case contract.OpHas, contract.OpCount, contract.OpRoom, contract.OpFind, contract.OpItemAt, contract.OpCountAt,
		contract.OpCanSplit:
		h := bytecode.ContainerCall{Op: x.Op, Container: g.place(x.Args[0])}
		h.Args = g.values(x.Args[1:])
		g.emit(bytecode.OpHolder, operands{a: dst, k: add(&g.Containers, h)})
	case contract.OpAdd, contract.OpSub, contract.OpMul, contract.OpDiv, contract.OpMod:
		g.arithmetic(x, dst)
	default: // a condition as a value
		yes := g.jump(x, true)
		g.emit(bytecode.OpConst, operands{a: dst})
		// 0 has been written by now, and the next instruction is for 1.
		over := g.emit(bytecode.OpJump, operands{})
		g.land(yes)
		g.emit(bytecode.OpConst, operands{a: dst, k: 1})
		g.land([]int{over})
	}
}

// property computes a property of an entity.
//
// A property of one slot has an instruction of its own for self, for a shared entity and for any other;
// what is wider, or differs by kind, goes by its address.
func (g *compiler) property(x *contract.Expr, dst int) {
	if x.Type.Width() > 1 || x.Prop == nil {
		g.emit(bytecode.OpFetch, operands{a: dst, k: add(&g.Fetches, g.place(x))})
		return
	}
	slot := x.Prop.Slot
	switch on := x.Args[0]; on.Op {
	case contract.OpSelf:
		g.emit(bytecode.OpSelf, operands{a: dst, c: slot})
	case contract.OpShared:
		g.emit(bytecode.OpShared, operands{a: dst, c: slot, k: int64(on.Kind.Index)})
	default:
		g.emit(bytecode.OpLoad, operands{a: dst, b: g.entity(on), c: slot, k: index(&g.Properties, x.Prop)})
	}
}

// computed computes a computed property of an entity.
//
// Its slot in the row holds the value as of the end of the last transaction. In a body that would be too
// old: it is computed anew.
func (g *compiler) computed(x *contract.Expr, dst int) {
	of := bytecode.Computed{Properties: x.Props, Width: x.Type.Width()}
	if of.Properties == nil {
		k := x.Args[0].Type.Kinds[0]
		of.Properties = make([]*contract.Property, k.Index+1)
		of.Properties[k.Index] = x.Prop
	}
	g.emit(bytecode.OpCompute, operands{a: dst, b: g.entity(x.Args[0]), k: add(&g.Computed, of)})
}

// exists computes whether an entity or client is there.
//
// OpKnown gives −1 for a client that is gone. The server is no client, so only numbers above 0 are
// there.
func (g *compiler) exists(x *contract.Expr, dst int) {
	if x.Type.Form != contract.FormClient {
		g.emit(bytecode.OpExists, operands{a: dst, b: g.entity(x)})
		return
	}
	n := g.nextNums(1)
	g.emit(bytecode.OpKnown, operands{a: n, b: g.num(x)})
	g.emit(bytecode.OpConst, operands{a: dst, k: 1})
	over := g.emit(bytecode.OpGtK, operands{a: n, k: 0})
	g.emit(bytecode.OpConst, operands{a: dst})
	g.land([]int{over})
}

// negate computes the negative of a number or vector.
func (g *compiler) negate(x *contract.Expr, dst int) {
	width := x.Type.Width()
	v := g.wide(x.Args[0])
	switch {
	case width > 1:
		g.emit(bytecode.OpVec, operands{a: dst, b: v, k: vectorOperation(contract.OpNeg, width)})
	case x.Type.Form == contract.FormReal:
		g.emit(bytecode.OpRealNeg, operands{a: dst, b: v})
	default:
		g.emit(bytecode.OpNeg, operands{a: dst, b: v})
	}
}

// math computes a function of reals.
//
// A list stays where it is; the machine gets its address.
func (g *compiler) math(x *contract.Expr, dst int) {
	m := bytecode.MathCall{Name: x.Name}
	for _, arg := range x.Args {
		m.Types = append(m.Types, arg.Type)
		if arg.Type.Holder() {
			m.List = g.place(arg)
			m.Args = append(m.Args, 0)
		} else {
			m.Args = append(m.Args, g.wide(arg))
		}
	}
	g.emit(bytecode.OpMath, operands{a: dst, k: add(&g.Maths, m)})
}

// choose computes one of two values. The other one is not computed.
func (g *compiler) choose(x *contract.Expr, dst int) {
	other := g.jump(x.Args[0], false)
	g.into(x.Args[1], dst)
	end := g.emit(bytecode.OpJump, operands{})
	g.land(other)
	g.into(x.Args[2], dst)
	g.land([]int{end})
}

// clip computes a number within a range.
//
// The bounds stand side by side, because the instruction has room for one register of them.
func (g *compiler) clip(x *contract.Expr, dst int) {
	v := g.num(x.Args[0])
	low := g.nextNums(2)
	g.into(x.Args[1], low)
	g.into(x.Args[2], low+1)
	k := int64(0)
	if x.Type.Form == contract.FormReal {
		k = 1
	}
	g.emit(bytecode.OpClip, operands{a: dst, b: v, c: low, k: k})
}

// reveal computes a value that clients may learn; traced code notes who they are.
//
// The note is keyed by the piece, the line and the text of what is revealed, so that two sessions of
// one contract can be compared.
func (g *compiler) reveal(x *contract.Expr, dst int) {
	g.into(x.Args[0], dst)
	if g.traced {
		r := bytecode.Reveal{
			Place:    fmt.Sprint(g.Name, " ", g.line, " ", x.Name),
			Type:     x.Type,
			Everyone: x.Who == nil,
			Terms:    g.who(x.Who),
		}
		g.emit(bytecode.OpReveal, operands{b: dst, k: add(&g.Reveals, r)})
	}
}

// callFunction calls a function of the contract.
func (g *compiler) callFunction(x *contract.Expr, dst int) {
	c := bytecode.Call{Function: x.Fn}
	for i, arg := range x.Args {
		c.Args = append(c.Args, g.operand(arg, x.Fn.Params[i].Type))
	}
	g.emit(bytecode.OpCall, operands{a: dst, k: add(&g.Calls, c)})
}

// vectorOperation returns the constant of OpVec for an operation on vectors of some width.
func vectorOperation(op contract.Op, width int) int64 { return int64(op)<<8 | int64(width) }

// arithmetic translates an operation on numbers, with its check for overflow or an undefined result, into register
// dst.
//
// The usual forms have instructions that take a constant, or a property of self, in place of a
// register.
func (g *compiler) arithmetic(x *contract.Expr, dst int) {
	left := x.Args[0]
	right := x.Args[1]
	if width := x.Type.Width(); width > 1 {
		if left.Type.Width() == 1 { // a number times a vector
			left, right = right, left
		}
		a := g.wide(left)
		g.emit(bytecode.OpVec, operands{a: dst, b: a, c: g.wide(right), k: vectorOperation(x.Op, width)})
		return
	}
	a := g.num(left)
	if x.Op == contract.OpMul && alike(left, right) {
		op := bytecode.OpMul
		if x.Type.Form == contract.FormReal {
			op = bytecode.OpRealMul
		}
		g.emit(op, operands{a: dst, b: a, c: a})
		return
	}
	if x.Type.Form == contract.FormReal {
		g.emit(realArithmetic[x.Op], operands{a: dst, b: a, c: g.num(right)})
		return
	}
	switch {
	case x.Op == contract.OpAdd && right.Op == contract.OpConst:
		g.emit(bytecode.OpAddK, operands{a: dst, b: a, k: right.Num})
	case x.Op == contract.OpSub && right.Op == contract.OpGet && right.Args[0].Op == contract.OpSelf &&
		right.Prop != nil:
		g.emit(bytecode.OpSubSelf, operands{a: dst, b: a, c: right.Prop.Slot})
	default:
		g.emit(arithmetic[x.Op], operands{a: dst, b: a, c: g.num(right)})
	}
}
