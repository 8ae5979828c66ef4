package session

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/internal/tests/wild"
)

// Outlines are what their schema in the documents says, and it lets nothing else pass.
func TestOutlinesAreAsTheirSchemaSays(t *testing.T) {
	schema, err := jsonschema.NewCompiler().Compile("../../docs/outline.schema.json")
	require.NoError(t, err)
	valid := func(raw []byte) error {
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
		require.NoError(t, err)
		return schema.Validate(v)
	}
	whole, problems := compile.Load("wreck.kam", everything)
	require.NotNil(t, whole, "%s", problems)
	public, problems := compile.Load("reef.kam", `contract reef language 2
type Wall { a: int 0..9, b: text max 3 }
public const walls: list<Wall> max 2 = [Wall(a = 1, b = "x")]
public setting tide: int 0..9 = 3
setting dark: int 0..99 = 66
entity Diver per player { hull: int 0..9 = 0; on spawn { hull = tide; if dark > 70 { hull = 0 } } }
`)
	require.NotNil(t, public, "%s", problems)
	contracts := []*contract.Contract{tidewreck(t), whole, public}
	for seed := range uint64(40) {
		if c, _ := compile.Load("wild.kam", wild.Carried(rand.New(rand.NewPCG(seed, 1)))); c != nil {
			contracts = append(contracts, c)
		}
	}
	assert.Greater(t, len(contracts), 20)
	for _, c := range contracts {
		raw, err := json.Marshal(c.Outline())
		require.NoError(t, err)
		assert.NoError(t, valid(raw), c.Name)
	}
	s, err := New(public, Options{})
	require.NoError(t, err)
	assert.Equal(t, map[string]json.RawMessage{"tide": json.RawMessage("3")}, s.PublicSettings())
	raw, err := json.Marshal(public.Outline())
	require.NoError(t, err)
	require.Contains(t, string(raw), `"value":[{"a":1,"b":"x"}]`)
	assert.Error(t, valid(bytes.Replace(raw, []byte(`"value":`), []byte(`"is":`), 1)))
	raw, err = json.Marshal(whole.Outline())
	require.NoError(t, err)
	for _, change := range [][2]string{
		{
			`"form":"int"`, `"form":"whole"`,
		},
		{`"low":"-9223372036854775807"`, `"low":-9223372036854775807`},
		{`"per":"player"`, `"per":"Player"`},
		{
			`"lease_ms":1000`, `"lease":1000`,
		},
		{
			`"lanes":`, `"lane":`,
		},
		{`"unit":1`, `"unit":0`},
		{`"set_by":"owner"`, `"set_by":"anyone"`},
		{`"reasons":`, `"checks":`},
	} {
		broken := bytes.Replace(raw, []byte(change[0]), []byte(change[1]), 1)
		require.NotEqual(t, string(raw), string(broken), change[0])
		assert.Error(t, valid(broken), change[1])
	}
}

// Lines that are a constant and not public are told to those who look on, and to no client.
func TestWallsAreToldToThoseWhoLookOn(t *testing.T) {
	c, problems := compile.Load("reef.kam", `contract reef language 2
type Line { a: vec2 -9..9 step 0.5, b: vec2 -9..9 step 0.5 }
type Wall { a: vec2 -9..9 step 0.5, b: vec2 -9..9 step 0.5, height: int 0..9 }
public const shore: list<Line> max 2 = [Line(a = vec(0, 0), b = vec(1, 0))]
const wreck: list<Wall> max 2 = [Wall(a = vec(0, 1), b = vec(1, 1.5), height = 3)]
const spots: list<vec2 -9..9 step 0.5> max 2 = [vec(7, 7)]
const counts: list<int 0..9> max 2 = [7]
entity Diver per player {
  pos: vec2 -9..9 step 0.5 = vec(0, 0)
  on spawn { if crosses(line(pos, spots[0]), wreck) or crosses(line(pos, spots[0]), shore) { pos = vec(counts[0], 0) } }
}
`)
	require.NotNil(t, c, "%s", problems)
	full, err := json.Marshal(c.FullOutline().Walls)
	require.NoError(t, err)
	assert.Contains(t, string(full), `"value":[{"a":[0,1],"b":[1,1.5],"height":3}]`)
	require.Len(t, c.FullOutline().Walls, 1)
	assert.Equal(t, "wreck", c.FullOutline().Walls[0].Name)
	assert.Empty(t, c.Outline().Walls)
	assert.NotEmpty(t, tidewreck(t).FullOutline().Walls)
}
