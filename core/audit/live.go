package audit

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"

	"kamerad.example/core/contract"
	"kamerad.example/core/play"
	"kamerad.example/core/replicate"
	"kamerad.example/core/session"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
)

// Seat is a client's seat in a session that runs elsewhere.
type Seat interface {
	play.Player
	Ready()
	Send(message []byte) error // as it stands, whatever it is
	Ended() <-chan struct{}    // closed once nothing more comes
	Reason() string            // why that is
	Close()
}

// Place is where a session runs that is attacked over its real face.
type Place interface {
	// Join takes a seat that has not said that it is ready. heard is called with each frame that comes, differs when
	// the seat's copy is not what the server says that it is; both from another goroutine.
	Join(ctx context.Context, name, role string, heard func(*wire.Frame), differs func()) (Seat, error)
	// Decisions returns what those who run the session were told of decisions since it was called last.
	Decisions() []session.Decision
	// Truth calls f with what the server holds.
	Truth(f func(*replicate.Copy))
	// Pass waits for about the length of a tick.
	Pass(ctx context.Context) error
}

// LiveOptions of an audit of a session that runs.
type LiveOptions struct {
	Seed     uint64
	Name     string      // what the names of the audit's clients begin with; none of them may be in the session
	More     func() bool // whether to go on with another round
	Findings syntax.Problems
}

// Messages of one attacker in a round, and how many ticks it waits for the decisions.
const (
	liveMessages = 12
	livePasses   = 40
)

// Live attacks a session that runs elsewhere, with clients of its own: attackers of each role, and witnesses that do
// nothing. A live session lives on by itself, so there is no second one to hold it against, and no reading: an effect
// is an attack that was accepted where it never may be, that failed inside, that was refused and changed or told
// something all the same, that was answered as what does not exist never is, or that disturbed a witness.
//
// Its clients have left when it returns. An error says that it could not go on; nothing is said of the
// session then.
func Live(ctx context.Context, c *contract.Contract, place Place, o LiveOptions) (*Report, error) {
	a := &liveAuditor{
		contract: c,
		place:    place,
		name:     o.Name,
		r:        rand.New(rand.NewPCG(o.Seed, 1)),
		distinct: map[string]struct{}{},
		kinds:    map[uint32]string{},
		shown:    map[liveKey][]session.Decision{},
	}
	for _, t := range targets(c, c.Outline()) {
		if t.sort != OfValue {
			a.targets = append(a.targets, t)
		}
	}
	report := newReport(c, o.Seed)
	report.Live = true
	if len(a.targets) == 0 {
		return nil, fmt.Errorf("audit the session: the contract %s has nothing that a client could send", c.Name)
	}
	defer a.leave()
	for i, role := range c.Roles {
		if role == contract.LogicRole && c.Logic != nil {
			continue // the session has its own, or waits for it: nobody takes its place
		}
		if err := a.join(ctx, role, false, false); err != nil {
			return nil, fmt.Errorf("audit the session: seat a witness: %w", err)
		}
		if err := a.join(ctx, role, true, false); err != nil {
			return nil, fmt.Errorf("audit the session: seat an attacker: %w", err)
		}
		if i == 0 {
			if err := a.join(ctx, role, true, true); err != nil {
				return nil, fmt.Errorf("audit the session: seat an attacker: %w", err)
			}
		}
	}
	a.look()
	began := a.newest
	for o.More() {
		if err := a.round(ctx); err != nil {
			return nil, err
		}
	}
	report.Ticks = a.newest - began
	a.witnesses()
	for _, p := range o.Findings {
		report.Findings = append(report.Findings, fmt.Sprintf("line %d: %s [%s]", p.Line, p.Message, p.Code))
	}
	report.Tried = a.tried
	report.Distinct = len(a.distinct)
	report.fill(c, a.targets, &a.effects)
	return report, nil
}

// liveKey names a message of the audit's clients: a client's number and its sequence number.
type liveKey struct {
	client int
	seq    uint64
}

