package main

import (
	"context"
	"fmt"
	"os/user"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/service/httpapi"
	"kamerad.example/store"
)

// tokenCommand is `kamerad token`.
func tokenCommand() *cli.Command {
	database := &cli.BoolFlag{
		Name:  "first",
		Usage: "ask the database instead of the service, for which nobody has a token yet; see --database",
	}
	flags := []cli.Flag{terminal.ServiceFlag(), terminal.JSONFlag()}
	return &cli.Command{
		Name:  "token",
		Usage: "make, list and revoke the tokens of those who operate the service",
		Commands: []*cli.Command{
			{
				Name:      "create",
				Usage:     "make a token, and print it: it is shown once",
				ArgsUsage: "NAME",
				Description: "NAME says whose it is. The rights: look reads all that is not secret; play also " +
					"plays test " +
					"clients, drills and audits; run does everything, and sees seeds and what no client may see.",
				Flags: append(append(flags, databaseFlags()...), database,
					&cli.StringFlag{Name: "right", Usage: "`RIGHT`: look, play or run", Value: "look"},
					&cli.DurationFlag{Name: "for", Usage: "how long it is good for: a `TIME`; for ever otherwise"}),
				Action: createToken,
			},
			{Name: "list", Usage: "list tokens, newest first", Flags: flags, Action: listTokens},
			{
				Name:      "revoke",
				Usage:     "make a token void at once, with all that is signed in by it",
				ArgsUsage: "NUMBER",
				Flags:     flags,
				Action:    revokeToken,
			},
		},
	}
}

// createToken makes a token.
func createToken(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "NAME", 1, 1)
	if err != nil {
		return err
	}
	in := api.NewToken{
		Name:    args[0],
		Right:   c.String("right"),
		Seconds: int64(c.Duration("for") / time.Second),
	}
	if c.Duration("for") != 0 && in.Seconds == 0 {
		return fmt.Errorf("make a token: it is good for at least a second, not %s", c.Duration("for"))
	}
	var made api.Token
	if c.Bool("first") {
		made, err = firstToken(ctx, c, in)
	} else {
		made, err = terminal.Service(c).MakeToken(ctx, in)
	}
	if err != nil {
		return err
	}
	out := c.Root().Writer
	if c.Bool("json") {
		return terminal.PrintJSON(out, made)
	}
	fmt.Fprintln(out, made.Token)
	return nil
}

// firstToken makes a token in the database: whoever has that may do everything anyway.
func firstToken(ctx context.Context, c *cli.Command, in api.NewToken) (made api.Token, err error) {
	address, err := databaseOf(c)
	if err != nil {
		return made, err
	}
	db, err := store.Open(ctx, address)
	if err != nil {
		return made, err
	}
	defer db.Close()
	by := "the database"
	if who, err := user.Current(); err == nil {
		by = who.Username + " by the database"
	}
	row, err := httpapi.NewTokenRow(in, by, time.Now())
	if err != nil {
		return made, err
	}
	text := auth.NewToken()
	row, err = db.AddToken(ctx, row, auth.HashToken(text))
	if err != nil {
		return made, err
	}
	return api.Token{
		ID:        row.ID,
		Name:      row.Name,
		Right:     row.Access,
		MadeBy:    row.MadeBy,
		MadeAt:    row.MadeAt,
		ExpiresAt: row.ExpiresAt,
		Token:     text,
	}, nil
}

// listTokens is `kamerad token list`.
func listTokens(ctx context.Context, c *cli.Command) error {
	list, err := terminal.Service(c).Tokens(ctx)
	if err != nil {
		return err
	}
	return printTokens(c, list)
}

// printTokens prints tokens as a table or as JSON.
func printTokens(c *cli.Command, list []api.Token) error {
	out := c.Root().Writer
	if c.Bool("json") {
		return terminal.PrintJSON(out, list)
	}
	if len(list) == 0 {
		fmt.Fprintln(out, "There are no tokens yet: kamerad token create NAME --right run --first")
		return nil
	}
	when := func(t *time.Time, none string) string {
		if t == nil {
			return none
		}
		return terminal.FormatTime(*t)
	}
	t := terminal.NewTable("Number", "Name", "May", "Made", "By", "Last used", "Good until")
	for _, x := range list {
		var until string
		switch {
		case x.RevokedAt != nil:
			until = terminal.Bad.Sprint("✕ revoked " + terminal.FormatTime(*x.RevokedAt))
		case x.ExpiresAt != nil && x.ExpiresAt.Before(time.Now()):
			until = terminal.Warn.Sprint("expired " + terminal.FormatTime(*x.ExpiresAt))
		default:
			until = when(x.ExpiresAt, "for ever")
		}
		t.AppendRow([]any{
			x.ID, terminal.Shown(x.Name), x.Right, terminal.FormatTime(x.MadeAt), terminal.Shown(x.MadeBy),
			when(x.UsedAt, "never"), until,
		})
	}
	terminal.PrintTable(out, t)
	return nil
}

// revokeToken is `kamerad token revoke`.
func revokeToken(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "NUMBER", 1, 1)
	if err != nil {
		return err
	}
	id, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil {
		return fmt.Errorf("revoke a token: %.40q is no token's number; `kamerad token list` lists them", args[0])
	}
	list, err := terminal.Service(c).RevokeToken(ctx, id)
	if err != nil {
		return err
	}
	return printTokens(c, list)
}
