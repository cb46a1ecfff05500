package standin

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"

	"tidycourier/core/exhibit"
	"tidycourier/core/finding"
	"tidycourier/core/har"
	"tidycourier/core/mask"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

// Replay answers as a recorded provider did. Requests are matched by leg and
// parameters: what is new in every run (state, PKCE, nonce, a signed assertion)
// need not be the same, and every other parameter must. A request that was not
// recorded is told so, with what differs, rather than given an answer that the
// provider never gave.
type Replay struct {
	base    string
	origins []string // of the record; the first is served at base, others below it
	answers []*recorded

	mu  sync.Mutex
	log func(format string, args ...any)
}

// recorded is one leg of the record.
type recorded struct {
	leg    run.Leg
	url    *url.URL
	params url.Values // of query and body
	client string     // of Basic credentials
	secret string
	token  string   // another Authorization header
	landed *url.URL // where an authorization request led at last
	times  int
}

// fresh are parameters that are new in each run.
var fresh = []string{"state", "nonce", "code_challenge", "code_verifier", "code", "device_code", "client_assertion", "assertion", "request_uri", "request", "refresh_token", "token", "id_token_hint"}

// NewReplay makes a Replay of a record's legs, to be served at base.
func NewReplay(b *exhibit.Bundle, base string, log func(string, ...any)) *Replay {
	p := &Replay{base: strings.TrimRight(base, "/"), log: log}
	if p.log == nil {
		p.log = func(string, ...any) {}
	}
	for _, f := range b.Flows {
		for i := range f.Legs {
			if l := f.Legs[i]; !l.Inbound && l.Exchange != nil {
				p.take(l, f.Legs[i+1:])
			}
		}
	}
	slices.SortStableFunc(p.answers, func(a, b *recorded) int { return a.leg.N - b.leg.N })
	for _, r := range p.answers {
		if at := originOf(r.url); !slices.Contains(p.origins, at) {
			p.origins = append(p.origins, at)
		}
	}
	return p
}

func (p *Replay) take(l run.Leg, after []run.Leg) {
	u, err := url.Parse(l.URL)
	if err != nil {
		return
	}
	r := &recorded{leg: l, url: u}
	r.params, r.client, r.secret, r.token = taken(u, l.Exchange.Request.Header, l.Exchange.Request.Body)
	if l.Kind == run.Authorization {
		for _, next := range after {
			if next.Inbound {
				r.landed, _ = url.Parse(next.URL)
				break
			}
		}
	}
	p.answers = append(p.answers, r)
}

func originOf(u *url.URL) string { return u.Scheme + "://" + u.Host }

// taken are the parameters and credentials of a request.
func taken(u *url.URL, h http.Header, body []byte) (params url.Values, client, secret, token string) {
	params = url.Values{}
	parts := []string{u.RawQuery}
	if strings.Contains(h.Get("Content-Type"), "x-www-form-urlencoded") {
		parts = append(parts, string(body))
	}
	for _, part := range parts {
		for _, q := range har.FormPairs(part) {
			params.Add(q.Name, q.Value)
		}
	}
	auth := h.Get("Authorization")
	if id, s, ok := finding.BasicCredentials(auth); ok {
		return params, id, s, ""
	}
	return params, "", "", auth
}

// Origins lists where each recorded server is served.
func (p *Replay) Origins() [][2]string {
	out := make([][2]string, len(p.origins))
	for i, o := range p.origins {
		out[i] = [2]string{o, p.place(i)}
	}
	return out
}

// Len is how many recorded answers there are.
func (p *Replay) Len() int { return len(p.answers) }

func (p *Replay) place(i int) string {
	if i == 0 {
		return p.base
	}
	u, err := url.Parse(p.origins[i])
	if err != nil {
		return p.base
	}
	return p.base + "/" + u.Host
}

// ServeHTTP gives the recorded answer.
func (p *Replay) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
	if err != nil {
		http.Error(w, "the body is larger than 1 MiB", http.StatusRequestEntityTooLarge)
		return
	}
	p.mu.Lock()
	best, differs := p.match(r, body)
	if best != nil && len(differs) == 0 {
		best.times++
	}
	p.mu.Unlock()
	switch {
	case best == nil:
		p.unknown(w, r, "the record has no request to this address")
	case len(differs) > 0:
		p.unknown(w, r, fmt.Sprintf("leg %d of the record is nearest, and differs in %s", best.leg.N, strings.Join(differs, ", ")))
	case best.landed != nil:
		p.log("%s %s: as leg %d", r.Method, r.URL.Path, best.leg.N)
		p.land(w, r, best)
	default:
		p.log("%s %s: as leg %d", r.Method, r.URL.Path, best.leg.N)
		p.answer(w, best)
	}
}

func (p *Replay) unknown(w http.ResponseWriter, r *http.Request, why string) {
	p.log("%s %s: not recorded: %s", r.Method, r.URL.Path, why)
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusNotImplemented)
	_ = json.NewEncoder(w).Encode(map[string]string{"error": "not_recorded", "error_description": why})
}

