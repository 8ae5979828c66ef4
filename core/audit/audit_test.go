package audit

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/session"
)

func tidewreck(t testing.TB) *contract.Contract {
	raw, err := os.ReadFile(filepath.Join(demo, "tidewreck.kam"))
	require.NoError(t, err)
	c, problems := compile.LoadWith("tidewreck.kam", string(raw), files(t, string(raw)))
	require.NotNil(t, c, problems)
	return c
}

// Nothing that is refused in Tidewreck changes or tells anything, each cell is filled, and each check was seen both
// ways. KAMERAD_AUDIT says how many rounds are played; the command plays 24.
func TestTidewreckHolds(t *testing.T) {
	rounds := 4
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_AUDIT")); err == nil {
		rounds = n
	}
	c := tidewreck(t)
	r, err := Run(context.Background(), c, Options{Seed: 1, Rounds: rounds, Ticks: 150})
	require.NoError(t, err)
	for _, row := range r.Rows {
		for i, cell := range row.Cells {
			assert.Empty(t, cell.Effects, "%s, %s", row.Name, r.Attacks[i])
		}
	}
	assert.True(t, r.Clean())
	assert.GreaterOrEqual(t, r.Filled, 0.95)
	assert.Greater(t, r.Distinct, r.Tried/4)
	t.Logf(
		"%d attacks, %d distinct, %.1f %% of the cells, %d checks seen one way only", r.Tried, r.Distinct, 100*r.Filled,
		len(r.Unseen),
	)
	again, err := Run(context.Background(), c, Options{Seed: 1, Rounds: 1, Ticks: 60})
	require.NoError(t, err)
	twice, err := Run(context.Background(), c, Options{Seed: 1, Rounds: 1, Ticks: 60})
	require.NoError(t, err)
	assert.Equal(t, again, twice, "the same seed tries the same")
}

// An attack of which nothing says whether it was held does not count as tried: one that was stopped because others had
// used up a limit, that nobody looked at, that a newer write overtook, or that was broken and can be read all the same.
func TestWhatWasNotJudgedIsNotTried(t *testing.T) {
	r, err := Run(context.Background(), tidewreck(t), Options{Seed: 3, Rounds: 2, Ticks: 150})
	require.NoError(t, err)
	unproven := map[string]int{}
	for _, row := range r.Rows {
		if row.Sort == OfValue {
			continue
		}
		for i, cell := range row.Cells {
			judged := 0
			for outcome, n := range cell.Outcomes {
				repeats := slices.Contains([]string{TooFast, Repeated, Disordered}, r.Attacks[i])
				switch {
				case strings.Contains(outcome, "at limit") && !repeats:
					unproven["limit"] += n
				case outcome == "not looked at", outcome == "overtaken by a newer write", outcome == "read all the same":
					unproven[outcome] += n
				default:
					judged += n
				}
			}
			if r.Attacks[i] != Reads {
				assert.LessOrEqual(t, cell.Tried, judged, "%s, %s", row.Name, r.Attacks[i])
			}
		}
	}
	t.Log(unproven)
	assert.Greater(t, unproven["limit"], 100)
	assert.NotZero(t, unproven["overtaken by a newer write"])
	assert.NotZero(t, unproven["read all the same"])
}

// hole is a weak contract with one hole, and the same without it.
type hole struct{ name, weak, mended string }

const begin = "contract thing language 1\nstrikes 3 in 10s\nseats 10\nroles player, referee\nenum Item { a, b }\n"

// swapped makes a hole of a contract in which one part is another.
func swapped(name, body, weak, mended string) hole {
	return hole{name, begin + strings.Replace(body, "@", weak, 1), begin + strings.Replace(body, "@", mended, 1)}
}

