package starts

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"lumtra/core/database"
)

// State is how far a start has come.
type State string

// The states. Those before Done are open.
const (
	Queued  State = "queued"  // waits to begin
	AtWork  State = "at work" // being surveyed, planned, run or proven
	Waiting State = "waiting" // its plan waits for a person
	Done    State = "done"    // ended well, nothing to do included
	Failed  State = "failed"  // something is left
	Skipped State = "skipped" // not begun, by what the job says of such starts
	Missed  State = "missed"  // not begun, as its time passed while nobody could begin it
	Stopped State = "stopped" // ended by a person
)

// Open tells that a start has not come to its end.
func (s State) Open() bool { return s == Queued || s == AtWork || s == Waiting }

// Cause is what a start comes from.
type Cause string

// The causes.
const (
	ByTime    Cause = "time"
	ByAfter   Cause = "after"   // another job ended well
	ByArrival Cause = "arrival" // something came
)

// Row is one start.
type Row struct {
	Job string
	// Slot names it: the moment that the schedule gives, or at which its cause came.
	Slot  time.Time
	Cause Cause
	State State
	// Due is when it may begin: the slot, put off by the spread, or by a window.
	Due time.Time
	// Moved is when its state changed last; Until how long it waits for a person, zero for
	// without end.
	Moved, Until time.Time
	// Plan is the plan it carries out, 0 before there is one.
	Plan int
	Note string
}

// Key is what there is once in the book.
type Key struct {
	Job  string
	Slot int64 // microseconds since 1970
}

// Key is the start's.
func (r *Row) Key() Key { return Key{r.Job, r.Slot.UnixMicro()} }

// FileName is the file of the book in the state folder.
const FileName = "starts.db"

// Book is the book. Its methods may be called from many goroutines, and processes.
type Book struct{ db *sql.DB }

const schema = `
CREATE TABLE IF NOT EXISTS starts (
	job TEXT NOT NULL, slot INTEGER NOT NULL, -- times are microseconds since 1970
	cause TEXT NOT NULL, state TEXT NOT NULL, due INTEGER NOT NULL,
	moved INTEGER NOT NULL, until INTEGER NOT NULL DEFAULT 0,
	plan INTEGER NOT NULL DEFAULT 0, note TEXT NOT NULL DEFAULT '',
	PRIMARY KEY (job, slot)
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS starts_open ON starts (state) WHERE state IN ('queued', 'at work', 'waiting');
CREATE INDEX IF NOT EXISTS starts_by_time ON starts (slot);
CREATE TABLE IF NOT EXISTS looked (
	job TEXT PRIMARY KEY, rule TEXT NOT NULL, upto INTEGER NOT NULL
) WITHOUT ROWID;
`

// Open opens or makes the book at path. What it has said is on the disk.
func Open(path string) (*Book, error) {
	db, err := database.Open(path, schema, database.Full)
	if err != nil {
		return nil, fmt.Errorf("the book of starts: %w", err)
	}
	return &Book{db}, nil
}

// Close closes the book.
func (b *Book) Close() error { return b.db.Close() }

// Upto is how far a job's schedule has been looked through: its starts up to that moment are in the
// book, or were none. False where that is not known, or was found by another rule.
func (b *Book) Upto(ctx context.Context, job, rule string) (upto time.Time, known bool, err error) {
	var micros int64
	var by string
	err = b.db.QueryRowContext(ctx, `SELECT rule, upto FROM looked WHERE job=?`, job).Scan(&by, &micros)
	if errors.Is(err, sql.ErrNoRows) {
		return time.Time{}, false, nil
	}
	return time.UnixMicro(micros), err == nil && by == rule, err
}

