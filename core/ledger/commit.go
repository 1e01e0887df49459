package ledger

import (
	"bufio"
	"errors"
	"io"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// group is records that go to the system in one write, and to the disk in one
// sync: what comes in while one group is being written forms the next.
type group struct {
	records []byte
	written bool
	err     error
}

// fdatasync is replaced by a test that counts.
var fdatasync = unix.Fdatasync

// commit adds a record and returns when it is written, by this caller or another
// who took it along.
func (l *File) commit(kind byte, effect int64, fields func([]byte) []byte) error {
	l.mu.Lock()
	if l.err != nil {
		defer l.mu.Unlock()
		return l.err
	}
	g := l.forming
	g.records = appendRecord(g.records, kind, effect, fields)
	l.mu.Unlock()
	l.writing.Lock()
	defer l.writing.Unlock()
	if !g.written {
		l.mu.Lock()
		l.forming = &group{}
		l.mu.Unlock()
		g.written, g.err = true, l.write(g.records)
		if g.err != nil {
			l.mu.Lock()
			l.err = g.err
			l.mu.Unlock()
		}
	}
	return g.err
}

// write appends to the file. The caller holds writing.
func (l *File) write(b []byte) error {
	n, err := l.file.Write(b)
	l.size += int64(n)
	if err == nil && l.durable {
		err = fdatasync(int(l.file.Fd()))
	}
	if err == nil {
		err = l.compactIfDue()
	}
	return err
}

// compactFrom is the size in bytes from which a ledger is looked through for
// what nobody needs any more.
const compactFrom = 4 << 20

// compactIfDue writes the ledger anew without the parts of objects that are done
// and the failures that were overcome, when it has doubled since that was last
// done. Where that cannot be, as on a full disk, the old one serves on.
func (l *File) compactIfDue() error {
	if l.size < l.compact {
		return nil
	}
	if l.rewrite() != nil {
		l.compact = 2 * l.size
		_, err := l.file.Seek(l.size, io.SeekStart)
		return err
	}
	return nil
}

// rewrite has a new ledger take the old one's place once it is whole.
func (l *File) rewrite() error {
	name := l.path + ".new"
	file, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(name) // when it has not got its name
	size, err := l.copyLive(file)
	if err == nil {
		err = file.Sync()
	}
	if err == nil {
		err = os.Rename(name, l.path)
	}
	if err == nil {
		err = syncDir(filepath.Dir(l.path))
	}
	if err != nil {
		return errors.Join(err, file.Close())
	}
	l.file.Close()
	l.file, l.size, l.compact = file, size, max(2*size, compactFrom)
	return nil
}

// copyLive copies what is still needed and returns its size.
func (l *File) copyLive(to *os.File) (size int64, err error) {
	out := bufio.NewWriterSize(to, 256<<10)
	size = int64(len(ledgerMagic))
	out.WriteString(ledgerMagic)
	if _, err := l.file.Seek(size, io.SeekStart); err != nil {
		return 0, err
	}
	var framed []byte
	for all := newRecords(l.file); all.next(); {
		f := all.fields()
		if !l.needed(all.body[0], int64(f.uvarint())) {
			continue
		}
		framed = frame(framed[:0], all.body)
		size += int64(len(framed))
		if _, err := out.Write(framed); err != nil {
			return 0, err
		}
	}
	return size, out.Flush()
}

// needed tells whether a record of the effect still says something. Attempts are
// kept of what is not done.
func (l *File) needed(kind byte, effect int64) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	_, stray := l.strays[effect]
	switch kind {
	case recordBegin, recordPart, recordAbort:
		return l.uploads[effect] != nil || stray || !l.done.has(effect)
	case recordIntend, recordFound:
		return stray
	case recordTry, recordFailed:
		return !l.done.has(effect) && !l.after.has(effect)
	}
	return true
}

// syncDir brings a folder's names to the disk.
func syncDir(name string) error {
	dir, err := os.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}
