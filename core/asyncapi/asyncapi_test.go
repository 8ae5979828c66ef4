package asyncapi

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/contract"
)

// vector is what one client and the server said to each other.
type vector struct {
	Outline  *contract.Outline `json:"outline"`
	Frames   []saying          `json:"frames"`
	Messages []saying          `json:"messages"`
}

type saying struct {
	Says json.RawMessage `json:"says"`
}

// payloads are the schemas of a document's messages.
type payloads map[string]*jsonschema.Schema

// read compiles the schemas of the messages that an outline's document has.
func read(t *testing.T, o *contract.Outline) payloads {
	raw, err := Document(o)
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft7) // AsyncAPI's schemas are a superset of it
	require.NoError(t, c.AddResource("wreck.json", doc))
	out := payloads{}
	for name := range doc.(object)["components"].(object)["messages"].(object) {
		out[name], err = c.Compile("wreck.json#/components/messages/" + name + "/payload")
		require.NoError(t, err, name)
	}
	return out
}

// fits reports whether a message is as the document says one is, and why not.
func (p payloads) fits(t *testing.T, name string, message []byte) error {
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(message))
	require.NoError(t, err)
	require.Contains(t, p, name)
	return p[name].Validate(value)
}

// called returns the parameters of a request, or the type of a property, by its full name; false for none.
func called(o *contract.Outline, name string) (types []*contract.Type, ok bool) {
	kind, own, _ := strings.Cut(name, ".")
	k := o.Kind(kind)
	if k == nil {
		return nil, false
	}
	for _, r := range k.Requests {
		if r.Name == own {
			for _, p := range r.Params {
				types = append(types, p.Type)
			}
			return types, true
		}
	}
	for _, p := range k.Properties {
		if p.Name == own {
			return []*contract.Type{p.Type}, true
		}
	}
	return nil, false
}

// What the protocol's vectors hold is what the documents of their outlines say: every frame, and of clients' messages
// those whose values are of their types, and no others.
func TestVectorsAreAsTheDocumentSays(t *testing.T) {
	taken, refused := 0, 0
	for _, name := range []string{"one", "two", "three", "four", "everything"} {
		raw, err := os.ReadFile(filepath.Join("../wire/testdata/vectors", name+".json"))
		require.NoError(t, err)
		var v vector
		require.NoError(t, json.Unmarshal(raw, &v))
		p := read(t, v.Outline)
		for i, f := range v.Frames {
			require.NoError(t, p.fits(t, "frame", f.Says), "frame %d of %s: %s", i, name, f.Says)
		}
		for _, m := range v.Messages {
			var in struct {
				Type, Request, Property string
				Args                    []json.RawMessage
				Value                   json.RawMessage
			}
			require.NoError(t, json.Unmarshal(m.Says, &in))
			message, values := in.Type, in.Args
			switch {
			case in.Request != "":
				message = key(in.Type, in.Request)
			case in.Property != "":
				message = key(in.Type, in.Property)
				values = []json.RawMessage{in.Value}
			}
			types, known := called(v.Outline, in.Request+in.Property)
			if in.Request+in.Property != "" && !known {
				assert.NotContains(t, p, message)
				continue
			}
			isRight := len(types) == len(values)
			for j := range min(len(types), len(values)) {
				_, err := types[j].ParseJSON(values[j])
				isRight = isRight && err == nil
			}
			if in.Type == "press" || in.Type == "release" || in.Request+in.Property == "" {
				isRight = true
			}
			err := p.fits(t, message, m.Says)
			if isRight {
				require.NoError(t, err, "%s", m.Says)
				taken++
			} else {
				require.Error(t, err, "%s", m.Says)
				refused++
			}
		}
	}
	assert.Greater(t, taken, 20)
	assert.Positive(t, refused)
}

// A frame with what no client of the contract could be told is not as the document says.
func TestADocumentRefusesWhatNobodySays(t *testing.T) {
	raw, err := os.ReadFile("../wire/testdata/vectors/everything.json")
	require.NoError(t, err)
	var v vector
	require.NoError(t, json.Unmarshal(raw, &v))
	p := read(t, v.Outline)
	for _, wrong := range []string{
		`{"type":"frame"}`,
		`{"type":"frame","tick":1,"state":[{"spawned":[{"entity":7,"kind":"Eel","owner":0,"values":{}}]}]}`,
		`{"type":"frame","tick":1,"state":[{"values":[{"entity":7,"kind":"Diver","values":{"hull":101}}]}]}`,
		`{"type":"frame","tick":1,"state":[{"values":[{"entity":7,"kind":"Diver","values":{"shine":1}}]}]}`,
		`{"type":"frame","tick":1,"events":[{"event":"Diver.sank","entity":7,"values":{}}]}`,
	} {
		assert.Error(t, p.fits(t, "frame", []byte(wrong)), wrong)
	}
	right := `{"type":"frame","tick":1,"state":[{"values":[{"entity":7,"kind":"Diver","values":{"hull":100}}]}]}`
	assert.NoError(t, p.fits(t, "frame", []byte(right)))
}
