package token

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
)

// What can be odd about a token by itself; the ids are those of the catalogue
// of causes.
const (
	OddRepeated     = "claim-repeated"
	OddType         = "claim-wrong-type"
	OddMilliseconds = "time-in-milliseconds"
	OddLongLife     = "lifetime-long"
	OddNoKeyID      = "header-kid-missing"
	OddUnsigned     = "algorithm-none"
	OddBackwards    = "times-out-of-order"
)

// longLife is a day: an access token that outlives it cannot be withdrawn in
// any useful time, since most APIs never ask its issuer.
const longLife = 24 * time.Hour

// Oddity is something about a token that will surprise whoever reads it.
type Oddity struct {
	ID     string
	Claim  string
	Value  string
	Detail string
}

// Oddities lists what is odd, in the order of the claims. A token without
// claims has none but its header's.
func (t *Token) Oddities() []Oddity {
	var out []Oddity
	for _, name := range t.Repeated {
		out = append(out, Oddity{OddRepeated, name, "", "stands there more than once; readers differ in which one they take (RFC 7519 4)"})
	}
	if t.Form == JWT || t.Form == JWS {
		if alg := t.Alg(); strings.EqualFold(alg, "none") || !t.Signed {
			out = append(out, Oddity{OddUnsigned, "alg", alg, "it is not signed: anyone could have written it"})
		} else if t.KeyID() == "" && !strings.HasPrefix(alg, "HS") {
			out = append(out, Oddity{OddNoKeyID, "kid", "", "the header names no key; a reader has to try all of the issuer's"})
		}
	}
	for _, name := range t.ClaimOrder {
		if c, known := Registry[name]; known {
			if o := t.oddValue(c); o != nil {
				out = append(out, *o)
			}
		}
	}
	return append(out, t.oddTimes()...)
}

// oddValue holds a claim against the type its definition gives it.
func (t *Token) oddValue(c Claim) *Oddity {
	v := t.Claims[c.Name]
	wrong := func(due string) *Oddity {
		return &Oddity{OddType, c.Name, jsonText(v), "it is " + kindOfValue(v) + ", and " + c.Source + " makes it " + due}
	}
	switch c.Kind {
	case KindTime:
		n, ok := v.(json.Number)
		if !ok {
			return wrong("a number of seconds")
		}
		if _, ok := numericDate(n); ok {
			return nil
		}
		if f, err := n.Float64(); err == nil && f > beyond && f < beyond*1000 {
			return &Oddity{OddMilliseconds, c.Name, n.String(), "it counts milliseconds; as seconds it would be the year " + fmt.Sprint(1970+int64(f)/31556952)}
		}
		return wrong("a number of seconds since 1970")
	case KindText:
		if _, ok := v.(string); !ok {
			return wrong("a text")
		}
	case KindList:
		switch l := v.(type) {
		case string:
			if listOnly[c.Name] {
				return wrong("an array of texts")
			}
		case []any:
			if slices.ContainsFunc(l, func(e any) bool { _, ok := e.(string); return !ok }) {
				return wrong("a text or an array of texts")
			}
		default:
			return wrong("a text or an array of texts")
		}
	}
	return nil
}

// listOnly are lists that are never a single text.
var listOnly = map[string]bool{"amr": true}

func (t *Token) oddTimes() []Oddity {
	iat, issued := t.Time("iat")
	exp, ends := t.Time("exp")
	nbf, begins := t.Time("nbf")
	if !issued && begins {
		iat, issued = nbf, true
	}
	var out []Oddity
	if issued && ends && exp.Sub(iat) > longLife {
		out = append(out, Oddity{OddLongLife, "exp", "", fmt.Sprintf("it lives for %d days; it cannot be taken back before that unless the API asks its issuer each time", int(exp.Sub(iat)/(24*time.Hour)))})
	}
	if ends && (begins && exp.Before(nbf) || issued && exp.Before(iat)) {
		out = append(out, Oddity{OddBackwards, "exp", "", "it ends before it begins"})
	}
	return out
}

func kindOfValue(v any) string {
	switch v.(type) {
	case string:
		return "a text"
	case json.Number:
		return "a number"
	case bool:
		return "true or false"
	case []any:
		return "an array"
	case map[string]any:
		return "an object"
	}
	return "null"
}

func jsonText(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(raw)
}
