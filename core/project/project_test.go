package project

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/fault"
)

const sample = `version: 1
values:
  host: http://127.0.0.1:8650
  harbour: skarvik
  api: ${host}/api
stages:
  production: { host: https://tides.example }
servers:
  northmark:
    issuer: ${host}
clients:
  nightly-forecast:                       # no person
    server: northmark
    client_id: nightly-forecast
    client_secret: { env: NIGHTLY_SECRET }
    secret_expires: 2027-02-01
    grant: client_credentials
    scope: [gauges.read]
    parameters:
      token: { audience: "${api}" }
apis:
  gauges:
    base_url: ${api}
    client: nightly-forecast
    headers: { Harbour-Id: "${harbour}" }
calls:
  stations:
    api: gauges
    request: GET /stations
    query: { since: "${now-30d}", day: "${today+1d}", literal: "$${x}" }
    body: { n: 5, yes: true, quoted: "5", list: [a, "${harbour}"] }
    expect: { status: [200, 2xx], json: { "$.a": present } }
    keep: { station: "$.stations[0].id" }
  next:
    api: gauges
    request: GET /stations/${station}
rounds:
  morning: [stations, next]
`

var noon = time.Date(2026, 3, 31, 12, 0, 0, 500, time.UTC)

func open(t *testing.T, text string, opt Options) (*Project, error) {
	t.Helper()
	dir := t.TempDir()
	path := filepath.Join(dir, FileName)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	opt.WorkDir = dir
	opt.Now = func() time.Time { return noon }
	if opt.LookupEnv == nil {
		opt.LookupEnv = func(string) (string, bool) { return "", false }
	}
	return Open(path, opt)
}

func mustOpen(t *testing.T, text string, opt Options) *Project {
	t.Helper()
	p, err := open(t, text, opt)
	require.NoError(t, err)
	return p
}

func TestResolveWithPlaces(t *testing.T) {
	p := mustOpen(t, sample, Options{})
	c, err := p.Client("nightly-forecast")
	require.NoError(t, err)
	assert.Equal(t, Setting{Value: "nightly-forecast", Where: "courier.yaml:14:16"}, c.ClientID)
	assert.Equal(t, "courier.yaml:18:12", c.Scope.Where)
	assert.Equal(t, "http://127.0.0.1:8650", c.Server.Issuer.Value)
	assert.Equal(t, []string{"${host} from values (courier.yaml:3:9)"}, c.Server.Issuer.From)
	assert.Equal(t, "http://127.0.0.1:8650/api", c.Params("token")[0].Value, "a value may use another")

	call, err := p.Call("stations")
	require.NoError(t, err)
	assert.Equal(t, []string{"GET", "/stations"}, []string{call.Method, call.Path})
	got := map[string]string{}
	for _, q := range call.Query {
		got[q.Name] = q.Value
	}
	assert.Equal(t, map[string]string{"since": "2026-03-01T12:00:00Z", "day": "2026-04-01", "literal": "${x}"}, got)
	assert.Equal(t, `{"n":5,"yes":true,"quoted":"5","list":["a","skarvik"]}`, call.Body.Value)
	assert.Equal(t, []string{"200", "2xx"}, call.Expect.Status.Values)
}

func TestWhereValuesComeFrom(t *testing.T) {
	opt := Options{Stage: "production", Set: map[string]string{"harbour": "ternby"}, Kept: map[string]string{"station": "quay", "host": "kept"}}
	p := mustOpen(t, strings.Replace(sample, "harbour: skarvik", "harbour: ${env.HARBOUR}", 1), opt)
	api, err := p.API("gauges")
	require.NoError(t, err)
	assert.Equal(t, "ternby", api.Headers[0].Value, "--set wins")
	next, err := p.Call("next")
	require.NoError(t, err)
	assert.Equal(t, "/stations/quay", next.Path)
	s, err := p.Server("northmark")
	require.NoError(t, err)
	assert.Equal(t, "kept", s.Issuer.Value, "a kept value wins over the stage")
	p.UseKept(nil)
	s, err = p.Server("northmark")
	require.NoError(t, err)
	assert.Equal(t, "https://tides.example", s.Issuer.Value, "the stage wins over values")
}

