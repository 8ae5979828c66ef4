package door

import (
	"fmt"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/testutil"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// counted counts all addresses but loopback.
func counted(l Limits) *Addresses {
	return NewAddresses(l, func(netip.Addr) bool { return false }, prometheus.NewRegistry())
}

func TestAddressesAreCountedApart(t *testing.T) {
	a := counted(Limits{Joins: 1, Connections: 1})
	of := func(text string) *Address { return a.Of(netip.MustParseAddr(text)) }
	assert.Nil(t, of("127.0.0.1"))
	assert.Nil(t, of("::1"))
	assert.Nil(t, of("::ffff:127.0.0.1"))
	assert.Same(t, of("203.0.113.5"), of("::ffff:203.0.113.5"))
	assert.Same(t, of("2001:db8::1"), of("2001:db8::ffff:1"))
	assert.NotSame(t, of("2001:db8::1"), of("2001:db8:0:1::1"))
	for range atOnce {
		assert.True(t, of("203.0.113.5").Join())
	}
	assert.False(t, of("203.0.113.5").Join())
	assert.True(t, of("203.0.113.6").Join())
	release, ok := of("203.0.113.5").Hold()
	require.True(t, ok)
	_, ok = of("203.0.113.5").Hold()
	assert.False(t, ok)
	release()
	_, ok = of("203.0.113.5").Hold()
	assert.True(t, ok)
	assert.Equal(t, 1.0, testutil.ToFloat64(a.refused.WithLabelValues("joins")))
	assert.Equal(t, 1.0, testutil.ToFloat64(a.refused.WithLabelValues("connections")))
	free := counted(Limits{}).Of(netip.MustParseAddr("203.0.113.5"))
	for range 1000 {
		assert.True(t, free.Join() && free.MayTry())
		free.Failed()
	}
	assert.Nil(t, free.Messages())
}

// However many addresses come, what is known of them stays bounded, and those with connections are not forgotten.
func TestAddressesAreForgotten(t *testing.T) {
	a := counted(Limits{Connections: 1})
	first := a.Of(netip.MustParseAddr("198.51.100.1"))
	_, ok := first.Hold()
	require.True(t, ok)
	for i := range maxAddresses + 100 {
		a.Of(netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}))
	}
	assert.LessOrEqual(t, len(a.known), maxAddresses+1)
	assert.Same(t, first, a.Of(netip.MustParseAddr("198.51.100.1")))
	known := len(a.known)
	a.lastSweep = time.Time{}
	a.known[netip.MustParseAddr("10.0.0.1")] = &Address{of: a, seen: time.Now()}
	a.sweep(time.Now())
	assert.GreaterOrEqual(t, len(a.known), known-1, "they were here just now")
	for _, x := range a.known {
		x.seen = time.Now().Add(-time.Hour)
	}
	a.lastSweep = time.Time{}
	a.Of(netip.MustParseAddr("198.51.100.2"))
	assert.Len(t, a.known, 2)
}

// fakeConn is a connection from an address.
type fakeConn struct {
	net.Conn
	from   string
	closed bool
}

func (c *fakeConn) RemoteAddr() net.Addr {
	return net.TCPAddrFromAddrPort(netip.MustParseAddrPort(c.from))
}
func (c *fakeConn) Close() error { c.closed = true; return nil }

// queued is a listener on which some connections wait.
type queued struct {
	net.Listener
	waiting []*fakeConn
}

func (q *queued) Accept() (net.Conn, error) {
	if len(q.waiting) == 0 {
		return nil, net.ErrClosed
	}
	c := q.waiting[0]
	q.waiting = q.waiting[1:]
	return c, nil
}

func TestConnectionsOverTheLimitAreClosedUnread(t *testing.T) {
	a := counted(Limits{Connects: 1})
	q := &queued{}
	var all []*fakeConn
	for i := range 10 {
		for _, host := range []string{"203.0.113.5", "127.0.0.1"} {
			c := &fakeConn{from: fmt.Sprintf("%s:%d", host, 1000+i)}
			all = append(all, c)
			q.waiting = append(q.waiting, c)
		}
	}
	l := a.Listen(q)
	accepted := map[string]int{}
	for {
		c, err := l.Accept()
		if err != nil {
			break
		}
		host, _, _ := net.SplitHostPort(c.RemoteAddr().String())
		accepted[host]++
	}
	assert.Equal(t, map[string]int{"203.0.113.5": atOnce, "127.0.0.1": 10}, accepted)
	closed := 0
	for _, c := range all {
		if c.closed {
			closed++
		}
	}
	assert.Equal(t, 10-atOnce, closed)
}
