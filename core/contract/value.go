package contract

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Form is the shape of a type.
type Form string

// The forms of types. The last ones never stand in a contract's text: they are what `c.role`, `line(a, b)`, a length of
// time and `nothing` are.
const (
	FormBool      Form = "bool"
	FormInt       Form = "int"
	FormReal      Form = "real"
	FormText      Form = "text"
	FormEnum      Form = "enum"
	FormVec2      Form = "vec2"
	FormVec3      Form = "vec3"
	FormDirection Form = "direction" // a vector of length 1 in a plane, held as its angle in radians
	FormRotation  Form = "rotation"  // a rotation in space, held as a unit quaternion x, y, z, w
	FormStacks    Form = "stacks"
	FormList      Form = "list"
	FormMap       Form = "map"
	FormRecord    Form = "record"
	FormEntity    Form = "ref"
	FormClient    Form = "client"
	FormKind      Form = "kind"
	FormInstant   Form = "instant" // the session's clock in milliseconds
	FormTime      Form = "time"    // milliseconds
	FormRole      Form = "role"
	FormLine      Form = "line"
	FormNothing   Form = "nothing"
)

// Type is the type of a property, an argument or an expression. It is part of the outline that clients get.
type Type struct {
	Form Form  `json:"form"`
	Low  int64 `json:"low,omitempty"`  // int; reals: in steps
	High int64 `json:"high,omitempty"` // int; reals: in steps
	// Of reals, and of what is made of reals: a step is Unit/Per, and one of the two is 1. A value is held as a count
	// of steps c and reads as the double (c*Unit)/Per, one correctly rounded division. Per is 0 in an expression, which
	// has doubles.
	Per   int64 `json:"per,omitempty"`
	Unit  int64 `json:"unit,omitempty"`
	Wraps bool  `json:"wraps,omitempty"` // int and real: beyond each end of the range comes the other one
	Small bool  `json:"small,omitempty"` // of numbers: most differences are tiny, also the first ones
	Max   int   `json:"max,omitempty"`   // text: characters; stacks, list, map: how many
	Each  int64 `json:"each,omitempty"`  // stacks: the greatest count of one
	// Of stacks: each slot keeps its number, whether it is empty or not. Else a stack that is empty closes up.
	Slotted bool     `json:"slotted,omitempty"`
	Chars   string   `json:"chars,omitempty"`
	Enum    *Enum    `json:"enum,omitempty"` // enum, stacks
	Key     *Type    `json:"key,omitempty"`  // map
	Of      *Type    `json:"of,omitempty"`   // list, map: of the values
	Name    string   `json:"name,omitempty"` // record; part of a ref
	Parts   []Param  `json:"fields,omitempty"`
	Names   []string `json:"kinds,omitempty"` // of Kinds
	Kinds   []*Kind  `json:"-"`               // ref, kind: which it may be
}

// Kind returns the one kind of a ref, or nil when it may be of several.
func (t *Type) Kind() *Kind {
	if t.Form == FormEntity && len(t.Kinds) == 1 {
		return t.Kinds[0]
	}
	return nil
}

// MaxWrapped is how many values a type that wraps has at most.
const MaxWrapped = 1 << 53

// Bring returns the number in the type's range that stands for n: of a type that wraps the one that is whole turns
// away, of another one the nearest.
func (t *Type) Bring(n int64) int64 {
	if !t.Wraps || n >= t.Low && n <= t.High {
		return min(max(n, t.Low), t.High)
	}
	turn := t.High - t.Low + 1
	n = n%turn - t.Low%turn // each less than a turn, so that nothing overflows
	return t.Low + (n%turn+turn)%turn
}

// packing returns the words that say how the values are packed, with a blank before each.
func (t *Type) packing() (words string) {
	if t.Wraps {
		words += " wrapping"
	}
	if t.Small {
		words += " small"
	}
	return words
}

// Whole reports whether a value is one whole number: an int, or the milliseconds of a time. Without a range both of its
// ends are 0.
func (t *Type) Whole() bool { return t.Form == FormInt || t.Form == FormTime }

// Counted reports whether values are held as counts of steps.
func (t *Type) Counted() bool { return t.Per != 0 }

// Reals returns of how many reals a value is made: 1 for a real, 2 or 3 for a vector, 4 for a rotation, 0 for others.
func (t *Type) Reals() int {
	switch t.Form {
	case FormReal:
		return 1
	case FormVec2:
		return 2
	case FormVec3:
		return 3
	case FormRotation:
		return 4
	}
	return 0
}

