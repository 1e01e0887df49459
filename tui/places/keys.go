package places

import (
	tea "charm.land/bubbletea/v2"

	"lumtra/core/level"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service"
	"lumtra/tui/kit"
)

// action is something a key does here. off says why it cannot be done to what
// is under the cursor, "" when it can.
type action struct {
	press, does string
	off         func(*Screen) string
	do          func(*Screen) tea.Cmd
}

// Reasons for actions to be off.
func needObject(s *Screen) string {
	if k := s.entry().Kind; k != object.Object && k != object.Marker || s.here.row < 0 {
		return "choose an object first"
	}
	return ""
}

func needBucket(s *Screen) string {
	at, ok := s.at()
	switch {
	case !ok || at.Bucket == "" || at.Key != "":
		return "choose a bucket first"
	}
	return ""
}

func needEndpoint(s *Screen) string {
	if at, ok := s.at(); !ok || at.Bucket != "" || at.Key != "" {
		return "choose an endpoint first"
	}
	return ""
}

// needInside wants something that can be listed and handled: not an endpoint
// with buckets.
func needInside(s *Screen) string {
	at, ok := s.at()
	if len(s.marks) > 0 {
		return ""
	}
	if !ok || at.Bucket == "" && s.hasBuckets(at.Endpoint) {
		return "choose something in a bucket or folder first"
	}
	return ""
}

func needWritable(s *Screen) string {
	if why := needInside(s); why != "" {
		return why
	}
	at := s.picks()[0]
	if f, ok := s.facts[service.At{Endpoint: at.Endpoint, Bucket: at.Bucket}]; ok && f.Abilities.ReadOnly {
		return "this kind of place can only be read"
	}
	if e := s.endpointOf(at.Endpoint); e != nil && e.Kind == "list" {
		return "this kind of place can only be read"
	}
	return ""
}

// needRemovable wants something to remove: the settings of an endpoint count.
func needRemovable(s *Screen) string {
	if s.here.in == s.root && len(s.marks) == 0 {
		return ""
	}
	return needWritable(s)
}

// removed says that what is under the cursor is gone for now.
func removed(s *Screen) string {
	if len(s.marks) == 0 && s.entry().Kind == object.Marker {
		return "it is removed: U brings it back first"
	}
	return ""
}

// needThere wants something to handle that is not removed.
func needThere(s *Screen) string {
	if why := needWritable(s); why != "" {
		return why
	}
	return removed(s)
}

// needSkill wants an ability of the place the picks lie in.
func needSkill(skill place.Skill, also func(*Screen) string) func(*Screen) string {
	return func(s *Screen) string {
		if why := also(s); why != "" {
			return why
		}
		if why := removed(s); why != "" && skill != place.Versions {
			return why
		}
		at, _ := s.at()
		if len(s.marks) > 0 {
			at = s.marks[0]
		}
		if f, ok := s.facts[at]; ok {
			return f.Lacks[skill]
		}
		return ""
	}
}

