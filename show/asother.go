package show

import (
	"net/url"
	"slices"
	"strings"
	"tidycourier/core/har"
)

// Ways to write a request for use elsewhere.
var RequestForms = []string{"http", "sh", "har"}

// RequestAs writes a request for use elsewhere: as an HTTP message, as a shell
// command with the token in a variable, or as a HAR 1.2 document with one entry.
// placed is the header the token travels in, client whose it is.
func RequestAs(form string, v RequestView, placed, client string, revealed bool) (string, error) {
	switch form {
	case "sh":
		return shellRequest(v, placed, client, revealed), nil
	case "har":
		return harRequest(v)
	}
	return httpRequest(v), nil
}

func headerNames(v RequestView) []string {
	return slices.DeleteFunc(sortedNames(v.Headers), func(n string) bool { return strings.EqualFold(n, "Host") })
}

func httpRequest(v RequestView) string {
	var b strings.Builder
	u, err := url.Parse(v.URL)
	target, host := v.URL, ""
	if err == nil {
		target, host = u.RequestURI(), u.Host
	}
	b.WriteString(v.Method + " " + target + " HTTP/1.1\r\nHost: " + host + "\r\n")
	for _, n := range headerNames(v) {
		b.WriteString(n + ": " + v.Headers[n] + "\r\n")
	}
	return b.String() + "\r\n" + v.Body
}

// shellRequest is a curl command. A masked token is a variable, which the first
// lines say how to fill.
func shellRequest(v RequestView, placed, client string, revealed bool) string {
	var b strings.Builder
	if placed == "" {
		placed = "Authorization"
	}
	lines := []string{"curl --request " + v.Method + " " + shellQuote(v.URL)}
	needsToken := false
	for _, n := range headerNames(v) {
		value := v.Headers[n]
		if before, _, masked := strings.Cut(value, "[masked"); masked && strings.EqualFold(n, placed) && !revealed {
			needsToken = true
			lines = append(lines, `--header "`+n+": "+before+`$ACCESS_TOKEN"`)
			continue
		}
		lines = append(lines, "--header "+shellQuote(n+": "+value))
	}
	if v.Body != "" {
		lines = append(lines, "--data-binary "+shellQuote(v.Body))
	}
	if needsToken {
		b.WriteString("# ACCESS_TOKEN=$(tidy-courier pouch take " + client + ")\n")
	}
	b.WriteString(strings.Join(lines, " \\\n  ") + "\n")
	return b.String()
}

func shellQuote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// harRequest is a HAR 1.2 document whose only entry was not sent: its response
// is empty, as the format wants one.
func harRequest(v RequestView) (string, error) {
	if _, err := url.Parse(v.URL); err != nil {
		return "", err
	}
	headers := make(map[string][]string, len(v.Headers))
	for _, n := range headerNames(v) {
		headers[n] = []string{v.Headers[n]}
	}
	e := har.Entry{Started: "1970-01-01T00:00:00Z", Cache: []byte("{}"), Timings: &har.Timings{Blocked: -1, DNS: -1, Connect: -1, SSL: -1},
		Request:  har.Request{Method: v.Method, URL: v.URL, HTTPVersion: "HTTP/1.1", Headers: har.Pairs(headers), QueryString: har.Query(v.URL), Cookies: []any{}, HeadersSize: -1, BodySize: len(v.Body)},
		Response: har.Response{Headers: []har.Pair{}, Cookies: []any{}, HeadersSize: -1, BodySize: -1}}
	if v.Body != "" {
		e.Request.PostData = &har.PostData{MimeType: v.Headers["Content-Type"], Text: v.Body}
	}
	var b strings.Builder
	err := JSON(&b, har.New("", "", []har.Entry{e}))
	return b.String(), err
}
