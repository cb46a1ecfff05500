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
	once sync.Once
	keys map[string]jose.JSONWebKey // by alg
	err  error
}

func (k *keyring) load() (map[string]jose.JSONWebKey, error) {
	k.once.Do(func() {
		rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
		if err != nil {
			k.err = err
			return
		}
		ecKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			k.err = err
			return
		}
		k.keys = map[string]jose.JSONWebKey{"RS256": named(rsaKey, "RS256"), "ES256": named(ecKey, "ES256")}
	})
	return k.keys, k.err
}

func named(key any, alg string) jose.JSONWebKey {
	j := jose.JSONWebKey{Key: key, Algorithm: alg, Use: "sig"}
	if print, err := j.Thumbprint(crypto.SHA256); err == nil {
		j.KeyID = fmt.Sprintf("%s-%x", alg, print[:4])
	}
	return j
}

// jwks is the public half (RFC 7517 5).
func (s *Server) jwks(w http.ResponseWriter, _ *http.Request) {
	keys, err := s.keys.load()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	set := jose.JSONWebKeySet{}
	for _, alg := range []string{"RS256", "ES256"} {
		key := keys[alg]
		set.Keys = append(set.Keys, key.Public())
	}
	w.Header().Set("Cache-Control", "public, max-age=300")
	writeJSON(w, http.StatusOK, set)
}

// sign makes a JWT of a type (RFC 7515 4.1.9).
func (s *Server) sign(alg, typ string, claims map[string]any) (string, error) {
	keys, err := s.keys.load()
	if err != nil {
		return "", err
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

// verify returns the claims of a JWT that this server signed.
func (s *Server) verify(raw string) (map[string]any, error) {
	keys, err := s.keys.load()
	if err != nil {
		return nil, err
	}
	jws, err := jose.ParseSignedCompact(raw, []jose.SignatureAlgorithm{jose.RS256, jose.ES256})
	if err != nil {
		return nil, err
	}
	key, known := keys[string(jws.Signatures[0].Header.Algorithm)]
	if !known || key.KeyID != jws.Signatures[0].Header.KeyID {
		return nil, fmt.Errorf("the token's key is not one of ours")
	}
	payload, err := jws.Verify(key.Public())
	if err != nil {
		return nil, err
	}
	var claims map[string]any
	return claims, json.Unmarshal(payload, &claims)
}
