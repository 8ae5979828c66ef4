package session

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

const trapsText = `contract traps language 1
seats 20 grace 2s
roles player, referee
audience near(m: Mark) = distance(viewer.Diver.pos, m.pos) <= 10
audience mates(m: Mark) = viewer.Diver.crew == m.crew
event calm(n: int 0..99)
entity Diver per player {
  pos: vec2 -100..100 step 0.1 = vec(0, 0)
  crew: int 0..1 = 0
  hull: int 0..100 = 100 clamped
  lives: int 0..9999 = 0
  event hurt(n: int 0..99)
  hold kick lease 500ms
  request flash(n: int 0..99) { let s = spawn Spark { n = n }; tell everyone s.lit(n, s); despawn s }
  request light(n: int 0..99) { spawn Spark { n = n } }
  request put_out(n: int 0..99) { for s in Spark where s.n == n { tell everyone s.lit(n, s); despawn s } }
  request walk(x: int -99..99, n: int 0..99) { pos = vec(x, 0); for m in Mark { tell everyone m.ping(n) } }
  request cross(n: int 0..99) { crew = 1 - crew; for m in Mark { tell everyone m.ping(n) } }
  request call(n: int 0..99) { tell everyone hurt(n); tell everyone calm(n) }
  request take(n: int 0..99) { for t in Chest { give t to caller; t.secret = n } }
  request drop() { for t in Chest { give t to server; t.secret = 0 } }
  request strike(n: int 0..100) { hull -= n; tell everyone hurt(0) }
  on change hull { if hull == 0 { hull = 100; lives += 1 } }
}
entity Spark { n: int 0..99 once; tag: text max 9 = "bright" once; event lit(n: int 0..99, who: ref Spark) }
entity Mark to near(self) or referee { pos: vec2 -100..100 step 0.1; crew: int 0..1 = 0; told: int 0..9 = 0 to mates(self); event ping(n: int 0..99) }
entity Chest { secret: int 0..99 = 0 to owner }
shared Sea { on start { spawn Mark { pos = vec(5, 0) }; spawn Mark { pos = vec(40, 0); crew = 1 }; spawn Chest } }
on join(c) { tell c calm(7) }
`

// often is how many times a trap is tried: 2,000 times with KAMERAD_OFTEN=2000.
func often() int {
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_OFTEN")); err == nil {
		return n
	}
	return 100
}

// begin opens a session of a contract.
func begin(t *testing.T, c *contract.Contract, key byte) *game {
	s, err := New(c, Options{Key: [32]byte{key}})
	require.NoError(t, err)
	g := &game{t: t, s: s, outline: c.Outline()}
	g.reset()
	return g
}

// trap opens a session with some divers and a referee and lets a test do something in it many times.
func trap(t *testing.T, f func(g *game, r *rand.Rand, clients []int)) {
	c, problems := compile.Load("traps.kam", trapsText)
	require.NotNil(t, c, problems.Error())
	for seed := range uint64(often()) {
		g := begin(t, c, byte(seed))
		r := rand.New(rand.NewPCG(seed, 5))
		clients := []int{g.join("Ana", ""), g.join("Bo", ""), g.join("Ref", "referee")}
		for range r.IntN(3) {
			g.tick()
		}
		f(g, r, clients)
	}
}

// send queues a request without a tick.
func (g *game) send(client int, request string, args ...any) {
	g.seq++
	a := wire.Ask{Seq: g.seq, Request: request, Args: []json.RawMessage{}}
	for _, x := range args {
		a.Args = append(a.Args, json.RawMessage(fmt.Sprint(x)))
	}
	g.s.Ask(client, g.s.ReadRequest(a))
}

// heardOf counts how often a client heard an event in the last tick, of an entity that it knows, and without.
func (g *game) heardOf(client int, event string) (with, without int) {
	for _, n := range g.notices[client] {
		if n.Type == replicate.EventReceived && n.Event.Event == event {
			if n.Entity != nil {
				with++
			} else {
				without++
			}
		}
	}
	return with, without
}

