package drill

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// compared has properties of all types that an expectation compares.
const compared = `contract shelf language 1
enum Item { flare, patch }
enum Shade { dark, pale }
type Mark { at: real 0..9 step 0.5, who: ref Diver }
event rung(at: real 0..9 step 0.5)
entity Diver per player {
  hull: int 0..100 = 5
  depth: real 0..9 step 0.5 = 0.5
  item: Item = patch
  word: text max 9 = "patch"
  ready: bool
  pos: vec2 -9..9 step 0.5 = vec(1, 1)
  height: vec3 -9..9 step 0.5
  marks: list<real 0..9 step 0.5> max 3 = [0.5]
  fine: list<real 0..9 step 0.25> max 3 = [0.25]
  numbers: list<int 0..9> max 3
  items: list<Item> max 3
  shades: list<Shade> max 3
  mark: Mark = Mark(at = 0.5, who = nothing)
  bag: stacks<Item> max 2 each 5
  friend: ref Diver
  friends: list<ref Diver> max 3
  whom: client
  depths: map<Item, real 0..9 step 0.5> max 2
  made: kind of [Crate, Sled] = Sled
  event used(n: int 0..9)
  request knock() from owner limit 9 per second { tell everyone first(c in Crate).used(3) }
  request cheat() from owner check hull > 200 else expel "a cheat" {}
  request ring() -> real 0..9 step 0.5 from owner limit 9 per second { tell everyone rung(depth); reply depth }
  request join(by: ref Diver) from owner limit 9 per second { friend = by; friends.put(by) }
  request lose() from owner limit 9 per second { despawn first(c in Crate) }
}
entity Crate { event used(n: int 0..9); by: ref Crate; all: list<ref Crate> max 2; at: Spot = Spot(who = nothing) }
entity Sled { load: int 0..9 }
type Spot { who: ref Crate }
shared Dock { on start { let c = spawn Crate { by = nothing }; let d = spawn Crate { by = c; at = Spot(who = c) }; d.all.put(c) } }
`

