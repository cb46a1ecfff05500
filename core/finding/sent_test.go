package finding

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

func body(text string) edit {
	return func(e *Evidence) { e.Legs[len(e.Legs)-1].Exchange.Request.Body = []byte(text) }
}

func at(method, address string) edit {
	return func(e *Evidence) { l := &e.Legs[len(e.Legs)-1]; l.Method, l.URL = method, address }
}

func edits(list ...edit) []edit { return list }

var (
	clientNo  = refusal(401, "invalid_client", "")
	requestNo = refusal(400, "invalid_request", "")
	foreign   = func(e *Evidence) { e.Foreign = true }
)

// asserting sends a client assertion with the claims, signed by nobody.
func asserting(claims, head string) edit {
	if head == "" {
		head = `{"alg":"RS256","kid":"k1"}`
	}
	enc := base64.RawURLEncoding.EncodeToString
	return func(e *Evidence) {
		request("Authorization", "")(e)
		body("grant_type=client_credentials&client_id=job&client_assertion_type=" + url.QueryEscape(clientAssertionType) + "&client_assertion=" + enc([]byte(head)) + "." + enc([]byte(claims)) + ".c2ln")(e)
	}
}

func goodClaims(more string) string {
	return fmt.Sprintf(`{"iss":"job","sub":"job","aud":"https://h/token","exp":%d,"iat":%d,"jti":"1"%s}`, noon.Unix()+300, noon.Unix(), more)
}

func proof(claims string) edit {
	enc := base64.RawURLEncoding.EncodeToString
	return request("DPoP", enc([]byte(`{"alg":"ES256","typ":"dpop+jwt"}`))+"."+enc([]byte(claims))+".c2ln")
}

