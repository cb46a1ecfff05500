package exhibit

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/har"
)

// judgedOf is what a record's entries are found guilty of.
func judgedOf(t *testing.T, entries ...har.Entry) []string {
	t.Helper()
	b, _, err := ReadHAR(strings.NewReader(document(t, entries...)), Settings{})
	require.NoError(t, err)
	return causes(b)
}

const good = `{"access_token":"opaque-access-1","token_type":"Bearer","expires_in":60,"scope":"gauges.read"}`

// What a browser does around a grant is no failure of it.
func TestWhatBrowsersDoBesidesIsNoCause(t *testing.T) {
	metadata := entry(0, "GET", "https://as.example/.well-known/openid-configuration", "", 200, `{"issuer":"https://as.example","token_endpoint":"https://as.example/oauth/token","authorization_endpoint":"https://as.example/authorize","jwks_uri":"https://as.example/jwks"}`)
	exchange := entry(5, "POST", "https://as.example/oauth/token", "grant_type=authorization_code&client_id=desk&code=c0de-1&redirect_uri=https%3A%2F%2Fapp.example%2Fcb", 200, good)
	asking := entry(1, "GET", asked, "", 302, "", "Location", "https://app.example/cb?code=c0de-1&state=s-1")
	landing := entry(2, "GET", "https://app.example/cb?code=c0de-1&state=s-1", "", 200, "<html>")
	call := entry(6, "GET", "https://api.example/stations", "", 200, `{}`, "Authorization", "Bearer opaque-access-1")
	preflight := func(at int, url, wants string) har.Entry {
		return entry(at, "OPTIONS", url, "", 204, "", "Origin", "https://app.example", "Access-Control-Request-Method", wants, "Access-Control-Request-Headers", "authorization,content-type")
	}
	for name, list := range map[string][]har.Entry{
		"preflight requests":          {metadata, asking, landing, preflight(4, "https://as.example/oauth/token", "POST"), exchange, preflight(6, "https://api.example/stations", "GET"), call},
		"refused preflight of others": {asking, landing, exchange, call, entry(7, "OPTIONS", "https://other.example/collect", "", 403, "", "Origin", "https://app.example", "Access-Control-Request-Method", "POST")},
		"an answer out of the cache":  {asking, landing, exchange, entry(6, "GET", "https://api.example/stations", "", 304, "", "Authorization", "Bearer opaque-access-1")},
		"an advertisement refused":    {asking, landing, exchange, call, entry(7, "GET", "https://ads.example/pixel?code=1", "", 403, "<html>blocked</html>")},
		"a page behind a sign-in":     {entry(0, "GET", "https://app.example/", "", 302, "", "Location", asked), asking, landing, exchange, call},
		"the callback sent on":        {asking, entry(2, "GET", "https://app.example/cb?code=c0de-1&state=s-1", "", 302, "", "Location", "https://app.example/home"), exchange, entry(3, "GET", "https://app.example/home", "", 200, "<html>")},
		"one signed out":              {asking, landing, exchange, entry(8, "GET", "https://as.example/logout?id_token_hint=x&post_logout_redirect_uri=https%3A%2F%2Fapp.example", "", 302, "", "Location", "https://app.example/")},
		"only a call":                 {call},
		"a silent renewal":            {asking, landing, exchange, entry(9, "GET", strings.Replace(asked, "state=s-1", "state=s-2&prompt=none", 1), "", 302, "", "Location", "https://app.example/cb?code=c0de-2&state=s-2"), entry(9, "GET", "https://app.example/cb?code=c0de-2&state=s-2", "", 200, "<html>"), entry(10, "POST", "https://as.example/oauth/token", "grant_type=authorization_code&client_id=desk&code=c0de-2&redirect_uri=https%3A%2F%2Fapp.example%2Fcb", 200, strings.Replace(good, "access-1", "access-2", 1))},
	} {
		assert.Empty(t, judgedOf(t, list...), name)
	}
}

// Where the browser refused to hand an answer on, the record has status 0.
func TestWhatABrowserBlocked(t *testing.T) {
	blocked := entry(5, "POST", "https://as.example/oauth/token", "grant_type=authorization_code&client_id=desk&code=c0de-1&redirect_uri=https%3A%2F%2Fapp.example%2Fcb", 0, "")
	blocked.Request.Headers = []har.Pair{{Name: "Origin", Value: "https://app.example"}}
	blocked.Response.Error = "net::ERR_FAILED"
	found := judgedOf(t, entry(4, "OPTIONS", "https://as.example/oauth/token", "", 405, "", "Origin", "https://app.example", "Access-Control-Request-Method", "POST"), blocked)
	require.NotEmpty(t, found)
	blocked.Request.Headers[0].Value = "https://as.example"
	assert.Empty(t, judgedOf(t, blocked), "of the same origin, nothing is known")
	assert.Equal(t, "cross-origin-refused@1", found[0])
}

// A browser leaves credentials out of its record unless told otherwise; that they
// are not there proves nothing then.
func TestHeadersThatWereLeftOut(t *testing.T) {
	challenged := entry(1, "GET", "https://api.example/x", "", 401, `{"error":"invalid_token"}`)
	challenged.Response.Headers = []har.Pair{{Name: "WWW-Authenticate", Value: `Bearer error="invalid_token"`}}
	bare := entry(1, "GET", "https://api.example/x", "", 401, "")
	bare.Response.Headers = []har.Pair{{Name: "WWW-Authenticate", Value: "Bearer"}}
	for _, c := range []struct {
		e           har.Entry
		whole, left string
	}{
		{challenged, "no-token-sent certain", "token-not-accepted likely"},
		{bare, "no-token-sent certain", "token-not-accepted likely"},
		{entry(1, "POST", "https://as.example/token", "grant_type=client_credentials&client_id=a", 401, `{"error":"invalid_client"}`), "confidential-client-without-secret likely", "wrong-secret likely"},
		{entry(1, "POST", "https://as.example/token", "grant_type=client_credentials", 401, `{"error":"invalid_client"}`), "client-id-missing certain", "wrong-secret likely"},
	} {
		for creator, want := range map[string]string{"a proxy": c.whole, "WebInspector": c.left} {
			doc := strings.Replace(document(t, c.e), `"name":"tidy-courier"`, `"name":"`+creator+`"`, 1)
			b, _, err := ReadHAR(strings.NewReader(doc), Settings{})
			require.NoError(t, err)
			found := b.Judge()
			require.NotEmpty(t, found, want)
			assert.Equal(t, want, found[0].ID+" "+string(found[0].Certainty), creator)
		}
	}
	doc := strings.Replace(document(t, challenged, entry(2, "GET", "https://x.example/", "", 200, "", "Cookie", "a=b")), `"name":"tidy-courier"`, `"name":"WebInspector"`, 1)
	b, _, err := ReadHAR(strings.NewReader(doc), Settings{})
	require.NoError(t, err)
	assert.False(t, b.HeadersLeftOut, "one was there, so none were left out")
}
