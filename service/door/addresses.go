package door

import (
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"golang.org/x/time/rate"
)

// Limits bound what comes from one address; of IPv6, from one network of 64 bits. A limit of 0 is none.
type Limits struct {
	Connections int     // open at once
	Connects    float64 // new connections a second
	Joins       float64 // joins a second
	Failures    float64 // wrong tokens and tickets a second, before nothing is looked at any more
	Messages    float64 // of all its clients, a second; what is over waits
	Bytes       float64 // the same
}

// DefaultLimits suit a school or a café: a hundred players behind one address.
func DefaultLimits() Limits {
	return Limits{
		Connections: 512,
		Connects:    50,
		Joins:       20,
		Failures:    5,
		Messages:    10_000,
		Bytes:       4 << 20,
	}
}

// atOnce is for how many seconds' worth of something an address may come at once.
const atOnce = 4

// Addresses count what comes from each address. Loopback is not counted, nor are trusted proxies. A nil Addresses
// counts nothing. Everybody may call it.
type Addresses struct {
	limits  Limits
	trusted func(netip.Addr) bool
	refused *prometheus.CounterVec

	mu        sync.Mutex // guards the rest
	known     map[netip.Addr]*Address
	lastSweep time.Time
}

// Address is what has come from one address. A nil Address is not counted.
type Address struct {
	of       *Addresses
	open     int       // connections; under the lock of its Addresses
	seen     time.Time // the same
	connects *rate.Limiter
	joins    *rate.Limiter
	failures *rate.Limiter
	messages *rate.Limiter
	bytes    *rate.Limiter
}

// NewAddresses counts addresses but those that are trusted, and registers what it refuses.
func NewAddresses(l Limits, trusted func(netip.Addr) bool, metrics prometheus.Registerer) *Addresses {
	a := &Addresses{
		limits:  l,
		trusted: trusted,
		known:   map[netip.Addr]*Address{},
		refused: prometheus.NewCounterVec(
			prometheus.CounterOpts{
				Name: "kamerad_address_refused_total",
				Help: "What was refused since its address was over a limit.",
			},
			[]string{"limit"},
		),
	}
	metrics.MustRegister(a.refused)
	return a
}

const (
	maxAddresses = 65_536
	sweepEvery   = 10 * time.Second
	forgetAfter  = 2 * time.Minute // nothing has come
)

// Of returns what has come from an address; nil when it is not counted.
func (a *Addresses) Of(from netip.Addr) *Address {
	if a == nil {
		return nil
	}
	from = from.Unmap().WithZone("")
	if !from.IsValid() || from.IsLoopback() || a.trusted(from) {
		return nil
	}
	if from.Is6() {
		network, err := from.Prefix(64)
		if err == nil {
			from = network.Addr()
		}
	}
	now := time.Now()
	a.mu.Lock()
	defer a.mu.Unlock()
	x := a.known[from]
	if x == nil {
		a.sweep(now)
		x = &Address{
			of:       a,
			connects: newLimiter(a.limits.Connects),
			joins:    newLimiter(a.limits.Joins),
			failures: newLimiter(a.limits.Failures),
			messages: newLimiter(a.limits.Messages),
			bytes:    newLimiter(a.limits.Bytes),
		}
		a.known[from] = x
	}
	x.seen = now
	return x
}

// newLimiter returns a limit of so much a second; of 0, nil.
func newLimiter(perSecond float64) *rate.Limiter {
	if perSecond <= 0 {
		return nil
	}
	return rate.NewLimiter(rate.Limit(perSecond), max(int(perSecond*atOnce), 1))
}

// sweep forgets addresses of which nothing came for a while, and any that has no connection when too many are known.
func (a *Addresses) sweep(now time.Time) {
	isFull := len(a.known) >= maxAddresses
	if !isFull && now.Sub(a.lastSweep) < sweepEvery {
		return
	}
	a.lastSweep = now
	for addr, x := range a.known { // in no order
		if x.open == 0 && (now.Sub(x.seen) > forgetAfter || isFull) {
			delete(a.known, addr)
			isFull = len(a.known) >= maxAddresses
		}
	}
}

// ofConn returns what has come from the address of a connection.
func (a *Addresses) ofConn(c net.Conn) *Address {
	from, err := netip.ParseAddrPort(c.RemoteAddr().String())
	if err != nil {
		return nil
	}
	return a.Of(from.Addr())
}

// allow takes one from a limit, and counts what is over it by the limit's name.
func (x *Address) allow(limit *rate.Limiter, name string) bool {
	if limit == nil || limit.Allow() {
		return true
	}
	x.of.refused.WithLabelValues(name).Inc()
	return false
}

// Join reports whether another client may join from the address now.
func (x *Address) Join() bool { return x == nil || x.allow(x.joins, "joins") }

// Failed notes that a token or ticket that came from the address was wrong.
func (x *Address) Failed() {
	if x != nil && x.failures != nil {
		x.failures.Allow()
	}
}

// MayTry reports whether tokens and tickets of the address are looked at: not after too many wrong ones.
func (x *Address) MayTry() bool {
	if x == nil || x.failures == nil || x.failures.Tokens() >= 1 {
		return true
	}
	x.of.refused.WithLabelValues("failures").Inc()
	return false
}

// Hold counts a connection for as long as it is open: until release. It reports false when the address has too many.
func (x *Address) Hold() (release func(), ok bool) {
	if x == nil {
		return func() {}, true
	}
	x.of.mu.Lock()
	defer x.of.mu.Unlock()
	if most := x.of.limits.Connections; most > 0 && x.open >= most {
		x.of.refused.WithLabelValues("connections").Inc()
		return nil, false
	}
	x.open++
	return func() {
		x.of.mu.Lock()
		defer x.of.mu.Unlock()
		x.open--
	}, true
}

// Messages returns the limit of messages of all clients of the address; nil for none.
func (x *Address) Messages() *rate.Limiter {
	if x == nil {
		return nil
	}
	return x.messages
}

// Bytes returns the limit of bytes of all clients of the address; nil for none.
func (x *Address) Bytes() *rate.Limiter {
	if x == nil {
		return nil
	}
	return x.bytes
}

// Listen returns a listener that closes, before anything is read, what is over the limits of its address. Changed has
// to be the ConnState of its server.
func (a *Addresses) Listen(l net.Listener) net.Listener { return &limitedListener{l, a} }

// limitedListener accepts connections within the limits of their addresses.
type limitedListener struct {
	net.Listener
	addresses *Addresses
}

// Accept returns the next connection that is within the limits.
func (l *limitedListener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		x := l.addresses.ofConn(c)
		if x == nil || x.allow(x.connects, "connects") && x.hasRoom() {
			return c, nil
		}
		_ = c.Close()
	}
}

// hasRoom reports whether the address may have another connection.
func (x *Address) hasRoom() bool {
	release, ok := x.Hold()
	if ok {
		release()
	}
	return ok
}

// Changed is an http.Server's ConnState: it counts connections that are open. A socket that a handler has taken over is
// held by that.
func (a *Addresses) Changed(c net.Conn, state http.ConnState) {
	x := a.ofConn(c)
	if x == nil {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	switch state {
	case http.StateNew:
		x.open++
	case http.StateClosed, http.StateHijacked:
		x.open--
	}
}
