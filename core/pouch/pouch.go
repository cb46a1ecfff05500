// Package pouch keeps token sets, sealed, one per project, stage and client.
// A set that Put returns without error for is on disk, synced: a rotated
// refresh token survives whatever happens next.
//
//	p, err := pouch.Open(dir, box)
//	set, err := p.Get(pouch.Key{Project: key, Client: "nightly-forecast"})
//	err = p.Put(key, set) // keeps the one it replaces, for comparison
package pouch

import (
	"database/sql"
	"encoding/json"
	"errors"
	"path/filepath"
	"time"

	"tidycourier/core/seal"
	"tidycourier/core/sqlfile"
	"tidycourier/core/token"
)

// Key is whose token set it is.
type Key struct {
	Project string // "" outside any courier file
	Stage   string
	Client  string
}

func (k Key) place() string {
	return "token_sets\x00" + k.Project + "\x00" + k.Stage + "\x00" + k.Client
}

// Set is what one token answer gave.
type Set struct {
	Server       string    `json:"server"`
	Grant        string    `json:"grant"` // the grant the client is set to, also after a refresh
	TokenType    string    `json:"token_type,omitempty"`
	AccessToken  string    `json:"access_token"`
	RefreshToken string    `json:"refresh_token,omitempty"`
	IDToken      string    `json:"id_token,omitempty"`
	Scope        []string  `json:"scope,omitempty"` // granted
	Asked        []string  `json:"asked,omitempty"`
	ExpiresIn    *int64    `json:"expires_in,omitempty"` // seconds, as the server said
	ObtainedAt   time.Time `json:"obtained_at"`
	ExpiresAt    time.Time `json:"expires_at,omitzero"` // zero when nobody knows
	Basis        string    `json:"basis"`               // what it was asked with; another basis means obtain again
	Run          int64     `json:"run,omitempty"`
}

// Lifetime is from obtained to expired; zero when nobody knows.
func (s *Set) Lifetime() time.Duration {
	if s.ExpiresAt.IsZero() {
		return 0
	}
	return s.ExpiresAt.Sub(s.ObtainedAt)
}

// Margin is how much life must remain for a token to be used: 30 s, or a tenth
// of its life when that is less.
func (s *Set) Margin() time.Duration {
	return min(30*time.Second, s.Lifetime()/10)
}

// Fresh reports whether the access token can be used now. One whose end nobody
// knows can be.
func (s *Set) Fresh(now time.Time) bool {
	return s.AccessToken != "" && (s.ExpiresAt.IsZero() || s.ExpiresAt.Sub(now) > s.Margin())
}

// State is valid, expiring (less than its margin remains) or expired.
func (s *Set) State(now time.Time) string {
	switch {
	case s.Fresh(now):
		return "valid"
	case now.Before(s.ExpiresAt):
		return "expiring"
	}
	return "expired"
}

// Settle fills ExpiresAt: from expires_in, else from the access token's own exp
// claim, else it stays unknown.
func (s *Set) Settle() {
	if s.ExpiresIn != nil {
		s.ExpiresAt = s.ObtainedAt.Add(time.Duration(*s.ExpiresIn) * time.Second)
		return
	}
	if t, err := token.Decode(s.AccessToken); err == nil {
		if exp, ok := t.Time("exp"); ok {
			s.ExpiresAt = exp
		}
	}
}

// ErrNone is returned when nothing is held under a key.
var ErrNone = errors.New("the pouch holds no token for this client")

// Pouch is the open store.
type Pouch struct {
	db   *sql.DB
	box  *seal.Box
	path string
}

const summaryTable = `
	CREATE TABLE summaries (
		project TEXT NOT NULL, stage TEXT NOT NULL, client TEXT NOT NULL,
		sealed BLOB NOT NULL,
		PRIMARY KEY (project, stage, client)
	) WITHOUT ROWID`

