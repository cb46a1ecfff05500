package standin

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
)

// pageSize is how many readings one page holds.
const pageSize = 100

func (s *Server) routesAPI(r chi.Router) {
	r.Get("/stations", s.guard("gauges.read", s.harbour(s.stations)))
	r.Get("/stations/{id}", s.guard("gauges.read", s.harbour(s.station)))
	r.Get("/stations/{id}/readings", s.guard("gauges.read", s.harbour(s.readings)))
	r.Get("/harbours", s.guard("gauges.read", s.harbours))
	r.Get("/me", s.guard("", s.me))
	r.Get("/notices", s.guard("notices.write", s.listNotices))
	r.Post("/notices", s.guard("notices.write", s.postNotice))
	r.Get("/feed", s.feed)
}

// caller is whom a token stands for, as the API sees it.
type caller struct {
	subject   string
	clientID  string
	scope     []string
	roles     []string
	delegated bool     // a person's token, not an application's
	harbours  []string // nil means all
}

// handler is an API handler that knows who calls.
type handler func(w http.ResponseWriter, r *http.Request, c *caller)

// guard checks the token (RFC 6750) and the scope a path needs.
func (s *Server) guard(scope string, next handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		values := r.Header.Values("Authorization")
		if c := s.lenient(r, values); c != nil {
			next(w, r, c)
			return
		}
		if s.faults["refuse-lower-case-scheme"] && len(values) == 1 && strings.HasPrefix(values[0], "bearer ") {
			s.challenge(w, http.StatusUnauthorized, "", "", "", "the scheme must be Bearer")
			return
		}
		if len(values) == 0 {
			s.challenge(w, http.StatusUnauthorized, "", "", "", "this call needs an access token")
			return
		}
		scheme, raw, _ := strings.Cut(values[0], " ")
		if len(values) > 1 || !strings.EqualFold(scheme, "Bearer") || raw == "" || strings.Contains(raw, " ") {
			s.challenge(w, http.StatusBadRequest, "invalid_request", "the Authorization header must be: Bearer, one space, the token", "", "the Authorization header is malformed")
			return
		}
		s.serveFor(w, r, raw, scope, next)
	}
}

func (s *Server) serveFor(w http.ResponseWriter, r *http.Request, raw, scope string, next handler) {
	c, why := s.accept(raw)
	if c == nil {
		s.challenge(w, http.StatusUnauthorized, "invalid_token", why, "", why)
		return
	}
	if scope != "" && !slices.Contains(c.scope, scope) && !s.faults["accept-any-scope"] {
		s.challenge(w, http.StatusForbidden, "insufficient_scope", "the token lacks the scope this call needs", scope, "the token lacks a scope")
		return
	}
	next(w, r, c)
}

// accept verifies an access token, or says why it does not.
func (s *Server) accept(raw string) (*caller, string) {
	s.mu.Lock()
	g := s.opaque[raw]
	s.mu.Unlock()
	if g != nil {
		return s.acceptOpaque(g)
	}
	claims, err := s.verify(raw)
	if err != nil {
		return nil, "the access token is malformed, or not signed by this issuer"
	}
	text := func(name string) string { v, _ := claims[name].(string); return v }
	exp, _ := claims["exp"].(float64)
	switch {
	case text("aud") != s.API():
		return nil, "the access token is for another audience"
	case s.cfg.Now().After(time.Unix(int64(exp), 0)):
		return nil, "the access token has expired"
	case s.isRevoked(text("jti")):
		return nil, "the access token was revoked"
	}
	c := &caller{subject: text("sub"), clientID: text("client_id"), scope: strings.Fields(text("scope"))}
	if list, ok := claims["roles"].([]any); ok {
		for _, v := range list {
			c.roles = append(c.roles, fmt.Sprint(v))
		}
	}
	c.standsFor(findUser(c.subject))
	return c, ""
}

func (s *Server) acceptOpaque(g *grantRecord) (*caller, string) {
	switch {
	case s.cfg.Now().After(g.expires):
		return nil, "the access token has expired"
	case s.isRevoked(g.jti):
		return nil, "the access token was revoked"
	}
	c := &caller{subject: g.subject, clientID: g.client.ID, scope: g.scope}
	c.standsFor(g.user)
	return c, ""
}

func (s *Server) isRevoked(jti string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.revoked[jti]
}

