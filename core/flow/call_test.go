package flow

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/fault"
)

const callsFile = `version: 1
apis:
  gauges: { base_url: "HOST/api", headers: { Accept: application/json, X-A: api } }
calls:
  ok:
    api: gauges
    request: GET /ok
    headers: { X-A: call }
    query: { q: "a b" }
    expect: { status: [2xx, 304], media_type: application/json, json: { "$.a[0].id": x1, "$.b": absent, "$.n": "5", "$.t": present } }
    keep: { first: "$.a[0].id", whole: "$.a" }
  refused: { api: gauges, request: GET /no, expect: { status: 401, challenge: bearer } }
  wrong: { api: gauges, request: GET /ok, expect: { status: 204, media_type: text/plain, challenge: Basic, json: { "$.a": absent, "$.zz": present, "$.n": "6", "$[": x } } }
  lost: { api: gauges, request: GET /ok, keep: { gone: "$.nothing" } }
  post: { api: gauges, request: POST /echo, body: { a: [1, "two"] } }
  text: { api: gauges, request: PUT /echo, body: "plain ${first}", headers: { Content-Type: text/plain } }
`

func callServer(t *testing.T) string {
	t.Helper()
	mux := http.NewServeMux()
	mux.HandleFunc("/api/ok", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json; charset=utf-8")
		w.Header().Set("X-Seen", r.Header.Get("X-A")+"|"+r.URL.RawQuery)
		fmt.Fprint(w, `{"a":[{"id":"x1"}],"n":5,"t":null}`)
	})
	mux.HandleFunc("/api/no", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("WWW-Authenticate", `Bearer realm="x"`)
		w.WriteHeader(http.StatusUnauthorized)
	})
	mux.HandleFunc("/api/echo", func(w http.ResponseWriter, r *http.Request) {
		raw := make([]byte, 64)
		n, _ := r.Body.Read(raw) // as much as is there
		fmt.Fprintf(w, "%s %s %s", r.Method, r.Header.Get("Content-Type"), raw[:n])
	})
	srv := httptest.NewServer(mux)
	t.Cleanup(srv.Close)
	return srv.URL
}

func runSaved(t *testing.T, e *Engine, name string) (*CallResult, error) {
	t.Helper()
	c, err := e.Project.Call(name)
	require.NoError(t, err)
	p, err := Plan(c)
	require.NoError(t, err)
	_, res, err := send(e, p)
	return res, err
}

func TestExpectationsAndKeptValues(t *testing.T) {
	e := testEngine(t, strings.ReplaceAll(callsFile, "HOST", callServer(t)))
	res, err := runSaved(t, e, "ok")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"first": "x1", "whole": `[{"id":"x1"}]`}, res.Kept)
	assert.Equal(t, "call|q=a%20b", res.Leg.Exchange.Response.Header.Get("X-Seen"), "the call's header wins, the query is data")
	p, err := e.Store.Pouch()
	require.NoError(t, err)
	kept, err := p.Kept(e.Project.Key(), "")
	require.NoError(t, err)
	assert.Equal(t, res.Kept, kept)
	e.Project.UseKept(kept)

	_, err = runSaved(t, e, "refused")
	assert.NoError(t, err, "a refusal that is expected is no failure")

	res, err = runSaved(t, e, "wrong")
	assert.Equal(t, fault.Expectation, fault.As(err).Kind)
	var what []string
	for _, m := range res.Failures {
		what = append(what, m.What+": "+m.Actual)
		assert.NotEmpty(t, m.Where)
	}
	require.Len(t, what, 7, "every failure, not only the first")
	assert.Equal(t, []string{"the status: 200", "the media type: application/json", "the challenge: absent", `$.a: [{"id":"x1"}]`, "$.zz: absent", "$.n: 5"}, what[:6])
	assert.Contains(t, what[6], "not a JSONPath")

	_, err = runSaved(t, e, "lost")
	assert.ErrorContains(t, err, "nothing to keep as ${gone}")

	res, err = runSaved(t, e, "post")
	require.NoError(t, err)
	assert.Equal(t, `POST application/json {"a":[1,"two"]}`, string(res.Leg.Exchange.Response.Body))
	res, err = runSaved(t, e, "text")
	require.NoError(t, err)
	assert.Equal(t, "PUT text/plain plain x1", string(res.Leg.Exchange.Response.Body))
}

func TestPickAndText(t *testing.T) {
	body := []byte(`{"a":[{"id":"x"},{"id":7}],"s":"text"}`)
	found, err := Pick(body, "$.a[*].id")
	require.NoError(t, err)
	require.Len(t, found, 2)
	assert.Equal(t, []string{"x", "7"}, []string{Text(found[0]), Text(found[1])})
	_, err = Pick([]byte("<a/>"), "$.a")
	assert.ErrorContains(t, err, "not JSON")
	_, err = Pick(body, "$[")
	assert.ErrorContains(t, err, "not a JSONPath")
}

func TestMethodsAfterRedirects(t *testing.T) {
	seen := ""
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var code int
		if n, _ := fmt.Sscanf(r.URL.Path, "/%d", &code); n == 1 {
			w.Header().Set("Location", "/end")
			w.WriteHeader(code)
			return
		}
		seen = fmt.Sprintf("%s %d", r.Method, max(r.ContentLength, 0))
	}))
	defer srv.Close()
	e := testEngine(t, "")
	for code, want := range map[int]string{301: "GET 0", 302: "GET 0", 303: "GET 0", 307: "POST 4", 308: "POST 4"} { // RFC 9110 15.4
		p := plainCall(fmt.Sprintf("%s/%d", srv.URL, code))
		p.Method, p.Body = "POST", []byte("body")
		_, _, err := send(e, p)
		require.NoError(t, err)
		assert.Equal(t, want, seen, code)
	}
}
