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
	fence  int64 // 0 for none
}

// loaded is what was loaded for a player who asks for a seat. The runner's goroutine has it from TakeSeat on.
type loaded struct {
	kept     store.Kept
	isSeated bool // the player has got a seat with it
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
	if j.Player != "" && j.Token == "" {
		returns := false
		if err := r.Do(ctx, func() { returns = r.returnToSeat(*j) }); err != nil || returns {
			return func() {}, err
		}
	}
	if r.players == nil || j.Token != "" || j.Test {
		return func() {}, nil
	}
	player, stored, err := r.beginLoading(ctx, j)
	if err != nil {
		return nil, err
	}
	j.loaded = &loaded{}
	loaded := j.loaded
	done = func() {
		r.Post(func() {
			delete(r.loading, player)
			if !loaded.isSeated && loaded.kept.Fence > 0 {
				r.log.Release(player, loaded.kept.Fence)
			}
		})
	}
	ctx, cancel := context.WithTimeout(ctx, keptWithin)
	defer cancel()
	err = stored(ctx)
	if err == nil {
		loaded.kept, err = r.lease(ctx, player)
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

// beginLoading notes that a player is to be seated, and returns the name as it counts and what waits until all that the
// player has changed until now is stored. Who is about to leave with the next tick has done so then: what they were
// still to change counts as well.
func (r *Runner) beginLoading(
	ctx context.Context, j *SeatRequest,
) (player string, stored func(context.Context) error, err error) {
	for range maxLeavingTicks {
		isLeaving := false
		var refused error
		err = r.Do(ctx, func() {
			// Who would be refused takes no lease from the client that has it.
			player, refused = r.session.CheckJoin(j.Player, j.Name, j.Role)
			isLeaving = !r.paused && slices.ContainsFunc(r.leaving, func(l lease) bool { return l.player == player })
			switch {
			case refused != nil || isLeaving:
			case r.loading[player]:
				refused = &Refusal{Code: api.CodeBusy, Detail: fmt.Sprintf("join: %q is being seated already", player)}
			default:
				r.loading[player] = true
				stored = r.log.Flush()
			}
		})
		err = errors.Join(err, refused)
		if err != nil || !isLeaving {
			return player, stored, err
		}
		select {
		case <-time.After(r.Period()):
		case <-ctx.Done():
			return "", nil, ctx.Err()
		}
	}
	return "", nil, ErrBusy
}

// maxLeavingTicks is for how many ticks it is waited that somebody has left.
const maxLeavingTicks = 20

// lease takes what a player keeps, and waits a little for another session to give it back.
func (r *Runner) lease(ctx context.Context, player string) (store.Kept, error) {
	until := time.Now().Add(leaseFor)
	for {
		kept, err := r.players.Lease(ctx, store.Keeper{Contract: r.row.Contract, Name: player}, r.row.ID)
		var leased *store.ErrLeased
		if !errors.As(err, &leased) || time.Now().After(until) {
			return kept, err
		}
		select {
		case <-time.After(leaseEvery):
		case <-ctx.Done():
			return store.Kept{}, ctx.Err()
		}
	}
}

// LeaseLost cuts a client whose kept values another session has had in the meantime: those win. Everybody may call it.
func (r *Runner) LeaseLost(player string, fence int64) {
	r.Post(func() {
		for n, s := range r.seats {
			if s.lease == (lease{player, fence}) {
				slog.Error("another session has had what a player keeps", "session", r.row.ID, "client", n)
				r.Leave(n, "another session has had what you keep, and what was changed of it here is undone")
				return
			}
		}
	})
}
