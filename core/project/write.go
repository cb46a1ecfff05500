package project

import (
	"strings"

	"tidycourier/core/oauth"
)

// UsableName reports whether a text can name an entry.
func UsableName(name string) bool { return namePattern().MatchString(name) }

// EnsureServer makes an empty entry of servers when there is none.
func (p *Project) EnsureServer(name string) { p.ensure("servers", name, "flags") }

// Fields renders a server's settings for writing.
func (s *Server) Fields() []KV {
	var out []KV
	if s.Issuer.Value != "" {
		out = append(out, KV{"issuer", Quote(s.Issuer.Value)})
	}
	for _, n := range oauth.EndpointNames {
		if v := s.Endpoints[n]; v.Value != "" {
			out = append(out, KV{n, Quote(v.Value)})
		}
	}
	return out
}

// Fields renders a client's settings for writing, without its server. A secret
// is written as its source.
func (c *Client) Fields() []KV {
	var out []KV
	add := func(name string, s Setting) {
		if s.Value != "" {
			out = append(out, KV{name, Quote(s.Value)})
		}
	}
	secret := func(name string, s *Secret) {
		if y := s.yaml(); y != "" {
			out = append(out, KV{name, y})
		}
	}
	add("client_id", c.ClientID)
	secret("client_secret", c.Secret)
	add("secret_expires", c.SecretExpires)
	add("token_endpoint_auth_method", c.AuthMethod)
	add("grant", c.Grant)
	add("response_type", c.ResponseType)
	add("response_mode", c.ResponseMode)
	add("redirect_uri", c.RedirectURI)
	if len(c.Scope.Values) > 0 {
		out = append(out, KV{"scope", QuoteList(c.Scope.Values)})
	}
	add("code_challenge_method", c.CodeChallengeMethod)
	add("username", c.Username)
	secret("password", c.Password)
	secret("refresh_token", c.RefreshToken)
	var legs []string
	for _, leg := range parametersShape.names() {
		var pairs []string
		for _, p := range c.Parameters[leg] {
			pairs = append(pairs, Quote(p.Name)+": "+flowQuote(p.Value))
		}
		if pairs != nil {
			legs = append(legs, leg+": { "+strings.Join(pairs, ", ")+" }")
		}
	}
	if legs != nil {
		out = append(out, KV{"parameters", "{ " + strings.Join(legs, ", ") + " }"})
	}
	return out
}

// flowQuote quotes a text inside braces, where a comma would end it.
func flowQuote(s string) string {
	q := Quote(s)
	if !strings.HasPrefix(q, `"`) && strings.ContainsAny(s, ",:") {
		return `"` + s + `"`
	}
	return q
}

func (s *Secret) yaml() string {
	switch {
	case s == nil || s.Literal:
		return ""
	case s.Env != "":
		return "{ env: " + flowQuote(s.Env) + " }"
	case s.File != "":
		return "{ file: " + flowQuote(s.File) + " }"
	case len(s.Command) > 0:
		return "{ command: " + QuoteList(s.Command) + " }"
	}
	return "{ ask: true }"
}
