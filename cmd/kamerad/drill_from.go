package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

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
		Description: "With --from, the drill begins from the session's recording at that tick, which is written " +
			"beside it; it goes on to the tick --to.\n" +
			"Without, the session has to be one that was opened with a seed, `kamerad session open NAME --seed 7`, " +
			"and the drill begins with it.\n" +
			"It expects the decisions that there were, and what the server held at its end; it is played once, to " +
			"see that it comes to the same.",
		Flags: []cli.Flag{
			terminal.ServiceFlag(),
			&cli.StringFlag{Name: "out", Usage: "write it to a `FILE`, beside the contract, in place of printing it"},
			&cli.StringFlag{Name: "name", Usage: "what the drill is `CALLED`"},
			&cli.StringFlag{Name: "contract", Usage: "the `FILE` that it names as its contract, beside it"},
			&cli.Int64Flag{Name: "from", Usage: "begin with this `TICK` of the recording"},
			&cli.Int64Flag{Name: "to", Usage: "end with this `TICK` of the recording, not with its end"},
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
			w := &writtenFiles{
				contract: c.String("contract"),
				out:      c.String("out"),
				version:  s.Version,
				of:       s.Contract,
			}
			if w.contract == "" {
				w.contract = s.Contract + ".kam"
			}
			if c.IsSet("from") || c.IsSet("to") {
				err = w.writeStretch(ctx, admin, id, c)
			} else {
				w.drill, err = admin.DrillOf(ctx, id, c.String("name"), w.contract)
			}
			if err != nil {
				return err
			}
			if w.out == "" {
				fmt.Fprint(c.Root().Writer, w.drill.Text)
			} else if err := writeNew(w.out, w.drill.Text, 0o600); err != nil {
				return err
			}
			return w.play(ctx, admin)
		},
	}
}

// writtenFiles are a drill that was written of a session, and what lies beside it.
type writtenFiles struct {
	drill     api.WrittenDrill
	out       string // its file; empty when it is printed
	contract  string // the file that it calls its contract
	of        string // the name of that contract in the service
	version   int
	recording string // the file from which it begins; empty for none
	recorded  string // what is in that
}

// writeStretch writes a drill of a stretch of a recording, and the recording up to that beside it.
func (w *writtenFiles) writeStretch(ctx context.Context, admin api.Client, id int64, c *cli.Command) (err error) {
	stem, is := strings.CutSuffix(w.out, ".drill")
	if !is || c.Int64("from") < 0 {
		return errors.New("write a drill from a recording: name its file with --out, such as wound.drill; the " +
			"recording is written beside it as wound.ndjson, up to the tick --from")
	}
	path := stem + exportSuffix
	w.recording = filepath.Base(path)
	w.drill, err = admin.DrillOfStretch(ctx, id, api.DrillStretch{
		From:      c.Int64("from"),
		To:        c.Int64("to"),
		Name:      c.String("name"),
		Contract:  w.contract,
		Recording: w.recording,
	})
	if err != nil {
		return err
	}
	var recorded strings.Builder
	if err := admin.Export(ctx, id, c.Int64("from"), api.FormLines, &recorded); err != nil {
		return err
	}
	w.recorded = recorded.String()
	return writeNew(path, w.recorded, 0o600)
}

// writeNew writes a file that must not be there yet, with a mode: 0600 is for its owner alone, as a recording is, which
// has the session's key.
func writeNew(path, text string, mode os.FileMode) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if errors.Is(err, os.ErrExist) {
		return fmt.Errorf("write %s: there is a file of that name; remove it, or name another", path)
	}
	if err == nil {
		_, err = f.WriteString(text)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	return nil
}

// play plays a written drill on the session's own version, and says on the standard error what came of it.
//
// The drill goes to standard output and this to standard error, so that the first can be written to a
// file by the shell.
func (w *writtenFiles) play(ctx context.Context, admin api.Client) error {
	version, err := admin.Version(ctx, w.of, w.version)
	if err != nil {
		return err
	}
	open := func(name string) (string, error) {
		switch name {
		case w.contract:
			return version.Source, nil
		case w.recording:
			return w.recorded, nil
		}
		return contract.Files(version.Files).Open(name)
	}
	name := "the drill"
	if w.out != "" {
		name = filepath.Base(w.out)
	}
	list, problems := drill.Load(name, w.drill.Text, open)
	if len(problems) > 0 {
		return fmt.Errorf("read what was written: %w", problems)
	}
	report, err := drill.All(ctx, list, drill.Round{})
	if err != nil {
		return err
	}
	if w.drill.Left > 0 {
		fmt.Fprintln(
			os.Stderr, terminal.Warn.Sprintf(
				"%s that no drill can say stand as comments", plural(w.drill.Left, "message"),
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
