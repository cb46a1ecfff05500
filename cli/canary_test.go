package cli_test

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/cli"
	"tidycourier/standin"
)

// canaryProject is a provider and a project in a temporary folder, with a
// canary in every place a secret can be.
type canaryProject struct {
	t      *testing.T
	dir    string
	env    map[string]string
	tokens []string
	all    bytes.Buffer // every byte any command wrote
}

func newCanaryProject(t *testing.T) *canaryProject {
	c := &canaryProject{t: t, dir: t.TempDir(), env: map[string]string{"TIDY_COURIER_KEYRING": "off", "ODD_SECRET": "canary-odd-secret-31 \n"}}
	c.env["TIDY_COURIER_STATE"] = filepath.Join(c.dir, "state")
	srv := httptest.NewUnstartedServer(nil)
	s, err := standin.New(standin.Config{Issuer: "http://" + srv.Listener.Addr().String(), Approve: standin.ApproveAuto})
	require.NoError(t, err)
	srv.Config.Handler = c.listen(s.Handler())
	srv.Start()
	t.Cleanup(srv.Close)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "courier.yaml"), s.CourierFile(), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, ".env"), s.EnvFile(), 0o600))
	return c
}

// listen notes every token that the server hands out, and has it say the
// client's secrets back, as careless servers do.
func (c *canaryProject) listen(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rec := httptest.NewRecorder()
		next.ServeHTTP(rec, r)
		if to, err := url.Parse(rec.Header().Get("Location")); err == nil && to.Query().Get("code") != "" {
			c.tokens = append(c.tokens, to.Query().Get("code"))
		}
		if rec.Header().Get("Content-Type") == "application/jwt" {
			c.tokens = append(c.tokens, rec.Body.String())
		}
		var doc map[string]any
		if json.Unmarshal(rec.Body.Bytes(), &doc) == nil {
			for _, name := range []string{"access_token", "refresh_token", "id_token"} {
				if v, ok := doc[name].(string); ok {
					c.tokens = append(c.tokens, v)
				}
			}
			if doc["error"] != nil {
				doc["error_description"] = "you sent " + r.PostForm.Get("client_secret") + " " + r.Header.Get("Authorization")
				raw, err := json.Marshal(doc)
				require.NoError(c.t, err)
				rec.Body = bytes.NewBuffer(raw)
			}
		}
		for name, v := range rec.Header() {
			w.Header()[name] = v
		}
		w.WriteHeader(rec.Code)
		_, _ = w.Write(rec.Body.Bytes())
	})
}

// run runs a command in this process and keeps what it wrote.
func (c *canaryProject) run(args ...string) (string, int) {
	c.t.Helper()
	var out, errs bytes.Buffer
	env := func(name string) (string, bool) { v, ok := c.env[name]; return v, ok }
	status := cli.Main(args, cli.Surroundings{In: strings.NewReader("http://127.0.0.1:8651/landing?code=canary-pasted-code&state=canary-state"), Out: &out, Err: &errs, Env: env, Dir: c.dir, Now: time.Now})
	c.all.WriteString(out.String() + errs.String())
	return out.String() + errs.String(), status
}

