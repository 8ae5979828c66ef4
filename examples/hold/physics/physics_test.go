package main

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A crate falls to the floor and comes to rest there, and on another one; one that is shoved moves, and its neighbour
// with it.
func TestCratesFallAndPush(t *testing.T) {
	w := newWater(-8)
	w.put(1, placed{x: -3, y: 2})
	w.put(2, placed{x: -3, y: 5})
	w.put(3, placed{x: -1.8, y: -7.5})
	last := map[uint32]placed{}
	run := func(seconds float64) {
		for range int(seconds * 20) {
			w.step(0.05)
			w.moved(func(number uint32, at placed) { last[number] = at })
		}
	}
	run(10)
	assert.InDelta(t, -7.4, last[1].y, 0.15, "on the floor")
	assert.InDelta(t, -6.4, last[2].y, 0.3, "on the other one")
	w.moved(func(number uint32, _ placed) { assert.Fail(t, "it rests", number) })
	w.shove(1, 9, 0)
	run(3)
	assert.Greater(t, last[1].x, -2.8)
	assert.Greater(t, last[3].x, -1.7, "it was pushed by the other")
	for number, at := range last {
		assert.GreaterOrEqual(t, at.y, -8.0, number)
		assert.LessOrEqual(t, math.Abs(at.x), wall, number)
	}
	w.remove(2)
	run(1)
	assert.Len(t, w.crates, 2)
}
