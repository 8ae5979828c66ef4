package replicate

import (
	"cmp"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// maxSnapshots is how many clients are sent a snapshot with one EndTick. More wait for the next one, so that a crowd
// that joins at once does not delay a tick.
const maxSnapshots = 64

// lastAudienceBit is the bit of audiencesToCheck that stands for all audiences from the 64th on.
const lastAudienceBit = 63

// viewer is a client of the session with what it gets. The view owns it.
//
// The fields that every tick looks at stand first, within two cache lines.
type viewer struct {
	number           int  // that of the client
	needsSnapshot    bool // it has been sent nothing yet, or begins anew
	reset            bool // it has another role or begins anew: all its sides have to be computed
	queued           bool // it is among the viewersToCheck
	waitsForSnapshot bool // there were too many snapshots in this tick
	unchanged        bool // of a viewer that was checked: it is in the same sets as before, and at the edge of none
	toReset          bool // it is among the viewersToReset
	toPack           bool // it is among the viewersToPack
	gone             bool
	changedEntries   *privateEntry // with something new in this tick; the head of a list
	private          *wire.Group   // what this client alone is sent
	meter            *meter        // of a client that is sent only so many bytes a second; else nil
	digest           uint64        // of what it has by itself
	subscriptions    []subscription
	leftHandles      []int // of the sets that it left in this tick

	audiencesToCheck uint64 // a bit set over the audiences whose side may have changed; see lastAudienceBit
	role             uint
	client           wire.Client
	leftSets         []*recipientSet // in this tick
	droppedEntities  []world.ID      // that it had by itself and lost in this tick
	sides            []viewerSide    // by audience
	edgeSets         []*recipientSet // of which it may have some entities and not others
	entries          map[world.ID]*privateEntry
	entryList        []*privateEntry // the same, in no order
	newEntries       []*privateEntry
	lastHandle       int
	freeHandles      []int
	_                [40]byte // makes its size one for which Go's allocator begins at a cache line
}

// subscription is a viewer's place in a recipient set.
type subscription struct {
	set    *recipientSet
	handle int32 // by which the client's frames name the set
	isNew  bool  // it came in this tick: the client is sent all of the set
	since  int64 // the tick in which it came
}

// viewerSide is the client's side of an audience as it was last computed, and the sets that follow from it.
type viewerSide struct {
	known    bool
	computed bool // the side could be computed; else the client is outside the audience
	version  int  // of the audience
	side     rules.Side
	margin   float64 // how far the client may move before other sets may follow from it
	sets     []*recipientSet
	edgeSets []*recipientSet
}

// restart sends a viewer everything anew.
func (u *viewer) restart(v *View) {
	for _, s := range u.subscriptions {
		u.leave(s.set)
	}
	for _, entry := range u.entryList {
		entry.unlink()
		if u.meter != nil {
			v.meteredMemory -= entry.entity.Kind.MeteredMemory()
		}
	}
	v.privateEntries -= len(u.entryList)
	u.markChanged(v)
	u.needsSnapshot = true
	u.reset = true
	u.digest = 0
	u.private = wire.NewPrivate(v.layout, &v.buffer)
	u.subscriptions = nil
	u.sides = make([]viewerSide, len(v.audiences))
	u.entries = map[world.ID]*privateEntry{}
	u.entryList = nil
	u.lastHandle = 0
	u.freeHandles = nil
	if limit := v.byteLimit(u); limit.Bytes > 0 {
		u.meter = v.newMeter(limit, u.meter)
		u.private.CountColumns()
	} else {
		u.meter = nil
	}
}

// enter counts a viewer among the members of a set, leave no longer. A metered one is sent nothing by it.
func (u *viewer) enter(set *recipientSet) {
	if u.meter == nil {
		set.members++
	}
}

func (u *viewer) leave(set *recipientSet) {
	if u.meter == nil {
		set.members--
	}
}

// markChanged queues the viewer for another check of its audiences.
func (u *viewer) markChanged(v *View) {
	if !u.queued {
		u.queued = true
		v.viewersToCheck = append(v.viewersToCheck, u)
	}
}

// markForReset makes the next EndTick forget what holds for this one alone.
func (u *viewer) markForReset(v *View) {
	if !u.toReset {
		u.toReset = true
		v.viewersToReset = append(v.viewersToReset, u)
	}
}

// markToPack notes that the viewer's private group may have something to send.
func (u *viewer) markToPack(v *View) {
	if !u.toPack {
		u.toPack = true
		v.viewersToPack = append(v.viewersToPack, u)
	}
}

// isIn reports whether the viewer is in a set.
func (u *viewer) isIn(set *recipientSet) bool {
	return slices.ContainsFunc(u.subscriptions, func(s subscription) bool { return s.set == set })
}

// newHandle returns a handle that none of the viewer's sets has.
func (u *viewer) newHandle() int {
	if n := len(u.freeHandles); n > 0 {
		handle := u.freeHandles[n-1]
		u.freeHandles = u.freeHandles[:n-1]
		return handle
	}
	u.lastHandle++
	return u.lastHandle
}

// updateSubscriptions brings clients into the sets of what they may have.
func (v *View) updateSubscriptions() {
	for _, b := range v.entitiesToCheck {
		for _, at := range b.placements {
			if at.set.checkedTick != v.world.Tick {
				at.set.checkedTick = v.world.Tick
				at.set.toCheck = at.set.toCheck[:0]
			}
			at.set.toCheck = append(at.set.toCheck, b)
		}
	}
	if v.checkAllViewers || v.viewerSidesVolatile || v.setsChanged {
		for _, u := range v.viewers {
			u.markChanged(v)
		}
	}
	v.viewersChecked, v.viewersToCheck = v.viewersToCheck, v.viewersChecked[:0]
	v.admitSnapshots()
	for _, u := range v.viewersChecked {
		if u.reset || v.checkAllViewers || v.viewerSidesVolatile {
			u.audiencesToCheck = ^uint64(0)
		}
		same := !u.reset
		for i, a := range v.audiences {
			if a.Term == contract.ByAudience && a.Maybe&(1<<u.role) != 0 && !v.checkSide(u, a, &u.sides[i]) {
				same = false
			}
		}
		u.audiencesToCheck = 0
		u.unchanged = same && len(u.edgeSets) == 0
		if !same {
			v.subscribe(u)
		}
	}
	v.checkAllViewers = false
	v.setsChanged = false
	v.removeEmptySets()
}

// admitSnapshots leaves among the viewersChecked those that are sent something with this tick. Those that have to wait
// for their snapshot are queued again.
func (v *View) admitSnapshots() {
	snapshots := 0
	v.viewersChecked = slices.DeleteFunc(v.viewersChecked, func(u *viewer) bool {
		u.waitsForSnapshot = false
		if u.gone {
			return true
		}
		if u.needsSnapshot && u.reset {
			snapshots++
			if snapshots > maxSnapshots {
				u.waitsForSnapshot = true
				v.viewersToCheck = append(v.viewersToCheck, u)
			}
		}
		return u.waitsForSnapshot
	})
}

// subscribe brings a viewer into the sets that follow from its role and its sides, and out of others.
func (v *View) subscribe(u *viewer) {
	u.markForReset(v)
	role := uint64(1) << u.role
	wanted := v.wantedSets[:0]
	u.edgeSets = u.edgeSets[:0]
	for i, a := range v.audiences {
		if a.Yes&role != 0 {
			wanted = append(wanted, a.fixed)
		} else if a.Term == contract.ByAudience && a.Maybe&role != 0 {
			wanted = append(wanted, u.sides[i].sets...)
			u.edgeSets = append(u.edgeSets, u.sides[i].edgeSets...)
		}
	}
	for i := len(u.subscriptions) - 1; i >= 0; i-- {
		s := u.subscriptions[i]
		if slices.Contains(wanted, s.set) {
			continue
		}
		u.subscriptions = slices.Delete(u.subscriptions, i, i+1)
		u.leave(s.set)
		u.leftSets = append(u.leftSets, s.set)
		u.leftHandles = append(u.leftHandles, int(s.handle))
		u.freeHandles = append(u.freeHandles, int(s.handle))
	}
	for _, set := range wanted {
		if !u.isIn(set) {
			u.subscriptions = append(u.subscriptions, subscription{set, int32(u.newHandle()), true, v.world.Tick})
			u.enter(set)
		}
	}
	v.wantedSets = wanted
}

// checkSide brings up to date which sets of an audience a viewer belongs to, and reports whether they are the same as
// before.
func (v *View) checkSide(u *viewer, a *audience, s *viewerSide) (same bool) {
	current := s.known && s.version == a.version
	if current && u.audiencesToCheck&(1<<min(a.index, lastAudienceBit)) == 0 {
		return true
	}
	var side rules.Side
	computed := len(a.sets) > 0 && v.rules.Viewer(a.Aud, u.number, &side)
	if current && s.computed == computed && (!computed || s.leadsToSame(a, side)) {
		return true
	}
	*s = viewerSide{
		known:    true,
		computed: computed,
		version:  a.version,
		side:     side,
		margin:   s.margin,
		sets:     s.sets[:0],
		edgeSets: s.edgeSets[:0],
	}
	switch {
	case !computed:
	case a.byDistance:
		v.findNearbySets(u, a, s)
	default:
		if set := a.sets[setKey{values: side.Keys}]; set != nil && len(set.entities) > 0 {
			s.sets = append(s.sets, set)
		}
	}
	return false
}

// leadsToSame reports whether another side leads to the same sets.
func (s *viewerSide) leadsToSame(a *audience, side rules.Side) bool {
	if s.side.Keys != side.Keys {
		return false
	}
	return !a.byDistance || s.side.At == side.At || closerThan(s.side.At, side.At, s.margin)
}

// findNearbySets finds the sets within the radius and those that the radius cuts, and how far the viewer may move
// before that changes. A set that the viewer is in stays until an entity of it may be outside; another one is entered
// only once the viewer is well inside, so that nobody goes to and fro.
func (v *View) findNearbySets(u *viewer, a *audience, s *viewerSide) {
	const rounding = 1e-9 // of the distances, as a part of the radius
	staysWithin := a.radius * (1 - rounding)
	entersWithin := staysWithin - cellSlack*a.cellSize
	cutsWithin := a.radius * (1 + rounding)
	s.margin = a.cellSize / 2 // farther away may be sets that eachNearbySet does not visit
	a.eachNearbySet(s.side, func(set *recipientSet) {
		within := entersWithin
		if u.isIn(set) {
			within = staysWithin
		}
		nearest, farthest := a.distances(set.key.cell, s.side.At)
		switch {
		case farthest < within:
			s.sets = append(s.sets, set)
			s.margin = min(s.margin, staysWithin-farthest)
		case nearest <= cutsWithin:
			s.edgeSets = append(s.edgeSets, set)
			s.margin = min(s.margin, farthest-entersWithin, cutsWithin-nearest)
		default:
			s.margin = min(s.margin, nearest-cutsWithin)
		}
	})
	// The order is that of numbers that the client may know, and tells it nothing else.
	slices.SortFunc(
		s.sets, func(a, b *recipientSet) int { return cmp.Compare(a.group.LowestNumber(), b.group.LowestNumber()) },
	)
}
