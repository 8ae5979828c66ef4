package flow

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"kamerad.example/core/contract"
)

// factSort says what a fact is about.
type factSort uint8

const (
	factNone  factSort = iota // nothing: it was forgotten
	factThere                 // the entity is there
	factHas                   // it holds so many of an item, or the key
	factRoom                  // it has room for so many, in stacks of an item
	factCount                 // it holds so many items
	factBelow                 // an index is less than how many items it holds
	factAt                    // a slot holds so many items
	factEmpty                 // a slot is empty
	factRange                 // the number lies between low and high
)

// operand is a value that facts are about: two operands that are equal have the same value.
type operand struct {
	key      string
	property string // the name of the property that is read, for forget; empty for what is no property
}

// fieldOf returns the operand that a property of an entity is.
func fieldOf(on sym, p *contract.Property) operand {
	return operand{key: on + "." + p.Name + " ", property: p.Name}
}

// subject is what a fact says something about.
type subject struct {
	sort factSort
	of   operand // the entity, the holder of items, or the number
	item operand // the item, the key, the index or the slot; none for what is about all items
}

// thereIs is the subject of facts that say that an entity is there.
func thereIs(e sym) subject { return subject{sort: factThere, of: operand{key: e}} }

// fact is something that surely holds at the present statement, since it was asked or done before.
type fact struct {
	subject
	least     int64   // how many there surely are
	than      operand // or as many as this says; none when it says nothing
	low, high float64 // of a factRange
}

// learn notes that something surely holds.
//
// Facts hold to the end of the block; whoever opens one cuts them off again.
func (f *flow) learn(of subject) { f.facts = append(f.facts, fact{subject: of, least: 1}) }

// known reports whether something was asked for before.
func (f *flow) known(of subject) bool { return f.sure(of, 1, operand{}) }

// sure reports whether there are at least so many of something, or as many as an operand says.
func (f *flow) sure(of subject, least int64, than operand) bool {
	return slices.ContainsFunc(f.facts, func(x fact) bool {
		return x.subject == of && (least > 0 && x.least >= least || than != operand{} && x.than == than)
	})
}

// enough reports whether there surely are as many of something as an expression says.
//
// Either a number was asked for that is at least as great, or the very same expression.
func (f *flow) enough(of subject, n *contract.Expr) bool {
	for n.Op == contract.OpReveal || n.Op == contract.OpFromInt {
		n = n.Args[0]
	}
	if n.Op == contract.OpConst {
		return n.Num == 0 || f.sure(of, n.Num, operand{})
	}
	if f.sure(of, 0, f.same(n)) {
		return true
	}
	v := f.quietly(n)
	return v.ranged && v.low >= 0 && v.high < 1e15 && f.sure(of, max(int64(v.high), 1), operand{})
}

// quietly reads an expression without noting anything.
func (f *flow) quietly(x *contract.Expr) val {
	inner := *f
	inner.flows = silentFlows(f.contract)
	c := *f.cause
	c.faults = slices.Clone(c.faults)
	inner.cause = &c
	inner.facts = slices.Clone(f.facts)
	return inner.value(x)
}

// bounded narrows the range of a number to what is known of it.
//
// Facts that contradict each other are passed over: the place is never reached.
func (f *flow) bounded(v val, number operand) val {
	low := math.Inf(-1)
	high := math.Inf(1)
	if v.ranged {
		low, high = v.low, v.high
	}
	for _, x := range f.facts {
		if x.subject != (subject{sort: factRange, of: number}) {
			continue
		}
		if l, h := max(low, x.low), min(high, x.high); l <= h {
			low, high = l, h
		}
	}
	v.ranged = !math.IsInf(low, 0) && !math.IsInf(high, 0)
	if v.ranged {
		v.low, v.high = low, high
	}
	return v
}

