package session

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/wild"
)

// vector is what one client got, for those who write a client in another language.
type vector struct {
	Outline  *contract.Outline `json:"outline"`
	Frames   []vectorFrame     `json:"frames"`
	Messages []vectorFrame     `json:"messages,omitempty"` // of the client
}

type vectorFrame struct {
	Hex  string          `json:"hex"`
	Says json.RawMessage `json:"says"` // its JSON twin
}

const vectorFolder = "../wire/testdata/vectors"

// The committed test vectors are what a session sends: its binary frames and what each of them says.
// KAMERAD_UPDATE_VECTORS=1 writes them anew after a change of the protocol.
func TestTheVectorsAreWhatASessionSends(t *testing.T) {
	for name, seed := range map[string]uint64{"one": 3, "two": 8, "three": 21, "four": 34} {
		var c *contract.Contract
		for ; c == nil; seed++ {
			c, _ = compile.Load("carried.kam", wild.Carried(rand.New(rand.NewPCG(seed, 1))))
		}
		w := newCrowd(t, c, seed)
		out := vector{Outline: c.Outline()}
		w.join("player")
		reader := w.Reader(1)
		for tick := range 30 {
			if tick == 3 || tick == 9 {
				w.join(c.Roles[tick%2])
			}
			for range 5 {
				w.change()
			}
			if name == "four" && tick == 24 { // another incarnation, and one of its clients comes back
				w.Recover(w.Now() + 40)
				w.Back(1, w.Now())
				w.Ready(1)
			}
			if tick == 20 {
				w.view.Resync(1) // a snapshot in the middle
			}
			for _, cf := range w.Tick().Frames {
				if cf.Client != 1 {
					continue
				}
				f, err := reader.Read(cf.Bytes)
				require.NoError(t, err)
				out.Frames = append(out.Frames, vectorFrame{hex.EncodeToString(cf.Bytes), f.AppendJSON(nil)})
			}
		}
		keepVector(t, name, out)
	}
}

// keepVector holds a vector against the committed one, or writes it.
func keepVector(t *testing.T, name string, v vector) {
	raw := bytes.ReplaceAll(mustJSON(t, v), []byte(`{"hex"`), []byte("\n{\"hex\""))
	file := filepath.Join(vectorFolder, name+".json")
	if os.Getenv("KAMERAD_UPDATE_VECTORS") != "" {
		require.NoError(t, os.MkdirAll(vectorFolder, 0o755))
		require.NoError(t, os.WriteFile(file, append(raw, '\n'), 0o644))
	}
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	require.True(
		t, string(kept) == string(raw)+"\n", "the protocol changed: KAMERAD_UPDATE_VECTORS=1 writes the vectors anew",
	)
}

