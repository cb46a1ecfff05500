package finding

import (
	"regexp"
	"strings"
	"sync"
	"time"

	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
)

// redemptionRules are causes in the exchange of a code for tokens.
var redemptionRules = []Rule{
	{
		ID: "code-reused", Title: "The code was used before",
		Try:        Test{"tidy-courier obtain CLIENT", "a new code, exchanged at once: when it works, the old one was used or too old"},
		Meaning:    "A code works once. A second use is refused, and a careful server then also revokes what the first use gave.",
		Proof:      "The journal has an earlier run that sent the same code, or the server's words say so.",
		Remedy:     []string{"begin again: tidy-courier obtain CLIENT; every code needs a new sign-in"},
		References: []string{"RFC 6749 4.1.2"},
		Judge: redemption(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			if m := e.spentOrSaid(leg, o, "code", f["code"], "already", "used before", "been used", "redeemed", "consumed", "reuse", "replay", "more than once"); m != nil {
				return m
			}
			if f["code"] != "" && o.Description == "" {
				return &Match{Leg: leg.N, Certainty: run.Possible, Items: []run.Item{{What: "code", Where: legPlace(leg), Value: shown(f["code"])}, e.answerItem(leg, o)}}
			}
			return nil
		}),
	},
	{
		ID: "code-expired", Title: "The code has expired",
		Try:     Test{"tidy-courier obtain CLIENT", "a new code, exchanged at once: when it works, the old one was used or too old"},
		Meaning: "Codes live shortly: a minute at many servers, ten at most.", Proof: "The time between answer and exchange, or the server's words.",
		Remedy:     []string{"begin again, and exchange the code at once: tidy-courier obtain CLIENT"},
		References: []string{"RFC 6749 4.1.2"},
		Judge: redemption(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			items := []run.Item{e.answerItem(leg, o)}
			age := e.codeAge(leg)
			if age > 0 {
				items = append(items, run.Item{What: "from the code's arrival to its exchange", Where: legPlace(leg), Value: age.Round(time.Second).String()})
			}
			switch {
			case o.Code == oauth.ErrInvalidRequest && o.Description != "" && !said(o.Description, "code", "expired"):
				return nil
			case said(o.Description, "expired", "too old", "timed out", "lifetime") && !said(o.Description, "secret", "session", "assertion"):
				return &Match{Leg: leg.N, Certainty: run.Likely, Items: items}
			case age > codeLifeMost && e.Spent != nil && f["code"] != "" && e.Spent("code", mask.Fingerprint(f["code"])) != nil:
				return nil
			case age > codeLifeMost:
				return &Match{Leg: leg.N, Certainty: run.Likely, Items: items}
			case age > time.Minute && !said(o.Description, "redirect", "verifier", "pkce", "challenge", "client"):
				return &Match{Leg: leg.N, Certainty: run.Likely, Items: items} // the usual life is a minute
			case f["code"] != "" && (age == 0 || age > 25*time.Second) && o.Description == "":
				return &Match{Leg: leg.N, Certainty: run.Possible, Items: items}
			}
			return nil
		}),
	},
	{
		ID: "redirect-uri-mismatch", Title: "The redirect URI is not the one the server expects",
		Try:        Test{"tidy-courier obtain CLIENT --dry-run", "shows the redirect URI as it is sent, to compare with the registration"},
		Meaning:    "It is compared to the letter, twice: at the authorization endpoint with the client's registration, where the server shows a page of its own and never redirects; and in the token request with the one of the authorization request. Scheme, host (localhost is not 127.0.0.1), port, path, a slash at the end, the case and the percent-encoding all count. Only the port of a native client's loopback address is free, at servers that follow RFC 8252.",
		Proof:      "Two of them differ: what was sent, the settings, the token request; or the server's words or page name the redirect URI.",
		Remedy:     []string{"register the URI that is sent, or set redirect_uri to the one that is registered, letter by letter", "send the same value in both legs: remove redirect_uri from parameters, so that the client's own is used"},
		References: []string{"RFC 6749 3.1.2.3", "RFC 6749 4.1.3", "RFC 8252 7.3", "RFC 9700 2.1"},
		Judge:      either(pageRedirect, redemption(redirectMismatch)),
	},
	{
		ID: "redirect-uri-missing", Title: "The exchange lacks the redirect URI",
		Meaning: "When the authorization request had redirect_uri, the token request must repeat it.", Proof: "It was sent first and not in the exchange.",
		Remedy:     []string{"remove the empty redirect_uri from parameters; without --code this happens by itself"},
		References: []string{"RFC 6749 4.1.3"},
		Judge: redemption(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			if f["redirect_uri"] != "" {
				return nil
			}
			if e.Person == nil || e.Person.Request == nil || e.Person.Request.RedirectURI == "" {
				if !said(o.Description, redirectWords...) {
					return nil
				}
				return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "redirect_uri", Where: legPlace(leg), Value: "not sent"}, e.answerItem(leg, o)}}
			}
			return certain(leg, run.Item{What: "in the authorization request", Where: e.authPlace(), Value: e.Person.Request.RedirectURI},
				run.Item{What: "in the token request", Where: legPlace(leg), Value: "not sent"}, e.answerItem(leg, o))
		}),
	},
	{
		ID: "pkce-verifier-missing", Title: "The exchange lacks the code verifier",
		Meaning: "The authorization request carried a code challenge, so the exchange must carry the verifier it was made from.", Proof: "A challenge was sent, and no verifier.",
		Remedy:     []string{"begin again in one go, or with --until code and --code, which keep the verifier: tidy-courier obtain CLIENT"},
		References: []string{"RFC 7636 4.5"},
		Judge: redemption(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			items := []run.Item{{What: "code_verifier", Where: legPlace(leg), Value: "not sent"}, e.answerItem(leg, o)}
			switch {
			case f["code_verifier"] != "":
			case e.Person != nil && e.Person.Request != nil && e.Person.Request.CodeChallenge != "":
				return certain(leg, append([]run.Item{{What: "code_challenge", Where: e.authPlace(), Value: "sent"}}, items...)...)
			case said(o.Description, "code_verifier", "verifier", "pkce"):
				return &Match{Leg: leg.N, Certainty: run.Likely, Items: items}
			}
			return nil
		}),
	},
	{
		ID: "pkce-challenge-was-missing", Title: "A verifier was sent for a code that was asked for without a challenge",
		Meaning: "The server refuses a verifier it cannot compare with anything: somebody may have stripped the challenge on its way.", Proof: "A verifier, and no challenge in the authorization request.",
		Remedy:     []string{"remove code_verifier from parameters, or use PKCE in both legs: remove code_challenge_method: none"},
		References: []string{"RFC 9700 2.1.1"},
		Judge: redemption(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			if f["code_verifier"] == "" || e.Person == nil || e.Person.Request == nil || e.Person.Request.State == "" && !e.Foreign || e.Person.Unasked || e.Person.Request.CodeChallenge != "" || e.redeemedByAnother(f, leg) {
				return nil
			}
			return certain(leg, run.Item{What: "code_challenge", Where: e.authPlace(), Value: "not sent"}, run.Item{What: "code_verifier", Where: legPlace(leg), Value: "sent"}, e.answerItem(leg, o))
		}),
	},
	{
		ID: "pkce-verifier-mismatch", Title: "The code verifier does not fit the code challenge",
		Try:        Test{"tidy-courier obtain CLIENT --dry-run", "shows the challenge, and where it comes from"},
		Meaning:    "The challenge is made from the verifier (S256: its SHA-256 in base64url without padding). The one that was sent makes another challenge.",
		Proof:      "The challenge computed from the verifier differs from the one that was sent.",
		Remedy:     []string{"remove code_verifier and code_challenge from parameters, so that both come from one secret"},
		References: []string{"RFC 7636 4.6"},
		Judge:      redemption(verifierMismatch),
	},
	{
		ID: "code-from-other-client", Title: "The code belongs to another client",
		Try:     Test{"tidy-courier journal list --command obtain", "tells which client asked for it"},
		Meaning: "A code can be redeemed only by the client it was given to.", Proof: "The server's words, or the journal, which saw it with another client.",
		Remedy:     []string{"use the client whose authorization request brought the code"},
		References: []string{"RFC 6749 4.1.3"},
		Judge: redemption(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			sent := sentClientID(leg, f)
			if p := e.Person; e.redeemedByAnother(f, leg) {
				return certain(leg, append(pair("asked for the code", e.authPlace(), p.Request.ClientID, "redeems it", legPlace(leg), sent), e.answerItem(leg, o))...)
			}
			if !said(o.Description, otherClientWords...) {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{e.clientIDItem(leg), e.answerItem(leg, o)}}
		}),
	},
	{
		ID: "code-garbled", Title: "The code was changed on its way",
		Try:        Test{"tidy-courier obtain CLIENT", "a code that this program receives itself comes whole"},
		Meaning:    "A code must be sent as it came, decoded once from the address. One that is still percent-encoded, cut off, or has a piece of the address behind it is unknown to the server, and so is one of another server or stage.",
		Proof:      "The code that was sent is not the one that arrived, or has escapes or pieces of an address in it; or the server's words, or nothing else fits.",
		Remedy:     []string{"paste the whole address and let it be taken apart, rather than the code alone"},
		References: []string{"RFC 6749 4.1.2", "RFC 6749 B"},
		Judge:      redemption(garbledCode),
	},
	{
		ID: "resource-or-audience-unknown", Title: "The server does not know the audience or resource that was asked for",
		Try:     Test{"tidy-courier obtain CLIENT --dry-run", "shows audience and resource as they are sent"},
		Meaning: "audience (or resource, RFC 8707) must name an API this server issues tokens for, to the letter.", Proof: "invalid_target, or the server's words name it.",
		Remedy:     []string{"compare the value with the API's identifier at the provider"},
		References: []string{"RFC 8707 2"},
		Judge: either(refusedBy(run.Certain, "invalid_target"), func(e *Evidence) *Match {
			leg, o := e.refusal()
			if o == nil {
				return nil
			}
			f := form(leg)
			raw := rawReply(leg.Exchange.Response)
			for _, name := range []string{"audience", "resource"} {
				if v := f[name]; v != "" && o.Code != "invalid_target" && raw != nil && strings.Contains(raw.Description, v) && !said(o.Description, "scope", "client id") {
					return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: name, Where: legPlace(leg), Value: v}, e.answerItem(leg, o)}} // the server quotes it
				}
				c := run.Certain
				if o.Code != "invalid_target" {
					c = run.Likely
				}
				if f[name] != "" && (o.Code == "invalid_target" || said(o.Description, name) && !said(o.Description, "scope")) {
					return &Match{Leg: leg.N, Certainty: c, Items: []run.Item{{What: name, Where: legPlace(leg), Value: f[name]}, e.answerItem(leg, o)}}
				}
			}
			if o.Code == "invalid_target" {
				return certain(leg, e.answerItem(leg, o))
			}
			return nil
		}),
	},
	idTokenRule("nonce-mismatch", "The id token carries another nonce than the request", "its nonce", "The nonce ties an id token to one authorization request. Another one means that the token belongs to another sign-in; the tokens were not kept."),
	idTokenRule("at-hash-mismatch", "The id token does not belong to the access token", "at_hash", "at_hash ties the id token to the access token that came with it. The tokens were not kept."),
	idTokenRule("id-token-for-another-client", "The id token is for another client", "not for this client", "The audience of an id token must hold the client id. The tokens were not kept."),
	idTokenRule("id-token-expired", "The id token has expired, or carries no end", "expired, or carries no exp", "An id token that is past its end on arrival means that a clock is wrong. The tokens were not kept."),
}

