package syntax

import (
	"slices"
	"strings"
	"unicode/utf8"
)

// Format lays a contract out in the one style: two blanks for each level, single blanks around operators, aligned
// types, denials and remarks, at most one empty line. It moves no word to another line and keeps every comment, so that
// the tree stays the same. A text that cannot be read is not touched: its problems are given instead.
//
// Formatting what it returns changes nothing.
func Format(src *Source) (string, Problems) {
	if _, problems := Parse(src, nil); len(problems) > 0 {
		return "", problems
	}
	return format(src), nil
}

// FormatDrills is Format for a file of drills.
func FormatDrills(src *Source) (string, Problems) {
	if _, problems := ParseDrills(src); len(problems) > 0 {
		return "", problems
	}
	return format(src, arrowColumn), nil
}

// format lays a text out; more columns are aligned as well.
//
// It goes by tokens and lines, without the tree: what the parser makes of the words does not change
// when blanks do.
func format(src *Source, more ...func(*line) int) string {
	s := scan(src, src.whole())
	f := &formatter{src: src.Text}
	f.gather(s.tokens, s.comments)
	f.indent()
	f.align(f.typeColumn)
	f.align(f.denialColumn)
	for _, column := range more {
		f.align(column)
	}
	return f.render()
}

type formatter struct {
	src   string
	lines []*line
}

// line is one line of the text: its words, with the blanks before each, and the remark at its end.
type line struct {
	words   []Token
	blanks  []int  // before each word
	breaks  []bool // a `;` stands before the word
	remark  string
	empty   bool // an empty line stands before it
	indent  int
	depth   int // of braces, at its start
	nest    int // of brackets, at its start
	members bool
}

// gather splits the text into lines of words.
//
// A `;` leaves no token, so it is looked for in the text between two.
func (f *formatter) gather(tokens []Token, comments []Comment) {
	at := 0 // end of what was gathered
	add := func(start int) *line {
		between := f.src[at:start]
		if n := strings.Count(between, "\n"); n > 0 || len(f.lines) == 0 {
			f.lines = append(f.lines, &line{empty: n > 1 && len(f.lines) > 0})
		}
		return f.lines[len(f.lines)-1]
	}
	for _, t := range tokens {
		for len(comments) > 0 && comments[0].Span.Start < t.Span.Start {
			c := comments[0]
			comments = comments[1:]
			add(c.Span.Start).remark = c.Text
			at = c.Span.End
		}
		if t.Kind == End {
			break
		}
		separated := strings.Contains(f.src[at:t.Span.Start], ";")
		l := add(t.Span.Start)
		l.breaks = append(l.breaks, separated && len(l.words) > 0)
		l.words = append(l.words, t)
		at = t.Span.End
	}
	for _, c := range comments {
		add(c.Span.Start).remark = c.Text
		at = c.Span.End
	}
	for _, l := range f.lines {
		l.space()
	}
}

// leads are names that have an operand of their own after them, like a word of the language.
var leads = map[string]bool{
	"int": true, "real": true, "vec2": true, "vec3": true, "step": true, "max": true, "each": true, "of": true,
	"per": true, "while": true, "reply": true,
	"expel": true, "send": true, "tick": true, "seats": true, "strikes": true, "language": true, "in": true,
	"within": true,
	"where":  true, "when": true, "pace": true, "then": true,
	"burst": true, "by": true, "follows": true, "most": true,
}

// values are the words that stand for something.
var values = map[string]bool{
	"true":     true,
	"false":    true,
	"self":     true,
	"caller":   true,
	"owner":    true,
	"server":   true,
	"everyone": true,
	"nobody":   true,
	"nothing":  true,
	"viewer":   true,
}

// operand reports whether a word can end a value, so that a sign after it works on two.
func (t Token) operand() bool {
	switch t.Kind {
	case Sign:
		return t.Text == ")" || t.Text == "]"
	case Word:
		return values[t.Text]
	case Name:
		return !leads[t.Text]
	}
	return true
}

