package s3_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lumtra/core/place"
	"lumtra/core/place/placetest"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
)

// TestInterop runs the suite against the real servers that `make interop` starts,
// in the ways that a test found them to take.
func TestInterop(t *testing.T) {
	for _, srv := range placetest.Servers("S3") {
		t.Run(srv.Name, func(t *testing.T) {
			known := place.NewKnown(place.Facts{}, nil)
			store, err := s3.NewStore(s3.Config{Name: srv.Name, Address: srv.Address, AccessKey: srv.Access,
				Secret: secret.New(srv.Secret), Known: known})
			require.NoError(t, err)
			defer store.Close()
			facts, err := fresh(t, store, "masters/2026").(*s3.Place).Examine(ctx, "probe/")
			require.NoError(t, err)
			for _, a := range facts.Told() {
				if facts.Answers[a] != place.Works {
					t.Logf("%s %s: %s", facts.Server, a, facts.Answers[a])
				}
			}
			for c, is := range facts.Names {
				if is != place.Works {
					t.Logf("%s names with %s: %s", facts.Server, c, is)
				}
			}
			known.Replace(facts)
			opts := placetest.Options{Versioned: func(t *testing.T) place.Place { return keeping(t, store) }}
			opts.UploadsByKey = known.Lacks(place.UploadsListed)
			mangles := lacking[srv.Name]
			opts.Mangles = func(key string) bool {
				return known.HeldName(key) != "" || mangles != nil && mangles(key)
			}
			placetest.Buckets(t, store, "belongs-to-it", func(what string) bool { return bucketLacks[srv.Name][what] })
			placetest.Run(t, func(t *testing.T) place.Place { return fresh(t, store, "masters/2026") }, opts)
		})
	}
}

// bucketLacks is what real servers are known not to do with a bucket itself.
var bucketLacks = map[string]map[string]bool{}

// lacking are the names that real servers are known not to keep, beside what a test
// finds.
var lacking = map[string]func(key string) bool{
	"versitygw": fileNames,
	"ceph":      func(key string) bool { return strings.Contains(key, "\x00") },
	// It keeps objects as folders of files, too.
	"minio": func(key string) bool {
		return strings.HasSuffix(key, "/") || strings.Contains(key, "\x00") ||
			slices.ContainsFunc(strings.Split(key, "/"), func(part string) bool { return len(part) > 255 })
	},
}

// fileNames tells keys that a server which keeps objects as files cannot hold
// as they are: it joins parts as paths, and its listings, being XML without
// the encoding that was asked for, have no way to write most control bytes.
func fileNames(key string) bool {
	if strings.ContainsFunc(key, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' }) {
		return true
	}
	for _, part := range strings.Split(key, "/") {
		if part == "" || part == "." || part == ".." || len(part) >= 255 {
			return true
		}
	}
	return false
}
