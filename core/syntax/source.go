// Package syntax turns the text of a contract into a tree, and words every mistake it finds so that a reader can mend
// it.
//
// It knows how a contract is written, not what it means: names, types and ranges are the business of packages check and
// typing.
//
// Parse reads contracts, ParseDrills drills; both go on after a mistake, up to a bound, so that one reading words them
// all. A tree refers to the text of its Source, and nothing changes it once it was returned.
//
// # How it works
//
// The scanner (scan.go) cuts a text into tokens and keeps comments aside. The parser reads the tokens from left to
// right by recursive descent: declarations in parse.go, what stands in a kind in parse_kind.go, clauses of properties
// by the table in clauses.go, statements in parse_stmt.go and expressions in parse_expr.go, the latter by precedence
// climbing. The lines of a drill are read by drill.go with the same parser. tree.go has the types of the trees.
//
// At a mistake the parser gives up the construct that it reads, notes a Problem, and goes on where the next one begins.
// What is nested is counted, so that no text exhausts the stack.
//
// Format (format.go) works on tokens and comments rather than on the tree, so that a text with mistakes can be
// formatted too.
package syntax

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"
)

// MaxSource is the greatest length of one contract text, in bytes.
const MaxSource = 1 << 20

// Span is a half-open range of byte offsets in a source.
type Span struct{ Start, End int }

// Source is the text of one contract file together with the name that messages call it by.
//
// A contract with includes is one source too: the texts of all its files stand one after the other, and a byte offset
// tells the file as well.
type Source struct {
	Name  string // of the first file
	Text  string
	lines []int // byte offset of the start of each line
	files []sourceFile
}

// sourceFile is one file of a source; it reaches to the start of the next one.
type sourceFile struct {
	name  string
	start int // byte offset
	line  int // index of its first line
}

// Open returns the text of a file that a contract names, such as an included one or a table.
type Open func(name string) (string, error)

// NewSource wraps a contract's text. name is what problems are reported against, usually a file path.
func NewSource(name, text string) *Source {
	s := &Source{Name: name}
	s.add(name, text)
	return s
}

// add puts another file behind those that are there, and returns the range of its text.
//
// A line end is put between two files, so that the last word of one and the first of the next stay
// apart.
func (s *Source) add(name, text string) Span {
	if len(s.files) > 0 {
		s.Text += "\n"
	}
	start := len(s.Text)
	s.files = append(s.files, sourceFile{name, start, len(s.lines)})
	s.lines = append(s.lines, start)
	for i := 0; i < len(text); i++ {
		if text[i] == '\n' {
			s.lines = append(s.lines, start+i+1)
		}
	}
	s.Text += text
	return Span{start, start + len(text)}
}

// has reports whether a file is part of the source already.
func (s *Source) has(name string) bool {
	return slices.ContainsFunc(s.files, func(f sourceFile) bool { return f.name == name })
}

// file returns the file in which an offset lies.
func (s *Source) file(offset int) *sourceFile {
	i := sort.Search(len(s.files), func(i int) bool { return s.files[i].start > offset }) - 1
	return &s.files[max(i, 0)]
}

// File returns the name of the file in which a byte offset lies.
func (s *Source) File(offset int) string { return s.file(offset).name }

// Position returns the line and column (both from 1 in its file, the column in characters) of a byte offset.
//
// An offset outside of the text is taken for its nearest end.
func (s *Source) Position(offset int) (line, column int) {
	offset = min(max(offset, 0), len(s.Text))
	i := sort.SearchInts(s.lines, offset+1) - 1
	return i + 1 - s.file(offset).line, utf8.RuneCountInString(s.Text[s.lines[i]:offset]) + 1
}

// Line returns the text of a line (from 1, counted through all files) without its line end.
func (s *Source) Line(line int) string {
	if line < 1 || line > len(s.lines) {
		return ""
	}
	text := s.Text[s.lines[line-1]:]
	if i := strings.IndexByte(text, '\n'); i >= 0 {
		text = text[:i]
	}
	return strings.TrimSuffix(text, "\r")
}

