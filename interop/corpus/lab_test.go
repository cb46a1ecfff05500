package corpus

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// who is a client of a lab.
type who struct{ id, secret, method, redirect, grant string }

// lab is a server to record from, with its clients by their part in a case.
type lab struct {
	name                                              string
	base                                              string
	auth, token, me, intro, revoke, jwks, device, par string
	public, basic, post, job                          who
	scope                                             string                      // that a person may be asked for
	fork                                              func(faults ...string) *lab // the same with faults; nil when it has none
	pages                                             func() *lab                 // the same, showing its pages; nil when it does anyway
	signer                                            *rsa.PrivateKey
}

// run is one case being recorded.
type run struct {
	*recorder
	l        *lab
	verifier string
	state    string
}

func random() string {
	raw := make([]byte, 32)
	_, _ = rand.Read(raw) // never fails
	return base64.RawURLEncoding.EncodeToString(raw)
}

func s256(v string) string {
	sum := sha256.Sum256([]byte(v))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// params edits parameters: NAME, VALUE pairs; the value "-" takes one away.
func params(v url.Values, edits []string) url.Values {
	for i := 0; i+1 < len(edits); i += 2 {
		if edits[i+1] == "-" {
			v.Del(edits[i])
			continue
		}
		v.Set(edits[i], edits[i+1])
	}
	return v
}

// authURL is an authorization request of a client, with edits.
func (c *run) authURL(w who, edits ...string) string {
	c.verifier, c.state = random(), random()[:16]
	v := url.Values{"response_type": {"code"}, "client_id": {w.id}, "redirect_uri": {w.redirect}, "scope": {c.l.scope}, "state": {c.state},
		"nonce": {random()[:16]}, "code_challenge": {s256(c.verifier)}, "code_challenge_method": {"S256"}}
	if strings.Contains(c.l.scope, "offline_access") {
		v.Set("prompt", "consent")
	}
	return c.l.auth + "?" + params(v, edits).Encode()
}

// signIn takes a client's request through the browser to the landing.
func (c *run) signIn(w who, edits ...string) url.Values {
	return c.land(c.browse(c.authURL(w, edits...), false))
}

func basic(id, secret string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(url.QueryEscape(id)+":"+url.QueryEscape(secret)))
}

// as gives header and form of a client's own authentication.
func (w who) as(v url.Values) (http.Header, url.Values) {
	h := pairs("Accept", "application/json")
	switch w.method {
	case "client_secret_basic":
		h.Set("Authorization", basic(w.id, w.secret))
	case "client_secret_post":
		v.Set("client_id", w.id)
		v.Set("client_secret", w.secret)
	default:
		v.Set("client_id", w.id)
	}
	return h, v
}

// redeem exchanges a code, with edits of the form.
func (c *run) redeem(w who, code string, edits ...string) answer {
	v := url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {w.redirect}, "code_verifier": {c.verifier}}
	h, v := w.as(v)
	return c.do("POST", c.l.token, h, params(v, edits).Encode())
}

// grantOf asks for a token by client credentials, with edits of the form.
func (c *run) machine(w who, edits ...string) answer {
	h, v := w.as(url.Values{"grant_type": {"client_credentials"}, "scope": {"gauges.read"}})
	return c.do("POST", c.l.token, h, params(v, edits).Encode())
}

func (c *run) refresh(w who, token string, edits ...string) answer {
	h, v := w.as(url.Values{"grant_type": {"refresh_token"}, "refresh_token": {token}})
	return c.do("POST", c.l.token, h, params(v, edits).Encode())
}

func (a answer) member(name string) string {
	var m map[string]any
	_ = json.Unmarshal([]byte(a.body), &m)
	s, _ := m[name].(string)
	return s
}

// tokens signs a person in and redeems the code.
func (c *run) tokens(w who, edits ...string) answer {
	return c.redeem(w, c.signIn(w, edits...).Get("code"))
}

func (c *run) call(method, address string, h ...string) answer {
	return c.do(method, address, pairs(append([]string{"Accept", "application/json"}, h...)...), "")
}

func (c *run) discover() {
	c.do("GET", c.l.base+"/.well-known/openid-configuration", pairs("Accept", "application/json"), "")
}

// assertion signs a client assertion of the lab's signer; claims edit the good
// ones, with nil taking one away.
func (c *run) assertion(edits map[string]any) string {
	now := time.Now().Unix()
	claims := map[string]any{"iss": "signer", "sub": "signer", "aud": c.l.token, "iat": now, "exp": now + 120, "jti": random()}
	for k, v := range edits {
		if v == nil {
			delete(claims, k)
			continue
		}
		claims[k] = v
	}
	return sign(jose.RS256, jose.JSONWebKey{Key: c.l.signer, KeyID: "signer-1"}, claims, nil)
}

func sign(alg jose.SignatureAlgorithm, key any, claims map[string]any, head map[jose.HeaderKey]any) string {
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: alg, Key: key}, &jose.SignerOptions{ExtraHeaders: head})
	if err != nil {
		panic(err)
	}
	raw, _ := json.Marshal(claims)
	o, err := s.Sign(raw)
	if err != nil {
		panic(err)
	}
	out, err := o.CompactSerialize()
	if err != nil {
		panic(err)
	}
	return out
}

const assertionType = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"

// asserted asks for a token with an assertion.
func (c *run) asserted(assertion string, edits ...string) answer {
	v := url.Values{"grant_type": {"client_credentials"}, "scope": {"gauges.read"}, "client_id": {"signer"}, "client_assertion_type": {assertionType}, "client_assertion": {assertion}}
	return c.do("POST", c.l.token, pairs("Accept", "application/json"), params(v, edits).Encode())
}

// proofKey makes DPoP proofs (RFC 9449).
type proofKey struct{ key *ecdsa.PrivateKey }

func newProofKey() proofKey {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	return proofKey{k}
}

func (k proofKey) proof(method, address, access string, edits map[string]any) string {
	claims := map[string]any{"jti": random(), "htm": method, "htu": address, "iat": time.Now().Unix()}
	if access != "" {
		claims["ath"] = s256(access)
	}
	for n, v := range edits {
		claims[n] = v
	}
	jwk := jose.JSONWebKey{Key: &k.key.PublicKey}
	return sign(jose.ES256, k.key, claims, map[jose.HeaderKey]any{"typ": "dpop+jwt", "jwk": jwk})
}

// settings is the courier file of a case: the client as it is meant to be.
func (c *run) settings(w who) string {
	if w.id == "" {
		return ""
	}
	lines := []string{"version: 1", "servers:", fmt.Sprintf("  server: { issuer: %q }", c.l.base), "clients:", "  client:", "    server: server", fmt.Sprintf("    client_id: %q", w.id),
		fmt.Sprintf("    token_endpoint_auth_method: %s", w.method), "    grant: " + w.grant}
	if w.secret != "" {
		lines = append(lines, "    client_secret: { env: CLIENT_SECRET }")
	}
	if w.redirect != "" {
		lines = append(lines, fmt.Sprintf("    redirect_uri: %q", w.redirect))
	}
	lines = append(lines, "    scope: ["+strings.Join(strings.Fields(c.l.scope), ", ")+"]")
	return strings.Join(lines, "\n") + "\n"
}
