package project

import (
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"tidycourier/core/fault"
)

// Expect is what a call's answer must be; empty fields expect nothing.
type Expect struct {
	Status    List
	MediaType Setting
	Headers   []Test
	Challenge Challenge
	JSON      []Test
	Schema    Setting       // path of a JSON Schema, absolute
	Within    time.Duration // 0 when not set
	WithinAt  string
	Where     string
}

// Test is one thing that must hold for a header or for what a JSONPath finds.
type Test struct {
	Name  string // the header, or the JSONPath
	Op    string // equals, present, type, matches, count, greater, less
	Value string // of present: true or false
	Where string
}

// Challenge is what WWW-Authenticate must hold; empty fields expect nothing.
type Challenge struct {
	Scheme, Error Setting
	Scope         List
}

// Keep is a value to take out of an answer.
type Keep struct {
	Name         string
	From         string // JSONPath
	Value, Label string // members, when From finds records
	Pick         string // ask, first, only, newest; "" takes the first
	Newest       string // the member that decides
	Where        string
}

// Retry is when a call is tried again.
type Retry struct {
	Times int
	On    []string // statuses and classes
	Wait  time.Duration
}

// Call is a resolved entry of calls.
type Call struct {
	Name      string
	Where     string
	API       *API
	Client    Setting
	Method    string
	Path      string
	Request   Setting
	Headers   []Named
	Query     []Named
	Body      Setting // the text to send
	BodyJSON  bool    // it was written as YAML and became JSON
	Form      []Named // a form body in place of Body
	Upload    []Named // a multipart body in place of Body; a value that begins with @ names a file
	SendToken bool
	Needs     Needs
	Expect    Expect
	Keep      []Keep
	Token     Setting // expired or garbled: a token that must be refused; "" for a good one
	As        Setting // the client whose token is sent instead
	Tags      []string
	Retry     Retry

	dir string // that paths start from
}

// File is a path of the call, which starts from the courier file's folder.
func (c *Call) File(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(c.dir, path)
}

// Call resolves an entry of calls and its API.
func (p *Project) Call(name string) (*Call, error) {
	n, err := p.section("calls", "call", name, p.Display())
	if err != nil {
		return nil, err
	}
	r := &resolver{p: p}
	c := &Call{dir: p.Dir(), Name: name, Where: n.where, Client: r.text(n, "client"), Request: r.text(n, "request"), Headers: r.named(n.get("headers")),
		Query: r.named(n.get("query")), SendToken: true, Needs: r.needs(n), Keep: r.keeps(n.get("keep")),
		Token: r.text(n, "token"), As: r.text(n.get("as"), "client"), Tags: r.list(n, "tags").Values, Retry: r.retry(n.get("retry"))}
	if v := n.get("send_token"); v != nil {
		c.SendToken = v.text == "true"
	}
	r.body(n, c)
	c.Form, c.Upload = r.named(n.get("form")), r.named(n.get("upload"))
	if r.err == nil && (c.Body.Where != "" && len(c.Form)+len(c.Upload) > 0 || len(c.Form) > 0 && len(c.Upload) > 0) {
		return nil, fault.New(fault.Settings, "the call %q has more than one body", name).At(n.where).Hint("keep one of body, form and upload")
	}
	r.expect(n, c)
	api := r.text(n, "api")
	if r.err != nil {
		return nil, r.err
	}
	if c.Method, c.Path, err = splitRequest(c.Request, n.where); err != nil {
		return nil, err
	}
	if api.Value == "" {
		if names := p.Names("apis"); len(names) == 1 && !strings.Contains(c.Path, "://") {
			api.Value = names[0]
		} else {
			c.API = &API{}
			return c, nil
		}
	}
	c.API, err = p.API(api.Value)
	return c, err
}

func (r *resolver) expect(n *node, c *Call) {
	v := n.get("expect")
	if v == nil {
		return
	}
	c.Expect = Expect{Status: r.list(v, "status"), MediaType: r.text(v, "media_type"), Headers: r.tests(v.get("headers")), Challenge: r.challenge(v.get("challenge")),
		JSON: r.tests(v.get("json")), Schema: r.text(v, "schema"), Where: v.where}
	if s := c.Expect.Schema.Value; s != "" && !filepath.IsAbs(s) {
		c.Expect.Schema.Value = filepath.Join(r.p.Dir(), s)
	}
	if w := v.get("within"); w != nil {
		c.Expect.Within, c.Expect.WithinAt = r.length(v, "within"), w.where
	}
}

