package session

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/wild"
)

// bytesSent adds up what frames take, and finds the most that a client was sent in any second.
type bytesSent struct {
	ticks int // in a second
	tick  int64
	of    map[int][]int // by client: in each of the last ticks
	most  map[int]int
	total map[int]int
}

func newBytesSent(ticks int) *bytesSent {
	return &bytesSent{ticks: ticks, of: map[int][]int{}, most: map[int]int{}, total: map[int]int{}}
}

// add counts the frames of the next tick, each with the header of its message.
func (b *bytesSent) add(frames []ClientFrame) {
	b.tick++
	for client, ring := range b.of {
		ring[b.tick%int64(b.ticks)] = 0
		b.of[client] = ring
	}
	for _, f := range frames {
		if b.of[f.Client] == nil {
			b.of[f.Client] = make([]int, b.ticks)
		}
		ring := b.of[f.Client]
		ring[b.tick%int64(b.ticks)] += len(f.Bytes) + 4
		b.total[f.Client] += len(f.Bytes) + 4
		sum := 0
		for _, n := range ring {
			sum += n
		}
		b.most[f.Client] = max(b.most[f.Client], sum)
	}
}

// Random contracts with so few bytes for each client that most of what changes has to wait: nobody is sent more in any
// second, each digest is that of the copy, and once nothing changes any more each copy comes to be what it should be.
func TestWhatWaitsForBytesComesInTheEnd(t *testing.T) {
	runs := 25
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_RUNS")); err == nil {
		runs = n
	}
	const limit = 1500
	waited := 0
	most := 0
	for seed, right := uint64(1), 0; right < runs; seed++ {
		c, _ := compile.Load("carried.kam", withByteLimit(wild.Carried(rand.New(rand.NewPCG(seed, 1))), limit))
		if c == nil {
			continue
		}
		right++
		w := newCrowd(t, c, seed)
		w.prove = true
		w.quiet = true
		sent := newBytesSent(c.TickRate)
		w.took = sent.add
		for range 4 {
			w.join(c.Roles[w.r.IntN(3)])
		}
		for range 60 {
			for range w.r.IntN(2) {
				w.input()
			}
			for range 4 + w.r.IntN(20) {
				w.change()
			}
			w.step()
			for n := range w.copies {
				if x, _ := w.view.Waiting(n); x.Entities > 0 {
					waited++
				}
			}
		}
		for n := range w.lost {
			w.Back(n, w.Now())
			delete(w.lost, n)
		}
		for range 10 * c.TickRate {
			w.step()
		}
		for n, held := range w.copies {
			w.hold(n, held)
			assert.LessOrEqual(t, sent.most[n], limit, "seed %d: client %d", seed, n)
			most = max(most, sent.most[n])
		}
		if t.Failed() {
			t.Fatalf("the contract of seed %d:\n%s", seed, c.Source.Text)
		}
	}
	assert.Greater(t, waited, runs, "something has to wait")
	t.Logf("%d runs; in %d ticks something waited for a client; %d bytes in the fullest second", runs, waited, most)
}

// reefText is a contract whose divers all see each other, move all the time, and are sent 2000 bytes a second each.
const reefText = `contract reef language 2
tick 20 per second
seats 200
each client at most 2000 bytes per second nearest pos

event cleared(by: ref Diver)

shared Dive {
  hour: int 0..9999 = 0
  every 1s { hour += 1 }
}

entity Diver per player {
  pos:  vec2 -500..500 step 0.01 = vec(0, 0) set by owner
  hull: int 0..1000 = 1000 clamped
  air:  int 0..1000 = 1000 clamped to owner
  every 500ms { hull -= 1; air -= 1 }
  request clear() limit 2 per second { hull = 1000; tell everyone cleared(self) }
}
`

// reef is a session of reefText with clients whose divers wander.
type reef struct {
	s       *Session
	random  *rand.Rand
	readers map[int]*wire.Reader
	copies  map[int]*replicate.Copy
	numbers map[int]uint32              // by client: that of its diver
	trail   map[uint32][]contract.Value // by diver: where it was at each tick
	seq     uint64
	digests int
}

