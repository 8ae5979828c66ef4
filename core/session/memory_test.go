package session

import (
	"fmt"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
)

// spawning returns a contract whose one timer spawns a thousand entities of a kind in each tick.
func spawning(rock string, rocks int) string {
	return "contract spawning language 1\nseats 40\nroles player\n" + rock + fmt.Sprintf(`
entity Diver per player { n: int 0..9 = 0; pos: vec2 -99..99 step 0.1 = vec(0, 0) }
shared Sea {
  left: int 0..99999 = %d
  on tick {
    if left > 0 {
      for i in [0, 1, 2, 3, 4, 5, 6, 7, 8, 9] { for j in [0, 1, 2, 3, 4, 5, 6, 7, 8, 9] { for k in [0, 1, 2, 3, 4, 5, 6, 7, 8, 9] { spawn Rock } } }
      left = max(left - 1000, 0)
    }
  }
}
`, rocks)
}

func heap() int64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// What a session takes in memory is not more than what is told of it, whatever its kinds are like, and what is told is
// not far more.
func TestMemoryIsNotMoreThanTold(t *testing.T) {
	near := "audience near(e: Rock) = distance(viewer.Diver.pos, e.pos) <= 60\n"
	asked := "audience even(e: Rock) = (viewer.Diver.n + e.n) % 2 == 0\n"
	properties := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, "p%d: int 0..9 = 0; ", i)
		}
		return b.String()
	}
	kinds := map[string]string{
		"one property":     "entity Rock { n: int 0..9 = 0 }",
		"ten properties":   "entity Rock { " + properties(10) + " }",
		"sixty properties": "entity Rock { " + properties(60) + " }",
		"near":             near + "entity Rock to near(self) { pos: vec2 -99..99 step 0.1 = vec(0, 0) }",
		"asked":            asked + "entity Rock to even(self) { n: int 0..9 = 0 }",
		"asked, with a list": asked + "entity Rock { n: int 0..9 = 0; l: list<int 0..9> max 100 = [1, 2, 3] to " +
			"even(self) }",
		"an owner's":   "entity Rock { n: int 0..9 = 0 to owner }",
		"hidden":       "entity Rock to nobody { n: int 0..9 = 0 }",
		"a list":       "entity Rock { l: list<int 0..9> max 100 = [1, 2, 3] }",
		"a short list": "entity Rock { l: list<int 0..9> max 3 = [1, 2, 3] }",
		"a full list": "entity Rock { l: list<int 0..9999> max 30 = [1000, 2000, 3000, 4000, 5000, 6000, " +
			"7000, 8000, 9000, 1000, 2000, 3000, 4000, 5000, 6000, 7000, 8000, 9000, 1000, 2000, 3000, 4000, 5000, " +
			"6000, 7000, 8000, 9000, 1, 2, 3] }",
		"references": "entity Rock { l: list<ref Diver> max 20 = [] }",
		"a text":     "entity Rock { l: text max 200 = \"\" \n on spawn { l = \"abc\" } }",
		"a moving one": "entity Rock { vel: vec2 -9..9 step 0.1 = vec(1, 1); pos: vec2 -999..999 step 0.1 = " +
			"vec(0, 0) follows vel }",
		"an action that waits": "entity Rock { n: int 0..9 = 0 \n action grow() { n = 1 } \n" +
			" on spawn { after 1min do grow() } }",
		"many that wait": "entity Rock { n: int 0..9 = 0 \n action grow() { n = 1 } \n" +
			" on spawn { for i in [1, 2, 3, 4, 5, 6, 7, 8, 9] { after 1min do grow() } } }",
		"a text that waits": "entity Rock { n: int 0..9 = 0 \n" +
			" action say(s: text max 100) { n = 1; if s == \"a\" { n = 2 } } \n" +
			" on spawn { after 1min do say(\"abc\") } }",
		"looked for": "entity Rock { n: int 0..9 = 0; m: int 0..9 = 0; pos: vec2 -99..99 step 0.1 = vec(0, 0) \n" +
			" on spawn { pos = vec(roll(-99..99), roll(-99..99)); " +
			"if count(r in Rock within 0.5 of pos) > 50 { n = 1 } } \n" +
			" request look() from player { n = count(r in Rock within 3 of pos) + " +
			"count(r in Rock within 40 of pos) } \n" +
			" request ask() from player { m = count(r in Rock where r.n == 8) + count(r in Rock where r.m == 8) } }",
		"a pace": "entity Rock { n: int 0..9 = 0 at most 2 per second }",
	}
	for _, name := range []string{
		"one property", "ten properties", "sixty properties", "asked, with a list", "a full list",
		"references", "a moving one",
	} {
		kinds[name+", with a limit of bytes"] = kinds[name]
	}
	const rocks, clients = 3_000, 10
	for name, kind := range kinds {
		t.Run(name, func(t *testing.T) {
			text := spawning(kind, rocks)
			if strings.HasSuffix(name, "bytes") {
				text = withByteLimit(strings.Replace(text, "language 1", "language 2", 1), contract.MaxBytesPerSecond)
			}
			c, problems := compile.Load("spawning.kam", text)
			require.NotNil(t, c, problems.Error())
			before := heap()
			s, err := New(c, Options{Key: [32]byte{1}, Trace: true, Memory: 4 << 30})
			require.NoError(t, err)
			for i := range clients {
				n, err := s.Join(fmt.Sprint("d", i), "")
				require.NoError(t, err)
				s.Ready(n)
			}
			var step *Step
			for range rocks/1000 + 5 {
				s.UseMemory(nil)
				step = s.Tick()
				for _, f := range step.Frames {
					s.Confirm(f.Client, step.Tick)
				}
			}
			held := step.MemoryUsed
			require.Len(t, s.world.Entities(), rocks+clients+1)
			s.UseMemory(nil)
			s.Tick() // the frames above are not the session's any more
			taken := heap() - before
			runtime.KeepAlive(s)
			t.Logf("%d bytes an entity, told %d", taken/rocks, held/rocks)
			assert.LessOrEqual(t, taken, held)
			assert.Less(t, held, 5*taken, "lists that are nearly empty count as full")
		})
	}
}

