package journal

import (
	"bytes"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/seal"
	"tidycourier/core/sqlfile"
	"tidycourier/core/wire"
)

func TestRunsAreKeptPerProjectAndSealed(t *testing.T) {
	dir := t.TempDir()
	box, err := seal.NewBox(bytes.Repeat([]byte{3}, seal.KeySize))
	require.NoError(t, err)
	j, err := Open(dir, box)
	require.NoError(t, err)
	defer j.Close()
	at := time.UnixMilli(1700000000123)
	add := func(project string, r run.Run) (int64, error) { r.Project = project; return j.Add(&r, nil).Wait() }
	n, err := add("p", run.Run{Command: "obtain", Client: "job", Started: at, Error: &run.Failure{Kind: "authorization"},
		Findings: []run.Finding{{ID: "scope-narrowed", Note: true}, {ID: "wrong-secret"}}})
	require.NoError(t, err)
	m, err := add("p", run.Run{Command: "call", Client: "job", Started: at, Call: "needle-in-the-call"})
	require.NoError(t, err)
	_, err = add("q", run.Run{Command: "discover", Started: at})
	require.NoError(t, err)
	list, err := j.List("p", Filter{Limit: 10})
	require.NoError(t, err)
	assert.Equal(t, []Summary{{N: m, Client: "job", Command: "call", Outcome: "ok", Started: at.UTC()},
		{N: n, Client: "job", Command: "obtain", Outcome: "authorization", Cause: "wrong-secret", Started: at.UTC()}}, list)
	last, err := j.Get("p", 0)
	require.NoError(t, err)
	assert.Equal(t, m, last.N)
	_, err = j.Get("q", n)
	assert.ErrorIs(t, err, ErrNone, "another project's run is not shown")
	for _, f := range []string{"journal.db", "journal.db-wal"} {
		raw, err := os.ReadFile(filepath.Join(dir, f))
		require.NoError(t, err)
		assert.NotContains(t, string(raw), "needle")
	}
}

func TestSpent(t *testing.T) {
	box, _ := seal.NewBox(bytes.Repeat([]byte{3}, seal.KeySize))
	j, err := Open(t.TempDir(), box)
	require.NoError(t, err)
	defer j.Close()
	s, err := j.WasSpent("p", "code", "aa")
	require.NoError(t, err)
	assert.Nil(t, s)
	at := time.UnixMilli(1700000000000).UTC()
	require.NoError(t, j.Spend("p", "code", "aa", Spent{4, "job", at}))
	require.NoError(t, j.Spend("p", "code", "aa", Spent{9, "job", at}))
	s, err = j.WasSpent("p", "code", "aa")
	require.NoError(t, err)
	assert.Equal(t, &Spent{4, "job", at}, s, "the first use counts")
}

// A series handed over at once is stored whole and in order, also when the
// journal is closed straight after.
func TestASeriesIsStoredInOrder(t *testing.T) {
	dir := t.TempDir()
	box, _ := seal.NewBox(bytes.Repeat([]byte{3}, seal.KeySize))
	j, err := Open(dir, box)
	require.NoError(t, err)
	for i := range 3 * maxBatch {
		rec := &run.Run{Project: "p", Command: "call", Client: strconv.Itoa(i), Started: time.Now()}
		if i%10 == 3 { // somebody waits for this one, in the middle of the series
			_, err := j.Add(rec, nil).Wait()
			require.NoError(t, err)
			continue
		}
		j.AddBehind(rec, nil)
	}
	require.NoError(t, j.Close())
	j, err = Open(dir, box)
	require.NoError(t, err)
	defer j.Close()
	list, err := j.List("p", Filter{})
	require.NoError(t, err)
	require.Len(t, list, 3*maxBatch)
	for i, s := range list {
		assert.Equal(t, strconv.Itoa(3*maxBatch-1-i), s.Client)
	}
}

func TestWhatASeriesLostIsTold(t *testing.T) {
	box, _ := seal.NewBox(bytes.Repeat([]byte{3}, seal.KeySize))
	j, err := Open(t.TempDir(), box)
	require.NoError(t, err)
	_, err = j.db.Exec("DROP TABLE runs")
	require.NoError(t, err)
	j.AddBehind(&run.Run{Project: "p", Command: "call"}, nil)
	assert.ErrorContains(t, j.Close(), "runs")
}

// series records n runs of two clients, a second apart, every third refused.
func series(t *testing.T, j *Journal, n int, from time.Time) {
	t.Helper()
	for i := range n {
		r := &run.Run{Project: "p", Command: "call", Client: []string{"job", "desk"}[i%2], Started: from.Add(time.Duration(i) * time.Second)}
		if i%3 == 0 {
			r.Error, r.Findings = &run.Failure{Kind: "api"}, []run.Finding{{ID: "token-expired"}}
		}
		_, err := j.Add(r, nil).Wait()
		require.NoError(t, err)
	}
}

