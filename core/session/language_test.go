package session

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/wire"
)

// reply runs a request that computes something and returns what it replied, or why it did not.
func reply(t *testing.T, declarations, body, result string) string {
	text := "contract thing language 2\nroles player, spectator\n" + declarations + "\nshared Probe {\n" +
		"  request try(who: client) -> " + result + " from everyone {\n" + body + "\n  }\n}"
	c, problems := compile.Load("thing.kam", text)
	require.NotNil(t, c, "%s\n%s", problems.Error(), text)
	g := open(t, text)
	ana := g.join("Ana", "")
	_ = g.join("Bo", "")
	g.tick()
	d := g.ask(ana, 0, "Probe.try", "2")
	if d.Outcome != wire.Accepted {
		return string(d.Outcome) + ": " + g.step.Decisions[0].Reason
	}
	return string(d.Reply)
}

const things = `
enum Crew { cobalt, amber }
type Place = vec2 -100..100 step 0.01
type Mark { at: Place, name: text max 8, worth: int 0..99 }
type Segment { a: Place, b: Place }
const marks: list<Mark> max 4 = [Mark(at = vec(1, 2), name = "reef", worth = 7), Mark(at = vec(-3, 4), name = "hull", worth = 9)]
const walls: list<Segment> max 2 = [Segment(a = vec(0, -5), b = vec(0, 5))]
const corners: list<Place> max 4 = [vec(0, 0), vec(4, 0), vec(4, 4), vec(0, 4)]
entity Diver per player {
  crew: Crew
  pos: Place
  mark: Mark once
  bag: list<int 0..9> max 3
  seen: map<text max 8, int 0..99> max 3
  friend: ref Diver
  aim: direction step 0.01 = vec(1, 0)
  n: int 0..100 = 5
  on spawn {
    if count(Diver) == 2 { crew = amber; pos = vec(10, 0); n = 8 }
    mark = Mark(at = pos + vec(0, 1), name = "own", worth = 3)
  }
}
entity Eel {
  pos: Place
  hull: int 0..9 = 9
}
fn near(p: vec2) -> int = count(d in Diver within 5 of p)
fn sign(n: int) -> int = max(-1, min(1, n))
`

