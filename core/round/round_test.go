package round

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"slices"
	"sync"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/fault"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

// steps reads "name:uses>keeps" into calls, with the phase before a slash.
func steps(list ...Step) *Plan { return &Plan{Name: "test", Steps: list} }

// recorder makes calls that pass unless named in failing, and notes how they ran.
type recorder struct {
	mu      sync.Mutex
	failing map[string]bool
	began   []string
	most    int
	now     int
	wait    time.Duration
}

func (r *recorder) do(_ context.Context, s Step, kept map[string]string) Result {
	r.mu.Lock()
	r.began = append(r.began, s.Name)
	r.now++
	r.most = max(r.most, r.now)
	r.mu.Unlock()
	time.Sleep(r.wait)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.now--
	out := Result{Name: s.Name, Phase: s.Phase, Outcome: Passed, Status: 200, Took: time.Millisecond, Kept: map[string]string{}}
	for _, k := range s.Keeps {
		out.Kept[k] = s.Name + "'s " + k
	}
	for _, u := range s.Uses {
		if kept[u] == "" {
			out.Outcome, out.Reason = Failed, "no "+u
		}
	}
	if r.failing[s.Name] {
		out.Outcome, out.Err, out.Kept = Failed, fault.New(fault.API, "refused"), nil
	}
	return out
}

func outcomes(r *Report) []string {
	var out []string
	for _, x := range r.Results.All() {
		out = append(out, x.Name+" "+x.Outcome)
	}
	return out
}

func main(names ...string) []Step {
	var out []Step
	for _, n := range names {
		out = append(out, Step{Name: n, Phase: Main})
	}
	return out
}

func TestARoundStopsAtTheFirstFailureAndCleansUp(t *testing.T) {
	plan := steps(append(main("a", "b", "c"), Step{Name: "tidy", Phase: Cleanup})...)
	r := Run(context.Background(), plan, (&recorder{failing: map[string]bool{"b": true}}).do, Options{})
	assert.Equal(t, []string{"a passed", "b failed", "c skipped", "tidy passed"}, outcomes(r))
	assert.Contains(t, r.Results.At(2).Reason, "--keep-going")
	r = Run(context.Background(), plan, (&recorder{failing: map[string]bool{"b": true}}).do, Options{KeepGoing: true})
	assert.Equal(t, []string{"a passed", "b failed", "c passed", "tidy passed"}, outcomes(r))
	assert.Equal(t, []int{3, 1, 0}, []int{r.Passed, r.Failed, r.Skipped})
	assert.Equal(t, fault.API, r.Worst().Kind)

	plan.Steps = append([]Step{{Name: "prepare", Phase: Setup}}, plan.Steps...)
	r = Run(context.Background(), plan, (&recorder{failing: map[string]bool{"prepare": true}}).do, Options{KeepGoing: true})
	assert.Equal(t, []string{"prepare failed", "a skipped", "b skipped", "c skipped", "tidy passed"}, outcomes(r))
}

func TestCallsWaitForWhatTheyUse(t *testing.T) {
	plan := steps(Step{Name: "a", Phase: Main, Keeps: []string{"x"}}, Step{Name: "b", Phase: Main, Uses: []string{"x"}, Keeps: []string{"y"}}, Step{Name: "c", Phase: Main, Uses: []string{"y", "x"}}, Step{Name: "free", Phase: Main})
	for range 20 {
		rec := &recorder{wait: time.Millisecond}
		r := Run(context.Background(), plan, rec.do, Options{Jobs: 4})
		assert.Equal(t, []string{"a passed", "b passed", "c passed", "free passed"}, outcomes(r), "the report keeps the plan's order")
		assert.Less(t, slices.Index(rec.began, "a"), slices.Index(rec.began, "b"))
		assert.Less(t, slices.Index(rec.began, "b"), slices.Index(rec.began, "c"))
	}
	r := Run(context.Background(), plan, (&recorder{failing: map[string]bool{"a": true}}).do, Options{Jobs: 4, KeepGoing: true})
	assert.Equal(t, []string{"a failed", "b skipped", "c skipped", "free passed"}, outcomes(r))
	assert.Contains(t, r.Results.At(1).Reason, "${x}, which a did not give")
}

func TestJobsBoundWhatRunsAtOnce(t *testing.T) {
	rec := &recorder{wait: 5 * time.Millisecond}
	Run(context.Background(), steps(main("a", "b", "c", "d", "e", "f", "g", "h")...), rec.do, Options{Jobs: 3})
	assert.Equal(t, 3, rec.most)
	rec = &recorder{wait: time.Millisecond}
	Run(context.Background(), steps(main("a", "b", "c")...), rec.do, Options{})
	assert.Equal(t, []any{1, []string{"a", "b", "c"}}, []any{rec.most, rec.began})
	rec = &recorder{wait: 5 * time.Millisecond}
	plan := steps(append(main("a", "b"), Step{Name: "ask", Phase: Main, Asks: true}, Step{Name: "z", Phase: Main})...)
	Run(context.Background(), plan, rec.do, Options{Jobs: 4})
	assert.Equal(t, "ask", rec.began[2], "where a person is asked nothing runs beside it")
	assert.LessOrEqual(t, rec.most, 2)
}

func TestAStopStillCleansUp(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	plan := steps(append(main("a", "b", "c"), Step{Name: "tidy", Phase: Cleanup})...)
	r := Run(ctx, plan, func(ctx context.Context, s Step, _ map[string]string) Result {
		if s.Name == "b" {
			cancel()
		}
		if s.Name == "tidy" {
			assert.NoError(t, ctx.Err(), "the cleanup gets a moment of its own")
		}
		return Result{Name: s.Name, Phase: s.Phase, Outcome: Passed}
	}, Options{})
	assert.Equal(t, []string{"a passed", "b passed", "c skipped", "tidy passed"}, outcomes(r))
	assert.True(t, r.Stopped)
}

