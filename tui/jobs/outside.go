package jobs

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/object"
	"lumtra/tui/kit"
)

// outsideMsg tells that a file is another than the one a draft was begun from: it was
// edited outside, and nothing was written over it.
type outsideMsg struct {
	name, text string // as the file has it now
	then       tea.Cmd
}

// mostDiffers is how many lines of a difference are shown.
const mostDiffers = 12

// outside shows what was changed in the file, and asks whether the draft goes over it.
func (s *Screen) outside(msg outsideMsg) tea.Cmd {
	d := s.drafts[msg.name]
	if d == nil {
		return nil
	}
	s.show(msg.name)
	f := &kit.Form{Title: "The file of " + msg.name + " was edited outside", Does: "write mine over it",
		Warning: []string{"Since it was read here, the file has become another. + was added to it, - taken out:"},
		Notes: append(differs(d.saved, msg.text), "",
			"What was changed here is not in it. esc leaves the file as it is; z discards what was changed here.")}
	f.Submit = func(*kit.Form) tea.Cmd {
		d.saved = msg.text // seen, and to be written over
		s.form = nil
		if !d.changed() {
			return msg.then
		}
		return s.save(d, msg.then)
	}
	s.form, s.edit = f.Init(), nil
	return nil
}

// differs are the lines that a text has got and lost, as often as it has.
func differs(before, now string) (all []string) {
	was, is := strings.Split(before, "\n"), strings.Split(now, "\n")
	for _, side := range []struct {
		mark        string
		lines, less []string
	}{{"+ ", is, was}, {"- ", was, is}} {
		more := map[string]int{}
		for _, l := range side.less {
			more[l]--
		}
		for _, l := range side.lines {
			if more[l]++; more[l] > 0 && strings.TrimSpace(l) != "" {
				all = append(all, side.mark+object.Display(l))
			}
		}
	}
	if len(all) > mostDiffers {
		all = append(all[:mostDiffers], "…")
	}
	return all
}

// Unwritten are the jobs with changes that are in no file.
func (s *Screen) Unwritten() (names []string) {
	for _, name := range s.names {
		if d := s.drafts[name]; d != nil && d.changed() {
			names = append(names, name)
		}
	}
	return names
}

// giveUp drops a job that never was written.
func (s *Screen) giveUp(d *draft) tea.Cmd {
	delete(s.drafts, d.name)
	s.names = slices.DeleteFunc(s.names, func(n string) bool { return n == d.name })
	s.turnTo("")
	s.Choose("", false)
	return tea.Batch(s.load(),
		kit.Cmd(kit.Say{Text: "The job " + object.Display(d.name) + " was never written, and is gone."}))
}
