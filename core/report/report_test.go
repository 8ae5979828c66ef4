package report_test

import (
	"encoding/json"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/report"
	"kamerad.example/internal/tests/contracts"
)

func loaded(t *testing.T, text string) *contract.Contract {
	c, problems := compile.Load("wreck.kam", "contract wreck language 1\n"+text)
	require.NotNil(t, c, problems.Error())
	return c
}

// The outline holds nothing that only the server has: no property or kind to nobody, no constant, no body, no check
// that reads what its caller may not see.
func TestTheOutlineHoldsNoSecret(t *testing.T) {
	c := contracts.Tidewreck(t, "../..")
	raw, err := json.Marshal(c.Outline())
	require.NoError(t, err)
	text := string(raw)
	for _, k := range c.Kinds {
		if k.To == contract.Nobody {
			assert.NotContains(t, text, k.Name)
		}
		for _, p := range k.Properties {
			if p.To == contract.Nobody {
				assert.Nil(t, c.Outline().Kind(k.Name).Property(p.Name))
				assert.NotRegexp(t, `\b`+p.Name+`\b[^"]*(==|<|>|has\()`, text)
			}
		}
	}
	source := c.Source.Text
	for _, m := range regexp.MustCompile(`(?m)^const (\w+)`).FindAllStringSubmatch(source, -1) {
		assert.NotRegexp(t, `\b`+m[1]+`\b`, text, "a constant")
	}
	for _, secret := range []string{
		"an echo", "What comes back", "Mind the eels", "satchel.take", "wreck.json", "shuffled", "reveal",
	} {
		require.Contains(t, source, secret)
		assert.NotContains(t, text, secret)
	}
	use := c.Outline().Kind("Diver").Request("use")
	assert.Equal(
		t, []string{"Dive.phase == dive", "satchel.has(item)"}, use.Known, "what the caller sees it may check itself",
	)
	assert.Equal(
		t, []string{"Dive.phase == dive", ""}, c.Outline().Kind("Diver").Request("search").Known,
		"`search_costs` is a constant",
	)
	assert.Equal(t, []string{"Dive.phase == dive", ""}, c.Outline().Kind("Strongbox").Request("guess").Known)
}

func TestTheMatrixSaysWhoHasWhat(t *testing.T) {
	m := report.NewMatrix(contracts.Tidewreck(t, "../.."))
	viewers := map[string]int{}
	for i, v := range m.Viewers {
		viewers[v.Name] = i
	}
	property := func(name string) report.MatrixProperty {
		for _, p := range m.Properties {
			if p.Name == name {
				return p
			}
		}
		t.Fatalf("no %s", name)
		return report.MatrixProperty{}
	}
	request := func(name string) report.MatrixRequest {
		for _, r := range m.Requests {
			if r.Name == name {
				return r
			}
		}
		t.Fatalf("no %s", name)
		return report.MatrixRequest{}
	}
	for _, x := range []struct {
		name   string
		access []report.Access
		want   map[string]report.Access
	}{
		{"air", property("Diver.air").Access, map[string]report.Access{
			"owner":     report.Always,
			"player":    report.Sometimes,
			"spectator": report.Never,
			"referee":   report.Never,
			"mates":     report.Unrelated,
		}},
		{"hull", property("Diver.hull").Access, map[string]report.Access{
			"owner":   report.Always,
			"player":  report.Always,
			"referee": report.Always,
			"near":    report.Always,
		}},
		{
			"finds", property("Diver.finds").Access,
			map[string]report.Access{"owner": report.Never, "player": report.Never, "mates": report.Never},
		},
		{"an eel's hull", property("Eel.hull").Access, map[string]report.Access{
			"owner":     report.Never,
			"player":    report.Sometimes,
			"spectator": report.Always,
			"near":      report.Always,
			"told":      report.Unrelated,
		}},
		{
			"the answer", property("Strongbox.answer").Access,
			map[string]report.Access{"player": report.Sometimes, "told": report.Always},
		},
		{
			"use", request("Diver.use").Access,
			map[string]report.Access{"owner": report.Always, "player": report.Sometimes, "spectator": report.Never},
		},
		{
			"end_dive", request("Dive.end_dive").Access,
			map[string]report.Access{"player": report.Never, "referee": report.Always, "spectator": report.Never},
		},
		{
			"turn", request("Winch.turn").Access,
			map[string]report.Access{"owner": report.Always, "player": report.Sometimes},
		},
	} {
		for viewer, want := range x.want {
			assert.Equal(t, want, x.access[viewers[viewer]], "%s for %s", x.name, viewer)
		}
	}
	assert.Equal(
		t,
		[]string{
			"Diver.search", "Diver.use", "every 100ms of Diver", "every 250ms of Diver", "on change hull of Diver",
		},
		property("Diver.air").By,
	)
	assert.Equal(t, "owner", property("Diver.pos").Writer)
	assert.Equal(
		t, "pace distance(old, new) 8 per second burst 2 when not crosses(line(old, new), walls)",
		property("Diver.pos").Within,
	)
	use := request("Diver.use")
	assert.Equal(
		t, []string{"Diver.air", "Diver.hull", "Diver.pos", "Diver.satchel", "Diver.score"}, use.Changes,
		"also by what it sets off",
	)
	assert.Equal(t, []string{"Diver.surfaced to mates", "Diver.used to everyone"}, use.Tells)
	assert.Equal(
		t, []string{"pick == answer", "pick == answer", "tried.room() > 0 and not tried.has(caller)"},
		sorted(request("Strongbox.guess").Reveals),
	)
	assert.Equal(t, []string{"spawns Crate"}, request("Dive.drop_crate").Does)
	for _, r := range m.Reveals {
		assert.NotEmpty(t, r.Of, "%s tells of something", r.Text)
		assert.Contains(t, contracts.Tidewreck(t, "../..").Source.Line(r.Line), "reveal(")
	}
}

