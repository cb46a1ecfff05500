package finding

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"tidycourier/core/oauth"
	"tidycourier/core/run"
)

// tokenRules are causes and oddities in the token answer.
var tokenRules = []Rule{
	{
		ID: "error-with-status-200", Title: "The server reports an error with a status that means success",
		Meaning:    "RFC 6749 5.2 wants status 400 or 401 for an error. A program that looks at the status alone takes this for a success.",
		Proof:      "A 2xx status with an error member.",
		Remedy:     []string{"read the error beside it; tell the provider about the status"},
		References: []string{"RFC 6749 5.2"},
		Judge: func(e *Evidence) *Match {
			leg, o := e.refusal()
			if o == nil || leg.Status() > 299 {
				return nil
			}
			if raw := rawReply(leg.Exchange.Response); raw == nil || raw.Code == "" {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{e.answerItem(leg, o)}}
		},
	},
	malformedRule(oauth.NotJSON, "The token answer is not readable JSON",
		"RFC 6749 5.1 wants a JSON object. Older servers answer with form-encoded text; a proxy may have cut the answer off.",
		[]string{"ask the provider for a JSON answer; some give one when the request has Accept: application/json, which was sent", "try again, when the answer breaks off in the middle"}),
	malformedRule(oauth.NoAccessToken, "The token answer holds no access token",
		"A JSON object came with a success status, without the member access_token.",
		[]string{"look at what came (journal show): the endpoint may be another one, or the server wraps its answer"}),
	malformedRule(oauth.EmptyAnswer, "The token endpoint answered with nothing",
		"The status came without a body, so the server gives no reason.",
		[]string{"check the request against the provider's documentation: client id, secret, grant and scope", "try it the other way: --auth-method client_secret_post"}),
	oddRule(oauth.OddExpiresMissing, "The server does not say how long the token lives",
		"expires_in is only recommended. Without it a client cannot know when to ask again; the token's own exp claim is used when it has one."),
	oddRule(oauth.OddExpiresNotNumber, "expires_in is not a usable number",
		"It must be a JSON number of seconds, not negative. A number in quotes is read all the same; anything else is left out."),
	oddRule(oauth.OddTypeMissing, "The answer does not say what type of token it is",
		"token_type is required; Bearer is assumed."),
	{
		ID: "scope-narrowed", Title: "Less scope was granted than asked for",
		Meaning:    "The server may give less than was asked, and then must say so. Calls that need the rest will be refused.",
		Proof:      "scope in the answer lacks something that was asked for.",
		Remedy:     []string{"have the scope granted to the client, or agreed to by the person", "stop asking for it, when it is not needed"},
		References: []string{"RFC 6749 3.3", "RFC 6749 5.1"},
		Judge:      scopeNarrowed,
	},
}

func malformedRule(kind, title, meaning string, remedy []string) Rule {
	return Rule{ID: malformedIDs[kind], Try: Test{"tidy-courier obtain CLIENT --dry-run", "shows the request whose answer says nothing"}, Title: title, Meaning: meaning, Proof: "The body as it came.", Remedy: remedy, References: []string{"RFC 6749 5.1"},
		Judge: func(e *Evidence) *Match {
			leg := e.last(run.Token)
			if leg == nil || leg.Status() == 0 || leg.Status() >= 500 || leg.Status() == 404 || leg.Status() == 429 || leg.Status()/100 == 3 {
				return nil
			}
			r := leg.Exchange.Response
			_, err := oauth.ParseTokenResponse(r.Status, r.Header.Get("Content-Type"), r.Body)
			m, ok := err.(*oauth.Malformed)
			if !ok || m.Kind != kind {
				return nil
			}
			items := []run.Item{{What: "what came", Where: fmt.Sprintf("leg %d", leg.N), Value: m.Detail}}
			if kind == oauth.NotJSON && len(bytes.TrimSpace(r.Body)) > 0 {
				items = append(items, run.Item{What: "Content-Type", Where: fmt.Sprintf("leg %d", leg.N), Value: r.Header.Get("Content-Type")})
			}
			c := run.Certain
			if kind == oauth.EmptyAnswer && r.Status >= 400 {
				c = run.Possible // that it says nothing is no cause; something in the request is
			}
			return &Match{Leg: leg.N, Certainty: c, Items: items}
		}}
}

var malformedIDs = map[string]string{oauth.NotJSON: "answer-not-json", oauth.NoAccessToken: "access-token-missing", oauth.EmptyAnswer: "answer-empty"}

// oddRule is a note on an answer that could be used all the same.
func oddRule(odd, title, meaning string) Rule {
	return Rule{ID: odd, Title: title, Meaning: meaning, Proof: "The member as it came.",
		Remedy: []string{"tell the provider; nothing has to be changed here"}, References: []string{"RFC 6749 5.1"},
		Judge: func(e *Evidence) *Match {
			leg := e.last(run.Token)
			if leg == nil || e.Answer == nil || !slices.Contains(e.Answer.Oddities, odd) {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Certain, Note: true, Odd: true,
				Items: []run.Item{{What: "members", Where: fmt.Sprintf("leg %d", leg.N), Value: "see journal show for the answer"}}}
		}}
}

func scopeNarrowed(e *Evidence) *Match {
	leg := e.last(run.Token)
	if leg == nil || e.Answer == nil || e.Answer.Scope == nil {
		return nil
	}
	lacking, _ := oauth.ScopeDifference(e.AskedScope, e.Answer.Scope)
	// these ask for something else than a permission, and many servers do not echo them
	lacking = slices.DeleteFunc(lacking, func(s string) bool { return s == "offline_access" || s == "openid" })
	if len(lacking) == 0 {
		return nil
	}
	asked := run.Item{What: "asked", Where: fmt.Sprintf("leg %d", leg.N), Value: strings.Join(e.AskedScope, " ")}
	if e.Client != nil && e.Client.Scope.Where != "" {
		asked.Where = e.Client.Scope.Where
	}
	return &Match{Leg: leg.N, Certainty: run.Certain, Note: true, Odd: true, Items: []run.Item{asked,
		{What: "granted", Where: fmt.Sprintf("leg %d", leg.N), Value: strings.Join(e.Answer.Scope, " ")},
		{What: "lacking", Where: "", Value: strings.Join(lacking, " ")}}}
}
