package flow

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

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

// checkExpectations holds an answer against what the call expects of it. took is
// how long the whole answer took, redirects included.
func checkExpectations(x *project.Expect, l *run.Leg, took time.Duration) []Mismatch {
	var out []Mismatch
	r := l.Exchange.Response
	if len(x.Status.Values) > 0 && !statusMatches(r.Status, x.Status.Values) {
		out = append(out, Mismatch{"the status", strings.Join(x.Status.Values, " or "), fmt.Sprint(r.Status), x.Status.Where})
	}
	if want := x.MediaType.Value; want != "" && !strings.EqualFold(want, r.MediaType()) {
		out = append(out, Mismatch{"the media type", want, named(r.MediaType()), x.MediaType.Where})
	}
	for _, t := range x.Headers {
		var found []any
		for _, v := range r.Header.Values(t.Name) {
			found = append(found, v)
		}
		out = append(out, judgeTest(t, found)...)
	}
	out = append(out, judgeChallenge(x.Challenge, r.Header)...)
	out = append(out, judgeJSON(x, r.Body)...)
	if x.Within > 0 && took > x.Within {
		out = append(out, Mismatch{"the time", "within " + x.Within.String(), took.Round(time.Millisecond).String(), x.WithinAt})
	}
	return out
}

func judgeJSON(x *project.Expect, body []byte) []Mismatch {
	var out []Mismatch
	d := &document{body: body}
	for _, t := range x.JSON {
		found, err := d.pick(t.Name)
		if err != nil {
			if t.Op == "present" && t.Value == "false" && strings.Contains(err.Error(), "not JSON") {
				continue // nothing is there
			}
			out = append(out, Mismatch{t.Name, wanted(t), "unreadable: " + err.Error(), t.Where})
			continue
		}
		out = append(out, judgeTest(t, found)...)
	}
	if x.Schema.Value != "" {
		out = append(out, judgeSchema(x.Schema, body)...)
	}
	return out
}

// wanted is a test as one says it.
func wanted(t project.Test) string {
	switch t.Op {
	case "equals":
		return t.Value
	case "present":
		if t.Value == "true" {
			return "present"
		}
		return "absent"
	case "type":
		return article(t.Value)
	case "count":
		return t.Value + " of them"
	case "greater", "less":
		return t.Op + " than " + t.Value
	}
	return t.Op + " " + t.Value
}

// article puts a type's name as one says it.
func article(name string) string {
	if strings.ContainsAny(name[:1], "aio") {
		return "an " + name
	}
	return "a " + name
}

// judgeTest holds what was found against one test.
func judgeTest(t project.Test, found []any) []Mismatch {
	no := func(actual string) []Mismatch { return []Mismatch{{t.Name, wanted(t), actual, t.Where}} }
	if t.Op == "present" {
		if (len(found) > 0) == (t.Value == "true") {
			return nil
		}
		if len(found) > 0 {
			return no(Text(found[0]))
		}
		return no("absent")
	}
	if t.Op == "count" {
		n := len(found)
		if list, ok := first(found).([]any); ok && n == 1 {
			n = len(list)
		}
		if fmt.Sprint(n) != strings.TrimSpace(t.Value) {
			return no(fmt.Sprint(n))
		}
		return nil
	}
	if len(found) == 0 {
		return no("absent")
	}
	actual, ok := found[0], false
	switch t.Op {
	case "equals":
		ok = Text(actual) == t.Value
	case "type":
		ok = typeOf(actual) == t.Value || t.Value == "number" && typeOf(actual) == "integer"
	case "matches":
		pattern, err := regexp.Compile(t.Value)
		if err != nil {
			return no("not compared: " + err.Error())
		}
		ok = pattern.MatchString(Text(actual))
	case "greater", "less":
		c, comparable := order(Text(actual), t.Value)
		if !comparable {
			return no(Text(actual) + ", which cannot be compared with it")
		}
		ok = t.Op == "greater" && c > 0 || t.Op == "less" && c < 0
	}
	if ok {
		return nil
	}
	if t.Op == "type" {
		return no(article(typeOf(actual)) + ": " + Text(actual))
	}
	return no(Text(actual))
}

