package audit

import (
	"context"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
)

const yard = `contract yard language 1
seats 10
roles player, referee
fn share(n: int 0..99, of: int 0..9) -> int 0..99 = n / of
shared Yard {
  crews: int 0..9 = 2
  on start { spawn Rig { } }
  request close_up() from referee limit 1 per second check crews > 0 else deny "closed" { crews -= 1 }
}
entity Rig {
  load: int 0..9 = 0 clamped
  place: int 0..50 = 0 set by owner pace abs(new - old) 50 per second burst 50
  request grab() from player limit 4 per second check owner == server else deny "taken" { give self to caller }
  request put(n: int 1..9) limit 4 per second { load += share(n, Yard.crews) }
  request let_go() { give self to server }
  on owner lost { give self to server }
}
entity Diver per player {
  air:  int 0..100 = 100 clamped
  left: int 0..9 = 9
  request breathe(n: int 1..9) limit 4 per second check air < 100 else deny "full" { air += share(n, Yard.crews) }
  request pay(n: int 1..9) from player limit 4 per second check n > 1 else deny "few" { air -= share(n, Yard.crews) }
  every 1s { if air < 3 and left < 9 { left = 9 / air } }
}
`

// One division by zero in a function is one effect, whatever leads there: told with the shortest run. What shows only
// once the audit has set a value stands apart. Who has become the owner by a request is not told as somebody else.
func TestEffectsAreToldByTheirCause(t *testing.T) {
	c, problems := compile.Load("yard.kam", yard)
	require.NotNil(t, c, problems.Error())
	r, err := Run(context.Background(), c, Options{Seed: 1, Rounds: 3, Ticks: 300})
	require.NoError(t, err)
	var texts []string
	for _, e := range r.Causes {
		texts = append(texts, e.Text)
	}
	require.Len(t, r.Causes, 2, strings.Join(texts, "\n"))
	assert.Equal(t, 2, r.Effects)
	assert.False(t, r.Clean())
	assert.True(t, r.Apart())

	share := r.Causes[0]
	assert.Contains(t, share.Text, "function share fails inside, in line 4 of yard.kam")
	assert.NotContains(t, share.Text, "#", "entities have names")
	assert.Greater(t, share.Times, 50)
	assert.Greater(t, len(share.Seen), 3)
	assert.LessOrEqual(t, len(share.Seen), maxSeen)
	assert.Equal(t, ByPlay, share.State)
	closings := 0
	for _, line := range share.Run {
		assert.NotContains(t, line, "the audit sets")
		if strings.Contains(line, "sends Yard.close_up()") {
			closings++
		}
	}
	assert.Equal(t, 2, closings, strings.Join(share.Run, "\n"))
	assert.LessOrEqual(t, len(share.Run), 7, strings.Join(share.Run, "\n"))

	timer := r.Causes[1]
	assert.Contains(t, timer.Text, "timer of Diver fails inside")
	assert.Contains(t, timer.Text, "air = 0")
	assert.Empty(t, timer.Seen)
	assert.Equal(t, BySetup, timer.State)
	sets := 0
	for _, line := range timer.Run {
		if strings.Contains(line, "the audit sets") {
			sets++
		}
	}
	assert.Positive(t, sets)
	assert.LessOrEqual(t, sets, 3, strings.Join(timer.Run, "\n"))
}

