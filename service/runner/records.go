package runner

import (
	"fmt"
	"time"

	"golang.org/x/time/rate"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/service/observe"
	"kamerad.example/store"
)

// Bounds of what is stored of requests. All are counted; what a client is refused beyond them is not stored.
const (
	refusedPerSecond = 10 // requests of one client that were not accepted
	refusedAtOnce    = 50
	maxStoredArgs    = 2000 // bytes of a request's arguments; of longer ones it is stored how long they are
)

// record stores decided requests, as far as they are.
func (r *Runner) record(list []session.Decision) {
	now := r.now()
	out := make([]store.Decision, 0, len(list))
	for i := range list {
		d := &list[i]
		r.meters.decisions.WithLabelValues(string(d.Outcome), string(d.Stage)).Inc()
		if d.Outcome != wire.Accepted && !r.mayStore(d.Client.Number, now) {
			r.meters.unstored.Inc()
			continue
		}
		args := observe.Arguments(d.Ask.Args)
		if len(args) > maxStoredArgs {
			args = api.Encode([]string{fmt.Sprintf("%d bytes, which are more than are stored", len(args))})
		}
		out = append(out, store.Decision{
			Session:   r.row.ID,
			Tick:      d.Tick,
			Client:    d.Client.Number,
			Name:      d.Client.Name,
			Seq:       d.Ask.Seq,
			Request:   d.Ask.Request,
			Entity:    int64(d.Entity),
			Args:      args,
			Outcome:   string(d.Outcome),
			Stage:     string(d.Stage),
			Reason:    d.Reason,
			CheckText: d.Text,
			Line:      d.Line,
			At:        now,
		})
	}
	if len(out) > 0 {
		r.recorder.Record(out)
	}
}

// mayStore counts a refused request of a client, and reports whether it is stored.
func (r *Runner) mayStore(client int, now time.Time) bool {
	limit := r.refusedLimits[client]
	if limit == nil {
		limit = rate.NewLimiter(refusedPerSecond, refusedAtOnce)
		r.refusedLimits[client] = limit
	}
	return limit.AllowN(now, 1)
}

// repeatLog thins out what is logged again and again.
type repeatLog struct {
	seen map[string]*repeat
}

type repeat struct {
	times  int // since it was last logged
	logged time.Time
}

const (
	repeatEvery = time.Minute
	maxRepeats  = 500 // different texts that are told apart
)

// count counts that something happened, and returns how often it has since it was last logged; 0 when it is not to be
// logged now.
func (q *repeatLog) count(text string, now time.Time) (times int) {
	if q.seen == nil || len(q.seen) >= maxRepeats {
		q.seen = map[string]*repeat{}
	}
	x := q.seen[text]
	if x == nil {
		x = &repeat{}
		q.seen[text] = x
	}
	x.times++
	if now.Sub(x.logged) < repeatEvery {
		return 0
	}
	times, x.times, x.logged = x.times, 0, now
	return times
}
