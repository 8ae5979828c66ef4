package replicate

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

const text = `contract thing language 1
shared Open { n: int 0..9; s: text max 9 = "s"; own: int 0..9 to owner; hid: int 0..9 to nobody }
shared Hidden to nobody { n: int 0..9 }
entity Mine per player to owner { n: int 0..9 = 1; hid: int 0..9 to nobody }
entity Body per player { n: int 0..9 = 2; own: int 0..9 = 3 to owner; hid: int 0..9 = 4 to nobody }
`

// table is a world with a view, and what clients make of its blocks.
type table struct {
	t      require.TestingT
	w      *world.World
	c      *contract.Contract
	v      *View
	copies map[int]*holder
}

// holder is a client that holds what its frames say.
type holder struct {
	Copy
	reader *wire.Reader
	last   int64
}

func newHolder(v *View) *holder { return &holder{reader: wire.NewReader(v.Layout())} }

// deliver brings a client what the last Cut has for it, if that is anything, and holds its copy against the digest.
func (h *holder) deliver(t require.TestingT, v *View, client int) []Notice {
	parts := wire.Parts{Tick: v.world.Tick, Last: h.last, HasDigest: true}
	if !v.FrameParts(client, &parts) {
		return nil
	}
	parts.Digest = v.Digest(client)
	h.last = parts.Tick
	f, err := h.reader.Read(parts.Append(nil))
	require.NoError(t, err)
	notices := h.Apply(f)
	require.Equal(t, *f.Digest, h.Digest(v.outline), "the digest of client %d at tick %d", client, f.Tick)
	return notices
}

// owners are the rules of a contract without audiences of its own.
type owners struct{}

func (owners) Sees(e *world.Entity, client int) bool { return has(e.Kind.To, e, client) }
func (owners) Gets(e *world.Entity, p *contract.Property, client int) bool {
	return has(p.To, e, client)
}

func (owners) Splits(*contract.Named) (keys, near bool)                 { return false, false }
func (owners) Viewer(*contract.Named, int, *rules.Side) bool            { return false }
func (owners) Subject(*contract.Named, *world.Entity, *rules.Side) bool { return false }
func (owners) Radius(*contract.Named) (float64, bool)                   { return 0, false }

func has(to contract.Audience, e *world.Entity, client int) bool {
	return to == contract.Everyone || to == contract.Owner && e.Owner == client
}

func set(t require.TestingT) *table {
	c, problems := compile.Load("thing.kam", text)
	require.NotNil(t, c, problems.Error())
	w := world.New(c, nil)
	b := &table{
		t:      t,
		w:      w,
		c:      c,
		v:      NewView([32]byte{7}, w, owners{}),
		copies: map[int]*holder{},
	}
	for _, e := range b.w.Entities() {
		b.v.AddEntity(e)
	}
	return b
}

func (b *table) kind(name string) *contract.Kind {
	for _, k := range b.c.Kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}

func (b *table) join(n int) {
	b.copies[n] = newHolder(b.v)
	b.v.AddClient(wire.Client{Number: n, Name: fmt.Sprint("c", n), Role: "player"})
	for _, name := range []string{"Mine", "Body"} {
		b.v.AddEntity(b.w.Spawn(b.kind(name), n))
	}
}

func (b *table) leave(n int) {
	for _, name := range []string{"Mine", "Body"} {
		e := b.w.OfClient(b.kind(name).Index, n)
		b.w.Despawn(e)
		b.v.RemoveEntity(e)
	}
	b.v.RemoveClient(n)
	delete(b.copies, n)
}

func (b *table) write(e *world.Entity, property string, v int64) {
	b.w.Set(e, e.Kind.Property(property), []int64{v})
	b.w.Commit()
}

// cut ends the tick: each client gets what is its own. It gives how many got anything.
func (b *table) cut() (notices map[int][]Notice, frames int) {
	b.w.Tick++
	b.w.VisitWritten(b.v.MarkWritten)
	b.v.EndTick()
	notices = map[int][]Notice{}
	for n, h := range b.copies {
		before := h.last
		notices[n] = h.deliver(b.t, b.v, n)
		if h.last != before {
			frames++
		}
	}
	b.v.AcceptFrames()
	return notices, frames
}

func (b *table) held(n int, kind string, owner int, property string) string {
	thing := b.copies[n].OwnedBy(kind, owner)
	if thing == nil {
		return "none"
	}
	v, ok := thing.Value(property)
	if !ok {
		return "hidden"
	}
	return fmt.Sprint(v.Num)
}

func TestNumbersTellNothingAndMeetNever(t *testing.T) {
	seen := map[uint32]uint32{}
	for id := uint32(1); id <= 20_000; id++ {
		n := permute([32]byte{1}, id)
		require.NotZero(t, n)
		require.Zero(t, seen[n], "two entities with one number")
		seen[n] = id
	}
	near := 0
	for id := uint32(1); id < 1000; id++ {
		a := int64(permute([32]byte{1}, id))
		b := int64(permute([32]byte{1}, id+1))
		if diff := a - b; diff < 1<<20 && diff > -1<<20 {
			near++
		}
		assert.NotEqual(t, permute([32]byte{1}, id), permute([32]byte{2}, id))
	}
	assert.Less(t, near, 10, "neighbours in time are none in number")
}

