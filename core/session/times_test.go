package session

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/wire"
)

const timesText = `contract waits language 2
tick 20 per second
type Spec { reload: time 0s..10s, swing: real 1..20 step 0.5 }
const specs: list<Spec> max 4 = [Spec(reload = 180ms, swing = 2), Spec(reload = 1s, swing = 8)]
const blink = 130ms
setting tide: time 1ms..1min = 500ms
shared Dive {
  turns: int 0..999 = 0
  short: int 0..999 = 0
  every tide { turns += 1 }
  every blink { short += 1 }
}
entity Diver per player {
  model: int 0..9 = 0
  cool:  time 0s..5s = 0s
  beats: int 0..999 = 0
  late:  int 0..999 = 0
  aim:   real 0..99 step 0.5 = 0 set by owner pace abs(new - old) specs[model].swing per second burst 4
  hold lamp lease blink
  every specs[model].reload { beats += 1 }
  action rest(n: int 0..9) { late = n }
  request arm(n: int 0..9) { model = n }
  request fire() pause specs[model].reload + cool else deny "loading" { cool = 200ms }
  request wait_for(t: time 0s..2s, n: int 0..9) { after t do rest(n) }
}
`

// Times that are no literals are rounded up to ticks, and count as they are when they are asked for.
func TestTimesComeFromSettingsTablesAndProperties(t *testing.T) {
	c, problems := compile.Load("waits.kam", timesText)
	require.NotNil(t, c, problems.Error())
	for raw, turns := range map[string]string{`"200ms"`: "10", `201`: "8", `1`: "40", `"1min"`: "0"} {
		settings := map[string]json.RawMessage{"tide": json.RawMessage(raw)}
		s, err := New(c, Options{Settings: settings, Trace: true})
		require.NoError(t, err)
		g := &game{t: t, s: s, outline: c.Outline()}
		g.reset()
		ana := g.join("Ana", "")
		g.run(40)
		dive := g.copies[ana].Entities()[0]
		assert.Equal(t, "Dive", dive.Kind)
		assert.Equal(t, turns, g.sees(ana, 0, "Dive", "turns"), "every %s in two seconds", raw)
		assert.Equal(t, "13", g.sees(ana, 0, "Dive", "short"), "130 ms are three ticks")
		assert.Equal(t, "10", g.sees(ana, ana, "Diver", "beats"), "180 ms are four")
	}
	_, err := New(c, Options{Settings: map[string]json.RawMessage{"tide": json.RawMessage(`"2min"`)}})
	require.ErrorContains(t, err, `the setting `+"`tide`"+` is "2min", not a time from 1ms to 1min`)
}

func TestATimeOfAPropertyCountsAsItIsWhenItIsAskedFor(t *testing.T) {
	g := open(t, timesText)
	ana := g.join("Ana", "")
	g.tick()
	fire := func() wire.Outcome { return g.ask(ana, 0, "Diver.fire").Outcome }
	require.Equal(t, wire.Accepted, fire())
	g.run(6)
	require.Equal(t, wire.Denied, fire(), "seven ticks later, and the pause is 380 ms by now")
	require.Equal(t, wire.Accepted, fire())
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.arm", "1").Outcome)
	g.run(18)
	require.Equal(t, wire.Denied, fire(), "the other model takes longer, also after the last shot of the one")
	g.run(3)
	require.Equal(t, wire.Accepted, fire())

	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.wait_for", `"110ms"`, "7").Outcome)
	g.run(2)
	assert.Equal(t, "0", g.sees(ana, ana, "Diver", "late"))
	g.tick()
	assert.Equal(t, "7", g.sees(ana, ana, "Diver", "late"), "110 ms are three ticks")
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.wait_for", "0", "8").Outcome)
	assert.Equal(t, "7", g.sees(ana, ana, "Diver", "late"))
	g.tick()
	assert.Equal(t, "8", g.sees(ana, ana, "Diver", "late"), "no time is one tick")
	assert.Equal(t, wire.Malformed, g.ask(ana, 0, "Diver.wait_for", `"3s"`, "8").Outcome)

	// A time that cannot be computed: nothing waits for it in vain, and nothing comes through.
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.arm", "9").Outcome)
	beats := g.sees(ana, ana, "Diver", "beats")
	g.run(50)
	assert.Equal(t, beats, g.sees(ana, ana, "Diver", "beats"))
	assert.Equal(t, wire.Denied, fire())
	assert.Empty(t, g.step.Faults)
}

// The budget for writes grows by the rate that counts when a write comes.
func TestARateOfATablePacesWrites(t *testing.T) {
	g := open(t, timesText)
	ana := g.join("Ana", "")
	g.tick()
	write := func(to string) bool {
		g.seq++
		g.s.Steer(ana, g.s.ReadSteering(wire.MessageWrite, wire.Move{
			Property: "Diver.aim", Value: json.RawMessage(to), Seq: g.seq, Seen: g.step.Tick,
		}))
		g.tick()
		return g.sees(ana, ana, "Diver", "aim") == to
	}
	require.True(t, write("4"), "the burst")
	g.run(19)
	require.True(t, write("6"), "two a second")
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.arm", "1").Outcome)
	g.run(8)
	require.True(t, write("10"), "eight a second")
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.arm", "9").Outcome)
	g.run(40)
	require.False(t, write("11"), "none that can be computed")
}
