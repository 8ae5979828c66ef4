package session

import (
	"fmt"
	"maps"
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

// crowd is a session that a test changes at will, with clients that hold what their frames say.
type crowd struct {
	*Session
	t       require.TestingT
	r       *rand.Rand
	outline *contract.Outline
	copies  map[int]*replicate.Copy
	readers map[int]*wire.Reader
	slow    map[propertyKey]*throttled
	checked map[string]int // values held against what they should be, by clause and class of audience
	names   int
	lost    map[int]bool
	quiet   bool                       // nothing changes: copies are not looked at
	took    func(frames []ClientFrame) // what becomes of the frames of a tick once all copies were looked at
}

// throttled is what a property that is sent only so often should be on copies: the newest value that was due.
type throttled struct {
	value contract.Value
	at    int64
}

func newCrowd(t require.TestingT, c *contract.Contract, seed uint64) *crowd {
	s, err := New(c, Options{Key: [32]byte{3}})
	require.NoError(t, err)
	return &crowd{
		Session: s,
		t:       t,
		r:       rand.New(rand.NewPCG(seed, 7)),
		outline: c.Outline(),
		copies:  map[int]*replicate.Copy{},
		readers: map[int]*wire.Reader{},
		slow:    map[propertyKey]*throttled{},
		checked: map[string]int{},
		lost:    map[int]bool{},
	}
}

func (w *crowd) join(role string) int {
	w.names++
	n, err := w.Join(fmt.Sprint("c", w.names), role)
	require.NoError(w.t, err)
	w.copies[n], w.readers[n] = &replicate.Copy{}, w.Reader(n)
	w.Ready(n)
	return n
}

// random returns some value of a type.
func (w *crowd) random(t *contract.Type) contract.Value {
	switch t.Form {
	case contract.FormBool:
		return contract.Value{Num: w.r.Int64N(2)}
	case contract.FormInt, contract.FormTime, contract.FormReal, contract.FormDirection:
		return contract.Value{Num: t.Low + w.r.Int64N(t.High-t.Low+1)}
	case contract.FormVec2, contract.FormVec3:
		var v contract.Value
		for range t.Reals() {
			v.Parts = append(v.Parts, contract.Value{Num: t.Low + w.r.Int64N(t.High-t.Low+1)})
		}
		return v
	case contract.FormRotation:
		v, err := t.ParseJSON(
			fmt.Appendf(nil, "[%g,%g,%g,%g]", w.r.Float64(), w.r.Float64()-0.5, w.r.Float64()-0.5, w.r.Float64()-0.5),
		)
		require.NoError(w.t, err)
		return v
	case contract.FormText:
		return contract.Value{Text: strings.Repeat(string(rune('a'+w.r.IntN(4))), w.r.IntN(t.Max))}
	case contract.FormEnum:
		return contract.Value{Num: w.r.Int64N(int64(len(t.Enum.Values)))}
	case contract.FormKind:
		return contract.Value{Num: w.r.Int64N(int64(len(t.Names)))}
	case contract.FormEntity:
		if list := w.world.OfKind(t.Kinds[w.r.IntN(len(t.Kinds))].Index); len(list) > 0 && w.r.IntN(4) > 0 {
			return contract.Value{Num: int64(list[w.r.IntN(len(list))].ID)}
		}
		return contract.Value{}
	case contract.FormClient:
		return contract.Value{Num: w.r.Int64N(4) - 1}
	case contract.FormRecord:
		var v contract.Value
		for _, p := range t.Parts {
			v.Parts = append(v.Parts, w.random(p.Type))
		}
		return v
	}
	var v contract.Value
	for i := range w.r.IntN(t.Max + 1) {
		switch t.Form {
		case contract.FormList:
			v.Parts = append(v.Parts, w.random(t.Of))
		case contract.FormStacks:
			if t.Slotted && w.r.IntN(3) == 0 {
				v.Parts = append(v.Parts, contract.Value{Parts: []contract.Value{{}, {}}})
				continue
			}
			v.Parts = append(
				v.Parts,
				contract.Value{
					Parts: []contract.Value{
						{Num: w.r.Int64N(int64(len(t.Enum.Values)))}, {Num: 1 + w.r.Int64N(t.Each)},
					},
				},
			)
		default:
			v.Parts = append(v.Parts, contract.Value{Parts: []contract.Value{{Num: int64(i)}, w.random(t.Of)}})
		}
	}
	for t.Slotted && len(v.Parts) > 0 && v.Parts[len(v.Parts)-1].Parts[1].Num == 0 {
		v.Parts = v.Parts[:len(v.Parts)-1]
	}
	return v
}

// change does something to the world, as a body could.
func (w *crowd) change() {
	all := w.world.Entities()
	e := all[w.r.IntN(len(all))]
	if len(e.Kind.Requests) > 0 {
		return // that changes when it is asked to
	}
	switch pick := w.r.IntN(20); {
	case pick == 0 && len(all) < 40 || len(all) < 6:
		free := slices.DeleteFunc(slices.Clone(w.contract.Kinds), func(k *contract.Kind) bool { return !k.Free() })
		owner := 0
		if len(w.world.Clients()) > 0 && w.r.IntN(2) == 0 {
			owner = w.world.Clients()[w.r.IntN(len(w.world.Clients()))].Number
		}
		e = w.world.Spawn(free[w.r.IntN(len(free))], owner)
		for _, p := range e.Kind.Properties {
			if w.r.IntN(2) == 0 && p.Hold == nil {
				w.world.Set(e, p, p.Type.AppendSlots(nil, w.random(p.Type), w.world.Intern))
			}
		}
		if w.r.IntN(6) == 0 {
			w.endTransaction(nil)
			w.world.Despawn(e) // it came and goes in one tick
		}
	case pick == 1 && e.Kind.Free():
		w.world.Despawn(e)
	case pick == 2 && e.Kind.Per < 0 && len(w.world.Clients()) > 0:
		owner := 0
		if w.r.IntN(3) > 0 {
			owner = w.world.Clients()[w.r.IntN(len(w.world.Clients()))].Number
		}
		w.world.SetOwner(e, owner)
	case pick == 3 && len(w.world.Clients()) > 0 && w.r.IntN(3) == 0:
		w.world.SetRole(w.world.Clients()[w.r.IntN(len(w.world.Clients()))].Number, w.r.IntN(3))
	default:
		p := e.Kind.Properties[w.r.IntN(len(e.Kind.Properties))]
		if w.r.IntN(3) == 0 {
			p = e.Kind.Property([]string{"crew", "mood", "pos"}[w.r.IntN(3)])
		}
		if p.Once {
			return
		}
		v := w.random(p.Type)
		if p.Name == "pos" && w.r.IntN(4) > 0 { // a step, as things move
			v = w.world.Value(e, p)
			for i := range v.Parts {
				v.Parts[i].Num = min(max(v.Parts[i].Num+w.r.Int64N(1200)-600, p.Type.Low), p.Type.High)
			}
		}
		w.world.Set(e, p, p.Type.AppendSlots(nil, v, w.world.Intern))
		if p.Hold != nil {
			w.world.WriteHidden(e, p.Hold.Slot, w.tick+p.Hold.Lease)
		}
	}
	w.endTransaction(nil)
	w.updateRoles()
	if t := w.seats[e.Owner]; t != nil && w.r.IntN(4) == 0 { // its owner is told that something it wrote was not taken
		w.view.Resend(e, e.Kind.Properties[w.r.IntN(len(e.Kind.Properties))], e.Owner)
	}
}

// input lets clients come, go, and lose and find their connections.
func (w *crowd) input() {
	clients := w.Clients()
	switch pick := w.r.IntN(30); {
	case len(clients) == 0 || pick < 2 && len(clients) < 8:
		w.join(w.contract.Roles[w.r.IntN(len(w.contract.Roles))])
	case pick == 2 && len(clients) > 2:
		n := clients[w.r.IntN(len(clients))].Number
		w.Leave(n)
		delete(w.copies, n)
	case pick == 3:
		n := clients[w.r.IntN(len(clients))].Number
		w.Lost(n)
		w.lost[n] = true
	case pick < 8:
		if len(w.lost) > 0 {
			n := slices.Min(slices.Collect(maps.Keys(w.lost)))
			w.Back(n, w.Now())
			delete(w.lost, n)
		}
	}
}

// step runs a tick and holds each copy against what it should be.
func (w *crowd) step() {
	step := w.Tick()
	for _, cut := range step.Cuts {
		delete(w.copies, cut.Client)
		delete(w.lost, cut.Client)
	}
	for _, cf := range step.Frames {
		f, err := w.readers[cf.Client].Read(cf.Bytes)
		require.NoError(w.t, err, "client %d at tick %d", cf.Client, step.Tick)
		// The JSON twin says the same.
		again, _, err := wire.ParseFrame(f.AppendJSON(nil), w.outline)
		require.NoError(w.t, err)
		if held := w.copies[cf.Client]; held != nil {
			held.Apply(again)
			if f.Digest != nil {
				require.Equal(
					w.t, held.Digest(w.outline), *f.Digest, "the digest of client %d at tick %d", cf.Client, step.Tick,
				)
			}
		}
	}
	second := int64(w.contract.TickRate)
	for _, e := range w.world.Entities() {
		for _, p := range e.Kind.Properties {
			if p.AtMost == 0 {
				continue
			}
			k := propertyKey{e.ID, p.Index}
			now := w.world.Value(e, p)
			if s := w.slow[k]; s == nil || !s.value.Equal(now) && (w.tick-s.at)*int64(p.AtMost) >= second {
				w.slow[k] = &throttled{now, w.tick}
			}
		}
	}
	for n, held := range w.copies {
		if t := w.seats[n]; t == nil || !t.joined || t.lost || t.behind {
			continue
		}
		held.Advance(step.Tick)
		if !w.quiet {
			w.hold(n, held)
		}
	}
	if w.took != nil {
		w.took(step.Frames)
	}
}

// hold holds a copy against the rules: everything that its client may have is there as it should be, and nothing else.
func (w *crowd) hold(n int, held *replicate.Copy) {
	count := 0
	for _, e := range w.world.Entities() {
		thing := held.Entity(w.view.Number(e))
		if sees := w.machine.Sees(e, n); sees != (thing != nil) { // asking first is cheaper
			require.Equal(w.t, sees, thing != nil, "tick %d: client %d and %s #%d", w.tick, n, e.Kind.Name, e.Serial)
		}
		if thing == nil {
			continue
		}
		count++
		require.Equal(
			w.t, e.Owner, thing.Owner, "tick %d: client %d and the owner of %s #%d", w.tick, n, e.Kind.Name, e.Serial,
		)
		for _, p := range e.Kind.Properties {
			f, has := thing.Field(p.Name)
			if gets := w.machine.Gets(e, p, n); gets != has {
				require.Equal(
					w.t, gets, has, "tick %d: client %d and %s.%s of #%d", w.tick, n, e.Kind.Name, p.Name, e.Serial,
				)
			}
			w.checked[p.Name]++
			if !has {
				continue
			}
			want := w.world.Value(e, p)
			if p.AtMost > 0 {
				want = w.slow[propertyKey{e.ID, p.Index}].value
			}
			want = w.view.RefsFor(n, p.Type, want)
			got := there(held, p.Type, f.Value)
			if want.Equal(got) {
				continue
			}
			require.Equal(
				w.t, p.Type.Format(want), p.Type.Format(got), "tick %d: client %d and %s.%s of #%d", w.tick, n,
				e.Kind.Name, p.Name, e.Serial,
			)
		}
	}
	require.Len(w.t, held.Entities(), count, "tick %d: client %d holds what is not there", w.tick, n)
	var names []string
	for _, t := range w.order {
		if t.joined {
			names = append(names, fmt.Sprint(t.public))
		}
	}
	var known []string
	for _, c := range held.Clients {
		known = append(known, fmt.Sprint(c))
	}
	require.ElementsMatch(w.t, names, known, "tick %d: client %d and who is there", w.tick, n)
}

// withByteLimit returns the text of a contract with a limit of bytes for each client.
func withByteLimit(text string, bytes int) string {
	header, rest, _ := strings.Cut(text, "\n")
	return fmt.Sprintf("%s\neach client at most %d bytes per second\n%s", header, bytes, rest)
}

// Random contracts of all classes of audiences and all clauses, with clients that come, go, lose their connections and
// change their roles, and everything changing: at every tick each copy is what its client should hold, bit for bit.
// KAMERAD_RUNS says how many contracts are tried, KAMERAD_SEED with which one to begin.
func TestEveryCopyIsWhatItShouldBe(t *testing.T) {
	runs := 80
	first := uint64(1)
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_RUNS")); err == nil {
		runs = n
	}
	if n, err := strconv.ParseUint(os.Getenv("KAMERAD_SEED"), 10, 64); err == nil {
		first = n
	}
	covered := map[string]int{}
	right := 0
	values := 0
	for seed := first; right < runs; seed++ {
		text := wild.Carried(rand.New(rand.NewPCG(seed, 1)))
		if seed%3 == 0 {
			text = withByteLimit(text, contract.MaxBytesPerSecond)
		}
		c, _ := compile.Load("carried.kam", text)
		if c == nil {
			continue
		}
		right++
		func() {
			defer func() {
				if t.Failed() {
					t.Logf("the contract of seed %d:\n%s", seed, c.Source.Text)
				}
			}()
			w := newCrowd(t, c, seed)
			for range 3 {
				w.join(c.Roles[w.r.IntN(3)])
			}
			for range 40 {
				for range w.r.IntN(2) {
					w.input()
				}
				for range w.r.IntN(7) {
					w.change()
				}
				w.step()
			}
			seen := map[string]bool{}
			for name, n := range w.checked {
				values += n
				if parts := strings.Split(name, "_"); len(parts) == 3 {
					seen[parts[1]+" to "+parts[2]] = true
				}
			}
			for what := range seen {
				covered[what]++
			}
		}()
	}
	least := runs
	rarest := ""
	for _, clause := range wild.Clauses {
		for _, class := range wild.Classes {
			if n := covered[clause+" to "+class]; n < least {
				least = n
				rarest = clause + " to " + class
			}
		}
	}
	t.Logf(
		"%d runs from seed %d, %d values held against what they should be; the rarest pair, %s, is in %d runs", runs,
		first, values, rarest, least,
	)
	if runs >= 10_000 {
		assert.GreaterOrEqual(t, least, 200, rarest)
	}
}
