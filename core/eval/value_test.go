package eval

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
)

// What the contract holds becomes a value and what it was, and what does not fit is told.
func TestValuesThereAndBack(t *testing.T) {
	c, problems := compile.Load("types.kam", `contract types language 1
enum Item { a, b }
type Pair { x: int 0..9, y: bool }
entity Thing per player {
  n: int -5..5
  r: real 0..2 step 0.5
  d: direction step 0.01
  v: vec2 -4..4 step 0.1
  t: text max 5
  e: Item
  o: ref Thing
  c: client
  b: bool
  l: list<int 0..3> max 4
  s: stacks<Item> max 2 each 3
  m: map<Item, int 0..9> max 2
  p: Pair
}
`)
	require.NotNil(t, c, problems)
	item := c.Enums[0]
	typ := func(name string) *contract.Type { return c.Kinds[0].Property(name).Type }
	for name, x := range map[string]any{
		"n": int64(-3),
		"r": 1.5, "v": vector{0.5, -2}, "t": "wreck", "e": member{item, 1}, "o": Entity(7), "c": Seat(2), "b": true,
	} {
		v, err := Write(typ(name), x)
		require.NoError(t, err, name)
		assert.Equal(t, x, Read(typ(name), v), name)
	}
	for _, name := range []string{"o", "c"} {
		v, err := Write(typ(name), nothing{})
		require.NoError(t, err)
		assert.Equal(t, nothing{}, Read(typ(name), v))
	}
	v, err := Write(typ("d"), vector{0, 3})
	require.NoError(t, err)
	at := Read(typ("d"), v).(vector)
	assert.InDelta(t, 1, at[1], 0.01, "a direction has the length 1")
	for name, list := range map[string][]any{
		"l": {int64(1), int64(3)},
		"s": {[]any{member{item, 0}, int64(2)}, []any{member{item, 1}, int64(1)}},
		"m": {[]any{member{item, 1}, int64(9)}},
	} {
		v, err := Write(typ(name), list)
		require.NoError(t, err, name)
		again, err := Write(typ(name), held{typ(name), v})
		require.NoError(t, err)
		assert.True(t, v.Equal(again))
		same, err := Same(&replicate.Copy{}, held{typ(name), v}, list)
		require.NoError(t, err)
		assert.True(t, same, name)
	}
	for name, x := range map[string]any{
		"n": "three", "r": true, "v": vector{
			1,
		}, "t": int64(
			3,
		), "e": int64(
			0,
		), "o": int64(7), "c": Entity(3), "b": int64(1), "l": vector{1}, "s": []any{int64(3)}, "d": vector{0, 0},
	} {
		_, err := Write(typ(name), x)
		assert.Error(t, err, name)
	}
}

// Slots are written as pairs, `[]` for an empty one, and can be asked for by their numbers.
func TestSlotsOfStacks(t *testing.T) {
	item := &contract.Enum{Name: "Item", Values: []string{"a", "b", "c"}}
	stacks := &contract.Type{Form: contract.FormStacks, Enum: item, Max: 4, Each: 5, Slotted: true}
	written := []any{[]any{}, []any{member{item, 0}, int64(5)}, []any{}, []any{}}
	v, err := Write(stacks, written)
	require.NoError(t, err)
	h := held{stacks, v}
	require.Len(t, v.Parts, 2, "what ends a value is not empty")
	same, err := Same(&replicate.Copy{}, h, written[:2])
	require.NoError(t, err)
	assert.True(t, same)
	same, err = Same(&replicate.Copy{}, h, []any{written[1], written[1]})
	require.NoError(t, err)
	assert.False(t, same)
	for slot, want := range map[int64]any{0: int64(0), 1: int64(5), 3: int64(0), 4: nil, -1: nil} {
		got, err := method(&replicate.Copy{}, h, "count_at", []any{slot})
		assert.Equal(t, want == nil, err != nil, slot)
		assert.Equal(t, want, got, slot)
	}
	got, err := method(&replicate.Copy{}, h, "item_at", []any{int64(1)})
	require.NoError(t, err)
	assert.Equal(t, member{item, 0}, got)
	_, err = method(&replicate.Copy{}, h, "item_at", []any{int64(0)})
	assert.ErrorContains(t, err, "slot 0 of `1: 5 a` is empty")
	got, err = method(&replicate.Copy{}, h, "find", []any{member{item, 0}})
	require.NoError(t, err)
	assert.Equal(t, int64(1), got, "an empty slot has no item")
	_, err = Write(&contract.Type{Form: contract.FormStacks, Enum: item, Max: 4, Each: 5}, written)
	assert.Error(t, err)
}

// Holders answer what they have; lists and maps give what is at a place.
func TestHolders(t *testing.T) {
	item := &contract.Enum{Name: "Item", Values: []string{"a", "b", "c"}}
	stacks := &contract.Type{
		Form: contract.FormStacks,
		Enum: item,
		Max:  4,
		Each: 5,
	}
	v, err := Write(
		stacks,
		[]any{[]any{member{item, 0}, int64(5)}, []any{member{item, 1}, int64(2)}, []any{member{item, 0}, int64(1)}},
	)
	require.NoError(t, err)
	h := held{stacks, v}
	ask := func(name string, args ...any) any {
		out, err := method(&replicate.Copy{}, h, name, args)
		require.NoError(t, err)
		return out
	}
	assert.Equal(t, int64(6), ask("count", member{item, 0}))
	assert.Equal(t, int64(8), ask("count"), "all items, as in a contract")
	assert.Equal(t, true, ask("has", member{item, 1}, int64(2)))
	assert.Equal(t, false, ask("has", member{item, 1}, int64(3)))
	assert.Equal(t, false, ask("has", member{item, 2}))
	_, err = method(&replicate.Copy{}, h, "has", []any{"a"})
	assert.Error(t, err)
	_, err = method(&replicate.Copy{}, int64(3), "has", []any{"a"})
	assert.Error(t, err)
	list := held{
		&contract.Type{Form: contract.FormList, Of: &contract.Type{Form: contract.FormInt, High: 9}, Max: 3},
		contract.Value{Parts: []contract.Value{{Num: 4}, {Num: 7}}},
	}
	out, err := method(&replicate.Copy{}, list, "find", []any{int64(7)})
	require.NoError(t, err)
	assert.Equal(t, int64(1), out)
	out, err = index(&replicate.Copy{}, list, int64(0))
	require.NoError(t, err)
	assert.Equal(t, int64(4), out)
	_, err = index(&replicate.Copy{}, list, int64(2))
	assert.ErrorContains(t, err, "has nothing at 2")
}

// What is forged goes out as it stands.
func TestLooseValues(t *testing.T) {
	item := &contract.Enum{Name: "Item", Values: []string{"a", "b"}}
	for text, x := range map[string]any{
		"true": true, "-3": int64(-3), "0.5": 0.5, `"pearl"`: "pearl", "7": Entity(7), "2": Seat(2),
		`"b"`: member{item, 1}, "[1,2.5]": vector{1, 2.5}, "null": nothing{}, `[1,"x"]`: []any{int64(1), "x"},
	} {
		assert.Equal(t, text, string(AnyJSON(x)))
	}
	for text, x := range map[string]any{
		"–":        nil,
		"(1, 2.5)": vector{1, 2.5},
		"#7":       Entity(7),
		"server":   Seat(0),
		"client 2": Seat(2),
		"nothing":  nothing{},
		"b":        member{item, 1},
		`[1, "x"]`: []any{int64(1), "x"},
		"true":     true,
	} {
		assert.Equal(t, text, Show(x))
	}
}
