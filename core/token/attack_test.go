package token

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	testRSA, _   = rsa.GenerateKey(rand.Reader, 2048)
	testOther, _ = rsa.GenerateKey(rand.Reader, 2048)
	testEC, _    = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
)

func b64(s string) string { return base64.RawURLEncoding.EncodeToString([]byte(s)) }

// sign makes a token with any header.
func sign(t *testing.T, alg jose.SignatureAlgorithm, key any, kid, claims string, header map[jose.HeaderKey]any) string {
	t.Helper()
	opt := &jose.SignerOptions{ExtraHeaders: header}
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: alg, Key: jose.JSONWebKey{Key: key, KeyID: kid}}, opt)
	require.NoError(t, err)
	jws, err := s.Sign([]byte(claims))
	require.NoError(t, err)
	raw, err := jws.CompactSerialize()
	require.NoError(t, err)
	return raw
}

func jwks(t *testing.T, keys ...jose.JSONWebKey) *KeySet {
	t.Helper()
	raw, err := json.Marshal(jose.JSONWebKeySet{Keys: keys})
	require.NoError(t, err)
	set, err := ParseJWKS(raw)
	require.NoError(t, err)
	return set
}

func publicPEM(t *testing.T) []byte {
	t.Helper()
	der, err := x509.MarshalPKIXPublicKey(&testRSA.PublicKey)
	require.NoError(t, err)
	return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})
}

// signature judges one token's signature.
func signature(t *testing.T, raw string, keys *KeySet) Check {
	t.Helper()
	tok, err := Decode(raw)
	require.NoError(t, err)
	return NewVerifier(keys).Verify(tok, Expect{}).Signature
}

