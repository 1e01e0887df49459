package history

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"lumtra/core/database"
	"lumtra/core/transfer"
)

// End is how a run ended.
type End string

// The ends.
const (
	Running  End = "running"
	Clean    End = "done"
	Failures End = "done with failures"
	Stopped  End = "stopped"
	// Interrupted is the end of a run whose process ended without a word.
	Interrupted End = "interrupted"
	Broken      End = "broken off" // an error that made going on senseless
)

// Run is one run of a plan.
type Run struct {
	ID    int64
	Job   string
	Plan  int
	Began time.Time
	Ended time.Time // zero while running
	End   End
	// Planned is what the plan moves in all; Objects and Bytes what this run
	// did, Before what earlier runs of the plan had done.
	PlannedObjects, PlannedBytes int64
	Objects, Bytes               int64
	Before                       int64
	Failed, Retries              int64
	// SeenTo counts the sources that something became of afterwards.
	SeenTo int64
	// Unverified counts the objects that nothing vouched for.
	Unverified int64
	// Notes are what was found on the way, in words. They are not kept.
	Notes    []string
	Problems []transfer.Problem
	Samples  []transfer.Sample
	Course   transfer.Course
	// Gaps is what the plan's surveys could not list.
	Gaps int64
	// Expected is how long the plan was estimated to take; 0 for no estimate.
	Expected time.Duration
	// Note says why a run broke off.
	Note string
	// Pid is the process that runs it.
	Pid int
}

// DB is the history. Its methods may be called from many goroutines.
type DB struct{ db *sql.DB }

const schema = `
CREATE TABLE IF NOT EXISTS runs (
	id INTEGER PRIMARY KEY,
	job TEXT NOT NULL, plan INTEGER NOT NULL,
	began INTEGER NOT NULL, ended INTEGER NOT NULL DEFAULT 0, -- microseconds since 1970
	outcome TEXT NOT NULL,
	planned_objects INTEGER NOT NULL, planned_bytes INTEGER NOT NULL,
	objects INTEGER NOT NULL DEFAULT 0, bytes INTEGER NOT NULL DEFAULT 0, before INTEGER NOT NULL DEFAULT 0,
	failed INTEGER NOT NULL DEFAULT 0, retries INTEGER NOT NULL DEFAULT 0,
	gaps INTEGER NOT NULL DEFAULT 0, note TEXT NOT NULL DEFAULT '', pid INTEGER NOT NULL DEFAULT 0,
	problems TEXT NOT NULL DEFAULT '[]', samples TEXT NOT NULL DEFAULT '[]'
);
CREATE TABLE IF NOT EXISTS acts (
	id INTEGER PRIMARY KEY,
	at INTEGER NOT NULL, -- microseconds since 1970
	who TEXT NOT NULL, what TEXT NOT NULL, place TEXT NOT NULL,
	objects INTEGER NOT NULL, versions INTEGER NOT NULL, bytes INTEGER NOT NULL, failed INTEGER NOT NULL,
	outcome TEXT NOT NULL
);
CREATE INDEX IF NOT EXISTS runs_by_job ON runs (job, began);
CREATE INDEX IF NOT EXISTS runs_by_time ON runs (began);
`

// Open opens or makes the history at path.
func Open(path string) (*DB, error) {
	db, err := database.Open(path, schema, database.Normal)
	if err != nil {
		return nil, fmt.Errorf("the history: %w", err)
	}
	for _, column := range []string{"expected", "settled", "unverified"} {
		if _, err := db.Exec(`ALTER TABLE runs ADD COLUMN ` + column + ` INTEGER NOT NULL DEFAULT 0`); err != nil &&
			!strings.Contains(err.Error(), "duplicate column") {
			db.Close()
			return nil, fmt.Errorf("the history %s cannot be brought up to date: %w", path, err)
		}
	}
	if _, err := db.Exec(`ALTER TABLE runs ADD COLUMN course TEXT NOT NULL DEFAULT '{}'`); err != nil &&
		!strings.Contains(err.Error(), "duplicate column") {
		db.Close()
		return nil, fmt.Errorf("the history %s cannot be brought up to date: %w", path, err)
	}
	return &DB{db}, nil
}

// Rename gives a job's runs its new name.
func (h *DB) Rename(ctx context.Context, was, name string) error {
	_, err := h.db.ExecContext(ctx, `UPDATE runs SET job=? WHERE job=?`, name, was)
	return err
}

// Close closes the history.
func (h *DB) Close() error { return h.db.Close() }

