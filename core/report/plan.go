package report

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"lumtra/core/object"
	"lumtra/core/plan"
)

// Format is a form to write in.
type Format string

// The forms.
const (
	CSV       Format = "csv"
	JSONLines Format = "jsonl"
	SVG       Format = "svg"
	PDF       Format = "pdf"
)

// Formats are all of them.
var Formats = []Format{CSV, JSONLines, SVG, PDF}

// Plan writes a plan to w: every effect but what stays the same as CSV or JSON
// Lines, the outcome by folder as a drawing.
func Plan(w io.Writer, p *plan.Plan, f Format) error {
	switch f {
	case CSV:
		return planCSV(w, p)
	case JSONLines:
		return planJSON(w, p)
	case SVG, PDF:
		return drawPlan(w, p, f)
	}
	return fmt.Errorf("no form called %q; there are %v", f, Formats)
}

// each walks the effects that are worth a line.
func each(p *plan.Plan, line func(e *plan.Effect) error) error {
	c := p.Effects("")
	for c.Next() {
		if c.Effect().Kind == plan.Same {
			continue
		}
		if err := line(c.Effect()); err != nil {
			return err
		}
	}
	return c.Err()
}

// cell keeps a text from being taken for a formula by a spreadsheet: one that
// begins like one gets an apostrophe before it.
func cell(s string) string {
	s = object.Display(s)
	if s != "" && strings.ContainsRune("=+-@", rune(s[0])) {
		return "'" + s
	}
	return s
}

func planCSV(w io.Writer, p *plan.Plan) error {
	out := csv.NewWriter(w)
	out.Write([]string{"effect", "direction", "key", "bytes", "why", "source_modified", "target_modified", "kept_as"})
	err := each(p, func(e *plan.Effect) error {
		return out.Write([]string{e.Kind.String(), direction(e), cell(e.Key), strconv.FormatInt(e.Bytes(), 10),
			cell(e.Why()), modified(e.Source), modified(e.Target), cell(e.Aside)})
	})
	out.Flush()
	if err == nil {
		err = out.Error()
	}
	return err
}

func direction(e *plan.Effect) string {
	if e.Back {
		return "to source"
	}
	return "to target"
}

func modified(e *object.Entry) string {
	if e == nil {
		return ""
	}
	return e.Modified.UTC().Format(time.RFC3339Nano)
}

// line is an effect as JSON.
type line struct {
	Effect    plan.Kind `json:"effect"`
	Direction string    `json:"direction"`
	// Key is the key as text; KeyBytes has it instead, in base64, when it is
	// not valid UTF-8 and JSON could not carry it unharmed.
	Key            string `json:"key,omitempty"`
	KeyBytes       []byte `json:"key_bytes,omitempty"`
	Bytes          int64  `json:"bytes"`
	Why            string `json:"why"`
	SourceModified string `json:"source_modified,omitempty"`
	TargetModified string `json:"target_modified,omitempty"`
	KeptAs         string `json:"kept_as,omitempty"`
}

func planJSON(w io.Writer, p *plan.Plan) error {
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	return each(p, func(e *plan.Effect) error {
		l := line{Effect: e.Kind, Direction: direction(e), Key: e.Key, Bytes: e.Bytes(), Why: e.Why(),
			SourceModified: modified(e.Source), TargetModified: modified(e.Target), KeptAs: e.Aside}
		if !utf8.ValidString(e.Key) {
			l.Key, l.KeyBytes = "", []byte(e.Key)
		}
		return out.Encode(l)
	})
}
