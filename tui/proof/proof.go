// Package proof is the view of what is really there: the newest proof's
// verdict, what is missing, extra or different, and where its files lie.
package proof

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/proof"
	"lumtra/core/report"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
)

// Screen is the view.
type Screen struct {
	*kit.Shared
	ctx    context.Context
	jobs   map[string]*shown
	cursor kit.Cursor
	page   int
}

// shown is what the view knows of one job's proof.
type shown struct {
	number  int // of the proof whose differences these are
	dir     string
	tree    kit.Tree[proof.Node]
	only    int // the verdict that is shown alone, as in proof.Verdicts; 0 for all
	loading bool
	method  compare.Method // "" for what the job says
	proving *workroom.Activity
	quiet   kit.Quiet // since when nothing of it has moved
	stop    context.CancelFunc
	err     error
}

// View is what the view tells of itself.
var View = kit.ViewKind{View: kit.Proof, Does: "what is really there", OfJob: true,
	Presses: kit.Presses(actions),
	New:     func(ctx context.Context, shared *kit.Shared) kit.Screen { return newScreen(ctx, shared) }}

// newScreen makes the view.
func newScreen(ctx context.Context, shared *kit.Shared) *Screen {
	return &Screen{Shared: shared, ctx: ctx, jobs: map[string]*shown{}, page: 10}
}

type (
	provedMsg struct {
		job   string
		proof *workroom.Proof
		err   error
	}
	folderMsg struct {
		job    string
		number int
		under  *node // nil for the top
		nodes  []proof.Node
		err    error
	}
)

// Crumbs name the job.
func (s *Screen) Crumbs() []string {
	if j := s.Current(); j != nil {
		return []string{j.Job.Name}
	}
	return nil
}

// Asks is never so here.
func (s *Screen) Asks() bool { return false }

// by is how closely the next proof looks: as the job says now, unless another was chosen.
func (sh *shown) by(j *kit.JobState) compare.Method { return cmp.Or(sh.method, j.Job.Proof) }

// Name is the place at the target of what is under the cursor, the job's own where nothing is.
func (s *Screen) Name() string {
	if j := s.Current(); j != nil {
		return kit.NameAt(j, s.shown(j).tree.Rows, s.cursor.At)
	}
	return ""
}

// Command makes the proof.
func (s *Screen) Command() []string {
	j := s.Current()
	if j == nil {
		return nil
	}
	words := []string{"prove", j.Job.Name}
	if sh := s.shown(j); sh.method != "" {
		words = append(words, "--by", string(sh.method))
	}
	return words
}

func (s *Screen) shown(j *kit.JobState) *shown {
	sh := s.jobs[j.Job.Name]
	if sh == nil {
		sh = &shown{}
		s.jobs[j.Job.Name] = sh
	}
	return sh
}

// Update takes keys and what came of commands.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case kit.Prove:
		if j := s.State.JobNamed(msg.Job); j != nil {
			return s.prove(j)
		}
	case provedMsg:
		return s.proved(msg)
	case folderMsg:
		s.folder(msg)
	case kit.Opened:
		s.cursor = kit.Cursor{}
		return s.catchUp()
	case kit.StateMsg:
		for _, sh := range s.jobs {
			if a := sh.proving; a != nil {
				sh.quiet.Note(a.Source.Objects.Load()+a.Target.Objects.Load()+a.Compared.Objects.Load()+
					a.Compared.Bytes.Load(), s.Now())
			}
		}
		return s.catchUp()
	case tea.KeyPressMsg:
		if j := s.Current(); j != nil {
			return s.key(msg.String(), &about{s, j, s.shown(j)})
		}
	}
	return nil
}

func (s *Screen) catchUp() tea.Cmd {
	j := s.Current()
	if j == nil || j.Proof == nil {
		return nil
	}
	sh := s.shown(j)
	if sh.number == j.Proof.Number || sh.loading {
		return nil
	}
	sh.loading, sh.dir = true, j.Proof.Dir
	return s.load(j.Job.Name, j.Proof.Number, sh.dir, nil)
}

