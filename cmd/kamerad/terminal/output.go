// Package terminal has what all commands share: flags, arguments, colours, tables, and how texts from elsewhere are
// shown. It calls no service.
//
// Texts of players and contracts go through Shown or ShownLines before they are printed: what would steer the terminal
// is shown as text. A command that has found something wrong, and has printed it, returns ErrFound: the exit status is
// 1 and nothing more is said.
package terminal

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"time"
	"unicode"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"kamerad.example/core/wire"
)

func init() {
	if _, off := os.LookupEnv("NO_COLOR"); off || !term.IsTerminal(int(os.Stdout.Fd())) {
		text.DisableColors()
	}
}

// The colours of the terminal mean what those of the console mean, and never stand alone.
var (
	Good  = text.Colors{text.FgGreen}
	Warn  = text.Colors{text.FgYellow}
	Bad   = text.Colors{text.FgRed}
	Note  = text.Colors{text.FgBlue}
	Muted = text.Colors{text.Faint}
	Bold  = text.Colors{text.Bold}
)

// Shown returns a text from elsewhere as a terminal may have it: what it would obey, or what hides something, is
// written out.
func Shown(text string) string {
	var out strings.Builder
	for _, r := range text {
		if unicode.IsPrint(r) {
			out.WriteRune(r)
		} else {
			fmt.Fprintf(&out, "\\u%04x", r)
		}
	}
	return out.String()
}

// jsonText is a text within JSON, with its quotes.
var jsonText = regexp.MustCompile(`"(?:\\.|[^"\\])*"`)

// unescaped returns JSON whose texts have nothing escaped but what has to be: `<` in place of `\u003c`.
func unescaped(raw json.RawMessage) string {
	return jsonText.ReplaceAllStringFunc(string(raw), func(quoted string) string {
		var text string
		var out bytes.Buffer
		e := json.NewEncoder(&out)
		e.SetEscapeHTML(false)
		if json.Unmarshal([]byte(quoted), &text) != nil || e.Encode(text) != nil {
			return quoted
		}
		return strings.TrimSpace(out.String())
	})
}

// Unquoted is unescaped, but that a text by itself stands without its quotes.
func Unquoted(raw json.RawMessage) string {
	var text string
	if json.Unmarshal(raw, &text) == nil && raw[0] == '"' {
		return text
	}
	return unescaped(raw)
}

// ShownLines is shown for a text of several lines.
func ShownLines(text string) string {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = Shown(strings.ReplaceAll(lines[i], "\t", "  "))
	}
	return strings.Join(lines, "\n")
}

// PrintJSON prints a value as indented JSON.
func PrintJSON(w io.Writer, v any) error {
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

// NewTable returns a table with lines in place of boxes.
func NewTable(header ...any) table.Writer {
	t := table.NewWriter()
	t.AppendHeader(header)
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft = ""
	style.Box.PaddingRight = "  "
	t.SetStyle(style)
	return t
}

// AlignRight aligns columns of numbers, counted from 1, to the right.
func AlignRight(t table.Writer, columns ...int) {
	var list []table.ColumnConfig
	for _, n := range columns {
		list = append(list, table.ColumnConfig{Number: n, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(list)
}

// PrintTable prints a table; lines end where their text ends.
func PrintTable(w io.Writer, t table.Writer) {
	for _, line := range strings.Split(t.Render(), "\n") {
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
}

// FormatTime returns a time as a terminal shows it, in the local zone.
func FormatTime(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

// marks are the letter and the pattern of each client, the same as in the console.
var marks = []string{"▲", "●", "■", "◆", "▼", "○", "□", "◇"}

// Mark returns the mark of a client, by its number.
func Mark(number int) string {
	i := number - 1
	return fmt.Sprintf("%c %s", 'A'+rune(i%26), marks[i%len(marks)])
}

// Verdict returns a decision as text: its sign, its outcome and what decided.
func Verdict(outcome wire.Outcome, stage wire.Stage, reason string, reply json.RawMessage) string {
	sign := map[wire.Outcome]string{
		wire.Accepted:  "✓",
		wire.Denied:    "✕",
		wire.Dropped:   "↓",
		wire.Malformed: "?",
		wire.Faulted:   "!",
	}[outcome]
	colour := Bad
	switch outcome {
	case wire.Accepted:
		colour = Good
	case wire.Dropped:
		colour = Warn
	}
	out := colour.Sprintf("%s %s", sign, outcome)
	if reason != "" {
		out += ": " + Shown(reason)
	}
	if reply != nil {
		out += ", replied " + Shown(unescaped(reply))
	}
	if stage != "" {
		out += Muted.Sprintf(" (%s)", stage)
	}
	return out
}
