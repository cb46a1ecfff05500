package finding

import (
	"encoding/base64"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

var noon = time.Date(2026, 3, 31, 12, 0, 0, 0, time.UTC)

// edit changes the evidence of a healthy run.
type edit func(e *Evidence)

// answer sets what the last leg got.
func answer(status int, contentType, body string, headers ...string) edit {
	return func(e *Evidence) {
		h := http.Header{"Content-Type": {contentType}}
		for i := 0; i+1 < len(headers); i += 2 {
			h.Add(headers[i], headers[i+1])
		}
		e.Legs[len(e.Legs)-1].Exchange.Response = &wire.Response{Status: status, Header: h, Body: []byte(body)}
		e.Answer = nil
	}
}

func refusal(status int, code, description string) edit {
	return answer(status, "application/json", `{"error":"`+code+`","error_description":"`+description+`"}`)
}

func broken(kind wire.FailureKind) edit {
	return func(e *Evidence) {
		x := e.Legs[len(e.Legs)-1].Exchange
		x.Response, x.Failure = nil, &wire.Failure{Kind: kind, Detail: "as it happened"}
	}
}

func request(header ...string) edit {
	return func(e *Evidence) {
		for i := 0; i+1 < len(header); i += 2 {
			if h := e.Legs[len(e.Legs)-1].Exchange.Request.Header; header[i+1] == "" {
				h.Del(header[i])
			} else {
				h.Set(header[i], header[i+1])
			}
		}
	}
}

func secret(s string) edit { return func(e *Evidence) { e.Secret = s } }

func settings(f func(c *project.Client)) edit { return func(e *Evidence) { f(e.Client) } }

// healthyToken is a run that obtained a token by client credentials.
func healthyToken() *Evidence {
	set := func(v string) project.Setting { return project.Setting{Value: v, Where: "courier.yaml:9:5"} }
	e := &Evidence{Now: noon, Secret: "kelp-and-brine-77", AskedScope: []string{"gauges.read"}, Asked: "https://h",
		Metadata: &oauth.Metadata{Issuer: "https://h", TokenEndpoint: "https://h/token", TokenEndpointAuthMethods: []string{"client_secret_basic", "client_secret_post"}, GrantTypesSupported: []string{"client_credentials"}},
		Client: &project.Client{Name: "job", ClientID: set("job"), Grant: set("client_credentials"), AuthMethod: set("client_secret_basic"),
			Secret: &project.Secret{Env: "S", Where: "courier.yaml:11:20"}, Scope: project.List{Values: []string{"gauges.read"}, Where: "courier.yaml:12:5"},
			SecretExpires: set("2027-01-01"), Server: &project.Server{Issuer: set("https://h"), Endpoints: map[string]project.Setting{}}}}
	e.Legs = []run.Leg{
		{N: 1, Kind: run.Discovery, Method: "GET", URL: "https://h/.well-known/oauth-authorization-server", Exchange: &wire.Exchange{
			Request: wire.Request{Header: http.Header{}}, Response: &wire.Response{Status: 200, Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(`{}`)}}},
		{N: 2, Kind: run.Token, Method: "POST", URL: "https://h/token", Exchange: &wire.Exchange{
			Request: wire.Request{Header: http.Header{"Authorization": {"Basic am9iOng="}, "Content-Type": {"application/x-www-form-urlencoded"}}, Body: []byte("grant_type=client_credentials&client_id=job&scope=gauges.read")}}},
	}
	body := `{"access_token":"a","token_type":"Bearer","expires_in":60,"scope":"gauges.read"}`
	answer(200, "application/json", body)(e)
	e.Answer, _ = oauth.ParseTokenResponse(200, "application/json", []byte(body))
	return e
}

func jwt(claims string) string {
	return "eyJhbGciOiJSUzI1NiJ9." + base64.RawURLEncoding.EncodeToString([]byte(claims)) + "." + strings.Repeat("c2ln", 86)[:342]
}

// healthyCall is a call that worked.
func healthyCall() *Evidence {
	need := project.Needs{Audience: project.Setting{Value: "https://h/api", Where: "courier.yaml:30:22"}, Scope: project.List{Values: []string{"gauges.read"}, Where: "courier.yaml:30:50"}}
	e := &Evidence{Now: noon, API: &project.API{Name: "gauges", Needs: need}, Access: jwt(`{"iss":"https://h","sub":"job","aud":"https://h/api","exp":1900000000,"scope":"gauges.read"}`),
		Client: &project.Client{Name: "job", Scope: project.List{Values: []string{"gauges.read"}, Where: "courier.yaml:12:5"}}}
	e.Legs = []run.Leg{{N: 1, Kind: run.Call, Method: "GET", URL: "https://h/api/stations", Exchange: &wire.Exchange{
		Request: wire.Request{Header: http.Header{"Accept": {"application/json"}, "Authorization": {"Bearer " + e.Access}}}}}}
	answer(200, "application/json", `{"stations":[{"id":"skarvik-quay"}]}`)(e)
	return e
}

func judged(base func() *Evidence, edits ...edit) []run.Finding {
	e := base()
	for _, f := range edits {
		f(e)
	}
	return Judge(e)
}

func TestHealthyRunsHaveNoFindings(t *testing.T) {
	assert.Empty(t, judged(healthyToken))
	assert.Empty(t, judged(healthyCall))
	assert.Empty(t, judged(healthyCode))
	assert.Empty(t, judged(refreshing))
	assert.Empty(t, judged(withPass))
	assert.Empty(t, judged(healthyToken, secret("trailing \n")), "what was accepted is no cause")
	assert.Empty(t, judged(healthyToken, settings(func(c *project.Client) { c.SecretExpires.Value = "2020-01-01" })))
	assert.Empty(t, Judge(&Evidence{}), "nothing known, nothing claimed")
}

type ruleCase struct {
	id        string
	certainty run.Certainty
	base      func() *Evidence
	fires     []edit
	misses    []edit // the same with what proves it taken away
}

const aPage = "<!doctype html><html><head><title>Sign in</title></head></html>"

var ruleCases = []ruleCase{
	{"body-longer-than-said", run.Certain, healthyCall, []edit{func(e *Evidence) { e.Beyond = true }}, nil},
	{"cross-origin-refused", run.Likely, healthyToken, []edit{broken(wire.UnspecifiedFailure), request("Origin", "https://app.example")}, []edit{broken(wire.UnspecifiedFailure), request("Origin", "https://h")}},
	{"wrong-secret", run.Likely, healthyToken, []edit{refusal(401, "invalid_client", "client authentication failed")}, []edit{refusal(401, "invalid_client", "unknown client")}},
	{"wrong-secret", run.Likely, healthyToken, []edit{refusal(400, "unauthorized_client", "Invalid client secret")}, []edit{refusal(400, "invalid_grant", "expired")}},
	{"unknown-client", run.Likely, healthyToken, []edit{refusal(401, "invalid_client", "No such client")}, []edit{refusal(400, "unauthorized_client", "this client is not registered for that grant")}},
	{"grant-not-allowed-for-client", run.Certain, healthyToken, []edit{refusal(400, "unauthorized_client", "grant not allowed")}, []edit{refusal(400, "unauthorized_client", "unknown client")}},
	{"grant-not-allowed-for-client", run.Certain, healthyToken, []edit{refusal(400, "invalid_request", "this grant type is not allowed for the client")}, []edit{refusal(400, "invalid_request", "the grant type is missing")}},
	{"secret-expired", run.Certain, healthyToken, []edit{refusal(401, "invalid_client", ""), settings(func(c *project.Client) { c.SecretExpires.Value = "2026-01-01" })},
		[]edit{refusal(401, "invalid_client", "")}},
	{"secret-expired", run.Likely, healthyToken, []edit{refusal(401, "invalid_client", "The provided client secret keys are expired")}, []edit{refusal(401, "invalid_client", "the token has expired")}},
	{"secret-expiring", run.Certain, healthyToken, []edit{settings(func(c *project.Client) { c.SecretExpires.Value = "2026-04-10" })}, nil},
	{"secret-in-courier-file", run.Certain, healthyToken, []edit{settings(func(c *project.Client) { c.Secret = &project.Secret{Literal: true} })}, nil},
	{"secret-has-edge-whitespace", run.Certain, healthyToken, []edit{refusal(401, "invalid_client", ""), secret("kelp\n")}, []edit{refusal(401, "invalid_client", ""), secret("kelp")}},
	{"secret-has-edge-whitespace", run.Certain, healthyToken, []edit{answer(401, "", ""), secret(" kelp")}, []edit{answer(500, "", ""), secret(" kelp")}},
	{"secret-looks-quoted", run.Certain, healthyToken, []edit{refusal(401, "invalid_client", ""), secret(`"kelp"`)}, []edit{refusal(401, "invalid_client", ""), secret(`"kelp`)}},
	{"secret-looks-like-its-identifier", run.Likely, healthyToken, []edit{refusal(401, "invalid_client", ""), secret("5f0c1a52-7a4e-4b1d-9c55-2f6f2d1a9e10")}, []edit{refusal(401, "invalid_client", ""), secret("5f0c1a52")}},
	{"confidential-client-without-secret", run.Certain, healthyToken, []edit{refusal(401, "invalid_client", "no client authentication included"), request("Authorization", "")},
		[]edit{refusal(401, "invalid_client", "no client authentication included")}},
	{"auth-in-wrong-place", run.Likely, healthyToken, []edit{refusal(401, "invalid_client", "this client is registered for client_secret_post")}, []edit{refusal(401, "invalid_client", "")}},
	{"auth-in-wrong-place", run.Likely, healthyToken, []edit{refusal(401, "invalid_client", ""), func(e *Evidence) { e.Metadata.TokenEndpointAuthMethods = []string{"client_secret_post"} }},
		[]edit{refusal(401, "invalid_client", ""), func(e *Evidence) { e.Metadata.TokenEndpointAuthMethods = []string{"private_key_jwt"} }}},
	{"unsupported-grant-type", run.Certain, healthyToken, []edit{refusal(400, "unsupported_grant_type", "")}, []edit{refusal(400, "invalid_grant", "")}},
	{"invalid-scope-asked", run.Certain, healthyToken, []edit{refusal(400, "invalid_scope", "")}, []edit{refusal(400, "invalid_request", "")}},
	{"endpoint-not-found", run.Certain, healthyToken, []edit{answer(404, "text/html", aPage)}, []edit{refusal(404, "invalid_client", "")}},
	{"endpoint-not-found", run.Likely, healthyCall, []edit{answer(404, "application/json", `{"message":"no such station"}`)}, []edit{answer(403, "", "")}},
	{"html-instead-of-json", run.Certain, healthyToken, []edit{answer(200, "text/html", aPage)}, []edit{answer(404, "text/html", aPage)}},
	{"html-instead-of-json", run.Certain, healthyCall, []edit{answer(200, "text/html", aPage)}, []edit{answer(200, "text/html", aPage), request("Accept", "text/html")}},
	{"token-endpoint-redirects", run.Certain, healthyToken, []edit{answer(302, "", "", "Location", "/signin")}, []edit{answer(304, "", ""), func(e *Evidence) { e.Legs = e.Legs[:1] }}},
	{"rate-limited", run.Certain, healthyToken, []edit{answer(429, "", "", "Retry-After", "30")}, []edit{answer(400, "", "")}},
	{"server-error-temporary", run.Certain, healthyCall, []edit{answer(503, "text/html", aPage)}, []edit{answer(400, "", "")}},
	{"error-with-status-200", run.Certain, healthyToken, []edit{refusal(200, "invalid_client", "")}, []edit{refusal(400, "invalid_client", "")}},
	{"answer-not-json", run.Certain, healthyToken, []edit{answer(200, "text/plain", "access_token=a&expires_in=3")}, []edit{answer(502, "text/plain", "bad gateway")}},
	{"access-token-missing", run.Certain, healthyToken, []edit{answer(200, "application/json", `{"token":"x"}`)}, []edit{answer(200, "application/json", `{"error":"x"}`)}},
	{"answer-empty", run.Possible, healthyToken, []edit{answer(400, "", "")}, []edit{answer(400, "text/plain", "no")}},
	{"issuer-mismatch", run.Certain, healthyToken, []edit{func(e *Evidence) { e.Metadata.Issuer = "https://h/" }}, []edit{func(e *Evidence) { e.Asked = "" }}},
	{"metadata-missing-endpoint", run.Certain, healthyToken, []edit{func(e *Evidence) { e.Metadata.TokenEndpoint = "" }}, nil},
	{"no-token-sent", run.Certain, healthyCall, []edit{answer(401, "", ""), request("Authorization", ""), func(e *Evidence) { e.Access = "" }}, []edit{answer(401, "", "")}},
	{"insufficient-scope", run.Certain, healthyCall, []edit{answer(403, "", "", "WWW-Authenticate", `Bearer error="insufficient_scope", scope="notices.write"`)}, []edit{answer(403, "", "")}},
	{"insufficient-scope", run.Likely, healthyCall, []edit{answer(403, "", ""), func(e *Evidence) { e.API.Needs.Scope.Values = []string{"notices.write"} }}, []edit{answer(403, "", "")}},
	{"token-expired", run.Certain, healthyCall, []edit{answer(401, "", ""), func(e *Evidence) { e.Access = jwt(`{"exp":1000}`) }}, []edit{answer(401, "", "")}},
	{"audience-not-the-api", run.Certain, healthyCall, []edit{answer(401, "", ""), func(e *Evidence) { e.Access = jwt(`{"aud":"https://other"}`) }}, []edit{answer(401, "", ""), func(e *Evidence) { e.Access = jwt(`{"aud":["https://h/api"]}`) }}},
	{"token-not-accepted", run.Likely, healthyCall, []edit{answer(401, "", "", "WWW-Authenticate", `Bearer error="invalid_token"`)}, []edit{answer(401, "", ""), request("Authorization", "")}},
	{"required-header-missing", run.Certain, healthyCall, []edit{answer(400, "application/json", `{"message":"the header Harbour-Id is required"}`)},
		[]edit{answer(400, "application/json", `{"message":"the header Harbour-Id is required"}`), request("Harbour-Id", "x")}},
	{"xml-because-accept-missing", run.Certain, healthyCall, []edit{answer(200, "application/xml", "<a/>"), request("Accept", "")}, []edit{answer(200, "application/xml", "<a/>")}},
	{"json-invalid", run.Certain, healthyCall, []edit{answer(200, "application/json", `{"a":1,}`)}, []edit{answer(200, "text/plain", `{"a":1,}`)}},
	{"charset-wrong", run.Certain, healthyCall, []edit{answer(200, "application/json", "{\"a\":\"\xf8\"}")}, []edit{answer(200, "text/plain; charset=iso-8859-1", "\xf8")}},
	{"redirect-loop", run.Certain, healthyCall, []edit{answer(302, "", "", "Location", "/api/stations"), func(e *Evidence) {
		for range 10 {
			e.Legs = append(e.Legs, e.Legs[0])
		}
	}}, []edit{answer(302, "", "", "Location", "/elsewhere")}},
	{"wrong-method", run.Certain, healthyCall, []edit{answer(405, "", "", "Allow", "POST")}, []edit{answer(400, "", "")}},
	{"forbidden-for-this-user", run.Likely, healthyCall, []edit{answer(403, "application/json", `{"message":"not for this account"}`)}, []edit{answer(401, "", "")}},
	{"scope-narrowed", run.Certain, healthyToken, []edit{func(e *Evidence) { e.Answer.Scope = []string{"other"} }}, []edit{func(e *Evidence) { e.Answer.Scope = nil }}},
	{"expires-in-missing", run.Certain, healthyToken, []edit{func(e *Evidence) { e.Answer.Oddities = []string{oauth.OddExpiresMissing} }}, nil},
	{"expires-in-not-a-number", run.Certain, healthyToken, []edit{func(e *Evidence) { e.Answer.Oddities = []string{oauth.OddExpiresNotNumber} }}, nil},
	{"token-type-missing", run.Certain, healthyToken, []edit{func(e *Evidence) { e.Answer.Oddities = []string{oauth.OddTypeMissing} }}, nil},
	{"plain-http-on-tls-port", run.Certain, healthyCall, []edit{func(e *Evidence) { e.Legs[0].URL = "http://h/api" }, answer(400, "text/plain", "Client sent an HTTP request to an HTTPS server.\n")}, []edit{answer(400, "text/plain", "no")}},
}

func TestRules(t *testing.T) {
	covered := map[string]bool{}
	for _, c := range slices.Concat(ruleCases, personCases, sentCases, carriedCases, foreignCases, examinedCases, userinfoCases) {
		covered[c.id] = true
		found := judged(c.base, c.fires...)
		i := slices.IndexFunc(found, func(f run.Finding) bool { return f.ID == c.id })
		if !assert.GreaterOrEqual(t, i, 0, "%s does not fire; found %v", c.id, ids(found)) {
			continue
		}
		assert.Equal(t, c.certainty, found[i].Certainty, c.id)
		assert.NotEmpty(t, found[i].Evidence, "%s has no evidence", c.id)
		if !found[i].Note && c.certainty != run.Possible {
			assert.Equal(t, c.certainty, found[0].Certainty, "%s is behind a surer one: %v", c.id, ids(found))
		}
		assert.NotContains(t, ids(judged(c.base, c.misses...)), c.id, "%s fires on its near miss", c.id)
	}
	for kind := range map[wire.FailureKind]bool{wire.NameNotResolved: true, wire.ConnectionRefused: true, wire.ConnectionReset: true, wire.TimeoutConnecting: true, wire.TimeoutWaiting: true,
		wire.TLSUnknownAuth: true, wire.TLSExpired: true, wire.TLSNameMismatch: true, wire.TLSProtocol: true, wire.TLSOnPlainPort: true, wire.PlainOnTLSPort: true,
		wire.ProxyRefused: true, wire.ProxyNeedsLogin: true, wire.AnswerTooLarge: true} {
		covered[string(kind)] = true
		found := judged(healthyToken, broken(kind))
		require.NotEmpty(t, found, kind)
		assert.Equal(t, string(kind), found[0].ID)
	}
	for _, c := range slices.Concat(ruleCases, personCases, sentCases, carriedCases, foreignCases, examinedCases, userinfoCases) {
		r, _ := Lookup(c.id)
		if c.certainty != run.Certain {
			assert.NotEmpty(t, r.Try, "%s is not always certain, and has no test that decides", c.id)
		}
	}
	for _, id := range IDs() {
		r, _ := Lookup(id)
		assert.Equal(t, r.Judge != nil, covered[id], "no case for %s", id)
	}
}

func ids(list []run.Finding) []string {
	var out []string
	for _, f := range list {
		out = append(out, f.ID)
	}
	return out
}

func TestCatalogueIsComplete(t *testing.T) {
	seen := map[string]bool{}
	for _, r := range catalogue {
		assert.False(t, seen[r.ID], "%s is there twice", r.ID)
		seen[r.ID] = true
		assert.NotEmpty(t, r.Title, r.ID)
		assert.NotEmpty(t, r.Meaning, r.ID)
		assert.NotEmpty(t, r.Proof, r.ID)
		assert.NotEmpty(t, r.Remedy, r.ID)
		assert.False(t, strings.HasSuffix(r.Title, "."), r.ID)
	}
}

func TestEvidenceThatDecidesDropsCandidates(t *testing.T) {
	assert.Equal(t, []string{"secret-has-edge-whitespace"}, ids(judged(healthyToken, refusal(401, "invalid_client", "client authentication failed"), secret("x y z\n"))))
	assert.Equal(t, []string{"wrong-secret", "unknown-client"}, ids(judged(healthyToken, refusal(401, "invalid_client", ""))), "undecided: both are shown")
}
