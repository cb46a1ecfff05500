package finding

import (
	"net/url"
	"strings"
	"time"

	"tidycourier/core/bearer"
	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// refusedProof runs a judge over requests that were refused, to the token
// endpoint or to a protected resource, with the proof they carried.
func refusedProof(judge func(e *Evidence, leg *run.Leg, raw string, proof *token.Token, o *oauth.Error) *Match) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		if e.AnswerOnly {
			return nil
		}
		leg, o := e.refusal()
		if leg == nil {
			if leg = e.refusedCall(400, 401, 403); leg == nil {
				return nil
			}
			o = callReply(leg)
		}
		if o == nil {
			o = &oauth.Error{Status: leg.Status()}
		}
		raw := leg.Exchange.Request.Header.Get("DPoP")
		var proof *token.Token
		if t, err := token.Decode(raw); raw != "" && err == nil && t.Claims != nil {
			proof = t
		}
		return judge(e, leg, raw, proof, o)
	}
}

// callReply is what a protected resource said: its challenge first (RFC 6750 3).
func callReply(leg *run.Leg) *oauth.Error {
	r := leg.Exchange.Response
	list, _ := bearer.ParseChallenges(r.Header.Values("WWW-Authenticate"))
	for _, c := range list {
		if c.Error() != "" {
			return &oauth.Error{Code: c.Error(), Description: telling(c.Description()), Status: r.Status}
		}
	}
	if raw := rawReply(r); raw != nil {
		return &oauth.Error{Code: raw.Code, Description: telling(raw.Description), Status: r.Status}
	}
	return nil
}

func boundToKey(raw string) bool {
	t := decoded(raw)
	if t == nil {
		return false
	}
	cnf, _ := t.Claims["cnf"].(map[string]any)
	_, bound := cnf["jkt"]
	return bound
}

// scheme is the scheme of a request's Authorization header.
func scheme(leg *run.Leg) string {
	s, _, _ := strings.Cut(leg.Exchange.Request.Header.Get("Authorization"), " ")
	return s
}

func dpopChallenged(leg *run.Leg) bool {
	list, _ := bearer.ParseChallenges(leg.Exchange.Response.Header.Values("WWW-Authenticate"))
	for _, c := range list {
		if strings.EqualFold(c.Scheme, "DPoP") {
			return true
		}
	}
	return false
}

