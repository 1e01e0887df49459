package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"lumtra/service"
)

func (a *app) serviceCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "service",
		Short: "Carry out runs in the background, until it is interrupted",
		Long: `Carry out the runs of this workspace, so that they go on when windows close.

It listens on a socket in the state folder, which only you can reach. While it
is running, every run that a window or a command starts is its own. When it is
interrupted its runs stop; what has arrived stays, and they can be gone on with.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				a.out.say("service", map[string]any{"pid": os.Getpid(), "workspace": a.workspace, "state": a.state}, fmt.Sprintf("Serving %s as process %d; interrupt it to end it.", a.workspace, os.Getpid()))
				return s.Serve(cmd.Context())
			})
		},
	}
}

func (a *app) steerCommand() *cobra.Command {
	var x service.Steer
	var pause, resume bool
	var streams int
	var priority string
	c := &cobra.Command{
		Use:   "steer JOB",
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
				x.Priority = service.Priority(priority)
				state, err := s.SteerFar(cmd.Context(), args[0], x)
				if err != nil {
					return err
				}
				a.sayState(args[0], state)
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

// sayState tells how far a run is.
func (a *app) sayState(job string, r service.RunState) {
	how := r.Phase.String()
	switch {
	case r.Steering.Finishing:
		how = "finishing"
	case r.Steering.Paused:
		how = "paused"
	case r.Steering.Quiet:
		how = "quiet hours"
	}
	text := fmt.Sprintf("%s plan %d: %s — %s of %s, %s of %s, %d failed, %s", job, r.Plan, how, countText(r.Before+r.Objects), plural(r.Planned.Count, "object", "objects"),
		bytesText(r.BeforeBytes+r.Bytes), bytesText(r.Planned.Bytes), r.Failed, plural(int64(r.Steering.Streams), "stream", "streams"))
	if r.Limiter != "" {
		text += fmt.Sprintf(", %s (%s)", r.Limit, r.Limiter)
	}
	a.out.say("running", map[string]any{"job": job, "plan": r.Plan, "how": how, "objects": r.Before + r.Objects, "of_objects": r.Planned.Count, "bytes": r.BeforeBytes + r.Bytes, "of_bytes": r.Planned.Bytes,
		"failed": r.Failed, "streams": r.Steering.Streams, "limit": r.Limit.String(), "limiter": r.Limiter, "priority": r.Priority}, text)
}
