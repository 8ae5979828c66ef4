package session

import (
	"fmt"
	"slices"
	"strings"

	"kamerad/core/contract"
	"kamerad/core/rules"
	"kamerad/core/wire"
	"kamerad/core/world"
)

// listener is told what becomes of clients and entities.
type listener interface {
	AddClient(c wire.Client)
	RemoveClient(number int)
	AddEntity(e *world.Entity)
	RemoveEntity(e *world.Entity)
	MarkOwnerChanged(e *world.Entity)
	MarkWritten(e *world.Entity, properties uint64)
}

// told is an event on its way to clients.
type told struct {
	rules.Told
	kind, at    int    // in the outline
	refs        bool   // arguments hold refs, which mean something else to each client
	known, bare []byte // packed, for those who know its entity and for those who do not
}

// answer is what a request replies, with refs that are put into numbers once it is known what its client gets with it.
type answer struct {
	at    int // among the decisions of the tick
	typ   *contract.Type
	value contract.Value
}

// eachView calls f for the clients' view and, when traced, for the server's own.
func (s *Session) eachView(f func(v listener)) {
	f(s.view)
	if s.truth != nil {
		f(s.truth)
	}
}

// cause names what the machine runs next, for its rolls.
func (s *Session) cause(what byte, a, b int64) {
	s.causeAt = s.machine.Used()
	s.machine.Cause = rules.Cause{
		Tick: s.tick,
		What: what,
		A:    a,
		B:    b,
	}
}

func (s *Session) join(t *seat) {
	t.joined = true
	s.world.AddClient(t.client)
	c := s.known(t)
	s.eachView(func(v listener) { v.AddClient(c) })
	s.cause('j', int64(c.Number), 0)
	s.concludeFor(c.Number, "on join", s.machine.Join(&t.client))
}

// conclude ends the transaction of a handler or timer of an entity; a fault undoes it and is told to those who run the
// session.
func (s *Session) conclude(what string, e *world.Entity, o *rules.Outcome) {
	s.weigh(what, e.Kind)
	if o != nil {
		f := newFault(what+" of "+e.Kind.Name, o)
		f.Entity = s.teller.Number(e)
		f.Kind = e.Kind.Name
		f.Serial = e.Serial
		f.Owner = e.Owner
		s.faults = append(s.faults, f)
	}
	s.settle(o)
	s.follow()
}

// concludeFor ends the transaction of a handler of the contract, which a client set off.
func (s *Session) concludeFor(client int, what string, o *rules.Outcome) {
	s.weigh(what, nil)
	if o != nil {
		f := newFault(what, o)
		f.Client = client
		s.faults = append(s.faults, f)
	}
	s.settle(o)
	s.follow()
}

func newFault(of string, o *rules.Outcome) Fault {
	return Fault{
		Of:     of,
		In:     o.In,
		File:   o.File,
		Line:   o.Line,
		Reason: o.Reason,
	}
}

// handle runs a handler of an entity, if its kind has it.
func (s *Session) handle(e *world.Entity, when rules.When, name string) {
	if e.Gone || !s.machine.Handles(e.Kind, when) {
		return
	}
	s.cause('h', e.Key(), int64(when))
	s.conclude(name, e, s.machine.Handle(e, when))
}

// owned runs a handler of all that a client owns.
func (s *Session) owned(client int, when rules.When, name string) {
	s.each(func(e *world.Entity) {
		if e.Owner == client {
			s.handle(e, when, name)
		}
	})
}

// each calls f for all entities that are there now, by ID; f may spawn and despawn.
func (s *Session) each(f func(e *world.Entity)) {
	s.walked = append(s.walked[:0], s.world.Entities()...)
	for _, e := range s.walked {
		if !e.Gone {
			f(e)
		}
	}
}

// timers moves all timers on by a tick, and runs the actions whose tick has come. The count of a timer is no part of a
// transaction: a body that faults has fired.
func (s *Session) timers() {
	s.each(func(e *world.Entity) {
		if s.runaway() {
			return
		}
		for i, t := range e.Kind.Timers {
			count := &e.Nums[t.Slot]
			if *count < 0 || t.While != nil && !s.machine.While(e, i) {
				continue
			}
			*count++
			if *count < t.Ticks {
				continue
			}
			*count = 0
			if t.After {
				*count = -1 // it has fired, once for all
			}
			s.cause('t', e.Key(), int64(i))
			s.conclude("a timer", e, s.machine.Fire(e, i))
			if e.Gone {
				return
			}
		}
		for n := int64(0); !e.Gone; n++ {
			d, due := s.world.NextDue(e)
			if !due {
				return
			}
			s.cause('d', e.Key(), n)
			s.conclude("the action "+d.Action.Name, e, s.machine.Due(e, d))
		}
	})
}

