// Package database opens the small databases of a state folder (SQLite): private to their owner, safe
// to be written by several processes, each of which waits for the others a while. It knows no tables.
package database

import (
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"

	_ "modernc.org/sqlite" // the driver
)

// Sync says what outlives a power loss; whatever was committed outlives a crash.
type Sync string

// The ways: all that was committed, or what was committed a moment ago perhaps not.
const (
	Full   Sync = "FULL"
	Normal Sync = "NORMAL"
)

// Open opens or makes the database at path, and has its tables be there. Write transactions begin as
// such, so that none fails on another half way.
func Open(path, schema string, sync Sync) (*sql.DB, error) {
	// Names of objects are in it: it is for nobody else to read.
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err == nil {
		err = errors.Join(file.Chmod(0o600), file.Close())
	}
	if err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite", "file:"+url.PathEscape(path)+"?_pragma=busy_timeout(5000)&_pragma=journal_mode(WAL)"+
		"&_pragma=synchronous("+string(sync)+")&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	if _, err := db.Exec(schema); err != nil {
		db.Close()
		return nil, fmt.Errorf("%s cannot be opened: %w", path, err)
	}
	return db, nil
}
