package rules

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/world"
)

// loop is one that is open: what it still goes over. Its lists use the memory of earlier loops.
type loop struct {
	entities []*world.Entity
	values   []int64
	width    int
	at       int
}

// at finds the slots of a place: the ones that it stands among and its offset. entity is nil where it is no property.
func (m *Machine) at(f *frame, a *addr) (slots []int64, offset int, e *world.Entity, p *contract.Property, how end) {
	offset = a.base
	p = a.prop
	switch a.space {
	case inRow:
		e = f.entities[a.entity]
		if e == nil || e.Gone {
			return nil, 0, nil, nil, nothing
		}
		slots = e.Nums
		if a.props != nil {
			p = a.props[e.Kind.Index]
			offset += p.Slot
		}
	case inMemory:
		slots = f.memory
	case inTable:
		slots = m.program.contract.Memory
	case inSettings:
		slots = m.World.Settings
	}
	if a.reg >= 0 {
		offset += int(f.nums[a.reg])
	}
	return slots, offset, e, p, ended
}

// list returns the slots of a list, map or stacks.
func (m *Machine) list(f *frame, a *addr) ([]int64, end) {
	slots, offset, _, _, how := m.at(f, a)
	if how != ended {
		return nil, how
	}
	return slots[offset : offset+a.typ.Width()], ended
}

// fits holds a value's slots against its type.
func (m *Machine) fits(t *contract.Type, slots []int64) error {
	switch t.Form {
	case contract.FormBool, contract.FormEnum, contract.FormEntity, contract.FormClient, contract.FormKind,
		contract.FormTime, contract.FormInstant, contract.FormRole:
		return nil
	case contract.FormInt:
		if (t.Low != 0 || t.High != 0) && !t.Within(slots[0]) {
			return fmt.Errorf("%d, which is no %s", slots[0], t)
		}
	case contract.FormText:
		if t.Max > 0 {
			if err := t.Allows(m.World.Text(slots[0])); err != nil {
				return fmt.Errorf("a text that %s", err)
			}
		}
	case contract.FormReal, contract.FormVec2, contract.FormVec3, contract.FormRotation, contract.FormDirection:
		for _, n := range slots[:t.Width()] {
			if t.Counted() && (n < t.Low || n > t.High) {
				return fmt.Errorf("%s, which is no %s", t.Format(t.FromSlots(slots, m.World.Text)), t)
			}
		}
	case contract.FormRecord:
		for _, p := range t.Parts {
			if err := m.fits(p.Type, slots); err != nil {
				return fmt.Errorf("a %s whose `%s` is %w", t.Name, p.Name, err)
			}
			slots = slots[p.Type.Width():]
		}
	case contract.FormList:
		if n := slots[0]; n > int64(t.Max) {
			return fmt.Errorf("a list of %d values, at most %d are allowed", n, t.Max)
		}
		for i := range int(slots[0]) {
			if err := m.fits(t.Of, slots[1+i*t.Of.Width():]); err != nil {
				return fmt.Errorf("a list with %w", err)
			}
		}
	}
	return nil
}

// operand returns the slots of a value that is handed on.
func (m *Machine) operand(f *frame, o *operand) ([]int64, end) {
	if o.list == nil {
		return f.nums[o.reg : o.reg+o.typ.Width()], ended
	}
	slots, how := m.list(f, o.list)
	if how != ended {
		return nil, how
	}
	// A list may have room for more or fewer than is wanted.
	m.slots = append(m.slots[:0], slots...)
	for len(m.slots) < o.typ.Width() {
		m.slots = append(m.slots, 0)
	}
	return m.slots, ended
}

