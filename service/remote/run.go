package remote

import (
	"context"
	"sync"
	"time"

	"lumtra/core/history"
	"lumtra/service/event"
	"lumtra/service/runs"
)

// run is a run that the background service carries out. It is followed until it ends.
type run struct {
	client *Client
	job    string
	done   chan struct{}

	mu    sync.Mutex
	state runs.State // the newest known

	result history.Run // whole when done is closed
	err    error
}

// Job is the name of the job.
func (r *run) Job() string { return r.job }

// State is the newest state that is known.
func (r *run) State() runs.State {
	r.mu.Lock()
	defer r.mu.Unlock()
	state := r.state
	state.Far = true
	return state
}

// Steer sends a change to the background service.
func (r *run) Steer(x runs.Steer) error { return r.client.steer(context.Background(), r.job, x) }

// Stop ends the run. If the service does not answer, there is nothing to stop.
func (r *run) Stop() { r.Steer(runs.Steer{End: "now"}) }

// Done is closed when the run has ended.
func (r *run) Done() <-chan struct{} { return r.done }

// Wait waits for the end.
func (r *run) Wait() (history.Run, error) {
	<-r.done
	return r.result, r.err
}

// take makes a state the newest known.
func (r *run) take(state *runs.State) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if state != nil {
		r.state = *state
	}
}

// silence is how long the background service may be gone before its runs count as such.
const silence = 5 * time.Second

// listen follows the run until it is over.
func (r *run) listen(ctx context.Context) {
	events := r.client.ws.Events
	told := func(kind event.Kind, text string) {
		events.Publish(event.Event{Kind: kind, Job: r.job, Number: r.State().Plan, Text: text})
	}
	heard := time.Now()
	for {
		var lost error
		for p, err := range r.client.wire.Follow(ctx, r.job) {
			if err != nil {
				lost = meant(err)
				break
			}
			heard = time.Now()
			detail := detailOf(p)
			if !p.Over {
				r.take(detail.State)
				told(event.RunMoved, "")
				continue
			}
			if p.Error != nil {
				err = meant(p.Error)
			}
			if detail.Ended != nil {
				r.result = *detail.Ended
			}
			r.end(err)
			told(event.RunEnded, string(r.result.End))
			return
		}
		switch {
		case ctx.Err() != nil:
			r.end(context.Canceled)
			return
		case time.Since(heard) > silence:
			r.end(lost)
			told(event.RunEnded, "")
			return
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
		}
	}
}

// end notes how the run ended: err is what made going on senseless, or why nothing more is
// heard of it.
func (r *run) end(err error) {
	r.err = err
	c := r.client
	c.mu.Lock()
	delete(c.runs, r.job)
	c.mu.Unlock()
	close(r.done)
}
