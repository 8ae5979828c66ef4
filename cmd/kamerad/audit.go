package main

import (
	"context"
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/audit"
	"kamerad.example/core/compile"
)

// auditCommand is `kamerad audit`.
func auditCommand() *cli.Command {
	return &cli.Command{
		Name:      "audit",
		Usage:     "attack a contract as a cheater would, and prove that nothing came of it",
		ArgsUsage: "[FILE]",
		Description: "The attacks are derived from the contract alone and played in virtual time; docs/drills.md " +
			"says which there are.\nExit status 1 when one changed or learned anything, or when the contract has a " +
			"finding.",
		Flags: []cli.Flag{
			terminal.JSONFlag(),
			&cli.Uint64Flag{Name: "seed", Usage: "the `NUMBER` that all choices come from", Value: 1},
			&cli.IntFlag{Name: "rounds", Usage: "sessions that are played: `N`", Value: audit.UsualRounds},
			&cli.IntFlag{Name: "ticks", Usage: "ticks of each: `N`", Value: audit.UsualTicks},
			&cli.StringFlag{Name: "html", Usage: "write the report to a `FILE` as a page of its own, too"},
			publishedFlag(), terminal.ServiceFlag(), terminal.KeyFlag(),
			&cli.StringFlag{
				Name:  "session",
				Usage: "attack the running session `NUMBER` over its sockets, in place of a file",
			},
			&cli.DurationFlag{
				Name:  "for",
				Usage: "how long a session is attacked, such as `30s`",
				Value: 30 * time.Second,
			},
			&cli.BoolFlag{Name: "elsewhere", Usage: "also when the service is not on this machine"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			published := c.String("published") != ""
			live := c.String("session") != ""
			switch {
			case published && live || (published || live) && c.Args().Len() > 0:
				return fmt.Errorf("audit: one of FILE, --published and --session says what is attacked")
			case published:
				return auditPublished(ctx, c)
			case live:
				return auditLive(ctx, c)
			}
			return auditFile(ctx, c)
		},
	}
}

// auditFile attacks the contract of a file, in virtual time.
//
// The contract's findings stand in the report beside what was attacked: a contract with one is not
// clean, whatever the audit found.
func auditFile(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "FILE", 1, 1)
	if err != nil {
		return err
	}
	text, err := readContract(args[0])
	if err != nil {
		return err
	}
	checked, problems := compile.LoadWith(args[0], text, beside(args[0], nil))
	if checked == nil {
		printProblems(problems)
		return fmt.Errorf("audit %s: its mistakes have to be mended first", args[0])
	}
	o := audit.Options{
		Seed:     c.Uint64("seed"),
		Rounds:   c.Int("rounds"),
		Ticks:    c.Int("ticks"),
		Findings: problems,
	}
	stop := func() {}
	if !c.Bool("json") && term.IsTerminal(int(os.Stderr.Fd())) {
		o.Each, stop = progressBar("attacking", o.Rounds)
	}
	began := time.Now()
	report, err := audit.Run(ctx, checked, o)
	stop()
	if err != nil {
		return err
	}
	return endAudit(c, report, time.Since(began))
}

// endAudit writes what came of an audit wherever it is wanted.
//
// It returns ErrFound, for exit status 1, when the report is not clean.
func endAudit(c *cli.Command, report *audit.Report, took time.Duration) (err error) {
	if file := c.String("html"); file != "" {
		if err := writeAudit(file, report); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		err = terminal.PrintJSON(c.Root().Writer, report)
	} else {
		printAudit(c.Root().Writer, report, took)
	}
	if err == nil && !report.Clean() {
		err = terminal.ErrFound
	}
	return err
}

// progressBar shows how much of something is done.
//
// It writes to standard error, so that what a command prints can be piped. Whoever starts one calls
// stop before printing anything else.
func progressBar(what string, of int) (each func(int), stop func()) {
	w := progress.NewWriter()
	w.SetOutputWriter(os.Stderr)
	w.SetUpdateFrequency(200 * time.Millisecond)
	w.SetAutoStop(false)
	t := &progress.Tracker{Message: what, Total: int64(of)}
	w.AppendTracker(t)
	go w.Render()
	return func(n int) { t.SetValue(int64(n)) }, func() {
		t.MarkAsDone()
		time.Sleep(250 * time.Millisecond) // the last picture
		w.Stop()
	}
}

