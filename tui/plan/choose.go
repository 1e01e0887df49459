package plan

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/report"
	"lumtra/core/rule"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
)

// menu is a few things to choose one of.
type menu struct {
	title  string
	lines  []string
	cursor kit.Cursor
	do     func(i int) tea.Cmd
	many   bool // stays open, to choose several
}

func (s *Screen) menuKey(key string, sh *shown) tea.Cmd {
	m := sh.menu
	switch key {
	case "esc":
		sh.menu = nil
		return kit.Cmd(kit.Say{Text: "Left as it was."})
	case "enter", "space":
		if !m.many || key == "enter" {
			sh.menu = nil
		}
		if m.many && key == "enter" && len(sh.only) > 0 { // those that were marked
			return nil
		}
		return m.do(m.cursor.At)
	}
	if n, err := strconv.Atoi(key); err == nil && n >= 1 && n <= len(m.lines) {
		m.cursor.At = n - 1
		return s.menuKey(map[bool]string{true: "space", false: "enter"}[m.many], sh)
	}
	m.cursor.Key(key, len(m.lines), 5)
	return nil
}

// Messages about choices.
type (
	chosenMsg struct {
		job  string
		say  string
		info plan.Info
		err  error
	}
	mendedMsg struct {
		job, say string
		number   int
		err      error
	}
	changesMsg struct {
		job     string
		changes *workroom.Changes
		err     error
	}
)

// choose does what changes the plan's choices, in the background.
func (s *Screen) choose(j *kit.JobState, sh *shown, say string, do func() (plan.Info, error)) tea.Cmd {
	switch {
	case sh.choosing:
		return kit.Cmd(kit.Say{Text: "The choice before is still being worked in."})
	case j.Active != nil:
		return kit.Cmd(kit.Say{Text: "This plan is running.", Bad: true})
	}
	sh.choosing = true
	name := j.Job.Name
	return func() tea.Msg {
		info, err := do()
		return chosenMsg{name, say, info, err}
	}
}

// chosen takes in a plan as it is after a choice: totals at once, the tree as
// far as it is open.
func (s *Screen) chosen(msg chosenMsg) tea.Cmd {
	sh := s.shown(msg.job)
	sh.choosing = false
	if msg.err != nil {
		return kit.Cmd(kit.Say{Text: oneLine(msg.err), Bad: true})
	}
	if j := s.State.JobNamed(msg.job); j != nil && j.Plan != nil && j.Plan.Number == msg.info.Number {
		j.Plan, j.Approved = &msg.info, false
		sh.side = &side{number: msg.info.Number}
		return tea.Batch(s.reload(sh, msg.job), s.lookBefore(j), kit.Cmd(kit.Say{Text: msg.say}))
	}
	return nil
}

func oneLine(err error) string {
	return object.Display(strings.ReplaceAll(kit.Reason(err), "\n", "; "))
}

// reload reads the open parts of the tree anew, and keeps them open.
func (s *Screen) reload(sh *shown, job string) tea.Cmd {
	number, open := sh.number, map[string]bool{}
	var note func([]*node)
	note = func(nodes []*node) {
		for _, n := range nodes {
			if n.Open {
				open[n.Prefix] = true
				note(n.Below)
			}
		}
	}
	note(sh.tree.Roots)
	return func() tea.Msg {
		p, err := s.Service.PlanNumber(job, number)
		if err != nil {
			return folderMsg{job: job, number: number, err: err}
		}
		defer p.Close()
		var read func(prefix string, depth int) ([]*node, error)
		read = func(prefix string, depth int) ([]*node, error) {
			list, err := p.Folder(s.ctx, prefix)
			if err != nil {
				return nil, err
			}
			nodes := make([]*node, len(list))
			for i, x := range list {
				n := &node{Is: line{Node: x}, Prefix: prefix + x.Name, Depth: depth}
				n.Is.struck = p.Choices.IsStruck(n.Prefix)
				if open[n.Prefix] {
					below, err := read(n.Prefix, depth+1)
					if err != nil {
						return nil, err
					}
					kit.SetBelow(n, below)
				}
				nodes[i] = n
			}
			return nodes, nil
		}
		nodes, err := read("", 0)
		return treeMsg{job, number, nodes, err}
	}
}

