package auth

import (
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"
)

// Right is what an operator may do. Each one includes those before it.
type Right string

// The rights of operators.
const (
	// Look reads all that is not secret: sessions, what clients hold, decisions, contracts.
	Look Right = "look"
	// Play opens test clients and plays them, and starts drills and audits.
	Play Right = "play"
	// Run does everything: opens and ends sessions, publishes, changes what is kept, bans, makes tokens; and sees
	// seeds, keys and what no client may see.
	Run Right = "run"
)

// Rights returns all rights, each of which includes those before it.
func Rights() []Right { return []Right{Look, Play, Run} }

// Includes reports whether who has a right may do what another one allows. An unknown right includes nothing.
func (r Right) Includes(other Right) bool {
	own := slices.Index(Rights(), r)
	return own >= 0 && own >= slices.Index(Rights(), other)
}

// ParseRight reads a right.
func ParseRight(text string) (Right, error) {
	if r := Right(text); slices.Contains(Rights(), r) {
		return r, nil
	}
	return "", fmt.Errorf("a right is one of %v, not %.20q", Rights(), text)
}

// Operator is who uses the service.
type Operator struct {
	Name  string // of the token
	Right Right
	Token int64 // its number; 0 for who uses a service that wants no tokens
}

// TokenPrefix begins each token of an operator, so that one is known for a secret wherever it turns up.
const TokenPrefix = "kamerad-"

// NewToken makes a token of 130 random bits.
func NewToken() string { return TokenPrefix + strings.ToLower(rand.Text()) }

// HashToken returns what is kept of a token. Tokens are random, so that nobody finds one by its hash.
func HashToken(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}
