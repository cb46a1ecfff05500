package flow

import (
	"context"
	"encoding/json"
	"fmt"
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

	"tidycourier/core/fault"
	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

const deskFile = `version: 1
servers:
  s: { issuer: "https://h", authorization_endpoint: "HOST/authorize", token_endpoint: "HOST/token" }
clients:
  desk: { client_id: desk, grant: authorization_code, redirect_uri: "http://127.0.0.1:0/landing", scope: [a] }
`

// counter is a token endpoint that counts, and answers what it is told to.
type counter struct {
	*httptest.Server
	asked  int
	form   url.Values
	answer string
}

func newCounter(t *testing.T) *counter {
	t.Helper()
	c := &counter{answer: `{"access_token":"tok-1","token_type":"Bearer","expires_in":60,"refresh_token":"ref-1"}`}
	c.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c.asked++
		_ = r.ParseForm() // what cannot be read is missing below
		c.form = r.PostForm
		w.Header().Set("Content-Type", "application/json")
		if strings.Contains(c.answer, `"error"`) {
			w.WriteHeader(http.StatusBadRequest)
		}
		fmt.Fprint(w, c.answer)
	}))
	t.Cleanup(c.Close)
	return c
}

// answering is a person whose browser comes back with what answer makes of the
// request. The listener must stand ready when it is opened.
func answering(t *testing.T, answer func(q url.Values) string) *Person {
	t.Helper()
	return &Person{Patience: 30 * time.Second, Open: func(raw string) (string, error) {
		u, err := url.Parse(raw)
		require.NoError(t, err)
		q := u.Query()
		resp, err := http.Get(q.Get("redirect_uri") + answer(q))
		require.NoError(t, err, "the listener is ready before the browser opens")
		return "", resp.Body.Close()
	}}
}

func grant(t *testing.T, e *Engine, who *Person) (*Session, *Obtained, error) {
	t.Helper()
	c, err := e.Project.Client("desk")
	require.NoError(t, err)
	s := e.Begin("obtain")
	got, err := s.ObtainWithPerson(context.Background(), c, who)
	return s, got, s.Finish(err)
}

func TestCodeGrant(t *testing.T) {
	srv := newCounter(t)
	e := testEngine(t, strings.ReplaceAll(deskFile, "HOST", srv.URL))
	var request url.Values
	s, got, err := grant(t, e, answering(t, func(q url.Values) string {
		request = q
		return "?code=c%2F1&state=" + q.Get("state") + "&iss=https%3A%2F%2Fh"
	}))
	require.NoError(t, err)
	assert.Equal(t, "tok-1", got.Set.AccessToken)
	assert.Equal(t, "c/1", srv.form.Get("code"), "decoded once")
	assert.Equal(t, request.Get("redirect_uri"), srv.form.Get("redirect_uri"), "the same in both, port and all")
	assert.Equal(t, request.Get("code_challenge"), oauth.Challenge("S256", srv.form.Get("code_verifier")))
	assert.NotContains(t, srv.form, "client_secret")
	var names []string
	for _, l := range s.Run.Legs {
		names = append(names, string(l.Kind))
	}
	assert.Equal(t, []string{"authorization request", "authorization response", "token request"}, names)
	assert.Contains(t, s.Run.Legs[1].Note, "state matches")
	_, again, err := grant(t, e, answering(t, func(q url.Values) string { return "?code=c2&state=" + q.Get("state") }))
	require.NoError(t, err)
	assert.NotNil(t, again.Previous, "the set it replaces is kept for comparison")
}

