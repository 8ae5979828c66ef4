// Package contracts loads contracts for tests. It holds no test of its own.
package contracts

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// Tally is a contract in which something changes with every tick.
const Tally = `contract tally language 1
seats 40 grace 30s
roles player
shared Sea { n: int 0..9999999 = 0; every 50ms { n += 1 } }
entity Diver per player { n: int 0..9 = 0 }
`

// Knock is a contract with one request that is always accepted.
const Knock = `contract knock language 1
seats 4 grace 60s
roles player
entity Diver per player { n: int 0..999999 = 0; request tap() { n += 1 } }
`

// Load returns the contract of a text that has no mistake; it may have findings.
func Load(t testing.TB, text string) *contract.Contract {
	t.Helper()
	c, problems := compile.Load("a.kam", text)
	require.NotNil(t, c, "%s\n%s", problems.Error(), text)
	return c
}

// Messages returns what is said of a contract that has no mistake: each finding's code, message and hint.
func Messages(t testing.TB, text string) (out []string) {
	t.Helper()
	c, problems := compile.Load("dock.kam", text)
	require.NotNil(t, c, "%s\n%s", problems.Error(), text)
	for _, p := range problems {
		out = append(out, p.Code+": "+p.Message+" = "+p.Hint)
	}
	return out
}

// File loads a contract from its file, with the files that it includes.
func File(t testing.TB, path string) (*contract.Contract, syntax.Problems) {
	t.Helper()
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	return compile.LoadWith(filepath.Base(path), string(raw), Beside(path))
}

// Tidewreck returns the contract of the demo, of which nothing is said. root is the way from the test's directory to
// the root of the project.
func Tidewreck(t testing.TB, root string) *contract.Contract {
	t.Helper()
	c, problems := File(t, filepath.Join(root, "demo", "tidewreck.kam"))
	require.Empty(t, problems, "Tidewreck has no finding left")
	return c
}

// Beside opens the files that lie beside one.
func Beside(file string) syntax.Open {
	return func(name string) (string, error) {
		raw, err := os.ReadFile(filepath.Join(filepath.Dir(file), filepath.Base(name)))
		if err != nil {
			return "", fmt.Errorf("there is no file %q", name)
		}
		return string(raw), nil
	}
}
