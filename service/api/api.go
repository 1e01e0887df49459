package api

import (
	"context"
	"crypto/subtle"
	_ "embed"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"lumtra/client"
	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/place/kind"
	"lumtra/core/plan"
	"lumtra/service/agenda"
	"lumtra/service/remote"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// Version is that of the interface.
const Version = "1.0"

// document describes the interface.
//
//go:embed openapi.json
var document []byte

// API answers what programs ask a service.
type API struct {
	ws    *workspace.Keeper
	room  *workroom.Room
	runs  *runs.Runner
	began time.Time
}

// New makes the API of a service.
func New(ws *workspace.Keeper, room *workroom.Room, runner *runs.Runner) *API {
	return &API{ws: ws, room: room, runs: runner, began: ws.Now()}
}

// routes are all there are: what is asked, and what answers. openapi.json describes each.
func (a *API) routes() map[string]func(*http.Request) (any, error) {
	return map[string]func(*http.Request) (any, error){
		"GET /v1/about":                     a.about,
		"GET /v1/endpoints":                 a.endpoints,
		"GET /v1/jobs":                      a.jobs,
		"GET /v1/jobs/{job}":                a.job,
		"GET /v1/jobs/{job}/plans/{number}": a.plan,
		"POST /v1/jobs/{job}/plans":         a.make,
		"GET /v1/jobs/{job}/runs":           a.past,
		"POST /v1/jobs/{job}/runs":          a.begin,
		"GET /v1/jobs/{job}/run":            a.run,
		"GET /v1/runs":                      a.running,
		"POST /v1/jobs/{job}/steer":         a.steer,
		"GET /v1/jobs/{job}/proof":          a.proof,
		"POST /v1/jobs/{job}/proofs":        a.prove,
		"GET /v1/starts":                    a.starts,
		"GET /v1/coming":                    a.coming,
	}
}

// Handler answers requests below /v1. What is told until the caller hangs up ends with the context.
func (a *API) Handler(life context.Context) http.Handler {
	mux := http.NewServeMux()
	for pattern, answer := range a.routes() {
		answer = until(life, answer)
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			r.Body = http.MaxBytesReader(w, r.Body, 1<<20)
			v, err := answer(r)
			w.Header().Set("Content-Type", "application/json")
			if err != nil {
				e, status := remote.ErrorOf(err)
				w.WriteHeader(status)
				v = e
			}
			_ = json.NewEncoder(w).Encode(v) // who asked may be gone
		})
	}
	mux.HandleFunc("GET /v1/events", func(w http.ResponseWriter, r *http.Request) {
		ctx, cancel := context.WithCancel(r.Context())
		defer cancel()
		defer context.AfterFunc(life, cancel)()
		a.events(ctx, w)
	})
	mux.HandleFunc("GET /v1/jobs/{job}/run/events", a.moves)
	mux.HandleFunc("GET /v1/openapi.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write(document)
	})
	return mux
}

// Guarded lets only those pass who bring a token.
func Guarded(token string, h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		given, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if !ok || token == "" || subtle.ConstantTimeCompare([]byte(given), []byte(token)) != 1 {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusUnauthorized)
			_ = json.NewEncoder(w).Encode(client.Error{Kind: "token", Text: "the token is wrong, or missing"})
			return
		}
		h.ServeHTTP(w, r)
	})
}

func (a *API) about(*http.Request) (any, error) {
	return client.About{Version: Version, Pid: os.Getpid(), Began: a.began, Workspace: a.ws.Workspace().Title}, nil
}

func (a *API) endpoints(*http.Request) (any, error) {
	all := []client.Endpoint{}
	ends := a.ws.Workspace().Endpoints
	for _, name := range slices.Sorted(maps.Keys(ends)) {
		if name != kind.Local {
			all = append(all, client.Endpoint{Name: name, Kind: ends[name].Kind, Address: ends[name].Address})
		}
	}
	return all, nil
}

