package wire

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/contract"
)

func TestAFrameComesBackAsItWasSent(t *testing.T) {
	item := &contract.Enum{Name: "Item", Values: []string{"flare", "patch"}}
	stacks := &contract.Type{
		Form: contract.FormStacks,
		Enum: item,
		Max:  3,
		Each: 5,
	}
	text := &contract.Type{Form: contract.FormText, Max: 20}
	place := &contract.Type{
		Form: contract.FormVec2,
		Low:  -20,
		High: 20,
		Per:  2,
		Unit: 1,
	}
	speed := &contract.Type{
		Form: contract.FormVec2,
		Low:  -90,
		High: 90,
		Per:  10,
		Unit: 1,
	}
	outline := &contract.Outline{
		Tick: 20,
		Kinds: []contract.KindOutline{{
			Name: "Diver", Properties: []contract.PropertyOutline{
				{Name: "satchel", Type: stacks},
				{Name: "name", Type: text},
				{Name: "pos", Type: place, Follows: "vel"},
				{Name: "vel", Type: speed},
				{Name: "lamp", Type: place, Follows: "mate.pos"},
			},
			Events: []contract.EventOutline{
				{
					Name:   "used",
					Params: []contract.Param{{Name: "item", Type: &contract.Type{Form: contract.FormEnum, Enum: item}}},
				},
			},
		}},
		Events: []contract.EventOutline{{Name: "welcome", Params: []contract.Param{}}},
	}
	pair := func(a, b int64) contract.Value { return contract.Value{Parts: []contract.Value{{Num: a}, {Num: b}}} }
	full := contract.Value{Parts: []contract.Value{pair(1, 5), pair(0, 2)}}
	sent := &Frame{
		Tick:     7,
		Snapshot: true,
		Blocks: []*Block{
			{
				Joined: []Client{{1, "Ana \"<x>\"", "player"}},
				Spawned: []Spawn{
					{
						9, "Diver", 1,
						[]Field{
							{Name: "satchel", Type: stacks, Value: full},
							{Name: "name", Type: text, Value: contract.Value{Text: "ü\n\"\u2028"}},
							{
								Name:   "pos",
								Type:   place,
								Value:  pair(2, 3),
								Motion: &Motion{pair(1, 3), pair(20, 0), speed, 4, 20},
							},
							{Name: "vel", Type: speed, Value: pair(20, 0)},
							{
								Name:     "lamp",
								Type:     place,
								Value:    pair(1, 1),
								Attached: &Attached{"mate", "pos", []float64{0, -1.5}},
							},
						},
					},
				},
			},
			{
				Owned:  []Owned{{9, 2}},
				Values: []Update{{9, "Diver", []Field{{Name: "satchel", Type: stacks}}, []string{"name"}}},
				Gone:   []uint32{4000000000, 2},
				Left:   []int{3},
			},
		},
		Events: []*Event{
			{
				Event:  "Diver.used",
				Entity: 9,
				Fields: []Field{
					{Name: "item", Type: outline.Kinds[0].Events[0].Params[0].Type, Value: contract.Value{Num: 1}},
				},
			},
			{Event: "welcome"},
		},
		Decisions: []Decision{{Seq: 1<<64 - 1, Outcome: Denied, Stage: StageCheck, Reason: "not carried", Check: 1}},
		Logs:      []string{"the tide \"turns\""},
	}
	raw := sent.AppendJSON(nil)
	require.True(t, json.Valid(raw), string(raw))
	back, _, err := ParseFrame(raw, outline)
	require.NoError(t, err)
	assert.Equal(t, string(raw), string(back.AppendJSON(nil)))
	assert.Equal(t, sent.Decisions, back.Decisions)
	assert.True(t, full.Equal(back.Blocks[0].Spawned[0].Fields[0].Value))

	for _, change := range [][2]string{
		{"Diver.used", "Diver.lost"},
		{`"satchel"`, `"purse"`},
		{`"flare"`, `"pearl"`},
		{`"kind":"Diver"`, `"kind":"Eel"`},
		{`"frame"`, `"fame"`},
	} {
		_, _, err := ParseFrame([]byte(strings.Replace(string(raw), change[0], change[1], 1)), outline)
		assert.Error(t, err, "a copy that does not fit its outline is no copy: %v", change)
	}
}

func TestBrokenMessagesAreTold(t *testing.T) {
	for raw, want := range map[string]string{
		`{"type":"ready"}`: "", `{"type":"seen","seen":4}`: "", `{"type":"leave"}`: "",
		`{"type":"ask","seq":1,"request":"A.b","args":[1,"x",null]}`: "",
		`{"type":"ask","seq":0,"request":"A.b","args":[]}`:           "no sequence number",
		`{"type":"ask","seq":-1,"request":"A.b","args":[]}`:          "cannot unmarshal",
		`{"type":"ask","seq":1,"entity":4294967296,"request":"A.b"}`: "cannot unmarshal",
		`{"type":"ask","seq":1,"request":"A.b","args":{}}`:           "cannot unmarshal",
		`{"type":"grab"}`: "unknown type", `{"type":"ready","as":2}`: "unknown field", `[]`: "cannot unmarshal",
		``:                                 "EOF",
		`{"type":"ready"}{"type":"ready"}`: "goes on after its end", "\xff\x00": "invalid",
		`{"type":"ask","seq":1,"request":"` + strings.Repeat("x", MaxMessage) + `"}`: "at most 16384 are allowed",
	} {
		_, err := ParseFromClient([]byte(raw))
		if want == "" {
			assert.NoError(t, err, raw)
		} else {
			assert.ErrorContains(t, err, want)
		}
	}
}

func FuzzParseFromClient(f *testing.F) {
	f.Add([]byte(`{"type":"ask","seq":1,"entity":7,"request":"Diver.use","args":["patch",3],"seen":9}`))
	f.Add([]byte(`{"type":"seen","seen":12}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		m, err := ParseFromClient(raw)
		if err == nil && m.Type == MessageAsk && m.Seq == 0 {
			t.Fatal("a request without a sequence number was taken")
		}
	})
}

// Every message of a client has a number, carries something that is known, and is read back from both of its forms.
func TestEveryMessageTypeTravels(t *testing.T) {
	o := &contract.Outline{}
	for n := range clientMessages {
		if n == 0 {
			continue
		}
		typ := clientMessages[n].typ
		require.EqualValues(t, n, typ.number(), typ)
		require.NotEqual(t, unknownPayload, typ.carries(), typ)
		m := FromClient{Type: typ}
		switch typ.carries() {
		case carriesCall:
			m.Seq = 1
		case carriesPress:
			m.Press = 1
		case carriesTick:
			m.Seen = 5
		}
		for _, raw := range [][]byte{m.Pack(o), m.JSON()} {
			back, err := UnpackFromClient(raw, o)
			require.NoError(t, err, "%s: %s", typ, raw)
			require.Equal(t, typ, back.Type)
			require.Equal(t, m.Seq, back.Seq)
			require.Equal(t, m.Press, back.Press)
			require.Equal(t, m.Seen, back.Seen)
		}
	}
	for _, typ := range []MessageType{MessageJoin, MessageHello, MessageFrame, MessageBye, "", "none"} {
		require.Zero(t, typ.number(), typ)
		require.Equal(t, unknownPayload, typ.carries(), typ)
	}
}
