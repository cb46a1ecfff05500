package exhibit

import (
	"encoding/json"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"tidycourier/core/bearer"
	"tidycourier/core/har"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

// piece is one exchange that may belong to a grant or a protected call.
type piece struct {
	n      int // its number in the record, from 1
	x      *wire.Exchange
	url    *url.URL
	params url.Values // of query, fragment and body together
	body   map[string]any
	kind   run.Kind // "" until it is known; other pieces only lead to an answer
}

// signs are what an exchange of OAuth has somewhere in its address, header or
// body. Looking for them is cheap, and most entries of a record have none.
var signs = []string{"client_id", "grant_type", "response_type", "redirect_uri", "access_token", "refresh_token", "code=", "error=", "state=",
	"device_code", "client_assertion", "/.well-known/", "request_uri", "token"}

var authHeaders = []string{"authorization", "dpop", "www-authenticate", "x-access-token", "x-auth-token", "x-api-key", "token"}

// worthALook reports whether an entry may be a leg at all.
func worthALook(e *har.Entry) bool {
	if s := e.Response.Status; s == 401 || s == 403 {
		return true
	}
	for _, list := range [][]har.Pair{e.Request.Headers, e.Response.Headers} {
		for _, h := range list {
			name := strings.ToLower(h.Name)
			if slices.Contains(authHeaders, name) || name == "location" && hasSign(h.Value) {
				return true
			}
		}
	}
	if hasSign(e.Request.URL) || hasSign(e.Response.RedirectURL) {
		return true
	}
	if p := e.Request.PostData; p != nil {
		if hasSign(p.Text) {
			return true
		}
		for _, q := range p.Params {
			if hasSign(q.Name) {
				return true
			}
		}
	}
	c := e.Response.Content
	if !strings.Contains(c.MimeType, "json") || len(c.Text) > 64<<10 {
		return false
	}
	return strings.Contains(c.Text, "access_token") || strings.Contains(c.Text, `"keys"`) || strings.Contains(c.Text, "device_code") || strings.Contains(c.Text, "token_endpoint")
}

func hasSign(s string) bool {
	for _, sign := range signs {
		if strings.Contains(s, sign) {
			return true
		}
	}
	return false
}

// pieceOf takes an exchange apart.
func pieceOf(n int, x *wire.Exchange) *piece {
	p := &piece{n: n, x: x, params: url.Values{}}
	u, err := url.Parse(x.Request.URL)
	if err != nil {
		u = &url.URL{Path: x.Request.URL}
	}
	p.url = u
	add := func(raw string) {
		for _, q := range har.FormPairs(raw) {
			p.params.Add(q.Name, q.Value)
		}
	}
	add(u.RawQuery)
	if strings.Contains(u.EscapedFragment(), "=") {
		add(u.EscapedFragment())
	}
	if b := x.Request.Body; len(b) > 0 && len(b) < 256<<10 {
		if json.Unmarshal(b, &p.body) == nil {
			for k, v := range p.body {
				if s, ok := v.(string); ok {
					p.params.Add(k, s)
				}
			}
		} else if strings.Contains(string(b), "=") && !strings.Contains(x.Request.Header.Get("Content-Type"), "multipart") {
			add(string(b))
		}
	}
	return p
}

func (p *piece) has(names ...string) bool {
	for _, n := range names {
		if _, there := p.params[n]; there {
			return true
		}
	}
	return false
}

// answerHas reports whether the answer is a JSON object with all the members.
func (p *piece) answerHas(names ...string) bool {
	r := p.x.Response
	if r == nil || len(r.Body) == 0 || len(r.Body) > 1<<20 {
		return false
	}
	var members map[string]json.RawMessage
	if json.Unmarshal(r.Body, &members) != nil {
		return false
	}
	for _, n := range names {
		if _, there := members[n]; !there {
			return false
		}
	}
	return true
}

func (p *piece) status() int {
	if p.x.Response == nil {
		return 0
	}
	return p.x.Response.Status
}

// segments of a path that name an endpoint, at any server.
var (
	tokenPath    = lazy(`(?i)(^|[/_.-])(access[_-]?)?tokens?(\.\w+)?/?$`)
	authPath     = lazy(`(?i)(^|[/_.-])(authori[sz]e|authori[sz]ation|oauth2?/?auth|auth|oauth/dialog|signin|login/oauth)(\.\w+)?/?$`)
	introPath    = lazy(`(?i)introspect|tokeninfo`)
	revokePath   = lazy(`(?i)revo(ke|cation)`)
	userinfoPath = lazy(`(?i)(^|/)user[_-]?info/?$`)
	devicePath   = lazy(`(?i)device`)
	pushedPath   = lazy(`(?i)(^|/)(par|pushed[\w-]*|[\w-]*authorization_request|request)/?$`)
)

func lazy(pattern string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(pattern) })
}

// known are the endpoints that settings or metadata name.
type known struct{ list []*oauth.Metadata }

// is reports whether the piece went to that endpoint of some known server.
func (k known) is(p *piece, name string) bool {
	for _, m := range k.list {
		if e := m.Endpoint(name); e != "" && sameURL(e, p.x.Request.URL) {
			return true
		}
	}
	return false
}

