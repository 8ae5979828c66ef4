package replicate

import (
	"cmp"
	"math"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// A client whose role has a limit of bytes is metered. It is sent nothing by recipient sets: it has a private entry of
// everything that it may have, and each entry knows what the client has been sent of it. When an entity changes, its
// entries of metered clients wait; with each tick a client is sent as many of those that wait as fit into what is left
// of its bytes. So other clients' limits cost nobody else anything, and the client's share of a tick takes time that
// grows with what waits for it.
//
// What goes first: who came and left, what the client may no longer have, messages with the entities that they name,
// what the client owns, and then that whose wait, divided by its distance, is longest. So nothing waits for ever: what
// is twice as far waits twice as long.

const (
	// frameBits is what a frame takes besides roster, messages and block, with the four bytes of its WebSocket header.
	frameBits = 8 * (wire.FrameBound + socketBytes)
	// socketBytes is what carries a frame of up to 64 KiB.
	socketBytes = 4
	// lengthBytes is what the lengths of a message and of its section take at most.
	lengthBytes = 10
	// clientBytes is what a client of the roster takes at most, besides its name.
	clientBytes = 12
	// sparePart of the limit is held back from what is spent evenly: the bounds of a tick's share have to fit into what
	// is left of the second.
	sparePart = 0.05
	// savedSeconds is for how long bytes that were not needed may be spent later.
	savedSeconds = 0.25
)

// meter is what the view knows of a metered client, besides its entries.
type meter struct {
	limit  contract.ByteLimit
	sent   []int // bytes that each of the last ticks has sent, by tick; as many as are in a second
	inSent int   // their sum
	tick   int64 // the last one that is counted

	// What may be spent in this tick, in bits. hard is what is left of the second, and is compared with bounds; soft is
	// what may be spent so that it lasts, and is compared with what such bounds came to lately.
	hard    int
	soft    float64
	ratio   float64 // of what a block took to its bounds, lately
	bound   int     // of what has been put into this tick's block
	begun   int64   // the view's epoch in which the share of a tick was begun last
	blocked bool    // what comes next does not fit: all that is behind it waits as well

	waiting []*privateEntry // entries with something that the client has not been sent
	exiting []*privateEntry // entries that it has and may no longer have
	gone    []*privateEntry // entries that it did not get before their entity was gone, in this tick
	resends []resend
	place   [3]float64 // where the client is, when hasPlace
	inPlace bool

	// The clients that this one is to be told of, and what it has been told.
	joined       []wire.Client
	left         []int
	told         map[int]uint64 // by client: what it adds to the digest
	rosterDigest uint64
	roster       []byte // packed, of this tick
}

// sentState is what a metered client has been sent of an entity.
type sentState struct {
	waits   bool  // it is among the meter's waiting
	entered bool  // the client has it
	since   int64 // the tick since which something of it waits; 0 when nothing does
	pending uint64
	// by property, like a baseline's
	values  []int64
	fields  []wire.Field
	digests []uint64
	owner   int
	digest  uint64 // of the entity itself

	changed      uint64 // properties that are sent with this tick
	changedEpoch int64  // the view's, for which changed holds
}

// newSentState returns the state of a new entry: nothing of it has been sent.
func newSentState(b *baseline) *sentState {
	n := len(b.entity.Kind.Properties)
	s := &sentState{
		values:       make([]int64, b.plan.baselineWidth),
		digests:      make([]uint64, n),
		changedEpoch: -1,
	}
	if b.plan.visibleMask&^b.plan.deltaMask != 0 {
		s.fields = make([]wire.Field, n)
	}
	return s
}

// field returns a property as the client has it. index is its index within the outline.
func (s *sentState) field(b *baseline, index int) wire.Field {
	p := b.plan.sentProperties[index]
	if b.plan.deltaMask&(1<<p.Index) != 0 {
		at := b.plan.baselineSlots[p.Index]
		return wire.Field{Name: p.Name, Type: p.Type, Value: p.Type.FromSlots(s.values[at.from:at.to], nil)}
	}
	f := s.fields[p.Index]
	if f.Attached != nil && !b.entity.Gone { // where it is now, for when what it is attached to is gone
		f.Value = b.plan.view.world.Value(b.entity, p)
	}
	return f
}

// slots returns a property of the plan's deltaMask as the client had it, and as it is sent to it now.
func (s *sentState) slots(b *baseline, index int) (old, now []int64) {
	i := b.plan.sentProperties[index].Index
	at := b.plan.baselineSlots[i]
	now = s.values[at.from:at.to]
	if s.changedEpoch != b.plan.view.epoch || s.changed&(1<<i) == 0 {
		return now, now
	}
	return s.values[at.to : 2*at.to-at.from], now
}

// Waiting says what a metered client has not been sent yet.
type Waiting struct {
	Entities int   // of which something waits
	Ticks    int64 // for how long the oldest has
	Bytes    int   // that it was sent in the last second
	Limit    int   // of that
}

// Waiting returns what waits for a client, and false for one without a limit.
func (v *View) Waiting(client int) (Waiting, bool) {
	u := v.viewer(client)
	if u == nil || u.meter == nil {
		return Waiting{}, false
	}
	m := u.meter
	out := Waiting{Entities: len(m.waiting) + len(m.exiting), Bytes: m.inSent, Limit: m.limit.Bytes}
	for _, entry := range m.waiting {
		if entry.sent.since != 0 {
			out.Ticks = max(out.Ticks, v.world.Tick-entry.sent.since+1)
		}
	}
	return out, true
}

// newMeter returns the meter of a client that begins anew. before is the one that it had, or nil: what was sent counts
// against the new one as well.
func (v *View) newMeter(limit contract.ByteLimit, before *meter) *meter {
	m := &meter{limit: limit, ratio: 0.5, told: map[int]uint64{}, tick: v.world.Tick, begun: -1}
	m.sent = make([]int, v.world.Contract().TickRate)
	m.soft = 8 * savedSeconds * float64(limit.Bytes)
	if before != nil {
		copy(m.sent, before.sent)
		m.inSent = before.inSent
		m.tick = before.tick
		m.soft = min(m.soft, before.soft)
	}
	return m
}

// advance brings the meter to a tick: what was sent a second ago no longer counts.
func (m *meter) advance(tick int64) {
	for m.tick < tick {
		m.tick++
		at := m.tick % int64(len(m.sent))
		m.inSent -= m.sent[at]
		m.sent[at] = 0
		perTick := 8 * (1 - sparePart) * float64(m.limit.Bytes) / float64(len(m.sent))
		m.soft = min(m.soft+perTick, 8*savedSeconds*float64(m.limit.Bytes))
	}
}

// fits reports whether so many bits may be spent in this tick. What alone is more than a second's bytes goes when
// nothing else has gone for a second.
func (m *meter) fits(bound int) bool {
	if m.blocked {
		return false
	}
	if m.soft <= 0 || bound > m.hard && (m.bound > 0 || 8*m.inSent > frameBits) {
		m.blocked = true
	}
	return !m.blocked
}

// spend takes the room for what was put into the frame. inBlock says that it stands in the block.
func (m *meter) spend(bound int, inBlock bool) {
	m.hard -= bound
	if inBlock {
		m.bound += bound
		m.soft -= float64(bound) * m.ratio
	} else {
		m.soft -= float64(bound)
	}
}

// Sent tells the view how many bytes a client's frame took, once it was made.
func (v *View) Sent(client, bytes int) {
	u := v.viewer(client)
	if u == nil || u.meter == nil {
		return
	}
	m := u.meter
	m.advance(v.world.Tick)
	m.sent[m.tick%int64(len(m.sent))] += bytes + socketBytes
	m.inSent += bytes + socketBytes
}

// begin begins a metered client's share of a tick: it has the roster and what the client may no longer have.
func (v *View) begin(u *viewer) {
	m := u.meter
	if m.begun == v.epoch {
		return
	}
	m.begun = v.epoch
	m.blocked = false
	m.bound = 0
	m.advance(v.world.Tick)
	m.hard = 8*(m.limit.Bytes-m.inSent) - frameBits - u.private.BlockBound()
	if u.needsSnapshot {
		m.joined = m.joined[:0]
		for _, x := range v.viewers {
			m.joined = append(m.joined, x.client)
		}
	}
	v.locate(u)
	m.roster = v.packRoster(u)
	v.dropQuiet(u)
	v.withdraw(u)
	v.resendMetered(u)
}

// resendMetered sends once more what the client wrote itself and was not taken.
func (v *View) resendMetered(u *viewer) {
	m := u.meter
	for i, r := range m.resends {
		entry := u.entries[r.baseline.entity.ID]
		if entry == nil || !v.hasProperty(u, r.baseline, r.property) {
			continue
		}
		lane := entry.plan.outlineIndex
		index := entry.plan.outlineProperty[r.property.Index]
		bound := u.private.ResendBound(entry.baseline, lane, index, v.world.Tick)
		if !m.fits(bound) {
			m.resends = slices.Delete(m.resends, 0, i)
			return
		}
		m.spend(bound, true)
		u.private.Resend(entry, lane, index)
	}
	m.resends = m.resends[:0]
}

// HasRoom reports whether a client may be sent a frame with this tick at all.
func (v *View) HasRoom(client int) bool {
	u := v.viewer(client)
	if u == nil || u.meter == nil {
		return true
	}
	v.begin(u)
	return u.meter.hard >= 0
}

// locate finds out where a metered client is: at the place of what it has one of for its role.
func (v *View) locate(u *viewer) {
	m := u.meter
	m.inPlace = false
	for i := range v.plans {
		p := v.plans[i].nearest(m.limit.Nearest)
		if p == nil || v.world.Contract().Kinds[i].Per < 0 {
			continue
		}
		if e := v.world.OfClient(i, u.number); e != nil {
			if entry := u.entries[e.ID]; entry != nil && entry.mayHave(p) {
				m.place = placeOf(e, p)
				m.inPlace = true
				return
			}
		}
	}
}

// nearest returns the property that says where an entity of the kind is, or nil.
func (p *kindPlan) nearest(name string) *contract.Property {
	if name == "" {
		return nil
	}
	for _, property := range p.sentProperties {
		if property.Name == name && property.IsPlace() {
			return property
		}
	}
	return nil
}

// mayHave reports whether the client may have a property of the entry.
func (entry *privateEntry) mayHave(p *contract.Property) bool {
	return entry.nextMask&(1<<entry.plan.outlineProperty[p.Index]) != 0
}

// placeOf returns where an entity is by one of its properties.
func placeOf(e *world.Entity, p *contract.Property) (at [3]float64) {
	for i := range p.Type.Width() {
		at[i] = p.Type.Real(e.Nums[p.Slot+i])
	}
	return at
}

// distance returns how far what an entry is of is from its client, and no less than 1: what has no place, or none that
// the client may have, is near.
func (m *meter) distance(entry *privateEntry) float64 {
	p := entry.plan.nearest(m.limit.Nearest)
	if p == nil || !m.inPlace || !entry.mayHave(p) {
		return 1
	}
	at := placeOf(entry.entity, p)
	sum := 0.0
	for i := range at {
		d := at[i] - m.place[i]
		sum += float64(d * d)
	}
	return max(1, math.Sqrt(sum))
}

// dropQuiet leaves among the entries that wait those of which there is something to send, and notes since when.
func (v *View) dropQuiet(u *viewer) {
	m := u.meter
	m.waiting = slices.DeleteFunc(m.waiting, func(entry *privateEntry) bool {
		s := entry.sent
		if entry.isReleased {
			return true
		}
		if !v.hasNews(u, entry) {
			s.waits = false
			s.since = 0
			return true
		}
		if s.since == 0 {
			s.since = v.world.Tick
		}
		return false
	})
}

// hasNews reports whether there is something of an entry that its client has not been sent.
func (v *View) hasNews(u *viewer, entry *privateEntry) bool {
	s := entry.sent
	if !s.entered {
		return true
	}
	p := entry.plan
	if p.masksRefs { // whom the client knows may be others than before
		for i := range p.Properties {
			if p.Properties[i].Hides {
				s.pending |= 1 << i
			}
		}
	}
	for rest := s.pending; rest != 0; rest &= rest - 1 {
		i := lowestBit(rest)
		index := p.outlineProperty[i]
		if index < 0 || entry.mask&(1<<index) == 0 || v.isSent(u, entry, entry.entity.Kind.Properties[i]) {
			s.pending &^= 1 << i
		}
	}
	return s.pending != 0 || s.owner != entry.owner || entry.mask != entry.nextMask
}

// isSent reports whether a property is what the client has been sent.
func (v *View) isSent(u *viewer, entry *privateEntry, p *contract.Property) bool {
	if entry.plan.deltaMask&(1<<p.Index) != 0 {
		at := entry.plan.baselineSlots[p.Index]
		return slices.Equal(entry.sent.values[at.from:at.to], entry.values[at.from:at.to])
	}
	return v.fieldFor(u, entry, p).Same(entry.sent.fields[p.Index])
}

// fieldFor returns a property, one outside of the plan's deltaMask, as a client may have it.
func (v *View) fieldFor(u *viewer, entry *privateEntry, p *contract.Property) wire.Field {
	f := entry.baseline.fields[p.Index]
	if entry.plan.Properties[p.Index].Hides {
		f.Value = v.withoutHidden(u, p, f.Value)
	}
	return f
}

// waitFor puts an entry among those that wait. properties are those of it that changed.
func (m *meter) waitFor(entry *privateEntry, properties uint64) {
	s := entry.sent
	s.pending |= properties
	if !s.waits {
		s.waits = true
		m.waiting = append(m.waiting, entry)
	}
}

// release notes that the client may no longer have an entry.
func (m *meter) release(entry *privateEntry) {
	switch {
	case entry.sent.entered:
		m.exiting = append(m.exiting, entry)
	case entry.entity.Gone:
		entry.sent.since = entry.plan.view.world.Tick // a message of this tick may bring it
		m.gone = append(m.gone, entry)
	}
}

// updateMeteredEntries brings up to date what metered clients may have: where its audiences, or the entities in them,
// are others than before. spawned are the entities that are sent for the first time with this tick.
func (v *View) updateMeteredEntries(spawned []*baseline) {
	for _, u := range v.viewers {
		if u.meter == nil {
			continue
		}
		u.meter.gone = u.meter.gone[:0]
		switch {
		case u.reset:
			for kind := range v.plans {
				if v.plans[kind].outlineIndex >= 0 {
					v.updateEntriesOfKind(u, kind)
				}
			}
		case u.queued && !u.unchanged:
			v.updateMeteredSets(u)
		}
		for _, list := range [][]*baseline{spawned, v.membershipChanged} {
			for _, b := range list {
				if b.plan.outlineIndex >= 0 && !b.entity.Gone {
					v.updateEntry(u, b)
				}
			}
		}
	}
}

// updateMeteredSets updates a client's entries when it is in other recipient sets than before. What is at their edge has
// been looked at already.
func (v *View) updateMeteredSets(u *viewer) {
	for i := len(u.entryList) - 1; i >= 0; i-- { // the last entry takes the place of one that is released
		if entry := u.entryList[i]; !entry.entity.Gone {
			v.updateEntry(u, entry.baseline)
		}
	}
	for _, s := range u.subscriptions {
		if !s.isNew {
			continue
		}
		for _, b := range s.set.entities {
			if !b.entity.Gone {
				v.updateEntry(u, b)
			}
		}
	}
}

// withdraw takes from the client what it may no longer have.
func (v *View) withdraw(u *viewer) {
	m := u.meter
	n := 0
	slices.SortFunc(m.exiting, compareEntries)
	for _, entry := range m.exiting {
		bound := u.private.SlotBound(entry.plan.outlineIndex, len(m.waiting))
		if !m.fits(bound) {
			break
		}
		m.spend(bound, true)
		n++
		v.exit(u, entry)
	}
	m.exiting = slices.Delete(m.exiting, 0, n)
	var losing []*privateEntry
	for _, entry := range m.waiting {
		if entry.sent.entered && entry.mask&^entry.nextMask != 0 {
			losing = append(losing, entry)
		}
	}
	slices.SortFunc(losing, compareEntries)
	for _, entry := range losing {
		bound := u.private.MaskBound(entry.plan.outlineIndex, len(m.waiting), entry, 0, v.world.Tick)
		if !m.fits(bound) {
			return
		}
		m.spend(bound, true)
		v.setMask(u, entry, entry.mask&entry.nextMask)
	}
}

// exit takes an entity from the client.
func (v *View) exit(u *viewer, entry *privateEntry) {
	u.private.Exit(entry.plan.outlineIndex, int(entry.slot))
	u.droppedEntities = append(u.droppedEntities, entry.entity.ID)
	u.markForReset(v)
	u.digest -= entry.sentDigest(entry.mask) + entry.sent.digest
}

// compareEntries orders entries by the numbers that clients know their entities by.
func compareEntries(a, b *privateEntry) int { return cmp.Compare(a.number, b.number) }

// sentDigest returns what properties of the entry add to the client's digest. mask is a set over their indices within
// the outline.
func (entry *privateEntry) sentDigest(mask uint64) (sum uint64) {
	for ; mask != 0; mask &= mask - 1 {
		sum += entry.sent.digests[entry.plan.sentProperties[lowestBit(mask)].Index]
	}
	return sum
}

// setMask changes which properties of an entry the client has. Those that it gains are sent as they are now.
func (v *View) setMask(u *viewer, entry *privateEntry, mask uint64) {
	u.digest -= entry.sentDigest(entry.mask &^ mask)
	gained := mask &^ entry.mask
	for rest := gained; rest != 0; rest &= rest - 1 {
		v.take(u, entry, entry.plan.sentProperties[lowestBit(rest)])
	}
	entry.mask = mask
	u.digest += entry.sentDigest(gained)
	u.private.SetMask(entry.plan.outlineIndex, int(entry.slot), mask)
}

// take makes what a property is now what the client has been sent of it.
func (v *View) take(u *viewer, entry *privateEntry, p *contract.Property) {
	s := entry.sent
	bit := uint64(1) << p.Index
	if s.changedEpoch != v.epoch {
		s.changedEpoch = v.epoch
		s.changed = 0
	}
	s.changed |= bit
	s.pending &^= bit
	index := entry.plan.outlineProperty[p.Index]
	if entry.plan.deltaMask&bit != 0 {
		at := entry.plan.baselineSlots[p.Index]
		copy(s.values[at.to:], s.values[at.from:at.to])
		copy(s.values[at.from:at.to], entry.values[at.from:at.to])
		if !p.Loose {
			s.digests[p.Index] = wire.DigestSlots(entry.number, index, s.values[at.from:at.to])
		}
		return
	}
	s.fields[p.Index] = v.fieldFor(u, entry, p)
	if !p.Loose {
		s.digests[p.Index] = s.fields[p.Index].Digest(entry.number, index)
	}
}

// entryBound returns what an entry that waits adds to the block at most.
func (v *View) entryBound(u *viewer, entry *privateEntry) int {
	p := entry.plan
	s := entry.sent
	lane := p.outlineIndex
	if !s.entered {
		return u.private.EnterBound(lane, entry.baseline, entry.nextMask, v.world.Tick)
	}
	more := len(u.meter.waiting)
	bound := 0
	if s.owner != entry.owner {
		bound += u.private.OwnerBound(lane, more, entry.owner)
	}
	if entry.mask != entry.nextMask {
		bound += u.private.MaskBound(lane, more, entry.baseline, entry.nextMask&^entry.mask, v.world.Tick)
	}
	for rest := s.pending; rest != 0; rest &= rest - 1 {
		index := p.outlineProperty[lowestBit(rest)]
		if index >= 0 && entry.mask&entry.nextMask&(1<<index) != 0 {
			bound += u.private.ChangeBound(lane, more, index, entry.baseline, v.world.Tick)
		}
	}
	return bound
}

// send puts all that waits of an entry into the client's block.
func (v *View) send(u *viewer, entry *privateEntry) {
	p := entry.plan
	s := entry.sent
	lane := p.outlineIndex
	s.since = 0
	if !s.entered {
		s.entered = true
		for rest := entry.nextMask; rest != 0; rest &= rest - 1 {
			v.take(u, entry, p.sentProperties[lowestBit(rest)])
		}
		s.owner = entry.owner
		s.digest = wire.DigestEntity(entry.number, lane, s.owner)
		s.pending = 0
		entry.mask = entry.nextMask
		entry.slot = int32(u.private.Enter(lane, entry, entry.whole, entry.mask))
		u.digest += s.digest + entry.sentDigest(entry.mask)
		return
	}
	if s.owner != entry.owner {
		s.owner = entry.owner
		u.digest -= s.digest
		s.digest = wire.DigestEntity(entry.number, lane, s.owner)
		u.digest += s.digest
		u.private.SetOwner(lane, int(entry.slot))
	}
	had := entry.mask & entry.nextMask
	if entry.mask != entry.nextMask {
		v.setMask(u, entry, entry.nextMask)
	}
	for rest := s.pending; rest != 0; rest &= rest - 1 {
		i := lowestBit(rest)
		index := p.outlineProperty[i]
		if index < 0 || had&(1<<index) == 0 {
			continue
		}
		u.digest -= s.digests[i]
		v.take(u, entry, entry.entity.Kind.Properties[i])
		u.digest += s.digests[i]
		u.private.Change(lane, int(entry.slot), index, entry)
	}
	s.pending = 0
}

// Admit reports whether a message of so many bytes fits into a client's frame of this tick, with all that the client
// has not been sent of the entities that belong with it. If so, both are part of the frame. A message that does not fit
// waits, and so does all that is behind it. Entities that would take more than half a second's bytes follow later.
//
// What an entity is touched by counts as far as the client may have it: a hidden write brings nothing forward.
func (v *View) Admit(client, bytes int, with []world.Touched) bool {
	u := v.viewer(client)
	if u == nil || u.meter == nil {
		return true
	}
	v.begin(u)
	bound := 0
	var news []*privateEntry
	for _, x := range with {
		entry := u.entryOrGone(x.Entity)
		if entry == nil || entry.sent.since == 0 || slices.Contains(news, entry) || !entry.shows(x.Properties) {
			continue
		}
		if bound > 8*u.meter.limit.Bytes/2 {
			break // the rest follows
		}
		news = append(news, entry)
		bound += v.entryBound(u, entry)
		if entry.isReleased {
			bound += u.private.SlotBound(entry.plan.outlineIndex, len(u.meter.waiting))
		}
	}
	message := 8 * (bytes + lengthBytes)
	if !u.meter.fits(message + bound) {
		return false
	}
	u.meter.spend(message, false)
	u.meter.spend(bound, true)
	for _, entry := range news {
		v.send(u, entry)
		if entry.isReleased {
			v.exit(u, entry)
		}
	}
	return true
}

// shows reports whether the client may have one of some properties of the entry, or they are all.
func (entry *privateEntry) shows(properties uint64) bool {
	return properties == ^uint64(0) || entry.plan.outlineMask(properties)&entry.nextMask != 0
}

// entryOrGone returns the client's entry of an entity, also one that is gone since this tick and that the client has
// not been told of; nil for none.
func (u *viewer) entryOrGone(id world.ID) *privateEntry {
	if entry := u.entries[id]; entry != nil {
		return entry
	}
	for _, entry := range u.meter.gone {
		if entry.entity.ID == id {
			return entry
		}
	}
	return nil
}

// meteredParts is FrameParts for a metered client.
func (v *View) meteredParts(u *viewer, out *wire.Parts) bool {
	m := u.meter
	v.begin(u)
	v.sendWaiting(u)
	out.Snapshot = u.needsSnapshot
	out.Blocks = out.Blocks[:0]
	out.Roster = m.roster
	u.needsSnapshot = false
	if block := u.private.Pack(v.world.Tick); block != nil {
		out.Blocks = append(out.Blocks, wire.Change(0, block))
		if m.bound > 0 {
			took := min(8*float64(len(block))/float64(m.bound), 1)
			m.ratio += (took - m.ratio) / 8
		}
	}
	return out.Snapshot || len(out.Blocks) > 0 || out.Roster != nil
}

// knows reports whether a metered client has been told of an entity, by its frame of this tick or before.
func (m *meter) knows(u *viewer, id world.ID) bool {
	if entry := u.entries[id]; entry != nil && entry.sent.entered || slices.Contains(u.droppedEntities, id) {
		return true
	}
	return slices.ContainsFunc(m.exiting, func(entry *privateEntry) bool { return entry.entity.ID == id })
}

// meteredSnapshot is Snapshot for a metered client: what it has been sent, which is all that it may have once nothing
// waits.
func (v *View) meteredSnapshot(u *viewer) *wire.Block {
	out := &wire.Block{}
	for _, x := range v.viewers {
		if _, isTold := u.meter.told[x.number]; isTold {
			out.Joined = append(out.Joined, x.client)
		}
	}
	entries := append(slices.Clone(u.entryList), u.meter.exiting...)
	slices.SortFunc(entries, compareEntries)
	for _, entry := range entries {
		if !entry.sent.entered {
			continue
		}
		spawn := wire.Spawn{Entity: entry.number, Kind: entry.entity.Kind.Name, Owner: entry.sent.owner}
		for rest := entry.mask; rest != 0; rest &= rest - 1 {
			spawn.Fields = append(spawn.Fields, entry.Field(lowestBit(rest)))
		}
		out.Spawned = append(out.Spawned, spawn)
	}
	return out
}

// IsMetered reports whether a client is sent only so many bytes a second.
func (v *View) IsMetered(client int) bool {
	u := v.viewer(client)
	return u != nil && u.meter != nil
}

// candidate is an entry that waits, with what decides when it goes.
type candidate struct {
	entry *privateEntry
	own   bool
	wait  float64 // in ticks, divided by the distance
}

// sendWaiting puts into the block what waits, as far as it fits.
func (v *View) sendWaiting(u *viewer) {
	m := u.meter
	list := v.candidates[:0]
	for _, entry := range m.waiting {
		if entry.sent.since == 0 {
			continue // it went with a message
		}
		list = append(list, candidate{
			entry: entry,
			own:   entry.owner == u.number,
			wait:  float64(v.world.Tick-entry.sent.since+1) / m.distance(entry),
		})
	}
	v.candidates = list
	// A heap, since a few of many go.
	for i := len(list)/2 - 1; i >= 0; i-- {
		siftDown(list, i)
	}
	for len(list) > 0 {
		entry := list[0].entry
		bound := v.entryBound(u, entry)
		if !m.fits(bound) {
			break
		}
		m.spend(bound, true)
		v.send(u, entry)
		list[0] = list[len(list)-1]
		list = list[:len(list)-1]
		siftDown(list, 0)
	}
	m.waiting = slices.DeleteFunc(m.waiting, func(entry *privateEntry) bool {
		entry.sent.waits = entry.sent.since != 0
		return !entry.sent.waits
	})
}

// goesBefore reports whether one candidate goes before another. Of equal ones that goes first whose kind the contract
// declares first, then that with the lower number, which the client knows.
func (a *candidate) goesBefore(b *candidate) bool {
	switch {
	case a.own != b.own:
		return a.own
	case a.wait != b.wait:
		return a.wait > b.wait
	case a.entry.plan != b.entry.plan:
		return a.entry.plan.outlineIndex < b.entry.plan.outlineIndex
	}
	return a.entry.number < b.entry.number
}

// siftDown restores the order of a binary heap, with what goes first at its root, below the place i (Williams, 1964).
func siftDown(heap []candidate, i int) {
	for {
		first := i
		for child := 2*i + 1; child <= 2*i+2 && child < len(heap); child++ {
			if heap[child].goesBefore(&heap[first]) {
				first = child
			}
		}
		if first == i {
			return
		}
		heap[i], heap[first] = heap[first], heap[i]
		i = first
	}
}

// noteRoster notes who joined, has another role or left since the last tick.
func (m *meter) noteRoster(joined []wire.Client, left []int) {
	for _, c := range joined {
		m.joined = slices.DeleteFunc(m.joined, func(x wire.Client) bool { return x.Number == c.Number })
		m.joined = append(m.joined, c)
	}
	for _, number := range left {
		m.joined = slices.DeleteFunc(m.joined, func(x wire.Client) bool { return x.Number == number })
		if _, isTold := m.told[number]; isTold {
			m.left = append(m.left, number)
		}
	}
}

// packRoster packs whom the client is told of with this tick: as many as fit. When some do not, nothing else fits either, so
// that no message or value names a client before it is known.
func (v *View) packRoster(u *viewer) []byte {
	m := u.meter
	joined := 0
	for _, c := range m.joined {
		bound := 8 * (clientBytes + len(c.Name))
		if !m.fits(bound) {
			break
		}
		m.spend(bound, false)
		joined++
	}
	left := 0
	for range m.left {
		if joined < len(m.joined) || !m.fits(8*clientBytes) {
			break
		}
		m.spend(8*clientBytes, false)
		left++
	}
	if joined+left == 0 && !u.needsSnapshot {
		return nil
	}
	packed := wire.PackRoster(v.outline, m.joined[:joined], m.left[:left])
	for _, c := range m.joined[:joined] {
		m.rosterDigest -= m.told[c.Number]
		m.told[c.Number] = wire.DigestClient(c, slices.Index(v.outline.Roles, c.Role))
		m.rosterDigest += m.told[c.Number]
	}
	for _, number := range m.left[:left] {
		m.rosterDigest -= m.told[number]
		delete(m.told, number)
	}
	m.joined = slices.Delete(m.joined, 0, joined)
	m.left = slices.Delete(m.left, 0, left)
	return packed
}
