package eval

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	greatest = int64(math.MaxInt64)
	smallest = int64(math.MinInt64)
)

// A whole number comes out exact or not at all, over the whole range of its type.
func TestWholeNumbersDoNotWrap(t *testing.T) {
	for _, c := range []struct {
		op   string
		x, y int64
		want any // an error's text begins with "!"
	}{
		{"+", greatest - 1, 1, greatest},
		{"+", greatest, 1, "!too great"},
		{"+", smallest, -1, "!too great"},
		{"-", smallest, 1, "!too great"},
		{"-", -1, smallest, greatest},
		{"-", 0, smallest, "!too great"},
		{"*", 1 << 31, 1 << 31, int64(1 << 62)},
		{"*", 1 << 32, 1 << 31, "!too great"},
		{"*", smallest, -1, "!too great"},
		{"/", smallest, -1, "!too great"},
		{"/", -7, 2, int64(-3)},
		{"/", 7, 0, "!division by zero"},
		{"%", -7, 2, int64(-1)},
		{"%", smallest, -1, int64(0)},
		{"%", 7, 0, "!division by zero"},
		{"and", 7, 7, "!does not go with"},
	} {
		got, err := operate(nil, c.op, c.x, c.y)
		if text, fails := c.want.(string); fails {
			assert.ErrorContains(t, err, text[1:], "%d %s %d", c.x, c.op, c.y)
			continue
		}
		require.NoError(t, err, "%d %s %d", c.x, c.op, c.y)
		assert.Equal(t, c.want, got, "%d %s %d", c.x, c.op, c.y)
	}
	_, err := operateOne("-", smallest)
	assert.ErrorIs(t, err, errRange)
	_, err = function(nil, "abs", []any{smallest})
	assert.ErrorIs(t, err, errRange)
	got, err := function(nil, "abs", []any{-greatest})
	require.NoError(t, err)
	assert.Equal(t, greatest, got)
}

// No result is an infinity or no number: such could meet an expectation by accident.
func TestResultsAreFinite(t *testing.T) {
	huge := math.MaxFloat64
	for op, args := range map[string][2]any{
		"+": {huge, huge},
		"-": {-huge, huge},
		"*": {huge, int64(2)},
		"/": {huge, 0.5},
	} {
		_, err := operate(nil, op, args[0], args[1])
		assert.ErrorIs(t, err, errUndefined, op)
	}
	for op, args := range map[string][2]any{
		"+": {vector{huge, 0}, vector{huge, 0}},
		"-": {vector{0, -huge}, vector{0, huge}},
		"*": {vector{1, huge}, int64(2)},
	} {
		_, err := operate(nil, op, args[0], args[1])
		assert.ErrorIs(t, err, errUndefined, op)
	}
	_, err := function(nil, "length", []any{vector{huge, huge}})
	assert.ErrorIs(t, err, errUndefined)
	_, err = function(nil, "distance", []any{vector{huge, 0}, vector{-huge, 0}})
	assert.ErrorIs(t, err, errUndefined)
	sum, err := operate(nil, "+", vector{1, 2}, vector{3, 4})
	require.NoError(t, err)
	assert.Equal(t, vector{4, 6}, sum)
	twice, err := operate(nil, "*", vector{1, 2}, 2.0)
	require.NoError(t, err)
	assert.Equal(t, vector{2, 4}, twice)
	half, err := operate(nil, "/", vector{1, 2}, int64(2))
	require.NoError(t, err)
	assert.Equal(t, vector{0.5, 1}, half)
	_, err = operate(nil, "/", vector{1, 2}, int64(0))
	assert.ErrorIs(t, err, errByZero)
	_, err = operate(nil, "*", vector{1, 2}, vector{3, 4})
	assert.ErrorContains(t, err, "does not go with")
	_, err = operate(nil, "+", vector{1, 2}, vector{1, 2, 3})
	assert.ErrorContains(t, err, "does not go with")
}

// Numbers compare as they are: no digit is lost on the way.
func TestNumbersCompareExactly(t *testing.T) {
	const beyond = int64(1)<<53 + 1 // the first whole number that no double has
	for _, c := range []struct {
		x, y any
		want int
	}{
		{beyond, beyond - 1, 1},
		{beyond, float64(beyond - 1), 1},
		{float64(beyond - 1), beyond, -1},
		{beyond, beyond, 0},
		{greatest, float64(greatest), -1},
		{int64(3), 3.0, 0},
		{0.1, int64(0), 1},
		{math.Copysign(0, -1), int64(0), 0},
		{smallest, greatest, -1},
		{"ada", "bea", -1},
		{"bea", "be", 1},
		{"", "", 0},
		{"Z", "a", -1},
		{"a", "é", -1},
	} {
		for op, want := range map[string]bool{
			"<": c.want < 0, "<=": c.want <= 0, ">": c.want > 0, ">=": c.want >= 0,
			"==": c.want == 0, "!=": c.want != 0,
		} {
			got, err := operate(&Env{}, op, c.x, c.y)
			require.NoError(t, err, "%v %s %v", c.x, op, c.y)
			assert.Equal(t, want, got, "%v %s %v", c.x, op, c.y)
		}
	}
	for _, x := range []any{nothing{}, "3", math.NaN(), math.Inf(1)} {
		_, err := operate(&Env{}, "<", x, int64(3))
		assert.ErrorContains(t, err, "does not go with", x)
	}
}

// A roll takes any two ends that are not too far from each other, wherever they are.
func TestRolls(t *testing.T) {
	e := &Env{Dice: rand.New(rand.NewPCG(1, 2))}
	for _, ends := range [][2]int64{
		{1, 6}, {5, 5}, {smallest, smallest + 3}, {greatest - 3, greatest}, {0, maxSpan - 1},
	} {
		for range 100 {
			got, err := function(e, "roll", []any{ends[0], ends[1]})
			require.NoError(t, err, ends)
			assert.GreaterOrEqual(t, got, ends[0])
			assert.LessOrEqual(t, got, ends[1])
		}
	}
	for _, ends := range [][2]int64{{6, 1}, {smallest, greatest}, {-greatest, greatest}, {0, maxSpan}} {
		_, err := function(e, "roll", []any{ends[0], ends[1]})
		assert.ErrorContains(t, err, "roll does not take", ends)
	}
}
