package syntax

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What each line of a drill is read as.
func TestLinesOfADrill(t *testing.T) {
	file, problems := ParseDrills(NewSource("a.drill", `drill "one" // a remark
use "wreck.kam" seed 7 with tide = 3, deep = true
host ana
clients bo, cleo as referee
link bo delay 120ms jitter 40ms loss 5% reorder 2% bandwidth 900 steady
set ana.Diver.hull = 40; give Winch to ana
let eel = one(e in Eel where e.hull < 60)
ana asks Diver.use(patch) -> denied "not carried"
ana forges bo.Diver.use("pearl", 3) -> malformed
bo asks Strongbox.guess(2) -> accepted true
ana holds Diver.kick
ana releases Diver.kick
ana writes Diver.pos = vec(1, 2)
leave bo
settle
wait 2s
wait 3 ticks
wait at most 1 tick until bo sees Dive.phase == dive
repeat 2 { wait 1s; ana asks Diver.search() }
for c in ana, bo { set c.Diver.hull = 3 }
expect server sees 1 == 1
expect ana does not see bo.Diver.air
expect bo heard 2 ana.Diver.used(patch)
expect bo did not hear welcome
expect bo noticed ana.Diver.hull from 100 to 40
expect bo has 1 strikes
expect bo is not expelled
expect bo did not log "turn 2"
expect bo got 0 bytes of Flare in 1s
expect everyone in step
drill "two"
use "wreck.kam"
`))
	require.Empty(t, problems)
	require.Len(t, file.Drills, 2)
	d := file.Drills[0]
	assert.Equal(t, "one", d.Name.Value)
	assert.EqualValues(t, 7, d.Seed.Value)
	assert.Len(t, d.Settings, 2)
	assert.Nil(t, file.Drills[1].Seed)
	require.Len(t, d.Lines, 29)
	at := func(i int) any { return d.Lines[i] }
	assert.True(t, at(0).(*DrillJoin).Host)
	assert.Equal(t, "referee", at(1).(*DrillJoin).Role.Text)
	link := at(2).(*DrillLink)
	assert.Equal(
		t, []int64{120, 40, 5, 2, 900},
		[]int64{link.Delay.Value, link.Jitter.Value, link.Loss.Value, link.Reorder.Value, link.Bandwidth.Value},
	)
	assert.True(t, link.Steady)
	assert.False(t, at(3).(*DrillSet).Give)
	assert.True(t, at(4).(*DrillSet).Give)
	assert.IsType(t, &Query{}, at(5).(*Let).Value)
	assert.Equal(t, "not carried", at(6).(*DrillAct).Want.Reason.Value)
	assert.Equal(t, VerbForges, at(7).(*DrillAct).Verb)
	assert.Len(t, at(7).(*DrillAct).Args, 2)
	assert.IsType(t, &Truth{}, at(8).(*DrillAct).Want.Value)
	assert.Equal(t, VerbHolds, at(9).(*DrillAct).Verb)
	assert.Equal(t, VerbReleases, at(10).(*DrillAct).Verb)
	assert.NotNil(t, at(11).(*DrillAct).Value)
	assert.Equal(t, MoveLeave, at(12).(*DrillMove).Verb)
	assert.True(t, at(13).(*DrillWait).Settle)
	assert.EqualValues(t, 2000, at(14).(*DrillWait).Ms.Value)
	assert.EqualValues(t, 3, at(15).(*DrillWait).Ticks.Value)
	assert.Equal(t, ExpectSees, at(16).(*DrillWait).Until.What)
	assert.Len(t, at(17).(*DrillLoop).Body, 2)
	assert.Len(t, at(18).(*DrillLoop).Over, 2)
	var what []string
	for _, l := range d.Lines[19:] {
		what = append(what, string(l.(*DrillExpect).What))
	}
	assert.Equal(t, "sees misses heard heard noticed strikes expelled logged got step", strings.Join(what, " "))
	assert.True(t, at(22).(*DrillExpect).Not)
	for _, l := range d.Lines { // each knows its place
		assert.Less(t, l.Span().Start, l.Span().End)
	}
}

// A mistake in one line does not hide those after it.
func TestMistakesInDrills(t *testing.T) {
	for text, says := range map[string]string{
		"set a = 1\n":                "1:1: expected a drill, found `set`",
		"drill one\n":                "1:7: expected the drill's name in quotes",
		"drill \"a\"\nclients ana\n": "expected `use` and the contract",
		"drill \"a\"\nuse \"a.kam\"\nana shouts Diver.x()": "expected a line of a drill",
		"drill \"a\"\nuse \"a.kam\"\nana asks Diver.x\n":   "a request has brackets after its name",
		"drill \"a\"\nuse \"a.kam\"\nlink bo delay 5%\n":   "expected a time",
		"drill \"a\"\nuse \"a.kam\"\nlink bo loss 5\n":     "expected `%` after the number",
		"drill \"a\"\nuse \"a.kam\"\nlink bo wind 5s\n":    "expected a condition of a link",
		"drill \"a\"\nuse \"a.kam\"\nwait at once\n":       "expected `most` and a time",
		"drill \"a\"\nuse \"a.kam\"\nwait 3\n":             "expected `tick` or `ticks`",
		"drill \"a\"\nuse \"a.kam\"\nexpect bo flies\n":    "expected what is expected of it",
		"drill \"a\"\nuse \"a.kam\"\nexpect bo did see x":  "expected `not`",
		"drill \"a\"\nuse \"a.kam\"\nrepeat 2 {\n settle":  "this `{` is never closed",
		"drill \"a\"\nuse \"a.kam\"\n}\n":                  "this `}` closes nothing",
		"drill \"a\"\nuse \"a.kam\"\nsettle now\n":         "expected the end of this line",
	} {
		_, problems := ParseDrills(NewSource("a.drill", text))
		assert.Contains(t, problems.Error(), says, text)
	}
	_, problems := ParseDrills(
		NewSource("a.drill", "drill \"a\"\nuse \"a.kam\"\nlink bo wind 5s\nwait 3\nsettle now\n"),
	)
	assert.Len(t, problems, 3)
}

// The one style of drills.
func TestDrillsAreLaidOut(t *testing.T) {
	out, problems := FormatDrills(
		NewSource(
			"a.drill",
			"drill   \"a\"\nuse \"a.kam\"   seed 3\nlink bo loss 5 % delay 3s\nset  ana.Diver.hull=3\n\n\n\n"+
				"ana asks Diver.use( patch )->accepted\nana asks Diver.search()  ->   denied \"no\"\nrepeat 2{\n"+
				"settle\n}\n",
		),
	)
	require.Empty(t, problems)
	assert.Equal(
		t,
		"drill \"a\"\nuse \"a.kam\" seed 3\nlink bo loss 5% delay 3s\nset ana.Diver.hull = 3\n\n"+
			"ana asks Diver.use(patch) -> accepted\nana asks Diver.search()   -> denied \"no\"\nrepeat 2 {\n"+
			"  settle\n}\n",
		out,
	)
	_, problems = FormatDrills(NewSource("a.drill", "drill\n"))
	assert.NotEmpty(t, problems)
}
