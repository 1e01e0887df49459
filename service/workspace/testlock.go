package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"lumtra/core/probe"
)

// openTest is a test under way, as the state folder has it: should the process be
// killed in it, those that come after clear away what it left.
type openTest struct {
	// Path is the place in the endpoint, Prefix what its keys start with.
	Path, Prefix string
	At           time.Time
}

// openTestAge is how long after a killed test it is looked for what it left: what it
// had handed to the network may arrive later than the next look.
const openTestAge = time.Hour

func (s *Keeper) openTestPath(name string) string {
	return strings.TrimSuffix(s.reportPath(name), ".json") + ".testing"
}

// Testing takes the one right to test an endpoint, waits for it if need be, clears
// away what a killed test has left, and notes the one to come. end is called when it
// is over.
func (s *Keeper) Testing(ctx context.Context, name, path string) (prefix string,
	end func(clean bool), err error) {
	f, err := s.lockTests(ctx, name)
	if err != nil {
		return "", nil, err
	}
	left, err := readTests(f)
	prefix = probe.NewPrefix()
	if err == nil {
		err = writeTests(f, append(left, openTest{path, prefix, s.Now()}))
	}
	if err != nil {
		return "", nil, errors.Join(err, f.Close())
	}
	return prefix, func(clean bool) {
		if clean { // else it is cleared away before the next one, or a survey
			err = writeTests(f, left)
		}
		if err != nil {
			s.Log.Warn("the note of a test could not be closed", "endpoint", name, "error", err)
		}
		f.Close()
	}, nil
}

// readTests reads the tests that were not ended. A note cut short names none.
func readTests(f *os.File) (left []openTest, err error) {
	raw, err := io.ReadAll(io.NewSectionReader(f, 0, 1<<20))
	if err != nil || json.Unmarshal(raw, &left) != nil {
		return nil, err
	}
	return left, nil
}

func writeTests(f *os.File, all []openTest) error {
	if len(all) == 0 {
		return f.Truncate(0)
	}
	raw, err := json.Marshal(all)
	if err == nil {
		_, err = f.WriteAt(raw, 0)
	}
	if err == nil {
		err = f.Truncate(int64(len(raw)))
	}
	return err
}

// lockTests opens the note of tests of an endpoint, locked, and clears away what those
// have left that it names.
func (s *Keeper) lockTests(ctx context.Context, name string) (*os.File, error) {
	at := s.openTestPath(name)
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(at, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	for unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil {
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return nil, errors.Join(ctx.Err(), f.Close())
		}
	}
	left, err := readTests(f)
	for _, was := range left {
		if bad := s.clearTest(ctx, name, was); bad != nil { // the next one tries again
			s.Log.Warn("what a test has left could not be cleared away", "endpoint", name, "error", bad)
		}
	}
	if err == nil {
		err = writeTests(f, slices.DeleteFunc(left, func(x openTest) bool { return s.Now().Sub(x.At) > openTestAge }))
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

func (s *Keeper) clearTest(ctx context.Context, name string, was openTest) error {
	end, err := s.Endpoint(name)
	if err != nil {
		return err
	}
	p, err := end.Open(was.Path)
	if err != nil {
		return err
	}
	s.Log.Info("clearing away what a test has left", "endpoint", name, "prefix", was.Prefix)
	return probe.Clear(ctx, p, was.Prefix)
}

// ClearTests clears away what a killed test of an endpoint has left, if any.
func (s *Keeper) ClearTests(ctx context.Context, name string) {
	if info, err := os.Stat(s.openTestPath(name)); err != nil || info.Size() == 0 {
		return
	}
	f, err := s.lockTests(ctx, name)
	if err != nil {
		s.Log.Warn("what a test has left could not be cleared away", "endpoint", name, "error", err)
		return
	}
	f.Close()
}
