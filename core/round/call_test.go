package round

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/mask"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/wire"
)

const callerFile = `version: 1
servers: { s: { issuer: HOST, token_endpoint: HOST/token } }
clients: { job: { server: s, client_id: job, token_endpoint_auth_method: none, grant: client_credentials } }
apis: { api: { base_url: HOST, client: job } }
calls:
  ok: { request: GET /ok, expect: { status: 200 } }
  flaky: { request: GET /flaky, retry: { times: 3, wait: 10s } }
  once: { request: GET /flaky }
  never: { request: GET /never, expect: { status: 200 } }
  expected: { request: GET /never, expect: { status: 401 } }
  garbled: { request: GET /ok, token: garbled, expect: { status: 401 } }
  expired: { request: GET /ok, token: expired, expect: { status: 401 } }
  keeps: { request: GET /ok, keep: { a: "$.a", id: { from: "$.list[*]", value: id, pick: { newest: at } } } }
  uses: { request: "GET /ok?q=${a}${id}" }
  several: { request: GET /ok, keep: { one: { from: "$.list[*]", value: id, pick: only } } }
  asks: { request: GET /ok, keep: { asked: { from: "$.list[*]", value: id, label: at, pick: ask } } }
`

// office is a server that gives numbered tokens and takes only the newest.
type office struct {
	mu     sync.Mutex
	tokens int
	flaky  int
	seen   []string
}

func (o *office) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if r.URL.Path == "/token" {
		o.tokens++
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `{"access_token":"token-number-%d","token_type":"Bearer","expires_in":3600}`, o.tokens)
		return
	}
	o.seen = append(o.seen, r.URL.Path+" "+r.Header.Get("Authorization"))
	switch {
	case r.URL.Path == "/flaky":
		if o.flaky++; o.flaky%3 != 0 {
			w.Header().Set("Retry-After", "2")
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
	case r.URL.Path == "/never" || r.Header.Get("Authorization") != fmt.Sprintf("Bearer token-number-%d", o.tokens):
		w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	fmt.Fprint(w, `{"a":"kept","list":[{"id":"old","at":"2026-01-01T00:00:00Z"},{"id":"new","at":"2026-03-01T00:00:00Z"}]}`)
}

func newCaller(t *testing.T) (*Caller, *office, *[]time.Duration) {
	t.Helper()
	o := &office{}
	srv := httptest.NewServer(o)
	t.Cleanup(srv.Close)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/courier.yaml", []byte(strings.ReplaceAll(callerFile, "HOST", srv.URL)), 0o600))
	p, err := project.Open(dir+"/courier.yaml", project.Options{WorkDir: dir, Set: map[string]string{}})
	require.NoError(t, err)
	sender, err := wire.NewSender(wire.Options{})
	require.NoError(t, err)
	disk := &flow.Disk{Dir: dir + "/state", Getenv: func(n string) string { return map[string]string{"TIDY_COURIER_KEYRING": "off"}[n] }}
	t.Cleanup(func() { sender.Close(); _ = disk.Close() })
	var waits []time.Duration
	c := &Caller{Engine: &flow.Engine{Project: p, Sender: sender, Mask: &mask.Set{}, Store: disk, Now: time.Now, Random: rand.Reader},
		Sleep: func(_ context.Context, d time.Duration) { waits = append(waits, d) }}
	return c, o, &waits
}

func (c *Caller) one(name string, kept map[string]string) Result {
	return c.Do(context.Background(), Step{Name: name, Phase: Main}, kept)
}

func TestOneTokenServesTheRoundUntilItIsRefused(t *testing.T) {
	c, o, _ := newCaller(t)
	for range 5 {
		assert.Equal(t, Passed, c.one("ok", nil).Outcome)
	}
	assert.Equal(t, 1, o.tokens)
	o.tokens++ // the server forgets the token it gave
	r := c.one("ok", nil)
	assert.Equal(t, []any{Passed, 2, 3}, []any{r.Outcome, r.Attempts, o.tokens}, "refused, got anew, sent again")
	assert.Equal(t, Passed, c.one("ok", nil).Outcome)
	assert.Equal(t, 3, o.tokens)

	r = c.one("never", nil)
	assert.Equal(t, []any{Failed, fault.API, 2, 4}, []any{r.Outcome, r.Err.Kind, r.Attempts, o.tokens}, "once, and no more")
	r = c.one("never", nil)
	assert.Equal(t, []any{Failed, 1, 4}, []any{r.Outcome, r.Attempts, o.tokens}, "a client whose new token is refused too is not asked for again")
	assert.Equal(t, "token-not-accepted", r.Findings[0].ID)
	assert.Equal(t, Passed, c.one("expected", nil).Outcome)
	assert.Positive(t, r.Run(), "its number in the journal comes after")
}

func TestRetriesOnlyWhereDeclared(t *testing.T) {
	c, o, waits := newCaller(t)
	r := c.one("flaky", nil)
	assert.Equal(t, []any{Passed, 3, 200}, []any{r.Outcome, r.Attempts, r.Status})
	assert.Equal(t, []time.Duration{2 * time.Second, 2 * time.Second}, *waits, "as Retry-After says")
	o.flaky = 0
	r = c.one("once", nil)
	assert.Equal(t, []any{Failed, 1, 503}, []any{r.Outcome, r.Attempts, r.Status})
}

func TestTokensThatMustBeRefused(t *testing.T) {
	c, o, _ := newCaller(t)
	assert.Equal(t, Passed, c.one("garbled", nil).Outcome)
	assert.NotContains(t, o.seen[0], "token-number-1")
	r := c.one("expired", nil)
	assert.Equal(t, []any{Skipped, "no expired token is held to send"}, []any{r.Outcome, r.Reason})
	held, err := c.Engine.Store.Pouch()
	require.NoError(t, err)
	old := &pouch.Set{AccessToken: "a-real-old-token", ObtainedAt: time.Now().Add(-2 * time.Hour), ExpiresAt: time.Now().Add(-time.Hour)}
	require.NoError(t, held.Put(c.Engine.Key("job"), old))
	assert.Equal(t, Passed, c.one("expired", nil).Outcome)
	assert.Contains(t, o.seen[len(o.seen)-1], "a-real-old-token")
}

func TestValuesAreHandedOn(t *testing.T) {
	c, o, _ := newCaller(t)
	r := c.one("keeps", nil)
	assert.Equal(t, map[string]string{"a": "kept", "id": "new"}, r.Kept)
	assert.Equal(t, Failed, c.one("uses", nil).Outcome, "they are handed on, not shared behind the back")
	assert.Equal(t, Passed, c.one("uses", r.Kept).Outcome)
	assert.Len(t, o.seen, 2)
	r = c.one("several", nil)
	assert.Contains(t, r.Reason, "there are 2, and only one was expected: old, new")
	r = c.one("asks", nil)
	assert.Contains(t, r.Err.Next, "--set asked=VALUE")
	c.Engine.Choose = func(_ string, list []flow.Option) (int, error) {
		assert.Equal(t, flow.Option{Value: "new", Label: "2026-03-01T00:00:00Z"}, list[1])
		return 1, nil
	}
	assert.Equal(t, map[string]string{"asked": "new"}, c.one("asks", nil).Kept)
}
