package session

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// everyType is a contract with properties of all types, clamped and not, to everyone and to the owner. BODIES stands
// for requests with random statements.
const everyType = `contract desk language 2
tick 20 per second
roles player, referee
strikes 99 in 1s
enum Item { flare, patch, relic }
type Place = vec2 -9..9 step 0.5
type Name = text max 4 of "a-z"
type Sign { worth: int 5..9, at: Place, item: Item, who: ref Diver, name: Name }
type Sign2 { worth: int 5..9, at: Place }
type Wall { a: Place, b: Place }
type Ring { middle: Place, radius: real 0..2 step 0.5 }
type Way { a: int 0..9, b: int 0..9 }
type Load { name: Name, signs: list<Ring> max 3, items: list<Item> max 4 }
const loads: list<Load> max 2 = [Load(name = "a", signs = [], items = [flare, relic]), Load(name = "b", signs = [Ring(middle = vec(1, 1), radius = 1)], items = [])]
const spots = [vec(0, 0), vec(3, 1), vec(1, 4), vec(-2, 2)]
const ways = [Way(a = 0, b = 1), Way(a = 1, b = 2), Way(a = 2, b = 9)]
setting tide: int 3..9 = 5
setting start: Place = vec(1, 1)
const walls = [Wall(a = vec(0, -1), b = vec(0, 1)), Wall(a = vec(2, 2), b = vec(3, 3))]
part Body {
  hull: int 3..9 = 5 clamped
  tight: int 5..9 = 5
  pos: Place = vec(0, 0) clamped
}
event rung(sign: Sign, by: client, row: list<int 5..9> max 3)
fn worth_of(s: stacks<Item> max 3 each 4) -> int = sum(i, c in s: c * number(i)) + s.room()
fn twice(n: int) -> int = 2 * n
fn near(a: vec2, b: vec2) -> bool = distance(a, b) < 3
fn items_of(l: Load) -> int = l.items.count() + count(r in l.signs where r.radius > 0.5)
fn most_of(l: list<int 5..9> max 3) -> int = max(x in l: x else 5)
entity Diver per player with Body {
  n: int -3..99 = 5 clamped
  r: real 1..9 step 0.5 = 1
  rc: real -2..2 step 0.25 = 0 clamped
  flag: bool
  item: Item = patch
  words: Name = "a"
  deep: vec3 -5..5 step 1 = vec(0, 0, 0) clamped to owner
  dir: direction step 0.01
  rot: rotation step 0.001 to owner
  sign: Sign = Sign(worth = 5, at = vec(1, 1), item = flare, who = nothing, name = "ab")
  signs: map<int 0..9, Sign> max 3
  row: list<Sign> max 3 to owner
  places: map<Item, Place> max 2
  dirs: list<direction step 0.01> max 3
  by_name: map<Name, int 5..9> max 2
  friends: list<ref Diver> max 3
  seen: map<client, bool> max 3 to owner
  bag: stacks<Item> max 3 each 4
  chest: stacks<Item> max 2 each 9 to owner
  slots: stacks<Item> max 4 each 3 slotted
  lot: stacks<Item> max 3 each 5 slotted to owner
  load: Load = Load(name = "", signs = [], items = [patch])
  loads: list<Load> max 2
  owed: map<client, list<Item> max 3> max 3
  by_item: map<Item, list<ref Diver> max 2> max 2 to owner
  line: text max 120
  rings: list<Ring> max 2
  numbers: list<int 5..9> max 3 = [5, 6]
  whom: client
  friend: ref Diver
  made: kind of [Crate, Sled] = Sled
  when: instant
  turn: int -5..5 wrapping = 0
  spin: real 0..1.5 step 0.5 wrapping small = 0
  both: int -3..120 := hull + n
  halves: Place clamped := pos * 0.5 + vec(rc, 0)
  deepest: Place := vec(deep.x, halves.y) to owner
  label: Name := if words == "ab" then "up" else words
  marked: int 0..2 := row.count() - row.count() / 3 to owner
  alike: bool := numbers.has(5) and not numbers.has(7)
  told_sign: Sign2 := Sign2(worth = tight, at = vec(1, 2))
  cool: time 100ms..9s = 1s clamped
  slow: time 0s..2s = 500ms
  times: list<time 0s..9s> max 3
  hold still lease 200ms when hull > 3
  event hit(by: int 5..9, at: Place)
  on change alike { numbers.clear() }
  on change n { if n > 90 { tight = clip(n, 5..9) } }
  on change sign { flag = not flag }
  action later(by: int 5..9, of: Sign) { tight = by; sign = of }
  action wide(l: list<int 5..9> max 3) { numbers = l }
BODIES
}
entity Crate with Body {
  load: int 5..9 = 5
  sign: Sign = Sign(worth = 6, at = vec(0, 0), item = relic, who = nothing, name = "")
  on despawn { load = clip(load * 2, 5..9); hull -= 1 }
}
entity Sled with Body { load: int 5..9 = 6; once_at: Place once to everyone; on spawn { hull += 1 } }
shared Winch with Body {
  turns: int 5..20 = 5
  load: int 5..40 clamped := turns * 2 + tide
  log_of: list<Name> max 3
  last: ref Crate
  on tick { if turns > 18 { turns = 5 } }
}
`

