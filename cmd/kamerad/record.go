package main

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kamerad.example/api"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/record"
)

// recordCommand is `kamerad record`.
func recordCommand() *cli.Command {
	flags := []cli.Flag{terminal.ServiceFlag(), terminal.JSONFlag()}
	return &cli.Command{
		Name: "record", Usage: "list, show and delete what sessions have recorded",
		Description: "A service with a database records every session: all that came in, and checkpoints. A " +
			"recording has " +
			"the number of its session.",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list recordings, newest first", Flags: flags, Action: listRecordings},
			{Name: "show", Usage: "show a recording", ArgsUsage: "SESSION", Flags: flags, Action: showRecording},
			{
				Name:      "export",
				Usage:     "print a recording as lines of JSON: all that it takes to play it elsewhere",
				ArgsUsage: "SESSION",
				Description: "The first line has the contract and the session's key, by which every roll can be " +
					"told; the " +
					"others are calls. `kamerad replay FILE` plays it without a service.",
				Flags: []cli.Flag{
					terminal.ServiceFlag(),
					&cli.BoolFlag{Name: "csv", Usage: "print a table in place of lines of JSON, with as much in it"},
				},
				Action: exportRecording,
			},
			importCommand(),
			compareRecordingsCommand(),
			{
				Name:      "delete",
				Usage:     "delete the recording of a session that has closed, with its decisions",
				ArgsUsage: "SESSION",
				Flags:     flags,
				Action:    deleteRecording,
			},
		},
	}
}

// listRecordings is `kamerad record list`.
func listRecordings(ctx context.Context, c *cli.Command) error {
	list, err := terminal.Service(c).Recordings(ctx)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, list)
	}
	if len(list) == 0 {
		fmt.Fprintln(c.Root().Writer, "Nothing was recorded yet: kamerad session open CONTRACT")
		return nil
	}
	printRecordings(c, list...)
	return nil
}

// printRecordings prints recordings as a table.
func printRecordings(c *cli.Command, list ...api.Recording) {
	t := terminal.NewTable("Session", "Contract", "State", "Ticks", "Size", "Checkpoints", "Gaps", "Opened")
	for _, r := range list {
		what := "open"
		switch {
		case r.Engine == 0:
			what = "not recorded"
		case r.ClosedAt != nil:
			what = "closed"
		}
		t.AppendRow([]any{
			r.Session, fmt.Sprintf("%s %d", r.Contract, r.Version), what, r.LastTick, sizeText(r.Bytes), r.Checkpoints,
			r.Gaps,
			terminal.FormatTime(r.OpenedAt),
		})
	}
	terminal.AlignRight(t, 1, 4, 5, 6, 7)
	terminal.PrintTable(c.Root().Writer, t)
}

// sizeText returns a number of bytes for people.
func sizeText(bytes int64) string {
	switch {
	case bytes < 10_000:
		return fmt.Sprintf("%d B", bytes)
	case bytes < 10_000_000:
		return fmt.Sprintf("%d kB", bytes/1000)
	}
	return fmt.Sprintf("%d MB", bytes/1_000_000)
}

// showRecording is `kamerad record show`.
func showRecording(ctx context.Context, c *cli.Command) error {
	admin, id, _, err := oneSession(c, "SESSION", 1)
	if err != nil {
		return err
	}
	r, err := admin.Recording(ctx, id)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, r)
	}
	printRecordings(c, r)
	fmt.Fprintf(
		c.Root().Writer, "Engine %d, wire %d. `kamerad replay %d` plays it again, `kamerad why %d "+
			"ENTITY.PROPERTY` asks it.\n",
		r.Engine, r.Wire, r.Session, r.Session,
	)
	return nil
}

// exportRecording is `kamerad record export`.
func exportRecording(ctx context.Context, c *cli.Command) error {
	admin, id, _, err := oneSession(c, "SESSION", 1)
	if err != nil {
		return err
	}
	form := api.FormLines
	if c.Bool("csv") {
		form = api.FormTable
	}
	return admin.Export(ctx, id, -1, form, c.Root().Writer)
}

// deleteRecording is `kamerad record delete`.
func deleteRecording(ctx context.Context, c *cli.Command) error {
	admin, id, _, err := oneSession(c, "SESSION", 1)
	if err != nil {
		return err
	}
	r, err := admin.DeleteRecording(ctx, id)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, r)
	}
	fmt.Fprintf(
		c.Root().Writer, "%s deleted the recording of session %d (%s)\n", terminal.Good.Sprint("✓"), id,
		sizeText(r.Bytes),
	)
	return nil
}

