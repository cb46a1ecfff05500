// Package oauth holds the messages of RFC 6749 and its neighbours as values:
// what to send, and what an answer means. Nothing here sends, stores or prints;
// the clock and randomness are parameters.
//
//	metadata.go       RFC 8414 and OpenID Connect Discovery
//	authorization.go  authorization request and response (RFC 6749 4.1.1, 4.1.2, 4.2; RFC 9207)
//	token.go          token request per grant and the token response (4.1.3, 4.3, 4.4, 5.1, 6)
//	clientauth.go     client authentication (2.3.1)
//	pkce.go           RFC 7636
//	error.go          error responses (4.1.2.1, 5.2)
package oauth

import (
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
)

// Metadata is an authorization server's description of itself. Names are those
// of RFC 8414 2 and OpenID Connect Discovery 3.
type Metadata struct {
	Issuer                        string   `json:"issuer"`
	AuthorizationEndpoint         string   `json:"authorization_endpoint,omitempty"`
	TokenEndpoint                 string   `json:"token_endpoint,omitempty"`
	JWKSURI                       string   `json:"jwks_uri,omitempty"`
	RegistrationEndpoint          string   `json:"registration_endpoint,omitempty"`
	UserinfoEndpoint              string   `json:"userinfo_endpoint,omitempty"`
	IntrospectionEndpoint         string   `json:"introspection_endpoint,omitempty"`
	RevocationEndpoint            string   `json:"revocation_endpoint,omitempty"`
	EndSessionEndpoint            string   `json:"end_session_endpoint,omitempty"`
	DeviceAuthorizationEndpoint   string   `json:"device_authorization_endpoint,omitempty"`
	PushedAuthorizationEndpoint   string   `json:"pushed_authorization_request_endpoint,omitempty"`
	ScopesSupported               []string `json:"scopes_supported,omitempty"`
	ResponseTypesSupported        []string `json:"response_types_supported,omitempty"`
	ResponseModesSupported        []string `json:"response_modes_supported,omitempty"`
	GrantTypesSupported           []string `json:"grant_types_supported,omitempty"`
	TokenEndpointAuthMethods      []string `json:"token_endpoint_auth_methods_supported,omitempty"`
	CodeChallengeMethodsSupported []string `json:"code_challenge_methods_supported,omitempty"`
	IDTokenSigningAlgs            []string `json:"id_token_signing_alg_values_supported,omitempty"`
	IssParameterSupported         bool     `json:"authorization_response_iss_parameter_supported,omitempty"`

	// Raw is the document as it came, with members this type does not name.
	Raw map[string]any `json:"-"`
}

// WellKnown lists where an issuer's metadata may be, in the order to try:
// RFC 8414 3.1 puts the well-known part between host and path; OpenID Connect
// Discovery 4 appends it to the path. A URL that already names a well-known
// document stands alone.
func WellKnown(issuer string) ([]string, error) {
	u, err := url.Parse(issuer)
	if err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http") {
		return nil, fmt.Errorf("%q is not an http or https URL", issuer)
	}
	if strings.Contains(u.Path, "/.well-known/") {
		return []string{issuer}, nil
	}
	u.RawQuery, u.Fragment = "", ""
	base, path := u.Scheme+"://"+u.Host, strings.TrimRight(u.EscapedPath(), "/")
	out := []string{
		base + "/.well-known/oauth-authorization-server" + path,
		base + path + "/.well-known/openid-configuration",
	}
	if path != "" {
		out = append(out, base+"/.well-known/openid-configuration"+path)
	}
	return out, nil
}

// ParseMetadata reads a metadata document. Members of a wrong type are an
// error that names the member.
func ParseMetadata(body []byte) (*Metadata, error) {
	m := &Metadata{}
	if err := json.Unmarshal(body, &m.Raw); err != nil {
		return nil, fmt.Errorf("the metadata is not a JSON object: %w", err)
	}
	if err := json.Unmarshal(body, m); err != nil {
		return nil, fmt.Errorf("the metadata has a member of the wrong type: %w", err)
	}
	return m, nil
}

// Grants is the grant types the server says it takes. RFC 8414 2: absent means
// authorization_code and implicit.
func (m *Metadata) Grants() []string {
	if len(m.GrantTypesSupported) == 0 {
		return []string{"authorization_code", "implicit"}
	}
	return m.GrantTypesSupported
}

// AuthMethods is the client authentication the token endpoint says it takes.
// RFC 8414 2: absent means client_secret_basic.
func (m *Metadata) AuthMethods() []string {
	if len(m.TokenEndpointAuthMethods) == 0 {
		return []string{ClientSecretBasic}
	}
	return m.TokenEndpointAuthMethods
}

// SameIssuer compares issuers as RFC 8414 3.3 asks: to the letter. A trailing
// slash alone is told apart by the second result, since it is the usual slip.
func SameIssuer(asked, got string) (same, slashOnly bool) {
	if asked == got {
		return true, false
	}
	return false, strings.TrimRight(asked, "/") == strings.TrimRight(got, "/")
}

// Overlay returns the metadata with every field that is set in given winning
// over what discovery said (RFC 8414 names, strings only).
func (m *Metadata) Overlay(given map[string]string) *Metadata {
	out := *m
	for name, field := range out.endpoints() {
		if v := given[name]; v != "" {
			*field = v
		}
	}
	return &out
}

// EndpointNames lists the endpoint members, in the order they are used.
var EndpointNames = []string{"authorization_endpoint", "token_endpoint", "jwks_uri", "userinfo_endpoint", "introspection_endpoint",
	"revocation_endpoint", "end_session_endpoint", "device_authorization_endpoint", "pushed_authorization_request_endpoint", "registration_endpoint"}

func (m *Metadata) endpoints() map[string]*string {
	return map[string]*string{
		"issuer": &m.Issuer, "authorization_endpoint": &m.AuthorizationEndpoint, "token_endpoint": &m.TokenEndpoint,
		"jwks_uri": &m.JWKSURI, "userinfo_endpoint": &m.UserinfoEndpoint, "introspection_endpoint": &m.IntrospectionEndpoint,
		"revocation_endpoint": &m.RevocationEndpoint, "end_session_endpoint": &m.EndSessionEndpoint,
		"device_authorization_endpoint": &m.DeviceAuthorizationEndpoint, "registration_endpoint": &m.RegistrationEndpoint,
		"pushed_authorization_request_endpoint": &m.PushedAuthorizationEndpoint,
	}
}

// Endpoint returns an endpoint by its member name, or "".
func (m *Metadata) Endpoint(name string) string {
	if p := m.endpoints()[name]; p != nil {
		return *p
	}
	return ""
}

// Offers reports whether list, as the server gave it, holds value.
func Offers(list []string, value string) bool { return slices.Contains(list, value) }
