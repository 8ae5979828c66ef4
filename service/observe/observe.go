// Package observe describes a session for those who look at it from outside: what the server holds, what each client is
// known to hold, what was decided and told, and what was sent. It knows neither who looks nor how they are told.
//
// It has two halves, so that a session pays little for being looked at. An Observer belongs to the goroutine that ticks
// the session: it is told of each tick, of what clients have confirmed and of their comings and goings, and notes each
// tick as a Moment. A Follower reads no session: it takes the moments in their order, on any goroutine, keeps a copy of
// what each client holds, and returns messages of package api. While nobody follows, the Observer keeps only the last
// decisions, events, and when clients had them.
package observe

import (
	"encoding/json"
	"slices"
	"sync"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

const (
	recentDecisions = 50
	maxUnconfirmed  = 2000 // frames kept for a client that confirms nothing; over it the oldest count as confirmed
	maxLogs         = 200  // lines of clients that are told of one tick; those over it are dropped

	// maxReceived is how many messages of clients are noted one by one. A session that is paused does not tick, and its
	// clients go on sending: what they send beyond that is added up.
	maxReceived = 1 << 14
)

// Observer notes what a session does. It belongs to the goroutine that ticks the session.
type Observer struct {
	session *session.Session
	// IsTest, if it is set, reports whether a client was opened by who looks.
	IsTest func(client int) bool

	follows   bool
	decisions []api.Decision // the newest ones, the newest last
	events    []api.Told     // that were told last, the newest last
	arrivals  arrivals
	held      map[int]int64     // by client: what Holds said of it
	received  []receivedMessage // since the last tick
	addUpAt   int               // how many there may be of these before they are added up
	logs      []api.LogLine     // that clients have sent up since the last tick
}

// New returns the observer of a session that nobody follows yet.
func New(s *session.Session) *Observer {
	return &Observer{session: s, arrivals: arrivals{confirmed: map[int]int64{}}, held: map[int]int64{}}
}

// Moment is what a tick did, or, for a sheet, how a session stands between two ticks. It shares nothing with the
// session. Faults and Load are left to who made the tick.
type Moment struct {
	Faults *api.Faults
	Load   *api.Load

	tick      int64
	failed    bool
	decisions []api.Decision
	told      []api.Told
	refused   []api.Refused
	logs      []api.LogLine
	server    *wire.Block
	clients   []clientState
	received  []receivedMessage
	frames    []sentFrame
	memory    *[]byte // in which the frames stand
	arrivals  []api.Arrivals
}

// clientState is how a client stands.
type clientState struct {
	client       wire.Client
	test, isLost bool
	differences  int
	confirmed    int64 // the tick that it holds
	sent         int64 // the tick of its last frame
	bytes        *api.Bytes
	waitsSince   int64 // the oldest tick of which it was not sent everything for want of bytes; 0 for none
}

// receivedMessage is a message that a client has sent, or several of one sort.
type receivedMessage struct {
	sort   messageSort
	amount wire.Amount
	header int64 // bits of what WebSocket adds
}

// messageSort is whose messages of what sort are counted together.
type messageSort struct {
	client int
	item   wire.UsageItem
}

// addedUp returns messages with those of one sort as one.
func addedUp(list []receivedMessage) []receivedMessage {
	index := map[messageSort]int{}
	out := list[:0]
	for _, m := range list {
		at, isThere := index[m.sort]
		if !isThere {
			index[m.sort] = len(out)
			out = append(out, m)
			continue
		}
		out[at].amount.Bits += m.amount.Bits
		out[at].amount.Count += m.amount.Count
		out[at].header += m.header
	}
	return out
}

// sentFrame is a frame that was sent to a client: its bytes in a moment's memory.
type sentFrame struct {
	client, begin, end int
}

// frameMemory is the memory of moments that are done.
var frameMemory = sync.Pool{New: func() any { return new([]byte) }}

// Size returns about how many bytes the moment holds.
func (m *Moment) Size() int {
	if m.memory == nil {
		return 0
	}
	return len(*m.memory)
}

// done gives the moment's memory back; its frames cannot be read any more.
func (m *Moment) done() {
	if m.memory != nil {
		frameMemory.Put(m.memory)
		m.memory = nil
		m.frames = nil
	}
}

// Session returns the session that is observed.
func (o *Observer) Session() *session.Session { return o.session }

// Follows reports whether ticks are noted.
func (o *Observer) Follows() bool { return o.follows }

// Begin notes the session's ticks from the next one on, for the Follower that it returns. What was sent to a client
// until now counts as held once its newest tick is confirmed.
func (o *Observer) Begin() *Follower {
	o.follows = true
	o.received = nil
	o.addUpAt = maxReceived
	o.logs = nil
	o.session.SetWatched(true)
	f := &Follower{
		contract: o.session.Contract(),
		layout:   o.session.Layout(),
		mirrors:  map[int]*mirror{},
		traffic:  newTraffic(o.session),
	}
	for _, c := range o.session.Clients() {
		m := f.addMirror(c.Number, o.session.Reader(c.Number))
		if block, sent := o.session.ClientState(c.Number); block != nil && sent > 0 {
			m.frames = append(m.frames, &wire.Frame{Tick: sent, Snapshot: true, Blocks: []*wire.Block{block}})
			m.confirm(o.session.Seen(c.Number))
			m.newlyConfirmed = nil
		}
	}
	return f
}

// End ends what Begin began.
func (o *Observer) End() {
	if !o.follows {
		return
	}
	o.follows = false
	o.received = nil
	o.logs = nil
	o.session.SetWatched(false)
}

// Now returns the moment between two ticks, for Follower.Sheet.
func (o *Observer) Now() *Moment {
	return &Moment{
		tick:      o.session.Now(),
		decisions: slices.Clone(o.decisions),
		told:      slices.Clone(o.events),
		server:    o.session.ServerState(),
		clients:   o.clientStates(),
		arrivals:  o.arrivals.describe(),
	}
}

// Joined notes that a client has joined before the next tick.
func (o *Observer) Joined(client int) { o.arrivals.join(client, o.session.Now()) }

// Left notes that a client has left.
func (o *Observer) Left(client int) {
	o.arrivals.leave(client)
	delete(o.held, client)
}

// Logged notes a line that a client has sent up; seen is the tick that its copy was at.
func (o *Observer) Logged(client int, seen int64, text string) {
	if o.follows && len(o.logs) < maxLogs {
		line := api.LogLine{Tick: o.session.Now() + 1, Side: client, Seen: seen, Text: text}
		o.logs = append(o.logs, line)
	}
}

// Received notes a message of a client, of so many bytes.
func (o *Observer) Received(client int, item wire.UsageItem, bytes int) {
	if !o.follows {
		return
	}
	if len(o.received) >= o.addUpAt {
		o.received = addedUp(o.received)
		o.addUpAt = max(maxReceived, 2*len(o.received))
	}
	o.received = append(o.received, receivedMessage{
		sort:   messageSort{client, item},
		amount: wire.Amount{Bits: int64(bytes) * 8, Count: 1},
		// What a client sends is masked, with a key of four bytes (RFC 6455, 5.3).
		header: int64(socketHeader(bytes)+4) * 8,
	})
}

// Confirmed notes that a client has confirmed a tick.
func (o *Observer) Confirmed(client int) {
	o.arrivals.confirm(client, o.session.Seen(client), o.session.Now())
}

// Holds notes that a client holds what it was sent up to a tick, also where it has not confirmed that. The tick may be
// that of the step that Tick is told of next.
func (o *Observer) Holds(client int, tick int64) {
	o.arrivals.confirm(client, tick, o.session.Now())
	o.held[client] = tick
}

// Tick notes what a tick did; failed says that something failed in it. It returns nil while nobody follows.
func (o *Observer) Tick(step *session.Step, failed bool) *Moment {
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
	if !o.follows {
		return nil
	}
	m := &Moment{
		tick:      step.Tick,
		failed:    failed,
		decisions: slices.Clone(o.decisions[len(o.decisions)-fresh:]),
		told:      slices.Clone(o.events[len(o.events)-freshTold:]),
		server:    step.ServerState,
		clients:   o.clientStates(),
		received:  o.received,
	}
	o.received = make([]receivedMessage, 0, min(cap(o.received), maxReceived))
	o.addUpAt = maxReceived
	m.noteRefused(step)
	m.noteLogs(step, o.logs)
	o.logs = nil
	m.noteFrames(step.Frames)
	return m
}

// noteRefused notes the writes and holds that were not carried out.
func (m *Moment) noteRefused(step *session.Step) {
	for _, x := range step.Refused {
		m.refused = append(m.refused, api.Refused{
			Tick:     step.Tick,
			Client:   x.Client,
			Type:     x.Type,
			Property: x.Property,
			Outcome:  x.Outcome,
			Reason:   x.Reason,
		})
	}
}

// noteLogs notes what the contract has logged, and then the lines of clients.
func (m *Moment) noteLogs(step *session.Step, clients []api.LogLine) {
	for _, l := range step.Logs {
		m.logs = append(m.logs, api.LogLine{Tick: step.Tick, Text: l.Text, Clients: slices.Clone(l.Clients)})
	}
	m.logs = append(m.logs, clients...)
}

// noteFrames notes what clients were sent. The frames' own memory is written again with the next tick.
func (m *Moment) noteFrames(frames []session.ClientFrame) {
	if len(frames) == 0 {
		return
	}
	m.memory = frameMemory.Get().(*[]byte)
	m.frames = make([]sentFrame, 0, len(frames))
	memory := (*m.memory)[:0]
	for _, f := range frames {
		begin := len(memory)
		memory = append(memory, f.Bytes...)
		m.frames = append(m.frames, sentFrame{f.Client, begin, len(memory)})
	}
	*m.memory = memory
}

// clientStates returns how each client stands.
func (o *Observer) clientStates() []clientState {
	clients := o.session.Clients()
	out := make([]clientState, 0, len(clients))
	for _, c := range clients {
		state := clientState{
			client:      c,
			isLost:      o.session.IsLost(c.Number),
			differences: o.session.Differences(c.Number),
			confirmed:   max(o.held[c.Number], o.session.Seen(c.Number)),
			sent:        o.session.LastFrame(c.Number),
		}
		if o.IsTest != nil {
			state.test = o.IsTest(c.Number)
		}
		if waiting, isMetered := o.session.Waiting(c.Number); isMetered {
			state.bytes = &api.Bytes{Limit: waiting.Limit, Sent: waiting.Bytes, Waiting: waiting.Entities}
			if waiting.Ticks > 0 {
				state.waitsSince = o.session.Now() - waiting.Ticks + 1
			}
		}
		out = append(out, state)
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