func newReef(t *testing.T, divers int) *reef {
	c, problems := compile.Load("reef.kam", reefText)
	require.NotNil(t, c, problems.Error())
	s, err := New(c, Options{Key: [32]byte{1}, Prove: true})
	require.NoError(t, err)
	r := &reef{
		s:       s,
		random:  rand.New(rand.NewPCG(20, 1)),
		readers: map[int]*wire.Reader{},
		copies:  map[int]*replicate.Copy{},
		numbers: map[int]uint32{},
		trail:   map[uint32][]contract.Value{},
	}
	for n := range divers {
		client, err := s.Join(fmt.Sprint("d", n), "")
		require.NoError(t, err)
		s.Ready(client)
		r.readers[client] = s.Reader(client)
		r.copies[client] = &replicate.Copy{}
	}
	s.Tick()
	for _, e := range s.world.OfKind(1) {
		r.numbers[e.Owner] = s.view.Number(e)
		far := []int64{r.random.Int64N(90_000) - 45_000, r.random.Int64N(90_000) - 45_000}
		s.world.Set(e, e.Kind.Properties[0], far)
	}
	s.world.Commit()
	for client := range r.copies { // the first frames were those of an empty place
		s.view.Resync(client)
		r.readers[client] = wire.NewReader(s.view.Layout())
	}
	return r
}

// tick moves each diver a little and brings the copies to the next tick.
func (r *reef) tick(t *testing.T) []ClientFrame {
	for _, e := range r.s.world.OfKind(1) {
		r.seq++
		at := r.s.world.Value(e, e.Kind.Properties[0])
		move := wire.Move{Seq: r.seq, Property: "Diver.pos", Wide: 2, Seen: r.s.tick}
		for i := range at.Parts {
			step := int64(math.Round(r.random.NormFloat64() * 30))
			move.Numbers[i] = min(max(at.Parts[i].Num+step, -50_000), 50_000)
		}
		r.s.Steer(e.Owner, r.s.ReadSteering(wire.MessageWrite, move))
	}
	step := r.s.Tick()
	for _, e := range r.s.world.OfKind(1) {
		number := r.s.view.Number(e)
		r.trail[number] = append(r.trail[number], r.s.world.Value(e, e.Kind.Properties[0]))
	}
	for _, cf := range step.Frames {
		f, err := r.readers[cf.Client].Read(cf.Bytes)
		require.NoError(t, err)
		held := r.copies[cf.Client]
		held.Apply(f)
		if f.Digest != nil && r.s.tick%20 == int64(cf.Client)%20 {
			r.digests++
			require.Equal(t, held.Digest(r.s.view.Layout().Outline), *f.Digest)
		}
	}
	return step.Frames
}

// age returns for how many ticks a copy's place of a diver has been out of date.
func (r *reef) age(e *replicate.Entity) int {
	trail := r.trail[e.Number]
	at, _ := e.Value("pos")
	for i := len(trail) - 1; i >= 0; i-- {
		if trail[i].Equal(at) {
			return len(trail) - 1 - i
		}
	}
	return len(trail)
}

// Two hundred divers that all move and see each other: nobody is sent more than its bytes in any second, and what is
// near is newer than what is far.
func TestNearIsNewerThanFar(t *testing.T) {
	const divers = 200
	r := newReef(t, divers)
	sent := newBytesSent(20)
	bands := []float64{100, 250, 500, math.Inf(1)}
	ages := make([][]int, len(bands))
	own := 0
	const seconds = 14
	for tick := range 20 * seconds {
		sent.add(r.tick(t))
		if tick < 20*10 || tick%20 != 0 {
			continue
		}
		for client, held := range r.copies {
			me := held.Entity(r.numbers[client])
			require.NotNil(t, me)
			own = max(own, r.age(me))
			require.Len(t, held.Entities(), divers+1)
			at, _ := me.Value("pos")
			for _, e := range held.Entities() {
				if e.Kind != "Diver" || e == me {
					continue
				}
				there, _ := e.Value("pos")
				x := float64(at.Parts[0].Num-there.Parts[0].Num) / 100
				y := float64(at.Parts[1].Num-there.Parts[1].Num) / 100
				band := slices.IndexFunc(bands, func(most float64) bool { return math.Hypot(x, y) < most })
				ages[band] = append(ages[band], r.age(e))
			}
		}
	}
	total := 0
	for client := range r.copies {
		require.LessOrEqual(t, sent.most[client], 2000, "client %d", client)
		total += sent.total[client]
	}
	before := 0
	for i, list := range ages {
		slices.Sort(list)
		median := list[len(list)/2]
		late := list[len(list)*95/100]
		t.Logf("up to %4.0f away: %6d places, the median %d ticks old, 95 in 100 up to %d", bands[i], len(list), median, late)
		assert.Greater(t, late, before, "what is farther is older")
		before = late
	}
	t.Logf("own divers up to %d ticks old; %d bytes a client and second in the mean, %d in the fullest; %d digests",
		own, total/divers/seconds, slices.Max(slices.Collect(maps.Values(sent.most))), r.digests)
	assert.Zero(t, own)
}

