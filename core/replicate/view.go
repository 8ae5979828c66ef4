// Package replicate decides what each client is sent, and holds what a client makes of it: its copy.
//
// A View is the server's side. It sorts clients and entities into recipient sets: clients who get the same values of
// the same entities. What changed in a tick is packed once for each set, however many clients are in it, and what one
// client alone may have goes into a block of its own, so that the cost of a tick grows with changes plus clients. A
// Copy is the client's side: a function of the frames that it was given. A ServerState tells those who run a session
// what the server holds, without regard to audiences.
//
// The package does not know why a value changed, and reads no clock. A View and a ServerState belong to the goroutine
// that ticks their session, a Copy to whoever made it.
//
// # How it works
//
// An audience is split into a side of the viewer and a side of the entity (audience.go). A side is computed again only
// when something that it reads was written; equal sides, or places near enough (cells.go), belong together. From that
// the View knows the recipient sets that a client is subscribed to, and the entities that are in each.
//
// For each entity a baseline (baseline.go) holds what was sent of it last. A write marks the property; at the end of
// the tick (endtick.go) each marked property is compared with its baseline, and what differs is packed into the
// wire.Group of each set that gets it. What only one client may have stands in private entries (private.go), in a group
// of its own. plan.go says, once for each kind, which property goes which way; viewer.go has what is known of one
// client.
//
// A client whose role has a limit of bytes gets everything by itself (meter.go): each of its private entries knows what
// was sent of it (sentstate.go, metered.go), and what waits goes by its wait and distance (priority.go).
//
// prefetch.go reads memory ahead of the loops that need it: at a thousand clients, most of a tick is spent on waiting
// for memory.
package replicate

