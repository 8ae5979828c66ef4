package service

import (
	"slices"
	"time"

	"kamerad.example/service/rawsocket"
)

// Bounds of how far a client may be behind. One that falls behind is sent a snapshot in place of its backlog; one that
// makes no progress is cut.
const (
	behindAfter = time.Second // and its least round trip: how old what it has not confirmed may be
	// and so many of its least round trips: how long it may confirm nothing that it was sent
	cutAfter  = 10 * time.Second
	cutTrips  = 12
	cutAtMost = time.Minute // however far away it is; also for one of which no round trip is known
)

// progress follows what a client confirms of what it was sent. What the system has taken to send says little: on a good
// network its buffers hold what a client has not read for half a minute. The session's goroutine owns it.
//
// One frame at a time is waited for: the first that was sent after the one before was confirmed. Its age tells how far
// a client is behind as well as that of every frame would, and one look at a client a few times a second suffices.
//
// Its times are those of the runner's clock, which stands still while the session does: no client is behind because the
// server was.
type progress struct {
	tick         int64         // of the frame whose confirmation is waited for; 0 for none
	sentAt       time.Duration // when that frame was sent
	minRoundTrip time.Duration // the least round trip that was seen; 0 while none was
	lastProgress time.Duration // when it last confirmed such a frame; 0 while it has confirmed none
}

// sessionClock counts the time in which a session ticks.
type sessionClock struct {
	passed time.Duration
	last   time.Time // the last tick
}

// tick counts the time since the last tick; of a pause, no more than that of two ticks.
func (w *sessionClock) tick(now time.Time, period time.Duration) {
	if !w.last.IsZero() {
		w.passed += min(max(now.Sub(w.last), 0), 2*period)
	}
	w.last = now
}

// noteSent notes that a frame was sent.
func (p *progress) noteSent(tick int64, now time.Duration) {
	if p.tick == 0 {
		p.tick = tick
		p.sentAt = now
	}
}

// noteConfirmed notes that a client has said at a time that it has applied all up to a tick.
func (p *progress) noteConfirmed(tick int64, at time.Duration) {
	if p.tick == 0 || tick < p.tick {
		return
	}
	if tick == p.tick { // it is known when this very frame was sent
		if trip := max(at-p.sentAt, time.Microsecond); p.minRoundTrip == 0 || trip < p.minRoundTrip {
			p.minRoundTrip = trip
		}
	}
	p.tick = 0
	p.lastProgress = at
}

// noteDropped notes that the frames after a tick never left.
func (p *progress) noteDropped(after int64) {
	if p.tick > after {
		p.tick = 0
	}
}

// isBehind reports whether what is not confirmed is older than it may be.
func (p *progress) isBehind(now time.Duration) bool {
	return p.tick > 0 && now-p.sentAt > behindAfter+p.minRoundTrip
}

// patience is how long a client may make no progress.
func (p *progress) patience() time.Duration {
	if p.minRoundTrip == 0 {
		return cutAtMost
	}
	return min(cutAfter+cutTrips*p.minRoundTrip, cutAtMost)
}

// isStuck reports whether a client has made no progress for too long.
func (p *progress) isStuck(now time.Duration) bool {
	return p.tick > 0 && now-max(p.sentAt, p.lastProgress) > p.patience()
}

// unsentInKernel is how much the system keeps for a client that it has not begun to send, in bytes. What waits here can
// be replaced by a snapshot; what waits there cannot.
const unsentInKernel = 16 << 10

// prepare keeps little unsent in the system, and returns the round trip that the system has measured while it
// connected, 0 when it does not tell.
func (w *clientSocket) prepare() time.Duration {
	w.outbox.mu.Lock()
	defer w.outbox.mu.Unlock()
	if w.outbox.fd < 0 {
		return 0
	}
	return rawsocket.LimitUnsent(w.outbox.fd, unsentInKernel)
}

// lostSeat is a seat whose connection is gone and that waits for another one.
type lostSeat struct {
	client  int
	address string // that it was taken from; empty for a client within the service
	until   time.Time
}

// neverReady is how long the seat of a client waits that was lost before it had said that it is ready. Who only opens
// connections and drops them holds few seats.
const neverReady = 2 * time.Second

// waitForReturn has a seat whose connection was lost wait for another one, and gives the oldest of its address away
// when too many wait: nothing says yet who a client is, and one address could hold all seats of a session.
func (r *runner) waitForReturn(c *connection, now time.Time) {
	until := now.Add(
		time.Duration(r.session.Contract().Grace) * time.Second / time.Duration(r.session.Contract().TickRate),
	)
	if !r.saidReady[c.client] {
		until = now.Add(min(neverReady, until.Sub(now)))
	}
	// it was back meanwhile
	r.lostSeats = slices.DeleteFunc(r.lostSeats, func(l lostSeat) bool { return l.client == c.client })
	r.lostSeats = append(r.lostSeats, lostSeat{c.client, c.address, until})
	if c.address == "" {
		return
	}
	same := 0
	oldest := -1
	for i, l := range r.lostSeats {
		if _, seated := r.seatRows[l.client]; seated && l.address == c.address && r.conns[l.client] == nil {
			same++
			if oldest < 0 {
				oldest = i
			}
		}
	}
	if same > max(4, r.session.Contract().Seats/2) {
		r.dropSeat(
			r.lostSeats[oldest].client, "its connection was lost, and too many seats of its address wait for theirs",
		)
		r.lostSeats = slices.Delete(r.lostSeats, oldest, oldest+1)
	}
}

// endExpiredSeats ends the seats that have waited long enough.
func (r *runner) endExpiredSeats(now time.Time) {
	kept := r.lostSeats[:0]
	for _, l := range r.lostSeats {
		_, seated := r.seatRows[l.client]
		switch {
		case !seated || r.conns[l.client] != nil: // it is gone, or back
		case now.After(l.until):
			r.dropSeat(l.client, "its connection was lost and did not come back in time")
		default:
			kept = append(kept, l)
		}
	}
	r.lostSeats = kept
}
