package pouch

import (
	"database/sql"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"tidycourier/core/mask"
	"tidycourier/core/seal"
	"tidycourier/core/sqlfile"
)

// Summary is what a list shows of a set, without its tokens. It is sealed by
// itself, so that listing does not have to open every token.
type Summary struct {
	Grant       string
	ObtainedAt  time.Time // to the second
	ExpiresAt   time.Time // to the second; zero when nobody knows
	Fingerprint string
	Refreshable bool
	Scope       []string
}

// storedSummary is a Summary on disk: a list of thousands reads thousands.
type storedSummary struct {
	Grant       string   `json:"g,omitempty"`
	ObtainedAt  int64    `json:"o"`
	ExpiresAt   int64    `json:"e,omitempty"`
	Fingerprint string   `json:"f,omitempty"`
	Refreshable bool     `json:"r,omitempty"`
	Scope       []string `json:"s,omitempty"`
}

func writeSummary(s Summary) ([]byte, error) {
	d := storedSummary{Grant: s.Grant, ObtainedAt: s.ObtainedAt.Unix(), Fingerprint: s.Fingerprint, Refreshable: s.Refreshable, Scope: s.Scope}
	if !s.ExpiresAt.IsZero() {
		d.ExpiresAt = s.ExpiresAt.Unix()
	}
	return json.Marshal(d)
}

func readSummary(plain []byte) (Summary, error) {
	var d storedSummary
	if err := json.Unmarshal(plain, &d); err != nil {
		return Summary{}, err
	}
	s := Summary{Grant: d.Grant, ObtainedAt: time.Unix(d.ObtainedAt, 0).UTC(), Fingerprint: d.Fingerprint, Refreshable: d.Refreshable, Scope: d.Scope}
	if d.ExpiresAt != 0 {
		s.ExpiresAt = time.Unix(d.ExpiresAt, 0).UTC()
	}
	return s, nil
}

// Summary is what a list shows of the set.
func (s *Set) Summary() Summary {
	out := Summary{Grant: s.Grant, ObtainedAt: s.ObtainedAt, ExpiresAt: s.ExpiresAt, Refreshable: s.RefreshToken != "", Scope: s.Scope}
	if s.AccessToken != "" {
		out.Fingerprint = mask.Fingerprint(s.AccessToken)
	}
	return out
}

// State is that of the set it is of.
func (s *Summary) State(now time.Time) string {
	set := Set{ObtainedAt: s.ObtainedAt, ExpiresAt: s.ExpiresAt, AccessToken: s.Fingerprint}
	return set.State(now)
}

// Entry is a set's summary with its key.
type Entry struct {
	Key Key
	Summary
}

func summaryPlace(k Key) string {
	return "summaries\x00" + k.Project + "\x00" + k.Stage + "\x00" + k.Client
}

// change does one thing to a set and the same to its summary, or neither; a nil
// set drops it. ErrNone when there was nothing to change.
func (p *Pouch) change(k Key, s *Set, do func(tx *sql.Tx) (sql.Result, error)) error {
	tx, err := p.db.Begin()
	if err != nil {
		return sqlfile.Explain(err, p.path)
	}
	defer func() { _ = tx.Rollback() }() // does nothing after Commit
	res, err := do(tx)
	if err != nil {
		return sqlfile.Explain(err, p.path)
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return ErrNone
	}
	if s == nil {
		_, err = tx.Exec(`DELETE FROM summaries WHERE project=? AND stage=? AND client=?`, k.Project, k.Stage, k.Client)
	} else {
		err = putSummary(tx, p.box, k, s)
	}
	if err != nil {
		return sqlfile.Explain(err, p.path)
	}
	return sqlfile.Explain(tx.Commit(), p.path)
}

func putSummary(tx *sql.Tx, box *seal.Box, k Key, s *Set) error {
	plain, err := writeSummary(s.Summary())
	if err != nil {
		return err
	}
	_, err = tx.Exec(`INSERT INTO summaries VALUES (?,?,?,?) ON CONFLICT DO UPDATE SET sealed = excluded.sealed`, k.Project, k.Stage, k.Client, box.Seal(plain, summaryPlace(k)))
	return err
}

// addSummaries upgrades a pouch of layout 1, which had none.
func addSummaries(tx *sql.Tx, box *seal.Box) error {
	if _, err := tx.Exec(summaryTable); err != nil {
		return err
	}
	rows, err := tx.Query(`SELECT project, stage, client, sealed FROM token_sets`)
	if err != nil {
		return err
	}
	sets := map[Key]*Set{}
	for rows.Next() {
		var k Key
		var sealed []byte
		if err := rows.Scan(&k.Project, &k.Stage, &k.Client, &sealed); err != nil {
			return errors.Join(err, rows.Close())
		}
		plain, err := box.Open(sealed, k.place())
		if err != nil {
			return errors.Join(err, rows.Close())
		}
		s := &Set{}
		if err := json.Unmarshal(plain, s); err != nil {
			return errors.Join(err, rows.Close())
		}
		sets[k] = s
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for k, s := range sets {
		if err := putSummary(tx, box, k, s); err != nil {
			return err
		}
	}
	return nil
}

// List returns what is held of a project, or of all projects with all set, by
// project, stage and client. The summaries are opened while
// the next ones are read.
func (p *Pouch) List(project string, all bool) ([]Entry, error) {
	rows, err := p.db.Query(`SELECT project, stage, client, sealed FROM summaries WHERE ? OR project=? ORDER BY project, stage, client`, all, project)
	if err != nil {
		return nil, sqlfile.Explain(err, p.path)
	}
	defer rows.Close()
	o := &opening{box: p.box}
	defer o.group.Wait()
	for rows.Next() {
		l := lot{}
		if err := rows.Scan(&l.entry.Key.Project, &l.entry.Key.Stage, &l.entry.Key.Client, &l.sealed); err != nil {
			return nil, sqlfile.Explain(err, p.path)
		}
		o.add(l)
	}
	if err := rows.Err(); err != nil {
		return nil, sqlfile.Explain(err, p.path)
	}
	out, err := o.all()
	return out, sqlfile.Explain(err, p.path)
}

// opening opens summaries while the next ones are read.
type opening struct {
	box   *seal.Box
	group sync.WaitGroup
	lots  []*[]lot
	now   *[]lot
}

// lot is one row, sealed and then open.
type lot struct {
	entry  Entry
	sealed []byte
	err    error
}

// lotSize is how many rows are handed over at a time.
const lotSize = 512

func (o *opening) add(l lot) {
	if o.now == nil {
		rows := make([]lot, 0, lotSize)
		o.now = &rows
		o.lots = append(o.lots, o.now)
	}
	if *o.now = append(*o.now, l); len(*o.now) == lotSize {
		o.open()
	}
}

func (o *opening) open() {
	rows := o.now
	o.now = nil
	if rows == nil {
		return
	}
	o.group.Go(func() {
		for i := range *rows {
			l := &(*rows)[i]
			plain, err := o.box.Open(l.sealed, summaryPlace(l.entry.Key))
			if err == nil {
				l.entry.Summary, err = readSummary(plain)
			}
			l.err = err
		}
	})
}

func (o *opening) all() ([]Entry, error) {
	o.open()
	o.group.Wait()
	var out []Entry
	for _, rows := range o.lots {
		for _, l := range *rows {
			if l.err != nil {
				return nil, l.err
			}
			out = append(out, l.entry)
		}
	}
	return out, nil
}
