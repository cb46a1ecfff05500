package show

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/run"
	"tidycourier/core/wire"
)

func pen(width int) (*Pen, *bytes.Buffer) {
	var b bytes.Buffer
	return &Pen{W: &b, Width: width, Now: func() time.Time { return time.Date(2026, 3, 31, 12, 0, 0, 0, time.UTC) }}, &b
}

func TestSafe(t *testing.T) {
	tests := map[string]string{"plain é 日本": "plain é 日本", "\x1b[2J": "␛[2J", "a\nb": "a␊b", "\u009b1m": "<U+009B>1m", "\u202eabc": "<U+202E>abc",
		"\x7f": "␡", "zero\u200bwidth": "zero<U+200B>width", "\u2028": "<U+2028>"}
	for in, want := range tests {
		assert.Equal(t, want, Safe(in))
	}
	assert.Equal(t, "a\nb␛", SafeText("a\nb\x1b"))
}

func TestJSONIsSafeToLookAt(t *testing.T) {
	var b bytes.Buffer
	in := map[string]string{"x": "\u009b31m \u202e \x1b <é>"}
	require.NoError(t, JSON(&b, in))
	for _, bad := range []string{"\u009b", "\u202e", "\x1b"} {
		assert.NotContains(t, b.String(), bad)
	}
	assert.Contains(t, b.String(), "<é>")
	var out map[string]string
	require.NoError(t, json.Unmarshal(b.Bytes(), &out))
	assert.Equal(t, in, out, "nothing is lost")
}

func TestWithErrorKeepsWhatWasKnown(t *testing.T) {
	for in, want := range map[string]string{`{"run":3}`: `{"run":3,"error":{"kind":"api"},"findings":[]}`, `{"error":{"kind":"own"},"findings":[1]}`: `{"error":{"kind":"own"},"findings":[1]}`} {
		raw, err := WithError(json.RawMessage(in), map[string]string{"kind": "api"})
		require.NoError(t, err)
		assert.JSONEq(t, want, string(raw))
	}
	raw, err := WithError(nil, map[string]string{"kind": "usage"})
	require.NoError(t, err)
	assert.JSONEq(t, `{"error":{"kind":"usage"},"findings":[]}`, string(raw))
}

func TestLadderFitsTheWidth(t *testing.T) {
	end := time.Date(2026, 3, 31, 12, 30, 0, 0, time.UTC)
	rec := &run.Record{Client: "nightly-forecast", Grant: "client_credentials", Server: "northmark",
		Legs: []run.LegRecord{{N: 1, Name: run.Discovery, Method: "GET", URL: "https://login.tides.example/a/very/long/path/that/cannot/fit/.well-known/openid-configuration", Status: 200, Ms: 12},
			{N: 2, Name: run.Token, Method: "POST", URL: "https://login.tides.example/token", Status: 401, Ms: 1234, Response: &run.Message{MediaType: "application/json"}}},
		Findings: []run.Finding{{ID: "issuer-mismatch", Leg: 2, Title: "They differ", Certainty: run.Certain, Remedy: []string{strings.Repeat("do this and that ", 12)}, Evidence: []run.Item{
			{What: "one", Where: "courier.yaml:3:4", Value: "https://a.example/cb", Compare: true}, {What: "other", Where: "leg 1", Value: "https://a.example/Cb", Compare: true}}}},
		Token: &run.TokenView{ExpiresAt: &end, Scope: []string{"a"}, Access: &run.TokenDetail{Form: "jwt", Fingerprint: "3f9a1c2e", Length: 812}},
		Error: &run.Failure{Message: strings.Repeat("words ", 40), Where: "courier.yaml:3:4"}}
	for _, width := range []int{80, 100, 140} {
		p, b := pen(width)
		p.Ladder(rec)
		for _, l := range strings.Split(b.String(), "\n") {
			assert.LessOrEqual(t, len([]rune(l)), width, l)
		}
	}
	p, b := pen(100)
	p.Ladder(rec)
	out := b.String()
	assert.Contains(t, out, "✘ 401", "state by shape")
	assert.Contains(t, out, "until 12:30 (30 min)")
	lines := strings.Split(out, "\n")
	for i, l := range lines {
		if strings.Contains(l, "^ differs in case") {
			col := strings.Index(l, "^")
			assert.Equal(t, byte('C'), lines[i-1][col], "the mark stands under the first difference")
			return
		}
	}
	t.Error("no mark under the two values")
}

func TestBodyByKind(t *testing.T) {
	body := func(mediaType, text string) string {
		p, b := pen(80)
		p.Body(&wire.Response{Header: map[string][]string{"Content-Type": {mediaType}}, Body: []byte(text)})
		return b.String()
	}
	assert.Equal(t, "{\n  \"a\": 1\n}\n", body("application/json", `{"a":1}`))
	assert.Contains(t, body("application/xml", "<a><b>1</b></a>"), "\n  <b>1</b>")
	assert.Contains(t, body("image/png", "\x89PNG\xff"), "5 bytes of image/png")
	assert.Equal(t, "␛[2Jx\n", body("text/plain", "\x1b[2Jx\n"))
	assert.Contains(t, body("", ""), "no body")
}

func TestDurations(t *testing.T) {
	for d, want := range map[time.Duration]string{20 * time.Millisecond: "20 ms", 90 * time.Second: "90 s", 30 * time.Minute: "30 min", 5 * time.Hour: "5 h", 72 * time.Hour: "3 days"} {
		assert.Equal(t, want, Duration(d))
	}
}

// What the eye cannot tell is said: spaces, look-alike letters, the case, an end.
func TestDifferencesAreNamed(t *testing.T) {
	for _, c := range []struct{ a, b, says string }{
		{"https://h/cb", "https://h/Cb", "differs in case"},
		{"https://h/cb", "https://h/cb/", "one ends here"},
		{"secret", "secret\n", "goes on with white space"},
		{"gauges.read", "g\u0430uges.read", "a above, Cyrillic \u0430 (U+0430) below"},
		{"a b", "a\u00a0b", "a space above, a non-breaking space (U+00A0) below"},
		{"ab", "a\u200bb", "zero-width space (U+200B)"},
		{"ab", "ac", "differs from here"},
	} {
		p, b := pen(100)
		p.Findings([]run.Finding{{ID: "x", Title: "t", Evidence: []run.Item{{What: "one", Value: c.a, Compare: true}, {What: "two", Value: c.b, Compare: true}}}})
		assert.Contains(t, b.String(), c.says, "%q %q", c.a, c.b)
		assert.NotContains(t, b.String(), "\u200b")
		assert.NotContains(t, b.String(), "\u00a0")
	}
	p, b := pen(100)
	p.Findings([]run.Finding{{ID: "x", Title: "t", Evidence: []run.Item{{What: "one", Value: "same", Compare: true}, {What: "two", Value: "same", Compare: true}}}})
	assert.NotContains(t, b.String(), "^")
	long := strings.Repeat("x", 150)
	p, b = pen(80)
	p.Findings([]run.Finding{{ID: "x", Title: "t", Evidence: []run.Item{{What: "one", Value: long + "a", Compare: true}, {What: "two", Value: long + "b", Compare: true}}}})
	assert.Contains(t, b.String(), "character 151")
}
