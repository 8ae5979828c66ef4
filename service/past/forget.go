package past

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/journal"
	"kamerad.example/store"
)

// Names are where it stands who was in which session.
type Names interface {
	Shelf
	SessionsOf(ctx context.Context, player, contract string, after int64, limit int) ([]store.Recorded, error)
	NamesIn(ctx context.Context, session int64) ([]string, error)
	NamesOf(ctx context.Context, session int64, player string) ([]string, error)
	ReplaceRecording(ctx context.Context, session int64, e store.Entries) error
	Rename(ctx context.Context, session int64, name, to string) error
	DeleteRecording(ctx context.Context, session int64) error
}

// forgottenAtOnce is how many sessions are read at once.
const forgottenAtOnce = 50

// Forget takes the name of a player out of the recordings, seats and decisions of sessions that have closed, of one
// contract or, with an empty name, of all. A recording is played again under another name, as long as the player's, so
// that the session comes to the same; one that cannot be played is deleted. Sessions that are open keep the name; they
// are named in the result.
func (p *Past) Forget(ctx context.Context, n Names, player, contract string) (out api.Forgotten, err error) {
	out.Open = []int64{}
	select {
	case p.turn <- struct{}{}:
		defer func() { <-p.turn }()
	case <-ctx.Done():
		return out, ctx.Err()
	}
	for after := int64(0); ; {
		list, err := n.SessionsOf(ctx, player, contract, after, forgottenAtOnce)
		if err != nil || len(list) == 0 {
			return out, err
		}
		for _, row := range list {
			after = row.ID
			if row.ClosedAt == nil {
				out.Open = append(out.Open, row.ID)
				continue
			}
			if err := forgetIn(ctx, n, row, player, &out); err != nil {
				return out, err
			}
		}
	}
}

// forgetIn takes the name of a player out of one session.
func forgetIn(ctx context.Context, n Names, row store.Recorded, player string, out *api.Forgotten) error {
	names, err := n.NamesIn(ctx, row.ID)
	if err != nil {
		return err
	}
	own, err := n.NamesOf(ctx, row.ID, player)
	if err != nil {
		return err
	}
	to := map[string]string{}
	for _, name := range own {
		to[name] = nameless(name, names)
		names = append(names, to[name])
	}
	if row.Engine != 0 {
		entries, err := renamed(ctx, n, row, player, to)
		var reading *journal.ReadError
		switch {
		case ctx.Err() != nil || errors.As(err, &reading):
			return fmt.Errorf("make session %d nameless: %w", row.ID, err)
		case err != nil:
			err = n.DeleteRecording(ctx, row.ID)
			out.Deleted++
		default:
			err = n.ReplaceRecording(ctx, row.ID, entries)
			out.Nameless++
		}
		if err != nil {
			return err
		}
	}
	for _, name := range own {
		if err := n.Rename(ctx, row.ID, name, to[name]); err != nil {
			return err
		}
	}
	return nil
}

// renamed plays a recording in which a player has other names, and returns what is to be stored of it. to has the new
// name of each. The error says that it cannot be played to its end.
func renamed(
	ctx context.Context, n Names, row store.Recorded, player string, to map[string]string,
) (store.Entries, error) {
	r, err := Load(ctx, n, row)
	if err != nil {
		return store.Entries{}, err
	}
	r.Check = false
	r.FromStart = true
	r.Called = func(c *session.Call) {
		if c.Type == session.CallJoin && (c.Player == player || c.Player == "" && c.Name == player) {
			c.Player = ""
			if name, known := to[c.Name]; known {
				c.Name = name
			}
		}
	}
	entries, _, err := recordAgain(ctx, r.Player)
	if err != nil {
		return entries, err
	}
	follows, err := r.Source.Follows(ctx, r.NextBatch())
	if follows {
		err = errors.New("calls are missing")
	}
	return entries, err
}

// nameless returns a name that says nothing, as long as another one, so that frames stay as long as they were. It is
// none of the names that are taken.
func nameless(name string, taken []string) string {
	const letters = "0123456789abcdefghijklmnopqrstuvwxyz"
	out := strings.Repeat("_", len(name))
	for n := 1; slices.Contains(taken, out); n++ {
		number := ""
		for rest := n; rest > 0; rest /= len(letters) {
			number = letters[rest%len(letters):rest%len(letters)+1] + number
		}
		out = strings.Repeat("_", max(len(name)-len(number), 0)) + number
	}
	return out
}
