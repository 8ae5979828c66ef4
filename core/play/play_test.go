package play

import (
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// seat is a client that holds what it got of one tick.
type seat struct {
	outline *contract.Outline
	me      wire.Client
	copy    replicate.Copy
}

func (s *seat) Outline() *contract.Outline     { return s.outline }
func (s *seat) Me() wire.Client                { return s.me }
func (s *seat) Look(f func(c *replicate.Copy)) { f(&s.copy) }

func tidewreck(t *testing.T) *contract.Contract {
	raw, err := os.ReadFile("../../demo/tidewreck.kam")
	require.NoError(t, err)
	wreck, err := os.ReadFile("../../demo/wreck.json")
	require.NoError(t, err)
	c, problems := compile.LoadWith("tidewreck.kam", string(raw), contract.Files{"wreck.json": string(wreck)}.Open)
	require.NotNil(t, c, problems)
	return c
}

// at seats a client of each role in a session and returns what they hold.
func at(t *testing.T, c *contract.Contract) (s *session.Session, seats map[string]*seat) {
	s, err := session.New(c, session.Options{Key: [32]byte{1}})
	require.NoError(t, err)
	seats = map[string]*seat{}
	for _, role := range c.Roles {
		n, err := s.Join("The "+role, role)
		require.NoError(t, err)
		seats[role] = &seat{outline: c.Outline(), me: wire.Client{Number: n, Role: role}}
		seats[role].copy.Me = n
	}
	for _, cf := range s.Tick().Frames {
		for _, p := range seats {
			if p.me.Number == cf.Client {
				f, err := wire.NewReader(wire.NewLayout(c.Outline())).Read(cf.Bytes)
				require.NoError(t, err)
				p.copy.Apply(f)
			}
		}
	}
	return s, seats
}

// What an actor picks its client may send: it is of its role, on what it knows, with values of the declared types.
func TestAnActorPicksWhatItMaySend(t *testing.T) {
	c := tidewreck(t)
	s, seats := at(t, c)
	for role, p := range seats {
		a := NewActor(p, rand.New(rand.NewPCG(1, 2)))
		picked := map[string]int{}
		for i := range 400 {
			entity, request, args := a.Pick()
			if request == "" {
				continue
			}
			picked[request]++
			kind, name, _ := strings.Cut(request, ".")
			q := p.outline.Kind(kind).Request(name)
			require.Len(t, args, len(q.Params))
			for j, param := range q.Params {
				_, err := param.Type.ParseJSON(args[j])
				require.NoError(t, err, "%s %s", request, args[j])
			}
			assert.NotNil(t, p.copy.Entity(entity))
			assert.True(t, q.From == "owner" || strings.Contains(q.From, role) ||
				strings.Contains(q.From, "everyone"), "%s as %s", request, role)
			s.Ask(p.me.Number, s.ReadRequest(wire.Ask{
				Seq:     uint64(i + 1),
				Entity:  entity,
				Request: request,
				Args:    args,
			}))
			for _, d := range s.Tick().Decisions {
				assert.NotEqual(t, wire.Malformed, d.Outcome, "%s: %s", request, d.Reason)
				if request != "Dive.dive_in" { // it takes the role away for which that may be asked
					assert.NotEqual(t, "not allowed", d.Reason, request)
				}
			}
		}
		switch role {
		case "player":
			assert.Greater(t, len(picked), 5)
			assert.Contains(t, picked, "Diver.use")
		case "referee":
			assert.Contains(t, picked, "Dive.begin")
			assert.NotContains(t, picked, "Diver.use")
		case "spectator":
			assert.Equal(t, []string{"Dive.dive_in"}, keys(picked))
		}
	}
}

// Before the first frame there is nobody and nothing to name.
func TestAnActorOfAnEmptyCopyNamesNobody(t *testing.T) {
	a := NewActor(&seat{outline: tidewreck(t).Outline()}, rand.New(rand.NewPCG(1, 2)))
	for _, form := range []contract.Form{contract.FormClient, contract.FormEntity} {
		assert.Zero(t, a.Value(&replicate.Copy{}, &contract.Type{Form: form}).Num)
	}
}

func keys(m map[string]int) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	return out
}

// Values stay in their types' ranges, and refer to what is there.
func TestValuesAreOfTheirTypes(t *testing.T) {
	c, problems := compile.Load("types.kam", `contract types language 1
enum Item { a, b }
type Pair { x: int 0..9, y: bool }
entity Thing per player {
  n: int -5..5
  r: real 0..2 step 0.5
  d: direction step 0.01
  v: vec3 -4..4 step 0.1
  q: rotation step 0.01
  t: text max 5
  digits: text max 5 of "0-9"
  e: Item
  p: Pair
  o: ref Thing
  c: client
  k: kind of [Egg]
  l: list<int 0..3> max 4
  s: stacks<Item> max 2 each 3
}
entity Egg { n: int 0..9 = 0 }
`)
	require.NotNil(t, c, problems)
	_, seats := at(t, c)
	p := seats["player"]
	a := NewActor(p, rand.New(rand.NewPCG(3, 4)))
	for range 200 {
		for _, property := range p.outline.Kind("Thing").Properties {
			v := a.Value(&p.copy, property.Type)
			again, err := property.Type.ParseJSON(property.Type.AppendJSON(nil, v))
			require.NoError(t, err, "%s %v", property.Name, v)
			if property.Type.Form != contract.FormRotation {
				assert.True(t, again.Equal(v), property.Name)
			}
			if property.Name == "o" && v.Num != 0 {
				assert.NotNil(t, p.copy.Entity(uint32(v.Num)))
			}
		}
	}
}

// What a client sets itself moves a little, within its range.
func TestAStepIsSmall(t *testing.T) {
	c := tidewreck(t)
	_, seats := at(t, c)
	a := NewActor(seats["player"], rand.New(rand.NewPCG(5, 6)))
	property, value := a.Step()
	assert.Equal(t, "Diver.pos", property)
	me := seats["player"].copy.OwnedBy("Diver", seats["player"].me.Number)
	f, ok := me.Field("pos")
	require.True(t, ok)
	v, err := f.Type.ParseJSON(value)
	require.NoError(t, err)
	for i := range v.Parts {
		assert.InDelta(t, f.Value.Parts[i].Num, v.Parts[i].Num, 10)
	}
	property, _ = NewActor(seats["spectator"], rand.New(rand.NewPCG(5, 6))).Step()
	assert.Empty(t, property, "a spectator sets nothing")
}

// What is carried is not stepped: its client's writes would be denied.
func TestAStepLeavesWhatIsCarried(t *testing.T) {
	for _, boards := range []string{"", "; on spawn { sled = first(s in Sled) }"} {
		c, problems := compile.Load("sleds.kam", `contract sleds language 1
type Place = vec2 -9..9 step 0.1
entity Sled { pos: Place = vec(0, 0) }
entity Diver per player {
  sled: ref Sled = nothing
  pos: Place = vec(0, 0) set by owner pace distance(old, new) 8 per second follows sled.pos`+boards+`
}
shared Reef { on start { spawn Sled } }
`)
		require.NotNil(t, c, problems.Error())
		_, seats := at(t, c)
		property, _ := NewActor(seats["player"], rand.New(rand.NewPCG(5, 6))).Step()
		assert.Equal(t, boards == "", property == "Diver.pos", "%q", boards)
	}
}