// Problem is one mistake in a contract.
type Problem struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Column  int    `json:"column"` // in characters, from 1
	Length  int    `json:"length"` // in characters, at least 1, within the line
	Code    string `json:"code"`   // stable short name of this kind of mistake
	Message string `json:"message"`
	Hint    string `json:"hint,omitempty"`    // what would be right
	Warning bool   `json:"warning,omitempty"` // it may be meant; a line `accept CODE "reason"` above says so
	Source  string `json:"source"`            // the line of text
}

// Problems collects mistakes; it is the error that parsing and checking return.
type Problems []Problem

// Error joins all problems, one line each.
func (p Problems) Error() string {
	out := make([]string, len(p))
	for i, q := range p {
		out[i] = fmt.Sprintf("%s:%d:%d: %s", q.File, q.Line, q.Column, q.Message)
		if q.Hint != "" {
			out[i] += " (" + q.Hint + ")"
		}
	}
	return strings.Join(out, "\n")
}

// Mistakes returns how many of the problems are more than warnings.
func (p Problems) Mistakes() (n int) {
	for _, q := range p {
		if !q.Warning {
			n++
		}
	}
	return n
}

// Sort orders problems by file, line and column, and removes repeats at one place.
//
// It works in place and returns the part that is left.
func (p Problems) Sort() Problems {
	sort.SliceStable(p, func(i, j int) bool {
		a := p[i]
		b := p[j]
		if a.File != b.File {
			return a.File < b.File
		}
		if a.Line != b.Line {
			return a.Line < b.Line
		}
		return a.Column < b.Column
	})
	out := p[:0]
	for i, q := range p {
		if i > 0 && len(out) > 0 {
			last := out[len(out)-1]
			if last.File == q.File && last.Line == q.Line && last.Column == q.Column && last.Code == q.Code {
				continue
			}
		}
		out = append(out, q)
	}
	return out
}

// Part is a part of a problem's layout, for whoever wants to set it off.
type Part int

// The parts.
const (
	Place Part = iota
	Wrong      // the message and the carets
	Aside      // the code and the gutter
)

// Text sets out one problem as a person reads it: position, message, the line, carets, and the hint. paint, which may
// be nil, sets a part off.
func (p Problem) Text(paint func(Part, string) string) string {
	if paint == nil {
		paint = func(_ Part, text string) string { return text }
	}
	code := p.Code
	if p.Warning {
		code = "warning: " + code
	}
	var b strings.Builder
	fmt.Fprintf(
		&b, "%s %s %s\n", paint(Place, fmt.Sprintf("%s:%d:%d:", p.File, p.Line, p.Column)), paint(Wrong, p.Message),
		paint(Aside, "["+code+"]"),
	)
	fmt.Fprintf(&b, "%s %s\n", paint(Aside, fmt.Sprintf("%5d │", p.Line)), p.Source)
	fmt.Fprintf(
		&b, "%s %s%s\n", paint(Aside, "      │"), indentOf(p.Source, p.Column),
		paint(Wrong, strings.Repeat("^", max(p.Length, 1))),
	)
	if p.Hint != "" {
		fmt.Fprintf(&b, "%s %s\n", paint(Aside, "      ="), p.Hint)
	}
	return b.String()
}

// indentOf returns the blanks that stand before a column of a line; tabs stay tabs so that a caret falls under its
// character.
func indentOf(line string, column int) string {
	var b strings.Builder
	n := 1
	for _, r := range line {
		if n >= column {
			break
		}
		if r == '\t' {
			b.WriteByte('\t')
		} else {
			b.WriteByte(' ')
		}
		n++
	}
	for ; n < column; n++ {
		b.WriteByte(' ')
	}
	return b.String()
}

// Problem makes a Problem of a mistake at a place of this source.
func (s *Source) Problem(at Span, code, message, hint string) Problem {
	line, column := s.Position(at.Start)
	file := s.file(at.Start)
	text := s.Line(file.line + line)
	length := 1
	if at.End > at.Start && at.End <= len(s.Text) {
		end := min(at.End, s.lines[file.line+line-1]+len(text))
		if end > at.Start {
			length = utf8.RuneCountInString(s.Text[at.Start:end])
		}
	}
	return Problem{
		File:    file.name,
		Line:    line,
		Column:  column,
		Length:  max(length, 1),
		Code:    code,
		Message: message,
		Hint:    hint,
		Source:  text,
	}
}
