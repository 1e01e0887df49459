package object_test

import (
	"bytes"
	"crypto/md5"
	"encoding/hex"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/object"
	"lumtra/testkit"
)

// The MD5 of parts' MD5s comes out the same however the content is cut on its way.
func TestPartsMD5(t *testing.T) {
	testkit.Check(t, func(t *rapid.T) {
		data := rapid.SliceOfN(rapid.Byte(), 0, 200).Draw(t, "data")
		size := rapid.IntRange(1, 60).Draw(t, "part size")
		whole := md5.New()
		for rest := data; len(rest) > 0; rest = rest[min(size, len(rest)):] {
			part := md5.Sum(rest[:min(size, len(rest))])
			whole.Write(part[:])
		}
		p := object.NewPartsMD5(int64(size))
		for r := bytes.NewReader(data); r.Len() > 0; {
			b := make([]byte, rapid.IntRange(1, 50).Draw(t, "piece"))
			n, _ := r.Read(b)
			p.Write(b[:n])
		}
		require.Equal(t, string(whole.Sum(nil)), p.Sum())
	})
}

func ExampleETagMD5() {
	for _, etag := range []string{"d41d8cd98f00b204e9800998ecf8427e", "d41d8cd98f00b204e9800998ecf8427e-3", "0x8DC5A",
		"d41d8cd98f00b204e9800998ecf8427e-0"} {
		digest, parts, ok := object.ETagMD5(etag)
		fmt.Println(hex.EncodeToString([]byte(digest)), parts, ok)
	}
	// Output:
	// d41d8cd98f00b204e9800998ecf8427e 0 true
	// d41d8cd98f00b204e9800998ecf8427e 3 true
	//  0 false
	//  0 false
}

func TestETagOfOtherForm(t *testing.T) {
	for _, etag := range []string{"", "-", "-1", "zz", "d41d8cd98f00b204e9800998ecf8427e-x",
		"d41d8cd98f00b204e9800998ecf842"} {
		_, _, ok := object.ETagMD5(etag)
		assert.False(t, ok, "%q", etag)
	}
}
