package flow

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"tidycourier/core/bearer"
	"tidycourier/core/fault"
	"tidycourier/core/mask"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

// maxRedirects bounds a chain of redirects of an API.
const maxRedirects = 10

// CallPlan is a protected request before it is sent.
type CallPlan struct {
	Name      string // of the saved call, or METHOD URL
	Method    string
	URL       string
	Header    http.Header
	Body      []byte
	Placement bearer.Placement
	SendToken bool
	Client    string // whose token, "" when none is needed or Token is set
	Token     string // a token from elsewhere
	API       *project.API
	Saved     *project.Call
	WantsJSON bool // the caller can only use JSON
}

// CallResult is what a call gave.
type CallResult struct {
	Leg      *run.Leg // the last one: the answer
	Used     *Used    // nil when no token was sent
	Kept     map[string]string
	Failures []Mismatch // expectations that did not hold
	Expected bool       // the call has expectations, and they decide
}

// Plan makes a CallPlan of a saved call.
func Plan(c *project.Call) (*CallPlan, error) {
	p := &CallPlan{Name: c.Name, Method: c.Method, Header: http.Header{}, Placement: c.API.Placement, SendToken: c.SendToken,
		API: c.API, Saved: c, Client: c.API.Client.Value}
	if c.Client.Value != "" {
		p.Client = c.Client.Value
	}
	for _, list := range [][]project.Named{c.API.Headers, c.Headers} {
		for _, h := range list {
			p.Header.Set(h.Name, h.Value)
		}
	}
	if c.Body.Where != "" {
		p.Body = []byte(c.Body.Value)
		if c.BodyJSON && p.Header.Get("Content-Type") == "" {
			p.Header.Set("Content-Type", "application/json")
		}
	}
	query := make([]bearer.Pair, len(c.Query))
	for i, q := range c.Query {
		query[i] = bearer.Pair{Name: q.Name, Value: q.Value}
	}
	var err error
	if p.URL, err = bearer.Join(c.API.BaseURL.Value, c.Path, query); err != nil {
		return nil, fault.New(fault.Settings, "%s", err.Error()).At(c.Where)
	}
	p.WantsJSON = c.Expect.MediaType.Value == "application/json" || len(c.Expect.JSON) > 0 || len(c.Keep) > 0
	return p, nil
}

// Prepare gets the token and puts it into the request.
func (s *Session) Prepare(ctx context.Context, p *CallPlan) (wire.Request, *Used, error) {
	r := wire.Request{Method: p.Method, URL: p.URL, Header: p.Header.Clone(), Body: p.Body}
	if r.Header == nil {
		r.Header = http.Header{}
	}
	s.Run.Call, s.Evidence.API, s.Evidence.Call, s.Evidence.JSONWanted = p.Name, p.API, p.Saved, p.WantsJSON
	if !p.SendToken {
		return r, nil, nil
	}
	used, err := s.tokenOf(ctx, p)
	if err != nil || used == nil {
		return r, nil, err
	}
	s.e.Mask.Add(used.Token)
	s.Evidence.Access = used.Token
	if err := p.Placement.Put(r.Header, used.Token); err != nil {
		return r, nil, fault.New(fault.Settings, "%s", err.Error()).Hint("remove the header, or send the call with --bare, which adds no token")
	}
	return r, used, nil
}

func (s *Session) tokenOf(ctx context.Context, p *CallPlan) (*Used, error) {
	if p.Token != "" {
		return &Used{Token: p.Token}, nil
	}
	if p.Client == "" {
		return nil, nil
	}
	c, err := s.e.Project.Client(p.Client)
	if err != nil {
		return nil, err
	}
	return s.TokenFor(ctx, c)
}