// Width is how many 64-bit slots a value takes.
func (t *Type) Width() int {
	switch t.Form {
	case FormVec2, FormVec3, FormRotation:
		return t.Reals()
	case FormLine:
		return 2 * t.Of.Width()
	case FormStacks:
		return 2 * t.Max
	case FormList:
		return 1 + t.Max*t.Of.Width()
	case FormMap:
		return 1 + t.Max*(t.Key.Width()+t.Of.Width())
	case FormRecord:
		n := 0
		for _, f := range t.Parts {
			n += f.Type.Width()
		}
		return n
	}
	return 1
}

// Holder reports whether values stand in memory and are never held as a whole in registers: stacks, lists and maps.
func (t *Type) Holder() bool {
	return t.Form == FormStacks || t.Form == FormList || t.Form == FormMap
}

// Slots calls f for each scalar slot of a value, with its offset and the type of what is in it. For a holder it is told
// of the slots of all places, also of those that are empty.
func (t *Type) Slots(offset int, f func(offset int, t *Type)) {
	switch t.Form {
	case FormList, FormMap:
		offset++
		for range t.Max {
			if t.Form == FormMap {
				t.Key.Slots(offset, f)
				offset += t.Key.Width()
			}
			t.Of.Slots(offset, f)
			offset += t.Of.Width()
		}
	case FormRecord:
		for _, p := range t.Parts {
			p.Type.Slots(offset, f)
			offset += p.Type.Width()
		}
	default:
		f(offset, t)
	}
}

// Has reports whether values of the type hold something of a form.
func (t *Type) Has(form Form) bool {
	if t.Form == form || t.Key != nil && t.Key.Has(form) || t.Of != nil && t.Of.Has(form) {
		return true
	}
	return slices.ContainsFunc(t.Parts, func(p Param) bool { return p.Type.Has(form) })
}

// String returns a type as a contract would write it.
func (t *Type) String() string {
	reals := func(name string) string {
		if t.Per == 0 {
			return name
		}
		return fmt.Sprintf("%s %s..%s step %s", name, t.Decimal(t.Low), t.Decimal(t.High), t.Decimal(1)) + t.packing()
	}
	switch t.Form {
	case FormInt:
		if t.Low == 0 && t.High == 0 {
			return "int"
		}
		return fmt.Sprintf("int %d..%d", t.Low, t.High) + t.packing()
	case FormTime:
		if t.Low == 0 && t.High == 0 {
			return "time"
		}
		return fmt.Sprintf("time %s..%s", TimeText(t.Low), TimeText(t.High)) + t.packing()
	case FormReal, FormVec2, FormVec3:
		return reals(string(t.Form))
	case FormDirection, FormRotation:
		return fmt.Sprintf("%s step %s", t.Form, t.Decimal(1))
	case FormText:
		if t.Max == 0 {
			return "text"
		}
		if t.Chars != "" {
			return fmt.Sprintf("text max %d of %q", t.Max, t.Chars)
		}
		return fmt.Sprintf("text max %d", t.Max)
	case FormEnum:
		return t.Enum.Name
	case FormStacks:
		words := fmt.Sprintf("stacks<%s> max %d each %d", t.Enum.Name, t.Max, t.Each)
		if t.Slotted {
			words += " slotted"
		}
		return words
	case FormList:
		return fmt.Sprintf("list<%s> max %d", t.Of, t.Max)
	case FormMap:
		return fmt.Sprintf("map<%s, %s> max %d", t.Key, t.Of, t.Max)
	case FormRecord:
		return t.Name
	case FormEntity:
		if t.Name != "" {
			return "ref " + t.Name
		}
		return "ref " + strings.Join(t.Names, " or ")
	case FormKind:
		return "kind of [" + strings.Join(t.Names, ", ") + "]"
	}
	return string(t.Form)
}

// Real returns the real that a count of steps stands for.
func (t *Type) Real(count int64) float64 { return float64(count*t.Unit) / float64(t.Per) }

// Steps returns the count of steps that is nearest to a real, an even one when two are; ok is false for what is not
// finite. The result may lie outside of the type's range.
func (t *Type) Steps(v float64) (count int64, ok bool) {
	n := math.RoundToEven(float64(v*float64(t.Per)) / float64(t.Unit))
	if math.IsNaN(n) || math.IsInf(v, 0) {
		return 0, false
	}
	return int64(min(max(n, -1<<62), 1<<62)), true
}

