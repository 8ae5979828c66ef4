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

// keepers are the commands about what players keep, or worlds.
type keepers struct {
	who  api.Keepers
	noun string // what one of them is called
}

// playerCommand is `kamerad player`.
func playerCommand() *cli.Command {
	k := keepers{api.Players, "player"}
	c := k.command("show and change what players keep from session to session, and who may not join")
	c.Commands = append(c.Commands, banCommands()...)
	return c
}

// worldCommand is `kamerad world`.
func worldCommand() *cli.Command {
	k := keepers{api.Worlds, "world"}
	return k.command("show and change what is kept of shared kinds, from session to session of a world")
}

// command returns the command of the keepers.
func (k keepers) command(usage string) *cli.Command {
	flags := []cli.Flag{terminal.ServiceFlag(), terminal.JSONFlag()}
	contract := &cli.StringFlag{Name: "contract", Usage: "of the contract with this `NAME`"}
	return &cli.Command{
		Name: k.noun, Usage: usage,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list who keeps something, what changed last first", Flags: flags, Action: k.list},
			{Name: "show", Usage: "show what a " + k.noun + " keeps", ArgsUsage: "NAME", Flags: flags, Action: k.show},
			{
				Name:      "set",
				Usage:     "give a " + k.noun + " another value of something that it keeps",
				ArgsUsage: "NAME KIND.PROPERTY VALUE",
				Description: "VALUE is JSON, such as 3 or '\"coral\"'; a word that is none is a text. No session of " +
					"the contract may have the " + k.noun + ".",
				Flags:  append(flags, contract),
				Action: k.set,
			},
			{
				Name:      "export",
				Usage:     "print what a " + k.noun + " keeps as JSON",
				ArgsUsage: "NAME",
				Flags:     flags,
				Action:    k.export,
			},
			{
				Name: "delete",
				Usage: "forget what a " + k.noun + " keeps, of one contract or of all; recordings lose a player's " +
					"name",
				ArgsUsage: "NAME",
				Flags:     append(flags, contract),
				Action:    k.delete,
			},
		},
	}
}

// print prints what they keep, as a table or as JSON.
func (k keepers) print(c *cli.Command, list []api.Kept) error {
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, list)
	}
	t := terminal.NewTable(strings.ToUpper(k.noun[:1])+k.noun[1:], "Contract", "Keeps", "In session", "Changed")
	for _, x := range list {
		var values []string
		for _, name := range slices.Sorted(maps.Keys(x.Values)) {
			values = append(values, fmt.Sprintf("%s %s", name, terminal.Unquoted(x.Values[name])))
		}
		session := "–"
		if x.Session != 0 {
			session = fmt.Sprint(x.Session)
		}
		t.AppendRow([]any{
			terminal.Shown(x.Player), x.Contract, strings.Join(values, "\n"), session, terminal.FormatTime(x.ChangedAt),
		})
	}
	terminal.PrintTable(c.Root().Writer, t)
	return nil
}

// list is the command `list`.
func (k keepers) list(ctx context.Context, c *cli.Command) error {
	list, err := terminal.Service(c).Kept(ctx, k.who)
	if err != nil {
		return err
	}
	if len(list) == 0 && !c.Bool("json") {
		fmt.Fprintln(c.Root().Writer, "Nothing is kept yet: a contract says `keep` of what players keep, and worlds")
	} else if err := k.print(c, list); err != nil {
		return err
	}
	if k.who != api.Players || c.Bool("json") {
		return nil
	}
	bans, err := terminal.Service(c).Bans(ctx)
	if err == nil && len(bans) > 0 {
		fmt.Fprintf(c.Root().Writer, "\nBanned:\n")
		err = printBans(c, bans)
	}
	return err
}

// kept returns what the one keeps that the command names.
func (k keepers) kept(ctx context.Context, c *cli.Command) (list []api.Kept, err error) {
	args, err := terminal.Words(c, "NAME", 1, 1)
	if err != nil {
		return nil, err
	}
	list, err = terminal.Service(c).KeptBy(ctx, k.who, args[0])
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("no %s called %.40q keeps anything; `kamerad %[1]s list` lists who does", k.noun, args[0])
	}
	return list, err
}

// show is the command `show`.
func (k keepers) show(ctx context.Context, c *cli.Command) error {
	list, err := k.kept(ctx, c)
	if err != nil {
		return err
	}
	return k.print(c, list)
}

// export is the command `export`.
func (k keepers) export(ctx context.Context, c *cli.Command) error {
	list, err := k.kept(ctx, c)
	if err != nil {
		return err
	}
	return terminal.PrintJSON(c.Root().Writer, list)
}

// set is the command `set`.
func (k keepers) set(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "NAME KIND.PROPERTY VALUE", 3, 3)
	if err != nil {
		return err
	}
	if c.String("contract") == "" {
		return fmt.Errorf("%s set: say of which contract with --contract NAME", k.noun)
	}
	value := json.RawMessage(args[2])
	if !json.Valid(value) {
		value, _ = json.Marshal(args[2]) // a string always marshals
	}
	admin := terminal.Service(c)
	list, err := admin.SetKept(ctx, k.who, args[0], c.String("contract"), map[string]json.RawMessage{args[1]: value})
	if err != nil {
		return err
	}
	return k.print(c, list)
}

// delete is the command `delete`.
func (k keepers) delete(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "NAME", 1, 1)
	if err != nil {
		return err
	}
	name := args[0]
	forgotten, err := terminal.Service(c).DeleteKept(ctx, k.who, name, c.String("contract"))
	if err != nil {
		return err
	}
	out := c.Root().Writer
	if c.Bool("json") {
		return terminal.PrintJSON(out, forgotten)
	}
	fmt.Fprintf(
		out, "%s forgot what %s keeps of %d contracts\n", terminal.Good.Sprint("✓"), terminal.Shown(name),
		forgotten.Kept,
	)
	if k.who != api.Players {
		return nil
	}
	fmt.Fprintf(out, "  %d recordings are nameless now", forgotten.Nameless)
	if forgotten.Deleted > 0 {
		fmt.Fprintf(out, ", %d could not be played again and are deleted", forgotten.Deleted)
	}
	fmt.Fprintln(out)
	if len(forgotten.Open) > 0 {
		fmt.Fprintf(
			out, "%s sessions that are open still have the name: %v; once they have closed, say it again\n",
			terminal.Warn.Sprint("!"), forgotten.Open,
		)
	}
	return nil
}
