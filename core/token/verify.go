package token

import (
	"crypto"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Leeway is how far two clocks may differ before a time in a token counts.
const Leeway = time.Minute

// Outcome of one check.
type Outcome string

const (
	Pass    Outcome = "pass"
	Fail    Outcome = "fail"
	Skipped Outcome = "skipped" // nothing to judge it by
)

// Check is one thing that was judged, and why.
type Check struct {
	Outcome Outcome `json:"outcome"`
	Reason  string  `json:"reason"`
	// Cause is the catalogue's id of what failed, or "".
	Cause string `json:"cause,omitempty"`
}

// Verification is a token held against keys, clock and expectations. Each part
// is judged by itself: a wrong audience says nothing about the signature.
type Verification struct {
	Signature Check  `json:"signature"`
	Time      Check  `json:"time"`
	Issuer    Check  `json:"issuer"`
	Audience  Check  `json:"audience"`
	Binding   *Check `json:"at_hash,omitempty"` // of an id token beside its access token
	KeyID     string `json:"kid,omitempty"`
	Keys      string `json:"keys,omitempty"` // where the keys are from
}

// Checks lists the parts by name, in order.
func (v *Verification) Checks() []NamedCheck {
	out := []NamedCheck{{"signature", v.Signature}, {"time", v.Time}, {"issuer", v.Issuer}, {"audience", v.Audience}}
	if v.Binding != nil {
		out = append(out, NamedCheck{"at_hash", *v.Binding})
	}
	return out
}

// NamedCheck is a Check with its name.
type NamedCheck struct {
	Name string
	Check
}

// Failed reports whether any part failed.
func (v *Verification) Failed() bool {
	return v.Signature.Outcome == Fail || v.Time.Outcome == Fail || v.Issuer.Outcome == Fail || v.Audience.Outcome == Fail || v.Binding != nil && v.Binding.Outcome == Fail
}

// Expect is what a token is held against. Empty fields are not judged.
type Expect struct {
	Now         time.Time
	Issuer      string
	Audience    []string // any one of them
	AccessToken string   // that an id token's at_hash must fit
}

// Causes of a failed verification, as the catalogue names them.
const (
	CauseSignature   = "signature-invalid"
	CauseKeyNotFound = "key-not-found"
	CauseAlgNone     = "algorithm-none"
	CauseAlg         = "algorithm-unexpected"
	CauseExpired     = "token-expired"
	CauseNotYet      = "token-not-yet-valid"
	CauseIssuer      = "issuer-unexpected"
	CauseAudience    = "audience-not-the-api"
	CauseAtHash      = "at-hash-mismatch"
)

// algorithms are those a signature may be made with, and the key each needs.
// EC curves are bound to their algorithm (RFC 7518 3.4).
var algorithms = map[string]struct{ keyType, curve string }{
	"RS256": {typeRSA, ""}, "RS384": {typeRSA, ""}, "RS512": {typeRSA, ""},
	"PS256": {typeRSA, ""}, "PS384": {typeRSA, ""}, "PS512": {typeRSA, ""},
	"ES256": {typeEC, "P-256"}, "ES384": {typeEC, "P-384"}, "ES512": {typeEC, "P-521"},
	"EdDSA": {typeOKP, ""},
	"HS256": {typeSecret, ""}, "HS384": {typeSecret, ""}, "HS512": {typeSecret, ""},
}

var joseAlgorithms = func() []jose.SignatureAlgorithm {
	var out []jose.SignatureAlgorithm
	for a := range algorithms {
		out = append(out, jose.SignatureAlgorithm(a))
	}
	return out
}()

// Verifier verifies tokens with one key set. It remembers the headers it has
// met, which repeat from token to token. It is safe for concurrent use.
type Verifier struct {
	keys *KeySet

	mu      sync.RWMutex
	headers map[string]*prepared
}

// maxHeaders bounds what a Verifier remembers.
const maxHeaders = 256

// prepared is a protected header that was judged: the keys to try, or why none.
type prepared struct {
	refused *Check
	keys    []*Key
	jws     *jose.JSONWebSignature
	proved  atomic.Pointer[Key] // the key that made a good signature with this header
	fit     Check               // what is said of those it makes
	once    sync.Once
}

// NewVerifier makes a Verifier of a key set.
func NewVerifier(keys *KeySet) *Verifier {
	return &Verifier{keys: keys, headers: map[string]*prepared{}}
}

// Verify judges a token. One without signature by design (opaque, encrypted)
// is skipped.
func (v *Verifier) Verify(t *Token, x Expect) Verification {
	out := Verification{Keys: v.keys.Source, KeyID: t.KeyID()}
	out.Signature = v.signature(t)
	out.Time, out.Issuer, out.Audience = t.checkTime(x.Now), t.checkIssuer(x.Issuer), t.checkAudience(x.Audience)
	if h := t.Text("at_hash"); h != "" && x.AccessToken != "" {
		c := Check{Pass, "it fits the access token", ""}
		if h != AccessHash(t.Alg(), x.AccessToken) {
			c = Check{Fail, "it belongs to another access token", CauseAtHash}
		}
		out.Binding = &c
	}
	return out
}

func failed(cause, format string, args ...any) Check {
	return Check{Fail, fmt.Sprintf(format, args...), cause}
}

// signature checks the signature alone.
func (v *Verifier) signature(t *Token) Check {
	switch {
	case t.Form == Opaque:
		return Check{Skipped, "an opaque token has no signature; its issuer can be asked (introspect)", ""}
	case t.Form == JWE:
		return Check{Skipped, "an encrypted token is checked after it is decrypted", ""}
	case t.Detached:
		return Check{Skipped, "the content is elsewhere (detached), and the signature covers it", ""}
	case strings.EqualFold(t.Alg(), "none") || !t.Signed:
		return failed(CauseAlgNone, "the token is not signed: anyone could have written it")
	case t.JSON:
		return v.signatureJSON(t)
	}
	header, rest, _ := strings.Cut(t.Raw, ".")
	p := v.prepare(header, t)
	if p.refused != nil {
		return *p.refused
	}
	_, encoded, _ := strings.Cut(rest, ".")
	signature, err := decodeBase64(encoded)
	if err != nil {
		return failed(CauseSignature, "the signature %s", err)
	}
	if p.again(t, t.Raw[:len(t.Raw)-len(encoded)-1], signature) {
		return p.fit
	}
	jws := *p.jws
	jws.Signatures = []jose.Signature{p.jws.Signatures[0]}
	jws.Signatures[0].Signature = []byte(signature)
	payload := []byte(t.payload)
	for _, k := range p.keys {
		if jws.DetachedVerify(payload, k.public) == nil {
			p.once.Do(func() { p.fit = fits(t, k); p.proved.Store(k) })
			return fits(t, k)
		}
	}
	return v.wrong(t, p.keys)
}

// again verifies a token whose header and key have made a good signature
// before: all that is left to do then is the arithmetic, which a stream should
// not pay the reading of the header for. False means that it has to be verified
// in full, not that it is wrong.
func (p *prepared) again(t *Token, input, signature string) bool {
	k := p.proved.Load()
	if k == nil {
		return false
	}
	key, ok := k.public.(*rsa.PublicKey)
	if !ok {
		return false
	}
	var sum []byte
	var hash crypto.Hash
	switch t.Alg() {
	case "RS256":
		sum, hash = t.hash(input), crypto.SHA256
	case "RS512":
		s := sha512.Sum512([]byte(input))
		sum, hash = s[:], crypto.SHA512
	default:
		return false
	}
	return rsa.VerifyPKCS1v15(key, hash, sum, []byte(signature)) == nil
}

func fits(t *Token, k *Key) Check {
	reason := "made with " + t.Alg()
	if k.ID != "" {
		reason += ", key " + k.ID
	}
	if k.How != "" {
		reason += ", " + k.How
	}
	return Check{Pass, reason, ""}
}

// wrong says that no key fits, and what that usually means.
func (v *Verifier) wrong(t *Token, tried []*Key) Check {
	switch {
	case len(tried) == 1 && tried[0].ID != "":
		return failed(CauseSignature, "the key %s is there, and the signature was not made with it: header or claims were changed, the token was cut, or another issuer uses the same kid", tried[0].ID)
	case tried[0].Type == typeSecret:
		return failed(CauseSignature, "the signature was not made with this secret, in any of the %d ways of reading it, or the token was changed", len(tried))
	case len(tried) == 1:
		return failed(CauseSignature, "the signature was not made with this key, or the token was changed")
	}
	return failed(CauseSignature, "none of the %d keys that could have made the signature did", len(tried))
}

// prepare judges a protected header once.
func (v *Verifier) prepare(header string, t *Token) *prepared {
	v.mu.RLock()
	p := v.headers[header]
	v.mu.RUnlock()
	if p != nil {
		return p
	}
	p = &prepared{}
	keys, refused := v.choose(t.Alg(), t.KeyID(), t.Header)
	if refused != nil {
		p.refused = refused
	} else {
		p.keys = keys
		jws, err := jose.ParseSignedCompact(header+".e30.AA", joseAlgorithms)
		if err != nil {
			c := failed(CauseSignature, "the header cannot be used: %s", strings.TrimPrefix(err.Error(), "go-jose/go-jose: "))
			p.refused = &c
		}
		p.jws = jws
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if len(v.headers) < maxHeaders {
		v.headers[strings.Clone(header)] = p
	}
	return p
}

// choose finds the keys that may have made a signature, or says why none may.
// The algorithm never chooses the kind of key by itself: a secret is used only
// where a secret was given (RFC 8725 2.1, 3.1).
func (v *Verifier) choose(alg, kid string, header map[string]any) ([]*Key, *Check) {
	no := func(cause, format string, args ...any) ([]*Key, *Check) {
		c := failed(cause, format, args...)
		return nil, &c
	}
	need, known := algorithms[alg]
	if !known {
		return no(CauseAlg, "the algorithm %q is not one that is verified here (RS, PS, ES and HS 256 to 512, EdDSA)", alg)
	}
	for _, name := range texts(header["crit"]) {
		if name != "b64" {
			return no(CauseSignature, "the header says that %q must be understood (crit, RFC 7515 4.1.11), and it is not", name)
		}
	}
	var fit, named []*Key
	for i := range v.keys.Keys {
		k := &v.keys.Keys[i]
		if v.keys.Named && kid != "" && k.ID != kid {
			continue
		}
		named = append(named, k)
		if k.Type == need.keyType && (need.curve == "" || k.curve == need.curve) && (k.Alg == "" || k.Alg == alg) && k.Use != "enc" {
			fit = append(fit, k)
		}
	}
	switch {
	case len(fit) > 0:
		return fit, nil
	case len(v.keys.Keys) == 0:
		return no(CauseKeyNotFound, "there is no key to verify with%s", v.skipped())
	case len(named) == 0:
		return no(CauseKeyNotFound, "no key is called %s; there are: %s%s", kid, orNone(v.keys.IDs()), v.skipped())
	case need.keyType == typeSecret:
		return no(CauseAlg, "%s is made with a shared secret, and the keys given are public ones: whoever knows them could have signed (RFC 8725 2.1)", alg)
	}
	k := named[0]
	return no(CauseAlg, "the token says %s, and %s is for %s: a token must not choose another kind of key (RFC 8725 3.1)", alg, keyName(k), keyPurpose(k))
}

func (v *Verifier) skipped() string {
	if len(v.keys.Skipped) == 0 {
		return ""
	}
	return " (not usable: " + strings.Join(v.keys.Skipped, "; ") + ")"
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "none with a kid"
	}
	return strings.Join(list, ", ")
}

func keyName(k *Key) string {
	if k.ID != "" {
		return "the key " + k.ID
	}
	return "the key given"
}

func keyPurpose(k *Key) string {
	switch {
	case k.Use == "enc":
		return "encryption"
	case k.Alg != "":
		return k.Alg
	case k.curve != "":
		return k.Type + " " + k.curve
	case k.Type == typeSecret:
		return "shared secrets (HS256 and the like)"
	}
	return k.Type
}

// signatureJSON verifies a JSON serialization: one good signature is enough to
// pass, and which one is said.
func (v *Verifier) signatureJSON(t *Token) Check {
	jws, err := jose.ParseSignedJSON(t.Raw, joseAlgorithms)
	if err != nil {
		var alg *jose.ErrUnexpectedSignatureAlgorithm
		if errors.As(err, &alg) {
			return failed(CauseAlg, "it is signed with %q, which is not verified here", alg.Got)
		}
		return failed(CauseSignature, "it cannot be verified: %s", strings.TrimPrefix(err.Error(), "go-jose/go-jose: "))
	}
	var last Check
	for i, s := range jws.Signatures {
		header := map[string]any{}
		if s.Header.ExtraHeaders["crit"] != nil {
			header["crit"] = s.Header.ExtraHeaders["crit"]
		}
		keys, refused := v.choose(s.Header.Algorithm, s.Header.KeyID, header)
		if refused != nil {
			last = *refused
			continue
		}
		for _, k := range keys {
			if at, _, _, err := jws.VerifyMulti(k.public); err == nil && at == i {
				return Check{Pass, fmt.Sprintf("signature %d of %d: made with %s", i+1, len(jws.Signatures), s.Header.Algorithm), ""}
			}
		}
		last = v.wrong(t, keys)
	}
	return last
}

// hash is the SHA-256 of the signing input, on the way to that of the whole
// token, which its fingerprint needs: the one begins with the other.
func (t *Token) hash(input string) []byte {
	h := sha256.New()
	_, _ = h.Write([]byte(input)) // never fails (hash.Hash)
	var room [2 * sha256.Size]byte
	sum := h.Sum(room[:0:sha256.Size]) // leaves h as it is
	_, _ = h.Write([]byte(t.Raw[len(input):]))
	t.print = hex.EncodeToString(h.Sum(room[sha256.Size:sha256.Size])[:4])
	return sum
}
