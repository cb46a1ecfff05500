package flow

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/journal"
	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/token"
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

// server fetches the metadata and holds it against the settings; then the key
// set, the certificate and the clock.
func (v *vetting) server(ctx context.Context, c *project.Client) {
	m, err := v.s.metadata(ctx, c, "token_endpoint")
	if err != nil {
		f := fault.As(err)
		v.add(VetFail, "metadata", "", f.Where, "%s", f.Message)
		return
	}
	if issuer := c.Server.Issuer.Value; issuer != "" && m.Issuer != issuer && v.s.found != nil {
		v.add(VetFail, "metadata", "issuer-mismatch", c.Server.Issuer.Where, "it names the issuer %s, and %s was asked", m.Issuer, issuer)
	} else {
		v.add(VetPass, "metadata", "", c.Server.Issuer.Where, "token endpoint %s", m.TokenEndpoint)
	}
	v.against(c, m)
	v.plainHTTP(c, m)
	if m.JWKSURI != "" {
		if keys, err := v.s.KeysAt(ctx, m.JWKSURI, ""); err != nil {
			v.add(VetFail, "key set", "", "", "%s", fault.As(err).Message)
		} else {
			v.add(VetPass, "key set", "", "", "%d keys: %s", len(keys.Keys), strings.Join(keys.IDs(), ", "))
		}
	}
	v.peer()
}

// against holds the settings against what the metadata offers (RFC 8414 2).
func (v *vetting) against(c *project.Client, m *oauth.Metadata) {
	if v.s.found == nil {
		return
	}
	if g := c.Grant.Value; g != "" && !oauth.Offers(m.Grants(), g) {
		v.add(VetWarn, "grant", "grant-not-in-metadata", c.Grant.Where, "%s is not among %s", g, strings.Join(m.Grants(), ", "))
	} else {
		v.add(VetPass, "grant", "", c.Grant.Where, "%s is offered", g)
	}
	if a := c.AuthMethod.Value; a != "" && !oauth.Offers(m.AuthMethods(), a) {
		v.add(VetWarn, "client authentication", "auth-method-not-in-metadata", c.AuthMethod.Where, "%s is not among %s", a, strings.Join(m.AuthMethods(), ", "))
	}
	if c.Grant.Value == oauth.GrantCode {
		want := c.CodeChallengeMethod.Value
		if want == "" {
			want = "S256"
		}
		if want != "none" && !oauth.Offers(m.CodeChallengeMethodsSupported, want) {
			v.add(VetWarn, "PKCE", "pkce-not-offered", c.CodeChallengeMethod.Where, "%s is not among what the server offers: %s", want, orNone(m.CodeChallengeMethodsSupported))
		} else {
			v.add(VetPass, "PKCE", "", "", "%s", want)
		}
	}
	if len(m.ScopesSupported) > 0 {
		unknown, _ := oauth.ScopeDifference(c.Scope.Values, m.ScopesSupported)
		if len(unknown) > 0 {
			v.add(VetWarn, "scope", "invalid-scope-asked", c.Scope.Where, "%s is not among those the server names", strings.Join(unknown, " "))
		}
	}
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, ", ")
}

func (v *vetting) plainHTTP(c *project.Client, m *oauth.Metadata) {
	for _, name := range []string{"token_endpoint", "authorization_endpoint"} {
		u, err := url.Parse(m.Endpoint(name))
		if err == nil && u.Scheme == "http" && !wire.Loopback(u.Hostname()) {
			v.add(VetFail, "TLS", "plain-http-endpoint", c.Server.Endpoints[name].Where, "%s is plain http: %s", name, m.Endpoint(name))
		}
	}
	if m.AuthorizationEndpoint != "" && m.AuthorizationEndpoint == m.TokenEndpoint {
		v.add(VetFail, "endpoints", "endpoints-swapped", "", "authorization and token endpoint are the same URL")
	}
}

