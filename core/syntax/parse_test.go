package syntax

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPositionsCountCharacters(t *testing.T) {
	s := NewSource("a.kam", "one\n\tzwölf ÄÖ\r\nthree")
	for _, c := range []struct{ offset, line, column int }{
		{0, 1, 1}, {3, 1, 4}, {4, 2, 1}, {5, 2, 2}, {9, 2, 5}, {12, 2, 8}, {99, 3, 6}, {-1, 1, 1},
	} {
		line, column := s.Position(c.offset)
		assert.Equal(t, []int{c.line, c.column}, []int{line, column}, "offset %d", c.offset)
	}
	assert.Equal(t, "\tzwölf ÄÖ", s.Line(2))
	assert.Equal(t, "three", s.Line(3))
	assert.Empty(t, s.Line(4))
}

func TestTokens(t *testing.T) {
	src := NewSource("a.kam", `0..9 0.5..2 400ms 2s 1min a.b Cd "x\"y" -> += != // rest`+"\nnext; more")
	s := scan(src, src.whole())
	require.Empty(t, s.problems)
	var got []string
	for _, tok := range s.tokens {
		got = append(got, fmt.Sprint(tok.Kind, ":", tok.Text))
	}
	assert.Equal(t, []string{
		"4:0", "8:..", "4:9", "5:0.5", "8:..", "4:2", "6:400ms", "6:2s", "6:1min", "1:a", "8:.", "1:b", "2:Cd", `7:x"y`,
		"8:->", "8:+=", "8:!=",
		"1:next", "1:more", "0:",
	}, got)
	assert.Equal(t, int64(60_000), s.tokens[8].Num)
	assert.True(t, s.tokens[17].Newline && s.tokens[18].Newline && !s.tokens[16].Newline)
	require.Len(t, s.comments, 1)
	assert.Equal(t, "// rest", s.comments[0].Text)
}

// A mistake in one place does not hide what stands after it.
func TestReadingGoesOnAfterAMistake(t *testing.T) {
	for name, c := range map[string]struct {
		text                         string
		problems, kinds, props, reqs int
	}{
		"nothing": {"", 0, 0, 0, 0},
		"a bad line": {
			"contract a language 1\nshared A {\n n: int 0..9\n ???\n m: bool\n}\nshared B { k: bool }", 3, 2, 3, 0,
		},
		"a bad header":     {"contract language\nshared A { n: bool }", 1, 1, 1, 0},
		"a bad type":       {"shared A { n: int 0.. ; m: bool; request go() { } }", 1, 1, 1, 1},
		"a bad head":       {"shared A { request go() limit per second { n = 1 }\n request ok() { } }", 1, 1, 0, 2},
		"a bad request":    {"shared A { request (x) { n = 1 }\n m: bool }", 1, 1, 1, 1},
		"a bad body":       {"shared A { request go() { if { } ; n = ; tell }\n m: bool }", 3, 1, 1, 1},
		"a missing body":   {"shared A { request go()\n m: bool\n k: bool }", 1, 1, 2, 0},
		"one brace more":   {"shared A { n: bool } }\nshared B { m: bool }", 1, 2, 2, 0},
		"one brace less":   {"shared A { request go() { n = 1 \n m: bool }\nshared B { k: bool }", 3, 2, 1, 1},
		"an open text":     {"shared A { s: text max 3 = \"abc\n m: bool }", 1, 1, 2, 0},
		"a word as a name": {"shared A { from: bool; m: bool }", 1, 1, 1, 0},
	} {
		t.Run(name, func(t *testing.T) {
			file, problems := Parse(NewSource("a.kam", c.text), nil)
			kinds := 0
			props := 0
			reqs := 0
			for _, d := range file.Decls {
				if e, ok := d.(*Entity); ok {
					kinds++
					props += len(e.Properties)
					reqs += len(e.Requests)
				}
			}
			assert.Len(t, problems, c.problems, problems.Error())
			assert.Equal(t, []int{c.kinds, c.props, c.reqs}, []int{kinds, props, reqs})
		})
	}
}

func TestHowTightlyOperatorsBind(t *testing.T) {
	for text, want := range map[string]string{
		"a or b and c":             "(a or (b and c))",
		"not a == b":               "(not (a == b))",
		"not a and b":              "((not a) and b)",
		"a + b * c - d":            "((a + (b * c)) - d)",
		"-a * b":                   "((- a) * b)",
		"a == b + 1 or c":          "((a == (b + 1)) or c)",
		"(a or b) and c":           "((a or b) and c)",
		"a.b.c(d, e).f":            "a.b.c(d, e).f",
		"a\n or b\n and c":         "(a or (b and c))",
		"a % 2 == 0 and not not b": "(((a % 2) == 0) and (not (not b)))",
		"a - -1":                   "(a - (- 1))",
		"x +\n y":                  "(x + y)",
	} {
		file, problems := Parse(NewSource("a.kam", "on join(c) { let v = "+text+" }"), nil)
		require.Empty(t, problems, text)
		assert.Equal(t, want, show(file.Decls[0].(*Handler).Body[0].(*Let).Value), text)
	}
}

func show(x Expr) string {
	switch x := x.(type) {
	case *Ref:
		return x.Text
	case *Number:
		return fmt.Sprint(x.Value)
	case *Member:
		return show(x.X) + "." + x.Name.Text
	case *Call:
		out := show(x.Fn) + "("
		for i, a := range x.Args {
			if i > 0 {
				out += ", "
			}
			out += show(a)
		}
		return out + ")"
	case *Unary:
		return "(" + x.Op + " " + show(x.X) + ")"
	case *Binary:
		return "(" + show(x.A) + " " + x.Op + " " + show(x.B) + ")"
	}
	return fmt.Sprintf("%T", x)
}

func TestProblemsAreSortedAndTold(t *testing.T) {
	p := Problems{{
		File:   "b",
		Line:   1,
		Column: 1,
		Code:   "x",
	}, {
		File:    "a",
		Line:    9,
		Column:  2,
		Code:    "x",
		Message: "m",
		Hint:    "h",
	}, {File: "a", Line: 9, Column: 1, Code: "x"}, {File: "a", Line: 9, Column: 1, Code: "x"}}
	p = p.Sort()
	require.Len(t, p, 3, "the same twice is told once")
	assert.Equal(t, "a:9:2: m (h)", Problems{p[1]}.Error())
	assert.Equal(t, "b", p[2].File)
	assert.Equal(t, "\t  ", indentOf("\tab^", 4))
	assert.Equal(t, "   ", indentOf("", 4))
}
