// Package round runs calls in order with expectations. A Plan goes in, with a
// function that makes one call; a Report comes out: what passed, what failed
// and why, what was skipped, and how long it took.
//
//	plan, err := round.Read(project, "morning", tags)
//	report := round.Run(ctx, plan, caller.Do, round.Options{Jobs: 4})
//
// The order is kept where one call uses what another keeps; calls that do not
// may run beside each other. Setup comes first, cleanup runs whatever happened.
package round

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/project"
	"tidycourier/core/run"
)

// Phase is the part of a round a call belongs to.
type Phase string

const (
	Setup   Phase = "setup"
	Main    Phase = "call"
	Cleanup Phase = "cleanup"
)

// Step is one call of a round.
type Step struct {
	Name  string
	Phase Phase
	Uses  []string // names in ${…}
	Keeps []string
	Asks  bool // a person may have to choose: nothing runs beside it
}

// Plan is a round ready to run.
type Plan struct {
	Name  string
	Steps []Step // setup, calls, cleanup
	Jobs  int    // as the courier file says; 0 when it does not
}

// Read makes the plan of a round. With tags, only the calls that carry one of
// them run, and setup and cleanup as always.
func Read(p *project.Project, name string, tags []string) (*Plan, error) {
	r, err := p.Round(name)
	if err != nil {
		return nil, err
	}
	plan := &Plan{Name: name, Jobs: r.Jobs}
	chosen := 0
	for _, part := range []struct {
		phase Phase
		calls []string
	}{{Setup, r.Setup}, {Main, r.Calls}, {Cleanup, r.Cleanup}} {
		for _, call := range part.calls {
			f := p.Facts(call)
			if part.phase == Main && len(tags) > 0 && !slices.ContainsFunc(f.Tags, func(t string) bool { return slices.Contains(tags, t) }) {
				continue
			}
			if part.phase == Main {
				chosen++
			}
			plan.Steps = append(plan.Steps, Step{Name: call, Phase: part.phase, Uses: f.Uses, Keeps: f.Keeps, Asks: f.Asks})
		}
	}
	if chosen == 0 && len(tags) > 0 {
		return nil, fault.New(fault.Usage, "no call of the round %q carries the tag %s", name, strings.Join(tags, " or ")).At("--tag").Hint("tags stand under a call: tags: [%s]", tags[0])
	}
	return plan, nil
}

// Verdicts of a call.
const (
	Passed  = "passed"
	Failed  = "failed"
	Skipped = "skipped"
)

// Result is what became of one call.
type Result struct {
	Name     string
	Phase    Phase
	Outcome  string
	Reason   string // of a failure or a skip, in one line
	Status   int
	Took     time.Duration
	Started  time.Time
	Attempts int // requests that were sent for it, retries included
	Failures []flow.Mismatch
	Findings []run.Finding // of a failure
	Err      *fault.Error
	Kept     map[string]string
	Run      func() int64 // the run's number, once the journal has it; nil when there is none
}

// Report is what became of a round.
type Report struct {
	Round                   string
	Started                 time.Time
	Took                    time.Duration
	Results                 []Result // in the plan's order
	Passed, Failed, Skipped int
	Stopped                 bool // by the user
}

// Times are those of the calls that were sent.
type Times struct{ Min, Median, P95, Max time.Duration }

// Times sums up how long the calls took.
func (r *Report) Times() Times {
	var all []time.Duration
	for _, x := range r.Results {
		if x.Status > 0 {
			all = append(all, x.Took)
		}
	}
	if len(all) == 0 {
		return Times{}
	}
	slices.Sort(all)
	at := func(q float64) time.Duration { return all[min(len(all)-1, int(q*float64(len(all))))] }
	return Times{all[0], at(0.5), at(0.95), all[len(all)-1]}
}

// Worst is the error that stands for the whole round: the first failure's kind,
// where whatever could not be reached or was refused comes before an expectation
// that failed.
func (r *Report) Worst() *fault.Error {
	var found *fault.Error
	for _, x := range r.Results {
		if x.Outcome != Failed || x.Err == nil {
			continue
		}
		if found == nil || found.Kind == fault.Expectation && x.Err.Kind != fault.Expectation {
			found = x.Err
		}
	}
	return found
}

// Do makes one call with the values that were kept so far. It is called from
// several goroutines.
type Do func(ctx context.Context, s Step, kept map[string]string) Result

// Options say how a round is run.
type Options struct {
	Jobs      int  // calls at once; 0 and 1 mean one after the other
	KeepGoing bool // go on after a failure
	Now       func() time.Time
	OnStart   func(i int, s Step)   // told when a call begins; may be nil
	OnDone    func(i int, r Result) // told when a call is done, in the order they end; may be nil
}

// cleanupPatience bounds the cleanup after a stop by the user.
const cleanupPatience = 10 * time.Second

