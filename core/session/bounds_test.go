package session

import (
	"encoding/json"
	"fmt"
	"math"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/wire"
)

// Three small messages in one tick: a legal request with the number 1, a malformed one with 20000, one with the
// greatest number of 64 bits. The last is no message at all, and a frame that answers all three can be read.
func TestTheGreatestNumberBreaksNoFrame(t *testing.T) {
	g := open(t, contractText)
	ana := g.join("Ana", "")
	g.tick()
	most := wire.FromClient{
		Type: wire.MessageAsk,
		Ask:  wire.Ask{Seq: math.MaxUint64, Request: "Diver.find", Args: []json.RawMessage{}},
	}
	_, err := wire.ParseFromClient(most.JSON())
	require.ErrorContains(t, err, "the highest is 9007199254740991")
	_, err = wire.UnpackFromClient(most.Pack(g.outline), g.outline)
	require.ErrorContains(t, err, "the highest is 9007199254740991")
	for _, a := range []wire.Ask{{Seq: 1, Request: "Diver.find"}, {Seq: 20000, Request: "Diver.use"}, most.Ask} {
		g.s.Ask(ana, g.s.ReadRequest(a))
	}
	g.tick()
	require.EqualValues(t, uint64(math.MaxUint64), g.decided[ana].Seq)
	assert.Less(t, len(g.step.Frames[0].Bytes), 1000)
}

// A time before the session began is a time like any other.
func TestATimeBeforeTheSessionBeganTravels(t *testing.T) {
	g := open(t, `contract tide language 1
roles player
entity Diver per player {
  since: instant
  times: list<instant> max 3
  event surfaced(at: instant)
  request look(before: int 0..9000000) { since = now() - before * 1s; times.put(since); tell everyone surfaced(since) }
  request tell_me(at: instant) { since = at }
}
on join(c) { c.Diver.since = now() - 10s }
`)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	assert.Equal(t, "-9950", g.sees(bo, ana, "Diver", "since"))
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.look", "9000000").Outcome)
	assert.Equal(t, "-8999999900", g.sees(bo, ana, "Diver", "since"))
	assert.Contains(t, g.heard[bo], "Diver.surfaced")
	for _, at := range []string{"-9223372036854775808", "9223372036854775807", "-1", "0"} {
		require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.tell_me", at).Outcome)
		assert.Equal(
			t, at, strings.Trim(g.sees(bo, ana, "Diver", "since"), `"`), "beyond what JSON numbers hold it is text",
		)
	}
}

// What a reason quotes of a message, and how long it comes to be, breaks no frame of who sent it.
func TestAReasonIsAlwaysOneThatCanBeRead(t *testing.T) {
	var names []string
	for i := range 256 {
		names = append(names, fmt.Sprintf("pearl_of_the_deep_below_the_wreck_%d", i))
	}
	g := open(t, "contract pearls language 1\nroles player\nenum Pearl { "+strings.Join(names, ", ")+" }\n"+
		`entity Diver per player { n: int 0..9 = 0; request open(p: Pearl) { n = 1 }; request call(times: int 0..9) { n = times } }`)
	ana := g.join("Ana", "")
	g.tick()
	for request, arg := range map[string]string{"Diver.open": `"clam"`, "Diver.call": "\"\xff\xfe\""} {
		d := g.ask(ana, 0, request, arg)
		assert.Equal(t, wire.Malformed, d.Outcome)
		assert.Less(t, len(d.Reason), 2000)
	}
}

// A diver that stands still for a moment, which is a write of the value that it has, goes on from there: also while its
// client has not yet heard of the writes before.
func TestAWriteOfTheSameValueVoidsNothing(t *testing.T) {
	g := open(t, wreckText)
	ana := g.join("Ana", "")
	g.tick()
	before := g.s.Now()
	for _, x := range []string{"[1,0]", "[1.001,0]", "[1.004,0]", "[2,0]", "[3,0]"} {
		g.seq++
		g.s.Steer(ana, g.s.ReadSteering("write", wire.Move{
			Seq:      g.seq,
			Property: "Diver.pos",
			Value:    json.RawMessage(x),
			Seen:     before,
		}))
		g.tick()
		require.NotEqual(t, g.seq, g.decided[ana].Seq, "%s: %s", x, g.decided[ana].Reason)
	}
	assert.Equal(t, "(3, 0)", g.sees(ana, ana, "Diver", "pos"))
}

