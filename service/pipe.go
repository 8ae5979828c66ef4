package service

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"time"

	"kamerad.example/client"
	"kamerad.example/core/link"
	"kamerad.example/core/wire"
)

// pipe is the Transport of a client that runs inside the service: a real client on a simulated link instead of a
// socket.
type pipe struct {
	room   *room
	conn   *conn
	line   *line
	closed chan struct{} // closed when this side has closed it
	once   sync.Once
}

// newPipe makes the connection that a line carries from now on. What an earlier one had under way is lost, as with any
// connection.
func newPipe(r *room, c *conn, l *line) *pipe {
	p := &pipe{
		room:   r,
		conn:   c,
		line:   l,
		closed: make(chan struct{}),
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.carries = p
	for _, way := range []*link.Link{l.up, l.down} {
		way.Cut()
		if !l.cut {
			way.Mend(l.now())
		}
	}
	return p
}

// line is the link of a client inside the service, which stays the same when it connects anew. Its conditions may be
// changed at any time.
type line struct {
	mu       sync.Mutex
	began    time.Time
	up, down *link.Link
	cut      bool
	changed  chan struct{} // closed when something changed that who waits has to know
	sending  bool          // somebody carries what goes up
	carries  *pipe         // the connection that it carries; what others send over it is lost
}

func newLine() *line {
	l := &line{began: time.Now(), changed: make(chan struct{})}
	l.up, _ = link.New(rand.Uint64(), link.Conditions{}) // a perfect link is always right
	l.down, _ = link.New(rand.Uint64(), link.Conditions{})
	return l
}

func (l *line) now() time.Duration { return time.Since(l.began) }

func (l *line) changes() {
	close(l.changed)
	l.changed = make(chan struct{})
}

// set changes what the link is like, both ways, and cuts or mends it.
func (l *line) set(c client.Link) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	ms := func(n float64) time.Duration { return time.Duration(n * float64(time.Millisecond)) }
	conditions := link.Conditions{
		Delay:     ms(c.DelayMs),
		Jitter:    ms(c.JitterMs),
		Loss:      c.Loss,
		Reorder:   c.Reorder,
		Bandwidth: c.Bandwidth,
	}
	if err := l.up.Set(conditions); err != nil {
		return err
	}
	_ = l.down.Set(conditions) // as good for one way as for the other
	switch {
	case c.Cut && !l.cut:
		l.up.Cut()
		l.down.Cut()
		l.carries = nil
	case !c.Cut && l.cut:
		l.up.Mend(l.now())
		l.down.Mend(l.now())
	}
	l.cut = c.Cut
	l.changes()
	return nil
}

func (l *line) get() client.Link {
	l.mu.Lock()
	defer l.mu.Unlock()
	c := l.down.Conditions()
	return client.Link{
		DelayMs:   float64(c.Delay) / 1e6,
		JitterMs:  float64(c.Jitter) / 1e6,
		Loss:      c.Loss,
		Reorder:   c.Reorder,
		Bandwidth: c.Bandwidth,
		Cut:       l.cut,
	}
}

var (
	errCut        = errors.New("the link is cut")
	errTaken      = errors.New("another connection took the seat")
	errClosedHere = client.Ended("the client left")
)

// Read returns the next message that arrives. What the client's side of the link can take leaves the outbox; what it
// cannot stays there, as it would behind a socket.
func (p *pipe) Read(ctx context.Context) ([]byte, error) {
	l := p.line
	cut := p.conn.cut
	out := false
	for {
		l.mu.Lock()
		if l.cut || l.carries != p { // also when it was cut and mended before anybody looked
			l.mu.Unlock()
			p.room.post(func() { p.room.lose(p.conn, errCut.Error()) })
			return nil, errCut
		}
		now := l.now()
		wait := time.Duration(-1)
		if free := l.down.Free(); free > now {
			wait = free - now
		} else if bytes, marks := p.conn.box.take(); bytes != nil {
			from := 0
			for _, m := range marks {
				l.down.Send(now, append([]byte(nil), bytes[from:m.end]...))
				from = m.end
			}
			p.conn.box.done(bytes, marks, time.Now())
		}
		message, ok := l.down.ReceiveOne(now)
		next, coming := l.down.Next()
		if coming && (wait < 0 || next-now < wait) {
			wait = next - now
		}
		changed := l.changed
		l.mu.Unlock()
		if ok {
			return message, nil
		}
		if out && p.conn.silent {
			return nil, errTaken
		}
		if out && !coming && p.conn.box.empty() {
			return nil, client.Ended(p.conn.reason)
		}
		var timer <-chan time.Time
		if wait >= 0 {
			timer = time.After(wait)
		}
		select {
		case <-p.conn.box.wake:
		case <-timer:
		case <-changed:
		case <-cut: // what is under way still arrives
			cut = nil
			out = true
		case <-p.closed:
			return nil, errClosedHere
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// Write sends a message up the link.
func (p *pipe) Write(_ context.Context, message []byte) error {
	l := p.line
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.cut || l.carries != p {
		return errCut
	}
	l.up.Send(l.now(), append([]byte(nil), message...))
	if !l.sending {
		l.sending = true
		go l.carry(p.room)
	}
	return nil
}

// carry brings what goes up to the room as it arrives, until nothing is on its way. What arrives belongs to the
// connection that the line carries at that moment.
func (l *line) carry(r *room) {
	for {
		l.mu.Lock()
		p := l.carries // nil while nothing is on its way
		message, ok := l.up.ReceiveOne(l.now())
		next, coming := l.up.Next()
		if !ok && !coming {
			l.sending = false
			l.mu.Unlock()
			return
		}
		changed := l.changed
		wait := next - l.now()
		l.mu.Unlock()
		if ok {
			points.uplinkArrived.Hit()
			if m, err := r.read(p.conn, message, time.Now()); err != nil {
				r.post(func() { r.leave(p.conn, err.Error()) })
			} else {
				r.put(m)
			}
			continue
		}
		select {
		case <-time.After(wait):
		case <-changed:
		case <-r.done:
			return
		}
	}
}

func (p *pipe) Close(reason string) {
	p.once.Do(func() { close(p.closed) })
	p.room.post(func() { p.room.leave(p.conn, reason) })
}

// again connects a pipe anew, once its link is mended.
func (p *pipe) again(ctx context.Context, seat client.Seat) (client.Transport, error) {
	for {
		p.line.mu.Lock()
		cut := p.line.cut
		changed := p.line.changed
		p.line.mu.Unlock()
		if !cut {
			break
		}
		select {
		case <-changed:
		case <-p.room.done:
			return nil, errClosed
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	c, err := p.room.enter(ctx, joining{
		Join: wire.Join{Token: seat.Token, Seen: seat.Seen, Outline: seat.Fingerprint},
		test: p.conn.test,
		json: p.conn.json != nil,
		pipe: true,
	})
	if err != nil {
		return nil, err
	}
	return newPipe(p.room, c, p.line), nil
}