// Uptos are all at once: for each job the rule it was looked through by, and how far.
func (b *Book) Uptos(ctx context.Context) (map[string]Looked, error) {
	rows, err := b.db.QueryContext(ctx, `SELECT job, rule, upto FROM looked`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[string]Looked{}
	for rows.Next() {
		var job string
		var l Looked
		var micros int64
		if err := rows.Scan(&job, &l.Rule, &micros); err != nil {
			return nil, err
		}
		l.Upto = time.UnixMicro(micros)
		all[job] = l
	}
	return all, rows.Err()
}

// Looked is how far a job's schedule has been looked through, and by which rule.
type Looked struct {
	Rule string
	Upto time.Time
}

// Look notes, in one transaction, that jobs' schedules were looked through up to a moment, and the
// starts that were found. Those that are in the book already stay as they are; the ones that were
// new are returned.
func (b *Book) Look(ctx context.Context, looked map[string]Looked, found []Row) (taken []Row, err error) {
	err = b.within(ctx, func(tx *sql.Tx) (err error) {
		for job, l := range looked {
			if _, err := tx.ExecContext(ctx, `INSERT INTO looked (job, rule, upto) VALUES (?1, ?2, ?3)
				ON CONFLICT (job) DO UPDATE SET rule=?2, upto=max(CASE WHEN rule=?2 THEN upto ELSE 0 END, ?3)`,
				job, l.Rule, l.Upto.UnixMicro()); err != nil {
				return err
			}
		}
		taken, err = insert(ctx, tx, found)
		return err
	})
	return taken, err
}

// within runs f in a transaction that is kept if f succeeds.
func (b *Book) within(ctx context.Context, f func(*sql.Tx) error) error {
	tx, err := b.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := f(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

func insert(ctx context.Context, tx *sql.Tx, rows []Row) (taken []Row, err error) {
	for _, r := range rows {
		res, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO starts
			(job, slot, cause, state, due, moved, until, plan, note) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			r.Job, r.Slot.UnixMicro(), r.Cause, r.State, r.Due.UnixMicro(), r.Moved.UnixMicro(), micros(r.Until),
			r.Plan,
			r.Note)
		if err != nil {
			return nil, err
		}
		if n, err := res.RowsAffected(); err != nil {
			return nil, err
		} else if n > 0 {
			taken = append(taken, r)
		}
	}
	return taken, nil
}

func micros(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMicro()
}

// Move brings a start from a state to that of to, with its due time, wait, plan and note, and puts
// followers in, all in one transaction. False where it was in another state: then nothing is done.
func (b *Book) Move(ctx context.Context, from State, to Row, followers ...Row) (moved bool, taken []Row, err error) {
	err = b.within(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, `UPDATE starts SET state=?, due=?, moved=?, until=?, plan=?, note=?
			WHERE job=? AND slot=? AND state=?`, to.State, to.Due.UnixMicro(), to.Moved.UnixMicro(), micros(to.Until),
			to.Plan, to.Note, to.Job, to.Slot.UnixMicro(), from)
		if err != nil {
			return err
		}
		n, err := res.RowsAffected()
		if moved = n > 0; err == nil && moved {
			taken, err = insert(ctx, tx, followers)
		}
		return err
	})
	return moved, taken, err
}

// Open are the starts that have not come to their end, by slot.
func (b *Book) Open(ctx context.Context) ([]Row, error) {
	return b.rows(ctx, `WHERE state IN ('queued', 'at work', 'waiting') ORDER BY slot, job`)
}

// Since are the starts of a job (all jobs for "") with slots from a moment on, newest first.
func (b *Book) Since(ctx context.Context, job string, from time.Time, most int) ([]Row, error) {
	return b.rows(ctx, `WHERE (?1 = '' OR job = ?1) AND slot >= ?2 ORDER BY slot DESC, job LIMIT ?3`, job,
		from.UnixMicro(), most)
}

// Row is one start; false where there is none.
func (b *Book) Row(ctx context.Context, job string, slot time.Time) (Row, bool, error) {
	all, err := b.rows(ctx, `WHERE job=? AND slot=?`, job, slot.UnixMicro())
	if err != nil || len(all) == 0 {
		return Row{}, false, err
	}
	return all[0], true, nil
}

func (b *Book) rows(ctx context.Context, where string, args ...any) ([]Row, error) {
	rows, err := b.db.QueryContext(ctx,
		`SELECT job, slot, cause, state, due, moved, until, plan, note FROM starts `+where,
		args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Row
	for rows.Next() {
		var r Row
		var slot, due, moved, until int64
		if err := rows.Scan(&r.Job, &slot, &r.Cause, &r.State, &due, &moved, &until, &r.Plan, &r.Note); err != nil {
			return nil, err
		}
		r.Slot, r.Due, r.Moved = time.UnixMicro(slot), time.UnixMicro(due), time.UnixMicro(moved)
		if until != 0 {
			r.Until = time.UnixMicro(until)
		}
		all = append(all, r)
	}
	return all, rows.Err()
}

// Rename gives a job's starts its new name.
func (b *Book) Rename(ctx context.Context, was, name string) error {
	return b.within(ctx, func(tx *sql.Tx) error {
		for _, table := range []string{"starts", "looked"} {
			if _, err := tx.ExecContext(ctx, `UPDATE OR REPLACE `+table+` SET job=? WHERE job=?`, name,
				was); err != nil {
				return err
			}
		}
		return nil
	})
}

// Prune takes out ended starts with slots before a moment, so that the book stays small.
func (b *Book) Prune(ctx context.Context, before time.Time) error {
	_, err := b.db.ExecContext(ctx,
		`DELETE FROM starts WHERE slot < ? AND state NOT IN ('queued', 'at work', 'waiting')`,
		before.UnixMicro())
	return err
}

// Words are a start's state and note in one line.
func (r *Row) Words() string {
	return strings.TrimSuffix(string(r.State)+": "+r.Note, ": ")
}
