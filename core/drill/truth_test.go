package drill

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// kiln is a contract with something of everything that drills have to tell the truth about.
const kiln = `contract kiln language 1
tick 20 per second
seats 8 grace 5s
strikes 2 in 10s
roles player, spectator

enum Glaze { ash, slip, salt }
type Tile { glaze: Glaze, heat: int 0..99 }
type Place = vec2 -200..200 step 0.01

entity Potter per player {
  coins: int 0..99 = 5
  pos:   Place set by owner pace distance(old, new) 8 per second burst 2
  hand:  list<Tile> max 4 to owner
  notes: list<text max 9> max 4
  tally: map<text max 9, int 0..99> max 4
  born:  instant
  hold fan lease 1s when coins > 0
  event paid(n: int 0..99)
  on spawn { born = now() }
  request pay(n: int 0..99) check coins >= n else strike "too poor" { coins -= n; tell owner paid(n) }
  request play(tile: Tile) check hand.room() > 0 else deny "full" { hand.put(tile) }
  request send(what: kind of [Sled, Cart], whom: client) check count(Sled) < 9 else deny "enough" { let s = spawn what { load = 1 }; give s to whom }
  request at(when: instant) -> bool check when <= now() else deny "not yet" { reply now() - when < 1s }
  request burn() { coins = coins / (coins - coins) }
  request scribble(words: list<text max 9> max 4) { notes = words }
}
part Haul { load: int 0..9; hold pull lease 1s; request tip(n: int 0..9) { load = n } }
entity Sled with Haul { }
entity Cart with Haul { wheels: int 0..9 = 2; request tip_over() { wheels = 0 } }
entity Ghost to nobody { n: int 0..9 = 0; every 1s { n = 9 - n } }
entity Kite { pos: Place = vec(0, 0) follows vel; vel: vec2 -20..20 step 0.01 = vec(10, 0) }
shared Oven {
  lit: int 0..9 = 0
  on change lit { if lit == 9 { lit = 3 / (lit - 9) } }
  every 100ms while lit == 1 { lit = 5 / (lit - 1) }
  request light(n: int 0..9) from player or spectator { lit = n }
  request fly() from player { spawn Kite { } }
  request wane() from player { for k in Kite { despawn k } }
}
on leave(c) { for s in Sled { despawn s }; Oven.lit = 2 }
`

// playKiln plays the lines of a drill on kiln. An empty reason says that they pass.
func playKiln(t *testing.T, lines, reason string) *Result {
	t.Helper()
	drills, problems := Load(
		"kiln.drill", "drill \"it\"\nuse \"kiln.kam\" seed 3\n"+lines, beside(map[string]string{"kiln.kam": kiln}),
	)
	if !assert.Empty(t, problems, "%s: %s", lines, problems) {
		return nil
	}
	r := played(t, drills[0], Options{})
	if reason == "" {
		assert.True(t, r.Passed, "%s: %+v", lines, r.Failure)
	} else if assert.False(t, r.Passed, lines) {
		assert.Contains(t, r.Failure.Message, reason, lines)
	}
	return r
}

// A press or release that is refused is not accepted.
func TestARefusedHoldIsRefused(t *testing.T) {
	const head = "clients ana, bo\n"
	playKiln(t, head+"bo holds ana.Potter.fan -> accepted", `it was denied "not the owner"`)
	playKiln(t, head+`bo holds ana.Potter.fan -> denied "not the owner"`, "")
	playKiln(t, head+"ana holds Potter.fan -> accepted\nsettle\nexpect server sees ana.Potter.fan", "")
	playKiln(t, head+"set ana.Potter.coins = 0\nana holds Potter.fan -> accepted", `it was denied "when"`)
	playKiln(
		t,
		head+"ana holds Potter.fan\nana releases Potter.fan -> accepted\nsettle\nexpect server sees not ana.Potter.fan",
		"",
	)
	playKiln(t, head+"bo holds ana.Potter.fan\nbo releases ana.Potter.fan -> accepted", `it was denied "not the owner"`)
}