// auditSign shows a cell in a few characters.
//
// An effect shows whatever else is so, and what was not reached is never shown as held.
func auditSign(c audit.Cell) (sign string, state string) {
	switch {
	case len(c.Effects) > 0:
		return "✕", "effect"
	case !c.Reached:
		return "·", "not reached"
	case c.Tried > 0:
		return "✓", "held"
	}
	return "–", "cannot be"
}

// printAudit prints the report of an audit, which took so long: the table of attacks, what came of them, and what was
// not tried.
func printAudit(w io.Writer, r *audit.Report, took time.Duration) {
	fmt.Fprintf(
		w, "%s: %s tried, %d of them distinct, in %d ticks and %.0f s\n\n", terminal.Bold.Sprint(r.Contract),
		plural(r.Tried, "attack"), r.Distinct, r.Ticks, took.Seconds(),
	)
	printAttacks(w, r)
	printReading(w, r)
	printEffects(w, r)
	for _, row := range r.Rows {
		for _, e := range row.Cells[len(row.Cells)-1].Effects {
			fmt.Fprintf(w, "%s %s: %s\n", terminal.Bad.Sprint("✕"), terminal.Bold.Sprint(row.Name), terminal.Shown(e))
		}
	}
	if r.Door > 0 {
		fmt.Fprintf(
			w, "%s the door: %d attempts to take a seat without the right to it were refused\n",
			terminal.Good.Sprint("✓"), r.Door,
		)
	}
	for _, f := range r.Findings {
		fmt.Fprintf(w, "%s %s\n", terminal.Bad.Sprint("✕"), f)
	}
	printUntried(w, r)
	fmt.Fprintf(w, "%.1f %% of the cells are filled\n", 100*r.Filled)
	printVerdict(w, r)
}

// printAttacks prints the table of what was sent: targets by attacks, and what came of each.
//
// Attacks are columns with a letter each, because their names would not fit; they are spelled out
// below.
func printAttacks(w io.Writer, r *audit.Report) {
	header := []any{"Target"}
	sent := r.Attacks[:len(r.Attacks)-1] // reading is told of by itself
	for i := range sent {
		header = append(header, fmt.Sprintf("%c", 'a'+rune(i)))
	}
	t := terminal.NewTable(header...)
	for _, row := range r.Rows {
		if row.Sort == audit.OfValue {
			continue
		}
		line := []any{row.Name}
		for i := range sent {
			sign, state := auditSign(row.Cells[i])
			colour := map[string]interface{ Sprint(...any) string }{
				"effect":      terminal.Bad,
				"held":        terminal.Good,
				"cannot be":   terminal.Muted,
				"not reached": terminal.Warn,
			}[state]
			line = append(line, colour.Sprint(sign))
		}
		t.AppendRow(line)
	}
	terminal.PrintTable(w, t)
	fmt.Fprintln(w)
	for i, a := range sent {
		fmt.Fprintf(w, "%c %-26s", 'a'+rune(i), a)
		if i%3 == 2 {
			fmt.Fprintln(w)
		}
	}
	fmt.Fprintf(
		w, "\n\n%s held   %s had an effect   %s cannot be   %s not reached\n\n", terminal.Good.Sprint("✓"),
		terminal.Bad.Sprint("✕"), terminal.Muted.Sprint("–"), terminal.Warn.Sprint("·"),
	)
}

// printReading prints how many hidden values were varied behind a client's back, and how many of them told it nothing.
//
// Values that could not be varied are counted here and named by printUntried.
func printReading(w io.Writer, r *audit.Report) {
	if r.Live {
		fmt.Fprintln(
			w,
			terminal.Muted.Sprint(
				"Reading is not tried on a session that runs: kamerad audit FILE varies hidden values behind a "+
					"client's back",
			),
		)
		return
	}
	read := 0
	held := 0
	for _, row := range r.Rows {
		if c := row.Cells[len(row.Cells)-1]; c.Tried > 0 {
			read++
			if len(c.Effects) == 0 {
				held++
			}
		}
	}
	fmt.Fprintf(
		w, "Reading: %s varied behind a client's back, %d told it nothing; %d could not be varied\n",
		plural(read, "hidden value"), held, r.Unread(),
	)
}

