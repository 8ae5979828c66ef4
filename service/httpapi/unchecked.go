//go:build !failpoints

package httpapi

import "net/http"

// checkAnswer does nothing: only a binary for tests holds its answers against the document.
func checkAnswer(*http.Request, int, []byte) error { return nil }
