package flow

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"github.com/ohler55/ojg/jp"
	"github.com/ohler55/ojg/oj"

	"tidycourier/core/bearer"
	"tidycourier/core/project"
	"tidycourier/core/run"
)

// Mismatch is an expectation that did not hold.
type Mismatch struct {
	What     string `json:"what"`
	Expected string `json:"expected"`
	Actual   string `json:"actual"`
	Where    string `json:"where"`
}

func checkExpectations(x *project.Expect, l *run.Leg) []Mismatch {
	var out []Mismatch
	r := l.Exchange.Response
	if len(x.Status.Values) > 0 && !statusMatches(r.Status, x.Status.Values) {
		out = append(out, Mismatch{"the status", strings.Join(x.Status.Values, " or "), fmt.Sprint(r.Status), x.Status.Where})
	}
	if want := x.MediaType.Value; want != "" && !strings.EqualFold(want, r.MediaType()) {
		out = append(out, Mismatch{"the media type", want, named(r.MediaType()), x.MediaType.Where})
	}
	if want := x.Challenge.Value; want != "" && !challenged(r.Header, want) {
		out = append(out, Mismatch{"the challenge", want, named(r.Header.Get("WWW-Authenticate")), x.Challenge.Where})
	}
	for _, e := range x.JSON {
		if actual, ok := jsonMatches(r.Body, e.Name, e.Value); !ok {
			out = append(out, Mismatch{e.Name, e.Value, actual, e.Where})
		}
	}
	return out
}

func named(s string) string {
	if s == "" {
		return "absent"
	}
	return s
}

func statusMatches(status int, want []string) bool {
	text := fmt.Sprint(status)
	for _, w := range want {
		if w == text || strings.HasSuffix(w, "xx") && w[0] == text[0] {
			return true
		}
	}
	return false
}

func challenged(h http.Header, scheme string) bool {
	list, _ := bearer.ParseChallenges(h.Values("WWW-Authenticate"))
	for _, c := range list {
		if strings.EqualFold(c.Scheme, scheme) {
			return true
		}
	}
	return false
}

func jsonMatches(body []byte, path, want string) (actual string, ok bool) {
	found, err := Pick(body, path)
	if err != nil {
		return "unreadable: " + err.Error(), false
	}
	switch {
	case want == "present":
		return "absent", len(found) > 0
	case len(found) == 0:
		return "absent", want == "absent"
	case want == "absent":
		return Text(found[0]), false
	}
	return Text(found[0]), Text(found[0]) == want
}

// Pick takes values out of a JSON body by a JSONPath (RFC 9535).
func Pick(body []byte, path string) ([]any, error) {
	x, err := jp.ParseString(path)
	if err != nil {
		return nil, fmt.Errorf("%q is not a JSONPath: %w", path, err)
	}
	var doc any
	if err := oj.Unmarshal(body, &doc); err != nil {
		return nil, fmt.Errorf("the body is not JSON")
	}
	return x.Get(doc), nil
}

// Text is a picked value as text: a string as it is, anything else as JSON.
func Text(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(raw)
}

func pickText(body []byte, path string) (string, error) {
	found, err := Pick(body, path)
	if err != nil {
		return "", err
	}
	if len(found) == 0 {
		return "", fmt.Errorf("%s matches nothing in the answer", path)
	}
	return Text(found[0]), nil
}