// treeMsg is the whole open tree, read anew.
type treeMsg struct {
	job    string
	number int
	nodes  []*node
	err    error
}

func (s *Screen) at(sh *shown) *node { return sh.tree.At(s.cursor.At) }

// strike strikes what is under the cursor out of the plan, or takes it in again.
func (s *Screen) strike(j *kit.JobState, sh *shown) tea.Cmd {
	n := s.at(sh)
	if n == nil || sh.number != j.Plan.Number {
		return nil
	}
	name, number, key := j.Job.Name, sh.number, n.Prefix
	say := "Struck out: " + object.DisplayKey(key)
	if n.Is.struck {
		say = "Taken in again: " + object.DisplayKey(key)
	}
	return s.choose(j, sh, say, func() (plan.Info, error) { return s.Service.Strike(s.ctx, name, number, key) })
}

// decided tells whether the line under the cursor is a conflict that was.
func (s *Screen) decided(sh *shown) bool {
	n := s.at(sh)
	return n != nil && n.Is.Effect != nil && n.Is.Effect.Reason == plan.Decided
}

// decide settles the conflict under the cursor, or all below it.
func (s *Screen) decide(j *kit.JobState, sh *shown) tea.Cmd {
	n := s.at(sh)
	if n == nil || n.Is.Totals[plan.Conflict].Count == 0 && !s.decided(sh) {
		return kit.Cmd(kit.Say{Text: "There is no conflict here to decide."})
	}
	ways := []struct {
		how   rule.Conflicts
		words string
	}{{rule.SourceWins, "the source's goes to the target"}, {rule.TargetWins, "the target's goes to the source"},
		{rule.NewerWins, "the newer one goes to the other side"},
		{rule.BothStay, "both: the target's is kept under a name with its time"}, {rule.Ask, "leave it open"}}
	m := &menu{title: "Decide " + object.Display(n.Prefix)}
	if n.Is.Effect == nil {
		m.title = fmt.Sprintf("Decide %s in %s", object.Count(n.Is.Totals[plan.Conflict].Count, "conflict"),
			object.Display(n.Prefix))
	}
	for _, w := range ways {
		m.lines = append(m.lines, w.words)
	}
	name, number, key := j.Job.Name, sh.number, n.Prefix
	m.do = func(i int) tea.Cmd {
		return s.choose(j, sh, "Decided: "+ways[i].words+".", func() (plan.Info, error) {
			return s.Service.Decide(s.ctx, name, number, key, ways[i].how)
		})
	}
	sh.menu = m
	return nil
}

// filter chooses which effects are shown.
func (s *Screen) filter(sh *shown) tea.Cmd {
	m := &menu{title: "Show only (space marks more than one)", many: true}
	name := func(k plan.Kind) string {
		mark := "  "
		if sh.only[k] {
			mark = "● "
		}
		return mark + k.String()
	}
	for _, k := range plan.Kinds {
		m.lines = append(m.lines, name(k))
	}
	m.do = func(i int) tea.Cmd {
		if sh.only == nil {
			sh.only = map[plan.Kind]bool{}
		}
		k := plan.Kinds[i]
		if sh.only[k] = !sh.only[k]; !sh.only[k] {
			delete(sh.only, k)
		}
		m.lines[i] = name(k)
		s.cursor = kit.Cursor{}
		sh.lay()
		return nil
	}
	sh.menu = m
	return nil
}

