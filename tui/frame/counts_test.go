package frame

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lumtra/core/handle"
	"lumtra/core/place"
	"lumtra/service"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// What an administrator asks most is answered within so many keys from the first view.
func TestFewKeys(t *testing.T) {
	dir := t.TempDir()
	put := func(name, text string) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	put("endpoints.toml", "[endpoint.north]\nkind = \"s3\"\nstand-in = \"north\"\n[endpoint.studio]\nkind = "+
		"\"folder\"\npath = \"studio\"\n[endpoint.trunk]\nkind = \"folder\"\npath = \"trunk\"\n")
	put("studio/reeds/take.wav", "reed")
	put("studio/weir/take.wav", "weir")
	put("jobs/both.toml", "source = \"studio\"\ntarget = \"trunk\"\ndirection = \"two-way\"\n")
	put("trunk/reeds/take.wav", "other than at the source")
	put("jobs/masters.toml", "source = \"studio\"\ntarget = \"north/archive/masters\"\n")
	ctx := context.Background()
	s, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state"), Trust: true})
	require.NoError(t, err)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	at := workspace.At{Endpoint: "north", Bucket: "archive"}
	_, err = s.SetVersioning(ctx, at, true)
	require.NoError(t, err)
	p, err := s.Root(at)
	require.NoError(t, err)
	_, err = p.Write(ctx, "gone.wav", strings.NewReader("tide"), 4, place.WriteOptions{})
	require.NoError(t, err)
	at.Key = "gone.wav"
	act, err := s.Remove([]workspace.At{at}, false, countOf(t, s, at), 1)
	require.NoError(t, err)
	require.NoError(t, act.Wait())
	_, err = s.Plan(ctx, "both", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	_, err = s.Plan(ctx, "masters", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	run, err := s.StartRun(ctx, "masters", workroom.RunOptions{})
	require.NoError(t, err)
	_, err = run.Wait()
	require.NoError(t, err)
	require.NoError(t, s.Close())

	for question, c := range map[string]struct {
		most  int
		steps []string
	}{
		"what runs":              {0, []string{"~nothing running"}},
		"what needs me":          {0, []string{"~both +1 conflict|both(.|\n)*conflict"}},
		"what would this job do": {2, []string{"j", "3", "~› Jobs › masters(.|\n)*sends +\\d"}},
		"is it right":            {2, []string{"~▌ both", "6", "v", "~▲ It does not hold"}},
		"the reason of one object's effect": {4, []string{"4", "~▌ ▸ reeds", "enter", "~take.wav", "j",
			"~conflict because"}},
		"bring back what was deleted": {6, []string{"2", "~▌ ▸ north", "right", "~▌ +▸ archive/", "right",
			"~▌ +▸ masters/",
			"V",
			"~gone.wav", "k", "~▌ +○ gone.wav", "U", "~undelete: 1 object"}},
	} {
		t.Run(question, func(t *testing.T) {
			t.Parallel()
			x := openStage(t, copied(t, dir))
			x.goes("~masters(.|\n)*nothing running")
			keys := 0
			for _, step := range c.steps {
				if step[0] != '~' {
					keys++
				}
			}
			x.goes(c.steps...)
			require.LessOrEqual(t, keys, c.most)
		})
	}
}

// countOf measures what would be deleted.
func countOf(t *testing.T, s *service.Service, at workspace.At) handle.Count {
	n, err := s.Measure(context.Background(), []workspace.At{at}, false, nil)
	require.NoError(t, err)
	return n
}
