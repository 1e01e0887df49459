package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"reflect"
	"time"

	"golang.org/x/sys/unix"

	"lumtra/core/history"
	"lumtra/core/job"
)

// The background service is a process that carries out runs for others on this
// machine, so that they go on when a window closes. It listens on a socket in
// the state folder, which only its owner can reach, and speaks JSON over HTTP:
//
//	GET  /about             who it is
//	GET  /runs              the runs under way, by job
//	GET  /runs/{job}        one; when it is over, how it ended
//	POST /runs/{job}        start one
//	POST /runs/{job}/steer  steer it
//
// Plans, ledgers and history lie in the state folder for everyone to read.
const socketName = "service.sock"

// About tells who a background service is.
type About struct {
	Pid   int       `json:"pid"`
	Began time.Time `json:"began"`
}

// ErrServed means that another background service has this state folder.
var ErrServed = errors.New("a background service is running for this workspace already")

// farRun is what the background service says of a run.
type farRun struct {
	State *RunState    `json:"state,omitempty"` // while it is under way
	Ended *history.Run `json:"ended,omitempty"`
	Error *farError    `json:"error,omitempty"`
}

// farError is an error on its way through the socket.
type farError struct {
	Kind string `json:"kind,omitempty"`
	Text string `json:"text"`
}

// farKinds are the errors that callers tell apart.
var farKinds = map[string]error{"input": ErrBadInput, "held": ErrHeld, "blocked": ErrBlocked, "undecided": ErrUndecided, "nothing": ErrNothingToDo, "busy": ErrBusy, "planning": ErrPlanning, "cancelled": context.Canceled}

func farErrorOf(err error) *farError {
	if err == nil {
		return nil
	}
	e := &farError{Text: err.Error()}
	for kind, is := range farKinds {
		if errors.Is(err, is) {
			e.Kind = kind
		}
	}
	return e
}

// Error is the text.
func (e *farError) Error() string { return e.Text }

// Unwrap gives the error that callers know.
func (e *farError) Unwrap() error { return farKinds[e.Kind] }

// Serve is the background service. It returns when ctx ends, with the runs
// under way stopped: what has arrived stays, and they can be gone on with.
func (s *Service) Serve(ctx context.Context) error {
	lock, err := os.OpenFile(filepath.Join(s.opts.State, "service.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil {
		return badInput(ErrServed)
	}
	path := filepath.Join(s.opts.State, socketName)
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) { // a killed one's
		return err
	}
	listener, err := listenPrivately(path)
	if err != nil {
		return fmt.Errorf("the service's socket: %w", err)
	}
	s.mu.Lock()
	s.serving = true
	s.mu.Unlock()
	s.openStandIns(ctx)
	server := &http.Server{Handler: s.routes(), ReadHeaderTimeout: 5 * time.Second}
	ended := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		defer close(ended)
		s.mu.Lock()
		for _, r := range s.runs {
			r.Stop()
		}
		s.mu.Unlock()
		quiet, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if server.Shutdown(quiet) != nil {
			server.Close()
		}
	})
	s.log.Info("background service begins", "pid", os.Getpid())
	err = server.Serve(listener)
	if !stop() {
		<-ended
	}
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return err
}

// listenPrivately listens on a socket that nobody else can open, not even for the
// moment before its permissions are set: it is made in a folder that only its owner
// can enter, and moved from there.
func listenPrivately(path string) (net.Listener, error) {
	dir, err := os.MkdirTemp(filepath.Dir(path), "s-") // with permissions 0700
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	made := filepath.Join(dir, "s")
	short, done, err := shortened(made)
	if err != nil {
		return nil, err
	}
	defer done()
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: short, Net: "unix"})
	if err != nil {
		return nil, err
	}
	listener.SetUnlinkOnClose(false)
	if err := errors.Join(os.Chmod(made, 0o600), os.Rename(made, path)); err != nil {
		listener.Close()
		return nil, err
	}
	return &private{listener, path}, nil
}

// shortened is a name for a socket by way of its folder, held open until done is called:
// the name of a socket has 107 bytes at the most (unix(7)), a path more.
func shortened(path string) (name string, done func() error, err error) {
	dir, err := os.Open(filepath.Dir(path))
	if err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("/proc/self/fd/%d/%s", dir.Fd(), filepath.Base(path)), dir.Close, nil
}

