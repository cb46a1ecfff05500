// Package bench measures what docs/performance.md reports, as ratios taken in
// one run:
//
//	go test ./bench -run XXX -bench . -benchtime 1x
package bench

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"
)

// build makes a static binary of a package of this module.
func build(b *testing.B, pkg string) string {
	b.Helper()
	out := filepath.Join(b.TempDir(), filepath.Base(pkg))
	cmd := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", out, pkg)
	cmd.Dir = ".."
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if text, err := cmd.CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, text)
	}
	return out
}

func once(b *testing.B, name string, args ...string) time.Duration {
	b.Helper()
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "TIDY_COURIER_KEYRING=off", "NO_COLOR=1")
	start := time.Now()
	if text, err := cmd.CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, text)
	}
	return time.Since(start)
}

func median(d []time.Duration) time.Duration {
	slices.Sort(d)
	return d[len(d)/2]
}

// pairs runs two things in turn and returns the ratio of their medians.
func pairs(b *testing.B, n int, ours, bare func() time.Duration) (ratio float64, a, c time.Duration) {
	b.Helper()
	var x, y []time.Duration
	ours()
	bare()
	for range n {
		x, y = append(x, ours()), append(y, bare())
	}
	a, c = median(x), median(y)
	return float64(a) / float64(c), a, c
}

// BenchmarkStart: the start of the program against that of one that prints a line.
func BenchmarkStart(b *testing.B) {
	tc, one := build(b, "./cmd/tidy-courier"), build(b, "./bench/oneline")
	info, err := os.Stat(tc)
	if err != nil {
		b.Fatal(err)
	}
	token := "eyJhbGciOiJSUzI1NiJ9.eyJpc3MiOiJqb2UiLCJleHAiOjEzMDA4MTkzODB9.c2ln"
	for name, args := range map[string][]string{"version": {"version"}, "decode": {"decode", token}} {
		b.Run(name, func(b *testing.B) {
			ratio, ours, bare := pairs(b, 60, func() time.Duration { return once(b, tc, args...) }, func() time.Duration { return once(b, one) })
			b.ReportMetric(ratio, "ratio")
			b.ReportMetric(float64(ours.Microseconds()), "us/ours")
			b.ReportMetric(float64(bare.Microseconds()), "us/bare")
			b.ReportMetric(float64(info.Size())/(1<<20), "MiB/binary")
		})
	}
}

// BenchmarkCallMemory: the peak memory of one call, as a process.
func BenchmarkCallMemory(b *testing.B) {
	tc, dir := build(b, "./cmd/tidy-courier"), b.TempDir()
	standin := exec.Command(tc, "standin", "--json", "--listen", "127.0.0.1:0", "--project", dir)
	out, err := standin.StdoutPipe()
	if err == nil {
		err = standin.Start()
	}
	if err != nil {
		b.Fatal(err)
	}
	defer func() { _ = standin.Process.Kill(); _ = standin.Wait() }()
	if _, err := out.Read(make([]byte, 64)); err != nil {
		b.Fatal(err)
	}
	for range 5 {
		cmd := exec.Command(tc, "call", "stations", "--file", filepath.Join(dir, "courier.yaml"), "--state", filepath.Join(dir, "state"))
		cmd.Env = append(os.Environ(), "TIDY_COURIER_KEYRING=off")
		var errs bytes.Buffer
		cmd.Stderr = &errs
		if err := cmd.Run(); err != nil {
			b.Fatalf("%v\n%s", err, errs.String())
		}
		b.ReportMetric(float64(peak(cmd.ProcessState))/1024, "MiB/peak")
	}
}
