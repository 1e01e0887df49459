package standin

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
)

// bucketSettings are documents that belong to a bucket and not to its objects. The stand-in
// keeps them as they were sent and does nothing by them: whoever has no key is let in or not
// as it was started. Each has the code of what is not there.
var bucketSettings = map[string]struct{ name, missing string }{
	"tagging":           {"BucketTagging", "NoSuchTagSet"},
	"policy":            {"BucketPolicy", "NoSuchBucketPolicy"},
	"publicAccessBlock": {"PublicAccessBlock", "NoSuchPublicAccessBlockConfiguration"},
	"acl":               {"BucketAcl", ""},
}

// privateACL is what a bucket has that nobody gave another.
const privateACL = `<AccessControlPolicy xmlns="http://s3.amazonaws.com/doc/2006-03-01/">` +
	`<Owner><ID>standin</ID></Owner><AccessControlList><Grant>` +
	`<Grantee xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:type="CanonicalUser"><ID>standin</ID>` +
	`</Grantee>` +
	`<Permission>FULL_CONTROL</Permission></Grant></AccessControlList></AccessControlPolicy>`

// setting names the operation on a document of the bucket; "" for other requests.
func (c *call) setting() string {
	verb := map[string]string{http.MethodGet: "Get", http.MethodPut: "Put", http.MethodDelete: "Delete"}[c.r.Method]
	for query, s := range bucketSettings {
		if verb != "" && c.query.Has(query) {
			return verb + s.name
		}
	}
	return ""
}

// bucketSetting gives, keeps or takes away a document of the bucket.
func (c *call) bucketSetting() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	name := ""
	for query := range bucketSettings {
		if c.query.Has(query) {
			name = query
		}
	}
	switch c.r.Method {
	case http.MethodPut:
		raw, err := io.ReadAll(io.LimitReader(c.r.Body, 1<<20))
		if err != nil {
			return fault(http.StatusBadRequest, "IncompleteBody", "the document broke off")
		}
		return b.set(name, string(raw))
	case http.MethodDelete:
		c.w.WriteHeader(http.StatusNoContent)
		return b.set(name, "")
	}
	text := b.setting(name)
	if text == "" && name == "acl" {
		text = privateACL
	}
	if text == "" {
		return fault(http.StatusNotFound, bucketSettings[name].missing, "the bucket has none")
	}
	c.w.Header().Set("Content-Type", "application/xml")
	_, err = io.WriteString(c.w, text)
	return err
}

func (b *bucket) set(name, text string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.commit(change{Setting: &[2]string{name, text}})
}

func (b *bucket) setting(name string) string {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return b.settings[name]
}

// containerProperties tells of a container, with its metadata.
func (c *blobCall) containerProperties() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	var metadata map[string]string
	if text := b.setting("metadata"); text != "" {
		if err := json.Unmarshal([]byte(text), &metadata); err != nil {
			return err
		}
	}
	for name, value := range metadata {
		c.w.Header()["x-ms-meta-"+name] = []string{value}
	}
	if public := b.setting("public"); public != "" {
		c.w.Header().Set("X-Ms-Blob-Public-Access", public)
	}
	return c.headBucket()
}

// setContainerMetadata replaces a container's metadata (Set Container Metadata).
func (c *blobCall) setContainerMetadata() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	metadata := map[string]string{}
	for name, values := range c.r.Header {
		if name, ok := strings.CutPrefix(strings.ToLower(name), "x-ms-meta-"); ok {
			metadata[name] = values[0]
		}
	}
	text, err := json.Marshal(metadata)
	if err != nil {
		return err
	}
	return b.set("metadata", string(text))
}

// getContainerACL tells what anybody may do, and the container's policies (Get Container ACL).
func (c *blobCall) getContainerACL() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	if public := b.setting("public"); public != "" {
		c.w.Header().Set("X-Ms-Blob-Public-Access", public)
	}
	text := b.setting("policies")
	if text == "" {
		text = "<SignedIdentifiers></SignedIdentifiers>"
	}
	c.w.Header().Set("Content-Type", "application/xml")
	_, err = io.WriteString(c.w, text)
	return err
}

// setContainerACL replaces both (Set Container ACL).
func (c *blobCall) setContainerACL() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	raw, err := io.ReadAll(io.LimitReader(c.r.Body, 1<<20))
	if err != nil {
		return fault(http.StatusBadRequest, "InvalidInput", "the document broke off")
	}
	if err := b.set("policies", string(raw)); err != nil {
		return err
	}
	return b.set("public", c.r.Header.Get("X-Ms-Blob-Public-Access"))
}