// everyStatement are statements on what everyType declares. Some fault, in some states. NUM stands for a number that no
// other statement of the body has.
var everyStatement = []string{
	"n = number(friend) % 50", `line = words("{number(self)} {n}")`, "slots.put(item, x % 4)", "slots.take(item, x % 3)", "slots.put_at(x % 5, item, y % 3)", "slots.take_at(x % 4, y % 3)",
	"slots.move_at(x % 4, slots, y % 4)", "slots.move_at(x % 4, slots, y % 4, 1)", "slots.move_at(x % 4, lot, y % 3)",
	"lot.move_at(x % 3, friend.slots, y % 4, 1)", "slots.split(item, 1)", "if slots.can_split(item, 1) { slots.split(item, 1) }",
	"if bag.can_split(flare, x % 4) { bag.split(flare, x % 4) }", "n = slots.count_at(x % 4) + slots.room()", "item = slots.item_at(x % 4)",
	"for k, c in slots { n = c + number(k) }", "lot.move(bag, item)", "bag.move(slots, item)", "slots.clear()", "flag = lot.count() > slots.count()",
	"load = loads[0]", "loads.put(load)", "load.items.put(item)", "load.items[x % 3] = item", "load.items.cut(0)", "load.items = []",
	"load.signs.put(Ring(middle = pos, radius = 1))", "load.signs[0].radius = r", "load.name = words", "loads[0].items.put(item)",
	"loads[y % 2].signs[0].middle.x += 0.5", "loads.cut(0)", "loads[0] = load", "n = items_of(load)", "n = sum(l in loads: l.items.count())",
	"load = Load(name = words, signs = load.signs, items = [item, flare])", "flag = load.items.has(item)", "loads.take(load)",
	"for l in loads { for i in l.items { item = i } }", "sort i in load.items by number(i)", "load.items.shuffle()",
	"load.items.move(loads[0].items, item)", "owed[caller] = []", "owed[caller].put(item)", "owed[whom] = [item]", "owed[caller] = owed[whom]",
	"for c, l in owed { n = l.count(); whom = c }", "owed.take(caller)", "if owed.has(caller) { let tNUM = owed[caller].take_first(); item = tNUM }",
	"owed[caller][0] = item", "by_item[item] = [self]", "by_item[item].put(friend)", "friend = by_item[item][0]", "friend.owed[caller] = owed[caller]",
	"let vNUM = load; var wNUM = vNUM; wNUM = loads[0]; load = wNUM", "load = if flag then load else loads[0]", "flag = load == loads[0]",
	"turn += x * 7 - y", "turn = turn * hull - 40", "spin -= r", "spin = x / 2.0; turn -= 9", "friend.turn += 6",
	"flag = words < caller.name", `if words >= "b" or caller.name <= words { n = 3 }`, "flag = has_seen(caller, friend)",
	"flag = has_seen(whom, n)", "if has_seen(friend.owner, sign) { turn += 1 }", "n = count(b in Body within r of pos)",
	"flag = any(b in Body within 1 of line(pos, vec(x, y)))", "friend = least(d in Diver: distance(d.pos, vec(x, y)) else nothing)",
	"pos = along_walls(pos, vec(x, y), walls, 0.5)", "pos = along_walls(pos, vec(-x, y), rings, r)",
	"rings.put(Ring(middle = pos, radius = 1))", "pos = nearest(pos, rings)",
	"rings.clear(); rings.put(Ring(middle = pos, radius = 1)); pos = nearest(vec(x, y), rings)", "flag = free(pos, r, walls)",
	"let wNUM = route(x % 5, y, spots, ways); n = wNUM.count(); for p in wNUM { pos = spots[p] }",
	`line = words("{words} {n}, {item}: {hull}")`, "n = length(line)", `if made_of(words, "a") { flag = not flag }`,
	`line = words("{pos.x} {when - when} {friend == self} {caller.name}")`, `words = words("{x}")`,
	"n = bag.count() + chest.room()", "for k, c in bag { n = c + number(k) }", "n = worth_of(bag)",
	"for k, s in signs { hull = s.worth - k }", "for p, s in row { row[p].worth = s.worth - p }",
	"for p, f in friends { f.hull -= p + 1 }", "for c, v in seen { flag = v; whom = c }", "for k in bag { item = k }",
	"sort s in row by -s.worth", "sort s in row by s.at.x", "sort v in numbers by v % 3",
	"sort f in friends by if f == self then 1 else 0", "sort s in friend.row by 9 / s.worth - x", "numbers.shuffle()",
	"friends.shuffle()", "row.put(sign, 0)", "numbers.put(7, x)", "numbers.clear(); numbers.put(7, 0)", "let tNUM = row.take_first(); sign = tNUM",
	"let tNUM = numbers.take_last(); tight = tNUM", "let tNUM = friends.take_first(); tNUM.hull -= 1",
	"numbers = [6, tight]; let tNUM = numbers.take_first(); tight = tNUM", "friend.row.take_last()", "item = Item[x]", "item = Item[x % 3]", "n = number(item)", "n = sown(x, y, -3..99)", "n = sown(hull, n, x..y)", "n = sum(k, v in by_name: v)",
	"n = count(p, v in numbers where v > p + 5)",
	"cool = since(n)", "cool += 1s", "slow = cool - 200ms", "slow -= 100ms", "n = cool / 100ms",
	"cool = if x > y then cool else 2s", "flag = cool > slow", "times.put(slow * 2)", "times.put(cool + 8s)", "cool = max(s in times: s else 0s)",
	"after slow do later(tight, sign)", "after cool / 3 do at_most()", "var vNUM = slow; vNUM += 100ms; cool = vNUM",
	"n = both", "hull += 1; n = both - hull", "pos = halves; pos.x = halves.y", "pos = deepest", "words = friend.label",
	"n = sum(d in Diver where d.alike: d.marked) + Winch.load", "flag = since(both) > 100ms and alike",
	"tight = told_sign.worth; pos = friend.told_sign.at", "row.clear(); if marked > 0 { signs.clear() }",
	"n = count(d in Diver where d.both == both)", "Winch.turns += 1; hull = Winch.load - 9",
	"n = if x > y then x else hull", "hull -= if flag then 9 / x else y", "r = if x > 4 then r else rc + 1.5",
	"rc = if r > 2 then 1 else rc", "flag = if x > y then flag else n > 9", "item = if flag then relic else item",
	`words = if x > y then "ab" else words`, "pos = if flag then pos else vec(x, y)",
	"deep = if flag then deep else -deep",
	"friend = if flag then self else friend", "friend = if x > y then nothing else friend",
	"whom = if flag then caller else nothing",
	"sign = if x > y then sign else Sign(worth = 6, at = pos, item = item, " +
		"who = self, name = words)", "rot = if flag then rot else turn(vec(0, 0, 1), r)",
	"when = if flag then when else now()",
	"made = if x > y then Crate else made", "tell if flag then caller else owner hit(5, pos)",
	"var vNUM = x; for k in 1..y { vNUM = vNUM + k % 3 }; n = vNUM", "var vNUM = pos; vNUM += vec(1, 0); pos = vNUM",
	"var vNUM = self; for d in Diver where d.hull > vNUM.hull { vNUM = d }; friend = vNUM; vNUM.hull -= 1",
	"var vNUM = words; if flag { vNUM = caller.name }; var wNUM = flag; wNUM = vNUM == words; flag = wNUM",
	"var vNUM = sign; if x > y { vNUM = Sign(worth = 7, at = pos, item = item, who = self, " +
		"name = words) }; sign = vNUM",
	"for k in 1..x { n += k; hull -= 1 }", "for k in y..x { if k == 5 { tight = k } }", "n = sum(k in 1..hull: k) / 2",
	"for k in Item { if k != item { bag.put(k, 1) } }", "n = count(k in Item where bag.has(k)) + count(k in tight..9)",
	"n = first(k in 0..9 where numbers.has(k) else x)", "for d in Diver where d.friend == self { d.hull -= 1 }",
	"n = count(d in Diver where d.item == item and d.flag) + count(c in Crate where c.load == tight)",
	"friend = least(d in Diver where d != self: distance(d.pos, pos) else nothing)",
	"rc = min(b in Crate: distance(pos, b.pos) else 0)", "for b in Body within r of pos { b.hull += 1 }",
	"hull += count(b in Body within 2 of line(pos, pos + vec(x, y)) where b.tight == 5)",
	"flag = any(Crate) and any(Sled)",
	"n += x * 7", "n = twice(x) + roll(1..9)", "hull -= x", "tight += y - 4", "tight = 5 + x % 5", "r += 0.5",
	"r = x / 2.0", "rc += r", "rc = -rc", "flag = x > y", "item = shuffled([Item.flare, Item.patch, Item.relic])[0]",
	`words = "abc"`, "words = caller.name", "pos = start", "pos.x += x", "pos += vec(x, -y)", "pos = pos * 2",
	"deep.z -= y", "deep = deep + vec(1, 2, 3)", "dir = pos", "dir = turned(dir, r)", "dir = vec(x, y)",
	"rot = turn(vec(0, 0, 1), r)", "deep = turned(deep, rot)", "sign.worth += 1", "sign.worth = 5", "sign.at.x += 1",
	"sign.at = pos", "sign.item = item", "sign.who = friend", "sign.name = words",
	"sign = Sign(worth = 5 + x % 5, at = pos, item = item, who = self, name = words)", "signs[x] = sign",
	"signs[y] = sign", "signs[x].worth = 6", "signs[y].at.y += 0.5", "signs[x].who = friend", "signs.take(y)",
	"sign = signs[x]", "row.put(sign)", "row[0].worth = 9", "row[y] = sign", "row.cut(0)", "row.take(sign)",
	"sign = first(s in row where s.worth > 5)", "places[item] = pos", "places[item].x -= 1", "places.take(flare)",
	"pos = places[item]", "dirs.put(dir)", "dirs[0] = pos", "dirs.cut(x)", "dir = dirs[0]",
	`by_name["a"] = 5 + y % 5`, "by_name[words] = tight", "by_name[words] += 1", `by_name.take("a")`,
	"tight = by_name[words]", "friends.put(friend)", "friends.put(self)", "friend = friends[0]",
	"friends.take(friend)", "friend = nothing", "friend = one(d in Diver where d != self)",
	"friend = most(d in Diver: d.n)", "friend.hull += 2", "friend.sign = sign", "friend.signs[x] = sign",
	"friend.row.put(sign)", "seen[caller] = flag", "seen[whom] = true", "seen.take(caller)", "bag.put(item)",
	"bag.put(flare, y)", "bag.take(item)", "bag.move(chest, item)", "bag.move(chest, flare, x)",
	"bag.split(flare, 1)", "chest.move(friend.chest, item)", "friend.bag.move(bag, patch)", "bag.clear()",
	"numbers.put(5 + x % 5)", "numbers = shuffled(numbers)", "numbers = [5, tight]", "numbers[0] += 1",
	"numbers.move(friend.numbers, 5)", "tight = most_of(numbers)", "numbers.cut(y)", "whom = caller",
	"whom = friend.owner", "whom = nothing", "made = Crate", "made = Sled", "when = now()", "when = when + 3s",
	"if now() - when > 1s { when = now() }", "spawn Crate { load = 5 + x % 5 }",
	"let cNUM = spawn Crate { sign = sign; pos = pos }\n    Winch.last = cNUM\n    cNUM.load = 7",
	"spawn Sled { once_at = pos }", "spawn Sled { once_at = start; hull = x; load = 9 }",
	"let kNUM = spawn Crate\n    kNUM.sign.worth = 8", "for c in Crate { c.load = 5 }",
	"for c in Crate where c.load > 5 { despawn c }", "for b in Body { b.hull += 1 }",
	"for b in Body { b.pos.x += 1 }", "for b in Body where near(b.pos, pos) { b.tight = 6 }",
	"for b in Body within 3 of pos { b.hull = 4 }", "despawn first(s in Sled)", "give Winch to caller",
	"give Winch to server", "give first(c in Crate) to friend.owner", "Winch.turns += y", "Winch.log_of.put(words)",
	"Winch.log_of[0] = words", "Winch.log_of.cut(0)", "Winch.last.load = 6",
	"if exists(Winch.last) { Winch.last.sign.name = words }", "caller.role = referee",
	"tell everyone rung(sign, caller, numbers)", "tell caller hit(tight, pos)", "tell owner friend.hit(5, pos)",
	`log everyone "{n} of {words} at {pos}"`, "after 100ms do later(tight, sign)", "do later(9, sign)",
	"do wide(numbers)", "do friend.wide(numbers)", "if x > y { n = 1 } else { tight -= 1 }",
	"match item { flare { n = 0 } patch, relic { do at_most() } }", "match x { 0, 1 { n = 0 } else { pos = -pos } }",
	"for i in [5, 6] { numbers.put(i) }", "for k in signs { signs[k].worth = 9 }", "for s in row { signs[x] = s }",
	"for k in by_name { by_name[k] = 5 }", "for d in friends { d.n += 1 }", "for c in clients { seen[c] = true }",
	"n = sum(s in row: s.worth)", "n = count(Crate) + count(d in Diver where d.flag)",
	"rc = length(pos) - distance(pos, start)", "if crosses(line(pos, start), walls) { flag = true }",
	"n = floor(r * x)", "r = root(r)", "tight = min(x, y, 9)", "n = max(s in row: s.worth else 3)",
	"let pNUM = pos\n    pos = pNUM + vec(1, 0)", "let sNUM = sign\n    signs[y] = sNUM",
	"let lNUM = numbers\n    numbers = lNUM", "if n % 3 == 0 { return }", `deny "no"`,
}

