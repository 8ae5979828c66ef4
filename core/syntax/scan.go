package syntax

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Kind classes a token.
type Kind int

// The classes of tokens.
const (
	End      Kind = iota // end of the text
	Name                 // begins with a small letter
	TypeName             // begins with a capital
	Word                 // a reserved word
	Int                  // 42
	Real                 // 0.5
	Duration             // 400ms, 2s
	Text                 // "a text"
	Sign                 // an operator or bracket
)

// Token is one word, number, text or sign of a contract.
type Token struct {
	Kind    Kind
	Text    string // as written; for Text the value without quotes and escapes
	Num     int64  // value of an Int, milliseconds of a Duration
	Span    Span
	Newline bool // a line end (or ';') stands before it
	source  string
}

// Comment is a `// …` remark; the formatter puts it back.
type Comment struct {
	Span Span
	Text string
}

// reserved are the words that are never names, except after a point.
var reserved = map[string]bool{}

func init() {
	for _, w := range strings.Fields(
		`contract enum type const audience shared part entity request event action fn on every after
		check limit pause from to let if else match for tell spawn despawn give deny return do and or not true false
		nothing
		self caller viewer owner server everyone nobody include setting but`,
	) {
		reserved[w] = true
	}
	for _, sign := range strings.Fields(".. := += -= == != <= >= -> + - * / % = < > ( ) { } [ ] , . :") {
		signs[sign] = true
	}
}

// Reserved reports whether a word is one of the language's own and so no name.
func Reserved(word string) bool { return reserved[word] }

// signs have one or two characters; the longer one is taken.
var signs = map[string]bool{}

// scanner cuts a text into tokens, and keeps its comments aside.
type scanner struct {
	src      *Source
	at       int  // the next byte
	end      int  // of the text, or of the part of it that is scanned
	newline  bool // a line has ended since the last token
	tokens   []Token
	comments []Comment
	problems Problems
}

// scan splits a part of a source into tokens; it always ends in an End token, whatever the text.
func scan(src *Source, part Span) *scanner {
	s := &scanner{
		src:     src,
		newline: true,
		at:      part.Start,
		end:     part.End,
		tokens:  make([]Token, 0, min(part.End-part.Start, MaxSource)/4+8),
	}
	if n := part.End - part.Start; n > MaxSource {
		s.fail(
			Span{part.Start, part.Start}, "too-long", fmt.Sprintf("the contract is %d bytes long", n),
			fmt.Sprintf("at most %d bytes are allowed", MaxSource),
		)
		s.add(End, "", part.Start, part.End)
		return s
	}
	for s.next() {
	}
	// the last line with something on it
	end := part.Start + len(strings.TrimRight(src.Text[part.Start:part.End], " \t\r\n;"))
	s.add(End, "", end, end)
	return s
}

// whole is the range of a source of one file.
func (s *Source) whole() Span { return Span{0, len(s.Text)} }

// fail adds a problem; scanning goes on.
func (s *scanner) fail(at Span, code, message, hint string) {
	if len(s.problems) >= maxGathered {
		return
	}
	s.problems = append(s.problems, s.src.Problem(at, code, message, hint))
}

// add appends a token and returns it. The pointer holds until the next one is added.
func (s *scanner) add(kind Kind, text string, start, end int) *Token {
	s.tokens = append(s.tokens, Token{
		Kind:    kind,
		Text:    text,
		Span:    Span{start, end},
		Newline: s.newline,
		source:  s.src.Text[start:end],
	})
	s.newline = false
	return &s.tokens[len(s.tokens)-1]
}

// next reads one token, comment or blank, and reports whether there was one.
func (s *scanner) next() bool {
	text := s.src.Text[:s.end]
	if s.at >= len(text) {
		return false
	}
	r, size := utf8.DecodeRuneInString(text[s.at:])
	switch {
	case r == '\n' || r == ';':
		s.newline = true
		s.at++
	case r == ' ' || r == '\t' || r == '\r':
		s.at++
	case strings.HasPrefix(text[s.at:], "//"):
		end := s.at
		for end < len(text) && text[end] != '\n' {
			end++
		}
		if !utf8.ValidString(text[s.at:end]) || strings.ContainsRune(text[s.at:end], 0) {
			s.fail(
				Span{s.at, end}, "stray-character", "this comment holds bytes that are no text",
				"save the file as UTF-8",
			)
		}
		s.comments = append(s.comments, Comment{Span{s.at, end}, strings.TrimRight(text[s.at:end], "\r ")})
		s.at = end
	case r == '"':
		s.text()
	case r >= '0' && r <= '9':
		s.number()
	case r == '_' || unicode.IsLetter(r) && r < utf8.RuneSelf:
		end := s.at + letters(text[s.at:])
		word := text[s.at:end]
		kind := Name
		if reserved[word] {
			kind = Word
		} else if word[0] >= 'A' && word[0] <= 'Z' {
			kind = TypeName
		}
		s.add(kind, word, s.at, end)
		s.at = end
	default:
		for length := 2; length > 0; length-- {
			if end := s.at + length; end <= len(text) && signs[text[s.at:end]] {
				s.add(Sign, text[s.at:end], s.at, end)
				s.at = end
				return true
			}
		}
		what := strconv.QuoteRune(r)
		if r == utf8.RuneError && size == 1 {
			what = fmt.Sprintf("the byte 0x%02x, which is not UTF-8,", text[s.at])
		}
		s.fail(
			Span{s.at, s.at + size}, "stray-character", "a contract cannot hold "+what+" here",
			"names are made of the letters a to z, digits and _; texts stand in double quotes",
		)
		s.at += size
	}
	return true
}

