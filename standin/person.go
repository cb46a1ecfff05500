package standin

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"net/url"
	"strings"
	"time"
)

// codeRecord is an authorization code (RFC 6749 4.1.2).
type codeRecord struct {
	client            *Client
	user              *User
	redirect          string // redirect_uri of the request; "" when it had none
	scope             []string
	nonce             string
	authTime          time.Time
	challenge, method string
	expires           time.Time
	family            string
	used              bool
}

// refreshRecord is a refresh token. A used one is kept: its reuse is the sign
// that somebody else has it.
type refreshRecord struct {
	client   *Client
	user     *User
	scope    []string
	nonce    string
	authTime time.Time
	family   string
	expires  time.Time
	used     bool
}

// refreshLife is how long a refresh token may lie unused.
const refreshLife = 30 * 24 * time.Hour

func (s *Server) newRefreshToken(g *grantRecord) string {
	raw := "rt-" + randomText(30)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refresh[raw] = &refreshRecord{client: g.client, user: g.user, scope: g.scope, authTime: g.authTime, family: g.family, expires: s.cfg.Now().Add(refreshLife)}
	return raw
}

// revokeFamily ends every token that came from one code or sign-in. s.mu is held.
func (s *Server) revokeFamily(family string) {
	for raw, r := range s.refresh {
		if r.family == family {
			delete(s.refresh, raw)
		}
	}
	for _, g := range s.issued {
		if g.family == family {
			s.revoked[g.jti] = true
		}
	}
}

// redeemCode is the authorization code grant (RFC 6749 4.1.3, RFC 7636 4.6). A
// code is single-use; its reuse revokes what it gave (RFC 6749 4.1.2).
func (s *Server) redeemCode(c *Client, form url.Values) (map[string]any, *refused) {
	raw := form.Get("code")
	if raw == "" {
		return nil, refuse("invalid_request", "the parameter code is missing")
	}
	g, no := s.takeCode(c, raw, form)
	if no != nil {
		return nil, no
	}
	return s.issue(g, nil)
}

func (s *Server) takeCode(c *Client, raw string, form url.Values) (*grantRecord, *refused) {
	s.mu.Lock()
	defer s.mu.Unlock()
	rec := s.codes[raw]
	switch {
	case rec == nil:
		return nil, refuse("invalid_grant", "the authorization code is unknown")
	case rec.client != c:
		return nil, refuse("invalid_grant", "the authorization code was issued to another client")
	case rec.used:
		s.revokeFamily(rec.family)
		return nil, refuse("invalid_grant", "the authorization code was used before; what it gave is revoked")
	}
	rec.used = true
	switch {
	case s.cfg.Now().After(rec.expires):
		return nil, refuse("invalid_grant", "the authorization code has expired")
	case rec.redirect != form.Get("redirect_uri"):
		return nil, refuse("invalid_grant", "redirect_uri is not the one of the authorization request")
	case rec.challenge != "" && form.Get("code_verifier") == "":
		return nil, refuse("invalid_grant", "the parameter code_verifier is missing")
	case rec.challenge == "" && form.Get("code_verifier") != "":
		return nil, refuse("invalid_grant", "a code_verifier came, and the authorization request had no code_challenge")
	case rec.challenge != "" && !verifies(rec.challenge, rec.method, form.Get("code_verifier")):
		return nil, refuse("invalid_grant", "the code_verifier does not fit the code_challenge")
	}
	return &grantRecord{client: c, subject: rec.user.Name, user: rec.user, scope: rec.scope, nonce: rec.nonce, authTime: rec.authTime, family: rec.family}, nil
}

func verifies(challenge, method, verifier string) bool {
	if method == "S256" {
		sum := sha256.Sum256([]byte(verifier))
		verifier = base64.RawURLEncoding.EncodeToString(sum[:])
	}
	return subtle.ConstantTimeCompare([]byte(challenge), []byte(verifier)) == 1
}

// passwordGrant is RFC 6749 4.3.
func (s *Server) passwordGrant(c *Client, form url.Values) (map[string]any, *refused) {
	if form.Get("username") == "" || form.Get("password") == "" {
		return nil, refuse("invalid_request", "the parameters username and password are both needed")
	}
	u := findUser(form.Get("username"))
	if u == nil || subtle.ConstantTimeCompare([]byte(u.Password), []byte(form.Get("password"))) != 1 {
		return nil, refuse("invalid_grant", "the account and the password do not go together")
	}
	if len(u.granted) == 0 {
		return nil, refuse("invalid_grant", "the person must agree on a page first: interaction required")
	}
	scope, no := grantScope(form.Get("scope"), c.scopes)
	if no != nil {
		return nil, no
	}
	return s.issue(&grantRecord{client: c, subject: u.Name, user: u, scope: scope, authTime: s.cfg.Now(), family: randomText(8)}, nil)
}

// refreshGrant is RFC 6749 6 with rotation: each refresh token works once, and
// the reuse of one ends the whole family (RFC 9700 4.14).
func (s *Server) refreshGrant(c *Client, form url.Values) (map[string]any, *refused) {
	raw := form.Get("refresh_token")
	if raw == "" {
		return nil, refuse("invalid_request", "the parameter refresh_token is missing")
	}
	g, no := s.takeRefresh(c, raw, form.Get("scope"))
	if no != nil {
		return nil, no
	}
	return s.issue(g, nil)
}

func (s *Server) takeRefresh(c *Client, raw, asked string) (*grantRecord, *refused) {
	s.mu.Lock()
	defer s.mu.Unlock()
	rec := s.refresh[raw]
	switch {
	case rec == nil:
		return nil, refuse("invalid_grant", "the refresh token is unknown, expired or revoked")
	case rec.client != c:
		return nil, refuse("invalid_grant", "the refresh token was issued to another client")
	case rec.used:
		s.revokeFamily(rec.family)
		return nil, refuse("invalid_grant", "the refresh token was used before; its family is revoked")
	case s.cfg.Now().After(rec.expires):
		return nil, refuse("invalid_grant", "the refresh token has expired")
	}
	scope := rec.scope
	if asked != "" {
		narrowed, no := grantScope(asked, rec.scope)
		if no != nil {
			return nil, refuse("invalid_scope", "the scope is wider than what was granted")
		}
		scope = narrowed
	}
	rec.used = true
	return &grantRecord{client: c, subject: rec.user.Name, user: rec.user, scope: scope, nonce: rec.nonce, authTime: rec.authTime, family: rec.family}, nil
}

// idToken is OpenID Connect Core 2, with at_hash (3.1.3.6).
func (s *Server) idToken(g *grantRecord, access string, now time.Time) (string, error) {
	sum := sha256.Sum256([]byte(access))
	claims := map[string]any{"iss": s.cfg.Issuer, "sub": g.subject, "aud": g.client.ID, "iat": now.Unix(), "exp": now.Add(time.Hour).Unix(),
		"auth_time": g.authTime.Unix(), "at_hash": base64.RawURLEncoding.EncodeToString(sum[:16])}
	if g.nonce != "" {
		claims["nonce"] = g.nonce
	}
	if strings.Contains(" "+strings.Join(g.scope, " ")+" ", " profile ") {
		claims["name"], claims["preferred_username"] = g.user.fullName, g.user.Name
	}
	if s.faults["id-token-wrong-nonce"] {
		claims["nonce"] = "somebody-elses"
	}
	if s.faults["id-token-wrong-audience"] {
		claims["aud"] = "another-client"
	}
	return s.sign("RS256", "JWT", claims)
}
