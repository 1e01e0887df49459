package standin

import (
	"cmp"
	"encoding/base64"
	"encoding/xml"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// The second dialect: enough of the Azure Blob REST API for block blobs, over
// the same buckets on disk and the same faults. A blob's uncommitted blocks
// are kept as an upload whose ID is the blob's name.

const blobAPIVersion = "2021-12-02"

// blobCall is one request of the Blob API, taken apart.
type blobCall struct {
	*call
	account string
}

// serveBlob answers one request of the Blob API. Addresses have the account
// first: "/account/container/blob".
func (s *Server) serveBlob(w http.ResponseWriter, r *http.Request) {
	c := &blobCall{call: &call{s: s, r: r, query: r.URL.Query()}}
	var rest string
	c.account, rest, _ = strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	c.bucket, c.key, _ = strings.Cut(rest, "/")
	asked := c.key
	c.key = s.folded(c.key)
	// One name for what the shared parts call a version.
	for _, name := range []string{"versionid", "snapshot"} {
		if id := c.query.Get(name); id != "" {
			c.query.Set("versionId", id)
		}
	}
	op, handle := c.route()
	s.misbehave(w, r, op, c.key, func(w http.ResponseWriter, r *http.Request) {
		c.w, c.r = w, r
		h := w.Header()
		h.Set("X-Ms-Version", blobAPIVersion)
		h.Set("X-Ms-Request-Id", "standin")
		var err error
		if bad := s.authenticateBlob(r, c.account, c.bucket, asked, op); bad != nil {
			err = bad
		} else if handle == nil {
			err = fault(http.StatusNotImplemented, "NotImplemented", "this stand-in has no such operation")
		} else if err = s.accustom(r, op); err == nil {
			err = handle(c)
		}
		if err != nil {
			writeBlobError(w, r, err)
		}
	})
}

// blobCodes are the S3 codes of shared parts in the Blob API's words.
var blobCodes = map[string]string{
	"NoSuchBucket": "ContainerNotFound", "NoSuchKey": "BlobNotFound", "BadDigest": "Md5Mismatch",
	"PreconditionFailed":      "ConditionNotMet",
	"BucketAlreadyOwnedByYou": "ContainerAlreadyExists", "InvalidBucketName": "InvalidResourceName",
	"SlowDown": "ServerBusy", "IncompleteBody": "InvalidInput",
	"AccessDenied": "AuthorizationPermissionMismatch", "NoSuchVersion": "BlobNotFound",
	"InvalidObjectState": "BlobArchived",
}

func writeBlobError(w http.ResponseWriter, r *http.Request, err error) {
	e := asAPIError(err)
	if code := blobCodes[e.Code]; code != "" {
		e = fault(e.status, code, e.Message)
	}
	w.Header().Set("X-Ms-Error-Code", e.Code)
	e.write(w, r)
}

type blobHandler func(*blobCall) error

func (c *blobCall) route() (string, blobHandler) {
	m, comp := c.r.Method, c.query.Get("comp")
	switch {
	case c.bucket == "" && comp == "list":
		return "ListContainers", (*blobCall).listContainers
	case c.key == "" && c.query.Get("restype") == "container":
		switch {
		case m == http.MethodPut && comp == "":
			return "CreateContainer", (*blobCall).makeContainer
		case m == http.MethodDelete:
			return "DeleteContainer", (*blobCall).removeContainer
		case m == http.MethodGet && comp == "list":
			return "ListBlobs", (*blobCall).listBlobs
		case (m == http.MethodGet || m == http.MethodHead) && comp == "":
			return "GetContainerProperties", (*blobCall).containerProperties
		case m == http.MethodPut && comp == "metadata":
			return "SetContainerMetadata", (*blobCall).setContainerMetadata
		case m == http.MethodGet && comp == "acl":
			return "GetContainerACL", (*blobCall).getContainerACL
		case m == http.MethodPut && comp == "acl":
			return "SetContainerACL", (*blobCall).setContainerACL
		}
	case c.key != "":
		switch {
		case m == http.MethodPut && comp == "block":
			return "PutBlock", (*blobCall).putBlock
		case m == http.MethodPut && comp == "blocklist":
			return "PutBlockList", (*blobCall).putBlockList
		case m == http.MethodGet && comp == "blocklist":
			return "GetBlockList", (*blobCall).getBlockList
		case m == http.MethodPut && comp == "snapshot":
			return "SnapshotBlob", (*blobCall).snapshot
		case m == http.MethodPut && comp == "undelete":
			return "UndeleteBlob", (*blobCall).undelete
		case m == http.MethodPut && comp == "tier":
			return "SetBlobTier", (*blobCall).setTier
		case m == http.MethodPut && comp == "properties":
			return "SetBlobProperties", (*blobCall).setProperties
		case m == http.MethodGet && comp == "tags":
			return "GetBlobTags", func(c *blobCall) error { return c.getTags() }
		case m == http.MethodPut && comp == "tags":
			return "SetBlobTags", (*blobCall).setTags
		case m == http.MethodPut && comp == "metadata":
			return "SetBlobMetadata", (*blobCall).setMetadata
		case m == http.MethodPut && comp == "" && c.r.Header.Get("X-Ms-Copy-Source") != "":
			return "CopyBlob", (*blobCall).copyBlob
		case m == http.MethodPut && comp == "":
			return "PutBlob", (*blobCall).putBlob
		case m == http.MethodGet && comp == "":
			return "GetBlob", (*blobCall).getBlob
		case m == http.MethodHead && comp == "":
			return "GetBlobProperties", (*blobCall).getBlob
		case m == http.MethodDelete && comp == "":
			return "DeleteBlob", (*blobCall).deleteBlob
		}
	}
	return m + " " + comp, nil
}

func (c *blobCall) listContainers() error {
	type line struct {
		Name         string
		LastModified string `xml:"Properties>Last-Modified"`
		Etag         string `xml:"Properties>Etag"`
	}
	var out struct {
		XMLName    xml.Name `xml:"EnumerationResults"`
		Containers []line   `xml:"Containers>Container"`
		NextMarker string
	}
	c.s.mu.RLock()
	for name, b := range c.s.buckets {
		out.Containers = append(out.Containers, line{name, b.made.Format(http.TimeFormat), `"0x1"`})
	}
	c.s.mu.RUnlock()
	slices.SortFunc(out.Containers, func(a, b line) int { return strings.Compare(a.Name, b.Name) })
	return answer(c.w, out)
}

func (c *blobCall) makeContainer() error {
	if err := c.makeBucket(); err != nil {
		return err
	}
	if c.s.cfg.Versions {
		b, err := c.openBucket()
		if err != nil {
			return err
		}
		on := "Enabled"
		b.mu.Lock()
		err = b.commit(change{Versioning: &on})
		b.mu.Unlock()
		if err != nil {
			return err
		}
	}
	c.w.WriteHeader(http.StatusCreated)
	return nil
}

// removeContainer removes a container with all that is in it.
func (c *blobCall) removeContainer() error {
	c.s.mu.Lock()
	defer c.s.mu.Unlock()
	b := c.s.buckets[c.bucket]
	if b == nil {
		return fault(http.StatusNotFound, "ContainerNotFound", "there is no such container")
	}
	if err := c.s.drop(b); err != nil {
		return err
	}
	c.w.WriteHeader(http.StatusAccepted)
	return nil
}

// newBlob is what a request's headers say of the blob it makes.
func (c *blobCall) newBlob() version {
	h := c.r.Header
	v := version{Key: c.key, Modified: c.s.now(), Class: h.Get("X-Ms-Access-Tier"), Header: map[string]string{},
		Meta: map[string]string{}, Sums: map[string]string{}}
	for from, to := range map[string]string{"X-Ms-Blob-Content-Type": "Content-Type",
		"X-Ms-Blob-Content-Encoding": "Content-Encoding", "X-Ms-Blob-Cache-Control": "Cache-Control",
		"X-Ms-Blob-Content-Disposition": "Content-Disposition", "X-Ms-Blob-Content-Language": "Content-Language"} {
		if value := h.Get(from); value != "" {
			v.Header[to] = value
		}
	}
	for name, values := range h {
		if strings.HasPrefix(name, "X-Ms-Meta-") {
			v.Meta[name] = values[0]
		}
	}
	return v
}

// land makes v the blob, if the conditions hold. Every write has a tag of its
// own, as the service's tags are of the write, not of the content.
func (c *blobCall) land(b *bucket, v *version) error {
	v.ETag = newTag()
	err := c.place(b, v)
	if api := asAPIError(err); err != nil && api.status == http.StatusPreconditionFailed &&
		c.r.Header.Get("If-None-Match") == "*" {
		return fault(http.StatusConflict, "BlobAlreadyExists", "there is a blob of this name")
	}
	return err
}

func (c *blobCall) made(v *version, status int) error {
	h := c.w.Header()
	h.Set("ETag", `"`+v.ETag+`"`)
	h.Set("Last-Modified", v.Modified.Format(http.TimeFormat))
	if v.ID != "null" {
		h.Set("X-Ms-Version-Id", v.ID)
	}
	c.w.WriteHeader(status)
	return nil
}

func (c *blobCall) putBlob() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	got, err := c.s.receive(b, c.r)
	if err != nil {
		return err
	}
	v := c.newBlob()
	v.Size, v.Body = got.size, got.body
	if md5 := c.r.Header.Get("Content-Md5"); md5 != "" {
		v.Sums["Content-Md5"] = md5 // receive has held the content against it
	}
	if err := c.land(b, &v); err != nil {
		b.release(got.body)
		return err
	}
	if err := b.dropBlocks(c.key); err != nil {
		return err
	}
	return c.made(&v, http.StatusCreated)
}