// begins notes that an entity is new: its properties have their defaults, and its stacks and lists the room that these
// leave. What is kept from earlier sessions may be full.
func (f *flow) begins(k *contract.Kind, on sym) {
	if f.free == nil {
		f.free = map[operand]int{}
		f.begun = map[sym]*contract.Kind{}
	}
	f.begun[on] = k
	for _, p := range k.Properties {
		if (p.Type.Form == contract.FormStacks || p.Type.Form == contract.FormList && !k.Free()) && !p.Keep {
			f.free[fieldOf(on, p)] = p.Type.Max - int(p.Default[0])
		}
	}
}

// takes uses up room for something out of what surely is free.
//
// In a loop it is not known how often, so nothing is certain there.
func (f *flow) takes(t *contract.Type, holder operand, count *contract.Expr) bool {
	if f.loops > 0 || count != nil && (count.Op != contract.OpConst || count.Num < 0) {
		return false
	}
	needs := 1
	if count != nil {
		needs = int((count.Num + t.Each - 1) / t.Each)
	}
	if f.free[holder] < needs {
		return false
	}
	f.free[holder] -= needs
	f.took = holder
	return true
}

// takesAt uses up a slot of stacks that are as they began, but for slots that were used up here: so which are free is
// known.
func (f *flow) takesAt(t *contract.Type, holder operand, args []*contract.Expr) bool {
	for _, a := range []*contract.Expr{args[0], args[2]} {
		if a.Op != contract.OpConst || a.Num < 0 {
			return false
		}
	}
	slot := args[0].Num
	used := f.slotsUsed[holder]
	if f.loops > 0 || slot >= int64(t.Max) || args[2].Num > t.Each || f.free[holder] != t.Max-len(used) ||
		slices.Contains(used, slot) {
		return false
	}
	if f.slotsUsed == nil {
		f.slotsUsed = map[operand][]int64{}
	}
	f.slotsUsed[holder] = append(used, slot)
	f.free[holder]--
	f.took = holder
	return true
}

// forget drops what was asked of a property that is written.
//
// nil drops everything: what was run may have written anything. Properties of one name in other kinds
// are dropped along, which only loses knowledge.
func (f *flow) forget(p *contract.Property) {
	for i, x := range f.facts {
		if p == nil || x.of.property == p.Name || x.item.property == p.Name || x.than.property == p.Name {
			f.facts[i] = fact{}
		}
	}
	// What is put in by another name for the entity uses up room as well, unless takes has just counted it.
	for holder := range f.free {
		if p != nil && holder.property == p.Name && holder != f.took {
			delete(f.free, holder)
		}
	}
}

// forgetLocal drops what is known of a name that is assigned to.
func (f *flow) forgetLocal(num int64) {
	key := localKey(num, false)
	is := func(o operand) bool {
		return o.key == key || strings.HasPrefix(o.key, key+".") || strings.Contains(o.key, "["+key) // at its place
	}
	for i, x := range f.facts {
		if is(x.of) || is(x.item) || is(x.than) {
			f.facts[i] = fact{}
		}
	}
}

// localKey is the key of the operand that a local is.
func localKey(num int64, isHolder bool) string { return fmt.Sprint(localPrefix, num, isHolder) }

// localPrefix begins the keys of locals and of parts of them.
const localPrefix = "local "

// same returns the operand that an expression is: two expressions that are the same operand have the same value. What
// cannot be told is like nothing else.
//
// A property that the cause writes gets a new name after the write, by way of symOf or forget.
func (f *flow) same(x *contract.Expr) operand {
	switch x.Op {
	case contract.OpConst:
		return operand{key: fmt.Sprint("const ", x.Num, x.Nums)}
	case contract.OpLocal:
		return operand{key: localKey(x.Num, x.Type.Holder())}
	case contract.OpReveal, contract.OpReal:
		return f.same(x.Args[0])
	case contract.OpField:
		// A part of what a name stands for, or of a property.
		whole := f.same(x.Args[0])
		if strings.HasPrefix(whole.key, localPrefix) || whole.property != "" {
			return operand{key: fmt.Sprint(whole.key, ".", x.Num), property: whole.property}
		}
	case contract.OpAt:
		whole := f.same(x.Args[0])
		key := f.same(x.Args[1])
		if whole.property != "" && key.property == "" { // forget knows one property of an operand
			return operand{key: fmt.Sprint(whole.key, "[", key.key, "]"), property: whole.property}
		}
	case contract.OpGet:
		if x.Prop != nil {
			return fieldOf(f.symOf(x.Args[0]), x.Prop)
		}
	}
	return operand{key: f.fresh("value")}
}