// constructs are what language 2 has added to bodies, with what a statement of each says.
var constructs = map[string]*regexp.Regexp{
	"slots of stacks":         regexp.MustCompile(`(put|take|move|count|item)_at`),
	"can_split":               regexp.MustCompile(`can_split`),
	"list within a record":    regexp.MustCompile(`load\.(items|signs)|items_of`),
	"list within a map":       regexp.MustCompile(`owed\[|by_item\[`),
	"conditional value":       regexp.MustCompile(` then .* else `),
	"range to go over":        regexp.MustCompile(`for k in \d|k in (1|y|tight)\.\.`),
	"enum to go over":         regexp.MustCompile(`k in Item`),
	"local that changes":      regexp.MustCompile(`var v`),
	"time as a value":         regexp.MustCompile(`(cool|slow) [-+]?=|times\.put`),
	"after a time of its own": regexp.MustCompile(`after (cool|slow)`),
	"computed property":       regexp.MustCompile(`both|halves|deepest|label|alike|told_sign|marked|Winch\.load`),
	"stacks' totals":          regexp.MustCompile(`(bag|friend)\.count\(\)|\.room\(\)|worth_of`),
	"key and value":           regexp.MustCompile(`for \w, \w in`),
	"put at a place":          regexp.MustCompile(`row\.put\(sign, 0\)|numbers\.put\(7, [0x]\)`),
	"take_first":              regexp.MustCompile(`take_first`),
	"take_last":               regexp.MustCompile(`take_last`),
	"sort by":                 regexp.MustCompile(`^sort`),
	"shuffle in place":        regexp.MustCompile(`\.shuffle\(\)`),
	"value by its number":     regexp.MustCompile(`Item\[`),
	"number of a value":       regexp.MustCompile(`number\(`),
	"container as argument":   regexp.MustCompile(`worth_of\(|most_of\(`),
	"words":                   regexp.MustCompile(`words\("`),
	"number of an entity":     regexp.MustCompile(`number\((friend|self)`),
	"length of a text":        regexp.MustCompile(`length\(line\)`),
	"made_of":                 regexp.MustCompile(`made_of`),
	"along_walls":             regexp.MustCompile(`along_walls`),
	"free":                    regexp.MustCompile(`free\(pos`),
	"nearest":                 regexp.MustCompile(`nearest\(`),
	"sown":                    regexp.MustCompile(`sown\(`),
	"route":                   regexp.MustCompile(`route\(`),
	"wrapping":                regexp.MustCompile(`turn [-+]?=|spin -?=`),
	"order of texts":          regexp.MustCompile(`words <|words >=`),
	"has_seen":                regexp.MustCompile(`has_seen\(`),
	"counted near":            regexp.MustCompile(`(count|any)\(b in Body within (r|1) of`),
	"nearest of all":          regexp.MustCompile(`least\(d in Diver:`),
}

