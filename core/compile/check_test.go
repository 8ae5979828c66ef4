package compile_test

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
	"kamerad.example/internal/tests/contracts"
)

// Each line of a faulty contract names its messages in a comment: `// error: TEXT | TEXT`. Every message has to be
// there, and no other.
func TestEveryMistakeIsToldOnItsLine(t *testing.T) {
	files, err := filepath.Glob("testdata/faulty/*.kam")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	dangers, err := filepath.Glob("testdata/danger/*.kam")
	require.NoError(t, err)
	files = append(files, dangers...)
	codes := map[string]bool{}
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			raw, err := os.ReadFile(file)
			require.NoError(t, err)
			c, problems := compile.LoadWith(file, string(raw), contracts.Beside(file))
			meant := !slices.ContainsFunc(problems, func(p syntax.Problem) bool { return !p.Warning })
			require.Equal(t, meant, c != nil, "only what is warned of may be meant")
			want := map[int][]string{}
			for i, line := range strings.Split(string(raw), "\n") {
				if _, texts, found := strings.Cut(line, "// error: "); found {
					want[i+1] = strings.Split(texts, " | ")
				}
			}
			for _, p := range problems {
				codes[p.Code] = true
				i := slices.IndexFunc(want[p.Line], func(text string) bool { return strings.Contains(p.Message, text) })
				if assert.GreaterOrEqual(t, i, 0, "unexpected: %s", p.Text(nil)) {
					want[p.Line] = slices.Delete(want[p.Line], i, i+1)
				}
				assert.NotEmpty(t, p.Code)
				assert.LessOrEqual(t, p.Column, len(p.Source)+1)
			}
			for line, texts := range want {
				assert.Empty(t, texts, "line %d: not told", line)
			}
		})
	}
	t.Logf("%d faulty contracts cover %d codes", len(files), len(codes))
	assert.GreaterOrEqual(t, len(files), 60)
	_, problems := compile.Load("long.kam", strings.Repeat(" ", syntax.MaxSource+1))
	codes[problems[0].Code] = true
	// Every code in the sources is covered.
	sources, err := filepath.Glob("../*/*.go")
	require.NoError(t, err)
	for _, source := range sources {
		raw, err := os.ReadFile(source)
		require.NoError(t, err)
		folder := filepath.Base(filepath.Dir(source))
		if strings.HasSuffix(source, "_test.go") || folder != "contract" && folder != "syntax" {
			continue
		}
		for _, m := range regexp.MustCompile(
			`(?:\.fail|\.abort|\bfind|\.report)\([^"\n]*"([a-z]+(?:-[a-z]+)*)"`,
		).FindAllStringSubmatch(
			string(raw), -1,
		) {
			assert.True(t, codes[m[1]], "no faulty contract has the mistake `%s`", m[1])
		}
	}
}

func TestRightContractsGiveNoMessage(t *testing.T) {
	files, err := filepath.Glob("testdata/right/*.kam")
	require.NoError(t, err)
	right := 0
	check := func(name, text string, open syntax.Open) {
		c, problems := compile.LoadWith(name, text, open)
		require.Empty(t, problems, problems.Error())
		require.NotNil(t, c)
		right++
	}
	for _, file := range append(files, "../../demo/tidewreck.kam", "../../internal/tests/testservice/dive.kam") {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		check(file, string(raw), contracts.Beside(file))
	}
	// The examples of the documents; what some of them include lies in blocks of its own.
	documents, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	for _, file := range documents {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		included := contract.Files{}
		for _, block := range regexp.MustCompile("(?s)```(part|table)\n(.*?)```").FindAllStringSubmatch(
			string(raw), -1,
		) {
			included[map[string]string{"part": "crew.kam", "table": "walls.json"}[block[1]]] = block[2]
		}
		for _, block := range regexp.MustCompile("(?s)```kam\n(.*?)```").FindAllStringSubmatch(string(raw), -1) {
			check(file, block[1], included.Open)
		}
	}
	t.Logf("%d right contracts", right)
	assert.GreaterOrEqual(t, right, 20)
}

// However large or odd a text is, it is read in time that grows with its length.
func TestHugeTextsAreReadInTime(t *testing.T) {
	head := "contract wreck language 1\n"
	for name, text := range map[string]string{
		"brackets": head + "shared A { request a() from player { let x = " + strings.Repeat("(", 100_000),
		"chain": head + "shared A { n: int 0..9; request a() from player { n = 1" + strings.Repeat(
			" + 1", 100_000,
		) + " } }",
		"points": head + "shared A { n: int 0..9; request a() from player { n = self" + strings.Repeat(
			".owner", 100_000,
		) + " } }",
		"names":    head + "shared " + strings.Repeat("A", 400_000) + " { x: " + strings.Repeat("B", 400_000) + " }",
		"one line": head + strings.Repeat("} x 3 § ", 60_000),
		"unknown":  head + "shared A { request a() from player { " + strings.Repeat("n = 1; ", 60_000) + " } }",
		"elses": head + "shared A { request a() from player { " + strings.Repeat(
			"if true { } else ", 20_000,
		) + " } }",
		"blocks": head + "shared A { request a() from player { " + strings.Repeat("if true { ", 50_000),
	} {
		began := time.Now()
		_, problems := compile.Load(name, text)
		assert.NotEmpty(t, problems, name)
		assert.Less(t, time.Since(began), 20*time.Second, name) // some take hours when time grows with the square
	}
}

