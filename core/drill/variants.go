package drill

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/url"
	"strings"

	"tidycourier/core/token"
)

// Material is what variants are made of. Empty fields are not at hand.
type Material struct {
	Token     string // good for the call
	PublicKey []byte // PEM of the key that signed it
	Expired   string // a real one whose end has passed
	IDToken   string
	Refresh   string
	Other     string // another client's, without what the call needs
	OtherName string
	Narrow    string // of the same client, without the scope the call needs
	Header    string // the API's own header for tokens, or "" for Authorization
}

// Request is how one variant differs from the good call.
type Request struct {
	Authorization []string // header values; nil sends none
	Query         string   // raw query to add
}

// Variant is one way to send a call that must be refused, or must not be.
type Variant struct {
	Name   string
	Sent   string // what is sent, in words
	Accept bool   // it must be accepted
	Want   string // the error code that fits (RFC 6750 3.1), "" when none should be given
	Why    string // why it must be refused, with its source
	Make   func(m Material) (*Request, string)
}

const (
	notJWT   = "the token is no signed JWT"
	ownPlace = "the API takes its token in a header of its own"
)

func sends(value func(m Material) string) func(Material) (*Request, string) {
	return func(m Material) (*Request, string) { return &Request{Authorization: []string{value(m)}}, "" }
}

// inAuthorization is for variants of the Authorization header itself.
func inAuthorization(make func(m Material) *Request) func(Material) (*Request, string) {
	return func(m Material) (*Request, string) {
		if m.Header != "" {
			return nil, ownPlace + " (" + m.Header + ")"
		}
		return make(m), ""
	}
}

// altered changes a JWT's three parts; the result goes where a good one would.
func altered(change func(m Material, parts []string) ([]string, string)) func(Material) (*Request, string) {
	return func(m Material) (*Request, string) {
		parts := strings.Split(m.Token, ".")
		t, err := token.Decode(m.Token)
		if err != nil || t.Form != token.JWT || len(parts) != 3 || parts[2] == "" {
			return nil, notJWT
		}
		parts, missing := change(m, parts)
		if missing != "" {
			return nil, missing
		}
		return &Request{Authorization: []string{m.value(strings.Join(parts, "."))}}, ""
	}
}

// needs is for variants with another token, when there is one.
func needs(pick func(m Material) string, missing string) func(Material) (*Request, string) {
	return func(m Material) (*Request, string) {
		raw := pick(m)
		if raw == "" {
			return nil, missing
		}
		return &Request{Authorization: []string{m.value(raw)}}, ""
	}
}

// value is a token as the header carries it.
func (m Material) value(raw string) string {
	if m.Header != "" {
		return raw
	}
	return "Bearer " + raw
}

