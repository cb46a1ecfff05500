package finding

import (
	"bytes"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"tidycourier/core/oauth"
	"tidycourier/core/run"
)

// answerRules are causes that show in the form of the answer, whatever leg it
// belongs to.
var answerRules = []Rule{
	{
		ID: "endpoint-not-found", Title: "Nothing is at this address",
		Try:        Test{"tidy-courier discover ISSUER", "shows the addresses that the server names"},
		Meaning:    "The server answers, and says that this path does not exist there. For an API it can also mean that the record does not exist.",
		Proof:      "Status 404 or 410, without an OAuth error in the body.",
		Remedy:     []string{"compare the path with the provider's documentation, letter by letter: version, tenant, trailing slash", "let discovery find the endpoints: tidy-courier discover ISSUER"},
		References: []string{"RFC 9110 15.5.5"},
		Judge:      notFound,
	},
	{
		ID: "html-instead-of-json", Title: "A web page came where JSON was due",
		Meaning:    "The URL leads to something meant for browsers: a sign-in page, an error page of a proxy, a documentation site, or the authorization endpoint in place of the token endpoint.",
		Proof:      "The answer is HTML by its type or its first bytes.",
		Remedy:     []string{"compare the URL with the provider's documentation", "look at the page's title below for what it is"},
		References: []string{"RFC 6749 5.1"},
		Judge:      htmlAnswer,
	},
	{
		ID: "token-endpoint-redirects", Title: "The token endpoint sends a redirect",
		Meaning:    "A token endpoint answers itself; a redirect means the URL is not the endpoint's (http for https, a missing trailing slash, a login page). It is not followed, since that would carry the credentials elsewhere.",
		Proof:      "Status 3xx from the token endpoint.",
		Remedy:     []string{"use the address it points to, when that is the provider's own"},
		References: []string{"RFC 6749 3.2", "RFC 9700 4.12"},
		Judge:      redirected,
	},
	{
		ID: "rate-limited", Title: "Too many requests",
		Meaning: "The server asks for a pause.", Proof: "Status 429.",
		Remedy:     []string{"wait as long as Retry-After says, and then reuse the token instead of asking for a new one each time"},
		References: []string{"RFC 6585 4"},
		Judge:      byStatus(run.Certain, 429),
	},
	{
		ID: "server-error-temporary", Title: "The server failed",
		Meaning: "The fault lies on the server's side; nothing in the request is known to be wrong.", Proof: "Status 500 to 599, or server_error or temporarily_unavailable in a redirect.",
		Remedy:     []string{"try again later", "hand the provider this run: tidy-courier journal show"},
		References: []string{"RFC 9110 15.6"},
		Judge: either(byStatus(run.Certain, 500, 501, 502, 503, 504, 520, 521, 522, 523, 524),
			refusedBy(run.Certain, oauth.ErrServerError, oauth.ErrTemporarilyUnavailable)),
	},
}

// either is the first judge that finds its cause: one cause, seen in two legs.
func either(judges ...func(*Evidence) *Match) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		for _, judge := range judges {
			if m := judge(e); m != nil {
				return m
			}
		}
		return nil
	}
}

func answered(e *Evidence) []*run.Leg {
	var out []*run.Leg
	for i := range e.Legs {
		if x := e.Legs[i].Exchange; x != nil && x.Response != nil {
			out = append(out, &e.Legs[i])
		}
	}
	return out
}

func notFound(e *Evidence) *Match {
	legs := answered(e)
	if len(legs) == 0 {
		return nil
	}
	leg := legs[len(legs)-1]
	if s := leg.Status(); s != 404 && s != 410 {
		return nil
	}
	if raw := rawReply(leg.Exchange.Response); leg.Kind == run.Token && raw != nil && raw.Code != oauth.ErrInvalidRequest && slices.Contains(codes, raw.Code) {
		return nil // the endpoint is there, and speaks OAuth
	}
	m := &Match{Leg: leg.N, Certainty: run.Certain}
	m.Items = append(m.Items, run.Item{What: "URL", Where: e.endpointPlace(leg), Value: leg.URL})
	if leg.Kind == run.Discovery {
		m.Items = nil
		for _, l := range legs {
			if l.Kind == run.Discovery && l.Status() != 200 {
				m.Items = append(m.Items, run.Item{What: fmt.Sprintf("asked, %d", l.Status()), Where: e.endpointPlace(l), Value: l.URL})
			}
		}
		m.Remedy = []string{"check the issuer; it is the text before /.well-known/…, with its path when it has one",
			"when the server publishes no metadata, name token_endpoint and the others yourself"}
	}
	if leg.Kind == run.Call {
		m.Certainty = run.Likely
		if body := leg.Exchange.Response.Body; len(body) > 0 && !looksHTML(leg) {
			m.Items = append(m.Items, run.Item{What: "the API said", Where: fmt.Sprintf("leg %d", leg.N), Value: firstLine(body)})
		}
		m.Remedy = []string{"check the path and base_url; the API may know the path and not the record", "check the API's version in the path"}
	}
	return m
}

