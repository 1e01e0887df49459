package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lumtra/core/atomicfile"
	"lumtra/core/forecast"
	"lumtra/core/object"
	"lumtra/core/report"
	"lumtra/core/rule"
	"lumtra/core/schedule"
	"lumtra/core/starts"
	"lumtra/service"
	"lumtra/service/agenda"
	"lumtra/service/workspace"
)

// agendaOptions are the flags of the agenda.
type agendaOptions struct {
	ahead, back, job, calendar, export string
	most                               int
}

func (a *app) agendaCommand() *cobra.Command {
	var opts agendaOptions
	c := &cobra.Command{
		Use:   "agenda",
		Short: "Tell which jobs start when, and how past starts went",
		Long: `Tell which jobs start by themselves in the coming days, how long their runs will
take by what past ones took, and which of them want one endpoint at the same
time; and how the starts of the last days went. The background service is what
starts them: lumtra service.`,
		Example: "  lumtra agenda\n  lumtra agenda --ahead 30d --job masters\n  lumtra agenda --calendar coming.ics\n" +
			"  lumtra agenda --back 7d --export week.pdf",
		Args: cobra.NoArgs,
		RunE: a.with(func(ctx context.Context, s *service.Service, _ []string) error {
			return a.agenda(ctx, s, &opts)
		}),
	}
	f := c.Flags()
	f.StringVar(&opts.ahead, "ahead", "7d", "how far to look ahead, as an age such as 12h or 30d")
	f.StringVar(&opts.back, "back", "1d", "how far to look back")
	f.StringVar(&opts.job, "job", "", "this job alone")
	f.IntVar(&opts.most, "most", 40, "the most starts to tell of, either way")
	f.StringVar(&opts.export, "export", "", "draw past and coming runs into a file: .svg or .pdf")
	f.StringVar(&opts.calendar, "calendar", "", "write the coming starts into an iCalendar file (RFC 5545)")
	return c
}

// agenda tells the outlook, or writes it.
func (a *app) agenda(ctx context.Context, s *service.Service, opts *agendaOptions) error {
	ahead, ok := rule.ParseAge(opts.ahead)
	back, ok2 := rule.ParseAge(opts.back)
	if !ok || !ok2 {
		return workspace.BadInput(fmt.Errorf("--ahead and --back are ages such as 12h or 30d"))
	}
	if opts.job != "" {
		if _, err := s.Job(opts.job); err != nil {
			return err
		}
	}
	now := s.Now()
	o, err := s.Agenda(ctx, now.Add(-back), now.Add(ahead))
	if err != nil {
		return err
	}
	switch {
	case opts.calendar != "":
		return a.writeCalendar(s, o, opts)
	case opts.export != "":
		return a.drawAgenda(s, o, opts, now.Add(ahead))
	}
	a.tellKept(o, opts)
	for _, m := range s.Workspace().Mistakes {
		a.out.say("mistake", map[string]any{"message": m.Error()}, "▲ "+object.Display(m.Error()))
	}
	caused := a.tellCauses(s, opts)
	if !a.tellComing(o, opts) && !caused {
		a.out.say("note", map[string]any{"text": "no job starts by itself in that time"},
			"No job starts by itself in that time; a job's [when] says when it does: lumtra help job.")
	} else if s.Background(ctx) == nil {
		a.next("nothing starts them now; start the background service", "service")
	}
	return nil
}

// tellCauses tells which jobs start for another cause than a time; false for none.
func (a *app) tellCauses(s *service.Service, opts *agendaOptions) (some bool) {
	for _, j := range s.Workspace().Jobs {
		if !j.Schedule.ByItself() || j.Schedule.Timed() || opts.job != "" && j.Name != opts.job {
			continue
		}
		some = true
		a.out.say("coming", map[string]any{"job": j.Name, "cause": j.Schedule.String()},
			fmt.Sprintf("%-29s %-20s %s", "", j.Name, j.Schedule))
	}
	return some
}

// tellKept tells how past starts went, oldest first.
func (a *app) tellKept(o *agenda.Outlook, opts *agendaOptions) {
	kept := slices.DeleteFunc(slices.Clone(o.Kept), func(r starts.Row) bool {
		return opts.job != "" &&
			r.Job != opts.job
	})
	kept = kept[:min(len(kept), opts.most)]
	slices.Reverse(kept)
	for _, r := range kept {
		text := fmt.Sprintf("%s  %-20s %s", shownTime(r.Slot), r.Job, r.Words())
		if r.Cause != starts.ByTime {
			text += " (" + string(r.Cause) + ")"
		}
		a.out.say("start", map[string]any{"job": r.Job, "slot": r.Slot, "cause": r.Cause, "state": r.State,
			"plan": r.Plan,
			"note": r.Note}, object.Display(text))
	}
}

