package flow

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/fault"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

const stationsBody = `{"stations":[{"id":"a","level":3.5,"at":"2026-03-01T00:00:00Z"},{"id":"b","level":-1}],"n":2,"open":true,"none":null,"text":"high water"}`

func TestEachTest(t *testing.T) {
	tests := []struct {
		path, op, value string
		actual          string // "" when it holds
	}{
		{"$.n", "equals", "2", ""}, {"$.n", "equals", "3", "2"}, {"$.x", "equals", "3", "absent"},
		{"$.n", "present", "true", ""}, {"$.x", "present", "true", "absent"}, {"$.x", "present", "false", ""}, {"$.n", "present", "false", "2"}, {"$.none", "present", "true", ""},
		{"$.n", "type", "integer", ""}, {"$.n", "type", "number", ""}, {"$.stations[0].level", "type", "number", ""}, {"$.stations[0].level", "type", "integer", "a number: 3.5"},
		{"$.open", "type", "boolean", ""}, {"$.none", "type", "null", ""}, {"$.stations", "type", "array", ""}, {"$.stations[0]", "type", "object", ""}, {"$.n", "type", "string", "an integer: 2"},
		{"$.text", "matches", "^high", ""}, {"$.text", "matches", "low", "high water"}, {"$.text", "matches", "(", "not compared: error parsing regexp: missing closing ): `(`"},
		{"$.stations", "count", "2", ""}, {"$.stations[*].id", "count", "2", ""}, {"$.stations", "count", "3", "2"}, {"$.x[*]", "count", "0", ""},
		{"$.stations[0].level", "greater", "3", ""}, {"$.stations[0].level", "greater", "4", "3.5"}, {"$.stations[1].level", "less", "0", ""},
		{"$.stations[0].at", "less", "2026-04-01T00:00:00Z", ""}, {"$.stations[0].at", "greater", "2026-04-01T00:00:00Z", "2026-03-01T00:00:00Z"}, {"$.text", "greater", "3", "high water, which cannot be compared with it"},
	}
	for _, tt := range tests {
		x := &project.Expect{JSON: []project.Test{{Name: tt.path, Op: tt.op, Value: tt.value, Where: "courier.yaml:1:2"}}}
		out := judgeJSON(x, []byte(stationsBody))
		if tt.actual == "" {
			assert.Empty(t, out, "%s %s %s", tt.path, tt.op, tt.value)
		} else if assert.Len(t, out, 1, "%s %s %s", tt.path, tt.op, tt.value) {
			assert.Equal(t, []string{tt.actual, "courier.yaml:1:2"}, []string{out[0].Actual, out[0].Where})
		}
	}
	notJSON := judgeJSON(&project.Expect{JSON: []project.Test{{Name: "$.a", Op: "equals", Value: "1"}, {Name: "$.a", Op: "present", Value: "false"}}}, []byte("<html>"))
	require.Len(t, notJSON, 1, "what is not JSON has no member")
	assert.Contains(t, notJSON[0].Actual, "not JSON")
}

func TestHeadersChallengeAndTime(t *testing.T) {
	set := func(v string) project.Setting { return project.Setting{Value: v, Where: "w"} }
	leg := &run.Leg{Exchange: &wire.Exchange{Response: &wire.Response{Status: 403, Header: http.Header{"Etag": {"x1"}, "Www-Authenticate": {`Bearer error="insufficient_scope", scope="a b"`}}}}}
	judge := func(x project.Expect) []Mismatch { return checkExpectations(&x, leg, 900*time.Millisecond) }
	assert.Empty(t, judge(project.Expect{Headers: []project.Test{{Name: "ETag", Op: "equals", Value: "x1"}, {Name: "Retry-After", Op: "present", Value: "false"}},
		Challenge: project.Challenge{Error: set("insufficient_scope"), Scope: project.List{Values: []string{"b"}}}, Within: time.Second}))
	out := judge(project.Expect{Status: project.List{Values: []string{"2xx"}}, Headers: []project.Test{{Name: "ETag", Op: "present", Value: "false"}},
		Challenge: project.Challenge{Scheme: set("bearer"), Error: set("invalid_token"), Scope: project.List{Values: []string{"c"}}}, Within: 800 * time.Millisecond})
	var said []string
	for _, m := range out {
		said = append(said, m.What+": "+m.Expected+" / "+m.Actual)
	}
	assert.Equal(t, []string{"the status: 2xx / 403", "ETag: absent / x1", "the challenge's error: invalid_token / insufficient_scope", "the challenge's scope: c / a b", "the time: within 800ms / 900ms"}, said)
	assert.Equal(t, "Basic", judge(project.Expect{Challenge: project.Challenge{Scheme: set("Basic")}})[0].Expected)
}

