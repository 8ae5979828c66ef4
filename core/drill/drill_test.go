package drill

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/syntax"
	"kamerad.example/internal/tests/planted"
)

const demo = "../../demo"

// beside opens the demo's files; what is in other stands in place of them.
func beside(other map[string]string) syntax.Open {
	return func(name string) (string, error) {
		if text, ok := other[name]; ok {
			return text, nil
		}
		raw, err := os.ReadFile(filepath.Join(demo, filepath.Base(name)))
		return string(raw), err
	}
}

// tidewreck loads all drills of the demo, with another contract if there is one.
func tidewreck(t testing.TB, other map[string]string) (all []*Drill) {
	names, err := filepath.Glob(filepath.Join(demo, "*.drill"))
	require.NoError(t, err)
	for _, name := range names {
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		drills, problems := Load(filepath.Base(name), string(raw), beside(other))
		require.Empty(t, problems)
		all = append(all, drills...)
	}
	return all
}

func load(t testing.TB, text string) []*Drill {
	drills, problems := Load("test.drill", text, beside(nil))
	require.Empty(t, problems)
	return drills
}

func played(t testing.TB, d *Drill, o Options) *Result {
	r, err := d.Run(context.Background(), o)
	require.NoError(t, err)
	return r
}

// The demo's drills pass, each the same way every time.
func TestTidewrecksDrillsPass(t *testing.T) {
	all := tidewreck(t, nil)
	assert.GreaterOrEqual(t, len(all), 25)
	for _, d := range all {
		var one, two bytes.Buffer
		r := played(t, d, Options{Trace: &one})
		assert.True(t, r.Passed, "%s: %+v", d.Name, r.Failure)
		played(t, d, Options{Trace: &two})
		assert.Equal(t, one.String(), two.String(), d.Name)
		assert.NotEmpty(t, one.String())
	}
}

// Over bad links they pass as well.
func TestTidewrecksDrillsPassOverBadLinks(t *testing.T) {
	for _, d := range tidewreck(t, nil) {
		r, err := d.Shake(context.Background(), 1, 3, Options{}, nil)
		require.NoError(t, err)
		assert.True(t, r.Passed, "%s: %+v %+v", d.Name, r.Failure, r.Shaken)
	}
}

