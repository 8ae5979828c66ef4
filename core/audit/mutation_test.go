package audit

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad/core/contract"
	"kamerad/core/drill"
	"kamerad/core/syntax"
)

const demo = "../../demo"

// files opens the demo's files, with another text of the contract.
func files(t testing.TB, text string) syntax.Open {
	return func(name string) (string, error) {
		if name == "tidewreck.kam" {
			return text, nil
		}
		raw, err := os.ReadFile(filepath.Join(demo, filepath.Base(name)))
		return string(raw), err
	}
}

// guard is a part of a contract that keeps somebody from something.
type guard struct {
	what, of   string
	start, end int
}

// guards lists the checks, froms, limits, pauses, audiences, paces and rules of a contract.
func guards(text string) (all []guard) {
	file, _ := syntax.Parse(syntax.NewSource("tidewreck.kam", text), nil)
	from := func(word string, at syntax.Span) int { return strings.LastIndex(text[:at.Start+len(word)], word) }
	for _, d := range file.Decls {
		d, ok := d.(*syntax.Entity)
		if !ok {
			continue
		}
		if d.To != nil {
			all = append(all, guard{"to", d.Name.Text, from("to ", d.To.At), d.To.At.End})
		}
		for _, p := range d.Properties {
			name := d.Name.Text + "." + p.Name.Text
			if p.To != nil {
				all = append(all, guard{"to", name, from("to ", p.To.At), p.To.At.End})
			}
			if p.Set == nil {
				continue
			}
			end := p.Set.At.End
			if p.Set.When != nil {
				all = append(all, guard{"rule", name, from("when ", p.Set.When.Span()), p.Set.When.Span().End})
				end = from("when ", p.Set.When.Span())
			}
			all = append(all, guard{"pace", name, from("pace ", p.Set.Pace.Span()), end})
		}
		for _, r := range d.Requests {
			name := d.Name.Text + "." + r.Name.Text
			if r.From != nil {
				all = append(all, guard{"from", name, from("from ", r.From.At), r.From.At.End})
			}
			if r.Limit != nil {
				all = append(all, guard{"limit", name, from("limit ", r.Limit.At), r.Limit.At.End})
			}
			if r.Pause != nil {
				all = append(all, guard{"pause", name, from("pause ", r.Pause.At), r.Pause.At.End})
			}
			for _, s := range r.Head {
				if c, ok := s.(*syntax.Check); ok {
					all = append(all, guard{"check", name + " " + text[c.Cond.Span().Start:c.Cond.Span().End], c.At.Start, c.At.End})
				}
			}
		}
	}
	return all
}

// Each guard of Tidewreck is deleted in turn: nearly all of these holes are found by a finding, by one of its drills or by the audit.
func TestEachDeletedGuardIsFound(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join(demo, "tidewreck.kam"))
	require.NoError(t, err)
	text := string(raw)
	names, err := filepath.Glob(filepath.Join(demo, "*.drill"))
	require.NoError(t, err)
	all := guards(text)
	by, silent := map[string]int{}, []string{}
	for _, g := range all {
		mutant := text[:g.start] + text[g.end:]
		open := files(t, mutant)
		c, problems := contract.LoadWith("tidewreck.kam", mutant, open)
		switch {
		case len(problems) > 0:
			by["a finding"]++
			continue
		case drilled(t, names, open):
			by["a drill"]++
			continue
		}
		r, err := Run(context.Background(), c, Options{Seed: 1, Rounds: 2, Ticks: 200})
		require.NoError(t, err)
		if !r.Clean() {
			by["the audit"]++
			continue
		}
		silent = append(silent, g.what+" of "+g.of)
	}
	t.Logf("%d guards deleted in turn: found by %v; not found: %d\n%s", len(all), by, len(silent), strings.Join(silent, "\n"))
	assert.LessOrEqual(t, float64(len(silent)), 0.05*float64(len(all)))
}

// drilled tells whether a drill fails.
func drilled(t *testing.T, names []string, open syntax.Open) bool {
	for _, name := range names {
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		drills, problems := drill.Load(name, string(raw), open)
		if len(problems) > 0 {
			return true // it speaks of what is no longer there
		}
		for _, d := range drills {
			r, err := d.Run(context.Background(), drill.Options{})
			require.NoError(t, err, fmt.Sprint(name, d.Name))
			if !r.Passed {
				return true
			}
		}
	}
	return false
}
