package oauth

import (
	"encoding/json"
	"fmt"
	"math"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Grants, by the names the courier file uses; they are also the grant_type
// values of RFC 6749.
const (
	GrantCode              = "authorization_code"
	GrantClientCredentials = "client_credentials"
	GrantPassword          = "password"
	GrantRefresh           = "refresh_token"
)

// TokenRequest is what goes to the token endpoint. Only the fields its grant
// uses are sent, and none that is empty.
type TokenRequest struct {
	Grant        string
	Auth         ClientAuth
	Scope        []string
	Code         string // authorization_code
	RedirectURI  string // authorization_code: the same as in the authorization request
	CodeVerifier string // authorization_code with PKCE
	Username     string // password
	Password     string // password
	RefreshToken string // refresh_token
	Extra        []Param
}

// Param is one extra request parameter; order is kept.
type Param struct{ Name, Value string }

// Encode renders the request as header and form body (RFC 6749 4.1.3, 4.3.2,
// 4.4.2, 6). A parameter in Extra replaces the one of the same name.
func (r TokenRequest) Encode() (http.Header, []byte, error) {
	form := url.Values{}
	form.Set("grant_type", r.Grant)
	set := func(name, value string) {
		if value != "" {
			form.Set(name, value)
		}
	}
	set("scope", strings.Join(r.Scope, " "))
	switch r.Grant {
	case GrantCode:
		form.Del("scope") // RFC 6749 4.1.3 has none: the code fixes it
		set("code", r.Code)
		set("redirect_uri", r.RedirectURI)
		set("code_verifier", r.CodeVerifier)
	case GrantPassword:
		set("username", r.Username)
		set("password", r.Password)
	case GrantRefresh:
		set("refresh_token", r.RefreshToken)
	}
	header := http.Header{"Content-Type": {"application/x-www-form-urlencoded"}, "Accept": {"application/json"}}
	if err := r.Auth.Apply(header, form); err != nil {
		return nil, nil, err
	}
	for _, p := range r.Extra {
		form.Set(p.Name, p.Value)
	}
	return header, []byte(form.Encode()), nil
}

// TokenResponse is a successful answer (RFC 6749 5.1, OpenID Connect Core 3.1.3.3).
type TokenResponse struct {
	AccessToken  string
	TokenType    string
	ExpiresIn    *int64 // seconds; nil when absent or not a usable number
	RefreshToken string
	IDToken      string
	Scope        []string // as granted; nil when the server did not say
	Oddities     []string // what was wrong with an answer that could still be used
}

// Lifetime is ExpiresIn as a duration; false when the server gave none.
func (t TokenResponse) Lifetime() (time.Duration, bool) {
	if t.ExpiresIn == nil {
		return 0, false
	}
	return time.Duration(*t.ExpiresIn) * time.Second, true
}

// Names of what can be odd about a usable token answer; they are those of the
// findings that explain them.
const (
	OddExpiresMissing   = "expires-in-missing"
	OddExpiresNotNumber = "expires-in-not-a-number"
	OddTypeMissing      = "token-type-missing"
)

// ParseTokenResponse reads an answer of the token endpoint. A refusal is a
// *Error, whatever the status it came with; an answer that is neither is a
// *Malformed. An answer as form-encoded text is read too, as a malformed one:
// RFC 6749 5.1 knows only JSON.
func ParseTokenResponse(status int, contentType string, body []byte) (*TokenResponse, error) {
	var members map[string]any
	if err := json.Unmarshal(body, &members); err != nil || members == nil {
		return nil, unreadable(status, contentType, body)
	}
	if code, ok := members["error"].(string); ok && code != "" {
		return nil, &Error{Code: code, Description: text(members["error_description"]), URI: text(members["error_uri"]), Status: status}
	}
	if status < 200 || status > 299 {
		return nil, &Malformed{Kind: NoErrorCode, Status: status, Detail: fmt.Sprintf("status %d and JSON without an error member", status)}
	}
	return readTokens(status, members)
}

func readTokens(status int, members map[string]any) (*TokenResponse, error) {
	t := &TokenResponse{AccessToken: text(members["access_token"]), TokenType: text(members["token_type"]),
		RefreshToken: text(members["refresh_token"]), IDToken: text(members["id_token"])}
	if t.AccessToken == "" {
		return nil, &Malformed{Kind: NoAccessToken, Status: status, Detail: "a token answer without access_token; it has " + names(members)}
	}
	if t.TokenType == "" {
		t.Oddities = append(t.Oddities, OddTypeMissing)
	}
	switch v := members["scope"].(type) {
	case string:
		t.Scope = strings.Fields(v)
	case []any:
		for _, s := range v {
			t.Scope = append(t.Scope, text(s))
		}
	}
	t.readLifetime(members["expires_in"])
	return t, nil
}

func (t *TokenResponse) readLifetime(v any) {
	seconds, usable := 0.0, false
	switch v := v.(type) {
	case nil:
		t.Oddities = append(t.Oddities, OddExpiresMissing)
		return
	case float64:
		seconds, usable = v, true
	case string:
		t.Oddities = append(t.Oddities, OddExpiresNotNumber)
		f, err := strconv.ParseFloat(strings.TrimSpace(v), 64)
		seconds, usable = f, err == nil
	}
	const century = 100 * 365 * 24 * 3600 // beyond this it is no lifetime but a mistake, and would overflow a Duration
	if !usable || math.IsNaN(seconds) || seconds < 0 || seconds > century {
		if !slices.Contains(t.Oddities, OddExpiresNotNumber) {
			t.Oddities = append(t.Oddities, OddExpiresNotNumber)
		}
		return
	}
	n := int64(seconds)
	t.ExpiresIn = &n
}

// Kinds of malformed answers; they are the names of the findings that explain them.
const (
	NotJSON       = "answer-not-json"
	HTMLAnswer    = "html-instead-of-json"
	NoAccessToken = "access-token-missing"
	NoErrorCode   = "no-error-code"
	EmptyAnswer   = "empty-answer"
)

// Malformed is an answer of the token endpoint that is neither a token
// response nor an error response.
type Malformed struct {
	Kind   string
	Status int
	Detail string
}

func (m *Malformed) Error() string { return m.Detail }

func unreadable(status int, contentType string, body []byte) *Malformed {
	mt, _, _ := mime.ParseMediaType(contentType)
	head := strings.ToLower(strings.TrimSpace(string(body[:min(len(body), 256)])))
	m := &Malformed{Kind: NotJSON, Status: status}
	switch {
	case head == "":
		m.Kind, m.Detail = EmptyAnswer, fmt.Sprintf("status %d and an empty body", status)
	case mt == "text/html" || strings.HasPrefix(head, "<!doctype html") || strings.HasPrefix(head, "<html"):
		m.Kind, m.Detail = HTMLAnswer, fmt.Sprintf("status %d and an HTML page where JSON was due", status)
	case strings.Contains(head, "access_token=") || strings.Contains(head, "error="):
		m.Detail = fmt.Sprintf("status %d and form-encoded text where JSON was due", status)
	case head[0] == '{':
		m.Detail = fmt.Sprintf("status %d and JSON that breaks off or is not well formed", status)
	default:
		m.Detail = fmt.Sprintf("status %d and %s where JSON was due", status, kindOf(mt))
	}
	return m
}

func kindOf(mediaType string) string {
	if mediaType == "" {
		return "a body without Content-Type"
	}
	return mediaType
}

func text(v any) string { s, _ := v.(string); return s }

func names(members map[string]any) string {
	if len(members) == 0 {
		return "no member at all"
	}
	var out []string
	for k := range members {
		out = append(out, k)
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

// ScopeDifference compares asked with granted scope: what was not given, and
// what was given without being asked for.
func ScopeDifference(asked, granted []string) (missing, added []string) {
	for _, s := range asked {
		if !slices.Contains(granted, s) {
			missing = append(missing, s)
		}
	}
	for _, s := range granted {
		if !slices.Contains(asked, s) {
			added = append(added, s)
		}
	}
	return missing, added
}
