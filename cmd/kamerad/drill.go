package main

import (
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/drill"
	"kamerad.example/core/syntax"
)

// drillCommand is `kamerad drill`.
func drillCommand() *cli.Command {
	return &cli.Command{
		Name:      "drill",
		Usage:     "play drills in virtual time and say pass or fail",
		ArgsUsage: "FILE|FOLDER …",
		Description: "Drills are scripted exercises with several clients over simulated links; docs/drills.md says " +
			"what they can say.\nExit status 0 when all pass, 1 when one fails, 2 when one cannot be run.",
		Commands: []*cli.Command{drillFromCommand()},
		Flags: []cli.Flag{
			terminal.JSONFlag(),
			&cli.StringFlag{Name: "only", Usage: "those whose names match a `PATTERN`"},
			&cli.IntFlag{Name: "shake", Usage: "run each over `N` random links"},
			&cli.Uint64Flag{Name: "seed", Usage: "the `NUMBER` that random links come from", Value: 1},
			&cli.StringFlag{Name: "faults", Usage: "run with these `FAULTS` of links, as a failure prints them"},
			&cli.StringFlag{Name: "junit", Usage: "write the results to a `FILE` as JUnit XML, too"},
			&cli.StringFlag{Name: "trace", Usage: "write each message that arrives to a `FILE`"},
			&cli.BoolFlag{Name: "watch", Usage: "run again whenever a file changes, until interrupted"},
			publishedFlag(), terminal.ServiceFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			paths, err := terminal.Words(c, "FILE|FOLDER …", 1, -1)
			if err != nil {
				return err
			}
			if c.String("published") != "" {
				return drillPublished(ctx, c, paths)
			}
			debug.SetGCPercent(drill.GCPercent)
			if !c.Bool("watch") {
				return runDrills(ctx, c, paths)
			}
			return watchFiles(ctx, paths, func() error { return runDrills(ctx, c, paths) })
		},
	}
}

// drillFiles returns the drill files that are named, and those in named folders.
//
// A folder without any drill is an error: a run of nothing would count as passed.
func drillFiles(paths []string) (files []string, err error) {
	for _, path := range paths {
		info, err := os.Stat(path)
		if err != nil {
			return nil, fmt.Errorf("read drills: %w", err)
		}
		if !info.IsDir() {
			files = append(files, path)
			continue
		}
		before := len(files)
		err = filepath.WalkDir(path, func(p string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() && strings.HasSuffix(p, ".drill") {
				files = append(files, p)
			}
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("read drills: %w", err)
		}
		if len(files) == before {
			return nil, fmt.Errorf("read drills: the folder %s holds no file that ends in .drill", path)
		}
	}
	return files, nil
}

// loadDrills reads and checks drills. Problems are printed; ok is false when there are any.
//
// All files are read before any drill is run, so that all mistakes are told at once.
func loadDrills(files []string) (drills []*drill.Drill, ok bool, err error) {
	ok = true
	for _, file := range files {
		text, err := readContract(file)
		if err != nil {
			return nil, false, err
		}
		list, problems := drill.Load(file, text, relative(file))
		if len(problems) > 0 {
			printProblems(problems)
			fmt.Println(terminal.Bad.Sprintf("%s: %s", file, plural(len(problems), "mistake")))
			ok = false
		}
		drills = append(drills, list...)
	}
	return drills, ok, nil
}

// runDrills plays the drills of files and folders, and prints what came of each.
//
// Results are printed one by one as they come, or at the end where a progress bar is in the way.
func runDrills(ctx context.Context, c *cli.Command, paths []string) error {
	faults, err := faultsOf(c.String("faults"))
	if err != nil {
		return err
	}
	shake := c.Int("shake")
	if shake < 0 || shake > 1_000_000 {
		return fmt.Errorf("read --shake: from 1 to 1000000, not %d", shake)
	}
	drills, err := chosenDrills(c, paths)
	if err != nil {
		return err
	}
	o := drill.Options{}
	if c.String("trace") != "" {
		f, err := os.Create(c.String("trace"))
		if err != nil {
			return fmt.Errorf("write the trace: %w", err)
		}
		defer f.Close()
		o.Trace = f
	}
	if faults != nil {
		o.Shaken = &drill.Shaking{Seed: c.Uint64("seed"), Faults: faults}
	}
	human := !c.Bool("json")
	round := drill.Round{Options: o, Shake: shake, Seed: c.Uint64("seed")}
	stop := func() {}
	if human && shake > 0 && term.IsTerminal(int(os.Stderr.Fd())) {
		var bar func(int)
		bar, stop = progressBar("shaking", len(drills)*shake)
		done := 0
		round.Run = func() { done++; bar(done) }
	}
	if human && shake == 0 {
		round.Done = func(r *drill.Result) { printDrill(c.Root().Writer, r) }
	}
	began := time.Now()
	report, err := drill.All(ctx, drills, round)
	stop()
	if err != nil {
		return err
	}
	report.Seconds = time.Since(began).Seconds()
	if human && shake > 0 {
		for _, r := range report.Results {
			printDrill(c.Root().Writer, r)
		}
	}
	return endDrills(c, report)
}

// chosenDrills reads the drills of files and folders and returns those whose names match --only. It returns an error
// when there are none, and when one of the files has a mistake, which it prints.
//
// A pattern that matches nothing is an error, for the same reason as an empty folder.
func chosenDrills(c *cli.Command, paths []string) ([]*drill.Drill, error) {
	only, err := regexp.Compile(c.String("only"))
	if err != nil {
		return nil, fmt.Errorf("read --only: %w", err)
	}
	files, err := drillFiles(paths)
	if err != nil {
		return nil, err
	}
	drills, ok, err := loadDrills(files)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, fmt.Errorf("run drills: their mistakes have to be mended first")
	}
	drills = slices.DeleteFunc(drills, func(d *drill.Drill) bool { return !only.MatchString(d.Name) })
	if len(drills) == 0 {
		return nil, fmt.Errorf("run drills: none of them is called as %q", c.String("only"))
	}
	return drills, nil
}

