package past

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"kamerad.example/core/record"
	"kamerad.example/core/session"
	"kamerad.example/store"
)

// Of what is recorded again, a batch has so many ticks, and a checkpoint is made after so many.
const (
	batchTicks      = 100
	checkpointTicks = 1200
)

// maxImportMemory bounds the memory of an imported session, in bytes.
const maxImportMemory = 1 << 34

// UnpublishedError says that no version of a contract has the text that a recording was made with.
type UnpublishedError struct{ Contract string }

// Error says which contract that is.
func (e *UnpublishedError) Error() string {
	return fmt.Sprintf("no published version of %.80s has the text with which it was recorded", e.Contract)
}

// Import stores an export as the recording of a session that has closed. It is played to its end first: one that does
// not come to what was sent is not stored. The error is an *UnpublishedError when its contract is not published.
func (p *Past) Import(ctx context.Context, in io.Reader) (out store.Session, err error) {
	head, recording, err := record.Import(in)
	if err != nil {
		return out, err
	}
	version, err := p.records.VersionWith(ctx, head.Contract, head.Source, head.Files)
	if errors.Is(err, store.ErrNotFound) {
		return out, &UnpublishedError{head.Contract}
	}
	if err != nil {
		return out, err
	}
	if head.Memory < 0 || head.Memory > maxImportMemory {
		return out, fmt.Errorf("import a recording: its session has %d bytes of memory", head.Memory)
	}
	options := Options{Settings: head.Settings, Memory: head.Memory}
	if w := head.World; w != nil {
		options.World = &World{Name: w.Name, Fence: w.Fence, Values: w.Values}
	}
	opened, err := options.session(head.Key)
	if err != nil {
		return out, fmt.Errorf("import a recording: %w", err)
	}
	c, err := Contract(version)
	if err != nil {
		return out, err
	}
	select {
	case p.turn <- struct{}{}:
		defer func() { <-p.turn }()
	case <-ctx.Done():
		return out, ctx.Err()
	}
	player := record.NewPlayer(c, opened, recording)
	var seats []store.Seat
	player.Called = func(c *session.Call) {
		if c.Type == session.CallJoin {
			seats = append(seats, store.Seat{
				Client: c.Client,
				Player: c.Player,
				Name:   c.Name,
				Role:   c.Role,
			})
		}
	}
	entries, last, err := recordAgain(ctx, player)
	if err != nil {
		return out, err
	}
	raw, err := json.Marshal(options)
	if err != nil {
		return out, fmt.Errorf("import a recording: %w", err)
	}
	row := store.Recorded{Key: head.Key, Options: raw, Engine: head.Engine, Wire: head.Wire}
	row.Contract = version.Contract
	row.Version = version.Version
	row.LastTick = last
	return p.records.ImportRecording(ctx, row, entries, seats)
}

// recordAgain plays a recording from its beginning, and returns what is to be stored of what it is then, with its last
// tick.
func recordAgain(ctx context.Context, player *record.Player) (out store.Entries, last int64, err error) {
	if err := player.Seek(ctx, 0); err != nil {
		return out, 0, err
	}
	s := player.Session()
	w := record.NewWriter(0, 1)
	s.RecordCalls(w.Record)
	take := func() {
		if b, ok := w.Take(); ok {
			out.Batches = append(out.Batches, store.Batch{
				Number: b.Number,
				After:  b.After,
				Last:   b.Last,
				Size:   len(b.Data),
				Data:   record.Compress(b.Data),
			})
		}
	}
	checkpoint := func(tick int64) {
		if data, format, err := s.Checkpoint(); err == nil { // without one it is played from its beginning
			out.Checkpoints = append(out.Checkpoints, store.Checkpoint{
				Tick:   tick,
				Next:   w.Next(),
				Format: format,
				Data:   record.Compress(data),
			})
		}
	}
	for {
		step, err := player.Next(ctx)
		if err != nil {
			return out, 0, err
		}
		if step == nil {
			take()
			return out, s.Now(), nil
		}
		if step.Tick%batchTicks == 0 {
			take()
		}
		if step.Tick%checkpointTicks == 0 {
			checkpoint(step.Tick)
		}
	}
}
