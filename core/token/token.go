// Package token reads tokens: what form one has, what a JWT's header and claims
// say, and what each of them means. It judges nothing it was not given: a
// decoded token is not a verified one, and every Token says so.
package token

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"tidycourier/core/mask"
)

// Form is what a token is made of.
type Form string

const (
	JWT    Form = "jwt"    // a signed JSON Web Token (RFC 7519, JWS compact form)
	JWE    Form = "jwe"    // an encrypted one: only its header can be read (RFC 7516)
	Opaque Form = "opaque" // a reference or an unknown form: only its issuer can read it
)

// Bounds on hostile tokens.
const (
	// MaxLength is 64 KiB: a header line beyond 16 KiB already fails at most servers.
	MaxLength = 64 << 10
	// MaxDepth bounds nesting in header and claims; real ones stay below 10.
	MaxDepth = 64
)

var (
	// ErrEmpty is returned when there is no token at all.
	ErrEmpty = errors.New("there is no token in what was given")
	// ErrTooLong is returned for a token beyond MaxLength.
	ErrTooLong = fmt.Errorf("longer than %d KiB, which no server accepts as a token", MaxLength>>10)
	// ErrGarbled is returned for something that begins like a JWT and cannot be read as one.
	ErrGarbled = errors.New("this begins like a JWT but cannot be read as one")
)

// Token is a decoded token.
type Token struct {
	Raw    string
	Form   Form
	Header map[string]any
	Claims map[string]any
	// Order of the claims as they stand in the token.
	HeaderOrder, ClaimOrder []string
	Signed                  bool // a signature part is there; not that it is right
}

// Fingerprint compares tokens without showing them.
func (t *Token) Fingerprint() string { return mask.Fingerprint(t.Raw) }

// Decode reads a token in compact form. White space around it is ignored.
// Anything that does not begin like a JWT is opaque, which is no error.
func Decode(raw string) (*Token, error) {
	raw = strings.TrimSpace(raw)
	switch {
	case raw == "":
		return nil, ErrEmpty
	case len(raw) > MaxLength:
		return nil, ErrTooLong
	}
	t := &Token{Raw: raw, Form: Opaque}
	parts := strings.Split(raw, ".")
	if !strings.HasPrefix(raw, "eyJ") || len(parts) < 2 {
		if strings.HasPrefix(raw, "eyJ") && looksLikeHeader(raw) {
			return nil, fmt.Errorf("%w: it has no dot, so only the header is here; was it cut off?", ErrGarbled)
		}
		return t, nil
	}
	header, order, err := object(parts[0])
	if err != nil {
		return nil, fmt.Errorf("%w: the header, its first part, %w", ErrGarbled, err)
	}
	t.Header, t.HeaderOrder = header, order
	switch {
	case len(parts) == 5:
		t.Form = JWE
		return t, nil
	case len(parts) != 3:
		return nil, fmt.Errorf("%w: it has %d parts, a signed token has 3 and an encrypted one 5", ErrGarbled, len(parts))
	}
	if t.Claims, t.ClaimOrder, err = object(parts[1]); err != nil {
		return nil, fmt.Errorf("%w: the claims, its second part, %w", ErrGarbled, err)
	}
	t.Form, t.Signed = JWT, parts[2] != ""
	return t, nil
}

func looksLikeHeader(raw string) bool {
	_, _, err := object(raw)
	return err == nil
}

// object decodes one base64url part that must hold a JSON object.
func object(part string) (map[string]any, []string, error) {
	raw, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(part, "="))
	if err != nil {
		return nil, nil, fmt.Errorf("is not base64url (RFC 7515 2): %w", err)
	}
	if err := depth(raw); err != nil {
		return nil, nil, err
	}
	var m map[string]any
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	if err := dec.Decode(&m); err != nil {
		return nil, nil, fmt.Errorf("is not a JSON object: %w", err)
	}
	if m == nil {
		return nil, nil, errors.New("is not a JSON object")
	}
	return m, memberOrder(raw), nil
}

// depth refuses nesting beyond MaxDepth without building anything.
func depth(raw []byte) error {
	level, inString := 0, false
	for i := 0; i < len(raw); i++ {
		switch c := raw[i]; {
		case inString && c == '\\':
			i++
		case c == '"':
			inString = !inString
		case inString:
		case c == '{' || c == '[':
			if level++; level > MaxDepth {
				return fmt.Errorf("nests deeper than %d levels", MaxDepth)
			}
		case c == '}' || c == ']':
			level--
		}
	}
	return nil
}

// memberOrder lists the names of an object's members as they stand in the text.
func memberOrder(raw []byte) []string {
	dec := json.NewDecoder(bytes.NewReader(raw))
	if _, err := dec.Token(); err != nil {
		return nil
	}
	var names []string
	for dec.More() {
		key, err := dec.Token()
		if err != nil {
			return names
		}
		name, _ := key.(string)
		names = append(names, name)
		var skip json.RawMessage
		if dec.Decode(&skip) != nil {
			return names
		}
	}
	return names
}

// Time reads a NumericDate claim (RFC 7519 2): seconds since 1970, with or
// without a fraction. False when absent or no number.
func (t *Token) Time(claim string) (time.Time, bool) {
	n, ok := t.Claims[claim].(json.Number)
	if !ok {
		return time.Time{}, false
	}
	f, err := n.Float64()
	const beyond = 1 << 37 // about the year 6300; milliseconds land past it and are no NumericDate
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
func (t *Token) List(claim string) []string {
	switch v := t.Claims[claim].(type) {
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
