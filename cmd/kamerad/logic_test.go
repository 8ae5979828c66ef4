//go:build unix

package main

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/testservice"
)

// flooded is a session of the hold, with a diver who looks on.
type flooded struct {
	*testservice.Process
	t       *testing.T
	session int64
	diver   *client.Client
	physics string // the program
}

// newFlooded opens a session of the hold and seats a diver.
func newFlooded(t *testing.T, p *testservice.Process) *flooded {
	program := filepath.Join(t.TempDir(), "physics")
	build := exec.Command("go", "build", "-o", program, "kamerad.example/examples/hold/physics")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	source, err := os.ReadFile(filepath.Join(root, "examples/hold/hold.kam"))
	require.NoError(t, err)
	v, err := p.Publish(t.Context(), "hold.kam", string(source), nil)
	require.NoError(t, err)
	s, err := p.Open(t.Context(), api.OpenSession{Contract: v.Contract})
	require.NoError(t, err)
	f := &flooded{Process: p, t: t, session: s.ID, physics: program}
	return f
}

// seat seats the diver.
func (f *flooded) seat(o client.Options) {
	var err error
	f.diver, err = client.Join(f.t.Context(), f.Service, f.session, "Ana", "player", o)
	require.NoError(f.t, err)
	f.t.Cleanup(f.diver.Close)
}

// start starts the physics.
func (f *flooded) start(args ...string) *exec.Cmd {
	all := append([]string{"--service", f.Service, "--session", fmt.Sprint(f.session)}, args...)
	c := exec.Command(f.physics, all...)
	require.NoError(f.t, c.Start())
	f.t.Cleanup(func() {
		_ = c.Process.Kill()
		_ = c.Wait()
	})
	return c
}

// sees returns a property of the hold, or of the only crate, as the diver has it.
func (f *flooded) sees(kind, name string) (text string) {
	f.diver.Look(func(c *replicate.Copy) {
		for _, e := range c.Entities() {
			if e.Kind == kind {
				v, _ := e.Field(name)
				text = v.Type.Format(v.Value)
			}
		}
	})
	return text
}

// until waits until the diver sees something.
func (f *flooded) until(kind, name, want string) {
	f.t.Helper()
	require.Eventually(f.t, func() bool { return f.sees(kind, name) == want }, 10*time.Second, 5*time.Millisecond,
		"%s.%s is %s, not %s", kind, name, f.sees(kind, name), want)
}

// ask has the diver ask something, and returns the decision.
func (f *flooded) ask(entity uint32, request string, args ...json.RawMessage) wire.Decision {
	d, err := f.diver.Ask(f.t.Context(), entity, request, args...)
	require.NoError(f.t, err)
	return d
}

// A crate that is dropped falls by the physics' own laws; shoved to the hatch, it is stowed, which the physics alone
// may ask. With tickets on, it joins by one that names its role.
func TestAPhysicsProcessMovesCrates(t *testing.T) {
	p, folder := secured(t)
	f := newFlooded(t, p)
	ticket := func(player, name, role string) string {
		out, status := p.Run("", "ticket", "--session", fmt.Sprint(f.session), "--player", player, "--name", name,
			"--role", role, "--key", filepath.Join(folder, "backend.jwk"))
		require.Zero(t, status, out)
		return out
	}
	f.seat(client.Options{Ticket: strings.TrimSpace(ticket("diver-1", "Ana", "player"))})
	file := filepath.Join(t.TempDir(), "physics.ticket")
	require.NoError(t, os.WriteFile(file, []byte(ticket("physics", "Physics", "logic")), 0o600))
	f.start("--ticket", file)
	f.until("Hold", "adrift", "false")
	require.Equal(t, wire.Accepted, f.ask(0, "Hold.drop").Outcome)
	require.Eventually(t, func() bool { return f.sees("Crate", "pos") != "" }, 5*time.Second, 10*time.Millisecond)
	var crate uint32
	f.diver.Look(func(c *replicate.Copy) {
		for _, e := range c.Entities() {
			if e.Kind == "Crate" {
				crate = e.Number
				assert.NotZero(t, e.Owner, "it is given to the physics")
			}
		}
	})
	d, err := f.diver.Forge(t.Context(), 0, "Hold.stow", json.RawMessage(strconv.Itoa(int(crate))))
	require.NoError(t, err)
	assert.Equal(t, wire.StageFrom, d.Stage)
	deadline := time.Now().Add(40 * time.Second)
	for f.sees("Hold", "landed") != "1" && time.Now().Before(deadline) {
		f.follow(crate)
		f.ask(crate, "Crate.shove", json.RawMessage("[6, 0]"))
		time.Sleep(270 * time.Millisecond)
	}
	assert.Equal(t, "1", f.sees("Hold", "landed"), "the crate is at %s", f.sees("Crate", "pos"))
}

