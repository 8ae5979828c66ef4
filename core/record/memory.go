package record

import (
	"cmp"
	"context"
	"slices"
)

// Recording is a recording in memory: a Source for players.
type Recording struct {
	Batches     []Batch      // by number
	Checkpoints []Checkpoint // by tick
}

// CheckpointBefore is of Source.
func (r *Recording) CheckpointBefore(_ context.Context, tick int64) (*Checkpoint, error) {
	i, found := slices.BinarySearchFunc(r.Checkpoints, tick, func(c Checkpoint, t int64) int {
		return cmp.Compare(c.Tick, t)
	})
	if found {
		i++
	}
	if i == 0 {
		return nil, nil
	}
	return &r.Checkpoints[i-1], nil
}

// Batch is of Source.
func (r *Recording) Batch(_ context.Context, number int64) (*Batch, error) {
	i, found := slices.BinarySearchFunc(r.Batches, number, func(b Batch, n int64) int {
		return cmp.Compare(b.Number, n)
	})
	if !found {
		return nil, nil
	}
	return &r.Batches[i], nil
}
