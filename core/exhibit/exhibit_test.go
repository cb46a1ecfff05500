package exhibit

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/har"
	"tidycourier/core/mask"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

var noon = time.Date(2026, 3, 31, 12, 0, 0, 0, time.UTC)

// entry is one exchange of a record; pairs of header name and value follow.
func entry(seconds int, method, url, body string, status int, answer string, headers ...string) har.Entry {
	e := har.Entry{Started: noon.Add(time.Duration(seconds) * time.Second).Format(time.RFC3339), Request: har.Request{Method: method, URL: url},
		Response: har.Response{Status: status, Content: har.Content{MimeType: "application/json", Text: answer}}}
	if body != "" {
		e.Request.PostData = &har.PostData{MimeType: "application/x-www-form-urlencoded", Text: body}
	}
	for i := 0; i+1 < len(headers); i += 2 {
		if headers[i] == "Location" {
			e.Response.Headers = append(e.Response.Headers, har.Pair{Name: headers[i], Value: headers[i+1]})
			continue
		}
		e.Request.Headers = append(e.Request.Headers, har.Pair{Name: headers[i], Value: headers[i+1]})
	}
	return e
}

func document(t *testing.T, entries ...har.Entry) string {
	t.Helper()
	raw, err := json.Marshal(har.New("1", "", entries))
	require.NoError(t, err)
	return string(raw)
}

func causes(b *Bundle) []string {
	out := []string{}
	for _, f := range b.Judge() {
		if !f.Note || f.Odd {
			out = append(out, fmt.Sprintf("%s@%d", f.ID, f.Leg))
		}
	}
	return out
}

// noise is what a browser does besides: pages, pictures, other people's APIs.
func noise(n int) []har.Entry {
	list := make([]har.Entry, 0, n)
	for i := range n {
		list = append(list, entry(i/10, "GET", fmt.Sprintf("https://news.example/story/%d?page=%d", i, i%7), "", []int{200, 304, 404}[i%3], `{"items":[{"id":1,"title":"code and state"}]}`, "Cookie", "session=abc", "Accept", "*/*"))
	}
	return list
}

const asked = "https://as.example/authorize?response_type=code&client_id=desk&redirect_uri=https%3A%2F%2Fapp.example%2Fcb&state=s-1&scope=gauges.read"

// grant is a code grant among other things; redirect is what the exchange says.
func grant(redirect string, status int, answer string) []har.Entry {
	list := noise(300)
	list[40] = entry(4, "GET", asked, "", 302, "", "Location", "https://as.example/signin?next=1")
	list[60] = entry(6, "GET", "https://as.example/signin?next=1", "", 302, "", "Location", "https://app.example/cb?code=c0de-1&state=s-1")
	list[61] = entry(6, "GET", "https://app.example/cb?code=c0de-1&state=s-1", "", 200, "<html>welcome</html>")
	list[90] = entry(9, "POST", "https://as.example/token", "grant_type=authorization_code&client_id=desk&code=c0de-1&redirect_uri="+redirect, status, answer)
	return list
}

func TestTheLegsAreFoundAmongEverythingElse(t *testing.T) {
	good := `{"access_token":"opaque-access-1","token_type":"Bearer","expires_in":60,"scope":"gauges.read"}`
	list := grant("https%3A%2F%2Fapp.example%2Fcb", 200, good)
	list[120] = entry(12, "GET", "https://api.example/stations", "", 200, `{"stations":[]}`, "Authorization", "Bearer opaque-access-1")
	b, info, err := ReadHAR(strings.NewReader(document(t, list...)), Settings{})
	require.NoError(t, err)
	assert.Equal(t, 300, info.Entries)
	var kinds []run.Kind
	for _, l := range b.Legs {
		kinds = append(kinds, l.Kind)
	}
	assert.Equal(t, []run.Kind{run.Authorization, run.Landing, run.Token, run.Call}, kinds)
	assert.Empty(t, causes(b))
	assert.Equal(t, "desk", b.Flows[len(b.Flows)-1].ClientID, "the call's token was given to desk")

	b, _, err = ReadHAR(strings.NewReader(document(t, grant("https%3A%2F%2Fapp.example%2Fcb%2F", 400, `{"error":"invalid_grant"}`)...)), Settings{})
	require.NoError(t, err)
	assert.Equal(t, []string{"redirect-uri-mismatch@3"}, causes(b), "the two legs are held against each other")
}

