package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"lumtra/service"
	"lumtra/service/runs"
	"lumtra/service/state"
	"lumtra/service/workspace"
)

func (a *app) serviceCommand() *cobra.Command {
	var opts service.ServeOptions
	var tokenFrom string
	c := &cobra.Command{
		Use:   "service",
		Short: "Carry out runs in the background, and start jobs at their times",
		Long: `Carry out the runs of this workspace, so that they go on when windows close, start its jobs at
their times and when something arrives, and tell those whom service.toml names what happened:
lumtra help service. "install" has systemd start it at login or at boot.

It listens on a socket in the state folder, which only you can reach. While it
is running, every run that a window or a command starts is its own. When it is
interrupted its runs stop; what has arrived stays, and they can be gone on with.`,
		Example: "  lumtra service\n  lumtra service install\n  lumtra service status\n  lumtra service stop",
		Args:    cobra.NoArgs,
	}
	serve := a.with(func(ctx context.Context, s *service.Service, _ []string) error {
		if other := s.Background(ctx); other != nil {
			a.next("see what it does", "service", "status")
			return fmt.Errorf("%w: process %d is the background service of this workspace since %s",
				state.ErrBusy, other.Pid, other.Began.Local().Format("2006-01-02 15:04:05"))
		}
		a.out.say("service", map[string]any{"running": true, "pid": os.Getpid(), "workspace": a.workspace,
			"state": a.state},
			fmt.Sprintf("Serving %s as process %d; interrupt it to end it.", a.workspace, os.Getpid()))
		if opts.Events != "" || opts.API.Address != "" {
			token, err := s.Secret(tokenFrom)
			if err != nil || token.Empty() {
				return workspace.BadInput(fmt.Errorf("--events and --api need --token-from, a secret that "+
					"requests "+
					"have to bring: %w", err))
			}
			opts.Token, opts.API.Token = token.Reveal(), token.Reveal()
		}
		return s.Serve(ctx, opts)
	})
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if a.out.json {
			a.logOut = a.out.out
		}
		return serve(cmd, args)
	}
	c.Flags().StringVar(&opts.Events, "events", "",
		"take event messages of stores (the S3 form, JSON over HTTP) at this address, such as 127.0.0.1:8099")
	c.Flags().StringVar(&opts.API.Address, "api", "",
		"let programs of other machines reach the service at this address, over TLS, with the token")
	c.Flags().StringVar(&opts.API.CertFile, "api-cert", "", "the certificate of --api, as a PEM file")
	c.Flags().StringVar(&opts.API.KeyFile, "api-key", "", "its key, as a PEM file")
	c.Flags().StringVar(&opts.Measure.Address, "metrics", "",
		"answer /metrics (OpenMetrics), /healthz and /readyz at this address, such as 127.0.0.1:9123")
	c.Flags().StringVar(&opts.Measure.File, "metrics-file", "", "write the metrics into this file every 15 seconds")
	c.Flags().StringVar(&tokenFrom, "token-from", "", "the token they bring: env:NAME, file:PATH or kept:LABEL")
	c.AddCommand(a.serviceStatusCommand(), a.serviceStopCommand(), a.serviceReloadCommand(), a.serviceLogsCommand(),
		a.serviceInstallCommand())
	return c
}

func (a *app) serviceStatusCommand() *cobra.Command {
	return &cobra.Command{
		Use: "status", Short: "Tell whether the background service is running, and what it carries out",
		Long:    "Ends with 3 where no background service is running.",
		Example: "  lumtra service status --json",
		Args:    cobra.NoArgs,
		RunE: a.with(func(ctx context.Context, s *service.Service, _ []string) error {
			about := s.Background(ctx)
			if about == nil {
				a.out.say("service", map[string]any{"running": false}, "No background service is running.")
				a.next("start it", "service")
				return errNothing
			}
			a.out.say("service", map[string]any{"running": true, "pid": about.Pid, "began": about.Began,
				"workspace": a.workspace, "state": a.state},
				fmt.Sprintf("Process %d, since %s.", about.Pid, about.Began.Local().Format("2006-01-02 15:04:05")))
			all, err := s.RunsThere(ctx)
			for _, name := range slices.Sorted(maps.Keys(all)) {
				a.sayState(name, all[name], nil)
			}
			if err == nil && len(all) == 0 {
				a.out.say("note", map[string]any{"text": "nothing is running"}, "Nothing is running.")
			}
			return err
		}),
	}
}

