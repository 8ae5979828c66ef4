package store

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"
)

// memoryKept is how many decisions a Memory keeps.
const memoryKept = 10_000

// Memory is a store that keeps everything in this process and loses it with it: for sessions that a player hosts. It is
// a Recorder as well. Its zero value is empty.
type Memory struct {
	mu        sync.Mutex
	versions  map[string][]Version // oldest first
	sessions  []Session
	seats     []Seat
	decisions []Decision
	trials    []Trial
}

// Held reports that nobody else has it.
func (m *Memory) Held() bool { return true }

// SetOptions does nothing: no session outlives the process.
func (m *Memory) SetOptions(context.Context, int64, json.RawMessage) error { return nil }

// SetResult is Store.SetResult.
func (m *Memory) SetResult(_ context.Context, id int64, result json.RawMessage) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i := range m.sessions {
		if m.sessions[i].ID == id {
			m.sessions[i].Result = result
		}
	}
	return nil
}

// Ping does nothing.
func (m *Memory) Ping(context.Context) error { return nil }

// Publish is Store.Publish.
func (m *Memory) Publish(_ context.Context, v Version) (out Version, fresh bool, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	list := m.versions[v.Contract]
	if n := len(list); n > 0 && list[n-1].Source == v.Source && maps.Equal(list[n-1].Files, v.Files) {
		return list[n-1], false, nil
	}
	if m.versions == nil {
		m.versions = map[string][]Version{}
	}
	v.Version = len(list) + 1
	v.PublishedAt = time.Now()
	m.versions[v.Contract] = append(list, v)
	return v, true, nil
}

// Version is Store.Version.
func (m *Memory) Version(_ context.Context, name string, version int) (Version, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	list := m.versions[name]
	if version == 0 {
		version = len(list)
	}
	if version < 1 || version > len(list) {
		return Version{}, fmt.Errorf("read contract %s version %d: %w", name, version, ErrNotFound)
	}
	return list[version-1], nil
}

// Versions is Store.Versions.
func (m *Memory) Versions(_ context.Context, name string) (out []Version, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if name != "" {
		out = slices.Clone(m.versions[name])
		slices.Reverse(out)
		return out, nil
	}
	for _, name := range slices.Sorted(maps.Keys(m.versions)) {
		list := m.versions[name]
		out = append(out, list[len(list)-1])
	}
	return out, nil
}

// OpenSession is Store.OpenSession.
func (m *Memory) OpenSession(_ context.Context, in Recorded) (Session, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	s := Session{
		ID:       int64(len(m.sessions) + 1),
		Contract: in.Contract,
		Version:  in.Version,
		OpenedAt: time.Now(),
	}
	m.sessions = append(m.sessions, s)
	return s, nil
}

// CloseSession is Store.CloseSession.
func (m *Memory) CloseSession(_ context.Context, id int64, reason string, tick int64) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if id < 1 || id > int64(len(m.sessions)) {
		return fmt.Errorf("close session %d: %w", id, ErrNotFound)
	}
	now := time.Now()
	s := &m.sessions[id-1]
	if s.ClosedAt == nil {
		s.ClosedAt = &now
		s.CloseReason = &reason
		s.LastTick = tick
	}
	return nil
}

// StopTrials does nothing: nothing is left over.
func (m *Memory) StopTrials(context.Context) error { return nil }

// Sessions is Store.Sessions.
func (m *Memory) Sessions(_ context.Context, limit int) ([]Session, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := slices.Clone(m.sessions)
	slices.Reverse(out)
	slices.SortStableFunc(out, func(a, b Session) int {
		switch {
		case (a.ClosedAt == nil) == (b.ClosedAt == nil):
			return 0
		case a.ClosedAt == nil:
			return -1
		}
		return 1
	})
	return out[:min(limit, len(out))], nil
}

// Session is Store.Session.
func (m *Memory) Session(_ context.Context, id int64) (Session, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if id < 1 || id > int64(len(m.sessions)) {
		return Session{}, fmt.Errorf("read session %d: %w", id, ErrNotFound)
	}
	return m.sessions[id-1], nil
}

// Seats is Store.Seats.
func (m *Memory) Seats(_ context.Context, session int64) (out []Seat, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, s := range m.seats {
		if s.Session == session {
			out = append(out, s)
		}
	}
	return out, nil
}

// Decisions is Store.Decisions.
func (m *Memory) Decisions(_ context.Context, session int64, limit int) (out []Decision, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i := len(m.decisions) - 1; i >= 0 && len(out) < limit; i-- {
		if m.decisions[i].Session == session {
			out = append(out, m.decisions[i])
		}
	}
	return out, nil
}

// Seat is Recorder.Seat.
func (m *Memory) Seat(s Seat) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i := range m.seats {
		if m.seats[i].Session == s.Session && m.seats[i].Client == s.Client {
			m.seats[i] = s
			return
		}
	}
	if len(m.seats) >= memoryKept {
		m.seats = slices.Delete(m.seats, 0, memoryKept/2)
	}
	m.seats = append(m.seats, s)
}

// Record is Recorder.Record.
func (m *Memory) Record(list []Decision) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.decisions) >= memoryKept {
		m.decisions = slices.Delete(m.decisions, 0, memoryKept/2)
	}
	m.decisions = append(m.decisions, list...)
}

// Waiting reports that nothing waits.
func (m *Memory) Waiting() (waiting int, lost int64) { return 0, 0 }

// Backlog reports that nothing waits.
func (m *Memory) Backlog() Backlog { return Backlog{} }

// Close does nothing.
func (m *Memory) Close(context.Context) error { return nil }
