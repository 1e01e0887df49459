package weblist

import (
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"lumtra/core/object"
)

// item is one line of the list.
type item struct {
	key     string
	address *url.URL
	size    int64 // -1 when the list does not say
	sum     object.Sum
}

// columns are the names a header may use, in the order without one.
var columns = []string{"address", "size", "checksum", "name"}

// parse reads a list: an address a line, with size, checksum ("md5:…",
// "sha256:…", hexadecimal) and target name behind commas where they are known.
// A first line that names the columns may put them in another order. Empty
// lines and those that start with # are passed over. The items come back in
// byte order of their keys; an error names the line.
func parse(r io.Reader) ([]item, error) {
	lines := csv.NewReader(r)
	lines.Comment, lines.FieldsPerRecord, lines.TrimLeadingSpace, lines.LazyQuotes = '#', -1, true, true
	order := columns
	var items []item
	seen := map[string]int{}
	for first := true; ; first = false {
		fields, err := lines.Read()
		if err == io.EOF {
			break
		}
		line, _ := lines.FieldPos(0)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
		if first && !strings.Contains(fields[0], "://") {
			if order, err = header(fields); err != nil {
				return nil, fmt.Errorf("line %d: %w", line, err)
			}
			continue
		}
		it, err := parseItem(order, fields)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
		if other := seen[it.key]; other > 0 {
			return nil, fmt.Errorf("line %d: it lands at %q like line %d; give one of them another name", line,
				object.Display(it.key), other)
		}
		seen[it.key] = line
		items = append(items, it)
	}
	if len(items) == 0 {
		return nil, errors.New("the list has no addresses")
	}
	slices.SortFunc(items, func(a, b item) int { return strings.Compare(a.key, b.key) })
	return items, nil
}

func header(fields []string) ([]string, error) {
	var order []string
	for _, f := range fields {
		f = strings.ToLower(strings.TrimSpace(f))
		if f == "url" {
			f = "address"
		}
		if !slices.Contains(columns, f) {
			return nil, fmt.Errorf("neither an address nor a column's name: %q; columns are %s", object.Display(f),
				strings.Join(columns, ", "))
		}
		order = append(order, f)
	}
	if !slices.Contains(order, "address") {
		return nil, errors.New("no column is named address")
	}
	return order, nil
}

func parseItem(order, fields []string) (item, error) {
	it := item{size: -1}
	if len(fields) > len(order) {
		return it, fmt.Errorf("%d values where there are %d columns", len(fields), len(order))
	}
	for i, f := range fields {
		f = strings.TrimSpace(f)
		if f == "" {
			continue
		}
		var err error
		switch order[i] {
		case "address":
			it.address, err = url.Parse(f)
			if err != nil || it.address.Host == "" || it.address.Scheme != "http" && it.address.Scheme != "https" {
				return it, errors.New("the address is not like https://host/path")
			}
			it.address.Fragment = ""
		case "size":
			if it.size, err = strconv.ParseInt(f, 10, 64); err != nil || it.size < 0 {
				return it, fmt.Errorf("the size is no number of bytes: %q", object.Display(f))
			}
		case "checksum":
			if it.sum, err = parseSum(f); err != nil {
				return it, err
			}
		case "name":
			it.key = f
		}
	}
	if it.address == nil {
		return it, errors.New("the address is missing")
	}
	if it.key == "" {
		if it.key = strings.TrimPrefix(it.address.Path, "/"); it.key == "" {
			return it, errors.New("the address has no path to take a name from; give it one")
		}
	}
	return it, nil
}

// parseSum reads "kind:hex", or hexadecimal alone where its length tells.
func parseSum(text string) (object.Sum, error) {
	name, value, named := strings.Cut(text, ":")
	if !named {
		name, value = map[int]string{32: "md5", 64: "sha256"}[len(text)], text
	}
	kind, err := object.ParseSumKind(strings.ToLower(strings.ReplaceAll(name, "-", "")))
	raw, bad := hex.DecodeString(value)
	if err != nil || bad != nil || kind == object.NoSum || len(raw) != kind.New().Size() {
		return object.Sum{}, fmt.Errorf("not a checksum such as md5:… or sha256:… in hexadecimal: %q",
			object.Display(text))
	}
	return object.Sum{Kind: kind, Value: string(raw)}, nil
}
