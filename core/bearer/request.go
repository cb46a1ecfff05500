package bearer

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
)

// Placement is where the token goes. The zero value means the Authorization
// header with the Bearer scheme (RFC 6750 2.1).
type Placement struct {
	Header string // "" means Authorization
	Prefix string // put before the token; used only when Header is set
	Query  string // the query parameter it travels in (RFC 6750 2.3, discouraged)
	Form   string // the form parameter it travels in (RFC 6750 2.2)
}

// HeaderName is the header the token travels in.
func (p Placement) HeaderName() string {
	if p.Header == "" {
		return "Authorization"
	}
	return p.Header
}

// Value is the header's value for a token.
func (p Placement) Value(token string) string {
	if p.Header == "" {
		return "Bearer " + token
	}
	return p.Prefix + token
}

// Put places the token. A header that is already there would be sent twice, and
// is an error that names it.
func (p Placement) Put(h http.Header, token string) error {
	name := p.HeaderName()
	if _, there := h[http.CanonicalHeaderKey(name)]; there {
		return fmt.Errorf("the call already has a header %s, and the token goes there", name)
	}
	h.Set(name, p.Value(token))
	return nil
}

// Place puts the token where it goes: into the header, the URL's query, or the
// form body. What is there already would be sent twice, and is an error.
func (p Placement) Place(method, target string, h http.Header, body []byte, token string) (string, []byte, error) {
	switch {
	case p.Query != "":
		if u, err := url.Parse(target); err == nil && u.Query().Has(p.Query) {
			return target, body, fmt.Errorf("the call already has a query parameter %s, and the token goes there", p.Query)
		}
		joined, err := Join("", target, []Pair{{p.Query, token}})
		return joined, body, err
	case p.Form != "":
		if method == http.MethodGet || method == http.MethodHead {
			return target, body, fmt.Errorf("the token goes into a form body, and %s has none (RFC 6750 2.2)", method)
		}
		if mt, _, _ := strings.Cut(h.Get("Content-Type"), ";"); len(body) > 0 && !strings.EqualFold(strings.TrimSpace(mt), formType) {
			return target, body, fmt.Errorf("the token goes into a form body, and the body is %s (RFC 6750 2.2)", orNothing(mt))
		}
		h.Set("Content-Type", formType)
		pair := url.QueryEscape(p.Form) + "=" + url.QueryEscape(token)
		if len(body) > 0 {
			pair = string(body) + "&" + pair
		}
		return target, []byte(pair), nil
	}
	return target, body, p.Put(h, token)
}

const formType = "application/x-www-form-urlencoded"

func orNothing(s string) string {
	if s == "" {
		return "of no said type"
	}
	return s
}

// Join puts a call's path under the API's base URL and adds query parameters in
// order. The path may hold anything a person types (quotes, brackets, spaces):
// what is not allowed in a path is percent-encoded, what is already encoded
// stays. An absolute URL as path stands for itself.
func Join(base, path string, query []Pair) (string, error) {
	target := path
	if !strings.Contains(path, "://") {
		if base == "" {
			return "", fmt.Errorf("%q has no host: give a whole URL, or name an API with a base_url", path)
		}
		target = strings.TrimRight(base, "/") + "/" + strings.TrimLeft(path, "/")
		if path == "" {
			target = base
		}
	}
	scheme, rest, _ := strings.Cut(target, "://")
	rest, _, _ = strings.Cut(rest, "#") // a fragment is never sent (RFC 7230 5.1)
	rest, raw, hasQuery := strings.Cut(rest, "?")
	host, p, _ := strings.Cut(rest, "/")
	if host == "" || scheme == "" {
		return "", fmt.Errorf("%q has no host", target)
	}
	if strings.ContainsAny(host, " \"'<>") {
		return "", fmt.Errorf("%q is not a host name", host)
	}
	out := scheme + "://" + host + "/" + encode(p, pathSafe)
	if p == "" && !strings.HasSuffix(rest, "/") {
		out = scheme + "://" + host
	}
	var parts []string
	if hasQuery && raw != "" {
		parts = append(parts, encode(raw, querySafe))
	}
	for _, q := range query {
		parts = append(parts, encodeStrict(q.Name)+"="+encodeStrict(q.Value))
	}
	if len(parts) > 0 {
		out += "?" + strings.Join(parts, "&")
	}
	if _, err := url.Parse(out); err != nil {
		return "", fmt.Errorf("%q does not make a URL: %w", path, err)
	}
	return out, nil
}

// Pair is one query parameter; order is kept.
type Pair struct{ Name, Value string }

// Characters RFC 3986 allows in a path and in a query besides unreserved ones.
const (
	pathSafe  = "/!$&'()*+,;=:@"
	querySafe = "/?!$&'()*+,;=:@"
)

// encode percent-encodes what is not allowed and leaves escapes as they are; a
// percent sign that begins no escape is itself encoded.
func encode(s, safe string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case c == '%' && i+2 < len(s) && isHex(s[i+1]) && isHex(s[i+2]),
			unreserved(c), strings.IndexByte(safe, c) >= 0:
			b.WriteByte(c)
		default:
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

// encodeStrict encodes a parameter's name or value: everything but unreserved
// characters, so that & = + and % arrive as data.
func encodeStrict(s string) string {
	return strings.ReplaceAll(url.QueryEscape(s), "+", "%20")
}

func unreserved(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("-._~", c) >= 0
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}
