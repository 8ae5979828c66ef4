package trials

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/core/audit"
	"kamerad.example/core/compile"
	"kamerad.example/core/drill"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
	"kamerad.example/demo"
	"kamerad.example/internal/tests/planted"
	"kamerad.example/store"
)

// tidewreck is the demo's contract as a version of it is stored.
func tidewreck(t *testing.T) (store.Version, map[string]string) {
	names, err := filepath.Glob("../../demo/*.drill")
	require.NoError(t, err)
	drills := map[string]string{}
	for _, name := range names {
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		drills[filepath.Base(name)] = string(raw)
	}
	return store.Version{Contract: "tidewreck", Version: 1, Source: demo.Contract, Files: demo.Files}, drills
}

// watchedCopies makes the copies of what a watcher was told, and returns the messages.
func watchedCopies(
	t *testing.T, raw []json.RawMessage,
) (list []api.Watch, server replicate.Copy, clients map[int]*replicate.Copy) {
	clients = map[int]*replicate.Copy{}
	var sheet api.Watch
	for i, r := range raw {
		var m api.Watch
		require.NoError(t, json.Unmarshal(r, &m))
		list = append(list, m)
		if i == 0 {
			require.Equal(t, api.WatchSheet, m.Type)
			sheet = m
		} else {
			require.Equal(t, api.WatchTick, m.Type)
			require.Greater(t, m.Tick, list[i-1].Tick)
		}
		apply := func(c *replicate.Copy, frame json.RawMessage) {
			if frame == nil {
				return
			}
			f, _, err := wire.ParseFrame(frame, sheet.Outline)
			require.NoError(t, err)
			c.Apply(f)
		}
		apply(&server, m.Server)
		for _, c := range m.Clients {
			if clients[c.Number] == nil {
				clients[c.Number] = &replicate.Copy{}
			}
			for _, f := range c.Frames {
				raw, err := m.Frame(f)
				require.NoError(t, err)
				apply(clients[c.Number], raw)
			}
		}
	}
	return list, server, clients
}

// Who plays a drill is told what a watcher of its session would see: each tick, each decision, and copies that hold
// what arrived in that tick.
func TestAPlayedDrillTellsWhatAWatcherSees(t *testing.T) {
	version, drills := tidewreck(t)
	in := api.PlayDrill{Drills: drills, Drill: "a patch mends and is used up"}
	out, err := New(nil).Play(t.Context(), version, in)
	require.NoError(t, err)
	var result drill.Result
	require.NoError(t, json.Unmarshal(out.Result, &result))
	assert.True(t, result.Passed)
	list, server, clients := watchedCopies(t, out.Messages)
	last := list[len(list)-1]
	assert.Equal(t, result.Ticks, last.Tick)
	require.Len(t, clients, 2)
	diver := server.OwnedBy("Diver", 1)
	require.NotNil(t, diver)
	for n, c := range clients {
		held := c.Entity(diver.Number)
		require.NotNil(t, held, "client %d", n)
		hull, has := held.Value("hull")
		assert.True(t, has)
		assert.Equal(t, int64(65), hull.Num)
		_, has = held.Value("air")
		assert.Equal(t, n == 1, has, "air is its diver's alone")
	}
	used := 0
	for _, m := range list {
		for _, d := range m.Decisions {
			if d.Request == "Diver.use" && d.Outcome == wire.Accepted {
				assert.NotEmpty(t, d.Changes)
				used++
			}
		}
	}
	assert.Equal(t, 1, used)
}

// A run that is long is told of from near its end, beginning with a sheet.
func TestALongDrillIsToldOfFromNearItsEnd(t *testing.T) {
	version, _ := tidewreck(t)
	text := "drill \"long\"\nuse \"tidewreck.kam\" seed 5\nclients ana\nwait 3000 ticks\n"
	in := api.PlayDrill{Drills: map[string]string{"l.drill": text}, Drill: "long"}
	out, err := New(nil).Play(t.Context(), version, in)
	require.NoError(t, err)
	list, server, clients := watchedCopies(t, out.Messages)
	assert.InDelta(t, 3000-maxPlayTicks, list[0].Tick, 10)
	assert.Equal(t, server.OwnedBy("Diver", 1).Number, clients[1].OwnedBy("Diver", 1).Number)
}

