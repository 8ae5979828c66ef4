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
	"kamerad.example/cmd/kamerad/player"
	"kamerad.example/cmd/kamerad/terminal"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	code := run(ctx, os.Args)
	stop()
	os.Exit(code)
}

// run runs a command line and returns the exit status: 0, 1 when a command found something wrong, 2 when it could not
// be run.
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
			player.JoinCommand(),
			player.AskCommand(),
			watchCommand(),
			trafficCommand(),
			flowCommand(),
			whyCommand(),
			replayCommand(),
			recordCommand(),
			playerCommand(),
			worldCommand(),
			loginCommand(),
			logoutCommand(),
			tokenCommand(),
			keyCommand(),
			ticketCommand(),
			secureCommand(),
			backendCommand(),
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
	case errors.Is(err, terminal.ErrFound):
		return 1
	}
	fmt.Fprintf(os.Stderr, "kamerad: %s\n", terminal.ShownLines(err.Error()))
	return 2
}
