package session

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/mtibben/confusables"
	"golang.org/x/text/unicode/norm"
)

// maxMarks is how many combining marks may follow one character of a name: as many as letters of living scripts have.
const maxMarks = 3

// cleanName returns a client's name as it is held and shown: in Unicode's normal form C, without space around it. The
// error says what a name may not be.
func cleanName(name string) (string, error) {
	if !utf8.ValidString(name) {
		return "", fmt.Errorf("the name %q is not UTF-8", name)
	}
	name = norm.NFC.String(strings.TrimSpace(name))
	if n := utf8.RuneCountInString(name); n < 1 || n > MaxName {
		return "", fmt.Errorf("a name has 1 to %d characters, not %d", MaxName, n)
	}
	marks := 0
	for _, r := range name {
		switch {
		case !unicode.IsPrint(r):
			return "", fmt.Errorf("the name %q holds characters that cannot be printed", name)
		case invisible(r):
			return "", fmt.Errorf("the name %q holds the invisible character %U", name, r)
		case !unicode.Is(unicode.M, r):
			marks = 0
		default:
			marks++
			if marks > maxMarks || marks == utf8.RuneCountInString(name) {
				return "", fmt.Errorf("the name %q has too many marks over one character", name)
			}
		}
	}
	return name, nil
}

// invisible reports whether a character that counts as printable shows nothing.
func invisible(r rune) bool {
	return unicode.In(r, unicode.Other_Default_Ignorable_Code_Point, unicode.Variation_Selector) || r == '\u2800' ||
		r == '\u034f'
}

// alike reports whether two names look the same: they have the same skeleton (Unicode Technical Standard 39).
func alike(a, b string) bool { return confusables.Confusable(a, b) }
