package service

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
)

const reefs = `contract reef language 1
include "crew.kam"
setting depth: int 1..50 = 10
const marks: list<int 0..9> max 4 from "marks.json"

entity Diver per player {
  crew: Crew
  deep: int 0..50 = 0
  mark: int 0..9 = 0
  on spawn { crew = amber; deep = depth; mark = marks[1] }
  request finish() { crew = cobalt; close "the reef is done" }
  request shout() { log everyone "{caller.name} is at {deep}" }
}
`

var beside = map[string]string{"crew.kam": "enum Crew { cobalt, amber }", "marks.json": "[3, 7]"}

// What a contract includes and takes tables from is kept with its version, and settings are given when a session is
// opened.
func TestFilesAndSettingsComeWithASession(t *testing.T) {
	v, admin := start(t, page)
	problem := func(files map[string]string) *api.Problem {
		_, err := admin.Publish(t.Context(), "reef.kam", reefs, files)
		var p *api.Problem
		require.True(t, errors.As(err, &p), "%v", err)
		return p
	}
	p := problem(nil)
	require.NotEmpty(t, p.Problems)
	assert.Contains(t, p.Problems.Error(), `the file "crew.kam" is not there`)
	p = problem(map[string]string{"crew.kam": beside["crew.kam"], "marks.json": "[3, 12]"})
	assert.Contains(t, p.Problems.Error(), "a value (number 2) that is 12, not a whole number from 0 to 9")
	p = problem(map[string]string{"crew.kam": "enum Crew { cobalt,", "marks.json": "[3, 7]"})
	assert.Equal(t, "crew.kam", p.Problems[0].File, "a mistake in an included file is told of that file")
	assert.Contains(t, problem(map[string]string{"../crew.kam": ""}).Detail, "leads out of the contract's folder")
	assert.Contains(t, problem(map[string]string{"big.json": strings.Repeat(" ", 1<<20+1)}).Detail, "are allowed")

	first, err := admin.Publish(t.Context(), "reef.kam", reefs, beside)
	require.NoError(t, err)
	again, err := admin.Publish(t.Context(), "reef.kam", reefs, beside)
	require.NoError(t, err)
	assert.Equal(t, []any{1, 1, false}, []any{first.Version, again.Version, again.Fresh})
	other, err := admin.Publish(
		t.Context(), "reef.kam", reefs, map[string]string{"crew.kam": beside["crew.kam"], "marks.json": "[3, 8]"},
	)
	require.NoError(t, err)
	assert.Equal(t, 2, other.Version, "another table is another version")
	shown, err := admin.Version(t.Context(), "reef", 1)
	require.NoError(t, err)
	assert.Equal(t, beside, shown.Files)

	for name, settings := range map[string]map[string]json.RawMessage{
		"has no setting":                  {"tide": json.RawMessage("1")},
		"not a whole number from 1 to 50": {"depth": json.RawMessage("51")},
	} {
		_, err := admin.Open(t.Context(), api.OpenSession{Contract: "reef", Settings: settings})
		assert.ErrorContains(t, err, name)
	}
	sessions, err := admin.Sessions(t.Context())
	require.NoError(t, err)
	assert.Empty(t, sessions, "nothing was opened")

	s, err := admin.Open(
		t.Context(),
		api.OpenSession{
			Contract: "reef",
			Version:  1,
			Settings: map[string]json.RawMessage{"depth": json.RawMessage("33")},
		},
	)
	require.NoError(t, err)
	_, body, _ := get(t, "POST", admin.Service+"/api/sessions/1/clients", `{"name":"Ana"}`, nil)
	require.Contains(t, body, `"number":1`)
	_, body, _ = get(t, "POST", admin.Service+"/api/sessions/1/clients/1/ask", `{"request":"Diver.shout"}`, nil)
	require.Contains(t, body, `"accepted"`)
	truth := ""
	running := v.registry.Find(s.ID).Runner()
	require.NoError(t, running.Do(t.Context(), func() { truth = string(running.Session().ServerState().JSON()) }))
	for _, want := range []string{`"deep":33`, `"mark":7`, `"crew":"amber"`} {
		assert.Contains(t, truth, want)
	}

	// A contract that closes its session ends it for everyone, with the reason kept.
	_, body, _ = get(t, "POST", admin.Service+"/api/sessions/1/clients/1/ask", `{"request":"Diver.finish"}`, nil)
	_ = body // the decision may or may not arrive before the end
	require.Eventually(t, func() bool {
		s, err := admin.Session(t.Context(), s.ID)
		return err == nil && !s.Open && s.CloseReason == "the reef is done"
	}, 10*time.Second, 10*time.Millisecond)
	assert.Nil(t, v.registry.Find(s.ID))
}
