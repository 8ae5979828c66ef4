package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"golang.org/x/time/rate"
)

// Bounds of what waits for the database. Over them, the oldest records of those clients are dropped who have the most,
// and counted: one that floods the service loses its own.
const (
	maxWaitingBytes        = 32 << 20 // of seats and of requests that were accepted
	maxWaitingRefusedBytes = 8 << 20  // of requests that were not
	batchSize              = 2000
	batchEvery             = 100 * time.Millisecond
	writeTimeout           = 10 * time.Second
	longestPause           = 5 * time.Second // between two tries while the database is away
	outageLogEvery         = time.Minute     // how often the log says that it is away
	// one part in so many is freed of a queue that is full: that goes over all of it
	freedAtOnce = 32
)

// class is how much a record matters. What matters more is stored first and dropped last.
type class int

const (
	kept    class = iota // a seat, or a request that was accepted: what players have done
	refused              // a request that was not
	classes
)

// Backlog says what a recorder has not stored.
type Backlog struct {
	Waiting int  `json:"waiting"` // records that are still to be stored
	Bytes   int  `json:"bytes"`   // about how much memory they take
	Away    bool `json:"away"`    // they could not be stored when that was last tried
	// seats and accepted requests that were given up, since the service started
	DroppedKept    int64 `json:"dropped_kept"`
	DroppedRefused int64 `json:"dropped_refused"` // other requests that were given up
}

// Recorder writes what sessions leave behind in the background, a batch at a time, each class in order. Adding to it
// never waits for the database; when that is away, records wait, up to a bound.
type Recorder struct {
	store *Store
	wake  chan struct{} // has something when records have come
	stop  chan struct{} // closed when no more records come
	done  chan struct{} // closed when its goroutine has ended

	writing context.Context    // ends when nothing more is to be written
	abandon context.CancelFunc // ends it

	mu       sync.Mutex // guards the rest
	queues   [classes]queue
	arrived  int64     // records that there have been
	away     bool      // the last batch could not be written
	underWay int       // records of the batch that is being written
	warned   time.Time // when it was last logged that records were dropped
}

// queue holds the records of one class, oldest first.
type queue struct {
	records []record
	bytes   int
	held    map[owner]int // bytes of the records of each client
	dropped int64
}

// owner is the client that a record is of.
type owner struct {
	session int64
	client  int
}

// record is a Seat or a Decision that waits to be written.
type record struct {
	entry any
	owner owner // whose records are dropped first when there are too many
	bytes int   // about how much memory it takes
	class class
	nth   int64 // its place in the order of arrival: with its session, a decision's identity in the database
}

// add puts a record at the end of the queue.
func (q *queue) add(r record) {
	q.records = append(q.records, r)
	q.count(r, 1)
}

// count adds a record to what is held, or takes it out with a sign of -1.
func (q *queue) count(r record, sign int) {
	q.bytes += sign * r.bytes
	if q.held == nil {
		q.held = map[owner]int{}
	}
	q.held[r.owner] += sign * r.bytes
	if q.held[r.owner] == 0 {
		delete(q.held, r.owner)
	}
}

// take removes the first records, n at most.
func (q *queue) take(n int) []record {
	out := slices.Clone(q.records[:min(n, len(q.records))])
	clear(q.records[:len(out)]) // what they hold is not kept alive
	q.records = q.records[len(out):]
	for _, r := range out {
		q.count(r, -1)
	}
	return out
}

// putBack puts records in front that could not be stored.
func (q *queue) putBack(list []record) {
	q.records = slices.Concat(list, q.records)
	for _, r := range list {
		q.count(r, 1)
	}
}

// bound drops records when there are more bytes than a bound, and returns how many: the oldest of each client that has
// more than its share.
func (q *queue) bound(most int) (dropped int64) {
	if q.bytes <= most {
		return 0
	}
	share := q.share(most - most/freedAtOnce)
	stay := q.records[:0]
	for _, r := range q.records {
		if q.held[r.owner] > share {
			q.count(r, -1)
			dropped++
		} else {
			stay = append(stay, r)
		}
	}
	clear(q.records[len(stay):])
	q.records = stay
	q.dropped += dropped
	return dropped
}

// share returns the greatest number of bytes that each client may have so that all have no more than most together.
func (q *queue) share(most int) int {
	sizes := slices.Sorted(maps.Values(q.held))
	for i, size := range sizes { // those before have less than their share, and leave the rest to the others
		if each := most / (len(sizes) - i); size > each {
			return each
		}
		most -= size
	}
	return math.MaxInt
}

// NewRecorder starts a recorder; Close ends it.
func NewRecorder(s *Store) *Recorder {
	r := &Recorder{
		store: s,
		wake:  make(chan struct{}, 1),
		stop:  make(chan struct{}),
		done:  make(chan struct{}),
	}
	r.writing, r.abandon = context.WithCancel(context.Background())
	go r.run()
	return r
}

// Seat notes that a client joined, or, with LeftAt set, left.
func (r *Recorder) Seat(s Seat) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.add(kept, s, owner{s.Session, s.Client}, 200+len(s.Name)+len(s.Role))
}

// Record notes decided requests.
func (r *Recorder) Record(list []Decision) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, d := range list {
		c := refused
		if d.Outcome == "accepted" {
			c = kept
		}
		r.add(
			c, d, owner{d.Session, d.Client}, 400+len(d.Args)+len(d.Request)+len(d.Reason)+len(d.CheckText)+len(d.Name),
		)
	}
}

