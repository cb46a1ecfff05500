package standin

import (
	"net/http"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestIntrospectionIsForTheClientsOwnTokens(t *testing.T) {
	_, host := serveStandin(t)
	tok := accessToken(t, host)
	about := func(auth string) map[string]any {
		_, doc := ask(t, "POST", host+"/introspect", "token="+tok, "Authorization", auth)
		return doc
	}
	assert.Equal(t, true, about(nightly)["active"])
	assert.Equal(t, "nightly-forecast", about(nightly)["sub"])
	relay := basic("relay", findClient("relay").Secret)
	assert.Equal(t, map[string]any{"active": false}, about(relay), "another's token is told nothing about")
	resp, doc := ask(t, "POST", host+"/introspect", "token="+tok)
	assert.Equal(t, []any{400, "invalid_request"}, []any{resp.StatusCode, doc["error"]})
	resp, doc = ask(t, "POST", host+"/introspect", "", "Authorization", nightly)
	assert.Equal(t, []any{400, "invalid_request"}, []any{resp.StatusCode, doc["error"]})
}

func TestRevocation(t *testing.T) {
	_, host := serveStandin(t)
	tok := accessToken(t, host)
	resp, _ := ask(t, "POST", host+"/revoke", "token="+tok, "Authorization", basic("relay", findClient("relay").Secret))
	assert.Equal(t, 200, resp.StatusCode, "another's token: nothing happens, and nothing is told")
	resp, _ = ask(t, "GET", host+"/api/me", "", "Authorization", "Bearer "+tok)
	assert.Equal(t, 200, resp.StatusCode)
	resp, _ = ask(t, "POST", host+"/revoke", "token="+tok, "Authorization", nightly)
	assert.Equal(t, 200, resp.StatusCode)
	resp, _ = ask(t, "GET", host+"/api/me", "", "Authorization", "Bearer "+tok)
	assert.Equal(t, 401, resp.StatusCode)

	// a refresh token takes with it what came from it
	_, doc := ask(t, "POST", host+"/token", "grant_type=password&client_id=kiosk&username=keeper&password="+findUser("keeper").Password)
	access, _ := doc["access_token"].(string)
	refresh, _ := doc["refresh_token"].(string)
	_, doc = ask(t, "POST", host+"/introspect", "client_id=kiosk&token="+refresh)
	assert.Equal(t, true, doc["active"])
	ask(t, "POST", host+"/revoke", "client_id=kiosk&token="+refresh)
	for _, dead := range []string{access, refresh} {
		_, doc = ask(t, "POST", host+"/introspect", "client_id=kiosk&token="+dead)
		assert.Equal(t, false, doc["active"])
	}
}

func TestKeysRotate(t *testing.T) {
	s, host := serveStandin(t)
	kids := func() []any {
		_, doc := ask(t, "GET", host+"/keys", "")
		var out []any
		for _, k := range doc["keys"].([]any) {
			out = append(out, k.(map[string]any)["kid"])
		}
		return out
	}
	first := kids()
	old := accessToken(t, host)
	require.NoError(t, s.RotateKeys())
	assert.Len(t, kids(), 4)
	assert.Subset(t, kids(), first, "the ones before stay one turn more")
	resp, _ := ask(t, "GET", host+"/api/me", "", "Authorization", "Bearer "+old)
	assert.Equal(t, 200, resp.StatusCode)
	require.NoError(t, s.RotateKeys())
	assert.NotSubset(t, kids(), first)
	resp, _ = ask(t, "GET", host+"/api/me", "", "Authorization", "Bearer "+old)
	assert.Equal(t, 401, resp.StatusCode, "its key is gone")
}

func TestLogoutNeedsAnIDTokenOfOurs(t *testing.T) {
	s, host := serveStandin(t)
	g := &grantRecord{client: findClient("pilot-desk"), subject: "pilot", user: findUser("pilot"), scope: []string{"openid"}, authTime: time.Now()}
	hint, err := s.idToken(g, "access", time.Now())
	require.NoError(t, err)
	s.logins["a-session"] = &login{findUser("pilot"), time.Now()}
	s.logins["another"] = &login{findUser("keeper"), time.Now()}
	logout := func(q url.Values) *http.Response {
		resp, _ := ask(t, "GET", host+"/logout?"+q.Encode(), "")
		return resp
	}
	assert.Equal(t, 400, logout(url.Values{}).StatusCode)
	assert.Equal(t, 400, logout(url.Values{"id_token_hint": {hint}, "client_id": {"kiosk"}}).StatusCode)
	assert.Len(t, s.logins, 2)
	resp := logout(url.Values{"id_token_hint": {hint}, "post_logout_redirect_uri": {farewells[0]}, "state": {"s 1"}})
	assert.Equal(t, farewells[0]+"?state=s+1", resp.Header.Get("Location"))
	assert.Len(t, s.logins, 1, "only the one who left")
	assert.Equal(t, 200, logout(url.Values{"id_token_hint": {hint}, "post_logout_redirect_uri": {"https://elsewhere.example"}}).StatusCode, "never sent to an address that is not registered")
}

func TestClockFaultsShowInDateAndTokens(t *testing.T) {
	for fault, off := range map[string]time.Duration{"clock-ahead": 10 * time.Minute, "clock-behind": -10 * time.Minute} {
		s, host := serveStandin(t, fault)
		resp, _ := ask(t, "GET", host+"/keys", "")
		at, err := http.ParseTime(resp.Header.Get("Date"))
		require.NoError(t, err)
		assert.InDelta(t, off.Seconds(), time.Until(at).Seconds(), 5)
		claims, err := s.verify(accessToken(t, host))
		require.NoError(t, err)
		assert.InDelta(t, float64(time.Now().Add(off).Unix()), claims["iat"], 5)
	}
}
