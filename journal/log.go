package journal

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"log/slog"
	"maps"
	"time"

	"kamerad.example/core/record"
	"kamerad.example/core/session"
	"kamerad.example/store"
)

// Checkpoints are made so often, and not so often that they take more than a part of the session's time.
const (
	checkpointEvery = 30 * time.Second
	checkpointPart  = 1000
)

// Log is a session's part of a journal. The goroutine that owns the session calls its methods; Wait may be called by
// anybody.
type Log struct {
	journal  *Journal
	session  int64
	contract string
	whenLost func() // see Options
	// see Options
	leaseLost func(keeper store.Keeper, fence int64)
	writer    *record.Writer

	keptTick       int64 // the last tick that changed what is kept
	settledTick    int64 // the last one that was called settled
	lastCheckpoint time.Time
	checkpointTook time.Duration
	callsSince     bool // the last checkpoint

	// Of the journal's goroutine: the bytes that are stored and not told of, and those of this transaction.
	untold, storing int64

	// Under the journal's lock.
	pending pending
	handed  int64         // how often something was handed over
	mark    int64         // up to which of these all is stored
	stored  int64         // the last tick up to which all calls are stored
	gapped  bool          // calls were given up, and no checkpoint was made since
	gapFrom int64         // the last tick before those
	lost    bool          // the session is another service's, or closed
	changed chan struct{} // closed when something was stored
}

// pending is what waits to be stored.
type pending struct {
	batches     []store.Batch
	checkpoints []store.Checkpoint
	gaps        []store.Gap
	tokens      map[int][][]byte
	seats       map[int]store.Seat
	kept        []*store.Kept // at most one of each lease, in the order in which they were first changed
	bytes       int
	ended       bool // nothing more is handed over: how much there was in all is to be stored
}

// any reports whether anything waits.
func (p *pending) any() bool {
	return len(p.batches)+len(p.checkpoints)+len(p.gaps)+len(p.tokens)+len(p.seats)+len(p.kept) > 0 || p.ended
}

// Options of a log.
type Options struct {
	Session   int64 // its number
	Contract  string
	NextBatch int64 // the number of its next batch; 1 for a new session
	// Lost is called, on a goroutine of its own, when nothing more can be stored of the session, since another service
	// has it, or it was closed.
	Lost func()
	// LeaseLost is called, on a goroutine of its own, when the values of a player, or of the session's world, could not
	// be stored, since another session has had them in the meantime.
	LeaseLost func(keeper store.Keeper, fence int64)
}

// Open begins the log of a session: what it is called with from now on is stored.
func (j *Journal) Open(s *session.Session, o Options) *Log {
	l := &Log{
		journal:        j,
		session:        o.Session,
		contract:       o.Contract,
		whenLost:       o.Lost,
		leaseLost:      o.LeaseLost,
		writer:         record.NewWriter(s.Now(), o.NextBatch),
		lastCheckpoint: time.Now(),
		stored:         s.Now(),
		changed:        make(chan struct{}),
	}
	s.RecordCalls(l.writer.Record)
	j.mu.Lock()
	defer j.mu.Unlock()
	j.logs[l.session] = l
	return l
}

// Close ends the log, once all was handed over; what waits is stored.
func (l *Log) Close(s *session.Session) {
	s.RecordCalls(nil)
	l.handOver(nil)
	l.journal.mu.Lock()
	l.pending.ended = true
	l.count(0)
	l.journal.mu.Unlock()
	l.journal.urge()
}

// Forget takes the log out of its journal, when the session's end was stored.
func (l *Log) Forget() {
	j := l.journal
	j.mu.Lock()
	defer j.mu.Unlock()
	j.pending -= l.pending.bytes
	l.pending = pending{}
	if j.logs[l.session] == l {
		delete(j.logs, l.session)
	}
}

// BeginTick tells the session how far it is stored, when it has told clients anything that is to be kept since.
func (l *Log) BeginTick(s *session.Session) {
	if l.keptTick <= l.settledTick {
		return
	}
	j := l.journal
	j.mu.Lock()
	stored, kept := l.stored, j.kept
	j.mu.Unlock()
	if kept && stored >= l.keptTick {
		l.settledTick = stored
		s.ConfirmStored(stored)
	}
}