const meteredText = `contract reef language 2
tick 20 per second
roles diver, watcher
each client at most 500 bytes per second nearest pos
each watcher at most 100000 bytes per second

event seen(what: ref Buoy)

shared Dive {
  far: int 0..1 = 0
  on start { for n in 1..60 { spawn Buoy } }
  request sink() from everyone { for b in Buoy { despawn b } }
  request hail(n: int 0..999) -> ref Buoy from everyone {
    let b = spawn Buoy { words = "hailed and seen by everyone" }
    tell everyone seen(b)
    reply b
  }
  request flash() from everyone {
    let b = spawn Buoy
    tell everyone seen(b)
    despawn b
  }
  request paint() from everyone { for b in Buoy { b.words = "painted all over, from stem to stern"; b.shade += 1 } }
}

entity Buoy {
  pos:   vec2 -500..500 step 0.01 = vec(100, 0) to watcher
  words: text max 40 = ""
  shade: int 0..1000 = 0 clamped
  on spawn { words = "a buoy that nobody has painted so far"; pos = vec(roll(-400..400), roll(-400..400)) }
}

entity Diver per diver {
  pos:  vec2 -500..500 step 0.01 = vec(0, 0) set by owner when new.x < 10
  name: text max 20 = ""
  on spawn { name = "a diver" }
}
`

// frameOf returns the frame that a client was sent with the last tick, an empty one for none.
func (g *game) frameOf(client int) *wire.Frame {
	all := g.bytes[client]
	isSent := slices.ContainsFunc(g.step.Frames, func(f ClientFrame) bool { return f.Client == client })
	if !isSent {
		return &wire.Frame{}
	}
	f, _, err := wire.ParseFrame([]byte(all[len(all)-1]), g.outline)
	require.NoError(g.t, err)
	return f
}

// A metered client's decision comes with what its request changed, an event with its entity, even one that is gone by
// then, and both wait until there is room.
func TestMessagesOfMeteredClientsComeWithWhatTheyAreAbout(t *testing.T) {
	g := open(t, meteredText)
	ana := g.join("Ana", "diver")
	for range 3 {
		g.tick()
	}
	require.Less(t, len(g.copies[ana].Entities()), 30, "most of it waits")
	send := func(request string, args ...string) uint64 {
		g.seq++
		raw := []json.RawMessage{}
		for _, x := range args {
			raw = append(raw, json.RawMessage(x))
		}
		g.s.Ask(ana, g.s.ReadRequest(wire.Ask{Seq: g.seq, Request: request, Args: raw}))
		return g.seq
	}
	for n := range 30 { // more than there are bytes for
		send("Dive.hail", fmt.Sprint(n))
	}
	heard, hailed := 0, 0
	for range 20 * 20 {
		g.tick()
		for _, n := range g.notices[ana] {
			if n.Type == replicate.EventReceived {
				heard++
				number := uint32(n.Event.Fields[0].Value.Num)
				require.NotNil(t, g.copies[ana].Entity(number), "an event names what is there")
			}
		}
		for _, d := range g.frameOf(ana).Decisions {
			require.Equal(t, wire.Accepted, d.Outcome)
			hailed++
			var number uint32
			require.NoError(t, json.Unmarshal(d.Reply, &number))
			require.NotNil(t, g.copies[ana].Entity(number), "a reply names what is there")
		}
	}
	assert.Equal(t, 30, hailed)
	assert.Equal(t, 30, heard)
	waiting, _ := g.s.Waiting(ana)
	assert.Zero(t, waiting.Entities)
	require.Len(t, g.copies[ana].Entities(), 60+30+2)

	// What came and went in one tick is told of, for its event.
	before := len(g.copies[ana].Entities())
	send("Dive.flash")
	g.tick()
	var order []replicate.NoticeType
	for _, n := range g.notices[ana] {
		order = append(order, n.Type)
	}
	assert.Equal(t, []replicate.NoticeType{replicate.EntitySpawned, replicate.EventReceived, replicate.EntityGone}, order)
	assert.Len(t, g.copies[ana].Entities(), before)

	// What everyone is withdrawn comes before anything new, and takes its time.
	send("Dive.sink")
	g.tick()
	assert.Greater(t, len(g.copies[ana].Entities()), 2)
	for range 20 {
		g.tick()
	}
	assert.Len(t, g.copies[ana].Entities(), 2)
}

