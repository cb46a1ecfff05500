package pouch

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/fault"
)

// smallDisk mounts a file system of a few hundred KiB, where the test may.
func smallDisk(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=320k,mode=0700"); err != nil {
		t.Skipf("skipped: a small file system cannot be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	return dir
}

func TestAFullDiskLosesNothing(t *testing.T) {
	dir := smallDisk(t)
	p, err := Open(dir, box(t, 1))
	require.NoError(t, err)
	k := Key{Client: "job"}
	require.NoError(t, p.Put(k, set("first")))
	kept := 0
	for i := range 4000 {
		s := set(strings.Repeat("x", 2000) + fmt.Sprint(i))
		if err = p.Put(Key{Client: fmt.Sprintf("filler-%04d", i)}, s); err != nil {
			break
		}
		kept++
	}
	require.Error(t, err, "the disk must fill for this to prove anything")
	assert.Equal(t, fault.Settings, fault.As(err).Kind)
	assert.Contains(t, fault.As(err).Next, "free some disk space", err.Error())
	got, err := p.Get(k)
	require.NoError(t, err, "what was stored before is intact")
	assert.Equal(t, "first", got.AccessToken)
	list, err := p.List("", true)
	require.NoError(t, err)
	assert.Len(t, list, kept+1, "no half of a set is there")
	require.NoError(t, p.Close())
}

func TestAReadOnlyFolderIsNamed(t *testing.T) {
	dir := smallDisk(t)
	p, err := Open(dir, box(t, 1))
	require.NoError(t, err)
	require.NoError(t, p.Put(Key{Client: "job"}, set("first")))
	require.NoError(t, p.Close())
	require.NoError(t, syscall.Mount("", dir, "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	p, err = Open(dir, box(t, 1))
	if err == nil {
		err = p.Put(Key{Client: "job"}, set("second"))
		_ = p.Close()
	}
	require.Error(t, err)
	assert.Equal(t, fault.Settings, fault.As(err).Kind)
	assert.Contains(t, fault.As(err).Next, "make the folder writable", err.Error())
	raw, err := os.ReadFile(filepath.Join(dir, "pouch.db"))
	require.NoError(t, err)
	assert.NotEmpty(t, raw)
}
