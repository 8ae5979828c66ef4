package service_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/testservice"
)

const countText = `contract count language 2
seats 60 grace 60s
entity Diver per player {
  n: int 0..1000000 = 0
  request add() from owner { n += 1 }
}
`

// counter is a client that counts, and what became of it.
type counter struct {
	*client.Client
	mu       sync.Mutex
	accepted map[uint64]int // how often a request was accepted and not undone
	undone   int
	latest   int // of the requests that were undone at once
	backs    []time.Duration
	lostAt   time.Time
}

// join seats a counter.
func joinCounter(t *testing.T, p *testservice.Process, session int64, name string) *counter {
	c := &counter{accepted: map[uint64]int{}}
	var err error
	c.Client, err = client.Join(t.Context(), p.Service, session, name, "", client.Options{
		OnUndone: func(requests []uint64, _ int64) {
			c.mu.Lock()
			defer c.mu.Unlock()
			for _, seq := range requests {
				c.accepted[seq]--
			}
			c.undone += len(requests)
			c.latest = max(c.latest, len(requests))
		},
		OnLost: func(string) {
			c.mu.Lock()
			defer c.mu.Unlock()
			c.lostAt = time.Now()
		},
		OnBack: func() {
			c.mu.Lock()
			defer c.mu.Unlock()
			c.backs = append(c.backs, time.Since(c.lostAt))
		},
		OnFrame: func(f *wire.Frame, _ []replicate.Notice) {
			c.mu.Lock()
			defer c.mu.Unlock()
			for _, d := range f.Decisions {
				if d.Outcome == wire.Accepted {
					c.accepted[d.Seq]++
				}
			}
		},
	})
	require.NoError(t, err)
	return c
}

// play asks again and again until ctx ends.
func (c *counter) play(ctx context.Context) error {
	for ctx.Err() == nil {
		if _, err := c.Ask(context.Background(), 0, "Diver.add"); err != nil {
			return err
		}
	}
	return nil
}

// counted returns what the client's own property says.
func (c *counter) counted() (n int64) {
	c.Look(func(held *replicate.Copy) {
		for _, e := range held.Entities() {
			if f, has := e.Field("n"); has && e.Owner == c.Me().Number {
				n = f.Value.Num
			}
		}
	})
	return n
}

// The service is killed again and again while clients play: each time the sessions go on, all clients are back by
// themselves, no decision that was not told as undone is lost, and none counts twice. KAMERAD_KILLS says how often, and
// KAMERAD_CLIENTS how many clients play.
func TestSessionsOutliveTheirProcess(t *testing.T) {
	kills, clients := 5, 10
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_KILLS")); err == nil {
		kills = n
	}
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_CLIENTS")); err == nil {
		clients = n
	}
	p := testservice.Start(t)
	_, err := p.Publish(t.Context(), "count.kam", countText, nil)
	require.NoError(t, err)
	session, err := p.Open(t.Context(), api.OpenSession{Contract: "count"})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var all []*counter
	var playing sync.WaitGroup
	errs := make(chan error, clients)
	for i := range clients {
		c := joinCounter(t, p, session.ID, fmt.Sprint("c", i))
		defer c.Close()
		all = append(all, c)
		playing.Go(func() { errs <- c.play(ctx) })
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range kills {
		time.Sleep(time.Duration(200+r.IntN(1500)) * time.Millisecond)
		p.Kill()
		p.Restart()
	}
	time.Sleep(500 * time.Millisecond)
	stop()
	playing.Wait()
	close(errs)
	for err := range errs {
		require.NoError(t, err, "every client is back by itself")
	}
	running, err := p.Session(t.Context(), session.ID)
	require.NoError(t, err)
	assert.Nil(t, running.ClosedAt)
	accepted, undone, worst := 0, 0, 0
	var backs []time.Duration
	for _, c := range all {
		sum := 0
		c.mu.Lock()
		for seq, times := range c.accepted {
			assert.LessOrEqual(t, times, 1, "request %d counts twice", seq)
			sum += times
		}
		c.mu.Unlock()
		assert.Eventually(t, func() bool { return c.counted() == int64(sum) }, 5*time.Second, 10*time.Millisecond)
		assert.EqualValues(t, sum, c.counted(), "%s: what was accepted and not undone is there, once", c.Me().Name)
		accepted += sum
		undone += c.undone
		worst = max(worst, c.latest)
		backs = append(backs, c.backs...)
		assert.NotEmpty(t, c.backs)
	}
	slices.Sort(backs)
	t.Logf(
		"%d kills, %d clients: %d accepted, %d undone, at most %d at once; back after %s (half), %s (99 of 100)", kills,
		clients, accepted, undone, worst, backs[len(backs)/2], backs[len(backs)*99/100],
	)
	assert.Less(t, backs[len(backs)*99/100], 5*time.Second)
}
