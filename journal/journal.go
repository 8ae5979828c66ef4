// Package journal stores what sessions are given, as it comes, so that they can be played again and go on in another
// process: batches of their calls, checkpoints, and the hashes of the tokens of their seats. It knows nothing of what a
// session does with them.
//
// A Log is a session's part of a Journal. The goroutine that owns the session tells it of every tick and never waits
// for it; the Journal's own goroutine compresses what all sessions have handed over and stores it in one transaction,
// as soon as somebody needs it stored, and otherwise four times a second.
//
// While the database is away, what was handed over waits, up to a bound. Over it, the calls of the sessions that have
// most are given up: their recordings have a gap, and go on with a checkpoint once the database is back.
package journal

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"kamerad.example/core/record"
	"kamerad.example/store"
)

// Bounds.
const (
	storeEvery     = 250 * time.Millisecond // what nobody waits for
	storeWithin    = 15 * time.Second       // one transaction
	firstPause     = 50 * time.Millisecond  // after a transaction that failed
	longestPause   = time.Second            // after many
	outageLogEvery = time.Minute
	maxPending     = 8 << 20  // bytes of a session that wait to be stored
	maxAllPending  = 64 << 20 // of all sessions together
	maxAtOnce      = 4 << 20  // bytes of one transaction, before they are compressed

	longTransaction = time.Second // one that takes longer counts as a database that is away
)

// Store is where a Journal stores.
type Store interface {
	Append(ctx context.Context, e store.Entries) (store.Result, error)
	IsDurable(ctx context.Context) (durable bool, reason string, err error)
}

// Journal stores what its logs are given. It may be used by any number of goroutines.
type Journal struct {
	store Store
	wake  chan struct{} // has something when somebody waits for what was handed over
	stop  chan struct{} // closed when nothing more is handed over
	done  chan struct{} // closed when its goroutine has ended

	writing context.Context // ends when nothing more is to be stored
	abandon context.CancelFunc

	mu      sync.Mutex // guards the rest, and what logs have pending
	logs    map[int64]*Log
	pending int // bytes, of all logs
	state   State
	began   time.Time // when the transaction did that runs; the zero time for none
	kept    bool      // what was committed survives a crash of the database
	asked   bool      // whether it does
}

// State says how far a Journal is.
type State struct {
	Waiting  int    // bytes that are handed over and not stored
	Away     bool   // the last transaction failed, or one takes long
	Gaps     int64  // how often calls were given up
	Unstable string // why what is stored does not count as kept; empty when it does
}

// New starts a journal; Close ends it.
func New(s Store) *Journal {
	j := &Journal{
		store: s,
		wake:  make(chan struct{}, 1),
		stop:  make(chan struct{}),
		done:  make(chan struct{}),
		logs:  map[int64]*Log{},
	}
	j.writing, j.abandon = context.WithCancel(context.Background())
	go j.run()
	return j
}

// State returns how far the journal is.
func (j *Journal) State() State {
	j.mu.Lock()
	defer j.mu.Unlock()
	out := j.state
	out.Waiting = j.pending
	out.Away = out.Away || !j.began.IsZero() && time.Since(j.began) > longTransaction
	return out
}

// Close stores what was handed over, for as long as ctx allows, and ends the journal. The error says what could not be
// stored.
func (j *Journal) Close(ctx context.Context) error {
	close(j.stop)
	select {
	case <-j.done:
	case <-ctx.Done():
		j.abandon()
		<-j.done
	}
	if left := j.State().Waiting; left > 0 {
		return fmt.Errorf("store the last calls of sessions: %d bytes could not be written in time", left)
	}
	return nil
}

// urge has what was handed over stored at once.
func (j *Journal) urge() {
	select {
	case j.wake <- struct{}{}:
	default:
	}
}

// run stores until the journal is closed.
func (j *Journal) run() {
	defer close(j.done)
	defer j.abandon()
	ticker := time.NewTicker(storeEvery)
	defer ticker.Stop()
	pause := firstPause
	outage := rate.Sometimes{Interval: outageLogEvery}
	for stopping := false; ; {
		select {
		case <-j.wake:
		case <-ticker.C:
		case <-j.stop:
			stopping = true
		}
		err := j.storeAll()
		if err == nil {
			if pause > firstPause {
				slog.Info("the calls of sessions are stored again")
			}
			pause = firstPause
			if stopping {
				return
			}
			continue
		}
		outage.Do(func() {
			slog.Warn("the calls of sessions cannot be stored now; they wait", "error", err)
		})
		if stopping && j.writing.Err() != nil {
			return
		}
		select {
		case <-time.After(pause):
		case <-j.writing.Done():
			return
		}
		pause = min(2*pause, longestPause)
		j.urge()
	}
}

