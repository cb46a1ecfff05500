package show

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"tidycourier/core/flow"
	"tidycourier/core/mask"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

// RequestView is a request as it is, or would be, sent.
type RequestView struct {
	Method  string            `json:"method"`
	URL     string            `json:"url"`
	Headers map[string]string `json:"headers"`
	Body    string            `json:"body"`
}

// NewRequestView makes the view, masked unless revealed.
func NewRequestView(method, url string, h http.Header, body []byte, placed string, set *mask.Set, reveal bool) RequestView {
	v := RequestView{Method: method, URL: url, Headers: map[string]string{}, Body: string(body)}
	for name, values := range h {
		text := strings.Join(values, ", ")
		if !reveal {
			text = set.Replace(mask.Header(name, text, placed))
		}
		v.Headers[name] = text
	}
	if !reveal {
		v.URL, v.Body = set.Replace(mask.URL(url)), set.Replace(mask.Data(h.Get("Content-Type"), v.Body))
	}
	return v
}

// Request draws a request, a header a line, each query parameter on its own.
func (p *Pen) Request(v RequestView) {
	url, query, _ := strings.Cut(v.URL, "?")
	p.line(p.strong(v.Method), " ", Safe(url))
	for i, q := range strings.Split(query, "&") {
		if q == "" {
			continue
		}
		sep := "&"
		if i == 0 {
			sep = "?"
		}
		p.line("    ", p.faint(sep), Safe(q))
	}
	names := make([]string, 0, len(v.Headers))
	for n := range v.Headers {
		names = append(names, n)
	}
	sort.Strings(names)
	for _, n := range names {
		p.line(p.accent(Safe(n)+":"), " ", Safe(v.Headers[n]))
	}
	if v.Body != "" {
		p.line()
		p.line(SafeText(v.Body))
	}
}

// ResponseView is an answer in the --json document of call.
type ResponseView struct {
	Status    int               `json:"status"`
	Headers   map[string]string `json:"headers"`
	MediaType string            `json:"media_type"`
	Body      string            `json:"body"`
	JSON      json.RawMessage   `json:"json"` // the body when it is JSON, else null
}

// CallToken is the token of a call.
type CallToken struct {
	Client      string `json:"client"`
	Fingerprint string `json:"fingerprint"`
	Refreshed   bool   `json:"refreshed"`
}

// CallView is the --json document of call.
type CallView struct {
	Run      int64             `json:"run"`
	Request  *RequestView      `json:"request"`
	Response *ResponseView     `json:"response"`
	Token    *CallToken        `json:"token"`
	Kept     map[string]string `json:"kept"`
	Failures []flow.Mismatch   `json:"failures,omitempty"`
	Ms       float64           `json:"ms"`
	Legs     []run.LegRecord   `json:"legs"`
	Pages    int               `json:"pages,omitempty"` // with --pages: how many came; the answer is the last
	Saved    int64             `json:"saved,omitempty"` // with --save: bytes written
	Findings []run.Finding     `json:"findings"`
	Error    *run.Failure      `json:"error,omitempty"`
}

// NewCallView makes the document of a call. revealed is the exchange as it was,
// when secrets may be shown.
func NewCallView(rec run.Record, res *flow.CallResult, set *mask.Set, revealed *wire.Exchange) CallView {
	v := CallView{Run: rec.N, Kept: map[string]string{}, Legs: rec.Legs, Findings: rec.Findings, Error: rec.Error}
	if res == nil || res.Leg == nil {
		return v
	}
	l := rec.Legs[res.Leg.N-1]
	v.Ms, v.Failures = l.Ms, res.Failures
	if res.Kept != nil {
		v.Kept = res.Kept
	}
	if res.Used != nil {
		v.Token = &CallToken{res.Used.Client, mask.Fingerprint(res.Used.Token), res.Used.Refreshed}
	}
	v.Request = &RequestView{Method: l.Method, URL: l.URL, Headers: joined(l.Request.Headers), Body: l.Request.Body}
	if r := res.Leg.Exchange.Response; r != nil {
		v.Response = &ResponseView{Status: l.Status, Headers: joined(l.Response.Headers), MediaType: l.Response.MediaType}
		v.Response.fill(set.Replace(mask.Data(r.MediaType(), string(r.Body))))
	}
	if revealed != nil {
		v.reveal(revealed)
	}
	return v
}

func (v *CallView) reveal(x *wire.Exchange) {
	v.Request = &RequestView{Method: x.Request.Method, URL: x.Request.URL, Headers: joined(x.Request.Header), Body: string(x.Request.Body)}
	if x.Response != nil {
		v.Response.Headers = joined(x.Response.Header)
		v.Response.fill(string(x.Response.Body))
	}
}

// fill sets the body, and json when it is that; bytes that are not text are
// left to --save.
func (v *ResponseView) fill(body string) {
	if !utf8.ValidString(body) {
		v.Body = fmt.Sprintf("[%d bytes, not text]", len(body))
		return
	}
	v.Body = body
	if json.Valid([]byte(body)) {
		v.JSON = json.RawMessage(body)
	}
}

func joined(h map[string][]string) map[string]string {
	out := make(map[string]string, len(h))
	for n, values := range h {
		out[n] = strings.Join(values, ", ")
	}
	return out
}

// TokenLine says which token a call uses.
type TokenLine struct {
	Client, Token string
	Age, Left     time.Duration
	Fresh         bool
}

func (t TokenLine) String() string {
	print := mask.Fingerprint(t.Token)
	if t.Client == "" {
		return "token " + print + " as given"
	}
	text := fmt.Sprintf("token %s of %s, %s old", print, Safe(t.Client), Duration(t.Age))
	if t.Fresh {
		text = fmt.Sprintf("token %s of %s, obtained just now", print, Safe(t.Client))
	}
	if t.Left > 0 {
		text += ", " + Duration(t.Left) + " left"
	}
	return text
}
