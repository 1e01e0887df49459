package history

import (
	"context"
	"time"
)

// Act is something a person did by hand that removed or replaced things.
type Act struct {
	At time.Time
	// Who is the user on this machine, What the act in words ("remove",
	// "empty bucket"), Place where, as "endpoint/bucket/key".
	Who, What, Place string
	// Objects, Versions (markers and unfinished uploads included) and Bytes are
	// what is gone, Failed what could not be removed.
	Objects, Versions, Bytes, Failed int64
	// Outcome is "done", or why it ended early.
	Outcome string
}

// Note keeps an act.
func (h *DB) Note(ctx context.Context, a Act) error {
	_, err := h.db.ExecContext(ctx,
		`INSERT INTO acts (at, who, what, place, objects, versions, bytes, failed, outcome) VALUES (?, ?, ?, ?, ?, ?`+
			`, ?, ?, ?)`,
		a.At.UnixMicro(), a.Who, a.What, a.Place, a.Objects, a.Versions, a.Bytes, a.Failed, a.Outcome)
	return err
}

// Acts lists acts, newest first, at most limit.
func (h *DB) Acts(ctx context.Context, limit int) ([]Act, error) {
	rows, err := h.db.QueryContext(ctx,
		`SELECT at, who, what, place, objects, versions, bytes, failed, outcome FROM acts ORDER BY at DESC, id DESC `+
			`LIMIT ?`, limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var acts []Act
	for rows.Next() {
		var a Act
		var at int64
		if err := rows.Scan(&at, &a.Who, &a.What, &a.Place, &a.Objects, &a.Versions, &a.Bytes, &a.Failed,
			&a.Outcome); err != nil {
			return nil, err
		}
		a.At = time.UnixMicro(at)
		acts = append(acts, a)
	}
	return acts, rows.Err()
}