// codeLifeMost is the longest life of a code that RFC 6749 4.1.2 recommends.
const codeLifeMost = 10 * time.Minute

// redemption runs a judge over refused code exchanges. Servers use
// invalid_request where others say invalid_grant, or no code at all.
func redemption(judge func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		leg, o := e.refusedWith(true, oauth.ErrInvalidGrant, oauth.ErrInvalidRequest)
		if leg == nil {
			return nil
		}
		f := form(leg)
		if f["grant_type"] != oauth.GrantCode {
			return nil
		}
		return judge(e, f, leg, o)
	}
}

// spentOrSaid is an earlier use of a credential in the journal, or in the
// server's words.
func (e *Evidence) spentOrSaid(leg *run.Leg, o *oauth.Error, kind, value string, words ...string) *Match {
	if value == "" {
		return nil
	}
	name := strings.ReplaceAll(kind, "_", " ")
	items := []run.Item{{What: name, Where: legPlace(leg), Value: shown(value)}, e.answerItem(leg, o)}
	if e.Spent != nil {
		if before := e.Spent(kind, mask.Fingerprint(value)); before != nil {
			items = append(items, run.Item{What: "sent before", Where: before.place(), Value: before.At.UTC().Format(time.RFC3339)})
			return &Match{Leg: leg.N, Certainty: run.Certain, Items: items}
		}
	}
	if said(o.Description, words...) {
		return &Match{Leg: leg.N, Certainty: run.Likely, Items: items}
	}
	return nil
}