// Ticked takes what a tick was given. now is the time.
func (l *Log) Ticked(s *session.Session, step *session.Step, now time.Time) {
	l.handOver(step.Kept)
	if len(step.Kept) > 0 {
		l.keptTick = step.Tick
	}
	if len(step.Kept)+len(step.Cuts) > 0 { // that somebody was expelled must not be undone either
		l.journal.urge()
	}
	every := max(checkpointEvery, checkpointPart*l.checkpointTook)
	if l.needsCheckpoint() || l.callsSince && now.Sub(l.lastCheckpoint) >= every {
		l.checkpoint(s)
	}
}

// needsCheckpoint reports whether calls were given up and the database is back.
func (l *Log) needsCheckpoint() bool {
	j := l.journal
	j.mu.Lock()
	defer j.mu.Unlock()
	return l.gapped && !j.state.Away
}

// checkpoint hands over a checkpoint.
func (l *Log) checkpoint(s *session.Session) {
	began := time.Now()
	data, format, err := s.Checkpoint()
	l.lastCheckpoint = time.Now()
	l.checkpointTook = l.lastCheckpoint.Sub(began)
	l.callsSince = false
	if err != nil {
		slog.Error("a checkpoint could not be made", "session", l.session, "error", err)
		return
	}
	c := store.Checkpoint{
		Session: l.session,
		Tick:    s.Now(),
		Next:    l.writer.Next(),
		Format:  format,
		Data:    data,
	}
	j := l.journal
	j.mu.Lock()
	defer j.mu.Unlock()
	if l.gapped {
		l.gapped = false
		l.pending.gaps = append(l.pending.gaps, store.Gap{Session: l.session, After: l.gapFrom, Next: c.Tick})
		l.stored = c.Tick
	}
	l.pending.checkpoints = append(l.pending.checkpoints, c)
	l.count(len(data))
}

// Tokens takes the hashes of the tokens that are good for a client's seat, oldest first; none when it has left.
func (l *Log) Tokens(client int, tokens [][sha256.Size]byte) {
	hashes := make([][]byte, 0, len(tokens))
	for _, hash := range tokens {
		hashes = append(hashes, bytes.Clone(hash[:]))
	}
	j := l.journal
	j.mu.Lock()
	defer j.mu.Unlock()
	if l.pending.tokens == nil {
		l.pending.tokens = map[int][][]byte{}
	}
	l.pending.tokens[client] = hashes
	l.count(0)
}

// maxSeats is how many seats of a session wait to be stored. Of more, those are given up that were left again.
const maxSeats = 50_000

// Seat takes a seat as it is now. It is stored with the calls that made it so: a service that ends knows of a client
// exactly when its recording does.
func (l *Log) Seat(s store.Seat) {
	j := l.journal
	j.mu.Lock()
	defer j.mu.Unlock()
	if l.pending.seats == nil {
		l.pending.seats = map[int]store.Seat{}
	}
	if len(l.pending.seats) >= maxSeats && s.LeftAt != nil {
		delete(l.pending.seats, s.Client)
		return
	}
	l.pending.seats[s.Client] = s
	l.count(0)
}

// keep takes changes of what players keep; the lock is held.
func (l *Log) keep(changes []session.KeptChange) {
	for i := range changes {
		c := &changes[i]
		if c.Fence == 0 {
			continue // its values were never loaded, and must not be written over
		}
		k := l.pending.lease(l, store.Keeper{Contract: l.contract, Name: c.Player, IsWorld: c.IsWorld}, c.Fence)
		k.Values[c.Property] = c.Value
		l.count(len(c.Value))
	}
}

// Release gives a player's values back, once the changes of the lease are stored.
func (l *Log) Release(player string, fence int64) {
	if fence == 0 {
		return
	}
	j := l.journal
	j.mu.Lock()
	l.pending.lease(l, store.Keeper{Contract: l.contract, Name: player}, fence).Release = true
	l.count(0)
	j.mu.Unlock()
	j.urge()
}

