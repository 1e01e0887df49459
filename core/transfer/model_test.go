package transfer_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/agreed"
	"lumtra/core/catalog"
	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/plan"
	"lumtra/core/plan/plantest"
	"lumtra/core/rule"
	"lumtra/core/transfer"
	"lumtra/testkit"
)

// Random trees and rules, several rounds of changes on both sides: each plan is
// the one the reference makes, and running it makes both sides what the plan
// says.
func TestModel(t *testing.T) {
	testkit.Heavy(t)
	for _, kind := range []string{"folder", "s3", "blob"} {
		t.Run(kind, func(t *testing.T) {
			w, n := newWorldOf(t, map[string]string{"folder": "s3"}[kind]+strings.TrimPrefix(kind, "folder")), 0
			testkit.Check(t, func(t *rapid.T) {
				n++
				m := &model{temp: filepath.Join(w.temp, fmt.Sprint("m", n)), now: plantest.Now}
				require.NoError(t, os.MkdirAll(m.temp, 0o755))
				var close func()
				m.source, close = scratch(t, m.temp+"/source")
				defer close()
				if kind == "folder" {
					m.target, close = scratch(t, m.temp+"/target")
					defer close()
				} else {
					var err error
					m.target, err = w.at.Open(fmt.Sprint("archive/", n))
					require.NoError(t, err)
				}
				m.world.Rules = plantest.Rules(t)
				for range rapid.IntRange(1, 3).Draw(t, "rounds") {
					m.meddle(t, m.source)
					m.meddle(t, m.target)
					m.round(t)
				}
				os.RemoveAll(m.temp)
			})
		})
	}
}

func scratch(t *rapid.T, dir string) (place.Place, func()) {
	require.NoError(t, os.Mkdir(dir, 0o755))
	end, err := folder.OpenEndpoint(filepath.Base(dir), dir, folder.Options{})
	require.NoError(t, err)
	p, err := end.Open("")
	require.NoError(t, err)
	return p, func() { end.Close() }
}

type model struct {
	source, target place.Place
	temp           string
	world          plantest.World
	now            time.Time
	rounds, writes int
}

// meddle writes and removes a few objects at one side.
func (m *model) meddle(t *rapid.T, p place.Place) {
	for range rapid.IntRange(0, 6).Draw(t, "changes") {
		key := plantest.Key(t)
		if rapid.IntRange(0, 3).Draw(t, "delete?") == 0 {
			p.Remove(ctx, object.Ref{Key: key})
			continue
		}
		m.writes++ // no two objects have one time
		at := plantest.Time(t).Add(time.Duration(m.writes) * time.Second)
		text := rapid.SampledFrom([]string{"", "x", "y", "zz"}).Draw(t, "text")
		// a clash is refused, and well so
		p.Write(ctx, key, strings.NewReader(text), int64(len(text)), place.WriteOptions{Original: at})
	}
}

func texts(t require.TestingT, p place.Place) map[string]string {
	all := map[string]string{}
	for e, err := range p.List(ctx, "", place.ListOptions{}) {
		if place.KindOf(err) == place.NotFound && err != nil {
			break
		}
		require.NoError(t, err)
		r, _, err := p.Read(ctx, e.Key, place.ReadOptions{})
		require.NoError(t, err)
		var text strings.Builder
		text.Grow(int(min(max(0, e.Size), 64<<20)))
		_, err = io.Copy(&text, r)
		r.Close()
		if err != nil && place.KindOf(err) == place.Corrupt {
			all[e.Key] = "damaged: " + err.Error() // which equals nothing that is wanted
			continue
		}
		require.NoError(t, err)
		all[e.Key] = text.String()
	}
	return all
}

func tree(t require.TestingT, c *catalog.Catalog) plantest.Tree {
	all := plantest.Tree{}
	cur := c.Cursor("")
	for cur.Next() {
		all[cur.Entry().Key] = *cur.Entry()
	}
	require.NoError(t, cur.Err())
	return all
}

