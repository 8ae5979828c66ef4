package replicate

import (
	"cmp"
	"math"
	"math/bits"
	"slices"

	"kamerad/core/contract"
	"kamerad/core/rules"
	"kamerad/core/wire"
)

func lowest(mask uint64) int { return bits.TrailingZeros64(mask) }

// Cut ends a tick: it decides who gets what of it and packs that. What Parts gives holds until the next Cut.
func (v *View) Cut() {
	v.clean()
	waiting := v.waiting
	v.waiting = nil
	// The order in which they came to wait may come from what some clients may not have.
	slices.SortFunc(waiting, byNumber)
	for _, s := range waiting {
		if later := s.later; later != 0 && !s.entity.Gone {
			s.later = 0
			v.Written(s.entity, later)
		}
	}
	fresh := slices.DeleteFunc(v.fresh, func(s *sent) bool {
		if s.entity.Gone && !s.flash {
			delete(v.sent, s.entity.ID)
			return true // nobody was told of it
		}
		return false
	})
	for _, s := range fresh {
		s.announce()
		if s.entity.Gone {
			v.gone = append(v.gone, s)
		}
	}
	for _, s := range v.given {
		if s.owner != s.entity.Owner {
			s.owner = s.entity.Owner
			before := s.sum
			s.sum = wire.DigestEntity(s.number, s.plan.place, s.owner)
			s.change = s.sum - before
		}
	}
	v.place(fresh)
	v.memberships()
	v.holds(fresh)
	v.emit()
	v.pack()
}

// clean forgets what the last tick was.
func (v *View) clean() {
	for _, s := range v.past {
		delete(v.sent, s.entity.ID)
	}
	for _, s := range v.stirred {
		s.exited = s.exited[:0]
		for i := range s.at {
			s.at[i].fresh = false
		}
	}
	v.past, v.stirred = v.past[:0], v.stirred[:0]
	for _, u := range v.viewers {
		u.left, u.dropped, u.blocks, u.count = u.left[:0], u.dropped[:0], u.blocks[:0], 0
		for i := range u.circles {
			u.circles[i].fresh = false
		}
	}
}

// place puts entities into their circles.
func (v *View) place(fresh []*sent) {
	for _, s := range fresh {
		for _, at := range s.plan.lanes {
			if a := v.audiences[at.audience]; a.yes != nil {
				v.enter(s, a.yes, at.lane)
			}
		}
	}
	for _, a := range v.audiences {
		if a.Term != contract.ByAudience {
			continue
		}
		if a.near {
			a.radius, _ = v.rules.Radius(a.Aud)
			a.size = max(a.radius/cells, least)
		}
		for lane, l := range a.Lanes {
			for _, e := range v.world.Kind(l.Kind.Index) {
				v.sort(a, lane, v.sent[e.ID])
			}
		}
		for _, s := range fresh { // what came and went is in no list of the world any more
			if lane := slices.IndexFunc(a.Lanes, func(l *contract.Lane) bool { return l.Kind == s.entity.Kind }); lane >= 0 && s.entity.Gone {
				v.sort(a, lane, s)
			}
		}
	}
	for _, s := range v.gone {
		for len(s.at) > 0 {
			v.exit(s, len(s.at)-1)
		}
	}
	// By their numbers: the order in which they came is the server's own.
	for _, a := range v.audiences {
		if a.yes != nil {
			a.yes.admit(v)
		}
		for _, c := range a.circles {
			c.admit(v)
		}
	}
	for _, s := range v.gone { // what came in this tick and is gone leaves once it is in
		for len(s.at) > 0 {
			v.exit(s, len(s.at)-1)
		}
	}
}

// sort puts an entity into the circle of its side of an audience.
func (v *View) sort(a *audience, lane int, s *sent) {
	var side rules.Side
	at := slices.IndexFunc(s.at, func(x placed) bool { return x.circle.audience == a && x.lane == lane && x.circle != a.yes })
	var now circleKey
	ok := v.rules.Subject(a.Aud, s.entity, &side)
	if ok {
		now.keys = side.Keys
		if a.near {
			if now.cell = a.cell(side.At); at >= 0 {
				if old := s.at[at].circle.key; old.keys == now.keys && a.around(old.cell, side.At) {
					now.cell = old.cell // it is not far outside: it stays
				}
			}
		}
	}
	if at >= 0 {
		if ok && s.at[at].circle.key == now {
			return
		}
		v.exit(s, at)
	}
	if ok {
		c := a.circles[now]
		if c == nil {
			c = v.circle(a, now)
			a.circles[now] = c
		}
		v.enter(s, c, lane)
	}
}

