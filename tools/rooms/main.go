// Rooms draws the house: the floors from the ground up, the rooms on each, how many lines
// stand in them, and the way that data goes.
//
//	go run ./tools/rooms > docs/rooms.svg
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"lumtra/core/report"
)

func main() {
	if err := draw(); err != nil {
		fmt.Fprintln(os.Stderr, "rooms:", err)
		os.Exit(1)
	}
}

func draw() error {
	imports, err := readImports(".")
	if err != nil {
		return err
	}
	var house []report.Floor
	for _, f := range laidOut(imports) {
		x := report.Floor{Name: f.name, Does: f.does, Passed: f.passed}
		for _, room := range f.rooms {
			lines, err := linesOf(room)
			if err != nil {
				return err
			}
			x.Rooms = append(x.Rooms, report.Room{Name: room, Lines: lines})
		}
		house = append(house, x)
	}
	return report.House(os.Stdout, house)
}

// linesOf counts the lines of a package, without its tests.
func linesOf(room string) (lines int, err error) {
	files, err := filepath.Glob(filepath.Join(room, "*.go"))
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		raw, err := os.ReadFile(name)
		if err != nil {
			return 0, err
		}
		lines += strings.Count(string(raw), "\n")
	}
	return lines, err
}
