// Package observe describes a session for those who look at it from outside: what the server holds, what each client is
// known to hold, what was decided and told, and what was sent. It knows neither who looks nor how they are told.
//
// An Observer follows one session. Its owner, who also ticks the session, tells it of each tick, of what clients have
// confirmed and of their comings and goings. While it follows, Sheet and Tick return messages of package api; before
// that it keeps only the last decisions, events, and when clients had them.
package observe

import (
	"encoding/json"
	"log/slog"
	"slices"

	"kamerad.example/api"
	"kamerad.example/core/replicate"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

const (
	recentDecisions = 50
	maxUnconfirmed  = 2000 // frames kept for a client that confirms nothing; over it the oldest count as confirmed
)

// Observer follows a session. It belongs to the goroutine that ticks the session.
type Observer struct {
	session *session.Session
	// Describe, if it is set, adds to a client what only the session's owner knows of it.
	Describe func(c *api.WatchClient)
	// Tamper, if it is set, stands between a client and the frames that it is taken to have got; for tests.
	Tamper func(client int, f *wire.Frame) *wire.Frame

	mirrors   map[int]*mirror // by the client's number: a copy of what it holds; nil while nobody looks
	decisions []api.Decision  // the newest ones, the newest last
	events    []api.Told      // that were told last, the newest last
	traffic   *traffic        // nil while nobody looks
	arrivals  arrivals
	logs      []api.LogLine // that clients have sent up since the last tick
	quiet     int           // ticks since there was last anything to tell
}

// New returns the observer of a session that follows nobody yet.
func New(s *session.Session) *Observer {
	return &Observer{session: s, arrivals: arrivals{confirmed: map[int]int64{}}}
}

// mirror follows what one client holds.
type mirror struct {
	reader         *wire.Reader // of the frames that it is sent
	copy           replicate.Copy
	frames         []*wire.Frame // sent and not confirmed
	newlyConfirmed []*wire.Frame // confirmed since the last message
	changed        bool
	confirmed      int64
	toldConfirmed  int64 // the seen that watchers know of
	toldLost       bool  // whether watchers know it to be without a connection
}

// newMirror returns the mirror of a client whose frames a reader reads.
//
// Its copy is looked at only for a sheet, which tells motions and not where they have led to: to compute that for each
// frame took, with 500 entities that move and 30 clients, more than there is of a tick.
func newMirror(r *wire.Reader) *mirror {
	return &mirror{reader: r, copy: replicate.Copy{OmitChanges: true, OmitMotion: true}}
}

// Session returns the session that is observed.
func (o *Observer) Session() *session.Session { return o.session }

// Follows reports whether the observer follows the session's clients.
func (o *Observer) Follows() bool { return o.mirrors != nil }

// Begin follows the session's clients from the next tick on. What was sent to a client until now counts as held once
// its newest tick is confirmed.
func (o *Observer) Begin() {
	o.mirrors = map[int]*mirror{}
	o.traffic = newTraffic(o.session)
	o.session.SetWatched(true)
	for _, c := range o.session.Clients() {
		m := newMirror(o.session.Reader(c.Number))
		o.mirrors[c.Number] = m
		o.traffic.follow(c.Number, m.reader)
		if block, sent := o.session.ClientState(c.Number); block != nil && sent > 0 {
			m.frames = append(m.frames, &wire.Frame{Tick: sent, Snapshot: true, Blocks: []*wire.Block{block}})
			m.confirm(o.session.Seen(c.Number))
			m.newlyConfirmed = nil
		}
	}
}

// End stops following the clients, and gives back what that took.
func (o *Observer) End() {
	o.mirrors = nil
	o.traffic = nil
	o.session.SetWatched(false)
}

// Sheet returns a message with everything but the session itself, as it is between two ticks. The observer has to
// follow the clients.
func (o *Observer) Sheet() api.Watch {
	sheet := api.Watch{
		Type:    api.WatchSheet,
		Outline: o.session.Contract().FullOutline(),
		Tick:    o.session.Now(),
		Server: (&wire.Frame{
			Tick:     o.session.Now(),
			Snapshot: true,
			Blocks:   []*wire.Block{o.session.ServerState()},
		}).AppendJSON(nil),
		Decisions: nonNil(o.decisions),
		Told:      nonNil(o.events),
		Arrivals:  o.arrivals.describe(),
	}
	for _, c := range o.session.Clients() {
		wc := o.client(c)
		if m := o.mirrors[c.Number]; m != nil {
			frame := &wire.Frame{Tick: m.copy.Tick, Snapshot: true, Blocks: []*wire.Block{m.copy.Snapshot()}}
			wc.Frames = []json.RawMessage{frame.AppendJSON(nil)}
		}
		sheet.Clients = append(sheet.Clients, wc)
	}
	sheet.Clients = nonNil(sheet.Clients)
	return sheet
}

// Joined notes that a client has joined before the next tick.
func (o *Observer) Joined(client int) { o.arrivals.join(client, o.session.Now()) }

// Left notes that a client has left.
func (o *Observer) Left(client int) { o.arrivals.leave(client) }

// maxLogs is how many lines of clients are told of one tick; those over it are dropped.
const maxLogs = 200

// Logged notes a line that a client has sent up; seen is the tick that its copy was at.
func (o *Observer) Logged(client int, seen int64, text string) {
	if o.mirrors != nil && len(o.logs) < maxLogs {
		line := api.LogLine{Tick: o.session.Now() + 1, Side: client, Seen: seen, Text: text}
		o.logs = append(o.logs, line)
	}
}

// Received counts a message of a client, of so many bytes.
func (o *Observer) Received(client int, item wire.UsageItem, bytes int) {
	if o.traffic != nil {
		o.traffic.received(client, item, bytes)
	}
}

// nonNil returns an empty list for nil, for JSON.
func nonNil[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// client describes one client, without its frames.
func (o *Observer) client(c wire.Client) api.WatchClient {
	sent := o.session.LastFrame(c.Number)
	out := api.WatchClient{
		Client:      c,
		Differences: o.session.Differences(c.Number),
		Seen:        o.session.Seen(c.Number),
		Sent:        sent,
	}
	if m := o.mirrors[c.Number]; m != nil {
		out.Seen = max(out.Seen, m.confirmed)
		if len(m.frames) > 0 {
			out.Waits = m.frames[0].Tick
		}
	}
	if o.session.IsLost(c.Number) {
		out.Lost = true
		if out.Waits == 0 {
			out.Waits = sent + 1
		}
	}
	if waiting, isMetered := o.session.Waiting(c.Number); isMetered {
		out.Bytes = &api.Bytes{Limit: waiting.Limit, Sent: waiting.Bytes, Waiting: waiting.Entities}
		if since := o.session.Now() - waiting.Ticks + 1; waiting.Ticks > 0 && (out.Waits == 0 || since < out.Waits) {
			out.Waits = since
		}
	}
	if o.Describe != nil {
		o.Describe(&out)
	}
	return out
}

// confirm makes the frames up to a tick part of what the client holds.
func (m *mirror) confirm(seen int64) {
	m.confirmed = max(m.confirmed, seen)
	n := 0
	for n < len(m.frames) && m.frames[n].Tick <= m.confirmed {
		m.copy.Apply(m.frames[n])
		n++
	}
	m.newlyConfirmed = append(m.newlyConfirmed, m.frames[:n]...)
	m.frames = slices.Delete(m.frames, 0, n)
}

// Confirmed notes that a client has confirmed a tick.
func (o *Observer) Confirmed(client int) { o.Holds(client, o.session.Seen(client)) }

// Holds notes that a client holds what it was sent up to a tick, which may be that of the step that Tick is told of
// next.
func (o *Observer) Holds(client int, tick int64) {
	o.arrivals.confirm(client, tick, o.session.Now())
	if m := o.mirrors[client]; m != nil {
		m.confirm(tick)
	}
}

// Tick takes in what a tick did, and returns what there is to tell of it; nil when that is nothing. Nothing new is told
// once a second only, for the tick. Faults are left to the session's owner, who says with failed that there were some.
func (o *Observer) Tick(step *session.Step, failed bool) *api.Watch {
	for _, d := range step.Decisions {
		o.decisions = append(o.decisions, decisionOf(d))
	}
	for _, t := range step.Events {
		o.events = append(o.events, api.Told{Tick: step.Tick, Event: t.Event.JSON(), Clients: t.Clients})
	}
	if len(step.Decisions) > 0 {
		o.arrivals.decide(step.Tick)
	}
	fresh := len(step.Decisions)
	freshTold := len(step.Events)
	o.decisions = keepLast(o.decisions, max(recentDecisions, fresh))
	o.events = keepLast(o.events, max(recentDecisions, freshTold))
	if o.mirrors == nil {
		return nil
	}
	msg := api.Watch{
		Type:      api.WatchTick,
		Tick:      step.Tick,
		Decisions: nonNil(slices.Clone(o.decisions[len(o.decisions)-fresh:])),
		Told:      nonNil(slices.Clone(o.events[len(o.events)-freshTold:])),
	}
	for _, x := range step.Refused {
		msg.Refused = append(msg.Refused, api.Refused{
			Tick:     step.Tick,
			Client:   x.Client,
			Type:     x.Type,
			Property: x.Property,
			Outcome:  x.Outcome,
			Reason:   x.Reason,
		})
	}
	for _, l := range step.Logs {
		msg.Logs = append(msg.Logs, api.LogLine{Tick: step.Tick, Text: l.Text, Clients: l.Clients})
	}
	msg.Logs = append(msg.Logs, o.logs...)
	o.logs = nil
	if !step.ServerState.Empty() {
		msg.Server = (&wire.Frame{Tick: step.Tick, Blocks: []*wire.Block{step.ServerState}}).AppendJSON(nil)
		msg.Left = step.ServerState.Left
	}
	o.follow(step)
	for _, n := range msg.Left {
		delete(o.mirrors, n)
	}
	msg.Clients = o.changedClients()
	if step.Tick%int64(o.session.Contract().TickRate) == 0 {
		msg.Traffic = o.traffic.take(step.Tick, o.mirrors)
	}
	if msg.Server == nil && msg.Traffic == nil && !failed &&
		len(msg.Clients)+len(msg.Decisions)+len(msg.Told)+len(msg.Refused)+len(msg.Logs) == 0 {
		o.quiet++
		if o.quiet < o.session.Contract().TickRate {
			return nil
		}
	}
	o.quiet = 0
	return &msg
}

// follow puts the frames of a tick into the mirrors of the clients that are sent them.
func (o *Observer) follow(step *session.Step) {
	for _, sent := range step.Frames {
		m := o.mirrors[sent.Client]
		if m == nil {
			m = newMirror(o.session.Reader(0))
			o.mirrors[sent.Client] = m
			o.traffic.follow(sent.Client, m.reader)
		}
		// A frame's state alone: who watches gets decisions and events apart.
		f, err := m.reader.Read(sent.Bytes)
		if err != nil { // the service wrote it itself
			slog.Error("a frame cannot be read", "client", sent.Client, "error", err)
			continue
		}
		o.traffic.sent(sent.Client, len(sent.Bytes))
		if o.Tamper != nil {
			f = o.Tamper(sent.Client, f)
		}
		m.frames = append(m.frames, &wire.Frame{Tick: f.Tick, Snapshot: f.Snapshot, Blocks: f.Blocks})
		if len(m.frames) > maxUnconfirmed {
			m.confirm(m.frames[0].Tick)
		}
		m.confirm(m.confirmed)
		m.changed = true
	}
}

// changedClients describes the clients of which there is something new: they were sent something, or have confirmed it.
func (o *Observer) changedClients() []api.WatchClient {
	out := []api.WatchClient{}
	for _, c := range o.session.Clients() {
		m := o.mirrors[c.Number]
		isLost := o.session.IsLost(c.Number)
		if m == nil || !m.changed && len(m.newlyConfirmed) == 0 && m.toldConfirmed == m.confirmed &&
			m.toldLost == isLost {
			continue
		}
		m.toldLost = isLost
		wc := o.client(c)
		for _, f := range m.newlyConfirmed {
			wc.Frames = append(wc.Frames, f.AppendJSON(nil))
		}
		m.newlyConfirmed = nil
		m.changed = false
		m.toldConfirmed = m.confirmed
		out = append(out, wc)
	}
	return out
}

// keepLast returns the last n items of a list.
func keepLast[T any](list []T, n int) []T {
	if len(list) > n {
		return append(list[:0:0], list[len(list)-n:]...)
	}
	return list
}

// decisionOf returns a decision as the API gives it.
func decisionOf(d session.Decision) api.Decision {
	out := api.Decision{
		Tick:      d.Tick,
		Client:    d.Client,
		Seq:       d.Ask.Seq,
		Request:   d.Ask.Request,
		Entity:    d.Entity,
		Owner:     d.Owner,
		Args:      Arguments(d.Ask.Args),
		Outcome:   d.Outcome,
		Stage:     d.Stage,
		Reason:    d.Reason,
		CheckText: d.Text,
		Line:      d.Line,
		Changes:   []api.Change{},
		Told:      nonNil(d.Events),
		Reply:     d.Reply,
	}
	for _, c := range d.Checks {
		check := api.DecisionCheck{Text: c.Check.Text, Line: c.Check.Line, Result: string(c.Result)}
		for _, v := range c.Values {
			check.Values = append(check.Values, api.DecisionValue{
				Name: v.Name, Value: v.Type.AppendJSON(nil, v.Value), Words: v.Type.Format(v.Value),
			})
		}
		out.Checks = append(out.Checks, check)
	}
	for _, c := range d.Changes {
		out.Changes = append(out.Changes, api.Change{
			Entity:   c.Entity,
			Kind:     c.Kind,
			Owner:    c.Owner,
			Property: c.Property,
			Old:      c.Type.AppendJSON(nil, c.Old),
			New:      c.Type.AppendJSON(nil, c.New),
		})
	}
	return out
}

// Arguments joins the arguments of a request to one JSON array.
func Arguments(args []json.RawMessage) json.RawMessage {
	if args == nil {
		return json.RawMessage("[]")
	}
	return api.Encode(args)
}
