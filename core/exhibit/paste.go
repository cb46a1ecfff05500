package exhibit

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"

	"strconv"
	"strings"

	"tidycourier/core/bearer"
	"tidycourier/core/finding"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/token"
	"tidycourier/core/wire"
)

// MaxPaste bounds pasted text; a whole exchange with a page in it is far smaller.
const MaxPaste = 4 << 20

// ErrNotUnderstood is returned for pasted text in which nothing of OAuth is found.
var ErrNotUnderstood = errors.New("the text is none of: a redirect or authorization URL, an error or token answer, a WWW-Authenticate header, an HTTP exchange, a token, a HAR")

// Pasted is what a text was taken for, in words.
type Pasted struct {
	What  string
	Token string // when it is a token and nothing else
}

// Paste reads evidence that somebody copied from somewhere: a redirect URL, the
// body of an error or token answer, a WWW-Authenticate header, one or both
// halves of an HTTP exchange, a HAR. What was not pasted is not known, and proves
// nothing.
func Paste(text string, s Settings) (*Bundle, *Pasted, error) {
	trimmed := strings.TrimSpace(text)
	if len(trimmed) > MaxPaste {
		return nil, nil, errors.New("the text is too long to have been pasted; --har reads a record from a file")
	}
	switch {
	case trimmed == "":
		return nil, nil, oauth.ErrNothingPasted
	case trimmed[0] == '{' || trimmed[0] == '[':
		return pastedJSON(trimmed, s)
	case requestLine().MatchString(firstOf(trimmed)) || statusLine().MatchString(firstOf(trimmed)):
		return pastedExchange(text, s)
	case challengeLine().MatchString(trimmed):
		return pastedChallenge(trimmed, s)
	case strings.Contains(trimmed, "://") && !strings.ContainsAny(trimmed, " \n"):
		return pastedURL(trimmed, s)
	case strings.ContainsAny(trimmed, "=&") && !strings.ContainsAny(trimmed, " \n<"):
		return pastedForm(strings.TrimLeft(trimmed, "?#"), s)
	case strings.Contains(trimmed, "<html") || strings.Contains(trimmed, "<!doctype") || strings.Contains(trimmed, "<!DOCTYPE"):
		b := answered(run.Token, 400, "text/html", trimmed, s)
		return b, &Pasted{What: "a page that a server answered with"}, nil
	}
	if t, err := token.Decode(trimmed); err == nil && t.Form == token.JWT {
		return nil, &Pasted{What: "a token", Token: trimmed}, nil
	}
	return nil, nil, ErrNotUnderstood
}

var (
	requestLine   = lazy(`^(>\s*)?(GET|POST|PUT|PATCH|DELETE|HEAD|OPTIONS) \S+( HTTP/[\d.]+)?$`)
	statusLine    = lazy(`^(<\s*)?HTTP/[\d.]+ \d{3}`)
	challengeLine = lazy(`(?i)^(<\s*)?(www-authenticate:\s*)?(bearer|dpop)(\s+[a-z_]+\s*=|\s*$)`)
)

func firstOf(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return strings.TrimSpace(line)
}

// answered is a bundle of one answer whose request is not known.
func answered(kind run.Kind, status int, contentType, body string, s Settings) *Bundle {
	x := &wire.Exchange{Request: wire.Request{Method: "POST", Header: http.Header{}}, Response: &wire.Response{Status: status, Header: http.Header{}, Body: []byte(body), Length: -1}, Started: s.Now}
	if contentType != "" {
		x.Response.Header.Set("Content-Type", contentType)
	}
	return answerOnly(kind, x, s)
}

func answerOnly(kind run.Kind, x *wire.Exchange, s Settings) *Bundle {
	l := run.Leg{N: 1, Unseen: true, Kind: kind, Method: x.Request.Method, URL: x.Request.URL, At: x.Started, Exchange: x}
	f := &Flow{Legs: []run.Leg{l}}
	f.Evidence = finding.Evidence{Now: s.Now, Foreign: true, AnswerOnly: true, Client: s.Client}
	if kind == run.Token {
		if t, err := oauth.ParseTokenResponse(x.Response.Status, x.Response.Header.Get("Content-Type"), x.Response.Body); err == nil {
			f.Evidence.Answer = t
			if s.Client != nil {
				f.Evidence.AskedScope = s.Client.Scope.Values
			}
		}
	}
	return &Bundle{Legs: f.Legs, Flows: []*Flow{f}, settings: s}
}

