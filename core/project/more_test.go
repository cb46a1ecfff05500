package project

import (
	"context"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/fault"
)

func TestOverrideLaysFlagsOverTheFile(t *testing.T) {
	p := mustOpen(t, sample, Options{LookupEnv: func(n string) (string, bool) { return "from-" + n, true }})
	require.NoError(t, p.Override("clients", "nightly-forecast", []Given{
		{Field: "scope", Value: "a  b", Flag: "--scope"},
		{Field: "client_secret", Value: "OTHER", Source: "env", Flag: "--secret-env"},
		{Field: "grant", Value: "password", Flag: "--grant"},
	}))
	p.OverrideParam("nightly-forecast", "token", "audience", "x", "--param")
	p.OverrideParam("nightly-forecast", "authorization", "acr_values", "y", "--param")
	c, err := p.Client("nightly-forecast")
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, c.Scope.Values)
	assert.Equal(t, "--scope", c.Scope.Where)
	assert.Equal(t, "password", c.Grant.Value)
	assert.Equal(t, "nightly-forecast", c.ClientID.Value, "what no flag names stays")
	secret, err := p.Read(context.Background(), c.Secret, nil)
	require.NoError(t, err)
	assert.Equal(t, "from-OTHER", secret)
	assert.Equal(t, "x", c.Params("token")[0].Value)
	assert.Equal(t, "--param", c.Parameters["authorization"][0].Where)

	err = p.Override("clients", "nightly-forecast", []Given{{Field: "grant", Value: "pasword", Flag: "--grant"}})
	f := fault.As(err)
	assert.Equal(t, fault.Usage, f.Kind, "a wrong flag is about usage, not about the file")
	assert.Equal(t, "--grant", f.Where)
	assert.Contains(t, f.Next, "password")
}

func TestAProjectOfFlagsAlone(t *testing.T) {
	p := Empty(Options{WorkDir: t.TempDir()})
	_, err := p.Client("x")
	assert.Contains(t, fault.As(err).Next, "tidy-courier init")
	require.NoError(t, p.Override("clients", "x", []Given{{Field: "server", Value: "s", Flag: "flags"}, {Field: "client_id", Value: "id", Flag: "--client-id"},
		{Field: "client_secret", Source: "command", Args: []string{"printf", "hush"}, Flag: "--secret-command"}}))
	p.EnsureServer("s")
	c, err := p.Client("x")
	require.NoError(t, err)
	assert.Equal(t, "id", c.ClientID.Value)
	secret, err := p.Read(context.Background(), c.Secret, nil)
	require.NoError(t, err)
	assert.Equal(t, "hush", secret)
	assert.Empty(t, p.Key(), "no file, no project")
	assert.Equal(t, p.opt.WorkDir, p.Dir())
}

func TestWhatIsWrittenReadsBackTheSame(t *testing.T) {
	p := mustOpen(t, sample, Options{})
	require.NoError(t, p.Override("clients", "nightly-forecast", []Given{{Field: "redirect_uri", Value: "http://127.0.0.1:8651/a: b", Flag: "--redirect-uri"},
		{Field: "username", Value: "true", Flag: "--username"}, {Field: "password", Source: "command", Args: []string{"secret-reader", "a, b"}, Flag: "--password-command"}}))
	c, err := p.Client("nightly-forecast")
	require.NoError(t, err)
	src, err := Put([]byte("version: 1\n"), FileName, "servers", "northmark", c.Server.Fields())
	require.NoError(t, err)
	src, err = Put(src, FileName, "clients", "again", append([]KV{{"server", "northmark"}}, c.Fields()...))
	require.NoError(t, err)
	again, err := mustOpen(t, string(src), Options{}).Client("again")
	require.NoError(t, err, string(src))
	assert.Equal(t, c.RedirectURI.Value, again.RedirectURI.Value)
	assert.Equal(t, c.Username.Value, again.Username.Value)
	assert.Equal(t, c.Scope.Values, again.Scope.Values)
	assert.Equal(t, c.Params("token"), again.Params("token"))
	assert.Equal(t, c.Secret.Env, again.Secret.Env)
	assert.Equal(t, c.Password.Command, again.Password.Command)
	assert.Equal(t, c.Server.Issuer.Value, again.Server.Issuer.Value)
}

