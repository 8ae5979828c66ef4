package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"kamerad.example/api"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/contract"
	"kamerad.example/core/drill"
)

// drillFromCommand is `kamerad drill from`.
func drillFromCommand() *cli.Command {
	return &cli.Command{
		Name:      "from",
		Usage:     "write a drill that does again what the clients of a session have done",
		ArgsUsage: "SESSION",
		Description: "The session has to be one that was opened with a seed: `kamerad session open NAME --seed 7`. " +
			"The drill expects the decisions that\n" +
			"there were, and what the server holds now; it is played once, to see that it comes to the same.",
		Flags: []cli.Flag{
			terminal.ServiceFlag(),
			&cli.StringFlag{Name: "out", Usage: "write it to a `FILE`, beside the contract, in place of printing it"},
			&cli.StringFlag{Name: "name", Usage: "what the drill is `CALLED`"},
			&cli.StringFlag{Name: "contract", Usage: "the `FILE` that it names as its contract, beside it"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			admin, id, _, err := oneSession(c, "SESSION", 1)
			if err != nil {
				return err
			}
			s, err := admin.Session(ctx, id)
			if err != nil {
				return err
			}
			file := c.String("contract")
			if file == "" {
				file = s.Contract + ".kam"
			}
			written, err := admin.DrillOf(ctx, id, c.String("name"), file)
			if err != nil {
				return err
			}
			if out := c.String("out"); out != "" {
				f, err := os.OpenFile(out, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
				if errors.Is(err, os.ErrExist) {
					return fmt.Errorf("write %s: there is a file of that name; remove it, or name another", out)
				}
				if err == nil {
					_, err = f.WriteString(written.Text)
					err = errors.Join(err, f.Close())
				}
				if err != nil {
					return fmt.Errorf("write the drill: %w", err)
				}
			} else {
				fmt.Fprint(c.Root().Writer, written.Text)
			}
			return playWritten(ctx, admin, c, s, file, written)
		},
	}
}

// playWritten plays a written drill on the session's own version, and says on the standard error what came of it.
//
// The drill goes to standard output and this to standard error, so that the first can be written to a
// file by the shell.
func playWritten(
	ctx context.Context, admin api.Client, c *cli.Command, s api.Session, file string, written api.WrittenDrill,
) error {
	version, err := admin.Version(ctx, s.Contract, s.Version)
	if err != nil {
		return err
	}
	open := func(name string) (string, error) {
		if name == file {
			return version.Source, nil
		}
		return contract.Files(version.Files).Open(name)
	}
	name := "the drill"
	if out := c.String("out"); out != "" {
		name = filepath.Base(out)
	}
	list, problems := drill.Load(name, written.Text, open)
	if len(problems) > 0 {
		return fmt.Errorf("read what was written: %w", problems)
	}
	report, err := drill.All(ctx, list, drill.Round{})
	if err != nil {
		return err
	}
	if written.Left > 0 {
		fmt.Fprintln(
			os.Stderr, terminal.Warn.Sprintf(
				"%s that no drill can say stand as comments", plural(written.Left, "message"),
			),
		)
	}
	r := report.Results[0]
	if !r.Passed {
		printDrill(os.Stderr, r)
		return terminal.ErrFound
	}
	fmt.Fprintf(
		os.Stderr, "%s: %d ticks, %.1f s of play\n", terminal.Good.Sprint("✓ played again, it comes to the same"),
		r.Ticks,
		r.Virtual.Seconds(),
	)
	return nil
}