// actions are all there are, most useful first.
func (s *Screen) actions() []action {
	none := func(*Screen) string { return "" }
	return []action{
		{"enter", "open or close: what lies below", none, (*Screen).enter},
		{"space", "mark: to handle many at once", needInside, (*Screen).mark},
		{"/", "narrow: to names with these words", none, (*Screen).narrow},
		{"s", "sort: by name, size or time", none, (*Screen).sortBy},
		{"tab", "versions: walk along the string", needObject, (*Screen).enterPane},
		{"p", "preview: the content, large", needObject, (*Screen).bigPreview},
		{"t", "tray: put in, or take out", needInside, (*Screen).toTray},
		{"d", "drop: the tray here, as a plan", none, (*Screen).dropTray},
		{"m", "move: or copy, or rename", needThere, (*Screen).moveSheet},
		{"D", "remove: what is marked, or this", needRemovable, (*Screen).removeSheet},
		{"i", "edit: metadata and tags", needSkill(place.Metadata, needWritable), (*Screen).editSheet},
		{"n", "new: endpoint, bucket or folder", none, (*Screen).newSheet},
		{"e", "settings: of this endpoint", needEndpoint, (*Screen).editEndpoint},
		{"y", "try: test what this endpoint allows", none, (*Screen).testEndpoint},
		{"K", "credentials: kept ones, and who uses them", none, (*Screen).credentialSheet},
		{"*", "pattern: mark all that match", needInside, (*Screen).patternSheet},
		{"U", "undelete: all that was removed below", needSkill(place.Versions, needWritable), (*Screen).undeleteSheet},
		{"V", "removed ones: show them too, or not", none, (*Screen).showRemoved},
		{"L", "link: signed, to read this object", needSkill(place.Links, needObject), (*Screen).linkSheet},
		{"w", "restore: from a cold class", needSkill(place.Restores, needWritable), (*Screen).restoreSheet},
		{"o", "unfinished uploads: with age and bytes", needSkill(place.Parts, needInside), (*Screen).uploadSheet},
		{"v", "versioning: switch it, and see that it took", needBucket, (*Screen).versioningSheet},
		{"E", "empty: this bucket, and remove it", needBucket, (*Screen).emptySheet},
		{"H", "record: what was removed by hand", none, (*Screen).recordSheet},
		{"T", "tray: look into it", none, (*Screen).traySheet},
		{"c", "count: on or off, what lies below", none, (*Screen).toggleCount},
		{"A", "list all: to the end of this level", none, (*Screen).listAll},
		{"r", "read again: this level anew", none, (*Screen).reread},
	}
}

// Keys of the view: those that can be used on what is under the cursor first,
// the others with the reason.
func (s *Screen) Keys() []kit.Key {
	switch {
	case s.sheet != nil:
		return s.sheet.keys()
	case s.narrowing != nil:
		return []kit.Key{{Press: "enter", Does: "keep: these names"}, {Press: "esc", Does: "all names"}}
	case s.pane.focused:
		return s.paneKeys()
	}
	var on, off []kit.Key
	for _, a := range s.actions() {
		if why := a.off(s); why != "" {
			off = append(off, kit.Key{Press: a.press, Does: a.does, Off: why})
		} else {
			on = append(on, kit.Key{Press: a.press, Does: a.does})
		}
	}
	return append(on, off...)
}

func (s *Screen) key(msg tea.KeyPressMsg) tea.Cmd {
	key := msg.String()
	switch {
	case s.sheet != nil:
		if key == "esc" {
			return s.closeSheet()
		}
		return s.sheet.update(msg)
	case s.narrowing != nil:
		return s.narrowKey(msg)
	case s.pane.focused:
		return s.paneKey(key)
	}
	switch key {
	case "right", "l":
		return s.expand()
	case "left", "h":
		return s.fold()
	case "esc":
		if len(s.marks) > 0 {
			s.marks = nil
			return kit.Cmd(kit.Say{Text: "Nothing is marked any more."})
		}
		return nil
	}
	for _, a := range s.actions() {
		if a.press == key {
			if why := a.off(s); why != "" {
				return kit.Cmd(kit.Say{Text: "Not here: " + why + "."})
			}
			return a.do(s)
		}
	}
	if s.cursor.Key(key, s.root.lines(), s.page) {
		return s.moved()
	}
	return nil
}

// closer is a sheet that has something under way to give up.
type closer interface{ close() }

func (s *Screen) closeSheet() tea.Cmd {
	if c, ok := s.sheet.(closer); ok {
		c.close()
	}
	s.sheet = nil
	return s.rested()
}

func (s *Screen) enter() tea.Cmd {
	if s.here.row < 0 {
		return s.listAll()
	}
	if s.here.in != nil && s.here.in.child(s.here.row) != nil {
		return s.fold()
	}
	if s.entry().Kind == object.Prefix {
		return s.expand()
	}
	if needObject(s) == "" {
		return s.bigPreview()
	}
	return nil
}