func (a *app) serviceStopCommand() *cobra.Command {
	return &cobra.Command{
		Use: "stop", Short: "End the background service; its runs stop, and can be gone on with",
		Example: "  lumtra service stop",
		Args:    cobra.NoArgs,
		RunE: a.with(func(ctx context.Context, s *service.Service, _ []string) error {
			about := s.Background(ctx)
			if about == nil {
				a.out.say("service", map[string]any{"running": false}, "No background service is running.")
				return errNothing
			}
			if err := s.StopBackground(ctx); err != nil {
				return err
			}
			a.out.say("service", map[string]any{"running": false, "pid": about.Pid},
				fmt.Sprintf("Process %d has ended; what has arrived stays.", about.Pid))
			return nil
		}),
	}
}

func (a *app) steerCommand() *cobra.Command {
	var x runs.Steer
	var pause, resume bool
	var streams int
	var priority string
	c := &cobra.Command{
		Use: "steer JOB",
		Example: "  lumtra steer masters\n" +
			"  lumtra steer masters --pause\n" +
			"  lumtra steer masters --bandwidth \"80 MB/s\" --streams 8",
		Short: "Change a run that the background service carries out, or tell how far it is",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				if pause || resume {
					x.Pause = &pause
				}
				if cmd.Flags().Changed("streams") {
					x.Streams = &streams
				}
				x.Priority = runs.Priority(priority)
				state, err := s.SteerFar(cmd.Context(), args[0], x)
				if err != nil {
					return err
				}
				a.sayState(args[0], state, nil)
				return nil
			})
		},
	}
	f := c.Flags()
	f.BoolVar(&pause, "pause", false, "begin no further requests")
	f.BoolVar(&resume, "resume", false, "go on after --pause")
	f.IntVar(&streams, "streams", 0, "how many requests at a time; 0 leaves it to the run")
	f.StringVar(&x.Bandwidth, "bandwidth", "", `a rate such as "80 MB/s", "free", or "hours" for what the job says`)
	f.StringVar(&priority, "priority", "", "low, usual or high, among runs that share a limit")
	f.StringVar(&x.Again, "retry", "", "try what failed of this cause again when the rest is done")
	f.StringVar(&x.End, "end", "", `"finish" when the parts under way have arrived, or "now"`)
	c.MarkFlagsMutuallyExclusive("pause", "resume")
	return c
}

// sayState tells how far a run is; before is an earlier state of it, nil for its beginning.
func (a *app) sayState(job string, r runs.State, before *runs.State) {
	how := r.Phase.String()
	switch {
	case r.Steering.Finishing:
		how = "finishing"
	case r.Steering.Paused:
		how = "paused"
	case r.Steering.Quiet:
		how = "quiet hours"
	}
	now := time.Now()
	text := fmt.Sprintf("%s plan %d: %s — %s; %s", job, r.Plan, how, runningText(&r, before, now),
		plural(int64(r.Steering.Streams), "stream", "streams"))
	if r.Limiter != "" {
		text += fmt.Sprintf(", %s (%s)", r.Limit, r.Limiter)
	}
	fields := map[string]any{"job": job, "plan": r.Plan, "how": how, "objects": r.Before + r.Objects,
		"of_objects": r.Planned.Count, "bytes": r.BeforeBytes + r.Bytes, "of_bytes": r.Planned.Bytes,
		"percent": percent(&r), "bytes_per_second": int64(r.Lately()), "handled": r.SeenTo,
		"of_handled": r.Afterwards.Count,
		"failed":     r.Failed, "streams": r.Steering.Streams, "limit": r.Limit.String(), "limiter": r.Limiter,
		"priority": r.Priority}
	if soon, late, ok := r.Expect(now); ok {
		fields["soonest_seconds_left"], fields["latest_seconds_left"] = soon.Sub(now).Seconds(), late.Sub(now).Seconds()
	}
	if most, known := r.HeldBack(before); known {
		fields["held_back_by"] = most.String()
	}
	a.out.say("running", fields, text)
}