func looksHTML(leg *run.Leg) bool {
	r := leg.Exchange.Response
	head := strings.ToLower(string(bytes.TrimSpace(r.Body[:min(len(r.Body), 256)])))
	return r.MediaType() == "text/html" || r.MediaType() == "application/xhtml+xml" || strings.HasPrefix(head, "<!doctype html") || strings.HasPrefix(head, "<html")
}

func htmlAnswer(e *Evidence) *Match {
	if strangerAnswers(e) != nil {
		return nil
	}
	for _, leg := range answered(e) {
		s := leg.Status()
		if leg.Kind == run.Authorization || leg.Kind == run.Landing || leg.Kind != run.Discovery && s >= 400 && !signInPage(leg) {
			continue // pages belong there, or the status says more than the page
		}
		// a page that comes with 404, 429 or 5xx is explained by its status
		if !looksHTML(leg) || s == 404 || s == 410 || s == 429 || s >= 500 || s >= 300 && s < 400 {
			continue
		}
		accept := leg.Exchange.Request.Header.Get("Accept")
		if leg.Kind == run.Discovery && e.Metadata != nil || leg.Kind == run.Call && !e.JSONWanted && !strings.Contains(accept, "json") {
			continue
		}
		m := &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "URL", Where: e.endpointPlace(leg), Value: leg.URL},
			{What: "what came", Where: fmt.Sprintf("leg %d", leg.N), Value: fmt.Sprintf("%d %s", s, leg.Exchange.Response.Header.Get("Content-Type"))}}}
		if t := title(leg.Exchange.Response.Body); t != "" {
			m.Items = append(m.Items, run.Item{What: "the page's title", Where: fmt.Sprintf("leg %d", leg.N), Value: t})
		}
		if e.Metadata != nil && e.Metadata.TokenEndpoint != "" && leg.Kind == run.Token && e.Metadata.TokenEndpoint != leg.URL {
			m.Items = append(m.Items, run.Item{What: "token_endpoint in the metadata", Where: "metadata", Value: e.Metadata.TokenEndpoint})
		}
		return m
	}
	return nil
}

// signInPage reports whether an HTML page asks somebody to sign in.
func signInPage(leg *run.Leg) bool {
	body := strings.ToLower(string(leg.Exchange.Response.Body[:min(len(leg.Exchange.Response.Body), 64<<10)]))
	return strings.Contains(body, `type="password"`) || said(title(leg.Exchange.Response.Body), "sign in", "log in", "login", "signin")
}

func redirected(e *Evidence) *Match {
	leg := e.last(run.Token)
	if leg == nil || leg.Status() < 300 || leg.Status() > 399 {
		return nil
	}
	target := leg.Exchange.Response.Header.Get("Location")
	m := &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "asked", Where: e.endpointPlace(leg), Value: leg.URL, Compare: true},
		{What: "sent to", Where: "Location", Value: target, Compare: true}}}
	from, _ := url.Parse(leg.URL)
	if to, err := url.Parse(target); err == nil && from != nil {
		if to = from.ResolveReference(to); said(to.Path, "login", "signin", "sign-in") {
			m.Remedy = []string{"this is a sign-in page: the URL is not the token endpoint"}
		}
	}
	return m
}

// clientFaults are codes that put the fault on the client's side.
var clientFaults = []string{oauth.ErrInvalidRequest, oauth.ErrInvalidClient, oauth.ErrInvalidGrant, oauth.ErrUnauthorizedClient, oauth.ErrUnsupportedGrantType, oauth.ErrInvalidScope}

func byStatus(c run.Certainty, statuses ...int) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		for _, leg := range answered(e) {
			for _, s := range statuses {
				if leg.Status() != s {
					continue
				}
				if raw := rawReply(leg.Exchange.Response); s >= 500 && raw != nil && slices.Contains(clientFaults, raw.Code) {
					continue // the status is wrong, the code says whose fault it is
				}
				items := []run.Item{{What: "status", Where: fmt.Sprintf("leg %d", leg.N), Value: fmt.Sprint(s)}}
				if after := leg.Exchange.Response.Header.Get("Retry-After"); after != "" {
					items = append(items, run.Item{What: "Retry-After", Where: fmt.Sprintf("leg %d", leg.N), Value: after})
				}
				return &Match{Leg: leg.N, Certainty: c, Items: items}
			}
		}
		return nil
	}
}

// title is the text of a page's <title>, cut to a line.
func title(body []byte) string {
	lower := bytes.ToLower(body[:min(len(body), 16<<10)])
	i := bytes.Index(lower, []byte("<title"))
	if i < 0 {
		return ""
	}
	open := bytes.IndexByte(lower[i:], '>')
	end := bytes.Index(lower[i:], []byte("</title"))
	if open < 0 || end < open {
		return ""
	}
	return firstLine(body[i+open+1 : i+end])
}

// firstLine is the first line of a text that has anything on it, at most 200 bytes.
func firstLine(body []byte) string {
	for _, line := range strings.Split(string(body[:min(len(body), 4<<10)]), "\n") {
		if line = strings.TrimSpace(line); line != "" {
			return strings.ToValidUTF8(line[:min(len(line), 200)], "")
		}
	}
	return ""
}

func unescape(s string) string {
	if v, err := url.QueryUnescape(s); err == nil {
		return v
	}
	return s
}
