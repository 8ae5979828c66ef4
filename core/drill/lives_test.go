package drill

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/record"
	"kamerad.example/core/wire"
)

// What becomes of a session whose process is killed, and of what players keep.
func TestSessionsThatEnd(t *testing.T) {
	const head = "drill \"d\"\nuse \"tidewreck.kam\" seed 5\nclients ana, bo\nset Dive.phase = dive\nsettle\nwait 1s\n"
	for lines, wrong := range map[string]string{
		"set ana.Diver.hull = 40\nwait 5 ticks\nrestart\nsettle\nexpect everyone sees ana.Diver.hull == 40":        "",
		"set ana.Diver.hull = 40\nrestart\nsettle\nexpect everyone sees ana.Diver.hull == 40":                      "",
		"set ana.Diver.hull = 40\nwait 5 ticks\nrestart losing 5 ticks\nexpect server sees ana.Diver.hull == 100":  "",
		"set ana.Diver.hull = 40\nsettle\nwait 5 ticks\nrestart losing 20 ticks\nsettle\nexpect everyone in step":  "",
		"restart\nrestart\nset ana.Diver.hull = 40\nsettle\nrestart\nsettle\nexpect bo sees ana.Diver.hull == 40":  "",
		"join cleo\nrestart losing 4 ticks\nexpect server sees count(d in Diver) == 2\ncleo asks Diver.use(patch)": "cleo has left",
		"cut bo\nrestart\nsettle\nback bo\nsettle\nexpect bo in step":                                              "",
		"ana holds Diver.kick\nwait 5 ticks\nrestart\nsettle\nana releases Diver.kick\nsettle\nexpect ana in step": "",
		"ana asks Diver.use(patch)\nrestart\nsettle\nexpect everyone heard 1 ana.Diver.used(patch)":                "",
		"restart losing 9000 ticks": "ticks can be lost here",
		"restart at 3":              "tick 3 has been",
		"set ana.Diver.score = 8\nnext session\nclients ana\nexpect server sees ana.Diver.score == 8":          "",
		"set ana.Diver.score = 8\nleave ana\nwait 1 tick\njoin ana\nexpect server sees ana.Diver.score == 8":   "",
		"set ana.Diver.score = 8\nrestart\nnext session\nclients ana\nexpect server sees ana.Diver.score == 8": "",
		"set ana.Diver.hull = 8\nnext session\nclients ana\nexpect server sees ana.Diver.hull == 100":          "",
		"next session\nana asks Diver.use(patch)":                                                              "ana has not joined",
		"let d = ana.Diver\nnext session\nclients ana\nexpect server sees d.hull == 100":                       "nothing is called `d`",
		"cleo keeps Diver.score = 12\njoin cleo\nexpect everyone sees cleo.Diver.score == 12":                  "",
		"ana keeps Diver.score = 12":               "ana is in already",
		"ana keeps Diver.hull = 12":                "no property that players keep",
		"leave ana\nana keeps Diver.score = 10000": "10000",
		"dora keeps Diver.score = 1":               "no client is called `dora`",
	} {
		lines = strings.ReplaceAll(lines, "; ", "\n")
		list, problems := Load("test.drill", head+lines+"\n", beside(nil))
		if len(problems) > 0 {
			assert.NotEmpty(t, wrong, "%s: %v", lines, problems)
			assert.Contains(t, problems.Error(), wrong, lines)
			continue
		}
		r := played(t, list[0], Options{})
		if wrong == "" {
			assert.True(t, r.Passed, "%s: %+v", lines, r.Failure)
			continue
		}
		if assert.False(t, r.Passed, lines) {
			assert.Contains(t, r.Failure.Message, wrong, lines)
		}
	}
	// Without a database a host's session has nothing that could be recovered.
	host := "drill \"d\"\nuse \"tidewreck.kam\"\nhost ana\nrestart\n"
	r := played(t, load(t, host)[0], Options{})
	require.False(t, r.Passed)
	assert.Contains(t, r.Failure.Message, "ana is the host")
}

// A session that was recovered goes on above all ticks that there were, and each client is told once that it is another
// incarnation, with what was kept.
func TestARestartIsAnotherIncarnation(t *testing.T) {
	d := load(t, "drill \"d\"\nuse \"tidewreck.kam\"\nclients ana, bo\nwait 1s\nrestart at 500\nsettle\nwait 1s\n"+
		"restart losing 5 ticks\nsettle\n")[0]
	told := map[int][]int64{}
	o := Options{Tamper: func(client int, f *wire.Frame) *wire.Frame {
		if f.Incarnation != nil {
			told[client] = append(told[client], f.Tick, f.Incarnation.Kept)
		}
		return f
	}}
	r, err := d.run(t.Context(), o, false)
	require.NoError(t, err)
	// One second, and two ticks in which they joined; then one more and five seconds to spare.
	last := []int64{500, 22, 622, 516}
	assert.Equal(t, map[int][]int64{1: last, 2: last}, told)
	assert.GreaterOrEqual(t, r.stage.session.Now(), int64(622))
}

// What is wrong with the recording from which a drill begins.
func TestRecordingsOfDrills(t *testing.T) {
	key := Key(3)
	text, err := beside(nil)("tidewreck.kam")
	require.NoError(t, err)
	head := record.Head{Engine: record.Revision, Contract: "tidewreck", Source: text, Key: key[:]}
	var empty, old, keyless strings.Builder
	require.NoError(t, record.Export(t.Context(), &empty, head, &record.Recording{}, -1))
	head.Engine++
	require.NoError(t, record.Export(t.Context(), &old, head, &record.Recording{}, -1))
	head.Engine--
	head.Key = nil
	require.NoError(t, record.Export(t.Context(), &keyless, head, &record.Recording{}, -1))
	files := map[string]string{
		"empty.ndjson":   empty.String(),
		"old.ndjson":     old.String(),
		"keyless.ndjson": keyless.String(),
		"text.ndjson":    "a text",
		"left.ndjson":    empty.String() + `{"call":"Leave"}` + "\n" + `{"call":"Tick","tick":9}` + "\n",
	}
	for use, wrong := range map[string]string{
		`"empty.ndjson" at 0`:          "",
		`"empty.ndjson"`:               "",
		`"empty.ndjson" at 4`:          "no tick 4; it ends with 0",
		`"old.ndjson"`:                 "do not compute the same",
		`"keyless.ndjson"`:             "no key",
		`"text.ndjson"`:                "not the head of one",
		`"none.ndjson"`:                "no such file",
		`"left.ndjson"`:                "",
		`"empty.ndjson" with tide = 2`: "its own settings",
		`"empty.ndjson" seed 3`:        "expected",
	} {
		drill := "drill \"d\"\nuse \"tidewreck.kam\" from " + use + "\njoin ana\nexpect server sees ana.Diver.hull == 100\n"
		list, problems := Load("test.drill", drill, beside(files))
		if wrong != "" {
			assert.Contains(t, problems.Error(), wrong, use)
			continue
		}
		require.Empty(t, problems, use)
		r := played(t, list[0], Options{})
		assert.True(t, r.Passed, "%s: %+v", use, r.Failure)
	}
}
