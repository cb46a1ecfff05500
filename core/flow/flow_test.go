package flow

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/bearer"
	"tidycourier/core/fault"
	"tidycourier/core/finding"
	"tidycourier/core/mask"
	"tidycourier/core/project"
	"tidycourier/core/wire"
)

// testEngine is an engine on a fresh state folder and a courier file.
func testEngine(t *testing.T, courierFile string) *Engine {
	t.Helper()
	dir := t.TempDir()
	opt := project.Options{WorkDir: dir, LookupEnv: func(string) (string, bool) { return "secret-from-env", true }}
	p := project.Empty(opt)
	if courierFile != "" {
		path := filepath.Join(dir, project.FileName)
		require.NoError(t, os.WriteFile(path, []byte(courierFile), 0o600))
		var err error
		p, err = project.Open(path, opt)
		require.NoError(t, err)
	}
	sender, err := wire.NewSender(wire.Options{})
	require.NoError(t, err)
	disk := &Disk{Dir: filepath.Join(dir, "state"), Getenv: func(n string) string { return map[string]string{"TIDY_COURIER_KEYRING": "off"}[n] }}
	t.Cleanup(func() { sender.Close(); _ = disk.Close() })
	return &Engine{Project: p, Sender: sender, Mask: &mask.Set{}, Store: disk, Now: time.Now, Random: rand.Reader}
}

func plainCall(url string) *CallPlan {
	return &CallPlan{Name: "GET " + url, Method: "GET", URL: url, Header: http.Header{}, SendToken: true, Token: "tok-12345", API: &project.API{}}
}

func send(e *Engine, p *CallPlan) (*Session, *CallResult, error) {
	s := e.Begin("call")
	r, used, err := s.Prepare(context.Background(), p)
	if err != nil {
		return s, nil, s.Finish(err)
	}
	res, err := s.Call(context.Background(), p, r, used)
	return s, res, s.Finish(err)
}

// The token stays behind when an API redirects to another origin, whichever
// header it travels in, and goes along within its own.
func TestTokenNeverCrossesOrigins(t *testing.T) {
	seen := map[string]string{}
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		seen["other"] = r.Header.Get("Authorization") + r.Header.Get("X-Token")
	}))
	defer other.Close()
	own := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/away":
			http.Redirect(w, r, other.URL+"/x", http.StatusTemporaryRedirect)
		case "/near":
			http.Redirect(w, r, "/here", http.StatusFound)
		case "/loop":
			http.Redirect(w, r, "/loop", http.StatusFound)
		default:
			seen[r.URL.Path] = r.Header.Get("Authorization")
		}
	}))
	defer own.Close()
	e := testEngine(t, "")
	for _, placement := range []bearer.Placement{{}, {Header: "X-Token"}} {
		p := plainCall(own.URL + "/away")
		p.Placement = placement
		s, res, err := send(e, p)
		require.NoError(t, err)
		assert.Equal(t, 200, res.Leg.Status())
		assert.Len(t, s.Run.Legs, 2, "each hop is a leg")
		assert.Contains(t, s.Run.Legs[0].Note, "stays behind")
		assert.Empty(t, seen["other"])
	}
	_, _, err := send(e, plainCall(own.URL+"/near"))
	require.NoError(t, err)
	assert.Equal(t, "Bearer tok-12345", seen["/here"])
	_, _, err = send(e, plainCall(own.URL+"/loop"))
	assert.Equal(t, fault.API, fault.As(err).Kind)
}

const jobFile = `version: 1
servers: 
  s: { token_endpoint: HOST/token }
clients:
  job: { client_id: job, client_secret: { env: S }, grant: client_credentials, scope: [SCOPE] }
`

// One token serves many calls; other settings need another; a stale one is
// replaced.
func TestTokenIsReusedWhileFresh(t *testing.T) {
	asked, life := 0, "1800"
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked++
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write([]byte(`{"access_token":"tok-` + strings.Repeat("x", asked) + `","token_type":"Bearer","expires_in":` + life + `}`))
	}))
	defer srv.Close()
	e := testEngine(t, strings.NewReplacer("HOST", srv.URL, "SCOPE", "a").Replace(jobFile))
	take := func() *Used {
		c, err := e.Project.Client("job")
		require.NoError(t, err)
		s := e.Begin("pouch take")
		u, err := s.TokenFor(context.Background(), c)
		require.NoError(t, s.Finish(err))
		return u
	}
	first := take()
	assert.True(t, first.Refreshed)
	assert.False(t, take().Refreshed)
	assert.Equal(t, 1, asked)
	e.Now = func() time.Time { return time.Now().Add(29*time.Minute + 40*time.Second) }
	assert.NotEqual(t, first.Token, take().Token, "30 s before its end it is not used any more")
	assert.Equal(t, 2, asked)
	require.NoError(t, e.Project.Override("clients", "job", []project.Given{{Field: "scope", Value: "b", Flag: "--scope"}}))
	take()
	assert.Equal(t, 3, asked, "another scope, another token")
}

func b64(raw []byte) string { return base64.RawURLEncoding.EncodeToString(raw) }

// newPerson is the evidence of an attempt.
func newPerson(a *attempt) *finding.Person { return &finding.Person{Request: &a.Request} }