// What is wrong with what is asked for is told, with what would be right.
func TestWhatCannotBePlayedIsRefused(t *testing.T) {
	version, drills := tidewreck(t)
	const patch = "a patch mends and is used up"
	mistaken := map[string]string{"x.drill": "drill \"x\"\nuse \"tidewreck.kam\"\nexpcet\n"}
	lossy := json.RawMessage(`{"faults":[{"client":"ana","what":"loss","share":2}]}`)
	for want, in := range map[string]api.PlayDrill{
		"there is no drill \"none\"":   {Drills: drills, Drill: "none"},
		"a trial of drills is given":   {Drill: "none"},
		"the drills have 1 mistake":    {Drills: mistaken, Drill: "x"},
		"read how the links are":       {Drills: drills, Drill: patch, Shaken: json.RawMessage(`7`)},
		"read the fault \"ana loss 20": {Drills: drills, Drill: patch, Shaken: lossy},
	} {
		_, err := New(nil).Play(t.Context(), version, in)
		assert.ErrorContains(t, err, want)
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	busy := New(nil)
	busy.playing <- struct{}{}
	_, err := busy.Play(over, version, api.PlayDrill{Drills: drills, Drill: patch})
	assert.ErrorIs(t, err, context.Canceled)
}

// playedFault is a drill that is played with a fault planted.
type playedFault struct {
	Name     string            `json:"name"`
	Between  bool              `json:"between"` // it is planted between the session and one client
	Drill    string            `json:"drill"`
	Failure  *drill.Failure    `json:"failure"`
	Messages []json.RawMessage `json:"messages"`
}

// Each planted fault can be played as the drill that finds it runs. The console's tests, which hold the sheet against
// what is played, name a folder that it goes into.
func TestPlantedFaultsArePlayed(t *testing.T) {
	version, drills := tidewreck(t)
	into := os.Getenv("KAMERAD_PLANTED")
	for i, f := range planted.Faults() {
		with := version
		if f.From != "" {
			with.Source = strings.Replace(version.Source, f.From, f.To, 1)
			require.NotEqual(t, version.Source, with.Source, f.Name)
		}
		list, err := loadDrills(with, drills)
		require.NoError(t, err)
		found := false
		for _, d := range list {
			r, err := d.Run(t.Context(), drill.Options{Tamper: f.Tamper})
			require.NoError(t, err)
			if r.Passed || f.Says != "" && !strings.Contains(r.Failure.Message+r.Failure.Text, f.Says) {
				continue
			}
			out, err := play(t.Context(), with, d, drill.Options{Tamper: f.Tamper})
			require.NoError(t, err)
			watchedCopies(t, out.Messages)
			found = true
			if into != "" {
				raw, err := json.Marshal(playedFault{f.Name, f.Tamper != nil, d.Name, r.Failure, out.Messages})
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(filepath.Join(into, fmt.Sprintf("%02d.json", i)), raw, 0o600))
			}
			break
		}
		assert.True(t, found, f.Name)
	}
}

// The shortest run of what an audit found is played as a drill is, up to the tick in which it shows.
func TestTheRunOfAnEffectIsPlayed(t *testing.T) {
	version := store.Version{Contract: "yard", Version: 1, Source: `contract yard language 1
seats 10
roles player
entity Diver per player {
  air:  int 0..100 = 100 clamped
  left: int 0..9 = 3
  request spend() limit 4 per second { left -= 1 }
  request share() limit 4 per second { air = 90 / left }
}`}
	c, problems := compile.Load("yard.kam", version.Source)
	require.NotNil(t, c, problems.Error())
	report, err := audit.Run(t.Context(), c, audit.Options{Seed: 4, Rounds: 2, Ticks: 200})
	require.NoError(t, err)
	n := 1 + slices.IndexFunc(report.Causes, func(e *audit.Effect) bool {
		return strings.Contains(e.Text, "division by zero")
	})
	require.Positive(t, n)
	of := api.Trial{ID: 7, What: "audit", Report: api.Encode(report)}
	out, err := New(nil).PlayEffect(t.Context(), of, version, n)
	require.NoError(t, err)
	list, _, clients := watchedCopies(t, out.Messages)
	last := list[len(list)-1]
	assert.Equal(t, report.Causes[n-1].Played.Ticks, last.Tick)
	faulted := slices.IndexFunc(last.Decisions, func(d api.Decision) bool { return d.Outcome == wire.Faulted })
	assert.GreaterOrEqual(t, faulted, 0)
	assert.NotEmpty(t, clients)
	require.NotNil(t, last.Faults)
	assert.Equal(t, "division by zero", last.Faults.Last[0].Reason)
	assert.Equal(t, []int{list[0].Session.Version, len(list[0].Clients)}, []int{1, 0})

	for want, in := range map[string]struct {
		of api.Trial
		n  int
	}{
		"trial 7 is no audit that has ended": {api.Trial{ID: 7, What: "audit"}, 1},
		"trial 8 is no audit":                {api.Trial{ID: 8, What: "drills", Report: of.Report}, 1},
		"has no run of an effect 0":          {of, 0},
		"has no run of an effect 99":         {of, 99},
	} {
		_, err := New(nil).PlayEffect(t.Context(), in.of, version, in.n)
		assert.ErrorContains(t, err, want)
	}
}
