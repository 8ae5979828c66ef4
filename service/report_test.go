package service

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/report"
	"kamerad.example/internal/tests/testservice"
	"kamerad.example/store"
)

// What a version means is computed when it is published and kept with it; two versions can be compared.
func TestAVersionIsReportedOn(t *testing.T) {
	db, err := store.Open(t.Context(), testservice.Database(t))
	require.NoError(t, err)
	t.Cleanup(db.Close)
	v, err := New(t.Context(), Options{Records: db, Recorder: store.NewRecorder(db), Console: page})
	require.NoError(t, err)
	admin := serve(t, v)
	text := `contract wreck language 1
shared Box {
  answer: int 0..4 = 0 clamped to nobody
  opened: int 0..4 = 0
  request peek() from player
    limit 1 per second
    check opened < 3 else deny "enough"
  { opened = answer; answer += 1 }
}
`
	first, err := admin.Publish(t.Context(), "wreck.kam", text, nil)
	require.NoError(t, err)
	require.Len(t, first.Findings, 1)
	assert.Equal(t, "leak", first.Findings[0].Code)
	stored, err := db.Version(t.Context(), "wreck", 1)
	require.NoError(t, err)
	require.NotEmpty(t, stored.Report)

	reportAt := func(path string) (out report.Report) {
		status, raw, _ := get(t, "GET", admin.Service+"/api/contracts/wreck"+path, "", nil)
		require.Equal(t, http.StatusOK, status, raw)
		require.NoError(t, json.Unmarshal([]byte(raw), &out))
		return out
	}
	got := reportAt("/versions/1/report")
	assert.Equal(t, first.Fingerprint, got.Fingerprint)
	require.Len(t, got.Findings, 1)
	assert.Equal(t, 8, got.Findings[0].Line)
	require.Len(t, got.Matrix.Properties, 2)
	assert.Equal(t, report.MatrixProperty{
		Name:   "Box.answer",
		Type:   "int 0..4",
		To:     "nobody",
		Access: []report.Access{report.Never, report.Never},
		Writer: "server",
		By:     []string{"Box.peek"},
		Line:   3,
	}, got.Matrix.Properties[0])
	assert.Equal(t, []string{"Box.answer", "Box.opened"}, got.Matrix.Requests[0].Changes)
	assert.Equal(t, 16, got.Cost.Clients)
	require.Len(t, got.Outline.Kinds[0].Properties, 1)
	assert.Equal(t, []string{"opened < 3"}, got.Outline.Kinds[0].Requests[0].Known)

	_, err = admin.Publish(
		t.Context(), "wreck.kam",
		strings.NewReplacer(
			"opened: int 0..4 = 0", "opened: int 0..9 = 0", "opened = answer", "opened = reveal(answer)",
		).Replace(
			text,
		),
		nil,
	)
	require.NoError(t, err)
	assert.Empty(t, reportAt("/versions/0/report").Findings)
	status, raw, _ := get(t, "GET", admin.Service+"/api/contracts/wreck/compare?from=1&to=2", "", nil)
	require.Equal(t, http.StatusOK, status, raw)
	var x report.Comparison
	require.NoError(t, json.Unmarshal([]byte(raw), &x))
	assert.True(t, x.TakesOver)
	assert.Equal(t, []string{"Box.opened"}, x.Lose)
	require.Len(t, x.Changes, 2)
	assert.Equal(t, report.Difference{
		What:   "property",
		Name:   "Box.opened",
		How:    report.Changed,
		Aspect: "type",
		Was:    "int 0..4",
		Is:     "int 0..9",
		Then:   "it keeps its value",
	}, x.Changes[0])
	assert.Equal(t, "body", x.Changes[1].Aspect)
	for path, want := range map[string]int{
		"/compare?from=1&to=7": 404,
		"/compare?from=x":      400,
		"/versions/-1/report":  400,
		"/versions/9/report":   404,
	} {
		status, _, kind := get(t, "GET", admin.Service+"/api/contracts/wreck"+path, "", nil)
		assert.Equal(t, want, status, path)
		assert.Equal(t, "application/problem+json", kind)
	}
}
