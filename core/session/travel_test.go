package session

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/wire"
)

const pierText = `contract pier language 2
tick 10 per second
type Place = vec2 -9..9 step 0.5
enum Tide { low, high }
exit dive(depth: int 0..5, tide: Tide, at: list<Place> max 2, air: real 0..9 step 0.5) to "reef"
shared Pier {
  stays: int 0..9 = 0
  left: int 0..9 = 0
  request go(depth: int 0..9, key: text max 90) from player
  { for c in clients { send c to dive(depth, high, [vec(1, 2.5)], 1.5) as key }; if depth == 4 { deny "not there" } }
}
on stay(c) { Pier.stays += 1 }
on leave(c) { Pier.left += 1 }
`

// What a contract sends is told once, with what the exit gives; the client stays where it is until it is said what has
// become of that.
func TestAClientIsSent(t *testing.T) {
	g := open(t, pierText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Pier.go", "3", `"a"`).Outcome)
	require.Len(t, g.step.Sendings, 2)
	s := g.step.Sendings[0]
	assert.Equal(t, ana, s.Client)
	assert.Equal(t, "reef", s.Exit.To)
	assert.Equal(t, "a", s.Key)
	for name, want := range map[string]string{"depth": "3", "tide": `"high"`, "at": "[[1,2.5]]", "air": "1.5"} {
		assert.Equal(t, want, string(s.Settings[name]), name)
	}
	g.ask(bo, 0, "Pier.go", "3", `"b"`)
	assert.Empty(t, g.step.Sendings, "both are under way")
	g.s.Stay(bo)
	g.tick()
	assert.Equal(t, "1", g.sees(bo, 0, "Pier", "stays"))
	g.s.Stay(bo) // it is under way no more
	g.s.Depart(bo)
	g.tick()
	assert.Equal(t, "1", g.sees(bo, 0, "Pier", "stays"))
	assert.Empty(t, g.step.Cuts)
	g.s.Depart(ana)
	g.tick()
	assert.Equal(t, []Cut{{Client: ana, Reason: DepartReason, Departs: true}}, g.step.Cuts)
	assert.Len(t, g.s.Clients(), 1)
	assert.Equal(t, "1", g.sees(bo, 0, "Pier", "left"))
}

// What is denied or fails sends nobody.
func TestNobodyIsSentByWhatIsUndone(t *testing.T) {
	g := open(t, pierText)
	ana := g.join("Ana", "")
	g.tick()
	assert.Equal(t, wire.Denied, g.ask(ana, 0, "Pier.go", "4", `"a"`).Outcome)
	assert.Empty(t, g.step.Sendings)
	assert.Equal(t, wire.Faulted, g.ask(ana, 0, "Pier.go", "9", `"a"`).Outcome, "no setting holds it")
	assert.Empty(t, g.step.Sendings)
	long, err := json.Marshal("a key that has a great many letters, which is more than the sixty-four that it may have")
	require.NoError(t, err)
	assert.Equal(t, wire.Faulted, g.ask(ana, 0, "Pier.go", "1", string(long)).Outcome)
	assert.Empty(t, g.step.Sendings)
}

// Who was under way when the service ended stays: nobody is left to send it.
func TestWhoIsUnderWayInACrashStays(t *testing.T) {
	g := open(t, pierText)
	ana := g.join("Ana", "")
	g.tick()
	g.ask(ana, 0, "Pier.go", "1", `"a"`)
	g.s.Recover(g.s.Now() + 100)
	g.s.Back(ana, 0)
	g.s.Ready(ana)
	g.tick()
	g.tick()
	assert.Equal(t, "1", g.sees(ana, 0, "Pier", "stays"))
}
