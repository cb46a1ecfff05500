package standin

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
)

// grantRecord is what an access token stands for.
type grantRecord struct {
	client   *Client
	subject  string // the account, or the client itself
	user     *User  // nil for an application's token
	scope    []string
	nonce    string
	authTime time.Time
	family   string // of everything that came from one code or sign-in
	expires  time.Time
	jti      string
}

// refused is an error answer of the token endpoint (RFC 6749 5.2).
type refused struct {
	status      int
	code        string
	description string
	basic       bool // answer with a Basic challenge
}

func refuse(code, description string) *refused {
	return &refused{status: http.StatusBadRequest, code: code, description: description}
}

func (s *Server) tokenWrongMethod(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Allow", http.MethodPost)
	http.Error(w, "the token endpoint takes POST (RFC 6749 3.2)", http.StatusMethodNotAllowed)
}

// token is the token endpoint (RFC 6749 3.2).
func (s *Server) token(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Pragma", "no-cache")
	answer, no := s.grant(r)
	if no != nil {
		if no.basic {
			w.Header().Set("WWW-Authenticate", `Basic realm="Northmark Tide Office"`)
		}
		s.answerToken(w, r, no.status, map[string]any{"error": no.code, "error_description": no.description})
		return
	}
	s.answerToken(w, r, http.StatusOK, answer)
}

func (s *Server) grant(r *http.Request) (map[string]any, *refused) {
	if no := readForm(r); no != nil {
		return nil, no
	}
	client, no := s.authenticate(r)
	if no != nil {
		return nil, no
	}
	switch grant := r.PostForm.Get("grant_type"); {
	case grant == "":
		return nil, refuse("invalid_request", "the parameter grant_type is missing")
	case !slices.Contains(knownGrants, grant) || grant == "implicit":
		return nil, refuse("unsupported_grant_type", "this server does not offer that grant type")
	case !client.may(grant):
		return nil, refuse("unauthorized_client", "this client is not registered for that grant type")
	}
	switch r.PostForm.Get("grant_type") {
	case "authorization_code":
		return s.redeemCode(client, r.PostForm)
	case "password":
		return s.passwordGrant(client, r.PostForm)
	case "refresh_token":
		return s.refreshGrant(client, r.PostForm)
	}
	return s.clientCredentials(client, r.PostForm)
}

var knownGrants = []string{"authorization_code", "client_credentials", "password", "refresh_token", "implicit"}

// authenticate finds the client and checks its credentials (RFC 6749 2.3.1).
func (s *Server) authenticate(r *http.Request) (*Client, *refused) {
	id, secret, header := basicCredentials(r)
	posted := r.PostForm.Get("client_secret") != ""
	switch {
	case header && posted:
		return nil, refuse("invalid_request", "client credentials are in the header and in the body; use one")
	case header && r.PostForm.Get("client_id") != "" && r.PostForm.Get("client_id") != id:
		return nil, refuse("invalid_request", "client_id in the body is not the client of the Authorization header")
	case !header:
		id, secret = r.PostForm.Get("client_id"), r.PostForm.Get("client_secret")
	}
	no := func(description string) *refused {
		return &refused{status: http.StatusUnauthorized, code: "invalid_client", description: description, basic: r.Header.Get("Authorization") != "" || !posted}
	}
	if id == "" {
		if r.Header.Get("Authorization") != "" {
			return nil, no("the Authorization header cannot be read as Basic credentials")
		}
		return nil, refuse("invalid_request", "the parameter client_id is missing")
	}
	c := findClient(id)
	if c == nil {
		return nil, no("client authentication failed: unknown client")
	}
	used := "none"
	if header {
		used = "client_secret_basic"
	} else if _, there := r.PostForm["client_secret"]; there {
		used = "client_secret_post"
	}
	switch {
	case used == "none" && c.AuthMethod != "none":
		return nil, no("client authentication failed: no credentials were sent")
	case used != c.AuthMethod && (used == "none" || c.AuthMethod == "none" || s.faults["strict-auth-method"]):
		// with a secret, header and body are as good as each other unless a server is strict
		return nil, no("client authentication failed: this client is registered for " + c.AuthMethod)
	case c.AuthMethod != "none" && secret != c.Secret:
		return nil, no("client authentication failed")
	case c.expired:
		return nil, no("client authentication failed: the client secret has expired")
	}
	return c, nil
}

