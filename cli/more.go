package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"lumtra/core/object"
	"lumtra/demo"
	"lumtra/service"
	"lumtra/service/cycle"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/standin"
)

func (a *app) demoCommand() *cobra.Command {
	var dir string
	var headless bool
	c := &cobra.Command{
		Use: "demo",
		Example: "  lumtra demo\n" +
			"  lumtra demo --dir saltmarsh --headless",
		Short: "Build the made-up Saltmarsh Sound Archive and open Lumtra on it",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
			if dir == "" {
				temp, err := os.MkdirTemp("", "lumtra-demo-")
				if err != nil {
					return err
				}
				defer os.RemoveAll(temp)
				dir, a.state = temp, filepath.Join(temp, "state")
			}
			a.workspace = dir
			if err := a.folders(); err != nil {
				return err
			}
			say := a.out.say
			if !headless {
				say = func(_ string, _ map[string]any, text string) { fmt.Fprintln(a.errOut, text) }
			}
			fresh := !demo.Built(dir)
			if fresh {
				if err := a.startAnew(); err != nil {
					return err
				}
				say("building", map[string]any{"dir": dir},
					"Building the Saltmarsh Sound Archive, 370 MB, in "+dir+" …")
				if err := demo.Build(ctx, dir, demo.Usual); err != nil {
					return interrupted(ctx, err)
				}
			}
			return a.withService(ctx, func(s *service.Service) error {
				if fresh {
					if err := demo.Furnish(ctx, dir, s); err != nil {
						return err
					}
				}
				if headless {
					return a.story(ctx, dir, s)
				}
				if fresh { // so that there is a past to look at
					say("warming", nil, "Running two small jobs, so that there is a past to look at …")
					if err := warmUp(ctx, s); err != nil {
						return interrupted(ctx, err)
					}
				}
				return a.open(ctx, s)
			})
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "keep the world in this folder (default: a temporary one)")
	c.Flags().BoolVar(&headless, "headless", false, "tell the whole story without the interface")
	return c
}

func (a *app) story(ctx context.Context, dir string, s *service.Service) error {
	if err := demo.Story(ctx, dir, s, a.out.say); err != nil {
		return interrupted(ctx, err)
	}
	a.out.say("done", map[string]any{"dir": dir}, "Done.")
	return nil
}

// warmUp gives the demo a past: two jobs that have run.
func warmUp(ctx context.Context, s *service.Service) error {
	for _, name := range []string{"field-cards-in", "tiles-out"} {
		if err := s.Cycle().Go(ctx, name, cycle.Policy{Anew: true}, nil); err != nil &&
			!errors.Is(err, workroom.ErrNothingToDo) {
			return err
		}
	}
	return nil
}

