package job

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"lumtra/core/nearest"

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
	file string // as messages call it
	path string // "" for a text that is in no file
	raw  []byte
}

func readDocument(path, shown string) (*document, error) {
	raw, err := readText(path)
	if err != nil {
		return nil, &Mistake{File: shown, What: "cannot be read: " + reason(err)}
	}
	return &document{file: shown, path: path, raw: raw}, nil
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
		return &Mistake{File: d.file, Line: line, Column: column, What: fmt.Sprintf("there is no setting %q here%s",
			strings.Join(first.Key(), "."), alike(first.Key(), reflect.TypeOf(into)))}
	case errors.As(err, &broken):
		line, column := broken.Position()
		return &Mistake{File: d.file, Line: line, Column: column, What: plainly(strings.TrimPrefix(broken.Error(),
			"toml: ")),
			Setting: strings.Join(broken.Key(), ".")}
	}
	return &Mistake{File: d.file, What: err.Error()}
}

// mismatch is how the decoder tells of a value of another type than its setting has.
var mismatch = regexp.MustCompile(`^cannot decode TOML (.+) into .* of type (\S+)$`)

// plainly puts the decoder's words for a wrong type into those of people who write such files.
func plainly(what string) string {
	m := mismatch.FindStringSubmatch(what)
	if m == nil {
		return what
	}
	wanted := "another kind of value"
	switch t := strings.TrimLeft(m[2], "*"); {
	case strings.HasPrefix(t, "[]"):
		wanted = "a list"
	case strings.HasPrefix(t, "map["):
		wanted = "a table"
	case strings.HasPrefix(t, "int"):
		wanted = "a whole number"
	case strings.HasPrefix(t, "float"):
		wanted = "a number"
	case t == "bool":
		wanted = "true or false"
	case t == "string" || strings.HasPrefix(t, "rule.") || strings.HasPrefix(t, "schedule.") ||
		strings.HasPrefix(t, "job."):
		wanted = "a text in quotes"
	}
	return "this is of the kind " + m[1] + "; it has to be " + wanted
}

// alike says which setting was meant by one that there is not, where one beside it in its
// table is like it. in is what the whole document is read into.
func alike(path []string, in reflect.Type) string {
	for _, part := range path[:len(path)-1] {
		if in.Kind() == reflect.Map { // of things by their names
			in = in.Elem()
		} else if in = settings(in)[part]; in == nil {
			return ""
		}
	}
	name := path[len(path)-1]
	if near := nearest.Of(name, slices.Collect(maps.Keys(settings(in)))); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return ""
}

// settings are those of a table by name, with what each is read into.
func settings(of reflect.Type) map[string]reflect.Type {
	for of.Kind() == reflect.Pointer {
		of = of.Elem()
	}
	all := map[string]reflect.Type{}
	if of.Kind() != reflect.Struct {
		return all
	}
	for i := range of.NumField() {
		f := of.Field(i)
		if f.Anonymous {
			maps.Copy(all, settings(f.Type))
		}
		if name, _, _ := strings.Cut(f.Tag.Get("toml"), ","); name != "" && name != "-" {
			all[name] = f.Type
		}
	}
	return all
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
