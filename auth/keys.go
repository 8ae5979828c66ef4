// Package auth says who somebody is: the player that a ticket proves, and the operator that a token does.
//
// A ticket is a JSON Web Token (RFC 7519) that the game's own backend signs for one player and one join. Tickets checks
// them against keys (keys.go, ticket.go); that a ticket is used once is left to who stores its number. Tokens of
// operators are random texts of which a service keeps the hashes (token.go). The package knows no network, no session
// and no database; a Clock is handed in where time counts.
package auth

import (
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"regexp"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Algorithm is how a key signs.
type Algorithm string

// The algorithms of keys, by their names in RFC 7518 and RFC 8037.
const (
	// EdDSA signs with a private key and is checked with a public one: the service cannot make tickets.
	EdDSA Algorithm = "EdDSA"
	// HS256 signs and is checked with the same secret.
	HS256 Algorithm = "HS256"
)

// Algorithms returns all algorithms.
func Algorithms() []Algorithm { return []Algorithm{EdDSA, HS256} }

// minSecret is how many bytes the secret of an HS256 key has at least (RFC 7518, section 3.2).
const minSecret = 32

// maxKeys is how many keys a file may hold: a few for each backend while they are changed.
const maxKeys = 32

// keyName is what a key may be called.
var keyName = regexp.MustCompile(`^[A-Za-z0-9._-]{1,64}$`)

// Key signs tickets, or checks them.
type Key struct {
	Name      string // its `kid`
	Algorithm Algorithm
	private   crypto.PrivateKey // nil for one that only checks; of HS256 the secret
	public    crypto.PublicKey  // what checks; of HS256 the secret
}

// NewKey makes a random key.
func NewKey(name string, algorithm Algorithm) (Key, error) {
	k := Key{Name: name, Algorithm: algorithm}
	if !keyName.MatchString(name) {
		return k, fmt.Errorf("make a key: it has a name of at most 64 letters, digits, ., - and _, not %.80q", name)
	}
	switch algorithm {
	case EdDSA:
		public, private, err := ed25519.GenerateKey(nil)
		if err != nil {
			return k, fmt.Errorf("make a key: %w", err)
		}
		k.private = private
		k.public = public
	case HS256:
		secret := make([]byte, minSecret)
		if _, err := rand.Read(secret); err != nil {
			return k, fmt.Errorf("make a key: %w", err)
		}
		k.private = secret
		k.public = secret
	default:
		return k, fmt.Errorf("make a key: it signs with one of %v, not %.20q", Algorithms(), algorithm)
	}
	return k, nil
}

// Private returns the key as a JSON Web Key (RFC 7517) that can sign. It is a secret.
func (k Key) Private() ([]byte, error) { return k.jwk(k.private) }

// Public returns the key as a JSON Web Key that checks. Of HS256 it is the same secret.
func (k Key) Public() ([]byte, error) { return k.jwk(k.public) }

// jwk writes one half of the key.
func (k Key) jwk(half any) ([]byte, error) {
	out := jose.JSONWebKey{
		Key:       half,
		KeyID:     k.Name,
		Algorithm: string(k.Algorithm),
		Use:       "sig",
	}
	return out.MarshalJSON()
}

// ParseKey reads a JSON Web Key. A key has a `kid` and an `alg`, which is EdDSA or HS256: a ticket does not choose how
// it is checked.
func ParseKey(raw []byte) (Key, error) {
	var in jose.JSONWebKey
	if err := in.UnmarshalJSON(raw); err != nil {
		return Key{}, fmt.Errorf("read a key: %w", withoutValues(err))
	}
	k := Key{Name: in.KeyID, Algorithm: Algorithm(in.Algorithm)}
	if !keyName.MatchString(k.Name) {
		return k, errors.New("read a key: it needs a `kid` of at most 64 letters, digits, ., - and _")
	}
	switch half := in.Key.(type) {
	case ed25519.PrivateKey:
		k.private = half
		k.public = half.Public()
	case ed25519.PublicKey:
		k.public = half
	case []byte:
		k.private = half
		k.public = half
	}
	_, isSecret := in.Key.([]byte)
	switch {
	case k.public == nil:
		return k, fmt.Errorf("read the key %s: it is neither an Ed25519 key (OKP) nor a secret (oct)", k.Name)
	case isSecret && k.Algorithm != HS256, !isSecret && k.Algorithm != EdDSA:
		return k, fmt.Errorf(
			"read the key %s: its `alg` is %q; an OKP key has EdDSA, an oct key HS256",
			k.Name,
			k.Algorithm,
		)
	case isSecret && len(in.Key.([]byte)) < minSecret:
		return k, fmt.Errorf("read the key %s: its secret is shorter than %d bytes", k.Name, minSecret)
	}
	return k, nil
}

// withoutValues returns an error that quotes nothing of a key.
func withoutValues(error) error { return errors.New("it is no JSON Web Key (RFC 7517)") }

// KeySet is what a file of keys holds (RFC 7517, section 5).
type KeySet struct {
	Keys []json.RawMessage `json:"keys"`
}

// ParseKeys reads a set of keys, of which each has a name of its own.
func ParseKeys(raw []byte) ([]Key, error) {
	var set KeySet
	if err := json.Unmarshal(raw, &set); err != nil {
		return nil, errors.New("read keys: they are no JSON Web Key Set, as in {\"keys\": [ … ]}")
	}
	if len(set.Keys) == 0 || len(set.Keys) > maxKeys {
		return nil, fmt.Errorf("read keys: the set has %d; from 1 to %d", len(set.Keys), maxKeys)
	}
	out := make([]Key, 0, len(set.Keys))
	for _, one := range set.Keys {
		k, err := ParseKey(one)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(out, func(x Key) bool { return x.Name == k.Name }) {
			return nil, fmt.Errorf("read keys: two are called %s", k.Name)
		}
		out = append(out, k)
	}
	return out, nil
}

// KeyFile is a file of keys that is read anew when it has changed, so that keys are changed while the service runs. It
// may be used by many goroutines.
type KeyFile struct {
	path   string
	failed func(error) // told once of each change that cannot be read

	mu       sync.Mutex
	keys     []Key
	looked   time.Time // when the file was looked at last
	modified time.Time // of what was read last, or could not be
	size     int64
}

// lookEvery is how often the file is looked at, at most.
const lookEvery = time.Second

// OpenKeys reads a file of keys. failed is told when the file has changed and cannot be read any more: the keys stay as
// they were.
func OpenKeys(path string, failed func(error)) (*KeyFile, error) {
	f := &KeyFile{path: path, failed: failed}
	if err := f.read(); err != nil {
		return nil, err
	}
	return f, nil
}

// read reads the file.
func (f *KeyFile) read() error {
	info, err := os.Stat(f.path)
	if err != nil {
		return fmt.Errorf("read the keys of tickets: %w", err)
	}
	f.modified = info.ModTime()
	f.size = info.Size()
	raw, err := os.ReadFile(f.path)
	if err != nil {
		return fmt.Errorf("read the keys of tickets: %w", err)
	}
	keys, err := ParseKeys(raw)
	if err != nil {
		return fmt.Errorf("%s: %w", f.path, err)
	}
	f.keys = keys
	return nil
}

// Keys returns the keys of the file as it is now.
func (f *KeyFile) Keys() []Key {
	f.mu.Lock()
	defer f.mu.Unlock()
	if now := time.Now(); now.Sub(f.looked) >= lookEvery {
		f.looked = now
		info, err := os.Stat(f.path)
		if err != nil || info.ModTime().Equal(f.modified) && info.Size() == f.size {
			return f.keys
		}
		if err := f.read(); err != nil {
			f.failed(err)
		}
	}
	return f.keys
}