// rare runs the instructions that cost more than their dispatch.
//
//revive:disable-next-line:function-length It is one switch.
func (m *Machine) rare(f *frame, depth int, c *code, in *ins) end {
	r := &f.nums
	a := int(uint8(in.a))
	b := int(in.b)
	switch in.op {
	case opMoves:
		copy(r[a:], r[b:b+int(in.k)])
	case opFetch:
		p := &c.fetches[in.k]
		slots, offset, _, _, how := m.at(f, p)
		if how != ended {
			return how
		}
		copy(r[a:a+p.typ.Width()], slots[offset:])
	case opSteps:
		n, ok := c.types[in.k].Steps(fromBits(r[b]))
		if !ok {
			return m.fault("a real came to be no finite number")
		}
		r[a] = n
	case opWiden:
		widen(c.types[in.k], r[a:], r[b:])
	case opNarrow:
		return m.narrow(c.types[in.k], r[a:], r[b:])
	case opVec:
		return m.vec(contract.Op(in.k>>8), r[a:a+int(in.k&0xff)], r[b:], r[uint8(in.c):])
	case opSame:
		r[a] = truth(slices.Equal(r[b:b+int(in.k)], r[int(in.c):int(in.c)+int(in.k)]))
	case opSameReal:
		r[a] = truth(
			slices.EqualFunc(
				r[b:b+int(in.k)], r[int(in.c):int(in.c)+int(in.k)],
				func(p, q int64) bool { return fromBits(p) == fromBits(q) },
			),
		)
	case opPutWide:
		p := &c.puts[in.k]
		return m.putWide(f, p, r[a:a+p.to.typ.Width()])
	case opPutList:
		p := &c.puts[in.k]
		o := operand{typ: p.to.typ, list: &c.fetches[in.c]}
		slots, how := m.operand(f, &o)
		if how != ended {
			return how
		}
		return m.putWide(f, p, slots[:p.to.typ.Width()])
	case opMemory:
		copy(f.memory[in.c:], r[a:a+int(in.k)])
	case opShuffle:
		p := &c.fetches[in.k]
		slots, how := m.list(f, p)
		if how != ended {
			return how
		}
		to := f.memory[in.c : int(in.c)+len(slots)]
		copy(to, slots)
		w := p.typ.Of.Width()
		m.dice.at(mixed(m.way, uint64(c.id)<<20|uint64(in.k)))
		for i := to[0] - 1; i > 0; i-- { // Fisher and Yates (Durstenfeld, 1964)
			j := m.dice.roll(0, i)
			for k := range int64(w) {
				x := 1 + i*int64(w) + k
				y := 1 + j*int64(w) + k
				to[x], to[y] = to[y], to[x]
			}
		}
	case opIndex:
		p := &c.fetches[in.k]
		slots, how := m.list(f, p)
		if how != ended {
			return how
		}
		if i := r[b]; i < 0 || i >= slots[0] {
			return m.fault("the list `%s` has %d values: there is none at %d", p.name(), slots[0], i)
		}
		r[a] = 1 + r[b]*int64(p.typ.Of.Width())
	case opKey, opKeyPut:
		return m.key(f, c, in)
	case opViewer:
		r[a] = m.viewer
	case opNow:
		r[a] = m.World.Tick * 1000 / int64(m.program.contract.TickRate)
	case opRole:
		r[a] = -1
		if x := m.World.Client(int(r[b])); x != nil {
			r[a] = int64(x.Role)
		}
	case opName:
		r[a] = m.World.ClientName(int(r[b]))
	case opKnown:
		n := r[b]
		if n != 0 && m.World.Client(int(n)) == nil {
			n = contract.Nothing
		}
		r[a] = n
	case opExists:
		e := f.entities[b]
		r[a] = truth(e != nil && !e.Gone)
	case opHolder:
		return m.holder(f, &c.holders[in.k], &r[a])
	case opMath:
		return m.maths(f, &c.maths[in.k], r[a:])
	case opClip:
		v := r[b]
		low := r[uint8(in.c)]
		high := r[uint8(in.c)+1]
		if in.k == 1 {
			r[a] = toBits(min(max(fromBits(v), fromBits(low)), fromBits(high)))
		} else {
			r[a] = min(max(v, low), high)
		}
	case opRoll:
		low := r[b]
		high := r[uint8(in.c)]
		if low > high {
			return m.fault("a roll of %d..%d: the range is empty", low, high)
		}
		m.dice.at(mixed(m.way, uint64(c.id)<<20|1<<19|uint64(in.k)))
		r[a] = m.dice.roll(low, high)
	case opSince:
		e := f.entities[b]
		if e == nil || e.Gone {
			return nothing
		}
		r[a] = (m.World.Tick - m.World.ChangedTick(e, c.props[in.k].Index)) * 1000 / int64(m.program.contract.TickRate)
	case opPath:
		e := f.entities[b]
		p := c.props[in.k]
		if e == nil || e.Gone {
			return nothing
		}
		w := p.Type.Width()
		from := p.Path
		if p.Follows == nil && e.ID > m.World.LastMoved {
			from = p.Slot
		}
		widen(p.Type, r[a:], e.Nums[from:])
		widen(p.Type, r[a+w:], e.Nums[p.Slot:])
	case opIter:
		return m.begins(f, &c.iters[in.k])
	case opDone:
		m.open--
	case opNone:
		return m.fault("a query found nothing, and says nothing of that case with `else`")
	case opMany:
		return m.fault("there is more than one where exactly one is wanted")
	case opCall:
		call := &c.calls[in.k]
		if how := m.enter(
			f, depth, &m.program.fns[call.fn.Index], call, nil, uint64(c.id)<<20|2<<18|uint64(in.k),
		); how != ended {
			return how
		}
		w := call.fn.Result.Width()
		copy(r[a:a+w], m.frames[depth+1].nums[:w])
		if err := m.fits(call.fn.Result, r[a:a+w]); err != nil {
			return m.fault("the function `%s` gives %s", call.fn.Name, err)
		}
	case opRun:
		call := &c.calls[in.k]
		on := f.entities[b]
		if on == nil || on.Gone {
			return nothing
		}
		return m.enter(f, depth, &m.program.actions[call.action.Index], call, on, uint64(c.id)<<20|uint64(in.k))
	case opDelay:
		return m.delay(f, &c.calls[in.k], f.entities[b], int64(in.c))
	case opTell:
		before := len(m.Told)
		how := m.tell(f, depth, &c.tells[in.k])
		if how != ended {
			m.Told = m.Told[:before]
		}
		return how
	case opLog:
		return m.log(f, depth, &c.logs[in.k])
	case opSpawn:
		return m.spawn(f, depth, &c.spawns[in.k])
	case opDespawn:
		e := f.entities[b]
		if e == nil || e.Gone {
			return nothing
		}
		m.World.Despawn(e)
	case opGive:
		e := f.entities[b]
		if e == nil || e.Gone {
			return nothing
		}
		if to := int(r[a]); to == 0 || m.World.Client(to) != nil {
			m.World.SetOwner(e, to)
			return ended
		}
		return m.fault("%s is given to a client that is gone", e.Kind.Name)
	case opSetRole:
		m.World.SetRole(int(r[b]), int(r[a]))
	case opExpel:
		m.Effects = append(m.Effects, Effect{Kind: ExpelClient, Client: int(r[b]), Text: c.strings[in.k]})
	case opClose:
		m.Effects = append(m.Effects, Effect{Kind: CloseSession, Text: c.strings[in.k]})
	case opReply:
		t := c.types[in.k]
		if err := m.fits(t, r[a:]); err != nil {
			return m.fault("the reply would be %s", err)
		}
		m.Reply = t.FromSlots(r[a:], m.World.Text)
	case opReveal:
		return m.reveal(f, depth, &c.reveals[in.k], r[b:])
	case opChanged:
		if e := f.entities[b]; e == nil || e.Gone {
			m.recent = m.World.Tick
		} else if in.k < 0 {
			m.recent = max(m.recent, m.World.OwnerTick(e))
		} else {
			m.recent = max(m.recent, m.World.ChangedTick(e, c.props[in.k].Index))
		}
	case opChangedAny:
		if in.k == -1 {
			m.recent = max(m.recent, m.World.ClientsTick())
		} else {
			m.recent = m.World.Tick
		}
	}
	return ended
}

