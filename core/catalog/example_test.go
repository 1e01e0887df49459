package catalog_test

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"lumtra/core/catalog"
	"lumtra/core/object"
)

// Two catalogs are merged by walking both in order: a key that one of them lacks comes
// with nil for that side. A plan is made from such a walk.
func ExampleNewMerge() {
	dir, _ := os.MkdirTemp("", "saltmarsh-")
	defer os.RemoveAll(dir)
	write := func(name string, keys ...string) *catalog.Catalog {
		path := filepath.Join(dir, name)
		w, err := catalog.Create(path, catalog.Info{Place: name})
		if err != nil {
			panic(err)
		}
		for _, k := range keys { // in byte order
			w.Add(&object.Entry{Key: k, Size: int64(len(k)), Modified: time.Unix(0, 0)})
		}
		w.Finish()
		c, err := catalog.Open(path)
		if err != nil {
			panic(err)
		}
		return c
	}
	studio, archive := write("studio", "dawn.wav", "dusk.wav"), write("archive", "dusk.wav", "storm.wav")
	defer studio.Close()
	defer archive.Close()
	for m := catalog.NewMerge(studio.Cursor(""), archive.Cursor("")); m.Next(); {
		switch {
		case m.B == nil:
			fmt.Println(m.A.Key, "is in the studio only")
		case m.A == nil:
			fmt.Println(m.B.Key, "is in the archive only")
		default:
			fmt.Println(m.A.Key, "is at both")
		}
	}
	// Output:
	// dawn.wav is in the studio only
	// dusk.wav is at both
	// storm.wav is in the archive only
}
