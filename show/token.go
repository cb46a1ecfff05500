package show

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"tidycourier/core/flow"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// Token draws a token that was looked at: first what it is and whether anybody
// has verified it, then the four questions, the times, and the table.
func (p *Pen) Token(a *flow.Answered) {
	outer, t := a.Token, a.Inside
	p.tokenHead(outer, a.Verification)
	if len(a.Pasted.TakenOff) > 0 {
		p.kept("taken off", strings.Join(a.Pasted.TakenOff, ", "))
	}
	if len(a.Pasted.Others) > 0 {
		p.kept("read here", a.Pasted.Which+"; the answer also holds "+strings.Join(a.Pasted.Others, ", ")+": decode --which")
	}
	switch {
	case outer.Form == token.Opaque:
		return // the finding says all there is to say
	case outer.Form == token.JWE && outer.Claims == nil && outer.Inner == nil && outer.Content == "":
		p.claims("header", outer.Header, outer.HeaderOrder, token.HeaderRegistry)
		return
	}
	for wrap := outer; wrap != t; wrap = wrap.Inner {
		p.claims("header of the outer token", wrap.Header, wrap.HeaderOrder, token.HeaderRegistry)
		p.line()
		p.line("   inside it: ", p.strong(formName(wrap.Inner)), "  ", Safe(wrap.Inner.Alg()))
	}
	if t.Claims == nil {
		p.claims("header", t.Header, t.HeaderOrder, token.HeaderRegistry)
		p.content(t)
		p.verification(a.Verification)
		return
	}
	p.reading(t.Read())
	p.timeline(t)
	p.verification(a.Verification)
	p.claims("header", t.Header, t.HeaderOrder, token.HeaderRegistry)
	p.claims("claims", t.Claims, t.ClaimOrder, token.Registry)
}

func (p *Pen) prose(text string) {
	for _, l := range wrap(text, p.width()-3) {
		p.line("   ", l)
	}
}

// kept is one line about how the token came here.
func (p *Pen) kept(label, text string) {
	for i, l := range p.fold(Safe(text), p.width()-14) {
		if i > 0 {
			label = ""
		}
		p.line("   ", p.faint(pad(label, 9)), "  ", l)
	}
}

func formName(t *token.Token) string {
	name := map[token.Form]string{token.JWT: "JWT", token.JWS: "signed content (JWS)", token.JWE: "encrypted token (JWE)", token.Opaque: "opaque token"}[t.Form]
	switch {
	case t.Detached:
		name = "signature without its content (detached JWS)"
	case t.Form == token.JWT && !t.Signed:
		name = "unsecured JWT"
	}
	if t.JSON {
		name += ", JSON serialization"
	}
	return name
}

func (p *Pen) tokenHead(t *token.Token, v *token.Verification) {
	state := p.amber(shapeSoon + " not verified: anyone could have written this")
	switch {
	case t.Form == token.Opaque || t.Form == token.JWE:
		state = ""
	case !t.Signed || strings.EqualFold(t.Alg(), "none"):
		state = p.red(shapeBad + " not signed: anyone could have written this")
	case v != nil && v.Signature.Outcome == token.Fail:
		state = p.red(shapeBad + " not to be trusted")
	case v != nil && v.Failed():
		state = p.red(shapeBad + " signed, and not to be accepted")
	case v != nil && v.Signature.Outcome == token.Pass:
		state = p.accent(shapeGood) + " verified"
	}
	parts := []string{p.strong(formName(t)), Safe(t.Alg()), fmt.Sprintf("%d chars", len(t.Raw)), p.accent(t.Fingerprint())}
	if t.Parties > 1 {
		parts = append(parts, fmt.Sprintf("%d signatures or recipients", t.Parties))
	}
	p.line(strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), "  "), "   ", state)
}

// content draws what a JWS holds that is not a claims set.
func (p *Pen) content(t *token.Token) {
	p.line()
	switch {
	case t.Detached:
		p.line("   the content is elsewhere; the signature covers it (RFC 7515 appendix F)")
	case utf8.ValidString(t.Content):
		p.line(" ", p.faint("content"))
		for _, l := range wrapValue(Safe(t.Content), p.width()-3) {
			p.line("   ", l)
		}
	default:
		p.line("   the content is binary: ", fmt.Sprint(len(t.Content)), " bytes")
	}
}

// reading draws the four questions, the answers in one column and how one can
// tell in the next.
func (p *Pen) reading(r token.Reading) {
	p.line()
	answers := []struct {
		name string
		token.Answer
	}{{"for", r.For}, {"about", r.About}, {"may", r.May}, {"from", r.From}}
	if r.Kind != token.UnknownKind {
		answers = slices.Insert(answers, 0, struct {
			name string
			token.Answer
		}{"kind", token.Answer{Text: string(r.Kind), Why: r.KindWhy}})
	}
	value := 24
	for _, a := range answers {
		value = max(value, width(Safe(a.Text)))
	}
	value = min(value, (p.width()-12)*6/10)
	for _, a := range answers {
		if a.Text == "" {
			for i, l := range p.fold(Safe(a.Why), p.width()-12) {
				if i > 0 {
					p.line("            ", l)
					continue
				}
				p.line("   ", p.accent(pad(a.name, 5)), "  ", p.amber(shapeSoon+" "+l))
			}
			continue
		}
		p.columns(a.name, 5, wrapValue(Safe(a.Text), value), value, p.fold(Safe(a.Why), max(20, p.width()-value-14)))
	}
}

