package contract

import "math/bits"

// Sown returns the number at a place of the public sequence of a seed: a whole number from low to high, which have to
// be in this order. Whoever has the seed computes the same, on every machine; each number is as likely as any other, up
// to one in 2^64 for each number of the range. It is no secret and no dice: who knows the seed knows them all.
//
// The sequence is SplitMix64 (Steele, Lea and Flood, 2014) from the mixed seed, at any place in one step; the range is
// taken from the upper half of a product (Lemire, 2019, without rejection).
func Sown(seed, place, low, high int64) int64 {
	const golden = 0x9E3779B97F4A7C15
	v := finalize(finalize(uint64(seed)) + (uint64(place)+1)*golden)
	if span := uint64(high) - uint64(low) + 1; span != 0 { // else it is 2^64
		v, _ = bits.Mul64(v, span)
	}
	return int64(uint64(low) + v)
}

// finalize is the finalizer of SplitMix64.
func finalize(v uint64) uint64 {
	v = (v ^ v>>30) * 0xBF58476D1CE4E5B9
	v = (v ^ v>>27) * 0x94D049BB133111EB
	return v ^ v>>31
}
