package main

import (
	"bytes"
	"crypto/md5"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/cli"
	"lumtra/core/place"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
	"lumtra/standin"
)

// odd is a workspace with a store that has habits: "src" is filled, job "out" goes
// there, job "back" from there to "dst".
type odd struct {
	*testing.T
	dir   string
	store *watched
	at    place.Place // the job's target, seen by a client of its own
	end   place.Endpoint
	data  string // the store's own folder
}

func newOdd(t *testing.T, settings string, habits ...standin.Habit) *odd {
	t.Parallel()
	data := t.TempDir()
	makeBucket(t, data)
	store, address := startWith(t,
		standin.Config{Dir: data, Keys: []standin.Key{{Access: "north", Secret: "reed-bed-9913"}}, Habits: habits})
	dir := workspace(t, address, nil)
	o := &odd{T: t, dir: dir, store: store, data: data}
	o.job("out", "src", "north/archive/copy", settings)
	o.job("back", "north/archive/copy", "dst", settings)
	known := place.Promised()
	known.Learn(place.MD5ETag, place.Ignored) // content is held against what is expected here
	known.Learn(place.MD5PartETag, place.Ignored)
	known.Learn(place.SumAhead, place.Ignored)
	known.Learn(place.SumBehind, place.Ignored)
	known.Learn(place.ListsInOrder, place.Ignored)
	end, err := s3.NewStore(s3.Config{Known: known, Name: "seen", Address: address, AccessKey: "north",
		Secret: secret.New("reed-bed-9913")})
	require.NoError(t, err)
	t.Cleanup(func() { end.Close() })
	o.end = end
	o.at, err = end.Open("archive/copy")
	require.NoError(t, err)
	return o
}

func (o *odd) job(name, from, to, settings string) {
	put(o.T, o.dir, "jobs/"+name+".toml", fmt.Sprintf("source = %q\ntarget = %q\n%s\n", from, to, settings))
}

// run runs a command and wants it to end with a code.
func (o *odd) run(code int, args ...string) string {
	text, got := lumtra(o.T, o.dir, args...)
	require.Equal(o.T, code, got, "%v: %s", args, text)
	return text
}

func (o *odd) put(key, text string) { put(o.T, o.dir, "src/"+key, text) }

// there are the keys at the target, with their contents.
func (o *odd) there() map[string]string {
	all := map[string]string{}
	for e, err := range o.at.List(o.Context(), "", place.ListOptions{}) {
		require.NoError(o.T, err)
		raw, _, err := place.Open(o.Context(), o.at, e.Key, 64<<20)
		require.NoError(o.T, err)
		all[e.Key] = string(raw)
	}
	return all
}

func (o *odd) write(key, text string) {
	_, err := o.at.Write(o.Context(), key, strings.NewReader(text), int64(len(text)), place.WriteOptions{})
	require.NoError(o.T, err)
}

const mirror = "target-only = \"delete\"\n[safety]\ndeletion-share = 100\n"

// A store that keeps names under others never loses what a mirror has sent there,
// whether it was tested before or not.
func TestMirrorKeepsWhatItSent(t *testing.T) {
	for _, tested := range []bool{true, false} {
		t.Run(map[bool]string{true: "tested", false: "never tested"}[tested], func(t *testing.T) {
			o := newOdd(t, mirror, standin.BackslashFolds, standin.SlashesFold)
			if !tested {
				o.never()
			}
			o.put(`enc/a\b`, "the only copy")
			o.put(`enc/c\d`, "another")
			o.put("plain", "plain")
			o.run(cli.ExitFailures, "run", "out")
			first := o.there()
			require.Equal(t, "plain", first["plain"])
			for range 3 {
				text := o.run(cli.ExitFailures, "run", "out")
				assert.Contains(t, text, "name")
				assert.Equal(t, first, o.there(), "nothing comes and goes")
			}
			if !tested {
				assert.Equal(t, "the only copy", first["enc/a/b"], "it was sent before anybody knew, and stays")
			}
		})
	}
}

// never forbids the test before the first run.
func (o *odd) never() {
	raw, err := os.ReadFile(filepath.Join(o.dir, "endpoints.toml"))
	require.NoError(o.T, err)
	put(o.T, o.dir, "endpoints.toml", strings.Replace(string(raw), "[endpoint.north]\n",
		"[endpoint.north]\ntest = \"never\"\n", 1))
}

// An object in parts is not joined over one that the plan has not seen, though the
// store would.
func TestPartsOverNothingUnseen(t *testing.T) {
	o := newOdd(t, "[limits]\npart-size = \"5MiB\"\n", standin.JoinUnconditional)
	o.put("big.wav", strings.Repeat("tide", 3<<20))
	text := o.run(cli.ExitDone, "plan", "out")
	assert.Contains(t, text, "▲ nothing unseen is overwritten")
	o.write("big.wav", "somebody else's")
	text = o.run(cli.ExitFailures, "run", "out", "--plan", "1")
	assert.Contains(t, text, "already there")
	assert.Equal(t, "somebody else's", o.there()["big.wav"])

	o.job("strict", "src", "north/archive/strict", "[safety]\nraces = \"refuse\"\n")
	text = o.run(cli.ExitHeld, "run", "strict")
	assert.Contains(t, text, "another writer may come between")
}

