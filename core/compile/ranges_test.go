package compile

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/contract"
)

// A full outline tells how near a client has to be for which audience; clients are not told.
func TestTheFullOutlineTellsTheRangesOfAudiences(t *testing.T) {
	c, problems := Load("wreck.kam", `contract wreck language 1
roles player
type Place = vec2 -200..200 step 0.01
const reach = 12.5
audience near(e: Eel) = distance(viewer.Diver.pos, e.pos) <= 60
audience close(e: Eel) = e.awake and distance(e.pos, viewer.Diver.pos) < reach
audience awake(e: Eel) = e.awake
entity Diver per player { pos: Place = vec(0, 0) }
entity Eel to near(self) {
  pos:   Place = vec(0, 0)
  awake: bool = true
  teeth: int 0..9 = 3 to close(self)
  eyes:  int 0..9 = 2 to awake(self)
}
`)
	require.NotNil(t, c, problems.Error())
	assert.Equal(t, []contract.RangeOutline{
		{Audience: "near", Kind: "Diver", Property: "pos", Radius: 60},
		{Audience: "close", Kind: "Diver", Property: "pos", Radius: 12.5},
	}, c.FullOutline().Ranges)
	assert.Empty(t, c.Outline().Ranges)
}
