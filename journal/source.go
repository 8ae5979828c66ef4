package journal

import (
	"context"

	"kamerad.example/core/record"
	"kamerad.example/core/session"
	"kamerad.example/store"
)

// Reader is where recordings are read.
type Reader interface {
	NewestCheckpoint(ctx context.Context, session, tick int64, format uint64) (*store.Checkpoint, error)
	Batches(ctx context.Context, session, from int64, limit int) ([]store.Batch, error)
}

// ReadError says that a recording could not be read: of the recording itself it says nothing.
type ReadError struct{ err error }

// Error says what could not be read.
func (e *ReadError) Error() string { return e.err.Error() }

// Unwrap returns the error of the Reader.
func (e *ReadError) Unwrap() error { return e.err }

// Source is the recording of one session, for a record.Player.
type Source struct {
	reader  Reader
	session int64
	ahead   []store.Batch // that were read and not asked for yet
	newest  store.Batch   // the last one that was asked for, without its data
}

// NewSource returns the recording of a session.
func NewSource(r Reader, session int64) *Source { return &Source{reader: r, session: session} }

// Newest returns the batch that was asked for last, without its data; its zero value when none was.
func (s *Source) Newest() store.Batch { return s.newest }

// CheckpointBefore implements record.Source. A checkpoint that another version of this program has made is none.
func (s *Source) CheckpointBefore(ctx context.Context, tick int64) (*record.Checkpoint, error) {
	c, err := s.reader.NewestCheckpoint(ctx, s.session, tick, session.CheckpointFormat())
	if err != nil {
		return nil, &ReadError{err}
	}
	if c == nil {
		return nil, nil
	}
	return &record.Checkpoint{Tick: c.Tick, Next: c.Next, Data: c.Data}, nil
}

// Batch implements record.Source.
func (s *Source) Batch(ctx context.Context, number int64) (*record.Batch, error) {
	const atOnce = 200
	if len(s.ahead) == 0 || s.ahead[0].Number != number {
		var err error
		s.ahead, err = s.reader.Batches(ctx, s.session, number, atOnce)
		if err != nil {
			return nil, &ReadError{err}
		}
		if len(s.ahead) == 0 || s.ahead[0].Number != number {
			return nil, nil
		}
	}
	b := s.ahead[0]
	s.ahead = s.ahead[1:]
	s.newest = b
	s.newest.Data = nil
	return &record.Batch{Number: b.Number, After: b.After, Last: b.Last, Data: b.Data}, nil
}

// Follows reports whether there is a batch with a number or a greater one. Of a recording that was played to its end
// there is none; otherwise calls are missing before it.
func (s *Source) Follows(ctx context.Context, number int64) (bool, error) {
	list, err := s.reader.Batches(ctx, s.session, number, 1)
	if err != nil {
		return false, &ReadError{err}
	}
	return len(list) > 0, nil
}