func TestSchemas(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) project.Setting {
		require.NoError(t, os.WriteFile(dir+"/"+name, []byte(text), 0o600))
		return project.Setting{Value: dir + "/" + name, Where: "courier.yaml:9:9"}
	}
	schema := file("s.json", `{"type":"object","required":["n"],"properties":{"n":{"type":"integer","minimum":1},"stations":{"type":"array","items":{"properties":{"level":{"minimum":0}}}}}}`)
	out := judgeSchema(schema, []byte(stationsBody))
	require.Len(t, out, 1)
	assert.Equal(t, "$.stations.1.level", out[0].What)
	assert.Equal(t, "-1 should be at least 0", out[0].Actual)
	assert.Contains(t, out[0].Expected, "at /properties/stations/items/1/properties/level/minimum")
	several := judgeSchema(file("several.json", `{"required":["m"],"allOf":[{"$ref":"#/$defs/a"}],"$defs":{"a":{"required":["q"],"properties":{"n":{"type":"string"}}}},"properties":{"m":{"type":"integer"}}}`), []byte(`{"n":1}`))
	var places []string
	for _, m := range several {
		places = append(places, m.What+" "+m.Actual)
	}
	assert.Equal(t, []string{"$ Required property 'q' is missing", "$ Required property 'm' is missing", "$.n Value is integer but should be string"}, places)
	assert.Empty(t, judgeSchema(schema, []byte(`{"n":1}`)))
	assert.NotEmpty(t, judgeSchema(schema, []byte(`{}`)))
	assert.Equal(t, "not JSON", judgeSchema(schema, []byte(`<`))[0].Actual)
	assert.Contains(t, judgeSchema(file("bad.json", `{"type":5}`), []byte(`{}`))[0].Actual, "not compared")
	assert.Contains(t, judgeSchema(project.Setting{Value: dir + "/none.json"}, []byte(`{}`))[0].Actual, "no such file")
	assert.Contains(t, judgeSchema(file("far.json", `{"$ref":"https://elsewhere.example/s.json"}`), []byte(`{}`))[0].Actual, "another file", "nothing is fetched for a schema")
}

func TestPagesAreFollowedWithinTheOrigin(t *testing.T) {
	mux := http.NewServeMux()
	mux.HandleFunc("/linked", func(w http.ResponseWriter, r *http.Request) {
		if next := map[string]string{"": "2", "2": "3"}[r.URL.Query().Get("n")]; next != "" {
			w.Header().Add("Link", fmt.Sprintf(`<https://x.example/a,b>; rel="prev first", </linked?n=%s>; title="a; b"; rel="next"`, next))
		}
		fmt.Fprint(w, `{}`)
	})
	mux.HandleFunc("/cursor", func(w http.ResponseWriter, r *http.Request) {
		next := map[string]string{"": `"c1"`, "c1": `"c2"`}[r.URL.Query().Get("after")]
		if next == "" {
			next = "null"
		}
		fmt.Fprintf(w, `{"next":%s}`, next)
	})
	mux.HandleFunc("/circle", func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Link", `</circle>; rel=next`) })
	mux.HandleFunc("/away", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Link", `<https://elsewhere.example/>; rel=next`)
	})
	srv := httptest.NewServer(mux)
	defer srv.Close()
	e := testEngine(t, "")
	pages := func(path string, how Paging) (int, error) {
		s := e.Begin("call")
		p := plainCall(srv.URL + path)
		r, used, err := s.Prepare(context.Background(), p)
		require.NoError(t, err)
		n := 0
		_, err = s.Pages(context.Background(), p, r, used, how, func(int, *CallResult) error { n++; return nil })
		return n, err
	}
	n, err := pages("/linked", Paging{Max: 10})
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	n, err = pages("/cursor?limit=5", Paging{Next: "$.next", Cursor: "after", Max: 10})
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	n, err = pages("/linked", Paging{Max: 2})
	assert.Equal(t, []any{2, fault.Expectation}, []any{n, fault.As(err).Kind})
	_, err = pages("/circle", Paging{Max: 10})
	assert.ErrorContains(t, err, "was there already")
	_, err = pages("/away", Paging{Max: 10})
	assert.ErrorContains(t, err, "the token does not go there")
	_, err = pages("/cursor", Paging{Next: "$[", Max: 10})
	assert.Equal(t, fault.Usage, fault.As(err).Kind)
}

func TestRecords(t *testing.T) {
	for body, want := range map[string]int{`[{"a":1},{"a":2}]`: 2, `{"list":[{"a":1}],"n":1}`: 1, `{"a":1}`: 1, `[]`: 0} {
		list, err := Records([]byte(body), "")
		require.NoError(t, err, body)
		assert.Len(t, list, want, body)
	}
	list, err := Records([]byte(`{"x":[{"a":1}],"y":[{"b":1},{"b":2}]}`), "$.y[*]")
	require.NoError(t, err)
	assert.Len(t, list, 2)
	_, err = Records([]byte(`[1,2]`), "")
	assert.ErrorContains(t, err, "no record")
	_, err = Records([]byte(`<`), "")
	assert.Error(t, err)
}
