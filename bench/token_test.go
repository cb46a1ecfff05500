package bench

import (
	"bufio"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"

	"tidycourier/core/pouch"
	"tidycourier/core/seal"
)

// manyTokens is how many lines the stream has; different ones, each of them
// repeated, since making a signature costs fifty times what checking one does.
const (
	manyTokens = 200_000
	different  = 500
)

// tokenFile writes the stream and the key set it verifies with.
func tokenFile(b *testing.B, lines int) (path, jwks string, key *rsa.PrivateKey) {
	b.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		b.Fatal(err)
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: key, KeyID: "RS256-5f0c1a52"}}, (&jose.SignerOptions{}).WithType("at+jwt"))
	if err != nil {
		b.Fatal(err)
	}
	now := time.Now().Unix()
	var tokens []string
	for i := range different {
		claims, _ := json.Marshal(map[string]any{"iss": "https://login.tides.example", "sub": fmt.Sprintf("pilot-%d", i), "aud": "https://tides.example/api", "iat": now, "exp": now + 3600,
			"jti": fmt.Sprintf("lg2jIeVPTb0SORJ9-%d", i), "client_id": "nightly-forecast", "scope": "gauges.read notices.write", "roles": []string{"Gauges.Read.All"}, "auth_time": now - 60})
		jws, err := signer.Sign(claims)
		if err != nil {
			b.Fatal(err)
		}
		raw, _ := jws.CompactSerialize()
		tokens = append(tokens, raw)
	}
	dir := b.TempDir()
	path, jwks = filepath.Join(dir, "tokens.txt"), filepath.Join(dir, "keys.json")
	f, err := os.Create(path)
	if err != nil {
		b.Fatal(err)
	}
	w := bufio.NewWriter(f)
	for i := range lines {
		_, _ = w.WriteString(tokens[i%different] + "\n")
	}
	if err := w.Flush(); err != nil {
		b.Fatal(err)
	}
	_ = f.Close()
	set, _ := json.Marshal(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &key.PublicKey, KeyID: "RS256-5f0c1a52", Algorithm: "RS256", Use: "sig"}}})
	if err := os.WriteFile(jwks, set, 0o600); err != nil {
		b.Fatal(err)
	}
	return path, jwks, key
}

// bare runs work over every line on all cores, as simply as it can be done.
func bare(b *testing.B, path string, work func(line string)) time.Duration {
	b.Helper()
	f, err := os.Open(path)
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	start := time.Now()
	lines := make(chan []string, 4)
	var group sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			for batch := range lines {
				for _, l := range batch {
					work(l)
				}
			}
		})
	}
	s := bufio.NewScanner(f)
	var batch []string
	for s.Scan() {
		if batch = append(batch, s.Text()); len(batch) == 64 {
			lines <- batch
			batch = nil
		}
	}
	lines <- batch
	close(lines)
	group.Wait()
	return time.Since(start)
}

func bareDecode(line string) {
	for _, part := range strings.SplitN(line, ".", 3)[:2] {
		raw, _ := base64.RawURLEncoding.DecodeString(part)
		var m map[string]any
		_ = json.Unmarshal(raw, &m)
	}
}

// throughLines runs decode --lines as a process and returns its time and peak
// in MiB.
func throughLines(b *testing.B, tc, path string, args ...string) (time.Duration, float64) {
	b.Helper()
	f, err := os.Open(path)
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	cmd := exec.Command(tc, append([]string{"decode", "--lines", "--state", b.TempDir()}, args...)...)
	cmd.Env = append(os.Environ(), "TIDY_COURIER_KEYRING=off")
	cmd.Stdin, cmd.Dir = f, b.TempDir() // no Stdout is the null device, without a pipe that costs us cores
	start := time.Now()
	if err := cmd.Run(); err != nil {
		b.Fatal(err)
	}
	return time.Since(start), float64(peak(cmd.ProcessState)) / 1024
}

