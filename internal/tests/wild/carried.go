package wild

import (
	"fmt"
	"math/rand/v2"
)

// Classes are the classes of audiences in Carried's contracts, Clauses how the properties there travel. A property is
// called by both, such as `n4_throttled_near`.
var (
	Classes = []string{"everyone", "nobody", "owner", "role", "keys", "told", "near", "pair", "or", "but"}
	Clauses = []string{
		"plain", "throttled", "loose", "once", "follows", "attached", "seat", "set", "hold", "ref", "list", "record",
	}
)

// Carried makes a random contract for tests of replication: kinds and properties of all classes of audiences, with all
// clauses, and nothing that acts. What changes there, a test changes itself.
//
//revive:disable-next-line:function-length It is one text.
func Carried(r *rand.Rand) string {
	g := &maker{Rand: r}
	g.line(
		"contract carried language 2\ntick %d per second\nseats 12 grace 1s\nroles player, spectator, referee",
		[]int{10, 20, 30}[r.IntN(3)],
	)
	g.line("enum Item { flare, patch, tank }")
	g.line("type Mark { n: int 0..9, at: vec2 -9..9 step 0.5, by: ref Diver, all: list<Item> max 3 }")
	g.line("type Place = vec2 -100..100 step 0.01\ntype Rate = vec2 -20..20 step 0.01")
	kinds := []string{"Dive", "Diver", "Crate", "Eel"}
	for _, k := range kinds {
		g.line(
			"audience keys_%s(e: %s) = viewer.Diver.crew == e.crew%s", k, k,
			g.one("", "", " and viewer.Diver.mood > 2", " and e.crew != 2", " and viewer.Diver.mood == e.mood"),
		)
		g.line("audience told_%s(e: %s) = Dive.mood == e.mood", k, k)
		g.line(
			"audience near_%s(e: %s) = distance(viewer.Diver.pos, e.pos) %s %d%s", k, k, g.one("<=", "<"),
			[]int{0, 1, 5 + r.IntN(60), 5 + r.IntN(60), 5 + r.IntN(60), 5 + r.IntN(60), 900}[r.IntN(7)],
			g.one("", "", " and viewer.Diver.crew == e.crew"),
		)
		g.line("audience pair_%s(e: %s) = viewer.Diver.mood > e.mood", k, k)
	}
	clause := func(kind, class string) string {
		if class == "everyone" {
			return ""
		}
		return " to " + map[string]string{
			"nobody": "nobody", "owner": "owner", "role": g.one("referee", "spectator", "player"),
			"keys": "keys_" + kind + "(self)", "told": "told_" + kind + "(self)", "near": "near_" + kind + "(self)",
			"pair": "pair_" + kind + "(self)",
			"or": g.one(
				"near_"+kind+"(self) or spectator", "owner or referee", "keys_"+kind+"(self) or owner",
				"pair_"+kind+"(self) or referee",
			),
			"but": g.one(
				"everyone but owner", "everyone but referee", "keys_"+kind+"(self) but owner",
				"near_"+kind+"(self) but spectator", "everyone but keys_"+kind+"(self)",
			),
		}[class]
	}
	for i, k := range kinds {
		head := []string{"shared Dive", "entity Diver per player", "entity Crate", "entity Eel"}[i]
		if i >= 2 {
			head += clause(k, g.one(Classes...))
		}
		g.line("%s {\n  crew: int 0..2 = 0\n  mood: int 0..4 = 0\n  pos: Place = vec(0, 0)", head)
		for n := range 3 + r.IntN(6) {
			class := g.one(Classes...)
			how := g.one(Clauses...)
			name := fmt.Sprintf("p%d_%s_%s", n, how, class)
			to := clause(k, class)
			plain := func() (string, string) {
				types := []string{
					"int -50..50", "real -4..4 step 0.25", "bool", "text max 9", "Item", "Place", "vec3 -5..5 step 0.1",
					"direction step 0.01", "rotation step 0.01", "client", "kind of [Crate, Eel]", "time -1s..2min",
					"int 0..359 wrapping", "vec2 -90..90 step 0.1 small", "real 0..359.5 step 0.5 wrapping small",
				}
				defaults := []string{
					"0", "0.5", "true", `"a"`, "patch", "vec(1, 1)", "vec(1, 1, 1)", "", "", "nothing", "Crate", "1s",
					"180", "vec(1, 1)", "0",
				}
				at := g.IntN(len(types))
				if defaults[at] == "" {
					return types[at], ""
				}
				return types[at], " = " + defaults[at]
			}
			switch how {
			case "plain":
				t, d := plain()
				g.line("  %s: %s%s%s", name, t, d, to)
			case "throttled":
				g.line(
					"  %s: %s at most %d per second%s", name,
					g.one("int 0..900 = 0", "Place = vec(1, 1)", "text max 9 = \"\""), 1+r.IntN(9), to,
				)
			case "loose":
				g.line("  %s: %s loose%s", name, g.one("int 0..900 = 0", "Place = vec(1, 1)", "Item = tank"), to)
			case "once":
				g.line("  %s: %s once%s", name, g.one("int 0..900 = 3", "text max 9 = \"b\"", "Item = tank"), to)
			case "follows":
				other := to
				if g.in(4) {
					other = "" // then it travels as values
				}
				if g.in(3) {
					const turn = "  %s: real 0..359.5 step 0.5 wrapping = 0 follows v%d%s\n"
					g.line(turn+"  v%d: real -900..900 step 1 = 0%s", name, n, to, n, other)
					continue
				}
				g.line("  %s: Place = vec(0, 0) follows v%d%s\n  v%d: Rate = vec(0, 0)%s", name, n, to, n, other)
			case "attached":
				g.line(
					"  h%d: ref %s = nothing\n  %s: Place = vec(2, 2) follows h%d.pos%s%s", n,
					g.one("Diver", "Diver", "Crate"), name, n, g.one("", " by vec(0, -1)"), to,
				)
			case "seat":
				g.line(
					"  s%d: ref %s = nothing\n  %s: Place = vec(2, 2) set by owner "+
						"pace distance(old, new) 8 per second burst 9 follows s%d.pos%s",
					n, g.one("Diver", "Crate"), name, n, to,
				)
			case "set":
				g.line("  %s: Place = vec(0, 0) set by owner pace distance(old, new) 8 per second burst 9%s", name, to)
			case "hold":
				g.line("  hold %s lease 1s%s", name, to)
			case "ref":
				g.line("  %s: ref %s = nothing%s", name, g.one("Diver", "Crate", "Eel"), to)
			case "list":
				g.line(
					"  %s: %s%s", name,
					g.one(
						"list<int 0..9> max 4", "stacks<Item> max 3 each 5", "map<Item, int 0..9> max 3",
						"list<ref Diver> max 3", "list<text max 4> max 2", "stacks<Item> max 4 each 3 slotted",
						"map<Item, list<ref Diver> max 2> max 3",
					),
					to,
				)
			case "record":
				g.line("  %s: Mark%s", name, to)
			}
		}
		g.line("}")
	}
	return g.b.String()
}
