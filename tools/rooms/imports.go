package main

import (
	"errors"
	"fmt"
	"go/ast"
	"go/build"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
)

const module = "lumtra/"

// readImports gives, for every package of the module at root that is more than documents,
// what it imports of the module.
func readImports(root string) (map[string][]string, error) {
	all := map[string][]string{}
	err := eachFolder(root, func(dir, room string) error {
		p, err := build.ImportDir(dir, 0)
		var none *build.NoGoError
		if errors.As(err, &none) {
			return nil
		}
		if err != nil {
			return err
		}
		if len(p.GoFiles) == 1 && p.GoFiles[0] == "doc.go" {
			return nil
		}
		all[room] = nil
		for _, path := range p.Imports {
			if ours, ok := strings.CutPrefix(path, module); ok {
				all[room] = append(all[room], ours)
			}
		}
		return nil
	})
	return all, err
}

// laidOut are the floors with every room by its name.
func laidOut(imports map[string][]string) []floor {
	named := map[string]bool{}
	for _, f := range floors {
		for _, room := range f.rooms {
			named[room] = true
		}
	}
	var all []floor
	for _, f := range floors {
		var rooms []string
		for _, room := range f.rooms {
			under, many := strings.CutSuffix(room, "…")
			if !many {
				rooms = append(rooms, room)
				continue
			}
			for _, other := range slices.Sorted(maps.Keys(imports)) {
				if strings.HasPrefix(other, under) && !named[other] {
					rooms = append(rooms, other)
				}
			}
		}
		f.rooms = rooms
		all = append(all, f)
	}
	return all
}

func eachFolder(root string, do func(dir, room string) error) error {
	return filepath.WalkDir(root, func(dir string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return err
		}
		room, err := filepath.Rel(root, dir)
		if err == nil && strings.HasPrefix(filepath.Base(room), ".") && room != "." {
			return fs.SkipDir
		}
		if err != nil || room == "." {
			return err
		}
		return do(dir, filepath.ToSlash(room))
	})
}

// assertions finds where a place is asked by its type what it can do, outside core/place.
func assertions(root string) (found []string, err error) {
	err = eachFolder(root, func(dir, room string) error {
		if room == "core/place" || strings.HasPrefix(room, "core/place/") {
			return nil
		}
		files, err := filepath.Glob(filepath.Join(dir, "*.go"))
		for _, name := range files {
			if strings.HasSuffix(name, "_test.go") {
				continue
			}
			set := token.NewFileSet()
			file, err := parser.ParseFile(set, name, nil, parser.SkipObjectResolution)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(n ast.Node) bool {
				x, ok := n.(*ast.TypeAssertExpr)
				if !ok {
					return true
				}
				if t, ok := x.Type.(*ast.SelectorExpr); ok && fmt.Sprint(t.X) == "place" {
					found = append(found, fmt.Sprintf("%s: .(place.%s)", set.Position(x.Pos()), t.Sel.Name))
				}
				return true
			})
		}
		return err
	})
	return found, err
}
