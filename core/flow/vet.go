package flow

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/finding"
	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/wire"
)

// Outcomes of a check before any grant.
const (
	VetPass    = "pass"
	VetWarn    = "warn"
	VetFail    = "fail"
	VetSkipped = "skipped"
)

// Checked is one thing that was checked before any grant.
type Checked struct {
	Name    string `json:"name"`
	Client  string `json:"client"`
	Outcome string `json:"outcome"`
	Detail  string `json:"detail"`
	Finding string `json:"finding"` // the catalogue's id, or ""
	Where   string `json:"where,omitempty"`
}

const (
	// expiresSoon is how long before its end a secret or certificate is worth a
	// warning.
	expiresSoon = 14 * 24 * time.Hour
)

// vetting gathers the checks of one client.
type vetting struct {
	s      *Session
	client string
	out    []Checked
}

func (v *vetting) add(outcome, name, finding, where, format string, args ...any) {
	v.out = append(v.out, Checked{Name: name, Client: v.client, Outcome: outcome, Finding: finding, Where: where, Detail: v.s.e.Mask.Replace(fmt.Sprintf(format, args...))})
}

// Vet checks what can be checked of a client before any grant: nothing is spent,
// and with offline nothing is sent.
func (s *Session) Vet(ctx context.Context, name string, offline bool) []Checked {
	v := &vetting{s: s, client: name}
	c, err := s.e.Project.Client(name)
	if err != nil {
		f := fault.As(err)
		v.add(VetFail, "settings", "unresolved-placeholder", f.Where, "%s", f.Message)
		return v.out
	}
	if err := checkClient(c); err != nil {
		f := fault.As(err)
		id := ""
		if c.ClientID.Value == "" {
			id = "client-id-missing"
		}
		v.add(VetFail, "settings", id, f.Where, "%s", f.Message)
	} else {
		v.add(VetPass, "settings", "", c.Where, "client_id %s, grant %s, server %s", c.ClientID.Value, c.Grant.Value, c.Server.Name)
	}
	v.secret(ctx, c)
	v.redirect(c)
	v.grant(c)
	if offline {
		v.add(VetSkipped, "metadata", "", "", "not asked for (--offline)")
		return v.out
	}
	v.server(ctx, c)
	return v.out
}

// secret checks that the secret is there, whole, and not about to end.
func (v *vetting) secret(ctx context.Context, c *project.Client) {
	method := c.AuthMethod.Value
	switch {
	case c.Secret == nil && method != "" && method != oauth.NoAuth:
		v.add(VetFail, "secret", "confidential-client-without-secret", c.Where, "%s needs a client_secret, and there is none", method)
		return
	case c.Secret == nil && c.Grant.Value == oauth.GrantClientCredentials:
		v.add(VetFail, "secret", "confidential-client-without-secret", c.Where, "client_credentials is for clients that can prove who they are (RFC 6749 4.4), and there is no client_secret")
		return
	case c.Secret == nil:
		v.add(VetPass, "secret", "", "", "a public client: none needed")
		return
	case method == oauth.NoAuth:
		v.add(VetWarn, "secret", "public-client-with-secret", c.AuthMethod.Where, "the client has a secret, and token_endpoint_auth_method none does not use it")
	}
	secret, err := v.s.e.Project.Read(ctx, c.Secret, v.s.e.Ask)
	if err != nil {
		f := fault.As(err)
		v.add(VetFail, "secret", "", f.Where, "%s", f.Message)
		return
	}
	v.s.e.Mask.Add(secret)
	switch {
	case c.Secret.Literal:
		v.add(VetWarn, "secret", "secret-in-courier-file", c.Secret.Where, "it is written in the courier file, which is made to be shared")
	case strings.TrimSpace(secret) != secret:
		v.add(VetFail, "secret", "secret-has-edge-whitespace", c.Secret.Where, "white space stands at its edge")
	case len(secret) > 1 && (secret[0] == '"' || secret[0] == '\'') && secret[len(secret)-1] == secret[0]:
		v.add(VetFail, "secret", "secret-looks-quoted", c.Secret.Where, "it stands in quotes, which are sent too")
	case secret == "":
		v.add(VetFail, "secret", "confidential-client-without-secret", c.Secret.Where, "it is empty")
	case secret == c.ClientID.Value || finding.LikeUUID(secret):
		v.add(VetWarn, "secret", "secret-looks-like-its-identifier", c.Secret.Where, "it has the form of an id: it may be that of the secret, not the secret")
	default:
		v.add(VetPass, "secret", "", c.Secret.Where, "%d characters, fingerprint %s", len(secret), mask.Fingerprint(secret))
	}
	if end, err := time.Parse(time.DateOnly, c.SecretExpires.Value); err == nil {
		left := end.AddDate(0, 0, 1).Sub(v.s.e.Now())
		switch {
		case left <= 0:
			v.add(VetFail, "secret's end", "secret-expired", c.SecretExpires.Where, "it ended %s", c.SecretExpires.Value)
		case left < expiresSoon:
			v.add(VetWarn, "secret's end", "secret-expiring", c.SecretExpires.Where, "it ends %s, in %d days", c.SecretExpires.Value, int(left/(24*time.Hour)))
		default:
			v.add(VetPass, "secret's end", "", c.SecretExpires.Where, "%s", c.SecretExpires.Value)
		}
	}
}