// Run runs a plan. Nothing is left running when it returns.
func Run(ctx context.Context, p *Plan, do Do, o Options) *Report {
	if o.Now == nil {
		o.Now = time.Now
	}
	r := &runner{plan: p, do: do, o: o, kept: map[string]string{}, results: make([]Result, len(p.Steps))}
	for i, s := range p.Steps {
		if len(s.Keeps) > 0 {
			r.keepers = append(r.keepers, i)
		}
	}
	start := o.Now()
	r.phase(ctx, Setup, 1)
	if r.failed {
		r.skipAll(Main, "the setup failed")
	} else {
		r.phase(ctx, Main, max(o.Jobs, 1))
	}
	stopped := ctx.Err() != nil
	if stopped {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(context.WithoutCancel(ctx), cleanupPatience)
		defer cancel()
	}
	r.failed = false // cleanup does not ask how the rest went
	r.phase(ctx, Cleanup, 1)
	out := &Report{Round: p.Name, Started: start, Took: o.Now().Sub(start), Results: r.results, Stopped: stopped}
	for _, x := range out.Results {
		switch x.Outcome {
		case Passed:
			out.Passed++
		case Failed:
			out.Failed++
		default:
			out.Skipped++
		}
	}
	return out
}

// runner is a round under way.
type runner struct {
	plan *Plan
	do   Do
	o    Options

	keepers []int // the steps that keep something

	mu      sync.Mutex
	results []Result
	kept    map[string]string
	failed  bool
}

// phase runs the calls of one part, at most jobs at a time, each begun in order
// and only when what it uses is there.
func (r *runner) phase(ctx context.Context, phase Phase, jobs int) {
	var group sync.WaitGroup
	slots := make(chan struct{}, jobs)
	done := map[int]chan struct{}{}
	for _, i := range r.keepers {
		if r.plan.Steps[i].Phase == phase {
			done[i] = make(chan struct{})
		}
	}
	end := func(i int) {
		if done[i] != nil {
			close(done[i])
		}
	}
	for i, s := range r.plan.Steps {
		if s.Phase != phase {
			continue
		}
		alone := jobs == 1 || s.Asks
		if s.Asks {
			group.Wait() // nothing runs beside a question
		}
		slots <- struct{}{}
		if reason := r.mayNot(ctx, i, s, done); reason != "" {
			<-slots
			r.finish(i, Result{Name: s.Name, Phase: s.Phase, Outcome: Skipped, Reason: reason})
			end(i)
			continue
		}
		if r.o.OnStart != nil {
			r.o.OnStart(i, s)
		}
		work := func() {
			defer func() { <-slots; end(i) }()
			r.mu.Lock()
			kept := make(map[string]string, len(r.kept))
			for k, v := range r.kept {
				kept[k] = v
			}
			r.mu.Unlock()
			r.finish(i, r.do(ctx, s, kept))
		}
		if alone {
			work()
			continue
		}
		group.Go(work)
	}
	group.Wait()
}

// mayNot waits for the calls whose values a step uses, and says why it must not
// run, or "". Only calls that keep something are looked at: there are few, also
// in a round of very many.
func (r *runner) mayNot(ctx context.Context, i int, s Step, done map[int]chan struct{}) string {
	for _, j := range r.keepers {
		if j < i && done[j] != nil && overlap(r.plan.Steps[j].Keeps, s.Uses) != "" {
			<-done[j]
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, j := range r.keepers {
		if j >= i || r.results[j].Outcome == Passed {
			continue
		}
		if k := overlap(r.plan.Steps[j].Keeps, s.Uses); k != "" {
			if _, there := r.kept[k]; !there {
				return fmt.Sprintf("it uses ${%s}, which %s did not give", k, r.plan.Steps[j].Name)
			}
		}
	}
	switch {
	case ctx.Err() != nil:
		return "stopped before it began"
	case r.failed && !r.o.KeepGoing && s.Phase != Cleanup:
		return "an earlier call failed; --keep-going runs on"
	}
	return ""
}

// overlap is the first name that both lists have, or "".
func overlap(keeps, uses []string) string {
	for _, k := range keeps {
		if slices.Contains(uses, k) {
			return k
		}
	}
	return ""
}

func (r *runner) finish(i int, x Result) {
	r.mu.Lock()
	r.results[i] = x
	for k, v := range x.Kept {
		r.kept[k] = v
	}
	r.failed = r.failed || x.Outcome == Failed
	r.mu.Unlock()
	if r.o.OnDone != nil {
		r.o.OnDone(i, x)
	}
}

func (r *runner) skipAll(phase Phase, reason string) {
	for i, s := range r.plan.Steps {
		if s.Phase == phase {
			r.finish(i, Result{Name: s.Name, Phase: s.Phase, Outcome: Skipped, Reason: reason})
		}
	}
}