// TestAttacks are those of RFC 8725 2 and 3, and what an issuer's slip looks like.
func TestAttacks(t *testing.T) {
	const claims = `{"iss":"https://h","sub":"pilot"}`
	good := sign(t, jose.RS256, testRSA, "k1", claims, nil)
	parts := strings.Split(good, ".")
	mac := func(header, key string) string {
		in := b64(header) + "." + b64(claims)
		m := hmac.New(sha256.New, []byte(key))
		m.Write([]byte(in))
		return in + "." + base64.RawURLEncoding.EncodeToString(m.Sum(nil))
	}
	keys := jwks(t, jose.JSONWebKey{Key: &testRSA.PublicKey, KeyID: "k1", Algorithm: "RS256", Use: "sig"}, jose.JSONWebKey{Key: &testEC.PublicKey, KeyID: "k2"},
		jose.JSONWebKey{Key: &testRSA.PublicKey, KeyID: "k3", Use: "enc"})
	pub := publicPEM(t)
	pemKeys, err := ParseKey(pub)
	require.NoError(t, err)
	flipped, err := base64.RawURLEncoding.DecodeString(parts[2])
	require.NoError(t, err)
	flipped[10] ^= 1
	tests := []struct {
		name, raw string
		keys      *KeySet
		cause     string
		says      string
	}{
		{"the healthy token", good, keys, "", "made with RS256, key k1"},
		{"a key from a file fits whatever the kid", good, pemKeys, "", "RS256"},
		{"alg none (2.1)", b64(`{"alg":"none"}`) + "." + parts[1] + ".", keys, CauseAlgNone, "anyone"},
		{"alg NoNe with the old signature", b64(`{"alg":"NoNe"}`) + "." + parts[1] + "." + parts[2], keys, CauseAlgNone, "anyone"},
		{"signature taken off", parts[0] + "." + parts[1] + ".", keys, CauseAlgNone, "anyone"},
		{"HS256 with the public key as secret, PEM (2.1)", mac(`{"alg":"HS256","kid":"k1"}`, string(pub)), pemKeys, CauseAlg, "public ones"},
		{"HS256 with the public key as secret, JWKS", mac(`{"alg":"HS256","kid":"k1"}`, string(pub)), keys, CauseAlg, "public ones"},
		{"claims changed", parts[0] + "." + b64(`{"iss":"https://h","sub":"keeper"}`) + "." + parts[2], keys, CauseSignature, "changed"},
		{"one bit of the signature", parts[0] + "." + parts[1] + "." + b64(string(flipped)), keys, CauseSignature, "changed"},
		{"another issuer's key", sign(t, jose.RS256, testOther, "k1", claims, nil), keys, CauseSignature, "not made with it"},
		{"unknown kid", sign(t, jose.RS256, testRSA, "k9", claims, nil), keys, CauseKeyNotFound, "k1, k2, k3"},
		{"kid of a key of another kind (3.1)", sign(t, jose.RS256, testRSA, "k2", claims, nil), keys, CauseAlg, "EC P-256"},
		{"another algorithm than the key's (3.1)", sign(t, jose.PS256, testRSA, "k1", claims, nil), keys, CauseAlg, "RS256"},
		{"a key for encryption", sign(t, jose.RS256, testRSA, "k3", claims, nil), keys, CauseAlg, "encryption"},
		{"the sender's own key in the header (2.4)", sign(t, jose.RS256, testOther, "k1", claims, map[jose.HeaderKey]any{"jwk": jose.JSONWebKey{Key: &testOther.PublicKey}}), keys, CauseSignature, "not made with it"},
		{"crit that is not understood", sign(t, jose.RS256, testRSA, "k1", claims, map[jose.HeaderKey]any{"crit": []string{"tide"}, "tide": "high"}), keys, CauseSignature, "must be understood"},
		{"no kid: every fitting key is tried", sign(t, jose.RS256, testRSA, "", claims, nil), keys, "", "k1"},
		{"no kid, no key fits", sign(t, jose.RS256, testOther, "", claims, nil), keys, CauseSignature, ""},
		{"an algorithm nobody knows", b64(`{"alg":"RS255"}`) + "." + parts[1] + "." + parts[2], keys, CauseAlg, "RS255"},
		{"no key at all", good, &KeySet{Named: true}, CauseKeyNotFound, "no key"},
		{"a wrong secret", mac(`{"alg":"HS256"}`, "right-secret-of-the-tide-office-01"), secretKeys([]byte("wrong-secret-of-the-tide-office-01")), CauseSignature, "this secret"},
		{"a secret with a line break at its end", mac(`{"alg":"HS256"}`, "right-secret-of-the-tide-office-01"), secretKeys([]byte("right-secret-of-the-tide-office-01\n")), "", "without the line break"},
		{"a secret that is base64", mac(`{"alg":"HS256"}`, "right-secret-of-the-tide-office-01"), secretKeys([]byte(base64.StdEncoding.EncodeToString([]byte("right-secret-of-the-tide-office-01")))), "", "as base64"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			c := signature(t, tt.raw, tt.keys)
			assert.Equal(t, tt.cause, c.Cause, c.Reason)
			assert.Equal(t, tt.cause == "", c.Outcome == Pass)
			assert.Contains(t, c.Reason, tt.says)
		})
	}
}

// TestProvedHeadersAreStillVerified: once a header and key have made a good
// signature, the short way must refuse what the long way refuses.
func TestProvedHeadersAreStillVerified(t *testing.T) {
	for _, alg := range []jose.SignatureAlgorithm{jose.RS256, jose.RS384, jose.RS512, jose.PS256} {
		v := NewVerifier(jwks(t, jose.JSONWebKey{Key: &testRSA.PublicKey, KeyID: "k1"}))
		first := mustDecode(t, sign(t, alg, testRSA, "k1", `{"n":1}`, nil))
		plain := first.Fingerprint()
		for range 3 {
			assert.Equal(t, Pass, v.signature(first).Outcome)
		}
		assert.Equal(t, plain, first.Fingerprint())
		second := sign(t, alg, testRSA, "k1", `{"n":2}`, nil)
		assert.Equal(t, Pass, v.signature(mustDecode(t, second)).Outcome)
		a, b := strings.Split(first.Raw, "."), strings.Split(second, ".")
		for name, raw := range map[string]string{"another's signature": b[0] + "." + b[1] + "." + a[2], "other claims": b[0] + "." + b64(`{"n":3}`) + "." + b[2], "cut": second[:len(second)-4],
			"another key": sign(t, alg, testOther, "k1", `{"n":2}`, nil)} {
			assert.Equal(t, CauseSignature, v.signature(mustDecode(t, raw)).Cause, "%s: %s", alg, name)
		}
	}
}

