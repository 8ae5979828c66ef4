package main

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"kamerad.example/api"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
)

// contractCommand is `kamerad contract` with what stands below it.
func contractCommand() *cli.Command {
	flags := []cli.Flag{terminal.ServiceFlag(), terminal.JSONFlag()}
	return &cli.Command{
		Name: "contract", Usage: "publish contracts and read what is published",
		Commands: []*cli.Command{
			{
				Name:      "publish",
				Usage:     "store a contract as its next version",
				ArgsUsage: "FILE",
				Flags:     flags,
				Action:    publish,
			},
			{Name: "list", Usage: "list all contracts", Flags: flags, Action: listContracts},
			{
				Name:      "show",
				Usage:     "show a contract: what it declares, or its text",
				ArgsUsage: "NAME",
				Action:    showContract,
				Flags: append(flags,
					&cli.IntFlag{Name: "version", Usage: "which `VERSION`; the newest if not given"},
					&cli.BoolFlag{Name: "source", Usage: "print the contract's text"}),
			},
			{
				Name:        "compare",
				Usage:       "tell what differs between two versions, and whether sessions and clients could go on",
				ArgsUsage:   "A B",
				Flags:       flags,
				Action:      compareContracts,
				Description: "A and B are contract files, or NAME@VERSION of what is published.",
			},
		},
	}
}

// publish is `kamerad contract publish`.
//
// The files that the contract includes are sent along, as they are on this machine. One that is
// published already is no error.
func publish(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "FILE", 1, 1)
	if err != nil {
		return err
	}
	source, err := readContract(args[0])
	if err != nil {
		return err
	}
	files := contract.Files{}
	_, _ = compile.LoadWith(args[0], source, beside(args[0], files)) // the service tells the mistakes
	v, err := terminal.Service(c).Publish(ctx, args[0], source, files)
	var problem *api.Problem
	if errors.As(err, &problem) && problem.Problems != nil {
		if c.Bool("json") {
			if err := terminal.PrintJSON(c.Root().Writer, problem); err != nil {
				return err
			}
		} else {
			printProblems(problem.Problems)
			fmt.Println(terminal.Bad.Sprint(problem.Detail))
		}
		return terminal.ErrFound
	}
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, v)
	}
	if v.Fresh {
		if n := len(v.Findings); n > 0 {
			fmt.Printf("%s\n", terminal.Warn.Sprintf("%s: kamerad check %s tells them", plural(n, "warning"), args[0]))
		}
		fmt.Printf(
			"%s %s version %d (fingerprint %s)\nOpen a session of it: kamerad session open %s\n",
			terminal.Good.Sprint("✓ published"), v.Contract, v.Version, v.Fingerprint, v.Contract,
		)
	} else {
		fmt.Printf("%s is published already as version %d; nothing changed\n", v.Contract, v.Version)
	}
	return nil
}

// listContracts is `kamerad contract list`.
func listContracts(ctx context.Context, c *cli.Command) error {
	list, err := terminal.Service(c).Contracts(ctx)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.PrintJSON(c.Root().Writer, list)
	}
	if len(list) == 0 {
		fmt.Println("No contract is published yet: kamerad contract publish FILE")
		return nil
	}
	t := terminal.NewTable("Contract", "Version", "Fingerprint", "Published")
	for _, v := range list {
		t.AppendRow([]any{v.Contract, v.Version, v.Fingerprint, terminal.FormatTime(v.PublishedAt)})
	}
	terminal.PrintTable(c.Root().Writer, t)
	return nil
}

// showContract is `kamerad contract show`.
//
// It needs the service alone: the outline was stored with the version.
func showContract(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "NAME", 1, 1)
	if err != nil {
		return err
	}
	admin := terminal.Service(c)
	v, err := admin.Version(ctx, args[0], c.Int("version"))
	if err != nil {
		return err
	}
	list, err := admin.Trials(ctx, v.Contract, v.Version)
	if err != nil {
		return err
	}
	switch {
	case c.Bool("json"):
		return terminal.PrintJSON(c.Root().Writer, struct {
			api.ContractVersion
			Trials []api.Trial `json:"trials"`
		}{v, list})
	case c.Bool("source"):
		fmt.Print(v.Source)
		return nil
	}
	fmt.Printf(
		"%s version %d, published %s, fingerprint %s\n", terminal.Bold.Sprint(v.Contract),
		v.Version, terminal.FormatTime(v.PublishedAt),
		v.Fingerprint,
	)
	if n := len(v.Findings); n > 0 {
		fmt.Println(terminal.Warn.Sprintf("%s:", plural(n, "warning")))
		printProblems(v.Findings)
	} else {
		fmt.Println(terminal.Good.Sprint("no warnings"))
	}
	printTrials(c.Root().Writer, list)
	if v.Outline == nil {
		return nil
	}
	printOutline(c.Root().Writer, v.Outline)
	return nil
}

// clauses returns as text a property's type and what else is declared of it.
//
// It goes by the outline, which is all that is known of a version without reading its text.
func clauses(p contract.PropertyOutline) string {
	out := p.Type.String()
	if p.LeaseMs > 0 {
		out = fmt.Sprintf("hold, lease %g s", float64(p.LeaseMs)/1000)
	}
	words := p.Clauses.Words()
	if p.SetBy != "" {
		words = append(words, "set by "+p.SetBy)
	}
	if p.Follows != "" {
		words = append(words, "follows "+p.Follows)
	}
	for _, w := range words {
		out += terminal.Muted.Sprint(" " + w)
	}
	return out
}

// params writes the arguments of a request or event as a contract does.
func params(list []contract.Param) string {
	var out []string
	for _, p := range list {
		out = append(out, p.Name+": "+p.Type.String())
	}
	return strings.Join(out, ", ")
}
