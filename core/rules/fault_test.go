package rules

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/codegen"
	"kamerad.example/core/compile"
	"kamerad.example/core/world"
)

const wildText = `contract wild language 1
roles player, spectator
enum Item { flare, patch }
type Place = vec2 -9..9 step 0.5
type Mark { at: Place, name: text max 9 }
type Sign { worth: int 5..9, n: int 0..9 }
setting tide: int 0..9 = 3
event rung(by: ref Diver, at: Place)
entity Diver per player {
  n: int 0..99 = 5 clamped
  tight: int 0..9 = 5
  words: text max 9
  at: Place = vec(1, 2)
  mark: Mark
  bag: list<int 0..9> max 4 = [1, 2]
  seen: map<text max 9, int 0..9> max 3
  satchel: stacks<Item> max 3 each 4
  signs: map<int 0..9, Sign> max 3
  row: list<Sign> max 3
  goal: Place = vec(0, 0) clamped
  friend: ref Diver
  on change n { tight = clip(n, 0..9); if n > 90 { bag.put(1) } }
  action later(by: int 0..9) { n += by }
  request riot(x: int 0..9, y: int 0..9) from everyone {
BODY
  }
}
entity Eel {
  hull: int 0..9
  owner_name: text max 9 = "none"
  rider: ref Diver = nothing
  on spawn { hull += 1; if hull > 8 { Winch.turns += 1 } }
}
shared Winch { turns: int 0..20 = 0; log_of: list<text max 9> max 9 }
fn twice(n: int) -> int = 2 * n
`

// steps of random bodies. Some fault, in some states.
var wildSteps = []string{
	"n += x * 7", "n = twice(x) + roll(1..9)", "tight += y", `words = "riot"`, "words = caller.name",
	"at = at + vec(x, 0.5)", "at.y = -1", "mark.at.x += 1",
	`mark = Mark(at = at, name = words)`, "bag.put(y)", "bag.cut(0)", "bag = shuffled([1, 2, 3, 4])", "bag[0] = y",
	"bag.take(2)", `seen["a"] = x`, "seen[words] = y",
	`seen["b"] += 1`, `seen.take("a")`, "satchel.put(flare, y)", "satchel.put(patch)", "satchel.take(flare)",
	"satchel.split(flare, 1)", "friend = one(d in Diver where d != self)",
	"friend.n -= 3", "friend.satchel.put(patch); friend.satchel.move(satchel, patch)", "spawn Eel { hull = y }",
	"let eNUM = spawn Eel { hull = 2; rider = self }; eNUM.owner_name = words",
	"for e in Eel { e.hull += 1 }", "for e in Eel where e.hull > 3 { despawn e }", "despawn first(e in Eel)",
	"give Winch to caller", "give Winch to server", "Winch.turns += y",
	"Winch.log_of.put(words)", "caller.role = spectator", "tell everyone rung(self, at)",
	"tell caller rung(friend, at)", `log everyone "{n} of {words}"`, `expel caller "riot"`,
	"after 100ms do later(y)", "do later(x)", "if x > y { n = 1 } else { tight -= 2 }", "match x { 0, 1 { n = 0 } " +
		"else { at = -at } }", "for i in [1, 2, 3] { n += i }", "n = n / (x - y)",
	"satchel.clear()", "bag.clear()", "if tide > 2 { return }", `deny "no"`,
	"signs[x] = Sign(worth = 9, n = y)", "signs[y].n = x", "signs[x].worth -= 1", "signs[y].worth = 5", "signs.take(x)",
	"row.put(Sign(worth = 5, n = x))", "row[y].worth = 6", "row[0].n += y", "goal.x += x * y", "goal += vec(x, -y)",
}

