package runner

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"kamerad.example/api"
	"kamerad.example/store"
)

// Times of a join to a session whose players keep something.
const (
	keptWithin = 5 * time.Second        // until what a player keeps has to be there
	leaseEvery = 100 * time.Millisecond // how often it is asked for while another session has it
	leaseFor   = 2 * time.Second        // and for how long: the other session may be about to give it back
)

// lease is what a player keeps, taken for this session.
type lease struct {
	player string
	fence  int64
}

// leaseOf returns the lease of a client.
func (r *Runner) leaseOf(client int) lease {
	player, fence := r.session.KeptFence(client)
	return lease{player, fence}
}

// releaseLeases gives back what those keep who have left with this tick.
func (r *Runner) releaseLeases() {
	for _, l := range r.leaving {
		r.log.Release(l.player, l.fence)
	}
	r.leaving = r.leaving[:0]
}

// Prepare loads what a player keeps who asks for a seat: j goes to TakeSeat afterwards, and done has to be called then.
// It is called on any goroutine but the runner's, and waits for the database. The error of who cannot be seated is a
// *Refusal or a *session.Refusal.
func (r *Runner) Prepare(ctx context.Context, j *SeatRequest) (done func(), err error) {
	if r.players == nil || j.Token != "" || j.Test {
		return func() {}, nil
	}
	// Who would be refused takes no lease from the client that has it.
	var refused error
	var stored func(context.Context) error
	player := ""
	err = r.doOnceLeft(ctx, j.Name, func() {
		if player, refused = r.session.CheckJoin(j.Name, j.Role); refused != nil {
			return
		}
		if r.loading[player] {
			refused = &Refusal{Code: api.CodeBusy, Detail: fmt.Sprintf("join: %q is being seated already", player)}
			return
		}
		r.loading[player] = true
		stored = r.log.Flush() // what the player changed a moment ago is read
	})
	if err = errors.Join(err, refused); err != nil {
		return nil, err
	}
	done = func() { r.Post(func() { delete(r.loading, player) }) }
	ctx, cancel := context.WithTimeout(ctx, keptWithin)
	defer cancel()
	if err = stored(ctx); err == nil {
		j.kept, err = r.lease(ctx, player)
	}
	if err == nil {
		return done, nil
	}
	done()
	var leased *store.ErrLeased
	if errors.As(err, &leased) {
		return nil, &Refusal{
			Code: api.CodePlayerElsewhere,
			Detail: fmt.Sprintf(
				"join: %q plays in session %d, and what a player keeps is in one session at a time; leave that "+
					"one first",
				j.Name, leased.Session,
			),
		}
	}
	slog.Warn("a client is not seated: what it keeps cannot be read", "session", r.row.ID, "error", err)
	return nil, &Refusal{
		Code:   api.CodeKeptUnavailable,
		Detail: "join: what you keep from earlier sessions cannot be read now; try again in a moment",
	}
}

// doOnceLeft is Do, once nobody called so is about to leave with the next tick: what they were still to change is read
// then.
func (r *Runner) doOnceLeft(ctx context.Context, name string, f func()) error {
	for range 20 {
		isLeaving := false
		err := r.Do(ctx, func() {
			isLeaving = !r.paused && slices.ContainsFunc(r.leaving, func(l lease) bool { return l.player == name })
			if !isLeaving {
				f()
			}
		})
		if err != nil || !isLeaving {
			return err
		}
		select {
		case <-time.After(r.Period()):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return ErrBusy
}

// lease takes what a player keeps, and waits a little for another session to give it back.
func (r *Runner) lease(ctx context.Context, player string) (*store.Kept, error) {
	until := time.Now().Add(leaseFor)
	for {
		kept, err := r.players.Lease(ctx, r.row.Contract, player, r.row.ID)
		var leased *store.ErrLeased
		if err == nil {
			return &kept, nil
		}
		if !errors.As(err, &leased) || time.Now().After(until) {
			return nil, err
		}
		select {
		case <-time.After(leaseEvery):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// LeaseLost cuts a client whose kept values another session has had in the meantime: those win. Everybody may call it.
func (r *Runner) LeaseLost(player string, fence int64) {
	r.Post(func() {
		for n := range r.seats {
			if r.leaseOf(n) == (lease{player, fence}) {
				slog.Error("another session has had what a player keeps", "session", r.row.ID, "client", n)
				r.Leave(n, "another session has had what you keep, and what was changed of it here is undone")
				return
			}
		}
	})
}
