package flow_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
)

// Who may learn what: each line stands in a request of a diver's owner (m), in one of any player (a) and in a timer of
// the diver (t); beside it stands where it is a leak.
func TestWhoMayLearnWhat(t *testing.T) {
	base := `roles player, referee
enum Item { flare, patch }
audience mates(d: Diver) = viewer.Diver.crew == d.crew
audience near(d: Diver) = distance(viewer.Diver.pos, d.pos) < 9
secret audience close_by(d: Diver) = reveal(distance(viewer.Diver.pos, d.pos) < 9)
audience told(d: Diver) = Dive.open
shared Dive { open: bool = false; sum: int 0..99 = 0 clamped; hid: int 0..99 = 0 clamped to nobody; ref: int 0..99 = 0 clamped to referee
  every 5s { open = not open; sum += 1; hid += 1; ref += 1 } }
entity Diver per player {
  crew:  int 0..1 = 0
  pos:   vec2 -9..9 step 0.1
  pub:   int 0..99 = 5 clamped
  own:   int 0..99 = 5 clamped to owner
  own2:  int 0..99 = 5 clamped to owner
  crewed: int 0..99 = 5 clamped to mates(self)
  none:  int 0..99 = 5 clamped to nobody
  rest:  int 0..99 = 5 clamped to everyone but owner
  both:  int 0..99 = 5 clamped to owner or referee
  close: int 0..99 = 5 clamped to near(self)
  veil:  int 0..99 = 5 clamped to close_by(self)
  late:  int 0..99 = 5 clamped to told(self)
  tight: int 0..99 = 5 to owner
  bag:   stacks<Item> max 3 each 4 to owner
  list:  list<int 0..9> max 4 to owner
  buddy: ref Diver = nothing
  event said(n: int 0..99)
`
	const (
		mine = iota
		anyone
		timer
	)
	rows := []struct {
		line  string
		leaks string // where: m, a, t, j
	}{
		{
			"pub = own", "mat",
		},
		{"own = pub", ""},
		{"own = own2", ""},
		{"none = own", ""},
		{"own = none", "mat"},
		{"pub = none", "mat"},
		{
			"crewed = own", "mat",
		},
		{
			"own = crewed", "",
		},
		{"own = both", ""},
		{"both = own", "mat"},
		{"pub = rest", "mat"},
		{"own = rest", "mat"},
		{
			"late = late + 1", "",
		},
		{
			"pub = late", "mat",
		},
		{
			"pub = close", "",
		},
		{"pub = veil", "mat"},
		{"Dive.sum = own", "mat"},
		{"Dive.hid = own", ""},
		{"Dive.ref = both", ""},
		{"pub = Dive.hid", "mat"},
		{"both = Dive.ref", "mat"},
		{
			"buddy.own = own", "mat",
		},
		{"buddy.own = buddy.own2", ""},
		{"own = buddy.own", "mat"},
		{"buddy.crewed = crewed", "mat"},
		{
			"tell owner said(own)", "",
		},
		{
			"tell owner said(crewed)", "",
		},
		{
			"tell mates(self) said(crewed)", "",
		},
		{"tell mates(self) said(own)", "mat"},
		{"tell everyone said(own)", "mat"},
		{
			"tell referee said(both)", "",
		},
		{
			"tell referee said(own)", "mat",
		},
		{
			"tell everyone but owner said(rest)", "",
		},
		{"tell everyone but owner said(own)", "mat"},
		{"tell referee or owner said(both)", ""},
		{
			"if own > 5 { own2 = 1 }", "",
		},
		{
			"if own > 5 { pub = 1 }", "mat",
		},
		{"if own > 5 { return }; own2 = 1", ""},
		{"if own > 5 { return }; pub = 1", "mat"},
		{
			"if own > 500 { pub = 1 }", "",
		},
		{
			"let n = own; pub = n", "mat",
		},
		{"let n = own; own2 = n", ""},
		{"for d in Diver where d.own > 5 { d.own2 = 1 }", ""},
		{
			"for d in Diver where d.own > 5 { own = 1 }", "mat",
		},
		{"own = sum(d in Diver: d.own)", "mat"},
		{"own = count(d in Diver where d.pub > 5)", ""},
		{
			"let d = first(d in Diver where d.pub > 5 else self); d.own = d.own2", "",
		},
		{"let d = first(d in Diver where d.own > 5 else self); d.pub = 1", "mat"},
		{
			"pub = reveal(own)", "",
		},
		{
			"pub = reveal(own) to owner", "mat",
		},
		{
			"pub = reveal(none) to everyone", "",
		},
		{"own = reveal(none) to owner", ""},
		{"pub = reveal(none) to owner", "mat"},
		{
			"both = reveal(none) to owner", "mat",
		},
		{
			"both = reveal(none) to (owner or referee)", "",
		},
		{"both = reveal(own) to referee", ""},
		{"crewed = reveal(own) to mates(self)", ""},
		{
			"tell owner said(reveal(none) to owner)", "",
		},
		{
			"tell owner said(reveal(none) to referee)", "mat",
		},
		{"if reveal(none > 5) to owner { own = 1 }", ""},
		{"if reveal(none > 5) to owner { pub = 1 }", "mat"},
		{
			"if none > 5 { own = reveal(own2) to owner }", "mat",
		},
		{
			"let n = reveal(none) to owner; own = n; Dive.ref = n", "mat",
		},
		{
			"pub = twice(own)", "mat",
		},
		{"own = twice(own2)", ""},
		{"do show(own)", "mat"},
		{"do keep_it(own)", ""},
		{"do keep_it(none)", "mat"},
		{
			"log everyone \"{own}\"", "mat",
		},
		{"log owner \"{own}\"", ""},
		{"pub = 9 / none", "mat"},
		{"pub = 9 / (pub + 1)", ""},
		{"tight += 1; own = 1", "a"},
		{"tight += 1; pub = 1", "at"},
		{"tight = clip(tight + 1, 0..99); pub = 1", ""},
		{
			"bag.put(flare); pub = 1", "at",
		},
		{
			"if bag.room(flare) > 0 { bag.put(flare) }; pub = 1", "",
		},
		{"bag.put(flare, clip(9, 0..bag.room(flare))); pub = 1", ""},
		{
			"if bag.has(flare) { bag.take(flare) }; pub = 1", "",
		},
		{
			"if bag.has(flare) { bag.take(flare); pub = 1 }", "mat",
		},
		{"pub = bag.count(flare)", "mat"},
		{"own = list.count()", ""},
		{"pub = list.count()", "mat"},
		{"if list.room() > 0 { list.put(1) }; pub = 1", ""},
		{
			"if own > 5 and count(Mark) < 9 { spawn Mark { n = 1 } }", "mat",
		},
		{
			"if count(Mark) < 9 { spawn Mark { n = own } }", "mat",
		},
		{"if none > 5 and count(Rune) < 9 { spawn Rune { n = 1 } }", ""},
		{
			"for m in Mark where own > 5 { despawn m }", "mat",
		},
		{"for r in Rune { Dive.sum += 1 }", "mat"},
		{"Dive.hid = count(Rune)", ""},
		{"Dive.sum = count(Mark)", ""},
	}
	body := func(where int, line string) string {
		switch where {
		case mine:
			return base + "  request ask() limit 2 per second { " + line + " }"
		case anyone:
			return base + "  request ask() from player limit 2 per second check pub > 1 else deny \"no\" { " + line + " }"
		case timer:
			return base + "  every 2s { " + line + " }"
		}
		return ""
	}
	tail := `
  action show(n: int) { pub = clip(n, 0..99) }
  action keep_it(n: int) { own = clip(n, 0..99) }
}
entity Mark { n: int 0..99 once }
entity Rune to nobody { n: int 0..99 once }
shared Keeper to nobody { every 9s while Dive.hid > 3 and count(Rune) < 3 { spawn Rune { n = 1 } } }
fn twice(n: int) -> int = 2 * n
`
	told := 0
	for _, row := range rows {
		for where, name := range []string{"m", "a", "t"} {
			c, problems := compile.Load("wreck.kam", "contract wreck language 1\n"+body(where, row.line)+tail)
			require.NotNil(t, c, "%s: %s", row.line, problems.Error())
			found := false
			what := ""
			for _, p := range problems {
				if p.Code == "leak" {
					found = true
					what = p.Message
				}
			}
			if found {
				told++
			}
			assert.Equal(t, strings.Contains(row.leaks, name), found, "%s in %s: %s", row.line, name, what)
		}
	}
	t.Logf("%d lines in three places: %d leaks", len(rows), told)
}