// Angle returns the steps of the direction of a vector; ok is false for one without a direction.
func (t *Type) Angle(x, y float64) (count int64, ok bool) {
	if x == 0 && y == 0 || math.IsNaN(x+y) || math.IsInf(x, 0) || math.IsInf(y, 0) {
		return 0, false
	}
	n, ok := t.Steps(math.Atan2(y, x))
	return min(max(n, t.Low), t.High), ok
}

// Vector returns the vector of length 1 that a count of steps of a direction stands for.
func (t *Type) Vector(count int64) (x, y float64) {
	y, x = math.Sincos(t.Real(count))
	return x, y
}

// Within reports whether a number is in the range of a type that has one.
func (t *Type) Within(n int64) bool {
	if !t.Whole() && t.Per == 0 {
		return true
	}
	return n >= t.Low && n <= t.High
}

// Allows reports whether a text may hold what it holds; the error says what is wrong with it.
func (t *Type) Allows(text string) error {
	if n := utf8.RuneCountInString(text); n > t.Max {
		return fmt.Errorf("has %d characters, at most %d are allowed", n, t.Max)
	}
	if t.Chars == "" {
		return nil
	}
	for _, r := range text {
		if !charIn(t.Chars, r) {
			return fmt.Errorf("holds %q, only %q are allowed", r, t.Chars)
		}
	}
	return nil
}

// Character returns a character that a text of the type may hold, or with false one that it may not; 0 when there is
// none that comes to mind.
func (t *Type) Character(allowed bool) rune {
	for _, r := range "a0 A-~é\x01" + t.Chars {
		if (t.Chars == "" || charIn(t.Chars, r)) == allowed {
			return r
		}
	}
	return 0
}

// MadeOf reports whether a text has no characters but those of a list such as `a-z0-9 -`.
func MadeOf(text, chars string) bool {
	for _, r := range text {
		if !charIn(chars, r) {
			return false
		}
	}
	return true
}

// charIn reports whether a character is in a list such as `a-z0-9 -`: a `-` between two characters means all from one
// to the other, at either end itself.
func charIn(chars string, r rune) bool {
	list := []rune(chars)
	for i := 0; i < len(list); i++ {
		if i+2 < len(list) && list[i+1] == '-' {
			if r >= list[i] && r <= list[i+2] {
				return true
			}
			i += 2
		} else if list[i] == r {
			return true
		}
	}
	return false
}

// Decimal returns a count of steps as the decimal number that it stands for.
func (t *Type) Decimal(count int64) string { return strconv.FormatFloat(t.Real(count), 'f', -1, 64) }

// Value is a value outside a running world: a default, an argument, what a copy holds. Which field counts, the type
// says: Text for a text; Parts for a vector (its counts), a record (its fields), a list, and a map or stacks (pairs);
// else Num. An empty slot of slotted stacks is a pair with a count of 0; the last slot of a value is none.
type Value struct {
	Num   int64
	Text  string
	Parts []Value
}

// Nothing is the Num of a client that is none; a ref to nothing is 0.
const Nothing = -1

// Equal compares two values of one type.
func (v Value) Equal(w Value) bool {
	return v.Num == w.Num && v.Text == w.Text && slices.EqualFunc(v.Parts, w.Parts, Value.Equal)
}

// AppendSlots appends the slots that hold a value; text returns the number of a text. A map's pairs are put in the
// order of its keys.
func (t *Type) AppendSlots(dst []int64, v Value, text func(string) int64) []int64 {
	from := len(dst)
	switch t.Form {
	case FormText:
		return append(dst, text(v.Text))
	case FormVec2, FormVec3, FormRotation:
		for _, part := range v.Parts {
			dst = append(dst, part.Num)
		}
		return dst
	case FormRecord:
		for i, part := range v.Parts {
			dst = t.Parts[i].Type.AppendSlots(dst, part, text)
		}
		return dst
	case FormStacks:
		for _, part := range v.Parts {
			dst = append(dst, part.Parts[0].Num, part.Parts[1].Num)
		}
	case FormList:
		dst = append(dst, int64(len(v.Parts)))
		for _, part := range v.Parts {
			dst = t.Of.AppendSlots(dst, part, text)
		}
	case FormMap:
		dst = append(dst, int64(len(v.Parts)))
		for _, part := range slices.SortedFunc(slices.Values(v.Parts), func(a, b Value) int {
			return cmp.Or(cmp.Compare(a.Parts[0].Num, b.Parts[0].Num), cmp.Compare(a.Parts[0].Text, b.Parts[0].Text))
		}) {
			dst = t.Of.AppendSlots(t.Key.AppendSlots(dst, part.Parts[0], text), part.Parts[1], text)
		}
	default:
		return append(dst, v.Num)
	}
	for len(dst) < from+t.Width() {
		dst = append(dst, 0)
	}
	return dst
}

