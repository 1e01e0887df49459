package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"lumtra/client"
	"lumtra/core/compare"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// make surveys both sides of a job and plans it. It takes as long as that takes, and ends when the
// caller hangs up.
func (a *API) make(r *http.Request) (any, error) {
	var m client.Make
	if err := read(r, &m); err != nil {
		return nil, err
	}
	if m.Fresh < 0 {
		return nil, workspace.BadInput(fmt.Errorf("fresh is a number of seconds from 0 on, not %v", m.Fresh))
	}
	if err := a.refresh(); err != nil {
		return nil, err
	}
	name := r.PathValue("job")
	info, err := a.room.Plan(r.Context(), name, workroom.Freshness{MaxAge: seconds(m.Fresh)}, &workroom.Activity{})
	if err != nil {
		return nil, err
	}
	return a.planOf(name, info.Number)
}

// prove surveys both sides of a job and compares them.
func (a *API) prove(r *http.Request) (any, error) {
	var p client.Prove
	if err := read(r, &p); err != nil {
		return nil, err
	}
	if err := a.refresh(); err != nil {
		return nil, err
	}
	name := r.PathValue("job")
	made, err := a.room.Prove(r.Context(), name, workroom.ProveOptions{Method: compare.Method(p.Method),
		Digest: p.Digest}, &workroom.Activity{})
	if err != nil {
		return nil, err
	}
	return proofOf(name, made), nil
}

// until ends what a request does when the service ends.
func until(life context.Context, answer func(*http.Request) (any, error)) func(*http.Request) (any, error) {
	return func(r *http.Request) (any, error) {
		ctx, cancel := context.WithCancel(r.Context())
		defer cancel()
		defer context.AfterFunc(life, cancel)()
		return answer(r.WithContext(ctx))
	}
}

func seconds(n float64) time.Duration { return time.Duration(n * float64(time.Second)) }
