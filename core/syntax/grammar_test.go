package syntax

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// The grammar that the reference shows, in the notation of ISO 14977, is held against the parser: what it makes can be
// read, and what can be read it makes.

// node is a piece of a grammar: a word that stands for itself, a rule's name, or some pieces.
type node struct {
	sort  string // literal, rule, sequence, choice, optional or repeated
	text  string
	parts []*node
}

var ebnfWords = regexp.MustCompile(`"[^"]*"|\?[^?]*\?|[a-z_][a-z0-9_ ]*[a-z0-9_]|[a-z]|[=,|;(){}\[\]]`)

// readGrammar reads the grammar of the reference, and of other documents that add to it.
func readGrammar(t testing.TB, others ...string) map[string]*node {
	text := ""
	for _, file := range append([]string{"language.md"}, others...) {
		raw, err := os.ReadFile("../../docs/" + file)
		require.NoError(t, err)
		block := regexp.MustCompile("(?s)```ebnf\n(.*?)```").FindStringSubmatch(string(raw))
		require.NotNil(t, block, "%s has a grammar", file)
		text += block[1]
	}
	words := ebnfWords.FindAllString(text, -1)
	at := 0
	var choice func() *node
	one := func() *node {
		w := words[at]
		at++
		closing := map[string]string{"(": ")", "[": "]", "{": "}"}[w]
		switch {
		case closing != "":
			n := choice()
			require.Equal(t, closing, words[at])
			at++
			return &node{
				sort:  map[string]string{"(": "sequence", "[": "optional", "{": "repeated"}[w],
				parts: []*node{n},
			}
		case w[0] == '"':
			return &node{sort: "literal", text: strings.Trim(w, `"`)}
		case w[0] == '?':
			return &node{sort: "special"}
		}
		return &node{sort: "rule", text: strings.Join(strings.Fields(w), " ")}
	}
	sequence := func() *node {
		n := &node{sort: "sequence", parts: []*node{one()}}
		for words[at] == "," {
			at++
			n.parts = append(n.parts, one())
		}
		return n
	}
	choice = func() *node {
		n := &node{sort: "choice", parts: []*node{sequence()}}
		for words[at] == "|" {
			at++
			n.parts = append(n.parts, sequence())
		}
		return n
	}
	rules := map[string]*node{}
	for at < len(words) {
		name := strings.Join(strings.Fields(words[at]), " ")
		require.Equal(t, "=", words[at+1], name)
		at += 2
		rules[name] = choice()
		require.Equal(t, ";", words[at], name)
		at++
	}
	for name, n := range rules {
		each(n, func(n *node) {
			if n.sort == "rule" {
				assert.NotNil(t, rules[n.text], "%s uses %q, which is no rule", name, n.text)
			}
		})
	}
	return rules
}

func each(n *node, f func(*node)) {
	f(n)
	for _, p := range n.parts {
		each(p, f)
	}
}

// lexical returns a word for a rule that is one.
func lexical(t *rapid.T, rule string) (string, bool) {
	switch rule {
	case "name":
		return rapid.SampledFrom([]string{"a", "hull", "x1", "long_name"}).Draw(t, rule), true
	case "type name":
		return rapid.SampledFrom([]string{"A", "Diver", "B_2"}).Draw(t, rule), true
	case "int":
		return rapid.SampledFrom([]string{"0", "7", "123"}).Draw(t, rule), true
	case "real":
		return rapid.SampledFrom([]string{"0.5", "12.25"}).Draw(t, rule), true
	case "time literal":
		return rapid.SampledFrom([]string{"400ms", "2s", "1min"}).Draw(t, rule), true
	case "text":
		return rapid.SampledFrom([]string{`"a"`, `"two words"`, `"\"\\\n"`}).Draw(t, rule), true
	case "end":
		return rapid.SampledFrom([]string{"\n", ";", "\n\n"}).Draw(t, rule), true
	}
	return "", false
}