// TestNoSecretIsEverWritten plants canaries and greps every byte written: by
// each command in each output mode, and by the state folder.
func TestNoSecretIsEverWritten(t *testing.T) {
	c := newCanaryProject(t)
	commands := [][]string{
		{"discover", "northmark"}, {"show", "nightly-forecast"}, {"show", "ledger-sync"}, {"schema"},
		{"obtain", "nightly-forecast"}, {"obtain", "ledger-sync"}, {"obtain", "archive"}, {"obtain", "expired-app"},
		{"obtain", "nightly-forecast", "--secret-env", "ODD_SECRET"}, {"obtain", "ledger-sync", "--secret-env", "ODD_SECRET"},
		{"obtain", "nightly-forecast", "--token-endpoint", "http://127.0.0.1:1/"}, {"obtain", "nightly-forecast", "--auth-method", "client_secret_post"},
		{"call", "stations"}, {"call", "stations-refused"}, {"call", "post-notice"}, {"call", "latest-levels"}, {"call", "stations", "--dry-run"},
		{"call", "latest-levels", "--dry-run"}, {"call", "stations", "--client", "ledger-sync"}, {"call", "POST", "/notices", "--api", "gauges"},
		{"decode", "--client", "nightly-forecast"}, {"pouch", "list"}, {"pouch", "show", "nightly-forecast"},
		{"obtain", "pilot-desk", "--redirect-uri", "http://127.0.0.1:0/landing", "--browser", "browse"}, {"obtain", "harbour-portal", "--browser", "browse"},
		{"obtain", "pilot-desk", "--redirect-uri", "http://127.0.0.1:0/landing", "--browser", "browse", "--until", "code"}, {"obtain", "pilot-desk", "--code"},
		{"obtain", "pilot-desk", "--paste"}, {"obtain", "pilot-desk", "--dry-run"}, {"obtain", "harbour-portal", "--dry-run"}, {"obtain", "kiosk", "--dry-run"},
		{"obtain", "kiosk"}, {"obtain", "kiosk", "--password-env", "ODD_SECRET"}, {"obtain", "relay"}, {"refresh", "pilot-desk"}, {"refresh", "kiosk"}, {"refresh", "relay"},
		{"call", "my-harbours"}, {"decode", "--client", "pilot-desk", "--which", "id"}, {"decode", "--client", "pilot-desk", "--which", "refresh"}, {"pouch", "show", "pilot-desk"},
		{"decode", "--client", "nightly-forecast", "--verify"}, {"decode", "--client", "pilot-desk", "--which", "id", "--verify"}, {"decode", "--lines"},
		{"compare", "pilot-desk"}, {"compare", "relay", "kiosk", "--all"}, {"introspect", "kiosk"}, {"introspect", "relay", "--which", "refresh"},
		{"userinfo", "pilot-desk"}, {"userinfo", "harbour-portal"}, {"userinfo", "nightly-forecast"}, {"logout", "pilot-desk"}, {"logout", "pilot-desk", "--open"}, {"revoke", "kiosk"}, {"revoke", "archive"},
		{"round", "watch"}, {"round", "watch", "--keep-going", "--jobs", "3"}, {"drill", "notices"}, {"drill", "stations"}, {"drill", "latest-levels"},
		{"journal", "list"}, {"journal", "show"}, {"journal", "show", "--full"}, {"journal", "show", "3", "--full"}, {"journal", "show", "7", "--full"},
		{"journal", "export", "1", "--har"}, {"journal", "export", "7", "--sh"}, {"journal", "export", "--case", "-"}, {"journal", "export", "2", "--case", "-"},
		{"explain"}, {"explain", "3"}, {"explain", "-"}, {"explain", "--har", "all.har"}, {"explain", "--har", "all.har", "--client", "nightly-forecast"}, {"nonsense"},
	}
	c.run("obtain", "nightly-forecast")
	c.run("obtain", "pilot-desk", "--redirect-uri", "http://127.0.0.1:0/landing", "--browser", "browse")
	out, status := c.run("journal", "export", "--har", "--reveal", "--save", "all.har")
	require.Zero(t, status, out)
	for _, mode := range [][]string{nil, {"--json"}, {"--verbose"}, {"--quiet"}} {
		for _, cmd := range commands {
			c.run(append(append([]string{}, cmd...), mode...)...)
		}
	}
	require.True(t, slices.ContainsFunc(c.tokens, func(s string) bool { return strings.HasPrefix(s, "ac-") }), "a person signed in")
	canaries := append(c.tokens, "canary-odd-secret-31", "canary-pasted-code")
	for _, client := range standin.Clients() {
		canaries = append(canaries, client.Secret)
		if client.AuthMethod == "client_secret_basic" {
			canaries = append(canaries, base64.StdEncoding.EncodeToString([]byte(client.ID+":"+url.QueryEscape(client.Secret))))
		}
	}
	for _, u := range standin.Users() {
		canaries = append(canaries, u.Password)
	}
	c.noneIn(canaries, "the output", c.all.String())
	err := filepath.WalkDir(c.env["TIDY_COURIER_STATE"], func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		raw, err := os.ReadFile(path)
		c.noneIn(canaries, path, string(raw))
		return err
	})
	require.NoError(t, err)

	// the net itself holds water: what is asked for by name does come out
	out, status = c.run("pouch", "take", "nightly-forecast")
	assert.Zero(t, status)
	assert.Contains(t, out, "eyJ")
	out, _ = c.run("obtain", "nightly-forecast", "--reveal", "--json")
	assert.Contains(t, out, c.tokens[len(c.tokens)-1])
}

func (c *canaryProject) noneIn(canaries []string, where, text string) {
	c.t.Helper()
	for _, v := range canaries {
		if v = strings.TrimSpace(v); v == "" {
			continue
		}
		if i := strings.Index(text, v); i >= 0 {
			c.t.Errorf("a secret reached %s: …%s…", where, text[max(0, i-80):min(len(text), i+20)])
		}
	}
}