// private is a socket for its owner: whoever else comes through, as the permissions
// of a folder above can be changed, is turned away.
type private struct {
	*net.UnixListener
	path string
}

// Accept waits for the next of our own processes.
func (p *private) Accept() (net.Conn, error) {
	for {
		conn, err := p.AcceptUnix()
		if err != nil {
			return nil, err
		}
		if user, err := peer(conn); err == nil && (user == os.Geteuid() || user == 0) {
			return conn, nil
		}
		conn.Close()
	}
}

// Close removes the socket, too.
func (p *private) Close() error {
	return errors.Join(p.UnixListener.Close(), os.Remove(p.path))
}

// peer is the user at the other end of a connection (unix(7), SO_PEERCRED).
func peer(conn *net.UnixConn) (user int, err error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, err
	}
	var cred *unix.Ucred
	controlled := raw.Control(func(fd uintptr) { cred, err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) })
	if err = errors.Join(controlled, err); err != nil {
		return 0, err
	}
	return int(cred.Uid), nil
}

// openStandIns starts the workspace's stand-ins here, so that they live as long
// as the service and not as long as a window.
func (s *Service) openStandIns(ctx context.Context) {
	for name, e := range s.Workspace().Endpoints {
		if e.StandIn == "" {
			continue
		}
		if _, err := s.endpoint(name); err != nil {
			s.log.Warn("a stand-in could not be started", "endpoint", name, "error", err)
		}
	}
}

func (s *Service) routes() http.Handler {
	mux := http.NewServeMux()
	began := time.Now()
	mux.HandleFunc("GET /about", func(w http.ResponseWriter, _ *http.Request) { respond(w, About{os.Getpid(), began}) })
	mux.HandleFunc("GET /runs", func(w http.ResponseWriter, _ *http.Request) {
		all := map[string]farRun{}
		s.mu.Lock()
		runs := make(map[string]*ActiveRun, len(s.runs))
		for name, r := range s.runs {
			runs[name] = r
		}
		s.mu.Unlock()
		for name, r := range runs {
			state := r.State()
			all[name] = farRun{State: &state}
		}
		respond(w, all)
	})
	mux.HandleFunc("GET /runs/{job}", func(w http.ResponseWriter, req *http.Request) { respond(w, s.farState(req.PathValue("job"))) })
	mux.HandleFunc("POST /runs/{job}", func(w http.ResponseWriter, req *http.Request) {
		var opts RunOptions
		err := json.NewDecoder(req.Body).Decode(&opts)
		if err == nil {
			err = s.refresh()
		}
		if err == nil {
			_, err = s.StartRun(req.Context(), req.PathValue("job"), opts)
		}
		respond(w, farRun{Error: farErrorOf(err)})
	})
	mux.HandleFunc("POST /runs/{job}/steer", func(w http.ResponseWriter, req *http.Request) {
		var x Steer
		err := json.NewDecoder(req.Body).Decode(&x)
		if err == nil {
			err = s.Steer(req.PathValue("job"), x)
		}
		respond(w, farRun{Error: farErrorOf(err)})
	})
	return mux
}

func respond(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(v) // who asked may be gone
}

// farState is a run under way, or the one that ended last.
func (s *Service) farState(name string) farRun {
	s.mu.Lock()
	r, last := s.runs[name], s.last[name]
	s.mu.Unlock()
	switch {
	case r != nil:
		state := r.State()
		return farRun{State: &state}
	case last != nil:
		res, err := last.Wait()
		return farRun{Ended: &res, Error: farErrorOf(err)}
	}
	return farRun{Error: farErrorOf(badInput(errors.New("the job has not run here")))}
}

// refresh reads the workspace again, which others may have changed, and has
// endpoints that are other now opened anew.
func (s *Service) refresh() error {
	before := s.Workspace().Endpoints
	if err := s.reload(); err != nil {
		return err
	}
	for name, now := range s.Workspace().Endpoints {
		if was := before[name]; was != nil && !sameEndpoint(was, now) {
			s.forget(name)
		}
	}
	return nil
}

func sameEndpoint(a, b *job.Endpoint) bool {
	x, y := *a, *b
	x.Hours, y.Hours = nil, nil // made of the rest
	return reflect.DeepEqual(x, y)
}