// A crowd that joins at once is told of bit by bit; who leaves before that is not told of at all.
func TestMeteredClientsAreToldWhoIsThere(t *testing.T) {
	g := open(t, meteredText)
	ana := g.join("Ana", "diver")
	g.tick()
	for n := range 40 {
		g.join(fmt.Sprintf("diver with a name %d", n), "diver")
	}
	g.tick()
	for n := 2; n < 40; n += 3 {
		g.s.Leave(n)
		delete(g.copies, n)
	}
	g.s.Ask(ana, g.s.ReadRequest(wire.Ask{Seq: 1, Request: "Dive.hail", Args: []json.RawMessage{json.RawMessage("1")}}))
	g.seq = 1
	some := false
	for range 20 * 30 {
		g.tick()
		known := len(g.copies[ana].Clients)
		some = some || known > 5 && known < 20
		if known < len(g.s.Clients()) {
			require.Empty(t, g.frameOf(ana).Decisions, "what is told of may be about who is not known yet")
			require.Empty(t, g.frameOf(ana).Events)
		}
	}
	assert.True(t, some)
	assert.Equal(t, wire.Accepted, g.decided[ana].Outcome)
	for client, held := range g.copies {
		assert.ElementsMatch(t, g.s.Clients(), held.Clients, "client %d", client)
		assert.Len(t, held.Entities(), 1+61+len(g.s.Clients()), "client %d", client)
	}
	g.s.Leave(ana)
	delete(g.copies, ana)
	for range 20 {
		g.tick()
	}
	assert.NotContains(t, g.copies[3].Clients, wire.Client{Number: 1, Name: "Ana", Role: "diver"})
}

// What a metered client wrote itself and the server did not take is sent to it once more.
func TestMeteredClientsAreSentWhatWasNotTaken(t *testing.T) {
	g := open(t, meteredText)
	ana := g.join("Ana", "diver")
	for range 20 * 20 {
		g.tick()
	}
	g.s.Steer(ana, g.s.ReadSteering(wire.MessageWrite, wire.Move{
		Seq:      1,
		Property: "Diver.pos",
		Value:    json.RawMessage("[20,0]"),
		Seen:     g.s.tick,
	}))
	g.tick()
	f := g.frameOf(ana)
	require.Len(t, f.Decisions, 1)
	assert.Equal(t, "rule", f.Decisions[0].Reason)
	require.Len(t, f.Blocks, 1)
	require.Len(t, f.Blocks[0].Values, 1)
	assert.Equal(t, "pos", f.Blocks[0].Values[0].Fields[0].Name)
}

// In which order a metered client is sent what waits tells it nothing of what it may not have: neither where things
// are whose place is hidden from it, nor in which order the server did what it did in one tick.
func TestTheOrderOfWhatWaitsTellsNothing(t *testing.T) {
	play := func(other bool) (frames []string) {
		g := open(t, meteredText)
		ana := g.join("Ana", "diver")
		for tick := range 20 * 12 {
			buoys := slices.Clone(g.s.world.OfKind(1))
			if other {
				slices.Reverse(buoys)
			}
			for i, b := range buoys {
				hidden := []int64{int64(i*1000) - 30_000, 7}
				if other {
					hidden = []int64{30_000 - int64(i*700), 9}
				}
				g.s.world.Set(b, b.Kind.Property("pos"), hidden)
				if tick%40 == 20 {
					g.s.world.Set(b, b.Kind.Property("shade"), []int64{int64(tick)})
				}
			}
			if tick == 181 { // while much waits
				for _, b := range buoys {
					g.s.world.Despawn(b)
				}
			}
			g.s.endTransaction(nil)
			g.tick()
		}
		assert.Len(t, g.copies[ana].Entities(), 2)
		return g.bytes[ana]
	}
	assert.Equal(t, play(false), play(true))
}

