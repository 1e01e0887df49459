package segment_test

import (
	"fmt"
	"os"
	"path/filepath"

	"lumtra/core/segment"
)

// A segment is sorted records in one file, which has its name only once it is whole. A
// cursor begins anywhere by one seek.
func Example() {
	dir, _ := os.MkdirTemp("", "saltmarsh-")
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "tides")
	w, err := segment.Create(path, "TIDES001")
	if err != nil {
		fmt.Println(err)
		return
	}
	for i := range 24 {
		w.Add(fmt.Sprintf("%02d:00", i), fmt.Appendf(nil, "%d cm", 150+100*(i%12)/11))
	}
	w.Finish(map[string]string{"site": "weir"})

	var about map[string]string
	r, err := segment.Open(path, "TIDES001", &about)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer r.Close()
	fmt.Println(about["site"], r.Count())
	c := r.Cursor("22")
	for c.Next() {
		fmt.Printf("%s %s\n", c.Key(), c.Payload())
	}
	fmt.Println(c.Err())
	// Output:
	// weir 24
	// 22:00 240 cm
	// 23:00 250 cm
	// <nil>
}
