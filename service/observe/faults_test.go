package observe

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/core/session"
)

func about(text string) func() string { return func() string { return text } }

// A fault that comes again counts and moves to the front; of many different ones the newest are kept.
func TestTheLastFaultsAreKeptEachOnce(t *testing.T) {
	var l FaultList
	assert.Nil(t, l.Summary())
	l.add(3, &session.Fault{
		Of:     "a timer of Oven",
		In:     "timer of Oven",
		File:   "kiln.kam",
		Line:   4,
		Reason: "division by zero",
	}, about("Oven[1]"))
	for i := range maxFaults - 1 {
		l.add(5, &session.Fault{
			In:     "on spawn of Cart",
			File:   "kiln.kam",
			Line:   10 + i,
			Reason: "a list is full",
		}, nil)
	}
	l.add(9, &session.Fault{
		In:     "timer of Oven",
		File:   "kiln.kam",
		Line:   4,
		Reason: "division by zero",
	}, nil)
	got := l.Summary()
	assert.EqualValues(t, maxFaults+1, got.Count)
	require.Len(t, got.Last, maxFaults)
	assert.Equal(t, api.Fault{
		Tick:   9,
		Times:  2,
		In:     "timer of Oven",
		File:   "kiln.kam",
		Line:   4,
		About:  "Oven[1]",
		Reason: "division by zero",
	}, got.Last[0])
	l.add(10, &session.Fault{
		In:     "on join",
		File:   "kiln.kam",
		Line:   99,
		Reason: "a list is full",
	}, about(strings.Repeat("é", 9000)))
	got = l.Summary()
	require.Len(t, got.Last, maxFaults)
	assert.Equal(t, "on join", got.Last[0].In)
	assert.Equal(t, maxAbout, len([]rune(got.Last[0].About)), "what a client sent is not shown whole")
	assert.NotContains(t, fmt.Sprint(got.Last), " 10 ", "the oldest is gone")
}

// Faults that differ in nothing but numbers are one, told with the numbers of the last time.
func TestFaultsThatDifferInNumbersAreOne(t *testing.T) {
	var l FaultList
	for _, n := range []string{"21", "-7.5", "100"} {
		l.add(9, &session.Fault{
			In:     "on spawn of Cart",
			File:   "kiln.kam",
			Line:   10,
			Reason: "Cart.n cannot become " + n,
		}, nil)
	}
	got := l.Summary()
	require.Len(t, got.Last, 1)
	assert.EqualValues(t, 3, got.Last[0].Times)
	assert.Equal(t, "Cart.n cannot become 100", got.Last[0].Reason)
}
