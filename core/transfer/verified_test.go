package transfer_test

import (
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/rule"
	"lumtra/core/transfer"
	"lumtra/standin"
	"lumtra/testkit"
)

// What Lumtra wrote is never read unverified where a store keeps metadata, however little else it keeps: small objects,
// objects in one piece and in parts, from files and from a store that tells no checksum either.
func TestWhatLumtraWroteIsVerified(t *testing.T) {
	testkit.Heavy(t)
	for _, habits := range [][]standin.Habit{nil, {standin.SumsIgnored}, {standin.SumsIgnored, standin.ETagsOpaque},
		{standin.SumsRefused, standin.ETagsOpaque}, {standin.ETagsOpaque, standin.PartSumsRefused},
		{standin.ETagsMD5, standin.SumsIgnored}, {standin.SumsIgnored, standin.ETagsOpaque, standin.AnswersBare}} {
		t.Run(fmt.Sprint(habits), func(t *testing.T) {
			t.Parallel()
			w := newWorldWith(t, "s3", habits...)
			other := newWorldWith(t, "s3", standin.SumsIgnored, standin.ETagsOpaque)
			for _, p := range []place.Place{w.store, other.store} {
				facts, err := p.(place.Examiner).Examine(ctx, "probe/")
				require.NoError(t, err)
				place.Can(p).Known.Replace(facts)
			}
			w.put(t, "small.wav", "tide")
			w.put(t, "one piece.wav", strings.Repeat("reeds", 4<<20))
			w.put(t, "parts.wav", strings.Repeat("marsh", 10<<20))
			want := texts(t, w.folder)
			for _, leg := range [][2]place.Place{{w.folder, other.store}, {other.store, w.store}} {
				out, m := w.run(t, ctx, w.planBy(t, leg[0], leg[1], rule.Default()), leg[0], leg[1],
					transfer.Options{Streams: 2, PartSize: 12 << 20})
				require.Empty(t, m.Problems)
				assert.Zero(t, out.Unverified)
				for key, text := range want {
					r, facts, err := leg[1].Read(ctx, key, place.ReadOptions{})
					require.NoError(t, err)
					assert.False(t, facts.Unverified, "%s at %s", key, leg[1].Name())
					raw, err := io.ReadAll(r)
					require.NoError(t, err)
					require.NoError(t, r.Close())
					assert.True(t, text == string(raw), key)
				}
			}
			for key := range want {
				require.NoError(t, w.folder.Remove(ctx, object.Ref{Key: key})[0])
			}
		})
	}
}
