package places

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"lumtra/core/level"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/kind"
	"lumtra/core/place/kinds"
	"lumtra/core/probe"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

// Render draws the tree and, where there is room, the pane beside it.
func (s *Screen) Render(width, height int) string {
	s.page = max(height-3, 1)
	if width < 100 {
		upper := max(height*11/20, 3)
		if s.sheet != nil {
			upper = min(upper, max(height/4, 3))
		}
		return s.tree(width, upper) + "\n" + kit.RuleLine(s.Theme, width) + "\n" + s.drawPane(width, height-upper-1)
	}
	left := width * 11 / 20
	return kit.Beside(s.Theme, s.tree(left, height), s.drawPane(width-left-3, height))
}

// tree draws the lines around the cursor, and what is marked or in the tray
// below them.
func (s *Screen) tree(width, height int) string {
	if s.root.lines() == 0 {
		return kit.Lines([]string{"", "  No endpoints yet: n adds one."}, width, height)
	}
	foot := s.foot(width)
	rows := height - len(foot)
	var lines []string
	var shown []workspace.At
	first, last := s.cursor.Window(s.root.lines(), rows)
	for i := first; i < last; i++ {
		l := s.root.line(i)
		text, counted := s.line(l, width-2)
		if counted != nil {
			shown = append(shown, *counted)
		}
		if s.idle && i == s.cursor.At {
			lines = append(lines, kit.Fit(s.Theme.Ash.Render("▏ ")+text, width))
			continue
		}
		lines = append(lines, kit.Row(s.Theme, text, width, i == s.cursor.At))
	}
	s.sums.want(shown)
	return kit.Stack(append([]string{kit.Lines(lines, width, rows)}, foot...)...)
}

// foot is the strip below the tree: the narrowing words, the marks, the tray.
func (s *Screen) foot(width int) []string {
	t := s.Theme
	if b := s.narrowing; b != nil {
		return []string{kit.Fit(t.Lamp.Render("  names "+
			"with ")+t.Paper.Render(object.Display(b.words))+t.Lamp.Render("▏"), width)}
	}
	var parts []string
	if n := len(s.marks); n > 0 {
		parts = append(parts, t.Lamp.Render(fmt.Sprintf("◆ %s marked", kit.Count(int64(n)))))
	}
	if n := len(s.tray); n > 0 {
		names := make([]string, 0, 3)
		for _, at := range s.tray[:min(n, 3)] {
			names = append(names, kit.Name(last(at), 18))
		}
		text := t.Tide.Render(fmt.Sprintf("▽ tray: %d", n)) + t.Ash.Render("  "+strings.Join(names, ", "))
		if n > 3 {
			text += t.Ash.Render(", …")
		}
		parts = append(parts, text)
	}
	if b := s.inside(); b != nil && b.level != nil && b.order != level.ByName {
		parts = append(parts, t.Dusk.Render("↕ "+orderName(b.order)))
	}
	if s.removed {
		parts = append(parts, t.Flare.Render("○ with what was deleted"))
	}
	if len(parts) == 0 {
		return nil
	}
	return []string{kit.Fit("  "+strings.Join(parts, "   "), width)}
}

// last is the last part of a place's name.
func last(at workspace.At) string {
	switch {
	case at.Key != "":
		return object.Base(at.Key)
	case at.Bucket != "":
		return at.Bucket
	}
	return at.Endpoint
}

// leastForTimes is the width from which a line has room for a time beside a name.
const leastForTimes = 44