func (v *View) enter(s *sent, c *circle, lane int) {
	c.enters = append(c.enters, entering{s, lane})
	c.entities = append(c.entities, s)
}

// admit lets in who came.
func (c *circle) admit(v *View) {
	if len(c.enters) == 0 {
		return
	}
	slices.SortFunc(c.enters, func(a, b entering) int { return cmp.Compare(a.s.number, b.s.number) })
	for _, x := range c.enters {
		slot := c.group.Enter(x.lane, x.s, false, 0)
		x.s.at = append(x.s.at, placed{c, x.lane, slot, true})
		v.stirred = append(v.stirred, x.s)
		c.digest += c.part(x.s, x.lane, true)
	}
	c.enters = c.enters[:0]
}

func (v *View) exit(s *sent, i int) {
	x := s.at[i]
	x.circle.group.Exit(x.lane, x.slot)
	x.circle.digest -= x.circle.part(s, x.lane, x.fresh)
	if at := slices.Index(x.circle.entities, s); at >= 0 {
		x.circle.entities = slices.Delete(x.circle.entities, at, at+1)
	}
	s.exited = append(s.exited, x)
	v.stirred = append(v.stirred, s)
	s.at = slices.Delete(s.at, i, i+1)
}

// part is what an entity adds to the digest of a circle, as of this tick or as it was before.
func (c *circle) part(s *sent, lane int, now bool) (sum uint64) {
	if c.audience.Lanes[lane].Whole {
		if sum = s.sum; !now {
			sum -= s.change
		}
	}
	for rest := c.audience.mask[lane]; rest != 0; rest &= rest - 1 {
		i := lowest(rest)
		if sum += s.sums[i]; !now {
			sum -= s.diffs[i]
		}
	}
	return sum
}

// cells in a radius: the finer they are, the fewer entities at the edge have to be asked for, and the more circles a client is in.
const cells = 4

// least is the size of the smallest cells, also where the radius is nothing.
const least = 1e-3

// cell gives the cell of a place.
func (a *audience) cell(at [3]float64) (out [3]int64) {
	for i, x := range at {
		out[i] = int64(min(max(math.Floor(x/a.size), -1<<60), 1<<60))
	}
	return out
}

// slack is how far, in sizes of a cell, something may stray from its cell before it goes to another one.
const slack = 0.25

// around tells whether a place is in a cell or not far from it.
func (a *audience) around(cell [3]int64, at [3]float64) bool {
	size := a.size
	for i, x := range at {
		if low := float64(cell[i]) * size; x < low-slack*size || x >= low+size+slack*size {
			return false
		}
	}
	return true
}

// reach tells how near and how far something in a cell may be from a place.
func (a *audience) reach(cell [3]int64, at [3]float64) (near, far float64) {
	size := a.size
	for i, x := range at {
		low := float64(cell[i])*size - slack*size
		high := low + size + 2*slack*size
		if x < low {
			near += (low - x) * (low - x)
		} else if x > high {
			near += (x - high) * (x - high)
		}
		across := max(x-low, high-x)
		far += across * across
	}
	return math.Sqrt(near), math.Sqrt(far)
}

// cells calls f for the circles of equal keys whose cells may be in sight of a place.
func (a *audience) cells(side rules.Side, f func(c *circle)) {
	const far = cells + 1 // cells in each direction, with the slack
	at := a.cell(side.At)
	around := 1
	for range a.parts {
		around *= 2*far + 1
	}
	if len(a.circles) <= around { // in any order: what comes of it is sorted
		for key, c := range a.circles {
			if key.keys == side.Keys && len(c.entities) > 0 {
				f(c)
			}
		}
		return
	}
	key := circleKey{keys: side.Keys, cell: at}
	for i := range around {
		for part := range a.parts {
			key.cell[part] = at[part] - far + int64(i%(2*far+1))
			i /= 2*far + 1
		}
		if c := a.circles[key]; c != nil && len(c.entities) > 0 {
			f(c)
		}
	}
}

