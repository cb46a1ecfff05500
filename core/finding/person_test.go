package finding

import (
	"net/url"
	"strings"
	"time"

	"tidycourier/core/oauth"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/run"
)

// healthyCode is a run that obtained tokens with a person.
func healthyCode() *Evidence {
	e := healthyToken()
	verifier := "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
	req := &oauth.AuthorizationRequest{ResponseType: "code", ClientID: "job", RedirectURI: "http://127.0.0.1:8651/landing", State: "sent-state", Nonce: "sent-nonce",
		CodeChallenge: "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM", CodeChallengeMethod: "S256"}
	resp := oauth.ReadAuthorizationValues(url.Values{"code": {"abc-1234"}, "state": {"sent-state"}, "iss": {"https://h"}}, "query")
	e.Person = &Person{Request: req, Response: &resp, Verifier: verifier, At: noon.Add(-5 * time.Second)}
	e.AskedScope = []string{"gauges.read", "offline_access"}
	e.Client.Grant.Value = "authorization_code"
	tok := e.Legs[1]
	tok.N = 4
	tok.Exchange.Request.Body = []byte("grant_type=authorization_code&code=abc-1234&redirect_uri=http%3A%2F%2F127.0.0.1%3A8651%2Flanding&code_verifier=" + verifier)
	e.Legs = []run.Leg{e.Legs[0], {N: 2, Kind: run.Authorization}, {N: 3, Kind: run.Landing, Inbound: true, Answer: &resp}, tok}
	e.Answer.RefreshToken = "r"
	return e
}

// came changes the answer that came back through the browser; no token request
// follows.
func came(pairs ...string) edit {
	return func(e *Evidence) {
		v := url.Values{"state": {"sent-state"}, "iss": {"https://h"}}
		for i := 0; i+1 < len(pairs); i += 2 {
			v.Set(pairs[i], pairs[i+1])
			if pairs[i+1] == "" {
				v.Del(pairs[i])
			}
		}
		resp := oauth.ReadAuthorizationValues(v, "query")
		e.Person.Response, e.Legs, e.Answer = &resp, e.Legs[:3], nil
	}
}

func sent(from, to string) edit {
	return func(e *Evidence) {
		x := e.Legs[len(e.Legs)-1].Exchange
		x.Request.Body = []byte(strings.Replace(string(x.Request.Body), from, to, 1))
	}
}

func asked(f func(r *oauth.AuthorizationRequest)) edit {
	return func(e *Evidence) { f(e.Person.Request) }
}

func spentBefore(kind string) edit {
	return func(e *Evidence) {
		e.Spent = func(k, _ string) *Spent {
			if k != kind {
				return nil
			}
			return &Spent{Run: 3, At: noon}
		}
	}
}

func byGrant(form string) func() *Evidence {
	return func() *Evidence {
		e := healthyToken()
		e.Legs[1].Exchange.Request.Body = []byte(form)
		e.Answer.RefreshToken = "new"
		return e
	}
}

var (
	refreshing = byGrant("grant_type=refresh_token&refresh_token=rt-1")
	withPass   = byGrant("grant_type=password&username=keeper&password=x")
	grantNo    = refusal(400, "invalid_grant", "")
)

func idTokenFault(text string) edit {
	return func(e *Evidence) { e.Answer.IDToken, e.IDTokenFault = jwt(`{"aud":"other","nonce":"x"}`), text }
}

