package compile_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/syntax"
)

// A role by ticket is one like any other, but for how it is had.
func TestRolesByTicket(t *testing.T) {
	const text = "contract wreck language 1\nroles player, referee by ticket, watcher\n"
	c, problems := compile.Load("wreck.kam", text)
	require.NotNil(t, c, problems)
	for role, want := range map[string]bool{"": false, "player": false, "referee": true, "watcher": false, "eel": false} {
		assert.Equal(t, want, c.ByTicket(role), role)
	}
	assert.Equal(t, []string{"player", "referee", "watcher"}, c.Outline().Roles)
	styled, _ := syntax.Format(
		syntax.NewSource("wreck.kam", "contract wreck language 1\nroles player ,referee  by  ticket,watcher\n"),
	)
	assert.Equal(t, text, styled)
	first, problems := compile.Load("wreck.kam", "contract wreck language 1\nroles player by ticket\n")
	require.NotNil(t, first, problems)
	assert.True(t, first.ByTicket(""), "who names no role asks for the first one")
	_, problems = compile.Load("wreck.kam", "contract wreck language 1\nroles player by door\n")
	require.NotEmpty(t, problems)
	assert.Contains(t, problems.Error(), "by ticket")
}
