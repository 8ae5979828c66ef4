package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/report"
)

const eitherText = "FILE is a contract file, or NAME@VERSION of what is published; version 0 is the newest."

// compareContracts compares two contracts, each a file or NAME@VERSION of what is published.
func compareContracts(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "A B", 2, 2)
	if err != nil {
		return err
	}
	var both [2]*contract.Contract
	for i, word := range args {
		both[i], err = eitherContract(ctx, c, word)
		if err != nil {
			return err
		}
	}
	x := report.Compare(both[0], both[1])
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, x)
	}
	printComparison(c.Root().Writer, args[0], args[1], x)
	return nil
}

// eitherContract reads a contract file, or NAME@VERSION from the service.
//
// A file of that name comes first, so that one with an @ in its name can be compared as well.
func eitherContract(ctx context.Context, c *cli.Command, word string) (*contract.Contract, error) {
	name, number, published := strings.Cut(word, "@")
	if _, err := os.Stat(word); err == nil || !published {
		return loadContract(word)
	}
	version, err := strconv.Atoi(number)
	if err != nil || version < 0 {
		return nil, fmt.Errorf("read %q: it is no file, and no published version as in wreck@2", word)
	}
	v, err := terminal.Service(c).Version(ctx, name, version)
	if err != nil {
		return nil, err
	}
	checked, problems := compile.LoadWith(word, v.Source, contract.Files(v.Files).Open)
	if checked == nil {
		return nil, fmt.Errorf("read %s: this version cannot be read any more: %w", word, problems)
	}
	return checked, nil
}

// printComparison prints how the versions a and b differ, and whether sessions and clients could go on.
//
// Differences are no mistake: the exit status is 0 either way.
func printComparison(w io.Writer, a, b string, x *report.Comparison) {
	if len(x.Changes) == 0 {
		fmt.Fprintf(w, "%s %s and %s say the same\n", terminal.Good.Sprint("="), a, b)
		return
	}
	t := terminal.NewTable("", "What", "Name", "Of it", "Was", "Is", "In a running session")
	signs := map[report.How]string{
		report.Added:   terminal.Good.Sprint("+ added"),
		report.Removed: terminal.Bad.Sprint("- removed"),
		report.Renamed: terminal.Note.Sprint("→ renamed"),
		report.Changed: terminal.Warn.Sprint("≠ changed"),
	}
	for _, d := range x.Changes {
		t.AppendRow(
			[]any{signs[d.How], d.What, d.Name, d.Aspect, clipped(d.Was), clipped(d.Is), terminal.Muted.Sprint(d.Then)},
		)
	}
	terminal.PrintTable(w, t)
	fmt.Fprintln(w)
	if x.TakesOver {
		fmt.Fprintf(w, "%s a running session could go on with it\n", terminal.Good.Sprint("✓"))
	} else {
		fmt.Fprintf(
			w, "%s a running session could not go on with it: %s\n", terminal.Bad.Sprint("✕"),
			strings.Join(x.Blocks, "; "),
		)
	}
	if x.Stay {
		fmt.Fprintf(w, "%s every client may stay\n", terminal.Good.Sprint("✓"))
	} else {
		fmt.Fprintf(
			w, "%s clients may stay that use none of: %s\n", terminal.Warn.Sprint("!"), strings.Join(x.Lose, ", "),
		)
	}
}

// clipped shortens what would not fit into a column.
func clipped(s string) string {
	if r := []rune(s); len(r) > 44 {
		return string(r[:43]) + "…"
	}
	return s
}