// follow has the diver swim after a crate.
func (f *flooded) follow(crate uint32) {
	var to [2]float64
	f.diver.Look(func(c *replicate.Copy) {
		if e := c.Entity(crate); e != nil {
			pos, _ := e.Field("pos")
			to = [2]float64{pos.Type.Real(pos.Value.Parts[0].Num), pos.Type.Real(pos.Value.Parts[1].Num)}
		}
	})
	var me uint32
	var at [2]float64
	f.diver.Look(func(c *replicate.Copy) {
		if e := c.OwnedBy("Diver", f.diver.Me().Number); e != nil {
			me = e.Number
			pos, _ := e.Field("pos")
			at = [2]float64{pos.Type.Real(pos.Value.Parts[0].Num), pos.Type.Real(pos.Value.Parts[1].Num)}
		}
	})
	next := at
	for i := range next {
		next[i] += max(-1, min(to[i]-at[i], 1))
	}
	raw, _ := json.Marshal(next)
	_, err := f.diver.Write(me, "Diver.pos", raw)
	require.NoError(f.t, err)
}

// kills is how often the physics is killed: ten times, or as often as KAMERAD_SILENCES says.
func kills() int {
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_SILENCES")); err == nil {
		return n
	}
	return 10
}

// The physics is killed, or hangs, at any moment: each time what the contract declares happens once, after as much silence as it
// says, and another process goes on. Nobody else is answered any later.
func TestAPhysicsProcessIsKilled(t *testing.T) {
	f := newFlooded(t, testservice.Start(t))
	watched := struct {
		sync.Mutex
		silent []int64 // the ticks in which the hold went adrift
		heard  int64   // the last tick with news of a crate
		gaps   []int64 // ticks without one, each time it went adrift
	}{}
	f.seat(client.Options{OnFrame: func(frame *wire.Frame, notices []replicate.Notice) {
		watched.Lock()
		defer watched.Unlock()
		for _, n := range notices {
			if n.Type != replicate.FieldChanged || n.Entity == nil {
				continue
			}
			switch {
			case n.Entity.Kind == "Crate":
				watched.heard = frame.Tick
			case n.Field.Name == "stops":
				watched.silent = append(watched.silent, frame.Tick)
				watched.gaps = append(watched.gaps, frame.Tick-watched.heard)
			}
		}
	}})
	process := f.start()
	f.until("Hold", "adrift", "false")
	var whileAlive, whileKilled []time.Duration
	ask := func(to *[]time.Duration) { // the diver asks what is refused, and waits for the decision
		began := time.Now()
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		_, err := f.diver.Forge(ctx, 0, "Hold.stow", json.RawMessage("1"))
		require.NoError(t, err)
		*to = append(*to, time.Since(began))
	}
	r := rand.New(rand.NewPCG(4, 1))
	for i := range kills() {
		if i%4 == 0 {
			f.ask(0, "Hold.drop") // so that something moves
		}
		for range 6 {
			ask(&whileAlive)
		}
		time.Sleep(time.Duration(r.IntN(100)) * time.Millisecond)
		end := syscall.SIGKILL
		if i%3 == 2 {
			end = syscall.SIGSTOP // it hangs: its connection stays
		}
		require.NoError(t, process.Process.Signal(end))
		for range 6 {
			ask(&whileKilled)
		}
		f.until("Hold", "stops", fmt.Sprint(i+1))
		assert.Equal(t, "true", f.sees("Hold", "adrift"))
		process = f.start()
		f.until("Hold", "adrift", "false")
		assert.Equal(t, fmt.Sprint(i+1), f.sees("Hold", "stops"), "once each time")
	}
	watched.Lock()
	defer watched.Unlock()
	assert.Len(t, watched.silent, kills())
	for _, gap := range watched.gaps {
		assert.GreaterOrEqual(t, gap, int64(10), "the contract waits for half a second")
	}
	slices.Sort(whileAlive)
	slices.Sort(whileKilled)
	middle := func(of []time.Duration) time.Duration { return of[len(of)/2] }
	late := func(of []time.Duration) time.Duration { return of[len(of)*95/100] }
	t.Logf("%d kills; a decision took %s and %s in the middle, %s and %s at most of 95 in 100", kills(),
		middle(whileAlive), middle(whileKilled), late(whileAlive), late(whileKilled))
	assert.Less(t, middle(whileKilled), middle(whileAlive)*11/10+5*time.Millisecond)
	assert.Less(t, late(whileKilled), late(whileAlive)*12/10+25*time.Millisecond)
}