// FromSlots reads the value that slots hold; text returns the text of a number.
func (t *Type) FromSlots(slots []int64, text func(int64) string) Value {
	var v Value
	switch t.Form {
	case FormText:
		return Value{Text: text(slots[0])}
	case FormVec2, FormVec3, FormRotation:
		for _, n := range slots[:t.Width()] {
			v.Parts = append(v.Parts, Value{Num: n})
		}
		return v
	case FormRecord:
		for _, p := range t.Parts {
			v.Parts = append(v.Parts, p.Type.FromSlots(slots, text))
			slots = slots[p.Type.Width():]
		}
		return v
	case FormStacks:
		used := 0 // without slots, the first empty one is behind all others
		for i := 0; i < 2*t.Max && (slots[i+1] > 0 || t.Slotted); i += 2 {
			v.Parts = append(v.Parts, Value{Parts: []Value{{Num: slots[i]}, {Num: slots[i+1]}}})
			if slots[i+1] > 0 {
				used = len(v.Parts)
			}
		}
		v.Parts = v.Parts[:used]
		return v
	case FormList, FormMap:
		n := slots[0]
		slots = slots[1:]
		for range n {
			var part Value
			if t.Form == FormMap {
				part = Value{Parts: []Value{t.Key.FromSlots(slots, text), {}}}
				slots = slots[t.Key.Width():]
				part.Parts[1] = t.Of.FromSlots(slots, text)
			} else {
				part = t.Of.FromSlots(slots, text)
			}
			slots = slots[t.Of.Width():]
			v.Parts = append(v.Parts, part)
		}
		return v
	}
	return Value{Num: slots[0]}
}

// timeUnits are the units in which a contract writes times, in milliseconds, the greatest first.
var timeUnits = []struct {
	name string
	ms   int64
}{{"min", 60_000}, {"s", 1000}, {"ms", 1}}

// TimeText returns milliseconds as a contract writes a time: in the greatest unit of which it is a whole number.
func TimeText(ms int64) string {
	if ms == 0 {
		return "0s"
	}
	for _, u := range timeUnits {
		if ms%u.ms == 0 {
			return fmt.Sprintf("%d%s", ms/u.ms, u.name)
		}
	}
	return ""
}

// parseTime reads a time in JSON: a number of milliseconds, or a text as a contract writes it.
func parseTime(raw []byte) (int64, error) {
	var text string
	if !quoted(raw) || json.Unmarshal(raw, &text) != nil {
		return parseWhole(raw)
	}
	for _, u := range timeUnits {
		number, has := strings.CutSuffix(text, u.name)
		n, err := strconv.ParseInt(number, 10, 64)
		if has && err == nil && n <= math.MaxInt64/u.ms && n >= math.MinInt64/u.ms {
			return n * u.ms, nil
		}
	}
	return parseWhole(raw)
}

// Refs returns a value with each ref in it put through f.
func (t *Type) Refs(v Value, f func(int64) int64) Value {
	switch t.Form {
	case FormEntity:
		return Value{Num: f(v.Num)}
	case FormList, FormMap, FormRecord:
		out := Value{Parts: make([]Value, len(v.Parts))}
		for i, part := range v.Parts {
			switch t.Form {
			case FormList:
				out.Parts[i] = t.Of.Refs(part, f)
			case FormRecord:
				out.Parts[i] = t.Parts[i].Type.Refs(part, f)
			default:
				out.Parts[i] = Value{Parts: []Value{t.Key.Refs(part.Parts[0], f), t.Of.Refs(part.Parts[1], f)}}
			}
		}
		return out
	}
	return v
}