// TestSentencesOfTheGrammarCanBeRead makes random contracts from the grammar.
func TestSentencesOfTheGrammarCanBeRead(t *testing.T) {
	rules := readGrammar(t)
	lengths := shortest(rules)
	used := map[*node]int{}
	made := func(t *rapid.T) {
		const deepest = 12
		var out []string
		nest := 0
		clause := -1 // how deep in brackets, and how deep the clause began in which a bare `to` is its own
		var make func(n *node, depth int)
		make = func(n *node, depth int) {
			switch n.sort {
			case "literal":
				out = append(out, n.text)
				switch n.text {
				case "(", "[":
					nest++
				case ")", "]":
					nest--
				}
			case "rule":
				if w, ok := lexical(t, n.text); ok {
					out = append(out, w)
					return
				}
				before := clause
				switch n.text {
				case "property", "hold", "give":
					clause = nest
				case "body":
					clause = -1
				}
				if n.text == "reveal" && clause == nest {
					make(&node{sort: "sequence", parts: rules[n.text].parts[0].parts[:4]}, depth+1)
				} else {
					make(rules[n.text], depth+1)
				}
				clause = before
			case "sequence":
				for _, p := range n.parts {
					make(p, depth)
				}
			case "optional":
				if depth < deepest && rapid.Bool().Draw(t, "there") {
					make(n.parts[0], depth)
				}
			case "repeated":
				for i := 0; depth < deepest && i < 3 && rapid.IntRange(0, 2).Draw(t, "again") > 0; i++ {
					make(n.parts[0], depth)
				}
			case "choice":
				pick := n.parts[0]
				if depth < deepest {
					pick = rapid.SampledFrom(n.parts).Draw(t, "which")
				} else {
					for _, p := range n.parts { // the way that ends soonest
						if length(p, lengths) < length(pick, lengths) {
							pick = p
						}
					}
				}
				used[pick]++
				make(pick, depth)
			}
		}
		make(rules["file"], 0)
		text := strings.Join(out, " ")
		_, problems := Parse(NewSource("made.kam", text), nil)
		for _, p := range problems {
			if p.Code != "too-deep" && p.Code != "no-effect" && p.Code != "repeated" {
				t.Fatalf("line %d: %s %s\n%.2000s", p.Line, p.Message, p.Hint, strings.Split(text, "\n")[p.Line-1])
			}
		}
		if len(problems) == 0 {
			held(t, text)
		}
	}
	for range 5 {
		rapid.Check(t, made)
	}
	unused := 0
	for _, n := range rules {
		each(n, func(n *node) {
			if n.sort == "choice" {
				for _, p := range n.parts {
					if used[p] == 0 {
						unused++
					}
				}
			}
		})
	}
	t.Logf("%d ways through the grammar were never taken", unused)
}

// shortest finds the least number of words that each rule makes.
func shortest(rules map[string]*node) map[string]int {
	out := map[string]int{}
	for name, n := range rules {
		out[name] = 1000
		if n.parts[0].parts[0].sort == "special" {
			out[name] = 1
		}
	}
	for changed := true; changed; {
		changed = false
		for name, n := range rules {
			if l := length(n, out); l < out[name] {
				out[name] = l
				changed = true
			}
		}
	}
	return out
}

func length(n *node, rules map[string]int) int {
	switch n.sort {
	case "literal":
		return 1
	case "special":
		return 1
	case "rule":
		return rules[n.text]
	case "optional", "repeated":
		return 0
	case "choice":
		least := 1000
		for _, p := range n.parts {
			least = min(least, length(p, rules))
		}
		return least
	}
	sum := 0
	for _, p := range n.parts {
		sum += length(p, rules)
	}
	return min(sum, 1000)
}

// earley recognises words with the grammar (Earley, 1970). Rules are flattened into productions first.
type earley struct {
	rules map[string][][]string // words of the grammar are quoted, rules are not
}

