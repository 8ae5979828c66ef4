//go:build failpoints

package httpapi

import (
	"net/http"
	"sync"

	"github.com/go-chi/chi/v5"

	"kamerad.example/internal/tests/openapi"
)

var documentChecker = sync.OnceValues(func() (*openapi.Checker, error) { return openapi.NewChecker(document) })

// checkAnswer holds an answer against the document. What is no route, or has none yet, is held against nothing.
func checkAnswer(r *http.Request, status int, body []byte) error {
	route := chi.RouteContext(r.Context()).RoutePattern()
	if route == "" || route == "/api/*" || status == http.StatusMethodNotAllowed {
		return nil
	}
	c, err := documentChecker()
	if err != nil {
		return err
	}
	return c.Check(r.Method, route, status, body)
}
