package service_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/price"
	"lumtra/core/report"
	"lumtra/core/rule"
	"lumtra/service"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// keys are the files below a folder.
func keys(t *testing.T, dir string) (all []string) {
	filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			rel, err := filepath.Rel(dir, path)
			require.NoError(t, err)
			all = append(all, filepath.ToSlash(rel))
		}
		return nil
	})
	return all
}

func run(t *testing.T, s *service.Service, job string, fresh workroom.Freshness) (plan.Info, history.Run) {
	info, err := s.Plan(ctx, job, fresh, &workroom.Activity{})
	require.NoError(t, err)
	r, err := s.StartRun(ctx, job, workroom.RunOptions{})
	if err != nil {
		require.ErrorIs(t, err, workroom.ErrNothingToDo)
		return info, history.Run{}
	}
	res, err := r.Wait()
	require.NoError(t, err)
	return info, res
}

// A "/" at the end of a place never means anything: what lands where follows
// from what the source is and from whether its folder is kept, in all sixteen
// cases. The example keys shown before are the keys written.
func TestLanding(t *testing.T) {
	for _, slashFrom := range []string{"", "/"} {
		for _, slashTo := range []string{"", "/"} {
			for _, landing := range []rule.Landing{rule.Inside, rule.WithFolder} {
				for _, single := range []bool{false, true} {
					name := fmt.Sprintf("from%s to%s %s %v", slashFrom, slashTo, landing, single)
					dir := prepared(t)
					put(t, dir, "endpoints.toml",
						"[endpoint.studio]\nkind = \"folder\"\npath = \"in\"\n[endpoint.home]\nkind = "+
							"\"folder\"\npath = \"out\"\n")
					require.NoError(t, os.Mkdir(filepath.Join(dir, "out"), 0o755))
					put(t, dir, "in/take/dawn/a.wav", "a")
					put(t, dir, "in/take/dawn/b.wav", "b")
					from := "studio/take/dawn"
					want := []string{"to/a.wav", "to/b.wav"}
					switch {
					case single && landing == rule.Inside:
						want = []string{"to/a.wav"}
					case single:
						want = []string{"to/dawn/a.wav"}
					case landing == rule.WithFolder:
						want = []string{"to/dawn/a.wav", "to/dawn/b.wav"}
					}
					if single {
						from += "/a.wav"
					}
					put(t, dir, "jobs/masters.toml", fmt.Sprintf("source = %q\ntarget = %q\nlanding = %q\n",
						from+slashFrom, "home/to"+slashTo, landing))
					s := open(t, dir)
					j, err := s.Workspace().Job("masters")
					require.NoError(t, err)
					_, err = s.SurveyJob(ctx, j, &workroom.Activity{})
					require.NoError(t, err)
					e, err := s.Effect(ctx, j, nil)
					require.NoError(t, err)
					var shown []string
					for _, x := range e.Examples {
						shown = append(shown, strings.TrimPrefix(e.Lands+"/"+x.Key, "home/"))
					}
					_, res := run(t, s, "masters", workroom.Freshness{})
					assert.Equal(t, history.Clean, res.End, name)
					assert.Equal(t, want, keys(t, filepath.Join(dir, "out")), name)
					assert.Equal(t, want, shown, name)
				}
			}
		}
	}
}

// Surveys are planned from again until they are too old, or something here
// changed the place; a part can be surveyed anew by itself.
func TestKeptSurveys(t *testing.T) {
	dir := prepared(t)
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	_, res := run(t, s, "masters", workroom.Freshness{})
	require.Equal(t, history.Clean, res.End)
	j, err := s.Workspace().Job("masters")
	require.NoError(t, err)
	stale, err := s.Effect(ctx, j, nil)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(stale.Unasked, ";"), "changed these places since they were surveyed")
	assert.Empty(t, stale.Held, "what the run did is not somebody's meddling")
	hour := workroom.Freshness{MaxAge: time.Hour}
	info, err := s.Plan(ctx, "masters", hour, &workroom.Activity{})
	require.NoError(t, err)
	assert.EqualValues(t, 40, info.Totals[plan.Same].Count, "the target was surveyed after the run that changed it")
	put(t, dir, "studio/new/a.wav", "a")
	put(t, dir, "studio/other/b.wav", "b")
	kept, err := s.Plan(ctx, "masters", hour, &workroom.Activity{})
	require.NoError(t, err)
	assert.Zero(t, kept.Totals.Work().Count)
	assert.Equal(t, info.Source.Began, kept.Source.Began)
	part, err := s.Plan(ctx, "masters", workroom.Freshness{Prefix: "new/"}, &workroom.Activity{})
	require.NoError(t, err)
	assert.EqualValues(t, 1, part.Totals[plan.Add].Count)
	assert.Equal(t, "new/a.wav", part.Examples[0].Key)
	anew := makePlan(t, s)
	assert.EqualValues(t, 2, anew.Totals[plan.Add].Count)
	c, err := s.ComparePlans(ctx, "masters", part.Number, anew.Number, 10)
	require.NoError(t, err)
	require.Len(t, c.Lines, 1)
	assert.Equal(t, "other/b.wav", c.Lines[0].Key)
	assert.Nil(t, c.Lines[0].Was)
}