// dropBlocks forgets a blob's uncommitted blocks.
func (b *bucket) dropBlocks(key string, but ...string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	up := b.uploads[key]
	if up == nil {
		return nil
	}
	for _, p := range up.Parts {
		if !slices.Contains(but, p.ETag) {
			b.release(p.Body)
		}
	}
	return b.commit(change{End: &key})
}

func (c *blobCall) putBlock() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	id := c.query.Get("blockid")
	if raw, err := base64.StdEncoding.DecodeString(id); err != nil || len(raw) == 0 || len(raw) > 64 {
		return fault(http.StatusBadRequest, "InvalidQueryParameterValue", "the block ID is not base64 of 1 to 64 bytes")
	}
	got, err := c.s.receive(b, c.r)
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	up := b.uploads[c.key]
	if up == nil {
		up = &upload{ID: c.key, Object: version{Key: c.key, Modified: c.s.now()}}
		if err := b.commit(change{Begin: up}); err != nil {
			return err
		}
		up = b.uploads[c.key]
	}
	number := len(up.Parts) + 1
	for _, p := range up.Parts {
		if p.ETag == id { // the same block again
			number = p.Number
			b.release(p.Body)
		}
	}
	if err := b.commit(change{Part: &partOf{c.key, part{number, got.size, id, c.s.now(), got.sums,
		got.body}}}); err != nil {
		return err
	}
	c.w.WriteHeader(http.StatusCreated)
	return nil
}

