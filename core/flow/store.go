package flow

import (
	"context"
	"path/filepath"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"tidycourier/core/fault"
	"tidycourier/core/journal"
	"tidycourier/core/pouch"
	"tidycourier/core/seal"
	"tidycourier/core/sqlfile"
)

// lockPatience bounds the wait for another process that refreshes; it is
// longer than any exchange may take.
const lockPatience = 2 * time.Minute

// Disk is the Store in a state folder. Nothing is opened, and no key looked
// for, before something is needed.
type Disk struct {
	Dir    string
	Getenv func(string) string

	mu      sync.Mutex
	box     *seal.Box
	pouch   *pouch.Pouch
	journal *journal.Journal
}

func (d *Disk) key() (*seal.Box, error) {
	if d.box != nil {
		return d.box, nil
	}
	if err := sqlfile.EnsureDir(d.Dir); err != nil {
		return nil, err
	}
	box, _, err := seal.FindKey(d.Dir, d.Getenv)
	d.box = box
	return box, err
}

// Pouch opens the pouch.
func (d *Disk) Pouch() (*pouch.Pouch, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.pouch != nil {
		return d.pouch, nil
	}
	box, err := d.key()
	if err != nil {
		return nil, err
	}
	d.pouch, err = pouch.Open(d.Dir, box)
	return d.pouch, err
}

// Journal opens the journal.
func (d *Disk) Journal() (*journal.Journal, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.journal != nil {
		return d.journal, nil
	}
	box, err := d.key()
	if err != nil {
		return nil, err
	}
	d.journal, err = journal.Open(d.Dir, box)
	return d.journal, err
}

// Lock waits for a client's lock.
func (d *Disk) Lock(ctx context.Context, name string) (func(), error) {
	if err := sqlfile.EnsureDir(d.Dir); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(d.Dir, "client-"+name+".lock"), flock.SetPermissions(0o600))
	ctx, cancel := context.WithTimeout(ctx, lockPatience)
	defer cancel()
	if ok, err := lock.TryLockContext(ctx, 10*time.Millisecond); err != nil || !ok {
		return nil, fault.New(fault.Settings, "another tidy-courier has been getting a token for this client for two minutes").At(lock.Path()).
			Hint("wait for it, or stop it; the lock goes with its process")
	}
	return func() { _ = lock.Unlock() }, nil
}

// Folder is the state folder, made when it is not there; "" when it cannot be.
func (d *Disk) Folder() string {
	if sqlfile.EnsureDir(d.Dir) != nil {
		return ""
	}
	return d.Dir
}

// Close closes what was opened.
func (d *Disk) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	var err error
	if d.pouch != nil {
		err = d.pouch.Close()
	}
	if d.journal != nil {
		if bad := d.journal.Close(); err == nil {
			err = bad
		}
	}
	d.pouch, d.journal = nil, nil
	return err
}
