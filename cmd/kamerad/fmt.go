package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/syntax"
)

// fmtCommand is `kamerad fmt`.
func fmtCommand() *cli.Command {
	return &cli.Command{
		Name:      "fmt",
		Usage:     "lay contracts and drills out in the one style",
		ArgsUsage: "FILE …",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "check", Usage: "change nothing; name the files that would change, with exit status 1"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			files, err := terminal.Words(c, "FILE …", 1, -1)
			if err != nil {
				return err
			}
			found := false
			for _, file := range files {
				source, err := readContract(file)
				if err != nil {
					return err
				}
				format := syntax.Format
				if strings.HasSuffix(file, ".drill") {
					format = syntax.FormatDrills
				}
				out, problems := format(syntax.NewSource(file, source))
				switch {
				case len(problems) > 0:
					printProblems(problems)
					fmt.Println(
						terminal.Bad.Sprintf("%s: %s; it was not touched", file, plural(len(problems), "mistake")),
					)
					found = true
				case out == source:
				case c.Bool("check"):
					fmt.Printf("%s is not in the one style; `kamerad fmt %s` puts it there\n", file, file)
					found = true
				default:
					if err := replace(file, out); err != nil {
						return err
					}
					fmt.Printf("%s %s\n", terminal.Good.Sprint("✓ formatted"), file)
				}
			}
			if found {
				return terminal.ErrFound
			}
			return nil
		},
	}
}

// replace puts a new text in a file's place in one step, so that no one ever reads half of it.
func replace(file, text string) error {
	info, err := os.Stat(file)
	if err != nil {
		return fmt.Errorf("write the contract: %w", err)
	}
	temp, err := os.CreateTemp(filepath.Dir(file), ".kamerad-*")
	if err != nil {
		return fmt.Errorf("write the contract: %w", err)
	}
	defer os.Remove(temp.Name())
	_, err = temp.WriteString(text)
	if closed := temp.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Chmod(temp.Name(), info.Mode().Perm())
	}
	if err == nil {
		err = os.Rename(temp.Name(), file)
	}
	if err != nil {
		return fmt.Errorf("write the contract: %w", err)
	}
	return nil
}
