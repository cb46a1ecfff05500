package round

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/run"
)

// longestWait bounds what a Retry-After can make a round wait.
const longestWait = time.Minute

// Caller makes the calls of a round with an engine. It is safe for concurrent use.
type Caller struct {
	Engine *flow.Engine
	Sleep  func(ctx context.Context, d time.Duration) // nil waits

	recent   flow.Recent
	plans    sync.Map // name to *flow.CallPlan, of calls that are the same each time
	hopeless sync.Map // clients whose new token was refused too: no call asks for another
}

// Do makes one call: resolved with the values that were kept, its token from the
// pouch, tried again where it says so.
func (c *Caller) Do(ctx context.Context, s Step, kept map[string]string) Result {
	e := *c.Engine
	e.Project = e.Project.WithKept(kept)
	e.OnStart, e.OnLeg, e.Patient, e.Behind, e.Recent = nil, nil, false, true, &c.recent
	out := Result{Name: s.Name, Phase: s.Phase, Started: e.Now()}
	session := e.Begin("round")
	res, err := c.send(ctx, &e, session, s, &out)
	if errors.Is(err, flow.ErrNoExpired) {
		out.Outcome, out.Reason = Skipped, "no expired token is held to send"
		return out
	}
	session.Evidence.Provoked = err == nil // what passed needs no cause
	err = session.Finish(err)
	if res != nil {
		out.Kept, out.Failures = res.Kept, res.Failures
		if res.Leg != nil {
			out.Status = res.Leg.Status()
		}
	}
	for i := range session.Run.Legs {
		if l := &session.Run.Legs[i]; l.Kind == run.Call {
			out.Took += l.Took
		}
	}
	if pending, n := session.Pending, session.Run.N; pending != nil || n != 0 {
		out.Run = func() int64 {
			if pending != nil {
				n, _ = pending.Wait() // what could not be stored is told when the journal closes
			}
			return n
		}
	}
	out.Outcome = Passed
	if fault.As(err) != nil && fault.As(err).Kind == fault.Interrupted {
		out.Outcome, out.Reason = Skipped, "stopped while it was under way"
		return out
	}
	if err != nil {
		out.Outcome, out.Err = Failed, fault.As(err)
		out.Reason = e.Mask.Replace(out.Err.Message)
		out.Findings = run.MaskFindings(session.Run.Findings, e.Mask)
	}
	return out
}

func (c *Caller) send(ctx context.Context, e *flow.Engine, session *flow.Session, s Step, out *Result) (*flow.CallResult, error) {
	plan, err := c.plan(e, s.Name)
	if err != nil {
		return nil, err
	}
	call := plan.Saved
	session.Run.Client = plan.Client
	for attempt := 0; ; attempt++ {
		before := len(session.Run.Legs)
		_, plan.KeepToken = c.hopeless.Load(plan.Client)
		res, err := session.CallAgain(ctx, plan)
		if res != nil && res.Hopeless {
			c.hopeless.Store(plan.Client, true)
		}
		for _, l := range session.Run.Legs[before:] {
			if l.Kind == run.Call {
				out.Attempts++
			}
		}
		if attempt >= call.Retry.Times || res == nil || res.Leg == nil || !worthAnother(call.Retry.On, res.Leg.Status()) || ctx.Err() != nil {
			return res, err
		}
		c.wait(ctx, pause(res.Leg, call.Retry.Wait, e.Now()))
	}
}

// plan resolves a call, once where it is the same each time.
func (c *Caller) plan(e *flow.Engine, name string) (*flow.CallPlan, error) {
	if known, met := c.plans.Load(name); met {
		p := *known.(*flow.CallPlan)
		return &p, nil
	}
	call, err := e.Project.Call(name)
	if err != nil {
		return nil, err
	}
	p, err := flow.Plan(call)
	if err == nil && e.Project.Static(name) {
		kept := *p
		c.plans.Store(name, &kept)
	}
	return p, err
}

func worthAnother(on []string, status int) bool {
	text := strconv.Itoa(status)
	return slices.ContainsFunc(on, func(s string) bool { return s == text || strings.HasSuffix(s, "xx") && s[:1] == text[:1] })
}

// pause is how long to wait: as the answer says (RFC 9110 10.2.3, seconds or a
// date), else as declared.
func pause(l *run.Leg, declared time.Duration, now time.Time) time.Duration {
	said := l.Exchange.Response.Header.Get("Retry-After")
	if n, err := strconv.Atoi(said); err == nil && n >= 0 {
		return min(time.Duration(n)*time.Second, longestWait)
	}
	if at, err := http.ParseTime(said); err == nil {
		return min(max(at.Sub(now), 0), longestWait)
	}
	return min(declared, longestWait)
}

func (c *Caller) wait(ctx context.Context, d time.Duration) {
	if c.Sleep != nil {
		c.Sleep(ctx, d)
		return
	}
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}
