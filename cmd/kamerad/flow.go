package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"kamerad.example/api"
	"kamerad.example/cmd/kamerad/player"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// lateTicks is how many ticks something may take to be confirmed before it is told as late.
const lateTicks = 3

// copiesWithin is how many seconds it is waited for that the copies of all clients are known.
const copiesWithin = 3

// flowCommand is `kamerad flow`.
func flowCommand() *cli.Command {
	return &cli.Command{
		Name: "flow", Usage: "tell what became of a request on every side, tick by tick", ArgsUsage: "SESSION SEQ",
		Description: "SEQ is the number that the client gave to its request, which `session show` lists. " +
			"The service knows when clients had what came of the last 50 ticks with decisions.",
		Flags: []cli.Flag{
			terminal.ServiceFlag(), terminal.JSONFlag(),
			&cli.StringFlag{Name: "as", Usage: "the request of the client with this `NAME`"},
			&cli.BoolFlag{Name: "mermaid", Usage: "print a sequence diagram in Mermaid's text form"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := terminal.Words(c, "SESSION SEQ", 2, 2)
			if err != nil {
				return err
			}
			id, err := terminal.SessionArg(args[0])
			if err != nil {
				return err
			}
			seq, err := strconv.ParseUint(args[1], 10, 64)
			if err != nil {
				return fmt.Errorf("flow: SEQ is the number of a request, such as 12, not %.40q", args[1])
			}
			f, err := readFlow(ctx, terminal.Service(c), id, seq, c.String("as"))
			if err != nil {
				return err
			}
			switch out := c.Root().Writer; {
			case c.Bool("json"):
				return terminal.PrintJSON(out, f)
			case c.Bool("mermaid"):
				f.printMermaid(out)
			default:
				f.print(out)
			}
			return nil
		},
	}
}

// flow is one action: what was asked and decided, and what each client got of it.
type flow struct {
	Session  int64        `json:"session"`
	TickRate int          `json:"tick_rate"`
	Now      int64        `json:"now"` // the tick in which this was read
	Decision api.Decision `json:"decision"`
	// Known says that the service still knew who had it when.
	Known bool        `json:"known"`
	To    []flowLanes `json:"to"` // the client that asked first
}

// flowLanes is what one client got.
type flowLanes struct {
	Client  wire.Client `json:"client"`
	Tick    int64       `json:"tick"`    // in which it had confirmed; 0 when it has not
	Changes []string    `json:"changes"` // that it may have, as text
	Events  []string    `json:"events"`
}

// readFlow reads the flow of a request from a session that runs.
func readFlow(ctx context.Context, admin api.Client, id int64, seq uint64, as string) (*flow, error) {
	done := errors.New("done")
	out := &flow{Session: id}
	w := &watched{}
	var sheet api.Watch
	err := admin.Watch(ctx, id, func(m api.Watch) error {
		if m.Type == api.WatchClose {
			return fmt.Errorf("flow: the session has closed: %s", m.Reason)
		}
		if err := w.apply(m); err != nil {
			return err
		}
		if m.Type == api.WatchSheet {
			sheet = m
		}
		isUnknown := func(c *column) bool { return c.copy.Tick == 0 }
		if slices.ContainsFunc(w.clients, isUnknown) && m.Tick < sheet.Tick+int64(copiesWithin*sheet.Outline.Tick) {
			return nil // what it holds is known once it has confirmed what it was sent before
		}
		m = sheet
		var found *api.Decision
		var numbers []string
		for i := range m.Decisions {
			d := &m.Decisions[i]
			if as != "" && d.Client.Name != as {
				continue
			}
			numbers = append(numbers, fmt.Sprintf("%d of %s", d.Seq, d.Client.Name))
			if d.Seq == seq {
				found = d
			}
		}
		if found == nil {
			return noFlow(id, seq, as, numbers)
		}
		out.TickRate = m.Outline.Tick
		out.Now = m.Tick
		out.Decision = *found
		out.fill(w, m)
		return done
	})
	if !errors.Is(err, done) {
		return nil, err
	}
	return out, nil
}

// noFlow returns the error for a request that the session does not remember.
func noFlow(id int64, seq uint64, as string, numbers []string) error {
	whose := ""
	if as != "" {
		whose = " of " + as
	}
	if len(numbers) == 0 {
		return fmt.Errorf("flow: session %d remembers no request%s", id, whose)
	}
	numbers = numbers[max(0, len(numbers)-8):]
	return fmt.Errorf(
		"flow: session %d does not remember request %d%s; the last ones are %s", id, seq, whose,
		strings.Join(numbers, ", "),
	)
}

// fill notes what each client got of the decision.
func (f *flow) fill(w *watched, m api.Watch) {
	var had map[int]int64
	for _, a := range m.Arrivals {
		if a.Tick == f.Decision.Tick {
			had = a.Clients
			f.Known = true
		}
	}
	for _, c := range w.clients {
		to := flowLanes{Client: c.Client, Tick: had[c.Number], Changes: []string{}, Events: []string{}}
		for _, change := range f.Decision.Changes {
			if words := changeFor(w, c, change); words != "" {
				to.Changes = append(to.Changes, words)
			}
		}
		for _, told := range m.Told {
			event := eventName(told.Event)
			if told.Tick == f.Decision.Tick && slices.Contains(told.Clients, c.Number) &&
				slices.Contains(f.Decision.Told, event) {
				to.Events = append(to.Events, event)
			}
		}
		if c.Number == f.Decision.Client.Number || len(to.Changes)+len(to.Events) > 0 {
			f.To = append(f.To, to)
		}
	}
	slices.SortStableFunc(f.To, func(a, b flowLanes) int {
		asker := f.Decision.Client.Number
		return cmp.Or(-cmp.Compare(btoi(a.Client.Number == asker), btoi(b.Client.Number == asker)),
			cmp.Compare(a.Client.Number, b.Client.Number))
	})
}

// btoi returns 1 for true.
func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// changeFor words a change when a client has the property, and returns "" when it does not.
func changeFor(w *watched, c *column, change api.Change) string {
	held := c.copy.Entity(change.Entity)
	if held == nil {
		return ""
	}
	if _, has := held.Field(change.Property); !has {
		return ""
	}
	kind := w.outline.Kind(change.Kind)
	var typ *contract.Type
	for i := range kind.Properties {
		if kind.Properties[i].Name == change.Property {
			typ = kind.Properties[i].Type
		}
	}
	name := player.NameOf(w.server.Clients, &replicate.Entity{Kind: change.Kind, Owner: change.Owner})
	return fmt.Sprintf(
		"%s.%s %s → %s", name, change.Property, valueWords(typ, change.Old), valueWords(typ, change.New),
	)
}

// arrivedWords says when something arrived: the tick and the milliseconds since the decision.
func (f *flow) arrivedWords(to flowLanes) string {
	switch {
	case !f.Known:
		return fmt.Sprintf("%8s %7s", "?", "?")
	case to.Tick == 0:
		return fmt.Sprintf("%8s %7s", "…", "…")
	}
	return fmt.Sprintf("%8d %7d", to.Tick, f.ms(to.Tick))
}

// ms returns how many milliseconds after the decision a tick was.
func (f *flow) ms(tick int64) int64 {
	return (tick - f.Decision.Tick) * 1000 / int64(max(f.TickRate, 1))
}

// isLate reports whether a client had what came of it late, or still waits for it.
func (f *flow) isLate(to flowLanes) bool {
	tick := to.Tick
	if tick == 0 {
		tick = f.Now
	}
	return f.Known && tick-f.Decision.Tick > lateTicks
}

// print prints the flow as lines in the order of time.
func (f *flow) print(w io.Writer) {
	d := f.Decision
	side := func(c wire.Client) string { return terminal.Mark(c.Number) + " " + terminal.Shown(c.Name) }
	fmt.Fprintf(
		w, "%s, request %d of %s in session %d\n\n%8s %7s\n", terminal.Bold.Sprint(asked(d)), d.Seq, side(d.Client),
		f.Session, "Tick", "ms",
	)
	fmt.Fprintf(w, "%8s %7s  %s → server  %s\n", "", "", side(d.Client), asked(d))
	fmt.Fprintf(w, "%8d %7d  server  %s", d.Tick, 0, terminal.Verdict(d.Outcome, d.Stage, d.Reason, d.Reply))
	if d.CheckText != "" {
		fmt.Fprint(w, terminal.Muted.Sprintf("  line %d: check %s", d.Line, d.CheckText))
	}
	fmt.Fprintln(w)
	to := slices.Clone(f.To)
	slices.SortStableFunc(to, func(a, b flowLanes) int {
		if a.Tick == 0 || b.Tick == 0 {
			return -cmp.Compare(a.Tick, b.Tick) // what is under way comes last
		}
		return cmp.Compare(a.Tick, b.Tick)
	})
	for _, lane := range to {
		line := fmt.Sprintf("%s  server → %s  %s", f.arrivedWords(lane), side(lane.Client), f.laneWords(lane))
		switch {
		case lane.Tick == 0 && f.Known:
			line += terminal.Warn.Sprint("  under way")
		case f.isLate(lane):
			line += terminal.Warn.Sprint("  late")
		}
		fmt.Fprintln(w, line)
	}
	if !f.Known {
		fmt.Fprintln(w, terminal.Muted.Sprint("\nIt is too long ago: when clients had it is not known any more."))
	}
}

// laneWords says what a client got.
func (f *flow) laneWords(to flowLanes) string {
	var words []string
	if to.Client.Number == f.Decision.Client.Number {
		words = append(words, string(f.Decision.Outcome))
	}
	words = append(words, to.Changes...)
	for _, e := range to.Events {
		words = append(words, "hears "+e)
	}
	return terminal.Shown(strings.Join(words, "; "))
}

// printMermaid prints the flow as a sequence diagram.
func (f *flow) printMermaid(w io.Writer) {
	plain := strings.NewReplacer(";", ",", "#", " ", "\n", " ").Replace
	fmt.Fprintln(w, "sequenceDiagram")
	asker := f.Decision.Client
	fmt.Fprintf(w, "  participant C%d as %s\n  participant S as Server\n", asker.Number, plain(asker.Name))
	for _, to := range f.To {
		if to.Client.Number != asker.Number {
			fmt.Fprintf(w, "  participant C%d as %s\n", to.Client.Number, plain(to.Client.Name))
		}
	}
	fmt.Fprintf(w, "  C%d->>S: %s (tick %d, 0 ms)\n", asker.Number, plain(asked(f.Decision)), f.Decision.Tick)
	for _, to := range f.To {
		when := "under way"
		switch {
		case !f.Known:
			when = "not known when"
		case to.Tick > 0:
			when = fmt.Sprintf("tick %d, %d ms", to.Tick, f.ms(to.Tick))
		}
		fmt.Fprintf(w, "  S-->>C%d: %s (%s)\n", to.Client.Number, plain(f.laneWords(to)), when)
	}
}

// valueWords words a value of a type, or its JSON when it is of no type that is known.
func valueWords(t *contract.Type, raw json.RawMessage) string {
	if t == nil {
		return string(raw)
	}
	v, err := t.ParseJSON(raw)
	if err != nil {
		return string(raw)
	}
	return t.Format(v)
}

// eventName returns the name of an event that was told.
func eventName(raw json.RawMessage) string {
	var event struct{ Event string }
	_ = json.Unmarshal(raw, &event)
	return event.Event
}