// widen turns a value from steps, as a row holds it, into doubles, as registers hold it: a direction into its unit
// vector, everything else number by number.
func widen(t *contract.Type, to, from []int64) {
	if t.Form == contract.FormDirection {
		x, y := t.Vector(from[0])
		to[0], to[1] = toBits(x), toBits(y)
		return
	}
	for i := range t.Width() {
		to[i] = toBits(t.Real(from[i]))
	}
}

// narrow turns a value from doubles into the steps of its type. It fails for a vector without a direction and for what
// is no finite number.
func (m *Machine) narrow(t *contract.Type, to, from []int64) end {
	if t.Form == contract.FormDirection {
		n, ok := t.Angle(fromBits(from[0]), fromBits(from[1]))
		if !ok {
			return m.fault("a vector without a direction became a direction")
		}
		to[0] = n
		return ended
	}
	for i := range t.Width() {
		n, ok := t.Steps(fromBits(from[i]))
		if !ok {
			return m.fault("a real came to be no finite number")
		}
		to[i] = n
	}
	return ended
}

// vec runs an operation on vectors. A number stands on the right of one.
func (m *Machine) vec(op contract.Op, to, p, q []int64) end {
	by := fromBits(q[0])
	for i := range to {
		v := fromBits(p[i])
		switch op {
		case contract.OpAdd:
			v += fromBits(q[i])
		case contract.OpSub:
			v -= fromBits(q[i])
		case contract.OpMul:
			v *= by
		case contract.OpDiv:
			if by == 0 {
				return m.fault("division by zero")
			}
			v /= by
		case contract.OpNeg:
			v = -v
		}
		if !finite(v) {
			return m.fault("a vector came to have a part that is no finite number")
		}
		to[i] = toBits(v)
	}
	return ended
}

