package contract

import (
	"fmt"
	"path/filepath"

	"kamerad.example/core/syntax"
)

// Bounds of what a contract brings beside its own text.
const (
	MaxFiles     = 64
	MaxFilesSize = 1 << 20 // bytes of all together
)

// Files are the texts that a contract includes or takes tables from, by the names that it calls them.
type Files map[string]string

// Open returns a text; it is a syntax.Open.
func (f Files) Open(name string) (string, error) {
	text, ok := f[name]
	if !ok {
		return "", fmt.Errorf("the file %q is not there", name)
	}
	return text, nil
}

// Check reports files that exceed the bounds.
func (f Files) Check() error {
	size := 0
	for name, text := range f {
		if !filepath.IsLocal(name) {
			return fmt.Errorf("the file name %.80q leads out of the contract's folder", name)
		}
		size += len(text)
	}
	if len(f) > MaxFiles || size > MaxFilesSize {
		return fmt.Errorf(
			"there are %d files with %d bytes beside the contract, at most %d with %d are allowed", len(f), size,
			MaxFiles, MaxFilesSize,
		)
	}
	return nil
}

var _ syntax.Open = Files{}.Open
