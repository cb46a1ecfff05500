package drill

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/mask"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/wire"
	"tidycourier/standin"
)

// office is a stand-in, a project for it, and a pouch that holds an expired
// token, an id token and a refresh token.
func office(t *testing.T, faults ...string) *flow.Engine {
	t.Helper()
	srv := httptest.NewUnstartedServer(nil)
	off := time.Duration(0)
	s, err := standin.New(standin.Config{Issuer: "http://" + srv.Listener.Addr().String(), Faults: faults, Approve: standin.ApproveAuto, Now: func() time.Time { return time.Now().Add(off) }})
	require.NoError(t, err)
	srv.Config.Handler = s.Handler()
	srv.Start()
	t.Cleanup(srv.Close)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/courier.yaml", s.CourierFile(), 0o600))
	require.NoError(t, os.WriteFile(dir+"/.env", s.EnvFile(), 0o600))
	p, err := project.Open(dir+"/courier.yaml", project.Options{WorkDir: dir})
	require.NoError(t, err)
	sender, err := wire.NewSender(wire.Options{})
	require.NoError(t, err)
	disk := &flow.Disk{Dir: dir + "/state", Getenv: func(n string) string { return map[string]string{"TIDY_COURIER_KEYRING": "off"}[n] }}
	t.Cleanup(func() { sender.Close(); _ = disk.Close() })
	e := &flow.Engine{Project: p, Sender: sender, Mask: &mask.Set{}, Store: disk, Now: time.Now, Random: rand.Reader}

	off = -2 * time.Hour
	old := askToken(t, srv.URL, url.Values{"grant_type": {"client_credentials"}, "client_id": {"ledger-sync"}, "client_secret": {"ls&4mRopes Tar:88+kelp"}})
	off = 0
	held, err := disk.Pouch()
	require.NoError(t, err)
	require.NoError(t, held.Put(e.Key("ledger-sync"), &pouch.Set{AccessToken: old["access_token"].(string), ObtainedAt: time.Now().Add(-2 * time.Hour), ExpiresAt: time.Now().Add(-90 * time.Minute)}))
	code := signIn(t, srv.URL)
	person := askToken(t, srv.URL, url.Values{"grant_type": {"authorization_code"}, "client_id": {"pilot-desk"}, "code": {code}, "redirect_uri": {"http://127.0.0.1:8651/landing"}, "code_verifier": {verifier}})
	require.NoError(t, held.Put(e.Key("pilot-desk"), &pouch.Set{AccessToken: person["access_token"].(string), IDToken: person["id_token"].(string), RefreshToken: person["refresh_token"].(string), ObtainedAt: time.Now()}))
	return e
}

const verifier = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk" // RFC 7636 B

func askToken(t *testing.T, host string, form url.Values) map[string]any {
	t.Helper()
	resp, err := http.PostForm(host+"/token", form)
	require.NoError(t, err)
	defer resp.Body.Close()
	var doc map[string]any
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&doc))
	require.NotEmpty(t, doc["access_token"], "%v", doc)
	return doc
}

// signIn gets a code from a stand-in that approves by itself.
func signIn(t *testing.T, host string) string {
	t.Helper()
	q := url.Values{"response_type": {"code"}, "client_id": {"pilot-desk"}, "redirect_uri": {"http://127.0.0.1:8651/landing"}, "scope": {"openid offline_access gauges.read"}, "code_challenge": {verifier}, "code_challenge_method": {"plain"}}
	resp, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).Get(host + "/authorize?" + q.Encode())
	require.NoError(t, err)
	defer resp.Body.Close()
	to, err := url.Parse(resp.Header.Get("Location"))
	require.NoError(t, err)
	return to.Query().Get("code")
}

func drillNotices(t *testing.T, e *flow.Engine) map[string]Result {
	t.Helper()
	call, err := e.Project.Call("notices")
	require.NoError(t, err)
	plan, err := flow.Plan(call)
	require.NoError(t, err)
	r, err := Run(context.Background(), e.Begin("drill"), plan, Options{})
	require.NoError(t, err)
	out := map[string]Result{}
	for _, x := range r.Results {
		out[x.Name] = x
	}
	assert.Len(t, out, len(Variants))
	return out
}

func TestAnAPIThatRefusesEverything(t *testing.T) {
	for name, r := range drillNotices(t, office(t)) {
		assert.False(t, r.Wrong, name)
		assert.NotEqual(t, Skipped, r.Outcome, "%s: %s", name, r.Reason)
		assert.NotEqual(t, Unclear, r.Outcome, "%s: %d", name, r.Status)
		assert.Empty(t, r.Form, name)
	}
}

