package record

import (
	"fmt"
	"sync"

	"github.com/klauspost/compress/zstd"

	"kamerad.example/core/session"
)

// Batch is some calls of a session, one after the other.
type Batch struct {
	Number int64  // of the session's batches, from 1 without gaps
	After  int64  // the session's last tick before the first call
	Last   int64  // its last tick after the last call
	Data   []byte // compressed (Zstandard, RFC 8878)
}

// Checkpoint is a session between two calls.
type Checkpoint struct {
	Tick int64 // the last one that it has had
	Next int64 // the number of the batch that follows it
	Data []byte
}

// Writer gathers the calls of a session.
type Writer struct {
	encoder encoder
	number  int64
	after   int64
}

// NewWriter returns a writer for a session that has had a tick. number is that of its first batch.
func NewWriter(tick, number int64) *Writer {
	w := &Writer{number: number}
	w.begin(tick)
	return w
}

// begin empties the writer.
func (w *Writer) begin(tick int64) {
	w.encoder.tick = tick
	w.encoder.texts = map[string]int{}
	w.encoder.out = nil
	w.after = tick
}

// Record adds a call; it is what Session.RecordCalls takes.
func (w *Writer) Record(c *session.Call) { w.encoder.call(c) }

// Size returns how many bytes wait to be taken.
func (w *Writer) Size() int { return len(w.encoder.out) }

// Next returns the number that the next batch has.
func (w *Writer) Next() int64 { return w.number }

// Take returns the calls since it was last called, not compressed yet, and false when there was none.
func (w *Writer) Take() (Batch, bool) {
	if len(w.encoder.out) == 0 {
		return Batch{}, false
	}
	out := Batch{Number: w.number, After: w.after, Last: w.encoder.tick, Data: w.encoder.out}
	w.number++
	w.begin(w.encoder.tick)
	return out, true
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
