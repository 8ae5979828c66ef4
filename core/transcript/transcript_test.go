package transcript_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/drill"
	"kamerad.example/core/play"
	"kamerad.example/core/record"
	"kamerad.example/core/replicate"
	"kamerad.example/core/session"
	"kamerad.example/core/syntax"
	"kamerad.example/core/transcript"
	"kamerad.example/core/wire"
)

// beside reads a file of the demo.
func beside(name string) (string, error) {
	raw, err := os.ReadFile(filepath.Join("../../demo", filepath.Base(name)))
	return string(raw), err
}

func dive(t *testing.T) *contract.Contract {
	text, err := beside("tidewreck.kam")
	require.NoError(t, err)
	c, problems := compile.LoadWith("tidewreck.kam", text, beside)
	require.NotNil(t, c, problems.Error())
	return c
}

// noter is a client of a session that is written down.
type noter struct {
	me      wire.Client
	outline *contract.Outline
	reader  *wire.Reader
	copy    replicate.Copy
	actor   *play.Actor
	seq     uint64
	lost    bool
	press   uint64
	until   int // when it releases what it holds; 0 when it holds nothing
}

func (p *noter) Outline() *contract.Outline     { return p.outline }
func (p *noter) Me() wire.Client                { return p.me }
func (p *noter) Look(f func(c *replicate.Copy)) { f(&p.copy) }

