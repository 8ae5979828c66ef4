package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/client"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/wire"
	"kamerad.example/demo"
	"kamerad.example/internal/tests/testservice"
)

// operated is a service that is run as docs/operating.md says.
type operated struct {
	*testservice.Process
	t      *testing.T
	folder string
	env    []string
	blocks map[string]string // of commands, by their headings
}

// step runs the commands below a heading.
func (o *operated) step(heading string) string {
	block := o.blocks[heading]
	require.NotEmpty(o.t, block, heading)
	delete(o.blocks, heading)
	cmd := exec.Command("bash", "-ec", block)
	cmd.Dir = o.folder
	cmd.Env = append(os.Environ(), o.env...)
	out, err := cmd.CombinedOutput()
	require.NoError(o.t, err, "%s\n%s\n%s", heading, block, out)
	return string(out)
}

// start starts the service with the settings of the folder.
func (o *operated) start() {
	o.Process = testservice.StartAt(
		o.t, "", "127.0.0.1:0", "serve", "--config", filepath.Join(o.folder, "door", "kamerad.toml"),
	)
	believed, err := terminal.Believe(filepath.Join(o.folder, "door", "service.crt"), "")
	require.NoError(o.t, err)
	o.TLS = believed
	o.Database = read(o.t, filepath.Join(o.folder, "door"), "database")
	o.Token = read(o.t, filepath.Join(o.folder, "door"), "operator.token")
}

// join seats a player by a ticket of a key.
func (o *operated) join(session int64, key, player, name string) (*client.Client, error) {
	k, err := auth.ParseKey([]byte(read(o.t, filepath.Join(o.folder, "door"), key)))
	require.NoError(o.t, err)
	ticket, err := auth.Sign(k, auth.Ticket{
		Player:  player,
		Name:    name,
		Session: session,
		Expires: time.Now().Add(time.Minute),
	}, time.Now())
	require.NoError(o.t, err)
	return client.Join(o.t.Context(), o.Service, session, "", "", client.Options{Ticket: ticket, TLS: o.TLS})
}

// operate reads the document, and makes what its commands need.
func operate(t *testing.T) (o *operated, restored string) {
	raw, err := os.ReadFile(filepath.Join(root, "docs/operating.md"))
	require.NoError(t, err)
	o = &operated{t: t, folder: t.TempDir(), blocks: map[string]string{}}
	headings := regexp.MustCompile("(?ms)^## ([^\n]+)\n(.*?)(?:^## |\\z)")
	for text := string(raw); ; {
		m := headings.FindStringSubmatchIndex(text)
		if m == nil {
			break
		}
		block := regexp.MustCompile("(?s)```operate\n(.*?)```").FindStringSubmatch(text[m[4]:m[5]])
		if block != nil {
			o.blocks[text[m[2]:m[3]]] = block[1]
		}
		text = text[m[5]:]
	}
	bin := t.TempDir()
	require.NoError(t, os.Symlink(testservice.Binary(t), filepath.Join(bin, "kamerad")))
	restored = testservice.Database(t)
	postgres, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	require.NoError(t, err)
	o.env = []string{
		"KAMERAD_DATABASE=" + testservice.Database(t),
		"RESTORED=" + restored,
		fmt.Sprintf("PATH=%s:%s:%s", bin, strings.Join(postgres, ":"), os.Getenv("PATH")),
	}
	return o, restored
}

