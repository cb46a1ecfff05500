package har

import (
	"encoding/base64"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"tidycourier/core/wire"
)

// Header collects pairs as an HTTP header. HTTP/2 pseudo-headers are left out.
func Header(list []Pair) http.Header {
	h := make(http.Header, len(list))
	for _, p := range list {
		if p.Name != "" && p.Name[0] != ':' {
			h.Add(p.Name, p.Value)
		}
	}
	return h
}

// Body is the request's body as it was sent; parameters are encoded as a form
// when the text is not there.
func (r *Request) Body() []byte {
	if r.PostData == nil {
		return nil
	}
	if r.PostData.Text != "" || len(r.PostData.Params) == 0 {
		return []byte(r.PostData.Text)
	}
	var b strings.Builder
	for i, p := range r.PostData.Params {
		if i > 0 {
			b.WriteByte('&')
		}
		b.WriteString(url.QueryEscape(plain(p.Name)) + "=" + url.QueryEscape(plain(p.Value)))
	}
	return []byte(b.String())
}

// plain undoes the encoding some recorders leave in parameters.
func plain(s string) string {
	if v, err := url.QueryUnescape(s); err == nil && strings.Contains(s, "%") {
		return v
	}
	return s
}

// Bytes is the answer's body.
func (c *Content) Bytes() []byte {
	if strings.EqualFold(c.Encoding, "base64") {
		if raw, err := base64.StdEncoding.DecodeString(c.Text); err == nil {
			return raw
		}
	}
	return []byte(c.Text)
}

// At is when the request was sent; the zero time when the record does not say.
func (e *Entry) At() time.Time {
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999"} {
		if t, err := time.Parse(layout, e.Started); err == nil {
			return t.UTC()
		}
	}
	return time.Time{}
}

// Exchange is the entry as an exchange.
func (e *Entry) Exchange() *wire.Exchange {
	x := &wire.Exchange{Request: wire.Request{Method: strings.ToUpper(e.Request.Method), URL: e.Request.URL, Header: Header(e.Request.Headers), Body: e.Request.Body()},
		Started: e.At(), Timing: wire.Timing{Total: time.Duration(max(e.Time, 0) * float64(time.Millisecond))}, Peer: wire.Peer{Address: e.Address}}
	if p := e.Request.PostData; p != nil && p.MimeType != "" && x.Request.Header.Get("Content-Type") == "" {
		x.Request.Header.Set("Content-Type", p.MimeType)
	}
	if e.Response.Status == 0 {
		detail := e.Response.Error
		if detail == "" {
			detail = "no answer was recorded"
		}
		x.Failure = &wire.Failure{Kind: failureKind(detail), Detail: detail}
		return x
	}
	h := Header(e.Response.Headers)
	if h.Get("Location") == "" && e.Response.RedirectURL != "" {
		h.Set("Location", e.Response.RedirectURL)
	}
	if h.Get("Content-Type") == "" && e.Response.Content.MimeType != "" && e.Response.Content.MimeType != "x-unknown" {
		h.Set("Content-Type", e.Response.Content.MimeType)
	}
	x.Response = &wire.Response{Status: e.Response.Status, Proto: e.Response.HTTPVersion, Header: h, Body: e.Response.Content.Bytes(), Length: -1}
	return x
}

// failureKind reads the error text that browsers and programs record for an
// exchange without an answer.
func failureKind(text string) wire.FailureKind {
	t := strings.ToUpper(strings.NewReplacer("-", "_", " ", "_").Replace(text))
	for _, k := range []struct {
		kind  wire.FailureKind
		words []string
	}{
		{wire.NameNotResolved, []string{"NAME_NOT_RESOLVED", "ENOTFOUND", "UNKNOWN_HOST", "NO_SUCH_HOST", "EAI_AGAIN"}},
		{wire.ProxyNeedsLogin, []string{"PROXY_AUTH"}},
		{wire.ProxyRefused, []string{"PROXY_CONNECTION_FAILED", "TUNNEL_CONNECTION_FAILED", "PROXY"}},
		{wire.ConnectionRefused, []string{"CONNECTION_REFUSED", "ECONNREFUSED"}},
		{wire.TLSNameMismatch, []string{"CERT_COMMON_NAME", "ALTNAME"}},
		{wire.TLSExpired, []string{"CERT_DATE", "CERT_HAS_EXPIRED"}},
		{wire.TLSUnknownAuth, []string{"CERT_AUTHORITY", "SELF_SIGNED", "UNABLE_TO_VERIFY", "UNKNOWN_ISSUER"}},
		{wire.TLSProtocol, []string{"SSL_VERSION", "SSL_PROTOCOL", "HANDSHAKE"}},
		{wire.TimeoutConnecting, []string{"CONNECTION_TIMED_OUT"}},
		{wire.TimeoutWaiting, []string{"TIMED_OUT", "ETIMEDOUT", "TIMEOUT"}},
		{wire.ConnectionReset, []string{"EOF", "CONNECTION_RESET", "CONNECTION_CLOSED", "EMPTY_RESPONSE", "ECONNRESET", "SOCKET_HANG_UP"}},
	} {
		for _, w := range k.words {
			if strings.Contains(t, w) {
				return k.kind
			}
		}
	}
	return wire.UnspecifiedFailure
}

// Document is a HAR 1.2 to be written.
type Document struct {
	Log Log `json:"log"`
}

// Log is its only member.
type Log struct {
	Version string  `json:"version"`
	Creator Creator `json:"creator"`
	Pages   []any   `json:"pages"`
	Entries []Entry `json:"entries"`
	Comment string  `json:"comment,omitempty"`
}

// Creator is the program that wrote the document.
type Creator struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

// New makes a document of entries.
func New(version, comment string, entries []Entry) *Document {
	if entries == nil {
		entries = []Entry{}
	}
	return &Document{Log: Log{Version: "1.2", Creator: Creator{"tidy-courier", version}, Pages: []any{}, Entries: entries, Comment: comment}}
}

// Pairs lists a header's values, sorted by name.
func Pairs(h map[string][]string) []Pair {
	out := []Pair{}
	for _, n := range slices.Sorted(maps.Keys(h)) {
		for _, v := range h[n] {
			out = append(out, Pair{n, v})
		}
	}
	return out
}

// Query lists the parameters of a URL in their order, decoded.
func Query(raw string) []Pair {
	out := []Pair{}
	_, query, found := strings.Cut(raw, "?")
	if !found {
		return out
	}
	query, _, _ = strings.Cut(query, "#")
	return append(out, FormPairs(query)...)
}

// FormPairs lists the parameters of form-encoded text in their order, decoded;
// what cannot be decoded stands as it is.
func FormPairs(text string) []Pair {
	var out []Pair
	for _, part := range strings.Split(text, "&") {
		if part == "" {
			continue
		}
		name, value, _ := strings.Cut(part, "=")
		if v, err := url.QueryUnescape(name); err == nil {
			name = v
		}
		if v, err := url.QueryUnescape(value); err == nil && utf8.ValidString(v) {
			value = v
		}
		out = append(out, Pair{name, value})
	}
	return out
}
