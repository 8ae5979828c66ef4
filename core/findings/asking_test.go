package findings_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/report"
	"kamerad.example/internal/tests/contracts"
)

// pairs are contracts in two forms that differ in one part, @: of the first nothing is said that has the words of want,
// of the second it is.
var pairs = []struct{ name, text, good, bad, want string }{
	{
		name: "has(x, n) is asked before so much is taken",
		text: "entity Diver per player { seen: int 0..9 = 0 clamped; items: stacks<Item> max 4 each 9 to nobody\n" +
			"request stow() { items.put(oak, clip(2, 0..items.room(oak))); if reveal(items.has(oak, 3)) { seen += " +
			"1; items.take(oak, @) } } }",
		good: "3", bad: "4", want: "whether this fails",
	},
	{
		name: "room(x) is asked before so much is put",
		text: "entity Diver per player { seen: int 0..9 = 0 clamped; items: stacks<Item> max 4 each 9 to nobody\n" +
			"request stow(n: int 1..5) { if reveal(items.room(oak) >= n) { seen += 1; items.put(oak, @) } else { " +
			"items.clear() } } }",
		good: "n", bad: "n + 1", want: "whether this fails",
	},
	{
		name: "count() is asked before a cut",
		text: "entity Diver per player { seen: int 0..9 = 0 clamped; list: list<int 0..9> max 4 to nobody\n" +
			"request fill() { if list.room() > 0 { list.put(1) } else { list.clear() } }\n" +
			"request drop() { if reveal(list.count() > 0) { seen += 1; list.cut(@) } } }",
		good: "0", bad: "1", want: "whether this fails",
	},
	{
		name: "a timer that runs while there is room keeps to it",
		text: "entity Diver per player { seen: int 0..9 = 0 clamped; made: int 0..9 = 0 to nobody; request look() { " +
			"seen += 1; made = 0 }\n" +
			"every 1s while reveal(made < @) { made += 1; seen += 1 } }",
		good: "5", bad: "15", want: "whether this fails",
	},
	{
		name: "who asks may read what goes to such as them",
		text: "entity Diver per player { seen: int 0..9 = 0 clamped; request see() { seen += 1 } }\n" +
			"shared Dock { aim: int 0..9 = 0 clamped to gunner; on start { }\n" +
			"request turn() from @ limit 1 per second check aim < 9 else deny \"there\" { aim += 1 } }",
		good: "gunner", bad: "player", want: "depends on `Dock.aim`",
	},
	{
		name: "an audience may stand in the kind's own refs",
		text: "entity Diver per player { n: int 0..9 = 0 clamped; request knock() { n += 1 } }\n" +
			"audience two(d: Deal) = viewer == d.a.owner or viewer == d.b.owner\n" +
			"shared Dock { on start { for d in Diver { spawn Deal { a = d; b = d } } } }\n" +
			"entity Deal to two(self) { a: ref Diver once; b: ref Diver once; agreed: bool = false\n" +
			" request agree() from two(self) check caller == a.owner or caller == b.owner else deny \"no\" { agreed " +
			"= not agreed@ } }\nevent dealt(by: client)",
		good: "", bad: "; tell everyone dealt(a.owner)", want: "shows in the event",
	},
	{
		name: "a value that stands in its own audience tells by not coming",
		text: "audience alike(d: Diver) = viewer.Diver.n == d.n\n" +
			"entity Diver per player { n: int 0..9 = 0 clamped to @; m: int 0..9 = 0 clamped to alike(self); " +
			"request up() { n += 1; m += 1 } }",
		good: "everyone", bad: "alike(self)", want: "whether somebody is in `alike` depends on `Diver.n`",
	},
	{
		name: "two accepts above one declaration both count",
		text: "shared Dock { n: int 0..9 = 0 clamped to nobody; m: int 0..9 = 0 clamped\n" +
			"@request turn() from player { m = n; n += 1 } }",
		good: "accept unguarded \"it is\"\naccept unlimited \"it is\"\naccept leak \"it is\"\n",
		bad:  "accept unguarded \"it is\"\naccept leak \"it is\"\n", want: "unlimited",
	},
	{
		name: "an accept stands at its statement",
		text: "shared Dock { n: int 0..9 = 0 clamped to nobody; m: int 0..9 = 0 clamped\n" +
			"request turn() from player limit 1 per second check m < 9 else deny \"on\" {\n@m = n\n n += 1 } }",
		good: "accept leak \"they may\"\n", bad: "", want: "shows in `Dock.m`",
	},
	{
		name: "a list that shrinks is changed",
		text: "entity Diver per player { left: list<int 0..3> max 3 = [1, 2, 3]\n" +
			"request draw() check left.count() > 0 else deny \"none\" { @ } }",
		good: "left.cut(0)", bad: "log caller \"{left[0]}\"", want: "ever changes `Diver.left`",
	},
	{
		name: "a body that sets back what it set does not shut itself",
		text: "entity Diver per player { on_deck: bool = false; event rung(); request ring() check not on_deck else " +
			"deny \"on\" { on_deck = true; tell everyone rung()@ }\nrequest rest() { on_deck = false } }",
		good: "", bad: "; on_deck = false", want: "as often as its owner likes",
	},
}