// assume notes what holds once a condition holds: what has room, what is carried, what is there, and between which
// values a number lies.
//
// Of an `or` that holds, and an `and` that does not, nothing is learnt: either side may be the reason.
func (f *flow) assume(x *contract.Expr, holds bool) {
	switch x.Op {
	case contract.OpAnd:
		if holds {
			f.assume(x.Args[0], true)
			f.assume(x.Args[1], true)
		}
	case contract.OpOr:
		if !holds {
			f.assume(x.Args[0], false)
			f.assume(x.Args[1], false)
		}
	case contract.OpNot:
		f.assume(x.Args[0], !holds)
	case contract.OpReveal:
		f.assume(x.Args[0], holds)
	case contract.OpHas:
		if holds {
			has := subject{factHas, f.same(x.Args[0]), f.same(x.Args[1])}
			if len(x.Args) < 3 {
				f.learn(has)
			} else {
				f.amount(has, contract.OpGe, x.Args[2])
			}
		}
	case contract.OpExists:
		if holds {
			f.learn(thereIs(f.symOf(x.Args[0])))
		}
	case contract.OpEq, contract.OpNe, contract.OpLt, contract.OpLe, contract.OpGt, contract.OpGe:
		op := x.Op
		if !holds {
			op = map[contract.Op]contract.Op{
				contract.OpEq: contract.OpNe,
				contract.OpNe: contract.OpEq,
				contract.OpLt: contract.OpGe,
				contract.OpGe: contract.OpLt,
				contract.OpGt: contract.OpLe,
				contract.OpLe: contract.OpGt,
			}[op]
		}
		a := x.Args[0]
		b := x.Args[1]
		f.compare(a, op, b)
		f.compare(b, map[contract.Op]contract.Op{
			contract.OpEq: contract.OpEq,
			contract.OpNe: contract.OpNe,
			contract.OpLt: contract.OpGt,
			contract.OpGt: contract.OpLt,
			contract.OpLe: contract.OpGe,
			contract.OpGe: contract.OpLe,
		}[op], a)
	}
}

// compare notes what holds once a comparison holds, of its left side.
func (f *flow) compare(a *contract.Expr, op contract.Op, b *contract.Expr) {
	if a.Type.Form == contract.FormEntity {
		if op == contract.OpNe && b.Op == contract.OpConst {
			f.learn(thereIs(f.symOf(a)))
		}
		return
	}
	bare := func(x *contract.Expr) *contract.Expr {
		for x.Op == contract.OpReveal || x.Op == contract.OpFromInt || x.Op == contract.OpReal {
			x = x.Args[0]
		}
		return x
	}
	a = bare(a)
	b = bare(b)
	switch a.Op {
	case contract.OpCountAt:
		at := subject{factAt, f.same(a.Args[0]), f.same(a.Args[1])}
		f.amount(at, op, b)
		isZero := b.Op == contract.OpConst && b.Num == 0
		if isZero && (op == contract.OpEq || op == contract.OpLe) {
			at.sort = factEmpty
			f.learn(at)
		}
	case contract.OpRoom, contract.OpCount:
		f.amount(f.amountOf(a), op, b)
	case contract.OpGet, contract.OpLocal:
		if op == contract.OpLt && b.Op == contract.OpCount && len(b.Args) == 1 {
			f.learn(subject{factBelow, f.same(b.Args[0]), f.same(a)})
		}
		if b.Op == contract.OpConst && (a.Type.Whole() || a.Type.Form == contract.FormReal) {
			f.number(a, op, b)
		}
	}
}