// peer reads certificate and clock off the answers that came.
func (v *vetting) peer() {
	for _, l := range slices.Backward(v.s.Run.Legs) {
		x := l.Exchange
		if x == nil || x.Response == nil {
			continue
		}
		if end := x.Peer.NotAfter; !end.IsZero() {
			left := end.Sub(v.s.e.Now())
			outcome := VetPass
			if left < expiresSoon {
				outcome = VetWarn
			}
			v.add(outcome, "TLS", "", "", "%s, the certificate lasts %d days", x.Peer.TLSVersion, int(left/(24*time.Hour)))
		}
		at, err := http.ParseTime(x.Response.Header.Get("Date"))
		if err != nil {
			return
		}
		off := at.Sub(x.Started.Add(x.Timing.Total))
		if off.Abs() > token.Leeway {
			v.add(VetWarn, "clock", "clock-skew", "", "the server's clock is %s from this machine's", off.Round(time.Second))
		} else {
			v.add(VetPass, "clock", "", "", "the server's is within %s of this machine's", max(off.Abs().Round(time.Second), time.Second))
		}
		return
	}
}

// notForAPIs are scopes that ask for something else than a permission at an API.
var notForAPIs = []string{"openid", "profile", "email", "address", "phone", "offline_access"}

// leastRuns is how many of the newest runs Least looks at.
const leastRuns = 1000

// Least reads the journal's rounds: which scope was granted and no call that
// passed needed, and which calls passed without the scope they declare.
func (e *Engine) Least() ([]Checked, error) {
	j, err := e.Store.Journal()
	if err != nil {
		return nil, err
	}
	list, err := j.List(e.Project.Key(), journal.Filter{Command: "round", Outcome: "ok", Limit: leastRuns})
	if err != nil {
		return nil, err
	}
	passed := map[string]map[string]bool{} // client to the calls that passed
	for _, r := range list {
		if r.Stage != e.Project.Stage() {
			continue
		}
		opened, err := j.Get(e.Project.Key(), r.N)
		if err != nil {
			return nil, err
		}
		rec, err := opened.Record()
		if err != nil {
			return nil, err
		}
		if last := lastCall(rec); rec.Client != "" && last != nil && last.Status < 300 {
			if passed[rec.Client] == nil {
				passed[rec.Client] = map[string]bool{}
			}
			passed[rec.Client][rec.Call] = true
		}
	}
	return e.least(passed), nil
}

func lastCall(r *run.Record) *run.LegRecord {
	for i := range slices.Backward(r.Legs) {
		if r.Legs[i].Name == run.Call {
			return &r.Legs[i]
		}
	}
	return nil
}

func (e *Engine) least(passed map[string]map[string]bool) []Checked {
	out := []Checked{}
	for _, client := range e.Project.Names("clients") {
		calls := passed[client]
		set := e.Held(client)
		if len(calls) == 0 || set == nil {
			continue
		}
		granted, scope := set.Scope, set.Scope
		if t, err := token.Decode(set.AccessToken); err == nil && t.Claims != nil {
			scope = t.Scope()
			granted = append(slices.Clone(scope), t.Roles()...)
		}
		var needed, silent []string
		for _, name := range e.Project.Names("calls") {
			call, err := e.Project.Call(name)
			if !calls[name] || err != nil {
				continue
			}
			need := merged(call)
			if len(need.Scope.Values)+len(need.Roles.Values) == 0 {
				silent = append(silent, name)
			}
			needed = append(append(needed, need.Scope.Values...), need.Roles.Values...)
			if missing, _ := oauth.ScopeDifference(need.Scope.Values, granted); len(missing) > 0 {
				out = append(out, Checked{Name: "scope enforced", Client: client, Outcome: VetWarn, Where: need.Scope.Where,
					Detail: fmt.Sprintf("%s passed without %s, which it declares to need", name, strings.Join(missing, " "))})
			}
		}
		out = append(out, leastOf(client, scope, needed, silent))
	}
	return out
}

func leastOf(client string, granted, needed, silent []string) Checked {
	extra, _ := oauth.ScopeDifference(granted, needed)
	extra = slices.DeleteFunc(extra, func(s string) bool { return slices.Contains(notForAPIs, s) })
	c := Checked{Name: "least scope", Client: client, Outcome: VetPass, Detail: "every scope that was granted is needed: " + orNone(granted)}
	if len(extra) > 0 {
		c.Outcome, c.Detail = VetWarn, "granted, and no call that passed needs it: "+strings.Join(extra, " ")
	}
	if len(silent) > 0 {
		c.Detail += " (" + strings.Join(silent, ", ") + " declare no needs, and may)"
	}
	return c
}
