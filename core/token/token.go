// Package token understands tokens: what form one has, what a JWT's header and
// claims say and mean, whether its signature is right and its times, issuer and
// audience fit, and how two of them differ.
//
//	paste.go     what people paste: quotes, headers, answers, broken lines
//	token.go     compact and JSON serialization (RFC 7515, RFC 7516, RFC 7519)
//	json.go      the JSON inside, read strictly and within bounds
//	registry.go  what claims and header parameters mean
//	reading.go   who it is for, who it is about, what it may do, who issued it
//	oddity.go    what is wrong with a token by itself
//	keys.go      keys from a JWKS, a PEM or JWK file, a shared secret
//	verify.go    signature, time, issuer, audience: judged one by one
//	decrypt.go   JWE
//	compare.go   two tokens side by side
//	lines.go     a token a line, in order, over all cores
//
// Everything is pure: keys, clock and expectations are handed in. A decoded
// token is not a verified one, and every Token says so.
package token

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"tidycourier/core/mask"
)

// Form is what a token is made of.
type Form string

const (
	JWT    Form = "jwt"    // a JSON Web Token (RFC 7519) in a JWS
	JWS    Form = "jws"    // signed content that is not a claims set (RFC 7515)
	JWE    Form = "jwe"    // encrypted: only its header can be read (RFC 7516)
	Opaque Form = "opaque" // a reference or an unknown form: only its issuer can read it
)

// Bounds on hostile tokens.
const (
	// MaxLength is 64 KiB: a header line beyond 16 KiB already fails at most servers.
	MaxLength = 64 << 10
	// MaxNesting bounds tokens in tokens; real ones have one inside.
	MaxNesting = 4
	// MaxSignatures bounds the signatures or recipients of a JSON serialization.
	MaxSignatures = 16
)

var (
	// ErrEmpty is returned when there is no token at all.
	ErrEmpty = errors.New("there is no token in what was given")
	// ErrTooLong is returned for a token beyond MaxLength.
	ErrTooLong = fmt.Errorf("longer than %d KiB, which no server accepts as a token", MaxLength>>10)
	// ErrGarbled is returned for something that begins like a JWT and cannot be read as one.
	ErrGarbled = errors.New("this begins like a JWT but cannot be read as one")
)

// Token is a decoded token. It shares memory with Raw.
type Token struct {
	Raw    string
	Form   Form
	Header map[string]any
	Claims map[string]any
	// Order of header parameters and claims as they stand in the token.
	HeaderOrder, ClaimOrder []string
	// Repeated are the names that stand there more than once: "exp", "header alg".
	Repeated []string

	Signed   bool   // a signature part is there; not that it is right
	Detached bool   // the content is elsewhere (RFC 7515 appendix F)
	JSON     bool   // in JSON serialization, not compact
	Parties  int    // signatures of a JWS, recipients of a JWE
	Content  string // of a JWS that is not a claims set
	Inner    *Token // of a nested JWT (RFC 7519 2), or what decryption gave

	payload string // the content, decoded
	print   string // the fingerprint, when verifying has computed it already
}

// Fingerprint compares tokens without showing them.
func (t *Token) Fingerprint() string {
	if t.print != "" {
		return t.print
	}
	return mask.Fingerprint(t.Raw)
}

// Alg is the header's alg, or "".
func (t *Token) Alg() string { s, _ := t.Header["alg"].(string); return s }

// KeyID is the header's kid, or "".
func (t *Token) KeyID() string { s, _ := t.Header["kid"].(string); return s }

// Type is the header's typ in lower case without "application/" (RFC 7515 4.1.9).
func (t *Token) Type() string {
	s, _ := t.Header["typ"].(string)
	return strings.TrimPrefix(strings.ToLower(s), "application/")
}

// Decode reads a token in compact or JSON serialization. White space around it
// is ignored. Anything that does not begin like a JWT is opaque, which is no
// error. What people paste around a token is Paste's business.
func Decode(raw string) (*Token, error) { return decodeAt(raw, 0, nil) }

// Decoder decodes many tokens. It remembers the headers it has met, which
// repeat from token to token: their maps are shared, and must not be changed.
// It is safe for concurrent use.
type Decoder struct {
	mu      sync.RWMutex
	headers map[string]members
	rooms   sync.Pool // maps of claims to fill again
}

