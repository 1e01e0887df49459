package standin

import (
	"encoding/xml"
	"hash"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// keptHeaders are given back with the object as they came.
var keptHeaders = []string{"Content-Type", "Cache-Control", "Content-Disposition", "Content-Language", "Expires"}

// newVersion is what the request's headers say of the object it makes.
func (c *call) newVersion() version {
	r := c.r
	v := version{Key: c.key, Modified: c.s.now(), Class: r.Header.Get("X-Amz-Storage-Class"),
		Header: map[string]string{}, Meta: map[string]string{}}
	if v.Class == "STANDARD" {
		v.Class = ""
	}
	for _, name := range keptHeaders {
		if value := r.Header.Get(name); value != "" {
			v.Header[name] = value
		}
	}
	// "aws-chunked" is of the request, not of the object.
	if coding := strings.Trim(strings.ReplaceAll(r.Header.Get("Content-Encoding"), "aws-chunked", ""),
		", "); coding != "" {
		v.Header["Content-Encoding"] = coding
	}
	for name, values := range r.Header {
		if strings.HasPrefix(name, "X-Amz-Meta-") {
			v.Meta[name] = values[0]
		}
	}
	if tags, err := url.ParseQuery(r.Header.Get("X-Amz-Tagging")); err == nil && len(tags) > 0 {
		v.Tags = map[string]string{}
		for name, values := range tags {
			v.Tags[name] = values[0]
		}
	}
	return v
}

// conditions holds a write's If-Match and If-None-Match against what is there.
func (c *call) conditions(current *version) error {
	r, there := c.r, !current.gone()
	if match := r.Header.Get("If-Match"); match != "" && (!there || !c.s.matches(match, current.ETag)) {
		return fault(http.StatusPreconditionFailed, "PreconditionFailed", "If-Match does not hold")
	}
	if r.Header.Get("If-None-Match") == "*" && there {
		return fault(http.StatusPreconditionFailed, "PreconditionFailed", "there is an object with this key")
	}
	return nil
}

// place makes v the newest version of its key, if the conditions hold.
func (c *call) place(b *bucket, v *version) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := c.conditions(b.find(v.Key, "")); err != nil {
		return err
	}
	c.s.stays(v, b.find(v.Key, ""))
	v.ID = b.nextID()
	var old *version
	if v.ID == "null" {
		old = b.find(v.Key, "null")
	}
	if err := b.commit(change{Put: v}); err != nil {
		return err
	}
	if old != nil {
		b.release(old.Body)
	}
	return nil
}

func (c *call) putObject() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	if len(c.key) > 1024 {
		return fault(http.StatusBadRequest, "KeyTooLongError", "the key is longer than 1,024 bytes")
	}
	b.mu.RLock()
	err = c.conditions(b.find(c.key, "")) // before the body, to save it
	b.mu.RUnlock()
	if err != nil {
		return err
	}
	got, err := c.s.receive(b, c.r)
	if err != nil {
		return err
	}
	v := c.newVersion()
	v.Size, v.ETag, v.Sums, v.Body = got.size, got.etag, got.sums, got.body
	if err := c.s.takes(&v); err != nil {
		b.release(got.body)
		return err
	}
	if c.s.has(Forgets) {
		b.release(got.body)
		c.describe(&v, true)
		return nil
	}
	if err := c.place(b, &v); err != nil {
		b.release(got.body)
		return err
	}
	c.describe(&v, !c.s.has(AnswersBare))
	return nil
}

// describe sets the headers that tell of a version.
func (c *call) describe(v *version, sums bool) {
	h := c.w.Header()
	h.Set("ETag", `"`+v.ETag+`"`)
	if v.ID != "null" {
		h.Set("X-Amz-Version-Id", v.ID)
	}
	if v.Class != "" {
		h.Set("X-Amz-Storage-Class", v.Class)
	}
	switch now := time.Now(); {
	case v.Restored.IsZero():
	case now.Before(v.Restored):
		h.Set("X-Amz-Restore", `ongoing-request="true"`)
	case now.Before(v.Until):
		h.Set("X-Amz-Restore", `ongoing-request="false", expiry-date="`+v.Until.UTC().Format(http.TimeFormat)+`"`)
	}
	if sums && c.s.tells() {
		for name, sum := range v.Sums {
			h.Set(name, sum)
		}
		h.Set("X-Amz-Checksum-Type", "FULL_OBJECT")
	}
}

// pick finds the version a request asks for.
func (c *call) pick(b *bucket, key, id string) (*version, error) {
	b.mu.RLock()
	v := b.find(key, id)
	b.mu.RUnlock()
	switch {
	case v == nil && id != "":
		return nil, fault(http.StatusNotFound, "NoSuchVersion", "there is no such version")
	case v == nil:
		return nil, fault(http.StatusNotFound, "NoSuchKey", "there is no such key")
	case v.Marker && id != "":
		c.w.Header().Set("X-Amz-Delete-Marker", "true")
		return nil, fault(http.StatusMethodNotAllowed, "MethodNotAllowed", "this version is a delete marker")
	case v.gone() && id == "":
		c.w.Header().Set("X-Amz-Delete-Marker", "true")
		return nil, fault(http.StatusNotFound, "NoSuchKey", "the newest version is a delete marker")
	}
	return v, nil
}

