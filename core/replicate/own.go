package replicate

import (
	"cmp"
	"slices"

	"kamerad/core/contract"
	"kamerad/core/wire"
)

// holds brings up to date what each client has by itself.
func (v *View) holds(fresh []*sent) {
	for k := range v.plans {
		p := &v.plans[k]
		if p.place < 0 || !p.asked && !p.owned && !p.nearby {
			continue
		}
		list := v.world.Kind(k)
		if p.asked {
			for _, u := range v.viewers {
				for _, e := range list {
					v.hold(u, v.of(e))
				}
			}
			continue
		}
		for _, u := range v.looked {
			if u.moved {
				for _, e := range list {
					v.hold(u, v.of(e))
				}
			} else if p.nearby && !v.always && !u.settled {
				v.nearby(u, p)
			}
		}
		if p.nearby && v.always {
			for _, u := range v.viewers {
				if !u.moved {
					v.nearby(u, p)
				}
			}
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
					v.anew(s)
					v.holdOf(s, s.owner)
				}
			}
		}
	}
	v.atEdges()
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
	for _, u := range v.looked {
		u.moved = false
	}
	for _, u := range v.entered {
		slices.SortFunc(u.enters, func(a, b *hold) int { return cmp.Compare(a.number, b.number) })
		for _, h := range u.enters {
			h.slot = int32(u.private.Enter(h.plan.place, h, h.whole, h.next))
		}
		u.enters = u.enters[:0]
	}
	v.entered = v.entered[:0]
	for _, s := range v.gone {
		for s.holders != nil {
			v.release(s.holders)
		}
	}
}

// atEdges looks at what is restless: whoever has it by itself may lose it, and whoever sees it at the edge may come to have it.
func (v *View) atEdges() {
	if v.always {
		return // it was looked at
	}
	some := false
	for _, s := range v.restless {
		if !s.plan.nearby || s.plan.asked || s.plan.place < 0 {
			continue
		}
		some = true
		for h := s.holders; h != nil && !s.entity.Gone; {
			next := h.following // h may be released
			if u := h.viewer; s.turned == v.world.Tick || len(u.edges) > 0 || u.stale && !u.settled {
				v.hold(u, s)
			}
			h = next
		}
	}
	if !some {
		return
	}
	for _, u := range v.viewers {
		for _, c := range u.edges {
			if c.stirred != v.world.Tick {
				continue
			}
			for _, s := range c.restless {
				if s.plan.nearby && !s.plan.asked && !s.entity.Gone {
					v.hold(u, s)
				}
			}
		}
	}
}

// anew looks anew at all who have an entity by themselves.
func (v *View) anew(s *sent) {
	for h := s.holders; h != nil; {
		next := h.following // h may be released
		v.hold(h.viewer, s)
		h = next
	}
}

func (v *View) holdOf(s *sent, client int) {
	if u := v.viewer(client); u != nil {
		v.hold(u, s)
	}
}

