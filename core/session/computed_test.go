package session

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

const computedText = `contract shelves language 2
tick 20 per second
strikes 9 in 10s
setting reserve: int 0..99 = 2

part Load {
  bags: int 0..9 = 1
  weight: int 0..90 := bags * 10 + extra
  extra: int 0..40 = 0 clamped
}

entity Diver per player with Load {
  shelf: list<int 0..9> max 8 to nobody
  held:  int 0..6 := reveal(shelf.count())
  twice: int 0..12 := held * 2 to owner
  slow:  int 0..900 clamped := held * 100 at most 2 per second
  log:   text max 60 = ""
  turns: int 0..99 = 0 clamped
  age:   int 0..99999 = 0
  seen:  int 0..99 = 0 clamped

  on change held { turns += 1 }
  on spawn { bags = 3 }

  request put(n: int 0..9) { shelf.put(n); seen = held; shelf.put(n); turns += held * 10 }
  request swap() { shelf.put(1); shelf.cut(0) }
  request fill() { for n in 1..7 { shelf.put(n) } }
  request look() -> int 0..99 { reply held * 10 + twice }
  request light() check weight < 35 else strike "too heavy" { }
  request late() { age = since(held) / 1ms }
  request weigh() -> int 0..999 { extra = 7; reply sum(l in Load: l.weight) + count(l in Load where l.weight > 20) * 100 }
  request sink(n: int 0..9) { let s = spawn Sled { bags = n }; age = s.weight }
}

entity Sled with Load { on spawn { extra = 1 } }

shared Store { left: int 0..9 := 9 - reserve; request take() from player limit 9 per second { } }
`

// A computed property is what its entity's others make it: at once in bodies, at the end of a cause for clients, for
// `on change` and for since.
func TestComputedPropertiesFollowWhatTheyAreComputedFrom(t *testing.T) {
	g := open(t, computedText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	assert.Equal(t, "30", g.sees(bo, ana, "Diver", "weight"), "what on spawn has set counts")
	assert.Equal(t, "0", g.sees(bo, ana, "Diver", "turns"), "a first value is no change")

	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.put", "4").Outcome)
	assert.Equal(t, "1", g.sees(bo, ana, "Diver", "seen"), "a body reads what it has just written")
	assert.Equal(t, "2", g.sees(bo, ana, "Diver", "held"))
	assert.Equal(t, "4", g.sees(ana, ana, "Diver", "twice"))
	assert.Equal(t, "not for this client", g.sees(bo, ana, "Diver", "twice"))
	assert.Equal(t, "21", g.sees(bo, ana, "Diver", "turns"), "it changed once in the cause")

	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.swap").Outcome)
	assert.Equal(t, "21", g.sees(bo, ana, "Diver", "turns"), "what comes back to what it was has not changed")
	assert.JSONEq(t, "24", string(g.ask(ana, 0, "Diver.look").Reply))

	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.late").Outcome)
	assert.Equal(t, "150", g.sees(bo, ana, "Diver", "age"), "three ticks since it changed")
	assert.Equal(t, "0", g.sees(bo, ana, "Diver", "slow"), "it is sent twice a second at most")
	for range 10 {
		g.tick()
	}
	assert.Equal(t, "200", g.sees(bo, ana, "Diver", "slow"))

	assert.JSONEq(t, "267", string(g.ask(ana, 0, "Diver.weigh").Reply), "of several kinds, and after a write in the body")
	require.Equal(t, wire.Accepted, g.ask(bo, 0, "Diver.sink", "5").Outcome)
	assert.Equal(t, "51", g.sees(bo, bo, "Diver", "age"), "of what was spawned in the same body")
}

// A value that does not fit undoes the cause that brought it about, whichever that is.
func TestAComputedValueOutOfItsRangeIsAFaultOfItsCause(t *testing.T) {
	g := open(t, computedText)
	ana := g.join("Ana", "")
	g.tick()
	before := g.truth()
	d := g.ask(ana, 0, "Diver.fill")
	assert.Equal(t, wire.Faulted, d.Outcome)
	assert.Equal(t, before, g.truth())
	fault := g.step.Decisions[0]
	assert.Equal(t, "Diver.held cannot become 7, which is no int 0..6", fault.Reason)
	assert.Equal(t, "held of Diver", fault.In)
	assert.Equal(t, 14, fault.Line)

	d = g.ask(ana, 0, "Diver.sink", "9")
	assert.Equal(t, wire.Faulted, d.Outcome, "on spawn takes it out of its range")
	own := g.copies[ana].OwnedBy("Diver", ana)
	require.ErrorContains(t, g.s.Set(own.Number, "held", contract.Value{Num: 3}), "it is computed")
}

// A check that strikes by a computed value hits who can have known it, and nobody else. What is revealed by a value that
// stays the same tells nobody anything.
func TestWhoCannotKnowAComputedValueIsNotHit(t *testing.T) {
	c, _ := compile.Load("shelves.kam", computedText)
	s, err := New(c, Options{Reveals: true})
	require.NoError(t, err)
	ana, err := s.Join("Ana", "")
	require.NoError(t, err)
	s.Ready(ana)
	s.Tick()
	ask := func(seq uint64, request string, seen int64, args ...string) *Step {
		s.Ask(ana, s.ReadRequest(wire.Ask{Seq: seq, Request: request, Seen: seen, Args: raws(args...)}))
		return s.Tick()
	}
	step := ask(1, "Diver.weigh", 1)
	require.Equal(t, wire.Accepted, step.Decisions[0].Outcome)
	s.Confirm(ana, 1)
	assert.False(t, ask(2, "Diver.light", 1).Decisions[0].Strike, "it was 30 when the caller asked")
	s.Confirm(ana, 3)
	assert.True(t, ask(3, "Diver.light", 3).Decisions[0].Strike)

	assert.Len(t, ask(4, "Diver.put", 4, "4").Reveals, 5, "two reads of the body, and at its end three values")
	assert.Empty(t, ask(5, "Diver.swap", 5).Reveals)
}

// A session whose settings make a value of a shared entity that does not fit is not opened.
func TestSettingsHaveToSuitWhatIsComputed(t *testing.T) {
	c, _ := compile.Load("shelves.kam", computedText)
	_, err := New(c, Options{Settings: map[string]json.RawMessage{"reserve": json.RawMessage("12")}})
	require.EqualError(t, err, "open a session: Store.left cannot become -3, which is no int 0..9")
	s, err := New(c, Options{Settings: map[string]json.RawMessage{"reserve": json.RawMessage("5")}})
	require.NoError(t, err)
	assert.Equal(t, int64(4), s.world.Shared(c.Kinds[2].Index).Nums[0])
}
