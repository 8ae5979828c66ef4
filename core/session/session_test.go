package session

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

const contractText = `contract wreck language 1
tick 20 per second
seats 4
roles player, referee
enum Item { flare, patch, relic }
shared Dive {
  open: bool = true
  secret: int 0..9 = 4 to nobody
  request shut() from referee { open = false }
}
shared Keeper to nobody {
  eels: int 0..9 = 3
  request feed() from everyone { eels += 1 }
}
entity Locker per player to owner {
  code: int 0..9999 = 1234
  event opened()
}
entity Diver per player {
  hull: int 0..100 = 60 clamped
  satchel: stacks<Item> max 2 each 3 to owner
  finds: int 0..3 = 0 to nobody
  name: text max 8
  event used(item: Item)
  request use(item: Item)
    limit 2 per second
    check Dive.open else deny "the wreck is shut"
    check satchel.has(item) else deny "not carried"
  {
    satchel.take(item)
    hull += 25
    if item == relic { deny "cannot be used" }
    tell everyone used(item)
  }
  request find() { finds += 1; satchel.put(patch) }
  request spoil(by: int -9..9) { hull = 7; tell everyone used(flare); finds = 3 / by }
  request knock() from everyone { hull -= 1; tell everyone but caller used(flare); tell caller.Locker.owner caller.Locker.opened() }
  request call(name_: text max 20) { name = name_ }
}
event welcome(words: text max 40)
on join(c) {
  if c.role == player { c.Diver.satchel.put(patch, 4) }
  tell c welcome("mind the eels")
}
`

// game runs a session with clients that hold copies made from the encoded frames alone.
type game struct {
	t        require.TestingT
	s        *Session
	outline  *contract.Outline
	copies   map[int]*replicate.Copy
	readers  map[int]*wire.Reader
	bytes    map[int][]string // every frame, in its JSON form
	heard    map[int][]string
	decided  map[int]wire.Decision
	seq      uint64
	step     *Step
	notices  map[int][]replicate.Notice // of the last tick
	confirms bool                       // its clients say what they have applied
}

func open(t require.TestingT, text string) *game {
	c, problems := compile.Load("wreck.kam", text)
	require.NotNil(t, c, problems.Error())
	s, err := New(c, Options{Key: [32]byte{1}, Trace: true})
	require.NoError(t, err)
	g := &game{t: t, s: s, outline: c.Outline()}
	g.reset()
	return g
}

func (g *game) reset() {
	g.readers = map[int]*wire.Reader{}
	g.copies = map[int]*replicate.Copy{}
	g.bytes = map[int][]string{}
	g.heard = map[int][]string{}
	g.decided = map[int]wire.Decision{}
}

func (g *game) join(name, role string) int {
	n, err := g.s.Join(name, role)
	require.NoError(g.t, err)
	g.copies[n], g.readers[n] = &replicate.Copy{}, g.s.Reader(n)
	g.s.Ready(n)
	return n
}

func (g *game) tick() {
	g.step = g.s.Tick()
	g.notices = map[int][]replicate.Notice{}
	for _, cf := range g.step.Frames {
		frame, err := g.readers[cf.Client].Read(cf.Bytes)
		require.NoError(g.t, err)
		raw := frame.AppendJSON(nil)
		g.bytes[cf.Client] = append(g.bytes[cf.Client], string(raw))
		f, _, err := wire.ParseFrame(raw, g.outline)
		require.NoError(g.t, err)
		g.notices[cf.Client] = g.copies[cf.Client].Apply(f)
		for _, n := range g.notices[cf.Client] {
			require.False(g.t, n.Type == replicate.EventReceived && n.Event.Entity != 0 &&
				n.Entity == nil, "client %d hears %s without its entity", cf.Client, f.Events)
		}
		if f.Digest != nil {
			require.Equal(
				g.t, g.copies[cf.Client].Digest(g.outline), *f.Digest, "the digest of client %d at tick %d", cf.Client,
				f.Tick,
			)
		}
		if g.confirms {
			g.s.Confirm(cf.Client, f.Tick)
		}
		for _, e := range f.Events {
			g.heard[cf.Client] = append(g.heard[cf.Client], e.Event)
		}
		for _, d := range f.Decisions {
			g.decided[cf.Client] = d
		}
	}
	for _, held := range g.copies {
		held.Advance(g.step.Tick) // no frame says that nothing but what moves has changed
	}
}

