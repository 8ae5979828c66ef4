package session

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// completeness says up to which tick a frame of a metered client, and those before it, told it all that it may have,
// and all of what it owns.
type completeness struct{ tick, all, own int64 }

// seat is a client's place in a session. The session owns it from Join until its leave has been carried out.
//
// The fields that every tick looks at stand first, within two cache lines.
type seat struct {
	client              world.Client
	joined              bool  // its join has been carried out
	ready               bool  // it takes events
	saidReady           bool  // it has said that it does; the next tick makes it so
	leaving             bool  // its leave is queued
	lost                bool  // its connection is gone
	behind              bool  // it does not take what it is sent: frames wait until it has caught up
	hasMessages         bool  // there may be messages for it, or it is cut
	lastFrame           int64 // tick of the last frame
	toldStored          int64 // the storedTick that it was told
	keptTick            int64 // in which something last changed that it keeps
	isUndone            bool  // it is to be told that all it has after undoneAfter is undone
	undoneAfter         int64
	lastDigest          int64              // tick of the last frame with a digest
	queued              int                // requests, writes and presses that are queued for the next tick
	decidedNow          int                // requests that were decided in this tick
	confirmed           int64              // the newest tick that it has applied
	unconfirmed         []unconfirmedFrame // by tick
	complete            []completeness     // by tick; of a metered client
	unconfirmedMessages int                // in those
	highestNumber       uint64             // of anything that it sent
	queuedWrites        []int              // its writes among the inputs of the next tick
	lastBudget          *paceBudget        // of what it wrote last

	public       wire.Client      // what clients know of it
	deferred     []deferred       // inputs that wait for a tick with steps to spare, oldest first
	lostTick     int64            // the tick in which its loss was carried out; 0 while it is there
	lastResync   int64            // the tick of the last snapshot for a copy that differed
	differences  int              // how often its copy differed
	queuedEvents []*outgoingEvent // events that wait for it to get ready, to come back or to catch up

	newestRequest uint64 // the highest number of a request that was decided
	// by the request's number; apart, so that seats stand close together
	remembered      *[rememberedDecisions]wire.Decision
	presses         map[propertyKey]uint64 // the number of its newest press of each hold
	acceptedTick    map[limitKey]int64     // the tick of the last accepted request, of those with a pause
	limits          map[limitKey]*limitWindow
	newEvents       []*outgoingEvent // of this tick
	pendingReplies  []pendingReply   // of this tick
	queuedDecisions []wire.Decision
	queuedLogLines  []string
	touched         map[uint64][]world.Touched // by the number of a request whose decision waits: what it changed
	strikes         limitWindow
	identity        string                     // of the player, when somebody has proven it; else empty
	fence           int64                      // of the lease of what the player keeps; 0 when that was not loaded
	kept            map[string]json.RawMessage // that by the properties' full names, as it is now; nil for nothing
	isUnderWay      bool                       // the contract has sent it elsewhere, and its place may not be ready
	isReplaced      bool                       // another logic process has its place
	cutReason       string                     // why it is out with the end of this tick; empty when it is not
}

// limitKey names what a limit or a pause counts: a client's uses of one request on one entity.
type limitKey struct {
	request int // index
	entity  world.ID
}

// limitWindow remembers the ticks of the last uses of a limit, in a ring.
type limitWindow struct {
	ticks []int64
	next  int // where the oldest stands once the ring is full
}

// take reports whether another use at a tick is within a limit of count uses in any length ticks, and counts it if so.
func (w *limitWindow) take(count int, length, tick int64) bool {
	if len(w.ticks) < count {
		w.ticks = append(w.ticks, tick)
		return true
	}
	if w.ticks[w.next]+length > tick {
		return false
	}
	w.ticks[w.next] = tick
	w.next = (w.next + 1) % count
	return true
}

// Join gives a new client a seat, and returns its number. Its entities come with the next tick. An empty role means
// the contract's first one. The error is a *Refusal.
//
// Nobody has proven who the player is, so that it goes by its name.
func (s *Session) Join(name, role string) (int, error) { return s.JoinPlayer("", name, role) }

