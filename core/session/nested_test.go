package session

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/wire"
)

const nestedThings = `
enum Item { flare, patch, tank }
type Place = vec2 -100..100 step 0.5
type Need { item: Item, count: int 1..9 }
type Recipe { gives: Item, needs: list<Need> max 3, tags: list<text max 8> max 2 }
const recipes: list<Recipe> max 4 = [
  Recipe(gives = tank, needs = [Need(item = patch, count = 2), Need(item = flare, count = 3)], tags = ["deep", "air"]),
  Recipe(gives = flare, needs = [], tags = [])]
type Link { a: int 0..9, b: int 0..9 }
type Reef { spots: list<Place> max 3, links: list<Link> max 2 }
const reefs: list<Reef> max 2 = [
  Reef(spots = [vec(0, 0), vec(1, 0), vec(2, 0)], links = [Link(a = 0, b = 1), Link(a = 1, b = 2)]),
  Reef(spots = [vec(0, 0), vec(1, 0), vec(2, 0)], links = [Link(a = 0, b = 2)])]
type Odd { n: int 3..9, all: list<int 3..9> max 2, who: client }
fn worst(r: Recipe) -> int 0..9 = max(n in r.needs: n.count else 0)
const lone: Recipe = Recipe(gives = flare, needs = [Need(item = flare, count = 4)], tags = [])
fn three() -> Recipe = Recipe(gives = flare, needs = [Need(item = tank, count = 1), Need(item = tank, count = 2),
  Need(item = tank, count = 3)], tags = ["a", "b"])
fn single() -> Recipe = Recipe(gives = flare, needs = [Need(item = flare, count = 4)], tags = [])
fn widest() -> Recipe = most(r in recipes: r.needs.count())
shared Stall {
  offers: map<client, list<Item> max 3> max 4
  book: list<Recipe> max 3
  best: Recipe = Recipe(gives = patch, needs = [Need(item = tank, count = 1)], tags = ["own"])
  plain: Recipe
  odd: Odd
}
`

