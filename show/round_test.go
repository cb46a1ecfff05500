package show

import (
	"encoding/json"
	"encoding/xml"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/mask"
	"tidycourier/core/round"
	"tidycourier/core/run"
)

// hostile is what a server may have said.
const hostile = "<script>alert(1)</script>\x1b[2J\u202e]]>&\"' canary-secret"

func sampleRound() (*round.Report, *mask.Set) {
	set := &mask.Set{}
	set.Add("canary-secret")
	return &round.Report{Round: "watch", Started: time.Unix(1774958400, 0), Took: 2 * time.Second, Passed: 1, Failed: 2, Skipped: 1, Results: round.Collect(
		round.Result{Name: "stations", Phase: round.Main, Outcome: round.Passed, Status: 200, Took: 12 * time.Millisecond, Attempts: 2, Run: func() int64 { return 7 }},
		round.Result{Name: "post", Phase: round.Main, Outcome: round.Failed, Status: 201, Took: 3 * time.Millisecond, Reason: hostile, Err: fault.New(fault.Expectation, "x"),
			Failures: []flow.Mismatch{{What: "$.a", Expected: "1", Actual: hostile, Where: "courier.yaml:3:4"}}},
		round.Result{Name: "gone", Phase: round.Setup, Outcome: round.Failed, Reason: "nothing listens", Err: fault.New(fault.Unreachable, "x"),
			Findings: []run.Finding{{ID: "connection-refused", Title: "Nothing listens", Evidence: []run.Item{{What: "host", Value: "<b>h</b>"}}, Remedy: []string{"check it"}, References: []string{"RFC 1"}}}},
		round.Result{Name: "late", Phase: round.Cleanup, Outcome: round.Skipped, Reason: "stopped"},
	)}, set
}

func TestRoundReportsSayTheSame(t *testing.T) {
	r, set := sampleRound()
	v := NewRoundView(r, "ternby", set)
	raw, err := JUnit(v)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "canary")
	assert.NotContains(t, string(raw), "\x1b")
	var doc junitSuites
	require.NoError(t, xml.Unmarshal(raw, &doc), string(raw))
	s := doc.Suite
	assert.Equal(t, []int{4, 1, 1, 1}, []int{s.Tests, s.Failures, s.Errors, s.Skipped}, "a refusal or expectation is a failure, what could not be made an error")
	assert.Contains(t, s.Cases[1].Failure.Text, "expected: 1")
	assert.Equal(t, "unreachable", s.Cases[2].Error.Type)
	assert.Contains(t, s.Cases[2].Error.Text, "connection-refused")
	assert.Equal(t, "stopped", s.Cases[3].Skipped.Message)
	assert.Contains(t, s.Cases[0].Out, "journal show 7")
	assert.Equal(t, "0.012", s.Cases[0].Time)

	doc2, err := json.Marshal(v)
	require.NoError(t, err)
	assert.NotContains(t, string(doc2), "canary")
	assert.Contains(t, string(doc2), `"failures":[]`)
}

func TestTheRoundPageLoadsAndRunsNothing(t *testing.T) {
	r, set := sampleRound()
	page := string(RoundPage(NewRoundView(r, "ternby", set)))
	assert.NotContains(t, page, "<script")
	assert.NotContains(t, page, "<b>h</b>")
	assert.NotContains(t, page, "canary")
	assert.NotContains(t, page, "\x1b")
	assert.NotContains(t, page, "\u202e")
	assert.Empty(t, regexp.MustCompile(`(?i)(src|href|srcset|action|data)\s*=|url\(|@import|https?:`).FindAllString(page, -1), "nothing is loaded from anywhere")
	assert.Contains(t, page, "default-src 'none'")
	assert.Contains(t, page, "prefers-color-scheme:dark")
	assert.Contains(t, page, "@media print")
	for _, want := range []string{"Round watch", "stage ternby", "2</b>✘ failed", "connection-refused", "12 ms"} {
		assert.Contains(t, page, want)
	}
}

func TestRoundLines(t *testing.T) {
	r, set := sampleRound()
	p, b := pen(100)
	for _, x := range r.Results.All() {
		p.RoundLine(x, set, 10)
	}
	p.RoundSummary(r)
	out := b.String()
	assert.Regexp(t, `✔  stations +200 +12 ms +2 attempts`, out)
	assert.Regexp(t, `(?s)✘  post +201.*\$\.a +courier\.yaml:3:4.*expected +1.*actual`, out)
	assert.Contains(t, out, "connection-refused")
	assert.Contains(t, out, "skipped: stopped")
	assert.Contains(t, out, "4 calls: 1 passed, 2 failed, 1 skipped in 2.0 s")
	assert.NotContains(t, out, "canary")
	assert.False(t, strings.ContainsRune(out, 0x1b))
	r.Stopped = true
	p, b = pen(100)
	p.RoundSummary(r)
	assert.Contains(t, b.String(), "▲")
}
