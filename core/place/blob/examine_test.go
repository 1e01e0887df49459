package blob_test

import (
	"bytes"
	"io"
	"maps"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/blob"
	"lumtra/core/secret"
	"lumtra/standin"
)

// What a service does is found by trying, and by it, or without it, an object is
// written as it is and over nothing but what was meant, damage on the way or not.
func TestHabits(t *testing.T) {
	plain := map[place.Ask]place.Answer{}
	for _, a := range []place.Ask{place.PutIfAbsent, place.PutIfStill, place.JoinIfAbsent, place.JoinIfStill,
		place.CopyIfAbsent, place.CopyIfStill,
		place.SumAhead, place.MD5Ahead, place.InParts, place.JoinETag, place.KeepsSum, place.KeepsMeta,
		place.KeepsTags, place.CopyWhole, place.ReadRange, place.MetaReplaced} {
		plain[a] = place.Works
	}
	type answers map[place.Ask]place.Answer
	ignored, refused := place.Ignored, place.Refused
	for habit, want := range map[standin.Habit]answers{
		"":                        {},
		standin.PutUnconditional:  {place.PutIfAbsent: ignored, place.PutIfStill: ignored},
		standin.JoinUnconditional: {place.JoinIfAbsent: ignored, place.JoinIfStill: ignored},
		standin.CopyUnconditional: {place.CopyIfAbsent: ignored, place.CopyIfStill: ignored},
		standin.ConditionsRefused: {place.PutIfAbsent: refused, place.PutIfStill: refused,
			place.JoinIfAbsent: refused, place.JoinIfStill: refused, place.CopyIfAbsent: refused,
			place.CopyIfStill: refused},
		standin.MatchIgnored:    {place.PutIfStill: ignored, place.JoinIfStill: ignored, place.CopyIfStill: ignored},
		standin.MD5Ignored:      {place.SumAhead: ignored, place.MD5Ahead: ignored},
		standin.JoinSilent:      {place.JoinETag: ignored},
		standin.RangesIgnored:   {place.ReadRange: ignored},
		standin.CopyRefused:     {place.CopyWhole: refused, place.CopyIfAbsent: refused, place.CopyIfStill: refused},
		standin.TagsRefused:     {place.KeepsTags: refused},
		standin.MetadataDropped: {place.KeepsSum: ignored, place.KeepsMeta: ignored},
		standin.SlashesFold:     {}, standin.AccentsFold: {},
	} {
		for _, tested := range []bool{true, false} {
			t.Run(string(habit)+map[bool]string{true: " known", false: " unknown"}[tested], func(t *testing.T) {
				cfg := standin.Config{Dir: t.TempDir(), API: standin.BlobAPI,
					Keys: []standin.Key{{Access: "marsh", Secret: key}}}
				if habit != "" {
					cfg.Habits = []standin.Habit{habit}
				}
				srv, err := standin.New(cfg)
				require.NoError(t, err)
				t.Cleanup(func() { srv.Close() })
				addr, err := srv.Start("127.0.0.1:0")
				require.NoError(t, err)
				known := place.NewKnown(place.Facts{}, nil)
				p := fresh(t,
					connect(t, blob.Config{Address: addr + "/marsh", Account: "marsh", Key: secret.New(key),
						Known: known})).(*blob.Place)
				if tested {
					facts, err := p.Examine(ctx, "probe/")
					require.NoError(t, err)
					wanted := maps.Clone(plain)
					maps.Copy(wanted, want)
					assert.Equal(t, wanted, facts.Answers)
					for c, is := range facts.Names {
						folds := habit == standin.SlashesFold && c == place.EmptyParts ||
							habit == standin.AccentsFold && c == place.Decomposed
						assert.Equal(t, map[bool]place.Answer{true: ignored, false: place.Works}[folds], is, "%s", c)
					}
					for e, err := range p.List(ctx, "", place.ListOptions{}) {
						require.NoError(t, err)
						t.Errorf("left behind: %q", e.Key)
					}
					known.Replace(facts)
				}
				held(t, srv, p, "whole", bytes.Repeat([]byte("reed"), 1000), false)
				held(t, srv, p, "parts", bytes.Repeat([]byte("tide"), 1000), true)
			})
		}
	}
}

// held writes a blob under every condition, and with damage on the way.
func held(t *testing.T, srv *standin.Server, p *blob.Place, key string, data []byte, parts bool) {
	write := func(data []byte, opts place.WriteOptions) (e object.Entry, err error) {
		if !parts {
			return p.Write(ctx, key, bytes.NewReader(data), int64(len(data)), opts)
		}
		up, err := p.Begin(ctx, key, opts)
		require.NoError(t, err)
		part, err := p.WritePart(ctx, up, 1, 0, bytes.NewReader(data), int64(len(data)), object.Sum{})
		if err != nil {
			return e, err
		}
		return p.Finish(ctx, up, []place.Part{part}, opts)
	}
	there := func() string {
		r, _, err := p.Read(ctx, key, place.ReadOptions{})
		require.NoError(t, err)
		defer r.Close()
		raw, err := io.ReadAll(r)
		require.NoError(t, err)
		return string(raw)
	}
	other := bytes.Clone(data)
	other[0] ^= 1
	e, err := write(data, place.WriteOptions{Condition: place.IfAbsent})
	require.NoError(t, err)
	assert.False(t, e.Unverified)
	_, err = write(other, place.WriteOptions{Condition: place.IfAbsent})
	assert.Equal(t, place.Exists, place.KindOf(err), "%v", err)
	_, err = write(other, place.WriteOptions{Condition: place.IfStill, Mark: "0x8D0000000000000"})
	assert.Equal(t, place.Changed, place.KindOf(err), "%v", err)
	assert.Equal(t, string(data), there())
	e, err = write(data, place.WriteOptions{Condition: place.IfStill, Mark: e.ETag})
	require.NoError(t, err)
	srv.SetFaults(standin.Fault{Do: "corrupt", Op: map[bool]string{true: "PutBlock", false: "PutBlob"}[parts],
		Times: 1})
	opts := place.WriteOptions{Condition: place.IfStill, Mark: e.ETag}
	_, err = write(other, opts)
	srv.SetFaults()
	require.Equal(t, place.Corrupt, place.KindOf(err), "%v", err)
	if left := err.(*place.Error).Left; left != "" {
		opts.Mark = left
	}
	_, err = write(other, opts)
	require.NoError(t, err)
	assert.Equal(t, string(other), there())
}
