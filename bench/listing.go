package main

import (
	"bytes"
	"context"
	"fmt"
	"iter"
	"net"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	sdk "github.com/aws/aws-sdk-go-v2/service/s3"

	"lumtra/core/listing"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
)

// serve answers on loopback until stop is called.
func serve(h http.Handler) (address string, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	server := &http.Server{Handler: h}
	done := make(chan struct{})
	go func() {
		defer close(done)
		server.Serve(l)
	}()
	return "http://" + l.Addr().String(), func() { server.Close(); <-done }, nil
}

const pageKeys = 1000

// canned gives the same page again and again, ready made but for the page's number in
// each key, so that what is measured is the client.
type canned struct {
	head, tail []byte
	numbers    []int // where in head the page's number stands
	pages      int
}

func newCanned(pages int) *canned {
	var b strings.Builder
	b.WriteString(`<?xml version="1.0" encoding="UTF-8"?><ListBucketResult ` +
		`xmlns="http://s3.amazonaws.com/doc/2006-03-01/"><Name>b</Name><EncodingType>url</EncodingType>`)
	var numbers []int
	for i := range pageKeys {
		numbers = append(numbers, b.Len()+len("<Contents><Key>tiles/"))
		fmt.Fprintf(&b, "<Contents><Key>tiles/0000/%03d/tile-%07d.png</Key><LastModified>"+
			"2026-03-01T04:30:00.000Z</LastModified><ETag>&quot;%032x&quot;</ETag><ChecksumAlgorithm>"+
			"CRC64NVME</ChecksumAlgorithm><Size>%d</Size><StorageClass>STANDARD</StorageClass></Contents>",
			i/40, i, i*7919, 900+i)
	}
	return &canned{[]byte(b.String()), []byte("</ListBucketResult>"), numbers, pages}
}

func (c *canned) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	n := 0
	fmt.Sscan(r.URL.Query().Get("continuation-token"), &n)
	head, page := bytes.Clone(c.head), fmt.Sprintf("%04d", n)
	for _, at := range c.numbers {
		copy(head[at:], page)
	}
	w.Write(head)
	if n+1 < c.pages {
		fmt.Fprintf(w, "<IsTruncated>true</IsTruncated><NextContinuationToken>%d</NextContinuationToken>", n+1)
	} else {
		w.Write([]byte("<IsTruncated>false</IsTruncated>"))
	}
	w.Write(c.tail)
}

func openAt(address string) (*s3.Store, place.Place, error) {
	store, err := s3.NewStore(s3.Config{Name: "bench", Address: address, AccessKey: "bench",
		Secret: secret.New("bench")})
	if err != nil {
		return nil, nil, err
	}
	p, err := store.Open("b")
	return store, p, err
}

// measureListing compares a listing through the S3 place with the SDK's bare
// call on the same pages: a million keys for the one, a tenth for the other.
func measureListing() error {
	var ours, theirs []time.Duration // for a million keys
	var most uint64
	for range rounds {
		address, stop, err := serve(newCanned(1000))
		if err != nil {
			return err
		}
		store, p, err := openAt(address)
		if err != nil {
			return err
		}
		began, n := time.Now(), 0
		for _, err := range p.List(ctx, "", place.ListOptions{}) {
			if err != nil {
				return err
			}
			if n++; n%200_000 == 0 {
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				most = max(most, m.HeapInuse)
			}
		}
		ours = append(ours, time.Since(began))
		store.Close()
		stop()
		if n != 1_000_000 {
			return fmt.Errorf("%d keys came, not a million", n)
		}
		took, err := bareListing(100)
		if err != nil {
			return err
		}
		theirs = append(theirs, 10*took)
	}
	a, b := median(ours), median(theirs)
	fmt.Printf("listing 1,000,000 keys: %.0f thousand keys a second, the SDK's bare call %.0f: %.1f times; at most "+
		"%d MB of heap\n\n",
		1e3/a.Seconds(), 1e3/b.Seconds(), b.Seconds()/a.Seconds(), most>>20)
	return nil
}