// tellComing tells what comes; false for nothing.
func (a *app) tellComing(o *agenda.Outlook, opts *agendaOptions) bool {
	told := 0
	for i := range o.Coming {
		c := &o.Coming[i]
		if opts.job != "" && c.Job != opts.job {
			continue
		}
		if told == opts.most {
			a.out.say("note", map[string]any{"text": "more starts come; --most tells of more"},
				"… more starts come; --most tells of more.")
			break
		}
		told++
		text := fmt.Sprintf("%s  %-20s in %s%s%s", shownTime(c.At), c.Job, inWords(c.At.Sub(o.At)), lengthWords(c),
			clockWords(c.Start.Clock))
		fields := map[string]any{"job": c.Job, "slot": c.Start.At, "at": c.At, "clock": string(c.Start.Clock)}
		if c.Usual > 0 {
			fields["seconds"], fields["soonest_seconds"], fields["latest_seconds"] = c.Usual.Seconds(),
				c.Short.Seconds(),
				c.Longest.Seconds()
		}
		a.out.say("coming", fields, text)
		for k := range o.Collisions {
			x := &o.Collisions[k]
			if x.Second != i {
				continue
			}
			other := o.Coming[x.First].Job
			a.out.say("collision", map[string]any{"job": c.Job, "with": other, "endpoint": x.Endpoint, "from": x.From,
				"to": x.To, "longer_seconds": x.Longer().Seconds()},
				fmt.Sprintf("    %s is at %s then, too: both take up to %s longer", other, endpointWords(x.Endpoint),
					inWords(x.Longer())))
		}
	}
	return told > 0
}

// drawAgenda draws the outlook.
func (a *app) drawAgenda(s *service.Service, o *agenda.Outlook, opts *agendaOptions, to time.Time) error {
	form := report.Format(strings.TrimPrefix(strings.ToLower(filepath.Ext(opts.export)), "."))
	if form != report.SVG && form != report.PDF {
		return workspace.BadInput(fmt.Errorf("--export draws .svg and .pdf, not %q", filepath.Ext(opts.export)))
	}
	err := workspace.WriteFile(opts.export, func(w io.Writer) error {
		return report.Agenda(w, &report.AgendaOf{Title: s.Workspace().Title, From: o.Since, Now: o.At, To: to,
			Jobs:   o.Jobs,
			Coming: o.Coming, Collisions: o.Collisions, Kept: o.Kept}, form)
	})
	if err == nil {
		a.out.say("exported", map[string]any{"file": opts.export}, object.Display(opts.export)+" written.")
	}
	return err
}

// writeCalendar writes the coming starts.
func (a *app) writeCalendar(s *service.Service, o *agenda.Outlook, opts *agendaOptions) error {
	all := slices.DeleteFunc(slices.Clone(o.Coming), func(c forecast.Coming) bool {
		return opts.job != "" &&
			c.Job != opts.job
	})
	var b bytes.Buffer
	err := forecast.WriteCalendar(&b, s.Workspace().Title, all, func(name string) string {
		if j, err := s.Job(name); err == nil {
			return j.Source + " to " + j.Lands() + ", " + j.Schedule.String()
		}
		return name
	}, o.At)
	if err == nil {
		err = atomicfile.Write(opts.calendar, b.Bytes(), 0o644)
	}
	if err == nil {
		a.out.say("exported", map[string]any{"file": opts.calendar},
			fmt.Sprintf("%s written: %s.", object.Display(opts.calendar), object.Count(len(all), "start")))
	}
	return err
}

// shownTime is a moment in this machine's zone, with its weekday and offset.
func shownTime(t time.Time) string { return t.Local().Format("Mon 2006-01-02 15:04 -07:00") }

// inWords is a time in its two largest units.
func inWords(d time.Duration) string {
	day := 24 * time.Hour
	switch {
	case d >= day:
		return fmt.Sprintf("%d d %d h", d/day, d%day/time.Hour)
	case d >= time.Hour:
		return fmt.Sprintf("%d h %d min", d/time.Hour, d%time.Hour/time.Minute)
	case d >= time.Minute:
		return fmt.Sprintf("%d min", d/time.Minute)
	}
	return fmt.Sprintf("%d s", d/time.Second)
}

func lengthWords(c *forecast.Coming) string {
	if c.Usual == 0 {
		return ""
	}
	return fmt.Sprintf(", takes %s (%s to %s)", inWords(c.Usual), inWords(c.Short), inWords(c.Longest))
}

func clockWords(c schedule.Clock) string {
	switch c {
	case schedule.Moved:
		return "; clocks go forward over its time, it starts right after"
	case schedule.Doubled:
		return "; clocks go back over its time, it starts at the first of both"
	}
	return ""
}

func endpointWords(name string) string {
	if name == "" {
		return "this machine"
	}
	return name
}
