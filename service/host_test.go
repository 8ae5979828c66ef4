package service

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
	"kamerad.example/demo"
	"kamerad.example/internal/tests/testservice"
	"kamerad.example/store"
)

// alone runs a service without a database.
func alone(t *testing.T) (*Service, api.Client) {
	records := &store.Memory{}
	v, err := New(t.Context(), Options{Records: records, Recorder: records, Console: page})
	require.NoError(t, err)
	return v, serve(t, v)
}

// ears remember what a client is told, in order.
type ears struct {
	mu    sync.Mutex
	words []string
	tick  int64
}

func (e *ears) frame(f *wire.Frame, notices []replicate.Notice) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.tick = f.Tick
	for _, n := range notices {
		line := string(n.Type)
		if n.Entity != nil {
			line += fmt.Sprint(" ", n.Entity.Kind, " of ", n.Entity.Owner)
		}
		if n.Field.Type != nil {
			line += " " + n.Field.Name + " = " + n.Field.Type.Format(n.Field.Value)
		}
		if n.Old != nil {
			line += " from " + n.Field.Type.Format(*n.Old)
		}
		if n.Event != nil {
			line += " " + string(n.Event.JSON())
		}
		e.words = append(e.words, line+n.Client.Name)
	}
	for _, d := range f.Decisions {
		e.words = append(e.words, fmt.Sprint(d.Outcome, " ", d.Reason))
	}
}

func (e *ears) heard() (string, int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return strings.Join(e.words, "\n"), e.tick
}

// The same script, played by a client within the service and by one over a socket: the same notices in the same order,
// and the same state in the end.
func TestAHostIsAClientLikeAnyOther(t *testing.T) {
	v, admin := alone(t)
	play := func(hosted bool) (words, state string) {
		opened(t, v, admin, true)
		// The key makes numbers and dice the same in both.
		s, err := admin.Open(
			t.Context(), api.OpenSession{Contract: "tidewreck", Paused: true, Key: strings.Repeat("7e", 32)},
		)
		require.NoError(t, err)
		x := v.registry.Find(s.ID)
		e := &ears{}
		var ana *client.Client
		if hosted {
			ana, err = v.Host(t.Context(), s.ID, "Ana", "player", client.Options{OnFrame: e.frame})
		} else {
			ana, err = client.Join(t.Context(), admin.Service, s.ID, "Ana", "player", client.Options{OnFrame: e.frame})
		}
		require.NoError(t, err)
		bo, err := client.Join(t.Context(), admin.Service, s.ID, "Bo", "player", client.Options{})
		require.NoError(t, err)
		step := func(inputs int) {
			require.Eventually(t, func() bool {
				queued := 0
				_ = x.Runner().Do(t.Context(), func() { queued = x.Runner().Session().Queued() })
				return queued >= inputs
			}, 10*time.Second, time.Millisecond)
			_, err := admin.Step(t.Context(), s.ID, 1)
			require.NoError(t, err)
		}
		step(4)
		for i, ask := range [][]string{
			{"Diver.use", `"patch"`},
			{"Diver.search"},
			{"Diver.paint", `"rust"`},
			{"Diver.use", `"pearl"`},
			{"Diver.use", `"flare"`},
			{"Diver.nothing"},
		} {
			who := ana
			if i%3 == 2 {
				who = bo
			}
			done := make(chan struct{})
			go func() {
				defer close(done)
				var args []json.RawMessage
				for _, a := range ask[1:] {
					args = append(args, json.RawMessage(a))
				}
				_, err := who.Forge(t.Context(), 0, ask[0], args...)
				assert.NoError(t, err)
			}()
			step(1)
			<-done
		}
		_, err = admin.Step(t.Context(), s.ID, 40)
		require.NoError(t, err)
		require.Eventually(t, func() bool { _, tick := e.heard(); return tick >= 40 }, 10*time.Second, time.Millisecond)
		ana.Look(func(c *replicate.Copy) { state = string(c.Snapshot().JSON()) })
		words, _ = e.heard()
		ana.Close()
		bo.Close()
		return words, state
	}
	words, state := play(true)
	remoteWords, remoteState := play(false)
	assert.Equal(t, remoteWords, words)
	assert.Equal(t, remoteState, state)
	assert.Contains(t, words, "mine Diver of 1")
	assert.Equal(t, 1, strings.Count(words, "mine "), "told once")
	assert.Contains(t, words, "welcome")
}