func TestASpawnAnEventAndADespawnInOneTick(t *testing.T) {
	trap(t, func(g *game, r *rand.Rand, clients []int) {
		want := 1
		if r.IntN(2) == 0 {
			g.send(clients[0], "Diver.flash", 5)
		} else { // in causes of their own
			g.send(clients[0], "Diver.light", 5)
			if r.IntN(2) == 0 {
				g.send(clients[0], "Diver.light", 5)
				want = 2
			}
			g.send(clients[1], "Diver.put_out", 5)
		}
		g.tick()
		for _, n := range clients {
			with, without := g.heardOf(n, "Spark.lit")
			require.Equal(t, []int{want, 0}, []int{with, without}, "client %d", n)
			var order []replicate.NoticeType
			for _, x := range g.notices[n] {
				switch {
				case x.Entity != nil && x.Entity.Kind == "Spark":
					order = append(order, x.Type)
				}
				if x.Type == replicate.EventReceived && x.Event.Event == "Spark.lit" {
					tag, _ := x.Entity.Value("tag")
					require.Equal(t, "bright", tag.Text, "with all its values")
					require.Equal(
						t, int64(x.Entity.Number), x.Event.Fields[1].Value.Num, "an argument names it as well",
					)
				}
			}
			require.Len(t, order, 3*want)
			require.True(t, slices.IsSortedFunc(order, func(a, b replicate.NoticeType) int {
				rank := map[replicate.NoticeType]int{
					replicate.EntitySpawned: 0,
					replicate.EventReceived: 1,
					replicate.EntityGone:    2,
				}
				return rank[a] - rank[b]
			}), "%v", order)
			for _, x := range g.copies[n].Entities() {
				require.NotEqual(t, "Spark", x.Kind)
			}
		}
		g.send(clients[0], "Diver.light", 9) // what nobody speaks of leaves no trace
		g.tick()
		require.Equal(t, []string{"Spark"}, kindsOf(g.copies[clients[1]], "Spark"))
	})
}

func kindsOf(c *replicate.Copy, kind string) (out []string) {
	for _, x := range c.Entities() {
		if x.Kind == kind {
			out = append(out, x.Kind)
		}
	}
	return out
}

func TestEnteringAnAudienceAndAnEventInOneTick(t *testing.T) {
	trap(t, func(g *game, r *rand.Rand, clients []int) {
		g.tick()
		for range 3 {
			who := clients[r.IntN(2)]
			if r.IntN(3) > 0 {
				g.send(who, "Diver.walk", r.IntN(60)-10, 3)
			} else {
				g.send(who, "Diver.cross", 3)
			}
			before := map[int]int{}
			for _, n := range clients {
				before[n] = len(kindsOf(g.copies[n], "Mark"))
			}
			g.tick()
			for _, n := range clients {
				with, without := g.heardOf(n, "Mark.ping")
				require.Equal(t, 2, with+without, "none lost, none doubled: client %d", n)
				after := len(kindsOf(g.copies[n], "Mark"))
				require.GreaterOrEqual(
					t, with, max(before[n], after), "who knows the mark, before or after, hears it of it",
				)
				for _, x := range g.notices[n] {
					require.False(t, x.Type == replicate.EventReceived && x.Event.Event == "Mark.ping" &&
						(x.Event.Entity == 0) != (x.Entity == nil))
				}
			}
		}
	})
}

func TestEventsBeforeAClientIsReady(t *testing.T) {
	c, problems := compile.Load("traps.kam", trapsText)
	require.NotNil(t, c, problems.Error())
	for seed := range uint64(often()) {
		g := begin(t, c, 1)
		r := rand.New(rand.NewPCG(seed, 6))
		ana := g.join("Ana", "")
		g.tick()
		late, err := g.s.Join("Late", "")
		require.NoError(t, err)
		g.copies[late], g.readers[late] = &replicate.Copy{}, g.s.Reader(late)
		wait := r.IntN(30)
		calls := 0
		readyAt := 0
		for tick := range 40 {
			if tick == wait {
				g.s.Ready(late)
				readyAt = tick
			}
			if r.IntN(3) == 0 {
				g.send(ana, []string{"Diver.call", "Diver.flash"}[r.IntN(2)], calls)
				calls++
			}
			g.tick()
			if tick < wait {
				require.Empty(t, g.heard[late], "it waits")
			}
		}
		require.Equal(t, wait, readyAt)
		// The welcome once, and first; each call once, in order; what was lit is told of as well.
		require.Equal(t, "calm", g.heard[late][0])
		require.Equal(t, g.heard[ana][1:], g.heard[late][1:], "it hears what the others heard, no less and no more")
	}
}