func TestQuote(t *testing.T) {
	for _, text := range []string{"plain", "a b", "true", "null", "", " edge", "a: b", "a #b", "- x", `"quoted"`, "it's", "[a]", "{a}", "*x", "&x", "a,b", "%x", "@x", "`x", "colon:", "line\nbreak", "tab\t", `back\slash`, "${host}/x"} {
		src := "version: 1\nvalues:\n  v: " + Quote(text) + "\n"
		root, err := parse([]byte(src), FileName)
		require.NoError(t, err, src)
		assert.Equal(t, text, root.get("values").get("v").text, src)
	}
	root, err := parse([]byte("version: 1\nclients: { c: { scope: "+QuoteList([]string{"a", "b c", "d,e", "[f]"})+" } }"), FileName)
	require.NoError(t, err)
	var got []string
	for _, item := range root.get("clients").get("c").get("scope").items {
		got = append(got, item.text)
	}
	assert.Equal(t, []string{"a", "b c", "d,e", "[f]"}, got)
}

func TestDescribe(t *testing.T) {
	p := mustOpen(t, sample, Options{LookupEnv: func(string) (string, bool) { return "hush-hush", true }})
	lines, err := p.Describe("clients", "nightly-forecast")
	require.NoError(t, err)
	byKey := map[string]Line{}
	for _, l := range lines {
		byKey[l.Key] = l
		assert.NotContains(t, l.Value, "hush-hush")
	}
	assert.Equal(t, "[environment variable NIGHTLY_SECRET]", byKey["client_secret"].Value)
	assert.Equal(t, "http://127.0.0.1:8650/api", byKey["parameters.token.audience"].Value)
	assert.Equal(t, "gauges.read", byKey["scope"].Value)
	lines, err = p.Describe("calls", "stations")
	require.NoError(t, err)
	assert.Contains(t, lines, Line{Key: "body", Value: `{"n":5,"yes":true,"quoted":"5","list":["a","skarvik"]}`, Where: "courier.yaml:31:11"})
	_, err = p.Describe("calls", "next")
	assert.ErrorContains(t, err, "${station}")
	assert.Equal(t, []string{"calls"}, p.Find("stations"))
	assert.Empty(t, p.Find("nobody"))
}

// The schema is made from the same table as the reader, and says the same.
func TestSchemaKnowsEveryKey(t *testing.T) {
	raw, err := json.Marshal(Schema())
	require.NoError(t, err)
	for _, d := range Reference() {
		assert.Contains(t, string(raw), `"`+d.Name+`":`, d.Section)
		assert.NotEmpty(t, d.Doc, d.Name)
	}
	var doc struct {
		AdditionalProperties bool                       `json:"additionalProperties"`
		Properties           map[string]json.RawMessage `json:"properties"`
	}
	require.NoError(t, json.Unmarshal(raw, &doc))
	assert.False(t, doc.AdditionalProperties)
	assert.Len(t, doc.Properties, len(fileShape.Fields))
}

func TestNestingAndSizeAreBounded(t *testing.T) {
	_, err := parse([]byte("version: "+strings.Repeat("[", 40)+strings.Repeat("]", 40)), FileName)
	assert.ErrorContains(t, err, "deeper")
	_, err = parse(make([]byte, MaxFile+1), FileName)
	assert.ErrorContains(t, err, "larger")
	_, err = parse([]byte("a: 1\n---\nb: 2\n"), FileName)
	assert.ErrorContains(t, err, "one document")
	_, err = parse([]byte("- a\n"), FileName)
	assert.ErrorContains(t, err, "mapping")
}

func TestSecretVariable(t *testing.T) {
	assert.Equal(t, "NIGHTLY_FORECAST_SECRET", SecretVariable("nightly-forecast"))
	assert.Equal(t, "MY_APP_2_SECRET", SecretVariable("My App (2)"))
}
