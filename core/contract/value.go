package contract

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Form is the shape of a type.
type Form string

// The forms of types. The last three never stand in a contract's text: they are what self, caller and a role are.
const (
	FormBool   Form = "bool"
	FormInt    Form = "int"
	FormReal   Form = "real"
	FormText   Form = "text"
	FormEnum   Form = "enum"
	FormStacks Form = "stacks"
	FormEntity Form = "entity"
	FormClient Form = "client"
	FormRole   Form = "role"
)

// Type is the type of a property, an argument or an expression. It is part of the outline that clients get.
type Type struct {
	Form Form  `json:"form"`
	Low  int64 `json:"low,omitempty"`  // int; real: in steps
	High int64 `json:"high,omitempty"` // int; real: in steps
	// Of a real: a step is Unit/Per, and one of the two is 1. A value is held as a count of steps c and reads as the double
	// (c*Unit)/Per, one correctly rounded division. Per is 0 for a real in an expression, which is a double.
	Per  int64 `json:"per,omitempty"`
	Unit int64 `json:"unit,omitempty"`
	Max  int   `json:"max,omitempty"`  // text: characters; stacks: how many
	Each int64 `json:"each,omitempty"` // stacks: the greatest count of one
	Enum *Enum `json:"enum,omitempty"` // enum, stacks
	Kind *Kind `json:"-"`              // entity
}

// IsText tells whether values of the type are texts; all others but stacks are one number.
func (t *Type) IsText() bool { return t.Form == FormText }

// String words a type as a contract would.
func (t *Type) String() string {
	switch t.Form {
	case FormInt:
		if t.Low == 0 && t.High == 0 {
			return "int"
		}
		return fmt.Sprintf("int %d..%d", t.Low, t.High)
	case FormReal:
		if t.Per == 0 {
			return "real"
		}
		return fmt.Sprintf("real %s..%s step %s", t.decimal(t.Low), t.decimal(t.High), t.decimal(1))
	case FormText:
		if t.Max == 0 {
			return "text"
		}
		return fmt.Sprintf("text max %d", t.Max)
	case FormEnum:
		return t.Enum.Name
	case FormStacks:
		return fmt.Sprintf("stacks<%s> max %d each %d", t.Enum.Name, t.Max, t.Each)
	case FormEntity:
		return "entity " + t.Kind.Name
	}
	return string(t.Form)
}

// Real gives the real that a count of steps stands for.
func (t *Type) Real(count int64) float64 { return float64(count*t.Unit) / float64(t.Per) }

// Steps gives the count of steps that is nearest to a real, an even one when two are; ok is false for what is not finite. The
// result may lie outside of the type's range.
func (t *Type) Steps(v float64) (count int64, ok bool) {
	n := math.RoundToEven(float64(v*float64(t.Per)) / float64(t.Unit))
	if math.IsNaN(n) || math.IsInf(v, 0) {
		return 0, false
	}
	return int64(min(max(n, -1<<62), 1<<62)), true
}

// Within tells whether a number is in the range of a type that has one.
func (t *Type) Within(n int64) bool {
	return t.Form != FormInt && (t.Form != FormReal || t.Per == 0) || n >= t.Low && n <= t.High
}

func (t *Type) decimal(count int64) string { return strconv.FormatFloat(t.Real(count), 'f', -1, 64) }

// Value is a value outside a running world: a default, an argument, what a copy holds. Which field counts, the type says.
type Value struct {
	Num    int64
	Text   string
	Stacks []Stack
}

// Stack is one stack of an inventory: an item (index of its enum) and how many of it.
type Stack struct {
	Item  int64
	Count int64
}

// Equal compares two values of one type.
func (v Value) Equal(w Value) bool {
	return v.Num == w.Num && v.Text == w.Text && slices.Equal(v.Stacks, w.Stacks)
}

// AppendJSON appends a value as JSON: true, 42, "a text", "patch", [["flare",3],["patch",1]].
func (t *Type) AppendJSON(dst []byte, v Value) []byte {
	switch t.Form {
	case FormBool:
		return strconv.AppendBool(dst, v.Num != 0)
	case FormReal:
		return strconv.AppendFloat(dst, t.Real(v.Num), 'f', -1, 64)
	case FormText:
		return appendText(dst, v.Text)
	case FormEnum:
		return appendText(dst, t.Enum.Values[v.Num])
	case FormStacks:
		dst = append(dst, '[')
		for i, s := range v.Stacks {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = append(dst, '[')
			dst = appendText(dst, t.Enum.Values[s.Item])
			dst = append(dst, ',')
			dst = strconv.AppendInt(dst, s.Count, 10)
			dst = append(dst, ']')
		}
		return append(dst, ']')
	}
	return strconv.AppendInt(dst, v.Num, 10)
}

