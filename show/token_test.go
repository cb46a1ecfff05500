package show

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/flow"
	"tidycourier/core/journal"
	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// {"alg":"RS256","kid":"k1"} and
// {"iss":"https://h","sub":"pilot","aud":["a","b"],"exp":1774958400,"nbf":1900000000,"odd":"\u001b[2J","deep":{"x":1}}
const sampleToken = "eyJhbGciOiJSUzI1NiIsImtpZCI6ImsxIn0.eyJpc3MiOiJodHRwczovL2giLCJzdWIiOiJwaWxvdCIsImF1ZCI6WyJhIiwiYiJdLCJleHAiOjE3NzQ5NTg0MDAsIm5iZiI6MTkwMDAwMDAwMCwib2RkIjoiXHUwMDFiWzJKIiwiZGVlcCI6eyJ4IjoxfX0.c2ln"

// look is a token that somebody looks at, without verifying it.
func look(t *testing.T, raw string) *flow.Answered {
	t.Helper()
	tok, err := token.Decode(raw)
	require.NoError(t, err)
	return &flow.Answered{Token: tok, Inside: tok}
}

func TestTokenIsExplainedAndNeverTrusted(t *testing.T) {
	for _, width := range []int{80, 140} {
		p, b := pen(width)
		p.Token(look(t, sampleToken))
		out := b.String()
		for _, want := range []string{"not verified", "RS256", "who issued it", "a, b", "2026-03-31 12:00:00 UTC · just now", "not registered", `{"x":1}`, "␛[2J"} {
			assert.Contains(t, out, want)
		}
		for _, l := range strings.Split(out, "\n") {
			assert.LessOrEqual(t, len([]rune(l)), width, l)
		}
	}
	p, b := pen(80)
	p.Token(look(t, "opaque-thing"))
	assert.Contains(t, b.String(), "opaque token  12 chars")
	p, b = pen(80)
	p.Token(look(t, "eyJhbGciOiJkaXIiLCJlbmMiOiJBMTI4R0NNIn0.a.b.c.d"))
	assert.Contains(t, b.String(), "encrypted token (JWE)")
	assert.Contains(t, b.String(), "A128GCM")
	p, b = pen(80)
	p.Token(look(t, "eyJhbGciOiJub25lIn0.e30."))
	assert.Contains(t, b.String(), "✘ not signed")
}

func TestDecodeViewSaysWhyNothingWasChecked(t *testing.T) {
	v := NewDecodeView(look(t, sampleToken), nil)
	assert.Equal(t, []string{"a", "b"}, v.Audience)
	assert.Equal(t, []string{}, v.Scope, "an empty list, not null")
	assert.False(t, v.Signature.Checked)
	assert.Nil(t, v.Signature.Valid)
	reasons := map[string]bool{v.Signature.Reason: true}
	for _, raw := range []string{"opaque", "eyJhbGciOiJkaXIifQ.a.b.c.d", "eyJhbGciOiJub25lIn0.e30."} {
		reasons[NewDecodeView(look(t, raw), nil).Signature.Reason] = true
	}
	assert.Len(t, reasons, 4, "each kind has its own reason")
}

func TestPlanShowsTheURLWhole(t *testing.T) {
	long := "https://h/authorize?state=" + strings.Repeat("x", 300)
	p, b := pen(80)
	p.Plan(&flow.GrantPlan{Leg: "authorization request", Method: "GET", URL: long, Params: []flow.PlannedParam{{Name: "state", Value: strings.Repeat("x", 300), Where: "made anew"}},
		Header: map[string]string{"Accept": "application/json"}})
	assert.Contains(t, b.String(), long+"\n", "it can be copied")
	assert.Contains(t, b.String(), "made anew")
	assert.Contains(t, b.String(), "Accept: application/json")
}

func TestLists(t *testing.T) {
	end := time.Date(2026, 3, 31, 12, 20, 0, 0, time.UTC)
	p, b := pen(120)
	p.Pouch([]PouchEntry{{Client: "job", State: "valid", ExpiresAt: &end, Fingerprint: "3f9a1c2e", Refreshable: true, Scope: []string{"a"}}, {Client: "kiosk", Stage: "prod", State: "expiring"}, {Client: "old", State: "expired"}})
	out := b.String()
	for _, want := range []string{"✔ valid", "▲ expiring", "✘ expired", "until 12:20 (in 20 min)", "refreshable", "@prod", "no end known"} {
		assert.Contains(t, out, want)
	}
	p, b = pen(120)
	p.Runs([]journal.Summary{{N: 7, Command: "obtain", Client: "job", Outcome: "authorization", Cause: "wrong-secret", Started: end}, {N: 6, Command: "call", Outcome: "ok", Started: end}})
	assert.Regexp(t, `7  ✘  obtain  job .*wrong-secret`, b.String())
	assert.Regexp(t, `6  ✔  call`, b.String())
	for _, empty := range []func(*Pen){func(p *Pen) { p.Pouch(nil) }, func(p *Pen) { p.Runs(nil) }} {
		p, b = pen(80)
		empty(p)
		assert.NotEmpty(t, b.String(), "an empty list says so")
	}
	p, b = pen(120)
	p.Metadata(&oauth.Metadata{Issuer: "https://h", TokenEndpoint: "https://h/t"}, "https://h/.well-known/x")
	assert.Contains(t, b.String(), "not said: client_secret_basic (RFC 8414 2)")
	p, b = pen(90)
	p.Settings("clients", "job", []project.Line{{Key: "scope", Value: strings.Repeat("long.scope ", 20), Where: "courier.yaml:3:4", From: []string{"${x} from values"}}})
	for _, l := range strings.Split(b.String(), "\n") {
		assert.LessOrEqual(t, len([]rune(l)), 90, l)
	}
}

func TestLegsInFull(t *testing.T) {
	p, b := pen(100)
	p.Legs(&run.Record{Legs: []run.LegRecord{{N: 1, Name: run.Token, Method: "POST", URL: "https://h/token", Status: 200,
		Request:  &run.Message{Headers: map[string][]string{"B": {"2"}, "A": {"1", "x\x1b"}}, Body: "a=b"},
		Response: &run.Message{Headers: map[string][]string{}, Body: `{"a":[1]}`, Truncated: true, Size: 99}}}})
	out := b.String()
	assert.Less(t, strings.Index(out, "A: 1"), strings.Index(out, "B: 2"), "sorted")
	assert.Contains(t, out, "x␛")
	assert.Contains(t, out, "\"a\": [\n", "JSON is laid out")
	assert.Contains(t, out, "99 bytes in all")
}

func TestColourOnlyWhereItIsWanted(t *testing.T) {
	p, b := pen(80)
	p.Failure("it broke", "courier.yaml:1:2", "mend it")
	assert.NotContains(t, b.String(), "\x1b")
	p, b = pen(80)
	p.Color = true
	p.Failure("it broke", "courier.yaml:1:2", "mend it")
	assert.Contains(t, b.String(), "\x1b[")
	assert.Contains(t, b.String(), "✘", "and the shape is there all the same")
}

func TestWrapping(t *testing.T) {
	assert.Equal(t, []string{"one two", "three"}, wrap("one two three", 10))
	assert.Equal(t, []string{"abcdefghij", "klm"}, wrap("abcdefghijklm", 10))
	assert.Equal(t, []string{""}, wrap("", 10))
	assert.Equal(t, "a b  c ", strings.Join(wrapValue("a b  c ", 20), ""), "a value's spaces stay")
	assert.Equal(t, "tide…", cut("tide gauge", 5))
	assert.Equal(t, "tide ", pad("tide", 5))
}
