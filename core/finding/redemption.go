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
		Meaning:    "A code works once. A second use is refused, and a careful server then also revokes what the first use gave.",
		Proof:      "The journal has an earlier run that sent the same code, or the server's words say so.",
		Remedy:     []string{"begin again: tidy-courier obtain CLIENT; every code needs a new sign-in"},
		References: []string{"RFC 6749 4.1.2"},
		Judge: redemption(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			return e.spentOrSaid(leg, o, "code", f["code"], "already", "used before", "been used", "redeemed", "consumed", "reuse")
		}),
	},
	{
		ID: "code-garbled", Title: "The code was changed on its way",
		Meaning:    "A code must be sent as it came, decoded once from the address. One that is still percent-encoded, or has a piece of the address behind it, is unknown to the server.",
		Proof:      "The code that was sent is not the one that arrived, or has escapes or pieces of an address in it.",
		Remedy:     []string{"paste the whole address and let it be taken apart, rather than the code alone"},
		References: []string{"RFC 6749 4.1.2", "RFC 6749 B"},
		Judge:      redemption(garbledCode),
	},
	{
		ID: "code-expired", Title: "The code has expired",
		Meaning: "Codes live shortly: a minute at many servers, ten at most.", Proof: "The time between answer and exchange, or the server's words.",
		Remedy:     []string{"begin again, and exchange the code at once: tidy-courier obtain CLIENT"},
		References: []string{"RFC 6749 4.1.2"},
		Judge: redemption(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			items := []run.Item{e.answerItem(leg, o)}
			if e.Person != nil && e.Person.Resumed && !e.Person.At.IsZero() && e.Now.Sub(e.Person.At) > codeLifeMost {
				items = append([]run.Item{{What: "authorization request", Where: "the earlier run", Value: e.Person.At.UTC().Format(time.RFC3339)},
					{What: "exchange", Where: legPlace(leg), Value: e.Now.UTC().Format(time.RFC3339)}}, items...)
				return &Match{Leg: leg.N, Certainty: run.Likely, Items: items}
			}
			if said(o.Description, "expired", "too old") && !said(o.Description, "secret") {
				return &Match{Leg: leg.N, Certainty: run.Likely, Items: items}
			}
			return nil
		}),
	},
	{
		ID: "redirect-uri-mismatch", Title: "The redirect URI of the exchange is not the one of the authorization request",
		Meaning:    "The token request repeats redirect_uri, and the server compares the two to the letter: scheme, host (localhost is not 127.0.0.1), port, path, slash at the end, case.",
		Proof:      "The two values differ, or the server's words name the redirect URI.",
		Remedy:     []string{"send the same value in both: remove redirect_uri from parameters, so that the client's own is used"},
		References: []string{"RFC 6749 4.1.3"},
		Judge:      redemption(redirectMismatch),
	},
	{
		ID: "redirect-uri-missing", Title: "The exchange lacks the redirect URI",
		Meaning: "When the authorization request had redirect_uri, the token request must repeat it.", Proof: "It was sent first and not in the exchange.",
		Remedy:     []string{"remove the empty redirect_uri from parameters; without --code this happens by itself"},
		References: []string{"RFC 6749 4.1.3"},
		Judge: redemption(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			if f["redirect_uri"] != "" || e.Person == nil || e.Person.Request == nil || e.Person.Request.RedirectURI == "" {
				return nil
			}
			return certain(leg, run.Item{What: "in the authorization request", Where: "leg 1", Value: e.Person.Request.RedirectURI},
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
				return certain(leg, append([]run.Item{{What: "code_challenge", Where: "leg 1", Value: "sent"}}, items...)...)
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
			if f["code_verifier"] == "" || e.Person == nil || e.Person.Request == nil || e.Person.Request.State == "" || e.Person.Request.CodeChallenge != "" {
				return nil
			}
			return certain(leg, run.Item{What: "code_challenge", Where: "leg 1", Value: "not sent"}, run.Item{What: "code_verifier", Where: legPlace(leg), Value: "sent"}, e.answerItem(leg, o))
		}),
	},
	{
		ID: "pkce-verifier-mismatch", Title: "The code verifier does not fit the code challenge",
		Meaning:    "The challenge is made from the verifier (S256: its SHA-256 in base64url without padding). The one that was sent makes another challenge.",
		Proof:      "The challenge computed from the verifier differs from the one that was sent.",
		Remedy:     []string{"remove code_verifier and code_challenge from parameters, so that both come from one secret"},
		References: []string{"RFC 7636 4.6"},
		Judge:      redemption(verifierMismatch),
	},
	{
		ID: "code-from-other-client", Title: "The code belongs to another client",
		Meaning: "A code can be redeemed only by the client it was given to.", Proof: "The server's words, or the journal, which saw it with another client.",
		Remedy:     []string{"use the client whose authorization request brought the code"},
		References: []string{"RFC 6749 4.1.3"},
		Judge: redemption(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			if !said(o.Description, "another client", "different client", "other client", "client mismatch", "not issued to") {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{e.clientIDItem(leg), e.answerItem(leg, o)}}
		}),
	},
	{
		ID: "code-unknown", Title: "The server does not know this code",
		Meaning: "It may be cut off, come from another server or stage, or have been used or expired long ago.", Proof: "invalid_grant, and nothing in evidence decides between the causes.",
		Remedy:     []string{"begin again in one go: tidy-courier obtain CLIENT"},
		References: []string{"RFC 6749 5.2"},
		Judge: redemption(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			if f["code"] == "" {
				return nil
			}
			c := run.Possible
			if said(o.Description, "unknown", "not found", "does not exist") {
				c = run.Likely
			}
			return &Match{Leg: leg.N, Certainty: c, Items: []run.Item{{What: "code", Where: legPlace(leg), Value: mask.Text(f["code"])}, e.answerItem(leg, o)}}
		}),
	},
	{
		ID: "resource-or-audience-unknown", Title: "The server does not know the audience or resource that was asked for",
		Meaning: "audience (or resource, RFC 8707) must name an API this server issues tokens for, to the letter.", Proof: "invalid_target, or the server's words name it.",
		Remedy:     []string{"compare the value with the API's identifier at the provider"},
		References: []string{"RFC 8707 2"},
		Judge: func(e *Evidence) *Match {
			leg, o := e.refusal()
			if o == nil {
				return nil
			}
			f := form(leg)
			for _, name := range []string{"audience", "resource"} {
				c := run.Certain
				if o.Code != "invalid_target" {
					c = run.Likely
				}
				if f[name] != "" && (o.Code == "invalid_target" || said(o.Description, name) && !said(o.Description, "scope")) {
					return &Match{Leg: leg.N, Certainty: c, Items: []run.Item{{What: name, Where: legPlace(leg), Value: f[name]}, e.answerItem(leg, o)}}
				}
			}
			return nil
		},
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
	items := []run.Item{{What: name, Where: legPlace(leg), Value: mask.Text(value)}, e.answerItem(leg, o)}
	if e.Spent != nil {
		if before := e.Spent(kind, mask.Fingerprint(value)); before != nil {
			items = append(items, run.Item{What: "sent before", Where: "run " + itoa(before.Run), Value: before.At.UTC().Format(time.RFC3339)})
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
	if p := e.Person; p != nil && p.Response != nil && p.Response.Code != "" && p.Response.Code != code && p.Response.Via != "code" {
		return certain(leg, append(pair("code that arrived", "leg 2", mask.Text(p.Response.Code), "code that was sent", legPlace(leg), mask.Text(code)), e.answerItem(leg, o))...)
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
		return nil
	}
	return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "code", Where: legPlace(leg), Value: mask.Text(code) + ", " + what}, e.answerItem(leg, o)}}
}

