package finding

import (
	"encoding/base64"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

const healthyClaims = `"iss":"https://h","sub":"job","client_id":"job","aud":"https://h/api","iat":1774958000,"exp":1774961600,"scope":"gauges.read","roles":["Gauges.Read.All"]`

// looked is a token that somebody looks at, in a project that knows what it is for.
func looked() *Evidence {
	need := Need{Of: "API gauges", Audience: project.Setting{Value: "https://h/api", Where: "courier.yaml:30:22"}, Scope: project.List{Values: []string{"gauges.read"}, Where: "courier.yaml:30:50"}}
	e := &Evidence{Now: noon, Examined: &Examined{Issuer: project.Setting{Value: "https://h", Where: "courier.yaml:5:5"}, Needs: []Need{need},
		Stages: map[string]string{"https://staging": "server northmark in stage staging"}}}
	claim(`{` + healthyClaims + `}`)(e)
	return e
}

func examinedToken(header, body string) edit {
	return func(e *Evidence) {
		enc := base64.RawURLEncoding.EncodeToString
		e.Examined.Token, _ = token.Decode(enc([]byte(header)) + "." + enc([]byte(body)) + ".c2ln")
	}
}

func claim(body string) edit { return examinedToken(`{"alg":"RS256","kid":"k1"}`, body) }

func rawToken(raw string) edit {
	return func(e *Evidence) { e.Examined.Token, _ = token.Decode(raw); e.Examined.Needs = nil }
}

func need(f func(n *Need)) edit { return func(e *Evidence) { f(&e.Examined.Needs[0]) } }

func verified(cause string) edit {
	return func(e *Evidence) {
		e.Examined.Verification = &token.Verification{Signature: token.Check{Outcome: token.Fail, Reason: "as it is", Cause: cause}, Binding: &token.Check{Outcome: token.Pass}}
	}
}

func texts(list ...string) project.List {
	return project.List{Values: list, Where: "courier.yaml:31:9"}
}

var examinedCases = []ruleCase{
	{"token-garbled", run.Certain, looked, []edit{func(e *Evidence) { e.Examined.TakenOff = []string{"Bearer"} }}, nil},
	{"token-opaque", run.Certain, looked, []edit{rawToken("ot-abc")}, nil},
	{"token-encrypted", run.Certain, looked, []edit{rawToken("eyJhbGciOiJkaXIiLCJlbmMiOiJBMTI4R0NNIn0.a.b.c.d")}, nil},
	{"token-expired", run.Certain, looked, []edit{claim(`{"iss":"https://h","aud":"https://h/api","scope":"gauges.read","exp":1774958399}`)}, []edit{claim(`{"aud":"https://h/api","exp":1774958401,"scope":"gauges.read"}`)}},
	{"token-not-yet-valid", run.Certain, looked, []edit{claim(`{"aud":"https://h/api","scope":"gauges.read","nbf":1774958500}`)}, []edit{claim(`{"nbf":1774958450}`)}},
	{"clock-skew", run.Likely, looked, []edit{claim(`{"aud":"https://h/api","scope":"gauges.read","iat":1774958500}`)}, []edit{claim(`{"iat":1774958450}`)}},
	{"audience-not-the-api", run.Certain, looked, []edit{claim(`{"aud":"https://other","scope":"gauges.read"}`)}, []edit{claim(`{"aud":["x","https://h/api"]}`)}},
	{"audience-not-the-api", run.Certain, looked, []edit{verified(token.CauseAudience)}, nil},
	{"issuer-unexpected", run.Certain, looked, []edit{claim(`{"iss":"https://h/","scope":"gauges.read"}`)}, []edit{claim(`{"iss":"https://h"}`)}},
	{"wrong-stage", run.Certain, looked, []edit{claim(`{"iss":"https://staging","scope":"gauges.read"}`)}, []edit{claim(`{"iss":"https://elsewhere"}`)}},
	{"id-token-used-as-access-token", run.Certain, looked, []edit{claim(`{"aud":"desk","nonce":"n","sub":"pilot"}`)}, []edit{claim(`{"aud":"desk","nonce":"n"}`), func(e *Evidence) { e.Examined.Needs = nil }}},
	{"id-token-used-as-access-token", run.Certain, healthyCall, []edit{answer(401, "", ""), func(e *Evidence) { e.Access = jwt(`{"aud":"desk","at_hash":"x","exp":1900000000}`) }}, []edit{answer(401, "", "")}},
	{"scope-missing-for-call", run.Certain, looked, []edit{need(func(n *Need) { n.Scope = texts("gauges.read", "notices.write") })}, []edit{need(func(n *Need) { n.Scope = texts() })}},
	{"role-missing-for-call", run.Certain, looked, []edit{need(func(n *Need) { n.Roles = texts("Notices.Write.All") })}, []edit{need(func(n *Need) { n.Roles = texts("Gauges.Read.All") })}},
	{"delegated-token-for-application-call", run.Likely, looked, []edit{need(func(n *Need) { n.Roles, n.Scope = texts("Gauges.Read.All"), texts() }), claim(`{"sub":"pilot","auth_time":1,"aud":"https://h/api","scope":"gauges.read"}`)},
		[]edit{need(func(n *Need) { n.Roles = texts("Gauges.Read.All") })}},
	{"application-token-for-delegated-call", run.Likely, looked, []edit{claim(`{"sub":"job","client_id":"job","aud":"https://h/api","roles":["R"]}`)}, []edit{claim(`{"sub":"pilot","auth_time":1,"aud":"https://h/api"}`)}},
	{"signature-invalid", run.Certain, looked, []edit{verified(token.CauseSignature)}, []edit{verified(token.CauseKeyNotFound)}},
	{"key-not-found", run.Certain, looked, []edit{verified(token.CauseKeyNotFound)}, []edit{verified(token.CauseSignature)}},
	{"algorithm-unexpected", run.Certain, looked, []edit{verified(token.CauseAlg)}, []edit{verified(token.CauseSignature)}},
	{"algorithm-none", run.Certain, looked, []edit{examinedToken(`{"alg":"none"}`, `{`+healthyClaims+`}`)}, []edit{examinedToken(`{"alg":"HS256"}`, `{}`)}},
	{"at-hash-mismatch", run.Certain, looked, []edit{func(e *Evidence) {
		e.Examined.Verification = &token.Verification{Binding: &token.Check{Outcome: token.Fail, Cause: token.CauseAtHash}}
	}}, []edit{verified(token.CauseSignature)}},
	{"header-kid-missing", run.Certain, looked, []edit{examinedToken(`{"alg":"RS256"}`, `{`+healthyClaims+`}`)}, []edit{examinedToken(`{"alg":"HS256"}`, `{}`)}},
	{"claim-repeated", run.Certain, looked, []edit{claim(`{` + healthyClaims + `,"sub":"keeper"}`)}, nil},
	{"claim-wrong-type", run.Certain, looked, []edit{claim(`{` + healthyClaims + `,"nbf":"1774958000"}`)}, []edit{claim(`{` + healthyClaims + `,"nbf":1774958000}`)}},
	{"time-in-milliseconds", run.Certain, looked, []edit{claim(`{"aud":"https://h/api","scope":"gauges.read","exp":1774961600000}`)}, []edit{claim(`{"exp":1774961600}`)}},
	{"lifetime-long", run.Certain, looked, []edit{claim(`{"aud":"https://h/api","scope":"gauges.read","iat":1774958000,"exp":1794958000}`)}, []edit{claim(`{"iat":1774958000,"exp":1775044400}`)}},
	{"times-out-of-order", run.Certain, looked, []edit{claim(`{"aud":"https://h/api","scope":"gauges.read","iat":1774958000,"exp":1774957000}`)}, []edit{claim(`{"iat":1774958000,"exp":1774958001}`)}},
}

// asking is a run that asked the userinfo endpoint.
func asking() *Evidence {
	e := healthyCall()
	e.API = nil
	e.Legs[0].Kind, e.Legs[0].URL = run.Userinfo, "https://h/userinfo"
	e.Access = jwt(`{"iss":"https://h","sub":"pilot","auth_time":1,"exp":1900000000,"scope":"openid"}`)
	e.Client.Scope.Values = []string{"openid"}
	e.UserinfoSub, e.IDTokenSub = "pilot", "pilot"
	return e
}

var userinfoCases = []ruleCase{
	{"token-stands-for-no-user", run.Certain, asking, []edit{answer(403, "", ""), func(e *Evidence) { e.Access = jwt(`{"sub":"job","client_id":"job","exp":1900000000}`) }}, []edit{answer(403, "", "")}},
	{"token-stands-for-no-user", run.Certain, asking, []edit{answer(401, "", ""), settings(func(c *project.Client) { c.Grant.Value = "client_credentials" })}, []edit{settings(func(c *project.Client) { c.Grant.Value = "client_credentials" })}},
	{"scope-openid-missing", run.Likely, asking, []edit{answer(403, "", ""), settings(func(c *project.Client) { c.Scope.Values = []string{"gauges.read"} })}, []edit{answer(403, "", "")}},
	{"userinfo-sub-mismatch", run.Certain, asking, []edit{func(e *Evidence) { e.UserinfoSub = "keeper" }}, []edit{func(e *Evidence) { e.UserinfoSub, e.IDTokenSub = "keeper", "" }}},
}

// ending is a run that revoked a token.
func ending() *Evidence {
	e := healthyToken()
	e.Legs[1].Kind, e.Legs[1].URL, e.Answer = run.Revocation, "https://h/revoke", nil
	e.Legs[1].Exchange.Request.Body = []byte("token=x&token_type_hint=access_token")
	answer(200, "", "")(e)
	return e
}

func TestClientAuthenticationFailsTheSameWayElsewhere(t *testing.T) {
	assert.Empty(t, judged(ending))
	assert.Equal(t, []string{"secret-has-edge-whitespace"}, ids(judged(ending, refusal(401, "invalid_client", ""), secret("kelp\n"))))
	assert.Equal(t, []string{"wrong-secret", "unknown-client"}, ids(judged(ending, refusal(401, "invalid_client", ""))))
	assert.Empty(t, judged(asking))
}

func TestHealthyTokensHaveNoFindings(t *testing.T) {
	assert.Empty(t, judged(looked))
	assert.Empty(t, JudgeToken(looked()))
	assert.Empty(t, JudgeToken(&Evidence{Now: time.Now()}))
	assert.Equal(t, ids(judged(looked, claim(`{"exp":1}`))), ids(JudgeToken(func() *Evidence { e := looked(); claim(`{"exp":1}`)(e); return e }())))
}
