package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Keeper is who keeps something of a contract: a player, or a world of sessions.
type Keeper struct {
	Contract string
	Name     string
	IsWorld  bool
}

// String names the keeper for people.
func (k Keeper) String() string {
	if k.IsWorld {
		return "the world " + k.Name
	}
	return k.Name
}

// Kept is what somebody keeps from session to session, or changes of it.
type Kept struct {
	Keeper
	Values  map[string]json.RawMessage // by the properties' full names
	Fence   int64                      // the number of the lease
	Session int64                      // that has the lease; 0 for none
	Release bool                       // of changes: they are the last ones of the lease
	At      time.Time                  // of what is read: when it last changed
}

// ErrLeased says that another session has what somebody keeps.
type ErrLeased struct{ Session int64 }

// Error says which session that is.
func (e *ErrLeased) Error() string {
	return fmt.Sprintf("session %d has what is kept", e.Session)
}

// queue queues the statement that stores changes; lost is called when the lease is not the newest one any more.
func (k *Kept) queue(to *pgx.Batch, lost func()) {
	values := k.Values
	if values == nil {
		values = map[string]json.RawMessage{}
	}
	to.Queue(
		`update kept set values = values || $5, session = case when $6 then null else session end, changed_at = now()
		where contract = $1 and player = $2 and is_world = $7 and session = $3 and fence = $4`,
		k.Contract, k.Name, k.Session, k.Fence, values, k.Release, k.IsWorld,
	).Exec(func(tag pgconn.CommandTag) error {
		if tag.RowsAffected() == 0 && !k.Release {
			lost()
		}
		return nil
	})
}

// Lease takes what somebody keeps for a session, so that no other one may change it until the session releases it or is
// closed. The error is an *ErrLeased while another one has it.
func (s *Store) Lease(ctx context.Context, k Keeper, session int64) (Kept, error) {
	out := Kept{Keeper: k, Session: session}
	err := s.pool.QueryRow(
		ctx,
		`insert into kept (contract, player, session, fence, is_world) values ($1, $2, $3, 1, $4)
		on conflict (contract, player, is_world) do update set session = $3, fence = kept.fence + 1
		where kept.session is null or kept.session = $3
			or not exists (select from sessions s where s.id = kept.session and s.closed_at is null)
		returning values, fence, changed_at`,
		k.Contract, k.Name, session, k.IsWorld,
	).Scan(&out.Values, &out.Fence, &out.At)
	if errors.Is(err, pgx.ErrNoRows) {
		return out, s.leasedBy(ctx, k)
	}
	if err != nil {
		return out, fmt.Errorf("read what %s keeps of %s: %w", k, k.Contract, err)
	}
	Failpoints.Leased.Hit()
	return out, nil
}

const keptColumns = "select contract, player, is_world, values, fence, coalesce(session, 0), changed_at from kept"

// scanKept reads a row of the table of what is kept.
func scanKept(row pgx.CollectableRow) (k Kept, err error) {
	err = row.Scan(&k.Contract, &k.Name, &k.IsWorld, &k.Values, &k.Fence, &k.Session, &k.At)
	return k, err
}

// KeptOf reads what somebody keeps.
func (s *Store) KeptOf(ctx context.Context, k Keeper) (Kept, error) {
	rows, _ := s.pool.Query(
		ctx, keptColumns+" where contract = $1 and player = $2 and is_world = $3", k.Contract, k.Name, k.IsWorld,
	)
	out, err := pgx.CollectExactlyOneRow(rows, scanKept)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	if err != nil {
		return out, fmt.Errorf("read what %s keeps of %s: %w", k, k.Contract, err)
	}
	return out, nil
}

// KeptBy reads what a player, or a world, keeps of all contracts; of all of them with an empty name, at most limit
// entries.
func (s *Store) KeptBy(ctx context.Context, name string, isWorld bool, limit int) ([]Kept, error) {
	rows, _ := s.pool.Query(
		ctx,
		keptColumns+" where ($1 = '' or player = $1) and is_world = $3 order by changed_at desc, contract, player "+
			"limit $2",
		name, limit, isWorld,
	)
	out, err := pgx.CollectRows(rows, scanKept)
	if err != nil {
		return nil, fmt.Errorf("list what is kept: %w", err)
	}
	return out, nil
}

// SetKept gives somebody other values of some properties, which no session may have leased. The error is an *ErrLeased
// while one has.
func (s *Store) SetKept(ctx context.Context, k Keeper, values map[string]json.RawMessage) error {
	tag, err := s.pool.Exec(
		ctx,
		`insert into kept (contract, player, values, is_world) values ($1, $2, $3, $4)
		on conflict (contract, player, is_world) do update set values = kept.values || $3, fence = kept.fence + 1,
			session = null, changed_at = now()
		where kept.session is null
			or not exists (select from sessions s where s.id = kept.session and s.closed_at is null)`,
		k.Contract, k.Name, values, k.IsWorld,
	)
	if err != nil {
		return fmt.Errorf("set what %s keeps of %s: %w", k, k.Contract, err)
	}
	if tag.RowsAffected() == 0 {
		return s.leasedBy(ctx, k)
	}
	return nil
}

// leasedBy returns the error of what a session has leased.
func (s *Store) leasedBy(ctx context.Context, k Keeper) error {
	held, err := s.KeptOf(ctx, k)
	if err != nil {
		return err
	}
	return &ErrLeased{held.Session}
}

// DeleteKept forgets what somebody keeps, of one contract or, when that has no name, of all. The error is an *ErrLeased
// while a session has any of it; then nothing is forgotten.
func (s *Store) DeleteKept(ctx context.Context, k Keeper) (deleted int64, err error) {
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var held int64
		err := tx.QueryRow(
			ctx,
			`select coalesce(max(k.session), 0) from kept k join sessions s on s.id = k.session and s.closed_at is null
			where k.player = $2 and k.is_world = $3 and ($1 = '' or k.contract = $1)`, k.Contract, k.Name, k.IsWorld,
		).Scan(&held)
		if err != nil {
			return err
		}
		if held != 0 {
			return &ErrLeased{held}
		}
		tag, err := tx.Exec(
			ctx, "delete from kept where player = $2 and is_world = $3 and ($1 = '' or contract = $1)", k.Contract,
			k.Name, k.IsWorld,
		)
		deleted = tag.RowsAffected()
		return err
	})
	if err != nil {
		return 0, fmt.Errorf("forget what %s keeps: %w", k, err)
	}
	return deleted, nil
}
