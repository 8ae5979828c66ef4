package session

import (
	"fmt"
	"slices"

	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// What a client gets stands in two queues. What it holds is state: whatever a client missed, a snapshot makes up for.
// Events, decisions and log lines are messages: each is kept until its client has confirmed the frame that it travelled
// in, and travels again when that frame was lost.

// unconfirmedFrame holds the messages of one frame until its client confirms the frame's tick. The state that travelled
// with it is not kept.
type unconfirmedFrame struct {
	tick      int64
	events    []*outgoingEvent
	decisions []wire.Decision
	logLines  []string
}

// messages returns how many messages the frame holds.
func (f *unconfirmedFrame) messages() int { return len(f.events) + len(f.decisions) + len(f.logLines) }

// dropConfirmed forgets the messages of the frames that the client has confirmed.
func (t *seat) dropConfirmed() {
	n := 0
	for n < len(t.unconfirmed) && t.unconfirmed[n].tick <= t.confirmed {
		t.unconfirmedMessages -= t.unconfirmed[n].messages()
		n++
	}
	if n > 0 {
		t.unconfirmed = slices.Delete(t.unconfirmed, 0, n)
	}
}

// requeueAfter moves the messages of every frame later than tick back to the head of the seat's queues, oldest first,
// so that they travel again with the next frame. Loose events are dropped.
//
// The session calls it when a connection is lost, or frames were dropped on their way: they may never have arrived.
func (t *seat) requeueAfter(tick int64) {
	first := len(t.unconfirmed)
	for first > 0 && t.unconfirmed[first-1].tick > tick {
		first--
	}
	var events []*outgoingEvent
	var decisions []wire.Decision
	var logLines []string
	for _, frame := range t.unconfirmed[first:] {
		t.unconfirmedMessages -= frame.messages()
		for _, event := range frame.events {
			if !event.Event.Loose {
				events = append(events, event)
			}
		}
		decisions = append(decisions, frame.decisions...)
		logLines = append(logLines, frame.logLines...)
	}
	t.unconfirmed = slices.Delete(t.unconfirmed, first, len(t.unconfirmed))
	t.queuedEvents = append(events, t.queuedEvents...)
	for i := range t.pendingReplies {
		t.pendingReplies[i].decision += len(decisions)
	}
	t.queuedDecisions = append(decisions, t.queuedDecisions...)
	t.queuedLogLines = append(logLines, t.queuedLogLines...)
	t.hasMessages = true
}

// messageCount returns how many messages the client has not confirmed, sent or not.
func (t *seat) messageCount() int {
	queued := len(t.queuedEvents) + len(t.newEvents) + len(t.queuedDecisions) + len(t.queuedLogLines)
	return t.unconfirmedMessages + queued
}

// Behind says that a client does not take what it is sent, and that the frames after the tick written never left. The
// client is sent no frame until CaughtUp.
func (s *Session) Behind(client int, written int64) {
	if t := s.seats[client]; t != nil && !t.behind {
		s.record(Call{Type: CallBehind, Client: client, Tick: written})
		t.behind = true
		t.requeueAfter(written)
	}
}

// CaughtUp says that a client that was behind has taken all that was written. It is sent a snapshot in place of the
// state that it missed.
func (s *Session) CaughtUp(client int) {
	if t := s.seats[client]; t != nil && t.behind {
		s.record(Call{Type: CallCaughtUp, Client: client})
		t.behind = false
		if t.joined {
			s.view.Resync(client)
		}
	}
}

// Received returns the highest number that a client has given to anything that it sent.
func (s *Session) Received(client int) uint64 {
	if t := s.seats[client]; t != nil {
		return t.highestNumber
	}
	return 0
}

// makeFrames makes the frame of each client. A client for which there is nothing new gets an empty frame once a second
// (the logic process in each tick, whose clock it is),
// and once a second a frame carries the digest of what its client should hold.
func (s *Session) makeFrames(step *Step) {
	s.view.EndTick()
	s.frameMemory = s.frameMemory[:0]
	for i, t := range s.order {
		if i%prefetched == 0 {
			s.prefetchSeats(i)
		}
		t.queued = 0
		t.decidedNow = 0
		if !t.joined {
			continue
		}
		cannotTake := t.lost || t.behind || s.view.WaitsForSnapshot(t.client.Number)
		if t.hasMessages && !s.gatherMessages(t, step) {
			continue
		}
		if !cannotTake {
			s.makeFrame(t, step)
		}
	}
	s.view.AcceptFrames()
	step.Memory = s.frameMemory
}

// prefetchSeats reads what makeFrames is about to read of the next seats.
func (s *Session) prefetchSeats(from int) {
	for _, t := range s.order[from:min(from+prefetched, len(s.order))] {
		s.prefetchSink += t.lastFrame + int64(t.unconfirmedMessages)
	}
	s.view.PrefetchClients(prefetched)
}

// gatherMessages brings the client's messages of this tick into its queues. It reports false when the client is cut
// because too many wait.
func (s *Session) gatherMessages(t *seat, step *Step) bool {
	client := t.client.Number
	if !s.view.IsMetered(client) {
		s.fillReplies(t, len(t.queuedDecisions))
	}
	if t.messageCount() > MaxUnconfirmed {
		step.Cuts = append(step.Cuts, Cut{
			Client: client,
			Reason: fmt.Sprintf("more than %d events, decisions and log lines waited for this client", MaxUnconfirmed),
		})
		s.leaveNext(t)
		return false
	}
	if t.cutReason != "" {
		step.Cuts = append(step.Cuts, Cut{Client: client, Reason: t.cutReason})
		s.leaveNext(t)
	}
	if len(t.newEvents) > 0 {
		t.queuedEvents = append(t.queuedEvents, t.newEvents...)
		t.newEvents = t.newEvents[:0]
	}
	t.hasMessages = len(t.queuedEvents)+len(t.queuedDecisions)+len(t.queuedLogLines) > 0
	return true
}

// makeFrame makes the frame of one client, if there is anything to tell: that what it keeps is settled, too.
func (s *Session) makeFrame(t *seat, step *Step) {
	client := t.client.Number
	if !s.view.HasRoom(client) {
		return
	}
	second := int64(s.contract.TickRate)
	parts := &s.parts
	parts.Tick = s.tick
	parts.Last = t.lastFrame
	parts.Settled = s.storedTick
	parts.WasSettled = t.toldStored
	parts.Incarnation = nil
	if t.isUndone {
		parts.Incarnation = &wire.Incarnation{Number: s.machine.Incarnation, Kept: t.undoneAfter}
	}
	parts.HasDigest = false
	parts.Events = parts.Events[:0]
	parts.Decisions = nil
	parts.Logs = nil
	var sent unconfirmedFrame
	if t.hasMessages {
		sent = s.addMessages(t, parts)
	}
	changed := s.view.FrameParts(client, parts)
	// Only who keeps something waits for this: a frame for others would tell them when somebody's own has changed.
	isSettled := t.keptTick > t.toldStored && s.storedTick >= t.keptTick
	if !changed && sent.messages() == 0 && !isSettled && s.tick-t.lastFrame < second && !s.isLogic(t) {
		return
	}
	if parts.Snapshot || s.prove || s.tick-t.lastDigest >= second {
		parts.HasDigest = true
		parts.Digest = s.view.Digest(client)
		t.lastDigest = s.tick
	}
	if sent.messages() > 0 {
		t.unconfirmed = append(t.unconfirmed, sent)
		t.unconfirmedMessages += sent.messages()
	}
	t.lastFrame = s.tick
	t.toldStored = s.storedTick
	t.isUndone = false // unless it comes back without having had this frame
	from := len(s.frameMemory)
	s.frameMemory = parts.Append(append(s.frameMemory, s.headroom...))
	whole := s.frameMemory[from:len(s.frameMemory):len(s.frameMemory)]
	s.view.Sent(client, len(whole)-len(s.headroom))
	if len(t.complete) > 0 || s.view.IsMetered(client) { // or was, before it got another role
		s.noteComplete(t)
	}
	step.Frames = append(step.Frames, ClientFrame{client, whole[len(s.headroom):], whole})
}

// addMessages adds the messages that wait for a client to its frame, and returns them: all of them, or those that the
// client has bytes for. Events wait until the client has said that it is ready.
func (s *Session) addMessages(t *seat, parts *wire.Parts) unconfirmedFrame {
	sent := unconfirmedFrame{tick: s.tick}
	if s.view.IsMetered(t.client.Number) {
		s.admitMessages(t, &sent)
	} else {
		sent.decisions = t.queuedDecisions
		sent.logLines = t.queuedLogLines
		t.queuedDecisions = nil
		t.queuedLogLines = nil
		if t.ready {
			sent.events = t.queuedEvents
			t.queuedEvents = nil
		}
	}
	t.hasMessages = len(t.queuedEvents)+len(t.queuedDecisions)+len(t.queuedLogLines) > 0
	parts.Decisions = sent.decisions
	parts.Logs = sent.logLines
	for _, event := range sent.events {
		parts.Events = append(parts.Events, s.packEvent(event, t.client.Number))
	}
	return sent
}

// numberBytes is what a ref in an event takes at most.
const numberBytes = 5

// admitMessages moves the messages that a metered client has bytes for from its queues into sent: decisions, then log
// lines, then events, each in order. A decision comes with what its request changed, an event with the entities that it
// names. Loose events that do not fit are dropped.
func (s *Session) admitMessages(t *seat, sent *unconfirmedFrame) {
	client := t.client.Number
	n := 0
	for ; n < len(t.queuedDecisions); n++ {
		d := &t.queuedDecisions[n]
		if !s.view.Admit(client, wire.DecisionBytes(d), t.touched[d.Seq]) {
			break
		}
		delete(t.touched, d.Seq)
	}
	s.fillReplies(t, n)
	sent.decisions = t.queuedDecisions[:n:n]
	t.queuedDecisions = t.queuedDecisions[n:]
	n = 0
	for n < len(t.queuedLogLines) && s.view.Admit(client, len(t.queuedLogLines[n]), nil) {
		n++
	}
	sent.logLines = t.queuedLogLines[:n:n]
	t.queuedLogLines = t.queuedLogLines[n:]
	if !t.ready {
		return
	}
	var left []*outgoingEvent
	for _, event := range t.queuedEvents {
		named, bytes := s.namedBy(event, client)
		switch {
		case s.view.Admit(client, bytes, named):
			sent.events = append(sent.events, event)
		case !event.Event.Loose:
			left = append(left, event)
		}
	}
	t.queuedEvents = left
}

// namedBy returns the entities that an event names, and how many bytes the event takes at most.
func (s *Session) namedBy(event *outgoingEvent, client int) (named []world.Touched, bytes int) {
	whole := ^uint64(0)
	if event.Entity != nil {
		named = append(named, world.Touched{Entity: event.Entity.ID, Properties: whole})
	}
	if event.hasRefs {
		for i, p := range event.Event.Params {
			p.Type.Refs(event.Values[i], func(id int64) int64 {
				named = append(named, world.Touched{Entity: world.ID(id), Properties: whole})
				return 0
			})
		}
	}
	return named, len(s.packEvent(event, client)) + numberBytes*len(named)
}

// fillReplies writes the replies of the first n decisions that are queued: refs are the numbers of entities that the
// client knows with its next frame.
func (s *Session) fillReplies(t *seat, n int) {
	left := t.pendingReplies[:0]
	for _, reply := range t.pendingReplies {
		if reply.decision >= n {
			reply.decision -= n
			left = append(left, reply)
			continue
		}
		d := &t.queuedDecisions[reply.decision]
		d.Reply = reply.typ.AppendJSON(nil, s.view.RefsInFrame(t.client.Number, reply.typ, reply.value))
		if remembered := &t.remembered[d.Seq%rememberedDecisions]; remembered.Seq == d.Seq {
			remembered.Reply = d.Reply
		}
	}
	t.pendingReplies = left
}
