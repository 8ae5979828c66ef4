package player

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLinesAreSplitAtBlanks(t *testing.T) {
	for line, want := range map[string][]word{
		"":                            nil,
		"  use  patch ":               {{"use", false}, {"patch", false}},
		`say "hello there"  7`:        {{"say", false}, {"hello there", true}, {"7", false}},
		`say "a \"b\" \u003c"`:        {{"say", false}, {`a "b" <`, true}},
		`"Diver 3".Diver.use flare`:   {{"Diver 3.Diver.use", false}, {"flare", false}},
		`write pos [1, 2] {"a": [1]}`: {{"write", false}, {"pos", false}, {"[1, 2]", false}, {`{"a": [1]}`, false}},
	} {
		got, err := split(line)
		require.NoError(t, err, line)
		assert.Equal(t, want, got, line)
	}
	for line, want := range map[string]string{`say "hello`: "no text in quotes", "pos [1, 2": "no list or record"} {
		_, err := split(line)
		assert.ErrorContains(t, err, want)
	}
}