// What a drill may say, and what comes of it when it is not so.
func TestExpectations(t *testing.T) {
	const head = "drill \"d\"\nuse \"tidewreck.kam\" seed 5\nclients ana, bo\nset Dive.phase = dive\n" +
		"set ana.Diver.hull = 40\nana asks Diver.use(patch)\nsettle\n"
	for line, wrong := range map[string]string{
		"expect bo sees ana.Diver.hull == 65":                         "",
		"expect bo sees ana.Diver.hull == 66":                         "bo sees it otherwise",
		"expect server sees count(d in Diver where d.hull > 64) == 2": "",
		"expect server sees sum(d in Diver: d.hull) == 165":           "",
		"expect everyone sees max(d in Diver: d.hull) == 100":         "",
		"expect bo sees most(d in Diver: d.hull) == bo.Diver":         "",
		"expect bo sees any(d in Diver where d.hull == 65)":           "",
		"expect bo sees ana.Diver.air == 100":                         "bo does not have Diver.air",
		"expect ana does not see bo.Diver.air":                        "",
		"expect ana does not see bo.Diver.hull":                       "ana sees it: it is 100",
		"expect bo heard 1 ana.Diver.used(patch)":                     "",
		"expect bo heard 2 ana.Diver.used(patch)":                     "bo heard used 1 times, not 2",
		"expect bo heard ana.Diver.used(tank)":                        "bo did not hear used",
		"expect bo did not hear surfaced":                             "",
		"expect bo did not hear used":                                 "bo heard used 1 times",
		"expect bo noticed ana.Diver.hull from 100 to 65":             "",
		"expect bo noticed ana.Diver.hull from 65 to 100":             "bo noticed hull",
		"expect ana has 0 strikes":                                    "",
		"expect ana has 1 strikes":                                    "ana has 0 strikes, not 1",
		"expect ana is not expelled":                                  "",
		"expect ana is expelled":                                      "ana is not expelled",
		"expect ana logged \"nothing\"": "ana logged \"the dive is now in its " +
			"dive\" last",
		"expect bo got 0 bytes of Flare in 1s":                                                            "",
		"expect bo got 3 bytes of Diver in 1s":                                                            "more than 3",
		"expect everyone in step":                                                                         "",
		"expect server sees ana.role == player and ana.name == \"ana\"":                                   "",
		"expect server sees distance(ana.Diver.pos, vec(-30, 0)) == 0":                                    "",
		"expect server sees Winch.owner == ana":                                                           "the server sees it otherwise",
		"expect server sees one(d in Diver).hull == 3":                                                    "2 are there, not one",
		"expect server sees ana.Diver.satchel[0] == 1":                                                    "has nothing at 0",
		"expect server sees 1 + nothing == 2":                                                             "`+` does not go with 1 and nothing",
		"ana asks Diver.use(patch) -> accepted":                                                           "",
		"ana asks Diver.use(patch) -> denied \"not carried\"":                                             "it was accepted",
		"bo asks Strongbox.guess(Strongbox.answer) -> accepted true":                                      "",
		"bo asks Strongbox.guess(Strongbox.answer) -> accepted false":                                     "it replied true, not false",
		"ana writes Diver.pos = vec(90, 0) -> accepted":                                                   "it was denied \"pace\"",
		"ana releases Diver.kick":                                                                         "ana does not hold Diver.kick",
		"join ana":                                                                                        "ana is in already",
		"wait at most 3 ticks until bo sees ana.Diver.hull == 1":                                          "not within 3 ticks",
		"let n = 1000\nset ana.Diver.hull = n":                                                            "hull: the value",
		"give ana.Diver to bo":                                                                            "it always belongs to its client",
		"repeat 3 { set ana.Diver.score = ana.Diver.score + 1 }\nexpect server sees ana.Diver.score == 3": "",
		"for c in ana, bo { c asks Diver.paint(kelp) -> accepted }\nsettle\n" +
			"expect bo sees all(d in Diver: d.tint == kelp)": "",
		"let n = roll(1..6)\nexpect server sees n >= 1 and n <= 6":     "",
		"leave bo\nwait 1 tick\nexpect bo sees 1 == 1":                 "bo has left",
		"cut bo\nback bo\nsettle\nexpect bo sees ana.Diver.hull == 65": "",
	} {
		r := played(t, load(t, head+line+"\n")[0], Options{})
		if wrong == "" {
			assert.True(t, r.Passed, "%s: %+v", line, r.Failure)
			continue
		}
		if assert.False(t, r.Passed, line) {
			assert.Contains(t, r.Failure.Message, wrong, line)
			assert.Positive(t, r.Failure.Line)
			assert.NotEmpty(t, r.Failure.Before)
		}
	}
}

// Numbers at the ends of their ranges meet no expectation by accident.
func TestExpectationsOfGreatNumbers(t *testing.T) {
	const head = "drill \"d\"\nuse \"tidewreck.kam\" seed 5\nclients ana, bo\nexpect server sees "
	for x, wrong := range map[string]string{
		"9007199254740993 <= 9007199254740992":                   "the server sees it otherwise",
		"9223372036854775807 + 1 < 0":                            "too great",
		"roll(-9223372036854775807..9223372036854775807) < 0":    "roll does not take",
		"roll(9223372036854775806..9223372036854775807) < 0 - 1": "the server sees it otherwise",
	} {
		r := played(t, load(t, head+x+"\n")[0], Options{})
		if assert.False(t, r.Passed, x) {
			assert.Contains(t, r.Failure.Message, wrong, x)
		}
	}
}

// A failure shows what everyone holds, what the server's value came of, and what led there.
func TestAFailureIsExplained(t *testing.T) {
	r := played(
		t,
		load(
			t,
			"drill \"d\"\nuse \"tidewreck.kam\" seed 5\nclients ana, bo\nset Dive.phase = dive\n"+
				"set ana.Diver.hull = 40\nana asks Diver.use(patch)\nsettle\nexpect bo sees ana.Diver.hull == 70\n",
		)[0],
		Options{},
	)
	require.False(t, r.Passed)
	assert.Equal(t, 8, r.Failure.Line)
	assert.Equal(t, []Beside{{"server", 0, "65", 0}, {"ana", 1, "65", 0}, {"bo", 2, "65", 0}}, r.Failure.Sheet)
	require.NotEmpty(t, r.Failure.Causes)
	assert.Contains(
		t, r.Failure.Causes[len(r.Failure.Causes)-1], "Diver.hull = 65 by ana asks Diver.use(\"patch\"): accepted",
	)
	assert.Contains(t, strings.Join(r.Failure.Before, "\n"), "ana asks Diver.use")
}