// memberships brings clients into the circles of what they may have.
func (v *View) memberships() {
	var wanted []*circle
	for _, u := range v.viewers {
		wanted, u.edges = wanted[:0], u.edges[:0]
		role := uint64(1) << u.role
		for _, a := range v.audiences {
			if a.Yes&role != 0 {
				wanted = append(wanted, a.yes)
				continue
			}
			var side rules.Side
			if a.Term != contract.ByAudience || a.Maybe&role == 0 || len(a.circles) == 0 || !v.rules.Viewer(a.Aud, u.client.Number, &side) {
				continue
			}
			if !a.near {
				if c := a.circles[circleKey{keys: side.Keys}]; c != nil && len(c.entities) > 0 {
					wanted = append(wanted, c)
				}
				continue
			}
			from := len(wanted)
			a.cells(side, func(c *circle) {
				most := a.radius * (1 - 1e-9)
				if !u.in(c) {
					most -= slack * a.size
				}
				if near, far := a.reach(c.key.cell, side.At); far < most {
					wanted = append(wanted, c)
				} else if near <= a.radius*(1+1e-9) {
					u.edges = append(u.edges, c)
				}
			})
			// In an order that tells nothing but what the client may have.
			slices.SortFunc(wanted[from:], func(a, b *circle) int { return cmp.Compare(a.group.First(), b.group.First()) })
		}
		for i := len(u.circles) - 1; i >= 0; i-- {
			if m := u.circles[i]; !slices.Contains(wanted, m.circle) {
				u.circles = slices.Delete(u.circles, i, i+1)
				m.circle.members--
				u.left = append(u.left, m.circle)
				u.free = append(u.free, m.handle)
				u.blocks = wire.AppendLeave(u.blocks, m.handle)
				u.count++
			}
		}
		for _, c := range wanted {
			if !u.in(c) {
				u.circles = append(u.circles, member{c, u.handle(), true})
				c.members++
			}
		}
	}
	for _, a := range v.audiences {
		for key, c := range a.circles {
			if len(c.entities) == 0 && c.members == 0 {
				delete(a.circles, key)
			}
		}
	}
}

func (u *viewer) in(c *circle) bool {
	return slices.ContainsFunc(u.circles, func(m member) bool { return m.circle == c })
}

// handle gives a name for a circle that the client is not in.
func (u *viewer) handle() int {
	if n := len(u.free); n > 0 {
		at := u.free[n-1]
		u.free = u.free[:n-1]
		return at
	}
	u.handles++
	return u.handles
}

// holds brings up to date what each client has by itself.
func (v *View) holds(fresh []*sent) {
	for k := range v.plans {
		p := &v.plans[k]
		if p.place < 0 || !p.asked && !p.owned && !p.nearby {
			continue
		}
		list := v.world.Kind(k)
		for _, u := range v.viewers {
			if p.asked || u.moved {
				for _, e := range list {
					v.hold(u, v.sent[e.ID])
				}
			} else if p.nearby {
				v.nearby(u, p)
			}
		}
		if p.asked {
			continue
		}
		// An owner gets and loses what is its own.
		if p.owned {
			for _, s := range fresh {
				if s.plan == p {
					v.holdOf(s, s.owner)
				}
			}
			for _, s := range v.given {
				if s.plan == p {
					for _, u := range v.viewers {
						if u.held[s.entity.ID] != nil || u.client.Number == s.owner {
							v.hold(u, s)
						}
					}
				}
			}
		}
	}
	for _, s := range fresh {
		if !s.entity.Gone {
			continue
		}
		for _, u := range v.viewers {
			if s.plan.asked || s.plan.owned || s.plan.nearby {
				v.hold(u, s)
			}
			v.glimpse(u, s)
		}
	}
	for _, u := range v.viewers {
		u.moved = false
		slices.SortFunc(u.enters, func(a, b *hold) int { return cmp.Compare(a.number, b.number) })
		for _, h := range u.enters {
			h.slot = u.private.Enter(h.plan.place, h, h.whole, h.next)
		}
		u.enters = u.enters[:0]
	}
	for _, s := range v.gone {
		for _, u := range v.viewers {
			if h := u.held[s.entity.ID]; h != nil {
				v.release(u, h)
			}
		}
	}
}

func (v *View) holdOf(s *sent, client int) {
	if u := v.viewer(client); u != nil {
		v.hold(u, s)
	}
}

// nearby looks at what is at the edge of a client's view, and at what it had there before.
func (v *View) nearby(u *viewer, p *plan) {
	for id, h := range u.held {
		if h.plan == p && !h.entity.Gone {
			v.hold(u, v.sent[id])
		}
	}
	for _, c := range u.edges {
		for _, s := range c.entities {
			if s.plan == p {
				v.hold(u, s)
			}
		}
	}
}