// open finds the version of the request's object and opens its content.
func (c *call) open(id string) (*version, io.ReadSeeker, func(), error) {
	b, err := c.openBucket()
	if err != nil {
		return nil, nil, nil, err
	}
	v, err := c.pick(b, c.key, id)
	if err != nil {
		return nil, nil, nil, err
	}
	if c.r.Method == http.MethodGet && v.cold(time.Now()) {
		return nil, nil, nil, fault(http.StatusForbidden, "InvalidObjectState", "the object is in cold storage")
	}
	body, done, err := b.content(v.Body, v.Size)
	return v, body, done, err
}

// rangeOf refuses a range of an object without content, of which net/http would give the whole (RFC 9110, section
// 15.5.17: no range of it can be satisfied).
func (s *Server) rangeOf(w http.ResponseWriter, r *http.Request, v *version) error {
	if v.Size > 0 || r.Method != http.MethodGet || r.Header.Get("Range") == "" {
		return nil
	}
	w.Header().Set("Content-Range", "bytes */0")
	return fault(http.StatusRequestedRangeNotSatisfiable, "InvalidRange", "there is no such range")
}

// getObject answers GetObject and HeadObject; ranges and conditions are
// net/http's work.
func (c *call) getObject() error {
	v, body, done, err := c.open(c.query.Get("versionId"))
	if err != nil {
		return err
	}
	defer done()
	if err := c.s.rangeOf(c.w, c.r, v); err != nil {
		return err
	}
	c.describe(v, c.r.Header.Get("X-Amz-Checksum-Mode") == "ENABLED" && c.r.Header.Get("Range") == "")
	h := c.w.Header()
	h.Set("Content-Type", "binary/octet-stream")
	for name, value := range v.Header {
		h.Set(name, value)
	}
	for name, value := range v.Meta {
		h.Set(name, value)
	}
	if len(v.Tags) > 0 {
		h.Set("X-Amz-Tagging-Count", strconv.Itoa(len(v.Tags)))
	}
	if match := c.r.Header.Get("If-Match"); match != "" && c.s.has(MatchUnquoted) {
		if !c.s.matches(match, v.ETag) {
			return fault(http.StatusPreconditionFailed, "PreconditionFailed", "If-Match does not hold")
		}
		c.r.Header.Del("If-Match")
	}
	http.ServeContent(c.w, c.r, "", v.Modified, body)
	return nil
}

// remove removes a version for good, or lays a marker, or drops a plain object.
func (s *Server) remove(b *bucket, key, id string) (*version, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case id == "" && b.versioning != "":
		marker := &version{Key: key, ID: b.nextID(), Marker: true, Modified: s.now()}
		return marker, b.commit(change{Put: marker})
	case id == "":
		id = "null"
	}
	v := b.find(key, id)
	if v == nil {
		return nil, nil
	}
	if err := b.commit(change{Drop: &[2]string{key, id}}); err != nil {
		return nil, err
	}
	b.release(v.Body)
	return v, nil
}

func (c *call) deleteObject() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	v, err := c.s.remove(b, c.key, c.query.Get("versionId"))
	if err != nil {
		return err
	}
	if v != nil && v.Marker {
		c.w.Header().Set("X-Amz-Delete-Marker", "true")
		c.w.Header().Set("X-Amz-Version-Id", v.ID)
	}
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}

func (c *call) deleteMany() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	type id struct {
		Key       string
		VersionId string `xml:",omitempty"`
	}
	var in struct {
		Quiet  bool
		Object []id
	}
	if err := c.summed(&in); err != nil {
		return err
	}
	var out struct {
		XMLName xml.Name `xml:"DeleteResult"`
		Deleted []id
	}
	for _, x := range in.Object {
		if _, err := c.s.remove(b, c.s.folded(x.Key), x.VersionId); err != nil {
			return err
		}
		if !in.Quiet {
			out.Deleted = append(out.Deleted, x)
		}
	}
	return answer(c.w, out)
}

// copySource finds what a copy's source header names.
func (c *call) copySource() (*bucket, *version, error) {
	source, query, _ := strings.Cut(c.r.Header.Get("X-Amz-Copy-Source"), "?versionId=")
	plain, err := url.PathUnescape(strings.TrimPrefix(source, "/"))
	if err != nil {
		return nil, nil, fault(http.StatusBadRequest, "InvalidArgument", "the copy source cannot be read")
	}
	bucketName, key, _ := strings.Cut(plain, "/")
	key = c.s.folded(key)
	b, err := c.s.bucketNamed(bucketName)
	if err != nil {
		return nil, nil, err
	}
	v, err := c.pick(b, key, query)
	if err != nil {
		return nil, nil, err
	}
	if match := c.r.Header.Get("X-Amz-Copy-Source-If-Match"); match != "" && !c.s.has(CopyUnconditional) &&
		!c.s.matches(match, v.ETag) {
		return nil, nil, fault(http.StatusPreconditionFailed, "PreconditionFailed", "the source has changed")
	}
	return b, v, nil
}

