// Told says what came of a run of tests, from the events that `go test -json` wrote: the slowest, those that
// failed and then passed, and last those that failed.
//
//	told EVENTS
//
// What failed and what was shaky goes to EVENTS.last too, for whoever runs several steps and says it all in the
// end. It judges nothing: whether the run was good is the runner's to say.
package main

import (
	"fmt"
	"os"
	"strings"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "told EVENTS")
		os.Exit(2)
	}
	if err := told(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "told:", err)
		os.Exit(1)
	}
}

func told(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	run, err := read(f)
	if err != nil {
		return err
	}
	for _, line := range run.slowest(10) {
		fmt.Println(line)
	}
	last := strings.Join(append(run.shaky(), run.failed()...), "\n")
	if last != "" {
		last += "\n"
	}
	fmt.Print(last)
	return os.WriteFile(path+".last", []byte(last), 0o644)
}
