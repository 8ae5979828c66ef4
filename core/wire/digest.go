package wire

import (
	"math"

	"kamerad.example/core/contract"
)

// A copy's digest is the sum, modulo 2^64, of one number for each client, entity and value in it. So the digest of what
// a client should hold is the sum of those of its groups, and follows changes without going over the rest. Each of
// these numbers is FNV-1a over 64-bit words, ended by the mixing of SplitMix64 (Steele, Lea and Flood, 2014). Loose
// values are not counted: a client may miss them.

type digest uint64

// newDigest begins a digest over some words.
func newDigest(words ...uint64) digest {
	d := digest(0xcbf29ce484222325)
	for _, w := range words {
		d = d.word(w)
	}
	return d
}

// word takes another word into the digest (FNV-1a, 1991, over words in place of bytes).
func (d digest) word(v uint64) digest { return (d ^ digest(v)) * 0x100000001b3 }

// text takes a text into the digest: its length in bytes, and each byte as a word.
func (d digest) text(s string) digest {
	d = d.word(uint64(len(s)))
	for i := range len(s) {
		d = d.word(uint64(s[i]))
	}
	return d
}

// end returns the digest's number, mixed so that a sum of many is spread evenly (the last steps of SplitMix64: Steele,
// Lea and Flood, 2014).
func (d digest) end() uint64 {
	z := uint64(d) + 0x9e3779b97f4a7c15
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return z ^ z>>31
}

// value takes a value into the digest, part by part, in the order of the document.
func (d digest) value(t *contract.Type, v contract.Value) digest {
	switch t.Form {
	case contract.FormText:
		return d.text(v.Text)
	case contract.FormVec2, contract.FormVec3, contract.FormRotation:
		for _, p := range v.Parts {
			d = d.word(uint64(p.Num))
		}
		return d
	case contract.FormRecord:
		for i, p := range t.Parts {
			d = d.value(p.Type, v.Parts[i])
		}
		return d
	case contract.FormList, contract.FormStacks, contract.FormMap:
		d = d.word(uint64(len(v.Parts)))
		for _, p := range v.Parts {
			switch t.Form {
			case contract.FormList:
				d = d.value(t.Of, p)
			case contract.FormStacks:
				d = d.word(uint64(p.Parts[0].Num)).word(uint64(p.Parts[1].Num))
			default:
				d = d.value(t.Of, p.Parts[1]).value(t.Key, p.Parts[0])
			}
		}
		return d
	}
	return d.word(uint64(v.Num))
}

// The words that begin the digests of clients, entities and values.
const (
	digestOfClient = iota + 1
	digestOfEntity
	digestOfValue
	digestOfMotion
	digestOfAttached
)

// DigestClient returns what a client adds to a digest. role is the index of its role within the outline.
func DigestClient(c Client, role int) uint64 {
	return newDigest(digestOfClient, uint64(c.Number), uint64(role)).text(c.Name).end()
}

// DigestEntity returns what an entity adds to a digest. kind is the index of its kind within the outline.
func DigestEntity(number uint32, kind, owner int) uint64 {
	return newDigest(digestOfEntity, uint64(number), uint64(kind), uint64(owner)).end()
}

// Digest returns what a property adds to a digest. prop is its index within its kind's outline. A property that follows
// a rate counts by its motion, one that is attached by its offset.
func (f *Field) Digest(number uint32, prop int) uint64 {
	switch {
	case f.Motion != nil:
		d := newDigest(digestOfMotion, uint64(number), uint64(prop), uint64(f.Motion.At)).value(f.Type, f.Motion.From)
		return d.value(f.Motion.RateType, f.Motion.Rate).end()
	case f.Attached != nil:
		d := newDigest(digestOfAttached, uint64(number), uint64(prop))
		for _, v := range f.Attached.By {
			d = d.word(math.Float64bits(v))
		}
		return d.end()
	}
	return newDigest(digestOfValue, uint64(number), uint64(prop)).value(f.Type, f.Value).end()
}

// DigestSlots is Digest for a value that is made of numbers, which stand in slots.
func DigestSlots(number uint32, prop int, slots []int64) uint64 {
	d := newDigest(digestOfValue, uint64(number), uint64(prop))
	for _, n := range slots {
		d = d.word(uint64(n))
	}
	return d.end()
}

// IsNumeric reports whether a type's values are made of numbers alone, one for each slot.
func IsNumeric(t *contract.Type) bool { return isNumeric(t) }
