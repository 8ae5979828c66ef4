package session

import (
	"fmt"
	"slices"

	"kamerad/core/contract"
	"kamerad/core/replicate"
	"kamerad/core/rules"
	"kamerad/core/wire"
	"kamerad/core/world"
)

// eachView calls f for the clients' view and, when traced, for the server's own.
func (s *Session) eachView(f func(v *replicate.View)) {
	f(s.view)
	if s.truth != nil {
		f(s.truth)
	}
}

func (s *Session) join(t *seat) {
	t.joined = true
	s.roster()
	c := wire.Client{Number: t.client.Number, Name: t.client.Name, Role: t.role}
	s.eachView(func(v *replicate.View) { v.Joined(c) })
	for _, k := range s.contract.Kinds {
		if !k.Shared && k.Per == t.client.Role {
			e := s.world.Spawn(k, c.Number)
			s.eachView(func(v *replicate.View) { v.Spawned(e) })
			s.conclude("on spawn of "+k.Name, s.machine.Spawned(e))
		}
	}
	s.conclude("on join", s.machine.Join(c.Number))
}

// conclude ends the transaction of a handler or timer; a fault undoes it and is told to those who run the session.
func (s *Session) conclude(of string, o *rules.Outcome) {
	if o != nil {
		s.faults = append(s.faults, Fault{of, o.Line, o.Reason})
	}
	s.settle(o)
}

// timers moves all timers on by a tick. The count of a timer is no part of a transaction: a body that faults has fired.
func (s *Session) timers() {
	if !s.timed {
		return
	}
	for _, e := range slices.Clone(s.world.Entities()) {
		for i, t := range e.Kind.Timers {
			count := &e.Nums[t.Slot]
			if *count < 0 || t.While != nil && !s.machine.Holds(e, i) {
				continue
			}
			if *count++; *count < t.Ticks {
				continue
			}
			*count = 0
			if t.After {
				*count = -1 // it has fired, once for all
			}
			s.conclude("a timer of "+e.Kind.Name, s.machine.Fire(e, i))
		}
	}
}

// roster gives the rules the clients that are in.
func (s *Session) roster() {
	s.machine.Clients = s.machine.Clients[:0]
	for _, t := range s.order {
		if t.joined {
			s.machine.Clients = append(s.machine.Clients, t.client)
		}
	}
}

func (s *Session) leave(t *seat) {
	n := t.client.Number
	delete(s.seats, n)
	s.order = slices.DeleteFunc(s.order, func(x *seat) bool { return x == t })
	s.roster()
	if !t.joined {
		return
	}
	for _, k := range s.contract.Kinds {
		if e := s.world.Of(k.Index, n); e != nil {
			s.world.Despawn(e)
			s.eachView(func(v *replicate.View) { v.Despawned(e) })
			for _, other := range s.order {
				for u := range other.uses {
					if u.entity == e.ID {
						delete(other.uses, u)
					}
				}
				for u := range other.paused {
					if u.entity == e.ID {
						delete(other.paused, u)
					}
				}
			}
		}
	}
	s.eachView(func(v *replicate.View) { v.Left(n) })
}

// settle ends a transaction as its outcome says: all that it did happens, or nothing. It gives the changes when traced, and
// the events.
func (s *Session) settle(o *rules.Outcome) (changes []Change, told []rules.Told) {
	told = s.machine.Told
	s.machine.Told = s.machine.Told[:0] // what was told is worded before the next run begins
	if o != nil {
		s.world.Rollback()
		return nil, nil
	}
	if s.truth != nil {
		for _, c := range s.world.Changes() {
			changes = append(changes, Change{
				Entity: s.view.Number(c.Entity), Kind: c.Entity.Kind.Name, Owner: c.Entity.Owner,
				Property: c.Property.Name, Type: c.Property.Type, Old: c.Old, New: c.New,
			})
		}
	}
	s.world.Commit()
	for _, e := range told {
		s.tell(e)
	}
	return changes, told
}

func (s *Session) tell(e rules.Told) {
	out := &wire.Event{Event: e.Event.FullName()}
	for i, p := range e.Event.Params {
		out.Fields = append(out.Fields, wire.Field{Name: p.Name, Type: p.Type, Value: e.Values[i]})
	}
	// Who may not know the entity hears the event without it.
	bare := *out
	if e.Entity != nil {
		out.Entity = s.view.Number(e.Entity)
	}
	told := Told{Event: out, Clients: []int{}}
	for _, t := range s.order {
		if !t.joined || !e.Everyone && !slices.Contains(e.Clients, t.client.Number) {
			continue
		}
		told.Clients = append(told.Clients, t.client.Number)
		if e.Entity != nil && (e.Entity.Kind.To == contract.Nobody || e.Entity.Kind.To == contract.Owner && e.Entity.Owner != t.client.Number) {
			t.events = append(t.events, &bare)
		} else {
			t.events = append(t.events, out)
		}
	}
	s.told = append(s.told, told)
}