func sameURL(a, b string) bool {
	cut := func(s string) string {
		s, _, _ = strings.Cut(s, "#")
		s, _, _ = strings.Cut(s, "?")
		return strings.TrimRight(s, "/")
	}
	return cut(a) == cut(b)
}

// kindOf says what a piece is, or "" when it is none of ours. Parameters decide
// before addresses: they are the standard's, addresses are each server's own.
func kindOf(p *piece, k known) run.Kind {
	method, at := p.x.Request.Method, p.url.Path
	if method == "OPTIONS" {
		return "" // a browser asking whether it may ask
	}
	if strings.Contains(at, "/.well-known/") {
		switch path.Base(at) {
		case "openid-configuration", "oauth-authorization-server":
			return run.Discovery
		}
		if strings.Contains(at, "/oauth-authorization-server/") || strings.Contains(at, "/openid-configuration/") {
			return run.Discovery
		}
	}
	post := method == "POST" || method == "PUT" || method == "PATCH"
	switch {
	case p.has("grant_type") && isToken(p, k, post):
		return run.Token
	case k.is(p, "jwks_uri"), method == "GET" && p.answerHas("keys") && !p.has("client_id"):
		return run.Keys
	case post && (k.is(p, "introspection_endpoint") || p.has("token") && introPath().MatchString(at)):
		return run.Introspection
	case post && (k.is(p, "revocation_endpoint") || p.has("token", "client_id") && revokePath().MatchString(at)):
		return run.Revocation
	case post && !p.has("grant_type") && (k.is(p, "pushed_authorization_request_endpoint") || p.answerHas("request_uri") || p.has("response_type") && pushedPath().MatchString(at)):
		return run.Pushed
	case post && !p.has("grant_type") && (k.is(p, "device_authorization_endpoint") || p.answerHas("device_code") || p.has("client_id") && devicePath().MatchString(at) && !p.has("redirect_uri", "user_code")):
		return run.Device
	case isToken(p, k, post):
		return run.Token
	case isLanding(p):
		return run.Landing
	case isAuthorization(p, k):
		return run.Authorization
	case k.is(p, "userinfo_endpoint"), userinfoPath().MatchString(at) && p.x.Request.Header.Get("Cookie") == "":
		return run.Userinfo
	case isCall(p):
		return run.Call
	}
	return ""
}

func isToken(p *piece, k known, post bool) bool {
	if p.has("grant_type") && !p.has("grant_types") {
		return true
	}
	if k.is(p, "token_endpoint") && !(p.x.Request.Method == "GET" && p.has("response_type")) {
		return true
	}
	credentials := p.has("client_secret", "client_assertion", "code", "refresh_token", "code_verifier") ||
		strings.HasPrefix(strings.ToLower(p.x.Request.Header.Get("Authorization")), "basic ")
	if p.has("response_type") && p.has("redirect_uri") || p.has("state") && !post {
		return false
	}
	if tokenPath().MatchString(p.url.Path) && !strings.Contains(strings.ToLower(p.url.Path), "csrf") && !isAPICall(p) {
		return post && (credentials || p.has("client_id", "username") || len(p.x.Request.Body) == 0) || credentials
	}
	return post && credentials && p.has("client_id") && (p.answerHas("access_token") || p.answerHas("error"))
}

// isAPICall reports that a bearer token is carried, as to a path that merely
// ends like a token endpoint.
func isAPICall(p *piece) bool {
	scheme, _, _ := strings.Cut(p.x.Request.Header.Get("Authorization"), " ")
	return strings.EqualFold(scheme, "Bearer") || strings.EqualFold(scheme, "DPoP")
}

func isLanding(p *piece) bool {
	if p.has("client_id", "grant_type", "response_type", "code_verifier") {
		return false
	}
	answer := p.has("code", "error") || p.has("access_token", "id_token") && p.url.Fragment != ""
	return answer && (p.has("state", "iss", "session_state", "error_description") || p.has("scope", "id_token"))
}

func isAuthorization(p *piece, k known) bool {
	if k.is(p, "authorization_endpoint") && (p.has("client_id", "response_type", "redirect_uri", "request_uri") || p.x.Request.Method == "GET") {
		return true
	}
	if p.has("client_id") && p.has("response_type", "redirect_uri", "request_uri", "request", "code_challenge") || p.has("response_type") && p.has("redirect_uri") {
		return !isAPICall(p) && (p.x.Request.Method == "GET" || !p.has("username", "password", "login"))
	}
	return p.has("client_id", "response_type") && p.has("scope", "state") && authPath().MatchString(p.url.Path)
}

// isCall reports whether a piece is a request to a protected resource: it
// carries a token somewhere, or the answer asks for one.
func isCall(p *piece) bool {
	h := p.x.Request.Header
	if a := h.Get("Authorization"); a != "" {
		scheme, _, _ := strings.Cut(a, " ")
		switch strings.ToLower(scheme) {
		case "basic", "digest", "negotiate", "ntlm":
			return false
		}
		return true
	}
	if h.Get("DPoP") != "" || p.has("access_token") {
		return true
	}
	if p.x.Response == nil {
		return false
	}
	list, _ := bearer.ParseChallenges(p.x.Response.Header.Values("WWW-Authenticate"))
	return slices.ContainsFunc(list, func(c bearer.Challenge) bool { return c.Bearer() || strings.EqualFold(c.Scheme, "DPoP") })
}
