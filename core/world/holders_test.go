package world

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
)

func holders(t require.TestingT) (*World, *contract.Kind) {
	c, problems := compile.Load("thing.kam", `contract thing language 2
enum Item { a, b, c }
type Pair { n: int -99..99, s: text max 9 }
shared Thing {
  nums:  list<int -99..99> max 5
  pairs: list<Pair> max 4
  by_n:  map<int -99..99, Pair> max 5
  by_s:  map<text max 9, int -99..99> max 5
  here:  stacks<Item> max 4 each 3
  there: stacks<Item> max 4 each 3
  slots: stacks<Item> max 4 each 3 slotted
  deep:  stacks<Item> max 3 each 5 slotted
  on start {
    nums.put(1)
    pairs.put(Pair(n = 1, s = ""))
    by_n[1] = Pair(n = 1, s = "")
    by_s["a"] = 1
    here.put(a)
    there.put(b)
    there.put(c)
    slots.put(a)
    deep.put(a)
  }
}`)
	require.NotNil(t, c, problems.Error())
	return New(c, nil), c.Kinds[0]
}

// A list is what a slice would be, in whatever way it is changed; what fails changes nothing.
func TestAListIsWhatASliceWouldBe(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w, k := holders(t)
		e := w.Shared(0)
		model := [][2]any{}
		p := place(e, k.Property("pairs"))
		value := func(n int64, s string) []int64 { return []int64{n, w.Intern(s)} }
		for range rapid.IntRange(0, 20).Draw(t, "steps") {
			n := rapid.Int64Range(-3, 3).Draw(t, "n")
			s := rapid.SampledFrom([]string{"", "x", "yy"}).Draw(t, "s")
			before := slices.Clone(e.Nums)
			var err error
			failed := false
			switch rapid.IntRange(0, 4).Draw(t, "what") {
			case 0:
				err = w.PutInList(p, value(n, s), int64(len(model)))
				failed = len(model) == 4
				if !failed {
					model = append(model, [2]any{n, s})
				}
			case 1:
				err = w.PutInList(p, value(n, s), n)
				failed = len(model) == 4 || n < 0 || n > int64(len(model))
				if !failed {
					model = slices.Insert(model, int(n), [2]any{n, s})
				}
			case 2:
				err = w.CutFromList(p, n)
				failed = n < 0 || n >= int64(len(model))
				if !failed {
					model = slices.Delete(model, int(n), int(n)+1)
				}
			case 3:
				at := slices.Index(model, [2]any{n, s})
				require.EqualValues(t, at, FindInList(p.Type, p.Slots(), value(n, s)))
				continue
			case 4:
				w.Clear(p)
				model = [][2]any{}
			}
			require.Equal(t, failed, err != nil, "%v", err)
			if failed {
				require.Equal(t, before, e.Nums, "what fails changes nothing")
			}
			held := [][2]any{}
			for _, part := range w.Value(e, p.Property).Parts {
				held = append(held, [2]any{part.Parts[0].Num, part.Parts[1].Text})
			}
			require.Equal(t, model, held)
			// What stood in places that are empty now is gone: equal lists are equal rows.
			for _, v := range p.Slots()[1+2*len(model):] {
				require.Zero(t, v)
			}
		}
	})
}