// JoinPlayer is Join of a player whose identity somebody has proven: what it keeps, and that it was expelled, goes by
// the identity, whatever name it has. With an empty identity it is Join.
func (s *Session) JoinPlayer(player, name, role string) (int, error) {
	name, roleIndex, err := s.readJoin(player, name, role)
	if err != nil {
		return 0, err
	}
	role = s.contract.Roles[roleIndex]
	s.lastClient++
	t := &seat{
		client:       world.Client{Number: s.lastClient, Name: name, Role: roleIndex},
		identity:     player,
		limits:       map[limitKey]*limitWindow{},
		acceptedTick: map[limitKey]int64{},
	}
	delete(s.expelledUntil, t.player())
	if s.isLogic(t) {
		s.replaceLogic()
	}
	s.updatePublic(t)
	s.seats[s.lastClient] = t
	s.order = append(s.order, t)
	s.inputs = append(s.inputs, input{seat: t, typ: inputJoin})
	s.record(Call{Type: CallJoin, Client: s.lastClient, Player: player, Name: name, Role: role})
	return s.lastClient, nil
}

// readJoin returns the name and the role of a client that may join. The error is a *Refusal.
func (s *Session) readJoin(player, name, role string) (clean string, roleIndex int, err error) {
	if role == "" {
		role = s.contract.Roles[0]
	}
	roleIndex = slices.Index(s.contract.Roles, role)
	if roleIndex < 0 {
		detail := fmt.Sprintf("as %.40q: the contract has no such role, only %v", role, s.contract.Roles)
		return "", 0, &Refusal{RoleUnknown, detail}
	}
	clean, err = cleanName(name)
	if err != nil {
		return "", 0, &Refusal{NameUnfit, err.Error()}
	}
	if refusal := s.refuseJoin(clean, playerOf(player, clean), roleIndex); refusal != nil {
		return "", 0, refusal
	}
	return clean, roleIndex, nil
}

// playerOf returns what a player with a name goes by: its identity, when somebody has proven that.
func playerOf(identity, name string) string {
	if identity != "" {
		return identity
	}
	return name
}

// player returns what the client's player goes by.
func (t *seat) player() string { return playerOf(t.identity, t.client.Name) }

// refuseJoin returns why a player with a name gets no seat of a role; nil when it gets one.
func (s *Session) refuseJoin(name, player string, role int) *Refusal {
	if s.lastClient >= wire.MaxClient {
		detail := fmt.Sprintf("the session has had %d clients and can number no more", s.lastClient)
		return &Refusal{NumbersSpent, detail}
	}
	taken := 0
	for _, t := range s.order {
		isOfLogic := s.isLogic(t) && role == t.client.Role
		if t.leaving || isOfLogic && s.makesWay(t) {
			continue
		}
		if isOfLogic {
			detail := "the session has its logic process; a second one would write what the first does"
			return &Refusal{LogicTaken, detail}
		}
		taken++
		if t.client.Name == name {
			return &Refusal{NameTaken, fmt.Sprintf("the name %q is in use in this session", name)}
		}
		// Two clients that nobody can tell apart are one too many: a game shows names alone.
		if alike(t.client.Name, name) {
			detail := fmt.Sprintf("the name %q looks like %q, which is in use in this session", name, t.client.Name)
			return &Refusal{NameTaken, detail}
		}
	}
	if s.world.MemoryUsed() >= s.world.MaxMemory {
		return &Refusal{MemorySpent, "the session has no memory left for another client"}
	}
	if taken >= s.contract.Seats {
		return &Refusal{SeatsTaken, fmt.Sprintf("all %d seats of the session are taken", s.contract.Seats)}
	}
	if until := s.expelledUntil[player]; s.tick < until {
		seconds := math.Ceil(float64(until-s.tick) / float64(s.contract.TickRate))
		return &Refusal{Expelled, fmt.Sprintf("%q was expelled and may come back in %g s", name, seconds)}
	}
	return nil
}

// Leave takes a client's seat with the next tick.
func (s *Session) Leave(client int) {
	if t := s.seats[client]; t != nil && !t.leaving {
		s.record(Call{Type: CallLeave, Client: client})
		s.leaveNext(t)
	}
}

