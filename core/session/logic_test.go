package session

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

const logicText = `contract hold language 2
tick 20 per second
seats 4 grace 5s
roles player
logic silent after 500ms
shared Hold {
  adrift: bool = true
  stops: int 0..99
  landed: int 0..99
  wave: int 0..100 = 10 set by logic pace abs(new - old) 20 per second burst 5 when new != 13
  request land() from logic { landed += 1 }
  request turn(c: client) from everyone { c.role = c.role }
  request copy(c: client) from everyone { caller.role = c.role }
}
entity Crate {
  pos: int 0..100 = 5 set by logic
  event shoved(by: client)
  request shove() from player { tell logic shoved(caller) }
  on owner leave { pos = 0 }
}
on join(c) { if c.role == player { spawn Crate } }
on heard { Hold.adrift = false; for c in Crate { give c to logic } }
on silent { Hold.adrift = true; Hold.stops += 1; for c in Crate { give c to server } }
`

// hold is a game with a logic process, which confirms its frames as long as it is not dumb.
type hold struct {
	*game
	logic int
	dumb  bool
}

// newHold opens a game with a player and its logic process, which has been heard.
func newHold(t *testing.T) *hold {
	h := &hold{game: open(t, logicText)}
	h.join("Ana", "")
	h.run(2)
	require.Equal(t, "true", h.reads("adrift"), "a session begins without its logic")
	h.logic = h.join("Physics", "logic")
	h.run(3)
	require.Equal(t, "false", h.reads("adrift"))
	return h
}

// run runs ticks; the logic process confirms each, unless it is dumb.
func (h *hold) run(ticks int) {
	for range ticks {
		h.tick()
		if h.logic != 0 && !h.dumb {
			h.s.Confirm(h.logic, h.s.Now())
		}
	}
}

// reads returns a property of the hold as the player sees it.
func (h *hold) reads(name string) string { return h.sees(1, 0, "Hold", name) }

// writes has a client write a property, and returns the decision of the tick; its Seq is 0 when it was accepted.
func (h *hold) writes(client int, property string, entity uint32, value int) wire.Decision {
	h.seq++
	h.decided[client] = wire.Decision{}
	h.s.Steer(client, h.s.ReadSteering(wire.MessageWrite, wire.Move{
		Seq:      h.seq,
		Entity:   entity,
		Property: property,
		Value:    json.RawMessage(fmt.Sprint(value)),
		Seen:     h.s.Now(),
	}))
	h.run(1)
	return h.decided[client]
}

// Silence is counted from the newest tick that the logic process has confirmed, whether its connection is there or not;
// what the contract declares happens once, and again when it is heard.
func TestSilenceOfTheLogic(t *testing.T) {
	h := newHold(t)
	frames := len(h.bytes[h.logic])
	h.run(50)
	require.Equal(t, "false", h.reads("adrift"), "who confirms is heard, though nothing happens")
	require.Len(t, h.bytes[h.logic], frames+50, "it gets a frame in each tick")
	h.dumb = true // it hangs: its connection is there
	h.run(10)
	assert.Equal(t, "false", h.reads("adrift"))
	h.run(1)
	assert.Equal(t, "true", h.reads("adrift"), "after ten silent ticks")
	assert.Zero(t, entityOf(t, h.s, "Crate", 0).Owner)
	h.run(40)
	assert.Equal(t, "1", h.reads("stops"), "once")
	h.dumb = false
	h.run(2)
	assert.Equal(t, "false", h.reads("adrift"))
	assert.Equal(t, h.logic, entityOf(t, h.s, "Crate", h.logic).Owner, "it owns what it is given")

	h.s.Lost(h.logic) // its process ends
	h.dumb = true
	h.run(5)
	assert.Equal(t, "false", h.reads("adrift"), "it may come back in time")
	h.s.Back(h.logic, h.s.Now())
	h.dumb = false
	h.run(20)
	assert.Equal(t, "1", h.reads("stops"))
	h.s.Leave(h.logic)
	h.logic = 0
	h.run(12)
	assert.Equal(t, "2", h.reads("stops"))
}