// everything is a contract that has something of everything that travels.
const everything = `contract wreck language 2
tick 20 per second
seats 8 grace 10s
roles player, spectator

enum Item { flare, patch, tank, relic }
type Place = vec2 -200..200 step 0.01
type Mark { at: Place, name: text max 12, by: ref Diver }
type Log { by: client, marks: list<Mark> max 3, items: list<Item> max 4 }

audience mates(d: Diver) = viewer.Diver.crew == d.crew

entity Diver per player {
  crew:    int 0..1 = 0
  hull:    int 0..100 = 100 clamped
  air:     real 0..100 step 0.5 = 100 clamped to owner
  plan:    text max 40 to mates(self)
  pos:     Place set by owner pace distance(old, new) 8 per second burst 2
  facing:  direction step 0.01 = vec(1, 0) set by owner when dot(old, new) > 0
  spin:    rotation step 0.001
  deep:    vec3 -9..9 step 0.5
  satchel: stacks<Item> max 6 each 5 to owner
  slots:   stacks<Item> max 5 each 4 slotted
  logged:  Log = Log(by = nothing, marks = [], items = [tank])
  owed:    map<client, list<ref Diver> max 3> max 4
  marks:   list<Mark> max 8
  tally:   map<text max 9, int 0..99> max 4
  met:     map<client, ref Diver> max 4 to owner
  called:  instant
  early:   instant
  cooling: time -1s..2min = 1500ms
  half:    int 0..50 := hull / 2
  buddy:   ref Diver = nothing
  guide:   client = nothing
  picked:  kind of [Crate, Flare] = Crate
  gaze:    int 0..9 = 0 loose
  huge:    int -9223372036854775807..9223372036854775807 = 0
  hold kick lease 1s when reveal(air > 50)
  event hurt(amount: int 0..100, by: ref Diver)
  event bubbles(count: int 0..9) loose
  request mark(at: Place, name: text max 12)
    limit 4 per second
    check marks.room() > 0 else deny "no room"
  {
    marks.put(Mark(at = at, name = name, by = self))
    tally["marks"] = marks.count()
    met[caller] = self
    slots.put_at(3, tank, 2)
    slots.put_at(1, patch)
    slots.move_at(3, slots, 4, 1)
    logged.marks.put(marks[0])
    logged.items.put(relic)
    logged.by = caller
    owed[caller] = [self, nothing]
    facing = vec(0, -1)
    spin = turn(vec(0, 0, 1), 0.5)
    deep = vec(1, -2.5, 9)
    called = now()
    early = called - 1min
    cooling = cooling - 2s
    guide = caller
    picked = Flare
    gaze = 3
    huge = 9223372036854775807 - gaze
    plan = "up, {name}"
    buddy = first(d in Diver where d != self else nothing)
    satchel.put(flare, 3)
    satchel.put(relic)
    air -= 60
    hull -= 7
    tell everyone hurt(7, buddy)
    tell caller bubbles(2)
    tell caller welcome("Mind the {name}.")
    log caller "{name} is marked"
  }
  request score() -> ref Diver { reply buddy }
  request fail() { hull = 5 / (hull - hull) }
  request litter(n: int 0..99) limit 10 per second check count(Crate) < 200 else deny "enough" { do drop(n) }
  action drop(n: int 0..99) { for i in [0, 1, 2, 3, 4, 5, 6, 7, 8, 9] { spawn Crate { n = i + n } } }
  request tidy(low: int 0..99, high: int 0..99) { for c in Crate where c.n >= low and c.n <= high { despawn c } }
  request nudge(n: int 0..99) { for c in Crate where c.n == n { c.n += 1 } }
  request launch() { let f = spawn Flare { vel = vec(14, 0.5) }; spawn Lamp { holder = self }; spawn Lamp { holder = self; off = true } }
}
entity Crate { n: int 0..999 }
entity Flare { pos: Place = vec(-30, 0.25) follows vel; vel: vec2 -20..20 step 0.01; after 2s { vel = vec(0, -3) } }
entity Lamp { holder: ref Diver; off: bool = false; pos: Place = vec(0, 0) follows holder.pos by vec(0, 1.5); after 3s { holder = nothing } }
shared Winch { turned: int 0..100 = 0; request grab() from player check owner == server else deny "someone has it" { give self to caller; turned += 1 } }
event welcome(words: text max 60)
`

