package replicate

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"math/bits"

	"kamerad/core/world"
)

// number gives the number by which clients know an entity: a keyed permutation of the 32-bit numbers, so that it tells
// nothing of how many others there are or in which order they were spawned. What is permuted is the entity's kind and its
// serial within the kind: entities that a client may not know of shift no number of those that it may. It is a Feistel network of six rounds (Luby and
// Rackoff, 1988) with HMAC-SHA256 as its round function; 0 is left out.
func number(key [32]byte, e *world.Entity, kinds int) uint32 {
	return permuted(key, uint32(e.Kind.Index)<<(32-bits.Len(uint(kinds)))+uint32(e.Serial))
}

func permuted(key [32]byte, n uint32) uint32 {
	for {
		left, right := uint16(n>>16), uint16(n)
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
