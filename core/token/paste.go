package token

import (
	"encoding/json"
	"net/url"
	"slices"
	"strings"
	"unicode"
)

// Pasted is a token as it was found in what somebody pasted.
type Pasted struct {
	Token    string   // what is left: the token alone
	TakenOff []string // what stood around or inside it, in the order it was taken off
	Which    string   // in a token answer: access_token, id_token or refresh_token
	Others   []string // the members of the token answer that were not chosen
}

// answerMembers are the tokens of a token answer (RFC 6749 5.1, OpenID Connect
// Core 3.1.3.3), in the order they are looked for.
var answerMembers = []string{"access_token", "id_token", "refresh_token"}

// maxLayers bounds what is taken off one after the other; quotes in a header in
// an option are three.
const maxLayers = 12

// Paste finds the token in what people really paste: a bare token, "Bearer
// eyJ…", a quoted string, a whole JSON token answer, a header line, a header as
// a command-line option quotes it, NAME=value, a redirect's fragment, a token
// broken over lines, percent-encoded, or with a comma behind it. which names the
// member to take of a token answer; "" takes the first of access, id, refresh.
//
// It never changes what a token is made of beyond that: what is left goes to
// Decode, which judges it.
func Paste(text, which string) Pasted {
	p := &Pasted{Token: text}
	for range maxLayers {
		before := p.Token
		if !p.peel(which) || p.Token == before {
			break
		}
	}
	p.joinLines()
	return *p
}

func (p *Pasted) off(what string) { p.TakenOff = append(p.TakenOff, what) }

// peel takes one layer off; false when there is none left.
func (p *Pasted) peel(which string) bool {
	trimmed := strings.TrimFunc(p.Token, func(r rune) bool { return unicode.IsSpace(r) || invisible(r) })
	if trimmed != p.Token {
		if strings.TrimSpace(p.Token) != trimmed {
			p.off("invisible characters around it")
		}
		p.Token = trimmed
		return true
	}
	for _, layer := range []func(string) bool{p.punctuation, p.answer, p.ellipsis, p.quotes, p.option, p.headerLine, p.scheme, p.assignment, p.location, p.percent, p.loneQuote} {
		if layer(which) {
			return true
		}
	}
	return false
}

func invisible(r rune) bool { return unicode.In(r, unicode.Cf) || r == 0 }

// answer takes the token out of a JSON document: a token answer, an object that
// holds one, or a string.
func (p *Pasted) answer(which string) bool {
	switch {
	case strings.HasPrefix(p.Token, "{"):
		m, err := readObject(p.Token)
		if err != nil {
			return p.member(which)
		}
		return p.fromObject(m.values, which)
	case strings.HasPrefix(p.Token, `"`):
		var s string
		if json.Unmarshal([]byte(p.Token), &s) != nil {
			return p.member(which)
		}
		p.Token = s
		p.off("double quotes")
		return true
	}
	return false
}

func (p *Pasted) fromObject(values map[string]any, which string) bool {
	for _, name := range chosen(which) {
		if s, ok := values[name].(string); ok && s != "" {
			p.Token, p.Which = s, name
			for _, other := range answerMembers {
				if o, ok := values[other].(string); ok && o != "" && other != name {
					p.Others = append(p.Others, other)
				}
			}
			p.off("the JSON token answer around it")
			return true
		}
	}
	// one level down: answers are sometimes wrapped; tokens are never that deep
	for _, name := range sortedNames(values) {
		if inner, ok := values[name].(map[string]any); ok && hasToken(inner) && p.fromObject(inner, which) {
			return true
		}
	}
	return false
}

func hasToken(values map[string]any) bool {
	return slices.ContainsFunc(answerMembers, func(name string) bool { s, ok := values[name].(string); return ok && s != "" })
}

func chosen(which string) []string {
	if which == "" {
		return answerMembers
	}
	return []string{which}
}

// member takes the value of "access_token": "…" out of a part of a JSON text
// that is not whole.
func (p *Pasted) member(which string) bool {
	for _, name := range chosen(which) {
		_, rest, found := strings.Cut(p.Token, `"`+name+`"`)
		if !found {
			continue
		}
		rest = strings.TrimLeft(rest, " \t\r\n")
		if !strings.HasPrefix(rest, ":") {
			continue
		}
		rest = strings.TrimLeft(rest[1:], " \t\r\n")
		if value, _, closed := strings.Cut(strings.TrimPrefix(rest, `"`), `"`); closed && strings.HasPrefix(rest, `"`) {
			p.Token, p.Which = value, name
			p.off("a piece of JSON around it")
			return true
		}
	}
	return false
}

// ellipsis tells a token that was shortened for show.
func (p *Pasted) ellipsis(string) bool {
	for _, tail := range []string{"…", "..."} {
		if s, cut := strings.CutSuffix(p.Token, tail); cut && s != "" {
			p.Token = s
			p.off("an ellipsis at its end: it was shortened by whoever showed it")
			return true
		}
	}
	return false
}

var quotePairs = []struct{ open, close, name string }{
	{`"`, `"`, "double quotes"}, {"'", "'", "single quotes"}, {"`", "`", "back quotes"}, {"“", "”", "curly quotes"}, {"‘", "’", "curly quotes"}, {"<", ">", "angle brackets"}, {`\"`, `\"`, "escaped quotes"},
}

func (p *Pasted) quotes(string) bool {
	for _, q := range quotePairs {
		if strings.HasPrefix(p.Token, q.open) && strings.HasSuffix(p.Token, q.close) && len(p.Token) >= len(q.open)+len(q.close) {
			p.Token = p.Token[len(q.open) : len(p.Token)-len(q.close)]
			p.off(q.name)
			return true
		}
	}
	return false
}

