// Package store keeps contracts, sessions and decisions in PostgreSQL.
//
// Nothing here is called from a tick: what a session leaves behind goes through a Recorder, which writes in the
// background.
//
// Open connects and brings the tables up to date; a Store may be used by any number of goroutines. Every error that it
// returns says what was being done; what is not there is an error that the caller can tell from a broken database.
package store

import (
	"cmp"
	"context"
	"crypto/rand"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound says that there is no such contract, version or session.
var ErrNotFound = errors.New("not found")

// ErrTaken says that the database takes this service for one that lives already; another number makes it another one.
var ErrTaken = errors.New("a service with the number that this one was given lives already; start it again")

// Store is a pool of connections to one database. It may be used by many goroutines.
type Store struct {
	pool *pgxpool.Pool
	lock *lock    // holds the database for this service
	id   [16]byte // of this service, as the holder of its sessions
}

// Open connects, brings the tables up to date and lets other services know that this one lives until Close. url is a
// PostgreSQL connection string. It gives up when the database does not answer within connectWithin, or the tables are
// not up to date within migrateWithin.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("read the database's address: %w", withoutPassword(err))
	}
	config.ConnConfig.ConnectTimeout = connectWithin
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	s := &Store{pool: pool}
	if _, err := rand.Read(s.id[:]); err != nil {
		return nil, fmt.Errorf("make the number of this service: %w", err)
	}
	if err := s.prepare(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// withoutPassword drops what a parse error quotes of the address.
func withoutPassword(err error) error {
	text := err.Error()
	if i := strings.Index(text, "`"); i >= 0 {
		text = text[:i] + "(hidden)"
	}
	return errors.New(text)
}

// How long opening waits. A database on a busy machine answers late, and tables that are large are changed slowly.
const (
	connectWithin = 20 * time.Second
	migrateWithin = 10 * time.Minute
)

// prepare connects, lets other services know that this one lives, and brings the tables to the version that this
// program knows.
func (s *Store) prepare(ctx context.Context) error {
	connecting, connected := context.WithTimeout(ctx, connectWithin)
	defer connected()
	conn, err := s.pool.Acquire(connecting)
	if err != nil {
		c := s.pool.Config().ConnConfig
		return fmt.Errorf("connect to PostgreSQL at %s:%d, database %s: %w", c.Host, c.Port, c.Database, err)
	}
	s.lock, err = hold(connecting, s.pool, conn, s.id)
	if err != nil {
		conn.Release()
		return fmt.Errorf("tell the database of this service: %w", err)
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	db := stdlib.OpenDBFromPool(s.pool)
	defer db.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files)
	if err != nil {
		return fmt.Errorf("read the migrations: %w", err)
	}
	migrating, migrated := context.WithTimeout(ctx, migrateWithin)
	defer migrated()
	// Services that start at once bring the tables up to date one after the other.
	turn, err := s.pool.Acquire(migrating)
	if err != nil {
		return fmt.Errorf("bring the tables up to date: %w", err)
	}
	defer turn.Release()
	if _, err := turn.Exec(migrating, "select pg_advisory_lock(hashtext('kamerad tables'))"); err != nil {
		return fmt.Errorf("bring the tables up to date: wait for another service that does: %w", err)
	}
	defer func() {
		_, _ = turn.Exec(context.WithoutCancel(ctx), "select pg_advisory_unlock(hashtext('kamerad tables'))")
	}()
	if _, err := provider.Up(migrating); err != nil {
		return fmt.Errorf("bring the tables up to date: %w", err)
	}
	return nil
}

// Close sets free what this service held, and ends all connections. It waits a moment for those that are in use, and
// not for a database that does not answer.
func (s *Store) Close() {
	closed := make(chan struct{})
	go func() {
		defer close(closed)
		if s.lock != nil {
			s.lock.release()
		}
		s.pool.Close()
	}()
	select {
	case <-closed:
	case <-time.After(time.Second):
	}
}

// Held reports whether other services know that this one lives. While they do not, they take its sessions, and it must
// not open any.
func (s *Store) Held() bool { return s.lock.held() }

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.pool.Ping(ctx) }

// Version is a published version of a contract.
type Version struct {
	Contract    string
	Version     int
	Source      string
	Files       map[string]string // what it includes
	Fingerprint string
	Outline     json.RawMessage
	// findings, matrix, cost and outline; nil for what was published before there were reports
	Report      json.RawMessage
	PublishedAt time.Time
}