// What the logic process writes and asks is checked as of any client, and nobody else may.
func TestTheLogicIsCheckedLikeAnyClient(t *testing.T) {
	h := newHold(t)
	shared := entityOf(t, h.s, "Hold", 0).Entity
	assert.Zero(t, h.writes(h.logic, "Hold.wave", shared, 14).Seq)
	assert.Equal(t, "14", h.reads("wave"))
	for value, reason := range map[int]string{90: "pace", 13: "rule", 101: ""} {
		d := h.writes(h.logic, "Hold.wave", shared, value)
		assert.NotZero(t, d.Seq, "%d is refused", value)
		assert.Contains(t, d.Reason, reason)
	}
	d := h.writes(1, "Hold.wave", shared, 15)
	assert.Equal(t, "not the owner", d.Reason, "a player writes nothing of the logic's")
	assert.Equal(t, "14", h.reads("wave"))
	assert.Equal(t, wire.Accepted, h.ask(h.logic, 0, "Hold.land").Outcome)
	assert.Equal(t, wire.StageFrom, h.ask(1, 0, "Hold.land").Stage)
	assert.Equal(t, wire.Faulted, h.ask(1, 0, "Hold.turn", fmt.Sprint(h.logic)).Outcome, "it keeps its role")
	assert.Equal(t, wire.Faulted, h.ask(1, 0, "Hold.copy", fmt.Sprint(h.logic)).Outcome, "nobody else gets it")
	crate := entityOf(t, h.s, "Crate", h.logic).Entity
	assert.Equal(t, wire.Accepted, h.ask(1, crate, "Crate.shove").Outcome)
	assert.Contains(t, h.heard[h.logic], "Crate.shoved")
	assert.NotContains(t, h.heard[1], "Crate.shoved")
}

// A session has one logic process at most. One of which nothing is heard makes way for another.
func TestASessionHasOneLogicProcess(t *testing.T) {
	h := newHold(t)
	_, err := h.s.Join("Other", "logic")
	var no *Refusal
	require.ErrorAs(t, err, &no)
	assert.Equal(t, LogicTaken, no.Code)
	first := h.logic
	h.s.Lost(first)
	h.run(1)
	h.logic = h.join("Physics", "logic") // by the same name, at once
	h.run(1)
	require.Len(t, h.step.Cuts, 1)
	assert.Equal(t, first, h.step.Cuts[0].Client)
	h.run(4)
	assert.Equal(t, "0", h.reads("stops"), "it came back before it was missed")
	assert.Len(t, h.s.Clients(), 2)
	crate := entityOf(t, h.s, "Crate", 0).Entity
	assert.Empty(t, h.writes(h.logic, "Crate.pos", crate, 50).Reason)
	h.dumb = true
	h.run(20)
	h.dumb = false
	h.logic = h.join("Third", "logic") // the second hangs
	h.run(3)
	assert.Equal(t, "false", h.reads("adrift"))
}

// A session that goes on in another process gives its logic as long as ever to be heard again.
func TestTheLogicIsAwaitedAfterACrash(t *testing.T) {
	h := newHold(t)
	h.s.Recover(h.s.Now() + 5000)
	h.dumb = true
	h.run(3)
	h.s.Back(h.logic, 0)
	h.s.Back(1, 0)
	h.dumb = false
	h.run(20)
	assert.Equal(t, "0", h.reads("stops"))
	h.dumb = true
	h.run(12)
	assert.Equal(t, "1", h.reads("stops"))
}

// The outline says that the logic sets a property, so that no other client tries, and its role is by ticket.
func TestTheOutlineNamesTheLogic(t *testing.T) {
	c, problems := compile.Load("hold.kam", logicText)
	require.NotNil(t, c, "%s", problems)
	assert.Equal(t, contract.LogicRole, c.Outline().Kind("Crate").Properties[0].SetBy)
	assert.True(t, c.ByTicket(contract.LogicRole))
	assert.Equal(t, []string{"player", "logic"}, c.Roles)
}