func sorted(list []string) []string {
	for i := range list {
		for j := range i {
			if list[i] < list[j] {
				list[i], list[j] = list[j], list[i]
			}
		}
	}
	return list
}

func TestCostsFollowTheRanges(t *testing.T) {
	c := loaded(t, `enum Item { flare, patch, relic }
type Place = vec2 -200..200 step 0.01
type Mark { at: Place, worth: int 0..99 }
entity Diver per player {
  yes:     bool = false
  one:     int 7..7
  hull:    int 0..100 = 100 clamped
  low:     int -1..0
  air:     real 0..100 step 0.5 = 100
  pos:     Place
  item:    Item
  words:   text max 10
  satchel: stacks<Item> max 6 each 5
  marks:   list<Mark> max 3
  hidden:  int 0..100 = 0 to nobody
  mine:    int 0..100 = 0 to owner
}
entity Eel { pos: Place }
`)
	cost, err := report.NewCost(c, 4, map[string]int{"Eel": 3})
	require.NoError(t, err)
	most := map[string]int{}
	for _, p := range cost.Properties {
		most[strings.TrimPrefix(p.Name, "Diver.")] = p.Most
		assert.LessOrEqual(t, p.Typical, p.Most, p.Name)
	}
	assert.Equal(t, map[string]int{
		"yes": 1, "one": 0, "hull": 7 + 12, "low": 1 + 2, "air": 8 + 12, "pos": 2 * (16 + 12), "item": 2,
		"words": 13 + 320, "satchel": 3 + 6*(2+3), "marks": 2 + 3*(32+7), "hidden": 0, "mine": 7 + 12,
		"Eel.pos": 2 * (16 + 12),
	}, most)
	more, err := report.NewCost(c, 8, map[string]int{"Eel": 30})
	require.NoError(t, err)
	assert.Greater(t, more.Snapshot, cost.Snapshot)
	assert.Greater(t, more.Most, cost.Most)
	for _, wrong := range []struct {
		clients  int
		entities map[string]int
		want     string
	}{
		{
			0, nil, "0 clients; from 1 to 1000",
		}, {
			1, map[string]int{"Pearl": 1}, `no kind "Pearl"`,
		}, {
			1, map[string]int{"Eel": -1}, "-1 entities of Eel",
		}, {2, map[string]int{"Diver": 3}, "one for each client at most"},
	} {
		_, err := report.NewCost(c, wrong.clients, wrong.entities)
		assert.ErrorContains(t, err, wrong.want)
	}
}