// printUntried prints what was not tried, and why: of the values that were not varied one line for each reason.
//
// Checks that were never seen to pass or to fail stand among them: an audit that never got past a check
// has said nothing of what comes after it.
func printUntried(w io.Writer, r *audit.Report) {
	for _, u := range r.Unseen {
		fmt.Fprintf(w, "%s %s\n", terminal.Warn.Sprint("·"), u)
	}
	unvaried := map[string][]string{} // by the reason
	for _, m := range r.Empty {
		if m.Attack == audit.Reads {
			unvaried[m.Why] = append(unvaried[m.Why], m.Target)
			continue
		}
		fmt.Fprintf(w, "%s %s, %s: %s\n", terminal.Warn.Sprint("·"), m.Target, m.Attack, m.Why)
	}
	for _, why := range slices.Sorted(maps.Keys(unvaried)) {
		fmt.Fprintf(w, "%s not varied: %s: %s\n", terminal.Warn.Sprint("·"), strings.Join(unvaried[why], ", "), why)
	}
}

// printVerdict prints what came of an audit in one line.
//
// It claims no more than was tried: nothing is said to have been learned of the values that were
// varied, not of all of them.
func printVerdict(w io.Writer, r *audit.Report) {
	switch {
	case r.Clean() && !r.Live && r.Unread() > 0:
		fmt.Fprintln(
			w, terminal.Good.Sprint("✓ nothing was changed, and nothing was learned of the values that were varied"),
		)
	case r.Clean() && !r.Live:
		fmt.Fprintln(w, terminal.Good.Sprint("✓ nothing was changed, and nothing was learned"))
	case r.Clean():
		fmt.Fprintln(w, terminal.Good.Sprint("✓ nothing was changed that may not be"))
	default:
		fmt.Fprintln(
			w,
			terminal.Bad.Sprintf(
				"✕ %s, %s, %s", plural(r.Effects, "effect"), plural(r.Learned, "value")+" learned",
				plural(len(r.Findings), "finding"),
			),
		)
	}
}

// printEffects prints each cause of effects with where it was seen and the shortest run that leads there; apart from
// the others those that show only in states which play did not come to.
func printEffects(w io.Writer, r *audit.Report) {
	apart := 0
	for _, e := range r.Causes {
		if e.State == audit.BySetup {
			apart++
			continue
		}
		printEffect(w, e)
	}
	if apart == 0 {
		return
	}
	fmt.Fprintln(w, terminal.Warn.Sprint("Only once the audit itself had set values, which its play did not come to:"))
	for _, e := range r.Causes {
		if e.State == audit.BySetup {
			printEffect(w, e)
		}
	}
}

// printEffect prints one effect, and the run that leads to it.
//
// What it says may hold names from a session, so it goes through terminal.Shown.
func printEffect(w io.Writer, e *audit.Effect) {
	fmt.Fprintf(w, "%s %s\n", terminal.Bad.Sprint("✕"), terminal.Shown(e.Text))
	seen := plural(e.Times, "time")
	if len(e.Seen) > 0 {
		seen += ": " + strings.Join(e.Seen, "; ")
	}
	fmt.Fprintf(w, "    %s\n", terminal.Muted.Sprint("seen "+seen))
	for _, line := range e.Run {
		fmt.Fprintf(w, "    %s\n", terminal.Shown(line))
	}
}

//go:embed audit.html
var auditPage string

// writeAudit writes a report as a page that needs nothing else.
//
// html/template escapes whatever comes from the contract or a session.
func writeAudit(file string, r *audit.Report) error {
	page, err := template.New("audit").Funcs(template.FuncMap{
		"sign":  func(c audit.Cell) string { s, _ := auditSign(c); return s },
		"state": func(c audit.Cell) string { _, s := auditSign(c); return strings.ReplaceAll(s, " ", "-") },
		"words": func(c audit.Cell) string {
			_, state := auditSign(c)
			out := []string{state}
			if c.Why != "" {
				out = append(out, c.Why)
			}
			if c.Tried > 0 {
				out = append(out, fmt.Sprintf("%d tried", c.Tried))
			}
			for _, k := range slices.Sorted(maps.Keys(c.Outcomes)) {
				out = append(out, fmt.Sprintf("%d %s", c.Outcomes[k], k))
			}
			return strings.Join(append(out, c.Effects...), "\n")
		},
		"percent": func(f float64) string { return fmt.Sprintf("%.1f %%", 100*f) },
		"letter":  func(i int) string { return string('a' + rune(i)) },
	}).Parse(auditPage)
	if err != nil {
		return err
	}
	f, err := os.Create(file)
	if err != nil {
		return fmt.Errorf("write the report: %w", err)
	}
	err = page.Execute(f, r)
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return fmt.Errorf("write the report: %w", err)
	}
	return nil
}
