package token

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/go-jose/go-jose/v4"
)

// MaxPBES2Count bounds the hashing that a header can ask for before anything is
// known of its sender (RFC 8725 2.7 in spirit): about a second's worth.
const MaxPBES2Count = 600_000

// MaxDecrypted bounds what compressed content may grow to (RFC 8725 2.9), in bytes.
const MaxDecrypted = 250_000

var keyAlgorithms = []jose.KeyAlgorithm{jose.RSA1_5, jose.RSA_OAEP, jose.RSA_OAEP_256, jose.A128KW, jose.A192KW, jose.A256KW, jose.DIRECT,
	jose.ECDH_ES, jose.ECDH_ES_A128KW, jose.ECDH_ES_A192KW, jose.ECDH_ES_A256KW, jose.A128GCMKW, jose.A192GCMKW, jose.A256GCMKW,
	jose.PBES2_HS256_A128KW, jose.PBES2_HS384_A192KW, jose.PBES2_HS512_A256KW}

var contentAlgorithms = []jose.ContentEncryption{jose.A128CBC_HS256, jose.A192CBC_HS384, jose.A256CBC_HS512, jose.A128GCM, jose.A192GCM, jose.A256GCM}

// ErrNotDecrypted is returned when no key opens a JWE.
var ErrNotDecrypted = errors.New("none of the keys opens it")

// Decrypt opens a JWE with the keys that fit and decodes what is inside: a
// token (RFC 7519 5.2), a claims set, or other content.
func Decrypt(t *Token, keys *KeySet) (*Token, error) {
	if t.Form != JWE {
		return nil, errors.New("it is not encrypted")
	}
	if n, ok := t.Header["p2c"].(json.Number); ok {
		if count, err := n.Int64(); err != nil || count > MaxPBES2Count {
			return nil, fmt.Errorf("its p2c asks for %s rounds of hashing, and more than %d are not done for a stranger", n, MaxPBES2Count)
		}
	}
	parse := jose.ParseEncryptedCompact
	if t.JSON {
		parse = jose.ParseEncryptedJSON
	}
	jwe, err := parse(t.Raw, keyAlgorithms, contentAlgorithms)
	if err != nil {
		return nil, fmt.Errorf("it cannot be read: %s", strings.TrimPrefix(err.Error(), "go-jose/go-jose: "))
	}
	for i := range keys.Keys {
		k := &keys.Keys[i]
		if k.private == nil || k.Use == "sig" {
			continue
		}
		plain, err := decryptWith(jwe, k.private)
		if err != nil {
			continue
		}
		if len(plain) > MaxDecrypted {
			return nil, fmt.Errorf("what is inside is larger than %d KB", MaxDecrypted/1000)
		}
		return opened(t, string(plain))
	}
	if !hasPrivate(keys) {
		return nil, fmt.Errorf("%w: only public keys were given, and opening takes the private one", ErrNotDecrypted)
	}
	return nil, ErrNotDecrypted
}

func decryptWith(jwe *jose.JSONWebEncryption, key any) ([]byte, error) {
	_, _, plain, err := jwe.DecryptMulti(key)
	return plain, err
}

func hasPrivate(keys *KeySet) bool {
	for _, k := range keys.Keys {
		if k.private != nil {
			return true
		}
	}
	return false
}

// opened is the token with what was inside it. A claims set inside is not
// signed: who could encrypt could have written it.
func opened(t *Token, plain string) (*Token, error) {
	out := *t
	out.payload = plain
	if out.nested(plain) {
		inner, err := decodeAt(plain, 1, nil)
		if err != nil {
			return nil, fmt.Errorf("it opens, and the token inside cannot be read: %w", err)
		}
		out.Inner = inner
		return &out, nil
	}
	if m, err := readObject(plain); err == nil {
		out.Claims, out.ClaimOrder = m.values, m.order
		out.Repeated = append(out.Repeated, m.repeated...)
		return &out, nil
	}
	out.Content = plain
	return &out, nil
}
