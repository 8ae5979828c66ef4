package main

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/bytecode"
	"kamerad.example/core/findings"
	"kamerad.example/core/report"
)

// costCommand is `kamerad cost`.
func costCommand() *cli.Command {
	return &cli.Command{
		Name:        "cost",
		Usage:       "tell what values, requests and events take on the wire, and entities in memory",
		ArgsUsage:   "FILE",
		Description: eitherText,
		Flags: []cli.Flag{
			terminal.JSONFlag(), terminal.ServiceFlag(),
			&cli.IntFlag{Name: "clients", Usage: "how many `CLIENTS` there are", Value: 16},
			&cli.StringSliceFlag{
				Name:  "entities",
				Usage: "how many there are of a kind, as `KIND=N`; may be given again",
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			checked, err := checkedContract(ctx, c)
			if err != nil {
				return err
			}
			entities, err := counts(c.StringSlice("entities"))
			if err != nil {
				return err
			}
			cost, err := report.NewCost(checked, c.Int("clients"), entities)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return terminal.PrintJSON(c.Root().Writer, cost)
			}
			printCost(c.Root().Writer, checked.Name, cost)
			return nil
		},
	}
}

// counts reads KIND=N.
//
// Whether there is such a kind, and so many of it can be, is checked where the cost is computed.
func counts(list []string) (map[string]int, error) {
	out := map[string]int{}
	for _, word := range list {
		kind, number, _ := strings.Cut(word, "=")
		n, err := strconv.Atoi(number)
		if err != nil || kind == "" {
			return nil, fmt.Errorf("read --entities %q: it is a kind and a number, as in --entities Crate=20", word)
		}
		out[kind] = n
	}
	return out, nil
}

// printCost prints what a contract takes.
func printCost(w io.Writer, name string, cost *report.Cost) {
	var there []string
	for kind, n := range cost.Entities {
		there = append(there, fmt.Sprintf("%d %s", n, kind))
	}
	slices.Sort(there)
	fmt.Fprintf(
		w, "%s with %s at %d ticks a second: %s\n", terminal.Bold.Sprint(name),
		plural(cost.Clients, "client"), cost.TickRate,
		strings.Join(there, ", "),
	)
	fmt.Fprintf(
		w,
		"One client gets, frame headers apart,\n  %s when it joins,\n"+
			"  %s at most in a tick in which everything changes,\n"+
			"  about %s in one in which what timers and motion change does (%.1f kB a second).\n\n",
		terminal.Bold.Sprintf("%d bytes", cost.Snapshot), terminal.Bold.Sprintf("%d bytes", cost.Most),
		terminal.Bold.Sprintf("%d bytes", cost.Typical), float64(cost.Typical*cost.TickRate)/1000,
	)
	for _, limit := range cost.Limits {
		printLimit(w, cost, limit)
	}
	if len(cost.Limits) > 0 {
		fmt.Fprintln(w)
	}
	fmt.Fprintf(
		w, "The service needs at most %s of memory for all this; `serve --session-memory` bounds it.\n\n",
		terminal.Bold.Sprint(megabytes(cost.Memory)),
	)
	printCostOfKinds(w, cost.Kinds)
	printCostRows(w, "Property", cost.Properties, "Goes to")
	printCostRows(w, "Request", cost.Requests, "From")
	printCostRows(w, "Event", cost.Events)
	if len(cost.Asked) > 0 {
		t := terminal.NewTable("Audience", "Of", "Pairs a tick", "Found by")
		terminal.AlignRight(t, 3)
		for _, a := range cost.Asked {
			found := string(a.Class)
			if a.Class == findings.ByAsking {
				found = terminal.Warn.Sprint("asking each pair")
			}
			t.AppendRow([]any{a.To, a.Of, a.Pairs, found})
		}
		terminal.PrintTable(w, t)
		fmt.Fprintln(w)
	}
	printCostOfBodies(w, cost.Bodies)
}