// What both sides looked like when they last agreed tells a change at the
// source, even one that its size and time hide, from one at the target behind
// the job's back.
func TestAgreed(t *testing.T) {
	dir := prepared(t)
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	run(t, s, "masters", workroom.Freshness{})
	at := filepath.Join(dir, "studio/xxx.wav")
	long := time.Now().Add(-time.Hour)
	put(t, dir, "studio/xxx.wav", "WAVE WAVE ") // as long as it was, and older than the copy
	require.NoError(t, os.Chtimes(at, long, long))
	p, err := s.Place(ctx, "north/archive/masters")
	require.NoError(t, err)
	_, err = p.Write(ctx, "xxxx.wav", strings.NewReader("meddled with!!!"), 15, place.WriteOptions{})
	require.NoError(t, err)
	require.Empty(t, p.Remove(ctx, ref("xxxxx.wav"))[0])
	info := makePlan(t, s)
	why := map[string]string{}
	pl, err := s.PlanNumber("masters", info.Number)
	require.NoError(t, err)
	defer pl.Close()
	for c := pl.Effects(""); c.Next(); {
		if e := c.Effect(); e.Kind != plan.Same {
			why[e.Key] = e.Kind.String() + ": " + e.Why()
		}
	}
	assert.Equal(t, map[string]string{
		"xxx.wav":   "change: it differs, changed at the source since the last run",
		"xxxx.wav":  "change: it differs, changed at the target without this job",
		"xxxxx.wav": "add: it was at the target at the last run, and is gone there",
	}, why)
	assert.EqualValues(t, 40, info.Agreed)
	assert.EqualValues(t, 2, info.Drifted)
	run(t, s, "masters", workroom.Freshness{})
	info = makePlan(t, s)
	assert.Zero(t, info.Totals.Work().Count)
}

// A person strikes things out, sees the totals follow, and the run keeps to
// it; once it has begun nothing can be chosen any more.
func TestChoices(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "studio/keep/a.wav", "a")
	put(t, dir, "studio/=cmd/b.wav", "bb")
	put(t, dir, "studio/keep/\x1b[2J.wav", "c")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	info := makePlan(t, s)
	assert.EqualValues(t, 43, info.Totals[plan.Add].Count)
	for _, f := range report.Formats {
		var out bytes.Buffer
		require.NoError(t, s.ExportPlan(&out, "masters", info.Number, f))
		text := out.String()
		if f != report.PDF { // which is packed
			assert.NotContains(t, text, "\x1b", f)
		}
		switch f {
		case report.CSV:
			assert.Contains(t, text, "add,to target,'=cmd/b.wav,2,")
			assert.Equal(t, 44, strings.Count(text, "\n"))
		case report.JSONLines:
			assert.Equal(t, 43, strings.Count(text, "\n"))
		case report.SVG:
			assert.Contains(t, text, "Plan 1 of masters")
		case report.PDF:
			assert.True(t, strings.HasPrefix(text, "%PDF"))
		}
	}
	info, err := s.Strike(ctx, "masters", 1, "keep/")
	require.NoError(t, err)
	assert.EqualValues(t, 41, info.Totals[plan.Add].Count)
	assert.EqualValues(t, 2, info.Totals[plan.LeftOut].Count)
	info, err = s.Strike(ctx, "masters", 1, "=cmd/b.wav")
	require.NoError(t, err)
	assert.EqualValues(t, 40, info.Totals[plan.Add].Count)
	info, err = s.Strike(ctx, "masters", 1, "=cmd/b.wav") // and in again
	require.NoError(t, err)
	assert.EqualValues(t, 41, info.Totals[plan.Add].Count)
	assert.ErrorIs(t, s.Approve(ctx, "masters", 1, 3), workspace.ErrBadInput, "it deletes nothing")
	r, err := s.StartRun(ctx, "masters", workroom.RunOptions{Number: 1})
	require.NoError(t, err)
	res, err := r.Wait()
	require.NoError(t, err)
	assert.EqualValues(t, 41, res.Objects)
	p, err := s.Place(ctx, "north/archive/masters")
	require.NoError(t, err)
	_, err = p.Stat(ctx, ref("keep/a.wav"))
	assert.Equal(t, place.NotFound, place.KindOf(err))
	_, err = s.Strike(ctx, "masters", 1, "keep/")
	assert.ErrorIs(t, err, workroom.ErrBegun)
}