func TestAnOwnerChangeCarriesWhatOnlyOwnersSee(t *testing.T) {
	trap(t, func(g *game, r *rand.Rand, clients []int) {
		g.tick()
		owner := 0
		for range 6 {
			who := clients[r.IntN(2)]
			n := 1 + r.IntN(98)
			switch r.IntN(4) {
			case 0:
				g.send(who, "Diver.drop")
				owner = 0
				n = 0
			case 1: // both want it in one tick: the last one has it
				g.send(clients[0], "Diver.take", 50)
				g.send(clients[1], "Diver.take", n)
				owner = clients[1]
			default:
				g.send(who, "Diver.take", n)
				owner = who
			}
			g.tick()
			for _, c := range clients {
				var chest *replicate.Entity
				for _, x := range g.copies[c].Entities() {
					if x.Kind == "Chest" {
						chest = x
					}
				}
				require.Equal(t, owner, chest.Owner)
				v, has := chest.Value("secret")
				require.Equal(t, owner == c, has, "in the same tick as the ownership")
				require.True(t, !has || v.Num == int64(n))
				mine := 0
				for _, x := range g.notices[c] {
					if x.Type == replicate.OwnerChanged {
						mine++
					}
				}
				require.LessOrEqual(t, mine, 1, "told once")
			}
		}
	})
}

func TestOnceValuesReachLateJoiners(t *testing.T) {
	trap(t, func(g *game, r *rand.Rand, clients []int) {
		n := r.IntN(99)
		g.send(clients[0], "Diver.light", n)
		for range r.IntN(4) {
			g.tick()
		}
		late := g.join("Late", []string{"player", "referee"}[r.IntN(2)])
		if r.IntN(2) == 0 {
			g.send(clients[1], "Diver.light", 1+n)
		}
		g.tick()
		require.Equal(t, kept(g.copies[clients[0]], "Spark"), kept(g.copies[late], "Spark"))
		require.NotEmpty(t, kept(g.copies[late], "Spark"))
	})
}

// kept describes the entities of a kind with all that a client has of them.
func kept(c *replicate.Copy, kind string) (out []string) {
	for _, x := range c.Entities() {
		if x.Kind == kind {
			line := fmt.Sprint(x.Number, x.Owner)
			for _, f := range x.Fields {
				line += " " + f.Name + "=" + f.Type.Format(f.Value)
			}
			out = append(out, line)
		}
	}
	return out
}

func TestDeathAndRevivalInOneCause(t *testing.T) {
	trap(t, func(g *game, r *rand.Rand, clients []int) {
		g.tick()
		hull := 100
		lives := 0
		for range 5 {
			n := r.IntN(101)
			g.send(clients[0], "Diver.strike", n)
			hull -= n
			if hull <= 0 {
				hull = 100
				lives = lives + 1
			}
			before := g.sees(clients[1], clients[0], "Diver", "hull")
			g.tick()
			for _, c := range clients {
				require.Equal(t, fmt.Sprint(hull), g.sees(c, clients[0], "Diver", "hull"))
				require.Equal(t, fmt.Sprint(lives), g.sees(c, clients[0], "Diver", "lives"))
				for _, x := range g.notices[c] {
					if x.Type == replicate.FieldChanged && x.Field.Name == "hull" {
						require.NotZero(t, x.Field.Value.Num, "nobody sees what was only in between")
						require.NotEqual(t, before, fmt.Sprint(x.Field.Value.Num))
					}
				}
			}
		}
	})
}

