package probe_test

import (
	"context"
	"encoding/base64"
	"io"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/blob"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
	"lumtra/testkit"
)

// parrot answers whatever it is asked with the same words, so that a listing is read as a
// document, an object and a failure alike. Only the first pages of a listing are given:
// one that has no end is another test's.
type parrot struct {
	code  int
	body  []byte
	asked atomic.Int64
}

func (p *parrot) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	if p.asked.Add(1) > 40 {
		w.WriteHeader(http.StatusForbidden)
		return
	}
	w.Header().Set("Content-Type", "application/xml")
	w.Header().Set("X-Ms-Error-Code", string(p.body[:min(len(p.body), 20)]))
	w.Header().Set("Last-Modified", "Sun, 01 Mar 2026 04:30:00 GMT")
	w.WriteHeader(p.code)
	w.Write(p.body)
}

// Whatever a server says, whatever it is taken for, a place comes to an end with an error
// or with what it could read, and what it lists can be held in a catalog: keys that are
// not empty, sizes that are not below nothing.
func FuzzAnswers(f *testing.F) {
	for _, body := range []string{
		`<?xml version="1.0"?><ListBucketResult><Contents><Key>a</Key><Size>1</Size><LastModified>` +
			`2026-03-01T04:30:00.000Z</LastModified></Contents><IsTruncated>true</IsTruncated>` +
			`<NextContinuationToken>t</NextContinuationToken></ListBucketResult>`,
		`<?xml version="1.0"?><EnumerationResults><Blobs><Blob><Name>a</Name><Properties><Content-Length>` +
			`1</Content-Length><Last-Modified>Sun, 01 Mar 2026 04:30:00 GMT</Last-Modified><Etag>x</Etag>` +
			`</Properties></Blob></Blobs><NextMarker>m</NextMarker></EnumerationResults>`,
		`<ListVersionsResult><Version><Key>a</Key><VersionId>1</VersionId><IsLatest>true</IsLatest><Size>-1</Size>` +
			`</Version><DeleteMarker><Key/></DeleteMarker></ListVersionsResult>`,
		`<Error><Code>SlowDown</Code><Message>` + "\x1b[2J" + `</Message></Error>`,
		`<BlockList><UncommittedBlocks><Block><Name>====</Name></Block></UncommittedBlocks></BlockList>`,
		`<InitiateMultipartUploadResult><UploadId></UploadId></InitiateMultipartUploadResult>`,
		`<Tagging><TagSet><Tag/></TagSet></Tagging>`, "\x00", "",
	} {
		f.Add(uint16(200), []byte(body))
		f.Add(uint16(404), []byte(body))
	}
	key := base64.StdEncoding.EncodeToString([]byte("eelgrass"))
	said := &parrot{}
	server := httptest.NewServer(said)
	f.Cleanup(server.Close)
	once := place.NewKnown(place.Facts{}, nil)
	north, err := s3.NewStore(s3.Config{Name: "north", Address: server.URL, AccessKey: "marsh",
		Secret: secret.New(key), Known: once})
	require.NoError(f, err)
	f.Cleanup(func() { north.Close() })
	south, err := blob.NewStore(blob.Config{Name: "south", Address: server.URL + "/marsh", Account: "marsh",
		Key: secret.New(key), Known: once})
	require.NoError(f, err)
	f.Cleanup(func() { south.Close() })
	f.Fuzz(func(t *testing.T, code uint16, body []byte) {
		codes := []int{200, 206, 204, 404, 403, 409, 412, 400}
		said.code, said.body = codes[int(code)%len(codes)], body
		ctx, cancel := context.WithTimeout(context.Background(), testkit.Patience)
		defer cancel()
		for _, end := range []place.Endpoint{north, south} {
			said.asked.Store(0)
			p, err := end.Open("archive/below")
			require.NoError(t, err)
			listed := func(e object.Entry, err error) {
				if err == nil {
					require.NotEmpty(t, e.Key)
					require.GreaterOrEqual(t, e.Size, int64(0))
				}
			}
			for e, err := range p.List(ctx, "", place.ListOptions{}) {
				listed(e, err)
			}
			if v, ok := p.(place.Versioned); ok {
				for e, err := range v.Versions(ctx, "", false) {
					listed(e, err)
				}
			}
			if b, ok := end.(place.Buckets); ok {
				b.Buckets(ctx)
			}
			if e, err := p.Stat(ctx, object.Ref{Key: "a"}); err == nil {
				listed(e, nil)
			}
			if r, _, err := p.Read(ctx, "a", place.ReadOptions{}); err == nil {
				io.Copy(io.Discard, io.LimitReader(r, 1<<20))
				r.Close()
			}
			if w, ok := p.(place.PartWriter); ok {
				w.Uploads(ctx)
				w.Parts(ctx, place.Upload{Key: "a", ID: "u"})
			}
			if tags, ok := p.(place.Tagger); ok {
				tags.Tags(ctx, object.Ref{Key: "a"})
			}
			require.NoError(t, ctx.Err(), "it did not come to an end")
		}
	})
}