// line draws one line of the tree. For a folder it also says what is to be
// counted.
func (s *Screen) line(l line, width int) (text string, counted *workspace.At) {
	t, b := s.Theme, l.in
	indent := strings.Repeat("  ", min(b.depth, 12))
	if l.row < 0 {
		return indent + "  " + s.standing(b), nil
	}
	e := b.entry(l.row)
	at := b.spot(e, s.hasBuckets(b.at.Endpoint))
	sign, style := "  ", t.Paper
	_, opens := opensAs(e, at)
	switch {
	case s.marked(at):
		sign, style = t.Lamp.Render("◆ "), t.Lamp
	case e.Kind != object.Special && b.child(l.row) != nil:
		sign, style = t.Ash.Render("▾ "), t.Strong
	case e.Kind == object.Prefix:
		sign, style = t.Ash.Render("▸ "), t.Strong
	case opens:
		sign = t.Ash.Render("▸ ")
	case e.Kind == object.Special:
		style = t.Ash
	case e.Kind == object.Marker:
		sign, style = t.Flare.Render("○ "), t.Ash
	}
	right := ""
	switch {
	case b.level == nil:
		right = s.endpointRight(at.Endpoint)
	case e.Kind == object.Prefix:
		right = s.sumText(at)
		counted = &at
	case e.Kind == object.Special:
		right = t.Ash.Render("link or special file")
	case e.Kind == object.Marker:
		right = t.Flare.Render("deleted") + t.Ash.Render("  "+e.Modified.Local().Format("2006-01-02 15:04"))
	default:
		right = t.Paper.Render(kit.FitLeft(kit.Size(e.Size), 9))
		if width >= leastForTimes {
			right += "  " + t.Ash.Render(e.Modified.Local().Format("2006-01-02 15:04"))
		}
		if e.Class != "" {
			right = t.Dusk.Render(kit.Name(e.Class, 12)) + "  " + right
		}
	}
	room := max(width-ansi.StringWidth(right)-len(indent)-3, 4)
	return indent + sign + kit.Fit(style.Render(kit.Name(nonEmpty(b.name(e)), room)), room) + " " + right, counted
}

// nonEmpty shows the name of an object that is called what its folder is.
func nonEmpty(name string) string {
	if name == "" {
		return "(itself: an object named like the folder)"
	}
	return name
}

// sumText is what lies below a folder, as far as it is known.
func (s *Screen) sumText(at workspace.At) string {
	if !s.sums.has(at) {
		return ""
	}
	x := s.sums.of(at)
	text := fmt.Sprintf("%9s %9s", kit.Count(x.Objects), kit.Size(x.Bytes))
	switch {
	case x.Counting:
		return s.Theme.Lamp.Render(text + " …")
	case x.Err != nil && x.Objects == 0:
		return s.Theme.Flare.Render("▲ not counted")
	case x.Err != nil:
		return s.Theme.Flare.Render(text + " or more")
	}
	return s.Theme.Ash.Render(text)
}

func (s *Screen) endpointRight(name string) string {
	t, e := s.Theme, s.endpointOf(name)
	if e == nil {
		return ""
	}
	text := t.Ash.Render(kindText(e))
	r := s.report(name)
	switch {
	case r == nil:
		return text + t.Ash.Render("  ○ not tested")
	case r.Refused() > 0:
		return text + t.Flare.Render(fmt.Sprintf("  ▲ %d denied", r.Refused()))
	}
	return text + t.Tide.Render("  ● works")
}

// standing tells how a level stands, in the line below its rows.
func (s *Screen) standing(b *branch) string {
	t, st := s.Theme, b.state
	switch {
	case b.words != "":
		text := fmt.Sprintf("%s of %s have these words", kit.Count(int64(b.own())), kit.Count(int64(st.Rows)))
		if !st.Ended {
			text += ", looking on"
		}
		return t.Lamp.Render(text + " …")
	case st.Ended && st.Err != nil:
		return t.Flare.Render("▲ " + oneLine(st.Err))
	case st.Ended:
		return t.Ash.Render("empty")
	case st.Paused:
		return t.Ash.Render(fmt.Sprintf("… %s so far; it goes on as you go, A lists all", kit.Count(int64(st.Rows))))
	case st.Rows == 0:
		text := "listing …"
		if wait := kit.WaitingFor(b.at.Endpoint, b.began, s.Now(), "left closes it"); wait != "" {
			text += " " + wait
		}
		return t.Lamp.Render(text)
	}
	return t.Lamp.Render(fmt.Sprintf("listing … %s", kit.Count(int64(st.Rows))))
}

func oneLine(err error) string {
	text, _, _ := strings.Cut(kit.Reason(err), "\n")
	return object.Display(text)
}

func kindText(e *kind.Settings) string {
	text := kinds.Of(e).Speaks
	if e.StandIn != "" {
		text += ", stand-in"
	}
	return text
}

// liner collects lines of facts.
type liner struct {
	s     *Screen
	width int
	lines []string
}

