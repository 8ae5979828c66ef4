package world

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
)

// As many entities of a kind as clients can number, and no more.
func TestAKindHasAsManyAsCanBeNumbered(t *testing.T) {
	c, problems := compile.Load(
		"names.kam",
		"contract names language 1\nroles player\nentity Tag { words: text max 40 = \"\" }\n"+
			"shared Sea { on start { spawn Tag } }",
	)
	require.NotNil(t, c, problems.Error())
	w := New(c, nil)
	w.serials[0] = 1<<30 - 2
	assert.False(t, w.Full(c.Kinds[0]))
	w.Spawn(c.Kinds[0], 0)
	assert.True(t, w.Full(c.Kinds[0]))
}
