package syntax

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// shape writes a tree without its positions.
func shape(v reflect.Value) string {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return "-"
		}
		return shape(v.Elem())
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[Span]() || v.Type() == reflect.TypeFor[Source]() {
			return ""
		}
		out := v.Type().Name() + "{"
		for i := range v.NumField() {
			out += shape(v.Field(i)) + " "
		}
		return out + "}"
	case reflect.Slice:
		out := "["
		for i := range v.Len() {
			out += shape(v.Index(i)) + " "
		}
		return out + "]"
	}
	return fmt.Sprint(v.Interface())
}

func tree(t require.TestingT, text string) (shown string, comments []string) {
	file, problems := Parse(NewSource("a.kam", text), nil)
	require.Empty(t, problems, text)
	for _, c := range file.Comments {
		comments = append(comments, c.Text)
	}
	return shape(reflect.ValueOf(file.Decls)), comments
}

// held checks what formatting promises for one text.
func held(t require.TestingT, text string) string {
	out, problems := Format(NewSource("a.kam", text))
	require.Empty(t, problems)
	before, remarks := tree(t, text)
	after, kept := tree(t, out)
	require.Equal(t, before, after, "the tree has changed:\n%s\n---\n%s", text, out)
	require.Equal(t, remarks, kept, "comments are lost")
	again, _ := Format(NewSource("a.kam", out))
	require.Equal(t, out, again, "formatting twice is not formatting once")
	return out
}

func corpus(t *testing.T) map[string]string {
	out := map[string]string{}
	for _, pattern := range []string{"../compile/testdata/*/*.kam", "../../demo/*.kam", "testdata/*.kam"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, file := range files {
			raw, err := os.ReadFile(file)
			require.NoError(t, err)
			out[file] = string(raw)
		}
	}
	docs, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	for _, file := range append(docs, "../../README.md") {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		for i, block := range regexp.MustCompile("(?s)```kam\n(.*?)```").FindAllStringSubmatch(string(raw), -1) {
			out[fmt.Sprint(file, i)] = block[1]
		}
	}
	return out
}

func TestFormattingKeepsTheTreeAndEveryComment(t *testing.T) {
	formatted := 0
	for name, text := range corpus(t) {
		if _, problems := Parse(NewSource(name, text), nil); len(problems) > 0 {
			_, told := Format(NewSource(name, text))
			assert.Equal(t, problems, told, "what cannot be read is not touched")
			continue
		}
		held(t, text)
		formatted++
	}
	assert.Greater(t, formatted, 8)
}

// Whatever the blanks and line ends between its words, a text comes out with the same tree, and twice is once.
func TestFormattingUndoesAnyBlanks(t *testing.T) {
	texts := corpus(t)
	var names []string
	for name, text := range texts {
		if _, problems := Parse(NewSource(name, text), nil); len(problems) == 0 {
			names = append(names, name)
		}
	}
	rapid.Check(t, func(rt *rapid.T) {
		text := texts[rapid.SampledFrom(names).Draw(rt, "file")]
		src := NewSource("a.kam", text)
		s := scan(src, src.whole())
		var b strings.Builder
		at := 0
		for _, tok := range s.tokens {
			between := text[at:tok.Span.Start]
			switch {
			case strings.Contains(between, "//"):
				b.WriteString(between)
			case strings.ContainsAny(between, "\n;"):
				b.WriteString(rapid.SampledFrom([]string{"\n", ";", "\n\n\n", " ; ", "\n\t  \n "}).Draw(rt, "break"))
			default:
				b.WriteString(between + rapid.SampledFrom([]string{"", " ", "\t", "   "}).Draw(rt, "blank"))
			}
			b.WriteString(text[tok.Span.Start:tok.Span.End])
			at = tok.Span.End
		}
		held(rt, b.String())
	})
}

func TestTheStyle(t *testing.T) {
	raw, err := os.ReadFile("testdata/style.kam")
	require.NoError(t, err)
	untidy := strings.NewReplacer(
		"  ", " ", " = ", "=", ", ", " ,", " + ", "+", "{ ", "{", " }", "}", ": ", " :", "(", "( ", " <= ", "<=",
	).Replace(
		string(raw),
	)
	require.NotEqual(t, string(raw), untidy)
	assert.Equal(t, string(raw), held(t, untidy))
	assert.Equal(t, string(raw), held(t, string(raw)))
}

func FuzzFormat(f *testing.F) {
	for _, pattern := range []string{"../compile/testdata/*/*.kam", "../../demo/*.kam", "testdata/*.kam"} {
		files, _ := filepath.Glob(pattern)
		for _, file := range files {
			raw, err := os.ReadFile(file)
			require.NoError(f, err)
			f.Add(string(raw))
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		if _, problems := Parse(NewSource("a.kam", text), nil); len(problems) == 0 {
			held(t, text)
		}
	})
}