// Decode is the function of that name.
func (d *Decoder) Decode(raw string) (*Token, error) { return decodeAt(raw, 0, d) }

// Done gives a token back whose claims are not needed any more, so that the next
// one can use their room.
func (d *Decoder) Done(t *Token) {
	if t.Claims != nil && len(t.Claims) <= 32 {
		clear(t.Claims)
		d.rooms.Put(t.Claims)
		t.Claims = nil
	}
}

func (d *Decoder) room() map[string]any {
	if d == nil {
		return nil
	}
	room, _ := d.rooms.Get().(map[string]any)
	return room
}

// header reads a protected header, or remembers it.
func (d *Decoder) header(encoded string) (members, error) {
	if d == nil {
		return part(encoded)
	}
	d.mu.RLock()
	m, known := d.headers[encoded]
	d.mu.RUnlock()
	if known {
		return m, nil
	}
	m, err := part(encoded)
	if err != nil {
		return m, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.headers == nil {
		d.headers = map[string]members{}
	}
	if len(d.headers) < maxHeaders {
		d.headers[strings.Clone(encoded)] = m
	}
	return m, nil
}

func decodeAt(raw string, level int, d *Decoder) (*Token, error) {
	raw = strings.TrimSpace(raw)
	switch {
	case raw == "":
		return nil, ErrEmpty
	case len(raw) > MaxLength:
		return nil, ErrTooLong
	case level > MaxNesting:
		return nil, fmt.Errorf("%w: tokens stand in tokens more than %d deep", ErrGarbled, MaxNesting)
	case raw[0] == '{':
		return decodeJSON(raw, level)
	}
	t := &Token{Raw: raw, Form: Opaque}
	if !strings.HasPrefix(raw, "eyJ") {
		return t, nil
	}
	first, rest, dotted := strings.Cut(raw, ".")
	if !dotted {
		if _, err := part(first); err == nil {
			return nil, fmt.Errorf("%w: it has no dot, so only the header is here; was it cut off?", ErrGarbled)
		}
		return t, nil
	}
	if err := t.header(first, d); err != nil {
		return nil, err
	}
	parts := strings.Count(rest, ".") + 2
	switch parts {
	case 5:
		t.Form, t.Parties = JWE, 1
		return t, nil
	case 3:
	default:
		return nil, fmt.Errorf("%w: it has %d parts, a signed token has 3 and an encrypted one 5", ErrGarbled, parts)
	}
	content, signature, _ := strings.Cut(rest, ".")
	t.Form, t.Signed, t.Parties = JWT, signature != "", 1
	if !base64URL(signature) {
		return nil, fmt.Errorf("%w: the signature, its third part, is not base64url (RFC 7515 2)", ErrGarbled)
	}
	return t, t.content(content, level, d)
}

// header reads the protected header.
func (t *Token) header(encoded string, d *Decoder) error {
	m, err := d.header(encoded)
	if err != nil {
		return fmt.Errorf("%w: the header, its first part, %w", ErrGarbled, err)
	}
	t.Header, t.HeaderOrder = m.values, m.order
	for _, name := range m.repeated {
		t.Repeated = append(t.Repeated, "header "+name)
	}
	return nil
}

// content reads the second part: claims, a token inside, other content, or
// nothing at all when it is detached.
func (t *Token) content(encoded string, level int, d *Decoder) error {
	if encoded == "" {
		t.Form, t.Detached = JWS, true
		return nil
	}
	plain, err := decodeBase64(encoded)
	if err != nil {
		return fmt.Errorf("%w: the claims, its second part, %w", ErrGarbled, err)
	}
	t.payload = plain
	if t.nested(plain) {
		if t.Inner, err = decodeAt(plain, level+1, nil); err != nil {
			return fmt.Errorf("%w: the token inside it: %w", ErrGarbled, err)
		}
		return nil
	}
	m, err := readInto(plain, d.room())
	if err == nil {
		t.Claims, t.ClaimOrder, t.Repeated = m.values, m.order, append(t.Repeated, m.repeated...)
		return nil
	}
	if claimsExpected(t, plain) {
		return fmt.Errorf("%w: the claims, its second part, %w", ErrGarbled, err)
	}
	t.Form, t.Content = JWS, plain
	return nil
}

// nested reports whether the content is a token: cty says so (RFC 7519 5.2), or
// it looks like one.
func (t *Token) nested(plain string) bool {
	cty, _ := t.Header["cty"].(string)
	return strings.EqualFold(cty, "JWT") || strings.HasPrefix(plain, "eyJ") && strings.Count(plain, ".") >= 2
}

// claimsExpected tells a damaged claims set from content that never was one.
func claimsExpected(t *Token, plain string) bool {
	typ := t.Type()
	return typ == "jwt" || strings.HasSuffix(typ, "+jwt") || strings.HasPrefix(strings.TrimSpace(plain), "{")
}

// part decodes one base64url part that must hold a JSON object.
func part(encoded string) (members, error) {
	plain, err := decodeBase64(encoded)
	if err != nil {
		return members{}, err
	}
	return readObject(plain)
}

// decodeBase64 decodes base64url without padding; padding is taken off, since
// that it should not be there is Paste's to say.
func decodeBase64(encoded string) (string, error) {
	encoded = strings.TrimRight(encoded, "=")
	raw := make([]byte, base64.RawURLEncoding.DecodedLen(len(encoded)))
	n, err := base64.RawURLEncoding.Decode(raw, []byte(encoded))
	if err != nil {
		if strings.ContainsAny(encoded, "+/") {
			return "", errors.New("is plain base64, where base64url is due: - and _ in place of + and / (RFC 7515 2)")
		}
		return "", fmt.Errorf("is not base64url (RFC 7515 2): %w", err)
	}
	return string(raw[:n]), nil
}

// base64URL checks the letters, padding allowed.
func base64URL(s string) bool {
	s = strings.TrimRight(s, "=")
	for i := 0; i < len(s); i++ {
		if !tokenBytes[s[i]] || s[i] == '.' {
			return false
		}
	}
	return true
}

// beyond is about the year 6300: milliseconds land past it and are no NumericDate.
const beyond = 1 << 37

// Time reads a NumericDate claim (RFC 7519 2): seconds since 1970, with or
// without a fraction. False when absent or no number.
func (t *Token) Time(claim string) (time.Time, bool) { return numericDate(t.Claims[claim]) }

func numericDate(v any) (time.Time, bool) {
	n, ok := v.(json.Number)
	if !ok {
		return time.Time{}, false
	}
	if i, err := n.Int64(); err == nil {
		return time.Unix(i, 0).UTC(), i >= 0 && i <= beyond
	}
	f, err := n.Float64()
	if err != nil || f < 0 || f > beyond {
		return time.Time{}, false
	}
	return time.Unix(int64(f), 0).UTC(), true
}

// Times is every claim that is a point in time, by name.
func (t *Token) Times() map[string]time.Time {
	out := map[string]time.Time{}
	for name := range t.Claims {
		if c, known := Registry[name]; known && c.Kind == KindTime {
			if at, ok := t.Time(name); ok {
				out[name] = at
			}
		}
	}
	return out
}

// Text is a claim that is a string, or "".
func (t *Token) Text(claim string) string { s, _ := t.Claims[claim].(string); return s }

// List reads a claim that is one string or an array of strings.
func (t *Token) List(claim string) []string { return texts(t.Claims[claim]) }

func texts(v any) []string {
	switch v := v.(type) {
	case string:
		return []string{v}
	case []any:
		var out []string
		for _, e := range v {
			if s, ok := e.(string); ok {
				out = append(out, s)
			}
		}
		return out
	}
	return nil
}

// Audience is who the token is for (RFC 7519 4.1.3).
func (t *Token) Audience() []string { return t.List("aud") }

// Scope is what the token may do: scope as a string (RFC 8693 4.2, RFC 9068
// 2.2.3), or scp as a string or an array, as several servers write it.
func (t *Token) Scope() []string {
	for _, claim := range []string{"scope", "scp"} {
		var out []string
		for _, s := range t.List(claim) {
			out = append(out, strings.Fields(s)...)
		}
		if len(out) > 0 {
			return out
		}
	}
	return nil
}

// Roles is the application permissions or roles in the token, if any.
func (t *Token) Roles() []string { return t.List("roles") }