// putWide writes a value's slots, after they were held against its type.
func (m *Machine) putWide(f *frame, p *put, values []int64) end {
	slots, offset, e, prop, how := m.at(f, &p.to)
	if how != ended {
		return how
	}
	if e == nil {
		copy(slots[offset:], values)
		return ended
	}
	t := p.to.typ
	if p.clamped {
		for i := range values {
			values[i] = min(max(values[i], t.Low), t.High)
		}
	} else if err := m.fits(t, values); err != nil {
		return m.fault("%s.%s cannot become %s", e.Kind.Name, prop.Name, err)
	}
	for i, v := range values {
		m.World.Write(e, prop.Index, offset+i, v)
	}
	return ended
}

// key finds the value of a key in a map.
func (m *Machine) key(f *frame, c *code, in *ins) end {
	p := &c.fetches[in.k]
	slots, offset, e, prop, how := m.at(f, p)
	if how != ended {
		return how
	}
	key := f.nums[in.b]
	to := &f.nums[uint8(in.a)]
	if in.op == opKeyPut {
		if err := m.fits(p.typ.Key, f.nums[in.b:]); err != nil {
			return m.fault("a key of `%s` would be %s", prop.Name, err)
		}
		at, err := m.World.PutInMap(world.Place{
			Entity:   e,
			Property: prop,
			Type:     p.typ,
			Slot:     offset,
		}, key)
		if err != nil {
			return m.fault("%s", err)
		}
		*to = int64(at)
		return ended
	}
	i, found := m.World.FindInMap(p.typ, slots[offset:], key)
	if !found {
		v := p.typ.Key.FromSlots(f.nums[in.b:], m.World.Text)
		return m.fault("the map `%s` does not have the key %s", p.name(), p.typ.Key.Format(v))
	}
	*to = int64(2 + i*(1+p.typ.Of.Width()))
	return ended
}

// holder runs an operation on stacks, a list or a map.
func (m *Machine) holder(f *frame, h *holder, out *int64) end {
	slots, offset, e, prop, how := m.at(f, &h.on)
	if how != ended {
		return how
	}
	t := h.on.typ
	slots = slots[offset : offset+t.Width()]
	arg := func(i int) int64 { return f.nums[h.args[i]] }
	wide := func() []int64 { return f.nums[h.args[0] : h.args[0]+t.Of.Width()] }
	place := world.Place{
		Entity:   e,
		Property: prop,
		Type:     t,
		Slot:     offset,
	}
	var err error
	switch stacks, list := t.Form == contract.FormStacks, t.Form == contract.FormList; h.op {
	case contract.OpHas:
		switch {
		case stacks:
			*out = truth(world.HasStack(slots, arg(0)) >= arg(1))
		case list:
			*out = truth(world.FindInList(t, slots, wide()) >= 0)
		default:
			_, found := m.World.FindInMap(t, slots, arg(0))
			*out = truth(found)
		}
	case contract.OpCount:
		*out = slots[0]
		if stacks {
			*out = world.HasStack(slots, arg(0))
		}
	case contract.OpRoom:
		*out = int64(t.Max) - slots[0]
		if stacks {
			*out = world.StackRoom(slots, arg(0), t.Each)
		}
	case contract.OpFind:
		*out = world.FindInList(t, slots, wide())
	case contract.OpPut:
		if stacks {
			err = m.World.PutStack(place, arg(0), arg(1))
		} else if err = m.fits(t.Of, wide()); err == nil {
			err = m.World.PutInList(place, wide())
		} else {
			err = fmt.Errorf("%s cannot hold %w", place, err)
		}
	case contract.OpTake:
		switch {
		case stacks:
			err = m.World.TakeStack(place, arg(0), arg(1))
		case list:
			if i := world.FindInList(t, slots, wide()); i >= 0 {
				err = m.World.CutFromList(place, i)
			} else {
				err = fmt.Errorf("%s does not hold what is taken", place)
			}
		default:
			err = m.World.TakeFromMap(place, arg(0))
		}
	case contract.OpCut:
		err = m.World.CutFromList(place, arg(0))
	case contract.OpClear:
		m.World.Clear(place)
	case contract.OpSplit:
		err = m.World.SplitStack(place, arg(0), arg(1))
	case contract.OpMove:
		return m.move(f, h, place)
	}
	if err != nil {
		return m.fault("%s", err)
	}
	return ended
}

