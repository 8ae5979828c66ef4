package service_test

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/internal/tests/testservice"
)

// proxy stands between a service and its database, and can take it away.
type proxy struct {
	t        *testing.T
	listener net.Listener
	target   string
	refuses  atomic.Bool // connections end, and no new one is made
	silent   atomic.Bool // nothing passes, and nothing ends
	mu       sync.Mutex
	open     map[net.Conn]bool
}

// newProxy returns a proxy, and the address of a fresh database by way of it.
func newProxy(t *testing.T) (p *proxy, direct, through string) {
	direct = testservice.Database(t)
	u, err := url.Parse(direct)
	require.NoError(t, err)
	p = &proxy{t: t, target: u.Host, open: map[net.Conn]bool{}}
	p.listener, err = net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { p.listener.Close(); p.cut() })
	u.Host = p.listener.Addr().String()
	go p.accept()
	return p, direct, u.String()
}

func (p *proxy) accept() {
	for {
		in, err := p.listener.Accept()
		if err != nil {
			return
		}
		out, err := net.Dial("tcp", p.target)
		if err != nil || p.refuses.Load() {
			in.Close()
			continue
		}
		p.mu.Lock()
		p.open[in], p.open[out] = true, true
		p.mu.Unlock()
		go p.carry(in, out)
		go p.carry(out, in)
	}
}

// carry carries bytes one way.
func (p *proxy) carry(from, to net.Conn) {
	defer from.Close()
	defer to.Close()
	buf := make([]byte, 32<<10)
	for {
		n, err := from.Read(buf)
		for p.silent.Load() {
			time.Sleep(10 * time.Millisecond)
		}
		if err != nil {
			return
		}
		if _, err := to.Write(buf[:n]); err != nil {
			return
		}
	}
}

// cut ends all connections.
func (p *proxy) cut() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for c := range p.open {
		c.Close()
		delete(p.open, c)
	}
}

// gaps are the times between the frames of a client.
type gaps struct {
	mu   sync.Mutex
	last time.Time
	list []time.Duration
}

func (g *gaps) frame() {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := time.Now()
	if !g.last.IsZero() {
		g.list = append(g.list, now.Sub(g.last))
	}
	g.last = now
}

// take returns the gap that one in a hundred is longer than, and forgets all.
func (g *gaps) take() time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	list := g.list
	g.list = nil
	if len(list) == 0 {
		return 0
	}
	slices.Sort(list)
	return list[len(list)*99/100]
}

// The database is away in each way, while clients play: play goes on at its pace, nothing is called settled, memory
// stays bounded, and all is settled soon after it is back. KAMERAD_AWAY says for how long each time.
func TestPlayGoesOnWhileTheDatabaseIsAway(t *testing.T) {
	away := 1500 * time.Millisecond
	if d, err := time.ParseDuration(os.Getenv("KAMERAD_AWAY")); err == nil {
		away = d
	}
	proxy, direct, through := newProxy(t)
	p := testservice.StartOn(t, through)
	_, err := p.Publish(t.Context(), "count.kam", countText, nil)
	require.NoError(t, err)
	session, err := p.Open(t.Context(), api.OpenSession{Contract: "count"})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var all []*counter
	var playing sync.WaitGroup
	for i := range 8 {
		c := joinCounter(t, p, session.ID, fmt.Sprint("c", i))
		defer c.Close()
		all = append(all, c)
		playing.Go(func() { _ = c.play(ctx) })
	}
	conn, err := pgx.Connect(t.Context(), direct)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	run := func(sql string) {
		_, err := conn.Exec(t.Context(), sql)
		require.NoError(t, err)
	}
	trigger := func(body string) func() {
		return func() {
			run("create or replace function hold_up() returns trigger language plpgsql as $$ begin " + body +
				" return new; end $$")
			run("create trigger hold_up before insert on call_batches for each statement execute function hold_up()")
		}
	}
	for _, way := range []struct {
		name        string
		take, bring func()
	}{
		{
			"refused",
			func() { proxy.refuses.Store(true); proxy.cut() },
			func() { proxy.refuses.Store(false) },
		},
		{"silent", func() { proxy.silent.Store(true) }, func() { proxy.silent.Store(false) }},
		{"slow", trigger("perform pg_sleep(2);"), func() { run("drop trigger hold_up on call_batches") }},
		{
			"full",
			trigger("raise exception 'could not extend file: no space left' using errcode = '53100';"),
			func() { run("drop trigger hold_up on call_batches") },
		},
	} {
		t.Run(way.name, func(t *testing.T) {
			all[0].gaps.take()
			time.Sleep(away)
			usual := all[0].gaps.take()
			settledBefore := all[0].settledNow()
			memory := p.Resident()
			way.take()
			time.Sleep(away)
			memory = p.Resident() - memory
			told := toldAway(t, p, way.name == "slow")
			gone := all[0].gaps.take()
			counted, settled := all[0].counted(), all[0].settledNow()
			if way.name != "slow" {
				assert.Less(t, settled, int(counted)-5, "what is not stored is not settled")
			}
			way.bring()
			began := time.Now()
			assert.Eventually(t, func() bool {
				for _, c := range all {
					if c.settledNow() < int(counted) && c == all[0] || c.settledNow() == 0 {
						return false
					}
				}
				return true
			}, 15*time.Second, 5*time.Millisecond)
			t.Logf(
				"%s for %s: frames at most %s apart (99 of 100), %s before; %d counted, %d settled before, %d then; "+
					"all settled %s after; %d kB more of memory", way.name, away, gone, usual, counted, settledBefore,
				settled, time.Since(began), memory/1000,
			)
			assert.Less(t, memory, int64(100_000_000))
			assert.True(t, told, "who runs the service is told")
			assert.Eventually(t, func() bool { return !toldAway(t, p, false) }, 10*time.Second, 10*time.Millisecond)
			assert.Less(t, gone, 4*usual+50*time.Millisecond, "play goes on at its pace")
		})
	}
	stop()
	playing.Wait()
	for _, c := range all {
		isSettled := func() bool { return int64(c.settledNow()) == c.counted() }
		assert.Eventually(t, isSettled, 10*time.Second, 5*time.Millisecond)
		assert.Zero(t, c.undone)
	}
}

// toldAway reports whether the service says that nothing is settled now, or, with wait, soon.
func toldAway(t *testing.T, p *testservice.Process, wait bool) bool {
	until := time.Now().Add(5 * time.Second)
	for {
		s, err := p.ServiceState(t.Context())
		require.NoError(t, err)
		if s.RecordingsAway || !wait || time.Now().After(until) {
			return s.RecordingsAway
		}
		time.Sleep(5 * time.Millisecond)
	}
}