// The vectors of everything that travels: one session in which a client meets all of it, with every message that it
// sends.
func TestTheVectorsHaveEverything(t *testing.T) {
	c, problems := compile.Load("wreck.kam", everything)
	require.NotNil(t, c, "%s", problems)
	s, err := New(c, Options{Prove: true})
	require.NoError(t, err)
	o := c.Outline()
	out := vector{Outline: o}
	reader := wire.NewReader(wire.NewLayout(o))
	seqs := map[int]uint64{}
	say := func(client int, m wire.FromClient) {
		seqs[client]++
		if m.Type == wire.MessageAsk || m.Type == wire.MessageWrite {
			m.Seq = seqs[client]
		}
		raw := m.Pack(o)
		back, err := wire.UnpackFromClient(raw, o)
		require.NoError(t, err)
		if client == 1 {
			out.Messages = append(out.Messages, vectorFrame{hex.EncodeToString(raw), back.JSON()})
		}
		switch back.Type {
		case "ready":
			s.Ready(client)
		case "seen":
			s.Confirm(client, back.Seen)
		case "differs":
			s.ReportDifference(client)
		case "leave":
			s.Leave(client)
		case "log": // is for who watches
		case "ask":
			s.Ask(client, s.ReadRequest(back.Ask))
		default:
			s.Steer(client, s.ReadSteering(back.Type, back.Move()))
		}
	}
	ask := func(client int, request string, args ...string) {
		m := wire.FromClient{
			Type: wire.MessageAsk,
			Ask:  wire.Ask{Request: request, Seen: s.Now(), Args: []json.RawMessage{}},
		}
		for _, a := range args {
			m.Args = append(m.Args, json.RawMessage(a))
		}
		say(client, m)
	}
	move := func(client int, what wire.MessageType, property, value string, press uint64, drawn int64) {
		m := wire.FromClient{
			Type:     what,
			Ask:      wire.Ask{Seen: s.Now(), Drawn: drawn},
			Property: property,
			Press:    press,
		}
		if value != "" {
			m.Value = json.RawMessage(value)
		}
		say(client, m)
	}
	outcomes := map[wire.Outcome]int{}
	tick := func(n int) {
		for range n {
			for _, cf := range s.Tick().Frames {
				if cf.Client != 1 {
					continue
				}
				f, err := reader.Read(cf.Bytes)
				require.NoError(t, err)
				for _, d := range f.Decisions {
					outcomes[d.Outcome]++
				}
				out.Frames = append(out.Frames, vectorFrame{hex.EncodeToString(cf.Bytes), f.AppendJSON(nil)})
			}
		}
	}
	for _, name := range []string{"Ana", "Bo", "Cléo"} {
		_, err := s.Join(name, map[string]string{"Bo": "spectator"}[name])
		require.NoError(t, err)
	}
	tick(1)
	say(1, wire.FromClient{Type: wire.MessageReady})
	say(1, wire.FromClient{Type: wire.MessageSeen, Ask: wire.Ask{Seen: 1}})
	ask(1, "Diver.mark", `[-199.99,0.01]`, `"reef"`)
	ask(1, "Diver.score")
	tick(2)
	move(1, wire.MessagePress, "Diver.kick", "", 1, 0) // its air is spent
	move(1, wire.MessageWrite, "Diver.pos", `[0.5,-0.25]`, 0, 320)
	move(1, wire.MessageWrite, "Diver.pos", `[150,0]`, 0, -64)
	move(1, wire.MessageWrite, "Diver.facing", `[0,1]`, 0, 0)
	tick(1)
	move(1, wire.MessageWrite, "Diver.facing", `[0,1]`, 0, 0)
	move(1, wire.MessageRelease, "Diver.kick", "", 1, 0)
	other := s.State().Spawned[1].Entity
	for _, x := range s.State().Spawned {
		if x.Kind == "Diver" && x.Owner == 3 {
			other = x.Entity
		}
	}
	say(1, wire.FromClient{
		Type:     wire.MessagePress,
		Ask:      wire.Ask{Entity: other},
		Property: "Diver.kick",
		Press:    2,
	})
	say(1, wire.FromClient{
		Type:     wire.MessageRelease,
		Ask:      wire.Ask{Entity: other},
		Property: "Diver.kick",
		Press:    2,
	})
	say(
		1,
		wire.FromClient{
			Type: wire.MessageAsk,
			Ask:  wire.Ask{Entity: other, Request: "Diver.score", Args: []json.RawMessage{}},
		},
	)
	say(1, wire.FromClient{
		Type: wire.MessageAsk,
		Ask:  wire.Ask{Entity: 77, Request: "Diver.score", Args: []json.RawMessage{}},
	})
	ask(1, "Diver.fail")
	ask(1, "Diver.mark", `"here"`, `7`)
	ask(1, "Winch.grab")
	ask(3, "Winch.grab")
	tick(2)
	ask(3, "Winch.grab")
	for range 6 {
		ask(1, "Diver.mark", `[1,2]`, `"again"`)
	}
	ask(1, "Diver.launch")
	move(3, wire.MessagePress, "Diver.kick", "", 1, 0)
	tick(30)
	s.ConfirmStored(20)
	ask(1, "Diver.launch")
	for i := range 9 {
		ask(1, "Diver.litter", []string{"0", "10", "20", "30", "40", "50", "60", "70", "80"}[i])
		tick(3)
	}
	for _, gone := range [][2]string{{"3", "3"}, {"10", "30"}, {"60", "61"}} {
		ask(1, "Diver.tidy", gone[0], gone[1])
		tick(1)
	}
	ask(1, "Diver.litter", "0") // which fills slots that are free again
	ask(1, "Diver.nudge", "88")
	tick(1)
	ask(1, "Diver.nudge", "5")
	s.ConfirmStored(60)
	tick(1)
	say(1, wire.FromClient{Type: wire.MessageDiffers, Ask: wire.Ask{Seen: s.Now()}})
	say(1, wire.FromClient{Type: wire.MessageLog, Ask: wire.Ask{Seen: s.Now()}, Text: "the rope is taut: größer"})
	tick(5)
	say(3, wire.FromClient{Type: wire.MessageLeave})
	tick(25)
	say(1, wire.FromClient{Type: wire.MessageLeave})
	tick(1)
	for _, o := range []wire.Outcome{wire.Accepted, wire.Denied, wire.Dropped, wire.Malformed, wire.Faulted} {
		require.Positive(t, outcomes[o], o)
	}
	keepVector(t, "everything", out)
}