func (s *Session) leave(t *seat) {
	n := t.client.Number
	delete(s.seats, n)
	if t.lostAt > 0 {
		s.absent--
	}
	s.order = slices.DeleteFunc(s.order, func(x *seat) bool { return x == t })
	if !t.joined {
		return
	}
	s.cause('l', int64(n), 0)
	s.concludeFor(n, "on leave", s.machine.Leave(n))
	if t.lostAt == 0 { // else it has run
		s.owned(n, rules.OnOwnerLost, "on owner lost")
	}
	s.owned(n, rules.OnOwnerLeave, "on owner leave")
	s.world.RemoveClient(n)
	s.each(func(e *world.Entity) {
		if e.Owner != n {
			return
		}
		if e.Kind.Per < 0 {
			s.world.SetOwner(e, 0)
			return
		}
		s.world.Despawn(e)
	})
	s.settle(nil)
	s.eachView(func(v listener) { v.RemoveClient(n) })
}

// settle ends a transaction as its outcome says: all that it did happens, or nothing. It gives the changes when traced,
// and the events.
func (s *Session) settle(o *rules.Outcome) (changes []Change, told []rules.Told) {
	told = s.machine.Told
	effects := s.machine.Effects
	s.machine.Told = s.machine.Told[:0]
	s.machine.Effects = s.machine.Effects[:0] // they are dealt with before the next run begins
	if o != nil {
		s.world.Rollback()
		return nil, nil
	}
	if s.truth != nil && s.asking {
		for _, c := range s.world.Changes() {
			t := c.Property.Type
			changes = append(changes, Change{
				Entity:   s.view.Number(c.Entity),
				Kind:     c.Entity.Kind.Name,
				Owner:    c.Entity.Owner,
				Property: c.Property.Name,
				Type:     t,
				Old:      s.view.PublicRefs(t, c.Old),
				New:      s.view.PublicRefs(t, c.New),
			})
		}
	}
	s.world.Commit()
	s.world.Events(func(n world.Event) {
		if n.Role != 0 {
			s.roled = true // dealt with once the cause is concluded
			return
		}
		if n.Despawned {
			s.forget(n.Entity)
			s.teller.RemoveEntity(n.Entity)
		}
		s.eachView(func(v listener) {
			switch {
			case n.Spawned:
				v.AddEntity(n.Entity)
			case n.Despawned:
				v.RemoveEntity(n.Entity)
			default:
				v.MarkOwnerChanged(n.Entity)
			}
		})
		if s.holding && !n.Spawned && !n.Despawned && n.Entity.Owner != n.Owner {
			s.handed = append(s.handed, n.Entity)
		}
	})
	for _, e := range told {
		s.tell(e)
	}
	for _, e := range effects {
		s.effect(e)
	}
	return changes, told
}

// effect carries out what a body did beside its changes and events.
func (s *Session) effect(e rules.Effect) {
	switch e.What {
	case "close":
		if s.closed == "" {
			s.closed = e.Text
		}
	case "expel":
		s.expel(e.Client, e.Text)
	case "log":
		s.logs = append(s.logs, Log{e.Text, e.Clients})
		for _, t := range s.order {
			if t.joined && slices.Contains(e.Clients, t.client.Number) {
				t.logs = append(t.logs, e.Text)
				t.busy = true
			}
		}
	}
}

// expel takes a client's seat with the end of this tick.
func (s *Session) expel(client int, reason string) {
	if t := s.seats[client]; t != nil && t.cut == "" {
		t.cut = reason
		t.busy = true
		if len(s.out) >= maxOut {
			clear(s.out)
		}
		if s.out == nil {
			s.out = map[string]int64{}
		}
		s.out[t.client.Name] = s.tick + int64(keptOut*s.contract.TickRate)
	}
}

