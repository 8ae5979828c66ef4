package registry

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"runtime"
	"time"

	"golang.org/x/sync/errgroup"

	"kamerad.example/core/session"
	"kamerad.example/journal"
	"kamerad.example/service/gateway"
	"kamerad.example/service/past"
	"kamerad.example/service/runner"
	"kamerad.example/store"
)

// Recordings are where the sessions of a service that ended are found again.
type Recordings interface {
	past.Records
	runner.Players
	TakeOpen(ctx context.Context) ([]store.Recorded, error)
	SessionTokens(ctx context.Context, session int64) (map[int][][]byte, error)
	LeaveSeats(ctx context.Context, session int64, there []int, last int, reason string) error
	Now(ctx context.Context) (time.Time, error)
}

// Recover lets the sessions go on that services left open which do not live any more. One whose recording can never be
// played is closed, with the reason. The error says that some could not be read: the next call tries them again, since
// they are this service's by then, and nobody else takes them. It must not be called twice at once.
func (g *Registry) Recover(ctx context.Context) error {
	if g.recordings == nil {
		return nil
	}
	list, err := g.recordings.TakeOpen(ctx)
	if err != nil {
		return err
	}
	g.mu.Lock()
	list = append(list, g.waiting...)
	g.waiting = nil
	g.mu.Unlock()
	var group errgroup.Group
	group.SetLimit(runtime.NumCPU())
	for _, row := range list {
		group.Go(func() error {
			err := g.recoverOrClose(ctx, row)
			if err != nil {
				g.mu.Lock()
				defer g.mu.Unlock()
				g.waiting = append(g.waiting, row)
			}
			return err
		})
	}
	return group.Wait()
}

// recoverOrClose lets one session go on, or closes it.
func (g *Registry) recoverOrClose(ctx context.Context, row store.Recorded) error {
	began := time.Now()
	x, err := g.recover(ctx, row)
	var never *past.UnplayableError
	if err != nil && !errors.As(err, &never) {
		return fmt.Errorf("let session %d go on: %w", row.ID, err)
	}
	if err != nil {
		slog.Error("a session that an earlier service left open cannot go on", "session", row.ID, "error", err)
		reason := "the service ended, and the session could not go on: " + err.Error()
		return g.records.CloseSession(ctx, row.ID, reason, row.LastTick)
	}
	Failpoints.Recovered.Hit()
	r := x.Runner()
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.stopping {
		return nil // it stays open, for whoever takes it when this service has ended
	}
	g.sessions[r.ID()] = x
	go r.Run()
	slog.Info(
		"a session goes on that an earlier service left open", "session", r.ID(), "contract", row.Contract, "tick",
		r.LastTick(), "took", time.Since(began),
	)
	return nil
}

// recover makes a session again from its recording; it does not run yet.
func (g *Registry) recover(ctx context.Context, row store.Recorded) (*gateway.Connections, error) {
	p, err := past.Load(ctx, g.recordings, row)
	if err != nil {
		return nil, err
	}
	if err := p.SeekEnd(ctx); err != nil {
		return nil, err
	}
	next, err := g.nextTick(ctx, row, p.Source, p.Session())
	if err != nil {
		return nil, err
	}
	tokens, err := g.recordings.SessionTokens(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	there := []int{}
	for _, c := range p.Session().Clients() {
		there = append(there, c.Number)
	}
	last := p.Session().LastClient()
	if err := g.recordings.LeaveSeats(ctx, row.ID, there, last, "it had left when the service ended"); err != nil {
		return nil, err
	}
	log := g.journal.Open(p.Session(), g.logOptions(row.Session, p.NextBatch()))
	p.Session().Recover(next)
	if from := p.Options.From; from != nil {
		g.leadsTo(*from, row.ID)
	}
	var x *gateway.Connections
	x = g.gateway.Connect(runner.New(runner.Options{
		Row:          row.Session,
		Session:      p.Session(),
		Recorder:     g.recorder,
		Log:          log,
		Players:      g.recordings,
		Meters:       g.meters,
		Requests:     g.traces.Session(row.ID, row.Contract),
		Destinations: g,
		Paused:       p.Options.Paused,
		Settings:     p.Options.Settings,
		Failed:       func() { g.failures.Add(1) },
		Ended:        func(reason string) { g.hasEnded(x, reason) },
		Recovered:    tokens,
	}))
	return x, nil
}

// logOptions returns the options of the log of a session.
func (g *Registry) logOptions(row store.Session, nextBatch int64) journal.Options {
	return journal.Options{
		Session:   row.ID,
		Contract:  row.Contract,
		NextBatch: nextBatch,
		Lost:      func() { g.hasLost(row.ID) },
		LeaseLost: func(keeper store.Keeper, fence int64) {
			switch x := g.Find(row.ID); {
			case x == nil:
			case keeper.IsWorld:
				g.hasEnded(x, "another session has had what its world keeps")
			default:
				x.Runner().LeaseLost(keeper.Name, fence)
			}
		},
	}
}

// Ticks go on above all that clients may have been sent: these are as many as there was time for since the last batch
// was stored, with some to spare for a clock that was set, and for those that were stepped by hand.
const (
	spareSeconds = 5
	spareTicks   = 2 * runner.StepsAtOnce
)

// nextTick returns the tick with which a session goes on.
func (g *Registry) nextTick(
	ctx context.Context, row store.Recorded, source *journal.Source, s *session.Session,
) (int64, error) {
	now, err := g.recordings.Now(ctx)
	if err != nil {
		return 0, err
	}
	since := row.OpenedAt
	if at := source.Newest().At; !at.IsZero() {
		since = at
	}
	rate := float64(s.Contract().TickRate)
	passed := math.Ceil(max(now.Sub(since).Seconds(), 0) * rate)
	return s.Now() + int64(passed) + max(int64(spareSeconds*rate), spareTicks), nil
}

// hasLost ends a session here that another service has taken, or that was closed.
func (g *Registry) hasLost(id int64) {
	x := g.Find(id)
	if x == nil {
		return
	}
	slog.Error("a session is ended here: another service has it, or it was closed", "session", id)
	ctx, cancel := context.WithTimeout(context.Background(), closeWithin)
	defer cancel()
	if err := g.End(ctx, x, "another service has taken it"); err != nil {
		slog.Error("a session could not be ended", "session", id, "error", err)
	}
}
