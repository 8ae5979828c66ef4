// Package findings looks for the dangers that a right contract may have: where a secret leaks, what nothing guards,
// what can never happen, what grows without end. Each kind of danger is a finding with a name, by which a declaration
// can accept it.
//
// Find looks for all dangers of a contract that was checked. Where information comes to those who may not have it is
// found by package flow.
//
// Find returns the problems, in the order of the text, and Findings the list of all kinds for those who explain them.
// Neither changes the contract.
//
// # How it works
//
// Find goes over the contract several times, once for each group of dangers: guard.go looks at requests and their
// checks, lasting.go at what only ever grows or is never taken back, unused.go at what nothing needs, costly.go at
// audiences that have to be asked for each pair of client and entity. What an accept line in the contract names is left
// out, and an accept line that fits nothing is a finding itself.
package findings

import (
	"embed"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"kamerad.example/core/flow"
	"kamerad.example/core/syntax"
	"kamerad.example/core/typing"
)

//go:embed explain/*.md
var explanations embed.FS

// findings are what is told as a warning and can be accepted, with what is explained of each.
var findings = func() map[string]Finding {
	out := map[string]Finding{}
	files, _ := explanations.ReadDir("explain") // it is part of the program
	for _, file := range files {
		raw, _ := explanations.ReadFile(path.Join("explain", file.Name()))
		// A page is a title, what it leads to, an example and the same mended, the two as blocks of
		// code. A test reads them all.
		parts := strings.Split(string(raw), "```")
		title, harm, _ := strings.Cut(strings.TrimSpace(parts[0]), "\n\n")
		name := strings.TrimSuffix(file.Name(), ".md")
		out[name] = Finding{
			name, title, harm, strings.TrimPrefix(parts[1], "kam\n"), strings.TrimPrefix(parts[3], "kam\n"),
		}
	}
	return out
}()

// Finding is a danger that a contract can be warned of. `accept NAME "reason"` above a declaration says that it is
// meant there.
type Finding struct {
	Name    string `json:"name"`
	Title   string `json:"title"`
	Harm    string `json:"harm"`    // what it leads to
	Example string `json:"example"` // a contract that has it
	Mended  string `json:"mended"`  // the same without it
}

// Findings returns all findings by name.
func Findings() []Finding {
	var out []Finding
	for _, name := range slices.Sorted(maps.Keys(findings)) {
		out = append(out, findings[name])
	}
	return out
}

// acceptKey names a finding about a declaration.
type acceptKey struct {
	decl    int // offset
	finding string
}

// finder looks for dangers in a contract that was checked.
type finder struct {
	*typing.Checked
	problems syntax.Problems
	accepted map[acceptKey]bool
	taken    map[acceptKey]bool // of those accepted: what was found
}

// find reports a danger in a declaration, unless it is accepted there, or above the statement that it is about.
//
// decl is the place of the declaration that an `accept` would stand above. What is accepted is noted as
// taken, so that an `accept` that nothing needs can be told.
func (c *finder) find(finding string, decl int, at syntax.Span, what, hint string) {
	for _, key := range []acceptKey{{decl, finding}, {at.Start, finding}} {
		if c.accepted[key] {
			c.taken[key] = true
			return
		}
	}
	p := c.Contract.Source.Problem(at, finding, what, hint)
	p.Warning = true
	// A part is read once for each kind that includes it.
	if len(c.problems) < typing.MaxProblems && !slices.Contains(c.problems, p) {
		c.problems = append(c.problems, p)
	}
}

// Find returns a warning for everything that a right contract may be warned of, but for what it accepts. It also marks
// the checks that clients can evaluate themselves.
//
// The contract has to be without a mistake. Warnings come in the order in which they are looked for,
// not that of the text; there are at most typing.MaxProblems, and those for needless `accept` lines.
func Find(checked *typing.Checked) syntax.Problems {
	c := &finder{Checked: checked, accepted: map[acceptKey]bool{}, taken: map[acceptKey]bool{}}
	for _, a := range c.File.Accepts {
		c.accepted[acceptKey{a.For, a.Finding.Text}] = true
	}
	c.unused(c.File)
	flow.Leaks(c.Contract, c.find)
	c.guards()
	c.things()
	for _, a := range c.File.Accepts {
		if c.taken[acceptKey{a.For, a.Finding.Text}] {
			continue
		}
		p := c.Contract.Source.Problem(
			a.At, "needless-accept", fmt.Sprintf("nothing below this line is %s", a.Finding.Text),
			"remove the line",
		)
		p.Warning = true
		c.problems = append(c.problems, p)
	}
	return c.problems
}

// UnknownAccepts returns a mistake for each finding that a contract accepts and that does not exist.
//
// It is apart from Find because it has to be told even of a contract with other mistakes.
func UnknownAccepts(src *syntax.Source, file *syntax.File) (out syntax.Problems) {
	for _, a := range file.Accepts {
		if _, known := findings[a.Finding.Text]; !known {
			out = append(out, src.Problem(
				a.Finding.At, "unknown-name", fmt.Sprintf("there is no finding `%s`", a.Finding.Text),
				typing.Suggest(
					a.Finding.Text, slices.Sorted(maps.Keys(findings)),
					"one of "+strings.Join(slices.Sorted(maps.Keys(findings)), ", "),
				),
			))
		}
	}
	return out
}
