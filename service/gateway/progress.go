package gateway

import "time"

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
