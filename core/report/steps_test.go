package report_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/codegen"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/report"
	"kamerad.example/core/rules"
	"kamerad.example/core/world"
)

const stepsText = `contract steps language 2
type Wall { a: Place, b: Place }
type Link { a: int 0..9, b: int 0..9 }
setting reef: list<Wall> max 40 = [WALLS]
type Place = vec2 -200..200 step 0.01
const stops = [1, 2, 3]
audience far(t: Thing) = viewer.Diver.n < t.n
entity Diver per player {
  n: int 0..1000000 = 0
  pos: Place = vec(0, 0)
  event seen()
  action again() { for t in Thing where t.n == n { for u in Thing where u.n != n { n = u.n } } }
  request each()    { for t in Thing { n = clip(n + t.n, 0..99) } }
  request nested()  { for t in Thing { for s in stops { for c in clients { n = clip(n + s, 0..99) } } } }
  request runs()    { do again(); for s in stops { do again() } }
  request counts()  { n = count(Thing) }
  request near()    { n = count(t in Thing within 50 of pos) }
  request nearest() { n = least(t in Thing where t.n > 1000: distance(t.pos, pos) else self.any_thing).n }
  request spawns()  { for s in stops { spawn Sled } }
  request tells()   { for t in Thing { tell far(t) t.told() } }
  request walls()   { if crosses(line(pos, vec(180, 30)), own) or free(pos, 3, reef) { pos = along_walls(pos, vec(9, 9), own, 1) } }
  request nears()   { pos = nearest(vec(-9, -9), own); pos = nearest(vec(180, 180), reef) }
  request route()   { let way = route(0, 2, spots, links); n = way.count() + count(Thing) }
  request sorts()   { sort w in own by distance(w.a, pos) }
  request words()   { text = words("{n} of {tag} at {pos.x}"); n = count(t in Thing where t.n > 5) }
  own: list<Wall> max 20 = [FEW]
  text: text max 300; tag: text max 60 = "ääääääääääääääääääääääääääääääääääääääääääääääääääääääääääää"
  request adds()    { n = clip(sum(t in Thing: longest(t)), 0..99) }
  any_thing: ref Thing = nothing
}
entity Thing { pos: Place; n: int 0..1000000 = 0; event told() }
entity Sled { on spawn { for t in Thing { t.n += 0 } } }
const spots: list<Place> max 60 = [SPOTS]
const links: list<Link> max 9 = [Link(a = 0, b = 1), Link(a = 1, b = 2)]
shared Sea { on start { spawn Thing { pos = vec(0, 0) }; spawn Sled } }
fn longest(t: Thing) -> int = max(u in Thing: u.n + t.n)`

// stepsContract returns the contract of stepsText, with walls.
func stepsContract(t *testing.T) *contract.Contract {
	var walls []string
	var spots []string
	for i := range 40 {
		spots = append(spots, fmt.Sprintf("vec(%d, 0)", i))
		walls = append(walls, fmt.Sprintf("Wall(a = vec(%d, 0), b = vec(%d, 9))", 4*i-80, 4*i-80))
	}
	text := strings.Replace(stepsText, "WALLS", strings.Join(walls, ", "), 1)
	text = strings.Replace(text, "FEW", strings.Join(walls[:20], ", "), 1)
	text = strings.Replace(text, "SPOTS", strings.Join(spots, ", "), 1)
	c, problems := compile.Load("steps.kam", text)
	require.NotNil(t, c, problems.Error())
	return c
}