// glimpse gives a client by itself what came and went in the tick in which it came to the circle that would have told of it.
func (v *View) glimpse(u *viewer, s *sent) {
	whole, mask := false, uint64(0)
	for _, x := range s.exited {
		if !slices.ContainsFunc(u.circles, func(m member) bool { return m.circle == x.circle && m.fresh }) {
			continue
		}
		whole = whole || x.circle.audience.Lanes[x.lane].Whole
		for rest := x.circle.audience.mask[x.lane]; rest != 0; rest &= rest - 1 {
			mask |= 1 << s.plan.props[lowest(rest)]
		}
	}
	if !whole || u.held[s.entity.ID] != nil {
		return
	}
	h := &hold{sent: s, whole: whole, came: true, next: mask}
	u.held[s.entity.ID] = h
	u.enters = append(u.enters, h)
}

// wants tells what a client has to have of an entity by itself.
func (v *View) wants(u *viewer, s *sent) (whole bool, mask uint64) {
	p, e, n := s.plan, s.entity, u.client.Number
	role := uint64(1) << u.role
	// By which way something reaches this client: not at all, by a circle, or by itself.
	way := func(r contract.Reach, group int, may func() bool) (gets, alone bool) {
		switch {
		case r.Yes&role != 0:
			return true, false
		case r.Maybe&role == 0:
			return false, false
		case r.Term == contract.ByOwner:
			return e.Owner == n && n != 0, true
		case r.Term == contract.ByAudience:
			if slices.ContainsFunc(s.at, func(x placed) bool { return x.circle.audience.index == group && u.in(x.circle) }) {
				return true, false
			}
			if !v.audiences[group].near {
				return false, false
			}
		}
		return may(), true
	}
	gets, alone := way(p.Reach, p.Whole, func() bool { return v.rules.Sees(e, n) })
	whole = gets && alone
	if !gets {
		return false, 0
	}
	for i, at := range p.props {
		if at < 0 {
			continue
		}
		x := &p.Properties[i]
		prop := e.Kind.Properties[i]
		switch {
		case x.With:
			gets = whole
		case x.Asked:
			gets = v.rules.Gets(e, prop, n)
		default:
			gets, alone = way(x.Reach, x.Group, func() bool { return v.rules.Gets(e, prop, n) })
			gets = gets && alone
		}
		if gets {
			mask |= 1 << at
		}
	}
	return whole, mask
}

// hold brings up to date what a client has of an entity by itself.
func (v *View) hold(u *viewer, s *sent) {
	h := u.held[s.entity.ID]
	whole, mask := v.wants(u, s)
	if h != nil && (h.whole != whole || mask == 0 && !whole) {
		v.release(u, h)
		h = nil
	}
	if mask == 0 && !whole {
		return
	}
	if h == nil {
		h = &hold{sent: s, whole: whole, came: true}
		u.held[s.entity.ID] = h
		u.enters = append(u.enters, h)
	}
	if h.next = mask; mask != h.mask && !h.came {
		u.private.Mask(h.plan.place, h.slot, mask)
	}
}

func (v *View) release(u *viewer, h *hold) {
	delete(u.held, h.entity.ID)
	u.private.Exit(h.plan.place, h.slot)
	if h.whole {
		u.dropped = append(u.dropped, h.entity.ID)
	}
	if h.came {
		return // it came and went in one tick: the digest knows nothing of it
	}
	u.digest -= h.part(h.mask)
	if h.whole {
		u.digest -= h.sum - h.change
	}
}

// part is what properties that a client has by itself added to its digest before this tick.
func (h *hold) part(mask uint64) (sum uint64) {
	for ; mask != 0; mask &= mask - 1 {
		at := lowest(mask)
		if n, own := h.sums[at]; own {
			sum += n
			continue
		}
		i := h.plan.back[at].Index
		sum += h.sent.sums[i] - h.diffs[i]
	}
	return sum
}

