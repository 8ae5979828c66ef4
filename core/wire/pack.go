package wire

import (
	"math"
	"math/bits"
	"unicode/utf8"

	"kamerad.example/core/contract"
)

// spanOf returns one less than how many values a number of a type may have.
func spanOf(t *contract.Type) uint64 { return uint64(t.High) - uint64(t.Low) }

// isNumeric reports whether changes of a type are sent as differences of its slots: it is made of numbers, as many as
// it has slots.
func isNumeric(t *contract.Type) bool {
	switch t.Form {
	case contract.FormBool, contract.FormInt, contract.FormTime, contract.FormReal, contract.FormDirection,
		contract.FormVec2, contract.FormVec3, contract.FormRotation, contract.FormEnum, contract.FormKind:
		return true
	}
	return false
}

// valueCount returns how many values an enum, or a choice of kinds, has.
func valueCount(t *contract.Type) uint64 {
	if t.Form == contract.FormKind {
		return uint64(len(t.Names))
	}
	return uint64(len(t.Enum.Values))
}

// value writes a whole value.
func (w *bitWriter) value(t *contract.Type, v contract.Value) {
	switch t.Form {
	case contract.FormBool:
		w.put(uint64(v.Num), 1)
	case contract.FormInt, contract.FormTime, contract.FormReal, contract.FormDirection:
		w.number(t, v.Num)
	case contract.FormVec2, contract.FormVec3, contract.FormRotation:
		for _, part := range v.Parts {
			w.number(t, part.Num)
		}
	case contract.FormEnum, contract.FormKind:
		w.below(uint64(v.Num), valueCount(t))
	case contract.FormEntity:
		if w.bit(v.Num != 0); v.Num != 0 {
			w.put(uint64(v.Num), 32)
		}
	case contract.FormClient:
		w.gamma(uint64(v.Num + 1)) // nothing is -1
	case contract.FormInstant:
		w.gamma(zigzag(v.Num)) // it may lie before the session began
	case contract.FormText:
		w.text(v.Text)
	case contract.FormRecord:
		for i, p := range t.Parts {
			w.value(p.Type, v.Parts[i])
		}
	default:
		w.below(uint64(len(v.Parts)), uint64(t.Max)+1)
		for _, part := range v.Parts {
			switch t.Form {
			case contract.FormList:
				w.value(t.Of, part)
			case contract.FormStacks:
				n := part.Parts[1].Num
				if t.Slotted {
					w.bit(n > 0)
				}
				if n > 0 {
					w.below(uint64(part.Parts[0].Num), valueCount(t))
					w.below(uint64(n-1), uint64(t.Each))
				}
			default:
				w.value(t.Key, part.Parts[0])
				w.value(t.Of, part.Parts[1])
			}
		}
	}
}

// number writes a number of a type as its distance from the type's lowest one.
func (w *bitWriter) number(t *contract.Type, n int64) {
	w.put(uint64(n)-uint64(t.Low), uint(bits.Len64(spanOf(t))))
}

// text writes a text: its length in bytes, and these.
func (w *bitWriter) text(s string) {
	w.gamma(uint64(len(s)))
	for i := range len(s) {
		w.put(uint64(s[i]), 8)
	}
}

// value reads a whole value. What is no value of the type sets bad.
func (r *bitReader) value(t *contract.Type) (v contract.Value) {
	switch t.Form {
	case contract.FormBool:
		v.Num = int64(r.get(1))
	case contract.FormInt, contract.FormTime, contract.FormReal, contract.FormDirection:
		v.Num = r.number(t)
	case contract.FormVec2, contract.FormVec3, contract.FormRotation:
		for range t.Reals() {
			v.Parts = append(v.Parts, contract.Value{Num: r.number(t)})
		}
	case contract.FormEnum, contract.FormKind:
		v.Num = int64(r.below(valueCount(t)))
	case contract.FormEntity:
		if r.bit() {
			v.Num = int64(r.get(32))
			r.bad = r.bad || v.Num == 0
		}
	case contract.FormClient:
		v.Num = int64(r.count(1<<31)) - 1
	case contract.FormInstant:
		v.Num = unzigzag(r.gamma())
	case contract.FormText:
		v.Text = r.text(4 * t.Max)
		r.bad = r.bad || t.Allows(v.Text) != nil
	case contract.FormRecord:
		for _, p := range t.Parts {
			v.Parts = append(v.Parts, r.value(p.Type))
		}
	case contract.FormList, contract.FormStacks, contract.FormMap:
		n := r.below(uint64(t.Max) + 1)
		for i := uint64(0); i < n && !r.bad; i++ {
			switch t.Form {
			case contract.FormList:
				v.Parts = append(v.Parts, r.value(t.Of))
			case contract.FormStacks:
				v.Parts = append(v.Parts, r.stack(t, i == n-1))
			default:
				v.Parts = append(v.Parts, contract.Value{Parts: []contract.Value{r.value(t.Key), r.value(t.Of)}})
			}
		}
	default:
		r.bad = true
	}
	return v
}

