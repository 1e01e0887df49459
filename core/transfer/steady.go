package transfer

import (
	"io"

	"lumtra/core/object"
	"lumtra/core/place"
)

// steady reads an object from its start to its end, and goes on where a connection was lost.
type steady struct {
	t    *transfer
	f    *flight
	b    *body
	at   int64
	left int64
	want object.Sum // of the whole, by the source; zero where it keeps none
}

func (s *steady) open() error {
	src := s.t.effect.Sent()
	return s.t.fetch(func() error {
		first, err := s.t.firstRead(false)
		if err != nil {
			return err
		}
		b, facts, err := s.t.open(s.f, place.ReadOptions{Version: src.Version, Offset: s.at, IfMark: src.Mark()})
		if err != nil {
			return err
		}
		if s.at == 0 {
			if s.want, _ = facts.Sum(object.CRC64NVME); s.want.Kind == object.NoSum {
				s.want = first
			}
			s.t.unverified.Store(facts.Unverified && first.Kind == object.NoSum)
		}
		s.b = b
		return nil
	})
}

// Read reads on, by a new request where one has failed.
func (s *steady) Read(p []byte) (int, error) {
	if s.left == 0 {
		return 0, io.EOF
	}
	if err := s.t.run.mayGo(); err != nil {
		return 0, err
	}
	n, err := s.b.Read(p[:min(int64(len(p)), s.left)])
	s.at, s.left = s.at+int64(n), s.left-int64(n)
	if err == nil || err == io.EOF && s.left == 0 {
		return n, nil
	}
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	err = place.Wrap(s.t.side.from.Name(), "read", s.t.effect.Sent().Key, err)
	first := true
	err = s.t.fetch(func() error {
		if first { // this attempt has failed already
			first = false
			s.b.r.Close()
			return err
		}
		return s.reopen()
	})
	return n, err
}

func (s *steady) reopen() error {
	src := s.t.effect.Sent()
	b, _, err := s.t.open(s.f, place.ReadOptions{Version: src.Version, Offset: s.at, IfMark: src.Mark()})
	if err == nil {
		s.b = b
	}
	return err
}

// mayGo waits while the run is paused, and tells when it ends.
func (r *run) mayGo() error {
	for {
		state, changed := r.control.watch()
		if r.ended() {
			return errEnding
		}
		if !state.Paused && !state.Quiet {
			return nil
		}
		select {
		case <-changed:
		case <-r.ctx.Done():
		}
	}
}

func (s *steady) close() { s.b.r.Close() }