// executed returns the constructs that an accepted request of a contract has gone through, from its bodies. What may
// have been left by a `return` does not count.
func executed(bodies, request string) (out []string) {
	_, body, _ := strings.Cut(bodies, "request "+request+"(")
	body, _, _ = strings.Cut(body, "\n  }\n")
	body, _, _ = strings.Cut(body, "{ return }")
	for name, says := range constructs {
		for line := range strings.Lines(body) {
			if says.MatchString(strings.TrimSpace(line)) {
				out = append(out, name)
				break
			}
		}
	}
	return out
}

// withRequests returns a contract text with some requests of a few random statements each, and these requests alone.
func withRequests(r *rand.Rand, text string, count int) (whole, bodies string) {
	bodies = "  action at_most() { n = clip(n, 0..50) }\n"
	for i := range count {
		bodies += fmt.Sprintf("  request ask%d(x: int 0..9, y: int 0..9) {\n", i)
		for n := range 1 + r.IntN(4) {
			statement := everyStatement[r.IntN(len(everyStatement))]
			bodies += "    " + strings.ReplaceAll(statement, "NUM", fmt.Sprint(n)) + "\n"
			if strings.HasPrefix(statement, "deny") {
				break
			}
		}
		bodies += "  }\n"
	}
	return strings.Replace(text, "BODIES\n", bodies, 1), bodies
}

