package observe

import (
	"fmt"
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

// FaultList counts what failed inside in a session, and keeps the last faults, each once. It belongs to the goroutine
// that ticks the session. The zero value is ready.
type FaultList struct {
	count  int64
	last   []api.Fault // the newest last
	causes []string    // of each
}

// drop removes one of the kept faults.
func (l *FaultList) drop(at int) {
	l.last = slices.Delete(l.last, at, at+1)
	l.causes = slices.Delete(l.causes, at, at+1)
}

// add counts a fault. about is called for what it was about; nil leaves what was told of it before.
func (l *FaultList) add(tick int64, f *session.Fault, about func() string) {
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

// Summary returns the list as it is told, the newest first; nil when nothing failed.
func (l *FaultList) Summary() *api.Faults {
	if l.count == 0 {
		return nil
	}
	last := slices.Clone(l.last)
	slices.Reverse(last)
	return &api.Faults{Count: l.count, Last: last}
}

// Note notes what failed inside in a tick of a session: handlers, timers, actions and writes, and requests. It returns
// that, in the order in which it failed.
func (l *FaultList) Note(s *session.Session, step *session.Step) (noted []session.Fault) {
	add := func(f *session.Fault, about func() string) {
		noted = append(noted, *f)
		if len(noted) > maxAboutPerTick {
			about = nil
		}
		l.add(step.Tick, f, about)
	}
	for i := range step.Faults {
		f := &step.Faults[i]
		add(f, func() string { return s.About(f) })
	}
	for i := range step.Decisions {
		if d := &step.Decisions[i]; d.Outcome == wire.Faulted {
			f, about := d.Fault()
			add(&f, func() string { return about })
		}
	}
	return noted
}