// A map is what a map would be, its keys in order: numbers by size, texts by their characters.
func TestAMapIsWhatAMapWouldBe(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w, k := holders(t)
		e := w.Shared(0)
		byNumber := map[int64]int64{}
		byText := map[string]int64{}
		numbers := place(e, k.Property("by_n"))
		texts := place(e, k.Property("by_s"))
		for range rapid.IntRange(0, 25).Draw(t, "steps") {
			n := rapid.Int64Range(-4, 4).Draw(t, "n")
			s := rapid.SampledFrom([]string{"", "a", "ab", "b", "ä", "z"}).Draw(t, "s")
			v := rapid.Int64Range(-99, 99).Draw(t, "v")
			_, known := byNumber[n]
			_, named := byText[s]
			switch rapid.IntRange(0, 3).Draw(t, "what") {
			case 0, 1:
				at, err := w.PutInMap(numbers, n)
				require.Equal(t, !known && len(byNumber) == 5, err != nil)
				if err == nil {
					w.put(numbers, at, v)
					byNumber[n] = v
				}
				at, err = w.PutInMap(texts, w.Intern(s))
				if err == nil {
					w.put(texts, at, v)
					byText[s] = v
				} else {
					require.True(t, !named && len(byText) == 5)
				}
			case 2:
				require.Equal(t, !known, w.TakeFromMap(numbers, n) != nil)
				delete(byNumber, n)
			case 3:
				require.Equal(t, !named, w.TakeFromMap(texts, w.Intern(s)) != nil)
				delete(byText, s)
			}
			var keys []int64
			for _, pair := range w.Value(e, numbers.Property).Parts {
				keys = append(keys, pair.Parts[0].Num)
				require.Equal(t, byNumber[pair.Parts[0].Num], pair.Parts[1].Parts[0].Num)
			}
			require.Equal(t, slices.Sorted(maps.Keys(byNumber)), keys)
			var names []string
			for _, pair := range w.Value(e, texts.Property).Parts {
				names = append(names, pair.Parts[0].Text)
				require.Equal(t, byText[pair.Parts[0].Text], pair.Parts[1].Num)
			}
			require.Equal(t, slices.Sorted(maps.Keys(byText)), names)
			i, found := w.FindInMap(texts.Type, texts.Slots(), w.Intern(s))
			_, named = byText[s]
			require.Equal(t, named, found)
			require.Equal(
				t, slices.IndexFunc(append(names, "\U0010ffff"), func(x string) bool { return cmp.Compare(x, s) >= 0 }),
				i,
			)
		}
	})
}

// However stacks are put, taken, split and moved, none is over its size, none is empty, and nothing is lost or made.
func TestStacksLoseAndMakeNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w, k := holders(t)
		e := w.Shared(0)
		sides := []Place{place(e, k.Property("here")), place(e, k.Property("there"))}
		held := [2]map[int64]int64{{}, {}}
		for range rapid.IntRange(0, 25).Draw(t, "steps") {
			item := rapid.Int64Range(0, 2).Draw(t, "item")
			n := rapid.Int64Range(0, 4).Draw(t, "n")
			side := rapid.IntRange(0, 1).Draw(t, "side")
			before := slices.Clone(e.Nums)
			var err error
			switch rapid.IntRange(0, 3).Draw(t, "what") {
			case 0:
				if err = w.PutStack(sides[side], item, n); err == nil {
					held[side][item] += n
				}
			case 1:
				if err = w.TakeStack(sides[side], item, n); err == nil {
					held[side][item] -= n
				}
			case 2:
				count := len(w.Value(e, sides[side].Property).Parts)
				if err = w.SplitStack(sides[side], item, n); err == nil {
					require.Len(t, w.Value(e, sides[side].Property).Parts, count+1)
				}
			case 3:
				w.Clear(sides[side])
				clear(held[side])
			}
			if err != nil {
				require.Equal(t, before, e.Nums, "%v", err)
			}
			for i, s := range sides {
				for item := range int64(3) {
					require.Equal(t, held[i][item], HasStack(s.Slots(), item))
				}
				for _, stack := range w.Value(e, s.Property).Parts {
					require.True(t, stack.Parts[1].Num >= 1 && stack.Parts[1].Num <= 3)
				}
			}
		}
	})
}