// What a body takes is never more than what was told, and what was told is of use: some bodies take nearly as much.
func TestNoBodyTakesMoreStepsThanTold(t *testing.T) {
	c := stepsContract(t)
	const things = 30
	cost, err := report.NewCost(c, 4, map[string]int{"Thing": things})
	require.NoError(t, err)
	rows := map[string]report.BodyRow{}
	for i, b := range cost.Bodies {
		rows[b.Of] = b
		assert.True(t, i == 0 || cost.Bodies[i-1].Steps >= b.Steps, "the most first")
		assert.Positive(t, b.Line, b.Of)
	}
	p, err := codegen.Generate(c)
	require.NoError(t, err)
	w := world.New(c, nil)
	m := rules.NewMachine(p, w, [32]byte{})
	for i := range 4 {
		w.AddClient(world.Client{Number: i + 1, Name: "Ana"})
		w.Spawn(c.Kinds[0], i+1)
	}
	for range things {
		w.Spawn(c.Kinds[1], 0)
	}
	w.Commit()
	self := w.OfClient(0, 1)
	w.Set(self, c.Kinds[0].Property("any_thing"), []int64{int64(w.OfKind(1)[0].ID)})
	for _, r := range c.Requests {
		before := m.Used()
		out := m.Ask(r, self, 1, nil)
		if out != nil {
			require.Fail(t, out.Reason, r.Name)
		}
		took := m.Used() - before - 20 // which each run takes
		told := rows["request "+r.Name+" of Diver"].Steps
		assert.LessOrEqual(t, took, told, r.Name)
		if r.Name == "each" || r.Name == "nested" || r.Name == "adds" || r.Name == "spawns" || r.Name == "tells" {
			assert.GreaterOrEqual(t, took*2, told, r.Name)
		}
	}
}

// Each query is told with how it is found.
func TestACostTellsHowQueriesAreFound(t *testing.T) {
	cost, err := report.NewCost(stepsContract(t), 4, nil)
	require.NoError(t, err)
	found := map[string][]report.QueryRow{}
	for _, b := range cost.Bodies {
		for _, q := range b.Queries {
			q.Line = 0
			found[b.Of] = append(found[b.Of], q)
		}
	}
	assert.Equal(t, map[string][]report.QueryRow{
		"action again of Diver": {{Over: "Thing", By: "value"}, {Over: "Thing", By: "each"}},
		"request each of Diver": {{Over: "Thing", By: "each"}},
		"request nested of Diver": {
			{Over: "Thing", By: "each"}, {Over: "a list", By: "each"}, {Over: "clients", By: "each"},
		},
		"request runs of Diver":    {{Over: "a list", By: "each"}},
		"request counts of Diver":  {{Over: "Thing", By: "number"}},
		"request near of Diver":    {{Over: "Thing", By: "place"}},
		"request nearest of Diver": {{Over: "Thing", By: "nearest"}},
		"request spawns of Diver":  {{Over: "a list", By: "each"}},
		"request tells of Diver":   {{Over: "Thing", By: "each"}},
		"request walls of Diver": {
			{Over: "own", By: "each"}, {Over: "reef", By: "place"}, {Over: "own", By: "each"},
		},
		"request nears of Diver": {{Over: "own", By: "each"}, {Over: "reef", By: "place"}},
		"request route of Diver": {{Over: "Thing", By: "number"}},
		"request sorts of Diver": {{Over: "own", By: "each"}},
		"request words of Diver": {{Over: "Thing", By: "each"}},
		"request adds of Diver":  {{Over: "Thing", By: "each"}},
		"function longest":       {{Over: "Thing", By: "each"}},
		"on spawn of Sled":       {{Over: "Thing", By: "each"}},
	}, found)
}

// Bodies that spawn each other without end have no most.
func TestWhatRunsItselfHasNoMost(t *testing.T) {
	c, problems := compile.Load("endless.kam", `contract endless language 1
entity Thing { n: int 0..9 = 0; on spawn { for t in Thing { spawn Thing { n = 1 } } } }
shared Sea { on start { spawn Thing } }`)
	require.NotNil(t, c, problems.Error())
	cost, err := report.NewCost(c, 4, map[string]int{"Thing": 1_000_000})
	require.NoError(t, err)
	assert.Equal(t, int64(1<<63-1), cost.Bodies[0].Steps)
}