// Whatever statements do with values of whatever types: what the server holds is of its types, every client can read
// its frames, and its copy is what it should be. KAMERAD_RUNS says how many contracts are tried.
func TestEveryStatementKeepsEveryCopyRight(t *testing.T) {
	runs := uint64(60)
	if n, err := strconv.ParseUint(os.Getenv("KAMERAD_RUNS"), 10, 64); err == nil {
		runs = n
	}
	outcomes := map[wire.Outcome]int{}
	covered := map[string]int{} // by construct: the runs that have gone through it
	for seed := range runs {
		r := rand.New(rand.NewPCG(seed, 1))
		const requests = 5
		text, bodies := withRequests(r, everyType, requests)
		c, problems := compile.Load("desk.kam", text)
		require.NotNil(t, c, "%s\n%s", problems.Error(), bodies)
		s, err := New(c, Options{Key: [32]byte{byte(seed)}, Strict: true})
		require.NoError(t, err)
		readers := map[int]*wire.Reader{}
		copies := map[int]*replicate.Copy{}
		for _, name := range []string{"ana", "bo"} {
			n, err := s.Join(name, "player")
			require.NoError(t, err)
			s.Ready(n)
			readers[n] = s.Reader(n)
			copies[n] = &replicate.Copy{Me: n}
		}
		seq := uint64(0)
		gone := map[string]bool{}
		for range 40 {
			seq++
			for n := range 2 {
				ask := wire.Ask{
					Seq:     seq,
					Request: fmt.Sprintf("Diver.ask%d", r.IntN(requests)),
					Args:    []json.RawMessage{fmt.Append(nil, r.IntN(10)), fmt.Append(nil, r.IntN(10))},
				}
				s.Ask(n+1, s.ReadRequest(ask))
			}
			step := s.Tick()
			for _, d := range step.Decisions {
				outcomes[d.Outcome]++
				if d.Outcome == wire.Accepted {
					for _, construct := range executed(bodies, strings.TrimPrefix(d.Ask.Request, "Diver.")) {
						gone[construct] = true
					}
				}
			}
			for _, f := range step.Frames {
				frame, err := readers[f.Client].Read(f.Bytes)
				require.NoError(t, err, "tick %d\n%s", step.Tick, bodies)
				copies[f.Client].Apply(frame)
				s.Confirm(f.Client, step.Tick)
			}
			for n, held := range copies {
				require.Empty(t, s.Compare(n, held.At(step.Tick)), "client %d at tick %d\n%s", n, step.Tick, bodies)
			}
			require.Empty(t, misfit(s), "tick %d\n%s", step.Tick, bodies)
			require.Empty(t, outdated(s), "tick %d\n%s", step.Tick, bodies)
		}
		for construct := range gone {
			covered[construct]++
		}
	}
	t.Logf("%d runs: %v; with constructs %v", runs, outcomes, covered)
	for construct := range constructs {
		if runs >= 1000 {
			require.GreaterOrEqual(t, covered[construct], 20, construct)
		}
	}
	require.Greater(t, outcomes[wire.Accepted], 1000)
	require.Greater(t, outcomes[wire.Faulted], 500)
}