// Estimates count requests and money by the rates there are, name what is not
// known, and learn from earlier runs.
func TestEstimates(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "rates.toml",
		"currency = \"EUR\"\n[rates.north]\nexample = true\nwrites = 5.0\nlists = 1.0\nstorage = 0.02\n")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	j, err := s.Workspace().Job("masters")
	require.NoError(t, err)
	info := makePlan(t, s)
	e := s.Estimate(ctx, j, &info)
	assert.Equal(t, price.Requests{}, e.Source, "a folder is not asked")
	assert.Equal(t, price.Requests{Lists: 1, Writes: 40}, e.Target)
	assert.InDelta(t, 40*0.005+0.001, e.Total, 1e-9)
	assert.InDelta(t, float64(info.Totals.Work().Bytes)/1e9*0.02, e.Monthly, 1e-12)
	assert.True(t, e.Example)
	assert.Equal(t, []string{"north"}, e.Assumed)
	assert.Less(t, e.Soon, e.Late)
	assert.Zero(t, e.Calibrated)
	run(t, s, "masters", workroom.Freshness{})
	again := s.Estimate(ctx, j, &info)
	assert.Equal(t, 1, again.Calibrated)
	require.Len(t, again.Past, 1)
	assert.InEpsilon(t, again.Past[0].Actual.Seconds(), again.Expect.Seconds(), 0.01, "as the run before took")

	put(t, dir, "rates.toml", "currency = \"EUR\"\n[rates.south]\nwrites = 1.0\n")
	other := open(t, dir)
	require.Len(t, other.Workspace().Mistakes, 1)
	assert.ErrorContains(t, other.Workspace().Mistakes[0], `rates.toml:2:8: there is no endpoint "south"`)
	assert.Equal(t, []string{"north"}, other.Estimate(ctx, j, &info).Unpriced, "nothing is free by omission")
}

