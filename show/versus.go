package show

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"tidycourier/core/flow"
	"tidycourier/core/mask"
	"tidycourier/core/token"
)

// Actor is what one client's call gave.
type Actor struct {
	Client  string
	Run     int64
	About   string // whom the token stands for, as far as it tells
	Scope   string
	Status  int
	Headers map[string]string
	Body    string
}

// telling are the headers of an answer that differ for a reason.
var telling = []string{"Content-Type", "WWW-Authenticate", "Link", "Allow", "Vary", "Retry-After", "Content-Encoding", "Location"}

// NewActor takes what is compared out of a call's result, masked.
func NewActor(client string, run int64, used *flow.Used, res *flow.CallResult, set *mask.Set) Actor {
	r := res.Leg.Exchange.Response
	a := Actor{Client: client, Run: run, Status: r.Status, Headers: map[string]string{}, Body: set.Replace(mask.Data(r.MediaType(), string(r.Body)))}
	for _, name := range telling {
		if v := r.Header.Values(name); len(v) > 0 {
			a.Headers[name] = set.Replace(mask.Header(name, strings.Join(v, ", "), ""))
		}
	}
	if used != nil {
		if t, err := token.Decode(used.Token); err == nil && t.Claims != nil {
			reading := t.Read()
			a.About, a.Scope = reading.About.Text, reading.May.Text
		}
	}
	return a
}

// maxVersus is how many differences of two bodies are listed.
const maxVersus = 40

// Versus puts two answers side by side: who asked, the status, the headers that
// matter, and the bodies member by member.
func Versus(a, b Actor) token.Comparison {
	var rows []token.Row
	add := func(group, name, x, y string) {
		if x == "" && y == "" {
			return
		}
		r := token.Row{Group: group, Name: name, Before: x, After: y, Change: token.Changed}
		switch {
		case x == y:
			r.Change = token.Same
		case x == "":
			r.Change = token.Added
		case y == "":
			r.Change = token.Removed
		}
		rows = append(rows, r)
	}
	add("who asks", "the token is about", a.About, b.About)
	add("who asks", "it may", a.Scope, b.Scope)
	add("answer", "status", fmt.Sprint(a.Status), fmt.Sprint(b.Status))
	for _, name := range telling {
		add("answer", name, a.Headers[name], b.Headers[name])
	}
	bodies(a.Body, b.Body, add)
	c := token.Comparison{Equal: true, Rows: rows}
	for _, r := range rows {
		if r.Group != "who asks" {
			c.Equal = c.Equal && r.Change == token.Same
		}
	}
	return c
}

func bodies(a, b string, add func(group, name, x, y string)) {
	x, ok1 := flatten(a)
	y, ok2 := flatten(b)
	if !ok1 || !ok2 {
		add("body", "text", a, b)
		return
	}
	names := sortedNames(x)
	for n := range y {
		if _, there := x[n]; !there {
			names = append(names, n)
		}
	}
	slices.Sort(names)
	left := 0
	for _, n := range names {
		if x[n] == y[n] {
			continue
		}
		if left++; left <= maxVersus {
			add("body", n, x[n], y[n])
		}
	}
	switch {
	case left > maxVersus:
		add("body", "and more", fmt.Sprintf("%d members differ in all", left), " ")
	case left == 0:
		add("body", "all of it", fmt.Sprintf("%d members", len(x)), fmt.Sprintf("%d members", len(y)))
	}
}

// flatten lists a JSON document's values by their path.
func flatten(body string) (map[string]string, bool) {
	var doc any
	dec := json.NewDecoder(strings.NewReader(body))
	dec.UseNumber()
	if dec.Decode(&doc) != nil {
		return nil, false
	}
	out := map[string]string{}
	var walk func(path string, v any)
	walk = func(path string, v any) {
		switch v := v.(type) {
		case map[string]any:
			for n, e := range v {
				walk(path+"."+n, e)
			}
			if len(v) == 0 {
				out[path] = "{}"
			}
		case []any:
			for i, e := range v {
				walk(fmt.Sprintf("%s[%03d]", path, i), e)
			}
			if len(v) == 0 {
				out[path] = "[]"
			}
		default:
			out[path] = flow.Text(v)
		}
	}
	walk("$", doc)
	return out, true
}
