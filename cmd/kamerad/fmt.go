package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// fmtCommand is `kamerad fmt`.
func fmtCommand() *cli.Command {
	return &cli.Command{
		Name:      "fmt",
		Usage:     "lay contracts and drills out in the one style",
		ArgsUsage: "FILE …",
		Flags: []cli.Flag{
			&cli.IntFlag{
				Name:  "to",
				Usage: "bring contracts to a later `LANGUAGE` as well, in which they mean the same",
			},
			&cli.BoolFlag{Name: "check", Usage: "change nothing; name the files that would change, with exit status 1"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			files, err := terminal.Words(c, "FILE …", 1, -1)
			if err != nil {
				return err
			}
			to := c.Int("to")
			if c.IsSet("to") && (to < 1 || to > contract.Language) {
				return fmt.Errorf("read --to %d: there are the languages 1 to %d", to, contract.Language)
			}
			found := false
			for _, file := range files {
				hasFound, err := formatFile(file, to, c.Bool("check"))
				if err != nil {
					return err
				}
				found = found || hasFound
			}
			if found {
				return terminal.ErrFound
			}
			return nil
		},
	}
}

// formatFile lays a file out, and brings a contract to a language; 0 for none. With onlyCheck it changes nothing. It
// reports whether it has told of something: a mistake, or what would change.
func formatFile(file string, to int, onlyCheck bool) (found bool, err error) {
	source, err := readContract(file)
	if err != nil {
		return false, err
	}
	format := syntax.Format
	text := source
	if strings.HasSuffix(file, ".drill") {
		format = syntax.FormatDrills
	} else if to > 0 {
		text, err = toLanguage(file, source, int64(to))
	}
	if err != nil {
		return false, err
	}
	out, problems := format(syntax.NewSource(file, text))
	switch {
	case len(problems) > 0:
		printProblems(problems)
		fmt.Println(terminal.Bad.Sprintf("%s: %s; it was not touched", file, plural(len(problems), "mistake")))
		return true, nil
	case out == source:
	case onlyCheck:
		fmt.Printf("%s is not in the one style; `kamerad fmt %s` puts it there\n", file, file)
		return true, nil
	default:
		if err := replace(file, out); err != nil {
			return false, err
		}
		fmt.Printf("%s %s\n", terminal.Good.Sprint("✓ formatted"), file)
	}
	return false, nil
}

// toLanguage returns a contract's text with its first line in a language. A file that is included has no such line, and
// stays as it is. What a contract says means the same in every later language.
func toLanguage(file, text string, to int64) (string, error) {
	tree, _ := syntax.Parse(syntax.NewSource(file, text), nil)
	for _, d := range tree.Decls {
		d, isName := d.(*syntax.Contract)
		if !isName || d.Language == nil {
			continue
		}
		if d.Language.Value > to {
			return "", fmt.Errorf(
				"bring %s to language %d: it is in language %d, and only later ones mean the same",
				file, to, d.Language.Value,
			)
		}
		at := d.Language.At
		return text[:at.Start] + fmt.Sprint(to) + text[at.End:], nil
	}
	return text, nil
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