import (
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// Rules answers which client may have what. Its answers hold for the state of the world at the moment of the call.
type Rules interface {
	// Sees reports whether a client may know that an entity exists.
	Sees(e *world.Entity, client int) bool
	// Gets reports whether a client that may know of an entity may have one of its properties.
	Gets(e *world.Entity, p *contract.Property, client int) bool
	// Splits reports whether an audience can be decided by comparing two sides, one computed from the client and one
	// from the entity, and whether the distance between two places is part of that.
	Splits(a *contract.Named) (keys, near bool)
	// Viewer computes the client's side of such an audience, Subject the entity's. They report false when the side
	// cannot be computed; whoever it is of is then outside the audience.
	Viewer(a *contract.Named, client int, out *rules.Side) bool
	Subject(a *contract.Named, e *world.Entity, out *rules.Side) bool
	// Radius returns the distance within which two places are close enough.
	Radius(a *contract.Named) (float64, bool)
}

// View knows what every client of one session has been sent, and decides what each is sent next.
//
// During a tick the session tells it what happened: AddClient, AddEntity, MarkWritten and the like. EndTick then
// decides who gets what, FrameParts returns each client's share, and AcceptFrames makes that the base of the next tick.
type View struct {
	key     [32]byte `checkpoint:"-"` // hides how the server numbers entities
	world   *world.World
	rules   Rules
	layout  *wire.Layout
	outline *contract.Outline
	buffer  wire.Buffer // shared by the private groups, which are packed one after the other

	audiences []*audience // by the outline's groups
	plans     []kindPlan  // by kind

	// Clients.
	viewers        []*viewer // by the client's number
	lastViewer     int       // where the client stands that was last looked up: the next one mostly follows it
	roster         []byte    // this tick's joins and leaves, packed
	rosterDigest   uint64    // what the clients in the session add to every digest
	joined         []wire.Client
	left           []int
	privateEntries int   // of all clients together
	meteredMemory  int64 // that those of metered clients take besides, in bytes

	// Entities.
	baselines      map[world.ID]*baseline
	entityByNumber map[uint32]*world.Entity

	// Entities with something to do in this tick. Each list is emptied by AcceptFrames or the next EndTick.
	spawned           []*baseline
	despawned         []*baseline // only those that some client could know of
	forgotten         []*baseline // those that were despawned with the last EndTick
	membershipChanged []*baseline // those that entered or left a recipient set with the last EndTick
	ownerChanged      []*baseline // those whose owner may be another one
	changed           []*baseline // those with changes that recipient sets are sent
	rateLimited       []*baseline // those with changes that wait until they may be sent
	resends           []resend

	// Viewers with something to do in this tick.
	viewersToCheck        []*viewer // those whose side of an audience may have changed
	viewersChecked        []*viewer // those whose sides were computed in this EndTick
	viewersToReset        []*viewer // those with something that holds for this EndTick alone
	viewersWithNewEntries []*viewer
	viewersToPack         []*viewer       // those whose private group may have something to send
	wantedSets            []*recipientSet // memory that subscribe uses again
	candidates            []candidate     // memory that sendWaiting uses again

	// Which sides of audiences have to be computed again. A side is computed only when something that it reads changed.
	// by kind: properties of a client's own entities that its side of some audience reads
	viewerReads         []uint64
	entityReads         []uint64    // by kind: properties that the entity's side of some audience reads
	sharedReads         []uint64    // by kind: properties of shared entities that either side reads
	entitiesToCheck     []*baseline // those whose side may have changed
	checkAllViewers     bool
	checkAllEntities    bool
	entitySidesVolatile bool // some side may change without anything being written
	viewerSidesVolatile bool // the client's side of some audience may
	setsChanged         bool // a recipient set became empty, or is no longer empty

	epoch        int64 // grows with each AcceptFrames; a baseline with the same epoch has changes of this tick
	hasLimits    bool  // some role has a limit of bytes
	tracksSent   bool  // bodies ask what clients have seen
	masksRefs    bool  // some values refer to entities that not everyone who gets the value may know of
	prefetchSink int64
}

// resend asks for a property to be sent to one client once more, unchanged.
type resend struct {
	baseline *baseline
	property *contract.Property
	client   int
}

// NewView returns the view of a session whose world is empty. Two views with the same key number entities alike.
func NewView(key [32]byte, w *world.World, r Rules) *View {
	c := w.Contract()
	v := &View{
		key:            key,
		world:          w,
		rules:          r,
		layout:         wire.NewLayout(c.Outline()),
		baselines:      map[world.ID]*baseline{},
		entityByNumber: map[uint32]*world.Entity{},
		viewerReads:    make([]uint64, len(c.Kinds)),
		entityReads:    make([]uint64, len(c.Kinds)),
		sharedReads:    make([]uint64, len(c.Kinds)),
	}
	v.outline = v.layout.Outline
	v.tracksSent = c.AsksSeen
	v.hasLimits = c.ByteLimits != nil
	grouping := c.Grouping()
	for i, kind := range c.Kinds {
		v.plans = append(v.plans, newKindPlan(v, kind, grouping.Kinds[i]))
	}
	for i, group := range grouping.Groups {
		v.audiences = append(v.audiences, v.newAudience(i, group))
	}
	for i := range v.plans {
		v.plans[i].findPrivateParts()
		v.masksRefs = v.masksRefs || v.plans[i].masksRefs
	}
	return v
}

// CheckpointTypes returns a pointer of each type of this package that an interface holds in a View or its world, for
// who writes them to a checkpoint.
func CheckpointTypes() []any { return []any{(*baseline)(nil), (*privateEntry)(nil)} }

// SetKey gives a view that was read from a checkpoint its key, which checkpoints leave out.
func (v *View) SetKey(key [32]byte) { v.key = key }

// Layout returns the layout of the outline that clients are given.
func (v *View) Layout() *wire.Layout { return v.layout }

// byteLimit returns the limit of a client's role.
func (v *View) byteLimit(u *viewer) contract.ByteLimit {
	return v.world.Contract().ByteLimit(int(u.role))
}

// PrivateEntries returns how many entities clients have by themselves, summed over all clients.
func (v *View) PrivateEntries() int { return v.privateEntries }

// EntryMemory returns what these take in memory, in bytes: what audiences cost that cannot be shared, and limits of
// bytes.
func (v *View) EntryMemory() int64 {
	return int64(v.privateEntries)*contract.EntryMemory + v.meteredMemory
}

// AddClient adds a client, or gives one that is there another role. It is sent a snapshot.
func (v *View) AddClient(c wire.Client) {
	v.joined = slices.DeleteFunc(v.joined, func(x wire.Client) bool { return x.Number == c.Number })
	v.joined = append(v.joined, c)
	role := slices.Index(v.outline.Roles, c.Role)
	if u := v.viewer(c.Number); u != nil {
		v.rosterDigest -= wire.DigestClient(u.client, int(u.role))
		wasMetered := u.meter != nil
		u.client = c
		u.role = uint(role)
		u.reset = true
		u.markChanged(v)
		if wasMetered || v.byteLimit(u).Bytes > 0 {
			u.restart(v)
		}
	} else {
		u := &viewer{number: c.Number, client: c, role: uint(role)}
		u.restart(v)
		v.viewers = append(v.viewers, u)
	}
	v.rosterDigest += wire.DigestClient(c, role)
}

// RemoveClient removes a client. The others are told.
func (v *View) RemoveClient(number int) {
	u := v.viewer(number)
	if u == nil {
		return
	}
	v.rosterDigest -= wire.DigestClient(u.client, int(u.role))
	u.restart(v)
	u.gone = true
	v.viewers = slices.DeleteFunc(v.viewers, func(x *viewer) bool { return x == u })
	v.joined = slices.DeleteFunc(v.joined, func(x wire.Client) bool { return x.Number == number })
	v.left = append(v.left, number)
}

// Resync sends a client a snapshot in place of the next changes.
func (v *View) Resync(client int) {
	if u := v.viewer(client); u != nil {
		u.restart(v)
	}
}

// WaitsForSnapshot reports whether a client's snapshot comes with a later EndTick. Until then it must be sent nothing.
func (v *View) WaitsForSnapshot(client int) bool { return v.viewer(client).waitsForSnapshot }

// viewer returns the viewer of a client, or nil. Callers mostly go over the clients in order, so the next one is tried
// first.
func (v *View) viewer(number int) *viewer {
	for i := v.lastViewer; i < min(v.lastViewer+2, len(v.viewers)); i++ {
		if u := v.viewers[i]; u.number == number {
			v.lastViewer = i
			return u
		}
	}
	i, found := slices.BinarySearchFunc(v.viewers, number, func(u *viewer, n int) int { return u.number - n })
	if !found {
		return nil
	}
	v.lastViewer = i
	return v.viewers[i]
}

// baselineOf returns the baseline of an entity, or nil.
func (v *View) baselineOf(e *world.Entity) *baseline {
	if b, ok := e.Baseline.(*baseline); ok && b.plan.view == v {
		return b
	}
	return v.baselines[e.ID]
}

// AddEntity adds an entity. It is sent with the values that it has when the tick ends.
func (v *View) AddEntity(e *world.Entity) {
	b := &baseline{
		plan:   &v.plans[e.Kind.Index],
		number: PublicNumber(v.key, e, len(v.plans)),
		entity: e,
		owner:  e.Owner,
	}
	v.baselines[e.ID] = b
	e.Baseline = b
	v.entityByNumber[b.number] = e
	v.spawned = append(v.spawned, b)
	v.noteKindChanged(e)
}

// RemoveEntity removes an entity that the world has despawned.
func (v *View) RemoveEntity(e *world.Entity) {
	b := v.baselineOf(e)
	if b == nil {
		return
	}
	delete(v.entityByNumber, b.number)
	v.noteKindChanged(e)
	if b.announced {
		v.despawned = append(v.despawned, b)
	}
}

// noteKindChanged has all viewers checked when audiences read their own entities of the kind: somebody has one more or
// one less of them.
func (v *View) noteKindChanged(e *world.Entity) {
	if v.viewerReads[e.Kind.Index] != 0 {
		v.checkAllViewers = true
	}
}

// MarkNamedByEvent says that an event of this tick names an entity, so that clients are told of the entity even when
// it is gone by the end of the tick.
func (v *View) MarkNamedByEvent(id world.ID) {
	if b := v.baselines[id]; b != nil && !b.announced {
		b.spawnedAndGone = true
	}
}

// MarkOwnerChanged says that an entity may have another owner.
func (v *View) MarkOwnerChanged(e *world.Entity) {
	if b := v.baselineOf(e); b != nil && b.announced && b.queues&inOwnerChanged == 0 {
		b.queues |= inOwnerChanged
		v.ownerChanged = append(v.ownerChanged, b)
	}
}

// MarkWritten says that properties of an entity may have changed. properties is a bit set over the kind's properties.
// A value that equals what was last sent is not sent again.
func (v *View) MarkWritten(e *world.Entity, properties uint64) {
	b := v.baselineOf(e)
	kind := e.Kind.Index
	if v.viewerReads[kind]&properties != 0 {
		v.markViewerSideChanged(e, properties)
	}
	if v.sharedReads[kind]&properties != 0 {
		v.checkAllViewers = true
		v.checkAllEntities = true
	}
	if b == nil || !b.announced || e.Gone {
		return
	}
	if v.entityReads[kind]&properties != 0 {
		b.markEntitySideChanged()
	}
	if b.plan.hasMotion {
		properties = withMotion(e.Kind, properties)
	}
	for rest := properties & b.plan.visibleMask; rest != 0; rest &= rest - 1 {
		v.updateOrDefer(b, e.Kind.Properties[lowestBit(rest)])
	}
	if b.epoch == v.epoch {
		for entry := b.privateEntries; entry != nil; entry = entry.nextOfEntity {
			entry.markChanged()
		}
	}
}

// updateOrDefer takes over the value of a property, or has it wait when the property is sent only so many times a
// second and was sent too recently.
func (v *View) updateOrDefer(b *baseline, p *contract.Property) {
	bit := uint64(1) << p.Index
	if b.isCurrent(p) {
		b.deferredMask &^= bit
		return
	}
	if p.AtMost > 0 && (v.world.Tick-b.sentTick[p.Index])*int64(p.AtMost) < int64(v.world.Contract().TickRate) {
		if b.deferredMask == 0 {
			v.rateLimited = append(v.rateLimited, b)
		}
		b.deferredMask |= bit
		return
	}
	b.update(p)
}

// markViewerSideChanged queues the client that owns e for another check of its audiences: properties that its sides
// read may have changed. properties is a bit set over the kind's properties.
func (v *View) markViewerSideChanged(e *world.Entity, properties uint64) {
	if v.world.OfClient(e.Kind.Index, e.Owner) != e {
		v.checkAllViewers = true // it was given away: whoever had it reads another one now
		return
	}
	u := v.viewer(e.Owner)
	if u == nil {
		return
	}
	u.markChanged(v)
	for i, a := range v.audiences {
		if a.viewerReads != nil && a.viewerReads[e.Kind.Index]&properties != 0 {
			u.audiencesToCheck |= 1 << min(i, lastAudienceBit)
		}
	}
}

// Resend sends a client the value of a property once more: what the client wrote itself was not taken.
func (v *View) Resend(e *world.Entity, p *contract.Property, client int) {
	if b := v.baselines[e.ID]; b != nil {
		v.resends = append(v.resends, resend{b, p, client})
	}
}
