package runner

import (
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync"
	"sync/atomic"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/service/observe"
)

const (
	maxWatchers = 32
	watchQueue  = 256 // messages that wait for a watcher's connection

	// What may wait for being described, in moments and in bytes of frames. A session that sends more than a processor
	// can describe is not slowed down: those who watch it are sent away.
	maxMoments     = 64
	maxMomentBytes = 64 << 20
)

// Watcher is one who watches a session. One that falls behind is sent away and comes back for a fresh sheet.
type Watcher struct {
	out    chan []byte
	inside bool // it is told what no client may know
	end    chan struct{}
	ended  sync.Once
	why    string // set before end is closed
}

// finish ends the watcher and says why, once.
func (w *Watcher) finish(why string) {
	w.ended.Do(func() {
		w.why = why
		close(w.end)
	})
}

// Messages returns what the watcher is told: api.Watch as JSON.
func (w *Watcher) Messages() <-chan []byte { return w.out }

// Ended is closed when nothing more comes; Why then says why.
func (w *Watcher) Ended() <-chan struct{} { return w.end }

// Why says why nothing more comes, once Ended is closed.
func (w *Watcher) Why() string { return w.why }

// Watch lets somebody watch the session until Unwatch. inside says that it is told what no client may know: seeds, what
// is nobody's, and the values that checks saw. The error of one who may not watch is a *Refusal.
func (r *Runner) Watch(ctx context.Context, inside bool) (w *Watcher, err error) {
	var refused error
	if err := r.Do(ctx, func() { w, refused = r.watchers.add(r, inside) }); err != nil {
		return nil, err
	}
	return w, refused
}

// Unwatch ends a watcher. It does not wait.
func (r *Runner) Unwatch(w *Watcher) {
	w.finish("")
	r.Post(func() { r.watchers.remove(w) })
}

// watchers are those who look at a session from outside. They belong to the runner's goroutine, which only notes what
// they are to be told: a describer says it.
type watchers struct {
	list      map[*Watcher]struct{}
	observer  *observe.Observer
	describer *describer // nil while nobody watches
}

// end tells all watchers why they get nothing more, after what they are still to be told.
func (w *watchers) end(why string) {
	clear(w.list)
	if w.describer == nil {
		return
	}
	w.observer.End()
	w.describer.end(why)
	w.describer = nil
}

