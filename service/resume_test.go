package service

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
	"kamerad.example/service/gateway"
)

const bells = `contract bells language 1
tick 20 per second
seats 8 grace 30s
shared Bell { rung: int 0..9999 = 0
  event heard(n: int 0..9999)
  request ring() from everyone { rung += 1; tell everyone heard(rung) }
}
`

// relay passes connections on to a service, until it breaks them.
type relay struct {
	mu    sync.Mutex
	conns []net.Conn
}

func newRelay(t *testing.T, to string) (*relay, string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	r := &relay{}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			if err != nil {
				in.Close()
				continue
			}
			r.mu.Lock()
			r.conns = append(r.conns, in, out)
			r.mu.Unlock()
			go func() { _, _ = io.Copy(in, out); in.Close() }()
			go func() { _, _ = io.Copy(out, in); out.Close() }()
		}
	}()
	return r, "http://" + l.Addr().String()
}

// cut breaks all connections without a goodbye.
func (r *relay) cut() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range r.conns {
		if tcp, ok := c.(*net.TCPConn); ok {
			_ = tcp.SetLinger(0) // what is on its way is lost as well
		}
		c.Close()
	}
	r.conns = nil
}

// listener counts what a client hears.
type listener struct {
	mu    sync.Mutex
	heard []int64
	back  int
}

func (l *listener) options(json bool) client.Options {
	return client.Options{
		JSON: json,
		OnFrame: func(f *wire.Frame, _ []replicate.Notice) {
			l.mu.Lock()
			defer l.mu.Unlock()
			for _, e := range f.Events {
				l.heard = append(l.heard, e.Fields[0].Value.Num)
			}
		},
		OnBack: func() {
			l.mu.Lock()
			defer l.mu.Unlock()
			l.back++
		},
	}
}

// returns is how often the client's connection was made again.
func (l *listener) returns() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.back
}

// rings has clients ring until each has done so often, while their connections break again and again; each ring is
// decided and heard once, in order. At the end all is mended.
func rings(t *testing.T, clients []*client.Client, ears []*listener, times int, breaks func(i int), mend func()) {
	var group sync.WaitGroup
	for _, c := range clients {
		group.Add(1)
		go func() {
			defer group.Done()
			var all sync.WaitGroup
			undecided := make(chan struct{}, wire.MaxUndone)
			for i := range times {
				all.Add(1)
				undecided <- struct{}{}
				go func() {
					defer all.Done()
					defer func() { <-undecided }()
					d, err := c.Ask(t.Context(), 0, "Bell.ring")
					assert.NoError(t, err)
					assert.Equal(t, wire.Accepted, d.Outcome, d.Reason)
				}()
				time.Sleep(time.Duration(i%5) * 4 * time.Millisecond) // so that they come in several ticks
			}
			all.Wait()
		}()
	}
	stop := make(chan struct{})
	var breaking sync.WaitGroup
	breaking.Add(1)
	go func() {
		defer breaking.Done()
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			case <-time.After(time.Duration(60+i*37%120) * time.Millisecond):
				breaks(i)
			}
		}
	}()
	group.Wait()
	close(stop)
	breaking.Wait()
	mend() // who is cut when all is decided has still to hear of it
	want := make([]int64, len(clients)*times)
	for i := range want {
		want[i] = int64(i + 1)
	}
	for _, e := range ears {
		require.Eventually(t, func() bool {
			e.mu.Lock()
			defer e.mu.Unlock()
			return len(e.heard) >= len(want)
		}, 20*time.Second, 5*time.Millisecond)
		e.mu.Lock()
		assert.Equal(t, want, e.heard, "each ring is heard once, in order")
		e.mu.Unlock()
	}
}

// Over sockets that break in the middle of whatever they carry.
func TestNothingIsLostOverBrokenConnections(t *testing.T) {
	v, admin := start(t, page)
	_, err := admin.Publish(t.Context(), "bells.kam", bells, nil)
	require.NoError(t, err)
	s, err := admin.Open(t.Context(), api.OpenSession{Contract: "bells"})
	require.NoError(t, err)
	r, through := newRelay(t, strings.TrimPrefix(admin.Service, "http://"))
	var clients []*client.Client
	var ears []*listener
	for i := range 4 {
		e := &listener{}
		c, err := client.Join(t.Context(), through, s.ID, fmt.Sprint("Diver ", i), "", e.options(i == 0))
		require.NoError(t, err)
		clients = append(clients, c)
		ears = append(ears, e)
	}
	rings(t, clients, ears, 150, func(int) { r.cut() }, func() {})
	for i, e := range ears {
		assert.Positive(t, e.returns(), "client %d", i)
		assert.Empty(t, clients[i].Reason())
		clients[i].Close()
	}
	assert.Eventually(t, func() bool {
		var left int
		x := v.registry.Find(s.ID)
		return x.Runner().Do(t.Context(), func() { left = x.Len() }) == nil && left == 0
	}, 10*time.Second, 10*time.Millisecond)
}

