package har

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/wire"
)

func read(t *testing.T, doc string) ([]*Entry, *Info, error) {
	t.Helper()
	var list []*Entry
	info, err := Read(strings.NewReader(doc), func(n int, e *Entry) error {
		list = append(list, e)
		assert.Equal(t, len(list), n)
		return nil
	})
	return list, info, err
}

func TestARecordIsReadEntryByEntry(t *testing.T) {
	list, info, err := read(t, `{"extra":[1,{"log":2}],"log":{"version":"1.2","creator":{"name":"Recorder","version":"7"},"pages":[{"id":"p"}],
	 "entries":[
	  {"startedDateTime":"2026-03-31T12:00:00.250+02:00","time":41.5,"serverIPAddress":"192.0.2.7",
	   "request":{"method":"post","url":"https://h/token","headers":[{"name":":authority","value":"h"},{"name":"Accept","value":"a"},{"name":"accept","value":"b"}],
	    "postData":{"mimeType":"application/x-www-form-urlencoded","params":[{"name":"grant_type","value":"client_credentials"},{"name":"scope","value":"a%20b"}]}},
	   "response":{"status":302,"headers":[],"redirectURL":"https://h/next","content":{"mimeType":"application/json","encoding":"base64","text":"eyJhIjoxfQ=="}}},
	  {"request":{"method":"GET","url":"https://h/x","headers":"odd"},"response":{"status":0,"_error":"net::ERR_NAME_NOT_RESOLVED"}}],
	 "comment":"x"}}`)
	require.NoError(t, err)
	assert.Equal(t, &Info{Version: "1.2", Creator: "Recorder 7", Entries: 2}, info)
	x := list[0].Exchange()
	assert.Equal(t, "POST", x.Request.Method)
	assert.Equal(t, []string{"a", "b"}, x.Request.Header["Accept"])
	assert.Len(t, x.Request.Header, 2, "with Content-Type from postData; what begins with a colon is no header")
	assert.Equal(t, "grant_type=client_credentials&scope=a+b", string(x.Request.Body))
	assert.Equal(t, `{"a":1}`, string(x.Response.Body))
	assert.Equal(t, "https://h/next", x.Response.Header.Get("Location"))
	assert.Equal(t, "application/json", x.Response.MediaType())
	assert.Equal(t, "2026-03-31T10:00:00.25Z", x.Started.Format("2006-01-02T15:04:05.999Z07:00"))
	assert.Equal(t, int64(41500), x.Timing.Total.Microseconds())
	y := list[1].Exchange()
	assert.Nil(t, y.Response)
	assert.Equal(t, wire.NameNotResolved, y.Failure.Kind)
}

func TestWhatCannotBeReadIsToldByItsLine(t *testing.T) {
	for _, c := range []struct {
		doc, says string
		line      int
	}{
		{"", "breaks off", 1},
		{"{}", "no log.entries", 1},
		{"[1]", "stands where", 1},
		{"{\n\"log\": {\n\"entries\": 3}}", "stands where", 3},
		{"{\n\"log\": {\n\"entries\": [\n{\"request\": {}}\n,\n{\"request\": nope}]}}", "invalid character", 6},
		{"{\"log\":{\"entries\":[{},", "breaks off", 1},
		{"{\"log\":{\"entries\":[]},\n\n\"more\": }", "invalid character", 3},
	} {
		_, _, err := read(t, c.doc)
		var bad *Error
		if assert.ErrorAs(t, err, &bad, c.doc) {
			assert.Contains(t, err.Error(), c.says, c.doc)
			assert.Equal(t, c.line, bad.Line, c.doc)
		}
	}
	mine := errors.New("enough")
	n := 0
	_, err := Read(strings.NewReader(`{"log":{"entries":[{},{},{}]}}`), func(int, *Entry) error { n++; return mine })
	assert.Same(t, mine, err)
	assert.Equal(t, 1, n)
}

func TestARecordIsBounded(t *testing.T) {
	doc := `{"log":{"entries":[` + strings.Repeat("{},", MaxEntries) + `{}]}}`
	_, err := Read(strings.NewReader(doc), func(int, *Entry) error { return nil })
	assert.ErrorIs(t, err, ErrTooMany)
	l := &lines{r: strings.NewReader("x"), n: MaxBytes}
	_, err = l.Read(make([]byte, 1))
	assert.ErrorIs(t, err, ErrTooLarge)
}

// What is written is read again, and has every member that HAR 1.2 requires.
func TestWhatIsWrittenIsRead(t *testing.T) {
	e := Entry{Started: "2026-03-31T12:00:00Z", Time: 3, Cache: []byte("{}"), Timings: &Timings{Blocked: -1, DNS: -1, Connect: -1, SSL: -1, Wait: 3},
		Request:  Request{Method: "GET", URL: "https://h/a?x=1&y=a%20b", HTTPVersion: "HTTP/1.1", Headers: []Pair{}, QueryString: Query("https://h/a?x=1&y=a%20b#z"), Cookies: []any{}, HeadersSize: -1},
		Response: Response{Status: 200, Headers: []Pair{}, Cookies: []any{}, HeadersSize: -1, BodySize: -1}}
	raw, err := json.Marshal(New("1", "", []Entry{e}))
	require.NoError(t, err)
	for _, member := range []string{"startedDateTime", "time", "request", "response", "cache", "timings", "httpVersion", "cookies", "headers", "queryString", "headersSize", "bodySize", "statusText", "content", "redirectURL", "size", "mimeType", "send", "wait", "receive", "creator", "version"} {
		assert.Contains(t, string(raw), `"`+member+`":`)
	}
	list, _, err := read(t, string(raw))
	require.NoError(t, err)
	assert.Equal(t, []Pair{{"x", "1"}, {"y", "a b"}}, list[0].Request.QueryString)
	empty, err := json.Marshal(New("1", "", nil))
	require.NoError(t, err)
	assert.Contains(t, string(empty), `"entries":[]`)
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"log":{"version":"1.2","entries":[{"request":{"method":"GET","url":"https://h/","postData":{"params":[{"name":"a","value":"%"}]}},"response":{"status":200,"content":{"encoding":"base64","text":"!"}}}]}}`))
	f.Add([]byte("{\n\"log\":{\"entries\":[{\"time\":\"x\",\"startedDateTime\":7}\n]}}"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		info, err := Read(strings.NewReader(string(raw)), func(_ int, e *Entry) error {
			x := e.Exchange()
			if (x.Response == nil) == (x.Failure == nil) {
				t.Fatal("neither answered nor failed")
			}
			return nil
		})
		var bad *Error
		if err != nil && (!errors.As(err, &bad) || bad.Line < 1 || bad.Line > 1+strings.Count(string(raw), "\n")) {
			t.Fatalf("%v of %q: no line of it", err, raw)
		}
		if info == nil {
			t.Fatal("no info")
		}
	})
}
