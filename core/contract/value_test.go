package contract_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/internal/tests/contracts"
)

func TestTypesReadAsTheyAreWritten(t *testing.T) {
	for _, text := range []string{
		"bool", "int -5..100", "real 0..100 step 0.5", "real -0.75..0.25 step 0.25", "real -20..20 step 5",
		"real 0..1 step 0.001",
		"text max 40", "Item", "stacks<Item> max 6 each 5",
	} {
		c := contracts.Load(
			t,
			"contract a language 1\nenum Item { flare, patch }\nshared A { p: "+text+"; q: Item = patch; r: Item = "+
				"flare }",
		)
		assert.Equal(t, text, c.Kinds[0].Properties[0].Type.String())
	}
}

func TestWhatHasNoDefaultStartsNearestToZero(t *testing.T) {
	c := contracts.Load(t, `contract a language 1
enum Item { flare, patch }
shared A {
  a: int 3..9; b: int -9..-3; c: int -9..9; d: real 0.5..1 step 0.5; e: real -9..-1 step 0.1; f: bool; g: text max 3; i: Item
  j: real -1..1 step 0.01 = -0.255
  k: Item = patch
}`)
	want := []string{"3", "-3", "0", "0.5", "-1", "false", `""`, "flare", "-0.26", "patch"}
	for i, p := range c.Kinds[0].Properties {
		assert.Equal(
			t, want[i], p.Type.Format(p.Type.FromSlots(p.Default, func(n int64) string { return c.Texts[n] })), p.Name,
		)
	}
}

// A character is one that a text of the type may hold, or one that it may not.
func TestACharacterThatATextMayHold(t *testing.T) {
	for _, chars := range []string{"a-z", "0-9", "b-dx", "é", "-", "A-Z ", "~"} {
		text := &contract.Type{Form: contract.FormText, Max: 1, Chars: chars}
		assert.NoError(t, text.Allows(string(text.Character(true))), chars)
		assert.Error(t, text.Allows(string(text.Character(false))), chars)
	}
	any := &contract.Type{Form: contract.FormText, Max: 1}
	assert.Equal(t, 'a', any.Character(true))
	assert.Zero(t, any.Character(false), "each character may stand in it")
}

func TestStepsRoundToTheNearestAndTheEven(t *testing.T) {
	half := &contract.Type{
		Form: contract.FormReal,
		Per:  2,
		Unit: 1,
		Low:  -200,
		High: 200,
	}
	five := &contract.Type{
		Form: contract.FormReal,
		Per:  1,
		Unit: 5,
		Low:  -200,
		High: 200,
	}
	for _, c := range []struct {
		t    *contract.Type
		v    float64
		want int64
	}{
		{
			half, 0.24, 0,
		},
		{half, 0.25, 0},
		{half, 0.26, 1},
		{half, 0.75, 2},
		{half, -0.25, 0},
		{half, -0.75, -2},
		{half, 1e18, 2e18},
		{
			five, 2.5, 0,
		},
		{five, 7.5, 2},
		{five, 7.4, 1},
		{five, -12.5, -2},
		{half, 1e300, 1 << 62},
		{half, -1e300, -1 << 62},
	} {
		n, ok := c.t.Steps(c.v)
		assert.True(t, ok)
		assert.Equal(t, c.want, n, "%g in %s", c.v, c.t)
	}
	for _, v := range []float64{math.NaN(), math.Inf(1), math.Inf(-1)} {
		_, ok := half.Steps(v)
		assert.False(t, ok, "%g", v)
	}
	assert.Equal(
		t, 0.1, (&contract.Type{Form: contract.FormReal, Per: 10, Unit: 1}).Real(1),
		"one rounded division gives the double that is written 0.1",
	)
	assert.Equal(t, 0.3, (&contract.Type{Form: contract.FormReal, Per: 10, Unit: 1}).Real(3))
	assert.Equal(t, -15.0, five.Real(-3))
}