// Over links that are made bad, cut and mended.
func TestLinksAreSwitchedAtRunTime(t *testing.T) {
	v, admin := start(t, page)
	_, err := admin.Publish(t.Context(), "bells.kam", bells, nil)
	require.NoError(t, err)
	s, err := admin.Open(t.Context(), api.OpenSession{Contract: "bells"})
	require.NoError(t, err)
	x := v.registry.Find(s.ID)
	var lines []*gateway.SimulatedLink
	var clients []*client.Client
	var ears []*listener
	for i := range 2 {
		e := &listener{}
		c, err := x.SeatInside(t.Context(), wire.Join{Name: fmt.Sprint("Diver ", i)}, true, e.options(false))
		require.NoError(t, err)
		lines = append(lines, c.Link)
		clients = append(clients, c.Client)
		ears = append(ears, e)
	}
	links := []api.Link{
		{DelayMs: 20, JitterMs: 30},
		{DelayMs: 5, Loss: 0.1},
		{Cut: true},
		{DelayMs: 10, Bandwidth: 3000},
		{Cut: true},
		{},
	}
	rings(t, clients, ears, 60, func(i int) {
		assert.NoError(t, lines[i%2].Set(links[i/2%len(links)]))
	}, func() {
		for _, line := range lines {
			assert.NoError(t, line.Set(api.Link{}))
		}
	})
	// A cut is noticed however soon it is mended. Of those above, none may have been: all was decided before.
	for _, l := range []api.Link{{Cut: true}, {}} {
		require.NoError(t, lines[0].Set(l))
	}
	assert.Eventually(t, func() bool { return ears[0].returns() > 0 }, 10*time.Second, time.Millisecond)
}

// The link of a test client is changed through the API; what is no link is refused.
func TestLinksAreSetThroughTheAPI(t *testing.T) {
	v, admin := start(t, page)
	x := opened(t, v, admin, false)
	_, body, _ := get(
		t, "POST", fmt.Sprintf("%s/api/sessions/%d/clients", admin.Service, x.Runner().ID()), `{"name":"Ana"}`, nil,
	)
	var ana wire.Client
	require.NoError(t, json.Unmarshal([]byte(body), &ana), body)
	session := x.Runner().ID()
	l, err := admin.SetLink(t.Context(), session, ana.Number, api.Link{DelayMs: 15})
	require.NoError(t, err)
	assert.Equal(t, api.Link{DelayMs: 15}, l)
	l, err = admin.LinkOf(t.Context(), session, ana.Number)
	require.NoError(t, err)
	assert.Equal(t, api.Link{DelayMs: 15}, l)
	_, err = admin.SetLink(t.Context(), session, ana.Number, api.Link{Loss: 2})
	assert.ErrorContains(t, err, "a loss of 2")
	_, err = admin.SetLink(t.Context(), session, 99, api.Link{})
	assert.ErrorContains(t, err, "no test client 99")
}

// A program that was started anew takes its seat, and numbers its requests above those that it gave before.
func TestAProgramStartedAnewTakesItsSeat(t *testing.T) {
	_, admin := start(t, page)
	_, err := admin.Publish(t.Context(), "bells.kam", bells, nil)
	require.NoError(t, err)
	s, err := admin.Open(t.Context(), api.OpenSession{Contract: "bells"})
	require.NoError(t, err)
	r, through := newRelay(t, strings.TrimPrefix(admin.Service, "http://"))
	refuse := func(context.Context, client.Seat) (client.Transport, error) {
		return nil, &client.Refused{Reason: "not again"}
	}
	first, err := client.Join(t.Context(), through, s.ID, "Ana", "", client.Options{Again: refuse})
	require.NoError(t, err)
	for range 3 {
		_, err := first.Ask(t.Context(), 0, "Bell.ring")
		require.NoError(t, err)
	}
	r.cut()
	<-first.Ended()
	assert.Contains(t, first.Reason(), "could not be made again: not again")
	second, err := client.Rejoin(t.Context(), through, s.ID, first.Token(), client.Options{})
	require.NoError(t, err)
	d, err := second.Ask(t.Context(), 0, "Bell.ring")
	require.NoError(t, err)
	assert.Equal(t, wire.Accepted, d.Outcome)
	assert.EqualValues(t, 4, d.Seq)
	second.Look(func(c *replicate.Copy) {
		f, _ := c.OwnedBy("Bell", 0).Field("rung")
		assert.Equal(t, json.RawMessage("4"), json.RawMessage(f.Type.AppendJSON(nil, f.Value)))
	})
	second.Close()
}
