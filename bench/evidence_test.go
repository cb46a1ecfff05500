package bench

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidycourier/core/exhibit"
	"tidycourier/core/har"
	"tidycourier/core/journal"
	"tidycourier/core/mask"
	"tidycourier/core/run"
	"tidycourier/core/seal"
	"tidycourier/core/wire"
)

// largeRecord writes a HAR of 5,000 entries and some 50 MB, as a browser would:
// pages, pictures, scripts, and a code grant with a few hundred calls among them.
func largeRecord(b *testing.B) string {
	b.Helper()
	path := filepath.Join(b.TempDir(), "large.har")
	f, err := os.Create(path)
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	w := bufio.NewWriter(f)
	defer w.Flush()
	script := strings.Repeat("function tide(level){return level*0.01+\"m\"};\n", 230)
	headers := []har.Pair{{Name: "Accept", Value: "*/*"}, {Name: "User-Agent", Value: "Mozilla/5.0"}, {Name: "Cookie", Value: strings.Repeat("crumb=1; ", 12)}}
	start := time.Date(2026, 3, 31, 12, 0, 0, 0, time.UTC)
	fmt.Fprint(w, `{"log":{"version":"1.2","creator":{"name":"Recorder","version":"1"},"pages":[],"entries":[`)
	for i := range 5000 {
		e := har.Entry{Started: start.Add(time.Duration(i) * 10 * time.Millisecond).Format(time.RFC3339Nano), Time: 4, Cache: []byte("{}"), Timings: &har.Timings{},
			Request:  har.Request{Method: "GET", URL: fmt.Sprintf("https://news.example/asset/%d.js", i), HTTPVersion: "HTTP/2", Headers: headers, QueryString: []har.Pair{}, Cookies: []any{}},
			Response: har.Response{Status: 200, HTTPVersion: "HTTP/2", Headers: headers, Cookies: []any{}, Content: har.Content{Size: len(script), MimeType: "text/javascript", Text: script}}}
		switch {
		case i == 1000:
			e.Request.URL = "https://as.example/authorize?response_type=code&client_id=desk&redirect_uri=https%3A%2F%2Fapp.example%2Fcb&state=s"
			e.Response = har.Response{Status: 302, Headers: []har.Pair{{Name: "Location", Value: "https://app.example/cb?code=c-1&state=s"}}}
		case i == 1010:
			e.Request.URL = "https://app.example/cb?code=c-1&state=s"
		case i == 1020:
			e.Request.Method, e.Request.URL = "POST", "https://as.example/token"
			e.Request.PostData = &har.PostData{MimeType: "application/x-www-form-urlencoded", Text: "grant_type=authorization_code&client_id=desk&code=c-1&redirect_uri=https%3A%2F%2Fapp.example%2Fcb%2F"}
			e.Response.Status, e.Response.Content = 400, har.Content{MimeType: "application/json", Text: `{"error":"invalid_grant"}`}
		case i > 2000 && i%10 == 0:
			e.Request.URL = fmt.Sprintf("https://api.example/stations/%d", i)
			e.Request.Headers = append([]har.Pair{{Name: "Authorization", Value: "Bearer opaque-token-0123456789"}}, headers...)
			e.Response.Content = har.Content{MimeType: "application/json", Text: `{"stations":[]}`}
		}
		raw, err := json.Marshal(e)
		if err != nil {
			b.Fatal(err)
		}
		if i > 0 {
			fmt.Fprint(w, ",\n")
		}
		_, _ = w.Write(raw)
	}
	fmt.Fprint(w, "]}}")
	return path
}

// BenchmarkLargeRecord: finding and judging the legs of a large record, against
// decoding the same file with encoding/json; and the program's peak memory
// against the file's size.
func BenchmarkLargeRecord(b *testing.B) {
	path := largeRecord(b)
	info, err := os.Stat(path)
	if err != nil {
		b.Fatal(err)
	}
	ours := func() time.Duration {
		began := time.Now()
		f, err := os.Open(path)
		if err != nil {
			b.Fatal(err)
		}
		defer f.Close()
		bundle, _, err := exhibit.ReadHAR(bufio.NewReaderSize(f, 1<<18), exhibit.Settings{})
		if err != nil || bundle.Judge()[0].ID != "redirect-uri-mismatch" {
			b.Fatal("not found")
		}
		return time.Since(began)
	}
	bare := func() time.Duration {
		began := time.Now()
		raw, err := os.ReadFile(path)
		var doc har.Document
		if err == nil {
			err = json.Unmarshal(raw, &doc)
		}
		if err != nil || len(doc.Log.Entries) != 5000 {
			b.Fatal(err)
		}
		return time.Since(began)
	}
	ratio, mine, theirs := pairs(b, 5, ours, bare)
	b.ReportMetric(ratio, "ratio")
	b.ReportMetric(float64(mine.Milliseconds()), "ms/ours")
	b.ReportMetric(float64(theirs.Milliseconds()), "ms/bare")
	cmd := exec.Command(build(b, "./cmd/tidy-courier"), "explain", "--har", path, "--json")
	cmd.Dir = b.TempDir()
	cmd.Env = append(os.Environ(), "TIDY_COURIER_STATE="+filepath.Join(b.TempDir(), "state"), "TIDY_COURIER_KEYRING=off")
	if out, err := cmd.Output(); err != nil || !strings.Contains(string(out), "redirect-uri-mismatch") {
		b.Fatalf("%v: %s", err, out)
	}
	b.ReportMetric(float64(peak(cmd.ProcessState))*1024/float64(info.Size()), "peak/size")
	b.ReportMetric(float64(info.Size())/1e6, "MB")
}