// ask sends one request, runs a tick and returns the decision that came back.
func (g *game) ask(client int, entity uint32, request string, args ...string) wire.Decision {
	g.seq++
	a := wire.Ask{
		Seq:     g.seq,
		Entity:  entity,
		Request: request,
		Args:    []json.RawMessage{},
	}
	for _, x := range args {
		a.Args = append(a.Args, json.RawMessage(x))
	}
	g.s.Ask(client, g.s.ReadRequest(a))
	g.tick()
	require.Equal(g.t, g.seq, g.decided[client].Seq)
	return g.decided[client]
}

func (g *game) sees(client, owner int, kind, property string) string {
	t := g.copies[client].OwnedBy(kind, owner)
	if t == nil {
		return "no entity"
	}
	v, ok := t.Value(property)
	if !ok {
		return "not for this client"
	}
	for _, f := range t.Fields {
		if f.Name == property {
			return f.Type.Format(v)
		}
	}
	return ""
}

// truth describes everything that the server holds.
func (g *game) truth() string { return string(g.s.ServerState().JSON()) }

func TestRequestsMeetTheirStagesInOrder(t *testing.T) {
	g := open(t, contractText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "player")
	ref := g.join("Cleo", "referee")
	g.tick()
	anas := g.copies[ana].OwnedBy("Diver", ana).Number
	locker := g.copies[ana].OwnedBy("Locker", ana).Number
	assert.Nil(t, g.copies[bo].OwnedBy("Locker", ana), "a kind to its owner is for nobody else")

	cases := []struct {
		who     int
		entity  uint32
		request string
		args    []string
		outcome wire.Outcome
		stage   wire.Stage
		reason  string
	}{
		{ana, 0, "Diver.use", []string{`"patch"`}, wire.Accepted, "", ""},
		{ana, anas, "Diver.use", []string{`"flare"`}, wire.Denied, wire.StageCheck, "not carried"},
		{ana, anas, "Diver.use", []string{`"patch"`}, wire.Dropped, wire.StageLimit, "more than 2 in 1 s"},
		{bo, anas, "Diver.use", []string{`"patch"`}, wire.Denied, wire.StageFrom, "not the owner"},
		{
			bo, anas, "Diver.use",
			[]string{`"pearl"`},
			wire.Malformed, wire.StageTypes,
			"the argument `item` is \"pearl\", not one of flare, patch, relic",
		},
		{bo, 77, "Diver.use", []string{`"patch"`}, wire.Denied, wire.StageTarget, "no such entity"},
		{bo, locker, "Diver.find", nil, wire.Denied, wire.StageTarget, "no such entity"},
		{ref, 0, "Diver.find", nil, wire.Denied, wire.StageTarget, "no such entity"},
		{ana, 0, "Diver.use", nil, wire.Malformed, wire.StageTypes, "Diver.use has 1 arguments, not 0"},
		{ana, 0, "Diver.uze", nil, wire.Malformed, wire.StageTypes, "the contract has no request \"Diver.uze\""},
		{ana, 0, "Keeper.feed", nil, wire.Malformed, wire.StageTypes, "the contract has no request \"Keeper.feed\""},
		{ana, 0, "Dive.shut", nil, wire.Denied, wire.StageFrom, "not allowed"},
		{
			ana, 0, "Diver.spoil",
			[]string{"10"},
			wire.Malformed, wire.StageTypes,
			"the argument `by` is 10, not a whole number from -9 to 9",
		},
		{
			ana, 0, "Diver.spoil",
			[]string{"1.5"},
			wire.Malformed, wire.StageTypes,
			"the argument `by` is 1.5, not a whole number from -9 to 9",
		},
		{
			ana, 0, "Diver.spoil",
			[]string{"0"},
			wire.Faulted, wire.StageBody,
			"the request failed inside and changed nothing",
		},
		{
			ana, 0, "Diver.call",
			[]string{`"much too long"`},
			wire.Faulted, wire.StageBody,
			"the request failed inside and changed nothing",
		},
		{ref, anas, "Diver.knock", nil, wire.Faulted, wire.StageBody, "the request failed inside and changed nothing"},
		{ref, 0, "Dive.shut", nil, wire.Accepted, "", ""},
		{bo, 0, "Diver.use", []string{`"patch"`}, wire.Denied, wire.StageCheck, "the wreck is shut"},
	}
	for _, c := range cases {
		before := g.truth()
		heard := len(g.heard[ana]) + len(g.heard[bo])
		d := g.ask(c.who, c.entity, c.request, c.args...)
		assert.Equal(
			t, []any{c.outcome, c.stage, c.reason}, []any{d.Outcome, d.Stage, d.Reason}, "%s %v", c.request, c.args,
		)
		if c.outcome != wire.Accepted {
			assert.Equal(t, before, g.truth(), "%s %s changed something", c.outcome, c.request)
			assert.Len(t, append(g.heard[ana], g.heard[bo]...), heard)
		}
	}
	// A fault is told in full only to those who run the session.
	g.ask(ana, 0, "Diver.spoil", "0")
	assert.Equal(t, "division by zero", g.step.Decisions[0].Reason)
	assert.NotZero(t, g.step.Decisions[0].Line)
}

