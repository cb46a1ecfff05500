package oauth

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
)

// Token type hints (RFC 7009 2.1, RFC 7662 2.1).
const (
	HintAccess  = "access_token"
	HintRefresh = "refresh_token"
)

// HeldRequest is a question about, or the end of, a token that is held: the
// request of RFC 7662 2.1 and of RFC 7009 2.1, which is the same one.
type HeldRequest struct {
	Auth  ClientAuth
	Token string
	Hint  string // one of the hints, or ""
}

// Encode renders the request as header and form body.
func (r HeldRequest) Encode() (http.Header, []byte, error) {
	form := url.Values{"token": {r.Token}}
	if r.Hint != "" {
		form.Set("token_type_hint", r.Hint)
	}
	header := http.Header{"Content-Type": {"application/x-www-form-urlencoded"}, "Accept": {"application/json"}}
	if err := r.Auth.Apply(header, form); err != nil {
		return nil, nil, err
	}
	return header, []byte(form.Encode()), nil
}

// Introspection is an answer of RFC 7662 2.2.
type Introspection struct {
	Active  bool
	Members map[string]any // as they came, active among them
}

// ParseIntrospection reads an introspection answer. A refusal is a *Error, an
// answer that is neither a *Malformed.
func ParseIntrospection(status int, contentType string, body []byte) (*Introspection, error) {
	members, err := answerObject(status, contentType, body)
	if err != nil {
		return nil, err
	}
	active, ok := members["active"].(bool)
	if !ok {
		return nil, &Malformed{Kind: NotJSON, Status: status, Detail: fmt.Sprintf("the answer has no active member that is true or false (RFC 7662 2.2); it has: %s", names(members))}
	}
	return &Introspection{active, members}, nil
}

// ParseRevocation reads a revocation answer: RFC 7009 2.2 wants status 200 and
// no content, also for a token that was unknown.
func ParseRevocation(status int, contentType string, body []byte) error {
	if status >= 200 && status < 300 {
		return nil
	}
	_, err := answerObject(status, contentType, body)
	if err == nil {
		err = &Malformed{Kind: NoErrorCode, Status: status, Detail: fmt.Sprintf("status %d without an error code", status)}
	}
	return err
}

// answerObject is a JSON object that came with a success status; anything else
// is an error.
func answerObject(status int, contentType string, body []byte) (map[string]any, error) {
	var members map[string]any
	dec := json.NewDecoder(strings.NewReader(string(body)))
	dec.UseNumber()
	if err := dec.Decode(&members); err != nil || members == nil {
		return nil, unreadable(status, contentType, body)
	}
	if code := text(members["error"]); code != "" {
		return nil, &Error{Code: code, Description: text(members["error_description"]), URI: text(members["error_uri"]), Status: status}
	}
	if status < 200 || status > 299 {
		return nil, &Malformed{Kind: NoErrorCode, Status: status, Detail: fmt.Sprintf("status %d without an error code", status)}
	}
	return members, nil
}

// Userinfo is an answer of the userinfo endpoint (OpenID Connect Core 5.3.2).
type Userinfo struct {
	Claims map[string]any // of a JSON answer
	JWT    string         // a signed or encrypted answer, as it came
}

// ParseUserinfo reads a successful userinfo answer.
func ParseUserinfo(status int, contentType string, body []byte) (*Userinfo, error) {
	mt, _, _ := strings.Cut(contentType, ";")
	raw := strings.TrimSpace(string(body))
	if strings.EqualFold(strings.TrimSpace(mt), "application/jwt") || strings.HasPrefix(raw, "eyJ") {
		return &Userinfo{JWT: raw}, nil
	}
	claims, err := answerObject(status, contentType, body)
	if err != nil {
		return nil, err
	}
	return &Userinfo{Claims: claims}, nil
}

// LogoutRequest is RP-initiated logout (OpenID Connect RP-Initiated Logout 2).
type LogoutRequest struct {
	Endpoint    string
	IDTokenHint string
	ClientID    string
	RedirectURI string // post_logout_redirect_uri
	State       string
}

// URL is where the browser goes.
func (r LogoutRequest) URL() (string, error) {
	u, err := url.Parse(r.Endpoint)
	if err != nil || u.Host == "" {
		return "", fmt.Errorf("the end_session_endpoint %q is not a URL", r.Endpoint)
	}
	q := u.Query()
	for _, p := range []Param{{"id_token_hint", r.IDTokenHint}, {"client_id", r.ClientID}, {"post_logout_redirect_uri", r.RedirectURI}, {"state", r.State}} {
		if p.Value != "" {
			q.Set(p.Name, p.Value)
		}
	}
	u.RawQuery = q.Encode()
	return u.String(), nil
}
