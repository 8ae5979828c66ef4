package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// SpendTicket notes that a ticket was used: the number of one of a key, until it has expired anyway. It reports false
// for one that was used before, by any service on the database.
func (s *Store) SpendTicket(ctx context.Context, key, number string, expires time.Time) (fresh bool, err error) {
	tag, err := s.pool.Exec(
		ctx, "insert into used_tickets (key, number, expires_at) values ($1, $2, $3) on conflict do nothing",
		key, number, expires,
	)
	if err != nil {
		return false, fmt.Errorf("note that a ticket is used: %w", err)
	}
	return tag.RowsAffected() == 1, nil
}

// ReturnTicket makes a ticket good again that was spent for nothing.
func (s *Store) ReturnTicket(ctx context.Context, key, number string) error {
	if _, err := s.pool.Exec(ctx, "delete from used_tickets where key = $1 and number = $2", key, number); err != nil {
		return fmt.Errorf("make a ticket good again: %w", err)
	}
	return nil
}

// Ban keeps a player from joining.
type Ban struct {
	Player   string // what it goes by
	Contract string // of which sessions; empty for all
	Reason   string
	By       string // the operator
	At       time.Time
	Until    *time.Time // nil for good
}

// maxBans is how many bans are read.
const maxBans = 100_000

// Bans returns the bans that hold, newest first.
func (s *Store) Bans(ctx context.Context) ([]Ban, error) {
	rows, _ := s.pool.Query(
		ctx,
		"select player, contract, reason, banned_by, banned_at, until from bans where until is null or until > now() "+
			"order by banned_at desc, player limit $1",
		maxBans,
	)
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Ban])
	if err != nil {
		return nil, fmt.Errorf("list who is banned: %w", err)
	}
	return out, nil
}

// SetBan bans a player, or changes the ban that there is.
func (s *Store) SetBan(ctx context.Context, b Ban) error {
	_, err := s.pool.Exec(
		ctx,
		`insert into bans (player, contract, reason, banned_by, until) values ($1, $2, $3, $4, $5)
		on conflict (player, contract) do update set reason = $3, banned_by = $4, until = $5, banned_at = now()`,
		b.Player, b.Contract, clean(b.Reason), b.By, b.Until,
	)
	if err != nil {
		return fmt.Errorf("ban %.80q: %w", b.Player, err)
	}
	return nil
}

// LiftBan ends a ban. The error is ErrNotFound when there is none.
func (s *Store) LiftBan(ctx context.Context, player, contract string) error {
	tag, err := s.pool.Exec(ctx, "delete from bans where player = $1 and contract = $2", player, contract)
	if err != nil {
		return fmt.Errorf("lift a ban: %w", err)
	}
	if tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return nil
}

// Token is a token of an operator, without the token itself.
type Token struct {
	ID        int64
	Name      string
	Access    string // what it may do; see package auth
	MadeBy    string
	MadeAt    time.Time
	ExpiresAt *time.Time // nil for never
	UsedAt    *time.Time // last, to the minute; nil for never
	RevokedAt *time.Time
}

const tokens = "select id, name, access, made_by, made_at, expires_at, used_at, revoked_at from tokens"

// maxTokens is how many tokens are read.
const maxTokens = 1000

// Tokens returns all tokens, newest first.
func (s *Store) Tokens(ctx context.Context) ([]Token, error) {
	rows, _ := s.pool.Query(ctx, tokens+" order by id desc limit $1", maxTokens)
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Token])
	if err != nil {
		return nil, fmt.Errorf("list tokens: %w", err)
	}
	return out, nil
}

// AddToken stores a token by its hash.
func (s *Store) AddToken(ctx context.Context, t Token, hash []byte) (Token, error) {
	rows, _ := s.pool.Query(
		ctx,
		"insert into tokens (name, access, hash, made_by, expires_at) values ($1, $2, $3, $4, $5) "+
			"returning id, name, access, made_by, made_at, expires_at, used_at, revoked_at",
		t.Name, t.Access, hash, t.MadeBy, t.ExpiresAt,
	)
	out, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Token])
	if err != nil {
		return out, fmt.Errorf("store a token: %w", err)
	}
	return out, nil
}

// RevokeToken makes a token void, and signs out who has signed in with it. The error is ErrNotFound when there is none.
func (s *Store) RevokeToken(ctx context.Context, id int64) error {
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "update tokens set revoked_at = coalesce(revoked_at, now()) where id = $1", id)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "delete from sign_ins where token = $1", id)
		return err
	})
	if errors.Is(err, ErrNotFound) {
		return err
	}
	if err != nil {
		return fmt.Errorf("revoke token %d: %w", id, err)
	}
	return nil
}

// NoteTokenUse notes that a token is used now.
func (s *Store) NoteTokenUse(ctx context.Context, id int64) error {
	if _, err := s.pool.Exec(ctx, "update tokens set used_at = now() where id = $1", id); err != nil {
		return fmt.Errorf("note that token %d is used: %w", id, err)
	}
	return nil
}

