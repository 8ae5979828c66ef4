package store_test

import (
	"context"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"kamerad.example/internal/tests/testservice"
	"kamerad.example/store"
)

func open(t *testing.T) *store.Store {
	s, err := store.Open(t.Context(), testservice.Database(t))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func publish(t *testing.T, s *store.Store, source string) (store.Version, bool) {
	v, fresh, err := s.Publish(t.Context(), store.Version{
		Contract:    "wreck",
		Source:      source,
		Fingerprint: "f",
		Outline:     json.RawMessage(`{}`),
	})
	require.NoError(t, err)
	return v, fresh
}

func TestVersionsCountUp(t *testing.T) {
	s := open(t)
	_, err := s.Version(t.Context(), "wreck", 0)
	assert.ErrorIs(t, err, store.ErrNotFound)
	v, fresh := publish(t, s, "one")
	assert.True(t, fresh)
	assert.Equal(t, 1, v.Version)
	v, fresh = publish(t, s, "one")
	assert.False(t, fresh)
	assert.Equal(t, 1, v.Version)
	var group errgroup.Group // several at once get numbers of their own
	for _, source := range strings.Fields("a b c d e f") {
		group.Go(func() error { publish(t, s, source); return nil })
	}
	require.NoError(t, group.Wait())
	list, err := s.Versions(t.Context(), "wreck")
	require.NoError(t, err)
	assert.Len(t, list, 7)
	old, err := s.Version(t.Context(), "wreck", 1)
	require.NoError(t, err)
	assert.Equal(t, "one", old.Source)
	_, err = s.Version(t.Context(), "wreck", 8)
	assert.ErrorIs(t, err, store.ErrNotFound)
}

// A session is one service's as long as that lives, and then another one's that looks for it; a trial likewise.
func TestAServiceHoldsItsSessionsWhileItLives(t *testing.T) {
	url := testservice.Database(t)
	s, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	publish(t, s, "one")
	session, err := s.OpenSession(t.Context(), wreckSession)
	require.NoError(t, err)
	trial, err := s.AddTrial(t.Context(), store.Trial{
		Contract: "wreck",
		Version:  1,
		What:     "audit",
		Asked:    json.RawMessage("{}"),
	})
	require.NoError(t, err)
	other, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(other.Close)
	taken, err := other.TakeOpen(t.Context())
	require.NoError(t, err)
	assert.Empty(t, taken)
	require.NoError(t, other.StopTrials(t.Context()))
	running, err := other.Trial(t.Context(), trial.ID)
	require.NoError(t, err)
	assert.Equal(t, "waiting", running.State)
	s.Close()
	taken, err = other.TakeOpen(t.Context())
	require.NoError(t, err)
	require.Len(t, taken, 1)
	assert.Equal(t, session.ID, taken[0].ID)
	require.NoError(t, other.StopTrials(t.Context()))
	running, err = other.Trial(t.Context(), trial.ID)
	require.NoError(t, err)
	assert.Equal(t, "stopped", running.State)
	taken, err = other.TakeOpen(t.Context())
	require.NoError(t, err)
	assert.Empty(t, taken, "what is its own is not taken again")
}

// Whatever clients send is kept, or left out alone: an entry that the database refuses does not hold up the others.
func TestTheRecorderKeepsOddEntries(t *testing.T) {
	s := open(t)
	publish(t, s, "one")
	session, err := s.OpenSession(t.Context(), wreckSession)
	require.NoError(t, err)
	r := store.NewRecorder(s)
	entry := func(seq uint64, request, args, outcome string) store.Decision {
		return store.Decision{
			Session: session.ID,
			Seq:     seq,
			Request: request,
			Args:    json.RawMessage(args),
			Outcome: outcome,
			At:      time.Now(),
		}
	}
	refused := entry(3, "in a session that is not there", `[]`, "accepted")
	refused.Session = 999
	r.Record([]store.Decision{
		entry(1, "a\x00b\xff", `["\u0000","\ud800",1e400]`, "malformed"),
		entry(1<<64-1, strings.Repeat("x", 5000), `["ok"]`, "denied"),
		refused, entry(4, "last", ``, "accepted"),
	})
	left := time.Now()
	reason := "it \x00 left"
	r.Seat(store.Seat{
		Session:  session.ID,
		Client:   1,
		Name:     "Ana",
		Role:     "player",
		JoinedAt: left,
	})
	r.Seat(store.Seat{
		Session:    session.ID,
		Client:     1,
		Name:       "Ana",
		Role:       "player",
		JoinedAt:   left,
		LeftAt:     &left,
		LeftReason: &reason,
	})
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	require.NoError(t, r.Close(ctx))
	list, err := s.Decisions(t.Context(), session.ID, 10)
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(
		t, []string{"last", strings.Repeat("x", 1000), "a\uFFFDb\uFFFD"},
		[]string{list[0].Request, list[1].Request, list[2].Request},
	)
	assert.EqualValues(t, uint64(1<<64-1), list[1].Seq)
	seats, err := s.Seats(t.Context(), session.ID)
	require.NoError(t, err)
	require.Len(t, seats, 1)
	assert.Equal(t, "it \uFFFD left", *seats[0].LeftReason)

	require.NoError(t, s.CloseSession(t.Context(), session.ID, "over", 9))
	open, err := s.TakeOpen(t.Context())
	require.NoError(t, err)
	assert.Empty(t, open)
	got, err := s.Session(t.Context(), session.ID)
	require.NoError(t, err)
	assert.Equal(t, "over", *got.CloseReason)
}

// While the database cannot take records they wait, in order; once it can, none is missing.
func TestRecordsWaitForTheDatabase(t *testing.T) {
	o := newOutage(t)
	o.begin()
	r := store.NewRecorder(o.store)
	for i := range 3000 { // more than one batch
		r.Record([]store.Decision{{
			Session: o.session,
			Seq:     uint64(i + 1),
			Request: "A.b",
			Args:    json.RawMessage(`[]`),
			Outcome: "accepted",
			At:      time.Now(),
		}})
	}
	waiting, lost := r.Waiting()
	assert.Equal(t, []int64{3000, 0}, []int64{int64(waiting), lost})
	o.end()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	require.Eventually(t, func() bool { n, _ := r.Waiting(); return n == 0 }, 30*time.Second, 10*time.Millisecond)
	require.NoError(t, r.Close(ctx))
	list, err := o.store.Decisions(t.Context(), o.session, 10_000)
	require.NoError(t, err)
	require.Len(t, list, 3000)
	for i, d := range list {
		require.EqualValues(t, 3000-i, d.Seq, "in the order in which they were made")
	}

	down := store.NewRecorder(o.store)
	o.begin()
	down.Record([]store.Decision{{
		Session: o.session,
		Seq:     1,
		Request: "A.b",
		Args:    json.RawMessage(`[]`),
		Outcome: "accepted",
		At:      time.Now(),
	}})
	assert.ErrorContains(t, down.Close(ctx), "1 could not be written", "what is lost at the end is told")
}
