package oauth

import (
	"errors"
	"fmt"
	"net/url"
	"strings"
)

// AuthorizationRequest is what the browser takes to the authorization endpoint
// (RFC 6749 4.1.1, 4.2.1; OpenID Connect Core 3.1.2.1).
type AuthorizationRequest struct {
	Endpoint            string
	ResponseType        string // code, or token for the implicit form
	ClientID            string
	RedirectURI         string
	Scope               []string
	State               string
	Nonce               string
	ResponseMode        string // query, fragment, form_post, or "" for the server's default
	CodeChallenge       string
	CodeChallengeMethod string
	Prompt              string
	LoginHint           string
	MaxAge              string // seconds, as text
	Extra               []Param
}

// Params lists the parameters in the order they are sent, without empty ones.
// One in Extra replaces the standard one of its name.
func (r AuthorizationRequest) Params() []Param {
	all := []Param{
		{"response_type", r.ResponseType}, {"client_id", r.ClientID}, {"redirect_uri", r.RedirectURI},
		{"scope", strings.Join(r.Scope, " ")}, {"state", r.State}, {"nonce", r.Nonce}, {"response_mode", r.ResponseMode},
		{"code_challenge", r.CodeChallenge}, {"code_challenge_method", r.CodeChallengeMethod},
		{"prompt", r.Prompt}, {"login_hint", r.LoginHint}, {"max_age", r.MaxAge},
	}
	var out []Param
	for _, p := range all {
		if p.Value != "" && !replaced(r.Extra, p.Name) {
			out = append(out, p)
		}
	}
	return append(out, r.Extra...)
}

func replaced(extra []Param, name string) bool {
	for _, p := range extra {
		if p.Name == name {
			return true
		}
	}
	return false
}

// URL is the address for the browser. Parameters already in the endpoint's
// query are kept (RFC 6749 3.1). An endpoint with a fragment is an error.
func (r AuthorizationRequest) URL() (string, error) {
	u, err := url.Parse(r.Endpoint)
	if err != nil || u.Host == "" {
		return "", fmt.Errorf("the authorization endpoint %q is not an absolute URL", r.Endpoint)
	}
	if u.Fragment != "" {
		return "", fmt.Errorf("the authorization endpoint %q must not have a fragment (RFC 6749 3.1)", r.Endpoint)
	}
	var b strings.Builder
	b.WriteString(u.RawQuery)
	for _, p := range r.Params() {
		if b.Len() > 0 {
			b.WriteByte('&')
		}
		// %20 rather than + for a space: both are right in a query, and some servers know only the first
		b.WriteString(url.QueryEscape(p.Name) + "=" + strings.ReplaceAll(url.QueryEscape(p.Value), "+", "%20"))
	}
	u.RawQuery = b.String()
	return u.String(), nil
}

// AuthorizationResponse is what came back through the browser (RFC 6749 4.1.2,
// 4.2.2; RFC 9207).
type AuthorizationResponse struct {
	Code   string
	State  string
	Issuer string // the iss parameter; "" when absent
	// Tokens that came in the redirect itself, for the implicit form.
	AccessToken, TokenType, IDToken, ExpiresIn string
	Scope                                      []string
	Err                                        *Error // an error response
	Via                                        string // query, fragment, form_post, or code when a bare code was given
	Values                                     url.Values
}

// ReadAuthorizationValues reads the parameters of a response, however they came.
func ReadAuthorizationValues(v url.Values, via string) AuthorizationResponse {
	r := AuthorizationResponse{Code: v.Get("code"), State: v.Get("state"), Issuer: v.Get("iss"), Via: via, Values: v,
		AccessToken: v.Get("access_token"), TokenType: v.Get("token_type"), IDToken: v.Get("id_token"), ExpiresIn: v.Get("expires_in"),
		Scope: strings.Fields(v.Get("scope"))}
	if code := v.Get("error"); code != "" {
		r.Err = &Error{Code: code, Description: v.Get("error_description"), URI: v.Get("error_uri")}
	}
	return r
}

// ErrNothingPasted is returned for pasted text with nothing in it.
var ErrNothingPasted = errors.New("nothing was pasted")

// ReadPasted understands what a person copies from the browser: the whole
// redirect URL (query or fragment), its query alone, or the bare code. It
// strips only white space around it. The second result says in words what it
// was taken for.
func ReadPasted(pasted string) (AuthorizationResponse, string, error) {
	text := strings.TrimSpace(pasted)
	if text == "" {
		return AuthorizationResponse{}, "", ErrNothingPasted
	}
	if i := strings.IndexAny(text, " \t\r\n"); i >= 0 {
		return AuthorizationResponse{}, "", fmt.Errorf("the pasted text has white space after %d characters; paste the address alone", i)
	}
	if strings.Contains(text, "://") {
		return readPastedURL(text)
	}
	raw := strings.TrimLeft(text, "?#")
	if name, _, found := strings.Cut(raw, "="); found && responseParam(name) {
		v, err := url.ParseQuery(raw)
		if err != nil {
			return AuthorizationResponse{}, "", fmt.Errorf("the pasted query cannot be read: %w", err)
		}
		return ReadAuthorizationValues(v, "query"), "a query string with " + paramNames(v), nil
	}
	if strings.ContainsAny(text, "?#&") {
		return AuthorizationResponse{}, "", fmt.Errorf("the pasted text is neither a redirect URL, a query string nor a bare code")
	}
	r := AuthorizationResponse{Code: text, Via: "code", Values: url.Values{"code": {text}}}
	return r, fmt.Sprintf("a bare code of %d characters; state and iss cannot be checked", len(text)), nil
}

func readPastedURL(text string) (AuthorizationResponse, string, error) {
	u, err := url.Parse(text)
	if err != nil {
		return AuthorizationResponse{}, "", fmt.Errorf("the pasted URL cannot be read: %w", err)
	}
	for _, part := range []struct{ via, raw string }{{"query", u.RawQuery}, {"fragment", u.EscapedFragment()}} {
		v, err := url.ParseQuery(part.raw)
		if err != nil {
			return AuthorizationResponse{}, "", fmt.Errorf("the pasted URL's %s cannot be read: %w", part.via, err)
		}
		for name := range v {
			if responseParam(name) {
				return ReadAuthorizationValues(v, part.via), "a redirect URL with " + paramNames(v) + " in its " + part.via, nil
			}
		}
	}
	v, _ := url.ParseQuery(u.RawQuery)
	return ReadAuthorizationValues(v, "query"), "a URL without code or error", nil
}

func responseParam(name string) bool {
	switch name {
	case "code", "state", "error", "error_description", "iss", "access_token", "id_token", "session_state":
		return true
	}
	return false
}

func paramNames(v url.Values) string {
	members := map[string]any{}
	for name := range v {
		members[name] = nil
	}
	return names(members)
}
