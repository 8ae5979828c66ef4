package findings_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/syntax"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/internal/tests/guards"
)

// Whoever forgets a declaration is told: each one of Tidewreck is deleted in turn. Nothing is missing, and so nothing
// is told, only where the declaration was something of its own that no other part of the contract speaks of.
func TestEachForgottenDeclarationIsTold(t *testing.T) {
	raw, err := os.ReadFile("../../demo/tidewreck.kam")
	require.NoError(t, err)
	file, _ := syntax.Parse(syntax.NewSource("tidewreck.kam", string(raw)), nil)
	type declaration struct {
		name, class string
		at          syntax.Span
	}
	var all []declaration
	add := func(name, class string, at syntax.Span) { all = append(all, declaration{name, class, at}) }
	for _, d := range file.Decls {
		switch d := d.(type) {
		case *syntax.Contract:
			add("no name", "header", d.At)
		case *syntax.Tick:
			add("tick", "has a default", d.At)
		case *syntax.Seats:
			add("seats", "has a default", d.At)
		case *syntax.Strikes:
			add("strikes", "header", d.At)
		case *syntax.Roles:
			add("referee", "roles", d.At)
		case *syntax.Enum:
			add(d.Name.Text, "enum", d.At)
		case *syntax.TypeDecl:
			add(d.Name.Text, "type", d.At)
		case *syntax.Const:
			add(d.Name.Text, "const", d.At)
		case *syntax.AudienceDecl:
			add(d.Name.Text, "audience", d.At)
		case *syntax.Fn:
			add(d.Name.Text, "function", d.At)
		case *syntax.Event:
			add(d.Name.Text, "event", d.At)
		case *syntax.Handler:
			add("on "+d.On.Text, "nothing speaks of a handler", d.At)
		case *syntax.Entity:
			add(d.Name.Text, "kind", d.At)
			for _, p := range d.Properties {
				add(p.Name.Text, "property", p.At)
			}
			for _, h := range d.Holds {
				add(h.Name.Text, "hold", h.At)
			}
			for _, e := range d.Events {
				add(e.Name.Text, "event", e.At)
			}
			for _, a := range d.Actions {
				add(a.Name.Text, "action", a.At)
			}
			for _, a := range d.Needs {
				add(a.Name.Text, "need", a.At)
			}
			for _, r := range d.Requests {
				add(r.Name.Text, "only clients speak of a request", r.At)
			}
			for _, h := range d.Handlers {
				add(
					strings.TrimSpace(d.Name.Text+" on "+h.On.Text+" "+h.Param.Text), "nothing speaks of a handler",
					h.At,
				)
			}
			for _, t := range d.Timers {
				add(d.Name.Text+" every "+string(raw)[t.Window.Span().Start:t.Window.Span().End], "nothing speaks of a timer", t.At)
			}
		}
	}
	told := 0
	byName := 0
	silent := map[string][]string{}
	for _, d := range all {
		_, problems := compile.LoadWith(
			"tidewreck.kam", string(raw[:d.at.Start])+string(raw[d.at.End:]),
			contracts.Beside("../../demo/tidewreck.kam"),
		)
		if len(problems) == 0 {
			silent[d.class] = append(silent[d.class], d.name)
			continue
		}
		told++
		// What has no name that others speak by is told by what nothing changes, tells, runs or spawns any more.
		if strings.Contains(strings.ToLower(problems.Error()), strings.ToLower(d.name)) {
			byName++
		} else {
			assert.Contains(
				t,
				[]string{
					"only clients speak of a request", "nothing speaks of a timer", "nothing speaks of a handler",
					"kind",
				},
				d.class, "the message does not name `%s`: %s", d.name, problems.Error(),
			)
		}
	}
	t.Logf("%d declarations deleted in turn: %d told, %d of them by their own name", len(all), told, byName)
	assert.Equal(t, map[string][]string{
		"has a default":                   {"tick", "seats"},
		"nothing speaks of a handler":     {"Dive on start", "on lost", "on back", "on leave"},
		"nothing speaks of a timer":       {"Flare every 6s"},
		"only clients speak of a request": {"begin", "end_dive", "dive_in", "hand", "put_down"},
	}, silent, "every other one has a reason why nothing is missing")
	assert.GreaterOrEqual(t, float64(told), 0.9*float64(len(all)))
}

// Each check, `from`, `limit`, `to`, pace and rule of Tidewreck is deleted in turn: how many of these holes a finding
// tells of, and which it cannot. What a check should ask only the author knows; the audit has to catch the rest.
func TestEachForgottenGuard(t *testing.T) {
	raw, err := os.ReadFile("../../demo/tidewreck.kam")
	require.NoError(t, err)
	text := string(raw)
	all := guards.Of(text)
	told := map[string]int{}
	total := map[string]int{}
	var silent []string
	for _, g := range all {
		total[g.What]++
		without := text[:g.Start] + text[g.End:]
		_, problems := compile.LoadWith("tidewreck.kam", without, contracts.Beside("../../demo/tidewreck.kam"))
		for _, p := range problems {
			require.NotContains(t, []string{"expected", "unexpected"}, p.Code, "%v %s", g, p.Message)
		}
		if len(problems) > 0 {
			told[g.What]++
		} else {
			silent = append(silent, g.What+" of "+g.Of)
		}
	}
	sum := 0
	for _, n := range told {
		sum += n
	}
	t.Logf(
		"%d of %d guards are told when they are forgotten: %v of %v; not told:\n%s", sum, len(all), told, total,
		strings.Join(silent, "\n"),
	)
	assert.GreaterOrEqual(t, len(all), 60)
	assert.Equal(t, total["from"], told["from"])
	assert.Equal(t, total["pace"], told["pace"])
}
