package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// ErrLost says that a session is not this service's any more: another one has taken it, or it was closed.
var ErrLost = errors.New("the session is not held by this service any more")

// Recorded is what it takes to play a session again, besides its calls.
type Recorded struct {
	Session
	Key     []byte          // of the session; nil for one that was opened before there were recordings
	Options json.RawMessage // what it was opened with
	Engine  int             // the version of what its recording means
	Wire    int             // the revision of the protocol
}

// Batch is a batch of a session's calls.
type Batch struct {
	Session int64
	Number  int64
	After   int64 // the last tick before it
	Last    int64 // the last tick in it
	Size    int   // before it was compressed
	Data    []byte
	At      time.Time // when it was stored; of one that is read
}

// Tokens are the hashes of the tokens that take a seat again, oldest first; none for a seat that was left.
type Tokens struct {
	Session int64
	Client  int
	Hashes  [][]byte
}

// Checkpoint is a session between two calls.
type Checkpoint struct {
	Session int64
	Tick    int64
	Next    int64 // the number of the batch that follows
	Format  uint64
	Data    []byte
}

// Gap is some ticks of which the calls were given up.
type Gap struct {
	Session int64
	After   int64 // the last tick before it
	Next    int64 // of the checkpoint behind it
}

// Entries is what is stored of sessions at once.
type Entries struct {
	Batches     []Batch
	Tokens      []Tokens
	Seats       []Seat
	Checkpoints []Checkpoint
	Gaps        []Gap
	Kept        []Kept
	Sizes       []Growth
}

// Growth is by how much a recording has grown.
type Growth struct {
	Session int64
	Bytes   int64
}

// Result says what of some Entries could not be stored.
type Result struct {
	LostSessions []int64 // that are not this service's any more: nothing of them is stored
	LostLeases   []Kept  // whose values were not stored, since another session has had them
}

// Append stores entries of sessions in one transaction: all of them, but for what the result names. An entry that was
// stored before stands once.
func (s *Store) Append(ctx context.Context, e Entries) (out Result, err error) {
	all := e.sessions()
	err = s.pool.AcquireFunc(ctx, func(conn *pgxpool.Conn) error {
		mine := all
		for {
			var held []int64
			held, out.LostLeases, err = s.tryAppend(ctx, conn.Conn(), &e, mine)
			if err != nil {
				return err
			}
			if len(held) == len(mine) {
				return nil
			}
			for _, id := range mine {
				if !slices.Contains(held, id) {
					out.LostSessions = append(out.LostSessions, id)
				}
			}
			mine = held
		}
	})
	if err != nil {
		return Result{}, fmt.Errorf("store the calls of %d sessions: %w", len(all), err)
	}
	return out, nil
}

// tryAppend stores the entries of sessions that are thought to be this service's, and returns those that are. When some
// are not, nothing is stored. All statements go out at once, and the end of the transaction when it is known what came
// of them: a batch takes two round trips.
func (s *Store) tryAppend(
	ctx context.Context, conn *pgx.Conn, e *Entries, ids []int64,
) (held []int64, lost []Kept, err error) {
	mine := map[int64]bool{}
	for _, id := range ids {
		mine[id] = true
	}
	batch := &pgx.Batch{}
	batch.Queue("begin")
	// Whoever takes sessions over has this lock for itself, and so comes before or after all of this. To lock the rows
	// would write each of them.
	batch.Queue("select pg_advisory_xact_lock_shared(" + takeoverLock + ")")
	batch.Queue(
		"select id from sessions where id = any($1) and holder = $2 and closed_at is null", ids, s.id,
	).Query(func(rows pgx.Rows) (err error) {
		held, err = pgx.CollectRows(rows, pgx.RowTo[int64])
		return err
	})
	e.queue(batch, mine)
	for _, k := range e.Kept {
		if mine[k.Session] {
			k.queue(batch, func() { lost = append(lost, k) })
		}
	}
	end := "commit"
	err = conn.SendBatch(ctx, batch).Close()
	if err != nil || len(held) < len(ids) {
		end = "rollback"
	}
	Failpoints.Storing.Hit()
	if _, ended := conn.Exec(ctx, end); err == nil {
		err = ended
	}
	return held, lost, err
}