func TestAListIsFiltered(t *testing.T) {
	box, _ := seal.NewBox(bytes.Repeat([]byte{3}, seal.KeySize))
	j, err := Open(t.TempDir(), box)
	require.NoError(t, err)
	defer j.Close()
	from := time.Now().Add(-time.Minute).Truncate(time.Second)
	series(t, j, 12, from)
	for _, c := range []struct {
		f    Filter
		want []int64
	}{
		{Filter{Limit: 2}, []int64{12, 11}},
		{Filter{Limit: 2, OldestFirst: true}, []int64{1, 2}},
		{Filter{Client: "desk", Outcome: "failed"}, []int64{10, 4}},
		{Filter{Outcome: "ok", Client: "job"}, []int64{11, 9, 5, 3}},
		{Filter{Outcome: "api", Cause: "token-expired", Since: from.Add(5 * time.Second)}, []int64{10, 7}},
		{Filter{Until: from.Add(2 * time.Second)}, []int64{2, 1}},
		{Filter{After: 10}, []int64{12, 11}},
		{Filter{Command: "obtain"}, nil},
		{Filter{Cause: "x' OR 1=1 --"}, nil},
	} {
		list, err := j.List("p", c.f)
		require.NoError(t, err)
		var got []int64
		for _, s := range list {
			got = append(got, s.N)
		}
		assert.Equal(t, c.want, got, "%+v", c.f)
	}
}

func TestLimitsDropTheOldest(t *testing.T) {
	box, _ := seal.NewBox(bytes.Repeat([]byte{3}, seal.KeySize))
	j, err := Open(t.TempDir(), box)
	require.NoError(t, err)
	defer j.Close()
	j.Bound("p", Limits{Bytes: 4000})
	series(t, j, 3*pruneEvery, time.Now().Add(-time.Hour))
	list, err := j.List("p", Filter{})
	require.NoError(t, err)
	assert.Less(t, len(list), pruneEvery, "kept by size")
	assert.Equal(t, int64(3*pruneEvery), list[0].N, "the newest stays")

	old := &run.Run{Project: "q", Command: "obtain", Started: time.Now().Add(-100 * 24 * time.Hour)}
	n, err := j.Add(old, nil).Wait()
	require.NoError(t, err)
	for range pruneEvery {
		_, err := j.Add(&run.Run{Project: "q", Command: "obtain", Started: time.Now()}, nil).Wait()
		require.NoError(t, err)
	}
	_, err = j.Get("q", n)
	assert.ErrorIs(t, err, ErrNone, "kept by age")
	list, err = j.List("q", Filter{})
	require.NoError(t, err)
	assert.Len(t, list, pruneEvery)
}

func TestClearing(t *testing.T) {
	box, _ := seal.NewBox(bytes.Repeat([]byte{3}, seal.KeySize))
	dir := t.TempDir()
	j, err := Open(dir, box)
	require.NoError(t, err)
	defer j.Close()
	from := time.Now().Add(-time.Hour)
	series(t, j, 6, from)
	require.NoError(t, j.Spend("p", "code", "aa", Spent{Run: 3, Client: "job", At: from}))
	other, err := j.Add(&run.Run{Project: "q", Started: from}, nil).Wait()
	require.NoError(t, err)
	n, err := j.Clear("p", from.Add(2*time.Second))
	require.NoError(t, err)
	assert.Equal(t, int64(2), n)
	n, err = j.Clear("p", time.Time{})
	require.NoError(t, err)
	assert.Equal(t, int64(4), n)
	_, err = j.Get("q", other)
	assert.NoError(t, err, "another project's runs stay")
	_, err = j.Clear("q", time.Time{})
	require.NoError(t, err)
	next, err := j.Add(&run.Run{Project: "p", Started: time.Now()}, nil).Wait()
	require.NoError(t, err)
	assert.Greater(t, next, other, "no number is given twice")
	list, err := j.List("p", Filter{})
	require.NoError(t, err)
	assert.Len(t, list, 1)
	s, err := j.WasSpent("p", "code", "aa")
	require.NoError(t, err)
	assert.NotNil(t, s, "what was spent is remembered")
}