func mustJSON(t *testing.T, v any) []byte {
	raw, err := json.Marshal(v)
	require.NoError(t, err)
	return raw
}

// A client's messages mean the same in both forms.
func TestAClientsMessagesMeanTheSameInBothForms(t *testing.T) {
	c := tidewreck(t)
	o := c.Outline()
	for _, m := range []string{
		`{"type":"ready"}`, `{"type":"seen","seen":812}`, `{"type":"differs","seen":80}`, `{"type":"leave"}`,
		`{"type":"log","seen":80,"text":"the rope is taut"}`,
		`{"type":"ask","seq":5,"entity":3735928559,"request":"Diver.use","args":["patch"],"seen":812}`,
		`{"type":"ask","seq":6,"request":"Diver.launch","args":[0.5,[1.25,-3]],"seen":812}`,
		`{"type":"ask","seq":7,"request":"Winch.grab","args":[],"seen":812}`,
		`{"type":"ask","seq":8,"request":"Strongbox.guess","args":[4]}`,
		`{"type":"write","seq":9,"property":"Diver.pos","value":[-29.5,0],"seen":812}`,
		`{"type":"press","property":"Diver.kick","press":3}`,
		`{"type":"release","entity":7,"property":"Diver.kick","press":3}`,
		// What does not fit is sent as JSON.
		`{"type":"ask","seq":10,"request":"Diver.use","args":["pearl"]}`,
		`{"type":"ask","seq":11,"request":"Diver.nothing","args":[]}`,
	} {
		want, err := wire.ParseFromClient([]byte(m))
		require.NoError(t, err, m)
		packed := want.Pack(o)
		got, err := wire.UnpackFromClient(packed, o)
		require.NoError(t, err, m)
		require.JSONEq(t, string(want.JSON()), string(got.JSON()))
		require.JSONEq(t, m, string(want.JSON()))
	}
}
