package compile_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/session"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
)

// What a session comes to is computed when the contract ends it; the first end counts.
func TestASessionHasAResult(t *testing.T) {
	const text = `contract wreck language 1
result Outcome
roles player, referee

enum Crew { cobalt, amber }

type Outcome { winner: Crew, best: client, found: int 0..99, words: text max 9 }

shared Dive {
  found: int 0..99 = 3 once
  accept unguarded "a referee may"
  request end(crew: Crew, n: int 0..200) from referee {
    close "over" with Outcome(winner = crew, best = caller, found = found + n, words = "well")
    close "over again" with Outcome(winner = crew, best = caller, found = 0, words = "")
  }
  accept unguarded "a referee may"
  request stop() from referee { close "stopped" }
}
`
	c, problems := compile.Load("wreck.kam", text)
	require.NotNil(t, c, problems)
	require.Empty(t, problems)
	styled, _ := syntax.Format(syntax.NewSource("wreck.kam", text))
	assert.Equal(t, text, styled)
	end := func(request string, args ...json.RawMessage) (step *session.Step, outcome wire.Outcome) {
		s, err := session.New(c, session.Options{Trace: true})
		require.NoError(t, err)
		n, err := s.Join("Ana", "referee")
		require.NoError(t, err)
		s.Ready(n)
		s.Tick()
		s.Ask(n, s.ReadRequest(wire.Ask{
			Seq:     1,
			Request: request,
			Args:    args,
			Entity:  s.EntityNumber(s.World().OfKind(0)[0]),
		}))
		step = s.Tick()
		require.Len(t, step.Decisions, 1)
		return step, step.Decisions[0].Outcome
	}
	step, _ := end("Dive.end", []byte(`"amber"`), []byte("4"))
	assert.Equal(t, "over", step.Closed)
	assert.JSONEq(t, `{"winner":"amber","best":1,"found":7,"words":"well"}`, string(step.Result))
	step, outcome := end("Dive.end", []byte(`"amber"`), []byte("97"))
	assert.Equal(t, wire.Faulted, outcome, "the result would be out of its range")
	assert.Empty(t, step.Closed)
	step, _ = end("Dive.stop")
	assert.Equal(t, "stopped", step.Closed)
	assert.Nil(t, step.Result)
}

func TestResultsThatAreWrong(t *testing.T) {
	for text, want := range map[string]string{
		"result int 0..9\nresult bool\n":                                       "has a result already",
		"shared A { on start { close \"over\" with 1 } }\n":                    "does not say what a session's result is",
		"result bool\nshared A { on start { close \"over\" with 1 } }\n":       "the result",
		"result Crew\nshared A { on start { close \"over\" } }\n":              "Crew",
		"result bool\nshared A { on start { close \"over\" with missing } }\n": "missing",
	} {
		_, problems := compile.Load("a.kam", "contract a language 1\n"+text)
		assert.Contains(t, problems.Error(), want, text)
	}
}