var escapePattern = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`%[0-9A-Fa-f]{2}`) })

func garbledCode(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
	code := f["code"]
	if p := e.Person; p != nil && p.Response != nil && p.Response.Code != "" && p.Response.Code != code && p.Response.Via != "code" && code != "" {
		return certain(leg, append(pair("code that arrived", e.landingPlace(), shown(p.Response.Code), "code that was sent", legPlace(leg), shown(code)), e.answerItem(leg, o))...)
	}
	what := ""
	switch {
	case escapePattern().MatchString(code):
		what = "still percent-encoded"
	case strings.ContainsAny(code, "&#?="):
		what = "has a piece of the address behind it"
	case strings.ContainsAny(code, " \t\r\n\"'"):
		what = "has white space or quotes in it"
	}
	if what == "" {
		return e.codeNotKnown(code, leg, o)
	}
	return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "code", Where: legPlace(leg), Value: shown(code) + ", " + what}, e.answerItem(leg, o)}}
}

func redirectMismatch(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
	sent := f["redirect_uri"]
	if p := e.Person; p != nil && p.Request != nil && p.Request.RedirectURI != "" && sent != "" && p.Request.RedirectURI != sent && (p.Request.State != "" || e.Foreign) {
		m := certain(leg, append(pair("authorization request", e.authPlace(), p.Request.RedirectURI, "token request", e.paramPlace("token", "redirect_uri", leg), sent), e.answerItem(leg, o))...)
		m.Remedy = []string{"send the same value in both: remove redirect_uri from parameters, so that the client's own is used"}
		return m
	}
	if sent != "" && e.Foreign && e.Client != nil && e.Client.RedirectURI.Value != "" && e.Client.RedirectURI.Value != sent && !loopbackPort(e.Client.RedirectURI.Value, sent) && (e.Person == nil || e.Person.Request.RedirectURI == "") {
		return certain(leg, append(pair("in the settings", e.Client.RedirectURI.Where, e.Client.RedirectURI.Value, "token request", legPlace(leg), sent), e.answerItem(leg, o))...)
	}
	if sent == "" || !said(o.Description, append([]string{"redirect"}, redirectWords...)...) {
		return nil
	}
	if p := e.Person; p != nil && p.Request != nil && p.Request.RedirectURI == sent && e.Foreign && !said(o.Description, redirectWords...) {
		return nil // the two agree
	}
	return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "redirect_uri", Where: legPlace(leg), Value: sent}, e.answerItem(leg, o)}}
}