func (a *API) jobs(*http.Request) (any, error) {
	all := []client.Job{}
	for _, j := range a.ws.Workspace().Jobs {
		one, err := a.jobOf(j)
		if err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, nil
}

func (a *API) job(r *http.Request) (any, error) {
	j, err := a.ws.Job(r.PathValue("job"))
	if err != nil {
		return nil, err
	}
	return a.jobOf(j)
}

func (a *API) jobOf(j *job.Job) (client.Job, error) {
	x := client.Job{Name: j.Name, Source: j.Source, Target: j.Lands(), Starts: j.Schedule.String(),
		Running: a.runs.Under(j.Name) != nil}
	if next, some := j.Schedule.Next(a.ws.Now()); some {
		x.Next = next.At
	}
	numbers, err := a.room.Plans(j.Name)
	if len(numbers) > 0 {
		x.Plan = slices.Max(numbers)
	}
	return x, err
}

func (a *API) plan(r *http.Request) (any, error) {
	name := r.PathValue("job")
	if _, err := a.ws.Job(name); err != nil {
		return nil, err
	}
	number, err := strconv.Atoi(r.PathValue("number"))
	if err != nil {
		return nil, workspace.BadInput(fmt.Errorf("%q is no number of a plan", r.PathValue("number")))
	}
	return a.planOf(name, number)
}

// planOf is a plan of a job by its number; 0 is the newest.
func (a *API) planOf(name string, number int) (_ any, err error) {
	var p *plan.Plan
	if number == 0 {
		p, err = a.room.LatestPlan(name)
	} else {
		p, err = a.room.PlanNumber(name, number)
	}
	if err == nil && p == nil {
		err = fmt.Errorf("%w: there is no plan of %s", fs.ErrNotExist, name)
	}
	if err != nil {
		return nil, err
	}
	defer p.Close()
	x := client.Plan{Job: name, Number: p.Info.Number, Made: p.Info.Made, Totals: map[string]client.Total{},
		Held:     p.Info.Held,
		Approved: p.Approved(), Notes: p.Info.Notes, Warnings: p.Info.Warnings}
	for _, k := range plan.Kinds {
		if t := p.Info.Totals[k]; t.Count > 0 {
			x.Totals[k.String()] = client.Total{Count: t.Count, Bytes: t.Bytes}
		}
	}
	return x, nil
}

// pastShown is how many runs, and starts, are told.
const pastShown = 200

func (a *API) past(r *http.Request) (any, error) {
	name := r.PathValue("job")
	if _, err := a.ws.Job(name); err != nil {
		return nil, err
	}
	all, err := a.room.Runs(r.Context(), name, time.Time{}, pastShown)
	if err != nil {
		return nil, err
	}
	out := []client.Run{}
	for i := range all {
		out = append(out, runOf(&all[i], a.runs.Under(name)))
	}
	return out, nil
}

// runOf is a run of the history, by what is known of it now where it is under way.
func runOf(r *history.Run, under runs.Run) client.Run {
	x := client.Run{Job: r.Job, Plan: r.Plan, Began: r.Began, Ended: r.Ended, End: string(r.End), Objects: r.Objects,
		Bytes: r.Bytes, Failed: r.Failed, OfObjects: r.PlannedObjects, OfBytes: r.PlannedBytes, Note: r.Note}
	if r.End == history.Running && under != nil {
		s := under.State()
		x.Objects, x.Bytes, x.Failed = s.Objects, s.Bytes, s.Failed
	}
	return x
}

// read reads what a request says; nothing at all is the zero value.
func read(r *http.Request, into any) error {
	d := json.NewDecoder(r.Body)
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil && r.ContentLength != 0 {
		return workspace.BadInput(fmt.Errorf("the request cannot be read: %w", err))
	}
	return nil
}

func (a *API) proof(r *http.Request) (any, error) {
	name := r.PathValue("job")
	if _, err := a.ws.Job(name); err != nil {
		return nil, err
	}
	p, err := a.room.LatestProof(name)
	if err == nil && p == nil {
		err = fmt.Errorf("%w: there is no proof of %s", fs.ErrNotExist, name)
	}
	if err != nil {
		return nil, err
	}
	return proofOf(name, p), nil
}

func proofOf(name string, p *workroom.Proof) client.Proof {
	x := client.Proof{Job: name, Number: p.Number, Method: string(p.Method), Began: p.Began, Ended: p.Ended,
		Holds:   p.Holds(),
		Objects: map[string]int64{}, Gaps: p.Gaps}
	for v, n := range p.Objects {
		x.Objects[fmt.Sprint(v)] = n
	}
	return x
}

func (a *API) starts(r *http.Request) (any, error) {
	rows, err := agenda.Kept(r.Context(), a.ws, a.ws.Now().Add(-90*24*time.Hour))
	all := []client.Start{}
	for i := range rows[:min(len(rows), pastShown)] {
		x := &rows[i]
		all = append(all, client.Start{Job: x.Job, Slot: x.Slot, Cause: string(x.Cause), State: string(x.State),
			Plan: x.Plan,
			Note: x.Note})
	}
	return all, err
}

func (a *API) coming(r *http.Request) (any, error) {
	now := a.ws.Now()
	o, err := agenda.Look(r.Context(), a.ws, now, now.Add(7*24*time.Hour))
	if err != nil {
		return nil, err
	}
	all := []client.Coming{}
	for i := range o.Coming {
		all = append(all, client.Coming{Job: o.Coming[i].Job, At: o.Coming[i].At, Seconds: o.Coming[i].Usual.Seconds()})
	}
	return all, nil
}
