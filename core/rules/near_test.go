package rules

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/codegen"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/world"
)

// pairs are queries beside the same without an index. The names around are the request's arguments.
var pairs = []struct{ indexed, scanned string }{
	{"count(t in Thing within near of at)", "count(t in Thing where distance(t.pos, at) <= near)"},
	{
		"count(t in Thing within near of line(at, end) where t.key != key)",
		"count(t in Thing where distance(t.pos, line(at, end)) <= near and t.key != key)",
	},
	{"first(t in Thing within near of at else self)", "first(t in Thing where distance(t.pos, at) <= near else self)"},
	{"first(b in Body within near of at else self)", "first(b in Body where distance(b.pos, at) <= near else self)"},
	{"least(t in Thing: distance(t.pos, at) else self)", "least(t in Thing: distance(t.pos, at) + 0 else self)"},
	{
		"least(t in Thing where t.key != key: distance(pos, t.pos) else self)",
		"least(t in Thing where t.key != key: distance(pos, t.pos) + 0 else self)",
	},
	{"least(b in Body: distance(b.pos, at) else self)", "least(b in Body: distance(b.pos, at) + 0 else self)"},
	{"first(t in Thing where t.key == key else self)", "first(t in Thing where t.key == key or false else self)"},
	{
		"sum(t in Thing where key == t.key and t.pos.x > 0: t.key * 3)",
		"sum(t in Thing where (key == t.key or false) and t.pos.x > 0: t.key * 3)",
	},
	{"count(b in Body where b.key == key)", "count(b in Body where b.key == key or false)"},
	{"count(t in Thing where t.crew == amber)", "count(t in Thing where t.crew == amber or false)"},
	{"count(t in Thing where t.boss == head)", "count(t in Thing where t.boss == head or false)"},
	{"count(t in Thing where t.boss == boss)", "count(t in Thing where t.boss == boss or false)"},
	{"count(t in Thing where t.boss == self)", "count(t in Thing where t.boss == self or false)"},
	{"count(t in Thing where t.boss == nothing)", "count(t in Thing where t.boss == nothing or false)"},
	{"count(t in Thing where t.boss == t)", "count(t in Thing where t.boss == t or false)"},
	{"count(t in Thing where t.by == caller)", "count(t in Thing where t.by == caller or false)"},
	{"count(t in Thing where t.by == who)", "count(t in Thing where t.by == who or false)"},
	{"count(Thing) + count(Body)", "count(t in Thing where true) + count(b in Body where true)"},
	{"first(b in Body else self)", "first(b in Body where true else self)"},
	{"any(Sled)", "any(s in Sled where true)"},
	{"any(t in Thing within near of line(at, end))", "any(t in Thing where distance(t.pos, line(at, end)) <= near)"},
	{"count(b in Body within near of at)", "count(b in Body where distance(b.pos, at) <= near)"},
	{"min(b in Body: distance(b.pos, at) else -1)", "min(b in Body: distance(b.pos, at) + 0 else -1)"},
	{"least(d in Deep: distance(d.pos, down) else home)", "least(d in Deep: distance(d.pos, down) + 0 else home)"},
	{"count(d in Deep within near of down)", "count(d in Deep where distance(d.pos, down) <= near)"},
}

// pairText is a contract whose request n compares the two queries of a pair.
func pairText() string {
	var b strings.Builder
	b.WriteString(`contract pairs language 1
enum Crew { cobalt, amber }
type Place = vec2 -200..200 step 0.01
part Body { pos: Place = vec(0, 0); key: int 0..3 = 0 }
entity Sled with Body { }
entity Deep { pos: vec3 -200..200 step 0.01 = vec(0, 0, 0) }
entity Thing with Body {
  crew: Crew = cobalt
  boss: ref Thing = nothing
  home: ref Deep = nothing
  by: client = nothing
  same: bool = true
  count_of: int 0..1000 = 0
  request spawn_some() from everyone {
    spawn Sled { pos = pos }
    let d = spawn Deep
    home = d
    spawn Thing { boss = self; by = caller; crew = amber }
  }
`)
	const params = "near: real 0..300 step 0.01, at: Place, end: Place, key: int 0..3, head: ref Thing, who: client, " +
		"down: vec3 -200..200 step 0.01"
	for i, p := range pairs {
		fmt.Fprintf(&b, "  request pair%d(%s) from everyone { same = %s == %s }\n", i, params, p.indexed, p.scanned)
	}
	b.WriteString("}\n")
	return b.String()
}