var personCases = []ruleCase{
	{"state-mismatch", run.Certain, healthyCode, []edit{came("code", "c", "state", "other")}, []edit{came("code", "c")}},
	{"state-missing", run.Certain, healthyCode, []edit{came("code", "c", "state", "")}, []edit{came("code", "c", "state", ""), func(e *Evidence) { e.Person.Response.Via = "code" }}},
	{"iss-mismatch", run.Certain, healthyCode, []edit{came("code", "c", "iss", "https://h/")}, []edit{came("code", "c", "iss", "")}},
	{"code-missing", run.Certain, healthyCode, []edit{came()}, []edit{came("error", "access_denied")}},
	{"consent-denied", run.Certain, healthyCode, []edit{came("error", "access_denied")}, []edit{came("error", "access_denied", "state", "other")}},
	{"login-required", run.Certain, healthyCode, []edit{came("error", "login_required")}, []edit{came("error", "consent_required")}},
	{"consent-required", run.Certain, healthyCode, []edit{came("error", "consent_required")}, []edit{came("error", "login_required")}},
	{"interaction-required", run.Certain, healthyCode, []edit{came("error", "account_selection_required")}, []edit{came("error", "login_required")}},
	{"unsupported-response-type", run.Certain, healthyCode, []edit{came("error", "unsupported_response_type")}, []edit{came("error", "invalid_request")}},
	{"grant-not-allowed-for-client", run.Certain, healthyCode, []edit{came("error", "unauthorized_client")}, []edit{came("error", "invalid_request")}},
	{"server-error-temporary", run.Certain, healthyCode, []edit{came("error", "temporarily_unavailable")}, []edit{came("error", "invalid_request")}},
	{"scope-wrongly-separated", run.Certain, healthyCode, []edit{came("error", "invalid_scope"), func(e *Evidence) { e.AskedScope = []string{"a,b"} }}, []edit{came("error", "invalid_scope")}},
	{"invalid-scope-asked", run.Certain, healthyCode, []edit{came("error", "invalid_scope")}, []edit{came("error", "invalid_request")}},
	{"pkce-required", run.Certain, healthyCode, []edit{came("error", "invalid_request", "error_description", "Code challenge required"), asked(func(r *oauth.AuthorizationRequest) { r.CodeChallenge = "" })},
		[]edit{came("error", "invalid_request", "error_description", "Code challenge required")}},
	{"pkce-method-unsupported", run.Likely, healthyCode, []edit{came("error", "invalid_request"), func(e *Evidence) {
		e.Metadata.CodeChallengeMethodsSupported = []string{"S256"}
		e.Person.Request.CodeChallengeMethod = "plain"
	}}, []edit{came("error", "invalid_request"), func(e *Evidence) { e.Metadata.CodeChallengeMethodsSupported = []string{"S256"} }}},
	{"wrong-prompt-combination", run.Certain, healthyCode, []edit{came("error", "invalid_request"), asked(func(r *oauth.AuthorizationRequest) { r.Prompt = "none login" })},
		[]edit{came("error", "invalid_request"), asked(func(r *oauth.AuthorizationRequest) { r.Prompt = "none" })}},
	{"pushed-request-required", run.Likely, healthyCode, []edit{came("error", "invalid_request", "error_description", "Pushed Authorization Request must be used")}, []edit{came("error", "invalid_request")}},
	{"request-malformed", run.Possible, healthyCode, []edit{came("error", "invalid_request")}, []edit{came("error", "invalid_scope")}},
	{"answer-in-fragment", run.Certain, healthyCode, []edit{func(e *Evidence) { e.Person.Response.Via = "fragment" }},
		[]edit{func(e *Evidence) { e.Person.Response.Via, e.Person.Request.ResponseMode = "fragment", "fragment" }}},
	{"implicit-discouraged", run.Certain, healthyCode, []edit{came("access_token", "a"), asked(func(r *oauth.AuthorizationRequest) { r.ResponseType = "token" })}, []edit{came("access_token", "a")}},
	{"token-endpoint-used-as-authorization-endpoint", run.Certain, healthyCode, []edit{func(e *Evidence) {
		e.Legs, e.Person.Response, e.Person.TimedOut, e.Answer, e.Metadata.AuthorizationEndpoint = e.Legs[:2], nil, time.Minute, nil, "https://h/token"
	}}, []edit{func(e *Evidence) {
		e.Legs, e.Person.Response, e.Person.TimedOut, e.Answer = e.Legs[:2], nil, time.Minute, nil
	}}},
	{"redirect-not-received", run.Certain, healthyCode, []edit{func(e *Evidence) {
		e.Legs, e.Person.Response, e.Person.TimedOut, e.Answer = e.Legs[:2], nil, time.Minute, nil
	}}, nil},
	{"redirect-not-received", run.Certain, healthyCode, []edit{func(e *Evidence) {
		e.Legs, e.Person.Response, e.Person.TimedOut, e.Answer, e.Person.Strays = e.Legs[:2], nil, time.Minute, nil, []string{"GET /other"}
	}}, nil},

	{"code-reused", run.Certain, healthyCode, []edit{grantNo, spentBefore("code")}, []edit{refusal(400, "invalid_grant", "code has expired"), spentBefore("refresh_token")}},
	{"code-reused", run.Likely, healthyCode, []edit{refusal(400, "invalid_request", "code has already been used")}, []edit{refusal(400, "invalid_request", "code is wrong")}},
	{"code-garbled", run.Certain, healthyCode, []edit{grantNo, sent("abc-1234", "abc-123")}, []edit{refusal(400, "invalid_client", "")}},
	{"code-garbled", run.Likely, healthyCode, []edit{grantNo, sent("abc-1234", "abc%252F1"), func(e *Evidence) { e.Person = nil }}, []edit{refusal(400, "invalid_client", ""), func(e *Evidence) { e.Person = nil }}},
	{"code-expired", run.Likely, healthyCode, []edit{grantNo, func(e *Evidence) { e.Person.Resumed, e.Person.At = true, noon.Add(-time.Hour) }}, []edit{grantNo, func(e *Evidence) { e.Person.Resumed = true }}},
	{"code-expired", run.Likely, healthyCode, []edit{refusal(400, "invalid_grant", "Code expired")}, []edit{refusal(400, "invalid_client", "secret expired")}},
	{"redirect-uri-mismatch", run.Certain, healthyCode, []edit{grantNo, sent("127.0.0.1", "localhost")}, []edit{grantNo}},
	{"redirect-uri-mismatch", run.Certain, healthyCode, []edit{answer(400, "", ""), sent("landing", "landing%2F")}, []edit{answer(400, "", "")}},
	{"redirect-uri-missing", run.Certain, healthyCode, []edit{refusal(400, "invalid_request", ""), sent("redirect_uri=", "x=")}, []edit{refusal(400, "invalid_request", "")}},
	{"pkce-verifier-missing", run.Certain, healthyCode, []edit{grantNo, sent("&code_verifier", "&x")}, []edit{grantNo}},
	{"pkce-verifier-mismatch", run.Certain, healthyCode, []edit{grantNo, sent("dBjft", "dBjfT")}, []edit{grantNo}},
	{"pkce-challenge-was-missing", run.Certain, healthyCode, []edit{grantNo, asked(func(r *oauth.AuthorizationRequest) { r.CodeChallenge = "" })}, []edit{grantNo}},
	{"code-from-other-client", run.Likely, healthyCode, []edit{refusal(400, "invalid_grant", "code was issued to another client")}, []edit{grantNo}},
	{"code-missing", run.Certain, healthyCode, []edit{refusal(400, "invalid_request", ""), sent("code=abc-1234", "x=1")}, []edit{refusal(400, "invalid_request", "")}},
	{"code-garbled", run.Likely, healthyCode, []edit{refusal(400, "invalid_grant", "Code not valid")}, []edit{refusal(400, "invalid_grant", "Code has expired")}},
	{"resource-or-audience-unknown", run.Certain, healthyCode, []edit{refusal(400, "invalid_target", ""), sent("grant_type", "audience=x&grant_type")}, []edit{refusal(400, "invalid_scope", "")}},
	{"nonce-mismatch", run.Certain, healthyCode, []edit{idTokenFault("its nonce is not the one that was sent")}, nil},
	{"at-hash-mismatch", run.Certain, healthyCode, []edit{idTokenFault("its at_hash does not fit the access token")}, nil},
	{"id-token-for-another-client", run.Certain, healthyCode, []edit{idTokenFault("it is for other, not for this client")}, nil},
	{"id-token-expired", run.Certain, healthyCode, []edit{idTokenFault("it has expired, or carries no exp")}, nil},
	{"no-refresh-token-given", run.Certain, healthyCode, []edit{func(e *Evidence) { e.Answer.RefreshToken = "" }}, nil},

	{"response-type-missing", run.Certain, healthyCode, []edit{came("error", "invalid_request"), asked(func(r *oauth.AuthorizationRequest) { r.ResponseType = "" })}, []edit{came("error", "invalid_request")}},
	{"scope-missing", run.Certain, healthyCode, []edit{came("error", "invalid_scope", "error_description", "scope is required")},
		[]edit{came("error", "invalid_scope", "error_description", "scope is required"), asked(func(r *oauth.AuthorizationRequest) { r.Scope = []string{"a"} })}},
	{"nonce-required", run.Certain, healthyCode, []edit{came("error", "invalid_request", "error_description", "missing nonce"), asked(func(r *oauth.AuthorizationRequest) { r.Nonce = "" })},
		[]edit{came("error", "invalid_request", "error_description", "missing nonce")}},
	{"pkce-challenge-malformed", run.Certain, healthyCode, []edit{came("error", "invalid_request"), asked(func(r *oauth.AuthorizationRequest) { r.CodeChallenge = "short" })}, []edit{came("error", "invalid_request")}},
	{"pkce-challenge-is-the-verifier", run.Certain, healthyCode, []edit{came("error", "invalid_request"), func(e *Evidence) { e.Person.Request.CodeChallenge = e.Person.Verifier }}, []edit{came("error", "invalid_request")}},
	{"redirect-uri-double-encoded", run.Certain, healthyCode, []edit{came("error", "invalid_request"), asked(func(r *oauth.AuthorizationRequest) { r.RedirectURI = "http%3A%2F%2F127.0.0.1%2Flanding" })}, []edit{came("error", "invalid_request")}},

	{"authorization-endpoint-used-as-token-endpoint", run.Certain, healthyToken, []edit{answer(400, "text/html", aPage), func(e *Evidence) { e.Metadata.AuthorizationEndpoint = "https://h/token" }}, []edit{answer(400, "text/html", aPage)}},
	{"other-endpoint-called", run.Certain, healthyToken, []edit{answer(401, "", ""), func(e *Evidence) { e.Metadata.UserinfoEndpoint = "https://h/token/" }}, []edit{answer(401, "", "")}},
	{"id-and-secret-swapped", run.Likely, healthyToken, []edit{answer(401, "", ""), secret("job"), settings(func(c *project.Client) { c.ClientID.Value = "9fKd82mZpQ71xYw3TtLb6VcR" })}, []edit{answer(401, "", ""), secret("job")}},
	{"client-id-conflict", run.Certain, healthyToken, []edit{refusal(400, "invalid_request", ""), sent("client_id=job", "client_id=other")}, []edit{refusal(400, "invalid_request", "")}},
	{"double-client-authentication", run.Certain, healthyToken, []edit{refusal(400, "invalid_request", ""), sent("scope", "client_secret=x&scope")}, []edit{refusal(400, "invalid_request", "")}},
	{"empty-secret-sent", run.Certain, healthyToken, []edit{refusal(401, "invalid_client", ""), sent("scope", "client_secret=&scope")}, []edit{refusal(401, "invalid_client", "")}},
	{"missing-grant-type", run.Certain, healthyToken, []edit{refusal(400, "invalid_request", ""), sent("grant_type=client_credentials", "grant_type=")}, []edit{refusal(400, "invalid_request", "")}},
	{"username-missing", run.Certain, withPass, []edit{refusal(400, "invalid_request", ""), sent("username=keeper", "username=")}, []edit{refusal(400, "invalid_request", "")}},
	{"refresh-token-missing", run.Certain, refreshing, []edit{refusal(400, "invalid_request", ""), sent("refresh_token=", "nothing=")}, []edit{refusal(400, "invalid_request", "")}},
	{"value-in-wrong-parameter", run.Likely, healthyCode, []edit{grantNo, sent("abc-1234", jwt(`{"sub":"x"}`)), func(e *Evidence) { e.Person = nil }}, []edit{grantNo}},
	{"value-in-wrong-parameter", run.Certain, refreshing, []edit{grantNo, spentBefore("code")}, []edit{grantNo}},
	{"value-double-encoded", run.Certain, healthyToken, []edit{refusal(400, "invalid_scope", ""), sent("gauges.read", "gauges%252Eread")}, []edit{refusal(400, "invalid_scope", "")}},
	{"pkce-method-mismatch", run.Certain, healthyCode, []edit{grantNo, asked(func(r *oauth.AuthorizationRequest) { r.CodeChallengeMethod = "plain" })}, []edit{grantNo}},
	{"resource-and-scope-conflict", run.Likely, healthyToken, []edit{refusal(400, "invalid_request", "the resource does not match the scope"), sent("scope", "resource=x&scope")}, []edit{refusal(400, "invalid_request", "the scope")}},
	{"secret-not-url-encoded", run.Possible, healthyToken, []edit{refusal(401, "invalid_client", ""), secret("a+b/c==")}, []edit{refusal(401, "invalid_client", ""), secret("abc")}},

	{"refresh-token-reused", run.Certain, refreshing, []edit{grantNo, spentBefore("refresh_token")}, []edit{grantNo, spentBefore("code")}},
	{"refresh-token-expired-or-revoked", run.Likely, refreshing, []edit{grantNo}, []edit{refusal(401, "invalid_client", "")}},
	{"refresh-token-of-other-client", run.Likely, refreshing, []edit{refusal(400, "invalid_grant", "was issued to another client")}, []edit{grantNo}},
	{"refresh-scope-widened", run.Certain, refreshing, []edit{refusal(400, "invalid_scope", ""), sent("grant_type", "scope=a+b&grant_type"), func(e *Evidence) { e.RefreshOf = &pouch.Set{Scope: []string{"a"}} }},
		[]edit{refusal(400, "invalid_scope", "")}},
	{"refresh-token-not-rotated", run.Certain, refreshing, []edit{func(e *Evidence) { e.Client.Secret, e.Answer.RefreshToken = nil, "" }}, []edit{func(e *Evidence) { e.Answer.RefreshToken = "" }}},
	{"wrong-user-password", run.Likely, withPass, []edit{grantNo}, []edit{refusal(400, "invalid_request", "")}},
	{"user-needs-interaction", run.Likely, withPass, []edit{refusal(400, "invalid_grant", "multi-factor authentication required")}, []edit{grantNo}},
	{"password-grant-discouraged", run.Certain, withPass, []edit{func(e *Evidence) { e.First = true }}, nil},
}
