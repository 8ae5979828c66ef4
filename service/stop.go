package service

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"
)

// StopWithin is how long a service takes to stop, whatever its sessions, its clients and its database do; closing the
// database's connections takes a second more at most. Each part has until a time of its own, so that one that hangs
// leaves the others theirs.
const (
	StopWithin    = 9 * time.Second
	sessionsUntil = 4 * time.Second         // sessions that are being opened, and ticks, have ended
	storedUntil   = 6500 * time.Millisecond // the ends of sessions and trials are stored
	toldUntil     = 7500 * time.Millisecond // clients have had their last message
	recordsUntil  = 8500 * time.Millisecond
)

// NotDone is the error of a service that has stopped and could not do all that belongs to it: each text names what
// could not be told or stored, and why.
type NotDone []string

func (n NotDone) Error() string {
	return "stopped, but not everything was done:\n  " + strings.Join(n, "\n  ")
}

// notDone gathers what could not be done; it may be used by many goroutines.
type notDone struct {
	mu   sync.Mutex
	list NotDone
}

// add notes something that was not done in time.
func (n *notDone) add(format string, args ...any) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.list = append(n.list, fmt.Sprintf(format, args...))
}

// err returns what was noted as one error, or nil.
func (n *notDone) err() error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if len(n.list) == 0 {
		return nil
	}
	return n.list
}

// stop ends all sessions, tells clients, and stores what there is to store. shut closes what is listened on and ends
// the calls.
func (v *Service) stop(shut func(ctx context.Context) error) error {
	began := time.Now()
	until := func(d time.Duration) (context.Context, context.CancelFunc) {
		return context.WithDeadline(context.Background(), began.Add(d))
	}
	var missed notDone
	v.registry.BeginStopping()
	all, cancelAll := until(StopWithin)
	defer cancelAll()
	closed := make(chan error, 1)
	go func() { closed <- shut(all) }()

	stored, cancelStored := until(storedUntil)
	defer cancelStored()
	var trials sync.WaitGroup
	trials.Go(func() {
		if err := v.trials.Stop(stored); err != nil {
			missed.add("%s", err)
		}
	})
	ticks, cancelTicks := until(sessionsUntil)
	defer cancelTicks()
	v.registry.Stop(ticks, stored, v.gateway.Halt, missed.add)
	trials.Wait()
	v.gateway.Halt()
	told, cancelTold := until(toldUntil)
	defer cancelTold()
	if !ended(told, v.gateway.Wait) {
		missed.add("some clients did not take their last message in time")
	}
	v.gateway.Stop()
	records, cancelRecords := until(recordsUntil)
	defer cancelRecords()
	if v.journal != nil {
		if err := v.journal.Close(records); err != nil {
			missed.add("%s", err)
		}
	}
	if err := v.recorder.Close(records); err != nil {
		missed.add("%s", err)
	}
	if err := <-closed; err != nil {
		missed.add("some calls did not end in time")
	}
	last, cancelLast := context.WithTimeout(context.Background(), tracesWithin)
	defer cancelLast()
	if err := v.traces.Close(last); err != nil {
		slog.Warn("the last traces are lost", "error", err)
	}
	return missed.err()
}

// tracesWithin is how long a service that stops waits for who collects traces.
const tracesWithin = time.Second

// ended waits for something until a deadline, and reports whether it ended.
func ended(ctx context.Context, wait func()) bool {
	done := make(chan struct{})
	go func() { wait(); close(done) }()
	select {
	case <-done:
		return true
	case <-ctx.Done():
		return false
	}
}