// What does not belong to the request is refused, never exchanged, and leaves
// the pouch as it was.
func TestForeignAnswersAreNeverExchanged(t *testing.T) {
	srv := newCounter(t)
	e := testEngine(t, strings.ReplaceAll(deskFile, "HOST", srv.URL))
	answers := map[string]func(q url.Values) string{
		"state-mismatch": func(url.Values) string { return "?code=c&state=other" },
		"state-missing":  func(url.Values) string { return "?code=c" },
		"iss-mismatch":   func(q url.Values) string { return "?code=c&iss=https%3A%2F%2Fevil&state=" + q.Get("state") },
		"consent-denied": func(q url.Values) string { return "?error=access_denied&state=" + q.Get("state") },
		"code-missing":   func(q url.Values) string { return "?state=" + q.Get("state") },
	}
	for cause, answer := range answers {
		s, _, err := grant(t, e, answering(t, answer))
		require.Error(t, err, cause)
		assert.Equal(t, fault.Authorization, fault.As(err).Kind, cause)
		assert.Equal(t, cause, s.Run.Findings[0].ID)
		assert.Equal(t, 2, s.Run.Findings[0].Leg, cause)
	}
	assert.Zero(t, srv.asked)
	set, err := e.held(e.Key("desk"))
	require.NoError(t, err)
	assert.Nil(t, set)
}

func TestNobodyComes(t *testing.T) {
	srv := newCounter(t)
	e := testEngine(t, strings.ReplaceAll(deskFile, "HOST", srv.URL))
	var told bool
	who := answering(t, func(url.Values) string { return "/elsewhere?code=c" })
	who.Patience = 200 * time.Millisecond
	who.Waiting = func(until time.Time) func() {
		assert.WithinDuration(t, time.Now().Add(who.Patience), until, time.Second)
		return func() { told = true }
	}
	s, _, err := grant(t, e, who)
	require.Error(t, err)
	assert.True(t, told, "the countdown ends with the waiting")
	f := s.Run.Findings[0]
	assert.Equal(t, "redirect-not-received", f.ID)
	assert.Contains(t, f.Evidence[2].Value, "/landing/elsewhere", "what arrived at another path is shown")
}

func TestPastedAnswers(t *testing.T) {
	srv := newCounter(t)
	e := testEngine(t, strings.ReplaceAll(deskFile, "HOST", srv.URL))
	var state string
	var said []string
	who := &Person{Open: func(raw string) (string, error) {
		u, _ := url.Parse(raw)
		state = u.Query().Get("state")
		return "", nil
	}, Say: func(s string) { said = append(said, s) }}
	who.Paste = func(context.Context) (string, error) {
		return "http://127.0.0.1:0/landing?code=pasted-code&state=" + state + "\n", nil
	}
	_, _, err := grant(t, e, who)
	require.NoError(t, err)
	assert.Equal(t, "pasted-code", srv.form.Get("code"))
	assert.Contains(t, said[0], "redirect URL")
	who.Paste = func(context.Context) (string, error) { return "bare-code", nil }
	_, _, err = grant(t, e, who)
	require.NoError(t, err, "a bare code has no state to compare")
	who.Paste = func(context.Context) (string, error) { return "http://x/?code=a b", nil }
	_, _, err = grant(t, e, who)
	assert.Equal(t, fault.Usage, fault.As(err).Kind)
	assert.NotContains(t, e.Mask.Replace(err.Error()), "a b")
}

func TestUntilCodeAndOn(t *testing.T) {
	srv := newCounter(t)
	e := testEngine(t, strings.ReplaceAll(deskFile, "HOST", srv.URL))
	who := answering(t, func(q url.Values) string { return "?code=held-code&state=" + q.Get("state") })
	who.UntilCode = true
	_, got, err := grant(t, e, who)
	require.NoError(t, err)
	assert.Nil(t, got)
	assert.Zero(t, srv.asked)
	_, _, err = grant(t, e, &Person{Code: HeldCode})
	require.NoError(t, err)
	assert.Equal(t, "held-code", srv.form.Get("code"))
	assert.NotEmpty(t, srv.form.Get("code_verifier"), "the verifier was kept with it")
	srv.answer = `{"error":"invalid_grant"}`
	s, _, err := grant(t, e, &Person{Code: "held-code"})
	require.Error(t, err)
	assert.Equal(t, "code-reused", s.Run.Findings[0].ID, "the journal knows the code")
	assert.Equal(t, run.Certain, s.Run.Findings[0].Certainty)
}

