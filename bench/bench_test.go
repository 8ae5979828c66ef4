package main

import (
	"encoding/json"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
)

func TestTheMiddleChunkTellsThePercentile(t *testing.T) {
	var list []float64
	for range 3 {
		for i := range 400 {
			list = append(list, float64(i))
		}
	}
	for i := range 200 { // the machine stands still
		list[i] = 9999
	}
	assert.Equal(t, 396.0, part99(list))
	assert.Zero(t, part99(nil))
}

func TestTheMiddleRoundIsHeldAgainstTheCheaperLoop(t *testing.T) {
	round := func(first, bare, second, plain int) []perTick {
		var out []perTick
		for _, ms := range []int{first, bare, second, plain} {
			out = append(out, perTick{cpu: time.Duration(ms) * time.Millisecond, bytes: 100})
		}
		return out
	}
	all := [][]perTick{
		round(14, 10, 16, 11), round(10, 9, 12, 99), round(12, 10, 12, 1), round(20, 10, 30, 12), round(10, 10, 10, 13),
	}
	ours, floor := compare(all)
	assert.Equal(
		t, perTick{cpu: 11 * time.Millisecond, bytes: 100}, ours,
		"both turns of the round whose ratio is the middle one, 1.22",
	)
	assert.Equal(t, 9*time.Millisecond, floor.cpu, "the bare loop: the other one was cheaper in one round alone")
	for i := range all { // now the other way round
		all[i][1], all[i][3] = all[i][3], all[i][1]
	}
	_, floor = compare(all)
	assert.Equal(t, 9*time.Millisecond, floor.cpu)
}

func TestEntropy(t *testing.T) {
	assert.Zero(t, entropy(map[int64]int{7: 12, 8: 0}))
	assert.InDelta(t, 8, entropy(map[int64]int{0: 4, 1: 4}), 1e-9)
	assert.InDelta(t, 4*(-0.25*math.Log2(0.25)-0.75*math.Log2(0.75)), entropy(map[int64]int{0: 1, 1: 3}), 1e-9)
}

// The same seed plays the same dive, and what it takes on the wire is a part of what JSON would take.
func TestADiveIsRecorded(t *testing.T) {
	one, in, pure, err := playTidewreck(1, 8, 120)
	require.NoError(t, err)
	two, _, _, err := playTidewreck(1, 8, 120)
	require.NoError(t, err)
	assert.Equal(t, one, two)
	ours := 0
	plain := 0
	for _, f := range one {
		ours = ours + f.bytes
		plain = plain + len(f.json)
	}
	assert.Less(t, ours*6, plain)
	assert.Positive(t, pure)
	assert.Positive(t, in.bits())
}

func TestTheContractsAreRight(t *testing.T) {
	for _, text := range []string{population(20), population(50), lean} {
		c, problems := compile.Load("bench.kam", text)
		require.NotNil(t, c, problems)
	}
}

// What is asked for is measured, printed and written by name.
func TestFiguresAreWritten(t *testing.T) {
	file := filepath.Join(t.TempDir(), "figures.json")
	require.NoError(t, all(true, file, regexp.MustCompile("^nothing$")))
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	var r report
	require.NoError(t, json.Unmarshal(raw, &r))
	assert.True(t, r.Quick)
	assert.Empty(t, r.Figures)
	assert.ErrorContains(t, run([]string{"--only", "("}), "read --only")
}
