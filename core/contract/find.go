package contract

import (
	"embed"
	"fmt"
	"path"
	"slices"
	"strings"

	"kamerad/core/syntax"
)

//go:embed explain/*.md
var explanations embed.FS

// findings are what is told as a warning and can be accepted, with what is explained of each.
var findings = func() map[string]Finding {
	out := map[string]Finding{}
	files, _ := explanations.ReadDir("explain") // it is part of the program
	for _, file := range files {
		raw, _ := explanations.ReadFile(path.Join("explain", file.Name()))
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

// Findings lists all findings by name.
func Findings() []Finding {
	var out []Finding
	for _, name := range names(findings) {
		out = append(out, findings[name])
	}
	return out
}

// acceptKey names a finding about a declaration.
type acceptKey struct {
	decl    int // offset
	finding string
}

// find tells of a danger in a declaration, unless it is accepted there, or above the statement that it is about.
func (c *checker) find(finding string, decl int, at syntax.Span, what, hint string) {
	for _, key := range []acceptKey{{decl, finding}, {at.Start, finding}} {
		if c.accepted[key] {
			c.taken[key] = true
			return
		}
	}
	p := c.src.Problem(at, finding, what, hint)
	p.Warning = true
	// A part is read once for each kind that includes it.
	if len(c.problems) < maxProblems && !slices.Contains(c.problems, p) {
		c.problems = append(c.problems, p)
	}
}

// dangers looks for everything that a right contract may still be warned of.
func (c *checker) dangers(f *syntax.File) {
	c.accepted = map[acceptKey]bool{}
	c.taken = map[acceptKey]bool{}
	for _, a := range f.Accepts {
		c.accepted[acceptKey{a.For, a.Finding.Text}] = true
	}
	c.unused(f)
	flows := c.leaks(c.find)
	c.out.causes = flows.causes
	c.guards()
	c.things()
	for _, a := range f.Accepts {
		if _, known := findings[a.Finding.Text]; known && !c.taken[acceptKey{a.For, a.Finding.Text}] {
			p := c.src.Problem(
				a.At, "needless-accept", fmt.Sprintf("nothing below this line is %s", a.Finding.Text),
				"remove the line",
			)
			p.Warning = true
			c.problems = append(c.problems, p)
		}
	}
}
