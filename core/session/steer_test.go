package session

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

const steered = `contract thing language 1
tick 10 per second
strikes 3 in 2s
enum Item { a, b }
entity Thing per player {
  n: int 0..100 = 10
  half: int 0..100 = 5
  pal: ref Thing = nothing
  mine: int 0..9 = 1 to owner
  on change n { half = n / 2 }
  request cheat() limit 9 per second check n > 1000 else strike "no" { n = 0 }
}
entity Egg { n: int 0..9 = 0 at most 2 per second }
shared Nest { on start { spawn Egg; spawn Egg } }
`

// entityOf finds an entity of a kind in what State tells.
func entityOf(t *testing.T, s *Session, kind string, owner int) wire.Spawn {
	for _, x := range s.State().Spawned {
		if x.Kind == kind && x.Owner == owner {
			return x
		}
	}
	require.Fail(t, "there is no "+kind)
	return wire.Spawn{}
}

func valueOf(x wire.Spawn, name string) contract.Value {
	for _, f := range x.Fields {
		if f.Name == name {
			return f.Value
		}
	}
	return contract.Value{Num: -99}
}

// What the server is told to set counts at once, runs what it sets off, and comes to clients with the next tick.
func TestSetCountsAtOnce(t *testing.T) {
	g := open(t, steered)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	thing := entityOf(t, g.s, "Thing", ana)
	other := entityOf(t, g.s, "Thing", bo)
	require.NoError(t, g.s.Set(thing.Entity, "n", contract.Value{Num: 40}))
	require.NoError(t, g.s.Set(thing.Entity, "pal", contract.Value{Num: int64(other.Entity)}))
	now := entityOf(t, g.s, "Thing", ana)
	assert.EqualValues(t, 40, valueOf(now, "n").Num)
	assert.EqualValues(t, 20, valueOf(now, "half").Num)
	assert.EqualValues(t, other.Entity, valueOf(now, "pal").Num)
	g.tick()
	v, ok := g.copies[bo].Entity(thing.Entity).Value("half")
	assert.True(t, ok)
	assert.EqualValues(t, 20, v.Num)
	for what, err := range map[string]error{
		"set n of entity 7: there is no such entity":      g.s.Set(7, "n", contract.Value{}),
		"set Thing.m: the kind has no such property":      g.s.Set(thing.Entity, "m", contract.Value{}),
		"set Thing.n: the value":                          g.s.Set(thing.Entity, "n", contract.Value{Num: 101}),
		"give a Thing: it always belongs to its client":   g.s.Hand(thing.Entity, bo),
		"give entity 7: there is no such entity":          g.s.Hand(7, bo),
		"give a Egg to client 9: there is no such client": g.s.Hand(entityOf(t, g.s, "Egg", 0).Entity, 9),
	} {
		assert.ErrorContains(t, err, what)
	}
	assert.EqualValues(t, 40, valueOf(entityOf(t, g.s, "Thing", ana), "n").Num, "nothing was changed")
}

func TestHandGivesAtOnce(t *testing.T) {
	g := open(t, steered)
	ana := g.join("Ana", "")
	g.tick()
	egg := entityOf(t, g.s, "Egg", 0)
	require.NoError(t, g.s.Hand(egg.Entity, ana))
	assert.Equal(t, egg.Entity, entityOf(t, g.s, "Egg", ana).Entity)
	g.tick()
	assert.Equal(t, ana, g.copies[ana].Entity(egg.Entity).Owner)
	require.NoError(t, g.s.Hand(egg.Entity, 0))
	g.tick()
	assert.Zero(t, g.copies[ana].Entity(egg.Entity).Owner)
}

// What is set is newer than anything that a client can have confirmed: nobody is struck for what the server changed in
// this moment.
func TestNobodyIsStruckForWhatIsSet(t *testing.T) {
	g := open(t, steered)
	ana := g.join("Ana", "")
	g.tick()
	g.s.Confirm(ana, g.s.Now())
	ask := func() *Decision {
		g.seq++
		g.s.Ask(ana, g.s.ReadRequest(wire.Ask{
			Seq:     g.seq,
			Request: "Thing.cheat",
			Args:    []json.RawMessage{},
			Seen:    g.s.Now(),
		}))
		g.tick()
		return &g.step.Decisions[0]
	}
	assert.True(t, ask().Strike)
	assert.Equal(t, 1, g.s.Strikes(ana))
	require.NoError(t, g.s.Set(entityOf(t, g.s, "Thing", ana).Entity, "n", contract.Value{Num: 11}))
	assert.False(t, ask().Strike)
	assert.Equal(t, 1, g.s.Strikes(ana))
	assert.Zero(t, g.s.Strikes(77))
	for range 2 * 10 {
		g.tick()
	}
	assert.Zero(t, g.s.Strikes(ana), "it is long ago")
}