// liveSeat is a client of an audit over the network.
type liveSeat struct {
	Seat
	witness bool // it plays by the rules, and sees what attacks change
	unready bool // it never says that it is ready, and may be sent no event
	forger  *forger
	actor   *play.Actor
	seq     uint64 // of the newest request or write
	presses uint64 // the number of the newest press
	breaks  bool   // it has sent what cannot be read

	mu       sync.Mutex                 // guards the rest, which the connection's goroutine writes
	decided  map[uint64][]wire.Decision // by number, of the present round
	events   int                        // that came
	differed int                        // frames after which the copy's digest was another than the server's
	frames   int                        // that came
}

// liveAuditor attacks one running session.
type liveAuditor struct {
	contract *contract.Contract
	place    Place
	targets  []*target
	seats    []*liveSeat
	r        *rand.Rand
	distinct map[string]struct{}            // of second, target, attack and class of values
	kinds    map[uint32]string              // of all entities that ever were
	gone     []uint32                       // numbers of the newest entities that are gone
	there    map[uint32]bool                // entities that are there, by what those who run the session see
	shown    map[liveKey][]session.Decision // to those who run the session
	tried    int                            // attacks
	names    int                            // seats that were taken: each gets a name of its own
	turn     int                            // the target whose turn it is
	newest   int64                          // the newest tick that anybody has told of
	name     string                         // what its clients are called, before their number
	effects  effectSet
}

// join takes a seat; a name is never used twice, since one that was expelled is kept out.
func (a *liveAuditor) join(ctx context.Context, role string, attacks, unready bool) error {
	a.names++
	s := &liveSeat{witness: !attacks, unready: unready, decided: map[uint64][]wire.Decision{}}
	seat, err := a.place.Join(ctx, fmt.Sprintf("%s %d", a.name, a.names), role, func(f *wire.Frame) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.frames++
		s.events += len(f.Events)
		for _, d := range f.Decisions {
			s.decided[d.Seq] = append(s.decided[d.Seq], d)
		}
	}, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.differed++
	})
	if err != nil {
		return err
	}
	s.Seat = seat
	r := rand.New(rand.NewPCG(a.r.Uint64(), uint64(a.names)))
	s.actor = play.NewActor(seat, r)
	if attacks {
		s.forger = &forger{
			contract: a.contract,
			outline:  seat.Outline(),
			actor:    s.actor,
			me:       seat.Me(),
			kinds:    a.kinds,
			r:        r,
		}
	}
	if !unready {
		seat.Ready()
	}
	a.seats = append(a.seats, s)
	return nil
}

// leave closes the connections of all clients.
func (a *liveAuditor) leave() {
	for _, s := range a.seats {
		s.Close()
	}
}

// over reports whether the connection has ended for good.
func (s *liveSeat) over() bool {
	select {
	case <-s.Ended():
		return true
	default:
		return false
	}
}

// look keeps up what is there and what is gone, and what decisions came to.
//
// It is called between ticks, from the audit's goroutine only.
func (a *liveAuditor) look() {
	for _, d := range a.place.Decisions() {
		k := liveKey{d.Client.Number, d.Ask.Seq}
		a.shown[k] = append(a.shown[k], d)
		a.newest = max(a.newest, d.Tick)
	}
	a.place.Truth(func(c *replicate.Copy) {
		a.newest = max(a.newest, c.Tick)
		there := map[uint32]bool{}
		for _, x := range c.Entities() {
			a.kinds[x.Number] = x.Kind
			there[x.Number] = true
		}
		for n := range a.there {
			if !there[n] {
				a.gone = append(a.gone, n)
			}
		}
		slices.Sort(a.gone[max(0, len(a.gone)-40):])
		a.gone = a.gone[max(0, len(a.gone)-40):]
		a.there = there
	})
}