var sentCases = []ruleCase{
	{"wrong-content-type", run.Certain, healthyToken, edits(requestNo, request("Content-Type", "application/json"), body(`{"grant_type":"client_credentials","client_id":"job"}`)), edits(requestNo)},
	{"wrong-content-type", run.Certain, healthyToken, edits(answer(415, "", ""), request("Content-Type", "text/plain")), edits(answer(415, "", ""))},
	{"parameters-in-query-not-body", run.Certain, healthyToken, edits(requestNo, at("POST", "https://h/token?grant_type=client_credentials&client_id=job"), body("")), edits(requestNo, at("POST", "https://h/token?tenant=x"))},
	{"request-body-empty", run.Certain, healthyToken, edits(requestNo, body("")), edits(requestNo)},
	{"wrong-method", run.Certain, healthyToken, edits(answer(405, "", "", "Allow", "POST"), at("GET", "https://h/token?grant_type=client_credentials"), body("")), edits(requestNo)},
	{"basic-credentials-malformed", run.Certain, healthyToken, edits(clientNo, request("Authorization", "Basic job:kelp")), edits(clientNo)},
	{"basic-credentials-malformed", run.Certain, healthyToken, edits(clientNo, request("Authorization", "Bearer am9iOng=")), edits(clientNo)},
	{"value-not-form-encoded", run.Certain, healthyToken, edits(clientNo, request("Authorization", ""), body("grant_type=client_credentials&client_id=job&client_secret=100%kelp")),
		edits(clientNo, request("Authorization", ""), body("grant_type=client_credentials&client_id=job&client_secret=100%25kelp"))},
	{"value-not-form-encoded", run.Certain, healthyToken, edits(clientNo, request("Authorization", ""), body("grant_type=client_credentials&client_id=job&client_secret=kelp&brine")),
		edits(clientNo, request("Authorization", ""), body("grant_type=client_credentials&client_id=job&client_secret=kelp%26brine"))},
	{"duplicate-parameter", run.Certain, healthyToken, edits(requestNo, body("grant_type=client_credentials&scope=a&scope=b")), edits(requestNo, body("grant_type=client_credentials&resource=a&resource=b"))},
	{"client-id-missing", run.Certain, healthyToken, edits(requestNo, request("Authorization", ""), body("grant_type=client_credentials")), edits(requestNo)},
	{"public-client-with-secret", run.Likely, healthyToken, edits(refusal(401, "invalid_client", "a public client must not send a secret")), edits(clientNo)},
	{"grant-not-in-metadata", run.Likely, healthyToken, edits(requestNo, body("grant_type=password&client_id=job&username=a&password=b")), edits(requestNo)},
	{"scope-openid-without-id-token-expected", run.Certain, healthyToken, edits(refusal(400, "invalid_scope", ""), body("grant_type=client_credentials&client_id=job&scope=openid")), edits(refusal(400, "invalid_scope", ""))},
	{"plain-http-endpoint", run.Possible, healthyToken, edits(answer(400, "", ""), at("POST", "http://tides.example/token")), edits(answer(400, "", ""), at("POST", "http://127.0.0.1:8650/token"))},
	{"endpoints-swapped", run.Certain, healthyToken, edits(requestNo, settings(func(c *project.Client) {
		c.Server.Endpoints = map[string]project.Setting{"authorization_endpoint": {Value: "https://h/token"}, "token_endpoint": {Value: "https://h/authorize"}}
	})), edits(requestNo)},
	{"redirect-uri-has-fragment", run.Certain, healthyCode, edits(came("error", "invalid_request"), asked(func(r *oauth.AuthorizationRequest) { r.RedirectURI = "https://h/in#x" })), edits(came("error", "invalid_request"))},
	{"redirect-uri-not-loopback-for-listener", run.Certain, healthyCode, edits(func(e *Evidence) {
		e.Person.Response, e.Person.TimedOut, e.Legs, e.Answer = nil, time.Minute, e.Legs[:2], nil
		e.Person.Request.RedirectURI = "https://portal.example/in"
	}), edits(func(e *Evidence) {
		e.Person.Response, e.Person.TimedOut, e.Legs, e.Answer = nil, time.Minute, e.Legs[:2], nil
	})},

	{"assertion-type-missing", run.Certain, healthyToken, edits(clientNo, request("Authorization", ""), body("grant_type=client_credentials&client_id=job&client_assertion=a.b.c")), edits(clientNo, asserting(goodClaims(""), ""))},
	{"assertion-malformed", run.Certain, healthyToken, edits(clientNo, request("Authorization", ""), body("grant_type=client_credentials&client_id=job&client_assertion=abc&client_assertion_type="+url.QueryEscape(clientAssertionType))), edits(clientNo, asserting(goodClaims(""), ""))},
	{"assertion-claim-missing", run.Certain, healthyToken, edits(clientNo, asserting(`{"iss":"job","sub":"job","aud":"https://h/token"}`, "")), edits(clientNo, asserting(goodClaims(""), ""))},
	{"assertion-expired", run.Certain, healthyToken, edits(clientNo, asserting(`{"iss":"job","sub":"job","aud":"https://h/token","exp":1000}`, "")), edits(clientNo, asserting(goodClaims(""), ""))},
	{"assertion-from-the-future", run.Certain, healthyToken, edits(clientNo, asserting(goodClaims(`,"nbf":1900000000`), "")), edits(clientNo, asserting(goodClaims(""), ""))},
	{"assertion-lifetime-too-long", run.Likely, healthyToken, edits(clientNo, asserting(`{"iss":"job","sub":"job","aud":"https://h/token","exp":1900000000}`, "")), edits(clientNo, asserting(goodClaims(""), ""))},
	{"assertion-audience-wrong", run.Certain, healthyToken, edits(clientNo, asserting(`{"iss":"job","sub":"job","aud":"https://other/token","exp":1774958700}`, "")), edits(clientNo, asserting(goodClaims(""), ""))},
	{"assertion-issuer-wrong", run.Certain, healthyToken, edits(clientNo, asserting(`{"iss":"joe","sub":"job","aud":"https://h","exp":1774958700}`, "")), edits(clientNo, asserting(goodClaims(""), ""))},
	{"assertion-algorithm-unexpected", run.Certain, healthyToken, edits(clientNo, asserting(goodClaims(""), `{"alg":"none"}`)), edits(clientNo, asserting(goodClaims(""), ""))},
	{"assertion-replayed", run.Certain, healthyToken, edits(clientNo, asserting(goodClaims(""), ""), spentBefore("assertion")), edits(clientNo, asserting(goodClaims(""), ""))},
	{"assertion-key-unknown", run.Likely, healthyToken, edits(refusal(401, "invalid_client", "no key of the client verifies the signature"), asserting(goodClaims(""), "")), edits(clientNo)},

	{"dpop-nonce-required", run.Certain, healthyToken, edits(answer(400, "application/json", `{"error":"use_dpop_nonce"}`, "DPoP-Nonce", "n1")), edits(requestNo)},
	{"dpop-proof-missing", run.Certain, healthyToken, edits(refusal(400, "invalid_dpop_proof", "")), edits(refusal(400, "invalid_dpop_proof", ""), proof(`{"htm":"POST","htu":"https://h/token"}`))},
	{"dpop-proof-wrong-target", run.Certain, healthyToken, edits(refusal(400, "invalid_dpop_proof", ""), proof(`{"htm":"GET","htu":"https://h/token"}`)), edits(refusal(400, "invalid_dpop_proof", ""), proof(`{"htm":"POST","htu":"https://h/token"}`))},
	{"dpop-proof-replayed", run.Likely, healthyToken, edits(refusal(400, "invalid_dpop_proof", "jti was seen before"), proof(`{"htm":"POST","htu":"https://h/token"}`)), edits(refusal(400, "invalid_dpop_proof", ""), proof(`{"htm":"POST","htu":"https://h/token"}`))},
	{"authorization-pending", run.Certain, healthyToken, edits(refusal(400, "authorization_pending", "")), edits(requestNo)},
	{"slow-down", run.Certain, healthyToken, edits(refusal(400, "slow_down", ""), body("grant_type=urn:ietf:params:oauth:grant-type:device_code&client_id=job&device_code=d")), edits(refusal(429, "slow_down", ""))},
	{"device-code-expired", run.Certain, healthyToken, edits(refusal(400, "expired_token", ""), body("grant_type=urn:ietf:params:oauth:grant-type:device_code&client_id=job&device_code=d")), edits(requestNo)},
}

