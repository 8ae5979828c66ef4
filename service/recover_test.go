package service_test

import (
	"context"
	"encoding/json"
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
seats 250 grace 60s
entity Diver per player {
  n: int 0..1000000 = 0 keep
  request add() from owner { n += 1 }
}
`

// counter is a client that counts, and what became of it.
type counter struct {
	*client.Client
	mu       sync.Mutex
	accepted map[uint64]bool // requests that were accepted and not undone
	undone   int
	latest   int         // of the requests that were undone at once
	waiting  []countedAt // changes that are not settled
	settled  int         // changes that were called settled
	lost     []string    // what was settled and is not there
	backs    []time.Duration
	lostAt   time.Time
	gaps     gaps
}

// settledNow returns what the client was told to be settled.
func (c *counter) settledNow() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.settled
}

// countedAt is what was counted at a tick.
type countedAt struct{ tick, n int64 }

// see notes what a frame says of the count, and of what is settled.
func (c *counter) see(f *wire.Frame) {
	n := c.counted()
	c.mu.Lock()
	defer c.mu.Unlock()
	if f.Incarnation != nil {
		c.waiting = nil
		if n < int64(c.settled) {
			c.lost = append(c.lost, fmt.Sprintf("at tick %d: %d were settled, and %d are there", f.Tick, c.settled, n))
		}
	}
	if last := len(c.waiting) - 1; n > int64(c.settled) && (last < 0 || c.waiting[last].n != n) {
		c.waiting = append(c.waiting, countedAt{f.Tick, n})
	}
	for len(c.waiting) > 0 && c.waiting[0].tick <= f.Settled {
		c.settled = int(c.waiting[0].n)
		c.waiting = c.waiting[1:]
	}
}

// joinCounter seats a counter.
func joinCounter(t *testing.T, p *testservice.Process, session int64, name string) *counter {
	c := &counter{accepted: map[uint64]bool{}}
	joined := make(chan struct{})
	var err error
	c.Client, err = client.Join(t.Context(), p.Service, session, name, "", client.Options{
		OnUndone: func(requests []uint64, _ int64) {
			c.mu.Lock()
			defer c.mu.Unlock()
			for _, seq := range requests {
				delete(c.accepted, seq)
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
			<-joined
			c.see(f)
			c.gaps.frame()
			c.mu.Lock()
			defer c.mu.Unlock()
			for _, d := range f.Decisions {
				if d.Outcome == wire.Accepted {
					c.accepted[d.Seq] = true // it may be told again, to who asks again
				}
			}
		},
	})
	require.NoError(t, err)
	close(joined)
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

// The service is killed again and again while clients play, in a quarter of the rounds with the database: each time the
// sessions go on, all clients are back by themselves, no decision that was not told as undone is lost, and none counts
// twice. It is killed between what is stored and what is said, too. KAMERAD_KILLS says how often at random moments,
// KAMERAD_FAILS how often at each failpoint, and KAMERAD_CLIENTS how many clients play.
func TestSessionsOutliveTheirProcess(t *testing.T) {
	kills, clients := 10, 10
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_KILLS")); err == nil {
		kills = n
	}
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_CLIENTS")); err == nil {
		clients = n
	}
	cluster := testservice.NewCluster(t)
	p := testservice.StartOn(t, cluster.URL)
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
	for i := range kills {
		time.Sleep(time.Duration(200+r.IntN(1500)) * time.Millisecond)
		if i%4 == 1 { // the database as well, a moment before or after
			cluster.Kill()
			time.Sleep(time.Duration(r.IntN(30)) * time.Millisecond)
			p.Kill()
			cluster.Start()
		} else {
			p.Kill()
		}
		p.Restart()
	}
	time.Sleep(500 * time.Millisecond)
	backs := takeBacks(all) // at a failpoint it is killed twice in a row
	died := killAtFailpoints(t, p, session.ID, r)
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
	accepted := 0
	undone := 0
	worst := 0 // of one client at once
	settled := 0
	for _, c := range all {
		c.mu.Lock()
		sum := len(c.accepted)
		c.mu.Unlock()
		assert.Eventually(t, func() bool { return c.counted() == int64(sum) }, 5*time.Second, 10*time.Millisecond)
		assert.EqualValues(t, sum, c.counted(), "%s: what was accepted and not undone is there, once", c.Me().Name)
		assert.Empty(t, c.lost, c.Me().Name)
		settled += c.settled
		accepted += sum
		undone += c.undone
		worst = max(worst, c.latest)
	}
	require.NotEmpty(t, backs)
	t.Logf(
		"%d kills and %v, %d clients: %d accepted, %d settled, %d undone, at most %d at once; back after %s (half), %s "+
			"(99 of 100)",
		kills, died, clients, accepted, settled, undone, worst, backs[len(backs)/2], backs[len(backs)*99/100],
	)
	assert.Less(t, backs[len(backs)*99/100], 5*time.Second)
	assert.Greater(t, settled, accepted/2)
}

// takeBacks returns how long each client took to be back each time, sorted, and forgets it.
func takeBacks(all []*counter) (backs []time.Duration) {
	for _, c := range all {
		c.mu.Lock()
		backs = append(backs, c.backs...)
		c.backs = nil
		c.mu.Unlock()
	}
	slices.Sort(backs)
	return backs
}

// Two services have one database: each runs its own sessions, and when one of them is killed, the other one takes what
// it ran.
func TestAnotherServiceTakesWhatIsLeft(t *testing.T) {
	first := testservice.Start(t)
	second := testservice.StartOn(t, first.Database)
	_, err := first.Publish(t.Context(), "count.kam", countText, nil)
	require.NoError(t, err)
	session, err := first.Open(t.Context(), api.OpenSession{Contract: "count"})
	require.NoError(t, err)
	own, err := second.Open(t.Context(), api.OpenSession{Contract: "count"})
	require.NoError(t, err)
	ana, err := client.Join(t.Context(), first.Service, session.ID, "Ana", "", client.Options{})
	require.NoError(t, err)
	defer ana.Close()
	d, err := ana.Ask(t.Context(), 0, "Diver.add")
	require.NoError(t, err)
	require.Equal(t, wire.Accepted, d.Outcome)
	_, err = client.Join(t.Context(), second.Service, session.ID, "Bo", "", client.Options{})
	require.ErrorContains(t, err, "in another service")
	time.Sleep(5 * time.Second / 2) // in which the second one looks for what was left
	still, err := first.Session(t.Context(), session.ID)
	require.NoError(t, err)
	assert.True(t, still.Open)
	first.Kill()
	require.Eventually(t, func() bool {
		s, err := second.Session(t.Context(), session.ID)
		return err == nil && s.Open
	}, 10*time.Second, 20*time.Millisecond)
	var cleo *client.Client
	cleo, err = client.Join(t.Context(), second.Service, session.ID, "Cleo", "", client.Options{})
	require.NoError(t, err)
	defer cleo.Close()
	require.Eventually(t, func() (counted bool) {
		cleo.Look(func(held *replicate.Copy) {
			for _, e := range held.Entities() {
				f, has := e.Field("n")
				counted = counted || has && f.Value.Num == 1
			}
		})
		return counted
	}, 5*time.Second, 5*time.Millisecond)
	first.Restart()
	_, err = client.Join(t.Context(), first.Service, session.ID, "Dora", "", client.Options{})
	require.ErrorContains(t, err, "in another service", "what was taken stays there")
	running, err := second.Session(t.Context(), own.ID)
	require.NoError(t, err)
	assert.True(t, running.Open)
}

// failpoints are the places at which a service is killed between what is stored and what is said, with how often each
// is hit at most before it is.
var failpoints = map[string]int{
	"store.Storing":       20,
	"journal.Stored":      20,
	"store.Leased":        3,
	"registry.Recovered":  1,
	"gateway.BatchTaken":  100,
	"gateway.HelloQueued": 8,
}

// killAtFailpoints kills the service at each of the failpoints, as often as KAMERAD_FAILS says, and returns how often it
// was. A guest comes and goes meanwhile.
func killAtFailpoints(t *testing.T, p *testservice.Process, session int64, r *rand.Rand) map[string]int {
	rounds := 1
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_FAILS")); err == nil {
		rounds = n
	}
	ctx, stop := context.WithCancel(t.Context())
	service := p.Service
	var guest sync.WaitGroup
	guest.Go(func() {
		for i := 0; ctx.Err() == nil; i++ { // whose seat waits when the service is killed keeps the name
			if c, err := client.Join(ctx, service, session, fmt.Sprint("guest", i), "", client.Options{}); err == nil {
				_, _ = c.Ask(ctx, 0, "Diver.add")
				c.Close()
			}
		}
	})
	defer guest.Wait()
	defer stop()
	killed := map[string]int{}
	for point, most := range failpoints {
		for range rounds {
			time.Sleep(time.Duration(r.IntN(500)) * time.Millisecond)
			p.Kill()
			if assert.True(t, p.RestartUntil(point, 1+r.IntN(most), 20*time.Second), point) {
				killed[point]++
			}
			p.Restart()
		}
	}
	return killed
}

const lookText = `contract look language 2
tick 20 per second
entity Diver per player {
  tint: int 0..5 = 2 keep
  request paint(hue: int 0..5) from owner { tint = hue }
}
`

// tintOf returns a client's own tint.
func tintOf(c *client.Client) (tint int64) {
	c.Look(func(held *replicate.Copy) {
		for _, e := range held.Entities() {
			if f, has := e.Field("tint"); has && e.Owner == c.Me().Number {
				tint = f.Value.Num
			}
		}
	})
	return tint
}

// What a player keeps is there in the next session of the contract, after the service was killed in between; it is in
// one session at a time.
func TestALookThatLasts(t *testing.T) {
	p := testservice.Start(t)
	_, err := p.Publish(t.Context(), "look.kam", lookText, nil)
	require.NoError(t, err)
	first, err := p.Open(t.Context(), api.OpenSession{Contract: "look"})
	require.NoError(t, err)
	settled := make(chan int64, 1000)
	ana, err := client.Join(t.Context(), p.Service, first.ID, "Ana", "", client.Options{
		OnFrame: func(f *wire.Frame, _ []replicate.Notice) {
			if f.Settled > 0 {
				settled <- f.Settled
			}
		},
	})
	require.NoError(t, err)
	d, err := ana.Ask(t.Context(), 0, "Diver.paint", json.RawMessage("5"))
	require.NoError(t, err)
	require.Equal(t, wire.Accepted, d.Outcome)
	<-settled
	second, err := p.Open(t.Context(), api.OpenSession{Contract: "look"})
	require.NoError(t, err)
	_, err = client.Join(t.Context(), p.Service, second.ID, "Ana", "", client.Options{})
	var refused *client.Refused
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, api.CodePlayerElsewhere, refused.Code)
	assert.Contains(t, refused.Reason, fmt.Sprintf("session %d", first.ID))
	p.Kill()
	p.Restart()
	_, err = p.Close(t.Context(), first.ID, "enough")
	require.NoError(t, err)
	<-ana.Ended()
	again, err := client.Join(t.Context(), p.Service, second.ID, "Ana", "", client.Options{})
	require.NoError(t, err)
	defer again.Close()
	require.Eventually(t, func() bool { return tintOf(again) == 5 }, 5*time.Second, 5*time.Millisecond)
	d, err = again.Ask(t.Context(), 0, "Diver.paint", json.RawMessage("3"))
	require.NoError(t, err)
	require.Equal(t, wire.Accepted, d.Outcome)
	again.Close()
	<-again.Ended()
	back, err := client.Join(t.Context(), p.Service, second.ID, "Ana", "", client.Options{})
	require.NoError(t, err)
	defer func() { back.Close() }()
	require.Eventually(t, func() bool { return tintOf(back) == 3 }, 5*time.Second, 5*time.Millisecond)
	// What is changed in the tick in which one leaves, or just before, is there for who comes back at once.
	for hue := range 5 {
		d, err = back.Ask(t.Context(), 0, "Diver.paint", json.RawMessage(fmt.Sprint(hue)))
		require.NoError(t, err)
		require.Equal(t, wire.Accepted, d.Outcome)
		back.Close()
		<-back.Ended()
		back, err = client.Join(t.Context(), p.Service, second.ID, "Ana", "", client.Options{})
		require.NoError(t, err)
		require.Eventually(t, func() bool { return tintOf(back) == int64(hue) }, 5*time.Second, 5*time.Millisecond)
	}
	bo, err := client.Join(t.Context(), p.Service, second.ID, "Bo", "", client.Options{})
	require.NoError(t, err)
	defer bo.Close()
	require.Eventually(t, func() bool { return tintOf(bo) == 2 }, 5*time.Second, 5*time.Millisecond)
}