// A write that a newer one overtook is not accepted: nobody looked at it.
func TestAnOvertakenWriteIsOvertaken(t *testing.T) {
	const head = "clients ana, bo\n"
	playKiln(
		t, head+"ana writes Potter.pos = vec(1, 0) -> accepted\nana writes Potter.pos = vec(0, 1) -> accepted",
		"it was overtaken",
	)
	playKiln(
		t,
		head+"ana writes Potter.pos = vec(1, 0) -> overtaken\nana writes Potter.pos = vec(0, 1) -> accepted\n"+
			"settle\nexpect bo sees ana.Potter.pos == vec(0, 1)",
		"",
	)
	playKiln(t, head+"ana writes Potter.pos = vec(1, 0) -> overtaken", "it was accepted")
}

// What a client does not see may be called by a name that `let` gave, or be any of a kind.
func TestWhatIsNotSeen(t *testing.T) {
	const head = "clients ana, bo\nana asks Potter.send(Sled, bo) -> accepted\nsettle\nlet s = one(s in Sled)\n"
	playKiln(t, head+"expect ana does not see s", "ana sees it")
	playKiln(t, head+"expect ana does not see Sled", "ana sees it")
	playKiln(t, head+"expect ana does not see Cart\nexpect ana does not see Ghost", "")
	playKiln(t, head+"leave bo\nsettle\nexpect ana does not see s\nexpect ana does not see Sled", "")
	playKiln(t, head+"let n = 3\nexpect ana does not see n", "which nobody sees or misses")
	playKiln(t, head+"expect bo does not see ana.Potter.hand", "")
}

// A name that `let` gave stands for its own entity, also where another kind has a request or property of that name.
func TestWhatLetNamesIsItself(t *testing.T) {
	const head = "clients ana, bo\nana asks Potter.send(Cart, bo) -> accepted\nsettle\nlet c = one(c in Cart)\n" +
		"let same = c\n"
	playKiln(t, head+"bo asks c.tip(7) -> accepted\nsettle\nexpect server sees c.load == 7", "")
	playKiln(t, head+"bo asks same.tip(7) -> accepted\nsettle\nexpect server sees c.load == 7", "")
	playKiln(t, head+"bo asks same.tip_over() -> accepted\nsettle\nexpect server sees c.wheels == 0", "")
	playKiln(t, head+"bo holds same.pull -> accepted\nsettle\nexpect server sees c.pull", "")
	playKiln(t, head+"bo forges same.tip(\"x\") -> malformed\nana asks same.tip(1) -> denied \"not the owner\"", "")
	playKiln(t, head+"leave bo\nsettle\nana asks same.tip(1) -> denied \"not the owner\"\nsettle", "")
	playKiln(
		t,
		"clients ana, bo\nana asks Potter.send(Sled, bo)\nsettle\nlet s = one(s in Sled)\nlet same = s\nleave bo\n"+
			"settle\nana asks same.tip(1) -> denied \"no such entity\"",
		"",
	)
	_, problems := Load(
		"kiln.drill", "drill \"it\"\nuse \"kiln.kam\"\nlet s = one(s in Sled)\nlet same = s\nbo asks same.tip_over()\n",
		beside(map[string]string{"kiln.kam": kiln}),
	)
	assert.Contains(t, problems.Error(), "5:14: Sled has no request `tip_over`")
}

// Settling ends when nothing is under way any more, what an expulsion sets off included, and takes no time when nothing
// is.
func TestSettlingEndsWithWhatItSetOff(t *testing.T) {
	const expelled = "clients ana, bo\nana asks Potter.send(Sled, ana)\nsettle\nana asks Potter.pay(99)\n" +
		"ana asks Potter.pay(98)\nsettle\n"
	playKiln(
		t,
		expelled+"expect ana is expelled\nexpect server sees Oven.lit == 2 and count(Sled) == 0\n"+
			"expect bo sees Oven.lit == 2\nexpect bo does not see Sled",
		"",
	)
	took := func(lines string) int64 { return playKiln(t, "clients ana, bo\n"+lines, "").Ticks }
	assert.Equal(t, took(""), took("settle\nsettle\nsettle\n"))
	assert.Equal(t, took("set ana.Potter.coins = 3\nsettle\n"), took("set ana.Potter.coins = 3\nsettle\nsettle\n"))
	assert.Greater(t, took("set ana.Potter.coins = 3\nsettle\n"), took(""))
}