// standsFor makes the caller a person, who sees their own harbours only.
func (c *caller) standsFor(u *User) {
	if u != nil && c.subject != c.clientID {
		c.delegated, c.harbours = true, u.harbours
	}
}

// challenge refuses with a WWW-Authenticate header (RFC 6750 3) and a body.
func (s *Server) challenge(w http.ResponseWriter, status int, code, description, scope, message string) {
	text := `Bearer realm="Northmark tide gauges"`
	for _, p := range []struct{ name, value string }{{"error", code}, {"error_description", description}, {"scope", scope}} {
		if p.value != "" {
			text += fmt.Sprintf(`, %s="%s"`, p.name, p.value)
		}
	}
	w.Header().Set("WWW-Authenticate", text)
	writeJSON(w, status, map[string]string{"message": message})
}

// harbour checks the Harbour-Id header that station calls need.
func (s *Server) harbour(next handler) handler {
	return func(w http.ResponseWriter, r *http.Request, c *caller) {
		id := r.Header.Get("Harbour-Id")
		switch {
		case id == "":
			writeJSON(w, http.StatusBadRequest, map[string]string{"message": "the header Harbour-Id is required: one of the ids of /api/harbours"})
		case !slices.ContainsFunc(s.gauges.harbours, func(h Harbour) bool { return h.ID == id }):
			writeJSON(w, http.StatusNotFound, map[string]string{"message": "there is no harbour " + strconv.Quote(id)})
		case c.harbours != nil && !slices.Contains(c.harbours, id):
			writeJSON(w, http.StatusForbidden, map[string]string{"message": "this account may not act for the harbour " + strconv.Quote(id)})
		default:
			next(w, r, c)
		}
	}
}

type stationList struct {
	XMLName  xml.Name  `json:"-" xml:"stations"`
	Stations []Station `json:"stations" xml:"station"`
}

func (s *Server) stations(w http.ResponseWriter, r *http.Request, _ *caller) {
	list := stationList{Stations: []Station{}}
	if _, ok := s.since(w, r, "since"); !ok {
		return
	}
	for i := range s.gauges.sites {
		if site := &s.gauges.sites[i]; site.Harbour == r.Header.Get("Harbour-Id") {
			list.Stations = append(list.Stations, site.station(s.cfg.Now()))
		}
	}
	serve(w, r, list)
}

func (s *Server) site(w http.ResponseWriter, r *http.Request) *gaugeSite {
	for i := range s.gauges.sites {
		if site := &s.gauges.sites[i]; site.ID == chi.URLParam(r, "id") && site.Harbour == r.Header.Get("Harbour-Id") {
			return site
		}
	}
	writeJSON(w, http.StatusNotFound, map[string]string{"message": "there is no such station in this harbour"})
	return nil
}

func (s *Server) station(w http.ResponseWriter, r *http.Request, _ *caller) {
	if site := s.site(w, r); site != nil {
		st := site.station(s.cfg.Now())
		serve(w, r, struct {
			XMLName xml.Name `json:"-" xml:"station"`
			Station
		}{Station: st})
	}
}

// since reads a time parameter; the zero time when it is absent.
func (s *Server) since(w http.ResponseWriter, r *http.Request, name string) (time.Time, bool) {
	text := r.URL.Query().Get(name)
	if text == "" {
		return time.Time{}, true
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		if at, err = time.Parse(time.DateOnly, text); err != nil {
			writeJSON(w, http.StatusBadRequest, map[string]string{"message": name + " must be an RFC 3339 time or a date"})
			return at, false
		}
	}
	return at, true
}

type readingPage struct {
	XMLName  xml.Name  `json:"-" xml:"readings"`
	Station  string    `json:"station" xml:"station,attr"`
	Page     int       `json:"page" xml:"page,attr"`
	Pages    int       `json:"pages" xml:"pages,attr"`
	Readings []Reading `json:"readings" xml:"reading"`
}

