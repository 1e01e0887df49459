package preview

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"io"
	"slices"
	"strings"
)

// commas reads a table of separated values. Text with one column is no table.
func commas(head []byte, tabs, cut bool) *Preview {
	if cut {
		head = head[:bytes.LastIndexByte(head, '\n')+1] // the last line may be half
	}
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(head, []byte("\ufeff"))))
	r.FieldsPerRecord, r.LazyQuotes = -1, true
	line, _, _ := strings.Cut(string(head), "\n")
	switch {
	case tabs:
		r.Comma = '\t'
	case strings.Count(line, ";") > strings.Count(line, ","):
		r.Comma = ';'
	}
	p := &Preview{Kind: Table, Cut: cut}
	for {
		fields, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil
		}
		if p.Header == nil {
			p.Header = fields
		} else if p.Rows = append(p.Rows, fields); len(p.Rows) == maxLines {
			p.Cut = true
			break
		}
	}
	if len(p.Header) < 2 {
		return nil
	}
	return p
}

// jsonTable shows a JSON list of objects, or a line each, as a table, and any
// other JSON set out line by line.
func jsonTable(head []byte, cut bool) *Preview {
	trimmed := bytes.TrimSpace(head)
	if deep(trimmed) {
		return nil
	}
	dec := json.NewDecoder(bytes.NewReader(trimmed))
	dec.UseNumber()
	listed := len(trimmed) > 0 && trimmed[0] == '['
	if listed {
		dec.Token()
	}
	p := &Preview{Kind: Table, Cut: cut}
	var rows []map[string]any
	for dec.More() && len(rows) < maxLines {
		var raw json.RawMessage
		var row map[string]any
		err := dec.Decode(&raw)
		if err == nil {
			err = unmarshal(raw, &row)
		}
		if err != nil {
			if cut && len(rows) > 0 {
				break // the last one is half
			}
			return set(head, cut)
		}
		rows = append(rows, row)
		for _, name := range names(raw) {
			if !slices.Contains(p.Header, name) && len(p.Header) < 40 {
				p.Header = append(p.Header, name)
			}
		}
	}
	p.Cut = p.Cut || dec.More()
	if len(rows) == 0 || len(rows) == 1 && !listed {
		return set(head, cut)
	}
	for _, row := range rows {
		line := make([]string, len(p.Header))
		for i, name := range p.Header {
			line[i] = cell(row[name])
		}
		p.Rows = append(p.Rows, line)
	}
	return p
}

// unmarshal keeps numbers as they are written.
func unmarshal(raw []byte, into any) error {
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	return dec.Decode(into)
}

// names are those of a JSON object, in its order.
func names(raw []byte) []string {
	var all []string
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.Token() // the brace
	for dec.More() {
		name, err := dec.Token()
		var value json.RawMessage
		if err != nil || dec.Decode(&value) != nil {
			break
		}
		if text, ok := name.(string); ok {
			all = append(all, text)
		}
	}
	return all
}

func cell(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	}
	raw, _ := json.Marshal(v)
	return string(raw)
}

// set sets out JSON with indents; what is cut is shown as it is.
func set(head []byte, cut bool) *Preview {
	var out bytes.Buffer
	if cut || deep(head) || json.Indent(&out, head, "", "  ") != nil {
		return nil
	}
	return text(out.Bytes(), false)
}

// mostDeep is how deep JSON may be nested to be set out: each level indents all that
// lies in it, so that a small file of brackets becomes an enormous one.
const mostDeep = 64

// deep tells that JSON is nested deeper than that. Brackets within texts count too,
// which is as good for what it guards against.
func deep(doc []byte) bool {
	level := 0
	for _, c := range doc {
		switch c {
		case '[', '{':
			if level++; level > mostDeep {
				return true
			}
		case ']', '}':
			level--
		}
	}
	return false
}
