package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"lumtra/core/history"
	"lumtra/core/pace"
)

// link is the way to a background service.
type link struct {
	client *http.Client

	mu    sync.Mutex
	about *About // nil while there is none
	runs  map[string]*ActiveRun
}

func newLink(state string) *link {
	path := filepath.Join(state, socketName)
	return &link{runs: map[string]*ActiveRun{}, client: &http.Client{Timeout: callPatience, Transport: &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			name, done, err := shortened(path)
			if err != nil {
				return nil, err
			}
			defer done()
			var d net.Dialer
			return d.DialContext(ctx, "unix", name)
		},
		IdleConnTimeout: time.Minute,
	}}}
}

// callPatience is how long to wait for the background service: it may test an
// endpoint before it says that a run has begun.
const callPatience = 2 * time.Minute

// call asks the background service.
func (l *link) call(ctx context.Context, method, path string, in, out any) error {
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, method, "http://service"+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	resp, err := l.client.Do(req)
	if err != nil {
		return fmt.Errorf("the background service does not answer: %w", err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return fmt.Errorf("the background service answered %s", resp.Status)
	}
	return json.NewDecoder(resp.Body).Decode(out)
}

// Background is the background service of this workspace, nil when none is
// running.
func (s *Service) Background(ctx context.Context) *About {
	s.mu.Lock()
	serving := s.serving
	s.mu.Unlock()
	if serving {
		return nil
	}
	about := &About{}
	if s.link.call(ctx, http.MethodGet, "/about", nil, about) != nil {
		about = nil
	}
	s.link.mu.Lock()
	s.link.about = about
	s.link.mu.Unlock()
	return about
}

// Linked is what Background or Follow found last.
func (s *Service) Linked() *About {
	s.link.mu.Lock()
	defer s.link.mu.Unlock()
	return s.link.about
}

// pollEvery is how often the state of runs elsewhere is asked for.
const pollEvery = 250 * time.Millisecond

// Follow looks for a background service, and at the runs it carries out, until
// the service is closed. Interfaces call it once.
func (s *Service) Follow() {
	ctx, done, ok := s.begin(context.Background())
	if !ok {
		return
	}
	s.waiting.Go(func() {
		defer done()
		tick := time.NewTicker(pollEvery)
		defer tick.Stop()
		for n := 0; ; n++ {
			if n%4 == 0 || s.Linked() != nil {
				s.look(ctx)
			}
			if n%4 == 3 {
				s.Reread()
			}
			select {
			case <-tick.C:
			case <-ctx.Done():
				return
			}
		}
	})
}

// look asks the background service for its runs once.
func (s *Service) look(ctx context.Context) {
	if s.Background(ctx) == nil {
		return
	}
	all := map[string]farRun{}
	if s.link.call(ctx, http.MethodGet, "/runs", nil, &all) != nil {
		return
	}
	l := s.link
	l.mu.Lock()
	defer l.mu.Unlock()
	for name, x := range all {
		if r := l.runs[name]; r != nil {
			r.take(x.State)
		} else if x.State != nil {
			l.runs[name] = s.far(name, x.State)
		}
	}
}

// far is a run that the background service carries out. It is followed until it
// ends.
func (s *Service) far(name string, state *RunState) *ActiveRun {
	r := &ActiveRun{Job: name, link: s.link, done: make(chan struct{}), state: state}
	ctx, done, ok := s.begin(context.Background())
	if !ok {
		r.err = context.Canceled
		close(r.done)
		return r
	}
	s.waiting.Go(func() {
		defer done()
		defer close(r.done)
		defer func() {
			s.link.mu.Lock()
			delete(s.link.runs, name)
			s.link.mu.Unlock()
		}()
		r.follow(ctx)
	})
	return r
}

// follow asks for the run's state until it is over.
func (r *ActiveRun) follow(ctx context.Context) {
	tick := time.NewTicker(pollEvery)
	defer tick.Stop()
	for silent := 0; ; {
		select {
		case <-tick.C:
		case <-ctx.Done():
			r.err = context.Canceled
			return
		}
		var x farRun
		err := r.link.call(ctx, http.MethodGet, "/runs/"+r.Job, nil, &x)
		switch {
		case err != nil:
			if silent++; silent*int(pollEvery) > int(5*time.Second) {
				r.err = err
				return
			}
		case x.State != nil:
			silent = 0
			r.take(x.State)
		case x.Ended != nil:
			r.result = *x.Ended
			if x.Error != nil {
				r.err = x.Error
			}
			return
		default:
			r.err = x.Error
			return
		}
	}
}

// take makes a state the newest known.
func (r *ActiveRun) take(state *RunState) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if state != nil {
		r.state = state
	}
}