// A client that was made for another outline is refused with what differs; one that was made for this one is not given
// it again.
func TestTheOutlineIsPartOfTheHandshake(t *testing.T) {
	v, admin := alone(t)
	x := opened(t, v, admin, false)
	c, problems := compile.Load(
		"other.kam", strings.Replace(testservice.Contract, "score:   int 0..9999", "score:   int 0..99", 1),
	)
	require.NotNil(t, c, problems)
	_, err := client.Join(t.Context(), admin.Service, x.Runner().ID(), "Ana", "", client.Options{Outline: c.Outline()})
	require.ErrorContains(t, err, "Diver.score is another")
	require.NotContains(t, err.Error(), "Diver.hull")
	o := client.Options{Outline: x.Runner().Outline()}
	ana, err := client.Join(t.Context(), admin.Service, x.Runner().ID(), "Ana", "", o)
	require.NoError(t, err)
	ana.Close()
}

// A client whose connection is lost takes its seat again with its token: the same client, its entity still its own, and
// what was told meanwhile once it is ready. A token is good once.
func TestALostSeatIsTakenAgain(t *testing.T) {
	v, admin := alone(t)
	_, err := admin.Publish(t.Context(), "tidewreck.kam", demo.Contract, demo.Files)
	require.NoError(t, err)
	s, err := admin.Open(t.Context(), api.OpenSession{Contract: "tidewreck"})
	require.NoError(t, err)
	x := v.registry.Find(s.ID)
	ana, err := client.Join(t.Context(), admin.Service, s.ID, "Ana", "", client.Options{})
	require.NoError(t, err)
	bo, err := client.Join(t.Context(), admin.Service, s.ID, "Bo", "", client.Options{})
	require.NoError(t, err)
	me := ana.Me()
	require.NoError(t, x.Runner().Do(t.Context(), func() { x.Runner().Lose(me.Number, "its cable was pulled") }))
	<-ana.Ended()
	_, err = client.Join(t.Context(), admin.Service, s.ID, "Ana", "", client.Options{})
	require.ErrorContains(t, err, "in use", "the seat waits")
	_, err = bo.Forge(t.Context(), 0, "Diver.search")
	require.NoError(t, err)
	e := &ears{}
	again, err := client.Rejoin(t.Context(), admin.Service, s.ID, ana.Token(), client.Options{OnFrame: e.frame})
	require.NoError(t, err)
	require.Equal(t, me, again.Me())
	require.Eventually(
		t, func() bool { words, _ := e.heard(); return strings.Contains(words, "mine Diver of 1") }, 10*time.Second,
		time.Millisecond,
	)
	d, err := again.Forge(t.Context(), 0, "Diver.search")
	require.NoError(t, err)
	require.NotEqual(t, wire.Malformed, d.Outcome)
	_, err = client.Rejoin(t.Context(), admin.Service, s.ID, ana.Token(), client.Options{})
	require.ErrorContains(t, err, "no seat waits")
	again.Close()
	bo.Close()
}

// A copy that is not what its digest says is told, counted and sent anew.
func TestACopyThatDiffersIsHealed(t *testing.T) {
	v, admin := alone(t)
	x := opened(t, v, admin, false)
	var differed atomic.Int64
	var ana *client.Client
	snapshots := atomic.Int64{}
	ana, err := client.Join(t.Context(), admin.Service, x.Runner().ID(), "Ana", "", client.Options{
		OnDiffer: func(int64) { differed.Add(1) },
		OnFrame: func(f *wire.Frame, _ []replicate.Notice) {
			if f.Snapshot {
				snapshots.Add(1)
			}
		},
	})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return snapshots.Load() == 1 }, 10*time.Second, time.Millisecond)
	ana.Look(func(c *replicate.Copy) { c.Entities()[0].Fields[0].Value.Num++ }) // as a fault would
	require.Eventually(t, func() bool { return snapshots.Load() == 2 }, 10*time.Second, time.Millisecond)
	require.NotZero(t, differed.Load())
	_, metrics, _ := get(t, "GET", admin.Service+"/metrics", "", nil)
	assert.Contains(t, metrics, "kamerad_differences_total 1")
	ana.Close()
}