func (c *blobCall) putBlockList() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	var in struct {
		Latest      []string
		Uncommitted []string
	}
	if err := c.document(&in); err != nil {
		return err
	}
	ids := append(in.Latest, in.Uncommitted...)
	v := c.newBlob()
	b.mu.RLock()
	blocks := map[string]*part{}
	if up := b.uploads[c.key]; up != nil {
		for _, p := range up.Parts {
			blocks[p.ETag] = p
		}
	}
	b.mu.RUnlock()
	for _, id := range ids {
		p := blocks[id]
		if p == nil {
			return fault(http.StatusBadRequest, "InvalidBlockList", "the list names a block that is not there")
		}
		v.Size += p.Size
		v.Body = append(v.Body, p.Body...)
	}
	if err := c.land(b, &v); err != nil {
		return err
	}
	if err := b.dropBlocks(c.key, ids...); err != nil {
		return err
	}
	if c.s.has(JoinSilent) {
		c.w.WriteHeader(http.StatusCreated)
		return nil
	}
	return c.made(&v, http.StatusCreated)
}

func (c *blobCall) getBlockList() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	type block struct {
		Name string
		Size int64
	}
	var out struct {
		XMLName     xml.Name `xml:"BlockList"`
		Committed   []block  `xml:"CommittedBlocks>Block"`
		Uncommitted []block  `xml:"UncommittedBlocks>Block"`
	}
	b.mu.RLock()
	defer b.mu.RUnlock()
	up := b.uploads[c.key]
	if up == nil && b.find(c.key, "") == nil {
		return fault(http.StatusNotFound, "BlobNotFound", "there is no such blob, nor blocks of one")
	}
	if up != nil {
		for _, p := range up.Parts {
			out.Uncommitted = append(out.Uncommitted, block{p.ETag, p.Size})
		}
	}
	slices.SortFunc(out.Uncommitted, func(a, b block) int { return strings.Compare(a.Name, b.Name) })
	return answer(c.w, out)
}

