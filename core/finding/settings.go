package finding

import (
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"

	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

// settingsRules are causes that the settings show before anything is sent. In a
// run they speak only when it failed; vet asks them beforehand.
var settingsRules = []Rule{
	{
		ID: "unresolved-placeholder", Title: "A placeholder has no value",
		Meaning: "A ${name} in the courier file was found in no place where values come from. Nothing was sent.", Proof: "The key, and the places that were looked at.",
		Remedy:     []string{"add the name under values: or the stage, set it in .env, or give it with --set name=value"},
		References: []string{"RFC 7591 2"},
	},
	{
		ID: "redirect-port-busy", Title: "The port of the redirect URI is taken",
		Meaning: "Another program listens at the redirect URI's port, so the answer would go to it.", Proof: "The port cannot be opened.",
		Remedy:     []string{"stop the other program, or use port 0 where the server lets a native client choose", "--paste takes the address the browser ends up at"},
		References: []string{"RFC 8252 7.3"},
	},
	{
		ID: "redirect-uri-has-fragment", Title: "The redirect URI has a fragment",
		Meaning: "The part behind # never reaches a server, and the RFC forbids it.", Proof: "redirect_uri has a #.",
		Remedy:     []string{"remove the # and what is behind it, in the settings and the registration"},
		References: []string{"RFC 6749 3.1.2"},
		Judge: settled(func(e *Evidence) *Match {
			v, place, leg := e.redirectURI()
			if leg == nil || !strings.Contains(v, "#") {
				return nil
			}
			return certain(leg, run.Item{What: "redirect_uri", Where: place, Value: v})
		}),
	},
	{
		ID: "redirect-uri-not-loopback-for-listener", Title: "The redirect URI is not on this machine",
		Meaning: "The listener can receive an answer only on a loopback address. One that goes elsewhere is received there, or pasted.", Proof: "The host of redirect_uri is not loopback.",
		Remedy:     []string{"--paste takes the address the browser ends up at", "register a loopback redirect URI: http://127.0.0.1:PORT/PATH"},
		References: []string{"RFC 8252 7.3"},
		Judge: settled(func(e *Evidence) *Match {
			v, place, leg := e.redirectURI()
			u, err := url.Parse(v)
			if leg == nil || e.Foreign || err != nil || u.Host == "" || wire.Loopback(u.Hostname()) || e.Person == nil || e.Person.TimedOut == 0 {
				return nil
			}
			return certain(leg, run.Item{What: "redirect_uri", Where: place, Value: v})
		}),
	},
	{
		ID: "plain-http-endpoint", Title: "An endpoint is plain http on another machine",
		Try:     Test{"tidy-courier vet CLIENT", "tells which addresses are plain http"},
		Meaning: "Credentials and tokens would cross the network readable. Servers refuse it, and so does this program unless the host is named.", Proof: "The address begins with http:// and its host is not loopback.",
		Remedy:     []string{"write https://", "allow this one host by name with --plain-http HOST, when it must be"},
		References: []string{"RFC 6749 3.1.2.1", "RFC 6749 3.2"},
		Judge: settled(func(e *Evidence) *Match {
			for i := range e.Legs {
				l := &e.Legs[i]
				u, err := url.Parse(l.URL)
				if err != nil || u.Scheme != "http" || l.Inbound || wire.Loopback(u.Hostname()) || privateName(u.Hostname()) || l.Kind != run.Token && l.Kind != run.Authorization {
					continue
				}
				return &Match{Leg: l.N, Certainty: run.Possible, Items: []run.Item{{What: "URL", Where: e.endpointPlace(l), Value: l.URL}}}
			}
			return nil
		}),
	},
	{
		ID: "endpoints-swapped", Title: "Authorization and token endpoint are exchanged or the same",
		Meaning: "One is a page for people, the other answers programs; each refuses what is meant for the other.", Proof: "The settings against the metadata.",
		Remedy:     []string{"exchange the two, or remove both and let discovery find them"},
		References: []string{"RFC 6749 3"},
		Judge: settled(func(e *Evidence) *Match {
			if e.Client == nil || e.Client.Server == nil {
				return nil
			}
			a, t := e.Client.Server.Endpoints["authorization_endpoint"], e.Client.Server.Endpoints["token_endpoint"]
			if a.Value == "" || t.Value == "" || len(e.Legs) == 0 || !(strings.HasSuffix(strings.TrimRight(a.Value, "/"), "/token") && said(t.Value, "auth")) {
				return nil
			}
			leg := &e.Legs[len(e.Legs)-1]
			return certain(leg, run.Item{What: "authorization_endpoint", Where: a.Where, Value: a.Value}, run.Item{What: "token_endpoint", Where: t.Where, Value: t.Value})
		}),
	},
	{
		ID: "grant-not-in-metadata", Title: "The metadata does not list this grant",
		Try:     Test{"tidy-courier vet CLIENT", "tells which grants the server offers at all"},
		Meaning: "grant_types_supported tells which grants the server takes; where it is absent, authorization_code and implicit.", Proof: "The grant that was sent against the list.",
		Remedy:     []string{"choose a grant the server lists: tidy-courier discover ISSUER"},
		References: []string{"RFC 8414 2"},
		Judge: refused(func(e *Evidence, f map[string]string, leg *run.Leg) *Match {
			g := f["grant_type"]
			_, o := e.refusal()
			if e.Metadata == nil || len(e.Metadata.GrantTypesSupported) == 0 || g == "" || slices.Contains(e.Metadata.GrantTypesSupported, g) {
				return nil
			}
			if o != nil && o.Code != "" && o.Code != oauth.ErrInvalidRequest && o.Code != oauth.ErrUnauthorizedClient {
				return nil // its code has another cause, or names this one
			}
			c := run.Likely
			if o != nil && o.Description != "" && !said(o.Description, "grant", g) {
				c = run.Possible // the server speaks of something else
			}
			return &Match{Leg: leg.N, Certainty: c, Items: []run.Item{{What: "grant_type", Where: legPlace(leg), Value: g}, {What: "the metadata offers", Where: "grant_types_supported", Value: strings.Join(e.Metadata.GrantTypesSupported, " ")}}}
		}),
	},
	{
		ID: "auth-method-not-in-metadata", Title: "The metadata does not list this way of client authentication",
		Meaning: "token_endpoint_auth_methods_supported tells how clients may authenticate; where it is absent, client_secret_basic.", Proof: "The method of the settings against the list.",
		Remedy:     []string{"set token_endpoint_auth_method to one the server lists: tidy-courier discover ISSUER"},
		References: []string{"RFC 8414 2"},
	},
	{
		ID: "pkce-not-offered", Title: "The server does not say that it knows PKCE",
		Meaning: "Without code_challenge_methods_supported a server may ignore the challenge, and a stolen code can be used by anybody.", Proof: "The metadata has no S256.",
		Remedy:     []string{"ask the provider; sending the challenge does no harm"},
		References: []string{"RFC 9700 2.1.1", "RFC 8414 2"},
	},
	{
		ID: "scope-openid-without-id-token-expected", Title: "openid is asked for where no id token can come",
		Meaning: "openid asks for an id token about a person. In a grant without a person there is none, and some servers refuse the scope.", Proof: "The scope, and the grant.",
		Remedy:     []string{"remove openid from the scope of this client"},
		References: []string{"OpenID Connect Core 3.1.2.1"},
		Judge: refused(func(e *Evidence, f map[string]string, leg *run.Leg) *Match {
			_, o := e.refusal()
			if f["grant_type"] != oauth.GrantClientCredentials || !slices.Contains(strings.Fields(f["scope"]), "openid") || o == nil || o.Code != oauth.ErrInvalidScope {
				return nil
			}
			c := run.Certain
			if strings.ContainsFunc(strings.ReplaceAll(f["scope"], "openid", ""), func(r rune) bool { return r != ' ' }) {
				c = run.Likely // another scope beside it may be the one
			}
			return &Match{Leg: leg.N, Certainty: c, Items: []run.Item{{What: "scope", Where: legPlace(leg), Value: f["scope"]}, {What: "grant_type", Where: legPlace(leg), Value: f["grant_type"]}, e.answerItem(leg, o)}}
		}),
	},
	{
		ID: "offline-access-not-asked", Title: "offline_access is not asked for",
		Meaning: "Many servers give a refresh token only for this scope. Without one the person has to sign in again each time.", Proof: "The scope, and scopes_supported.",
		Remedy:     []string{"add offline_access to the client's scope"},
		References: []string{"OpenID Connect Core 11"},
	},
}

// settled runs a judge over runs that failed at a grant.
func settled(judge func(e *Evidence) *Match) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		if e.AnswerOnly {
			return nil
		}
		if leg, _ := e.refusal(); leg == nil && e.failedAuthorization() == nil && (e.Person == nil || e.Person.TimedOut == 0) {
			return nil
		}
		return judge(e)
	}
}

// redirectURI is the redirect URI that was sent to the authorization endpoint,
// with its place.
func (e *Evidence) redirectURI() (value, place string, leg *run.Leg) {
	leg = e.last(run.Authorization)
	if leg == nil || e.Person == nil || e.Person.Request == nil {
		return "", "", nil
	}
	place = legPlace(leg)
	if e.Client != nil && e.Client.RedirectURI.Where != "" && !e.Foreign {
		place = e.Client.RedirectURI.Where
	}
	return sentParam(e.Person.Request, "redirect_uri"), place, leg
}

// privateName reports whether a host is one of a private network, where plain
// http is a choice rather than a slip.
func privateName(host string) bool {
	if ip := net.ParseIP(host); ip != nil {
		return ip.IsPrivate()
	}
	return !strings.Contains(host, ".") || strings.HasSuffix(host, ".local") || strings.HasSuffix(host, ".test") || strings.HasSuffix(host, ".internal") || strings.HasSuffix(host, ".localhost")
}

// place says where an earlier use was: a run of the journal, or a leg of the record.
func (s *Spent) place() string {
	if s.Leg > 0 {
		return fmt.Sprintf("leg %d", s.Leg)
	}
	return "run " + itoa(s.Run)
}