// What expressions and statements compute, one line each.
func TestTheLanguageComputes(t *testing.T) {
	for _, c := range []struct{ body, result, want string }{
		// values that depend on a condition
		{
			"let d = caller.Diver; reply if d.n > 7 then d.n * 2 else 0 / (d.n - 5)",
			"int 0..99", "faulted: division by zero",
		},
		{"let d = who.Diver; reply if d.n > 7 then d.n * 2 else 1 / (d.n - 8)", "int 0..99", "16"},
		{"let d = who.Diver; reply (if d.n > 7 then 1 else 2.5) + 1", "real 0..9 step 0.5", "2"},
		{"reply 10 + if caller.name == \"Ana\" then 1 else 2 + 5", "int 0..99", "11"},
		{"reply if caller == who then 1 else if who.Diver.crew == cobalt then 2 else 3", "int 0..9", "3"},
		{"let v = if who.number == 2 then vec(1, 2) else vec(3, 4); reply v.y", "real 0..9 step 0.5", "2"},
		{"let d = if who.number == 9 then caller.Diver else who.Diver; reply d.n", "int 0..9", "8"},
		{"let d = if who.number == 2 then nothing else who.Diver; reply d == nothing", "bool", "true"},
		{"reply if who.number == 2 then marks[1].name else \"none\"", "text max 8", `"hull"`},
		{"let m = if who.number == 2 then marks[1] else marks[0]; reply m.worth", "int 0..99", "9"},
		{"reply if who.Diver.crew == amber then Crew.cobalt else amber", "Crew", `"cobalt"`},
		{"let n = 4; let m = if n > 3 then n else 3; reply m * 10 + (if m == 4 then 5 else 6)", "int 0..99", "45"},
		// names that change
		{"var n = 3; n += 4; n -= 1; n = n * 2; reply n", "int 0..99", "12"},
		{"var n = 0; for i in 1..4 { if i % 2 == 0 { n += i } else { n = n * 10 } }; reply n", "int 0..99", "24"},
		{"var x = 1.5; x += 2; x = x / 2; reply x", "real 0..9 step 0.25", "1.75"},
		{"var v = vec(1, 2); v += vec(1, 1); v = v * 2; reply v", "vec2 -9..9 step 1", "[4,6]"},
		{
			"var d = caller.Diver; if d.n < 8 { d = who.Diver }; d.n += 1; reply who.Diver.n * 10 + caller.Diver.n",
			"int 0..99", "95",
		},
		{"var d = caller.Diver; d = nothing; reply d == nothing", "bool", "true"},
		{
			"var d = caller.Diver; d = nothing; reply d.n",
			"int 0..9", "faulted: `n` is reached through nothing: there is no such entity",
		},
		{
			"var c = Crew.cobalt; c = amber; var t = \"a\"; t = who.name; var b = false; b = c == amber; " +
				"reply b and t == \"Bo\"",
			"bool", "true",
		},
		{
			"var n = 9223372036854775807; n += 1; reply 1",
			"int 0..9", "faulted: 9223372036854775807 + 1 is not a 64-bit whole number",
		},
		{"var m = marks[0]; if m.worth < 9 { m = marks[1] }; reply m.name", "text max 8", `"hull"`},
		{"let a = 3; var n = a; n += 1; let b = n; n += 1; reply a * 100 + b * 10 + n", "int 0..999", "345"},
		{"for i in 1..3 { var n = 0; n += i; caller.Diver.n = n }; reply caller.Diver.n", "int 0..9", "3"},
		// a weighted pick
		{
			"var left = 12; var picked = -1; for i in 0..2 { " +
				"if picked < 0 { left -= [3, 8, 9][i]; if left < 0 { picked = i } } }; " +
				"reply picked + 1", "int 0..9", "3",
		},
		// what is gone over
		{"reply sum(n in 1..6: n) * 10 + count(n in 3..1)", "int 0..999", "210"},
		{"let d = caller.Diver; reply max(n in d.n..d.n * 2 where n % 4 == 0: n)", "int 0..99", "8"},
		{"let d = caller.Diver; for n in 1..4 { if n % 2 == 0 { d.n += n } }; reply d.n", "int 0..99", "11"},
		{"reply count(c in Crew) * 10 + count(c in Crew where c != amber)", "int 0..99", "21"},
		{"let d = caller.Diver; for c in Crew { d.crew = c }; reply d.crew", "Crew", `"amber"`},
		{"reply first(n in -3..3 where n * n == 4) + 3", "int 0..9", "1"},
		{
			"reply count(n in -9223372036854775807..9223372036854775807)", "int 0..9",
			"faulted: it takes too many steps: more than 2000000",
		},
		{"reply count(n in 9223372036854775806..9223372036854775807)", "int 0..9", "2"},
		{"reply sum(n in 1..3: sum(m in n..3: m)) * 10 + sum(n in 1..count(Diver): n)", "int 0..999", "143"},
		// the numbers by which clients know entities
		{
			"reply if number(caller.Diver) != number(who.Diver) and number(who.Diver) == number(first(d in Diver where d == who.Diver)) " +
				"then 1 else 0", "int 0..1", "1",
		},
		{
			"let d = caller.Diver.friend; reply number(d)", "int 0..9",
			"faulted: `number` is asked of nothing: there is no such entity",
		},
		{
			"var n = 0; for i in 1..6000 { n = number(who.Diver) }; reply 1", "int 0..9",
			"faulted: it takes too many steps: more than 2000000",
		},
		// vectors
		{"let v = vec(3, 4) * 2 - vec(1, 1) / 2; reply v.x", "real -99..99 step 0.01", "5.5"},
		{"reply -vec(1, 2) + 3 * vec(1, 0)", "vec2 -9..9 step 0.5", "[2,-2]"},
		{
			"reply length(vec(3, 4)) + distance(vec(1, 1), vec(4, 5)) + dot(vec(1, 2), vec(3, 4))",
			"real 0..99 step 0.5", "21",
		},
		{"reply unit(vec(0, 5))", "vec2 -1..1 step 0.5", "[0,1]"},
		{"reply unit(vec(0, 0))", "vec2 -1..1 step 0.5", "faulted: `unit` of a vector without a direction"},
		{"reply angle(vec(0, 2))", "real -4..4 step 0.01", "1.57"},
		{"reply turned(vec(1, 0), angle(vec(0, 1)))", "vec2 -1..1 step 0.01", "[0,1]"},
		{"reply turned(vec(1, 0, 0), turn(vec(0, 0, 1), angle(vec(0, 1))))", "vec3 -1..1 step 0.01", "[0,1,0]"},
		{"reply vec(1, 2) == vec(1, 2) and vec(1, 2) != vec(2, 1)", "bool", "true"},
		{"reply vec(1, 0) / (caller.Diver.n - 8)", "vec2 -1..1 step 0.5", "[-0.5,0]"},
		{"let d = caller.Diver; d.aim = vec(0, -3); reply d.aim", "vec2 -1..1 step 0.01", "[0,-1]"},
		{
			"let d = caller.Diver; d.aim = d.pos; reply true", "bool",
			"faulted: a vector without a direction became a direction",
		},
		{"let d = caller.Diver; d.pos.x += 2.5; d.pos.y = 7; reply d.pos", "Place", "[2.5,7]"},
		{
			"let d = caller.Diver; d.pos = vec(100.004, 0); d.pos.x += 0.01; reply d.pos", "Place",
			"faulted: Diver.pos cannot become 100.01, which is no real -100..100 step 0.01",
		},
		// geometry
		{
			"reply crosses(line(vec(-1, 0), vec(1, 0)), walls) and not crosses(line(vec(1, 0), vec(2, 9)), walls)",
			"bool", "true",
		},
		{"reply inside(vec(1, 1), corners) and not inside(vec(5, 1), corners)", "bool", "true"},
		{"reply distance(vec(2, 3), line(vec(0, 0), vec(9, 0)))", "real 0..9 step 0.5", "3"},
		{"let w = caller.Diver.pos; reply near(w)", "int 0..9", "1"},
		{"reply count(d in Diver within 10 of line(vec(0, 0), vec(3, 0)))", "int 0..9", "2"},
		// numbers
		{"reply clip(caller.Diver.n, 0..3) + abs(-4) + floor(2.7) + round(2.5) + sign(-7)", "int -99..99", "10"},
		{"reply root(16) + min(2, 1.5, 3)", "real 0..9 step 0.5", "5.5"},
		{"reply root(0 - 1)", "real 0..9 step 0.5", "faulted: `root` of -1, which is less than 0"},
		{"reply 90s > 1min and 2 * 500ms == 1s and 1min - 30s == 30s", "bool", "true"},
		{"reply since(caller.Diver.n) < 5s", "bool", "true"},
		{"caller.Diver.n = 77; reply since(caller.Diver.n) == 0s", "bool", "true"},
		// records, lists, maps
		{"reply marks[1].worth + count(m in marks where m.worth > 7)", "int 0..99", "10"},
		{"let m = marks[0]; reply m", "Mark", `{"at":[1,2],"name":"reef","worth":7}`},
		{"reply marks[2].worth", "int 0..99", "faulted: the list `a list` has 2 values: there is none at 2"},
		{"reply caller.Diver.mark.at.y", "real -99..99 step 0.5", "1"},
		{
			"let d = caller.Diver; d.bag.put(4); d.bag.put(6); d.bag[0] = 5; d.bag[1] += 1; reply d.bag[0] * 10 + " +
				"d.bag[1] + d.bag.room()",
			"int 0..99", "58",
		},
		{
			"let d = caller.Diver; d.bag = [1, 2, 3]; d.bag.put(4); reply true", "bool",
			"faulted: Diver.bag is full: it holds at most 3 values",
		},
		{
			"let d = caller.Diver; d.bag = [1, 2, 3]; d.bag.take(2); d.bag.cut(0); reply d.bag.count() * 10 + " +
				"d.bag[0] + d.bag.find(9)",
			"int 0..99", "12",
		},
		{
			"let d = caller.Diver; d.bag = [1, 2]; d.bag[1] = 3 + d.n + d.n; reply true", "bool",
			"faulted: Diver.bag cannot become 13, which is no int 0..9",
		},
		{
			"let d = caller.Diver; d.bag = [3, 1]; d.bag.move(who.Diver.bag, 3); reply d.bag.count() * 10 + " +
				"who.Diver.bag[0]",
			"int 0..99", "13",
		},
		{
			"let d = caller.Diver; d.seen[\"reef\"] = 3; d.seen[\"hull\"] = 4; d.seen[\"reef\"] += 2; let out = " +
				"sum(k in d.seen: d.seen[k]); reply out",
			"int 0..99", "9",
		},
		{
			"let d = caller.Diver; d.seen[\"a\"] = 1; d.seen.take(\"a\"); if d.seen.has(\"a\") { reply 1 } else { " +
				"reply d.seen.room() }",
			"int 0..99", "3",
		},
		{"reply caller.Diver.seen[\"none\"]", "int 0..99", "faulted: the map `seen` does not have the key \"none\""},
		{"let l = [vec(1, 1), vec(2, 2)]; reply best(p in l: p.x)", "vec2 0..9 step 1", "[2,2]"},
		{"let l = shuffled([1, 2, 3, 4, 5, 6, 7, 8]); reply sum(l) * 10 + l.count()", "int 0..999", "368"},
		// queries
		{"reply count(Diver) * 10 + count(clients)", "int 0..99", "22"},
		{"reply sum(d in Diver: d.n)", "int 0..99", "13"},
		{"reply min(d in Diver: d.n) * 10 + max(d in Diver where d != caller.Diver: d.n else 9)", "int 0..99", "58"},
		{"reply max(d in Diver where d.n > 50: d.n else 9)", "int 0..99", "9"},
		{
			"reply max(d in Diver where d.n > 50: d.n)", "int 0..99",
			"faulted: a query found nothing, and says nothing of that case with `else`",
		},
		{"reply most(d in Diver: d.n).n * 10 + least(d in Diver: d.n).n", "int 0..99", "85"},
		{"reply one(d in Diver where d.crew == amber).n", "int 0..99", "8"},
		{
			"reply one(d in Diver where d.n > 0).n", "int 0..99",
			"faulted: there is more than one where exactly one is wanted",
		},
		{"let d = one(d in Diver where d.n > 99 else nothing); reply d == nothing and not exists(d)", "bool", "true"},
		{
			"reply any(d in Diver where d.n == 8) and all(d in Diver: d.n > 4) and not all(d in Diver: d.n == 8)",
			"bool", "true",
		},
		{"reply first(c in clients where c.name == \"Bo\").number", "int 0..99", "2"},
		// entities and clients
		{"let e = spawn Eel { pos = vec(1, 1) }; e.hull -= 2; reply e.hull * 10 + count(Eel)", "int 0..99", "71"},
		{"let e = spawn Eel { pos = vec(1, 1) }; despawn e; reply exists(e) or count(Eel) > 0", "bool", "false"},
		{
			"let e = spawn Eel { pos = vec(1, 1) }; despawn e; e.hull = 1; reply true", "bool",
			"faulted: `hull` is reached through nothing: there is no such entity",
		},
		{
			"for n in [1, 2, 3, 4] { spawn Eel { pos = vec(n, 0) } }; for e in Eel { if e.pos.x > 2 { despawn e } " +
				"}; reply count(Eel)",
			"int 0..99", "2",
		},
		{
			"for n in [1, 2, 3] { spawn Eel { pos = vec(n, 0) } }; for e in Eel { for f in Eel where f != e { " +
				"despawn f } }; reply count(Eel)",
			"int 0..99", "1",
		},
		{
			"let d = caller.Diver; d.friend = who.Diver; reply d.friend.n * 10 + d.friend.owner.number", "int 0..99",
			"82",
		},
		{
			"caller.Diver.friend = nothing; reply caller.Diver.friend.n", "int 0..99",
			"faulted: `n` is reached through nothing: there is no such entity",
		},
		{
			"reply caller.Diver.owner == caller and Probe.owner == server and who != caller and who.role == player",
			"bool", "true",
		},
		{
			"let gone = first(c in clients where c.number > 5 else nothing); reply gone == nothing and not exists(gone)",
			"bool", "true",
		},
		{"who.role = spectator; reply who.role == spectator", "bool", "true"},
		{
			"for a in Diver { for b in Diver { for c in Diver { caller.Diver.n += 1 } } }; reply caller.Diver.n",
			"int 0..99", "13",
		},
	} {
		assert.Equal(t, c.want, reply(t, things, c.body, c.result), c.body)
	}
}