var carriedCases = []ruleCase{
	{"two-authorization-headers", run.Certain, healthyCall, edits(answer(400, "", ""), func(e *Evidence) {
		e.Legs[0].Exchange.Request.Header.Add("Authorization", "Basic eDp5")
	}), edits(answer(400, "", ""))},
	{"prefix-doubled", run.Certain, healthyCall, edits(answer(401, "", ""), request("Authorization", "Bearer Bearer abc")), edits(answer(401, "", ""))},
	{"bearer-prefix-missing", run.Certain, healthyCall, edits(answer(401, "", ""), request("Authorization", "abcdef")), edits(answer(401, "", ""))},
	{"lower-case-scheme-refused", run.Likely, healthyCall, edits(answer(401, "", "", "WWW-Authenticate", "Bearer"), request("Authorization", "bearer abcdef")), edits(answer(401, "", "", "WWW-Authenticate", "Bearer"))},
	{"token-garbled", run.Certain, healthyCall, edits(answer(401, "", ""), request("Authorization", `Bearer "abcdef"`)), edits(answer(401, "", ""), request("Authorization", "Bearer abcdef"))},
	{"token-garbled", run.Certain, healthyCall, edits(answer(401, "", ""), request("Authorization", "Bearer undefined")), edits(answer(401, "", ""), request("Authorization", "Bearer abcdef"))},
	{"token-in-wrong-header", run.Likely, healthyCall, edits(answer(401, "", "", "WWW-Authenticate", "Bearer"), func(e *Evidence) {
		e.Legs[0].Exchange.Request.Header = http.Header{"X-Token": {e.Access}}
	}), edits(answer(401, "", "", "WWW-Authenticate", "Bearer"))},
	{"token-in-query-not-accepted", run.Likely, healthyCall, edits(answer(401, "", "", "WWW-Authenticate", "Bearer"), request("Authorization", ""), at("GET", "https://h/api/stations?access_token=abc")), edits(answer(401, "", "", "WWW-Authenticate", `Bearer error="invalid_token"`), request("Authorization", ""), at("GET", "https://h/api/stations?access_token=abc"))},
	{"refresh-token-used-as-access-token", run.Certain, healthyCall, edits(answer(401, "", ""), func(e *Evidence) { e.CarriesRefresh = true }), edits(answer(401, "", ""))},
	{"dpop-bound-token-sent-as-bearer", run.Certain, healthyCall, edits(answer(401, "", ""), func(e *Evidence) { e.Access = jwt(`{"cnf":{"jkt":"x"}}`) }), edits(answer(401, "", ""))},
	{"authorization-dropped-on-redirect", run.Certain, healthyCall, edits(answer(307, "", "", "Location", "https://other/api"), func(e *Evidence) {
		e.Legs = append(e.Legs, run.Leg{N: 2, Kind: run.Call, Method: "GET", URL: "https://other/api", Exchange: &wire.Exchange{Request: wire.Request{Header: http.Header{}}}})
	}, answer(401, "", "")), edits(answer(401, "", ""))},
	{"redirected-to-login", run.Certain, healthyCall, edits(answer(302, "", "", "Location", "/login?next=/api")), edits(answer(302, "", "", "Location", "/api/v2/stations"))},
	{"captive-portal", run.Likely, healthyCall, edits(at("GET", "http://tides.example/api"), answer(200, "text/html", "<html><head><title>Guest network login</title></head></html>")), edits(answer(200, "text/html", aPage))},
	{"empty-list-but-authorized", run.Certain, healthyCall, edits(answer(200, "application/json", `{"stations":[]}`)), edits(answer(200, "application/json", `{"stations":[],"since":[1]}`))},
}