// Mistakes are told with their place, all at once.
func TestMistakesOfDrills(t *testing.T) {
	_, problems := Load("test.drill", `drill "d"
use "tidewreck.kam" seed 5 with tide = 3
clients ana, bo as captain
set ana.Diver.hulk = 3
ana asks Diver.vanish()
ana asks Diver.use()
ana holds Diver.hull
bo asks Diver.use(pearl)
cleo asks Diver.search()
ana asks Diver.search() -> refused
expect bo sees Dive.phase = dive
expect bo heard thunder
wait 33ms
link bo loss 100%
drill "d"
use "none.kam"
`, beside(nil))
	for _, part := range []string{
		"2:33: the contract has no setting `tide`", "3:20: the contract has no role `captain`", "4:15: Diver has no " +
			"property `hulk`", "5:16: Diver has no request `vanish`",
		"6:10: Diver.use has 1 arguments, not 0", "7:17: Diver has no hold `hull`", "8:19: nothing is called `pearl`",
		"9:1: no client is called `cleo`",
		"10:28: there is no decision `refused`", "11:27: expected the end of this line", "12:17: the contract has " +
			"no event `thunder`", "13:6: 33 ms is not a whole number of ticks", "14:1:",
		"15:7: another drill is called",
	} {
		assert.Contains(t, problems.Error(), part)
	}
}

// A setting is given before there is a session: what is computed from one is a mistake, with its place.
func TestASettingIsWrittenOut(t *testing.T) {
	wreck := `contract desk language 1
setting most: int 0..9 = 3
setting start: vec2 -9..9 step 0.5 = vec(0, 0)
setting spawned: kind of [Crate, Sled] = Crate
entity Crate { n: int 0..9 once }
entity Sled { n: int 0..9 once }
shared Dive { n: int 0..9 = 0; on start { n = most }; on tick { n = 1 } }
entity Diver per player { pos: vec2 -9..9 step 0.5 = vec(0, 0); on spawn { pos = start } }
`
	for value, want := range map[string]string{
		"most = count(Diver)":                    "is computed from the session",
		"most = Dive.n":                          "is computed from the session",
		"most = count(d in Diver where d.n > 0)": "is computed from the session",
		"most = exists(Dive)":                    "is computed from the session",
		"most = roll(1..6)":                      "is computed from the session",
		"most = Crate[1].n":                      "is computed from the session",
		"most = now()":                           "is computed from the session",
		"start = vec(now(), 1)":                  "is computed from the session",
		"spawned = ana.Diver":                    "is computed from the session",
		"most = vec(1, 2)":                       "is no int 0..9",
		"most = 2 + 2":                           "",
		"start = vec(1, -2.5)":                   "",
		"spawned = Sled":                         "",
	} {
		var told string
		require.NotPanics(t, func() {
			_, problems := Load(
				"desk.drill", "drill \"d\"\nuse \"desk.kam\" with "+value+"\nclients ana\n",
				beside(map[string]string{"desk.kam": wreck}),
			)
			told = problems.Error()
		}, value)
		if want == "" {
			assert.Empty(t, told, value)
		} else {
			assert.Contains(t, told, want, value)
			assert.Contains(t, told, "desk.drill:2:", value)
		}
	}
}

