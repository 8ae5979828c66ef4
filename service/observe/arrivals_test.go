package observe

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kamerad.example/api"
)

// Each client counts once for each tick with decisions that it was there for, in the tick in which it confirmed it.
func TestArrivals(t *testing.T) {
	a := arrivals{confirmed: map[int]int64{}}
	a.join(1, 0)
	a.join(2, 0)
	a.decide(3)
	a.confirm(1, 2, 4) // not yet
	a.confirm(1, 3, 5)
	a.decide(5)
	a.join(3, 5) // after both
	a.confirm(1, 3, 6)
	a.confirm(2, 6, 9) // both at once
	a.confirm(3, 6, 9)
	a.leave(1)
	a.confirm(1, 6, 9) // it has left
	assert.Equal(t, []api.Arrivals{
		{Tick: 3, Clients: map[int]int64{1: 5, 2: 9}},
		{Tick: 5, Clients: map[int]int64{2: 9}},
	}, a.describe())
}

// No more ticks are kept than decisions are told of.
func TestArrivalsKeepsTheNewest(t *testing.T) {
	a := arrivals{confirmed: map[int]int64{}}
	a.join(1, 0)
	for tick := int64(1); tick <= 3*recentDecisions; tick++ {
		a.decide(tick)
		a.confirm(1, tick, tick+1)
	}
	got := a.describe()
	assert.Len(t, got, recentDecisions)
	for i, one := range got {
		assert.Equal(t, int64(2*recentDecisions+i+1), one.Tick)
		assert.Equal(t, map[int]int64{1: one.Tick + 1}, one.Clients)
	}
}