func (s *Screen) mark() tea.Cmd {
	at, _ := s.at()
	if s.marked(at) {
		s.unmark(at)
	} else {
		s.marks = append(s.marks, at)
	}
	s.cursor.Move(1, s.root.lines())
	return s.moved()
}

func (s *Screen) marked(at service.At) bool {
	for _, m := range s.marks {
		if m == at {
			return true
		}
	}
	return false
}

func (s *Screen) unmark(at service.At) {
	for i, m := range s.marks {
		if m == at {
			s.marks = append(s.marks[:i:i], s.marks[i+1:]...)
			return
		}
	}
}

// picks are what an action is about: what is marked, else what is under the
// cursor.
func (s *Screen) picks() []service.At {
	if len(s.marks) > 0 {
		return append([]service.At(nil), s.marks...)
	}
	at, _ := s.at()
	return []service.At{at}
}

// showRemoved has levels show what was removed and can be brought back, or not.
func (s *Screen) showRemoved() tea.Cmd {
	s.removed = !s.removed
	say := "Only what is there is shown."
	if s.removed {
		say = "What was removed and can be brought back is shown too, where versions are kept."
	}
	at := s.folder()
	return tea.Batch(s.again(at), kit.Cmd(kit.Say{Text: say}))
}

func (s *Screen) toggleCount() tea.Cmd {
	if s.sums.toggle() {
		return tea.Batch(s.beat(), kit.Cmd(kit.Say{Text: "Counting what lies below."}))
	}
	return kit.Cmd(kit.Say{Text: "Counting is off; c switches it on again."})
}

func (s *Screen) listAll() tea.Cmd {
	b := s.inside()
	if b == nil || b.level == nil {
		return kit.Cmd(kit.Say{Text: "Open an endpoint or a folder first; what is in it is listed to its end."})
	}
	st := b.level.State()
	if st.Ended {
		return kit.Cmd(kit.Say{Text: "All of this level is listed: " + kit.Count(int64(st.Rows)) + "."})
	}
	if !st.Paused {
		b.level.Halt()
		return kit.Cmd(kit.Say{Text: "The listing stops here; it goes on as you go."})
	}
	b.level.Want(-1)
	return tea.Batch(s.beat(), kit.Cmd(kit.Say{Text: "Listing this level to its end."}))
}

func (s *Screen) reread() tea.Cmd {
	at := s.folder()
	clear(s.facts)
	if at == (service.At{}) {
		return kit.Cmd(kit.Say{Text: "Open an endpoint or a folder first; what is in it is read again."})
	}
	return tea.Batch(s.again(at), s.rested(), kit.Cmd(kit.Say{Text: "Read again: " + object.Display(at.String()) + "."}))
}

func (s *Screen) narrow() tea.Cmd {
	b := s.inside()
	if b == nil || b.level == nil {
		return kit.Cmd(kit.Say{Text: "Open an endpoint or a folder first; the names in it are narrowed."})
	}
	s.narrowing = b
	return nil
}

func (s *Screen) narrowKey(msg tea.KeyPressMsg) tea.Cmd {
	b := s.narrowing
	switch key := msg.String(); key {
	case "enter":
		s.narrowing = nil
		return nil
	case "esc":
		s.narrowing, b.words = nil, ""
	case "backspace":
		if r := []rune(b.words); len(r) > 0 {
			b.words = string(r[:len(r)-1])
		}
	case "up", "down", "pgup", "pgdown":
		s.cursor.Key(key, s.root.lines(), s.page)
		return s.moved()
	default:
		b.words += msg.Text
	}
	if s.here.in == b {
		s.here.row = 0
	}
	return s.reshape(b)
}

// orderName says how a level is sorted.
func orderName(o level.Order) string {
	return map[level.Order]string{level.BySize: "largest first", level.ByTime: "newest first"}[o]
}