// Begin notes the start of a run and sets its ID.
func (h *DB) Begin(ctx context.Context, r *Run) error {
	res, err := h.db.ExecContext(ctx,
		`INSERT INTO runs (job, plan, began, outcome, planned_objects, planned_bytes, before, gaps, pid, expected) `+
			`VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		r.Job, r.Plan, r.Began.UnixMicro(), Running, r.PlannedObjects, r.PlannedBytes, r.Before, r.Gaps, r.Pid,
		r.Expected.Microseconds())
	if err == nil {
		r.ID, err = res.LastInsertId()
	}
	return err
}

// Save writes the run as it stands; with an End other than Running it is over.
func (h *DB) Save(ctx context.Context, r *Run) error {
	problems, err := json.Marshal(r.Problems)
	if err != nil {
		return err
	}
	samples, err := json.Marshal(r.Samples)
	if err != nil {
		return err
	}
	course, err := json.Marshal(r.Course)
	if err != nil {
		return err
	}
	ended := int64(0)
	if !r.Ended.IsZero() {
		ended = r.Ended.UnixMicro()
	}
	_, err = h.db.ExecContext(ctx,
		`UPDATE runs SET ended=?, outcome=?, objects=?, bytes=?, before=?, failed=?, retries=?, note=?, problems=?, `+
			`samples=?, settled=?, unverified=?, course=? WHERE id=?`,
		ended, r.End, r.Objects, r.Bytes, r.Before, r.Failed, r.Retries, r.Note, problems, samples, r.SeenTo,
		r.Unverified, course, r.ID)
	return err
}

// Runs lists runs that began at or after since, newest first, at most limit;
// job "" means all jobs.
func (h *DB) Runs(ctx context.Context, job string, since time.Time, limit int) ([]Run, error) {
	rows, err := h.db.QueryContext(ctx,
		`SELECT id, job, plan, began, ended, outcome, planned_objects, planned_bytes, objects, bytes, before, failed,
		retries, gaps, note, pid, problems, samples, expected, settled, unverified,
		course
		 FROM runs WHERE (?1 = '' OR job = ?1) AND began >= ?2 ORDER BY began DESC, id DESC LIMIT ?3`, job,
		since.UnixMicro(), limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var runs []Run
	for rows.Next() {
		var r Run
		var began, ended, expected int64
		var problems, samples, course []byte
		if err := rows.Scan(&r.ID, &r.Job, &r.Plan, &began, &ended, &r.End, &r.PlannedObjects, &r.PlannedBytes,
			&r.Objects, &r.Bytes,
			&r.Before, &r.Failed, &r.Retries, &r.Gaps, &r.Note, &r.Pid, &problems, &samples, &expected, &r.SeenTo,
			&r.Unverified, &course); err != nil {
			return nil, err
		}
		r.Began, r.Expected = time.UnixMicro(began), time.Duration(expected)*time.Microsecond
		if ended != 0 {
			r.Ended = time.UnixMicro(ended)
		}
		if err := json.Unmarshal(problems, &r.Problems); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(samples, &r.Samples); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(course, &r.Course); err != nil {
			return nil, err
		}
		runs = append(runs, r)
	}
	return runs, rows.Err()
}

// Sums are what the runs of a job came to, over all that is kept.
type Sums struct {
	// Runs counts the runs that are over, by how they ended.
	Runs                   map[End]int64
	Bytes, Objects, Failed int64
	// LastClean is when a run ended well last; zero for never. Last is the newest run's end.
	LastClean time.Time
	LastEnd   End
	// CleanBegan is when the run that ended well last began.
	CleanBegan time.Time
}

// Sums are those of all jobs, by name.
func (h *DB) Sums(ctx context.Context) (map[string]*Sums, error) {
	rows, err := h.db.QueryContext(ctx,
		`SELECT job, outcome, count(*), sum(bytes), sum(objects), sum(failed), max(ended), began
		FROM runs WHERE ended > 0 GROUP BY job, outcome`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[string]*Sums{}
	newest := map[string]int64{}
	for rows.Next() {
		var job string
		var end End
		var n, bytes, objects, failed, last, began int64 // began is of the row with the last end
		if err := rows.Scan(&job, &end, &n, &bytes, &objects, &failed, &last, &began); err != nil {
			return nil, err
		}
		s := all[job]
		if s == nil {
			s = &Sums{Runs: map[End]int64{}}
			all[job] = s
		}
		s.Runs[end] = n
		s.Bytes, s.Objects, s.Failed = s.Bytes+bytes, s.Objects+objects, s.Failed+failed
		if end == Clean {
			s.LastClean, s.CleanBegan = time.UnixMicro(last), time.UnixMicro(began)
		}
		if last > newest[job] {
			newest[job], s.LastEnd = last, end
		}
	}
	return all, rows.Err()
}

// Brief lists runs that are over and began at or after since, newest first, at most limit, without what
// was measured in them: for looking at many.
func (h *DB) Brief(ctx context.Context, since time.Time, limit int) ([]Run, error) {
	rows, err := h.db.QueryContext(ctx, `SELECT job, plan, began, ended, outcome, bytes FROM runs
		WHERE began >= ? AND ended > 0 ORDER BY began DESC, id DESC LIMIT ?`, since.UnixMicro(), limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Run
	for rows.Next() {
		var r Run
		var began, ended int64
		if err := rows.Scan(&r.Job, &r.Plan, &began, &ended, &r.End, &r.Bytes); err != nil {
			return nil, err
		}
		r.Began, r.Ended = time.UnixMicro(began), time.UnixMicro(ended)
		all = append(all, r)
	}
	return all, rows.Err()
}