func TestSettingsSharpenTheJudgement(t *testing.T) {
	basic := "Basic " + base64.StdEncoding.EncodeToString([]byte("job:old-secret-7"))
	doc := document(t, entry(0, "POST", "https://as.example/token", "grant_type=client_credentials", 401, `{"error":"invalid_client"}`, "Authorization", basic))
	read := func(s Settings) []run.Finding {
		b, _, err := ReadHAR(strings.NewReader(doc), s)
		require.NoError(t, err)
		return b.Judge()
	}
	assert.Equal(t, run.Likely, read(Settings{})[0].Certainty)
	c := &project.Client{Name: "job", ClientID: project.Setting{Value: "job", Where: "courier.yaml:4:5"}, Secret: &project.Secret{Env: "S", Where: "courier.yaml:5:5"}, Server: &project.Server{}}
	with := read(Settings{Client: c, Secret: "new-secret-8"})
	assert.Equal(t, "wrong-secret", with[0].ID)
	assert.Equal(t, run.Certain, with[0].Certainty)
	for _, f := range with {
		for _, it := range f.Evidence {
			assert.NotContains(t, it.Value, "secret-7")
			assert.NotContains(t, it.Value, "secret-8")
		}
	}
}

func TestSecretsOfARecordAreKnownToTheMask(t *testing.T) {
	doc := document(t, grant("https%3A%2F%2Fapp.example%2Fcb", 200, `{"access_token":"canary-access-1","refresh_token":"canary-refresh-2","token_type":"Bearer"}`)...)
	b, _, err := ReadHAR(strings.NewReader(doc), Settings{})
	require.NoError(t, err)
	set := &mask.Set{}
	b.Secrets(set)
	raw, err := json.Marshal(b.Run("explain", "").Record(set))
	require.NoError(t, err)
	for _, secret := range []string{"canary-access-1", "canary-refresh-2", "c0de-1"} {
		assert.NotContains(t, string(raw), secret)
	}
}

// A record that this program wrote, masked, is judged by what is left in it.
func TestMaskedRecordsAreJudgedByWhatIsKnown(t *testing.T) {
	masked := func(secret string) string { return mask.Text(secret) }
	for _, c := range []struct {
		e    har.Entry
		want []string
	}{
		{entry(0, "POST", "https://as.example/token", "grant_type=client_credentials", 401, `{"error":"invalid_client"}`, "Authorization", "Basic [job:"+masked("a-secret-1")+"]"), []string{"wrong-secret@1", "unknown-client@1"}},
		{entry(0, "GET", "https://api.example/x", "", 401, `{"error":"invalid_token"}`, "Authorization", "Bearer "+masked("a-token-2")), []string{"token-not-accepted@1"}},
		{entry(0, "POST", "https://as.example/token", "grant_type=authorization_code&client_id=desk&redirect_uri=x&code="+masked("c")+"&code_verifier="+masked("v"), 200, `{"access_token":"`+masked("t")+`","token_type":"Bearer","expires_in":60}`), []string{}},
	} {
		b, _, err := ReadHAR(strings.NewReader(document(t, c.e)), Settings{})
		require.NoError(t, err)
		assert.Equal(t, c.want, causes(b), c.e.Request.URL)
	}
}