const wreckText = `contract wreck language 1
tick 10 per second
strikes 3 in 10s
roles player, spectator
seats 8 grace 10s
enum Crew { cobalt, amber }
setting start_hull: int 1..100 = 40
type Place = vec2 -100..100 step 0.01
audience mates(d: Diver) = viewer.Diver.crew == d.crew
audience near(e: Eel) = distance(viewer.Diver.pos, e.pos) <= 20
event rung(by: ref Diver)
part Suit {
  hull: int 0..100 = 40 clamped
  needs action spent()
  on change hull { if hull == 0 { do spent() } }
}
entity Diver per player with Suit {
  crew: Crew
  pos: Place set by owner pace distance(old, new) 10 per second burst 2 when new.y <= 0
  plan: text max 9 to mates(self)
  spent_at: int 0..9 = 0
  foe: ref Eel
  hold kick lease 500ms when hull > 5
  on spawn {
    if count(Diver) == 2 { crew = amber }
    hull = start_hull
  }
  every 100ms while kick { hull -= 1 }
  action spent() { spent_at += 1; hull = 30; after 300ms do again(2) }
  action again(by: int 0..9) { spent_at += by }
  request scheme(words: text max 9) { plan = words }
  request hunt(e: ref Eel) { foe = e; tell everyone rung(self) }
  request shout() { tell mates(self) rung(self); log mates(self) "{caller.name} at {pos} is {crew}" }
  request move_to(x: int -100..100) from everyone { pos = vec(x, 0) }
  request cheat() check hull > 1000 else strike "no" { hull = 1 }
  request vile() check hull > 1000 else expel "out" { hull = 1 }
  request hurt(n: int 0..100) { hull -= n }
  request watch_only() { caller.role = spectator }
  request finish() { close "the end" }
}
entity Eel with Suit to near(self) or spectator {
  pos: Place follows vel
  vel: vec2 -20..20 step 0.01
  rider: ref Diver = nothing
  action spent() { despawn self }
}
entity Buoy {
  holder: ref Diver = nothing
  pos: Place = vec(0, 0) follows holder.pos by vec(0, 1)
}
shared Nest {
  laid: int 0..99 = 0
  request lay(x: int -100..100, speed: int -20..20) from everyone { spawn Eel { pos = vec(x, 0); vel = vec(speed, 0) }; laid += 1 }
  request tie() from everyone { let b = spawn Buoy; b.holder = caller.Diver }
  request kill() from everyone { for s in Suit where s.hull < 100 and s.owner == server { s.hull = 0 } }
}
shared Winch {
  turns: int 0..99 = 0
  secret: int 0..9 = 3 to owner
  request grab() from everyone check owner == server else deny "someone has it" { give self to caller }
  request turn() { turns += 1; secret = turns % 10 }
  request drop() { give self to server }
  on owner lost { give self to server }
}
on leave(c) { log everyone "{c.name} left" }
on lost(c) { log everyone but c "{c.name} lost" }
on back(c) { log c "hello again" }
`