// printLimit prints how the bytes that a client of a role is sent compare with what there is to send.
func printLimit(w io.Writer, cost *report.Cost, limit report.LimitRow) {
	moves := cost.Typical * cost.TickRate
	share := fmt.Sprintf("what timers and motion change takes %d %% of that", 100*moves/limit.Bytes)
	if moves > limit.Bytes {
		share = terminal.Warn.Sprint(share + ", so that some of it always waits")
	}
	fmt.Fprintf(
		w, "Each %s is sent at most %s a second: to join takes %.1f s;\n  %s.\n", limit.Role,
		terminal.Bold.Sprintf("%d bytes", limit.Bytes), float64(cost.Snapshot)/float64(limit.Bytes), share,
	)
}

// printedBodies is how many bodies are printed, of those that may take the most steps.
const printedBodies = 20

// printCostOfBodies prints how many steps bodies take, and how they find what they go over.
func printCostOfBodies(w io.Writer, bodies []report.BodyRow) {
	if len(bodies) == 0 {
		return
	}
	t := terminal.NewTable("Body", "Line", "Steps at most", "Goes over")
	terminal.AlignRight(t, 2, 3)
	for _, b := range bodies[:min(len(bodies), printedBodies)] {
		var over []string
		for _, q := range b.Queries {
			over = append(over, queryWords(q))
		}
		t.AppendRow([]any{b.Of, b.Line, stepWords(b.Steps), strings.Join(over, "; ")})
	}
	terminal.PrintTable(w, t)
	if more := len(bodies) - printedBodies; more > 0 {
		fmt.Fprintf(w, "%s more; --json has all\n", plural(more, "body"))
	}
	fmt.Fprintln(w)
}

// stepWords says how many steps a body takes at most, and warns of more than it may.
func stepWords(steps int64) any {
	switch {
	case steps == report.EndlessSteps:
		return terminal.Warn.Sprint("no end")
	case steps > bytecode.MaxSteps:
		return terminal.Warn.Sprint(steps)
	}
	return steps
}

// queryWords says what a query goes over, and how that is found.
func queryWords(q report.QueryRow) string {
	switch q.By {
	case "each":
		return "each of " + q.Over
	case "number":
		return "how many " + q.Over
	case "nearest":
		return "the nearest " + q.Over
	}
	return q.Over + " by " + q.By
}

// printCostOfKinds prints the memory that the entities of each kind take.
func printCostOfKinds(w io.Writer, kinds []report.MemoryRow) {
	t := terminal.NewTable("Kind", "Entities", "Bytes of memory each", "and for each client told by itself")
	terminal.AlignRight(t, 2, 3, 4)
	for _, k := range kinds {
		private := any(k.Client)
		if k.Client == 0 {
			private = terminal.Muted.Sprint("–")
		}
		t.AppendRow([]any{k.Kind, k.Count, k.Each, private})
	}
	terminal.PrintTable(w, t)
	fmt.Fprintln(w)
}

// printCostRows prints how many bits each of the rows takes; tail names the column of whom it is about, if there is
// one.
//
// What goes to nobody takes nothing on the wire, and has no number.
func printCostRows(w io.Writer, title string, rows []report.CostRow, tail ...any) {
	t := terminal.NewTable(append([]any{title, "Bits at most", "Bits typically"}, tail...)...)
	terminal.AlignRight(t, 2, 3)
	for _, r := range rows {
		most := any(r.Most)
		typical := any(r.Typical)
		if r.To == "nobody" {
			most = terminal.Muted.Sprint("–")
			typical = terminal.Muted.Sprint("–")
		}
		t.AppendRow([]any{r.Name, most, typical, r.To}[:3+len(tail)])
	}
	terminal.PrintTable(w, t)
	fmt.Fprintln(w)
}

// megabytes returns a size as text.
//
// It rounds up from 10 MB on, since what is printed is a bound.
func megabytes(bytes int64) string {
	if bytes < 10<<20 {
		return fmt.Sprintf("%.1f MB", float64(bytes)/(1<<20))
	}
	return fmt.Sprintf("%d MB", (bytes+1<<20-1)>>20)
}