func TestPartsAreJudgedByThemselves(t *testing.T) {
	now := time.Unix(1774958400, 0)
	claims := fmt.Sprintf(`{"iss":"https://h","aud":["https://h/api","x"],"exp":%d,"nbf":%d}`, now.Unix()+100, now.Unix()-100)
	tok, err := Decode(sign(t, jose.ES256, testEC, "k", claims, nil))
	require.NoError(t, err)
	keys := jwks(t, jose.JSONWebKey{Key: &testOther.PublicKey, KeyID: "k"})
	v := NewVerifier(keys).Verify(tok, Expect{Now: now, Issuer: "https://h", Audience: []string{"https://h/api"}})
	assert.Equal(t, []Outcome{Fail, Pass, Pass, Pass}, []Outcome{v.Signature.Outcome, v.Time.Outcome, v.Issuer.Outcome, v.Audience.Outcome})
	assert.True(t, v.Failed())
	v = NewVerifier(jwks(t, jose.JSONWebKey{Key: &testEC.PublicKey, KeyID: "k"})).Verify(tok, Expect{Now: now.Add(time.Hour), Issuer: "https://h/", Audience: []string{"https://h/other"}})
	assert.Equal(t, []string{"", CauseExpired, CauseIssuer, CauseAudience}, []string{v.Signature.Cause, v.Time.Cause, v.Issuer.Cause, v.Audience.Cause})
	v = NewVerifier(keys).Verify(tok, Expect{Now: now.Add(-time.Hour)})
	assert.Equal(t, []Outcome{Fail, Skipped, Skipped}, []Outcome{v.Time.Outcome, v.Issuer.Outcome, v.Audience.Outcome})
	assert.Equal(t, CauseNotYet, v.Time.Cause)
	v = NewVerifier(keys).Verify(tok, Expect{Now: now.Add(130 * time.Second)})
	assert.Equal(t, Pass, v.Time.Outcome, "clocks may differ by a minute")
	assert.Contains(t, v.Time.Reason, "clocks")

	id, err := Decode(sign(t, jose.ES256, testEC, "k", `{"at_hash":"`+AccessHash("ES256", "the access token")+`"}`, nil))
	require.NoError(t, err)
	assert.Equal(t, Pass, NewVerifier(keys).Verify(id, Expect{AccessToken: "the access token"}).Binding.Outcome)
	assert.Equal(t, CauseAtHash, NewVerifier(keys).Verify(id, Expect{AccessToken: "another"}).Binding.Cause)
}

func TestHeadersAreRememberedWithinBounds(t *testing.T) {
	v := NewVerifier(jwks(t, jose.JSONWebKey{Key: &testRSA.PublicKey, KeyID: "k1"}))
	for i := range maxHeaders + 20 {
		tok, err := Decode(b64(fmt.Sprintf(`{"alg":"RS256","kid":"k%d"}`, i+5)) + "." + b64(`{}`) + ".c2ln")
		require.NoError(t, err)
		assert.Equal(t, CauseKeyNotFound, v.Verify(tok, Expect{}).Signature.Cause)
	}
	assert.Len(t, v.headers, maxHeaders)
	assert.Equal(t, Pass, v.signature(mustDecode(t, sign(t, jose.RS256, testRSA, "k1", `{}`, nil))).Outcome, "a header beyond the bound is judged all the same")
}

func mustDecode(t *testing.T, raw string) *Token {
	t.Helper()
	tok, err := Decode(raw)
	require.NoError(t, err)
	return tok
}