func TestUnresolvedNamesEverything(t *testing.T) {
	p := mustOpen(t, sample, Options{})
	_, err := p.Call("next")
	f := fault.As(err)
	assert.Equal(t, fault.Settings, f.Kind)
	assert.Equal(t, "courier.yaml:36:14", f.Where)
	assert.Contains(t, f.Message, "${station}")
	assert.Contains(t, f.Message, "nothing was sent")
	assert.Contains(t, f.Next, "tidy-courier call stations", "the call that keeps it")
	for text, want := range map[string]string{"${hots}": "${host}", "${env.NOPE}": ".env", "${host": "not closed", "${loop}": "circle"} {
		p := mustOpen(t, strings.Replace(strings.Replace(sample, "issuer: ${host}", "issuer: "+Quote(text), 1), "values:", "values:\n  loop: ${loop}", 1), Options{})
		_, err := p.Server("northmark")
		f := fault.As(err)
		assert.Contains(t, f.Message+f.Next, want, text)
	}
}

func TestStrictReading(t *testing.T) {
	tests := []struct{ from, to, where, says string }{
		{"    issuer:", "    isuer:", "courier.yaml:10:5", "issuer"},
		{"clients:", "client:", "courier.yaml:11:1", "clients"},
		{"grant: client_credentials", "grant: client_credential", "courier.yaml:17:12", "client_credentials"},
		{"server: northmark", "server: nortmark", "courier.yaml:13:13", "northmark"},
		{"scope: [gauges.read]", "scope: { a: b }", "courier.yaml:18:12", "list"},
		{"{ env: NIGHTLY_SECRET }", "{ enw: NIGHTLY_SECRET }", "courier.yaml:15:22", "env"},
		{"{ env: NIGHTLY_SECRET }", "{ env: A, file: B }", "courier.yaml:15:20", "exactly one"},
		{"2027-02-01", "soon", "courier.yaml:16:21", "date"},
		{"status: [200, 2xx]", "status: 2000", "courier.yaml:32:23", "2xx"},
		{"rounds:\n  morning: [stations, next]", "rounds:\n  morning: [station]", "courier.yaml:38:13", "stations"},
		{"    server: northmark\n", "    server: northmark\n    server: northmark\n", "courier.yaml:14:5", "already defined"},
		{"version: 1", "version: 2", "courier.yaml:1:10", "version"},
		{"version: 1\n", "", "courier.yaml:1:", "version: 1"},
		{"client_id: nightly-forecast", "client_id: &a x", "courier.yaml:14:", "anchors"},
		{"values:", "values: [", "courier.yaml:", "YAML"},
		{"client_id: nightly-forecast", "client_id:", "courier.yaml:14:5", "no value"},
		{"  nightly-forecast: ", "  \"nightly forecast\": ", "courier.yaml:12:3", "usable name"},
	}
	for _, tt := range tests {
		require.Contains(t, sample, tt.from)
		_, err := open(t, strings.Replace(sample, tt.from, tt.to, 1), Options{})
		require.Error(t, err, tt.to)
		f := fault.As(err)
		assert.Equal(t, fault.Settings, f.Kind, tt.to)
		assert.True(t, strings.HasPrefix(f.Where, tt.where), "%s: %s is not at %s (%s)", tt.to, f.Where, tt.where, f.Message)
		assert.Contains(t, f.Message+" "+f.Next, tt.says, tt.to)
	}
}

