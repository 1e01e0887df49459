package standin

import (
	"encoding/base64"
	"encoding/xml"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

const isoForm = "2006-01-02T15:04:05.000Z"

func (c *call) listBuckets() error {
	type line struct{ Name, CreationDate string }
	var out struct {
		XMLName xml.Name `xml:"ListAllMyBucketsResult"`
		Buckets struct{ Bucket []line }
	}
	c.s.mu.RLock()
	for name, b := range c.s.buckets {
		out.Buckets.Bucket = append(out.Buckets.Bucket, line{name, b.made.Format(isoForm)})
	}
	c.s.mu.RUnlock()
	slices.SortFunc(out.Buckets.Bucket, func(a, b line) int { return strings.Compare(a.Name, b.Name) })
	return answer(c.w, out)
}

// span is what a listing asks for.
type span struct {
	prefix, delimiter, after string
	max                      int
	markers                  bool // keys that are deleted count
	light                    bool // what a listing does not show is left out
	encode                   func(string) string
}

func (c *call) span() (span, error) {
	sp := span{prefix: c.query.Get("prefix"), delimiter: c.query.Get("delimiter"), max: 1000,
		encode: func(s string) string { return s }}
	if text := c.query.Get("max-keys"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 {
			return sp, fault(http.StatusBadRequest, "InvalidArgument", "max-keys is no number")
		}
		sp.max = min(n, 1000)
	}
	if c.query.Get("encoding-type") == "url" && !c.s.has(ListingPlain) {
		sp.encode = url.QueryEscape
	}
	return sp, nil
}

// walk visits keys behind sp.after in order, and each group of keys that share
// a prefix up to the delimiter once. It stops when visit says so.
func (b *bucket) walk(sp span, visit func(key, group string, stack []*version) bool) {
	for from, again := max(sp.after, sp.prefix), true; again; {
		again = false
		b.keys.Ascend(from, func(key string, all packed) bool {
			if !strings.HasPrefix(key, sp.prefix) {
				return key < sp.prefix
			}
			if key <= sp.after {
				return true
			}
			if sp.delimiter != "" {
				if i := strings.Index(key[len(sp.prefix):], sp.delimiter); i >= 0 {
					group := key[:len(sp.prefix)+i+len(sp.delimiter)]
					if group > sp.after && all.unpack(key, true)[0].gone() && !sp.markers {
						return true // something after it may still be there
					}
					// Jump behind everything in the group.
					from = group[:len(group)-1] + string(group[len(group)-1]+1)
					again = group <= sp.after || visit("", group, nil)
					return false
				}
			}
			return visit(key, "", all.unpack(key, sp.light))
		})
	}
}

// list answers ListObjects and ListObjectsV2.
func (c *call) list() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	sp, err := c.span()
	if err != nil {
		return err
	}
	sp.light = true
	v2 := c.query.Get("list-type") == "2"
	sp.after = c.query.Get("marker")
	if v2 {
		sp.after = c.query.Get("start-after")
		if token := c.query.Get("continuation-token"); token != "" {
			raw, err := base64.RawURLEncoding.DecodeString(token)
			if err != nil {
				return fault(http.StatusBadRequest, "InvalidArgument", "the continuation token is not one of ours")
			}
			sp.after = string(raw)
		}
	}
	var out strings.Builder
	text := func(name, value string) {
		out.WriteString("<" + name + ">")
		xml.EscapeText(&out, []byte(value))
		out.WriteString("</" + name + ">")
	}
	out.WriteString(xml.Header + `<ListBucketResult xmlns="http://s3.amazonaws.com/doc/2006-03-01/">`)
	n, last, more := 0, "", false
	head, lines := out.Len(), []line(nil) // of a page in another order
	b.mu.RLock()
	b.walk(sp, func(key, group string, stack []*version) bool {
		if key != "" && stack[0].gone() {
			return true
		}
		if n == sp.max {
			more = true
			return false
		}
		n++
		lines = append(lines, line{strings.ReplaceAll(key+group, "/", "\x00"), out.Len()})
		if last = group; group != "" {
			out.WriteString("<CommonPrefixes>")
			text("Prefix", sp.encode(group))
			out.WriteString("</CommonPrefixes>")
			return true
		}
		last = key
		v := stack[0]
		out.WriteString("<Contents>")
		text("Key", sp.encode(c.s.named(key)))
		text("LastModified", v.Modified.Format(isoForm))
		text("ETag", `"`+c.s.listed(v.ETag)+`"`)
		text("Size", strconv.FormatInt(v.Size, 10))
		text("StorageClass", v.class())
		out.WriteString("</Contents>")
		return true
	})
	b.mu.RUnlock()
	if c.s.has(ListingByFolder) {
		reorder(&out, head, lines)
	}
	text("Name", c.bucket)
	text("Prefix", sp.encode(sp.prefix))
	text("Delimiter", sp.encode(sp.delimiter))
	text("MaxKeys", strconv.Itoa(sp.max))
	if c.query.Has("encoding-type") && !c.s.has(ListingPlain) {
		text("EncodingType", c.query.Get("encoding-type"))
	}
	text("IsTruncated", strconv.FormatBool(more))
	switch {
	case v2:
		text("KeyCount", strconv.Itoa(n))
		if more {
			text("NextContinuationToken", base64.RawURLEncoding.EncodeToString([]byte(last)))
		}
	case more:
		text("NextMarker", sp.encode(last))
	}
	out.WriteString("</ListBucketResult>")
	c.w.Header().Set("Content-Type", "application/xml")
	_, err = c.w.Write([]byte(out.String()))
	return err
}

