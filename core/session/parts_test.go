package session

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

const partsText = `contract wreck language 1
roles player, referee
enum Item { flare, patch, relic }
const mends = 25
shared Tide {
  height: int 0..9 = 0
  clock: int 0..1000000000
  event turned()
  every 500ms while height < 3 { height += 1 }
  every 100ms { clock += 1 }
  after 2s { height = 9; tell everyone turned() }
}
entity Diver per player {
  hull: int 0..100 = 100 clamped
  deaths: int 0..9 = 0
  air: int 0..100 = 10
  kick: bool
  low: int 0..100 = 100
  event surfaced(n: int 0..9)
  on spawn { air = 3; low = 100 }
  on change hull {
    if hull < low { low = hull }
    if hull == 0 { do surface(100) }
  }
  action surface(full: int 0..100) { hull = full; do count(1) }
  action count(n: int 0..9) { deaths += n; tell everyone surfaced(deaths) }
  every 100ms while kick { air -= 1 }
  request hurt(by: int 0..200) { hull -= by }
  request set_kick(yes: bool) { kick = yes }
  request use(item: Item) -> int 0..100
    pause 200ms else deny "still loading"
    check hull > 10 else drop
  {
    match item {
      flare { reply 1 }
      patch, relic { hull += mends; reply hull }
    }
  }
}
shared Ring {
  a: int 0..99
  b: int 0..99
  rounds: int 0..99
  on change a { rounds += 1; if a < 50 { b = a + 1 } }
  on change b { rounds += 1; if b < 50 { a = b + 1 } }
  request spin(from_: int 0..99) from everyone { a = from_ }
}
`

func (g *game) run(ticks int) {
	for range ticks {
		g.tick()
	}
}

func TestTimersCountTicks(t *testing.T) {
	g := open(t, partsText)
	ana := g.join("Ana", "")
	g.run(9)
	assert.Equal(t, "0", g.sees(ana, 0, "Tide", "height"))
	g.tick()
	assert.Equal(t, "1", g.sees(ana, 0, "Tide", "height"))
	g.run(29)
	assert.Equal(t, "3", g.sees(ana, 0, "Tide", "height"), "it stops when its condition fails")
	assert.Empty(t, g.heard[ana])
	g.tick()
	assert.Equal(t, "9", g.sees(ana, 0, "Tide", "height"))
	g.run(200)
	assert.Equal(t, []string{"Tide.turned"}, g.heard[ana], "`after` fires once")

	// Letting go in between does not save any air: what counts is the ticks in which the key was held.
	for range 4 {
		g.ask(ana, 0, "Diver.set_kick", "true")
		g.ask(ana, 0, "Diver.set_kick", "false")
	}
	assert.Equal(t, "1", g.sees(ana, ana, "Diver", "air"))
	g.ask(ana, 0, "Diver.set_kick", "true")
	g.run(10)
	assert.Equal(t, "0", g.sees(ana, ana, "Diver", "air"))
	faults := 0
	for range 10 {
		g.tick()
		faults += len(g.step.Faults)
	}
	assert.Equal(t, 5, faults, "a body that faults has fired all the same, and the session goes on")
	g.s.Leave(ana)
	g.run(10)
	assert.Empty(t, g.step.Faults, "no timer outlives its entity")

	long := open(t, partsText)
	bo := long.join("Bo", "")
	long.run(72_000)
	assert.Equal(t, "36000", long.sees(bo, 0, "Tide", "clock"), "exact after an hour")
}

