package record

import (
	"cmp"
	"context"
	"slices"
)

// Recording is a recording in memory: a Source for players.
type Recording struct {
	Batches     []Batch      // by tick, without gaps
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

// BatchAfter is of Source.
func (r *Recording) BatchAfter(_ context.Context, tick int64) (*Batch, error) {
	i := slices.IndexFunc(r.Batches, func(b Batch) bool { return b.Last > tick })
	if i < 0 {
		return nil, nil
	}
	return &r.Batches[i], nil
}