// The document is followed step by step: install, play, back up, change keys while divers play, restore into an empty
// database, and go on there.
func TestOperatingAsDocumented(t *testing.T) {
	o, _ := operate(t)
	assert.Contains(t, o.step("Install"), "on-stop = 'leave'")
	o.start()
	v, err := o.Publish(t.Context(), "tidewreck.kam", demo.Contract, demo.Files)
	require.NoError(t, err)
	s, err := o.Open(t.Context(), api.OpenSession{Contract: v.Contract})
	require.NoError(t, err)
	ana, err := o.join(s.ID, "backend.jwk", "diver-1", "Ana")
	require.NoError(t, err)
	defer ana.Close()
	ask := func(c *client.Client) wire.Decision {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		d, err := c.Forge(ctx, 0, "Diver.set_ready", []byte("true"))
		require.NoError(t, err)
		return d
	}
	ask(ana)
	require.Eventually(t, func() bool {
		sessions := o.Query("select last_tick from call_batches where session = $1", s.ID)
		return len(sessions) > 0
	}, 20*time.Second, 50*time.Millisecond)
	o.step("Back up")

	// Keys are changed under load: who plays notices nothing, and at each moment somebody can join.
	var decided atomic.Int64
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		for ctx.Err() == nil {
			if _, err := ana.Forge(ctx, 0, "Diver.set_ready", []byte("true")); err == nil {
				decided.Add(1)
			}
		}
	}()
	o.step("Change keys")
	require.Eventually(t, func() bool {
		c, err := o.join(s.ID, "backend-2.jwk", "diver-2", "Bo")
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 100*time.Millisecond)
	_, err = o.join(s.ID, "backend.jwk", "diver-3", "Cleo")
	require.ErrorContains(t, err, "names no key")
	was := decided.Load()
	require.Eventually(t, func() bool { return decided.Load() > was+5 }, 20*time.Second, 20*time.Millisecond)
	cancel()
	<-done

	require.Equal(t, 0, o.Stop(), o.Log())
	o.step("Restore")
	o.start()
	after, err := o.Process.Session(t.Context(), s.ID)
	require.NoError(t, err)
	assert.True(t, after.Open, "the session goes on where the backup was made")
	back, err := o.join(s.ID, "backend-2.jwk", "diver-1", "Ana")
	require.NoError(t, err)
	defer back.Close()
	assert.Equal(t, ana.Me().Number, back.Me().Number, "her seat waited")
	ask(back)
	assert.Empty(t, o.blocks, "these are run by nothing")
}

// What lies beside the document names what there is.
func TestOperatingFiles(t *testing.T) {
	folder := filepath.Join(root, "docs/operate")
	unit := read(t, folder, "kamerad.service")
	image := read(t, folder, "Containerfile")
	for _, text := range []string{unit, image} {
		assert.Contains(t, text, "/etc/kamerad/kamerad.toml")
	}
	words := strings.Fields(regexp.MustCompile(`ExecStart=\S+ (.*)`).FindStringSubmatch(unit)[1])
	out, status := testservice.Run(t, testservice.Binary(t), "", nil, append(words, "--print-config")...)
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "/etc/kamerad/kamerad.toml: no such file", "its flags are known, and the file is not here")
	var compose struct {
		Services map[string]struct {
			Image       string
			Environment map[string]string
			Secrets     []string
		}
		Secrets map[string]any
	}
	require.NoError(t, yaml.Unmarshal([]byte(read(t, folder, "compose.yaml")), &compose))
	require.Contains(t, compose.Services, "kamerad")
	for name, s := range compose.Services {
		for _, secret := range s.Secrets {
			assert.Contains(t, compose.Secrets, secret, name)
		}
	}
}

// The database of the version before this one, with a session that was open, is brought up to date and goes on.
func TestUpgradeWithASessionOpen(t *testing.T) {
	database := testservice.Database(t)
	out, err := exec.Command(
		"psql", "--quiet", "--set", "ON_ERROR_STOP=1", "--file", "testdata/upgrade-00008.sql", database,
	).CombinedOutput()
	require.NoError(t, err, string(out))
	p := testservice.StartOn(t, database)
	s, err := p.Session(t.Context(), 1)
	require.NoError(t, err)
	require.True(t, s.Open, "%+v", s)
	state, err := p.PastState(t.Context(), 1, s.Tick, "")
	require.NoError(t, err)
	assert.Contains(t, string(api.Encode(state)), `"relics":5`)
	shown, status := p.Run("", "ask", "1", "lift", "--as", "Ana")
	assert.Equal(t, 0, status, shown)
	require.Eventually(t, func() bool {
		kept, err := p.KeptBy(t.Context(), api.Players, "Ana")
		return err == nil && len(kept) == 1 && string(kept[0].Values["Diver.found"]) == "4"
	}, 20*time.Second, 50*time.Millisecond, "three from before, and one")
	shown, status = p.Run("", "replay", "1")
	assert.Equal(t, 0, status, shown)
}
