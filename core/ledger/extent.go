package ledger

import (
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
)

// extentTail is how much of a ledger's end tells it from what it was before.
const extentTail = 4 << 10

// Extent says how far the ledger at path has come, so that one that has gone on since is told
// from one that has not: by its length and a checksum of its end. Times of files tell
// neither: a copy, a clock or a second writer sets them anyhow. It is "" where there is none.
func Extent(path string) (string, error) {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	defer f.Close()
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return "", err
	}
	from := max(0, size-extentTail)
	h := crc32.New(crc)
	if _, err := io.Copy(h, io.NewSectionReader(f, from, size-from)); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d-%08x", size, h.Sum32()), nil
}
