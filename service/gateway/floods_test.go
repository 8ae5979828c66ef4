package gateway

import (
	"bytes"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
)

// counted returns the same bytes again and again, up to a bound, and counts them.
type counted struct {
	unit []byte
	left int
	read int
	at   int
}

func (c *counted) Read(to []byte) (int, error) {
	if c.left <= 0 {
		return 0, io.EOF
	}
	n := len(to) / len(c.unit) * len(c.unit)
	if n == 0 || c.at > 0 { // a unit comes in several pieces
		n = copy(to, c.unit[c.at:])
		c.at += n
		if c.at == len(c.unit) {
			c.at = 0
			c.left = c.left - 1
			c.read = c.read + 1
		}
		return n, nil
	}
	n = min(n, c.left*len(c.unit))
	for i := 0; i < n; i += len(c.unit) {
		copy(to[i:], c.unit)
	}
	c.left -= n / len(c.unit)
	c.read += n / len(c.unit)
	return n, nil
}

// A flood of control frames and empty parts takes a session no more time than anybody may take, and who does not stop
// is cut.
func TestControlFramesCountAgainstTheirSender(t *testing.T) {
	for name, frame := range map[string][]byte{
		"pings":         said(final|opPing, nil),
		"long pings":    said(final|opPing, bytes.Repeat([]byte{1}, 125)),
		"pongs":         said(final|opPong, nil),
		"empty parts":   said(opMore, nil),
		"messages":      said(final|opText, []byte(`{"type":"ready"}`)),
		"long messages": said(final|opText, append([]byte(`{"type":"ready"}`), bytes.Repeat([]byte{' '}, 10000)...)),
	} {
		t.Run(name, func(t *testing.T) {
			x := newTestSession(t, contracts.Tally, true)
			near, far := net.Pipe()
			defer far.Close()
			go func() { _, _ = io.Copy(io.Discard, far) }()
			var c *connection
			require.NoError(t, x.do(t.Context(), func() {
				c, _ = x.join(seatOf(wire.Join{Name: "Eve"}, false, true))
				flood := &counted{unit: frame, left: 100_000}
				l := newMessageReader(c, newClientSocket(c.outbox, near, &x.slowSockets, func(error) {}, nil), nil, 1)
				l.frames.conn = flood
				if name == "empty parts" {
					l.frames.conn = io.MultiReader(bytes.NewReader(said(opText, nil)), flood)
				}
				now := time.Now()
				visits := 0
				for ; visits < 400 && c.is().seated() && flood.left > 0; visits++ {
					before := flood.read
					if visits > 0 {
						x.readers.waiting = nil
					}
					if visits == 0 || l.isWaiting {
						l.isWaiting = false
						x.readFrom(l, now)
					}
					assert.LessOrEqual(t, flood.read-before, 300, "visit %d", visits)
					now = now.Add(50 * time.Millisecond)
				}
				if strings.Contains(name, "messages") {
					assert.True(t, c.is().seated(), "who sends messages waits")
					assert.Less(t, flood.read, 10_000)
					return
				}
				assert.False(t, c.is().seated(), "who floods is cut")
				assert.InDelta(t, 200, visits, 20, "after ten seconds")
				assert.Contains(t, c.reason, "frames a second without a message")
			}))
		})
	}
}

// Connections whose first message does not come make room for others: the one that has waited longest is closed.
func TestConnectionsWithoutAFirstMessageGiveWay(t *testing.T) {
	x := newTestSession(t, contracts.Tally, false)
	greeting := x.gateway.greeting
	oldest := x.dial(t, wire.Binary)
	require.Eventually(
		t, func() bool { greeting.mu.Lock(); defer greeting.mu.Unlock(); return greeting.list.Len() == 1 },
		10*time.Second, time.Millisecond,
	)
	for range maxIdle {
		near, far := net.Pipe()
		defer far.Close()
		greeting.add(near)
	}
	_, _, err := oldest.ReadMessage()
	require.Error(t, err)
	assert.Equal(t, maxIdle, greeting.list.Len())
	_, hello, err := x.ask(t, wire.Join{Name: "Ana"}).ReadMessage()
	require.NoError(t, err)
	assert.Contains(t, string(hello), `"hello"`)
}
