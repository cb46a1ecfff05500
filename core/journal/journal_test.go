package journal

import (
	"bytes"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/run"
	"tidycourier/core/seal"
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
