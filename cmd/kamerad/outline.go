package main

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/asyncapi"
	"kamerad.example/core/contract"
)

// outlineCommand is `kamerad outline`.
func outlineCommand() *cli.Command {
	return &cli.Command{
		Name:        "outline",
		Usage:       "show what clients are given of a contract",
		ArgsUsage:   "FILE",
		Description: eitherText,
		Flags: []cli.Flag{
			terminal.JSONFlag(),
			&cli.BoolFlag{
				Name:  "asyncapi",
				Usage: "print an AsyncAPI document of what clients and server say to each other",
			},
			terminal.ServiceFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			checked, err := checkedContract(ctx, c)
			if err != nil {
				return err
			}
			o := checked.Outline()
			if c.Bool("asyncapi") {
				document, err := asyncapi.Document(o)
				if err != nil {
					return err
				}
				_, err = c.Root().Writer.Write(document)
				return err
			}
			if c.Bool("json") {
				return terminal.PrintJSON(c.Root().Writer, map[string]any{"fingerprint": o.Fingerprint(), "outline": o})
			}
			fmt.Fprintf(
				c.Root().Writer, "%s as its clients know it, fingerprint %s\n", terminal.Bold.Sprint(o.Contract),
				terminal.Bold.Sprint(o.Fingerprint()),
			)
			printOutline(c.Root().Writer, o)
			return nil
		},
	}
}

// printOutline prints an outline as a table. Of a full one it shows the checks; of one for clients, the reasons, and
// the checks that a client can evaluate itself.
func printOutline(w io.Writer, o *contract.Outline) {
	fmt.Fprintf(
		w, "%d ticks per second, %s, roles: %s\n\n", o.Tick, plural(o.Seats, "seat"), strings.Join(o.Roles, ", "),
	)
	t := terminal.NewTable("Kind", "Name", "What", "Who")
	for _, k := range o.Kinds {
		each := "spawned"
		switch {
		case k.Shared:
			each = "shared"
		case k.Per != "":
			each = "per " + k.Per
		}
		if len(k.Parts) > 0 {
			each += " with " + strings.Join(k.Parts, ", ")
		}
		t.AppendRow([]any{terminal.Bold.Sprint(k.Name), "", each, "to " + k.To})
		for _, p := range k.Properties {
			t.AppendRow([]any{"", p.Name, clauses(p), "to " + p.To})
		}
		for _, r := range k.Requests {
			requestRows(t, r)
		}
		for _, e := range k.Events {
			t.AppendRow([]any{"", e.Name, fmt.Sprintf("event(%s)", params(e.Params)), ""})
		}
	}
	if len(o.Events) > 0 {
		t.AppendRow([]any{terminal.Bold.Sprint("all"), "", "", ""})
	}
	for _, e := range o.Events {
		t.AppendRow([]any{"", e.Name, fmt.Sprintf("event(%s)", params(e.Params)), ""})
	}
	publicRows(t, o)
	terminal.PrintTable(w, t)
}

// publicRows adds the public constants and settings to a table.
func publicRows(t table.Writer, o *contract.Outline) {
	if len(o.Constants)+len(o.Settings) > 0 {
		t.AppendRow([]any{terminal.Bold.Sprint("public"), "", "", "to everyone"})
	}
	for _, x := range o.Constants {
		const most = 60 // columns of a value
		value := text.Snip(string(x.Value), most, "…")
		t.AppendRow([]any{"", x.Name, fmt.Sprintf("constant %s = %s", x.Type, value), ""})
	}
	for _, x := range o.Settings {
		t.AppendRow([]any{"", x.Name, fmt.Sprintf("setting %s", x.Type), ""})
	}
}

// requestRows adds a request to a table, a row for each of its reasons.
//
// What a client is not given of a check is not shown: only that there is one, by its reason.
func requestRows(t table.Writer, r contract.RequestOutline) {
	what := fmt.Sprintf("request(%s)", params(r.Params))
	if r.Reply != nil {
		what += " -> " + r.Reply.String()
	}
	if r.Limit > 0 {
		what += fmt.Sprintf(", at most %d in %g s", r.Limit, float64(r.LimitMs)/1000)
	}
	if r.PauseMs > 0 {
		what += fmt.Sprintf(", %g s apart", float64(r.PauseMs)/1000)
	}
	t.AppendRow([]any{"", r.Name, what, "from " + r.From})
	for i, reason := range r.Reasons {
		switch {
		case r.Checks != nil:
			check := r.Checks[i]
			fails := string(check.Then)
			if check.Then != contract.ThenDrop {
				fails = fmt.Sprintf("%s %q", check.Then, check.Reason)
			}
			t.AppendRow([]any{"", "", terminal.Muted.Sprintf("check %s else %s", check.Text, fails), ""})
		case r.Known[i] != "":
			t.AppendRow([]any{"", "", terminal.Muted.Sprintf("%q unless %s", reason, r.Known[i]), ""})
		case reason != "":
			t.AppendRow([]any{"", "", terminal.Muted.Sprintf("%q, as the server finds", reason), ""})
		}
	}
}
