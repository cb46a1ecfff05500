package finding

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"tidycourier/core/oauth"
	"tidycourier/core/wire"
)

func answered1(status int, contentType, body string, headers ...string) *wire.Response {
	h := http.Header{"Content-Type": {contentType}}
	for i := 0; i+1 < len(headers); i += 2 {
		h.Add(headers[i], headers[i+1])
	}
	return &wire.Response{Status: status, Header: h, Body: []byte(body)}
}

// Wherever an error stands, and whatever its members are called, it is read.
func TestErrorsAreReadFromWhereverTheyStand(t *testing.T) {
	json, page := "application/json", "text/html; charset=utf-8"
	for _, c := range []struct {
		name       string
		r          *wire.Response
		code, text string
	}{
		{"RFC 6749 5.2", answered1(400, json, `{"error":"invalid_grant","error_description":"too late"}`), "invalid_grant", "too late"},
		{"RFC 9457", answered1(400, "application/problem+json", `{"type":"https://h/problems/scope","title":"Scope unknown","detail":"gauges.raed","status":400}`), "", "gauges.raed. Scope unknown"},
		{"nested", answered1(401, json, `{"error":{"code":"InvalidToken","message":"expired"}}`), "InvalidToken", "expired"},
		{"in a list", answered1(403, json, `{"errors":[{"code":"forbidden","detail":"not yours"}]}`), "forbidden", "not yours"},
		{"a fault", answered1(500, json, `{"fault":{"faultstring":"Invalid ApiKey","detail":{"errorcode":"oauth.v2.InvalidApiKey"}}}`), "oauth.v2.InvalidApiKey", "Invalid ApiKey"},
		{"own names", answered1(400, json, `{"errorCode":"E4","errorSummary":"no such client","errorCauses":[]}`), "E4", "no such client"},
		{"a sentence as code", answered1(401, json, `{"error":"Not authorized here"}`), "", "Not authorized here."},
		{"only a message", answered1(401, json, `{"message":"Unauthorized"}`), "", "Unauthorized"},
		{"a challenge", answered1(401, json, ``, "WWW-Authenticate", `Bearer error="invalid_token", error_description="revoked"`), "invalid_token", "revoked"},
		{"a challenge beside words", answered1(401, json, `{"message":"go away"}`, "WWW-Authenticate", `Bearer error="invalid_token"`), "invalid_token", "go away"},
		{"a challenge of DPoP", answered1(401, json, ``, "WWW-Authenticate", `DPoP error="use_dpop_nonce"`), "use_dpop_nonce", ""},
		{"a form", answered1(400, "text/plain", `error=bad_verification_code&error_description=The+code+is+gone`), "bad_verification_code", "The code is gone"},
		{"plain text", answered1(400, "text/plain", "Invalid client_id\nsee the manual"), "", "Invalid client_id"},
		{"a page", answered1(400, page, `<html><head><title>Error</title><style>p{}</style></head><body><script>x()</script><h1>We are sorry</h1><p>Invalid parameter: redirect_uri</p></body></html>`), "", "Error. We are sorry. Invalid parameter: redirect_uri"},
		{"entities", answered1(400, page, `<p>can&#39;t find &lt;client&gt;</p>`), "", "can't find <client>"},
	} {
		o := rawReply(c.r)
		if assert.NotNil(t, o, c.name) {
			assert.Equal(t, c.code, o.Code, c.name)
			assert.Equal(t, c.text, strings.TrimSpace(o.Description), c.name)
			assert.Equal(t, c.r.Status, o.Status, c.name)
		}
	}
	for _, silent := range []*wire.Response{nil, answered1(401, json, ""), answered1(400, json, "{}"), answered1(400, json, "{nope"), answered1(400, page, "<html></html>"), answered1(400, json, `{"data":{"a":1}}`)} {
		assert.Nil(t, rawReply(silent))
	}
	deep := strings.Repeat(`{"error":`, 5000) + "1" + strings.Repeat("}", 5000)
	assert.NotPanics(t, func() { rawReply(answered1(400, json, deep)) })
}

// Of a server's words only those count that tell more than the code does.
func TestWordsThatTellNothingAreLeftOut(t *testing.T) {
	for words, left := range map[string]string{
		"The code has expired.": "The code has expired",
		"Client authentication failed (e.g., unknown client, no client authentication included, or unsupported authentication method).":                      "",
		"Client authentication failed (e.g., unknown client, no client authentication included). The client does not exist.":                                 "The client does not exist",
		"The provided authorization grant or refresh token is invalid, expired, revoked, does not match the redirection URI or was issued to another client": "",
		"The token is invalid or expired":                                        "",
		"Make sure that the redirect URI is whitelisted. Check your parameters.": "",
		"Check the client secret":                                                "Check the client secret",
		"The scope is unknown; please check it":                                  "The scope is unknown",
		"Signature verification failed":                                          "Signature verification failed",
		"Bad Request - redirect_uri does not match":                              "Bad Request. redirect_uri does not match",
		"": "",
		"Code mismatch (i.e. the verifier is wrong)!": "Code mismatch",
	} {
		assert.Equal(t, left, telling(words), words)
	}
}

// A code that nobody else has stands for one of the RFC's, by what it says.
func TestOwnCodesAreUnderstood(t *testing.T) {
	for _, c := range []struct{ body, grant, code string }{
		{`{"error":"INVALID_CLIENT"}`, "", oauth.ErrInvalidClient},
		{`{"error":"bad_verification_code","error_description":"The code passed is incorrect or expired."}`, oauth.GrantCode, oauth.ErrInvalidGrant},
		{`{"error":"incorrect_client_credentials"}`, "", oauth.ErrInvalidClient},
		{`{"error":"redirectUriMismatch"}`, oauth.GrantCode, oauth.ErrInvalidGrant},
		{`{"error":"unsupported_grant","error_description":"The grant type is not supported"}`, "", oauth.ErrUnsupportedGrantType},
		{`{"error":"E17","error_description":"grant type not allowed for this application"}`, "", oauth.ErrUnauthorizedClient},
		{`{"error":"E18","error_description":"scope gauges is unknown"}`, "", oauth.ErrInvalidScope},
		{`{"error":"E19","error_description":"wrong username or password"}`, oauth.GrantPassword, oauth.ErrInvalidGrant},
		{`{"error":"E20","error_description":"a required parameter is missing"}`, "", oauth.ErrInvalidRequest},
		{`{"error":"E21"}`, "", ""},
	} {
		assert.Equal(t, c.code, reply(answered1(400, "application/json", c.body), c.grant).Code, c.body)
	}
}

func TestWordsAreFoundAtTheirBeginning(t *testing.T) {
	assert.True(t, said("Invalid redirect_uri", "redirect uri"))
	assert.True(t, said("Redirect-URIs differ", "redirect uri"))
	assert.True(t, said("the client's id", "clients id"))
	assert.False(t, said("decode failed", "code"), "a word does not begin inside another")
	assert.True(t, said("code_verifier", "verifier"))
	assert.False(t, said("", "code"))
}
