package rules

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"hash"
	"math/bits"
)

// dice makes the rolls of a cause: HMAC-SHA256 (RFC 2104) of the session's key over the cause, the place of the roll in
// the contract, how often the cause has rolled there, a counter, and the incarnation unless it is the first, eight
// bytes a time. So no roll foretells another, and none shifts another: what a hidden value decides to roll shows in no
// other roll.
type dice struct {
	key   [32]byte
	cause *Cause // of the present run
	// of the session: a request that was undone rolls otherwise when it is asked again
	incarnation *int
	place       uint64    // of the present roll
	times       uint64    // that the cause has rolled there before
	count       uint64    // blocks that the present roll has used
	block       []byte    // not yet used bytes
	mac         hash.Hash // with the key; made when it is first needed
	in          [50]byte  // what the present block is made of
	sum         [sha256.Size]byte
	rolls       map[uint64]uint64 // by place: how often this cause has rolled there
}

// at begins the rolls of a place.
func (d *dice) at(place uint64) {
	if d.rolls == nil {
		d.rolls = map[uint64]uint64{}
	}
	d.place, d.times, d.count, d.block = place, d.rolls[place], 0, nil
	d.rolls[place]++
}

// mixed adds a step to the way to a place (FNV-1a, 1991, by numbers in place of bytes).
func mixed(way, step uint64) uint64 { return (way ^ step) * 1099511628211 }

// next returns the next 64 bits.
//
// A block of the hash gives four of them.
func (d *dice) next() uint64 {
	if len(d.block) == 0 {
		if d.mac == nil {
			d.mac = hmac.New(sha256.New, d.key[:])
		}
		in := &d.in
		in[0], in[1] = 'r', d.cause.What
		binary.BigEndian.PutUint64(in[2:], uint64(d.cause.Tick))
		binary.BigEndian.PutUint64(in[10:], uint64(d.cause.A))
		binary.BigEndian.PutUint64(in[18:], uint64(d.cause.B))
		binary.BigEndian.PutUint64(in[26:], d.place)
		binary.BigEndian.PutUint64(in[34:], d.times)
		binary.BigEndian.PutUint64(in[42:], d.count)
		d.mac.Reset()
		d.mac.Write(in[:])
		if *d.incarnation > 0 {
			d.mac.Write(binary.BigEndian.AppendUint64(nil, uint64(*d.incarnation)))
		}
		d.count++
		d.block = d.mac.Sum(d.sum[:0])
	}
	n := binary.BigEndian.Uint64(d.block)
	d.block = d.block[8:]
	return n
}

// roll returns a whole number from low to high, each as likely as any other (Lemire's method, 2019, with rejection).
//
// Rejected draws come at most every other time, for the worst of spans; the loop has no other bound.
func (d *dice) roll(low, high int64) int64 {
	span := uint64(high) - uint64(low) + 1
	if span == 0 {
		// The range is that of all 64 bits.
		return int64(d.next())
	}
	for {
		top, bottom := bits.Mul64(d.next(), span)
		if bottom >= -span%span {
			return int64(uint64(low) + top)
		}
	}
}