// Slots keep their numbers, whatever is put into them, taken out and moved; what fails changes nothing.
func TestSlotsKeepTheirNumbers(t *testing.T) {
	type stack struct{ item, count int64 }
	rapid.Check(t, func(t *rapid.T) {
		w, k := holders(t)
		e := w.Shared(0)
		sides := []Place{place(e, k.Property("slots")), place(e, k.Property("deep"))}
		w.Clear(sides[0])
		w.Clear(sides[1])
		model := [2][]stack{make([]stack, 4), make([]stack, 3)}
		each := [2]int64{3, 5}
		for range rapid.IntRange(0, 30).Draw(t, "steps") {
			item := rapid.Int64Range(0, 2).Draw(t, "item")
			n := rapid.Int64Range(-1, 5).Draw(t, "n")
			side := rapid.IntRange(0, 1).Draw(t, "side")
			slot := rapid.Int64Range(-1, 4).Draw(t, "slot")
			to := rapid.IntRange(0, 1).Draw(t, "to")
			other := rapid.Int64Range(-1, 4).Draw(t, "other")
			there := func(side int, slot int64) *stack {
				if slot < 0 || int(slot) >= len(model[side]) {
					return nil
				}
				return &model[side][slot]
			}
			from := there(side, slot)
			onto := there(to, other)
			takes := func(s *stack, item, n, each int64) bool {
				return s != nil && n >= 0 && (s.count == 0 || s.item == item) && s.count+n <= each
			}
			add := func(s *stack, item, n int64) {
				s.item = item
				s.count += n
				if s.count == 0 {
					s.item = 0
				}
			}
			before := slices.Clone(e.Nums)
			var err error
			want := false
			switch rapid.IntRange(0, 5).Draw(t, "what") {
			case 0:
				err = w.PutStackAt(sides[side], slot, item, n)
				want = takes(from, item, n, each[side])
				if want {
					add(from, item, n)
				}
			case 1:
				err = w.TakeStackAt(sides[side], slot, n)
				want = from != nil && n >= 0 && n <= from.count
				if want {
					add(from, from.item, -n)
				}
			case 2:
				err = w.MoveStackAt(sides[side], slot, sides[to], other, n)
				want = from != nil && onto != nil && n >= 0 && n <= from.count &&
					(from == onto || takes(onto, from.item, n, each[to]))
				if want {
					moved := from.item
					add(from, moved, -n)
					add(onto, moved, n)
				}
			case 3:
				err = w.ShiftStackAt(sides[side], slot, sides[to], other)
				want = from != nil && onto != nil
				switch {
				case !want || from == onto:
				case onto.count == 0 || onto.item == from.item || from.count == 0:
					moved := from.item
					n := min(from.count, each[to]-onto.count)
					add(from, moved, -n)
					if n > 0 {
						add(onto, moved, n)
					}
				default:
					want = from.count <= each[to] && onto.count <= each[side]
					if want {
						*from, *onto = *onto, *from
					}
				}
			case 4: // onto what is there, then into the first empty slots
				room := StackRoom(sides[side].Slots(), item, each[side])
				err = w.PutStack(sides[side], item, n)
				want = n >= 0 && n <= room
				for _, isEmpty := range []bool{false, true} {
					for i := range model[side] {
						s := &model[side][i]
						if add := min(n, each[side]-s.count); want && add > 0 && (s.count == 0) == isEmpty &&
							(isEmpty || s.item == item) {
							*s = stack{item, s.count + add}
							n -= add
						}
					}
				}
			case 5: // from the last ones, which stay where they are
				err = w.TakeStack(sides[side], item, n)
				want = n >= 0 && n <= HasStack(before[sides[side].Slot:][:2*len(model[side])], item)
				for i := len(model[side]) - 1; i >= 0 && want; i-- {
					if s := &model[side][i]; s.item == item {
						less := min(n, s.count)
						add(s, item, -less)
						n -= less
					}
				}
			}
			require.Equal(t, want, err == nil, "%v", err)
			if err != nil {
				require.Equal(t, before, e.Nums, "%v", err)
			}
			for i, side := range sides {
				for slot, want := range model[i] {
					item, count, err := StackAt(side, side.Slots(), int64(slot))
					require.NoError(t, err)
					require.Equal(t, want, stack{item, count}, "slot %d", slot)
				}
			}
		}
	})
}