func TestSecretSources(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "secret")
	require.NoError(t, os.WriteFile(file, []byte("from-file\n"), 0o600))
	env := func(n string) (string, bool) { return "from-env", n == "NIGHTLY_SECRET" }
	tests := []struct{ source, want, failure string }{
		{"{ env: NIGHTLY_SECRET }", "from-env", ""},
		{"{ env: OTHER }", "", "OTHER"},
		{"{ file: " + file + " }", "from-file\n", ""},
		{"{ file: nowhere }", "", "nowhere"},
		{"{ command: [printf, 'first\\nsecond'] }", "first", ""},
		{"{ command: [sh, -c, 'echo locked >&2; exit 3'] }", "", "locked"},
		{"{ command: ['true'] }", "", "printed nothing"},
		{"{ ask: true }", "typed", ""},
		{"literal", "literal", ""},
	}
	for _, tt := range tests {
		p := mustOpen(t, strings.Replace(sample, "{ env: NIGHTLY_SECRET }", tt.source, 1), Options{LookupEnv: env})
		c, err := p.Client("nightly-forecast")
		require.NoError(t, err)
		got, err := p.Read(context.Background(), c.Secret, func(string) (string, error) { return "typed", nil })
		if tt.failure != "" {
			require.Error(t, err, tt.source)
			assert.Contains(t, err.Error(), tt.failure)
			assert.NotEmpty(t, fault.As(err).Where)
			continue
		}
		require.NoError(t, err, tt.source)
		assert.Equal(t, tt.want, got, "given as it is, edges and all")
		assert.NotContains(t, c.Secret.String(), tt.want)
	}
	p := mustOpen(t, strings.Replace(sample, "{ env: NIGHTLY_SECRET }", "{ ask: true }", 1), Options{})
	c, _ := p.Client("nightly-forecast")
	_, err := p.Read(context.Background(), c.Secret, nil)
	assert.ErrorContains(t, err, "no terminal")
}

func TestDotenvNeverQuotesSecrets(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, FileName), []byte(sample), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".env"), []byte("A='x y$z'\nNIGHTLY_SECRET='canary-7731\n"), 0o600))
	_, err := Open(filepath.Join(dir, FileName), Options{WorkDir: dir})
	require.Error(t, err)
	assert.NotContains(t, err.Error()+fault.As(err).Next, "canary-7731")
	pairs := []KV{{"A", "plain"}, {"B", "it's $HOME #1"}, {"C", "a $b"}}
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".env"), AppendEnv([]byte("A=kept"), pairs), 0o600))
	p, err := Open(filepath.Join(dir, FileName), Options{WorkDir: dir, LookupEnv: func(string) (string, bool) { return "", false }})
	require.NoError(t, err)
	for name, want := range map[string]string{"A": "kept", "B": "it's $HOME #1", "C": "a $b"} {
		got, _, ok := p.Env(name)
		assert.True(t, ok)
		assert.Equal(t, want, got, "what is written comes back")
	}
}

func TestEdgeWhitespace(t *testing.T) {
	for v, want := range map[string]string{"a": "", "a\n": "ends with a newline", " a": "begins with a space", "\ta\r\n": "begins with a tab and ends with a carriage return and newline", "a  ": "ends with 2 white-space characters"} {
		assert.Equal(t, want, EdgeWhitespace(v), "%q", v)
	}
}

func TestPutKeepsComments(t *testing.T) {
	fields := []KV{{"issuer", "https://x.example"}, {"token_endpoint", "https://x.example/token"}}
	out, err := Put([]byte(sample), FileName, "servers", "northmark", fields)
	require.NoError(t, err)
	want := strings.Replace(sample, "    issuer: ${host}\n", "    issuer: https://x.example\n    token_endpoint: https://x.example/token\n", 1)
	assert.Equal(t, want, string(out))

	out, err = Put([]byte(sample), FileName, "servers", "other", fields)
	require.NoError(t, err)
	assert.Contains(t, string(out), "    issuer: ${host}\n  other:\n    issuer: https://x.example\n    token_endpoint: https://x.example/token\nclients:")

	commented := strings.Replace(sample, "issuer: ${host}", "issuer: ${host}   # the office", 1)
	out, err = Put([]byte(commented), FileName, "servers", "northmark", fields[:1])
	require.NoError(t, err)
	assert.Contains(t, string(out), "issuer: https://x.example   # the office\n")

	for _, src := range []string{"version: 1\n", "version: 1\nservers:\n", "version: 1"} {
		out, err = Put([]byte(src), FileName, "servers", "new", fields)
		require.NoError(t, err, src)
		assert.Contains(t, string(out), "servers:\n  new:\n    issuer: https://x.example\n")
	}
	_, err = Put([]byte("version: 1\nservers: {}\n"), FileName, "servers", "new", fields)
	assert.ErrorContains(t, err, "braces")
}

