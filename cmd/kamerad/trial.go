package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"kamerad.example/api"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/audit"
	"kamerad.example/core/drill"
)

// publishedFlag is the flag that has the service run a trial in place of this program.
func publishedFlag() cli.Flag {
	return &cli.StringFlag{
		Name:  "published",
		Usage: "have the service do it, on a published `NAME[@VERSION]`; it keeps what came of it",
	}
}

// versionOf reads NAME[@VERSION]; 0 is the newest version.
//
// NAME alone is the newest version; NAME@0 is refused, as it would mean the same and look like
// something else.
func versionOf(text string) (name string, version int, err error) {
	name, number, has := strings.Cut(text, "@")
	if has {
		version, err = strconv.Atoi(number)
	}
	if err != nil || name == "" || version < 0 || has && version == 0 {
		return "", 0, fmt.Errorf("read --published: a contract's name, or NAME@VERSION, not %q", text)
	}
	return name, version, nil
}

// drillPublished lets the service run drills on a published version.
//
// Flags that need this machine's files or terminal are refused rather than ignored.
func drillPublished(ctx context.Context, c *cli.Command, paths []string) error {
	for _, flag := range []string{"only", "faults", "trace"} {
		if c.String(flag) != "" {
			return fmt.Errorf("run drills in the service: --%s is for drills that are run here", flag)
		}
	}
	if c.Bool("watch") {
		return fmt.Errorf("run drills in the service: --watch is for drills that are run here")
	}
	files, err := drillFiles(paths)
	if err != nil {
		return err
	}
	in := api.StartTrial{
		What:   "drills",
		Drills: map[string]string{},
		Shake:  c.Int("shake"),
		Seed:   c.Uint64("seed"),
	}
	for _, file := range files {
		text, err := readContract(file)
		if err != nil {
			return err
		}
		name := filepath.Base(file)
		if _, twice := in.Drills[name]; twice {
			return fmt.Errorf("run drills in the service: two files are called %s", name)
		}
		in.Drills[name] = text
	}
	t, err := tryPublished(ctx, c, in)
	if err != nil {
		return err
	}
	var report drill.Report
	if err := json.Unmarshal(t.Report, &report); err != nil {
		return fmt.Errorf("read what came of trial %d: %w", t.ID, err)
	}
	if !c.Bool("json") {
		for _, r := range report.Results {
			printDrill(c.Root().Writer, r)
		}
	}
	return endDrills(c, &report)
}

// auditPublished lets the service audit a published version.
//
// The time that it took is the service's, waiting for its turn included.
func auditPublished(ctx context.Context, c *cli.Command) error {
	t, err := tryPublished(ctx, c, api.StartTrial{
		What:   "audit",
		Seed:   c.Uint64("seed"),
		Rounds: c.Int("rounds"),
		Ticks:  c.Int("ticks"),
	})
	if err != nil {
		return err
	}
	var report audit.Report
	if err := json.Unmarshal(t.Report, &report); err != nil {
		return fmt.Errorf("read what came of trial %d: %w", t.ID, err)
	}
	return endAudit(c, &report, t.EndedAt.Sub(t.AskedAt))
}

// tryPublished starts a trial and waits for its end. When it is interrupted the trial is stopped.
//
// It asks five times a second how far the trial is: trials take seconds to minutes, and the service
// keeps what came of them.
func tryPublished(ctx context.Context, c *cli.Command, in api.StartTrial) (t api.Trial, err error) {
	name, version, err := versionOf(c.String("published"))
	if err != nil {
		return t, err
	}
	admin := terminal.Service(c)
	t, err = admin.StartTrial(ctx, name, version, in)
	var problem *api.Problem
	if errors.As(err, &problem) && problem.Problems != nil {
		printProblems(problem.Problems)
		return t, fmt.Errorf("%s", problem.Detail)
	}
	if err != nil {
		return t, err
	}
	bar := func(int) {}
	stop := func() {}
	if !c.Bool("json") && term.IsTerminal(int(os.Stderr.Fd())) {
		bar, stop = progressBar(fmt.Sprintf("trial %d of %s version %d", t.ID, t.Contract, t.Version), t.Of)
	}
	defer stop()
	id := t.ID
	for !t.Over() {
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer cancel()
			_, err := admin.StopTrial(last, id)
			return t, errors.Join(ctx.Err(), err)
		}
		t, err = admin.Trial(ctx, id)
		if err != nil && ctx.Err() == nil {
			return t, err
		}
		bar(t.Done)
	}
	if t.State != "ended" {
		return t, fmt.Errorf("trial %d of %s version %d: %s", t.ID, t.Contract, t.Version, t.Summary)
	}
	return t, nil
}

// printTrials lists what a version was put to.
//
// The newest eight are shown; the service returns them newest first.
func printTrials(w io.Writer, list []api.Trial) {
	if len(list) == 0 {
		fmt.Fprintln(w, terminal.Muted.Sprint("not put to drills or an audit yet"))
		return
	}
	fmt.Fprintln(w)
	t := terminal.NewTable("Trial", "Of", "", "What came of it", "Asked")
	for _, x := range list[:min(len(list), 8)] {
		sign := terminal.Muted.Sprint("…")
		words := x.Summary
		switch {
		case x.Passed != nil && *x.Passed:
			sign = terminal.Good.Sprint("✓")
		case x.Passed != nil:
			sign = terminal.Bad.Sprint("✕")
		case x.Over():
			sign = terminal.Warn.Sprint("–")
		case x.State == "running":
			words = fmt.Sprintf("running: %d of %d done", x.Done, x.Of)
		default:
			words = "waits for its turn"
		}
		t.AppendRow([]any{x.ID, x.What, sign, words, terminal.FormatTime(x.AskedAt)})
	}
	terminal.PrintTable(w, t)
	if len(list) > 8 {
		fmt.Fprintln(w, terminal.Muted.Sprintf("and %d before those", len(list)-8))
	}
	fmt.Fprintln(w)
}
