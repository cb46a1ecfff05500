package token

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	"github.com/go-jose/go-jose/v4"
)

// Bounds on hostile keys.
const (
	// MaxKeys bounds a key set: issuers publish two or three, the largest shared
	// ones a few dozen, and a token without kid is tried against each.
	MaxKeys = 100
	// MaxKeySetSize is in bytes: MaxKeys keys with their certificates fit.
	MaxKeySetSize = 1 << 20
	// MinRSABits is the least that RFC 7518 3.3 allows.
	MinRSABits = 2048
	// MaxRSABits bounds the cost of one verification, which grows with the square.
	MaxRSABits = 4096
)

// Key types (RFC 7518 6.1, RFC 8037 2).
const (
	typeRSA    = "RSA"
	typeEC     = "EC"
	typeOKP    = "OKP"
	typeSecret = "oct"
)

// Key is one key to verify or decrypt with.
type Key struct {
	ID   string // kid, may be empty
	Alg  string // alg the key is bound to, may be empty
	Use  string // sig, enc or empty
	Type string // kty: RSA, EC, OKP, oct
	How  string // how it was read, when that is worth saying: "the file's text as base64"

	public  any // for verification; []byte for a secret
	private any // for decryption; nil when only the public half is known
	curve   string
}

// KeySet is keys from one place.
type KeySet struct {
	Keys    []Key
	Skipped []string // keys that could not be used, each with the reason
	Source  string   // where they are from, as one says it
	Named   bool     // from a JWKS, where a kid must match; a key from a file is tried for any
}

// IDs lists the kids that exist.
func (s *KeySet) IDs() []string {
	var out []string
	for _, k := range s.Keys {
		if k.ID != "" {
			out = append(out, k.ID)
		}
	}
	return out
}

// ParseJWKS reads a JWK Set (RFC 7517 5). Keys of an unknown type are skipped,
// as the RFC asks, and listed.
func ParseJWKS(raw []byte) (*KeySet, error) {
	if len(raw) > MaxKeySetSize {
		return nil, fmt.Errorf("the key set is larger than %d KiB", MaxKeySetSize>>10)
	}
	var doc struct {
		Keys []json.RawMessage `json:"keys"`
	}
	if err := json.Unmarshal(raw, &doc); err != nil {
		return nil, fmt.Errorf("it is not a JWK Set (RFC 7517 5): %w", err)
	}
	if doc.Keys == nil {
		return nil, errors.New("it is not a JWK Set (RFC 7517 5): it has no keys member")
	}
	if len(doc.Keys) > MaxKeys {
		return nil, fmt.Errorf("the key set holds %d keys; more than %d are not read", len(doc.Keys), MaxKeys)
	}
	set := &KeySet{Named: true}
	for i, text := range doc.Keys {
		k, err := parseJWK(text)
		if err != nil {
			set.Skipped = append(set.Skipped, fmt.Sprintf("key %d: %s", i+1, err))
			continue
		}
		set.Keys = append(set.Keys, k)
	}
	return set, nil
}

func parseJWK(raw []byte) (Key, error) {
	var names struct {
		Kid, Kty, Alg, Use string
	}
	if err := json.Unmarshal(raw, &names); err != nil {
		return Key{}, errors.New("it is not a JWK (RFC 7517 4)")
	}
	var j jose.JSONWebKey
	if err := j.UnmarshalJSON(raw); err != nil {
		return Key{ID: names.Kid}, fmt.Errorf("%s %s cannot be used: %s", orDash(names.Kty), names.Kid, strings.TrimPrefix(err.Error(), "go-jose/go-jose: "))
	}
	k, err := keyOf(j.Key)
	k.ID, k.Alg, k.Use = names.Kid, names.Alg, names.Use
	return k, err
}

func orDash(s string) string {
	if s == "" {
		return "a key without kty"
	}
	return s
}

// keyOf takes any public, private or shared key.
func keyOf(key any) (Key, error) {
	k := Key{}
	switch v := key.(type) {
	case *rsa.PrivateKey:
		k.private, key = v, &v.PublicKey
	case *ecdsa.PrivateKey:
		k.private, key = v, &v.PublicKey
	case ed25519.PrivateKey:
		k.private, key = v, v.Public().(ed25519.PublicKey) // always (crypto/ed25519)
	}
	k.public = key
	switch v := key.(type) {
	case *rsa.PublicKey:
		k.Type = typeRSA
		if bits := v.N.BitLen(); bits < MinRSABits || bits > MaxRSABits {
			return k, fmt.Errorf("an RSA key of %d bits: %d to %d are used (RFC 7518 3.3)", bits, MinRSABits, MaxRSABits)
		}
	case *ecdsa.PublicKey:
		k.Type, k.curve = typeEC, v.Curve.Params().Name
	case ed25519.PublicKey:
		k.Type = typeOKP
	case []byte:
		k.Type, k.private = typeSecret, v
		if len(v) == 0 {
			return k, errors.New("it is empty")
		}
	default:
		return k, fmt.Errorf("a key of a kind that is not used here (%T)", key)
	}
	return k, nil
}

