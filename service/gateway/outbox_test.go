package gateway

import (
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// What comes to an outbox and is not newer than what it has had is refused, and what comes after the last message does
// not go out.
func TestAnOutboxRefusesWhatIsNotNewer(t *testing.T) {
	box := newOutbox()
	x := outgoing{outbox: box, socket: &clientSocket{outbox: box, slowCount: &atomic.Int32{}}, frame: []byte("x")}
	box.busy = true // nothing is written
	for _, c := range []struct {
		tick int64
		sent bool
	}{{3, true}, {4, true}, {4, false}, {2, false}, {7, true}} {
		assert.Equal(t, c.sent, x.send(c.tick, time.Now()), "tick %d", c.tick)
	}
	assert.Equal(t, "xxx", string(box.bytes))
	box.last([]byte("{}"), nil, time.Now())
	before := len(box.bytes)
	assert.True(t, x.send(8, time.Now()))
	assert.Len(t, box.bytes, before)
}