func (l *liner) fact(name, value string) {
	for i, part := range strings.Split(ansi.Hardwrap(object.Display(value), max(l.width-15, 10), true), "\n") {
		if i > 0 {
			name = ""
		}
		l.lines = append(l.lines, l.s.Theme.Ash.Render(kit.Fit(object.Display(name), 14))+" "+
			l.s.Theme.Paper.Render(part))
	}
}

func (l *liner) text(style func(...string) string, text string) {
	for _, part := range kit.Wrap(object.Display(text), l.width) {
		l.lines = append(l.lines, style(part))
	}
}

func (l *liner) gap() {
	if n := len(l.lines); n > 0 && l.lines[n-1] != "" {
		l.lines = append(l.lines, "")
	}
}

// endpointFacts tell of an endpoint: where it is, what it signs with, what its
// last test found.
func (l *liner) endpointFacts(name string) {
	s := l.s
	e := s.endpointOf(name)
	if e == nil {
		return
	}
	switch {
	case e.Path != "":
		l.fact(e.Kind, e.Path)
	case e.StandIn != "":
		l.fact("stand-in kept", e.StandIn)
		if e.Speed != "" {
			l.fact("line", e.Speed+"/s")
		}
		if e.Latency != "" {
			l.fact("answers", "after "+e.Latency)
		}
	default:
		l.fact("address", e.Address)
	}
	for _, x := range [][2]string{{"only bucket", e.Bucket}, {"region", e.Region}, {"credential", e.Credential},
		{"access key", e.AccessKey}, {"account", e.Account},
		{"secret from", e.SecretFrom}, {"signature from", e.SignatureFrom}, {"proxy", e.Proxy}, {"own CA", e.CAFile}} {
		if x[1] != "" {
			l.fact(x[0], x[1])
		}
	}
	l.gap()
	r := s.report(name)
	if r == nil {
		l.text(s.Theme.Ash.Render, "Not tested yet: y finds out what it allows.")
		return
	}
	l.fact("tried", kit.Ago(r.At, s.Now()))
	if r.Latency > 0 {
		l.fact("latency", r.Latency.Round(100*time.Microsecond).String())
		l.fact("one stream", fmt.Sprintf("%s there, %s back", kit.Rate(r.Up, s.Bits), kit.Rate(r.Down, s.Bits)))
	}
	l.promises(r.Promises)
	for _, c := range r.Checks {
		if c.Outcome == probe.Refused {
			l.text(s.Theme.Flare.Render, "▲ "+c.Name+": "+c.Found)
			if c.Mend != "" {
				l.text(s.Theme.Paper.Render, "  "+c.Mend)
			}
		}
	}
}

// promises tell by which way each promise is kept here.
func (l *liner) promises(all []place.Promise) {
	if len(all) == 0 {
		return
	}
	t := l.s.Theme
	l.gap()
	for _, p := range all {
		if p.Weak {
			l.text(t.Dusk.Render, "◆ "+string(p.Name)+": "+p.Way)
		} else {
			l.text(t.Ash.Render, "✓ "+string(p.Name)+": "+p.Way)
		}
	}
}

// abilities tell what a place can do, and what it lacks with the reason.
func (l *liner) abilities(f *facts) {
	a := f.Abilities
	l.gap()
	l.fact("speaks", a.Protocol)
	if a.ReadOnly {
		l.fact("writing", "not possible")
		return
	}
	if a.MaxObject > 0 {
		l.fact("objects", "up to "+kit.Size(a.MaxObject))
	}
	if a.MaxParts > 0 && !a.Tree {
		l.fact("parts", fmt.Sprintf("%s to %s, at most %s", kit.Size(a.MinPart), kit.Size(a.MaxPart),
			kit.Count(int64(a.MaxParts))))
	}
	if a.StoredSums != object.NoSum {
		l.fact("keeps sums", a.StoredSums.String()+", verified as content arrives")
	} else {
		l.fact("keeps sums", "none: a proof reads the content")
	}
	if a.KeepsTimes {
		l.fact("times", "kept as they were at the source")
	} else {
		l.fact("times", "when it was stored; the original beside it")
	}
	if f.Versioning != "" {
		l.fact("versioning", string(f.Versioning))
	}
	for _, skill := range []place.Skill{place.Versions, place.Tags, place.Metadata, place.Links, place.Restores,
		place.Folders} {
		if why := f.Lacks[skill]; why != "" {
			l.text(l.s.Theme.Ash.Render, "– no "+string(skill)+": "+why)
		}
	}
}
