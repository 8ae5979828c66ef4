// Command kamerad checks contracts, runs them as sessions, and joins, asks and watches as a client.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/urfave/cli/v3"
)

// errFound says that the command ran and found something wrong: exit status 1. All other errors are exit status 2.
var errFound = errors.New("found something wrong")

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	code := run(ctx, os.Args)
	stop()
	os.Exit(code)
}

func run(ctx context.Context, args []string) int {
	app := &cli.Command{
		Name:                  "kamerad",
		Usage:                 "one contract for a multiplayer game's state: checked, run, watched",
		EnableShellCompletion: true,
		HideVersion:           true,
		Action: func(_ context.Context, c *cli.Command) error {
			if name := c.Args().First(); name != "" {
				return fmt.Errorf("there is no command %q; `kamerad help` lists them", name)
			}
			return cli.ShowRootCommandHelp(c)
		},
		Commands: []*cli.Command{
			serveCommand(),
			demoCommand(),
			checkCommand(),
			fmtCommand(),
			matrixCommand(),
			costCommand(),
			outlineCommand(),
			contractCommand(),
			sessionCommand(),
			joinCommand(),
			askCommand(),
			watchCommand(),
			loadCommand(),
			drillCommand(),
			auditCommand(),
			versionCommand(),
		},
		// Errors are told below, with our exit status.
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		OnUsageError:   func(_ context.Context, _ *cli.Command, err error, _ bool) error { return err },
	}
	err := app.Run(ctx, args)
	switch {
	case err == nil:
		return 0
	case errors.Is(err, errFound):
		return 1
	}
	fmt.Fprintf(os.Stderr, "kamerad: %s\n", shownLines(err.Error()))
	return 2
}

// serviceFlag is the address that commands reach the service at.
func serviceFlag() cli.Flag {
	return &cli.StringFlag{
		Name:    "service",
		Usage:   "the service's `ADDRESS`",
		Value:   "http://127.0.0.1:7707",
		Sources: cli.EnvVars("KAMERAD_SERVICE"),
	}
}

func jsonFlag() cli.Flag { return &cli.BoolFlag{Name: "json", Usage: "print JSON"} }

// words returns the arguments of a command, which wants from least to most of them (most < 0 means any number).
func words(c *cli.Command, usage string, least, most int) ([]string, error) {
	args := c.Args().Slice()
	if len(args) < least || most >= 0 && len(args) > most {
		return nil, fmt.Errorf("%s: wrong number of arguments: use `%s %s`", c.FullName(), c.FullName(), usage)
	}
	return args, nil
}

// sessionArg reads a session's number.
func sessionArg(word string) (int64, error) {
	var id int64
	if _, err := fmt.Sscanf(word, "%d", &id); err != nil || id < 1 || fmt.Sprint(id) != word {
		return 0, fmt.Errorf("%q is no session's number; `kamerad session list` lists them", word)
	}
	return id, nil
}