func TestPaste(t *testing.T) {
	for _, c := range []struct{ text, what, cause string }{
		{`{"error":"invalid_client","error_description":"bad secret"}`, "answer", "wrong-secret"},
		{`{"error":"invalid_grant","error_description":"the code has expired"}`, "answer", "code-expired"},
		{`{"access_token":"a","token_type":"Bearer","expires_in":"60"}`, "token answer", ""},
		{"https://app.example/cb?error=access_denied&state=1", "redirect", "consent-denied"},
		{"http://127.0.0.1:8651/landing?error=invalid_scope&error_description=unknown+scope", "redirect", "invalid-scope-asked"},
		{"error=login_required&state=x", "", "login-required"},
		{`WWW-Authenticate: Bearer error="insufficient_scope", scope="notices.write"`, "challenge", "insufficient-scope"},
		{`Bearer realm="x"`, "challenge", "no-token-sent"},
		{"HTTP/1.1 401 Unauthorized\r\nContent-Type: application/json\r\n\r\n{\"error\":\"invalid_client\"}", "", "wrong-secret"},
		{"POST /token HTTP/1.1\nHost: as.example\nContent-Type: application/x-www-form-urlencoded\n\ngrant_type=authorization_code&client_id=a&redirect_uri=x\n\nHTTP/1.1 400 Bad Request\nContent-Type: application/json\n\n{\"error\":\"invalid_request\"}", "", "code-missing"},
		{"GET /x HTTP/2\nHost: api.example\nAuthorization: Bearer abc.def\n\nHTTP/2 503\nRetry-After: 7\n\n", "", "server-error-temporary"},
		{"<html><title>Sign in</title><input type=\"password\"></html>", "page", "html-instead-of-json"},
	} {
		b, p, err := Paste(c.text, Settings{Now: noon})
		if !assert.NoError(t, err, c.text) {
			continue
		}
		assert.Contains(t, p.What, c.what, c.text)
		found := causes(b)
		if c.cause == "" {
			continue
		}
		if assert.NotEmpty(t, found, c.text) {
			assert.True(t, strings.HasPrefix(found[0], c.cause+"@"), "%s: %v", c.text, found)
		}
	}
	_, p, err := Paste("eyJhbGciOiJSUzI1NiJ9.eyJzdWIiOiJhIn0.c2ln", Settings{})
	require.NoError(t, err)
	assert.NotEmpty(t, p.Token)
	for _, nothing := range []string{"", "  \n", "hello there", strings.Repeat("x", MaxPaste+1)} {
		_, _, err := Paste(nothing, Settings{})
		assert.Error(t, err, "%.20s", nothing)
	}
}

// recorded is a run with a secret in each place.
func recorded(t *testing.T) (*run.Run, *mask.Set) {
	t.Helper()
	basic := "Basic " + base64.StdEncoding.EncodeToString([]byte("job:a%26secret+canary"))
	b, _, err := ReadHAR(strings.NewReader(document(t,
		entry(0, "GET", asked, "", 302, "", "Location", "https://app.example/cb?code=canary-code&state=s-1"),
		entry(1, "GET", "https://app.example/cb?code=canary-code&state=s-1", "", 200, ""),
		entry(2, "POST", "https://as.example/token", "grant_type=authorization_code&code=canary-code&note=it%27s&redirect_uri=https%3A%2F%2Fapp.example%2Fcb", 200, `{"access_token":"canary-access","token_type":"Bearer"}`, "Authorization", basic),
		entry(3, "GET", "https://api.example/x?access_token=canary-access&q='$(id)`id`", "", 403, `{"a":1}`, "Authorization", "Bearer canary-access", "X-Api-Key", "canary-key"),
	)), Settings{})
	require.NoError(t, err)
	set := &mask.Set{}
	b.Secrets(set)
	return b.Run("explain", "job"), set
}

func TestTheScriptSendsTheSameAndHoldsNoSecret(t *testing.T) {
	r, set := recorded(t)
	r.Client = "job\nrm -rf x"
	text := Script(r, set)
	assert.NotContains(t, text, "canary")
	assert.NotContains(t, text, "\nrm -rf", "foreign text stays inside its comment")
	for _, want := range []string{`: "${CLIENT_SECRET:?`, `: "${ACCESS_TOKEN:?`, `: "${CODE:?`, `--header 'Authorization: Bearer '"$ACCESS_TOKEN"`, "grant_type=authorization_code", "a person answers it"} {
		assert.Contains(t, text, want)
	}
	sh, err := exec.LookPath("sh")
	if err != nil {
		t.Skip("SKIPPED: no shell on this machine")
	}
	// a stand-in for curl shows what it was given, a word a line
	cmd := exec.Command(sh, "-c", "curl() { for w; do printf '<%s>\\n' \"$w\"; done; }\n"+text)
	cmd.Env = []string{"PATH=/usr/bin:/bin", "CLIENT_SECRET=a&secret canary", "ACCESS_TOKEN=canary-access", "CODE=canary-code", "VALUE_X_API_KEY=canary-key"}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	for _, want := range []string{"<Authorization: Bearer canary-access>", "<X-Api-Key: canary-key>", "&note=it%27s&redirect_uri=https%3A%2F%2Fapp.example%2Fcb>",
		"<Authorization: Basic " + base64.StdEncoding.EncodeToString([]byte("job:%61%26%73%65%63%72%65%74%20%63%61%6e%61%72%79")) + ">", "$(id)`id`"} {
		assert.Contains(t, string(out), want)
	}
	assert.NotContains(t, string(out), "uid=", "nothing in it is run")
	out, err = exec.Command(sh, "-c", text).CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out), "CLIENT_SECRET")
}

