package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/place"
	"lumtra/core/secret"
	"lumtra/service/state"
)

// Options say where things lie.
type Options struct {
	// Workspace is the folder with endpoints.toml and jobs; State the folder
	// for everything Lumtra keeps.
	Workspace, State string
	Log              *slog.Logger
	// Trust confirms every use of a secret that the workspace's settings name, as a
	// person would; see [Use].
	Trust bool
}

// Service does the work in this process. Its methods may be called from many
// goroutines; Close ends what is under way and waits for it.
type Service struct {
	opts Options
	log  *slog.Logger
	life context.Context // ends with Close
	end  context.CancelFunc

	workspace atomic.Pointer[job.Workspace] // replaced whole, never changed
	secrets   *secret.Store

	records sync.Mutex // held while the history is opened
	history *history.DB

	mu      sync.Mutex // never held for long: the interface asks for runs
	runs    map[string]*ActiveRun
	limits  map[string]*endpointLimit
	last    map[string]*ActiveRun // the last run of each job that ended here
	serving bool                  // this is the background service
	acts    []*Act
	closed  bool
	waiting sync.WaitGroup

	link *link // to the background service

	reading sync.Mutex // held while the workspace is read
	vault   string     // what tells the kept credentials as they were read last

	opening   sync.Mutex // held while an endpoint is being opened
	endpoints map[string]*opened
	knowns    map[string]*place.Known // of endpoints that were opened
	former    []*opened               // replaced by newer settings, perhaps still in use
}

// ErrBadInput marks what a person typed or wrote and has to change.
var ErrBadInput = errors.New("bad input")

// Open reads the workspace. Endpoints and history are opened when first used.
func Open(opts Options) (*Service, error) {
	if opts.Log == nil {
		opts.Log = slog.New(slog.DiscardHandler)
	}
	w, err := job.LoadWorkspace(opts.Workspace)
	if err != nil {
		return nil, badInput(err)
	}
	if err := state.Open(opts.State); err != nil {
		return nil, badInput(err)
	}
	if err := os.MkdirAll(filepath.Join(opts.State, "jobs"), 0o700); err != nil {
		return nil, fmt.Errorf("the state folder: %w", err)
	}
	sweep(opts.State)
	s := &Service{opts: opts, log: opts.Log, endpoints: map[string]*opened{}, knowns: map[string]*place.Known{}, runs: map[string]*ActiveRun{}, limits: map[string]*endpointLimit{}, last: map[string]*ActiveRun{}, link: newLink(opts.State),
		secrets: secret.OpenStore(filepath.Join(opts.State, "secrets"))}
	s.life, s.end = context.WithCancel(context.Background())
	s.workspace.Store(w)
	s.vault = s.vaultPrint()
	return s, s.unlockUnattended()
}

// sweep removes temporary files that killed processes left in the state folder.
// What is younger than a day may still be in use.
func sweep(state string) {
	for _, pattern := range []string{"survey-*", "level-*", "catalogs/.*-*", "jobs/*/plans/.*-*"} {
		left, _ := filepath.Glob(filepath.Join(state, pattern))
		for _, path := range left {
			if info, err := os.Lstat(path); err == nil && time.Since(info.ModTime()) > 24*time.Hour {
				os.RemoveAll(path)
			}
		}
	}
}

// State is the folder for everything Lumtra keeps.
func (s *Service) State() string { return s.opts.State }

// badInput marks err as a person's to mend.
func badInput(err error) error { return fmt.Errorf("%w: %w", ErrBadInput, err) }

// Close stops runs, waits for them and closes endpoints and history.
func (s *Service) Close() error {
	s.mu.Lock()
	s.closed = true
	s.end()
	for _, r := range s.runs {
		r.Stop()
	}
	for _, a := range s.acts {
		a.Stop()
	}
	s.mu.Unlock()
	s.waiting.Wait()
	s.link.client.CloseIdleConnections()
	s.opening.Lock()
	defer s.opening.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, e := range append(slices.Collect(maps.Values(s.endpoints)), s.former...) {
		errs = append(errs, e.close())
	}
	if s.history != nil {
		errs = append(errs, s.history.Close())
	}
	return errors.Join(errs...)
}

// begin notes that something goes on that Close has to wait for: it gives a
// context that ends with the service, and what to call at the end. It is false
// when the service is closed.
func (s *Service) begin(ctx context.Context) (_ context.Context, done func(), ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return ctx, func() {}, false
	}
	s.waiting.Add(1)
	ctx, stop := context.WithCancel(ctx)
	forget := context.AfterFunc(s.life, stop)
	return ctx, func() { forget(); stop(); s.waiting.Done() }, true
}

// Workspace is the workspace as read last.
func (s *Service) Workspace() *job.Workspace { return s.workspace.Load() }

func (s *Service) job(name string) (*job.Job, error) {
	if d, err := s.drop(name); d != nil || err != nil {
		return d.asJob(name), err
	}
	j, err := s.Workspace().Job(name)
	if err != nil {
		return nil, badInput(err)
	}
	return j, nil
}

// jobDir is where a job's state lies; it is made if need be.
func (s *Service) jobDir(name string, sub ...string) (string, error) {
	dir := filepath.Join(append([]string{s.opts.State, "jobs", name}, sub...)...)
	return dir, os.MkdirAll(dir, 0o700)
}

func (s *Service) openHistory() (*history.DB, error) {
	s.records.Lock()
	defer s.records.Unlock()
	if s.history == nil {
		db, err := history.Open(filepath.Join(s.opts.State, "history.db"))
		if err != nil {
			return nil, err
		}
		s.history = db
	}
	return s.history, nil
}

// Place opens the place "endpoint/path".
func (s *Service) Place(ctx context.Context, at string) (place.Place, error) {
	name, path := job.SplitPlace(at)
	if name == trayEndpoint {
		return s.gathered(path)
	}
	end, err := s.endpoint(name)
	if err != nil {
		return nil, err
	}
	return end.Open(path)
}

// endpoint opens an endpoint, or gives the one that is open.
func (s *Service) endpoint(name string) (place.Endpoint, error) {
	cfg := s.Workspace().Endpoints[name]
	if cfg == nil {
		var known []string
		for n := range s.Workspace().Endpoints {
			known = append(known, n)
		}
		return nil, badInput(fmt.Errorf("there is no endpoint %q; there are %s", name, strings.Join(sorted(known), ", ")))
	}
	s.opening.Lock()
	defer s.opening.Unlock()
	if e := s.endpoints[name]; e != nil {
		return e.Endpoint, nil
	}
	s.mu.Lock()
	closed := s.closed
	s.mu.Unlock()
	if closed {
		return nil, context.Canceled
	}
	e, err := s.open(context.Background(), cfg, nil)
	if err != nil {
		return nil, err
	}
	s.endpoints[name], s.knowns[name] = e, e.known
	return e.Endpoint, nil
}