// HashedToken is a token that may be used, with its hash.
type HashedToken struct {
	Token
	Hash []byte
}

// HashedSignIn is a browser that is signed in.
type HashedSignIn struct {
	Hash  []byte // of what its cookie holds
	Token int64
	Until time.Time
}

// Access is who may use the service, and who may not.
type Access struct {
	Tokens  []HashedToken // those that were revoked, or have expired, with them: they are told so
	SignIns []HashedSignIn
	Bans    []Ban
}

// maxSignIns is how many browsers can be signed in; the oldest ones are signed out.
const maxSignIns = 10_000

// Access reads who may use the service, at most maxTokens, maxSignIns and maxBans of them.
func (s *Store) Access(ctx context.Context) (out Access, err error) {
	rows, _ := s.pool.Query(
		ctx,
		"select id, name, access, made_by, made_at, expires_at, used_at, revoked_at, hash from tokens "+
			"order by revoked_at is not null, id desc limit $1",
		maxTokens,
	)
	out.Tokens, err = pgx.CollectRows(rows, func(r pgx.CollectableRow) (t HashedToken, err error) {
		err = r.Scan(
			&t.ID, &t.Name, &t.Access, &t.MadeBy, &t.MadeAt, &t.ExpiresAt, &t.UsedAt, &t.RevokedAt, &t.Hash,
		)
		return t, err
	})
	if err != nil {
		return out, fmt.Errorf("read the tokens: %w", err)
	}
	rows, _ = s.pool.Query(
		ctx,
		"select hash, token, expires_at from sign_ins where expires_at > now() order by expires_at desc limit $1",
		maxSignIns,
	)
	out.SignIns, err = pgx.CollectRows(rows, pgx.RowToStructByPos[HashedSignIn])
	if err != nil {
		return out, fmt.Errorf("read who is signed in: %w", err)
	}
	out.Bans, err = s.Bans(ctx)
	return out, err
}

// SignIn notes that a browser is signed in with a token until a time, by the hash of what its cookie holds.
func (s *Store) SignIn(ctx context.Context, token int64, hash []byte, until time.Time) error {
	_, err := s.pool.Exec(
		ctx, "insert into sign_ins (hash, token, expires_at) values ($1, $2, $3)", hash, token, until,
	)
	if err != nil {
		return fmt.Errorf("sign in: %w", err)
	}
	return nil
}

// SignOut ends a sign-in.
func (s *Store) SignOut(ctx context.Context, hash []byte) error {
	if _, err := s.pool.Exec(ctx, "delete from sign_ins where hash = $1", hash); err != nil {
		return fmt.Errorf("sign out: %w", err)
	}
	return nil
}

// Act is something that an operator has done.
type Act struct {
	Session  int64 // 0 for what is about none
	At       time.Time
	Operator string
	Act      string // such as: closed it: maintenance
}

// AddAct stores what an operator has done.
func (s *Store) AddAct(ctx context.Context, a Act) error {
	_, err := s.pool.Exec(
		ctx, "insert into acts (session, operator, act) values (nullif($1, 0), $2, $3)",
		a.Session, a.Operator, clean(a.Act),
	)
	if err != nil {
		return fmt.Errorf("store who did what: %w", err)
	}
	return nil
}

// Acts returns what operators have done to a session, or with 0 to anything, newest first.
func (s *Store) Acts(ctx context.Context, session int64, limit int) ([]Act, error) {
	rows, _ := s.pool.Query(
		ctx,
		"select coalesce(session, 0), at, operator, act from acts where $1 = 0 or session = $1 order by id desc "+
			"limit $2",
		session,
		limit,
	)
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Act])
	if err != nil {
		return nil, fmt.Errorf("list who did what: %w", err)
	}
	return out, nil
}

// ForgetDoor deletes what no one asks for any more: numbers of tickets that have expired, sign-ins and bans that have
// ended, and acts before a time; the zero time keeps those.
func (s *Store) ForgetDoor(ctx context.Context, before time.Time) error {
	for _, statement := range []string{
		"delete from used_tickets where ctid = any(array(select ctid from used_tickets where expires_at < " +
			"now() - interval '5 minutes' limit $1))",
		"delete from sign_ins where ctid = any(array(select ctid from sign_ins where expires_at < now() limit $1))",
		"delete from bans where ctid = any(array(select ctid from bans where until < now() limit $1))",
	} {
		for more := true; more; {
			tag, err := s.pool.Exec(ctx, statement, deletedAtOnce)
			if err != nil {
				return fmt.Errorf("forget used tickets: %w", err)
			}
			more = tag.RowsAffected() == deletedAtOnce
		}
	}
	for more := !before.IsZero(); more; {
		tag, err := s.pool.Exec(
			ctx, "delete from acts where ctid = any(array(select ctid from acts where at < $1 limit $2))", before,
			deletedAtOnce,
		)
		if err != nil {
			return fmt.Errorf("forget who did what: %w", err)
		}
		more = tag.RowsAffected() == deletedAtOnce
	}
	return nil
}