// TestEveryWrongAcceptanceIsFound lets the API accept one thing at a time.
func TestEveryWrongAcceptanceIsFound(t *testing.T) {
	found := map[string]bool{}
	for fault, wrong := range map[string][]string{
		"accept-no-token": {"no-token"}, "accept-empty-token": {"empty-token"}, "accept-any-scheme": {"wrong-scheme"}, "accept-bare-token": {"scheme-missing"},
		"refuse-lower-case-scheme": {"lower-case-scheme"}, "accept-doubled-header": {"doubled-header"}, "accept-query-token": {"token-in-query"},
		"accept-truncated-token": {"truncated"}, "accept-flipped-signature": {"signature-bit-flipped"}, "accept-changed-claims": {"claims-changed"},
		"accept-unsigned": {"algorithm-none"}, "accept-public-key-as-secret": {"public-key-as-secret"}, "accept-expired": {"expired"},
		"accept-id-token": {"id-token"}, "accept-refresh-token": {"refresh-token"}, "accept-any-scope": {"other-client", "scope-lacking"},
	} {
		t.Run(fault, func(t *testing.T) {
			for name, r := range drillNotices(t, office(t, fault)) {
				if assert.Equal(t, contains(wrong, name), r.Wrong, "%s under %s: %d", name, fault, r.Status) && r.Wrong {
					found[name] = true
				}
			}
		})
	}
	for _, v := range Variants {
		assert.True(t, found[v.Name], "no fault shows %s failing", v.Name)
	}
}

func contains(list []string, s string) bool {
	return strings.Contains(","+strings.Join(list, ",")+",", ","+s+",")
}

func TestDrillsAreCareful(t *testing.T) {
	e := office(t)
	plan := func(name string) *flow.CallPlan {
		call, err := e.Project.Call(name)
		require.NoError(t, err)
		p, err := flow.Plan(call)
		require.NoError(t, err)
		return p
	}
	assert.Equal(t, fault.Usage, fault.As(Check(plan("post-notice"), Options{})).Kind)
	assert.NoError(t, Check(plan("post-notice"), Options{UnsafeMethod: true}))
	assert.Equal(t, fault.Settings, fault.As(Check(plan("stations-refused"), Options{})).Kind)
	host, local := Local(plan("stations"))
	assert.True(t, local, host)
	_, local = Local(&flow.CallPlan{URL: "https://tides.example/api"})
	assert.False(t, local)

	broken := plan("stations")
	broken.URL += "/nothing-here"
	_, err := Run(context.Background(), e.Begin("drill"), broken, Options{})
	assert.Equal(t, fault.API, fault.As(err).Kind, "a call that does not work proves nothing")
	ctx, cancel := context.WithCancel(context.Background())
	_, err = Run(ctx, e.Begin("drill"), plan("stations"), Options{OnResult: func(Result) { cancel() }})
	assert.Equal(t, fault.Interrupted, fault.As(err).Kind)
}

func TestTheFormOfARefusal(t *testing.T) {
	leg := func(status int, challenge string) *run.Leg {
		h := http.Header{}
		if challenge != "" {
			h.Set("WWW-Authenticate", challenge)
		}
		return &run.Leg{Exchange: &wire.Exchange{Response: &wire.Response{Status: status, Header: h}}}
	}
	none := Variant{Name: "no-token"}
	for _, tt := range []struct {
		status    int
		challenge string
		v         Variant
		says      string
	}{{401, `Bearer realm="x"`, none, ""}, {401, "", none, "without a Bearer challenge"}, {401, `Basic realm="x"`, none, "without a Bearer challenge"}, {403, "", none, ""},
		{401, `Bearer error="invalid_token"`, none, "no error code"}, {403, `Bearer error="invalid_token"`, Variant{}, "goes with status 401"}, {400, `Bearer error="invalid_request"`, Variant{}, ""},
		{401, `Bearer error="insufficient_scope"`, Variant{}, "goes with status 403"}} {
		assert.Contains(t, strings.Join(form(leg(tt.status, tt.challenge), tt.v), "; "), tt.says, tt.challenge)
		assert.Equal(t, tt.says == "", len(form(leg(tt.status, tt.challenge), tt.v)) == 0, tt.challenge)
	}
	for status, want := range map[int]string{200: Accepted, 204: Accepted, 400: Refused, 401: Refused, 403: Refused, 302: Unclear, 404: Unclear, 500: Unclear} {
		assert.Equal(t, want, outcome(status))
	}
}