// Weak contracts, each with one hole: the audit finds it, or a finding does; in the same mended there is nothing.
func TestEachHoleIsFound(t *testing.T) {
	const thing = "shared Game { on start { }\n request ring() from referee limit 1 per second check count(Thing) > " +
		"0 else deny \"nobody\" { tell everyone rung() } }\nevent rung()\nentity Thing per player {\n" +
		"  n: int 0..100 = 10 clamped\n  m: int 0..100 = 10 clamped to owner\n" +
		"  items: stacks<Item> max 4 each 9 to owner\n  event told(k: int 0..100)\n" +
		"  request tellall() limit 1 per second check n > 0 else deny \"low\" { tell everyone told(n) }\n%s\n}\n" +
		"on join(c) { if exists(c.Thing) { c.Thing.items.put(a, 5); c.Thing.items.put(b, 1) } }\n"
	in := func(s string) string { return fmt.Sprintf(thing, s) }
	used := "  request use() limit 4 per second check items.has(a) else deny \"none\" { items.take(a); n += 1 }\n" +
		"  request heal() limit 1 per second check m > 0 else deny \"spent\" { m -= 1; n += 1 }\n"
	list := []hole{
		swapped(
			"anyone hurts anyone", in(used+"  request hit() @ { n -= 5 }"), "from everyone limit 4 per second",
			"from owner limit 4 per second check n > 5 else deny \"low\"",
		),
		swapped(
			"a foreign thing is emptied", in(used+"  request rob() @ { if items.has(a) { items.take(a) } }"),
			"from player limit 2 per second", "limit 2 per second check items.has(a) else deny \"none\"",
		),
		swapped(
			"who acts is an argument",
			in(used+"  request pay(@) from everyone limit 2 per second check n > 0 else deny \"low\" { %s }"),
			"who: ref Thing", "k: int 0..3",
		),
		swapped(
			"a secret is told", in(used+"  request look() limit 2 per second check n > 0 else deny \"low\" { @ }"),
			"tell everyone told(m)", "tell owner told(m)",
		),
		swapped(
			"a secret decides",
			in(used+"  request try() from everyone limit 2 per second check @ else deny \"low\" { n += 1 }"), "m > 5",
			"n > 5",
		),
		swapped(
			"a secret is copied", in(used+"  request copy() limit 2 per second check n > 0 else deny \"low\" { @ }"),
			"n = m", "m = n",
		),
		swapped(
			"a place of any kind", in(used+"  pos: vec2 -100..100 step 1 set by owner @"), "",
			"pace distance(old, new) 5 per second burst 5",
		),
		swapped(
			"a rule that forbids nothing", in(used+"  height: int 0..100 = 5 set by owner when @"), "new >= 0 or true",
			"abs(new - old) <= 5",
		),
		swapped(
			"no end of eggs",
			in(
				used+"  request lay() limit 9 per second @ { spawn Egg }",
			)+"entity Egg { n: int 0..9 = 0\n after 1s { n = 1 } }\n",
			"", "check count(Egg) < 9 else deny \"enough\"",
		),
		swapped(
			"a list without end",
			in(used+"  log: list<int 0..9> max 9\n  request note() limit 4 per second @ { log.put(3) }"),
			"check n > 0 else deny \"low\"", "check log.room() > 0 else deny \"full\"",
		),
		swapped(
			"a division by an argument",
			in(used+"  request split(k: int @) limit 4 per second check n > 0 else deny \"low\" { n = 100 / k }"),
			"0..9", "1..9",
		),
		swapped(
			"a ref that is nothing",
			in(
				used+"  request touch(who: ref Thing) limit 4 per second check n > 0 @ else deny \"low\" { who.n += 1 }",
			),
			"", "and exists(who) and who == self",
		),
		swapped(
			"a flood for all",
			in(used+"  request shout() from everyone @ check n > 0 else deny \"low\" { tell everyone told(n) }"), "",
			"limit 2 per second",
		),
		swapped(
			"a strike on what nobody can know",
			in(used+"  request guess() from everyone limit 4 per second check @ else strike \"wrong\" { n += 1 }"),
			"m > 3", "n > 3",
		),
		swapped(
			"expelled for being late",
			in(used+"  request now() limit 4 per second check @ else expel \"late\" { n += 1 }"), "since(n) > 1s",
			"items.has(a)",
		),
		swapped(
			"all spawn for all",
			in(
				used+"  request egg() from everyone limit 9 per second @ { spawn Egg }",
			)+"entity Egg { n: int 0..9 = 0\n after 1s { n = 1 } }\n",
			"", "check count(Egg) < 9 else deny \"enough\"",
		),
		swapped(
			"another client is named",
			in(used+"  request fine(who: client) from player limit 2 per second check n > 0 else deny \"low\" { @ }"),
			"if exists(who) { if exists(who.Thing) { who.Thing.n -= 1 } }", "if who == caller { n -= 1 }",
		),
		swapped(
			"a check that never fails",
			in(used+"  request go() from everyone limit 4 per second check @ else deny \"low\" { n -= 1 }"), "n >= 0",
			"n > 20",
		),
		swapped(
			"a check that never passes",
			in(used+"  request go() limit 4 per second check @ else deny \"low\" { n -= 1 }"), "n > 100", "n > 20",
		),
		swapped(
			"the referee's work is everyone's",
			in(used)+"shared Round {\n  round: int 0..9 = 0 clamped\n  request next() @ { round += 1 }\n}\n",
			"from everyone limit 1 per second", "from referee limit 1 per second check round < 9 else deny \"over\"",
		),
		swapped(
			"a shared thing gives itself away",
			in(
				used,
			)+"shared Winch {\n  turned: int 0..9 = 0 clamped\n"+
				"  request grab() from player limit 4 per second @ { give self to caller }\n"+
				"  request turn() limit 4 per second { turned += 1 }\n  request let_go() { give self to server }\n"+
				"  on owner lost { give self to server }\n}\n",
			"", "check owner == server else deny \"taken\"",
		),
	}
	list[2].weak = strings.Replace(list[2].weak, "%s", "if exists(who) { who.n -= 1; n += 1 }", 1)
	list[2].mended = strings.Replace(
		list[2].mended, "%s", "if exists(caller.Thing) { caller.Thing.n -= 1; caller.Thing.m += k }", 1,
	)
	look := func(name, text string) (found []string) {
		c, problems := compile.Load("thing.kam", text)
		require.NotNil(t, c, "%s: %s\n%s", name, problems, text)
		for _, p := range problems {
			found = append(found, p.Message)
		}
		r, err := Run(context.Background(), c, Options{Seed: 3, Rounds: 2, Ticks: 120})
		require.NoError(t, err)
		for _, row := range r.Rows {
			for _, cell := range row.Cells {
				found = append(found, cell.Effects...)
			}
		}
		return found
	}
	assert.GreaterOrEqual(t, len(list), 20)
	for _, h := range list {
		found := look(h.name, h.weak)
		if assert.NotEmpty(t, found, h.name) {
			t.Logf("%s: %s", h.name, found[0])
		}
		assert.Empty(t, look(h.name, h.mended), "%s, mended", h.name)
	}
}

