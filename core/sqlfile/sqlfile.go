// Package sqlfile opens the SQLite files of the state folder: made with mode
// 0600 in a folder of mode 0700, in WAL mode, with a busy time-out, and bound to
// one sealing key. A file of another key, of a newer program or that is damaged
// is refused and left as it is.
package sqlfile

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/gofrs/flock"
	_ "modernc.org/sqlite" // the driver "sqlite", pure Go

	"tidycourier/core/fault"
	"tidycourier/core/seal"
)

// Layout is what a file must look like.
type Layout struct {
	Name    string // "pouch.db"
	Version int    // of Schema; a file with a higher one is refused
	Schema  string // CREATE statements, run once in a new file
	Durable bool   // sync each commit to disk before it returns
	// Upgrade brings a file of the version that is its key to the next one.
	Upgrade map[int]func(tx *sql.Tx, box *seal.Box) error
}

// EnsureDir makes the state folder with mode 0700, or refuses one that others
// can read.
func EnsureDir(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fault.Wrap(fault.Settings, err, "the state folder cannot be made").At(dir).Hint("name another with --state or TIDY_COURIER_STATE")
	}
	info, err := os.Stat(dir)
	if err != nil {
		return fault.Wrap(fault.Settings, err, "the state folder cannot be read").At(dir)
	}
	if runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return fault.New(fault.Settings, "the state folder can be read by others (mode %04o)", info.Mode().Perm()).At(dir).
			Hint("chmod 700 %s", dir)
	}
	return nil
}

// Open opens or makes the file in the state folder.
func Open(dir string, l Layout, box *seal.Box) (*sql.DB, error) {
	path := filepath.Join(dir, l.Name)
	_, err := os.Stat(path)
	if fresh := errors.Is(err, fs.ErrNotExist); fresh {
		return create(dir, path, l, box)
	}
	db, err := connect(path, l)
	if err != nil {
		return nil, err
	}
	if err := check(db, path, l, box); err != nil {
		_ = db.Close()
		return nil, err
	}
	return db, nil
}

func connect(path string, l Layout) (*sql.DB, error) {
	// what need not be durable is moved out of the log less often: each time costs two syncs
	sync := "NORMAL)&_pragma=wal_autocheckpoint(8000"
	if l.Durable {
		sync = "FULL"
	}
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, explain(err, path)
	}
	dsn := (&url.URL{Scheme: "file", Path: filepath.ToSlash(abs), RawQuery: "_pragma=busy_timeout(15000)&_pragma=journal_mode(WAL)" +
		"&_pragma=synchronous(" + sync + ")&_txlock=immediate"}).String()
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, explain(err, path)
	}
	db.SetMaxOpenConns(1)
	if err := db.Ping(); err != nil {
		_ = db.Close()
		return nil, explain(err, path)
	}
	return db, nil
}

// create makes the file under a lock, so that processes which start together
// make it once. It is built under another name and then renamed: a kill leaves
// no half-made file behind.
func create(dir, path string, l Layout, box *seal.Box) (*sql.DB, error) {
	lock := flock.New(filepath.Join(dir, l.Name+".lock"), flock.SetPermissions(0o600))
	if err := lock.Lock(); err != nil {
		return nil, explain(err, dir)
	}
	defer func() { _ = lock.Unlock() }()
	if _, err := os.Stat(path); err == nil {
		return Open(dir, l, box)
	}
	temp := path + ".new"
	_ = os.Remove(temp)
	f, err := os.OpenFile(temp, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, explain(err, path)
	}
	_ = f.Close()
	if err := build(temp, l, box); err != nil {
		return nil, explain(err, path)
	}
	if err := os.Rename(temp, path); err != nil {
		return nil, explain(err, path)
	}
	if folder, err := os.Open(dir); err == nil { // the new name must survive a power cut too
		_ = folder.Sync()
		_ = folder.Close()
	}
	return connect(path, l)
}

func build(path string, l Layout, box *seal.Box) error {
	db, err := connect(path, l)
	if err != nil {
		return err
	}
	_, err = db.Exec(l.Schema + `;
		CREATE TABLE meta (name TEXT PRIMARY KEY, value TEXT NOT NULL);
		INSERT INTO meta VALUES ('key_id', '` + box.ID() + `');
		PRAGMA user_version = ` + fmt.Sprint(l.Version))
	return errors.Join(err, db.Close())
}

func check(db *sql.DB, path string, l Layout, box *seal.Box) error {
	var version int
	if err := db.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return explain(err, path)
	}
	if version > l.Version {
		return fault.New(fault.Settings, "%s was written by a newer version of this program (layout %d, this one knows %d)", l.Name, version, l.Version).
			At(path).Hint("update tidy-courier, or name another state folder with --state")
	}
	var id string
	if err := db.QueryRow("SELECT value FROM meta WHERE name = 'key_id'").Scan(&id); err != nil {
		return explain(err, path)
	}
	if id == box.ID() && version < l.Version {
		return Explain(upgrade(db, l, box, version), path)
	}
	if id != box.ID() {
		return fault.New(fault.Settings, "%s was sealed with another key than the one found now", l.Name).At(path).
			Hint("bring back the key (%s, the file \"key\" beside it, or the keyring), or start anew in another folder with --state", seal.KeyVariable)
	}
	return nil
}

// upgrade brings an older file up to date, all or nothing.
func upgrade(db *sql.DB, l Layout, box *seal.Box, version int) error {
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()                                      // does nothing after Commit
	if err := tx.QueryRow("PRAGMA user_version").Scan(&version); err != nil { // another process may have been faster
		return err
	}
	for ; version < l.Version; version++ {
		if step := l.Upgrade[version]; step != nil {
			if err := step(tx, box); err != nil {
				return err
			}
		}
	}
	if _, err := tx.Exec("PRAGMA user_version = " + fmt.Sprint(l.Version)); err != nil {
		return err
	}
	return tx.Commit()
}

// explain turns an error of the database or the file system into one a person
// can act on. Nothing has been overwritten when it comes.
func explain(err error, path string) error {
	var known *fault.Error
	if errors.As(err, &known) {
		return known
	}
	text := err.Error()
	f := fault.Wrap(fault.Settings, err, "the state cannot be used").At(path)
	switch {
	case strings.Contains(text, "not a database"), strings.Contains(text, "malformed"), strings.Contains(text, "no such table"):
		return f.Hint("the file is damaged and was left as it is; move it away to start anew")
	case strings.Contains(text, "readonly"), strings.Contains(text, "read-only"), strings.Contains(text, "unable to open"), strings.Contains(text, "permission denied"):
		return f.Hint("make the folder writable, or name another with --state")
	case strings.Contains(text, "disk is full"), strings.Contains(text, "no space left"):
		return f.Hint("free some disk space; what was stored before is intact")
	case strings.Contains(text, "locked"):
		return f.Hint("another tidy-courier has held it for 15 s; wait for it, or stop it")
	}
	return f.Hint("name another state folder with --state")
}

// Explain is explain for the rooms that use the file.
func Explain(err error, path string) error {
	if err == nil {
		return nil
	}
	return explain(err, path)
}
