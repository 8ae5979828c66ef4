package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// RecordingSize is a recording and what it takes.
type RecordingSize struct {
	Session
	Engine      int
	Wire        int
	LastTick    int64 // that is stored
	Batches     int64
	Bytes       int64
	Checkpoints int64
	Gaps        int64
}

// RecordingsOf lists recordings, newest first, or that of one session.
func (s *Store) RecordingsOf(ctx context.Context, session int64, limit int) ([]RecordingSize, error) {
	rows, _ := s.pool.Query(
		ctx,
		`select s.id, s.contract, s.version, s.opened_at, s.closed_at, s.engine, s.wire,
			coalesce(b.last, 0), coalesce(b.count, 0), coalesce(b.bytes, 0) + coalesce(c.bytes, 0),
			coalesce(c.count, 0),
			(select count(*) from recording_gaps g where g.session = s.id)
		from sessions s
		left join lateral (
			select max(last_tick) as last, count(*) as count, sum(octet_length(data)) as bytes
			from call_batches where session = s.id
		) b on true
		left join lateral (
			select count(*) as count, sum(octet_length(data)) as bytes from checkpoints where session = s.id
		) c on true
		where $1 = 0 or s.id = $1
		order by s.id desc limit $2`, session, limit,
	)
	out, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (x RecordingSize, err error) {
		err = r.Scan(
			&x.ID, &x.Contract, &x.Version, &x.OpenedAt, &x.ClosedAt, &x.Engine, &x.Wire, &x.LastTick, &x.Batches,
			&x.Bytes, &x.Checkpoints, &x.Gaps,
		)
		return x, err
	})
	if err != nil {
		return nil, fmt.Errorf("list recordings: %w", err)
	}
	return out, nil
}

// DeleteRecording deletes the recording of a session; that there was one stays known.
func (s *Store) DeleteRecording(ctx context.Context, session int64) error {
	for {
		done, err := s.deleteSome(ctx, session)
		if err != nil {
			return fmt.Errorf("delete the recording of session %d: %w", session, err)
		}
		if done {
			break
		}
	}
	_, err := s.pool.Exec(
		ctx, "update sessions set engine = 0, key = null where id = $1 and closed_at is not null", session,
	)
	if err != nil {
		return fmt.Errorf("delete the recording of session %d: %w", session, err)
	}
	return nil
}

// deletedAtOnce is how many rows one statement deletes: no statement is to hold others up.
const deletedAtOnce = 500

// deleteSome deletes a part of the recording of a session that has closed, and reports whether nothing is left.
func (s *Store) deleteSome(ctx context.Context, session int64) (done bool, err error) {
	left := int64(0)
	for _, statement := range []string{
		"delete from call_batches where ctid = any(array(select ctid from call_batches where session = $1 limit $2))",
		"delete from checkpoints where ctid = any(array(select ctid from checkpoints where session = $1 limit $2))",
		"delete from decisions where ctid = any(array(select ctid from decisions where session = $1 limit $2))",
		"delete from recording_gaps where ctid = any(array(select ctid from recording_gaps where session = $1 " +
			"limit $2))",
		"delete from seat_tokens where ctid = any(array(select ctid from seat_tokens where session = $1 limit $2))",
	} {
		tag, err := s.pool.Exec(ctx, statement, session, deletedAtOnce)
		if err != nil {
			return false, err
		}
		left = max(left, tag.RowsAffected())
	}
	return left < deletedAtOnce, nil
}

// Retention says what recordings are kept.
type Retention struct {
	Age   time.Duration // of those of closed sessions, since they closed; 0 for no bound
	Bytes int64         // of all recordings together, those of open sessions included; 0 for no bound
}

// Retain deletes recordings of closed sessions that are over a bound, the oldest first, in small steps, and returns how
// many. It stops when ctx ends.
func (s *Store) Retain(ctx context.Context, r Retention) (deleted int, err error) {
	for ctx.Err() == nil {
		id, err := s.overBound(ctx, r)
		if id == 0 || err != nil {
			return deleted, err
		}
		if err := s.DeleteRecording(ctx, id); err != nil {
			return deleted, err
		}
		deleted++
	}
	return deleted, ctx.Err()
}

// overBound returns the session whose recording is to be deleted next; 0 for none.
func (s *Store) overBound(ctx context.Context, r Retention) (id int64, err error) {
	rows, _ := s.pool.Query(
		ctx,
		`select id from sessions where closed_at is not null and engine > 0
			and ($1 > 0 and closed_at < now() - make_interval(secs => $1)
				or $2 > 0 and pg_total_relation_size('call_batches') + pg_total_relation_size('checkpoints') > $2)
		order by closed_at limit 1`, r.Age.Seconds(), r.Bytes,
	)
	list, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		return 0, fmt.Errorf("look for recordings that are over their bound: %w", err)
	}
	if len(list) == 0 {
		return 0, nil
	}
	return list[0], nil
}
