package places

import (
	"strconv"

	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

// ref is how a command names a thing, whatever it is made of.
func ref(at workspace.At) string {
	text := at.Endpoint
	if at.Bucket != "" {
		text += "/" + at.Bucket
	}
	if at.Key != "" {
		text += "/" + at.Key
	}
	return text
}

// words are those of a command about many things.
func words(command []string, picks []workspace.At, more ...string) []string {
	for _, at := range picks {
		command = append(command, ref(at))
	}
	return append(command, more...)
}

// number approves so many things.
func number(n int64) []string { return []string{"--approve", strconv.FormatInt(n, 10)} }

// pairsOf are flags that set names and drop others.
func pairsOf(set map[string]string, drop []string) (flags []string) {
	for _, name := range sortedNames(set) {
		flags = append(flags, "--set", name+"="+set[name])
	}
	for _, name := range drop {
		flags = append(flags, "--drop", name)
	}
	return flags
}

// Name is the place under the cursor, as commands take it.
func (s *Screen) Name() string {
	at, _ := s.at()
	if at == (workspace.At{}) {
		return ""
	}
	return ref(at)
}

// Command does what is being asked about, or tells of what the cursor is on.
func (s *Screen) Command() []string {
	if sheet, ok := s.sheet.(*formSheet); ok {
		if sheet.Behind == nil {
			return nil
		}
		return sheet.Behind(sheet.Form)
	}
	at, ok := s.at()
	switch {
	case !ok && at == (workspace.At{}):
		return nil
	case ok && needObject(s) == "":
		return []string{"info", ref(at)}
	case s.removed:
		return []string{"list", ref(at), "--deleted"}
	}
	return []string{"list", ref(at)}
}

var _ kit.Commander = (*Screen)(nil)