// A client that is lost between press and release: the hold ends when its lease does, on every copy, and at once when
// the seat ends.
func TestALostClientsHoldEnds(t *testing.T) {
	trap(t, func(g *game, r *rand.Rand, clients []int) {
		g.tick()
		who := clients[0]
		g.s.Steer(who, g.s.ReadSteering("press", wire.Move{Property: "Diver.kick", Press: 1}))
		g.tick()
		require.Equal(t, "true", g.sees(clients[1], who, "Diver", "kick"))
		renewed := r.IntN(8)
		for range renewed {
			g.s.Steer(who, g.s.ReadSteering("press", wire.Move{Property: "Diver.kick", Press: 1}))
			g.tick()
		}
		g.s.Lost(who)
		for range 9 { // 500 ms are ten ticks
			g.tick()
			require.Equal(t, "true", g.sees(clients[1], who, "Diver", "kick"))
		}
		g.tick()
		require.Equal(t, "false", g.sees(clients[1], who, "Diver", "kick"), "at the stated time")
		if r.IntN(2) == 0 {
			g.s.Back(who, g.s.Now())
			g.s.Steer(who, g.s.ReadSteering("press", wire.Move{Property: "Diver.kick", Press: 1}))
			g.tick()
			require.Equal(t, "false", g.sees(who, who, "Diver", "kick"), "an old press begins nothing")
			g.s.Steer(who, g.s.ReadSteering("press", wire.Move{Property: "Diver.kick", Press: 2}))
			g.tick()
			require.Equal(t, "true", g.sees(who, who, "Diver", "kick"))
			g.s.Leave(who)
			g.tick()
			require.Equal(t, "no entity", g.sees(clients[1], who, "Diver", "kick"))
			return
		}
		for range 41 {
			g.tick()
		}
		require.NotContains(t, g.s.seats, who, "its grace is over")
		require.Equal(t, "no entity", g.sees(clients[1], who, "Diver", "kick"))
	})
}

const barrierText = `contract barrier language 1
seats 20 grace 1s
entity Diver per player {
  ready: bool = false
  request get_ready() { ready = true }
}
shared Dive {
  started: bool = false
  starts: int 0..99 = 0
  every 50ms while not started {
    let willing = count(d in Diver where d.ready)
    if willing >= 2 and (willing == count(Diver) or since(starts) > 10s) { started = true; starts += 1 }
  }
}
`

// A barrier in the contract's own words starts exactly once: never before all who are there are ready or the limit has
// passed, and it never hangs, whoever joins, leaves, repeats or comes late.
func TestAReadyBarrierStartsOnce(t *testing.T) {
	c, problems := compile.Load("barrier.kam", barrierText)
	require.NotNil(t, c, problems.Error())
	for seed := range uint64(often()) {
		g := begin(t, c, 1)
		r := rand.New(rand.NewPCG(seed, 8))
		here := map[int]bool{} // who is there, and ready
		starts := ""
		names := 0
		started := int64(0)
		for tick := range int64(450) {
			switch r.IntN(12) {
			case 0:
				if len(here) < 6 && tick < 150 {
					names++
					here[g.join(fmt.Sprint("c", names), "")] = false
				}
			case 1:
				if n := anyOf(r, here); n > 0 && len(here) > 2 && tick < 150 {
					g.s.Leave(n)
					delete(here, n)
				}
			case 2, 3, 4:
				if n := anyOf(r, here); n > 0 && r.IntN(4) > 0 {
					g.send(n, "Diver.get_ready") // again and again, it does not matter
					here[n] = true
				}
			}
			g.tick()
			willing := 0
			all := 0
			for _, ready := range here {
				all++
				if ready {
					willing++
				}
			}
			if n := anyOf(r, here); n > 0 {
				starts = g.sees(n, 0, "Dive", "starts")
			}
			if starts == "1" && started == 0 {
				started = tick
				require.True(t, willing >= 2 &&
					(willing == all ||
						g.s.Now() > 200), "seed %d: it started in tick %d with %d of %d", seed, tick, willing, all)
			}
			require.Contains(t, []string{"", "0", "1"}, starts, "never twice")
		}
		willing := 0
		for _, ready := range here {
			if ready {
				willing++
			}
		}
		require.True(t, started > 0 || willing < 2, "seed %d: it hangs with %d ready", seed, willing)
	}
}

func anyOf(r *rand.Rand, here map[int]bool) int {
	var list []int
	for n := range here {
		list = append(list, n)
	}
	slices.Sort(list)
	if len(list) == 0 {
		return 0
	}
	return list[r.IntN(len(list))]
}

const placesText = `contract places language 1
seats 20
const buoys: list<vec2 -200..200 step 0.01> max 5 = [vec(-40, 0), vec(-20, 0), vec(0, 0), vec(20, 0), vec(40, 0)]
entity Diver per player {
  pos: vec2 -200..200 step 0.01 = vec(0, 0)
  hull: int 0..100 = 100 clamped
  on spawn { pos = free_buoy(self) }
  request sink() { pos = free_buoy(self) }
}
fn free_buoy(d: Diver) -> vec2 = best(b in buoys: min(o in Diver where o != d: distance(o.pos, b) else 999))
`

