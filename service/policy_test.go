package service

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/policy"
	"kamerad.example/internal/tests/testservice"
	"kamerad.example/store"
)

// A service with a policy publishes what keeps to it, and of another contract it stores nothing.
func TestAPolicyHoldsWhatIsPublished(t *testing.T) {
	const careless = "contract careless language 1\nentity Diver per player {\n" +
		"  depth: int 0..9 = 9 set by owner when new > 2\n}\n"
	rules, err := policy.Read([]byte(`{"require": ["paces"]}`))
	require.NoError(t, err)
	records := &store.Memory{}
	v, err := New(t.Context(), Options{Records: records, Recorder: records, Console: page, Policy: rules})
	require.NoError(t, err)
	admin := serve(t, v)
	_, err = admin.Publish(t.Context(), "careless.kam", careless, nil)
	problem := refused(t, err, http.StatusUnprocessableEntity)
	assert.Contains(t, problem.Detail, "careless.kam has 1 mistake; nothing was published")
	require.Len(t, problem.Problems, 2, "a warning stays one")
	assert.Equal(t, policy.Code, problem.Problems[1].Code)
	assert.Equal(t, 3, problem.Problems[1].Line)
	versions, err := records.Versions(t.Context(), "careless")
	require.NoError(t, err)
	assert.Empty(t, versions)
	_, err = admin.Publish(t.Context(), "tidewreck.kam", testservice.Contract, nil)
	require.NoError(t, err)
}
