package landing

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func listen(t *testing.T, redirect string) *Listener {
	t.Helper()
	l, err := Listen(redirect, true, func(a Arrival) Verdict {
		return Verdict{Good: a.Values.Get("error") == "", Title: "Judged", Text: a.Values.Get("error_description")}
	})
	require.NoError(t, err)
	t.Cleanup(l.Close)
	return l
}

func get(t *testing.T, method, target string, form url.Values, header ...string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequest(method, target, strings.NewReader(form.Encode()))
	require.NoError(t, err)
	if form != nil {
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	for i := 0; i+1 < len(header); i += 2 {
		if header[i] == "Host" {
			r.Host = header[i+1]
		}
		r.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	raw, _ := io.ReadAll(resp.Body)
	return resp, string(raw)
}

func arrival(t *testing.T, l *Listener) Arrival {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	a, err := l.Wait(ctx)
	require.NoError(t, err)
	return a
}

func TestTakesOneAnswer(t *testing.T) {
	l := listen(t, "http://127.0.0.1:0/landing")
	base := l.RedirectURI()
	u, _ := url.Parse(base)
	root := "http://" + u.Host
	for _, tt := range []struct {
		method, url string
		header      []string
		status      int
	}{
		{"GET", root + "/favicon.ico", nil, 204},
		{"GET", root + "/other?code=x", nil, 404},
		{"GET", base + "?code=x", []string{"Host", "evil.example"}, 421},
		{"GET", base + "?code=x", []string{"Sec-Purpose", "prefetch"}, 503},
		{"PUT", base + "?code=x", nil, 405},
		{"GET", base + "?%zz", nil, 400},
		{"GET", base, nil, 200}, // the page for fragments
	} {
		resp, _ := get(t, tt.method, tt.url, nil, tt.header...)
		assert.Equal(t, tt.status, resp.StatusCode, "%s %s", tt.method, tt.url)
	}
	assert.Len(t, l.Strays(), 4, "evidence for when nothing arrives")
	resp, page := get(t, "GET", base+"?error=access_denied&error_description="+url.QueryEscape(`<script>alert(1)</script>`), nil)
	assert.Equal(t, 400, resp.StatusCode)
	assert.NotContains(t, page, "<script")
	assert.Contains(t, page, "&lt;script&gt;")
	assert.Equal(t, "no-store", resp.Header.Get("Cache-Control"))
	assert.Contains(t, resp.Header.Get("Content-Security-Policy"), "default-src 'none'")
	assert.Equal(t, "access_denied", arrival(t, l).Values.Get("error"))
	resp, page = get(t, "GET", base+"?code=late", nil)
	assert.Equal(t, 410, resp.StatusCode, "one answer, no more")
	assert.Contains(t, page, "taken already")
}

func TestThreeWaysBack(t *testing.T) {
	l := listen(t, "http://127.0.0.1:0/cb")
	_, _ = get(t, "GET", l.RedirectURI()+"?code=a%2Fb&state=s", nil)
	a := arrival(t, l)
	assert.Equal(t, []string{"query", "a/b", "s"}, []string{a.Via, a.Values.Get("code"), a.Values.Get("state")})
	l = listen(t, "http://localhost:0/cb")
	_, _ = get(t, "POST", l.RedirectURI(), url.Values{"code": {"c"}})
	assert.Equal(t, "form_post", arrival(t, l).Via)
	l = listen(t, "http://[::1]:0/cb")
	resp, _ := get(t, "POST", l.RedirectURI(), url.Values{fragmentField: {"#nothing=1"}})
	assert.Equal(t, 400, resp.StatusCode)
	_, _ = get(t, "POST", l.RedirectURI(), url.Values{fragmentField: {"#access_token=t&state=s"}})
	a = arrival(t, l)
	assert.Equal(t, []string{"fragment", "t"}, []string{a.Via, a.Values.Get("access_token")})
}

func TestWhatCannotBeListenedAt(t *testing.T) {
	for _, bad := range []string{"https://127.0.0.1/cb", "http://portal.example/cb", "/cb", "http://127.0.0.1/cb#x", "urn:ietf:wg:oauth:2.0:oob"} {
		assert.Error(t, Listenable(bad), bad)
	}
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	_, err = Listen("http://"+taken.Addr().String()+"/cb", true, nil)
	require.Error(t, err)
	assert.Contains(t, err.Error(), "is taken")
	if _, bad := os.Stat("/proc/net/tcp"); bad == nil {
		assert.Contains(t, err.Error(), "process", "says who holds it")
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = listen(t, "http://127.0.0.1:0/").Wait(ctx)
	assert.ErrorIs(t, err, context.Canceled)
}
