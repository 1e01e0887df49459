package run

import (
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"lumtra/core/transfer"
	"lumtra/service/runs"
	"lumtra/tui/kit"
	"lumtra/tui/look"
)

// beat is a measure of a run's stages at a moment.
type beat struct {
	at     time.Time
	began  time.Time
	stages [len(transfer.Stages)]time.Duration
}

// stageWindow is the time over which the meter tells where the streams are.
const stageWindow = 5 * time.Second

// beat keeps the measures of the last moments.
func (s *Screen) beat(st *kit.State) {
	for i := range st.Jobs {
		j := &st.Jobs[i]
		name := j.Job.Name
		if j.Active == nil {
			delete(s.beats, name)
			continue
		}
		all := s.beats[name]
		if len(all) > 0 && !all[0].began.Equal(j.Active.Began) {
			all = nil
		}
		all = append(all, beat{at: st.At, began: j.Active.Began, stages: j.Active.Stages})
		for len(all) > 2 && st.At.Sub(all[1].at) > stageWindow {
			all = all[1:]
		}
		s.beats[name] = all
	}
}

// stageShares is where the streams' time of late went, each between 0 and 1.
func (s *Screen) stageShares(job string, a *kit.Active) (shares [len(transfer.Stages)]float64, known bool) {
	if all := s.beats[job]; len(all) > 1 {
		return a.Shares(&runs.State{Snapshot: transfer.Snapshot{Course: transfer.Course{Stages: all[0].stages}}})
	}
	return a.Shares(nil)
}

// stageLooks are how stages are drawn: by a mark of their own, so that colour
// is not needed.
func stageLook(t *look.Theme, s transfer.Stage) (string, lipgloss.Style) {
	switch s {
	case transfer.Reading:
		return "◂", t.Lamp
	case transfer.Hashing:
		return "+", t.Paper
	case transfer.Sending:
		return "▸", t.Lamp
	case transfer.Answering:
		return "~", t.Tide
	case transfer.Throttled:
		return "!", t.Flare
	case transfer.Mending:
		return "x", t.Flare
	}
	return "=", t.Dusk
}

// stageMeter draws where the streams spend their time, and what that means.
func (s *Screen) stageMeter(job string, a *kit.Active, width int) []string {
	t := s.Theme
	shares, known := s.stageShares(job, a)
	if !known {
		return []string{"  " + t.Ash.Render("nothing measured yet"), "", ""}
	}
	most, cells := transfer.Reading, width-4
	var bar, legend strings.Builder
	at, used := 0.0, 0
	for _, stage := range transfer.Stages {
		if shares[stage] > shares[most] {
			most = stage
		}
		glyph, style := stageLook(t, stage)
		at += shares[stage]
		n := max(int(at*float64(cells)+0.5)-used, 0)
		used += n
		bar.WriteString(style.Render(strings.Repeat(glyph, n)))
	}
	for _, stage := range transfer.Stages {
		if shares[stage] < 0.005 && stage > transfer.Answering {
			continue
		}
		glyph, style := stageLook(t, stage)
		words := t.Ash
		if stage == most {
			words = t.Strong
		}
		legend.WriteString(style.Render(glyph) + " " +
			words.Render(fmt.Sprintf("%s %.0f %%", stage, 100*shares[stage])) + "   ")
	}
	return []string{"  " + kit.Fit(bar.String(), cells), "  " + kit.Fit(legend.String(), cells), "  " +
		t.Paper.Render(kit.Fit(most.HoldsBack(), cells))}
}
