package journal

import (
	"database/sql"
	"fmt"
	"time"

	"github.com/fxamacker/cbor/v2"

	"tidycourier/core/mask"
	"tidycourier/core/run"
	"tidycourier/core/sqlfile"
)

// maxBatch bounds how many records one transaction takes, and how many may
// wait: with it a fast series of calls cannot fill the memory.
const maxBatch = 64

// gatherFor is how long the records of a series are gathered for one
// transaction; it is what a kill can lose of a series at most.
const gatherFor = 25 * time.Millisecond

// Entry is a record on its way to the disk.
type Entry struct {
	project string
	run     *run.Run
	set     *mask.Set
	series  bool
	n       int64
	err     error
	done    chan struct{}
}

// Wait waits until the record is stored and returns the run's number.
func (e *Entry) Wait() (int64, error) {
	<-e.done
	return e.n, e.err
}

// Add hands a run over and returns at once; it is stored without delay, with
// what the set masks. Runs are stored in the order they were handed over, and
// must not change any more.
func (j *Journal) Add(r *run.Run, set *mask.Set) *Entry {
	return j.add(&Entry{project: r.Project, run: r, set: set})
}

// AddBehind is Add for one of a series: it is stored behind the caller, together
// with those that follow shortly.
func (j *Journal) AddBehind(r *run.Run, set *mask.Set) *Entry {
	return j.add(&Entry{project: r.Project, run: r, set: set, series: true})
}

func (j *Journal) add(e *Entry) *Entry {
	e.done = make(chan struct{})
	j.queue <- e
	return e
}

// write stores what is handed over, until Close.
func (j *Journal) write() {
	defer close(j.done)
	for e := range j.queue {
		batch := j.gather(e)
		err := j.store(batch)
		for _, e := range batch {
			if err != nil && e.err == nil {
				e.err = err
			}
			if e.series && j.lost == nil {
				j.lost = e.err
			}
			e.run, e.set = nil, nil // what was recorded need not be held any longer
			close(e.done)
		}
	}
}

// gather takes what waits already, and for a series what comes shortly. A
// record that somebody waits for ends the gathering.
func (j *Journal) gather(first *Entry) []*Entry {
	batch := []*Entry{first}
	patience := time.NewTimer(gatherFor)
	defer patience.Stop()
	for len(batch) < maxBatch {
		var more *Entry
		open := true
		if batch[len(batch)-1].series {
			select {
			case more, open = <-j.queue:
			case <-patience.C:
				return batch
			}
		} else {
			select {
			case more, open = <-j.queue:
			default:
				return batch
			}
		}
		if !open {
			return batch
		}
		batch = append(batch, more)
	}
	return batch
}

// store writes a batch in one transaction.
func (j *Journal) store(batch []*Entry) error {
	tx, err := j.db.Begin()
	if err != nil {
		return sqlfile.Explain(err, j.path)
	}
	defer func() { _ = tx.Rollback() }() // does nothing after a commit
	insert := tx.Stmt(j.insert)
	for _, e := range batch {
		var size int
		if e.n, size, e.err = j.insertOne(insert.Exec, e); e.err != nil {
			return e.err
		}
		j.grown[e.project] += int64(size)
	}
	if err := j.count(tx, batch[0].n, batch[len(batch)-1].n, time.Now()); err != nil {
		return sqlfile.Explain(err, j.path)
	}
	return sqlfile.Explain(tx.Commit(), j.path)
}

func (j *Journal) insertOne(exec func(args ...any) (sql.Result, error), e *Entry) (int64, int, error) {
	r := e.run
	kept, err := r.Keep(e.set)
	if err != nil {
		return 0, 0, fmt.Errorf("the run cannot be recorded: %w", err)
	}
	plain, err := cbor.Marshal(kept)
	if err != nil {
		return 0, 0, fmt.Errorf("the run cannot be recorded: %w", err)
	}
	outcome, cause := "ok", ""
	if r.Error != nil {
		outcome = r.Error.Kind
	}
	for _, f := range r.Findings {
		if !f.Note {
			cause = f.ID
			break
		}
	}
	sealed := j.box.Seal(plain, place(e.project))
	res, err := exec(e.project, r.Stage, r.Client, r.Command, outcome, cause, r.Started.UnixMilli(), formKept, sealed)
	if err != nil {
		return 0, 0, sqlfile.Explain(err, j.path)
	}
	n, err := res.LastInsertId()
	return n, len(sealed), err
}