// Queries that use an index give what they give without one, whatever was written, and rolled back.
func TestQueriesGiveTheSameWithAndWithoutAnIndex(t *testing.T) {
	c, problems := compile.Load("pairs.kam", pairText())
	require.NotNil(t, c, problems.Error())
	p, err := codegen.Generate(c)
	require.NoError(t, err)
	kinds := map[string]*contract.Kind{}
	for _, k := range c.Kinds {
		kinds[k.Name] = k
	}
	thing := kinds["Thing"]
	rapid.Check(t, func(t *rapid.T) {
		w := world.New(c, nil)
		for i := range 3 {
			w.AddClient(world.Client{Number: i + 1, Name: "Ana"})
		}
		m := NewMachine(p, w, [32]byte{})
		anywhere := rapid.Custom(func(t *rapid.T) []int64 {
			reach := rapid.SampledFrom([]int64{20_000, 500, 3}).Draw(t, "reach")
			return []int64{rapid.Int64Range(-reach, reach).Draw(t, "x"), rapid.Int64Range(-reach, reach).Draw(t, "y")}
		})
		ids := rapid.Custom(func(t *rapid.T) int64 { return rapid.Int64Range(0, int64(w.LastID())+1).Draw(t, "id") })
		change := func(e *world.Entity) {
			for _, q := range e.Kind.Properties {
				switch q.Name {
				case "pos":
					at := anywhere.Draw(t, "pos")
					if e.Kind == kinds["Deep"] {
						at = append(at, rapid.Int64Range(-500, 500).Draw(t, "z"))
					}
					w.Set(e, q, at)
				case "key":
					w.Set(e, q, []int64{rapid.Int64Range(0, 3).Draw(t, "key")})
				case "crew":
					w.Set(e, q, []int64{rapid.Int64Range(0, 1).Draw(t, "crew")})
				case "boss":
					id := ids.Draw(t, "boss")
					if x := w.Entity(world.ID(id)); x != nil && x.Kind == thing {
						w.Set(e, q, []int64{id})
					}
				case "by":
					w.Set(e, q, []int64{rapid.Int64Range(0, 3).Draw(t, "by")})
				}
			}
		}
		self := w.Spawn(thing, 0)
		w.Commit()
		for range rapid.IntRange(1, 15).Draw(t, "actions") {
			all := w.Entities()
			switch rapid.IntRange(0, 5).Draw(t, "what") {
			case 0:
				w.Commit()
			case 1:
				w.Rollback()
			case 2:
				for range rapid.IntRange(1, 20).Draw(t, "spawned") {
					change(w.Spawn(rapid.SampledFrom([]*contract.Kind{thing, kinds["Sled"], kinds["Deep"]}).Draw(t, "kind"), 0))
				}
			case 3:
				if e := rapid.SampledFrom(all).Draw(t, "gone"); e != self {
					w.Despawn(e)
				}
			default:
				change(rapid.SampledFrom(all).Draw(t, "changed"))
			}
			for i, r := range c.Requests[1:] {
				args := []int64{rapid.Int64Range(0, 30_000).Draw(t, "near")}
				args = append(append(args, anywhere.Draw(t, "at")...), anywhere.Draw(t, "to")...)
				args = append(args, rapid.Int64Range(0, 3).Draw(t, "key"), 0, rapid.Int64Range(0, 3).Draw(t, "who"))
				args = append(append(args, anywhere.Draw(t, "down")...), rapid.Int64Range(-500, 500).Draw(t, "z"))
				if e := w.Entity(world.ID(ids.Draw(t, "of"))); e != nil && e.Kind == thing {
					args[6] = int64(e.ID)
				}
				if out := m.Ask(r, self, 1, args); out != nil {
					require.Fail(t, out.Reason, pairs[i].indexed)
				}
				require.Equal(t, int64(1), self.Nums[thing.Property("same").Slot], pairs[i].indexed)
			}
		}
	})
}

// Each of the queries above is found by what it is meant to be found by.
func TestQueriesAreFoundByAnIndex(t *testing.T) {
	c, problems := compile.Load("pairs.kam", pairText())
	require.NotNil(t, c, problems.Error())
	want := []contract.Access{
		contract.AccessPlace, contract.AccessPlace, contract.AccessPlace, contract.AccessPlace, contract.AccessNearest,
		contract.AccessNearest, contract.AccessNearest, contract.AccessValue, contract.AccessValue,
		contract.AccessValue,
		contract.AccessValue, contract.AccessValue, contract.AccessValue, contract.AccessValue, contract.AccessScan, contract.AccessScan,
		contract.AccessValue, contract.AccessValue, contract.AccessNumber, contract.AccessNumber, contract.AccessNumber,
		contract.AccessPlace, contract.AccessPlace, contract.AccessNearest, contract.AccessNearest, contract.AccessPlace,
	}
	for i, r := range c.Requests[1:] {
		var found []contract.Access
		contract.AnyExpr(r.Body, func(x *contract.Expr) bool {
			if x.Query != nil {
				found = append(found, x.Query.Access())
			}
			return false
		})
		assert.Equal(t, want[i], found[0], pairs[i].indexed)
		assert.Equal(t, contract.AccessScan, found[len(found)-1], pairs[i].scanned)
	}
}

// A query for the nearest asks few, however many there are.
func TestTheNearestIsFoundAmongFew(t *testing.T) {
	few := newNearWorld(t, 1000)
	many := newNearWorld(t, 10_000)
	steps := func(n *nearWorld, action string) float64 {
		before := n.machine.Used()
		n.tick(t, action)
		return float64(n.machine.Used() - before)
	}
	for _, action := range []string{"fly", "look", "count_all"} {
		a := steps(few, action)
		b := steps(many, action)
		assert.InDelta(t, 1, b/a, 0.3, "%s: %g and %g steps", action, a, b)
		assert.False(t, math.IsNaN(b/a))
	}
}