// Looking changes nothing; what is seen is the newest frame, moved on by the ticks since it arrived.
func TestLookingChangesNothing(t *testing.T) {
	const flying = "clients ana, bo\nana asks Oven.fly()\nsettle\nwait 1s\nlet k = one(k in Kite)\n"
	trace := func(lines string) string {
		drills, problems := Load(
			"kiln.drill", "drill \"it\"\nuse \"kiln.kam\" seed 3\n"+lines, beside(map[string]string{"kiln.kam": kiln}),
		)
		require.Empty(t, problems)
		var out bytes.Buffer
		assert.True(t, played(t, drills[0], Options{Trace: &out}).Passed, lines)
		return out.String()
	}
	const look = "expect bo sees k.pos.x > 9\nexpect everyone in step\nexpect bo does not see ana.Potter.hand\nsettle\n"
	assert.Equal(
		t, trace(flying+"bo asks Potter.pay(1)\nwait 2s\n"),
		trace(flying+look+"bo asks Potter.pay(1)\n"+look[:strings.Index(look, "settle")]+"wait 2s\n"),
	)
	// A frame takes half a second to bo, so what bo sees of the kite is half a second behind, whatever is in flight.
	slow := strings.Replace(flying, "clients", "link bo delay 500ms\nclients", 1)
	for _, under := range []string{"", "set ana.Potter.coins = 9\n", "set ana.Potter.coins = 9\nwait 3 ticks\n"} {
		playKiln(t, slow+under+"let there = k.pos.x\nexpect bo sees k.pos.x == there - 5", "")
	}
}

// What fails inside is red, with its place, the entity and its values, unless a line expects it.
func TestFaultsAreRed(t *testing.T) {
	const faulty = "clients ana\nana asks Oven.light(1)\nwait 1s\n"
	r := playKiln(
		t, faulty, "timer of Oven fails inside, in line 36 of kiln.kam (Oven[1] with lit = 1): division by zero",
	)
	assert.Equal(t, 5, r.Failure.Line, "the line in which it happened")
	playKiln(t, faulty+"expect 10 faults in timer of Oven \"division by zero\"", "")
	playKiln(t, faulty+"expect 8 faults in timer of Oven", "failed inside 10 times, not 8")
	playKiln(t, faulty+"expect fault in timer of Oven \"a list is full\"", "timer of Oven fails inside")
	playKiln(t, faulty+"expect fault in timer of Oven\nwait 1s", "no line after it expects that")
	playKiln(t, "clients ana\nwait 1s\nexpect fault in timer of Oven", "did not fail inside")
	playKiln(
		t, "clients ana\nana asks Oven.light(9)\nwait 1s",
		"on change lit of Oven fails inside, in line 35 of kiln.kam (asked by ana with 9): division by zero",
	)
	playKiln(t, "clients ana\nana asks Oven.light(9) -> faulted\nwait 1s", "")
	playKiln(t, "clients ana\nana asks Oven.light(9)\nwait 1s\nexpect 1 fault in request light of Oven", "")
	playKiln(t, "clients ana\nana asks Potter.burn() -> accepted\nwait 1s", "request burn of Potter fails inside")
	_, problems := Load(
		"kiln.drill",
		"drill \"it\"\nuse \"kiln.kam\"\nexpect fault in timer of Cart\nexpect 2 faults in rain of Oven\n",
		beside(map[string]string{"kiln.kam": kiln}),
	)
	assert.Contains(t, problems.Error(), "3:17: the contract has no `timer of Cart`")
	assert.Contains(t, problems.Error(), "4:20: `rain` cannot fail")
}