func (v *version) class() string {
	if v.Class == "" {
		return "STANDARD"
	}
	return v.Class
}

// listVersions answers ListObjectVersions, newest first within a key.
func (c *call) listVersions() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	sp, err := c.span()
	if err != nil {
		return err
	}
	type line struct {
		XMLName      xml.Name
		Key          string
		VersionId    string
		IsLatest     bool
		LastModified string
		ETag         string `xml:",omitempty"`
		Size         *int64 `xml:",omitempty"`
		StorageClass string `xml:",omitempty"`
	}
	type group struct{ Prefix string }
	var out struct {
		XMLName                                             xml.Name `xml:"ListVersionsResult"`
		Name, Prefix, KeyMarker, VersionIdMarker, Delimiter string
		EncodingType, NextKeyMarker, NextVersionIdMarker    string `xml:",omitempty"`
		MaxKeys                                             int
		IsTruncated                                         bool
		Lines                                               []line
		CommonPrefixes                                      []group
	}
	sp.markers = true
	keyMarker, idMarker := c.query.Get("key-marker"), c.query.Get("version-id-marker")
	sp.after = keyMarker
	if idMarker != "" && keyMarker != "" { // within the key of the marker
		sp.after = keyMarker[:len(keyMarker)-1] + string(keyMarker[len(keyMarker)-1]-1) + "\xff"
	}
	n := 0
	b.mu.RLock()
	b.walk(sp, func(key, prefix string, stack []*version) bool {
		if prefix != "" {
			if n == sp.max {
				out.IsTruncated = true
				return false
			}
			n++
			out.CommonPrefixes = append(out.CommonPrefixes, group{sp.encode(prefix)})
			out.NextKeyMarker, out.NextVersionIdMarker = sp.encode(prefix), ""
			return true
		}
		skip := key == keyMarker && idMarker != ""
		if idMarker != "" && key < keyMarker {
			return true
		}
		for i, v := range stack {
			if skip {
				skip = v.ID != idMarker
				continue
			}
			if n == sp.max {
				out.IsTruncated = true
				return false
			}
			n++
			l := line{XMLName: xml.Name{Local: "Version"}, Key: sp.encode(c.s.named(key)), VersionId: v.ID,
				IsLatest:     i == 0,
				LastModified: v.Modified.Format(isoForm)}
			if v.Marker {
				l.XMLName.Local = "DeleteMarker"
			} else {
				l.ETag, l.Size, l.StorageClass = `"`+c.s.listed(v.ETag)+`"`, &v.Size, v.class()
			}
			out.Lines = append(out.Lines, l)
			out.NextKeyMarker, out.NextVersionIdMarker = sp.encode(key), v.ID
		}
		return true
	})
	b.mu.RUnlock()
	if !out.IsTruncated {
		out.NextKeyMarker, out.NextVersionIdMarker = "", ""
	}
	out.Name, out.Prefix, out.MaxKeys, out.EncodingType = c.bucket, sp.encode(sp.prefix), sp.max, c.encoding()
	out.KeyMarker, out.VersionIdMarker, out.Delimiter = sp.encode(keyMarker), idMarker, sp.encode(sp.delimiter)
	return answer(c.w, out)
}

