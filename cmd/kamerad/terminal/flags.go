package terminal

import (
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"kamerad.example/core/wire"
)

// ErrFound says that the command ran and found something wrong: exit status 1. All other errors are exit status 2.
var ErrFound = errors.New("found something wrong")

// ServiceFlag is the address that commands reach the service at.
func ServiceFlag() cli.Flag {
	return &cli.StringFlag{
		Name:    "service",
		Usage:   "the service's `ADDRESS`",
		Value:   "http://127.0.0.1:7707",
		Sources: cli.EnvVars("KAMERAD_SERVICE"),
	}
}

// JSONFlag returns the flag --json.
func JSONFlag() cli.Flag { return &cli.BoolFlag{Name: "json", Usage: "print JSON"} }

// Words returns the arguments of a command, which wants from least to most of them (most < 0 means any number).
func Words(c *cli.Command, usage string, least, most int) ([]string, error) {
	args := c.Args().Slice()
	if len(args) < least || most >= 0 && len(args) > most {
		return nil, fmt.Errorf("%s: wrong number of arguments: use `%s %s`", c.FullName(), c.FullName(), usage)
	}
	return args, nil
}

// SessionArg reads a session's number.
func SessionArg(word string) (int64, error) {
	var id int64
	if _, err := fmt.Sscanf(word, "%d", &id); err != nil || id < 1 || fmt.Sprint(id) != word {
		return 0, fmt.Errorf("%q is no session's number; `kamerad session list` lists them", word)
	}
	return id, nil
}

// ClientNames returns the names of clients.
func ClientNames(list []wire.Client) (out []string) {
	for _, x := range list {
		out = append(out, x.Name)
	}
	return out
}
