package wire

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"kamerad.example/core/contract"
)

// Motion says that a property follows a rate: at the tick At it was From, and it changes by Rate each second. While
// that holds nothing is sent: server and copies compute the same value at each tick from the same numbers. It is dead
// reckoning of the first order, as in IEEE 1278.1, computed from the start that was sent and never summed.
type Motion struct {
	From, Rate contract.Value
	RateType   *contract.Type
	At         int64
	Ticks      int // per second
}

// Extrapolate returns a number that has changed at a rate per second for some seconds. The product is rounded by
// itself, so that no machine fuses the two operations and every copy computes the same.
func Extrapolate(start, rate, seconds float64) float64 { return start + float64(rate*seconds) }

// Value returns the value of a property of a type at a tick: on the nearest step, within the range.
func (m *Motion) Value(t *contract.Type, tick int64) contract.Value {
	seconds := float64(tick-m.At) / float64(m.Ticks)
	one := func(from, rate int64) int64 {
		n, _ := t.Steps(Extrapolate(t.Real(from), m.RateType.Real(rate), seconds))
		return t.Bring(n)
	}
	if len(m.From.Parts) == 0 {
		return contract.Value{Num: one(m.From.Num, m.Rate.Num)}
	}
	out := contract.Value{Parts: make([]contract.Value, len(m.From.Parts))}
	for i := range out.Parts {
		out.Parts[i].Num = one(m.From.Parts[i].Num, m.Rate.Parts[i].Num)
	}
	return out
}

// Attached says that a property equals another one: Prop of the entity that the property Ref refers to, with By added.
// While that entity is there, nothing is sent.
type Attached struct {
	Ref, Prop string
	By        []float64 // by part; nil for none
}

// Value returns the value of a property of type t that is attached to a value of type toType.
func (a *Attached) Value(t *contract.Type, to contract.Value, toType *contract.Type) contract.Value {
	one := func(i int, n int64) int64 {
		v := toType.Real(n)
		if a.By != nil {
			v += a.By[i]
		}
		count, _ := t.Steps(v)
		return t.Bring(count)
	}
	if len(to.Parts) == 0 {
		return contract.Value{Num: one(0, to.Num)}
	}
	out := contract.Value{Parts: make([]contract.Value, len(to.Parts))}
	for i := range out.Parts {
		out.Parts[i].Num = one(i, to.Parts[i].Num)
	}
	return out
}

// Same reports whether two fields say the same. Motions are compared as such, and attachments as such: the values that
// follow from them are left out.
func (f Field) Same(g Field) bool {
	if f.Attached != nil || g.Attached != nil {
		return f.Attached != nil && g.Attached != nil && f.Attached.Ref == g.Attached.Ref &&
			f.Attached.Prop == g.Attached.Prop &&
			slices.Equal(f.Attached.By, g.Attached.By)
	}
	if f.Motion == nil || g.Motion == nil {
		return f.Motion == g.Motion && f.Value.Equal(g.Value)
	}
	return f.Motion.At == g.Motion.At && f.Motion.From.Equal(g.Motion.From) && f.Motion.Rate.Equal(g.Motion.Rate)
}

// appendJSON appends a field's value, or its motion.
func (f Field) appendJSON(dst []byte) []byte {
	if a := f.Attached; a != nil {
		dst = fmt.Appendf(dst, `{"attached":"%s.%s"`, a.Ref, a.Prop)
		if a.By != nil {
			dst = appendMarshalled(append(dst, `,"by":`...), a.By)
		}
		return append(f.Type.AppendJSON(append(dst, `,"is":`...), f.Value), '}')
	}
	m := f.Motion
	if m == nil {
		return f.Type.AppendJSON(dst, f.Value)
	}
	dst = f.Type.AppendJSON(append(dst, `{"from":`...), m.From)
	dst = m.RateType.AppendJSON(append(dst, `,"rate":`...), m.Rate)
	return fmt.Appendf(dst, `,"at":%d}`, m.At)
}

// parseMotion reads what appendJSON wrote.
func parseMotion(raw []byte, t, rate *contract.Type, ticks int) (m *Motion, err error) {
	var in struct {
		From, Rate json.RawMessage
		At         int64
	}
	if err := json.Unmarshal(raw, &in); err != nil || t.Reals() == 0 || rate.Form != t.Form || ticks < 1 {
		return nil, fmt.Errorf("is %.40q, which is no motion", raw)
	}
	m = &Motion{RateType: rate, At: in.At, Ticks: ticks}
	m.From, err = t.ParseJSON(in.From)
	if err == nil {
		m.Rate, err = rate.ParseJSON(in.Rate)
	}
	return m, err
}

// parseAttached reads what appendJSON wrote: to what it is attached, and where it was then.
func parseAttached(raw []byte, t *contract.Type) (a *Attached, is contract.Value, err error) {
	var in struct {
		Attached string
		By       []float64
		Is       json.RawMessage
	}
	a = &Attached{}
	var found bool
	if err := json.Unmarshal(raw, &in); err == nil {
		a.Ref, a.Prop, found = strings.Cut(in.Attached, ".")
	}
	a.By = in.By
	if !found || t.Reals() == 0 || a.By != nil && len(a.By) != t.Reals() {
		return nil, is, fmt.Errorf("is %.40q, which is attached to nothing", raw)
	}
	is, err = t.ParseJSON(in.Is)
	return a, is, err
}