// export writes the document beside where Lumtra was started.
func (s *Screen) export(p *workroom.Proof) tea.Cmd {
	return func() tea.Msg {
		dir, err := os.Getwd()
		path := ""
		if err == nil {
			path, err = s.Service.ExportProofTo(dir, p, report.PDF)
		}
		if err != nil {
			return kit.Say{Text: kit.Reason(err), Bad: true}
		}
		return kit.Say{Text: "Written to " + object.Display(path), Link: object.Display(path)}
	}
}

// mend makes a job of the difference and goes there.
func (s *Screen) mend(name string) tea.Cmd {
	return func() tea.Msg {
		made, err := s.Service.MendJob(name)
		if err != nil {
			return kit.Say{Text: kit.Reason(err), Bad: true}
		}
		return kit.Refresh{Then: tea.Sequence(kit.Cmd(kit.Open{View: kit.Jobs, Job: made}),
			kit.Cmd(kit.Say{Text: "The job " + made + " sends what is missing or different; p plans it."}))}
	}
}

// prove compares outside Update.
func (s *Screen) prove(j *kit.JobState) tea.Cmd {
	sh := s.shown(j)
	if sh.proving != nil {
		return nil
	}
	ctx, stop := context.WithCancel(s.ctx)
	act, job, method := &workroom.Activity{}, j.Job.Name, sh.by(j)
	sh.proving, sh.stop, sh.err, sh.quiet = act, stop, nil, kit.Quiet{}
	return func() tea.Msg {
		defer stop()
		p, err := s.Service.Prove(ctx, job, workroom.ProveOptions{Method: method}, act)
		return provedMsg{job, p, err}
	}
}

func (s *Screen) proved(msg provedMsg) tea.Cmd {
	j := s.State.JobNamed(msg.job)
	if j == nil {
		return nil
	}
	sh := s.shown(j)
	sh.proving = nil
	switch {
	case errors.Is(msg.err, context.Canceled):
		return kit.Cmd(kit.Say{Text: "The proof was stopped; the one before stands."})
	case msg.err != nil:
		sh.err = msg.err
		return nil
	}
	j.Proof = msg.proof // at once, not at the next tick
	return s.catchUp()
}

var sureness = map[compare.Method]string{
	compare.BySize:      "Sizes only: quick, and blind to content that changed without changing its length.",
	compare.ByStoredSum: "Checksums the stores keep, held against the files: as sure as the stores' own bookkeeping.",
	compare.ByReadBack:  "Both sides read in full and compared byte for byte: as sure as can be.",
}

// Render draws the verdict and the differences.
func (s *Screen) Render(width, height int) string {
	j := s.Current()
	if j == nil {
		return kit.Lines([]string{"", "  " + s.NoJob("prove")}, width, height)
	}
	t, sh := s.Theme, s.shown(j)
	lines := []string{"", "  " +
		t.Ash.Render("Is ") + t.Strong.Render(kit.Name(j.Job.Source,
		60)) + t.Ash.Render(" at ") + t.Strong.Render(kit.Name(j.Job.Target,
		60)) + t.Ash.Render("? Next look: by ") + t.Dusk.Render(string(sh.by(j))), ""}
	if height < roomy {
		lines = lines[1:2]
	}
	switch p := j.Proof; {
	case sh.proving != nil:
		lines = append(lines, s.progress(sh)...)
	case sh.err != nil:
		for _, part := range strings.Split(ansi.Wordwrap(kit.Reason(sh.err), width-4, " "), "\n") {
			lines = append(lines, "  "+t.Flare.Render(part))
		}
	case p == nil:
		lines = append(lines, "  "+
			t.Paper.Render("Never "+
				"proven.")+t.Ash.Render("  v compares both sides as they are now, and changes nothing."))
	default:
		lines = append(lines, s.verdict(p, width, height >= roomy)...)
		lines = append(lines, s.tree(sh, width, height-len(lines))...)
	}
	return kit.Lines(lines, width, height)
}

