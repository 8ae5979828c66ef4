// Package compile turns the text of a contract into its model or its problems: it reads the text, checks what it means,
// and looks for dangers. It adds nothing of its own to packages syntax, check and findings.
//
// Load is for a text that stands alone, LoadWith for one that uses files, which it opens by a function of the caller's.
// A model comes with warnings, or does not come because there is an error among the problems. It is immutable, and the
// problems are the caller's own.
package compile

import (
	"fmt"

	"kamerad.example/core/check"
	"kamerad.example/core/contract"
	"kamerad.example/core/findings"
	"kamerad.example/core/syntax"
)

// Load reads and checks a contract of one file, and looks for its dangers. The problems hold every mistake, of the text
// and of its meaning, or, when there is none, every warning, in the order of the lines. The contract is nil exactly
// when there is a mistake.
func Load(name, text string) (*contract.Contract, syntax.Problems) {
	return LoadWith(name, text, func(other string) (string, error) {
		return "", fmt.Errorf("the file %q is not part of this contract", other)
	})
}

// LoadWith is Load for a contract that includes other files or takes tables from them; open returns their texts.
func LoadWith(name, text string, open syntax.Open) (*contract.Contract, syntax.Problems) {
	src := syntax.NewSource(name, text)
	file, problems := syntax.Parse(src, open)
	checked, problems := check.Build(src, file, problems, open)
	problems = append(problems, findings.UnknownAccepts(src, file)...)
	if len(problems) > 0 {
		return nil, problems.Sort() // what is unused may only not have been understood
	}
	return checked.Contract, findings.Find(checked).Sort()
}
