package record_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/record"
)

// recorded plays a story with two divers and returns it.
func recorded(t *testing.T, play func(s *story)) *story {
	s := newStory(t, storyText)
	s.join("ana")
	s.join("bo")
	play(s)
	if batch, ok := s.writer.Take(); ok {
		batch.Data = record.Compress(batch.Data)
		s.Batches = append(s.Batches, batch)
	}
	return s
}

// compared compares a story with another one, with another text of the contract when that is not empty.
func compared(t *testing.T, one, other *story, text string) *record.Comparison {
	c := other.c
	if text != "" {
		c = loaded(t, text)
	}
	found, err := record.Compare(
		t.Context(), record.NewPlayer(one.c, one.options, &one.Recording),
		record.NewPlayer(c, other.options, &other.Recording),
	)
	require.NoError(t, err)
	return found
}

// shown returns the values that differ, as text.
func shown(c *record.Comparison) (out []string) {
	for _, v := range c.Values {
		out = append(out, v.Of+"."+v.Property+": "+strings.Join(v.Values[:], " | "))
	}
	return out
}

// The first tick in which two sessions differ is found, with what differs and why.
func TestTheFirstDifferenceIsFound(t *testing.T) {
	play := func(by string, ticks int) func(s *story) {
		return func(s *story) {
			s.ticks(900)
			s.ask(2, "Diver.swim", "[1,0]")
			s.ticks(400)
			s.ask(1, "Diver.hit", by)
			s.ticks(ticks)
		}
	}
	one := recorded(t, play("30", 50))

	same := compared(t, one, recorded(t, play("30", 50)), "")
	assert.Zero(t, same.Tick)
	assert.EqualValues(t, 1350, same.Ticks)
	other := recorded(t, play("30", 50))
	other.options.Key[3] = 8 // entities have other numbers, and hold the same
	assert.Zero(t, compared(t, one, other, "").Tick)

	differs := compared(t, one, recorded(t, play("45", 50)), "")
	assert.EqualValues(t, 1301, differs.Tick)
	assert.EqualValues(t, 1300, differs.Ticks)
	assert.Equal(t, []string{"Diver 1.hull: 70 | 55"}, shown(differs))
	require.NotNil(t, differs.Reasons[0])
	assert.Contains(t, told(differs.Reasons[0])[0], "ana asked Diver.hit(30)")
	assert.Contains(t, told(differs.Reasons[1])[0], "ana asked Diver.hit(45)")

	ended := compared(t, one, recorded(t, play("30", 40)), "")
	assert.EqualValues(t, 1341, ended.Tick)
	assert.Equal(t, "the second ends", ended.Ended)

	mended := strings.Replace(storyText, "{ hull -= by }", "{ hull -= min(by, 20) }", 1)
	fixed := compared(t, one, one, mended)
	assert.EqualValues(t, 1301, fixed.Tick)
	assert.Equal(t, []string{"Diver 1.hull: 70 | 80"}, shown(fixed))

	strict := strings.Replace(storyText, "check hull > 0 else", "check by < 30 else", 1)
	denied := compared(t, one, one, strict)
	assert.Equal(t, []record.DifferentAnswer{
		{Client: "ana", Request: "Diver.hit", Answers: [2]string{"accepted", `denied "spent"`}},
	}, denied.Decided)

	crowd := strings.Replace(storyText, "seats 4", "seats 1", 1)
	full := compared(t, one, one, crowd)
	assert.EqualValues(t, 1, full.Tick)
	assert.Contains(t, full.Ended, "the second cannot go on")

	spawned := recorded(t, func(s *story) {
		s.ticks(30)
		s.join("cleo")
		s.ticks(3)
	})
	alone := recorded(t, func(s *story) { s.ticks(33) })
	assert.Equal(t, []string{"Diver 3.:  | is there"}, shown(compared(t, alone, spawned, "")))
}

// Who owns something is compared as its values are.
func TestOwnersAreCompared(t *testing.T) {
	give := func(to int) *story {
		s := newStory(t, wharfText)
		s.join("ana")
		s.join("bo")
		s.ticks(2)
		s.askOf(1, "Diver", 1, "drop", 3)
		if to > 0 {
			require.NoError(t, s.session.Hand(s.session.Nth("Crate", 1), to))
		}
		s.ticks(3)
		s.whyOf("Crate", 1, "left") // which hands over what waits
		return s
	}
	assert.Zero(t, compared(t, give(0), give(0), "").Tick)
	differs := compared(t, give(0), give(2), "")
	assert.EqualValues(t, 6, differs.Tick)
	assert.Equal(t, []string{"Crate 1.owner: client 0 | client 2"}, shown(differs))
}