// state describes everything that a world holds, and what the next roll and the next entity will be.
func (m *Machine) state() string {
	w := m.World
	var b strings.Builder
	for _, e := range w.Entities() {
		fmt.Fprint(&b, e.ID, e.Kind.Name, e.Owner, e.Gone, " ")
		for _, p := range e.Kind.Properties {
			fmt.Fprint(&b, p.Name, "=", p.Type.Format(w.Value(e, p)), w.ChangedTick(e, p.Index), " ")
		}
		fmt.Fprintln(&b, e.Nums[len(e.Nums)-1:], w.Delayed(e))
	}
	for _, k := range m.program.Contract.Kinds {
		fmt.Fprint(&b, len(w.OfKind(k.Index)), w.OfClient(k.Index, 1) != nil, " ")
	}
	for _, c := range w.Clients() {
		fmt.Fprint(&b, c.Number, c.Name, c.Role, " ")
	}
	next := w.Spawn(m.program.Contract.Kinds[1], 0)
	fmt.Fprint(&b, next.ID)
	w.Rollback()
	m.begin(0)
	m.begin(0)
	m.dice.at(1)
	fmt.Fprint(&b, " ", m.dice.roll(0, 1<<40))
	return b.String()
}

// misfit names a value of the world that is none of its type, and returns "" when there is none.
func misfit(w *world.World) string {
	for _, e := range w.Entities() {
		for _, p := range e.Kind.Properties {
			if _, err := p.Type.ParseJSON(p.Type.AppendJSON(nil, w.Value(e, p))); err != nil {
				return fmt.Sprintf("%s.%s %s", e.Kind.Name, p.Name, err)
			}
		}
	}
	return ""
}

// Whatever a body does before it faults or denies: afterwards all is as it was, and what is done next comes out as it
// would have. After a body that is accepted, everything is of its type.
func TestABodyThatFaultsLeavesNothing(t *testing.T) {
	outcomes := map[string]int{}
	rapid.Check(t, func(t *rapid.T) {
		// Several bodies: those that are accepted make the state that the next one meets.
		var bodies []string
		for range rapid.IntRange(1, 4).Draw(t, "bodies") {
			var lines []string
			for i := range rapid.IntRange(1, 12).Draw(t, "steps") {
				line := strings.ReplaceAll(rapid.SampledFrom(wildSteps).Draw(t, "step"), "NUM", fmt.Sprint(i))
				lines = append(lines, line)
				if strings.HasPrefix(line, "deny") {
					break
				}
			}
			bodies = append(bodies, strings.Join(lines, "\n"))
		}
		text := strings.Replace(wildText, "BODY", bodies[0], 1)
		for i, b := range bodies[1:] {
			text = strings.Replace(
				text, "  request riot(",
				fmt.Sprintf(
					"  request riot%d(x: int 0..9, y: int 0..9) from everyone {\n%s\n  }\n  request riot(", i, b,
				),
				1,
			)
		}
		c, problems := compile.Load("wild.kam", text)
		require.NotNil(t, c, "%s\n%s", problems.Error(), text)
		p, err := codegen.Generate(c)
		require.NoError(t, err)
		w := world.New(c, nil)
		w.Tick = 1
		m := NewMachine(p, w, [32]byte{3})
		for i, name := range []string{"Ana", "Bo"} {
			client := world.Client{Number: i + 1, Name: name}
			w.AddClient(client)
			require.Nil(t, m.Join(&client))
			w.Commit()
		}
		for i, r := range c.Requests {
			self := w.OfClient(0, 1)
			if self == nil {
				return
			}
			m.Cause = Cause{Tick: w.Tick, A: int64(i)}
			before := m.state()
			w.Tick++
			m.Told = m.Told[:0]
			m.Effects = m.Effects[:0]
			out := m.Ask(r, self, 1, []int64{rapid.Int64Range(0, 9).Draw(t, "x"), rapid.Int64Range(0, 9).Draw(t, "y")})
			if out == nil {
				outcomes["accepted"]++
				w.Commit()
				require.Empty(t, misfit(w), text)
				continue
			}
			require.NotEmpty(t, out.Reason)
			if out.Faulted {
				outcomes["faulted"]++
			} else {
				outcomes["denied"]++
			}
			w.Rollback()
			w.Tick--
			require.Equal(t, before, m.state(), "%s after %s", out.Reason, text)
		}
	})
	t.Logf("%v", outcomes)
	require.Greater(t, outcomes["faulted"], 20)
}
