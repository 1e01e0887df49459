package service_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/plan"
	"lumtra/service/workroom"
	"lumtra/standin"
)

// A file that was touched, or given other permissions, and has the content which the
// store keeps a checksum of, is given its time or permissions there, and not sent. One
// with other content of the same size is sent; and so is all where no checksum is kept.
func TestTouched(t *testing.T) {
	for name, keeps := range map[string]bool{"a store that keeps sums": true, "one that keeps none": false} {
		dir := prepared(t)
		store := standin.Config{Dir: t.TempDir(), Keys: []standin.Key{{Access: "saltmarsh", Secret: secretText}}}
		if !keeps {
			store.Habits = []standin.Habit{standin.SumsIgnored, standin.ETagsOpaque}
		}
		server, err := standin.New(store)
		require.NoError(t, err)
		address, err := server.Start("127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { assert.NoError(t, server.Close()) })
		put(t, dir, "endpoints.toml",
			"[endpoint.studio]\nkind = \"folder\"\npath = \"studio\"\n[endpoint.north]\nkind = \"s3\"\naddress = \""+
				address+
				"\"\naccess-key = \"saltmarsh\"\nsecret-from = \"file:north.secret\"\n")
		s := open(t, dir)
		uses, err := s.Unconfirmed()
		require.NoError(t, err)
		require.NoError(t, s.Confirm(uses...))
		require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
		_, res := run(t, s, "masters", workroom.Freshness{})
		require.EqualValues(t, 40, res.Objects)

		file := func(i int) string { return filepath.Join(dir, "studio", "xxxxxxxxxx"[:i]+".wav") }
		later := time.Now().Add(time.Hour).Truncate(time.Second)
		for i := 2; i < 8; i++ {
			require.NoError(t, os.Chtimes(file(i), later, later))
		}
		require.NoError(t, os.WriteFile(file(7), []byte("reed reed reed reed reed reed "), 0o600))
		require.NoError(t, os.Chtimes(file(7), later, later))
		require.NoError(t, os.Chmod(file(9), 0o640))

		info, res := run(t, s, "masters", workroom.Freshness{})
		facts, sent := int64(1), int64(6) // permissions were all along
		if keeps {
			facts, sent = 6, 1
		}
		assert.Equal(t, [2]int64{facts, sent}, [2]int64{info.Totals[plan.Meta].Count, info.Totals[plan.Change].Count},
			name)
		p, err := plan.Open(filepath.Join(dir, "state/jobs/masters/plans", plan.FileName(info.Number)))
		require.NoError(t, err)
		for c := p.Effects(""); c.Next(); {
			if e := c.Effect(); e.Key == "xxx.wav" && keeps {
				assert.Contains(t, e.Why(), "same content, modified ")
			}
		}
		p.Close()
		if keeps {
			assert.EqualValues(t, 30, res.Bytes, "no more than what was edited")
		}
		at, err := s.Place(ctx, "north/archive/masters")
		require.NoError(t, err)
		for i := 2; i < 8; i++ {
			e, err := at.Stat(ctx, ref(filepath.Base(file(i))))
			require.NoError(t, err)
			assert.True(t, e.Original.Equal(later), "%s: %s", e.Key, e.Original)
		}
		e, err := at.Stat(ctx, ref(filepath.Base(file(9))))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o640), e.Mode.Perm())
		again, _ := run(t, s, "masters", workroom.Freshness{})
		assert.Zero(t, again.Totals.Work().Count, "it settles")
	}
}
