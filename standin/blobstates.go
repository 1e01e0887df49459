package standin

import (
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
)

// States of blobs in the second dialect: versions, snapshots, what is removed
// but kept, tiers and tags.

// asConflict gives an archived blob the status this API has for it.
func asConflict(err error) error {
	if api := asAPIError(err); api != nil && api.Code == "InvalidObjectState" {
		return fault(http.StatusConflict, "BlobArchived", api.Message)
	}
	return err
}

// archiveStatus tells of a restore under way.
func (v *version) archiveStatus() string {
	if v.Class == "Archive" && time.Now().Before(v.Restored) {
		return "rehydrate-pending-to-hot"
	}
	return ""
}

// tier is the class a blob is in now: one brought back is hot.
func (v *version) tier() string {
	if v.Class == "Archive" && !v.cold(time.Now()) {
		return "Hot"
	}
	return v.Class
}

// newTag names a state: of the write, not of the content.
func newTag() string { return "0x" + strings.ToUpper(strconv.FormatInt(time.Now().UnixNano(), 16)) }

// rewrite makes another state of the blob with the same content, if the
// conditions hold.
func (c *blobCall) rewrite(how func(*version)) error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	old, err := c.pick(b, c.key, "")
	if err != nil {
		return err
	}
	if err := c.conditions(old); err != nil {
		return err
	}
	v := *old
	how(&v)
	v.Modified, v.ETag = c.s.now(), newTag()
	if err := b.revise(&v, func(*version) {}); err != nil {
		return err
	}
	return c.made(&v, http.StatusOK)
}

func (c *blobCall) setProperties() error {
	return c.rewrite(func(v *version) { v.Header = c.newBlob().Header })
}

func (c *blobCall) setMetadata() error {
	return c.rewrite(func(v *version) { v.Meta = c.newBlob().Meta })
}

func (c *blobCall) setTags() error {
	if err := c.putTags(); err != nil {
		return err
	}
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}

// snapshot answers Snapshot Blob: the state as it is, kept behind the blob.
func (c *blobCall) snapshot() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	v, err := c.pick(b, c.key, "")
	if err != nil {
		return err
	}
	kept := *v
	kept.Snapshot = time.Now().UTC().Format(versionTime)
	kept.ID = kept.Snapshot
	// Content is shared by extents, which are released one by one: a snapshot
	// needs its own.
	body, done, err := b.content(v.Body, v.Size)
	if err != nil {
		return err
	}
	defer done()
	if kept.Body, err = store(b, body, v.Size, nil); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := b.commit(change{Put: &kept}); err != nil {
		return err
	}
	c.w.Header().Set("X-Ms-Snapshot", kept.Snapshot)
	return c.made(v, http.StatusCreated)
}

// deleteBlob answers Delete Blob for a blob, a version or a snapshot.
func (c *blobCall) deleteBlob() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	id := c.query.Get("versionId")
	v, err := c.pick(b, c.key, id)
	if err != nil {
		return err
	}
	if err := c.conditions(v); err != nil {
		return err
	}
	if id == "" {
		if err := c.deleteSnapshots(b); err != nil {
			return err
		}
	}
	if id == "" && c.s.cfg.Retain && b.versioning == "" {
		err = b.revise(v, func(v *version) { v.Removed = true })
	} else {
		_, err = c.s.remove(b, c.key, id)
	}
	if err != nil {
		return err
	}
	c.w.WriteHeader(http.StatusAccepted)
	return nil
}

// deleteSnapshots removes a blob's snapshots, if the request says that it may.
func (c *blobCall) deleteSnapshots(b *bucket) error {
	b.mu.RLock()
	stack := b.stack(c.key)
	b.mu.RUnlock()
	for _, v := range stack {
		if v.Snapshot == "" {
			continue
		}
		if c.r.Header.Get("X-Ms-Delete-Snapshots") != "include" {
			return fault(http.StatusConflict, "SnapshotsPresent", "the blob has snapshots")
		}
		if _, err := c.s.remove(b, c.key, v.ID); err != nil {
			return err
		}
	}
	return nil
}

// undelete answers Undelete Blob; a blob that is there is left as it is.
func (c *blobCall) undelete() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	b.mu.RLock()
	v := b.find(c.key, "")
	b.mu.RUnlock()
	if v == nil {
		return fault(http.StatusNotFound, "BlobNotFound", "nothing is kept of this blob")
	}
	if !v.Removed {
		return nil
	}
	return b.revise(v, func(v *version) { v.Removed = false })
}

// setTier answers Set Blob Tier; out of the archive tier takes its time.
func (c *blobCall) setTier() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	v, err := c.pick(b, c.key, c.query.Get("versionId"))
	if err != nil {
		return err
	}
	tier := c.r.Header.Get("X-Ms-Access-Tier")
	switch {
	case v.archiveStatus() != "":
		return fault(http.StatusConflict, "BlobBeingRehydrated", "the blob is on its way out of the archive tier")
	case !slices.Contains([]string{"", "Standard", "High"}, c.r.Header.Get("X-Ms-Rehydrate-Priority")):
		return fault(http.StatusBadRequest, "InvalidHeaderValue", "no such priority")
	case v.Class == "Archive" && v.cold(time.Now()):
		c.w.WriteHeader(http.StatusAccepted)
		return b.revise(v, func(v *version) { v.Restored = time.Now().Add(c.s.cfg.restoreTakes()) })
	}
	return b.revise(v, func(v *version) { v.Class, v.Restored = tier, time.Time{} })
}
