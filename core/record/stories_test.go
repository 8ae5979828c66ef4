package record_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/contract"
	"kamerad.example/core/record"
	"kamerad.example/core/wire"
)

const wharfText = `contract wharf language 2
tick 20 per second
seats 4 grace 1s
enum Item { flare, patch }
shared Wharf {
  open:  bool = false
  calls: int 0..99 = 0 clamped
  bell:  int 0..9 = 3 clamped
  seen:  int 0..99 = 0
  on start { bell = 5 }
  on change calls { seen += 1 }
  every 500ms { calls += 1 }
}
entity Diver per player {
  bag:   list<Item> max 4
  purse: int 0..99 = 1 keep
  kick:  bool = false
  spot:  vec2 -50..50 step 0.5 = vec(0, 0) set by owner pace distance(old, new) 40 per second burst 40
  near:  bool = false
  hold swim lease 1s
  on change swim { kick = swim }
  on change spot { near = distance(spot, vec(0, 0)) <= 5 }
  request put(what: Item) from owner check bag.count() < 2 else deny "full" { bag.put(what) }
  request drop() from owner { spawn Crate { left = 2; by = self } }
}
entity Crate {
  left: int 0..9 = 0
  by:   ref Diver
  note: int 0..9 = 0
  after 1s { note = 4 }
  request open() from everyone check left > 0 else deny "empty" { left -= 1; do count_up(left) }
  action count_up(n: int 0..9) { Wharf.bell = n }
}
on join(c) { Wharf.open = true }
on lost(c) { Wharf.bell = 1 }
on back(c) { Wharf.bell = 2 }
on leave(c) { Wharf.open = false }
`

// write has a client write a property.
func (s *story) write(client int, property, value string) {
	s.seq++
	m := wire.Move{Seq: s.seq, Property: property, Value: []byte(value), Seen: s.session.Now()}
	s.session.Steer(client, s.session.ReadSteering(wire.MessageWrite, m))
}

// press has a client press a hold, or release it.
func (s *story) press(client int, message wire.MessageType, property string) {
	s.session.Steer(client, s.session.ReadSteering(message, wire.Move{Press: 1, Property: property}))
}

// askOf has a client ask something of an entity, and some ticks pass.
func (s *story) askOf(client int, kind string, nth int64, request string, ticks int) {
	s.seq++
	ask := wire.Ask{Seq: s.seq, Entity: s.session.Nth(kind, nth), Request: kind + "." + request}
	s.session.Ask(client, s.session.ReadRequest(ask))
	s.ticks(ticks)
}

// whyOf asks why a property of an entity is as it is.
func (s *story) whyOf(kind string, nth int64, property string) *record.Reason {
	if batch, ok := s.writer.Take(); ok {
		batch.Data = record.Compress(batch.Data)
		s.Batches = append(s.Batches, batch)
	}
	p := record.NewPlayer(s.c, s.options, &s.Recording)
	why, err := record.Why(s.t.Context(), p, s.session.Nth(kind, nth), property, s.session.Now())
	require.NoError(s.t, err)
	return why
}

