package replicate

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"

	"kamerad/core/world"
)

// number gives the number by which clients know an entity: a keyed permutation of the 32-bit numbers, so that it tells
// nothing of how many others there are or in which order they were spawned. It is a Feistel network of six rounds (Luby and
// Rackoff, 1988) with HMAC-SHA256 as its round function; 0 is left out.
func number(key [32]byte, id world.ID) uint32 {
	n := uint32(id)
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