// Call sends a prepared request and follows the API's redirects, each a leg of
// its own. The token never crosses to another origin. A refusal is an error of
// kind api, unless the call expects it.
func (s *Session) Call(ctx context.Context, p *CallPlan, r wire.Request, used *Used) (*CallResult, error) {
	res := &CallResult{Used: used}
	placed := ""
	if p.Placement.Header != "" {
		placed = p.Placement.Header
	}
	for hop := 0; ; hop++ {
		l, err := s.send(ctx, run.Call, r, placed)
		if l != nil {
			res.Leg = l
		}
		if err != nil {
			return res, err
		}
		next, note, err := redirect(l, r, p.Placement)
		if note != "" {
			l.Note = note
		}
		s.tell(l)
		if err != nil || next == nil {
			if err != nil {
				return res, err
			}
			break
		}
		if hop >= maxRedirects {
			return res, fault.New(fault.API, "the API redirected %d times without an answer", maxRedirects).Hint("look at the chain with journal show; two addresses may point at each other")
		}
		r = *next
	}
	return res, s.judgeCall(p, res)
}

// redirect prepares the next request of a redirect, or returns nil when the
// answer is not one.
func redirect(l *run.Leg, r wire.Request, placement bearer.Placement) (*wire.Request, string, error) {
	status := l.Status()
	target := l.Exchange.Response.Header.Get("Location")
	switch status {
	case 301, 302, 303, 307, 308:
	default:
		return nil, "", nil
	}
	if target == "" {
		return nil, "", nil
	}
	from, err := url.Parse(r.URL)
	if err != nil {
		return nil, "", err
	}
	to, err := from.Parse(target)
	if err != nil {
		return nil, "", fault.New(fault.API, "the API redirects to %q, which is not a URL", target)
	}
	next := wire.Request{Method: r.Method, URL: to.String(), Header: r.Header.Clone(), Body: r.Body}
	if status == 303 || (status == 301 || status == 302) && r.Method == http.MethodPost {
		if r.Method != http.MethodHead {
			next.Method = http.MethodGet
		}
		next.Body = nil
		next.Header.Del("Content-Type")
	}
	note := "redirected to " + mask.URL(to.String())
	if !wire.SameOrigin(from, to) {
		for _, name := range []string{"Authorization", "Cookie", placement.HeaderName()} {
			if next.Header.Get(name) != "" {
				next.Header.Del(name)
				note = "redirected to another origin; the token stays behind"
			}
		}
	}
	return &next, note, nil
}

// judgeCall holds the answer against the expectations, takes out what is to be
// kept, and says whether the API refused.
func (s *Session) judgeCall(p *CallPlan, res *CallResult) error {
	if p.Saved != nil {
		res.Expected = p.Saved.Expect.Where != ""
		res.Failures = checkExpectations(&p.Saved.Expect, res.Leg)
	}
	status := res.Leg.Status()
	refused := status >= 400
	if res.Expected && len(res.Failures) == 0 {
		refused = false
	}
	if refused {
		return fault.New(fault.API, "the API refused: %s %s answered %s", p.Method, mask.URL(p.URL), statusText(status))
	}
	if len(res.Failures) > 0 {
		f := res.Failures[0]
		text := fmt.Sprintf("%s was expected to be %s, and is %s", f.What, f.Expected, f.Actual)
		if n := len(res.Failures); n > 1 {
			text += fmt.Sprintf(" (and %d more)", n-1)
		}
		return fault.New(fault.Expectation, "%s", text).At(f.Where).Hint("compare the answer with what the call expects")
	}
	return s.keepValues(p, res)
}

func statusText(status int) string {
	return strings.TrimSpace(fmt.Sprintf("%d %s", status, http.StatusText(status)))
}

func (s *Session) keepValues(p *CallPlan, res *CallResult) error {
	if p.Saved == nil || len(p.Saved.Keep) == 0 || res.Leg.Status() >= 300 {
		return nil
	}
	res.Kept = map[string]string{}
	for _, k := range p.Saved.Keep {
		v, err := pickText(res.Leg.Exchange.Response.Body, k.Value)
		if err != nil {
			return fault.New(fault.Expectation, "nothing to keep as ${%s}: %s", k.Name, err.Error()).At(k.Where).Hint("compare the JSONPath with the answer")
		}
		res.Kept[k.Name] = v
	}
	pouch, err := s.e.Store.Pouch()
	if err != nil {
		return err
	}
	return pouch.Keep(s.e.Project.Key(), s.e.Project.Stage(), res.Kept)
}