// What takes many bytes at once comes as well, though there is always something small that would fit before it.
func TestWhatIsLargeIsNotHeldUpByWhatIsSmall(t *testing.T) {
	long := strings.Repeat("up and down the reef, ", 18)
	g := open(t, fmt.Sprintf(`contract reef language 2
tick 20 per second
each client at most 500 bytes per second
event said(words: text max 400)
shared Log { words: text max 400 = "" }
shared Bell { rung: int 0..9 = 0; on change rung { tell everyone said(%q) } }
shared Dive { on start { for n in 1..60 { spawn Eel } } }
entity Eel { n: int 0..1000 = 0; on tick { n = roll(0..1000) } }
entity Diver per player { n: int 0..9 = 0 }
`, long))
	ana := g.join("Ana", "")
	for range 200 {
		g.tick()
	}
	copy := g.copies[ana]
	until := func(what string, isThere func() bool) {
		waits := 0
		for ; !isThere() && waits < 200; waits++ {
			g.tick()
		}
		assert.Greater(t, waits, 2, what)
		assert.Less(t, waits, 100, what)
	}
	log := copy.OwnedBy("Log", 0)
	require.NotNil(t, log)
	require.NoError(t, g.s.Set(log.Number, "words", contract.Value{Text: long}))
	until("a value", func() bool {
		v, _ := log.Value("words")
		return v.Text == long
	})
	for range 200 { // until what was sent at once is forgotten
		g.tick()
	}
	require.NoError(t, g.s.Set(copy.OwnedBy("Bell", 0).Number, "rung", contract.Value{Num: 1}))
	until("an event", func() bool { return len(g.heard[ana]) == 1 })
}

// A metered client is not struck for what it has not been sent, though it has confirmed later ticks: nor is a write of
// it void that was made with all that it owns.
func TestMeteredClientsAreNotStruckForWhatWaits(t *testing.T) {
	g := open(t, `contract reef language 2
tick 20 per second
strikes 3 in 10s
each client at most 500 bytes per second nearest pos
type Place = vec2 -500..500 step 0.01
shared Dive { on start { for n in 1..60 { spawn Eel { pos = vec(n % 7, 3) } }; spawn Buoy } }
entity Eel { pos: Place; on tick { pos = vec(roll(-9..9), roll(-9..9)) } }
entity Buoy { pos: Place = vec(25, 0); shade: int 0..9 = 0 }
entity Diver per player {
  pos: Place = vec(0, 0) set by owner
  request mark(b: ref Buoy)
    check b != nothing else deny "nothing"
    check b.shade == 0 else strike "it has another shade"
  { pos.x = 0 }
}
`)
	ana := g.join("Ana", "")
	g.confirms = true
	held := g.copies[ana]
	buoy := func() string { return g.sees(ana, 0, "Buoy", "shade") }
	ask := func() {
		g.seq++
		number := json.RawMessage(fmt.Sprint(held.OwnedBy("Buoy", 0).Number))
		g.s.Ask(ana, g.s.ReadRequest(wire.Ask{
			Seq:     g.seq,
			Request: "Diver.mark",
			Args:    []json.RawMessage{number},
			Seen:    held.Tick,
		}))
	}
	for range 5 {
		g.tick()
	}
	require.Less(t, len(held.Entities()), 40, "much has not come yet")
	g.seq++
	g.s.Steer(ana, g.s.ReadSteering(wire.MessageWrite, wire.Move{
		Seq:      g.seq,
		Property: "Diver.pos",
		Value:    json.RawMessage("[2,1]"),
		Seen:     held.Tick,
	}))
	for range 400 {
		g.tick()
	}
	assert.Equal(t, "(2, 1)", g.sees(ana, ana, "Diver", "pos"))
	require.Equal(t, "0", buoy())
	require.NoError(t, g.s.Set(held.OwnedBy("Buoy", 0).Number, "shade", contract.Value{Num: 3}))
	late := 0
	for buoy() == "0" && late < 600 { // to her it is as it was
		if late%10 == 0 {
			ask()
		}
		g.tick()
		late++
	}
	require.Greater(t, late, 10)
	assert.Zero(t, g.s.Strikes(ana))
	for range 80 {
		g.tick()
	}
	require.Equal(t, "3", buoy())
	for range 2 { // now she could know
		ask()
		g.tick()
	}
	for range 40 {
		g.tick()
	}
	assert.Equal(t, 2, g.s.Strikes(ana))
}

