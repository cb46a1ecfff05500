package show

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tidycourier/core/exhibit"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

func sampleCase() *exhibit.Case {
	at := time.Unix(1774958400, 0)
	rec := &run.Record{N: 9, Command: "obtain", Client: "pilot-desk", Server: "northmark", Grant: "authorization_code", Detail: "PKCE", Started: at,
		Legs: []run.LegRecord{
			{N: 1, Name: run.Authorization, Method: "GET", URL: "https://as.example/authorize?client_id=a", Note: "opened with " + hostile},
			{N: 2, Name: run.Landing, Inbound: true, Method: "GET", URL: "http://127.0.0.1:8651/landing?error=x", Note: shapeBad + " refused", Ms: 812},
			{N: 3, Name: run.Token, Method: "POST", URL: "https://as.example/token", Status: 400, Ms: 12, Request: &run.Message{Headers: map[string][]string{"Accept": {hostile}}, MediaType: "application/x-www-form-urlencoded", Body: "a=1&b=2", Size: 7},
				Response: &run.Message{Headers: map[string][]string{"X-Odd": {hostile}}, Body: `{"error":"invalid_grant"}`, Size: 90000, Truncated: true}, Timing: &wire.Timing{DNS: time.Millisecond, Connect: 2 * time.Millisecond, TLS: 3 * time.Millisecond, FirstByte: 9 * time.Millisecond, Total: 12 * time.Millisecond}, Peer: &wire.Peer{Address: "192.0.2.1:443", TLSVersion: "TLS 1.3", NotAfter: at}},
			{N: 4, Name: run.Call, Method: "GET", URL: "https://api.example/" + strings.Repeat("long/", 60), Failure: &wire.Failure{Kind: wire.ConnectionReset, Detail: hostile}, Request: &run.Message{}},
		},
		Findings: []run.Finding{{ID: "code-expired", Leg: 3, Certainty: run.Likely, Title: "The code has expired", Evidence: []run.Item{{What: "the server said", Where: "leg 3", Value: hostile}}, Remedy: []string{"begin again"}, References: []string{"RFC 6749 4.1.2"}, Try: "tidy-courier obtain pilot-desk"},
			{ID: "scope-narrowed", Note: true, Certainty: run.Certain, Title: "Less was granted"}},
		Error: &run.Failure{Kind: "authorization", Message: "refused: " + hostile}}
	c := exhibit.NewCase(rec, nil, nil)
	c.Tokens = []exhibit.Decoded{{Name: "access token", Leg: 3, Fingerprint: "3f9a1c2e", Length: 12, Form: "jwt", Header: []exhibit.Fact{{Name: "alg", Value: hostile}}, Claims: []exhibit.Named{{Name: hostile, Value: hostile, Meaning: "what it may do"}}}}
	c.Clocks = []exhibit.Clock{{Leg: 3, Host: "as.example", Ahead: -90 * time.Second}}
	c.About = []exhibit.Fact{{Name: "program", Value: "tidy-courier 0"}}
	return c
}

func TestTheCaseFileLoadsAndRunsNothing(t *testing.T) {
	page := string(CasePage(sampleCase()))
	for _, never := range []string{"<script", "\x1b", "\u202e", "<b>"} {
		assert.NotContains(t, page, never)
	}
	assert.Empty(t, regexp.MustCompile(`(?i)\s(src|href|srcset|action|data|on\w+)\s*=|url\(http|@import`).FindAllString(page, -1), "nothing is loaded from anywhere")
	for _, want := range []string{"default-src 'none'", "prefers-color-scheme:dark", "@media print", "Case file: obtain pilot-desk", "authorization code + PKCE",
		`<svg class="ladder"`, "tidy-courier</text>", "browser</text>", "as.example</text>", "api.example</text>", "✘ 400", "connection-reset", "<textarea",
		"The code has expired", "to be sure: <code>tidy-courier obtain pilot-desk</code>", "3f9a1c2e", "what it may do", "1m30s behind this machine", "TLS 1.3, certificate until 2026-03-31",
		"name look-up 1.0 ms", "cut here; 90000 bytes in all", "a=1\n&amp;b=2", "&lt;script&gt;alert(1)&lt;/script&gt;␛[2J&lt;U+202E&gt;"} {
		assert.Contains(t, page, want)
	}
	c := sampleCase()
	c.Words = "It worked.\n" + hostile
	page = string(CasePage(c))
	assert.Contains(t, page, "<blockquote>It worked.\n&lt;script&gt;")
	assert.NotContains(t, page, "<textarea")
	c.Record.Error, c.Record.Findings, c.Tokens = nil, nil, nil
	page = string(CasePage(c))
	assert.Contains(t, page, "it succeeded")
	assert.NotContains(t, page, "<h2>Findings")
	assert.NotContains(t, page, "<h2>Tokens")
}

func TestALegSaysHowLongItsPartsTook(t *testing.T) {
	l := sampleCase().Record.Legs[2]
	assert.Equal(t, "name look-up 1.0 ms   connect 2.0 ms   TLS 3.0 ms   first byte after 9.0 ms   whole 12 ms   from 192.0.2.1:443", legTimes(l))
	assert.Empty(t, legTimes(run.LegRecord{}))
	l.Timing.DNS, l.Timing.Connect, l.Timing.TLS = 0, 0, 0
	assert.Equal(t, "first byte after 9.0 ms   whole 12 ms   from 192.0.2.1:443", legTimes(l), "a connection that was kept has no such parts")
	p, b := pen(100)
	p.Leg(l)
	assert.Contains(t, b.String(), "&b=2")
	assert.NotContains(t, b.String(), "\x1b")
}
