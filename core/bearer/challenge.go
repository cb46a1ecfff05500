// Package bearer holds the protected request as values: where the token goes
// (RFC 6750 2, or a header of the API's own), and what the API's challenge
// means (RFC 7235 4.1, RFC 6750 3).
package bearer

import (
	"errors"
	"fmt"
	"strings"
)

// Bounds on a hostile WWW-Authenticate header: real ones carry one or two
// challenges of a handful of parameters.
const (
	MaxChallengeBytes = 16 << 10
	MaxChallenges     = 32
)

// ErrChallengeTooLong is returned for a header beyond MaxChallengeBytes or
// with more than MaxChallenges challenges.
var ErrChallengeTooLong = errors.New("the challenge is longer than any real one")

// Challenge is one challenge of a WWW-Authenticate header.
type Challenge struct {
	Scheme string
	Token  string            // a token68 instead of parameters (RFC 7235 2.1)
	Params map[string]string // by lower-case name; the first of a doubled name wins
}

// Bearer reports whether the challenge is of the Bearer scheme (names compare
// without case, RFC 7235 2.1).
func (c Challenge) Bearer() bool { return strings.EqualFold(c.Scheme, "Bearer") }

// Error, Description and Scope are the RFC 6750 3 parameters.
func (c Challenge) Error() string       { return c.Params["error"] }
func (c Challenge) Description() string { return c.Params["error_description"] }
func (c Challenge) Scope() []string     { return strings.Fields(c.Params["scope"]) }

// ParseChallenges reads every challenge of the given header values. What could
// be read before a defect is returned along with the error that names it.
func ParseChallenges(values []string) ([]Challenge, error) {
	var out []Challenge
	total := 0
	for _, v := range values {
		if total += len(v); total > MaxChallengeBytes {
			return out, ErrChallengeTooLong
		}
		p := parser{text: v}
		list, err := p.challenges()
		if out = append(out, list...); err != nil {
			return out, err
		}
		if len(out) > MaxChallenges {
			return out[:MaxChallenges], ErrChallengeTooLong
		}
	}
	return out, nil
}

// parser walks one header value.
type parser struct {
	text string
	at   int
}

func (p *parser) challenges() ([]Challenge, error) {
	var out []Challenge
	for {
		p.skip(" \t,")
		if p.at == len(p.text) {
			return out, nil
		}
		scheme := p.token()
		if scheme == "" {
			return out, fmt.Errorf("the challenge has %q at position %d where a scheme name was due (RFC 7235 2.1)", p.text[p.at], p.at+1)
		}
		c := Challenge{Scheme: scheme, Params: map[string]string{}}
		err := p.parameters(&c)
		if out = append(out, c); err != nil {
			return out, err
		}
		if len(out) > MaxChallenges {
			return out, ErrChallengeTooLong
		}
	}
}

// parameters reads what follows a scheme: a token68, or name=value pairs up to
// the next scheme name.
func (p *parser) parameters(c *Challenge) error {
	if !p.space() {
		return nil
	}
	if t := p.token68(); t != "" {
		c.Token = t
		return nil
	}
	for {
		p.skip(" \t,")
		start := p.at
		name := strings.ToLower(p.token())
		p.skip(" \t")
		if name == "" || !p.take('=') {
			p.at = start // the next scheme, or nothing at all
			return nil
		}
		p.skip(" \t")
		value, err := p.value(name)
		if err != nil {
			return err
		}
		if _, met := c.Params[name]; !met {
			c.Params[name] = value
		}
	}
}

func (p *parser) value(name string) (string, error) {
	if !p.take('"') {
		start := p.at
		for p.at < len(p.text) && !strings.ContainsRune(" \t,", rune(p.text[p.at])) {
			p.at++
		}
		return p.text[start:p.at], nil
	}
	var b strings.Builder
	for p.at < len(p.text) {
		ch := p.text[p.at]
		p.at++
		switch {
		case ch == '"':
			return b.String(), nil
		case ch == '\\' && p.at < len(p.text):
			ch = p.text[p.at]
			p.at++
		}
		b.WriteByte(ch)
	}
	return b.String(), fmt.Errorf("the value of %q has no closing quote (RFC 7235 2.1)", name)
}

// token68 is the whole rest up to a comma, when it cannot be a parameter:
// "=" only at its end.
func (p *parser) token68() string {
	end := p.at
	for end < len(p.text) && (isToken(p.text[end]) || p.text[end] == '/') {
		end++
	}
	body := end
	for end < len(p.text) && p.text[end] == '=' {
		end++
	}
	rest := strings.TrimLeft(p.text[end:], " \t")
	if body == p.at || (rest != "" && rest[0] != ',') || (end > body && rest != "" && rest[0] != ',') {
		return ""
	}
	t := p.text[p.at:end]
	p.at = end
	return t
}

func (p *parser) token() string {
	start := p.at
	for p.at < len(p.text) && isToken(p.text[p.at]) {
		p.at++
	}
	return p.text[start:p.at]
}

func (p *parser) space() bool {
	start := p.at
	p.skip(" \t")
	return p.at > start
}

func (p *parser) skip(set string) {
	for p.at < len(p.text) && strings.IndexByte(set, p.text[p.at]) >= 0 {
		p.at++
	}
}

func (p *parser) take(ch byte) bool {
	if p.at < len(p.text) && p.text[p.at] == ch {
		p.at++
		return true
	}
	return false
}

// isToken is tchar of RFC 7230 3.2.6.
func isToken(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("!#$%&'*+-.^_`|~", c) >= 0
}