func TestBoundsOnKeys(t *testing.T) {
	small, err := ParseKey([]byte(`{"kty":"RSA","n":"` + b64(string(bytes.Repeat([]byte{0xc1}, 128))) + `","e":"AQAB"}`))
	assert.Nil(t, small)
	assert.ErrorContains(t, err, "1024 bits")
	_, err = ParseKey([]byte(`{"kty":"RSA","n":"` + b64(string(bytes.Repeat([]byte{0xc1}, 1024))) + `","e":"AQAB"}`))
	assert.Error(t, err, "8192 bits cost too much")
	one := `{"kty":"oct","kid":"k","k":"AAECAwQFBgcICQoLDA0ODw"}`
	set, err := ParseJWKS([]byte(`{"keys":[` + strings.TrimSuffix(strings.Repeat(one+",", MaxKeys), ",") + `]}`))
	require.NoError(t, err)
	assert.Len(t, set.Keys, MaxKeys)
	_, err = ParseJWKS([]byte(`{"keys":[` + strings.Repeat(one+",", MaxKeys) + one + `]}`))
	assert.ErrorContains(t, err, "more than 100")
	_, err = ParseJWKS(bytes.Repeat([]byte(" "), MaxKeySetSize+1))
	assert.ErrorContains(t, err, "larger")
	set, err = ParseJWKS([]byte(`{"keys":[{"kty":"XYZ","kid":"odd"},` + one + `]}`))
	require.NoError(t, err, "unknown kinds of keys are skipped (RFC 7517 5)")
	assert.Len(t, set.Keys, 1)
	assert.Contains(t, set.Skipped[0], "odd")
	off := `{"kty":"EC","crv":"P-256","x":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU","y":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU"}`
	_, err = ParseKey([]byte(off))
	assert.Error(t, err, "a point that is not on its curve (RFC 8725 2.5)")
	for _, bad := range []string{"", "-----BEGIN PUBLIC KEY-----\nAAAA\n-----END PUBLIC KEY-----\n", "-----BEGIN X", `{"keys":5}`, `{"kty":"oct"}`} {
		_, err := ParseKey([]byte(bad))
		assert.Error(t, err, bad)
	}
	der, err := x509.MarshalPKCS8PrivateKey(testEC)
	require.NoError(t, err)
	set, err = ParseKey(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
	require.NoError(t, err)
	assert.Equal(t, Pass, signature(t, sign(t, jose.ES256, testEC, "x", `{}`, nil), set).Outcome, "a private key verifies with its public half")
}

func TestBoundsOnEncryption(t *testing.T) {
	secret := jose.JSONWebKey{Key: bytes.Repeat([]byte{7}, 16)}
	encrypt := func(plain []byte) *Token {
		e, err := jose.NewEncrypter(jose.A128GCM, jose.Recipient{Algorithm: jose.DIRECT, Key: secret}, &jose.EncrypterOptions{Compression: jose.DEFLATE})
		require.NoError(t, err)
		jwe, err := e.Encrypt(plain)
		require.NoError(t, err)
		raw, err := jwe.CompactSerialize()
		require.NoError(t, err)
		return mustDecode(t, raw)
	}
	keys := &KeySet{Keys: []Key{{Type: typeSecret, public: secret.Key, private: secret.Key}}}
	open, err := Decrypt(encrypt([]byte(`{"sub":"pilot"}`)), keys)
	require.NoError(t, err)
	assert.Equal(t, "pilot", open.Text("sub"))
	bomb := encrypt(bytes.Repeat([]byte("tide"), MaxDecrypted))
	require.Less(t, len(bomb.Raw), 16<<10, "a bomb is small before it goes off")
	_, err = Decrypt(bomb, keys)
	assert.Error(t, err, "compressed content that grows beyond the bound (RFC 8725 2.9)")

	header := func(count int) string {
		return b64(fmt.Sprintf(`{"alg":"PBES2-HS256+A128KW","enc":"A128GCM","p2s":"c2FsdHNhbHQ","p2c":%d}`, count)) + ".YQ.YQ.YQ.YQ"
	}
	_, err = Decrypt(mustDecode(t, header(MaxPBES2Count+1)), keys)
	assert.ErrorContains(t, err, "rounds")
	_, err = Decrypt(mustDecode(t, header(1000)), keys)
	assert.ErrorIs(t, err, ErrNotDecrypted, "a usual count is tried")
	_, err = Decrypt(mustDecode(t, signedExample), keys)
	assert.ErrorContains(t, err, "not encrypted")

	inner, err := Decrypt(encrypt([]byte(signedExample)), keys)
	require.NoError(t, err)
	assert.Equal(t, "joe", inner.Inner.Text("iss"), "a token in a token (RFC 7519 5.2)")
	_, err = Decrypt(encrypt([]byte("eyJhbGciOiJub25lIn0.***.")), keys)
	assert.ErrorContains(t, err, "the token inside")
}
