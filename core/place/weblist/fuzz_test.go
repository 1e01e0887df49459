package weblist

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever a list holds, it is refused with its line, or its items have names of their
// own, in order, and addresses that can be asked for.
func FuzzList(f *testing.F) {
	f.Add([]byte("https://example.org/a.wav,12,md5:0cc175b9c0f1b6a831c399e269772661,a.wav\n# " +
		"remark\nhttps://example.org/b\n"))
	f.Add([]byte("name,address\nx,https://example.org/x\n"))
	f.Add([]byte("https://example.org/../../etc/passwd,-1\n"))
	f.Add([]byte("\"\nhttp://"))
	f.Fuzz(func(t *testing.T, list []byte) {
		items, err := parse(bytes.NewReader(list))
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		last := ""
		for i, it := range items {
			require.NotEmpty(t, it.key)
			require.True(t, i == 0 || it.key > last)
			last = it.key
		}
	})
}
