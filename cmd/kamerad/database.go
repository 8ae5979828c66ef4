package main

import (
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
)

// databaseFlags are the flags by which a command finds the database.
func databaseFlags() []cli.Flag { return databaseSettings(&configFile{}) }

// databaseSettings are the same, as settings of a file.
func databaseSettings(f *configFile) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:        "database",
			Usage:       "PostgreSQL connection `URL`",
			Value:       "postgres://127.0.0.1:5432/kamerad",
			Sources:     f.sources("database"),
			HideDefault: true,
		},
		&cli.StringFlag{
			Name:    "database-file",
			Usage:   "read the database's URL from this `FILE`",
			Sources: f.sources("database-file"),
		},
	}
}

// databaseOf returns the address of the database: from the file that is named, else from the flag or the environment. A
// password on the command line can be read by everyone on the machine, so that it is warned of.
func databaseOf(c *cli.Command) (string, error) {
	if file := c.String("database-file"); file != "" {
		raw, err := os.ReadFile(file)
		if err != nil {
			return "", fmt.Errorf("read the database's address: %w", err)
		}
		return strings.TrimSpace(string(raw)), nil
	}
	address := c.String("database")
	for _, arg := range os.Args {
		if arg != "--database" && arg != "-database" && !strings.HasPrefix(arg, "--database=") &&
			!strings.HasPrefix(arg, "-database=") {
			continue
		}
		if u, err := url.Parse(address); err != nil || u.User != nil {
			if _, secret := u.User.Password(); err != nil || secret {
				slog.Warn(
					"the database's password stands on the command line, where everyone on this machine can read " +
						"it; set KAMERAD_DATABASE, or name a file with --database-file",
				)
			}
		}
	}
	return address, nil
}
