package store

import (
	"context"
	"errors"
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
			coalesce((select last_tick from call_batches b where b.session = s.id order by number desc limit 1),
				s.last_tick), s.bytes,
			(select count(*) from call_batches b where b.session = s.id),
			(select count(*) from checkpoints c where c.session = s.id),
			(select count(*) from recording_gaps g where g.session = s.id)
		from sessions s where $1 = 0 or s.id = $1 order by s.id desc limit $2`,
		session, limit,
	)
	out, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (x RecordingSize, err error) {
		err = r.Scan(
			&x.ID, &x.Contract, &x.Version, &x.OpenedAt, &x.ClosedAt, &x.Engine, &x.Wire, &x.LastTick, &x.Bytes,
			&x.Batches, &x.Checkpoints, &x.Gaps,
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
		ctx, "update sessions set engine = 0, key = null, bytes = 0 where id = $1 and closed_at is not null", session,
	)
	if err != nil {
		return fmt.Errorf("delete the recording of session %d: %w", session, err)
	}
	return nil
}

// deletedAtOnce is how many rows one statement deletes: no statement is to hold others up.
const deletedAtOnce = 100

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

// Retention says what is kept of sessions that have closed, and of trials.
type Retention struct {
	Age   time.Duration // since they ended; 0 for no bound
	Bytes int64         // of all recordings together, those of open sessions included; 0 for no bound
}

// Retain deletes recordings of closed sessions that are over a bound, the oldest first, with their decisions, and the
// sessions and trials that are over their age, all in small steps. It returns how many recordings it has deleted, and
// stops when ctx ends.
func (s *Store) Retain(ctx context.Context, r Retention) (deleted int, err error) {
	for ctx.Err() == nil {
		id, isOld, err := s.overBound(ctx, r)
		if err != nil {
			return deleted, err
		}
		if id == 0 {
			break
		}
		if err := s.DeleteRecording(ctx, id); err != nil {
			return deleted, err
		}
		deleted++
		if !isOld {
			continue
		}
		if _, err := s.pool.Exec(ctx, "delete from sessions where id = $1", id); err != nil {
			return deleted, fmt.Errorf("delete session %d, which is over its age: %w", id, err)
		}
	}
	for r.Age > 0 && ctx.Err() == nil {
		tag, err := s.pool.Exec(
			ctx,
			`delete from trials where id = any(array(select id from trials
				where ended_at < now() - make_interval(secs => $1) limit $2))`,
			r.Age.Seconds(), trialsAtOnce,
		)
		if err != nil {
			return deleted, fmt.Errorf("delete trials that are over their age: %w", err)
		}
		if tag.RowsAffected() < trialsAtOnce {
			break
		}
	}
	var before time.Time
	if r.Age > 0 {
		before = time.Now().Add(-r.Age)
	}
	if err := s.ForgetDoor(ctx, before); err != nil {
		return deleted, err
	}
	return deleted, ctx.Err()
}

// trialsAtOnce is how many trials one statement deletes, with their reports.
const trialsAtOnce = 20

// overBound returns the closed session whose recording is to be deleted next, and whether the session is over its age;
// 0 for none.
func (s *Store) overBound(ctx context.Context, r Retention) (id int64, isOld bool, err error) {
	err = s.pool.QueryRow(
		ctx,
		`select id, old from (
			select id, closed_at, engine, $1 > 0 and closed_at < now() - make_interval(secs => $1) as old
			from sessions where closed_at is not null
		) x
		where old or engine > 0 and $2::bigint > 0 and (select sum(bytes) from sessions) > $2::bigint
		order by closed_at limit 1`, r.Age.Seconds(), r.Bytes,
	).Scan(&id, &isOld)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, false, nil
	}
	if err != nil {
		return 0, false, fmt.Errorf("look for recordings that are over their bound: %w", err)
	}
	return id, isOld, nil
}
