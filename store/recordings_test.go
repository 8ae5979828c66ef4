package store

import (
	"context"
	"encoding/json"
	"io/fs"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/internal/tests/testservice"
)

// opened returns a store with a session in it.
func opened(t *testing.T) (*Store, Session) {
	s, err := Open(t.Context(), testservice.Database(t))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	v := Version{Contract: "wreck", Source: "contract wreck language 1\n", Outline: json.RawMessage(`{}`)}
	_, _, err = s.Publish(t.Context(), v)
	require.NoError(t, err)
	return s, openOne(t, s)
}

// openOne opens a session.
func openOne(t *testing.T, s *Store) Session {
	session, err := s.OpenSession(t.Context(), Recorded{
		Session: Session{Contract: "wreck", Version: 1},
		Key:     make([]byte, 32),
		Options: json.RawMessage("{}"),
		Engine:  1,
		Wire:    2,
	})
	require.NoError(t, err)
	return session
}

// Entries are stored once, however often they are written, and only while the session is this service's.
func TestEntriesAreStoredOnceAndByTheHolder(t *testing.T) {
	s, session := opened(t)
	e := Entries{
		Batches:     []Batch{{Session: session.ID, Number: 1, After: 0, Last: 5, Size: 9, Data: []byte("calls")}},
		Tokens:      []Tokens{{Session: session.ID, Client: 1, Hashes: [][]byte{{1}, {2}}}},
		Checkpoints: []Checkpoint{{Session: session.ID, Tick: 5, Next: 2, Format: 1<<64 - 1, Data: []byte("all")}},
	}
	for range 2 {
		out, err := s.Append(t.Context(), e)
		require.NoError(t, err)
		assert.Empty(t, out.LostSessions)
	}
	batches, err := s.Batches(t.Context(), session.ID, 1, 10)
	require.NoError(t, err)
	require.Len(t, batches, 1)
	assert.Equal(t, "calls", string(batches[0].Data))
	c, err := s.NewestCheckpoint(t.Context(), session.ID, 7, 1<<64-1)
	require.NoError(t, err)
	assert.Equal(t, "all", string(c.Data))
	c, err = s.NewestCheckpoint(t.Context(), session.ID, 7, 4)
	require.NoError(t, err)
	assert.Nil(t, c, "another program's")
	tokens, err := s.SessionTokens(t.Context(), session.ID)
	require.NoError(t, err)
	assert.Equal(t, map[int][][]byte{1: {{1}, {2}}}, tokens)

	other := [16]byte{7} // a service that has taken it
	_, err = s.pool.Exec(t.Context(), "update sessions set holder = $1 where id = $2", other, session.ID)
	require.NoError(t, err)
	e.Batches[0].Number = 2
	out, err := s.Append(t.Context(), e)
	require.NoError(t, err)
	assert.Equal(t, []int64{session.ID}, out.LostSessions)
	require.NoError(t, s.CloseSession(t.Context(), session.ID, "not its own any more", 9))
	got, err := s.Session(t.Context(), session.ID)
	require.NoError(t, err)
	assert.Nil(t, got.ClosedAt)
	batches, err = s.Batches(t.Context(), session.ID, 1, 10)
	require.NoError(t, err)
	assert.Len(t, batches, 1)
}

// What a player keeps is one session's at a time, and a lease that is over changes nothing.
func TestALeaseIsOneSessionsAtATime(t *testing.T) {
	s, first := opened(t)
	second := openOne(t, s)
	ctx := t.Context()
	ana := Keeper{Contract: "wreck", Name: "Ana"}
	one, err := s.Lease(ctx, ana, first.ID)
	require.NoError(t, err)
	_, err = s.Lease(ctx, ana, second.ID)
	var leased *ErrLeased
	require.ErrorAs(t, err, &leased)
	assert.Equal(t, first.ID, leased.Session)
	require.ErrorAs(t, s.SetKept(ctx, ana, map[string]json.RawMessage{}), &leased)
	_, err = s.DeleteKept(ctx, Keeper{Name: "Ana"})
	require.ErrorAs(t, err, &leased)

	one.Values = map[string]json.RawMessage{"Diver.tint": json.RawMessage("3")}
	one.Release = true
	out, err := s.Append(ctx, Entries{Kept: []Kept{one}})
	require.NoError(t, err)
	assert.Empty(t, out.LostLeases)
	two, err := s.Lease(ctx, ana, second.ID)
	require.NoError(t, err)
	assert.Greater(t, two.Fence, one.Fence)
	assert.JSONEq(t, "3", string(two.Values["Diver.tint"]))

	one.Release = false
	one.Values["Diver.tint"] = json.RawMessage("4")
	out, err = s.Append(ctx, Entries{Kept: []Kept{one}})
	require.NoError(t, err)
	assert.Len(t, out.LostLeases, 1)
	kept, err := s.KeptOf(ctx, ana)
	require.NoError(t, err)
	assert.JSONEq(t, "3", string(kept.Values["Diver.tint"]), "the later lease wins")
	require.NoError(t, s.CloseSession(ctx, second.ID, "over", 1))
	_, err = s.Lease(ctx, ana, first.ID)
	require.NoError(t, err, "a session that has closed has nothing")
}