func TestAChangeSetsOffItsHandlerInTheSameTransaction(t *testing.T) {
	g := open(t, partsText)
	ana := g.join("Ana", "")
	g.tick()
	assert.Equal(t, "3", g.sees(ana, ana, "Diver", "air"), "on spawn has run before the spawn is told")
	g.ask(ana, 0, "Diver.hurt", "30")
	assert.Equal(t, "70", g.sees(ana, ana, "Diver", "low"))
	g.ask(ana, 0, "Diver.hurt", "70")
	assert.Equal(
		t, []string{"100", "0", "1"},
		[]string{
			g.sees(ana, ana, "Diver", "hull"), g.sees(ana, ana, "Diver", "low"), g.sees(ana, ana, "Diver", "deaths"),
		},
	)
	assert.Equal(t, []string{"Diver.surfaced"}, g.heard[ana])
	g.ask(ana, 0, "Diver.hurt", "0")
	assert.Equal(t, []string{"Diver.surfaced"}, g.heard[ana], "no change, no handler")
	for range 8 {
		g.ask(ana, 0, "Diver.hurt", "200")
	}
	assert.Equal(t, "9", g.sees(ana, ana, "Diver", "deaths"))
	before := g.truth()
	d := g.ask(ana, 0, "Diver.hurt", "200")
	assert.Equal(t, wire.Faulted, d.Outcome, "a fault in what it set off")
	assert.Contains(t, g.step.Decisions[0].Reason, "deaths cannot become 10")
	assert.Equal(t, before, g.truth(), "undoes the request too")

	assert.Equal(t, wire.Accepted, g.ask(ana, 0, "Ring.spin", "44").Outcome)
	assert.Equal(t, "7", g.sees(ana, 0, "Ring", "rounds"))
	before = g.truth()
	assert.Equal(t, wire.Faulted, g.ask(ana, 0, "Ring.spin", "2").Outcome)
	assert.Contains(t, g.step.Decisions[0].Reason, "a round after the 8th")
	assert.Equal(t, before, g.truth())
}

func TestRepliesPausesAndDrops(t *testing.T) {
	g := open(t, partsText)
	ana := g.join("Ana", "")
	g.tick()
	g.ask(ana, 0, "Diver.hurt", "50")
	d := g.ask(ana, 0, "Diver.use", `"relic"`)
	assert.Equal(t, "75", string(d.Reply))
	d = g.ask(ana, 0, "Diver.use", `"flare"`)
	assert.Equal(t, []any{wire.Denied, "still loading"}, []any{d.Outcome, d.Reason})
	g.run(2)
	assert.Equal(t, "1", string(g.ask(ana, 0, "Diver.use", `"flare"`).Reply), "counted from the last accepted one")
	g.ask(ana, 0, "Diver.hurt", "70")
	g.run(4)
	d = g.ask(ana, 0, "Diver.use", `"patch"`)
	assert.Equal(t, []any{wire.Dropped, wire.StageCheck, ""}, []any{d.Outcome, d.Stage, d.Reason})
	assert.Equal(t, "5", g.sees(ana, ana, "Diver", "hull"))
}

// Whatever a body does before it faults, nothing of it stays.
func TestABodyThatFaultsLeavesNothing(t *testing.T) {
	lines := []string{
		"n += x", "n = x * 2", "small = x", "s = words", "i.put(Item.a, x)", "i.take(Item.b)", "i.put(Item.b, 2)",
		"yes = not yes",
		"it = Item.c", "tell everyone said(n)", "Other.n += x", "do jump(x)", "if n > x { n = x } else { s = \"no\" }",
		"match it { a { n = 1 } else { n = 100 / x } }", "n = 100 / (x - 3)", "Other.n = small * small",
	}
	rapid.Check(t, func(rt *rapid.T) {
		body := strings.Join(rapid.SliceOfN(rapid.SampledFrom(lines), 1, 8).Draw(rt, "body"), "\n")
		g := open(rt, fmt.Sprintf(`contract thing language 1
enum Item { a, b, c }
shared Other { n: int -50..50; on change n { if n > 40 { n = 1000 / (n - 41) } } }
entity Thing per player {
  n: int -1000..1000; small: int 0..9 = 3; s: text max 4; yes: bool; it: Item; i: stacks<Item> max 2 each 3
  event said(n: int 0..99)
  action jump(by: int -9..99) { n -= by; Other.n -= by }
  on change n { if n == 7 { small = n + 92 } }
  request go(x: int -9..99, words: text max 9) {
%s
  }
}`, body))
		ana := g.join("Ana", "")
		g.tick()
		for range 5 {
			row := append([]int64{}, g.s.world.OfClient(1, ana).Nums...)
			before := g.truth()
			heard := len(g.heard[ana])
			d := g.ask(
				ana, 0, "Thing.go", fmt.Sprint(rapid.IntRange(-9, 99).Draw(rt, "x")),
				rapid.SampledFrom([]string{`"ok"`, `"too long"`}).Draw(rt, "words"),
			)
			if d.Outcome != wire.Accepted {
				require.Equal(rt, wire.Faulted, d.Outcome)
				require.Equal(rt, before, g.truth())
				require.Equal(rt, row, g.s.world.OfClient(1, ana).Nums)
				require.Len(rt, g.heard[ana], heard)
			}
			copied := g.copies[ana].OwnedBy("Thing", ana)
			for _, f := range copied.Fields {
				require.True(
					rt, f.Value.Equal(
						g.s.world.Value(g.s.world.OfClient(1, ana), g.s.contract.Kinds[1].Property(f.Name)),
					),
				)
			}
		}
	})
}

