package main

import (
	"encoding/json"
	"runtime/debug"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/internal/tests/testservice"
)

func TestVersionSaysWhichBuildThisIs(t *testing.T) {
	b := buildOf(&debug.BuildInfo{
		Main: debug.Module{Version: "v0.3.0"},
		Settings: []debug.BuildSetting{
			{Key: "vcs.revision", Value: "0123456789abcdef"},
			{Key: "vcs.modified", Value: "true"},
			{Key: "vcs.time", Value: "2031-04-05T06:07:08Z"},
		},
	})
	assert.Contains(t, b.String(), "kamerad v0.3.0 from commit 0123456789ab and changes of 2031-04-05T06:07:08Z, go1.")
	assert.Contains(t, buildOf(nil).String(), "kamerad, go1.")

	out, status := testservice.Run(t, testservice.Binary(t), "", nil, "version", "--json")
	require.Equal(t, 0, status, out)
	require.NoError(t, json.Unmarshal([]byte(out), &b))
	assert.Equal(t, []string{"kamerad.v2", "kamerad.json.v2"}, b.Protocols)
}
