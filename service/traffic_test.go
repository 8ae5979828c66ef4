package service

import (
	"bufio"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/wire"
)

// countingRelay passes connections on to a service and counts the bytes of their binary WebSocket messages, headers
// included, in both directions: the protocol's own, but for hello, join and bye.
type countingRelay struct {
	address  string
	up, down atomic.Int64
}

// newCountingRelay starts a relay to the service at an address until the test ends.
func newCountingRelay(t *testing.T, to string) *countingRelay {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	r := &countingRelay{address: "http://" + l.Addr().String()}
	go func() {
		for {
			from, err := l.Accept()
			if err != nil {
				return
			}
			on, err := net.Dial("tcp", to)
			if err != nil {
				from.Close()
				return
			}
			go r.pass(from, on, &r.up)
			go r.pass(on, from, &r.down)
		}
	}()
	return r
}

// pass copies what comes from one side to the other, and counts.
func (r *countingRelay) pass(from, to net.Conn, count *atomic.Int64) {
	defer from.Close()
	defer to.Close()
	in := bufio.NewReader(io.TeeReader(from, to))
	for { // the handshake ends with an empty line
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		if strings.TrimSpace(line) == "" {
			break
		}
	}
	for {
		head := make([]byte, 2)
		if _, err := io.ReadFull(in, head); err != nil {
			return
		}
		size := 2
		length := uint64(head[1] & 0x7f)
		if wide := map[uint64]int{126: 2, 127: 8}[length]; wide > 0 {
			raw := make([]byte, 8)
			if _, err := io.ReadFull(in, raw[8-wide:]); err != nil {
				return
			}
			size += wide
			length = binary.BigEndian.Uint64(raw)
		}
		if head[1]&0x80 != 0 {
			size += 4
			if _, err := in.Discard(4); err != nil {
				return
			}
		}
		if _, err := in.Discard(int(length)); err != nil {
			return
		}
		if head[0]&0x0f == 2 {
			count.Add(int64(size) + int64(length))
		}
	}
}

// trafficSum adds up what a watcher is told of the traffic.
type trafficSum struct {
	mu       sync.Mutex
	up, down int64 // bytes
	rows     map[wire.UsageItem]int64
	tick     int64
}

// watchTraffic adds up the traffic of a session until the test ends.
func watchTraffic(t *testing.T, admin api.Client, session int64) *trafficSum {
	sum := &trafficSum{rows: map[wire.UsageItem]int64{}}
	began := make(chan struct{})
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	t.Cleanup(func() { cancel(); <-done })
	go func() {
		defer close(done)
		_ = admin.Watch(ctx, session, func(m api.Watch) error {
			if m.Type == api.WatchSheet {
				close(began)
			}
			sum.mu.Lock()
			defer sum.mu.Unlock()
			sum.tick = m.Tick
			if m.Traffic == nil {
				return nil
			}
			for _, row := range m.Traffic.Rows {
				for i, bits := range row.Bits {
					sum.rows[row.UsageItem] += row.Counts[i]
					if row.Up {
						sum.up += bits / 8
					} else {
						sum.down += bits
					}
				}
			}
			return nil
		})
	}()
	<-began
	return sum
}

// What is told of the traffic adds up to what went over the sockets, and names the requests that were asked.
func TestTrafficAddsUpToWhatWasSent(t *testing.T) {
	v, admin := alone(t)
	x := opened(t, v, admin, false)
	session := x.Runner().ID()
	sum := watchTraffic(t, admin, session)
	relay := newCountingRelay(t, strings.TrimPrefix(admin.Service, "http://"))
	const asks = 60
	var clients sync.WaitGroup
	for _, name := range []string{"Ana", "Bo", "Cleo"} {
		clients.Go(func() {
			c, err := client.Join(t.Context(), relay.address, session, name, "player", client.Options{})
			if !assert.NoError(t, err) {
				return
			}
			defer c.Close()
			c.Ready()
			for range asks {
				_, err := c.Forge(t.Context(), 0, "Diver.use", json.RawMessage(`"patch"`))
				if errors.Is(err, client.ErrEnded) {
					return
				}
				assert.NoError(t, err)
			}
		})
	}
	clients.Wait()
	end := x.Runner().LastTick() + 20
	require.Eventually(t, func() bool {
		sum.mu.Lock()
		defer sum.mu.Unlock()
		return sum.tick >= end
	}, 30*time.Second, 20*time.Millisecond)
	sum.mu.Lock()
	defer sum.mu.Unlock()
	assert.InEpsilon(t, relay.up.Load(), sum.up, 0.01)
	assert.InEpsilon(t, relay.down.Load(), sum.down/8, 0.01)
	assert.Equal(t, int64(3*asks), sum.rows[wire.UsageItem{Type: wire.UsageRequest, Of: "Diver.use"}])
	assert.Equal(t, int64(3*asks), sum.rows[wire.UsageItem{Type: wire.UsageDecision}])
	assert.Positive(t, sum.rows[wire.UsageItem{Type: wire.UsageProperty, Of: "Diver.hull"}])
	t.Logf("up %d of %d bytes, down %d of %d", sum.up, relay.up.Load(), sum.down/8, relay.down.Load())
}