// As many players as there are start places stand on places of their own, whoever comes, goes and starts again; one
// more shares the place that is farthest from the others, as the contract says.
func TestStartPlacesAreNotShared(t *testing.T) {
	c, problems := compile.Load("places.kam", placesText)
	require.NotNil(t, c, problems.Error())
	for seed := range uint64(often()) {
		g := begin(t, c, 1)
		r := rand.New(rand.NewPCG(seed, 9))
		here := map[int]bool{}
		names := 0
		for range 25 {
			switch n := anyOf(r, here); {
			case len(here) < 5 && r.IntN(2) == 0:
				names++
				here[g.join(fmt.Sprint("c", names), "")] = true
			case n > 0 && r.IntN(3) == 0:
				g.s.Leave(n)
				delete(here, n)
			case n > 0:
				g.send(n, "Diver.sink")
			}
			g.tick()
			taken := map[string]bool{}
			for n := range here {
				pos := g.sees(n, n, "Diver", "pos")
				require.False(t, taken[pos], "seed %d: two at %s", seed, pos)
				taken[pos] = true
			}
			require.Empty(t, g.step.Faults)
		}
		for len(here) < 6 {
			names++
			here[g.join(fmt.Sprint("c", names), "")] = true
			g.tick()
		}
		taken := map[string]int{}
		for n := range here {
			taken[g.sees(n, n, "Diver", "pos")]++
		}
		require.Len(t, taken, 5, "all places are taken, and the sixth shares one")
		require.Empty(t, g.step.Faults)
	}
}

// Sessions leave nothing behind: the first ticks of a hundred of them are the same, and so is the number of goroutines.
func TestNothingSurvivesAHundredSessions(t *testing.T) {
	c := tidewreck(t)
	before := runtime.NumGoroutine()
	first := ""
	for i := range 100 {
		g := begin(t, c, byte(9))
		ana := g.join("Ana", "")
		for range 20 {
			g.tick()
		}
		all := fmt.Sprint(g.bytes[ana])
		if i == 0 {
			first = all
		}
		require.Equal(t, first, all)
	}
	assert.Equal(t, before, runtime.NumGoroutine())
}

const sledText = `contract sleds language 1
entity Diver per player { n: int 0..9 = 0 }
entity Sled {
  driver: client = nothing
  pos: vec2 -100..100 step 0.1 = vec(0, 0) set by driver pace distance(old, new) 10 per second burst 5 when new.y <= 0
  towed: real 0..9 step 0.5 = 0 to owner
  request ride() from everyone check driver == nothing else deny "someone drives it" { driver = caller }
  request get_off() from everyone check driver == caller else deny "not the driver" { driver = nothing }
}
shared Sea { on start { spawn Sled } }
on leave(c) { for s in Sled where s.driver == c { s.driver = nothing } }
`