func (s *Server) readings(w http.ResponseWriter, r *http.Request, _ *caller) {
	site := s.site(w, r)
	if site == nil {
		return
	}
	now := s.cfg.Now()
	since, ok1 := s.since(w, r, "since")
	if !ok1 {
		return
	}
	until, ok2 := s.since(w, r, "until")
	if !ok2 {
		return
	}
	if until.IsZero() {
		until = now
	}
	all := site.readings(now, since, until)
	pages := max(1, (len(all)+pageSize-1)/pageSize)
	page, err := strconv.Atoi(r.URL.Query().Get("page"))
	if r.URL.Query().Get("page") == "" {
		page, err = 1, nil
	}
	if err != nil || page < 1 || page > pages {
		writeJSON(w, http.StatusBadRequest, map[string]string{"message": fmt.Sprintf("page must be a number from 1 to %d", pages)})
		return
	}
	if page < pages { // RFC 8288
		q := r.URL.Query()
		q.Set("page", strconv.Itoa(page+1))
		w.Header().Set("Link", fmt.Sprintf(`<%s%s?%s>; rel="next"`, s.cfg.Issuer, r.URL.Path, q.Encode()))
	}
	from := (page - 1) * pageSize
	serve(w, r, readingPage{Station: site.ID, Page: page, Pages: pages, Readings: all[from:min(from+pageSize, len(all))]})
}

type harbourList struct {
	XMLName  xml.Name  `json:"-" xml:"harbours"`
	Harbours []Harbour `json:"harbours" xml:"harbour"`
}

func (s *Server) harbours(w http.ResponseWriter, r *http.Request, c *caller) {
	list := harbourList{Harbours: []Harbour{}}
	for _, h := range s.gauges.harbours {
		if c.harbours == nil || slices.Contains(c.harbours, h.ID) {
			list.Harbours = append(list.Harbours, h)
		}
	}
	serve(w, r, list)
}

type whoami struct {
	XMLName xml.Name `json:"-" xml:"me"`
	Subject string   `json:"subject" xml:"subject"`
	Kind    string   `json:"kind" xml:"kind"` // person or application
	Client  string   `json:"client" xml:"client"`
	Scope   []string `json:"scope" xml:"scope"`
	Roles   []string `json:"roles,omitempty" xml:"role,omitempty"`
}

func (s *Server) me(w http.ResponseWriter, r *http.Request, c *caller) {
	kind := "application"
	if c.delegated {
		kind = "person"
	}
	serve(w, r, whoami{Subject: c.subject, Kind: kind, Client: c.clientID, Scope: c.scope, Roles: c.roles})
}

type notice struct {
	ID   int    `json:"id"`
	Text string `json:"text"`
	By   string `json:"by"`
}

func (s *Server) postNotice(w http.ResponseWriter, r *http.Request, c *caller) {
	var n notice
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 16<<10)).Decode(&n); err != nil || strings.TrimSpace(n.Text) == "" {
		writeJSON(w, http.StatusBadRequest, map[string]string{"message": `the body must be JSON with a text, as in {"text":"…"}`})
		return
	}
	s.mu.Lock()
	n.ID, n.By = len(s.notices)+1, c.subject
	s.notices = append(s.notices, n)
	s.mu.Unlock()
	writeJSON(w, http.StatusCreated, n)
}

func (s *Server) listNotices(w http.ResponseWriter, _ *http.Request, _ *caller) {
	s.mu.Lock()
	defer s.mu.Unlock()
	writeJSON(w, http.StatusOK, map[string]any{"notices": append([]notice{}, s.notices...)})
}

// feed wants its token in a header of its own.
func (s *Server) feed(w http.ResponseWriter, r *http.Request) {
	raw := r.Header.Get("X-Gauge-Token")
	if raw == "" {
		writeJSON(w, http.StatusUnauthorized, map[string]string{"message": "the header X-Gauge-Token is missing: the feed wants its access token there"})
		return
	}
	s.serveFor(w, r, raw, "gauges.read", func(w http.ResponseWriter, _ *http.Request, _ *caller) {
		now := s.cfg.Now()
		levels := map[string]float64{}
		for i := range s.gauges.sites {
			levels[s.gauges.sites[i].ID] = s.gauges.sites[i].level(now.Truncate(readingStep))
		}
		writeJSON(w, http.StatusOK, map[string]any{"at": now.Truncate(readingStep).UTC(), "levels": levels})
	})
}

// serve answers in XML unless JSON is asked for.
func serve(w http.ResponseWriter, r *http.Request, v any) {
	if strings.Contains(r.Header.Get("Accept"), "json") {
		writeJSON(w, http.StatusOK, v)
		return
	}
	w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	_, _ = w.Write([]byte(xml.Header))
	_ = xml.NewEncoder(w).Encode(v) // the client has gone when this fails
}