// A failure over a bad link comes back each time, and is shrunk to what it takes.
func TestAShakenFailureComesBack(t *testing.T) {
	drills := load(t, `drill "hurried"
use "tidewreck.kam" seed 16
clients ana, bo
leave ana
wait 1 tick
expect bo sees count(Diver) == 1
drill "at once"
use "tidewreck.kam" seed 17
clients ana, bo
set Dive.phase = dive
ana asks Diver.paint(kelp)
wait 3 ticks
expect bo sees ana.Diver.tint == kelp
drill "never lost"
use "tidewreck.kam" seed 18
clients ana, bo
repeat 20 {
  set ana.Diver.score = ana.Diver.score + 1
  wait 2 ticks
}
wait 1 tick
expect bo sees ana.Diver.score == 20
`)
	for _, d := range drills {
		assert.True(t, played(t, d, Options{}).Passed)
		r, err := d.Shake(context.Background(), 1, 50, Options{}, nil)
		require.NoError(t, err)
		require.False(t, r.Passed, d.Name)
		assert.LessOrEqual(t, len(r.Shaken.Faults), 3, "%v", r.Shaken.Faults)
		words := []string{}
		for _, f := range r.Shaken.Faults {
			words = append(words, f.String())
		}
		again := &Shaking{Seed: r.Shaken.Seed}
		for _, word := range words { // as the printed line has it
			f, err := ParseFault(word)
			require.NoError(t, err)
			again.Faults = append(again.Faults, f)
		}
		for range 100 {
			s := played(t, d, Options{Shaken: again})
			require.False(t, s.Passed)
			require.Equal(t, r.Failure.Message, s.Failure.Message)
		}
	}
	for _, wrong := range []string{
		"ana", "ana delay", "ana delay x", "ana wind 3s", "ana loss 99%", "ana stall 3s", "ana delay -1s",
	} {
		_, err := ParseFault(wrong)
		assert.ErrorContains(t, err, "read the fault", wrong)
	}
}

// Faults are planted into the engine, between it and one client, and into the contract: each is found by Tidewreck's
// drills, with the tick.
func TestPlantedFaultsAreFound(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join(demo, "tidewreck.kam"))
	require.NoError(t, err)
	found := 0
	faults := planted.Faults()
	for _, f := range faults {
		o := Options{Tamper: f.Tamper}
		other := map[string]string{}
		if f.From != "" {
			text := strings.Replace(string(raw), f.From, f.To, 1)
			require.NotEqual(t, string(raw), text, f.Name)
			other["tidewreck.kam"] = text
		}
		told := ""
		for _, d := range tidewreck(t, other) {
			r, err := d.Run(context.Background(), o)
			require.NoError(t, err)
			if !r.Passed && (f.Says == "" || strings.Contains(r.Failure.Message+r.Failure.Text, f.Says)) {
				told = r.Failure.Message
				assert.Positive(t, r.Failure.Tick)
				break
			}
		}
		if assert.NotEmpty(t, told, f.Name) {
			found++
			t.Logf("%s: %s", f.Name, told)
		}
	}
	t.Logf("%d of %d planted faults are found", found, len(faults))
}

// What a drill does over its link takes the time that the link takes.
func TestLinksTakeTheirTime(t *testing.T) {
	r := played(
		t,
		load(
			t,
			"drill \"d\"\nuse \"tidewreck.kam\" seed 5\nlink bo delay 500ms\nclients ana, bo\n"+
				"set ana.Diver.score = 3\nwait at most 20 ticks until ana sees ana.Diver.score == 3\n"+
				"wait at most 20 ticks until bo sees ana.Diver.score == 3\n",
		)[0],
		Options{},
	)
	require.True(t, r.Passed, "%+v", r.Failure)
	assert.Equal(t, []int64{1, 10}, r.Took)
	assert.Greater(t, r.Virtual, time.Second)
}

func FuzzParseDrills(f *testing.F) {
	names, _ := filepath.Glob(filepath.Join(demo, "*.drill"))
	for _, name := range names {
		raw, _ := os.ReadFile(name)
		f.Add(string(raw))
	}
	f.Fuzz(func(t *testing.T, text string) {
		src := syntax.NewSource("fuzz.drill", text)
		_, problems := syntax.ParseDrills(src)
		if len(problems) > 0 {
			return
		}
		laid, problems := syntax.FormatDrills(src)
		require.Empty(t, problems)
		again, problems := syntax.FormatDrills(syntax.NewSource("fuzz.drill", laid))
		require.Empty(t, problems, laid)
		require.Equal(t, laid, again)
	})
}

