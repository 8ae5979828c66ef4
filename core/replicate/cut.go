package replicate

import (
	"cmp"
	"math/bits"
	"slices"

	"kamerad/core/contract"
	"kamerad/core/rules"
	"kamerad/core/wire"
)

func lowest(mask uint64) int { return bits.TrailingZeros64(mask) }

// Cut ends a tick: it decides who gets what of it and packs what clients share. Then Parts gives each client its share, and Done has to
// follow.
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
	for _, s := range v.given {
		s.disturb()
	}
	v.place(fresh)
	for _, s := range fresh {
		s.disturb()
	}
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
	for _, u := range v.touched {
		u.left, u.leaves, u.dropped, u.touched = u.left[:0], u.leaves[:0], u.dropped[:0], false
		for i := range u.circles {
			u.circles[i].fresh = false
		}
	}
	v.touched = v.touched[:0]
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
		all := v.unsorted || a.all[1]
		if a.near {
			if radius, _ := v.rules.Radius(a.Aud); radius != a.radius || a.size == 0 {
				a.radius, a.size, all = radius, max(radius/cells, least), true
				a.version, v.turned = a.version+1, true
			}
		}
		for lane, l := range a.Lanes {
			if all {
				for _, e := range v.world.Kind(l.Kind.Index) {
					v.sort(a, lane, v.of(e))
				}
				continue
			}
			for _, s := range v.restless {
				if s.entity.Kind == l.Kind && !s.entity.Gone {
					v.sort(a, lane, s)
				}
			}
		}
		for _, s := range fresh { // also what came and went, which is in no list of the world any more
			if lane := slices.IndexFunc(a.Lanes, func(l *contract.Lane) bool { return l.Kind == s.entity.Kind }); lane >= 0 && (!all || s.entity.Gone) {
				v.sort(a, lane, s)
			}
		}
	}
	v.unsorted = false
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
	if len(c.entities) == 0 {
		c.turned(v)
	}
	c.enters = append(c.enters, entering{s, lane})
	c.entities = append(c.entities, s)
}

// turned notes that a circle is no longer empty, or is.
func (c *circle) turned(v *View) {
	v.turned = true
	c.audience.version++
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
		x.s.turned = v.world.Tick
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
	if len(x.circle.entities) == 0 {
		x.circle.turned(v)
	}
	s.exited, s.turned = append(s.exited, x), v.world.Tick
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
		if sum += s.sums[i]; !now && s.sends()&(1<<i) != 0 {
			sum -= s.diffs[i]
		}
	}
	return sum
}

// maxSnapshots is how many clients are sent a snapshot with one Cut; who comes or comes back beyond that is sent one with a later Cut.
const maxSnapshots = 64

