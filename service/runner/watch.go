package runner

import (
	"context"
	"fmt"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/service/observe"
)

const (
	maxWatchers = 32
	watchQueue  = 256
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

// watchers are those who look at a session from outside.
type watchers struct {
	list     map[*Watcher]struct{}
	observer *observe.Observer // follows the session while somebody watches
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
	if len(w.list) == 0 && w.observer.Follows() {
		w.observer.End()
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
		w.observer.Begin()
	}
	x := &Watcher{out: make(chan []byte, watchQueue), end: make(chan struct{})}
	w.list[x] = struct{}{}
	sheet := w.observer.Sheet()
	s := r.Describe()
	sheet.Session = &s
	x.out <- api.Encode(sheet)
	return x, nil
}

// tick tells the watchers what a tick did. failed says that something failed inside.
func (w *watchers) tick(r *Runner, step *session.Step, failed bool) {
	if len(w.list) > 0 {
		if why := w.tooMuch(r); why != "" {
			w.end(why)
		}
	}
	msg := w.observer.Tick(step, failed)
	if msg == nil {
		return
	}
	if failed {
		msg.Faults = r.faults.summary()
	}
	if step.Tick%int64(r.session.Contract().TickRate) == 0 {
		msg.Load = r.load.take(r)
	}
	raw := api.Encode(msg)
	for x := range w.list {
		select {
		case x.out <- raw:
		default:
			w.remove(x, "too slow: watch again for a fresh sheet")
		}
	}
}
