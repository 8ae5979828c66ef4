package httpapi

import (
	"net/http"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"testing"
	"testing/fstest"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/core/contract"
	"kamerad.example/internal/tests/openapi"
	"kamerad.example/service/door"
	"kamerad.example/service/gateway"
	"kamerad.example/store"
)

// everyRoute returns an API with all its routes, which nobody calls.
func everyRoute() *API {
	records := &store.Memory{}
	metrics := prometheus.NewRegistry()
	return New(Options{
		Records:    records,
		Backlog:    records.Backlog,
		Gateway:    gateway.New(metrics),
		Door:       door.New(door.Options{}),
		Metrics:    metrics,
		Console:    fstest.MapFS{},
		Operators:  struct{ Operators }{},
		Recordings: struct{ Recordings }{},
	})
}

// The document that the service carries is that of its routes, of the types that they take and answer, and of the
// comments of those. KAMERAD_UPDATE_DOCS=1 writes it anew.
func TestDocumentIsOfTheRoutes(t *testing.T) {
	var calls []openapi.Call
	for _, x := range everyRoute().routes() {
		c := openapi.Call{
			Name:    x.name,
			Subject: x.subject,
			Method:  x.method,
			Path:    x.path,
			Right:   string(x.right),
			Words:   x.words,
			In:      x.in,
			InText:  x.inText,
			Out:     x.out,
			Texts:   x.texts,
			Status:  x.status,
		}
		for _, q := range x.query {
			c.Query = append(
				c.Query,
				openapi.Parameter{Name: q.name, IsText: q.isText, IsAsked: q.isAsked, Words: q.words},
			)
		}
		calls = append(calls, c)
	}
	// A bound that is too great for a number in JSON is written as text.
	wide := func(s *huma.Schema) {
		for _, bound := range []string{"low", "high"} {
			p := s.Properties[bound]
			s.Properties[bound] = &huma.Schema{
				Description: p.Description,
				OneOf:       []*huma.Schema{{Type: huma.TypeInteger}, {Type: huma.TypeString}},
			}
		}
	}
	folder, err := filepath.Abs("../..")
	require.NoError(t, err)
	made, err := openapi.Document(calls, openapi.Options{
		Title: "Kamerad",
		Words: "Contracts, the live sessions that run them, their clients, recordings and trials. Whoever reads an answer " +
			"has to skip fields that it does not know.",
		Version:  "1",
		Problem:  reflect.TypeFor[api.Problem](),
		Home:     reflect.TypeFor[api.Problem]().PkgPath(),
		Comments: openapi.Comments{Module: "kamerad.example", Folder: folder},
		Changes:  map[reflect.Type]func(*huma.Schema){reflect.TypeFor[contract.Type](): wide},
	})
	require.NoError(t, err)
	if os.Getenv("KAMERAD_UPDATE_DOCS") != "" {
		require.NoError(t, os.WriteFile("openapi.json", made, 0o644))
		return
	}
	require.True(t, string(made) == string(document), "the routes are others now: KAMERAD_UPDATE_DOCS=1 writes it anew")
}

// Every route of the router stands in the document, and no other.
func TestDocumentHasEveryRoute(t *testing.T) {
	var routed []string
	walk := func(method, path string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		if path != "/*" { // the console
			routed = append(routed, method+" "+path)
		}
		return nil
	}
	require.NoError(t, chi.Walk(everyRoute().Handler().(chi.Routes), walk))
	checker, err := openapi.NewChecker(document)
	require.NoError(t, err)
	documented := checker.Operations()
	slices.Sort(routed)
	slices.Sort(documented)
	assert.Equal(t, routed, documented)
}