// tell puts an event on its way. Who hears it is decided now; what each of them knows of its entities, with the tick's
// end.
func (s *Session) tell(e rules.Told) {
	out := &told{Told: e, kind: -1}
	out.Values = slices.Clone(e.Values)
	out.Clients = nil // what is passed is used again
	o := s.view.Layout().Outline
	events := o.Events
	if k := e.Event.Kind; k != nil {
		out.kind = slices.IndexFunc(o.Kinds, func(x contract.KindOutline) bool { return x.Name == k.Name })
		if out.kind >= 0 {
			events = o.Kinds[out.kind].Events
		}
	}
	out.at = slices.IndexFunc(events, func(x contract.EventOutline) bool { return x.Name == e.Event.Name })
	whole := &wire.Event{Event: e.Event.FullName()}
	if e.Entity != nil {
		s.view.MarkNamedByEvent(e.Entity.ID)
		whole.Entity = s.view.Number(e.Entity)
	}
	for i, p := range e.Event.Params {
		if p.Type.Has(contract.FormEntity) {
			out.refs = true
			p.Type.Refs(e.Values[i], func(id int64) int64 {
				s.view.MarkNamedByEvent(world.ID(id))
				return 0
			})
		}
		if s.truth != nil {
			whole.Fields = append(
				whole.Fields, wire.Field{Name: p.Name, Type: p.Type, Value: s.truth.PublicRefs(p.Type, e.Values[i])},
			)
		}
	}
	list := Told{Event: whole, Clients: []int{}}
	for _, t := range s.order {
		n := t.client.Number
		if !t.joined || !e.Everyone && !slices.Contains(e.Clients, n) {
			continue
		}
		list.Clients = append(list.Clients, n)
		if out.at >= 0 && (out.kind >= 0 || e.Event.Kind == nil) { // else nobody knows what it is
			t.events = append(t.events, out)
			t.busy = true
		}
	}
	s.told = append(s.told, list)
}

// packed gives an event as one client may have it: refs to what it does not know of are nothing, and who does not know
// the event's entity hears it without.
func (s *Session) packed(e *told, client int) []byte {
	number := uint32(0)
	if e.Entity != nil {
		number = s.view.KnownNumber(client, e.Entity.ID)
	}
	into := &e.bare
	if number != 0 {
		into = &e.known
	}
	if *into != nil && !e.refs {
		return *into
	}
	out := &wire.Event{Entity: number}
	for i, p := range e.Event.Params {
		v := e.Values[i]
		if e.refs {
			v = s.view.RefsInFrame(client, p.Type, v)
		}
		out.Fields = append(out.Fields, wire.Field{Name: p.Name, Type: p.Type, Value: v})
	}
	*into = wire.PackEvent(s.view.Layout().Outline, e.kind, e.at, out)
	return *into
}

// decide takes a request the whole way: bounds, types, target, from, limit, checks, body.
func (s *Session) decide(t *seat, call *Call, step *Step) {
	seq := call.ask.Seq
	if t.first == nil {
		t.first = new([rememberAsk]wire.Decision)
	}
	kept := &t.first[seq%rememberAsk]
	if !call.waited &&
		slices.ContainsFunc(s.waiting, func(w waiting) bool { return w.seat == t && w.call.ask.Seq == seq }) {
		return // a repeat of one that waits: its decision is to come
	}
	if seq <= t.newest && kept.Seq == seq {
		// A repeat gets its first decision again and has no other effect.
		t.said = append(t.said, *kept)
		t.busy = true
		return
	}
	step.Decisions = append(step.Decisions, Decision{})
	d := &step.Decisions[len(step.Decisions)-1]
	d.Tick = s.tick
	d.Ask = call.ask
	d.Outcome = wire.Accepted
	d.Check = -1
	d.Client = t.public
	if s.pipeline(t, call, d) {
		step.Decisions = step.Decisions[:len(step.Decisions)-1]
		t.newest = max(t.newest, seq)
		return
	}
	s.follow()
	if r := call.request; d.Reply != nil && r.Reply.Has(contract.FormEntity) {
		t.replies = append(t.replies, answer{len(t.said), r.Reply, s.machine.Reply})
	}
	t.busy = true
	t.said = append(t.said, wire.Decision{
		Seq:     seq,
		Outcome: d.Outcome,
		Stage:   d.Stage,
		Reason:  d.Reason,
		Check:   d.Check,
		Reply:   d.Reply,
	})
	out := &t.said[len(t.said)-1]
	if d.Outcome == wire.Faulted {
		// What went wrong may tell of values that this client may not have.
		out.Reason = "the request failed inside and changed nothing"
	}
	if seq > t.newest || call.waited && seq > kept.Seq {
		t.newest = max(t.newest, seq)
		*kept = *out
	}
}

func (d *Decision) no(outcome wire.Outcome, stage wire.Stage, reason string) {
	d.Outcome = outcome
	d.Stage = stage
	d.Reason = reason
}

