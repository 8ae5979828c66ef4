package service

import (
	"encoding/json"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"kamerad.example/api"
)

// seriesOf returns the names of all that a service measures, with those that have shown nothing yet.
func seriesOf(t *testing.T, v *Service) (names []string) {
	described := make(chan *prometheus.Desc, 100)
	go func() { v.metrics.Describe(described); close(described) }()
	name := regexp.MustCompile(`fqName: "([^"]+)"`)
	for d := range described {
		names = append(names, name.FindStringSubmatch(d.String())[1])
	}
	slices.Sort(names)
	return slices.Compact(names)
}

var documented = regexp.MustCompile("(?m)^\\| `(\\w+)`")

// Each series is in the document, and the document has no other; so has what draws them and what warns.
func TestTheMetricsAreDocumented(t *testing.T) {
	x := lockNew(t)
	names := seriesOf(t, x.Service)
	page, err := os.ReadFile("../docs/metrics.md")
	require.NoError(t, err)
	var said []string
	for _, m := range documented.FindAllStringSubmatch(string(page), -1) {
		said = append(said, m[1])
	}
	assert.ElementsMatch(t, names, said)

	x.open(t, lockedContract)
	status, text, _ := get(t, "GET", x.admin.Service+"/metrics", "", map[string]string{
		"Authorization": "Bearer " + x.admin.Token,
	})
	require.Equal(t, 200, status)
	assert.Contains(t, text, `kamerad_api_seconds_count{method="POST",route="/api/sessions",status="200"} 1`)

	used := func(expression string) {
		for _, name := range regexp.MustCompile(`\b(?:kamerad|process)_\w+`).FindAllString(expression, -1) {
			base := regexp.MustCompile(`_(bucket|sum|count)$`).ReplaceAllString(name, "")
			assert.True(t, slices.Contains(names, name) || slices.Contains(names, base), "%s in %s", name, expression)
		}
	}
	var board struct {
		Title  string
		Panels []struct {
			Title   string
			Type    string
			GridPos struct{ H, W, X, Y int }
			Targets []struct{ Expr, LegendFormat string }
		}
	}
	raw, err := os.ReadFile("../docs/operate/dashboard.json")
	require.NoError(t, err)
	decoder := json.NewDecoder(strings.NewReader(string(raw)))
	require.NoError(t, decoder.Decode(&board))
	require.NotEmpty(t, board.Panels)
	for _, p := range board.Panels {
		assert.NotEmpty(t, p.Title)
		assert.LessOrEqual(t, p.GridPos.X+p.GridPos.W, 24, p.Title)
		require.NotEmpty(t, p.Targets, p.Title)
		for _, x := range p.Targets {
			used(x.Expr)
		}
	}
	var rules struct {
		Groups []struct {
			Name  string
			Rules []struct {
				Alert, Expr, For    string
				Labels, Annotations map[string]string
			}
		}
	}
	raw, err = os.ReadFile("../docs/operate/alerts.yaml")
	require.NoError(t, err)
	require.NoError(t, yaml.Unmarshal(raw, &rules))
	for _, g := range rules.Groups {
		require.NotEmpty(t, g.Rules)
		for _, r := range g.Rules {
			assert.NotEmpty(t, r.Alert)
			assert.NotEmpty(t, r.Annotations["summary"], r.Alert)
			assert.Contains(t, r.Annotations["description"], "docs/operating.md", r.Alert)
			used(r.Expr)
		}
	}
}

// A service that is not ready says all that keeps it from being so.
func TestReadySaysWhyNot(t *testing.T) {
	x := lockNew(t)
	status, body, _ := get(t, "GET", x.admin.Service+"/readyz", "", nil)
	assert.Equal(t, 200, status, body)
	x.registry.BeginStopping()
	x.db.Close()
	status, body, _ = get(t, "GET", x.admin.Service+"/readyz", "", nil)
	assert.Equal(t, 503, status)
	var p api.Problem
	require.NoError(t, json.Unmarshal([]byte(body), &p))
	assert.Equal(t, "the service is stopping; the database does not answer", p.Detail)
}
