package main

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"kamerad.example/api"
	"kamerad.example/cmd/kamerad/terminal"
)

// banCommands are the commands of `kamerad player` about who may not join.
func banCommands() []*cli.Command {
	flags := []cli.Flag{terminal.ServiceFlag(), terminal.JSONFlag()}
	contract := &cli.StringFlag{Name: "contract", Usage: "from sessions of the contract with this `NAME` alone"}
	return []*cli.Command{
		{
			Name:      "ban",
			Usage:     "keep a player out, and take the seats that it has",
			ArgsUsage: "PLAYER",
			Description: "PLAYER is the identity that the player's tickets have; without tickets it is the name, " +
				"which " +
				"keeps out only who comes back under it.",
			Flags: append(flags, contract,
				&cli.DurationFlag{Name: "for", Usage: "how long: a `TIME`; for good otherwise"},
				&cli.StringFlag{Name: "reason", Usage: "the `TEXT` that the player is told"}),
			Action: ban,
		},
		{
			Name:      "unban",
			Usage:     "let a player in again",
			ArgsUsage: "PLAYER",
			Flags:     append(flags, contract),
			Action:    unban,
		},
		{Name: "bans", Usage: "list who is banned, newest first", Flags: flags, Action: listBans},
	}
}

// ban is `kamerad player ban`.
func ban(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "PLAYER", 1, 1)
	if err != nil {
		return err
	}
	in := api.SetBan{
		Player:   args[0],
		Contract: c.String("contract"),
		Reason:   c.String("reason"),
		Seconds:  int64(c.Duration("for") / time.Second),
	}
	if c.Duration("for") != 0 && in.Seconds == 0 {
		return fmt.Errorf("ban %.80q: for at least a second, not %s", args[0], c.Duration("for"))
	}
	list, err := terminal.Service(c).Ban(ctx, in)
	if err != nil {
		return err
	}
	return printBans(c, list)
}

// unban is `kamerad player unban`.
func unban(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "PLAYER", 1, 1)
	if err != nil {
		return err
	}
	list, err := terminal.Service(c).LiftBan(ctx, args[0], c.String("contract"))
	if err != nil {
		return err
	}
	return printBans(c, list)
}

// listBans is `kamerad player bans`.
func listBans(ctx context.Context, c *cli.Command) error {
	list, err := terminal.Service(c).Bans(ctx)
	if err != nil {
		return err
	}
	return printBans(c, list)
}

// printBans prints bans as a table or as JSON.
func printBans(c *cli.Command, list []api.Ban) error {
	out := c.Root().Writer
	if c.Bool("json") {
		return terminal.PrintJSON(out, list)
	}
	if len(list) == 0 {
		fmt.Fprintln(out, "Nobody is banned.")
		return nil
	}
	t := terminal.NewTable("Player", "From", "Until", "Reason", "By", "Since")
	for _, b := range list {
		from := b.Contract
		if from == "" {
			from = "all"
		}
		until := "for good"
		if b.Until != nil {
			until = terminal.FormatTime(*b.Until)
		}
		t.AppendRow([]any{
			terminal.Shown(
				b.Player,
			), from, until, terminal.Shown(b.Reason), terminal.Shown(b.By), terminal.FormatTime(b.At),
		})
	}
	terminal.PrintTable(out, t)
	return nil
}