func TestAMessageShowsTheLineAndACaret(t *testing.T) {
	_, problems := compile.Load(
		"wreck.kam", "contract wreck language 1\nshared Dive {\n\tünder: bool\n\tdepth: int 0..9 = 12 // wide: ÄÖ\n}\n",
	)
	require.Len(t, problems, 2)
	assert.Equal(t, "wreck.kam:4:20: the default of `depth` is 12 [out-of-range]\n"+
		"    4 │ \tdepth: int 0..9 = 12 // wide: ÄÖ\n"+
		"      │ \t                  ^^\n"+
		"      = from 0 to 9\n", problems[1].Text(nil))
}

func TestTheOutlineTellsNothingOfTheServer(t *testing.T) {
	raw, err := os.ReadFile("../../demo/tidewreck.kam")
	require.NoError(t, err)
	load := func(text string) *contract.Contract {
		c, problems := compile.LoadWith("tidewreck.kam", text, contracts.Beside("../../demo/tidewreck.kam"))
		require.NotNil(t, c, problems.Error())
		return c
	}
	c := load(string(raw))
	outline := c.Outline()
	assert.Nil(t, outline.Kind("Keeper"))
	assert.Nil(t, outline.Kind("Crate").Property("what"))
	assert.Nil(t, outline.Kind("Diver").Property("finds"))
	assert.Empty(t, outline.Kind("Diver").Request("use").Checks)
	assert.Equal(t, []string{"not in the water", "not carried"}, outline.Kind("Diver").Request("use").Reasons)
	assert.NotNil(t, c.FullOutline().Kind("Crate").Property("what"))

	other := load(
		strings.NewReplacer(
			`"an echo"`, `"a bell"`, "patch_mends = 25", "patch_mends = 30", "air >= 5", "air >= 9",
		).Replace(
			string(raw),
		),
	)
	assert.Equal(t, outline.Fingerprint(), other.Outline().Fingerprint(), "what only the server has does not show")
	renamed := load(strings.ReplaceAll(string(raw), "tint", "colour_of_suit"))
	assert.NotEqual(t, outline.Fingerprint(), renamed.Outline().Fingerprint())
}

// anyValue draws a value of a type.
func anyValue(t *rapid.T, typ *contract.Type) contract.Value {
	var v contract.Value
	some := func(n int, one func()) {
		for range n {
			one()
		}
	}
	pair := func(a, b contract.Value) { v.Parts = append(v.Parts, contract.Value{Parts: []contract.Value{a, b}}) }
	switch typ.Form {
	case contract.FormBool:
		v.Num = rapid.Int64Range(0, 1).Draw(t, "bool")
	case contract.FormInt, contract.FormReal, contract.FormDirection:
		v.Num = rapid.Int64Range(typ.Low, typ.High).Draw(t, "count")
	case contract.FormVec2, contract.FormVec3:
		some(
			typ.Reals(),
			func() {
				v.Parts = append(v.Parts, contract.Value{Num: rapid.Int64Range(typ.Low, typ.High).Draw(t, "count")})
			},
		)
	case contract.FormText:
		v.Text = rapid.StringN(0, typ.Max, -1).Draw(t, "text")
	case contract.FormEnum:
		v.Num = rapid.Int64Range(0, int64(len(typ.Enum.Values)-1)).Draw(t, "enum")
	case contract.FormKind:
		v.Num = rapid.Int64Range(0, int64(len(typ.Names)-1)).Draw(t, "kind")
	case contract.FormEntity, contract.FormInstant:
		v.Num = rapid.Int64Range(0, 1<<32-1).Draw(t, "entity")
	case contract.FormClient:
		v.Num = rapid.Int64Range(-1, 1000).Draw(t, "client")
	case contract.FormStacks:
		some(rapid.IntRange(0, typ.Max).Draw(t, "stacks"), func() {
			if typ.Slotted && rapid.Bool().Draw(t, "empty") {
				pair(contract.Value{}, contract.Value{})
				return
			}
			pair(
				contract.Value{Num: rapid.Int64Range(0, 2).Draw(t, "item")},
				contract.Value{Num: rapid.Int64Range(1, typ.Each).Draw(t, "count")},
			)
		})
		for typ.Slotted && len(v.Parts) > 0 && v.Parts[len(v.Parts)-1].Parts[1].Num == 0 {
			v.Parts = v.Parts[:len(v.Parts)-1]
		}
	case contract.FormList:
		some(rapid.IntRange(0, typ.Max).Draw(t, "length"), func() { v.Parts = append(v.Parts, anyValue(t, typ.Of)) })
	case contract.FormMap:
		for i := range rapid.Int64Range(0, int64(typ.Max)).Draw(t, "length") {
			pair(contract.Value{Num: i}, anyValue(t, typ.Of))
		}
	case contract.FormRecord:
		for _, p := range typ.Parts {
			v.Parts = append(v.Parts, anyValue(t, p.Type))
		}
	}
	return v
}

