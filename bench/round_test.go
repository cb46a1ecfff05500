package bench

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tidycourier/core/flow"
	"tidycourier/core/project"
	"tidycourier/core/round"
)

const roundYAML = `version: 1
servers: { s: { token_endpoint: HOST/token } }
clients: { job: { server: s, client_id: job, token_endpoint_auth_method: none, grant: client_credentials } }
apis: { api: { base_url: HOST, client: job, headers: { Accept: application/json } } }
calls: { stations: { api: api, request: GET /stations, expect: { status: 200, json: { "$.stations[0].id": present } } } }
`

// roundServer answers calls after a wait, and counts token requests.
func roundServer(b *testing.B, wait time.Duration) (*httptest.Server, *atomic.Int64) {
	b.Helper()
	var tokens atomic.Int64
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if r.URL.Path == "/token" {
			tokens.Add(1)
			_, _ = io.WriteString(w, `{"access_token":"a-token-of-the-tide-office","token_type":"Bearer","expires_in":3600}`)
			return
		}
		if wait > 0 {
			time.Sleep(wait)
		}
		_, _ = io.WriteString(w, `{"stations":[{"id":"skarvik-quay","harbour":"skarvik","name":"Skarvik Inner Quay","datum_m":2.68,"last_level_m":3.921}]}`)
	}))
	b.Cleanup(srv.Close)
	return srv, &tokens
}

// roundOf runs one call n times as a round, and returns how long it took.
func roundOf(b *testing.B, e *flow.Engine, n, jobs int) time.Duration {
	b.Helper()
	plan := &round.Plan{Name: "bench", Steps: make([]round.Step, n)}
	for i := range plan.Steps {
		plan.Steps[i] = round.Step{Name: "stations", Phase: round.Main}
	}
	c := &round.Caller{Engine: e}
	start := time.Now()
	r := round.Run(context.Background(), plan, c.Do, round.Options{Jobs: jobs})
	took := time.Since(start)
	if r.Passed != n {
		b.Fatalf("%d of %d passed: %+v", r.Passed, n, r.Results.At(0))
	}
	return took
}

func roundEngine(b *testing.B, host string) *flow.Engine {
	b.Helper()
	e, dir := engine(b), b.TempDir()
	path := filepath.Join(dir, "courier.yaml")
	if err := os.WriteFile(path, []byte(strings.ReplaceAll(roundYAML, "HOST", host)), 0o600); err != nil {
		b.Fatal(err)
	}
	p, err := project.Open(path, project.Options{WorkDir: dir})
	if err != nil {
		b.Fatal(err)
	}
	e.Project = p
	return e
}

// BenchmarkRound: a round of 1,000 calls with expectations and the journal on,
// against a bare client over the same kind of connection.
func BenchmarkRound(b *testing.B) {
	for name, wait := range map[string]time.Duration{"at-once": 0, "2ms": 2 * time.Millisecond} {
		b.Run(name, func(b *testing.B) {
			srv, tokens := roundServer(b, wait)
			e, client := roundEngine(b, srv.URL), &http.Client{}
			ratio, ours, bare := pairs(b, 5, func() time.Duration { return roundOf(b, e, calls, 1) }, func() time.Duration { return bareLoop(b, client, srv.URL+"/stations") })
			b.ReportMetric(ratio, "ratio")
			b.ReportMetric(float64(ours.Microseconds())/calls, "us/ours")
			b.ReportMetric(float64(bare.Microseconds())/calls, "us/bare")
			b.ReportMetric(float64(tokens.Load()), "token-requests")
		})
	}
}

// BenchmarkRoundJobs: 8 jobs against one, with an API that takes 50 ms.
func BenchmarkRoundJobs(b *testing.B) {
	srv, _ := roundServer(b, 50*time.Millisecond)
	e := roundEngine(b, srv.URL)
	roundOf(b, e, 8, 8)
	eight := roundOf(b, e, 160, 8)
	one := roundOf(b, e, 40, 1) * 4
	b.ReportMetric(float64(one)/float64(eight), "times-faster")
}

// BenchmarkRoundMemory: the live heap after 1,000 and after 50,000 calls.
func BenchmarkRoundMemory(b *testing.B) {
	srv, _ := roundServer(b, 0)
	e := roundEngine(b, srv.URL)
	live := func() float64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return float64(m.HeapAlloc) / (1 << 20)
	}
	roundOf(b, e, 1000, 1)
	before := live()
	plan := &round.Plan{Name: "bench", Steps: make([]round.Step, 50_000)}
	for i := range plan.Steps {
		plan.Steps[i] = round.Step{Name: "stations", Phase: round.Main}
	}
	c := &round.Caller{Engine: e}
	r := round.Run(context.Background(), plan, c.Do, round.Options{})
	b.ReportMetric(before, "MiB/1000")
	b.ReportMetric(live(), "MiB/50000")
	b.ReportMetric(float64(r.Passed), "passed")
	runtime.KeepAlive(r)
}

// BenchmarkSave: call --save of 1 GiB against a bare GET copied into a file on
// the same disk, both as processes; and the peak.
func BenchmarkSave(b *testing.B) {
	const size = 1 << 30
	piece := make([]byte, 1<<20)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", fmt.Sprint(size))
		for range size / len(piece) {
			if _, err := w.Write(piece); err != nil {
				return
			}
		}
	}))
	defer srv.Close()
	tc, copier, dir := build(b, "./cmd/tidy-courier"), build(b, "./bench/barecopy"), b.TempDir()
	top := 0.0
	ours := func() time.Duration {
		cmd := exec.Command(tc, "call", "GET", srv.URL+"/", "--save", filepath.Join(dir, "ours"), "--state", filepath.Join(dir, "state"), "--quiet")
		cmd.Env = append(os.Environ(), "TIDY_COURIER_KEYRING=off")
		cmd.Dir = dir
		start := time.Now()
		if text, err := cmd.CombinedOutput(); err != nil {
			b.Fatalf("%v\n%s", err, text)
		}
		top = max(top, float64(peak(cmd.ProcessState))/1024)
		return time.Since(start)
	}
	bare := func() time.Duration { return once(b, copier, srv.URL+"/", filepath.Join(dir, "bare")) }
	ratio, a, c := pairs(b, 5, ours, bare)
	b.ReportMetric(ratio, "ratio")
	b.ReportMetric(a.Seconds(), "s/ours")
	b.ReportMetric(c.Seconds(), "s/bare")
	b.ReportMetric(top, "MiB/peak")
}