// Whatever an expression says, it is evaluated or refused, on the server's sheet and on a client's copy.
func FuzzExpressions(f *testing.F) {
	const contractText = `contract wreck language 1
enum Item { flare, patch }
entity Diver per player {
  pos: vec2 -9..9 step 0.1
  lit: int 0..9 = 3
  bag: list<int 0..9> max 3
  near: ref Diver
}
`
	for _, x := range []string{
		"roll(-9223372036854775807..9223372036854775807)", "9223372036854775807 + 1", "-7 % 2 / 0", "1.5 * 2 - 3",
		"vec(1, 2) * 3 == vec(3, 6)", "distance(ana.Diver.pos, vec(0, 0))", "length(vec(1, 2, 3))", "abs(-3)",
		"count(d in Diver where d.lit > 1)", "most(d in Diver: d.lit)", "sum(c in clients: c.number)",
		"Diver[2].lit", "ana.Diver.bag[0]", "ana.Diver.bag.has(3)", "exists(ana.Diver.near.near)", "now() < 5s",
		"one(d in Diver).owner.role == player", "not true and patch == Item.flare", "[1, [patch, \"x\"]] != nothing",
		"first(d in Diver else nothing)", "count(Diver) + count(clients)", "all(d in Diver: any(e in Diver where e == d))",
	} {
		f.Add(x)
	}
	f.Fuzz(func(t *testing.T, x string) {
		if strings.ContainsAny(x, "\n;") {
			return // one expression, not more lines
		}
		text := "drill \"it\"\nuse \"wreck.kam\"\nclients ana, bo\nexpect everyone sees " + x + "\n"
		drills, _ := Load("it.drill", text, beside(map[string]string{"wreck.kam": contractText}))
		for _, d := range drills {
			_, err := d.Run(context.Background(), Options{})
			require.NoError(t, err)
		}
	})
}

// What stands in drills that are written from play: the Nth of a kind, joins that nothing waits for, presses without
// renewal, and numbers that are left out.
func TestLinesOfWrittenDrills(t *testing.T) {
	const contractText = `contract wreck language 1
entity Diver per player {
  lit: int 0..9 = 0
  hold grip lease 1s
  request light(l: ref Lamp) check l != nothing else deny "no lamp" { l.lit += 1 }
  request drop() { spawn Lamp { place = lit } }
  request end_it(l: ref Lamp) check l != nothing else deny "no lamp" { despawn l }
}
entity Lamp { place: int 0..9; lit: int 0..9 = 0 }
`
	head := "drill \"it\"\nuse \"wreck.kam\"\n"
	run := func(text string) *Result {
		drills, problems := Load("it.drill", head+text, beside(map[string]string{"wreck.kam": contractText}))
		require.Empty(t, problems)
		return played(t, drills[0], Options{})
	}
	for text, message := range map[string]string{
		"clients ana\nana asks Diver.drop()\nana asks Diver.drop()\nwait 1 tick\n" +
			"ana asks Diver.light(Lamp[2]) -> accepted\nsettle\nexpect ana sees Lamp[2].lit == 1 and Lamp[1].lit == 0": "",
		"clients ana\nana asks Diver.drop()\nwait 1 tick\nana asks Diver.end_it(Lamp[1])\nwait 1 tick\n" +
			"ana asks Diver.light(Lamp[1])": "does not have Lamp[1]",
		"clients ana\nexpect ana sees Lamp[0].lit == 0":                                                                  "they count from 1",
		"join ana meanwhile\njoin bo meanwhile\nwait 1 tick\nexpect server sees count(c in clients) == 2":                "",
		"join ana meanwhile\nexpect server sees ana.Diver.lit == 0":                                                      "does not have",
		"clients ana\nana presses Diver.grip\nwait 2s\nsettle\nexpect server sees not ana.Diver.grip":                    "",
		"clients ana\nana holds Diver.grip\nwait 2s\nexpect server sees ana.Diver.grip\nana releases Diver.grip\nsettle": "",
		"clients ana\nana presses Diver.grip\nrepeat 4 { wait 500ms; ana renews Diver.grip }\n" +
			"expect server sees ana.Diver.grip": "",
		"clients ana\nana renews Diver.grip": "does not hold",
		"clients ana\nana skips 20\nana asks Diver.drop() -> accepted\nsettle\nexpect server sees count(Lamp) == 1": "",
		// what arrived before it left is met
		"clients ana, bo\nana asks Diver.drop()\nleave ana\nsettle\nexpect bo sees count(Lamp) == 1": "",
	} {
		r := run(text)
		if message == "" {
			assert.True(t, r.Passed, "%s: %+v", text, r.Failure)
		} else if assert.NotNil(t, r.Failure, text) {
			assert.Contains(t, r.Failure.Message, message, text)
		}
	}
}
