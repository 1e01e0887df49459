package standin_test

import (
	"fmt"
	"net/http"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"lumtra/standin"
	"lumtra/testkit"
)

// heap is what is really kept in memory.
func heap() int64 {
	runtime.GC()
	runtime.GC() // pools let go at the second
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// An object with a checksum and the metadata that runs write takes little memory: a
// stand-in of millions of objects fits a small machine.
func TestMemoryAnObject(t *testing.T) {
	testkit.Heavy(t)
	srv, err := standin.New(standin.Config{Dir: t.TempDir(), Public: true})
	require.NoError(t, err)
	defer srv.Close()
	addr, err := srv.Start("127.0.0.1:0")
	require.NoError(t, err)
	web := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 16}}
	defer web.CloseIdleConnections()
	send := func(path, body string) error {
		r, err := http.NewRequest(http.MethodPut, addr+path, strings.NewReader(body))
		if err != nil {
			return err
		}
		if body != "" {
			r.Header.Set("X-Amz-Meta-Lumtra-Mtime", "2026-11-26T04:00:00.123456789Z")
			r.Header.Set("X-Amz-Meta-Lumtra-Mode", "644")
			r.Header.Set("Content-Type", "audio/x-wav")
		}
		resp, err := web.Do(r)
		if err != nil {
			return err
		}
		resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			return fmt.Errorf("%s: %s", path, resp.Status)
		}
		return nil
	}
	require.NoError(t, send("/archive", ""))
	const objects = 20_000
	fill := func(from string) {
		var group errgroup.Group
		group.SetLimit(16)
		for i := range objects {
			group.Go(func() error {
				return send(fmt.Sprintf("/archive/%s/2026/11/take-%06d.wav", from, i), "a bittern, far off")
			})
		}
		require.NoError(t, group.Wait())
	}
	fill("first") // what grows by steps has grown
	before := heap()
	fill("second")
	each := (heap() - before) / objects
	t.Logf("%d bytes an object", each)
	assert.Less(t, each, int64(400))
}
