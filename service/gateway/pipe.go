package gateway

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"time"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/link"
	"kamerad.example/core/wire"
	"kamerad.example/service/runner"
)

// Client is a client that runs within the service, on a simulated link.
type Client struct {
	*client.Client
	Link *SimulatedLink
}

// SeatInside seats a client that runs within the service. test says that it was opened through the API.
func (s *Connections) SeatInside(ctx context.Context, j wire.Join, test bool, o client.Options) (Client, error) {
	c, err := s.takeSeat(ctx, seatRequest{
		SeatRequest: runner.SeatRequest{Join: j, Test: test},
		json:        o.JSON,
		pipe:        true,
	})
	if err != nil {
		return Client{}, err
	}
	p := newPipe(s, c, newSimulatedLink())
	o.Again = p.reconnect
	seated, err := client.New(ctx, p, o)
	return Client{seated, p.link}, err
}

// pipe is the Transport of a client that runs inside the service: a real client on a simulated link instead of a
// socket.
type pipe struct {
	connections *Connections
	conn        *connection
	link        *SimulatedLink
	closed      chan struct{} // closed when this side has closed it
	once        sync.Once
}

// newPipe makes the connection that a line carries from now on. What an earlier one had under way is lost, as with any
// connection.
func newPipe(s *Connections, c *connection, l *SimulatedLink) *pipe {
	p := &pipe{
		connections: s,
		conn:        c,
		link:        l,
		closed:      make(chan struct{}),
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.connection = p
	for _, way := range []*link.Link{l.up, l.down} {
		way.Cut()
		if !l.cut {
			way.Mend(l.now())
		}
	}
	return p
}

// SimulatedLink is the link of a client inside the service, which stays the same when it connects anew. Its conditions
// may be changed at any time.
type SimulatedLink struct {
	mu         sync.Mutex
	began      time.Time
	up, down   *link.Link
	cut        bool
	changed    chan struct{} // closed when something changed that who waits has to know
	delivering bool          // somebody carries what goes up
	connection *pipe         // the connection that it carries; what others send over it is lost
}

// newSimulatedLink returns a perfect link that carries no connection yet.
func newSimulatedLink() *SimulatedLink {
	l := &SimulatedLink{began: time.Now(), changed: make(chan struct{})}
	l.up, _ = link.New(rand.Uint64(), link.Conditions{}) // a perfect link is always right
	l.down, _ = link.New(rand.Uint64(), link.Conditions{})
	return l
}

// now returns the link's own time, from its beginning.
func (l *SimulatedLink) now() time.Duration { return time.Since(l.began) }

// notify wakes those who wait for a change of the link; its lock is held.
func (l *SimulatedLink) notify() {
	close(l.changed)
	l.changed = make(chan struct{})
}

// Set changes what the link is like, both ways, and cuts or mends it.
func (l *SimulatedLink) Set(c api.Link) error {
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
		l.connection = nil
	case !c.Cut && l.cut:
		l.up.Mend(l.now())
		l.down.Mend(l.now())
	}
	l.cut = c.Cut
	l.notify()
	return nil
}

// Get returns what the link is like.
func (l *SimulatedLink) Get() api.Link {
	l.mu.Lock()
	defer l.mu.Unlock()
	c := l.down.Conditions()
	return api.Link{
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
	l := p.link
	cut := p.conn.ended
	out := false
	for {
		l.mu.Lock()
		if l.cut || l.connection != p { // also when it was cut and mended before anybody looked
			l.mu.Unlock()
			p.connections.runner.Post(func() { p.connections.lose(p.conn, errCut.Error()) })
			return nil, errCut
		}
		now := l.now()
		wait := time.Duration(-1)
		if free := l.down.Free(); free > now {
			wait = free - now
		} else if bytes, marks := p.conn.outbox.take(); bytes != nil {
			from := 0
			for _, m := range marks {
				l.down.Send(now, append([]byte(nil), bytes[from:m.end]...))
				from = m.end
			}
			p.conn.outbox.done(bytes, marks, time.Now())
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
		if out && p.conn.is() == connectionReplaced {
			return nil, errTaken
		}
		if out && !coming && p.conn.outbox.empty() {
			return nil, client.Ended(p.conn.reason)
		}
		var timer <-chan time.Time
		if wait >= 0 {
			timer = time.After(wait)
		}
		select {
		case <-p.conn.outbox.wake:
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
	l := p.link
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.cut || l.connection != p {
		return errCut
	}
	l.up.Send(l.now(), append([]byte(nil), message...))
	if !l.delivering {
		l.delivering = true
		go l.deliverUplink(p.connections)
	}
	return nil
}

// deliverUplink brings what goes up to the runner as it arrives, until nothing is on its way. What arrives belongs to
// the connection that the line carries at that moment.
func (l *SimulatedLink) deliverUplink(s *Connections) {
	for {
		l.mu.Lock()
		p := l.connection // nil while nothing is on its way
		message, ok := l.up.ReceiveOne(l.now())
		next, coming := l.up.Next()
		if !ok && !coming {
			l.delivering = false
			l.mu.Unlock()
			return
		}
		changed := l.changed
		wait := next - l.now()
		l.mu.Unlock()
		if ok {
			Failpoints.UplinkArrived.Hit()
			var m inboundMessage
			if err := s.readMessage(&m, p.conn, message, time.Now()); err != nil {
				s.runner.Post(func() { s.leave(p.conn, err.Error()) })
			} else {
				s.deliver(m)
			}
			continue
		}
		select {
		case <-time.After(wait):
		case <-changed:
		case <-s.runner.Done():
			return
		}
	}
}

// Close implements client.Transport: the seat is given back.
func (p *pipe) Close(reason string) {
	p.once.Do(func() { close(p.closed) })
	p.connections.runner.Post(func() { p.connections.leave(p.conn, reason) })
}

// reconnect connects a pipe anew, once its link is mended.
func (p *pipe) reconnect(ctx context.Context, seat client.Seat) (client.Transport, error) {
	for {
		p.link.mu.Lock()
		cut := p.link.cut
		changed := p.link.changed
		p.link.mu.Unlock()
		if !cut {
			break
		}
		select {
		case <-changed:
		case <-p.connections.runner.Done():
			return nil, runner.ErrClosed
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	c, err := p.connections.takeSeat(ctx, seatRequest{
		SeatRequest: runner.SeatRequest{
			Join: wire.Join{Token: seat.Token, Seen: seat.Seen, Outline: seat.Fingerprint},
			Test: p.conn.isTest,
		},
		json: p.conn.jsonReader != nil,
		pipe: true,
	})
	if err != nil {
		return nil, err
	}
	return newPipe(p.connections, c, p.link), nil
}