// Whatever clients do, honest or forged, with lost connections and holds: the drill that is written of it comes to the
// same.
func TestATranscriptPlaysTheSame(t *testing.T) {
	c := dive(t)
	accepted := 0
	others := 0
	moves := 0
	expected := map[string]int{}
	for seed := range uint64(12) {
		s, err := session.New(c, session.Options{Key: drill.Key(seed + 1)})
		require.NoError(t, err)
		notes := transcript.New(s, seed+1, nil)
		calls := record.NewWriter(0, 1)
		s.RecordCalls(calls.Record)
		r := rand.New(rand.NewPCG(seed, 1))
		var all []*noter
		join := func(name, role string) {
			n, err := s.Join(name, role)
			require.NoError(t, err)
			p := &noter{me: wire.Client{Number: n, Name: name, Role: role}, outline: c.Outline(), reader: s.Reader(n)}
			p.copy.Me = n
			p.actor = play.NewActor(p, r)
			all = append(all, p)
			notes.Joined(p.me)
		}
		send := func(p *noter, m wire.FromClient) {
			if m.Type != wire.MessagePress && m.Type != wire.MessageRelease {
				p.seq++
				m.Seq = p.seq
			}
			m.Seen = p.copy.Tick
			notes.Sent(p.me.Number, &m)
			if m.Type == wire.MessageAsk {
				s.Ask(p.me.Number, s.ReadRequest(m.Ask))
			} else {
				s.Steer(p.me.Number, s.ReadSteering(m.Type, m.Move()))
			}
		}
		for tick := range 300 {
			switch {
			case tick == 3:
				join("Ana", "player")
				join("ref", "referee")
			case tick == 5 || tick == 40 || tick == 41:
				join(map[int]string{5: "Bo", 40: "ana", 41: "server"}[tick], "player")
			case tick == 20 && !all[1].lost:
				send(
					all[1],
					wire.FromClient{
						Type: wire.MessageAsk,
						Ask:  wire.Ask{Request: "Dive.begin", Args: []json.RawMessage{}},
					},
				)
			case tick == 200:
				s.Leave(all[2].me.Number)
				notes.Moved(syntax.MoveLeave, all[2].me.Number)
				all = slices.Delete(all, 2, 3)
			}
			for _, p := range all {
				if p.copy.Tick == 0 || p.lost {
					if p.lost && r.IntN(10) == 0 {
						p.lost = false
						s.Back(p.me.Number, p.copy.Tick)
						notes.Moved(syntax.MoveBack, p.me.Number)
					}
					continue
				}
				s.Confirm(p.me.Number, p.copy.Tick)
				s.Ready(p.me.Number)
				if entity, request, args := p.actor.Pick(); request != "" && r.IntN(4) == 0 {
					if args == nil {
						args = []json.RawMessage{}
					}
					if r.IntN(6) == 0 {
						args = append(
							args,
							[]json.RawMessage{
								[]byte(`"pearl"`), []byte(`[1, true]`), []byte(`{"x":1}`),
								[]byte(strings.Repeat("[", 40) + strings.Repeat("]", 40)), []byte(`-9007199254740991`),
								[]byte(`1e300`), []byte(`"` + strings.Repeat("a", 5000) + `"`),
							}[r.IntN(7)],
						)
					}
					send(p, wire.FromClient{
						Type: wire.MessageAsk,
						Ask:  wire.Ask{Entity: entity, Request: request, Args: args},
					})
				}
				if property, value := p.actor.Step(); property != "" && r.IntN(3) == 0 {
					moves++
					send(p, wire.FromClient{Type: wire.MessageWrite, Property: property, Value: value})
				}
				switch {
				case p.until > 0 && tick >= p.until:
					send(p, wire.FromClient{Type: wire.MessageRelease, Property: "Diver.kick", Press: p.press})
					p.until = 0
				case p.until > 0 && tick%3 == 0:
					send(p, wire.FromClient{Type: wire.MessagePress, Property: "Diver.kick", Press: p.press})
				case p.until == 0 && p.me.Role == "player" && r.IntN(20) == 0:
					p.press++
					p.until = tick + r.IntN(30)
					send(p, wire.FromClient{Type: wire.MessagePress, Property: "Diver.kick", Press: p.press})
				}
				if r.IntN(150) == 0 {
					p.lost = true
					s.Lost(p.me.Number)
					notes.Moved(syntax.MoveCut, p.me.Number)
				}
			}
			step := s.Tick()
			notes.Ticked(step)
			for i := range step.Frames {
				for _, p := range all {
					if p.me.Number == step.Frames[i].Client && !p.lost {
						f, err := p.reader.Read(step.Frames[i].Bytes)
						require.NoError(t, err)
						p.copy.Apply(f)
					}
				}
			}
			for _, d := range step.Decisions {
				if d.Outcome == wire.Accepted {
					accepted++
				} else {
					others++
				}
			}
			for _, cut := range step.Cuts {
				notes.Out(cut.Client)
				all = slices.DeleteFunc(all, func(p *noter) bool { return p.me.Number == cut.Client })
			}
			if held := s.State().Spawned; r.IntN(3) == 0 && len(held) > 0 {
				x := held[r.IntN(len(held))]
				client := 0
				if len(all) > 0 && r.IntN(4) > 0 {
					client = all[r.IntN(len(all))].me.Number
				}
				properties := notes.Kind(x.Kind).Properties
				if len(properties) == 0 {
					continue
				}
				if line, err := notes.Expect(client, x.Entity, properties[r.IntN(len(properties))].Name); err == nil {
					expected[strings.Fields(line)[2]]++ // sees or does
				}
			}
		}
		text, _, err := notes.Drill("again", "tidewreck.kam")
		require.NoError(t, err)
		list, wrong := drill.Load("again.drill", text, beside)
		require.Empty(t, wrong, text)
		result, err := list[0].Run(t.Context(), drill.Options{})
		require.NoError(t, err)
		require.True(t, result.Passed, "seed %d: %v\n%s", seed, result.Failure, text)
		assert.Contains(t, text, "expect server sees ana.Diver.hull ==")
		assert.Contains(t, text, "join client_server as player meanwhile")
		assert.Contains(t, text, "forges")
		recorded := recordingOf(calls)
		for _, from := range []int64{0, 4, r.Int64N(100) + 30, r.Int64N(100) + 190} {
			playStretch(t, c, session.Options{Key: drill.Key(seed + 1)}, recorded, from, from+r.Int64N(80)+1)
		}
	}
	assert.Greater(t, accepted, 200)
	assert.Greater(t, others, 200)
	assert.Greater(t, moves, 200)
	assert.Greater(t, expected["sees"], 200)
	assert.Greater(t, expected["does"], 50)
	t.Logf("%d accepted, %d not, %d writes, expected %v", accepted, others, moves, expected)
}

// recordingOf returns the recording of all that a writer has.
func recordingOf(w *record.Writer) *record.Recording {
	batch, _ := w.Take()
	batch.Data = record.Compress(batch.Data)
	return &record.Recording{Batches: []record.Batch{batch}}
}

// playStretch writes a drill of some ticks of a recording, and plays it.
func playStretch(
	t *testing.T, c *contract.Contract, o session.Options, recorded *record.Recording, from, to int64,
) string {
	var export strings.Builder
	text, err := beside("tidewreck.kam")
	require.NoError(t, err)
	head := record.Head{Engine: record.Revision, Contract: "tidewreck", Source: text, Key: o.Key[:]}
	require.NoError(t, record.Export(t.Context(), &export, head, recorded, from))
	notes, err := transcript.Stretch(t.Context(), record.NewPlayer(c, o, recorded), from, to, "wreck.ndjson")
	require.NoError(t, err)
	text, _, err = notes.Drill("again", "tidewreck.kam")
	require.NoError(t, err)
	list, wrong := drill.Load("again.drill", text, func(name string) (string, error) {
		if name == "wreck.ndjson" {
			return export.String(), nil
		}
		return beside(name)
	})
	require.Empty(t, wrong, text)
	result, err := list[0].Run(t.Context(), drill.Options{})
	require.NoError(t, err)
	if !assert.True(t, result.Passed, "from %d to %d: %+v\n%s", from, to, result.Failure, text) {
		t.FailNow()
	}
	return text
}