func TestEachAudienceGetsItsShare(t *testing.T) {
	b := set(t)
	b.join(1)
	b.join(2)
	b.cut()
	for _, c := range []struct {
		kind     string
		owner    int
		property string
		one, two string
	}{
		{"Open", 0, "n", "0", "0"},
		{"Open", 0, "own", "hidden", "hidden"},
		{"Open", 0, "hid", "hidden", "hidden"},
		{"Hidden", 0, "n", "none", "none"},
		{"Mine", 1, "n", "1", "none"},
		{"Mine", 1, "hid", "hidden", "none"},
		{"Body", 1, "n", "2", "2"},
		{"Body", 1, "own", "3", "hidden"},
		{"Body", 1, "hid", "hidden", "hidden"},
		{"Body", 2, "own", "hidden", "3"},
	} {
		assert.Equal(t, c.one, b.held(1, c.kind, c.owner, c.property), "client 1: %s.%s", c.kind, c.property)
		assert.Equal(t, c.two, b.held(2, c.kind, c.owner, c.property), "client 2: %s.%s", c.kind, c.property)
	}
	body := b.w.OfClient(b.kind("Body").Index, 1)
	mine := b.w.OfClient(b.kind("Mine").Index, 1)
	assert.Nil(t, b.v.Entity(2, b.v.Number(mine)), "what a client may not know of is not there for it")
	assert.Equal(t, mine, b.v.Entity(1, b.v.Number(mine)))
	assert.Equal(t, body, b.v.Entity(2, b.v.Number(body)))

	b.write(body, "own", 9)
	b.write(body, "hid", 9)
	notices, frames := b.cut()
	assert.Equal(t, 1, frames, "only the owner gets something")
	assert.Len(t, notices[1], 1)
	assert.Empty(t, notices[2])
}

func TestOnlyWhatDiffersIsSent(t *testing.T) {
	b := set(t)
	b.join(1)
	b.cut()
	open := b.w.Shared(0)
	b.write(open, "n", 5)
	b.write(open, "n", 0)
	_, frames := b.cut()
	assert.Zero(t, frames, "a value that was put back has not changed")
	b.write(open, "n", 5)
	b.write(open, "n", 6)
	notices, _ := b.cut()
	require.Len(t, notices[1], 1)
	n := notices[1][0]
	assert.Equal(
		t, []any{FieldChanged, "n", int64(0), int64(6)}, []any{n.Type, n.Field.Name, n.Old.Num, n.Field.Value.Num},
	)

	b.join(2)
	b.leave(2) // within one tick: nobody hears of its entities
	notices, _ = b.cut()
	for _, n := range notices[1] {
		assert.Contains(t, []NoticeType{ClientJoined, ClientLeft}, n.Type)
	}
	b.join(3)
	notices, _ = b.cut()
	whats := map[NoticeType]int{}
	for _, n := range notices[1] {
		whats[n.Type]++
	}
	assert.Equal(
		t, map[NoticeType]int{ClientJoined: 1, EntitySpawned: 1}, whats, "values that come with a spawn are no changes",
	)
	b.leave(3)
	notices, _ = b.cut()
	whats = map[NoticeType]int{}
	for _, n := range notices[1] {
		whats[n.Type]++
	}
	assert.Equal(t, map[NoticeType]int{EntityGone: 1, ClientLeft: 1}, whats)
}

// Whoever joins when, and whatever changes in the same tick: an old copy, a new one and a fresh snapshot agree.
func TestJoinersAgreeWithThoseWhoWereThere(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b := set(rt)
		for n := 1; n <= 12; n++ {
			for range rapid.IntRange(0, 6).Draw(rt, "steps") {
				entities := b.w.Entities()
				e := entities[rapid.IntRange(0, len(entities)-1).Draw(rt, "entity")]
				p := e.Kind.Properties[rapid.IntRange(0, len(e.Kind.Properties)-1).Draw(rt, "property")]
				if p.Type.Form == contract.FormInt {
					b.write(e, p.Name, rapid.Int64Range(0, 9).Draw(rt, "value"))
				}
			}
			if rapid.Bool().Draw(rt, "join") {
				b.join(n)
			}
			if rapid.Bool().Draw(rt, "leave") && len(b.copies) > 1 {
				for old := range n {
					if b.copies[old] != nil {
						b.leave(old)
						break
					}
				}
			}
			b.cut()
			for number, c := range b.copies {
				again := &Copy{}
				again.Apply(&wire.Frame{Snapshot: true, Blocks: []*wire.Block{b.v.Snapshot(number)}})
				require.Len(rt, again.Entities(), len(c.Entities()))
				require.ElementsMatch(rt, again.Clients, c.Clients)
				for _, thing := range c.Entities() {
					other := again.Entity(thing.Number)
					require.NotNil(rt, other)
					require.Len(rt, other.Fields, len(thing.Fields))
					for _, f := range thing.Fields {
						v, ok := other.Value(f.Name)
						require.True(rt, ok && v.Equal(f.Value), "%s.%s", thing.Kind, f.Name)
					}
				}
				whole := &Copy{}
				whole.Apply(&wire.Frame{Blocks: []*wire.Block{c.Snapshot()}})
				require.Len(rt, whole.Entities(), len(c.Entities()), "a copy's block is the copy")
			}
		}
	})
}