// round lets each attacker try something, and judges what became of it.
//
// It waits for the decisions on all that was sent, at most livePasses ticks: what is not answered by
// then is judged as not answered. A message that was sent twice is judged once.
func (a *liveAuditor) round(ctx context.Context) error {
	a.look()
	if err := a.fill(ctx); err != nil {
		return err
	}
	var all []sentAttack
	newest := map[string]uint64{} // of several writes of one property in a tick only the newest counts
	for _, s := range a.seats {
		if s.witness || s.over() {
			continue
		}
		for _, g := range a.pick(s) {
			if s.Send(g.m.Pack(s.Outline())) != nil {
				if !g.attack.repeats() && !g.attack.lost {
					g.attack.unproven("its sender was out before it was sent")
				}
				continue
			}
			x := sentAttack{s, g}
			all = append(all, x)
			if x.m.Type == wire.MessageWrite {
				newest[x.property()] = x.m.Seq
			}
		}
	}
	waits := func(x sentAttack) bool {
		if x.s.over() || x.attack.old || x.attack.lost {
			return false
		}
		if d := a.decision(x.s, x.m.Seq); d != nil {
			return x.untold(d, a.shown[x.key()])
		}
		return x.m.Type == wire.MessageAsk ||
			x.m.Type == wire.MessageWrite && x.attack.must && newest[x.property()] == x.m.Seq
	}
	for range livePasses {
		if err := a.place.Pass(ctx); err != nil {
			return err
		}
		a.look()
		if !slices.ContainsFunc(all, waits) {
			break
		}
	}
	fast := map[string]int{}
	done := map[liveKey]bool{}
	for _, x := range all {
		k := x.key()
		if x.m.Type == wire.MessageAsk && done[k] {
			continue
		}
		if x.m.Type == wire.MessageWrite && newest[x.property()] != x.m.Seq {
			x.attack.of.cells[x.attack.what].Outcomes["overtaken by a newer write"]++
			continue
		}
		done[k] = true
		a.judge(x.s, x.given, fast)
	}
	a.endRound()
	return nil
}

// sentAttack is a message of an attack that a seat has sent.
type sentAttack struct {
	s *liveSeat
	given
}

// key is what those who run the session know the message by.
func (x sentAttack) key() liveKey { return liveKey{x.s.Me().Number, x.m.Seq} }

// property names the property that a write is about, among all clients.
func (x sentAttack) property() string { return fmt.Sprint(x.s.Me().Number, x.m.Property, x.m.Entity) }

// endRound forgets what the round brought, and judges what clients heard that have not said that they are ready.
func (a *liveAuditor) endRound() {
	clear(a.shown)
	for _, s := range a.seats {
		s.mu.Lock()
		clear(s.decided)
		if s.unready && s.events > 0 {
			a.effects.add(
				a.targets[0], Unready, "unready",
				fmt.Sprintf("a client that has not said that it is ready heard %d events", s.events),
			)
		}
		s.mu.Unlock()
	}
}

// fill seats attackers in place of those that are out.
//
// The session keeps a seat for a while when its client is gone, so a new one may have to wait for it.
func (a *liveAuditor) fill(ctx context.Context) error {
	var out []*liveSeat
	a.seats = slices.DeleteFunc(a.seats, func(s *liveSeat) bool {
		if gone := !s.witness && s.over(); gone {
			out = append(out, s)
			return true
		}
		return false
	})
	for _, s := range out {
		s.Close()
		for try := 0; ; try++ { // its seat may wait for it a little
			err := a.join(ctx, s.Me().Role, true, s.unready)
			if err == nil {
				break
			}
			if ctx.Err() != nil || try == livePasses {
				return fmt.Errorf("audit the session: seat another attacker: %w", err)
			}
			if err := a.place.Pass(ctx); err != nil {
				return err
			}
		}
	}
	if !slices.ContainsFunc(a.seats, func(s *liveSeat) bool { return !s.witness }) {
		return errors.New("audit the session: no attacker has a seat")
	}
	return nil
}