// endDrills writes what came of drills wherever it is wanted.
func endDrills(c *cli.Command, report *drill.Report) error {
	if file := c.String("junit"); file != "" {
		if err := writeJUnit(file, report); err != nil {
			return err
		}
	}
	if !c.Bool("json") {
		printDrills(c.Root().Writer, report)
	} else if err := terminal.PrintJSON(c.Root().Writer, report); err != nil {
		return err
	}
	if report.Failed > 0 {
		return terminal.ErrFound
	}
	return nil
}

// faultsOf reads the faults of links that a failure has printed.
func faultsOf(text string) (out []drill.Fault, err error) {
	for _, part := range strings.Split(text, ";") {
		part = strings.TrimSpace(part)
		if part == "" {
			continue
		}
		f, err := drill.ParseFault(part)
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

// printDrill prints what came of one drill; of one that failed, where, why and what led there.
//
// Beside each client stands how its value relates to the server's: the same, another one (≠), not there
// (–), or so many ticks behind (+3).
func printDrill(w io.Writer, r *drill.Result) {
	runs := ""
	if r.Runs > 1 {
		runs = fmt.Sprintf(", %d runs", r.Runs)
	}
	if r.Passed {
		fmt.Fprintf(
			w, "%s %-60s %s\n", terminal.Good.Sprint("✓"), r.Drill,
			terminal.Muted.Sprintf("%6.2f s of play%s", r.Virtual.Seconds(), runs),
		)
		return
	}
	f := r.Failure
	fmt.Fprintf(
		w, "%s %s %s\n", terminal.Bad.Sprint("✕"), terminal.Bold.Sprint(r.Drill),
		terminal.Muted.Sprintf("%s:%d, tick %d%s", r.File, f.Line, f.Tick, runs),
	)
	fmt.Fprintf(w, "    %s\n    %s\n", f.Text, terminal.Bad.Sprint(f.Message))
	if len(f.Sheet) > 0 {
		fmt.Fprintln(w)
		t := terminal.NewTable("", "", "Holds")
		for i, b := range f.Sheet {
			sign := "="
			who := b.Who
			if b.Client > 0 {
				who = terminal.Mark(b.Client) + " " + who
			}
			switch {
			case i == 0:
				sign = ""
			case strings.HasPrefix(b.Value, "–"):
				sign = "–"
			case b.Behind > 0:
				sign = fmt.Sprintf("+%d", b.Behind)
			case b.Value != f.Sheet[0].Value:
				sign = "≠"
			}
			t.AppendRow([]any{who, sign, b.Value})
		}
		fmt.Fprintln(w, indented(t.Render()))
	}
	part := func(what string, lines []string) {
		if len(lines) > 0 {
			fmt.Fprintf(w, "\n    %s\n%s\n", terminal.Muted.Sprint(what), indented(strings.Join(lines, "\n")))
		}
	}
	part("The server's value came of:", f.Causes)
	part("Before that:", f.Before)
	fmt.Fprintf(w, "\n    Bring it back: %s\n\n", terminal.Bold.Sprint(again(r)))
}

// again is the command that brings a failure back.
//
// The name is quoted for a regular expression and for a shell; an apostrophe, which neither can hold,
// becomes any character.
func again(r *drill.Result) string {
	out := fmt.Sprintf(
		"kamerad drill %s --only '^%s$'", r.File, strings.ReplaceAll(regexp.QuoteMeta(r.Drill), "'", "."),
	)
	if r.Shaken != nil && len(r.Shaken.Faults) > 0 {
		var list []string
		for _, f := range r.Shaken.Faults {
			list = append(list, f.String())
		}
		out += fmt.Sprintf(" --seed %d --faults '%s'", r.Shaken.Seed, strings.Join(list, "; "))
	}
	return out
}

// printDrills prints what came of all drills together.
func printDrills(w io.Writer, r *drill.Report) {
	words := fmt.Sprintf("%s passed", plural(r.Passed, "drill"))
	colour := terminal.Good
	if r.Failed > 0 {
		words = fmt.Sprintf("%s failed, %d passed", plural(r.Failed, "drill"), r.Passed)
		colour = terminal.Bad
	}
	fmt.Fprintf(w, "\n%s in %.1f s: %d ticks\n", colour.Sprint(words), r.Seconds, r.Ticks)
}

// The parts of JUnit's XML that readers of results agree on.
type (
	junitSuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Time     string       `xml:"time,attr"`
		Suites   []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Name    string        `xml:"name,attr"`
		Class   string        `xml:"classname,attr"`
		Failure *junitFailure `xml:"failure"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

// writeJUnit writes what came of drills as JUnit XML, which continuous integration reads.
//
// Drills of one file are one suite. They come in the order of the files, so the last suite is the only
// one that can grow.
func writeJUnit(file string, r *drill.Report) error {
	all := junitSuites{Tests: r.Passed + r.Failed, Failures: r.Failed, Time: fmt.Sprintf("%.3f", r.Seconds)}
	for _, x := range r.Results {
		if n := len(all.Suites); n == 0 || all.Suites[n-1].Name != x.File {
			all.Suites = append(all.Suites, junitSuite{Name: x.File})
		}
		s := &all.Suites[len(all.Suites)-1]
		c := junitCase{Name: x.Drill, Class: x.File}
		s.Tests++
		if f := x.Failure; f != nil {
			s.Failures++
			text := append([]string{fmt.Sprintf("%s:%d: %s", x.File, f.Line, f.Text), again(x)}, f.Before...)
			c.Failure = &junitFailure{f.Message, strings.Join(text, "\n")}
		}
		s.Cases = append(s.Cases, c)
	}
	raw, err := xml.MarshalIndent(all, "", "  ")
	if err == nil {
		err = os.WriteFile(file, append([]byte(xml.Header), append(raw, '\n')...), 0o644)
	}
	if err != nil {
		return fmt.Errorf("write the results: %w", err)
	}
	return nil
}

// watchFiles runs something now, and again whenever a file in one of the folders changes.
//
// Folders are watched in place of files, because editors replace a file rather than write to it. A run
// that fails does not end the watching.
func watchFiles(ctx context.Context, paths []string, do func() error) error {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return fmt.Errorf("watch files: %w", err)
	}
	defer w.Close()
	for _, path := range paths {
		if info, err := os.Stat(path); err == nil && !info.IsDir() {
			path = filepath.Dir(path)
		}
		if err := w.Add(path); err != nil {
			return fmt.Errorf("watch %s: %w", path, err)
		}
	}
	for {
		if err := do(); err != nil && err != terminal.ErrFound && ctx.Err() == nil {
			fmt.Fprintf(os.Stderr, "kamerad: %s\n", err)
		}
		if ctx.Err() != nil {
			return nil
		}
		fmt.Println(terminal.Muted.Sprint("Waiting for a change; end with Ctrl-C."))
		for changed := false; !changed; {
			select {
			case e := <-w.Events:
				changed = !e.Has(fsnotify.Chmod) &&
					(strings.HasSuffix(e.Name, ".kam") || strings.HasSuffix(e.Name, ".drill") ||
						strings.HasSuffix(e.Name, ".json"))
			case err := <-w.Errors:
				return fmt.Errorf("watch files: %w", err)
			case <-ctx.Done():
				return nil
			}
		}
		for settled := time.After(100 * time.Millisecond); settled != nil; { // an editor writes in several steps
			select {
			case <-w.Events:
			case <-settled:
				settled = nil
			}
		}
	}
}

// checkDrills tells the mistakes of a file of drills.
func checkDrills(c *cli.Command, file string) error {
	text, err := readContract(file)
	if err != nil {
		return err
	}
	drills, problems := drill.Load(file, text, relative(file))
	if c.Bool("json") {
		if problems == nil {
			problems = syntax.Problems{}
		}
		if err := terminal.PrintJSON(c.Root().Writer, map[string]any{"file": file, "problems": problems}); err != nil {
			return err
		}
	} else {
		printProblems(problems)
		if len(problems) > 0 {
			fmt.Println(terminal.Bad.Sprintf("%s: %s", file, plural(len(problems), "mistake")))
		} else {
			fmt.Printf("%s %s: %s\n", terminal.Good.Sprint("✓ no mistakes in"), file, plural(len(drills), "drill"))
		}
	}
	if len(problems) > 0 {
		return terminal.ErrFound
	}
	return nil
}
