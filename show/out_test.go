package show

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/drill"
	"tidycourier/core/flow"
	"tidycourier/core/mask"
	"tidycourier/core/run"
	"tidycourier/core/token"
	"tidycourier/core/wire"
)

func records(t *testing.T, text string) []map[string]any {
	t.Helper()
	list, err := flow.Records([]byte(text), "")
	require.NoError(t, err)
	return list
}

func TestTables(t *testing.T) {
	list := records(t, `[{"zone":"a","name":"Skarvik\u001b[2J","id":"s","level":1.5,"place":{"lat":60.1},"tags":["x"]},{"id":"t","level":-12,"name":"Ternby\tEast"}]`)
	assert.Equal(t, []string{"id", "name", "level", "zone"}, Columns(list, nil), "id and name first; no objects or lists")
	p, b := pen(80)
	p.Records(list, []string{"id", "level", "place.lat", "gone"})
	lines := strings.Split(b.String(), "\n")
	assert.Regexp(t, `^id +level +place\.lat +gone`, lines[0])
	assert.Regexp(t, `^s +1\.5 +60\.1`, lines[1], "numbers stand to the right")
	assert.Regexp(t, `^t +-12$`, lines[2])
	p, b = pen(80)
	p.Records(list, []string{"name"})
	assert.NotContains(t, b.String(), "\x1b")
	assert.Equal(t, "id\tname\ns\tSkarvik\x1b[2J\nt\tTernby East\n", TSV(list, []string{"id", "name"}), "for programs a value is as it came, but for tabs and line breaks")
	p, b = pen(80)
	p.Records(nil, nil)
	assert.Contains(t, b.String(), "no record")
}

