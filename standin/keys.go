package standin

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"fmt"
	"net/http"
	"sync"

	"github.com/go-jose/go-jose/v4"
)

// keyring makes the signing keys at the first need: an RSA key costs up to
// half a second, and most commands never ask for one.
type keyring struct {
	mu sync.Mutex
	// generations of keys by alg, the oldest first; the last one signs.
	generations []generation
	// unlisted sign while a fault wants a kid that the key set lacks.
	unlisted generation
}

type generation map[string]jose.JSONWebKey

// published is how many generations the key set shows: the one that signs, and
// the one before it, whose tokens still live.
const published = 2

func newGeneration() (generation, error) {
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, err
	}
	ecKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	return generation{"RS256": named(rsaKey, "RS256"), "ES256": named(ecKey, "ES256")}, nil
}

func named(key any, alg string) jose.JSONWebKey {
	j := jose.JSONWebKey{Key: key, Algorithm: alg, Use: "sig"}
	if print, err := j.Thumbprint(crypto.SHA256); err == nil {
		j.KeyID = fmt.Sprintf("%s-%x", alg, print[:4])
	}
	return j
}

// load gives the generations that are published, the one that signs last.
func (k *keyring) load() ([]generation, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.generations) == 0 {
		g, err := newGeneration()
		if err != nil {
			return nil, err
		}
		k.generations = []generation{g}
	}
	return k.generations[max(0, len(k.generations)-published):], nil
}

// hidden gives keys that the key set never shows.
func (k *keyring) hidden() (generation, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.unlisted == nil {
		g, err := newGeneration()
		if err != nil {
			return nil, err
		}
		k.unlisted = g
	}
	return k.unlisted, nil
}

// RotateKeys makes new signing keys. Those before them stay in the key set
// until the next rotation.
func (s *Server) RotateKeys() error {
	if _, err := s.keys.load(); err != nil {
		return err
	}
	g, err := newGeneration()
	if err != nil {
		return err
	}
	s.keys.mu.Lock()
	defer s.keys.mu.Unlock()
	s.keys.generations = append(s.keys.generations, g)
	return nil
}

// jwks is the public half (RFC 7517 5).
func (s *Server) jwks(w http.ResponseWriter, _ *http.Request) {
	generations, err := s.keys.load()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	set := jose.JSONWebKeySet{}
	for i := len(generations) - 1; i >= 0; i-- {
		for _, alg := range []string{"RS256", "ES256"} {
			key := generations[i][alg]
			set.Keys = append(set.Keys, key.Public())
		}
	}
	w.Header().Set("Cache-Control", "public, max-age=300")
	writeJSON(w, http.StatusOK, set)
}

// sign makes a JWT of a type (RFC 7515 4.1.9).
func (s *Server) sign(alg, typ string, claims map[string]any) (string, error) {
	generations, err := s.keys.load()
	if err != nil {
		return "", err
	}
	keys := generations[len(generations)-1]
	if s.faults["unknown-kid"] {
		if keys, err = s.keys.hidden(); err != nil {
			return "", err
		}
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.SignatureAlgorithm(alg), Key: keys[alg]}, (&jose.SignerOptions{}).WithType(jose.ContentType(typ)))
	if err != nil {
		return "", err
	}
	payload, err := json.Marshal(claims)
	if err != nil {
		return "", err
	}
	jws, err := signer.Sign(payload)
	if err != nil {
		return "", err
	}
	return jws.CompactSerialize()
}

// verify returns the claims of a JWT that this server signed, with a key that
// is still published or, under the fault, with one that never was.
func (s *Server) verify(raw string) (map[string]any, error) {
	generations, err := s.keys.load()
	if err != nil {
		return nil, err
	}
	if s.faults["unknown-kid"] {
		unlisted, err := s.keys.hidden()
		if err != nil {
			return nil, err
		}
		generations = append([]generation{unlisted}, generations...)
	}
	jws, err := jose.ParseSignedCompact(raw, []jose.SignatureAlgorithm{jose.RS256, jose.ES256})
	if err != nil {
		return nil, err
	}
	header := jws.Signatures[0].Header
	for _, g := range generations {
		key, known := g[header.Algorithm]
		if !known || key.KeyID != header.KeyID {
			continue
		}
		payload, err := jws.Verify(key.Public())
		if err != nil {
			return nil, err
		}
		var claims map[string]any
		return claims, json.Unmarshal(payload, &claims)
	}
	return nil, fmt.Errorf("the token's key is not one of ours")
}
