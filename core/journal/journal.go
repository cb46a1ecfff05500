// Package journal keeps the record of every run, sealed: what was sent and what
// came, as it was, with what is to be masked in it. The masked copy is made of
// that each time a run is shown; the original is there for whoever asks.
//
// A project's runs are limited by age and size, the oldest going first. Numbers
// are never given twice.
package journal

import (
	"database/sql"
	"encoding/json"
	"errors"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/fxamacker/cbor/v2"

	"tidycourier/core/mask"
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
	queue  chan *batch
	done   chan struct{}
	lost   error // the first failure to store one of a series; Close returns it

	handing  sync.Mutex
	pending  *batch      // the series' batch that is being filled
	patience *time.Timer // hands it over when it takes too long

	mu     sync.Mutex
	limits map[string]Limits
	grown  map[string]int64 // bytes stored since the last transaction, by project
}

// How a run was stored.
const (
	formMasked = 1 // a run.Record in JSON, of layout 1: there is no original
	formKept   = 2 // a run.Kept in CBOR (RFC 8949)
)

var layout = sqlfile.Layout{Name: "journal.db", Version: 2, Schema: `
	CREATE TABLE runs (
		n INTEGER PRIMARY KEY,
		project TEXT NOT NULL, stage TEXT NOT NULL, client TEXT NOT NULL,
		command TEXT NOT NULL, outcome TEXT NOT NULL, cause TEXT NOT NULL,
		started INTEGER NOT NULL,
		form INTEGER NOT NULL DEFAULT 1,
		sealed BLOB NOT NULL
	);
	` + listIndex + sizesTable + `
	CREATE TABLE spent (
		project TEXT NOT NULL, kind TEXT NOT NULL, fingerprint TEXT NOT NULL,
		n INTEGER NOT NULL, client TEXT NOT NULL, at INTEGER NOT NULL,
		PRIMARY KEY (project, kind, fingerprint)
	) WITHOUT ROWID`,
	Upgrade: map[int]func(*sql.Tx, *seal.Box) error{1: func(tx *sql.Tx, _ *seal.Box) error {
		_, err := tx.Exec(`ALTER TABLE runs ADD COLUMN form INTEGER NOT NULL DEFAULT 1; DROP INDEX runs_project; ` + listIndex + sizesTable +
			`INSERT INTO sizes SELECT project, sum(length(sealed)) FROM runs GROUP BY project`)
		return err
	}}}

// A list, filtered or not, reads the index alone and none of the sealed records.
const (
	listIndex  = `CREATE INDEX runs_list ON runs (project, n, client, outcome, cause, started, stage, command);`
	sizesTable = `CREATE TABLE sizes (project TEXT PRIMARY KEY, bytes INTEGER NOT NULL) WITHOUT ROWID;`
)

// Open opens or makes the journal in a state folder.
func Open(dir string, box *seal.Box) (*Journal, error) {
	db, err := sqlfile.Open(dir, layout, box)
	if err != nil {
		return nil, err
	}
	j := &Journal{db: db, box: box, path: filepath.Join(dir, layout.Name), limits: map[string]Limits{}, grown: map[string]int64{}}
	j.insert, err = db.Prepare(`INSERT INTO runs (project, stage, client, command, outcome, cause, started, form, sealed) VALUES (?,?,?,?,?,?,?,?,?)`)
	if err != nil {
		_ = db.Close()
		return nil, sqlfile.Explain(err, j.path)
	}
	j.queue, j.done = make(chan *batch, 2), make(chan struct{})
	j.patience = time.AfterFunc(time.Hour, j.flush)
	j.patience.Stop()
	go j.write()
	return j, nil
}

// Close writes what is still to be written and closes the journal. What could
// not be stored of a series, for which nobody waited, is told here.
func (j *Journal) Close() error {
	j.patience.Stop()
	j.flush()
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

// Filter chooses runs; its zero value chooses all. Limit 0 is no limit.
type Filter struct {
	Client, Stage, Command string
	Outcome                string // "ok", "failed", or the kind of an error
	Cause                  string
	Since, Until           time.Time
	After                  int64 // only runs with a higher number
	Limit                  int
	OldestFirst            bool
}

func (f Filter) where(project string) (string, []any) {
	parts, args := []string{"project=?"}, []any{project}
	add := func(given bool, part string, arg any) {
		if given {
			parts, args = append(parts, part), append(args, arg)
		}
	}
	add(f.Client != "", "client=?", f.Client)
	add(f.Stage != "", "stage=?", f.Stage)
	add(f.Command != "", "command=?", f.Command)
	add(f.Cause != "", "cause=?", f.Cause)
	switch f.Outcome {
	case "":
	case "failed":
		parts = append(parts, "outcome<>'ok'")
	default:
		add(true, "outcome=?", f.Outcome)
	}
	add(!f.Since.IsZero(), "started>=?", f.Since.UnixMilli())
	add(!f.Until.IsZero(), "started<?", f.Until.UnixMilli())
	add(f.After > 0, "n>?", f.After)
	return strings.Join(parts, " AND "), args
}

// List returns a project's runs that the filter chooses, newest first unless it
// says otherwise.
func (j *Journal) List(project string, f Filter) ([]Summary, error) {
	where, args := f.where(project)
	order := "DESC"
	if f.OldestFirst {
		order = "ASC"
	}
	if f.Limit <= 0 {
		f.Limit = -1
	}
	rows, err := j.db.Query(`SELECT n, stage, client, command, outcome, cause, started FROM runs INDEXED BY runs_list WHERE `+where+` ORDER BY n `+order+` LIMIT ?`, append(args, f.Limit)...)
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

// Opened is a run out of the journal.
type Opened struct {
	N      int64
	kept   *run.Kept
	record *run.Record // of layout 1
}

// Get opens run n of a project, or its last one when n is 0; ErrNone when there
// is none.
func (j *Journal) Get(project string, n int64) (*Opened, error) {
	var sealed []byte
	var form int
	o := &Opened{}
	query := `SELECT n, form, sealed FROM runs WHERE project=? ORDER BY n DESC LIMIT 1`
	args := []any{project}
	if n != 0 {
		query, args = `SELECT n, form, sealed FROM runs WHERE n=?2 AND project=?1`, append(args, n)
	}
	err := j.db.QueryRow(query, args...).Scan(&o.N, &form, &sealed)
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
	if form == formMasked {
		o.record = &run.Record{}
		err = json.Unmarshal(plain, o.record)
	} else {
		o.kept = &run.Kept{}
		err = cbor.Unmarshal(plain, o.kept)
	}
	return o, sqlfile.Explain(err, j.path)
}

// Record is the run's masked copy.
func (o *Opened) Record() (*run.Record, error) {
	if o.kept == nil {
		r := *o.record
		r.N = o.N
		return &r, nil
	}
	return o.kept.Record(o.N, false)
}

// ErrOnlyMasked is returned for the original of a run that an earlier version
// recorded.
var ErrOnlyMasked = errors.New("an earlier version recorded this run, masked only")

// Revealed is the run as it was, secrets included.
func (o *Opened) Revealed() (*run.Record, error) {
	if o.kept == nil {
		return nil, ErrOnlyMasked
	}
	return o.kept.Record(o.N, true)
}

// Run is the run as it was, with what masks it.
func (o *Opened) Run() (*run.Run, *mask.Set, error) {
	if o.kept == nil {
		return nil, nil, ErrOnlyMasked
	}
	return o.kept.Run(o.N)
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
