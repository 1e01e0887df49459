package s3_test

import (
	"maps"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/place"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
	"lumtra/standin"
)

// accustomed starts a stand-in with habits, and opens an empty place there by a
// store of which nothing is known.
func accustomed(t *testing.T, known *place.Known, habits ...standin.Habit) *s3.Place {
	_, p := accustomedServer(t, known, habits...)
	return p
}

func accustomedServer(t *testing.T, known *place.Known, habits ...standin.Habit) (*standin.Server, *s3.Place) {
	srv, err := standin.New(standin.Config{Dir: t.TempDir(),
		Keys: []standin.Key{{Access: "marsh", Secret: "reed-bed-9913"}}, Habits: habits})
	require.NoError(t, err)
	addr, err := srv.Start("127.0.0.1:0")
	require.NoError(t, err)
	store, err := s3.NewStore(s3.Config{Name: "odd", Address: addr, AccessKey: "marsh",
		Secret: secret.New("reed-bed-9913"), Known: known})
	require.NoError(t, err)
	t.Cleanup(func() { store.Close(); srv.Close() })
	require.NoError(t, store.MakeBucket(ctx, "archive"))
	p, err := store.Open("archive/below")
	require.NoError(t, err)
	return srv, p.(*s3.Place)
}

// A test finds each habit by trying, and nothing but it, and leaves nothing
// behind.
func TestExamine(t *testing.T) {
	plain := map[place.Ask]place.Answer{}
	for _, a := range []place.Ask{place.PutIfAbsent, place.PutIfStill, place.JoinIfAbsent, place.JoinIfStill,
		place.CopyIfAbsent, place.CopyIfStill, place.QuotedMatch,
		place.SumBehind, place.SumAhead, place.CRC32CAhead, place.SHA256Ahead, place.MD5Ahead, place.SignedBody,
		place.UnsignedBody, place.JoinSums, place.JoinWhole,
		place.InParts, place.UploadsListed, place.JoinETag, place.KeepsSum, place.CopyWhole, place.CopySourceStill,
		place.CopyRange, place.RemoveBatch, place.RemoveBatchMD5, place.ReadRange,
		place.KeepsMeta, place.KeepsMeta2K, place.MetaReplaced, place.ListsETags, place.KeepsTags,
		place.ListsInOrder, place.ListsEncoded, place.FineTimes} {
		plain[a] = place.Works
	}
	plain[place.MD5ETag], plain[place.MD5PartETag] = place.Ignored, place.Ignored
	type answers map[place.Ask]place.Answer
	type names map[place.NameClass]place.Answer
	works, ignored, refused := place.Works, place.Ignored, place.Refused
	for habit, want := range map[standin.Habit]struct {
		answers answers
		names   names
	}{
		"":                     {},
		standin.BackslashFolds: {names: names{place.Backslashes: ignored}},
		standin.SlashesFold:    {names: names{place.EmptyParts: ignored}},
		standin.DotsFold:       {names: names{place.DotParts: ignored, place.EmptyParts: ignored}},
		standin.CaseFolds:      {names: names{place.Capitals: ignored, place.Escapes: ignored}}, // "%2F" has one
		standin.AccentsFold:    {names: names{place.Decomposed: ignored}},
		standin.EndsTrimmed:    {names: names{place.TrailingEnds: ignored}},
		standin.PutUnconditional: {answers: answers{place.PutIfAbsent: ignored, place.PutIfStill: ignored,
			place.QuotedMatch: ""}},
		standin.JoinUnconditional: {answers: answers{place.JoinIfAbsent: ignored, place.JoinIfStill: ignored}},
		standin.CopyUnconditional: {answers: answers{place.CopySourceStill: ignored, place.CopyIfAbsent: ignored,
			place.CopyIfStill: ignored}},
		standin.ConditionsRefused: {answers: answers{place.PutIfAbsent: refused, place.PutIfStill: refused,
			place.JoinIfAbsent: refused, place.JoinIfStill: refused,
			place.CopyIfAbsent: refused, place.CopyIfStill: refused, place.QuotedMatch: ""}},
		standin.MatchIgnored: {answers: answers{place.PutIfStill: ignored, place.JoinIfStill: ignored,
			place.CopyIfStill: ignored, place.QuotedMatch: ""}},
		standin.MatchUnquoted: {answers: answers{place.QuotedMatch: refused}},
		standin.SumsIgnored: {answers: answers{place.SumBehind: ignored, place.SumAhead: ignored,
			place.CRC32CAhead: ignored, place.SHA256Ahead: ignored,
			place.KeepsSum: ignored, place.JoinWhole: ignored}},
		standin.SumsRefused: {answers: answers{place.SumBehind: ignored, place.SumAhead: refused,
			place.CRC32CAhead: refused, place.SHA256Ahead: refused,
			place.KeepsSum: ignored, place.JoinWhole: refused, place.JoinSums: refused, place.RemoveBatch: refused}},
		standin.PartSumsRefused: {answers: answers{place.JoinSums: refused}},
		standin.TrailersRefused: {answers: answers{place.SumBehind: refused}},
		standin.TrailersKept:    {answers: answers{place.SumBehind: refused}},
		standin.MD5Ignored:      {answers: answers{place.MD5Ahead: ignored}},
		standin.PayloadIgnored:  {answers: answers{place.SignedBody: ignored}},
		standin.ETagsMD5:        {answers: answers{place.MD5ETag: works, place.MD5PartETag: works}},
		standin.ETagsOpaque:     {},
		standin.JoinSilent:      {answers: answers{place.JoinETag: ignored}},
		standin.BatchNeedsMD5:   {answers: answers{place.RemoveBatch: refused}},
		standin.BatchRefused:    {answers: answers{place.RemoveBatch: refused, place.RemoveBatchMD5: refused}},
		standin.RangesIgnored:   {answers: answers{place.ReadRange: ignored}},
		standin.CopyRefused: {answers: answers{place.CopySourceStill: refused, place.CopyWhole: refused,
			place.CopyIfAbsent: refused, place.CopyIfStill: refused, place.CopyRange: refused, place.ListsETags: ""}},
		standin.PartCopyRefused: {answers: answers{place.CopyRange: refused}},
		standin.TagsRefused:     {answers: answers{place.KeepsTags: refused}},
		standin.WholeSeconds:    {answers: answers{place.FineTimes: ignored}},
		standin.ListingPlain:    {answers: answers{place.ListsEncoded: ignored}},
		standin.ListingByFolder: {answers: answers{place.ListsInOrder: ignored}},
		standin.MetadataDropped: {answers: answers{place.KeepsMeta: ignored, place.KeepsMeta2K: ""}},
		standin.MetadataStays:   {answers: answers{place.MetaReplaced: ignored}},
		standin.Metadata256:     {answers: answers{place.KeepsMeta2K: refused}},
		standin.NonCharsChange:  {names: names{place.NonChars: ignored}},
		standin.LineFeed404:     {names: names{place.LineBreaks: refused}},
		standin.TimesRoundUp:    {answers: answers{place.FineTimes: ignored}},
		standin.ListingETags:    {answers: answers{place.ListsETags: ignored}},
		standin.UploadsUndated:  {},
		standin.AnswersBare:     {},
	} {
		t.Run(string(habit), func(t *testing.T) {
			var habits []standin.Habit
			if habit != "" {
				habits = append(habits, habit)
			}
			p := accustomed(t, place.NewKnown(place.Facts{}, nil), habits...)
			got, err := p.Examine(ctx, "probe/")
			require.NoError(t, err)
			wanted := maps.Clone(plain)
			for a, is := range want.answers {
				if wanted[a] = is; is == "" {
					delete(wanted, a)
				}
			}
			assert.Equal(t, wanted, got.Answers)
			for c := range place.OddNames {
				is := place.Works
				if given, ok := want.names[c]; ok {
					is = given
				}
				if habit == standin.ListingPlain && (c == place.Controls || c == place.NonChars) {
					continue // XML cannot name it
				}
				assert.Equal(t, is, got.Names[c], "%s", c)
			}
			for e, err := range p.List(ctx, "", place.ListOptions{}) {
				require.NoError(t, err)
				t.Errorf("left behind: %q", e.Key)
			}
			ups, err := p.Uploads(ctx)
			require.NoError(t, err)
			assert.Empty(t, ups)
		})
	}
}
