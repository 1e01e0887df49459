package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"slices"

	"lumtra/client"
	"lumtra/core/history"
	"lumtra/core/place/kind"
	"lumtra/service/event"
	"lumtra/service/remote"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

func (a *API) begin(r *http.Request) (any, error) {
	var b client.Begin
	if err := read(r, &b); err != nil {
		return nil, err
	}
	if err := a.refresh(); err != nil {
		return nil, err
	}
	_, err := a.runs.Start(context.WithoutCancel(r.Context()), r.PathValue("job"),
		workroom.RunOptions{Number: b.Plan, Cause: b.Cause, Despite: b.Despite})
	return struct{}{}, err
}

// refresh reads the workspace again, which others may have changed, and has
// endpoints that are other now opened anew.
func (a *API) refresh() error {
	before := a.ws.Workspace().Endpoints
	if err := a.ws.Reload(); err != nil {
		return err
	}
	for name, now := range a.ws.Workspace().Endpoints {
		if was := before[name]; was != nil && !sameEndpoint(was, now) {
			a.ws.Forget(name)
		}
	}
	return nil
}

func sameEndpoint(a, b *kind.Settings) bool {
	x, y := *a, *b
	x.Hours, y.Hours = nil, nil // made of the rest
	return reflect.DeepEqual(x, y)
}

func (a *API) steer(r *http.Request) (any, error) {
	var s client.Steer
	if err := read(r, &s); err != nil {
		return nil, err
	}
	under := a.runs.Under(r.PathValue("job"))
	if under == nil {
		return nil, workspace.BadInput(errors.New("the job is not running"))
	}
	return struct{}{}, under.Steer(runs.Steer{Pause: s.Pause, Streams: s.Streams, Bandwidth: s.Bandwidth,
		Priority: runs.Priority(s.Priority), Again: s.Again, End: s.End})
}

// running are the runs under way.
func (a *API) running(*http.Request) (any, error) {
	all := []client.Progress{}
	for job, r := range a.runs.All() {
		all = append(all, goes(job, r.State()))
	}
	slices.SortFunc(all, func(x, y client.Progress) int { return cmp.Compare(x.Run.Job, y.Run.Job) })
	return all, nil
}

func (a *API) run(r *http.Request) (any, error) { return a.progress(r.PathValue("job")) }

// progress is a run under way, or the one that ended last.
func (a *API) progress(job string) (client.Progress, error) {
	if r := a.runs.Under(job); r != nil {
		return goes(job, r.State()), nil
	}
	if last := a.runs.Last(job); last != nil {
		res, err := last.Wait()
		return ended(&res, err), nil
	}
	return client.Progress{}, workspace.BadInput(errors.New("the job has not run here"))
}

// goes is a run as it is while it is under way.
func goes(job string, s runs.State) client.Progress {
	return client.Progress{
		Run: client.Run{Job: job, Plan: s.Plan, Began: s.Started, End: string(history.Running), Objects: s.Objects,
			Bytes: s.Bytes, Failed: s.Failed, OfObjects: s.Planned.Count, OfBytes: s.Planned.Bytes},
		Paused: s.Steering.Paused, Streams: s.Steering.Streams, Priority: string(s.Priority), Limit: s.Limit.String(),
		Detail: detail(remote.Detail{State: &s})}
}

// ended is a run that is over.
func ended(r *history.Run, err error) client.Progress {
	p := client.Progress{Run: runOf(r, nil), Over: true, Detail: detail(remote.Detail{Ended: r})}
	p.Error, _ = remote.ErrorOf(err)
	return p
}

func detail(d remote.Detail) json.RawMessage {
	raw, err := json.Marshal(d)
	if err != nil { // it is made of numbers and texts
		return nil
	}
	return raw
}

// moves streams how far a run is each time it has moved on, and at last how it ended.
func (a *API) moves(w http.ResponseWriter, r *http.Request) {
	job := r.PathValue("job")
	heard := a.ws.Events.Listen(r.Context())
	out := newStream(w)
	put := func() (more bool) {
		p, err := a.progress(job)
		if err != nil {
			p.Error, _ = remote.ErrorOf(err)
			p.Over = true
		}
		return out.put("progress", p) == nil && !p.Over
	}
	if !put() {
		return
	}
	for e := range heard {
		if e.Job == job && (e.Kind == event.RunMoved || e.Kind == event.RunEnded) && !put() {
			return
		}
	}
}

// events streams what changes.
func (a *API) events(ctx context.Context, w http.ResponseWriter) {
	heard := a.ws.Events.Listen(ctx)
	out := newStream(w)
	// It is listened from here on.
	if out.put(string(event.ServiceChanged), event.Event{Kind: event.ServiceChanged, At: a.ws.Now()}) != nil {
		return
	}
	for e := range heard {
		if out.put(string(e.Kind), e) != nil {
			return
		}
	}
}

// stream writes server-sent events (HTML Living Standard, 9.2), each as soon as it is there.
type stream struct {
	w    http.ResponseWriter
	http *http.ResponseController
}

func newStream(w http.ResponseWriter) *stream {
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	return &stream{w, http.NewResponseController(w)}
}

func (s *stream) put(name string, v any) error {
	raw, err := json.Marshal(v)
	if err == nil {
		_, err = fmt.Fprintf(s.w, "event: %s\ndata: %s\n\n", name, raw)
	}
	return errors.Join(err, s.http.Flush())
}
