// Package standin is the simulated provider that ships in the binary: the
// Northmark Tide Office, an authorization server and a tide-gauge API on
// loopback. Everything in it is made up. Its errors follow the RFCs to the
// letter; what real providers do wrong is switched on with faults.
//
//	s, err := standin.New(standin.Config{Issuer: "http://127.0.0.1:8650"})
//	http.Serve(listener, s.Handler())
package standin

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
)

// Config makes a Server.
type Config struct {
	Issuer string // scheme://host:port, without a slash at its end
	Now    func() time.Time
	Faults []string // names of Faults
	Seed   uint64   // of the readings
	Log    func(format string, args ...any)
	// Approve says who answers the sign-in and consent pages: page (a person),
	// auto (AsUser signs in and agrees) or deny.
	Approve string
	AsUser  string
}

// Ways to answer the pages.
const (
	ApprovePage = "page"
	ApproveAuto = "auto"
	ApproveDeny = "deny"
)

// Server is a running stand-in's state. It is safe for concurrent use.
type Server struct {
	cfg    Config
	faults map[string]bool
	keys   keyring
	gauges *gauges

	mu      sync.Mutex
	opaque  map[string]*grantRecord // opaque access tokens, by value
	revoked map[string]bool         // jti of JWT access tokens that were revoked
	codes   map[string]*codeRecord
	refresh map[string]*refreshRecord
	pending map[string]*pendingRequest // authorization requests a person is looking at
	logins  map[string]*login          // by session cookie
	agreed  map[string]bool            // user, client and scope, remembered
	counter map[string]int             // requests by path
	notices []notice
	issued  []*grantRecord // every access token, for revocation by family
}

// New makes a Server. An unknown fault is an error that lists the known ones.
func New(cfg Config) (*Server, error) {
	if cfg.Now == nil {
		cfg.Now = time.Now
	}
	if cfg.Log == nil {
		cfg.Log = func(string, ...any) {}
	}
	s := &Server{cfg: cfg, faults: map[string]bool{}, counter: map[string]int{}, opaque: map[string]*grantRecord{}, revoked: map[string]bool{},
		codes: map[string]*codeRecord{}, refresh: map[string]*refreshRecord{}, pending: map[string]*pendingRequest{}, logins: map[string]*login{}, agreed: map[string]bool{}}
	if s.cfg.Approve == "" {
		s.cfg.Approve = ApprovePage
	}
	if s.cfg.AsUser == "" {
		s.cfg.AsUser = "pilot"
	}
	if findUser(s.cfg.AsUser) == nil {
		return nil, fmt.Errorf("there is no account %q; there are: pilot, keeper, visitor", s.cfg.AsUser)
	}
	s.settle()
	s.gauges = newGauges(cfg.Seed)
	for _, f := range cfg.Faults {
		if !slices.Contains(FaultNames(), f) {
			return nil, fmt.Errorf("there is no fault %q; there are: %s", f, strings.Join(FaultNames(), ", "))
		}
		s.faults[f] = true
	}
	if off := clockOff(s.faults); off != 0 {
		right := s.cfg.Now
		s.cfg.Now = func() time.Time { return right().Add(off) }
	}
	return s, nil
}

// API is the base URL of the tide-gauge API.
func (s *Server) API() string { return s.cfg.Issuer + "/api" }

// Handler serves the whole provider.
func (s *Server) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(s.count, s.disturb)
	r.Get("/.well-known/oauth-authorization-server", s.metadata)
	r.Get("/.well-known/openid-configuration", s.metadata)
	r.Get("/keys", s.jwks)
	r.Get("/authorize", s.authorize)
	r.Post("/authorize", s.authorize)
	r.Post("/signin", s.signIn)
	r.Get("/consent", s.showConsent)
	r.Post("/consent", s.consent)
	r.Get("/userinfo", s.userinfo)
	r.Post("/userinfo", s.userinfo)
	r.Post("/introspect", s.introspect)
	r.Post("/revoke", s.revoke)
	r.Get("/logout", s.logout)
	r.Post("/token", s.token)
	r.Get("/token", s.tokenWrongMethod)
	r.Get("/", s.home)
	r.Route("/api", s.routesAPI)
	return r
}

// Requests is how often a path was asked for; tests read it.
func (s *Server) Requests(path string) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.counter[path]
}

func (s *Server) count(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		s.counter[r.URL.Path]++
		s.mu.Unlock()
		s.cfg.Log("%s %s", r.Method, r.URL.Path)
		w.Header().Set("Date", s.cfg.Now().UTC().Format(http.TimeFormat))
		next.ServeHTTP(w, r)
	})
}

// metadata is RFC 8414 and OpenID Connect Discovery in one document.
func (s *Server) metadata(w http.ResponseWriter, r *http.Request) {
	if s.faults["discovery-missing"] {
		http.NotFound(w, r)
		return
	}
	iss := s.cfg.Issuer
	doc := map[string]any{
		"issuer": iss, "authorization_endpoint": iss + "/authorize", "token_endpoint": iss + "/token", "jwks_uri": iss + "/keys", "userinfo_endpoint": iss + "/userinfo",
		"introspection_endpoint": iss + "/introspect", "revocation_endpoint": iss + "/revoke", "end_session_endpoint": iss + "/logout",
		"scopes_supported":                               []string{"openid", "profile", "offline_access", "gauges.read", "notices.write"},
		"grant_types_supported":                          knownGrants,
		"response_types_supported":                       []string{"code", "token"},
		"response_modes_supported":                       []string{"query", "fragment", "form_post"},
		"token_endpoint_auth_methods_supported":          []string{"client_secret_basic", "client_secret_post", "none"},
		"code_challenge_methods_supported":               []string{"S256", "plain"},
		"subject_types_supported":                        []string{"public"},
		"id_token_signing_alg_values_supported":          []string{"RS256"},
		"prompt_values_supported":                        []string{"none", "login", "consent"},
		"authorization_response_iss_parameter_supported": true,
	}
	if s.faults["discovery-issuer-mismatch"] {
		doc["issuer"] = iss + "/"
	}
	writeJSON(w, http.StatusOK, doc)
}

func (s *Server) home(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprintf(w, "<!doctype html><html lang=en><title>Northmark Tide Office</title><h1>Northmark Tide Office</h1><p>Simulated. Metadata: <code>%s/.well-known/oauth-authorization-server</code></p></html>", s.cfg.Issuer)
}

// Issuer is the authorization server's issuer.
func (s *Server) Issuer() string { return s.cfg.Issuer }
