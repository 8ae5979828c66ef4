package runner

import (
	"bytes"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/store"
)

// silence stands in for the connections of a session whose clients say nothing and are sent nothing.
type silence struct {
	memory   []byte
	replaced []int          // clients whose connections were replaced
	ended    map[int]string // by the client's number: why its connection ended
}

func (s *silence) Receive()                                            {}
func (s *silence) BeginTick(time.Time)                                 {}
func (s *silence) FrameMemory() []byte                                 { return s.memory }
func (s *silence) Send(step *session.Step, _ time.Time)                { s.memory = step.Memory }
func (s *silence) Replace(client int)                                  { s.replaced = append(s.replaced, client) }
func (s *silence) End(client int, reason string)                       { s.ended[client] = reason }
func (s *silence) Abandon(string)                                      {}
func (s *silence) Depart(client int, reason string, _ func() wire.Bye) { s.ended[client] = reason }
func (s *silence) Suspend()                                            {}
func (s *silence) Close()                                              {}

// newTestRunner makes a runner of a contract that a test ticks itself, on its own goroutine.
func newTestRunner(t *testing.T, source string, o Options) (*Runner, *silence) {
	s, err := session.New(contracts.Load(t, source), session.Options{Trace: true, Memory: session.DefaultMemory})
	require.NoError(t, err)
	return newTestRunnerOf(t, s, o)
}

// newTestRunnerOf returns a runner of a session.
func newTestRunnerOf(t *testing.T, s *session.Session, o Options) (*Runner, *silence) {
	t.Helper()
	o.Row = store.Session{ID: 1, Contract: s.Contract().Name, Version: 1}
	o.Session = s
	o.Recorder = &store.Memory{}
	o.Meters = NewMeters(prometheus.NewRegistry())
	r := New(o)
	quiet := &silence{ended: map[int]string{}}
	r.Attach(quiet)
	return r, quiet
}

// captureLog lets the test read what is logged.
func captureLog(t *testing.T) *bytes.Buffer {
	var log bytes.Buffer
	before := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&log, nil)))
	t.Cleanup(func() { slog.SetDefault(before) })
	return &log
}

// A timer that fails again and again is logged once a minute, with how often it did.
func TestATimerThatFailsIsLoggedWithACount(t *testing.T) {
	log := captureLog(t)
	clock := time.Now()
	r, _ := newTestRunner(t, `contract fails language 1
roles player
shared Sea { n: int 0..9 = 0; every 50ms { n = 3 / n } }`, Options{Now: func() time.Time { return clock }})
	for range 3000 { // 150 seconds
		clock = clock.Add(50 * time.Millisecond)
		r.Tick()
	}
	assert.Equal(t, 3, strings.Count(log.String(), "division by zero"), "%.500s", log.String())
	assert.Contains(t, log.String(), "times=1200")
}

// A session whose ticks take longer than there is between them is seen: how long, and by what.
func TestASlowSessionIsSeen(t *testing.T) {
	log := captureLog(t)
	clock := time.Now()
	r, _ := newTestRunner(t, `contract slow language 1
roles player
entity Rock { n: int 0..9 = 0 }
shared Sea {
  n: int 0..99 = 0
  on start { for i in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { for j in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { spawn Rock } } }
  every 50ms { for a in Rock { for b in Rock { n = (n + 1) % 99 } } }
}`, Options{
		Now: func() time.Time { clock = clock.Add(80 * time.Millisecond); return clock },
	})
	for range 10 {
		r.Tick()
	}
	slow := r.Describe().Slow
	assert.Equal(t, &api.Slowness{Ticks: 10, Ms: 80, Of: "a timer of Sea"}, slow)
	assert.Equal(t, 1, strings.Count(log.String(), "take longer than there is between them"))
}

// A session that its contract has ended is closed once, however many ticks that takes.
func TestTheEndOfASessionIsToldOnce(t *testing.T) {
	told := make(chan string, 2000)
	r, _ := newTestRunner(t, `contract short language 1
roles player
shared Sea { n: int 0..9 = 0; after 1s { close "the tide is out" } }`, Options{
		Ended: func(reason string) { told <- reason },
	})
	for range 1000 {
		r.Tick()
	}
	assert.Equal(t, "the tide is out", <-told)
	r.Tick()
	assert.Empty(t, told)
}
