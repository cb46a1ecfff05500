package journal

import (
	"database/sql"
	"encoding/json"
	"fmt"

	"tidycourier/core/run"
	"tidycourier/core/sqlfile"
)

// maxBatch bounds how many records one transaction takes, and how many may
// wait: with it a fast series of calls cannot fill the memory.
const maxBatch = 64

// Entry is a record on its way to the disk.
type Entry struct {
	project string
	record  run.Record
	n       int64
	err     error
	done    chan struct{}
}

// Wait waits until the record is stored and returns the run's number.
func (e *Entry) Wait() (int64, error) {
	<-e.done
	return e.n, e.err
}

// Add hands a record over and returns at once. Records are stored in the order
// they were handed over; a series of them shares transactions.
func (j *Journal) Add(project string, r run.Record) *Entry {
	e := &Entry{project: project, record: r, done: make(chan struct{})}
	j.queue <- e
	return e
}

// write stores what is handed over, until Close.
func (j *Journal) write() {
	defer close(j.done)
	for e := range j.queue {
		batch := []*Entry{e}
	gather:
		for len(batch) < maxBatch {
			select {
			case more, open := <-j.queue:
				if !open {
					break gather
				}
				batch = append(batch, more)
			default:
				break gather
			}
		}
		err := j.store(batch)
		for _, e := range batch {
			if err != nil && e.err == nil {
				e.err = err
			}
			close(e.done)
		}
	}
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
	plain, err := json.Marshal(e.record)
	if err != nil {
		return 0, fmt.Errorf("the run cannot be recorded: %w", err)
	}
	outcome, cause := "ok", ""
	if e.record.Error != nil {
		outcome = e.record.Error.Kind
	}
	for _, f := range e.record.Findings {
		if !f.Note {
			cause = f.ID
			break
		}
	}
	r := &e.record
	res, err := exec(e.project, r.Stage, r.Client, r.Command, outcome, cause, r.Started.UnixMilli(), j.box.Seal(plain, place(e.project)))
	if err != nil {
		return 0, sqlfile.Explain(err, j.path)
	}
	return res.LastInsertId()
}
