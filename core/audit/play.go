package audit

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"

	"kamerad.example/core/contract"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// maxPlayed is how many inputs a run may have that is kept to be played again.
const maxPlayed = 1000

// Played is a run that shows an effect, complete enough to be played again: from the same contract, seed and settings
// it always comes to the same.
type Played struct {
	Round  int          `json:"round"` // of the audit
	Ticks  int64        `json:"ticks"` // the effect shows in the last one
	Inputs []PlayedPart `json:"inputs"`
}

// PlayedPart is what a run is given between two ticks: one of Join, Ready, Leave, Sent and a value that the audit set.
type PlayedPart struct {
	Tick     int64            `json:"tick"`             // after which it is given
	Client   int              `json:"client,omitempty"` // of whom it comes; 0 for a value that the audit set
	Join     *wire.Client     `json:"join,omitempty"`
	Ready    bool             `json:"ready,omitempty"`
	Leave    bool             `json:"leave,omitempty"`
	Sent     *wire.FromClient `json:"sent,omitempty"`
	Entity   uint32           `json:"entity,omitempty"` // whose value is set
	Property string           `json:"property,omitempty"`
	Value    json.RawMessage  `json:"value,omitempty"`
}

// sessionOptions returns what the sessions of a round are made of.
func sessionOptions(o Options, round int) session.Options {
	return session.Options{
		Key:      sha256.Sum256(fmt.Appendf(nil, "audit %d %d", o.Seed, round)),
		Trace:    true,
		Strict:   true,
		Settings: o.With,
	}
}

// played returns a run to be kept; nil for one that is too long.
func (a *auditor) played(list []input, last int64) *Played {
	if len(list) > maxPlayed {
		return nil
	}
	out := &Played{Round: a.number, Ticks: last}
	for i := range list {
		out.Inputs = append(out.Inputs, list[i].part())
	}
	return out
}

// part returns an input as it is kept.
func (i *input) part() PlayedPart {
	out := PlayedPart{Tick: i.tick, Client: i.client, Ready: i.ready, Leave: i.leave}
	switch {
	case i.set():
		out.Entity = i.entity
		out.Property = i.name
		out.Value = i.typ.AppendJSON(nil, i.value)
	case i.join.Name != "":
		joined := i.join
		out.Join = &joined
	case i.sent.Type != "":
		sent := i.sent
		out.Sent = &sent
	}
	return out
}

// Play plays the run again, and tells an observer of it. The contract, the seed and the settings have to be those of
// the audit. The error says why it cannot be played, or that ctx has ended.
func (p *Played) Play(ctx context.Context, c *contract.Contract, o Options, observer session.Observer) error {
	if p.Ticks < 0 || p.Ticks > MaxTicks || len(p.Inputs) > maxPlayed {
		return fmt.Errorf(
			"play a run of an audit of %s: %d ticks with %d inputs; at most %d with %d", c.Name, p.Ticks, len(p.Inputs),
			MaxTicks, maxPlayed,
		)
	}
	s, err := session.New(c, sessionOptions(o, p.Round))
	if err != nil {
		return fmt.Errorf("play a run of an audit of %s: %w", c.Name, err)
	}
	observer.Began(s)
	for at := 0; s.Now() < p.Ticks; {
		if err := ctx.Err(); err != nil {
			return err
		}
		for ; at < len(p.Inputs) && p.Inputs[at].Tick <= s.Now(); at++ {
			if err := p.Inputs[at].give(s, observer); err != nil {
				return fmt.Errorf("play a run of an audit of %s: input %d: %w", c.Name, at, err)
			}
		}
		step := s.Tick()
		for _, f := range step.Frames {
			s.Confirm(f.Client, step.Tick)
			observer.Arrived(f.Client, step.Tick)
		}
		for _, cut := range step.Cuts {
			observer.Left(cut.Client)
		}
		observer.Ticked(step)
		if step.Closed != "" {
			return nil
		}
	}
	return nil
}

// give puts a part of a run into a session.
func (p *PlayedPart) give(s *session.Session, observer session.Observer) error {
	i := input{client: p.Client, ready: p.Ready, leave: p.Leave, entity: p.Entity, name: p.Property}
	if p.Join != nil {
		i.join = *p.Join
	}
	if p.Sent != nil {
		i.sent = *p.Sent
	}
	if i.set() {
		typ := s.PropertyType(p.Entity, p.Property)
		if typ == nil {
			return nil // in a shorter run there may be nothing to set
		}
		value, err := typ.ParseJSON(p.Value)
		if err != nil {
			return fmt.Errorf("the value of %s: %w", p.Property, err)
		}
		i.value = value
	}
	if err := i.give(s); err != nil {
		return err
	}
	switch {
	case i.join.Name != "":
		observer.Joined(i.client)
	case i.leave:
		observer.Left(i.client)
	}
	return nil
}
