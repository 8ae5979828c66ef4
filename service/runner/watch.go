package runner

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"

	"kamerad.example/api"
	"kamerad.example/core/replicate"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

const (
	maxWatchers     = 32
	watchQueue      = 256
	recentDecisions = 50
	maxUnconfirmed  = 2000 // frames kept for a client that confirms nothing; over it the oldest count as confirmed
)

// Watcher is one who watches a session. One that falls behind is sent away and comes back for a fresh sheet.
type Watcher struct {
	out chan []byte
	end chan struct{}
	why string
}

// Messages returns what the watcher is told: api.Watch as JSON.
func (w *Watcher) Messages() <-chan []byte { return w.out }

// Ended is closed when nothing more comes; Why then says why.
func (w *Watcher) Ended() <-chan struct{} { return w.end }

// Why says why nothing more comes, once Ended is closed.
func (w *Watcher) Why() string { return w.why }

// Watch lets somebody watch the session until Unwatch. The error of one who may not is a *Refusal.
func (r *Runner) Watch(ctx context.Context) (w *Watcher, err error) {
	var refused error
	if err := r.Do(ctx, func() { w, refused = r.watchers.add(r) }); err != nil {
		return nil, err
	}
	return w, refused
}

// Unwatch ends a watcher. It does not wait.
func (r *Runner) Unwatch(w *Watcher) {
	r.Post(func() { r.watchers.remove(w, "") })
}

// watchers are those who look at a session from outside, and what each client is known to hold: the frames that it was
// sent up to the tick that it has confirmed. That is kept only while somebody watches.
type watchers struct {
	list      map[*Watcher]struct{}
	mirrors   map[int]*mirror // by the client's number: a copy of what it holds
	decisions []api.Decision  // the newest ones, the newest last
	events    []api.Told      // that were told last, the newest last
	traffic   *traffic        // nil while nobody watches
	arrivals  arrivals
	quiet     int           // ticks since the watchers were last sent anything
	watched   func(on bool) // called when the first one comes and the last one goes
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
}

// newWatchers returns a list without watchers; watched is told whether there are any.
func newWatchers(watched func(on bool)) *watchers {
	watched(false)
	return &watchers{
		list:     map[*Watcher]struct{}{},
		watched:  watched,
		arrivals: arrivals{confirmed: map[int]int64{}},
	}
}

// end tells all watchers why they get nothing more.
func (w *watchers) end(reason string) {
	for x := range w.list {
		w.remove(x, reason)
	}
}

// remove ends one watcher and says why.
func (w *watchers) remove(x *Watcher, why string) {
	if _, in := w.list[x]; in {
		delete(w.list, x)
		x.why = why
		close(x.end)
	}
	if len(w.list) == 0 {
		w.mirrors = nil
		w.traffic = nil
		w.watched(false)
	}
}

// mirrorsMost is how many times a session's memory the mirrors of all its clients may take.
const mirrorsMost = 8

// tooMuch says why a session cannot be watched when its clients may hold so much that to follow them all would take too
// much memory; else it returns "".
func (w *watchers) tooMuch(r *Runner) string {
	held, most := r.session.Memory()
	clients := int64(len(r.session.Clients()))
	if held <= mirrorsMost*most/max(clients, 1) {
		return ""
	}
	return fmt.Sprintf(
		"%d clients of a session with %d MB of entities are too much to show side by side", clients, held>>20,
	)
}

// add lets somebody watch from the next tick on, beginning with a sheet of everything.
func (w *watchers) add(r *Runner) (*Watcher, error) {
	if len(w.list) >= maxWatchers {
		return nil, &Refusal{Detail: fmt.Sprintf("%d watch this session already", maxWatchers)}
	}
	if why := w.tooMuch(r); why != "" {
		return nil, &Refusal{Detail: why}
	}
	if len(w.list) == 0 {
		w.mirrors = map[int]*mirror{}
		w.traffic = newTraffic(r.session)
		w.watched(true)
		for _, c := range r.session.Clients() {
			m := &mirror{reader: r.session.Reader(c.Number)}
			w.mirrors[c.Number] = m
			w.traffic.follow(c.Number, m.reader)
			// What was sent until now counts once its newest tick is confirmed.
			if block, sent := r.session.ClientState(c.Number); block != nil && sent > 0 {
				m.frames = append(m.frames, &wire.Frame{Tick: sent, Snapshot: true, Blocks: []*wire.Block{block}})
				m.confirm(r.session.Seen(c.Number))
				m.newlyConfirmed = nil
			}
		}
	}
	x := &Watcher{out: make(chan []byte, watchQueue), end: make(chan struct{})}
	w.list[x] = struct{}{}
	s := r.Describe()
	sheet := api.Watch{
		Type:    api.WatchSheet,
		Session: &s,
		Outline: r.session.Contract().FullOutline(),
		Tick:    r.session.Now(),
		Server: (&wire.Frame{
			Tick:     r.session.Now(),
			Snapshot: true,
			Blocks:   []*wire.Block{r.session.ServerState()},
		}).AppendJSON(
			nil,
		),
		Decisions: nonNil(w.decisions),
		Told:      nonNil(w.events),
		Arrivals:  w.arrivals.describe(),
	}
	for _, c := range r.session.Clients() {
		wc := w.client(r, c)
		if m := w.mirrors[c.Number]; m != nil {
			frame := &wire.Frame{Tick: m.copy.Tick, Snapshot: true, Blocks: []*wire.Block{m.copy.Snapshot()}}
			wc.Frames = []json.RawMessage{frame.AppendJSON(nil)}
		}
		sheet.Clients = append(sheet.Clients, wc)
	}
	sheet.Clients = nonNil(sheet.Clients)
	x.out <- api.Encode(sheet)
	return x, nil
}