// encoding is what names are encoded with, "" for nothing.
func (c *call) encoding() string {
	if c.s.has(ListingPlain) {
		return ""
	}
	return c.query.Get("encoding-type")
}

func (c *call) listUploads() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	type line struct{ Key, UploadId, Initiated, StorageClass string }
	var out struct {
		XMLName     xml.Name `xml:"ListMultipartUploadsResult"`
		Bucket      string
		IsTruncated bool
		Upload      []line
	}
	out.Bucket = c.bucket
	b.mu.RLock()
	for _, u := range b.uploads {
		if strings.HasPrefix(u.Object.Key, c.query.Get("prefix")) {
			begun := u.Object.Modified
			if c.s.has(UploadsUndated) {
				begun = time.Unix(0, 0).UTC()
			}
			out.Upload = append(out.Upload, line{u.Object.Key, u.ID, begun.Format(isoForm), u.Object.class()})
		}
	}
	b.mu.RUnlock()
	slices.SortFunc(out.Upload,
		func(a, b line) int { return strings.Compare(a.Key+"\x00"+a.UploadId, b.Key+"\x00"+b.UploadId) })
	return answer(c.w, out)
}

func (c *call) getVersioning() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	b.mu.RLock()
	defer b.mu.RUnlock()
	return answer(c.w, struct {
		XMLName xml.Name `xml:"VersioningConfiguration"`
		Status  string   `xml:",omitempty"`
	}{Status: b.versioning})
}

func (c *call) putVersioning() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	var in struct{ Status string }
	if err := c.document(&in); err != nil {
		return err
	}
	if in.Status != "Enabled" && in.Status != "Suspended" {
		return fault(http.StatusBadRequest, "IllegalVersioningConfigurationException", "Status is Enabled or Suspended")
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.commit(change{Versioning: &in.Status})
}

func (s *Server) now() time.Time {
	step := time.Millisecond
	if s.has(WholeSeconds) {
		step = time.Second
	}
	if now := time.Now().UTC().Truncate(step); !s.has(TimesRoundUp) {
		return now
	}
	return time.Now().UTC().Add(time.Second).Truncate(time.Second)
}

// line is one of a listing: what another order of it goes by, and where its text begins.
type line struct {
	by   string
	from int
}

// reorder puts the lines written behind head into the order of what they go by.
func reorder(out *strings.Builder, head int, lines []line) {
	text := out.String()
	ends := map[string]int{}
	for i, l := range lines {
		if ends[l.by] = len(text); i+1 < len(lines) {
			ends[l.by] = lines[i+1].from
		}
	}
	slices.SortFunc(lines, func(a, b line) int { return strings.Compare(a.by, b.by) })
	out.Reset()
	out.WriteString(text[:head])
	for _, l := range lines {
		out.WriteString(text[l.from:ends[l.by]])
	}
}
