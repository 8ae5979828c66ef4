package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"

	"github.com/urfave/cli/v3"

	"kamerad.example/api"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/record"
)

// importCommand is `kamerad record import`.
func importCommand() *cli.Command {
	return &cli.Command{
		Name:      "import",
		Usage:     "store an export in a service, as the recording of a session that has closed",
		ArgsUsage: "FILE",
		Description: "The service plays it to its end first, and stores none that does not come to what was sent " +
			"then. The text of its contract\n" +
			"has to be published there: --publish does it.",
		Flags: []cli.Flag{
			terminal.ServiceFlag(), terminal.JSONFlag(),
			&cli.BoolFlag{Name: "publish", Usage: "publish its contract, if no version has that text"},
		},
		Action: runImport,
	}
}

// runImport is `kamerad record import`.
func runImport(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "FILE", 1, 1)
	if err != nil {
		return err
	}
	text, err := os.ReadFile(args[0])
	if err != nil {
		return fmt.Errorf("read a recording: %w", err)
	}
	admin := terminal.Service(c)
	r, err := admin.Import(ctx, bytes.NewReader(text))
	var problem *api.Problem
	isUnpublished := errors.As(err, &problem) && problem.Status == http.StatusConflict
	if isUnpublished && c.Bool("publish") {
		head, _, wrong := record.Import(bytes.NewReader(text))
		if wrong != nil {
			return wrong
		}
		if _, err := admin.Publish(ctx, head.Contract+".kam", head.Source, head.Files); err != nil {
			return err
		}
		r, err = admin.Import(ctx, bytes.NewReader(text))
	}
	if isUnpublished && err != nil {
		return fmt.Errorf("%w: kamerad record import %s --publish", err, args[0])
	}
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, r)
	}
	fmt.Fprintf(
		c.Root().Writer, "%s imported as session %d: %d ticks of %s %d\n", terminal.Good.Sprint("✓"), r.Session,
		r.LastTick, r.Contract, r.Version,
	)
	return nil
}
