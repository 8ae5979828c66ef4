package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// BackendCall is something that the game's backend is told.
type BackendCall struct {
	Number     int64
	Event      string // join, leave or end
	Session    int64
	Contract   string
	Version    int
	Payload    json.RawMessage // an object: what the event is about
	At         time.Time
	Tries      int
	Error      string // of the last try
	NextAt     time.Time
	AnsweredAt *time.Time
}

// AddBackend says that there is a backend, for whatever service on the database: before that nothing is noted for it.
func (s *Store) AddBackend(ctx context.Context) error {
	if _, err := s.pool.Exec(ctx, "insert into backend default values on conflict do nothing"); err != nil {
		return fmt.Errorf("note that there is a backend: %w", err)
	}
	return nil
}

const backendCalls = "select c.number, c.event, c.session, s.contract, s.version, c.payload, c.at, c.tries, c.error, " +
	"c.next_at, c.answered_at from backend_calls c join sessions s on s.id = c.session"

// TakeBackendCalls takes calls that are due, oldest first: no other service tries them until a time has passed.
func (s *Store) TakeBackendCalls(ctx context.Context, limit int, within time.Duration) ([]BackendCall, error) {
	var out []BackendCall
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		rows, _ := tx.Query(
			ctx,
			backendCalls+" where c.answered_at is null and c.next_at <= clock_timestamp() order by c.number limit $1 "+
				"for update of c skip locked",
			limit,
		)
		var err error
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[BackendCall])
		if err != nil || len(out) == 0 {
			return err
		}
		numbers := make([]int64, len(out))
		for i, c := range out {
			numbers[i] = c.Number
		}
		_, err = tx.Exec(
			ctx,
			"update backend_calls set tries = tries + 1, next_at = clock_timestamp() + make_interval(secs => $2) "+
				"where number = any($1)",
			numbers, within.Seconds(),
		)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("take what the backend is to be told: %w", err)
	}
	return out, nil
}

// EndBackendCall notes what came of a call: it was answered, or is tried again after a time.
func (s *Store) EndBackendCall(ctx context.Context, number int64, failure string, again time.Duration) error {
	_, err := s.pool.Exec(
		ctx,
		`update backend_calls set error = $2,
			answered_at = case when $2 = '' then clock_timestamp() end,
			next_at = clock_timestamp() + make_interval(secs => $3)
		where number = $1 and answered_at is null`,
		number, clean(failure), again.Seconds(),
	)
	if err != nil {
		return fmt.Errorf("note what the backend has answered: %w", err)
	}
	return nil
}

// BackendCalls returns the newest calls, those that wait first.
func (s *Store) BackendCalls(ctx context.Context, limit int) ([]BackendCall, error) {
	rows, _ := s.pool.Query(ctx, backendCalls+" order by c.answered_at is not null, c.number desc limit $1", limit)
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[BackendCall])
	if err != nil {
		return nil, fmt.Errorf("list what the backend is told: %w", err)
	}
	return out, nil
}

// BackendWaiting returns how many calls the backend has not answered.
func (s *Store) BackendWaiting(ctx context.Context) (n int, err error) {
	err = s.pool.QueryRow(ctx, "select count(*) from backend_calls where answered_at is null").Scan(&n)
	if err != nil {
		return 0, fmt.Errorf("count what the backend is to be told: %w", err)
	}
	return n, nil
}

// ForgetBackendCalls deletes calls that were answered before a while, and those that nobody has answered for long.
func (s *Store) ForgetBackendCalls(ctx context.Context, answered, waiting time.Duration) (lost int64, err error) {
	_, err = s.pool.Exec(
		ctx, "delete from backend_calls where answered_at < now() - make_interval(secs => $1)", answered.Seconds(),
	)
	if err != nil {
		return 0, fmt.Errorf("forget what the backend was told: %w", err)
	}
	tag, err := s.pool.Exec(
		ctx, "delete from backend_calls where answered_at is null and at < now() - make_interval(secs => $1)",
		waiting.Seconds(),
	)
	if err != nil {
		return 0, fmt.Errorf("forget what the backend is to be told: %w", err)
	}
	return tag.RowsAffected(), nil
}

// LeaveSeats notes that those have left a session whose seats it does not have any more, since it goes on from what was
// stored. Seats above the last client are deleted: they were stored and the joins were not, so that their numbers are
// given again.
func (s *Store) LeaveSeats(ctx context.Context, session int64, there []int, last int, reason string) error {
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(
			ctx,
			"update seats set left_at = now(), left_reason = $3 where session = $1 and left_at is null and "+
				"client <> all($2::int[])",
			session, there, reason,
		)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "delete from seats where session = $1 and client > $2", session, last)
		return err
	})
	if err != nil {
		return fmt.Errorf("note who has left session %d: %w", session, err)
	}
	return nil
}