func TestRegistration(t *testing.T) {
	// RFC 7591 3.2.1, and the same one level down
	answer := `{"client_id":"s6BhdRkqt3","client_secret":"cf136dc3c1fc93f31185e5885805d","client_secret_expires_at":1577858400,"redirect_uris":["https://client.example.org/callback"],
		"grant_types":["refresh_token","authorization_code"],"client_name":"My Example Client","token_endpoint_auth_method":"client_secret_basic"}`
	for _, body := range []string{answer, `{"client":` + answer + `}`} {
		s, err := ReadRegistration([]byte(body))
		require.NoError(t, err)
		require.NoError(t, s.Fill())
		assert.Equal(t, "my-example-client", s.Client)
		assert.Equal(t, "2020-01-01", s.Expires)
		assert.Equal(t, "authorization_code", s.Grant)
		assert.NotContains(t, string(s.CourierFile()), s.Secret, "the secret goes to .env")
		_, err = open(t, string(s.CourierFile()), Options{})
		assert.NoError(t, err, "what init writes can be read")
		assert.Equal(t, []KV{{"MY_EXAMPLE_CLIENT_SECRET", "cf136dc3c1fc93f31185e5885805d"}}, s.EnvLines())
	}
	for _, bad := range []string{`[]`, `{"x":1}`, `{"client_id":5}`} {
		_, err := ReadRegistration([]byte(bad))
		assert.Error(t, err, bad)
	}
}

func FuzzCourierFile(f *testing.F) {
	f.Add([]byte(sample))
	f.Add([]byte("version: 1\nclients: {a: {scope: b}}"))
	f.Fuzz(func(t *testing.T, src []byte) {
		root, err := parse(src, FileName)
		if err != nil {
			if fault.As(err).Kind != fault.Settings {
				t.Fatalf("an error without a kind: %v", err)
			}
			return
		}
		if check(root) != nil {
			return
		}
		p := &Project{root: root, path: FileName, opt: Options{WorkDir: "."}}
		p.defaults()
		for _, name := range p.Names("clients") {
			_, _ = p.Client(name)
		}
		for _, name := range p.Names("calls") {
			_, _ = p.Call(name)
		}
	})
}

func TestStaticCallsAreTheSameEachTime(t *testing.T) {
	path := filepath.Join(t.TempDir(), "courier.yaml")
	require.NoError(t, os.WriteFile(path, []byte(`version: 1
values: { where: /x }
apis:
  plain: { base_url: "https://h" }
  moving: { base_url: "https://${where}" }
calls:
  fixed: { api: plain, request: GET /a, query: { n: 1 } }
  dated: { api: plain, request: GET /a, query: { since: "${now - 1d}" } }
  elsewhere: { api: moving, request: GET /a }
  upload: { api: plain, request: POST /a, upload: { f: "@x" } }
  anywhere: { request: GET https://h/a }
`), 0o600))
	p, err := Open(path, Options{})
	require.NoError(t, err)
	for name, want := range map[string]bool{"fixed": true, "dated": false, "elsewhere": false, "upload": false, "anywhere": false, "none": false} {
		assert.Equal(t, want, p.Static(name), name)
	}
	assert.Same(t, p, p.WithKept(nil))
	kept := p.WithKept(map[string]string{"a": "1"})
	assert.False(t, p.SameKept(kept))
	assert.True(t, kept.SameKept(p.WithKept(map[string]string{"a": "1"})))
}