func (s *Screen) findKey(msg tea.KeyPressMsg, sh *shown) tea.Cmd {
	switch key := msg.String(); key {
	case "enter":
		sh.finding = false
	case "esc":
		sh.finding, sh.find = false, ""
	case "backspace":
		if r := []rune(sh.find); len(r) > 0 {
			sh.find = string(r[:len(r)-1])
		}
	case "up", "down":
		s.cursor.Key(key, len(sh.tree.Rows), s.page)
		return nil
	default:
		sh.find += msg.Text
	}
	s.cursor = kit.Cursor{}
	sh.lay()
	return nil
}

// approveForm asks for a person's word: a key where nothing is removed and no
// guard holds, else the number of removals.
func (s *Screen) approveForm(j *kit.JobState, sh *shown) {
	p := j.Plan
	w, gone := p.Totals.Work(), p.Totals[plan.Remove]
	name, number := j.Job.Name, p.Number
	f := &kit.Form{Title: fmt.Sprintf("Let plan %d run?", number), Does: "yes, run it"}
	f.Notes = []string{"It sends nothing."}
	if w.Bytes > 0 || p.Totals[plan.Add].Count+p.Totals[plan.Change].Count > 0 {
		f.Notes = []string{fmt.Sprintf("It sends %s, %s, to %s.",
			object.Count(p.Totals[plan.Add].Count+p.Totals[plan.Change].Count, "object"), kit.Size(w.Bytes),
			object.Display(p.Target.Place))}
	}
	if n := p.Back.Count; n > 0 {
		f.Notes = append(f.Notes, fmt.Sprintf("%s of its effects, %s, go back to the source.", kit.Count(n),
			kit.Size(p.Back.Bytes)))
	}
	if n := p.Afterwards; n.Count > 0 {
		f.Notes = append(f.Notes, fmt.Sprintf("Once proven, %s: %s, %s.", p.Rules.Afterwards.Becomes(),
			object.Count(n.Count, "object"), kit.Size(n.Bytes)))
	}
	if n := p.Totals[plan.Conflict].Count; n > 0 {
		f.Notes = append(f.Notes, "Not decided, and left as it is: "+object.Count(n, "conflict")+".")
	}
	typed := gone.Count > 0 || len(p.Held) > 0
	if !typed {
		f.Notes = append(f.Notes, "It deletes nothing.")
	}
	for _, h := range p.Held {
		f.Warning = append(f.Warning, "▲ held back: "+h)
	}
	if typed {
		what := "It deletes nothing."
		if gone.Count > 0 {
			what = fmt.Sprintf("It deletes %s, %s.", object.Count(gone.Count, "object"), kit.Size(gone.Bytes))
			if p.Rules.TargetOnly == rule.MoveToTrash {
				what = fmt.Sprintf("It moves %s, %s, to the trash.", object.Count(gone.Count, "object"),
					kit.Size(gone.Bytes))
			}
		}
		f.Warning = append(f.Warning, what+fmt.Sprintf(" Type the number of deletions, %d, to let it go.", gone.Count))
		f.Fields = []*kit.Field{{Name: "deletions", Hint: "the number"}}
	}
	blockers := sh.blockers()
	if len(blockers) > 0 {
		f.Warning = append(f.Warning, "It would fail for: "+strings.Join(blockers, ", ")+
			". Type that under despite to run it all the same, or mend it first (esc, m).")
		f.Fields = append(f.Fields, &kit.Field{Name: "despite", Hint: strings.Join(blockers, ", ")})
	}
	f.Submit = func(f *kit.Form) tea.Cmd {
		despite := strings.FieldsFunc(f.Get("despite"), func(r rune) bool { return r == ',' || r == ' ' })
		for _, b := range blockers {
			if !slices.Contains(despite, b) {
				f.Err = fmt.Errorf("it would fail for %s: name that, or mend it first", b)
				return nil
			}
		}
		run := tea.Sequence(kit.Cmd(kit.Start{Job: name, Number: number, Despite: despite}),
			kit.Cmd(kit.Open{View: kit.Run, Job: name}))
		if !typed {
			sh.form = nil
			return run
		}
		n, err := strconv.ParseInt(strings.ReplaceAll(f.Get("deletions"), ",", ""), 10, 64)
		if err != nil || n != gone.Count {
			f.Err = fmt.Errorf("that is not the number: it deletes %d", gone.Count)
			return nil
		}
		sh.form = nil
		return func() tea.Msg {
			if err := s.Service.Approve(s.ctx, name, number, n); err != nil {
				return kit.Say{Text: oneLine(err), Bad: true}
			}
			return approved{run}
		}
	}
	sh.form = f.Init()
}