// move takes from one holder and puts into another.
func (m *Machine) move(f *frame, h *holder, from world.Place) end {
	_, offset, e, prop, how := m.at(f, &h.to)
	if how != ended {
		return how
	}
	to := world.Place{
		Entity:   e,
		Property: prop,
		Type:     h.to.typ,
		Slot:     offset,
	}
	var err error
	if from.Type.Form == contract.FormStacks {
		item := f.nums[h.args[0]]
		n := f.nums[h.args[1]]
		if err = m.World.TakeStack(from, item, n); err == nil {
			err = m.World.PutStack(to, item, n)
		}
	} else {
		value := f.nums[h.args[0] : h.args[0]+from.Type.Of.Width()]
		if i := world.FindInList(from.Type, from.Slots(), value); i < 0 {
			err = fmt.Errorf("%s does not hold what is moved", from)
		} else if err = m.World.CutFromList(from, i); err == nil {
			err = m.World.PutInList(to, value)
		}
	}
	if err != nil {
		return m.fault("%s", err)
	}
	return ended
}

// begins opens a loop over what is there now.
func (m *Machine) begins(f *frame, it *iter) end {
	if m.open == len(m.loops) {
		m.loops = append(m.loops, loop{})
	}
	l := &m.loops[m.open]
	m.open++
	l.entities = l.entities[:0]
	l.values = l.values[:0]
	l.width = 1
	l.at = 0
	switch {
	case it.kinds != nil:
		for _, k := range it.kinds {
			for _, e := range m.World.OfKind(k.Index) {
				if it.within < 0 || near(f, it, e) {
					l.entities = append(l.entities, e)
				}
			}
			m.steps -= int64(len(m.World.OfKind(k.Index)))
		}
		if len(it.kinds) > 1 {
			slices.SortFunc(l.entities, func(a, b *world.Entity) int { return int(a.ID - b.ID) })
		}
	case it.clients:
		for _, c := range m.World.Clients() {
			l.values = append(l.values, int64(c.Number))
		}
	default:
		slots, how := m.list(f, &it.list)
		if how != ended {
			m.open--
			return how
		}
		l.width = it.width
		step := it.width + it.skip
		for i := range int(slots[0]) {
			l.values = append(l.values, slots[1+i*step:1+i*step+it.width]...)
		}
	}
	return ended
}

// warmed is how many entities a loop reads ahead.
const warmed = 8

// next puts what the innermost loop comes to into its registers, and gives again. It leaves the loop after the last,
// and gives ended. What was despawned since the loop began is passed over. length is that of the code, which each round
// pays for.
func (m *Machine) next(f *frame, in *ins, length int) end {
	m.steps -= int64(length)
	if m.steps < 0 {
		return m.fault("it takes too many steps: more than %d", maxSteps)
	}
	l := &m.loops[m.open-1]
	a := int(uint8(in.a))
	if in.k == 1 {
		for l.at < len(l.entities) {
			if l.at%warmed == 0 {
				m.warmth += world.Prefetch(l.entities[l.at:min(l.at+warmed, len(l.entities))])
			}
			e := l.entities[l.at]
			l.at++
			if !e.Gone {
				f.nums[a] = int64(e.ID)
				f.entities[a+1] = e
				return again
			}
		}
	} else if l.at < len(l.values) {
		copy(f.nums[a:], l.values[l.at:l.at+l.width])
		l.at += l.width
		return again
	}
	m.open--
	return ended
}

// near reports whether an entity's place is within reach of a place or line.
func near(f *frame, it *iter, e *world.Entity) bool {
	p := it.pos[e.Kind.Index]
	var at [3]float64
	for i := range it.dims {
		at[i] = p.Type.Real(e.Nums[p.Slot+i])
	}
	of := f.nums[it.of:]
	if !it.line {
		return distance(at[:it.dims], vector(of, it.dims)) <= fromBits(f.nums[it.within])
	}
	return toLine(at[:it.dims], vector(of, it.dims), vector(of[it.dims:], it.dims)) <= fromBits(f.nums[it.within])
}

