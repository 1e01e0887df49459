package main

import (
	"bufio"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
)

// event is a line of `go test -json`, as cmd/test2json documents it.
type event struct {
	Action, Package, Test string
	Elapsed               float64 // seconds
}

// test is a test, or with an empty Test what a package came to as a whole.
type test struct{ Package, Test string }

func (t test) String() string { return strings.TrimPrefix(t.Package, "lumtra/") + " " + t.Test }

// result is what a test came to, try by try, and how long the longest took.
type result struct {
	ends []string // "pass", "fail", "skip"
	took float64
}

// run is all that came of a run.
type run map[test]*result

// read takes in the events. What is no event is left out: a build that fails prints beside them.
func read(in io.Reader) (run, error) {
	all := run{}
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 64<<20)
	for lines.Scan() {
		var e event
		if json.Unmarshal(lines.Bytes(), &e) != nil || e.Package == "" {
			continue
		}
		at := test{e.Package, e.Test}
		if all[at] == nil {
			all[at] = &result{}
		}
		switch e.Action {
		case "pass", "fail", "skip":
			all[at].ends = append(all[at].ends, e.Action)
			all[at].took = max(all[at].took, e.Elapsed)
		}
	}
	return all, lines.Err()
}

// bad tells whether a test did not pass in the end: it failed, or never came to an end.
func (r *result) bad() bool { return len(r.ends) == 0 || r.ends[len(r.ends)-1] == "fail" }

// shook tells whether it failed and then passed.
func (r *result) shook() bool { return !r.bad() && slices.Contains(r.ends, "fail") }

// slowest are the tests of a package's own that took longest.
func (r run) slowest(most int) (lines []string) {
	var tests []test
	for t := range r {
		if t.Test != "" && !strings.Contains(t.Test, "/") {
			tests = append(tests, t)
		}
	}
	slices.SortFunc(tests, func(a, b test) int { return cmp.Compare(r[b].took, r[a].took) })
	for _, t := range tests[:min(most, len(tests))] {
		lines = append(lines, fmt.Sprintf("%6.1f s  %s", r[t].took, t))
	}
	return lines
}

// those are the innermost tests, and the packages without a test, of which it is so.
func (r run) those(so func(*result) bool) (names []string) {
	var all []test
	for t, res := range r {
		if so(res) {
			all = append(all, t)
		}
	}
	for _, t := range all {
		if !slices.ContainsFunc(all, func(x test) bool {
			return x.Package == t.Package && x != t && (t.Test == "" || strings.HasPrefix(x.Test, t.Test+"/"))
		}) {
			names = append(names, t.String())
		}
	}
	slices.Sort(names)
	return names
}

// shaky says which tests failed and then passed.
func (r run) shaky() (lines []string) {
	for _, name := range r.those((*result).shook) {
		lines = append(lines, "shaky   "+name)
	}
	return lines
}

// mostFailed is how many names of tests that failed are said.
const mostFailed = 15

// failed says which tests failed.
func (r run) failed() (lines []string) {
	all := r.those((*result).bad)
	for _, name := range all[:min(len(all), mostFailed)] {
		lines = append(lines, "FAILED  "+name)
	}
	if more := len(all) - mostFailed; more > 0 {
		lines = append(lines, fmt.Sprintf("FAILED  and %d more", more))
	}
	return lines
}