func TestWhatWasAskedIsKnown(t *testing.T) {
	for _, p := range pairs {
		for i, part := range []string{p.good, p.bad} {
			text := "contract dock language 1\nroles player, gunner, watcher\nenum Item { oak, tar }\n" + strings.Replace(
				p.text, "@", part, 1,
			) +
				"\nentity Gun per gunner { shots: int 0..9 = 9; kind_of: Item = tar; request fire() limit 2 per " +
				"second check shots > 0 else deny \"none\" { shots -= 1; kind_of = oak } }\n"
			got := strings.Join(contracts.Messages(t, text), "\n")
			assert.Equal(t, i == 1, strings.Contains(got, p.want), "%s, with %q:\n%s\n%s", p.name, part, got, text)
		}
	}
}

// One role may do nothing but watch; a second one is used by nothing. The matrix names who writes a property of a
// shared kind.
func TestWhoWatchesAndWhoWrites(t *testing.T) {
	const text = "contract dock language 1\nroles player, @\n" +
		"shared Turret { gunner: client = nothing; aim: int 0..360 = 0 set by gunner pace abs(new - old) 90 per " +
		"second burst 90; shots: int 0..9 = 0 clamped\n" +
		"request load_up() from player limit 1 per second check shots < 9 else deny \"full\" { shots += 1; gunner = " +
		"caller } }\n"
	assert.Empty(t, contracts.Messages(t, strings.Replace(text, "@", "watcher", 1)))
	messages := contracts.Messages(t, strings.Replace(text, "@", "watcher, referee", 1))
	assert.Contains(t, strings.Join(messages, "\n"), "the role `")
	c, _ := compile.Load("dock.kam", strings.Replace(text, "@", "watcher", 1))
	raw, err := json.Marshal(report.NewMatrix(c))
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"writer":"gunner"`)
}

// A check that speaks of what a `let` names is the server's: its text tells a client nothing.
func TestACheckOfAHeadsNameIsTheServers(t *testing.T) {
	c, problems := compile.Load(
		"dock.kam",
		"contract dock language 1\nroles player\nentity Ball { pos: vec2 -9..9 step 0.1 }\n"+
			"shared Dock { on start { spawn Ball { pos = vec(1, 1) } } }\n"+
			"entity Diver per player { n: int 0..9 = 0 clamped\nrequest kick()\n"+
			"let ball = first(b in Ball else nothing)\ncheck n < 9 else deny \"tired\"\n"+
			"check ball != nothing else deny \"no ball\"\n{ n += 1; despawn ball } }\n",
	)
	require.NotNil(t, c, problems.Error())
	assert.Equal(t, []string{"n < 9", ""}, c.Outline().Kind("Diver").Request("kick").Known)
}

// Messages say what would be right at the place that they are about, and nothing that is so already.
func TestMessagesSayWhatWouldBeRight(t *testing.T) {
	const begin = "contract dock language 1\nroles player\nenum Good { oak, tar }\n"
	for text, want := range map[string]string{
		"entity Diver per player { at: instant; request a() { at = now } }":                               "`now` is a function, and is called here without its values (write now())",
		"entity Diver per player { at: instant; request a() { if since(at) > 3s * 0.5 { at = now() } } }": "not 3s * 0.5",
		"entity Diver per player { n: int 0..9; request a() { for g in Good { n += 1 } } }": "to go over an enum " +
			"needs language 2 (`kamerad fmt --to 2` brings the contract there)",
		"entity Diver per player { n: int 0..9 = 0 clamped; s: int 0..9 = 3 clamped to nobody; request a() { n += " +
			"1; s = 9 / s } }": "ask first that what it is divided by is not 0",
		"entity Diver per player { n: int 0..9 = 0 clamped; s: int 0..9 = 3 to nobody; request a() { n += 1; s += 1 } }": "say `clamped` where it is declared",
		"entity Diver per player { n: int 0..9 = 0 clamped; s: list<int 0..9> max 3 to nobody; request a() { n += " +
			"1; s.put(1) } }": "ask for room first: room() > 0",
		"entity Diver per player { n: int 0..9 = 0 clamped; s: list<int 0..9> max 3 to nobody; request a() { n += " +
			"1; if s.room() > 0 { s.put(n + 1) } } }": "keep it in its range: clip(…)",
		"entity Diver per player { n: int 0..9 = 0 clamped; s: int 0..9 = 3 clamped to nobody\n" +
			" request a() let k = 9 / s check n < 9 else deny \"x\" { n += 1; s += 1 } }": "this `let` runs before " +
			"the checks below it",
	} {
		_, problems := compile.Load("dock.kam", begin+text+"\n")
		var got []string
		for _, p := range problems {
			got = append(got, p.Message+" ("+p.Hint+")")
		}
		assert.Contains(t, strings.Join(got, "\n"), want, text)
	}
}

// The drafts of five kinds of games, written before the checker was looked at, are warned of what is so, and of
// nothing else. Each of these was looked at: the leaks are leaks, and what is unused is not used. That of line 13 of
// saboteur.kam is by what does not come: a saboteur who is not told somebody's side knows that it is the other one.
// One may be argued about: a Body comes of each diver who is thrown out, of whom there are no more than seats.
func TestFirstDraftsAreWarnedOfWhatIsSo(t *testing.T) {
	files, err := filepath.Glob("../compile/testdata/drafts/*.kam")
	require.NoError(t, err)
	require.Len(t, files, 5)
	warned := map[string]string{}
	for _, file := range files {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		c, problems := compile.Load(file, string(raw))
		require.NotNil(t, c, problems.Error())
		var list []string
		for _, p := range problems {
			list = append(list, fmt.Sprintf("%d %s", p.Line, p.Code))
		}
		warned[filepath.Base(file)] = strings.Join(list, ", ")
	}
	assert.Equal(t, map[string]string{
		"ballast.kam":  "83 leak",
		"reefline.kam": "14 unused, 49 leak, 88 leak, 89 leak, 90 leak, 98 leak, 99 leak, 100 leak, 101 leak",
		"saboteur.kam": "13 leak, 16 unused, 24 unused, 46 leak, 47 leak, 55 leak, 56 leak, 90 leak, 97 leak, 101 " +
			"unbounded, 135 unused",
		"sealed.kam": "11 unused, 50 leak, 51 leak, 58 leak, 60 leak, 61 leak, 64 leak, 70 leak, 71 leak, 73 leak, " +
			"99 leak",
		"sledrun.kam": "113 leak",
	}, warned)
}