// A part that another client steers: it is written by whoever the contract names, the owner or not, within pace and
// rule; what is not taken is undone on its client alone.
func TestWhatAnotherClientSteers(t *testing.T) {
	g := open(t, sledText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	sled := g.copies[ana].Entities()[slices.IndexFunc(
		g.copies[ana].Entities(), func(x *replicate.Entity) bool { return x.Kind == "Sled" },
	)].Number
	seq := uint64(100)
	write := func(who int, value string) (refused string) {
		seq++
		g.s.Steer(who, g.s.ReadSteering("write", wire.Move{
			Seq:      seq,
			Entity:   sled,
			Property: "Sled.pos",
			Value:    json.RawMessage(value),
			Seen:     g.s.Now(),
		}))
		g.tick()
		if d := g.decided[who]; d.Seq == seq {
			return d.Reason
		}
		return ""
	}
	pos := func(who int) string {
		v, _ := g.copies[who].Entity(sled).Value("pos")
		f, _ := g.copies[who].Entity(sled).Field("pos")
		return f.Type.Format(v)
	}
	require.Equal(t, "not the owner", write(ana, "[1,-1]"), "nobody drives it")
	require.Equal(t, wire.Accepted, g.ask(ana, sled, "Sled.ride").Outcome)
	require.Equal(t, "someone drives it", g.ask(bo, sled, "Sled.ride").Reason)
	require.Empty(t, write(ana, "[2,-1]"))
	require.Equal(t, "(2, -1)", pos(bo))
	require.Equal(t, "not the owner", write(bo, "[3,-1]"))
	require.Equal(t, "pace", write(ana, "[60,-1]"))
	corrected := 0
	for _, n := range g.notices[ana] {
		if n.Type == replicate.FieldChanged && n.Field.Name == "pos" {
			corrected++
		}
	}
	require.Equal(t, 1, corrected, "its own client is told what it is")
	require.Empty(t, g.notices[bo], "and nobody else anything")
	require.Equal(t, "rule", write(ana, "[2,1]"))
	g.s.Leave(ana)
	g.tick()
	require.Equal(t, wire.Accepted, g.ask(bo, sled, "Sled.ride").Outcome)
	require.Empty(t, write(bo, "[3,-1]"))
	require.Equal(t, "(3, -1)", pos(bo))
}

// What was spawned in this tick has swept nothing: its path is the place where it is, and not a line from nowhere to
// there.
func TestWhatIsNewHasSweptNothing(t *testing.T) {
	g := open(t, `contract reef language 1
roles player
type Place = vec2 -100..100 step 1
type Wall { a: Place, b: Place }
const walls: list<Wall> max 1 = [Wall(a = vec(10, 0), b = vec(10, 100))]
shared Reef {
  hits: int 0..99 = 0 clamped
  request drop(at: Place) from player { spawn Stone { pos = at } }
  request shift(by: int -9..9) from player { for s in Stone { s.pos = s.pos + vec(by, 0) } }
}
entity Stone {
  pos: Place
  on tick { if crosses(path(pos), walls) { Reef.hits += 1 } }
}
`)
	ana := g.join("Ana", "")
	g.tick()
	hits := func() string { return g.sees(ana, 0, "Reef", "hits") }
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Reef.drop", "[20,50]").Outcome)
	assert.Equal(t, "0", hits(), "a line from (0, 0) would cross the wall")
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Reef.shift", "-9").Outcome)
	assert.Equal(t, "0", hits())
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Reef.shift", "-9").Outcome)
	assert.Equal(t, "1", hits())
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Reef.shift", "-1").Outcome)
	assert.Equal(t, "1", hits())
}

// A hold is its owner's: it ends when the entity is given to somebody else, whose own presses count from then on,
// however often the one before has pressed; a press that is renewed from before begins nothing.
func TestAHoldEndsWithItsOwner(t *testing.T) {
	g := open(t, `contract yard language 1
tick 20 per second
roles player
shared Yard { ends: int 0..99 = 0 clamped; on start { spawn Rig { } } }
entity Rig {
  hold winch lease 1s
  on change winch { if not winch { Yard.ends += 1 } }
  request grab() from player { give self to caller }
}
entity Diver per player { n: int 0..9 }
`)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	rig := g.copies[ana].OwnedBy("Rig", 0).Number
	press := func(client int, what wire.MessageType, number uint64) {
		g.s.Steer(client, g.s.ReadSteering(what, wire.Move{Entity: rig, Property: "Rig.winch", Press: number}))
		g.tick()
	}
	winch := func() string {
		for _, owner := range []int{ana, bo} {
			if g.copies[ana].OwnedBy("Rig", owner) != nil {
				return g.sees(ana, owner, "Rig", "winch")
			}
		}
		return ""
	}
	require.Equal(t, wire.Accepted, g.ask(ana, rig, "Rig.grab").Outcome)
	for n := range uint64(7) {
		press(ana, "press", n+1)
	}
	require.Equal(t, "true", winch())
	require.Equal(t, wire.Accepted, g.ask(bo, rig, "Rig.grab").Outcome)
	assert.Equal(t, "false", winch(), "at once, and not when its lease has run out")
	assert.Equal(t, "1", g.sees(ana, 0, "Yard", "ends"))
	press(bo, "press", 1)
	assert.Equal(t, "true", winch(), "the numbers of presses are each client's own")
	press(ana, "press", 7)
	assert.Equal(t, wire.Denied, g.decided[ana].Outcome)
	require.Equal(t, wire.Accepted, g.ask(ana, rig, "Rig.grab").Outcome)
	assert.Equal(t, "false", winch())
	press(ana, "press", 7)
	assert.Equal(t, "false", winch(), "it has ended, and begins with a new press")
	press(ana, "press", 8)
	assert.Equal(t, "true", winch())
	press(ana, "release", 8)
	assert.Equal(t, "false", winch())
}