// A line that compares passes when it is true and not otherwise: nothing is rounded to the steps of the other side, and
// what has nothing in common with it cannot be compared, so that `!=` does not hold for it either.
func TestComparisonsAreTrueOrFail(t *testing.T) {
	const (
		differs  = "sees it otherwise"
		mixed    = "cannot be compared"
		unfit    = " is no "
		neither  = "neither true nor false"
		notThere = "has nothing at"
	)
	for line, wrong := range map[string]string{
		`ana.Diver.depth == 0.52`:                                               differs,
		`ana.Diver.marks == [0.5]`:                                              "",
		`ana.Diver.marks == [0.52]`:                                             differs,
		`ana.Diver.marks != [0.52]`:                                             "",
		`ana.Diver.marks.has(0.5)`:                                              "",
		`ana.Diver.marks.has(0.52)`:                                             differs,
		`ana.Diver.marks.find(0.52) == 0`:                                       differs,
		`ana.Diver.marks.count(0.52) == 1`:                                      differs,
		`ana.Diver.marks == ana.Diver.fine`:                                     differs,
		`ana.Diver.marks != ana.Diver.fine`:                                     "",
		`ana.Diver.mark == Mark(at = 0.5, who = nothing)`:                       "",
		`ana.Diver.mark == Mark(at = 0.52, who = nothing)`:                      differs,
		`ana.Diver.mark == bo.Diver.mark`:                                       "",
		`ana.Diver.depths[patch] == 0.5`:                                        notThere,
		`ana.Diver.depths[flare] == 0.5 and ana.Diver.depths == [[flare, 0.5]]`: "",
		`ana.Diver.depths == [[flare, 0.52]]`:                                   differs,
		`ana.Diver.bag == [[flare, 2]] and ana.Diver.bag.has(flare, 2)`:         "",
		`ana.Diver.bag.count(flare, 3) == 2`:                                    "with 2 values",
		`ana.Diver.marks.find(0.5, 1) == 0`:                                     "with 2 values",
		`ana.Diver.item != "flare"`:                                             mixed,
		`ana.Diver.item != 3`:                                                   mixed,
		`ana.Diver.item != Shade.dark`:                                          mixed,
		`ana.Diver.word != Item.patch`:                                          mixed,
		`ana.Diver.ready != "x"`:                                                mixed,
		`ana.Diver.ready != 1`:                                                  mixed,
		`ana.Diver.hull != nothing`:                                             mixed,
		`nothing != ana.Diver.pos`:                                              mixed,
		`ana.Diver.bag != nothing`:                                              mixed,
		`ana != ana.Diver`:                                                      mixed,
		`ana.Diver != ana`:                                                      mixed,
		`ana != 1`:                                                              mixed,
		`ana.Diver.pos != vec(1, 1, 1)`:                                         mixed,
		`ana.Diver.height != ana.Diver.pos`:                                     mixed,
		`ana.Diver.numbers != ["x"]`:                                            unfit,
		`ana.Diver.numbers != [1, "x"]`:                                         unfit,
		`ana.Diver.items != ana.Diver.numbers`:                                  mixed,
		`ana.Diver.items != ana.Diver.shades`:                                   mixed,
		`ana.Diver.items != [flare]`:                                            "",
		`ana.Diver.marks != 0.5`:                                                mixed,
		`ana.role == player and ana.role != "referee"`:                          "",
		`ana.role != 3`:                                                         mixed,
		`ana.Diver.friend == nothing and ana.Diver.whom == nothing`:             "",
		`ana.Diver.whom != ana and ana.Diver != bo.Diver`:                       "",
		`ana.Diver.made == Sled and ana.Diver.made != Crate`:                    "",
		`ana.Diver.made == Crate`:                                               differs,
		`count(d in Diver where d.hull) == 0`:                                   neither,
		`not (true and 3)`:                                                      neither,
		`exists(3)`:                                                             "no entity or client",
		`exists(ana.Diver) and not exists(ana.Diver.friend)`:                    "",
	} {
		for _, who := range []string{"server", "bo"} {
			text := "drill \"it\"\nuse \"shelf.kam\"\nclients ana, bo\nset ana.Diver.bag = [[flare, 2]]\n" +
				"set ana.Diver.depths = [[flare, 0.5]]\nwait 3 ticks\nexpect " + who + " sees " + line + "\n"
			requireOutcome(t, text, wrong)
		}
	}
}

// What a client was told, what it noticed and what it was replied are not rounded either, and a ref is that one.
func TestWhatWasToldIsNotRounded(t *testing.T) {
	const head = "drill \"it\"\nuse \"shelf.kam\"\nclients ana, bo, cleo\n"
	for lines, wrong := range map[string]string{
		"ana asks Diver.ring() -> accepted 0.5\nsettle\nexpect bo heard 1 rung(0.5)\n":  "",
		"ana asks Diver.ring() -> accepted 0.52\n":                                      "it replied 0.5, not 0.52",
		"ana asks Diver.ring() -> accepted\nsettle\nexpect bo heard rung(0.52)\n":       "bo did not hear rung",
		"ana asks Diver.ring() -> accepted\nsettle\nexpect bo did not hear rung(0.5)\n": "heard rung 1 times",
		"ana asks Diver.join(bo.Diver) -> accepted\nsettle\n" +
			"expect cleo noticed ana.Diver.friend from nothing to bo.Diver\n": "",
		"ana asks Diver.join(bo.Diver) -> accepted\nsettle\n" +
			"expect cleo noticed ana.Diver.friend from nothing to cleo.Diver\n": "noticed friend from nothing to",
		"set ana.Diver.hull = 6\nwait 3 ticks\nexpect bo noticed ana.Diver.hull from 5 to \"x\"\n": "cannot be compared",
		"set ana.Diver.fine = [0.5]\nwait 3 ticks\n" +
			"expect bo noticed ana.Diver.fine from [0.25] to [0.52]\n": "noticed fine from",
	} {
		requireOutcome(t, head+lines, wrong)
	}
}