// length reads a length of time; the layout's check has seen that it is one,
// unless it came out of a placeholder.
func (r *resolver) length(n *node, field string) time.Duration {
	s := r.text(n, field)
	if s.Value == "" {
		return 0
	}
	d, err := time.ParseDuration(s.Value)
	if (err != nil || d < 0) && r.err == nil {
		r.err = fault.New(fault.Settings, "%q must be a length of time, not %q", field, s.Value).At(s.Where).Hint("as in 800ms, 2s or 1m30s")
	}
	return d
}

// tests reads names with a text, which is present, absent or a value, or with a
// mapping of tests.
func (r *resolver) tests(n *node) []Test {
	var out []Test
	for _, e := range n.entries() {
		if e.value.kind != nodeMap {
			s := r.value(e.value, e.name)
			t := Test{Name: e.name, Op: "equals", Value: s.Value, Where: s.Where}
			if e.value.plain && (s.Value == "present" || s.Value == "absent") {
				t.Op, t.Value = "present", map[string]string{"present": "true", "absent": "false"}[s.Value]
			}
			out = append(out, t)
			continue
		}
		for _, x := range e.value.keys {
			s := r.value(x.value, x.name)
			out = append(out, Test{Name: e.name, Op: x.name, Value: s.Value, Where: x.where})
		}
	}
	return out
}

func (r *resolver) challenge(n *node) Challenge {
	switch {
	case n == nil:
		return Challenge{}
	case n.kind == nodeMap:
		return Challenge{Scheme: r.text(n, "scheme"), Error: r.text(n, "error"), Scope: r.list(n, "scope")}
	}
	return Challenge{Scheme: r.value(n, "challenge")}
}

func (r *resolver) keeps(n *node) []Keep {
	var out []Keep
	for _, e := range n.entries() {
		k := Keep{Name: e.name, Where: e.where}
		if v := e.value; v.kind != nodeMap {
			k.From = r.value(v, e.name).Value
		} else {
			k.From, k.Value, k.Label = r.text(v, "from").Value, r.text(v, "value").Value, r.text(v, "label").Value
			if pick := v.get("pick"); pick != nil && pick.kind == nodeMap {
				k.Pick, k.Newest = r.text(pick, "how").Value, r.text(pick, "newest").Value
				if k.Newest != "" {
					k.Pick = "newest"
				}
			} else if pick != nil {
				k.Pick = r.value(pick, "pick").Value
			}
		}
		if k.From == "" && r.err == nil {
			r.err = fault.New(fault.Settings, "%q does not say where its value is", e.name).At(e.where).Hint(`add from: with a JSONPath, as "$.harbours[*]"`)
		}
		out = append(out, k)
	}
	return out
}

// defaultRetry are the statuses that ask for another try (RFC 6585 4, RFC 9110
// 15.6.4).
var defaultRetry = []string{"429", "503"}

func (r *resolver) retry(n *node) Retry {
	if n == nil {
		return Retry{}
	}
	times, err := strconv.Atoi(r.text(n, "times").Value)
	if err != nil || times < 0 {
		times = 1
	}
	out := Retry{Times: times, On: r.list(n, "on").Values, Wait: time.Second}
	if len(out.On) == 0 {
		out.On = defaultRetry
	}
	if n.get("wait") != nil {
		out.Wait = r.length(n, "wait")
	}
	return out
}

func (r *resolver) body(n *node, c *Call) {
	v := n.get("body")
	switch {
	case v == nil || r.err != nil:
	case v.kind == nodeScalar:
		c.Body = r.value(v, "body")
	default:
		c.Body, c.BodyJSON = Setting{Value: r.json(v), Where: v.where}, true
	}
}

// Round is a resolved entry of rounds.
type Round struct {
	Name, Where           string
	Setup, Calls, Cleanup []string
	Jobs                  int // 0 when not set
}

// Round reads an entry of rounds.
func (p *Project) Round(name string) (*Round, error) {
	n, err := p.section("rounds", "round", name, p.Display())
	if err != nil {
		return nil, err
	}
	names := func(v *node) []string {
		var out []string
		if v != nil {
			for _, item := range v.items {
				out = append(out, item.text)
			}
		}
		return out
	}
	r := &Round{Name: name, Where: n.where, Calls: names(n)}
	if n.kind == nodeMap {
		r.Setup, r.Calls, r.Cleanup = names(n.get("setup")), names(n.get("calls")), names(n.get("cleanup"))
		if v := n.get("jobs"); v != nil {
			r.Jobs, _ = strconv.Atoi(v.text) // the layout's check has seen that it is a number
		}
	}
	if len(r.Setup)+len(r.Calls)+len(r.Cleanup) == 0 {
		return nil, fault.New(fault.Settings, "the round %q has no call", name).At(n.where).Hint("list the names of calls, as in: %s: [stations]", name)
	}
	return r, nil
}

