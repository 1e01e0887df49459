package notify

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"lumtra/core/database"
)

// Outbox holds messages until they are sent, or given up. Its methods may be called from many
// goroutines, and processes.
type Outbox struct{ db *sql.DB }

const schema = `
CREATE TABLE IF NOT EXISTS messages (
	id TEXT NOT NULL, receiver TEXT NOT NULL, body TEXT NOT NULL,
	state TEXT NOT NULL DEFAULT 'waiting', -- waiting, sent, given up
	made INTEGER NOT NULL, due INTEGER NOT NULL, tries INTEGER NOT NULL DEFAULT 0,
	ended INTEGER NOT NULL DEFAULT 0, error TEXT NOT NULL DEFAULT '',
	PRIMARY KEY (id, receiver)
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS looked (one INTEGER PRIMARY KEY CHECK (one = 1), first INTEGER NOT NULL,
	upto INTEGER NOT NULL);
CREATE INDEX IF NOT EXISTS messages_waiting ON messages (due) WHERE state = 'waiting';
`

// OpenOutbox opens or makes the outbox at path. What it has said is on the disk.
func OpenOutbox(path string) (*Outbox, error) {
	db, err := database.Open(path, schema, database.Full)
	if err != nil {
		return nil, fmt.Errorf("the outbox: %w", err)
	}
	return &Outbox{db}, nil
}

// Close closes the outbox.
func (o *Outbox) Close() error { return o.db.Close() }

// Looked is since when what happens is looked at, and up to when it was; now for both, where it never
// was.
func (o *Outbox) Looked(ctx context.Context, now time.Time) (first, upto time.Time, err error) {
	if _, err := o.db.ExecContext(ctx, `INSERT OR IGNORE INTO looked (one, first, upto) VALUES (1, ?1, ?1)`,
		now.UnixMicro()); err != nil {
		return first, upto, err
	}
	var a, b int64
	err = o.db.QueryRowContext(ctx, `SELECT first, upto FROM looked`).Scan(&a, &b)
	return time.UnixMicro(a), time.UnixMicro(b), err
}

// SetLooked notes that what happened was looked at, and put in, up to a moment.
func (o *Outbox) SetLooked(ctx context.Context, upto time.Time) error {
	_, err := o.db.ExecContext(ctx, `UPDATE looked SET upto=?`, upto.UnixMicro())
	return err
}

// Put puts a message in for receivers, to be sent from due on. One that was put in before, sent or
// not, is not put in again.
func (o *Outbox) Put(ctx context.Context, m *Message, due map[string]time.Time) error {
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	tx, err := o.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	for receiver, at := range due {
		if _, err := tx.ExecContext(ctx,
			`INSERT OR IGNORE INTO messages (id, receiver, body, made, due) VALUES (?, ?, ?, ?, ?)`,
			m.ID, receiver, string(body), m.At.UnixMicro(), at.UnixMicro()); err != nil {
			return errors.Join(err, tx.Rollback())
		}
	}
	return tx.Commit()
}

// Waiting is a message that waits for a receiver.
type Waiting struct {
	Message
	Receiver string
	Due      time.Time
	Tries    int
	Made     time.Time
	// Error is what the last try failed on; State is "waiting", "sent" or "given up".
	Error string
	State string
}

// Due are the messages that are to be sent by now, by receiver, oldest first.
func (o *Outbox) Due(ctx context.Context, now time.Time) ([]Waiting, error) {
	return o.list(ctx, `WHERE state='waiting' AND due <= ? ORDER BY receiver, made, id LIMIT 500`, now.UnixMicro())
}

// Next is when the next message is to be sent; the zero time for none.
func (o *Outbox) Next(ctx context.Context) (time.Time, error) {
	var due sql.NullInt64
	err := o.db.QueryRowContext(ctx, `SELECT min(due) FROM messages WHERE state='waiting'`).Scan(&due)
	if err != nil || !due.Valid {
		return time.Time{}, err
	}
	return time.UnixMicro(due.Int64), nil
}

// List are the newest messages, newest first.
func (o *Outbox) List(ctx context.Context, most int) ([]Waiting, error) {
	return o.list(ctx, `ORDER BY made DESC, id LIMIT ?`, most)
}

func (o *Outbox) list(ctx context.Context, where string, args ...any) ([]Waiting, error) {
	rows, err := o.db.QueryContext(ctx, `SELECT receiver, body, due, tries, made, error, state FROM messages `+where,
		args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Waiting
	for rows.Next() {
		var w Waiting
		var body string
		var due, made int64
		if err := rows.Scan(&w.Receiver, &body, &due, &w.Tries, &made, &w.Error, &w.State); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(body), &w.Message); err != nil {
			return nil, fmt.Errorf("a message in the outbox cannot be read: %w", err)
		}
		w.Due, w.Made = time.UnixMicro(due), time.UnixMicro(made)
		all = append(all, w)
	}
	return all, rows.Err()
}

// retries are the waits between tries; the last is repeated until a message is given up.
var retries = []time.Duration{10 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour}

// giveUpAfter is how long a message is tried: a mail server that is down for a day is waited for.
const giveUpAfter = 3 * 24 * time.Hour

// Tried writes down how the sending of messages went. It tells whether they were given up.
func (o *Outbox) Tried(ctx context.Context, all []Waiting, failed error, now time.Time) (gaveUp bool, err error) {
	tx, err := o.db.BeginTx(ctx, nil)
	if err != nil {
		return false, err
	}
	for i := range all {
		w := &all[i]
		state, due, ended, said := "sent", w.Due, now.UnixMicro(), ""
		if failed != nil {
			said = failed.Error()
			state, due, ended = "waiting", now.Add(retries[min(w.Tries, len(retries)-1)]), 0
			if errors.Is(failed, ErrPermanent) || now.Sub(w.Made) > giveUpAfter {
				state, ended, gaveUp = "given up", now.UnixMicro(), true
			}
		}
		if _, err := tx.ExecContext(ctx, `UPDATE messages SET state=?, due=?, tries=tries+1, ended=?, error=?
			WHERE id=? AND receiver=?`, state, due.UnixMicro(), ended, said, w.ID, w.Receiver); err != nil {
			return false, errors.Join(err, tx.Rollback())
		}
	}
	return gaveUp, tx.Commit()
}

// Prune takes out what ended before a moment.
func (o *Outbox) Prune(ctx context.Context, before time.Time) error {
	_, err := o.db.ExecContext(ctx, `DELETE FROM messages WHERE ended > 0 AND ended < ?`, before.UnixMicro())
	return err
}