func (s *Session) pipeline(t *seat, call *Call, d *Decision) (waits bool) {
	if call.ask.Seq <= t.newest && !call.waited {
		d.no(
			wire.Dropped, wire.StageBounds,
			fmt.Sprintf("the sequence number %d was used before; the newest is %d", call.ask.Seq, t.newest),
		)
		return
	}
	if call.tooLate {
		d.no(wire.Dropped, wire.StageBounds, tooMuchToDo)
		return
	}
	t.decided++
	if t.decided > maxPerTick {
		d.no(wire.Dropped, wire.StageBounds, fmt.Sprintf("more than %d requests in one tick", maxPerTick))
		return
	}
	r := call.request
	if r != nil {
		d.Kind = r.Kind.Name
	}
	wrong := call.wrong
	args := call.slots
	if wrong == "" && args == nil {
		wrong = s.arguments(t, call)
		args = s.args
	}
	if wrong != "" {
		d.no(wire.Malformed, wire.StageTypes, wrong)
		return
	}
	e := s.target(t, r.Kind, call.ask.Entity)
	if e == nil {
		// The same for one that is not there and one that this client may not know of.
		d.no(wire.Denied, wire.StageTarget, "no such entity")
		return
	}
	d.Entity = s.view.Number(e)
	d.Owner = e.Owner
	if !s.machine.MayAsk(r, e, t.client.Number) {
		reason := "not allowed"
		if len(r.From) == 1 && r.From[0].Sort == contract.ToOwner {
			reason = "not the owner"
		}
		d.no(wire.Denied, wire.StageFrom, reason)
		return
	}
	if r.Limit != nil {
		key := use{r.Index, e.ID}
		w := t.uses[key]
		if w == nil {
			w = &window{}
			t.uses[key] = w
		}
		if !w.take(r.Limit.Count, r.Limit.Window, s.tick) {
			if free := w.ticks[w.next] + r.Limit.Window; free-s.tick <= int64(s.contract.TickRate)/4 &&
				s.wait(t, call, key, free) {
				return true
			}
			d.no(
				wire.Dropped, wire.StageLimit,
				fmt.Sprintf("more than %d in %g s", r.Limit.Count, float64(r.Limit.Ms)/1000),
			)
			return
		}
	}
	if r.Pause != nil && s.tick < t.paused[use{r.Index, e.ID}] {
		d.no(wire.Denied, wire.StageLimit, r.Pause.Reason)
		return
	}
	s.cause('q', int64(t.client.Number), int64(call.ask.Seq))
	outcome := s.machine.Ask(r, e, t.client.Number, args)
	if s.machine.Used()-s.causeAt >= heavySteps {
		s.weigh("the request "+r.FullName(), nil)
	}
	s.asking = true
	changes, told := s.settle(outcome)
	s.asking = false
	d.Changes = changes
	for _, e := range told {
		d.Told = append(d.Told, e.Event.FullName())
	}
	if outcome == nil {
		if r.Pause != nil {
			t.paused[use{r.Index, e.ID}] = s.tick + r.Pause.Ticks
		}
		if r.Reply != nil {
			d.Reply = r.Reply.AppendJSON(nil, s.view.RefsFor(t.client.Number, r.Reply, s.machine.Reply))
		}
		return
	}
	d.In = outcome.In
	d.File = outcome.File
	d.Line = outcome.Line
	switch {
	case outcome.Faulted:
		d.no(wire.Faulted, wire.StageBody, outcome.Reason)
	case outcome.Dropped:
		d.no(wire.Dropped, wire.StageCheck, "")
		d.Text = r.Checks[outcome.Check].Text
	case outcome.Denied && outcome.Check >= 0:
		d.no(wire.Denied, wire.StageCheck, outcome.Reason)
		d.Check, d.Text = outcome.Check, r.Checks[outcome.Check].Text
		s.strike(t, call, outcome, d)
	case outcome.Denied:
		d.no(wire.Denied, wire.StageBody, outcome.Reason)
	}
	return false
}

// waiting is a request that came a little before its limit lets it through. Links jitter: of a client that keeps to a
// limit, one request may be late and the next in time.
type waiting struct {
	until int64
	seat  *seat
	key   use
	call  Call
}

// wait lets a request wait until a tick, at most one for each client and limit.
func (s *Session) wait(t *seat, call *Call, key use, until int64) bool {
	if s.strict || call.waited ||
		slices.ContainsFunc(s.waiting, func(w waiting) bool { return w.seat == t && w.key == key }) {
		return false
	}
	later := *call
	later.waited = true
	later.args = slices.Clone(call.args)
	later.slots = slices.Clone(call.slots)
	s.waiting = append(s.waiting, waiting{until, t, key, later})
	return true
}

