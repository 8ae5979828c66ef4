package store

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/internal/tests/testservice"
)

// When the answer to a batch is lost, the batch is written again. Its records must not stand twice.
func TestABatchWrittenAgainStandsOnce(t *testing.T) {
	s, err := Open(t.Context(), testservice.Database(t))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	_, _, err = s.Publish(
		t.Context(), Version{Contract: "wreck", Source: "contract wreck language 1\n", Outline: json.RawMessage(`{}`)},
	)
	require.NoError(t, err)
	session, err := s.OpenSession(t.Context(), Recorded{
		Session: Session{Contract: "wreck", Version: 1},
		Options: json.RawMessage("{}"),
	})
	require.NoError(t, err)

	r := NewRecorder(s)
	batch := []record{{entry: Seat{
		Session:  session.ID,
		Client:   1,
		Name:     "Ana",
		JoinedAt: time.Now(),
	}, nth: 1}}
	for nth := int64(2); nth <= 9; nth++ {
		d := Decision{
			Session: session.ID,
			Client:  1,
			Name:    "Ana",
			Seq:     7,
			Request: "Diver.use",
			Outcome: "denied",
			At:      time.Now(),
		}
		batch = append(batch, record{entry: d, nth: nth})
	}
	require.NoError(t, r.write(batch[:5]))
	require.NoError(t, r.write(batch))
	require.NoError(t, r.Close(t.Context()))

	list, err := s.Decisions(t.Context(), session.ID, 100)
	require.NoError(t, err)
	assert.Len(t, list, 8)
	seats, err := s.Seats(t.Context(), session.ID)
	require.NoError(t, err)
	assert.Len(t, seats, 1)
}