// columns draws a name, a value and a faint remark, each of several lines.
func (p *Pen) columns(name string, nameWidth int, text []string, textWidth int, why []string) {
	for i := range max(len(text), len(why)) {
		left, right := "", ""
		if i < len(text) {
			left = text[i]
		}
		if i < len(why) {
			right = why[i]
		}
		p.line("   ", p.accent(pad(name, nameWidth)), "  ", pad(left, textWidth), "  ", p.faint(right))
		name = ""
	}
}

// verification draws what was judged, part by part.
func (p *Pen) verification(v *token.Verification) {
	if v == nil {
		return
	}
	p.line()
	p.line(" ", p.faint("verified with "+Safe(v.Keys)))
	for _, c := range v.Checks() {
		mark, reason := p.faint(shapeNote), p.fold(Safe(c.Reason), p.width()-19)
		switch c.Outcome {
		case token.Pass:
			mark = p.accent(shapeGood)
		case token.Fail:
			mark = p.red(shapeBad)
		}
		for i, l := range reason {
			if i > 0 {
				p.line("     ", pad("", 10), "  ", l)
				continue
			}
			p.line("   ", mark, " ", pad(c.Name, 10), "  ", l)
		}
	}
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
		longest = max(longest, width(text))
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
		if c.Compare != "" && c.Kind != token.KindTime { // times stand on the timeline
			meaning += "; compare with " + c.Compare
		}
		if !known {
			meaning = "not registered; ask its issuer"
		}
		lines := wrapValue(text, value)
		hint := wrap(meaning, p.width()-name-value-7)
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
	Form         token.Form           `json:"form"`
	Header       map[string]any       `json:"header"`
	Claims       map[string]any       `json:"claims"`
	Times        map[string]time.Time `json:"times"`
	Scope        []string             `json:"scope"`
	Audience     []string             `json:"audience"`
	Fingerprint  string               `json:"fingerprint"`
	Signature    SignatureView        `json:"signature"`
	Reading      *token.Reading       `json:"reading,omitempty"`
	TakenOff     []string             `json:"taken_off,omitempty"`
	Client       string               `json:"client,omitempty"`
	Verification *token.Verification  `json:"verification,omitempty"`
	Inside       *DecodeView          `json:"inside,omitempty"` // of a token in a token
	Content      string               `json:"content,omitempty"`
	Findings     []run.Finding        `json:"findings"`
}

// SignatureView says what is known of the signature.
type SignatureView struct {
	Checked bool   `json:"checked"`
	Valid   *bool  `json:"valid"`
	Reason  string `json:"reason"`
}

// NewDecodeView makes the document of a token that was looked at.
func NewDecodeView(a *flow.Answered, findings []run.Finding) DecodeView {
	v := tokenView(a.Token, a.Verification)
	v.TakenOff, v.Client, v.Verification, v.Findings = a.Pasted.TakenOff, a.Client, a.Verification, findings
	for at, t := &v, a.Token; t.Inner != nil; t = t.Inner {
		inner := tokenView(t.Inner, a.Verification)
		at.Inside = &inner
		at = at.Inside
	}
	if a.Inside.Claims != nil {
		r := a.Inside.Read()
		v.Reading = &r
	}
	return v
}

func tokenView(t *token.Token, checked *token.Verification) DecodeView {
	v := DecodeView{Form: t.Form, Header: t.Header, Claims: t.Claims, Times: t.Times(), Scope: t.Scope(), Audience: t.Audience(),
		Fingerprint: t.Fingerprint(), Content: t.Content, Findings: []run.Finding{}, Signature: signatureView(t, checked)}
	if !utf8.ValidString(v.Content) {
		v.Content = ""
	}
	if v.Scope == nil {
		v.Scope = []string{}
	}
	if v.Audience == nil {
		v.Audience = []string{}
	}
	return v
}

func signatureView(t *token.Token, v *token.Verification) SignatureView {
	switch {
	case t.Form == token.Opaque:
		return SignatureView{Reason: "an opaque token has no signature to check"}
	case t.Form == token.JWE:
		return SignatureView{Reason: "an encrypted token can be checked only after it is decrypted"}
	case v != nil && v.Signature.Outcome != token.Skipped && t.Inner == nil:
		valid := v.Signature.Outcome == token.Pass
		return SignatureView{Checked: true, Valid: &valid, Reason: v.Signature.Reason}
	case !t.Signed:
		return SignatureView{Reason: "the token is not signed"}
	case v != nil:
		return SignatureView{Reason: v.Signature.Reason}
	}
	return SignatureView{Reason: "not asked for"}
}