// replayCommand is `kamerad replay`.
func replayCommand() *cli.Command {
	return &cli.Command{
		Name: "replay", Usage: "play a session again, and hold each frame against what was sent",
		ArgsUsage: "SESSION|FILE",
		Description: "The service plays the recording from the session's beginning, as fast as it can. With " +
			"--client, print " +
			"what that client held at the last tick that was played; with --state, what the server held.",
		Flags: []cli.Flag{
			terminal.ServiceFlag(), terminal.JSONFlag(),
			&cli.Int64Flag{Name: "to", Usage: "only up to this `TICK`"},
			&cli.StringFlag{Name: "client", Usage: "print what the client with this `NAME` or number held then"},
			&cli.BoolFlag{Name: "state", Usage: "print what the server held then"},
		},
		Action: runReplay,
	}
}

// runReplay is `kamerad replay`. What differs is exit status 1.
func runReplay(ctx context.Context, c *cli.Command) error {
	if file := c.Args().First(); strings.HasSuffix(file, exportSuffix) {
		return replayFile(ctx, c, file)
	}
	admin, id, _, err := oneSession(c, "SESSION", 1)
	if err != nil {
		return err
	}
	out := c.Root().Writer
	if c.Bool("state") || c.String("client") != "" {
		state, err := admin.PastState(ctx, id, c.Int64("to"), c.String("client"))
		if err != nil {
			return err
		}
		return terminal.PrintJSON(out, state)
	}
	r, err := admin.Replay(ctx, id, c.Int64("to"))
	if err != nil {
		return err
	}
	return printReplayed(c, r)
}

// exportSuffix is what files are called that `record export` has written.
const exportSuffix = ".ndjson"

// playerOf returns a player of an export in a file.
func playerOf(file string) (*record.Player, error) {
	head, recording, err := readExport(file)
	if err != nil {
		return nil, err
	}
	model, options, err := head.Load()
	if err != nil {
		return nil, fmt.Errorf("play %s: %w", file, err)
	}
	return record.NewPlayer(model, options, recording), nil
}

// readExport reads an export in a file.
func readExport(file string) (head record.Head, recording *record.Recording, err error) {
	f, err := os.Open(file)
	if err != nil {
		return head, nil, fmt.Errorf("read a recording: %w", err)
	}
	defer f.Close()
	head, recording, err = record.Import(f)
	if err != nil {
		err = fmt.Errorf("%s: %w", file, err)
	}
	return head, recording, err
}

// replayFile plays an export.
func replayFile(ctx context.Context, c *cli.Command, file string) error {
	p, err := playerOf(file)
	if err != nil {
		return err
	}
	to := c.Int64("to")
	if to <= 0 {
		to = math.MaxInt64
	}
	began := time.Now()
	err = p.Seek(ctx, to)
	if p.Session() == nil || ctx.Err() != nil {
		return fmt.Errorf("replay %s: %w", file, err)
	}
	if c.Bool("state") {
		return terminal.PrintJSON(c.Root().Writer, json.RawMessage(p.Session().State().JSON()))
	}
	out := api.Replayed{
		Tick:    p.Session().Now(),
		Ticks:   p.Played(),
		Seconds: time.Since(began).Seconds(),
		Digest:  fmt.Sprintf("%08x", p.Digest()),
	}
	if err != nil {
		out.Differs = err.Error()
	}
	return printReplayed(c, out)
}

// printReplayed prints what came of playing a session again. What differs is exit status 1.
func printReplayed(c *cli.Command, r api.Replayed) error {
	out := c.Root().Writer
	if c.Bool("json") {
		if err := terminal.PrintJSON(out, r); err != nil {
			return err
		}
	} else {
		rate := float64(r.Ticks) / max(r.Seconds, 1e-6)
		fmt.Fprintf(
			out, "Played again to tick %d: %d ticks in %.2f s (%.0f a second), digest %s\n", r.Tick, r.Ticks, r.Seconds,
			rate, r.Digest,
		)
	}
	if r.Differs != "" {
		if !c.Bool("json") {
			fmt.Fprintln(out, terminal.Bad.Sprint("✗ "), terminal.Shown(r.Differs))
		}
		return terminal.ErrFound
	}
	if !c.Bool("json") {
		fmt.Fprintln(out, terminal.Good.Sprint("✓"), "every frame is what was sent then, byte for byte")
	}
	return nil
}
