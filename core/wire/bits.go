package wire

import (
	"encoding/binary"
	"math"
	"math/bits"
)

// bitWriter packs numbers into bytes, the lowest bit first. Its zero value is empty.
type bitWriter struct {
	buf  []byte
	acc  uint64
	free uint // bits in acc
}

// put writes the lowest bits of a number, 64 at most.
func (w *bitWriter) put(v uint64, width uint) {
	v &= 1<<width - 1 // of 64, all
	w.acc |= v << w.free
	w.free += width
	if w.free >= 64 {
		w.buf = binary.LittleEndian.AppendUint64(w.buf, w.acc)
		w.free -= 64
		w.acc = v >> (width - w.free) // nothing, when it all went
	}
}

// bit writes one bit.
func (w *bitWriter) bit(v bool) {
	if v {
		w.put(1, 1)
	} else {
		w.put(0, 1)
	}
}

// gamma writes any number, in few bits when it is small: the gamma code of Elias (1975) for the number plus one.
func (w *bitWriter) gamma(v uint64) {
	if v == math.MaxUint64 { // plus one it has 65 bits, and the sum below would be 0
		w.put(0, 64)
		w.put(1, 1)
		w.put(0, 64)
		return
	}
	v++
	n := uint(bits.Len64(v))
	w.put(1<<(n-1), n)
	w.put(v, n-1)
}

// below writes a number less than n in truncated binary: in as many bits as n-1 takes, or one less. A number that is
// not less is a mistake of the caller's; it is written as n-1, so that the bits after it can still be read.
func (w *bitWriter) below(v, n uint64) {
	if n <= 1 {
		return
	}
	v = min(v, n-1)
	k := uint(bits.Len64(n)) - 1
	if short := 1<<(k+1) - n; v < short {
		w.put(v, k)
	} else {
		v += short
		w.put(v>>1, k)
		w.put(v, 1)
	}
}

// rice writes a number whose usual size is 2^k (Rice, 1979). One that is far greater is written by its own length.
func (w *bitWriter) rice(v uint64, k uint) {
	if q := v >> k; q < riceEscape {
		w.put(1<<q-1, uint(q)+1)
		w.put(v, k)
		return
	}
	w.put(1<<riceEscape-1, riceEscape)
	w.put(uint64(bits.Len64(v)), 7)
	w.put(v, uint(bits.Len64(v)))
}

const riceEscape = 20

// bytes fills the last byte with zeros and returns all that was written.
func (w *bitWriter) bytes() []byte {
	for ; w.free > 0; w.free -= min(w.free, 8) {
		w.buf = append(w.buf, byte(w.acc))
		w.acc >>= 8
	}
	return w.buf
}

// bitReader reads what a bitWriter wrote. Reading beyond the end returns zeros and sets bad.
type bitReader struct {
	buf []byte
	at  uint // bit
	bad bool
}

// get reads a number of width bits, at most 64. Past the end it returns 0 and marks the reader as bad, as all that
// reads does: whoever reads looks once, at the end.
func (r *bitReader) get(width uint) uint64 {
	if r.at+width > uint(len(r.buf))*8 {
		r.bad = true
		return 0
	}
	var v uint64
	for done := uint(0); done < width; {
		free := 8 - r.at%8
		n := min(free, width-done)
		v |= uint64(r.buf[r.at/8]>>(r.at%8)&(1<<n-1)) << done
		done += n
		r.at += n
	}
	return v
}

// bit reads one bit.
func (r *bitReader) bit() bool { return r.get(1) != 0 }

// gamma reads what bitWriter.gamma wrote. More zeros than the code of any 64-bit number begins with make the reader
// bad.
func (r *bitReader) gamma() uint64 {
	zeros := uint(0)
	for !r.bad && r.get(1) == 0 {
		zeros++
		if zeros > 64 {
			r.bad = true
		}
	}
	if r.bad {
		return 0
	}
	if low := r.get(zeros); zeros < 64 {
		return 1<<zeros + low - 1
	} else if low != 0 { // only 2^64 itself, less one, is a 64-bit number
		r.bad = true
	}
	return math.MaxUint64
}

// below reads a number less than n, which bitWriter.below wrote.
func (r *bitReader) below(n uint64) uint64 {
	if n <= 1 {
		return 0
	}
	k := uint(bits.Len64(n)) - 1
	v := r.get(k)
	if short := 1<<(k+1) - n; v >= short {
		v = v<<1 | r.get(1) - short
	}
	if v >= n {
		r.bad = true
		return 0
	}
	return v
}

// rice reads what bitWriter.rice wrote with the same k.
func (r *bitReader) rice(k uint) uint64 {
	q := uint64(0)
	for !r.bad && r.get(1) != 0 {
		q++
		if q == riceEscape {
			n := uint(r.get(7))
			if n > 64 {
				r.bad = true
				return 0
			}
			return r.get(n)
		}
	}
	return q<<k | r.get(k)
}

// count reads a number that is at most most; a greater one sets bad.
func (r *bitReader) count(most int) int {
	n := r.gamma()
	if n > uint64(most) {
		r.bad = true
		return 0
	}
	return int(n)
}

// done reports whether all was read, up to the last byte's spare bits, which are zero.
func (r *bitReader) done() bool {
	left := uint(len(r.buf))*8 - r.at
	return !r.bad && left < 8 && r.get(left) == 0
}

// estimate follows the size of the numbers of one column, so that the next ones take few bits (the estimate of LOCO-I,
// Weinberger, Seroussi and Sapiro, 1996).
//
// It is one word, since a session keeps some for each client: the lowest five bits count the numbers, the others hold
// their sum.
type estimate uint64

// newEstimate returns the estimate that a column of values with a range of span counts begins with. Both sides begin
// with the same one.
func newEstimate(span uint64) estimate { return estimate(max(2, min(span>>6, 1<<30))<<5 | 1) }

// riceParameter returns k for which 2^k is the least power of two that is no less than the mean.
func (u *estimate) riceParameter() uint {
	sum := uint64(*u) >> 5
	count := uint64(*u) & 31
	if sum <= count {
		return 0
	}
	return uint(bits.Len64((sum - 1) / count))
}

// add takes a number into the estimate. Sum and count are halved now and then, so that newer numbers count for more.
func (u *estimate) add(v uint64) {
	sum := uint64(*u)>>5 + min(v, 1<<32)
	count := uint64(*u)&31 + 1
	if count == 32 {
		sum = sum >> 1
		count = count >> 1
	}
	*u = estimate(sum<<5 | count)
}

// zigzag makes small differences of either sign small numbers; both wrap around.
func zigzag(d int64) uint64 { return uint64(d<<1) ^ uint64(d>>63) }

// unzigzag returns the number whose zigzag is v.
func unzigzag(v uint64) int64 { return int64(v>>1) ^ -int64(v&1) }