// AppendJSON appends a value as JSON: true, 42, "a text", "patch", [1.5,-2] for a vector, 0.79 for a direction
// (radians), [["flare",3],["patch",1]] for stacks and maps, with null for an empty slot, [1,2] for a list, {"at":1} for
// a record, 3 or null for refs and clients.
func (t *Type) AppendJSON(dst []byte, v Value) []byte {
	each := func(open, end byte, one func(dst []byte, i int) []byte) []byte {
		dst = append(dst, open)
		for i := range v.Parts {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = one(dst, i)
		}
		return append(dst, end)
	}
	pair := func(key, value *Type) []byte {
		return each('[', ']', func(dst []byte, i int) []byte {
			if t.Slotted && v.Parts[i].Parts[1].Num == 0 {
				return append(dst, "null"...)
			}
			dst = key.AppendJSON(append(dst, '['), v.Parts[i].Parts[0])
			return append(value.AppendJSON(append(dst, ','), v.Parts[i].Parts[1]), ']')
		})
	}
	switch t.Form {
	case FormBool:
		return strconv.AppendBool(dst, v.Num != 0)
	case FormReal, FormDirection:
		return strconv.AppendFloat(dst, t.Real(v.Num), 'f', -1, 64)
	case FormVec2, FormVec3, FormRotation:
		return each('[', ']', func(dst []byte, i int) []byte {
			return strconv.AppendFloat(dst, t.Real(v.Parts[i].Num), 'f', -1, 64)
		})
	case FormText:
		return appendText(dst, v.Text)
	case FormEnum:
		return appendText(dst, t.Enum.Values[v.Num])
	case FormKind:
		return appendText(dst, t.Names[v.Num])
	case FormStacks:
		return pair(&Type{Form: FormEnum, Enum: t.Enum}, &Type{Form: FormInt})
	case FormMap:
		return pair(t.Key, t.Of)
	case FormList:
		return each('[', ']', func(dst []byte, i int) []byte { return t.Of.AppendJSON(dst, v.Parts[i]) })
	case FormRecord:
		return each('{', '}', func(dst []byte, i int) []byte {
			dst = append(appendText(dst, t.Parts[i].Name), ':')
			return t.Parts[i].Type.AppendJSON(dst, v.Parts[i])
		})
	case FormEntity:
		if v.Num == 0 {
			return append(dst, "null"...)
		}
	case FormClient:
		if v.Num == Nothing {
			return append(dst, "null"...)
		}
	}
	return appendWhole(dst, v.Num)
}

// maxSafe is the greatest whole number that every reader of JSON takes as it stands; many read numbers as doubles. One
// that is further from 0 is written as a text.
const maxSafe = 1<<53 - 1

// appendWhole appends a whole number as JSON; beyond what a double holds exactly, as a text.
func appendWhole(dst []byte, n int64) []byte {
	if n >= -maxSafe && n <= maxSafe {
		return strconv.AppendInt(dst, n, 10)
	}
	return append(strconv.AppendInt(append(dst, '"'), n, 10), '"')
}