// redirect checks the redirect URI of a grant with a person, and that its port
// is free.
func (v *vetting) redirect(c *project.Client) {
	if c.Grant.Value != oauth.GrantCode {
		return
	}
	u, err := url.Parse(c.RedirectURI.Value)
	switch {
	case c.RedirectURI.Value == "":
		v.add(VetFail, "redirect URI", "redirect-uri-missing", c.Where, "the client has none")
	case err != nil || u.Host == "":
		v.add(VetFail, "redirect URI", "redirect-uri-mismatch", c.RedirectURI.Where, "%q is no absolute URL", c.RedirectURI.Value)
	case u.Fragment != "":
		v.add(VetFail, "redirect URI", "redirect-uri-has-fragment", c.RedirectURI.Where, "it has a fragment, which RFC 6749 3.1.2 forbids")
	case !wire.Loopback(u.Hostname()):
		v.add(VetWarn, "redirect URI", "redirect-uri-not-loopback-for-listener", c.RedirectURI.Where, "%s is not this machine: the answer has to be pasted (--paste)", u.Host)
	default:
		v.port(c, u)
	}
}

func (v *vetting) port(c *project.Client, u *url.URL) {
	port := u.Port()
	if port == "" {
		port = "80"
	}
	l, err := net.Listen("tcp", net.JoinHostPort(u.Hostname(), port))
	if err != nil {
		v.add(VetFail, "redirect URI", "redirect-port-busy", c.RedirectURI.Where, "port %s cannot be listened at: %v", port, err)
		return
	}
	_ = l.Close()
	v.add(VetPass, "redirect URI", "", c.RedirectURI.Where, "loopback, port %s is free", port)
}

// grant looks at what the client asks for: what is discouraged, what cannot come,
// and parameters that would be sent twice.
func (v *vetting) grant(c *project.Client) {
	openid := slices.Contains(c.Scope.Values, "openid")
	switch {
	case c.Grant.Value == oauth.GrantPassword:
		v.add(VetWarn, "grant", "password-grant-discouraged", c.Grant.Where, "password gives this program the person's password; RFC 9700 2.4 advises against it")
	case c.ResponseType.Value == "token":
		v.add(VetWarn, "grant", "implicit-discouraged", c.ResponseType.Where, "response_type token sends the token through the browser; RFC 9700 2.1.2 advises against it")
	case c.Grant.Value == oauth.GrantClientCredentials && openid:
		v.add(VetWarn, "scope", "scope-openid-without-id-token-expected", c.Scope.Where, "openid asks for an id token about a person, and this grant has none")
	}
	for leg, list := range c.Parameters {
		for _, p := range list {
			if slices.Contains(ownParameters[leg], p.Name) {
				v.add(VetWarn, "parameters", "duplicate-parameter", p.Where, "%s of parameters replaces the one that the %s request has by itself", p.Name, leg)
			}
		}
	}
}

// ownParameters are those that each request has by itself.
var ownParameters = map[string][]string{
	"authorization": {"response_type", "client_id", "redirect_uri", "scope", "state", "code_challenge", "code_challenge_method"},
	"token":         {"grant_type", "code", "redirect_uri", "code_verifier", "client_id", "client_secret", "username", "password"},
	"refresh":       {"grant_type", "refresh_token", "client_id", "client_secret"},
}
