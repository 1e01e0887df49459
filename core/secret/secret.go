package secret

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

// Text is a secret string. However it is printed, logged or marshalled, only
// its fingerprint shows.
type Text struct{ value string }

// New takes a value in.
func New(value string) Text { return Text{value} }

// Reveal gives the value to the code that signs with it, and to nothing else.
func (t Text) Reveal() string { return t.value }

// Empty tells whether there is no secret.
func (t Text) Empty() bool { return t.value == "" }

// Fingerprint is a short name by which two secrets can be told apart.
func (t Text) Fingerprint() string {
	if t.value == "" {
		return "none"
	}
	h := sha256.Sum256([]byte("lumtra fingerprint " + t.value))
	return hex.EncodeToString(h[:4])
}

// String is "(secret 1a2b3c4d)".
func (t Text) String() string { return "(secret " + t.Fingerprint() + ")" }

// GoString keeps %#v from showing the value.
func (t Text) GoString() string { return t.String() }

// MarshalText keeps every encoder from showing the value.
func (t Text) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// Resolve reads what a reference points to: "env:NAME" or "file:PATH" (the
// first line of the file). The error names the reference, never a value.
func Resolve(ref string) (Text, error) {
	kind, at, _ := strings.Cut(ref, ":")
	switch {
	case kind == "env" && at != "":
		v, ok := os.LookupEnv(at)
		if !ok || v == "" {
			return Text{}, fmt.Errorf("the environment variable %s is not set", at)
		}
		return Text{v}, nil
	case kind == "file" && at != "":
		raw, err := beginning(at)
		if err != nil {
			return Text{}, err
		}
		line, _, _ := strings.Cut(string(raw), "\n")
		if line = strings.TrimSpace(line); line == "" {
			return Text{}, fmt.Errorf("the file %s is empty", at)
		}
		return Text{line}, nil
	}
	return Text{}, fmt.Errorf(`a reference to a secret reads "env:NAME" or "file:PATH"`)
}

// beginning reads as much of a file as a secret can take. A workspace may name any file:
// a pipe that nobody writes to is not waited for, and a device without end ends here.
func beginning(path string) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, 64<<10))
}