func TestOriginalsAreKeptAndMaskedWhenShown(t *testing.T) {
	box, _ := seal.NewBox(bytes.Repeat([]byte{3}, seal.KeySize))
	dir := t.TempDir()
	j, err := Open(dir, box)
	require.NoError(t, err)
	defer j.Close()
	set := &mask.Set{}
	set.Add("canary-secret")
	set.AddPassword("canary-password")
	long := `{"access_token":"canary-token-1","filler":"` + strings.Repeat("tide ", 40<<10) + `"}`
	answer := oauth.ReadAuthorizationValues(map[string][]string{"code": {"canary-code"}}, "query")
	r := &run.Run{Project: "p", Command: "obtain", Client: "job", Started: time.Now(), Legs: []run.Leg{
		{N: 1, Kind: run.Landing, Inbound: true, URL: "http://127.0.0.1/landing?code=canary-code", Answer: &answer},
		{N: 2, Kind: run.Token, Method: "POST", URL: "https://h/token", At: time.Now(), Took: time.Second, Placed: "X-Own", Exchange: &wire.Exchange{
			Request:  wire.Request{Method: "POST", URL: "https://h/token", Header: http.Header{"Content-Type": {"application/x-www-form-urlencoded"}}, Body: []byte("client_secret=canary-secret&password=canary-password")},
			Response: &wire.Response{Status: 200, Proto: "HTTP/2.0", Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(long), Length: int64(len(long))},
			Timing:   wire.Timing{DNS: 1, Connect: 2, TLS: 3, FirstByte: 4, Total: 5}, Peer: wire.Peer{Address: "192.0.2.1:443", TLSVersion: "TLS 1.3", NotAfter: time.Unix(2e9, 0)}}},
		{N: 3, Kind: run.Call, Method: "GET", URL: "https://h/x", Exchange: &wire.Exchange{Failure: &wire.Failure{Kind: wire.ConnectionReset, Detail: "canary-secret was sent"}}},
	}}
	n, err := j.Add(r, set).Wait()
	require.NoError(t, err)
	o, err := j.Get("p", n)
	require.NoError(t, err)
	masked, err := o.Record()
	require.NoError(t, err)
	raw, err := json.Marshal(masked)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "canary")
	want := r.Record(set)
	want.N = n
	assert.Equal(t, want.Legs[1].Response.Size, masked.Legs[1].Response.Size)
	assert.Equal(t, want.Legs[1].Response.Body, masked.Legs[1].Response.Body)
	assert.True(t, masked.Legs[1].Response.Truncated)
	assert.Equal(t, *want.Legs[1].Timing, *masked.Legs[1].Timing)
	assert.True(t, want.Legs[1].Peer.NotAfter.Equal(masked.Legs[1].Peer.NotAfter))
	open, err := o.Revealed()
	require.NoError(t, err)
	assert.Equal(t, "client_secret=canary-secret&password=canary-password", open.Legs[1].Request.Body)
	assert.NotContains(t, open.Legs[1].Response.Body, "canary-token", "what was too long is kept masked")
	again, _, err := o.Run()
	require.NoError(t, err)
	assert.Equal(t, "canary-code", again.Legs[0].Answer.Code)
	assert.Equal(t, "X-Own", again.Legs[1].Placed)
	assert.Equal(t, wire.ConnectionReset, again.Legs[2].Exchange.Failure.Kind)
	for _, f := range []string{"journal.db", "journal.db-wal"} {
		raw, err := os.ReadFile(filepath.Join(dir, f))
		require.NoError(t, err)
		assert.NotContains(t, string(raw), "canary")
	}
}

// A journal of layout 1 goes on: its runs are shown, and were kept masked only.
func TestAnOlderJournalGoesOn(t *testing.T) {
	box, _ := seal.NewBox(bytes.Repeat([]byte{3}, seal.KeySize))
	dir := t.TempDir()
	older := sqlfile.Layout{Name: layout.Name, Version: 1, Schema: `
		CREATE TABLE runs (n INTEGER PRIMARY KEY, project TEXT NOT NULL, stage TEXT NOT NULL, client TEXT NOT NULL, command TEXT NOT NULL,
			outcome TEXT NOT NULL, cause TEXT NOT NULL, started INTEGER NOT NULL, sealed BLOB NOT NULL);
		CREATE INDEX runs_project ON runs (project, n);
		CREATE TABLE spent (project TEXT NOT NULL, kind TEXT NOT NULL, fingerprint TEXT NOT NULL, n INTEGER NOT NULL, client TEXT NOT NULL, at INTEGER NOT NULL,
			PRIMARY KEY (project, kind, fingerprint)) WITHOUT ROWID`}
	db, err := sqlfile.Open(dir, older, box)
	require.NoError(t, err)
	raw, err := json.Marshal(run.Record{Command: "obtain", Client: "job"})
	require.NoError(t, err)
	_, err = db.Exec(`INSERT INTO runs (project, stage, client, command, outcome, cause, started, sealed) VALUES ('p','','job','obtain','ok','',1000,?)`, box.Seal(raw, place("p")))
	require.NoError(t, err)
	require.NoError(t, db.Close())
	j, err := Open(dir, box)
	require.NoError(t, err)
	defer j.Close()
	o, err := j.Get("p", 0)
	require.NoError(t, err)
	rec, err := o.Record()
	require.NoError(t, err)
	assert.Equal(t, "job", rec.Client)
	_, err = o.Revealed()
	assert.ErrorIs(t, err, ErrOnlyMasked)
	_, _, err = o.Run()
	assert.ErrorIs(t, err, ErrOnlyMasked)
	_, err = j.Add(&run.Run{Project: "p", Started: time.Now()}, nil).Wait()
	require.NoError(t, err)
	list, err := j.List("p", Filter{})
	require.NoError(t, err)
	assert.Len(t, list, 2)
}