// letters returns how many bytes at the beginning of a text may stand in a name.
func letters(text string) int {
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c != '_' && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
			return i
		}
	}
	return len(text)
}

// digits returns how many bytes at the beginning of a text are decimal digits.
func digits(text string) int {
	for i := 0; i < len(text); i++ {
		if text[i] < '0' || text[i] > '9' {
			return i
		}
	}
	return len(text)
}

// number reads a whole number, a real or a time.
func (s *scanner) number() {
	text := s.src.Text[:s.end]
	start := s.at
	end := start + digits(text[start:])
	kind := Int
	// A point has digits on both sides; two points are a range.
	if end+1 < len(text) && text[end] == '.' && digits(text[end+1:]) > 0 {
		kind = Real
		end += 1 + digits(text[end+1:])
	}
	number := text[start:end]
	if len(number) > 40 {
		s.fail(Span{start, end}, "bad-number", "this number has "+strconv.Itoa(len(number))+" digits", "at most 40")
		number = "1"
	}
	unit := text[end : end+letters(text[end:])]
	s.at = end + len(unit)
	span := Span{start, s.at}
	scale := map[string]time.Duration{"ms": time.Millisecond, "s": time.Second, "min": time.Minute}[unit]
	switch {
	case unit != "" && scale == 0:
		s.fail(
			span, "bad-number", fmt.Sprintf("%q is neither a number nor a name", text[start:s.at]),
			"a name begins with a letter; the units of time are ms, s and min",
		)
		s.add(Int, number, start, s.at)
	case unit != "" && kind == Real:
		s.fail(
			span, "bad-number", fmt.Sprintf("the duration %q has a fraction", text[start:s.at]),
			"write it in a smaller unit: 0.5s is 500ms",
		)
		s.add(Duration, number, start, s.at).Num = 1000
	case unit != "":
		n, err := strconv.ParseInt(number, 10, 64)
		if err != nil || n > int64(24*time.Hour/scale) {
			s.fail(
				span, "bad-number", fmt.Sprintf("the duration %q is too long", text[start:s.at]),
				"at most a day (1440min)",
			)
			n = max(1, int64(time.Second/scale))
		}
		s.add(Duration, text[start:s.at], start, s.at).Num = n * int64(scale/time.Millisecond)
	case kind == Real:
		s.add(Real, number, start, end)
	default:
		n, err := strconv.ParseInt(number, 10, 64)
		if err != nil {
			s.fail(
				span, "bad-number", "the number "+number+" is too large",
				"whole numbers have 64 bits: at most 9223372036854775807",
			)
		}
		s.add(Int, number, start, end).Num = n
	}
}

// text reads a text in quotes, which ends in the line it begins in.
func (s *scanner) text() {
	src := s.src.Text[:s.end]
	start := s.at
	var b strings.Builder
	i := start + 1
	for {
		if i >= len(src) || src[i] == '\n' {
			b.Reset() // where it should have ended is not known
			s.fail(Span{start, i}, "open-text", "this text has no end", `close it with " on the same line`)
			break
		}
		c := src[i]
		if c == '"' {
			i++
			break
		}
		if c == '\\' && i+1 < len(src) && src[i+1] != '\n' {
			switch src[i+1] {
			case '"', '\\':
				b.WriteByte(src[i+1])
			case 'n':
				b.WriteByte('\n')
			default:
				s.fail(
					Span{i, i + 2}, "bad-escape", `a text knows no escape like this one`, `there are \" and \\ and \n`,
				)
			}
			i += 2
			continue
		}
		r, size := utf8.DecodeRuneInString(src[i:])
		if r == utf8.RuneError && size == 1 {
			s.fail(Span{i, i + 1}, "stray-character", "this text is not UTF-8", "save the file as UTF-8")
		} else if unicode.IsControl(r) && r != '\t' {
			s.fail(
				Span{i, i + size}, "stray-character", fmt.Sprintf("a text cannot hold the control character %U", r),
				`write \n for a line end`,
			)
		}
		b.WriteRune(r)
		i += size
	}
	s.add(Text, b.String(), start, i)
	s.at = i
}