// admit decides the requests whose wait is over.
func (s *Session) admit(step *Step) {
	if len(s.waiting) == 0 {
		return
	}
	var due []waiting
	s.waiting = slices.DeleteFunc(s.waiting, func(w waiting) bool {
		if w.until <= s.tick {
			due = append(due, w)
		}
		return w.until <= s.tick || s.seats[w.seat.client.Number] != w.seat
	})
	for i := range due {
		if t := due[i].seat; s.seats[t.client.Number] == t {
			s.decide(t, &due[i].call, step)
		}
	}
}

// arguments gives the slots of a request's arguments to s.args; the result says what is wrong with one, if anything is.
// A ref to what the client may not know of, and a client that is gone, come as nothing.
func (s *Session) arguments(t *seat, call *Call) (wrong string) {
	s.args = s.args[:0]
	for i, p := range call.request.Params {
		v := call.args[i]
		if p.Type.Has(contract.FormEntity) {
			v = p.Type.Refs(v, func(n int64) int64 {
				e := s.view.Entity(t.client.Number, uint32(n))
				if e == nil {
					return 0
				}
				return int64(e.ID)
			})
		}
		from := len(s.args)
		s.args = p.Type.AppendSlots(s.args, v, s.world.Intern)
		if p.Type.Form == contract.FormEntity || p.Type.Has(contract.FormEntity) || p.Type.Has(contract.FormClient) {
			p.Type.Slots(from, func(at int, t *contract.Type) {
				n := s.args[at]
				switch t.Form {
				case contract.FormEntity:
					if e := s.world.Entity(world.ID(n)); e != nil && !slices.Contains(t.Kinds, e.Kind) {
						wrong = fmt.Sprintf(
							"the argument `%s` refers to a %s, not to a %s", p.Name, e.Kind.Name,
							strings.Join(t.Names, " or "),
						)
					}
				case contract.FormClient:
					if n > 0 && s.world.Client(int(n)) == nil {
						s.args[at] = contract.Nothing
					}
				}
			})
		}
	}
	return wrong
}

// maxLate is how far back a client's view may lie for a strike to be unfair, in seconds: a link with a delay of two
// seconds that loses one message in twenty shows nothing newer for longer than half a minute now and then.
const maxLate = 60

// strike counts a strike or expels, as the check that failed says. What an honest client could not know in time only
// denies: what the check read has changed since the tick that the client had confirmed, a minute back at most.
func (s *Session) strike(t *seat, call *Call, o *rules.Outcome, d *Decision) {
	if o.Then != contract.ThenStrike && o.Then != contract.ThenExpel {
		return
	}
	seen := max(call.seen, s.tick-int64(maxLate*s.contract.TickRate))
	if o.Recent > seen {
		return
	}
	d.Strike = true
	if o.Then == contract.ThenExpel || s.contract.Strikes == 1 ||
		!t.strikes.take(s.contract.Strikes-1, s.contract.Window, s.tick) {
		s.expel(t.client.Number, o.Reason)
	}
}

// target finds the entity that a request is for; 0 means the one of a shared kind, or the caller's own.
func (s *Session) target(t *seat, k *contract.Kind, n uint32) *world.Entity {
	switch {
	case n != 0:
		if e := s.view.Entity(t.client.Number, n); e != nil && e.Kind == k {
			return e
		}
		return nil
	case k.Shared:
		return s.world.Shared(k.Index)
	}
	return s.world.OfClient(k.Index, t.client.Number)
}

// collect brings what the tick changed into the views.
func (s *Session) collect(step *Step) {
	dirty := s.world.Written()
	next := 0
	s.world.VisitWritten(func(e *world.Entity, properties uint64) {
		for dirty[next] != e { // it is gone
			next++
		}
		if next%warmed == 0 {
			s.view.Prefetch(dirty[next:min(next+warmed, len(dirty))])
		}
		next++
		s.view.MarkWritten(e, properties)
		if s.truth != nil {
			s.truth.MarkWritten(e, properties)
		}
	})
	if s.truth != nil {
		step.Truth = s.truth.EndTick()
	}
	step.Told = s.told
	s.told = nil
	step.Faults = s.faults
	s.faults = nil
	step.Refused = s.refused
	step.Reveals, s.machine.Reveals = s.machine.Reveals, nil
	step.Logs = s.logs
	s.logs = nil
	step.Closed = s.closed
}