// leaveNext has a client leave with the next tick, also from within a tick.
func (s *Session) leaveNext(t *seat) {
	if !t.leaving {
		t.leaving = true
		s.inputs = append(s.inputs, input{seat: t, typ: inputLeave})
	}
}

// Lost says that a client's connection is gone. Its seat waits for as long as the contract says; then the client is
// cut.
func (s *Session) Lost(client int) {
	if t := s.seats[client]; t != nil && !t.leaving && !t.lost {
		t.lost = true
		s.inputs = append(s.inputs, input{seat: t, typ: inputLost})
		s.record(Call{Type: CallLost, Client: client})
	}
}

// Back says that a client has a connection again, and has applied all frames up to the tick confirmed. It is sent a
// snapshot, with the events and decisions of the frames that were lost, and has to say again that it is ready.
func (s *Session) Back(client int, confirmed int64) {
	t := s.seats[client]
	if t == nil || t.leaving {
		return
	}
	s.record(Call{Type: CallBack, Client: client, Tick: confirmed})
	t.undoneAfter, t.isUndone = s.undoneAfter(confirmed)
	s.confirm(t, confirmed)
	t.requeueAfter(0)
	t.behind = false
	if !t.lost { // nobody had noticed
		s.inputs = append(s.inputs, input{seat: t, typ: inputLost})
	}
	t.lost = false
	t.saidReady = false
	s.inputs = append(s.inputs, input{seat: t, typ: inputBack})
}

// Ready says that a client has its handlers in place: the events that waited for it follow.
func (s *Session) Ready(client int) {
	if t := s.seats[client]; t != nil && !t.saidReady {
		t.saidReady = true
		s.inputs = append(s.inputs, input{seat: t, typ: inputReady})
		s.record(Call{Type: CallReady, Client: client})
	}
}

// Confirm notes the newest tick that a client says to have applied. It counts at once. One beyond what the session has
// reached is ignored.
func (s *Session) Confirm(client int, tick int64) {
	if t := s.seats[client]; t != nil && s.confirm(t, tick) {
		s.record(Call{Type: CallConfirm, Client: client, Tick: tick})
	}
}

// confirm notes that a client has everything up to a tick, and reports whether that is new. A tick that is confirmed
// already, or has not come, changes nothing.
func (s *Session) confirm(t *seat, tick int64) (isNew bool) {
	tick = s.survived(tick)
	if tick <= t.confirmed || tick > s.tick {
		return false
	}
	t.confirmed = tick
	t.dropConfirmed()
	return true
}

// Clients returns who has a seat, by number.
func (s *Session) Clients() []wire.Client {
	out := make([]wire.Client, 0, len(s.order))
	for _, t := range s.order {
		out = append(out, t.public)
	}
	return out
}

// updatePublic brings up to date what clients know of a client, and returns it.
func (s *Session) updatePublic(t *seat) wire.Client {
	t.public = wire.Client{
		Number: t.client.Number,
		Name:   t.client.Name,
		Role:   s.contract.Roles[t.client.Role],
	}
	return t.public
}

// noteComplete notes, for a metered client, what it has not been told with the frame of this tick.
func (s *Session) noteComplete(t *seat) {
	oldest := s.tick - int64(maxLate*s.contract.TickRate) // what is older counts as known
	n := 0
	for n+1 < len(t.complete) && t.complete[n+1].tick <= max(t.confirmed, oldest) {
		n++
	}
	all, own := s.view.CompleteUpTo(t.client.Number)
	t.complete = append(slices.Delete(t.complete, 0, n), completeness{s.tick, all, own})
}

// known returns how far a client knows all that it may, and all of what it owns, when it has applied the frames up to a
// tick. A metered client may not have been sent what changed before that.
func (t *seat) known(applied int64) completeness {
	known := completeness{applied, applied, applied}
	for i, c := range t.complete {
		if c.tick > applied && i > 0 {
			break
		}
		known.all = min(applied, c.all)
		known.own = min(applied, c.own)
	}
	return known
}

// Seen returns the newest tick that a client has confirmed.
func (s *Session) Seen(client int) int64 {
	if t := s.seats[client]; t != nil {
		return t.confirmed
	}
	return 0
}