// Reals are counts of steps: what a property holds, what is sent and what a client reads are one number, bit for bit.
func TestRealsAreTheSameOnBothSides(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		step := rapid.SampledFrom([]string{"0.5", "0.1", "0.01", "0.001", "1", "7", "0.0078125"}).Draw(rt, "step")
		g := open(rt, fmt.Sprintf(`contract thing language 1
entity Thing per player {
  a: real -7000..7000 step %[1]s = 0
  c: real 0..70 step %[1]s = 0 clamped
  event said(v: real -7000..7000 step %[1]s)
  request set(v: real -7000..7000 step %[1]s) { a = v; tell everyone said(v) }
  request work(v: real -7000..7000 step 0.5, n: int -9..9) -> real -7000..7000 step %[1]s {
    let x = (v * 1.25 + n) / 3 - a
    c = x
    a = x
    reply x
  }
}`, step))
		ana := g.join("Ana", "")
		g.tick()
		kind := g.s.contract.Kinds[0]
		for range 10 {
			typ := kind.Property("a").Type
			v := typ.Real(rapid.Int64Range(typ.Low, typ.High).Draw(rt, "count"))
			d := g.ask(ana, 0, "Thing.set", fmt.Sprint(v))
			require.Equal(rt, wire.Accepted, d.Outcome, d.Reason)
			got, _ := g.copies[ana].OwnedBy("Thing", ana).Value("a")
			require.Equal(rt, v, typ.Real(got.Num), "what was sent comes back")

			half := float64(rapid.Int64Range(-14000, 14000).Draw(rt, "v")) / 2
			n := rapid.Int64Range(-9, 9).Draw(rt, "n")
			before := v
			d = g.ask(ana, 0, "Thing.work", fmt.Sprint(half), fmt.Sprint(n))
			want := float64(float64(half*1.25)+float64(n))/3 - before
			count, _ := typ.Steps(want)
			if count < typ.Low || count > typ.High {
				require.Equal(rt, wire.Faulted, d.Outcome)
				continue
			}
			require.Equal(rt, fmt.Sprint(typ.Format(contract.Value{Num: count})), string(d.Reply))
			got, _ = g.copies[ana].OwnedBy("Thing", ana).Value("a")
			require.Equal(rt, count, got.Num)
			clipped, _ := g.copies[ana].OwnedBy("Thing", ana).Value("c")
			c := kind.Property("c").Type
			bound, _ := c.Steps(want)
			require.Equal(rt, min(max(bound, 0), c.High), clipped.Num)
		}
	})
}

func TestRealsThatAreNoNumbersFault(t *testing.T) {
	g := open(t, `contract thing language 1
entity Thing per player {
  a: real 0..9000000000000000 step 1 = 9000000000000000
  b: real 0..1 step 0.5
  request divide(by: real -1..1 step 0.5) { b = 1 / by }
  request grow() { let c = a * a * a * a * a; let d = c * c * c * c; b = d / d }
  request range() { b = b + 0.75 }
}`)
	ana := g.join("Ana", "")
	g.tick()
	for request, reason := range map[string]string{
		"Thing.divide": "division by zero", "Thing.grow": "is no finite number", "Thing.range": "",
	} {
		args := []string{}
		if request == "Thing.divide" {
			args = []string{"0"}
		}
		d := g.ask(ana, 0, request, args...)
		if reason == "" {
			require.Equal(t, wire.Accepted, d.Outcome)
			assert.Equal(
				t, "1", g.sees(ana, ana, "Thing", "b"), "three quarters lie between two steps and go to the even one",
			)
			d = g.ask(ana, 0, request)
			reason = "Thing.b cannot become 2: its range is 0..1"
		}
		assert.Equal(t, wire.Faulted, d.Outcome, request)
		assert.Contains(t, g.step.Decisions[0].Reason, reason)
	}
	for _, raw := range []string{"0.6000001", "1e0", "-0"} {
		assert.NotEqual(t, wire.Malformed, g.ask(ana, 0, "Thing.divide", raw).Outcome, raw)
	}
	for _, raw := range []string{"1.3", "1e999", `"1"`, "NaN", "0x1", "null", "-1.26"} {
		if json.Valid([]byte(raw)) {
			assert.Equal(t, wire.Malformed, g.ask(ana, 0, "Thing.divide", raw).Outcome, raw)
		}
	}
}