// nearby looks at what is at the edge of a client's view, and at what it had there before.
func (v *View) nearby(u *viewer, p *plan) {
	for i := len(u.holds) - 1; i >= 0; i-- { // what is released takes the last one's place
		if h := u.holds[i]; h.plan == p && !h.entity.Gone {
			v.hold(u, h.sent)
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
	if !whole || u.held[s.entity.ID] != nil || u.waits {
		return
	}
	v.add(u, &hold{sent: s, whole: whole, came: true, next: mask})
}

// wants tells what a client has to have of an entity by itself.
func (v *View) wants(u *viewer, s *sent) (whole bool, mask uint64) {
	p, e, n := s.plan, s.entity, u.number
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
			// What is neither inside nor at the edge of what the client sees is out of its sight.
			if !e.Gone && !slices.ContainsFunc(s.at, func(x placed) bool { return x.circle.audience.index == group && slices.Contains(u.edges, x.circle) }) {
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
	if u.waits {
		return
	}
	h := u.held[s.entity.ID]
	whole, mask := v.wants(u, s)
	if h != nil && (h.whole != whole || mask == 0 && !whole) {
		v.release(h)
		h = nil
	}
	if mask == 0 && !whole {
		return
	}
	if h == nil {
		h = &hold{sent: s, whole: whole, came: true}
		v.add(u, h)
	}
	if h.next = mask; mask != h.mask && !h.came {
		u.private.Mask(h.plan.place, int(h.slot), mask)
		h.list()
	}
}

// list has a client told what is new of what it has by itself.
func (h *hold) list() {
	if !h.listed {
		h.listed = true
		h.also, h.viewer.alone = h.viewer.alone, h
		h.viewer.speak(h.plan.view)
	}
}

// speak notes that a client's own group may have something to say.
func (u *viewer) speak(v *View) {
	if !u.spoken {
		u.spoken = true
		v.spoken = append(v.spoken, u)
	}
}

// add gives a client something by itself.
func (v *View) add(u *viewer, h *hold) {
	h.viewer, h.at, h.following = u, int32(len(u.holds)), h.holders
	if h.following != nil {
		h.following.previous = h
	}
	v.entries++
	u.holds, h.holders = append(u.holds, h), h
	u.held[h.entity.ID] = h
	if len(u.enters) == 0 {
		v.entered = append(v.entered, u)
	}
	u.enters = append(u.enters, h)
	h.list()
}

// leave takes a hold from those of its entity.
func (h *hold) leave() {
	if h.gone = true; h.previous != nil {
		h.previous.following = h.following
	} else {
		h.holders = h.following
	}
	if h.following != nil {
		h.following.previous = h.previous
	}
	h.previous, h.following = nil, nil
}

func (v *View) release(h *hold) {
	u := h.viewer
	h.leave()
	v.entries--
	delete(u.held, h.entity.ID)
	last := u.holds[len(u.holds)-1]
	u.holds[h.at], last.at = last, h.at
	u.holds = u.holds[:len(u.holds)-1]
	u.private.Exit(h.plan.place, int(h.slot))
	u.speak(v)
	if h.whole {
		u.dropped = append(u.dropped, h.entity.ID)
		u.touch(v)
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
		if h.plan.lazy&(1<<i) != 0 {
			continue
		}
		if sum += h.sent.sums[i]; h.sends()&(1<<i) != 0 {
			sum -= h.diffs[i]
		}
	}
	return sum
}

// alone tells a client's own group what changed.
func (v *View) alone(u *viewer, h *hold) {
	sends := h.sends()
	if sends == 0 && h.change == 0 && !h.came && h.next == h.mask && !h.plan.hides {
		return // nothing of it changed
	}
	switch {
	case !h.whole:
	case h.came:
		u.digest += h.sum
	case h.change != 0:
		u.private.Owned(h.plan.place, int(h.slot))
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
	every := h.next
	if before == h.next && !h.plan.hides {
		every &= h.plan.placed(sends)
	}
	for rest := every; rest != 0; rest &= rest - 1 {
		at := lowest(rest)
		p := h.plan.back[at]
		kept := before&(1<<at) != 0
		if h.plan.Properties[p.Index].Hides {
			v.masked(u, h, at, p, kept)
			continue
		}
		counts := h.plan.lazy&(1<<p.Index) == 0
		switch {
		case !kept:
			if counts {
				u.digest += h.sent.sums[p.Index]
			}
		case sends&(1<<p.Index) != 0:
			u.private.Change(h.plan.place, int(h.slot), at, h)
			if counts {
				u.digest += h.diffs[p.Index]
			}
		}
	}
}

// placed gives properties by their places in the outline.
func (p *plan) placed(properties uint64) (out uint64) {
	for rest := properties & p.shown; rest != 0; rest &= rest - 1 {
		out |= 1 << p.props[lowest(rest)]
	}
	return out
}

// masked brings a property up to date whose refs a client may partly not know of.
func (v *View) masked(u *viewer, h *hold, at int, p *contract.Property, kept bool) {
	f := h.sent.fields[p.Index]
	f.Value = p.Type.Refs(f.Value, func(n int64) int64 {
		if e := v.byNumber[uint32(n)]; e != nil && v.Known(u.number, e.ID) != 0 && v.rules.Sees(e, u.number) {
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
		u.private.Change(h.plan.place, int(h.slot), at, h)
	}
}