func verifierMismatch(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
	v := f["code_verifier"]
	if v == "" {
		return nil
	}
	if p := e.Person; p != nil && p.Request != nil && p.Request.CodeChallenge != "" && !unknown(v) {
		challenge, method := sentChallenge(p.Request)
		if made := oauth.Challenge(method, v); made != challenge {
			return certain(leg, append(pair("challenge sent", e.authPlace(), challenge, "made from the verifier", legPlace(leg), made), e.answerItem(leg, o))...)
		}
		return nil
	}
	if !said(o.Description, "verifier", "pkce", "code_challenge", "code challenge") {
		return nil
	}
	return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "code_verifier", Where: legPlace(leg), Value: shown(v)}, e.answerItem(leg, o)}}
}

// idTokenRule explains an id token that was refused after a good token answer.
func idTokenRule(id, title, sign, meaning string) Rule {
	return Rule{ID: id, Title: title, Meaning: meaning, Proof: "The claim of the id token against what was sent.",
		Remedy: []string{"run obtain again; when it stays, hand the provider this run"}, References: []string{"OpenID Connect Core 3.1.3.7"},
		Judge: either(onToken(verificationFailed(id)), func(e *Evidence) *Match {
			leg := e.last(run.Token)
			if leg == nil || e.Answer == nil || e.Answer.IDToken == "" || !strings.Contains(e.IDTokenFault, sign) {
				return nil
			}
			items := []run.Item{{What: "id token", Where: legPlace(leg), Value: e.IDTokenFault}}
			t := decoded(e.Answer.IDToken)
			if id == "nonce-mismatch" && t != nil && e.Person != nil && e.Person.Request != nil {
				items = pair("nonce sent", e.authPlace(), e.Person.Request.Nonce, "nonce in the id token", legPlace(leg), t.Text("nonce"))
			}
			if id == "id-token-for-another-client" && t != nil && e.Client != nil {
				items = pair("client_id", e.Client.ClientID.Where, e.Client.ClientID.Value, "aud of the id token", legPlace(leg), strings.Join(t.Audience(), " "))
			}
			return certain(leg, items...)
		})}
}