// emit tells the groups what changed of what was in them before.
func (v *View) emit() {
	for _, s := range v.given {
		if s.change == 0 || s.entity.Gone {
			continue
		}
		for _, x := range s.at {
			if !x.fresh && x.circle.audience.Lanes[x.lane].Whole {
				x.circle.group.Owned(x.lane, x.slot)
				x.circle.digest += s.change
			}
		}
	}
	for _, s := range v.dirty {
		if s.entity.Gone || s.send == 0 {
			continue
		}
		for _, x := range s.at {
			if x.fresh {
				continue
			}
			for rest := x.circle.audience.mask[x.lane] & s.send; rest != 0; rest &= rest - 1 {
				i := lowest(rest)
				x.circle.group.Change(x.lane, x.slot, x.circle.audience.inLane[x.lane][i])
				x.circle.digest += s.diffs[i]
			}
		}
	}
	for _, u := range v.viewers {
		for _, h := range u.held {
			v.alone(u, h)
		}
	}
	for _, a := range v.again {
		if u := v.viewer(a.client); u != nil && !a.s.entity.Gone && v.gets(u, a.s, a.p) {
			var item wire.Item = a.s
			if h := u.held[a.s.entity.ID]; h != nil {
				item = h
			}
			u.private.Again(item, a.s.plan.place, a.s.plan.props[a.p.Index])
		}
	}
	v.again = v.again[:0]
}

// alone tells a client's own group what changed.
func (v *View) alone(u *viewer, h *hold) {
	switch {
	case !h.whole:
	case h.came:
		u.digest += h.sum
	case h.change != 0:
		u.private.Owned(h.plan.place, h.slot)
		u.digest += h.change
	}
	before := h.mask
	if lost := before &^ h.next; lost != 0 {
		u.digest -= h.part(lost)
		for rest := lost; rest != 0; rest &= rest - 1 {
			delete(h.masked, lowest(rest))
			delete(h.sums, lowest(rest))
		}
	}
	h.mask = h.next
	for rest := h.next; rest != 0; rest &= rest - 1 {
		at := lowest(rest)
		p := h.plan.back[at]
		kept := before&(1<<at) != 0
		if h.plan.Properties[p.Index].Asked && v.hides(p.Type) {
			v.masked(u, h, at, p, kept)
			continue
		}
		switch {
		case !kept:
			u.digest += h.sent.sums[p.Index]
		case kept && h.send&(1<<p.Index) != 0:
			u.private.Change(h.plan.place, h.slot, at)
			u.digest += h.diffs[p.Index]
		}
	}
}

// masked brings a property up to date whose refs a client may partly not know of.
func (v *View) masked(u *viewer, h *hold, at int, p *contract.Property, kept bool) {
	f := h.sent.fields[p.Index]
	f.Value = p.Type.Refs(f.Value, func(n int64) int64 {
		if e := v.byNumber[uint32(n)]; e != nil && v.Known(u.client.Number, e.ID) != 0 && v.rules.Sees(e, u.client.Number) {
			return n
		}
		return 0
	})
	old, had := h.masked[at]
	if had && old.Same(f) {
		return
	}
	if h.masked == nil {
		h.masked, h.sums = map[int]wire.Field{}, map[int]uint64{}
	}
	h.masked[at] = f
	sum := f.Digest(h.number, at)
	if p.Loose {
		sum = 0
	}
	u.digest += sum - h.sums[at]
	h.sums[at] = sum
	if kept && had {
		u.private.Change(h.plan.place, h.slot, at)
	}
}

// hides tells whether values refer to entities that not everyone may know of.
func (v *View) hides(t *contract.Type) bool {
	if t.Form == contract.FormEntity {
		return slices.ContainsFunc(t.Kinds, func(k *contract.Kind) bool { return k.To != contract.Everyone })
	}
	return t.Key != nil && v.hides(t.Key) || t.Of != nil && v.hides(t.Of) || slices.ContainsFunc(t.Parts, func(p contract.Param) bool { return v.hides(p.Type) })
}

// gets tells whether a client has a property with this Cut.
func (v *View) gets(u *viewer, s *sent, p *contract.Property) bool {
	at := s.plan.props[p.Index]
	if at < 0 {
		return false
	}
	if h := u.held[s.entity.ID]; h != nil && h.next&(1<<at) != 0 {
		return true
	}
	return slices.ContainsFunc(s.at, func(x placed) bool {
		return x.circle.audience.mask[x.lane]&(1<<p.Index) != 0 && u.in(x.circle)
	})
}

