package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/codegen"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/findings"
	"kamerad.example/core/policy"
	"kamerad.example/core/syntax"
)

// checkCommand is `kamerad check`.
func checkCommand() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "tell every mistake and danger of a contract, or the mistakes of drills",
		ArgsUsage: "FILE",
		Flags: []cli.Flag{
			terminal.JSONFlag(), &cli.BoolFlag{Name: "strict", Usage: "exit with status 1 for a warning, too"},
			&cli.StringFlag{
				Name:  "policy",
				Usage: "hold the contract against the rules of a team in `FILE`, too; see the language reference",
			},
			&cli.StringFlag{
				Name:  "explain",
				Usage: "say what a `FINDING` means, what it leads to and how to mend it; `all` lists them",
			},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.IsSet("explain") {
				return explain(c)
			}
			args, err := terminal.Words(c, "FILE", 1, 1)
			if err != nil {
				return err
			}
			if strings.HasSuffix(args[0], ".drill") {
				if c.IsSet("policy") {
					return fmt.Errorf("check %s: --policy is for contracts, and this is a file of drills", args[0])
				}
				return checkDrills(c, args[0])
			}
			return checkContract(c, args[0])
		},
	}
}

// checkContract prints the mistakes and findings of a contract's file. It returns ErrFound when there is a mistake, and
// with --strict for a finding.
//
// Mistakes and findings go to standard output, as they are what was asked for.
func checkContract(c *cli.Command, file string) error {
	source, err := readContract(file)
	if err != nil {
		return err
	}
	rules, err := readPolicy(c)
	if err != nil {
		return err
	}
	checked, problems := compile.LoadWith(file, source, beside(file, nil))
	isRefused := checked == nil
	if checked != nil {
		problems, isRefused = rules.Apply(checked, problems)
		// A body that needs more registers than the machine has shows only when it is translated.
		if _, err := codegen.Generate(checked); err != nil {
			return err
		}
	}
	switch {
	case c.Bool("json"):
		if problems == nil {
			problems = syntax.Problems{}
		}
		err := terminal.PrintJSON(c.Root().Writer, map[string]any{"file": file, "problems": problems})
		if err != nil {
			return err
		}
	case isRefused:
		printProblems(problems)
		fmt.Printf("%s\n", terminal.Bad.Sprintf("%s: %s", file, plural(problems.Mistakes(), "mistake")))
	default:
		printProblems(problems)
		printChecked(file, checked, problems)
	}
	if isRefused || c.Bool("strict") && len(problems) > 0 {
		return terminal.ErrFound
	}
	return nil
}

// readPolicy returns the policy in the file that --policy names, or nil without one.
func readPolicy(c *cli.Command) (*policy.Policy, error) {
	file := c.String("policy")
	if file == "" {
		return nil, nil
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	rules, err := policy.Read(raw)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return rules, nil
}

// printChecked prints how many findings a contract without mistakes has, and what is in it.
func printChecked(file string, c *contract.Contract, findings syntax.Problems) {
	if len(findings) > 0 {
		fmt.Printf(
			"%s\n",
			terminal.Warn.Sprintf(
				"%s: %s; `kamerad check --explain %s` says more, `accept %s \"why\"` in the line above accepts it",
				file, plural(len(findings), "warning"), findings[0].Code, findings[0].Code,
			),
		)
	}
	properties := 0
	for _, k := range c.Kinds {
		properties += len(k.Properties)
	}
	fmt.Printf(
		"%s %s: %s, %s, %s, %s\n", terminal.Good.Sprint("✓ no mistakes in"), file,
		plural(len(c.Kinds), "kind"), plural(properties, "property"),
		plural(len(c.Requests), "request"), plural(len(c.Events), "event"),
	)
}

// explain describes one finding, or lists all.
//
// The texts come from package findings, where a test holds their examples against the checker.
func explain(c *cli.Command) error {
	name := c.String("explain")
	var known []string
	for _, f := range findings.Findings() {
		known = append(known, f.Name)
		if f.Name != name {
			continue
		}
		if c.Bool("json") {
			return terminal.PrintJSON(c.Root().Writer, f)
		}
		fmt.Printf(
			"%s: %s\n\n%s\n\n%s\n\n%s\n\n%s\n\n%s\n\n"+
				"To accept one: %s in the line above the statement or the declaration.\n",
			terminal.Bold.Sprint(f.Name),
			f.Title, f.Harm, terminal.Warn.Sprint("With it:"), indented(f.Example), terminal.Good.Sprint("Mended:"),
			indented(f.Mended), terminal.Muted.Sprintf("accept %s \"why\"", f.Name),
		)
		return nil
	}
	if name != "all" {
		return fmt.Errorf("explain %.60q: there is no such finding, only %s", name, strings.Join(known, ", "))
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, findings.Findings())
	}
	t := terminal.NewTable("Finding", "What it is")
	for _, f := range findings.Findings() {
		t.AppendRow([]any{f.Name, f.Title})
	}
	terminal.PrintTable(c.Root().Writer, t)
	return nil
}

