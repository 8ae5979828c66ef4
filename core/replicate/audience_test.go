package replicate

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// whims are rules that a test changes at will: what a client sees of entities of kinds that have to be asked for, and
// gets of properties that have to be.
type whims struct {
	owners
	sees map[string]bool
	gets map[string]bool
}

func (r *whims) Sees(e *world.Entity, client int) bool {
	if e.Kind.To == contract.Some {
		return r.sees[fmt.Sprint(e.ID, client)]
	}
	return has(e.Kind.To, e, client)
}

func (r *whims) Gets(e *world.Entity, p *contract.Property, client int) bool {
	if p.To == contract.Some {
		return r.gets[fmt.Sprint(e.ID, p.Index, client)]
	}
	return has(p.To, e, client)
}

const asks = `contract thing language 1
audience some(e: Eel) = viewer.number > e.n
audience few(b: Buoy) = viewer.number > b.n
entity Eel to some(self) { n: int 0..9 = 0; own: int 0..9 = 0 to owner; mate: ref Eel = nothing }
entity Buoy { n: int 0..9 = 0; note: text max 9 to few(self); own: text max 9 to owner; eel: ref Eel = nothing; slow: int 0..9 = 0 at most 5 per second }
shared Nest {
  request lay() from everyone {
    let e = spawn Eel; e.n = 1; e.own = 1; e.mate = e
    let b = spawn Buoy { note = "a"; own = "b" }
    b.n = 1; b.eel = e; b.slow = 1
    give e to caller
    give b to caller
  }
}
`

// However audiences, owners and values change, and whoever comes and goes: at every tick each copy is what its client
// may have at that moment, refs to what it may not know of are nothing, and what it may not have was never in a block
// of its own.
func TestAskedAudiencesConverge(t *testing.T) {
	c, problems := compile.Load("thing.kam", asks)
	for _, p := range problems {
		require.True(t, p.Warning, "%s", p.Text(nil))
	}
	require.NotNil(t, c)
	rapid.Check(t, func(t *rapid.T) {
		w := world.New(c, nil)
		rules := &whims{sees: map[string]bool{}, gets: map[string]bool{}}
		v := NewView([32]byte{5}, w, rules)
		for _, e := range w.Entities() {
			v.AddEntity(e)
		}
		copies := map[int]*holder{}
		last := 0
		text := func(s string) []int64 { return []int64{w.Intern(s)} }
		for range rapid.IntRange(1, 25).Draw(t, "ticks") {
			w.Tick++
			for range rapid.IntRange(0, 6).Draw(t, "steps") {
				var things []*world.Entity
				for _, e := range w.Entities() {
					if e.Kind.Free() {
						things = append(things, e)
					}
				}
				who := rapid.IntRange(0, max(last, 1)).Draw(t, "who")
				switch what := rapid.IntRange(0, 9).Draw(t, "what"); {
				case what == 0 && len(copies) < 4:
					last++
					w.AddClient(world.Client{Number: last, Name: fmt.Sprint(last)})
					v.AddClient(wire.Client{Number: last, Name: fmt.Sprint(last), Role: "player"})
					copies[last] = newHolder(v)
				case what == 1 && copies[who] != nil && copies[who].last > 0:
					for _, e := range things {
						if e.Owner == who {
							w.SetOwner(e, 0)
						}
					}
					w.RemoveClient(who)
					v.RemoveClient(who)
					delete(copies, who)
				case what == 2:
					w.Spawn(c.Kinds[rapid.IntRange(0, 1).Draw(t, "kind")], 0)
				case len(things) == 0:
				default:
					e := rapid.SampledFrom(things).Draw(t, "entity")
					n := rapid.Int64Range(0, 9).Draw(t, "n")
					switch what {
					case 3:
						w.Despawn(e)
					case 4:
						if who == 0 || copies[who] != nil {
							w.SetOwner(e, who)
						}
					case 5:
						rules.sees[fmt.Sprint(e.ID, who)] = n > 4
					case 6:
						rules.gets[fmt.Sprint(e.ID, 1, who)] = n > 4
					case 7:
						w.Set(e, e.Kind.Property("n"), []int64{n})
						if p := e.Kind.Property("slow"); p != nil {
							w.Set(e, p, []int64{n})
						}
					case 8:
						if p := e.Kind.Property("note"); p != nil {
							w.Set(e, p, text(fmt.Sprint("note", n)))
							w.Set(e, e.Kind.Property("own"), text(fmt.Sprint("own", n)))
						} else {
							w.Set(e, e.Kind.Property("own"), []int64{n})
						}
					case 9:
						other := rapid.SampledFrom(things).Draw(t, "other")
						if other.Kind != c.Kinds[0] {
							break
						}
						for _, name := range []string{"mate", "eel"} {
							if p := e.Kind.Property(name); p != nil {
								w.Set(e, p, []int64{int64(other.ID)})
							}
						}
					}
				}
				w.Commit()
				w.Events(func(n world.Event) {
					switch {
					case n.Spawned:
						v.AddEntity(n.Entity)
					case n.Despawned:
						v.RemoveEntity(n.Entity)
					default:
						v.MarkOwnerChanged(n.Entity)
					}
				})
			}
			w.VisitWritten(v.MarkWritten)
			v.EndTick()
			for n, held := range copies {
				held.deliver(t, v, n)
			}
			v.AcceptFrames()
			for n, held := range copies {
				require.Equal(t, may(v, w, rules, n), holds(&held.Copy), "client %d at tick %d", n, w.Tick)
				// A snapshot taken now says the same as the frames did.
				again := &Copy{}
				again.Apply(&wire.Frame{Tick: w.Tick, Snapshot: true, Blocks: []*wire.Block{v.Snapshot(n)}})
				require.Equal(t, holds(&held.Copy), holds(again), "the snapshot of client %d", n)
			}
		}
	})
}

// may describes what a client may have now; slow values are left out, they may lag.
func may(v *View, w *world.World, r Rules, client int) map[uint32]string {
	out := map[uint32]string{}
	for _, e := range w.Entities() {
		if !r.Sees(e, client) {
			continue
		}
		line := fmt.Sprint(e.Kind.Name, e.Owner)
		for _, p := range e.Kind.Properties {
			if p.AtMost == 0 && r.Gets(e, p, client) {
				line += fmt.Sprint(" ", p.Name, "=", p.Type.Format(v.RefsFor(client, p.Type, w.Value(e, p))))
			}
		}
		out[v.Number(e)] = line
	}
	return out
}

func holds(c *Copy) map[uint32]string {
	out := map[uint32]string{}
	for _, x := range c.Entities() {
		line := fmt.Sprint(x.Kind, x.Owner)
		for _, name := range []string{"n", "note", "own", "mate", "eel"} { // in the order of declaration
			for _, f := range x.Fields {
				if f.Name == name {
					line += fmt.Sprint(" ", f.Name, "=", f.Type.Format(f.Value))
				}
			}
		}
		out[x.Number] = line
	}
	return out
}
