// Package examples has games of several kinds, each a contract with its drills. They show what the language is for, and
// are held to what is asked of anybody's contract.
package examples

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/audit"
	"kamerad.example/core/compile"
	"kamerad.example/core/drill"
	"kamerad.example/core/syntax"
	"kamerad.example/internal/tests/contracts"
)

// games returns the contracts of all games.
func games(t *testing.T) []string {
	files, err := filepath.Glob("*/*.kam")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	return files
}

// read returns the text of a file.
func read(t *testing.T, file string) string {
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	return string(raw)
}

func TestExamplesAreRightAndInTheStyle(t *testing.T) {
	for _, file := range games(t) {
		_, problems := compile.LoadWith(file, read(t, file), contracts.Beside(file))
		assert.Empty(t, problems, problems.Error())
		out, _ := syntax.Format(syntax.NewSource(file, read(t, file)))
		assert.Equal(t, read(t, file), out, file)
	}
}

func TestDrillsOfExamplesPassOverBadLinks(t *testing.T) {
	for _, file := range games(t) {
		file = file[:len(file)-len("kam")] + "drill"
		out, _ := syntax.FormatDrills(syntax.NewSource(file, read(t, file)))
		assert.Equal(t, read(t, file), out, file)
		drills, problems := drill.Load(file, read(t, file), contracts.Beside(file))
		require.Empty(t, problems, problems.Error())
		for _, d := range drills {
			r, err := d.Run(context.Background(), drill.Options{})
			require.NoError(t, err)
			assert.True(t, r.Passed, "%s: %+v", d.Name, r.Failure)
			r, err = d.Shake(context.Background(), 1, 20, drill.Options{}, nil)
			require.NoError(t, err)
			assert.True(t, r.Passed, "%s: %+v %+v", d.Name, r.Failure, r.Shaken)
		}
	}
}

func TestNothingComesOfAttacksOnExamples(t *testing.T) {
	for _, file := range games(t) {
		c, problems := compile.LoadWith(file, read(t, file), contracts.Beside(file))
		require.NotNil(t, c, problems.Error())
		r, err := audit.Run(context.Background(), c, audit.Options{Seed: 1, Rounds: 6, Findings: problems})
		require.NoError(t, err)
		assert.True(t, r.Clean(), "%s: %+v", file, r.Causes)
		assert.GreaterOrEqual(t, r.Filled, 0.95, "%s: %v", file, r.Empty)
	}
}
