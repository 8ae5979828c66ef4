package session

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/wire"
)

const orderText = `
enum Item { flare, patch, relic }
fn worth_of(s: stacks<Item> max 6 each 5) -> int = sum(item, n in s: n * (number(item) + 1)) * 10 + s.room()
entity Diver per player {
  satchel: stacks<Item> max 6 each 5
  long: list<int -999..999> max 40
  bag: list<int 0..99> max 4 = [1, 2]
  mates: list<ref Diver> max 4
  owed: map<Item, ref Diver> max 3
  scores: map<text max 4, real -9..9 step 0.5> max 4
  n: int 0..99 = 7
}
`

// What goes over pairs, takes from ends, and asks of all stacks gives what it says.
func TestHoldersAsAWhole(t *testing.T) {
	d := "let d = caller.Diver; "
	for _, c := range [][3]string{
		{d + "d.satchel.put(flare, 7); d.satchel.put(relic); reply d.satchel.count() * 10 + d.satchel.room()", "83"},
		{d + "reply d.satchel.count() * 10 + d.satchel.room()", "6"},
		{d + "d.satchel.put(flare, 7); d.satchel.put(relic, 2); reply worth_of(d.satchel)", "133"},
		{d + "d.satchel.put(flare, 7); var out = 0; for i, n in d.satchel { out = out * 10 + n + number(i) }; reply out", "52"},
		{d + "d.satchel.put(patch, 6); var out = 0; for i in d.satchel { out = out * 10 + number(i) + 1 }; reply out", "22"},
		{d + "d.mates = [d, who.Diver]; var out = 0; for p, m in d.mates { out = out * 10 + m.n + p }; reply out", "78"},
		{d + "d.owed[relic] = who.Diver; d.owed[flare] = d; who.Diver.n = 3; var out = 0\n" +
			"for i, m in d.owed { out = out * 10 + m.n + number(i) }; reply out", "75"},
		{d + `d.scores["b"] = -1.5; d.scores["a"] = 4; reply floor(10 * sum(k, v in d.scores where k != "c": v))`, "25"},
		{d + "let a = d.bag.take_first(); let b = d.bag.take_first(); reply a * 100 + b * 10 + d.bag.count()", "120"},
		{d + "let a = d.bag.take_last(); reply a * 10 + d.bag.count()", "21"},
		{d + "d.bag.clear(); let a = d.bag.take_first(); reply a", "faulted: the list `bag` has 0 values: there is none at 0"},
		{d + "d.bag.clear(); let a = d.bag.take_last(); reply a", "faulted: the list `bag` has 0 values: there is none at -1"},
		{d + "d.bag.put(9, 1); d.bag.put(8, 0); reply d.bag[0] * 1000 + d.bag[1] * 100 + d.bag[2] * 10 + d.bag[3]", "8192"},
		{d + "d.bag.put(9, 3); reply 0", "faulted: Diver.bag has 2 values: none can be put at 3"},
		{d + "d.bag.put(9, -1); reply 0", "faulted: Diver.bag has 2 values: none can be put at -1"},
		{d + "sort n in d.bag by -n; reply d.bag[0] * 10 + d.bag[1]", "21"},
		{d + "sort n in d.bag by if n > 1 then -0.5 else 0.25; reply d.bag[0]", "2"},
		{d + "d.mates = [d, who.Diver]; sort m in d.mates by m != who.Diver; reply d.mates[0].owner.number", "2"},
		{d + "reply number(Item[2]) * 10 + number(Item.patch)", "21"},
		{d + "reply number(Item[d.n])", "faulted: the list `a list` has 3 values: there is none at 7"},
		{d + "for n in 0..19 { d.long.put((n * 7) % 5 * 20 + n) }; sort v in d.long by v / 20\n" +
			"var out = 0; for p, v in d.long { if p > 0 { if v / 20 == d.long[p - 1] / 20 and v < d.long[p - 1] { out += 1 } } }; reply out", "0"},
		{d + "for n in 1..9 { d.bag.clear(); d.bag = [1, 2, 3, 4]; d.bag.shuffle(); if d.bag[0] != 1 { d.n = 50 } }\n" +
			"reply d.n + sum(d.bag)", "60"},
	} {
		assert.Equal(t, c[1], reply(t, orderText, c[0], "int -99999..99999"), c[0])
	}
}