// pick returns what an attacker sends in a round; at most one thing that puts it out, as the last.
//
// Everything is picked under the lock of the seat's copy, which a frame could change in between, and
// sent afterwards.
func (a *liveAuditor) pick(s *liveSeat) (out []given) {
	f := s.forger
	f.me = s.Me()
	f.gone = a.gone
	add := func(x attack, m wire.FromClient) {
		out = append(out, given{m: m, attack: &x})
	}
	s.Look(func(c *replicate.Copy) {
		f.copy = c
		f.hidden = func(kind string) uint32 {
			for n, k := range a.kinds {
				if k == kind && a.there[n] && c.Entity(n) == nil {
					return n
				}
			}
			return 0
		}
		for tries := 0; len(out) < liveMessages && tries < 4*liveMessages; tries++ {
			t := a.targets[a.turn%len(a.targets)]
			a.turn++
			what := Attacks[a.r.IntN(len(Attacks))]
			switch {
			case s.unready:
				x := attack{
					of:    t,
					what:  Unready,
					class: "legal",
					m:     t.message(0, f.legal(t)),
				}
				a.count(&x)
				add(x, s.number(x.m, c.Tick))
				continue
			case what == Unready || what == Reads:
				continue
			case what == Left || what == Broken:
				if a.r.IntN(12) > 0 {
					continue
				}
				x := a.last(f, t, what)
				if what == Left {
					add(x, wire.FromClient{Type: wire.MessageLeave})
				}
				add(x, s.number(x.m, c.Tick))
				return
			}
			for _, x := range f.make(t, what) {
				if len(out)+max(1, x.repeat)+2 > 2*liveMessages {
					continue
				}
				a.count(&x)
				for _, m := range a.messages(s, x, c.Tick) {
					add(x, m)
				}
			}
		}
	})
	if n := len(out); n > 0 && out[n-1].attack.what == Broken {
		a.sendBroken(s, out[n-1])
		out = out[:n-1]
	}
	return out
}

// last returns an attack that costs the attacker its seat. Because of that it takes the target on which such an attack
// was tried least, t among equals.
func (a *liveAuditor) last(f *forger, t *target, what string) attack {
	for _, other := range a.targets {
		if other.cells[what].Tried < t.cells[what].Tried {
			t = other
		}
	}
	x := attack{
		of:    t,
		what:  what,
		class: "legal",
		must:  true,
		lost:  true,
		m:     t.message(0, f.legal(t)),
	}
	a.count(&x)
	return x
}

// messages returns what an attack sends: as often as it wants, with old numbers, and each again where it says so.
func (a *liveAuditor) messages(s *liveSeat, x attack, seen int64) (out []wire.FromClient) {
	for range max(1, x.repeat) {
		m := s.number(x.m, seen)
		if x.old {
			if s.seq < 100 {
				continue
			}
			s.seq--
			m.Seq = 1 + uint64(a.r.IntN(20))
		}
		out = append(out, m)
		if x.again {
			out = append(out, m, m)
		}
	}
	return out
}

// sendBroken sends something that cannot be read in place of a message.
//
// It breaks the message until the wire's own reader refuses it, and cuts it in half when flipping bits
// does not do.
func (a *liveAuditor) sendBroken(s *liveSeat, g given) {
	bits := g.m.Pack(s.Outline())
	for tries := 0; ; tries++ {
		bits[a.r.IntN(len(bits))] ^= 1 << a.r.IntN(8)
		if tries > 20 {
			bits = bits[:len(bits)/2]
		}
		if _, err := wire.UnpackFromClient(bits, s.Outline()); err != nil || len(bits) == 1 {
			break
		}
	}
	if s.Send(bits) == nil {
		s.breaks = true
		g.attack.of.cells[Broken].Outcomes["cannot be read: who sent it is cut"]++
	}
}

// number returns the message with the next number of its sort; seen is the tick that it confirms.
func (s *liveSeat) number(m wire.FromClient, seen int64) wire.FromClient {
	m.Seen = seen
	if m.Type == wire.MessagePress || m.Type == wire.MessageRelease {
		s.presses++
		m.Press = s.presses
		return m
	}
	s.seq++
	m.Seq = s.seq
	return m
}

