// Command corpus records the corpus that the rules are measured on: it drives a
// real authorization server and the stand-in through healthy and failing grants
// and calls, as a browser and a program would, and writes each exchange into a
// HAR with its settings and the cause it must name first.
//
//	go run ./interop/corpus -real http://127.0.0.1:9700 -key signer.pem -out testdata/corpus
//
// interop/record starts the server, and runs it.
package corpus

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"time"

	"tidycourier/core/har"
)

// recorder is a browser and a program at once, whose exchanges end up in a HAR.
type recorder struct {
	entries []har.Entry
	client  *http.Client
	jar     http.CookieJar
	shift   time.Duration // added to the clock of what follows
}

func newRecorder() *recorder {
	jar, _ := cookiejar.New(nil) // never fails
	return &recorder{jar: jar, client: &http.Client{Jar: jar, Timeout: 20 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// answer is what came back.
type answer struct {
	status int
	header http.Header
	body   string
	at     *url.URL
}

// pairs makes a header of NAME, VALUE, NAME, VALUE.
func pairs(list ...string) http.Header {
	h := http.Header{}
	for i := 0; i+1 < len(list); i += 2 {
		h.Add(list[i], list[i+1])
	}
	return h
}

const (
	browserAgent = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"
	programAgent = "gauge-sync/2.4"
)

// do makes one exchange and records it. A body without Content-Type is a form.
func (r *recorder) do(method, address string, h http.Header, body string) answer {
	req, err := http.NewRequest(method, address, strings.NewReader(body))
	if err != nil {
		panic(err)
	}
	if h != nil {
		req.Header = h.Clone()
	}
	if body != "" && req.Header.Get("Content-Type") == "" {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	if req.Header.Get("Content-Type") == "-" {
		req.Header.Del("Content-Type")
	}
	if req.Header.Get("User-Agent") == "" {
		req.Header.Set("User-Agent", programAgent)
	}
	if body == "" {
		req.Body = http.NoBody
	}
	start := time.Now()
	e := har.Entry{Started: start.Add(r.shift).UTC().Format("2006-01-02T15:04:05.000Z"), Cache: []byte("{}"), Timings: &har.Timings{Send: 0, Wait: 1, Receive: 0, DNS: -1, Connect: -1, SSL: -1, Blocked: -1}}
	resp, err := r.client.Do(req)
	e.Time = float64(time.Since(start).Microseconds()) / 1000
	e.Request = har.Request{Method: method, URL: address, HTTPVersion: "HTTP/1.1", Headers: headerPairs(req.Header), QueryString: har.Query(address), Cookies: []any{}, HeadersSize: -1, BodySize: len(body)}
	if body != "" {
		e.Request.PostData = &har.PostData{MimeType: req.Header.Get("Content-Type"), Text: body}
	}
	if err != nil {
		e.Response = har.Response{Headers: []har.Pair{}, Cookies: []any{}, HeadersSize: -1, BodySize: -1, Error: err.Error()}
		r.entries = append(r.entries, e)
		return answer{}
	}
	raw, _ := io.ReadAll(resp.Body)
	_ = resp.Body.Close()
	e.Response = har.Response{Status: resp.StatusCode, StatusText: http.StatusText(resp.StatusCode), HTTPVersion: "HTTP/1.1", Headers: headerPairs(resp.Header), Cookies: []any{},
		Content: har.Content{Size: len(raw), MimeType: resp.Header.Get("Content-Type"), Text: string(raw)}, RedirectURL: resp.Header.Get("Location"), HeadersSize: -1, BodySize: len(raw)}
	r.entries = append(r.entries, e)
	return answer{resp.StatusCode, resp.Header, string(raw), req.URL}
}

func headerPairs(h http.Header) []har.Pair {
	out := []har.Pair{}
	for _, name := range sortedKeys(h) {
		for _, v := range h[name] {
			out = append(out, har.Pair{Name: name, Value: v})
		}
	}
	return out
}

func sortedKeys(h http.Header) []string {
	var out []string
	for n := range h {
		out = append(out, n)
	}
	// insertion sort: a handful
	for i := 1; i < len(out); i++ {
		for j := i; j > 0 && out[j] < out[j-1]; j-- {
			out[j], out[j-1] = out[j-1], out[j]
		}
	}
	return out
}

// noise puts entries of other traffic around what is recorded: a page and its
// parts, an analytics call, an API of somebody else's.
func (r *recorder) noise(n int) {
	for i := range n {
		kind := []struct{ url, mime, body string }{
			{"https://portal.example/assets/app-%d.js", "text/javascript", "export const tide = 1;"},
			{"https://portal.example/assets/style-%d.css", "text/css", "body { margin: 0 }"},
			{"https://cdn.example/map/tile-%d.png", "image/png", ""},
			{"https://stats.example/collect?event=view&n=%d", "application/json", `{"ok":true}`},
			{"https://weather.example/v2/forecast?harbour=skarvik&day=%d", "application/json", `{"days":[{"wind":7}]}`},
		}[i%5]
		r.entries = append(r.entries, har.Entry{Started: time.Now().Add(r.shift).UTC().Format("2006-01-02T15:04:05.000Z"), Time: 3, Cache: []byte("{}"),
			Request:  har.Request{Method: "GET", URL: fmt.Sprintf(kind.url, i), HTTPVersion: "HTTP/2", Headers: []har.Pair{{Name: "User-Agent", Value: browserAgent}}, QueryString: []har.Pair{}, Cookies: []any{}, HeadersSize: -1},
			Response: har.Response{Status: 200, StatusText: "OK", HTTPVersion: "HTTP/2", Headers: []har.Pair{{Name: "Content-Type", Value: kind.mime}}, Cookies: []any{}, Content: har.Content{Size: len(kind.body), MimeType: kind.mime, Text: kind.body}, HeadersSize: -1, BodySize: len(kind.body)}})
	}
}

var (
	formPattern   = regexp.MustCompile(`<form[^>]*action="([^"]*)"`)
	hiddenPattern = regexp.MustCompile(`<input type="hidden" name="([^"]+)" value="([^"]*)"`)
	abortPattern  = regexp.MustCompile(`href="([^"]+/abort)"`)
	browserHeader = pairs("User-Agent", browserAgent, "Accept", "text/html,application/xhtml+xml,*/*;q=0.8", "Sec-Fetch-Dest", "document", "Sec-Fetch-Mode", "navigate")
)

// browse follows an address through the server's pages until it leads away from
// the server; that last address is returned, or "" when the browser stays on a page.
func (r *recorder) browse(address string, refuse bool) string {
	a := r.do("GET", address, browserHeader, "")
	host := a.at.Host
	for range 12 {
		if to := a.header.Get("Location"); to != "" {
			next, err := a.at.Parse(to)
			if err != nil {
				return ""
			}
			if next.Host != host || strings.Contains(next.Path, "landing") || strings.Contains(next.Path, "callback") {
				return next.String()
			}
			a = r.do("GET", next.String(), browserHeader, "")
			continue
		}
		form := formPattern.FindStringSubmatch(a.body)
		if form == nil || a.status >= 400 {
			return ""
		}
		if abort := abortPattern.FindStringSubmatch(a.body); refuse && abort != nil {
			to, _ := a.at.Parse(abort[1])
			a = r.do("GET", to.String(), browserHeader, "")
			continue
		}
		values := url.Values{}
		if strings.Contains(a.body, `name="login"`) {
			values = url.Values{"login": {"pilot"}, "password": {"x"}}
		}
		for _, h := range hiddenPattern.FindAllStringSubmatch(a.body, -1) {
			values.Set(h[1], h[2])
		}
		to, _ := a.at.Parse(form[1])
		if to.Host != host { // the answer posts itself to the redirect URI
			r.arrive("POST", to.String(), values.Encode())
			return ""
		}
		h := browserHeader.Clone()
		h.Set("Content-Type", "application/x-www-form-urlencoded")
		a = r.do("POST", to.String(), h, values.Encode())
	}
	return ""
}

// land records the browser's arrival at the redirect URI, which the client's
// own server answers.
func (r *recorder) land(address string) url.Values {
	if address == "" {
		return url.Values{}
	}
	u, _ := url.Parse(address)
	r.arrive("GET", address, "")
	v := u.Query()
	if f, err := url.ParseQuery(u.EscapedFragment()); err == nil {
		for name := range f {
			v.Set(name, f.Get(name))
		}
	}
	return v
}

// arrive is the entry of the browser's arrival.
func (r *recorder) arrive(method, address, form string) {
	e := har.Entry{Started: time.Now().Add(r.shift).UTC().Format("2006-01-02T15:04:05.000Z"), Time: 2, Cache: []byte("{}"),
		Request:  har.Request{Method: method, URL: address, HTTPVersion: "HTTP/1.1", Headers: headerPairs(browserHeader), QueryString: har.Query(address), Cookies: []any{}, HeadersSize: -1},
		Response: har.Response{Status: 200, StatusText: "OK", HTTPVersion: "HTTP/1.1", Headers: []har.Pair{{Name: "Content-Type", Value: "text/html"}}, Cookies: []any{}, Content: har.Content{MimeType: "text/html", Text: "<p>Welcome back</p>"}, HeadersSize: -1, BodySize: 20}}
	if form != "" {
		e.Request.PostData = &har.PostData{MimeType: "application/x-www-form-urlencoded", Text: form}
	}
	r.entries = append(r.entries, e)
}

func (r *recorder) document() *har.Document { return har.New("", "recorded for the corpus", r.entries) }

func indent(raw []byte) []byte { return append(bytes.TrimSpace(raw), '\n') }