// misfit names a value of a session that is none of its type, and returns "" when there is none.
func misfit(s *Session) string {
	for _, spawned := range s.State().Spawned {
		for _, f := range spawned.Fields {
			if f.Type.Has(contract.FormInstant) {
				continue
			}
			if _, err := f.Type.ParseJSON(f.Type.AppendJSON(nil, f.Value)); err != nil {
				return fmt.Sprintf("%s.%s %s", spawned.Kind, f.Name, err)
			}
		}
	}
	return ""
}

// outdated names a computed property whose value is not what it is computed from, and returns "" when there is none.
func outdated(s *Session) string {
	for _, e := range s.world.Entities() {
		held := slices.Clone(e.Nums)
		if o := s.machine.ComputeInitial(e); o != nil {
			return o.Reason
		}
		if !slices.Equal(held, e.Nums) {
			return fmt.Sprintf("%s: %v, and anew %v", e.Kind.Name, held, e.Nums)
		}
	}
	return ""
}

var (
	computed = regexp.MustCompile(`(?m)^  \w+: .*:=.*$`)
	audience = regexp.MustCompile(`(?m)^  (\w+): .* to (\w+)$`)
	words    = regexp.MustCompile(`\w+`)
)

var declared = regexp.MustCompile(`(?m)^  \w+: .*$`)

