package terminal

import (
	"crypto/tls"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kamerad.example/auth"
)

// TicketFlag is how a player's ticket is given: not on the command line, where everyone on the machine can read it.
func TicketFlag() cli.Flag {
	return &cli.StringFlag{
		Name:  "ticket",
		Usage: "join with the ticket in this `FILE`, - for what is piped in; KAMERAD_TICKET holds one itself",
	}
}

// CAFlag names certificates that are believed.
func CAFlag() cli.Flag {
	return &cli.StringFlag{
		Name:    "ca",
		Usage:   "believe the certificates in this `FILE` as well",
		Sources: cli.EnvVars("KAMERAD_CA"),
	}
}

// Ticket returns the ticket that a command was given; empty for none.
func Ticket(c *cli.Command) (string, error) {
	var raw []byte
	var err error
	switch file := c.String("ticket"); file {
	case "":
		return os.Getenv("KAMERAD_TICKET"), nil
	case "-":
		raw, err = io.ReadAll(io.LimitReader(os.Stdin, auth.MaxTicket+2))
	default:
		raw, err = os.ReadFile(file)
	}
	if err != nil {
		return "", fmt.Errorf("read the ticket: %w", err)
	}
	text := strings.TrimSpace(string(raw))
	if text == "" || len(text) > auth.MaxTicket {
		return "", fmt.Errorf("read the ticket: there is none; `kamerad ticket` makes one")
	}
	return text, nil
}

// Believed returns which certificates a command believes that joins as a client.
func Believed(c *cli.Command) (*tls.Config, error) {
	return Believe(c.String("ca"), loginOf(c.String("service")).Certificates)
}

// KeyFlag names a key that makes tickets.
func KeyFlag() cli.Flag {
	return &cli.StringFlag{
		Name:    "key",
		Usage:   "sign tickets with the private key in this `FILE`",
		Sources: cli.EnvVars("KAMERAD_KEY_FILE"),
	}
}

// ReadKey reads the private key that a command was given.
func ReadKey(c *cli.Command) (auth.Key, error) {
	file := c.String("key")
	if file == "" {
		return auth.Key{}, fmt.Errorf("%s: say which key signs, with --key FILE; `kamerad key` makes one", c.FullName())
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return auth.Key{}, fmt.Errorf("read the key: %w", err)
	}
	k, err := auth.ParseKey(raw)
	if err != nil {
		return k, fmt.Errorf("%s: %w", file, err)
	}
	return k, nil
}

// TicketMaker returns what makes tickets for clients that a command plays, each a player of its own, when it was given
// a key; else nil.
func TicketMaker(c *cli.Command, session int64) (func(name, role string) (string, error), error) {
	if c.String("key") == "" {
		return nil, nil
	}
	k, err := ReadKey(c)
	if err != nil {
		return nil, err
	}
	return func(name, role string) (string, error) {
		now := time.Now()
		return auth.Sign(k, auth.Ticket{
			Player:  "kamerad:" + strings.ReplaceAll(name, " ", "-"),
			Name:    name,
			Role:    role,
			Session: session,
			Expires: now.Add(time.Minute),
		}, now)
	}, nil
}