// amountOf returns what a count or a room is the amount of.
func (f *flow) amountOf(x *contract.Expr) subject {
	of := subject{sort: factCount, of: f.same(x.Args[0])}
	if x.Op == contract.OpRoom {
		of.sort = factRoom
	}
	if len(x.Args) > 1 {
		of.item = f.same(x.Args[1])
		if x.Op == contract.OpCount { // of one item
			of.sort = factHas
		}
	}
	return of
}

// amount notes how many there are of something, once a comparison of it holds.
func (f *flow) amount(of subject, op contract.Op, b *contract.Expr) {
	x := fact{subject: of}
	switch {
	case b.Op != contract.OpConst && (op == contract.OpGe || op == contract.OpGt || op == contract.OpEq):
		x.than = f.same(b)
		if op == contract.OpGt {
			x.least = 1
		}
	case b.Op != contract.OpConst:
		return
	case op == contract.OpGe, op == contract.OpEq:
		x.least = b.Num
	case op == contract.OpGt, op == contract.OpNe && b.Num == 0:
		x.least = b.Num + 1
	default:
		return
	}
	f.facts = append(f.facts, x)
}

// number notes between which values a number lies, once a comparison of it with a constant holds.
//
// For whole numbers `<` means one less; for reals the end itself stays in the range.
func (f *flow) number(a *contract.Expr, op contract.Op, b *contract.Expr) {
	n := float64(b.Num)
	step := 1.0
	if b.Type.Form == contract.FormReal {
		n = math.Float64frombits(uint64(b.Num))
		if b.Type.Counted() {
			n = b.Type.Real(b.Num)
		}
	}
	if a.Type.Form == contract.FormReal {
		step = 0
	}
	x := fact{
		subject: subject{sort: factRange, of: f.same(a)},
		low:     math.Inf(-1),
		high:    math.Inf(1),
	}
	switch op {
	case contract.OpEq:
		x.low = n
		x.high = n
	case contract.OpLt:
		x.high = n - step
	case contract.OpLe:
		x.high = n
	case contract.OpGt:
		x.low = n + step
	case contract.OpGe:
		x.low = n
	case contract.OpNe: // one end less
		v := f.typed(val{}, a.Type)
		switch {
		case math.Abs(n) >= exact: // it may be another number that is rounded to the same double
			return
		case v.ranged && n == v.low:
			x.low = n + step
		case v.ranged && n == v.high:
			x.high = n - step
		default:
			return
		}
	}
	f.facts = append(f.facts, x)
}

// fits reports whether an index lies within its list, or a key was asked for.
func (f *flow) fits(x *contract.Expr, v val) bool {
	if x.Args[0].Type.Form == contract.FormMap {
		return f.known(subject{factHas, f.same(x.Args[0]), f.same(x.Args[1])})
	}
	if x.Args[0].Op == contract.OpTable && v.ranged && v.low >= 0 && x.Args[0].Num < int64(len(f.contract.Memory)) {
		return v.high < float64(f.contract.Memory[x.Args[0].Num])
	}
	return f.inList(x.Args[0], x.Args[1], v)
}

// isLastPlace reports whether an expression is one less than how many there are of something.
func isLastPlace(x *contract.Expr) bool {
	return x.Op == contract.OpSub && x.Args[0].Op == contract.OpCount && len(x.Args[0].Args) == 1 &&
		x.Args[1].Op == contract.OpConst && x.Args[1].Num == 1
}

// inList reports whether an index surely lies within a list, since its length was asked.
func (f *flow) inList(list, index *contract.Expr, v val) bool {
	for index.Op == contract.OpReveal {
		index = index.Args[0]
	}
	holder := f.same(list)
	if isLastPlace(index) && f.same(index.Args[0].Args[0]) == holder {
		return f.known(subject{sort: factCount, of: holder}) // that of the last value, if there is one
	}
	if !v.ranged || v.low < 0 || v.high > 1e9 {
		return false
	}
	return f.sure(subject{sort: factCount, of: holder}, int64(v.high)+1, operand{}) ||
		f.known(subject{factBelow, holder, f.same(index)})
}
