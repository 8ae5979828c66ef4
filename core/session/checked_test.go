package session

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

const checkedText = `contract wreck language 1
roles player
enum Item { flare, patch }
shared Dive { open: bool = true }
entity Crate { left: int 0..9 = 2 }
entity Diver per player {
  hull: int 0..100 = 60 clamped
  satchel: stacks<Item> max 2 each 3 to owner
  request use(item: Item, most: int 0..100)
    check Dive.open else deny "the wreck is shut"
    let mended = hull + 25
    check mended <= most else deny "not so much"
    check satchel.has(item) else deny "not carried"
  { satchel.take(item); hull += 25 }
  request pat(other: ref Diver) from everyone
    check other.hull < caller.Diver.hull else deny "is well"
    check not (self == other) else deny "oneself"
  { other.hull += 1 }
  request shut() { Dive.open = false }
  request break() check 3 / (hull - 60) > 0 else deny "whole" { hull = 1 }
}
on join(c) { c.Diver.satchel.put(patch, 1) }
`

// checksOf describes what came of the checks of the newest decision.
func checksOf(g *game) (out []string) {
	for _, c := range g.step.Decisions[len(g.step.Decisions)-1].Checks {
		var values []string
		for _, v := range c.Values {
			values = append(values, fmt.Sprintf("%s %s", v.Name, v.Type.Format(v.Value)))
		}
		out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s", c.Result, strings.Join(values, ", "))))
	}
	return out
}

// A decision tells what came of each check, and the values that each of them saw, before the body changed them.
func TestADecisionTellsWhatItsChecksSaw(t *testing.T) {
	g := open(t, checkedText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	bos := g.copies[ana].OwnedBy("Diver", bo).Number

	g.ask(ana, 0, "Diver.use", `"patch"`, `90`)
	assert.Equal(t, []string{
		"passed Dive.open true", "passed hull 60, most 90", "passed satchel 1 patch, item patch",
	}, checksOf(g))
	g.ask(ana, 0, "Diver.use", `"patch"`, `100`)
	assert.Equal(t, []string{
		"passed Dive.open true", "failed hull 85, most 100", "not reached",
	}, checksOf(g))
	g.ask(bo, 0, "Diver.use", `"flare"`, `100`)
	assert.Equal(t, []string{
		"passed Dive.open true", "passed hull 60, most 100", "failed satchel 1 patch, item flare",
	}, checksOf(g))
	g.ask(ana, 0, "Diver.pat", fmt.Sprint(bos))
	assert.Equal(t, []string{
		"passed other.hull 60, caller.Diver.hull 85", fmt.Sprintf("passed other Diver %d", bos),
	}, checksOf(g))
	g.ask(bo, 0, "Diver.pat", fmt.Sprint(bos))
	assert.Equal(t, []string{"failed other.hull 61, caller.Diver.hull 61", "not reached"}, checksOf(g))
	g.ask(ana, 0, "Diver.shut")
	assert.Empty(t, checksOf(g), "it has none")
	g.ask(ana, 0, "Diver.use", `"patch"`, `90`)
	assert.Equal(t, []string{"failed Dive.open false", "not reached", "not reached"}, checksOf(g))
	g.ask(ana, bos, "Diver.use", `"patch"`, `90`)
	assert.Empty(t, checksOf(g), "it was denied before they were reached")
	g.ask(bo, 0, "Diver.use", `"pearl"`, `90`)
	assert.Empty(t, checksOf(g), "it was malformed")
	g.s.SetWatched(false)
	g.ask(ana, 0, "Diver.use", `"patch"`, `90`)
	assert.Empty(t, checksOf(g), "nobody watches")
}

// What is named in terms of what is named is followed once: forty names that each double the one before take no time.
func TestNamesOfTheHeadAreFollowedOnce(t *testing.T) {
	head := "    let n0 = hull\n"
	for i := range 28 {
		head += fmt.Sprintf("    let n%d = (n%d + n%d) / 2\n", i+1, i, i)
	}
	g := open(
		t, "contract wreck language 1\nroles player\nentity Diver per player {\n  hull: int 0..100 = 60\n"+
			"  request sum()\n"+head+"    check n28 == 60 else deny \"no\"\n"+
			"    check n28 + hull > 0 else deny \"no\"\n  { hull = 7 }\n}\n",
	)
	ana := g.join("Ana", "")
	g.tick()
	began := time.Now()
	g.ask(ana, 0, "Diver.sum")
	assert.Equal(t, []string{"passed hull 60", "passed hull 60"}, checksOf(g))
	assert.Less(t, time.Since(began), 2*time.Second)
}

// A check that fails inside tells of no values: which of them it had read by then is not known.
func TestACheckThatFailsInsideTellsNoValues(t *testing.T) {
	g := open(t, checkedText)
	ana := g.join("Ana", "")
	g.tick()
	d := g.ask(ana, 0, "Diver.break")
	assert.Equal(t, "faulted", string(d.Outcome))
	assert.Empty(t, checksOf(g))
}