func TestVersionsAreCompared(t *testing.T) {
	before := `roles player, referee
const power = 3
setting most: int 0..9 = 3
fn twice(n: int) -> int = n * 2
type Mark { n: int 0..5 }
enum Item { flare, patch }
shared Dive { round: int 0..9 = 0; request next() from referee check round < 9 else deny "over" { round += 1 } }
entity Diver per player {
  hull: int 0..100 = 100 clamped
  tint: int 0..5 = 0
  gone: int 0..5 = 0
  item: Item = flare to owner
  pos:  vec2 -9..9 step 0.1 set by owner pace distance(old, new) 8 per second
  event hurt(by: int 0..9)
  request paint(n: int 0..5) limit 2 per second { tint = n; gone = n; item = patch }
  request bump() { hull -= 1; tell owner hurt(1) }
  mark: Mark = Mark(n = 1)
  vel: vec2 -9..9 step 0.1
  drift: vec2 -9..9 step 0.1
  drifts: vec2 -9..9 step 0.1 follows vel
  hold still lease 1s
  action turn() { tint = 2 }
  on spawn { tint = 1 }
  every 1s { hull -= twice(power) + most; do turn() }
}
`
	a := loaded(t, before)
	same := report.Compare(a, loaded(t, strings.ReplaceAll(before, "  hull:", "  // a remark\n  hull:  ")))
	assert.Equal(t, &report.Comparison{
		Changes:   []report.Difference{},
		TakesOver: true,
		Blocks:    []string{},
		Stay:      true,
		Lose:      []string{},
	}, same, "remarks are no change")

	for _, x := range []struct {
		old, new string
		want     string // what, name, how and aspect of all changes
		blocks   string
		lose     string
	}{
		{
			"tint: int 0..5 = 0\n", "shade: int 0..5 = 0 was tint\n",
			"property Diver.shade renamed; request Diver.paint changed body; " +
				"handler on spawn of Diver changed body; action Diver.turn changed body", "", "Diver.tint",
		},
		{
			"  gone: int 0..5 = 0\n", "", "property Diver.gone removed; request Diver.paint changed body", "",
			"Diver.gone",
		},
		{"hull: int 0..100", "hull: int 0..200", "property Diver.hull changed type", "", "Diver.hull"},
		{"= flare to owner", "= flare", "property Diver.item changed audience", "", "Diver.item"},
		{"= flare to owner", "= patch to owner", "property Diver.item changed default", "", ""},
		{"8 per second }", "9 per second }", "", "", ""},
		{"distance(old, new) 8", "distance(old, new) 9", "property Diver.pos changed rule", "", ""},
		{"enum Item { flare, patch }", "enum Item { flare, patch, relic }", "enum Item.relic added", "", "Diver.item"},
		{"limit 2 per second", "limit 3 per second", "request Diver.paint changed limit", "", "Diver.paint"},
		{`check round < 9`, `check round < 8`, "request Dive.next changed checks", "", "Dive.next"},
		{"{ hull -= 1; tell", "{ hull -= 2; tell", "request Diver.bump changed body", "", ""},
		{"hurt(by: int 0..9)", "hurt(by: int 0..5)", "event Diver.hurt changed arguments", "", "Diver.hurt"},
		{
			"paint(n: int 0..5)", "paint(n: int 0..5, m: bool)", "request Diver.paint changed arguments", "",
			"Diver.paint",
		},
		{
			"roles player, referee", "tick 30 per second\nroles player, referee",
			"header tick changed ticks per second", "ticks per second", "the number of ticks per second",
		},
		{"roles player, referee", "roles player, judge, referee", "role judge added", "", ""},
		{
			"entity Diver per player {", "entity Diver per referee {", "kind Diver changed sort",
			"`Diver` was per player and is per referee", "Diver",
		},
		{"roles player", "seats 9\nroles player", "header seats changed seats", "", ""},
		{"roles player", "seats 64 grace 10s\nroles player", "header seats changed grace", "", ""},
		{"roles player, referee", "roles referee, player", "header roles changed order", "", ""},
		{"{ flare, patch }", "{ patch, flare }", "enum Item changed order", "", "Diver.item"},
		{"power = 3", "power = 4", "constant power changed value", "", ""},
		{"n * 2", "n * 3", "function twice changed value", "", ""},
		{"most: int 0..9 = 3", "most: int 0..9 = 4", "setting most changed default", "", ""},
		{"Mark { n: int 0..5 }", "Mark { n: int 0..6 }", "type Mark changed value", "", "Diver.mark"},
		{"every 1s", "every 2s", "kind Diver changed timers", "", ""},
		{"on spawn { tint = 1 }", "on spawn { tint = 2 }", "handler on spawn of Diver changed body", "", ""},
		{"on spawn { tint = 1 }\n", "", "handler on spawn of Diver changed body", "", ""},
		{"action turn() { tint = 2 }", "action turn() { tint = 3 }", "action Diver.turn changed body", "", ""},
		{"hold still lease 1s", "hold still lease 1s when hull > 0", "property Diver.still changed rule", "", ""},
		{"follows vel", "follows drift", "property Diver.drifts changed clauses", "", "Diver.drifts"},
		{
			"limit 2 per second { tint = n;", "limit 3 per second { tint = 5;",
			"request Diver.paint changed limit; request Diver.paint changed body", "", "Diver.paint",
		},
		{
			"  vel: vec2 -9..9 step 0.1\n  drift: vec2 -9..9 step 0.1\n",
			"  drift: vec2 -9..9 step 0.1\n  vel: vec2 -9..9 step 0.1\n",
			"kind Diver changed text", "", "",
		},
		{"enum Item", "enum Other { one }\nenum Item", "enum Other added", "", ""},
	} {
		text := strings.Replace(before, x.old, x.new, 1)
		if strings.Contains(x.new, "shade") {
			text = strings.ReplaceAll(text, "{ tint = ", "{ shade = ")
		} else if strings.Contains(x.old, "gone") {
			text = strings.Replace(text, "gone = n; ", "", 1)
		}
		b, problems := compile.Load("wreck.kam", "contract wreck language 1\n"+text)
		require.NotNil(t, b, problems.Error())
		got := report.Compare(a, b)
		var words []string
		for _, d := range got.Changes {
			words = append(words, strings.TrimSpace(d.What+" "+d.Name+" "+string(d.How)+" "+d.Aspect))
		}
		assert.Equal(t, x.want, strings.Join(words, "; "), x.new)
		assert.Contains(t, strings.Join(got.Blocks, "; "), x.blocks, x.new)
		assert.Equal(t, x.blocks == "", got.TakesOver, x.new)
		assert.Equal(t, x.lose == "", got.Stay, x.new)
		assert.Contains(t, strings.Join(got.Lose, ", "), x.lose, x.new)
	}
}