// match finds the recorded request that is nearest, and what differs all the
// same. Of several that fit, the one used least is next, so that a record of two
// tries gives both answers in turn.
func (p *Replay) match(r *http.Request, body []byte) (*recorded, []string) {
	params, client, secret, token := taken(r.URL, r.Header, body)
	var best *recorded
	var least []string
	for _, c := range p.answers {
		if c.leg.Method != r.Method || p.path(c) != strings.TrimRight(r.URL.Path, "/") {
			continue
		}
		d := c.differences(params, client, secret, token, p)
		if best == nil || len(d) < len(least) || len(d) == len(least) && c.times < best.times {
			best, least = c, d
		}
	}
	return best, least
}

func (p *Replay) path(c *recorded) string {
	path := strings.TrimRight(c.url.Path, "/")
	if i := slices.Index(p.origins, originOf(c.url)); i > 0 {
		path = "/" + c.url.Host + path
	}
	return path
}

func (c *recorded) differences(params url.Values, client, secret, token string, p *Replay) []string {
	var out []string
	note := func(differs bool, what string) {
		if differs && !slices.Contains(out, what) {
			out = append(out, what)
		}
	}
	if c.leg.Kind != run.Call { // what a call asks for changes from day to day: the times in it, say
		for name := range c.params {
			note(!c.same(name, params, p), name)
		}
		for name := range params {
			note(!c.same(name, params, p), name)
		}
		note(c.client != client, "client_id in Authorization")
		note(!equal(c.secret, secret), "the client secret in Authorization")
	}
	scheme := func(s string) string { word, _, _ := strings.Cut(s, " "); return strings.ToLower(word) }
	note(scheme(c.token) != scheme(token), "Authorization")
	slices.Sort(out)
	return out
}

// same reports whether a parameter is as it was recorded, as far as it matters.
func (c *recorded) same(name string, params url.Values, p *Replay) bool {
	was, is := c.params[name], params[name]
	if slices.Contains(fresh, name) {
		return (len(was) == 0) == (len(is) == 0)
	}
	if len(was) != len(is) {
		return false
	}
	for i := range was {
		if !equal(was[i], is[i]) && !equal(p.moved(was[i]), is[i]) && !(name == "redirect_uri" && c.worked() && otherPort(was[i], is[i])) {
			return false
		}
	}
	return true
}

// worked reports whether the recorded leg was a success.
func (c *recorded) worked() bool {
	return c.landed != nil && c.landed.Query().Has("code") || c.leg.Status() == http.StatusOK
}

// otherPort reports whether two addresses on loopback differ in nothing but the
// port, which a native client chooses anew each time (RFC 8252 7.3).
func otherPort(a, b string) bool {
	x, err1 := url.Parse(a)
	y, err2 := url.Parse(b)
	return err1 == nil && err2 == nil && x.Scheme == "http" && y.Scheme == "http" && x.Hostname() == y.Hostname() && wire.Loopback(x.Hostname()) && x.RequestURI() == y.RequestURI()
}

// equal compares a recorded value with one that came; of a masked one the
// fingerprints.
func equal(was, is string) bool {
	if fingerprint, masked := strings.CutPrefix(was, finding.MaskedWord); masked {
		return fingerprint == mask.Fingerprint(is) || is != "" && len(fingerprint) != 8
	}
	return was == is
}

// moved puts the addresses where this server is in place of those recorded.
func (p *Replay) moved(text string) string {
	for i, o := range p.origins {
		text = strings.ReplaceAll(text, o, p.place(i))
		text = strings.ReplaceAll(text, strings.ReplaceAll(o, "/", `\/`), strings.ReplaceAll(p.place(i), "/", `\/`)) // as some write JSON
	}
	return text
}

// land sends the browser to the redirect URI with what came there once, and the
// state of now.
func (p *Replay) land(w http.ResponseWriter, r *http.Request, c *recorded) {
	values := c.landed.Query()
	fragment := strings.Contains(c.landed.EscapedFragment(), "=")
	if fragment {
		values, _ = url.ParseQuery(c.landed.EscapedFragment())
	}
	if values.Has("state") {
		values.Set("state", r.FormValue("state"))
	}
	if values.Has("iss") {
		values.Set("iss", p.moved(values.Get("iss")))
	}
	target := r.FormValue("redirect_uri")
	if target == "" {
		target = originOf(c.landed) + c.landed.Path
	}
	mark := "?"
	if fragment {
		mark = "#"
	} else if strings.Contains(target, "?") {
		mark = "&"
	}
	http.Redirect(w, r, target+mark+values.Encode(), http.StatusFound)
}

// hop are headers of one connection, or that the body's new length makes wrong.
var hop = []string{"Content-Length", "Transfer-Encoding", "Connection", "Keep-Alive", "Content-Encoding", "Date", "Strict-Transport-Security", "Alt-Svc", "Set-Cookie"}

func (p *Replay) answer(w http.ResponseWriter, c *recorded) {
	x := c.leg.Exchange
	if x.Response == nil { // no answer came then, and none comes now
		if h, ok := w.(http.Hijacker); ok {
			if conn, _, err := h.Hijack(); err == nil {
				_ = conn.Close()
			}
		}
		return
	}
	for name, list := range x.Response.Header {
		if slices.Contains(hop, http.CanonicalHeaderKey(name)) {
			continue
		}
		for _, v := range list {
			w.Header().Add(name, p.moved(v))
		}
	}
	w.WriteHeader(x.Response.Status)
	_, _ = w.Write([]byte(p.moved(string(x.Response.Body))))
}