const wallsText = `
type Place = vec2 -100..100 step 0.01
type Wall { a: Place, b: Place, name: text max 4 }
type Pillar { middle: Place, radius: real 0..9 step 0.5 }
type Spot { at: Place, name: text max 4 }
type Link { a: int 0..9, b: int 0..9 }
const walls: list<Wall> max 3 = [Wall(a = vec(-10, 0), b = vec(10, 0), name = "a"), Wall(a = vec(5, 0), b = vec(5, 10), name = "b")]
const pillars = [Pillar(middle = vec(0, 0), radius = 2)]
const spots: list<Spot> max 6 = [Spot(at = vec(0, 0), name = "a"), Spot(at = vec(5, 0), name = "b"), Spot(at = vec(5, 5), name = "c"), Spot(at = vec(0, 5), name = "d"), Spot(at = vec(9, 9), name = "e")]
const places = [vec(0, 0), vec(1, 0), vec(2, 0)]
const links = [Link(a = 0, b = 1), Link(a = 1, b = 2), Link(a = 2, b = 3), Link(a = 0, b = 3), Link(a = 9, b = 1)]
const none: list<Wall> max 2 = []
entity Diver per player { pos: Place; held: list<Pillar> max 3; n: int 0..99 = 0 }
`

// What is in the way is what package geometry says, of tables and of properties.
func TestWallsAndRoutes(t *testing.T) {
	text := func(v string) string { return "let v = " + v + "; reply round(v.x * 100) * 1000 + round(v.y * 100)" }
	d := "let d = caller.Diver; "
	for _, c := range [][2]string{
		{text("along_walls(vec(0, 3), vec(4, -3), walls, 1)"), "400100"},
		{text("along_walls(vec(0, 3), vec(9, -3), walls, 1)"), "400100"},
		{text("along_walls(vec(-5, 0), vec(5, 0), pillars, 1)"), "-300000"},
		{text("along_walls(vec(-5, 0), vec(5, 0), none, 1)"), "500000"},
		{d + "d.held.put(Pillar(middle = vec(1, 0), radius = 1.5)); " + text("along_walls(vec(9, 0), vec(1, 0), d.held, 0.5)"), "300000"},
		{text("nearest(vec(3, 2), walls)"), "300000"},
		{text("nearest(vec(4, 2), walls)"), "500200"},
		{text("nearest(vec(8, 0), pillars)"), "200000"},
		{text("nearest(vec(1, 0.5), pillars)"), "100050"},
		{text("nearest(vec(3, 2), none)"), "faulted: `nearest` is asked of no walls"},
		{"reply if free(vec(3, 2), 1.9, walls) and not free(vec(3, 2), 2.1, walls) and free(vec(3, 2), 9, none) then 1 else 0", "1"},
		{"reply if free(vec(4, 0), 2, pillars) and not free(vec(4, 0), 2.5, pillars) then 1 else 0", "1"},
		{"let way = route(0, 2, spots, links); reply way[0] * 100 + way[1] * 10 + way[2] + way.count() * 1000", "3012"},
		{"let way = route(1, 3, spots, links); var out = 0; for p in way { out = out * 10 + p }; reply out", "103"},
		{"reply route(0, 4, spots, links).count()", "0"},
		{"reply route(0, 7, spots, links).count() + route(-1, 2, spots, links).count()", "0"},
		{"reply route(3, 3, spots, links).count() * 10 + route(0, 2, places, links).count()", "13"},
	} {
		assert.Equal(t, c[1], reply(t, wallsText, c[0], "int -9999999..9999999"), c[0])
	}
}

