package service

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"time"

	"kamerad/client"
	"kamerad/core/link"
)

// pipe is the Transport of a client that runs inside the service: a real client on a simulated link instead of a socket.
type pipe struct {
	room *room
	conn *conn
	line *line
}

// line is the link of a client inside the service, which stays the same when it connects anew. Its conditions may be changed at any
// time.
type line struct {
	mu       sync.Mutex
	began    time.Time
	up, down *link.Link
	cut      bool
	changed  chan struct{} // closed when something changed that who waits has to know
	sending  bool          // somebody carries what goes up
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
	conditions := link.Conditions{Delay: ms(c.DelayMs), Jitter: ms(c.JitterMs), Loss: c.Loss, Reorder: c.Reorder, Bandwidth: c.Bandwidth}
	if err := l.up.Set(conditions); err != nil {
		return err
	}
	_ = l.down.Set(conditions) // as good for one way as for the other
	switch {
	case c.Cut && !l.cut:
		l.up.Cut()
		l.down.Cut()
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
		DelayMs: float64(c.Delay) / 1e6, JitterMs: float64(c.Jitter) / 1e6, Loss: c.Loss, Reorder: c.Reorder, Bandwidth: c.Bandwidth, Cut: l.cut,
	}
}

var errCut = errors.New("the link is cut")

// Read gives the next message that arrives. What the client's side of the link can take leaves the outbox; what it cannot stays there,
// as it would behind a socket.
func (p *pipe) Read(ctx context.Context) ([]byte, error) {
	l := p.line
	for {
		l.mu.Lock()
		if l.cut {
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
		if next, coming := l.down.Next(); coming && (wait < 0 || next-now < wait) {
			wait = next - now
		}
		changed := l.changed
		l.mu.Unlock()
		if ok {
			return message, nil
		}
		var timer <-chan time.Time
		if wait >= 0 {
			timer = time.After(wait)
		}
		select {
		case <-p.conn.box.wake:
		case <-timer:
		case <-changed:
		case <-p.conn.cut:
			if p.conn.box.empty() {
				return nil, client.Ended(p.conn.reason)
			}
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
	if l.cut {
		return errCut
	}
	l.up.Send(l.now(), append([]byte(nil), message...))
	if !l.sending {
		l.sending = true
		go p.carry()
	}
	return nil
}

// carry brings what goes up to the room as it arrives, until nothing is on its way.
func (p *pipe) carry() {
	l := p.line
	for {
		l.mu.Lock()
		message, ok := l.up.ReceiveOne(l.now())
		next, coming := l.up.Next()
		if !ok && !coming {
			l.sending = false
			l.mu.Unlock()
			return
		}
		changed, wait := l.changed, next-l.now()
		l.mu.Unlock()
		if ok {
			points.uplinkArrived.Hit()
			if m, err := p.room.read(p.conn, message, time.Now()); err != nil {
				p.room.post(func() { p.room.drop(p.conn.client, err.Error()) })
			} else {
				p.room.put(m)
			}
			continue
		}
		select {
		case <-time.After(wait):
		case <-changed:
		case <-p.room.done:
			return
		}
	}
}

func (p *pipe) Close(reason string) {
	p.room.post(func() { p.room.leave(p.conn, reason) })
}

// again connects a pipe anew, once its link is mended.
func (p *pipe) again(ctx context.Context, seat client.Seat) (client.Transport, error) {
	for {
		p.line.mu.Lock()
		cut, changed := p.line.cut, p.line.changed
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
	c, err := p.room.enter(ctx, joining{token: seat.Token, seen: seat.Seen, fingerprint: seat.Fingerprint, test: p.conn.test, json: p.conn.json != nil, pipe: true})
	if err != nil {
		return nil, err
	}
	return &pipe{p.room, c, p.line}, nil
}
