package s3

import (
	"bytes"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/object"
	"lumtra/testkit"
)

// A page as encoding/xml would write it, to hold the scanner against.
type xmlPage struct {
	XMLName               xml.Name `xml:"ListBucketResult"`
	Name                  string
	EncodingType          string `xml:",omitempty"`
	IsTruncated           bool
	NextContinuationToken string `xml:",omitempty"`
	Contents              []xmlEntry
	CommonPrefixes        []struct{ Prefix string }
}

type xmlEntry struct {
	Key, LastModified, ETag string
	ChecksumAlgorithm       string `xml:",omitempty"`
	Size                    int64
	Owner                   *struct{ ID, DisplayName string } `xml:",omitempty"`
	StorageClass            string
}

func TestScanPageReadsWhatXMLWrites(t *testing.T) {
	testkit.Check(t, func(t *rapid.T) {
		encoded := rapid.Bool().Draw(t, "encoded")
		key := rapid.StringMatching(`[a-z &<>"'/%+é鳥-]{1,12}`)
		doc := xmlPage{Name: "b"}
		encode := func(s string) string { return s }
		if encoded {
			doc.EncodingType, encode = "url", url.QueryEscape
		}
		var want []object.Entry
		for range rapid.IntRange(0, 8).Draw(t, "n") {
			k := key.Draw(t, "key")
			e := object.Entry{Key: k, Latest: true, Size: rapid.Int64Range(0, 5<<40).Draw(t, "size"),
				Modified: time.UnixMilli(rapid.Int64Range(0, 4e12).Draw(t, "time")).UTC(),
				ETag:     rapid.StringMatching(`[0-9a-f]{4}(-[0-9])?`).Draw(t, "etag"),
				Class:    rapid.SampledFrom([]string{"", "COLD"}).Draw(t, "class")}
			want = append(want, e)
			x := xmlEntry{Key: encode(k), LastModified: e.Modified.Format("2006-01-02T15:04:05.000Z"), ETag: `"` +
				e.ETag + `"`, Size: e.Size, StorageClass: e.Class}
			if e.Class == "" {
				x.StorageClass = "STANDARD"
			}
			if rapid.Bool().Draw(t, "owner") {
				x.Owner = &struct{ ID, DisplayName string }{"Key", "Size"}
				x.ChecksumAlgorithm = "CRC64NVME"
			}
			doc.Contents = append(doc.Contents, x)
		}
		for range rapid.IntRange(0, 2).Draw(t, "groups") {
			k := key.Draw(t, "group") + "/"
			want = append(want, object.Entry{Key: k, Kind: object.Prefix})
			doc.CommonPrefixes = append(doc.CommonPrefixes, struct{ Prefix string }{encode(k)})
		}
		if doc.IsTruncated = rapid.Bool().Draw(t, "more"); doc.IsTruncated {
			doc.NextContinuationToken = "to&ken=="
		}
		raw, err := xml.Marshal(doc)
		require.NoError(t, err)
		got, err := scanPage(raw)
		require.NoError(t, err)
		if len(doc.CommonPrefixes) > 0 {
			for _, list := range [][]object.Entry{want, got.entries} {
				slices.SortFunc(list, func(a, b object.Entry) int {
					return strings.Compare(a.Key+fmt.Sprint(a.Kind, a.Size, a.Modified, a.ETag),
						b.Key+fmt.Sprint(b.Kind, b.Size, b.Modified, b.ETag))
				})
			}
		}
		require.Equal(t, want, got.entries)
		require.Equal(t, doc.NextContinuationToken, got.next)
		// Cut anywhere, it is an error and never a shorter listing.
		_, err = scanPage(raw[:rapid.IntRange(0, len(raw)-2).Draw(t, "cut")])
		require.Error(t, err)
	})
}

func FuzzScanPage(f *testing.F) {
	f.Add([]byte(`<ListBucketResult><Contents><Key>a&#x1b;</Key><Size>1</Size></Contents></ListBucketResult>`))
	f.Add([]byte(`<ListBucketResult><Contents><Key`))
	f.Fuzz(func(t *testing.T, doc []byte) {
		pg, err := scanPage(doc)
		if err == nil && !bytes.Contains(doc, []byte("</ListBucketResult>")) {
			t.Fatal("a document without an end passed", pg)
		}
	})
}

// unchunk reads the aws-chunked coding, strictly.
func unchunk(t require.TestingT, raw []byte) (content []byte, trailer string) {
	for {
		line, rest, ok := bytes.Cut(raw, []byte("\r\n"))
		require.True(t, ok)
		var size int
		_, err := fmt.Sscanf(string(line), "%x", &size)
		require.NoError(t, err)
		raw = rest
		if size == 0 {
			text, ok := strings.CutSuffix(string(raw), "\r\n\r\n")
			require.True(t, ok)
			return content, text
		}
		content = append(content, raw[:size]...)
		require.Equal(t, "\r\n", string(raw[size:size+2]))
		raw = raw[size+2:]
	}
}

func TestTrailingCoding(t *testing.T) {
	for _, size := range []int{0, 1, chunk - 1, chunk, chunk + 1, 3*chunk + 7} {
		data := bytes.Repeat([]byte("marsh"), size/5+1)[:size]
		for name, body := range map[string]io.Reader{"whole": bytes.NewReader(data),
			"halves":        iotest.HalfReader(bytes.NewReader(data)),
			"data with end": iotest.DataErrReader(bytes.NewReader(data))} {
			coded := newTrailing(body, int64(size))
			raw, err := io.ReadAll(coded)
			require.NoError(t, err, name)
			assert.EqualValues(t, coded.length(), len(raw), "the length announced is the length sent")
			content, trailer := unchunk(t, raw)
			assert.True(t, bytes.Equal(data, content))
			h := sumKind.New()
			h.Write(data)
			assert.Equal(t, trailerName+":"+base64.StdEncoding.EncodeToString(h.Sum(nil)), trailer)
		}
		for _, wrong := range []io.Reader{bytes.NewReader(append(data, 'x')),
			bytes.NewReader(bytes.Repeat([]byte("x"), 2*size+1)), iotest.ErrReader(io.ErrNoProgress)} {
			_, err := io.ReadAll(newTrailing(wrong, int64(size)))
			assert.Error(t, err, "a body that does not end where it said")
		}
	}
	broken := errors.New("the tide came in")
	_, err := io.ReadAll(newTrailing(io.MultiReader(strings.NewReader("abc"), iotest.ErrReader(broken)), 3))
	assert.ErrorIs(t, err, broken, "trouble told at the very end is heard")
}