// What is tried as an unknown name is one that the contract does not have; faults that differ in their numbers are one;
// who is out for a check that the contract's own clients cannot evaluate is no effect, as long as nothing is foreseen.
func TestEffectsAreNotMadeUp(t *testing.T) {
	c, problems := compile.Load("desk.kam", `contract desk language 1
seats 6
roles player
enum Wood { driftwood, driftwood_, pearl }
entity Diver per player {
  n: int 0..99 = 90
  wood: Wood = driftwood
  request pick(of: Wood) limit 4 per second check n > 0 else deny "low" { wood = of }
  request add(m: int 5..90) limit 4 per second check n < 99 else deny "high" { n += m }
}
`)
	require.NotNil(t, c, problems.Error())
	r, err := Run(context.Background(), c, Options{Seed: 1, Rounds: 1, Ticks: 100})
	require.NoError(t, err)
	require.Len(t, r.Causes, 1)
	assert.Contains(t, r.Causes[0].Text, "Diver.n cannot become")
	assert.Equal(t, ByPlay, r.Causes[0].State)
	assert.Greater(t, r.Causes[0].Times, 3)
}

// The greatest number that every client can hold is tried as one too many only where it is.
func TestTheGreatestNumberIsInItsRange(t *testing.T) {
	c, problems := compile.Load("desk.kam", `contract desk language 1
seats 6
roles player
entity Diver per player {
  deep: int -9007199254740991..9007199254740991 = 0
  request dive(down: int -9007199254740991..9007199254740991)
    limit 4 per second
    check deep != down else deny "there already"
  { deep = down }
}
`)
	require.NotNil(t, c, problems.Error())
	r, err := Run(context.Background(), c, Options{Seed: 1, Rounds: 2, Ticks: 200})
	require.NoError(t, err)
	assert.Empty(t, effects(r))
	assert.NotZero(t, cellOf(t, r, "Diver.dive", OutOfRange).Tried)
}

// The shortest and the longest of each type are tried: here an empty text and an empty list fail inside.
func TestTheShortestIsTried(t *testing.T) {
	c, problems := compile.Load("desk.kam", `contract desk language 1
seats 6
roles player
entity Diver per player {
  n: int 0..99 = 1
  last: text max 9 = ""
  request say(words: text max 9) limit 4 per second check n > 0 else deny "low" { if words == "" { n = 9 / (n - n) }; last = words }
  request sort(list: list<int 0..9> max 4) limit 4 per second check n > 0 else deny "low" { n = list[0] + 1 }
  request pick(of: int 0..9000000) limit 4 per second check n > 0 else deny "low" { n = 1 + 9 / (9000000 - of) }
}
`)
	require.NotNil(t, c, problems.Error())
	r, err := Run(context.Background(), c, Options{Seed: 1, Rounds: 1, Ticks: 100})
	require.NoError(t, err)
	var all []string
	for _, e := range r.Causes {
		all = append(all, e.Text)
		assert.Equal(t, ByPlay, e.State, e.Text)
	}
	told := strings.Join(all, "\n")
	assert.Contains(t, told, `Diver.say("")`)
	assert.Contains(t, told, "Diver.sort([])")
	assert.Contains(t, told, "Diver.pick(9000000)")
}

// A text that may hold only some characters is sent with these, so that its checks are met, and with another one.
func TestTextsHoldWhatTheyMay(t *testing.T) {
	c, problems := compile.Load("desk.kam", `contract desk language 1
seats 6
roles player
entity Diver per player {
  code: text max 4 of "0-9" = "0"
  request dial(number: text max 4 of "0-9") limit 4 per second check number != code else deny "busy" { code = number }
}
`)
	require.NotNil(t, c, problems.Error())
	r, err := Run(context.Background(), c, Options{Seed: 1, Rounds: 1, Ticks: 200})
	require.NoError(t, err)
	assert.Empty(t, effects(r))
	assert.Greater(t, cellOf(t, r, "Diver.dial", Checks).Outcomes["accepted"], 5)
	number := c.Requests[0].Params[0].Type
	classes := map[string]bool{}
	for _, v := range wrongValues(number, OutOfRange) {
		text := ""
		require.NoError(t, json.Unmarshal([]byte(v.json), &text))
		assert.Equal(t, v.must, number.Allows(text) != nil, "%s: %q", v.class, text)
		classes[v.class] = true
	}
	assert.True(t, classes["another character"], classes)
}
