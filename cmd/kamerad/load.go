package main

import (
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"kamerad.example/client/load"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/wire"
)

// loadCommand is `kamerad load`.
func loadCommand() *cli.Command {
	return &cli.Command{
		Name:      "load",
		Usage:     "play a session with many clients that act by its contract, and measure",
		ArgsUsage: "SESSION",
		Description: "Each client sends requests that it may send, picked at random, on what it knows of, with " +
			"arguments of the right types;\nwhat its own copy tells it will be denied it keeps back. Exit status 1 " +
			"when a client was thrown out or a copy differed.",
		Flags: []cli.Flag{
			terminal.ServiceFlag(), terminal.JSONFlag(), terminal.KeyFlag(), terminal.CAFlag(),
			&cli.IntFlag{Name: "clients", Usage: "`N` clients at once", Value: 10},
			&cli.DurationFlag{Name: "for", Usage: "how long they play: a `TIME` such as 30s", Value: 10 * time.Second},
			&cli.FloatFlag{Name: "asks", Usage: "requests that each client sends a second: `N`", Value: 2},
			&cli.FloatFlag{Name: "writes", Usage: "writes of a property that it may set, of each client a second: `N`"},
			&cli.StringFlag{Name: "role", Usage: "the clients' `ROLE`; the contract's first one if not given"},
			&cli.StringFlag{Name: "as", Usage: "what they are called: `NAME` and a number", Value: "Load"},
			&cli.Uint64Flag{Name: "seed", Usage: "what they pick comes from this `NUMBER`", Value: 1},
			&cli.BoolFlag{Name: "forge", Usage: "send also what will be denied"},
			&cli.BoolFlag{Name: "hostile", Usage: "attack the session: send anything, of the protocol or not"},
			&cli.BoolFlag{Name: "elsewhere", Usage: "with --hostile: also when the service is not on this machine"},
		},
		Action: loadSession,
	}
}

// loadSession plays a session with many clients, or attacks it, and prints what came of it.
func loadSession(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "SESSION", 1, 1)
	if err != nil {
		return err
	}
	id, err := terminal.SessionArg(args[0])
	if err != nil {
		return err
	}
	o := load.Options{
		Service: c.String("service"),
		Session: id,
		Clients: c.Int("clients"),
		Role:    c.String("role"),
		For:     c.Duration("for"),
		Name:    c.String("as"),
		Asks:    c.Float("asks"),
		Writes:  c.Float("writes"),
		Seed:    c.Uint64("seed"),
		Forge:   c.Bool("forge"),
	}
	o.Ticket, err = terminal.TicketMaker(c, id)
	if err != nil {
		return err
	}
	o.TLS, err = terminal.Believed(c)
	if err != nil {
		return err
	}
	if c.Bool("hostile") {
		return loadHostile(ctx, c, o)
	}
	stop := func() {}
	if !c.Bool("json") && term.IsTerminal(int(os.Stderr.Fd())) {
		stop = bars(&o)
	}
	report, err := load.Run(ctx, o)
	stop()
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = terminal.PrintJSON(c.Root().Writer, report)
	} else {
		printLoad(c.Root().Writer, report)
	}
	if err == nil && len(report.Out)+report.Differed > 0 {
		err = terminal.ErrFound
	}
	return err
}

// loadHostile attacks a session, and prints how that was met.
//
// Only a service on this machine is attacked, unless --elsewhere says that it may be another one.
func loadHostile(ctx context.Context, c *cli.Command, o load.Options) error {
	if err := onThisMachine(fmt.Sprintf("attack session %d", o.Session), o.Service, c.Bool("elsewhere")); err != nil {
		return err
	}
	report, err := load.RunHostile(ctx, o)
	if err != nil {
		return err
	}
	out := c.Root().Writer
	if c.Bool("json") {
		return terminal.PrintJSON(out, report)
	}
	attackers := terminal.Bold.Sprint(plural(report.Clients, "hostile client"))
	fmt.Fprintf(out, "%s attacked for %.1f s\n\n", attackers, report.Seconds)
	t := terminal.NewTable("What", "In all", "A second")
	terminal.AlignRight(t, 2, 3)
	row := func(what string, n int) { t.AppendRow([]any{what, n, fmt.Sprintf("%.1f", float64(n)/report.Seconds)}) }
	row("connections", report.Connections)
	row("messages", report.Messages)
	row("frames", report.Frames)
	row("bytes", report.Bytes)
	terminal.PrintTable(out, t)
	fmt.Fprintln(out)
	t = terminal.NewTable("How the service met them", "Times")
	terminal.AlignRight(t, 2)
	for _, list := range []struct {
		what  string
		times map[string]int
	}{{"cut", report.Cut}, {"refused", report.Refused}} {
		for _, reason := range slices.Sorted(maps.Keys(list.times)) {
			t.AppendRow([]any{terminal.Shown(list.what + ": " + reason), list.times[reason]})
		}
	}
	terminal.PrintTable(out, t)
	return nil
}

