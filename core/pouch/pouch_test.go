package pouch

import (
	"bytes"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/fault"
	"tidycourier/core/mask"
	"tidycourier/core/seal"
	"tidycourier/core/sqlfile"
)

func box(t *testing.T, fill byte) *seal.Box {
	t.Helper()
	b, err := seal.NewBox(bytes.Repeat([]byte{fill}, seal.KeySize))
	require.NoError(t, err)
	return b
}

func set(token string) *Set {
	n := int64(1800)
	s := &Set{AccessToken: token, RefreshToken: "refresh-" + token, ExpiresIn: &n, ObtainedAt: time.Unix(1000, 0).UTC()}
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
		"damaged inside": func(path string) string {
			raw, err := os.ReadFile(path)
			require.NoError(t, err)
			copy(raw[4096:], bytes.Repeat([]byte{0xa5}, len(raw)-4096))
			require.NoError(t, os.WriteFile(path, raw, 0o600))
			return "malformed"
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

// The layout of the first version, which had no summaries.
const firstSchema = `
	CREATE TABLE token_sets (project TEXT NOT NULL, stage TEXT NOT NULL, client TEXT NOT NULL, updated INTEGER NOT NULL, sealed BLOB NOT NULL, previous BLOB, PRIMARY KEY (project, stage, client)) WITHOUT ROWID;
	CREATE TABLE kept (project TEXT NOT NULL, stage TEXT NOT NULL, name TEXT NOT NULL, sealed BLOB NOT NULL, PRIMARY KEY (project, stage, name)) WITHOUT ROWID`

func TestAnOlderPouchIsBroughtUpToDate(t *testing.T) {
	dir, key := t.TempDir(), Key{"p", "prod", "job"}
	old, err := sqlfile.Open(dir, sqlfile.Layout{Name: "pouch.db", Version: 1, Schema: firstSchema}, box(t, 1))
	require.NoError(t, err)
	plain, err := json.Marshal(set("kept-from-before"))
	require.NoError(t, err)
	_, err = old.Exec(`INSERT INTO token_sets (project, stage, client, updated, sealed) VALUES ('p','prod','job',1000,?)`, box(t, 1).Seal(plain, key.place()))
	require.NoError(t, err)
	require.NoError(t, old.Close())
	for range 2 { // the second time there is nothing left to do
		p, err := Open(dir, box(t, 1))
		require.NoError(t, err)
		list, err := p.List("p", false)
		require.NoError(t, err)
		require.Len(t, list, 1)
		assert.Equal(t, set("kept-from-before").Summary(), list[0].Summary)
		got, err := p.Get(key)
		require.NoError(t, err)
		assert.Equal(t, "kept-from-before", got.AccessToken)
		require.NoError(t, p.Close())
	}
}

func TestListsAreInOrderAndFollowEveryChange(t *testing.T) {
	p, err := Open(t.TempDir(), box(t, 1))
	require.NoError(t, err)
	defer p.Close()
	const n = 2*lotSize + 7
	for i := range n {
		require.NoError(t, p.Put(Key{Client: fmt.Sprintf("c%05d", n-i)}, set(fmt.Sprint("token", n-i))))
	}
	list, err := p.List("", false)
	require.NoError(t, err)
	require.Len(t, list, n)
	for i, e := range list {
		require.Equal(t, fmt.Sprintf("c%05d", i+1), e.Key.Client)
		require.Equal(t, mask.Fingerprint(fmt.Sprint("token", i+1)), e.Fingerprint)
	}
	k := Key{Client: "c00001"}
	changed := set("token1")
	changed.RefreshToken = ""
	require.NoError(t, p.Put(k, set("newer")))
	require.NoError(t, p.Replace(k, changed))
	before, err := p.Previous(k)
	require.NoError(t, err)
	assert.Equal(t, "token1", before.AccessToken, "Replace leaves the previous one alone")
	list, err = p.List("", false)
	require.NoError(t, err)
	assert.False(t, list[0].Refreshable)
	require.NoError(t, p.Drop(k))
	list, err = p.List("", false)
	require.NoError(t, err)
	assert.Len(t, list, n-1)
	assert.ErrorIs(t, p.Replace(k, changed), ErrNone)
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
		s := &Set{AccessToken: "a", ExpiresIn: &life, ObtainedAt: time.Unix(1000, 0).UTC()}
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
