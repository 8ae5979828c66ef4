package main

import (
	"context"
	_ "embed"
	"encoding/csv"
	"errors"
	"fmt"
	"html/template"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/report"
)

// matrixCommand is `kamerad matrix`.
func matrixCommand() *cli.Command {
	return &cli.Command{
		Name:        "matrix",
		Usage:       "tell who sees, who may change and who may ask for what",
		ArgsUsage:   "FILE",
		Description: eitherText,
		Flags: []cli.Flag{
			terminal.JSONFlag(), terminal.ServiceFlag(),
			&cli.BoolFlag{Name: "csv", Usage: "print comma-separated values (RFC 4180)"},
			&cli.StringFlag{Name: "html", Usage: "write a page that needs nothing else to `FILE`"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			checked, err := checkedContract(ctx, c)
			if err != nil {
				return err
			}
			m := report.NewMatrix(checked)
			switch {
			case c.Bool("json"):
				return terminal.PrintJSON(c.Root().Writer, m)
			case c.Bool("csv"):
				return matrixCSV(c.Root().Writer, m)
			case c.String("html") != "":
				return writePage(c.String("html"), m)
			}
			printMatrix(c.Root().Writer, m)
			return nil
		},
	}
}

// checkedContract reads the contract of a command, a file or NAME@VERSION; its mistakes are told, and are exit status
// 1.
func checkedContract(ctx context.Context, c *cli.Command) (*contract.Contract, error) {
	args, err := terminal.Words(c, "FILE", 1, 1)
	if err != nil {
		return nil, err
	}
	return eitherContract(ctx, c, args[0])
}

// loadContract reads a contract from a file; its mistakes are printed.
//
// Its findings are not printed: who asks for a matrix or a cost has not asked for them.
func loadContract(file string) (*contract.Contract, error) {
	source, err := readContract(file)
	if err != nil {
		return nil, err
	}
	checked, problems := compile.LoadWith(file, source, beside(file, nil))
	if checked == nil {
		printProblems(problems)
		fmt.Fprintf(os.Stderr, "%s\n", terminal.Bad.Sprintf("%s: %s", file, plural(len(problems), "mistake")))
		return nil, terminal.ErrFound
	}
	return checked, nil
}

// sign returns the sign of an access.
//
// Each access has a sign or word of its own, so that a table without colours says as much.
func sign(a report.Access) string {
	return map[report.Access]string{
		report.Always:    terminal.Good.Sprint("✓"),
		report.Sometimes: terminal.Warn.Sprint("some"),
		report.Never:     terminal.Muted.Sprint("–"),
		report.Unrelated: "",
	}[a]
}

// cells returns a row of the matrix: what stands before the access of each viewer, that, and what stands behind it.
func cells(head []any, access []report.Access, tail ...any) []any {
	for _, a := range access {
		head = append(head, sign(a))
	}
	return append(head, tail...)
}

// headings returns the heads of the matrix's columns, with what stands before and behind those of the viewers.
func headings(m *report.Matrix, head []any, tail ...any) []any {
	for _, v := range m.Viewers {
		head = append(head, v.Name)
	}
	return append(head, tail...)
}

// printMatrix prints the access matrix: a table each of properties, requests and events, and one of what is revealed.
func printMatrix(w io.Writer, m *report.Matrix) {
	fmt.Fprintf(
		w,
		"%s: %s always, %s when more than that holds, %s never; nothing where being in an audience changes nothing\n\n",
		terminal.Bold.Sprint(m.Contract), sign(report.Always), sign(report.Sometimes), sign(report.Never),
	)
	printMatrixProperties(w, m)
	fmt.Fprintln(w)
	printMatrixRequests(w, m)
	fmt.Fprintln(w)
	events := terminal.NewTable(headings(m, []any{"Event"}, "Told to", "By")...)
	for _, e := range m.Events {
		events.AppendRow(cells([]any{e.Name}, e.Access, strings.Join(e.To, "; "), brief(e.By, 3)))
	}
	terminal.PrintTable(w, events)
	if len(m.Reveals) == 0 {
		return
	}
	fmt.Fprintln(w)
	reveals := terminal.NewTable("Revealed", "To", "In", "Line", "Tells of")
	for _, r := range m.Reveals {
		reveals.AppendRow([]any{r.Text, r.To, r.In, r.Line, strings.Join(r.Of, ", ")})
	}
	terminal.PrintTable(w, reveals)
}

// printMatrixProperties prints who gets each property and who writes it, under the names of the kinds.
//
// For what the server writes, the first of the bodies that do so are named.
func printMatrixProperties(w io.Writer, m *report.Matrix) {
	t := terminal.NewTable(headings(m, []any{"Property"}, "Written by")...)
	kind := ""
	for _, p := range m.Properties {
		k, name, _ := strings.Cut(p.Name, ".")
		if k != kind {
			t.AppendRow([]any{terminal.Bold.Sprint(k)})
			kind = k
		}
		by := p.Writer
		if p.Within != "" {
			by += terminal.Muted.Sprint(" " + p.Within)
		}
		if p.Writer == "server" {
			by = brief(p.By, 3)
		}
		t.AppendRow(cells([]any{"  " + name}, p.Access, by))
	}
	terminal.PrintTable(w, t)
}

// printMatrixRequests prints who may send each request, what keeps others out and what it can change, under the names
// of the kinds.
func printMatrixRequests(w io.Writer, m *report.Matrix) {
	t := terminal.NewTable(headings(m, []any{"Request"}, "Checks", "Can change")...)
	kind := ""
	for _, r := range m.Requests {
		k, name, _ := strings.Cut(r.Name, ".")
		if k != kind {
			t.AppendRow([]any{terminal.Bold.Sprint(k)})
			kind = k
		}
		checks := plural(len(r.Checks), "check")
		if len(r.Checks) == 0 {
			checks = terminal.Warn.Sprint("none")
		}
		if r.Limit != "" {
			checks += ", " + r.Limit
		}
		if r.Pause != "" {
			checks += ", " + r.Pause + " apart"
		}
		t.AppendRow(
			cells([]any{"  " + name}, r.Access, checks, brief(slices.Concat(r.Changes, r.Does), 4)),
		)
	}
	terminal.PrintTable(w, t)
}

// brief joins the first of some names, and counts the others.
func brief(list []string, n int) string {
	if len(list) > n {
		return strings.Join(list[:n], ", ") + terminal.Muted.Sprintf(" and %d more", len(list)-n)
	}
	return strings.Join(list, ", ")
}

// matrixCSV writes the access matrix as CSV (RFC 4180).
//
// It has one row for each property, request and event; all of them have the same columns, some of which
// are empty.
func matrixCSV(w io.Writer, m *report.Matrix) error {
	out := csv.NewWriter(w)
	head := []string{"what", "name", "audience"}
	for _, v := range m.Viewers {
		head = append(head, v.Name)
	}
	row := func(what, name, to string, access []report.Access, rest ...string) {
		line := []string{what, name, to}
		for _, a := range access {
			line = append(line, string(a))
		}
		_ = out.Write(append(line, rest...)) // told by Error below
	}
	_ = out.Write(append(head, "writer", "limit", "checks", "changes", "tells", "reveals"))
	for _, p := range m.Properties {
		row("property", p.Name, p.To, p.Access, p.Writer, "", p.Within, strings.Join(p.By, "; "), "", "")
	}
	for _, r := range m.Requests {
		var checks []string
		for _, x := range r.Checks {
			checks = append(checks, x.Text)
		}
		row(
			"request", r.Name, r.From, r.Access, "", strings.Trim(r.Limit+", "+r.Pause, ", "),
			strings.Join(checks, "; "), strings.Join(append(append([]string{}, r.Changes...), r.Does...), "; "),
			strings.Join(r.Tells, "; "), strings.Join(r.Reveals, "; "),
		)
	}
	for _, e := range m.Events {
		row("event", e.Name, strings.Join(e.To, "; "), e.Access, "", "", "", strings.Join(e.By, "; "), "", "")
	}
	out.Flush()
	return out.Error()
}

//go:embed matrix.html
var matrixPage string

// writePage writes the matrix as a page of its own.
//
// The page has its styles within and loads nothing. An existing file is replaced.
func writePage(file string, m *report.Matrix) (err error) {
	page, err := template.New("matrix").Funcs(template.FuncMap{
		"kind": func(name string) string { k, _, _ := strings.Cut(name, "."); return k },
		"last": func(name string) string { _, n, _ := strings.Cut(name, "."); return n },
		"join": func(list []string) string { return strings.Join(list, ", ") },
		"sign": func(a report.Access) string {
			return map[report.Access]string{report.Always: "✓", report.Sometimes: "some", report.Never: "–"}[a]
		},
	}).Parse(matrixPage)
	if err != nil {
		return err
	}
	f, err := os.Create(file)
	if err != nil {
		return fmt.Errorf("write the matrix: %w", err)
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	if err := page.Execute(f, m); err != nil {
		return fmt.Errorf("write the matrix to %s: %w", file, err)
	}
	fmt.Printf("%s %s\n", terminal.Good.Sprint("✓ written"), file)
	return nil
}
