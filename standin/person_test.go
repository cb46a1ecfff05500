package standin

import (
	"crypto/sha256"
	"encoding/base64"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	verifier = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
	landing  = "http://127.0.0.1:8651/landing"
)

// autoOffice is a stand-in where the pilot agrees by itself.
func autoOffice(t *testing.T) (*Server, string) {
	t.Helper()
	s, host := serveStandin(t)
	s.cfg.Approve = ApproveAuto
	return s, host
}

// authorize sends an authorization request and returns the answer's status and
// parameters.
func authorize(t *testing.T, host string, change ...string) (*http.Response, url.Values) {
	t.Helper()
	sum := sha256.Sum256([]byte(verifier))
	q := url.Values{"response_type": {"code"}, "client_id": {"pilot-desk"}, "redirect_uri": {landing}, "state": {"s"}, "nonce": {"n"}, "scope": {"openid offline_access gauges.read"},
		"code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])}, "code_challenge_method": {"S256"}}
	for i := 0; i+1 < len(change); i += 2 {
		if q.Set(change[i], change[i+1]); change[i+1] == "" {
			q.Del(change[i])
		}
	}
	resp, _ := ask(t, "GET", host+"/authorize?"+q.Encode(), "")
	to, err := url.Parse(resp.Header.Get("Location"))
	require.NoError(t, err)
	return resp, to.Query()
}

func redeem(t *testing.T, host, code string, change ...string) (int, map[string]any) {
	t.Helper()
	f := url.Values{"grant_type": {"authorization_code"}, "client_id": {"pilot-desk"}, "code": {code}, "redirect_uri": {landing}, "code_verifier": {verifier}}
	for i := 0; i+1 < len(change); i += 2 {
		if f.Set(change[i], change[i+1]); change[i+1] == "" {
			f.Del(change[i])
		}
	}
	resp, doc := ask(t, "POST", host+"/token", f.Encode())
	return resp.StatusCode, doc
}

func TestAuthorizationErrors(t *testing.T) {
	_, host := autoOffice(t)
	for name, change := range map[string][]string{"unknown client": {"client_id", "nobody"}, "path": {"redirect_uri", landing + "/"}, "localhost is not 127.0.0.1": {"redirect_uri", "http://localhost:9/landingx"},
		"other host": {"redirect_uri", "https://evil.example/landing"}, "client without redirects": {"client_id", "kiosk"}} {
		resp, _ := authorize(t, host, change...)
		assert.Equal(t, 400, resp.StatusCode, name)
		assert.Empty(t, resp.Header.Get("Location"), "%s: never redirected", name)
	}
	for name, tt := range map[string]struct {
		change []string
		code   string
	}{
		"no response type": {[]string{"response_type", ""}, "invalid_request"}, "unknown response type": {[]string{"response_type", "tea"}, "unsupported_response_type"},
		"scope": {[]string{"scope", "tea"}, "invalid_scope"}, "no challenge": {[]string{"code_challenge", "", "code_challenge_method", ""}, "invalid_request"},
		"method": {[]string{"code_challenge_method", "S512"}, "invalid_request"}, "malformed challenge": {[]string{"code_challenge", "short"}, "invalid_request"},
		"request object": {[]string{"request", "x"}, "request_not_supported"}, "prompts": {[]string{"prompt", "none login"}, "invalid_request"},
		"token in a query": {[]string{"response_type", "token", "response_mode", "query"}, "invalid_request"}, "audience": {[]string{"resource", "x"}, "invalid_target"},
	} {
		_, v := authorize(t, host, tt.change...)
		assert.Equal(t, tt.code, v.Get("error"), name)
		assert.Equal(t, "s", v.Get("state"), name)
		assert.Equal(t, host, v.Get("iss"), name)
	}
	resp, err := http.Get(host + "/authorize?client_id=" + url.QueryEscape(`"><script>alert(1)</script>`))
	require.NoError(t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "<script")
	_, v := authorize(t, host, "redirect_uri", "http://127.0.0.1:50001/landing")
	assert.NotEmpty(t, v.Get("code"), "a public client may use any loopback port (RFC 8252 8.4)")
}

// RFC 6749 4.1.2: a code works once, and its reuse revokes what it gave.
func TestCodesWorkOnce(t *testing.T) {
	_, host := autoOffice(t)
	for name, change := range map[string][]string{"redirect": {"redirect_uri", landing + "x"}, "no verifier": {"code_verifier", ""}, "wrong verifier": {"code_verifier", strings.ToUpper(verifier)}, "code": {"code", "x"}} {
		_, v := authorize(t, host)
		status, doc := redeem(t, host, v.Get("code"), change...)
		assert.Equal(t, []any{400, "invalid_grant"}, []any{status, doc["error"]}, name)
	}
	_, v := authorize(t, host)
	status, doc := redeem(t, host, v.Get("code"))
	require.Equal(t, 200, status)
	bearer := "Bearer " + doc["access_token"].(string)
	resp, me := ask(t, "GET", host+"/userinfo", "", "Authorization", bearer)
	assert.Equal(t, []any{200, "pilot"}, []any{resp.StatusCode, me["sub"]})
	_, seen := ask(t, "GET", host+"/api/harbours", "", "Authorization", bearer, "Accept", "application/json")
	assert.Len(t, seen["harbours"], 2, "a person sees their own harbours")
	status, doc = redeem(t, host, v.Get("code"))
	assert.Equal(t, []any{400, "invalid_grant"}, []any{status, doc["error"]})
	resp, _ = ask(t, "GET", host+"/userinfo", "", "Authorization", bearer)
	assert.Equal(t, 401, resp.StatusCode, "what the code gave is revoked")
}

// RFC 9700 4.14.2: refresh tokens rotate, and reuse ends the family.
func TestRefreshTokensRotate(t *testing.T) {
	_, host := autoOffice(t)
	_, v := authorize(t, host, "scope", "gauges.read")
	_, doc := redeem(t, host, v.Get("code"))
	assert.NotContains(t, doc, "refresh_token", "offline_access decides")
	_, v = authorize(t, host)
	_, doc = redeem(t, host, v.Get("code"))
	spend := func(raw any, scope string) (int, map[string]any) {
		resp, doc := ask(t, "POST", host+"/token", url.Values{"grant_type": {"refresh_token"}, "client_id": {"pilot-desk"}, "refresh_token": {raw.(string)}, "scope": {scope}}.Encode())
		return resp.StatusCode, doc
	}
	first := doc["refresh_token"]
	status, next := spend(first, "")
	require.Equal(t, 200, status)
	assert.NotEqual(t, first, next["refresh_token"])
	status, wide := spend(next["refresh_token"], "notices.write")
	assert.Equal(t, []any{400, "invalid_scope"}, []any{status, wide["error"]})
	status, _ = spend(first, "")
	assert.Equal(t, 400, status)
	status, _ = spend(next["refresh_token"], "")
	assert.Equal(t, 400, status, "the family has gone")
	resp, _ := ask(t, "GET", host+"/userinfo", "", "Authorization", "Bearer "+accessToken(t, host))
	assert.Equal(t, 403, resp.StatusCode, "an application's token stands for no person")
}
