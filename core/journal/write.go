package journal

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

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
	make    func() run.Record
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

// Add hands a record over and returns at once; it is stored without delay.
// Records are stored in the order they were handed over.
func (j *Journal) Add(project string, r run.Record) *Entry {
	return j.add(&Entry{project: project, make: func() run.Record { return r }})
}

// AddBehind is Add for one of a series: the record is made and stored behind
// the caller, together with those that follow shortly. What make reads must not
// change any more.
func (j *Journal) AddBehind(project string, make func() run.Record) *Entry {
	return j.add(&Entry{project: project, make: make, series: true})
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
			e.make = nil // what was recorded need not be held any longer
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
		if e.n, e.err = j.insertOne(insert.Exec, e); e.err != nil {
			return e.err
		}
	}
	return sqlfile.Explain(tx.Commit(), j.path)
}

func (j *Journal) insertOne(exec func(args ...any) (sql.Result, error), e *Entry) (int64, error) {
	r := e.make()
	plain, err := json.Marshal(r)
	if err != nil {
		return 0, fmt.Errorf("the run cannot be recorded: %w", err)
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
	res, err := exec(e.project, r.Stage, r.Client, r.Command, outcome, cause, r.Started.UnixMilli(), j.box.Seal(plain, place(e.project)))
	if err != nil {
		return 0, sqlfile.Explain(err, j.path)
	}
	return res.LastInsertId()
}