// A host has no link, is told the same in the same order, and takes the session with it.
func TestAHostIsAClientWithoutALink(t *testing.T) {
	playKiln(
		t, "host ana\njoin bo\nleave ana\nwait 1 tick\nexpect bo sees 1 == 1",
		"bo is out: the session closed: its host left",
	)
	playKiln(t, "host ana\ncut ana", "is the host and has no connection")
	_, problems := Load(
		"kiln.drill", "drill \"it\"\nuse \"kiln.kam\"\nhost ana\nlink ana delay 1s\n",
		beside(map[string]string{"kiln.kam": kiln}),
	)
	assert.Contains(t, problems.Error(), "4:6: ana is the host, and has no link")
	// What the host hears and notices, and when, is what a plain client does.
	story := func(join string) string {
		drills, problems := Load(
			"kiln.drill",
			"drill \"it\"\nuse \"kiln.kam\" seed 3\n"+join+"\njoin bo\nana asks Potter.pay(2)\n"+
				"bo asks Potter.send(Cart, ana)\nwait 5 ticks\nset ana.Potter.coins = 1\nwait 5 ticks\n",
			beside(map[string]string{"kiln.kam": kiln}),
		)
		require.Empty(t, problems)
		var out bytes.Buffer
		assert.True(t, played(t, drills[0], Options{Trace: &out}).Passed)
		return out.String()
	}
	assert.Equal(t, story("clients ana"), story("host ana"))
	drills, problems := Load(
		"kiln.drill",
		"drill \"it\"\nuse \"kiln.kam\" seed 3\nhost ana\nana asks Potter.pay(1)\nwait 1 tick\n"+
			"expect ana sees ana.Potter.coins == 4\n",
		beside(map[string]string{"kiln.kam": kiln}),
	)
	require.Empty(t, problems)
	r, err := drills[0].Shake(context.Background(), 1, 30, Options{}, nil)
	require.NoError(t, err)
	assert.True(t, r.Passed, "a host's link is never shaken: %+v", r.Failure)
}

// Any value of a contract can stand in a drill.
func TestValuesInDrills(t *testing.T) {
	const head = "clients ana, bo\n"
	playKiln(
		t,
		head+"ana asks Potter.play(Tile(glaze = ash, heat = 9)) -> accepted\nsettle\n"+
			"expect ana sees ana.Potter.hand[0].heat == 9 and ana.Potter.hand[0] == Tile(glaze = ash, heat = 9)",
		"",
	)
	playKiln(
		t,
		head+"set ana.Potter.hand = [Tile(glaze = slip, heat = 1), Tile(glaze = ash, heat = 2)]\n"+
			"set ana.Potter.hand[1].heat = 3\nexpect server sees ana.Potter.hand[1] == Tile(glaze = ash, heat = 3) "+
			"and ana.Potter.hand[0].heat == 1",
		"",
	)
	playKiln(t, head+"set ana.Potter.hand[2].heat = 3", "has nothing at 2")
	playKiln(
		t,
		head+"set ana.Potter.tally = [[\"tiles\", 4]]\nset ana.Potter.tally[\"tiles\"] = 5\n"+
			"set ana.Potter.pos.y = 1.5\nexpect server sees ana.Potter.tally[\"tiles\"] == 5 and ana.Potter.pos == "+
			"vec(0, 1.5)",
		"",
	)
	playKiln(
		t,
		head+"ana forges Potter.play(json(\"{\\\"glaze\\\": \\\"ash\\\", \\\"heat\\\": [1, null]}\")) -> malformed\n"+
			"ana forges Potter.play(Tile(glaze = \"mud\", heat = 1)) -> malformed\n"+
			"ana forges Potter.play(json(\"{\\\"glaze\\\":\\\"ash\\\",\\\"heat\\\":7}\")) -> accepted\nsettle\n"+
			"expect ana sees ana.Potter.hand.count() == 1",
		"",
	)
	playKiln(
		t, head+"ana asks Potter.send(Cart, bo) -> accepted\nsettle\nexpect bo sees one(c in Cart).owner == bo", "",
	)
	playKiln(
		t,
		head+"wait 1s\nlet t = now()\nana asks Potter.at(now()) -> accepted true\nsettle\nwait 2s\n"+
			"ana asks Potter.at(t) -> accepted false\nana asks Potter.at(now() + 5s) -> denied \"not yet\"\n"+
			"expect server sees now() - t >= 2s and ana.Potter.born < t",
		"",
	)
	playKiln(t, head+"set bo.Potter.coins = 9\nexpect server sees best(p in Potter: p.coins) == bo.Potter", "")
	playKiln(
		t,
		head+"ana asks Potter.scribble([\"ash\", \"slip\"]) -> accepted\nsettle\n"+
			"expect bo sees ana.Potter.notes == [\"ash\", \"slip\"]\nset ana.Potter.notes = [\"x\"]\n"+
			"expect server sees ana.Potter.notes == [\"x\"]",
		"",
	)
	_, problems := Load("kiln.drill", `drill "it"
use "kiln.kam"
clients ana
join bo as spectator
set ana.Potter.notes = [3]
set ana.Potter.hand = ["x"]
set ana.Potter.hand[0].heat = 100
set ana.Potter.coins = -1
expect bo sees bo.Potter.coins == 1
ana asks Potter.play(Tile(glaze = ash))
ana asks Potter.play(Tile(glaze = ash, hoat = 1))
ana asks Potter.pay(100)
ana writes Potter.pos = 3
ana asks Potter.send(Kite, ana)
`, beside(map[string]string{"kiln.kam": kiln}))
	_, again := Load(
		"kiln.drill", "drill \"it\"\nuse \"kiln.kam\"\nclients ana\nset ana.Potter.coins = 3\njoin bo, ana\n",
		beside(map[string]string{"kiln.kam": kiln}),
	)
	assert.Contains(t, again.Error(), "5:10: ana is in already")
	for _, part := range []string{
		"5:24: 3 is no text", "6:23: \"x\" is no Tile", "7:31: the value is 100", "8:24: the value is -1",
		"9:16: bo is a spectator and has no Potter", "10:22: Tile needs `heat`",
		"11:40: Tile has no field `hoat`", "12:21: the value is 100", "13:25: 3 is no vec2", "14:22: \"Kite\" is no",
	} {
		assert.Contains(t, problems.Error(), part)
	}
}

