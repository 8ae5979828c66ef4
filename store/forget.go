package store

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
)

// SessionsOf returns the sessions in which a player has had a seat, oldest first, after the one with a number, at most
// limit of them; of one contract, or of all with an empty name.
func (s *Store) SessionsOf(ctx context.Context, player, contract string, after int64, limit int) ([]Recorded, error) {
	rows, _ := s.pool.Query(
		ctx,
		recorded+" where id > $3 and ($2 = '' or contract = $2) and exists (select from seats where session = "+
			"sessions.id and coalesce(player, name) = $1) order by id limit $4",
		player, contract, after, limit,
	)
	out, err := pgx.CollectRows(rows, scanRecorded)
	if err != nil {
		return nil, fmt.Errorf("list the sessions of a player: %w", err)
	}
	return out, nil
}

// NamesOf returns the names that a player has had in a session.
func (s *Store) NamesOf(ctx context.Context, session int64, player string) ([]string, error) {
	rows, _ := s.pool.Query(
		ctx, "select distinct name from seats where session = $1 and coalesce(player, name) = $2 order by name",
		session, player,
	)
	out, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, fmt.Errorf("read what a player was called in session %d: %w", session, err)
	}
	return out, nil
}

// NamesIn returns the names of all clients that have had a seat in a session.
func (s *Store) NamesIn(ctx context.Context, session int64) ([]string, error) {
	rows, _ := s.pool.Query(ctx, "select distinct name from seats where session = $1", session)
	out, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, fmt.Errorf("read who was in session %d: %w", session, err)
	}
	return out, nil
}

// errReopened says that a recording is still written.
var errReopened = errors.New("the session is open")

// ReplaceRecording puts other batches and checkpoints in the place of those of a session that has closed. All of them
// are replaced, or nothing is.
func (s *Store) ReplaceRecording(ctx context.Context, session int64, e Entries) error {
	bytes := 0
	for i := range e.Batches {
		e.Batches[i].Session = session
		bytes += len(e.Batches[i].Data)
	}
	for i := range e.Checkpoints {
		e.Checkpoints[i].Session = session
		bytes += len(e.Checkpoints[i].Data)
	}
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		tag, err := tx.Exec(
			ctx, "update sessions set bytes = $2 where id = $1 and closed_at is not null", session, bytes,
		)
		if err == nil && tag.RowsAffected() == 0 {
			err = errReopened
		}
		if err != nil {
			return err
		}
		batch := &pgx.Batch{}
		batch.Queue("delete from call_batches where session = $1", session)
		batch.Queue("delete from checkpoints where session = $1", session)
		replaced := Entries{Batches: e.Batches, Checkpoints: e.Checkpoints}
		replaced.queue(batch, map[int64]bool{session: true})
		return tx.SendBatch(ctx, batch).Close()
	})
	if err != nil {
		return fmt.Errorf("replace the recording of session %d: %w", session, err)
	}
	return nil
}

// Rename gives a client another name wherever a session's seats and decisions have it; the seats lose the player's
// identity.
func (s *Store) Rename(ctx context.Context, session int64, name, to string) error {
	for _, statement := range []string{
		"update decisions set name = $3 where ctid = any(array(select ctid from decisions where session = $1 and " +
			"name = $2 limit $4))",
		"update seats set name = $3, player = null where ctid = any(array(select ctid from seats where session = $1 " +
			"and name = $2 limit $4))",
	} {
		for more := true; more; {
			tag, err := s.pool.Exec(ctx, statement, session, name, to, deletedAtOnce)
			if err != nil {
				return fmt.Errorf("rename a client of session %d: %w", session, err)
			}
			more = tag.RowsAffected() == deletedAtOnce
		}
	}
	return nil
}