func TestEachClientGetsItsOwnShareAndNoMore(t *testing.T) {
	g := open(t, contractText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	g.ask(ana, 0, "Diver.use", `"patch"`)
	assert.Equal(t, "85", g.sees(bo, ana, "Diver", "hull"))
	assert.Equal(t, "3 patch", g.sees(ana, ana, "Diver", "satchel"))
	assert.Equal(t, "not for this client", g.sees(bo, ana, "Diver", "satchel"))
	assert.Equal(t, "not for this client", g.sees(ana, ana, "Diver", "finds"))
	assert.Equal(t, []string{"welcome", "Diver.used"}, g.heard[bo])

	cleo := g.join("Cleo", "") // in the middle of it
	g.tick()
	assert.Equal(t, "85", g.sees(cleo, ana, "Diver", "hull"))
	assert.Equal(t, "3 patch, 1 patch", g.sees(cleo, cleo, "Diver", "satchel"))
	assert.Equal(t, []string{"welcome"}, g.heard[cleo])
	d := g.ask(bo, g.copies[bo].OwnedBy("Diver", ana).Number, "Diver.knock")
	require.Equal(t, wire.Accepted, d.Outcome)
	assert.Contains(t, g.heard[ana], "Diver.used")
	assert.NotContains(t, g.heard[bo][2:], "Diver.used", "everyone but caller")
	assert.Equal(t, "Locker.opened", g.heard[bo][2])

	g.s.Leave(ana)
	g.tick()
	assert.Equal(t, "no entity", g.sees(bo, ana, "Diver", "hull"))
	assert.Len(t, g.copies[bo].Clients, 2)
	for _, frame := range append(g.bytes[bo], g.bytes[cleo]...) {
		assert.NotContains(t, frame, `"finds"`)
		assert.NotContains(t, frame, `"secret"`)
		assert.NotContains(t, frame, "Keeper")
	}
}

func TestEventsWaitUntilTheClientIsReady(t *testing.T) {
	g := open(t, contractText)
	g.confirms = true
	ana := g.join("Ana", "")
	bo, err := g.s.Join("Bo", "")
	require.NoError(t, err)
	g.copies[bo], g.readers[bo] = &replicate.Copy{}, g.s.Reader(bo)
	g.tick()
	g.ask(ana, 0, "Diver.use", `"patch"`)
	assert.Empty(t, g.heard[bo])
	assert.Equal(t, "85", g.sees(bo, ana, "Diver", "hull"), "state does not wait")
	g.s.Ready(bo)
	g.tick()
	assert.Equal(t, []string{"welcome", "Diver.used"}, g.heard[bo])

	deaf, err := g.s.Join("Dov", "")
	require.NoError(t, err)
	g.copies[deaf], g.readers[deaf] = &replicate.Copy{}, g.s.Reader(deaf)
	for len(g.step.Cuts) == 0 && g.s.Now() < 3*MaxUnconfirmed {
		g.seq++
		g.s.Ask(
			ana,
			g.s.ReadRequest(
				wire.Ask{Seq: g.seq, Entity: g.copies[ana].OwnedBy("Diver", bo).Number, Request: "Diver.knock"},
			),
		)
		g.tick()
	}
	require.Len(t, g.step.Cuts, 1, "a client that never gets ready does not make the server hold events without end")
	assert.Equal(t, deaf, g.step.Cuts[0].Client)
}

func TestARepeatGetsItsFirstDecisionAndNothingElse(t *testing.T) {
	g := open(t, contractText)
	ana := g.join("Ana", "")
	g.tick()
	use := wire.Ask{Seq: 5, Request: "Diver.use", Args: []json.RawMessage{[]byte(`"patch"`)}}
	for range 3 {
		g.s.Ask(ana, g.s.ReadRequest(use))
	}
	g.tick()
	assert.Len(t, g.step.Decisions, 1)
	assert.Equal(t, "3 patch", g.sees(ana, ana, "Diver", "satchel"))
	require.Len(t, g.step.Frames, 1)
	assert.Equal(t, 3, strings.Count(g.bytes[1][len(g.bytes[1])-1], `"seq"`))
	g.s.Ask(ana, g.s.ReadRequest(wire.Ask{Seq: 2, Request: "Diver.find"}))
	g.tick()
	assert.Equal(t, wire.Dropped, g.decided[ana].Outcome)
}

func TestAFloodHarmsNobody(t *testing.T) {
	g := open(t, contractText)
	g.confirms = true
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	for i := range 100_000 {
		g.s.Ask(ana, g.s.ReadRequest(wire.Ask{Seq: uint64(i + 1), Request: "Diver.find"}))
	}
	assert.Less(t, g.s.Queued(), 200)
	g.s.Ask(bo, g.s.ReadRequest(wire.Ask{Seq: 1, Request: "Diver.use", Args: []json.RawMessage{[]byte(`"patch"`)}}))
	g.tick()
	assert.Equal(t, wire.Accepted, g.decided[bo].Outcome)
	assert.Equal(t, wire.Dropped, g.decided[ana].Outcome)
	// 100 a second where 2 are allowed, for a minute.
	taken := 0
	for i := range 1200 {
		for j := range 5 {
			g.s.Ask(
				bo,
				g.s.ReadRequest(
					wire.Ask{
						Seq:     uint64(10 + i*5 + j),
						Request: "Diver.use",
						Args:    []json.RawMessage{[]byte(`"relic"`)},
					},
				),
			)
		}
		g.tick()
		for _, d := range g.step.Decisions {
			if d.Stage != wire.StageLimit {
				taken++
			}
		}
	}
	assert.InDelta(t, 120, taken, 2)
}

func TestSeatsAndNamesAreRefusedWithAReason(t *testing.T) {
	g := open(t, contractText)
	g.join("Ana", "")
	for _, c := range []struct{ name, role, want string }{
		{"Ana", "", "in use"},
		{"Bo", "captain", "no such role"},
		{"", "", "1 to 24 characters"},
		{strings.Repeat("x", 25), "", "1 to 24 characters"},
		{"a\x1b[2J", "", "cannot be printed"},
	} {
		_, err := g.s.Join(c.name, c.role)
		assert.ErrorContains(t, err, c.want)
	}
	for i := range 3 {
		g.join(fmt.Sprint("D", i), "")
	}
	_, err := g.s.Join("one more", "")
	assert.ErrorContains(t, err, "all 4 seats")
}

// Whatever clients do, each copy is at every tick what that client may see of the truth.
func TestCopiesConverge(t *testing.T) {
	requests := map[string][]string{
		"Diver.use": {`"flare"`, `"patch"`, `"relic"`, `3`}, "Diver.find": {""}, "Diver.spoil": {"0", "1", "3"},
		"Diver.knock": {""}, "Diver.call": {`"Ana"`, `"a long name"`}, "Dive.shut": {""}, "Keeper.feed": {""},
	}
	rapid.Check(t, func(rt *rapid.T) {
		g := open(rt, contractText)
		for i := range rapid.IntRange(5, 40).Draw(rt, "ticks") {
			for range rapid.IntRange(0, 4).Draw(rt, "inputs") {
				clients := g.s.Clients()
				pick := rapid.IntRange(0, 9).Draw(rt, "what")
				switch {
				case len(clients) == 0 || pick == 0 && len(clients) < 4:
					g.join(
						fmt.Sprint("c", g.s.lastClient),
						rapid.SampledFrom([]string{"player", "referee"}).Draw(rt, "role"),
					)
				case pick == 1:
					g.s.Leave(clients[0].Number)
				default:
					who := rapid.SampledFrom(clients).Draw(rt, "who").Number
					name := rapid.SampledFrom(
						[]string{
							"Diver.use", "Diver.find", "Diver.spoil", "Diver.knock", "Diver.call", "Dive.shut",
							"Keeper.feed",
						},
					).Draw(
						rt, "request",
					)
					entity := uint32(0)
					if things := g.copies[who].Entities(); len(things) > 0 && pick > 6 {
						entity = rapid.SampledFrom(things).Draw(rt, "entity").Number
					}
					g.seq++
					a := wire.Ask{Seq: g.seq, Entity: entity, Request: name}
					if arg := rapid.SampledFrom(requests[name]).Draw(rt, "argument"); arg != "" {
						a.Args = append(a.Args, json.RawMessage(arg))
					}
					g.s.Ask(who, g.s.ReadRequest(a))
				}
			}
			g.tick()
			for _, c := range g.s.Clients() {
				want := &replicate.Copy{}
				want.Apply(&wire.Frame{Blocks: []*wire.Block{g.s.ServerState()}})
				compare(rt, g, want, c, i)
			}
		}
	})
}

// compare holds a client's copy against the truth and the audiences of the contract.
func compare(t require.TestingT, g *game, truth *replicate.Copy, c wire.Client, tick int) {
	may := 0
	for _, thing := range truth.Entities() {
		kind := g.s.Contract().Kinds
		for _, k := range kind {
			if k.Name != thing.Kind ||
				!(k.To == contract.Everyone || k.To == contract.Owner && thing.Owner == c.Number) {
				continue
			}
			may++
			held := g.copies[c.Number].Entity(thing.Number)
			require.NotNil(t, held, "tick %d: %s lacks %s", tick, c.Name, thing.Kind)
			count := 0
			for _, p := range k.Properties {
				value, has := held.Value(p.Name)
				want := p.To == contract.Everyone || p.To == contract.Owner && thing.Owner == c.Number
				require.Equal(t, want, has, "tick %d: %s, %s.%s", tick, c.Name, k.Name, p.Name)
				if has {
					count++
					real, _ := thing.Value(p.Name)
					require.True(t, real.Equal(value), "tick %d: %s, %s.%s", tick, c.Name, k.Name, p.Name)
				}
			}
			require.Len(t, held.Fields, count)
		}
	}
	require.Len(t, g.copies[c.Number].Entities(), may, "tick %d: %s holds what it may not", tick, c.Name)
}

// The same inputs with other hidden values give a client the same frames, byte for byte.
func TestHiddenValuesLeaveNoTrace(t *testing.T) {
	run := func(text string) (ana, bo []string) {
		g := open(t, text)
		a := g.join("Ana", "")
		b := g.join("Bo", "")
		g.tick()
		for _, item := range []string{`"patch"`, `"relic"`} {
			g.ask(a, 0, "Diver.use", item)
			g.ask(a, 0, "Diver.find")
			g.ask(b, 0, "Diver.use", item)
		}
		return g.bytes[a], g.bytes[b]
	}
	ana, bo := run(contractText)
	other := strings.Replace(contractText, "c.Diver.satchel.put(patch, 4) }",
		`c.Diver.satchel.put(patch, 4); if c.name == "Ana" { c.Diver.satchel.put(patch, 1); c.Locker.code = 7; Dive.secret = 9 } }`, 1)
	ana2, bo2 := run(other)
	assert.NotEqual(t, ana, ana2)
	assert.Equal(t, bo, bo2)
	_, open := run(strings.Replace(other, "each 3 to owner", "each 3 to everyone", 1))
	assert.NotEqual(t, bo, open, "this test sees a leak where there is one")
}

// Many who come at once are sent their snapshots over some ticks, and miss nothing of what is told meanwhile.
func TestACrowdComesOverSomeTicks(t *testing.T) {
	g := open(t, strings.Replace(contractText, "seats 4", "seats 200", 1))
	first := g.join("First", "")
	g.tick()
	for i := range 150 {
		g.join(fmt.Sprint("c", i), "")
	}
	for want := 65; ; want += 64 { // First and 64 more each tick
		g.ask(first, 0, "Diver.use", `"patch"`)
		seated := 0
		for _, c := range g.copies {
			if len(c.Clients) > 0 {
				seated++
			}
		}
		require.Equal(t, min(want, 151), seated)
		if seated == 151 {
			break
		}
	}
	for n := range g.copies {
		require.Len(t, g.copies[n].Clients, 151)
		require.Equal(t, "welcome", g.heard[n][0])
		require.Equal(
			t, slices.DeleteFunc(slices.Clone(g.heard[first]), func(e string) bool { return e != "Diver.used" }),
			slices.DeleteFunc(slices.Clone(g.heard[n]), func(e string) bool { return e != "Diver.used" }), "client %d",
			n,
		)
	}
}
