package kamerad

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is built does not belong into the tree: no tracked file is a program, or larger than a megabyte.
func TestTheTreeHasNoBuildProducts(t *testing.T) {
	list, err := exec.Command("git", "ls-files", "-z").Output()
	require.NoError(t, err)
	names := strings.Split(strings.TrimSuffix(string(list), "\x00"), "\x00")
	require.Greater(t, len(names), 100)
	for _, name := range names {
		text, err := os.ReadFile(name)
		if os.IsNotExist(err) {
			continue // deleted, and not committed yet
		}
		require.NoError(t, err)
		assert.Less(t, len(text), 1<<20, name)
		assert.False(t, strings.HasPrefix(string(text), "\x7fELF"), "%s is a program", name)
	}
}
