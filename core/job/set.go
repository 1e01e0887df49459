package job

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"lumtra/core/atomicfile"
	"lumtra/core/rule"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// Set changes one setting in the text of a TOML file and leaves all else, with
// its comments, as it is. The value is a string, a list of strings, a map of
// strings, a number or a bool; nil, or an empty one, takes the setting out. A
// setting may stand in a table, under its full name, or in a table on one line;
// one that is written in yet another way is refused, and the text stays.
func Set(text string, value any, path ...string) (string, error) {
	text = renamed(text, rule.OldNames)
	set, err := set(text, value, path)
	var any map[string]any
	if err == nil && toml.Unmarshal([]byte(text), &any) == nil && toml.Unmarshal([]byte(set), &any) != nil {
		return "", fmt.Errorf("%s is written in a way that can only be changed in the text", strings.Join(path, "."))
	}
	return set, err
}

func set(text string, value any, path []string) (string, error) {
	if len(path) == 0 {
		return "", errors.New("no setting is named")
	}
	written := written(value)
	at := locate(text, path)
	line := path[len(path)-1] + " = " + written
	switch {
	case at.inline:
		return setInline(text, at, value, path)
	case at.found && written == "":
		return text[:at.start] + strings.TrimPrefix(text[at.end:], "\n"), nil
	case at.found:
		name := text[at.start:at.end]
		name = name[:strings.IndexByte(name, '=')]
		return text[:at.start] + name + "= " + written + at.comment + text[at.end:], nil
	case written == "":
		return text, nil
	case len(path) == 1 || at.table || at.dotted:
		if at.dotted && !at.table {
			line = path[0] + "." + line
		}
		head, tail := text[:at.insert], text[at.insert:]
		if head != "" && !strings.HasSuffix(head, "\n") {
			head += "\n"
		}
		return head + line + "\n" + tail, nil
	}
	if text = strings.TrimRight(text, "\n"); text != "" {
		text += "\n\n"
	}
	return text + "[" + strings.Join(path[:len(path)-1], ".") + "]\n" + line + "\n", nil
}

// written is a value as TOML; "" for none.
func written(value any) string {
	quote := func(s string) string {
		raw, err := toml.Marshal(map[string]string{"x": s})
		if err != nil {
			return strconv.Quote(s)
		}
		return strings.TrimSpace(strings.TrimPrefix(string(raw), "x = "))
	}
	switch v := value.(type) {
	case string:
		if v != "" {
			return quote(v)
		}
	case []string:
		var all []string
		for _, s := range v {
			all = append(all, quote(s))
		}
		if len(all) > 0 {
			return "[" + strings.Join(all, ", ") + "]"
		}
	case map[string]string:
		return writtenTable(v)
	case map[string]any: // in a table that stands on one line
		return writtenTable(v)
	case []any:
		var all []string
		for _, x := range v {
			all = append(all, written(x))
		}
		return "[" + strings.Join(all, ", ") + "]"
	case bool:
		return strconv.FormatBool(v)
	case int64:
		return strconv.FormatInt(v, 10)
	}
	return ""
}

func writtenTable[V any](table map[string]V) string {
	var all []string
	for _, name := range slices.Sorted(maps.Keys(table)) {
		all = append(all, written(name)+" = "+written(table[name]))
	}
	if len(all) == 0 {
		return ""
	}
	return "{ " + strings.Join(all, ", ") + " }"
}

// setInline changes a setting in a table that stands on one line, and writes the line anew.
func setInline(text string, at spot, value any, path []string) (string, error) {
	var table map[string]map[string]any
	if err := toml.Unmarshal([]byte(text[at.start:at.end]), &table); err != nil {
		return "", err
	}
	if inside := table[path[0]]; written(value) == "" {
		delete(inside, path[1])
	} else {
		inside[path[1]] = value
	}
	return set(text, table[path[0]], path[:1])
}

// spot is where a setting stands in a text, or would.
type spot struct {
	found      bool
	start, end int    // from the name up to the line's end, without it
	comment    string // that follows the value on its line
	table      bool   // the table it belongs in is there
	dotted     bool   // others of its table stand at the top by their full names
	inline     bool   // its table stands on one line, from start to end
	insert     int    // where a line for it goes
}

// locate finds a setting by its path.
func locate(text string, path []string) (at spot) {
	p := unstable.Parser{}
	p.Reset([]byte(text))
	var table []string
	at.table = len(path) == 1
	firstTable := -1
	for p.NextExpression() {
		e := p.Expression()
		var names []string
		var first *unstable.Node
		for it := e.Key(); it.Next(); {
			if first == nil {
				first = it.Node()
			}
			names = append(names, string(it.Node().Data))
		}
		if first == nil {
			continue
		}
		start := int(p.Range(first.Data).Offset)
		start = strings.LastIndexByte(text[:start], '\n') + 1
		if e.Kind != unstable.KeyValue {
			table = names
			if firstTable < 0 {
				firstTable = start
			}
			if len(path) > 1 && slices.Equal(table, path[:len(path)-1]) {
				at.table, at.insert = true, lineEnd(text, start)
			}
			continue
		}
		end, comment := valueEnd(text, start)
		if full := append(slices.Clone(table), names...); slices.Equal(full, path) {
			at.found, at.start, at.end, at.comment = true, start, end, comment
			return at
		}
		if slices.Equal(table, path[:len(path)-1]) && (len(path) > 1 || firstTable < 0) {
			at.insert = min(end+1, len(text))
		}
		if len(path) == 2 && len(table) == 0 && names[0] == path[0] {
			if len(names) == 1 {
				at.inline, at.start, at.end, at.comment = true, start, end, comment
				return at
			}
			at.dotted, at.insert = true, min(end+1, len(text))
		}
	}
	if len(path) == 1 && at.insert == 0 && firstTable < 0 {
		at.insert = len(text)
	} else if len(path) == 1 && at.insert == 0 {
		at.insert = firstTable
	}
	return at
}

