package finding

import (
	"fmt"
	"strings"

	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// Examined is a token that somebody looks at, outside any call.
type Examined struct {
	Token        *token.Token
	TakenOff     []string            // what stood around it when it was pasted
	Verification *token.Verification // nil when it was not asked for
	Issuer       project.Setting     // the issuer to expect, with its place; may be empty
	ClientID     project.Setting     // of the client the token is said to be of
	Needs        []Need
	Stages       map[string]string // issuer to "server NAME in stage NAME", of the stages not in force
	Opaque       string            // the client to introspect an opaque token with; may be empty
	SignedIn     bool              // the client's grant has a person

	odd    []token.Oddity
	looked bool // odd is filled
	read   *token.Reading
}

// Need is what one API or call needs of a token.
type Need struct {
	Of       string // "API gauges", "call post-notice"
	Audience project.Setting
	Scope    project.List
	Roles    project.List
}

func (x *Examined) oddity(id string) []token.Oddity {
	if !x.looked {
		x.odd, x.looked = x.Token.Oddities(), true
	}
	var out []token.Oddity
	for _, o := range x.odd {
		if o.ID == id {
			out = append(out, o)
		}
	}
	return out
}

func (x *Examined) reading() token.Reading {
	if x.read == nil {
		r := x.Token.Read()
		x.read = &r
	}
	return *x.read
}

// JudgeToken runs only the rules about the token itself; it is what a stream of
// tokens is judged with.
func JudgeToken(e *Evidence) []run.Finding {
	var out []run.Finding
	for i := range itselfRules {
		if m := itselfRules[i].Judge(e); m != nil {
			out = append(out, itselfRules[i].finding(m))
		}
	}
	if out == nil {
		return []run.Finding{}
	}
	return ranked(out)
}

// itselfRules are causes that lie in the token, whether it was sent or only
// looked at.
var itselfRules = []Rule{
	{
		ID: "token-opaque", Title: "The token is opaque: that is normal",
		Meaning:    "It is a reference that only its issuer can read. Nothing is wrong; there is nothing in it to decode, and its length and letters mean nothing.",
		Proof:      "It does not begin like a JWT.",
		Remedy:     []string{"ask the server what it stands for: tidy-courier introspect CLIENT"},
		References: []string{"RFC 6749 1.4", "RFC 7662"},
		Judge: onToken(func(e *Evidence, x *Examined) *Match {
			if x.Token.Form != token.Opaque {
				return nil
			}
			m := &Match{Certainty: run.Certain, Note: true, Items: []run.Item{{What: "length", Value: fmt.Sprintf("%d characters", len(x.Token.Raw))}}}
			if x.Opaque != "" {
				m.Try = "tidy-courier introspect " + x.Opaque
				m.Remedy = []string{"ask the server what it stands for"}
			}
			return m
		}),
	},
	{
		ID: "token-encrypted", Title: "The token is encrypted: that is normal",
		Meaning:    "It is meant for the API alone, which has the key. A client has no business reading it; what it may do, the token answer's scope tells.",
		Proof:      "It has the five parts of a JWE.",
		Remedy:     []string{"nothing has to be done; whoever has the key can look with decode --key FILE"},
		References: []string{"RFC 7516 3"},
		Judge: onToken(func(e *Evidence, x *Examined) *Match {
			if x.Token.Form != token.JWE || x.Token.Claims != nil || x.Token.Inner != nil || x.Token.Content != "" {
				return nil
			}
			enc, _ := x.Token.Header["enc"].(string)
			return &Match{Certainty: run.Certain, Note: true, Items: []run.Item{{What: "alg", Value: x.Token.Alg()}, {What: "enc", Value: enc}}}
		}),
	},
	{
		ID: "token-expired", Title: "The access token has expired",
		Try:     Test{"tidy-courier decode --client CLIENT", "shows when it ends"},
		Meaning: "Its exp claim lies in the past.", Proof: "exp against the clock.",
		Remedy:     []string{"obtain a new one: tidy-courier obtain CLIENT"},
		References: []string{"RFC 6750 3.1", "RFC 7519 4.1.4"},
		Judge:      either(tokenExpired, onToken(examinedExpired)),
	},
	{
		ID: "token-not-yet-valid", Title: "The token is not valid yet",
		Meaning: "Its nbf claim lies in the future. Either it was made for later, or one of the two clocks is wrong.", Proof: "nbf against the clock.",
		Remedy:     []string{"compare this machine's clock with the server's Date header; wait, or set the clock"},
		References: []string{"RFC 7519 4.1.5"},
		Judge: either(early, apiSaid("nbf", "not yet valid", "not active yet", "used before", "before its time"), onToken(func(e *Evidence, x *Examined) *Match {
			nbf, ok := x.Token.Time("nbf")
			if !ok || !e.Now.Add(token.Leeway).Before(nbf) {
				return nil
			}
			return &Match{Certainty: run.Certain, Items: x.clockItems(e, "nbf", nbf)}
		})),
	},
	{
		ID: "clock-skew", Title: "This machine's clock and the issuer's differ",
		Try:        Test{"tidy-courier vet CLIENT", "compares the two clocks"},
		Meaning:    "The token says that it was issued in the future. Tokens seem to end too early or too late, and assertions made here are refused.",
		Proof:      "iat lies in the future by more than the minute that clocks may differ.",
		Remedy:     []string{"set this machine's clock; compare it with the Date header of the server's answers (journal show)"},
		References: []string{"RFC 7519 4.1.6"},
		Judge: either(skewed, onToken(func(e *Evidence, x *Examined) *Match {
			iat, ok := x.Token.Time("iat")
			if !ok || !e.Now.Add(token.Leeway).Before(iat) {
				return nil
			}
			return &Match{Certainty: run.Likely, Items: x.clockItems(e, "iat", iat)}
		})),
	},
	{
		ID: "audience-not-the-api", Title: "The token is for another audience",
		Try:        Test{"tidy-courier decode --client CLIENT", "shows whom the token is for"},
		Meaning:    "Its aud claim names something other than this API; an API must refuse it.",
		Proof:      "aud in the token against needs.audience in the courier file.",
		Remedy:     []string{"ask for the API's audience or resource in the token request: parameters: { token: { audience: … } }"},
		References: []string{"RFC 9068 4", "RFC 8707"},
		Judge:      either(wrongAudience, onToken(examinedAudience)),
	},
	{
		ID: "issuer-unexpected", Title: "The token is from another issuer",
		Try:        Test{"tidy-courier decode --client CLIENT", "shows who issued it"},
		Meaning:    "Its iss claim is not the issuer of the server it is said to be from, to the letter. Another realm, tenant or version of the same server counts as another issuer.",
		Proof:      "iss in the token against the server's issuer.",
		Remedy:     []string{"check which server the client is registered at, and its issuer to the letter, a slash at the end included"},
		References: []string{"RFC 9068 4", "RFC 8414 2"},
		Judge:      either(foreignIssuer, apiSaid("iss", "issuer", "iss claim"), onToken(examinedIssuer)),
	},
	{
		ID: "wrong-stage", Title: "The token belongs to another stage",
		Meaning:    "Its issuer is the one that another stage of the courier file uses. Tokens of one stage are not accepted in another.",
		Proof:      "iss in the token is the issuer of a server in another stage.",
		Remedy:     []string{"use --stage with the stage the token is from, or obtain one in this stage"},
		References: []string{"RFC 9068 4"},
		Judge:      onToken(examinedStage),
	},
	{
		ID: "id-token-used-as-access-token", Title: "An id token stands where an access token belongs",
		Meaning:    "An id token tells the client who signed in. Its audience is the client, not an API; an API must refuse it.",
		Proof:      "The token has what only id tokens have, and its audience is the client.",
		Remedy:     []string{"send access_token of the token answer, not id_token"},
		References: []string{"RFC 9068 2.2", "OpenID Connect Core 2"},
		Judge:      either(sentIDToken, onToken(examinedIDToken)),
	},
	{
		ID: "scope-missing-for-call", Title: "The token lacks scope that the call needs",
		Meaning:    "The courier file says what the API or call needs, and the token does not carry it.",
		Proof:      "needs.scope against scope or scp in the token.",
		Remedy:     []string{"add it to the client's scope, and obtain again", "when it is asked for and not granted, have the provider grant it to the client"},
		References: []string{"RFC 9068 2.2.3", "RFC 6750 3.1"},
		Judge: onToken(func(e *Evidence, x *Examined) *Match {
			if applicationInstead(e, x) != nil {
				return nil
			}
			return lacking(x, func(n Need) project.List { return n.Scope }, (*token.Token).Scope, "scope")
		}),
	},
	{
		ID: "role-missing-for-call", Title: "The token lacks a role that the call needs",
		Try:        Test{"tidy-courier decode --client CLIENT", "shows the roles in the token"},
		Meaning:    "Application permissions stand in the token as roles. This one was not granted, or granted after the token was issued.",
		Proof:      "needs.roles against roles in the token.",
		Remedy:     []string{"have the permission granted to the application at the provider", "obtain again: a token keeps the roles of the moment it was issued"},
		References: []string{"RFC 9068 2.2.3.1"},
		Judge: either(roleLacking, onToken(func(e *Evidence, x *Examined) *Match {
			if personInstead(e, x) != nil {
				return nil
			}
			return lacking(x, func(n Need) project.List { return n.Roles }, (*token.Token).Roles, "roles")
		})),
	},
	{
		ID: "delegated-token-for-application-call", Title: "A person's token stands where an application's is needed",
		Try:        Test{"tidy-courier call NAME --versus CLIENT", "the same call with an application's own token tells whether that is the reason"},
		Meaning:    "The call needs a role given to the application itself; this token acts for a person and carries what that person agreed to.",
		Proof:      "needs.roles is set, and the token has scope, a person, and no roles.",
		Remedy:     []string{"use a client with the client_credentials grant for this call"},
		References: []string{"RFC 9068 2.2.3.1", "RFC 6749 4.4"},
		Judge:      onToken(personInstead),
	},
	{
		ID: "application-token-for-delegated-call", Title: "An application's token stands where a person's is needed",
		Try:        Test{"tidy-courier call NAME --versus CLIENT", "the same call with a token that stands for a person tells whether that is the reason"},
		Meaning:    "The call needs scope that a person agrees to; this token stands for the application itself.",
		Proof:      "needs.scope is not in the token, which is about an application and carries roles.",
		Remedy:     []string{"use a client whose grant has a person: authorization_code"},
		References: []string{"RFC 9068 2.2", "RFC 6749 4.1"},
		Judge:      onToken(applicationInstead),
	},
	verifiedRule(apiSaid("alg", "signature"), token.CauseSignature, "The signature is wrong",
		"The key is the one the token names, and the signature was not made with it. Somebody changed the token, it was cut or altered on its way, or it was never made by this issuer.",
		"The signature against the issuer's key.",
		[]string{"get the token anew from its source, whole", "when every token of this issuer fails, compare the issuer's jwks_uri with the one used"}, []string{"RFC 7515 5.2", "RFC 8725 3.3"}),
	verifiedRule(apiSaid("kid", "signing key", "no matching key", "key not found", "unknown key", "key id", "kid"), token.CauseKeyNotFound, "The key that signed the token is not among the issuer's",
		"The token's kid is not in the key set, also not after it was fetched once more. The keys were rotated and an old token outlived its key, the token is from another issuer or stage, or the wrong key set was read.",
		"kid in the header against the kids at jwks_uri.",
		[]string{"compare iss with the issuer whose keys were read", "obtain a new token: one made with a key that was taken away stays unverifiable"}, []string{"RFC 7515 4.1.4", "OpenID Connect Core 10.1.1"}),
	verifiedRule(apiSaid("alg", "algorithm"), token.CauseAlg, "The token is signed with an algorithm that the key is not for",
		"A verifier must take the algorithm from what it knows of the issuer, not from the token. A token that says HS256 where the issuer signs with RS256 is the mark of a forgery made with the public key.",
		"alg in the header against the key's kind and its own alg.",
		[]string{"do not accept it; ask the provider which algorithm it signs with", "name the right key, when the wrong one was given with --key or --jwks"}, []string{"RFC 8725 2.1", "RFC 8725 3.1"}),
	unsigned(oddityRule(token.OddUnsigned, "algorithm-none", "The token is not signed", false,
		"alg is none, or the signature part is empty. Anyone could have written it; no API may accept it as an access token.",
		[]string{"when it came from a token endpoint, tell the provider; do not build on its content"}, "RFC 8725 2.1", "RFC 7519 6")),
	oddityRule(token.OddNoKeyID, "header-kid-missing", "The header names no key", true,
		"Without kid a verifier has to try every key of the issuer. It works, until keys are rotated.",
		[]string{"nothing has to be done; APIs that insist on a kid refuse it"}, "RFC 7515 4.1.4"),
	oddityRule(token.OddRepeated, "claim-repeated", "A name stands in the token more than once", false,
		"Readers differ in which one they take: the API may see another value than the one shown here, which is the last.",
		[]string{"tell the provider; do not rely on this claim"}, "RFC 7519 4", "RFC 8725 2.6"),
	oddityRule(token.OddType, "claim-wrong-type", "A claim has another type than its definition gives it", false,
		"Strict readers refuse the token, lenient ones ignore the claim: an exp that cannot be read is no end at all.",
		[]string{"tell the provider; check how the API's library reads this claim"}, "RFC 7519 4.1"),
	oddityRule(token.OddMilliseconds, "time-in-milliseconds", "A time counts milliseconds where seconds are due", false,
		"NumericDate is in seconds. Read as seconds this time lies tens of thousands of years ahead: an exp like that never ends.",
		[]string{"tell the provider: the value must be divided by 1000"}, "RFC 7519 2"),
	oddityRule(token.OddLongLife, "lifetime-long", "The token lives for more than a day", true,
		"An API that reads the token by itself accepts it until its end, also after it was revoked.",
		[]string{"ask the provider for a shorter life and a refresh token; keep this one like a password until then"}, "RFC 9700 2.2.1"),
	oddityRule(token.OddBackwards, "times-out-of-order", "The token ends before it begins", false,
		"exp lies before nbf or iat, so there is no moment at which it is valid.",
		[]string{"tell the provider; a clock or a time zone is wrong where it was made"}, "RFC 7519 4.1"),
}

// pastedGarbled is a token that was pasted with something around it.
func pastedGarbled(e *Evidence) *Match {
	return onToken(func(e *Evidence, x *Examined) *Match {
		if len(x.TakenOff) == 0 {
			return nil
		}
		return &Match{Certainty: run.Certain, Note: true, Items: []run.Item{{What: "taken off", Value: strings.Join(x.TakenOff, ", ")}}}
	})(e)
}
