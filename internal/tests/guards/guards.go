// Package guards finds what keeps clients from something in a contract, so that tests can delete one after the other.
//
// Of returns the checks, limits, audiences and other guards of a text, each with its place; a test that deletes one and
// sees nothing go red has found a hole.
package guards

import (
	"strings"

	"kamerad.example/core/syntax"
)

// Guard is a part of a contract that keeps somebody from something.
type Guard struct {
	What, Of   string
	Start, End int // of its text
}

// Of returns the checks, froms, limits, pauses, audiences, paces and rules of a contract.
func Of(text string) (all []Guard) {
	file, _ := syntax.Parse(syntax.NewSource("tidewreck.kam", text), nil)
	from := func(word string, at syntax.Span) int { return strings.LastIndex(text[:at.Start+len(word)], word) }
	for _, d := range file.Decls {
		d, ok := d.(*syntax.Entity)
		if !ok {
			continue
		}
		if d.To != nil {
			all = append(all, Guard{"to", d.Name.Text, from("to ", d.To.At), d.To.At.End})
		}
		for _, p := range d.Properties {
			name := d.Name.Text + "." + p.Name.Text
			if p.To != nil {
				all = append(all, Guard{"to", name, from("to ", p.To.At), p.To.At.End})
			}
			if p.Set == nil {
				continue
			}
			end := p.Set.At.End
			if p.Set.When != nil {
				all = append(all, Guard{"rule", name, from("when ", p.Set.When.Span()), p.Set.When.Span().End})
				end = from("when ", p.Set.When.Span())
			}
			all = append(all, Guard{"pace", name, from("pace ", p.Set.Pace.Span()), end})
		}
		for _, r := range d.Requests {
			name := d.Name.Text + "." + r.Name.Text
			if r.From != nil {
				all = append(all, Guard{"from", name, from("from ", r.From.At), r.From.At.End})
			}
			if r.Limit != nil {
				all = append(all, Guard{"limit", name, from("limit ", r.Limit.At), r.Limit.At.End})
			}
			if r.Pause != nil {
				all = append(all, Guard{"pause", name, from("pause ", r.Pause.At), r.Pause.At.End})
			}
			for _, s := range r.Head {
				if c, ok := s.(*syntax.Check); ok {
					all = append(
						all,
						Guard{"check", name + " " + text[c.Cond.Span().Start:c.Cond.Span().End], c.At.Start, c.At.End},
					)
				}
			}
		}
	}
	return all
}
