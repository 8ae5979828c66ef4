package main

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client/load"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

const watchText = `contract wreck language 1
enum Item { flare, patch }
shared Dive { n: int 0..9; say: text max 3 }
entity Buoy { }
entity Diver per player {
  hull: int 0..100 = 80
  satchel: stacks<Item> max 2 each 3 to owner
  finds: int 0..3 = 2 to nobody
}`

// sheetOf is a session with two clients, in which one or the other holds something wrong.
func sheetOf(t *testing.T, anas, bos string) *watched {
	c, problems := compile.Load("wreck.kam", watchText)
	require.NotNil(t, c, problems.Error())
	block := func(things string) json.RawMessage {
		return json.RawMessage(
			`{"joined":[{"number":1,"name":"Ana","role":"player"},{"number":2,"name":"Bo","role":"player"}],` +
				`"spawned":[` + things + `]}`,
		)
	}
	held := func(block int) []api.WatchFrame {
		return []api.WatchFrame{{Tick: 9, Snapshot: true, State: []int{block}}}
	}
	w := &watched{}
	require.NoError(t, w.apply(api.Watch{
		Type:    "sheet",
		Tick:    9,
		Session: &api.Session{ID: 4, Contract: "wreck", Version: 2},
		Outline: c.FullOutline(),
		Server: json.RawMessage(`{"type":"frame","tick":9,"snapshot":true,"state":[` + string(block(
			`{"entity":5,"kind":"Diver","owner":1,"values":{"hull":80,"satchel":[["patch",2]],"finds":2}},`+
				`{"entity":6,"kind":"Dive","owner":0,"values":{"n":3,"say":"+≠"}}`,
		)) + `]}`),
		Clients: []api.WatchClient{
			{Client: wire.Client{Number: 1, Name: "Ana"}, Seen: 9, Sent: 9, Frames: held(0)},
			{Client: wire.Client{Number: 2, Name: "Bo"}, Seen: 9, Sent: 9, Frames: held(1)},
		},
		Blocks: []json.RawMessage{block(anas), block(bos)},
	}))
	return w
}

func drawn(w *watched) string {
	var out strings.Builder
	w.draw(&out, 0, 0)
	return out.String()
}

func TestTheSheetFindsWhatDiffers(t *testing.T) {
	const (
		dive   = `{"entity":6,"kind":"Dive","owner":0,"values":{"n":3,"say":"+≠"}}`
		buoy   = `{"entity":9,"kind":"Buoy","owner":0,"values":{}}`
		own    = `{"entity":5,"kind":"Diver","owner":1,"values":{"hull":80,"satchel":[["patch",2]]}}`
		others = `{"entity":5,"kind":"Diver","owner":1,"values":{"hull":80}}`
	)
	for name, c := range map[string]struct{ anas, bos, state, line string }{
		"in step": {
			own + "," + dive, others + "," + dive, "= all in step", "hull      80       80 =       80 =",
		},
		"off by one": {
			own + "," + dive, strings.Replace(others, "80", "79", 1) + "," + dive, "1 value different", "79 ≠",
		},
		"an entity that is gone": {
			own + "," + dive, others + "," + dive + "," + buoy, "1 value different", "Buoy       owner     gone                server ≠",
		},
		"another owner": {
			own + "," + dive, strings.Replace(others, `"owner":1`, `"owner":2`, 1) + "," + dive, "1 value different",
			"Ana.Diver  owner     Ana                 Bo ≠",
		},
		"an entity lost": {own + "," + dive, dive, "1 value different", "hull      80       80 =       ≠"},
		"a leak to Bo":   {own + "," + dive, own + "," + dive, "1 value different", "2 patch ≠"},
		"a leak of finds": {
			strings.Replace(own, "]]", "]],\"finds\":2", 1) + "," + dive, others + "," + dive, "1 value different",
			"finds     2        2 ≠",
		},
		"the shared wrong": {own + "," + strings.Replace(dive, "3", "4", 1), others, "3 values different", "4 ≠"},
		"other order": {
			strings.Replace(own, `[["patch",2]]`, `[["patch",1],["patch",1]]`, 1) + "," + dive, others + "," + dive,
			"1 value different", "1 patch, 1 patch ≠",
		},
	} {
		out := drawn(sheetOf(t, c.anas, c.bos))
		assert.Contains(t, out, c.state, "%s\n%s", name, out)
		assert.Contains(t, out, c.line, "%s\n%s", name, out)
	}
	w := sheetOf(t, own+","+dive, others+","+dive)
	require.NoError(t, w.apply(api.Watch{
		Type: "tick",
		Tick: 12,
		Server: json.RawMessage(
			`{"type":"frame","tick":12,"state":[{"values":[{"entity":5,"kind":"Diver","values":{"hull":50}}]}]}`,
		),
		Clients: []api.WatchClient{{Client: wire.Client{Number: 2, Name: "Bo"}, Seen: 9, Sent: 12, Waits: 10}},
	}))
	assert.Contains(t, drawn(w), "80 +3", "on its way is not different")
	assert.Contains(t, drawn(w), "80 ≠", "what was never sent is")
	assert.NotContains(t, drawn(w), "bytes")
	w.clients[1].Bytes = &api.Bytes{Limit: 600, Sent: 512, Waiting: 2}
	assert.Contains(t, drawn(w), "Bo was sent 512 of 600 bytes in the last second; something of 2 entities waits")
	require.NoError(t, w.apply(api.Watch{Type: "tick", Tick: 13, Left: []int{2}}))
	assert.NotContains(t, drawn(w), "B ● Bo")
	require.NoError(t, w.apply(api.Watch{
		Type:    "tick",
		Tick:    14,
		Server:  json.RawMessage(`{"type":"frame","tick":14,"state":[{"spawned":[` + buoy + `]}]}`),
		Clients: []api.WatchClient{{Client: wire.Client{Number: 1, Name: "Ana"}, Seen: 14, Sent: 14}},
	}))
	assert.Contains(t, drawn(w), "Buoy       owner     server   ≠", "what has no properties is missing all the same")
	require.NoError(t, w.apply(api.Watch{Type: "tick", Tick: 15, Left: []int{1}}))
	assert.NotContains(t, drawn(w), "in step", "nobody is here who could be")
	assert.Error(
		t,
		w.apply(
			api.Watch{
				Type:   "tick",
				Server: json.RawMessage(`{"type":"frame","state":[{"spawned":[{"kind":"Eel"}]}]}`),
			},
		),
	)
}

