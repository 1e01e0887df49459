package places

import (
	"context"
	"fmt"
	"os"
	"path"
	"strings"
	"sync"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/pace"
	"lumtra/core/pack"
	"lumtra/core/report"
	"lumtra/core/sample"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

// sampleForm asks how what is sampled would go its way, and begins.
func (s *Screen) sampleForm() tea.Cmd {
	at := s.folder()
	nowhere := "not decided"
	ends := append([]string{nowhere}, s.Service.EndpointNames()...)
	f := &kit.Form{Title: "Sample " + at.String(), Does: "try it",
		Notes: []string{"Compressors are tried side by side on a part of the files, to see what a pack of them would " +
			"take. 48 MiB are read at the most, and nothing is written."},
		Fields: []*kit.Field{{Name: "to", Value: nowhere, Choices: ends},
			{Name: "line", Hint: "80 MB/s; nothing for as fast as it packs"}}}
	f.Behind = func(f *kit.Form) []string {
		words := []string{"pack", "sample", ref(at)}
		if to := f.Get("to"); to != nowhere {
			words = append(words, "--to", to)
		}
		if line := f.Get("line"); line != "" {
			words = append(words, "--line", line)
		}
		return words
	}
	f.Submit = func(f *kit.Form) tea.Cmd {
		x := &sampleSheet{s: s, at: at}
		if to := f.Get("to"); to != nowhere {
			x.to = to
		}
		var opts sample.Options
		if line := f.Get("line"); line != "" {
			var err error
			if opts.Line, err = pace.ParseRate(line); err != nil {
				f.Err = err
				return nil
			}
		}
		return x.begin(opts)
	}
	return s.form(f)
}

// sampleSheet shows what compressors make of a part of some files, as it is found out.
type sampleSheet struct {
	s    *Screen
	at   workspace.At
	to   string
	stop context.CancelFunc

	mu     sync.Mutex
	found  *sample.Sampling // so far
	ended  bool
	err    error
	cursor int
	moved  bool // the cursor was, by a person
}

// sampledMsg tells that a sampling has ended.
type sampledMsg struct {
	sheet *sampleSheet
	found *sample.Sampling
	err   error
}

func (x *sampleSheet) begin(opts sample.Options) tea.Cmd {
	ctx, stop := context.WithCancel(x.s.ctx)
	x.stop = stop
	opts.Told = func(so *sample.Sampling) {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.found = so
	}
	x.s.sheet = x
	return tea.Batch(x.s.beat(), func() tea.Msg {
		defer stop()
		found, err := x.s.Service.Sample(ctx, x.at, x.to, opts)
		return sampledMsg{x, found, err}
	})
}

func (x *sampleSheet) close() { x.stop() }

func (x *sampleSheet) update(msg tea.Msg) tea.Cmd {
	x.mu.Lock()
	defer x.mu.Unlock()
	switch msg := msg.(type) {
	case sampledMsg:
		if msg.sheet != x {
			return nil
		}
		if x.ended, x.err = true, msg.err; msg.err == nil {
			x.found = msg.found
			if !x.moved {
				x.cursor = msg.found.Best
			}
		}
	case tea.KeyPressMsg:
		return x.key(msg.String())
	}
	return nil
}

func (x *sampleSheet) key(key string) tea.Cmd {
	n := 0
	if x.found != nil {
		n = len(x.found.Trials)
	}
	switch key {
	case "down", "j":
		x.cursor, x.moved = min(x.cursor+1, max(n-1, 0)), true
	case "up", "k":
		x.cursor, x.moved = max(x.cursor-1, 0), true
	case "x":
		return x.export(report.SVG)
	case "X":
		return x.export(report.PDF)
	case "enter":
		if x.ended && n > 0 {
			return x.choose(x.found.Trials[x.cursor])
		}
	}
	return nil
}

func (x *sampleSheet) keys() []kit.Key {
	x.mu.Lock()
	defer x.mu.Unlock()
	if !x.ended || x.err != nil {
		return []kit.Key{{Press: "esc", Does: "leave it"}}
	}
	return []kit.Key{{Press: "enter", Does: "choose: a job that packs so"}, {Press: "down", Does: "next one"},
		{Press: "x", Does: "SVG: export"}, {Press: "X", Does: "PDF: export"}, {Press: "esc", Does: "leave it"}}
}

// export writes what was found out beside where Lumtra was started.
func (x *sampleSheet) export(f report.Format) tea.Cmd {
	if !x.ended || x.err != nil {
		return nil
	}
	found := x.found
	return func() tea.Msg {
		dir, err := os.Getwd()
		path := ""
		if err == nil {
			path, err = x.s.Service.ExportSampleTo(dir, x.at, found, f)
		}
		if err != nil {
			return kit.Say{Text: kit.Reason(err), Bad: true}
		}
		return kit.Say{Text: "Written to " + object.Display(path), Link: object.Display(path)}
	}
}

// choose asks where a job that packs in one way is to pack to, makes it and opens it.
func (x *sampleSheet) choose(t sample.Trial) tea.Cmd {
	if t.Form == "" {
		return kit.Cmd(kit.Say{Text: "Packs are not made with " + t.Name + "; it is there for comparison."})
	}
	s := x.s
	base := path.Base("/" + strings.Trim(x.at.Bucket+"/"+x.at.Key, "/"))
	if base == "/" {
		base = x.at.Endpoint
	}
	target := ""
	if x.to != "" {
		target = x.to + "/"
	}
	f := &kit.Form{Title: "A job that packs " + x.at.String(), Does: "make it",
		Notes: []string{t.Name + ", one pack; the sentence has more ways to divide it."},
		Fields: []*kit.Field{{Name: "target", Value: target, Hint: "endpoint/bucket/" + base},
			{Name: "name", Value: jobName(base)}}}
	f.Submit = func(f *kit.Form) tea.Cmd {
		text, err := packingJob(x.at.Text(), f.Get("target"), t)
		name := f.Get("name")
		if err == nil {
			_, err = s.Service.ParseJob(name, text)
		}
		if err == nil {
			err = s.Service.SaveJob("", name, text)
		}
		if err != nil {
			f.Err = err
			return nil
		}
		s.sheet = nil
		return tea.Batch(kit.Cmd(kit.Refresh{Then: kit.Cmd(kit.Open{View: kit.Jobs, Job: name})}))
	}
	return s.form(f)
}

// jobName makes a name that a job may have of any.
func jobName(base string) string {
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' || r == '_' {
			return r
		}
		return '-'
	}, strings.ToLower(base))
	name = strings.Trim(name[:min(len(name), 57)], "-_")
	return strings.Trim(name+"-packed", "-")
}

