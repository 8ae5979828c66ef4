package service

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/contract"
)

const publicText = `contract reef language 2
type Wall { a: int 0..9, b: text max 3 }
public const walls: list<Wall> max 2 = [Wall(a = 1, b = "x")]
public const mark: text max 9 = "reef"
const hidden: int 0..99 = 77
public const steps: list<int 0..9> max 3 from "steps.json"
const ways: list<int 0..99> max 3 from "ways.json"
public setting tide: int 0..9 = 3
public setting crews: list<text max 9> max 3 = []
setting dark: int 0..99 = 66
entity Diver per player { hull: int 0..999 = 0; on spawn { hull = hidden + dark + tide + ways[0] } }
`

// Clients get public constants with the outline and public settings as their session has them, and no others.
func TestClientsGetWhatIsPublic(t *testing.T) {
	_, admin := start(t, page)
	files := contract.Files{"steps.json": "[4, 5]", "ways.json": "[88]"}
	v, err := admin.Publish(t.Context(), "reef.kam", publicText, files)
	require.NoError(t, err)
	for _, given := range []string{`{}`, `{"tide": 5, "crews": ["cobalt", "amber"], "dark": 9}`} {
		settings := map[string]json.RawMessage{}
		require.NoError(t, json.Unmarshal([]byte(given), &settings))
		s, err := admin.Open(t.Context(), api.OpenSession{Contract: "reef", Version: v.Version, Settings: settings})
		require.NoError(t, err)
		outline, err := admin.Outline(t.Context(), s.ID)
		require.NoError(t, err)
		for _, known := range []*contract.Outline{nil, outline} {
			c, err := client.Join(t.Context(), admin.Service, s.ID, "Ana", "", client.Options{Outline: known})
			require.NoError(t, err)
			for name, want := range map[string]string{
				"walls": `[{"a":1,"b":"x"}]`, "mark": `"reef"`, "steps": "[4,5]", "tide": or(settings["tide"], "3"),
				"crews": or(settings["crews"], "[]"),
			} {
				v, typ, err := c.Public(name)
				require.NoError(t, err, name)
				assert.JSONEq(t, want, string(typ.AppendJSON(nil, v)))
			}
			for _, name := range []string{"hidden", "dark", "ways", "pearl"} {
				_, _, err := c.Public(name)
				assert.ErrorContains(t, err, "only: walls, mark, steps, tide, crews")
			}
			raw, err := json.Marshal(c.Outline())
			require.NoError(t, err)
			assert.NotRegexp(t, "hidden|dark|ways|77|66|88", string(raw))
			c.Close()
		}
	}
	before, err := admin.Publish(t.Context(), "reef.kam", publicText, files)
	require.NoError(t, err)
	after, err := admin.Publish(t.Context(), "reef.kam", strings.Replace(publicText, "a = 1", "a = 2", 1), files)
	require.NoError(t, err)
	assert.NotEqual(t, before.Fingerprint, after.Fingerprint, "a client that was made for the old one is told")
}

// or returns a value that was given, or else another one.
func or(given json.RawMessage, other string) string {
	if given == nil {
		return other
	}
	return string(given)
}