func appendText(dst []byte, text string) []byte {
	raw, _ := json.Marshal(text) // a string always marshals
	return append(dst, raw...)
}

// ParseJSON reads a value as AppendJSON writes it. The error says what is wrong and what would be right.
func (t *Type) ParseJSON(raw []byte) (Value, error) {
	raw = bytes.TrimSpace(raw)
	found := string(raw)
	if len(found) > 40 {
		found = strings.ToValidUTF8(found[:40], "") + "…"
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
		n, err := strconv.ParseInt(string(raw), 10, 64)
		if err != nil || n < t.Low || n > t.High {
			return wrong(fmt.Sprintf("a whole number from %d to %d", t.Low, t.High))
		}
		return Value{Num: n}, nil
	case FormReal:
		// What is no JSON number, such as 0x1p4 or NaN, has a letter in it that no number has.
		f, err := strconv.ParseFloat(string(raw), 64)
		n, ok := t.Steps(f)
		if err != nil || !ok || !json.Valid(raw) || n < t.Low || n > t.High {
			return wrong(fmt.Sprintf("a number from %s to %s", t.decimal(t.Low), t.decimal(t.High)))
		}
		return Value{Num: n}, nil
	case FormText:
		var s string
		if !quoted(raw) || json.Unmarshal(raw, &s) != nil {
			return wrong("a text")
		}
		if n := utf8.RuneCountInString(s); n > t.Max {
			return Value{}, fmt.Errorf("has %d characters, at most %d are allowed", n, t.Max)
		}
		return Value{Text: s}, nil
	case FormEnum:
		n, err := t.item(raw)
		if err != nil {
			return wrong("one of " + strings.Join(t.Enum.Values, ", "))
		}
		return Value{Num: n}, nil
	case FormStacks:
		var pairs [][]json.RawMessage
		if json.Unmarshal(raw, &pairs) != nil || len(pairs) > t.Max {
			return wrong(fmt.Sprintf("a list of at most %d pairs such as [%q, 1]", t.Max, t.Enum.Values[0]))
		}
		var out Value
		for _, pair := range pairs {
			if len(pair) != 2 {
				return wrong("a list of pairs of an item and a count")
			}
			item, err := t.item(pair[0])
			count, err2 := strconv.ParseInt(string(pair[1]), 10, 64)
			if err != nil || err2 != nil || count < 1 || count > t.Each {
				return wrong(fmt.Sprintf("a list of pairs of a %s and a count from 1 to %d", t.Enum.Name, t.Each))
			}
			out.Stacks = append(out.Stacks, Stack{item, count})
		}
		return out, nil
	}
	return Value{}, fmt.Errorf("a value of the type %s cannot be sent", t)
}

func quoted(raw []byte) bool { return len(raw) > 0 && raw[0] == '"' }

func (t *Type) item(raw []byte) (int64, error) {
	var s string
	if !quoted(raw) || json.Unmarshal(raw, &s) != nil {
		return 0, fmt.Errorf("not a name")
	}
	if i := slices.Index(t.Enum.Values, s); i >= 0 {
		return int64(i), nil
	}
	return 0, fmt.Errorf("unknown")
}

// Format words a value for people: `patch`, `3 flare, 1 patch`, `42`.
func (t *Type) Format(v Value) string {
	switch t.Form {
	case FormText:
		return strconv.Quote(v.Text)
	case FormEnum:
		return t.Enum.Values[v.Num]
	case FormStacks:
		if len(v.Stacks) == 0 {
			return "empty"
		}
		parts := make([]string, len(v.Stacks))
		for i, s := range v.Stacks {
			parts[i] = fmt.Sprintf("%d %s", s.Count, t.Enum.Values[s.Item])
		}
		return strings.Join(parts, ", ")
	}
	return string(t.AppendJSON(nil, v))
}

// Word turns a word from a command line into JSON for a value of the type. What does not fit is passed on as it stands,
// so that a forged request can be sent by hand.
func (t *Type) Word(word string) json.RawMessage {
	if t.Form == FormEnum || t.Form == FormText {
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