// parseWhole reads what appendWhole writes, and any whole number that stands as a number.
func parseWhole(raw []byte) (int64, error) {
	text := string(raw)
	inner, quoted := strings.CutPrefix(text, `"`)
	if quoted {
		text = strings.TrimSuffix(inner, `"`)
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err == nil && quoted && (len(inner) == len(text) || n >= -maxSafe && n <= maxSafe) {
		err = errors.New("it is a text")
	}
	return n, err
}

// wide is a whole number in JSON, as appendWhole writes it.
type wide int64

// MarshalJSON implements json.Marshaler: see appendWhole.
func (w wide) MarshalJSON() ([]byte, error) { return appendWhole(nil, int64(w)), nil }

// UnmarshalJSON implements json.Unmarshaler. It takes a number or a text.
func (w *wide) UnmarshalJSON(raw []byte) error {
	n, err := parseWhole(raw)
	if err != nil {
		return fmt.Errorf("read the bound %.40q of a type: it is no whole number of 64 bits", raw)
	}
	*w = wide(n)
	return nil
}

// bare is a Type without its methods, and bounded one whose bounds may be too great for a number in JSON.
type (
	bare    Type
	bounded struct {
		*bare
		Low  wide `json:"low,omitempty"`
		High wide `json:"high,omitempty"`
	}
)

// MarshalJSON writes a type as outlines have it.
func (t *Type) MarshalJSON() ([]byte, error) {
	return json.Marshal(bounded{(*bare)(t), wide(t.Low), wide(t.High)})
}

// UnmarshalJSON reads a type of an outline.
func (t *Type) UnmarshalJSON(raw []byte) error {
	b := bounded{bare: (*bare)(t)}
	if err := json.Unmarshal(raw, &b); err != nil {
		return err
	}
	t.Low = int64(b.Low)
	t.High = int64(b.High)
	return nil
}

// appendText appends a text as JSON.
func appendText(dst []byte, text string) []byte {
	raw, _ := json.Marshal(text) // a string always marshals
	return append(dst, raw...)
}

// ParseJSON reads a value as AppendJSON writes it. The error says what is wrong and what would be right.
//
//revive:disable-next-line:function-length It is one switch.
func (t *Type) ParseJSON(raw []byte) (Value, error) {
	raw = bytes.TrimSpace(raw)
	found := strings.ToValidUTF8(string(raw[:min(len(raw), 40)]), "")
	if len(raw) > 40 {
		found += "…"
	}
	wrong := func(want string) (Value, error) {
		return Value{}, fmt.Errorf("is %s, not %s", found, want)
	}
	switch t.Form {
	case FormBool:
		switch string(raw) {
		case "true":
			return Value{Num: 1}, nil
		case "false":
			return Value{}, nil
		}
		return wrong("true or false")
	case FormInt:
		n, err := parseWhole(raw)
		if err != nil || n < t.Low || n > t.High {
			return wrong(fmt.Sprintf("a whole number from %d to %d", t.Low, t.High))
		}
		return Value{Num: n}, nil
	case FormTime:
		n, err := parseTime(raw)
		if err != nil || n < t.Low || n > t.High {
			return wrong(
				fmt.Sprintf("a time from %s to %s, such as \"400ms\" or 400", TimeText(t.Low), TimeText(t.High)),
			)
		}
		return Value{Num: n}, nil
	case FormReal:
		n, ok := t.count(raw)
		if !ok {
			return wrong(fmt.Sprintf("a number from %s to %s", t.Decimal(t.Low), t.Decimal(t.High)))
		}
		return Value{Num: n}, nil
	case FormDirection:
		return t.parseDirection(raw, wrong)
	case FormVec2, FormVec3, FormRotation:
		return t.parseVector(raw, wrong)
	case FormText:
		var s string
		if !quoted(raw) || json.Unmarshal(raw, &s) != nil {
			return wrong("a text")
		}
		if err := t.Allows(s); err != nil {
			return Value{}, err
		}
		return Value{Text: s}, nil
	case FormEnum:
		n, ok := word(raw, t.Enum.Values)
		if !ok {
			return wrong("one of " + strings.Join(t.Enum.Values, ", "))
		}
		return Value{Num: n}, nil
	case FormKind:
		n, ok := word(raw, t.Names)
		if !ok {
			return wrong("one of " + strings.Join(t.Names, ", "))
		}
		return Value{Num: n}, nil
	case FormEntity:
		if string(raw) == "null" {
			return Value{}, nil
		}
		n, err := strconv.ParseUint(string(raw), 10, 32)
		if err != nil {
			return wrong("the number of an entity, or null")
		}
		return Value{Num: int64(n)}, nil
	case FormClient:
		if string(raw) == "null" {
			return Value{Num: Nothing}, nil
		}
		n, err := strconv.ParseUint(string(raw), 10, 31)
		if err != nil {
			return wrong("the number of a client, 0 for the server, or null")
		}
		return Value{Num: int64(n)}, nil
	case FormInstant:
		n, err := parseWhole(raw) // below 0 before the session began
		if err != nil {
			return wrong("a time of the session's clock in milliseconds")
		}
		return Value{Num: n}, nil
	case FormStacks:
		out, err := t.pairs(raw, wrong, &Type{Form: FormEnum, Enum: t.Enum}, &Type{Form: FormInt, Low: 1, High: t.Each})
		return out, err
	case FormMap:
		return t.parseMap(raw, wrong)
	case FormList:
		return t.parseList(raw, wrong)
	case FormRecord:
		return t.parseRecord(raw, wrong)
	}
	return Value{}, fmt.Errorf("a value of the type %s cannot be sent", t)
}

// parseVector reads a vector or a rotation, which is a unit quaternion [x, y, z, w]: any other quaternion is made one.
func (t *Type) parseVector(raw []byte, wrong func(want string) (Value, error)) (Value, error) {
	v, ok := floats(raw, t.Reals())
	if !ok {
		return wrong(fmt.Sprintf("a list of %d numbers", t.Reals()))
	}
	if t.Form == FormRotation {
		length := math.Sqrt(float64(v[0]*v[0]) + float64(v[1]*v[1]) + float64(v[2]*v[2]) + float64(v[3]*v[3]))
		if length == 0 || math.IsInf(length, 0) {
			return wrong("a quaternion [x, y, z, w]")
		}
		// One that was rounded to steps before stays as it is.
		rounded := math.Abs(length-1) <= 2*float64(t.Unit)/float64(t.Per)
		for _, f := range v {
			n, ok := t.Steps(f)
			rounded = rounded && ok && t.Real(n) == f
		}
		if !rounded {
			for i := range v {
				v[i] /= length
			}
		}
	}
	var out Value
	for _, f := range v {
		n, ok := t.Steps(f)
		if !ok || n < t.Low || n > t.High {
			return wrong(fmt.Sprintf("%d numbers from %s to %s", t.Reals(), t.Decimal(t.Low), t.Decimal(t.High)))
		}
		out.Parts = append(out.Parts, Value{Num: n})
	}
	return out, nil
}

// parseDirection reads a direction: an angle, or a vector of any length but 0.
func (t *Type) parseDirection(raw []byte, wrong func(want string) (Value, error)) (Value, error) {
	if v, ok := floats(raw, 2); ok {
		if n, ok := t.Angle(v[0], v[1]); ok {
			return Value{Num: n}, nil
		}
		return wrong("a vector that has a direction")
	}
	n, ok := t.count(raw)
	if !ok {
		return wrong("an angle in radians from -π to π, or a vector [x, y]")
	}
	return Value{Num: n}, nil
}

// parseList reads a list of at most as many values as it may have.
func (t *Type) parseList(raw []byte, wrong func(want string) (Value, error)) (Value, error) {
	var items []json.RawMessage
	if json.Unmarshal(raw, &items) != nil || len(items) > t.Max || string(raw) == "null" {
		return wrong(fmt.Sprintf("a list of at most %d values", t.Max))
	}
	var out Value
	for i, item := range items {
		v, err := t.Of.ParseJSON(item)
		if err != nil {
			return Value{}, fmt.Errorf("has a value (number %d) that %w", i+1, err)
		}
		out.Parts = append(out.Parts, v)
	}
	return out, nil
}

// parseMap reads a map, a list of pairs in which each key stands once.
func (t *Type) parseMap(raw []byte, wrong func(want string) (Value, error)) (Value, error) {
	out, err := t.pairs(raw, wrong, t.Key, t.Of)
	if err != nil {
		return out, err
	}
	for i, p := range out.Parts {
		if slices.ContainsFunc(out.Parts[:i], func(q Value) bool { return q.Parts[0].Equal(p.Parts[0]) }) {
			return wrong("a map with each key once")
		}
	}
	return out, nil
}

// parseRecord reads a record, which has to have all of its fields and no other.
func (t *Type) parseRecord(raw []byte, wrong func(want string) (Value, error)) (Value, error) {
	var fields map[string]json.RawMessage
	if json.Unmarshal(raw, &fields) != nil || len(fields) != len(t.Parts) {
		return wrong(fmt.Sprintf("a %s with the fields %s", t.Name, strings.Join(t.FieldNames(), ", ")))
	}
	var out Value
	for _, p := range t.Parts {
		field, ok := fields[p.Name]
		if !ok {
			return Value{}, fmt.Errorf("has no field %q", p.Name)
		}
		v, err := p.Type.ParseJSON(field)
		if err != nil {
			return Value{}, fmt.Errorf("has a field `%s` that %w", p.Name, err)
		}
		out.Parts = append(out.Parts, v)
	}
	return out, nil
}

// FieldNames returns the names of a record's fields.
func (t *Type) FieldNames() []string {
	var out []string
	for _, p := range t.Parts {
		out = append(out, p.Name)
	}
	return out
}

// count reads a number as a count of steps within the range. What is no JSON number, such as 0x1p4 or NaN, has a letter
// in it that no number has.
func (t *Type) count(raw []byte) (int64, bool) {
	f, err := strconv.ParseFloat(string(raw), 64)
	n, ok := t.Steps(f)
	return n, err == nil && ok && json.Valid(raw) && n >= t.Low && n <= t.High
}

// floats reads a JSON list of n numbers.
func floats(raw []byte, n int) ([]float64, bool) {
	var v []*float64
	if json.Unmarshal(raw, &v) != nil || len(v) != n || slices.Contains(v, nil) {
		return nil, false
	}
	out := make([]float64, n)
	for i, f := range v {
		out[i] = *f
	}
	return out, true
}

// pairs reads the JSON form of stacks and maps: a list of pairs of a key and a value. wrong makes the error for what is
// none.
func (t *Type) pairs(raw []byte, wrong func(string) (Value, error), key, value *Type) (Value, error) {
	var pairs [][]json.RawMessage
	if json.Unmarshal(raw, &pairs) != nil || len(pairs) > t.Max || string(raw) == "null" {
		return wrong(fmt.Sprintf("a list of at most %d pairs of a %s and a %s", t.Max, key, value))
	}
	var out Value
	for i, pair := range pairs {
		if pair == nil && t.Slotted {
			out.Parts = append(out.Parts, Value{Parts: []Value{{}, {}}})
			continue
		}
		if len(pair) != 2 {
			return wrong(fmt.Sprintf("a list of pairs of a %s and a %s", key, value))
		}
		a, err := key.ParseJSON(pair[0])
		if err != nil {
			return Value{}, fmt.Errorf("has a pair (number %d) whose first %w", i+1, err)
		}
		b, err := value.ParseJSON(pair[1])
		if err != nil {
			return Value{}, fmt.Errorf("has a pair (number %d) whose second %w", i+1, err)
		}
		out.Parts = append(out.Parts, Value{Parts: []Value{a, b}})
	}
	for t.Slotted && len(out.Parts) > 0 && out.Parts[len(out.Parts)-1].Parts[1].Num == 0 {
		out.Parts = out.Parts[:len(out.Parts)-1]
	}
	return out, nil
}

// quoted reports whether JSON is a text.
func quoted(raw []byte) bool { return len(raw) > 0 && raw[0] == '"' }

// word reads a JSON text that is one of some names.
func word(raw []byte, names []string) (int64, bool) {
	var s string
	if !quoted(raw) || json.Unmarshal(raw, &s) != nil {
		return 0, false
	}
	i := slices.Index(names, s)
	return int64(i), i >= 0
}

// Format returns a value as text for people: `patch`, `3 flare, 1 patch`, `(1.5, -2)`, `42`.
func (t *Type) Format(v Value) string {
	join := func(open, end, empty string, one func(i int) string) string {
		if len(v.Parts) == 0 {
			return empty
		}
		parts := make([]string, len(v.Parts))
		for i := range v.Parts {
			parts[i] = one(i)
		}
		return open + strings.Join(parts, ", ") + end
	}
	switch t.Form {
	case FormText:
		return strconv.Quote(v.Text)
	case FormInt:
		return strconv.FormatInt(v.Num, 10)
	case FormTime:
		return TimeText(v.Num)
	case FormEnum:
		return t.Enum.Values[v.Num]
	case FormKind:
		return t.Names[v.Num]
	case FormStacks:
		if t.Slotted {
			return t.formatSlots(v)
		}
		return join("", "", "empty", func(i int) string {
			return fmt.Sprintf("%d %s", v.Parts[i].Parts[1].Num, t.Enum.Values[v.Parts[i].Parts[0].Num])
		})
	case FormVec2, FormVec3, FormRotation:
		return join("(", ")", "", func(i int) string { return t.Decimal(v.Parts[i].Num) })
	case FormList:
		return join("[", "]", "empty", func(i int) string { return t.Of.Format(v.Parts[i]) })
	case FormMap:
		return join("", "", "empty", func(i int) string {
			return t.Key.Format(v.Parts[i].Parts[0]) + ": " + t.Of.Format(v.Parts[i].Parts[1])
		})
	case FormRecord:
		return join("(", ")", "()", func(i int) string {
			return t.Parts[i].Name + " " + t.Parts[i].Type.Format(v.Parts[i])
		})
	case FormEntity:
		if v.Num == 0 {
			return "nothing"
		}
		return fmt.Sprintf("%s %d", strings.Join(t.Names, "/"), v.Num)
	case FormClient:
		switch v.Num {
		case 0:
			return "server"
		case Nothing:
			return "nothing"
		}
		return fmt.Sprintf("client %d", v.Num)
	}
	return string(t.AppendJSON(nil, v))
}

// formatSlots returns the slots of stacks that are not empty, with their numbers: `0: 3 flare, 2: 1 patch`.
func (t *Type) formatSlots(v Value) string {
	var parts []string
	for i, p := range v.Parts {
		if n := p.Parts[1].Num; n > 0 {
			parts = append(parts, fmt.Sprintf("%d: %d %s", i, n, t.Enum.Values[p.Parts[0].Num]))
		}
	}
	if len(parts) == 0 {
		return "empty"
	}
	return strings.Join(parts, ", ")
}

// Word turns a word from a command line into JSON for a value of the type. What does not fit is passed on as it stands,
// so that a forged request can be sent by hand.
func (t *Type) Word(word string) json.RawMessage {
	if t.Form == FormEnum || t.Form == FormText || t.Form == FormKind {
		return appendText(nil, word)
	}
	return RawWord(word)
}

// RawWord is Word where no type is known: JSON as it stands, anything else as a text.
func RawWord(word string) json.RawMessage {
	if json.Valid([]byte(word)) {
		return json.RawMessage(word)
	}
	return appendText(nil, word)
}
