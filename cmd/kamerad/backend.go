package main

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"kamerad.example/cmd/kamerad/terminal"
)

// backendCommand is `kamerad backend`.
func backendCommand() *cli.Command {
	return &cli.Command{
		Name:  "backend",
		Usage: "list what the game's backend is told: what waits for its answer first, then the newest",
		Flags: []cli.Flag{terminal.ServiceFlag(), terminal.JSONFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := terminal.Words(c, "", 0, 0); err != nil {
				return err
			}
			list, err := terminal.Service(c).BackendCalls(ctx)
			if err != nil {
				return err
			}
			out := c.Root().Writer
			if c.Bool("json") {
				return terminal.PrintJSON(out, list)
			}
			if len(list) == 0 {
				fmt.Fprintln(
					out,
					"Nothing was told. `kamerad serve --backend URL` names a backend; see docs/backend.md",
				)
				return nil
			}
			t := terminal.NewTable("Number", "Event", "Session", "Who or why", "At", "Tries", "Answer")
			terminal.AlignRight(t, 1, 6)
			for _, x := range list {
				who := x.Name
				if x.Player != "" {
					who += " (" + x.Player + ")"
				}
				if who == "" {
					who = x.Reason
				}
				answer := terminal.Warn.Sprint("waits")
				switch {
				case x.AnsweredAt != nil:
					answer = terminal.Good.Sprint("✓ " + terminal.FormatTime(*x.AnsweredAt))
				case x.Error != "":
					answer = terminal.Bad.Sprint("✕ " + terminal.Shown(x.Error))
				}
				t.AppendRow([]any{
					x.Number, x.Event, x.Session, terminal.Shown(who), terminal.FormatTime(x.At), x.Tries, answer,
				})
			}
			terminal.PrintTable(out, t)
			return nil
		},
	}
}
