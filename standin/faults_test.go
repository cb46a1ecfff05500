package standin

import (
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rawToken asks the token endpoint as the kiosk does, and returns the answer as
// it came; an empty status means that none did.
func rawToken(t *testing.T, host string) (status int, header http.Header, body string) {
	t.Helper()
	form := url.Values{"grant_type": {"password"}, "client_id": {"kiosk"}, "username": {"keeper"}, "password": {findUser("keeper").Password}}
	c := &http.Client{Timeout: 5 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := c.PostForm(host+"/token", form)
	if err != nil {
		return 0, nil, err.Error()
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, resp.Header, string(raw)
}

// Each fault does what its name says, and nothing does it without the fault.
func TestEachTokenFault(t *testing.T) {
	sound := func(status int, _ http.Header, body string) bool {
		return status == 200 && strings.Contains(body, `"expires_in":120`) && strings.Contains(body, `"token_type":"Bearer"`) && strings.Contains(body, "refresh_token")
	}
	wrong := map[string]func(status int, h http.Header, body string) bool{
		"token-html":          func(_ int, h http.Header, body string) bool { return strings.Contains(h.Get("Content-Type"), "html") },
		"token-form":          func(_ int, _ http.Header, body string) bool { return strings.HasPrefix(body, "access_token=") },
		"no-expires-in":       func(_ int, _ http.Header, body string) bool { return !strings.Contains(body, "expires_in") },
		"no-token-type":       func(_ int, _ http.Header, body string) bool { return !strings.Contains(body, "token_type") },
		"no-refresh-token":    func(_ int, _ http.Header, body string) bool { return !strings.Contains(body, "refresh_token") },
		"expires-in-text":     func(_ int, _ http.Header, body string) bool { return strings.Contains(body, `"expires_in":"120"`) },
		"expires-in-negative": func(_ int, _ http.Header, body string) bool { return strings.Contains(body, `"expires_in":-1`) },
		"scope-narrowed":      func(_ int, _ http.Header, body string) bool { return !strings.Contains(body, "gauges.read") },
		"error-with-200":      func(s int, _ http.Header, body string) bool { return s == 200 && strings.Contains(body, `"error"`) },
		"token-redirect":      func(s int, h http.Header, _ string) bool { return s == 302 && h.Get("Location") != "" },
		"server-error":        func(s int, _ http.Header, _ string) bool { return s == 500 },
		"unavailable":         func(s int, h http.Header, _ string) bool { return s == 503 && h.Get("Retry-After") == "120" },
		"rate-limit":          func(s int, h http.Header, _ string) bool { return s == 429 && h.Get("Retry-After") == "30" },
		"empty-answer":        func(s int, _ http.Header, body string) bool { return s == 200 && body == "" },
		"truncated":           func(_ int, _ http.Header, body string) bool { return !strings.HasSuffix(strings.TrimSpace(body), "}") },
		"huge-answer":         func(_ int, _ http.Header, body string) bool { return len(body) > 32<<20 },
		"control-characters":  func(_ int, _ http.Header, body string) bool { return strings.Contains(body, `\u001b`) },
	}
	_, host := serveStandin(t)
	status, header, body := rawToken(t, host)
	assert.True(t, sound(status, header, body), body)
	for name, is := range wrong {
		assert.False(t, is(status, header, body), "%s fits a sound answer", name)
		_, faulty := serveStandin(t, name)
		s, h, b := rawToken(t, faulty)
		assert.True(t, is(s, h, b), "%s: %d %.80s", name, s, b)
	}
	for name := range tokenFaults {
		assert.Contains(t, wrong, name, "a fault without a test")
	}
}

func TestConnectionFaults(t *testing.T) {
	_, host := serveStandin(t, "reset")
	status, _, _ := rawToken(t, host)
	assert.Zero(t, status, "no answer at all")
	resp, _ := ask(t, "GET", host+"/.well-known/oauth-authorization-server", "")
	assert.Equal(t, 200, resp.StatusCode, "the metadata is spared")
	_, host = serveStandin(t, "discovery-missing")
	resp, _ = ask(t, "GET", host+"/.well-known/openid-configuration", "")
	assert.Equal(t, 404, resp.StatusCode)
	_, host = serveStandin(t, "strict-auth-method")
	resp, _ = ask(t, "POST", host+"/token", "grant_type=client_credentials&client_id=nightly-forecast&client_secret="+url.QueryEscape(findClient("nightly-forecast").Secret))
	assert.Equal(t, 401, resp.StatusCode)
}

// What goes wrong on the way back through the browser.
func TestAuthorizationFaults(t *testing.T) {
	for name, is := range map[string]func(v url.Values, target string) bool{
		"state-dropped":       func(v url.Values, _ string) bool { return !v.Has("state") },
		"iss-mismatch":        func(v url.Values, _ string) bool { return v.Get("iss") == "https://another.example" },
		"redirect-wrong-port": func(_ url.Values, target string) bool { return strings.Contains(target, ":8659/") },
	} {
		s, host := serveStandin(t, name)
		s.cfg.Approve = ApproveAuto
		resp, v := authorize(t, host)
		assert.True(t, is(v, resp.Header.Get("Location")), name)
		assert.NotEmpty(t, v.Get("code"), name)
	}
}