// More values and their reasons, word for word: of what is shared, held, written, spawned, and of what connections do.
func TestReasonsOnTheWharf(t *testing.T) {
	for _, x := range []struct {
		name string
		play func(s *story)
		of   [2]string
		want []string
	}{
		{"the start", func(s *story) { s.ticks(2) }, [2]string{"Wharf", "bell"}, []string{
			`0 start: it has been so since the session began = start`,
		}},
		{"who joined", func(s *story) { s.ticks(2) }, [2]string{"Wharf", "open"}, []string{
			`1 join: ana joined [Wharf.open false → true] ["on join"] = input`,
		}},
		{"a timer's handler", func(s *story) { s.ticks(12) }, [2]string{"Wharf", "seen"}, []string{
			`10 timer: a timer of Wharf [Wharf.seen 0 → 1] ["on change calls of Wharf"] = timer`,
		}},
		{"a list", func(s *story) {
			s.ticks(2)
			s.ask(1, "Diver.put", `"patch"`)
			s.ticks(3)
		}, [2]string{"Diver", "bag"}, []string{
			`3 request: ana asked Diver.put("patch") [Diver 1.bag [] → ["patch"]] ["request put of ` +
				`Diver"] {bag.count() < 2 passed map[bag:empty]} = input`,
		}},
		{"the last of two", func(s *story) {
			s.ticks(2)
			s.ask(1, "Diver.put", `"patch"`)
			s.ticks(1)
			s.ask(1, "Diver.put", `"flare"`)
			s.ask(1, "Diver.put", `"flare"`)
			s.ticks(3)
		}, [2]string{"Diver", "bag"}, []string{
			`4 request: ana asked Diver.put("flare") [Diver 1.bag ["patch"] → ["patch","flare"]] ` +
				`["request put of Diver"] {bag.count() < 2 passed map[bag:[patch]]} = input`,
		}},
		{"a write", func(s *story) {
			s.ticks(2)
			s.write(1, "Diver.spot", "[9,1]")
			s.ticks(3)
		}, [2]string{"Diver", "spot"}, []string{
			`3 write: ana wrote it [Diver 1.spot [0,0] → [9,1]] = input`,
		}},
		{"a write's handler", func(s *story) {
			s.ticks(2)
			s.write(1, "Diver.spot", "[1,1]")
			s.ticks(3)
		}, [2]string{"Diver", "near"}, []string{
			`3 write: ana wrote it [Diver 1.near false → true] ["on change spot of Diver"] = input`,
		}},
		{"a press", func(s *story) {
			s.ticks(2)
			s.press(1, wire.MessagePress, "Diver.swim")
			s.ticks(3)
		}, [2]string{"Diver", "kick"}, []string{
			`3 hold: ana pressed or released it [Diver 1.kick false → true] ["on change swim of Diver"] = input`,
		}},
		{"a release", func(s *story) {
			s.ticks(2)
			s.press(1, wire.MessagePress, "Diver.swim")
			s.ticks(3)
			s.press(1, wire.MessageRelease, "Diver.swim")
			s.ticks(3)
		}, [2]string{"Diver", "kick"}, []string{
			`6 hold: ana pressed or released it [Diver 1.kick true → false] ["on change swim of Diver"] = input`,
		}},
		{"a lease that ended", func(s *story) {
			s.ticks(2)
			s.press(1, wire.MessagePress, "Diver.swim")
			s.ticks(30)
		}, [2]string{"Diver", "kick"}, []string{
			`23 hold: the hold ended: its lease was over, or its condition failed [Diver 1.kick true ` +
				`→ false] ["on change swim of Diver"] = timer`,
		}},
		{"what spawned it", func(s *story) {
			s.ticks(2)
			s.askOf(1, "Diver", 1, "drop", 3)
		}, [2]string{"Crate", "left"}, []string{
			`3 request: ana asked Diver.drop() [Crate 1.left  → 2] ["request drop of Diver"] = input`,
		}},
		{"since it was spawned", func(s *story) {
			s.ticks(2)
			s.askOf(1, "Diver", 1, "drop", 25)
		}, [2]string{"Crate", "note"}, []string{
			`22 timer: a timer of Crate 1 [Crate 1.note 0 → 4] ["timer of Crate"] = timer`,
		}},
		{"an action at once", func(s *story) {
			s.ticks(2)
			s.askOf(1, "Diver", 1, "drop", 3)
			s.askOf(2, "Crate", 1, "open", 3)
		}, [2]string{"Wharf", "bell"}, []string{
			`6 request: bo asked Crate.open() [Wharf.bell 5 → 1] ["request open of Crate" "action ` +
				`count_up of Crate"] {left > 0 passed map[left:2]} = input`,
		}},
		{"a lost connection", func(s *story) {
			s.ticks(2)
			s.session.Lost(2)
			s.ticks(3)
		}, [2]string{"Wharf", "bell"}, []string{
			`3 lost: bo lost the connection [Wharf.bell 5 → 1] ["on lost"] = input`,
		}},
		{"one that is back", func(s *story) {
			s.ticks(2)
			s.session.Lost(2)
			s.ticks(3)
			s.session.Back(2, 1)
			s.ticks(2)
		}, [2]string{"Wharf", "bell"}, []string{
			`6 back: bo came back [Wharf.bell 1 → 2] ["on back"] = input`,
		}},
		{"who left", func(s *story) {
			s.ticks(2)
			s.session.Leave(2)
			s.ticks(3)
		}, [2]string{"Wharf", "open"}, []string{
			`3 leave: bo left [Wharf.open true → false] ["on leave"] = input`,
		}},
		{"who stayed away", func(s *story) {
			s.ticks(2)
			s.session.Lost(2)
			s.ticks(40)
		}, [2]string{"Wharf", "open"}, []string{
			`23 leave: bo did not come back in time, and its seat ended [Wharf.open true → false] ` +
				`["on leave"] = timer`,
		}},
		{"what was set from outside", func(s *story) {
			s.ticks(2)
			require.NoError(s.t, s.session.Set(s.session.Nth("Diver", 1), "purse", contract.Value{Num: 7}))
			s.ticks(3)
		}, [2]string{"Diver", "purse"}, []string{
			`3 set: it was set from outside [Diver 1.purse 1 → 7] = input`,
		}},
	} {
		t.Run(x.name, func(t *testing.T) {
			s := newStory(t, wharfText)
			s.join("ana")
			s.join("bo")
			x.play(s)
			assert.Equal(t, x.want, told(s.whyOf(x.of[0], 1, x.of[1])))
		})
	}
}
