package standin

import (
	"encoding/base64"
	"encoding/xml"
	"net/http"
	"slices"
	"strconv"
	"strings"
)

// blobLine is one blob, or one of its states, in a listing.
type blobLine struct {
	Name             string
	Deleted          bool           `xml:",omitempty"`
	Snapshot         string         `xml:",omitempty"`
	VersionId        string         `xml:",omitempty"`
	IsCurrentVersion bool           `xml:",omitempty"`
	Props            blobProperties `xml:"Properties"`
}

type blobProperties struct {
	LastModified  string `xml:"Last-Modified"`
	Etag          string
	ContentLength int64  `xml:"Content-Length"`
	ContentType   string `xml:"Content-Type"`
	ContentMD5    string `xml:"Content-MD5"`
	BlobType      string
	AccessTier    string `xml:",omitempty"`
	ArchiveStatus string `xml:",omitempty"`
}

func lineOf(v *version, current bool) blobLine {
	l := blobLine{Name: v.Key, Deleted: v.Removed, Snapshot: v.Snapshot,
		Props: blobProperties{v.Modified.Format(http.TimeFormat), v.ETag, v.Size,
			v.Header["Content-Type"], v.Sums["Content-Md5"], "BlockBlob", v.tier(), v.archiveStatus()}}
	if v.Snapshot == "" && v.ID != "null" {
		l.VersionId, l.IsCurrentVersion = v.ID, current
	}
	return l
}

// states are the lines of one key in a listing that includes so much: oldest
// first, as the service has them.
func states(stack []*version, include string) []blobLine {
	var lines []blobLine
	for i, v := range slices.Backward(stack) {
		current := i == 0 && !v.gone()
		switch {
		case v.Marker,
			v.Removed && !strings.Contains(include, "deleted"),
			v.Snapshot != "" && !strings.Contains(include, "snapshots"),
			v.Snapshot == "" && !current && !v.Removed && !strings.Contains(include, "versions"):
			continue
		}
		lines = append(lines, lineOf(v, current))
	}
	return lines
}

// listBlobs answers List Blobs. All states of one blob come on one page.
func (c *blobCall) listBlobs() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	type group struct{ Name string }
	var out struct {
		XMLName    xml.Name   `xml:"EnumerationResults"`
		Blobs      []blobLine `xml:"Blobs>Blob"`
		Prefixes   []group    `xml:"Blobs>BlobPrefix"`
		NextMarker string
	}
	include := c.query.Get("include")
	sp := span{prefix: c.query.Get("prefix"), delimiter: c.query.Get("delimiter"), max: 5000, markers: include != ""}
	if n, err := strconv.Atoi(c.query.Get("maxresults")); err == nil && n > 0 {
		sp.max = min(n, 5000)
	}
	if raw, err := base64.RawURLEncoding.DecodeString(c.query.Get("marker")); err == nil {
		sp.after = string(raw)
	}
	n, last := 0, ""
	b.mu.RLock()
	b.walk(sp, func(key, prefix string, stack []*version) bool {
		lines := states(stack, include)
		if key != "" && len(lines) == 0 {
			return true
		}
		if n >= sp.max {
			out.NextMarker = base64.RawURLEncoding.EncodeToString([]byte(last))
			return false
		}
		n += max(len(lines), 1)
		if last = key + prefix; prefix != "" {
			out.Prefixes = append(out.Prefixes, group{prefix})
		} else {
			out.Blobs = append(out.Blobs, lines...)
		}
		return true
	})
	if strings.Contains(include, "uncommittedblobs") {
		for key, up := range b.uploads {
			if strings.HasPrefix(key, sp.prefix) && b.find(key, "").gone() {
				out.Blobs = append(out.Blobs,
					blobLine{Name: key,
						Props: blobProperties{LastModified: up.Object.Modified.Format(http.TimeFormat),
							BlobType: "BlockBlob"}})
			}
		}
		slices.SortStableFunc(out.Blobs, func(a, b blobLine) int { return strings.Compare(a.Name, b.Name) })
	}
	b.mu.RUnlock()
	return answer(c.w, out)
}
