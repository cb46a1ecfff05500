package wire

import (
	"context"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func sender(t *testing.T, opt Options) *Sender {
	t.Helper()
	if opt.Limits == (Limits{}) {
		opt.Limits = Limits{Connect: 20 * time.Second, Total: 20 * time.Second, Body: 1 << 10, Header: 8 << 10}
	}
	s, err := NewSender(opt)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func TestExchangeIsRecorded(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "Application/JSON; charset=utf-8")
		http.Redirect(w, r, "/elsewhere", http.StatusFound)
	}))
	defer srv.Close()
	x, err := sender(t, Options{UserAgent: "tc"}).Send(context.Background(), Request{Method: "GET", URL: srv.URL + "/a"})
	require.NoError(t, err)
	assert.Nil(t, x.Failure)
	assert.Equal(t, 302, x.Response.Status, "no redirect is followed")
	assert.Equal(t, "application/json", x.Response.MediaType())
	assert.Equal(t, "tc", x.Request.Header.Get("User-Agent"))
	assert.Positive(t, x.Timing.Total)
	assert.NotEmpty(t, x.Peer.Address)
}

func TestFailuresAreNamed(t *testing.T) {
	hang := make(chan struct{})
	mux := http.NewServeMux()
	mux.HandleFunc("/hang", func(_ http.ResponseWriter, r *http.Request) {
		select {
		case <-hang:
		case <-r.Context().Done():
		}
	})
	mux.HandleFunc("/reset", func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) })
	mux.HandleFunc("/huge", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, strings.Repeat("x", 2<<10)) })
	mux.HandleFunc("/endless", func(w http.ResponseWriter, r *http.Request) {
		for r.Context().Err() == nil {
			if _, err := fmt.Fprint(w, strings.Repeat("x", 64)); err != nil {
				return
			}
		}
	})
	mux.HandleFunc("/short", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "100")
		fmt.Fprint(w, "half")
	})
	mux.HandleFunc("/headers", func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("X", strings.Repeat("x", 64<<10)) })
	plain := httptest.NewServer(mux)
	defer plain.Close()
	defer close(hang)
	secure := httptest.NewTLSServer(mux)
	defer secure.Close()
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	nobody := closed.Addr().String()
	require.NoError(t, closed.Close())
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: secure.Certificate().Raw}), 0o600))
	u, _ := url.Parse(secure.URL)

	tests := []struct {
		name, url string
		want      FailureKind
		ca        string
	}{
		{"hang", plain.URL + "/hang", TimeoutWaiting, ""},
		{"reset", plain.URL + "/reset", ConnectionReset, ""},
		{"huge", plain.URL + "/huge", AnswerTooLarge, ""},
		{"endless", plain.URL + "/endless", AnswerTooLarge, ""},
		{"shorter than said", plain.URL + "/short", ConnectionReset, ""},
		{"huge header", plain.URL + "/headers", AnswerTooLarge, ""},
		{"nobody there", "http://" + nobody, ConnectionRefused, ""},
		{"no such name", "https://tides.invalid/", NameNotResolved, ""},
		{"unknown authority", secure.URL, TLSUnknownAuth, ""},
		{"another name", "https://localhost:" + u.Port(), TLSNameMismatch, ca},
		{"https on a plain port", strings.Replace(plain.URL, "http:", "https:", 1), TLSOnPlainPort, ""},
	}
	for _, tt := range tests {
		opt := Options{CACert: tt.ca, Limits: Limits{Connect: 20 * time.Second, Total: 20 * time.Second, Body: 1 << 10, Header: 8 << 10}}
		if tt.want == TimeoutWaiting {
			opt.Limits.Total = 700 * time.Millisecond
		}
		x, err := sender(t, opt).Send(context.Background(), Request{Method: "GET", URL: tt.url})
		require.NoError(t, err, tt.name)
		if assert.NotNil(t, x.Failure, tt.name) {
			assert.Equal(t, tt.want, x.Failure.Kind, "%s: %s", tt.name, x.Failure.Detail)
		}
	}
	x, err := sender(t, Options{CACert: ca}).Send(context.Background(), Request{Method: "GET", URL: secure.URL + "/nothing"})
	require.NoError(t, err)
	require.Nil(t, x.Failure, "with its authority the server is trusted")
	assert.NotEmpty(t, x.Peer.TLSVersion)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	x, _ = sender(t, Options{}).Send(ctx, Request{Method: "GET", URL: plain.URL})
	assert.Equal(t, Interrupted, x.Failure.Kind)
}

func TestWhatIsNeverSent(t *testing.T) {
	s := sender(t, Options{PlainHTTP: map[string]bool{"allowed.invalid": true}})
	for _, r := range []Request{
		{Method: "GET", URL: "http://tides.example/"}, {Method: "GET", URL: "ftp://127.0.0.1/"}, {Method: "GET", URL: "/relative"}, {Method: "GET", URL: "http://[::1"},
		{Method: "GET", URL: "http://127.0.0.1:1/", Header: http.Header{"X": {"a\r\nEvil: b"}}}, {Method: "G T", URL: "http://127.0.0.1:1/"},
	} {
		_, err := s.Send(context.Background(), r)
		assert.Error(t, err, r.URL)
	}
	x, err := s.Send(context.Background(), Request{Method: "GET", URL: "http://allowed.invalid/"})
	require.NoError(t, err, "allowed by name")
	assert.Equal(t, NameNotResolved, x.Failure.Kind)
	_, err = NewSender(Options{CACert: "nowhere.pem"})
	assert.Error(t, err)
}

func TestSameOriginAndLoopback(t *testing.T) {
	parse := func(s string) *url.URL { u, _ := url.Parse(s); return u }
	assert.True(t, SameOrigin(parse("https://A.example/x"), parse("https://a.example:443/y")))
	assert.False(t, SameOrigin(parse("https://a.example"), parse("http://a.example")))
	assert.False(t, SameOrigin(parse("https://a.example"), parse("https://a.example:444")))
	for host, want := range map[string]bool{"127.0.0.1": true, "127.9.9.9": true, "::1": true, "[::1]": true, "localhost": true, "a.localhost": true, "10.0.0.1": false, "localhost.example": false} {
		assert.Equal(t, want, Loopback(host), host)
	}
}
