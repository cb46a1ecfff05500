// Package drill sends one call in ways that must be refused: without a token,
// with a malformed, altered, unsigned, expired or foreign one. It says which
// were wrongly accepted, and whether the refusals have the form that RFC 6750 3
// gives them.
//
//	report, err := drill.Run(ctx, session, plan, options)
//
// Nothing goes anywhere but to the call's own URL; redirects are not followed.
package drill

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tidycourier/core/bearer"
	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

// Outcomes of a variant.
const (
	Refused  = "refused"
	Accepted = "accepted"
	Unclear  = "unclear" // neither: a redirect, 404, 5xx, no answer
	Skipped  = "skipped" // what it takes is not at hand
)

// Result is what became of one variant.
type Result struct {
	Name     string   `json:"name"`
	Sent     string   `json:"sent"`
	Expected string   `json:"expected"`
	Status   int      `json:"status"`
	Outcome  string   `json:"outcome"`
	Wrong    bool     `json:"wrong"` // accepted where it must be refused, or the reverse
	Why      string   `json:"why"`
	Reason   string   `json:"reason,omitempty"` // of a skip, or of no answer
	Form     []string `json:"form,omitempty"`   // what is wrong with the refusal's form
	Leg      int      `json:"leg,omitempty"`
}

// Report is what became of a drill.
type Report struct {
	Call                             string
	Results                          []Result
	Refused, Wrong, Unclear, Skipped int
}

// Options say what may be done.
type Options struct {
	UnsafeMethod bool           // methods besides GET and HEAD too
	OnResult     func(r Result) // told of each variant; may be nil
}

// Check refuses a call whose method changes something, unless that is allowed:
// what is wrongly accepted is carried out.
func Check(p *flow.CallPlan, o Options) error {
	if !o.UnsafeMethod && p.Method != http.MethodGet && p.Method != http.MethodHead {
		return fault.New(fault.Usage, "%s may change something at the API, also when it should have been refused", p.Method).At("--unsafe-method").
			Hint("drill a call with GET, or allow it with --unsafe-method")
	}
	if !p.SendToken || p.Client == "" {
		return fault.New(fault.Settings, "the call %q sends no token, so there is nothing to vary", p.Name).Hint("drill a call with a client")
	}
	return nil
}

// Run sends the good call first, which must be accepted, and then every variant.
func Run(ctx context.Context, s *flow.Session, p *flow.CallPlan, o Options) (*Report, error) {
	if err := Check(p, o); err != nil {
		return nil, err
	}
	out := &Report{Call: p.Name}
	r, used, err := s.Prepare(ctx, p)
	if err != nil {
		return out, err
	}
	l, err := s.SendOnce(ctx, r, p.Placement.Header, "the good token")
	if err != nil {
		return out, err
	}
	if st := l.Status(); st < 200 || st > 299 {
		return out, fault.New(fault.API, "the call itself is not accepted (%d), so refusals would prove nothing", st).Hint("make it work first: tidy-courier call %s", p.Name)
	}
	m, err := gather(ctx, s, p, used)
	if err != nil {
		return out, err
	}
	for _, v := range Variants {
		if ctx.Err() != nil {
			return out, fault.New(fault.Interrupted, "stopped")
		}
		x := send(ctx, s, p, r, v, m)
		out.count(x)
		if o.OnResult != nil {
			o.OnResult(x)
		}
	}
	return out, nil
}

func (r *Report) count(x Result) {
	r.Results = append(r.Results, x)
	switch {
	case x.Wrong:
		r.Wrong++
	case x.Outcome == Skipped:
		r.Skipped++
	case x.Outcome == Unclear:
		r.Unclear++
	default:
		r.Refused++
	}
}

// send sends one variant and judges the answer.
func send(ctx context.Context, s *flow.Session, p *flow.CallPlan, good wire.Request, v Variant, m Material) Result {
	out := Result{Name: v.Name, Sent: v.Sent, Expected: expected(v), Why: v.Why}
	how, missing := v.Make(m)
	if how == nil {
		out.Outcome, out.Reason = Skipped, missing
		return out
	}
	r := wire.Request{Method: good.Method, URL: good.URL, Header: good.Header.Clone(), Body: good.Body}
	name := p.Placement.HeaderName()
	r.Header.Del(name)
	for _, value := range how.Authorization {
		r.Header.Add(name, value)
	}
	if how.Query != "" {
		r.URL = withQuery(r.URL, how.Query)
	}
	l, err := s.SendOnce(ctx, r, p.Placement.Header, v.Name)
	if l != nil {
		out.Leg = l.N
	}
	if err != nil || l.Exchange.Response == nil {
		out.Outcome, out.Reason = Unclear, "no answer"
		if err != nil {
			out.Reason = err.Error()
		}
		return out
	}
	out.Status = l.Status()
	out.Outcome = outcome(out.Status)
	out.Wrong = out.Outcome == Accepted && !v.Accept || out.Outcome == Refused && v.Accept
	if out.Outcome == Refused && !v.Accept {
		out.Form = form(l, v)
	}
	return out
}

func expected(v Variant) string {
	if v.Accept {
		return "accepted"
	}
	return "401 or 403 with a challenge"
}

// outcome reads a status. 400 is a refusal too: RFC 6750 3.1 gives it to a
// malformed request.
func outcome(status int) string {
	switch {
	case status >= 200 && status < 300:
		return Accepted
	case status == 400 || status == 401 || status == 403:
		return Refused
	}
	return Unclear
}

func withQuery(raw, more string) string {
	u, err := url.Parse(raw)
	if err != nil {
		return raw
	}
	if u.RawQuery != "" {
		more = u.RawQuery + "&" + more
	}
	u.RawQuery = more
	return u.String()
}

// form holds a refusal against RFC 6750 3: a challenge, and the error code that
// goes with the status.
func form(l *run.Leg, v Variant) []string {
	var out []string
	list, bad := bearer.ParseChallenges(l.Exchange.Response.Header.Values("WWW-Authenticate"))
	i := slices.IndexFunc(list, bearer.Challenge.Bearer)
	if i < 0 {
		if l.Status() == http.StatusUnauthorized {
			return []string{"401 without a Bearer challenge in WWW-Authenticate (RFC 9110 15.5.2, RFC 6750 3)"}
		}
		return nil
	}
	if bad != nil {
		out = append(out, "the challenge is malformed: "+bad.Error())
	}
	code := list[i].Error()
	due := map[string]int{"invalid_request": 400, "invalid_token": 401, "insufficient_scope": 403}[code]
	if due != 0 && due != l.Status() {
		out = append(out, fmt.Sprintf("%s goes with status %d, not %d (RFC 6750 3.1)", code, due, l.Status()))
	}
	if v.Name == "no-token" && code != "" {
		out = append(out, "a request without credentials should be told no error code, and was told "+code+" (RFC 6750 3.1)")
	}
	return out
}

// Local reports whether the call goes to this machine.
func Local(p *flow.CallPlan) (host string, local bool) {
	u, err := url.Parse(p.URL)
	if err != nil {
		return p.URL, false
	}
	return u.Host, wire.Loopback(strings.ToLower(u.Hostname()))
}
