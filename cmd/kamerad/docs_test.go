package main

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/policy"
	"kamerad.example/core/session"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
	"kamerad.example/demo"
	"kamerad.example/internal/tests/testservice"
)

var fence = regexp.MustCompile("(?s)```([a-z]+)\n(.*?)```")

// Every block in the documents is what it claims to be: contracts are right, commands run, messages can be read.
func TestWhatTheDocumentsShow(t *testing.T) {
	files, err := filepath.Glob(filepath.Join(root, "docs/*.md"))
	require.NoError(t, err)
	c, _ := compile.LoadWith("tidewreck.kam", demo.Contract, demo.Files.Open)
	script, err := os.ReadFile("../../run")
	require.NoError(t, err)
	testservice.Binary(t) // built before the folder changes
	var service *testservice.Process
	last := "" // what the last command printed
	for _, file := range append(files, filepath.Join(root, "README.md")) {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		beside := contract.Files{}
		service = nil // each document begins afresh
		t.Chdir(t.TempDir())
		for name, kind := range map[string]string{"crew.kam": "part", "walls.json": "table"} {
			for _, block := range fence.FindAllStringSubmatch(string(raw), -1) {
				if block[1] == kind {
					beside[name] = block[2]
				}
			}
		}
		for _, block := range fence.FindAllStringSubmatch(string(raw), -1) {
			switch kind, text := block[1], block[2]; kind {
			case "kam":
				checked, problems := compile.LoadWith(file, text, beside.Open)
				assert.Empty(t, problems, problems.Error()) // no warning either
				styled, _ := syntax.Format(syntax.NewSource(file, text))
				assert.Equal(t, styled, text, "an example is in the one style")
				if checked != nil {
					_, err := session.New(checked, session.Options{})
					assert.NoError(t, err)
				}
				name := regexp.MustCompile(`contract (\w+)`).FindStringSubmatch(text)[1]
				if strings.HasSuffix(file, "README.md") || strings.HasSuffix(file, "guide.md") ||
					strings.HasSuffix(file, "drills.md") {
					require.NoError(t, os.WriteFile(name+".kam", []byte(text), 0o600))
				}
			case "drill":
				contractFile := regexp.MustCompile(`use "(\w+)\.kam"`).FindStringSubmatch(text)[1]
				require.NoError(t, os.WriteFile(contractFile+".drill", []byte(text), 0o600))
				styled, problems := syntax.FormatDrills(syntax.NewSource(file, text))
				assert.Empty(t, problems)
				assert.Equal(t, styled, text, "an example is in the one style")
			case "json":
				var m struct{ Type string }
				require.NoError(t, json.Unmarshal([]byte(text), &m), text)
				switch m.Type {
				case "hello":
				case "join":
					j, err := wire.ParseJoin([]byte(text))
					assert.NoError(t, err, text)
					assert.JSONEq(t, text, string(j.JSON()), "every member is one of a join")
				case "frame", "bye":
					_, _, err := wire.ParseFrame([]byte(text), c.Outline())
					assert.NoError(t, err, text)
				default:
					_, err := wire.ParseFromClient([]byte(text))
					assert.NoError(t, err, text)
				}
			case "sh":
				for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
					words := strings.Fields(line)
					if words[0] == "./run" { // run by TestRunScript, or what runs this test
						assert.Contains(t, string(script), "\n  "+words[1]+") ", line)
						continue
					}
					require.Equal(t, "bin/kamerad", words[0], line)
					if service == nil {
						service = testservice.Start(t, "demo")
					}
					if words[1] == "watch" {
						words = append(words, "--once") // it would go on for ever
					}
					if words[1] == "audit" {
						words = append(words, "--rounds", "2", "--ticks", "100") // it would take its time
					}
					out, status := service.Run("use patch\nAna.Diver.use patch\nsee\nquit\n", words[1:]...)
					assert.Equal(t, 0, status, "%s\n%s", line, out)
					last = out
				}
			case "text":
				if strings.HasSuffix(file, "dangers.md") {
					if os.Getenv("KAMERAD_UPDATE_DOCS") != "" {
						now, err := os.ReadFile(file)
						require.NoError(t, err)
						require.NoError(
							t,
							os.WriteFile(
								file, []byte(strings.Replace(string(now), "```text\n"+text, "```text\n"+last, 1)),
								0o644,
							),
						)
						continue
					}
					assert.Equal(t, last, text, "what the command before it prints")
				}
			case "go": // TestTheGuidesClient is the same
				example, err := os.ReadFile(filepath.Join(root, "client/example_test.go"))
				require.NoError(t, err)
				for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
					assert.Contains(t, string(example), strings.TrimSpace(line))
				}
			case "policy":
				_, err := policy.Read([]byte(text))
				assert.NoError(t, err)
			case "mermaid": // TestTheArchitectureIsAsDrawn
			case "shell": // TestOthersReachTheDemo
			case "operate": // TestOperatingAsDocumented
			case "callback": // TestBackendSettings
			case "bash": // TestAGameUsesTheClientLibrary
			case "ebnf", "part", "table": // shown with what a test runs, or held against the parser
			default:
				t.Errorf("%s: no test knows what to do with a block of %s", file, kind)
			}
		}
	}
	for _, picture := range regexp.MustCompile(`docs/screenshots/[\w-]+\.png`).FindAllString(readme(t), -1) {
		assert.FileExists(t, filepath.Join(root, picture))
	}
}