func TestTimesAndWorst(t *testing.T) {
	r := &Report{}
	assert.Equal(t, Times{}, r.Times())
	assert.Nil(t, r.Worst())
	var list []Result
	for i := range 100 {
		list = append(list, Result{Status: 200, Took: time.Duration(i+1) * time.Millisecond})
	}
	r.Results = Collect(append(list, Result{Took: time.Hour})...)
	assert.Equal(t, Times{time.Millisecond, 51 * time.Millisecond, 96 * time.Millisecond, 100 * time.Millisecond}, r.Times())
	r.Results = Collect(Result{Outcome: Failed, Err: fault.New(fault.Expectation, "x")}, Result{Outcome: Failed, Err: fault.New(fault.Unreachable, "y")}, Result{Outcome: Failed, Err: fault.New(fault.API, "z")})
	assert.Equal(t, fault.Unreachable, r.Worst().Kind)
}

func TestPauses(t *testing.T) {
	now := time.Date(2026, 3, 31, 12, 0, 0, 0, time.UTC)
	for said, want := range map[string]time.Duration{"": 2 * time.Second, "7": 7 * time.Second, "900": longestWait, "Tue, 31 Mar 2026 12:00:30 GMT": 30 * time.Second, "Tue, 31 Mar 2026 11:00:00 GMT": 0, "soon": 2 * time.Second} {
		l := &run.Leg{Exchange: &wire.Exchange{Response: &wire.Response{Header: http.Header{"Retry-After": {said}}}}}
		assert.Equal(t, want, pause(l, 2*time.Second, now), said)
	}
	assert.True(t, worthAnother([]string{"5xx", "429"}, 503))
	assert.False(t, worthAnother([]string{"5xx", "429"}, 404))
}

const roundFile = `version: 1
values: { path: "/${first}" }
apis: { api: { base_url: "http://127.0.0.1:1${root}" } }
calls:
  a: { request: GET /a, tags: [smoke], keep: { first: "$.x" } }
  b: { request: "GET ${path}", tags: smoke }
  c: { request: GET /c, keep: { who: { from: "$.a[*]", value: id, pick: ask } } }
rounds:
  plain: [a, b, c]
  full: { setup: [c], calls: [a, b], cleanup: [c], jobs: 3 }
  none: { setup: [] }
`

func TestReadingPlans(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/courier.yaml", []byte(roundFile), 0o600))
	p, err := project.Open(dir+"/courier.yaml", project.Options{WorkDir: dir})
	require.NoError(t, err)
	plan, err := Read(p, "full", nil)
	require.NoError(t, err)
	assert.Equal(t, 3, plan.Jobs)
	assert.Equal(t, "[c:setup a:call b:call c:cleanup]", fmt.Sprint(func() []string {
		var out []string
		for _, s := range plan.Steps {
			out = append(out, s.Name+":"+string(s.Phase))
		}
		return out
	}()))
	assert.Contains(t, plan.Steps[2].Uses, "first", "through a value that names it")
	assert.Contains(t, plan.Steps[2].Uses, "root", "through the API")
	assert.True(t, plan.Steps[0].Asks)
	plan, err = Read(p, "plain", []string{"smoke"})
	require.NoError(t, err)
	assert.Len(t, plan.Steps, 2)
	_, err = Read(p, "plain", []string{"nothing"})
	assert.ErrorContains(t, err, "carries the tag")
	_, err = Read(p, "none", nil)
	assert.ErrorContains(t, err, "has no call")
	_, err = Read(p, "plane", nil)
	assert.Equal(t, `did you mean "plain"?`, fault.As(err).Next)
}

// What is held of a result in little room is the same when it is asked for.
func TestResultsAreHeldSmall(t *testing.T) {
	at := time.Unix(1774958400, 5)
	full := Result{Name: "a", Phase: Cleanup, Outcome: Passed, Status: 204, Took: time.Second, Started: at, Attempts: 2}
	kept := Result{Name: "b", Phase: Main, Outcome: Passed, Kept: map[string]string{"x": "1"}}
	failed := Result{Name: "c", Phase: Setup, Outcome: Failed, Reason: "why", Err: fault.New(fault.API, "x")}
	r := Collect(full, kept, failed, Result{Name: "d", Phase: Main, Outcome: Skipped, Reason: "stopped"})
	assert.Equal(t, 4, r.Len())
	assert.True(t, full.Started.Equal(r.At(0).Started))
	got := r.At(0)
	got.Started = at
	assert.Equal(t, full, got)
	assert.Equal(t, kept, r.At(1))
	assert.Equal(t, failed, r.At(2))
	for i := range 3 {
		r.settle(i, int64(i+7))
		assert.Equal(t, int64(i+7), r.At(i).Run())
	}
	assert.Nil(t, r.At(3).Run)
	assert.LessOrEqual(t, int(unsafe.Sizeof(packed{})), 64)
}

// A round of very many calls asks for the numbers of its runs on the way, and
// every one gets its own.
func TestNumbersOfManyRuns(t *testing.T) {
	p := &Plan{Name: "many", Steps: make([]Step, 3*maxUnnamed)}
	for i := range p.Steps {
		p.Steps[i] = Step{Name: "x", Phase: Main}
	}
	n := int64(0)
	r := Run(context.Background(), p, func(context.Context, Step, map[string]string) Result {
		n++
		mine := n
		return Result{Name: "x", Phase: Main, Outcome: Passed, Run: func() int64 { return mine }}
	}, Options{})
	for i, x := range r.Results.All() {
		assert.Equal(t, int64(i+1), x.Run())
	}
}