// What is looked at before a run, and mended from there.
func TestChecks(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "jobs/masters.toml", "source = \"studio\"\ntarget = \"north/archive/masters\"\ntarget-only = "+
		"\"delete\"\n")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	p, err := s.Place(ctx, "north/archive/masters")
	require.NoError(t, err)
	_, err = p.Write(ctx, "gone.wav", strings.NewReader("g"), 1, place.WriteOptions{Class: "GLACIER"})
	require.NoError(t, err)
	info := makePlan(t, s)
	check := func(name string) workroom.Check {
		all, err := s.Checks(ctx, "masters", info.Number)
		require.NoError(t, err)
		i := slices.IndexFunc(all, func(c workroom.Check) bool {
			return c.Name == name && (name != "permissions" || strings.HasPrefix(c.Found, "north"))
		})
		require.GreaterOrEqual(t, i, 0, "%s in %+v", name, all)
		return all[i]
	}
	assert.Equal(t, workroom.FixVersions, check("versions").Fix)
	say, err := s.Mend(ctx, "masters", info.Number, workroom.FixVersions)
	require.NoError(t, err)
	assert.Equal(t, "north/archive keeps versions now", say)
	assert.Equal(t, workroom.Fine, check("versions").Weigh)
	assert.Equal(t, workroom.FixTest, check("permissions").Fix)
	_, err = s.Mend(ctx, "masters", info.Number, workroom.FixTest)
	require.NoError(t, err)
	assert.Equal(t, workroom.Fine, check("permissions").Weigh)

	// The way back: what is cold has to be asked for.
	put(t, dir, "jobs/back.toml",
		"source = \"north/archive/masters\"\ntarget = \"studio/back\"\n[limits]\npart-size = \"5MiB\"\n")
	s = open(t, dir)
	back, err := s.Plan(ctx, "back", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	assert.EqualValues(t, 1, back.Cold.Count)
	say, err = s.Mend(ctx, "back", back.Number, workroom.FixRestore)
	require.NoError(t, err)
	assert.Equal(t, "1 object asked to come back for 7 days", say)
	all, err := s.Checks(ctx, "back", back.Number)
	require.NoError(t, err)
	names := map[string]workroom.Weight{}
	for _, c := range all {
		names[c.Name] = c.Weigh
	}
	assert.Equal(t, workroom.Stop, names["cold"])
	assert.Equal(t, workroom.Fine, names["room"])

	// More objects than the store takes in a bucket, and one so large that its
	// parts have to be wider than the job says. Nothing of it is on the disk.
	endpoints, err := os.ReadFile(filepath.Join(dir, "endpoints.toml"))
	require.NoError(t, err)
	put(t, dir, "endpoints.toml", string(endpoints)+"max-objects = 20\n")
	put(t, dir, "studio/huge.wav", "")
	require.NoError(t, os.Truncate(filepath.Join(dir, "studio/huge.wav"), 100<<30))
	put(t, dir, "jobs/masters.toml",
		"source = \"studio\"\ntarget = \"north/archive/masters\"\n[limits] # ours\npart-size = \"5MiB\"\n")
	s = open(t, dir)
	info = makePlan(t, s)
	assert.Equal(t, workroom.Stop, check("objects").Weigh)
	assert.Equal(t, workroom.FixPartWider, check("parts").Fix)
	_, err = s.Mend(ctx, "masters", info.Number, workroom.FixPartWider)
	require.NoError(t, err)
	text, err := s.Workspace().Text("masters")
	require.NoError(t, err)
	assert.Contains(t, text, "[limits] # ours\npart-size = '11MiB'\n")
	// In packs they fit, and the job is changed so.
	objects := check("objects")
	assert.Equal(t, workroom.FixPack, objects.Fix)
	assert.Contains(t, objects.Found, "it fits in packs, as 11 objects")
	say, err = s.Mend(ctx, "masters", info.Number, workroom.FixPack)
	require.NoError(t, err)
	assert.Contains(t, say, "target = north/archive/masters/*.tar.zst! now")
	require.NoError(t, os.Remove(filepath.Join(dir, "studio/huge.wav")))
	info = makePlan(t, s)
	objects = check("objects")
	assert.Equal(t, workroom.Fine, objects.Weigh)
	assert.Contains(t, objects.Found, "2 objects there after the run")
	assert.Contains(t, check("parts").Found, "a pack, 9.3 GiB at the most, goes in ")
	_, err = s.Mend(ctx, "masters", info.Number, workroom.FixPack)
	assert.ErrorIs(t, err, workspace.ErrBadInput, "it is in packs already")
	put(t, dir, "studio/huge.wav", "")
	require.NoError(t, os.Truncate(filepath.Join(dir, "studio/huge.wav"), 1<<40))
	put(t, dir, "jobs/masters.toml", "source = \"studio\"\ntarget = \"north/archive/one.tar!\"\n")
	s = open(t, dir)
	info = makePlan(t, s)
	assert.Equal(t, workroom.Stop, check("parts").Weigh)
	assert.Contains(t, check("parts").Found, "make several packs of it")
	for _, name := range []string{"studio/huge.wav", "studio/other.wav"} {
		put(t, dir, name, "")
		require.NoError(t, os.Truncate(filepath.Join(dir, name), 500<<30))
	}
	info = makePlan(t, s)
	assert.Equal(t, workroom.Fine, check("parts").Weigh)
	assert.Contains(t, check("parts").Found, "the pack goes in 2 rounds of 605 GiB at the most")
	require.NoError(t, os.Remove(filepath.Join(dir, "studio/other.wav")))
	require.NoError(t, os.Truncate(filepath.Join(dir, "studio/huge.wav"), 100<<30))
	info = makePlan(t, s)
	assert.Regexp(t, `^the pack, 100 GiB at the most, goes in [0-9,]+ of 10,000 parts of 11 MiB$`, check("parts").Found)
}

