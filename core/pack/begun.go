package pack

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"lumtra/core/place"
	"lumtra/core/retry"
)

// byHand are the steps of a change that nobody takes up again. The upload it opens is noted in a file, before it
// is opened and after, so that the next change of the pack drops what a killed one has left in the store.
type byHand struct {
	ctx  context.Context
	to   place.Place
	key  string
	file *os.File // nil where nothing is noted
	// id is the upload that is open, and since the time from which on another may have been opened whose ID
	// nobody knows; zero for none. lost tells that an answer did not come.
	id    string
	since time.Time
	lost  bool
	// were are the uploads of the pack that were there before, if that is known.
	were  []string
	knows bool
}

func (b *byHand) Try(step func(int) error) error { return retry.Usual.Do(b.ctx, step) }
func (b *byHand) Ask(step func() error) error    { return b.Try(func(int) error { return step() }) }
func (b *byHand) Abort(abort func() error) error { return b.Ask(abort) }
func (*byHand) Noted() *Noted                    { return nil }
func (*byHand) Sent(place.Part) error            { return nil }

// Open has the file hold the time before it opens an upload: who is killed then does not live to see the ID.
func (b *byHand) Open(begin func() error) error {
	if b.since.IsZero() {
		b.since = time.Now()
		b.look()
	}
	if err := b.note(); err != nil {
		return err
	}
	return b.Try(func(int) error {
		err := begin()
		b.lost = b.lost || err != nil
		return err
	})
}

// look notes which uploads of the pack are there: they are others'.
func (b *byHand) look() {
	parts := place.Can(b.to).Parts
	if b.file == nil || !place.OpensUploads(parts) {
		return
	}
	var ups []place.Upload
	err := b.Ask(func() (err error) {
		ups, err = place.UploadsOf(b.ctx, parts, b.key)
		return err
	})
	b.were, b.knows = nil, err == nil
	for _, up := range ups {
		b.were = append(b.were, up.ID)
	}
}

func (b *byHand) Began(id string, _ int64) error {
	b.id = id
	if !b.lost {
		b.since = time.Time{}
	}
	return b.note()
}

func (b *byHand) Ended() error {
	b.id = ""
	return b.note()
}

// strayTime is how long after it was noted an upload may have been opened, by a store's clock; those begun later are
// others'.
const strayTime = 10 * time.Minute

// note writes what is to be dropped into the file, as one line, and is nothing where nothing is. What is there
// is gone over first and cut off then, so that there is no moment without it.
func (b *byHand) note() error {
	if b.file == nil {
		return nil
	}
	line := ""
	if b.id != "" || !b.since.IsZero() {
		line = fmt.Sprintf("%d %s", max(0, b.since.Unix()), b.id)
		were := strings.Join(b.were, " ")
		if b.knows && len(line)+len(were) < mostNote && !strings.Contains(were, "\n") {
			line += strings.TrimSuffix(" before "+were, " ")
		}
		line += "\n"
	}
	_, err := b.file.WriteAt([]byte(line), 0)
	if err == nil {
		err = b.file.Truncate(int64(len(line)))
	}
	return place.OwnError("write", b.file.Name(), err)
}

// drop aborts what the file names, and whatever was opened since.
func (b *byHand) drop(ctx context.Context) error {
	parts := place.Can(b.to).Parts
	if b.file == nil || parts == nil {
		return nil
	}
	ask := func(step func() error) error { return retry.Usual.Do(ctx, func(int) error { return step() }) }
	var errs []error
	if b.id != "" {
		errs = append(errs, ask(func() error { return parts.Abort(ctx, place.Upload{Key: b.key, ID: b.id}) }))
	}
	if !b.since.IsZero() {
		errs = append(errs, place.AbortStrays(ctx, parts, place.Strays{Key: b.key, Since: b.since,
			Until: b.since.Add(strayTime), Before: b.were, Noted: b.knows}, ask))
	}
	return errors.Join(errs...)
}

// newByHand opens the file in which the uploads of a pack are noted, below dir, and drops what is noted there. Where
// dir is "", or another process is at the pack, nothing is noted.
func newByHand(ctx context.Context, dir string, to place.Place, key string) (*byHand, error) {
	b := &byHand{ctx: ctx, to: to, key: key}
	if dir == "" {
		return b, nil
	}
	name := sha256.Sum256([]byte(to.Name() + "\x00" + key))
	path := filepath.Join(dir, "uploads", hex.EncodeToString(name[:12]))
	err := os.MkdirAll(filepath.Dir(path), 0o700)
	if err != nil {
		return b, place.OwnError("make", filepath.Dir(path), err)
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return b, place.OwnError("write", path, err)
	}
	if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil {
		return b, f.Close()
	}
	b.file = f
	if err := b.before(); err != nil {
		return b, errors.Join(err, f.Close())
	}
	return b, nil
}

// mostNote is how long a note may be.
const mostNote = 4000

// before drops what a change left that was killed, and has the file hold nothing.
func (b *byHand) before() error {
	was, err := io.ReadAll(io.LimitReader(b.file, 4096))
	if err != nil {
		return place.OwnError("read", b.file.Name(), err)
	}
	line, _, whole := strings.Cut(string(was), "\n")
	when, id, ok := strings.Cut(line, " ")
	id, were, knows := strings.Cut(id, " before")
	b.were, b.knows = strings.Fields(were), knows
	if seconds, err := strconv.ParseInt(when, 10, 64); whole && ok && err == nil {
		if b.id = id; seconds > 0 {
			b.since = time.Unix(seconds, 0)
		}
		_ = b.drop(b.ctx) // where that is refused the change goes on: `lumtra uploads` has what is left
	}
	if err := b.ctx.Err(); err != nil {
		return err
	}
	b.id, b.since, b.were, b.knows = "", time.Time{}, nil, false
	return b.note()
}

// patience is how long what was opened is tried to be dropped when the change itself was ended.
const patience = 10 * time.Second

// close drops what may have been opened without an answer, and what is open when somebody ends the change: that
// costs money. It gives the file back, which goes where nothing is noted in it any more.
func (b *byHand) close() error {
	if b.file == nil {
		return nil
	}
	ended := b.ctx.Err() != nil
	ctx, stop := context.WithTimeout(context.WithoutCancel(b.ctx), patience)
	defer stop()
	var err error
	if (b.id == "" || ended) && (b.drop(ctx) == nil || !ended) {
		b.id, b.since = "", time.Time{}
		err = b.note()
	}
	if info, stat := b.file.Stat(); stat == nil && info.Size() == 0 {
		err = errors.Join(err, os.Remove(b.file.Name()))
	}
	return errors.Join(err, b.file.Close())
}