// packingJob is the text of a job that packs.
func packingJob(source, target string, t sample.Trial) (string, error) {
	if !pack.Leads(target) {
		target = pack.As(target, t.Form)
	}
	text, err := job.Set("", source, "source")
	if err == nil {
		text, err = job.Set(text, target, "target")
	}
	if err == nil && t.Level > 0 {
		text, err = job.Set(text, t.Level, "packs", "level")
	}
	return text, err
}

func (x *sampleSheet) lines(width, height int) []string {
	x.mu.Lock()
	defer x.mu.Unlock()
	t := x.s.Theme
	l := &liner{s: x.s, width: width}
	l.lines = append(l.lines, t.Strong.Render(kit.Name("What packs make of "+x.at.String(), width)), "")
	s := x.found
	if s != nil {
		x.overview(l, s)
	}
	switch {
	case x.err != nil:
		l.text(t.Flare.Render, kit.Reason(x.err))
	case !x.ended:
		l.text(t.Lamp.Render, "trying … esc leaves it")
	}
	if s == nil {
		return l.lines
	}
	l.gap()
	rows := 0
	for i := range s.Trials {
		l.lines = append(l.lines, x.row(&s.Trials[i], s, i, width))
		rows++
	}
	if x.cursor < len(s.Trials) && x.ended {
		l.gap()
		x.details(l, &s.Trials[x.cursor], s)
	}
	return l.lines[:min(len(l.lines), max(height, 1))]
}