func TestWhatIsOutsideOfARangeIsRefused(t *testing.T) {
	enum := &contract.Enum{Name: "Item", Values: []string{"flare", "patch"}}
	for raw, typ := range map[string]*contract.Type{
		"10": {
			Form: contract.FormInt,
			High: 9,
		}, "-1": {
			Form: contract.FormInt,
			High: 9,
		}, "9223372036854775808": {Form: contract.FormInt, High: math.MaxInt64},
		"1.01": {
			Form: contract.FormReal,
			Per:  100,
			Unit: 1,
			High: 100,
		}, "-0.01": {Form: contract.FormReal, Per: 100, Unit: 1, High: 100},
		`"abcd"`: {
			Form: contract.FormText,
			Max:  3,
		}, `"pearl"`: {
			Form: contract.FormEnum,
			Enum: enum,
		}, "0": {Form: contract.FormEnum, Enum: enum}, "1": {Form: contract.FormBool},
		`[["flare",4]]`: {
			Form: contract.FormStacks,
			Enum: enum,
			Max:  2,
			Each: 3,
		}, `[["flare",0]]`: {Form: contract.FormStacks, Enum: enum, Max: 2, Each: 3},
		`[["flare",1],["flare",1],["flare",1]]`: {
			Form: contract.FormStacks,
			Enum: enum,
			Max:  2,
			Each: 3,
		}, `[["flare"]]`: {Form: contract.FormStacks, Enum: enum, Max: 2, Each: 3},
		`[["pearl",1]]`: {
			Form: contract.FormStacks,
			Enum: enum,
			Max:  2,
			Each: 3,
		}, `{}`: {Form: contract.FormStacks, Enum: enum, Max: 2, Each: 3},
	} {
		_, err := typ.ParseJSON([]byte(raw))
		assert.Error(t, err, "%s as %s", raw, typ)
	}
	v, err := (&contract.Type{Form: contract.FormText, Max: 3}).ParseJSON([]byte(`"äöü"`))
	require.NoError(t, err, "a length counts characters")
	assert.Equal(t, "äöü", v.Text)
}

func TestWhoMayAskReadsAsItIsWritten(t *testing.T) {
	c := contracts.Load(t, `contract a language 1
roles player, referee
entity A per player {
  n: int 0..9
  request a() { n = 1 }
  request b() from everyone but referee { n = 2 }
  request c() from owner or referee { n = 3 }
}`)
	var got []string
	for _, r := range c.Requests {
		got = append(got, c.WhoText(r.From))
	}
	assert.Equal(t, []string{"owner", "everyone but referee", "owner or referee"}, got)
}

// What waits for its time counts with its texts, as long as they may be: each of four bytes a character.
func TestAnActionThatWaitsCountsItsTexts(t *testing.T) {
	c, problems := compile.Load(
		"rock.kam",
		"contract rock language 1\nshared Rock { n: int 0..9 = 0\n"+
			" action say(s: text max 1000, k: int 0..9) { n = k; if s == \"a\" { n = 0 } } }",
	)
	require.NotNil(t, c, problems.Error())
	assert.EqualValues(t, 96+2*8+160+4*1000, c.Actions[0].Memory())
}

// Slots keep their numbers in every form; a value ends with the last one that is not empty.
func TestSlotsKeepTheirNumbers(t *testing.T) {
	slots := &contract.Type{
		Form:    contract.FormStacks,
		Enum:    &contract.Enum{Name: "Item", Values: []string{"flare", "patch"}},
		Max:     4,
		Each:    5,
		Slotted: true,
	}
	v, err := slots.ParseJSON([]byte(`[null,["patch",3],null,null]`))
	require.NoError(t, err)
	assert.Equal(t, `[null,["patch",3]]`, string(slots.AppendJSON(nil, v)))
	assert.Equal(t, "1: 3 patch", slots.Format(v))
	assert.Equal(t, "empty", slots.Format(contract.Value{}))
	row := slots.AppendSlots(nil, v, nil)
	assert.Equal(t, []int64{0, 0, 1, 3, 0, 0, 0, 0}, row)
	assert.True(t, v.Equal(slots.FromSlots(row, nil)))
	assert.Equal(t, "stacks<Item> max 4 each 5 slotted", slots.String())
	closed := *slots
	closed.Slotted = false
	_, err = closed.ParseJSON([]byte(`[null,["patch",3]]`))
	assert.Error(t, err)
}