// storeAll stores all that was handed over until it is called, in transactions of a bounded size.
func (j *Journal) storeAll() error {
	for {
		entries, parts := j.take()
		if len(parts) == 0 {
			return j.probe()
		}
		for i := range entries.Batches {
			entries.Batches[i].Data = record.Compress(entries.Batches[i].Data)
		}
		for i := range entries.Checkpoints {
			entries.Checkpoints[i].Data = record.Compress(entries.Checkpoints[i].Data)
		}
		entries.Sizes = grown(parts, &entries)
		j.begin(time.Now())
		ctx, cancel := context.WithTimeout(j.writing, storeWithin)
		result, err := j.store.Append(ctx, entries)
		cancel()
		j.begin(time.Time{})
		Failpoints.Stored.Hit()
		j.settle(parts, result, err)
		if err != nil {
			return err
		}
	}
}

// begin notes when a transaction has begun; the zero time for its end.
func (j *Journal) begin(at time.Time) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.began = at
}

// grown counts what is stored of each log, and returns what is to be told of it: with a checkpoint, and at the end, so
// that a session's row is not written with every batch.
func grown(parts []part, entries *store.Entries) (out []store.Growth) {
	logs := map[int64]*Log{}
	for _, p := range parts {
		logs[p.log.session] = p.log
		p.log.storing = 0
	}
	for i := range entries.Batches {
		logs[entries.Batches[i].Session].storing += int64(len(entries.Batches[i].Data))
	}
	for i := range entries.Checkpoints {
		logs[entries.Checkpoints[i].Session].storing += int64(len(entries.Checkpoints[i].Data))
	}
	for _, p := range parts {
		if len(p.taken.checkpoints) > 0 || p.taken.ended {
			out = append(out, store.Growth{Session: p.log.session, Bytes: p.log.untold + p.log.storing})
			p.log.storing = -p.log.untold
		}
	}
	return out
}

// probe asks a database that was away whether it is back, when there is nothing to store.
func (j *Journal) probe() error {
	j.mu.Lock()
	needed := j.state.Away || !j.asked
	j.mu.Unlock()
	if !needed {
		return nil
	}
	ctx, cancel := context.WithTimeout(j.writing, storeWithin)
	defer cancel()
	durable, reason, err := j.store.IsDurable(ctx)
	j.mu.Lock()
	defer j.mu.Unlock()
	j.state.Away = err != nil
	if err != nil {
		return err
	}
	if !j.asked && !durable {
		slog.Warn(
			"nothing is called settled: what the database has committed does not survive its crash", "reason", reason,
		)
	}
	j.asked = true
	j.kept = durable
	j.state.Unstable = reason
	return nil
}

// part is what a transaction has of one log.
type part struct {
	log   *Log
	mark  int64 // all that was handed over up to this is in it
	last  int64 // the last tick of its batches
	bytes int
	taken pending
}

// take takes what waits, up to a bound, oldest first of each log.
func (j *Journal) take() (entries store.Entries, parts []part) {
	j.mu.Lock()
	defer j.mu.Unlock()
	room := maxAtOnce
	for _, l := range j.logs {
		if !l.pending.any() || room <= 0 {
			continue
		}
		p := part{log: l, mark: l.handed, taken: l.pending, bytes: l.pending.bytes}
		l.pending = pending{}
		if n := len(p.taken.batches); n > 0 {
			p.last = p.taken.batches[n-1].Last
		}
		room -= p.bytes
		parts = append(parts, p)
		entries.Batches = append(entries.Batches, p.taken.batches...)
		entries.Checkpoints = append(entries.Checkpoints, p.taken.checkpoints...)
		entries.Gaps = append(entries.Gaps, p.taken.gaps...)
		for client, hashes := range p.taken.tokens {
			entries.Tokens = append(entries.Tokens, store.Tokens{Session: l.session, Client: client, Hashes: hashes})
		}
		for _, s := range p.taken.seats {
			entries.Seats = append(entries.Seats, s)
		}
		for _, k := range p.taken.kept {
			entries.Kept = append(entries.Kept, *k)
		}
	}
	return entries, parts
}

// settle notes what has become of a transaction: its parts are stored, or wait on.
func (j *Journal) settle(parts []part, result store.Result, err error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.state.Away = err != nil
	for _, p := range parts {
		if err != nil {
			p.log.putBack(p.taken)
			continue
		}
		j.pending -= p.bytes
		p.log.untold += p.log.storing
		p.log.mark = p.mark
		p.log.stored = max(p.log.stored, p.last)
		close(p.log.changed)
		p.log.changed = make(chan struct{})
	}
	for _, id := range result.LostSessions {
		if l := j.logs[id]; l != nil && !l.lost {
			l.lost = true
			if l.whenLost != nil {
				go l.whenLost()
			}
		}
	}
	for _, k := range result.LostLeases {
		if l := j.logs[k.Session]; l != nil && l.leaseLost != nil {
			go l.leaseLost(k.Keeper, k.Fence)
		}
	}
	if err != nil {
		j.bound()
	}
}

// bound gives up the calls of the sessions that have most, when more wait than may; the lock is held.
func (j *Journal) bound() {
	for j.pending > maxAllPending {
		var most *Log
		for _, l := range j.logs {
			if most == nil || l.pending.bytes > most.pending.bytes {
				most = l
			}
		}
		if most == nil || most.pending.bytes == 0 {
			return
		}
		most.giveUp()
	}
}