const endsText = `contract ends language 2
tick 20 per second
roles player, spectator
shared Reef {
  lost: int 0..999 = 0
  log: text max 200 = ""
  note: int 0..99 = 0
}
entity Eel {
  gold: int 0..9 = 3
  nest: ref Eel = nothing
  on despawn {
    Reef.lost += gold
    if nest != nothing { despawn nest }
    if gold == 9 { Reef.lost += 1 / Reef.note }
    spawn Bubble
  }
}
entity Bubble { born: int 0..9 = 0; after 100ms { despawn self }; on despawn { Reef.note += 1 } }
entity Diver per player {
  gold: int 0..99 = 5
  on spawn { Reef.lost += 100 }
  on owner leave { Reef.lost += 10; if gold == 7 { gold = 1 / (gold - 7) } }
  on despawn { Reef.lost += gold; if gold == 6 { gold = 1 / (gold - 6) } }
  request nest(two: bool) {
    let a = spawn Eel
    let b = spawn Eel { nest = a }
    if two { a.nest = b }
    despawn b
  }
  request rich() { let a = spawn Eel { gold = 9 }; despawn a }
  request have(n: int 0..99) { gold = n }
  request watch() { caller.role = spectator }
  request back() from everyone { caller.role = player }
}
entity Watcher per spectator { here: bool = true; on despawn { Reef.lost += 50 }; request back() { caller.role = player } }
on leave(c) { if c.role == player { Reef.log = c.name } }
`

// What is about to go runs its handler while it is there, in the cause that ends it; what they despawn of each other
// goes once.
func TestWhatIsAboutToGoRunsItsHandler(t *testing.T) {
	g := open(t, endsText)
	ana := g.join("Ana", "")
	g.tick()
	lost := func() string { return g.sees(ana, 0, "Reef", "lost") }
	require.Equal(t, "100", lost())
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.nest", "false").Outcome)
	assert.Equal(t, "106", lost())
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.nest", "true").Outcome)
	assert.Equal(t, "112", lost(), "each of two that end each other goes once")
	g.run(3)
	assert.Equal(t, "4", g.sees(ana, 0, "Reef", "note"), "a timer's despawn runs it as well")
	before := g.truth()
	g.s.world.Shared(0).Nums[g.s.contract.Kinds[0].Property("note").Slot] = 0
	d := g.ask(ana, 0, "Diver.rich")
	assert.Equal(t, wire.Faulted, d.Outcome)
	assert.Equal(t, "on despawn of Eel", g.step.Decisions[0].In)
	g.s.world.Shared(0).Nums[g.s.contract.Kinds[0].Property("note").Slot] = 4
	assert.Equal(t, before, g.truth(), "its fault undoes the cause that ends it")
}

// A client that leaves, and one that gets another role, ends what it has one of: in the order that the reference says,
// and whatever fails.
func TestLeavingAndAnotherRoleEndWhatIsOnes(t *testing.T) {
	g := open(t, endsText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	lost := func() string { return g.sees(ana, 0, "Reef", "lost") }
	require.Equal(t, "200", lost())
	require.Equal(t, wire.Accepted, g.ask(bo, 0, "Diver.watch").Outcome)
	assert.Equal(t, "215", lost(), "on owner leave and on despawn")
	require.Equal(t, wire.Accepted, g.ask(bo, 0, "Watcher.back").Outcome)
	assert.Equal(t, "365", lost(), "the watcher's end, and the diver's beginning")

	require.Equal(t, wire.Accepted, g.ask(bo, 0, "Diver.have", "6").Outcome)
	g.s.Leave(bo)
	g.tick()
	assert.Equal(t, "375", lost(), "on despawn fails, and undoes its own part alone")
	require.Len(t, g.step.Faults, 1)
	assert.Equal(t, "on despawn of Diver", g.step.Faults[0].Of)
	assert.Nil(t, g.copies[ana].OwnedBy("Diver", bo), "it goes all the same")

	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.have", "7").Outcome)
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.watch").Outcome)
	assert.Equal(t, "382", lost(), "on owner leave fails, on despawn runs")
	assert.Nil(t, g.copies[ana].OwnedBy("Diver", ana))
}
