// Package corpus records the exchanges that the rules are measured on.
package corpus

import (
	"crypto/rsa"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"tidycourier/core/har"
	"tidycourier/standin"
)

// kase is one case of the corpus.
type kase struct {
	id     string
	cause  string           // it must name first; "" for a healthy run
	client func(l *lab) who // whose settings stand beside it; nil for none
	real   bool             // recorded from the real server too
	record func(c *run)
}

// TestRecord records the corpus anew: interop/record starts the real server, and
// runs it with the server's issuer in RECORD_REAL and the signer's private key
// (PEM) in RECORD_KEY. What it writes is what core/finding is measured on.
func TestRecord(t *testing.T) {
	real := os.Getenv("RECORD_REAL")
	if real == "" {
		t.Skip("SKIPPED: interop/record records the corpus")
	}
	out := filepath.Join("..", "..", "testdata", "corpus")
	labs := []*lab{standIn(), realServer(real, os.Getenv("RECORD_KEY"))}
	if err := os.RemoveAll(out); err != nil {
		fatal(err)
	}
	var group sync.WaitGroup
	for _, l := range labs {
		group.Go(func() {
			for _, k := range cases(l) {
				if err := write(out, l, k); err != nil {
					fatal(err)
				}
			}
		})
	}
	group.Wait()
}

func fatal(err error) {
	fmt.Fprintln(os.Stderr, err)
	os.Exit(1)
}

func write(out string, l *lab, k kase) error {
	c := &run{recorder: newRecorder(), l: l}
	c.noise(2)
	k.record(c)
	c.noise(1)
	dir := filepath.Join(out, l.name+"-"+k.id)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	raw, err := compact(c.document())
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "exchange.har"), indent(raw), 0o644); err != nil {
		return err
	}
	about := map[string]string{"cause": k.cause, "source": l.name}
	if k.client != nil {
		w := k.client(l)
		about["client"] = "client"
		if err := os.WriteFile(filepath.Join(dir, "courier.yaml"), []byte(c.settings(w)), 0o644); err != nil {
			return err
		}
		if w.secret != "" {
			if err := os.WriteFile(filepath.Join(dir, ".env"), []byte("CLIENT_SECRET='"+w.secret+"'\n"), 0o644); err != nil {
				return err
			}
		}
	}
	raw, err = json.MarshalIndent(about, "", " ")
	if err != nil {
		return err
	}
	fmt.Println(dir)
	return os.WriteFile(filepath.Join(dir, "case.json"), indent(raw), 0o644)
}

// compact writes a document with a line for each entry.
func compact(d *har.Document) ([]byte, error) {
	entries := d.Log.Entries
	d.Log.Entries = []har.Entry{}
	head, err := json.Marshal(d)
	if err != nil {
		return nil, err
	}
	var lines []string
	for _, e := range entries {
		raw, err := json.Marshal(e)
		if err != nil {
			return nil, err
		}
		lines = append(lines, string(raw))
	}
	return []byte(strings.Replace(string(head), `"entries":[]`, "\"entries\":[\n"+strings.Join(lines, ",\n")+"]", 1)), nil
}

// standIn is the simulated provider, in this process.
func standIn(faults ...string) *lab { return standInWith(standin.ApproveAuto, faults...) }

func standInWith(approve string, faults ...string) *lab {
	srv := httptest.NewUnstartedServer(nil)
	base := "http://" + srv.Listener.Addr().String()
	s, err := standin.New(standin.Config{Issuer: base, Approve: approve, AsUser: "pilot", Faults: faults})
	if err != nil {
		fatal(err)
	}
	srv.Config.Handler = http.Handler(s.Handler())
	srv.Start()
	l := &lab{name: "standin", base: base, auth: base + "/authorize", token: base + "/token", me: base + "/userinfo", intro: base + "/introspect", revoke: base + "/revoke", jwks: base + "/jwks", scope: "openid gauges.read offline_access",
		public: who{"pilot-desk", "", "none", "http://127.0.0.1:8651/landing", "authorization_code"},
		basic:  who{"harbour-portal", "hp/2Gang~Way+55&=", "client_secret_basic", "http://127.0.0.1:8652/portal/callback", "authorization_code"},
		post:   who{"ledger-sync", "ls&4mRopes Tar:88+kelp", "client_secret_post", "", "client_credentials"},
		job:    who{"nightly-forecast", "nf-9Qx2+Lw7/Tide~41=%", "client_secret_basic", "", "client_credentials"}}
	l.fork, l.pages = standIn, func() *lab { return standInWith(standin.ApprovePage) }
	return l
}

func realServer(issuer, keyFile string) *lab {
	l := &lab{name: "real", base: issuer, auth: issuer + "/auth", token: issuer + "/token", me: issuer + "/me", intro: issuer + "/token/introspection", revoke: issuer + "/token/revocation", jwks: issuer + "/jwks", device: issuer + "/device/auth", par: issuer + "/request",
		scope:  "openid gauges.read offline_access",
		public: who{"desk", "", "none", "http://127.0.0.1:8651/landing", "authorization_code"},
		basic:  who{"portal-basic", "kelp+brine/55&=%", "client_secret_basic", "http://127.0.0.1:8653/callback", "authorization_code"},
		post:   who{"portal-post", "rope & tar: 9+1", "client_secret_post", "http://127.0.0.1:8653/callback", "authorization_code"},
		job:    who{"job", "night*watch~7", "client_secret_basic", "", "client_credentials"}}
	if keyFile != "" {
		l.signer = readKey(keyFile)
	}
	return l
}

func readKey(path string) *rsa.PrivateKey {
	raw, err := os.ReadFile(path)
	if err != nil {
		fatal(err)
	}
	block, _ := pem.Decode(raw)
	if block == nil {
		fatal(fmt.Errorf("%s holds no PEM block", path))
	}
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		fatal(err)
	}
	key, ok := k.(*rsa.PrivateKey)
	if !ok {
		fatal(fmt.Errorf("%s holds no RSA key", path))
	}
	return key
}

func cases(l *lab) []kase {
	return concat(tokenCases(l), frontCases(l), callCases(l), healthyCases(l))
}

func concat(lists ...[]kase) []kase {
	var out []kase
	for _, l := range lists {
		out = append(out, l...)
	}
	return out
}
