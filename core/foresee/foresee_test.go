package foresee

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/wild"
)

// random returns some argument of a type, often one that means something.
func random(r *rand.Rand, t *contract.Type, held *replicate.Copy) contract.Value {
	switch t.Form {
	case contract.FormInt, contract.FormReal, contract.FormDirection:
		return contract.Value{Num: t.Low + r.Int64N(t.High-t.Low+1)}
	case contract.FormEnum:
		return contract.Value{Num: r.Int64N(int64(len(t.Enum.Values)))}
	case contract.FormVec2:
		if all := held.Entities(); r.IntN(3) > 0 {
			for range 10 {
				if v, has := all[r.IntN(len(all))].Value("pos"); has {
					return v
				}
			}
		}
		return contract.Value{Parts: []contract.Value{{Num: r.Int64N(8000) - 4000}, {Num: r.Int64N(3000) - 3000}}}
	case contract.FormEntity:
		if all := held.Entities(); r.IntN(4) > 0 {
			for range 20 {
				if x := all[r.IntN(len(all))]; x.Kind == t.Names[0] {
					return contract.Value{Num: int64(x.Number)}
				}
			}
		}
	}
	return contract.Value{}
}

// play asks at random, one request a tick, and holds what the clients could know against what the server decides.
func play(
	t *testing.T, c *contract.Contract, seed uint64, ticks int, settings map[string]json.RawMessage,
	count map[string]int,
) {
	s, err := session.New(c, session.Options{Key: [32]byte{byte(seed)}, Settings: settings})
	require.NoError(t, err)
	o := c.Outline()
	f, err := New(o)
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(seed, 3))
	copies := map[int]*replicate.Copy{}
	readers := map[int]*wire.Reader{}
	for i, role := range []string{c.Roles[0], c.Roles[0], c.Roles[len(c.Roles)-1]} {
		n, err := s.Join(fmt.Sprint("c", i), role)
		require.NoError(t, err)
		copies[n], readers[n] = &replicate.Copy{Me: n}, s.Reader(n)
	}
	tick := func() *session.Step {
		step := s.Tick()
		for _, cf := range step.Frames {
			frame, err := readers[cf.Client].Read(cf.Bytes)
			require.NoError(t, err)
			copies[cf.Client].Apply(frame)
		}
		for _, held := range copies {
			held.Advance(step.Tick)
		}
		return step
	}
	tick()
	for seq := range uint64(ticks) {
		who := 1 + r.IntN(3)
		k := &o.Kinds[r.IntN(len(o.Kinds))]
		if len(k.Requests) == 0 || copies[who] == nil {
			tick()
			continue
		}
		q := &k.Requests[r.IntN(len(k.Requests))]
		ask := wire.Ask{Seq: seq + 1, Request: k.Name + "." + q.Name, Args: []json.RawMessage{}}
		var values []contract.Value
		for _, p := range q.Params {
			v := random(r, p.Type, copies[who])
			values = append(values, v)
			ask.Args = append(ask.Args, p.Type.AppendJSON(nil, v))
		}
		if !k.Shared && (k.Per == "" || r.IntN(3) == 0) {
			for _, x := range copies[who].Entities() {
				if x.Kind == k.Name && (ask.Entity == 0 || r.IntN(2) == 0) {
					ask.Entity = x.Number
				}
			}
		}
		foreseen := f.Denies(copies[who], who, o, ask.Request, ask.Entity, values)
		s.Ask(who, s.ReadRequest(ask))
		for _, d := range tick().Decisions {
			if d.Client.Number != who {
				continue
			}
			switch {
			case foreseen < 0 && d.Stage == wire.StageCheck && q.Known[d.Check] != "" && d.Outcome == wire.Denied:
				count["not foreseen"]++ // what it would read is not in the copy
			case foreseen >= 0:
				count["foreseen"]++
				require.Contains(
					t, []wire.Outcome{wire.Denied, wire.Dropped}, d.Outcome, "%s was foreseen to fail at %q",
					ask.Request, q.Known[foreseen],
				)
				require.True(t, d.Stage != wire.StageCheck ||
					d.Check <= foreseen, "%s fails at an earlier check at the latest", ask.Request)
			default:
				count[string(d.Outcome)]++
			}
		}
	}
}

// What a client foresees is what the server decides: it never keeps back what would be accepted.
func TestWhatIsForeseenIsDecided(t *testing.T) {
	raw, err := os.ReadFile("../../demo/tidewreck.kam")
	require.NoError(t, err)
	wreck, err := os.ReadFile("../../demo/wreck.json")
	require.NoError(t, err)
	c, problems := compile.LoadWith("tidewreck.kam", string(raw), contract.Files{"wreck.json": string(wreck)}.Open)
	require.NotNil(t, c, problems)
	count := map[string]int{}
	for seed := range uint64(12) {
		play(t, c, seed, 300, map[string]json.RawMessage{"divers": json.RawMessage("1")}, count)
	}
	t.Logf("in Tidewreck: %v", count)
	assert.Greater(t, count["foreseen"], 500)
	assert.Less(
		t, count["not foreseen"], count["foreseen"]/10,
		"what names nothing fails by itself: that is left to the server",
	)
	count = map[string]int{}
	for seed := range uint64(150) {
		if c, _ := compile.Load("wild.kam", wild.Contract(rand.New(rand.NewPCG(seed, 1)))); c != nil {
			play(t, c, seed, 40, nil, count)
		}
	}
	t.Logf("in random contracts: %v", count)
	assert.Greater(t, count["foreseen"], 100)
}

// Checks that name public constants are foreseen as well; those that name others are left to the server.
func TestPublicConstantsAreForeseen(t *testing.T) {
	c, problems := compile.Load("reef.kam", `contract reef language 2
enum Item { flare, patch }
public const reach: real 0..9 step 0.5 = 2.5
public const home: vec2 -9..9 step 0.5 = vec(-1.5, 2)
public const kept: Item = patch
public const least: int -5..5 = -2
public const open: bool = true
public const words: text max 9 = "hm \"x\""
const hidden = 3
entity Diver per player {
  pos: vec2 -9..9 step 0.5 = vec(0, 0)
  n: int -9..9 = 0
  request go(x: int -9..9) check distance(pos, home) <= reach or x == 0 else deny "far" { pos = vec(x, 2) }
  request use(item: Item) check item == kept and open else deny "other" { n = 1 }
  request count(by: int -9..9) check by >= least else deny "low" check by < hidden else deny "high" { n = by }
  request say(what: text max 9) check what == words else deny "other" { n = 2 }
}
`)
	require.NotNil(t, c, problems.Error())
	o := c.Outline()
	require.NotNil(t, o.Kind("Diver"))
	var known []string
	for _, q := range o.Kind("Diver").Requests {
		known = append(known, q.Known...)
	}
	assert.Equal(t, []string{"distance(pos, home) <= reach or x == 0", "item == kept and open", "by >= least", "", ""}, known)
	count := map[string]int{}
	for seed := range uint64(10) {
		play(t, c, seed, 200, nil, count)
	}
	t.Log(count)
	assert.Greater(t, count["foreseen"], 300)
	assert.Less(t, count["not foreseen"], 20)
}
