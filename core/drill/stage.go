package drill

import (
	"cmp"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"io"
	"math/rand/v2"
	"slices"
	"time"

	"kamerad.example/core/contract"
	"kamerad.example/core/link"
	"kamerad.example/core/replicate"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// stage is a session in virtual time, with clients behind simulated links. Nothing in it waits or reads a clock: it
// goes from one thing that is to happen to the next.
type stage struct {
	session      *session.Session
	outline      *contract.Outline
	second       int             // ticks of one
	tick         time.Duration   // how long one lasts
	now          time.Duration   // virtual time since the session began
	players      []*player       // in the order of their joining; those that are out stay
	sent         uint64          // messages of all clients, in their order
	trace        io.Writer       // nil for none
	faults       []*fault        // of the contract, in the order in which they happened
	closed       string          // why the session has closed; empty while it runs
	underWay     map[int]string  // the exits by which clients are sent, by number
	arrivalsFail bool            // they stay
	settled      bool            // nothing was done, and no time has passed, since all was settled
	history      *history        // nil while nothing is kept
	inbox        []arrival       // messages that have arrived and wait for the next tick
	sheet        *replicate.Copy // the server's own, while nothing has changed since
	// test changes frames on their way, in tests; it is nil else.
	test     func(client int, f *wire.Frame) *wire.Frame
	drill    *Drill
	observer session.Observer // nil for none
	// what players keep, by the clients' names in the drill and the properties' full names
	kept map[string]map[string]json.RawMessage
}

// player is a client at the other end of a link, with what a server keeps for it in between.
type player struct {
	name     string
	known    string // its name in the session; empty for the same
	number   int
	up, down *link.Link // to the server, and from it
	reader   *wire.Reader
	copy     replicate.Copy
	host     bool // it plays at the server itself: without a link, and the session ends with it

	// What it was told of, oldest first.
	heard   []heard
	noticed []noticed // of properties that the drill asks for
	logs    []string
	got     []weight

	// What it sends.
	open    []*sent // without a decision
	seq     uint64  // of its newest request or write
	presses uint64  // the number of its newest press
	holds   []*hold // that it renews

	// Its connection.
	cut      bool   // it is
	ready    bool   // it has said so
	out      string // why it is out; empty while it is in
	expelled bool
	sentTo   string // the exit by which it has left; empty for none
	left     bool

	// What the server has for it.
	frames   []frame // that wait behind a client that takes nothing
	stalls   []stall
	written  int64  // the newest tick that left for it
	behind   bool   // the session was told that it is, and packs nothing for it
	newest   int64  // the tick of the newest frame that was cut for it
	arrived  int64  // the tick in which its newest frame arrived
	differed string // the first time that its copy was not what it should be
}

// fault is something that failed inside, in a handler, timer, action, write or request of the contract.
type fault struct {
	session.Fault
	tick     int64
	about    string // what it was about: the entity by name and values, or the request
	expected bool   // a line of the drill has asked for it
}

type frame struct {
	tick  int64
	bytes []byte
}

// stall is a time in which a client takes nothing.
type stall struct{ from, until time.Duration }

// heard is an event that a client heard.
type heard struct {
	tick  int64
	event *wire.Event
}

// noticed is a change of a value that a client was told of.
type noticed struct {
	tick   int64 // of the frame
	entity uint32
	name   string // of the property
	typ    *contract.Type
	old    *contract.Value // nil when the client did not know it before
	now    contract.Value
}

// weight is how many bits of a kind came with a frame.
type weight struct {
	at    time.Duration
	kinds map[string]int
}

// sent is a request or write that a client has sent.
type sent struct {
	message   wire.FromClient
	line      *act // that waits for the decision; nil for none
	tick      int64
	decision  *wire.Decision
	carried   int64 // for what is not answered when all is well: the tick in which the server met it; 0 before that
	need      int64 // then: the tick of the frame that would say otherwise
	overtaken bool  // it is a write, and a newer one of the same tick counts
}

// overtaken is the outcome of a write that nobody looked at, since a newer one came in the same tick. Its client is
// told nothing.
const overtaken wire.Outcome = "overtaken"

// answeredBy reports whether a decision is about what was sent.
func (o *sent) answeredBy(d *wire.Decision) bool {
	switch o.message.Type {
	case wire.MessagePress:
		return d.Press != 0 && d.Press == o.message.Press
	case wire.MessageRelease:
		return d.Release != 0 && d.Release == o.message.Press
	}
	return d.Seq != 0 && d.Seq == o.message.Seq
}

type hold struct {
	message wire.FromClient
	every   time.Duration
	next    time.Duration
}

type arrival struct {
	order uint64
	from  *player
	bytes []byte
}

// newStage returns the stage of a session that nobody has joined.
//
// The contract is the session's own.
func newStage(d *Drill, s *session.Session) *stage {
	rate := s.Contract().TickRate
	return &stage{
		underWay: map[int]string{},
		drill:    d,
		session:  s,
		kept:     map[string]map[string]json.RawMessage{},
		outline:  s.Contract().Outline(),
		second:   rate,
		tick:     time.Second / time.Duration(rate),
	}
}

// player finds a client that is in.
//
// Of several that had the name, one after the other, it is the last.
func (w *stage) player(name string) *player {
	for _, p := range slices.Backward(w.players) {
		if p.name == name {
			return p
		}
	}
	return nil
}

// failures notes what failed inside in a tick.
//
// A fault that a request ran into is expected when the line that sent it says `-> faulted`.
func (w *stage) failures(step *session.Step) {
	add := func(f session.Fault, about string) {
		x := &fault{Fault: f, tick: step.Tick, about: about}
		if o := w.asked(f.Client, f.Seq); o != nil {
			x.expected = o.line != nil && o.line.faults
		}
		w.faults = append(w.faults, x)
	}
	for _, f := range step.Faults {
		add(f, w.session.About(&f))
	}
	for i := range step.Decisions {
		d := &step.Decisions[i]
		if d.Outcome != wire.Faulted {
			continue
		}
		add(d.Fault())
	}
}

// asked returns the request or write of a client that has a number and is not answered, or nil.
func (w *stage) asked(client int, seq uint64) *sent {
	p := w.numbered(client)
	if p == nil || seq == 0 {
		return nil
	}
	for _, o := range p.open {
		if o.message.Seq == seq {
			return o
		}
	}
	return nil
}

// join seats a client.
//
// The two directions of a link have dice of their own.
func (w *stage) join(name, as string, c link.Conditions, shaken *Shaking, host bool) (*player, error) {
	if w.closed != "" {
		return nil, fmt.Errorf("%s cannot join: the session has closed: %s", name, w.closed)
	}
	w.settled = false
	n, err := w.session.Join(name, as)
	if err != nil {
		return nil, err
	}
	if values := w.kept[name]; len(values) > 0 {
		w.session.LoadKept(n, session.Kept{Values: values})
	}
	p := &player{
		name:   name,
		host:   host,
		number: n,
	}
	if err := w.add(p, c, shaken); err != nil {
		return nil, err
	}
	if w.observer != nil {
		w.observer.Joined(n)
	}
	return p, nil
}

// add adds a player of a client that has a seat in the session, over a link of its own.
func (w *stage) add(p *player, c link.Conditions, shaken *Shaking) (err error) {
	p.reader = w.session.Reader(p.number)
	p.stalls = shaken.stalls(p.name)
	p.copy.Me = p.number
	p.copy.OmitChanges = len(w.drill.notices) == 0
	seed := shaken.seed(p.name)
	p.up, err = link.New(seed, c)
	if err == nil {
		p.down, err = link.New(seed+1, c)
	}
	w.players = append(w.players, p)
	return err
}

// send puts a message of a client on its way. All messages are numbered, so that those that arrive together are met in
// the order in which they were sent.
func (w *stage) send(p *player, m *wire.FromClient) {
	w.sent++
	p.up.Send(w.now, append(binary.BigEndian.AppendUint64(nil, w.sent), m.Pack(w.outline)...))
}

// step lets a tick pass.
//
// The order is always the same: holds are renewed, messages arrive, the session ticks, frames leave and
// arrive. In a closed session time goes on for what is under way, and no tick is run.
func (w *stage) step() error {
	w.now += w.tick
	w.sheet = nil
	w.settled = false
	if w.closed != "" {
		return w.deliver(w.session.Now())
	}
	for _, p := range w.players {
		for _, h := range p.holds {
			if p.out == "" && !p.cut && w.now >= h.next {
				h.next = w.now + h.every
				w.send(p, &h.message)
			}
		}
	}
	if err := w.receive(); err != nil {
		return err
	}
	step := w.session.Tick()
	w.sendClients(step)
	for _, k := range step.Kept {
		if !k.IsWorld {
			w.keep(w.nameOf(k.Player), k.Property, k.Value)
		}
	}
	if w.history != nil {
		w.history.keep(step)
	}
	w.failures(step)
	for _, x := range step.Overtaken {
		if p := w.numbered(x.Client); p != nil {
			for _, o := range p.open {
				o.overtaken = o.overtaken || o.message.Type == wire.MessageWrite && o.message.Seq == x.Seq
			}
		}
	}
	for i := range step.Frames {
		p := w.numbered(step.Frames[i].Client)
		if p == nil || p.out != "" || p.cut {
			continue
		}
		p.newest = step.Tick
		p.frames = append(p.frames, frame{step.Tick, slices.Clone(step.Frames[i].Bytes)})
	}
	w.cutClients(step)
	if step.Closed != "" {
		w.close(step.Closed)
	}
	err := w.deliver(step.Tick)
	if w.observer != nil {
		w.observer.Ticked(step)
	}
	return err
}

// sendClients says what becomes of clients that the contract sends elsewhere.
func (w *stage) sendClients(step *session.Step) {
	for _, x := range step.Sendings {
		w.underWay[x.Client] = x.Exit.Name
		if w.arrivalsFail {
			w.session.Stay(x.Client)
			continue
		}
		w.session.Depart(x.Client)
	}
}

// cutClients takes clients out whose seats a tick has ended.
func (w *stage) cutClients(step *session.Step) {
	for _, c := range step.Cuts {
		p := w.numbered(c.Client)
		if p == nil || p.out != "" {
			continue
		}
		w.write(p) // what it is still told
		p.out = c.Reason
		w.left(c.Client)
		p.expelled = !p.cut && !c.Departs
		if c.Departs {
			p.sentTo = w.underWay[c.Client]
		}
	}
}

// close ends the session: clients get the frames that were cut for them, and nothing more.
func (w *stage) close(reason string) {
	if w.closed != "" {
		return
	}
	w.closed = reason
	for _, p := range w.players {
		if p.out == "" {
			p.out = "the session closed: " + reason
		}
	}
}

// left tells the observer that a client has left its seat.
func (w *stage) left(client int) {
	if w.observer != nil {
		w.observer.Left(client)
	}
}

// deliver sends what waits for clients, and lets them read what has come to them.
//
// Clients take their turns in the order of joining. One that is out still gets what was sent to it
// before.
func (w *stage) deliver(tick int64) error {
	for _, p := range w.players {
		if p.out == "" || len(p.frames) > 0 {
			w.write(p)
		}
		for at, ok := p.down.Next(); ok && at <= w.now; at, ok = p.down.Next() {
			raw, _ := p.down.ReceiveOne(w.now)
			if err := w.arrive(p, raw); err != nil {
				return err
			}
		}
		p.conclude(tick)
	}
	return nil
}

// receive brings what has arrived by now to the session, in the order in which it was sent.
//
// Links keep the order of each client's messages; the numbers put those of different clients that
// arrive at once in theirs.
func (w *stage) receive() error {
	w.inbox = w.inbox[:0]
	for _, p := range w.players {
		if p.out != "" {
			continue
		}
		for at, ok := p.up.Next(); ok && at <= w.now; at, ok = p.up.Next() {
			raw, _ := p.up.ReceiveOne(w.now)
			w.inbox = append(w.inbox, arrival{binary.BigEndian.Uint64(raw), p, raw[8:]})
		}
	}
	slices.SortStableFunc(w.inbox, func(a, b arrival) int { return cmp.Compare(a.order, b.order) })
	for i := range w.inbox {
		if err := w.take(w.inbox[i].from, w.inbox[i].bytes); err != nil {
			return err
		}
	}
	return nil
}

// conclude ends the writes, presses and releases that were met and not refused: such are not answered.
//
// Silence means yes only once the client has the frame that would have said no: the newest one that was
// cut when the server met the message, or later.
func (p *player) conclude(tick int64) {
	if len(p.open) == 0 {
		return
	}
	p.open = slices.DeleteFunc(p.open, func(o *sent) bool {
		if o.carried == tick {
			o.need = p.newest
		}
		if o.carried == 0 || p.copy.Tick < o.need {
			return false
		}
		if o.line != nil {
			o.decision = &wire.Decision{Seq: o.message.Seq, Outcome: wire.Accepted, Check: -1}
			if o.overtaken {
				o.decision.Outcome = overtaken
			}
			o.line.met = append(o.line.met, o)
		}
		return true
	})
}

// numbered returns the player with a client number, or nil.
func (w *stage) numbered(n int) *player {
	for _, p := range w.players {
		if p.number == n {
			return p
		}
	}
	return nil
}

// write sends what waits for a client, unless the client takes nothing now.
//
// While a client stalls, frames wait as they would in a socket. After half a second of them the session
// is told that the client is behind and packs nothing more for it, which is what the service does.
func (w *stage) write(p *player) {
	for _, s := range p.stalls {
		if w.now < s.from || w.now >= s.until || p.out != "" {
			continue
		}
		if len(p.frames) > w.second/2 && !p.behind {
			w.session.Behind(p.number, p.written)
			p.frames = nil
			p.behind = true
		}
		return
	}
	for _, f := range p.frames {
		p.down.Send(w.now, f.bytes)
		p.written = f.tick
	}
	p.frames = p.frames[:0]
	if p.behind {
		p.behind = false
		w.session.CaughtUp(p.number)
	}
}

// take brings a message of a client to the session.
//
// Messages go through the wire's own packing, so that every drill is a test of it. One that cannot be
// read ends its sender's seat.
func (w *stage) take(p *player, raw []byte) error {
	if p.out != "" || p.cut {
		return nil
	}
	if w.trace != nil {
		fmt.Fprintf(w.trace, "%d %s > %x\n", w.session.Now()+1, p.name, raw)
	}
	m, err := wire.UnpackFromClient(raw, w.outline)
	if err != nil {
		w.session.Leave(p.number)
		p.out = err.Error()
		return nil
	}
	switch m.Type {
	case wire.MessageReady:
		w.session.Ready(p.number)
		p.ready = true
	case wire.MessageSeen:
		w.session.Confirm(p.number, m.Seen)
	case wire.MessageAsk:
		w.session.Ask(p.number, w.session.ReadRequest(m.Ask))
	case wire.MessageWrite, wire.MessagePress, wire.MessageRelease:
		w.session.Steer(p.number, w.session.ReadSteering(m.Type, m.Move()))
		for _, o := range p.open {
			if o.message.Type == m.Type && o.message.Seq == m.Seq && o.message.Press == m.Press {
				o.carried = w.session.Now() + 1
			}
		}
	}
	return nil
}

// arrive lets a client apply a frame.
//
// It does what a client library does: it applies the frame, checks the digest, matches decisions and
// confirms the tick.
func (w *stage) arrive(p *player, raw []byte) error {
	if w.trace != nil {
		fmt.Fprintf(w.trace, "%d %s < %x\n", w.session.Now(), p.name, raw)
	}
	f, err := p.reader.Read(raw)
	if err != nil {
		return fmt.Errorf("%s cannot read a frame of tick %d: %w", p.name, w.session.Now(), err)
	}
	if w.test != nil {
		f = w.test(p.number, f)
	}
	first := p.copy.Tick == 0
	p.arrived = w.session.Now()
	if w.observer != nil {
		w.observer.Arrived(p.number, f.Tick)
	}
	for _, n := range p.copy.Apply(f) {
		switch n.Type {
		case replicate.EventReceived:
			p.heard = append(p.heard, heard{f.Tick, n.Event})
		case replicate.FieldChanged:
			if !w.drill.notices[n.Field.Name] {
				break
			}
			p.noticed = append(
				p.noticed, noticed{f.Tick, n.Entity.Number, n.Field.Name, n.Field.Type, n.Old, n.Field.Value},
			)
		}
	}
	p.logs = append(p.logs, f.Logs...)
	if w.drill.weighs {
		if kinds := weigh(f); len(kinds) > 0 {
			p.got = append(p.got, weight{w.now, kinds})
		}
	}
	if f.Digest != nil && p.differed == "" && (f.Snapshot || f.Tick%int64(w.second) == 0) &&
		p.copy.Digest(w.outline) != *f.Digest {
		p.differed = fmt.Sprintf("its copy is not what it was sent, at tick %d", f.Tick)
	}
	for _, d := range f.Decisions {
		for i, o := range p.open {
			if o.answeredBy(&d) {
				o.decision = &d
				p.open = slices.Delete(p.open, i, i+1)
				if o.line != nil {
					o.line.met = append(o.line.met, o)
				}
				break
			}
		}
	}
	if p.out != "" || p.cut {
		return nil
	}
	if first || f.Snapshot && !p.ready {
		w.send(p, &wire.FromClient{Type: wire.MessageReady})
	}
	w.send(p, &wire.FromClient{Type: wire.MessageSeen, Ask: wire.Ask{Seen: f.Tick}})
	return nil
}

// weigh returns how many bytes of each kind are in a frame, as its values alone would take.
//
// What an encoder makes of a value depends on those before it. These bytes do not: they are what `got
// at most` counts, and the same on every link.
func weigh(f *wire.Frame) map[string]int {
	var out map[string]int
	add := func(kind string, fields []wire.Field, extra int) {
		if out == nil {
			out = map[string]int{}
		}
		bits := extra
		for _, x := range fields {
			most, _ := x.Type.Bits()
			bits += most
		}
		out[kind] += (bits + 7) / 8
	}
	for _, b := range f.Blocks {
		for _, s := range b.Spawned {
			add(s.Kind, s.Fields, 32)
		}
		for _, u := range b.Values {
			add(u.Kind, u.Fields, 8)
		}
	}
	return out
}

// ask sends a request, write or press of a client.
func (w *stage) ask(p *player, m wire.FromClient, line *act) *sent {
	m.Seen = p.copy.Tick
	w.settled = false
	o := &sent{message: m, line: line, tick: w.session.Now()}
	if m.Type == wire.MessageAsk || m.Type == wire.MessageWrite {
		p.seq++
		o.message.Seq = p.seq
	}
	p.open = append(p.open, o)
	w.send(p, &o.message)
	return o
}

// sever cuts a client's connection; its seat waits.
func (w *stage) sever(p *player) {
	p.up.Cut()
	p.down.Cut()
	p.cut = true
	p.frames = nil
	w.session.Lost(p.number)
}

// mend connects a client that was cut: what is undecided is asked again.
//
// The reader is new, because the session begins with a snapshot for a client that is back. Requests
// keep their numbers, by which the session knows those that it has decided.
func (w *stage) mend(p *player) {
	p.up.Mend(w.now)
	p.down.Mend(w.now)
	w.session.Back(p.number, p.copy.Tick)
	p.cut = false
	p.ready = false
	p.behind = false
	p.reader = wire.NewReader(wire.NewLayout(w.outline))
	for _, o := range p.open {
		w.send(p, &o.message)
	}
}

// truth returns the server's own sheet as it is now.
//
// It is made from the session's world, without the wire, and used again until something changes.
func (w *stage) truth() *replicate.Copy {
	if w.sheet == nil {
		w.sheet = &replicate.Copy{}
		w.sheet.Apply(&wire.Frame{Tick: w.session.Now(), Blocks: []*wire.Block{w.session.State()}})
	}
	return w.sheet
}

// seen returns what a client shows at this moment: its newest frame, with what moves by itself moved on by the ticks
// since that arrived. The client's own copy stays as it is, so that looking at it changes nothing.
func (w *stage) seen(p *player) *replicate.Copy {
	return p.copy.At(p.copy.Tick + w.session.Now() - p.arrived)
}

// held returns what the copy of a client that is current has to be at the tick of the session.
func (w *stage) held(p *player) *replicate.Copy { return p.copy.At(w.session.Now()) }

// current reports whether a client has all that was sent to it.
//
// It may be true while a newer frame is not cut yet: then nothing has changed for the client since.
func (p *player) current() bool {
	_, coming := p.down.Next()
	return !coming && len(p.frames) == 0 && !p.behind && !p.cut && p.copy.Tick >= p.newest
}

// decided reports whether all that clients sent is decided, and all of them are ready.
func (w *stage) decided() bool {
	for _, p := range w.players {
		if p.out == "" && !p.cut && (len(p.open) > 0 || !p.ready || p.copy.Tick == 0) {
			return false
		}
	}
	return true
}

// needs returns for each client the newest frame that was cut for it.
func (w *stage) needs() map[*player]int64 {
	out := map[*player]int64{}
	for _, p := range w.players {
		out[p] = p.newest
	}
	return out
}

// arrived reports whether clients have what was cut for them.
//
// One who was thrown out still has to get what was sent to it before.
func (w *stage) arrived(needs map[*player]int64) bool {
	for _, p := range w.players {
		_, coming := p.down.Next()
		switch {
		case p.cut || p.left:
		case p.out != "" && coming, p.out == "" && (p.copy.Tick < needs[p] || p.behind):
			return false
		}
	}
	return true
}

// seedOf makes a number of a name, the same everywhere.
func seedOf(words ...string) uint64 {
	h := fnv.New64a()
	for _, s := range words {
		_, _ = io.WriteString(h, s+"\x00")
	}
	return h.Sum64()
}

// dice returns the source of random numbers of a seed; it is the same on every machine.
func dice(seed uint64) *rand.Rand { return rand.New(rand.NewPCG(seed, 0x6b616d)) }
