package show

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"tidycourier/core/token"
)

// Token draws a decoded token. That nothing was checked is said first.
func (p *Pen) Token(t *token.Token) {
	switch t.Form {
	case token.Opaque:
		p.line(p.strong("opaque token"), "  ", fmt.Sprintf("%d chars", len(t.Raw)), "  ", p.accent(t.Fingerprint()))
		for _, l := range wrap("It is a reference that only its issuer can read: there is nothing in it to decode. That is normal. What it stands for, the server can tell.", p.width()-3) {
			p.line("   ", l)
		}
		return
	case token.JWE:
		p.line(p.strong("encrypted token (JWE)"), "  ", fmt.Sprintf("%d chars", len(t.Raw)), "  ", p.accent(t.Fingerprint()))
		p.line("   only the API it is for can read what is inside; its header says:")
		p.claims("header", t.Header, t.HeaderOrder, token.HeaderRegistry)
		return
	}
	alg, _ := t.Header["alg"].(string)
	state := p.amber(shapeSoon + " not verified: anyone could have written this")
	if !t.Signed {
		state = p.red(shapeBad + " not signed: anyone could have written this")
	}
	p.line(p.strong("JWT"), "  ", Safe(alg), "  ", fmt.Sprintf("%d chars", len(t.Raw)), "  ", p.accent(t.Fingerprint()), "   ", state)
	p.claims("header", t.Header, t.HeaderOrder, token.HeaderRegistry)
	p.claims("claims", t.Claims, t.ClaimOrder, token.Registry)
}

func (p *Pen) claims(title string, values map[string]any, order []string, registry map[string]token.Claim) {
	p.line()
	p.line(" ", p.faint(title))
	name := 4
	for _, n := range order {
		name = max(name, len(Safe(n)))
	}
	name = min(name, 24)
	longest := 0
	for _, n := range order {
		text, _ := p.claimText(values[n], registry[n])
		longest = max(longest, lipgloss.Width(text))
	}
	value := max(24, min(longest, (p.width()-name-6)*55/100))
	seen := map[string]bool{}
	for _, n := range order {
		if seen[n] {
			continue
		}
		seen[n] = true
		c, known := registry[n]
		text, soon := p.claimText(values[n], c)
		meaning := c.Meaning
		if !known {
			meaning = "not registered; ask its issuer"
		}
		lines := wrapValue(text, value)
		hint := wrap(meaning, p.width()-name-value-6)
		for i := range max(len(lines), len(hint)) {
			label, v, m := "", "", ""
			if i == 0 {
				label = Safe(n)
			}
			if i < len(lines) {
				v = lines[i]
			}
			if i < len(hint) {
				m = hint[i]
			}
			v = pad(v, value)
			if soon {
				v = p.amber(v)
			}
			p.line("   ", p.accent(pad(label, name)), "  ", v, "  ", p.faint(m))
		}
	}
}

// claimText is a claim's value as a person reads it; times absolute and
// relative. The second result marks what has passed or is not yet.
func (p *Pen) claimText(v any, c token.Claim) (string, bool) {
	if n, ok := v.(json.Number); ok && c.Kind == token.KindTime {
		if f, err := n.Float64(); err == nil && f >= 0 && f < 1<<37 {
			at := time.Unix(int64(f), 0)
			past := at.Before(p.Now())
			return at.Local().Format("2006-01-02 15:04:05 MST") + " · " + p.relative(at), c.Name == "exp" && past || c.Name == "nbf" && !past
		}
	}
	switch v := v.(type) {
	case string:
		return Safe(v), false
	case []any:
		var parts []string
		for _, e := range v {
			s, ok := e.(string)
			if !ok {
				return compact(v), false
			}
			parts = append(parts, Safe(s))
		}
		return strings.Join(parts, ", "), false
	}
	return compact(v), false
}

func compact(v any) string {
	raw, err := encode(v)
	if err != nil {
		return Safe(fmt.Sprint(v))
	}
	return Safe(string(raw))
}

// DecodeView is the --json document of decode.
type DecodeView struct {
	Form        token.Form           `json:"form"`
	Header      map[string]any       `json:"header"`
	Claims      map[string]any       `json:"claims"`
	Times       map[string]time.Time `json:"times"`
	Scope       []string             `json:"scope"`
	Audience    []string             `json:"audience"`
	Fingerprint string               `json:"fingerprint"`
	Signature   SignatureView        `json:"signature"`
	Findings    []any                `json:"findings"`
}

// SignatureView says what is known of the signature.
type SignatureView struct {
	Checked bool   `json:"checked"`
	Valid   *bool  `json:"valid"`
	Reason  string `json:"reason"`
}

// NewDecodeView makes the document of a token.
func NewDecodeView(t *token.Token) DecodeView {
	v := DecodeView{Form: t.Form, Header: t.Header, Claims: t.Claims, Times: t.Times(), Scope: t.Scope(), Audience: t.Audience(),
		Fingerprint: t.Fingerprint(), Findings: []any{}}
	if v.Scope == nil {
		v.Scope = []string{}
	}
	if v.Audience == nil {
		v.Audience = []string{}
	}
	switch {
	case t.Form == token.Opaque:
		v.Signature.Reason = "an opaque token has no signature to check"
	case t.Form == token.JWE:
		v.Signature.Reason = "an encrypted token can be checked only after it is decrypted"
	case !t.Signed:
		v.Signature.Reason = "the token is not signed"
	default:
		v.Signature.Reason = "not asked for"
	}
	return v
}
