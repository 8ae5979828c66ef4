package service

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/replicate"
	"kamerad.example/internal/tests/testservice"
)

const pierContract = `contract pier language 2
roles player
exit dive(depth: int 0..9) to "reef"
shared Pier {
  stays: int 0..999 = 0
  request go(depth: int 0..9, key: text max 9) from player limit 90 per second check depth > 0 else deny "shallow"
  { for d in Diver { d.gold += 1; send d.owner to dive(depth) as key } }
  request alone(key: text max 9) from player limit 90 per second check stays < 900 else deny "no"
  { send caller to dive(1) as key }
}
entity Diver per player { gold: int 0..99 keep }
on stay(c) { Pier.stays += 1 }
`

const reefContract = `contract reef language 2
roles player
public setting depth: int 0..5 = 0
shared Reef { deep: int 0..9 = 0; on start { deep = depth } }
entity Diver per player { air: int 0..9 = 9 }
`

// reads waits until a client sees a whole number of an entity of a kind.
func reads(t *testing.T, c *client.Client, kind, name string, want int64) {
	require.Eventually(t, func() (is bool) {
		c.Look(func(copied *replicate.Copy) {
			for _, e := range copied.Entities() {
				if v, ok := e.Value(name); ok && e.Kind == kind {
					is = is || v.Num == want
				}
			}
		})
		return is
	}, 5*time.Second, 5*time.Millisecond, "%s.%s is not %d", kind, name, want)
}

// sent waits until a client is out, and returns where it was sent.
func sent(t *testing.T, c *client.Client) client.Arrival {
	select {
	case <-c.Ended():
	case <-time.After(10 * time.Second):
		require.Fail(t, "the client is not sent")
	}
	to, ok := c.Sent()
	require.True(t, ok, c.Reason())
	return to
}

// asked has a client ask what has to be accepted.
func asked(t *testing.T, c *client.Client, request string, args ...string) {
	var raw []json.RawMessage
	for _, a := range args {
		raw = append(raw, json.RawMessage(a))
	}
	d, err := c.Ask(t.Context(), 0, request, raw...)
	require.NoError(t, err)
	require.EqualValues(t, "accepted", d.Outcome, d.Reason)
}

// A crew is sent together: what each keeps is stored before it goes, it arrives by a ticket of its own that is good
// once, and the session that it comes to is opened with the settings that the exit gives.
func TestACrewIsSentTogether(t *testing.T) {
	x := lockNew(t)
	_, err := x.admin.Publish(t.Context(), "reef.kam", reefContract, nil)
	require.NoError(t, err)
	pier := x.open(t, pierContract)
	ana := x.joined(t, pier, "diver-1", "Ana")
	bo := x.joined(t, pier, "diver-2", "Bo")
	asked(t, ana, "Pier.go", "3", `"a"`)
	toAna := sent(t, ana)
	toBo := sent(t, bo)
	assert.Equal(t, toAna.Session, toBo.Session)
	assert.Equal(t, "reef", toAna.Contract)
	kept, err := x.db.KeptBy(t.Context(), "diver-1", false, 10)
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.JSONEq(t, "1", string(kept[0].Values["Diver.gold"]), "it is stored before the client is told where to go")

	_, err = x.join(t, toAna.Session, "Ana", "", "")
	require.Error(t, err, "without the ticket nobody comes in")
	_, err = x.join(t, pier, "", "", toAna.Ticket)
	require.ErrorContains(t, err, "session", "it is for the one session")
	there, err := x.join(t, toAna.Session, "", "", toAna.Ticket)
	require.NoError(t, err)
	reads(t, there, "Reef", "deep", 3)
	assert.Equal(t, "Ana", there.Me().Name)
	_, err = x.join(t, toAna.Session, "", "", toAna.Ticket)
	require.ErrorContains(t, err, "used before")
	_, err = x.join(t, toBo.Session, "", "", toBo.Ticket)
	require.NoError(t, err)

	// Who comes later by the same exit and key comes to the same session, as long as it runs.
	cleo := x.joined(t, pier, "diver-3", "Cleo")
	asked(t, cleo, "Pier.alone", `"a"`)
	assert.Equal(t, toAna.Session, sent(t, cleo).Session)
	_, err = x.admin.Close(t.Context(), toAna.Session, "over")
	require.NoError(t, err)
	dov := x.joined(t, pier, "diver-4", "Dov")
	asked(t, dov, "Pier.alone", `"a"`)
	assert.NotEqual(t, toAna.Session, sent(t, dov).Session)
}

// Who cannot be sent stays: there is no such contract, its settings are others, or the exits lead to as many sessions
// as they may.
func TestWhoCannotBeSentStays(t *testing.T) {
	x := lockNew(t)
	pier := x.open(t, pierContract)
	ana := x.joined(t, pier, "diver-1", "Ana")
	asked(t, ana, "Pier.alone", `"a"`)
	reads(t, ana, "Pier", "stays", 1)
	_, err := x.admin.Publish(t.Context(), "reef.kam", reefContract, nil)
	require.NoError(t, err)
	asked(t, ana, "Pier.go", "9", `"a"`) // more than the setting holds
	reads(t, ana, "Pier", "stays", 2)
	for i := range 64 {
		c := x.joined(t, pier, fmt.Sprint("many-", i), fmt.Sprint("Many ", i))
		asked(t, c, "Pier.alone", fmt.Sprintf("%q", fmt.Sprint("k", i)))
		sent(t, c)
	}
	asked(t, ana, "Pier.alone", `"one"`)
	reads(t, ana, "Pier", "stays", 3)
	asked(t, ana, "Pier.alone", `"k7"`)
	sent(t, ana)
	list, err := x.admin.Sessions(t.Context())
	require.NoError(t, err)
	assert.Len(t, list, 65)
}

// Where nobody needs a ticket, a client that is sent goes by its name; and exits lead to the same sessions in the next
// service, which goes on with them.
func TestExitsLeadToTheSameSessionAfterACrash(t *testing.T) {
	first := testservice.Start(t)
	_, err := first.Publish(t.Context(), "reef.kam", reefContract, nil)
	require.NoError(t, err)
	v, err := first.Publish(t.Context(), "pier.kam", pierContract, nil)
	require.NoError(t, err)
	pier, err := first.Open(t.Context(), api.OpenSession{Contract: v.Contract})
	require.NoError(t, err)
	goes := func(name string) client.Arrival {
		c, err := client.Join(t.Context(), first.Service, pier.ID, name, "", client.Options{})
		require.NoError(t, err)
		asked(t, c, "Pier.alone", `"a"`)
		return sent(t, c)
	}
	to := goes("Ana")
	assert.Empty(t, to.Ticket)
	there, err := client.Join(t.Context(), first.Service, to.Session, "Ana", "", client.Options{})
	require.NoError(t, err)
	reads(t, there, "Reef", "deep", 1)
	first.Kill()
	first.Restart()
	assert.Equal(t, to.Session, goes("Bo").Session)
}
