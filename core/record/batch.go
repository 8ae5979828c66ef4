package record

import (
	"fmt"
	"sync"

	"github.com/klauspost/compress/zstd"

	"kamerad.example/core/session"
)

// Batch is the calls of some whole ticks, one after the other.
type Batch struct {
	First int64  // the first tick in it
	Last  int64  // the last one; all calls up to it are in this batch or an earlier one
	Data  []byte // compressed (Zstandard, RFC 8878)
}

// Checkpoint is a session between two ticks.
type Checkpoint struct {
	Tick int64 // the last one that it has had
	Data []byte
}

// MaxBatch bounds the bytes of a batch when it is not compressed.
const MaxBatch = 16 << 20

// Writer gathers the calls of a session.
type Writer struct {
	encoder encoder
	first   int64
	ended   int // bytes up to the end of the last whole tick
	last    int64
}

// NewWriter returns a writer for a session that has had a tick.
func NewWriter(tick int64) *Writer {
	w := &Writer{}
	w.begin(tick)
	return w
}

// begin empties the writer.
func (w *Writer) begin(tick int64) {
	w.encoder.tick = tick
	w.encoder.texts = map[string]int{}
	w.encoder.out = w.encoder.out[:0]
	w.first = tick + 1
	w.last = tick
	w.ended = 0
}

// Record adds a call; it is what Session.RecordCalls takes.
func (w *Writer) Record(c *session.Call) {
	w.encoder.call(c)
	if c.Type == session.CallTick {
		w.last = c.Tick
		w.ended = len(w.encoder.out)
	}
}

// Size returns how many bytes wait to be taken.
func (w *Writer) Size() int { return len(w.encoder.out) }

// Take returns the calls of the ticks since it was last called, not compressed, and false when there was none. It must
// be called right after a tick.
func (w *Writer) Take() (first, last int64, calls []byte, ok bool) {
	if w.last < w.first || w.ended != len(w.encoder.out) {
		return 0, 0, nil, false
	}
	first, last = w.first, w.last
	calls = append([]byte(nil), w.encoder.out...)
	w.begin(w.last)
	return first, last, calls, true
}

// Compressing and reading are safe for any number of goroutines.
var (
	compressor = sync.OnceValue(func() *zstd.Encoder {
		e, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
		if err != nil {
			panic(err) // the options are constants
		}
		return e
	})
	reader = sync.OnceValue(func() *zstd.Decoder {
		d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxCheckpoint))
		if err != nil {
			panic(err) // the options are constants
		}
		return d
	})
)

// maxCheckpoint bounds the bytes of a checkpoint when it is not compressed.
const maxCheckpoint = 1 << 30

// Compress returns bytes in their compressed form.
func Compress(data []byte) []byte { return compressor().EncodeAll(data, nil) }

// decompress returns what was compressed.
func decompress(data []byte) ([]byte, error) {
	out, err := reader().DecodeAll(data, nil)
	if err != nil {
		return nil, fmt.Errorf("read what was compressed: %w", err)
	}
	return out, nil
}