// add adds a record; the lock is held.
func (r *Recorder) add(c class, entry any, of owner, bytes int) {
	r.arrived++
	r.queues[c].add(record{entry, of, bytes, c, r.arrived})
	r.bound()
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// bound drops what is over the bounds and says so, once in ten seconds; the lock is held.
func (r *Recorder) bound() {
	dropped := r.queues[kept].bound(maxWaitingBytes) + r.queues[refused].bound(maxWaitingRefusedBytes)
	if now := time.Now(); dropped > 0 && now.Sub(r.warned) > 10*time.Second {
		r.warned = now
		slog.Error(
			"records are dropped: the database has been away for too long", "dropped_kept", r.queues[kept].dropped,
			"dropped_refused", r.queues[refused].dropped,
		)
	}
}

// Backlog returns what is not stored.
func (r *Recorder) Backlog() (b Backlog) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, q := range r.queues {
		b.Waiting = b.Waiting + len(q.records)
		b.Bytes = b.Bytes + q.bytes
	}
	b.Waiting += r.underWay
	b.Away = r.away
	b.DroppedKept = r.queues[kept].dropped
	b.DroppedRefused = r.queues[refused].dropped
	return b
}

// Waiting returns how many records are not stored yet, and how many were given up.
func (r *Recorder) Waiting() (waiting int, lost int64) {
	b := r.Backlog()
	return b.Waiting, b.DroppedKept + b.DroppedRefused
}

// Close stores what waits, for as long as ctx allows, and ends the recorder. The error says what could not be stored.
func (r *Recorder) Close(ctx context.Context) error {
	close(r.stop)
	select {
	case <-r.done:
	case <-ctx.Done():
		r.abandon()
		<-r.done
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if n, m := len(r.queues[kept].records), len(r.queues[refused].records); n+m > 0 {
		return fmt.Errorf(
			"store the last records: %d could not be written in time (%d seats and accepted requests, %d refused ones)",
			n+m, n, m,
		)
	}
	return nil
}

// run writes batches until the recorder is closed and its queue is empty.
func (r *Recorder) run() {
	defer close(r.done)
	defer r.abandon()
	pause := batchEvery
	outage := rate.Sometimes{Interval: outageLogEvery}
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
		if err := r.writeWaiting(); err != nil {
			pause = min(2*pause, longestPause)
			outage.Do(func() {
				slog.Warn("records cannot be stored now; they wait", "error", err, "waiting", r.Backlog().Waiting)
			})
			select {
			case r.wake <- struct{}{}:
			default:
			}
		} else if pause > batchEvery {
			slog.Info("records are stored again")
			pause = batchEvery
			outage = rate.Sometimes{Interval: outageLogEvery}
		}
		if stopping {
			return
		}
	}
}

// writeWaiting writes all that waits, in the order of arrival; of more than a batch, what matters most first. What
// cannot be written waits on.
func (r *Recorder) writeWaiting() error {
	for {
		r.mu.Lock()
		batch := r.queues[kept].take(batchSize)
		batch = append(batch, r.queues[refused].take(batchSize-len(batch))...)
		slices.SortFunc(batch, func(a, b record) int { return cmp.Compare(a.nth, b.nth) })
		r.underWay = len(batch)
		r.mu.Unlock()
		if len(batch) == 0 {
			return nil
		}
		err := r.writeAll(batch)
		r.mu.Lock()
		r.underWay = 0
		r.away = err != nil
		if err != nil {
			for c := range classes {
				r.queues[c].putBack(slices.DeleteFunc(slices.Clone(batch), func(x record) bool { return x.class != c }))
			}
			r.bound()
		}
		r.mu.Unlock()
		if err != nil {
			return err
		}
	}
}

// writeAll writes a batch. An entry that the database refuses for what it holds must not hold up the others: it is
// logged and left out.
func (r *Recorder) writeAll(batch []record) error {
	err := r.write(batch)
	var turned *pgconn.PgError
	if !errors.As(err, &turned) || turned.Code[:2] != "22" && turned.Code[:2] != "23" {
		return err
	}
	for i := range batch {
		if err := r.write(batch[i : i+1]); errors.As(err, &turned) {
			slog.Error("a record was refused by the database and is lost", "error", err)
		} else if err != nil {
			return err
		}
	}
	return nil
}

// write stores a batch in one transaction. A batch that was stored before stands once.
func (r *Recorder) write(batch []record) error {
	ctx, cancel := context.WithTimeout(r.writing, writeTimeout)
	defer cancel()
	return pgx.BeginFunc(ctx, r.store.pool, func(tx pgx.Tx) error {
		var rows [][]any
		for _, waiting := range batch {
			switch e := waiting.entry.(type) {
			case Seat:
				_, err := tx.Exec(ctx, storeSeat, e.values()...)
				if err != nil {
					return fmt.Errorf("store a seat: %w", err)
				}
			case Decision:
				rows = append(rows, []any{
					e.Session, waiting.nth, e.Tick, e.Client, clean(e.Name),
					strconv.FormatUint(e.Seq, 10), clean(e.Request), e.Entity, cleanArgs(e.Args),
					e.Outcome, e.Stage, clean(e.Reason), e.CheckText, e.Line, e.At,
				})
			}
		}
		batch := &pgx.Batch{}
		for _, row := range rows {
			// The batch may have been stored before: its answer can be lost, or come too late.
			batch.Queue(`insert into decisions (session, id, tick, client, name, seq, request, entity, args,
				outcome, stage, reason, check_text, line, at)
				values ($1, $2, $3, $4, $5, $6::text::numeric, $7, $8, $9::text::json, $10, $11, $12, $13, $14, $15)
				on conflict (session, id) do nothing`, row...)
		}
		if err := tx.SendBatch(ctx, batch).Close(); err != nil {
			return fmt.Errorf("store decisions: %w", err)
		}
		return nil
	})
}

// cleanArgs writes arguments again, since a client may send bytes that are JSON to some and not to others.
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
