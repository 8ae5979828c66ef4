package store

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
)

// ImportRecording stores a recording from elsewhere as that of a new session, which has closed. Of entries only batches
// and checkpoints count, whatever session they and the seats name.
func (s *Store) ImportRecording(
	ctx context.Context, in Recorded, e Entries, seats []Seat,
) (out Session, err error) {
	bytes := 0
	for i := range e.Batches {
		bytes += len(e.Batches[i].Data)
	}
	for i := range e.Checkpoints {
		bytes += len(e.Checkpoints[i].Data)
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "set local kamerad.quiet = 'on'"); err != nil {
			return err
		}
		rows, _ := tx.Query(
			ctx,
			"insert into sessions (contract, version, key, options, engine, wire, last_tick, bytes, closed_at, "+
				"close_reason) values ($1, $2, $3, $4, $5, $6, $7, $8, now(), 'its recording was imported') returning "+
				"id, contract, version, opened_at, closed_at, close_reason, last_tick, result",
			in.Contract, in.Version, in.Key, in.Options, in.Engine, in.Wire, in.LastTick, bytes,
		)
		out, err = pgx.CollectExactlyOneRow(rows, scanSession)
		if err != nil {
			return err
		}
		for i := range e.Batches {
			e.Batches[i].Session = out.ID
		}
		for i := range e.Checkpoints {
			e.Checkpoints[i].Session = out.ID
		}
		batch := &pgx.Batch{}
		imported := Entries{Batches: e.Batches, Checkpoints: e.Checkpoints}
		imported.queue(batch, map[int64]bool{out.ID: true})
		for _, x := range seats {
			batch.Queue(
				"insert into seats (session, client, player, name, role, joined_at, left_at) values ($1, $2, "+
					"nullif($3, ''), $4, $5, now(), now()) on conflict do nothing",
				out.ID, x.Client, x.Player, clean(x.Name), x.Role,
			)
		}
		return tx.SendBatch(ctx, batch).Close()
	})
	if err != nil {
		return out, fmt.Errorf("store the imported recording of a session of %s: %w", in.Contract, err)
	}
	return out, nil
}

// VersionWith reads the newest version of a contract that has a text and files.
func (s *Store) VersionWith(ctx context.Context, name, source string, files map[string]string) (Version, error) {
	if files == nil {
		files = map[string]string{}
	}
	v, err := scanVersion(s.pool.QueryRow(
		ctx, versions+" where contract = $1 and source = $2 and files = $3::jsonb order by version desc limit 1", name,
		source, files,
	))
	if err != nil {
		return v, fmt.Errorf("read the version of contract %s with a text: %w", name, err)
	}
	return v, nil
}
