package workspace

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/place"
	"lumtra/core/secret"
	"lumtra/service/event"
	"lumtra/service/life"
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
	// Now is the clock that all is decided by; nil is the machine's.
	Now func() time.Time
	// Named are the flags that a command needs to be about this workspace.
	Named []string
}

// Keeper keeps a workspace. Its methods may be called from many goroutines.
type Keeper struct {
	Log *slog.Logger
	// Life is what goes on in this process, Dir where its state lies; Events tells of changes.
	Life   *life.Life
	Dir    state.Dir
	Events *event.Hub
	// Now is the time that all is decided by.
	Now func() time.Time
	// LastGood has a job whose file is broken stay as it was when it could be read last.
	LastGood atomic.Bool

	opts    Options
	read    atomic.Pointer[job.Workspace] // replaced whole, never changed
	cache   job.Cache
	secrets *secret.Store

	history lazy[*history.DB]

	readings atomic.Int64 // how many readings of the workspace have begun

	mu        sync.Mutex // never held while anything is read or asked
	taken     int64      // the reading that is in force
	vault     string     // what tells the kept credentials as they were read last
	endpoints map[string]*lazy[*opened]
	knowns    map[string]*place.Known // of endpoints that were opened
	former    []*lazy[*opened]        // replaced by newer settings, perhaps still in use
	closed    bool
}

// ErrBadInput marks what a person typed or wrote and has to change.
var ErrBadInput = errors.New("bad input")

// BadInput marks err as a person's to mend.
func BadInput(err error) error { return fmt.Errorf("%w: %w", ErrBadInput, err) }

// Workspace is the workspace as read last.
func (s *Keeper) Workspace() *job.Workspace { return s.read.Load() }

func (s *Keeper) Job(name string) (*job.Job, error) {
	if d, err := s.dropped(name); d != nil || err != nil {
		return d.asJob(name), err
	}
	j, err := s.Workspace().Job(name)
	if err != nil {
		return nil, BadInput(err)
	}
	return j, nil
}

// History opens the history, or gives the one that is open.
func (s *Keeper) History() (*history.DB, error) {
	return s.history.get(func() (*history.DB, error) { return history.Open(s.Dir.Path("history.db")) })
}

// Place opens the place "endpoint/path", or the inside of a pack: see [pack.Inside].
func (s *Keeper) Place(ctx context.Context, at string) (place.Place, error) {
	if at == "" { // which is not "/", all of this machine
		return nil, BadInput(errors.New("the name of a place is empty"))
	}
	name, path := job.SplitPlace(at)
	if name == TrayEndpoint {
		return s.gathered(path)
	}
	end, err := s.Endpoint(name)
	if err != nil {
		return nil, err
	}
	return s.openIn(end, path)
}

// Endpoint opens an endpoint, or gives the one that is open.
func (s *Keeper) Endpoint(name string) (place.Endpoint, error) {
	cfg := s.Workspace().Endpoints[name]
	if cfg == nil {
		return nil, BadInput(s.noEndpoint(name))
	}
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		return nil, context.Canceled
	}
	slot := s.endpoints[name]
	if slot == nil {
		slot = &lazy[*opened]{}
		s.endpoints[name] = slot
	}
	s.mu.Unlock()
	e, err := slot.get(func() (*opened, error) {
		e, err := s.open(context.Background(), cfg, nil)
		if err == nil {
			s.mu.Lock()
			s.knowns[name] = e.known
			s.mu.Unlock()
		}
		return e, err
	})
	if err != nil {
		return nil, err
	}
	return e.Endpoint, nil
}

// State is the folder for everything Lumtra keeps.
func (s *Keeper) State() string { return string(s.Dir) }

// Folder is the folder the workspace lies in.
func (s *Keeper) Folder() string { return s.opts.Workspace }

// Open reads the workspace. Endpoints and history are opened when first used.
func Open(opts Options) (*Keeper, error) {
	if opts.Log == nil {
		opts.Log = slog.New(slog.DiscardHandler)
	}
	if opts.Now == nil {
		opts.Now = time.Now
	}
	s := &Keeper{Events: &event.Hub{Now: opts.Now}, Now: opts.Now, Life: life.New(), Log: opts.Log,
		opts: opts, endpoints: map[string]*lazy[*opened]{}, knowns: map[string]*place.Known{}}
	w, err := s.cache.Load(opts.Workspace)
	if err != nil {
		return nil, BadInput(err)
	}
	if err := state.Open(opts.State); err != nil {
		return nil, BadInput(err)
	}
	dir := state.Dir(opts.State)
	if _, err := dir.Folder("jobs"); err != nil {
		return nil, fmt.Errorf("the state folder: %w", err)
	}
	dir.Sweep(opts.Now())
	s.Dir, s.secrets = dir, secret.OpenStore(dir.Path("secrets"))
	s.read.Store(w)
	s.vault = s.vaultPrint()
	return s, s.unlockUnattended()
}

// Close closes endpoints and history. Nothing is under way any more.
func (s *Keeper) Close() error {
	s.mu.Lock()
	s.closed = true
	slots := append(slices.Collect(maps.Values(s.endpoints)), s.former...)
	s.mu.Unlock()
	var errs []error
	for _, slot := range slots {
		if e, open := slot.take(); open {
			errs = append(errs, e.close())
		}
	}
	if db, open := s.history.take(); open {
		errs = append(errs, db.Close())
	}
	return errors.Join(errs...)
}
