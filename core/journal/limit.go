package journal

import (
	"database/sql"
	"time"

	"tidycourier/core/sqlfile"
)

// Limits bound what is kept of a project's runs.
type Limits struct {
	Age   time.Duration
	Bytes int64
}

// DefaultLimits keep a quarter of a year, and what some 100,000 calls take.
var DefaultLimits = Limits{Age: 90 * 24 * time.Hour, Bytes: 256 << 20}

// pruneEvery is after how many runs the limits are looked at: often enough that
// no limit is passed by much, and seldom enough to cost nothing.
const pruneEvery = 64

// Bound sets a project's limits; a part that is 0 stays at its default.
func (j *Journal) Bound(project string, l Limits) {
	if l.Age <= 0 {
		l.Age = DefaultLimits.Age
	}
	if l.Bytes <= 0 {
		l.Bytes = DefaultLimits.Bytes
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	j.limits[project] = l
}

// Bounded reports whether a project's limits were set.
func (j *Journal) Bounded(project string) bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	_, set := j.limits[project]
	return set
}

func (j *Journal) bound(project string) Limits {
	j.mu.Lock()
	defer j.mu.Unlock()
	if l, set := j.limits[project]; set {
		return l
	}
	return DefaultLimits
}

// count keeps the sum of what each project takes, and prunes now and then.
func (j *Journal) count(tx *sql.Tx, first, last int64, now time.Time) error {
	for project, bytes := range j.grown {
		if _, err := tx.Exec(`INSERT INTO sizes VALUES (?,?) ON CONFLICT (project) DO UPDATE SET bytes = bytes + excluded.bytes`, project, bytes); err != nil {
			return err
		}
		delete(j.grown, project)
		if (first-1)/pruneEvery != last/pruneEvery { // a multiple lies between them
			if err := prune(tx, project, j.bound(project), now, last); err != nil {
				return err
			}
		}
	}
	return nil
}

// prune drops what is older or more than the limits allow, oldest first, and
// never the newest run.
func prune(tx *sql.Tx, project string, l Limits, now time.Time, newest int64) error {
	var total int64
	if err := tx.QueryRow(`SELECT bytes FROM sizes WHERE project=?`, project).Scan(&total); err != nil {
		return err
	}
	rows, err := tx.Query(`SELECT n, started, length(sealed) FROM runs WHERE project=? ORDER BY n`, project)
	if err != nil {
		return err
	}
	upTo, gone := int64(0), int64(0)
	for rows.Next() {
		var n, started, size int64
		if err := rows.Scan(&n, &started, &size); err != nil {
			break
		}
		if n >= newest || total-gone <= l.Bytes && now.Sub(time.UnixMilli(started)) <= l.Age {
			break
		}
		upTo, gone = n, gone+size
	}
	if err := rows.Close(); err != nil {
		return err
	}
	if upTo == 0 {
		return nil
	}
	if _, err := tx.Exec(`DELETE FROM runs WHERE project=? AND n<=?`, project, upTo); err != nil {
		return err
	}
	_, err = tx.Exec(`UPDATE sizes SET bytes = bytes - ? WHERE project=?`, gone, project)
	return err
}

// Clear drops a project's runs, those before a moment when it is not zero, and
// says how many. What was spent is remembered: it explains later refusals. The
// newest run's number is not given again.
func (j *Journal) Clear(project string, before time.Time) (int64, error) {
	tx, err := j.db.Begin()
	if err != nil {
		return 0, sqlfile.Explain(err, j.path)
	}
	defer func() { _ = tx.Rollback() }() // does nothing after a commit
	until := before.UnixMilli()
	if before.IsZero() {
		until = 1 << 62
	}
	var n int64
	err = tx.QueryRow(`SELECT count(*) FROM runs WHERE project=? AND started<?`, project, until).Scan(&n)
	for _, statement := range []string{
		`UPDATE runs SET project='-', client='', stage='', cause='', sealed=x'' WHERE project=?1 AND started<?2 AND n=(SELECT max(n) FROM runs)`,
		`DELETE FROM runs WHERE project=?1 AND started<?2`,
		`UPDATE sizes SET bytes=(SELECT ifnull(sum(length(sealed)), 0) FROM runs WHERE project=?1) WHERE project=?1 AND ?2=?2`,
	} {
		if err == nil {
			_, err = tx.Exec(statement, project, until)
		}
	}
	if err != nil {
		return 0, sqlfile.Explain(err, j.path)
	}
	if err := tx.Commit(); err != nil {
		return 0, sqlfile.Explain(err, j.path)
	}
	_, err = j.db.Exec(`VACUUM`) // what was cleared does not stay in the file
	return n, sqlfile.Explain(err, j.path)
}
