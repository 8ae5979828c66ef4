package wire

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/core/contract"
)

// The vectors of the codings that everything else is made of.
type (
	codings struct {
		Numbers     []numberVector     `json:"numbers"`
		Values      []valueVector      `json:"values"`
		Differences []differenceVector `json:"differences"`
		Places      []placesVector     `json:"places"`
		Motions     []motionVector     `json:"motions"`
	}
	// numberVector is a number, as a text, written in one of the ways; Of is the n of bits, below and rice.
	numberVector struct {
		Way   string `json:"way"`
		Of    uint64 `json:"of,omitempty"`
		Value string `json:"value"`
		Hex   string `json:"hex"`
	}
	// valueVector is a whole value, and the digest of it as the property 1 of the entity 7.
	valueVector struct {
		Type   *contract.Type  `json:"type"`
		Value  json.RawMessage `json:"value"`
		Hex    string          `json:"hex"`
		Digest string          `json:"digest"`
	}
	// differenceVector is a whole value and the values after it, one difference after the other.
	differenceVector struct {
		Type *contract.Type    `json:"type"`
		Then []json.RawMessage `json:"then"`
		Hex  string            `json:"hex"`
	}
	placesVector struct {
		Of     int    `json:"of"`
		Places []int  `json:"places"`
		Hex    string `json:"hex"`
	}
	// motionVector has From and Rate as counts of steps.
	motionVector struct {
		Type     *contract.Type `json:"type"`
		RateType *contract.Type `json:"rate_type"`
		From     any            `json:"from"`
		Rate     any            `json:"rate"`
		At       int64          `json:"at"`
		Ticks    int            `json:"ticks"`
		Then     [][2]any       `json:"then"` // tick and value
	}
)

func hexOf(write func(w *bitWriter)) string {
	w := &bitWriter{}
	write(w)
	return hex.EncodeToString(w.bytes())
}

func numberVectors() (out []numberVector) {
	add := func(way string, of, v uint64, raw string) {
		out = append(out, numberVector{way, of, strconv.FormatUint(v, 10), raw})
	}
	for _, v := range []uint64{0, 1, 127, 128, 300, 16383, 16384, 1<<32 - 1, 1 << 53, math.MaxUint64} {
		add("uvarint", 0, v, hex.EncodeToString(uvarint(v)))
	}
	for _, v := range []uint64{
		0, 1, 2, 3, 6, 7, 8, 255, 1<<32 - 1, 1<<63 - 2, 1<<63 - 1, 1 << 63, math.MaxUint64 - 1, math.MaxUint64,
	} {
		add("gamma", 0, v, hexOf(func(w *bitWriter) { w.gamma(v) }))
	}
	for _, of := range []uint64{1, 2, 3, 5, 8, 9, 1000, 1<<32 + 1, math.MaxUint64} {
		for _, v := range []uint64{0, 1, 2, of / 2, of - 2, of - 1} {
			if v < of {
				add("below", of, v, hexOf(func(w *bitWriter) { w.below(v, of) }))
			}
		}
	}
	for _, of := range []uint64{0, 1, 3, 7, 30} {
		for _, v := range []uint64{
			0, 1, 5, 1<<of - 1, 1 << of, 19 << of, 20<<of - 1, 20 << of, 20<<of + 12345, math.MaxUint64,
		} {
			add("rice", of, v, hexOf(func(w *bitWriter) { w.rice(v, uint(of)) }))
		}
	}
	for _, of := range []uint64{1, 7, 8, 31, 63, 64} {
		for _, v := range []uint64{0, 1, math.MaxUint64 >> (64 - of), 0x9e3779b97f4a7c15 >> (64 - of)} {
			add("bits", of, v, hexOf(func(w *bitWriter) { w.put(v, uint(of)) }))
		}
	}
	return out
}

func uvarint(v uint64) []byte {
	var out []byte
	for ; v >= 128; v >>= 7 {
		out = append(out, byte(v)|128)
	}
	return append(out, byte(v))
}

