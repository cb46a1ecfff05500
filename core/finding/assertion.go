package finding

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// An assertion proves a client (private_key_jwt, client_secret_jwt) or stands
// for a grant (JWT bearer): RFC 7521, RFC 7523.

const (
	clientAssertionType = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
	grantJWTBearer      = "urn:ietf:params:oauth:grant-type:jwt-bearer"
	assertionLifeMost   = time.Hour // what servers commonly accept at most
	clockTolerance      = time.Minute
)

// asserted is the assertion of a refused token request.
type asserted struct {
	name string // client_assertion or assertion
	raw  string
	t    *token.Token // nil when it is no JWT
	o    *oauth.Error // never nil
	f    map[string]string
}

func assertion(judge func(e *Evidence, a asserted, leg *run.Leg) *Match) func(*Evidence) *Match {
	return refused(func(e *Evidence, f map[string]string, leg *run.Leg) *Match {
		a := asserted{f: f, name: "client_assertion", raw: f["client_assertion"]}
		if a.raw == "" && f["grant_type"] == grantJWTBearer {
			a.name, a.raw = "assertion", f["assertion"]
		}
		if a.raw == "" && f["client_assertion_type"] == "" && f["grant_type"] != grantJWTBearer {
			return nil
		}
		if t, err := token.Decode(a.raw); err == nil && t.Form == token.JWT && t.Claims != nil {
			a.t = t
		}
		if _, a.o = e.refusal(); a.o == nil {
			a.o = &oauth.Error{}
		}
		return judge(e, a, leg)
	})
}

// signed runs a judge over assertions that can be read.
func signed(judge func(e *Evidence, a asserted, leg *run.Leg) *Match) func(*Evidence) *Match {
	return assertion(func(e *Evidence, a asserted, leg *run.Leg) *Match {
		if a.t == nil {
			return nil
		}
		return judge(e, a, leg)
	})
}

func (e *Evidence) sentAt(leg *run.Leg) time.Time {
	if !leg.At.IsZero() {
		return leg.At
	}
	return e.Now
}

func claimItems(a asserted, leg *run.Leg, claim, value string, more ...run.Item) []run.Item {
	return append([]run.Item{{What: claim, Where: a.name + ", leg " + fmt.Sprint(leg.N), Value: value}}, more...)
}