func lineEnd(text string, from int) int {
	if i := strings.IndexByte(text[from:], '\n'); i >= 0 {
		return from + i + 1
	}
	return len(text)
}

// valueEnd finds the end of a setting that starts at a line: the end of the
// first line with which it can be read, since lists may go over many. A comment
// behind the value is given apart.
func valueEnd(text string, start int) (end int, comment string) {
	readable := func(part string) bool {
		var any map[string]any
		return toml.Unmarshal([]byte(part), &any) == nil
	}
	for end = start; end < len(text); {
		end = lineEnd(text, end)
		if readable(text[start:end]) {
			break
		}
	}
	end = start + len(strings.TrimSuffix(text[start:end], "\n"))
	for i := start; i < end; i++ {
		if text[i] == '#' && readable(text[start:i]) {
			return end, text[start+len(strings.TrimRight(text[start:i], " \t")) : end]
		}
	}
	return end, ""
}

// Path is the file of a job.
func (w *Workspace) Path(name string) string { return filepath.Join(w.Dir, jobsFolder, name+".toml") }

// SaveJob writes a job's text under its name. was is the name it had, "" for a
// new one: the old file goes once the new one is there. A text that would not
// be read again is not written.
func (w *Workspace) SaveJob(was, name, text string) error {
	j, err := Parse(w.Dir, name, text, w.Endpoints)
	if err == nil {
		err = w.mayFollow(was, j)
	}
	if err != nil {
		return err
	}
	return w.KeepJob(was, name, text)
}

// following are the texts of the jobs that start after one, as they are when that has another name.
func (w *Workspace) following(was, name string) (map[string]string, error) {
	texts := map[string]string{}
	after, _ := w.followers()
	for follower, first := range after {
		if first != was || follower == was {
			continue
		}
		text, err := w.Text(follower)
		if err != nil {
			return nil, err
		}
		if texts[follower], err = Set(text, "after "+name, "when", "start"); err != nil {
			return nil, fmt.Errorf("%s starts after this job, and cannot be changed along: %w", follower, err)
		}
	}
	return texts, nil
}

// KeepJob is SaveJob for a text that may have mistakes: for one that a person
// wrote so, and will mend. Jobs that start after one that gets another name follow it.
func (w *Workspace) KeepJob(was, name, text string) error {
	path := w.Path(name)
	if name != was {
		if err := w.CheckName(name); err != nil {
			return err
		}
	}
	follow := map[string]string{}
	if was != "" && was != name {
		var err error
		if follow, err = w.following(was, name); err != nil {
			return err
		}
	}
	err := os.MkdirAll(filepath.Dir(path), 0o755)
	if err == nil {
		err = atomicfile.Write(path, []byte(text), 0o644)
	}
	for follower, text := range follow {
		if err == nil {
			err = atomicfile.Write(w.Path(follower), []byte(text), 0o644)
		}
	}
	if err == nil && was != "" && was != name {
		err = os.Remove(w.Path(was))
	}
	if err != nil {
		return &Mistake{File: path, What: "cannot be written: " + reason(err)}
	}
	return nil
}

// CheckName tells what is wrong with a name for a new job.
func (w *Workspace) CheckName(name string) error {
	path := w.Path(name)
	if !names.MatchString(name) {
		return &Mistake{File: path, What: "the file's name is the job's: " + nameRule}
	}
	if _, err := os.Lstat(path); err == nil {
		return &Mistake{File: path, What: "there is a job of this name already"}
	}
	return nil
}

// RemoveJob removes a job's file, unless another job starts after it.
func (w *Workspace) RemoveJob(name string) error {
	after, _ := w.followers()
	for _, follower := range slices.Sorted(maps.Keys(after)) {
		if after[follower] == name && follower != name {
			return &Mistake{File: w.Path(name), What: fmt.Sprintf("the job %s starts after this one, and would never "+
				"start again: give it another time first", follower)}
		}
	}
	if err := os.Remove(w.Path(name)); err != nil {
		return &Mistake{File: w.Path(name), What: "cannot be deleted: " + reason(err)}
	}
	return nil
}

// Text is a job's file as it is.
func (w *Workspace) Text(name string) (string, error) {
	raw, err := readText(w.Path(name))
	if err != nil {
		return "", &Mistake{File: w.Path(name), What: "cannot be read: " + reason(err)}
	}
	return string(raw), nil
}