// decide takes a request the whole way: bounds, types, target, from, limit, checks, body.
func (s *Session) decide(t *seat, call *Call, step *Step) {
	seq := call.ask.Seq
	kept := &t.first[seq%rememberAsk]
	if seq <= t.newest && kept.Seq == seq {
		// A repeat gets its first decision again and has no other effect.
		t.said = append(t.said, *kept)
		return
	}
	step.Decisions = append(step.Decisions, Decision{})
	d := &step.Decisions[len(step.Decisions)-1]
	d.Tick, d.Ask, d.Outcome, d.Check = s.tick, call.ask, wire.Accepted, -1
	d.Client = wire.Client{Number: t.client.Number, Name: t.client.Name, Role: t.role}
	s.pipeline(t, call, d)
	t.said = append(t.said, wire.Decision{Seq: seq, Outcome: d.Outcome, Stage: d.Stage, Reason: d.Reason, Check: d.Check, Reply: d.Reply})
	out := &t.said[len(t.said)-1]
	if d.Outcome == wire.Faulted {
		// What went wrong may tell of values that this client may not have.
		out.Reason = "the request failed inside and changed nothing"
	}
	if seq > t.newest {
		t.newest = seq
		*kept = *out
	}
}

func (d *Decision) no(outcome wire.Outcome, stage wire.Stage, reason string) {
	d.Outcome, d.Stage, d.Reason = outcome, stage, reason
}

func (s *Session) pipeline(t *seat, call *Call, d *Decision) {
	if call.ask.Seq <= t.newest {
		d.no(wire.Dropped, wire.StageBounds, fmt.Sprintf("the sequence number %d was used before; the newest is %d", call.ask.Seq, t.newest))
		return
	}
	if t.decided++; t.decided > maxPerTick {
		d.no(wire.Dropped, wire.StageBounds, fmt.Sprintf("more than %d requests in one tick", maxPerTick))
		return
	}
	r := call.request
	if r != nil {
		d.Kind = r.Kind.Name
	}
	if call.wrong != "" {
		d.no(wire.Malformed, wire.StageTypes, call.wrong)
		return
	}
	e := s.target(t, r.Kind, call.ask.Entity)
	if e == nil {
		// The same for one that is not there and one that this client may not know of.
		d.no(wire.Denied, wire.StageTarget, "no such entity")
		return
	}
	d.Entity, d.Owner = s.view.Number(e), e.Owner
	if !rules.Among(r.From, t.client, e.Owner) {
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
		if !w.take(r.Limit, s.tick) {
			d.no(wire.Dropped, wire.StageLimit, fmt.Sprintf("more than %d in %g s", r.Limit.Count, float64(r.Limit.Ms)/1000))
			return
		}
	}
	if r.Pause != nil && s.tick < t.paused[use{r.Index, e.ID}] {
		d.no(wire.Denied, wire.StageLimit, r.Pause.Reason)
		return
	}
	outcome := s.machine.Ask(r, e, t.client.Number, call.nums, call.texts)
	changes, told := s.settle(outcome)
	d.Changes = changes
	for _, e := range told {
		d.Told = append(d.Told, e.Event.FullName())
	}
	if outcome == nil {
		if r.Pause != nil {
			t.paused[use{r.Index, e.ID}] = s.tick + r.Pause.Ticks
		}
		if r.Reply != nil {
			d.Reply = r.Reply.AppendJSON(nil, s.machine.Reply)
		}
		return
	}
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
	case outcome.Denied:
		d.no(wire.Denied, wire.StageBody, outcome.Reason)
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
	return s.world.Of(k.Index, t.client.Number)
}

// collect brings what the tick changed into the views.
func (s *Session) collect(step *Step) {
	s.world.Flush(func(e *world.Entity, properties uint64) {
		s.eachView(func(v *replicate.View) { v.Written(e, properties) })
	})
	if s.truth != nil {
		step.Truth, _ = s.truth.Cut()
	}
	step.Told, s.told = s.told, nil
	step.Faults, s.faults = s.faults, nil
}

// frames cuts the frame of each client. One that gets nothing new hears from the server once a second all the same.
func (s *Session) frames(step *Step, base *wire.Block) {
	shared, private := s.view.Cut()
	for _, t := range slices.Clone(s.order) {
		t.asked, t.decided = 0, 0
		if !t.joined {
			continue
		}
		f := &wire.Frame{Tick: s.tick, Snapshot: t.sent == 0, Decisions: t.said}
		if f.Snapshot {
			f.Blocks = append(f.Blocks, base)
		}
		if !shared.Empty() {
			f.Blocks = append(f.Blocks, shared)
		}
		if own := private[t.client.Number]; !own.Empty() {
			f.Blocks = append(f.Blocks, own)
		}
		if t.ready {
			f.Events = append(t.held, t.events...)
			t.held = nil
		} else {
			t.held = append(t.held, t.events...)
		}
		t.events, t.said = nil, nil
		if len(t.held) > MaxHeld {
			step.Cuts = append(step.Cuts, Cut{t.client.Number, fmt.Sprintf("more than %d events waited for this client to get ready", MaxHeld)})
			s.Leave(t.client.Number)
			continue
		}
		if len(f.Blocks)+len(f.Events)+len(f.Decisions) == 0 && s.tick-t.sent < int64(s.contract.TickRate) {
			continue
		}
		t.sent = s.tick
		step.Frames = append(step.Frames, ClientFrame{t.client.Number, f})
	}
}