func (c *call) copyObject() error {
	to, err := c.openBucket()
	if err != nil {
		return err
	}
	from, src, err := c.copySource()
	if err != nil {
		return err
	}
	if src.cold(time.Now()) {
		return fault(http.StatusForbidden, "InvalidObjectState", "the source is in cold storage")
	}
	body, done, err := from.content(src.Body, src.Size)
	if err != nil {
		return err
	}
	defer done()
	v := c.newVersion()
	if c.r.Header.Get("X-Amz-Metadata-Directive") != "REPLACE" {
		v.Header, v.Meta = src.Header, src.Meta
	}
	if c.r.Header.Get("X-Amz-Tagging-Directive") != "REPLACE" {
		v.Tags = src.Tags
	}
	v.Size, v.ETag, v.Sums = src.Size, src.ETag, src.Sums
	if c.s.has(ListingETags) && !strings.HasPrefix(v.ETag, copied) {
		v.ETag = copied + v.ETag
	}
	if v.Body, err = store(to, body, src.Size, map[string]hash.Hash{}); err != nil {
		return err
	}
	if err := c.place(to, &v); err != nil {
		to.release(v.Body)
		return err
	}
	if v.ID != "null" {
		c.w.Header().Set("X-Amz-Version-Id", v.ID)
	}
	return answer(c.w, struct {
		XMLName           xml.Name `xml:"CopyObjectResult"`
		LastModified      string
		ETag              string
		ChecksumCRC64NVME string `xml:",omitempty"`
		ChecksumType      string `xml:",omitempty"`
	}{LastModified: v.Modified.Format(isoForm), ETag: `"` + v.ETag + `"`, ChecksumCRC64NVME: c.s.told(v.Sums[ownSum]),
		ChecksumType: c.s.told("FULL_OBJECT")})
}

// tagging is a document of tags: "Tagging" in one dialect, "Tags" in the other.
type tagging struct {
	XMLName xml.Name
	TagSet  struct{ Tag []tag }
}

type tag struct{ Key, Value string }

func (c *call) getTags() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	v, err := c.pick(b, c.key, c.query.Get("versionId"))
	if err != nil {
		return err
	}
	out := tagging{XMLName: xml.Name{Local: "Tagging"}}
	if c.s.cfg.blob() {
		out.XMLName.Local = "Tags"
	}
	for name, value := range v.Tags {
		out.TagSet.Tag = append(out.TagSet.Tag, tag{name, value})
	}
	return answer(c.w, out)
}

// putTags answers PutObjectTagging and DeleteObjectTagging.
func (c *call) putTags() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	v, err := c.pick(b, c.key, c.query.Get("versionId"))
	if err != nil {
		return err
	}
	tags := map[string]string{}
	if c.r.Method == http.MethodPut {
		var in tagging
		if err := c.summed(&in); err != nil {
			return err
		}
		for _, t := range in.TagSet.Tag {
			tags[t.Key] = t.Value
		}
	}
	return b.revise(v, func(v *version) { v.Tags = tags })
}

// revise changes what is said of a version, for readers at once.
func (b *bucket) revise(v *version, how func(*version)) error {
	now := *v
	how(&now)
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.commit(change{Revise: &now})
}

// restore answers RestoreObject.
func (c *call) restore() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	v, err := c.pick(b, c.key, c.query.Get("versionId"))
	if err != nil {
		return err
	}
	var in struct {
		Days                 int
		GlacierJobParameters struct{ Tier string }
	}
	if err := c.document(&in); err != nil {
		return err
	}
	switch {
	case !v.cold(time.Now()):
		return fault(http.StatusForbidden, "InvalidObjectState", "the object can be read as it is")
	case time.Now().Before(v.Restored):
		return fault(http.StatusConflict, "RestoreAlreadyInProgress", "a restore is under way")
	case in.Days < 1:
		return fault(http.StatusBadRequest, "InvalidArgument", "Days is 1 or more")
	case !slices.Contains([]string{"", "Standard", "Bulk", "Expedited"}, in.GlacierJobParameters.Tier):
		return fault(http.StatusBadRequest, "MalformedXML", "no such tier")
	case in.GlacierJobParameters.Tier == "Expedited" && v.Class == "DEEP_ARCHIVE":
		return fault(http.StatusBadRequest, "InvalidArgument", "this class has no such tier")
	}
	c.w.WriteHeader(http.StatusAccepted)
	return b.revise(v, func(v *version) {
		v.Restored = time.Now().Add(c.s.cfg.restoreTakes())
		v.Until = v.Restored.AddDate(0, 0, in.Days)
	})
}