// codeNotSent is a token request of the code grant without its code.
var codeNotSent = redemption(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
	if f["code"] != "" {
		return nil
	}
	return certain(leg, run.Item{What: "code", Where: legPlace(leg), Value: "not sent"}, e.answerItem(leg, o))
})

// codeNotKnown is a code that looks whole, came as it was sent, and is refused
// all the same: by the server's words, or since nothing else fits.
func (e *Evidence) codeNotKnown(code string, leg *run.Leg, o *oauth.Error) *Match {
	if code == "" || o.Code == oauth.ErrInvalidRequest && o.Description != "" && !said(o.Description, "code") || e.Spent != nil && e.Spent("code", mask.Fingerprint(code)) != nil {
		return nil
	}
	m := &Match{Leg: leg.N, Certainty: run.Possible, Items: []run.Item{{What: "code", Where: legPlace(leg), Value: shown(code)}, e.answerItem(leg, o)}}
	known := e.Person != nil && e.Person.Code() == code && !e.Person.Unasked
	about := curt(o) || said(o.Description, "code", "grant") && !said(o.Description, "verifier", "challenge", "pkce", "redirect", "expired", "already", "client", "grant type")
	switch {
	case known && e.Foreign:
		return m // it is the one that arrived, so its text is whole
	case about && said(o.Description, "unknown", "not found", "does not exist", "invalid", "not valid", "malformed", "incorrect", "unrecognized", "no such", "could not", "cannot", "failed", "bad"):
		m.Certainty = run.Likely
	case o.Description != "":
		return nil // it speaks of something else
	}
	return m
}

// codeAge is how long a code lay between its arrival and its exchange; 0 when
// that is not known.
func (e *Evidence) codeAge(leg *run.Leg) time.Duration {
	p := e.Person
	if p == nil {
		return 0
	}
	from := p.Landed
	if from.IsZero() && (p.Resumed || e.Foreign) {
		from = p.At
	}
	if from.IsZero() {
		return 0
	}
	if e.Foreign {
		return max(e.sentAt(leg).Sub(from), 0)
	}
	return max(e.Now.Sub(from), 0)
}

var otherClientWords = []string{"another client", "different client", "other client", "client mismatch", "not issued to", "issued to a", "belongs to", "doesnt belong", "does not belong", "client id does not match", "client_id does not match", "wrong client"}

// sentClientID is the client that a token request speaks for.
func sentClientID(leg *run.Leg, f map[string]string) string {
	if id, _, ok := basicPair(leg); ok && id != "" {
		return id
	}
	return f["client_id"]
}

// authPlace and landingPlace name the legs of the browser.
func (e *Evidence) authPlace() string {
	if l := e.last(run.Authorization); l != nil {
		return legPlace(l)
	}
	return "leg 1"
}

func (e *Evidence) landingPlace() string {
	if l := e.last(run.Landing); l != nil {
		return legPlace(l)
	}
	return "leg 2"
}

// redeemedByAnother reports that another client asked for the code than the one
// that sends it.
func (e *Evidence) redeemedByAnother(f map[string]string, leg *run.Leg) bool {
	p, sent := e.Person, sentClientID(leg, f)
	return p != nil && p.Request != nil && p.Request.ClientID != "" && sent != "" && p.Request.ClientID != sent && p.Code() == f["code"]
}

// paramPlace is where the settings say a request parameter, or else its leg.
func (e *Evidence) paramPlace(part, name string, leg *run.Leg) string {
	if e.Client != nil && !e.Foreign {
		for _, p := range e.Client.Parameters[part] {
			if p.Name == name {
				return p.Where
			}
		}
	}
	return legPlace(leg)
}
