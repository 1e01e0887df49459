package arrivals

import (
	"context"
	"fmt"
	"iter"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"lumtra/core/arrive"
	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/kinds"
	"lumtra/service/event"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// Watch watches for all jobs of a workspace, as they are from time to time.
type Watch struct {
	WS *workspace.Keeper
	// Since is when something came for a job last, so that what came while nobody watched counts.
	Since func(ctx context.Context, job string) time.Time
	// Came is told for which jobs something came.
	Came func(ctx context.Context, note string, jobs ...string) error
	// Events is the address at which event messages of stores are taken, "" for none; Token is what
	// they have to bring.
	Events, Token string

	mu       sync.Mutex
	watching map[string]*watcher // by job
	all      sync.WaitGroup
	signals  map[string]int // of event messages, by job, that were not told yet
}

// watcher is one job being watched.
type watcher struct {
	like string // what it was begun with
	stop context.CancelFunc
}

// resync is how often jobs are looked at, whatever was told.
const resync = 30 * time.Second

// gather is how long event messages are gathered.
const gather = time.Second

// Run watches until ctx ends.
func (w *Watch) Run(ctx context.Context) error {
	w.watching, w.signals = map[string]*watcher{}, map[string]int{}
	defer w.all.Wait()
	if w.Events != "" {
		if err := w.listen(ctx); err != nil {
			return err
		}
	}
	changed := make(chan struct{}, 1)
	cancel := w.WS.Events.Subscribe(func(e event.Event) {
		if e.Kind == event.WorkspaceChanged {
			select {
			case changed <- struct{}{}:
			default:
			}
		}
	})
	defer cancel()
	tick, told := time.NewTicker(resync), time.NewTicker(gather)
	defer tick.Stop()
	defer told.Stop()
	for {
		w.sync(ctx)
	wait:
		select {
		case <-ctx.Done():
			return nil
		case <-changed:
		case <-tick.C:
		case <-told.C:
			w.tell(ctx)
			goto wait
		}
	}
}

// sync begins and ends watching, as jobs are now.
func (w *Watch) sync(ctx context.Context) {
	here := map[string]bool{}
	for _, j := range w.WS.Workspace().Jobs {
		if !j.Schedule.Arrival {
			continue
		}
		here[j.Name] = true
		like := fmt.Sprintf("%s %v", j.Source, j.When.Arrival)
		if was := w.watching[j.Name]; was != nil {
			if was.like == like {
				continue
			}
			was.stop()
		}
		jobCtx, stop := context.WithCancel(ctx)
		w.watching[j.Name] = &watcher{like, stop}
		w.all.Go(func() { w.watch(jobCtx, j) })
	}
	for name, was := range w.watching {
		if !here[name] {
			was.stop()
			delete(w.watching, name)
		}
	}
}

// watch watches a job's source.
func (w *Watch) watch(ctx context.Context, j *job.Job) {
	came := func(note string) {
		if err := w.Came(ctx, note, j.Name); err != nil && ctx.Err() == nil {
			w.WS.Log.Error("an arrival could not be written down", "job", j.Name, "error", err)
		}
	}
	if root, ok := w.WS.LocalPath(j.Source); ok {
		f := &arrive.Folder{Root: root, Rules: workroom.RulesOfArrival(j), Every: j.When.Arrival.EveryTime(),
			Since: w.Since(ctx, j.Name), Came: func(n int) { came(object.Count(n, "file") + " came") }}
		f.Watch(ctx)
		return
	}
	s := &arrive.Store{Every: j.When.Arrival.EveryTime(), Came: func(int) { came("objects came") },
		Failed: func(err error) { w.WS.Log.Warn("a source could not be listed", "job", j.Name, "error", err) },
		List: func(ctx context.Context) iter.Seq2[object.Entry, error] {
			p, err := w.WS.Place(ctx, j.Source)
			if err != nil {
				return func(yield func(object.Entry, error) bool) { yield(object.Entry{}, err) }
			}
			return p.List(ctx, "", place.ListOptions{})
		}}
	s.Watch(ctx)
}

// listen takes event messages.
func (w *Watch) listen(ctx context.Context) error {
	l, err := net.Listen("tcp", w.Events)
	if err != nil {
		return fmt.Errorf("event messages cannot be taken at %s: %w", w.Events, err)
	}
	web := &http.Server{Handler: arrive.Receiver(w.Token, w.signal), ReadHeaderTimeout: 5 * time.Second,
		ReadTimeout: 20 * time.Second}
	w.all.Go(func() {
		if err := web.Serve(l); err != nil && ctx.Err() == nil {
			w.WS.Log.Error("event messages are not taken any more", "error", err)
		}
	})
	context.AfterFunc(ctx, func() { _ = web.Close() })
	w.WS.Log.Info("event messages are taken", "address", l.Addr().String())
	return nil
}

// signal takes in what stores told of: it is for the jobs whose source has the bucket, and whose path
// is that of the key.
func (w *Watch) signal(all []arrive.Event) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, j := range w.WS.Workspace().Jobs {
		end, at := job.SplitPlace(j.Source)
		e := w.WS.Workspace().Endpoints[end]
		if !j.Schedule.Arrival || e == nil || !kinds.Of(e).Buckets {
			continue
		}
		bucket, path, _ := strings.Cut(at, "/")
		for _, x := range all {
			if x.Bucket == bucket && (path == "" || x.Key == path || strings.HasPrefix(x.Key, path+"/")) {
				w.signals[j.Name]++
			}
		}
	}
}

// tell has jobs start for which event messages came.
func (w *Watch) tell(ctx context.Context) {
	w.mu.Lock()
	signals := w.signals
	w.signals = map[string]int{}
	w.mu.Unlock()
	for name, n := range signals {
		if err := w.Came(ctx, object.Count(n, "object")+" came, the store says", name); err != nil && ctx.Err() == nil {
			w.WS.Log.Error("an arrival could not be written down", "job", name, "error", err)
		}
	}
}
