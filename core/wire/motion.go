package wire

import (
	"encoding/json"
	"fmt"

	"kamerad/core/contract"
)

// Motion says that a property moves by itself: at the tick At it was at From, and it moves by Rate each second. While that holds
// nothing is sent, and server and copies compute the same value at each tick from the same numbers. It is dead reckoning of the
// first order, as in IEEE 1278.1, computed from the last sent start and never summed.
type Motion struct {
	From, Rate contract.Value
	RateType   *contract.Type
	At         int64
	Ticks      int // a second
}

// Moved tells where something is that has moved at a rate a second for some seconds. The product is rounded by itself, so that
// every copy computes the same.
func Moved(start, rate, seconds float64) float64 { return start + float64(rate*seconds) }

// Value gives where a property of a type is at a tick: on the nearest step, within its range.
func (m *Motion) Value(t *contract.Type, tick int64) contract.Value {
	seconds := float64(tick-m.At) / float64(m.Ticks)
	one := func(from, rate int64) int64 {
		n, _ := t.Steps(Moved(t.Real(from), m.RateType.Real(rate), seconds))
		return min(max(n, t.Low), t.High)
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

// Same tells whether two fields say the same: of what moves, that the motions are the same.
func (f Field) Same(g Field) bool {
	if f.Motion == nil || g.Motion == nil {
		return f.Motion == g.Motion && f.Value.Equal(g.Value)
	}
	return f.Motion.At == g.Motion.At && f.Motion.From.Equal(g.Motion.From) && f.Motion.Rate.Equal(g.Motion.Rate)
}

// appendJSON appends a field's value, or its motion.
func (f Field) appendJSON(dst []byte) []byte {
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
	if m.From, err = t.ParseJSON(in.From); err == nil {
		m.Rate, err = rate.ParseJSON(in.Rate)
	}
	return m, err
}
