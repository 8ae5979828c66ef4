package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/core/audit"
	"kamerad.example/core/drill"
	"kamerad.example/internal/tests/testservice"
	"kamerad.example/store"
)

const hurt = `drill "%s"
use "whatever.kam"
clients ana
set ana.Diver.hull = 30
settle
expect ana sees ana.Diver.hull == %d
`

// over waits for a trial's end.
func over(t *testing.T, admin api.Client, id int64) (out api.Trial) {
	require.Eventually(t, func() bool {
		var err error
		out, err = admin.Trial(t.Context(), id)
		require.NoError(t, err)
		return out.Over()
	}, 30*time.Second, 5*time.Millisecond)
	return out
}

func refused(t *testing.T, err error, status int) *api.Problem {
	var p *api.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, status, p.Status, p.Detail)
	return p
}

// Drills and audits of a published version run in the service, and what came of them is kept.
func TestAPublishedVersionIsPutToTrial(t *testing.T) {
	_, admin := start(t, page)
	_, err := admin.Publish(t.Context(), "dive.kam", testservice.Contract, nil)
	require.NoError(t, err)
	name := "tidewreck"

	x, err := admin.StartTrial(
		t.Context(), name, 0,
		api.StartTrial{
			What:  "drills",
			Shake: 3,
			Drills: map[string]string{
				"a.drill": fmt.Sprintf(hurt, "as it is", 30),
				"b.drill": fmt.Sprintf(hurt, "as it is not", 31),
			},
		},
	)
	require.NoError(t, err)
	x = over(t, admin, x.ID)
	require.Equal(t, "ended", x.State, x.Summary)
	assert.False(t, *x.Passed)
	assert.Equal(t, "1 drill failed, 1 passed, over 3 random links each", x.Summary)
	var drills drill.Report
	require.NoError(t, json.Unmarshal(x.Report, &drills))
	require.Len(t, drills.Results, 2)
	assert.Equal(
		t, []any{"as it is", true, "as it is not", false},
		[]any{drills.Results[0].Drill, drills.Results[0].Passed, drills.Results[1].Drill, drills.Results[1].Passed},
	)
	assert.Equal(t, "b.drill", drills.Results[1].File)

	x, err = admin.StartTrial(t.Context(), name, 1, api.StartTrial{What: "audit", Rounds: 2, Ticks: 50})
	require.NoError(t, err)
	x = over(t, admin, x.ID)
	require.Equal(t, "ended", x.State, x.Summary)
	var audited audit.Report
	require.NoError(t, json.Unmarshal(x.Report, &audited))
	assert.NotZero(t, audited.Tried)
	assert.Equal(t, audited.Clean(), *x.Passed)

	list, err := admin.Trials(t.Context(), name, 0)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, []string{"audit", "drills"}, []string{list[0].What, list[1].What}, "the newest first")
	assert.Nil(t, list[0].Report, "lists have no reports")

	// What cannot be run is refused, and nothing is noted.
	_, err = admin.StartTrial(
		t.Context(), name, 0,
		api.StartTrial{
			What: "drills",
			Drills: map[string]string{
				"a.drill": "drill \"x\"\nuse \"dive.kam\"\nclients ana\nexpect ana sees ana.Diver.hul == 1\n",
			},
		},
	)
	assert.NotEmpty(t, refused(t, err, http.StatusUnprocessableEntity).Problems)
	_, err = admin.StartTrial(
		t.Context(), name, 0,
		api.StartTrial{
			What: "drills",
			Drills: map[string]string{
				"a.drill": fmt.Sprintf(
					hurt, "one", 30,
				) + strings.Replace(fmt.Sprintf(hurt, "two", 30), "whatever", "another", 1),
			},
		},
	)
	assert.Contains(t, refused(t, err, http.StatusUnprocessableEntity).Problems[0].Message, `no file "another.kam"`)
	for _, in := range []api.StartTrial{
		{What: "luck"},
		{What: "drills"},
		{What: "audit", Rounds: 1 << 20},
		{What: "audit", Shake: 1},
		{What: "drills", Shake: 1 << 20, Drills: map[string]string{"a.drill": fmt.Sprintf(hurt, "x", 30)}},
		{What: "drills", Drills: map[string]string{"../a.drill": fmt.Sprintf(hurt, "x", 30)}},
	} {
		_, err = admin.StartTrial(t.Context(), name, 0, in)
		refused(t, err, http.StatusBadRequest)
	}
	_, err = admin.StartTrial(t.Context(), "another", 0, api.StartTrial{What: "audit"})
	refused(t, err, http.StatusNotFound)
	_, err = admin.Trial(t.Context(), 999)
	refused(t, err, http.StatusNotFound)
	list, err = admin.Trials(t.Context(), name, 0)
	require.NoError(t, err)
	assert.Len(t, list, 2)

	// One runs at a time and the others wait; any can be stopped.
	var ids []int64
	for range 16 {
		x, err := admin.StartTrial(
			t.Context(), name, 0, api.StartTrial{What: "audit", Rounds: 1000, Ticks: 10_000},
		)
		require.NoError(t, err)
		ids = append(ids, x.ID)
	}
	_, err = admin.StartTrial(t.Context(), name, 0, api.StartTrial{What: "audit"})
	refused(t, err, http.StatusTooManyRequests)
	require.Eventually(t, func() bool {
		list, err := admin.Trials(t.Context(), name, 0)
		require.NoError(t, err)
		states := map[string]int{}
		for _, x := range list {
			states[x.State]++
		}
		return states["running"] == 1 && states["waiting"] == 16-1
	}, 10*time.Second, 5*time.Millisecond)
	for _, id := range ids[1:] {
		_, err := admin.StopTrial(t.Context(), id)
		require.NoError(t, err)
		assert.Equal(t, "stopped", over(t, admin, id).State)
	}
}

