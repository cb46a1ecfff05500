package flow

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync"

	"tidycourier/core/fault"
	"tidycourier/core/mask"
	"tidycourier/core/wire"
)

// Paging says how to get from one page of an answer to the next.
type Paging struct {
	Next   string // JSONPath to the next page's URL or cursor; "" reads the Link header (RFC 8288)
	Cursor string // the query parameter that takes what Next finds; "" when that is a URL
	Max    int    // pages at most
}

// Pages sends a call and every page after it. each is told of every page; it may
// stop by an error. The token never follows to another origin.
func (s *Session) Pages(ctx context.Context, p *CallPlan, r wire.Request, used *Used, how Paging, each func(n int, res *CallResult) error) (*CallResult, error) {
	seen := map[string]bool{r.URL: true}
	for n := 1; ; n++ {
		res, err := s.Call(ctx, p, r, used)
		if err != nil {
			return res, err
		}
		if err := each(n, res); err != nil {
			return res, err
		}
		next, err := nextPage(r.URL, res.Leg.Exchange.Response, how)
		if err != nil || next == "" {
			return res, err
		}
		switch {
		case seen[next]:
			return res, fault.New(fault.API, "page %d points back to a page that was there already: %s", n, mask.URL(next)).Hint("tell the provider; the pages before are whole")
		case n >= how.Max:
			return res, fault.New(fault.Expectation, "there are more than %d pages", how.Max).At("--max-pages").Hint("raise it with --max-pages, or ask for less")
		}
		seen[next] = true
		r.URL, r.Method, r.Body = next, http.MethodGet, nil
	}
}

// nextPage is the URL of the page after this one, or "".
func nextPage(current string, r *wire.Response, how Paging) (string, error) {
	found := ""
	if how.Next == "" {
		found = linkNext(r.Header.Values("Link"))
	} else {
		list, err := Pick(r.Body, how.Next)
		if err != nil {
			return "", fault.New(fault.Usage, "%s", err.Error()).At("--next")
		}
		if len(list) > 0 && list[0] != nil {
			found = Text(list[0])
		}
	}
	if found == "" {
		return "", nil
	}
	from, err := url.Parse(current)
	if err != nil {
		return "", err
	}
	if how.Cursor != "" {
		q := from.Query()
		q.Set(how.Cursor, found)
		from.RawQuery = q.Encode()
		return from.String(), nil
	}
	to, err := from.Parse(found)
	if err != nil {
		return "", fault.New(fault.API, "the next page is at %q, which is no URL", found).Hint("when that is a cursor, name its query parameter with --cursor")
	}
	if !wire.SameOrigin(from, to) {
		return "", fault.New(fault.API, "the next page is at another origin, %s://%s, and the token does not go there", to.Scheme, to.Host)
	}
	return to.String(), nil
}

// linkPattern is one link of a Link header (RFC 8288 3).
var linkPattern = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`<([^>]*)>((?:\s*;\s*[^,;"]+(?:"[^"]*")?)*)`) })

// linkNext is the target of the link with rel=next, or "".
func linkNext(headers []string) string {
	for _, h := range headers {
		for _, m := range linkPattern().FindAllStringSubmatch(h, 64) {
			for _, param := range strings.Split(m[2], ";") {
				name, value, _ := strings.Cut(strings.TrimSpace(param), "=")
				if !strings.EqualFold(strings.TrimSpace(name), "rel") {
					continue
				}
				for _, rel := range strings.Fields(strings.Trim(strings.TrimSpace(value), `"`)) {
					if strings.EqualFold(rel, "next") {
						return m[1]
					}
				}
			}
		}
	}
	return ""
}

// Records finds the array of objects in a JSON body: what path finds, the body
// itself, or the one array in it.
func Records(body []byte, path string) ([]map[string]any, error) {
	if path == "" {
		path = "$"
	}
	found, err := Pick(body, path)
	if err != nil {
		return nil, err
	}
	if len(found) == 1 {
		switch v := found[0].(type) {
		case []any:
			found = v
		case map[string]any:
			if list, ok := onlyArray(v); ok {
				found = list
			}
		}
	}
	out := make([]map[string]any, 0, len(found))
	for _, v := range found {
		m, ok := v.(map[string]any)
		if !ok {
			return nil, fmt.Errorf("%s finds %s, which is no record with members", path, Text(v))
		}
		out = append(out, m)
	}
	return out, nil
}

// onlyArray is the one array among an object's members.
func onlyArray(m map[string]any) ([]any, bool) {
	var found []any
	n := 0
	for _, v := range m {
		if list, ok := v.([]any); ok {
			found = list
			n++
		}
	}
	return found, n == 1
}
