package places

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/level"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/kinds"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

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
		return "choose a bucket or container first"
	}
	return ""
}

// needStoreBucket wants a bucket whose store tells of it.
func needStoreBucket(s *Screen) string {
	if why := needBucket(s); why != "" {
		return why
	}
	at, _ := s.at()
	if !s.hasBuckets(at.Endpoint) {
		return "folders have no tags and no access of their own"
	}
	return ""
}

// needFolder wants a folder that can be written to.
func needFolder(s *Screen) string {
	to := s.folder()
	switch {
	case to == workspace.At{} || to.Bucket == "" && s.hasBuckets(to.Endpoint):
		return "choose a bucket, container or folder first"
	case kinds.Of(s.endpointOf(to.Endpoint)).ReadOnly:
		return "this kind of place can only be read"
	}
	return ""
}

// needSampled wants a folder that can be read.
func needSampled(s *Screen) string {
	if to := s.folder(); to == (workspace.At{}) || to.Bucket == "" && s.hasBuckets(to.Endpoint) {
		return "choose a bucket, container or folder first"
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
		return "choose something in a bucket, container or folder first"
	}
	return ""
}

func needWritable(s *Screen) string {
	if why := needInside(s); why != "" {
		return why
	}
	at := s.picks()[0]
	if f, ok := s.facts[workspace.At{Endpoint: at.Endpoint, Bucket: at.Bucket}]; ok && f.Abilities.ReadOnly {
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
		return "it is deleted: U brings it back first"
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
var actions = []kit.Action[*Screen]{
	{Press: "enter", Does: "open or close: what lies below", Do: plain((*Screen).enter)},
	{Press: "space", Does: "mark: to handle many at once", Off: needInside, Do: plain((*Screen).mark)},
	{Press: "/", Does: "filter: to names with these words", Do: plain((*Screen).narrow)},
	{Press: "s", Does: "sort: by name, size or time", Do: plain((*Screen).sortBy)},
	{Press: "tab", Does: "versions: browse them", Off: needObject, Do: plain((*Screen).enterPane)},
	{Press: "p", Does: "preview: the content, large", Off: needObject, Do: plain((*Screen).bigPreview)},
	{Press: "t", Does: "tray: put in, or take out", Off: needInside, Do: plain((*Screen).toTray)},
	{Press: "d", Does: "drop: the tray here, as a plan", Do: plain((*Screen).dropTray)},
	{Press: "a", Does: "add: files of this machine, as a plan", Off: needFolder, Do: plain((*Screen).addSheet)},
	{Press: "m", Does: "move: or copy, or rename", Off: needThere, Do: plain((*Screen).moveSheet)},
	{Press: "D", Does: "delete: what is marked, or this", Off: needRemovable, Do: plain((*Screen).removeSheet)},
	{Press: "i", Does: "edit: metadata and tags", Off: needSkill(place.Metadata, needWritable),
		Do: plain((*Screen).editSheet)},
	{Press: "n", Does: "new: endpoint, bucket, container or folder", Do: plain((*Screen).newSheet)},
	{Press: "e", Does: "settings: of this endpoint", Off: needEndpoint, Do: plain((*Screen).editEndpoint)},
	{Press: "y", Does: "try: test what this endpoint allows", Do: plain((*Screen).testEndpoint)},
	{Press: "K", Does: "credentials: kept ones, and who uses them", Anywhere: true,
		Do: plain((*Screen).credentialSheet)},
	{Press: "*", Does: "pattern: mark all that match", Off: needInside, Do: plain((*Screen).patternSheet)},
	{Press: "U", Does: "undelete: all that was deleted below", Off: needSkill(place.Versions, needWritable),
		Do: plain((*Screen).undeleteSheet)},
	{Press: "V", Does: "deleted ones: show them too, or not", Do: plain((*Screen).showRemoved)},
	{Press: "L", Does: "link: signed, to read this object", Off: needSkill(place.Links, needObject),
		Do: plain((*Screen).linkSheet)},
	{Press: "w", Does: "restore: from a cold class", Off: needSkill(place.Restores, needWritable),
		Do: plain((*Screen).restoreSheet)},
	{Press: "o", Does: "unfinished uploads: with age and bytes", Off: needSkill(place.Parts, needInside),
		Do: plain((*Screen).uploadSheet)},
	{Press: "v", Does: "versioning: switch it, and see that it took", Off: needBucket,
		Do: plain((*Screen).versioningSheet)},
	{Press: "b", Does: "bucket or container: its own tags, and who may reach it", Off: needStoreBucket,
		Do: plain((*Screen).bucketFacts)},
	{Press: "E", Does: "empty: this bucket or container, and delete it", Off: needBucket,
		Do: plain((*Screen).emptySheet)},
	{Press: "z", Does: "sample: what packs would make of this folder", Off: needSampled,
		Do: plain((*Screen).sampleForm)},
	{Press: "H", Does: "record: what was deleted by hand", Anywhere: true, Do: plain((*Screen).recordSheet)},
	{Press: "T", Does: "tray: look into it", Anywhere: true, Do: plain((*Screen).traySheet)},
	{Press: "c", Does: "count: on or off, what lies below", Anywhere: true, Do: plain((*Screen).toggleCount)},
	{Press: "A", Does: "list all: to the end of this level", Do: plain((*Screen).listAll)},
	{Press: "r", Does: "read again: this level anew", Do: plain((*Screen).reread)},
	{Press: "right", Also: []string{"l"}, Do: plain((*Screen).goIn)},
	{Press: "left", Also: []string{"h"}, Do: plain((*Screen).fold)},
	{Press: "esc", Do: plain((*Screen).unmarkAll)},
}

// plain makes an action of a method that needs no key.
func plain(do func(*Screen) tea.Cmd) func(*Screen, string) tea.Cmd {
	return func(s *Screen, _ string) tea.Cmd { return do(s) }
}

func (s *Screen) unmarkAll() tea.Cmd {
	if len(s.marks) == 0 {
		return nil
	}
	s.marks = nil
	return kit.Cmd(kit.Say{Text: "Nothing is marked any more."})
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
	return kit.KeysOf(s, actions)
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
	if cmd, done := kit.Press(s, actions, key); done {
		return cmd
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
	at, _ := s.at()
	if _, in := opensAs(s.entry(), at); in || s.entry().Kind == object.Prefix {
		return s.expand()
	}
	if needObject(s) == "" {
		return s.bigPreview()
	}
	return nil
}

// goIn opens what the cursor is on and goes to the first of what lies in it.
func (s *Screen) goIn() tea.Cmd {
	if s.here.row >= 0 && s.here.in != nil && s.here.in.child(s.here.row) != nil {
		s.cursor.Move(1, s.root.lines())
		return s.moved()
	}
	s.into, _ = s.at()
	return s.expand()
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

func (s *Screen) marked(at workspace.At) bool {
	for _, m := range s.marks {
		if m == at {
			return true
		}
	}
	return false
}

func (s *Screen) unmark(at workspace.At) {
	for i, m := range s.marks {
		if m == at {
			s.marks = append(s.marks[:i:i], s.marks[i+1:]...)
			return
		}
	}
}

// picks are what an action is about: what is marked, else what is under the
// cursor.
func (s *Screen) picks() []workspace.At {
	if len(s.marks) > 0 {
		return append([]workspace.At(nil), s.marks...)
	}
	at, _ := s.at()
	return []workspace.At{at}
}

// showRemoved has levels show what was removed and can be brought back, or not.
func (s *Screen) showRemoved() tea.Cmd {
	s.removed = !s.removed
	say := "Only what is there is shown."
	if s.removed {
		say = "What was deleted and can be brought back is shown too, where versions are kept."
	}
	at := s.folder()
	if in := s.here.in; len(s.root.find(at)) == 0 && in != nil && in.level != nil {
		at = in.at // the folder under the cursor is closed: it is one of those that are seen
	}
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
	if at == (workspace.At{}) {
		return kit.Cmd(kit.Say{Text: "Open an endpoint or a folder first; what is in it is read again."})
	}
	return tea.Batch(s.again(at), s.rested(),
		kit.Cmd(kit.Say{Text: "Read again: " + object.Display(at.String()) + "."}))
}

func (s *Screen) narrow() tea.Cmd {
	b := s.inside()
	if b == nil || b.level == nil {
		return kit.Cmd(kit.Say{Text: "Open an endpoint or a folder first; the names in it are filtered."})
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
	return s.narrowTo(b, b.words)
}

// narrowTo shows the names with these words.
func (s *Screen) narrowTo(b *branch, words string) tea.Cmd {
	b.words = words
	if s.here.in == b {
		s.here.row = 0
	}
	return s.reshape(b)
}

// oneBlank is pasted text on one line.
func oneBlank(text string) string { return strings.Join(strings.Fields(text), " ") }

// orderName says how a level is sorted.
func orderName(o level.Order) string {
	return map[level.Order]string{level.BySize: "largest first", level.ByTime: "newest first"}[o]
}