// BenchmarkLines: decode --lines over 200,000 RS256 tokens against a bare loop
// of base64 and json.Unmarshal into maps; the ratio is of throughput, ours to
// the bare one's.
func BenchmarkLines(b *testing.B) {
	tc := build(b, "./cmd/tidy-courier")
	path, _, _ := tokenFile(b, manyTokens)
	top := 0.0
	ratio, ours, loop := pairs(b, 3, func() time.Duration {
		took, mib := throughLines(b, tc, path)
		top = max(top, mib)
		return took
	}, func() time.Duration { return bare(b, path, bareDecode) })
	b.ReportMetric(1/ratio, "throughput-ratio")
	b.ReportMetric(manyTokens/ours.Seconds(), "tokens/s-ours")
	b.ReportMetric(manyTokens/loop.Seconds(), "tokens/s-bare")
	b.ReportMetric(top, "MiB/peak")
}

// BenchmarkLinesVerify: decode --lines --verify against bare crypto/rsa over the
// same signatures.
func BenchmarkLinesVerify(b *testing.B) {
	tc := build(b, "./cmd/tidy-courier")
	const n = manyTokens / 8
	path, jwks, key := tokenFile(b, n)
	top := 0.0
	ratio, ours, loop := pairs(b, 15, func() time.Duration {
		took, mib := throughLines(b, tc, path, "--verify", "--jwks", jwks)
		top = max(top, mib)
		return took
	}, func() time.Duration {
		return bare(b, path, func(line string) {
			i := strings.LastIndexByte(line, '.')
			signature, _ := base64.RawURLEncoding.DecodeString(line[i+1:])
			sum := sha256.Sum256([]byte(line[:i]))
			if rsa.VerifyPKCS1v15(&key.PublicKey, crypto.SHA256, sum[:], signature) != nil {
				b.Error("a good signature does not verify")
			}
		})
	})
	b.ReportMetric(1/ratio, "throughput-ratio")
	b.ReportMetric(n/ours.Seconds(), "tokens/s-ours")
	b.ReportMetric(n/loop.Seconds(), "tokens/s-bare")
	b.ReportMetric(top, "MiB/peak")
}

// BenchmarkPouchList: pouch list of 10,000 token sets against one of 100.
func BenchmarkPouchList(b *testing.B) {
	tc := build(b, "./cmd/tidy-courier")
	fill := func(n int) string {
		dir := b.TempDir()
		if err := os.Chmod(dir, 0o700); err != nil {
			b.Fatal(err)
		}
		box, _, err := seal.FindKey(dir, func(name string) string { return map[string]string{"TIDY_COURIER_KEYRING": "off"}[name] })
		if err != nil {
			b.Fatal(err)
		}
		p, err := pouch.Open(dir, box)
		if err != nil {
			b.Fatal(err)
		}
		for i := range n {
			life := int64(3600)
			s := &pouch.Set{Server: "northmark", Grant: "client_credentials", AccessToken: strings.Repeat("t", 800), RefreshToken: fmt.Sprintf("rt-%d", i), Scope: []string{"gauges.read"}, ExpiresIn: &life, ObtainedAt: time.Now()}
			s.Settle()
			if err := p.Put(pouch.Key{Client: fmt.Sprintf("client-%05d", i)}, s); err != nil {
				b.Fatal(err)
			}
		}
		_ = p.Close()
		return dir
	}
	few, many := fill(100), fill(10_000)
	list := func(state string) func() time.Duration {
		return func() time.Duration { return once(b, tc, "pouch", "list", "--state", state) }
	}
	ratio, ten, hundred := pairs(b, 9, list(many), list(few))
	b.ReportMetric(ratio, "ratio")
	b.ReportMetric(float64(ten.Milliseconds()), "ms/10000")
	b.ReportMetric(float64(hundred.Milliseconds()), "ms/100")
	b.ReportMetric(float64((ten - 2*hundred).Milliseconds()), "ms-beyond-twice")
}
