package remote

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"lumtra/client"
	"lumtra/service/event"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// Client is the way to a background service, if there is one. Its methods may be called
// from many goroutines.
type Client struct {
	ws   *workspace.Keeper
	wire *client.Client

	mu    sync.Mutex
	about *client.About // nil while there is none
	runs  map[string]*run
}

// NewClient makes a client for the background service of a workspace.
func NewClient(ws *workspace.Keeper) *Client {
	return &Client{ws: ws, runs: map[string]*run{}, wire: client.Socket(ws.Dir.Path(socketName))}
}

// Close lets go of what the client holds.
func (c *Client) Close() { c.wire.Close() }

// callPatience is how long to wait for the background service: it may test an
// endpoint before it says that a run has begun.
const callPatience = 2 * time.Minute

// patient gives a call the time it may take.
func patient(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(ctx, callPatience)
}

// About is the background service of the workspace, nil when none is running.
func (c *Client) About(ctx context.Context) *client.About {
	ctx, cancel := patient(ctx)
	defer cancel()
	var about *client.About
	if found, err := c.wire.About(ctx); err == nil {
		about = &found
	}
	c.mu.Lock()
	changed := (c.about == nil) != (about == nil)
	c.about = about
	c.mu.Unlock()
	if changed {
		c.ws.Events.Publish(event.Event{Kind: event.ServiceChanged})
	}
	return about
}

// Linked is what About found last.
func (c *Client) Linked() *client.About {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.about
}

// All are the runs there as they are now, by job.
func (c *Client) All(ctx context.Context) (map[string]runs.State, error) {
	ctx, cancel := patient(ctx)
	defer cancel()
	all, err := c.wire.Running(ctx)
	if err != nil {
		return nil, meant(err)
	}
	states := map[string]runs.State{}
	for _, p := range all {
		if state := detailOf(p).State; state != nil {
			states[p.Run.Job] = *state
		}
	}
	return states, nil
}

// StopProcess asks the background service to end, as an interrupt does, and waits until it
// is gone.
func (c *Client) StopProcess(ctx context.Context) error {
	about := c.About(ctx)
	if about == nil {
		return ErrNone
	}
	if err := syscall.Kill(about.Pid, syscall.SIGTERM); err != nil {
		return fmt.Errorf("process %d could not be asked to end: %w", about.Pid, err)
	}
	for ctx.Err() == nil {
		if lock, err := lockService(c.ws); err == nil {
			c.About(ctx)
			return lock.Close()
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
		}
	}
	return ctx.Err()
}

// Under is the job's run under way there, as far as it is known here; nil if there is none.
func (c *Client) Under(job string) runs.Run {
	c.mu.Lock()
	defer c.mu.Unlock()
	if r := c.runs[job]; r != nil {
		return r
	}
	return nil
}

// lookEvery is how often it is looked whether there is a background service now, and what
// was changed outside.
const lookEvery = time.Second

// Follow listens to a background service, whenever there is one, until ctx ends, and
// publishes here what it tells.
func (c *Client) Follow(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		if c.About(ctx) != nil {
			c.listen(ctx)
			c.About(ctx)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// listen publishes what a background service tells, until it is gone.
func (c *Client) listen(ctx context.Context) {
	for x, err := range c.wire.Events(ctx) {
		if err != nil {
			return
		}
		e := event.Event{Kind: event.Kind(x.Event), At: x.At, Job: x.Job, Endpoint: x.Endpoint, Number: x.Number,
			Text: x.Text}
		switch e.Kind {
		case event.ServiceChanged: // it listens: what is under way by now is known from the list
			all, err := c.wire.Running(ctx)
			if err != nil {
				return
			}
			for _, p := range all {
				c.known(p)
			}
		case event.RunBegan:
			c.follow(ctx, e.Job)
		case event.RunMoved, event.RunEnded: // the run itself tells, once it knows
			continue
		}
		c.ws.Events.Publish(e)
	}
}

// follow has a run there known here, and gives it.
func (c *Client) follow(ctx context.Context, job string) (runs.Run, error) {
	ctx, cancel := patient(ctx)
	defer cancel()
	p, err := c.wire.Run(ctx, job)
	if err != nil {
		return nil, meant(err)
	}
	return c.known(p), nil
}

// known takes in how a run there is.
func (c *Client) known(p client.Progress) runs.Run {
	state := detailOf(p).State
	c.mu.Lock()
	r := c.runs[p.Run.Job]
	if r != nil {
		c.mu.Unlock()
		r.take(state)
		return r
	}
	r = &run{client: c, job: p.Run.Job, done: make(chan struct{})}
	if state != nil {
		r.state = *state
	}
	c.runs[r.job] = r
	c.mu.Unlock()
	if !c.ws.Life.Go(r.listen) {
		r.end(context.Canceled)
	}
	return r
}

// Start has the background service begin a run.
func (c *Client) Start(ctx context.Context, job string, opts workroom.RunOptions) (runs.Run, error) {
	within, cancel := patient(ctx)
	defer cancel()
	err := c.wire.Begin(within, job, client.Begin{Plan: opts.Number, Cause: opts.Cause, Despite: opts.Despite})
	if err != nil {
		return nil, meant(err)
	}
	return c.follow(ctx, job)
}

// ErrNone means that there is no background service.
var ErrNone = workspace.BadInput(errors.New("there is no background service; `lumtra service` is one"))

// Steer changes a run that the background service carries out and tells how it is then. An
// empty change only tells.
func (c *Client) Steer(ctx context.Context, job string, x runs.Steer) (runs.State, error) {
	if c.About(ctx) == nil {
		return runs.State{}, ErrNone
	}
	if err := c.steer(ctx, job, x); err != nil {
		return runs.State{}, err
	}
	p, err := c.wire.Run(ctx, job)
	if err != nil {
		return runs.State{}, meant(err)
	}
	state := detailOf(p).State
	if state == nil {
		return runs.State{}, workspace.BadInput(errors.New("the run has ended"))
	}
	return *state, nil
}

func (c *Client) steer(ctx context.Context, job string, x runs.Steer) error {
	ctx, cancel := patient(ctx)
	defer cancel()
	return meant(c.wire.Steer(ctx, job, client.Steer{Pause: x.Pause, Streams: x.Streams, Bandwidth: x.Bandwidth,
		Priority: string(x.Priority), Again: x.Again, End: x.End}))
}

// StartProcess starts a background service as a process of its own, which
// outlives this one, and waits until it answers.
func (c *Client) StartProcess(ctx context.Context) error {
	if c.About(ctx) != nil {
		return nil
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(program, "--workspace", c.ws.Folder(), "--state", string(c.ws.Dir), "service")
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
			if c.About(ctx) != nil {
				return nil
			}
		case <-patience:
			return errors.New("the background service does not answer; `lumtra service` in a terminal tells why")
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
