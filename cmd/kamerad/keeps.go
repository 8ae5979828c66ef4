package main

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kamerad.example/api"
	"kamerad.example/cmd/kamerad/terminal"
)

// playerCommand is `kamerad player`.
func playerCommand() *cli.Command {
	flags := []cli.Flag{terminal.ServiceFlag(), terminal.JSONFlag()}
	contract := &cli.StringFlag{Name: "contract", Usage: "of the contract with this `NAME`"}
	return &cli.Command{
		Name: "player", Usage: "show and change what players keep from session to session",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list players, who changed last first", Flags: flags, Action: listPlayers},
			{Name: "show", Usage: "show what a player keeps", ArgsUsage: "NAME", Flags: flags, Action: showPlayer},
			{
				Name:      "set",
				Usage:     "give a player another value of something that they keep",
				ArgsUsage: "NAME KIND.PROPERTY VALUE",
				Description: "VALUE is JSON, such as 3 or '\"coral\"'; a word that is none is a text. The " +
					"player must not be in a " +
					"session of the contract.",
				Flags:  append(flags, contract),
				Action: setPlayer,
			},
			{
				Name:      "export",
				Usage:     "print what a player keeps as JSON",
				ArgsUsage: "NAME",
				Flags:     flags,
				Action:    exportPlayer,
			},
			{
				Name:      "delete",
				Usage:     "forget what a player keeps, of one contract or of all",
				ArgsUsage: "NAME",
				Flags:     append(flags, contract),
				Action:    deletePlayer,
			},
		},
	}
}

// printKept prints what players keep, as a table or as JSON.
func printKept(c *cli.Command, list []api.Kept) error {
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, list)
	}
	t := terminal.NewTable("Player", "Contract", "Keeps", "In session", "Changed")
	for _, k := range list {
		var values []string
		for _, name := range slices.Sorted(maps.Keys(k.Values)) {
			values = append(values, fmt.Sprintf("%s %s", name, terminal.Unquoted(k.Values[name])))
		}
		session := "–"
		if k.Session != 0 {
			session = fmt.Sprint(k.Session)
		}
		t.AppendRow([]any{
			terminal.Shown(k.Player), k.Contract, strings.Join(values, "\n"), session, terminal.FormatTime(k.ChangedAt),
		})
	}
	terminal.PrintTable(c.Root().Writer, t)
	return nil
}

// listPlayers is `kamerad player list`.
func listPlayers(ctx context.Context, c *cli.Command) error {
	list, err := api.Client{Service: c.String("service")}.Players(ctx)
	if err != nil {
		return err
	}
	if len(list) == 0 && !c.Bool("json") {
		fmt.Fprintln(c.Root().Writer, "Nobody keeps anything yet: a contract says `keep` of what players keep")
		return nil
	}
	return printKept(c, list)
}

// kept returns what the player keeps that the command names.
func kept(ctx context.Context, c *cli.Command) (admin api.Client, name string, list []api.Kept, err error) {
	args, err := terminal.Words(c, "NAME", 1, 1)
	if err != nil {
		return admin, "", nil, err
	}
	admin = api.Client{Service: c.String("service")}
	list, err = admin.Player(ctx, args[0])
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("player: nobody called %.40q keeps anything; `kamerad player list` lists who does", args[0])
	}
	return admin, args[0], list, err
}

// showPlayer is `kamerad player show`.
func showPlayer(ctx context.Context, c *cli.Command) error {
	_, _, list, err := kept(ctx, c)
	if err != nil {
		return err
	}
	return printKept(c, list)
}

// exportPlayer is `kamerad player export`.
func exportPlayer(ctx context.Context, c *cli.Command) error {
	_, _, list, err := kept(ctx, c)
	if err != nil {
		return err
	}
	return terminal.PrintJSON(c.Root().Writer, list)
}

// setPlayer is `kamerad player set`.
func setPlayer(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "NAME KIND.PROPERTY VALUE", 3, 3)
	if err != nil {
		return err
	}
	if c.String("contract") == "" {
		return fmt.Errorf("player set: say of which contract with --contract NAME")
	}
	value := json.RawMessage(args[2])
	if !json.Valid(value) {
		value, _ = json.Marshal(args[2]) // a string always marshals
	}
	admin := api.Client{Service: c.String("service")}
	list, err := admin.SetPlayer(ctx, args[0], c.String("contract"), map[string]json.RawMessage{args[1]: value})
	if err != nil {
		return err
	}
	return printKept(c, list)
}

// deletePlayer is `kamerad player delete`.
func deletePlayer(ctx context.Context, c *cli.Command) error {
	admin, name, _, err := kept(ctx, c)
	if err != nil {
		return err
	}
	deleted, err := admin.DeletePlayer(ctx, name, c.String("contract"))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, map[string]int64{"deleted": deleted})
	}
	fmt.Fprintf(
		c.Root().Writer, "%s forgot what %s keeps of %d contracts\n", terminal.Good.Sprint("✓"), terminal.Shown(name),
		deleted,
	)
	return nil
}
