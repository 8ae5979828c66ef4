package contract

import (
	"fmt"

	"kamerad/core/syntax"
)

// findings are what is told as a warning and can be accepted.
var findings = map[string]bool{
	"unused": true, "abandoned": true, "leak": true, "unfair": true, "unguarded": true, "unlimited": true, "impersonation": true, "unruled": true,
	"unbounded": true, "impossible": true, "fleeting": true, "costly": true,
}

// acceptKey names a finding about a declaration.
type acceptKey struct {
	decl    int // offset
	finding string
}

// find tells of a danger in a declaration, unless it is accepted there.
func (c *checker) find(finding string, decl int, at syntax.Span, what, hint string) {
	key := acceptKey{decl, finding}
	if c.accepted[key] {
		c.taken[key] = true
		return
	}
	p := c.src.Problem(at, finding, what, hint)
	p.Warning = true
	if len(c.problems) < maxProblems {
		c.problems = append(c.problems, p)
	}
}

// dangers looks for everything that a right contract may still be warned of.
func (c *checker) dangers(f *syntax.File) {
	c.accepted, c.taken = map[acceptKey]bool{}, map[acceptKey]bool{}
	for _, a := range f.Accepts {
		c.accepted[acceptKey{a.For, a.Finding.Text}] = true
	}
	c.unused(f)
	flows := c.leaks(c.find)
	c.out.causes = flows.causes
	for _, a := range f.Accepts {
		if !c.taken[acceptKey{a.For, a.Finding.Text}] && findings[a.Finding.Text] {
			p := c.src.Problem(a.At, "needless-accept", fmt.Sprintf("nothing below this line is %s", a.Finding.Text), "remove the line")
			p.Warning = true
			c.problems = append(c.problems, p)
		}
	}
}
