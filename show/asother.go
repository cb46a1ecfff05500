package show

import (
	"encoding/json"
	"net/url"
	"slices"
	"strings"
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

type harPair struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// harRequest is a HAR 1.2 document whose only entry was not sent: its response
// is empty, as the format wants one.
func harRequest(v RequestView) (string, error) {
	u, err := url.Parse(v.URL)
	if err != nil {
		return "", err
	}
	headers, query := []harPair{}, []harPair{}
	for _, n := range headerNames(v) {
		headers = append(headers, harPair{n, v.Headers[n]})
	}
	for _, part := range strings.Split(u.RawQuery, "&") {
		if part == "" {
			continue
		}
		name, value, _ := strings.Cut(part, "=")
		n, err1 := url.QueryUnescape(name)
		x, err2 := url.QueryUnescape(value)
		if err1 == nil && err2 == nil {
			query = append(query, harPair{n, x})
		}
	}
	request := map[string]any{"method": v.Method, "url": v.URL, "httpVersion": "HTTP/1.1", "cookies": []any{}, "headers": headers, "queryString": query, "headersSize": -1, "bodySize": len(v.Body)}
	if v.Body != "" {
		request["postData"] = map[string]any{"mimeType": v.Headers["Content-Type"], "text": v.Body}
	}
	response := map[string]any{"status": 0, "statusText": "", "httpVersion": "", "cookies": []any{}, "headers": []any{}, "content": map[string]any{"size": 0, "mimeType": ""}, "redirectURL": "", "headersSize": -1, "bodySize": -1}
	entry := map[string]any{"startedDateTime": "1970-01-01T00:00:00Z", "time": 0, "request": request, "response": response, "cache": map[string]any{}, "timings": map[string]any{"send": 0, "wait": 0, "receive": 0}}
	doc := map[string]any{"log": map[string]any{"version": "1.2", "creator": map[string]any{"name": "tidy-courier", "version": ""}, "entries": []any{entry}}}
	raw, err := json.MarshalIndent(doc, "", "  ")
	return string(raw) + "\n", err
}