// A load says that copies were right only when some were compared.
func TestALoadSaysHowOftenCopiesWereCompared(t *testing.T) {
	for want, r := range map[string]load.Report{
		"= every copy was what it should be, in 3 comparisons": {Compared: 3},
		"no copy was compared":                                 {},
		"1 copy differed from what it should be":               {Compared: 3, Differed: 1},
	} {
		var out strings.Builder
		r.Clients = 1
		r.Seconds = 1
		printLoad(&out, &r)
		assert.Contains(t, out.String(), want)
		assert.Equal(t, r.Compared > 0 && r.Differed == 0, strings.Contains(out.String(), "every copy was"))
	}
}

func TestWordsOfTheTerminal(t *testing.T) {
	assert.Equal(
		t, []string{"A ▲", "B ●", "H ◇", "I ▲"},
		[]string{terminal.Mark(1), terminal.Mark(2), terminal.Mark(8), terminal.Mark(9)},
	)
	verdict := terminal.Verdict(wire.Denied, wire.StageCheck, "not carried", nil)
	assert.Equal(t, "✕ denied: not carried (check)", verdict)
	assert.Equal(t, "✓ accepted, replied true", terminal.Verdict(wire.Accepted, "", "", json.RawMessage("true")))
	assert.Equal(
		t, "Diver.use(patch, 3)", asked(api.Decision{Request: "Diver.use", Args: json.RawMessage(`["patch",3]`)}),
	)
	assert.Equal(
		t, "1 mistake, 2 entities, 0 rows", plural(1, "mistake")+", "+plural(2, "entity")+", "+plural(0, "row"),
	)
	for word, want := range map[string]bool{
		"1":  true,
		"12": true,
		"0":  false,
		"-1": false,
		"1x": false,
		"":   false,
		"01": false,
	} {
		_, err := terminal.SessionArg(word)
		assert.Equal(t, want, err == nil, word)
	}
	enum := &contract.Type{Form: contract.FormEnum, Enum: &contract.Enum{Values: []string{"true", "patch"}}}
	assert.Equal(t, `"true"`, string(enum.Word("true")), "a word for an enum is a name, whatever it looks like")
	assert.Equal(t, `3`, string(contract.RawWord("3")))
	assert.Equal(t, `"pea\"rl"`, string(contract.RawWord(`pea"rl`)))
}