// approved goes on to the run once the approval is kept.
type approved struct{ run tea.Cmd }

// export offers the forms a plan can be written in.
func (s *Screen) export(j *kit.JobState, sh *shown) tea.Cmd {
	m := &menu{title: "Write plan " + strconv.Itoa(j.Plan.Number) + " into the folder Lumtra was started in, as"}
	words := map[report.Format]string{report.CSV: "a table (CSV)",
		report.JSONLines: "lines for programs (JSON Lines)", report.SVG: "a drawing (SVG)",
		report.PDF: "a drawing to print (PDF)"}
	for _, f := range report.Formats {
		m.lines = append(m.lines, words[f])
	}
	name, number := j.Job.Name, j.Plan.Number
	m.do = func(i int) tea.Cmd {
		return func() tea.Msg {
			dir, err := os.Getwd()
			path := ""
			if err == nil {
				path, err = s.Service.ExportPlanTo(dir, name, number, report.Formats[i])
			}
			if err != nil {
				return kit.Say{Text: oneLine(err), Bad: true}
			}
			return kit.Say{Text: "Written to " + object.Display(path), Link: object.Display(path)}
		}
	}
	sh.menu = m
	return nil
}

// compare holds the plan against the one before.
func (s *Screen) compare(j *kit.JobState) tea.Cmd {
	name, is := j.Job.Name, j.Plan.Number
	numbers, err := s.Service.Plans(name)
	if err != nil || len(numbers) < 2 {
		return kit.Cmd(kit.Say{Text: "There is no earlier plan of this job to compare with."})
	}
	sh := s.shown(name)
	m := &menu{title: "Compare plan " + strconv.Itoa(is) + " with"}
	var earlier []int
	for i := len(numbers) - 1; i >= 0 && len(earlier) < 12; i-- {
		if numbers[i] < is {
			earlier = append(earlier, numbers[i])
			m.lines = append(m.lines, "plan "+strconv.Itoa(numbers[i]))
		}
	}
	if len(earlier) == 0 { // what is newer is another window's, and comes in a moment
		return kit.Cmd(kit.Say{Text: "There is no earlier plan of this job to compare with."})
	}
	m.do = func(i int) tea.Cmd {
		return func() tea.Msg {
			c, err := s.Service.ComparePlans(s.ctx, name, earlier[i], is, 2000)
			return changesMsg{name, c, err}
		}
	}
	sh.menu = m
	return nil
}

func (s *Screen) compared(msg changesMsg) tea.Cmd {
	if msg.err != nil {
		return kit.Cmd(kit.Say{Text: oneLine(msg.err), Bad: true})
	}
	s.changesCursor = kit.Cursor{}
	s.shown(msg.job).changes = msg.changes
	return nil
}

// resurvey surveys the folder under the cursor again, at both sides, and plans
// from that and the rest of the surveys there are.
func (s *Screen) resurvey(j *kit.JobState, sh *shown) tea.Cmd {
	n := s.at(sh)
	if n == nil {
		return nil
	}
	prefix := n.Prefix
	if n.Is.Effect != nil {
		prefix = object.Parent(prefix)
	}
	if prefix == "" {
		return s.planAnew(j.Job.Name)
	}
	return s.planFrom(j.Job.Name, workroom.Freshness{Prefix: prefix})
}
