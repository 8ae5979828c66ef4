package replicate

import (
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
	before  float64 // soft, when the share of this tick was begun
	ratio   float64 // of what a block took to its bounds, lately
	spent   int     // bounds of what has been put into this tick's frame
	bound   int     // of that, what stands in its block
	begun   int64   // the view's epoch in which the share of a tick was begun last
	blocked bool    // what comes next does not fit: all that is behind it waits as well

	waiting []*privateEntry // entries with something that the client has not been sent
	exiting []*privateEntry // entries that it has and may no longer have
	gone    []*privateEntry // entries that it did not get before their entity was gone, in this tick
	resends []resend
	place   [3]float64 // where the client is, when inPlace
	inPlace bool

	// The clients that this one is to be told of, and what it has been told.
	joined       []wire.Client
	left         []int
	told         map[int]uint64 // by client: what it adds to the digest
	rosterDigest uint64
	roster       []byte // packed, of this tick
}

// CompleteUpTo returns the tick up to which a client has been sent all that it may have, once the frame of this tick
// was made, and the same of what it owns: that of the frame for one without a limit. While it has not been sent
// something at all it is -1.
func (v *View) CompleteUpTo(client int) (all, own int64) {
	all = v.world.Tick
	own = v.world.Tick
	u := v.metered(client)
	if u == nil {
		return all, own
	}
	m := u.meter
	if len(m.joined)+len(m.left) > 0 {
		all = -1
	}
	for _, list := range [][]*privateEntry{m.waiting, m.exiting} {
		for _, entry := range list {
			upTo := entry.sent.since - 1
			if !entry.sent.entered || entry.nextMask&^entry.mask != 0 {
				upTo = -1 // the entity, or a property of it
			}
			all = min(all, upTo)
			if entry.owner == client {
				own = min(own, upTo)
			}
		}
	}
	return all, own
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
	u := v.metered(client)
	if u == nil {
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
	if m.soft <= 0 || bound > m.hard && (m.spent > 0 || 8*m.inSent > frameBits) {
		m.blocked = true
	}
	return !m.blocked
}

// spend takes the room for what was put into the frame. inBlock says that it stands in the block.
func (m *meter) spend(bound int, inBlock bool) {
	m.hard -= bound
	m.spent += bound
	if inBlock {
		m.bound += bound
		m.soft -= float64(bound) * m.ratio
	} else {
		m.soft -= float64(bound)
	}
}

// Sent tells the view how many bytes a client's frame took, once it was made.
func (v *View) Sent(client, bytes int) {
	u := v.metered(client)
	if u == nil {
		return
	}
	m := u.meter
	m.advance(v.world.Tick)
	m.sent[m.tick%int64(len(m.sent))] += bytes + socketBytes
	m.inSent += bytes + socketBytes
	m.soft = m.before - 8*float64(bytes+socketBytes) // in place of what was thought that it would take
}

// begin begins a metered client's share of a tick: it has the roster and what the client may no longer have.
func (v *View) begin(u *viewer) {
	m := u.meter
	if m.begun == v.epoch {
		return
	}
	m.begun = v.epoch
	m.blocked = false
	m.spent = 0
	m.bound = 0
	m.advance(v.world.Tick)
	m.before = m.soft
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

// HasRoom reports whether a client may be sent a frame with this tick at all.
func (v *View) HasRoom(client int) bool {
	u := v.metered(client)
	if u == nil {
		return true
	}
	v.begin(u)
	return u.meter.hard >= 0
}

// Admit reports whether a message of so many bytes fits into a client's frame of this tick, with all that the client
// has not been sent of the entities that belong with it. If so, both are part of the frame. A message that does not fit
// waits, and so does all that is behind it. Entities that would take more than half a second's bytes follow later.
//
// What an entity is touched by counts as far as the client may have it: a hidden write brings nothing forward.
func (v *View) Admit(client, bytes int, with []world.Touched) bool {
	u := v.metered(client)
	if u == nil {
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

// IsMetered reports whether a client is sent only so many bytes a second.
func (v *View) IsMetered(client int) bool { return v.metered(client) != nil }

// metered returns the viewer of a client with a limit of bytes, nil for one without.
func (v *View) metered(client int) *viewer {
	if !v.hasLimits {
		return nil
	}
	if u := v.viewer(client); u != nil && u.meter != nil {
		return u
	}
	return nil
}

// noteRosters has metered clients told who came and left in this tick.
func (v *View) noteRosters() {
	for _, u := range v.viewers {
		if u.meter != nil && !u.needsSnapshot {
			u.meter.noteRoster(v.joined, v.left)
		}
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

// packRoster packs whom the client is told of with this tick: as many as fit. When some do not, nothing else fits
// either, so that no message or value names a client before it is known.
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