// A client that says it has seen ticks that are yet to come has its late writes refused as any other.
func TestWhatAWriteSaysItsClientHasSeenIsCapped(t *testing.T) {
	g := open(t, wreckText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	g.ask(bo, g.copies[bo].OwnedBy("Diver", ana).Number, "Diver.move_to", "50")
	for _, seen := range []int64{g.s.Now() + 1, 1 << 40, math.MaxInt64} {
		g.seq++
		g.s.Steer(ana, g.s.ReadSteering("write", wire.Move{
			Seq:      g.seq,
			Property: "Diver.pos",
			Value:    json.RawMessage("[50.1,0]"),
			Seen:     seen,
		}))
		g.tick()
		assert.Equal(t, "older than the server's last write", g.decided[ana].Reason, "seen %d", seen)
	}
}

func TestNamesAreCleanAndToldApart(t *testing.T) {
	g := open(t, strings.Replace(contractText, "seats 4", "seats 90", 1))
	n := g.join("  Ana\u00a0 ", "")
	g.join("Zo\u0065\u0308", "")
	g.tick()
	assert.Equal(t, "Ana", g.s.Clients()[n-1].Name, "the space around it goes")
	assert.Equal(t, "Zo\u00eb", g.s.Clients()[1].Name, "it is in normal form C")
	for name, want := range map[string]string{
		"Ana ":                             "in use",
		"Zo\u00eb":                         "in use",
		"\u0410na":                         "looks like",
		"An\u0430":                         "looks like",
		" \t ":                             "1 to 24 characters",
		"a\u200bb":                         "cannot be printed",
		"a\u202eb":                         "cannot be printed",
		"a\nb":                             "cannot be printed",
		"a\u0007b":                         "cannot be printed",
		"\u3164":                           "invisible character U+3164",
		"a\ufe0fb":                         "invisible character U+FE0F",
		"a\u2800b":                         "invisible character U+2800",
		"a\u0300\u0301\u0302\u0303\u0304b": "too many marks",
		"\xff":                             "not UTF-8",
	} {
		_, err := g.s.Join(name, "")
		assert.ErrorContains(t, err, want, "%q", name)
	}
	for _, name := range []string{"Анна", "ana", "李", "Ağrı", "🐙 Cleo", "नमस्ते"} {
		_, err := g.s.Join(name, "")
		assert.NoError(t, err, name)
	}
}

func TestTheLastClientsNumberIsTheLast(t *testing.T) {
	g := open(t, contractText)
	g.s.lastClient = 1<<31 - 1
	_, err := g.s.Join("Ana", "")
	assert.ErrorContains(t, err, "can number no more")
}

// What is kept of an entity by its number, for who steers the session or writes down what its clients do, goes with it.
func TestNothingIsKeptOfEntitiesThatAreGone(t *testing.T) {
	c, problems := compile.Load("traps.kam", trapsText)
	require.NotNil(t, c, problems.Error())
	g := begin(t, c, 1)
	ana := g.join("Ana", "")
	g.tick()
	for i := range 200 {
		g.ask(ana, 0, "Diver.light", fmt.Sprint(i%99))
		for _, x := range g.s.State().Spawned {
			g.s.Named(x.Entity)
		}
		g.ask(ana, 0, "Diver.put_out", fmt.Sprint(i%99))
	}
	assert.LessOrEqual(t, reflect.ValueOf(g.s.numbers).Elem().FieldByName("numbers").Len(), len(g.s.State().Spawned)+1)
}

// All that a client may have undecided is decided in one tick, also when all of it comes a second time in that tick, as
// when a connection is made again: nothing is dropped for its number.
func TestAllThatIsUndecidedMayComeInOneTick(t *testing.T) {
	g := open(
		t,
		"contract bells language 1\nroles player\nshared Bell { rung: int 0..999 = 0\n"+
			" request ring() from player { rung += 1 } }",
	)
	ana := g.join("Ana", "")
	g.tick()
	bell := g.copies[ana].OwnedBy("Bell", 0).Number
	for range 2 {
		for i := range wire.MaxUndone {
			g.s.Ask(ana, g.s.ReadRequest(wire.Ask{
				Seq:     uint64(i + 1),
				Entity:  bell,
				Request: "Bell.ring",
				Args:    []json.RawMessage{},
			}))
		}
	}
	g.tick()
	assert.Len(t, g.step.Decisions, wire.MaxUndone)
	for _, d := range g.step.Decisions {
		assert.Equal(t, wire.Accepted, d.Outcome, d.Reason)
	}
	assert.Contains(t, g.sees(ana, 0, "Bell", "rung"), "64")
}