// startFar has the background service begin a run.
func (s *Service) startFar(ctx context.Context, name string, opts RunOptions) (*ActiveRun, error) {
	var x farRun
	if err := s.link.call(ctx, http.MethodPost, "/runs/"+name, opts, &x); err != nil {
		return nil, err
	}
	if x.Error != nil {
		return nil, x.Error
	}
	x = farRun{}
	if err := s.link.call(ctx, http.MethodGet, "/runs/"+name, nil, &x); err != nil {
		return nil, err
	}
	if x.State == nil {
		x.State = &RunState{}
	}
	s.link.mu.Lock()
	defer s.link.mu.Unlock()
	if r := s.link.runs[name]; r != nil {
		return r, nil
	}
	r := s.far(name, x.State)
	s.link.runs[name] = r
	return r, nil
}

// steerFar sends a change to the background service.
func (r *ActiveRun) steerFar(x Steer) error {
	var answer farRun
	err := r.link.call(context.Background(), http.MethodPost, "/runs/"+r.Job+"/steer", x, &answer)
	if err == nil && answer.Error != nil {
		err = answer.Error
	}
	return err
}

// StartBackground starts a background service as a process of its own, which
// outlives this one, and waits until it answers.
func (s *Service) StartBackground(ctx context.Context) error {
	if s.Background(ctx) != nil {
		return nil
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(program, "--workspace", s.opts.Workspace, "--state", s.opts.State, "service")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // no terminal, no signals of ours
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("the background service could not be started: %w", err)
	}
	if err := cmd.Process.Release(); err != nil {
		return err
	}
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for patience := time.After(20 * time.Second); ; {
		select {
		case <-tick.C:
			if s.Background(ctx) != nil {
				return nil
			}
		case <-patience:
			return errors.New("the background service does not answer; `lumtra service` in a terminal tells why")
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// SteerFar changes a run that the background service carries out and tells how
// it is then. An empty change only tells.
func (s *Service) SteerFar(ctx context.Context, name string, x Steer) (RunState, error) {
	if s.Background(ctx) == nil {
		return RunState{}, badInput(errors.New("there is no background service; `lumtra service` is one"))
	}
	var answer farRun
	err := s.link.call(ctx, http.MethodPost, "/runs/"+name+"/steer", x, &answer)
	if err == nil && answer.Error != nil {
		err = answer.Error
	}
	if err == nil {
		answer = farRun{}
		err = s.link.call(ctx, http.MethodGet, "/runs/"+name, nil, &answer)
	}
	if err == nil && answer.State == nil {
		err = badInput(errors.New("the run has ended"))
	}
	if err != nil {
		return RunState{}, err
	}
	return *answer.State, nil
}

// steered is all that a person changed about the run.
func (r *ActiveRun) steered() Steer {
	r.mu.Lock()
	defer r.mu.Unlock()
	state := r.control.Steering()
	x := Steer{Priority: r.priority, Pause: &state.Paused}
	if !state.Automatic {
		x.Streams = &state.Streams
	}
	if r.byHand != nil {
		x.Bandwidth = pace.Limit{Rate: *r.byHand}.String()
	}
	return x
}

// HandOver has the runs under way in this process go on in the background
// service: each stops when its parts under way have arrived, and is begun there
// from where it stands.
func (s *Service) HandOver(ctx context.Context) error {
	if s.Background(ctx) == nil {
		return badInput(errors.New("there is no background service; `lumtra service` is one"))
	}
	s.mu.Lock()
	var here []*ActiveRun
	for _, r := range s.runs {
		here = append(here, r)
	}
	s.mu.Unlock()
	var errs []error
	for _, r := range here {
		err := r.Steer(Steer{End: "finish"})
		if err == nil {
			_, err = r.Wait()
		}
		if err == nil && r.result.End == history.Stopped {
			var far *ActiveRun
			if far, err = s.startFar(ctx, r.Job, RunOptions{Number: r.plan.Number, Despite: r.despite}); err == nil {
				err = far.steerFar(r.steered())
			}
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}