// What is not shaken is not shaken, also when the line that says so comes late; shares are printed as they are read.
func TestASteadyLinkIsNotStalled(t *testing.T) {
	drills, problems := Load(
		"kiln.drill",
		"drill \"it\"\nuse \"kiln.kam\" seed 3\nclients ana\nlink ana steady\nset ana.Potter.coins = 9\n"+
			"wait 1 tick\nexpect ana sees ana.Potter.coins == 9\nwait 3s\nset ana.Potter.coins = 8\nwait 1 tick\n"+
			"expect ana sees ana.Potter.coins == 8\n",
		beside(map[string]string{"kiln.kam": kiln}),
	)
	require.Empty(t, problems)
	stalled := &Shaking{Seed: 1, Faults: []Fault{{Client: "ana", What: FaultStall, Time: 0, Length: 5e9}}}
	r := played(t, drills[0], Options{Shaken: &Shaking{Seed: 1}})
	require.True(t, r.Passed)
	late := &Shaking{Seed: 1, Faults: []Fault{{Client: "ana", What: FaultStall, Time: 2e9, Length: 3e9}}}
	assert.True(t, played(t, drills[0], Options{Shaken: late}).Passed)
	assert.Positive(t, stalled.Faults[0].Length)
	for share := 1; share <= 20; share++ {
		f := Fault{Client: "bo", What: FaultLoss, Share: float64(share) / 100}
		assert.Equal(t, fmt.Sprintf("bo loss %d%%", share), f.String())
		back, err := ParseFault(f.String())
		require.NoError(t, err)
		assert.Equal(t, f, back)
	}
}