// A session of which the contract spawns without end keeps to its memory: what would go over it faults and is undone,
// and nobody else joins.
func TestWhatIsSpawnedKeepsToItsMemory(t *testing.T) {
	g := open(
		t,
		strings.Replace(
			spawning("entity Rock { n: int 0..9 = 0 }", 99_999), "left = max(left - 1000, 0)", "left = 99999", 1,
		),
	)
	g.s.world.MaxMemory = 4 << 20
	ana := g.join("Ana", "")
	assert.Equal(t, 17, g.faults(20, "there is no memory for another Rock", "4 MB"))
	assert.Equal(t, 3002, len(g.s.world.Entities()), "in whole ticks: what a body did before its fault is undone")
	for _, e := range slices.Clone(g.s.world.OfKind(0)[:2000]) {
		g.s.world.Despawn(e)
	}
	g.s.world.Commit()
	g.tick()
	assert.Equal(t, 2002, len(g.s.world.Entities()), "there is room again")
	g.s.world.MaxMemory = g.step.MemoryUsed
	_, err := g.s.Join("Bo", "")
	var refusal *Refusal
	require.ErrorAs(t, err, &refusal)
	assert.Equal(t, MemorySpent, refusal.Code)
	assert.NotNil(t, g.s.seats[ana])
}

// What clients are told of by themselves counts as well: a session of which they come to see far more than it may take
// is closed.
func TestWhatIsSeenKeepsToItsMemory(t *testing.T) {
	g := open(
		t,
		spawning(
			"audience even(e: Rock) = (viewer.Diver.n + e.n) % 2 == 0\nentity Rock to even(self) { n: int 0..9 = 0 }",
			4000,
		),
	)
	g.s.world.MaxMemory = 6 << 20
	for i := range 5 {
		g.join(fmt.Sprint("Diver ", i), "")
	}
	for range 3 {
		g.tick()
	}
	require.Empty(t, g.step.Closed)
	before := g.step.MemoryUsed
	for i := range 35 {
		if _, err := g.s.Join(fmt.Sprint("More ", i), ""); err != nil {
			break
		}
	}
	g.s.Tick()
	step := g.s.Tick()
	assert.Greater(t, step.MemoryUsed, 2*before)
	assert.Contains(t, step.Closed, "takes more than twice the 6 MB of memory that it may")
	for n := range g.s.seats {
		g.s.Leave(n)
	}
	g.s.Tick()
	g.s.Tick()
	assert.Zero(t, g.s.view.PrivateEntries())
	assert.Zero(t, g.s.world.ClientMemory)
}

// An action is refused as well, when there is no memory for it to wait: what delayed it faults and is undone.
func TestWhatWaitsKeepsToItsMemory(t *testing.T) {
	g := open(t, spawning(`entity Rock {
  n: int 0..9 = 0
  action say(s: text max 1000) { n = 1; if s == "a" { n = 2 } }
  every 50ms { after 1min do say("abc") }
}`, 1000))
	g.s.world.MaxMemory = 4 << 20
	g.join("Ana", "")
	assert.Greater(t, g.faults(100, "there is no memory for `say` to wait: 1002 entities"), 10_000)
}

// faults makes ticks, in which the session keeps to its memory, and counts their faults, of which each tells all of
// reasons.
func (g *game) faults(ticks int, reasons ...string) int {
	n := 0
	for range ticks {
		g.tick()
		for _, f := range g.step.Faults {
			n++
			for _, reason := range reasons {
				require.Contains(g.t, f.Reason, reason)
			}
		}
		require.Empty(g.t, g.step.Closed)
		require.LessOrEqual(g.t, g.step.MemoryUsed, g.s.world.MaxMemory)
	}
	return n
}