func (a *app) standInCommand() *cobra.Command {
	var cfg standin.Config
	var blob bool
	var addr, access, secretFrom string
	var faults, habits []string
	c := &cobra.Command{
		Use: "stand-in DIR",
		Example: "  lumtra stand-in /tmp/store\n" +
			"  lumtra stand-in /tmp/store --blob --fault \"PutBlob:503@5%\"",
		Short: "Start a small object store on loopback, to practise on",
		Long: `Starts a small object store on loopback that speaks the S3 API or, with --blob,
the Azure Blob API, and keeps everything in DIR. It checks signatures and checksums and, with --fault,
misbehaves: latency=40ms, stall=20s, speed=40MB, 403, expired, 500, 503,
reset-before, reset-after, short, corrupt; each may be limited to an operation and a chance,
as in "PutObject:503@5%". With --habit it always does something otherwise than the reference of its
API says, as real stores do:

` + standin.HabitsText() + `
Ctrl-C ends it.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			cfg.Dir = args[0]
			if access != "" {
				secret := os.Getenv(secretFrom)
				if secret == "" {
					return fmt.Errorf("%w: the environment variable %s with the secret is not set", errUsage,
						secretFrom)
				}
				cfg.Keys = []standin.Key{{Access: access, Secret: secret}}
			} else {
				cfg.Public = true
			}
			var set []standin.Fault
			var speed int64
			for _, text := range faults {
				f, bytes, err := standin.ParseFault(text)
				if err != nil {
					return fmt.Errorf("%w: %w", errUsage, err)
				}
				if bytes > 0 {
					speed = bytes
				} else {
					set = append(set, f)
				}
			}
			for _, text := range habits {
				h, err := standin.ParseHabit(text)
				if err != nil {
					return fmt.Errorf("%w: %w", errUsage, err)
				}
				cfg.Habits = append(cfg.Habits, h)
			}
			if blob {
				cfg.API = standin.BlobAPI
			}
			server, err := standin.New(cfg)
			if err != nil {
				return err
			}
			defer server.Close()
			server.SetSpeed(speed)
			server.SetFaults(set...)
			url, err := server.Start(addr)
			if err != nil {
				return err
			}
			a.out.say("listening", map[string]any{"address": url, "dir": cfg.Dir}, "Listening on "+url+
				"; Ctrl-C ends it.")
			<-cmd.Context().Done()
			return nil
		},
	}
	c.Flags().StringVar(&addr, "listen", "127.0.0.1:0", "loopback address and port; port 0 takes a free one")
	c.Flags().BoolVar(&blob, "blob", false,
		"speak the Azure Blob API; the access key is then the account, the secret its key in base64")
	c.Flags().StringVar(&access, "access-key", "", "accept only requests signed with this key (default: anyone)")
	c.Flags().StringVar(&secretFrom, "secret-env", "LUMTRA_STANDIN_SECRET",
		"environment variable with the key's secret")
	c.Flags().StringArrayVar(&faults, "fault", nil, "misbehave in this way; may be given again")
	c.Flags().StringArrayVar(&habits, "habit", nil,
		"do this otherwise than the API's reference says; may be given again")
	return c
}

const exampleEndpoints = `# Where objects lie. No secrets in here: secret-from says where one is.

[endpoint.here]
kind = "folder"
path = "here"                 # relative to this file's folder

# A store that speaks the S3 API:
# [endpoint.store]
# kind = "s3"
# address = "https://s3.example.org"
# region = "eu-north-1"       # if the store has regions
# access-key = "AKEXAMPLE"
# secret-from = "env:STORE_SECRET"   # or "file:/path/to/it"
# addressing = "path"         # or "host", for bucket.host names
# ca-file = "our-ca.pem"      # if its certificate is of your own making

# A stand-in store to practise on, kept in a folder and started when used:
[endpoint.practice]
kind = "s3"
stand-in = "practice"
`

const exampleJob = `# What is copied where. The file's name is the job's.
source = "here"
target = "practice/first-bucket/copy"
compare-by = "size-and-time"       # or "content"
proof = "stored-checksum"     # or "size", "read-back"

[limits]
streams = 16                  # requests at a time
part-size = "8MiB"            # of big objects
`

const exampleRates = `# What stores charge, for estimates. These rates are MADE UP, to show the form:
# put your own in their place and take "example" out. Requests are for a
# thousand, bytes for a GB (1e9), storage for a GB and month.
currency = "EUR"

[rates.practice]
example = true
lists = 0.005
reads = 0.0004
writes = 0.005
copies = 0.005
deletes = 0.0
egress = 0.08
retrieval = 0.01
storage = 0.02
`

func (a *app) initCommand() *cobra.Command {
	return &cobra.Command{
		Use: "init [DIR]",
		Example: "  lumtra init\n" +
			"  lumtra init ~/archive",
		Short: "Make a workspace with an example to change",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				a.workspace = args[0]
			}
			if err := a.folders(); err != nil {
				return err
			}
			if _, err := os.Stat(filepath.Join(a.workspace, "endpoints.toml")); err == nil {
				return fmt.Errorf("%w: %s is a workspace already", workspace.ErrBadInput, a.workspace)
			}
			if err := a.startAnew(); err != nil {
				return err
			}
			for _, d := range []string{"jobs", "here"} {
				if err := os.MkdirAll(filepath.Join(a.workspace, d), 0o755); err != nil {
					return err
				}
			}
			for name, text := range map[string]string{"endpoints.toml": exampleEndpoints,
				"jobs/first.toml": exampleJob, "rates.toml": exampleRates,
				"here/hello.txt": "Put what you like beside this file.\n"} {
				if err := os.WriteFile(filepath.Join(a.workspace, name), []byte(text), 0o644); err != nil {
					return err
				}
			}
			if err := a.withService(cmd.Context(), func(s *service.Service) error {
				return s.MakeBucket(cmd.Context(), "practice", "first-bucket")
			}); err != nil {
				return err
			}
			a.out.say("made", map[string]any{"workspace": a.workspace}, "Made a workspace in "+
				object.Display(a.workspace)+".")
			a.next("run the job in it, which copies one folder to a stand-in store", "run", "first")
			return nil
		},
	}
}