// What is revealed to some is varied behind the backs of the others. What could not be varied is named with its reason,
// and counts as not filled.
func TestSecretsThatWereNotTriedAreNamed(t *testing.T) {
	const table = `contract table language 2
roles player, watcher
shared Table {
  left: int 0..8 := deck.count() to nobody
  deck: list<int 0..9> max 8 = [1, 2, 3, 4] to nobody
  mark: int 0..9 = 0 clamped to nobody
  who:  client = nothing to nobody
  on start { deck = shuffled(deck) }
  every 1s { deck = shuffled(deck); mark += 1; if mark > 8 { mark = 0; who = nothing } }
}
entity Diver per player {
  hand: list<int 0..9> max 8 to owner
  note: int 0..99 = 0 clamped
  event drew(n: int 0..9)
  request draw()
    limit 4 per second
    check reveal(Table.deck.count() > 0) else deny "none"
    check hand.room() > 0 else deny "full"
  {
    let n = reveal(Table.deck[0]) to owner
    hand.put(n)
    tell @ drew(n)
    if Table.who == nothing { Table.who = caller; Table.mark = Table.left }
  }
  request drop_all() limit 1 per second check hand.count() > 0 else deny "none" { hand.clear(); note += 1 }
}
`
	run := func(told string) *Report {
		c, problems := compile.Load("table.kam", strings.Replace(table, "@", told, 1))
		require.NotNil(t, c, problems)
		r, err := Run(context.Background(), c, Options{Seed: 1, Rounds: 1, Ticks: 60})
		require.NoError(t, err)
		return r
	}
	r := run("owner")
	cells := map[string]Cell{}
	for _, row := range r.Rows {
		cells[row.Name] = row.Cells[len(row.Cells)-1]
	}
	assert.Positive(t, cells["Table.deck"].Tried, "it is revealed to owners alone: %s", cells["Table.deck"].Why)
	assert.Empty(t, cells["Table.deck"].Effects)
	assert.Equal(t, forEveryone, cells["Diver.note"].Why)
	assert.Equal(t, isComputed, cells["Table.left"].Why)
	assert.Equal(t, 1, r.Unread())
	assert.Contains(t, r.Empty, Missing{"Table.who", Reads, refersTo})
	assert.Less(t, r.Filled, 1.0)
	assert.True(t, r.Clean())
	leaky := run("everyone")
	assert.Positive(t, leaky.Learned, "what is drawn is told to more than it was revealed to")
	assert.False(t, leaky.Clean())
}