// indented returns a text with each of its lines four columns to the right.
func indented(text string) string {
	return "    " + strings.ReplaceAll(strings.TrimRight(text, "\n"), "\n", "\n    ")
}

// printProblems prints mistakes and warnings, each with the line that it is in.
//
// The places are coloured only where the output is a terminal, which package terminal has found out.
func printProblems(problems syntax.Problems) {
	for _, p := range problems {
		wrong := terminal.Bad
		if p.Warning {
			wrong = terminal.Warn
		}
		fmt.Println(p.Text(func(part syntax.Part, words string) string {
			return map[syntax.Part]text.Colors{
				syntax.Place: terminal.Bold,
				syntax.Wrong: wrong,
				syntax.Aside: terminal.Muted,
			}[part].Sprint(
				words,
			)
		}))
	}
}

// readContract reads a contract file, bounded in length.
//
// The size is looked at first, so that a file of gigabytes is refused without being read. Drills and
// included files go through it as well.
func readContract(path string) (string, error) {
	info, err := os.Stat(path)
	if err != nil {
		return "", fmt.Errorf("read the contract: %w", err)
	}
	if info.IsDir() {
		return "", fmt.Errorf("read the contract: %s is a folder; name a file that ends in .kam", path)
	}
	if info.Size() > syntax.MaxSource {
		return "", fmt.Errorf(
			"read the contract: %s has %d bytes, at most %d are allowed", path, info.Size(), syntax.MaxSource,
		)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("read the contract: %w", err)
	}
	return string(raw), nil
}

// beside opens the files in a contract's folder; those that it opens are put into taken, unless that is nil.
//
// A name that leads out of the folder is refused: a contract from somewhere else must not read what it
// likes.
func beside(contractFile string, taken contract.Files) syntax.Open {
	return func(name string) (string, error) {
		if !filepath.IsLocal(name) {
			return "", fmt.Errorf("the file %q leads out of the contract's folder", name)
		}
		text, err := readContract(filepath.Join(filepath.Dir(contractFile), name))
		if err == nil && taken != nil {
			taken[name] = text
		}
		return text, err
	}
}

// relative opens what a drill names: a contract, by its way from the drill's folder. Drills often have a folder of
// their own.
//
// Unlike a contract, a drill may name files above its own folder. It is run by whoever has it, and
// never by the service from a name.
func relative(drillFile string) syntax.Open {
	return func(name string) (string, error) {
		if filepath.IsAbs(name) {
			return "", fmt.Errorf("the file %q is not told from the drill's folder", name)
		}
		return readContract(filepath.Join(filepath.Dir(drillFile), name))
	}
}

// plural returns a number with what it counts, in the plural unless it is one.
//
// It knows the plurals of the words that this command uses, and no others.
func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	if what[len(what)-1] == 'y' {
		return fmt.Sprintf("%d %sies", n, what[:len(what)-1])
	}
	return fmt.Sprintf("%d %ss", n, what)
}
