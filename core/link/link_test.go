package link

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func conditions(t *rapid.T) Conditions {
	return Conditions{
		Delay:     time.Duration(rapid.IntRange(0, 500).Draw(t, "delay")) * time.Millisecond,
		Jitter:    time.Duration(rapid.IntRange(0, 200).Draw(t, "jitter")) * time.Millisecond,
		Loss:      rapid.Float64Range(0, 0.2).Draw(t, "loss"),
		Reorder:   rapid.Float64Range(0, 0.5).Draw(t, "reorder"),
		Bandwidth: rapid.SampledFrom([]int{0, 500, 20_000}).Draw(t, "bandwidth"),
	}
}

// Whatever the conditions: what is sent arrives once, whole and in order, not before its delay; what is loose once at
// the most; and the same again gives the same times.
func TestWhatIsSentArrivesInOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := conditions(t)
		seed := rapid.Uint64().Draw(t, "seed")
		sends := rapid.SliceOfN(rapid.IntRange(0, 50), 1, 60).Draw(t, "pauses")
		loose := rapid.SliceOfN(rapid.Bool(), len(sends), len(sends)).Draw(t, "loose")
		run := func() (arrivals []string) {
			l, err := New(seed, c)
			require.NoError(t, err)
			now := time.Duration(0)
			sent := map[string]time.Duration{}
			got := map[string]bool{}
			next := 0
			looked := 0
			receive := func() {
				for _, m := range l.Receive(now) {
					arrivals = append(arrivals, fmt.Sprint(string(m), " at ", now))
					require.False(t, got[string(m)], "twice")
					got[string(m)] = true
					require.GreaterOrEqual(t, now-sent[string(m)], c.Delay)
					if m[0] == 'r' {
						require.Equal(t, fmt.Sprint("r", next), string(m), "in order")
						next++
					}
				}
			}
			kept := 0
			for i, pause := range sends {
				now += time.Duration(pause) * time.Millisecond
				receive()
				name := fmt.Sprint("r", kept)
				if loose[i] {
					name = fmt.Sprint("l", i)
				} else {
					kept++
				}
				sent[name] = now
				if loose[i] {
					l.SendLoose(now, []byte(name))
				} else {
					l.Send(now, []byte(name))
				}
			}
			for at, ok := l.Next(); ok; at, ok = l.Next() {
				now = max(now, at)
				receive()
				looked++
			}
			require.Equal(t, kept, next, "all that is not loose")
			stats := l.Stats()
			require.Equal(t, len(sends), len(got)+stats.Lost)
			return arrivals
		}
		require.Equal(t, run(), run())
	})
}

func TestLinksAreAsBadAsTheySay(t *testing.T) {
	l, err := New(1, Conditions{Delay: 50 * time.Millisecond, Loss: 0.1})
	require.NoError(t, err)
	for i := range 10_000 {
		l.SendLoose(time.Duration(i)*time.Second, []byte("x"))
	}
	assert.InDelta(t, 1000, l.Stats().Lost, 120)
	for i := range 10_000 {
		l.Send(time.Duration(i+10_000)*time.Second, []byte("x"))
	}
	assert.InDelta(t, 1111, l.Stats().Resent, 130, "a tenth, and a tenth of those again")

	thin, err := New(1, Conditions{Bandwidth: 1000})
	require.NoError(t, err)
	for range 20 {
		thin.Send(0, make([]byte, 100))
	}
	assert.Len(t, thin.Receive(time.Second), 10, "a thousand bytes a second")

	l.Cut()
	l.Send(0, []byte("y"))
	assert.True(t, l.Broken())
	assert.Empty(t, l.Receive(time.Hour*1000), "what was on its way is lost")
	l.Mend(time.Hour)
	l.Send(time.Hour, []byte("z"))
	assert.Len(t, l.Receive(time.Hour+time.Second*20), 1)
	for _, wrong := range []Conditions{
		{Delay: -1}, {Jitter: time.Hour}, {Loss: 1}, {Loss: -0.1}, {Reorder: 2}, {Bandwidth: -1},
	} {
		_, err := New(1, wrong)
		require.ErrorContains(t, err, "set a link: ")
		require.Error(t, l.Set(wrong))
	}
	require.NoError(t, l.Set(Conditions{Delay: time.Second}))
	assert.Equal(t, time.Second, l.Conditions().Delay)
}