// Many messages at once keep to the limit as well, after a time in which nothing was sent; one that is larger than a
// second's bytes goes alone.
func TestMessagesKeepToTheLimit(t *testing.T) {
	g := open(t, `contract reef language 2
tick 20 per second
each client at most 500 bytes per second
event said(words: text max 800)
entity Diver per player {
  request say(words: text max 800) { for n in 1..10 { tell everyone said(words) } }
}
`)
	ana := g.join("Ana", "") // who is sent a decision besides
	bo := g.join("Bo", "")
	g.confirms = true
	play := func(client int, words string) (most int) {
		sent := newBytesSent(20)
		for range 60 { // nothing is sent
			g.tick()
			sent.add(g.step.Frames)
		}
		heard := len(g.heard[bo])
		g.seq++ // what is refused has a reason, which comes first
		g.s.Ask(ana, g.s.ReadRequest(wire.Ask{Seq: g.seq, Request: "Diver.no_such_request", Args: []json.RawMessage{}}))
		g.seq++
		raw, err := json.Marshal(words)
		require.NoError(t, err)
		ask := wire.Ask{Seq: g.seq, Request: "Diver.say", Args: []json.RawMessage{raw}}
		g.s.Ask(1, g.s.ReadRequest(ask))
		for range 20 * 30 {
			g.tick()
			sent.add(g.step.Frames)
		}
		require.Equal(t, 10, len(g.heard[bo])-heard)
		return sent.most[client]
	}
	assert.LessOrEqual(t, play(bo, strings.Repeat("abcd ", 60)), 500)
	assert.LessOrEqual(t, play(ana, strings.Repeat("abcd ", 92)), 500)
	assert.LessOrEqual(t, play(bo, strings.Repeat("abcd ", 140)), 700+40, "one by one")
}

// Who gets a role without a limit knows all that it was sent again.
func TestARoleWithoutALimitIsSentEverything(t *testing.T) {
	g := open(t, `contract reef language 2
tick 20 per second
roles diver, watcher
each diver at most 500 bytes per second
type Place = vec2 -50..50 step 0.1
shared Dive { on start { for n in 1..60 { spawn Eel } } }
entity Eel { pos: Place = vec(0, 0); on tick { pos = vec(roll(-9..9), roll(-9..9)) } }
entity Buoy { pos: Place = vec(0, 0) set by owner }
entity Diver per diver { n: int 0..9 = 0; request leave() { caller.role = watcher } }
on join(c) { let b = spawn Buoy; give b to c }
`)
	ana := g.join("Ana", "diver")
	g.confirms = true
	for range 40 {
		g.tick()
	}
	g.ask(ana, 0, "Diver.leave")
	for range 40 {
		g.tick()
	}
	held := g.copies[ana]
	require.Len(t, held.Entities(), 62)
	buoy := held.OwnedBy("Buoy", ana).Number
	require.NoError(t, g.s.Set(buoy, "pos", contract.Value{Parts: []contract.Value{{Num: 10}, {Num: 10}}}))
	for range 5 {
		g.tick()
	}
	g.seq++
	g.s.Steer(ana, g.s.ReadSteering(wire.MessageWrite, wire.Move{
		Seq: g.seq, Entity: buoy, Property: "Buoy.pos", Value: json.RawMessage("[2,1]"), Seen: held.Tick,
	}))
	for range 5 {
		g.tick()
	}
	assert.Equal(t, "(2, 1)", g.sees(ana, ana, "Buoy", "pos"))
}
