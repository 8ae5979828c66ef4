package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strconv"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

const (
	maxWaiting = 100_000 // entries that may wait for the database; over it the oldest wait no longer
	batchSize  = 2000
	batchEvery = 100 * time.Millisecond
)

// Recorder writes what sessions leave behind in the background, in order, a batch at a time. Adding to it never waits for
// the database; when that is away, entries wait, up to a bound.
type Recorder struct {
	store *Store
	mu    sync.Mutex
	queue []any // Seat or Decision
	lost  int64
	wake  chan struct{}
	stop  chan struct{}
	done  chan struct{}
}

// NewRecorder starts a recorder; Close ends it.
func NewRecorder(s *Store) *Recorder {
	r := &Recorder{store: s, wake: make(chan struct{}, 1), stop: make(chan struct{}), done: make(chan struct{})}
	go r.run()
	return r
}

// Seat notes that a client joined, or, with LeftAt set, left.
func (r *Recorder) Seat(s Seat) { r.add(s) }

// Record notes decided requests.
func (r *Recorder) Record(list []Decision) {
	for _, d := range list {
		r.add(d)
	}
}

func (r *Recorder) add(entry any) {
	r.mu.Lock()
	if len(r.queue) >= maxWaiting {
		r.queue = r.queue[1:]
		r.lost++
	}
	r.queue = append(r.queue, entry)
	r.mu.Unlock()
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// Waiting tells how many entries are not stored yet, and how many were given up.
func (r *Recorder) Waiting() (waiting int, lost int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.queue), r.lost
}

// Close stores what waits, for as long as ctx allows, and ends the recorder. The error says what could not be stored.
func (r *Recorder) Close(ctx context.Context) error {
	close(r.stop)
	select {
	case <-r.done:
	case <-ctx.Done():
	}
	if n, _ := r.Waiting(); n > 0 {
		return fmt.Errorf("store the last records: %d could not be written in time", n)
	}
	return nil
}

func (r *Recorder) run() {
	defer close(r.done)
	pause := batchEvery
	for stopping := false; ; {
		select {
		case <-r.wake:
		case <-r.stop:
			stopping = true
		}
		if !stopping {
			select { // let a batch gather
			case <-time.After(pause):
			case <-r.stop:
				stopping = true
			}
		}
		for {
			r.mu.Lock()
			batch := r.queue[:min(len(r.queue), batchSize)]
			before := r.lost
			r.mu.Unlock()
			if len(batch) == 0 {
				break
			}
			if err := r.writeAll(batch); err != nil {
				waiting, _ := r.Waiting()
				pause = min(2*pause, 5*time.Second)
				slog.Warn("records cannot be stored now; they wait", "error", err, "waiting", waiting, "next_try", pause)
				select {
				case r.wake <- struct{}{}:
				default:
				}
				if stopping {
					return
				}
				break
			}
			pause = batchEvery
			r.mu.Lock()
			// What was given up meanwhile stood at the front of this batch.
			r.queue = r.queue[max(0, len(batch)-int(r.lost-before)):]
			r.mu.Unlock()
		}
		if stopping {
			return
		}
	}
}

// writeAll writes a batch. An entry that the database refuses for what it holds must not hold up the others: it is logged and
// left out.
func (r *Recorder) writeAll(batch []any) error {
	err := r.write(batch)
	var refused *pgconn.PgError
	if !errors.As(err, &refused) || refused.Code[:2] != "22" && refused.Code[:2] != "23" {
		return err
	}
	for _, entry := range batch {
		if err := r.write([]any{entry}); errors.As(err, &refused) {
			slog.Error("a record was refused by the database and is lost", "error", err)
		} else if err != nil {
			return err
		}
	}
	return nil
}

func (r *Recorder) write(batch []any) error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return pgx.BeginFunc(ctx, r.store.pool, func(tx pgx.Tx) error {
		var rows [][]any
		for _, entry := range batch {
			switch e := entry.(type) {
			case Seat:
				if e.LeftReason != nil {
					reason := clean(*e.LeftReason)
					e.LeftReason = &reason
				}
				_, err := tx.Exec(ctx, `insert into seats (session, client, name, role, joined_at, left_at, left_reason) values ($1, $2, $3, $4, $5, $6, $7)
					on conflict (session, client) do update set left_at = excluded.left_at, left_reason = excluded.left_reason`,
					e.Session, e.Client, clean(e.Name), e.Role, e.JoinedAt, e.LeftAt, e.LeftReason)
				if err != nil {
					return fmt.Errorf("store a seat: %w", err)
				}
			case Decision:
				rows = append(rows, []any{
					e.Session, e.Tick, e.Client, clean(e.Name), strconv.FormatUint(e.Seq, 10), clean(e.Request), e.Entity, cleanArgs(e.Args),
					e.Outcome, e.Stage, clean(e.Reason), e.CheckText, e.Line, e.At,
				})
			}
		}
		batch := &pgx.Batch{}
		for _, row := range rows {
			batch.Queue(`insert into decisions (session, tick, client, name, seq, request, entity, args, outcome, stage, reason, check_text, line, at)
				values ($1, $2, $3, $4, $5::text::numeric, $6, $7, $8::text::json, $9, $10, $11, $12, $13, $14)`, row...)
		}
		if err := tx.SendBatch(ctx, batch).Close(); err != nil {
			return fmt.Errorf("store decisions: %w", err)
		}
		return nil
	})
}

// cleanArgs words arguments again, since a client may send bytes that are JSON to some and not to others.
func cleanArgs(raw json.RawMessage) string {
	var v any
	if len(raw) == 0 || json.Unmarshal(raw, &v) != nil {
		return "[]"
	}
	out, err := json.Marshal(v)
	if err != nil {
		return "[]"
	}
	return string(out)
}
