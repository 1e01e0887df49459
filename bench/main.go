// Command bench measures Lumtra against a bare floor in the same run and
// prints the ratios. It talks to loopback only and ends by itself.
package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"time"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run() error {
	dir, err := os.MkdirTemp("", "lumtra-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if len(os.Args) < 2 || os.Args[1] != "memory" && os.Args[1] != "plan" {
		fmt.Printf("%s, %d processors, %s, %s\n\n", runtime.Version(), runtime.NumCPU(), runtime.GOARCH, time.Now().Format("2006-01-02"))
	}
	program := filepath.Join(dir, "lumtra")
	if len(os.Args) > 1 && os.Args[1] == "plan" {
		return measurePlans(dir)
	}
	if len(os.Args) > 2 && os.Args[1] == "memory" {
		return measureMemory(dir, os.Args[2])
	}
	if out, err := exec.Command("go", "build", "-buildvcs=false", "-o", program, "./cmd/lumtra").CombinedOutput(); err != nil {
		return fmt.Errorf("building: %w\n%s", err, out)
	}
	if len(os.Args) > 1 && os.Args[1] == "window" {
		return measureWindow(filepath.Join(dir, "window"), program)
	}
	if len(os.Args) > 1 && os.Args[1] == "stores" {
		return errors.Join(measureStores(filepath.Join(dir, "stores"), program, "S3"), measureStores(filepath.Join(dir, "stores"), program, "Blob"))
	}
	if len(os.Args) > 1 && os.Args[1] == "digests" {
		return measureDigests(filepath.Join(dir, "digests"), program)
	}
	if len(os.Args) > 1 && os.Args[1] == "ways" {
		return measureWays(filepath.Join(dir, "ways"), program)
	}
	if len(os.Args) > 2 && os.Args[1] == "many" {
		objects, err := strconv.Atoi(os.Args[2])
		if err != nil {
			return err
		}
		return measureMany(filepath.Join(dir, "many"), program, objects)
	}
	if len(os.Args) > 1 && os.Args[1] == "run" {
		return measureRuns(dir, program)
	}
	for _, measure := range []func() error{measureListing, measureFarListing} {
		if err := measure(); err != nil {
			return fmt.Errorf("listing: %w", err)
		}
	}
	if len(os.Args) > 1 && os.Args[1] == "listing" {
		return nil
	}
	if err := measureRuns(dir, program); err != nil {
		return err
	}
	// In a process of its own, since the most memory it has had is measured.
	plans := exec.Command(os.Args[0], "plan")
	plans.Stdout, plans.Stderr = os.Stdout, os.Stderr
	if err := plans.Run(); err != nil {
		return err
	}
	return measureWindow(filepath.Join(dir, "window"), program)
}

// measurePlans measures surveys and plans.
func measurePlans(dir string) error {
	if err := measureSurvey(filepath.Join(dir, "survey")); err != nil {
		return fmt.Errorf("survey: %w", err)
	}
	for _, size := range []struct{ objects, rounds int }{{1_000_000, 5}, {10_000_000, 1}} {
		if err := measurePlan(filepath.Join(dir, "plan"), size.objects, size.rounds); err != nil {
			return fmt.Errorf("plan: %w", err)
		}
	}
	return nil
}

// median of an odd number of durations.
func median(d []time.Duration) time.Duration {
	d = slices.Clone(d)
	slices.Sort(d)
	return d[len(d)/2]
}
