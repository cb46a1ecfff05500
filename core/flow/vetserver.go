package flow

import (
	"context"
	"net/url"
	"slices"
	"strings"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/finding"
	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/token"
	"tidycourier/core/wire"
)

// server fetches the metadata and holds it against the settings; then the key
// set, the certificate and the clock.
func (v *vetting) server(ctx context.Context, c *project.Client) {
	m, err := v.s.metadata(ctx, c, "token_endpoint")
	if err != nil {
		f := fault.As(err)
		v.add(VetFail, "metadata", v.cause(), f.Where, "%s", f.Message)
		return
	}
	if issuer := c.Server.Issuer.Value; issuer != "" && m.Issuer != issuer && v.s.found != nil {
		v.add(VetFail, "metadata", "issuer-mismatch", c.Server.Issuer.Where, "it names the issuer %s, and %s was asked", m.Issuer, issuer)
	} else {
		v.add(VetPass, "metadata", "", c.Server.Issuer.Where, "token endpoint %s", m.TokenEndpoint)
	}
	v.against(c, m)
	v.offline(c, m)
	v.endpoints(c, m)
	v.standards(c, m)
	if m.JWKSURI != "" {
		if keys, err := v.s.KeysAt(ctx, m.JWKSURI, ""); err != nil {
			v.add(VetFail, "key set", v.cause(), "", "%s", fault.As(err).Message)
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

// endpoints looks at the addresses that are used: plain http, and the two that
// are easily exchanged.
func (v *vetting) endpoints(c *project.Client, m *oauth.Metadata) {
	for _, name := range []string{"token_endpoint", "authorization_endpoint"} {
		u, err := url.Parse(m.Endpoint(name))
		if err == nil && u.Scheme == "http" && !wire.Loopback(u.Hostname()) {
			v.add(VetFail, "TLS", "plain-http-endpoint", c.Server.Endpoints[name].Where, "%s is plain http: %s", name, m.Endpoint(name))
		}
	}
	where := c.Server.Endpoints["token_endpoint"].Where
	if m.AuthorizationEndpoint != "" && m.AuthorizationEndpoint == m.TokenEndpoint {
		v.add(VetFail, "endpoints", "endpoints-swapped", where, "authorization and token endpoint are the same URL")
	}
	if found := v.s.found; found != nil && where != "" && m.TokenEndpoint != "" && m.TokenEndpoint == found.AuthorizationEndpoint {
		v.add(VetFail, "endpoints", "endpoints-swapped", where, "token_endpoint is the authorization endpoint of the metadata")
	}
	if c.Grant.Value == oauth.GrantCode && m.AuthorizationEndpoint == "" {
		v.add(VetFail, "endpoints", "metadata-missing-endpoint", c.Server.Issuer.Where, "no authorization_endpoint is known, and this grant begins there")
	}
}

// offline tells when a refresh token is not to be expected.
func (v *vetting) offline(c *project.Client, m *oauth.Metadata) {
	if c.Grant.Value == oauth.GrantCode && slices.Contains(m.ScopesSupported, "offline_access") && !slices.Contains(c.Scope.Values, "offline_access") {
		v.add(VetWarn, "scope", "offline-access-not-asked", c.Scope.Where, "the server names offline_access, and without it gives no refresh token")
	}
}

// standards holds the metadata itself against RFC 8414 2 and, for grants with a
// person, RFC 9700 2.1.
func (v *vetting) standards(c *project.Client, m *oauth.Metadata) {
	found := v.s.found
	if found == nil {
		return
	}
	var lacks []string
	note := func(wrong bool, text string) {
		if wrong {
			lacks = append(lacks, text)
		}
	}
	issuer, err := url.Parse(found.Issuer)
	note(found.Issuer == "", "issuer is missing")
	note(err == nil && (issuer.RawQuery != "" || issuer.Fragment != ""), "issuer has a query or fragment")
	note(len(found.ResponseTypesSupported) == 0, "response_types_supported is missing")
	note(found.TokenEndpoint == "", "token_endpoint is missing")
	for _, name := range []string{"issuer", "authorization_endpoint", "token_endpoint", "jwks_uri"} {
		u, err := url.Parse(found.Endpoint(name))
		note(found.Endpoint(name) != "" && (err != nil || u.Host == ""), name+" is no absolute URL")
		note(err == nil && u.Scheme == "http" && !wire.Loopback(u.Hostname()), name+" is plain http")
	}
	if len(lacks) > 0 {
		v.add(VetWarn, "RFC 8414", "", "", "%s", strings.Join(lacks, ", "))
	} else {
		v.add(VetPass, "RFC 8414", "", "", "the metadata has what it must have")
	}
	if c.Grant.Value != oauth.GrantCode {
		return
	}
	lacks = nil
	note(!oauth.Offers(found.CodeChallengeMethodsSupported, oauth.PKCES256), "PKCE with S256 is not offered")
	note(!found.IssParameterSupported && len(v.s.e.Project.Names("servers")) > 1, "answers do not name their issuer (RFC 9207), and this project has several servers")
	note(oauth.Offers(found.IDTokenSigningAlgs, "none"), "unsigned id tokens are offered")
	if len(lacks) > 0 {
		v.add(VetWarn, "RFC 9700", "", "", "%s", strings.Join(lacks, ", "))
	} else {
		v.add(VetPass, "RFC 9700", "", "", "what it asks of a server for this grant is there")
	}
}

// cause is what the rules find in the legs so far: why the last one failed.
func (v *vetting) cause() string {
	e := v.s.Evidence
	e.Legs = v.s.Run.Legs
	for _, f := range finding.Judge(&e) {
		if !f.Note {
			return f.ID
		}
	}
	return ""
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
		at := x.Response.Date()
		if at.IsZero() {
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