// BenchmarkExplain: judging one run, a code grant that failed at its exchange.
func BenchmarkExplain(b *testing.B) {
	path := largeRecord(b)
	f, err := os.Open(path)
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	var list []*wire.Exchange
	if _, err := har.Read(f, func(n int, e *har.Entry) error {
		if n == 1001 || n == 1011 || n == 1021 {
			list = append(list, e.Exchange())
		}
		return nil
	}); err != nil {
		b.Fatal(err)
	}
	bundle := exhibit.FromExchanges(list, exhibit.Settings{})
	b.ResetTimer()
	for range b.N {
		if bundle.Judge()[0].ID != "redirect-uri-mismatch" {
			b.Fatal("not found")
		}
	}
}

// recordedRun is a call as rounds record it.
func recordedRun(i int) *run.Run {
	at := time.Now()
	header := headerOf(`Content-Type: application/json`, `Date: Tue, 31 Mar 2026 12:00:00 GMT`)
	return &run.Run{Project: "p", Command: "call", Client: "job", Started: at, Legs: []run.Leg{{N: 1, Kind: run.Call, Method: "GET", URL: fmt.Sprintf("https://h/api/stations?n=%d", i), At: at, Took: time.Millisecond,
		Exchange: &wire.Exchange{Request: wire.Request{Header: headerOf("Authorization: Bearer "+strings.Repeat("token-of-the-office.", 30), "Accept: application/json")},
			Response: &wire.Response{Status: 200, Header: header, Body: bytes.Repeat([]byte(`{"station":"skarvik-quay","level_m":1.347},`), 20)}, Timing: wire.Timing{Total: time.Millisecond}}}}}
}

func headerOf(lines ...string) map[string][]string {
	h := map[string][]string{}
	for _, l := range lines {
		name, value, _ := strings.Cut(l, ": ")
		h[name] = []string{value}
	}
	return h
}

// box seals what the benchmarks of the journal keep.
func box(b *testing.B) *seal.Box {
	b.Helper()
	box, err := seal.NewBox(bytes.Repeat([]byte{7}, seal.KeySize))
	if err != nil {
		b.Fatal(err)
	}
	return box
}

func journalOf(b *testing.B, n int) string {
	b.Helper()
	dir := b.TempDir()
	box := box(b)
	j, err := journal.Open(dir, box)
	if err != nil {
		b.Fatal(err)
	}
	j.Bound("p", journal.Limits{Bytes: 1 << 40})
	set := &mask.Set{}
	set.Add("a-secret-of-the-office")
	for i := range n {
		j.AddBehind(recordedRun(i), set)
	}
	if err := j.Close(); err != nil {
		b.Fatal(err)
	}
	return dir
}

// BenchmarkJournal: listing and showing in a journal of 100,000 runs against one
// of 100, each from opening it to closing it.
func BenchmarkJournal(b *testing.B) {
	box := box(b)
	large, small := journalOf(b, 100_000), journalOf(b, 100)
	use := func(dir string, work func(j *journal.Journal) error) func() time.Duration {
		return func() time.Duration {
			began := time.Now()
			j, err := journal.Open(dir, box)
			if err == nil {
				err = work(j)
			}
			if err != nil {
				b.Fatal(err)
			}
			_ = j.Close()
			return time.Since(began)
		}
	}
	for name, work := range map[string]func(j *journal.Journal) error{
		"list": func(j *journal.Journal) error { _, err := j.List("p", journal.Filter{Limit: 20}); return err },
		"show": func(j *journal.Journal) error {
			o, err := j.Get("p", 50)
			if err == nil {
				_, err = o.Record()
			}
			return err
		},
		"list-of-a-cause-nobody-has": func(j *journal.Journal) error {
			_, err := j.List("p", journal.Filter{Cause: "wrong-secret", Limit: 20})
			return err
		},
	} {
		b.Run(name, func(b *testing.B) {
			ratio, ours, bare := pairs(b, 20, use(large, work), use(small, work))
			b.ReportMetric(ratio, "ratio")
			b.ReportMetric(float64(ours.Microseconds()), "us/100000")
			b.ReportMetric(float64(bare.Microseconds()), "us/100")
		})
	}
}

// BenchmarkRecord: what recording one run costs, waiting for it, against one
// fsync of a file of the same size on the same disk.
func BenchmarkRecord(b *testing.B) {
	dir := b.TempDir()
	box := box(b)
	j, err := journal.Open(dir, box)
	if err != nil {
		b.Fatal(err)
	}
	defer j.Close()
	f, err := os.Create(filepath.Join(dir, "bare"))
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	i := 0
	ratio, ours, bare := pairs(b, 100, func() time.Duration {
		i++
		r := recordedRun(i)
		began := time.Now()
		if _, err := j.Add(r, nil).Wait(); err != nil {
			b.Fatal(err)
		}
		return time.Since(began)
	}, func() time.Duration {
		began := time.Now()
		if _, err := f.Write(make([]byte, 3000)); err != nil || f.Sync() != nil {
			b.Fatal(err)
		}
		return time.Since(began)
	})
	b.ReportMetric(ratio, "ratio-to-fsync")
	b.ReportMetric(float64(ours.Microseconds()), "us/record")
	b.ReportMetric(float64(bare.Microseconds()), "us/fsync")
}