func TestStepsComeBeforeEachLeg(t *testing.T) {
	srv := newCounter(t)
	e := testEngine(t, strings.ReplaceAll(deskFile, "HOST", srv.URL))
	var steps []string
	who := answering(t, func(q url.Values) string { return "?code=c&state=" + q.Get("state") })
	who.Step = func(what string) error { steps = append(steps, what); return nil }
	_, _, err := grant(t, e, who)
	require.NoError(t, err)
	assert.Equal(t, []string{"authorization request", "token request"}, steps)
	who.Step = func(string) error { return fault.New(fault.Interrupted, "enough") }
	_, _, err = grant(t, e, who)
	assert.Equal(t, fault.Interrupted, fault.As(err).Kind)
	assert.Equal(t, 1, srv.asked)
}

// OpenID Connect Core 3.1.3.7, with the at_hash of its example A.3.
func TestIDTokenChecks(t *testing.T) {
	assert.Equal(t, "77QmUPtjPfzWtF2AnpK9RQ", token.AccessHash("RS256", "jHkWEdUXMU1BwAsC4vtUsZwnNvTIxEl0z9K3vx5KF0Y"))
	e := testEngine(t, strings.ReplaceAll(deskFile, "HOST", "http://127.0.0.1:1"))
	c, err := e.Project.Client("desk")
	require.NoError(t, err)
	far := time.Now().Add(time.Hour).Unix()
	tests := map[string]map[string]any{
		"":                    {"aud": "desk", "exp": far, "nonce": "n"},
		"not for this client": {"aud": []string{"other"}, "exp": far, "nonce": "n"},
		"expired":             {"aud": "desk", "exp": 1000, "nonce": "n"},
		"no exp":              {"aud": "desk", "nonce": "n"},
		"nonce":               {"aud": "desk", "exp": far, "nonce": "other"},
		"at_hash":             {"aud": "desk", "exp": far, "nonce": "n", "at_hash": "other"},
	}
	for want, claims := range tests {
		s := e.Begin("obtain")
		s.about(c)
		a, err := s.Authorization(c, &oauth.Metadata{}, &Person{}, "http://127.0.0.1/x")
		require.NoError(t, err)
		s.Evidence.Person = newPerson(a)
		a.Request.Nonce = "n"
		err = s.checkIDToken(c, unsigned(t, claims), "access")
		if want == "" {
			assert.NoError(t, err)
			continue
		}
		assert.ErrorContains(t, err, want)
	}
	s := e.Begin("obtain")
	assert.NoError(t, s.checkIDToken(c, "", "access"), "none came: nothing to check")
	assert.Error(t, s.checkIDToken(c, "rubbish", "access"))
}

func unsigned(t *testing.T, claims map[string]any) string {
	t.Helper()
	raw, err := json.Marshal(claims)
	require.NoError(t, err)
	return "eyJhbGciOiJSUzI1NiJ9." + b64(raw) + ".x"
}

// An answer without a new refresh token keeps the old one, and its scope.
func TestRefreshKeepsWhatIsNotSaid(t *testing.T) {
	srv := newCounter(t)
	e := testEngine(t, strings.ReplaceAll(deskFile, "HOST", srv.URL))
	srv.answer = `{"access_token":"tok-1","token_type":"Bearer","expires_in":60,"refresh_token":"ref-1","scope":"a b"}`
	_, _, err := grant(t, e, answering(t, func(q url.Values) string { return "?code=c&state=" + q.Get("state") }))
	require.NoError(t, err)
	srv.answer = `{"access_token":"tok-2","token_type":"Bearer"}`
	c, _ := e.Project.Client("desk")
	s := e.Begin("refresh")
	got, err := s.Refresh(context.Background(), c)
	require.NoError(t, s.Finish(err))
	assert.Equal(t, []any{"tok-1", "tok-2", "ref-1", false}, []any{got.Before.AccessToken, got.After.AccessToken, got.After.RefreshToken, got.Rotated})
	assert.Equal(t, []string{"a", "b"}, got.After.Scope)
	assert.True(t, got.After.ExpiresAt.IsZero(), "nobody said how long it lives")
	srv.answer = `{"error":"invalid_grant"}`
	s = e.Begin("refresh")
	_, err = s.Refresh(context.Background(), c)
	require.Error(t, s.Finish(err))
	set, err := e.held(e.Key("desk"))
	require.NoError(t, err)
	assert.Equal(t, "tok-2", set.AccessToken, "a refusal leaves the pouch as it was")
}