// memberships brings clients into the circles of what they may have.
func (v *View) memberships() {
	for _, s := range v.restless {
		for _, x := range s.at {
			if c := x.circle; c.stirred != v.world.Tick {
				c.stirred, c.restless = v.world.Tick, c.restless[:0]
			}
			x.circle.restless = append(x.circle.restless, s)
		}
	}
	all := v.stale || v.changing || v.turned
	if all {
		for _, u := range v.viewers {
			u.turn(v)
		}
	}
	v.looked, v.turning = v.turning, v.looked[:0]
	admitted := 0
	v.looked = slices.DeleteFunc(v.looked, func(u *viewer) bool {
		if u.waits = false; u.gone {
			return true
		}
		if u.first && u.moved {
			if admitted++; admitted > maxSnapshots {
				u.waits = true
				v.turning = append(v.turning, u)
			}
		}
		return u.waits
	})
	var wanted []*circle
	for _, u := range v.looked {
		if u.moved || v.stale || v.changing {
			u.which = ^uint64(0)
		}
		same := !u.moved
		for i, a := range v.audiences {
			if a.Term == contract.ByAudience && a.Maybe&(1<<u.role) != 0 && !v.look(u, a, &u.sights[i]) {
				same = false
			}
		}
		u.settled = same && len(u.edges) == 0
		if u.which = 0; same {
			continue
		}
		u.touch(v)
		wanted, u.edges = wanted[:0], u.edges[:0]
		role := uint64(1) << u.role
		for i, a := range v.audiences {
			if a.Yes&role != 0 {
				wanted = append(wanted, a.yes)
			} else if a.Term == contract.ByAudience && a.Maybe&role != 0 {
				wanted, u.edges = append(wanted, u.sights[i].want...), append(u.edges, u.sights[i].edges...)
			}
		}
		for i := len(u.circles) - 1; i >= 0; i-- {
			if m := u.circles[i]; !slices.Contains(wanted, m.circle) {
				u.circles = slices.Delete(u.circles, i, i+1)
				m.circle.members--
				u.left, u.leaves = append(u.left, m.circle), append(u.leaves, m.handle)
				u.free = append(u.free, m.handle)
			}
		}
		for _, c := range wanted {
			if !u.in(c) {
				u.circles = append(u.circles, member{c, u.handle(), true})
				c.members++
			}
		}
	}
	v.stale, v.turned = false, false
	for _, a := range v.audiences {
		for key, c := range a.circles {
			if len(c.entities) == 0 && c.members == 0 {
				delete(a.circles, key)
			}
		}
	}
}

// look brings up to date which circles of an audience a viewer is to be in, and tells whether these are the same as before.
func (v *View) look(u *viewer, a *audience, s *sight) (same bool) {
	if u.which&(1<<min(a.index, 63)) == 0 && s.known && s.version == a.version {
		return true
	}
	var side rules.Side
	in := len(a.circles) > 0 && v.rules.Viewer(a.Aud, u.number, &side)
	if s.known && s.version == a.version && s.in == in {
		if !in || s.side.Keys == side.Keys && (!a.near || s.side.At == side.At || within(s.side.At, side.At, s.margin)) {
			return true
		}
	}
	s.known, s.in, s.version, s.side, s.want, s.edges = true, in, a.version, side, s.want[:0], s.edges[:0]
	switch {
	case !in:
	case !a.near:
		if c := a.circles[circleKey{keys: side.Keys}]; c != nil && len(c.entities) > 0 {
			s.want = append(s.want, c)
		}
	default:
		s.margin = a.size / 2 // beyond, there may be circles that are not looked at here
		a.cells(side, func(c *circle) {
			stays, comes := a.radius*(1-1e-9), a.radius*(1-1e-9)-slack*a.size
			least := comes
			if u.in(c) {
				least = stays
			}
			near, far := a.reach(c.key.cell, side.At)
			switch edge := a.radius * (1 + 1e-9); {
			case far < least:
				s.want = append(s.want, c)
				s.margin = min(s.margin, stays-far)
			case near <= edge:
				s.edges = append(s.edges, c)
				s.margin = min(s.margin, far-comes, edge-near)
			default:
				s.margin = min(s.margin, near-edge)
			}
		})
		// In an order that tells nothing but what the client may have.
		slices.SortFunc(s.want, func(a, b *circle) int { return cmp.Compare(a.group.First(), b.group.First()) })
	}
	return false
}