// often is how often: seldom enough that one object does not meet it at every try.
const often = 0.06

// flips are bits turned over on the way, now and then.
func flips(chance float64) []standin.Fault {
	var all []standin.Fault
	for _, op := range []string{"PutObject", "UploadPart", "GetObject"} {
		all = append(all, standin.Fault{Op: op, Key: "copy/", Do: "corrupt", Chance: chance})
	}
	return all
}

// Bits that turn over on the way do not arrive, there and back, on stores that keep
// no checksums.
func TestFlipsDoNotArrive(t *testing.T) {
	for name, habits := range map[string][]standin.Habit{
		"MD5 in ETags":          {standin.SumsIgnored, standin.ETagsMD5},
		"MD5 in ETags, no MD5":  {standin.SumsRefused, standin.ETagsMD5, standin.MD5Ignored, standin.PayloadIgnored},
		"nothing but what came": {standin.SumsIgnored, standin.ETagsOpaque, standin.MD5Ignored, standin.PayloadIgnored},
	} {
		t.Run(name, func(t *testing.T) {
			o := newOdd(t, "read-twice = true\n[limits]\npart-size = \"5MiB\"\n", habits...)
			fill(t, filepath.Join(o.dir, "src"), 60, 12<<20)
			want := files(t, filepath.Join(o.dir, "src"))
			o.run(cli.ExitDone, "endpoint", "test", "north", "--bucket", "archive")
			o.store.SetFaults(flips(often)...)
			o.run(cli.ExitDone, "run", "out")
			o.store.SetFaults()
			assert.Equal(t, sums(want), sums(o.there()))
			o.run(cli.ExitNothing, "run", "out")
			o.store.SetFaults(flips(often)...)
			o.run(cli.ExitDone, "run", "back")
			o.store.SetFaults()
			assert.Equal(t, sums(want), sums(files(t, filepath.Join(o.dir, "dst"))))
		})
	}
}

// sums stand for contents that are too long to be shown.
func sums(contents map[string]string) map[string]string {
	all := map[string]string{}
	for key, text := range contents {
		all[key] = fmt.Sprintf("%x", md5.Sum([]byte(text)))
	}
	return all
}

// What nothing vouches for is counted, and is a failure where the job says so.
func TestUnverifiedIsTold(t *testing.T) {
	o := newOdd(t, "", standin.SumsIgnored, standin.ETagsOpaque)
	place.Can(o.at).Known.Learn(place.KeepsMeta, place.Ignored) // others keep nothing beside what they write
	o.write("a.wav", "one")
	o.write("b.wav", "two")
	o.run(cli.ExitDone, "endpoint", "test", "north", "--bucket", "archive")
	text := o.run(cli.ExitDone, "run", "back")
	assert.Contains(t, text, "2 of them unverified")
	assert.Contains(t, text, "▲ what is read came whole: by its length alone")
	o.job("strict", "north/archive/copy", "dst/strict", "[safety]\nunverified = \"fail\"\n")
	text = o.run(cli.ExitFailures, "run", "strict")
	assert.Contains(t, text, "arrival not proven")
	o.job("twice", "north/archive/copy", "dst/twice", "read-twice = true\n[safety]\nunverified = \"fail\"\n")
	o.run(cli.ExitDone, "run", "twice")
}

// A proof that meets broken connections could not compare; it found nothing
// different.
func TestProofOfBrokenConnections(t *testing.T) {
	o := newOdd(t, "")
	fill(t, filepath.Join(o.dir, "src"), 5)
	o.run(cli.ExitDone, "run", "out")
	o.store.SetFaults(standin.Fault{Op: "GetObject", Key: "copy/", Do: "short"})
	text := o.run(cli.ExitNotCompared, "prove", "out", "--by", "read-back")
	assert.Contains(t, text, "not compared")
	assert.NotContains(t, text, "different ")
	o.store.SetFaults(standin.Fault{Op: "GetObject", Key: "copy/", Do: "short", Chance: 0.15})
	o.run(cli.ExitDone, "prove", "out", "--by", "read-back")
}

// A copy that a move, or a proof, finds to be another is mended by the next run,
// and only then does the original go.
func TestBadCopiesAreMended(t *testing.T) {
	o := newOdd(t, "afterwards = \"delete\"\nproof = \"read-back\"\n")
	o.put("a.wav", "the right one")
	o.put("b.wav", "as well")
	before := time.Now().Add(-time.Hour) // the copy is the newer
	require.NoError(t, os.Chtimes(filepath.Join(o.dir, "src/a.wav"), before, before))
	o.write("a.wav", "a wrong one!!")
	text := o.run(cli.ExitFailures, "run", "out")
	assert.Contains(t, text, "the source stays")
	require.FileExists(t, filepath.Join(o.dir, "src", "a.wav"))
	require.NoFileExists(t, filepath.Join(o.dir, "src", "b.wav"))
	text = o.run(cli.ExitDone, "run", "out")
	assert.Contains(t, text, "change")
	require.NoFileExists(t, filepath.Join(o.dir, "src", "a.wav"))
	assert.Equal(t, map[string]string{"a.wav": "the right one", "b.wav": "as well"}, o.there())

	o.job("keep", "src", "north/archive/copy", "")
	o.put("c.wav", "kept right")
	o.run(cli.ExitDone, "run", "keep")
	o.write("c.wav", "kept wrong")
	o.run(cli.ExitFailures, "prove", "keep", "--by", "read-back")
	text = o.run(cli.ExitDone, "plan", "keep", "--effects")
	assert.Contains(t, text, "differs since proof 1")
	o.run(cli.ExitDone, "run", "keep")
	assert.Equal(t, "kept right", o.there()["c.wav"])
	o.run(cli.ExitNothing, "run", "keep")
}

