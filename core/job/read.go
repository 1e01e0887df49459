package job

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// mostText is how large a file of settings may be.
const mostText = 4 << 20

// readText reads a file of settings. A workspace may come from somebody else: what is
// no plain file is not waited for, and what does not end is not read to its end.
func readText(path string) ([]byte, error) {
	file, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &os.PathError{Op: "read", Path: path, Err: errors.New("it is not a plain file")}
	}
	if err != nil {
		return nil, err
	}
	raw, err := io.ReadAll(io.LimitReader(file, mostText+1))
	if err == nil && len(raw) > mostText {
		err = &os.PathError{Op: "read", Path: path, Err: fmt.Errorf("it is larger than %d MiB", mostText>>20)}
	}
	if bytes.HasPrefix(raw, []byte("\xff\xfe")) || bytes.HasPrefix(raw, []byte("\xfe\xff")) {
		err = &os.PathError{Op: "read", Path: path, Err: errors.New("it is written in UTF-16; save it as UTF-8")}
	}
	// Some editors begin a file with the mark of its byte order, which means nothing in UTF-8 (RFC 3629, 6).
	return bytes.TrimPrefix(raw, []byte("\xef\xbb\xbf")), err
}
