package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"kamerad.example/api"
	"kamerad.example/cmd/kamerad/terminal"
)

// loginCommand is `kamerad login`.
func loginCommand() *cli.Command {
	return &cli.Command{
		Name:      "login",
		Usage:     "keep the token for a service, so that commands may use it",
		ArgsUsage: "[ADDRESS]",
		Description: "The token is asked for, or read from what is piped in: it never stands on a command line. It " +
			"is " +
			"kept in a file that only you can read.\nIn scripts, KAMERAD_TOKEN does the same.",
		Flags: []cli.Flag{
			terminal.ServiceFlag(),
			&cli.StringFlag{
				Name:    "ca",
				Usage:   "believe the certificates in this `FILE` as well, for this service",
				Sources: cli.EnvVars("KAMERAD_CA"),
			},
		},
		Action: login,
	}
}

// login asks for a token, tries it, and keeps it.
func login(ctx context.Context, c *cli.Command) error {
	address, err := loginAddress(c)
	if err != nil {
		return err
	}
	kept := terminal.Login{}
	if file := c.String("ca"); file != "" {
		raw, err := os.ReadFile(file)
		if err != nil {
			return fmt.Errorf("log in: %w", err)
		}
		kept.Certificates = string(raw)
	}
	believed, err := terminal.Believe("", kept.Certificates)
	if err != nil {
		return fmt.Errorf("log in: %w", err)
	}
	kept.Token, err = askToken(address)
	if err != nil {
		return fmt.Errorf("log in: %w", err)
	}
	service := api.Client{Service: address, Token: kept.Token, TLS: believed}
	who, err := service.Me(ctx)
	if err != nil {
		return fmt.Errorf("log in: %w", err)
	}
	if err := terminal.SaveLogin(address, &kept); err != nil {
		return err
	}
	out := c.Root().Writer
	if who.Open {
		fmt.Fprintf(out, "%s %s wants no tokens: anyone may do everything there\n", terminal.Warn.Sprint("!"), address)
		return nil
	}
	fmt.Fprintf(
		out, "%s logged in to %s as %s, who may %s\n", terminal.Good.Sprint("✓"), address, terminal.Shown(who.Name),
		who.Right,
	)
	if os.Getenv("KAMERAD_SERVICE") != address {
		fmt.Fprintf(out, "  commands go there with --service %s, or after: export KAMERAD_SERVICE=%[1]s\n", address)
	}
	return nil
}

// loginAddress returns the address of the service to log in to, or out of.
func loginAddress(c *cli.Command) (string, error) {
	args, err := terminal.Words(c, "[ADDRESS]", 0, 1)
	if err != nil {
		return "", err
	}
	address := c.String("service")
	if len(args) == 1 {
		address = args[0]
	}
	if !strings.HasPrefix(address, "https://") && !strings.HasPrefix(address, "http://") {
		return "", fmt.Errorf("%s: an address is like https://wreck.example:7707, not %.80q", c.FullName(), address)
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.User != nil {
		return "", fmt.Errorf("%s: an address is like https://wreck.example:7707", c.FullName())
	}
	if u.Scheme == "http" && !isLoopback(net.JoinHostPort(u.Hostname(), "1")) {
		return "", fmt.Errorf(
			"%s: %s is not encrypted: whoever is on the way could read the token; use https", c.FullName(), address,
		)
	}
	return strings.TrimSuffix(address, "/"), nil
}

// askToken reads a token, without showing it where it is typed.
func askToken(address string) (string, error) {
	var text string
	if term.IsTerminal(int(os.Stdin.Fd())) {
		fmt.Fprintf(os.Stderr, "Token for %s: ", address)
		raw, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(os.Stderr)
		if err != nil {
			return "", err
		}
		text = string(raw)
	} else {
		in := bufio.NewScanner(os.Stdin)
		if in.Scan() {
			text = in.Text()
		}
	}
	text = strings.TrimSpace(text)
	if text == "" {
		return "", errors.New("no token came; `kamerad token create` makes one")
	}
	return text, nil
}

// logoutCommand is `kamerad logout`.
func logoutCommand() *cli.Command {
	return &cli.Command{
		Name:      "logout",
		Usage:     "forget the token for a service",
		ArgsUsage: "[ADDRESS]",
		Flags:     []cli.Flag{terminal.ServiceFlag()},
		Action: func(_ context.Context, c *cli.Command) error {
			address, err := loginAddress(c)
			if err != nil {
				return err
			}
			if err := terminal.SaveLogin(address, nil); err != nil {
				return err
			}
			fmt.Fprintf(c.Root().Writer, "%s forgot the token for %s\n", terminal.Good.Sprint("✓"), address)
			return nil
		},
	}
}
