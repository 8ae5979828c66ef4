package rules

import (
	"cmp"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"strings"
	"unicode/utf8"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
	"kamerad.example/core/geometry"
	"kamerad.example/core/world"
)

// loop is one that is open: what it still goes over. Its lists use the memory of earlier loops.
//
// The list is copied when the loop opens: what its body spawns, despawns or puts somewhere does not
// change what the loop goes over.
type loop struct {
	entities []*world.Entity
	values   []int64
	width    int
	at       int
	number   int64  // the next, of one that goes over numbers
	numbers  uint64 // how many are left

	// Of one that begins with the nearest entities: entities has those that the last reach came to.
	nearest *bytecode.Loop
	reach   world.Reach
	last    bool // all entities would have been looked at
}

// at finds the slots of a place: the ones that it stands among and its offset. entity is nil where it is no property.
//
// An Address is a base, which the compiler knew, and for a list or map the register that holds the
// offset within, which OpIndex and OpKey have checked. The slots may be those of the world and must be
// written through the world alone, which keeps the journal.
func (m *Machine) at(
	f *frame, a *bytecode.Address,
) (slots []int64, offset int, e *world.Entity, p *contract.Property, how end) {
	offset = a.Base
	p = a.Property
	switch a.Space {
	case bytecode.InRow:
		e = f.entities[a.Entity]
		if e == nil || e.Gone {
			return nil, 0, nil, nil, nothing
		}
		slots = e.Nums
		if a.ByKind != nil {
			// Kinds may have the property in different slots: the entity's own kind says where.
			p = a.ByKind[e.Kind.Index]
			offset += p.Slot
		}
	case bytecode.InMemory:
		slots = f.memory
	case bytecode.InTable:
		slots = m.program.Contract.Memory
	case bytecode.InSettings:
		slots = m.World.Settings
	case bytecode.InRegisters:
		slots = f.nums[:]
	}
	if a.Index >= 0 {
		offset += int(f.nums[a.Index])
	}
	return slots, offset, e, p, ended
}

// list returns the slots of a list, map or stacks.
func (m *Machine) list(f *frame, a *bytecode.Address) ([]int64, end) {
	slots, offset, _, _, how := m.at(f, a)
	if how != ended {
		return nil, how
	}
	return slots[offset : offset+a.Type.Width()], ended
}

