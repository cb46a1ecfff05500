package standin

import (
	"encoding/base64"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// serveStandin starts a stand-in and returns its address.
func serveStandin(t *testing.T, faults ...string) (*Server, string) {
	t.Helper()
	l := httptest.NewUnstartedServer(nil)
	s, err := New(Config{Issuer: "http://" + l.Listener.Addr().String(), Faults: faults})
	require.NoError(t, err)
	l.Config.Handler = s.Handler()
	l.Start()
	t.Cleanup(l.Close)
	return s, l.URL
}

func ask(t *testing.T, method, url, body string, header ...string) (*http.Response, map[string]any) {
	t.Helper()
	r, err := http.NewRequest(method, url, strings.NewReader(body))
	require.NoError(t, err)
	if method == http.MethodPost {
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultTransport.RoundTrip(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	var doc map[string]any
	_ = json.Unmarshal(raw, &doc) // not every answer is JSON
	return resp, doc
}

func basic(id, secret string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(url.QueryEscape(id)+":"+url.QueryEscape(secret)))
}

var nightly = basic("nightly-forecast", findClient("nightly-forecast").Secret)

func accessToken(t *testing.T, host string) string {
	t.Helper()
	resp, doc := ask(t, "POST", host+"/token", "grant_type=client_credentials", "Authorization", nightly)
	require.Equal(t, 200, resp.StatusCode)
	return doc["access_token"].(string)
}

// The error answers of RFC 6749 5.2.
func TestTokenErrors(t *testing.T) {
	_, host := serveStandin(t)
	ledger := url.QueryEscape(findClient("ledger-sync").Secret)
	tests := []struct {
		name, body, auth string
		status           int
		code             string
	}{
		{"ok basic", "grant_type=client_credentials&scope=gauges.read", nightly, 200, ""},
		{"ok post", "grant_type=client_credentials&client_id=ledger-sync&client_secret=" + ledger, "", 200, ""},
		{"wrong secret", "grant_type=client_credentials", basic("nightly-forecast", "no"), 401, "invalid_client"},
		{"unknown client", "grant_type=client_credentials", basic("nobody", "no"), 401, "invalid_client"},
		{"not url-encoded", "grant_type=client_credentials", "Basic " + base64.StdEncoding.EncodeToString([]byte("nightly-forecast:"+findClient("nightly-forecast").Secret)), 401, "invalid_client"},
		{"wrong place", "grant_type=client_credentials&client_id=nightly-forecast&client_secret=x", "", 401, "invalid_client"},
		{"both places", "grant_type=client_credentials&client_secret=x", nightly, 400, "invalid_request"},
		{"no credentials", "grant_type=client_credentials&client_id=nightly-forecast", "", 401, "invalid_client"},
		{"expired", "grant_type=client_credentials", basic("expired-app", findClient("expired-app").Secret), 401, "invalid_client"},
		{"not allowed", "grant_type=client_credentials", basic("archive", findClient("archive").Secret), 400, "unauthorized_client"},
		{"unknown grant", "grant_type=tea", nightly, 400, "unsupported_grant_type"},
		{"no grant", "scope=x", nightly, 400, "invalid_request"},
		{"doubled", "grant_type=client_credentials&grant_type=client_credentials", nightly, 400, "invalid_request"},
		{"scope", "grant_type=client_credentials&scope=notices.write", nightly, 400, "invalid_scope"},
		{"audience", "grant_type=client_credentials&audience=x", nightly, 400, "invalid_target"},
	}
	for _, tt := range tests {
		resp, doc := ask(t, "POST", host+"/token", tt.body, "Authorization", tt.auth)
		assert.Equal(t, tt.status, resp.StatusCode, tt.name)
		assert.Equal(t, "no-store", resp.Header.Get("Cache-Control"), tt.name)
		if tt.code != "" {
			assert.Equal(t, tt.code, doc["error"], tt.name)
			continue
		}
		assert.Equal(t, "Bearer", doc["token_type"], tt.name)
	}
	resp, _ := ask(t, "POST", host+"/token", "grant_type=client_credentials", "Authorization", basic("nobody", "x"))
	assert.Contains(t, resp.Header.Get("WWW-Authenticate"), "Basic", "RFC 6749 5.2 wants a challenge of the scheme that was used")
	resp, doc := ask(t, "POST", host+"/token", "{}", "Content-Type", "application/json")
	assert.Equal(t, []any{400, "invalid_request"}, []any{resp.StatusCode, doc["error"]})
	resp, _ = ask(t, "GET", host+"/token", "")
	assert.Equal(t, 405, resp.StatusCode)
}

func TestAPI(t *testing.T) {
	_, host := serveStandin(t)
	bearer := "Bearer " + accessToken(t, host)
	tests := []struct {
		name, method, path string
		header             []string
		status             int
		challenge          string
	}{
		{"no token", "GET", "/api/stations", nil, 401, `Bearer realm="Northmark tide gauges"`},
		{"bad token", "GET", "/api/stations", []string{"Authorization", "Bearer x"}, 401, `error="invalid_token"`},
		{"malformed", "GET", "/api/stations", []string{"Authorization", "Bearer"}, 400, `error="invalid_request"`},
		{"lower-case scheme", "GET", "/api/me", []string{"Authorization", strings.Replace(bearer, "Bearer", "bearer", 1)}, 200, ""},
		{"no harbour", "GET", "/api/stations", []string{"Authorization", bearer}, 400, ""},
		{"unknown harbour", "GET", "/api/stations", []string{"Authorization", bearer, "Harbour-Id", "x"}, 404, ""},
		{"stations", "GET", "/api/stations", []string{"Authorization", bearer, "Harbour-Id", "skarvik"}, 200, ""},
		{"bad since", "GET", "/api/stations?since=yesterday", []string{"Authorization", bearer, "Harbour-Id", "skarvik"}, 400, ""},
		{"scope", "POST", "/api/notices", []string{"Authorization", bearer}, 403, `error="insufficient_scope", error_description="the token lacks the scope this call needs", scope="notices.write"`},
		{"feed", "GET", "/api/feed", []string{"Authorization", bearer}, 401, ""},
		{"feed in its header", "GET", "/api/feed", []string{"X-Gauge-Token", bearer[7:]}, 200, ""},
		{"another station's harbour", "GET", "/api/stations/ternby-bar", []string{"Authorization", bearer, "Harbour-Id", "skarvik"}, 404, ""},
	}
	for _, tt := range tests {
		resp, _ := ask(t, tt.method, host+tt.path, "", tt.header...)
		assert.Equal(t, tt.status, resp.StatusCode, tt.name)
		assert.Contains(t, resp.Header.Get("WWW-Authenticate"), tt.challenge, tt.name)
	}
	resp, _ := ask(t, "GET", host+"/api/stations", "", "Authorization", bearer, "Harbour-Id", "skarvik")
	assert.Contains(t, resp.Header.Get("Content-Type"), "xml", "XML unless JSON is asked for")
}

func TestPaging(t *testing.T) {
	_, host := serveStandin(t)
	header := []string{"Authorization", "Bearer " + accessToken(t, host), "Harbour-Id", "ternby", "Accept", "application/json"}
	since := url.QueryEscape(time.Now().Add(-36 * time.Hour).UTC().Format(time.RFC3339))
	next, seen, last := host+"/api/stations/ternby-bar/readings?since="+since, 0, ""
	for next != "" {
		resp, doc := ask(t, "GET", next, "", header...)
		require.Equal(t, 200, resp.StatusCode)
		for _, r := range doc["readings"].([]any) {
			at := r.(map[string]any)["at"].(string)
			assert.Greater(t, at, last, "in order, none twice")
			last, seen = at, seen+1
		}
		next = ""
		if link := resp.Header.Get("Link"); link != "" {
			next = link[1:strings.Index(link, ">")]
		}
	}
	assert.InDelta(t, 216, seen, 1, "36 hours of readings, one every ten minutes")
}

// Two highs and two lows a day, larger at spring than at neap.
func TestReadingsLookLikeTides(t *testing.T) {
	g := newGauges(0)
	require.Len(t, g.sites, 6)
	now := time.Date(2026, 3, 31, 12, 0, 0, 0, time.UTC)
	for i := range g.sites {
		all := g.sites[i].readings(now, time.Time{}, now)
		require.Len(t, all, 30*24*6+1)
		turns, lowest, rising := 0, []float64{}, false
		for k := 1; k < len(all); k++ {
			if step := all[k].Level - all[k-1].Level; step != 0 && (step > 0) != rising {
				turns, rising = turns+1, step > 0
			}
		}
		assert.InDelta(t, 4*30, turns, 8, "%s: about four turns a day", g.sites[i].ID)
		for day := range 29 {
			var levels []float64
			for _, r := range all[day*144 : day*144+150] {
				levels = append(levels, r.Level)
			}
			lowest = append(lowest, slices.Max(levels)-slices.Min(levels))
		}
		assert.Greater(t, slices.Max(lowest), 1.5*slices.Min(lowest), "%s: spring range against neap range", g.sites[i].ID)
	}
	again := newGauges(0)
	assert.Equal(t, g.sites[3].level(now), again.sites[3].level(now), "the same every time")
	assert.NotEqual(t, g.sites[3].level(now), newGauges(1).sites[3].level(now), "another seed, another sea")
}

func TestFaultsAreKnown(t *testing.T) {
	_, err := New(Config{Faults: []string{"earthquake"}})
	assert.ErrorContains(t, err, "token-html")
	for _, f := range FaultNames() {
		_, err := New(Config{Faults: []string{f}})
		assert.NoError(t, err)
	}
}

func TestMetadataAndKeys(t *testing.T) {
	_, host := serveStandin(t)
	_, a := ask(t, "GET", host+"/.well-known/oauth-authorization-server", "")
	_, b := ask(t, "GET", host+"/.well-known/openid-configuration", "")
	assert.Equal(t, a, b)
	assert.Equal(t, host, a["issuer"])
	_, keys := ask(t, "GET", host+"/keys", "")
	raw, _ := json.Marshal(keys)
	assert.Contains(t, string(raw), `"RS256"`)
	assert.Contains(t, string(raw), `"ES256"`)
	assert.NotContains(t, string(raw), `"d":`, "no private half")
}
