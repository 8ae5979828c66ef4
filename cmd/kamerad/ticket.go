package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"kamerad.example/auth"
	"kamerad.example/cmd/kamerad/terminal"
)

// ticketCommand is `kamerad ticket`.
func ticketCommand() *cli.Command {
	return &cli.Command{
		Name:  "ticket",
		Usage: "make a ticket, by which one player joins once",
		Description: "A game's backend makes its own, with any library for JSON Web Tokens: docs/door.md says what " +
			"stands in one. It is written to --out, or printed.",
		Flags: []cli.Flag{
			terminal.KeyFlag(), terminal.JSONFlag(),
			&cli.Int64Flag{Name: "session", Usage: "for the session with this `NUMBER`"},
			&cli.StringFlag{Name: "contract", Usage: "for any session of the contract with this `NAME`"},
			&cli.StringFlag{Name: "player", Usage: "the player's `IDENTITY`, by which it keeps things and is banned"},
			&cli.StringFlag{Name: "name", Usage: "the `NAME` that others see"},
			&cli.StringFlag{Name: "role", Usage: "the `ROLE`; without one, any that needs no ticket"},
			&cli.DurationFlag{Name: "for", Usage: "how long it is good for: a `TIME`", Value: 5 * time.Minute},
			&cli.StringFlag{Name: "out", Usage: "write it to this `FILE`, which only you can read"},
		},
		Action: makeTicket,
	}
}

// makeTicket makes one ticket.
func makeTicket(_ context.Context, c *cli.Command) error {
	if _, err := terminal.Words(c, "", 0, 0); err != nil {
		return err
	}
	k, err := terminal.ReadKey(c)
	if err != nil {
		return err
	}
	now := time.Now()
	t := auth.Ticket{
		Player:   c.String("player"),
		Name:     c.String("name"),
		Role:     c.String("role"),
		Session:  c.Int64("session"),
		Contract: c.String("contract"),
		Expires:  now.Add(c.Duration("for")),
	}
	if t.Name == "" {
		t.Name = t.Player
	}
	text, err := auth.Sign(k, t, now)
	if err != nil {
		return fmt.Errorf("%w; as in: kamerad ticket --session 2 --player diver-17 --name Ana --key backend.jwk", err)
	}
	out := c.Root().Writer
	if file := c.String("out"); file != "" {
		if err := os.WriteFile(file, []byte(text+"\n"), 0o600); err != nil {
			return fmt.Errorf("write the ticket: %w", err)
		}
		fmt.Fprintf(
			out,
			"%s %s: good once, until %s\n",
			terminal.Good.Sprint("✓"),
			file,
			terminal.FormatTime(t.Expires),
		)
		return nil
	}
	if c.Bool("json") {
		return terminal.PrintJSON(out, map[string]any{"ticket": text, "expires_at": t.Expires})
	}
	fmt.Fprintln(out, text)
	return nil
}

// keyCommand is `kamerad key`.
func keyCommand() *cli.Command {
	return &cli.Command{
		Name:      "key",
		Usage:     "make a key that signs tickets, and add what checks it to the keys of a service",
		ArgsUsage: "NAME",
		Description: "The private key goes to the game's backend; the service is given --keys with `serve " +
			"--tickets`, " +
			"and reads that file anew when it changes. To change a key: add another one, have the backend sign " +
			"with it, " +
			"and take the old one away by --remove.",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:  "keys",
				Usage: "the `FILE` of the keys that the service checks tickets with",
				Value: "tickets.json",
			},
			&cli.StringFlag{Name: "out", Usage: "write the private key to this `FILE`; NAME.jwk otherwise"},
			&cli.StringFlag{
				Name:  "algorithm",
				Usage: "`EdDSA`, or HS256 for a secret that both sides have",
				Value: "EdDSA",
			},
			&cli.BoolFlag{Name: "remove", Usage: "take the key away from --keys instead: its tickets are good no more"},
		},
		Action: changeKeys,
	}
}

// changeKeys adds a key to a file of keys, or removes it.
func changeKeys(_ context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "NAME", 1, 1)
	if err != nil {
		return err
	}
	file := c.String("keys")
	if c.Bool("remove") {
		return removeKey(c, file, args[0])
	}
	private := c.String("out")
	if private == "" {
		private = args[0] + ".jwk"
	}
	if err := addKey(file, private, args[0], auth.Algorithm(c.String("algorithm"))); err != nil {
		return err
	}
	fmt.Fprintf(
		c.Root().Writer,
		"%s %s signs tickets: keep it secret\n%[1]s %[3]s checks them: kamerad serve --tickets %[3]s\n",
		terminal.Good.Sprint("✓"),
		private,
		file,
	)
	return nil
}

// addKey makes a key, writes it to a file of its own, and adds what checks it to a file of keys, which may be new.
func addKey(file, private, name string, algorithm auth.Algorithm) error {
	k, err := auth.NewKey(name, algorithm)
	if err != nil {
		return err
	}
	set, err := readKeySet(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	half, err := k.Public()
	if err != nil {
		return err
	}
	set.Keys = append(set.Keys, half)
	whole, err := k.Private()
	if err != nil {
		return err
	}
	if err := writeKeySet(file, set, algorithm == auth.HS256); err != nil {
		return err
	}
	return writeNew(private, string(whole)+"\n", 0o600)
}

// removeKey takes a key away from a file of keys.
func removeKey(c *cli.Command, file, name string) error {
	set, err := readKeySet(file)
	if err != nil {
		return err
	}
	var kept auth.KeySet
	for _, raw := range set.Keys {
		k, err := auth.ParseKey(raw)
		if err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
		if k.Name != name {
			kept.Keys = append(kept.Keys, raw)
		}
	}
	switch {
	case len(kept.Keys) == len(set.Keys):
		return fmt.Errorf("remove a key: %s has none called %.64q", file, name)
	case len(kept.Keys) == 0:
		return fmt.Errorf(
			"remove a key: it is the only one of %s, and nobody could join without; add another one first",
			file,
		)
	}
	if err := writeKeySet(file, kept, false); err != nil {
		return err
	}
	fmt.Fprintf(c.Root().Writer, "%s tickets of the key %s are good no more\n", terminal.Good.Sprint("✓"), name)
	return nil
}

// readKeySet reads a file of keys.
func readKeySet(file string) (set auth.KeySet, err error) {
	raw, err := os.ReadFile(file)
	if err != nil {
		return set, fmt.Errorf("read the keys: %w", err)
	}
	if _, err := auth.ParseKeys(raw); err != nil {
		return set, fmt.Errorf("%s: %w", file, err)
	}
	return set, json.Unmarshal(raw, &set)
}

// writeKeySet writes a file of keys in one go, since a service reads it. One with secrets, and one that was closed to
// others, is closed to them.
func writeKeySet(file string, set auth.KeySet, secret bool) error {
	raw, err := json.MarshalIndent(set, "", "  ")
	if err != nil {
		return err
	}
	if _, err := auth.ParseKeys(raw); err != nil {
		return err
	}
	mode := fs.FileMode(0o644)
	if info, err := os.Stat(file); err == nil {
		mode = info.Mode().Perm()
	}
	if secret {
		mode = 0o600
	}
	temporary := file + ".new"
	if err := os.WriteFile(temporary, append(raw, '\n'), mode); err != nil {
		return fmt.Errorf("write the keys: %w", err)
	}
	if err := os.Chmod(temporary, mode); err != nil {
		return fmt.Errorf("write the keys: %w", err)
	}
	return os.Rename(temporary, file)
}
