package finding

import (
	"fmt"
	"strings"

	"tidycourier/core/run"
)

// userinfoRules are causes of refusals by the userinfo endpoint, and of answers
// that must not be used.
var userinfoRules = []Rule{
	{
		ID: "token-stands-for-no-user", Title: "The token stands for an application, and this is about a person",
		Meaning:    "Userinfo and personal endpoints answer about the person a token acts for. A token of the client_credentials grant acts for nobody.",
		Proof:      "The token's subject is the client itself, or the client's grant has no person.",
		Remedy:     []string{"use a client whose grant has a person: authorization_code, with the scope openid"},
		References: []string{"OpenID Connect Core 5.3.1", "RFC 6749 4.4"},
		Judge:      noUser,
	},
	{
		ID: "scope-openid-missing", Title: "The token was obtained without the scope openid",
		Try:        Test{"tidy-courier obtain CLIENT --scope openid", "when it works, the scope was the reason"},
		Meaning:    "The userinfo endpoint answers only tokens of a sign-in that asked for openid.",
		Proof:      "A refusal by the userinfo endpoint, and openid is not in the client's scope.",
		Remedy:     []string{"add openid to the client's scope, and obtain again"},
		References: []string{"OpenID Connect Core 3.1.2.1", "OpenID Connect Core 5.3.1"},
		Judge: func(e *Evidence) *Match {
			leg := e.refusedUserinfo()
			if leg == nil || noUser(e) != nil || e.Client == nil {
				return nil
			}
			for _, s := range e.Client.Scope.Values {
				if s == "openid" {
					return nil
				}
			}
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "scope asked", Where: where(e.Client.Scope.Where), Value: fmt.Sprint(e.Client.Scope.Values)}, e.apiItem(leg)}}
		},
	},
	{
		ID: "userinfo-sub-mismatch", Title: "The userinfo answer is about somebody else",
		Meaning:    "sub of the userinfo answer must be that of the id token. Another one means that the access token was exchanged for another person's.",
		Proof:      "sub in the answer against sub in the id token.",
		Remedy:     []string{"do not use the answer; obtain again, and hand the provider both runs when it stays"},
		References: []string{"OpenID Connect Core 5.3.4"},
		Judge: func(e *Evidence) *Match {
			leg := e.last(run.Userinfo)
			if leg == nil || e.IDTokenSub == "" || e.UserinfoSub == e.IDTokenSub {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "sub of the id token", Where: "the pouch", Value: e.IDTokenSub, Compare: true},
				{What: "sub of userinfo", Where: fmt.Sprintf("leg %d", leg.N), Value: e.UserinfoSub, Compare: true}}}
		},
	},
}

// refusedUserinfo is the userinfo leg when it was refused.
func (e *Evidence) refusedUserinfo() *run.Leg {
	leg := e.last(run.Userinfo)
	if leg == nil || leg.Status() != 400 && leg.Status() != 401 && leg.Status() != 403 {
		return nil
	}
	return leg
}

// personalPath are paths that speak of whoever the token stands for.
var personalPath = lazy(`(?i)/(me|userinfo|user_info|profile|self|myself|current_?user)(/|$)`)

func noUser(e *Evidence) *Match {
	leg := e.refusedUserinfo()
	if e.CarriesGrant == "client_credentials" {
		if l := e.refusedCall(400, 401, 403); leg == nil && l != nil && personalPath().MatchString(strings.SplitN(l.URL, "?", 2)[0]) {
			leg = l
		}
		if leg != nil && insufficientScope(e) == nil && tokenExpired(e) == nil {
			return certain(leg, run.Item{What: "the token was got by", Where: "earlier in the record", Value: e.CarriesGrant}, e.apiItem(leg))
		}
	}
	if leg == nil {
		return nil
	}
	if t := decoded(e.Access); t != nil {
		if r := t.Read(); r.Person != nil && !*r.Person {
			return &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "the token is about", Where: r.About.Why, Value: r.About.Text}, e.apiItem(leg)}}
		}
	}
	if e.Client != nil && e.Client.Grant.Value == "client_credentials" {
		return &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "grant", Where: where(e.Client.Grant.Where), Value: e.Client.Grant.Value}, e.apiItem(leg)}}
	}
	return nil
}
