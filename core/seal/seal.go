// Package seal encrypts what the pouch and the journal keep, with a key that
// stays outside the database: AES-256-GCM, a fresh random nonce for each
// record, and the record's place in the database as additional data, so that a
// sealed record cannot be moved to another row.
package seal

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
)

// KeySize is the length of a sealing key in bytes.
const KeySize = 32

// ErrBroken is returned when a sealed record does not open: it was changed,
// moved to another row, or sealed with another key.
var ErrBroken = errors.New("the sealed record does not open with this key")

// Box seals and opens records with one key. It is safe for concurrent use.
type Box struct {
	aead cipher.AEAD
	id   string
}

// NewBox makes a Box of a key of KeySize bytes.
func NewBox(key []byte) (*Box, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCMWithRandomNonce(block)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(append([]byte("tidy-courier key id\x00"), key...))
	return &Box{aead: aead, id: hex.EncodeToString(sum[:8])}, nil
}

// ID tells keys apart without giving them away: 16 hex digits.
func (b *Box) ID() string { return b.id }

// Seal encrypts a record for its place.
func (b *Box) Seal(plain []byte, place string) []byte {
	return b.aead.Seal(nil, nil, plain, []byte(place))
}

// Open decrypts a record from its place; ErrBroken when it cannot.
func (b *Box) Open(sealed []byte, place string) ([]byte, error) {
	plain, err := b.aead.Open(nil, nil, sealed, []byte(place))
	if err != nil {
		return nil, ErrBroken
	}
	return plain, nil
}

func newKey() []byte {
	key := make([]byte, KeySize)
	_, _ = rand.Read(key) // never fails (crypto/rand)
	return key
}
