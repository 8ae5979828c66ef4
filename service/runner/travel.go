package runner

import (
	"context"
	"log/slog"
	"time"

	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// Arrival is where a client is sent: a session that runs.
type Arrival struct {
	Session  int64
	Contract string
}

// Destinations find where clients are sent.
type Destinations interface {
	// Prepare returns the session that an exit leads to from another one, which is opened unless there is one.
	Prepare(ctx context.Context, from int64, s session.Sending) (Arrival, error)
	// Ticket makes a ticket for a player by its identity and name; empty where none is wanted.
	Ticket(to Arrival, player, name string) (string, error)
}

// Bounds of what a client waits for that is sent elsewhere.
const (
	prepareWithin = 5 * time.Second // until its place is ready; else it stays
	settledWithin = 5 * time.Second // until what it keeps is stored; then it goes all the same
)

// send finds where a client is sent, and tells the session what has become of that. It is called on the runner's
// goroutine, which does not wait.
func (r *Runner) send(s session.Sending) {
	if r.destinations == nil {
		r.session.Stay(s.Client)
		return
	}
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), prepareWithin)
		defer cancel()
		to, err := r.destinations.Prepare(ctx, r.row.ID, s)
		r.Post(func() {
			if err != nil {
				slog.Warn(
					"a client cannot be sent elsewhere, and stays", "session", r.row.ID, "client", s.Client, "exit",
					s.Exit.Name, "error", err,
				)
				r.session.Stay(s.Client)
				return
			}
			r.arrivals[s.Client] = to
			r.session.Depart(s.Client)
		})
	}()
}

// depart ends the seat of a client whose place elsewhere is ready: it is told where that is once what it keeps is
// stored. It is called on the runner's goroutine, after the tick in which the session has let it go.
func (r *Runner) depart(client int) {
	s := r.seats[client]
	to := r.arrivals[client]
	delete(r.arrivals, client)
	if s == nil {
		return
	}
	stored := r.StartFlush()
	if s.lease.fence > 0 {
		r.log.Release(s.lease.player, s.lease.fence)
	}
	player := s.row.Player
	name := s.row.Name
	r.connections.Depart(client, session.DepartReason, func() wire.Bye {
		ctx, cancel := context.WithTimeout(context.Background(), settledWithin)
		defer cancel()
		if stored != nil {
			if err := stored(ctx); err != nil {
				slog.Warn(
					"a client goes before what it keeps is stored",
					"session",
					r.row.ID,
					"client",
					client,
					"error",
					err,
				)
			}
		}
		out := wire.Bye{
			Type:     wire.MessageBye,
			Reason:   session.DepartReason,
			Code:     wire.CodeSent,
			Session:  to.Session,
			Contract: to.Contract,
		}
		var err error
		out.Ticket, err = r.destinations.Ticket(to, player, name)
		if err != nil {
			slog.Error(
				"a client that is sent elsewhere gets no ticket",
				"session",
				r.row.ID,
				"client",
				client,
				"error",
				err,
			)
		}
		return out
	})
	r.clearSeat(client, s, session.DepartReason)
}