// space sets the blanks between the words of a line.
//
// Whether a `-` or `<` stands between two operands is told by the word before it.
func (l *line) space() {
	l.blanks = make([]int, len(l.words))
	unary := false // the word before is a sign that belongs to this one
	brackets := 0  // open < > of types
	for i, t := range l.words {
		if i == 0 {
			unary = t.Text == "-" && t.Kind == Sign
			continue
		}
		p := l.words[i-1]
		sign := func(t Token, texts string) bool {
			return t.Kind == Sign && strings.Contains(" "+texts+" ", " "+t.Text+" ")
		}
		blank := 1
		switch {
		case l.breaks[i]:
		case unary, sign(p, "( [ . .."), sign(t, ") ] , . .. :"), l.percent(i):
			blank = 0
		case sign(t, "( [") && (p.operand() || l.names(i-1)):
			blank = 0
		case sign(t, "<") && angled(p), brackets > 0 && (sign(t, ">") || sign(p, "<")):
			blank = 0
		}
		unary = t.Text == "-" && t.Kind == Sign && (!p.operand() || l.breaks[i])
		if sign(t, "<") && angled(p) {
			brackets++
		} else if sign(t, ">") && brackets > 0 {
			brackets--
		}
		l.blanks[i] = blank
	}
}

// names reports whether a word is the name of a member where it is declared or called, even one such as `step`, or the
// function `max`, which begins a value where the `max` of a type ends one.
func (l *line) names(i int) bool {
	if i == 0 {
		return false
	}
	before := l.words[i-1]
	if l.words[i].Text == "max" && !before.operand() && before.Text != ">" {
		return true
	}
	return slices.Contains([]string{"request", "event", "action", "fn", "audience", "do", "."}, before.Text)
}

// percent reports whether a word is the sign of a share, as in a drill's `link bo loss 5%`.
func (l *line) percent(i int) bool {
	return i > 1 && l.words[0].Kind == Name && l.words[0].Text == "link" && l.words[i].Text == "%" &&
		l.words[i-1].Kind == Int
}

// angled reports whether the type of this name has another in angles.
func angled(t Token) bool {
	return t.Kind == Name && (t.Text == "stacks" || t.Text == "list" || t.Text == "map")
}

// indent finds how deep each line stands. It goes over the lines once and keeps how many braces and parentheses are
// open, and whether the line before began something that goes on.
func (f *formatter) indent() {
	depth := 0
	nest := 0
	head := -1 // depth of the member whose head goes on, or -1
	open := false
	for _, l := range f.lines {
		l.depth = depth
		l.nest = nest
		level := depth
		if len(l.words) > 0 {
			first := l.words[0]
			level += deeper(first, nest, head >= 0, open)
			if head < 0 && nest == 0 && first.Kind == Word && first.Text == "request" {
				head = depth
			}
		} else if head >= 0 {
			level++
		}
		l.indent = max(level, 0)
		for _, t := range l.words {
			if t.Kind != Sign {
				continue
			}
			switch t.Text {
			case "{":
				depth++
				head = -1
			case "}":
				depth--
			case "(", "[":
				nest++
			case ")", "]":
				nest--
			}
		}
		depth = max(depth, 0)
		nest = max(nest, 0)
		if len(l.words) > 0 {
			open = nest == 0 && l.goesOn()
		}
		l.members = l.depth > 0 && l.nest == 0 && len(l.words) > 1 && l.words[1].Text == ":"
	}
}

// deeper returns by how many levels a line stands deeper than the braces around it say, judged by its first word. nest
// counts the open parentheses, inHead says that the head of a member goes on, open that the line before has not ended.
func deeper(first Token, nest int, inHead, open bool) int {
	closes := first.Kind == Sign && (first.Text == "}" || first.Text == ")" || first.Text == "]")
	switch {
	case closes && first.Text == "}":
		return -1
	case nest > 0 && !closes:
		return nest
	case nest > 0:
		return nest - 1
	case inHead && first.Text == "{" && first.Kind == Sign:
		return 0
	case inHead && first.Kind == Word &&
		(first.Text == "from" || first.Text == "limit" || first.Text == "pause" || first.Text == "let" ||
			first.Text == "check"):
		return 1
	case inHead || open || first.Kind == Word && (first.Text == "and" || first.Text == "or"):
		return 2 // it goes on with what the line before began
	}
	return 0
}

