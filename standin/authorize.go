package standin

import (
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// pendingRequest is an authorization request that waits for a person.
type pendingRequest struct {
	client   *Client
	params   url.Values
	redirect string
	scope    []string
	user     *User
	authTime time.Time
}

// login is a session at the authorization server.
type login struct {
	user *User
	at   time.Time
}

const (
	sessionCookie = "northmark_session"
	codeLife      = 60 * time.Second
)

// authorize is the authorization endpoint (RFC 6749 3.1).
func (s *Server) authorize(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
	if err := r.ParseForm(); err != nil {
		s.errorPage(w, "The request cannot be read", "Its parameters are malformed.")
		return
	}
	p, ok := s.checkClientAndRedirect(w, r.Form)
	if !ok {
		return
	}
	if code, description := s.checkRequest(p); code != "" {
		s.redirectError(w, r, p, code, description)
		return
	}
	switch s.cfg.Approve {
	case ApproveDeny:
		s.redirectError(w, r, p, "access_denied", "the person refused")
		return
	case ApproveAuto:
		p.user, p.authTime = findUser(s.cfg.AsUser), s.cfg.Now()
		s.grantCode(w, r, p)
		return
	}
	s.withPerson(w, r, p)
}

// checkClientAndRedirect refuses with a page of its own: before these two are
// right, nothing may be sent to the redirect URI (RFC 6749 4.1.2.1).
func (s *Server) checkClientAndRedirect(w http.ResponseWriter, params url.Values) (*pendingRequest, bool) {
	for name, values := range params {
		if len(values) > 1 {
			s.errorPage(w, "A parameter is there twice", "The parameter "+name+" must be given once (RFC 6749 3.1).")
			return nil, false
		}
	}
	c := findClient(params.Get("client_id"))
	if c == nil {
		s.errorPage(w, "Unknown client", "There is no client "+strconv.Quote(params.Get("client_id"))+" here.")
		return nil, false
	}
	given := params.Get("redirect_uri")
	switch {
	case len(c.RedirectURIs) == 0:
		s.errorPage(w, "This client cannot sign people in", "No redirect URI is registered for "+c.ID+".")
		return nil, false
	case given == "" && len(c.RedirectURIs) == 1:
		given = c.RedirectURIs[0]
	case !registeredRedirect(c, given):
		s.errorPage(w, "The redirect URI is not registered", "The request named "+strconv.Quote(given)+", which is not one of those registered for "+c.ID+".")
		return nil, false
	}
	return &pendingRequest{client: c, params: params, redirect: given}, true
}

// registeredRedirect compares to the letter; the port of a public client's
// loopback address is free (RFC 8252 7.3, 8.4).
func registeredRedirect(c *Client, given string) bool {
	if slices.Contains(c.RedirectURIs, given) {
		return true
	}
	u, err := url.Parse(given)
	if err != nil || c.AuthMethod != "none" || u.Scheme != "http" {
		return false
	}
	ip := net.ParseIP(u.Hostname())
	if ip == nil || !ip.IsLoopback() {
		return false
	}
	for _, r := range c.RedirectURIs {
		known, err := url.Parse(r)
		if err == nil && known.Hostname() == u.Hostname() && known.Path == u.Path && known.RawQuery == u.RawQuery && u.Fragment == "" {
			return true
		}
	}
	return false
}

// checkRequest is everything that is refused through the redirect.
func (s *Server) checkRequest(p *pendingRequest) (code, description string) {
	get := p.params.Get
	prompts := strings.Fields(get("prompt"))
	switch rt := get("response_type"); {
	case get("request") != "":
		return "request_not_supported", "request objects are not supported"
	case get("request_uri") != "":
		return "request_uri_not_supported", "pushed or referenced requests are not supported"
	case rt == "":
		return "invalid_request", "the parameter response_type is missing"
	case rt != "code" && rt != "token":
		return "unsupported_response_type", "this server offers the response types code and token"
	case rt == "code" && !p.client.may("authorization_code"), rt == "token" && !p.client.may("implicit"):
		return "unauthorized_client", "this client is not registered for that response type"
	case !slices.Contains([]string{"", "query", "fragment", "form_post"}, get("response_mode")):
		return "invalid_request", "the response_mode is not one this server offers"
	case rt == "token" && get("response_mode") == "query":
		return "invalid_request", "an access token is never sent in a query"
	case slices.Contains(prompts, "none") && len(prompts) > 1:
		return "invalid_request", "prompt none cannot stand with others"
	}
	if rt := get("response_type"); rt == "code" {
		if code, description := checkChallenge(p); code != "" {
			return code, description
		}
	}
	scope, no := grantScope(get("scope"), p.client.scopes)
	if no != nil {
		return no.code, no.description
	}
	if get("scope") == "" {
		scope = []string{"gauges.read"}
	}
	if no := s.checkTarget(p.params); no != nil {
		return no.code, no.description
	}
	p.scope = scope
	return "", ""
}

// checkChallenge is PKCE at the authorization endpoint (RFC 7636 4.4.1): public
// clients must use it.
func checkChallenge(p *pendingRequest) (code, description string) {
	challenge, method := p.params.Get("code_challenge"), p.params.Get("code_challenge_method")
	switch {
	case challenge == "" && p.client.AuthMethod == "none":
		return "invalid_request", "code challenge required: public clients must use PKCE"
	case challenge == "" && method != "":
		return "invalid_request", "code_challenge_method without code_challenge"
	case challenge != "" && method != "" && method != "S256" && method != "plain":
		return "invalid_request", "the transform algorithm is not supported"
	case challenge != "" && !wellFormedVerifier(challenge):
		return "invalid_request", "the code_challenge must have 43 to 128 characters of A-Z a-z 0-9 - . _ ~"
	}
	return "", ""
}

func wellFormedVerifier(v string) bool {
	return len(v) >= 43 && len(v) <= 128 && strings.Trim(v, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~") == ""
}

// withPerson shows what is still needed: the sign-in page, the consent page, or
// neither.
func (s *Server) withPerson(w http.ResponseWriter, r *http.Request, p *pendingRequest) {
	prompts := strings.Fields(p.params.Get("prompt"))
	silent := slices.Contains(prompts, "none")
	in := s.session(r)
	if in != nil {
		p.user, p.authTime = in.user, in.at
	}
	stale := false
	if age, err := strconv.Atoi(p.params.Get("max_age")); err == nil && in != nil {
		stale = s.cfg.Now().Sub(in.at) >= time.Duration(age)*time.Second
	}
	switch {
	case in == nil || stale || slices.Contains(prompts, "login"):
		if silent {
			s.redirectError(w, r, p, "login_required", "nobody is signed in, and prompt=none forbids asking")
			return
		}
		s.signInPage(w, s.park(p), p.params.Get("login_hint"), "")
	case slices.Contains(prompts, "consent") || !s.hasAgreed(p):
		if silent {
			s.redirectError(w, r, p, "consent_required", "the person has not agreed yet, and prompt=none forbids asking")
			return
		}
		s.consentPage(w, s.park(p), p)
	default:
		s.grantCode(w, r, p)
	}
}

// park keeps a request while a person looks at a page, under a random ticket.
func (s *Server) park(p *pendingRequest) string {
	ticket := randomText(16)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.pending[ticket] = p
	return ticket
}

func (s *Server) unpark(w http.ResponseWriter, r *http.Request) (*pendingRequest, bool) {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	if err := r.ParseForm(); err != nil {
		s.errorPage(w, "The form cannot be read", "Go back and try again.")
		return nil, false
	}
	s.mu.Lock()
	p := s.pending[r.PostForm.Get("ticket")]
	delete(s.pending, r.PostForm.Get("ticket"))
	s.mu.Unlock()
	if p == nil {
		s.usedPage(w)
	}
	return p, p != nil
}

func (s *Server) session(r *http.Request) *login {
	c, err := r.Cookie(sessionCookie)
	if err != nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.logins[c.Value]
}

// signIn takes the sign-in form.
func (s *Server) signIn(w http.ResponseWriter, r *http.Request) {
	p, ok := s.unpark(w, r)
	if !ok {
		return
	}
	if r.PostForm.Get("act") == "cancel" {
		s.redirectError(w, r, p, "access_denied", "the person did not sign in")
		return
	}
	u := findUser(strings.TrimSpace(r.PostForm.Get("username")))
	if u == nil || u.Password != r.PostForm.Get("password") {
		s.signInPage(w, s.park(p), r.PostForm.Get("username"), "That account and password do not go together.")
		return
	}
	id, now := randomText(24), s.cfg.Now()
	s.mu.Lock()
	s.logins[id] = &login{u, now}
	s.mu.Unlock()
	http.SetCookie(w, &http.Cookie{Name: sessionCookie, Value: id, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
	p.user, p.authTime = u, now
	if s.hasAgreed(p) && !strings.Contains(p.params.Get("prompt"), "consent") {
		s.grantCode(w, r, p)
		return
	}
	// a page of its own, so that the back button finds it again
	http.Redirect(w, r, "/consent?ticket="+s.park(p), http.StatusSeeOther)
}

// showConsent shows the consent page of a request that waits.
func (s *Server) showConsent(w http.ResponseWriter, r *http.Request) {
	ticket := r.URL.Query().Get("ticket")
	s.mu.Lock()
	p := s.pending[ticket]
	s.mu.Unlock()
	if p == nil || p.user == nil {
		s.usedPage(w)
		return
	}
	s.consentPage(w, ticket, p)
}

// consent takes the consent form.
func (s *Server) consent(w http.ResponseWriter, r *http.Request) {
	p, ok := s.unpark(w, r)
	if !ok {
		return
	}
	if r.PostForm.Get("act") != "agree" {
		s.redirectError(w, r, p, "access_denied", "the person refused")
		return
	}
	s.mu.Lock()
	for _, sc := range p.scope {
		s.agreed[p.user.Name+"\x00"+p.client.ID+"\x00"+sc] = true
	}
	s.mu.Unlock()
	s.grantCode(w, r, p)
}

// hasAgreed reports whether the person agreed to all of this before.
func (s *Server) hasAgreed(p *pendingRequest) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, sc := range p.scope {
		if !s.agreed[p.user.Name+"\x00"+p.client.ID+"\x00"+sc] {
			return false
		}
	}
	return true
}

// settle fills in what was agreed to and handed out before the story begins.
func (s *Server) settle() {
	for i := range accounts {
		u := &accounts[i]
		for _, id := range u.granted {
			for _, sc := range findClient(id).scopes {
				s.agreed[u.Name+"\x00"+id+"\x00"+sc] = true
			}
		}
	}
	relay := findClient("relay")
	s.refresh[relay.RefreshToken] = &refreshRecord{client: relay, user: findUser("keeper"), scope: relay.scopes, family: "relay", expires: s.cfg.Now().AddDate(0, 6, 0)}
}

// grantCode answers the request: with a code, or a token for the implicit form.
func (s *Server) grantCode(w http.ResponseWriter, r *http.Request, p *pendingRequest) {
	if p.params.Get("response_type") == "token" {
		answer, no := s.issue(&grantRecord{client: p.client, subject: p.user.Name, user: p.user, scope: without(p.scope, "offline_access", "openid"), authTime: p.authTime, family: randomText(8)}, nil)
		if no != nil {
			s.redirectError(w, r, p, no.code, no.description)
			return
		}
		v := url.Values{"access_token": {answer["access_token"].(string)}, "token_type": {"Bearer"}, "expires_in": {strconv.Itoa(p.client.life)}, "scope": {strings.Join(p.scope, " ")}}
		s.respond(w, r, p, v)
		return
	}
	code := "ac-" + randomText(18)
	s.mu.Lock()
	s.codes[code] = &codeRecord{client: p.client, user: p.user, redirect: p.params.Get("redirect_uri"), scope: p.scope, nonce: p.params.Get("nonce"), authTime: p.authTime,
		challenge: p.params.Get("code_challenge"), method: p.params.Get("code_challenge_method"), expires: s.cfg.Now().Add(codeLife), family: randomText(8)}
	s.mu.Unlock()
	s.respond(w, r, p, url.Values{"code": {code}})
}

func without(list []string, drop ...string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(s string) bool { return slices.Contains(drop, s) })
}

func (s *Server) redirectError(w http.ResponseWriter, r *http.Request, p *pendingRequest, code, description string) {
	s.respond(w, r, p, url.Values{"error": {code}, "error_description": {description}})
}

// respond sends the person back by the response mode, with state and iss
// (RFC 6749 4.1.2, RFC 9207).
func (s *Server) respond(w http.ResponseWriter, r *http.Request, p *pendingRequest, v url.Values) {
	if state := p.params.Get("state"); state != "" && !s.faults["state-dropped"] {
		v.Set("state", state)
	}
	v.Set("iss", s.cfg.Issuer)
	if s.faults["iss-mismatch"] {
		v.Set("iss", "https://another.example")
	}
	target := p.redirect
	if s.faults["redirect-wrong-port"] {
		target = nextDoor(target)
	}
	mode := p.params.Get("response_mode")
	if mode == "" && p.params.Get("response_type") == "token" {
		mode = "fragment"
	}
	w.Header().Set("Cache-Control", "no-store")
	switch mode {
	case "fragment":
		http.Redirect(w, r, target+"#"+v.Encode(), http.StatusSeeOther)
	case "form_post":
		s.postPage(w, target, v)
	default:
		sep := "?"
		if strings.Contains(target, "?") {
			sep = "&"
		}
		http.Redirect(w, r, target+sep+v.Encode(), http.StatusSeeOther)
	}
}