// enter runs an action or function in the next frame; place is where it is run.
func (m *Machine) enter(f *frame, depth int, c *code, call *call, on *world.Entity, place uint64) end {
	next, how := m.frame(depth)
	if how != ended {
		return how
	}
	if how := m.hand(f, next, c, call.args); how != ended {
		return how
	}
	way := m.way
	m.way = mixed(way, place)
	if on != nil {
		m.way = mixed(m.way, uint64(on.Key()))
	}
	out := m.run(c, depth+1, on)
	m.way = way
	if out != nil {
		m.inner = out
		return failedInside
	}
	return ended
}

// frame returns the frame below the present one.
func (m *Machine) frame(depth int) (*frame, end) {
	if depth+1 >= len(m.frames) {
		return nil, m.fault("bodies run each other more than %d deep; does spawning go on without end?", maxDepth)
	}
	if m.frames[depth+1] == nil {
		m.frames[depth+1] = &frame{memory: make([]int64, m.program.memory)}
	}
	return m.frames[depth+1], ended
}

// hand puts values where other code wants its arguments.
func (m *Machine) hand(f, next *frame, c *code, args []operand) end {
	m.steps -= int64(len(c.ins))
	if m.steps < 0 {
		return m.fault("it takes too many steps: more than %d", maxSteps)
	}
	for i := range args {
		slots, how := m.operand(f, &args[i])
		if how != ended {
			return how
		}
		p := &c.params[i]
		if err := m.fits(p.typ, slots); err != nil {
			return m.fault("it is given %s", err)
		}
		if p.memory {
			copy(next.memory[p.at:], slots)
		} else {
			copy(next.nums[p.at:], slots)
		}
	}
	return ended
}

// delay lets an action run later.
func (m *Machine) delay(f *frame, call *call, on *world.Entity, ticks int64) end {
	if on == nil || on.Gone {
		return nothing
	}
	var args []int64
	for i := range call.args {
		slots, how := m.operand(f, &call.args[i])
		if how != ended {
			return how
		}
		if err := m.fits(call.args[i].typ, slots); err != nil {
			return m.fault("the action `%s` is given %s", call.action.Name, err)
		}
		args = append(args, slots...)
	}
	if !m.World.HasRoomToDelay(call.action) {
		return m.fault("%s", m.noRoom("`"+call.action.Name+"` to wait"))
	}
	if !m.World.Delay(on, m.World.Tick+ticks, call.action, args) {
		return m.fault("too many actions of %s wait for their time", on.Kind.Name)
	}
	return ended
}

// noRoom says that a session has no memory left for something.
func (m *Machine) noRoom(what string) string {
	return fmt.Sprintf(
		"there is no memory for %s: %d entities, the actions of them that wait, "+
			"and what clients are told of them take "+
			"nearly all of the session's %d MB", what, len(m.World.Entities()), m.World.MaxMemory>>20,
	)
}

// spawn makes an entity: the defaults, then the values given, then its `on spawn`.
func (m *Machine) spawn(f *frame, depth int, s *spawn) end {
	k := s.kinds[0]
	if s.which >= 0 {
		k = s.kinds[f.nums[s.which]]
	}
	if len(m.World.OfKind(k.Index)) >= maxOfKind {
		return m.fault("there are %d entities of the kind %s already", maxOfKind, k.Name)
	}
	if m.World.Full(k) {
		return m.fault(
			"there have been %d entities of the kind %s, and no more can be numbered",
			world.MaxSerial(m.program.contract), k.Name,
		)
	}
	if !m.World.HasRoom(k) {
		return m.fault("%s", m.noRoom("another "+k.Name))
	}
	e := m.World.Spawn(k, 0)
	for i := range s.sets {
		set := &s.sets[i]
		p := set.props[k.Index]
		slots, how := m.operand(f, &set.value)
		if how != ended {
			return how
		}
		if p.Clamped {
			m.slots = append(m.slots[:0], slots...)
			for i := range m.slots {
				m.slots[i] = min(max(m.slots[i], p.Type.Low), p.Type.High)
			}
			slots = m.slots
		}
		if err := m.fits(p.Type, slots); err != nil {
			return m.fault("%s.%s cannot become %s", k.Name, p.Name, err)
		}
		m.World.Set(e, p, slots[:p.Type.Width()])
	}
	if s.to >= 0 {
		f.nums[s.to] = int64(e.ID)
		f.entities[s.to+1] = e
	}
	c := m.program.kinds[k.Index].spawn
	if c == nil {
		return ended
	}
	if _, how := m.frame(depth); how != ended {
		return how
	}
	m.steps -= int64(len(c.ins))
	if m.steps < 0 {
		return m.fault("it takes too many steps: more than %d", maxSteps)
	}
	way := m.way
	m.way = mixed(way, uint64(e.Key()))
	out := m.run(c, depth+1, e)
	m.way = way
	if out != nil {
		m.inner = out
		return failedInside
	}
	return ended
}

