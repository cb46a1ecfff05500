package seal

import (
	"bytes"
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSealedRecordsOpenOnlyInTheirPlace(t *testing.T) {
	key := bytes.Repeat([]byte{1}, KeySize)
	box, err := NewBox(key)
	require.NoError(t, err)
	sealed := box.Seal([]byte("high water at noon"), "row 1")
	assert.NotContains(t, string(sealed), "high water")
	assert.NotEqual(t, sealed, box.Seal([]byte("high water at noon"), "row 1"), "a fresh nonce each time")
	plain, err := box.Open(sealed, "row 1")
	require.NoError(t, err)
	assert.Equal(t, "high water at noon", string(plain))

	other, err := NewBox(bytes.Repeat([]byte{2}, KeySize))
	require.NoError(t, err)
	changed := bytes.Clone(sealed)
	changed[len(changed)-1] ^= 1
	for name, open := range map[string]func() ([]byte, error){
		"another row": func() ([]byte, error) { return box.Open(sealed, "row 2") },
		"another key": func() ([]byte, error) { return other.Open(sealed, "row 1") },
		"changed":     func() ([]byte, error) { return box.Open(changed, "row 1") },
		"cut off":     func() ([]byte, error) { return box.Open(sealed[:10], "row 1") },
		"empty":       func() ([]byte, error) { return box.Open(nil, "row 1") },
	} {
		_, err := open()
		assert.ErrorIs(t, err, ErrBroken, name)
	}
}

func TestKeyIDsTellKeysApartAndNoMore(t *testing.T) {
	a, _ := NewBox(bytes.Repeat([]byte{1}, KeySize))
	again, _ := NewBox(bytes.Repeat([]byte{1}, KeySize))
	b, _ := NewBox(bytes.Repeat([]byte{2}, KeySize))
	assert.Equal(t, a.ID(), again.ID())
	assert.NotEqual(t, a.ID(), b.ID())
	assert.NotContains(t, hex.EncodeToString(bytes.Repeat([]byte{1}, KeySize)), a.ID())
	_, err := NewBox([]byte("short"))
	assert.Error(t, err)
}
