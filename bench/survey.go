package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/plan"
	"lumtra/core/rule"
)

const surveyFiles = 200_000

// measureSurvey holds a survey of a local tree, its catalog written, against a
// bare walk in order that does nothing with what it finds.
func measureSurvey(dir string) error {
	defer os.RemoveAll(dir)
	for i := range surveyFiles {
		name := filepath.Join(dir, fmt.Sprintf("tiles/%02d/%03d/tile-%06d.png", i/20_000, i/200%100, i))
		if i%200 == 0 {
			if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
				return err
			}
		}
		if err := os.WriteFile(name, nil, 0o644); err != nil {
			return err
		}
	}
	end, err := folder.OpenEndpoint("studio", dir, folder.Options{})
	if err != nil {
		return err
	}
	defer end.Close()
	p, err := end.Open("tiles")
	if err != nil {
		return err
	}
	var ours, floor []time.Duration
	for range 5 { // in turn, so that both see the same machine
		began := time.Now()
		if n := bareWalk(filepath.Join(dir, "tiles")); n != surveyFiles {
			return fmt.Errorf("the walk found %d files", n)
		}
		floor = append(floor, time.Since(began))
		began = time.Now()
		c, err := catalog.Survey(context.Background(), p, filepath.Join(dir, "catalog"), catalog.Options{})
		if err != nil {
			return err
		}
		ours = append(ours, time.Since(began))
		if c.Close(); c.Info.Objects != surveyFiles {
			return fmt.Errorf("the survey found %d files", c.Info.Objects)
		}
	}
	fmt.Printf("survey of %d files in 1,000 folders: %.0f ms; bare ordered ReadDir and Lstat: %.0f ms; %.2f times "+
		"its rate\n\n",
		surveyFiles, ms(median(ours)), ms(median(floor)), median(floor).Seconds()/median(ours).Seconds())
	return nil
}

// bareWalk lists files in byte order of keys, on one goroutine.
func bareWalk(dir string) (n int) {
	children, err := os.ReadDir(dir)
	if err != nil {
		return 0
	}
	names := make([]string, len(children))
	for i, c := range children {
		if names[i] = c.Name(); c.IsDir() {
			names[i] += "/"
		}
	}
	slices.Sort(names)
	for _, name := range names {
		if strings.HasSuffix(name, "/") {
			n += bareWalk(filepath.Join(dir, name))
		} else if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			n++
		}
	}
	return n
}

// measurePlan holds planning anew from two catalogs against decoding both.
func measurePlan(dir string, objects int, rounds int) error {
	defer os.RemoveAll(dir)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	var sides [2]*catalog.Catalog
	for i := range sides {
		w, err := catalog.Create(filepath.Join(dir, fmt.Sprint(i)), catalog.Info{Place: fmt.Sprint("side ", i)})
		if err != nil {
			return err
		}
		for n := range objects {
			e := object.Entry{Key: fmt.Sprintf("tiles/z%02d/%05d/%08d.png", n/1_000_000, n/100, n),
				Size: int64(n%4096 + i*(n%10)/9), Modified: time.Unix(int64(1.7e9)+int64(n), 0),
				ETag: fmt.Sprintf("%032x", uint64(n)*2654435761)}
			if err := w.Add(&e); err != nil {
				return err
			}
		}
		if _, err := w.Finish(); err != nil {
			return err
		}
		if sides[i], err = catalog.Open(filepath.Join(dir, fmt.Sprint(i))); err != nil {
			return err
		}
		defer sides[i].Close()
	}
	opts := plan.Options{Rules: rule.Default(), Target: place.Abilities{Tree: true, KeepsTimes: true}}
	var weighed, built, floor []time.Duration
	for i := range rounds {
		opts.Rules.Select.Exclude = []string{fmt.Sprintf("**/*%d.png", i)} // the rule that changed
		began := time.Now()
		for _, c := range sides {
			cur := c.Cursor("")
			for cur.Next() {
			}
			if cur.Err() != nil {
				return cur.Err()
			}
		}
		floor = append(floor, time.Since(began))
		began = time.Now()
		info, err := plan.Weigh(context.Background(), sides[0], sides[1], opts)
		if err != nil {
			return err
		}
		weighed = append(weighed, time.Since(began))
		began = time.Now()
		p, err := plan.Build(context.Background(), filepath.Join(dir, "plan"), sides[0], sides[1], opts)
		if err != nil {
			return err
		}
		built = append(built, time.Since(began))
		if p.Close(); p.Info.Totals != info.Totals || info.Totals.All().Count != int64(objects) {
			return fmt.Errorf("the plan's totals are %v", p.Info.Totals)
		}
	}
	fmt.Printf("planning anew, %d × %d entries: %.2f s for the effect, %.2f s with the plan written; decoding both "+
		"catalogs: %.2f s; %.2f and %.2f times; %d MB resident at the most\n\n",
		objects, objects, median(weighed).Seconds(), median(built).Seconds(), median(floor).Seconds(),
		median(weighed).Seconds()/median(floor).Seconds(), median(built).Seconds()/median(floor).Seconds(), peak()>>20)
	runtime.GC()
	return nil
}

// peak is the most memory this process has had resident, in bytes.
func peak() int64 {
	raw, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(raw), "VmHWM:")
	var kb int64
	fmt.Sscan(rest, &kb)
	return kb << 10
}
