// Mutate puts small faults into the code that guards what a person decides, one at a
// time, and runs the tests that should notice. It prints the share that was noticed and
// every fault that was not, with its place, so that a test can be written for it. Those
// that nothing can notice stand in survivors.txt with the reason.
//
//	go run ./tools/mutate [-n 40] [-seed 1] [file or folder …]
//
// Without arguments it goes through the decision code as a whole (see targets). A fault
// is an operator turned round, a branch that is never taken, a statement left out, a
// truth value turned round unless it is returned beside an error; one that does not
// compile does not count. The tests see it through an overlay: no file is touched.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"
)

// target is a file and the tests that guard it, quickest first.
type target struct {
	file  string
	tests []string
}

var (
	most    = flag.Int("n", 40, "faults of each file at the most, drawn at random; 0 for all")
	seed    = flag.Uint64("seed", 1, "what the drawing begins with")
	listing = flag.Bool("list", false, "print the faults, and try none")
)

func main() {
	flag.Parse()
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "mutate:", err)
		os.Exit(1)
	}
}

func run() error {
	dir, err := os.MkdirTemp("", "mutate-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	known, err := survivors()
	if err != nil {
		return err
	}
	draw := rand.New(rand.NewPCG(*seed, 0))
	var all []*trial
	for _, t := range chosen(flag.Args()) {
		faults, err := faultsOf(t.file)
		if err != nil {
			return err
		}
		draw.Shuffle(len(faults), func(i, j int) { faults[i], faults[j] = faults[j], faults[i] })
		if *most > 0 {
			faults = faults[:min(*most, len(faults))]
		}
		slices.SortFunc(faults, func(a, b fault) int { return a.from - b.from })
		for _, f := range faults {
			all = append(all, &trial{fault: f, tests: t.tests})
		}
	}
	if *listing {
		for _, t := range all {
			fmt.Printf("%d\t%s\n", t.fault.line, t.fault.name())
		}
		return nil
	}
	try(all, dir)
	return report(all, known)
}

// try runs the trials, several at a time.
func try(all []*trial, dir string) {
	next := make(chan *trial)
	var done sync.WaitGroup
	for i := range max(runtime.NumCPU()/2, 2) {
		done.Go(func() {
			own := filepath.Join(dir, fmt.Sprint(i))
			for t := range next {
				t.outcome = t.run(own)
				fmt.Printf("%-9s %s\n", t.outcome, t)
			}
		})
	}
	for _, t := range all {
		next <- t
	}
	close(next)
	done.Wait()
}

// report prints what was noticed, file by file, and fails below the bar.
func report(all []*trial, known map[string]string) error {
	type count struct{ caught, tried int }
	files, sum, unseen, endless := map[string]*count{}, count{}, 0, 0
	var order []string
	fmt.Println()
	for _, t := range all {
		if t.outcome == invalid {
			continue
		}
		c := files[t.fault.file]
		if c == nil {
			c = &count{}
			files[t.fault.file], order = c, append(order, t.fault.file)
		}
		c.tried++
		sum.tried++
		if t.outcome == hung {
			endless++
		}
		if t.outcome == caught || t.outcome == hung {
			c.caught++
			sum.caught++
			continue
		}
		why := known[t.fault.name()]
		if why == "" {
			why = "not looked at yet"
		} else {
			unseen++
		}
		fmt.Printf("survived  %s\n          %s\n", t, why)
	}
	fmt.Println()
	for _, f := range order {
		fmt.Printf("%4d of %4d  %s\n", files[f].caught, files[f].tried, f)
	}
	if sum.tried == 0 {
		return errors.New("nothing was tried")
	}
	share := 100 * float64(sum.caught) / float64(max(sum.tried-unseen, 1))
	fmt.Printf("%d of %d faults caught (%d of them by tests that did not end): %.1f %%; without the %d that nothing "+
		"can notice, each listed with why: %.1f "+
		"%%\n",
		sum.caught, sum.tried, endless, 100*float64(sum.caught)/float64(sum.tried), unseen, share)
	if share < bar {
		return fmt.Errorf("the bar is %d %%", bar)
	}
	return nil
}

// bar is the share of faults that tests have to notice, in percent, of those that change
// anything that could be noticed.
const bar = 90

// survivors are the faults that no test can notice, since what the program does stays the
// same but for the time it takes, each with the reason.
func survivors() (map[string]string, error) {
	f, err := os.Open("tools/mutate/survivors.txt")
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	known := map[string]string{}
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if name, why, ok := strings.Cut(lines.Text(), "\t"); ok {
			known[name] = why
		}
	}
	return known, nil
}

// outcome is what became of a fault.
type outcome string

const (
	caught   outcome = "caught"
	hung     outcome = "hung" // the tests did not end, which is noticed, too
	survived outcome = "SURVIVED"
	invalid  outcome = "invalid"
)

// trial is a fault and the tests that are to notice it.
type trial struct {
	fault   fault
	tests   []string
	outcome outcome
}

func (t *trial) String() string { return t.fault.String() }

// patience is how long tests may take with a fault in the code; one that hangs is noticed.
const patience = 3 * time.Minute

// run tries one fault; dir is for files of its own.
func (t *trial) run(dir string) outcome {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return invalid
	}
	overlay, code := filepath.Join(dir, "overlay.json"), filepath.Join(dir, "code.go")
	path, err := filepath.Abs(t.fault.file)
	if err != nil {
		return invalid
	}
	raw, err := json.Marshal(map[string]any{"Replace": map[string]string{path: code}})
	if errors.Join(err, os.WriteFile(overlay, raw, 0o600), os.WriteFile(code, t.fault.apply(), 0o600)) != nil {
		return invalid
	}
	for _, tests := range t.tests {
		ctx, stop := context.WithTimeout(context.Background(), patience)
		args := append([]string{"test", "-overlay", overlay, "-failfast", "-vet=off", "-count=1"},
			strings.Fields(tests)...)
		cmd := exec.CommandContext(ctx, "go", args...)
		cmd.WaitDelay = time.Second
		out, err := cmd.CombinedOutput()
		late := ctx.Err() != nil
		stop()
		switch {
		case strings.Contains(string(out), "[build failed]"), strings.Contains(string(out), "[setup failed]"):
			return invalid
		case late:
			return hung
		case err != nil:
			return caught
		}
	}
	return survived
}