// CallFacts is what is known of a call before its placeholders have values.
type CallFacts struct {
	Name  string
	Uses  []string // names in ${…} that its text, its API's and its stage's hold
	Keeps []string
	Tags  []string
	Asks  bool // a person may have to choose
}

// Facts reads what a call uses and keeps, without resolving it.
func (p *Project) Facts(name string) CallFacts {
	n := p.root.get("calls").get(name)
	f := CallFacts{Name: name}
	collect(n, &f.Uses)
	api := n.get("api")
	if api != nil {
		collect(p.root.get("apis").get(api.text), &f.Uses)
	} else if names := p.Names("apis"); len(names) == 1 {
		collect(p.root.get("apis").get(names[0]), &f.Uses)
	}
	for i := 0; i < len(f.Uses) && i < 64; i++ { // values name others in turn; a circle ends
		for _, place := range p.valuePlaces() {
			collect(place.node.get(f.Uses[i]), &f.Uses)
		}
	}
	for _, e := range n.get("keep").entries() {
		f.Keeps = append(f.Keeps, e.name)
		if pick := e.value.get("pick"); pick != nil && pick.text == "ask" {
			f.Asks = true
		}
	}
	if tags := n.get("tags"); tags != nil {
		for _, item := range append(tags.items, tags) {
			if item.kind == nodeScalar {
				f.Tags = append(f.Tags, item.text)
			}
		}
	}
	return f
}

// collect gathers the names in ${…} of every text under a node.
func collect(n *node, into *[]string) {
	if n == nil {
		return
	}
	rest := n.text
	for {
		_, after, found := strings.Cut(rest, "${")
		if !found {
			break
		}
		name, tail, closed := strings.Cut(after, "}")
		if !closed {
			break
		}
		*into = append(*into, strings.TrimSpace(name))
		rest = tail
	}
	for _, e := range n.keys {
		collect(e.value, into)
	}
	for _, item := range n.items {
		collect(item, into)
	}
}

// WithKept is the project with more kept values; the project itself stays as it
// is, so that calls can run beside each other.
func (p *Project) WithKept(more map[string]string) *Project {
	if len(more) == 0 {
		return p
	}
	out := *p
	out.opt.Kept = make(map[string]string, len(p.opt.Kept)+len(more))
	for k, v := range p.opt.Kept {
		out.opt.Kept[k] = v
	}
	for k, v := range more {
		out.opt.Kept[k] = v
	}
	return &out
}

// Given is a value of --set, which answers a choice before it is asked.
func (p *Project) Given(name string) (string, bool) {
	v, ok := p.opt.Set[name]
	return v, ok
}

// Journal is how long runs are kept: days, and MiB of them; 0 when the file does
// not say.
func (p *Project) Journal() (days, mib float64, err error) {
	n := p.root.get("journal")
	for _, f := range []struct {
		name string
		into *float64
	}{{"keep_days", &days}, {"keep_mib", &mib}} {
		v := n.get(f.name)
		if v == nil {
			continue
		}
		x, bad := strconv.ParseFloat(v.text, 64)
		if bad != nil || x <= 0 || x > 1e6 {
			return 0, 0, fault.New(fault.Settings, "%s must be a number above 0, not %s", f.name, v.text).At(v.where)
		}
		*f.into = x
	}
	return days, mib, nil
}

// Static reports whether a saved call is the same each time it is resolved:
// neither it nor its API has a placeholder, or a file to upload.
func (p *Project) Static(name string) bool {
	n := p.root.get("calls").get(name)
	if n == nil || n.get("upload") != nil || moving(n) {
		return false
	}
	if api := n.get("api"); api != nil {
		return !moving(p.root.get("apis").get(api.text))
	}
	return !moving(p.root.get("apis"))
}

// moving reports whether a node has a placeholder somewhere.
func moving(n *node) bool {
	if n == nil {
		return false
	}
	return strings.Contains(n.text, "${") || slices.ContainsFunc(n.keys, func(e entry) bool { return moving(e.value) }) || slices.ContainsFunc(n.items, moving)
}
