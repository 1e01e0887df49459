package s3

import (
	"bytes"
	"errors"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"lumtra/core/object"
)

// scanPage reads a ListBucketResult document (API Reference, ListObjectsV2).
// It looks at one tag after the other and keeps the few it knows, which is an
// order of magnitude faster than a general XML decoder, and listing a million
// keys is mostly this. Names are matched without a namespace prefix, which no
// store uses here.
func scanPage(doc []byte) (page, error) {
	var pg page
	var e object.Entry
	var encoded, truncated, whole, inPrefixes bool
	var groups []object.Entry
	text := func(raw []byte) string {
		s := string(unescape(raw))
		if encoded {
			if plain, err := url.QueryUnescape(s); err == nil {
				return plain
			}
		}
		return s
	}
	// EncodingType may stand behind what it speaks of.
	encoded = string(between(doc, "EncodingType")) == "url"
	for at := 0; ; {
		open := bytes.IndexByte(doc[at:], '<')
		if open < 0 {
			break
		}
		at += open + 1
		end := bytes.IndexByte(doc[at:], '>')
		if end < 1 {
			break
		}
		name := doc[at : at+end]
		at += end + 1
		var content []byte
		if name[0] != '/' { // what stands up to the next tag, which is where to go on
			content = doc[at:]
			if next := bytes.IndexByte(content, '<'); next >= 0 {
				content = content[:next]
			}
			at += len(content)
		}
		switch string(name) {
		case "Contents":
			if pg.entries == nil { // a page is mostly full
				pg.entries = make([]object.Entry, 0, 1000)
			}
			e = object.Entry{Latest: true}
		case "/Contents":
			pg.entries = append(pg.entries, e)
		case "Key":
			e.Key = text(content)
		case "Size":
			size, err := strconv.ParseInt(string(content), 10, 64)
			if err != nil {
				return pg, errors.New("a listing with a size that is no number")
			}
			e.Size = size
		case "LastModified":
			when, err := time.Parse(time.RFC3339, string(content))
			if err != nil {
				return pg, errors.New("a listing with a time that is none")
			}
			e.Modified = when
		case "ETag":
			e.ETag = etag(content)
		case "StorageClass":
			e.Class = class(string(content))
		case "CommonPrefixes":
			inPrefixes = true
		case "/CommonPrefixes":
			inPrefixes = false
		case "Prefix":
			if inPrefixes {
				groups = append(groups, object.Entry{Key: text(content), Kind: object.Prefix})
			}
		case "IsTruncated":
			truncated = string(content) == "true"
		case "NextContinuationToken":
			pg.next = string(unescape(content))
		case "/ListBucketResult":
			whole = true
		}
	}
	switch {
	case !whole:
		return pg, errors.New("the listing is cut short")
	case truncated && pg.next == "":
		return pg, errors.New("the listing goes on but does not say where")
	case !truncated:
		pg.next = ""
	}
	if len(groups) > 0 {
		pg.entries = append(pg.entries, groups...)
		slices.SortFunc(pg.entries, func(a, b object.Entry) int { return strings.Compare(a.Key, b.Key) })
	}
	return pg, nil
}

// etag is an ETag without its quotes, which most stores write as references.
func etag(raw []byte) string {
	if inner, ok := bytes.CutPrefix(raw, []byte("&quot;")); ok {
		raw = bytes.TrimSuffix(inner, []byte("&quot;"))
	}
	return strings.Trim(string(unescape(raw)), `"`)
}

// class is the storage class with the standard one as "".
func class(name string) string {
	if name == "STANDARD" {
		return ""
	}
	return strings.Clone(name)
}

// unescape undoes XML's character references (XML 1.0, section 4.1).
func unescape(raw []byte) []byte {
	if bytes.IndexByte(raw, '&') < 0 {
		return raw
	}
	out := make([]byte, 0, len(raw))
	for {
		amp := bytes.IndexByte(raw, '&')
		if amp < 0 {
			return append(out, raw...)
		}
		out = append(out, raw[:amp]...)
		raw = raw[amp:]
		semi := bytes.IndexByte(raw, ';')
		if semi < 0 {
			return append(out, raw...)
		}
		switch ref := string(raw[1:semi]); {
		case ref == "amp":
			out = append(out, '&')
		case ref == "lt":
			out = append(out, '<')
		case ref == "gt":
			out = append(out, '>')
		case ref == "quot":
			out = append(out, '"')
		case ref == "apos":
			out = append(out, '\'')
		case strings.HasPrefix(ref, "#"):
			digits, base := ref[1:], 10
			if strings.HasPrefix(digits, "x") {
				digits, base = digits[1:], 16
			}
			n, err := strconv.ParseUint(digits, base, 21)
			if err != nil {
				return append(out, raw...)
			}
			out = utf8.AppendRune(out, rune(n))
		default:
			out = append(out, raw[:semi+1]...)
		}
		raw = raw[semi+1:]
	}
}
