package pouch

import (
	"bytes"
	"database/sql"
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/fault"
	"tidycourier/core/seal"
)

func box(t *testing.T, fill byte) *seal.Box {
	t.Helper()
	b, err := seal.NewBox(bytes.Repeat([]byte{fill}, seal.KeySize))
	require.NoError(t, err)
	return b
}

func set(token string) *Set {
	n := int64(1800)
	s := &Set{AccessToken: token, RefreshToken: "refresh-" + token, ExpiresIn: &n, ObtainedAt: time.Unix(1000, 0)}
	s.Settle()
	return s
}

func TestPutGetPreviousDrop(t *testing.T) {
	dir := t.TempDir()
	p, err := Open(dir, box(t, 1))
	require.NoError(t, err)
	k := Key{"proj", "prod", "job"}
	_, err = p.Get(k)
	assert.ErrorIs(t, err, ErrNone)
	require.NoError(t, p.Put(k, set("canary-first")))
	_, err = p.Previous(k)
	assert.ErrorIs(t, err, ErrNone)
	require.NoError(t, p.Put(k, set("canary-second")))
	require.NoError(t, p.Put(Key{"other", "", "job"}, set("x")))
	require.NoError(t, p.Keep("proj", "prod", map[string]string{"station": "canary-kept"}))
	require.NoError(t, p.Close())

	raw := everything(t, dir)
	assert.NotContains(t, raw, "canary", "nothing lies in the clear")
	p, err = Open(dir, box(t, 1))
	require.NoError(t, err)
	defer p.Close()
	got, err := p.Get(k)
	require.NoError(t, err)
	assert.Equal(t, "canary-second", got.AccessToken)
	before, err := p.Previous(k)
	require.NoError(t, err)
	assert.Equal(t, "canary-first", before.AccessToken)
	kept, err := p.Kept("proj", "prod")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"station": "canary-kept"}, kept)
	list, err := p.List("proj", false)
	require.NoError(t, err)
	assert.Len(t, list, 1)
	list, err = p.List("", true)
	require.NoError(t, err)
	assert.Len(t, list, 2)
	require.NoError(t, p.Drop(k))
	assert.ErrorIs(t, p.Drop(k), ErrNone)
}

func everything(t *testing.T, dir string) string {
	t.Helper()
	var all []byte
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	for _, f := range files {
		raw, err := os.ReadFile(f)
		require.NoError(t, err)
		all = append(all, raw...)
	}
	return string(all)
}

func TestRefusedFilesAreLeftAsTheyAre(t *testing.T) {
	spoil := map[string]func(path string) string{
		"another key": func(string) string { return "another key" },
		"newer layout": func(path string) string {
			db, err := sql.Open("sqlite", path)
			require.NoError(t, err)
			defer db.Close()
			_, err = db.Exec("PRAGMA user_version = 99")
			require.NoError(t, err)
			return "newer version"
		},
		"damaged": func(path string) string {
			require.NoError(t, os.WriteFile(path, bytes.Repeat([]byte("not a database"), 500), 0o600))
			return "not a database"
		},
	}
	for name, f := range spoil {
		dir := t.TempDir()
		p, err := Open(dir, box(t, 1))
		require.NoError(t, err)
		require.NoError(t, p.Put(Key{Client: "job"}, set("a")))
		require.NoError(t, p.Close())
		path := filepath.Join(dir, "pouch.db")
		want := f(path)
		before, err := os.ReadFile(path)
		require.NoError(t, err)
		key := byte(1)
		if name == "another key" {
			key = 2
		}
		_, err = Open(dir, box(t, key))
		require.Error(t, err, name)
		assert.Equal(t, fault.Settings, fault.As(err).Kind, name)
		assert.Contains(t, err.Error(), want, name)
		assert.NotEmpty(t, fault.As(err).Next, name)
		after, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, before, after, "%s: the file was touched", name)
	}
}

func TestASealedSetCannotBeMoved(t *testing.T) {
	p, err := Open(t.TempDir(), box(t, 1))
	require.NoError(t, err)
	defer p.Close()
	require.NoError(t, p.Put(Key{Client: "a"}, set("a")))
	_, err = p.db.Exec("UPDATE token_sets SET client = 'b'")
	require.NoError(t, err)
	_, err = p.Get(Key{Client: "b"})
	assert.ErrorContains(t, err, "does not open")
}

