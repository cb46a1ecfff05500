package finding

import (
	"net/url"
	"slices"
	"strings"

	"tidycourier/core/oauth"
	"tidycourier/core/run"
)

// authorizationRules are causes at the authorization endpoint and in the answer
// that came back through the browser.
var authorizationRules = []Rule{
	{
		ID: "state-mismatch", Title: "The answer carries another state than the request",
		Meaning:    "The state ties an answer to the request it belongs to. Another one means that the answer belongs to another run (an old tab, an old link), or that somebody slipped it in. It was refused and its code was not used.",
		Proof:      "The two values differ.",
		Remedy:     []string{"run obtain again, and use only the page it opens", "when the server changes the state on its way, tell the provider: it must come back as it was sent"},
		References: []string{"RFC 6749 10.12", "RFC 6749 4.1.2"},
		Judge: person(func(e *Evidence, p *Person, leg *run.Leg) *Match {
			if p.Response.State == "" || p.Request.State == "" || p.Response.State == p.Request.State {
				return nil
			}
			return certain(leg, pair("state sent", e.authPlace(), p.Request.State, "state in the answer", legPlace(leg), p.Response.State)...)
		}),
	},
	{
		ID: "state-missing", Title: "The answer carries no state",
		Meaning:    "A state was sent, and the server must give it back unchanged. Without it an answer cannot be told from one that somebody slipped in, so it was refused.",
		Proof:      "state was in the request and is not in the answer.",
		Remedy:     []string{"copy the whole address when pasting, with everything behind the ?", "when the server drops it, tell the provider (RFC 6749 4.1.2 makes it required)"},
		References: []string{"RFC 6749 4.1.2"},
		Judge: person(func(e *Evidence, p *Person, leg *run.Leg) *Match {
			if p.Response.State != "" || p.Request.State == "" || p.Response.Via == "code" || p.Response.Code == "" && p.Response.Err == nil && p.Response.AccessToken == "" {
				return nil
			}
			return certain(leg, run.Item{What: "state sent", Where: e.authPlace(), Value: p.Request.State}, run.Item{What: "state in the answer", Where: legPlace(leg), Value: "absent"})
		}),
	},
	{
		ID: "iss-mismatch", Title: "The answer comes from another issuer than the one asked",
		Meaning:    "The iss parameter names who answered. A difference is the sign of a mix-up between two servers, by mistake or on purpose; the code was not used.",
		Proof:      "iss in the answer against the issuer of the metadata.",
		Remedy:     []string{"check issuer in the courier file, with its slash at the end", "run obtain again, and use only the page it opens"},
		References: []string{"RFC 9207 2.4"},
		Judge: person(func(e *Evidence, p *Person, leg *run.Leg) *Match {
			if p.Response.Issuer == "" || e.Metadata == nil || e.Metadata.Issuer == "" || p.Response.Issuer == e.Metadata.Issuer {
				return nil
			}
			return certain(leg, pair("issuer asked", "metadata", e.Metadata.Issuer, "iss in the answer", legPlace(leg), p.Response.Issuer)...)
		}),
	},
	{
		ID: "code-missing", Title: "The code is missing",
		Meaning:    "The browser came back without code and without error: the page was not the end of the sign-in, or only part of the address was pasted.",
		Proof:      "Neither code nor error is among the parameters.",
		Remedy:     []string{"paste the address the browser ends up at after agreeing, whole", "check response_type: it must be code"},
		References: []string{"RFC 6749 4.1.2"},
		Judge: either(codeNotSent, person(func(e *Evidence, p *Person, leg *run.Leg) *Match {
			r := p.Response
			if r.Code != "" || r.Err != nil || r.AccessToken != "" {
				return nil
			}
			var names []string
			for n := range r.Values {
				names = append(names, n)
			}
			slices.Sort(names)
			return certain(leg, run.Item{What: "parameters that came", Where: legPlace(leg), Value: orNone(strings.Join(names, ", "))})
		})),
	},
	{
		ID: "token-endpoint-used-as-authorization-endpoint", Title: "The browser was sent to the token endpoint",
		Meaning: "The two endpoints were exchanged, or are set to the same URL. The token endpoint shows no page, so nobody could sign in.", Proof: "The address the browser was sent to is the token endpoint.",
		Remedy:     []string{"set authorization_endpoint to the authorization endpoint, or remove it and let discovery find it"},
		References: []string{"RFC 6749 3"},
		Judge: func(e *Evidence) *Match {
			leg := e.last(run.Authorization)
			if leg == nil || e.Person == nil || e.Person.Response != nil {
				return nil
			}
			if e.Foreign {
				at, _, _ := strings.Cut(leg.URL, "?")
				byMetadata := e.Metadata != nil && e.Metadata.TokenEndpoint != "" && sameEndpoint(at, e.Metadata.TokenEndpoint)
				if leg.Status() < 400 || !byMetadata && !strings.HasSuffix(strings.TrimRight(at, "/"), "/token") {
					return nil
				}
				return certain(leg, run.Item{What: "the browser was sent to", Where: legPlace(leg), Value: at})
			}
			if e.Metadata == nil || e.Metadata.TokenEndpoint == "" || !sameEndpoint(e.Metadata.AuthorizationEndpoint, e.Metadata.TokenEndpoint) {
				return nil
			}
			place := "metadata"
			if e.Client != nil && e.Client.Server != nil && e.Client.Server.Endpoints["authorization_endpoint"].Where != "" {
				place = e.Client.Server.Endpoints["authorization_endpoint"].Where
			}
			return certain(leg, run.Item{What: "authorization_endpoint", Where: place, Value: e.Metadata.AuthorizationEndpoint}, run.Item{What: "token_endpoint", Where: "the settings or metadata", Value: e.Metadata.TokenEndpoint})
		},
	},
	{
		ID: "redirect-not-received", Title: "No answer came back",
		Meaning:    "The browser never reached the redirect URI. Either nobody finished the sign-in, or the server shows an error page of its own (an unknown client or a redirect URI that is not registered is never redirected), or the browser runs on another machine.",
		Proof:      "Nothing arrived at the listener within the time.",
		Remedy:     []string{"look at the page in the browser: what it says about the client or the redirect URI is the cause", "give it more time: --timeout 10m", "on another machine: --paste takes the address the browser ends up at"},
		References: []string{"RFC 6749 4.1.2.1", "RFC 8252 7.3"},
		Judge:      notReceived,
	},
	{
		ID: "consent-denied", Title: "The person, or a rule of the server, refused",
		Meaning:    "access_denied means that somebody pressed the refusing button, or that the account may not use this application.",
		Proof:      "access_denied in the answer.",
		Remedy:     []string{"run obtain again and agree", "when the page never asked, the server refuses this account or client by rule: ask its administrator"},
		References: []string{"RFC 6749 4.1.2.1"},
		Judge:      either(refusedBy(run.Certain, oauth.ErrAccessDenied), ownPage(oauth.ErrAccessDenied)),
	},
	{
		ID: "login-required", Title: "Nobody is signed in, and asking was forbidden",
		Meaning: "prompt=none forbids the server to show a page.", Proof: "login_required.",
		Remedy:     []string{"run it without --prompt none"},
		References: []string{"OpenID Connect Core 3.1.2.6"},
		Judge:      either(refusedBy(run.Certain, oauth.ErrLoginRequired), ownPage(oauth.ErrLoginRequired)),
	},
	{
		ID: "consent-required", Title: "The person has not agreed yet, and asking was forbidden",
		Meaning: "prompt=none forbids the server to show the page.", Proof: "consent_required.",
		Remedy:     []string{"run it once without --prompt none, and agree"},
		References: []string{"OpenID Connect Core 3.1.2.6"},
		Judge:      refusedBy(run.Certain, oauth.ErrConsentRequired),
	},
	{
		ID: "interaction-required", Title: "The server needs to ask the person something, and asking was forbidden",
		Meaning: "prompt=none forbids the server to show a page.", Proof: "interaction_required or account_selection_required.",
		Remedy:     []string{"run it without --prompt none"},
		References: []string{"OpenID Connect Core 3.1.2.6"},
		Judge:      refusedBy(run.Certain, oauth.ErrInteractionRequired, oauth.ErrAccountSelection),
	},
	{
		ID: "unsupported-response-type", Title: "The server does not offer this response type",
		Meaning: "response_type asks for something the server, or this client's registration, does not have.", Proof: "unsupported_response_type.",
		Remedy:     []string{"use response_type: code, which is the default"},
		References: []string{"RFC 6749 4.1.2.1"},
		Judge: func(e *Evidence) *Match {
			if e.Person != nil && e.Person.Request != nil && sentParam(e.Person.Request, "response_type") == "" {
				return nil // there is none to be refused
			}
			return either(refusedBy(run.Certain, oauth.ErrUnsupportedResponseType), ownPage(oauth.ErrUnsupportedResponseType), responseTypeRefused, responseTypeUnheard)(e)
		},
	},
	{
		ID: "scope-wrongly-separated", Title: "The scopes are joined with something else than spaces",
		Meaning:    "A comma or a plus sign inside a scope is part of its name; the server looks for one long scope that it does not know.",
		Proof:      "A scope that was sent has a comma or a plus sign in it, and the scope was refused.",
		Remedy:     []string{"write the scopes as a list: scope: [a, b], or with spaces: --scope 'a b'"},
		References: []string{"RFC 6749 3.3"},
		Judge: either(wronglySeparated, refusedScope(func(e *Evidence, leg *run.Leg) *Match {
			for _, s := range e.AskedScope {
				if strings.ContainsAny(s, ",+;") {
					return certain(leg, e.scopeItems(leg, answerOf(e, leg))...)
				}
			}
			return nil
		})),
	},
	requestParamRule("response-type-missing", "The authorization request says no response type", "response_type is required.", "response_type", "remove response_type from parameters", "RFC 6749 4.1.1"),
	requestParamRule("scope-missing", "The server wants a scope, and none was asked for", "A server may refuse a request without scope, or take a default.", "scope", "add scope: to the client", "RFC 6749 3.3"),
	requestParamRule("nonce-required", "The server wants a nonce, and none was sent", "Where an id token comes straight from the authorization endpoint, a nonce is required; some servers always want one.", "nonce", "ask for the scope openid, which sends one, or add nonce to parameters", "OpenID Connect Core 3.2.2.1"),
	{
		ID: "pkce-challenge-is-the-verifier", Title: "The verifier itself was sent as the challenge",
		Meaning: "With S256 the challenge is the SHA-256 of the verifier; sending the verifier gives the secret away and never fits.", Proof: "The challenge that was sent equals the verifier, and the method is S256.",
		Remedy:     []string{"remove code_challenge from parameters"},
		References: []string{"RFC 7636 4.2"},
		Judge: refusedRequest(func(e *Evidence, p *Person, leg *run.Leg, _ string) *Match {
			challenge, method := sentChallenge(p.Request)
			if challenge == "" || challenge != p.Verifier || method != oauth.PKCES256 {
				return nil
			}
			return certain(leg, run.Item{What: "code_challenge", Where: e.authPlace(), Value: "the verifier itself"}, answerOf(e, leg))
		}),
	},
	{
		ID: "pkce-challenge-malformed", Title: "The code challenge is not well formed",
		Meaning: "A challenge has 43 to 128 characters of A-Z a-z 0-9 - . _ ~, without padding.", Proof: "The challenge as it was sent.",
		Remedy:     []string{"remove code_challenge from parameters, so that it is made from the verifier"},
		References: []string{"RFC 7636 4.2"},
		Judge: refusedRequest(func(e *Evidence, p *Person, leg *run.Leg, _ string) *Match {
			challenge, _ := sentChallenge(p.Request)
			if challenge == "" {
				return nil
			}
			if err := oauth.CheckVerifier(challenge); err != nil {
				return certain(leg, run.Item{What: "code_challenge", Where: e.authPlace(), Value: challenge}, answerOf(e, leg))
			}
			return nil
		}),
	},
	{
		ID: "redirect-uri-double-encoded", Title: "The redirect URI was percent-encoded twice",
		Meaning: "redirect_uri in the settings has escapes in it, and is encoded once more when it is sent.", Proof: "The value holds escapes of characters that an address has plainly.",
		Remedy:     []string{"write redirect_uri plainly in the courier file; encoding is done when it is sent"},
		References: []string{"RFC 6749 3.1.2"},
		Judge: func(e *Evidence) *Match {
			leg := e.last(run.Authorization)
			if leg == nil || e.Person == nil || e.Person.Request == nil || e.Person.Response != nil && e.Person.Response.Err == nil {
				return nil
			}
			v := sentParam(e.Person.Request, "redirect_uri")
			if plain, err := url.QueryUnescape(v); err != nil || !strings.Contains(strings.ToLower(v), "%3a") && !strings.Contains(strings.ToLower(v), "%2f") || plain == v {
				return nil
			}
			place := e.authPlace()
			if e.Client != nil && e.Client.RedirectURI.Where != "" {
				place = e.Client.RedirectURI.Where
			}
			return certain(leg, run.Item{What: "redirect_uri", Where: place, Value: v})
		},
	},
	{
		ID: "pkce-required", Title: "The server wants PKCE, and no challenge was sent",
		Meaning: "Many servers require a code challenge from public clients, or from all.", Proof: "invalid_request, and the request had no code_challenge.",
		Remedy:     []string{"remove code_challenge_method: none, so that S256 is used"},
		References: []string{"RFC 7636 4.4.1", "RFC 9700 2.1.1"},
		Judge: refusedRequest(func(e *Evidence, p *Person, leg *run.Leg, says string) *Match {
			if p.Request.CodeChallenge != "" {
				return nil
			}
			c := run.Possible
			if e.Person.Response == nil && !said(says, "pkce", "code challenge", "proof key") {
				return nil
			}
			if said(says, "pkce", "code_challenge", "code challenge", "proof key") {
				c = run.Certain
			}
			return &Match{Leg: leg.N, Certainty: c, Items: []run.Item{{What: "code_challenge", Where: e.challengePlace(), Value: "not sent"}, answerOf(e, leg)}}
		}),
	},
	{
		ID: "pkce-method-unsupported", Title: "The server does not take this code challenge method",
		Try:     Test{"tidy-courier vet CLIENT", "tells which methods the server offers"},
		Meaning: "plain is often refused, S256 hardly ever.", Proof: "invalid_request, and the metadata does not list the method, or the server's words name it.",
		Remedy:     []string{"set code_challenge_method: S256, or remove the line"},
		References: []string{"RFC 7636 4.4.1"},
		Judge: refusedRequest(func(e *Evidence, p *Person, leg *run.Leg, says string) *Match {
			m := p.Request.CodeChallengeMethod
			listed := e.Metadata != nil && len(e.Metadata.CodeChallengeMethodsSupported) > 0
			unlisted := listed && !slices.Contains(e.Metadata.CodeChallengeMethodsSupported, m)
			if m == "" || !unlisted && !said(says, "code_challenge_method", "challenge method", "transform algorithm") {
				return nil
			}
			items := []run.Item{{What: "code_challenge_method", Where: e.challengePlace(), Value: m}, answerOf(e, leg)}
			if listed {
				items = append(items, run.Item{What: "the metadata offers", Where: "code_challenge_methods_supported", Value: strings.Join(e.Metadata.CodeChallengeMethodsSupported, " ")})
			}
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: items}
		}),
	},
	{
		ID: "wrong-prompt-combination", Title: "prompt=none stands with other values",
		Meaning: "none forbids every page, so it cannot stand with login or consent.", Proof: "The prompt that was sent.",
		Remedy:     []string{"give --prompt one of none, login, consent"},
		References: []string{"OpenID Connect Core 3.1.2.1"},
		Judge: refusedRequest(func(e *Evidence, p *Person, leg *run.Leg, _ string) *Match {
			if f := strings.Fields(p.Request.Prompt); len(f) < 2 || !slices.Contains(f, "none") {
				return nil
			}
			return certain(leg, run.Item{What: "prompt", Where: e.authPlace(), Value: p.Request.Prompt}, answerOf(e, leg))
		}),
	},
	{
		ID: "pushed-request-required", Title: "The server wants the request pushed to it first",
		Try:     Test{"tidy-courier discover ISSUER", "tells whether the server requires pushed requests"},
		Meaning: "Some servers take authorization requests only by way of a pushed request.", Proof: "invalid_request, and the metadata names the endpoint or the server's words do.",
		Remedy:     []string{"ask the provider whether this client can be excepted; this program cannot push requests yet"},
		References: []string{"RFC 9126 5"},
		Judge: refusedRequest(func(e *Evidence, p *Person, leg *run.Leg, says string) *Match {
			if !said(says, "pushed", "par is required", "request_uri") {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{answerOf(e, leg)}}
		}),
	},
	{
		ID: "request-malformed", Title: "The server finds the authorization request wrong",
		Try:     Test{"tidy-courier obtain CLIENT --dry-run", "shows every parameter as it is sent"},
		Meaning: "invalid_request at the authorization endpoint: a parameter is missing, doubled or malformed. The server's words are all there is.", Proof: "invalid_request, and no other rule knows why.",
		Remedy:     []string{"look at every parameter as it was sent: tidy-courier obtain CLIENT --dry-run"},
		References: []string{"RFC 6749 4.1.2.1"},
		Judge: refusedRedirect(func(e *Evidence, p *Person, leg *run.Leg, _ string) *Match {
			return &Match{Leg: leg.N, Certainty: run.Possible, Items: []run.Item{answerOf(e, leg)}}
		}),
	},
	{
		ID: "answer-in-fragment", Title: "The answer came behind the #, which servers never see",
		Meaning: "The server used response_mode=fragment without being asked. A program that reads the query finds nothing.", Proof: "The code stood in the fragment.",
		Remedy:     []string{"set response_mode: query, when the server offers it"},
		References: []string{"OAuth 2.0 Multiple Response Type Encoding Practices 2.1"},
		Judge: person(func(e *Evidence, p *Person, leg *run.Leg) *Match {
			if p.Response.Via != "fragment" || p.Request.ResponseMode != "" || p.Request.ResponseType != "code" {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Certain, Note: true, Items: []run.Item{{What: "the code stood", Where: legPlace(leg), Value: "in the fragment"}}}
		}),
	},
	{
		ID: "implicit-discouraged", Title: "The implicit form is discouraged",
		Meaning: "A token in an address ends up in histories and logs, and cannot be bound to this client. RFC 9700 says not to use it.", Proof: "response_type token.",
		Remedy:     []string{"use response_type: code with PKCE, which works for every client that can use this one"},
		References: []string{"RFC 9700 2.1.2"},
		Judge: person(func(e *Evidence, p *Person, leg *run.Leg) *Match {
			if p.Request.ResponseType != "token" || p.Response.AccessToken == "" {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Certain, Note: true, Items: []run.Item{{What: "response_type", Where: e.authPlace(), Value: "token"}}}
		}),
	},
}

// responseTypeRefused is the same under another code, told by the server's words.
var responseTypeRefused = refusedRequest(func(e *Evidence, p *Person, leg *run.Leg, says string) *Match {
	if sentParam(p.Request, "response_type") == "" || !said(says, "response_type", "responsetype") || !said(says, "not allowed", "not supported", "unsupported", "not permitted", "invalid", "unknown", "not enabled") {
		return nil
	}
	return certain(leg, run.Item{What: "response_type", Where: e.authPlace(), Value: sentParam(p.Request, "response_type")}, answerOf(e, leg))
})
