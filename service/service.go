package service

import (
	"context"
	"errors"
	"runtime/debug"
	"time"

	"golang.org/x/sync/errgroup"

	"lumtra/client"
	"lumtra/core/starts"
	"lumtra/service/agenda"
	"lumtra/service/api"
	"lumtra/service/arrivals"
	"lumtra/service/browse"
	"lumtra/service/cycle"
	"lumtra/service/measure"
	"lumtra/service/notifier"
	"lumtra/service/remote"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// Service is what an interface works with: the rooms below, and which of them a run is for.
// Its methods may be called from many goroutines; Close ends what is under way and waits
// for it.
type Service struct {
	*workspace.Keeper
	*browse.Browser
	*workroom.Room

	here  *runs.Runner
	there *remote.Client
}

// Open reads the workspace. Endpoints and history are opened when first used.
func Open(opts workspace.Options) (*Service, error) {
	ws, err := workspace.Open(opts)
	if err != nil {
		return nil, err
	}
	room := workroom.New(ws)
	return &Service{Keeper: ws, Browser: browse.New(ws), Room: room, here: runs.New(ws, room),
		there: remote.NewClient(ws)}, nil
}

// Close stops runs, waits for them and closes endpoints and history.
func (s *Service) Close() error {
	s.Life.End()
	s.there.Close()
	return s.Keeper.Close()
}

// ServeOptions are what a background service does beside its work.
type ServeOptions struct {
	// Events is an address at which event messages of stores are taken, "" for none; they have to
	// bring the Token.
	Events, Token string
	// API says how programs of other machines reach the service; its Token is that of Events, too.
	API api.Remote
	// Measure says where the service can be watched.
	Measure measure.Options
}

// serviceGC is how much a service lets its memory grow, in percent, before it tidies up: it mostly
// waits, and memory is better used by others.
const serviceGC = 40

// Serve has this process be the background service, until ctx ends: it carries out runs, and starts
// jobs at their times.
func (s *Service) Serve(ctx context.Context, opts ServeOptions) error {
	ctx, over, ok := s.Life.Begin(ctx) // closing the workspace ends it, and waits for it
	if !ok {
		return context.Canceled
	}
	defer over()
	programs := api.New(s.Keeper, s.Room, s.here).Handler
	return remote.Serve(ctx, s.Keeper, s.here, programs, func(ctx context.Context) error {
		s.LastGood.Store(true)
		debug.SetGCPercent(serviceGC)
		a, err := agenda.Open(ctx, s.Keeper, s.Room, s.here)
		if err != nil {
			return err
		}
		n, err := notifier.Open(ctx, s.Keeper, s.Room)
		if err != nil {
			return errors.Join(err, a.Close())
		}
		both, ctx := errgroup.WithContext(ctx)
		both.Go(func() error { s.Watch(ctx); return nil })
		both.Go(func() error { tidyUp(ctx, a.Begun(), func() bool { return len(s.here.All()) == 0 }); return nil })
		both.Go(func() error { return errors.Join(a.Run(ctx), a.Close()) })
		both.Go(func() error { return errors.Join(n.Run(ctx), n.Close()) })
		both.Go(func() error {
			w := &arrivals.Watch{WS: s.Keeper, Since: a.LastArrival, Came: a.Came, Events: opts.Events,
				Token: opts.Token}
			return w.Run(ctx)
		})
		both.Go(func() error { return api.Serve(ctx, s.Keeper, programs(ctx), opts.API) })
		both.Go(func() error { return measure.New(s.Keeper, s.here, a.Alive, opts.Measure).Run(ctx) })
		return both.Wait()
	})
}

// Agenda is what was and what comes by itself, of all jobs, back to since and ahead to until.
func (s *Service) Agenda(ctx context.Context, since, until time.Time) (*agenda.Outlook, error) {
	return agenda.Look(ctx, s.Keeper, since, until)
}

// Starts are the starts in the book with slots from a moment on, newest first.
func (s *Service) Starts(ctx context.Context, since time.Time) ([]starts.Row, error) {
	return agenda.Kept(ctx, s.Keeper, since)
}

// StartRun begins to carry out a saved plan and returns at once. Where there is a background
// service it is the one that does.
func (s *Service) StartRun(ctx context.Context, job string, opts workroom.RunOptions) (runs.Run, error) {
	if s.there.About(ctx) != nil {
		return s.there.Start(ctx, job, opts)
	}
	return s.here.Start(ctx, job, opts)
}

// startHere begins to carry out a saved plan in this process, whoever else could.
func (s *Service) startHere(ctx context.Context, job string, opts workroom.RunOptions) (runs.Run, error) {
	return s.here.Start(ctx, job, opts)
}

// Cycle is the way jobs go, with runs here or in the background service.
func (s *Service) Cycle() *cycle.Cycle { return cycle.New(s.Room, s.StartRun) }

// CycleHere is the same with all runs in this process.
func (s *Service) CycleHere() *cycle.Cycle { return cycle.New(s.Room, s.startHere) }

// Active is the job's run under way, here or in the background service that Follow listens
// to; nil if there is none.
func (s *Service) Active(job string) runs.Run {
	if r := s.here.Under(job); r != nil {
		return r
	}
	return s.there.Under(job)
}

// Steer changes the job's run under way.
func (s *Service) Steer(job string, x runs.Steer) error {
	r := s.Active(job)
	if r == nil {
		return workspace.BadInput(errors.New("the job is not running"))
	}
	return r.Steer(x)
}

// SteerFar changes a run that the background service carries out and tells how it is then.
// An empty change only tells.
func (s *Service) SteerFar(ctx context.Context, job string, x runs.Steer) (runs.State, error) {
	return s.there.Steer(ctx, job, x)
}

// Background is the background service of this workspace, nil when none is running.
func (s *Service) Background(ctx context.Context) *client.About { return s.there.About(ctx) }

// Linked is the background service that was found last.
func (s *Service) Linked() *client.About { return s.there.Linked() }

// RunsThere are the runs of the background service as they are now, by job.
func (s *Service) RunsThere(ctx context.Context) (map[string]runs.State, error) {
	return s.there.All(ctx)
}

// StopBackground ends the background service and waits until it is gone.
func (s *Service) StopBackground(ctx context.Context) error { return s.there.StopProcess(ctx) }

// StartBackground starts a background service as a process of its own, where there is none.
func (s *Service) StartBackground(ctx context.Context) error { return s.there.StartProcess(ctx) }

// HandOver has the runs under way in this process go on in the background service.
func (s *Service) HandOver(ctx context.Context) error {
	if s.there.About(ctx) == nil {
		return remote.ErrNone
	}
	return s.here.HandOver(func(job string, opts workroom.RunOptions) (runs.Run,
		error) {
		return s.there.Start(ctx, job, opts)
	})
}

// rereadEvery is how often it is looked what was changed outside.
const rereadEvery = time.Second

// Follow takes in what happens elsewhere, until the service is closed: in a background
// service, and to the files of the workspace. Interfaces call it once.
func (s *Service) Follow() {
	s.Life.Go(s.there.Follow)
	s.Life.Go(func(ctx context.Context) {
		tick := time.NewTicker(rereadEvery)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				s.Reread()
			case <-ctx.Done():
				return
			}
		}
	})
}