func TestManyOpenAtOnce(t *testing.T) {
	dir := t.TempDir()
	var wg sync.WaitGroup
	errs := make(chan error, 16)
	for i := range 16 {
		wg.Go(func() {
			b, _, err := seal.FindKey(dir, func(n string) string { return map[string]string{"TIDY_COURIER_KEYRING": "off"}[n] })
			if err == nil {
				var p *Pouch
				if p, err = Open(dir, b); err == nil {
					err = p.Put(Key{Client: fmt.Sprint(i)}, set("t"))
					_ = p.Close()
				}
			}
			errs <- err
		})
	}
	wg.Wait()
	close(errs)
	for err := range errs {
		assert.NoError(t, err)
	}
	b, source, err := seal.FindKey(dir, func(string) string { return "" })
	require.NoError(t, err)
	assert.Equal(t, "file", source)
	p, err := Open(dir, b)
	require.NoError(t, err)
	defer p.Close()
	list, err := p.List("", true)
	require.NoError(t, err)
	assert.Len(t, list, 16)
}

func TestKeySources(t *testing.T) {
	dir := t.TempDir()
	key := bytes.Repeat([]byte{7}, seal.KeySize)
	_, source, err := seal.FindKey(dir, func(string) string { return base64.StdEncoding.EncodeToString(key) })
	require.NoError(t, err)
	assert.Equal(t, "environment", source)
	_, _, err = seal.FindKey(dir, func(string) string { return "short" })
	assert.Equal(t, seal.KeyVariable, fault.As(err).Where)
	path := filepath.Join(dir, "key")
	require.NoError(t, os.WriteFile(path, []byte(base64.StdEncoding.EncodeToString(key)), 0o644))
	_, _, err = seal.FindKey(dir, func(string) string { return "" })
	assert.ErrorContains(t, err, "read by others")
	require.NoError(t, os.WriteFile(path, []byte("rubbish"), 0o600))
	require.NoError(t, os.Chmod(path, 0o600))
	_, _, err = seal.FindKey(dir, func(string) string { return "" })
	assert.ErrorContains(t, err, "unusable")
}

// A key that was lost is never replaced by a new one beside what it sealed.
func TestALostKeyIsNotReplaced(t *testing.T) {
	dir := t.TempDir()
	off := func(n string) string { return map[string]string{"TIDY_COURIER_KEYRING": "off"}[n] }
	b, _, err := seal.FindKey(dir, off)
	require.NoError(t, err)
	p, err := Open(dir, b)
	require.NoError(t, err)
	require.NoError(t, p.Close())
	kept, err := os.ReadFile(filepath.Join(dir, "key"))
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(dir, "key")))
	_, _, err = seal.FindKey(dir, off)
	assert.ErrorContains(t, err, "not to be found")
	assert.NoFileExists(t, filepath.Join(dir, "key"))
	b, _, err = seal.FindKey(dir, func(n string) string { return map[string]string{seal.KeyVariable: string(kept)}[n] })
	require.NoError(t, err)
	p, err = Open(dir, b)
	require.NoError(t, err, "handed over, it opens again")
	require.NoError(t, p.Close())
}

func TestFreshness(t *testing.T) {
	at := func(life int64, age time.Duration) string {
		s := &Set{AccessToken: "a", ExpiresIn: &life, ObtainedAt: time.Unix(1000, 0)}
		s.Settle()
		return s.State(time.Unix(1000, 0).Add(age))
	}
	assert.Equal(t, "valid", at(1800, 1769*time.Second))
	assert.Equal(t, "expiring", at(1800, 1771*time.Second), "less than 30 s left")
	assert.Equal(t, "valid", at(60, 53*time.Second), "a tenth of a short life is enough")
	assert.Equal(t, "expiring", at(60, 55*time.Second))
	assert.Equal(t, "expired", at(60, 60*time.Second))
	unknown := &Set{AccessToken: "opaque"}
	unknown.Settle()
	assert.True(t, unknown.Fresh(time.Now()), "an end that nobody knows is no end")
	own := &Set{AccessToken: "eyJhbGciOiJub25lIn0.eyJleHAiOjEwMDB9."}
	own.Settle()
	assert.Equal(t, int64(1000), own.ExpiresAt.Unix(), "the token's own exp")
}
