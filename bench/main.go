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
	what, of := "all", ""
	if len(os.Args) > 1 {
		what = os.Args[1]
	}
	if len(os.Args) > 2 {
		of = os.Args[2]
	}
	dir, err := os.MkdirTemp("", "lumtra-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	switch what { // in processes of their own, since the most memory they have had is measured
	case "memory":
		return measureMemory(dir, of)
	case "plan":
		return measurePlans(dir)
	}
	fmt.Printf("%s, %d processors, %s, %s\n\n", runtime.Version(), runtime.NumCPU(), runtime.GOARCH,
		time.Now().Format("2006-01-02"))
	program := filepath.Join(dir, "lumtra")
	if out, err := exec.Command("go", "build", "-buildvcs=false", "-o", program,
		"./cmd/lumtra").CombinedOutput(); err != nil {
		return fmt.Errorf("building: %w\n%s", err, out)
	}
	switch what {
	case "window":
		return measureWindow(filepath.Join(dir, "window"), program)
	case "stores":
		return errors.Join(measureStores(filepath.Join(dir, "stores"), program, "S3"),
			measureStores(filepath.Join(dir, "stores"), program, "Blob"))
	case "folders":
		return measureFolders(dir)
	case "digests":
		return measureDigests(filepath.Join(dir, "digests"), program)
	case "packs":
		return measurePacks(filepath.Join(dir, "packs"), program)
	case "ways":
		return measureWays(filepath.Join(dir, "ways"), program)
	case "servers":
		return measureServers(filepath.Join(dir, "servers"))
	case "many":
		objects, err := strconv.Atoi(of)
		if err != nil {
			return err
		}
		return measureMany(filepath.Join(dir, "many"), program, objects)
	case "run":
		return measureRuns(dir, program)
	case "against":
		return measurePair(dir, program, of)
	case "listing":
		return measureListings()
	case "all":
		return measureAll(dir, program)
	}
	return fmt.Errorf("there is no %q; there are all, listing, run, stores, folders, digests, ways, servers, many "+
		"N, plan, window, against BUILD", what)
}

// measureAll is what `make bench` does.
func measureAll(dir, program string) error {
	if err := measureListings(); err != nil {
		return err
	}
	if err := measureRuns(dir, program); err != nil {
		return err
	}
	plans := exec.Command(os.Args[0], "plan")
	plans.Stdout, plans.Stderr = os.Stdout, os.Stderr
	if err := plans.Run(); err != nil {
		return err
	}
	return measureWindow(filepath.Join(dir, "window"), program)
}

func measureListings() error {
	for _, measure := range []func() error{measureListing, measureFarListing} {
		if err := measure(); err != nil {
			return fmt.Errorf("listing: %w", err)
		}
	}
	return nil
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
