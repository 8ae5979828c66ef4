package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/compile"
	"kamerad.example/core/record"
)

// compareRecordingsCommand is `kamerad record compare`.
func compareRecordingsCommand() *cli.Command {
	return &cli.Command{
		Name:      "compare",
		Usage:     "find the first tick in which two recordings differ, or one under two versions of its contract",
		ArgsUsage: "SESSION|FILE [SESSION|FILE]",
		Description: "Both are played side by side. What differs first is told with the reasons on both sides. A " +
			"FILE is what `kamerad\\n" +
			"record export` writes, called .ndjson; with files no service is needed. Exit status 1 when they differ.",
		Flags: []cli.Flag{
			terminal.ServiceFlag(), terminal.JSONFlag(),
			&cli.IntFlag{Name: "version", Usage: "play the one session under this `VERSION` of its contract"},
			&cli.StringFlag{Name: "contract", Usage: "play the one file with the contract in this `FILE`"},
		},
		Action: runCompareRecordings,
	}
}

// runCompareRecordings is `kamerad record compare`.
func runCompareRecordings(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "SESSION|FILE [SESSION|FILE]", 1, 2)
	if err != nil {
		return err
	}
	var found *record.Comparison
	if strings.HasSuffix(args[0], exportSuffix) {
		found, err = compareFiles(ctx, args, c.String("contract"))
	} else {
		found, err = compareSessions(ctx, c, args)
	}
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = terminal.PrintJSON(c.Root().Writer, found)
	} else {
		printDifferences(c.Root().Writer, found)
	}
	if err == nil && found.Tick > 0 {
		err = terminal.ErrFound
	}
	return err
}

// compareSessions has the service compare a session with another one, or with itself under another version.
func compareSessions(ctx context.Context, c *cli.Command, args []string) (*record.Comparison, error) {
	if (len(args) == 2) == c.IsSet("version") {
		return nil, errors.New("compare a recording: name another session, or --version of its contract")
	}
	id, err := terminal.SessionArg(args[0])
	if err != nil {
		return nil, err
	}
	with := int64(0)
	if len(args) == 2 {
		with, err = terminal.SessionArg(args[1])
		if err != nil {
			return nil, err
		}
	}
	out := &record.Comparison{}
	err = terminal.Service(c).Compare(ctx, id, with, c.Int("version"), out)
	return out, err
}

// compareFiles compares an export with another one, or with itself under the contract in a file.
func compareFiles(ctx context.Context, args []string, contractFile string) (*record.Comparison, error) {
	if (len(args) == 2) == (contractFile != "") {
		return nil, errors.New("compare a recording: name another file, or --contract with which to play it")
	}
	one, err := playerOf(args[0])
	if err != nil {
		return nil, err
	}
	if contractFile == "" {
		other, err := playerOf(args[1])
		if err != nil {
			return nil, err
		}
		return record.Compare(ctx, one, other)
	}
	head, recording, err := readExport(args[0])
	if err != nil {
		return nil, err
	}
	_, options, err := head.Load()
	if err != nil {
		return nil, err
	}
	text, err := readContract(contractFile)
	if err != nil {
		return nil, err
	}
	model, problems := compile.LoadWith(contractFile, text, beside(contractFile, nil))
	if model == nil {
		printProblems(problems)
		return nil, fmt.Errorf("compare with %s: its mistakes have to be mended first", contractFile)
	}
	return record.Compare(ctx, one, record.NewPlayer(model, options, recording))
}

// printDifferences prints what came of comparing two recordings.
func printDifferences(out io.Writer, r *record.Comparison) {
	if r.Tick == 0 {
		fmt.Fprintf(out, "%s they hold the same in all %s\n", terminal.Good.Sprint("✓"), plural(int(r.Ticks), "tick"))
		return
	}
	fmt.Fprintf(
		out, "%s they hold the same in %s, and differ in tick %d\n", terminal.Bad.Sprint("✗"),
		plural(int(r.Ticks), "tick"), r.Tick,
	)
	if r.Ended != "" {
		fmt.Fprintf(out, "  %s\n", terminal.Shown(r.Ended))
	}
	for _, d := range r.Decided {
		fmt.Fprintf(
			out, "  %s asked %s: %s in the first, %s in the second\n", terminal.Shown(d.Client), d.Request,
			terminal.Shown(d.Answers[0]), terminal.Shown(d.Answers[1]),
		)
	}
	if len(r.Values) > 0 {
		fmt.Fprintln(out)
		t := terminal.NewTable("", "First", "Second")
		for _, d := range r.Values {
			name := d.Of
			if d.Property != "" {
				name += "." + d.Property
			}
			t.AppendRow([]any{name, present(d.Values[0]), present(d.Values[1])})
		}
		terminal.PrintTable(out, t)
	}
	for i, reason := range r.Reasons {
		if reason == nil {
			continue
		}
		fmt.Fprintf(out, "\n%s\n", terminal.Bold.Sprint([2]string{"Why in the first", "Why in the second"}[i]))
		of := reason.Kind + "[" + strconv.FormatInt(reason.Serial, 10) + "]." + reason.Property
		reason.Deliveries = nil
		printReason(out, of, reason)
	}
}

// present returns a value for a cell, a dash for what is not there.
func present(value string) string {
	if value == "" {
		return "–"
	}
	return terminal.Shown(value)
}