// stack reads one stack. A slot may be empty, but for the last one.
func (r *bitReader) stack(t *contract.Type, isLast bool) contract.Value {
	if t.Slotted && !r.bit() {
		r.bad = r.bad || isLast
		return contract.Value{Parts: []contract.Value{{}, {}}}
	}
	item := int64(r.below(valueCount(t)))
	count := 1 + int64(r.below(uint64(t.Each)))
	return contract.Value{Parts: []contract.Value{{Num: item}, {Num: count}}}
}

// number reads what bitWriter.number wrote. What is beyond the type's highest number makes the reader bad.
func (r *bitReader) number(t *contract.Type) int64 {
	n := r.get(uint(bits.Len64(spanOf(t))))
	r.bad = r.bad || n > spanOf(t)
	return int64(n + uint64(t.Low))
}

// text reads a text of at most so many characters; one that is longer, or no UTF-8, makes the reader bad.
func (r *bitReader) text(most int) string {
	n := r.count(most)
	if r.at+uint(n)*8 > uint(len(r.buf))*8 {
		r.bad = true
		return ""
	}
	out := make([]byte, n)
	for i := range out {
		out[i] = byte(r.get(8))
	}
	r.bad = r.bad || !utf8.Valid(out)
	return string(out)
}

// difference writes how a value that is made of numbers changed. The two have to differ.
func (w *bitWriter) difference(t *contract.Type, old, now []int64, sizes []estimate) {
	switch t.Form {
	case contract.FormBool: // it is the other one
	case contract.FormEnum, contract.FormKind:
		n := now[0]
		if n > old[0] {
			n--
		}
		w.below(uint64(n), valueCount(t)-1)
	case contract.FormInt, contract.FormTime, contract.FormReal, contract.FormDirection:
		w.step(t, old[0], now[0], 1, &sizes[0])
	default:
		for i := range now {
			w.step(t, old[i], now[i], 0, &sizes[i])
		}
	}
}

// step writes how a number changed, by least or more: in about as many bits as its column's changes usually take, and
// in at most maxOnes more than a whole number.
func (w *bitWriter) step(t *contract.Type, old, now int64, least uint64, size *estimate) {
	d := zigzag(shortest(t, now-old)) - least
	k := size.riceParameter()
	size.add(d)
	if q := d >> k; q < maxOnes {
		w.put(1<<q-1, uint(q)+1)
		w.put(d, k)
		return
	}
	w.put(1<<maxOnes-1, maxOnes)
	w.number(t, now)
}

const maxOnes = 12

// shortest returns a difference of two numbers of a type, of one that wraps by the shorter way around: of two that are
// equally long, up.
func shortest(t *contract.Type, by int64) int64 {
	if !t.Wraps {
		return by
	}
	turn := t.High - t.Low + 1
	switch {
	case by > turn/2:
		return by - turn
	case by <= -(turn+1)/2:
		return by + turn
	}
	return by
}

// difference reads how a value that is made of numbers changed, and returns what it is now.
func (r *bitReader) difference(t *contract.Type, old contract.Value, sizes []estimate) contract.Value {
	number := func(old int64, least uint64, size *estimate) int64 {
		q := uint64(0)
		k := size.riceParameter()
		for !r.bad && q < maxOnes && r.get(1) != 0 {
			q++
		}
		var n int64
		if q == maxOnes {
			n = r.number(t)
			size.add(zigzag(shortest(t, n-old)) - least)
		} else {
			d := q<<k | r.get(k)
			size.add(d)
			n = old + unzigzag(d+least)
			if turn := t.High - t.Low + 1; t.Wraps && n > t.High {
				n -= turn
			} else if t.Wraps && n < t.Low {
				n += turn
			}
		}
		if n < t.Low || n > t.High || r.bad {
			r.bad = true
			return old
		}
		return n
	}
	switch t.Form {
	case contract.FormBool:
		return contract.Value{Num: 1 - old.Num}
	case contract.FormEnum, contract.FormKind:
		n := int64(r.below(valueCount(t) - 1))
		if n >= old.Num {
			n++
		}
		return contract.Value{Num: n}
	case contract.FormInt, contract.FormTime, contract.FormReal, contract.FormDirection:
		return contract.Value{Num: number(old.Num, 1, &sizes[0])}
	}
	out := contract.Value{Parts: make([]contract.Value, len(old.Parts))}
	for i := range out.Parts {
		out.Parts[i].Num = number(old.Parts[i].Num, 0, &sizes[i])
	}
	return out
}

// motion writes a motion as it stands at a tick.
func (w *bitWriter) motion(t *contract.Type, m *Motion, tick int64) {
	w.value(t, m.From)
	w.value(m.RateType, m.Rate)
	w.gamma(uint64(tick - m.At))
}

// motion reads the motion of a value: from where it moves, at which rate, and since when.
func (r *bitReader) motion(t, rate *contract.Type, ticks int, tick int64) *Motion {
	m := &Motion{
		From:     r.value(t),
		Rate:     r.value(rate),
		RateType: rate,
		Ticks:    ticks,
	}
	m.At = tick - int64(r.count(1<<53))
	return m
}

// attached writes a value that may be attached to another entity's: whether it is, with which offset, and where it is.
func (w *bitWriter) attached(f *Field) {
	if w.bit(f.Attached.By != nil); f.Attached.By != nil {
		for _, v := range f.Attached.By {
			w.put(math.Float64bits(v), 64)
		}
	}
	w.value(f.Type, f.Value)
}