// tell adds an event to those told; its lists use the memory of events of earlier runs.
func (m *Machine) tell(f *frame, depth int, t *tell) end {
	if t.entity >= 0 && (f.entities[t.entity] == nil || f.entities[t.entity].Gone) {
		return nothing
	}
	if len(m.Told) >= maxTold {
		return m.fault("more than %d events are told at once", maxTold)
	}
	if len(m.Told) < cap(m.Told) {
		m.Told = m.Told[:len(m.Told)+1]
	} else {
		m.Told = append(m.Told, Told{})
	}
	out := &m.Told[len(m.Told)-1]
	*out = Told{
		Event:    t.event,
		Everyone: t.everyone,
		Values:   out.Values[:0],
		Clients:  out.Clients[:0],
	}
	if t.entity >= 0 {
		out.Entity = f.entities[t.entity]
	}
	for i := range t.args {
		slots, how := m.operand(f, &t.args[i])
		if how != ended {
			return how
		}
		p := &t.event.Params[i]
		if err := m.fits(p.Type, slots); err != nil {
			return m.fault("`%s` of the event `%s` would be %s", p.Name, t.event.Name, err)
		}
		out.Values = append(out.Values, p.Type.FromSlots(slots, m.World.Text))
	}
	if t.everyone {
		return ended
	}
	var how end
	out.Clients, how = m.clients(f, depth, t.who, out.Clients)
	return how
}

// reveal notes that clients may learn a value.
func (m *Machine) reveal(f *frame, depth int, x *reveal, slots []int64) end {
	if len(m.Reveals) >= maxReveals {
		return ended
	}
	slots = slots[:x.typ.Width()]
	out := Reveal{Place: x.place, Value: fmt.Sprint(slots)}
	if x.typ.Form == contract.FormText {
		out.Value = m.World.Text(slots[0])
	}
	how := ended
	if !x.everyone {
		out.Clients, how = m.clients(f, depth, x.who, []int{})
	}
	m.Reveals = append(m.Reveals, out)
	return how
}

// log adds words for the logs of some clients.
func (m *Machine) log(f *frame, depth int, l *logs) end {
	if len(m.Effects) >= maxTold {
		return m.fault("more than %d lines are logged at once", maxTold)
	}
	var words strings.Builder
	for i, w := range l.words {
		words.WriteString(w)
		if i >= len(l.args) {
			continue
		}
		slots, how := m.operand(f, &l.args[i])
		if how != ended {
			return how
		}
		words.WriteString(m.worded(l.args[i].typ, slots))
	}
	clients, how := m.clients(f, depth, l.who, nil)
	if how != ended {
		return how
	}
	m.Effects = append(m.Effects, Effect{Kind: LogLine, Text: words.String(), Clients: clients})
	return ended
}

// worded words a value of an expression for a log.
func (m *Machine) worded(t *contract.Type, slots []int64) string {
	switch {
	case t.Form == contract.FormText:
		return m.World.Text(slots[0])
	case t.Form == contract.FormRole:
		if slots[0] < 0 {
			return "nobody"
		}
		return m.program.contract.Roles[slots[0]]
	case t.Form == contract.FormClient:
		if c := m.World.Client(int(slots[0])); c != nil {
			return c.Name
		}
	case t.Reals() > 0 && !t.Counted():
		parts := make([]string, t.Width())
		for i := range parts {
			parts[i] = fmt.Sprint(fromBits(slots[i]))
		}
		if len(parts) == 1 {
			return parts[0]
		}
		return "(" + strings.Join(parts, ", ") + ")"
	case t.Form == contract.FormEntity:
		return t.Names[0]
	}
	return t.Format(t.FromSlots(slots, m.World.Text))
}

// clients appends those that a list of terms means, by number.
func (m *Machine) clients(f *frame, depth int, terms []who, to []int) ([]int, end) {
	owner := 0
	if self := f.entities[0]; self != nil {
		owner = self.Owner
	}
	for _, c := range m.World.Clients() {
		in, how := m.among(f, depth, terms, &c, owner)
		if how != ended {
			return to, how
		}
		if in {
			to = append(to, c.Number)
		}
	}
	return to, ended
}

