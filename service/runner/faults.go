package runner

import (
	"fmt"
	"log/slog"
	"slices"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

const (
	maxFaults = 8 // different faults of a session that are kept; of more the oldest go

	// maxAboutPerTick is how many faults of one tick are told with the values of their entity. A timer of a thousand
	// entities may fail in every tick, and to word them all would take longer than the tick.
	maxAboutPerTick = 8

	maxAbout = 300 // characters of what a fault is about, and of why; a client may have sent much more
)

// faultList counts what failed inside in a session, and keeps the last faults, each once. The runner's goroutine owns
// it.
type faultList struct {
	count  int64
	last   []api.Fault // the newest last
	causes []string    // of each
	log    repeatLog
}

// drop removes one of the kept faults.
func (l *faultList) drop(at int) {
	l.last = slices.Delete(l.last, at, at+1)
	l.causes = slices.Delete(l.causes, at, at+1)
}

// add counts a fault. about is called for what it was about; nil leaves what was told of it before.
func (l *faultList) add(tick int64, f *session.Fault, about func() string) {
	l.count++
	in := f.In
	if in == "" {
		in = f.Of
	}
	x := api.Fault{
		In:     in,
		File:   f.File,
		Line:   f.Line,
		Reason: fmt.Sprintf("%.*s", maxAbout, f.Reason),
	}
	cause := f.Cause()
	if at := slices.Index(l.causes, cause); at >= 0 {
		x.Times = l.last[at].Times
		x.About = l.last[at].About
		l.drop(at)
	} else if len(l.last) == maxFaults {
		l.drop(0)
	}
	l.causes = append(l.causes, cause)
	x.Times++
	x.Tick = tick
	if about != nil {
		x.About = fmt.Sprintf("%.*s", maxAbout, about())
	}
	l.last = append(l.last, x)
}

// summary returns the list as it is told, the newest first; nil when nothing failed.
func (l *faultList) summary() *api.Faults {
	if l.count == 0 {
		return nil
	}
	last := slices.Clone(l.last)
	slices.Reverse(last)
	return &api.Faults{Count: l.count, Last: last}
}

// noteFaults notes and logs what failed inside in a tick: handlers, timers, actions and writes, and requests. It
// reports whether anything did.
func (r *Runner) noteFaults(step *session.Step) bool {
	told := 0
	add := func(f *session.Fault, about func() string) {
		told++
		if told > maxAboutPerTick {
			about = nil
		}
		r.faults.add(step.Tick, f, about)
		r.logFault(f)
	}
	for i := range step.Faults {
		f := &step.Faults[i]
		add(f, func() string { return r.session.About(f) })
	}
	for i := range step.Decisions {
		if d := &step.Decisions[i]; d.Outcome == wire.Faulted {
			f, about := d.Fault()
			add(&f, func() string { return about })
		}
	}
	return told > 0
}

// logFault logs that a body failed: the first time, and then once a minute with how often it did.
func (r *Runner) logFault(f *session.Fault) {
	if times := r.faults.log.count(f.Cause(), r.now()); times > 0 {
		slog.Warn(
			"the contract failed", "session", r.row.ID, "in", f.Of, "line", f.Line, "fault", f.Reason, "times", times,
		)
	}
}