// Variants lists every variant, in the order they are sent.
var Variants = []Variant{
	{Name: "no-token", Sent: "no token at all", Why: "the path is protected (RFC 6750 3)",
		Make: func(Material) (*Request, string) { return &Request{}, "" }},
	{Name: "empty-token", Sent: "the scheme, and nothing behind it", Want: "invalid_request", Why: "an empty token stands for nobody (RFC 6750 2.1)",
		Make: sends(func(m Material) string { return strings.TrimRight(m.value(""), " ") + " " })},
	{Name: "wrong-scheme", Sent: "the token under the scheme Basic", Want: "invalid_request", Why: "Basic credentials are another thing (RFC 7617 2)",
		Make: inAuthorization(func(m Material) *Request { return &Request{Authorization: []string{"Basic " + m.Token}} })},
	{Name: "scheme-missing", Sent: "the token without Bearer before it", Want: "invalid_request", Why: "the header needs a scheme (RFC 9110 11.6.2)",
		Make: inAuthorization(func(m Material) *Request { return &Request{Authorization: []string{m.Token}} })},
	{Name: "lower-case-scheme", Sent: "bearer in small letters", Accept: true, Why: "schemes are not told apart by case (RFC 7235 2.1)",
		Make: inAuthorization(func(m Material) *Request { return &Request{Authorization: []string{"bearer " + m.Token}} })},
	{Name: "doubled-header", Sent: "two Authorization headers", Want: "invalid_request", Why: "which one counts is not settled (RFC 6750 2)",
		Make: inAuthorization(func(m Material) *Request {
			return &Request{Authorization: []string{"Bearer " + m.Token, "Bearer " + m.Token}}
		})},
	{Name: "token-in-query", Sent: "the token in the URL, as access_token", Want: "", Why: "URLs end up in logs and histories (RFC 9700 4.3.2)",
		Make: func(m Material) (*Request, string) {
			return &Request{Query: "access_token=" + url.QueryEscape(m.Token)}, ""
		}},
	{Name: "truncated", Sent: "the token without its last third", Want: "invalid_token", Why: "what is left is not the token",
		Make: sends(func(m Material) string { return m.value(m.Token[:len(m.Token)*2/3]) })},
	{Name: "signature-bit-flipped", Sent: "one bit of the signature changed", Want: "invalid_token", Why: "the signature is wrong (RFC 7515 5.2)",
		Make: altered(func(_ Material, p []string) ([]string, string) {
			raw, err := base64.RawURLEncoding.DecodeString(p[2])
			if err != nil || len(raw) == 0 {
				return nil, notJWT
			}
			raw[len(raw)/2] ^= 1
			return []string{p[0], p[1], base64.RawURLEncoding.EncodeToString(raw)}, ""
		})},
	{Name: "claims-changed", Sent: "other claims under the old signature", Want: "invalid_token", Why: "the signature covers the claims (RFC 7515 5.2)",
		Make: altered(func(_ Material, p []string) ([]string, string) {
			claims, ok := changedClaims(p[1])
			if !ok {
				return nil, notJWT
			}
			return []string{p[0], claims, p[2]}, ""
		})},
	{Name: "algorithm-none", Sent: "alg none, and no signature", Want: "invalid_token", Why: "anyone can write such a token (RFC 8725 2.1)",
		Make: altered(func(_ Material, p []string) ([]string, string) {
			return []string{encode(`{"alg":"none","typ":"at+jwt"}`), p[1], ""}, ""
		})},
	{Name: "public-key-as-secret", Sent: "HS256, made with the issuer's public key", Want: "invalid_token", Why: "everybody knows that key (RFC 8725 2.1)",
		Make: altered(func(m Material, p []string) ([]string, string) {
			if len(m.PublicKey) == 0 {
				return nil, "the issuer's public key is not to be had"
			}
			head := encode(`{"alg":"HS256","typ":"at+jwt"}`)
			mac := hmac.New(sha256.New, m.PublicKey)
			_, _ = mac.Write([]byte(head + "." + p[1])) // never fails (hash.Hash)
			return []string{head, p[1], base64.RawURLEncoding.EncodeToString(mac.Sum(nil))}, ""
		})},
	{Name: "expired", Sent: "a real token whose end has passed", Want: "invalid_token", Why: "exp is past (RFC 9068 4)",
		Make: needs(func(m Material) string { return m.Expired }, "the pouch holds no token whose end has passed")},
	{Name: "id-token", Sent: "an id token", Want: "invalid_token", Why: "it is for the client, not for an API (RFC 9068 2.2)",
		Make: needs(func(m Material) string { return m.IDToken }, "the pouch holds no id token of this server")},
	{Name: "refresh-token", Sent: "a refresh token", Want: "invalid_token", Why: "it is for the token endpoint alone (RFC 6749 1.5)",
		Make: needs(func(m Material) string { return m.Refresh }, "the pouch holds no refresh token of this server")},
	{Name: "other-client", Sent: "another client's token, lacking what is needed", Want: "insufficient_scope", Why: "audience or scope do not fit (RFC 9068 4)",
		Make: needs(func(m Material) string { return m.Other }, "no other client's token is at hand that lacks what the call needs")},
	{Name: "scope-lacking", Sent: "the client's own token, with less scope", Want: "insufficient_scope", Why: "the scope is missing (RFC 6750 3.1)",
		Make: needs(func(m Material) string { return m.Narrow }, "the server gives no token without the scope the call needs")},
}

func encode(text string) string { return base64.RawURLEncoding.EncodeToString([]byte(text)) }

// changedClaims makes the token somebody else's.
func changedClaims(part string) (string, bool) {
	raw, err := base64.RawURLEncoding.DecodeString(part)
	if err != nil {
		return "", false
	}
	var claims map[string]any
	if json.Unmarshal(raw, &claims) != nil {
		return "", false
	}
	claims["sub"] = "somebody-else"
	changed, err := json.Marshal(claims)
	return base64.RawURLEncoding.EncodeToString(changed), err == nil
}
