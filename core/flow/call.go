package flow

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"tidycourier/core/bearer"
	"tidycourier/core/fault"
	"tidycourier/core/mask"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/token"
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
	WantsJSON bool   // the caller can only use JSON
	Spoil     string // expired or garbled: send a token that must be refused
	KeepToken bool   // do not get a new token when the API refuses this one
}

// CallResult is what a call gave.
type CallResult struct {
	Leg      *run.Leg // the last one: the answer
	Used     *Used    // nil when no token was sent
	Kept     map[string]string
	Failures []Mismatch // expectations that did not hold
	Expected bool       // the call has expectations, and they decide
	Hopeless bool       // a new token was got, and refused as well
}

// Plan makes a CallPlan of a saved call.
func Plan(c *project.Call) (*CallPlan, error) {
	p := &CallPlan{Name: c.Name, Method: c.Method, Header: http.Header{}, Placement: c.API.Placement, SendToken: c.SendToken,
		API: c.API, Saved: c, Client: c.API.Client.Value}
	for _, who := range []project.Setting{c.Client, c.As} {
		if who.Value != "" {
			p.Client = who.Value
		}
	}
	p.Spoil = c.Token.Value
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
	if err := planBody(p, c); err != nil {
		return nil, err
	}
	query := make([]bearer.Pair, len(c.Query))
	for i, q := range c.Query {
		query[i] = bearer.Pair{Name: q.Name, Value: q.Value}
	}
	var err error
	if p.URL, err = bearer.Join(c.API.BaseURL.Value, c.Path, query); err != nil {
		return nil, fault.New(fault.Settings, "%s", err.Error()).At(c.Where)
	}
	p.WantsJSON = c.Expect.MediaType.Value == "application/json" || len(c.Expect.JSON) > 0 || c.Expect.Schema.Value != "" || len(c.Keep) > 0
	return p, nil
}

// planBody makes a form or multipart body.
func planBody(p *CallPlan, c *project.Call) error {
	pairs := func(list []project.Named) []bearer.Pair {
		var out []bearer.Pair
		for _, n := range list {
			out = append(out, bearer.Pair{Name: n.Name, Value: n.Value})
		}
		return out
	}
	contentType := ""
	switch {
	case len(c.Form) > 0:
		p.Body, contentType = bearer.FormBody(pairs(c.Form))
	case len(c.Upload) > 0:
		var err error
		if p.Body, contentType, err = bearer.UploadBody(pairs(c.Upload), func(path string) ([]byte, error) { return bearer.ReadUpload(c.File(path)) }); err != nil {
			return fault.Wrap(fault.Settings, err, "the body of %q cannot be made", c.Name).At(c.Where)
		}
	default:
		return nil
	}
	p.Header.Set("Content-Type", contentType)
	return nil
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
	if r.URL, r.Body, err = p.Placement.Place(r.Method, r.URL, r.Header, r.Body, used.Token); err != nil {
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
	c, used := s.e.Recent.holds(p.Client, s.e.Project, s.e.Now())
	if used != nil && p.Spoil == "" {
		s.about(c)
		return used, nil
	}
	c, err := s.e.Project.Client(p.Client)
	if err != nil {
		return nil, err
	}
	if p.Spoil == "expired" {
		return s.expiredToken(c)
	}
	used, err = s.TokenFor(ctx, c)
	if err == nil {
		s.e.Recent.hold(c, s.e.Project, used)
	}
	if err == nil && p.Spoil == "garbled" {
		used = &Used{Client: used.Client, Token: garble(used.Token)}
	}
	return used, err
}

// ErrNoExpired is the cause when no expired token is held to send.
var ErrNoExpired = errors.New("no expired token is held")

// expiredToken finds a real token of the client that has expired: one cannot be
// made without the issuer's key.
func (s *Session) expiredToken(c *project.Client) (*Used, error) {
	if raw := s.e.Expired(c.Name); raw != "" {
		return &Used{Client: c.Name, Token: raw}, nil
	}
	f := fault.Wrap(fault.Settings, ErrNoExpired, "the call is to carry an expired token of %q", c.Name).At(c.Where)
	return nil, f.Hint("a real one is needed: it is there once a token in the pouch has outlived its end")
}

// Expired is a real access token of a client that the pouch still holds and
// whose end has passed, or "".
func (e *Engine) Expired(client string) string {
	p, err := e.Store.Pouch()
	if err != nil {
		return ""
	}
	for _, get := range []func(pouch.Key) (*pouch.Set, error){p.Get, p.Previous} {
		set, err := get(e.Key(client))
		if err == nil && set.AccessToken != "" && !set.ExpiresAt.IsZero() && e.Now().After(set.ExpiresAt.Add(token.Leeway)) {
			e.Mask.Add(set.AccessToken)
			return set.AccessToken
		}
	}
	return ""
}

// garble breaks a token so that no reader can take it for whole: its middle is
// left out.
func garble(raw string) string {
	if len(raw) < 8 {
		return raw + "x"
	}
	return raw[:len(raw)/3] + raw[len(raw)*2/3:]
}

// CallAgain is Prepare and Call for one of a series: when the API refuses the
// pouch's token as invalid, a new one is got, once, and the call sent again.
func (s *Session) CallAgain(ctx context.Context, p *CallPlan) (*CallResult, error) {
	r, used, err := s.Prepare(ctx, p)
	if err != nil {
		return nil, err
	}
	res, err := s.Call(ctx, p, r, used)
	if res == nil || res.Leg == nil || res.Leg.Status() != http.StatusUnauthorized || used == nil || used.Set == nil || used.Refreshed || p.KeepToken || !tokenRefused(res.Leg) {
		return res, err
	}
	if res.Expected && len(res.Failures) == 0 {
		return res, err // the refusal is what was expected
	}
	c, bad := s.e.Project.Client(p.Client)
	if bad != nil {
		return res, err
	}
	renewed, bad := s.Renew(ctx, c, used.Token)
	if bad != nil || renewed == nil {
		return res, errors.Join(err, bad)
	}
	if r, used, err = s.Prepare(ctx, p); err != nil {
		return res, err
	}
	res, err = s.Call(ctx, p, r, used)
	res.Hopeless = res.Leg != nil && res.Leg.Exchange.Response != nil && res.Leg.Status() == http.StatusUnauthorized
	return res, err
}

// tokenRefused reports whether the API says that the token is invalid (RFC 6750
// 3.1).
func tokenRefused(l *run.Leg) bool {
	list, _ := bearer.ParseChallenges(l.Exchange.Response.Header.Values("WWW-Authenticate"))
	return slices.ContainsFunc(list, func(c bearer.Challenge) bool { return c.Error() == "invalid_token" })
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
	next := wire.Request{Method: r.Method, URL: to.String(), Header: r.Header.Clone(), Body: r.Body, Sink: r.Sink}
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
		res.Failures = checkExpectations(&p.Saved.Expect, res.Leg, s.took())
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

// took is how long the call took, redirects included, tokens not.
func (s *Session) took() time.Duration {
	var sum time.Duration
	for _, l := range s.Run.Legs {
		if l.Kind == run.Call {
			sum += l.Took
		}
	}
	return sum
}

func statusText(status int) string {
	return strings.TrimSpace(fmt.Sprintf("%d %s", status, http.StatusText(status)))
}
