// Package link simulates one direction of a connection in virtual time: delay, jitter, loss, reordering, bandwidth and
// cuts, all by a seed. It knows no clock: who uses it says what time it is.
//
// It behaves as a reliable stream over a lossy network does: what is lost is sent again and arrives late, and all that
// was sent after it waits for it. Only what is loose is really lost, or overtaken.
//
// A Link is told the time with each call, in order. The bytes that it is given it keeps until they are out of it.
//
// # How it works
//
// Send works out when a message arrives: after the bytes before it have left at the bandwidth, after the delay and some
// jitter, and for each time that it is lost after another round trip. A message that would arrive before the one sent
// before it waits for that one. Receive returns what has arrived by some time, in order. The same seed and the same
// calls give the same times.
package link

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"time"
)

// Conditions say how bad a link is. The zero value is a perfect one.
type Conditions struct {
	Delay     time.Duration `json:"delay"`     // of each message
	Jitter    time.Duration `json:"jitter"`    // up to so much more
	Loss      float64       `json:"loss"`      // how likely a message is lost, from 0 to less than 1
	Reorder   float64       `json:"reorder"`   // how likely a loose message is held up behind later ones
	Bandwidth int           `json:"bandwidth"` // bytes a second; 0 for any
}

// Bounds of conditions.
const (
	MaxDelay = 30 * time.Second
	MaxLoss  = 0.95
)

// Check returns what is wrong with conditions.
func (c Conditions) Check() error {
	switch {
	case c.Delay < 0 || c.Delay > MaxDelay || c.Jitter < 0 || c.Jitter > MaxDelay:
		return fmt.Errorf(
			"set a link: a delay of %s and a jitter of %s; each is from 0 to %s", c.Delay, c.Jitter, MaxDelay,
		)
	case !(c.Loss >= 0 && c.Loss <= MaxLoss):
		return fmt.Errorf("set a link: a loss of %g; it is from 0 to %g", c.Loss, MaxLoss)
	case !(c.Reorder >= 0 && c.Reorder <= 1):
		return fmt.Errorf("set a link: a reordering of %g; it is from 0 to 1", c.Reorder)
	case c.Bandwidth < 0:
		return fmt.Errorf("set a link: a bandwidth of %d bytes a second; it is positive, or 0 for any", c.Bandwidth)
	}
	return nil
}

// Link carries messages in one direction. It is used by one goroutine at a time.
type Link struct {
	conditions Conditions
	random     *rand.Rand
	way        []message // by arrival, then by sending
	last       time.Duration
	free       time.Duration // when what was sent before has left the sender
	sent       uint64
	cut        bool
	stats      Stats
}

// Stats counts what a link has done.
type Stats struct {
	Sent    int `json:"sent"`
	Bytes   int `json:"bytes"`
	Resent  int `json:"resent"`  // times that something was lost and sent again
	Lost    int `json:"lost"`    // loose messages
	Overdue int `json:"overdue"` // loose messages that later ones overtook
}

type message struct {
	at    time.Duration
	order uint64
	bytes []byte
}

// New makes a link. The same seed and the same messages at the same times give the same arrivals.
func New(seed uint64, c Conditions) (*Link, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	return &Link{conditions: c, random: rand.New(rand.NewPCG(seed, 0x6c696e6b))}, nil
}

// Set changes the conditions for what is sent from now on.
func (l *Link) Set(c Conditions) error {
	if err := c.Check(); err != nil {
		return err
	}
	l.conditions = c
	return nil
}

// Conditions returns the present ones.
func (l *Link) Conditions() Conditions { return l.conditions }

// Stats returns what the link has done until now.
func (l *Link) Stats() Stats { return l.stats }

// Cut ends the connection: all that is on its way is lost, and what is sent is lost as well until Mend.
func (l *Link) Cut() {
	l.cut = true
	l.way = nil
}

// Mend makes a new connection: nothing of the old one arrives any more.
func (l *Link) Mend(now time.Duration) {
	l.cut = false
	l.last = now
	l.free = now
}

// Broken reports whether the link is cut.
func (l *Link) Broken() bool { return l.cut }

// resend is the shortest time after which a lost message is sent again.
const resend = 200 * time.Millisecond

// leaves returns when a message of so many bytes has left the sender.
func (l *Link) leaves(now time.Duration, bytes int) time.Duration {
	l.stats.Sent++
	l.stats.Bytes += bytes
	l.free = max(l.free, now)
	if b := l.conditions.Bandwidth; b > 0 {
		l.free += time.Duration(float64(bytes) / float64(b) * float64(time.Second))
	}
	return l.free
}

// travel draws how long a message is on its way: the delay, some jitter, and again for each time that it is lost.
func (l *Link) travel() time.Duration {
	d := l.conditions.Delay
	if j := l.conditions.Jitter; j > 0 {
		d += time.Duration(l.random.Int64N(int64(j) + 1))
	}
	return d
}

// Send sends a message that arrives, after all that was sent before it.
func (l *Link) Send(now time.Duration, bytes []byte) {
	if l.cut {
		return
	}
	at := l.leaves(now, len(bytes)) + l.travel()
	wait := max(resend, 2*l.conditions.Delay)
	for l.random.Float64() < l.conditions.Loss { // each loss is noticed later than the one before
		l.stats.Resent++
		at += wait + l.travel()
		wait = min(2*wait, 10*time.Second)
	}
	l.last = max(l.last, at)
	l.arrive(l.last, bytes)
}

// SendLoose sends a message that may be lost, and may arrive after others that were sent later.
func (l *Link) SendLoose(now time.Duration, bytes []byte) {
	if l.cut {
		return
	}
	at := l.leaves(now, len(bytes)) + l.travel()
	if l.random.Float64() < l.conditions.Loss {
		l.stats.Lost++
		return
	}
	if l.random.Float64() < l.conditions.Reorder {
		l.stats.Overdue++
		at += l.travel() + resend/4
	}
	l.arrive(at, bytes)
}

// arrive puts a message into the order of arrival.
func (l *Link) arrive(at time.Duration, bytes []byte) {
	l.sent++
	m := message{at, l.sent, bytes}
	i, _ := slices.BinarySearchFunc(l.way, m, func(a, b message) int {
		if a.at != b.at {
			return int(a.at - b.at)
		}
		return int(a.order) - int(b.order)
	})
	l.way = slices.Insert(l.way, i, m)
}

// Receive returns the messages that have arrived by now, in the order of their arrival; each once.
func (l *Link) Receive(now time.Duration) (out [][]byte) {
	n := 0
	for n < len(l.way) && l.way[n].at <= now {
		out = append(out, l.way[n].bytes)
		n++
	}
	l.way = slices.Delete(l.way, 0, n)
	return out
}

// ReceiveOne returns the first message that has arrived by now; ok is false when there is none.
func (l *Link) ReceiveOne(now time.Duration) (message []byte, ok bool) {
	if len(l.way) == 0 || l.way[0].at > now {
		return nil, false
	}
	message = l.way[0].bytes
	l.way = slices.Delete(l.way, 0, 1)
	return message, true
}

// Free returns when what was sent has left the sender: until then, more would wait there.
func (l *Link) Free() time.Duration { return l.free }

// Next returns when the next message arrives; ok is false when none is on its way.
func (l *Link) Next() (at time.Duration, ok bool) {
	if len(l.way) == 0 {
		return 0, false
	}
	return l.way[0].at, true
}