// Tidewreck over sockets with eight clients that speak binary and one that speaks JSON: every digest agrees.
// KAMERAD_PLAY says for how long; a few seconds if it does not.
func TestNineDiversStayInStep(t *testing.T) {
	long := 4 * time.Second
	if d, err := time.ParseDuration(os.Getenv("KAMERAD_PLAY")); err == nil {
		long = d
	}
	_, admin := alone(t)
	_, err := admin.Publish(t.Context(), "tidewreck.kam", demo.Contract, demo.Files)
	require.NoError(t, err)
	s, err := admin.Open(t.Context(), api.OpenSession{Contract: "tidewreck"})
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), long)
	defer cancel()
	var digests, differed, events atomic.Int64
	var divers []*client.Client
	var wait sync.WaitGroup
	for i := range 9 {
		c, err := client.Join(t.Context(), admin.Service, s.ID, fmt.Sprint("Diver ", i), "player", client.Options{
			JSON:     i == 8,
			OnDiffer: func(int64) { differed.Add(1) },
			OnFrame: func(f *wire.Frame, _ []replicate.Notice) {
				if f.Digest != nil {
					digests.Add(1)
				}
				events.Add(int64(len(f.Events)))
			},
		})
		require.NoError(t, err)
		divers = append(divers, c)
		wait.Add(1)
		go func() {
			defer wait.Done()
			_ = demo.Play(ctx, c, uint64(i+1), 150*time.Millisecond)
		}()
	}
	wait.Wait()
	for _, c := range divers { // who plays leaves in the end
		<-c.Ended()
	}
	t.Logf(
		"%s of play: %d digests agreed, %d differed; %d events were heard", long, digests.Load()-differed.Load(),
		differed.Load(), events.Load(),
	)
	assert.Zero(t, differed.Load())
	assert.Greater(t, digests.Load(), 9*int64(long/time.Second)/2)
}

// The client library asks only what its copy allows, refuses what the outline lacks, and gives values as they are and
// as they come.
func TestAClientKnowsWhatItMayAsk(t *testing.T) {
	v, admin := alone(t)
	x := opened(t, v, admin, false)
	ana, err := client.Join(t.Context(), admin.Service, x.Runner().ID(), "Ana", "", client.Options{})
	require.NoError(t, err)
	mine := func(c *replicate.Entity) bool { return c.Kind == "Diver" && c.Owner == ana.Me().Number }
	tints := make(chan string, 10)
	follow := func() (stop func()) {
		return ana.Follow("tint", mine, func(_ *replicate.Entity, now wire.Field, old *contract.Value) {
			word := now.Type.Format(now.Value)
			if old != nil {
				word = now.Type.Format(*old) + " to " + word
			}
			tints <- word
		})
	}
	stop := follow() // before it has come
	require.Equal(t, "coral", <-tints)
	_, err = ana.Ask(t.Context(), 0, "Diver.paint", json.RawMessage(`"rust"`))
	require.NoError(t, err)
	require.Equal(t, "coral to rust", <-tints)
	stop()
	follow()() // after it has come
	require.Equal(t, "rust", <-tints)

	_, err = ana.Ask(t.Context(), 0, "Diver.explode")
	require.ErrorContains(t, err, "no such request; there is")
	_, err = ana.Ask(t.Context(), 0, "Diver.paint", json.RawMessage(`"purple"`))
	require.ErrorContains(t, err, "the argument `colour` is \"purple\", not one of")
	_, err = ana.Ask(t.Context(), 0, "Diver.paint")
	require.ErrorContains(t, err, "it has 1 arguments, not 0")
	d, err := ana.Ask(t.Context(), 0, "Diver.use", json.RawMessage(`"relic"`))
	require.NoError(t, err)
	require.Equal(t, wire.Decision{
		Outcome: wire.Denied,
		Stage:   wire.StageCheck,
		Reason:  "not carried",
		Check:   d.Check,
	}, d, "nothing was sent")
	forged, err := ana.Forge(t.Context(), 0, "Diver.use", json.RawMessage(`"relic"`))
	require.NoError(t, err)
	require.Equal(t, d.Reason, forged.Reason, "as the server says")
	require.NotZero(t, forged.Seq)

	now := int64(0)
	require.NoError(t, x.Runner().Do(t.Context(), func() { now = x.Runner().Session().Now() }))
	late := ana.Clock() - time.Duration(now)*time.Second/20
	require.Less(t, late.Abs(), time.Second, "the server's time")
	ana.Close()
}