// A type of each form with values at its ends and between them.
func typedValues() map[*contract.Type][]string {
	item := &contract.Enum{Name: "Item", Values: []string{"flare", "patch", "tank", "relic", "rope"}}
	whole := func(low, high int64) *contract.Type {
		return &contract.Type{Form: contract.FormInt, Low: low, High: high}
	}
	reals := func(form contract.Form, low, high, per, unit int64) *contract.Type {
		return &contract.Type{
			Form: form,
			Low:  low,
			High: high,
			Per:  per,
			Unit: unit,
		}
	}
	text := &contract.Type{Form: contract.FormText, Max: 12}
	ref := &contract.Type{Form: contract.FormEntity, Names: []string{"Diver"}}
	place := reals(contract.FormVec2, -20000, 20000, 100, 1)
	mark := &contract.Type{
		Form:  contract.FormRecord,
		Name:  "Mark",
		Parts: []contract.Param{{Name: "at", Type: place}, {Name: "name", Type: text}, {Name: "by", Type: ref}},
	}
	quarter := int64(math.Round(math.Pi * 100))
	return map[*contract.Type][]string{
		{Form: contract.FormBool}: {`true`, `false`},
		whole(0, 0):               {`0`},
		whole(-3, 9):              {`-3`, `0`, `9`},
		whole(0, 127):             {`127`},
		whole(0, 128):             {`128`},
		whole(
			math.MinInt64, math.MaxInt64,
		): {`"-9223372036854775808"`, `-1`, `9007199254740991`, `"9007199254740992"`, `"9223372036854775807"`},
		reals(contract.FormReal, 0, 200, 2, 1):                   {`0`, `0.5`, `100`},
		reals(contract.FormReal, -6, 6, 1, 5):                    {`-30`, `5`, `30`},
		reals(contract.FormReal, -1<<50, 1<<50, 1000, 1):         {`-1125899906842.624`, `0.001`, `333.333`},
		reals(contract.FormDirection, -quarter, quarter, 100, 1): {`-3.14`, `0`, `1.57`},
		place:                                   {`[-200,200]`, `[0,0.01]`},
		reals(contract.FormVec3, -18, 18, 2, 1): {`[-9,0.5,9]`},
		reals(contract.FormRotation, -1000, 1000, 1000, 1): {`[0,0,0,1]`, `[0.5,-0.5,0.5,0.5]`},
		text:                                  {`""`, `"flare"`, `"ä€😀\n\""`},
		{Form: contract.FormEnum, Enum: item}: {`"flare"`, `"tank"`, `"rope"`},
		{Form: contract.FormKind, Names: []string{"Crate", "Eel", "Sled"}}: {`"Crate"`, `"Sled"`},
		{
			Form: contract.FormStacks,
			Enum: item,
			Max:  3,
			Each: 5,
		}: {`[]`, `[["patch",5],["flare",1]]`, `[["rope",3],["rope",3],["tank",1]]`},
		{
			Form:    contract.FormStacks,
			Enum:    item,
			Max:     3,
			Each:    5,
			Slotted: true,
		}: {`[]`, `[null,null,["flare",1]]`, `[["rope",3],null,["tank",5]]`},
		{
			Form: contract.FormMap,
			Key:  whole(0, 99),
			Of:   &contract.Type{Form: contract.FormList, Of: text, Max: 2},
			Max:  4,
		}: {`[]`, `[[7,[]],[9,["a","b"]]]`},
		{Form: contract.FormList, Of: whole(0, 9), Max: 4}: {`[]`, `[1,2,9,0]`},
		{
			Form: contract.FormList,
			Of:   mark,
			Max:  2,
		}: {`[{"at":[1,-2],"name":"x","by":null},{"at":[0,0],"name":"","by":4294967295}]`},
		{
			Form: contract.FormMap,
			Key:  text,
			Of:   whole(0, 99),
			Max:  4,
		}: {`[]`, `[["b",1],["a",99]]`},
		{
			Form: contract.FormMap,
			Key:  &contract.Type{Form: contract.FormClient},
			Of:   ref,
			Max:  4,
		}: {`[[3,7],[0,null],[2147483647,1]]`},
		mark:                         {`{"at":[-200,0.5],"name":"reef","by":77}`},
		ref:                          {`null`, `1`, `4294967295`},
		{Form: contract.FormClient}:  {`null`, `0`, `1`, `2147483647`},
		{Form: contract.FormInstant}: {`0`, `1`, `-1`, `123456`, `"9223372036854775807"`, `"-9223372036854775808"`},
	}
}