// among reports whether a list of terms means a client.
func (m *Machine) among(f *frame, depth int, terms []who, c *world.Client, owner int) (bool, end) {
	in := false
	for i := range terms {
		w := &terms[i]
		hit := false
		switch w.sort {
		case contract.ToEveryone:
			hit = true
		case contract.ToOwner:
			hit = c.Number == owner
		case contract.ToCaller:
			hit = int64(c.Number) == m.caller
		case contract.ToRole:
			hit = c.Role == w.role
		case contract.ToClient:
			if w.list == nil {
				hit = int64(c.Number) == f.nums[w.reg]
				break
			}
			slots, how := m.list(f, w.list)
			if how != ended {
				return false, how
			}
			hit = slices.Contains(slots[1:1+slots[0]], int64(c.Number))
		case contract.ToNamed:
			next, how := m.frame(depth)
			if how != ended {
				return false, how
			}
			code := &m.program.audiences[w.aud.Index]
			if how := m.hand(f, next, code, w.args); how != ended {
				return false, how
			}
			viewer := m.viewer
			m.viewer = int64(c.Number)
			hit = m.run(code, depth+1, nil) == nil && next.nums[0] != 0
			m.viewer = viewer
		}
		if hit {
			in = !w.but
		}
	}
	return in, ended
}

// member reports whether a client is in an audience; what cannot be computed keeps it out.
func (m *Machine) member(w *whoCode, self *world.Entity, client int) bool {
	c := m.World.Client(client)
	if c == nil {
		return false
	}
	m.begin(client)
	if m.run(&w.code, 0, self) != nil {
		return false
	}
	in, how := m.among(m.frames[0], 0, w.who, c, self.Owner)
	return in && how == ended
}

// MayAsk reports whether a client is among those who may send a request to an entity.
func (m *Machine) MayAsk(r *contract.Request, self *world.Entity, client int) bool {
	if len(r.From) == 1 && r.From[0].Sort == contract.ToOwner {
		return client == self.Owner
	}
	if w := m.program.from[r.Index]; w != nil {
		return m.member(w, self, client)
	}
	c := m.World.Client(client)
	if c == nil {
		return false
	}
	in := false
	for _, w := range r.From {
		hit := w.Sort == contract.ToEveryone || w.Sort == contract.ToOwner && client == self.Owner ||
			w.Sort == contract.ToRole && c.Role == w.Role
		if hit {
			in = !w.But
		}
	}
	return in
}

// Sees reports whether a client may know of an entity.
func (m *Machine) Sees(e *world.Entity, client int) bool {
	return m.reaches(e.Kind.To, m.program.kinds[e.Kind.Index].to, e, client)
}

// Gets reports whether a client gets a property, if it may know of the entity.
func (m *Machine) Gets(e *world.Entity, p *contract.Property, client int) bool {
	return m.reaches(p.To, m.program.kinds[e.Kind.Index].props[p.Index].to, e, client)
}

// reaches reports whether a client is in an audience of an entity.
func (m *Machine) reaches(to contract.Audience, w *whoCode, e *world.Entity, client int) bool {
	switch to {
	case contract.Everyone:
		return true
	case contract.Owner:
		return e.Owner == client
	case contract.Some:
		return w == nil || m.member(w, e, client)
	}
	return false
}

// maxOfKind is how many entities of one kind a session holds at once.
const maxOfKind = 20_000

// vector returns the first n registers as doubles.
func vector(slots []int64, n int) []float64 {
	out := make([]float64, n)
	for i := range out {
		out[i] = fromBits(slots[i])
	}
	return out
}

// distance returns the Euclidean distance of two points.
func distance(a, b []float64) float64 {
	sum := 0.0
	for i := range a {
		d := a[i] - b[i]
		sum += float64(d * d)
	}
	return math.Sqrt(sum)
}

// toLine returns the distance of a point from the line between two others.
func toLine(p, a, b []float64) float64 {
	along := 0.0
	length := 0.0
	for i := range p {
		d := b[i] - a[i]
		along += float64((p[i] - a[i]) * d)
		length += float64(d * d)
	}
	t := 0.0
	if length > 0 {
		t = min(max(along/length, 0), 1)
	}
	sum := 0.0
	for i := range p {
		d := p[i] - (a[i] + float64(t*(b[i]-a[i])))
		sum += float64(d * d)
	}
	return math.Sqrt(sum)
}