// Jobs are copied, renamed with all that is kept of them, and removed.
func TestJobsByName(t *testing.T) {
	dir := prepared(t)
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	run(t, s, "masters", workroom.Freshness{})
	text, err := s.Workspace().Text("masters")
	require.NoError(t, err)
	require.NoError(t, s.SaveJob("masters", "renamed", text))
	runs, err := s.Runs(ctx, "renamed", time.Time{}, 10)
	require.NoError(t, err)
	assert.Len(t, runs, 1)
	p, err := s.LatestPlan("renamed")
	require.NoError(t, err)
	require.NotNil(t, p)
	p.Close()
	assert.ErrorIs(t, s.SaveJob("", "renamed", text), workspace.ErrBadInput)
	assert.ErrorIs(t, s.SaveJob("", "broken", "source = 1"), workspace.ErrBadInput)
	assert.ErrorIs(t, s.SaveJob("", "tray-9", text), workspace.ErrBadInput)
	require.NoError(t, s.RemoveJob("renamed"))
	require.NoError(t, s.SaveJob("", "renamed", text))
	p, err = s.LatestPlan("renamed")
	require.NoError(t, err)
	assert.Nil(t, p, "a new job of an old name inherits nothing")
	require.NoError(t, s.SaveJob("renamed", "renamed", "template = true\n"+text))
	_, err = s.Plan(ctx, "renamed", workroom.Freshness{}, &workroom.Activity{})
	assert.ErrorContains(t, err, "this is a template")
	put(t, dir, "jobs/same.toml", "source = \"studio\"\ntarget = \"again/x\"\n")
	put(t, dir, "endpoints.toml",
		"[endpoint.studio]\nkind = \"folder\"\npath = \"studio\"\n[endpoint.again]\nkind = \"folder\"\npath = "+
			"\"studio/../studio\"\n")
	_, err = open(t, dir).Plan(ctx, "same", workroom.Freshness{}, &workroom.Activity{})
	assert.ErrorContains(t, err, "the same files")
}

func ref(key string) object.Ref { return object.Ref{Key: key} }

// Where only class, tags, metadata or permissions differ, that is an effect of
// its own, sends no content, and settles.
func TestMetadataOnly(t *testing.T) {
	dir := prepared(t)
	const base = "source = \"north/archive/masters\"\ntarget = \"north/second/masters\"\n"
	put(t, dir, "jobs/masters.toml", base)
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	require.NoError(t, s.MakeBucket(ctx, "north", "second"))
	from, err := s.Place(ctx, "north/archive/masters")
	require.NoError(t, err)
	for _, key := range []string{"a.wav", "b.wav"} {
		_, err := from.Write(ctx, key, strings.NewReader(key), int64(len(key)),
			place.WriteOptions{ContentType: "audio/wav"})
		require.NoError(t, err)
	}
	_, res := run(t, s, "masters", workroom.Freshness{})
	require.EqualValues(t, 2, res.Objects)
	require.NoError(t, from.(place.Tagger).SetTags(ctx, ref("a.wav"), map[string]string{"project": "dawn"}))

	step := func(more string, meta int64) plan.Info {
		put(t, dir, "jobs/masters.toml", base+more)
		s = open(t, dir)
		info, res := run(t, s, "masters", workroom.Freshness{})
		assert.EqualValues(t, meta, info.Totals[plan.Meta].Count, more)
		assert.EqualValues(t, meta, info.Totals.Work().Count, more)
		assert.Zero(t, info.Totals.Work().Bytes)
		assert.Zero(t, res.Bytes, "no content is sent")
		again := makePlan(t, s)
		assert.Zero(t, again.Totals.Work().Count, "%s: it settles", more)
		return info
	}
	step("[as]\nclass = \"STANDARD_IA\"\n", 2)
	step("[as]\nclass = \"STANDARD_IA\"\ntags = true\n", 1)
	step("[as]\nclass = \"STANDARD_IA\"\ntags = true\nmetadata = { owner = \"sound\" }\n", 2)
	to, err := s.Place(ctx, "north/second/masters")
	require.NoError(t, err)
	e, err := to.Stat(ctx, ref("a.wav"))
	require.NoError(t, err)
	assert.Equal(t, []string{"STANDARD_IA", "sound", "audio/wav"},
		[]string{e.Class, e.Metadata["owner"], e.ContentType})
	tags, err := to.(place.Tagger).Tags(ctx, ref("a.wav"))
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"project": "dawn"}, tags)

	// By tags: only what has them is taken.
	put(t, dir, "jobs/tagged.toml",
		"source = \"north/archive/masters\"\ntarget = \"studio/tagged\"\n[select]\ntags = { project = \"dawn\" }\n")
	s = open(t, dir)
	info, _ := run(t, s, "tagged", workroom.Freshness{})
	assert.EqualValues(t, 1, info.Totals[plan.Add].Count)
	assert.EqualValues(t, 1, info.Selected.Count)
	assert.Equal(t, []string{"a.wav"}, keys(t, filepath.Join(dir, "studio/tagged")))

	// A folder: permissions and times.
	put(t, dir, "jobs/home.toml", "source = \"studio/tagged\"\ntarget = \"studio/again\"\ncompare-by = \"content\"\n")
	s = open(t, dir)
	run(t, s, "home", workroom.Freshness{})
	require.NoError(t, os.Chmod(filepath.Join(dir, "studio/tagged/a.wav"), 0o640))
	old := time.Now().Add(-48 * time.Hour).Truncate(time.Second)
	require.NoError(t, os.Chtimes(filepath.Join(dir, "studio/tagged/a.wav"), old, old))
	info, res = run(t, s, "home", workroom.Freshness{})
	assert.EqualValues(t, 1, info.Totals[plan.Meta].Count)
	assert.Zero(t, res.Bytes)
	at, err := os.Stat(filepath.Join(dir, "studio/again/a.wav"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), at.Mode().Perm())
	assert.True(t, at.ModTime().Equal(old))
}

