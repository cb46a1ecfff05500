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
	"runtime/debug"
	"runtime/metrics"
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
	facts := map[string]project.CallFacts{} // a call may be there very often
	for _, part := range []struct {
		phase Phase
		calls []string
	}{{Setup, r.Setup}, {Main, r.Calls}, {Cleanup, r.Cleanup}} {
		for _, call := range part.calls {
			f, known := facts[call]
			if !known {
				f = p.Facts(call)
				facts[call] = f
			}
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
	Results                 Results
	Passed, Failed, Skipped int
	Stopped                 bool // by the user
}

// Times are those of the calls that were sent.
type Times struct{ Min, Median, P95, Max time.Duration }

// Times sums up how long the calls took.
func (r *Report) Times() Times {
	var all []time.Duration
	for i := range r.Results.list {
		if x := &r.Results.list[i]; x.status > 0 {
			all = append(all, x.took)
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
	for _, x := range r.Results.All() {
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

// garbage is how much of it may gather before the collector runs. A series makes
// garbage at a steady rate; these few MiB buy a tenth of the time.
const garbage = 16 << 20

// headroom is that as a percentage of what is alive now, between the usual 100
// and 400.
func headroom() int {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(live)
	if live[0].Value.Kind() != metrics.KindUint64 {
		return 100
	}
	return int(min(max(garbage*100/max(live[0].Value.Uint64(), 1), 100), 400))
}

// Run runs a plan. Nothing is left running when it returns.
func Run(ctx context.Context, p *Plan, do Do, o Options) *Report {
	if o.Now == nil {
		o.Now = time.Now
	}
	r := &runner{plan: p, do: do, o: o, kept: map[string]string{}, results: Results{list: make([]packed, len(p.Steps))}, givers: map[string]int{}, giving: map[int]chan struct{}{}}
	for i, s := range p.Steps {
		for _, k := range s.Keeps {
			if _, earlier := r.givers[k]; !earlier {
				r.givers[k] = i
			}
		}
	}
	start := o.Now()
	defer debug.SetGCPercent(debug.SetGCPercent(headroom()))
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
	r.number(len(r.unnamed))
	out := &Report{Round: p.Name, Started: start, Took: o.Now().Sub(start), Results: r.results, Stopped: stopped}
	for _, x := range out.Results.All() {
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

	givers map[string]int // a kept name to the first step that keeps it

	mu      sync.Mutex
	results Results
	giving  map[int]chan struct{} // the steps under way that keep something, closed at their end
	unnamed []numbered            // runs whose number the journal has not been asked for yet
	kept    map[string]string
	failed  bool
}

// numbered is a step whose run has, or is to get, a number.
type numbered struct {
	i   int
	run func() int64
}

// maxUnnamed is how many runs may wait for their number; the journal is never
// that far behind.
const maxUnnamed = 512

// phase runs the calls of one part, at most jobs at a time, each begun in order
// and only when what it uses is there.
func (r *runner) phase(ctx context.Context, phase Phase, jobs int) {
	var group sync.WaitGroup
	slots := make(chan struct{}, jobs)
	for i, s := range r.plan.Steps {
		if s.Phase != phase {
			continue
		}
		alone := jobs == 1 || s.Asks
		if s.Asks {
			group.Wait() // nothing runs beside a question
		}
		slots <- struct{}{}
		if reason := r.mayNot(ctx, i, s); reason != "" {
			<-slots
			r.finish(i, Result{Name: s.Name, Phase: s.Phase, Outcome: Skipped, Reason: reason})
			continue
		}
		r.begin(i, s)
		if r.o.OnStart != nil {
			r.o.OnStart(i, s)
		}
		work := func() {
			defer func() { <-slots }()
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

// begin notes that a step which keeps something is under way.
func (r *runner) begin(i int, s Step) {
	if len(s.Keeps) == 0 {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.giving[i] = make(chan struct{})
}

// mayNot waits for the calls under way whose values a step uses, and says why it
// must not run, or "". No other calls are looked at, also in a round of very many.
func (r *runner) mayNot(ctx context.Context, i int, s Step) string {
	var before []chan struct{}
	r.mu.Lock()
	for j, done := range r.giving {
		if j < i && overlap(r.plan.Steps[j].Keeps, s.Uses) != "" {
			before = append(before, done)
		}
	}
	r.mu.Unlock()
	for _, done := range before {
		<-done
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, k := range s.Uses {
		if j, kept := r.givers[k]; kept && j < i {
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
	r.results.set(i, x)
	for k, v := range x.Kept {
		r.kept[k] = v
	}
	r.failed = r.failed || x.Outcome == Failed
	if done := r.giving[i]; done != nil {
		close(done)
		delete(r.giving, i)
	}
	if x.Run != nil {
		r.unnamed = append(r.unnamed, numbered{i, x.Run})
	}
	if len(r.unnamed) > maxUnnamed {
		r.number(maxUnnamed / 2)
	}
	r.mu.Unlock()
	if r.o.OnDone != nil {
		r.o.OnDone(i, x)
	}
}

// number asks for the numbers of the first n runs that wait for theirs.
func (r *runner) number(n int) {
	for _, u := range r.unnamed[:n] {
		r.results.settle(u.i, u.run())
	}
	r.unnamed = append(r.unnamed[:0], r.unnamed[n:]...)
}

func (r *runner) skipAll(phase Phase, reason string) {
	for i, s := range r.plan.Steps {
		if s.Phase == phase {
			r.finish(i, Result{Name: s.Name, Phase: s.Phase, Outcome: Skipped, Reason: reason})
		}
	}
}