// What a client confirms after it has sent something, and what arrives in the same tick, says nothing of what it knew.
func TestALaterConfirmationDoesNotCount(t *testing.T) {
	g := open(t, steered)
	ana := g.join("Ana", "")
	g.tick()
	seen := g.s.Now()
	require.NoError(t, g.s.Set(entityOf(t, g.s, "Thing", ana).Entity, "n", contract.Value{Num: 12}))
	g.tick()
	g.s.Ask(ana, g.s.ReadRequest(wire.Ask{
		Seq:     1,
		Request: "Thing.cheat",
		Args:    []json.RawMessage{},
		Seen:    seen,
	}))
	g.s.Confirm(ana, g.s.Now())
	g.tick()
	require.Len(t, g.step.Decisions, 1)
	assert.False(t, g.step.Decisions[0].Strike)
	g.s.Ask(ana, g.s.ReadRequest(wire.Ask{
		Seq:     2,
		Request: "Thing.cheat",
		Args:    []json.RawMessage{},
		Seen:    g.s.Now(),
	}))
	g.tick()
	assert.True(t, g.step.Decisions[0].Strike, "now it knows")
}

// A copy that is other than the rules say is told, value by value; what is throttled may be older.
func TestCompareTellsWhatDiffers(t *testing.T) {
	g := open(t, steered)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	held := g.copies[bo]
	assert.Empty(t, g.s.Compare(bo, held))
	assert.Empty(t, g.s.Compare(77, held))
	thing := entityOf(t, g.s, "Thing", ana)
	egg := entityOf(t, g.s, "Egg", 0)
	change := func(f wire.Frame) []Difference {
		var c replicate.Copy
		c.Apply(&wire.Frame{Tick: held.Tick, Blocks: []*wire.Block{held.Snapshot()}})
		c.Apply(&f)
		return g.s.Compare(bo, &c)
	}
	typ := thing.Fields[0].Type
	value := func(entity uint32, kind, name string, n int64) wire.Frame {
		return wire.Frame{
			Tick: held.Tick,
			Blocks: []*wire.Block{
				{
					Values: []wire.Update{
						{
							Entity: entity,
							Kind:   kind,
							Fields: []wire.Field{{Name: name, Type: typ, Value: contract.Value{Num: n}}},
						},
					},
				},
			},
		}
	}
	assert.Equal(
		t, []Difference{{thing.Entity, "Thing", ana, "n", "10", "11"}}, change(value(thing.Entity, "Thing", "n", 11)),
	)
	assert.Equal(
		t, []Difference{{thing.Entity, "Thing", ana, "mine", "", "3"}}, change(value(thing.Entity, "Thing", "mine", 3)),
	)
	assert.Empty(t, change(value(egg.Entity, "Egg", "n", 3)), "it is sent only so often")
	assert.Equal(
		t, []Difference{{thing.Entity, "Thing", ana, "", "there", ""}},
		change(wire.Frame{Blocks: []*wire.Block{{Gone: []uint32{thing.Entity}}}}),
	)
	assert.Equal(
		t, []Difference{{thing.Entity, "Thing", ana, "half", "5", ""}},
		change(
			wire.Frame{
				Blocks: []*wire.Block{{Values: []wire.Update{{Entity: thing.Entity, Withdrawn: []string{"half"}}}}},
			},
		),
	)
	assert.Equal(
		t, []Difference{{77, "Egg", 0, "", "", "there"}},
		change(wire.Frame{Blocks: []*wire.Block{{Spawned: []wire.Spawn{{Entity: 77, Kind: "Egg"}}}}}),
	)
	assert.Equal(
		t, []Difference{{egg.Entity, "Egg", 0, "owner", "0", "1"}},
		change(wire.Frame{Blocks: []*wire.Block{{Owned: []wire.Owned{{Entity: egg.Entity, Owner: 1}}}}}),
	)
}

// With Strict nothing waits for its limit, and with Prove every frame carries a digest.
func TestStrictAndProve(t *testing.T) {
	c, problems := compile.Load("thing.kam", steered)
	require.NotNil(t, c, problems)
	s, err := New(c, Options{Strict: true, Prove: true})
	require.NoError(t, err)
	n, err := s.Join("Ana", "")
	require.NoError(t, err)
	s.Ready(n)
	r := s.Reader(n)
	for i := range 12 {
		s.Ask(n, s.ReadRequest(wire.Ask{Seq: uint64(i + 1), Request: "Thing.cheat", Args: []json.RawMessage{}}))
	}
	step := s.Tick()
	assert.Len(t, step.Decisions, 12, "each is decided at once")
	assert.Equal(t, wire.Dropped, step.Decisions[11].Outcome)
	for range 3 {
		for _, cf := range step.Frames {
			f, err := r.Read(cf.Bytes)
			require.NoError(t, err)
			assert.NotNil(t, f.Digest)
		}
		for _, x := range s.State().Spawned {
			if x.Kind == "Thing" {
				require.NoError(t, s.Set(x.Entity, "n", contract.Value{Num: s.Now()}))
			}
		}
		step = s.Tick()
	}
}