// Files that are edited outside are what the next plan is made from, endpoints
// included; one that cannot be read is told, and what was read before stays.
func TestEditedOutside(t *testing.T) {
	dir := prepared(t)
	s := open(t, dir)
	before := s.Workspace()
	s.Reread()
	assert.Same(t, before, s.Workspace(), "nothing was changed")
	name := before.Jobs[0].Name
	file := filepath.Join(dir, "jobs", name+".toml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "elsewhere/only"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "elsewhere/only/one.wav"), []byte("reed"), 0o600))
	endpoints := filepath.Join(dir, "endpoints.toml")
	was, err := os.ReadFile(endpoints)
	require.NoError(t, err)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	makePlan(t, s)

	require.NoError(t, os.WriteFile(endpoints,
		append(was, "\n[endpoint.elsewhere]\nkind = \"folder\"\npath = \"elsewhere\"\n"...), 0o600))
	require.NoError(t, os.WriteFile(file,
		[]byte(strings.Replace(string(text), "source = \"studio\"", "source = \"elsewhere\"", 1)), 0o600))
	info, err := s.Plan(ctx, name, workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	assert.EqualValues(t, 1, info.Totals[plan.Add].Count, "of the job as it is now")

	require.NoError(t, os.Rename(filepath.Join(dir, "elsewhere"), filepath.Join(dir, "moved")))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "elsewhere"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "moved/only/two.wav"), []byte("reed"), 0o600))
	require.NoError(t, os.WriteFile(endpoints,
		append(was, "\n[endpoint.elsewhere]\nkind = \"folder\"\npath = \"moved\"\n"...), 0o600))
	info, err = s.Plan(ctx, name, workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	assert.EqualValues(t, 2, info.Totals[plan.Add].Count, "of the endpoint as it is now")

	require.NoError(t, os.WriteFile(endpoints, []byte("[endpoint"), 0o600))
	s.Reread()
	s.Reread()
	require.Len(t, s.Workspace().Mistakes, len(before.Mistakes)+1)
	assert.Contains(t, s.EndpointNames(), "elsewhere")
	_, err = s.Plan(ctx, name, workroom.Freshness{}, &workroom.Activity{})
	assert.ErrorIs(t, err, workspace.ErrBadInput)
	require.NoError(t, os.WriteFile(endpoints, was, 0o600))
	s.Reread()
	assert.NotContains(t, s.EndpointNames(), "elsewhere")
}