func bareListing(pages int) (time.Duration, error) {
	address, stop, err := serve(newCanned(pages))
	if err != nil {
		return 0, err
	}
	defer stop()
	client := sdk.New(sdk.Options{BaseEndpoint: &address, Region: "us-east-1", UsePathStyle: true,
		Credentials: aws.CredentialsProviderFunc(func(context.Context) (aws.Credentials, error) {
			return aws.Credentials{AccessKeyID: "bench", SecretAccessKey: "bench"}, nil
		})})
	began, n := time.Now(), 0
	for p := sdk.NewListObjectsV2Paginator(client,
		&sdk.ListObjectsV2Input{Bucket: aws.String("b")}); p.HasMorePages(); {
		page, err := p.NextPage(ctx)
		if err != nil {
			return 0, err
		}
		n += len(page.Contents)
	}
	if n != pages*pageKeys {
		return 0, fmt.Errorf("%d keys came", n)
	}
	return time.Since(began), nil
}

// far is a store of sorted keys that takes its time for every page.
type far struct {
	keys []string
	wait time.Duration
}

func (f *far) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	time.Sleep(f.wait)
	q := r.URL.Query()
	prefix, shallow := q.Get("prefix"), q.Get("delimiter") != ""
	from := max(q.Get("start-after"), q.Get("continuation-token"))
	i, found := slices.BinarySearch(f.keys, max(from, prefix))
	if found && from >= prefix {
		i++
	}
	buf := append(make([]byte, 0, 200<<10), "<ListBucketResult>"...)
	n, last := 0, ""
	for ; i < len(f.keys) && strings.HasPrefix(f.keys[i], prefix) && n < pageKeys; i++ {
		key := f.keys[i]
		if j := strings.IndexByte(key[len(prefix):], '/'); shallow && j >= 0 {
			group := key[:len(prefix)+j+1]
			i, _ = slices.BinarySearch(f.keys, group+"\xff")
			i--
			if group <= from {
				continue
			}
			buf = fmt.Appendf(buf, "<CommonPrefixes><Prefix>%s</Prefix></CommonPrefixes>", group)
			n, last = n+1, group+"\xff"
			continue
		}
		buf = fmt.Appendf(buf,
			"<Contents><Key>%s</Key><LastModified>2026-03-01T04:30:00.000Z</LastModified><Size>1</Size></Contents>",
			key)
		n, last = n+1, key
	}
	more := i < len(f.keys) && strings.HasPrefix(f.keys[i], prefix)
	buf = fmt.Appendf(buf, "<IsTruncated>%t</IsTruncated>", more)
	if more {
		buf = fmt.Appendf(buf, "<NextContinuationToken>%s</NextContinuationToken>", last)
	}
	w.Write(append(buf, "</ListBucketResult>"...))
}

// measureFarListing compares one listing with many by discovered prefixes, at
// 50 ms a page.
func measureFarListing() error {
	f := &far{wait: 50 * time.Millisecond}
	for i := range 200 {
		for j := range pageKeys {
			f.keys = append(f.keys, fmt.Sprintf("site-%03d/take-%04d.wav", i, j))
		}
	}
	address, stop, err := serve(f)
	if err != nil {
		return err
	}
	defer stop()
	store, p, err := openAt(address)
	if err != nil {
		return err
	}
	defer store.Close()
	const streams = 16
	var took [2]time.Duration
	for i, entries := range []iter.Seq2[object.Entry, error]{p.List(ctx, "", place.ListOptions{}),
		listing.All(ctx, p, "", streams)} {
		began, n := time.Now(), 0
		for _, err := range entries {
			if err != nil {
				return err
			}
			n++
		}
		if took[i] = time.Since(began); n != len(f.keys) {
			return fmt.Errorf("%d keys came, not %d", n, len(f.keys))
		}
	}
	fmt.Printf("listing 200,000 keys in 200 prefixes at 50 ms a page: one stream %.1f s, %d streams %.1f s: %.1f "+
		"times\n\n",
		took[0].Seconds(), streams, took[1].Seconds(), took[0].Seconds()/took[1].Seconds())
	return nil
}
