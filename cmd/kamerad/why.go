package main

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/record"
)

// whyCommand is `kamerad why`.
func whyCommand() *cli.Command {
	return &cli.Command{
		Name: "why", Usage: "say why a property has its value: what set it, after which checks, and who got it when",
		ArgsUsage: "SESSION ENTITY.PROPERTY",
		Description: "ENTITY is a shared one such as Dive, Ana.Diver for one of a client's own, Eel[3] for the " +
			"third eel that there " +
			"was, or #123 for the one with that number. The session may be open or closed.",
		Flags: []cli.Flag{
			terminal.ServiceFlag(), terminal.JSONFlag(),
			&cli.Int64Flag{Name: "at", Usage: "why it was what it was at this `TICK`; the last one if not given"},
			&cli.StringFlag{Name: "client", Usage: "say of the client with this `NAME` only when it got the value"},
		},
		Action: runWhy,
	}
}

// runWhy is `kamerad why`.
func runWhy(ctx context.Context, c *cli.Command) error {
	const usage = "SESSION ENTITY.PROPERTY"
	if _, err := terminal.Words(c, usage, 2, 2); err != nil {
		return err
	}
	admin, id, args, err := oneSession(c, usage, 2)
	if err != nil {
		return err
	}
	var r record.Reason
	if err := admin.Why(ctx, id, args[0], c.Int64("at"), &r); err != nil {
		return err
	}
	if name := c.String("client"); name != "" {
		r.Deliveries = slices.DeleteFunc(r.Deliveries, func(d record.Delivery) bool { return d.Name != name })
		if len(r.Deliveries) == 0 {
			return fmt.Errorf("why: no client called %.40q was there then", name)
		}
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, r)
	}
	printReason(c.Root().Writer, args[0], &r)
	return nil
}

// printReason prints a reason for people.
func printReason(out io.Writer, of string, r *record.Reason) {
	since := fmt.Sprintf("since tick %d", r.Changed)
	if r.Changed == 0 {
		since = "since the session began"
	}
	fmt.Fprintf(
		out, "%s is %s at tick %d, %s\n\n", terminal.Bold.Sprint(terminal.Shown(of)), terminal.Shown(r.Text),
		r.At, since,
	)
	for i, l := range r.Chain {
		lead := "  "
		if i > 0 {
			lead = "  ↳ "
		}
		fmt.Fprintf(out, "%s%s %s\n", lead, terminal.Muted.Sprintf("tick %d", l.Tick), terminal.Shown(l.Words))
		for _, change := range l.Changes {
			old := "(new)"
			if change.Old != nil {
				old = terminal.Shown(change.OldText)
			}
			fmt.Fprintf(out, "      %s: %s → %s\n", change.Of, old, terminal.Shown(change.NewText))
		}
		if len(l.Through) > 0 {
			fmt.Fprintf(out, "      in %s, line %d of %s\n", strings.Join(l.Through, " › "), l.Line, l.File)
		}
		for _, check := range l.Checks {
			mark := terminal.Good.Sprint("✓")
			if check.Result != "passed" {
				mark = terminal.Bad.Sprint("✗")
			}
			var values []string
			for _, name := range slices.Sorted(maps.Keys(check.Values)) {
				values = append(values, fmt.Sprintf("%s was %s", name, terminal.Shown(check.Values[name])))
			}
			fmt.Fprintf(out, "      %s %s   %s\n", mark, check.Text, terminal.Muted.Sprint(strings.Join(values, ", ")))
		}
	}
	if last := len(r.Chain) - 1; last >= 0 {
		fmt.Fprintf(out, "  %s\n", endWords[r.Chain[last].End])
	}
	if len(r.Deliveries) == 0 {
		return
	}
	fmt.Fprintln(out)
	t := terminal.NewTable("Client", "Sent in tick", "Confirmed by tick", "")
	for _, d := range r.Deliveries {
		sent, confirmed := "–", "–"
		if d.Sent > 0 {
			sent = fmt.Sprint(d.Sent)
		}
		if d.Confirmed > 0 {
			confirmed = fmt.Sprint(d.Confirmed)
		}
		t.AppendRow([]any{terminal.Shown(d.Name), sent, confirmed, d.Why})
	}
	terminal.AlignRight(t, 2, 3)
	terminal.PrintTable(out, t)
}

// endWords says what a chain ends in.
var endWords = map[record.End]string{
	record.EndInput: "That came from outside: nothing in the session led to it.",
	record.EndTimer: "That came by time alone.",
	record.EndStart: "That is how the session began.",
}