// getBlob answers Get Blob and Get Blob Properties; ranges and conditions are
// net/http's work.
func (c *blobCall) getBlob() error {
	v, body, done, err := c.open(c.query.Get("versionId"))
	if err != nil {
		return asConflict(err)
	}
	defer done()
	h := c.w.Header()
	if v.ID != "null" && v.Snapshot == "" {
		h.Set("X-Ms-Version-Id", v.ID)
	}
	h.Set("ETag", `"`+v.ETag+`"`)
	h.Set("Content-Type", "application/octet-stream")
	for name, value := range v.Header {
		h.Set(name, value)
	}
	for name, value := range v.Meta {
		h.Set(name, value)
	}
	if tier := v.tier(); tier != "" {
		h.Set("X-Ms-Access-Tier", tier)
	}
	if status := v.archiveStatus(); status != "" {
		h.Set("X-Ms-Archive-Status", status)
	}
	if len(v.Tags) > 0 {
		h.Set("X-Ms-Tag-Count", strconv.Itoa(len(v.Tags)))
	}
	if span := c.r.Header.Get("X-Ms-Range"); span != "" {
		c.r.Header.Set("Range", span)
	}
	if err := c.s.rangeOf(c.w, c.r, v); err != nil {
		return err
	}
	if md5 := v.Sums["Content-Md5"]; md5 != "" {
		if c.r.Header.Get("Range") == "" {
			h.Set("Content-Md5", md5)
		} else {
			h.Set("X-Ms-Blob-Content-Md5", md5)
		}
	}
	h.Set("X-Ms-Blob-Type", "BlockBlob")
	h.Set("X-Ms-Copy-Status", "success")
	http.ServeContent(&codedWriter{ResponseWriter: c.w}, c.r, "", v.Modified, body)
	return nil
}

// codedWriter adds the API's code to the statuses net/http answers with.
type codedWriter struct{ http.ResponseWriter }

func (w *codedWriter) WriteHeader(status int) {
	switch status {
	case http.StatusPreconditionFailed:
		w.Header().Set("X-Ms-Error-Code", "ConditionNotMet")
	case http.StatusRequestedRangeNotSatisfiable:
		w.Header().Set("X-Ms-Error-Code", "InvalidRange")
	}
	w.ResponseWriter.WriteHeader(status)
}

// copyBlob copies within the account, at once.
func (c *blobCall) copyBlob() error {
	to, err := c.openBucket()
	if err != nil {
		return err
	}
	source, err := url.Parse(c.r.Header.Get("X-Ms-Copy-Source"))
	if err != nil {
		return fault(http.StatusBadRequest, "InvalidHeaderValue", "the copy source cannot be read")
	}
	_, path, _ := strings.Cut(strings.TrimPrefix(source.Path, "/"), "/")
	name, key, _ := strings.Cut(path, "/")
	key = c.s.folded(key)
	from, err := c.s.bucketNamed(name)
	if err != nil {
		return err
	}
	src, err := c.pick(from, key, cmp.Or(source.Query().Get("versionid"), source.Query().Get("snapshot")))
	if err != nil {
		return fault(http.StatusNotFound, "CannotVerifyCopySource", "the copy source is not there")
	}
	if match := c.r.Header.Get("X-Ms-Source-If-Match"); match != "" && strings.Trim(match, `"`) != src.ETag {
		return fault(http.StatusPreconditionFailed, "SourceConditionNotMet", "the source has changed")
	}
	body, done, err := from.content(src.Body, src.Size)
	if err != nil {
		return err
	}
	defer done()
	if src.cold(time.Now()) {
		return fault(http.StatusConflict, "BlobArchived", "the source is in the archive tier")
	}
	v := *src
	v.Key, v.Modified, v.Snapshot, v.Removed = c.key, c.s.now(), "", false
	if v.Body, err = store(to, body, src.Size, nil); err != nil {
		return err
	}
	if err := c.land(to, &v); err != nil {
		to.release(v.Body)
		return err
	}
	c.w.Header().Set("X-Ms-Copy-Status", "success")
	c.w.Header().Set("X-Ms-Copy-Id", "standin")
	return c.made(&v, http.StatusAccepted)
}