// basicCredentials reads the Authorization header; both halves are
// form-urlencoded (RFC 6749 2.3.1).
func basicCredentials(r *http.Request) (id, secret string, ok bool) {
	scheme, rest, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if !strings.EqualFold(scheme, "Basic") {
		return "", "", false
	}
	raw, err := base64.StdEncoding.DecodeString(rest)
	if err != nil {
		return "", "", false
	}
	user, pass, found := strings.Cut(string(raw), ":")
	if !found {
		return "", "", false
	}
	id, err1 := url.QueryUnescape(user)
	secret, err2 := url.QueryUnescape(pass)
	return id, secret, err1 == nil && err2 == nil
}

func (s *Server) clientCredentials(c *Client, form url.Values) (map[string]any, *refused) {
	scope, no := grantScope(form.Get("scope"), c.scopes)
	if no != nil {
		return nil, no
	}
	if no := s.checkTarget(form); no != nil {
		return nil, no
	}
	return s.issue(&grantRecord{client: c, subject: c.ID, scope: scope}, c.roles)
}

// grantScope gives what was asked, or everything allowed when nothing was
// (RFC 6749 3.3).
func grantScope(asked string, allowed []string) ([]string, *refused) {
	list := strings.Fields(asked)
	if len(list) == 0 {
		return allowed, nil
	}
	for _, sc := range list {
		if !slices.Contains(allowed, sc) {
			return nil, refuse("invalid_scope", "the scope "+printable(sc)+" is unknown or not allowed for this client")
		}
	}
	return list, nil
}

// printable keeps an error_description inside the characters RFC 6749 5.2 allows.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 || r > 0x7e || r == '"' || r == '\\' {
			return '?'
		}
		return r
	}, s)
}

// checkTarget accepts the one API as audience or resource (RFC 8707 2).
func (s *Server) checkTarget(form url.Values) *refused {
	for _, name := range []string{"audience", "resource"} {
		if v := form.Get(name); v != "" && v != s.API() {
			return refuse("invalid_target", "the "+name+" is not an API of this server")
		}
	}
	return nil
}

// issue makes the access token and the answer (RFC 6749 5.1, RFC 9068 2.2).
func (s *Server) issue(g *grantRecord, roles []string) (map[string]any, *refused) {
	now := s.cfg.Now()
	g.expires = now.Add(time.Duration(g.client.life) * time.Second)
	g.jti = randomText(12)
	access, err := s.accessToken(g, roles, now)
	if err != nil {
		return nil, &refused{status: http.StatusInternalServerError, code: "server_error", description: "the token could not be signed"}
	}
	answer := map[string]any{"access_token": access, "token_type": "Bearer", "expires_in": g.client.life, "scope": strings.Join(g.scope, " ")}
	if g.user == nil {
		return answer, nil
	}
	if slices.Contains(g.scope, "offline_access") && g.client.may("refresh_token") {
		answer["refresh_token"] = s.newRefreshToken(g)
	}
	if slices.Contains(g.scope, "openid") {
		if answer["id_token"], err = s.idToken(g, access, now); err != nil {
			return nil, &refused{status: http.StatusInternalServerError, code: "server_error", description: "the id token could not be signed"}
		}
	}
	return answer, nil
}

// accessToken makes a JWT (RFC 9068), or an opaque token for clients that get
// those.
func (s *Server) accessToken(g *grantRecord, roles []string, now time.Time) (string, error) {
	s.mu.Lock()
	s.issued = append(s.issued, g)
	s.mu.Unlock()
	if g.client.signing == "" {
		raw := "ot-" + randomText(24)
		s.mu.Lock()
		s.opaque[raw] = g
		s.mu.Unlock()
		return raw, nil
	}
	claims := map[string]any{"iss": s.cfg.Issuer, "sub": g.subject, "aud": s.API(), "iat": now.Unix(), "exp": g.expires.Unix(),
		"jti": g.jti, "client_id": g.client.ID, "scope": strings.Join(g.scope, " ")}
	if len(roles) > 0 {
		claims["roles"] = roles
	}
	if !g.authTime.IsZero() {
		claims["auth_time"] = g.authTime.Unix()
	}
	return s.sign(g.client.signing, "at+jwt", claims)
}

func randomText(n int) string {
	raw := make([]byte, n)
	_, _ = rand.Read(raw) // never fails (crypto/rand)
	return base64.RawURLEncoding.EncodeToString(raw)
}

func writeJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // the client has gone when this fails
}