// loneQuote takes off one quote without its other, from a selection that missed it.
func (p *Pasted) loneQuote(string) bool {
	for _, q := range quotePairs {
		if s, cut := strings.CutPrefix(p.Token, q.open); cut {
			p.Token = s
			p.off("an opening quote")
			return true
		}
		if s, cut := strings.CutSuffix(p.Token, q.close); cut {
			p.Token = s
			p.off("a closing quote")
			return true
		}
	}
	return false
}

// option takes off a command-line option such as -H or --header.
func (p *Pasted) option(string) bool {
	if !strings.HasPrefix(p.Token, "-") {
		return false
	}
	name, rest, found := strings.Cut(p.Token, " ")
	if n, r, equals := strings.Cut(p.Token, "="); equals && len(n) < len(name) {
		name, rest, found = n, r, true
	}
	if !found || len(name) > 32 || strings.ContainsAny(name, `"'.`) {
		return false
	}
	p.Token = rest
	p.off("the option " + name)
	return true
}

// headerLine takes off a header's name: letters, digits and dashes before a colon.
func (p *Pasted) headerLine(string) bool {
	name, rest, found := strings.Cut(p.Token, ":")
	if !found || name == "" || len(name) > 40 || strings.HasPrefix(rest, "//") || !nameLike(name, "-") {
		return false
	}
	p.Token = rest
	p.off(name + ":")
	return true
}

func nameLike(s, also string) bool {
	for _, r := range s {
		if (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && !strings.ContainsRune(also, r) {
			return false
		}
	}
	return s != ""
}

func (p *Pasted) scheme(string) bool {
	name, rest, found := strings.Cut(p.Token, " ")
	if !found || !strings.EqualFold(name, "bearer") && !strings.EqualFold(name, "dpop") && !strings.EqualFold(name, "token") {
		return false
	}
	p.Token = rest
	p.off(name)
	return true
}

func (p *Pasted) punctuation(string) bool {
	s := strings.TrimRight(p.Token, ",;")
	what := "a comma or semicolon behind it"
	if s == p.Token && strings.HasSuffix(s, `\`) {
		s, what = strings.TrimRight(s, `\`), "a backslash at the line's end"
	}
	if s == p.Token || s == "" {
		return false
	}
	p.Token = s
	p.off(what)
	return true
}

// assignment takes off NAME= as in an environment, and export before it; and
// takes the token out of form-encoded text.
func (p *Pasted) assignment(which string) bool {
	if rest, cut := strings.CutPrefix(p.Token, "export "); cut {
		p.Token = rest
		p.off("export")
		return true
	}
	if strings.Contains(p.Token, "_token=") && p.fromForm(p.Token, which) {
		return true
	}
	name, rest, found := strings.Cut(p.Token, "=")
	if !found || rest == "" || len(name) > 40 || !nameLike(name, "_") || strings.Trim(rest, "=") == "" || strings.HasPrefix(name, "eyJ") {
		return false
	}
	p.Token = rest
	p.off(name + "=")
	return true
}

func (p *Pasted) fromForm(text, which string) bool {
	values, err := url.ParseQuery(strings.TrimLeft(text, "?#&"))
	if err != nil {
		return false
	}
	for _, name := range append(chosen(which), "id_token_hint", "token", "assertion", "client_assertion") {
		if v := values.Get(name); v != "" {
			p.Token, p.Which = v, name
			p.off("the parameters around it")
			return true
		}
	}
	return false
}

// location takes the token out of a URL's fragment or query.
func (p *Pasted) location(which string) bool {
	if !strings.Contains(p.Token, "://") || strings.ContainsAny(p.Token, " \n\"") {
		return false
	}
	u, err := url.Parse(p.Token)
	if err != nil {
		return false
	}
	return p.fromForm(u.EscapedFragment(), which) || p.fromForm(u.RawQuery, which)
}

// percent resolves percent-encoding, which no token has.
func (p *Pasted) percent(string) bool {
	if !strings.Contains(p.Token, "%") {
		return false
	}
	s, err := url.QueryUnescape(strings.ReplaceAll(p.Token, "+", "%2B"))
	if err != nil || s == p.Token {
		return false
	}
	p.Token = s
	p.off("percent-encoding")
	return true
}

// joinLines puts a token together that was broken over lines, when it is one:
// only a JWT can be told from words.
func (p *Pasted) joinLines() {
	s := p.Token
	if !strings.HasPrefix(s, "eyJ") || len(s) > MaxLength*2 {
		return
	}
	s = strings.NewReplacer(`\r\n`, "", `\n`, "", `\r`, "", "\\\n", "", "=\r\n", "", "=\n", "").Replace(s)
	hidden := false
	joined := strings.Map(func(r rune) rune {
		if unicode.IsSpace(r) {
			return -1
		}
		if invisible(r) {
			hidden = true
			return -1
		}
		return r
	}, s)
	if joined == p.Token {
		return
	}
	if hidden {
		p.off("invisible characters inside it")
	}
	switch {
	case strings.Contains(p.Token, "\n") || strings.Contains(p.Token, `\n`):
		p.off("line breaks inside it")
	case !hidden:
		p.off("spaces inside it")
	}
	p.Token = joined
	if s := strings.TrimRight(joined, "=,;\"'`"); s != joined && strings.Count(s, ".") >= 2 {
		p.Token = s
		p.off("characters behind it")
	}
}