// overview says of what it was found out, and what is recommended.
func (x *sampleSheet) overview(l *liner, s *sample.Sampling) {
	t := l.s.Theme
	l.text(t.Ash.Render, fmt.Sprintf("%s files, %s; tried on %s of them with %s", kit.Count(s.Files), kit.Size(s.Bytes),
		kit.Size(s.Read), object.Count(int64(s.Processors), "processor")))
	if !x.ended || x.err != nil {
		return
	}
	single := "as they are: at least " + object.Count(s.Single.Requests, "request")
	if s.Rates != nil {
		single += ", " + s.Money(s.Single)
		if s.Rates.Example {
			single += ", by rates that are only examples"
		}
	}
	l.text(t.Ash.Render, single)
	if best := s.Recommended(); best != nil {
		l.text(t.Lamp.Render, best.Name+": "+s.Why)
	}
}

// row is one way to compress: what is left, how fast it goes, how long all of it takes.
func (x *sampleSheet) row(tr *sample.Trial, s *sample.Sampling, i, width int) string {
	t := x.s.Theme
	tint, mark := t.Tide, "  "
	if tr.Form == "" {
		tint = t.Ash
	}
	if i == s.Best && x.ended {
		tint, mark = t.Lamp, "▸ "
	}
	words := fmt.Sprintf(" %3.0f %% %9s", 100*tr.Ratio, kit.Size(tr.Size))
	if width >= 52 {
		words += fmt.Sprintf(" %9s/s", kit.Size(int64(tr.InAll)))
	}
	if width >= 64 {
		words += fmt.Sprintf(" %11s", kit.Span(tr.Time))
	}
	if width >= 76 && x.ended {
		words += fmt.Sprintf(" %8s", kit.Count(tr.Bill.Requests))
	}
	room := max(min(width-14-ansi.StringWidth(words), 40), 4)
	n := min(int(min(tr.Ratio, 1)*float64(room)+0.5), room)
	line := tint.Render(mark) + t.Paper.Render(kit.Fit(tr.Name, 8)) + " " + tint.Render(strings.Repeat("█", n)) +
		t.Rule.Render(strings.Repeat("░", room-n)) + t.Paper.Render(words)
	return kit.Row(t, line, width, i == x.cursor && x.ended)
}

// details tell of one way more than fits into its row.
func (x *sampleSheet) details(l *liner, tr *sample.Trial, s *sample.Sampling) {
	rate := func(one, all float64) string {
		return fmt.Sprintf("%s/s on one processor, %s/s on all", kit.Size(int64(one)), kit.Size(int64(all)))
	}
	l.fact(tr.Name, map[bool]string{true: "packs are not made with it", false: "makes " + "." +
		string(tr.Form)}[tr.Form == ""])
	l.fact("packs", rate(tr.In, tr.InAll))
	l.fact("is read", rate(tr.Out, tr.OutAll))
	l.fact("takes", kit.Span(tr.Time)+" for all of it")
	bill := object.Count(tr.Bill.Requests, "request") + " that write"
	if s.Rates != nil {
		bill += ", " + s.Money(tr.Bill)
	}
	l.fact("asks for", bill)
	for _, k := range s.Kinds {
		ratio, ok := tr.OfKind[k.Ending]
		if !ok {
			continue
		}
		name := k.Ending
		if name == "" {
			name = "no ending"
		}
		left := fmt.Sprintf("%.0f %% of %s", 100*ratio, kit.Size(k.Bytes))
		if ratio > 0.95 && tr.Form != pack.Plain {
			left += ", kept as it is"
		}
		l.fact(name, left)
	}
}