// Whatever a transaction spawns, despawns, gives, delays and whose roles it changes: rolled back, all is as before, and
// the next entity has the number that it would have had.
func TestEntitiesComeAndGoWhollyOrNotAtAll(t *testing.T) {
	c, problems := compile.Load("thing.kam", `contract thing language 1
roles a, b
entity Eel {
  n: int 0..9 = 0
  action later(by: int 0..9) { n = by }
}
entity Diver per a { n: int 0..9 = 0 once }
shared Nest { request lay() from b { let e = spawn Eel; after 1s do e.later(3) } }`)
	require.NotNil(t, c, problems.Error())
	state := func(w *World) string {
		out := fmt.Sprint(w.lastID, " ")
		for _, e := range w.Entities() {
			out += fmt.Sprint(e.ID, e.Kind.Name, e.Owner, e.Nums, e.Gone, len(e.delayed), " ")
		}
		for _, k := range c.Kinds {
			out += fmt.Sprint(len(w.OfKind(k.Index)), w.OfClient(k.Index, 1) != nil, w.OfClient(k.Index, 2) != nil, " ")
		}
		return out + fmt.Sprint(w.Clients())
	}
	rapid.Check(t, func(t *rapid.T) {
		w := New(c, nil)
		for n := range 2 {
			w.AddClient(Client{Number: n + 1, Name: fmt.Sprint(n)})
			w.Spawn(c.Kinds[1], n+1)
		}
		w.Commit()
		w.Events(func(Event) {})
		for range rapid.IntRange(1, 6).Draw(t, "transactions") {
			before := state(w)
			spawned := 0
			gone := 0
			for range rapid.IntRange(0, 8).Draw(t, "steps") {
				e := rapid.SampledFrom(w.Entities()).Draw(t, "entity")
				switch rapid.IntRange(0, 5).Draw(t, "what") {
				case 0:
					spawned++
					require.False(t, w.Spawn(c.Kinds[0], 0).Gone)
				case 1:
					if e.Kind.Free() {
						gone++
						w.Despawn(e)
						w.Despawn(e) // twice is once
						require.Nil(t, w.Entity(e.ID))
					}
				case 2:
					w.SetOwner(e, rapid.IntRange(0, 2).Draw(t, "to"))
				case 3:
					w.Delay(e, w.Tick+3, c.Actions[0], []int64{3})
				case 4:
					w.SetRole(rapid.IntRange(1, 2).Draw(t, "client"), rapid.IntRange(0, 1).Draw(t, "role"))
				case 5:
					if len(e.Nums) > 0 {
						w.Write(e, 0, 0, rapid.Int64Range(0, 9).Draw(t, "n"))
					}
				}
			}
			if rapid.Bool().Draw(t, "keep") {
				w.Commit()
				came := 0
				went := 0
				w.Events(func(n Event) {
					if n.Spawned {
						came++
					} else if n.Despawned {
						went++
					}
				})
				require.Equal(t, []int{spawned, gone}, []int{came, went}, "what happened is told once")
			} else {
				w.Rollback()
				require.Equal(t, before, state(w))
				w.Events(func(n Event) { require.Fail(t, "nothing happened") })
			}
			if rapid.Bool().Draw(t, "wait") {
				w.Tick += 3
				_, _ = w.NextDue(rapid.SampledFrom(w.Entities()).Draw(t, "due"))
			}
			held := int64(0)
			for _, e := range w.Entities() {
				held += e.Kind.Memory()
				for _, d := range e.delayed {
					held += d.Action.Memory()
				}
			}
			require.Equal(t, held, w.MemoryUsed())
		}
	})
}

func TestDelayedActionsComeInTheirOrder(t *testing.T) {
	w, _ := holders(t)
	e := w.Shared(0)
	for i, at := range []int64{5, 3, 5} {
		require.True(t, w.Delay(e, at, &contract.Action{}, []int64{int64(i)}))
	}
	w.Commit()
	var got []int64
	for w.Tick = 1; w.Tick < 8; w.Tick++ {
		for {
			d, due := w.NextDue(e)
			if !due {
				break
			}
			got = append(got, w.Tick*10+d.Args[0])
		}
	}
	assert.Equal(t, []int64{31, 50, 52}, got)
	for range maxDelayed {
		require.True(t, w.Delay(e, 9, &contract.Action{}, nil))
	}
	assert.False(t, w.Delay(e, 9, &contract.Action{}, nil), "no more than that wait")
}
