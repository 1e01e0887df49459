package job

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// Mistake is something wrong in a file.
type Mistake struct {
	File         string
	Line, Column int // from 1; 0 when it is about the whole file
	What         string
	// Setting is what it is about, with dots between the parts of its path; ""
	// when it is about no setting in particular.
	Setting string
}

// Error is "file:line:column: what".
func (m *Mistake) Error() string {
	if m.Line == 0 {
		return fmt.Sprintf("%s: %s", m.File, m.What)
	}
	return fmt.Sprintf("%s:%d:%d: %s", m.File, m.Line, m.Column, m.What)
}

// document is a TOML file being read.
type document struct {
	file string
	raw  []byte
}

func readDocument(path, shown string) (*document, error) {
	raw, err := readText(path)
	if err != nil {
		return nil, &Mistake{File: shown, What: "cannot be read: " + reason(err)}
	}
	return &document{file: shown, raw: raw}, nil
}

func reason(err error) string {
	var pathErr *os.PathError
	if errors.As(err, &pathErr) {
		return pathErr.Err.Error()
	}
	return err.Error()
}

// decode fills into and turns syntax errors, wrong types and unknown names
// into mistakes with their place.
func (d *document) decode(into any) error {
	err := toml.NewDecoder(bytes.NewReader(d.raw)).DisallowUnknownFields().Decode(into)
	var strict *toml.StrictMissingError
	var broken *toml.DecodeError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &strict) && len(strict.Errors) > 0:
		first := &strict.Errors[0]
		line, column := first.Position()
		return &Mistake{File: d.file, Line: line, Column: column, What: fmt.Sprintf("there is no setting %q here", strings.Join(first.Key(), "."))}
	case errors.As(err, &broken):
		line, column := broken.Position()
		return &Mistake{File: d.file, Line: line, Column: column, What: strings.TrimPrefix(broken.Error(), "toml: "), Setting: strings.Join(broken.Key(), ".")}
	}
	return &Mistake{File: d.file, What: err.Error()}
}

// wrong makes a mistake that points to the setting with the given path.
func (d *document) wrong(what string, path ...string) error {
	m := &Mistake{File: d.file, What: what, Setting: strings.Join(path, ".")}
	p := unstable.Parser{}
	p.Reset(d.raw)
	var table []string
	for p.NextExpression() {
		e := p.Expression()
		var at []string
		var last *unstable.Node
		for it := e.Key(); it.Next(); {
			last = it.Node()
			at = append(at, string(last.Data))
		}
		if e.Kind == unstable.Table {
			table = at
		} else {
			at = append(append([]string{}, table...), at...)
		}
		// The closest thing there is: the setting, else its table.
		if last != nil && len(at) <= len(path) && strings.Join(at, "\x00") == strings.Join(path[:len(at)], "\x00") {
			shape := p.Shape(p.Range(last.Data))
			m.Line, m.Column = shape.Start.Line, shape.Start.Column
		}
	}
	return m
}

func base(path string) string { return strings.TrimSuffix(filepath.Base(path), ".toml") }