// page ends the authorization leg on the server's own page.
func page(status int, contentType, text string) edit {
	return func(e *Evidence) {
		e.Foreign = true
		e.Person.Response, e.Legs, e.Answer = nil, e.Legs[:2], nil
		e.Legs[1].Method, e.Legs[1].URL = "GET", "https://h/authorize?client_id=job&redirect_uri=x"
		e.Legs[1].Exchange = &wire.Exchange{Request: wire.Request{Header: http.Header{"Accept": {"text/html"}}}}
		answer(status, contentType, text)(e)
	}
}

var foreignCases = []ruleCase{
	{"redirect-uri-mismatch", run.Certain, healthyCode, edits(page(400, "text/html", "<p>Invalid parameter: redirect_uri</p>")), edits(page(400, "text/html", "<p>Client not found.</p>"))},
	{"redirect-uri-mismatch", run.Certain, healthyCode, edits(page(400, "text/html", ""), func(e *Evidence) {
		e.Person.Request.ClientID, e.Client.ClientID.Value, e.Client.RedirectURI.Value = "job", "job", "https://elsewhere/in"
	}), edits(page(200, "text/html", ""))},
	{"unknown-client", run.Likely, healthyCode, edits(page(400, "text/html", "<h1>We are sorry</h1><p>Client not found.</p>")), edits(page(400, "text/html", "<p>Invalid redirect_uri</p>"))},
	{"unknown-client", run.Certain, healthyToken, edits(clientNo, foreign, settings(func(c *project.Client) { c.ClientID.Value = "jobs" })), edits(refusal(401, "invalid_client", "wrong secret"), foreign)},
	{"wrong-secret", run.Certain, healthyToken, edits(clientNo, foreign, func(e *Evidence) { e.Registered = "another" }), edits(refusal(400, "invalid_scope", ""), foreign)},
	{"auth-in-wrong-place", run.Certain, healthyToken, edits(clientNo, foreign, settings(func(c *project.Client) { c.AuthMethod.Value = "client_secret_post" })), edits(clientNo, foreign)},
	{"html-instead-of-redirect", run.Certain, healthyCode, edits(page(200, "text/html", aPage), func(e *Evidence) {
		e.Legs[1].Exchange.Request.Header = http.Header{"Accept": {"application/json"}}
	}), edits(page(200, "text/html", aPage))},
	{"request-uri-unknown-or-used", run.Certain, healthyCode, edits(page(400, "application/json", `{"error":"invalid_request_uri"}`), func(e *Evidence) { e.PushedAs = "urn:x" }), edits(page(400, "application/json", `{"error":"invalid_request_uri"}`))},
	{"scope-wrongly-separated", run.Certain, healthyToken, edits(refusal(400, "invalid_scope", ""), body("grant_type=client_credentials&client_id=job&scope=a,b")), edits(refusal(400, "invalid_scope", ""))},
	{"refresh-token-of-other-client", run.Certain, refreshing, edits(grantNo, func(e *Evidence) { e.GivenTo = "desk" }), edits(grantNo, func(e *Evidence) { e.GivenTo = "job" })},
}