// A value that is revealed in each tick cannot be held against another one for ten: that is no proof, and is named. One
// that is revealed after a while is tried until then.
func TestWhatIsRevealedAtOnceIsNotTried(t *testing.T) {
	run := func(every string) *Report {
		c, problems := compile.Load("bell.kam", `contract bell language 1
roles player, watcher
shared Bell {
  mark: int 0..99 = 50 to nobody
  event rung(n: int 0..99)
  every `+every+` { tell everyone rung(reveal(mark)) }
}
entity Diver per player {
  n: int 0..99 = 0 clamped
  request knock() limit 4 per second check n < 99 else deny "done" { n += 1 }
}
`)
		require.NotNil(t, c, problems.Error())
		r, err := Run(context.Background(), c, Options{Seed: 1, Rounds: 1, Ticks: 60})
		require.NoError(t, err)
		return r
	}
	assert.Contains(t, run("50ms").Empty, Missing{"Bell.mark", Reads, soonRevealed})
	assert.Equal(t, 1, run("50ms").Unread())
	r := run("5s")
	assert.Zero(t, r.Unread())
	assert.Zero(t, r.Learned)
}

func TestWhatAnAuditIsAsked(t *testing.T) {
	c := tidewreck(t)
	_, err := Run(context.Background(), c, Options{Rounds: -1})
	assert.ErrorContains(t, err, "audit tidewreck in -1 rounds: from 1 to")
	_, err = Run(context.Background(), c, Options{Ticks: MaxTicks + 1})
	assert.ErrorContains(t, err, "ticks: from 1 to")
	ended, stop := context.WithCancel(context.Background())
	stop()
	_, err = Run(ended, c, Options{})
	assert.ErrorIs(t, err, context.Canceled)
}

// Two sessions that part are told of, also when nothing was refused in that very tick.
func TestALateEffectIsTold(t *testing.T) {
	c := tidewreck(t)
	for _, refused := range []bool{true, false} {
		list := targets(c, c.Outline())
		a := &auditor{contract: c, targets: list, effects: &effectSet{}}
		var err error
		a.all, err = session.New(c, session.Options{Trace: true})
		require.NoError(t, err)
		a.few, err = session.New(c, session.Options{Trace: true, Key: [32]byte{1}}) // another seed, another world
		require.NoError(t, err)
		x := &attack{of: list[3], what: MadeUp}
		a.compare(
			a.all.Tick(), nil, a.few.Tick(),
			[]given{{from: &someone{attacked: refused}, m: list[3].message(0, nil), attack: x}},
		)
		assert.True(t, a.ended)
		report := &Report{}
		report.fill(c, list, a.effects)
		assert.Equal(t, 1, report.Effects)
		assert.False(t, report.Clean())
		assert.Equal(t, refused, len(list[3].cells[MadeUp].Effects) == 1)
	}
}