// goesOn reports whether the last word of a line wants something after it, so that the next line belongs to it.
func (l *line) goesOn() bool {
	n := len(l.words)
	last := l.words[n-1]
	if last.Kind == Word {
		return last.Text == "and" || last.Text == "or" || last.Text == "not"
	}
	return last.Kind == Sign && !l.percent(n-1) &&
		strings.Contains(" + - * / % = := += -= == != < <= > >= , . -> ", " "+last.Text+" ")
}

// width is how many characters a line has up to a word.
func (l *line) width(words int) int {
	n := 2 * l.indent
	for i := range words {
		if !l.breaks[i] {
			n += l.blanks[i]
		}
		n += utf8.RuneCountInString(l.text(i))
	}
	return n
}

// text returns a word as it stands in the source, with the `;` before it.
func (l *line) text(i int) string {
	t := l.words[i].source
	if l.breaks[i] {
		return "; " + t
	}
	return t
}

// align moves the word that column finds in neighbouring lines to one column.
//
// column returns the index of the word, or −1 for a line that ends the run, as an empty line and
// another indent do.
func (f *formatter) align(column func(*line) int) {
	for i := 0; i < len(f.lines); {
		run := i
		widest := 0
		for run < len(f.lines) {
			l := f.lines[run]
			at := column(l)
			if at < 0 || run > i && (l.empty || l.indent != f.lines[i].indent) {
				break
			}
			widest = max(widest, l.width(at))
			run++
		}
		for _, l := range f.lines[i:run] {
			at := column(l)
			l.blanks[at] = 1 + widest - l.width(at)
		}
		i = max(run, i+1)
	}
}

// typeColumn is the type of a line that is a property.
func (f *formatter) typeColumn(l *line) int {
	if l.members && len(l.words) > 2 {
		return 2
	}
	return -1
}

// denialColumn is the `else` of a check or pause that stands on one line.
func (f *formatter) denialColumn(l *line) int {
	if len(l.words) == 0 || l.words[0].Kind != Word || l.words[0].Text != "check" && l.words[0].Text != "pause" {
		return -1
	}
	for i, t := range l.words {
		if t.Kind == Word && t.Text == "else" {
			return i
		}
	}
	return -1
}

// arrowColumn is the `->` of a line of a drill that says which decision is wanted.
func arrowColumn(l *line) int {
	for i, t := range l.words {
		if t.Kind == Sign && t.Text == "->" && i > 0 && !l.breaks[i] && l.words[0].Kind == Name {
			return i
		}
	}
	return -1
}

// render writes the lines, with the remarks of neighbouring ones in one column.
func (f *formatter) render() string {
	var b strings.Builder
	for i := 0; i < len(f.lines); i++ {
		run := i
		widest := 0
		for run < len(f.lines) && f.lines[run].remark != "" && len(f.lines[run].words) > 0 &&
			(run == i || !f.lines[run].empty) {
			widest = max(widest, f.lines[run].width(len(f.lines[run].words)))
			run++
		}
		for _, l := range f.lines[i:max(run, i+1)] {
			if l.empty {
				b.WriteByte('\n')
			}
			b.WriteString(strings.Repeat("  ", l.indent))
			for j := range l.words {
				if !l.breaks[j] {
					b.WriteString(strings.Repeat(" ", l.blanks[j]))
				}
				b.WriteString(l.text(j))
			}
			if l.remark != "" {
				if len(l.words) > 0 {
					b.WriteString(strings.Repeat(" ", max(1, 1+widest-l.width(len(l.words)))))
				}
				b.WriteString(l.remark)
			}
			b.WriteByte('\n')
		}
		i = max(run, i+1) - 1
	}
	return b.String()
}