// Recordings that are too old or too many go, the oldest first; those of open sessions stay.
func TestRecordingsAreRetained(t *testing.T) {
	s, open := opened(t)
	ctx := t.Context()
	data := make([]byte, 1000)
	var closed []int64
	for range 4 {
		x := openOne(t, s)
		for n := range int64(1200) {
			b := Batch{Session: x.ID, Number: n + 1, After: n, Last: n + 1, Data: data[:1]}
			if n == 0 {
				b.Data = data
			}
			if n%600 == 0 || n < 3 {
				grown := []Growth{{Session: x.ID, Bytes: int64(len(b.Data))}}
				_, err := s.Append(ctx, Entries{Batches: []Batch{b}, Sizes: grown})
				require.NoError(t, err)
			}
		}
		require.NoError(t, s.CloseSession(ctx, x.ID, "over", 5))
		closed = append(closed, x.ID)
	}
	_, err := s.Append(ctx, Entries{
		Batches: []Batch{{Session: open.ID, Number: 1, Data: data}},
		Sizes:   []Growth{{Session: open.ID, Bytes: 1000}},
	})
	require.NoError(t, err)
	deleted, err := s.Retain(ctx, Retention{Bytes: 1 << 50, Age: 1000 * time.Hour})
	require.NoError(t, err)
	assert.Zero(t, deleted)
	deleted, err = s.Retain(ctx, Retention{Bytes: 3200})
	require.NoError(t, err)
	assert.Equal(t, 2, deleted)
	list, err := s.RecordingsOf(ctx, 0, 10)
	require.NoError(t, err)
	recorded := map[int64]bool{}
	for _, x := range list {
		recorded[x.ID] = x.Engine > 0 && x.Bytes > 0 && x.Batches > 0
	}
	want := map[int64]bool{closed[0]: false, closed[1]: false, closed[2]: true, closed[3]: true, open.ID: true}
	assert.Equal(t, want, recorded)
	_, err = s.pool.Exec(
		ctx,
		"update sessions set closed_at = now() - interval '2 hours' where id <= $1 and closed_at is not null",
		closed[2],
	)
	require.NoError(t, err)
	deleted, err = s.Retain(ctx, Retention{Age: time.Hour})
	require.NoError(t, err)
	assert.Equal(t, 3, deleted, "also those whose calls are gone already")
	list, err = s.RecordingsOf(ctx, 0, 10)
	require.NoError(t, err)
	var left []int64
	for _, x := range list {
		left = append(left, x.ID)
	}
	assert.ElementsMatch(t, []int64{open.ID, closed[3]}, left)
}

// A database of the version before recordings, with a session that was open, is brought up to date; the session cannot
// go on, and says so.
func TestTheDatabaseOfThePreviousVersion(t *testing.T) {
	url := testservice.Database(t)
	pool, err := pgxpool.New(t.Context(), url)
	require.NoError(t, err)
	files, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	provider, err := goose.NewProvider(goose.DialectPostgres, stdlib.OpenDBFromPool(pool), files)
	require.NoError(t, err)
	_, err = provider.UpTo(context.Background(), 5)
	require.NoError(t, err)
	_, err = pool.Exec(t.Context(), `
		insert into contracts (name) values ('wreck');
		insert into contract_versions (contract, version, source, fingerprint, outline)
			values ('wreck', 1, 'contract wreck language 1', 'x', '{}');
		insert into sessions (contract, version) values ('wreck', 1), ('wreck', 1);
		update sessions set closed_at = now(), close_reason = 'over', last_tick = 7 where id = 1;
		insert into seats (session, client, name, role, joined_at) values (2, 1, 'Ana', 'player', now());
		insert into decisions (session, id, tick, client, name, seq, request, entity, args, outcome, stage, reason,
			check_text, line, at) values (2, 1, 3, 1, 'Ana', 1, 'Diver.use', 4, '[]', 'accepted', '', '', '', 0, now())`)
	require.NoError(t, err)
	pool.Close()
	s, err := Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	open, err := s.TakeOpen(t.Context())
	require.NoError(t, err)
	require.Len(t, open, 1)
	assert.Nil(t, open[0].Key)
	decisions, err := s.Decisions(t.Context(), 2, 10)
	require.NoError(t, err)
	assert.Len(t, decisions, 1)
	require.NoError(t, s.CloseSession(t.Context(), 2, "it was opened before there were recordings", 3))
	got, err := s.Session(t.Context(), 2)
	require.NoError(t, err)
	assert.NotNil(t, got.ClosedAt)
}