// What lists within records and maps come to, one line each.
func TestListsWithinOtherValues(t *testing.T) {
	for _, c := range []struct{ body, result, want string }{
		// read where they stand
		{"reply recipes[0].needs.count() * 10 + recipes[1].needs.count()", "int 0..99", "20"},
		{"reply recipes[0].needs[1].count", "int 0..9", "3"},
		{"reply recipes[1].needs[0].count", "int 0..9", "faulted: the list `a list` has 0 values: there is none at 0"},
		{"reply sum(r in recipes: sum(n in r.needs: n.count))", "int 0..99", "5"},
		{"var n = 0; for r in recipes { for x in r.needs { n = n * 10 + x.count } }; reply n", "int 0..99", "23"},
		{"var n = 0; for i in 0..1 { for x in recipes[i].needs { n = n * 10 + x.count } }; reply n", "int 0..99", "23"},
		{"reply recipes[0].tags.has(\"air\") and not recipes[0].tags.has(\"reef\")", "bool", "true"},
		{"reply Stall.best.needs[0].item", "Item", `"tank"`},
		{"reply Stall.plain.needs.count() + Stall.plain.tags.count()", "int 0..9", "0"},
		{"reply Stall.odd.n == 3 and Stall.odd.all.count() == 0 and Stall.odd.who == nothing", "bool", "true"},
		{
			"var n = 0; for i in 0..1 { let way = route(0, 2, reefs[i].spots, reefs[i].links); n = n * 10 + way.count() }; reply n",
			"int 0..99", "32",
		},
		// in locals, and in what functions and queries give
		{"let r = recipes[0]; reply r.needs[0].count * 10 + r.needs.room()", "int 0..99", "21"},
		{"let r = recipes[0]; let l = r.needs; reply l[1].item", "Item", `"flare"`},
		{"var r = recipes[0]; r = recipes[1]; reply r.needs.count()", "int 0..9", "0"},
		{"reply worst(recipes[0]) * 10 + worst(recipes[1])", "int 0..99", "30"},
		{"reply widest().needs[1].count", "int 0..9", "3"},
		{"reply first(r in recipes where r.tags.has(\"deep\")).gives", "Item", `"tank"`},
		{"let r = if who.number == 9 then recipes[1] else recipes[0]; reply r.tags[1]", "text max 8", `"air"`},
		{"let l = [Item.patch]; let r = Recipe(gives = flare, needs = recipes[0].needs, tags = [\"x\"]); " +
			"reply r.needs[1].count + l.count()", "int 0..9", "4"},
		{
			"reply recipes[0]", "Recipe",
			`{"gives":"tank","needs":[{"item":"patch","count":2},{"item":"flare","count":3}],"tags":["deep","air"]}`,
		},
		// records with lists are equal when all of them is
		{"let r = Recipe(gives = flare, needs = [], tags = []); reply r == recipes[1] and r != recipes[0]", "bool", "true"},
		{
			"for n in [1, 2] { let r = Recipe(gives = flare, needs = [], tags = if n == 1 then [\"a\"] else [\"b\"]) }; reply 1",
			"int 0..9", "",
		},
		// whatever stood before where a list is made
		{"let r = three(); reply single() == lone and r != lone", "bool", "true"},
		// written where they stand
		{"Stall.book.put(recipes[0]); Stall.book[0].needs[1].count = 7; reply Stall.book[0].needs[1].count", "int 0..9", "7"},
		{"Stall.book.put(recipes[0]); Stall.book[0].needs.cut(0); reply Stall.book[0].needs[0].count", "int 0..9", "3"},
		{"Stall.book.put(recipes[0]); Stall.book[0].needs.take_last(); Stall.book[0].needs = []; " +
			"Stall.book[0].needs.put(Need(item = tank, count = 4)); " +
			"reply Stall.book[0].needs.count() * 10 + Stall.book[0].needs[0].count", "int 0..99", "14"},
		{
			"Stall.best.tags.put(\"more\"); Stall.best.tags.put(\"most\"); reply 1", "int 0..9",
			"faulted: Stall.best is full: it holds at most 2 values",
		},
		{
			"let n = who.number * 6; Stall.best.needs[0].count = n; reply 1", "int 0..9",
			"faulted: Stall.best cannot become 12, which is no int 1..9",
		},
		{"Stall.best.needs.put(Need(item = flare, count = 9)); sort n in Stall.best.needs by -n.count; " +
			"reply Stall.best.needs[0].item", "Item", `"flare"`},
		{"Stall.book.put(recipes[0]); Stall.book.put(recipes[1]); " +
			"Stall.book[0].needs.move(Stall.book[1].needs, Need(item = patch, count = 2)); " +
			"reply Stall.book[0].needs.count() * 10 + Stall.book[1].needs.count()", "int 0..99", "11"},
		{"Stall.book.put(recipes[0]); Stall.book[0].needs.take(Need(item = flare, count = 3)); " +
			"let same = Recipe(gives = tank, needs = [Need(item = patch, count = 2)], tags = [\"deep\", \"air\"]); " +
			"reply Stall.book.find(same) == 0 and Stall.book[0] == same", "bool", "true"},
		{"Stall.offers[caller] = [patch, tank]; let l = Stall.offers[caller]; Stall.offers[who] = l; reply Stall.offers[who][1]", "Item", `"tank"`},
		// maps of lists
		{
			"Stall.offers[who] = [flare, tank]; reply Stall.offers[who].count() * 10 + Stall.offers.count()",
			"int 0..99", "21",
		},
		{"Stall.offers[who].put(tank); reply 1", "int 0..9", "faulted: the map `offers` does not have the key client 2"},
		{"Stall.offers[who] = []; Stall.offers[who].put(tank); Stall.offers[who].put(patch); " +
			"reply Stall.offers[who].take_first() == nothing", "int 0..9", ""},
		{"Stall.offers[who] = []; Stall.offers[who].put(tank); Stall.offers[who].put(patch); Stall.offers[who].take_first(); " +
			"reply Stall.offers[who][0]", "Item", `"patch"`},
		// to make room for a key moves what stands behind it: the list is read first
		{"Stall.offers[who] = [patch, tank]; Stall.offers[caller] = Stall.offers[who]; Stall.offers[who] = [flare]; " +
			"reply Stall.offers[caller][1]", "Item", `"tank"`},
		{"Stall.offers[who] = [flare, patch, tank]; Stall.offers[caller] = [tank]; var n = 0; " +
			"for c, l in Stall.offers { n = n * 10 + l.count(); Stall.offers[c] = [] }; " +
			"reply n * 10 + sum(c, l in Stall.offers: l.count())", "int 0..999", "130"},
		{"Stall.offers[who] = [flare, patch, tank]; Stall.offers[caller] = [tank]; " +
			"reply first(c, l in Stall.offers where l.has(flare)).number", "int 0..9", "2"},
		{"Stall.offers[who] = [flare, patch, tank]; for i in 1..2 { Stall.offers[who].take_last() }; " +
			"Stall.offers[who][0] = patch; reply Stall.offers[who][0]", "Item", `"patch"`},
		{"Stall.offers[who] = [flare]; Stall.offers.take(who); reply Stall.offers.has(who)", "bool", "false"},
		{"Stall.offers[who] = [flare, patch, tank]; Stall.offers[who].shuffle(); reply Stall.offers[who].has(tank)", "bool", "true"},
	} {
		if c.want == "" { // it is a mistake
			_, problems := compile.Load("thing.kam", nested(c.body, c.result))
			require.NotEmpty(t, problems, c.body)
			continue
		}
		assert.Equal(t, c.want, reply(t, nestedThings, c.body, c.result), c.body)
	}
}

// nested returns a contract with a request that computes something.
func nested(body, result string) string {
	return "contract thing language 2\n" + nestedThings + "shared Probe { request try(who: client) -> " + result +
		" from everyone {\n" + body + "\n} }\n"
}

// The number of an entity is the one that its clients have, also when another one was to have its place and was undone.
func TestTheNumberOfAnEntityIsWhatClientsKnowItBy(t *testing.T) {
	g := open(t, `contract thing language 2
entity Crate { n: int 1..4294967295; on spawn { n = number(self) } }
entity Eel { n: int 1..4294967295; on spawn { n = number(self) } }
shared Reef {
  request fail() from everyone { let c = spawn Crate { n = 1 }; log everyone "{number(c)}"; for i in 0..0 { c.n = 1 / i } }
  request drop() from everyone { spawn Eel { n = 1 }; spawn Crate { n = 1 } }
}`)
	ana := g.join("Ana", "")
	g.tick()
	assert.Equal(t, wire.Faulted, g.ask(ana, 0, "Reef.fail").Outcome)
	assert.Equal(t, wire.Accepted, g.ask(ana, 0, "Reef.drop").Outcome)
	found := 0
	for _, e := range g.s.world.Entities() {
		if e.Kind.Name != "Reef" && e.Kind.Name != "Diver" {
			found++
			assert.Equal(t, int64(g.s.view.KnownNumber(ana, e.ID)), e.Nums[0], e.Kind.Name)
			assert.Equal(t, int64(g.s.numbers.Number(e)), e.Nums[0], e.Kind.Name)
		}
	}
	assert.Equal(t, 2, found)
}