func (s *Screen) progress(sh *shown) []string {
	t, a := s.Theme, sh.proving
	stage, began := a.Stage()
	took := ""
	if !began.IsZero() {
		took = kit.Span(s.Now().Sub(began))
	}
	lines := []string{"  " + t.Lamp.Render("▸ "+stage) + "  " + t.Ash.Render(took), "",
		"    " + t.Ash.Render(kit.Fit("surveyed", 10)) + t.Paper.Render(fmt.Sprintf("%s and %s objects",
			kit.Count(a.Source.Objects.Load()), kit.Count(a.Target.Objects.Load()))),
		"    " + t.Ash.Render(kit.Fit("compared", 10)) + t.Paper.Render(fmt.Sprintf("%s objects, %s",
			kit.Count(a.Compared.Objects.Load()), kit.Size(a.Compared.Bytes.Load())))}
	if j := s.Current(); j != nil {
		wait := kit.WaitingFor(j.Job.Source+" or "+j.Job.Lands(), sh.quiet.Since(), s.Now(), "esc stops proving")
		if wait != "" {
			lines = append(lines, "    "+t.Dusk.Render(wait))
		}
	}
	return lines
}

// roomy is the height from which there is room for more than the verdict and the
// tree.
const roomy = 30

func (s *Screen) verdict(p *workroom.Proof, width int, long bool) []string {
	t := s.Theme
	head, style, words := "◗ It holds.", t.Tide.Bold(true), "E"+strings.TrimPrefix(p.Words(), "e")+"."
	switch {
	case p.OnlyUnproven():
		head, style = "▲ It is not proven.", t.Flare
		words = "Nothing was found different or missing, but what follows could not be compared."
	case !p.Holds():
		head, style = "▲ It does not hold.", t.Flare
		words = "What follows is not at the target as it is at the source."
	}
	var lines []string
	for i, part := range strings.Split(ansi.Wordwrap(head+"  "+words, width-2, " "), "\n") {
		if rest, first := strings.CutPrefix(part, head); first && i == 0 {
			lines = append(lines, "  "+style.Render(head)+t.Paper.Render(rest))
			continue
		}
		lines = append(lines, "  "+t.Paper.Render(part))
	}
	lines = append(lines, "  "+
		t.Ash.Render(fmt.Sprintf("proof %d · %s · took %s · by %s", p.Number,
			p.Ended.Local().Format("2006-01-02 15:04:05 MST"), kit.Span(p.Ended.Sub(p.Began)), p.Method)))
	if long {
		lines = append(lines, "  "+t.Ash.Render(sureness[p.Method]), "")
	}
	var all int64
	for _, v := range proof.Verdicts {
		all += p.Objects[v]
	}
	for _, v := range proof.Verdicts {
		n := p.Objects[v]
		if n == 0 && v != proof.Same {
			continue
		}
		glyph, style := s.glyph(v)
		cells := 0
		if all > 0 {
			cells = max(int(40*n/all), 1)
		}
		lines = append(lines, "  "+
			style.Render(kit.Fit(string(v), 14))+t.Paper.Render(kit.FitLeft(kit.Count(n),
			12)+kit.FitLeft(kit.Size(p.Bytes[v]), 12))+"   "+style.Render(strings.Repeat(glyph, cells)))
	}
	if p.Gaps > 0 {
		lines = append(lines, "  "+
			t.Flare.Render(fmt.Sprintf("▲ %s could not be listed, so nothing is proven of the whole",
				kit.Count(p.Gaps))))
	}
	if !long {
		return append(lines, "")
	}
	if len(p.Ways.Source)+len(p.Ways.Target) > 0 {
		lines = append(lines, "")
	}
	for _, w := range p.Ways.Shown() {
		mark := t.Ash.Render("✓ ")
		if w.Weak {
			mark = t.Dusk.Render("◆ ")
		}
		lines = append(lines, "  "+mark+t.Ash.Render(string(w.Name)+": "+w.Way))
	}
	return append(lines, "", "  "+
		t.Ash.Render("manifest, differences and summary in ")+t.Paper.Render(object.Display(p.Dir)), "")
}
