package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"lumtra/core/object"
	"lumtra/service"
	"lumtra/service/remote"
)

func (a *app) serviceLogsCommand() *cobra.Command {
	most, follow := 50, false
	c := &cobra.Command{
		Use: "logs", Short: "Tell what this workspace's log says", Args: cobra.NoArgs,
		Long: `Tell the last lines of the log in the state folder, in words; with --json as they are. Names of
fields stay.`,
		Example: "  lumtra service logs --most 200\n  lumtra service logs --follow --json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.withService(cmd.Context(), func(*service.Service) error {
				return interrupted(cmd.Context(), a.tellLog(cmd.Context(), most, follow))
			})
		},
	}
	c.Flags().IntVar(&most, "most", most, "the most lines")
	c.Flags().BoolVarP(&follow, "follow", "f", false, "go on telling, until it is interrupted")
	return c
}

// tailBytes is how much of the end of a log is looked at.
const tailBytes = 4 << 20

// tellLog tells the last lines, and what comes.
func (a *app) tellLog(ctx context.Context, most int, follow bool) error {
	f, err := os.Open(filepath.Join(a.state, "lumtra.log"))
	if err != nil {
		return err
	}
	defer f.Close()
	size, err := f.Seek(0, io.SeekEnd)
	if err == nil {
		_, err = f.Seek(max(size-tailBytes, 0), io.SeekStart)
	}
	if err != nil {
		return err
	}
	in := bufio.NewReader(f)
	if size > tailBytes {
		_, _ = in.ReadString('\n') // cut short
	}
	var last []string
	rest := ""
	for {
		line, err := in.ReadString('\n')
		if rest += line; err != nil {
			break
		}
		last, rest = append(last, rest), ""
		if len(last) > most {
			last = slices.Delete(last, 0, len(last)-most)
		}
	}
	for _, line := range last {
		a.sayLine(line)
	}
	for follow {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
		for {
			line, err := in.ReadString('\n')
			if rest += line; err != nil {
				break
			}
			a.sayLine(rest)
			rest = ""
		}
	}
	return nil
}

// sayLine tells one line of the log.
func (a *app) sayLine(line string) {
	var doc map[string]any
	if json.Unmarshal([]byte(line), &doc) != nil {
		return
	}
	at, _ := time.Parse(time.RFC3339Nano, fmt.Sprint(doc["time"]))
	text := fmt.Sprintf("%s  %-5s %v", at.Local().Format("2006-01-02 15:04:05"), doc["level"], doc["msg"])
	for _, name := range slices.Sorted(func(yield func(string) bool) {
		for k := range doc {
			if k != "time" && k != "level" && k != "msg" && !yield(k) {
				return
			}
		}
	}) {
		text += fmt.Sprintf("  %s=%v", name, doc[name])
	}
	a.out.say("log", map[string]any{"line": strings.TrimSpace(line)}, object.Display(strings.TrimSpace(text)))
}

func (a *app) serviceReloadCommand() *cobra.Command {
	return &cobra.Command{
		Use: "reload", Short: "Have the background service read the workspace's files again, now", Args: cobra.NoArgs,
		Long: "It does so by itself soon after they change; this is for where nobody tells it, as on some " +
			"network mounts.",
		Example: "  lumtra service reload",
		RunE: a.with(func(ctx context.Context, s *service.Service, _ []string) error {
			about := s.Background(ctx)
			if about == nil {
				return remote.ErrNone
			}
			if err := syscall.Kill(about.Pid, syscall.SIGUSR1); err != nil {
				return errors.Join(fmt.Errorf("process %d could not be told", about.Pid), err)
			}
			a.out.say("service", map[string]any{"running": true, "pid": about.Pid},
				fmt.Sprintf("Process %d reads again.",
					about.Pid))
			return nil
		}),
	}
}