// A client that reads a public constant or setting by its type loses it where that is another one, or public no more.
func TestWhatIsPublicIsCompared(t *testing.T) {
	const before = `contract wreck language 2
public const reach: int 0..9 = 2
public setting tide: int 0..9 = 3
entity Diver per player { n: int 0..9 = 0; request go() { n += 1 } }
`
	a, problems := compile.Load("wreck.kam", before)
	require.NotNil(t, a, problems.Error())
	for _, x := range []struct{ old, new, changes, lose string }{
		{"9 = 2", "9 = 3", "constant reach value", "the public constant reach"},
		{"9 = 3", "9 = 4", "setting tide default", ""},
		{"tide: int 0..9", "tide: int 0..8", "setting tide type", "the public setting tide"},
		{"public setting", "setting", "setting tide public", "the public setting tide"},
		{"entity", "public setting more: int 0..9 = 3\nentity", "setting more ", ""},
	} {
		b, problems := compile.Load("wreck.kam", strings.Replace(before, x.old, x.new, 1))
		require.NotNil(t, b, problems.Error())
		got := report.Compare(a, b)
		require.Len(t, got.Changes, 1, x.new)
		assert.Equal(t, x.changes, got.Changes[0].What+" "+got.Changes[0].Name+" "+got.Changes[0].Aspect)
		assert.Equal(t, x.lose, strings.Join(got.Lose, ", "), x.new)
	}
}

func TestLimitsOfBytesAreCompared(t *testing.T) {
	const before = `contract wreck language 2
roles diver, watcher
each client at most 2000 bytes per second nearest pos
entity Diver per diver { pos: vec2 -9..9 step 1 = vec(0, 0) set by owner; mine: vec2 -9..9 step 1 = vec(0, 0) }
`
	a, problems := compile.Load("wreck.kam", before)
	require.NotNil(t, a, problems.Error())
	for _, x := range []struct{ old, new, changes string }{
		{"2000", "3000", "each diver 2000, nearest pos 3000, nearest pos; each watcher 2000, nearest pos 3000, nearest pos"},
		{"nearest pos", "nearest mine", "each diver 2000, nearest pos 2000, nearest mine; " +
			"each watcher 2000, nearest pos 2000, nearest mine"},
		{"each client", "each diver", "each watcher 2000, nearest pos "},
		{
			"each client at most", "each watcher at most 900 bytes per second\neach client at most",
			"each watcher 2000, nearest pos 900",
		},
	} {
		b, problems := compile.Load("wreck.kam", strings.Replace(before, x.old, x.new, 1))
		require.NotNil(t, b, problems.Error())
		got := report.Compare(a, b)
		var told []string
		for _, d := range got.Changes {
			assert.Equal(t, "bytes per second", d.Aspect)
			told = append(told, d.Name+" "+d.Was+" "+d.Is)
		}
		assert.Equal(t, x.changes, strings.Join(told, "; "))
		assert.Empty(t, got.Lose, "clients need not know of it")
		assert.Empty(t, got.Blocks)
	}
	cost, err := report.NewCost(a, 4, nil)
	require.NoError(t, err)
	assert.Equal(t, []report.LimitRow{{"diver", 2000, "pos"}, {"watcher", 2000, "pos"}}, cost.Limits)
	assert.Equal(t, contract.EntryMemory+a.Kinds[0].MeteredMemory(), cost.Kinds[0].Client)
}