// nonNil returns an empty list for nil, for JSON.
func nonNil[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// client describes one client, without its frames.
func (w *watchers) client(r *Runner, c wire.Client) api.WatchClient {
	_, sent := r.session.ClientState(c.Number)
	out := api.WatchClient{
		Client:      c,
		Differences: r.session.Differences(c.Number),
		Seen:        r.session.Seen(c.Number),
		Sent:        sent,
	}
	if m := w.mirrors[c.Number]; m != nil && len(m.frames) > 0 {
		out.Waits = m.frames[0].Tick
	}
	if waiting, isMetered := r.session.Waiting(c.Number); isMetered {
		out.Bytes = &api.Bytes{Limit: waiting.Limit, Sent: waiting.Bytes, Waiting: waiting.Entities}
		if since := r.session.Now() - waiting.Ticks + 1; waiting.Ticks > 0 && (out.Waits == 0 || since < out.Waits) {
			out.Waits = since
		}
	}
	if s := r.seats[c.Number]; s != nil {
		out.Test = s.test && s.state.connected()
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

// confirmed notes that a client has confirmed a tick.
func (w *watchers) confirmed(r *Runner, n int) {
	seen := r.session.Seen(n)
	w.arrivals.confirm(n, seen, r.session.Now())
	if m := w.mirrors[n]; m != nil {
		m.confirm(seen)
	}
}

// tick tells the watchers what a tick did. failed says that something failed inside.
func (w *watchers) tick(r *Runner, step *session.Step, failed bool) {
	for _, d := range step.Decisions {
		w.decisions = append(w.decisions, decisionOf(d))
	}
	for _, t := range step.Events {
		w.events = append(w.events, api.Told{Tick: step.Tick, Event: t.Event.JSON(), Clients: t.Clients})
	}
	if len(step.Decisions) > 0 {
		w.arrivals.decide(step.Tick)
	}
	fresh := len(step.Decisions)
	freshTold := len(step.Events)
	w.decisions = keepLast(w.decisions, max(recentDecisions, fresh))
	w.events = keepLast(w.events, max(recentDecisions, freshTold))
	if len(w.list) == 0 {
		return
	}
	if why := w.tooMuch(r); why != "" {
		w.end(why)
		return
	}
	msg := api.Watch{
		Type:      api.WatchTick,
		Tick:      step.Tick,
		Decisions: nonNil(slices.Clone(w.decisions[len(w.decisions)-fresh:])),
		Told:      nonNil(slices.Clone(w.events[len(w.events)-freshTold:])),
	}
	if failed {
		msg.Faults = r.faults.summary()
	}
	if !step.ServerState.Empty() {
		msg.Server = (&wire.Frame{Tick: step.Tick, Blocks: []*wire.Block{step.ServerState}}).AppendJSON(nil)
		msg.Left = step.ServerState.Left
	}
	w.follow(r, step)
	for _, n := range msg.Left {
		delete(w.mirrors, n)
	}
	msg.Clients = w.changedClients(r)
	if step.Tick%int64(r.session.Contract().TickRate) == 0 {
		msg.Traffic = w.traffic.take(step.Tick, w.mirrors)
	}
	// Nothing new is told once a second only, for the tick.
	if msg.Server == nil && msg.Faults == nil && msg.Traffic == nil && len(msg.Clients)+len(msg.Decisions)+len(msg.Told) == 0 {
		w.quiet++
		if w.quiet < r.session.Contract().TickRate {
			return
		}
	}
	w.quiet = 0
	raw := api.Encode(msg)
	for x := range w.list {
		select {
		case x.out <- raw:
		default:
			w.remove(x, "too slow: watch again for a fresh sheet")
		}
	}
}

// follow puts the frames of a tick into the mirrors of the clients that are sent them.
func (w *watchers) follow(r *Runner, step *session.Step) {
	for _, sent := range step.Frames {
		m := w.mirrors[sent.Client]
		if m == nil {
			m = &mirror{reader: r.session.Reader(0)}
			w.mirrors[sent.Client] = m
			w.traffic.follow(sent.Client, m.reader)
		}
		// A frame's state alone: who watches gets decisions and events apart.
		f, err := m.reader.Read(sent.Bytes)
		if err != nil { // the service wrote it itself
			slog.Error("a frame cannot be read", "session", r.row.ID, "client", sent.Client, "error", err)
			continue
		}
		w.traffic.sent(sent.Client, len(sent.Bytes))
		m.frames = append(m.frames, &wire.Frame{Tick: f.Tick, Snapshot: f.Snapshot, Blocks: f.Blocks})
		if len(m.frames) > maxUnconfirmed {
			m.confirm(m.frames[0].Tick)
		}
		m.changed = true
	}
}

// changedClients describes the clients of which there is something new: they were sent something, or have confirmed it.
func (w *watchers) changedClients(r *Runner) []api.WatchClient {
	out := []api.WatchClient{}
	for _, c := range r.session.Clients() {
		m := w.mirrors[c.Number]
		if m == nil || !m.changed && len(m.newlyConfirmed) == 0 && m.toldConfirmed == m.confirmed {
			continue
		}
		wc := w.client(r, c)
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
		Args:      rawArgs(d.Ask.Args),
		Outcome:   d.Outcome,
		Stage:     d.Stage,
		Reason:    d.Reason,
		CheckText: d.Text,
		Line:      d.Line,
		Changes:   []api.Change{},
		Told:      nonNil(d.Events),
		Reply:     d.Reply,
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