// round plans, holds the plan against the reference, runs it and looks at both
// sides.
func (m *model) round(t *rapid.T) {
	m.rounds++
	m.now = m.now.Add(time.Minute)
	base := filepath.Join(m.temp, fmt.Sprint(m.rounds))
	a, err := catalog.Survey(ctx, m.source, base+"-a", catalog.Options{})
	require.NoError(t, err)
	defer a.Close()
	b, err := catalog.Survey(ctx, m.target, base+"-b", catalog.Options{})
	require.NoError(t, err)
	defer b.Close()
	known, err := agreed.OpenMemory(m.temp, m.source.Name(), m.target.Name())
	require.NoError(t, err)
	defer known.Close()

	here, there := texts(t, m.source), texts(t, m.target)
	able := m.target.Abilities()
	w := &m.world
	w.Source, w.Target, w.KeepsTimes, w.IsTree, w.Agreed = tree(t, a), tree(t, b), able.KeepsTimes, able.Tree, nil
	if known.States != nil {
		w.Agreed = plantest.Agreed{}
	}
	w.Doubts = map[string]agreed.Doubt{}
	w.SourceIsTree = true
	w.TargetClock = able.Clock
	w.Bad = func(string) bool { return false }
	w.Same = func(x, y object.Entry) bool { return here[x.Key] == there[y.Key] }
	for c := known.States.Cursor(""); c.Next(); {
		w.Agreed[c.Key()] = [2]object.Entry{c.Value().Source, c.Value().Target}
	}
	for c := known.Doubts.Cursor(""); c.Next(); {
		w.Doubts[c.Key()] = *c.Value()
	}
	p, err := plan.Build(ctx, base+".plan", a, b,
		plan.Options{Rules: w.Rules, Agreed: known.States, Doubts: known.Doubts,
			Source: m.source.Abilities(), Target: able, Now: m.now,
			SameContent: func(_ context.Context, x, y *object.Entry) (bool, error) { return w.Same(*x, *y), nil }})
	require.NoError(t, err)
	defer p.Close()

	want := w.Plan() // while both sides are as they were

	// What the plan says both sides will be.
	blocked := p.Info.Left > 0
	got := map[string]plantest.Outcome{}
	for c := p.Effects(""); c.Next(); {
		e := c.Effect()
		got[e.Key] = plantest.Outcome{Kind: e.Kind, Back: e.Back, Aside: e.Aside != ""}
		from, to := here, there
		if e.Back {
			from, to = there, here
		}
		if e.Kind == plan.Remove && blocked || !e.Kind.Acts() {
			continue // removals wait until nothing is missing
		}
		if e.Aside != "" {
			to[e.Aside] = to[e.Key]
			if e.Kind == plan.Change && w.Rules.Direction == rule.TwoWay {
				from[e.Aside] = to[e.Key] // both sides hold both
			}
		}
		if e.Kind == plan.Remove {
			delete(to, e.Key)
		} else if e.Kind.Moves() {
			to[e.Key] = from[e.Key]
		}
	}
	require.Equal(t, want, got)
	var leaving, unproven int64
	for key, o := range want {
		switch {
		case !w.Leaves(key, o):
			continue
		case here[key] != there[key]: // judged by size alone
			unproven++
		case w.Rules.Afterwards == rule.ArchiveSource:
			here[w.Rules.ArchivePath+"/"+plan.Stamp("", 0, m.now)+"/"+key] = here[key]
			fallthrough
		default:
			delete(here, key)
		}
		leaving++
	}
	require.Equal(t, leaving, p.Info.Afterwards.Count)

	ledger, err := ledger.Open(base+".ledger", "p", false)
	require.NoError(t, err)
	meter := &transfer.Meter{}
	out, err := transfer.Run(ctx, p, m.source, m.target, ledger, meter, quick)
	require.NoError(t, err)
	require.Equal(t, leaving-unproven, out.SeenTo)
	require.NoError(t, ledger.Close())
	for _, problem := range meter.Snapshot().Problems {
		require.True(t, blocked || problem.Count == unproven, "%+v", problem)
	}
	require.Equal(t, here, texts(t, m.source))
	require.Equal(t, there, texts(t, m.target))
	require.NoError(t, transfer.Agree(ctx, m.temp, known, p, base+".ledger"))
}
