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
const maxBatch = 128

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
	batch   *batch
	journal *Journal
}

// batch is what one transaction stores. A series is handed to the writer batch by
// batch: waking it for each record would cost more than storing one.
type batch struct {
	entries []*Entry
	done    chan struct{}
}

// Wait waits until the record is stored and returns the run's number.
func (e *Entry) Wait() (int64, error) {
	select {
	case <-e.batch.done:
	default:
		e.journal.flush() // nobody else may come to fill its batch
		<-e.batch.done
	}
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
	j.handing.Lock()
	defer j.handing.Unlock()
	if j.pending == nil {
		j.pending = &batch{done: make(chan struct{})}
	}
	e.batch, e.journal = j.pending, j
	j.pending.entries = append(j.pending.entries, e)
	switch {
	case !e.series || len(j.pending.entries) >= maxBatch:
		j.hand()
	case len(j.pending.entries) == 1:
		j.patience.Reset(gatherFor)
	}
	return e
}

// flush hands over what waits for its batch to fill.
func (j *Journal) flush() {
	j.handing.Lock()
	defer j.handing.Unlock()
	j.hand()
}

func (j *Journal) hand() {
	if j.pending != nil {
		j.queue <- j.pending
		j.pending = nil
	}
}

// write stores what is handed over, until Close.
func (j *Journal) write() {
	defer close(j.done)
	for first := range j.queue {
		batches, entries := []*batch{first}, first.entries
		for len(entries) < maxBatch { // what several callers wait for goes together
			select {
			case more, open := <-j.queue:
				if open {
					batches, entries = append(batches, more), append(entries, more.entries...)
					continue
				}
			default:
			}
			break
		}
		err := j.store(entries)
		for _, e := range entries {
			if err != nil && e.err == nil {
				e.err = err
			}
			if e.series && j.lost == nil {
				j.lost = e.err
			}
			e.run, e.set = nil, nil // what was recorded need not be held any longer
		}
		for _, b := range batches {
			b.entries = nil
			close(b.done)
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
