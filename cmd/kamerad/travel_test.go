package main

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/internal/tests/testservice"
)

// Who plays in the terminal goes where the contract sends them.
func TestThePlayerOfATerminalIsSent(t *testing.T) {
	p := testservice.Start(t)
	for _, name := range []string{"hold", "lobby"} {
		source, err := os.ReadFile(filepath.Join(root, "examples", name, name+".kam"))
		require.NoError(t, err)
		_, err = p.Publish(t.Context(), name+".kam", string(source), nil)
		require.NoError(t, err)
	}
	lobby, err := p.Open(t.Context(), api.OpenSession{Contract: "lobby"})
	require.NoError(t, err)
	command := exec.Command(p.Binary, "join", fmt.Sprint(lobby.ID), "--as", "Ana", "--service", p.Service)
	keys, err := command.StdinPipe()
	require.NoError(t, err)
	screen, err := command.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, command.Start())
	_, err = keys.Write([]byte("get_ready\n"))
	require.NoError(t, err)
	var shown strings.Builder
	isSent := fmt.Sprintf("You are sent to session %d, of hold.", lobby.ID+1)
	for lines := bufio.NewScanner(screen); lines.Scan(); {
		shown.WriteString(lines.Text() + "\n")
		if lines.Text() == isSent {
			_, err = keys.Write([]byte("see\nquit\n"))
			require.NoError(t, err)
		}
	}
	require.NoError(t, command.Wait())
	_, there, wasSent := strings.Cut(shown.String(), isSent)
	require.True(t, wasSent, shown.String())
	assert.Contains(t, there, "landed", "the hold is shown")
	hold, err := p.Session(t.Context(), lobby.ID+1)
	require.NoError(t, err)
	assert.Equal(t, "hold", hold.Contract)
	seats, err := p.Session(t.Context(), lobby.ID)
	require.NoError(t, err)
	assert.Empty(t, seats.Clients)
}