func pastedJSON(text string, s Settings) (*Bundle, *Pasted, error) {
	var members map[string]json.RawMessage
	if err := json.Unmarshal([]byte(text), &members); err != nil {
		return answered(run.Token, 200, "application/json", text, s), &Pasted{What: "JSON that does not parse"}, nil
	}
	_, log := members["log"]
	_, access := members["access_token"]
	_, issuer := members["issuer"]
	_, keys := members["keys"]
	_, endpoint := members["token_endpoint"]
	switch {
	case log:
		b, _, err := ReadHAR(strings.NewReader(text), s)
		return b, &Pasted{What: "a HAR"}, err
	case access:
		return answered(run.Token, 200, "application/json", text, s), &Pasted{What: "a token answer"}, nil
	case issuer && endpoint:
		b := answered(run.Discovery, 200, "application/json", text, s)
		if m, err := oauth.ParseMetadata([]byte(text)); err == nil {
			f := b.Flows[0]
			f.Evidence.Metadata = m
			if s.Client != nil && s.Client.Server != nil {
				f.Evidence.Asked = s.Client.Server.Issuer.Value
			}
		}
		return b, &Pasted{What: "a server's metadata"}, nil
	case keys:
		return answered(run.Keys, 200, "application/json", text, s), &Pasted{What: "a key set"}, nil
	}
	return answered(run.Token, errorStatus(text), "application/json", text, s), &Pasted{What: "an error answer"}, nil
}

// errorStatus is the status an error answer usually comes with: RFC 6749 5.2
// names 401 for invalid_client and 400 for the rest.
func errorStatus(body string) int {
	if strings.Contains(body, oauth.ErrInvalidClient) {
		return 401
	}
	return 400
}

func pastedChallenge(text string, s Settings) (*Bundle, *Pasted, error) {
	value := strings.TrimSpace(strings.TrimPrefix(text, "<"))
	if i := strings.Index(strings.ToLower(value), "www-authenticate:"); i == 0 {
		value = strings.TrimSpace(value[len("www-authenticate:"):])
	}
	status := http.StatusUnauthorized
	list, err := bearer.ParseChallenges([]string{value})
	if len(list) == 0 {
		return nil, nil, err
	}
	switch list[0].Error() {
	case "insufficient_scope":
		status = http.StatusForbidden
	case "invalid_request":
		status = http.StatusBadRequest
	}
	b := answered(run.Call, status, "", "", s)
	b.Flows[0].Legs[0].Exchange.Response.Header.Set("WWW-Authenticate", value)
	return b, &Pasted{What: "a challenge (WWW-Authenticate)"}, nil
}

func pastedURL(text string, s Settings) (*Bundle, *Pasted, error) {
	u, err := url.Parse(text)
	if err != nil {
		return nil, nil, errors.New("the pasted URL cannot be read")
	}
	x := &wire.Exchange{Request: wire.Request{Method: "GET", URL: text, Header: http.Header{}}, Started: s.Now}
	p := pieceOf(1, x)
	v := values(u)
	if p.has("client_id") && p.has("response_type", "redirect_uri", "scope") {
		b := FromExchanges([]*wire.Exchange{x}, s)
		return b, &Pasted{What: "an authorization request"}, nil
	}
	return landed(v, via(u), text, s), &Pasted{What: "a redirect URL"}, nil
}

// landed is a bundle of the answer that came through the browser alone.
func landed(v url.Values, via, at string, s Settings) *Bundle {
	r := oauth.ReadAuthorizationValues(v, via)
	f := &Flow{Grant: oauth.GrantCode, Legs: []run.Leg{{N: 1, Kind: run.Landing, Inbound: true, Method: "GET", URL: at, At: s.Now, Answer: &r}}}
	req := &oauth.AuthorizationRequest{ResponseType: "code"}
	if r.AccessToken != "" {
		req.ResponseType = "token"
	}
	if r.Err != nil {
		req.State = r.State // it belongs to a request nobody here knows
	}
	f.Evidence = finding.Evidence{Now: s.Now, Foreign: true, AnswerOnly: true, Client: s.Client, Metadata: s.Metadata, Person: &finding.Person{Request: req, Response: &r, Unasked: true}}
	return &Bundle{Legs: f.Legs, Flows: []*Flow{f}, settings: s}
}

func pastedForm(text string, s Settings) (*Bundle, *Pasted, error) {
	v, err := url.ParseQuery(text)
	if err != nil {
		return nil, nil, errors.New("the pasted text cannot be read as a query")
	}
	switch {
	case v.Has("access_token") && !v.Has("state"), v.Has("error") && !v.Has("state") && !v.Has("iss"):
		status := 200
		if v.Has("error") {
			status = errorStatus(text)
		}
		return answered(run.Token, status, "application/x-www-form-urlencoded", text, s), &Pasted{What: "an answer as form-encoded text"}, nil
	case v.Has("code") || v.Has("error") || v.Has("state"):
		return landed(v, "query", "?"+text, s), &Pasted{What: "the query of a redirect URL"}, nil
	}
	return nil, nil, ErrNotUnderstood
}