// hiding returns everyType with some of its properties and kinds hidden from some.
func hiding(r *rand.Rand) string {
	text := declared.ReplaceAllStringFunc(everyType, func(line string) string {
		if strings.Contains(line, " to ") {
			return line
		}
		return line + []string{" to nobody", " to owner", "", "", ""}[r.IntN(5)]
	})
	// What is computed goes to whoever gets what it is computed from, mostly.
	to := map[string]string{}
	for _, m := range audience.FindAllStringSubmatch(text, -1) {
		to[m[1]] = m[2]
	}
	text = computed.ReplaceAllStringFunc(text, func(line string) string {
		name, value, _ := strings.Cut(line, ":=")
		value, _, _ = strings.Cut(value, " to ")
		who := ""
		for _, word := range words.FindAllString(value, -1) {
			if who != " to nobody" && to[word] != "" {
				who = " to " + to[word]
			}
		}
		to[strings.TrimSpace(strings.Split(name, ":")[0])] = strings.TrimPrefix(who, " to ")
		return name + ":=" + value + who
	})
	for _, entity := range []string{"Crate", "Sled"} {
		if r.IntN(3) == 0 {
			text = strings.Replace(text, "entity "+entity+" with Body", "entity "+entity+" with Body to nobody", 1)
		}
	}
	return text
}

// Whatever statements do with hidden values of whatever types, no client can tell these apart when the contract is
// called clean. KAMERAD_TWINS says how many random contracts are tried.
func TestNoStatementTellsHiddenValues(t *testing.T) {
	contracts := 1000
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_TWINS")); err == nil {
		contracts = n
	}
	clean := 0
	for seed := range uint64(contracts) {
		r := rand.New(rand.NewPCG(seed, 5))
		text, bodies := withRequests(r, hiding(r), 2)
		c, problems := compile.Load("desk.kam", text)
		require.NotNil(t, c, "%s\n%s", problems.Error(), bodies)
		if leaks(problems) != "" {
			continue
		}
		clean++
		require.Empty(t, differs(t, c, seed, 12), "contract %d is called clean:\n%s", seed, text)
	}
	t.Logf("%d contracts, %d clean, none of them unsound", contracts, clean)
	require.Greater(t, clean, contracts/20)
}