// remove forgets a watcher that has ended.
func (w *watchers) remove(x *Watcher) {
	if _, in := w.list[x]; !in {
		return
	}
	delete(w.list, x)
	if len(w.list) == 0 {
		w.end("")
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
func (w *watchers) add(r *Runner, inside bool) (*Watcher, error) {
	if len(w.list) >= maxWatchers {
		return nil, &Refusal{Detail: fmt.Sprintf("%d watch this session already", maxWatchers)}
	}
	if why := w.tooMuch(r); why != "" {
		return nil, &Refusal{Detail: why}
	}
	if w.describer == nil {
		w.describer = newDescriber(r.row.ID, w.observer.Begin())
		go w.describer.run()
	}
	x := &Watcher{out: make(chan []byte, watchQueue), end: make(chan struct{}), inside: inside}
	session := r.Describe()
	if !w.describer.hand(momentFor{moment: w.observer.Now(), watcher: x, session: &session}) {
		w.end(tooSlow)
		return nil, &Refusal{Detail: "the session is too busy to be watched now; try again"}
	}
	w.list[x] = struct{}{}
	return x, nil
}

// tooSlow says why somebody is sent away who cannot be told all that happens as it happens.
const tooSlow = "too slow: watch again for a fresh sheet"

// tick has the watchers told what a tick did. failed says that something failed inside.
func (w *watchers) tick(r *Runner, step *session.Step, failed bool) {
	if len(w.list) > 0 {
		if why := w.tooMuch(r); why != "" {
			w.end(why)
		}
	}
	moment := w.observer.Tick(step, failed)
	if moment == nil {
		return
	}
	if failed {
		moment.Faults = r.faults.Summary()
	}
	if step.Tick%int64(r.session.Contract().TickRate) == 0 {
		moment.Load = r.load.take(r)
	}
	if !w.describer.hand(momentFor{moment: moment}) {
		w.end(tooSlow)
	}
}

// describer tells watchers of a session's moments, on a goroutine of its own: to read the frames of all clients, and to
// write what they say as JSON, takes many times as long as to make them.
type describer struct {
	session  int64 // its number
	follower *observe.Follower
	moments  chan momentFor
	bytes    atomic.Int64 // of the moments that wait
	why      string       // the watchers get nothing more; set before moments is closed
}

// momentFor is a moment that all watchers are told of or, with the session as it stood then, the first of a new one.
type momentFor struct {
	moment  *observe.Moment
	watcher *Watcher
	session *api.Session
}

// newDescriber returns the describer of a session, which does nothing before it runs.
func newDescriber(session int64, f *observe.Follower) *describer {
	return &describer{session: session, follower: f, moments: make(chan momentFor, maxMoments)}
}

// hand gives the describer a moment, and reports whether it takes it: it does not while too much waits.
func (d *describer) hand(m momentFor) bool {
	size := int64(m.moment.Size())
	if waits := d.bytes.Load(); waits > 0 && waits+size > maxMomentBytes {
		return false
	}
	d.bytes.Add(size)
	select {
	case d.moments <- m:
		return true
	default:
		d.bytes.Add(-size)
		return false
	}
}

// end has the describer tell what waits, and then why there is nothing more.
func (d *describer) end(why string) {
	d.why = why
	close(d.moments)
}

// run tells of moments until end.
func (d *describer) run() {
	watchers := map[*Watcher]struct{}{}
	defer func() {
		if p := recover(); p != nil {
			slog.Error(
				"a session cannot be described", "session", d.session, "panic", p, "stack", string(debug.Stack()),
			)
			for w := range watchers {
				w.finish(failedToDescribe)
			}
			d.refuse() // until the runner knows that nobody watches any more
			return
		}
		for w := range watchers {
			w.finish(d.why)
		}
	}()
	for m := range d.moments {
		if m.watcher != nil {
			watchers[m.watcher] = struct{}{} // before anything can fail, so that it is told
		}
		Failpoints.Describes.Hit()
		size := int64(m.moment.Size())
		if m.watcher != nil {
			sheet := d.follower.Sheet(m.moment)
			sheet.Session = m.session
			if !m.watcher.inside {
				d.follower.Conceal(&sheet, m.moment)
			}
			tell(m.watcher, api.Encode(sheet))
		} else if msg := d.follower.Tick(m.moment); msg != nil {
			d.tellAll(watchers, msg, m.moment)
		}
		d.bytes.Add(-size)
	}
}

// tellAll tells all watchers what happened, each what it may know. Those that have ended are removed.
func (d *describer) tellAll(watchers map[*Watcher]struct{}, msg *api.Watch, m *observe.Moment) {
	var whole, outside []byte
	for w := range watchers {
		if w.inside && whole == nil {
			whole = api.Encode(msg)
		}
	}
	for w := range watchers {
		raw := whole
		if !w.inside {
			if outside == nil { // msg is of no more use then
				d.follower.Conceal(msg, m)
				outside = api.Encode(msg)
			}
			raw = outside
		}
		if !tell(w, raw) {
			delete(watchers, w)
		}
	}
}

const failedToDescribe = "what happens in this session cannot be told: a failure inside"

// refuse takes moments until end, and sends away who would watch.
func (d *describer) refuse() {
	for m := range d.moments {
		d.bytes.Add(-int64(m.moment.Size()))
		if m.watcher != nil {
			m.watcher.finish(failedToDescribe)
		}
	}
}

// tell tells a watcher something, and reports whether it is to be told more.
func tell(w *Watcher, raw []byte) bool {
	select {
	case <-w.end:
		return false
	default:
	}
	select {
	case w.out <- raw:
		return true
	default:
		w.finish(tooSlow)
		return false
	}
}