// pack writes the blocks, and makes what was sent the base of what comes.
func (v *View) pack() {
	for _, a := range v.audiences {
		if a.yes != nil {
			a.yes.pack(v.world.Tick)
		}
		for _, c := range a.circles {
			c.pack(v.world.Tick)
		}
	}
	if v.roster = nil; len(v.joined)+len(v.left) > 0 {
		v.roster = wire.PackRoster(v.outline, v.joined, v.left)
	}
	v.joined, v.left = v.joined[:0], v.left[:0]
	for _, u := range v.viewers {
		for _, m := range u.circles {
			switch {
			case m.fresh:
				if m.circle.snapshot == nil {
					m.circle.group.Fresh()
					m.circle.snapshot = m.circle.group.Snapshot(v.world.Tick)
				}
				u.blocks = wire.AppendEnter(u.blocks, m.handle, m.circle.audience.index, m.circle.snapshot)
				u.count++
			case m.circle.block != nil:
				u.blocks = wire.AppendChange(u.blocks, m.handle, m.circle.block)
				u.count++
			}
		}
		if block := u.private.Pack(v.world.Tick); block != nil {
			u.blocks = wire.AppendChange(u.blocks, 0, block)
			u.count++
		}
		for _, h := range u.held {
			h.came = false
		}
	}
	for _, s := range v.dirty {
		for rest := s.send & s.plan.plain; rest != 0; rest &= rest - 1 {
			p := s.entity.Kind.Properties[lowest(rest)]
			copy(s.base[p.Slot:p.Slot+p.Type.Width()], s.entity.Nums[p.Slot:])
		}
		s.send = 0
		s.lists &^= inDirty
		clear(s.diffs)
	}
	for _, s := range v.given {
		s.change = 0
		s.lists &^= inGiven
	}
	v.dirty, v.given, v.fresh = v.dirty[:0], v.given[:0], v.fresh[:0]
	v.past, v.gone = v.gone, v.past
}

func (c *circle) pack(tick int64) {
	c.snapshot, c.block = nil, nil
	if c.members == 0 {
		c.group.Drop()
	} else {
		c.block = c.group.Pack(tick)
	}
}

// Parts puts what a client gets of the tick into a frame, and tells whether that is anything. A client that was sent nothing yet
// gets a snapshot. It has to be asked once for each client after each Cut.
func (v *View) Parts(client int, out *wire.Parts) bool {
	u := v.viewer(client)
	out.Snapshot, out.Blocks, out.Count, out.Roster = u.first, u.blocks, u.count, v.roster
	if u.first {
		var all []wire.Client
		for _, x := range v.viewers {
			all = append(all, x.client)
		}
		out.Roster = wire.PackRoster(v.outline, all, nil)
		u.first = false
	}
	return out.Snapshot || out.Count > 0 || out.Roster != nil
}

// Digest gives the digest of all that a client should hold after the last Cut.
func (v *View) Digest(client int) uint32 {
	u := v.viewer(client)
	sum := v.rosterSum + u.digest
	for _, m := range u.circles {
		sum += m.circle.digest
	}
	return uint32(sum)
}

// Reader gives what reads a client's frames from the next one on.
func (v *View) Reader(client int, tick, settled int64) *wire.Reader {
	u := v.viewer(client)
	groups, places := map[int]*wire.Group{0: u.private}, map[int]int{}
	for _, m := range u.circles {
		groups[m.handle], places[m.handle] = m.circle.group, m.circle.audience.index
	}
	return wire.Resume(v.layout, tick, settled, groups, places)
}

// Layout gives the layout of the outline that clients are given.
func (v *View) Layout() *wire.Layout { return v.layout }

// Held gives all that a client should hold after the last Cut.
func (v *View) Held(client int) *wire.Block {
	b := &wire.Block{}
	u := v.viewer(client)
	if u == nil {
		return b
	}
	for _, x := range v.viewers {
		b.Joined = append(b.Joined, x.client)
	}
	list := make([]*sent, 0, len(v.sent))
	for _, s := range v.sent {
		if s.live && !s.entity.Gone && v.Known(client, s.entity.ID) != 0 && !v.lost(u, s) {
			list = append(list, s)
		}
	}
	slices.SortFunc(list, byNumber)
	for _, s := range list {
		out := wire.Spawn{Entity: s.number, Kind: s.entity.Kind.Name, Owner: s.owner}
		for _, p := range s.plan.back {
			if !v.gets(u, s, p) {
				continue
			}
			at := s.plan.props[p.Index]
			f := s.Field(at)
			if h := u.held[s.entity.ID]; h != nil {
				f = h.Field(at)
			}
			out.Fields = append(out.Fields, f)
		}
		b.Spawned = append(b.Spawned, out)
	}
	return b
}

// lost tells whether the last Cut took an entity from a client.
func (v *View) lost(u *viewer, s *sent) bool {
	if h := u.held[s.entity.ID]; h != nil && h.whole {
		return false
	}
	return !slices.ContainsFunc(s.at, func(x placed) bool { return x.circle.audience.Lanes[x.lane].Whole && u.in(x.circle) })
}