// Stores that refuse or leave out something are written to, changed, mirrored and
// proven all the same, tested before or not, and a second run has nothing to do.
func TestWhateverAStoreLacks(t *testing.T) {
	for name, habits := range map[string][]standin.Habit{
		"no conditions":          {standin.ConditionsRefused},
		"conditions ignored":     {standin.PutUnconditional, standin.JoinUnconditional, standin.CopyUnconditional},
		"batches need MD5":       {standin.BatchNeedsMD5},
		"no batches":             {standin.BatchRefused},
		"no part checksums":      {standin.PartSumsRefused},
		"no trailers":            {standin.TrailersRefused},
		"trailers kept":          {standin.TrailersKept},
		"no ETag of joined ones": {standin.JoinSilent},
		"bare If-Match":          {standin.MatchUnquoted},
		"no checksums":           {standin.SumsRefused, standin.ETagsMD5},
		"an order of its own":    {standin.ListingByFolder},
		"no metadata":            {standin.MetadataDropped},
		"all of an old gateway": {standin.SumsIgnored, standin.TrailersRefused, standin.ETagsMD5,
			standin.MatchUnquoted, standin.JoinUnconditional, standin.JoinSilent,
			standin.CopyUnconditional, standin.WholeSeconds, standin.BatchNeedsMD5},
		"the worst": {standin.SumsRefused, standin.TrailersKept, standin.ETagsOpaque, standin.ConditionsRefused,
			standin.JoinSilent, standin.BatchRefused, standin.MD5Ignored,
			standin.PayloadIgnored, standin.RangesIgnored, standin.CopyRefused, standin.TagsRefused,
			standin.WholeSeconds, standin.ListingPlain},
	} {
		for _, tested := range []bool{true, false} {
			t.Run(name+map[bool]string{true: ", tested", false: ", never tested"}[tested], func(t *testing.T) {
				o := newOdd(t, mirror+"[limits]\npart-size = \"5MiB\"\n", habits...)
				if !tested {
					o.never()
				}
				for i := range 12 {
					o.put(fmt.Sprintf("tiles/%d.png", i), strings.Repeat("x", 100*i))
				}
				o.put("tiles-old.png", "listed by some stores behind tiles/")
				o.put("middle.wav", strings.Repeat("reed", 100_000))
				o.put("big.wav", strings.Repeat("tide", 3<<20))
				o.run(cli.ExitDone, "run", "out")
				o.run(cli.ExitNothing, "run", "out")
				o.run(cli.ExitDone, "prove", "out", "--by", "read-back", "--both-ways")
				o.put("middle.wav", strings.Repeat("bed!", 100_001))
				o.put("big.wav", strings.Repeat("ebb!", 3<<20+1))
				o.put("tiles/1.png", "changed")
				for i := 2; i < 8; i++ {
					require.NoError(t, os.Remove(filepath.Join(o.dir, "src", fmt.Sprintf("tiles/%d.png", i))))
				}
				o.run(cli.ExitDone, "run", "out")
				o.run(cli.ExitNothing, "run", "out")
				there := o.there()
				assert.Len(t, there, 9)
				assert.True(t, strings.HasPrefix(there["big.wav"], "ebb!"))
				o.run(cli.ExitDone, "run", "back")
				assert.Equal(t, sums(files(t, filepath.Join(o.dir, "src"))),
					sums(files(t, filepath.Join(o.dir, "dst"))))
				raw, err := os.ReadFile(stateOf(t, o.dir, "lumtra.log"))
				if err == nil {
					assert.NotContains(t, string(bytes.ToLower(raw)), "panic")
				}
			})
		}
	}
}

// A store that keeps no metadata is said to; what it cannot keep is not sent for ever.
func TestNoMetadataThere(t *testing.T) {
	o := newOdd(t, "[as]\nmetadata = { site = \"saltpan\" }\n", standin.MetadataDropped)
	o.put("a.wav", "one")
	o.run(cli.ExitDone, "endpoint", "test", "north", "--bucket", "archive")
	text := o.run(cli.ExitDone, "run", "out")
	assert.Contains(t, text, "keeps no metadata")
	o.run(cli.ExitNothing, "run", "out")
	o.run(cli.ExitDone, "prove", "out", "--by", "read-back")
}
