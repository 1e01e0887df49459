package proof

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// FoldersFile says of each folder with many differences where in
// [DifferencesFile] they lie and what they come to, so that a tree of millions
// is opened without reading them.
const FoldersFile = "folders.jsonl"

// manyDifferences is from how many on a folder is in [FoldersFile].
const manyDifferences = 1000

// Verdicts are all verdicts, in the order of [Tally].
var Verdicts = [...]Verdict{Same, Missing, Different, Unproven, Extra, Since}

// Tally counts objects and their bytes by verdict, as [Verdicts] has them.
type Tally struct {
	Objects, Bytes [len(Verdicts)]int64
}

func (t *Tally) add(l *Line) {
	for i, v := range Verdicts {
		if v == l.Verdict {
			t.Objects[i]++
			t.Bytes[i] += l.Size
		}
	}
}

func (t *Tally) plus(o *Tally, sign int64) {
	for i := range t.Objects {
		t.Objects[i] += sign * o.Objects[i]
		t.Bytes[i] += sign * o.Bytes[i]
	}
}

// All is the number of objects and of their bytes.
func (t *Tally) All() (objects, bytes int64) {
	for i := range t.Objects {
		objects, bytes = objects+t.Objects[i], bytes+t.Bytes[i]
	}
	return objects, bytes
}

// span is a folder's differences: a line of [FoldersFile].
type span struct {
	Prefix   []byte // ends in "/"
	From, To int64  // in DifferencesFile
	Tally    Tally
}

// spans follows the differences as they are written, in order of their keys.
type spans struct {
	out  *jsonLines
	open []span // the folders that the last key lies in, the outermost first
	at   int64  // where the next line begins
}

// add follows a line that ends at an offset of the file.
func (s *spans) add(l *Line, end int64) error {
	key := l.key()
	for len(s.open) > 0 && !strings.HasPrefix(key, string(s.open[len(s.open)-1].Prefix)) {
		if err := s.leave(); err != nil {
			return err
		}
	}
	deep := 0
	if len(s.open) > 0 {
		deep = len(s.open[len(s.open)-1].Prefix)
	}
	for {
		i := strings.IndexByte(key[deep:], '/')
		if i < 0 {
			break
		}
		deep += i + 1
		s.open = append(s.open, span{Prefix: []byte(key[:deep]), From: s.at})
	}
	for i := range s.open {
		s.open[i].Tally.add(l)
	}
	s.at = end
	return nil
}

func (s *spans) leave() error {
	f := s.open[len(s.open)-1]
	s.open = s.open[:len(s.open)-1]
	f.To = s.at
	if n, _ := f.Tally.All(); n < manyDifferences {
		return nil
	}
	return s.out.enc.Encode(f)
}

func (s *spans) finish() error {
	for len(s.open) > 0 {
		if err := s.leave(); err != nil {
			return err
		}
	}
	return s.out.finish()
}

// Node is a line of the tree of differences: a folder, or one object.
type Node struct {
	// Name is the last part of the key; a folder's ends in "/".
	Name  string
	Tally Tally
	// Line is the object's own; nil for a folder.
	Line *Line
}

// maxNodes bounds what one folder of the tree shows; the rest is counted in
// the last node, named "…".
const maxNodes = 20000

// Folder lists what differs directly under prefix ("" or ending in "/") in the
// proof in dir, with the totals of everything below.
func Folder(ctx context.Context, dir, prefix string) ([]Node, error) {
	file, err := os.Open(filepath.Join(dir, DifferencesFile))
	if err != nil {
		return nil, err
	}
	defer file.Close()
	d := &differences{file: file}
	if err := d.readSpans(dir, prefix); err != nil {
		return nil, err
	}
	if err := d.find(prefix); err != nil {
		return nil, err
	}
	var nodes []Node
	rest := Node{Name: "…"}
	for n := 0; d.next(); n++ {
		if n&1023 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		below, ok := strings.CutPrefix(d.line.key(), prefix)
		if !ok {
			break
		}
		name, _, deeper := strings.Cut(below, "/")
		node := Node{Name: name}
		if deeper {
			node.Name += "/"
			if s, many := d.spans[node.Name]; many {
				node.Tally = s.Tally
				if s.To < d.at {
					return nil, fmt.Errorf("%s is damaged: it leads backwards", filepath.Join(dir, FoldersFile))
				}
				if err := d.seek(s.To); err != nil {
					return nil, err
				}
			}
		} else {
			own := d.line
			node.Line = &own
		}
		if node.Tally == (Tally{}) {
			node.Tally.add(&d.line)
		}
		switch last := len(nodes) - 1; {
		case deeper && last >= 0 && nodes[last].Name == node.Name:
			nodes[last].Tally.plus(&node.Tally, 1)
		case len(nodes) < maxNodes:
			nodes = append(nodes, node)
		default:
			rest.Tally.plus(&node.Tally, 1)
		}
	}
	if rest.Tally != (Tally{}) {
		nodes = append(nodes, rest)
	}
	return nodes, d.err
}

// differences reads the file from some place on.
type differences struct {
	file  *os.File
	lines *bufio.Reader
	line  Line
	at    int64 // where the next line begins
	err   error
	spans map[string]span // of the folders directly below one, by name
}

// readSpans reads the spans directly below prefix.
func (d *differences) readSpans(dir, prefix string) error {
	file, err := os.Open(filepath.Join(dir, FoldersFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer file.Close()
	d.spans = map[string]span{}
	for dec := json.NewDecoder(bufio.NewReader(file)); ; {
		var s span
		if err := dec.Decode(&s); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
		name, ok := bytes.CutPrefix(s.Prefix, []byte(prefix))
		if ok && bytes.IndexByte(name, '/') == len(name)-1 {
			d.spans[string(name)] = s
		}
	}
}

func (d *differences) seek(at int64) error {
	_, err := d.file.Seek(at, io.SeekStart)
	d.at = at
	if d.lines == nil {
		d.lines = bufio.NewReaderSize(d.file, 64<<10)
	}
	d.lines.Reset(d.file)
	return err
}

// next reads a line, and is false at the end or when err is set.
func (d *differences) next() bool {
	raw, err := d.lines.ReadSlice('\n')
	if d.at += int64(len(raw)); err == io.EOF {
		return false
	}
	d.line = Line{}
	if err == nil {
		err = json.Unmarshal(raw, &d.line)
	}
	d.err = err
	return err == nil
}

// find goes to the first line whose key is not before the prefix.
func (d *differences) find(prefix string) error {
	info, err := d.file.Stat()
	if err != nil {
		return err
	}
	low, high := int64(0), info.Size() // the line begins in there, or at high
	for low < high {
		middle := (low + high) / 2
		begins, err := d.lineFrom(middle)
		if err != nil {
			return err
		}
		if begins >= high || !d.next() {
			high = middle
			continue
		}
		if d.line.key() < prefix {
			low = begins + 1
		} else {
			high = middle
		}
	}
	begins, err := d.lineFrom(low)
	if err != nil {
		return err
	}
	return d.seek(begins)
}

// lineFrom goes to the first line that begins at an offset or after it, and
// tells where that is.
func (d *differences) lineFrom(at int64) (int64, error) {
	if at == 0 {
		return 0, d.seek(0)
	}
	if err := d.seek(at - 1); err != nil {
		return 0, err
	}
	raw, err := d.lines.ReadSlice('\n')
	if err == io.EOF {
		err = nil
	}
	return at - 1 + int64(len(raw)), err
}