// theCodings makes the vectors, always the same.
func theCodings(t *testing.T) codings {
	out := codings{Numbers: numberVectors()}
	value := func(typ *contract.Type, raw string) contract.Value {
		v, err := typ.ParseJSON([]byte(raw))
		require.NoError(t, err, "%s of %s", raw, typ)
		require.Equal(t, raw, string(typ.AppendJSON(nil, v)), typ.String())
		return v
	}
	for typ, list := range typedValues() {
		for _, raw := range list {
			v := value(typ, raw)
			out.Values = append(
				out.Values,
				valueVector{
					typ, typ.AppendJSON(nil, v), hexOf(func(w *bitWriter) { w.value(typ, v) }),
					fmt.Sprintf("%016x", newDigest(digestOfValue, 7, 1).value(typ, v).end()),
				},
			)
		}
	}
	slices.SortFunc(out.Values, func(a, b valueVector) int { return compareJSON(t, a, b) })
	item := &contract.Enum{Name: "Item", Values: []string{"flare", "patch", "tank"}}
	for _, d := range []struct {
		typ  *contract.Type
		from string
		then []string
	}{
		{&contract.Type{Form: contract.FormBool}, `true`, []string{`false`, `true`, `false`}},
		{
			&contract.Type{Form: contract.FormEnum, Enum: item}, `"flare"`,
			[]string{`"tank"`, `"patch"`, `"flare"`, `"patch"`},
		},
		{
			&contract.Type{Form: contract.FormKind, Names: []string{"Crate", "Eel", "Sled", "Flare"}}, `"Eel"`,
			[]string{`"Crate"`, `"Flare"`, `"Sled"`},
		},
		{
			&contract.Type{Form: contract.FormInt, High: 1_000_000}, `500000`,
			append(walk(500000, 40), `1000000`, `0`, `1`),
		},
		// a sum that is a power of two
		{&contract.Type{Form: contract.FormInt, High: 1_000_064}, `500000`, []string{`376740`, `377740`, `377741`}},
		{
			&contract.Type{Form: contract.FormInt, High: 100_000}, `50000`,
			append(steps(50000, 40, 9000), steps(50000, 60, 3)...),
		},
		{
			&contract.Type{Form: contract.FormInt, Low: math.MinInt64, High: math.MaxInt64}, `0`,
			[]string{`1`, `"-9223372036854775808"`, `"9223372036854775807"`, `0`, `5`},
		},
		{&contract.Type{
			Form: contract.FormReal,
			High: 200,
			Per:  2,
			Unit: 1,
		}, `100`, []string{`99.5`, `98`, `0`, `100`}},
		{&contract.Type{
			Form: contract.FormDirection,
			Low:  -314,
			High: 314,
			Per:  100,
			Unit: 1,
		}, `3.14`, []string{`-3.14`, `-3.1`, `0`}},
		{&contract.Type{
			Form: contract.FormVec2,
			Low:  -20000,
			High: 20000,
			Per:  100,
			Unit: 1,
		}, `[0,0]`, []string{`[0.01,0]`, `[0.01,-0.01]`, `[200,-200]`, `[199.99,-200]`}},
		{&contract.Type{
			Form: contract.FormVec3,
			Low:  -18,
			High: 18,
			Per:  2,
			Unit: 1,
		}, `[0,0,0]`, []string{`[0,0,0.5]`, `[9,-9,0.5]`}},
		{&contract.Type{
			Form: contract.FormRotation,
			Low:  -1000,
			High: 1000,
			Per:  1000,
			Unit: 1,
		}, `[0,0,0,1]`, []string{`[0.5,-0.5,0.5,0.5]`, `[0,0,0,1]`}},
		{
			&contract.Type{Form: contract.FormInt, High: 359, Wraps: true}, `350`,
			append([]string{`355`, `1`, `359`, `180`, `0`, `179`, `359`, `178`}, walkAround(178, 40, 360)...),
		},
		{ // numbers as a whole, of which the difference counts for those that follow
			&contract.Type{Form: contract.FormInt, High: 99_999, Wraps: true, Small: true}, `50000`,
			slices.Concat(
				steps(50000, 31, 3), []string{`99000`, `98995`, `98990`},
				steps(98990, 62, 3), []string{`1000`, `1010`, `1020`},
				steps(1020, 62, 3), []string{`99999`}, steps(99990, 90, 3), []string{`100`},
				steps(100, 62, 3), []string{`40100`, `40000`, `39990`},
			),
		},
		{
			&contract.Type{Form: contract.FormInt, Low: -2, High: 2, Wraps: true}, `0`,
			[]string{`2`, `-2`, `1`, `-1`, `2`, `0`, `-2`},
		},
		{&contract.Type{
			Form:  contract.FormReal,
			High:  719,
			Per:   2,
			Unit:  1,
			Wraps: true,
			Small: true,
		}, `0`, []string{`359.5`, `0.5`, `180.5`, `1`, `0.5`}},
		{&contract.Type{
			Form:  contract.FormVec2,
			Low:   -20000,
			High:  20000,
			Per:   100,
			Unit:  1,
			Small: true,
		}, `[0,0]`, []string{`[0.01,0]`, `[0.01,-0.01]`, `[0.02,-0.01]`, `[200,-200]`, `[199.99,-200]`}},
	} {
		v := value(d.typ, d.from)
		sizes := make([]estimate, 4)
		for i := range sizes {
			sizes[i] = firstEstimate(d.typ)
		}
		x := differenceVector{Type: d.typ}
		x.Hex = hexOf(func(w *bitWriter) {
			w.value(d.typ, v)
			for _, raw := range d.then {
				now := value(d.typ, raw)
				w.difference(d.typ, d.typ.AppendSlots(nil, v, nil), d.typ.AppendSlots(nil, now, nil), sizes)
				v = now
				x.Then = append(x.Then, json.RawMessage(raw))
			}
		})
		out.Differences = append(out.Differences, x)
	}
	for _, p := range []struct {
		of     int
		places []int
	}{
		{
			1, []int{0},
		},
		{
			2, []int{1},
		},
		{
			2, []int{0, 1},
		},
		{5, []int{0, 1, 3, 4}},
		{9, []int{8}},
		{10, []int{0, 2, 4, 6, 8}},
		{10, []int{0, 1, 2, 4, 6, 8}},
		{1000, []int{999}},
		{1000, []int{0, 1, 2, 3, 999}},
		{5000, append(upTo(99), 4999)},
		{64, upTo(64)},
	} {
		chosen := make([]change, len(p.places))
		for i, at := range p.places {
			chosen[i].key = uint64(at)
		}
		out.Places = append(
			out.Places, placesVector{p.of, p.places, hexOf(func(w *bitWriter) { w.indices(chosen, p.of) })},
		)
	}
	place := &contract.Type{
		Form: contract.FormVec2,
		Low:  -20000,
		High: 20000,
		Per:  100,
		Unit: 1,
	}
	speed := &contract.Type{
		Form: contract.FormVec2,
		Low:  -900,
		High: 900,
		Per:  10,
		Unit: 1,
	}
	depth := &contract.Type{
		Form: contract.FormReal,
		Low:  0,
		High: 400,
		Per:  2,
		Unit: 1,
	}
	around := &contract.Type{
		Form:  contract.FormReal,
		High:  719,
		Per:   2,
		Unit:  1,
		Wraps: true,
	}
	sinks := &contract.Type{
		Form: contract.FormReal,
		Low:  -9000,
		High: 9000,
		Per:  1000,
		Unit: 1,
	}
	for _, m := range []struct {
		t, rate  *contract.Type
		from, by []int64
		at       int64
		ticks    int
	}{
		{
			place, speed, []int64{-3000, 25}, []int64{140, -7}, 89, 20,
		},
		{place, speed, []int64{0, 0}, []int64{900, -900}, 1, 30},
		{depth, sinks, []int64{13}, []int64{333}, 1000, 20},
		{depth, sinks, []int64{1}, []int64{-5}, 3, 7},
		{around, sinks, []int64{5}, []int64{-2500}, 3, 20},
		{around, sinks, []int64{700}, []int64{9000}, 3, 30},
	} {
		pack := func(list []int64) (v contract.Value, counts any) {
			if len(list) == 1 {
				return contract.Value{Num: list[0]}, list[0]
			}
			for _, n := range list {
				v.Parts = append(v.Parts, contract.Value{Num: n})
			}
			return v, list
		}
		x := motionVector{
			Type:     m.t,
			RateType: m.rate,
			At:       m.at,
			Ticks:    m.ticks,
		}
		motion := &Motion{RateType: m.rate, At: m.at, Ticks: m.ticks}
		motion.From, x.From = pack(m.from)
		motion.Rate, x.Rate = pack(m.by)
		for _, after := range []int64{0, 1, 2, 3, 7, 19, 20, 21, 100, 333, 1001, 10_000} {
			x.Then = append(
				x.Then, [2]any{m.at + after, json.RawMessage(m.t.AppendJSON(nil, motion.Value(m.t, m.at+after)))},
			)
		}
		out.Motions = append(out.Motions, x)
	}
	return out
}