func TestValuesSurviveJSON(t *testing.T) {
	item := &contract.Enum{Name: "Item", Values: []string{"flare", "patch", "relic"}}
	place := &contract.Type{
		Form: contract.FormVec2,
		Low:  -2000,
		High: 2000,
		Per:  100,
		Unit: 1,
	}
	mark := &contract.Type{
		Form: contract.FormRecord,
		Name: "Mark",
		Parts: []contract.Param{
			{Name: "at", Type: place},
			{Name: "name", Type: &contract.Type{Form: contract.FormText, Max: 8}},
			{Name: "by", Type: &contract.Type{Form: contract.FormClient}},
		},
	}
	rapid.Check(t, func(t *rapid.T) {
		typ := rapid.SampledFrom([]*contract.Type{
			{
				Form: contract.FormBool,
			},
			{
				Form: contract.FormInt,
				Low:  -9,
				High: 1 << 60,
			},
			{Form: contract.FormText, Max: 20},
			{Form: contract.FormEnum, Enum: item},
			{
				Form: contract.FormStacks,
				Enum: item,
				Max:  4,
				Each: 9,
			},
			{
				Form:    contract.FormStacks,
				Enum:    item,
				Max:     4,
				Each:    9,
				Slotted: true,
			},
			{
				Form: contract.FormReal,
				Low:  -50,
				High: 1 << 53,
				Per:  1,
				Unit: 1,
			},
			place,
			{Form: contract.FormVec3, Low: -7, High: 7, Per: 4, Unit: 1},
			{
				Form: contract.FormDirection,
				Low:  -314,
				High: 314,
				Per:  100,
				Unit: 1,
			},
			mark,
			{Form: contract.FormList, Of: mark, Max: 3},
			{Form: contract.FormList, Of: place, Max: 5},
			{
				Form: contract.FormMap,
				Key:  &contract.Type{Form: contract.FormInt, High: 9},
				Of:   mark,
				Max:  4,
			},
			{
				Form: contract.FormMap,
				Key:  &contract.Type{Form: contract.FormInt, High: 9},
				Of:   &contract.Type{Form: contract.FormList, Of: place, Max: 3},
				Max:  4,
			},
			{
				Form:  contract.FormEntity,
				Names: []string{"Diver"},
			},
			{Form: contract.FormClient},
			{Form: contract.FormInstant},
			{Form: contract.FormKind, Names: []string{"Crate", "Sled"}},
		}).Draw(t, "type")
		v := anyValue(t, typ)
		texts := []string{}
		slots := typ.AppendSlots(
			nil, v, func(s string) int64 { texts = append(texts, s); return int64(len(texts) - 1) },
		)
		require.Len(t, slots, typ.Width())
		require.True(t, v.Equal(typ.FromSlots(slots, func(n int64) string { return texts[n] })))
		back, err := typ.ParseJSON(typ.AppendJSON(nil, v))
		require.NoError(t, err)
		require.True(t, v.Equal(back))
		require.NotEmpty(t, typ.Format(v))
		_, err = typ.ParseJSON([]byte(rapid.String().Draw(t, "noise"))) // whatever it is, no panic
		_ = err
	})
	for _, raw := range []string{"", "null", "NaN", "1e3", "1.0", `"1"`, "99", "[]", "{}", "true "} {
		_, err := (&contract.Type{Form: contract.FormInt, High: 9}).ParseJSON([]byte(raw))
		assert.ErrorContains(t, err, "not a whole number from 0 to 9", raw)
	}
}

func FuzzLoad(f *testing.F) {
	for _, pattern := range []string{"testdata/*/*.kam", "../../demo/*.kam"} {
		files, _ := filepath.Glob(pattern)
		for _, file := range files {
			raw, err := os.ReadFile(file)
			require.NoError(f, err)
			f.Add(string(raw))
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, problems := compile.Load("fuzz.kam", text)
		wrong := slices.ContainsFunc(problems, func(p syntax.Problem) bool { return !p.Warning })
		if (c == nil) != wrong {
			t.Fatalf("contract %v with %d problems", c, len(problems))
		}
		for _, p := range problems {
			_ = p.Text(nil)
		}
		if c != nil {
			c.Outline().Fingerprint()
		}
	})
}