// bars shows how far a load is, on the terminal.
//
// It sets o's callbacks, so it has to be called before the load begins.
func bars(o *load.Options) (stop func()) {
	w := progress.NewWriter()
	w.SetOutputWriter(os.Stderr)
	w.SetAutoStop(false)
	w.SetUpdateFrequency(200 * time.Millisecond)
	w.Style().Visibility.ETA = true
	w.Style().Visibility.Speed = false
	joining := &progress.Tracker{Message: "joining", Total: int64(o.Clients)}
	playing := &progress.Tracker{
		Message: "playing",
		Total:   o.For.Milliseconds(),
		Units:   progress.Units{Formatter: func(ms int64) string { return fmt.Sprintf("%.1f s", float64(ms)/1000) }},
	}
	w.AppendTracker(joining)
	w.AppendTracker(playing)
	o.OnJoin = func(n int) { joining.SetValue(int64(n)) }
	o.OnTime = func(d time.Duration) { playing.SetValue(d.Milliseconds()) }
	go w.Render()
	return func() {
		playing.MarkAsDone()
		time.Sleep(250 * time.Millisecond) // the last picture
		w.Stop()
	}
}

// printLoad prints what a load has measured.
//
// Reasons come from the contract and the service's answers and are shown without their control
// characters.
func printLoad(w io.Writer, r *load.Report) {
	each := func(n int) float64 { return float64(n) / r.Seconds / float64(r.Clients) }
	fmt.Fprintf(w, "%s played for %.1f s\n\n", terminal.Bold.Sprint(plural(r.Clients, "client")), r.Seconds)
	t := terminal.NewTable("What", "In all", "A second and client")
	terminal.AlignRight(t, 2, 3)
	row := func(what string, n int) { t.AppendRow([]any{what, n, fmt.Sprintf("%.1f", each(n))}) }
	row("requests sent", r.Asked)
	row("requests kept back", r.Kept)
	row("writes", r.Written)
	row("frames", r.Frames)
	row("bytes of frames", r.Bytes)
	row("events", r.Events)
	terminal.PrintTable(w, t)
	fmt.Fprintf(
		w,
		"\nFrom request to decision, with a tick of %g ms: half within %.1f ms, 95 %% within %.1f, 99 %% within "+
			"%.1f, all within %.1f\n\n",
		r.Ticks, r.Delay.P50, r.Delay.P95, r.Delay.P99, r.Delay.Most,
	)
	t = terminal.NewTable("Decision", "Count")
	terminal.AlignRight(t, 2)
	for _, outcome := range []wire.Outcome{wire.Accepted, wire.Denied, wire.Dropped, wire.Malformed, wire.Faulted} {
		if n := r.Decisions[outcome]; n > 0 {
			t.AppendRow([]any{terminal.Verdict(outcome, "", "", nil), n})
		}
	}
	for _, reason := range slices.Sorted(maps.Keys(r.Reasons)) {
		t.AppendRow(
			[]any{terminal.Muted.Sprint("  " + terminal.Shown(reason)), terminal.Muted.Sprint(r.Reasons[reason])},
		)
	}
	terminal.PrintTable(w, t)
	fmt.Fprintln(w)
	for _, reason := range slices.Sorted(maps.Keys(r.Out)) {
		fmt.Fprintln(w, terminal.Bad.Sprintf("%s out: %s", plural(r.Out[reason], "client"), terminal.Shown(reason)))
	}
	switch {
	case r.Differed > 0:
		fmt.Fprintln(
			w, terminal.Bad.Sprintf(
				"%s differed from what it should be, and was sent anew", plural(r.Differed, "copy"),
			),
		)
	case r.Compared == 0:
		fmt.Fprintln(w, terminal.Warn.Sprint("· no copy was compared with what it should be: that takes a second"))
	default:
		fmt.Fprintln(
			w, terminal.Good.Sprintf("= every copy was what it should be, in %s", plural(r.Compared, "comparison")),
		)
	}
}