func TestARunWrittenAsHARIsReadAgain(t *testing.T) {
	r, set := recorded(t)
	rec := r.Record(set)
	masked, err := json.Marshal(HAR(&rec, "1"))
	require.NoError(t, err)
	assert.NotContains(t, string(masked), "canary")
	for _, rec := range []run.Record{rec, r.Revealed()} {
		raw, err := json.Marshal(HAR(&rec, "1"))
		require.NoError(t, err)
		b, _, err := ReadHAR(strings.NewReader(string(raw)), Settings{})
		require.NoError(t, err)
		require.Len(t, b.Legs, len(r.Legs))
		for i := range r.Legs {
			assert.Equal(t, r.Legs[i].Kind, b.Legs[i].Kind)
			assert.Equal(t, r.Legs[i].Status(), b.Legs[i].Status())
		}
		assert.Equal(t, causes(b), []string{"forbidden-for-this-user@4", "expires-in-missing@3"})
	}
}

func TestACaseShowsPartiesTokensAndClocks(t *testing.T) {
	r, set := recorded(t)
	for i := range r.Legs { // two legs as the program itself records them
		if r.Legs[i].Kind == run.Authorization || r.Legs[i].Inbound {
			r.Legs[i].Exchange = nil
		}
	}
	last := r.Legs[len(r.Legs)-1].Exchange
	last.Response.Header.Set("Date", "Tue, 31 Mar 2026 12:07:03 GMT")
	rec := r.Record(set)
	c := NewCase(&rec, r, set)
	var lanes []string
	for _, l := range c.Lanes {
		lanes = append(lanes, l.Name)
	}
	assert.Equal(t, []string{LaneHere, LaneBrowser, "as.example", "api.example"}, lanes)
	assert.Equal(t, 4, len(c.Steps))
	assert.Equal(t, [2]int{1, 0}, [2]int{c.Steps[1].From, c.Steps[1].To}, "the redirect came from the browser")
	require.NotEmpty(t, c.Clocks)
	assert.Equal(t, "7m0s ahead of this machine", c.Clocks[len(c.Clocks)-1].String())
	require.NotEmpty(t, c.Tokens)
	raw, err := json.Marshal(c)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "canary")
	assert.NotPanics(t, func() { NewCase(&rec, nil, nil) })
}

func FuzzPasted(f *testing.F) {
	for _, seed := range []string{`{"error":"invalid_grant"}`, "https://h/cb?code=a&state=b", "HTTP/1.1 401 X\nWWW-Authenticate: Bearer\n\n{}", "POST /t HTTP/1.1\nHost: h\n\na=b", `Bearer error="x"`, "<html></html>", "a=b&code=c", `{"log":{"entries":[]}}`, "eyJhIjoxfQ.eyJhIjoxfQ."} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		b, p, err := Paste(text, Settings{Now: noon})
		if err != nil {
			return
		}
		if p == nil || p.What == "" {
			t.Fatal("understood, and not said as what")
		}
		if b == nil {
			return
		}
		set := &mask.Set{}
		b.Secrets(set)
		b.Judge()
		r := b.Run("explain", "")
		rec := r.Record(set)
		HAR(&rec, "1")
		Script(r, set)
		NewCase(&rec, r, set)
	})
}

func TestTimingsOfAnEntry(t *testing.T) {
	ms := func(n int) time.Duration { return time.Duration(n) * time.Millisecond }
	l := &run.LegRecord{Ms: 40, Timing: &wire.Timing{DNS: ms(2), Connect: ms(3), TLS: ms(5), FirstByte: ms(30), Total: ms(40)}}
	assert.Equal(t, &har.Timings{Blocked: -1, DNS: 2, Connect: 8, SSL: 5, Wait: 20, Receive: 10}, timings(l), "connect holds ssl")
	l.Timing = &wire.Timing{FirstByte: ms(30), Total: ms(40)}
	assert.Equal(t, &har.Timings{Blocked: -1, DNS: -1, Connect: -1, SSL: -1, Wait: 30, Receive: 10}, timings(l), "a connection that was kept")
	assert.Equal(t, &har.Timings{Blocked: -1, DNS: -1, Connect: -1, SSL: -1, Wait: 7}, timings(&run.LegRecord{Ms: 7}))
}
