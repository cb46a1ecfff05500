package project

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"tidycourier/core/fault"
)

// Start is what a first courier file is written from.
type Start struct {
	Issuer     string
	Server     string // name of the server's entry
	Client     string // name of the client's entry
	ClientID   string
	Secret     string // "" when there is none, or when it is still to be filled in
	Public     bool   // the client has no secret
	Expires    string // YYYY-MM-DD, or ""
	AuthMethod string
	Grant      string
	Redirect   string
	Scope      []string
}

// ReadRegistration reads a client registration answer (RFC 7591 3.2.1) into a
// Start. An answer that nests the members one level down is accepted.
func ReadRegistration(body []byte) (Start, error) {
	var members map[string]json.RawMessage
	if err := json.Unmarshal(body, &members); err != nil {
		return Start{}, fault.Wrap(fault.Settings, err, "the registration is not a JSON object").Hint("it should look like the answer of RFC 7591 3.2.1, with client_id and client_secret")
	}
	if _, ok := members["client_id"]; !ok {
		for _, v := range members {
			var inner map[string]json.RawMessage
			if json.Unmarshal(v, &inner) == nil && inner["client_id"] != nil {
				members, body = inner, v
				break
			}
		}
	}
	var r struct {
		ClientID     string   `json:"client_id"`
		Secret       string   `json:"client_secret"`
		Expires      int64    `json:"client_secret_expires_at"`
		AuthMethod   string   `json:"token_endpoint_auth_method"`
		GrantTypes   []string `json:"grant_types"`
		RedirectURIs []string `json:"redirect_uris"`
		Scope        string   `json:"scope"`
		ClientName   string   `json:"client_name"`
		Issuer       string   `json:"issuer"`
	}
	if err := json.Unmarshal(body, &r); err != nil {
		return Start{}, fault.Wrap(fault.Settings, err, "the registration has a member of the wrong type (RFC 7591 2)")
	}
	if r.ClientID == "" {
		return Start{}, fault.New(fault.Settings, "the registration has no client_id, neither at the top nor one level down")
	}
	s := Start{ClientID: r.ClientID, Secret: r.Secret, AuthMethod: r.AuthMethod, Scope: strings.Fields(r.Scope), Issuer: r.Issuer, Client: entryName(r.ClientName)}
	s.Public = r.AuthMethod == "none" || r.Secret == ""
	if r.Expires > 0 {
		s.Expires = time.Unix(r.Expires, 0).UTC().Format(time.DateOnly)
	}
	for _, g := range r.GrantTypes {
		if s.Grant == "" || s.Grant == "refresh_token" {
			s.Grant = g
		}
	}
	if len(r.RedirectURIs) > 0 {
		s.Redirect = r.RedirectURIs[0]
	}
	return s, nil
}

// entryName makes a usable entry name of a human one.
func entryName(name string) string {
	out := strings.Map(func(r rune) rune {
		switch {
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			return r
		}
		return '-'
	}, name)
	for strings.Contains(out, "--") {
		out = strings.ReplaceAll(out, "--", "-")
	}
	return strings.Trim(out, "-")
}

// SecretVariable is the environment variable for a client's secret:
// nightly-forecast becomes NIGHTLY_FORECAST_SECRET.
func SecretVariable(client string) string {
	return strings.ToUpper(strings.ReplaceAll(entryName(client), "-", "_")) + "_SECRET"
}

// Fill completes a Start with defaults and says what is missing.
func (s *Start) Fill() error {
	if s.ClientID == "" {
		return fault.New(fault.Usage, "a client needs a client id").Hint("give --client-id, or --registration FILE")
	}
	if s.Client == "" {
		if s.Client = entryName(s.ClientID); s.Client == "" {
			s.Client = "client"
		}
	}
	if !namePattern().MatchString(s.Client) {
		return fault.New(fault.Usage, "%q is not a usable name: letters, digits, dots, dashes and underscores, no space", s.Client).At("--client")
	}
	if s.Server == "" {
		s.Server = "provider"
	}
	if s.Grant == "" {
		s.Grant = "client_credentials"
		if s.Redirect != "" {
			s.Grant = "authorization_code"
		}
	}
	return checkWord(s.Grant, "grant", "--grant", Grants)
}

// CourierFile is the text of a first courier file.
func (s *Start) CourierFile() []byte {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("version: 1\n")
	line("servers:\n  %s:", s.Server)
	if s.Issuer != "" {
		line("    issuer: %s", Quote(s.Issuer))
	} else {
		line("    # issuer: https://…        endpoints come from its metadata; or name them:")
		line("    # token_endpoint: https://…")
	}
	line("\nclients:\n  %s:\n    server: %s\n    client_id: %s", s.Client, s.Server, Quote(s.ClientID))
	for _, f := range s.clientFields() {
		line("    %s: %s", f.Name, f.YAML)
	}
	line("\n# apis:\n#   NAME:\n#     base_url: https://…/api\n#     client: %s\n#\n# calls:\n#   NAME:\n#     api: NAME\n#     request: GET /…", s.Client)
	return []byte(b.String())
}

func (s *Start) clientFields() []KV {
	var out []KV
	add := func(name, yaml string) {
		if yaml != "" {
			out = append(out, KV{name, yaml})
		}
	}
	if !s.Public {
		add("client_secret", "{ env: "+SecretVariable(s.Client)+" }")
	}
	add("secret_expires", s.Expires)
	method := s.AuthMethod
	if method == "" && s.Public {
		method = "none"
	}
	add("token_endpoint_auth_method", method)
	add("grant", s.Grant)
	if s.Redirect != "" {
		add("redirect_uri", Quote(s.Redirect))
	} else if s.Grant == "authorization_code" {
		add("redirect_uri", "http://127.0.0.1:8651/landing")
	}
	if len(s.Scope) > 0 {
		add("scope", QuoteList(s.Scope))
	}
	return out
}

// EnvLines is what goes into .env for this client.
func (s *Start) EnvLines() []KV {
	if s.Public {
		return nil
	}
	return []KV{{SecretVariable(s.Client), s.Secret}}
}