// ParseKey reads a key file: PEM (public key, certificate or private key), a
// JWK, a JWK Set, or anything else as a shared secret. A secret is offered as it
// stands, without the line break at its end, and decoded from base64 and hex:
// the signature tells which was meant.
func ParseKey(raw []byte) (*KeySet, error) {
	text := strings.TrimSpace(string(raw))
	switch {
	case text == "":
		return nil, errors.New("the key file is empty")
	case len(raw) > MaxKeySetSize:
		return nil, fmt.Errorf("the key file is larger than %d KiB", MaxKeySetSize>>10)
	case strings.HasPrefix(text, "{"):
		var probe struct {
			Keys json.RawMessage `json:"keys"`
		}
		if json.Unmarshal(raw, &probe) == nil && probe.Keys != nil {
			return ParseJWKS(raw)
		}
		k, err := parseJWK(raw)
		if err != nil {
			return nil, err
		}
		return &KeySet{Keys: []Key{k}}, nil
	case strings.Contains(text, "-----BEGIN "):
		return parsePEM(raw)
	}
	return secretKeys(raw), nil
}

func parsePEM(raw []byte) (*KeySet, error) {
	set := &KeySet{}
	for {
		block, rest := pem.Decode(raw)
		if block == nil {
			break
		}
		raw = rest
		if len(set.Keys)+len(set.Skipped) >= MaxKeys {
			return nil, fmt.Errorf("the file holds more than %d PEM blocks", MaxKeys)
		}
		key, err := parseBlock(block)
		if err == nil {
			var k Key
			if k, err = keyOf(key); err == nil {
				set.Keys = append(set.Keys, k)
				continue
			}
		}
		set.Skipped = append(set.Skipped, fmt.Sprintf("%s: %s", block.Type, err))
	}
	if len(set.Keys) == 0 {
		if len(set.Skipped) > 0 {
			return nil, fmt.Errorf("no PEM block can be used: %s", strings.Join(set.Skipped, "; "))
		}
		return nil, errors.New("it begins like PEM, and no block in it is whole")
	}
	return set, nil
}

func parseBlock(block *pem.Block) (any, error) {
	switch block.Type {
	case "PUBLIC KEY":
		return x509.ParsePKIXPublicKey(block.Bytes)
	case "RSA PUBLIC KEY":
		return x509.ParsePKCS1PublicKey(block.Bytes)
	case "CERTIFICATE":
		cert, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, err
		}
		return cert.PublicKey, nil
	case "PRIVATE KEY":
		return x509.ParsePKCS8PrivateKey(block.Bytes)
	case "RSA PRIVATE KEY":
		return x509.ParsePKCS1PrivateKey(block.Bytes)
	case "EC PRIVATE KEY":
		return x509.ParseECPrivateKey(block.Bytes)
	}
	return nil, errors.New("not a kind of block that holds a key to use here")
}

// secretKeys offers the readings of a shared secret.
func secretKeys(raw []byte) *KeySet {
	set := &KeySet{}
	seen := map[string]bool{}
	add := func(b []byte, how string) {
		if len(b) > 0 && !seen[string(b)] {
			seen[string(b)] = true
			set.Keys = append(set.Keys, Key{Type: typeSecret, How: how, public: b, private: b})
		}
	}
	line := []byte(strings.TrimRight(string(raw), "\r\n"))
	if len(line) != len(raw) {
		add(line, "the file's text without the line break at its end")
		add(raw, "the file's text with the line break at its end")
	} else {
		add(raw, "")
	}
	text := strings.TrimSpace(string(raw))
	for _, d := range []struct {
		how    string
		decode func(string) ([]byte, error)
	}{{"the file's text as hex", hex.DecodeString}, {"the file's text as base64", base64.StdEncoding.DecodeString},
		{"the file's text as base64url", base64.RawURLEncoding.DecodeString}, {"the file's text as base64url with padding", base64.URLEncoding.DecodeString}} {
		if b, err := d.decode(text); err == nil {
			add(b, d.how)
		}
	}
	return set
}

// PEM is a public key of the set by its kid, as a PEM file holds it; the first
// one when kid is "". Nil when there is none.
func (s *KeySet) PEM(kid string) []byte {
	for _, k := range s.Keys {
		if kid != "" && k.ID != kid || k.Type == typeSecret {
			continue
		}
		if der, err := x509.MarshalPKIXPublicKey(k.public); err == nil {
			return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})
		}
	}
	return nil
}