// What a server copies out of the RFC, gives as an example or leaves open says
// nothing; what it says beside that counts.
func TestTelling(t *testing.T) {
	for _, s := range rfcSentences {
		assert.Empty(t, telling(s+"."), s)
	}
	for given, want := range map[string]string{
		"Client authentication failed (e.g., unknown client, no client authentication included, or unsupported authentication method). The secret is wrong.": "The secret is wrong",
		"The code is invalid or has expired":                  "",
		"The code has expired":                                "The code has expired",
		"Bad code (for example an expired one) was sent":      "Bad code  was sent",
		"redirect_uri does not match":                         "redirect_uri does not match",
		"the refresh token was revoked, or already been used": "",
	} {
		assert.Equal(t, want, telling(given), given)
	}
}

// Each body says the same; servers have many forms for it.
func TestReplyForms(t *testing.T) {
	for _, c := range []struct{ contentType, body, code, grant string }{
		{"application/json", `{"error":"invalid_client"}`, "invalid_client", ""},
		{"application/json", `{"error":{"code":"invalid_client","message":"no"}}`, "invalid_client", ""},
		{"application/json", `{"errorCode":"invalid_client","errorSummary":"no"}`, "invalid_client", ""},
		{"application/json", `{"error":"incorrect_client_credentials"}`, "invalid_client", ""},
		{"application/json", `{"error":"redirect_uri_mismatch"}`, "invalid_grant", "authorization_code"},
		{"application/json", `{"message":"Bad client credentials"}`, "invalid_client", ""},
		{"application/problem+json", `{"type":"about:blank","title":"Unknown scope","detail":"the scope x is not known"}`, "invalid_scope", ""},
		{"application/x-www-form-urlencoded", `error=bad_verification_code&error_description=The+code+passed+is+incorrect`, "invalid_grant", "authorization_code"},
		{"text/html", `<html><head><title>401</title></head><body>Invalid client secret</body></html>`, "invalid_client", ""},
		{"text/plain", "username or password is wrong", "invalid_grant", "password"},
	} {
		o := reply(&wire.Response{Status: 401, Header: http.Header{"Content-Type": {c.contentType}}, Body: []byte(c.body)}, c.grant)
		if assert.NotNil(t, o, c.body) {
			assert.Equal(t, c.code, o.Code, c.body)
		}
	}
	assert.Nil(t, reply(&wire.Response{Status: 401}, ""))
}