// sessions returns the sessions that there are entries of.
func (e *Entries) sessions() (ids []int64) {
	seen := map[int64]bool{}
	add := func(id int64) {
		if !seen[id] {
			seen[id] = true
			ids = append(ids, id)
		}
	}
	for i := range e.Batches {
		add(e.Batches[i].Session)
	}
	for i := range e.Tokens {
		add(e.Tokens[i].Session)
	}
	for i := range e.Seats {
		add(e.Seats[i].Session)
	}
	for i := range e.Checkpoints {
		add(e.Checkpoints[i].Session)
	}
	for i := range e.Gaps {
		add(e.Gaps[i].Session)
	}
	for i := range e.Kept {
		add(e.Kept[i].Session)
	}
	return ids
}

// queueSeats queues the statements that store the seats of some sessions, and the hashes of their tokens.
func (e *Entries) queueSeats(to *pgx.Batch, mine map[int64]bool) {
	for _, t := range e.Tokens {
		if !mine[t.Session] {
			continue
		}
		if len(t.Hashes) == 0 {
			to.Queue("delete from seat_tokens where session = $1 and client = $2", t.Session, t.Client)
			continue
		}
		to.Queue(
			`insert into seat_tokens (session, client, hashes) values ($1, $2, $3)
			on conflict (session, client) do update set hashes = excluded.hashes`,
			t.Session, t.Client, t.Hashes,
		)
	}
	for i := range e.Seats {
		if mine[e.Seats[i].Session] {
			e.Seats[i].queue(to)
		}
	}
}

// queue queues the statements that store the entries of some sessions.
func (e *Entries) queue(to *pgx.Batch, mine map[int64]bool) {
	var sessions, numbers, afters, lasts []int64
	var sizes []int
	var data [][]byte
	for i := range e.Batches {
		if b := &e.Batches[i]; mine[b.Session] {
			sessions = append(sessions, b.Session)
			numbers = append(numbers, b.Number)
			afters = append(afters, b.After)
			lasts = append(lasts, b.Last)
			sizes = append(sizes, b.Size)
			data = append(data, b.Data)
		}
	}
	if len(sessions) > 0 {
		to.Queue(
			`insert into call_batches (session, number, after_tick, last_tick, size, data)
			select * from unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::bigint[], $5::int[], $6::bytea[])
			on conflict do nothing`,
			sessions, numbers, afters, lasts, sizes, data,
		)
	}
	e.queueSeats(to, mine)
	for _, c := range e.Checkpoints {
		if mine[c.Session] {
			to.Queue(
				`insert into checkpoints (session, tick, next_batch, format, data) values ($1, $2, $3, $4, $5)
				on conflict do nothing`,
				c.Session, c.Tick, c.Next, int64(c.Format), c.Data,
			)
		}
	}
	for _, g := range e.Sizes {
		if mine[g.Session] {
			to.Queue("update sessions set bytes = bytes + $2 where id = $1", g.Session, g.Bytes)
		}
	}
	for _, g := range e.Gaps {
		if mine[g.Session] {
			to.Queue(
				`insert into recording_gaps (session, after_tick, next_tick) values ($1, $2, $3)
				on conflict do nothing`,
				g.Session, g.After, g.Next,
			)
		}
	}
}

// IsDurable reports whether what the database has committed survives its crash, and if not, which of its settings says
// so.
func (s *Store) IsDurable(ctx context.Context) (durable bool, reason string, err error) {
	var fsync, commit string
	err = s.pool.QueryRow(ctx, "select current_setting('fsync'), current_setting('synchronous_commit')").Scan(
		&fsync, &commit,
	)
	if err != nil {
		return false, "", fmt.Errorf("read the database's settings: %w", err)
	}
	switch {
	case fsync != "on":
		return false, "fsync is " + fsync, nil
	case commit == "off":
		return false, "synchronous_commit is off", nil
	}
	return true, "", nil
}

// recorded reads sessions; the row of one that is open does not say yet how far its recording goes.
const recorded = `select id, contract, version, opened_at, closed_at, close_reason, greatest(last_tick, (
	select last_tick from call_batches where session = sessions.id order by number desc limit 1
)), key, options, engine, wire from sessions`

// scanRecorded reads a row of the table of sessions with what it takes to play it.
func scanRecorded(row pgx.CollectableRow) (v Recorded, err error) {
	err = row.Scan(
		&v.ID, &v.Contract, &v.Version, &v.OpenedAt, &v.ClosedAt, &v.CloseReason, &v.LastTick, &v.Key, &v.Options,
		&v.Engine, &v.Wire,
	)
	return v, err
}

