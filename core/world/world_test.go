package world

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
)

func load(t require.TestingT) (*World, *contract.Kind) {
	c, problems := compile.Load("thing.kam", `contract thing language 1
enum Item { a, b, c }
shared Thing {
  n: int -5..5 = 1
  k: int 0..9 clamped
  s: text max 4 = "old"
  i: stacks<Item> max 3 each 4
}`)
	require.NotNil(t, c, problems.Error())
	return New(c, nil), c.Kinds[0]
}

func place(e *Entity, p *contract.Property) Place { return Place{e, p, p.Type, p.Slot} }

// Whatever a transaction does, rolling it back leaves the world as it was, bit for bit, and committing keeps what it
// did.
func TestTransactionsHappenWhollyOrNotAtAll(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w, k := load(t)
		e := w.Shared(k.Index)
		held := map[int64]int64{}
		for range rapid.IntRange(1, 10).Draw(t, "transactions") {
			nums := append([]int64{}, e.Nums...)
			before := map[int64]int64{0: held[0], 1: held[1], 2: held[2]}
			values := map[string]contract.Value{}
			for _, p := range k.Properties {
				values[p.Name] = w.Value(e, p)
			}
			for range rapid.IntRange(0, 8).Draw(t, "writes") {
				item := rapid.Int64Range(0, 2).Draw(t, "item")
				n := rapid.Int64Range(-1, 9).Draw(t, "count")
				p := k.Property("i")
				switch rapid.IntRange(0, 4).Draw(t, "what") {
				case 0:
					room := StackRoom(place(e, p).Slots(), item, p.Type.Each)
					err := w.PutStack(place(e, p), item, n)
					require.Equal(t, n < 0 || n > room, err != nil)
					if err == nil {
						held[item] += n
					}
				case 1:
					err := w.TakeStack(place(e, p), item, n)
					require.Equal(t, n < 0 || n > held[item], err != nil)
					if err == nil {
						held[item] -= n
					}
				case 2:
					w.Set(e, k.Property("n"), []int64{min(n, 5)})
				case 3:
					w.Write(e, 1, k.Property("k").Slot, max(n, 0))
				case 4:
					w.Set(e, k.Property("s"), []int64{w.Intern(fmt.Sprint(n * 5000))})
				}
				for item := range int64(3) {
					require.Equal(t, held[item], HasStack(place(e, p).Slots(), item))
				}
			}
			for _, c := range w.Changes() {
				require.Equal(t, values[c.Property.Name], c.Old)
				require.Equal(t, w.Value(e, c.Property), c.New)
				require.NotEqual(t, c.Old, c.New)
			}
			if rapid.Bool().Draw(t, "keep") {
				w.Commit()
				w.Rollback() // nothing is open any more
			} else {
				w.Rollback()
				require.Equal(t, nums, e.Nums)
				held = before
			}
			for _, s := range w.Value(e, k.Property("i")).Parts {
				require.True(t, s.Parts[1].Num >= 1 && s.Parts[1].Num <= 4)
			}
		}
	})
}

func TestStacksFillUpAndCloseUp(t *testing.T) {
	w, k := load(t)
	e := w.Shared(k.Index)
	p := k.Property("i")
	require.NoError(t, w.PutStack(place(e, p), 0, 6))
	require.NoError(t, w.PutStack(place(e, p), 1, 4))
	require.EqualError(t, w.PutStack(place(e, p), 0, 3), "Thing.i has no room for 3 a: only for 2")
	require.EqualError(t, w.PutStack(place(e, p), 2, 1), "Thing.i has no room for 1 c: only for 0")
	assert.Equal(t, "4 a, 2 a, 4 b", p.Type.Format(w.Value(e, p)))
	require.NoError(t, w.TakeStack(place(e, p), 0, 3))
	assert.Equal(t, "3 a, 4 b", p.Type.Format(w.Value(e, p)))
	require.EqualError(t, w.TakeStack(place(e, p), 0, 4), "Thing.i has 3 a, not 4")
}

// Texts that nothing holds any more are forgotten; all that is held stays what it is.
func TestTextsAreSwept(t *testing.T) {
	w, k := load(t)
	e := w.Shared(k.Index)
	p := k.Property("s")
	w.AddClient(Client{Number: 1, Name: "Ana"})
	for n := range 1000 {
		w.Set(e, p, []int64{w.Intern(fmt.Sprint(n))})
		w.Commit()
	}
	require.Greater(t, len(w.texts), 1000)
	w.CollectTexts(500)
	assert.Less(t, len(w.texts), 20)
	assert.Equal(t, "999", w.Value(e, p).Text)
	assert.Equal(t, "Ana", w.Text(w.ClientName(1)))
	assert.Equal(t, "old", w.Text(p.Default[0]), "what the contract names keeps its place")
	w.CollectTexts(500)
	assert.Equal(t, "999", w.Value(e, p).Text)
}

// With many texts that are all held, a sweep comes only once there are twice as many: not with each tick.
func TestASweepIsPaidByWhatCame(t *testing.T) {
	c, problems := compile.Load(
		"names.kam",
		"contract names language 1\nroles player\nentity Tag { words: text max 40 = \"\" }\n"+
			"shared Sea { on start { spawn Tag } }",
	)
	require.NotNil(t, c, problems.Error())
	w := New(c, nil)
	for i := range 5000 {
		e := w.Spawn(c.Kinds[0], 0)
		w.Write(e, 0, c.Kinds[0].Properties[0].Slot, w.Intern(fmt.Sprint("tag ", i)))
	}
	w.Commit()
	swept := 0
	for i := range 2000 {
		w.Intern(fmt.Sprint("of this tick ", i))
		before := len(w.texts)
		if w.CollectTexts(1000); len(w.texts) < before {
			swept++
		}
	}
	assert.LessOrEqual(t, swept, 1)
	for i := range 20_000 {
		w.Intern(fmt.Sprint("more ", i))
	}
	w.CollectTexts(1000)
	assert.Less(t, len(w.texts), 5100, "what nothing holds goes in the end")
}