// fits checks a value's slots against its type.
//
// Whatever leaves a body goes through it: stored values, arguments, replies, events. The error goes on
// with "… cannot become", so it begins with the value and what the value is not.
func (m *Machine) fits(t *contract.Type, slots []int64) error {
	switch t.Form {
	case contract.FormBool, contract.FormEnum, contract.FormEntity, contract.FormClient, contract.FormKind,
		contract.FormInstant, contract.FormRole:
		return nil
	case contract.FormInt, contract.FormTime:
		// Both ends zero stand for one without a range.
		if (t.Low != 0 || t.High != 0) && !t.Within(slots[0]) {
			return fmt.Errorf("%s, which is no %s", t.Format(contract.Value{Num: slots[0]}), t)
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
//
// The result is a view of the registers or of m.slots: it holds until the next operand.
func (m *Machine) operand(f *frame, o *bytecode.Operand) ([]int64, end) {
	if o.List == nil {
		return f.nums[o.Register : o.Register+o.Type.Width()], ended
	}
	slots, how := m.list(f, o.List)
	if how != ended {
		return nil, how
	}
	// A list may have room for more or fewer than is wanted. Behind its values memory may hold anything: within a
	// record, which is compared slot by slot, there have to be zeros.
	m.slots = append(m.slots[:0], slots...)
	if t := o.List.Type; t.Form == contract.FormList {
		clear(m.slots[1+int(slots[0])*t.Of.Width():])
	}
	for len(m.slots) < o.Type.Width() {
		m.slots = append(m.slots, 0)
	}
	return m.slots, ended
}

// rare runs the instructions that cost more than their dispatch.
//
// It is a function of its own so that exec stays small enough for the compiler to keep what it needs in
// registers.
//
//revive:disable-next-line:function-length It is one switch.
func (m *Machine) rare(f *frame, depth int, c *bytecode.Code, in *bytecode.Instruction) end {
	r := &f.nums
	a := int(uint8(in.A))
	b := int(in.B)
	switch in.Op {
	case bytecode.OpMoves:
		copy(r[a:], r[b:b+int(in.K)])
	case bytecode.OpFetch:
		p := &c.Fetches[in.K]
		slots, offset, _, _, how := m.at(f, p)
		if how != ended {
			return how
		}
		copy(r[a:a+p.Type.Width()], slots[offset:])
	case bytecode.OpSteps:
		n, ok := c.Types[in.K].Steps(fromBits(r[b]))
		if !ok {
			return m.fault("a real came to be no finite number")
		}
		r[a] = n
	case bytecode.OpWiden:
		widen(c.Types[in.K], r[a:], r[b:])
	case bytecode.OpNarrow:
		return m.narrow(c.Types[in.K], r[a:], r[b:])
	case bytecode.OpVec:
		return m.vec(contract.Op(in.K>>8), r[a:a+int(in.K&0xff)], r[b:], r[uint8(in.C):])
	case bytecode.OpSame:
		r[a] = truth(slices.Equal(r[b:b+int(in.K)], r[int(in.C):int(in.C)+int(in.K)]))
	case bytecode.OpSameReal:
		r[a] = truth(
			slices.EqualFunc(
				r[b:b+int(in.K)], r[int(in.C):int(in.C)+int(in.K)],
				func(p, q int64) bool { return fromBits(p) == fromBits(q) },
			),
		)
	case bytecode.OpPutWide:
		p := &c.Puts[in.K]
		return m.putWide(f, p, r[a:a+p.Address.Type.Width()])
	case bytecode.OpPutList:
		p := &c.Puts[in.K]
		o := bytecode.Operand{Type: p.Address.Type, List: &c.Fetches[in.C]}
		slots, how := m.operand(f, &o)
		if how != ended {
			return how
		}
		return m.putWide(f, p, slots[:p.Address.Type.Width()])
	case bytecode.OpMemory:
		copy(f.memory[in.C:], r[a:a+int(in.K)])
	case bytecode.OpRoute:
		return m.route(f, &c.Routes[in.K], int(in.C))
	case bytecode.OpShuffle:
		p := &c.Fetches[in.K]
		slots, how := m.list(f, p)
		if how != ended {
			return how
		}
		to := f.memory[in.C : int(in.C)+len(slots)]
		copy(to, slots)
		w := p.Type.Of.Width()
		m.dice.at(mixed(m.way, uint64(c.ID)<<20|uint64(in.K)))
		for i := to[0] - 1; i > 0; i-- { // Fisher and Yates (Durstenfeld, 1964)
			j := m.dice.roll(0, i)
			for k := range int64(w) {
				x := 1 + i*int64(w) + k
				y := 1 + j*int64(w) + k
				to[x], to[y] = to[y], to[x]
			}
		}
	case bytecode.OpIndex:
		p := &c.Fetches[in.K]
		slots, how := m.list(f, p)
		if how != ended {
			return how
		}
		if i := r[b]; i < 0 || i >= slots[0] {
			return m.fault("the list `%s` has %d values: there is none at %d", p.Name(), slots[0], i)
		}
		r[a] = 1 + r[b]*int64(p.Type.Of.Width())
	case bytecode.OpKey, bytecode.OpKeyPut:
		return m.key(f, c, in)
	case bytecode.OpViewer:
		r[a] = m.viewer
	case bytecode.OpNow:
		r[a] = m.World.Tick * 1000 / int64(m.program.Contract.TickRate)
	case bytecode.OpLogic:
		r[a] = m.World.ClientOfRole(m.program.Contract.Logic.Role)
	case bytecode.OpRole:
		// A client that is gone has no role: −1 equals none of them.
		r[a] = -1
		if x := m.World.Client(int(r[b])); x != nil {
			r[a] = int64(x.Role)
		}
	case bytecode.OpName:
		r[a] = m.World.ClientName(int(r[b]))
	case bytecode.OpKnown:
		n := r[b]
		// A client that is gone is nothing; 0 is the server, which is always there.
		if n != 0 && m.World.Client(int(n)) == nil {
			n = contract.Nothing
		}
		r[a] = n
	case bytecode.OpExists:
		e := f.entities[b]
		r[a] = truth(e != nil && !e.Gone)
	case bytecode.OpHolder:
		return m.holder(f, &c.Containers[in.K], &r[a])
	case bytecode.OpWords:
		return m.words(f, &c.Texts[in.K], &r[a])
	case bytecode.OpOrder: // of UTF-8, the order of bytes is that of characters
		r[a] = int64(strings.Compare(m.World.Text(r[b]), m.World.Text(r[uint8(in.C)])))
	case bytecode.OpLength:
		r[a] = int64(utf8.RuneCountInString(m.World.Text(r[b])))
	case bytecode.OpMade:
		r[a] = truth(contract.MadeOf(m.World.Text(r[b]), c.Strings[in.K]))
	case bytecode.OpSortBegin:
		m.sortKeys = m.sortKeys[:0]
	case bytecode.OpSortKey:
		m.sortKeys = append(m.sortKeys, r[b])
	case bytecode.OpSort:
		return m.sort(f, &c.Containers[in.K], in.C == 1)
	case bytecode.OpMath:
		return m.maths(f, &c.Maths[in.K], r[a:])
	case bytecode.OpClip:
		v := r[b]
		low := r[uint8(in.C)]
		high := r[uint8(in.C)+1]
		if in.K == 1 {
			r[a] = toBits(min(max(fromBits(v), fromBits(low)), fromBits(high)))
		} else {
			r[a] = min(max(v, low), high)
		}
	case bytecode.OpRoll:
		low := r[b]
		high := r[uint8(in.C)]
		if low > high {
			return m.fault("a roll of %d..%d: the range is empty", low, high)
		}
		m.dice.at(mixed(m.way, uint64(c.ID)<<20|1<<19|uint64(in.K)))
		r[a] = m.dice.roll(low, high)
	case bytecode.OpSeen:
		e := f.entities[b]
		r[a] = 0
		if e != nil && !e.Gone && m.HasSeen != nil {
			var p *contract.Property
			if in.K >= 0 {
				p = c.Properties[in.K]
			}
			if m.HasSeen(int(r[uint8(in.C)]), e, p) {
				r[a] = 1
			}
		}
	case bytecode.OpPublic:
		e := f.entities[b]
		if e == nil || e.Gone {
			return nothing
		}
		r[a] = int64(e.ID)
		if m.PublicNumber != nil {
			r[a] = int64(m.PublicNumber(e))
		}
		return m.spend(bytecode.NumberSteps)
	case bytecode.OpSince:
		e := f.entities[b]
		if e == nil || e.Gone {
			return nothing
		}
		ticks := m.World.Tick - m.World.ChangedTick(e, c.Properties[in.K].Index)
		r[a] = ticks * 1000 / int64(m.program.Contract.TickRate)
	case bytecode.OpPath:
		e := f.entities[b]
		p := c.Properties[in.K]
		if e == nil || e.Gone {
			return nothing
		}
		w := p.Type.Width()
		from := p.Path
		// Spawned since the last motion: it was nowhere a tick ago, and has stood where it stands.
		if p.Follows == nil && e.ID > m.World.LastMoved {
			from = p.Slot
		}
		widen(p.Type, r[a:], e.Nums[from:])
		widen(p.Type, r[a+w:], e.Nums[p.Slot:])
	case bytecode.OpHowMany:
		r[a] = int64(m.howMany(&c.Loops[in.K]))
	case bytecode.OpFirst:
		r[a] = 0
		for _, k := range c.Loops[in.K].Kinds {
			if all := m.World.OfKind(k.Index); len(all) > 0 && (r[a] == 0 || int64(all[0].ID) < r[a]) {
				r[a] = int64(all[0].ID)
			}
		}
	case bytecode.OpCountNear:
		r[a] = m.countNear(f, &c.Loops[in.K])
	case bytecode.OpNearest:
		return m.nearest(f, &c.Loops[in.K], r[a:])
	case bytecode.OpIter:
		return m.begins(f, &c.Loops[in.K])
	case bytecode.OpDone:
		m.open--
	case bytecode.OpNone:
		return m.fault("a query found nothing, and says nothing of that case with `else`")
	case bytecode.OpMany:
		return m.fault("there is more than one where exactly one is wanted")
	case bytecode.OpCall:
		call := &c.Calls[in.K]
		if how := m.enter(
			f, depth, &m.program.Functions[call.Function.Index], call, nil, uint64(c.ID)<<20|2<<18|uint64(in.K),
		); how != ended {
			return how
		}
		w := call.Function.Result.Width()
		copy(r[a:a+w], m.frames[depth+1].nums[:w])
		if err := m.fits(call.Function.Result, r[a:a+w]); err != nil {
			return m.fault("the function `%s` gives %s", call.Function.Name, err)
		}
	case bytecode.OpCompute:
		e := f.entities[b]
		if e == nil || e.Gone {
			return nothing
		}
		of := &c.Computed[in.K]
		slots, out := m.compute(depth+1, e, of.Properties[e.Kind.Index])
		if out != nil {
			m.inner = out
			return failedInside
		}
		copy(r[a:], slots)
	case bytecode.OpRun:
		call := &c.Calls[in.K]
		on := f.entities[b]
		if on == nil || on.Gone {
			return nothing
		}
		return m.enter(f, depth, &m.program.Actions[call.Action.Index], call, on, uint64(c.ID)<<20|uint64(in.K))
	case bytecode.OpDelay:
		ticks := int64(in.C)
		if ticks == 0 {
			ticks = contract.TicksOf(r[a], m.program.Contract.TickRate)
		}
		return m.delay(f, &c.Calls[in.K], f.entities[b], ticks)
	case bytecode.OpTell:
		before := len(m.Told)
		how := m.tell(f, depth, &c.Tells[in.K])
		if how != ended {
			// Half of an event is none.
			m.Told = m.Told[:before]
		}
		return how
	case bytecode.OpLog:
		return m.log(f, depth, &c.Logs[in.K])
	case bytecode.OpSpawn:
		return m.spawn(f, depth, &c.Spawns[in.K])
	case bytecode.OpDespawn:
		e := f.entities[b]
		if e == nil || e.Gone {
			return nothing
		}
		return m.despawn(depth, e)
	case bytecode.OpGive:
		e := f.entities[b]
		if e == nil || e.Gone {
			return nothing
		}
		if to := int(r[a]); to == 0 || m.World.Client(to) != nil {
			m.World.SetOwner(e, to)
			return ended
		}
		return m.fault("%s is given to a client that is gone", e.Kind.Name)
	case bytecode.OpSetRole:
		if l := m.program.Contract.Logic; l != nil {
			x := m.World.Client(int(r[b]))
			if int(r[a]) == l.Role || x != nil && x.Role == l.Role {
				return m.fault("no body makes a client the logic process, or the logic process another client")
			}
		}
		m.World.SetRole(int(r[b]), int(r[a]))
	case bytecode.OpExpel:
		m.Effects = append(m.Effects, Effect{Kind: ExpelClient, Client: int(r[b]), Text: c.Strings[in.K]})
	case bytecode.OpResult:
		t := c.Types[in.K]
		if err := m.fits(t, r[a:]); err != nil {
			return m.fault("the result would be %s", err)
		}
		m.result = t.AppendJSON(nil, t.FromSlots(r[a:], m.World.Text))
	case bytecode.OpClose:
		m.Effects = append(m.Effects, Effect{Kind: CloseSession, Text: c.Strings[in.K], Result: m.result})
		m.result = nil
	case bytecode.OpSend:
		return m.send(f, &c.Sends[in.K])
	case bytecode.OpReply:
		t := c.Types[in.K]
		if err := m.fits(t, r[a:]); err != nil {
			return m.fault("the reply would be %s", err)
		}
		m.Reply = t.FromSlots(r[a:], m.World.Text)
	case bytecode.OpReveal:
		return m.reveal(f, depth, &c.Reveals[in.K], r[b:])
	case bytecode.OpChanged:
		if e := f.entities[b]; e == nil || e.Gone {
			m.recent = m.World.Tick
		} else if in.K < 0 {
			m.recent = max(m.recent, m.World.OwnerTick(e))
		} else {
			m.recent = max(m.recent, m.World.ChangedTick(e, c.Properties[in.K].Index))
		}
	case bytecode.OpChangedAny:
		if in.K == -1 {
			m.recent = max(m.recent, m.World.ClientsTick())
		} else {
			m.recent = m.World.Tick
		}
	}
	return ended
}

// widen turns a value from steps, as a row holds it, into doubles, as registers hold it: a direction into its unit
// vector, everything else number by number.
//
// to may begin where from does.
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
//
// For sums q is a vector, else a number. to may be the same registers as p.
func (m *Machine) vec(op contract.Op, to, p, q []int64) end {
	// Read for every operation, since reading it costs less than to ask.
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
//
// Writing to memory of the body is not checked: its values are when they go on from there. values may
// be clamped in place.
func (m *Machine) putWide(f *frame, p *bytecode.Target, values []int64) end {
	slots, offset, e, prop, how := m.at(f, &p.Address)
	if how != ended {
		return how
	}
	if e == nil {
		copy(slots[offset:], values)
		return ended
	}
	t := p.Address.Type
	if prop.TakesAll() { // t is its type, or that of a part of it
		for i := range values {
			values[i] = t.Bring(values[i])
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
//
// OpKey reads and fails without the key. OpKeyPut makes room for a new one; its value is written by the
// instruction that follows. The result is an offset within the map.
func (m *Machine) key(f *frame, c *bytecode.Code, in *bytecode.Instruction) end {
	p := &c.Fetches[in.K]
	slots, offset, e, prop, how := m.at(f, p)
	if how != ended {
		return how
	}
	key := f.nums[in.B]
	to := &f.nums[uint8(in.A)]
	if in.Op == bytecode.OpKeyPut {
		if err := m.fits(p.Type.Key, f.nums[in.B:]); err != nil {
			return m.fault("a key of `%s` would be %s", prop.Name, err)
		}
		at, err := m.World.PutInMap(world.Place{
			Entity:   e,
			Property: prop,
			Type:     p.Type,
			Slot:     offset,
		}, key)
		if err != nil {
			return m.fault("%s", err)
		}
		*to = int64(at)
		return ended
	}
	i, found := m.World.FindInMap(p.Type, slots[offset:], key)
	if !found {
		v := p.Type.Key.FromSlots(f.nums[in.B:], m.World.Text)
		return m.fault("the map `%s` does not have the key %s", p.Name(), p.Type.Key.Format(v))
	}
	*to = int64(2 + i*(1+p.Type.Of.Width()))
	return ended
}

// holder runs an operation on stacks, a list or a map.
//
// What is full, or does not hold what is taken, is an error of package world, whose words name the
// property.
//
//revive:disable-next-line:function-length It is one switch.
func (m *Machine) holder(f *frame, h *bytecode.ContainerCall, out *int64) end {
	slots, offset, e, prop, how := m.at(f, &h.Container)
	if how != ended {
		return how
	}
	t := h.Container.Type
	slots = slots[offset : offset+t.Width()]
	arg := func(i int) int64 { return f.nums[h.Args[i]] }
	wide := func() []int64 { return f.nums[h.Args[0] : h.Args[0]+t.Of.Width()] }
	place := world.Place{
		Entity:   e,
		Property: prop,
		Type:     t,
		Slot:     offset,
	}
	var err error
	switch stacks, list := t.Form == contract.FormStacks, t.Form == contract.FormList; h.Op {
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
		switch {
		case !stacks:
			*out = slots[0]
		case len(h.Args) == 0:
			*out = world.AllStacked(slots)
		default:
			*out = world.HasStack(slots, arg(0))
		}
	case contract.OpRoom:
		switch {
		case !stacks:
			*out = int64(t.Max) - slots[0]
		case len(h.Args) == 0:
			*out = world.FreeStacks(slots)
		default:
			*out = world.StackRoom(slots, arg(0), t.Each)
		}
	case contract.OpFind:
		*out = world.FindInList(t, slots, wide())
	case contract.OpPut:
		if stacks {
			err = m.World.PutStack(place, arg(0), arg(1))
		} else if err = m.fits(t.Of, wide()); err == nil {
			index := slots[0]
			if len(h.Args) > 1 {
				index = arg(1)
			}
			err = m.World.PutInList(place, wide(), index)
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
	case contract.OpCanSplit:
		*out = truth(world.CanSplit(slots, arg(0), arg(1)))
	case contract.OpCountAt, contract.OpItemAt:
		var item, count int64
		item, count, err = world.StackAt(place, slots, arg(0))
		switch {
		case h.Op == contract.OpCountAt:
			*out = count
		case err == nil && count == 0:
			err = fmt.Errorf("slot %d of %s is empty", arg(0), h.Container.Name())
		default:
			*out = item
		}
	case contract.OpPutAt:
		err = m.World.PutStackAt(place, arg(0), arg(1), arg(2))
	case contract.OpTakeAt:
		err = m.World.TakeStackAt(place, arg(0), arg(1))
	case contract.OpMove, contract.OpMoveAt:
		return m.move(f, h, place)
	}
	if err != nil {
		return m.fault("%s", err)
	}
	return ended
}

// move takes from one holder and puts into another.
//
// It takes before it puts, so that a move within one property never needs room twice. When the second
// half fails the fault undoes the first one.
func (m *Machine) move(f *frame, h *bytecode.ContainerCall, from world.Place) end {
	_, offset, e, prop, how := m.at(f, &h.Destination)
	if how != ended {
		return how
	}
	to := world.Place{
		Entity:   e,
		Property: prop,
		Type:     h.Destination.Type,
		Slot:     offset,
	}
	var err error
	if h.Op == contract.OpMoveAt {
		slot := f.nums[h.Args[0]]
		other := f.nums[h.Args[1]]
		if len(h.Args) > 2 {
			err = m.World.MoveStackAt(from, slot, to, other, f.nums[h.Args[2]])
		} else {
			err = m.World.ShiftStackAt(from, slot, to, other)
		}
	} else if from.Type.Form == contract.FormStacks {
		item := f.nums[h.Args[0]]
		n := f.nums[h.Args[1]]
		if err = m.World.TakeStack(from, item, n); err == nil {
			err = m.World.PutStack(to, item, n)
		}
	} else {
		value := f.nums[h.Args[0] : h.Args[0]+from.Type.Of.Width()]
		if i := world.FindInList(from.Type, from.Slots(), value); i < 0 {
			err = fmt.Errorf("%s does not hold what is moved", from)
		} else if err = m.World.CutFromList(from, i); err == nil {
			err = m.World.PutInList(to, value, to.Slots()[0])
		}
	}
	if err != nil {
		return m.fault("%s", err)
	}
	return ended
}

// begins opens a loop over what is there now.
//
// Each entity and each cell of an index that is looked at costs a step, within reach or not. Entities
// go in the order in which they were spawned.
func (m *Machine) begins(f *frame, it *bytecode.Loop) end {
	l := m.openLoop()
	switch {
	case it.Kinds != nil:
		m.gather(f, it, l)
	case it.Range >= 0:
		l.number = f.nums[it.Range]
		if last := f.nums[it.Range+1]; l.number <= last {
			// Of all 64-bit numbers there are more by one, which nobody lives to see.
			l.numbers = max(uint64(last)-uint64(l.number)+1, uint64(last)-uint64(l.number))
		}
	case it.Clients:
		for _, c := range m.World.Clients() {
			l.values = append(l.values, int64(c.Number))
		}
	default:
		slots, how := m.list(f, &it.List)
		if how != ended {
			m.open--
			return how
		}
		l.gatherValues(it, slots)
	}
	return ended
}

// gatherValues puts what a loop over a list, a map or stacks goes over into it. Of a map or stacks these may be the
// keys or items alone: Skip is the width of what stands behind each.
func (l *loop) gatherValues(it *bytecode.Loop, slots []int64) {
	l.width = it.Width
	step := it.Width + it.Skip
	if it.Stacks {
		for i := 0; i < len(slots); i += 2 {
			if slots[i+1] > 0 {
				l.values = append(l.values, slots[i:i+it.Width]...)
			}
		}
		return
	}
	if it.Places {
		l.width++
	}
	for i := range int(slots[0]) {
		if it.Places {
			l.values = append(l.values, int64(i))
		}
		l.values = append(l.values, slots[1+i*step:1+i*step+it.Width]...)
	}
}

// sort puts the values of a list in the order of m.sortKeys, the least first; those of equal keys stay in their order.
// Each comparison of the usual many counts as a step.
func (m *Machine) sort(f *frame, h *bytecode.ContainerCall, reals bool) end {
	slots, offset, e, prop, how := m.at(f, &h.Container)
	if how != ended {
		return how
	}
	n := len(m.sortKeys)
	if how := m.spend(int64(n * bits.Len(uint(n)))); how != ended {
		return how
	}
	m.sortPlaces = m.sortPlaces[:0]
	for i := range n {
		m.sortPlaces = append(m.sortPlaces, i)
	}
	slices.SortStableFunc(m.sortPlaces, func(a, b int) int {
		x := m.sortKeys[a]
		y := m.sortKeys[b]
		if reals {
			return cmp.Compare(fromBits(x), fromBits(y))
		}
		return cmp.Compare(x, y)
	})
	width := h.Container.Type.Of.Width()
	m.slots = append(m.slots[:0], slots[offset+1:offset+1+n*width]...)
	for to, from := range m.sortPlaces {
		for i := range width {
			m.World.Write(e, prop.Index, offset+1+to*width+i, m.slots[from*width+i])
		}
	}
	return ended
}

// openLoop returns a loop that goes over nothing yet.
func (m *Machine) openLoop() *loop {
	if m.open == len(m.loops) {
		m.loops = append(m.loops, loop{})
	}
	l := &m.loops[m.open]
	m.open++
	l.entities = l.entities[:0]
	l.values = l.values[:0]
	l.width = 1
	l.at = 0
	l.numbers = 0
	l.nearest = nil
	l.last = false
	return l
}

// countNear returns how many entities a loop would go over that finds them by their place.
func (m *Machine) countNear(f *frame, it *bytecode.Loop) int64 {
	l := m.openLoop()
	r := world.Reach{Line: line(f, it), Beyond: -1, Most: fromBits(f.nums[it.Within])}
	for _, k := range it.Kinds {
		var steps int64
		l.entities, steps = m.World.Near(k, &r, l.entities)
		m.steps -= steps
	}
	m.open--
	return int64(len(l.entities))
}

// nearest finds the nearest entity, and among equals the one that was spawned first.
func (m *Machine) nearest(f *frame, it *bytecode.Loop, out []int64) end {
	from := line(f, it).From
	var best *world.Entity
	least := math.Inf(1)
	for _, k := range it.Kinds {
		e, distance, steps := m.World.Nearest(k, &from)
		m.steps -= steps
		if e != nil && (best == nil || distance < least || distance == least && e.ID < best.ID) {
			best = e
			least = distance
		}
	}
	out[0] = 0
	if best != nil {
		if !finite(least) {
			return m.fault("`distance` came to be no finite number")
		}
		out[0] = int64(best.ID)
		out[1] = toBits(least)
	}
	return ended
}

// warmed is how many entities a loop reads ahead.
const warmed = 8

// next puts what the innermost loop comes to into its registers, and returns again. It leaves the loop after the last,
// and returns ended. What was despawned since the loop began is passed over. length is that of the code, which each
// round pays for.
//
// It charges for the whole code in each round, which is more than the body of any loop in it can take.
func (m *Machine) next(f *frame, in *bytecode.Instruction, length int) end {
	if how := m.spend(int64(length)); how != ended {
		return how
	}
	l := &m.loops[m.open-1]
	a := int(uint8(in.A))
	if in.K == 1 {
		for l.at < len(l.entities) || m.nearer(f, l) {
			if l.at%warmed == 0 && len(l.entities) > warmed {
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
	} else if l.numbers > 0 {
		f.nums[a] = l.number
		l.number++
		l.numbers--
		return again
	}
	m.open--
	return ended
}

// nearer goes on to entities that are farther away, while there is none that is wanted: all that were gone over before
// are nearer. It reports whether there are more.
func (m *Machine) nearer(f *frame, l *loop) bool {
	for l.nearest != nil && l.at == len(l.entities) {
		if f.nums[l.nearest.Found] != 0 || !m.gatherNearest(l) {
			return false
		}
	}
	return l.nearest != nil
}

// howMany returns how many entities or clients a loop goes over.
func (m *Machine) howMany(it *bytecode.Loop) (n int) {
	if it.Clients {
		return len(m.World.Clients())
	}
	for _, k := range it.Kinds {
		n += len(m.World.OfKind(k.Index))
	}
	return n
}

// gather puts the entities that a loop goes over into its list, or those that come first.
//
// The origin, the radius and the value stand in registers: they were computed once, before the loop
// opened.
func (m *Machine) gather(f *frame, it *bytecode.Loop, l *loop) {
	switch {
	case it.Nearest: // next gathers
		l.nearest = it
		l.reach = world.Reach{Line: line(f, it), Beyond: -1, Most: -1}
		return
	case it.Within >= 0:
		l.reach = world.Reach{Line: line(f, it), Beyond: -1, Most: fromBits(f.nums[it.Within])}
		m.gatherNear(it, &l.reach, l)
		return
	case it.Properties != nil && !(it.IsRef && f.nums[it.Key] == 0):
		for _, k := range it.Kinds {
			var steps int64
			l.entities, steps = m.World.WithValue(k, it.Properties[k.Index], f.nums[it.Key], l.entities)
			m.steps -= steps
		}
		sortByID(l.entities)
		return
	}
	for _, k := range it.Kinds {
		all := m.World.OfKind(k.Index)
		l.entities = append(l.entities, all...)
		m.steps -= int64(len(all))
	}
	if len(it.Kinds) > 1 {
		sortByID(l.entities)
	}
}

// gatherNear appends the entities within reach to a loop's list, and returns how many steps it took.
func (m *Machine) gatherNear(it *bytecode.Loop, r *world.Reach, l *loop) (steps int64) {
	for _, k := range it.Kinds {
		var n int64
		l.entities, n = m.World.Near(k, r, l.entities)
		steps += n
	}
	m.steps -= steps
	sortByID(l.entities)
	return steps
}

// gatherNearest puts the next entities into the list of a loop that begins with the nearest, and reports whether there
// were more to look for.
//
// Each time it looks twice as far, until it would look at all entities anyway: then it looks at all that are left.
// What comes later is farther away than all that came before.
func (m *Machine) gatherNearest(l *loop) bool {
	if math.IsInf(l.reach.Most, 1) {
		return false
	}
	l.entities = l.entities[:0]
	l.at = 0
	l.reach.Beyond = l.reach.Most
	switch {
	case l.last:
		l.reach.Most = math.Inf(1)
	case l.reach.Most < 0:
		for _, k := range l.nearest.Kinds {
			l.reach.Most = max(l.reach.Most, m.World.NearestReach(k))
		}
	default:
		l.reach.Most *= 2
	}
	l.last = m.gatherNear(l.nearest, &l.reach, l) >= int64(m.howMany(l.nearest))
	return true
}

// sortByID puts entities into the order in which they were spawned.
func sortByID(list []*world.Entity) {
	if len(list) <= warmed { // mostly: by insertion
		for i := 1; i < len(list); i++ {
			e := list[i]
			j := i
			for ; j > 0 && list[j-1].ID > e.ID; j-- {
				list[j] = list[j-1]
			}
			list[j] = e
		}
		return
	}
	slices.SortFunc(list, func(a, b *world.Entity) int { return cmp.Compare(a.ID, b.ID) })
}

// line returns the line from which a loop measures; a place is a line of no length.
func line(f *frame, it *bytecode.Loop) (l geometry.Line) {
	l.From = point(f.nums[it.Origin:], it.Dimensions)
	l.To = l.From
	if it.Line {
		l.To = point(f.nums[it.Origin+it.Dimensions:], it.Dimensions)
	}
	return l
}

// enter runs an action or function in the next frame; place is where it is run.
//
// The place is mixed into the way, so that one function that is called from two places rolls apart in
// each.
func (m *Machine) enter(
	f *frame, depth int, c *bytecode.Code, call *bytecode.Call, on *world.Entity, place uint64,
) end {
	next, how := m.frame(depth)
	if how != ended {
		return how
	}
	if how := m.hand(f, next, c, call.Args); how != ended {
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
//
// Actions and functions cannot run in circles; only `on spawn` can come here again and again, by
// spawning its own kind.
func (m *Machine) frame(depth int) (*frame, end) {
	if depth+1 >= len(m.frames) {
		return nil, m.fault("bodies run each other more than %d deep; does spawning go on without end?", maxDepth)
	}
	if m.frames[depth+1] == nil {
		m.frames[depth+1] = &frame{memory: make([]int64, m.program.Memory)}
	}
	return m.frames[depth+1], ended
}

// hand puts values where other code wants its arguments.
//
// It charges for the code that is about to run, and checks every argument against its parameter.
func (m *Machine) hand(f, next *frame, c *bytecode.Code, args []bytecode.Operand) end {
	if how := m.spend(int64(len(c.Instructions))); how != ended {
		return how
	}
	for i := range args {
		slots, how := m.operand(f, &args[i])
		if how != ended {
			return how
		}
		p := &c.Params[i]
		if err := m.fits(p.Type, slots); err != nil {
			return m.fault("it is given %s", err)
		}
		if p.InMemory {
			copy(next.memory[p.Offset:], slots)
		} else {
			copy(next.nums[p.Offset:], slots)
		}
	}
	return ended
}

// delay lets an action run later.
//
// The arguments are copied: they are those of now when the action runs. An entity that is gone by then
// takes its actions along.
func (m *Machine) delay(f *frame, call *bytecode.Call, on *world.Entity, ticks int64) end {
	if on == nil || on.Gone {
		return nothing
	}
	var args []int64
	for i := range call.Args {
		slots, how := m.operand(f, &call.Args[i])
		if how != ended {
			return how
		}
		if err := m.fits(call.Args[i].Type, slots); err != nil {
			return m.fault("the action `%s` is given %s", call.Action.Name, err)
		}
		args = append(args, slots...)
	}
	if !m.World.HasRoomToDelay(call.Action) {
		return m.fault("%s", m.noRoom("`"+call.Action.Name+"` to wait"))
	}
	if !m.World.Delay(on, m.World.Tick+ticks, call.Action, args) {
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
//
// Bounds are asked before anything is made. The new entity is seen by queries from here on, in this
// body as well.
func (m *Machine) spawn(f *frame, depth int, s *bytecode.Spawn) end {
	k := s.Kinds[0]
	if s.Which >= 0 {
		k = s.Kinds[f.nums[s.Which]]
	}
	if len(m.World.OfKind(k.Index)) >= maxOfKind {
		return m.fault("there are %d entities of the kind %s already", maxOfKind, k.Name)
	}
	if m.World.Full(k) {
		return m.fault(
			"there have been %d entities of the kind %s, and no more can be numbered",
			world.MaxSerial(m.program.Contract), k.Name,
		)
	}
	if !m.World.HasRoom(k) {
		return m.fault("%s", m.noRoom("another "+k.Name))
	}
	e := m.World.Spawn(k, 0)
	for i := range s.Sets {
		if how := m.setSpawned(f, e, &s.Sets[i]); how != ended {
			return how
		}
	}
	if out := m.computeInitial(depth+1, e); out != nil {
		m.inner = out
		return failedInside
	}
	if s.Local >= 0 {
		f.nums[s.Local] = int64(e.ID)
		// The register after the one with the number is kept for the entity itself.
		f.entities[s.Local+1] = e
	}
	c := m.program.Kinds[k.Index].Spawn
	if c == nil {
		return ended
	}
	if _, how := m.frame(depth); how != ended {
		return how
	}
	if how := m.spend(int64(len(c.Instructions))); how != ended {
		return how
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

// despawn takes an entity out of the world, after its `on despawn`. What that handler despawns itself comes back here
// and goes with the first.
func (m *Machine) despawn(depth int, e *world.Entity) end {
	c := m.program.Kinds[e.Kind.Index].Despawn
	if c == nil {
		m.World.Despawn(e)
		return ended
	}
	if slices.Contains(m.ending, e) {
		return ended
	}
	if _, how := m.frame(depth); how != ended {
		return how
	}
	if how := m.spend(int64(len(c.Instructions))); how != ended {
		return how
	}
	m.ending = append(m.ending, e)
	way := m.way
	m.way = mixed(mixed(way, uint64(e.Key())), 1)
	out := m.run(c, depth+1, e)
	m.way = way
	m.ending = m.ending[:len(m.ending)-1]
	if out != nil {
		m.inner = out
		return failedInside
	}
	m.World.Despawn(e)
	return ended
}

// setSpawned sets a property of an entity that is being spawned.
//
// The value is clamped or checked like that of any other write.
func (m *Machine) setSpawned(f *frame, e *world.Entity, set *bytecode.Assignment) end {
	p := set.Properties[e.Kind.Index]
	slots, how := m.operand(f, &set.Value)
	if how != ended {
		return how
	}
	if p.TakesAll() {
		m.slots = append(m.slots[:0], slots...)
		for i := range m.slots {
			m.slots[i] = p.Type.Bring(m.slots[i])
		}
		slots = m.slots
	}
	if err := m.fits(p.Type, slots); err != nil {
		return m.fault("%s.%s cannot become %s", e.Kind.Name, p.Name, err)
	}
	m.World.Set(e, p, slots[:p.Type.Width()])
	return ended
}

// tell adds an event to those told; its lists use the memory of events of earlier runs.
//
// Who gets it is decided now, not when it is sent: an audience means what holds where the event was
// told.
func (m *Machine) tell(f *frame, depth int, t *bytecode.Tell) end {
	if t.Entity >= 0 && (f.entities[t.Entity] == nil || f.entities[t.Entity].Gone) {
		return nothing
	}
	if len(m.Told) >= maxTold {
		return m.fault("more than %d events are told at once", maxTold)
	}
	// The element behind the last may be an earlier event, with its lists.
	if len(m.Told) < cap(m.Told) {
		m.Told = m.Told[:len(m.Told)+1]
	} else {
		m.Told = append(m.Told, Told{})
	}
	out := &m.Told[len(m.Told)-1]
	*out = Told{
		Event:    t.Event,
		Everyone: t.Everyone,
		Values:   out.Values[:0],
		Clients:  out.Clients[:0],
	}
	if t.Entity >= 0 {
		out.Entity = f.entities[t.Entity]
	}
	for i := range t.Args {
		slots, how := m.operand(f, &t.Args[i])
		if how != ended {
			return how
		}
		p := &t.Event.Params[i]
		if err := m.fits(p.Type, slots); err != nil {
			return m.fault("`%s` of the event `%s` would be %s", p.Name, t.Event.Name, err)
		}
		out.Values = append(out.Values, p.Type.FromSlots(slots, m.World.Text))
	}
	if t.Everyone {
		return ended
	}
	var how end
	out.Clients, how = m.clients(f, depth, t.Terms, out.Clients)
	return how
}

// send notes that a client is to be sent elsewhere.
func (m *Machine) send(f *frame, s *bytecode.Send) end {
	out := Effect{Kind: SendClient, Client: int(f.nums[s.Client]), Exit: s.Exit}
	if s.Key >= 0 {
		out.Key = m.World.Text(f.nums[s.Key])
		if len(out.Key) > contract.MaxKey {
			return m.fault(
				"the key of the exit `%s` would have %d bytes, more than %d",
				s.Exit.Name,
				len(out.Key),
				contract.MaxKey,
			)
		}
	}
	for i := range s.Args {
		slots, how := m.operand(f, &s.Args[i])
		if how != ended {
			return how
		}
		p := &s.Exit.Params[i]
		if err := m.fits(p.Type, slots); err != nil {
			return m.fault("`%s` of the exit `%s` would be %s", p.Name, s.Exit.Name, err)
		}
		out.Values = append(out.Values, p.Type.FromSlots(slots, m.World.Text))
	}
	m.Effects = append(m.Effects, out)
	return ended
}

// reveal notes that clients may learn a value.
//
// Texts are noted by what they say, since their places differ between sessions that are compared.
func (m *Machine) reveal(f *frame, depth int, x *bytecode.Reveal, slots []int64) end {
	if len(m.Reveals) >= maxReveals {
		return ended
	}
	slots = slots[:x.Type.Width()]
	out := Reveal{Place: x.Place, Value: fmt.Sprint(slots)}
	if x.Type.Form == contract.FormText {
		out.Value = m.World.Text(slots[0])
	}
	how := ended
	if !x.Everyone {
		out.Clients, how = m.clients(f, depth, x.Terms, []int{})
	}
	m.Reveals = append(m.Reveals, out)
	return how
}

// log adds words for the logs of some clients.
//
// Without any client among the terms the line still goes to whoever runs the session.
func (m *Machine) log(f *frame, depth int, l *bytecode.Log) end {
	if len(m.Effects) >= maxTold {
		return m.fault("more than %d lines are logged at once", maxTold)
	}
	var words strings.Builder
	for i, w := range l.Words {
		words.WriteString(w)
		if i >= len(l.Args) {
			continue
		}
		slots, how := m.operand(f, &l.Args[i])
		if how != ended {
			return how
		}
		words.WriteString(m.worded(l.Args[i].Type, slots))
	}
	clients, how := m.clients(f, depth, l.Terms, nil)
	if how != ended {
		return how
	}
	m.Effects = append(m.Effects, Effect{Kind: LogLine, Text: words.String(), Clients: clients})
	return ended
}

// words puts a text together. Each of its bytes costs a step: what a cause writes has to be kept for as long.
func (m *Machine) words(f *frame, w *bytecode.Words, out *int64) end {
	var text strings.Builder
	for i, word := range w.Words {
		text.WriteString(word)
		if i < len(w.Args) {
			a := &w.Args[i]
			text.WriteString(m.worded(a.Type, f.nums[a.Register:a.Register+a.Type.Width()]))
		}
	}
	if how := m.spend(int64(text.Len())); how != ended {
		return how
	}
	*out = m.World.Intern(text.String())
	return ended
}

// worded returns a value of an expression as text for a log.
//
// An entity is worded by its kind, since its number means nothing to a player.
func (m *Machine) worded(t *contract.Type, slots []int64) string {
	switch {
	case t.Form == contract.FormText:
		return m.World.Text(slots[0])
	case t.Form == contract.FormRole:
		if slots[0] < 0 {
			return "nobody"
		}
		return m.program.Contract.Roles[slots[0]]
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
//
// They come in the order of the world's clients, which is the same in a replay.
func (m *Machine) clients(f *frame, depth int, terms []bytecode.Term, to []int) ([]int, end) {
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
//
// Each term adds those it names or, with `but`, takes them away again; the last one that names the
// client decides. A named audience that cannot be computed names nobody.
func (m *Machine) among(f *frame, depth int, terms []bytecode.Term, c *world.Client, owner int) (bool, end) {
	in := false
	for i := range terms {
		w := &terms[i]
		hit := false
		switch w.Sort {
		case contract.ToEveryone:
			hit = true
		case contract.ToOwner:
			hit = c.Number == owner
		case contract.ToCaller:
			hit = int64(c.Number) == m.caller
		case contract.ToRole:
			hit = c.Role == w.Role
		case contract.ToClient:
			if w.List == nil {
				hit = int64(c.Number) == f.nums[w.Register]
				break
			}
			slots, how := m.list(f, w.List)
			if how != ended {
				return false, how
			}
			hit = slices.Contains(slots[1:1+slots[0]], int64(c.Number))
		case contract.ToNamed:
			next, how := m.frame(depth)
			if how != ended {
				return false, how
			}
			code := &m.program.Audiences[w.Audience.Index]
			if how := m.hand(f, next, code, w.Args); how != ended {
				return false, how
			}
			viewer := m.viewer
			m.viewer = int64(c.Number)
			hit = m.run(code, depth+1, nil) == nil && next.nums[0] != 0
			m.viewer = viewer
		}
		if hit {
			in = !w.But
		}
	}
	return in, ended
}

// member reports whether a client is in an audience; what cannot be computed keeps it out.
func (m *Machine) member(w *bytecode.ClientList, self *world.Entity, client int) bool {
	c := m.World.Client(client)
	if c == nil {
		return false
	}
	m.begin(client)
	if m.run(&w.Code, 0, self) != nil {
		return false
	}
	in, how := m.among(m.frames[0], 0, w.Terms, c, self.Owner)
	return in && how == ended
}

// MayAsk reports whether a client is among those who may send a request to an entity.
//
// The usual audiences are answered without running any code.
func (m *Machine) MayAsk(r *contract.Request, self *world.Entity, client int) bool {
	if len(r.From) == 1 && r.From[0].Sort == contract.ToOwner {
		return client == self.Owner
	}
	if w := m.program.From[r.Index]; w != nil {
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
//
// Gets asks only about the property: a client needs both.
func (m *Machine) Sees(e *world.Entity, client int) bool {
	return m.reaches(e.Kind.To, m.program.Kinds[e.Kind.Index].To, e, client)
}

// Gets reports whether a client gets a property, if it may know of the entity.
func (m *Machine) Gets(e *world.Entity, p *contract.Property, client int) bool {
	return m.reaches(p.To, m.program.Kinds[e.Kind.Index].Properties[p.Index].To, e, client)
}

// reaches reports whether a client is in an audience of an entity.
func (m *Machine) reaches(to contract.Audience, w *bytecode.ClientList, e *world.Entity, client int) bool {
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
//
// The result is a copy.
func vector(slots []int64, n int) []float64 {
	out := make([]float64, n)
	for i := range out {
		out[i] = fromBits(slots[i])
	}
	return out
}

// point returns the place that the first n registers hold.
func point(slots []int64, n int) (p geometry.Point) {
	for i := range n {
		p[i] = fromBits(slots[i])
	}
	return p
}