// takeoverLock is an advisory lock: shared by who stores something of sessions, exclusive of who takes them over.
const takeoverLock = "hashtext('kamerad takeover')"

// leftOpen is a condition over sessions: they are open, and the service that held them does not live any more.
const leftOpen = "closed_at is null and holder is distinct from $1 and (holder is null or not " + isHeld + ")"

// TakeOpen takes the sessions for this service that others left open which do not live any more, and returns them by
// number: from now on nothing that another service writes of them counts.
func (s *Store) TakeOpen(ctx context.Context) ([]Recorded, error) {
	var is bool // mostly there are none, and nobody has to wait
	err := s.pool.QueryRow(ctx, "select exists (select from sessions where "+leftOpen+")", s.id).Scan(&is)
	if err != nil {
		return nil, fmt.Errorf("look for sessions that were left open: %w", err)
	}
	if !is {
		return nil, nil
	}
	var taken []int64
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "select pg_advisory_xact_lock("+takeoverLock+")"); err != nil {
			return err
		}
		rows, _ := tx.Query(ctx, "update sessions set holder = $1 where "+leftOpen+" returning id", s.id)
		taken, err = pgx.CollectRows(rows, pgx.RowTo[int64])
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("take the sessions that were left open: %w", err)
	}
	rows, _ := s.pool.Query(ctx, recorded+" where id = any($1) order by id", taken)
	out, err := pgx.CollectRows(rows, scanRecorded)
	if err != nil {
		return nil, fmt.Errorf("list the sessions that were left open: %w", err)
	}
	return out, nil
}

// Recorded reads what it takes to play a session again.
func (s *Store) Recorded(ctx context.Context, session int64) (Recorded, error) {
	rows, _ := s.pool.Query(ctx, recorded+" where id = $1", session)
	out, err := pgx.CollectExactlyOneRow(rows, scanRecorded)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	if err != nil {
		return out, fmt.Errorf("read the recording of session %d: %w", session, err)
	}
	return out, nil
}

// SessionTokens returns the hashes of the tokens of a session's seats, by client.
func (s *Store) SessionTokens(ctx context.Context, session int64) (map[int][][]byte, error) {
	rows, _ := s.pool.Query(ctx, "select session, client, hashes from seat_tokens where session = $1", session)
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Tokens])
	if err != nil {
		return nil, fmt.Errorf("read the seats of session %d: %w", session, err)
	}
	out := map[int][][]byte{}
	for _, t := range list {
		out[t.Client] = t.Hashes
	}
	return out, nil
}

// NewestCheckpoint returns the newest checkpoint of a session at a tick or before it, of one format; nil when there is
// none.
func (s *Store) NewestCheckpoint(ctx context.Context, session, tick int64, format uint64) (*Checkpoint, error) {
	rows, _ := s.pool.Query(
		ctx,
		"select session, tick, next_batch, format, data from checkpoints where session = $1 and "+
			"tick <= $2 and format = $3 order by tick desc limit 1",
		session, tick, int64(format),
	)
	out, err := pgx.CollectExactlyOneRow(rows, func(r pgx.CollectableRow) (c Checkpoint, err error) {
		var format int64
		err = r.Scan(&c.Session, &c.Tick, &c.Next, &format, &c.Data)
		c.Format = uint64(format)
		return c, err
	})
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read a checkpoint of session %d: %w", session, err)
	}
	return &out, nil
}

// Batches returns the batches of a session from a number on, in their order, at most limit of them.
func (s *Store) Batches(ctx context.Context, session, from int64, limit int) ([]Batch, error) {
	rows, _ := s.pool.Query(
		ctx,
		"select session, number, after_tick, last_tick, size, data, at from call_batches where session = $1 and "+
			"number "+
			">= $2 order by number limit $3",
		session, from, limit,
	)
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Batch])
	if err != nil {
		return nil, fmt.Errorf("read the calls of session %d: %w", session, err)
	}
	return out, nil
}

// Now returns the database's time.
func (s *Store) Now(ctx context.Context) (at time.Time, err error) {
	err = s.pool.QueryRow(ctx, "select clock_timestamp()").Scan(&at)
	return at, err
}