// A later language is told as a difference, though it changes nothing.
func TestLanguagesAreCompared(t *testing.T) {
	text := "entity Diver per player { n: int 0..9 = 0; request go() { n += 1 } }"
	before, problems := compile.Load("wreck.kam", "contract wreck language 1\n"+text)
	require.NotNil(t, before, problems.Error())
	after, problems := compile.Load("wreck.kam", "contract wreck language 2\n"+text)
	require.NotNil(t, after, problems.Error())
	out := report.Compare(before, after)
	require.Len(t, out.Changes, 1)
	assert.Equal(t, "language", out.Changes[0].Name)
	assert.Equal(t, "1", out.Changes[0].Was)
	assert.Equal(t, "2", out.Changes[0].Is)
	assert.Empty(t, out.Blocks)
	assert.Empty(t, out.Lose)
}

// A kind that is like another one is what the kind written out would be: for clients, in the matrix, and for whoever
// compares the two.
func TestAKindLikeAnotherIsTheKindWrittenOut(t *testing.T) {
	const before = `contract wreck language 2
roles player, spectator
part Suit { hull: int 0..100 = 100 clamped; hold kick lease 1s when hull > 10; on change hull { if hull == 0 { worn = true } } worn: bool = false }
entity Diver per player with Suit to player {
  bag: list<int 0..9> max 3 to owner
  tint: int 0..9 = 1
  event packed(n: int 0..9)
  request pack(n: int 0..9) check bag.room() > 0 else deny "full" { bag.put(n); tell everyone packed(n) }
  request drop_all() { bag.clear(); tint = 3; hull -= 1 }
  action spend() { hull -= 1 }
  every 1s { do spend() }
}
`
	const after = `
shared Nest { every 1s { spawn Eel { tint = 2 }; hits = clip(count(s in Suit where s.hull > 5), 0..9) }; hits: int 0..9 = 0 }
`
	const like = `entity Eel like Diver with Suit without bag, pack, kick, drop_all, packed where hull = 40 {
  bites: int 0..9 = 0 clamped
  request bite() from player limit 1 per second { bites += 1; despawn self }
}`
	const written = `entity Eel to player {
  hull: int 0..100 = 40 clamped; worn: bool = false
  tint: int 0..9 = 1
  bites: int 0..9 = 0 clamped
  request bite() from player limit 1 per second { bites += 1; despawn self }
  action spend() { hull -= 1 }
  on change hull { if hull == 0 { worn = true } }
  every 1s { do spend() }
}`
	text := strings.Replace(before, "} worn:", "}; worn:", 1)
	load := func(kind string) *contract.Contract {
		c, problems := compile.Load("wreck.kam", text+kind+after)
		require.NotNil(t, c, problems.Error())
		return c
	}
	a := load(like)
	b := load(written)
	outline := func(c *contract.Contract) string {
		raw, err := json.Marshal(c.Outline())
		require.NoError(t, err)
		return string(raw)
	}
	assert.JSONEq(t, outline(b), outline(a))
	changes := report.Compare(a, b).Changes
	require.Len(t, changes, 1, "%v", changes)
	assert.Equal(t, "kind", changes[0].What, "it is written in other words, and that is all")
	matrix := func(c *contract.Contract) string {
		raw, err := json.Marshal(report.NewMatrix(c))
		require.NoError(t, err)
		return regexp.MustCompile(`"line":\d+`).ReplaceAllString(string(raw), "")
	}
	assert.Equal(t, matrix(b), matrix(a))
	assert.NotContains(t, a.Kinds[1].Parts, "Suit", "a hold of the part is left out: it is none with the part")
}