func flatten(rules map[string]*node) *earley {
	e := &earley{rules: map[string][][]string{}}
	fresh := 0
	var body func(n *node) [][]string
	named := func(n *node) string {
		fresh++
		name := fmt.Sprint("#", fresh)
		e.rules[name] = body(n)
		return name
	}
	body = func(n *node) [][]string {
		switch n.sort {
		case "literal":
			return [][]string{{`"` + n.text}}
		case "rule":
			return [][]string{{n.text}}
		case "special":
			return nil
		case "choice":
			var out [][]string
			for _, p := range n.parts {
				out = append(out, body(p)...)
			}
			return out
		case "optional":
			return append([][]string{{}}, body(n.parts[0])...)
		case "repeated":
			inner := named(n.parts[0])
			fresh++
			name := fmt.Sprint("#", fresh)
			e.rules[name] = [][]string{{}, {name, inner}}
			return [][]string{{name}}
		}
		var seq []string
		for _, p := range n.parts {
			switch alternatives := body(p); {
			case len(alternatives) == 1 && p.sort != "choice":
				seq = append(seq, alternatives[0]...)
			default:
				fresh++
				name := fmt.Sprint("#", fresh)
				e.rules[name] = alternatives
				seq = append(seq, name)
			}
		}
		return [][]string{seq}
	}
	for name, n := range rules {
		e.rules[name] = body(n)
	}
	e.rules["end"] = [][]string{{}} // line ends are not among the words
	return e
}

// is reports whether a token is what a lexical rule or a word of the grammar says.
func (e *earley) is(symbol string, t Token) bool {
	if symbol[0] == '"' {
		return (t.Kind == Sign || t.Kind == Word || t.Kind == Name) && t.Text == symbol[1:]
	}
	switch symbol {
	case "name":
		return t.Kind == Name || t.Kind == Word
	case "type name":
		return t.Kind == TypeName
	case "int":
		return t.Kind == Int
	case "real":
		return t.Kind == Real
	case "time literal":
		return t.Kind == Duration
	case "text":
		return t.Kind == Text
	}
	return false
}

var terminals = []string{"name", "type name", "int", "real", "time literal", "text"}

type item struct {
	rule string
	alt  int
	dot  int
	from int
}

// recognise returns how far the words can be read; all of them when it gives their number.
func (e *earley) recognise(start string, words []Token) int {
	sets := make([]map[item]bool, len(words)+1)
	lists := make([][]item, len(words)+1)
	waiting := make([]map[string][]item, len(words)+1)
	add := func(at int, i item) {
		if sets[at] == nil {
			sets[at] = map[item]bool{}
			waiting[at] = map[string][]item{}
		}
		if !sets[at][i] {
			sets[at][i] = true
			lists[at] = append(lists[at], i)
		}
	}
	predict := func(at int, rule string) {
		for alt := range e.rules[rule] {
			add(at, item{rule, alt, 0, at})
		}
	}
	predict(0, start)
	far := 0
	for at := 0; at <= len(words); at++ {
		done := map[string]bool{} // rules that came to nothing here
		for n := 0; n < len(lists[at]); n++ {
			far = at
			i := lists[at][n]
			right := e.rules[i.rule][i.alt]
			if i.dot == len(right) {
				if i.from == at {
					done[i.rule] = true
				}
				for _, w := range waiting[i.from][i.rule] {
					add(at, item{w.rule, w.alt, w.dot + 1, w.from})
				}
				continue
			}
			next := right[i.dot]
			if next[0] == '"' || slices.Contains(terminals, next) {
				if at < len(words) && e.is(next, words[at]) {
					add(at+1, item{i.rule, i.alt, i.dot + 1, i.from})
				}
				continue
			}
			waiting[at][next] = append(waiting[at][next], i)
			predict(at, next)
			if done[next] {
				add(at, item{i.rule, i.alt, i.dot + 1, i.from})
			}
		}
	}
	if far == len(words) {
		for alt, right := range e.rules[start] {
			if sets[len(words)][item{start, alt, len(right), 0}] {
				return len(words)
			}
		}
	}
	return far - 1
}