func first(list []any) any {
	if len(list) == 0 {
		return nil
	}
	return list[0]
}

// typeOf is a value's JSON type; a number without fraction is an integer.
func typeOf(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case string:
		return "string"
	case bool:
		return "boolean"
	case []any:
		return "array"
	case map[string]any:
		return "object"
	case int64, int, json.Number:
		return "integer"
	case float64:
		if v == math.Trunc(v) {
			return "integer"
		}
	}
	return "number"
}

// order compares two numbers, or two RFC 3339 times or dates.
func order(a, b string) (int, bool) {
	x, err1 := strconv.ParseFloat(a, 64)
	y, err2 := strconv.ParseFloat(b, 64)
	if err1 == nil && err2 == nil {
		return cmp.Compare(x, y), true
	}
	for _, layout := range []string{time.RFC3339Nano, time.DateOnly} {
		s, err1 := time.Parse(layout, a)
		t, err2 := time.Parse(layout, b)
		if err1 == nil && err2 == nil {
			return s.Compare(t), true
		}
	}
	return 0, false
}

// judgeChallenge holds the WWW-Authenticate header against what is expected
// (RFC 6750 3).
func judgeChallenge(x project.Challenge, h http.Header) []Mismatch {
	if x.Scheme.Value == "" && x.Error.Value == "" && len(x.Scope.Values) == 0 {
		return nil
	}
	sent := named(h.Get("WWW-Authenticate"))
	scheme := x.Scheme.Value
	if scheme == "" {
		scheme = "Bearer"
	}
	list, _ := bearer.ParseChallenges(h.Values("WWW-Authenticate"))
	i := slices.IndexFunc(list, func(c bearer.Challenge) bool { return strings.EqualFold(c.Scheme, scheme) })
	if i < 0 {
		return []Mismatch{{"the challenge", scheme, sent, x.Scheme.Where}}
	}
	var out []Mismatch
	if want := x.Error.Value; want != "" && list[i].Error() != want {
		out = append(out, Mismatch{"the challenge's error", want, named(list[i].Error()), x.Error.Where})
	}
	for _, s := range x.Scope.Values {
		if !slices.Contains(list[i].Scope(), s) {
			out = append(out, Mismatch{"the challenge's scope", strings.Join(x.Scope.Values, " "), named(strings.Join(list[i].Scope(), " ")), x.Scope.Where})
			break
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

// Pick takes values out of a JSON body by a JSONPath (RFC 9535).
func Pick(body []byte, path string) ([]any, error) {
	return (&document{body: body}).pick(path)
}

// paths are the JSONPath expressions met so far; a round asks the same ones call
// after call.
var paths sync.Map // string to jp.Expr

// parsers keep their buffers from one body to the next.
var parsers = sync.Pool{New: func() any { return &oj.Parser{} }}

func compiled(path string) (jp.Expr, error) {
	if x, met := paths.Load(path); met {
		return x.(jp.Expr), nil
	}
	x, err := jp.ParseString(path)
	if err != nil {
		return nil, fmt.Errorf("%q is not a JSONPath: %w", path, err)
	}
	paths.Store(path, x)
	return x, nil
}

// document is a body that is read once, at the first path.
type document struct {
	body []byte
	read bool
	v    any
	err  error
}

func (d *document) pick(path string) ([]any, error) {
	x, err := compiled(path)
	if err != nil {
		return nil, err
	}
	if !d.read {
		d.read = true
		p := parsers.Get().(*oj.Parser)
		d.v, d.err = p.Parse(d.body)
		parsers.Put(p)
	}
	if d.err != nil {
		return nil, errors.New("the body is not JSON")
	}
	return x.Get(d.v), nil
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
