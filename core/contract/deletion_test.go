package contract

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad/core/syntax"
)

// Whoever forgets a declaration is told: each one of Tidewreck is deleted in turn. Nothing is missing, and so nothing is
// told, only where the declaration was something of its own that no other part of the contract speaks of.
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
		case *syntax.Roles:
			add("referee", "roles", d.At)
		case *syntax.Enum:
			add(d.Name.Text, "enum", d.At)
		case *syntax.Const:
			add(d.Name.Text, "const", d.At)
		case *syntax.Event:
			add(d.Name.Text, "event", d.At)
		case *syntax.Handler:
			add("welcome", "handler", d.At) // what it told is told by nobody now
		case *syntax.Entity:
			add(d.Name.Text, "kind", d.At)
			for _, p := range d.Properties {
				add(p.Name.Text, "property", p.At)
			}
			for _, e := range d.Events {
				add(e.Name.Text, "event", e.At)
			}
			for _, a := range d.Actions {
				add(a.Name.Text, "action", a.At)
			}
			for _, r := range d.Requests {
				add(r.Name.Text, "a request stands for itself", r.At)
			}
			for _, h := range d.Handlers {
				add(h.On.Text, "a handler stands for itself", h.At)
			}
			for range d.Timers {
				add("every", "a timer stands for itself", d.Timers[0].At)
			}
		}
	}
	told, silent := 0, map[string][]string{}
	for _, d := range all {
		_, problems := Load("tidewreck.kam", string(raw[:d.at.Start])+string(raw[d.at.End:]))
		if len(problems) == 0 {
			silent[d.class] = append(silent[d.class], d.name)
			continue
		}
		told++
		named := strings.Contains(strings.ToLower(problems.Error()), strings.ToLower(d.name))
		assert.True(t, named || strings.Contains(d.class, "itself"), "the message does not name `%s`: %s", d.name, problems.Error())
	}
	t.Logf("%d declarations deleted in turn, %d told by name", len(all), told)
	assert.Equal(t, map[string][]string{
		"has a default":               {"tick", "seats"},
		"a request stands for itself": {"begin", "end_dive"},
		"a handler stands for itself": {"spawn"},
		"a timer stands for itself":   {"every"},
		"kind":                        {"Strongbox"}, // only clients speak of it
		"property":                    {"riddle"},    // the same
	}, silent, "every other one has a reason why nothing is missing")
	assert.GreaterOrEqual(t, float64(told), 0.8*float64(len(all)))
}