// What is expected of nobody, of who is out, or of what the kind does not have, cannot be told, and fails.
func TestWhatCannotBeToldFails(t *testing.T) {
	const head = "drill \"it\"\nuse \"shelf.kam\"\nclients ana, bo, cleo\n"
	const expelled = "ana asks Diver.cheat()\nsettle\nexpect ana is expelled\n"
	for lines, wrong := range map[string]string{
		"leave ana\nleave bo\nwait 3 ticks\nexpect everyone sees count(clients) == 1\n": "",
		"leave ana\nleave bo\nleave cleo\nexpect everyone sees count(clients) == 9\n":   "nobody is connected",
		"leave ana\nleave bo\nleave cleo\nexpect everyone does not see Dock\n":          "nobody is connected",
		"cut ana\ncut bo\ncut cleo\nexpect everyone in step\n":                          "nobody is connected",
		"expect bo in step\n":           "",
		"cut bo\nexpect bo in step\n":   "whether bo is in step cannot be told: its connection is cut",
		expelled:                        "",
		expelled + "expect ana in step": "whether ana is in step cannot be told",
		"link bo delay 200ms\nset ana.Diver.hull = 7\nwait 1 tick\nexpect bo in step\n":                         "more is on its way",
		"link bo delay 200ms\nset ana.Diver.hull = 7\nwait 1 tick\nwait at most 1s until bo in step\n":          "",
		expelled + "expect ana has 0 strikes":                                                                   "ana is out",
		expelled + "expect ana does not see Sled":                                                               "ana is out",
		"expect bo does not see Sled\n":                                                                         "",
		"expect bo does not see ana.Diver.load\n":                                                               "Diver has no property `load`",
		"expect server sees count(d in Diver where d.load > 3) == 0\n":                                          "Diver has no property `load`",
		"ana asks Diver.knock() -> accepted\nsettle\nexpect bo heard 1 Crate.used(3)\nexpect bo heard 1 used\n": "",
		"ana asks Diver.knock() -> accepted\nsettle\nexpect bo did not hear Diver.used(3)\n":                    "",
		"ana asks Diver.knock() -> accepted\nsettle\nexpect bo heard Diver.used(3)\n":                           "did not hear used",
	} {
		requireOutcome(t, head+lines, wrong)
	}
	_, problems := Load("it.drill", head+"expect bo heard used(3)\n", beside(map[string]string{"shelf.kam": compared}))
	require.ErrorContains(t, problems, "`used` is an event of Diver.used and of Crate.used")
}

// A ref to what is gone is nothing, in a list and in a record as well.
func TestWhatIsGoneIsNothingInside(t *testing.T) {
	const text = "drill \"it\"\nuse \"shelf.kam\"\nclients ana\nlet d = Crate[2]\n" +
		"expect server sees d.by != nothing and d.all != [nothing] and d.at != Spot(who = nothing)\n" +
		"ana asks Diver.lose() -> accepted\nsettle\n" +
		"expect everyone sees d.by == nothing and d.all == [nothing] and d.at == Spot(who = nothing)\n"
	requireOutcome(t, text, "")
}

// requireOutcome plays a drill over `compared`, which has to pass or to fail with words.
func requireOutcome(t *testing.T, text, wrong string) {
	drills, problems := Load("it.drill", text, beside(map[string]string{"shelf.kam": compared}))
	require.Empty(t, problems, text)
	r := played(t, drills[0], Options{})
	if wrong == "" {
		if !r.Passed {
			assert.Fail(t, r.Failure.Message, text)
		}
		return
	}
	if assert.False(t, r.Passed, text) {
		assert.Contains(t, r.Failure.Message, wrong, text)
	}
}