// within tells whether two places are less than so far from each other.
func within(a, b [3]float64, far float64) bool {
	sum := 0.0
	for i := range a {
		sum += (a[i] - b[i]) * (a[i] - b[i])
	}
	return far > 0 && sum < far*far
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
		for h := s.holders; h != nil; h = h.following {
			h.list()
		}
	}
	for _, s := range v.dirty {
		if s.lists &^= inDirty; s.entity.Gone || s.send == 0 {
			continue
		}
		for i := range s.at {
			x := &s.at[i]
			if x.fresh {
				continue
			}
			for rest := x.circle.audience.mask[x.lane] & s.send; rest != 0; rest &= rest - 1 {
				i := lowest(rest)
				x.circle.group.Change(x.lane, x.slot, x.circle.audience.inLane[x.lane][i], s)
				x.circle.digest += s.diffs[i]
			}
		}
	}
	if v.hiding { // what a client may know of may be something else
		for _, u := range v.viewers {
			for _, h := range u.holds {
				if h.plan.hides {
					h.list()
				}
			}
		}
	}
	for _, a := range v.again {
		if u := v.viewer(a.client); u != nil && !a.s.entity.Gone && v.gets(u, a.s, a.p) {
			u.speak(v)
			var item wire.Item = a.s
			if h := u.held[a.s.entity.ID]; h != nil {
				item = h
			}
			u.private.Again(item, a.s.plan.place, a.s.plan.props[a.p.Index])
		}
	}
	v.again = v.again[:0]
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

// pack writes the blocks that clients share.
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
}

// Done makes what was sent the base of what comes, once Parts was asked for all clients that are sent a frame. One that is not has to
// be sent a snapshot with its next frame.
func (v *View) Done() {
	for _, u := range v.spoken {
		if u.spoken { // it is not sent this
			v.aside(u)
			u.private.Drop()
		}
	}
	v.spoken = v.spoken[:0]
	v.stamp++
	for _, s := range v.given {
		s.change = 0
		s.lists &^= inGiven
	}
	v.dirty, v.given, v.fresh = v.dirty[:0], v.given[:0], v.fresh[:0]
	v.past, v.gone = v.gone, v.past
	for _, s := range v.restless {
		s.lists &^= inRestless
	}
	v.restless = v.restless[:0]
	for _, u := range v.looked {
		if u.stale = false; u.moved { // it was begun anew meanwhile
			u.turn(v)
		}
	}
}

// aside tells a client's own group what is new of what the client has by itself.
func (v *View) aside(u *viewer) {
	u.spoken = false
	for h := u.alone; h != nil; {
		if h.listed = false; !h.gone {
			v.alone(u, h)
			h.came = false
		}
		h, h.also = h.also, nil
	}
	u.alone = nil
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
// gets a snapshot. What it gives holds until it is asked for another client.
func (v *View) Parts(client int, out *wire.Parts) bool {
	u := v.viewer(client)
	out.Snapshot, out.Blocks, out.Roster = u.first, out.Blocks[:0], v.roster
	for _, handle := range u.leaves {
		out.Blocks = append(out.Blocks, wire.Leave(handle))
	}
	for i := range u.circles {
		m := &u.circles[i]
		switch c := m.circle; {
		case m.fresh:
			if c.snapshot == nil {
				c.group.Fresh()
				c.snapshot = c.group.Snapshot(v.world.Tick)
			}
			out.Blocks = append(out.Blocks, wire.Enter(m.handle, c.audience.index, c.snapshot))
		case c.block != nil:
			out.Blocks = append(out.Blocks, wire.Change(m.handle, c.block))
		}
	}
	if u.spoken {
		v.aside(u)
		if block := u.private.Pack(v.world.Tick); block != nil {
			out.Blocks = append(out.Blocks, wire.Change(0, block))
		}
	}
	if u.first {
		var all []wire.Client
		for _, x := range v.viewers {
			all = append(all, x.client)
		}
		out.Roster = wire.PackRoster(v.outline, all, nil)
		u.first = false
	}
	return out.Snapshot || len(out.Blocks) > 0 || out.Roster != nil
}

// Digest gives the digest of all that a client should hold after the last Cut, once Parts was asked for it.
func (v *View) Digest(client int) uint32 {
	u := v.viewer(client)
	sum := v.rosterSum + u.digest
	for _, m := range u.circles {
		sum += m.circle.digest
	}
	for _, h := range u.holds {
		for rest := h.mask; rest != 0; rest &= rest - 1 {
			if p := h.plan.back[lowest(rest)]; h.plan.lazy&(1<<p.Index) != 0 {
				sum += h.sent.digest(p)
			}
		}
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