// Whatever can be read is a sentence of the grammar: all right contracts, the demo and the documents.
func TestTheGrammarCoversWhatCanBeRead(t *testing.T) {
	rules := readGrammar(t)
	e := flatten(rules)
	read := 0
	seen := map[string]bool{} // words of the language in the documents
	for name, text := range corpus(t) {
		// The parser reads more than the language has, so that the checker can say what is wrong with it.
		if _, problems := Parse(NewSource(name, text), nil); len(problems) > 0 || strings.Contains(name, "/faulty/") {
			continue
		}
		src := NewSource(name, text)
		tokens := scan(src, src.whole()).tokens
		tokens = tokens[:len(tokens)-1] // without the end
		at := e.recognise("file", tokens)
		if at < len(tokens) {
			line, column := src.Position(tokens[max(at, 0)].Span.Start)
			t.Errorf("%s:%d:%d: the grammar does not have `%s` here", name, line, column, tokens[max(at, 0)].Text)
		}
		read++
		if strings.Contains(name, "language.md") {
			for _, tok := range tokens {
				seen[tok.Text] = true
			}
		}
	}
	t.Logf("%d files and blocks are sentences of the grammar", read)
	assert.Greater(t, read, 20)
	// Every word and sign of the grammar stands in an example of the reference.
	var missing []string
	for _, n := range rules {
		each(n, func(n *node) {
			if n.sort == "literal" && !seen[n.text] {
				missing = append(missing, n.text)
			}
		})
	}
	sort.Strings(missing)
	assert.Empty(t, slices.Compact(missing), "no example of the reference shows these")
}

// All drills of the demo and of the documents are sentences of the grammar that docs/drills.md shows, and they use all
// of its lines.
func TestTheGrammarCoversDrills(t *testing.T) {
	rules := readGrammar(t, "drills.md")
	e := flatten(rules)
	texts := map[string]string{}
	files, err := filepath.Glob("../../demo/*.drill")
	require.NoError(t, err)
	for _, file := range files {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		texts[file] = string(raw)
	}
	for _, file := range []string{"drills.md", "../README.md"} {
		raw, err := os.ReadFile("../../docs/" + file)
		require.NoError(t, err)
		for i, block := range regexp.MustCompile("(?s)```drill\n(.*?)```").FindAllStringSubmatch(string(raw), -1) {
			texts[fmt.Sprint(file, " block ", i)] = block[1]
		}
	}
	texts["rare"] = `drill "rare lines"
use "wreck.kam" with deep = true, seats_open = 3
host ana
join bo as referee meanwhile
link bo reorder 5% bandwidth 2000 steady
let x = one(d in Diver: d.hull == 3)
give Relic[2] to bo
ana forges Diver.use("pearl", 3, [true])
ana presses Diver.kick
ana renews Diver.kick
ana releases Diver.kick
ana skips 3
repeat 3 { ana asks Diver.use(patch) -> accepted 4 }
for c in ana, bo { expect c is not expelled }
expect bo noticed ana.Diver.hull from 100 to 40
expect bo logged "a line"
expect bo did not log "a line"
expect bo is expelled
expect bo has 1 strike
expect bo got 0 bytes of Flare in 1s
expect 1 fault in on change hull of Diver "a list is full"
expect fault in on owner lost of Winch
expect 2 faults in motion of Flare
wait at most 2s until 1 fault in on tick of Flare
expect 0 faults in action surface of Diver
expect 0 faults in hold kick of Diver
expect 0 faults in write pos of Diver
expect 0 faults in function far
expect 0 faults in timer of Diver
expect 0 faults in on start of Dive
expect 0 faults in on spawn of Diver
expect 0 faults in on join
expect 0 faults in on lost
expect 0 faults in on back
expect 0 faults in on leave
wait 1 tick
`
	seen := map[string]bool{}
	for name, text := range texts {
		src := NewSource(name, text)
		_, problems := ParseDrills(src)
		require.Empty(t, problems, name)
		tokens := scan(src, src.whole()).tokens
		tokens = tokens[:len(tokens)-1]
		if at := e.recognise("drill file", tokens); at < len(tokens) {
			line, column := src.Position(tokens[max(at, 0)].Span.Start)
			t.Errorf("%s:%d:%d: the grammar does not have `%s` here", name, line, column, tokens[max(at, 0)].Text)
		}
		for _, tok := range tokens {
			seen[tok.Text] = true
		}
	}
	var missing []string
	for name, n := range rules {
		if readGrammar(t)[name] != nil {
			continue
		}
		each(n, func(n *node) {
			if n.sort == "literal" && !seen[n.text] {
				missing = append(missing, n.text)
			}
		})
	}
	assert.Empty(t, missing, "no drill shows these")
}
