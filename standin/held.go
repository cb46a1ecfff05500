package standin

import (
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
)

// readForm reads a form body within bounds; a parameter may be there once
// (RFC 6749 3.2).
func readForm(r *http.Request) *refused {
	if mt, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); mt != "application/x-www-form-urlencoded" {
		return refuse("invalid_request", "the request body must be application/x-www-form-urlencoded")
	}
	r.Body = http.MaxBytesReader(nil, r.Body, 64<<10)
	if err := r.ParseForm(); err != nil {
		return refuse("invalid_request", "the request body cannot be read")
	}
	for name, values := range r.PostForm {
		if len(values) > 1 {
			return refuse("invalid_request", "the parameter "+name+" is there more than once")
		}
	}
	return nil
}

func (s *Server) sendRefusal(w http.ResponseWriter, no *refused) {
	if no.basic {
		w.Header().Set("WWW-Authenticate", `Basic realm="Northmark Tide Office"`)
	}
	writeJSON(w, no.status, map[string]any{"error": no.code, "error_description": no.description})
}

// aboutToken reads a request about a token: who asks, and which one.
func (s *Server) aboutToken(w http.ResponseWriter, r *http.Request) (*Client, string, bool) {
	w.Header().Set("Cache-Control", "no-store")
	no := readForm(r)
	var c *Client
	if no == nil {
		c, no = s.authenticate(r)
	}
	if no == nil && r.PostForm.Get("token") == "" {
		no = refuse("invalid_request", "the parameter token is missing")
	}
	if no != nil {
		s.sendRefusal(w, no)
		return nil, "", false
	}
	return c, r.PostForm.Get("token"), true
}

// introspect is RFC 7662. A client learns of its own tokens only; of any other
// it is told that it is not active (RFC 7662 2.2, 4).
func (s *Server) introspect(w http.ResponseWriter, r *http.Request) {
	c, raw, ok := s.aboutToken(w, r)
	if !ok {
		return
	}
	writeJSON(w, http.StatusOK, s.describe(c, raw))
}

var inactive = map[string]any{"active": false}

func (s *Server) describe(c *Client, raw string) map[string]any {
	s.mu.Lock()
	rec, g := s.refresh[raw], s.opaque[raw]
	s.mu.Unlock()
	now := s.cfg.Now()
	switch {
	case rec != nil:
		if rec.client != c || rec.used || now.After(rec.expires) {
			return inactive
		}
		return map[string]any{"active": true, "client_id": c.ID, "scope": strings.Join(rec.scope, " "), "exp": rec.expires.Unix(), "sub": rec.user.Name, "username": rec.user.Name, "iss": s.cfg.Issuer}
	case g != nil:
		if g.client != c || now.After(g.expires) || s.isRevoked(g.jti) {
			return inactive
		}
		doc := map[string]any{"active": true, "client_id": c.ID, "scope": strings.Join(g.scope, " "), "exp": g.expires.Unix(), "iat": g.expires.Add(-time.Duration(c.life) * time.Second).Unix(),
			"sub": g.subject, "aud": s.API(), "iss": s.cfg.Issuer, "token_type": "Bearer", "jti": g.jti}
		if g.user != nil {
			doc["username"] = g.user.Name
		}
		return doc
	}
	claims, err := s.verify(raw)
	if err != nil {
		return inactive
	}
	exp, _ := claims["exp"].(float64)
	jti, _ := claims["jti"].(string)
	if claims["client_id"] != c.ID || now.After(time.Unix(int64(exp), 0)) || s.isRevoked(jti) {
		return inactive
	}
	doc := map[string]any{"active": true, "token_type": "Bearer"}
	for name, v := range claims {
		doc[name] = v
	}
	if sub, _ := claims["sub"].(string); findUser(sub) != nil {
		doc["username"] = sub
	}
	return doc
}

// revoke is RFC 7009: an unknown token is no error, and ending a refresh token
// ends what came from it.
func (s *Server) revoke(w http.ResponseWriter, r *http.Request) {
	c, raw, ok := s.aboutToken(w, r)
	if !ok {
		return
	}
	claims, err := s.verify(raw)
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.refresh[raw] != nil && s.refresh[raw].client == c:
		s.revokeFamily(s.refresh[raw].family)
		delete(s.refresh, raw)
	case s.opaque[raw] != nil && s.opaque[raw].client == c:
		s.revoked[s.opaque[raw].jti] = true
	case err == nil && claims["client_id"] == c.ID:
		if jti, _ := claims["jti"].(string); jti != "" {
			s.revoked[jti] = true
		}
	}
	w.WriteHeader(http.StatusOK)
}

// farewells are where a browser may be sent after it signed out.
var farewells = []string{"http://127.0.0.1:8651/goodbye", "https://portal.tides.example/goodbye"}

// logout is OpenID Connect RP-Initiated Logout 2. Without an id token of ours
// the person is not signed out by a link alone.
func (s *Server) logout(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	hint, back := q.Get("id_token_hint"), q.Get("post_logout_redirect_uri")
	claims, err := s.verify(hint)
	if err != nil || q.Get("client_id") != "" && claims["aud"] != q.Get("client_id") {
		page(w, http.StatusBadRequest, "Not signed out", "<h1>Not signed out</h1><p class=\"wrong\">", esc("id_token_hint is missing, not ours, or another client's."), "</p>")
		return
	}
	sub, _ := claims["sub"].(string)
	s.mu.Lock()
	for id, l := range s.logins {
		if l.user.Name == sub {
			delete(s.logins, id)
		}
	}
	s.mu.Unlock()
	if back == "" || !slices.Contains(farewells, back) {
		page(w, http.StatusOK, "Signed out", "<h1>Signed out</h1><p>", esc(sub), " is signed out of the Northmark Tide Office.</p>")
		return
	}
	u, _ := url.Parse(back) // it is one of ours
	if state := q.Get("state"); state != "" {
		u.RawQuery = url.Values{"state": {state}}.Encode()
	}
	http.Redirect(w, r, u.String(), http.StatusSeeOther)
}

// userinfo is OpenID Connect Core 5.3. A client that registered for it gets the
// answer signed (5.3.2).
func (s *Server) userinfo(w http.ResponseWriter, r *http.Request) {
	s.guard("openid", func(w http.ResponseWriter, _ *http.Request, c *caller) {
		doc := map[string]any{"sub": c.subject}
		if u := findUser(c.subject); u != nil && slices.Contains(c.scope, "profile") {
			doc["name"], doc["preferred_username"] = u.fullName, u.Name
		}
		if s.faults["userinfo-wrong-sub"] {
			doc["sub"] = "somebody-else"
		}
		client := findClient(c.clientID)
		if client == nil || !client.signedUserinfo {
			writeJSON(w, http.StatusOK, doc)
			return
		}
		doc["iss"], doc["aud"] = s.cfg.Issuer, client.ID
		signed, err := s.sign("RS256", "JWT", doc)
		if err != nil {
			http.Error(w, "the answer could not be signed", http.StatusInternalServerError)
			return
		}
		w.Header().Set("Content-Type", "application/jwt")
		_, _ = w.Write([]byte(signed)) // the client has gone when this fails
	})(w, r)
}