// lease returns the changes of a lease that wait.
func (p *pending) lease(l *Log, keeper store.Keeper, fence int64) *store.Kept {
	for _, k := range p.kept {
		if k.Keeper == keeper && k.Fence == fence {
			return k
		}
	}
	k := &store.Kept{
		Keeper:  keeper,
		Values:  map[string]json.RawMessage{},
		Fence:   fence,
		Session: l.session,
	}
	p.kept = append(p.kept, k)
	return k
}

// HashToken returns the hash of a token, as it is stored.
func HashToken(token string) [sha256.Size]byte { return sha256.Sum256([]byte(token)) }

// Flush has all that the session was called with until now stored at once, and returns what waits for that: an error
// says that ctx has ended before, or that the session was lost.
func (l *Log) Flush() (wait func(ctx context.Context) error) {
	l.handOver(nil)
	l.journal.urge()
	j := l.journal
	j.mu.Lock()
	wanted := l.handed
	j.mu.Unlock()
	return func(ctx context.Context) error {
		for {
			j.mu.Lock()
			done := l.mark >= wanted
			lost := l.lost
			changed := l.changed
			j.mu.Unlock()
			if lost {
				return store.ErrLost
			}
			if done {
				return nil
			}
			select {
			case <-changed:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
}

// handOver hands over what the session was called with, and what came of that for what players keep: they are stored
// together, or not at all.
func (l *Log) handOver(kept []session.KeptChange) {
	batch, ok := l.writer.Take()
	if !ok {
		return
	}
	l.callsSince = true
	j := l.journal
	j.mu.Lock()
	defer j.mu.Unlock()
	l.keep(kept)
	if l.gapped {
		return
	}
	l.pending.batches = append(l.pending.batches, store.Batch{
		Session: l.session,
		Number:  batch.Number,
		After:   batch.After,
		Last:    batch.Last,
		Size:    len(batch.Data),
		Data:    batch.Data,
	})
	l.count(len(batch.Data))
	if l.pending.bytes > maxPending {
		l.giveUp()
	}
	j.bound()
}

// count notes that something was handed over; the lock is held.
func (l *Log) count(bytes int) {
	const each = 64 // that an entry takes besides
	l.handed++
	l.pending.bytes += bytes + each
	l.journal.pending += bytes + each
}

// giveUp drops the calls that wait, so that the recording has a gap; the lock is held.
func (l *Log) giveUp() {
	slog.Error(
		"calls of a session are given up: the database has been away for too long", "session", l.session, "after_tick",
		l.stored,
	)
	if !l.gapped {
		l.gapped = true
		l.gapFrom = l.stored
		l.journal.state.Gaps++
	}
	l.journal.pending -= l.pending.bytes
	// What players keep, and who may come back, is as much as there are players: that never goes.
	l.pending = pending{
		tokens: l.pending.tokens,
		seats:  l.pending.seats,
		gaps:   l.pending.gaps,
		kept:   l.pending.kept,
		ended:  l.pending.ended,
	}
}

// putBack puts in front what could not be stored; the lock is held.
func (l *Log) putBack(p pending) {
	if l.gapped { // since it was taken
		l.journal.pending -= p.bytes
		p.batches = nil
		p.checkpoints = nil
		p.bytes = 0
	}
	p.batches = append(p.batches, l.pending.batches...)
	p.checkpoints = append(p.checkpoints, l.pending.checkpoints...)
	p.gaps = append(p.gaps, l.pending.gaps...)
	for _, k := range l.pending.kept {
		older := p.lease(l, k.Keeper, k.Fence)
		maps.Copy(older.Values, k.Values)
		older.Release = older.Release || k.Release
	}
	p.bytes += l.pending.bytes
	p.ended = p.ended || l.pending.ended
	if p.seats == nil {
		p.seats = l.pending.seats
	} else {
		maps.Copy(p.seats, l.pending.seats)
	}
	if p.tokens == nil {
		p.tokens = l.pending.tokens
	} else {
		maps.Copy(p.tokens, l.pending.tokens)
	}
	l.pending = p
}
