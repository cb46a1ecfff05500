// Package interop drives the built program against a real authorization server
// that we did not write. It needs Node and the packages of package-lock.json:
//
//	(cd interop && npm ci) && go test ./interop
package interop

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	issuer  string
	program string
)

func TestMain(m *testing.M) {
	os.Exit(withServer(m))
}

// withServer builds the program and starts the server, or skips plainly; where
// INTEROP is "required" a skip is a failure.
func withServer(m *testing.M) int {
	_, noNode := exec.LookPath("node")
	_, noPackages := os.Stat("node_modules/oidc-provider")
	if noNode != nil || noPackages != nil {
		fmt.Println("SKIPPED: interop needs node and (cd interop && npm ci)")
		if os.Getenv("INTEROP") == "required" {
			return 1
		}
		return 0
	}
	dir, err := os.MkdirTemp("", "interop-")
	if err != nil {
		fmt.Println(err)
		return 1
	}
	defer os.RemoveAll(dir)
	program = filepath.Join(dir, "tidy-courier")
	if out, err := exec.Command("go", "build", "-o", program, "../cmd/tidy-courier").CombinedOutput(); err != nil {
		fmt.Println(string(out))
		return 1
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		fmt.Println(err)
		return 1
	}
	port := l.Addr().(*net.TCPAddr).Port
	_ = l.Close()
	server := exec.Command("node", "server.mjs", fmt.Sprint(port))
	server.Stderr = io.Discard
	out, err := server.StdoutPipe()
	if err == nil {
		err = server.Start()
	}
	if err != nil {
		fmt.Println(err)
		return 1
	}
	defer func() { _ = server.Process.Kill(); _ = server.Wait() }()
	if _, err := bufio.NewReader(out).ReadString('\n'); err != nil {
		fmt.Println("the server did not start:", err)
		return 1
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	issuer = fmt.Sprintf("http://127.0.0.1:%d", port)
	return m.Run()
}

const courierFile = `version: 1
servers:
  real: { issuer: "ISSUER" }
clients:
  desk: { client_id: desk, token_endpoint_auth_method: none, grant: authorization_code, redirect_uri: "http://127.0.0.1:0/landing", scope: [openid, profile, offline_access, gauges.read] }
  portal-basic: { client_id: portal-basic, client_secret: { env: BASIC }, token_endpoint_auth_method: client_secret_basic, grant: authorization_code, redirect_uri: "http://127.0.0.1:8653/callback", scope: [openid, offline_access] }
  portal-post: { client_id: portal-post, client_secret: { env: POST }, token_endpoint_auth_method: client_secret_post, grant: authorization_code, redirect_uri: "http://127.0.0.1:8653/callback", scope: [openid] }
  job: { client_id: job, client_secret: { env: JOB }, grant: client_credentials, scope: [gauges.read] }
`

// desk is a project in a temporary folder.
type desk struct {
	t   *testing.T
	dir string
	jar http.CookieJar
}

func project(t *testing.T) *desk {
	t.Helper()
	d := &desk{t: t, dir: t.TempDir()}
	d.jar, _ = cookiejar.New(nil) // never fails
	require.NoError(t, os.WriteFile(filepath.Join(d.dir, "courier.yaml"), []byte(strings.ReplaceAll(courierFile, "ISSUER", issuer)), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(d.dir, ".env"), []byte("BASIC='kelp+brine/55&=%'\nPOST='rope & tar: 9+1'\nJOB='night*watch~7'\nWRONG=not-the-one\n"), 0o600))
	return d
}

// result is the part of the documents that the tests look at.
type result struct {
	status   int
	Token    *struct{ Scope []string }
	Error    *struct{ Kind, Code, Message string }
	Rotated  bool
	Findings []struct {
		ID        string
		Certainty string
		Note      bool
	}
	Response *struct{ Body string }
	raw      string
}

func (r result) cause() string {
	for _, f := range r.Findings {
		if !f.Note {
			return f.ID
		}
	}
	return ""
}

func (d *desk) command(args ...string) *exec.Cmd {
	cmd := exec.Command(program, append(args, "--json")...)
	cmd.Dir = d.dir
	cmd.Env = append(os.Environ(), "TIDY_COURIER_STATE="+filepath.Join(d.dir, "state"), "TIDY_COURIER_KEYRING=off")
	return cmd
}

func (d *desk) finish(out []byte, err error) result {
	d.t.Helper()
	var r result
	require.NoError(d.t, json.Unmarshal(out, &r), string(out))
	r.raw = string(out)
	if exit, ok := err.(*exec.ExitError); ok {
		r.status = exit.ExitCode()
	}
	return r
}

func (d *desk) run(args ...string) result {
	d.t.Helper()
	out, err := d.command(args...).Output()
	return d.finish(out, err)
}

// signIn runs a command that needs a person, who signs in, or turns back.
func (d *desk) signIn(refuse bool, args ...string) result {
	d.t.Helper()
	cmd := d.command(append(args, "--no-browser", "--timeout", "60s")...)
	var out bytes.Buffer
	cmd.Stdout = &out
	errs, err := cmd.StderrPipe()
	require.NoError(d.t, err)
	require.NoError(d.t, cmd.Start())
	lines := bufio.NewScanner(errs)
	for lines.Scan() {
		if strings.HasPrefix(lines.Text(), "http") {
			d.browse(lines.Text(), refuse)
		}
	}
	return d.finish(out.Bytes(), cmd.Wait())
}

var (
	formPattern   = regexp.MustCompile(`<form[^>]*action="([^"]+)"`)
	hiddenPattern = regexp.MustCompile(`<input type="hidden" name="([^"]+)" value="([^"]*)"`)
	abortPattern  = regexp.MustCompile(`href="([^"]+/abort)"`)
)

// browse follows the server's own pages to the end.
func (d *desk) browse(target string, refuse bool) {
	c := &http.Client{Jar: d.jar, Timeout: 10 * time.Second}
	resp, err := c.Get(target)
	for range 6 {
		if err != nil {
			return // the program has gone; its own words tell
		}
		raw, _ := io.ReadAll(resp.Body)
		_ = resp.Body.Close()
		page := string(raw)
		form := formPattern.FindStringSubmatch(page)
		if form == nil {
			return
		}
		if abort := abortPattern.FindStringSubmatch(page); refuse && abort != nil {
			to, _ := resp.Request.URL.Parse(abort[1])
			resp, err = c.Get(to.String())
			continue
		}
		values := url.Values{"login": {"pilot"}, "password": {"x"}}
		for _, h := range hiddenPattern.FindAllStringSubmatch(page, -1) {
			values.Set(h[1], h[2])
		}
		to, _ := resp.Request.URL.Parse(form[1])
		resp, err = c.PostForm(to.String(), values)
	}
}

func TestHealthy(t *testing.T) {
	d := project(t)
	r := d.run("discover", issuer)
	assert.Zero(t, r.status)
	assert.Empty(t, r.Findings)

	r = d.run("obtain", "job")
	require.Zero(t, r.status, r.raw)
	assert.Empty(t, r.Findings)

	r = d.signIn(false, "obtain", "desk", "--prompt", "consent")
	require.Zero(t, r.status, r.raw)
	assert.Empty(t, r.Findings)
	assert.Contains(t, r.Token.Scope, "offline_access")
	for range 2 {
		r = d.run("refresh", "desk")
		require.Zero(t, r.status, r.raw)
		assert.True(t, r.Rotated)
		assert.Empty(t, r.Findings)
	}
	r = d.run("call", "GET", issuer+"/me", "--client", "desk")
	require.Zero(t, r.status, r.raw)
	assert.Contains(t, r.Response.Body, `"sub":"pilot"`)

	for _, client := range []string{"portal-basic", "portal-post"} {
		r = d.signIn(false, "obtain", client, "--prompt", "consent")
		require.Zero(t, r.status, "%s: %s", client, r.raw)
		assert.Empty(t, r.cause(), client)
	}
	r = d.signIn(false, "obtain", "desk", "--response-mode", "form_post", "--dry-run")
	assert.Zero(t, r.status)
}

func TestRefusals(t *testing.T) {
	d := project(t)
	r := d.signIn(true, "obtain", "desk")
	assert.Equal(t, 5, r.status)
	assert.Equal(t, "consent-denied", r.cause(), r.raw)

	r = d.signIn(false, "obtain", "desk", "--prompt", "none")
	assert.Equal(t, "login-required", r.cause(), r.raw)
	r = d.signIn(false, "obtain", "desk", "--code-challenge-method", "none")
	assert.Equal(t, "pkce-required", r.cause(), r.raw)
	r = d.run("obtain", "desk", "--redirect-uri", "http://127.0.0.1:0/other", "--no-browser", "--timeout", "4s")
	assert.Equal(t, "redirect-not-received", r.cause(), "the server shows a page of its own")

	r = d.run("obtain", "job", "--secret-env", "WRONG")
	assert.Equal(t, "wrong-secret", r.cause(), r.raw)
	r = d.run("obtain", "job", "--auth-method", "client_secret_post")
	assert.Zero(t, r.status, "header and body are as good as each other here")
	r = d.run("obtain", "job", "--client-id", "nobody")
	assert.Contains(t, r.raw, "unknown-client")
	r = d.run("obtain", "portal-basic", "--grant", "client_credentials", "--scope", "gauges.read")
	assert.Equal(t, "grant-not-allowed-for-client", r.cause(), r.raw)
	r = d.run("call", "GET", issuer+"/me", "--bare")
	assert.Equal(t, 6, r.status)
}

// A code and a refresh token work once here; both second uses are proved from
// our own journal.
func TestSecondUses(t *testing.T) {
	d := project(t)
	r := d.signIn(false, "obtain", "desk", "--prompt", "consent", "--until", "code")
	require.Zero(t, r.status, r.raw)
	copied := d.copyState()
	r = d.run("obtain", "desk", "--code")
	require.Zero(t, r.status, r.raw)
	r = d.againWith(copied, "obtain", "desk", "--code")
	assert.Equal(t, "code-reused", r.cause(), r.raw)

	r = d.signIn(false, "obtain", "desk", "--prompt", "consent")
	require.Zero(t, r.status, r.raw)
	copied = d.copyState()
	r = d.run("refresh", "desk")
	require.Zero(t, r.status, r.raw)
	r = d.againWith(copied, "refresh", "desk")
	assert.Equal(t, "refresh-token-reused", r.cause(), r.raw)
	r = d.run("refresh", "desk")
	assert.Equal(t, 5, r.status, "the whole family has gone")
}

// copyState keeps the pouch as it is now.
func (d *desk) copyState() []byte {
	d.t.Helper()
	raw, err := os.ReadFile(filepath.Join(d.dir, "state", "pouch.db"))
	require.NoError(d.t, err)
	return raw
}

// againWith runs a command on an older pouch, with today's journal, and puts
// today's pouch back.
func (d *desk) againWith(old []byte, args ...string) result {
	d.t.Helper()
	path := filepath.Join(d.dir, "state", "pouch.db")
	now := d.copyState()
	require.NoError(d.t, os.WriteFile(path, old, 0o600))
	r := d.run(args...)
	require.NoError(d.t, os.WriteFile(path, now, 0o600))
	return r
}