// count counts an attack that was made.
func (a *liveAuditor) count(x *attack) {
	x.of.cells[x.what].Tried++
	a.tried++
	a.distinct[fmt.Sprint(a.newest/20, x.of.sort, x.of.name(), x.what, x.class)] = struct{}{}
}

// decision returns the first decision on a request, or nil.
func (a *liveAuditor) decision(s *liveSeat, seq uint64) *wire.Decision {
	s.mu.Lock()
	defer s.mu.Unlock()
	if list := s.decided[seq]; len(list) > 0 {
		return &list[0]
	}
	return nil
}

// judge notes what became of an attack, and whether it should have.
//
// It goes by two sources: what the client was answered, and what those who run the session were told.
// The second may be missing, and then only the first counts.
func (a *liveAuditor) judge(s *liveSeat, g given, fast map[string]int) {
	if g.m.Type == wire.MessageLeave {
		return
	}
	x := g.attack
	me := s.Me()
	shown := a.shown[liveKey{me.Number, g.m.Seq}]
	d := a.decision(s, g.m.Seq)
	if g.m.Type == wire.MessageAsk && len(shown) > 1 && shown[1].Outcome == wire.Accepted {
		a.note(x, "twice", "%s was decided %d times", word(g.m), len(shown))
	}
	if d == nil {
		a.judgeUndecided(s, g, shown)
		return
	}
	said := string(d.Outcome)
	if d.Stage != "" {
		said += " at " + string(d.Stage)
	}
	if d.Outcome == wire.Denied || d.Outcome == wire.Dropped {
		said += ": " + d.Reason
	}
	x.of.cells[x.what].Outcomes[said[:min(len(said), 80)]]++
	if g.untold(d, shown) {
		x.unproven("one was accepted, and what it changed was not told in time")
		x.of.cells[x.what].untold = true
		return
	}
	if x.usedUp(d.Outcome, d.Stage) { // whether it changed something all the same is judged below
		x.unproven(spent)
	}
	var known session.Decision
	if len(shown) > 0 {
		known = shown[0]
		if x.of.request != nil {
			x.of.checked(&known)
		}
	}
	switch {
	case x.old:
	case d.Outcome == wire.Faulted && known.Line > 0:
		f, _ := known.Fault()
		a.effects.add(x.of, x.what, causeOf(&f), f.Words(fmt.Sprintf("%s as %s", word(g.m), me.Role)))
	case d.Outcome == wire.Faulted:
		a.note(x, "fault", "%s as %s fails inside", word(g.m), me.Role)
	case d.Outcome != wire.Accepted:
		if len(known.Changes)+len(known.Events) > 0 {
			a.note(x, "refused", "%s as %s was refused and changed or told something all the same", word(g.m), me.Role)
		}
		if x.what == Invisible && d.Outcome == wire.Denied && d.Stage != wire.StageTarget && !a.sees(s, g.m.Entity) {
			a.note(x, "answered", "%s as %s was answered as what does not exist never is: %s", word(g.m), me.Role, said)
		}
	default:
		a.judgeAccepted(s, g, &known)
	}
	if x.what == TooFast && x.of.request != nil && (d.Outcome == wire.Accepted || d.Stage == wire.StageCheck) {
		a.judgeLimit(x, fmt.Sprint(me.Number, " ", x.of.name(), " ", known.Entity), fast)
	}
}

// judgeLimit counts a request that passed the limit; fast has by sender, target and entity how many did in this round.
//
// What an attacker sends in a round goes out at once, so what passes of it has to fit the limit.
func (a *liveAuditor) judgeLimit(x *attack, key string, fast map[string]int) {
	fast[key]++
	if l := x.of.request.Limit; l != nil && fast[key] > l.Count {
		a.note(x, "limit", "%d of %s pass at once, %d are allowed", fast[key], x.of.name(), l.Count)
	}
}

