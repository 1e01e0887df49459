package measure

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"lumtra/service/runs"
	"lumtra/service/workspace"
)

// Options say where the service can be watched.
type Options struct {
	// Address is where /metrics, /healthz and /readyz are answered, "" for nowhere; File is
	// written anew every so often with the metrics, "" for none.
	Address, File string
}

// Watched lets a service be watched from outside.
type Watched struct {
	ws       *workspace.Keeper
	opts     Options
	registry *prometheus.Registry
	// alive tells that what the service is for goes on.
	alive func() bool
	ready atomic.Bool
}

// New makes one of a service; alive tells whether what it is for goes on.
func New(ws *workspace.Keeper, runner *runs.Runner, alive func() bool, opts Options) *Watched {
	w := &Watched{ws: ws, opts: opts, registry: prometheus.NewRegistry(), alive: alive}
	w.registry.MustRegister(&metrics{ws: ws, runs: runner, now: ws.Now})
	return w
}

// fileEvery is how often the file of metrics is written.
const fileEvery = 15 * time.Second

// Run lets the service be watched until ctx ends. When it has begun, the service is ready.
func (w *Watched) Run(ctx context.Context) error {
	if w.opts.Address != "" {
		l, err := net.Listen("tcp", w.opts.Address)
		if err != nil {
			return fmt.Errorf("metrics cannot be served at %s: %w", w.opts.Address, err)
		}
		web := &http.Server{Handler: w.routes(), ReadHeaderTimeout: 5 * time.Second, WriteTimeout: 30 * time.Second}
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			_ = web.Serve(l) // it ends with ctx
		}()
		defer func() { _ = web.Close(); <-ended }()
		w.ws.Log.Info("metrics are served", "address", l.Addr().String())
	}
	w.ready.Store(true)
	tell(daemon.SdNotifyReady)
	defer tell(daemon.SdNotifyStopping)
	beat := time.Hour
	if every, err := daemon.SdWatchdogEnabled(false); err == nil && every > 0 {
		beat = every / 3
	}
	watchdog, file := time.NewTicker(beat), time.NewTicker(fileEvery)
	defer watchdog.Stop()
	defer file.Stop()
	w.write()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-watchdog.C:
			if w.alive() {
				tell(daemon.SdNotifyWatchdog)
			}
		case <-file.C:
			w.write()
		}
	}
}

// tell tells the system's service manager, if there is one (sd_notify(3)).
func tell(state string) { _, _ = daemon.SdNotify(false, state) }

// write writes the metrics into the file that is asked for, whole.
func (w *Watched) write() {
	if w.opts.File == "" {
		return
	}
	if err := prometheus.WriteToTextfile(w.opts.File, w.registry); err != nil {
		w.ws.Log.Warn("metrics could not be written", "file", w.opts.File, "error", err)
	}
}

func (w *Watched) routes() http.Handler {
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.HandlerFor(w.registry, promhttp.HandlerOpts{EnableOpenMetrics: true}))
	answer := func(ok func() bool) http.HandlerFunc {
		return func(out http.ResponseWriter, _ *http.Request) {
			if !ok() {
				http.Error(out, "no", http.StatusServiceUnavailable)
				return
			}
			fmt.Fprintln(out, "ok")
		}
	}
	mux.Handle("GET /healthz", answer(w.alive))
	mux.Handle("GET /readyz", answer(func() bool { return w.ready.Load() && w.alive() }))
	return mux
}
