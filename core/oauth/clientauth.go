package oauth

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
)

// Client authentication methods, by their RFC 7591 2 names.
const (
	ClientSecretBasic = "client_secret_basic"
	ClientSecretPost  = "client_secret_post"
	NoAuth            = "none"
)

// ClientAuth is how a client shows who it is at the token endpoint.
type ClientAuth struct {
	Method string // one of the constants above
	ID     string
	Secret string
}

// ChooseAuthMethod picks a method when the settings name none: a client without
// a secret is public; with one, Basic when the server takes it (RFC 6749 2.3.1
// makes it the one every server must), else the body. The reason is one line.
func ChooseAuthMethod(hasSecret bool, m *Metadata) (method, reason string) {
	if !hasSecret {
		return NoAuth, "the client has no secret"
	}
	if m == nil || len(m.TokenEndpointAuthMethods) == 0 {
		return ClientSecretBasic, "the server does not say what it takes; RFC 6749 2.3.1 makes Basic mandatory"
	}
	for _, want := range []string{ClientSecretBasic, ClientSecretPost} {
		if Offers(m.TokenEndpointAuthMethods, want) {
			return want, "the first of ours that the server's metadata offers"
		}
	}
	return ClientSecretBasic, "the server's metadata offers none that uses a secret as it is"
}

// Apply puts the client's credentials where the method says: into header for
// Basic, into form for the others. Basic form-urlencodes both halves before
// base64 (RFC 6749 2.3.1, appendix B). A public client sends client_id alone,
// and never an empty client_secret.
func (c ClientAuth) Apply(header http.Header, form url.Values) error {
	switch c.Method {
	case ClientSecretBasic:
		pair := url.QueryEscape(c.ID) + ":" + url.QueryEscape(c.Secret)
		header.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(pair)))
	case ClientSecretPost:
		form.Set("client_id", c.ID)
		form.Set("client_secret", c.Secret)
	case NoAuth:
		form.Set("client_id", c.ID)
	default:
		return fmt.Errorf("client authentication %q is not one this program can do", c.Method)
	}
	return nil
}
