package replicate

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"math/bits"

	"kamerad.example/core/world"
)

// PublicNumber returns the number by which clients know an entity: a permutation, chosen by the key, of the 32-bit
// numbers without 0. It tells nothing of how many entities there are or in which order they were spawned. What is
// permuted is the kind and the serial within the kind, so that entities that a client may not know of shift no number
// of those that it may. kinds is the number of kinds in the contract.
func PublicNumber(key [32]byte, e *world.Entity, kinds int) uint32 {
	kind := uint32(e.Kind.Index) << (32 - bits.Len(uint(kinds)))
	return permute(key, kind+uint32(e.Serial))
}

// permute is a Feistel network of six rounds (Luby and Rackoff, 1988) with HMAC-SHA256 as its round function. It is
// applied again to a result of 0, which stands for no entity.
func permute(key [32]byte, n uint32) uint32 {
	for {
		left := uint16(n >> 16)
		right := uint16(n)
		for round := range byte(6) {
			mac := hmac.New(sha256.New, key[:])
			mac.Write([]byte{'e', round, byte(right >> 8), byte(right)})
			left, right = right, left^binary.BigEndian.Uint16(mac.Sum(nil))
		}
		n = uint32(left)<<16 | uint32(right)
		if n != 0 {
			return n
		}
	}
}