// A trial that the service did not end is told so when the next service begins.
func TestATrialThatWasLeftOver(t *testing.T) {
	url := testservice.Database(t)
	earlier, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	dive := store.Version{Contract: "dive", Outline: []byte("{}"), Report: []byte("{}")}
	v, _, err := earlier.Publish(t.Context(), dive)
	require.NoError(t, err)
	x, err := earlier.AddTrial(t.Context(), store.Trial{
		Contract: v.Contract,
		Version:  v.Version,
		What:     "audit",
		Asked:    []byte("{}"),
	})
	require.NoError(t, err)
	earlier.Close()
	db, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	defer db.Close()
	_, err = New(t.Context(), Options{Records: db, Recorder: store.NewRecorder(db), Console: page})
	require.NoError(t, err)
	x, err = db.Trial(t.Context(), x.ID)
	require.NoError(t, err)
	assert.Equal(t, "stopped", x.State)
	assert.Contains(t, x.Summary, "before it was done")
	for range 205 { // the oldest go
		y, err := db.AddTrial(t.Context(), store.Trial{
			Contract: v.Contract,
			Version:  v.Version,
			What:     "audit",
			Asked:    []byte("{}"),
		})
		require.NoError(t, err)
		y.State = "ended"
		y.EndedAt = &y.AskedAt
		require.NoError(t, db.SetTrial(t.Context(), y))
	}
	_, err = db.Trial(t.Context(), x.ID)
	assert.ErrorIs(t, err, store.ErrNotFound)
	list, err := db.Trials(t.Context(), v.Contract, v.Version, 1000)
	require.NoError(t, err)
	assert.Len(t, list, 200)
}

// What is kept in this process alone answers as the database does.
func TestTrialsWithoutADatabase(t *testing.T) {
	_, admin := alone(t)
	_, err := admin.Publish(t.Context(), "dive.kam", testservice.Contract, nil)
	require.NoError(t, err)
	for range 2 {
		x, err := admin.StartTrial(
			t.Context(), "tidewreck", 0,
			api.StartTrial{What: "drills", Drills: map[string]string{"a.drill": fmt.Sprintf(hurt, "as it is", 30)}},
		)
		require.NoError(t, err)
		x = over(t, admin, x.ID)
		require.NotNil(t, x.Passed, x.Summary)
		assert.True(t, *x.Passed)
	}
	list, err := admin.Trials(t.Context(), "tidewreck", 1)
	require.NoError(t, err)
	assert.Equal(t, []int64{2, 1}, []int64{list[0].ID, list[1].ID})
}
