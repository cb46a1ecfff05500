// Package journal keeps the record of every run: masked, and sealed on top,
// since what an API answered is nobody else's business either.
package journal

import (
	"database/sql"
	"encoding/json"
	"errors"
	"path/filepath"
	"time"

	"tidycourier/core/run"
	"tidycourier/core/seal"
	"tidycourier/core/sqlfile"
)

// ErrNone is returned when there is no such run.
var ErrNone = errors.New("the journal has no such run")

// Journal is the open record. One goroutine writes it; Close waits for it.
type Journal struct {
	db     *sql.DB
	box    *seal.Box
	path   string
	insert *sql.Stmt
	queue  chan *Entry
	done   chan struct{}
	lost   error // the first failure to store one of a series; Close returns it
}

var layout = sqlfile.Layout{Name: "journal.db", Version: 1, Schema: `
	CREATE TABLE runs (
		n INTEGER PRIMARY KEY,
		project TEXT NOT NULL, stage TEXT NOT NULL, client TEXT NOT NULL,
		command TEXT NOT NULL, outcome TEXT NOT NULL, cause TEXT NOT NULL,
		started INTEGER NOT NULL,
		sealed BLOB NOT NULL
	);
	CREATE INDEX runs_project ON runs (project, n);
	CREATE TABLE spent (
		project TEXT NOT NULL, kind TEXT NOT NULL, fingerprint TEXT NOT NULL,
		n INTEGER NOT NULL, client TEXT NOT NULL, at INTEGER NOT NULL,
		PRIMARY KEY (project, kind, fingerprint)
	) WITHOUT ROWID`}

// Open opens or makes the journal in a state folder.
func Open(dir string, box *seal.Box) (*Journal, error) {
	db, err := sqlfile.Open(dir, layout, box)
	if err != nil {
		return nil, err
	}
	j := &Journal{db: db, box: box, path: filepath.Join(dir, layout.Name)}
	j.insert, err = db.Prepare(`INSERT INTO runs (project, stage, client, command, outcome, cause, started, sealed) VALUES (?,?,?,?,?,?,?,?)`)
	if err != nil {
		_ = db.Close()
		return nil, sqlfile.Explain(err, j.path)
	}
	j.queue, j.done = make(chan *Entry, maxBatch), make(chan struct{})
	go j.write()
	return j, nil
}

// Close writes what is still to be written and closes the journal. What could
// not be stored of a series, for which nobody waited, is told here.
func (j *Journal) Close() error {
	close(j.queue)
	<-j.done
	return errors.Join(j.lost, j.insert.Close(), j.db.Close())
}

// place binds a record to its project; the run's number is not known before it
// is stored.
func place(project string) string { return "runs\x00" + project }

// Summary is a run's line in a list.
type Summary struct {
	N       int64     `json:"run"`
	Stage   string    `json:"stage,omitempty"`
	Client  string    `json:"client"`
	Command string    `json:"command"`
	Outcome string    `json:"outcome"` // "ok", or the kind of the error
	Cause   string    `json:"cause,omitempty"`
	Started time.Time `json:"started"`
}

// List returns a project's newest runs, newest first.
func (j *Journal) List(project string, limit int) ([]Summary, error) {
	rows, err := j.db.Query(`SELECT n, stage, client, command, outcome, cause, started FROM runs WHERE project=? ORDER BY n DESC LIMIT ?`, project, limit)
	if err != nil {
		return nil, sqlfile.Explain(err, j.path)
	}
	defer rows.Close()
	out := []Summary{}
	for rows.Next() {
		var s Summary
		var ms int64
		if err := rows.Scan(&s.N, &s.Stage, &s.Client, &s.Command, &s.Outcome, &s.Cause, &ms); err != nil {
			return nil, sqlfile.Explain(err, j.path)
		}
		s.Started = time.UnixMilli(ms).UTC()
		out = append(out, s)
	}
	return out, sqlfile.Explain(rows.Err(), j.path)
}

// Get returns run n of a project, or its last one when n is 0; ErrNone when
// there is none.
func (j *Journal) Get(project string, n int64) (*run.Record, error) {
	var sealed []byte
	var number int64
	err := j.db.QueryRow(`SELECT n, sealed FROM runs WHERE project=?1 AND (?2 = 0 OR n=?2) ORDER BY n DESC LIMIT 1`, project, n).Scan(&number, &sealed)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNone
	}
	if err != nil {
		return nil, sqlfile.Explain(err, j.path)
	}
	plain, err := j.box.Open(sealed, place(project))
	if err != nil {
		return nil, sqlfile.Explain(err, j.path)
	}
	r := &run.Record{}
	if err := json.Unmarshal(plain, r); err != nil {
		return nil, sqlfile.Explain(err, j.path)
	}
	r.N = number
	return r, nil
}

// Spent is when a single-use credential was sent before.
type Spent struct {
	Run    int64
	Client string
	At     time.Time
}

// Spend notes that a code or refresh token was sent, by its fingerprint. The
// first use is what counts and is kept.
func (j *Journal) Spend(project, kind, fingerprint string, s Spent) error {
	_, err := j.db.Exec(`INSERT OR IGNORE INTO spent VALUES (?,?,?,?,?,?)`, project, kind, fingerprint, s.Run, s.Client, s.At.UnixMilli())
	return sqlfile.Explain(err, j.path)
}

// WasSpent tells whether, and when, a code or refresh token was sent before.
func (j *Journal) WasSpent(project, kind, fingerprint string) (*Spent, error) {
	s := &Spent{}
	var ms int64
	err := j.db.QueryRow(`SELECT n, client, at FROM spent WHERE project=? AND kind=? AND fingerprint=?`, project, kind, fingerprint).Scan(&s.Run, &s.Client, &ms)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, sqlfile.Explain(err, j.path)
	}
	s.At = time.UnixMilli(ms).UTC()
	return s, nil
}
