package session

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/wire"
)

const keptText = `contract kept language 2
tick 20 per second
shared Wharf {
  bell: int 0..9 = 3 keep
  calm: int 0..9 = 3
  rung: int 0..9 = 0
  on start { rung = bell }
  request ring() from everyone { bell += 1; calm += 1 }
}
entity Diver per player {
  purse: int 0..9 = 1 to owner keep
  look:  int 0..9 = 1 keep
  request earn() from owner { purse += 1 }
}
`

// A client is told with the next tick that what it keeps is settled. Nobody else gets a frame by that, which would tell
// them that something of it has changed.
func TestWhatIsKeptIsToldToBeSettled(t *testing.T) {
	g := open(t, keptText)
	g.join("ana", "")
	g.join("bo", "")
	for range 3 {
		g.tick()
	}
	frames := func() (clients []int) {
		g.tick()
		for _, f := range g.step.Frames {
			clients = append(clients, f.Client)
		}
		return clients
	}
	require.Empty(t, frames())
	g.ask(1, 0, "Diver.earn")
	assert.Equal(t, []KeptChange{{Player: "ana", Property: "Diver.purse", Value: []byte("2")}}, g.step.Kept)
	changed := g.s.Now()
	assert.Empty(t, frames(), "it is not stored yet")
	g.s.ConfirmStored(changed - 1)
	assert.Empty(t, frames(), "what is stored does not have it")
	g.s.ConfirmStored(changed)
	assert.Equal(t, []int{1}, frames())
	assert.Contains(t, g.bytes[1][len(g.bytes[1])-1], `"settled":5`)
	assert.Empty(t, frames(), "it was told")
	g.s.ConfirmStored(g.s.Now())
	assert.Empty(t, frames(), "nothing of what it keeps waits")
}

// Shared kinds begin with what the world of the session has kept, before anything runs; what changes of it is told.
func TestAWorldKeepsSharedKinds(t *testing.T) {
	c, problems := compile.Load("kept.kam", keptText)
	require.NotNil(t, c, problems.Error())
	in := func(w World) *Session {
		s, err := New(c, Options{World: w})
		require.NoError(t, err)
		return s
	}
	value := func(s *Session, name string) int64 {
		e := s.World().Shared(0)
		return s.World().Value(e, e.Kind.Property(name)).Num
	}
	ring := func(s *Session) []KeptChange {
		n, err := s.Join("ana", "")
		require.NoError(t, err)
		s.Tick()
		s.Ask(n, s.ReadRequest(wire.Ask{Seq: 1, Request: "Wharf.ring"}))
		return s.Tick().Kept
	}
	kept := map[string]json.RawMessage{
		"Wharf.bell":  json.RawMessage("7"),
		"Wharf.calm":  json.RawMessage("7"), // which is not kept any more
		"Diver.purse": json.RawMessage("7"),
	}
	s := in(World{Name: "harbour", Kept: Kept{Fence: 4, Values: kept}})
	assert.EqualValues(t, 7, value(s, "bell"))
	assert.EqualValues(t, 7, value(s, "rung"), "the start finds it")
	assert.EqualValues(t, 3, value(s, "calm"))
	changed := KeptChange{Player: "harbour", IsWorld: true, Fence: 4, Property: "Wharf.bell", Value: []byte("8")}
	assert.Equal(t, []KeptChange{changed}, ring(s))
	assert.JSONEq(t, "8", string(s.WorldKept().Values["Wharf.bell"]))
	assert.JSONEq(t, "7", string(kept["Wharf.bell"]), "what was given stays the caller's")

	none := in(World{})
	assert.EqualValues(t, 3, value(none, "bell"))
	assert.Empty(t, ring(none), "without a world nothing is kept")

	// A range that shrank, and what is no value at all.
	wide := in(World{Name: "harbour", Kept: Kept{Values: map[string]json.RawMessage{"Wharf.bell": []byte("70")}}})
	assert.EqualValues(t, 9, value(wide, "bell"))
	misfits := wide.Tick().Misfits
	require.Len(t, misfits, 1)
	assert.Zero(t, misfits[0].Client)
	assert.Equal(t, "Wharf.bell", misfits[0].Property)
}

// What a player kept in another version of the contract is brought into the range that there is now, or left out; both
// are told.
func TestKeptValuesThatDoNotFit(t *testing.T) {
	const text = `contract kept language 2
enum Tint { coral, sand }
entity Diver per player {
  n: int 0..9 = 1 keep
  r: real -1..2 step 0.5 = 1 keep
  w: int 0..9 wrapping = 1 keep
  t: Tint = sand keep
  s: text max 3 = "a" keep
}
`
	for _, x := range []struct{ property, kept, want, told string }{
		{"n", "9", "9", ""},
		{"n", "70", "9", "it is 9 now"},
		{"n", "-70", "0", "it is 0 now"},
		{"n", "1e300", "9", "it is 9 now"},
		{"n", `"9"`, "1", "default"},
		{"r", "7.25", "2", "it is 2 now"},
		{"r", "-3", "-1", "it is -1 now"},
		{"w", "23", "3", "it is 3 now"},
		{"t", `"teal"`, `"sand"`, "default"},
		{"s", `"long"`, `"a"`, "default"},
		{"s", `{`, `"a"`, "default"},
	} {
		c, problems := compile.Load("kept.kam", text)
		require.NotNil(t, c, problems.Error())
		s, err := New(c, Options{})
		require.NoError(t, err)
		n, err := s.Join("ana", "")
		require.NoError(t, err)
		s.LoadKept(n, Kept{Fence: 1, Values: map[string]json.RawMessage{"Diver." + x.property: []byte(x.kept)}})
		step := s.Tick()
		e := s.World().OfClient(0, n)
		p := e.Kind.Property(x.property)
		assert.Equal(t, x.want, string(p.Type.AppendJSON(nil, s.World().Value(e, p))), "%s %s", x.property, x.kept)
		if x.told == "" {
			assert.Empty(t, step.Misfits)
		} else if assert.Len(t, step.Misfits, 1) {
			assert.Contains(t, step.Misfits[0].Detail, x.told)
		}
	}
}
