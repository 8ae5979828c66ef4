package runner

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/core/wire"
)

const tide = `contract tide language 1
roles player
shared Sea { n: int 0..9999 = 0; every 50ms { n += 1 } }
entity Diver per player { hull: int 0..9999 = 0; every 50ms { hull += 1 } }`

// told returns what a watcher is told, up to the end, and why it ended.
func told(t *testing.T, w *Watcher) (list []api.Watch, why string) {
	for {
		select {
		case raw := <-w.Messages():
			var m api.Watch
			require.NoError(t, json.Unmarshal(raw, &m))
			list = append(list, m)
		case <-w.Ended():
			if len(w.Messages()) == 0 {
				return list, w.Why()
			}
		case <-time.After(10 * time.Second):
			require.Fail(t, "nothing more comes, and it does not end")
		}
	}
}

// A session is not slowed down by who describes it: those who watch are sent away, with all that was noted until then.
func TestASessionDoesNotWaitForWhoDescribesIt(t *testing.T) {
	r, _ := newTestRunner(t, tide, Options{})
	hold := make(chan struct{})
	defer Failpoints.Describes.Set(func() { <-hold })()
	w, err := r.watchers.add(r, true)
	require.NoError(t, err)
	isHeld := func() bool { return len(r.watchers.describer.moments) == 0 }
	require.Eventually(t, isHeld, 10*time.Second, time.Millisecond)
	for range maxMoments + 2 {
		r.Tick()
	}
	assert.Nil(t, r.watchers.describer)
	assert.Empty(t, r.watchers.list)
	close(hold)
	list, why := told(t, w)
	assert.Equal(t, tooSlow, why)
	require.Len(t, list, 1+maxMoments)
	for i, m := range list[1:] {
		assert.Equal(t, int64(i+1), m.Tick)
	}

	again, err := r.watchers.add(r, true)
	require.NoError(t, err)
	r.Tick()
	r.watchers.end("enough")
	list, why = told(t, again)
	assert.Equal(t, "enough", why)
	require.Len(t, list, 2)
	assert.Equal(t, api.WatchSheet, list[0].Type)
	assert.Equal(t, int64(maxMoments+3), list[1].Tick)
}

// Frames that wait to be described take a bounded amount of memory.
func TestMomentsThatWaitAreBoundedByTheirBytes(t *testing.T) {
	d := newDescriber(1, nil)
	d.bytes.Store(maxMomentBytes)
	r, _ := newTestRunner(t, tide, Options{})
	_, err := r.TakeSeat(SeatRequest{Join: wire.Join{Name: "Ana"}})
	require.NoError(t, err)
	r.watchers.observer.Begin()
	moment := r.watchers.observer.Tick(r.session.Tick(), false)
	require.Positive(t, moment.Size())
	assert.False(t, d.hand(momentFor{moment: moment}))
	d.bytes.Store(0)
	assert.True(t, d.hand(momentFor{moment: moment}))
	assert.Equal(t, int64(moment.Size()), d.bytes.Load())
}

// A failure in telling what happens ends the watching, and not the session; who comes once the others have gone is told
// again.
func TestAFailureToDescribeEndsTheWatching(t *testing.T) {
	log := captureLog(t)
	r, _ := newTestRunner(t, tide, Options{})
	first, err := r.watchers.add(r, true)
	require.NoError(t, err)
	require.Equal(t, api.WatchSheet, watched(t, first).Type)
	clear := Failpoints.Describes.Set(func() { panic("the pen broke") })
	r.Tick()
	_, why := told(t, first)
	assert.Equal(t, failedToDescribe, why)
	assert.Contains(t, log.String(), "the pen broke")
	clear()
	second, err := r.watchers.add(r, true) // before the runner knows that the first has gone
	require.NoError(t, err)
	_, why = told(t, second)
	assert.Equal(t, failedToDescribe, why)
	r.watchers.remove(first)
	r.watchers.remove(second)
	clear = Failpoints.Describes.Set(func() { panic("no ink") })
	unlucky, err := r.watchers.add(r, true)
	require.NoError(t, err)
	_, why = told(t, unlucky) // it failed at the first that it was to be told
	assert.Equal(t, failedToDescribe, why)
	clear()
	r.watchers.remove(unlucky)
	third, err := r.watchers.add(r, true)
	require.NoError(t, err)
	r.Tick()
	r.watchers.end("enough")
	list, _ := told(t, third)
	require.Len(t, list, 2)
	assert.Equal(t, int64(2), list[1].Tick)
}

// watched returns the next message of a watcher.
func watched(t *testing.T, w *Watcher) (m api.Watch) {
	select {
	case raw := <-w.Messages():
		require.NoError(t, json.Unmarshal(raw, &m))
	case <-time.After(10 * time.Second):
		require.Fail(t, "nothing comes")
	}
	return m
}