func redirectMismatch(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
	sent := f["redirect_uri"]
	if p := e.Person; p != nil && p.Request != nil && p.Request.RedirectURI != "" && sent != "" && p.Request.RedirectURI != sent && p.Request.State != "" {
		return certain(leg, append(pair("authorization request", "leg 1", p.Request.RedirectURI, "token request", legPlace(leg), sent), e.answerItem(leg, o))...)
	}
	if sent == "" || !said(o.Description, "redirect") {
		return nil
	}
	return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "redirect_uri", Where: legPlace(leg), Value: sent}, e.answerItem(leg, o)}}
}

func verifierMismatch(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
	v := f["code_verifier"]
	if v == "" {
		return nil
	}
	if p := e.Person; p != nil && p.Request != nil && p.Request.CodeChallenge != "" {
		challenge, method := sentChallenge(p.Request)
		if made := oauth.Challenge(method, v); made != challenge {
			return certain(leg, append(pair("challenge sent", "leg 1", challenge, "made from the verifier", legPlace(leg), made), e.answerItem(leg, o))...)
		}
		return nil
	}
	if !said(o.Description, "verifier", "pkce", "code_challenge", "code challenge") {
		return nil
	}
	return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "code_verifier", Where: legPlace(leg), Value: mask.Text(v)}, e.answerItem(leg, o)}}
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
				items = pair("nonce sent", "leg 1", e.Person.Request.Nonce, "nonce in the id token", legPlace(leg), t.Text("nonce"))
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