// untold reports whether a request was accepted whose changes those who run the session have not been told: they come
// over another connection than the client's answer, and either may be late.
func (g given) untold(d *wire.Decision, shown []session.Decision) bool {
	return g.m.Type == wire.MessageAsk && d.Outcome == wire.Accepted && len(shown) == 0 && !g.attack.must &&
		!g.attack.repeats()
}

// note adds an effect of an attack; attacks with the same cause are told once.
func (a *liveAuditor) note(x *attack, cause, format string, args ...any) {
	a.effects.add(x.of, x.what, x.of.name()+" "+x.what+" "+cause, fmt.Sprintf(format, args...))
}

// judgeUndecided judges what the client was told no decision of; shown is what the session decided.
//
// A write that is not refused gets no answer, so silence means that it was taken, unless its sender is
// out.
func (a *liveAuditor) judgeUndecided(s *liveSeat, g given, shown []session.Decision) {
	x := g.attack
	outcomes := x.of.cells[x.what].Outcomes
	switch {
	case x.lost:
		outcomes["nobody is there"]++
		if len(shown) > 0 && shown[0].Outcome == wire.Accepted {
			a.note(x, "left", "%s was accepted of a client that had left", word(g.m))
		}
	case g.m.Type == wire.MessageAsk && !x.repeats():
		outcomes["not answered"]++
		x.unproven("its sender was out before it was answered")
	case g.m.Type == wire.MessageAsk:
		outcomes["answered as before, or not at all"]++
	default:
		outcomes["not refused"]++
		if x.must && x.of.sort == OfWrite && !s.over() && x.what != Despawned && x.what != Invisible {
			a.note(x, "taken", "the write %s as %s was not refused", word(g.m), s.Me().Role)
		}
	}
}

// judgeAccepted judges an attack that was accepted. What it was made to be it may not have been any more when it came:
// by then its sender may see the entity, own it, or have another role.
func (a *liveAuditor) judgeAccepted(s *liveSeat, g given, known *session.Decision) {
	x := g.attack
	x.of.cells[x.what].untold = false
	me := s.Me()
	switch {
	case x.what == Invisible && a.sees(s, g.m.Entity):
	case x.what == NotOwner && known.Owner == me.Number:
	case x.what == Role && known.Client.Role != me.Role:
	case x.must:
		a.note(x, "accepted", "%s as %s was accepted", word(g.m), me.Role)
	case x.of.request != nil && len(x.of.request.Checks) == 0 && !x.of.onlyOwner():
		for _, c := range known.Changes {
			if c.Owner != 0 && c.Owner != me.Number {
				a.note(
					x, "foreign", "%s changes the %s of a %s that belongs to somebody else, and nothing is checked",
					word(g.m), c.Property, c.Kind,
				)
				break
			}
		}
	}
}

// sees reports whether a client holds an entity.
func (a *liveAuditor) sees(s *liveSeat, n uint32) (yes bool) {
	s.Look(func(c *replicate.Copy) { yes = c.Entity(n) != nil })
	return yes
}

// witnesses finds out whether those who did nothing were disturbed.
//
// A witness that ended because the session closed was not disturbed by an attack.
func (a *liveAuditor) witnesses() {
	note := func(cause, format string, args ...any) {
		a.effects.add(a.targets[0], Broken, "witness "+cause, fmt.Sprintf(format, args...))
	}
	for _, s := range a.seats {
		if !s.witness {
			continue
		}
		s.mu.Lock()
		if s.over() && !strings.Contains(s.Reason(), "session") {
			note("out", "%s, who did nothing, is out: %s", s.Me().Name, s.Reason())
		}
		if s.differed > 0 {
			note(
				"differs", "the copy of %s, who did nothing, was %d times not what it should be", s.Me().Name,
				s.differed,
			)
		}
		if s.frames == 0 {
			note("silence", "%s, who did nothing, got no frame", s.Me().Name)
		}
		s.mu.Unlock()
	}
}