// The drill opens its session with the settings that there were, whatever their types.
func TestATranscriptKeepsTheSettings(t *testing.T) {
	const desk = `contract desk language 1
enum Item { flare, patch }
type Mark { item: Item, at: vec2 -9..9 step 0.5 }
setting most: int 0..9 = 3
setting pace: real 0..9 step 0.5 = 1
setting open: bool = false
setting words: text max 20 = ""
setting item: Item = flare
setting start: vec2 -9..9 step 0.5 = vec(0, 0)
setting first: kind of [Crate, Sled] = Crate
setting mark: Mark = Mark(item = flare, at = vec(0, 0))
entity Crate { n: int 0..9 once }
entity Sled { n: int 0..9 once }
shared Dive { n: int 0..9 = 0; at: vec2 -9..9 step 0.5; on start { n = most; at = mark.at } }
`
	open := func(string) (string, error) { return desk, nil }
	c, problems := compile.LoadWith("desk.kam", desk, open)
	require.NotNil(t, c, problems.Error())
	settings := map[string]json.RawMessage{
		"most":  json.RawMessage("7"),
		"pace":  json.RawMessage("2.5"),
		"open":  json.RawMessage("true"),
		"words": json.RawMessage(`"two words"`),
		"item":  json.RawMessage(`"patch"`),
		"start": json.RawMessage("[1,-2.5]"),
		"first": json.RawMessage(`"Sled"`),
		"mark":  json.RawMessage(`{"item":"patch","at":[3,4]}`),
	}
	s, err := session.New(c, session.Options{Key: drill.Key(5), Settings: settings})
	require.NoError(t, err)
	notes := transcript.New(s, 5, settings)
	notes.Ticked(s.Tick())
	text, left, err := notes.Drill("as it was", "desk.kam")
	require.NoError(t, err)
	assert.Zero(t, left)
	drills, problems := drill.Load("desk.drill", text, open)
	require.Empty(t, problems.Error(), text)
	require.Len(t, drills, 1)
	for name, value := range settings {
		assert.JSONEq(t, string(value), string(drills[0].Settings[name]), name)
	}
	result, err := drills[0].Run(context.Background(), drill.Options{})
	require.NoError(t, err)
	assert.True(t, result.Passed, "%+v", result.Failure)
}

// What no drill can say stands as a comment; more than is kept is said.
func TestATranscriptThatIsNotWhole(t *testing.T) {
	c := dive(t)
	s, err := session.New(c, session.Options{Key: drill.Key(1)})
	require.NoError(t, err)
	notes := transcript.New(s, 1, nil)
	n, err := s.Join("Ana", "player")
	require.NoError(t, err)
	notes.Joined(wire.Client{Number: n, Name: "Ana", Role: "player"})
	ask := func(seq uint64, request string, entity uint32, args ...string) {
		m := wire.FromClient{Type: wire.MessageAsk, Ask: wire.Ask{Seq: seq, Request: request, Entity: entity}}
		for _, a := range args {
			m.Args = append(m.Args, json.RawMessage(a))
		}
		notes.Sent(n, &m)
	}
	notes.Ticked(s.Tick())
	ask(1, "Diver.vanish", 0)
	ask(2, "Reef.grow", 0)
	ask(3, "Relic.lift", 12345)
	ask(4, "Diver.use", 0, `{"x":1}`)
	ask(4, "Diver.use", 0, `"patch"`)
	text, left, err := notes.Drill("parts", "tidewreck.kam")
	require.NoError(t, err)
	assert.Equal(t, 4, left, text)
	assert.Equal(t, 4, strings.Count(text, "// left out: "), text)
	assert.Contains(t, text, "ana forges Diver.vanish()")
	for i := range transcript.MaxLines + 10 {
		ask(uint64(10+i), "Diver.get_ready", 0, fmt.Sprint(i%100))
	}
	text, _, err = notes.Drill("long", "tidewreck.kam")
	require.NoError(t, err)
	assert.Contains(t, text, "was not kept")
	assert.Less(t, strings.Count(text, "\n"), transcript.MaxLines+20)
	_, _, err = notes.Drill(`a "name"`, "tidewreck.kam")
	assert.Error(t, err)
}