// Publish stores a contract as its next version. Publishing the text of the newest version again gives that version
// back, with fresh false.
func (s *Store) Publish(ctx context.Context, v Version) (out Version, fresh bool, err error) {
	if v.Files == nil {
		v.Files = map[string]string{}
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(
			ctx, "insert into contracts (name) values ($1) on conflict do nothing", v.Contract,
		); err != nil {
			return err
		}
		// Two who publish at once get two numbers.
		if _, err := tx.Exec(ctx, "select 1 from contracts where name = $1 for update", v.Contract); err != nil {
			return err
		}
		out, err = scanVersion(
			tx.QueryRow(ctx, versions+" where contract = $1 order by version desc limit 1", v.Contract),
		)
		if err == nil && out.Source == v.Source && maps.Equal(out.Files, v.Files) {
			return nil
		}
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		v.Version = out.Version + 1
		fresh = true
		out = v
		return tx.QueryRow(
			ctx,
			"insert into contract_versions (contract, version, source, files, fingerprint, outline, report) values "+
				"($1, $2, $3, $4, $5, $6, $7) returning published_at",
			v.Contract, v.Version, v.Source, v.Files, v.Fingerprint, v.Outline, v.Report,
		).Scan(&out.PublishedAt)
	})
	if err != nil {
		return Version{}, false, fmt.Errorf("publish %s: %w", v.Contract, err)
	}
	return out, fresh, nil
}

const versions = "select contract, version, source, files, fingerprint, outline, report, published_at from " +
	"contract_versions"

// scanVersion reads a row of the table of versions.
func scanVersion(row pgx.Row) (v Version, err error) {
	err = row.Scan(&v.Contract, &v.Version, &v.Source, &v.Files, &v.Fingerprint, &v.Outline, &v.Report, &v.PublishedAt)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return v, err
}

// Version reads one version of a contract; 0 is the newest.
func (s *Store) Version(ctx context.Context, name string, version int) (Version, error) {
	v, err := scanVersion(
		s.pool.QueryRow(
			ctx, versions+" where contract = $1 and ($2 = 0 or version = $2) order by version desc limit 1", name,
			version,
		),
	)
	if err != nil {
		return v, fmt.Errorf("read contract %s version %d: %w", name, version, err)
	}
	return v, nil
}

// Versions returns the versions of a contract, newest first, without their sources; with an empty name the newest of
// each.
func (s *Store) Versions(ctx context.Context, name string) ([]Version, error) {
	query := "select contract, version, '', '{}'::jsonb, fingerprint, 'null'::json, null::json, published_at from " +
		"contract_versions where contract = $1 order by version desc limit 1000"
	args := []any{name}
	if name == "" {
		query = "select distinct on (contract) contract, version, '', '{}'::jsonb, fingerprint, 'null'::json, " +
			"null::json, published_at from contract_versions order by contract, version desc limit 1000"
		args = nil
	}
	rows, _ := s.pool.Query(ctx, query, args...)
	out, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (Version, error) { return scanVersion(r) })
	if err != nil {
		return nil, fmt.Errorf("list contracts: %w", err)
	}
	return out, nil
}

// Session is a session's row.
type Session struct {
	ID          int64
	Contract    string
	Version     int
	OpenedAt    time.Time
	ClosedAt    *time.Time
	CloseReason *string
	LastTick    int64
	Result      json.RawMessage // what it came to; nil for none
}

const sessions = "select id, contract, version, opened_at, closed_at, close_reason, last_tick, result from sessions"

// scanSession reads a row of the table of sessions.
func scanSession(row pgx.CollectableRow) (v Session, err error) {
	err = row.Scan(&v.ID, &v.Contract, &v.Version, &v.OpenedAt, &v.ClosedAt, &v.CloseReason, &v.LastTick, &v.Result)
	return v, err
}

// OpenSession stores a new session, which this service holds. Of what is given, the contract, the version and what it
// takes to play the session again count.
func (s *Store) OpenSession(ctx context.Context, in Recorded) (Session, error) {
	rows, _ := s.pool.Query(
		ctx,
		"insert into sessions (contract, version, key, options, engine, wire, holder) values ($1, $2, $3, $4, "+
			"$5, $6, $7) "+
			"returning id, contract, version, opened_at, closed_at, close_reason, last_tick, result",
		in.Contract, in.Version, in.Key, in.Options, in.Engine, in.Wire, s.id,
	)
	out, err := pgx.CollectExactlyOneRow(rows, scanSession)
	if err != nil {
		return out, fmt.Errorf("open a session of %s version %d: %w", in.Contract, in.Version, err)
	}
	return out, nil
}

// SetOptions stores with what a session was opened.
func (s *Store) SetOptions(ctx context.Context, id int64, options json.RawMessage) error {
	_, err := s.pool.Exec(ctx, "update sessions set options = $2 where id = $1 and holder = $3", id, options, s.id)
	if err != nil {
		return fmt.Errorf("store with what session %d was opened: %w", id, err)
	}
	return nil
}

// SetResult stores what a session that this service holds came to, before its end is noted.
func (s *Store) SetResult(ctx context.Context, id int64, result json.RawMessage) error {
	_, err := s.pool.Exec(ctx, "update sessions set result = $2 where id = $1 and holder = $3", id, result, s.id)
	if err != nil {
		return fmt.Errorf("store the result of session %d: %w", id, err)
	}
	return nil
}