// Each arrow of the picture is an import, direct or through others, and none goes the other way; the table has every
// package that is not for tests alone.
func TestTheArchitectureIsAsDrawn(t *testing.T) {
	list := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Deps " "}}`, "./...")
	list.Dir = root
	out, err := list.Output()
	require.NoError(t, err)
	imports := map[string][]string{}
	byName := map[string]string{"cmd": "kamerad.example/cmd/kamerad"}
	for line := range strings.SplitSeq(strings.TrimSpace(string(out)), "\n") {
		words := strings.Fields(line)
		imports[words[0]] = words[1:]
		if name := path.Base(words[0]); name != "kamerad.example" {
			byName[name] = words[0]
		}
	}
	page, err := os.ReadFile(filepath.Join(root, "docs/architecture.md"))
	require.NoError(t, err)
	arrows := 0
	name := regexp.MustCompile(`(\w+)(?:\[[^\]]*\])?`)
	for _, line := range regexp.MustCompile(`(?m)^ +(.+) --> (.+)$`).FindAllStringSubmatch(string(page), -1) {
		for _, from := range name.FindAllStringSubmatch(line[1], -1) {
			for _, to := range name.FindAllStringSubmatch(line[2], -1) {
				arrows++
				a := byName[from[1]]
				b := byName[to[1]]
				assert.Contains(t, imports[a], b, "%s --> %s", from[1], to[1])
				assert.NotContains(t, imports[b], a, "%s --> %s", from[1], to[1])
			}
		}
	}
	assert.Greater(t, arrows, 20)
	for imported := range imports {
		short := strings.TrimPrefix(imported, "kamerad.example/")
		if short != "kamerad.example" && !strings.HasPrefix(short, "internal/tests/") {
			assert.Contains(t, string(page), "| `"+short+"` |")
		}
	}
}

// A game's repository, which lies beside a checkout of this one, uses the client library as the README says.
func TestAGameUsesTheClientLibrary(t *testing.T) {
	p := testservice.Start(t)
	open(t, p)
	dir := folder(t, map[string]string{
		"game/go.mod": "module game.example\n\ngo 1.26\n",
		"game/main.go": `package main

import (
	"context"
	"fmt"
	"os"

	"kamerad.example/client"
)

func main() {
	c, err := client.Join(context.Background(), os.Args[1], 1, "Ana", "", client.Options{})
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	defer c.Close()
	fmt.Println(c.Me().Name, "is in")
}
`,
	})
	require.NoError(t, os.Symlink(root, filepath.Join(dir, "kamerad")))
	commands := regexp.MustCompile("(?s)```bash\n(.*?)```").FindStringSubmatch(readme(t))
	require.NotNil(t, commands)
	for _, line := range []string{commands[1], "go run ./game " + p.Service} {
		command := exec.Command("bash", "-ec", line)
		command.Dir = dir
		out, err := command.CombinedOutput()
		require.NoError(t, err, string(out))
		if strings.Contains(line, p.Service) {
			assert.Equal(t, "Ana is in\n", string(out))
		}
	}
}

// Nothing in core/ starts a goroutine: it can have no race of its own, and its tests are run without looking for one.
func TestTheCoreStartsNoGoroutine(t *testing.T) {
	files := token.NewFileSet()
	read := 0
	err := filepath.WalkDir(filepath.Join(root, "core"), func(file string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		parsed, err := parser.ParseFile(files, file, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		read++
		ast.Inspect(parsed, func(n ast.Node) bool {
			if statement, is := n.(*ast.GoStmt); is {
				t.Errorf("%s starts a goroutine", files.Position(statement.Go))
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, read, 50)
}

var root = func() string { dir, _ := filepath.Abs("../.."); return dir }()

func readme(t *testing.T) string {
	raw, err := os.ReadFile(filepath.Join(root, "README.md"))
	require.NoError(t, err)
	return string(raw)
}