var assertionRules = []Rule{
	{
		ID: "assertion-type-missing", Title: "The assertion comes without its type, or the type without the assertion",
		Meaning: "client_assertion and client_assertion_type belong together, and the type is one fixed text.", Proof: "The two parameters as they were sent.",
		Remedy:     []string{"send client_assertion_type=" + clientAssertionType},
		References: []string{"RFC 7523 2.2", "RFC 7521 4.2"},
		Judge: assertion(func(e *Evidence, a asserted, leg *run.Leg) *Match {
			if a.name != "client_assertion" || a.raw != "" && a.f["client_assertion_type"] == clientAssertionType {
				return nil
			}
			return certain(leg, run.Item{What: "client_assertion_type", Where: legPlace(leg), Value: orNone(a.f["client_assertion_type"])},
				run.Item{What: "client_assertion", Where: legPlace(leg), Value: orNone(mask.Text(a.raw))}, run.Item{What: "the type is", Value: clientAssertionType})
		}),
	},
	{
		ID: "assertion-malformed", Title: "The assertion is not a signed JWT",
		Meaning: "It has not the three parts of a signed JWT, or they do not decode.", Proof: "The value as it was sent.",
		Remedy:     []string{"sign a JWT and send it whole, without quotes, line breaks or padding"},
		References: []string{"RFC 7523 3", "RFC 7515 7.1"},
		Judge: assertion(func(e *Evidence, a asserted, leg *run.Leg) *Match {
			if a.t != nil || a.raw == "" && a.name == "client_assertion" {
				return nil
			}
			return certain(leg, run.Item{What: a.name, Where: legPlace(leg), Value: orNone(mask.Text(a.raw)) + ", " + fmt.Sprintf("%d characters, %d dots", len(a.raw), strings.Count(a.raw, "."))}, e.answerItem(leg, a.o))
		}),
	},
	{
		ID: "assertion-claim-missing", Title: "The assertion lacks a claim it must have",
		Meaning: "iss, sub, aud and exp are required; most servers want jti as well.", Proof: "The claims of the assertion.",
		Remedy:     []string{"add the claim: iss and sub are the client id, aud the token endpoint or issuer, exp a few minutes ahead, jti a new text each time"},
		References: []string{"RFC 7523 3"},
		Judge: signed(func(e *Evidence, a asserted, leg *run.Leg) *Match {
			var lacking []string
			for _, name := range []string{"iss", "sub", "aud", "exp"} {
				if _, there := a.t.Claims[name]; !there {
					lacking = append(lacking, name)
				}
			}
			if len(lacking) == 0 {
				if _, there := a.t.Claims["jti"]; there || !said(a.o.Description, "jti") {
					return nil
				}
				lacking = []string{"jti"}
			}
			return certain(leg, claimItems(a, leg, "absent", strings.Join(lacking, ", "), e.answerItem(leg, a.o))...)
		}),
	},
	{
		ID: "assertion-expired", Title: "The assertion had expired when it was sent",
		Meaning: "exp lies before the request. An assertion is made anew for each request; a slow clock makes it old at birth.", Proof: "exp against the time of the request.",
		Remedy:     []string{"make a new assertion for each request", "check this machine's clock"},
		References: []string{"RFC 7523 3"},
		Judge: signed(func(e *Evidence, a asserted, leg *run.Leg) *Match {
			exp, ok := a.t.Time("exp")
			if !ok || !e.sentAt(leg).After(exp) {
				return nil
			}
			return certain(leg, claimItems(a, leg, "exp", exp.Format(time.RFC3339), run.Item{What: "sent", Where: legPlace(leg), Value: e.sentAt(leg).UTC().Format(time.RFC3339)}, e.answerItem(leg, a.o))...)
		}),
	},
	{
		ID: "assertion-from-the-future", Title: "The assertion was made in the future",
		Meaning: "iat or nbf lies ahead of the request: this machine's clock is ahead, or the times are in milliseconds.", Proof: "iat and nbf against the time of the request and the server's Date.",
		Remedy:     []string{"set the clock; write times in seconds"},
		References: []string{"RFC 7523 3"},
		Judge: signed(func(e *Evidence, a asserted, leg *run.Leg) *Match {
			now := e.sentAt(leg)
			if d := serverDate(leg); !d.IsZero() {
				now = d
			}
			for _, name := range []string{"iat", "nbf"} {
				if at, ok := a.t.Time(name); ok && at.After(now.Add(clockTolerance)) {
					return certain(leg, claimItems(a, leg, name, at.Format(time.RFC3339), run.Item{What: "the time at the server", Where: legPlace(leg), Value: now.UTC().Format(time.RFC3339)}, e.answerItem(leg, a.o))...)
				}
			}
			return nil
		}),
	},
	{
		ID: "assertion-lifetime-too-long", Title: "The assertion lives longer than servers accept",
		Try:     Test{"tidy-courier decode -", "paste the assertion: it shows how long it lives"},
		Meaning: "An assertion is for one request. Many servers refuse one that lives for more than a few minutes or an hour.", Proof: "exp less iat (or less the time of the request), and the server's words.",
		Remedy:     []string{"set exp five minutes ahead"},
		References: []string{"RFC 7523 3"},
		Judge: signed(func(e *Evidence, a asserted, leg *run.Leg) *Match {
			exp, ok := a.t.Time("exp")
			from, has := a.t.Time("iat")
			if !has {
				from = e.sentAt(leg)
			}
			life := exp.Sub(from)
			named := said(a.o.Description, "lifetime", "too long", "too far in the future", "too far in future", "validity period", "expires too")
			if !ok || life <= assertionLifeMost && !named {
				return nil
			}
			m := certain(leg, claimItems(a, leg, "lives", life.Round(time.Second).String(), e.answerItem(leg, a.o))...)
			if !named {
				m.Certainty = run.Likely
			}
			return m
		}),
	},
	{
		ID: "assertion-audience-wrong", Title: "The assertion is meant for somebody else",
		Meaning: "aud must name this server: its issuer, or its token endpoint.", Proof: "aud against the issuer and the URL of the request.",
		Remedy:     []string{"set aud to the token endpoint or the issuer, to the letter"},
		References: []string{"RFC 7523 3"},
		Judge: signed(func(e *Evidence, a asserted, leg *run.Leg) *Match {
			aud := a.t.Audience()
			known := []string{strings.SplitN(leg.URL, "?", 2)[0]}
			if e.Metadata != nil {
				known = append(known, e.Metadata.Issuer, e.Metadata.TokenEndpoint)
			}
			named := said(a.o.Description, "audience", "aud claim", " aud ", "(aud)")
			hit := slices.ContainsFunc(aud, func(x string) bool {
				return slices.ContainsFunc(known, func(k string) bool { return k != "" && strings.TrimRight(k, "/") == strings.TrimRight(x, "/") })
			})
			if len(aud) == 0 || hit && !named {
				return nil
			}
			sameHost := slices.ContainsFunc(aud, func(x string) bool { return originOf(x) != "" && originOf(x) == originOf(leg.URL) })
			if !named && sameHost && e.Metadata == nil {
				return nil // it may be the issuer, which is not known
			}
			m := certain(leg, append(pair("sent to", legPlace(leg), known[0], "aud", a.name, strings.Join(aud, " ")), e.answerItem(leg, a.o))...)
			if sameHost && !named {
				m.Certainty = run.Likely
			}
			return m
		}),
	},
	{
		ID: "assertion-issuer-wrong", Title: "The assertion names another client",
		Meaning: "iss and sub of a client assertion are both the client id.", Proof: "iss and sub against client_id.",
		Remedy:     []string{"set iss and sub to the client id"},
		References: []string{"RFC 7523 3"},
		Judge: signed(func(e *Evidence, a asserted, leg *run.Leg) *Match {
			iss, sub, id := a.t.Text("iss"), a.t.Text("sub"), a.f["client_id"]
			if id == "" && e.Client != nil {
				id = e.Client.ClientID.Value
			}
			if a.name == "client_assertion" {
				switch {
				case iss == "" || sub == "":
					return nil
				case id != "" && (iss != id || sub != id):
					bad, value := "iss", iss
					if iss == id {
						bad, value = "sub", sub
					}
					return certain(leg, append(pair("client_id", legPlace(leg), id, bad, a.name, value), e.answerItem(leg, a.o))...)
				case iss != sub:
					return certain(leg, append(pair("iss", a.name, iss, "sub", a.name, sub), e.answerItem(leg, a.o))...)
				}
			}
			if !said(a.o.Description, "issuer", "iss claim", " iss ", "(iss)", "subject", "sub claim") {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: claimItems(a, leg, "iss", orNone(iss), e.answerItem(leg, a.o))}
		}),
	},
	{
		ID: "assertion-algorithm-unexpected", Title: "The assertion is signed with an algorithm the server does not take",
		Meaning: "A client is registered for one algorithm, and the metadata lists those the server knows. none is never accepted.", Proof: "alg against the metadata, or the server's words.",
		Remedy:     []string{"sign with an algorithm the metadata lists, usually RS256, PS256 or ES256"},
		References: []string{"RFC 7523 3", "RFC 8414 2", "RFC 8725 3.1"},
		Judge: signed(func(e *Evidence, a asserted, leg *run.Leg) *Match {
			alg := a.t.Alg()
			listed := signingAlgs(e)
			named := said(a.o.Description, "algorithm", "alg ", "unsigned")
			if !strings.EqualFold(alg, "none") && !named && (len(listed) == 0 || slices.Contains(listed, alg)) {
				return nil
			}
			items := claimItems(a, leg, "alg", orNone(alg), e.answerItem(leg, a.o))
			if len(listed) > 0 {
				items = append(items, run.Item{What: "the metadata offers", Where: "token_endpoint_auth_signing_alg_values_supported", Value: strings.Join(listed, " ")})
			}
			return certain(leg, items...)
		}),
	},
	{
		ID: "assertion-replayed", Title: "The assertion was sent before",
		Meaning: "Each assertion works once; its jti is remembered until it expires.", Proof: "The same assertion in an earlier request, or the server's words.",
		Remedy:     []string{"make a new assertion, with a new jti, for each request"},
		References: []string{"RFC 7523 3", "RFC 7521 5.2"},
		Judge: signed(func(e *Evidence, a asserted, leg *run.Leg) *Match {
			if e.Spent != nil {
				if before := e.Spent("assertion", mask.Fingerprint(a.raw)); before != nil {
					return certain(leg, run.Item{What: a.name, Where: legPlace(leg), Value: mask.Text(a.raw)}, run.Item{What: "sent before", Where: before.place(), Value: before.At.UTC().Format(time.RFC3339)}, e.answerItem(leg, a.o))
				}
			}
			if !said(a.o.Description, "replay", "already used", "already been used", "been used", "reuse", "used before", "used already", "jti was", "unique") {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: claimItems(a, leg, "jti", orNone(a.t.Text("jti")), e.answerItem(leg, a.o))}
		}),
	},
	{
		ID: "assertion-key-unknown", Title: "The server has no key that fits the assertion",
		Try:     Test{"tidy-courier decode -", "paste the assertion: its kid must be among the keys that are registered"},
		Meaning: "The signature could not be verified: the key is not registered, was rotated, or the kid names another.", Proof: "Everything else about the assertion is right, and the server's words, or their absence.",
		Remedy:     []string{"register the public key (jwks or jwks_uri of the client), and use its kid in the header", "after a rotation wait until the server has fetched the new key set"},
		References: []string{"RFC 7523 3", "RFC 7517 4.5"},
		Judge: signed(func(e *Evidence, a asserted, leg *run.Leg) *Match {
			if a.name == "assertion" && a.o.Code != oauth.ErrInvalidGrant && a.o.Code != "" {
				return nil
			}
			if a.name == "client_assertion" && a.o.Code != oauth.ErrInvalidClient && a.o.Code != oauth.ErrUnauthorizedClient && a.o.Code != "" {
				return nil
			}
			if namesUnknownClient(a.o) {
				return nil
			}
			m := &Match{Leg: leg.N, Certainty: run.Possible, Items: claimItems(a, leg, "kid", orAbsent(a.t.KeyID()), e.answerItem(leg, a.o))}
			if said(a.o.Description, "signature", "key", "kid", "verif", "jwk") {
				m.Certainty = run.Likely
			}
			return m
		}),
	},
}

func signingAlgs(e *Evidence) []string {
	if e.Metadata == nil {
		return nil
	}
	var out []string
	list, _ := e.Metadata.Raw["token_endpoint_auth_signing_alg_values_supported"].([]any)
	for _, x := range list {
		if s, ok := x.(string); ok {
			out = append(out, s)
		}
	}
	return out
}
