package main

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"os"

	"github.com/urfave/cli/v3"

	"kamerad.example/auth"
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

// backendOf returns the URL of the backend that is told what happens, and the key that signs that; an empty URL for
// none.
func backendOf(c *cli.Command) (address string, key auth.Key, err error) {
	address = c.String("backend")
	file := c.String("backend-key")
	if (address == "") != (file == "") {
		return "", key, fmt.Errorf("serve: --backend URL and --backend-key FILE go together")
	}
	if address == "" {
		return "", key, nil
	}
	u, err := url.Parse(address)
	isNear := err == nil && u.Scheme == "http" && isLoopback(net.JoinHostPort(u.Hostname(), "1"))
	if err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && !isNear {
		return "", key, fmt.Errorf(
			"read --backend: it is like https://backend.example/kamerad, or http: on this machine, with no " +
				"password in it",
		)
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return "", key, fmt.Errorf("read --backend-key: %w", err)
	}
	key, err = auth.ParseKey(raw)
	if err != nil {
		return "", key, fmt.Errorf("read --backend-key: %s: %w", file, err)
	}
	if !key.CanSign() {
		return "", key, fmt.Errorf(
			"read --backend-key: %s only checks; `kamerad key` writes the private one beside it",
			file,
		)
	}
	return address, key, nil
}
