package bench

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"tidycourier/core/flow"
	"tidycourier/core/mask"
	"tidycourier/core/project"
	"tidycourier/core/wire"
)

const calls = 1000

// BenchmarkCalls: 1,000 calls through core/flow with the journal on, against a
// bare client on the same kept-alive kind of connection.
func BenchmarkCalls(b *testing.B) {
	for name, wait := range map[string]time.Duration{"at-once": 0, "2ms": 2 * time.Millisecond} {
		b.Run(name, func(b *testing.B) {
			srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				if wait > 0 {
					time.Sleep(wait)
				}
				w.Header().Set("Content-Type", "application/json")
				_, _ = io.WriteString(w, `{"stations":[{"id":"skarvik-quay","harbour":"skarvik","name":"Skarvik Inner Quay","datum_m":2.68,"last_level_m":3.921}]}`)
			}))
			defer srv.Close()
			e, client := engine(b), &http.Client{}
			ratio, ours, bare := pairs(b, 5, func() time.Duration { return throughFlow(b, e, srv.URL) }, func() time.Duration { return bareLoop(b, client, srv.URL) })
			b.ReportMetric(ratio, "ratio")
			b.ReportMetric(float64(ours.Microseconds())/calls, "us/ours")
			b.ReportMetric(float64(bare.Microseconds())/calls, "us/bare")
		})
	}
}

func engine(b *testing.B) *flow.Engine {
	b.Helper()
	sender, err := wire.NewSender(wire.Options{})
	if err != nil {
		b.Fatal(err)
	}
	disk := &flow.Disk{Dir: b.TempDir() + "/state", Getenv: func(n string) string { return map[string]string{"TIDY_COURIER_KEYRING": "off"}[n] }}
	b.Cleanup(func() { sender.Close(); _ = disk.Close() })
	return &flow.Engine{Project: project.Empty(project.Options{WorkDir: b.TempDir()}), Sender: sender, Mask: &mask.Set{}, Store: disk, Now: time.Now, Behind: true}
}

func throughFlow(b *testing.B, e *flow.Engine, url string) time.Duration {
	b.Helper()
	start := time.Now()
	for range calls {
		s := e.Begin("call")
		p := &flow.CallPlan{Name: "GET " + url, Method: "GET", URL: url, Header: http.Header{"Accept": {"application/json"}}, SendToken: true, Token: "tok-1234567890", API: &project.API{}}
		r, used, err := s.Prepare(context.Background(), p)
		if err == nil {
			_, err = s.Call(context.Background(), p, r, used)
		}
		if err = s.Finish(err); err != nil {
			b.Fatal(err)
		}
	}
	if err := e.Store.(*flow.Disk).Close(); err != nil { // what is still to be written counts too
		b.Fatal(err)
	}
	return time.Since(start)
}

func bareLoop(b *testing.B, c *http.Client, url string) time.Duration {
	b.Helper()
	start := time.Now()
	for range calls {
		r, err := http.NewRequest(http.MethodGet, url, nil)
		if err != nil {
			b.Fatal(err)
		}
		r.Header.Set("Accept", "application/json")
		r.Header.Set("Authorization", "Bearer tok-1234567890")
		resp, err := c.Do(r)
		if err != nil {
			b.Fatal(err)
		}
		_, err = io.ReadAll(resp.Body)
		_ = resp.Body.Close()
		if err != nil {
			b.Fatal(err)
		}
	}
	return time.Since(start)
}
