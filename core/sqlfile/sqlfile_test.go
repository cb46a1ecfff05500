package sqlfile

import (
	"bytes"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/fault"
	"tidycourier/core/seal"
)

var sample = Layout{Name: "sample.db", Version: 2, Schema: "CREATE TABLE t (x TEXT)", Durable: true}

func box(t *testing.T) *seal.Box {
	t.Helper()
	b, err := seal.NewBox(bytes.Repeat([]byte{9}, seal.KeySize))
	require.NoError(t, err)
	return b
}

func TestFilesAreMadeForTheirOwnerAlone(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("modes are of POSIX systems")
	}
	dir := filepath.Join(t.TempDir(), "a", "state")
	require.NoError(t, EnsureDir(dir))
	info, err := os.Stat(dir)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	db, err := Open(dir, sample, box(t))
	require.NoError(t, err)
	_, err = db.Exec("INSERT INTO t VALUES ('x')")
	require.NoError(t, err)
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(files), 2, "the file and its log")
	for _, f := range files {
		info, err := os.Stat(f)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), f)
	}
	require.NoError(t, db.Close())
	require.NoError(t, os.Chmod(dir, 0o750))
	err = EnsureDir(dir)
	assert.ErrorContains(t, err, "read by others")
	assert.Contains(t, fault.As(err).Next, "chmod 700")
}

func TestALayoutIsMadeOnceByMany(t *testing.T) {
	dir := filepath.Join(t.TempDir(), `odd % name?#`)
	require.NoError(t, EnsureDir(dir))
	var wg sync.WaitGroup
	for range 12 {
		wg.Go(func() {
			db, err := Open(dir, sample, box(t))
			if assert.NoError(t, err) {
				_, err = db.Exec("INSERT INTO t VALUES ('x')")
				assert.NoError(t, err)
				assert.NoError(t, db.Close())
			}
		})
	}
	wg.Wait()
	db, err := Open(dir, sample, box(t))
	require.NoError(t, err)
	defer db.Close()
	n := 0
	require.NoError(t, db.QueryRow("SELECT count(*) FROM t").Scan(&n))
	assert.Equal(t, 12, n)
	_, err = os.Stat(filepath.Join(dir, "sample.db.new"))
	assert.ErrorIs(t, err, os.ErrNotExist, "no half-made file is left")
}

func TestAFolderThatCannotBe(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	err := EnsureDir(filepath.Join(file, "state"))
	assert.Equal(t, fault.Settings, fault.As(err).Kind)
	assert.Contains(t, fault.As(err).Next, "--state")
	_, err = Open(filepath.Join(file, "state"), sample, box(t))
	assert.Equal(t, fault.Settings, fault.As(err).Kind)
}
