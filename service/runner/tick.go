package runner

import (
	"bytes"
	"log/slog"
	"time"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/service/traces"
	"kamerad.example/store"
)

// Tick runs one tick. It is called on the runner's goroutine.
func (r *Runner) Tick() {
	began := r.now()
	Failpoints.TickBegins.Hit()
	r.connections.BeginTick(began)
	r.endExpiredSeats(began)
	if r.log != nil {
		r.log.BeginTick(r.session)
	}
	r.session.UseMemory(r.connections.FrameMemory())
	step := r.session.Tick()
	times := traces.Times{Began: began}
	if r.requests != nil { // else nobody asks the clock
		times.Computed = r.now()
	}
	if r.transcript != nil {
		r.transcript.Ticked(step)
	}
	r.connections.Send(step, began)
	if r.requests != nil {
		times.Sent = r.now()
		r.requests.Decided(step.Tick, step.Decisions, times)
	}
	if r.log != nil {
		r.log.Ticked(r.session, step, began)
		r.releaseLeases()
	}
	r.endSeats(step)
	faults := r.faults.Note(r.session, step)
	for i := range faults {
		r.logFault(&faults[i])
	}
	if len(step.Decisions) > 0 {
		r.record(step.Decisions)
	}
	for _, m := range step.Misfits {
		slog.Warn(
			"what a player keeps does not fit the contract", "session", r.row.ID, "client", m.Client, "property",
			m.Property, "detail", m.Detail,
		)
	}
	r.watchers.tick(r, step, len(faults) > 0)
	if step.Closed != "" && !r.ending {
		r.ending = true
		r.result = bytes.Clone(step.Result)
		go r.ended(step.Closed) // it waits for this goroutine
	}
	r.lastTick.Store(step.Tick)
	if step.Tick%int64(r.session.Contract().TickRate) == 0 {
		shown := r.Describe()
		r.summary.Store(&shown)
	}
	for _, l := range step.Logs {
		if times := r.contractLog.count(l.Text, began); times > 0 {
			slog.Info("logged by the contract", "session", r.row.ID, "tick", step.Tick, "words", l.Text, "times", times)
		}
	}
	r.meters.deferred.Add(float64(step.Deferred))
	r.noteDuration(step, began, r.now().Sub(began))
}

// endSeats ends the seats that a tick has ended, and finds where clients are sent.
func (r *Runner) endSeats(step *session.Step) {
	for _, s := range step.Sendings {
		r.send(s)
	}
	for _, cut := range step.Cuts {
		if cut.Departs {
			r.depart(cut.Client)
			continue
		}
		if r.transcript != nil {
			r.transcript.Out(cut.Client)
		}
		r.Leave(cut.Client, cut.Reason)
	}
}

// logFault logs that a body failed: the first time, and then once a minute with how often it did.
func (r *Runner) logFault(f *session.Fault) {
	if times := r.faultLog.count(f.Cause(), r.now()); times > 0 {
		slog.Warn(
			"the contract failed", "session", r.row.ID, "in", f.Of, "line", f.Line, "fault", f.Reason, "times", times,
		)
	}
}

// slowFor is how long it is told that a session's ticks take too long.
const slowFor = time.Minute

// noteDuration notes how long a tick took; of one that took longer than there is between two, by what.
func (r *Runner) noteDuration(step *session.Step, at time.Time, d time.Duration) {
	r.meters.tick.Observe(d.Seconds())
	r.load.add(d)
	if r.slowness != nil && at.Sub(r.slowSince) > slowFor {
		r.slowness = nil
	}
	if d <= r.Period() {
		return
	}
	r.meters.overruns.Inc()
	if r.slowness == nil {
		r.slowness = &api.Slowness{}
		r.slowSince = at
	}
	r.slowness.Ticks++
	if ms := float64(d.Microseconds()) / 1000; ms > r.slowness.Ms {
		r.slowness.Ms = ms
	}
	if step.Heaviest.Of != "" {
		r.slowness.Of = step.Heaviest.Of
	}
	if times := r.overrunLog.count("tick", at); times > 0 {
		slog.Warn(
			"a session's ticks take longer than there is between them", "session", r.row.ID, "ms",
			float64(d.Microseconds())/1000, "most_of_all", step.Heaviest.Of, "steps", step.Heaviest.Steps, "times",
			times,
		)
	}
}

// tickLoad adds up how long ticks took since it was last told.
type tickLoad struct {
	ticks        int
	all, longest time.Duration
}

// add notes a tick.
func (l *tickLoad) add(d time.Duration) {
	l.ticks++
	l.all += d
	l.longest = max(l.longest, d)
}

// take returns what there is to tell of the last second, and begins anew; nil when no tick was noted.
func (l *tickLoad) take(r *Runner) *api.Load {
	if l.ticks == 0 {
		return nil
	}
	ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
	out := &api.Load{
		MeanMs:    ms(l.all / time.Duration(l.ticks)),
		LongestMs: ms(l.longest),
		PeriodMs:  ms(r.Period()),
		Queued:    r.session.Queued(),
	}
	*l = tickLoad{}
	return out
}

// Describe describes the session as it is now. It is called on the runner's goroutine.
func (r *Runner) Describe() api.Session {
	s := Stored(r.row)
	s.Open = true
	s.Tick = r.session.Now()
	s.Paused = r.paused
	s.Queued = r.session.Queued()
	s.Clients = r.session.Clients()
	s.Seed = r.seed
	s.World = r.session.WorldKept().Name
	s.Memory, s.MemoryMost = r.session.Memory()
	s.Faults = r.faults.Summary()
	if r.slowness != nil {
		slow := *r.slowness
		s.Slow = &slow
	}
	return s
}

// Summary describes the session as it was at most a second ago. Everybody may call it, and nobody waits.
func (r *Runner) Summary() api.Session {
	out := *r.summary.Load()
	out.Tick = r.lastTick.Load()
	return out
}

// Stored describes a session as its row has it.
func Stored(row store.Session) api.Session {
	s := api.Session{
		ID:       row.ID,
		Contract: row.Contract,
		Version:  row.Version,
		OpenedAt: row.OpenedAt,
		ClosedAt: row.ClosedAt,
		Open:     false,
		Tick:     row.LastTick,
		Result:   row.Result,
		Clients:  []wire.Client{},
	}
	if row.CloseReason != nil {
		s.CloseReason = *row.CloseReason
	}
	return s
}
