package session

import (
	"fmt"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// pendingReply is the reply of a request whose refs are put into numbers once it is known what its client knows with
// its next frame.
type pendingReply struct {
	decision int // index among the seat's queuedDecisions
	typ      *contract.Type
	value    contract.Value
}

// decide takes a request through all stages, and queues the decision for its client. A repeat of a request gets its
// first decision again and has no other effect.
func (s *Session) decide(t *seat, request *Request, step *Step) {
	seq := request.ask.Seq
	if t.remembered == nil {
		t.remembered = new([rememberedDecisions]wire.Decision)
	}
	remembered := &t.remembered[seq%rememberedDecisions]
	isSame := func(w earlyRequest) bool { return w.seat == t && w.request.ask.Seq == seq }
	if !request.hasWaited && slices.ContainsFunc(s.early, isSame) {
		return // a repeat of a request that waits: its decision is to come
	}
	if seq <= t.newestRequest && remembered.Seq == seq {
		t.queuedDecisions = append(t.queuedDecisions, *remembered)
		t.hasMessages = true
		return
	}
	step.Decisions = append(step.Decisions, Decision{})
	d := &step.Decisions[len(step.Decisions)-1] // filled where it stands: copying it cost a tenth of a request
	d.Tick = s.tick
	d.Client = t.public
	d.Ask = request.ask
	d.Outcome = wire.Accepted
	d.Check = -1
	if waits := s.runStages(t, request, d); waits {
		step.Decisions = step.Decisions[:len(step.Decisions)-1]
		t.newestRequest = max(t.newestRequest, seq)
		return
	}
	s.runFollowUps()
	if r := request.declaration; d.Reply != nil && r.Reply.Has(contract.FormEntity) {
		t.pendingReplies = append(t.pendingReplies, pendingReply{len(t.queuedDecisions), r.Reply, s.machine.Reply})
	}
	t.queuedDecisions = append(t.queuedDecisions, wire.Decision{})
	told := &t.queuedDecisions[len(t.queuedDecisions)-1]
	d.tell(told)
	t.hasMessages = true
	if seq > t.newestRequest || request.hasWaited && seq > remembered.Seq {
		t.newestRequest = max(t.newestRequest, seq)
		*remembered = *told
	}
}

// tell writes a decision as its client is told of it into told, which is empty.
func (d *Decision) tell(told *wire.Decision) {
	told.Seq = d.Ask.Seq
	told.Outcome = d.Outcome
	told.Stage = d.Stage
	told.Reason = d.Reason
	told.Check = d.Check
	told.Reply = d.Reply
	if d.Outcome == wire.Faulted { // what went wrong may tell of values that this client may not have
		told.Reason = "the request failed inside and changed nothing"
	}
}

// runStages takes a request through the stages: bounds, types, target, from, limit, checks, body. The first one that
// fails decides. It reports whether the request waits for its limit instead; then there is no decision yet.
func (s *Session) runStages(t *seat, request *Request, d *Decision) (waits bool) {
	if problem := s.checkBounds(t, request); problem != "" {
		d.refuse(wire.Dropped, wire.StageBounds, problem)
		return false
	}
	r := request.declaration
	if r != nil {
		d.Kind = r.Kind.Name
	}
	problem := request.problem
	args := request.slots
	if problem == "" && args == nil {
		problem = s.readArguments(t, request)
		args = s.args
	}
	if problem != "" {
		d.refuse(wire.Malformed, wire.StageTypes, problem)
		return false
	}
	e := s.target(t, r.Kind, request.ask.Entity)
	if e == nil {
		// The same for an entity that is not there and for one that this client may not know of.
		d.refuse(wire.Denied, wire.StageTarget, "no such entity")
		return false
	}
	d.Entity = s.view.Number(e)
	d.Owner = e.Owner
	if !s.machine.MayAsk(r, e, t.client.Number) {
		reason := "not allowed"
		if len(r.From) == 1 && r.From[0].Sort == contract.ToOwner {
			reason = "not the owner"
		}
		d.refuse(wire.Denied, wire.StageFrom, reason)
		return false
	}
	key := limitKey{r.Index, e.ID}
	if r.Limit != nil {
		if free, ok := t.useLimit(key, r.Limit, s.tick); !ok {
			if free-s.tick <= int64(s.contract.TickRate)/4 && s.deferEarly(t, request, key, free) {
				return true
			}
			reason := fmt.Sprintf("more than %d in %g s", r.Limit.Count, float64(r.Limit.Ms)/1000)
			d.refuse(wire.Dropped, wire.StageLimit, reason)
			return false
		}
	}
	if r.Pause != nil && s.isPaused(t, r, e) {
		d.refuse(wire.Denied, wire.StageLimit, r.Pause.Reason)
		return false
	}
	s.runBody(t, request, e, args, d)
	return false
}

// checkBounds returns why a request is dropped without being looked at; empty when it is not.
func (s *Session) checkBounds(t *seat, request *Request) string {
	if request.ask.Seq <= t.newestRequest && !request.hasWaited {
		return fmt.Sprintf("the sequence number %d was used before; the newest is %d", request.ask.Seq, t.newestRequest)
	}
	if request.tooLate {
		return tooMuchToDo
	}
	t.decidedNow++
	if t.decidedNow > maxPerTick {
		return fmt.Sprintf("more than %d requests in one tick", maxPerTick)
	}
	return ""
}

// useLimit counts a use of a limit. When there are too many, ok is false and free is the tick from which another one is
// within the limit.
func (t *seat) useLimit(key limitKey, limit *contract.Limit, tick int64) (free int64, ok bool) {
	w := t.limits[key]
	if w == nil {
		w = &limitWindow{}
		t.limits[key] = w
	}
	if w.take(limit.Count, limit.Window, tick) {
		return tick, true
	}
	return w.ticks[w.next] + limit.Window, false
}

// isPaused reports whether the pause of a request is not over since the client's last accepted one. A pause that cannot
// be computed is not over.
func (s *Session) isPaused(t *seat, r *contract.Request, e *world.Entity) bool {
	last, asked := t.acceptedTick[limitKey{r.Index, e.ID}]
	if !asked {
		return false
	}
	ticks, ok := s.machine.PauseTicks(r, e, t.client.Number)
	return !ok || s.tick < last+ticks
}

// runBody runs the checks and the body of a request, and notes in d what came of it.
func (s *Session) runBody(t *seat, request *Request, e *world.Entity, args []int64, d *Decision) {
	r := request.declaration
	s.setCause(causeRequest, int64(t.client.Number), int64(request.ask.Seq))
	outcome := s.machine.Ask(r, e, t.client.Number, args)
	if s.machine.Used()-s.stepsAtCause >= heavySteps {
		s.noteSteps("the request "+r.FullName(), nil)
	}
	s.asking = t
	s.askingSeq = request.ask.Seq
	changes, events := s.endTransaction(outcome)
	s.asking = nil
	d.Changes = changes
	for _, event := range events {
		d.Events = append(d.Events, event.Event.FullName())
	}
	if outcome != nil {
		s.noteOutcome(t, request, outcome, d)
	}
	if s.serverState != nil && s.serverState.Watched() {
		d.Checks = s.checkResults(t, r, e, args, d)
	}
	if outcome != nil {
		return
	}
	if r.Pause != nil {
		t.acceptedTick[limitKey{r.Index, e.ID}] = s.tick
	}
	if r.Reply != nil {
		d.Reply = r.Reply.AppendJSON(nil, s.view.RefsFor(t.client.Number, r.Reply, s.machine.Reply))
	}
}

// noteOutcome notes in d why a request was not accepted.
func (s *Session) noteOutcome(t *seat, request *Request, outcome *rules.Outcome, d *Decision) {
	r := request.declaration
	d.In = outcome.In
	d.File = outcome.File
	d.Line = outcome.Line
	d.failedCheck = outcome.Check
	switch {
	case outcome.Faulted:
		d.refuse(wire.Faulted, wire.StageBody, outcome.Reason)
	case outcome.Dropped:
		d.refuse(wire.Dropped, wire.StageCheck, "")
		d.Text = r.Checks[outcome.Check].Text
	case outcome.Denied && outcome.Check >= 0:
		d.refuse(wire.Denied, wire.StageCheck, outcome.Reason)
		d.Check = outcome.Check
		d.Text = r.Checks[outcome.Check].Text
		s.strike(t, request, outcome, d)
	case outcome.Denied:
		d.refuse(wire.Denied, wire.StageBody, outcome.Reason)
	}
}

// earlyRequest is a request that came a little before its limit lets it through. Links jitter: of a client that keeps
// to a limit, one request may be late and the next in time.
type earlyRequest struct {
	until   int64 // tick
	seat    *seat
	key     limitKey
	request Request
}

// deferEarly makes a request wait until a tick, at most one for each client and limit. It reports false when it cannot.
func (s *Session) deferEarly(t *seat, request *Request, key limitKey, until int64) bool {
	sameLimit := func(w earlyRequest) bool { return w.seat == t && w.key == key }
	if s.strict || request.hasWaited || slices.ContainsFunc(s.early, sameLimit) {
		return false
	}
	later := *request
	later.hasWaited = true
	later.args = slices.Clone(request.args)
	later.slots = slices.Clone(request.slots)
	s.early = append(s.early, earlyRequest{until, t, key, later})
	return true
}

// decideEarly decides the requests whose wait is over.
func (s *Session) decideEarly(step *Step) {
	if len(s.early) == 0 {
		return
	}
	var due []earlyRequest
	s.early = slices.DeleteFunc(s.early, func(w earlyRequest) bool {
		if w.until <= s.tick {
			due = append(due, w)
		}
		return w.until <= s.tick || s.seats[w.seat.client.Number] != w.seat
	})
	for i := range due {
		if t := due[i].seat; s.seats[t.client.Number] == t {
			s.decide(t, &due[i].request, step)
		}
	}
}

// readArguments puts the slots of a request's arguments into s.args, and returns what is wrong with one, if anything
// is. A ref to an entity that the client may not know of, and a client that is gone, become nothing.
func (s *Session) readArguments(t *seat, request *Request) (problem string) {
	s.args = s.args[:0]
	for i, p := range request.declaration.Params {
		v := request.args[i]
		if p.Type.Has(contract.FormEntity) {
			v = p.Type.Refs(v, func(number int64) int64 {
				e := s.view.Entity(t.client.Number, uint32(number))
				if e == nil {
					return 0
				}
				return int64(e.ID)
			})
		}
		from := len(s.args)
		s.args = p.Type.AppendSlots(s.args, v, s.world.Intern)
		if p.Type.Has(contract.FormEntity) || p.Type.Has(contract.FormClient) {
			if wrong := s.checkRefs(p, from); wrong != "" {
				problem = wrong
			}
		}
	}
	return problem
}

// checkRefs returns what is wrong with the refs of an argument whose slots begin at a place in s.args, if anything is.
// A client that is gone becomes nothing.
func (s *Session) checkRefs(p contract.Param, from int) (problem string) {
	p.Type.Slots(from, func(at int, t *contract.Type) {
		n := s.args[at]
		switch t.Form {
		case contract.FormEntity:
			if e := s.world.Entity(world.ID(n)); e != nil && !slices.Contains(t.Kinds, e.Kind) {
				wanted := strings.Join(t.Names, " or ")
				problem = fmt.Sprintf("the argument `%s` refers to a %s, not to a %s", p.Name, e.Kind.Name, wanted)
			}
		case contract.FormClient:
			if n > 0 && s.world.Client(int(n)) == nil {
				s.args[at] = contract.Nothing
			}
		}
	})
	return problem
}

// maxLate is how far back a client's view may lie for a strike to be unfair, in seconds: a link with a delay of two
// seconds that loses one message in twenty shows nothing newer for longer than half a minute now and then.
const maxLate = 60

// strike counts a strike or expels, as the check that failed says. What an honest client could not know in time only
// denies: what the check read has changed since the tick that the client had confirmed, maxLate seconds back at most.
func (s *Session) strike(t *seat, request *Request, o *rules.Outcome, d *Decision) {
	if o.Then != contract.ThenStrike && o.Then != contract.ThenExpel {
		return
	}
	known := max(request.confirmed, s.tick-int64(maxLate*s.contract.TickRate))
	if o.Recent > known {
		return
	}
	d.Strike = true
	isLast := s.contract.Strikes == 1
	if o.Then == contract.ThenExpel || isLast || !t.strikes.take(s.contract.Strikes-1, s.contract.Window, s.tick) {
		s.expel(t.client.Number, o.Reason)
	}
}