// Names that mean something in a drill are no clients' names there, a connection is cut once, and a request or write
// that is sent again under its number is told as such; what refers to nothing says so.
func TestTheWordsOfATranscript(t *testing.T) {
	c := dive(t)
	s, err := session.New(c, session.Options{Key: drill.Key(1)})
	require.NoError(t, err)
	notes := transcript.New(s, 1, nil)
	for i, name := range []string{"Server", "Everyone", "Nothing", "Clients", "Self", "Caller", "Ana"} {
		notes.Joined(wire.Client{Number: i + 1, Name: name, Role: "player"})
		want := "client_" + strings.ToLower(name)
		if name == "Ana" {
			want = "ana"
		}
		assert.Equal(t, want, notes.Name(i+1))
	}
	notes.Moved(syntax.MoveCut, 7)
	notes.Moved(syntax.MoveCut, 7)
	notes.Moved(syntax.MoveBack, 7)
	write := wire.FromClient{
		Type:     wire.MessageWrite,
		Ask:      wire.Ask{Seq: 5},
		Property: "Diver.pos",
		Value:    json.RawMessage("[1,2]"),
	}
	notes.Sent(7, &write)
	notes.Sent(7, &write)
	notes.Moved(syntax.MoveLeave, 7)
	notes.Moved(syntax.MoveLeave, 7)
	assert.Equal(t, []string{
		"cut ana", "back ana", "ana skips 4", "ana writes Diver.pos = vec(1, 2)",
		"// left out: ana sent number 5 again", "leave ana",
	}, notes.Lines()[7:])
	for _, x := range []struct {
		typ   contract.Type
		value contract.Value
	}{
		{contract.Type{Form: contract.FormEntity}, contract.Value{}},
		{contract.Type{Form: contract.FormClient}, contract.Value{Num: contract.Nothing}},
	} {
		words, ok := notes.Literal(&x.typ, x.value)
		assert.True(t, ok)
		assert.Equal(t, "nothing", words)
	}
}

// A decision stands behind its line with its reason; a fault's reason is the server's own, and no drill expects it.
func TestDecisionsOfATranscript(t *testing.T) {
	c := dive(t)
	for outcome, want := range map[wire.Outcome]string{
		wire.Accepted: "-> accepted", wire.Denied: `-> denied "why"`, wire.Dropped: `-> dropped "why"`,
		wire.Faulted: "-> faulted",
	} {
		s, err := session.New(c, session.Options{Key: drill.Key(1)})
		require.NoError(t, err)
		notes := transcript.New(s, 1, nil)
		notes.Joined(wire.Client{Number: 1, Name: "Ana", Role: "player"})
		m := wire.FromClient{
			Type: wire.MessageAsk,
			Ask:  wire.Ask{Seq: 1, Request: "Diver.search", Args: []json.RawMessage{}},
		}
		notes.Sent(1, &m)
		d := session.Decision{
			Client:  wire.Client{Number: 1},
			Ask:     m.Ask,
			Outcome: outcome,
			Reason:  "why",
		}
		if outcome == wire.Accepted {
			d.Reason = ""
		}
		step := s.Tick()
		step.Decisions = []session.Decision{d}
		notes.Ticked(step)
		assert.Equal(t, "ana asks Diver.search() "+want, notes.Lines()[1])
	}
}

// Values are written down as a drill reads them.
func TestLiterals(t *testing.T) {
	item := &contract.Enum{Name: "Item", Values: []string{"flare", "patch"}}
	slots := &contract.Type{Form: contract.FormStacks, Enum: item, Max: 4, Each: 5, Slotted: true}
	row := &contract.Type{Form: contract.FormList, Of: &contract.Type{Form: contract.FormEnum, Enum: item}, Max: 2}
	load := &contract.Type{Form: contract.FormRecord, Name: "Load", Parts: []contract.Param{{Name: "items", Type: row}}}
	for raw, c := range map[string]struct {
		t    *contract.Type
		want string
	}{
		`[null,["patch",3]]`:          {slots, "[[], [Item.patch, 3]]"},
		`{"items":["flare","patch"]}`: {load, "Load(items = [Item.flare, Item.patch])"},
	} {
		v, err := c.t.ParseJSON([]byte(raw))
		require.NoError(t, err)
		got, ok := (&transcript.Transcript{}).Literal(c.t, v)
		assert.True(t, ok)
		assert.Equal(t, c.want, got)
	}
}