// A failure names the clause that failed, the writes that were refused, and who has what role.
func TestWhatAFailureShows(t *testing.T) {
	r := playKiln(
		t, "clients ana, bo\nexpect bo sees ana.Potter.coins == 5 and bo.Potter.coins == 6 and Oven.lit == 0",
		"bo sees it otherwise: not `bo.Potter.coins == 6`",
	)
	assert.Equal(t, "5", r.Failure.Sheet[0].Value)
	r = playKiln(
		t,
		"clients ana, bo\nana writes Potter.pos = vec(90, 0)\nbo holds ana.Potter.fan\nsettle\n"+
			"expect bo sees Oven.lit == 1",
		"bo sees it otherwise",
	)
	before := strings.Join(r.Failure.Before, "\n")
	assert.Contains(t, before, `not done: write of Potter.pos by ana: denied "pace"`)
	assert.Contains(t, before, `not done: press of Potter.fan by bo: denied "not the owner"`)
	playKiln(
		t, "clients ana\njoin bo as spectator\nfor c in ana, bo { expect server sees c.Potter.coins == 5 }",
		"bo is a spectator and has no Potter",
	)
}

// Every drill of the repository does the same, byte for byte, when lines stand between its own that look and settle
// where nothing is under way.
func TestExtraLinesThatChangeNothing(t *testing.T) {
	names, err := filepath.Glob(filepath.Join(demo, "*.drill"))
	require.NoError(t, err)
	settles := regexp.MustCompile(`(?m)^settle$`)
	drills := 0
	for _, name := range names {
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		more := settles.ReplaceAllString(
			string(raw),
			"settle\nexpect everyone in step\nexpect server sees count(clients) >= 0\nsettle\n"+
				"expect everyone sees count(Diver) >= 0\nexpect everyone does not see Keeper\nsettle",
		)
		require.NotEqual(t, string(raw), more)
		plain, problems := Load(name, string(raw), beside(nil))
		require.Empty(t, problems)
		extra, problems := Load(name, more, beside(nil))
		require.Empty(t, problems)
		for i := range plain {
			for _, shaken := range []*Shaking{nil, shaking(uint64(i), plain[i].Clients)} {
				var one, two bytes.Buffer
				a := played(t, plain[i], Options{Trace: &one, Shaken: shaken})
				b := played(t, extra[i], Options{Trace: &two, Shaken: shaken})
				require.True(t, a.Passed && b.Passed, "%s: %+v %+v", plain[i].Name, a.Failure, b.Failure)
				require.True(t, one.String() == two.String(), plain[i].Name)
			}
			drills++
		}
	}
	assert.GreaterOrEqual(t, drills, 25)
}

// What a client has released it holds no more, and what is cut is not cut again.
func TestWhatIsReleasedAndCut(t *testing.T) {
	const held = "clients ana, bo\nana holds Potter.fan\nsettle\nexpect server sees ana.Potter.fan\n" +
		"ana releases Potter.fan\nsettle\nexpect server sees not ana.Potter.fan\n"
	playKiln(t, held+"wait 3s\nexpect server sees not ana.Potter.fan", "")
	playKiln(t, held+"ana releases Potter.fan", "ana does not hold Potter.fan")
	playKiln(t, held+"ana renews Potter.fan", "ana does not hold Potter.fan")
	playKiln(
		t,
		"clients ana, bo\nana presses Potter.fan\nsettle\nana renews Potter.fan\nana renews Potter.fan\n"+
			"ana releases Potter.fan",
		"",
	)
	playKiln(t, "clients ana, bo\ncut bo\ncut bo", "bo is cut already")
	playKiln(t, "clients ana, bo\nback bo", "bo was not cut")
	assert.Equal(t, "nothing", orNothing(""))
}

// The server sees, and does nothing else that a line could expect; of a name from `let` only what some kind has is
// sent.
func TestWhatALineCannotExpect(t *testing.T) {
	_, problems := Load(
		"kiln.drill",
		"drill \"it\"\nuse \"kiln.kam\"\nclients ana\nlet h = one(h in Haul)\nexpect server heard paid\n"+
			"ana forges h.load(3)\nana forges h.tip(3)\n",
		beside(map[string]string{"kiln.kam": kiln}),
	)
	require.Error(t, problems)
	assert.Contains(t, problems.Error(), "5:8: the server only sees")
	assert.Contains(t, problems.Error(), "6:14: no kind has `load`")
	assert.NotContains(t, problems.Error(), "7:")
}