var layout = sqlfile.Layout{Name: "pouch.db", Version: 2, Durable: true, Upgrade: map[int]func(*sql.Tx, *seal.Box) error{1: addSummaries}, Schema: summaryTable + `;
	CREATE TABLE token_sets (
		project TEXT NOT NULL, stage TEXT NOT NULL, client TEXT NOT NULL,
		updated INTEGER NOT NULL,
		sealed BLOB NOT NULL,
		previous BLOB,
		PRIMARY KEY (project, stage, client)
	) WITHOUT ROWID;
	CREATE TABLE kept (
		project TEXT NOT NULL, stage TEXT NOT NULL, name TEXT NOT NULL,
		sealed BLOB NOT NULL,
		PRIMARY KEY (project, stage, name)
	) WITHOUT ROWID`}

// Open opens or makes the pouch in a state folder.
func Open(dir string, box *seal.Box) (*Pouch, error) {
	db, err := sqlfile.Open(dir, layout, box)
	if err != nil {
		return nil, err
	}
	return &Pouch{db: db, box: box, path: filepath.Join(dir, layout.Name)}, nil
}

// Close closes the store.
func (p *Pouch) Close() error { return p.db.Close() }

// Get returns the set under a key, or ErrNone.
func (p *Pouch) Get(k Key) (*Set, error) { return p.get(k, "sealed") }

// Previous returns the set that the present one replaced, or ErrNone.
func (p *Pouch) Previous(k Key) (*Set, error) { return p.get(k, "previous") }

func (p *Pouch) get(k Key, column string) (*Set, error) {
	var sealed []byte
	err := p.db.QueryRow("SELECT "+column+" FROM token_sets WHERE project=? AND stage=? AND client=?", k.Project, k.Stage, k.Client).Scan(&sealed)
	if errors.Is(err, sql.ErrNoRows) || (err == nil && sealed == nil) {
		return nil, ErrNone
	}
	if err != nil {
		return nil, sqlfile.Explain(err, p.path)
	}
	return p.open(k, sealed)
}

func (p *Pouch) open(k Key, sealed []byte) (*Set, error) {
	plain, err := p.box.Open(sealed, k.place())
	if err != nil {
		return nil, sqlfile.Explain(err, p.path)
	}
	s := &Set{}
	if err := json.Unmarshal(plain, s); err != nil {
		return nil, sqlfile.Explain(err, p.path)
	}
	return s, nil
}

// Put keeps a set. The one it replaces becomes the previous one. When Put
// returns nil the set is on disk, synced.
func (p *Pouch) Put(k Key, s *Set) error {
	plain, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return p.change(k, s, func(tx *sql.Tx) (sql.Result, error) {
		return tx.Exec(`INSERT INTO token_sets (project, stage, client, updated, sealed) VALUES (?,?,?,?,?)
			ON CONFLICT DO UPDATE SET previous = sealed, sealed = excluded.sealed, updated = excluded.updated`,
			k.Project, k.Stage, k.Client, s.ObtainedAt.Unix(), p.box.Seal(plain, k.place()))
	})
}

// Replace changes a set in its place: the one it replaced before stays the
// previous one. ErrNone when there is none.
func (p *Pouch) Replace(k Key, s *Set) error {
	plain, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return p.change(k, s, func(tx *sql.Tx) (sql.Result, error) {
		return tx.Exec(`UPDATE token_sets SET sealed=? WHERE project=? AND stage=? AND client=?`, p.box.Seal(plain, k.place()), k.Project, k.Stage, k.Client)
	})
}

// Drop forgets the set under a key and the one it replaced; ErrNone when there
// was none.
func (p *Pouch) Drop(k Key) error {
	return p.change(k, nil, func(tx *sql.Tx) (sql.Result, error) {
		return tx.Exec(`DELETE FROM token_sets WHERE project=? AND stage=? AND client=?`, k.Project, k.Stage, k.Client)
	})
}
