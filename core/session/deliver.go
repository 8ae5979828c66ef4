package session

import (
	"fmt"
	"slices"

	"kamerad/core/wire"
)

// What a client gets stands in two queues. What it holds is state: whatever was missed, a snapshot makes up for.
// Events, decisions and log lines are messages: each is kept until its client has confirmed the frame that it travelled
// in, and travels again when that frame was lost.

// flight is the messages of a frame that its client has not confirmed.
type flight struct {
	tick      int64
	events    []*told
	decisions []wire.Decision
	logs      []string
}

func (f *flight) size() int { return len(f.events) + len(f.decisions) + len(f.logs) }

// confirm forgets what its client has.
func (t *seat) confirm() {
	n := 0
	for n < len(t.flights) && t.flights[n].tick <= t.seen {
		t.flying -= t.flights[n].size()
		n++
	}
	if n > 0 {
		t.flights = slices.Delete(t.flights, 0, n)
	}
}

// land takes back the messages of the frames after a tick: they never arrived, and travel with the next one. What is
// loose is gone.
func (t *seat) land(after int64) {
	from := len(t.flights)
	for from > 0 && t.flights[from-1].tick > after {
		from--
	}
	var events []*told
	var decisions []wire.Decision
	var logs []string
	for _, f := range t.flights[from:] {
		t.flying -= f.size()
		for _, e := range f.events {
			if !e.Event.Loose {
				events = append(events, e)
			}
		}
		decisions = append(decisions, f.decisions...)
		logs = append(logs, f.logs...)
	}
	t.flights = slices.Delete(t.flights, from, len(t.flights))
	t.busy = true
	t.held = append(events, t.held...)
	t.said = append(decisions, t.said...)
	t.logs = append(logs, t.logs...)
}

// waiting counts the messages that the client has not confirmed.
func (t *seat) waiting() int {
	return t.flying + len(t.held) + len(t.events) + len(t.said) + len(t.logs)
}

// Behind says that a client does not take what it is sent, and that frames after the tick written never left. It is
// sent no more until CaughtUp.
func (s *Session) Behind(client int, written int64) {
	if t := s.seats[client]; t != nil && !t.behind {
		t.behind = true
		t.land(written)
	}
}

// CaughtUp says that a client that was behind has taken all that was written. It is sent a snapshot in place of what it
// missed.
func (s *Session) CaughtUp(client int) {
	if t := s.seats[client]; t != nil && t.behind {
		t.behind = false
		if t.joined {
			s.view.Resync(client)
		}
	}
}

// Received gives the highest number that a client has given to anything that it sent.
func (s *Session) Received(client int) uint64 {
	if t := s.seats[client]; t != nil {
		return t.received
	}
	return 0
}

// warmed is how many entities and clients are read ahead.
const warmed = 16

// frames cuts the frame of each client. One that gets nothing new hears from the server once a second all the same, and
// once a second a frame carries the digest of what its client should hold.
func (s *Session) frames(step *Step) {
	s.view.EndTick()
	s.arena = s.arena[:0]
	second := int64(s.contract.TickRate)
	for i, t := range s.order {
		if i%warmed == 0 {
			for _, t := range s.order[i:min(i+warmed, len(s.order))] {
				s.warmth += t.sent + int64(t.flying)
			}
			s.view.PrefetchClients(warmed)
		}
		t.asked = 0
		t.decided = 0
		if !t.joined {
			continue
		}
		n := t.client.Number
		waits := t.lost || t.behind || s.view.WaitsForSnapshot(n)
		if t.busy && !s.gather(t, step) {
			continue
		}
		if !waits {
			s.frame(t, step, second)
		}
	}
	s.view.AcceptFrames()
	step.Memory = s.arena
}

// gather brings together what messages there are for a client, and tells whether it is still to be sent anything.
func (s *Session) gather(t *seat, step *Step) bool {
	n := t.client.Number
	s.reply(t)
	if t.waiting() > MaxHeld {
		step.Cuts = append(
			step.Cuts,
			Cut{n, fmt.Sprintf("more than %d events, decisions and log lines waited for this client", MaxHeld)},
		)
		s.Leave(n)
		return false
	}
	if t.cut != "" {
		step.Cuts = append(step.Cuts, Cut{n, t.cut})
		s.Leave(n)
	}
	if len(t.events) > 0 {
		t.held = append(t.held, t.events...)
		t.events = t.events[:0]
	}
	t.busy = len(t.held)+len(t.said)+len(t.logs) > 0
	return true
}

// frame cuts the frame of one client, if there is anything to tell.
func (s *Session) frame(t *seat, step *Step, second int64) {
	n := t.client.Number
	parts := &s.parts
	parts.Tick = s.tick
	parts.Last = t.sent
	parts.Settled = s.settled
	parts.WasSettled = t.settled
	parts.HasDigest = false
	var sent flight
	parts.Events = parts.Events[:0]
	parts.Decisions = nil
	parts.Logs = nil
	if t.busy {
		sent.tick = s.tick
		sent.decisions = t.said
		sent.logs = t.logs
		parts.Decisions = t.said
		parts.Logs = t.logs
		if t.ready {
			sent.events = t.held
			t.held = nil
		}
		for _, e := range sent.events {
			parts.Events = append(parts.Events, s.packed(e, n))
		}
	}
	news := s.view.FrameParts(n, parts)
	if !news && sent.size() == 0 && s.tick-t.sent < second {
		return
	}
	if parts.Snapshot || s.prove || s.tick-t.proven >= second {
		parts.HasDigest, parts.Digest = true, s.view.Digest(n)
		t.proven = s.tick
	}
	if sent.size() > 0 {
		t.flights, t.flying = append(t.flights, sent), t.flying+sent.size()
		t.said = nil
		t.logs = nil
		t.busy = len(t.held) > 0
	}
	t.sent = s.tick
	t.settled = s.settled
	from := len(s.arena)
	s.arena = parts.Append(append(s.arena, s.empty...))
	whole := s.arena[from:len(s.arena):len(s.arena)]
	step.Frames = append(step.Frames, ClientFrame{n, whole[len(s.empty):], whole})
}

// reply puts what requests of this tick reply into numbers that their client knows.
func (s *Session) reply(t *seat) {
	for _, r := range t.replies {
		d := &t.said[r.at]
		d.Reply = r.typ.AppendJSON(nil, s.view.RefsInFrame(t.client.Number, r.typ, r.value))
		if kept := &t.first[d.Seq%rememberAsk]; kept.Seq == d.Seq {
			kept.Reply = d.Reply
		}
	}
	t.replies = t.replies[:0]
}