// ReportDifference says that a client's copy is not what a frame's digest says. The client is sent a snapshot, at most
// once in resyncPause seconds; resynced reports whether it is now.
func (s *Session) ReportDifference(client int) (resynced bool) {
	t := s.seats[client]
	if t == nil || !t.joined {
		return false
	}
	s.record(Call{Type: CallReportDifference, Client: client})
	t.differences++
	if t.lastResync > 0 && s.tick-t.lastResync < int64(resyncPause*s.contract.TickRate) {
		return false
	}
	t.lastResync = s.tick
	s.view.Resync(client)
	return true
}

// hasSeen reports whether a client has confirmed that it knows of an entity or, with a property, its value as it is
// now.
func (s *Session) hasSeen(client int, e *world.Entity, p *contract.Property) bool {
	t := s.seats[client]
	return t != nil && t.joined && s.view.HasSeen(client, e, p, t.confirmed)
}

// Waiting returns what waits for a client whose role has a limit of bytes, and false for another one.
func (s *Session) Waiting(client int) (replicate.Waiting, bool) { return s.view.Waiting(client) }

// IsLost reports whether a client has lost its connection: it is sent nothing until it is back.
func (s *Session) IsLost(client int) bool {
	t := s.seats[client]
	return t != nil && t.lost
}

// Differences returns how often a client's copy was not what it should be.
func (s *Session) Differences(client int) int {
	if t := s.seats[client]; t != nil {
		return t.differences
	}
	return 0
}

// cutLost cuts the clients whose seats have waited for a connection long enough.
func (s *Session) cutLost(step *Step) {
	if s.absent == 0 {
		return
	}
	seconds := float64(s.contract.Grace) / float64(s.contract.TickRate)
	for _, t := range slices.Clone(s.order) {
		if t.lostTick > 0 && s.tick-t.lostTick >= s.contract.Grace {
			step.Cuts = append(step.Cuts, Cut{
				Client: t.client.Number,
				Reason: fmt.Sprintf("its connection was lost and did not come back within %g s", seconds),
			})
			s.leave(t)
		}
	}
}

// expel takes a client's seat with the end of this tick.
func (s *Session) expel(client int, reason string) {
	t := s.seats[client]
	if t == nil || t.cutReason != "" {
		return
	}
	t.cutReason = reason
	t.hasMessages = true
	if len(s.expelledUntil) >= maxExpelled {
		clear(s.expelledUntil)
	}
	if s.expelledUntil == nil {
		s.expelledUntil = map[string]int64{}
	}
	s.expelledUntil[t.player()] = s.tick + int64(expelledFor*s.contract.TickRate)
}

// updateRoles gives clients with another role the entities of it, in place of those of their old one.
func (s *Session) updateRoles() {
	if !s.roleChanged {
		return
	}
	s.roleChanged = false
	for _, t := range s.order {
		c := s.world.Client(t.client.Number)
		if c == nil || c.Role == t.client.Role {
			continue
		}
		t.client.Role = c.Role
		s.endRole(c.Number, c.Role)
		public := s.updatePublic(t)
		s.eachListener(func(l listener) { l.AddClient(public) })
		s.setCause(causeRole, int64(c.Number), 0)
		s.endClientHandler(c.Number, "on spawn", s.machine.Enter(*c))
	}
}

// endRole takes what a client has one each of for other roles than its present one, as if it left: `on owner leave` of
// these entities runs, then their `on despawn`. What one of them fails of is told, and the entity goes all the same.
func (s *Session) endRole(client, role int) {
	ends := func(do func(e *world.Entity)) {
		for _, k := range s.contract.Kinds {
			if e := s.world.OfClient(k.Index, client); e != nil && k.Per != role {
				do(e)
			}
		}
	}
	ends(func(e *world.Entity) { s.handle(e, rules.OnOwnerLeave, "on owner leave") })
	ends(func(e *world.Entity) { s.handle(e, rules.OnDespawn, "on despawn") })
	if t := s.seats[client]; t != nil {
		s.noteKeptOf(t)
	}
	ends(s.world.Despawn)
	s.endTransaction(nil)
}
