package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// pairRounds are many: what a machine does beside moves one round by more than builds differ.
const pairRounds = 5

// measurePair measures two builds of the program against each other and against the floor that reads, sums and
// signs, in one run, in an order that rotates. What is timed is `lumtra run` of a plan that was made before, to a store
// that was tested: its start, its checks, the run and what it notes of it.
func measurePair(dir, program, against string) error {
	other, err := buildOf(dir, against)
	if err != nil {
		return err
	}
	for _, u := range []upload{
		{name: "2 GiB as 8 MiB parts", object: 256 << 20, count: 8, part: 8 << 20, streams: 8},
		{name: "40,000 objects of 4 KiB", object: 4 << 10, count: 40_000, streams: 16},
	} {
		if err := u.pair(filepath.Join(dir, "pair"), program, other, against); err != nil {
			return fmt.Errorf("%s: %w", u.name, err)
		}
	}
	return nil
}

// buildOf is the program at a path, or that of a revision.
func buildOf(dir, against string) (string, error) {
	if info, err := os.Stat(against); err == nil && info.Mode().IsRegular() {
		return filepath.Abs(against)
	}
	tree, program := filepath.Join(dir, "tree"), filepath.Join(dir, "lumtra-"+strings.ReplaceAll(against, "/", "-"))
	if out, err := exec.Command("git", "worktree", "add", "--detach", tree, against).CombinedOutput(); err != nil {
		return "", fmt.Errorf("%s is no program and no revision: %s", against, out)
	}
	defer exec.Command("git", "worktree", "remove", "--force", tree).Run()
	build := exec.Command("go", "build", "-buildvcs=false", "-o", program, "./cmd/lumtra")
	build.Dir = tree
	if out, err := build.CombinedOutput(); err != nil {
		return "", fmt.Errorf("building %s: %w\n%s", against, err, out)
	}
	return program, nil
}

func (u upload) pair(dir, program, other, against string) error {
	defer os.RemoveAll(dir)
	if err := u.fill(filepath.Join(dir, "source")); err != nil {
		return err
	}
	var floors, ours, others []time.Duration
	var floorCPU, oursCPU, othersCPU time.Duration
	for round := range pairRounds {
		steps := []func(string) error{
			func(addr string) error {
				return timed(&floors, &floorCPU,
					func() error { return u.readingFloor(filepath.Join(dir, "source"), addr) })
			},
			func(addr string) error { return u.command(dir, program, addr, &ours, &oursCPU) },
			func(addr string) error { return u.command(dir, other, addr, &others, &othersCPU) },
		}
		for i := range steps {
			if err := onFreshStore(program, filepath.Join(dir, "store"), nil, steps[(i+round)%len(steps)]); err != nil {
				return err
			}
		}
	}
	fmt.Printf("Folder to stand-in, %s, %d streams (median of %d)\n", u.name, u.streams, pairRounds)
	show := func(name string, took []time.Duration, cpu time.Duration) {
		fmt.Printf("  %-34s %7.2f s  %8.0f objects/s  %.2f of the floor, client CPU %.2f times\n", name,
			median(took).Seconds(), float64(u.count)/median(took).Seconds(),
			median(floors).Seconds()/median(took).Seconds(), cpu.Seconds()/floorCPU.Seconds())
	}
	show("floor: reading, summing, signed", floors, floorCPU)
	show("this build", ours, oursCPU)
	show(against, others, othersCPU)
	pairs := make([]time.Duration, pairRounds)
	for i := range pairs {
		pairs[i] = time.Duration(float64(time.Second) * others[i].Seconds() / ours[i].Seconds())
	}
	fmt.Printf("  %-34s %7.2f times its rate, round by round; CPU %.2f times\n\n", "this build to the other",
		median(pairs).Seconds(), oursCPU.Seconds()/othersCPU.Seconds())
	return nil
}

// command runs a job of a workspace of its own by a program; only the run is timed.
func (u upload) command(dir, program, addr string, times *[]time.Duration, cpu *time.Duration) error {
	work, err := os.MkdirTemp(dir, "work-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	if err := os.MkdirAll(filepath.Join(work, "jobs"), 0o755); err != nil {
		return err
	}
	endpoints := fmt.Sprintf("[endpoint.source]\nkind = \"folder\"\npath = %q\n[endpoint.store]\nkind = \"s3\"\n"+
		"address = %q\naccess-key = \"bench\"\nsecret-from = \"env:LUMTRA_BENCH_SECRET\"\n",
		filepath.Join(dir, "source"), addr)
	job := fmt.Sprintf("source = \"source\"\ntarget = \"store/bench/ours\"\n[limits]\nstreams = %d\n", u.streams)
	if u.part > 0 {
		job += fmt.Sprintf("part-size = \"%d\"\n", u.part)
	}
	for name, text := range map[string]string{"endpoints.toml": endpoints, "jobs/bench.toml": job} {
		if err := os.WriteFile(filepath.Join(work, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	lumtra := func(args ...string) *exec.Cmd {
		cmd := exec.Command(program, append(args, "--workspace", work, "--state", filepath.Join(work, "state"),
			"--trust")...)
		cmd.Env = append(os.Environ(), "LUMTRA_BENCH_SECRET=bench")
		return cmd
	}
	lumtra("endpoint", "test", "store", "--bucket", "bench").Run() // a run goes by what its build has found out
	if out, err := lumtra("plan", "bench").CombinedOutput(); err != nil {
		return fmt.Errorf("%w\n%s", err, out)
	}
	run := lumtra("run", "bench", "--plan", "1")
	began := time.Now()
	out, err := run.CombinedOutput()
	*times = append(*times, time.Since(began))
	if err != nil {
		return errors.Join(err, errors.New(string(out)))
	}
	*cpu += run.ProcessState.UserTime() + run.ProcessState.SystemTime()
	return nil
}
