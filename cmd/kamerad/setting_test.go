package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A setting on the command line is JSON, a word, or the JSON of a file.
func TestSettingsOfTheCommandLine(t *testing.T) {
	folder := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	for value, want := range map[string]string{
		"5": "5", "calm": `"calm"`, "[1,2]": "[1,2]", "2s": `"2s"`,
		"@" + file("walls.json", `[{"a": [0, 0]}]`): `[{"a": [0, 0]}]`,
	} {
		raw, err := settingValue("tide", value)
		require.NoError(t, err)
		assert.Equal(t, want, string(raw))
	}
	for value, want := range map[string]string{
		"@" + file("broken.json", "[1,"):                            "broken.json holds is no JSON",
		"@" + file("long.json", `"`+strings.Repeat("a", 1<<20)+`"`): "has more than 1048576 bytes",
		"@" + filepath.Join(folder, "none.json"):                    "no such file",
	} {
		_, err := settingValue("tide", value)
		require.ErrorContains(t, err, "read the setting `tide`: ")
		require.ErrorContains(t, err, want)
	}
}