func upTo(n int) (out []int) {
	for i := range n {
		out = append(out, i)
	}
	return out
}

// steps returns values that go up by some and down again.
func steps(from, n, by int) (out []string) {
	for i := range n {
		out = append(out, fmt.Sprint(from+by*((i+1)%2)))
	}
	return out
}

// walk returns values that change by little, and now and then by much.
func walk(from, n int) (out []string) {
	for i := range n {
		from += []int{1, -2, 3, -1, 2, 40, -37, 9000}[i%8]
		out = append(out, fmt.Sprint(from))
	}
	return out
}

// walkAround is walk on a circle of so many values.
func walkAround(from, n, turn int) (out []string) {
	for i := range n {
		from = (from + []int{7, -9, 30, -100, 2, 170, -179, 90}[i%8] + turn) % turn
		out = append(out, fmt.Sprint(from))
	}
	return out
}

func compareJSON(t *testing.T, a, b any) int {
	one, err := json.Marshal(a)
	require.NoError(t, err)
	two, err := json.Marshal(b)
	require.NoError(t, err)
	return slices.Compare(one, two)
}

// The committed vectors of the codings are what this package writes, and each is read back as what it says.
func TestTheVectorsOfTheCodings(t *testing.T) {
	const file = "testdata/vectors/codings.json"
	made := theCodings(t)
	raw, err := json.MarshalIndent(made, "", " ")
	require.NoError(t, err)
	if os.Getenv("KAMERAD_UPDATE_VECTORS") != "" {
		require.NoError(t, os.WriteFile(file, append(raw, '\n'), 0o644))
	}
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	require.True(
		t, string(kept) == string(raw)+"\n", "the codings changed: KAMERAD_UPDATE_VECTORS=1 writes the vectors anew",
	)
	for _, d := range made.Differences {
		bits, err := hex.DecodeString(d.Hex)
		require.NoError(t, err)
		r := &bitReader{buf: bits}
		sizes := make([]estimate, 4)
		for i := range sizes {
			sizes[i] = firstEstimate(d.Type)
		}
		v := r.value(d.Type)
		for _, want := range d.Then {
			v = r.difference(d.Type, v, sizes)
			require.Equal(t, string(want), string(d.Type.AppendJSON(nil, v)))
		}
		require.True(t, r.done())
	}
	for _, p := range made.Places {
		bits, err := hex.DecodeString(p.Hex)
		require.NoError(t, err)
		r := &bitReader{buf: bits}
		require.Equal(t, p.Places, r.indices(nil, p.Of))
		require.True(t, r.done())
	}
}

// The last slot of a value is not empty: no two values that are written differently are the same.
func TestSlotsEndWithSomething(t *testing.T) {
	slots := &contract.Type{
		Form:    contract.FormStacks,
		Enum:    &contract.Enum{Name: "Item", Values: []string{"flare", "patch"}},
		Max:     3,
		Each:    5,
		Slotted: true,
	}
	pair := func(item, n int64) contract.Value {
		return contract.Value{Parts: []contract.Value{{Num: item}, {Num: n}}}
	}
	for _, c := range []struct {
		stacks []contract.Value
		isBad  bool
	}{
		{[]contract.Value{pair(0, 0), pair(1, 5)}, false},
		{[]contract.Value{pair(1, 5), pair(0, 0)}, true},
	} {
		var w bitWriter
		w.value(slots, contract.Value{Parts: c.stacks})
		r := bitReader{buf: w.bytes()}
		r.value(slots)
		require.Equal(t, c.isBad, r.bad, c.stacks)
	}
}