// CloseSession notes the end of a session that this service holds.
func (s *Store) CloseSession(ctx context.Context, id int64, reason string, tick int64) error {
	_, err := s.pool.Exec(
		ctx,
		"update sessions set closed_at = now(), close_reason = $2, last_tick = $3 where id = $1 and closed_at is null "+
			"and holder = $4",
		id, clean(reason), tick, s.id,
	)
	if err != nil {
		return fmt.Errorf("close session %d: %w", id, err)
	}
	return nil
}

// StopTrials ends the trials that services left open which do not live any more.
func (s *Store) StopTrials(ctx context.Context) error {
	if _, err := s.pool.Exec(
		ctx,
		"update trials set ended_at = now(), state = 'stopped', summary = 'the service ended before it was done' "+
			"where state in ('waiting', 'running') and (holder is null or not "+isHeld+")",
	); err != nil {
		return fmt.Errorf("stop left-over trials: %w", err)
	}
	return nil
}

// Sessions returns the newest sessions, at most limit.
func (s *Store) Sessions(ctx context.Context, limit int) ([]Session, error) {
	rows, _ := s.pool.Query(ctx, sessions+" order by closed_at is not null, id desc limit $1", limit)
	out, err := pgx.CollectRows(rows, scanSession)
	if err != nil {
		return nil, fmt.Errorf("list sessions: %w", err)
	}
	return out, nil
}

// Session reads one session.
func (s *Store) Session(ctx context.Context, id int64) (Session, error) {
	rows, _ := s.pool.Query(ctx, sessions+" where id = $1", id)
	out, err := pgx.CollectExactlyOneRow(rows, scanSession)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	if err != nil {
		return out, fmt.Errorf("read session %d: %w", id, err)
	}
	return out, nil
}

// Seat is a client that took part in a session.
type Seat struct {
	Session    int64
	Client     int
	Player     string // the identity that a ticket has proven; empty for none
	Name, Role string
	JoinedAt   time.Time
	LeftAt     *time.Time
	LeftReason *string
}

// storeSeat stores a seat as it is now.
const storeSeat = `insert into seats (session, client, player, name, role, joined_at, left_at, left_reason)
	values ($1, $2, nullif($3, ''), $4, $5, $6, $7, $8)
	on conflict (session, client) do update set left_at = excluded.left_at, left_reason = excluded.left_reason`

// values are those of storeSeat.
func (s *Seat) values() []any {
	var reason *string
	if s.LeftReason != nil {
		text := clean(*s.LeftReason)
		reason = &text
	}
	return []any{s.Session, s.Client, s.Player, clean(s.Name), s.Role, s.JoinedAt, s.LeftAt, reason}
}

// queue queues the statement that stores the seat.
func (s *Seat) queue(to *pgx.Batch) { to.Queue(storeSeat, s.values()...) }

// Seats returns who took part in a session.
func (s *Store) Seats(ctx context.Context, session int64) ([]Seat, error) {
	rows, _ := s.pool.Query(
		ctx,
		"select session, client, coalesce(player, ''), name, role, joined_at, left_at, left_reason from seats where "+
			"session = $1 order by "+
			"client limit 10000",
		session,
	)
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Seat])
	if err != nil {
		return nil, fmt.Errorf("list the seats of session %d: %w", session, err)
	}
	return out, nil
}

// Decision is a decided request as it is kept.
type Decision struct {
	Session   int64
	Tick      int64
	Client    int
	Name      string
	Seq       uint64
	Request   string
	Entity    int64
	Args      json.RawMessage
	Outcome   string
	Stage     string
	Reason    string
	CheckText string
	Line      int
	At        time.Time
}

// Decisions returns the newest decisions of a session, newest first.
func (s *Store) Decisions(ctx context.Context, session int64, limit int) ([]Decision, error) {
	rows, _ := s.pool.Query(
		ctx,
		`select session, tick, client, name, seq::text, request, entity, args,
		outcome, stage, reason, check_text, line, at
		from decisions where session = $1 order by id desc limit $2`, session, limit,
	)
	out, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (d Decision, err error) {
		var seq string
		err = r.Scan(
			&d.Session, &d.Tick, &d.Client, &d.Name, &seq, &d.Request, &d.Entity, &d.Args, &d.Outcome, &d.Stage,
			&d.Reason, &d.CheckText, &d.Line, &d.At,
		)
		if err == nil {
			_, err = fmt.Sscan(seq, &d.Seq)
		}
		return d, err
	})
	if err != nil {
		return nil, fmt.Errorf("list the decisions of session %d: %w", session, err)
	}
	// What was refused may have been stored later than what was accepted after it.
	slices.SortStableFunc(out, func(a, b Decision) int { return cmp.Compare(b.Tick, a.Tick) })
	return out, nil
}

// clean makes a text from outside fit for a column: PostgreSQL takes neither broken UTF-8 nor NUL.
func clean(s string) string {
	if len(s) > 1000 {
		s = s[:1000]
	}
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}
