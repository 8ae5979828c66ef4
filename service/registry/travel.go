package registry

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/service/past"
	"kamerad.example/service/runner"
	"kamerad.example/store"
)

// TicketMaker makes tickets for clients that are sent from one session to another; empty ones where none are wanted.
type TicketMaker interface {
	Travel(session int64, player, name string) (string, error)
}

// maxLedTo is to how many sessions that run the exits of one lead: its clients may decide to which.
const maxLedTo = 64

// destinations are the sessions to which exits lead.
type destinations struct {
	opening sync.Mutex // held while one is looked up and opened, so that who goes together arrives together

	mu  sync.Mutex // guards what follows
	led map[past.From]int64
}

// leadsTo notes to which session an exit leads.
func (g *Registry) leadsTo(from past.From, id int64) {
	g.destinations.mu.Lock()
	defer g.destinations.mu.Unlock()
	g.destinations.led[from] = id
}

// ledTo returns the session to which an exit leads, if it runs; nil when it does not. running is to how many the
// exits of the same session lead.
func (g *Registry) ledTo(from past.From) (r *runner.Runner, running int) {
	g.destinations.mu.Lock()
	defer g.destinations.mu.Unlock()
	for other, id := range g.destinations.led {
		x := g.Find(id)
		switch {
		case x == nil:
			delete(g.destinations.led, other) // it has closed
		case other == from:
			r = x.Runner()
			running++
		case other.Session == from.Session:
			running++
		}
	}
	return r, running
}

// Prepare implements runner.Destinations. An exit, by its name and a key, leads to one session as long as that runs,
// and then to another one. The session is of the newest version of its contract.
func (g *Registry) Prepare(ctx context.Context, from int64, s session.Sending) (runner.Arrival, error) {
	g.destinations.opening.Lock()
	defer g.destinations.opening.Unlock()
	key := past.From{Session: from, Exit: s.Exit.Name, Key: s.Key}
	to, running := g.ledTo(key)
	if to == nil {
		if running >= maxLedTo {
			return runner.Arrival{}, fmt.Errorf("the exits of session %d lead to %d sessions already", from, running)
		}
		version, err := g.records.Version(ctx, s.Exit.To, 0)
		if errors.Is(err, store.ErrNotFound) {
			return runner.Arrival{}, fmt.Errorf("there is no contract %q", s.Exit.To)
		}
		if err != nil {
			return runner.Arrival{}, err
		}
		x, err := g.open(ctx, version, api.OpenSession{Contract: s.Exit.To, Settings: s.Settings}, &key)
		if err != nil {
			return runner.Arrival{}, err
		}
		to = x.Runner()
		g.leadsTo(key, to.ID())
	}
	return runner.Arrival{Session: to.ID(), Contract: to.Row().Contract}, nil
}

// Ticket implements runner.Destinations.
func (g *Registry) Ticket(to runner.Arrival, player, name string) (string, error) {
	if g.tickets == nil {
		return "", nil
	}
	return g.tickets.Travel(to.Session, player, name)
}