var dpopRules = []Rule{
	{
		ID: "dpop-nonce-required", Title: "The server wants its nonce in the proof",
		Meaning: "The answer carries a nonce in the header DPoP-Nonce; the next proof must hold it. A client repeats the request with it.", Proof: "use_dpop_nonce, or DPoP-Nonce in a refusal whose proof has another nonce.",
		Remedy:     []string{"send the request again, with nonce in the proof set to the value of DPoP-Nonce"},
		References: []string{"RFC 9449 8", "RFC 9449 9"},
		Judge: refusedProof(func(e *Evidence, leg *run.Leg, raw string, proof *token.Token, o *oauth.Error) *Match {
			given := leg.Exchange.Response.Header.Get("DPoP-Nonce")
			named := o.Code == "use_dpop_nonce" || said(o.Description, "nonce") && said(o.Description, "dpop")
			if !named && (given == "" || proof == nil || proof.Text("nonce") == given) {
				return nil
			}
			sent := "no proof"
			if proof != nil {
				sent = orAbsent(proof.Text("nonce"))
			}
			return certain(leg, run.Item{What: "nonce in the proof", Where: legPlace(leg), Value: sent}, run.Item{What: "DPoP-Nonce in the answer", Where: legPlace(leg), Value: orAbsent(given)})
		}),
	},
	{
		ID: "dpop-proof-wrong-target", Title: "The proof is for another method or address",
		Meaning: "htm and htu name the request the proof is for: the method, and the address without query and fragment.", Proof: "htm and htu against the request.",
		Remedy:     []string{"make a proof for each request, with its own method and address"},
		References: []string{"RFC 9449 4.2"},
		Judge: refusedProof(func(e *Evidence, leg *run.Leg, raw string, proof *token.Token, o *oauth.Error) *Match {
			if proof == nil {
				return nil
			}
			if htm := proof.Text("htm"); htm != leg.Method {
				return certain(leg, pair("method", legPlace(leg), leg.Method, "htm", "the proof", orAbsent(htm))...)
			}
			want, _, _ := strings.Cut(leg.URL, "?")
			if htu, _, _ := strings.Cut(proof.Text("htu"), "?"); !sameAddress(htu, want) {
				return certain(leg, pair("address", legPlace(leg), want, "htu", "the proof", orAbsent(htu))...)
			}
			return nil
		}),
	},
	{
		ID: "dpop-proof-replayed", Title: "The proof was sent before",
		Try:     Test{"tidy-courier journal list --limit 5", "shows whether the same request was sent twice"},
		Meaning: "Each proof works once, and only for a short time.", Proof: "The server's words, or iat of the proof far from the time of the request.",
		Remedy:     []string{"make a new proof, with a new jti and iat, for each request"},
		References: []string{"RFC 9449 11.1"},
		Judge: refusedProof(func(e *Evidence, leg *run.Leg, raw string, proof *token.Token, o *oauth.Error) *Match {
			if raw == "" {
				return nil
			}
			if e.Spent != nil {
				if before := e.Spent("dpop", mask.Fingerprint(raw)); before != nil {
					return certain(leg, run.Item{What: "proof", Where: legPlace(leg), Value: mask.Text(raw)}, run.Item{What: "sent before", Where: before.place(), Value: before.At.UTC().Format(time.RFC3339)})
				}
			}
			items := []run.Item{{What: "proof", Where: legPlace(leg), Value: mask.Text(raw)}, {What: "the server said", Where: legPlace(leg), Value: said1(o)}}
			if said(o.Description, "replay", "already used", "already been used", "been used", "jti", "reuse") {
				return &Match{Leg: leg.N, Certainty: run.Likely, Items: items}
			}
			if proof != nil && o.Code == "invalid_dpop_proof" {
				if at, ok := proof.Time("iat"); ok && e.sentAt(leg).Sub(at) > 5*time.Minute {
					return certain(leg, append(items, run.Item{What: "iat", Where: "the proof", Value: at.Format(time.RFC3339)})...)
				}
			}
			return nil
		}),
	},
	{
		ID: "dpop-bound-token-sent-as-bearer", Title: "A token bound to a key was sent as a bearer token",
		Meaning: "The token names the key it is bound to (cnf.jkt). It must be sent with the scheme DPoP, and a proof made with that key.", Proof: "cnf.jkt in the token (or token_type DPoP), and the scheme Bearer.",
		Remedy:     []string{"send Authorization: DPoP TOKEN, and a proof in the header DPoP"},
		References: []string{"RFC 9449 7.1"},
		Judge: func(e *Evidence) *Match {
			leg := e.refusedCall(400, 401, 403)
			if leg == nil || !strings.EqualFold(scheme(leg), "Bearer") {
				return nil
			}
			typed := e.Answer != nil && strings.EqualFold(e.Answer.TokenType, "DPoP")
			if !boundToKey(e.Access) && !typed {
				return nil
			}
			return certain(leg, run.Item{What: "scheme sent", Where: legPlace(leg), Value: scheme(leg)}, run.Item{What: "the token is bound", Where: "the token", Value: "cnf.jkt, or token_type DPoP"}, e.apiItem(leg))
		},
	},
	{
		ID: "dpop-proof-missing", Title: "The proof of possession is missing",
		Meaning: "The server or API wants a proof in the header DPoP, made with the client's key for this very request.", Proof: "No DPoP header was sent; the scheme, the challenge or the server's words ask for one.",
		Remedy:     []string{"send a proof in the header DPoP; where the client cannot, have the provider issue tokens that are not bound"},
		References: []string{"RFC 9449 4.1", "RFC 9449 5"},
		Judge: refusedProof(func(e *Evidence, leg *run.Leg, raw string, proof *token.Token, o *oauth.Error) *Match {
			if raw != "" || leg.Kind == run.Call && e.Access == "" && !strings.EqualFold(scheme(leg), "DPoP") {
				return nil
			}
			if o.Code != "invalid_dpop_proof" && !said(o.Description, "dpop") && !strings.EqualFold(scheme(leg), "DPoP") && !(dpopChallenged(leg) && boundToKey(e.Access)) {
				return nil
			}
			return certain(leg, run.Item{What: "DPoP", Where: legPlace(leg), Value: "not sent"}, run.Item{What: "the server said", Where: legPlace(leg), Value: said1(o)})
		}),
	},
}

func sameAddress(a, b string) bool {
	x, err1 := url.Parse(a)
	y, err2 := url.Parse(b)
	return err1 == nil && err2 == nil && originOf(a) == originOf(b) && x.EscapedPath() == y.EscapedPath()
}

// originOf is scheme, host and port of a URL, or "".
func originOf(raw string) string {
	u, err := url.Parse(raw)
	if err != nil || u.Host == "" {
		return ""
	}
	host := strings.ToLower(u.Host)
	host = strings.TrimSuffix(strings.TrimSuffix(host, map[string]string{"https": ":443", "http": ":80"}[u.Scheme]), ":")
	return u.Scheme + "://" + host
}

// serverDate is the clock of the server, by its Date header.
func serverDate(leg *run.Leg) time.Time {
	if leg.Exchange == nil {
		return time.Time{}
	}
	return leg.Exchange.Response.Date()
}

// deviceRules are the answers that a device waits with (RFC 8628 3.5).
var deviceRules = []Rule{
	deviceRule("authorization-pending", "authorization_pending", "Nobody has agreed yet", "The person has not entered the code, or has not agreed. The device asks again after the interval.",
		"enter the user code at the verification address, and go on asking at the interval"),
	deviceRule("slow-down", "slow_down", "The device asks too often", "The server wants five seconds more between two questions.", "add five seconds to the interval, for good"),
	deviceRule("device-code-expired", "expired_token", "The device code has expired", "The person did not agree in time.", "begin again with a new device code"),
}

func deviceRule(id, code, title, meaning, remedy string) Rule {
	return Rule{ID: id, Title: title, Meaning: meaning, Proof: code + " from the token endpoint.", Remedy: []string{remedy}, References: []string{"RFC 8628 3.5"},
		Judge: func(e *Evidence) *Match {
			leg, o := e.refusal()
			if o == nil || o.Code != code || leg.Status() == 429 {
				return nil
			}
			if !e.AnswerOnly && form(leg)["device_code"] == "" && code != "authorization_pending" {
				return nil
			}
			m := certain(leg, e.answerItem(leg, o))
			m.Note = code == "authorization_pending" && !e.AnswerOnly && !e.Foreign
			return m
		}}
}
