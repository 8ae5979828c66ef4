package audit

import (
	"context"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/session"
)

// heard notes what is told of a run.
type heard struct {
	session *session.Session
	in      map[int]bool
	faults  map[int64][]string // by tick
	last    int64
	sent    int // decisions that are about something that was sent
}

func (h *heard) Began(s *session.Session)       { h.session = s }
func (h *heard) Joined(client int)              { h.in[client] = true }
func (h *heard) Left(client int)                { delete(h.in, client) }
func (h *heard) Arrived(client int, tick int64) {}
func (h *heard) Ticked(step *session.Step) {
	h.last = step.Tick
	h.sent += len(step.Decisions)
	for _, f := range step.Faults {
		h.faults[step.Tick] = append(h.faults[step.Tick], f.Reason)
	}
	for _, d := range step.Decisions {
		if d.Outcome == "faulted" {
			h.faults[step.Tick] = append(h.faults[step.Tick], d.Reason)
		}
	}
}

// The shortest run of an effect is kept in the report: played again, also once it was written out and read, it shows
// the effect in its last tick.
func TestTheShortestRunIsPlayedAgain(t *testing.T) {
	c, problems := compile.Load("yard.kam", yard)
	require.NotNil(t, c, problems.Error())
	o := Options{Seed: 1, Rounds: 3, Ticks: 300}
	r, err := Run(context.Background(), c, o)
	require.NoError(t, err)
	require.Len(t, r.Causes, 2)
	raw, err := json.Marshal(r)
	require.NoError(t, err)
	var read Report
	require.NoError(t, json.Unmarshal(raw, &read))
	for i, e := range read.Causes {
		require.NotNil(t, e.Played, e.Text)
		h := &heard{in: map[int]bool{}, faults: map[int64][]string{}}
		require.NoError(t, e.Played.Play(context.Background(), c, o, h))
		assert.Equal(t, e.Played.Ticks, h.last)
		assert.NotEmpty(t, h.faults[h.last], "%d: %s", i, e.Text)
		assert.Len(t, h.session.Clients(), len(h.in))
		assert.Contains(t, h.faults[h.last][0], "division by zero")
	}
}

// A run that was altered, or is of another contract, is an error or comes to something else; it never breaks anything.
func TestARunThatCannotBePlayedIsAnError(t *testing.T) {
	c, problems := compile.Load("yard.kam", yard)
	require.NotNil(t, c, problems.Error())
	nobody := &heard{in: map[int]bool{}, faults: map[int64][]string{}}
	play := func(p Played) error { return p.Play(context.Background(), c, Options{Seed: 1}, nobody) }
	assert.ErrorContains(t, play(Played{Ticks: MaxTicks + 1}), "at most")
	assert.ErrorContains(t, play(Played{Ticks: -1}), "at most")
	assert.ErrorContains(t, play(Played{Ticks: 1, Inputs: make([]PlayedPart, maxPlayed+1)}), "at most")
	gone := Played{Ticks: 1, Inputs: []PlayedPart{{Entity: 7, Property: "load", Value: json.RawMessage(`"x"`)}}}
	assert.NoError(t, play(gone))
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	assert.ErrorIs(t, (&Played{Ticks: 1}).Play(ctx, c, Options{}, nobody), context.Canceled)
}
