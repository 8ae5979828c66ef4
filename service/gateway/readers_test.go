package gateway

import (
	"io"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/time/rate"

	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/testservice"
)

// What is no socket of the system's is heard as well: its messages are handled with the ticks, and one that is broken
// cuts it.
func TestAConnThatIsNoSocketIsHeard(t *testing.T) {
	x := newTestSession(t, testservice.Contract, false)
	near, far := net.Pipe()
	var c *connection
	var err error
	require.NoError(t, x.do(t.Context(), func() {
		c, err = x.join(seatOf(wire.Join{Name: "Ana"}, false, false))
		c.socket = newClientSocket(c.outbox, near, &x.slowSockets, func(error) {}, nil)
		assert.NoError(t, x.startReading(newMessageReader(c, c.socket, nil, 1)))
	}))
	require.NoError(t, err)
	go func() { // it takes all that it is sent
		for buffer := make([]byte, 4096); ; {
			if _, err := far.Read(buffer); err != nil {
				return
			}
		}
	}()
	ask := wire.FromClient{Type: wire.MessageAsk}
	ask.Seq = 7
	ask.Request = "Diver.search"
	_, err = far.Write(said(final|opBin, ask.Pack(x.runner.Outline())))
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		received := uint64(0)
		return x.do(t.Context(), func() { received = x.session().Received(c.client) }) == nil && received == 7
	}, 5*time.Second, time.Millisecond)
	_, err = far.Write(said(final|opBin, []byte{99}))
	require.NoError(t, err)
	<-c.ended
	assert.Equal(t, connectionBroken, c.is())
}

// A client that says too much is read no further until it may say more; what it said is not lost.
func TestWhoSaysTooMuchWaits(t *testing.T) {
	l := &messageReader{messageLimit: rate.NewLimiter(100, 2)}
	now := time.Now()
	l.countMessage(now)
	l.countMessage(now)
	assert.True(t, l.pausedUntil.IsZero(), "within its burst")
	l.countMessage(now)
	assert.WithinDuration(t, now.Add(10*time.Millisecond), l.pausedUntil, 2*time.Millisecond)
}

// A frame that a writer still has to write, when those before it are dropped for a client that is behind, does not go
// out either.
func TestAFrameAfterADropIsVoid(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	far, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer far.Close()
	near, err := l.Accept()
	require.NoError(t, err)
	var slow atomic.Int32
	box := newOutbox()
	w := newClientSocket(box, near, &slow, func(error) {}, nil)
	defer w.close()
	send := func(tick int64, words string) {
		x := outgoing{outbox: box, socket: w, frame: []byte(words)}
		x.send(tick, time.Now())
	}
	send(3, "three ")
	box.put(func(dst, m []byte) []byte { return append(dst, m...) }, []byte("four "), 4, time.Now(), time.Time{})
	assert.Equal(t, int64(3), box.drop(5))
	send(5, "five ")
	send(6, "six")
	got := make([]byte, 9)
	_, err = io.ReadFull(far, got)
	require.NoError(t, err)
	assert.Equal(t, "three six", string(got))
}
