package drill

import (
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// closedSets are the values that the runner decides by: outcomes, what copies tell of, messages, verbs, and what links
// do.
var closedSets = [][]string{
	{"wire.Accepted", "wire.Denied", "wire.Dropped", "wire.Malformed", "wire.Faulted"},
	{
		"replicate.ClientJoined", "replicate.ClientLeft", "replicate.EntitySpawned", "replicate.OwnerChanged",
		"replicate.FieldLost", "replicate.FieldChanged", "replicate.EventReceived", "replicate.EntityGone",
		"replicate.BecameMine",
	},
	{
		"wire.MessageReady", "wire.MessageSeen", "wire.MessageAsk", "wire.MessageWrite", "wire.MessagePress",
		"wire.MessageRelease",
	},
	{
		"syntax.VerbAsks", "syntax.VerbWrites", "syntax.VerbHolds", "syntax.VerbPresses", "syntax.VerbReleases",
		"syntax.VerbRenews", "syntax.VerbForges",
	},
	{
		"syntax.ExpectSees", "syntax.ExpectMisses", "syntax.ExpectHeard", "syntax.ExpectNoticed", "syntax.ExpectStrikes",
		"syntax.ExpectExpelled", "syntax.ExpectSent", "syntax.ExpectLogged", "syntax.ExpectGot", "syntax.ExpectInStep", "syntax.ExpectFaults",
	},
	{"syntax.MoveLeave", "syntax.MoveCut", "syntax.MoveBack"},
	{`"server"`, `"everyone"`, `"nobody"`, `"nothing"`},
	{"FaultStall", "FaultLoss", "FaultJitter", "FaultDelay"},
}

// mutant is a file of the package with one value in place of another of its set.
type mutant struct {
	file, name string
	text       []byte
}

// mutants returns all of the package.
func mutants(t *testing.T) (out []mutant) {
	names, err := filepath.Glob("*.go")
	require.NoError(t, err)
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		files := token.NewFileSet()
		tree, err := parser.ParseFile(files, name, raw, 0)
		require.NoError(t, err)
		ast.Inspect(tree, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.ImportSpec, *ast.Field: // paths, and the tags of fields
				return false
			case *ast.GenDecl: // a constant that is declared twice is no mutant
				return n.Tok != token.CONST
			case *ast.SelectorExpr, *ast.BasicLit, *ast.Ident:
			default:
				return true
			}
			from := files.Position(n.Pos())
			to := files.Position(n.End())
			was := string(raw[from.Offset:to.Offset])
			for _, set := range closedSets {
				if !slices.Contains(set, was) {
					continue
				}
				for _, other := range set {
					if other == was {
						continue
					}
					text := slices.Concat(raw[:from.Offset], []byte(other), raw[to.Offset:])
					out = append(
						out,
						mutant{name, fmt.Sprintf("%s:%d:%d %s for %s", name, from.Line, from.Column, other, was), text},
					)
				}
			}
			return true
		})
	}
	return out
}

// The runner decides by at least one value of each set: a set whose values were renamed would make no mutants.
func TestEveryClosedSetMakesMutants(t *testing.T) {
	all := mutants(t)
	for _, set := range closedSets {
		assert.True(t, slices.ContainsFunc(all, func(m mutant) bool {
			return slices.ContainsFunc(set, func(value string) bool { return strings.HasSuffix(m.name, " for "+value) })
		}), "%v", set)
	}
}

// Of each value of a closed set that the runner decides by, each other one is put in its place: nearly all of these
// mutants fail a test. That takes an hour, so it runs only with KAMERAD_MUTANTS=1/1; a part of them with 2/5, some with
// a regular expression of their names.
func TestEachSwappedConstantIsNoticed(t *testing.T) {
	wanted := os.Getenv("KAMERAD_MUTANTS")
	if wanted == "" {
		t.Skip("KAMERAD_MUTANTS=1/1 is not set")
	}
	part := 1
	of := 1
	only := regexp.MustCompile("")
	if _, err := fmt.Sscanf(wanted, "%d/%d", &part, &of); err != nil {
		part = 1
		of = 1
		only = regexp.MustCompile(wanted)
	}
	dir := t.TempDir()
	here, err := os.Getwd()
	require.NoError(t, err)
	var survivors []string
	tried := 0
	for i, m := range mutants(t) {
		if i%of != part-1 || !only.MatchString(m.name) {
			continue
		}
		tried++
		file := filepath.Join(dir, "mutant.go")
		overlay := filepath.Join(dir, "overlay.json")
		binary := filepath.Join(dir, "mutant.test")
		require.NoError(t, os.WriteFile(file, m.text, 0o600))
		raw, err := json.Marshal(map[string]any{"Replace": map[string]string{filepath.Join(here, m.file): file}})
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(overlay, raw, 0o600))
		out, err := exec.Command(
			"go", "test", "-c", "-vet=off", "-overlay", overlay, "-o", binary, ".",
		).CombinedOutput()
		if err != nil { // two cases of a switch or keys of a map alike: the compiler notices
			require.Contains(t, string(out), "duplicate ", m.name)
			continue
		}
		if passes(binary, here) {
			survivors = append(survivors, m.name)
			t.Log("not noticed: ", m.name)
		}
	}
	t.Logf("%d mutants, %d not noticed:\n%s", tried, len(survivors), strings.Join(survivors, "\n"))
	assert.LessOrEqual(t, float64(len(survivors)), 0.05*float64(tried))
}

// passes reports whether the tests of a binary pass. One that hangs fails.
func passes(binary, dir string) bool {
	c := exec.Command(binary, "-test.failfast", "-test.timeout", "2m")
	c.Dir = dir
	c.Env = append(os.Environ(), "KAMERAD_MUTANTS=")
	return c.Run() == nil
}
