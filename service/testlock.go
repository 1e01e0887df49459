package service

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"lumtra/core/probe"
)

// openTest is a test under way, as the state folder has it: should the process be
// killed in it, the next one clears away what it left.
type openTest struct {
	// Path is the place in the endpoint, Prefix what its keys start with.
	Path, Prefix string
}

func (s *Service) openTestPath(name string) string {
	return strings.TrimSuffix(s.reportPath(name), ".json") + ".testing"
}

// testing takes the one right to test an endpoint, waits for it if need be, clears
// away what a killed test has left, and notes the one to come. end is called when it
// is over.
func (s *Service) testing(ctx context.Context, name, path string) (prefix string, end func(), err error) {
	f, err := s.lockTests(ctx, name)
	if err != nil {
		return "", nil, err
	}
	prefix = probe.NewPrefix()
	raw, err := json.Marshal(openTest{path, prefix})
	if err == nil {
		_, err = f.WriteAt(raw, 0)
	}
	if err != nil {
		return "", nil, errors.Join(err, f.Close())
	}
	return prefix, func() {
		f.Truncate(0)
		f.Close()
	}, nil
}

// lockTests opens the note of tests of an endpoint, locked and empty.
func (s *Service) lockTests(ctx context.Context, name string) (*os.File, error) {
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
	raw, err := io.ReadAll(f)
	var was openTest
	if err == nil && json.Unmarshal(raw, &was) == nil && was.Prefix != "" {
		err = s.clearTest(ctx, name, was)
	}
	if err == nil {
		err = f.Truncate(0)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

func (s *Service) clearTest(ctx context.Context, name string, was openTest) error {
	end, err := s.endpoint(name)
	if err != nil {
		return err
	}
	p, err := end.Open(was.Path)
	if err != nil {
		return err
	}
	s.log.Info("clearing away what a test has left", "endpoint", name, "prefix", was.Prefix)
	return probe.Clear(ctx, p, was.Prefix)
}

// clearTests clears away what a killed test of an endpoint has left, if any.
func (s *Service) clearTests(ctx context.Context, name string) {
	if info, err := os.Stat(s.openTestPath(name)); err != nil || info.Size() == 0 {
		return
	}
	f, err := s.lockTests(ctx, name)
	if err != nil {
		s.log.Warn("what a test has left could not be cleared away", "endpoint", name, "error", err)
		return
	}
	f.Close()
}