// A job with a stored password begins anew when its refresh token has ended; a
// person is never asked behind their back.
func TestAnEndedRefreshToken(t *testing.T) {
	srv := newCounter(t)
	e := testEngine(t, strings.ReplaceAll(strings.Replace(deskFile, "grant: authorization_code", "grant: password, username: keeper, password: { env: P }", 1), "HOST", srv.URL))
	take := func() (*Used, *Session, error) {
		c, err := e.Project.Client("desk")
		require.NoError(t, err)
		s := e.Begin("pouch take")
		u, err := s.TokenFor(context.Background(), c)
		return u, s, s.Finish(err)
	}
	_, _, err := take()
	require.NoError(t, err)
	e.Now = func() time.Time { return time.Now().Add(time.Hour) }
	grants := []string{}
	next := srv.Config.Handler
	srv.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_ = r.ParseForm() // read again below
		grants = append(grants, r.PostForm.Get("grant_type"))
		srv.answer = `{"access_token":"tok-2","token_type":"Bearer","expires_in":60}`
		if r.PostForm.Get("grant_type") == "refresh_token" {
			srv.answer = `{"error":"invalid_grant"}`
		}
		next.ServeHTTP(w, r)
	})
	u, s, err := take()
	require.NoError(t, err)
	assert.Equal(t, []string{"refresh_token", "password"}, grants)
	assert.Equal(t, "tok-2", u.Token)
	assert.Len(t, s.Run.Legs, 2, "both legs are shown")
}

func TestWhatCannotBegin(t *testing.T) {
	for from, want := range map[string]string{
		`client_id: desk, `:                            "no client_id",
		`redirect_uri: "http://127.0.0.1:0/landing", `: "no redirect_uri",
		`grant: authorization_code, `:                  "which grant",
		`authorization_endpoint: "HOST/authorize", `:   "no metadata",
	} {
		srv := httptest.NewServer(http.NotFoundHandler())
		e := testEngine(t, strings.NewReplacer("https://h", srv.URL, "HOST", srv.URL).Replace(strings.Replace(deskFile, from, "", 1)))
		_, _, err := grant(t, e, &Person{Open: func(string) (string, error) { return "", nil }})
		srv.Close()
		require.Error(t, err, from)
		assert.Contains(t, err.Error(), want)
		assert.NotEmpty(t, fault.As(err).Next, from)
	}
}

func TestPlanNamesEverySource(t *testing.T) {
	e := testEngine(t, strings.ReplaceAll(deskFile, "HOST", "https://login.tides.example"))
	c, err := e.Project.Client("desk")
	require.NoError(t, err)
	plan, err := e.Begin("obtain").PlanGrant(context.Background(), c, &Person{Prompt: "login"})
	require.NoError(t, err)
	places := map[string]string{}
	for _, p := range plan.Params {
		places[p.Name] = p.Where
		assert.NotEmpty(t, p.Where, p.Name)
	}
	assert.Equal(t, "courier.yaml:5:22", places["client_id"])
	assert.Equal(t, "--prompt", places["prompt"])
	assert.Equal(t, "the default", places["code_challenge_method"])
	assert.True(t, strings.HasPrefix(plan.URL, "https://login.tides.example/authorize?response_type=code&client_id=desk"))
	_, err = os.Stat(filepath.Join(e.Project.Dir(), "state"))
	assert.ErrorIs(t, err, os.ErrNotExist, "nothing was opened, nothing made")
	require.NoError(t, e.Project.Override("clients", "desk", []project.Given{{Field: "grant", Value: "client_credentials", Flag: "--grant"}}))
	c, _ = e.Project.Client("desk")
	plan, err = e.Begin("obtain").PlanGrant(context.Background(), c, &Person{})
	require.NoError(t, err)
	assert.Equal(t, "POST", plan.Method)
}
