package registry

import (
	"context"
	"encoding/json"
	"errors"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/record"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/journal"
	"kamerad.example/service/gateway"
	"kamerad.example/service/runner"
	"kamerad.example/store"
)

// shelf has one session that was left open.
type shelf struct {
	store.Memory
	row    store.Recorded
	taken  bool // it has been, and is not left over any more
	away   bool // calls cannot be read
	closed string
}

func (s *shelf) CloseSession(_ context.Context, _ int64, reason string, _ int64) error {
	s.closed = reason
	return nil
}

func (s *shelf) TakeOpen(context.Context) ([]store.Recorded, error) {
	if s.taken {
		return nil, nil
	}
	s.taken = true
	return []store.Recorded{s.row}, nil
}

func (s *shelf) Recorded(context.Context, int64) (store.Recorded, error) {
	return s.row, nil
}

func (s *shelf) SessionTokens(context.Context, int64) (map[int][][]byte, error) {
	return map[int][][]byte{}, nil
}
func (s *shelf) Now(context.Context) (time.Time, error) { return time.Now(), nil }
func (s *shelf) Lease(context.Context, store.Keeper, int64) (store.Kept, error) {
	return store.Kept{}, nil
}

func (s *shelf) NewestCheckpoint(context.Context, int64, int64, uint64) (*store.Checkpoint, error) {
	return nil, nil
}

func (s *shelf) Batches(_ context.Context, _, from int64, _ int) ([]store.Batch, error) {
	if s.away {
		return nil, errors.New("the database is away")
	}
	if from > 1 {
		return nil, nil
	}
	return s.batches(), nil
}

// batches are behind a gap when the row says so.
func (s *shelf) batches() []store.Batch {
	if s.row.LastTick > 0 {
		return []store.Batch{{Session: 1, Number: 5, After: s.row.LastTick, Last: s.row.LastTick + 1}}
	}
	return nil
}

func (s *shelf) Append(context.Context, store.Entries) (store.Result, error) {
	return store.Result{}, nil
}
func (s *shelf) LeaveSeats(context.Context, int64, []int, int, string) error { return nil }

func (s *shelf) IsDurable(context.Context) (bool, string, error) { return true, "", nil }

// A session is closed only for what is wrong with its recording: a database that does not answer says nothing of that,
// and the session goes on once it does.
func TestASessionIsClosedForItsRecordingAlone(t *testing.T) {
	for _, x := range []struct {
		name   string
		change func(s *shelf)
		closed string // why; empty for a session that stays as it is, or goes on
		fails  string
	}{
		{name: "goes on", change: func(*shelf) {}},
		{name: "away", change: func(s *shelf) { s.away = true }, fails: "the database is away"},
		{name: "another engine", change: func(s *shelf) { s.row.Engine = 99 }, closed: "of engine 99"},
		{name: "before recordings", change: func(s *shelf) { s.row.Key = nil }, closed: "before there were recordings"},
		{name: "a gap", change: func(s *shelf) { s.row.LastTick = 7 }, closed: "the calls after tick 0 are missing"},
	} {
		t.Run(x.name, func(t *testing.T) {
			s := &shelf{row: store.Recorded{
				Session: store.Session{ID: 1, Contract: "tally", Version: 1, OpenedAt: time.Now()},
				Key:     make([]byte, 32),
				Options: json.RawMessage("{}"),
				Engine:  record.Revision,
			}}
			_, _, err := s.Publish(t.Context(), store.Version{Contract: "tally", Source: contracts.Tally})
			require.NoError(t, err)
			x.change(s)
			j := journal.New(s)
			metrics := prometheus.NewRegistry()
			g := New(Options{
				Records:    s,
				Recorder:   &s.Memory,
				Gateway:    gateway.New(metrics),
				Meters:     runner.NewMeters(metrics),
				Journal:    j,
				Recordings: s,
			})
			err = g.Recover(t.Context())
			if x.fails != "" {
				require.ErrorContains(t, err, x.fails)
				assert.Empty(t, s.closed)
				assert.Empty(t, g.All())
				s.away = false
				err = g.Recover(t.Context()) // which has it already, and tries again
			}
			require.NoError(t, err)
			if x.closed != "" {
				assert.Contains(t, s.closed, x.closed)
			}
			running := g.All()
			assert.Len(t, running, map[bool]int{true: 1}[x.closed == ""])
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			for _, r := range running {
				assert.GreaterOrEqual(t, r.Runner().LastTick(), int64(200), "above all that clients may have had")
				require.NoError(t, g.End(ctx, r, "over"))
			}
			require.NoError(t, j.Close(ctx))
		})
	}
}