func TestRequestsForUseElsewhere(t *testing.T) {
	v := RequestView{Method: "POST", URL: "https://h/a?x=1%202&y", Headers: map[string]string{"Authorization": "Bearer [masked 3f9a1c2e]", "Content-Type": "application/json", "Host": "h"}, Body: `{"it's":1}`}
	text, err := RequestAs("http", v, "", "job", false)
	require.NoError(t, err)
	assert.Equal(t, "POST /a?x=1%202&y HTTP/1.1\r\nHost: h\r\nAuthorization: Bearer [masked 3f9a1c2e]\r\nContent-Type: application/json\r\n\r\n{\"it's\":1}", text)
	text, err = RequestAs("sh", v, "", "job", false)
	require.NoError(t, err)
	assert.Equal(t, "# ACCESS_TOKEN=$(tidy-courier pouch take job)\ncurl --request POST 'https://h/a?x=1%202&y' \\\n  --header \"Authorization: Bearer $ACCESS_TOKEN\" \\\n  --header 'Content-Type: application/json' \\\n  --data-binary '{\"it'\\''s\":1}'\n", text)
	text, err = RequestAs("har", v, "", "job", false)
	require.NoError(t, err)
	var doc struct {
		Log struct {
			Version string
			Entries []struct {
				Request struct {
					Method      string
					QueryString []struct{ Name, Value string }
					PostData    struct{ MimeType, Text string }
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(text), &doc))
	r := doc.Log.Entries[0].Request
	assert.Equal(t, []any{"1.2", "POST", "1 2", "application/json"}, []any{doc.Log.Version, r.Method, r.QueryString[0].Value, r.PostData.MimeType})
}

func TestVersusShowsWhereAnswersDiffer(t *testing.T) {
	actor := func(client string, status int, body string, header ...string) Actor {
		h := http.Header{"Content-Type": {"application/json"}}
		for i := 0; i+1 < len(header); i += 2 {
			h.Set(header[i], header[i+1])
		}
		res := &flow.CallResult{Leg: &run.Leg{Exchange: &wire.Exchange{Response: &wire.Response{Status: status, Header: h, Body: []byte(body)}}}}
		return NewActor(client, 1, &flow.Used{Token: jwtOf(`{"alg":"RS256"}`, `{"sub":"`+client+`","client_id":"`+client+`","scope":"a"}`)}, res, &mask.Set{})
	}
	c := Versus(actor("one", 200, `{"list":[{"id":"a"},{"id":"b"}],"n":2,"same":{}}`), actor("two", 403, `{"list":[{"id":"a"}],"n":1,"same":{}}`, "WWW-Authenticate", "Bearer"))
	assert.False(t, c.Equal)
	got := map[string]token.Change{}
	for _, r := range c.Rows {
		got[r.Name] = r.Change
	}
	assert.Equal(t, map[string]token.Change{"the token is about": token.Changed, "it may": token.Same, "status": token.Changed, "Content-Type": token.Same, "WWW-Authenticate": token.Added, "$.list[001].id": token.Removed, "$.n": token.Changed}, got)
	same := Versus(actor("one", 200, `{"n":1}`), actor("two", 200, `{"n":1}`))
	assert.True(t, same.Equal, "who asks is no difference of the answers")
	words := Versus(actor("one", 200, `not JSON`), actor("two", 200, `else`))
	assert.Equal(t, "text", words.Rows[len(words.Rows)-1].Name)
	var many strings.Builder
	for i := range maxVersus + 5 {
		many.WriteString(`"m` + string(rune('a'+i%26)) + strings.Repeat("x", i) + `":1,`)
	}
	long := Versus(actor("one", 200, `{`+strings.TrimSuffix(many.String(), ",")+`}`), actor("two", 200, `{}`))
	assert.Equal(t, "and more", long.Rows[len(long.Rows)-1].Name)
	assert.LessOrEqual(t, len(long.Rows), maxVersus+6)
}

func TestDrillsAreDrawn(t *testing.T) {
	r := &drill.Report{Call: "notices", Refused: 1, Wrong: 2, Unclear: 1, Skipped: 1, Results: []drill.Result{
		{Name: "no-token", Sent: "nothing", Expected: "401 or 403 with a challenge", Status: 401, Outcome: drill.Refused, Form: []string{"401 without a Bearer challenge"}},
		{Name: "algorithm-none", Sent: "alg none", Expected: "401 or 403 with a challenge", Status: 200, Outcome: drill.Accepted, Wrong: true, Why: "anyone can write it"},
		{Name: "lower-case-scheme", Sent: "bearer", Expected: "accepted", Status: 401, Outcome: drill.Refused, Wrong: true, Why: "case does not matter"},
		{Name: "expired", Outcome: drill.Skipped, Reason: "none is held"}, {Name: "truncated", Outcome: drill.Unclear, Status: 500, Expected: "401", Why: "x"}}}
	p, b := pen(110)
	for _, x := range r.Results {
		p.DrillLine(x)
	}
	p.DrillSummary(r)
	for _, want := range []string{`✔  no-token +401 +nothing +refused`, `▲ 401 without`, `✘  algorithm-none +200 .*wrongly accepted`, `it must be 401 or 403 with a challenge: anyone`, `✘  lower-case-scheme .*wrongly refused`, `·  expired .*skipped: none is held`, `▲  truncated +500 .*unclear`, `✘  notices +1 handled as they must be, 2 wrongly, 1 unclear, 1 skipped`} {
		assert.Regexp(t, want, b.String())
	}
	raw, err := json.Marshal(NewDrillView(3, &drill.Report{Call: "x"}))
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"variants":[]`)
}

func TestChecksAndKeptValues(t *testing.T) {
	p, b := pen(90)
	p.Checks([]flow.Checked{{Name: "secret", Client: "job", Outcome: flow.VetFail, Detail: "it ended", Finding: "secret-expired", Where: "courier.yaml:3:4"}, {Name: "clock", Client: "job", Outcome: flow.VetWarn, Detail: strings.Repeat("long words ", 12)},
		{Name: "metadata", Client: "desk", Outcome: flow.VetSkipped, Detail: "not asked for"}, {Name: "grant", Client: "desk", Outcome: flow.VetPass, Detail: "offered"}}, false)
	for _, want := range []string{`(?m)^job$`, `✘  secret +it ended`, `secret-expired   courier\.yaml:3:4`, `▲  clock`, `(?m)^desk$`, `·  metadata`, `✔  grant`} {
		assert.Regexp(t, want, b.String())
	}
	p, b = pen(90)
	p.Checks(nil, true)
	assert.Contains(t, b.String(), "no round")
	p, b = pen(90)
	p.Kept(map[string]string{"b": "2", "a": "x\x1b"})
	assert.Regexp(t, `(?s)\$\{a\} +x␛.*\$\{b\} +2`, b.String())
	p, b = pen(90)
	p.Kept(nil)
	assert.Contains(t, b.String(), "no value is kept")
}

func TestSizes(t *testing.T) {
	for n, want := range map[int64]string{0: "0 bytes", 9999: "9999 bytes", 20 << 10: "20 KiB", 64 << 20: "64 MiB", 20 << 30: "20.0 GiB"} {
		assert.Equal(t, want, Bytes(n))
	}
}