// A setting may be a list or a map; what does not fit opens no session, and the error says where.
func TestSettingsMayBeLists(t *testing.T) {
	const text = `contract level language 2
type Place = vec2 -200..200 step 0.01
type Wall { a: Place, b: Place }
type Link { a: int 0..9, b: int 0..9 }
enum Good { oak, tar }
setting walls: list<Wall> max 3 = [Wall(a = vec(0, 0), b = vec(9, 0))]
setting prices: map<Good, int 0..99> max 4 = []
setting spots: list<Place> max 9 = [vec(0, 0), vec(1, 0)]
setting links: list<Link> max 9 = [Link(a = 0, b = 1)]
entity Diver per player {
  pos: Place = vec(1, 5) clamped
  n: int 0..9999 = 0
  request move(there: Place) limit 20 per second {
    pos = along_walls(pos, there, walls, 0.4)
    n = walls.count() * 1000 + sum(g, p in prices: p) * 10 + route(0, spots.count() - 1, spots, links).count()
    for w in walls { if w.b.x == 7 { n += 5000 } }
  }
}
`
	c, problems := compile.Load("level.kam", text)
	require.NotNil(t, c, problems.Error())
	moved := func(given map[string]string) (string, string) {
		settings := map[string]json.RawMessage{}
		for name, raw := range given {
			settings[name] = json.RawMessage(raw)
		}
		s, err := New(c, Options{Settings: settings})
		if err != nil {
			return "", err.Error()
		}
		g := &game{t: t, s: s, outline: c.Outline()}
		g.reset()
		ana := g.join("Ana", "")
		g.tick()
		require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.move", "[3,-9]").Outcome)
		return g.sees(ana, ana, "Diver", "pos"), g.sees(ana, ana, "Diver", "n")
	}
	pos, n := moved(nil)
	assert.Equal(t, "(3, 0.4)", pos)
	assert.Equal(t, "1002", n)
	pos, n = moved(map[string]string{
		"walls":  `[{"a":[0,0],"b":[9,0]},{"a":[0,2],"b":[7,2]}]`,
		"prices": `[["tar",4],["oak",7]]`,
		"spots":  `[[0,0],[1,0],[2,0]]`,
		"links":  `[{"a":0,"b":1},{"a":1,"b":2}]`,
	})
	assert.Equal(t, "(3, 2.4)", pos)
	assert.Equal(t, "7113", n)
	_, n = moved(map[string]string{"walls": "[]", "prices": "[]"})
	assert.Equal(t, "2", n)
	for _, wrong := range [][3]string{
		{"walls", `[{"a":[0,0],"b":[9,0]},{"a":[0,2],"b":[7]}]`, "the setting `walls` has a value (number 2) that has a field `b` that is [7]"},
		{"walls", `[1,2,3,4]`, "the setting `walls` is [1,2,3,4], not a list of at most 3 values"},
		{"prices", `[["tar",100]]`, "the setting `prices` has a pair (number 1) whose second is 100, not a whole number from 0 to 99"},
		{"prices", `[["tar",1],["tar",2]]`, "not a map with each key once"},
	} {
		_, err := moved(map[string]string{wrong[0]: wrong[1]})
		assert.Contains(t, err, wrong[2])
	}
}

const wordsText = `
enum Item { flare, patch }
type Name = text max 12 of "a-z "
entity Eel { n: int 0..9 = 1 }
entity Diver per player { name: Name = "nip"; n: int -9..99 = 7; item: Item = patch; cool: time 0s..9s = 1500ms; r: real 0..9 step 0.25 = 1.5; line: text max 200 = "" }
`

// What is put together from values is worded as in a log, and compared, counted and looked at like any text.
func TestWordsArePutTogether(t *testing.T) {
	d := "let d = caller.Diver; "
	for _, c := range [][2]string{
		{d + `reply words("{caller.name} found {d.n} of {d.item}")`, `"Ana found 7 of patch"`},
		{d + `reply words("{d.n > 3}, {d.r}, {d.cool}, {caller}, {caller.role}, {d}, {{}}")`, `"true, 1.5, 1500ms, Ana, player, Diver, {}"`},
		{d + `d.line = words("{d.name}!"); d.line = words("{d.name} {d.name}."); reply d.line`, `"nip nip."`},
		{d + `reply if words("{d.name}") == "nip" then "same" else "other"`, `"same"`},
		{
			d + `let up = d.name < "nit" and "Z" < d.name and d.name <= d.name and "é" > "z" and d.name >= "nip"
				let no = d.name > d.name or d.name < "" or words("a{d.n}") <= "a"
				reply words("{up} {no}")`, `"true false"`,
		},
		{d + `let n = length(words("ä{d.n}")); let m = length(""); reply words("{length(d.name)} {n} {m}")`, `"3 2 0"`},
		{d + `let a = made_of(d.name, "a-z"); let b = made_of("N1p", "a-z"); reply words("{a} {b}")`, `"true false"`},
		{d + `let a = made_of("", "x"); let b = made_of("a-", "-a"); reply words("{a} {b}")`, `"true true"`},
		{d + `d.name = words("{d.n}"); reply "no"`, `faulted: Diver.name cannot become a text that holds '7', only "a-z " are allowed`},
		{d + `let n = caller.name; let x = "x"; reply words("{if d.n > 3 then n else x}")`, `"Ana"`},
		{`var w = "a"; for i in 1..3 { w = words("{i}{i}") }; reply w`, `"33"`},
		{`let e = spawn Eel; reply words("{e} {e.n}")`, `"Eel 1"`},
	} {
		assert.Equal(t, c[1], reply(t, wordsText, c[0], "text max 200"), c[0])
	}
}