// Analysing is bounded, whatever a text from outside declares: functions and actions that run each other in ever more
// ways.
func TestFlowsAreFollowedWithinBounds(t *testing.T) {
	var b strings.Builder
	b.WriteString(
		"contract big language 1\nentity Diver per player {\n  n: int 0..9 = 0 clamped\n" +
			"  h: int 0..9 = 0 clamped to nobody\n",
	)
	b.WriteString("  request go(a: int 0..9) { do a0(a, self); h = clip(f0(self), 0..9); h += 1 }\n")
	for i := range 30 {
		body := "d.n = clip(n, 0..9)"
		if i < 29 {
			other := fmt.Sprintf("first(e in Diver where e != d and e.n > %d else d)", i%9)
			body = fmt.Sprintf("do a%d(n, %s); do a%d(n + 1, d)", i+1, other, i+1)
		}
		fmt.Fprintf(&b, "  action a%d(n: int, d: Diver) { %s }\n", i, body)
	}
	b.WriteString("}\n")
	for i := range 30 {
		value := "d.n"
		if i < 29 {
			value = fmt.Sprintf("f%d(d) + f%d(first(e in Diver where e != d else d))", i+1, i+1)
		}
		fmt.Fprintf(&b, "fn f%d(d: Diver) -> int = %s\n", i, value)
	}
	began := time.Now()
	c, problems := compile.Load("big.kam", b.String())
	require.NotNil(t, c, problems.Error())
	assert.Less(t, time.Since(began), 20*time.Second) // followed to their ends it would take years
	assert.Contains(t, problems.Error(), "is run in too many ways here to be followed")
	assert.Contains(t, problems.Error(), "as far as it can be followed")
}

// A query in the condition of a query, as deep as may be, is read once.
func TestDeepQuestionsAreReadInTime(t *testing.T) {
	cond := "d.h > 3"
	for i := range 17 {
		cond = fmt.Sprintf("count(d%d in Diver where %s) > 0", i, strings.Replace(cond, "d.h", "d.h", 1))
	}
	text := "contract deep language 1\nentity Diver per player {\n  n: int 0..9 = 0 clamped\n" +
		"  h: int 0..9 = 0 clamped to nobody\n  request go() { for d in Diver { if " + cond + " { n += 1; h += 1 } " +
		"} }\n}\n"
	began := time.Now()
	c, problems := compile.Load("deep.kam", text)
	require.NotNil(t, c, problems.Error())
	assert.Less(t, time.Since(began), 5*time.Second)
	assert.NotEmpty(t, problems)
}
