package standin

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/exhibit"
	"tidycourier/core/har"
)

// record makes a HAR entry; pairs of request headers follow.
func record(at, method, address, body string, status int, answer string, headers ...string) har.Entry {
	e := har.Entry{Started: "2026-03-31T12:00:" + at + "Z", Request: har.Request{Method: method, URL: address}, Response: har.Response{Status: status, Content: har.Content{MimeType: "application/json", Text: answer}}}
	if body != "" {
		e.Request.PostData = &har.PostData{MimeType: "application/x-www-form-urlencoded", Text: body}
	}
	for i := 0; i+1 < len(headers); i += 2 {
		e.Request.Headers = append(e.Request.Headers, har.Pair{Name: headers[i], Value: headers[i+1]})
	}
	return e
}

// replayed serves a record, and answers a request to it without following
// redirects.
func replayed(t *testing.T, entries ...har.Entry) (*Replay, string, func(method, path, body string, headers ...string) (*http.Response, string)) {
	t.Helper()
	raw, err := json.Marshal(har.New("1", "", entries))
	require.NoError(t, err)
	b, _, err := exhibit.ReadHAR(strings.NewReader(string(raw)), exhibit.Settings{})
	require.NoError(t, err)
	srv := httptest.NewUnstartedServer(nil)
	base := "http://" + srv.Listener.Addr().String()
	p := NewReplay(b, base, nil)
	srv.Config.Handler = p
	srv.Start()
	t.Cleanup(srv.Close)
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return p, base, func(method, path, body string, headers ...string) (*http.Response, string) {
		t.Helper()
		r, err := http.NewRequest(method, base+path, strings.NewReader(body))
		require.NoError(t, err)
		if body != "" {
			r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
		for i := 0; i+1 < len(headers); i += 2 {
			r.Header.Set(headers[i], headers[i+1])
		}
		resp, err := client.Do(r)
		if err != nil {
			return nil, err.Error()
		}
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp, string(text)
	}
}

const cb = "https%3A%2F%2Fapp.example%2Fcb"

func recordOfGrant() []har.Entry {
	ask := record("00", "GET", "https://as.example/authorize?response_type=code&client_id=desk&redirect_uri="+cb+"&state=old&code_challenge=abc&code_challenge_method=S256", "", 302, "")
	ask.Response.Headers = []har.Pair{{Name: "Location", Value: "https://app.example/cb?code=c-1&state=old&iss=https%3A%2F%2Fas.example"}}
	return []har.Entry{
		record("00", "GET", "https://as.example/.well-known/oauth-authorization-server", "", 200, `{"issuer":"https://as.example","token_endpoint":"https:\/\/as.example\/token","authorization_endpoint":"https://as.example/authorize"}`),
		ask,
		record("01", "GET", "https://app.example/cb?code=c-1&state=old&iss=https%3A%2F%2Fas.example", "", 200, ""),
		record("02", "POST", "https://as.example/token", "grant_type=authorization_code&client_id=desk&code=c-1&code_verifier=v&redirect_uri="+cb, 400, `{"error":"invalid_grant"}`),
		record("03", "POST", "https://as.example/token", "grant_type=authorization_code&client_id=desk&code=c-1&code_verifier=v&redirect_uri="+cb+"%2F", 200, `{"access_token":"a-1","token_type":"Bearer","expires_in":60}`),
		record("04", "GET", "https://api.example/stations?since=2026-03-01", "", 200, `{"self":"https://api.example/stations"}`, "Authorization", "Bearer a-1"),
	}
}

func TestAReplayAnswersAsTheRecordedProviderDid(t *testing.T) {
	p, base, ask := replayed(t, recordOfGrant()...)
	assert.Equal(t, [][2]string{{"https://as.example", base}, {"https://api.example", base + "/api.example"}}, p.Origins())
	_, text := ask("GET", "/.well-known/oauth-authorization-server", "")
	assert.Contains(t, text, `"issuer":"`+base+`"`)
	assert.NotContains(t, text, "as.example", "also where slashes are escaped")

	resp, _ := ask("GET", "/authorize?response_type=code&client_id=desk&redirect_uri="+cb+"&state=new&code_challenge=xyz&code_challenge_method=S256", "")
	require.Equal(t, http.StatusFound, resp.StatusCode)
	to, err := url.Parse(resp.Header.Get("Location"))
	require.NoError(t, err)
	assert.Equal(t, url.Values{"code": {"c-1"}, "state": {"new"}, "iss": {base}}, to.Query(), "the state is that of now, the issuer is here")

	form := "grant_type=authorization_code&client_id=desk&code=c-1&code_verifier=other&redirect_uri="
	resp, text = ask("POST", "/token", form+cb)
	assert.Equal(t, 400, resp.StatusCode)
	assert.Contains(t, text, "invalid_grant")
	resp, _ = ask("POST", "/token", form+cb+"%2F")
	assert.Equal(t, 200, resp.StatusCode, "the other try of the record, by its parameter")

	resp, text = ask("GET", "/api.example/stations?since=2027-01-01", "", "Authorization", "Bearer another")
	assert.Equal(t, 200, resp.StatusCode, "what a call asks for may differ")
	assert.Contains(t, text, base+"/api.example/stations")
}

func TestAReplaySaysWhatWasNotRecorded(t *testing.T) {
	_, _, ask := replayed(t, recordOfGrant()...)
	for _, c := range []struct{ method, path, body, says string }{
		{"GET", "/nowhere", "", "no request to this address"},
		{"GET", "/token", "", "no request to this address"},
		{"POST", "/token", "grant_type=authorization_code&client_id=other&code=x&code_verifier=v&redirect_uri=" + cb, "differs in client_id"},
		{"POST", "/token", "grant_type=authorization_code&client_id=desk&code=x&redirect_uri=" + cb, "differs in code_verifier"},
		{"POST", "/token", "grant_type=authorization_code&client_id=desk&code=x&code_verifier=v&scope=a&redirect_uri=" + cb, "differs in scope"},
		{"GET", "/authorize?response_type=code&client_id=desk&redirect_uri=https%3A%2F%2Fevil.example&state=s&code_challenge=a&code_challenge_method=S256", "", "differs in redirect_uri"},
		{"GET", "/api.example/stations", "", "differs in Authorization"},
	} {
		resp, text := ask(c.method, c.path, c.body)
		assert.Equal(t, http.StatusNotImplemented, resp.StatusCode, c.path)
		assert.Contains(t, text, "not_recorded")
		assert.Contains(t, text, c.says)
	}
}

// Two tries alike are answered in turn; no answer then is none now; loopback
// ports may differ where it worked, and not where it did not.
func TestAReplayInItsCorners(t *testing.T) {
	down := record("03", "POST", "https://as.example/token", "grant_type=refresh_token&refresh_token=r", 0, "")
	down.Response.Error = "net::ERR_CONNECTION_RESET"
	_, _, ask := replayed(t,
		record("00", "POST", "https://as.example/token", "grant_type=client_credentials&client_id=a&client_secret=s", 503, `{}`),
		record("01", "POST", "https://as.example/token", "grant_type=client_credentials&client_id=a&client_secret=s", 200, `{"access_token":"t","token_type":"Bearer"}`),
		record("02", "POST", "https://as.example/token", "grant_type=authorization_code&code=c&redirect_uri=http%3A%2F%2F127.0.0.1%3A1111%2Fcb", 200, `{"access_token":"t2","token_type":"Bearer"}`),
		record("02", "POST", "https://as.example/token", "grant_type=authorization_code&client_id=x&code=c&redirect_uri=http%3A%2F%2F127.0.0.1%3A1111%2Fcb", 400, `{"error":"invalid_grant"}`),
		down)
	for _, want := range []int{503, 200, 503} {
		resp, _ := ask("POST", "/token", "grant_type=client_credentials&client_id=a&client_secret=s")
		assert.Equal(t, want, resp.StatusCode)
	}
	resp, _ := ask("POST", "/token", "grant_type=authorization_code&code=c&redirect_uri=http%3A%2F%2F127.0.0.1%3A2222%2Fcb")
	assert.Equal(t, 200, resp.StatusCode)
	resp, text := ask("POST", "/token", "grant_type=authorization_code&client_id=x&code=c&redirect_uri=http%3A%2F%2F127.0.0.1%3A2222%2Fcb")
	assert.Equal(t, http.StatusNotImplemented, resp.StatusCode, text)
	resp, text = ask("POST", "/token", "grant_type=refresh_token&refresh_token=another")
	assert.Nil(t, resp)
	assert.Contains(t, text, "EOF")
	resp, _ = ask("POST", "/token", strings.Repeat("x", 2<<20))
	assert.Equal(t, http.StatusRequestEntityTooLarge, resp.StatusCode)
}