func TestAudiencesOfTheirOwn(t *testing.T) {
	g := open(t, wreckText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	eve := g.join("Eve", "spectator")
	g.tick()
	assert.Equal(t, "amber", g.sees(ana, bo, "Diver", "crew"))
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.scheme", `"reef"`).Outcome)
	assert.Equal(t, `"reef"`, g.sees(ana, ana, "Diver", "plan"))
	assert.Equal(t, "not for this client", g.sees(bo, ana, "Diver", "plan"), "another crew")
	assert.Equal(t, "not for this client", g.sees(eve, ana, "Diver", "plan"), "without a diver there is no crew")

	// An eel is there only for those near it, and for spectators; it leaves their copies when it swims away.
	g.ask(ana, 0, "Nest.lay", "15", "20")
	assert.Equal(t, "40", g.sees(ana, 0, "Eel", "hull"))
	assert.Equal(t, "40", g.sees(eve, 0, "Eel", "hull"))
	eel := g.copies[ana].OwnedBy("Eel", 0).Number
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.hunt", fmt.Sprint(eel)).Outcome)
	assert.Equal(t, fmt.Sprint("Eel ", eel), g.sees(ana, ana, "Diver", "foe"))
	for range 3 {
		g.tick()
	}
	assert.Equal(t, "no entity", g.sees(ana, 0, "Eel", "hull"))
	assert.Equal(t, "nothing", g.sees(ana, ana, "Diver", "foe"), "a ref to what one may not know of is nothing")
	assert.Equal(t, fmt.Sprint("Eel ", eel), g.sees(eve, ana, "Diver", "foe"))
	assert.Equal(
		t, wire.Accepted, g.ask(ana, 0, "Diver.hunt", fmt.Sprint(eel)).Outcome, "an unknown entity comes as nothing",
	)
	assert.Equal(t, "nothing", g.sees(eve, ana, "Diver", "foe"))
	d := g.ask(ana, 0, "Diver.hunt", fmt.Sprint(g.copies[ana].OwnedBy("Diver", bo).Number))
	assert.Equal(
		t, []any{wire.Malformed, "the argument `e` refers to a Diver, not to a Eel"}, []any{d.Outcome, d.Reason},
	)
	g.ask(bo, 0, "Diver.move_to", "20")
	assert.NotEqual(t, "no entity", g.sees(bo, 0, "Eel", "hull"), "whoever comes near sees it, with all that it is")

	g.heard = map[int][]string{}
	g.ask(ana, 0, "Diver.shout")
	assert.Equal(t, map[int][]string{ana: {"rung"}}, g.heard)
	assert.Equal(t, []Log{{"Ana at (0, 0) is cobalt", []int{ana}}}, g.step.Logs)
	for _, frame := range g.bytes[bo] {
		assert.NotContains(t, frame, "reef")
		assert.NotContains(t, frame, "is cobalt")
	}
}

// What is sent at most so often comes no more often, and always ends on the newest value.
func TestThrottledValuesEndOnTheNewest(t *testing.T) {
	g := open(t, `contract wreck language 1
tick 20 per second
entity Diver per player {
  depth: int 0..9999 = 0 at most 4 per second
  air:   int 0..9999 = 0 at most 2 per second to owner
  plain: int 0..9999 = 0
  request sink(by: int 0..9) { depth += by; air += by; plain += by }
}`)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	sent := func(who int, name string) (n int) {
		for _, frame := range g.bytes[who] {
			n += strings.Count(frame, `"`+name+`":`)
		}
		return n
	}
	for range 40 {
		g.ask(ana, 0, "Diver.sink", "1")
	}
	assert.LessOrEqual(t, sent(bo, "depth"), 2+8)
	assert.GreaterOrEqual(t, sent(bo, "depth"), 2+7)
	assert.LessOrEqual(t, sent(ana, "air"), 1+4)
	assert.Equal(t, 2+40, sent(bo, "plain"))
	for range 10 {
		g.tick()
	}
	assert.Equal(
		t, []string{"40", "40", "40"},
		[]string{
			g.sees(bo, ana, "Diver", "depth"), g.sees(ana, ana, "Diver", "air"), g.sees(bo, ana, "Diver", "plain"),
		},
	)
}

func TestSpawnedThingsComeWholeAndGo(t *testing.T) {
	g := open(t, wreckText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	g.ask(ana, 0, "Nest.lay", "3", "2")
	assert.Equal(t, "(3.2, 0)", g.sees(ana, 0, "Eel", "pos"), "it has moved for a tick")
	assert.Contains(t, g.bytes[ana][len(g.bytes[ana])-1], `"vel":[2,0]`)
	g.ask(bo, 0, "Nest.tie")
	assert.Equal(t, "(0, 1)", g.sees(ana, 0, "Buoy", "pos"))
	g.ask(bo, 0, "Diver.move_to", "7")
	assert.Equal(t, "(7, 1)", g.sees(ana, 0, "Buoy", "pos"), "what is attached is where its holder is")
	g.ask(ana, 0, "Nest.kill")
	assert.Equal(t, "no entity", g.sees(ana, 0, "Eel", "pos"), "its part's rule despawned it")
	assert.Equal(t, "40", g.sees(ana, ana, "Diver", "hull"))
	g.s.Leave(bo)
	g.tick()
	g.tick()
	assert.Equal(t, "(7, 1)", g.sees(ana, 0, "Buoy", "pos"), "what it was attached to is gone: it stays")
}

func TestOwnershipChangesHands(t *testing.T) {
	g := open(t, wreckText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	assert.Equal(t, "not for this client", g.sees(ana, 0, "Winch", "secret"))
	assert.Equal(t, "not the owner", g.ask(ana, 0, "Winch.turn").Reason)
	// Two grab in one tick: one gets it, the other is told.
	for _, who := range []int{ana, bo} {
		g.seq++
		g.s.Ask(who, g.s.ReadRequest(wire.Ask{Seq: g.seq, Request: "Winch.grab", Args: []json.RawMessage{}}))
	}
	g.tick()
	assert.Equal(t, wire.Accepted, g.decided[ana].Outcome)
	assert.Equal(t, "someone has it", g.decided[bo].Reason)
	assert.Equal(t, "3", g.sees(ana, ana, "Winch", "secret"), "what only owners see comes with the ownership")
	assert.Equal(t, "not for this client", g.sees(bo, ana, "Winch", "secret"))
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Winch.turn").Outcome)
	assert.Equal(t, "1", g.sees(ana, ana, "Winch", "secret"))
	g.ask(ana, 0, "Winch.drop")
	assert.Equal(t, "not for this client", g.sees(ana, 0, "Winch", "secret"), "and goes with it")
	g.ask(bo, 0, "Winch.grab")
	g.s.Lost(bo)
	g.s.Lost(bo)
	g.tick()
	assert.Equal(t, "1", g.sees(ana, 0, "Winch", "turns"), "what is lost goes back while the seat still waits")
	assert.Equal(t, []Log{{"Bo lost", []int{ana}}}, g.step.Logs)
	g.s.Back(bo, g.s.Now())
	g.tick()
	assert.Equal(t, []Log{{"hello again", []int{bo}}}, g.step.Logs)
	g.ask(bo, 0, "Winch.grab")
	assert.Equal(t, "1", g.sees(bo, bo, "Winch", "secret"))
	g.s.Leave(bo)
	g.tick()
	assert.Equal(t, "1", g.sees(ana, 0, "Winch", "turns"), "what a client owned goes back when it leaves")
	assert.Equal(t, "Bo left", g.step.Logs[0].Text)
}

func TestWritesOfOwnersKeepTheirPaceAndRule(t *testing.T) {
	g := open(t, wreckText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	write := func(who int, entity uint32, value string, seen int64) string {
		g.seq++
		delete(g.decided, who)
		g.s.Steer(who, g.s.ReadSteering("write", wire.Move{
			Seq:      g.seq,
			Entity:   entity,
			Property: "Diver.pos",
			Value:    json.RawMessage(value),
			Seen:     seen,
		}))
		g.tick()
		d := g.decided[who]
		return strings.TrimSpace(string(d.Outcome) + " " + d.Reason)
	}
	now := func() int64 { return g.s.Now() }
	assert.Empty(t, write(ana, 0, "[2,0]", now()), "what is taken needs no answer")
	assert.Equal(t, "(2, 0)", g.sees(bo, ana, "Diver", "pos"))
	assert.Equal(t, "denied pace", write(ana, 0, "[4,0]", now()))
	assert.Equal(t, "(2, 0)", g.sees(ana, ana, "Diver", "pos"))
	assert.Contains(t, g.bytes[ana][len(g.bytes[ana])-1], `"pos":[2,0]`, "the client is put right")
	assert.Empty(t, write(ana, 0, "[4,0]", now()), "a tick later there is enough")
	assert.Equal(t, "denied rule", write(ana, 0, "[4,0.5]", now()))
	assert.Equal(t, "malformed the value is [400,0], not 2 numbers from -100 to 100", write(ana, 0, "[400,0]", now()))
	assert.Equal(t, "denied not the owner", write(bo, g.copies[bo].OwnedBy("Diver", ana).Number, "[4,0]", now()))
	seen := now()
	g.ask(bo, g.copies[bo].OwnedBy("Diver", ana).Number, "Diver.move_to", "50")
	assert.Equal(t, "denied older than the server's last write", write(ana, 0, "[4.1,0]", seen))
	assert.Equal(t, "(50, 0)", g.sees(ana, ana, "Diver", "pos"))
	assert.Empty(t, write(ana, 0, "[51,0]", now()))
	// Of two in one tick the newer one counts, and only it is paid for.
	for _, x := range []string{"[51.1,0]", "[51.2,0]"} {
		g.s.Steer(ana, g.s.ReadSteering("write", wire.Move{
			Seq:      1000,
			Property: "Diver.pos",
			Value:    json.RawMessage(x),
			Seen:     now(),
		}))
	}
	g.tick()
	assert.Equal(t, "(51.2, 0)", g.sees(bo, ana, "Diver", "pos"))
}

func TestAHoldEndsByItself(t *testing.T) {
	g := open(t, wreckText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	press := func(who int, what wire.MessageType, n uint64) {
		entity := g.copies[who].OwnedBy("Diver", ana).Number
		g.s.Steer(who, g.s.ReadSteering(what, wire.Move{Entity: entity, Property: "Diver.kick", Press: n}))
		g.tick()
	}
	press(bo, wire.MessagePress, 1)
	assert.Equal(t, "false", g.sees(bo, ana, "Diver", "kick"), "only its owner holds it")
	assert.Equal(t, "not the owner", g.decided[bo].Reason)
	press(ana, wire.MessagePress, 1)
	assert.Equal(t, "true", g.sees(bo, ana, "Diver", "kick"))
	assert.Equal(t, "39", g.sees(bo, ana, "Diver", "hull"))
	for range 4 {
		g.tick()
	}
	assert.Equal(t, "35", g.sees(bo, ana, "Diver", "hull"))
	g.tick()
	assert.Equal(t, "false", g.sees(bo, ana, "Diver", "kick"), "its lease ran out")
	press(ana, wire.MessagePress, 1)
	assert.Equal(t, "false", g.sees(bo, ana, "Diver", "kick"), "an old press does not begin it again")
	press(ana, wire.MessagePress, 2)
	assert.Equal(t, "true", g.sees(bo, ana, "Diver", "kick"))
	for n := 0; n < 100 && g.sees(bo, ana, "Diver", "kick") == "true"; n++ {
		press(ana, wire.MessagePress, 2)
	}
	assert.Equal(t, "5", g.sees(bo, ana, "Diver", "hull"), "its condition ended it")
	press(ana, wire.MessageRelease, 2)
	g.s.Steer(ana, g.s.ReadSteering("press", wire.Move{Property: "Diver.pos", Press: 3}))
	g.tick()
	assert.Contains(t, g.decided[ana].Reason, `no hold or property "Diver.pos" that a client could press`)
}

func TestStrikesFallOnlyOnWhoCouldKnow(t *testing.T) {
	g := open(t, wreckText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	late := g.s.Now()
	ask := func(who int, request string, seen int64, args ...string) *Decision {
		g.seq++
		a := wire.Ask{
			Seq:     g.seq,
			Request: request,
			Args:    []json.RawMessage{},
			Seen:    seen,
		}
		for _, x := range args {
			a.Args = append(a.Args, json.RawMessage(x))
		}
		g.s.Ask(who, g.s.ReadRequest(a))
		g.tick()
		return &g.step.Decisions[0]
	}
	ask(ana, "Diver.hurt", 0, "5")
	assert.False(t, ask(ana, "Diver.cheat", late).Strike, "its hull changed since the tick that it had confirmed")
	assert.False(t, ask(ana, "Diver.vile", late).Strike)
	for range 3 {
		d := ask(bo, "Diver.cheat", g.s.Now())
		assert.True(t, d.Strike)
		assert.Equal(t, "no", d.Reason)
	}
	assert.Equal(t, []Cut{{Client: bo, Reason: "no"}}, g.step.Cuts, "the third strike expels")
	g.tick()
	assert.Len(t, g.s.Clients(), 1)
	assert.False(t, ask(ana, "Diver.vile", late).Strike)
	for range 60 * 10 {
		g.tick()
	}
	assert.True(t, ask(ana, "Diver.vile", late).Strike, "a minute is late enough for anyone")
	assert.Equal(t, []Cut{{Client: ana, Reason: "out"}}, g.step.Cuts)
}

func TestDelayedActionsRolesSettingsAndTheEnd(t *testing.T) {
	c, problems := compile.Load("wreck.kam", wreckText)
	require.NotNil(t, c, problems.Error())
	for settings, want := range map[string]string{
		`{"none":1}`:       `no setting "none"`,
		`{"start_hull":0}`: "the setting `start_hull` is 0, not a whole number from 1 to 100",
	} {
		var given map[string]json.RawMessage
		require.NoError(t, json.Unmarshal([]byte(settings), &given))
		_, err := New(c, Options{Settings: given})
		assert.ErrorContains(t, err, want)
	}
	g := open(t, wreckText)
	s, err := New(c, Options{Trace: true, Settings: map[string]json.RawMessage{"start_hull": json.RawMessage("77")}})
	require.NoError(t, err)
	g.s = s
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	assert.Equal(t, "77", g.sees(bo, ana, "Diver", "hull"))
	g.ask(ana, 0, "Diver.hurt", "100")
	assert.Equal(
		t, []string{"30", "1"}, []string{g.sees(bo, ana, "Diver", "hull"), g.sees(bo, ana, "Diver", "spent_at")},
	)
	g.tick()
	g.tick()
	assert.Equal(t, "1", g.sees(bo, ana, "Diver", "spent_at"))
	g.tick()
	assert.Equal(t, "3", g.sees(bo, ana, "Diver", "spent_at"), "300 ms are three ticks")
	// A delayed action ends with its entity, here because its client has taken another role.
	g.ask(ana, 0, "Diver.hurt", "100")
	g.ask(ana, 0, "Diver.watch_only")
	assert.Equal(t, "no entity", g.sees(bo, ana, "Diver", "hull"))
	assert.Equal(t, "spectator", g.s.Clients()[0].Role)
	assert.Equal(t, "spectator", g.copies[bo].Clients[len(g.copies[bo].Clients)-1].Role)
	for range 5 {
		g.tick()
		assert.Empty(t, g.step.Faults)
	}
	assert.Empty(t, g.step.Closed)
	g.ask(bo, 0, "Diver.finish")
	assert.Equal(t, "the end", g.step.Closed)
}

// A denied or faulted cause leaves everything as it was: rows, entities, owners, roles, what waits for its time, and
// the dice.
func TestAFaultLeavesNothingOfAnything(t *testing.T) {
	text := strings.Replace(wreckText, "shared Winch {", `shared Wild {
  tally: int 0..1000 = 0
  names: map<text max 9, int 0..9> max 3
  lots: list<int 0..99> max 4
  request riot(n: int 0..9, by: int 0..1) from everyone {
    tally += roll(1..100)
    for d in Diver { d.hull -= n; d.plan = "riot"; after 100ms do d.again(1) }
    let e = spawn Eel { pos = vec(n, n); vel = vec(1, 0); rider = caller.Diver }
    e.hull = 3
    for x in Eel where x != e { despawn x }
    names["a"] = n
    names["b"] = 3
    lots.put(n)
    lots = shuffled([4, 5, 6])
    give Winch to caller
    caller.role = spectator
    tell everyone rung(caller.Diver)
    expel caller "riot"
    tally = tally / by
  }
}
shared Winch {`, 1)
	g := open(t, text)
	ana := g.join("Ana", "")
	_ = g.join("Bo", "")
	g.tick()
	g.ask(ana, 0, "Nest.lay", "5", "1")
	g.ask(ana, 0, "Nest.lay", "6", "1")
	twin := open(t, text)
	twin.join("Ana", "")
	twin.join("Bo", "")
	twin.tick()
	twin.ask(ana, 0, "Nest.lay", "5", "1")
	twin.ask(ana, 0, "Nest.lay", "6", "1")
	d := g.ask(ana, 0, "Wild.riot", "4", "0")
	require.Equal(t, wire.Faulted, d.Outcome)
	assert.Equal(t, "division by zero", g.step.Decisions[0].Reason)
	twin.tick()
	assert.Equal(t, twin.truth(), g.truth())
	assert.Empty(t, g.step.Cuts)
	// From here on both go the same way, dice, numbers of entities and timers too.
	twin.seq = g.seq
	for range 3 {
		g.ask(ana, 0, "Nest.lay", "7", "2")
		twin.ask(ana, 0, "Nest.lay", "7", "2")
		assert.Equal(t, twin.truth(), g.truth())
	}
	g.ask(ana, 0, "Wild.riot", "4", "1")
	twin.ask(ana, 0, "Wild.riot", "4", "1")
	assert.Equal(t, twin.truth(), g.truth())
	assert.Equal(t, "1 spectator", fmt.Sprint(len(g.copies[ana].Clients)-1, " ", g.s.Clients()[0].Role))
	assert.Len(t, g.step.Cuts, 1)
}

// What follows a rate is where the rate says after an hour of ticks, whatever the step: nothing adds up.
func TestMotionIsExactAfterAnHour(t *testing.T) {
	g := open(t, `contract wreck language 1
tick 60 per second
shared Probe {
  pos: vec2 -100000..100000 step 0.01 follows vel
  vel: vec2 -9..9 step 0.001 = vec(0.007, -3.333)
  at: real -100000..100000 step 0.5 follows rate
  rate: real -9..9 step 0.1 = 0.3
  beats: int 0..1000000 = 0
  every 50ms { beats += 1 }
  request turn() from everyone { vel = vec(1, 1) }
}`)
	ana := g.join("Ana", "")
	for range 60 * 3600 {
		g.s.Tick()
	}
	e := g.s.world.Shared(0)
	show := func(p string) string {
		q := e.Kind.Property(p)
		return q.Type.Format(g.s.world.Value(e, q))
	}
	assert.Equal(t, "(25.2, -11998.8)", show("pos"), "0.007 and -3.333 metres a second for an hour")
	assert.Equal(t, "1080", show("at"))
	assert.Equal(t, fmt.Sprint(3600*20), show("beats"))
	g.readers[ana] = g.s.Reader(ana)
	g.ask(ana, 0, "Probe.turn")
	for range 59 {
		g.s.Tick()
	}
	assert.Equal(t, "(26.2, -11997.8)", show("pos"), "a new rate goes on from where it was")
}

func TestBodiesThatGoOnWithoutEndAreStopped(t *testing.T) {
	g := open(t, `contract wreck language 1
shared Probe {
  n: int 0..1000000000 = 0
  request long() from player {
    for a in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { for b in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { for c in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] {
      for d in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { for e in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { for f in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { n += 1 } } }
    } } }
  }
  request breed() from player { spawn Eel }
}
entity Eel {
  n: int 0..9 = 0
  on spawn { n = 1; spawn Eel }
}`)
	ana := g.join("Ana", "")
	g.tick()
	g.ask(ana, 0, "Probe.long")
	assert.Contains(t, g.step.Decisions[0].Reason, "too many steps")
	g.ask(ana, 0, "Probe.breed")
	assert.Contains(t, g.step.Decisions[0].Reason, "deep; does spawning go on without end?")
	assert.Empty(t, g.s.world.OfKind(1))
}