// pastedExchange reads an HTTP message or two as they are written on the wire,
// or as programs print them, with > and < before the lines.
func pastedExchange(text string, s Settings) (*Bundle, *Pasted, error) {
	requests, answers := messages(text)
	x := &wire.Exchange{Request: wire.Request{Method: "POST", Header: http.Header{}}, Started: s.Now}
	if requests != "" {
		if err := readRequest(requests, x); err != nil {
			return nil, nil, err
		}
	}
	if answers != "" {
		if err := readAnswer(answers, x); err != nil {
			return nil, nil, err
		}
		if at := x.Response.Date(); !at.IsZero() {
			x.Started = at
		}
	}
	switch {
	case requests != "" && answers != "":
		b := FromExchanges([]*wire.Exchange{x}, s)
		if len(b.Legs) == 0 { // it was pasted on purpose
			b = forced(x, s)
		}
		return b, &Pasted{What: "an HTTP exchange"}, nil
	case answers != "":
		kind := run.Token
		if len(x.Response.Header.Values("WWW-Authenticate")) > 0 && !strings.HasPrefix(strings.ToLower(x.Response.Header.Get("WWW-Authenticate")), "basic") {
			kind = run.Call
		}
		return answerOnly(kind, x, s), &Pasted{What: "an HTTP answer"}, nil
	}
	b := FromExchanges([]*wire.Exchange{x}, s)
	return b, &Pasted{What: "an HTTP request"}, nil
}

// forced takes an exchange for a protected call when nothing shows what it is.
func forced(x *wire.Exchange, s Settings) *Bundle {
	p := pieceOf(1, x)
	p.kind = run.Call
	b := &builder{Bundle: &Bundle{settings: s, flowOf: map[int]*Flow{}}, issued: map[string]string{}, redirect: map[string]bool{}, tokens: map[string]*Flow{}, refresh: map[string]*Flow{}}
	b.take(p)
	b.finish()
	return b.Bundle
}

// messages splits pasted text into request and answer.
func messages(text string) (request, answer string) {
	text = strings.ReplaceAll(text, "\r\n", "\n")
	if marked().MatchString(text) {
		var out [2]strings.Builder
		body := 0
		for _, line := range strings.Split(text, "\n") {
			switch {
			case strings.HasPrefix(line, ">"):
				body = 0
				out[0].WriteString(strings.TrimPrefix(strings.TrimPrefix(line, ">"), " ") + "\n")
			case strings.HasPrefix(line, "<") && !strings.HasPrefix(line, "<!") && (len(line) < 2 || line[1] == ' '):
				body = 1
				out[1].WriteString(strings.TrimPrefix(strings.TrimPrefix(line, "<"), " ") + "\n")
			case strings.HasPrefix(line, "* "), strings.HasPrefix(line, "{ ["), strings.HasPrefix(line, "} ["):
			default:
				out[body].WriteString(line + "\n")
			}
		}
		return out[0].String(), out[1].String()
	}
	if i := statusLineAnywhere().FindStringIndex(text); i != nil {
		return strings.TrimSpace(text[:i[0]]), text[i[0]:]
	}
	return text, ""
}

var (
	marked             = lazy(`(?m)^[<>] (HTTP/|GET|POST|PUT|DELETE|PATCH)`)
	statusLineAnywhere = lazy(`(?m)^HTTP/[\d.]+ \d{3}`)
)

func readRequest(text string, x *wire.Exchange) error {
	head, body, _ := strings.Cut(text, "\n\n")
	lines := strings.Split(head, "\n")
	parts := strings.Fields(lines[0])
	if len(parts) < 2 {
		return errors.New("the request's first line is not METHOD ADDRESS")
	}
	x.Request.Method = strings.ToUpper(parts[0])
	x.Request.Header = headerOf(lines[1:])
	x.Request.Body = []byte(strings.TrimRight(body, "\r\n"))
	x.Request.URL = parts[1]
	if !strings.Contains(parts[1], "://") {
		host := x.Request.Header.Get("Host")
		if host == "" {
			host = "host.invalid"
		}
		x.Request.URL = "https://" + host + parts[1]
		if h, _, _ := strings.Cut(host, ":"); wire.Loopback(h) {
			x.Request.URL = "http://" + host + parts[1]
		}
	}
	return nil
}

func headerOf(lines []string) http.Header {
	h := http.Header{}
	for _, line := range lines {
		name, value, found := strings.Cut(line, ":")
		if found && name != "" {
			h.Add(strings.TrimSpace(name), strings.TrimSpace(value))
		}
	}
	return h
}

func readAnswer(text string, x *wire.Exchange) error {
	r := bufio.NewReader(strings.NewReader(text))
	line, _ := r.ReadString('\n')
	parts := strings.Fields(line)
	if len(parts) < 2 {
		return errors.New("the answer's first line is not HTTP/1.1 STATUS")
	}
	status, err := strconv.Atoi(parts[1])
	if err != nil || status < 100 || status > 999 {
		return errors.New("the answer's first line has no status")
	}
	rest, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	head, body, _ := bytes.Cut(rest, []byte("\n\n"))
	x.Response = &wire.Response{Status: status, Proto: parts[0], Header: headerOf(strings.Split(string(head), "\n")), Body: bytes.TrimSpace(body), Length: -1}
	return nil
}
